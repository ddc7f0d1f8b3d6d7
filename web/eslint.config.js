import js from "@eslint/js";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["src/generated", "dist"] },
  js.configs.recommended,
  ...ts.configs.strict,
  { plugins: { "react-hooks": hooks }, rules: { "react-hooks/rules-of-hooks": "error", "react-hooks/exhaustive-deps": "error" } },
  {
    rules: {
      // Index access is checked by the compiler; a known index says so with "!".
      "@typescript-eslint/no-non-null-assertion": "off",
    },
  },
);
