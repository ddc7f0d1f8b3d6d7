"""A spine with two ends: the chest is where its control is, and its turn is shared along it; by joints alone."""

from __future__ import annotations

import unittest
from functools import cache

import numpy as np
from scipy.spatial.transform import Rotation

from tests.depth import DEPTH
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations.handover import Handover, apply
from yielding_tether.core.operations.retether import Retether
from yielding_tether.core.operations.retether import apply as retether
from yielding_tether.core.parts import ChainPart
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Scene, Take
from yielding_tether.core.transforms import multiply, rotation_distance
from yielding_tether.demo.cast_off import cast_off
from yielding_tether.demo.people import SPINE
from yielding_tether.formats import bvh

from .contract import driven
from .test_findings import clean
from .test_retether import Checked
from .worlds import stepped


@cache
def standing() -> Program:
    """Marl at rest, his spine driven by its ends."""
    made, _ = cast_off()
    program = Program(made, Take("rest", 24, 0, 60))
    return driven(program, program.bound("marl", "spine"), "ik")


def turns(program: Program, at: float = 0.0) -> list[Rotation]:
    """How the hips and the joints of the spine are turned from rest."""
    poses, rest = program.evaluate([at]), standing().evaluate([0.0])
    nodes = [program.nodes["marl", n] for n in ("hips", *SPINE)]
    return [Rotation.from_quat(poses.rot[0, n]) * Rotation.from_quat(rest.rot[0, n]).inv() for n in nodes]


