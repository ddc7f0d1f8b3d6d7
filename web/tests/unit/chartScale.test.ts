import { describe, expect, it } from "vitest";
import { chartScale, picked, read } from "../../src/bench/chartScale";

const keys = { wide: true, lines: [{ label: "keys", points: [[0.25, 800], [0.5, 500], [1, 300], [2, 200], [4, 160]] as [number, number][] }] };
const box = { getBoundingClientRect: () => ({ left: 100, width: 544 }) } as unknown as Element;

describe("the scale of a chart", () => {
  it("goes by ratios where they count, and finds again what it has drawn", () => {
    const scale = chartScale(keys, 272, 96);
    const places = keys.lines[0]!.points.map(([x]) => scale.x(x));
    const gaps = places.slice(1).map((x, k) => x - places[k]!);
    gaps.forEach((g) => expect(g).toBeCloseTo(gaps[0]!, 9));
    for (const [x, y] of keys.lines[0]!.points) {
      // The picture may be drawn larger than its own units.
      expect(scale.value({ clientX: 100 + 2 * scale.x(x) }, box)).toBeCloseTo(x, 9);
      expect(scale.at(keys.lines[0]!.points, x)).toBeCloseTo(y, 9);
    }
    expect(scale.y(160)).toBeGreaterThan(scale.y(800));
    expect(scale.ticks).toEqual([0.25, 0.5, 1, 2, 4]);
  });
  it("takes what is beyond its ends to them", () => {
    const scale = chartScale({ wide: false, lines: [{ label: "a", points: [[0, -80], [30, 0]] }] }, 272, 96);
    expect(scale.value({ clientX: -500 }, box)).toBe(0);
    expect(scale.value({ clientX: 5000 }, box)).toBe(30);
    expect(scale.at([[0, -80], [30, 0]], 15)).toBe(-40);
    expect(scale.at([[0, -80], [30, 0]], 99)).toBe(0);
    expect(scale.ticks).toEqual([0, 10, 20, 30]);
  });
  it("reads in two figures", () => {
    expect(picked(1.2345)).toBe(1.2);
    expect([read(0.123), read(12.34), read(1234.5), read(-0)]).toEqual(["0.12", "12", "1235", "0"]);
  });
});
