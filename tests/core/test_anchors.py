"""Anchors that the animator makes: followed, moved, tied themselves, mirrored, moved to another cast, and taken away again."""

from __future__ import annotations

import unittest

import numpy as np

from yielding_tether.core.errors import CoreError
from yielding_tether.core.operations import OPERATIONS, Asked, run
from yielding_tether.core.program import Program

from .test_retether import Checked, world
from .worlds import growing

LIMB, CUP = (("arm", "limb"),), (("cup", "cup"),)


def done(
    program: Program, operation: str, parts: object, first: float, last: float | None = None, **choices: object
) -> Program:
    return Program(program.scene, run(program, operation, Asked(parts, first, last, choices)).take)  # type: ignore[arg-type]


class Made(Checked):
    def test_one_is_made_where_it_is_wanted_and_the_part_follows_it_without_a_jump(self) -> None:
        for seed in range(6):
            before = world(seed)
            if seed % 2:
                before = before.with_curves(growing(np.random.default_rng(seed), before.scene.members))
            for at, on, last in (("", "world", None), ("0.3 1.2 -0.4", "other/end", 44.0), ("1 2 3", "cup/cup", None)):
                after = done(before, "anchor", LIMB, 20.0, last, at=at, on=on, called="  my  mark ")
                self.check(before, after, LIMB[0], 20.0, last)
                self.assertEqual([m.name for m in after.scene.members if m.kind == "anchor"], ["my mark"])
                node = after.nodes["anchor-1", "anchor"]
                here = after.evaluate([20.0]).pos[0, node]
                if at:
                    self.assertLess(np.abs(here - [float(x) for x in at.split()]).max(), 1e-9)
                if on != "world":
                    held = after.nodes[tuple(on.split("/"))]
                    poses = after.evaluate([5.0, 50.0])
                    far = np.linalg.norm(poses.pos[:, node] - poses.pos[:, held], axis=1)
                    sizes = after.sizes(poses.times, 0, held)
                    self.assertAlmostEqual(far[0] / sizes[0], far[1] / sizes[1], 9)

    def test_one_that_is_moved_takes_along_what_follows_it(self) -> None:
        program = done(world(0), "anchor", CUP, 10.0, at="0 1 0")
        moved = program.with_curves({"anchor-1/anchor.tx": program.take.curves["cup/cup.tx"]})
        a, b = (p.evaluate([30.0]) for p in (program, moved))
        cup, mark = (program.nodes[n] for n in (("cup", "cup"), ("anchor-1", "anchor")))
        self.assertGreater(np.abs(b.pos[0, mark] - a.pos[0, mark]).max(), 1e-3)
        self.assertLess(np.abs((b.pos - a.pos)[0, cup] - (b.pos - a.pos)[0, mark]).max(), 1e-9)

    def test_taken_away_everybody_keeps_the_motion(self) -> None:
        before = done(world(1), "anchor", LIMB, 20.0, at="0.3 1.2 -0.4", on="other/end")
        before = done(before, "retether", CUP, 30.0, to="anchor-1/anchor", after="ride", offset="here")
        gone = run(before, "remove anchor", Asked((("anchor-1", "anchor"),), 0.0, None, {}))
        after = Program(world(1).scene, gone.take)
        self.assertEqual(after.take.anchors, ())
        self.assertFalse([n for n in after.take.curves if n.startswith("anchor")])
        frames = np.arange(0.0, 61.0)
        a, b = (p.evaluate(frames).pos[:, p.joints()[1]] for p in (before, after))
        self.assertLess(np.abs(a - b).max(), 1e-6)
        self.assertRegex(gone.proof.sentence, "Let go of it")
        with self.assertRaisesRegex(CoreError, "has no|no part|no member"):
            run(after, "remove anchor", Asked((("anchor-1", "anchor"),), 0.0, None, {}))

    def test_what_can_be_done_with_one_is_offered_for_it_alone(self) -> None:
        program = done(world(2), "anchor", LIMB, 20.0, then="none")
        own = program.bounds["anchor-1", "anchor"]
        for id in ("remove anchor", "rename anchor"):
            self.assertTrue(OPERATIONS[id].offered_for(own))
            self.assertFalse(any(OPERATIONS[id].offered_for(b) for b in program.bounds.values() if b is not own))
        self.assertFalse(any(OPERATIONS["resize"].offered_for(b) for b in program.bounds.values() if not b.part.free))
        for id in ("anchor", "remove anchor", "rename anchor", "resize"):
            with self.assertRaisesRegex(CoreError, "at least one part"):
                done(program, id, (), 0.0)

    def test_names_are_its_own_and_can_be_changed(self) -> None:
        program = done(world(2), "anchor", LIMB, 20.0, called="mark", then="none")
        program = done(program, "anchor", LIMB, 20.0, then="none")
        self.assertEqual([a.name for a in program.take.anchors], ["mark", "anchor"])
        with self.assertRaisesRegex(CoreError, "mark in the cast already"):
            done(program, "anchor", LIMB, 20.0, called="mark")
        renamed = done(program, "rename anchor", (("anchor-2", "anchor"),), 0.0, called="hook")
        self.assertEqual([a.name for a in renamed.take.anchors], ["mark", "hook"])
        for at in ("1 2", "here", "nan 0 0", "1e9 0 0"):
            with self.assertRaisesRegex(CoreError, "metres|finite"):
                done(program, "anchor", LIMB, 20.0, at=at)
        with self.assertRaisesRegex(CoreError, "at most"):
            done(program, "anchor", LIMB, 20.0, called="x" * 100)
        with self.assertRaisesRegex(CoreError, "no anchor of this take"):
            done(program, "remove anchor", CUP, 0.0)
        # One that follows what follows it is a true loop.
        tied = done(world(2), "anchor", LIMB, 20.0, called="mark")
        with self.assertRaisesRegex(CoreError, "loop"):
            done(tied, "retether", (("anchor-1", "anchor"),), 25.0, to="arm/limb.ik", after="ride")


if __name__ == "__main__":
    unittest.main()
