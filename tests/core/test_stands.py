"""Standing ends and their slip against an independent computation."""

from __future__ import annotations

import unittest
from dataclasses import replace
from fractions import Fraction

import numpy as np

from yielding_tether.core.curves import FREE, LINEAR, SMOOTH, Key, curve
from yielding_tether.core.program import Program
from yielding_tether.core.stands import find_stands
from yielding_tether.core.takes import Take
from yielding_tether.core.transforms import inverse, multiply, rotate

from .test_findings import clean
from .test_handover import demo
from .worlds import limb_member, scene, stepped


class Stands(unittest.TestCase):
    def test_feet_stand_on_the_rocking_deck_without_slip(self) -> None:
        found = [s for s in find_stands(clean(0)) if s.part == "leg.L"]
        # The left foot stands, steps into the throw, and stands again.
        self.assertEqual(len(found), 2)
        self.assertLessEqual(found[0].last, 62)
        self.assertGreaterEqual(found[1].first, 70)
        for stand in found:
            self.assertEqual(stand.anchor, "Deck")
            self.assertLess(stand.slip.max(), 5e-3)

    def test_slip_is_what_the_poses_say(self) -> None:
        program = demo()
        frames = program.take.frames
        poses = program.evaluate(frames)
        for stand in find_stands(program):
            anchor = {"Deck": ("deck", "deck"), "Rail": ("rail", "rail")}[stand.anchor]
            base, end = program.nodes[anchor], program.nodes[stand.member, stand.joint]
            rows = [int(f - frames[0]) for f in range(stand.first, stand.last + 1)]
            # The end seen from its anchor, then carried to each frame by the change of the anchor since the first.
            first = rows[0]
            for k, row in enumerate(rows):
                turn = multiply(poses.rot[row, base], inverse(poses.rot[first, base]))
                carried = poses.pos[row, base] + rotate(turn, poses.pos[first, end] - poses.pos[first, base])
                np.testing.assert_allclose(stand.should[k], carried, atol=1e-9)
                self.assertAlmostEqual(
                    float(stand.slip[k]), float(np.linalg.norm(poses.pos[row, end] - carried)), places=9
                )

    def test_what_a_hand_follows_most_is_what_it_stands_on(self) -> None:
        program = demo()
        found = {(s.part, s.anchor) for s in find_stands(program)}
        self.assertLessEqual({("arm.L", "Rail"), ("arm.R", "Rail"), ("leg.L", "Deck")}, found)
        # A follow of another control of the body is none of this one's.
        others = [t for t in program.take.tethers if t.control != "arm.L.ik"]
        fewer = program.on(replace(program.take, tethers=tuple(others), curves={
            n: c for n, c in program.take.curves.items() if not n.startswith("marl/arm.L.ik.rail")
        }))  # fmt: skip
        self.assertNotIn(("arm.L", "Rail"), {(s.part, s.anchor) for s in find_stands(fewer)})

    def test_a_planted_slide_is_measured(self) -> None:
        rng = np.random.default_rng(3)
        member = limb_member(rng)
        slide = 0.03
        keys = [
            Key(0.0, 0.1, 0.1, kind=LINEAR, rule=FREE), Key(10.0, 0.1, 0.1, kind=SMOOTH, rule=FREE),
            Key(40.0, 0.1 + slide, 0.1 + slide, kind=SMOOTH, rule=FREE),
        ]  # fmt: skip
        take = Take("slide", Fraction(24), 0, 40, {
            "arm/limb.ik.tx": curve(keys), "arm/limb.drive": stepped((0, 1.0)),
        })  # fmt: skip
        (stand,) = find_stands(Program(scene(member), take))
        self.assertEqual((stand.first, stand.last, stand.anchor), (0, 40, "the world"))
        self.assertAlmostEqual(float(stand.slip.max()), slide, delta=1e-3 * slide + 1e-6)
        fast = Take("fast", Fraction(24), 0, 10, {
            "arm/limb.drive": stepped((0, 1.0)),
            "arm/limb.ik.tx": curve([Key(0.0, -0.04, -0.04, kind=LINEAR), Key(10.0, 0.04, 0.04, kind=LINEAR)]),
        })  # fmt: skip
        self.assertEqual(find_stands(Program(scene(member), fast)), [])
