"""Hands that close on things: fingers on the surface, none in it, by another measure than that of the code."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from yielding_tether.core.cast import Shape
from yielding_tether.core.contacts import measure_all
from yielding_tether.core.curves import Curve
from yielding_tether.core.errors import CoreError
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.operations.pose import Drag
from yielding_tether.core.operations.pose import apply as pose
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Take
from yielding_tether.core.transforms import Floats, inverse, multiply, rotate, rotation_distance
from yielding_tether.demo.cast_off import cast_off
from yielding_tether.demo.ladder import climbing
from yielding_tether.demo.lantern_round import lantern_round

RIGHT = ("marl", "fingers.R")
FINGERS = ("thumb", "finger1", "finger2", "finger3")


def from_shape(shape: Shape, at: Floats) -> Floats:
    """(N,) distance of places (N, 3) in a shape's joint from a ring or a capsule."""
    if shape.form == "ring":
        axis = np.array(shape.b) / np.linalg.norm(shape.b)
        flat = (at - shape.a) - np.outer((at - shape.a) @ axis, axis)
        middle = np.array(shape.a) + shape.size[0] * flat / np.linalg.norm(flat, axis=1, keepdims=True)
        found: Floats = np.linalg.norm(at - middle, axis=1) - shape.size[-1]
        return found
    if shape.size[0] == shape.size[-1]:
        # Of one thickness: beside its middle line, or past one of its ends.
        span = np.array(shape.b) - np.array(shape.a)
        length = np.linalg.norm(span)
        along = np.clip((at - shape.a) @ (span / length), 0.0, length)
        return np.asarray(np.linalg.norm(at - shape.a - np.outer(along, span / length), axis=1) - shape.size[0])
    line = np.linspace(np.array(shape.a), np.array(shape.b), 601)
    radius = np.linspace(shape.size[0], shape.size[-1], 601)
    return np.array([float((np.linalg.norm(line - p, axis=1) - radius).min()) for p in at])


def gaps(program: Program, on: str, frame: float, letter: str = "R") -> dict[str, float]:
    """How far each finger is from the rings and bars of a member, bones taken at 61 places."""
    found = {}
    member, shapes = program.scene.member(on), program.scene.member("marl").shapes
    poses = program.evaluate([frame])
    for finger in FINGERS:
        bones = [
            s for s in shapes if s.form == "capsule" and s.joint.startswith(finger) and s.joint.endswith(f".{letter}")
        ]
        nearest = []
        for bone in bones:
            node = program.nodes["marl", bone.joint]
            share = np.linspace(0.0, 1.0, 61)[:, None]
            local = np.array(bone.a) + share * (np.array(bone.b) - np.array(bone.a))
            places = poses.pos[0, node] + rotate(poses.rot[0, node], local)
            radius = (bone.size[0] + share * (bone.size[-1] - bone.size[0]))[:, 0]
            for shape in member.shapes:
                if shape.form not in ("ring", "capsule"):
                    continue
                other = program.nodes[on, shape.joint]
                there = rotate(inverse(poses.rot[0, other]), places - poses.pos[0, other])
                nearest.append(float((from_shape(shape, there) - radius).min()))
        found[finger] = min(nearest)
    return found