class Ends(unittest.TestCase):
    def test_the_chests_turn_along_the_spine_is_shared_evenly(self) -> None:
        program = standing()
        self.assertIsInstance(program.bound("marl", "spine").part, ChainPart)
        bound = program.bound("marl", "spine")
        rest = program.evaluate([0.0])
        chest, low = (rest.pos[0, bound.nodes[k]] for k in (-1, 0))
        aim = (chest - low) / np.linalg.norm(chest - low)
        rot = rest.rot[0, bound.controls["spine.ik"].node]
        for angle in (-1.5, -0.4, 0.3, 1.9):
            turned = multiply(np.append(aim * np.sin(0.5 * angle), np.cos(0.5 * angle)), rot)
            drag = bound.systems["ik"].system.drag(
                bound, program.posed(bound, rest), "spine.ik", chest, turned, dict.fromkeys(bound.own.values(), 0.0)
            )
            after = program.with_curves({program.rig.names[c]: stepped((0, v)) for c, v in drag.items()})
            now = after.evaluate([0.0])
            self.assertLess(np.linalg.norm(now.pos[0, bound.nodes[-1]] - chest), 1e-6)
            self.assertLess(rotation_distance(now.rot[0, bound.nodes[-1]], turned), 1e-6)
            found = [float(np.dot(t.as_rotvec(), aim)) for t in turns(after)]
            # In quarters from the hips to the chest, but for the little that a spine that is bent at rest sways.
            np.testing.assert_allclose(found, [0.0, *(np.arange(1, 5) * angle / 4)], atol=0.03 * abs(angle))

    def test_the_chest_meets_its_control_and_the_hips_swing_alone(self) -> None:
        """Thirty degrees either way, about the hips' own joint: the chest that follows the world stays, to 1e-6, where the spine
        may stretch; all its bones alike. Where it may not, what is out of reach is told."""
        program = standing()
        bound, hips = program.bound("marl", "spine"), program.bound("marl", "hips")
        held = program.on(retether(program, Retether((bound.id,), "world", 0.0, keys="every"))[0])
        # Bent out of the plane of its hinge it reaches less far.
        held = held.with_curves(
            {"marl/spine.ik.carry": stepped((0, 0.4)), "marl/spine.ik.spine.mid.rz": stepped((0, 0.1))}
        )
        was = held.with_curves({"marl/spine.ik.stretch": stepped((0, 1.0))}).evaluate([0.0])
        chest = int(bound.nodes[-1])
        for axis in range(3):
            for angle in np.radians([-30.0, -12.0, 20.0, 30.0]):
                name = program.rig.names[hips.systems["place"].channels[3 + axis]]
                swung = held.with_curves({name: stepped((0, float(angle)))})
                now = swung.with_curves({"marl/spine.ik.stretch": stepped((0, 1.0))}).evaluate([0.0])
                self.assertLess(np.linalg.norm(now.pos[0, chest] - was.pos[0, chest]), 1e-6, (axis, angle))
                self.assertLess(rotation_distance(now.rot[0, chest], was.rot[0, chest]), 1e-6)
                self.assertGreater(rotation_distance(now.rot[0, hips.nodes[0]], was.rot[0, hips.nodes[0]]), 0.2)
                lengths = np.linalg.norm(np.diff(now.pos[0, bound.nodes], axis=0), axis=1)
                longer = lengths / np.linalg.norm(bound.offsets[1:], axis=1)
                self.assertLess(float(np.ptp(longer)), 1e-9)
                self.assertGreaterEqual(float(longer.min()), 1.0 - 1e-12)
                short = swung.evaluate([0.0])
                lengths = np.linalg.norm(np.diff(short.pos[0, bound.nodes], axis=0), axis=1)
                np.testing.assert_allclose(lengths, np.linalg.norm(bound.offsets[1:], axis=1), atol=1e-9)
                off = float(np.linalg.norm(short.pos[0, chest] - short.pos[0, bound.controls["spine.ik"].node]))
                told = {f.part: f.place for f in find_all(swung) if f.kind == "reach"}
                self.assertAlmostEqual(told.get("spine", 0.0), off if off > 1e-4 else 0.0, 6)

    def test_stretched_it_is_delivered_as_it_is(self) -> None:
        program = standing()
        held = program.on(retether(program, Retether((("marl", "spine"),), "world", 0.0, keys="every"))[0])
        name = program.rig.names[program.bound("marl", "hips").systems["place"].channels[4]]
        swung = held.with_curves({name: stepped((0, 0.5)), "marl/spine.ik.stretch": stepped((0, 1.0))})
        read = bvh.read(bvh.write(swung, "marl", 0, 2), "body", "read")
        again = Program(Scene("read", (read.member,)), read.take)
        a, b = (p.evaluate([1.0]).pos[0, p.joints()[1]] for p in (swung, again))
        mine = {n: x for (m, n), x in zip(swung.joints()[0], a, strict=True) if m == "marl"}
        for (_, n), x in zip(again.joints()[0], b, strict=True):
            self.assertLess(np.linalg.norm(x - mine[n]), 1e-4, n)

    def test_turned_all_the_way_round_or_upside_down_it_never_jumps(self) -> None:
        program = standing()
        bound = program.bound("marl", "spine")
        names = [program.rig.names[c] for c in bound.systems["ik"].channels[3:6]]
        for axis in range(3):
            grid = np.linspace(-3.6, 3.6, 2001)
            over = {program.channels[names[axis]]: grid}
            poses = program.evaluate(np.zeros(len(grid)), overrides=over)
            steps = rotation_distance(poses.rot[1:][:, bound.nodes], poses.rot[:-1][:, bound.nodes])
            self.assertLess(float(steps.max()), 6.0 * 7.2 / 2000, axis)


class Changing(Checked):
    def test_handed_over_both_ways_the_motion_goes_on(self) -> None:
        for seed in range(2 * DEPTH):
            rng = np.random.default_rng(seed)
            program = clean(seed % 2)
            bound = program.bound("marl", "spine")
            first = float(rng.integers(20, 60))
            take, proof = apply(program, Handover((bound.id,), "ik", first, first + 60.0, keys="every"))
            after = program.on(take)
            self.check(program, after, bound.id, first, first + 60.0)
            self.assertTrue(proof.unchanged_outside)
            self.assertEqual([f.sentence for f in find_all(after)], [])


if __name__ == "__main__":
    unittest.main()
