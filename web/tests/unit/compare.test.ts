import { expect, test } from "vitest";
import { farthest, framingAt } from "../../src/compare/drawDifference";
import type { Compared } from "../../src/shared/api";

const part = (member: string, place: number[]) => ({ member, part: "any", label: "any", place });
const data = { frames: [10, 11, 12], place: [0, 0.5, 0.1], turn: [0, 0, 1], parts: [part("rope", [0, 0.5, 0]), part("marl", [0, 0.06, 0.1]), part("rope", [0, 0.2, 0])] } as unknown as Compared;

test("the camera is to show who differs at a frame, each once", () => {
  expect(farthest(data)).toBe(11);
  expect(framingAt(data, 11)).toEqual({ what: "body", more: ["rope"] });
  expect(framingAt(data, 12).more).toEqual(["marl"]);
  expect(framingAt(data, 10).more).toEqual([]);
});
