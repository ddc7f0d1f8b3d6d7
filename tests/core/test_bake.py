"""Bakes of a capture and of keyed parts: within the tolerance at frames and half-frames, few keys, the animator's own stay."""

from __future__ import annotations

import unittest
from dataclasses import replace
from functools import cache
from itertools import pairwise, product
from unittest.mock import patch

import numpy as np
from scipy.interpolate import CubicHermiteSpline

from yielding_tether.core import express, few_keys
from yielding_tether.core.contact_finding import find
from yielding_tether.core.curves import ARRIVING, FREE, LEAVING, SMOOTH, Curve, Key, curve, insert, put
from yielding_tether.core.errors import CoreError
from yielding_tether.core.few_keys import BENDS, thinned
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations import OPERATIONS, Asked, bake, run
from yielding_tether.core.operations.bake import Bake, apply
from yielding_tether.core.operations.handover import Handover
from yielding_tether.core.operations.handover import apply as handover
from yielding_tether.core.program import Program
from yielding_tether.core.takes import WORLD, Contact, Scene
from yielding_tether.core.transforms import Floats, rotation_distance
from yielding_tether.demo import named
from yielding_tether.demo.cast_off import cast_off
from yielding_tether.demo.lantern_round import lantern_round
from yielding_tether.demo.rough_crossing import Kind
from yielding_tether.demo.rough_crossing import crossing as rough
from yielding_tether.formats import bvh

from ..depth import DEPTH
from .contract import kinds, programs
from .test_findings import clean
from .test_handover import captured, demo

#: Four limbs, spine and root of a captured body.
BODY = ("root", "spine", "arm.L", "arm.R", "leg.L", "leg.R")


@cache
def crossing() -> Program:
    """The demo's motion as a capture of a bare skeleton."""
    read = bvh.read(bvh.write(demo(), "marl", 0, 120), "body", "crossing")
    return Program(Scene("crossing", (read.member,)), read.take)


def off(before: Program, after: Program, first: float, last: float) -> tuple[Floats, Floats, Floats]:
    """Metres and radians by which joints differ at every frame and half-frame: times, place, turn."""
    at = np.arange(2 * first, 2 * last + 1) / 2.0
    a, b = (p.evaluate(at) for p in (before, after))
    x, y = before.joints()[1], after.joints()[1]
    place = np.linalg.norm(a.pos[:, x] - b.pos[:, y], axis=-1).max(axis=1)
    return at, place, rotation_distance(a.rot[:, x], b.rot[:, y]).max(axis=1)


def keys_of(program: Program, part: tuple[str, str], first: float, last: float) -> dict[str, list[Key]]:
    bound = program.bounds[part]
    names = program.channel_names()
    return {
        names[c]: [k for k in program.curve(c).all_keys() if first <= k.time <= last]
        for s in bound.keyed_systems for c in bound.systems[s].channels
    }  # fmt: skip


