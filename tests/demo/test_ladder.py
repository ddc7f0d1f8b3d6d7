"""*Ladder*: hands and feet on rungs, fingers closed on them, and one fault."""

from __future__ import annotations

import unittest
from functools import cache

import numpy as np

from tests.core.test_grasp import gaps
from yielding_tether.core.contacts import measure_all
from yielding_tether.core.findings import find_all
from yielding_tether.core.program import Program
from yielding_tether.demo import named
from yielding_tether.demo.ladder import HANDS, POP, STEPS


@cache
def program() -> Program:
    return Program(*named("Ladder"))


class Ladder(unittest.TestCase):
    def test_only_what_is_planted_is_found_and_all_else_holds(self) -> None:
        self.assertEqual([(f.kind, f.part, f.frame) for f in find_all(program())], [("pop", "arm.L", float(POP))])
        contacts = program().take.contacts
        self.assertEqual(len(contacts), 4 * (STEPS // 2 + 1))
        for contact, slip in zip(contacts, measure_all(program(), contacts), strict=True):
            if (contact.joint, contact.first) != ("hand.L", float(POP)):
                self.assertLess(slip.place.max(), 1e-3, contact)

    def test_fingers_lie_on_the_rungs(self) -> None:
        for contact in program().take.contacts:
            if contact.joint.startswith("hand") and contact.first < POP:
                found = gaps(program(), "ladder", 0.5 * (contact.first + contact.last), contact.joint[-1])
                with self.subTest(contact=contact):
                    self.assertGreater(min(found.values()), -1e-4)
                    self.assertLess(sorted(found.values())[1], 2e-3)

    def test_he_climbs(self) -> None:
        poses = program().evaluate(program().take.frames)
        hips = poses.pos[:, program().nodes["marl", "hips"], 1]
        self.assertGreater(hips[-1] - hips[0], 0.28 * STEPS)
        self.assertLess(np.diff(hips).min(), 0.0, "he sinks before each pull")
        self.assertEqual(HANDS["L"] - HANDS["R"], 1)


if __name__ == "__main__":
    unittest.main()
