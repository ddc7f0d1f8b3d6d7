"""Joints that come after what carries them, measured on the evaluated joints."""

from __future__ import annotations

import unittest

import numpy as np

from yielding_tether.core.curves import ARRIVING, LEAVING
from yielding_tether.core.errors import CoreError
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.program import Program
from yielding_tether.core.transforms import Floats, inverse, multiply, rotation_distance
from yielding_tether.demo.brindles_trot import brindles_trot

TAIL = (("brindle", "tail"),)


def halfway(a: Floats, b: Floats, share: float) -> Floats:
    """(F, 4) the share of the way from turns a to turns b, by another formula than that of the code."""
    dot = np.sum(a * b, axis=-1, keepdims=True)
    b = np.where(dot < 0.0, -b, b)
    angle = np.arccos(np.clip(np.abs(dot), 0.0, 1.0))
    small = angle < 1e-9
    found: Floats = np.where(
        small, a, (np.sin((1 - share) * angle) * a + np.sin(share * angle) * b) / np.sin(np.where(small, 1.0, angle))
    )
    return found


class FollowThrough(unittest.TestCase):
    def setUp(self) -> None:
        scene, take = brindles_trot()
        self.program = Program(scene, take)

    def test_each_joint_goes_back_to_where_it_was(self) -> None:
        frames, weight = 2.0, 0.6
        asked = Asked(TAIL, 0.0, None, {"frames": frames, "weight": 100 * weight, "keys": "every"})
        after = self.program.on(run(self.program, "follow-through", asked).take)
        at = np.arange(10.0, 95.0)
        nodes = self.program.bound(*TAIL[0]).nodes
        was, now = self.program.evaluate(at), after.evaluate(at)
        for k, node in enumerate(nodes, 1):
            before = self.program.evaluate(at - k * frames).rot[:, node]
            wanted = halfway(was.rot[:, node], before, weight)
            self.assertLess(rotation_distance(now.rot[:, node], wanted).max(), 1e-9)
        # It lags: what the tip does against the body best fits what it did some frames before.
        local = [
            multiply(inverse(p.rot[:, self.program.nodes["brindle", "hips"]]), p.rot[:, nodes[-1]])[:, 1]
            for p in (was, now)
        ]
        score = [float(np.corrcoef(local[0][: len(at) - s or None][20:], local[1][s:][20:])[0, 1]) for s in range(8)]
        self.assertGreaterEqual(int(np.argmax(score)), 2)
        # Nothing else moves.
        others = [n for n in self.program.joints()[1] if n not in nodes]
        self.assertEqual(float(np.abs(was.pos[:, others] - now.pos[:, others]).max()), 0.0)

    def test_a_stretch_fades_at_its_ends_and_begins_where_it_is_told(self) -> None:
        asked = Asked(TAIL, 30.0, 70.0, {"begin": "tail.mid", "keys": "kept"})
        outcome = run(self.program, "follow-through", asked)
        after = self.program.on(outcome.take)
        self.assertLess(outcome.proof.outside_place.value, 1e-12)
        for change in (30.0, 70.0):
            came, went = (after.evaluate([change], side).rot for side in (ARRIVING, LEAVING))
            self.assertLess(rotation_distance(came, went).max(), 1e-9)
        self.assertTrue(all(c.pose < 1e-6 for c in outcome.proof.changes))
        root = self.program.bound(*TAIL[0]).nodes[0]
        inside = np.arange(30.0, 70.0)
        self.assertLess(
            rotation_distance(after.evaluate(inside).rot[:, root], self.program.evaluate(inside).rot[:, root]).max(),
            1e-3,
        )
        moved = rotation_distance(
            after.evaluate(inside).rot[:, root + 2], self.program.evaluate(inside).rot[:, root + 2]
        )
        self.assertGreater(moved.max(), 0.02)

    def test_what_cannot_be_is_said(self) -> None:
        for parts, first, last, choices, word in (
            (TAIL, 10.0, 10.0, {}, "more than one frame"), (TAIL, 10.0, 40.0, {"begin": "ear.L"}, "no joint 'ear.L'"),
            ((("brindle", "foreleg.L"),), 10.0, 40.0, {}, "hand it over there first"),
        ):  # fmt: skip
            with self.subTest(word=word), self.assertRaisesRegex(CoreError, word):
                run(self.program, "follow-through", Asked(parts, first, last, choices))


if __name__ == "__main__":
    unittest.main()
