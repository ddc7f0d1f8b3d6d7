import { renderToString } from "react-dom/server";
import { expect, it } from "vitest";
import { later } from "../../src/shared/later";

it("puts words in the place of a part that is on its way, and nothing where it is here", async () => {
  const Part = later(() => Promise.resolve({ default: ({ word }: { word: string }) => <b>{word}</b> }), "Laying out…");
  expect(renderToString(<Part word="strands" />)).toContain("Laying out…");
  await Part.come();
  expect(renderToString(<Part word="strands" />)).toBe("<b>strands</b>");
});