class Fewest(unittest.TestCase):
    """The choice of keys against a plain search over every set of key times."""

    def test_no_fewer_keys_would_do(self) -> None:
        rng = np.random.default_rng(1)
        for _ in range(12):
            count = 9
            times = np.arange(float(count))
            values, slopes = rng.normal(size=count).cumsum(), rng.normal(size=count)
            true = CubicHermiteSpline(times, values, slopes)
            middles = true(times[:-1] + 0.5)
            dense = curve([Key(t, v, v, s, s, SMOOTH, FREE) for t, v, s in zip(times, values, slopes, strict=True)])
            tolerance = np.full(count, 0.8)
            found = thinned(dense, middles, np.zeros(count, dtype=bool), tolerance, (0.0,))
            self.assertEqual(len(found), self.best(times, values, slopes, middles, 0.8))
            for k, t in enumerate(times):
                self.assertLessEqual(abs(self.at(found, t) - values[k]), 0.8 + 1e-12)
            bent = thinned(dense, middles, np.zeros(count, dtype=bool), tolerance)
            self.assertLessEqual(len(bent), len(found))

    def test_it_stays_within_the_tolerance_halfway_between_all_times_too(self) -> None:
        """Also right beside a key, where a motion may turn over between two frames."""
        rng = np.random.default_rng(7)
        for _ in range(40):
            count = 30
            times = np.arange(float(count))
            values = rng.normal(size=count).cumsum() * 0.2
            true = CubicHermiteSpline(times, values, rng.normal(size=count))
            middles = true(times[:-1] + 0.5)
            dense = curve(
                [Key(t, v, v, s, s, SMOOTH, FREE) for t, v, s in zip(times, values, true(times, 1), strict=True)]
            )
            for bends in ((0.0,), (0.0, -0.5, 0.5)):
                found = thinned(dense, middles, np.zeros(count, dtype=bool), np.full(count, 0.4), bends)
                self.assertLess(len(found), count)
                self.assertLessEqual(np.abs(self.at(found, times[:-1] + 0.5) - middles).max(), 0.4 + 1e-12)

    def test_no_other_slopes_would_do_with_fewer(self) -> None:
        rng = np.random.default_rng(2)
        bends = (0.0, -0.5, 0.5)
        fewer = 0
        for n in range(10):
            count = 5
            times = np.arange(float(count))
            values, slopes = rng.normal(size=count).cumsum(), rng.normal(size=count)
            middles = CubicHermiteSpline(times, values, slopes)(times[:-1] + 0.5)
            dense = curve([Key(t, v, v, s, s, SMOOTH, FREE) for t, v, s in zip(times, values, slopes, strict=True)])
            size = (0.4, 0.8)[n % 2]
            found = thinned(dense, middles, np.zeros(count, dtype=bool), np.full(count, size), bends)
            least = min(
                self.best(times, values, slopes + size * np.array(more), middles, size)
                for more in ((0.0, *inner, 0.0) for inner in product(bends, repeat=count - 2))
            )
            # At both ends it meets what lies outside with the slope that it had.
            np.testing.assert_array_equal(found.numbers[[0, -1], 3:], dense.numbers[[0, -1], 3:])
            self.assertEqual(len(found), least)
            fewer += least < self.best(times, values, slopes, middles, size)
        self.assertGreater(fewer, 0)

    def test_with_slopes_chosen_it_takes_an_eighth_fewer_and_more(self) -> None:
        """D2: against the optimum with the motion's own slopes, each channel with key times of its own."""
        rng = np.random.default_rng(4)
        own = bent = 0
        for _ in range(12):
            at = np.arange(0.0, 300.5, 0.5)
            waves = rng.uniform(0.02, 0.35, 9)
            motion = np.sum(
                [np.sin(w * at + p) / (30.0 * w) for w, p in zip(waves, rng.uniform(0, 6, 9), strict=True)], axis=0
            )
            motion += rng.normal(size=len(at)) * 2e-4
            whole = motion[::2]
            slopes = np.gradient(whole)
            dense = curve(
                [Key(float(t), v, v, s, s, SMOOTH, FREE) for t, (v, s) in enumerate(zip(whole, slopes, strict=True))]
            )
            allowed = np.full(len(whole), np.radians(0.25))
            counts = [
                len(thinned(dense, motion[1::2], np.zeros(len(whole), dtype=bool), allowed, *bends))
                for bends in (((0.0,),), ())
            ]
            own, bent = own + counts[0], bent + counts[1]
        self.assertLessEqual(bent, 0.85 * own)

    def at(self, c: Curve, t: float | Floats) -> Floats:
        k = c.numbers
        spline = CubicHermiteSpline(k[:, 0], k[:, 1], k[:, 3])
        return np.asarray(spline(t))

    def best(self, times: Floats, values: Floats, slopes: Floats, middles: Floats, tolerance: float) -> int:
        least = len(times)
        for chosen in range(1 << (len(times) - 2)):
            picked = [0, *(k + 1 for k in range(len(times) - 2) if chosen >> k & 1), len(times) - 1]
            if len(picked) >= least:
                continue
            made = CubicHermiteSpline(times[picked], values[picked], slopes[picked])
            fine = True
            for a, b in pairwise(picked):
                if b - a > 1:
                    inner = np.concatenate(
                        [made(times[a + 1 : b]) - values[a + 1 : b], made(times[a:b] + 0.5) - middles[a:b]]
                    )
                    fine &= bool(np.abs(inner).max() <= tolerance)
            if fine:
                least = len(picked)
        return least


