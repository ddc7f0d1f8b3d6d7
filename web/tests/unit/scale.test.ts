import { describe, expect, test } from "vitest";
import { carriedOver, fitted, inSight, panned, rulerStep, scaleOf, zoomed, type Span } from "../../src/bench/timeline/scale";

const take = { first: 0, last: 18_000 };

describe("scale", () => {
  test("goes there and back", () => {
    const scale = scaleOf([120, 480], 900);
    for (const frame of [120, 133.25, 479, 480]) expect(scale.frame(scale.x(frame))).toBeCloseTo(frame, 9);
    expect(scale.x(120)).toBe(10);
    expect(scale.x(480)).toBeCloseTo(890, 9);
  });

  test("numbers on the ruler never touch", () => {
    for (const span of [6, 40, 205, 1200, 18_000, 90_000]) {
      const scale = scaleOf([0, span], 1100);
      expect(scale.x(rulerStep(scale)) - scale.x(0)).toBeGreaterThanOrEqual(46);
    }
  });
});

describe("the span that is shown", () => {
  test("goes along where frames come or go", () => {
    const [before, longer, shorter] = [{ first: 0, last: 192 }, { first: -24, last: 192 }, { first: 0, last: 100 }];
    expect(carriedOver([0, 192], before, longer)).toEqual([-24, 192]);
    expect(carriedOver([0, 192], before, shorter)).toEqual([0, 100]);
    expect(carriedOver([40, 80], before, longer)).toEqual([40, 80]);
    expect(carriedOver([60, 150], before, shorter)).toEqual([60, 100]);
    expect(carriedOver([120, 150], before, shorter)).toEqual([0, 100]);
  });

  test("stays within the take when it is moved, and keeps its length", () => {
    for (const by of [-1e6, -30, 0, 30, 1e6]) {
      const [a, b] = panned([600, 1800], by, take);
      expect(b - a).toBe(1200);
      expect(a).toBeGreaterThanOrEqual(0);
      expect(b).toBeLessThanOrEqual(18_000);
    }
  });

  test("keeps what is under the pointer there when it is zoomed, down to six frames", () => {
    const [a, b] = zoomed([600, 1800], 900, 0.5, take);
    expect((900 - a) / (b - a)).toBeCloseTo(300 / 1200, 12);
    let span: Span = [600, 1800];
    for (let k = 0; k < 40; k++) span = zoomed(span, 900, 0.5, take);
    expect(span[1] - span[0]).toBeGreaterThanOrEqual(6);
    expect(zoomed([600, 1800], 900, 100, take)).toEqual([0, 18_000]);
  });

  test("turns on like a page when the frame leaves it, in both directions", () => {
    const shown: Span = [0, 1200];
    expect(inSight(shown, 700, take)).toBe(shown);
    for (const frame of [1201, 9000, 18_000]) {
      const [a, b] = inSight(shown, frame, take);
      expect(frame).toBeGreaterThanOrEqual(a);
      expect(frame).toBeLessThanOrEqual(b);
      expect(b - a).toBe(1200);
    }
    const back = inSight([9000, 10_200], 3, take);
    expect(back).toEqual([0, 1200]);
  });

  test("fits a stretch with air about it, a short one too, and never leaves the take", () => {
    expect(fitted(100, 200, take)).toEqual([94, 206]);
    for (const [first, last] of [[0, 0], [18_000, 18_000], [5, 6]] as const) {
      const [a, b] = fitted(first, last, take);
      expect(b - a).toBeGreaterThanOrEqual(4);
      expect(a).toBeLessThanOrEqual(first);
      expect(b).toBeGreaterThanOrEqual(last);
      expect(a).toBeGreaterThanOrEqual(0);
      expect(b).toBeLessThanOrEqual(18_000);
    }
    expect(fitted(0, 3, { first: 0, last: 3 })).toEqual([0, 3]);
  });
});
