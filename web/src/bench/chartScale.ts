import type { Chart } from "../shared/api";

type Point = readonly [number, number];

/** Where the figures of a chart are drawn, and which of them lies where. */
export function chartScale(of: Pick<Chart, "lines" | "wide">, width: number, height: number) {
  const xs = of.lines.flatMap((l) => l.points.map((p) => p[0])).filter((x) => !of.wide || x > 0);
  const ys = of.lines.flatMap((l) => l.points.map((p) => p[1]));
  const [left, right] = [Math.min(...xs), Math.max(...xs)];
  const [low, high] = [Math.min(...ys), Math.max(...ys)];
  const to = (x: number) => (of.wide ? Math.log(Math.max(x, left)) : x);
  const span = to(right) - to(left) || 1;
  const edge = 10;
  return {
    x: (value: number) => edge + ((to(Math.min(Math.max(value, left), right)) - to(left)) / span) * (width - 2 * edge),
    y: (value: number) => height - 4 - ((value - low) / (high - low || 1)) * (height - 22),
    ys: [low, high] as const,
    ticks: of.wide ? xs.filter((x, k) => xs.indexOf(x) === k) : steps(left, right),
    /** What lies under a pointer. */
    value: (at: { clientX: number }, within: Element) => {
      const box = within.getBoundingClientRect();
      const share = Math.min(1, Math.max(0, (((at.clientX - box.left) / box.width) * width - edge) / (width - 2 * edge)));
      const found = to(left) + share * span;
      return of.wide ? Math.exp(found) : found;
    },
    /** A line's height at a place, between its points straight. */
    at: (points: readonly Point[], x: number) => {
      const k = points.findIndex((p) => p[0] >= x);
      if (k <= 0) return points[k < 0 ? points.length - 1 : 0]![1];
      const [a, b] = [points[k - 1]!, points[k]!];
      return a[1] + ((to(x) - to(a[0])) / (to(b[0]) - to(a[0]) || 1)) * (b[1] - a[1]);
    },
  };
}

/** Three to six round numbers between two. */
function steps(low: number, high: number): number[] {
  const rough = (high - low || 1) / 4;
  const ten = 10 ** Math.floor(Math.log10(rough));
  const step = [1, 2, 5, 10].map((m) => m * ten).find((s) => s >= rough)!;
  const first = Math.ceil(low / step);
  return Array.from({ length: Math.floor(high / step) - first + 1 }, (_, k) => (first + k) * step);
}

/** A figure as short as it can be read. */
export const read = (value: number) => (Math.abs(value) >= 100 ? String(Math.round(value)) : String(Number(value.toPrecision(2))));

/** What was picked, in two figures. */
export const picked = (value: number) => Number(value.toPrecision(2));
