"""Loops: the last frame is the first one, moved on, in place and in speed; feet stay where they stand; nothing else is another."""

from __future__ import annotations

import re
import unittest
from dataclasses import replace

import numpy as np
from scipy.spatial.transform import Rotation

from tests.depth import DEPTH
from yielding_tether.core.contacts import measure_all
from yielding_tether.core.curves import ARRIVING, LEAVING, curve, sample
from yielding_tether.core.errors import CoreError
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Layer
from yielding_tether.core.transforms import Floats
from yielding_tether.demo import named
from yielding_tether.demo.brindles_trot import brindles_trot

from .test_bake import crossing
from .test_findings import clean

GOAT = ("brindle", "hips")


def trot() -> Program:
    """The trot without its planted fault."""
    program = Program(*brindles_trot())
    return program.on(run(program, "repair", Asked()).take)


def seam(program: Program, body: str, stage: str = "") -> tuple[Floats, Floats]:
    """How far each joint of a body at the last frame is from where the first has it, once that is moved level and turned about the
    vertical as fits best (metres), and how much faster it is then (metres a frame); in what it stands on."""
    nodes = program.joints([body])[1]
    step, ends = 1e-3, []
    for t, side, by in ((float(program.take.first), LEAVING, step), (float(program.take.last), ARRIVING, -step)):
        places = []
        for x in (t, t + by):
            poses = program.evaluate([x], side)
            base = program.nodes[stage, stage] if stage else program.world
            places.append(Rotation.from_quat(poses.rot[0, base]).inv().apply(poses.pos[0, nodes] - poses.pos[0, base]))
        ends.append((places[0], (places[1] - places[0]) / by))
    flat = [(p - p.mean(axis=0))[:, [0, 2]] for p, _ in ends]
    cross = flat[0][:, 0] @ flat[1][:, 1] - flat[0][:, 1] @ flat[1][:, 0]
    turn = Rotation.from_rotvec([0.0, -np.arctan2(cross, np.sum(flat[0] * flat[1])), 0.0])
    moved = turn.apply(ends[0][0])
    shift = (ends[1][0] - moved).mean(axis=0) * [1.0, 0.0, 1.0]
    off = np.linalg.norm(moved + shift - ends[1][0], axis=1)
    return off, np.linalg.norm(turn.apply(ends[0][1]) - ends[1][1], axis=1)


