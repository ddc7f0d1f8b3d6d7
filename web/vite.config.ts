import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

/** Has the bench fetched along with the page that will need it: nearly everyone goes there. */
const benchAhead: Plugin = {
  name: "bench-ahead",
  transformIndexHtml: {
    order: "post",
    handler: (_, { bundle }) => {
      const chunks = Object.values(bundle ?? {}).filter((c) => c.type === "chunk");
      const bench = chunks.find((c) => c.name === "Bench");
      const wanted = bench ? [bench.fileName, ...bench.imports] : [];
      return wanted.map((file) => ({ tag: "link", attrs: { rel: "modulepreload", crossorigin: true, href: `/${file}` }, injectTo: "head" as const }));
    },
  },
};

export default defineConfig({
  plugins: [react({ compiler: true }), benchAhead],
  build: { chunkSizeWarningLimit: 2500 },
  server: { proxy: { "/api": { target: "http://127.0.0.1:8400", ws: true } } },
});
