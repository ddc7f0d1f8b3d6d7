import { expect, test } from "vitest";
import type { TakeInfo } from "../../src/shared/api";
import { holdsAt } from "../../src/bench/holds";
import { strand } from "./take";

const follow = (anchor: string, system: string, first: number, last: number, control = "") => ({ anchor, control, turns: control !== "", says: "", system, first, last, weight: 1, shares: [[first, 0, 1] as [number, number, number]] });
const systems = [{ name: "fk", label: "FK", keyed: true }, { name: "ik", label: "IK", keyed: true }];
const info = {
  members: [{ id: "marl", name: "Marl" }, { id: "lantern", name: "Lantern" }, { id: "rail", name: "Rail" }] as unknown as TakeInfo["members"],
  strands: [
    strand("lantern", "lantern", "props", { states: [[0, "place"]], follows: [follow("Marl's right hand", "place", 0, 40), follow("the hook", "place", 41, 90)] }),
    strand("marl", "arm", "marl/", { systems, states: [[0, "fk"], [30, "ik"], [60, "both"], [70, "fk"]], follows: [follow("rail", "ik", 0, 90), follow("the world", "fk", 65, 90, "upper arm")] }),
    strand("marl", "head", "marl/"),
  ],
};
const at = (frame: number) => holdsAt(info, frame).map((m) => `${m.name}: ${m.holds.map((h) => `${h.label} ${h.turns ? "turns with" : "on"} ${h.anchor}`).join(", ")}`);

test("who holds on to what is read at the frame, by what drives there, in the order of the cast", () => {
  expect(at(10)).toEqual(["Lantern: lantern on Marl's right hand"]);
  expect(at(41)).toEqual(["Marl: arm on rail", "Lantern: lantern on the hook"]);
  expect(at(66)).toEqual(["Marl: arm on rail, upper arm turns with the world", "Lantern: lantern on the hook"]);
  expect(at(80)).toEqual(["Marl: upper arm turns with the world", "Lantern: lantern on the hook"]);
  expect(at(95)).toEqual(["Marl: upper arm turns with the world"].slice(1));
});
