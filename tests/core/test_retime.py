"""Retimed takes: every pose at its new time, frames outside the same, with layers, captures, contacts, follows and findings."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from tests.depth import DEPTH
from yielding_tether.core.contacts import measure_all
from yielding_tether.core.curves import ARRIVING, LEAVING
from yielding_tether.core.errors import CoreError
from yielding_tether.core.findings import find_all
from yielding_tether.core.layers import flattened
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.program import Program
from yielding_tether.core.transforms import Floats, rotation_distance
from yielding_tether.demo.brindles_trot import brindles_trot
from yielding_tether.demo.lantern_round import lantern_round

from .test_bake import crossing
from .test_findings import clean
from .test_handover import demo
from .test_layers import arm, layered, plain

PART = (("marl", "head"),)


class Timing(unittest.TestCase):
    def same(self, a: Program, b: Program, at: Floats, then: Floats, within: float, side: int = LEAVING) -> None:
        """All joints of b at times are those of a at others."""
        joints = a.joints()[1]
        was, now = a.evaluate(then, side), b.evaluate(at, side)
        np.testing.assert_allclose(now.pos[:, joints], was.pos[:, joints], atol=within)
        self.assertLess(rotation_distance(now.rot[:, joints], was.rot[:, joints]).max(initial=0.0), 10 * within + 1e-7)

    def programs(self) -> list[tuple[Program, tuple[tuple[str, str], ...]]]:
        rng = np.random.default_rng(2)
        walk = crossing()
        some = next(b.id for b in walk.bounds.values() if b.member.id == "body")
        return [
            (Program(demo().scene, demo().take), PART), (Program(*lantern_round()), PART),
            (Program(*brindles_trot()), (("brindle", "head"),)), (walk, (some,)),
            (layered(rng, plain(), arm(plain(), "ik") + arm(plain(), "fk", "leg.L"), 3), PART),
        ]  # fmt: skip

    def test_a_stretch_lasts_longer_or_shorter_and_all_else_stays(self) -> None:
        for p, part in self.programs():
            rng = np.random.default_rng(len(p.take.curves))
            for _ in range(2 * DEPTH):
                first = float(rng.integers(p.take.first, p.take.last - 20))
                last = first + float(rng.integers(4, 16))
                long = int(rng.integers(2, 40))
                if long == last - first:
                    continue
                done = run(p, "retime", Asked(part, first, last, {"how": "lasts", "frames": long}))
                q, by = p.on(done.take), long - (last - first)
                self.assertEqual(done.take.last, p.take.last + by)
                before, after = np.arange(p.take.first, first + 0.5), np.arange(last, p.take.last + 0.5)
                self.same(p, q, before, before, 1e-12, ARRIVING)
                self.same(p, q, after + by, after, 1e-12)
                # Every pose of the stretch comes, at its time; of samples, where frames are.
                inside = np.linspace(first, last, 9)[1:-1]
                captured = bool(p.take.captures)
                if not captured and not p.take.layers:
                    self.same(p, q, first + (inside - first) * long / (last - first), inside, 1e-9)
                self.assertTrue(done.proof.contacts_kept)
                self.assertLess(
                    done.proof.outside_place.value, 1e-9, (p.scene.name, first, last, long, done.proof.outside_place)
                )
                for a, b in zip(measure_all(p, p.take.contacts), measure_all(q, q.take.contacts), strict=True):
                    self.assertLessEqual(float(b.place.max()), float(a.place.max()) + 1e-4)

    def test_frames_are_put_in_and_taken_out_and_all_others_stay(self) -> None:
        for p, part in self.programs():
            frame, more = float(p.take.first + 30), 7
            done = run(p, "retime", Asked(part, frame, frame + 10, {"how": "put in", "frames": more}))
            q = p.on(done.take)
            before, after = np.arange(p.take.first, frame + 0.5), np.arange(frame + 1, p.take.last + 0.5)
            self.same(p, q, before, before, 1e-12, ARRIVING)
            self.same(p, q, after + more, after, 1e-12)
            held = np.arange(frame, frame + more + 0.5)
            self.same(p, q, held, np.full(len(held), frame), 1e-9)
            # Taken out again, it is the very take that it was, at all frames.
            back = p.on(run(q, "retime", Asked(part, frame, frame + more, {"how": "taken out"})).take)
            self.assertEqual(back.take.last, p.take.last)
            self.same(p, back, p.take.frames, p.take.frames, 1e-12)
            out = run(p, "retime", Asked(part, frame, frame + 12, {"how": "taken out"}))
            r = p.on(out.take)
            self.assertLess(out.proof.outside_place.value, 1e-9)
            # Of a capture the first of the frames that are taken out goes too.
            left = before[:-1] if p.take.captures else before
            self.same(p, r, left, left, 1e-12, ARRIVING)
            rest = np.arange(frame + 12, p.take.last + 0.5)
            self.same(p, r, rest - 12, rest, 1e-12)

    def test_what_is_known_of_the_take_goes_along(self) -> None:
        p = Program(demo().scene, demo().take)
        keys = [f.key for f in find_all(p)]
        p = p.on(replace(p.take, wanted=tuple(keys)))
        self.assertEqual(find_all(p), [])
        q = p.on(run(p, "retime", Asked(PART, 10.0, 20.0, {"frames": 25})).take)
        self.assertEqual(find_all(q), [])
        moved = {(c.joint, c.first, c.last) for c in q.take.contacts}
        wanted = {(c.joint, c.first + 15.0 * (c.first >= 20), c.last + 15.0 * (c.last >= 20)) for c in p.take.contacts}
        self.assertEqual(moved, wanted)
        rng = np.random.default_rng(7)
        for_layers = layered(rng, plain(), arm(plain(), "ik"), 2, weights=False)
        r = for_layers.on(run(for_layers, "retime", Asked(PART, 60.0, 70.0, {"frames": 30})).take)
        frames = np.arange(205.0)
        a = for_layers.on(flattened(for_layers)).evaluate(frames[frames >= 70])
        b = r.evaluate(frames[frames >= 70] + 20.0)
        np.testing.assert_allclose(b.pos[:, r.joints()[1]], a.pos[:, r.joints()[1]], atol=1e-9)

    def test_what_can_not_be_is_told(self) -> None:
        p = clean(0)
        for first, last, choices, told in (
            (10.0, 20.0, {"frames": 10}, "already"), (10.5, 20.0, {"frames": 10}, "whole frames"),
            (0.0, None, {"how": "taken out"}, "nothing of the take"), (10.0, 10.0, {"frames": 4}, "more than one frame"),
            (10.0, 300.0, {}, "do not lie in the take"),
        ):  # fmt: skip
            with self.assertRaisesRegex(CoreError, told):
                run(p, "retime", Asked(PART, first, last, choices))


if __name__ == "__main__":
    unittest.main()
