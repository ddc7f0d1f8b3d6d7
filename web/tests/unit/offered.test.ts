import { describe, expect, it } from "vitest";
import { fitted } from "../../src/bench/offered";

const all = ["Hand over", "Crossfade", "Keys", "Follow", "Bake", "Named value"].map((label) => ({ id: label.toLowerCase(), label }));

describe("operations side by side", () => {
  it("are all there where there is room", () => {
    expect(fitted(all, "bake", 1000)).toEqual({ beside: all, more: [] });
  });
  it("keep their order, and the chosen one is always among them", () => {
    for (const room of [60, 150, 250, 350, 450]) {
      for (const chosen of all) {
        const { beside, more } = fitted(all, chosen.id, room);
        expect(beside).toContain(chosen);
        expect([...beside, ...more].sort((a, b) => all.indexOf(a) - all.indexOf(b))).toEqual(all);
        expect(beside).toEqual(all.filter((o) => beside.includes(o)));
      }
    }
    expect(fitted(all, "", 330).more.length).toBeLessThan(fitted(all, "", 200).more.length);
  });
});