class OfACapture(unittest.TestCase):
    def test_a_whole_body_with_few_keys(self) -> None:
        program = crossing()
        parts = tuple(("body", p) for p in BODY)
        take, proof = apply(program, Bake(parts, "", 0.0))
        after = program.on(take)
        _, place, turn = off(program, after, 0.0, 120.0)
        self.assertLessEqual(float(place.max()), 1e-3)
        self.assertLessEqual(float(turn.max()), np.radians(0.5))
        self.assertTrue(proof.within)
        self.assertAlmostEqual(proof.departure_place.value, float(place.max()), places=9)
        every, _ = apply(program, Bake(parts, "", 0.0, keys="every"))
        few, all_ = (sum(len(c) for c in t.curves.values()) for t in (take, every))
        self.assertLess(few, 0.25 * all_)
        self.assertIs(take.captures["body"], program.take.captures["body"])
        # The legs hold with less than a tenth of the keys.
        for part in ("leg.L", "leg.R", "root"):
            kept = keys_of(after, ("body", part), 0.0, 120.0)
            self.assertLess(np.mean([len(k) for k in kept.values() if k]), 20.0, part)

    def test_what_channels_held_tight_together_can_spare_goes(self) -> None:
        """An arm that is all but straight: a fifth fewer keys, the joints as near, key times of before where they were. And of the
        limbs together no more than 0.85 of what the motion's own slopes take."""
        program = crossing()
        arm, counts = Bake((("body", "arm.R"),), "ik", 0.0), {}
        parts = tuple(("body", p) for p in BODY)
        whole = Bake(parts, "", 0.0)
        for name, asked, bends, spares in (
            ("now", arm, BENDS, True), ("none", arm, BENDS, False), ("all", whole, BENDS, True), ("own", whole, BENDS[:1], False),
        ):  # fmt: skip
            spared = few_keys._without_spare if spares else lambda curves, *_: curves
            with patch.multiple(few_keys, BENDS=bends, _without_spare=spared):
                take, proof = apply(program, asked)
            counts[name] = proof.keys.added
            _, place, turn = off(program, program.on(take), 0.0, 120.0)
            self.assertLessEqual(float(place.max()), 1e-3)
            self.assertLessEqual(float(turn.max()), np.radians(0.5))
        self.assertLess(counts["now"], 0.8 * counts["none"])
        self.assertLessEqual(counts["all"], 0.85 * counts["own"])

    def test_a_key_on_every_nth_frame(self) -> None:
        program = crossing()
        asked = Asked((("body", "leg.L"),), 3.0, 91.0, {"keys": "every", "nth": 8})
        after = program.on(run(program, "bake", asked).take)
        kept = {n: [k.time for k in ks] for n, ks in keys_of(after, ("body", "leg.L"), 3.0, 91.0).items()}
        wanted = [*np.arange(3.0, 91.0, 8.0), 91.0]
        self.assertEqual({t for times in kept.values() for t in times} - {*wanted}, set())
        self.assertGreaterEqual(sum(set(times) == {*wanted} for times in kept.values()), 6)
        nodes = after.bound("body", "leg.L").nodes
        a, b = (p.evaluate(wanted[:-1]).pos[:, nodes] for p in (program, after))
        self.assertLess(float(np.abs(a - b).max()), 1e-9)

    def test_from_the_last_frame_on_every_part_is_handed_over(self) -> None:
        """Nothing lies between the change and the end of the take; the pose there stays, and what comes before it to the bit."""
        program = crossing()
        last = float(program.take.last)
        at = np.arange(0.0, last + 0.25, 0.5)
        nodes = program.joints(["body"])[1]
        was = program.evaluate(at)
        for keys in ("kept", "every"):
            for bound in program.bounds.values():
                take, _ = handover(program, Handover((bound.id,), bound.keyed_systems[-1], last, keys=keys))  # type: ignore[arg-type]
                now = program.on(take).evaluate(at)
                np.testing.assert_array_equal(now.pos[:-1, nodes], was.pos[:-1, nodes], str(bound.id))
                np.testing.assert_allclose(now.pos[-1, nodes], was.pos[-1, nodes], atol=1e-6, err_msg=str(bound.id))

    def test_every_part_of_a_body_fingers_too_stays_within_the_tolerance(self) -> None:
        """A hand begins with every finger, and FK can't take back what the arm below it used up."""
        capture, keyed = crossing(), Program(*cast_off())
        for program, member, to, last in (
            (capture, "body", "", None),
            (keyed, "marl", "fk", 70.0),
            (keyed, "marl", "", None),
        ):
            with self.subTest(member=member, to=to):
                parts = tuple(
                    b.id for b in program.bounds.values() if b.member.id == member and (not to or to in b.systems)
                )
                take, proof = apply(program, Bake(parts, to, 0.0, last))
                _, place, turn = off(program, program.on(take), 0.0, float(program.take.last))
                self.assertLessEqual(float(place.max()), 1e-3)
                self.assertLessEqual(float(turn.max()), np.radians(0.5))
                self.assertTrue(proof.within, proof.sentence)
                if member == "marl":
                    continue
                every, _ = apply(program, Bake(parts, to, 0.0, keys="every"))
                few, all_ = (sum(len(c) for c in t.curves.values()) for t in (take, every))
                self.assertLess(few, 0.3 * all_)

    def test_fingers_are_baked_in_their_hand_where_that_is_baked_too(self) -> None:
        """Fewer keys of both than to take back at every finger what the hand was turned by, all joints as near; and with
        all of the tolerance where nothing below the hand is baked."""
        program, hand, arm = captured(), ("body", "arm.R.tip"), ("body", "arm.R")
        counts, alone = {}, {}
        for name, short in (("in the hand", bake._short), ("taken back", lambda *_: False)):
            with patch.object(bake, "_short", short):
                for parts, found in (((arm, hand), counts), ((hand,), alone)):
                    take, proof = apply(program, Bake(parts, "fk", 0.0))
                    _, place, turn = off(program, program.on(take), 0.0, 204.0)
                    self.assertLessEqual(float(place.max()), 1e-3)
                    self.assertLessEqual(float(turn.max()), np.radians(0.5))
                    self.assertTrue(proof.within)
                    found[name] = proof.keys.added
        self.assertLess(counts["in the hand"], 0.95 * counts["taken back"])
        self.assertEqual(*alone.values())

    def test_what_slips_as_it_is_slips_no_more(self) -> None:
        """A contact that nobody planted holds nothing still; yet a tolerance of two millimetres is no leave to slip by them."""
        made = rough(Kind(rate=30, seed=5))
        program = Program(made.scene, made.take)
        every = tuple(b.id for b in program.bounds.values() if b.captured)
        program = program.on(
            replace(made.take, contacts=tuple(find(program, [b for b in every if program.bounds[b].part.touches])))
        )
        _, proof = apply(program, Bake(every, "", 0.0, tolerance=(2e-3, 0.02)))
        self.assertGreater(max(c.place_before for c in proof.contacts), 2e-4)
        for c in proof.contacts:
            self.assertLessEqual(c.place, max(c.place_before, 1e-4) + 1e-4, c)

    def test_what_holds_costs_no_more_keys_where_all_else_may_stray_farther(self) -> None:
        """A hand on the rail, baked joint by joint: how far its arm may stray there, the hold says and no tolerance."""
        program, added = Program(*cast_off()), []
        for times in (0.5, 4.0):
            asked = Bake((("marl", "arm.R"),), "fk", 20.0, tolerance=(times * 1e-3, np.radians(0.5 * times)))
            added.append(apply(program, asked)[1].keys.added)
        self.assertLessEqual(added[1], 1.05 * added[0])

    def test_keys_that_do_not_count_are_not_kept_for_a_side_that_nothing_follows(self) -> None:
        """What a channel moves is told to both sides: a straight arm follows its control to one side alone."""
        program = crossing()
        reaches = express._reaches
        with patch.object(express, "_reaches", lambda *a: reaches(*a)[:1] * 2):
            blind, _ = apply(program, Bake((("body", "arm.R"),), "ik", 0.0))
        take, proof = apply(program, Bake((("body", "arm.R"),), "ik", 0.0))
        self.assertTrue(proof.within)
        self.assertLess(*(sum(len(c) for c in t.curves.values()) for t in (take, blind)))

    def test_more_tolerance_takes_fewer_keys(self) -> None:
        """Of place, of turn, or of both, for a whole body with fingers that move: each time fewer, each time within it."""
        program = captured()
        every = tuple(b.id for b in program.bounds.values() if b.captured)
        added = []
        for place, turn in ((1e-3, 0.5), (1e-3, 3.0), (4e-3, 3.0)):
            take, proof = apply(program, Bake(every, "", 20.0, 90.0, tolerance=(place, np.radians(turn))))
            _, off_place, off_turn = off(program, program.on(take), 20.0, 89.0)
            self.assertLessEqual(float(off_place.max()), place)
            self.assertLessEqual(float(off_turn.max()), np.radians(turn))
            added.append(proof.keys.added)
        self.assertGreater(added[0], 1.02 * added[1])
        self.assertGreater(added[1], 1.02 * added[2])

    def test_what_stands_is_baked_by_its_end_and_what_swings_free_by_its_joints(self) -> None:
        program = crossing()
        parts = tuple(("body", p) for p in ("arm.L", "arm.R", "leg.L"))
        contacts = (
            Contact("body", "foot.L", WORLD, WORLD, 10.0, 20.0), Contact("body", "hand.R", WORLD, WORLD, 70.0, 90.0),
        )  # fmt: skip
        # Nobody has looked for any yet: all of them might. A foot that stands again within a second stands all along.
        again = Contact("body", "foot.L", WORLD, WORLD, 40.0, 52.0)
        for found, want in (
            ((), ("ik ik ik", "ik ik ik")), (contacts, ("fk fk ik", "fk fk fk")), ((*contacts, again), ("fk fk ik", "fk fk ik")),
        ):  # fmt: skip
            before = program.on(replace(program.take, contacts=found))
            take, proof = apply(before, Bake(parts, "", 0.0, 60.0))
            after = before.on(take)
            for frame, states in zip((15.0, 36.0), want, strict=True):
                drives = [after.bound(*p) for p in parts]
                self.assertEqual(
                    [b.state(after.sample([frame], LEAVING, b.driver_channels)) for b in drives], states.split()
                )
            # Nothing is seen of where one system hands over to the other.
            self.assertTrue(proof.within, proof.sentence)
            self.assertLessEqual(float(off(before, after, 0.0, 59.5)[1].max()), 1e-3)
            sides = [after.evaluate([20.0], side).pos[:, after.joints()[1]] for side in (ARRIVING, LEAVING)]
            self.assertLess(float(np.abs(sides[0] - sides[1]).max()), 1e-9)

    def test_to_a_system_that_follows_something_else(self) -> None:
        program = crossing()
        for first, last in ((0.0, None), (20.0, 70.0)):
            take, proof = apply(program, Bake((("body", "arm.L"),), "ik", first, last, follow="body/chest"))
            self.assertTrue(proof.within, proof.sentence)
            self.assertTrue(proof.unchanged_outside)
            after = program.on(take)
            end = 120.0 if last is None else last
            _, place, turn = off(program, after, first, end)
            self.assertLessEqual(float(place.max()), 1e-3)
            self.assertLessEqual(float(turn.max()), np.radians(0.5))
            self.assertIn(("arm.L.ik", "body", "chest"), [(t.control, t.anchor_member, t.anchor) for t in take.tethers])
            # It follows: moving the chest moves the hand within the stretch, and nowhere else.
            chest = after.bound("body", "spine")
            turned = {c: 0.2 for c in chest.drive_to("fk")} | {int(chest.systems["fk"].channels[-1]): 0.3}
            hand = after.nodes["body", "hand.L"]
            at = np.array([first + 5.0, end - 5.0])
            moved = after.evaluate(at, overrides=turned).pos[:, hand] - after.evaluate(at).pos[:, hand]
            self.assertGreater(float(np.linalg.norm(moved, axis=1).min()), 1e-2)
        with self.assertRaisesRegex(CoreError, "can be followed"):
            apply(program, Bake((("body", "arm.L"),), "ik", 0.0, 60.0, follow="moon"))
        with self.assertRaisesRegex(CoreError, "loop"):
            apply(program, Bake((("body", "arm.L"),), "ik", 0.0, 60.0, follow="body/hand.L"))

    def test_every_frame_is_exact_on_frames(self) -> None:
        program = crossing()
        take, proof = apply(program, Bake((("body", "leg.L"), ("body", "spine")), "", 10.0, 60.0, "every"))
        at, place, turn = off(program, program.on(take), 0.0, 120.0)
        whole = at == np.round(at)
        self.assertLess(float(place[whole].max()), 1e-6)
        self.assertLess(float(turn[whole].max()), 1e-6)
        outside = (at < 10.0) | (at >= 60.0)
        self.assertLess(float(place[outside].max()), 1e-9)
        self.assertTrue(proof.unchanged_outside)
        self.assertEqual([f for f in find_all(program.on(take)) if f.kind != "speed"], [])

    def test_baked_twice_it_has_the_keys_that_it_had(self) -> None:
        leg = Bake((("body", "leg.L"),), "ik", 0.0)
        once, _ = apply(crossing(), leg)
        twice, proof = apply(crossing().on(once), leg)
        for name, kept in once.curves.items():
            self.assertEqual(kept.times.tolist(), twice.curves[name].times.tolist(), name)
        self.assertLess(proof.departure_place.value, 1e-6)

    def test_a_larger_tolerance_needs_fewer_keys(self) -> None:
        program = crossing()
        counts = []
        for tolerance in ((5e-4, 0.004), (2e-3, 0.015), (1e-2, 0.08)):
            take, _ = apply(program, Bake((("body", "leg.L"),), "ik", 0.0, tolerance=tolerance))
            _, place, turn = off(program, program.on(take), 0.0, 120.0)
            self.assertLessEqual(float(place.max()), tolerance[0])
            self.assertLessEqual(float(turn.max()), tolerance[1])
            counts.append(sum(len(c) for c in take.curves.values()))
        self.assertGreater(counts[0], counts[1])
        self.assertGreater(counts[1], counts[2])


