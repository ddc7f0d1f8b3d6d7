import { describe, expect, it } from "vitest";
import { askedByClick, counts, fitted, toBeChosen } from "../../src/bench/offered";
import type { Choice } from "../../src/shared/api";

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

describe("choices", () => {
  const one = (name: string, kind: Choice["kind"], when?: [string, string[]]): Choice => ({
    name, label: name, kind, default: "", options: [], least: 0, most: 0, unit: "", folded: false, help: "", when: when ? { choice: when[0], values: when[1] } : null,
  });
  const of = { choices: [one("what", "options"), one("plane", "options", ["what", ["all"]]), one("of", "anchor", ["plane", ["fixed"]]), one("through", "point", ["plane", ["spot"]]), one("at", "point", ["to", ["spot"]])] };
  it("matter where what they depend on does", () => {
    expect(counts(of, of.choices[2]!, { what: "all", plane: "fixed" })).toBe(true);
    expect(counts(of, of.choices[2]!, { what: "all", plane: "spot" })).toBe(false);
    expect(counts(of, of.choices[2]!, { what: "parts", plane: "fixed" })).toBe(false);
  });
  it("are answered by a click where they matter", () => {
    expect(askedByClick(of, { what: "all", plane: "spot", to: "mirrored" })?.name).toBe("through");
    expect(askedByClick(of, { what: "all", plane: "fixed", to: "mirrored" })?.name).toBe("of");
    expect(askedByClick(of, { what: "all", plane: "fixed", to: "spot" })?.name).toBe("at");
    expect(askedByClick(of, { what: "all", plane: "own", to: "mirrored" })).toBeUndefined();
    expect(askedByClick(undefined, {})).toBeUndefined();
    // What is not chosen yet is asked for; what does not count as the others are made is not.
    expect(toBeChosen(of, { what: "all", plane: "spot", to: "mirrored", through: "" })).toBe(true);
    expect(toBeChosen(of, { what: "all", plane: "spot", to: "mirrored", through: "0 0 1" })).toBe(false);
    expect(toBeChosen(of, { what: "all", plane: "own", to: "mirrored", through: "" })).toBe(false);
    expect(toBeChosen(undefined, {})).toBe(false);
  });
});
