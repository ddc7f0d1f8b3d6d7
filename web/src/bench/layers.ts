import type { LayerInfo } from "../shared/api";

/** Does something to a layer, at a frame. */
export type Doing = (what: string, which?: string, more?: Record<string, string | number>, frame?: number) => Promise<unknown>;

/** Patterns that tell layers apart beside their hue, in the order of the take. */
export const PATTERNS = [
  "repeating-linear-gradient(45deg, currentColor 0 2px, transparent 2px 5px)",
  "repeating-linear-gradient(-45deg, currentColor 0 2px, transparent 2px 5px)",
  "repeating-linear-gradient(90deg, currentColor 0 2px, transparent 2px 5px)",
  "repeating-linear-gradient(0deg, currentColor 0 2px, transparent 2px 5px)",
  "radial-gradient(circle at 3px 3px, currentColor 1.6px, transparent 2px) 0 0 / 6px 6px",
];

/** Turns of the hue between one layer and the next, so that few are far apart. */
const TURN = 137.5;

/** Dashes of lines that tell them apart. */
const DASHES = [[7, 2], [2, 2], [9, 3, 2, 3], [4, 4], [1, 2]];

/** How a layer looks, by its id: stays when others come and go. */
export function looksOf(id: string): { color: string; background: string; dash: number[] } {
  const n = Number(/\d+$/.exec(id)?.[0] ?? 0);
  return { color: `hsl(${(n * TURN) % 360} 45% 42%)`, background: PATTERNS[n % PATTERNS.length]!, dash: DASHES[n % DASHES.length]! };
}

/** The weight of a layer at a frame: eased from key to key, as the service samples smooth keys without slopes. */
export function weightAt(layer: Pick<LayerInfo, "weights">, frame: number): number {
  const keys = layer.weights;
  const after = keys.findIndex(([t]) => t > frame);
  if (!keys.length) return 1;
  if (after === 0) return keys[0]![1];
  const [a, v] = keys[(after < 0 ? keys.length : after) - 1]!;
  if (after < 0) return v;
  const [b, w] = keys[after]!;
  const x = (frame - a) / (b - a);
  return v + (w - v) * x * x * (3 - 2 * x);
}
