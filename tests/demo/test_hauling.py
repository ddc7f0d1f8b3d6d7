"""*Hauling in*: hands that hold the line as it comes in, feet that stay, the line taut between, and one fault."""

from __future__ import annotations

import unittest
from functools import cache

import numpy as np

from yielding_tether.core.contacts import measure_all
from yielding_tether.core.findings import find_all
from yielding_tether.core.program import Poses, Program
from yielding_tether.demo import named
from yielding_tether.demo.ferry import BOLLARD
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

    def test_on_the_quay_it_is_mirrored_and_the_left_hand_leads(self) -> None:
        landed = Program(*named("Hauling in, on the quay"))
        self.assertEqual(find_all(landed), [])
        at = np.arange(0.0, 2 * landed.take.last + 1) / 2.0
        was, now = program().evaluate(at), landed.evaluate(at)

        def apart(p: Program, poses: Poses, hand: str, link: int) -> np.ndarray:
            found: np.ndarray = np.linalg.norm(
                poses.pos[:, p.nodes["marl", hand]] - poses.pos[:, p.nodes["line", f"link{link}"]], axis=1
            )
            return found

        # Hand to line as in the original at all frames and half-frames, hands swapped; but where the fault of the original is.
        faulty = (at > POP - 20) & (at < POP + 22)
        for link in range(25):
            for one, two in (("hand.R", "hand.L"), ("hand.L", "hand.R")):
                off = np.abs(apart(program(), was, one, link) - apart(landed, now, two, link))
                self.assertLess(float(off[~faulty].max() if one == "hand.L" else off.max()), 1e-4, (one, link))
        for contacts, hand in ((program().take.contacts, "hand.R"), (landed.take.contacts, "hand.L")):
            self.assertEqual(
                [(c.first, c.last) for c in contacts if c.joint == hand], [(float(a), float(b)) for a, b in HOLDS["R"]]
            )
        for contact, slip in zip(landed.take.contacts, measure_all(landed, landed.take.contacts), strict=True):
            self.assertLess(slip.place.max(), 1e-3, contact)
            self.assertLess(slip.depth.max(), 1e-3, contact)
        # On the quay, at the place, headed along it, and going backwards there.
        hips, deck = now.pos[:, landed.nodes["marl", "hips"]], landed.scene.member("deck")
        np.testing.assert_allclose(hips[0, [0, 2]], [0.2, BOLLARD[2] + 1.0], atol=1e-9)
        self.assertLess(hips[-1, 0] - hips[0, 0], -0.9 * BACK * CYCLES)
        self.assertFalse([t for t in landed.take.tethers if t.member == "marl" and t.anchor == deck.id])


if __name__ == "__main__":
    unittest.main()
