import { describe, expect, test } from "vitest";
import { Pace } from "../../src/bench/pace";

const REFRESH = 1000 / 60;

/** Times at which pictures come on a screen that each keeps busy for so long (ms), over so many seconds. */
function played(pace: Pace, cost: (n: number) => number, seconds: number): number[] {
  const times: number[] = [];
  let now = 0;
  while (now < 1000 * seconds) {
    let busy = REFRESH;
    if (pace.asks(now)) {
      pace.draws(now);
      busy = Math.max(REFRESH, cost(times.length));
      times.push(now);
    }
    now = Math.ceil((now + busy) / REFRESH - 1e-6) * REFRESH;
  }
  return times;
}

const gaps = (times: number[]) => times.slice(1).map((t, n) => t - times[n]!);
const median = (values: number[]) => [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)]!;

describe("the pace of playing", () => {
  test("is the screen's own where pictures cost little", () => {
    const pace = new Pace();
    expect(gaps(played(pace, () => 9, 3)).every((g) => g < REFRESH + 1e-6)).toBe(true);
    expect(pace.every).toBe(1);
  });

  test("is even where they cost more than that, and unevenly", () => {
    const pace = new Pace();
    const found = gaps(played(pace, (n) => 40 + ((n * 37) % 50), 10));
    expect(found.filter((g) => g <= 1.5 * median(found)).length).toBeGreaterThan(0.95 * found.length);
    expect(found.slice(20).every((g) => g <= 1.5 * median(found))).toBe(true);
  });

  test("narrows again when they cost less", () => {
    const pace = new Pace(12);
    played(pace, () => 20, 60);
    expect(pace.every).toBeLessThanOrEqual(3);
  });

  test("one that stutters once stays as it is", () => {
    const pace = new Pace(3);
    played(pace, (n) => (n === 30 ? 400 : 45), 5);
    expect(pace.every).toBe(3);
  });
});
