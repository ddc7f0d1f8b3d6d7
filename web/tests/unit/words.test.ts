import { expect, test } from "vitest";
import { besideSpike, place, type Rect } from "../../src/bench/timeline/words";

test("words never lie on one another nor outside the row", () => {
  const taken: Rect[] = [{ x0: 300, x1: 330, y0: 0, y1: 12 }];
  const put: Rect[] = [];
  for (let k = 0; k < 40; k++) {
    const spot = place(taken, besideSpike((k * 97) % 400, 60, [2, 16], 12), 0, 400);
    if (spot) put.push(spot);
  }
  expect(put.length).toBeGreaterThan(5);
  put.forEach((a, i) => {
    expect(a.x0).toBeGreaterThanOrEqual(0);
    expect(a.x1).toBeLessThanOrEqual(400);
    for (const b of [...put.slice(i + 1), { x0: 300, x1: 330, y0: 0, y1: 12 }]) expect(a.x1 <= b.x0 || a.x0 >= b.x1 || a.y1 <= b.y0 || a.y0 >= b.y1).toBe(true);
  });
});

test("a spike at the right end has its words on its left", () => {
  const spot = place([], besideSpike(395, 60, [2], 12), 0, 400);
  expect(spot!.x1).toBeLessThan(395);
});
