"""Limbs too short for where they stand: the body gives way, no more than it must, gently, and nothing that stands moves."""

from __future__ import annotations

import unittest
from dataclasses import replace
from functools import cache

import numpy as np
from scipy.optimize import minimize

from tests.core.test_rolling_plant import SLIP, TURN
from yielding_tether.core.contacts import measure
from yielding_tether.core.curves import EMPTY, LINEAR, Key, put, sample, without
from yielding_tether.core.errors import CoreError
from yielding_tether.core.findings import find_all
from yielding_tether.core.giving_way import _projected
from yielding_tether.core.operations import Asked, Outcome, run
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Capture
from yielding_tether.core.transforms import Floats, inverse, multiply, rotate
from yielding_tether.demo.rough_crossing import Kind, crossing

from .test_findings import clean

LEGS = (("marl", "leg.L"), ("marl", "leg.R"))


def captured(program: Program, member: str) -> Capture:
    """What a member does, as a capture of its own."""
    bones = program.scene.member(member).skeleton
    poses = program.evaluate(program.take.frames)
    of = [program.nodes[member, j.name] for j in bones.joints]
    pos, rot = poses.pos[:, of], poses.rot[:, of]
    offsets, turns = pos.copy(), rot.copy()
    for k, up in enumerate(bones.parents):
        if up >= 0:
            offsets[:, k] = rotate(inverse(rot[:, up]), pos[:, k] - pos[:, up])
            turns[:, k] = multiply(inverse(rot[:, up]), rot[:, k])
    for f in range(1, len(turns)):
        turns[f] *= np.where((turns[f] * turns[f - 1]).sum(axis=1, keepdims=True) < 0.0, -1.0, 1.0)
    return Capture(offsets, turns)


@cache
def stretched(by: float) -> Program:
    """A capture whose hips rise so far over standing feet that these come off the deck a little: legs are straight there."""
    made = crossing(Kind(rate=30.0, noise=0.002, pace=2.0, seed=9))
    raw = Program(made.scene, made.take)
    planted = run(raw, "plant", Asked(LEGS, 0.0, None, {"each": "all"})).take
    frames = raw.take.frames
    rise = by * np.where((frames >= 40) & (frames < 120), np.sin(np.pi * (frames - 40) / 80) ** 2, 0.0)
    base = raw.take.captures["marl"]
    offsets = base.offsets.copy()
    offsets[:, 0, 1] += rise
    lifted = raw.on(replace(planted, captures={"marl": Capture(offsets, base.rotations, base.first, base.step)}))
    return raw.on(replace(made.take, captures={"marl": captured(lifted, "marl")}, contacts=planted.contacts))


def moved(before: Program, after: Program, joint: str, at: Floats) -> Floats:
    """(F,) how far a joint of Marl's has moved."""
    node = before.nodes["marl", joint]
    found: Floats = np.linalg.norm(after.evaluate(at).pos[:, node] - before.evaluate(at).pos[:, node], axis=1)
    return found


