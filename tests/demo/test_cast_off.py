"""The demo take does what its story says: the rope flies, the hands hold the moving rail, the feet stay planted."""

from __future__ import annotations

import unittest

import numpy as np

from tests.core.test_handover import demo
from yielding_tether.core.findings import find_all
from yielding_tether.core.transforms import inverse, rotate
from yielding_tether.demo.cast_off import GRIP_LEFT, LANDING, RELEASE
from yielding_tether.demo.ferry import BOLLARD


class CastOff(unittest.TestCase):
    def local(self, member: str, joint: str, within: str, frames: np.ndarray) -> np.ndarray:
        """(F, 3) a joint's place in a set piece."""
        program = demo()
        pose = program.evaluate(frames)
        a, b = program.nodes[member, joint], program.nodes[within, within]
        return rotate(inverse(pose.rot[:, b]), pose.pos[:, a] - pose.pos[:, b])

    def test_about_two_hundred_frames_at_24(self) -> None:
        self.assertEqual((len(demo().take.frames), demo().take.rate), (205, 24))

    def test_the_deck_rocks_and_the_rail_goes_with_it(self) -> None:
        pose = demo().evaluate(demo().take.frames)
        self.assertGreater(np.ptp(pose.pos[:, demo().nodes["rail", "rail"]], axis=0).max(), 0.02)
        self.assertLess(np.ptp(self.local("rail", "rail", "deck", demo().take.frames), axis=0).max(), 1e-12)

    def test_hands_hold_the_moving_rail(self) -> None:
        held = self.local("marl", "hand.L", "rail", np.arange(GRIP_LEFT, 205.0, 0.25))
        self.assertLess(np.ptp(held, axis=0).max(), 1e-4)
        # On the bar: a hand's thickness from its middle.
        self.assertTrue(np.all(np.linalg.norm(held[:, 1:], axis=1) < 0.1))

    def test_planted_feet_stay_on_the_deck(self) -> None:
        for letter, first, last in (("L", 0.0, 60.0), ("L", 73.0, 204.0), ("R", 0.0, 60.0), ("R", 102.0, 204.0)):
            frames = np.arange(first, last, 0.5)
            self.assertLess(np.ptp(self.local("marl", f"foot.{letter}", "deck", frames), axis=0).max(), 1e-4)

    def test_the_rope_is_held_then_flies_over_the_bollard(self) -> None:
        program = demo()
        hand, rope = program.nodes["marl", "hand.R"], program.nodes["rope", "rope"]
        held = program.evaluate(np.arange(0.0, RELEASE))
        local = rotate(inverse(held.rot[:, hand]), held.pos[:, rope] - held.pos[:, hand])
        self.assertLess(np.ptp(local, axis=0).max(), 1e-12)
        joint = program.evaluate([RELEASE], 1), program.evaluate([RELEASE], 0)
        np.testing.assert_allclose(joint[0].pos[0, rope], joint[1].pos[0, rope], atol=1e-5)
        flight = program.evaluate(np.arange(RELEASE, LANDING + 1.0)).pos[:, rope]
        # A parabola: the second differences are those of gravity at 24 frames a second.
        np.testing.assert_allclose(np.diff(flight, 2, axis=0)[:, 1], -9.81 / 24**2, atol=1e-6)
        self.assertLess(np.linalg.norm(flight[-1, [0, 2]] - np.array(BOLLARD)[[0, 2]]), 1e-6)

    def test_one_pop_is_planted_and_only_one(self) -> None:
        self.assertEqual([f.part for f in find_all(demo())], ["arm.R"])

    def test_left_and_right_bodies_mirror_one_another(self) -> None:
        (marl,) = [m for m in demo().scene.members if m.id == "marl"]
        pos, _ = marl.skeleton.rest_pose
        for joint, j in marl.skeleton.index.items():
            if joint.endswith(".L"):
                other = pos[marl.skeleton.index[joint[:-1] + "R"]]
                np.testing.assert_allclose(pos[j] * [-1, 1, 1], other, atol=1e-12)
