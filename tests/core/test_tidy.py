"""Tidying: angles made continuous, parts at rest over a stretch, keys thinned, spikes taken out; all else as it was."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from tests.depth import DEPTH
from yielding_tether.core.curves import ARRIVING, EMPTY, FREE, LEAVING, SMOOTH, Curve, Key, curve
from yielding_tether.core.errors import CoreError
from yielding_tether.core.findings import find_all
from yielding_tether.core.layers import turn_of
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Capture
from yielding_tether.core.transforms import multiply, rotation_distance

from .test_handover import captured, demo
from .worlds import limb_member, random_take, scene, stepped


def marl() -> Program:
    return Program(demo().scene, demo().take)


class Unwinding(unittest.TestCase):
    def test_angles_that_were_wound_up_are_what_they_were(self) -> None:
        """Keys of smooth angles are put to whole turns and to the other set of angles at random; unwound, they are the same."""
        for seed in range(4 * DEPTH):
            rng = np.random.default_rng(seed)
            member = limb_member(rng)
            program = Program(scene(member), random_take(rng, (member,), spread=0.3, kinds=(SMOOTH,)))
            bound = next(b for b in program.bounds.values() if len(b.systems) > 1)
            names = program.channel_names()
            turn = next(t for c in bound.systems["fk"].channels if (t := turn_of(program.rig, int(c))))
            times = np.arange(0.0, 61.0, 5.0)
            order = ["xyz".index(a) for a in turn.order]
            plain, wound = np.cumsum(rng.normal(0, 0.25, (3, len(times))), axis=1), np.empty((3, len(times)))
            slopes = rng.normal(0, 0.02, (3, len(times)))
            bent = slopes.copy()
            for k in range(len(times)):
                v = plain[order, k]
                if k and rng.random() < 0.4:
                    v = np.array([v[0] + np.pi, np.pi - v[1], v[2] + np.pi])
                    bent[order[1], k] *= -1.0
                if k:
                    v = v + 2.0 * np.pi * rng.integers(-2, 3, 3)
                wound[order, k] = v
            one, two = (
                {names[c]: curve([Key(t, x, x, s, s, SMOOTH, FREE) for t, x, s in zip(times, v[n], d[n], strict=True)])
                 for n, c in enumerate(turn.channels)}
                for v, d in ((plain, slopes), (wound, bent))
            )  # fmt: skip
            want, given = program.with_curves(one), program.with_curves(two)
            made = run(given, "unwind", Asked((bound.id,), 0.0, None)).take
            for name, c in one.items():
                np.testing.assert_allclose(made.curves[name].numbers, c.numbers, atol=1e-12)
            # Poses at keys were the same all along.
            a, b = (p.evaluate(times) for p in (want, given))
            self.assertLess(rotation_distance(a.rot, b.rot).max(), 1e-9)
            with self.assertRaisesRegex(CoreError, "continuous there already"):
                run(want, "unwind", Asked((bound.id,), 0.0, None))


class Resting(unittest.TestCase):
    def test_a_part_is_at_rest_within_and_as_it_was_without(self) -> None:
        program = marl()
        for part, first, last, ease in (
            ("arm.L", 60.0, 90.0, 6.0),
            ("head", 20.0, 120.5, 0.0),
            ("leg.R", 0.0, 40.0, 5.0),
        ):
            q = program.on(run(program, "reset", Asked((("marl", part),), first, last, {"ease": ease})).take)
            bound = q.bound("marl", part)
            low = first if first == 0.0 else first + ease
            high = last if last == 204.0 else last - ease
            at = np.arange(np.ceil(2 * low), 2 * high + 0.5) / 2.0
            state = bound.state(q.sample(at[:-1], LEAVING, bound.driver_channels))
            assert state is not None
            mine = bound.systems[state]
            values = q.sample(at[:-1], LEAVING, mine.channels)
            np.testing.assert_allclose(values, np.repeat(mine.standard[:, None], len(at) - 1, axis=1), atol=1e-12)
            joints = q.joints()[1]
            if ease:
                self.assertLessEqual({f.key for f in find_all(q)}, {f.key for f in find_all(program)})
            for side, away in (
                (ARRIVING, np.arange(0.0, first + 0.5)), (LEAVING, np.arange(np.ceil(last) + (last == 204.0), 205.0)),
            ):  # fmt: skip
                if first == 0.0 and side == ARRIVING:
                    continue
                a, b = (p.evaluate(away, side).pos[:, joints] for p in (program, q))
                np.testing.assert_allclose(b, a, atol=1e-12)

    def test_across_changes_of_what_drives(self) -> None:
        """A part that several systems drive in the stretch is at rest in each, and what drives is as it was."""
        program = marl()
        for part in ("arm.L", "arm.R"):
            q = program.on(run(program, "reset", Asked((("marl", part),), 0.0, None)).take)
            bound, at = q.bound("marl", part), np.arange(0.0, 205.0)
            shares = q.sample(at, LEAVING, bound.driver_channels)
            np.testing.assert_array_equal(shares, program.sample(at, LEAVING, bound.driver_channels))
            driving = {bound.state(shares[:, [k]]) for k in range(len(at))}
            self.assertGreater(len(driving), 1)
            for mine in (bound.systems[name] for name in driving if name):
                values = q.sample(at, LEAVING, mine.channels)
                np.testing.assert_allclose(values, np.repeat(mine.standard[:, None], len(at), axis=1), atol=1e-12)

    def test_as_if_never_keyed(self) -> None:
        """From end to end no key of the part is left, within a stretch none but its edges; all else keeps every number."""
        program = marl()
        names, mine = program.channel_names(), set(program.bound("marl", "arm.L").own.values())
        own = {names[c] for c in mine}
        for first, last in ((0.0, None), (50.0, 90.0)):
            take = run(program, "reset", Asked((("marl", "arm.L"),), first, last, {"to": "nothing"})).take
            others = {n: c for n, c in take.curves.items() if n not in own}
            self.assertEqual(others, {n: c for n, c in program.take.curves.items() if n not in own})
            self.assertEqual(own & set(take.curves), set() if last is None else own & set(program.take.curves))
            if last is not None:
                q, inside = program.on(take), np.arange(first, last)
                for c in mine:
                    values = q.sample(inside, LEAVING, np.array([c]))
                    np.testing.assert_allclose(values, program.defaults[c], atol=1e-12)
                    self.assertTrue(
                        np.isin(
                            q.curve(c).times[(q.curve(c).times >= first) & (q.curve(c).times <= last)], [first, last]
                        ).all()
                    )
                for at, side in ((np.arange(0.0, first + 1.0), ARRIVING), (np.arange(last, 205.0), LEAVING)):
                    a, b = (p.evaluate(at, side).pos for p in (program, q))
                    np.testing.assert_allclose(b, a, atol=1e-12)
        with self.assertRaisesRegex(CoreError, "no keys from frame 0 to 204"):
            bare = program.on(program.take.with_curves({n: EMPTY for n in own}))
            run(bare, "reset", Asked((("marl", "arm.L"),), 0.0, None, {"to": "nothing"}))

    def test_what_can_not_be_is_told(self) -> None:
        with self.assertRaisesRegex(CoreError, "more than one frame"):
            run(marl(), "reset", Asked((("marl", "head"),), 20.0, 20.0))
        with self.assertRaisesRegex(CoreError, "at least one part"):
            run(marl(), "reset", Asked((), 20.0, 40.0))


class Thinning(unittest.TestCase):
    def test_keys_fall_and_joints_stay_within_the_tolerance(self) -> None:
        for seed in range(2 * DEPTH):
            rng = np.random.default_rng(seed)
            member = limb_member(rng)
            program = Program(scene(member), random_take(rng, (member,), spread=0.4, kinds=(SMOOTH,)))
            bound = next(b for b in program.bounds.values() if len(b.systems) > 1)
            names = program.channel_names()
            program = program.with_curves({names[bound.drivers[0][1]]: stepped((0, float(seed % 2)))})
            system = ("fk", "ik")[seed % 2]
            dense = program.on(
                run(program, "bake", Asked((bound.id,), 0.0, None, {"to": system, "keys": "every"})).take
            )
            locked = next(names[c] for c in bound.systems[system].channels if len(dense.curve(int(c))) > 40)
            kept = dense.take.curves[locked]
            marks = kept.marks.copy()
            marks[30, 3] = 1
            dense = dense.with_curves({locked: Curve(kept.numbers, marks)})
            asked = Asked((bound.id,), 0.0, None, {"tolerance": 0.5, "tolerance_turn": 0.25})
            if seed % 2 == 0:
                with self.assertRaisesRegex(CoreError, "locked"):
                    run(dense, "thin", asked)
                dense = dense.with_curves({locked: kept})
            else:
                dense = dense.with_curves({locked: kept})
            done = run(dense, "thin", asked)
            at = np.arange(0.0, 60.5, 0.5)
            joints = dense.joints()[1]
            a, b = (p.evaluate(at) for p in (dense, dense.on(done.take)))
            self.assertLess(np.linalg.norm(a.pos[:, joints] - b.pos[:, joints], axis=-1).max(), 5e-4 + 1e-9)
            self.assertLess(np.degrees(rotation_distance(a.rot[:, joints], b.rot[:, joints]).max()), 0.25 + 1e-6)
            count = [sum(len(p.curves[names[c]]) for c in bound.systems[system].channels if names[c] in p.curves)
                     for p in (dense.take, done.take)]  # fmt: skip
            self.assertLess(count[1], 0.5 * count[0])
            self.assertEqual(done.proof.operation, "thin")

    def test_a_capture_alone_has_nothing_to_thin(self) -> None:
        with self.assertRaisesRegex(CoreError, "bake it with few keys"):
            run(captured(), "thin", Asked((("body", "arm.L"),)))


class Spiking(unittest.TestCase):
    def test_spikes_of_a_capture_go_and_all_other_frames_stay(self) -> None:
        for seed in range(2 * DEPTH):
            rng = np.random.default_rng(seed)
            p = captured()
            c = p.take.captures["body"]
            member = p.scene.member("body")
            joint = p.bound("body", "arm.L").part.joints[1]
            k = member.skeleton.index[joint]
            turns = c.rotations.copy()
            frames = np.sort(rng.choice(np.arange(10, len(turns) - 10, 7), 4, replace=False))
            for f in frames:
                half = rng.normal(0.0, 0.15, 3)
                half *= max(1.0, 0.1 / np.linalg.norm(half))
                turns[f, k] = multiply(turns[f, k], np.append(half, 1.0) / np.sqrt(1.0 + half @ half))
            shaken = p.on(replace(p.take, captures={"body": Capture(c.offsets.copy(), turns, c.first, c.step)}))
            done = run(shaken, "smooth", Asked((("body", "arm.L"),), 0.0, None, {"what": "spikes", "stands": "goes"}))
            self.assertIn(f"{len(frames)} frames stood out", done.proof.notes[0])
            nodes = p.bound("body", "arm.L").nodes
            at = p.take.frames
            a, b = (x.evaluate(at).rot[:, nodes] for x in (p, shaken.on(done.take)))
            off = rotation_distance(a, b).max(axis=1)
            others = np.setdiff1d(np.arange(len(at)), frames)
            self.assertLess(off[others].max(), 1e-6)
            self.assertLess(np.degrees(off[frames].max()), 1.0)
        with self.assertRaisesRegex(CoreError, "no frame stands out"):
            run(captured(), "smooth", Asked((("body", "arm.L"),), 0.0, None, {"what": "spikes"}))


if __name__ == "__main__":
    unittest.main()
