import { describe, expect, it } from "vitest";
import { drawPlanks, triedPlanks } from "../../src/bench/timeline/planks";
import type { Row } from "../../src/bench/timeline/rows";
import type { Scale } from "../../src/bench/timeline/scale";
import type { Plank, Strand } from "../../src/shared/api";
import type { Ink } from "../../src/shared/theme";

const plank = (first: number, last: number) => ({ id: `p${first}`, first, last, anchor: "deck", points: [], slip: 0, depth: 0 }) as unknown as Plank;
const strand = (...contacts: Plank[]) => ({ contacts }) as unknown as Strand;
const scale = { x: (frame: number) => 10 * frame } as unknown as Scale;

/** What is drawn: from, how long, how opaque, whether dashed. */
function drawn(there: Strand, tried: Plank[] | null) {
  const found: [number, number, number, boolean][] = [];
  let dash: number[] = [];
  const g = {
    globalAlpha: 1, canvas: { width: 5000 }, beginPath() {}, fill() {}, stroke() {}, arc() {}, fillText() {}, rect() {},
    measureText: () => ({ width: 10 }), setLineDash: (d: number[]) => (dash = d),
    roundRect(x: number, _: number, w: number) { found.push([x, w, this.globalAlpha, dash.length > 0]); },
  };
  drawPlanks(g as unknown as CanvasRenderingContext2D, { y: 0, height: 40, strand: there } as unknown as Row, scale, {} as Ink, null, null, tried);
  return found;
}

describe("planks", () => {
  it("are drawn as they are where nothing is tried, or nothing becomes of them", () => {
    const there = strand(plank(5, 20));
    expect(triedPlanks(undefined, there)).toBeNull();
    expect(triedPlanks(strand(plank(5, 20)), there)).toBeNull();
    expect(drawn(there, null)).toEqual([[50, 150, 1, false]]);
  });
  it("are drawn as they would be over those that are", () => {
    const there = strand(plank(5, 20));
    const tried = triedPlanks(strand(plank(5, 18), plank(30, 44)), there);
    expect(drawn(there, tried)).toEqual([[50, 150, 0.3, false], [50, 130, 1, true], [300, 140, 1, true]]);
    expect(drawn(there, triedPlanks(strand(), there))).toEqual([[50, 150, 0.3, false]]);
  });
});
