/** Frames across a width, in both directions. */
export interface Scale {
  x: (frame: number) => number;
  frame: (x: number) => number;
}

/** First and last frame that are shown. */
export type Span = [number, number];

interface Take {
  first: number;
  last: number;
}

/** Room left and right of the first and the last frame shown, pixels. */
export const PAD = 10;
/** Fewest frames across. */
const LEAST = 6;

export function scaleOf(shown: Span, width: number): Scale {
  const span = Math.max(shown[1] - shown[0], 1);
  const unit = (width - 2 * PAD) / span;
  return { x: (f) => PAD + (f - shown[0]) * unit, frame: (x) => shown[0] + (x - PAD) / unit };
}

/** The span moved by some frames, within the take. */
export function panned(shown: Span, by: number, take: Take): Span {
  const d = Math.min(Math.max(by, take.first - shown[0]), Math.max(take.last - shown[1], 0));
  return [shown[0] + d, shown[1] + d];
}

/** The span made `k` times as long about a frame, within the take. */
export function zoomed(shown: Span, about: number, k: number, take: Take): Span {
  const next: Span = [about + (shown[0] - about) * k, about + (shown[1] - about) * k];
  if (next[1] - next[0] < LEAST) return shown;
  return [Math.max(take.first, next[0]), Math.min(take.last, next[1])];
}

/** The span that a stretch fills, with a little air, within the take. */
export function fitted(first: number, last: number, take: Take): Span {
  const air = Math.max(2, 0.06 * (last - first));
  const [a, b] = [Math.max(take.first, first - air), Math.min(take.last, last + air)];
  if (b - a >= LEAST) return [a, b];
  const low = Math.max(take.first, Math.min((a + b) / 2 - LEAST / 2, take.last - LEAST));
  return [low, Math.min(take.last, low + LEAST)];
}

/** The span in a take that has become longer or shorter: all of it where all was shown, else as far as it goes. */
export function carriedOver(shown: Span, before: Take, now: Take): Span {
  const [a, b] = [shown[0] <= before.first ? now.first : Math.max(shown[0], now.first), shown[1] >= before.last ? now.last : Math.min(shown[1], now.last)];
  return b - a >= LEAST ? [a, b] : [now.first, now.last];
}

/** The span that shows a frame: the same one while the frame is in it, else turned on like a page. */
export function inSight(shown: Span, frame: number, take: Take): Span {
  if (frame >= shown[0] && frame <= shown[1]) return shown;
  const length = shown[1] - shown[0];
  const start = frame > shown[1] ? frame - 0.08 * length : frame - 0.92 * length;
  const first = Math.min(Math.max(start, take.first), Math.max(take.last - length, take.first));
  return [first, Math.min(first + length, take.last)];
}

/** Frames between two numbers on the ruler, so that they stand `apart` pixels or more. */
export function rulerStep(scale: Scale, apart = 46): number {
  const unit = scale.x(1) - scale.x(0);
  return [1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000].find((n) => n * unit >= apart) ?? 10000;
}