class Closing(unittest.TestCase):
    def on_it(self, program: Program, on: str, first: float, last: float | None, letter: str = "R") -> Program:
        outcome = run(program, "grip", Asked((("marl", f"fingers.{letter}"),), first, last, {"on": on}))
        after = program.on(outcome.take)
        for finger, gap in gaps(after, on, first, letter).items():
            with self.subTest(on=on, finger=finger):
                self.assertLess(gap, 2e-3)
                self.assertGreater(gap, -1e-5)
        self.assertEqual(outcome.proof.outside_place.value, 0.0)
        return after

    def test_a_hand_closes_round_a_rail_and_a_ring_and_a_rope(self) -> None:
        # The left hand over the rail by a little, as open as it is at rest.
        scene, take = cast_off()
        mine = next(p for p in scene.member("marl").parts if p.name == "fingers.L").joints
        curves = {n: c for n, c in take.curves.items() if n[5:].rpartition(".")[0] not in mine}
        raised = curves["marl/arm.L.ik.ty"]
        curves["marl/arm.L.ik.ty"] = Curve(raised.numbers + [0.0, 2e-3, 2e-3, 0.0, 0.0], raised.marks)
        program = Program(scene, replace(take, curves=curves))
        self.assertGreater(min(gaps(program, "rail", 125.0, "L").values()), 2e-3)
        after = self.on_it(program, "rail", 125.0, 160.0, "L")
        # It is as it was before and after, moves nothing else, and stays closed meanwhile.
        frames = np.array([0.0, 60.0, 119.0, 166.0, 200.0])
        nodes = [program.nodes["marl", j] for j in mine]
        one, two = program.evaluate(frames), after.evaluate(frames)
        self.assertLess(rotation_distance(one.rot[:, nodes], two.rot[:, nodes]).max(), 1e-9)
        channels = after.bound("marl", "fingers.L").systems["fk"].channels
        bent = np.array([after.now(t, channels) for t in (125.0, 140.5, 160.0)])
        self.assertLess(np.ptp(bent, axis=0).max(), 1e-12)
        scene, take = lantern_round()
        self.on_it(Program(scene, take), "lantern", 20.0, 60.0)
        # The coil of rope put into the palm.
        scene, take = cast_off()
        program = Program(scene, Take("still", take.rate, 0, 10))
        edge, palm = scene.member("rope").grips[0], next(g for g in scene.member("marl").grips if g.joint == "hand.R")
        hand = program.nodes["marl", "hand.R"]
        poses = program.evaluate([0.0])
        in_hand = multiply(poses.rot[0, hand], np.array(palm.rotation))
        out = np.array(palm.position) + rotate(np.array(palm.rotation), np.array([0.0, 0.024, 0.0]))
        turn = multiply(in_hand, inverse(np.array(edge.rotation)))
        place = poses.pos[0, hand] + rotate(poses.rot[0, hand], out) - rotate(turn, np.array(edge.position))
        self.on_it(
            program.on(pose(program, Drag("rope", "rope", "rope", 0.0, tuple(place), tuple(turn)))[0]),
            "rope",
            0.0,
            None,
        )

    def test_a_contact_tells_how_deep_fingers_are_and_how_high_a_hand_hovers(self) -> None:
        """E6 for hands, in a moving rail and on rungs: of bones taken at other places than the code takes them."""
        for made, on in ((cast_off, "rail"), (climbing, "ladder")):
            program = Program(*made())
            hands = [c for c in program.take.contacts if c.joint.startswith("hand")][:2]
            for contact, told in zip(hands, measure_all(program, hands), strict=True):
                for k in {0, len(told.times) // 2, int(np.argmax(told.depth)), int(np.argmax(told.hover))}:
                    off = min(gaps(program, on, float(told.times[k]), contact.joint[-1]).values())
                    with self.subTest(contact=contact.joint, frame=float(told.times[k])):
                        self.assertAlmostEqual(told.depth[k] - told.hover[k], -off, delta=2e-4)
                        self.assertEqual(min(told.depth[k], told.hover[k]), 0.0)

    def test_what_cannot_be_is_said(self) -> None:
        scene, take = cast_off()
        program = Program(scene, take)
        for part, first, choices, word in (
            (RIGHT, 20.0, {"on": "quay"}, "No finger of Marl's right hand reaches the quay"),
            (RIGHT, 20.0, {"on": "marl"}, "choose what has a surface"), (RIGHT, 20.0, {"by": "grasp"}, "no value 'grasp'"),
            (RIGHT, 20.0, {"on": "moon"}, "no member moon"),
        ):  # fmt: skip
            with self.subTest(choices=choices), self.assertRaisesRegex(CoreError, word):
                run(program, "grip", Asked((part,), first, None, choices))
        bare = replace(program.scene.member("marl"), parts=tuple(
            replace(p, values=()) if p.values else p for p in scene.member("marl").parts
        ))  # fmt: skip
        other = Program(replace(scene, members=tuple(bare if m.id == "marl" else m for m in scene.members)), take)
        with self.assertRaisesRegex(CoreError, "record one first"):
            run(other, "grip", Asked((RIGHT,), 125.0, None, {"on": "rail"}))


if __name__ == "__main__":
    unittest.main()