class OfKeys(unittest.TestCase):
    def test_any_part_keyed_or_captured_stays_within_the_tolerance(self) -> None:
        held = 0
        for kind in kinds():
            for seed in range(DEPTH):
                for program, bound in programs(seed, kind):
                    with self.subTest(kind=kind, seed=seed, captured=bound.captured):
                        take, proof = apply(program, Bake((bound.id,), "", 5.0, 50.0))
                        at, place, turn = off(program, program.on(take), 0.0, 60.0)
                        fine = place.max() <= 1e-3 + 1e-9 and turn.max() <= np.radians(0.5) + 1e-9
                        self.assertEqual(fine, proof.within, proof.sentence)
                        # What passes through straight or its full fold between two frames may not be held by keys on half-frames.
                        self.assertTrue(fine or "no finite slope" in proof.sentence, proof.sentence)
                        held += fine
                        outside = (at < 5.0) | (at >= 50.0)
                        self.assertLess(float(place[outside].max()), 1e-9)
                        self.assertTrue(proof.unchanged_outside)
        self.assertGreaterEqual(held, 2 * DEPTH * len(kinds()) - 1)

    def test_where_a_limb_is_straight_on_a_frame_its_elbow_does_not_jump(self) -> None:
        """Its bend changes sides at that frame, between which nothing is to be looked for."""
        kind = Kind(pace=2.498538823485906, rate=50.0, noise=0.0, seed=387)
        walk = rough(kind)
        program = Program(walk.scene, walk.take)
        parts = tuple(("marl", part) for part in ("hips", "spine", "arm.R", "arm.twist.R"))
        take, proof = apply(program, Bake(parts, "", 81.0, 131.0))
        after = program.on(take)
        bend = take.curves["marl/arm.R.ik.bend"]
        self.assertGreater(np.abs(np.diff(bend.numbers[:, 2])).max(), 0.0)
        at, nodes = bend.times, after.joints(["marl"])[1]
        sides = [after.evaluate(at, side).pos[:, nodes] for side in (ARRIVING, LEAVING)]
        self.assertLess(float(np.abs(sides[0] - sides[1]).max()), 1e-6)
        self.assertTrue(proof.within)

    def test_an_arm_that_swings_straight_bends_to_one_side(self) -> None:
        """The sign of a bend is noise while a limb is straight: it does not step there."""
        program = demo()
        arm = ("marl", "arm.R")
        for keys in ("few", "every", "kept"):
            take, _ = apply(program, Bake((arm,), "ik", 0.0, 100.0, keys=keys))  # type: ignore[arg-type]
            after = program.on(take)
            bound = after.bounds[arm]
            for c in bound.systems["ik"].channels[bound.systems["ik"].stepped]:
                numbers = after.curve(int(c)).numbers
                self.assertEqual(int(np.count_nonzero(numbers[:, 1] * numbers[:, 2] < 0.0)), 0, keys)
            times = np.unique(after.key_times())
            times = times[(times > 0.0) & (times < 100.0)]
            one, other = (after.evaluate(times, side) for side in (0, 1))
            nodes = bound.nodes
            self.assertLess(float(np.abs(one.pos[:, nodes] - other.pos[:, nodes]).max()), 1e-6, keys)

    def test_what_a_hand_holds_stays_within_the_tolerance(self) -> None:
        program = Program(*lantern_round())
        parts = tuple(b.id for b in program.bounds.values() if b.member.id == "marl" and "ik" in b.systems)
        take, proof = apply(program, Bake(parts, "ik", 20.0, 150.0))
        _, place, turn = off(program, program.on(take), 0.0, float(program.take.last))
        self.assertLessEqual(float(place.max()), 1e-3)
        self.assertLessEqual(float(turn.max()), np.radians(0.5))
        self.assertTrue(proof.within, proof.sentence)

    def test_the_animators_keys_stay_with_their_kinds_and_locks(self) -> None:
        program = demo()
        part = ("marl", "arm.R")
        names = program.channel_names()
        own = [names[c] for c in program.bounds[part].systems["ik"].channels]
        name = own[0]
        kept = insert(program.take.curves[name], 60.0, 0.0)
        locked = program.with_curves({name: put(kept, [kept.key(kept.find(60.0) or 0)._replace(lock=1)])})
        with self.assertRaisesRegex(CoreError, "locked: unlock it"):
            apply(locked, Bake((part,), "ik", 50.0, 70.0))
        take, _ = apply(locked, Bake((part,), "ik", 70.0, 100.0))
        mine, was = (t.curves[name] for t in (take, locked.take))
        self.assertEqual(mine.key(mine.find(60.0) or 0), was.key(was.find(60.0) or 0))
        for n in own:
            times = program.take.curves.get(n)
            if times is None:
                continue
            inside = [t for t in times.times.tolist() if 70.0 <= t <= 100.0]
            self.assertLessEqual(set(inside), set(take.curves[n].times.tolist()), n)

    def test_what_was_baked_over_a_range_is_no_finding(self) -> None:
        program = clean(0)
        for keys in ("few", "every"):
            take, proof = apply(program, Bake((("marl", "arm.R"),), "fk", 130.0, 170.0, keys=keys))  # type: ignore[arg-type]
            after = program.on(take)
            self.assertEqual([f for f in find_all(after) if f.part == "arm.R"], [])
            self.assertTrue(proof.clean, proof.sentence)
            # The idle system keeps its keys, with one at each change so that it can take over there.
            bound = after.bounds["marl", "arm.R"]
            for c in bound.systems["ik"].channels:
                before, now = (set(p.curve(int(c)).times.tolist()) for p in (program, after))
                self.assertEqual(now - before - {130.0, 170.0}, set())
                self.assertLessEqual({130.0, 170.0}, now)

    def test_the_system_that_has_keys_is_suggested(self) -> None:
        program = clean(0)
        bake = OPERATIONS["bake"]
        self.assertEqual(bake.suggest(program, (("marl", "arm.R"),), 20.0, 40.0, {}), {"to": "fk"})
        self.assertEqual(bake.suggest(program, (("marl", "arm.R"),), 130.0, 170.0, {}), {"to": "ik"})
        self.assertEqual(bake.suggest(crossing(), (("body", "arm.R"),), 20.0, 40.0, {}), {"to": "ik"})
        self.assertEqual(bake.suggest(program, (), 20.0, 40.0, {}), {})

    def test_what_cannot_be_done_says_so(self) -> None:
        program = crossing()
        leg = (("body", "leg.L"),)
        for asked, words in (
            (Bake(leg, "captured", 0.0, 50.0), "can't be baked to 'captured': its keys are in FK, IK"),
            (Bake(leg, "ik", 9.0, 9.0), "last frame after its first"),
            (Bake(leg, "ik", 9.0, 500.0), "runs from 0 to 120"),
            (Bake((), "ik", 9.0, 50.0), "at least one part"),
            (replace(Bake(leg, "ik", 9.0, 50.0), tolerance=(0.0, 1.0)), "above zero"),
        ):
            with self.assertRaisesRegex(CoreError, words):
                apply(program, asked)
        outcome = run(program, "bake", Asked(leg, 10.0, 50.0, {"tolerance": 2.0}))
        self.assertEqual(outcome.label, "Bake left leg, frames 10 to 50")


