"""Loops shifted in their cycle: every pose at its new place in it, closed as before, whole again after a whole round."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from yielding_tether.core.curves import ARRIVING, FREE, SMOOTH, Key, curve
from yielding_tether.core.errors import CoreError
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations import Asked, repair, run
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Contact
from yielding_tether.core.transforms import rotation_distance
from yielding_tether.demo.brindles_trot import brindles_trot

from .test_handover import captured, demo
from .worlds import limb_member, random_take, scene

HEAD = (("brindle", "head"),)


def trot() -> Program:
    program = Program(*brindles_trot())
    return program.on(repair.apply(program, [])[0])


class Shifting(unittest.TestCase):
    def test_random_loops_close_and_are_whole_again_after_a_round(self) -> None:
        for seed in range(3):
            rng = np.random.default_rng(seed)
            member = limb_member(rng)
            p = Program(scene(member), random_take(rng, (member,), spread=0.4, kinds=(SMOOTH,)))
            curves = {}
            for name, c in p.take.curves.items():
                # One round brings the root further; all else comes back to where it was.
                drift = 0.4 if ".t" in name and p.take.curves[name] is not None and "/root." in name else 0.0
                keys = [k for k in c.all_keys() if 0 < k.time < 60]
                v, s = rng.normal(0.0, 0.2), rng.normal(0.0, 0.01)
                ends = [Key(0.0, v, v, s, s, SMOOTH, FREE), Key(60.0, v + drift, v + drift, s, s, SMOOTH, FREE)]
                curves[name] = curve([ends[0], *keys, ends[1]])
            p = p.with_curves(curves)
            joints = p.joints()[1]
            ends = np.array([0.0, 60.0])
            for by in (0.0, 17.0, 20.5, -8.0):
                q = p.on(run(p, "shift-loop", Asked((next(iter(p.bounds)),), 0.0, None, choices={"by": by})).take)
                shift = by % 60.0 if by else 30.0
                at = np.arange(0.0, 60.0 - shift + 0.25, 0.5)
                at = at[at <= 60.0 - shift]
                a, b = p.evaluate(at + shift), q.evaluate(at)
                np.testing.assert_allclose(b.pos[:, joints], a.pos[:, joints], atol=1e-9)
                one, two = (x.evaluate(ends, ARRIVING) for x in (p, q))
                moved = [x.pos[1, joints] - x.pos[0, joints] for x in (one, two)]
                np.testing.assert_allclose(moved[1], moved[0], atol=1e-9)
                self.assertLess(rotation_distance(two.rot[0, joints], two.rot[1, joints]).max(), 1e-7)
                back = q.on(
                    run(q, "shift-loop", Asked((next(iter(p.bounds)),), 0.0, None, choices={"by": -shift})).take
                )
                frames = p.take.frames
                # It is further on by what one round brought it; that apart all is as it was.
                a, b = (x.evaluate(frames).pos[:, joints] for x in (p, back))
                np.testing.assert_allclose(b - b[:1], a - a[:1], atol=1e-9)

    def test_a_symmetric_gait_shifted_by_half_and_mirrored_is_what_it_was(self) -> None:
        p = trot()
        half = p.on(run(p, "shift-loop", Asked(HEAD)).take)
        self.assertEqual([f for f in find_all(half) if f.kind != "speed"], [])
        q = half.on(run(half, "mirror", Asked(HEAD, 0.0, None, {"plane": "own", "to": "start"})).take)
        at = p.take.frames
        was, now = (x.evaluate(at) for x in (p, q))
        root = int(next(b for b in p.bounds.values() if b.member.id == "brindle" and b.part.free).nodes[0])
        for (_, joint), node in zip(*p.joints(["brindle"]), strict=True):
            if joint.startswith("ear"):
                # They come after the head by keys of their own, and are not alike on both sides.
                continue
            a, b = (x.pos[:, node] - x.pos[:, root] for x in (was, now))
            np.testing.assert_allclose(b, a, atol=1e-6, err_msg=joint)

    def test_contacts_go_along_and_what_is_no_loop_is_told(self) -> None:
        p = trot()
        foot = next(c for c in p.take.contacts)
        long = replace(p.take, contacts=(replace(foot, first=40.0, last=60.0), replace(foot, first=80.0, last=90.0)))
        made = run(p.on(long), "shift-loop", Asked(HEAD)).take
        self.assertEqual(sorted((c.first, c.last) for c in made.contacts), [(0.0, 10.0), (30.0, 40.0), (90.0, 100.0)])
        self.assertTrue(all(isinstance(c, Contact) for c in made.contacts))
        for program, part, told in (
            (Program(demo().scene, demo().take), ("marl", "head"), "no loop"), (captured(), ("body", "arm.L"), "bake it"),
        ):  # fmt: skip
            with self.assertRaisesRegex(CoreError, told):
                run(program, "shift-loop", Asked((part,)))


if __name__ == "__main__":
    unittest.main()
