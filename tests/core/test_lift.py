"""Lifted swings: as high as said in the middle, nothing where they leave and land, and stances that are the same to the bit."""

from __future__ import annotations

import unittest

import numpy as np

from yielding_tether.core.contacts import measure_all
from yielding_tether.core.errors import CoreError
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.operations.lift import swings
from yielding_tether.core.program import Program
from yielding_tether.demo.brindles_trot import brindles_trot
from yielding_tether.demo.rough_crossing import Kind, crossing

from .test_handover import demo
from .test_nudge import carried

LEGS = (("marl", "leg.L"), ("marl", "leg.R"))
QUARTERS = np.arange(0.0, 204.25, 0.25)


class Lifting(unittest.TestCase):
    def test_the_middle_is_as_high_as_said_and_stances_stay_to_the_bit(self) -> None:
        p = Program(demo().scene, demo().take)
        for up in (4.0, -0.5):
            q = p.on(run(p, "lift", Asked(LEGS, 0.0, None, {"up": up})).take)
            was, now = p.evaluate(QUARTERS), q.evaluate(QUARTERS)
            for part, joint in (("leg.L", "foot.L"), ("leg.R", "foot.R")):
                node = p.nodes["marl", joint]
                found = swings(p, p.bound("marl", part), 0.0, 204.0)
                self.assertEqual(len(found), 1)
                a, b = found[0].first, found[0].last
                # By hand: as high as 3x² - 2x³ on the way up and down.
                x = np.clip(np.minimum(QUARTERS - a, b - QUARTERS) / (0.5 * (b - a)), 0.0, 1.0)
                inside = (a < QUARTERS) & (b > QUARTERS)
                # In the space that the foot follows: the deck rocks meanwhile.
                by = carried(p, p.bound("marl", part), (0.0, 0.01 * up, 0.0), QUARTERS, found[0].middle)
                moved = now.pos[:, node] - was.pos[:, node]
                np.testing.assert_allclose(moved, (x * x * (3.0 - 2.0 * x))[:, None] * by, atol=1e-4)
                self.assertGreater(np.abs(moved[inside]).max(), 0.009 * abs(up))
                np.testing.assert_array_equal(now.pos[~inside][:, node], was.pos[~inside][:, node])
            self.assertLessEqual({f.key for f in find_all(q)}, {f.key for f in find_all(p)})

    def test_wider_is_away_from_the_other_side_and_further_along_the_way(self) -> None:
        p = Program(demo().scene, demo().take)
        left, right = (p.nodes["marl", j] for j in ("foot.L", "foot.R"))
        for part, mine in zip(LEGS, (left, right), strict=True):
            (swing,) = swings(p, p.bound(*part), 0.0, 204.0)
            other = {left: right, right: left}[mine]
            wide, far = (
                p.on(run(p, "lift", Asked((part,), 0.0, None, {"up": 0.0, name: 5.0})).take) for name in ("wide", "far")
            )
            at = np.array([swing.first, swing.middle, swing.last])
            was = p.evaluate(at).pos
            moved = wide.evaluate(at).pos[1, mine] - was[1, mine]
            self.assertAlmostEqual(float(np.linalg.norm(moved)), 0.05, delta=1e-4)
            away = (was[1, mine] - was[1, other]) * [1.0, 0.0, 1.0]
            self.assertGreater(float(moved @ away), 0.0)
            moved = far.evaluate(at).pos[1, mine] - was[1, mine]
            way = (was[2, mine] - was[0, mine]) * [1.0, 0.0, 1.0]
            if np.linalg.norm(way) > 1e-3:
                np.testing.assert_allclose(moved, 0.05 * way / np.linalg.norm(way), atol=1e-4)

    def test_many_steps_of_any_body_whatever_drives_them(self) -> None:
        """A goat's keyed hooves, and a captured walk on a rocking deck, on a layer too; no stance slips more than before."""
        walk = crossing(Kind(rate=30, noise=0.001, seed=5))
        taken = Program(walk.scene, walk.take)
        taken = taken.on(run(taken, "contacts", Asked(LEGS, 0.0, None)).take)
        goat = Program(*brindles_trot())
        hooves = tuple(b.id for b in goat.bounds.values() if b.part.touches and "leg" in b.part.name)
        for p, parts in ((goat, hooves), (taken, LEGS)):
            done = run(p, "lift", Asked(parts, 0.0, None, {"up": 2.0}))
            q = p.on(done.take)
            count = 0
            for part in parts:
                bound = p.bound(*part)
                for swing in swings(p, bound, p.take.first, p.take.last):
                    count += 1
                    at = np.array([swing.first, swing.middle, swing.last])
                    end = next(c for c in bound.described if c.touches).rests_on
                    node = p.nodes[part[0], end]
                    moved = q.evaluate(at).pos[:, node] - p.evaluate(at).pos[:, node]
                    np.testing.assert_allclose(moved, [[0, 0, 0], [0, 0.02, 0], [0, 0, 0]], atol=1e-4)
            self.assertGreater(count, 2)
            for one, two in zip(measure_all(p, p.take.contacts), measure_all(q, p.take.contacts), strict=True):
                self.assertLessEqual(float(two.place.max()), float(one.place.max()) + 1e-9)

    def test_what_has_no_swings_is_told(self) -> None:
        p = Program(demo().scene, demo().take)
        for parts, choices, told in (
            ((("marl", "head"),), {}, "stands on nothing"), (LEGS, {"up": 0.0}, "by how much"),
        ):  # fmt: skip
            with self.assertRaisesRegex(CoreError, told):
                run(p, "lift", Asked(parts, 0.0, None, choices))
        with self.assertRaisesRegex(CoreError, "no swing lies between two stances, frames 0 to 50"):
            run(p, "lift", Asked(LEGS, 0.0, 50.0))


if __name__ == "__main__":
    unittest.main()