#: Sixty frames of six takes: keys that handovers of parts to their other system, and follows from there on, added within 1 mm and
#: 0.5 degrees while they were inserted where it strays most, before any were chosen. First the frame at which they begin.
INSERTED: dict[str, tuple[int, dict[str, int]]] = {
    "Cast off": (30, {
        "marl/spine": 462, "marl/head": 317, "marl/leg.L": 388, "marl/arm.R": 1000,
        "marl/arm.L>marl/chest": 89, "rope/rope>world": 272,
    }),
    "Lantern round": (10, {
        "marl/spine": 280, "marl/head": 218, "marl/leg.L": 232, "marl/arm.R": 316,
        "marl/arm.R>world": 356, "lantern/lantern>marl/chest": 160,
    }),
    "Crate and rope": (10, {
        "marl/spine": 412, "marl/head": 308, "marl/leg.L": 340, "marl/arm.R": 641,
        "marl/arm.R>world": 245, "crate/crate>marl/chest": 276,
    }),
    "Ladder": (20, {
        "marl/spine": 727, "marl/head": 506, "marl/leg.L": 664, "marl/arm.R": 976,
        "marl/arm.L>marl/chest": 314, "marl/hips>world": 104,
    }),
    "Hauling in": (30, {
        "marl/spine": 566, "marl/head": 423, "marl/leg.L": 592, "marl/arm.R": 856,
        "marl/arm.L>world": 276, "line/far>world": 114,
    }),
    "Brindle's trot": (20, {
        "brindle/head": 461,
        "brindle/hindleg.L": 466, "brindle/foreleg.R": 440, "brindle/foreleg.L>world": 161,
        "brindle/hindleg.R>world": 161,
    }),
}  # fmt: skip


