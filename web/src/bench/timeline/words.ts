/** Places for words on a row, so that none lies on another. */
export interface Rect {
  x0: number;
  x1: number;
  y0: number;
  y1: number;
}

const apart = (a: Rect, b: Rect) => a.x1 <= b.x0 || a.x0 >= b.x1 || a.y1 <= b.y0 || a.y0 >= b.y1;

/** The first of some places that is free and lies within `left` and `right`; null where none is. It is then taken. */
export function place(taken: Rect[], tried: Rect[], left: number, right: number): Rect | null {
  const found = tried.find((r) => r.x0 >= left && r.x1 <= right && taken.every((t) => apart(t, r))) ?? null;
  if (found) taken.push(found);
  return found;
}

/** Where a spike's words may stand: right of it high up, lower, then left of it. `top` and `foot`: the lanes' heights. */
export function besideSpike(x: number, width: number, lanes: number[], height: number): Rect[] {
  const gap = 7;
  const right = lanes.map((y) => ({ x0: x + gap, x1: x + gap + width, y0: y, y1: y + height }));
  const left = lanes.map((y) => ({ x0: x - gap - width, x1: x - gap, y0: y, y1: y + height }));
  // Further right, beyond what may stand at the spike.
  const far = [40, 90, 150].flatMap((more) => lanes.map((y) => ({ x0: x + gap + more, x1: x + gap + more + width, y0: y, y1: y + height })));
  return [...right, ...left, ...far];
}
