"""*Hauling in*: hands that hold the line as it comes in, feet that stay, the line taut between, and one fault."""

from __future__ import annotations

import unittest
from functools import cache

import numpy as np

from yielding_tether.core.contacts import measure_all
from yielding_tether.core.findings import find_all
from yielding_tether.core.program import Program
from yielding_tether.demo import named
from yielding_tether.demo.hauling_in import BACK, CYCLES, HOLDS, IN, LINK, POP


@cache
def program() -> Program:
    return Program(*named("Hauling in"))


class Hauling(unittest.TestCase):
    def test_only_what_is_planted_is_found_and_all_else_holds(self) -> None:
        self.assertEqual([(f.kind, f.part, f.frame) for f in find_all(program())], [("pop", "arm.L", float(POP))])
        contacts = program().take.contacts
        self.assertEqual(sum(c.joint.startswith("hand") for c in contacts), sum(map(len, HOLDS.values())))
        for contact, slip in zip(contacts, measure_all(program(), contacts), strict=True):
            if (contact.joint, contact.first) != ("hand.L", float(POP)):
                self.assertLess(slip.place.max(), 1e-3, contact)

    def test_the_line_comes_in_hand_over_hand_and_he_goes_back(self) -> None:
        frames = program().take.frames
        poses = program().evaluate(frames)

        def at(member: str, joint: str) -> np.ndarray:
            return poses.pos[:, program().nodes[member, joint]]

        come = np.linalg.norm(at("line", "line") - at("line", "line")[:1], axis=1)
        self.assertGreater(come[-1], 0.95 * IN * CYCLES)
        self.assertLess(at("marl", "hips")[-1, 0] - at("marl", "hips")[0, 0], -0.9 * BACK * CYCLES)
        for k in range(23):
            lengths = np.linalg.norm(at("line", f"link{k + 1}") - at("line", f"link{k}"), axis=1)
            np.testing.assert_allclose(lengths, LINK, atol=1e-9)
        # A hand holds at any time, and what is between the hands and the far end is taut.
        for n, frame in enumerate(frames):
            held = [c for c in program().take.contacts if c.joint.startswith("hand") and c.first <= frame <= c.last]
            self.assertTrue(held, frame)
            first = min(int(c.anchor.removeprefix("link")) for c in held)
            away = np.linalg.norm(at("line", f"link{first}")[n] - at("line", "line")[n])
            self.assertAlmostEqual(away, first * LINK, delta=2e-3, msg=str(frame))


if __name__ == "__main__":
    unittest.main()