class Counts(unittest.TestCase):
    def off(self, before: Program, after: Program, part: tuple[str, str], first: float) -> float:
        """How far a part's joints are from where they were, at quarter-frames, in what they may be at frames."""
        at = np.arange(4.0 * first, 4.0 * first + 240.0) / 4.0
        one, two = (p.track(at, LEAVING, p.bound(*part).nodes) for p in (before, after))
        turned = rotation_distance(one[1], two[1]).max() / np.radians(0.5)
        return max(float(np.linalg.norm(one[0] - two[0], axis=-1).max()) / 1e-3, float(turned))

    def test_few_keys_are_half_of_those_inserted_where_they_are_wanted(self) -> None:
        """Handovers and follows of keyed takes, planted feet among them: within the same tolerance, feet where they stood."""
        few: dict[str, int] = {"handover": 0, "retether": 0}
        before = dict(few)
        for take, (first, counts) in INSERTED.items():
            program = Program(*named(take))
            for what, inserted in counts.items():
                part, _, to = what.partition(">")
                bound = program.bound(*part.split("/"))
                operation = "retether" if to else "handover"
                if not to:
                    state = bound.state(program.sample(np.arange(first, first + 60.0), LEAVING, bound.driver_channels))
                    to = next(s for s in bound.keyed_systems if s != state)
                done = run(program, operation, Asked((bound.id,), first, first + 60.0, {"to": to, "keys": "few"}))
                with self.subTest(take=take, what=what):
                    self.assertLessEqual(done.proof.departure_place.value, 1e-3 + 1e-9)
                    self.assertLessEqual(done.proof.departure_turn.value, np.radians(0.5) + 1e-9)
                    self.assertTrue(done.proof.unchanged_outside)
                    self.assertLess(self.off(program, program.on(done.take), bound.id, first), 4.0)
                    for c in done.proof.contacts:
                        # What slips as it is (a fault that is planted) holds nothing.
                        self.assertLessEqual(c.place, 1e-4 if c.place_before <= 1e-4 else c.place_before + 1e-4)
                    # But for what says which is followed the animator's keys stay.
                    self.assertEqual(done.proof.keys.removed if operation == "handover" else 0, 0)
                    self.assertLessEqual(done.proof.keys.added, inserted)
                few[operation] += done.proof.keys.added
                before[operation] += inserted
        for operation, count in few.items():
            self.assertLessEqual(count, 0.5 * before[operation], operation)