class Captured(unittest.TestCase):
    @staticmethod
    @cache
    def planted(gives: str) -> Outcome:
        return run(stretched(0.08), "plant", Asked(LEGS, 0.0, None, {"each": "all", "gives": gives}))

    def test_what_stands_stands_once_the_hips_give_way(self) -> None:
        told = " ".join(self.planted("nothing").proof.notes)
        self.assertIn("does not reach its place", told)
        outcome = self.planted("body")
        after = stretched(0.08).on(outcome.take)
        for contact in outcome.take.contacts:
            slip = measure(after, contact)
            self.assertLess(float(slip.place.max()), SLIP, contact.id)
            self.assertLess(float(slip.turn.max()), TURN, contact.id)
        self.assertNotIn("does not reach", " ".join(outcome.proof.notes))
        self.assertIn("gives way by", " ".join(outcome.proof.notes))

    def test_they_come_and_go_gently_and_nothing_jumps(self) -> None:
        outcome = self.planted("body")
        self.assertEqual([c.frame for c in outcome.proof.changes if not c.still], [])
        before, after = stretched(0.08), stretched(0.08).on(outcome.take)
        at = np.arange(0.0, before.take.last, 0.25)
        off = moved(before, after, "hips", at)
        self.assertGreater(off.max(), 0.01)
        # From nothing to the most of it within some frames, and never by more than its own share of that at once.
        self.assertLess(np.abs(np.diff(off)).max(), 0.12 * off.max())
        still = off < 1e-9
        self.assertTrue(still[:150].all() and still[-200:].all())
        # The arms go along: of them nothing is adjusted.
        np.testing.assert_allclose(moved(before, after, "head", at), off, atol=1e-9)

    def test_the_capture_stays_and_only_its_place_is_adjusted(self) -> None:
        outcome = self.planted("body")
        self.assertIs(outcome.take.captures["marl"], stretched(0.08).take.captures["marl"])
        new = {n for n in outcome.take.curves if n.startswith("marl/hips")} - stretched(0.08).take.curves.keys()
        self.assertEqual(new, {f"marl/hips.adjust.t{a}" for a in "xyz"})

    def test_where_all_reach_nothing_moves(self) -> None:
        outcome = run(stretched(0.0), "plant", Asked(LEGS, 0.0, None, {"each": "all"}))
        self.assertNotIn("gives way", " ".join(outcome.proof.notes))
        self.assertEqual([n for n in outcome.take.curves if n.startswith("marl/hips")], [])


class Keyed(unittest.TestCase):
    @staticmethod
    def risen(by: float) -> tuple[Program, str]:
        """A keyed take whose hips rise over its feet, and the channel that says so."""
        made = crossing(Kind(rate=30.0, noise=0.0, pace=2.0, seed=9))
        raw = Program(made.scene, made.take)
        parts = tuple(("marl", p) for p in ("hips", "leg.L", "leg.R"))
        keyed = run(raw, "bake", Asked(parts, 0.0, None, {"keys": "every", "follow": "deck/deck"})).take
        name = next(n for n in keyed.curves if n.startswith("marl/") and n.endswith(".ty") and "hips" in n)
        kept = keyed.curves[name]
        more = {t: by * np.sin(np.pi * (t - 40.0) / 60.0) ** 2 for t in kept.times.tolist() if 40.0 <= t <= 100.0}
        keys = [
            k._replace(arriving=k.arriving + more[k.time], leaving=k.leaving + more[k.time])
            for k in kept.all_keys() if k.time in more
        ]  # fmt: skip
        return raw.on(replace(keyed, curves={**keyed.curves, name: put(kept, keys)}, contacts=())), name

    def test_a_keyed_body_comes_down_to_where_its_foot_stands(self) -> None:
        """The hips of a keyed take rise over a foot that is held: they come back, and keep their keys elsewhere."""
        program, name = self.risen(0.12)
        done = run(program, "plant", Asked((("marl", "leg.R"),), 75.0, 96.0, {"on": "deck/deck"}))
        after = program.on(done.take)
        slip = measure(after, done.take.contacts[0])
        self.assertLess(float(slip.place.max()), SLIP)
        self.assertIn("gives way", " ".join(done.proof.notes))
        self.assertTrue(done.proof.unchanged_outside)
        old = {k.time: k for k in program.take.curves[name].all_keys()}
        new = {k.time: k for k in after.take.curves.get(name, EMPTY).all_keys()}
        self.assertEqual(old.keys() - new.keys(), set())
        self.assertEqual([t for t in old if t < done.proof.first - 1 and old[t] != new[t]], list[Key]())

    def test_what_is_too_far_is_told_and_nothing_gives_way(self) -> None:
        program, name = self.risen(0.7)
        done = run(program, "plant", Asked((("marl", "leg.R"),), 75.0, 96.0, {"on": "deck/deck"}))
        self.assertIn("does not reach", " ".join(done.proof.notes))
        self.assertNotIn("gives way", " ".join(done.proof.notes))
        self.assertEqual(done.take.curves[name], program.take.curves[name])


