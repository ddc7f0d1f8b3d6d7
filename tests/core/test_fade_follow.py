"""Fades from one follow to another: both ends meet what is there, and between them the control is where both place it."""

from __future__ import annotations

import unittest

import numpy as np

from tests.depth import DEPTH
from yielding_tether.core.curves import ARRIVING, LEAVING
from yielding_tether.core.errors import CoreError, LoopError
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.operations.fade_follow import FadeFollow, apply
from yielding_tether.core.operations.retether import OWN, Retether
from yielding_tether.core.operations.retether import apply as retether
from yielding_tether.core.program import Program
from yielding_tether.core.transforms import rotation_distance
from yielding_tether.demo.cast_off import cast_off

from .test_retether import PAIRS, kink, placing, world

#: Who goes over to what, joints that FK turns too.
WHO = [(p, to, "") for p, to in PAIRS] + [
    (("arm", "limb"), to, "upper") for to in ("world", "raft/raft", "other/end", OWN)
]
WHO.append((("arm", "carrier"), OWN, "carrier"))


class Fading(unittest.TestCase):
    def test_both_ends_meet_and_nothing_but_weights_is_keyed(self) -> None:
        for seed in range(3 * DEPTH):
            rng = np.random.default_rng(seed)
            for part, to, joint in WHO:
                control = joint or placing(world(seed), part)
                program = world(seed)
                # It follows something else already, in some of them up to a change long after the fade.
                if seed % 3 and to != "raft/raft":
                    last = 50.0 if seed % 3 == 2 else None
                    try:
                        program = program.on(
                            retether(program, Retether((part,), "raft/raft", 2.0, last, control=control))[0]
                        )
                    except LoopError:
                        continue
                first, last = 10.3, float(rng.integers(14, 30)) + 0.4
                with self.subTest(seed=seed, part=part, to=to, control=control):
                    try:
                        take, proof = apply(program, FadeFollow((part,), to, first, last, control))
                    except LoopError:
                        continue
                    except CoreError as error:
                        self.assertIn("already follows", str(error))
                        continue
                    after = program.on(take)
                    changed = {n for n, c in take.curves.items() if c is not program.take.curves.get(n)}
                    self.assertEqual({n.rpartition(".")[2] for n in changed} - {"position", "rotation"}, set())
                    mine, old = after.bounds[part].nodes, program.bounds[part].nodes
                    for at in (first, last):
                        now = [after.evaluate([at], side) for side in (ARRIVING, LEAVING)]
                        was = program.evaluate([at], LEAVING)
                        for poses in now:
                            self.assertLess(float(np.abs(poses.pos[0, mine] - was.pos[0, old]).max()), 1e-9)
                            self.assertLess(float(rotation_distance(poses.rot[0, mine], was.rot[0, old]).max()), 1e-7)
                        self.assertLess(kink(after, mine, at), kink(program, old, at) + 1e-4, (part, to, at))
                    t = np.arange(0.0, first - 0.1, 0.5)
                    self.assertEqual(
                        after.evaluate(t).pos[:, mine].tobytes(), program.evaluate(t).pos[:, old].tobytes()
                    )
                    if seed % 3 == 2 and to != "raft/raft":
                        t = np.arange(50.0, 60.5, 0.5)
                        gone = np.abs(after.evaluate(t).pos[:, mine] - program.evaluate(t).pos[:, old]).max()
                        self.assertLess(gone, 1e-12)
                        x, y = (after.evaluate([t], ARRIVING).pos[0, mine] for t in (50.0, 50.0 - 1e-9))
                        self.assertLess(float(np.abs(x - y).max()), 1e-6)
                    self.assertTrue(proof.unchanged_outside)

    def test_half_way_it_is_in_the_middle_of_both_places(self) -> None:
        program = world(1)
        take, _ = apply(program, FadeFollow((("cup", "cup"),), "raft/raft", 10.0, 20.0))
        after = program.on(take)
        weights = [after.channels[take.tethers[-1].weight_channel(w)] for w in ("position", "rotation")]
        node = after.nodes["cup", "cup", "space"]
        here = after.evaluate([15.0], only=[node])
        ends = [after.evaluate([15.0], only=[node], overrides=dict.fromkeys(weights, w)) for w in (0.0, 1.0)]
        middle = 0.5 * (ends[0].pos[0, node] + ends[1].pos[0, node])
        self.assertLess(float(np.abs(here.pos[0, node] - middle).max()), 1e-9)
        apart = [float(rotation_distance(here.rot[0, node], e.rot[0, node])) for e in ends]
        self.assertAlmostEqual(apart[0], apart[1], 9)

    def test_what_hangs_from_nothing_goes_back_to_the_world(self) -> None:
        cup = (("cup", "cup"),)
        program = world(1)
        program = program.on(retether(program, Retether(cup, "raft/raft", 2.0))[0])
        gone = apply(program, FadeFollow(cup, OWN, 10.0, 20.0))[0].tethers[-1]
        self.assertEqual((gone.anchor_member, gone.anchor), ("world", "world"))

    def test_it_is_no_finding_and_says_what_it_cannot(self) -> None:
        program = Program(*cast_off())
        before = [f.sentence for f in find_all(program)]
        take, proof, label, *_ = run(program, "fade-follow", Asked((("marl", "head"),), 20.0, None, {"over": 12}))
        self.assertEqual(label, "Head goes over to follow the world, frames 20 to 32")
        self.assertTrue(all(c.still and c.smooth for c in proof.changes))
        self.assertTrue(proof.unchanged_outside)
        self.assertEqual([f.sentence for f in find_all(program.on(take))], before)
        head = (("marl", "head"),)
        for asked, words in (
            (FadeFollow(head, "world", 190.0, 230.0), "does not lie in the take"),
            (FadeFollow(head, "marl/nose", 20.0, 30.0), "can be followed"),
            (FadeFollow(head, "world", 20.0, 30.0, what="position"), "stays where it hangs"),
            (FadeFollow(head, OWN, 20.0, 30.0), "already follows"),
            (FadeFollow(head, "marl/hips", 10.0, 25.0), "changes what it follows between"),
        ):
            with self.assertRaisesRegex(CoreError, words):
                apply(program.on(take), asked)


if __name__ == "__main__":
    unittest.main()