class Loops(unittest.TestCase):
    def test_what_closes_it_is_one_cubic_on_top(self) -> None:
        program = trot()
        done = run(program, "loop", Asked((GOAT,), 4.0, 31.0, {"over": 10}))
        at = np.linspace(21.0, 31.0, 81)
        moved = 0
        for name in ("tx", "ty", "tz", "rx", "ry", "rz"):
            was, now = (
                program.on(t).curve(program.channels[f"brindle/hips.{name}"]) for t in (program.take, done.take)
            )
            more = sample(now, at, ARRIVING) - sample(was, at, ARRIVING)
            fitted = np.polynomial.Polynomial.fit(at, more, 3)
            np.testing.assert_allclose(fitted(at), more, atol=1e-9)
            self.assertAlmostEqual(float(more[0]), 0.0, delta=1e-9)
            self.assertAlmostEqual(float(fitted.deriv()(21.0)), 0.0, delta=1e-9)
            moved += bool(np.abs(more).max() > 1e-4)
        self.assertGreater(moved, 2)

    def test_any_stretch_of_a_trot_ends_as_it_begins(self) -> None:
        program = trot()
        rng = np.random.default_rng(2)
        # Two whole rounds; and stretches that are not a round at all.
        spans = [
            (10, 50),
            (4, 24),
            *((a, a + int(rng.integers(17, 60))) for a in rng.integers(0, 40, 4 * DEPTH).tolist()),
        ]
        for a, b in spans:
            over = int(rng.integers(4, 12))
            done = run(program, "loop", Asked((GOAT,), float(a), float(b), {"over": over}))
            after = program.on(done.take)
            self.assertEqual((done.take.first, done.take.last), (a, b))
            place, speed = seam(after, "brindle")
            self.assertLess(float(place.max()), 1e-9, (a, b))
            self.assertIn("closes within 0.000 mm", done.proof.sentence)
            # Where nothing stands at the seam it goes on as fast as it begins.
            if not any(c.begin < b <= c.end for c in done.take.contacts):
                self.assertLess(float(speed.max()), 1e-4, (a, b))
            # Before it goes over, all is as it was.
            still = np.arange(2 * a, 2 * (b - 30) + 1) / 2.0
            nodes = program.joints()[1]
            was, now = (p.evaluate(still).pos[:, nodes] for p in (program, after))
            np.testing.assert_allclose(was, now, atol=1e-12)
            old = program.take.contacts
            slips = {
                (c.joint, c.last): float(s.place.max()) for c, s in zip(old, measure_all(program, old), strict=True)
            }
            for c, s in zip(done.take.contacts, measure_all(after, done.take.contacts), strict=True):
                if c.begin > a or c.end < b:
                    self.assertLess(
                        float(s.place.max()), slips.get((c.joint, c.last), 0.0) + 1e-4, (a, b, c.joint, c.begin)
                    )

    def test_a_stretch_that_is_no_round_is_told_where_one_ends(self) -> None:
        for a, b, rounds in ((10, 47, (20, 40)), (4, 33, (20,)), (30, 95, (60,))):
            told = run(trot(), "loop", Asked((GOAT,), float(a), float(b), {"over": 8})).proof.notes[1]
            self.assertIn(
                int(re.fullmatch(r"Frame (\d+) is nearer to how it begins: [\d.]+ mm\.", told)[1]) - a, rounds
            )
            closed = run(trot(), "loop", Asked((GOAT,), float(a), float(told.split()[1]), {"over": 8})).proof.notes
            self.assertIn(f"was {told.split()[-2]} mm", closed[0])

    def test_what_is_held_goes_round_too(self) -> None:
        program = clean(1)
        done = run(program, "loop", Asked((("marl", "spine"),), 0.0, 60.0, {"over": 10}))
        after = program.on(done.take)
        self.assertLess(float(seam(after, "marl", "deck")[0].max()), 1e-9)
        both = [after.evaluate([t], s) for t, s in ((0.0, LEAVING), (60.0, ARRIVING))]
        hand, lantern = after.nodes["marl", "hand.R"], after.nodes["lantern", "lantern"]
        local = [Rotation.from_quat(p.rot[0, hand]).inv().apply(p.pos[0, lantern] - p.pos[0, hand]) for p in both]
        np.testing.assert_allclose(local[0], local[1], atol=1e-9)

    def test_a_capture_goes_round_by_what_is_adjusted(self) -> None:
        program = crossing()
        done = run(program, "loop", Asked((("body", "spine"),), 20.0, 80.0, {"over": 12}))
        after = program.on(done.take)
        place, _ = seam(after, "body")
        self.assertLess(float(place.max()), 1e-9)
        self.assertIs(done.take.captures["body"], program.take.captures["body"])
        at = np.arange(20.0, 68.5, 0.5)
        nodes = program.joints()[1]
        np.testing.assert_allclose(program.evaluate(at).pos[:, nodes], after.evaluate(at).pos[:, nodes], atol=1e-12)

    def test_a_loop_is_shifted_in_its_cycle(self) -> None:
        program = trot()
        looped = program.on(run(program, "loop", Asked((GOAT,), 10.0, 50.0)).take)
        shifted = looped.on(run(looped, "shift-loop", Asked((GOAT,), 10.0, None, {"by": 15.0})).take)
        self.assertLess(float(seam(shifted, "brindle")[0].max()), 1e-9)

    def test_what_can_not_go_round_is_said(self) -> None:
        program = Program(*named("Hauling in, on the quay"))
        marl = (("marl", "hips"),)
        for p, parts, first, last, says in (
            (program, marl, 10.0, 82.0, "is another at frame 10 than at 82"),
            (trot(), (GOAT,), 10.0, 12.0, "at least four"),
            (trot(), (GOAT,), 10.5, 40.0, "whole frames"),
            (clean(0), marl, 20.0, 120.0, "driven by FK at frame 20 and by IK at frame 120"),
        ):  # fmt: skip
            with self.subTest(says), self.assertRaisesRegex(CoreError, says):
                run(p, "loop", Asked(parts, first, last))
        layer = Layer("a", "a", {"brindle/hips.ty": curve([])})
        heard = trot()
        with self.assertRaisesRegex(CoreError, "merge them"):
            run(heard.on(replace(heard.take, layers=(layer,))), "loop", Asked((GOAT,), 10.0, 50.0))


if __name__ == "__main__":
    unittest.main()
