"""Faults of what is followed, planted at random: found, none invented, and taken out without moving anything."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from tests.depth import DEPTH
from yielding_tether.core.curves import LEAVING, LINEAR, SMOOTH, Key, curve
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations import repair
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Tether
from yielding_tether.core.transforms import rotation_distance

from .test_retether import world
from .worlds import stepped

KINDS = ("overfull", "unused")


def planted(seed: int, turning: bool) -> tuple[Program, list[tuple[str, float, float]]]:
    """A limb's end, or an FK joint, that follows raft and cup by more than all of it for a while, and a follow of a prop that
    nobody uses; what is to be found (part, first frame, last)."""
    rng = np.random.default_rng(seed)
    program = world(3 * seed if turning else 3 * seed + 1)
    control, whole = ("upper", (False, True)) if turning else ("limb.ik", (True, True))
    raft, cup = (Tether(n, "arm", control, n, n, *whole) for n in ("raft", "cup"))
    idle = Tether("raft", "cup", "cup", "raft", "raft")
    a, b = sorted(float(x) for x in rng.choice(np.arange(5, 55), 2, replace=False))
    one, two = (float(x) for x in rng.uniform(0.6, 1.0, 2))
    weights = {}
    for what in ("position", "rotation") if not turning else ("rotation",):
        weights[raft.weight_channel(what)] = stepped((0, one))
        if seed % 2:
            weights[cup.weight_channel(what)] = stepped((0, 0.0), (a, two), (b, 0.0))
        else:
            # Dialled in and out: smoothly, or in straight lines.
            kind = SMOOTH if seed % 4 else LINEAR
            keys = [Key(t, v, v, 0.0, 0.0, kind) for t, v in ((a - 4, 0.0), (a, two), (b, two), (b + 4, 0.0))]
            weights[cup.weight_channel(what)] = curve(keys)
    take = replace(program.take, tethers=(raft, cup, idle)).with_curves(weights)
    return program.on(take), [("arm/limb", a, b), ("cup/cup", 0.0, 60.0)]


class Followed(unittest.TestCase):
    def test_all_are_found_and_repaired_with_nothing_moved(self) -> None:
        for seed in range(25 * DEPTH):
            for turning in (False, True):
                program, made = planted(seed, turning)
                found = [f for f in find_all(program) if f.kind in KINDS]
                with self.subTest(seed=seed, turning=turning):
                    self.assertEqual(
                        [f"{f.member}/{f.part}" for f in found], [m[0] for m in sorted(made, key=lambda m: m[1])]
                    )
                    full = next(f for f in found if f.kind == "overfull")
                    slack = 0.5 if seed % 2 else 4.0
                    self.assertAlmostEqual(full.frame, made[0][1], delta=slack)
                    self.assertAlmostEqual(full.last, made[0][2], delta=slack)
                    take, proof = repair.apply(program, [f.key for f in found])
                    after = program.on(take)
                    self.assertEqual([f.sentence for f in find_all(after) if f.kind in KINDS], [])
                    self.assertEqual([t.member for t in take.tethers], ["arm", "arm"])
                    t = np.arange(0.0, 60.5, 0.25)
                    a, b = program.evaluate(t), after.evaluate(t)
                    old, new = program.joints()[1], after.joints()[1]
                    # On frames it is the very same; between them smooth weights are scaled along a cubic, and the proof tells.
                    place = np.linalg.norm(a.pos[:, old] - b.pos[:, new], axis=-1).max(axis=1)
                    turn = rotation_distance(a.rot[:, old], b.rot[:, new]).max(axis=1)
                    self.assertLess(float(place[::4].max()), 1e-6)
                    self.assertLess(float(turn[::4].max()), 1e-6)
                    self.assertLessEqual(float(turn[::2].max()), proof.departure_turn.value + 1e-9)
                    self.assertLess(float(turn.max()), 0.1)
                    self.assertTrue(proof.unchanged_outside)
                    names = [n for n in take.curves if n.startswith("arm/") and ".raft." in n]
                    for n in names:
                        rows = [after.channels[n], after.channels[n.replace(".raft.", ".cup.")]]
                        total = after.sample(np.arange(0.0, 60.0, 0.1), LEAVING, np.array(rows)).sum(axis=0)
                        self.assertLess(float(total.max()), 1.02)


if __name__ == "__main__":
    unittest.main()