class Chart(unittest.TestCase):
    def test_how_many_keys_each_tolerance_takes_is_what_it_takes(self) -> None:
        program = crossing()
        leg = next(b for b in program.bounds.values() if b.part.label == "left leg")
        asked = Asked((leg.id,), 10.0, 60.0, {"to": "ik", "keys": "few", "tolerance": 2.0, "tolerance_turn": 1.0})
        after = program.on(run(program, "bake", asked).take)
        chart = OPERATIONS["bake"].chart(program, asked, after)
        assert chart is not None and chart.wide
        self.assertEqual((chart.now, chart.picks), (2.0, (("tolerance", 1.0), ("tolerance_turn", 0.5))))
        points = chart.lines[0].points
        self.assertEqual([x for x, _ in points], [0.5, 1.0, 2.0, 4.0, 8.0])
        for mm, keys in points:
            there = {**asked.choices, "tolerance": mm, "tolerance_turn": 0.5 * mm}
            made = run(program, "bake", replace(asked, choices=there)).take
            names = [n for n in made.curves if n not in program.take.curves]
            count = sum(int(((made.curves[n].times >= 10.0) & (made.curves[n].times <= 60.0)).sum()) for n in names)
            switches = {program.channel_names()[c] for c in leg.switches}
            count -= sum(int((made.curves[n].times <= 60.0).sum()) for n in names if n in switches)
            self.assertEqual(keys, count, mm)
        self.assertGreater(points[0][1], points[-1][1])
        # Only tolerances that can be chosen are compared.
        tight = replace(asked, choices={**asked.choices, "tolerance": 0.02, "tolerance_turn": 45.0})
        few = OPERATIONS["bake"].chart(program, tight, program.on(run(program, "bake", tight).take))
        assert few is not None
        self.assertEqual([x for x, _ in few.lines[0].points], [0.01, 0.02, 0.04])
        # What takes long is not compared, and other keys have no tolerance.
        self.assertIsNone(
            OPERATIONS["bake"].chart(program, replace(asked, choices={"to": "ik", "keys": "every"}), after)
        )
        every = tuple(b.id for b in program.bounds.values())
        whole = Asked(every, 0.0, None, {"keys": "few"})
        assert OPERATIONS["bake"].lasts(program, whole) > 1.5
        self.assertIsNone(OPERATIONS["bake"].chart(program, whole, after))


if __name__ == "__main__":
    unittest.main()
