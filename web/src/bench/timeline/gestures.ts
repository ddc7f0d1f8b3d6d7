import { same, type Stretch } from "../state";
import { partsOf, rowAt, type Row } from "./rows";
import type { Scale } from "./scale";

interface Take {
  first: number;
  last: number;
}

/** A place on the rows: a whole frame of the take, and a row. */
export interface Spot {
  frame: number;
  row: number;
}

/** How far the pointer goes before a press becomes a drag, pixels. */
export const SLACK = 4;
/** How near to the take's first or last frame is at it, pixels: of a long take many frames lie within them. */
const NEAR = 6;

export function spotAt(rows: Row[], scale: Scale, x: number, y: number, take: Take): Spot {
  const end = [take.first, take.last].find((f) => Math.abs(x - scale.x(f)) <= NEAR);
  const frame = Math.min(Math.max(Math.round(scale.frame(x)), take.first), take.last);
  return { frame: end ?? frame, row: rowAt(rows, y) };
}

/** The stretch between two places: their frames, and the parts of their rows and of those between them. */
export function stretchOf(rows: Row[], a: Spot, b: Spot): Stretch {
  const [low, high] = [Math.min(a.row, b.row), Math.max(a.row, b.row)];
  return { parts: partsOf(rows.slice(low, high + 1)), first: Math.min(a.frame, b.frame), last: Math.max(a.frame, b.frame) };
}

/** A stretch that more parts join, over the frames of both; where all of them are in it already, they leave it. */
export function joined(held: Stretch | null, more: Stretch): Stretch {
  if (!held) return more;
  const others = held.parts.filter((p) => !more.parts.some((q) => same(p, q)));
  const all = held.parts.length - others.length === more.parts.length;
  if (all && others.length) return { ...held, parts: others };
  return { parts: [...others, ...more.parts], first: Math.min(held.first, more.first), last: Math.max(held.last, more.last) };
}
