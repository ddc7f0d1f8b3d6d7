import { describe, expect, test } from "vitest";
import { joined, spotAt, stretchOf } from "../../src/bench/timeline/gestures";
import { heightOfAll, keyOf, layout, NO_CHOICES, rowAt } from "../../src/bench/timeline/rows";
import { scaleOf } from "../../src/bench/timeline/scale";
import { cast } from "./take";

const labels = (rows: ReturnType<typeof layout>) => rows.map((r) => r.label);

describe("rows", () => {
  test("limbs come first and hold what hangs at them; the body lies open; set pieces are folded", () => {
    const rows = layout(cast("Marl"), NO_CHOICES);
    expect(labels(rows)).toEqual(["left arm", "right arm", "hips", "spine", "head", "lantern", "set"]);
    expect(rows[0]!.under.map((s) => s.part)).toEqual(["left shoulder", "left fingers"]);
    expect(rows.at(-1)!.strand).toBeNull();
  });

  test("lie one under the other without a gap", () => {
    const rows = layout(cast("Marl", "Pip"), NO_CHOICES);
    rows.forEach((r, k) => expect(r.y).toBe(k ? rows[k - 1]!.y + rows[k - 1]!.height : 0));
    expect(heightOfAll(rows)).toBe(rows.at(-1)!.y + rows.at(-1)!.height);
    for (const r of rows) expect(rowAt(rows, r.y + r.height / 2)).toBe(rows.indexOf(r));
    expect(rowAt(rows, 1e6)).toBe(rows.length - 1);
  });

  test("every strand is on a row or folded under one, exactly once, whatever is folded or pinned", () => {
    const take = cast("Marl", "Pip", "Brindle");
    const folds = [...take.groups.map((g) => g.id), "marl:", "pip:"];
    for (let seed = 0; seed < 200; seed++) {
      const pick = (k: number) => ((seed * 2654435761 + k * 40503) >>> 7) % 3 === 0;
      const folded = Object.fromEntries(folds.filter((_, k) => pick(k)).map((f, k) => [f, pick(k + 50)]));
      const pinned = take.strands.filter((_, k) => pick(k + 100)).map(keyOf);
      const rows = layout(take, { folded, pinned, heights: {} }, "", pick(1) ? take.strands[seed % take.strands.length]! : null);
      const there = rows.flatMap((r) => [...(r.strand ? [r.strand] : []), ...r.under]).map(keyOf).sort();
      expect(there).toEqual(take.strands.map(keyOf).sort());
    }
  });

  test("the part in hand is never folded away", () => {
    const take = cast("Marl", "Pip");
    const folded = Object.fromEntries([...take.groups.map((g) => [g.id, true]), ["marl:", true], ["pip:", true]]);
    for (const s of take.strands) {
      const rows = layout(take, { folded, pinned: [], heights: {} }, "", s);
      expect(rows.some((r) => r.strand === s)).toBe(true);
    }
  });

  test("a filter shows all whose words hold it, with their character where there are several", () => {
    const take = cast("Marl", "Pip");
    expect(labels(layout(take, NO_CHOICES, "finger"))).toEqual(["Marl: left fingers", "Marl: right fingers", "Pip: left fingers", "Pip: right fingers"]);
    expect(labels(layout(take, NO_CHOICES, "pip: left"))).toEqual(["Pip: left shoulder", "Pip: left arm", "Pip: left fingers"]);
    expect(layout(take, NO_CHOICES, "tail")).toEqual([]);
  });

  test("pinned rows stand on top, and their heights are what they were dragged to", () => {
    const rows = layout(cast("Marl"), { folded: {}, pinned: ["marl/head"], heights: { "marl/head": 60 } });
    expect([rows[0]!.label, rows[0]!.height, rows[0]!.pinned]).toEqual(["head", 60, true]);
    expect(rows.filter((r) => r.label === "head").length).toBe(1);
  });
});

describe("dragging on rows", () => {
  test("gives the parts of the rows between, of a folded group all it holds, and whole frames within the take", () => {
    const take = { first: 0, last: 100 };
    const rows = layout(cast("Marl"), NO_CHOICES);
    const scale = scaleOf([0, 100], 1020);
    const a = spotAt(rows, scale, scale.x(60.3), rows[1]!.y + 3, take);
    const b = spotAt(rows, scale, scale.x(400), rows[0]!.y + 3, take);
    const found = stretchOf(rows, a, b);
    // A few pixels from where a long take begins or ends many frames lie: it is from there on that is meant.
    const long = { first: 0, last: 900 };
    const tight = scaleOf([0, 900], 600);
    expect([4, 7].map((off) => spotAt(rows, tight, tight.x(0) + off, 0, long).frame)).toEqual([0, 11]);
    expect(spotAt(rows, tight, tight.x(900) - 5, 0, long).frame).toBe(900);
    expect([found.first, found.last]).toEqual([60, 100]);
    expect(found.parts).toEqual([{ member: "marl", part: "left arm" }, { member: "marl", part: "right arm" }]);
    const set = rows.findIndex((r) => r.label === "set");
    expect(stretchOf(rows, { frame: 1, row: set }, { frame: 2, row: set }).parts.map((p) => p.part)).toEqual(["deck", "rail"]);
  });

  test("adds to the stretch in hand what Shift takes with it, and takes it out again", () => {
    const [arm, leg, head] = ["arm", "leg", "head"].map((part) => ({ member: "marl", part }));
    const held = { parts: [arm!], first: 10, last: 40 };
    const both = joined(held, { parts: [head!], first: 30, last: 60 });
    expect(both).toEqual({ parts: [arm, head], first: 10, last: 60 });
    expect(joined(both, { ...both, parts: [arm!] })).toEqual({ parts: [head], first: 10, last: 60 });
    // Some of what is dragged over is in it: the rest joins.
    expect(joined(both, { parts: [leg!, head!], first: 20, last: 50 }).parts).toEqual([arm, leg, head]);
    // What is in it alone stays: a stretch of nothing is none.
    expect(joined(held, held)).toEqual(held);
    expect(joined(null, held)).toBe(held);
  });
});