class Projections(unittest.TestCase):
    def test_the_shift_is_the_shortest_into_all_balls(self) -> None:
        """Against a general solver, on random balls that meet."""
        rng = np.random.default_rng(3)
        for _ in range(30):
            goal = rng.normal(0.0, 0.2, 3)
            centres = goal + rng.normal(0.0, 0.5, (3, 1, 3))
            radii = np.linalg.norm(centres - goal, axis=2) + rng.uniform(0.0, 0.1, (3, 1))
            found = _projected(np.zeros((1, 3)), centres, radii, np.ones((3, 1), dtype=bool))[0]
            self.assertLess((np.linalg.norm(found - centres[:, 0], axis=1) - radii[:, 0]).max(), 2e-3)

            def inside(x: Floats, centres: Floats = centres, radii: Floats = radii) -> Floats:
                found: Floats = radii[:, 0] - np.linalg.norm(x - centres[:, 0], axis=1)
                return found

            bounds = {"type": "ineq", "fun": inside}
            best = minimize(lambda x: x @ x, goal, constraints=bounds, method="SLSQP", options={"ftol": 1e-12})
            self.assertLess(np.linalg.norm(found), np.sqrt(best.fun) + 2e-3)


class Locking(unittest.TestCase):
    def test_a_knee_that_snaps_straight_while_its_foot_stands_is_found(self) -> None:
        program = clean(0)
        hips = program.curve(program.channels["marl/hips.ty"])
        knee = [program.nodes["marl", j] for j in ("thigh.L", "shin.L", "foot.L")]

        def raised(by: float, over: float) -> Program:
            """Hips that go up between frames 150 and 150 + over, and stay up for ten frames."""
            at = [140.0, 150.0, 150.0 + over, 160.0 + over, 175.0 + over]
            values = [float(x) for x in sample(hips, at)]
            keys = [
                Key(t, v + d, v + d, kind=LINEAR) for t, v, d in zip(at, values, (0.0, 0.0, by, by, 0.0), strict=True)
            ]
            return program.with_curves({"marl/hips.ty": put(without(hips, 140.0, 175.0 + over), keys)})

        def bends(p: Program) -> Floats:
            pos = p.evaluate(np.arange(140.0, 200.0)).pos[:, knee]
            a, b = (
                x / np.linalg.norm(x, axis=1, keepdims=True) for x in (pos[:, 1] - pos[:, 0], pos[:, 2] - pos[:, 1])
            )
            return np.degrees(np.arccos(np.clip(np.sum(a * b, axis=1), -1.0, 1.0)))

        # Just so high that the left leg is all but straight, and not farther.
        low, high = 0.0, 0.3
        for _ in range(40):
            by = 0.5 * (low + high)
            low, high = (by, high) if bends(raised(by, 2.0)).min() > 2.0 else (low, by)
        for over, told in ((2.0, True), (20.0, False)):
            made = raised(low, over)
            self.assertLess(bends(made).min(), 5.0)
            found = [f for f in find_all(made) if f.kind == "locks" and f.part == "leg.L"]
            self.assertEqual(len(found), int(told), over)
            if told:
                change = np.abs(np.diff(bends(made)))
                self.assertAlmostEqual(np.degrees(found[0].turn), change.max(), places=6)
                self.assertGreater(change.max(), 5.0)
                with self.assertRaisesRegex(CoreError, "lower the body"):
                    run(made, "repair", Asked(findings=(found[0].key,)))
        # A hair lower it does not lock.
        self.assertEqual([f for f in find_all(raised(low - 0.01, 2.0)) if f.kind == "locks"], [])


if __name__ == "__main__":
    unittest.main()
