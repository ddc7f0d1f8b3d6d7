"""Handover on random takes, on Cast off and on a capture, measured independently of the proof."""

from __future__ import annotations

import unittest
from dataclasses import replace
from functools import cache

import numpy as np

from yielding_tether.core.curves import ARRIVING, FREE, LEAVING, SMOOTH, STEPPED, Curve, Key, curve, sample
from yielding_tether.core.errors import CoreError, LoopError
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations.handover import Handover, apply
from yielding_tether.core.operations.repair import apply as repair
from yielding_tether.core.parts import LimbPart
from yielding_tether.core.program import Program
from yielding_tether.core.proof import Proof
from yielding_tether.core.takes import Scene, Take, Tether
from yielding_tether.core.transforms import Floats, inverse, multiply, rotate, rotation_distance
from yielding_tether.demo.cast_off import GRIP_RIGHT, cast_off
from yielding_tether.formats import bvh

from .readings import drive_of, end_of, limbs_of, run_of
from .worlds import limb_member, prop, random_take, scene, stepped, weights


@cache
def demo() -> Program:
    return Program(*cast_off())


@cache
def captured() -> Program:
    """The demo take written out as a capture file and brought in again."""
    read = bvh.read(bvh.write(demo(), "marl", 0, 204), "body", "capture")
    return Program(Scene("capture", (read.member,)), read.take)


def smooth_world(seed: int, drive: float) -> Program:
    rng = np.random.default_rng(seed)
    member = limb_member(rng, moves=seed % 3 == 0)
    take = random_take(rng, (member,), spread=0.5, kinds=(SMOOTH,))
    return Program(scene(member), take.with_curves({"arm/limb.drive": stepped((0, drive))}))


def velocities(program: Program, frame: float, nodes: list[int], side: int) -> tuple[Floats, Floats]:
    """One-sided speed from plain first differences, refined by Richardson's rule: not the proof's own stencil."""
    sign = 1.0 if side == LEAVING else -1.0
    here = program.evaluate([frame], side)
    estimates = []
    for h in (1e-3, 5e-4):
        near = program.evaluate([frame + sign * h])
        v = sign * (near.pos[0, nodes] - here.pos[0, nodes]) / h
        a, b = here.rot[0, nodes], near.rot[0, nodes]
        b = np.where(np.sum(a * b, axis=-1, keepdims=True) < 0, -b, b)
        # Rotation vector of the small turn from here to there.
        estimates.append((v, sign * 2.0 * multiply(b, inverse(a))[..., :3] / h))
    return 2 * estimates[1][0] - estimates[0][0], 2 * estimates[1][1] - estimates[0][1]


def assert_sound(case: unittest.TestCase, before: Program, after: Take, asked: Handover, proof: Proof) -> None:
    """Before f and after the range nothing changed; at f nothing moves and the speed passes on; the departure is
    what an independent measurement finds."""
    program = Program(before.scene, after)
    first = asked.first
    last = float(before.take.last) if asked.last is None else asked.last
    open_end = last >= before.take.last
    nodes = before.joints()[1]
    t = np.arange(before.take.first, before.take.last + 0.25, 0.5)
    old, new = before.evaluate(t), program.evaluate(t)
    place = np.linalg.norm(new.pos[:, nodes] - old.pos[:, nodes], axis=-1).max(axis=1)
    turn = rotation_distance(new.rot[:, nodes], old.rot[:, nodes]).max(axis=1)
    outside = (t < first) | ((t >= last) & (not open_end))
    case.assertLess(place[outside].max(initial=0), 1e-12)
    case.assertLess(turn[outside].max(initial=0), 1e-12)
    inside = ~outside
    case.assertAlmostEqual(proof.departure_place.value, place[inside].max(), delta=1e-9)
    case.assertAlmostEqual(proof.departure_turn.value, turn[inside].max(), delta=1e-9)
    for member, name in asked.parts:
        limb = program.bounds[member, name]
        mine = list(limb.nodes)
        a, b = program.evaluate([first], ARRIVING), program.evaluate([first], LEAVING)
        case.assertLessEqual(np.linalg.norm(a.pos[0, mine] - b.pos[0, mine], axis=-1).max(), 1e-6)
        case.assertLessEqual(rotation_distance(a.rot[0, mine], b.rot[0, mine]).max(), 1e-6)
        change = next(c for c in proof.changes if c.part == name and c.frame == first)
        if change.smooth and not change.reason:
            va, qa = velocities(program, first, mine, ARRIVING)
            vb, qb = velocities(program, first, mine, LEAVING)
            speeds = np.linalg.norm(np.diff(old.pos[::2][:, mine], axis=0), axis=-1).max()
            turns = rotation_distance(old.rot[2::2][:, mine], old.rot[:-2:2][:, mine]).max()
            jump = np.linalg.norm(va - vb, axis=-1).max()
            case.assertLessEqual(jump, max(1e-4 * speeds, 1e-6) + change.speed_before + 2e-5 * speeds)
            case.assertLessEqual(
                np.linalg.norm(qa - qb, axis=-1).max(), max(1e-4 * turns, 1e-6) + change.spin_before + 5e-5 * turns
            )


def assert_keys_outside_stay(case: unittest.TestCase, before: Take, after: Take, first: float, last: float) -> None:
    for name, old in before.curves.items():
        new = after.curves[name]
        keep = (old.times < first) | (old.times > last)
        kept = [k for k in new.all_keys() if k.time < first or k.time > last]
        stay = [k for k, ok in zip(old.all_keys(), keep, strict=True) if ok]
        case.assertEqual(len(kept), len(stay))
        for a, b in zip(kept, stay, strict=True):
            # The slope beyond either end of a curve faces nothing; a key put there makes it zero.
            ends = {"slope_in": 0.0} if b.time == old.times[0] else {}
            ends |= {"slope_out": 0.0} if b.time == old.times[-1] else {}
            case.assertEqual(a._replace(**ends), b._replace(**ends), name)


class RandomTakes(unittest.TestCase):
    """A3, A4 with the bounds of the brief, both ways, on random rigs and frames."""

    def run_on(self, to: str, drive: float) -> None:
        smooth = 0
        for seed in range(24):
            program = smooth_world(seed, drive)
            rng = np.random.default_rng(1000 + seed)
            first = float(rng.integers(3, 40)) if seed % 2 else float(rng.uniform(3, 40))
            last = None if seed % 3 == 0 else float(rng.integers(44, 58))
            asked = Handover((("arm", "limb"),), to, first, last, keys="every" if seed % 4 == 0 else "kept")  # type: ignore[arg-type]
            take, proof = apply(program, asked)
            assert_sound(self, program, take, asked, proof)
            assert_keys_outside_stay(self, program.take, take, first, last if last is not None else 60.0)
            self.assertTrue(all(c.still for c in proof.changes))
            for c in proof.changes:
                self.assertTrue(c.smooth or c.reason, c)
            # Where a limb passes through straight a bend sign steps, and no slope is finite there; at the changes it is.
            smooth += all(c.smooth for c in proof.changes if c.what != "split")
        self.assertGreaterEqual(smooth, 23)

    def test_fk_to_ik(self) -> None:
        self.run_on("ik", 0.0)

    def test_ik_to_fk(self) -> None:
        self.run_on("fk", 1.0)

    def test_no_tolerance_at_all_is_refused(self) -> None:
        for tolerance in ((0.0, 0.1), (0.001, -1.0), (np.inf, 0.1)):
            with self.assertRaisesRegex(CoreError, "above zero"):
                apply(demo(), Handover((("marl", "arm.R"),), "fk", 130.0, 150.0, keys="within", tolerance=tolerance))

    def test_added_keys_keep_the_departure_within_the_tolerance(self) -> None:
        total = np.zeros(3)
        for seed in range(8):
            program = smooth_world(seed, float(seed % 2))
            to = "fk" if seed % 2 else "ik"
            counts = []
            for tolerance in ((0.05, 0.2), (0.005, 0.02), (0.001, 0.005)):
                asked = Handover((("arm", "limb"),), to, 10.0, 50.0, keys="within", tolerance=tolerance)  # type: ignore[arg-type]
                take, proof = apply(program, asked)
                assert_sound(self, program, take, asked, proof)
                assert_keys_outside_stay(self, program.take, take, 10.0, 50.0)
                self.assertTrue(proof.within, (seed, tolerance, proof.departure_place, proof.departure_turn))
                counts.append(proof.keys.added)
            total += counts
            every = apply(program, replace(asked, keys="every"))[1].keys.added
            self.assertLessEqual(counts[0], every)
        self.assertTrue(np.all(np.diff(total) > 0.0), total)

    def test_a_held_pose_comes_to_rest_where_it_was_asked_to(self) -> None:
        program = smooth_world(2, 0.0)
        held = {}
        for speed in ("keep", "settle", "stop"):
            asked = Handover((("arm", "limb"),), "ik", 20.0, None, "hold", settle=6, speed=speed)  # type: ignore[arg-type]
            after = Program(program.scene, apply(program, asked)[0])
            nodes = list(after.bounds["arm", "limb"].nodes)
            at = after.evaluate([20.0, 20.5, 40.0])
            held[speed] = at.pos[:, nodes]
        # The limb hangs from a root that moves: what rests is compared in the same frame.
        np.testing.assert_allclose(held["settle"][2], held["stop"][2], atol=1e-9)
        self.assertGreater(np.abs(held["keep"][2] - held["stop"][2]).max(), 1e-4)

    def test_keys_on_every_frame_follow_closely(self) -> None:
        for seed in range(6):
            rng = np.random.default_rng(seed)
            member = limb_member(rng)
            times = np.arange(0.0, 61.0, 15.0)
            take = random_take(rng, (member,), spread=0.3, kinds=(SMOOTH,))
            sparse = {
                name: curve([Key(t, v, v, rule=FREE) for t, v in zip(times, sample(c, times), strict=True)])
                for name, c in take.curves.items()
            }
            program = Program(scene(member), replace(take, curves=sparse))
            every = apply(program, Handover((("arm", "limb"),), "ik", 10.0, keys="every"))[1]
            kept = apply(program, Handover((("arm", "limb"),), "ik", 10.0, keys="kept"))[1]
            self.assertLess(every.departure_place.value, 1e-3)
            self.assertLess(every.departure_place.value, 0.5 * kept.departure_place.value)
            self.assertLess(kept.keys.added, 0.2 * every.keys.added)

    def test_a_straight_limb_at_the_change_is_named(self) -> None:
        rng = np.random.default_rng(4)
        member = limb_member(rng, straight_rest=True)
        # From straight on it bends at once: no finite slope of the IK control can say that.
        bend = [Key(0.0, 0.0, 0.0, 0.1, 0.1, rule=FREE), Key(30.0, 1.0, 1.0, 0.1, 0.1, rule=FREE)]
        program = Program(scene(member), Take("s", random_take(rng, ()).rate, 0, 30, {"arm/lower.rx": curve(bend)}))
        hinge = program.bounds["arm", "limb"].systems["ik"].data.constants[:3]
        self.assertGreater(abs(hinge[0]), 0.05)
        _, proof = apply(program, Handover((("arm", "limb"),), "ik", 0.0))
        rough = [c for c in proof.changes if not c.smooth]
        for c in rough:
            self.assertIn("is straight at frame 0", c.reason)
        self.assertTrue(all(c.still for c in proof.changes))


class OnCastOff(unittest.TestCase):
    def test_random_frames_both_ways_and_several_limbs(self) -> None:
        rng = np.random.default_rng(2)
        program = demo()
        limbs = list(limbs_of(program))
        for k in range(10):
            parts = tuple(limbs[i] for i in rng.choice(4, rng.integers(1, 4), replace=False))
            to = "ik" if k % 2 else "fk"
            first = float(rng.integers(5, 150))
            last = None if k % 3 else first + float(rng.integers(10, 40))
            keys = "every" if k % 4 == 3 else "kept"
            asked = Handover(parts, to, first, last, keys=keys)  # type: ignore[arg-type]
            try:
                take, proof = apply(program, asked)
            except CoreError as error:
                self.assertIn("nothing to hand over", str(error))
                continue
            changed = tuple(p for p in parts if any((c.member, c.part, c.frame) == (*p, first) for c in proof.changes))
            assert_sound(self, program, take, replace(asked, parts=changed), proof)

    def test_the_planted_pop_is_found_and_joined(self) -> None:
        program = demo()
        (pop,) = find_all(program)
        self.assertEqual((pop.part, pop.frame), ("arm.R", GRIP_RIGHT))
        self.assertGreater(pop.place, 0.05)
        take, proof = apply(program, Handover((("marl", "arm.R"),), "ik", pop.frame))
        self.assertEqual(find_all(Program(program.scene, take)), [])
        self.assertTrue(proof.clean)
        self.assertAlmostEqual(proof.changes[0].pose_before, pop.place, places=9)
        # Its repair reaches from the key before the jump, where FK meets what IK holds.
        _, proof = repair(program, [pop.key])
        keyed = program.curve(program.channels["marl/upperarm.R.rx"]).times
        self.assertEqual((proof.first, proof.last), (keyed[keyed < GRIP_RIGHT].max(), GRIP_RIGHT))

    def test_a_stretch_over_the_pop_joins_it_too(self) -> None:
        take, proof = apply(demo(), Handover((("marl", "arm.R"),), "ik", 110.0))
        self.assertEqual(find_all(Program(demo().scene, take)), [])
        self.assertTrue(all(c.still for c in proof.changes))

    def test_the_pose_is_held_and_its_speed_settles(self) -> None:
        program = demo()
        for first, to in ((66.0, "ik"), (150.0, "fk")):
            for settle in (0, 6):
                asked = Handover((("marl", "arm.R"),), to, first, first + 30, "hold", settle=settle)  # type: ignore[arg-type]
                take, proof = apply(program, asked)
                after = Program(program.scene, take)
                limb = after.bounds["marl", "arm.R"]
                change = next(c for c in proof.changes if c.frame == first)
                self.assertTrue(change.still)
                if settle:
                    self.assertTrue(change.smooth)
                held = after.evaluate(np.arange(first + settle, first + 30))
                # IK holds its control in what it follows, FK its joints in what the limb hangs from.
                up, end = (end_of(limb).space, end_of(limb).node) if to == "ik" else (limb.above[0], run_of(limb)[2])
                local = rotate(inverse(held.rot[:, up]), held.pos[:, end] - held.pos[:, up])
                self.assertLess(np.ptp(local, axis=0).max(), 1e-9)

    def test_of_several_parts_those_without_the_system_are_left_out_and_told(self) -> None:
        program = demo()
        arm, head = ("marl", "arm.L"), ("marl", "head")
        take, proof = apply(program, Handover((arm, head), "ik", 20.0, 60.0))
        self.assertIn("Left out: head, which IK can't drive", proof.sentence)
        alone, _ = apply(program, Handover((arm,), "ik", 20.0, 60.0))
        self.assertEqual(dict(take.curves), dict(alone.curves))

    def test_what_cannot_be_done_says_so(self) -> None:
        program = demo()
        arm = (("marl", "arm.L"),)
        for asked, message in (
            (Handover((), "ik", 5.0), "at least one part"),
            (Handover(arm, "fk", 5.0, 30.0), "FK already drives left arm from frame 5 to 30"),
            (Handover(arm, "ik", -3.0), "do not lie in the take, which runs from 0 to 204"),
            (Handover(arm, "ik", 50.0, 20.0), "do not lie in the take"),
            (Handover((("marl", "arm.twist.L"),), "ik", 5.0), "already drives left arm twist"),
            (Handover((("marl", "head"),), "ik", 5.0), "head has no system .ik.: it has FK, head.s lead"),
            (Handover((*arm, ("marl", "legs")), "ik", 5.0), "has no part legs"),
            (Handover(arm, "wings", 5.0), "has no system 'wings': it has FK, IK"),
            (Handover(arm * 2, "ik", 5.0), "named twice"),
            (Handover(arm, "ik", float("nan")), "must be numbers"),
        ):
            with self.assertRaisesRegex(CoreError, message):
                apply(program, asked)

    def test_locked_keys_are_not_touched(self) -> None:
        name = "marl/arm.R.ik.tx"
        kept = demo().take.curves[name]
        locked = curve([k._replace(lock=1) for k in kept.all_keys()])
        program = Program(demo().scene, demo().take.with_curves({name: locked}))
        with self.assertRaisesRegex(CoreError, "right arm, move x at frame 118 is locked"):
            apply(program, Handover((("marl", "arm.R"),), "ik", 100.0))


class OnACapture(unittest.TestCase):
    def test_random_frames(self) -> None:
        rng = np.random.default_rng(5)
        program = captured()
        for k, limb in enumerate(limbs_of(program)):
            first = float(rng.integers(10, 120))
            to = "ik" if k % 2 else "fk"
            asked = Handover((limb,), to, first, first + 40 if k < 2 else None, keys="every")  # type: ignore[arg-type]
            take, proof = apply(program, asked)
            assert_sound(self, program, take, asked, proof)
            self.assertLess(proof.departure_place.value, 0.02)
            self.assertTrue(all(c.still for c in proof.changes))
            self.assertIs(take.captures["body"], program.take.captures["body"])

    def test_back_to_the_other_system_afterwards(self) -> None:
        program = captured()
        limb = next(key for key in limbs_of(program) if key[1].startswith("arm"))
        take, _ = apply(program, Handover((limb,), "ik", 50.0, keys="every"))
        second = Program(program.scene, take)
        asked = Handover((limb,), "fk", 90.0, 130.0)
        take, proof = apply(second, asked)
        assert_sound(self, second, take, asked, proof)


class Kinds(unittest.TestCase):
    def blocked(self) -> Program:
        """A blocking take: every key stepped."""
        program = smooth_world(3, 0.0)

        def step(c: Curve) -> Curve:
            return curve([k._replace(kind=STEPPED) for k in c.all_keys()])

        return Program(
            program.scene, replace(program.take, curves={n: step(c) for n, c in program.take.curves.items()})
        )

    def test_stepped_motion_stays_stepped_and_exact(self) -> None:
        program = self.blocked()
        take, proof = apply(program, Handover((("arm", "limb"),), "ik", 12.0))
        self.assertLess(proof.departure_place.value, 1e-6)
        keys = [k for k in take.curves["arm/limb.ik.tx"].all_keys() if 12.0 <= k.time < 55.0]
        self.assertTrue(all(k.kind == STEPPED for k in keys))

    def test_both_systems_are_keyed_at_the_change_in_one_frame(self) -> None:
        program = smooth_world(5, 0.0)
        take, _ = apply(program, Handover((("arm", "limb"),), "ik", 21.0, 40.0))
        limb = program.bounds["arm", "limb"]
        assert isinstance(limb.part, LimbPart)
        for frame in (21.0, 40.0):
            for name, c in take.curves.items():
                systems = ("arm/upper.r", "arm/lower.r", "arm/end.r", "arm/limb.ik.")
                if name.startswith(systems) and not name.endswith(".guide"):
                    self.assertIsNotNone(c.find(frame), name)
        drive = take.curves["arm/limb.drive"]
        values = Program(program.scene, take).sample(np.arange(0.0, 61.0), LEAVING, np.array([drive_of(limb)]))[0]
        self.assertEqual(set(values.tolist()), {0.0, 1.0})
        self.assertTrue(all(k.kind == STEPPED for k in drive.all_keys()))

    def test_the_proof_counts_keys(self) -> None:
        program = smooth_world(6, 0.0)
        take, proof = apply(program, Handover((("arm", "limb"),), "ik", 21.0, 40.0))
        before = {(n, t) for n, c in program.take.curves.items() for t in c.times.tolist()}
        after = {(n, t) for n, c in take.curves.items() for t in c.times.tolist()}
        self.assertEqual(
            (proof.keys.kept, proof.keys.added, proof.keys.removed),
            (len(before & after), len(after - before), len(before - after)),
        )


class Loops(unittest.TestCase):
    def test_a_handover_that_would_close_a_loop_is_refused_whole(self) -> None:
        """The prop hangs on the hand; an IK hand that hangs on the prop would close the ring."""
        rng = np.random.default_rng(7)
        hand, held = limb_member(rng, "hand"), prop("lamp")
        holds, held_by = (
            Tether("hand", "lamp", "lamp", "hand", "end"),
            Tether("lamp", "hand", "limb.ik", "lamp", "lamp"),
        )
        take = replace(random_take(rng, (hand,)), tethers=(holds, held_by))
        take = take.with_curves({**weights(holds, stepped((0, 1.0))), **weights(held_by, stepped((0, 1.0)))})
        program = Program(scene(hand, held), take)
        with self.assertRaisesRegex(LoopError, "frames 20 to 60"):
            apply(program, Handover((("hand", "limb"),), "ik", 20.0))


class Still(unittest.TestCase):
    def test_what_stands_still_has_keys_at_its_ends_and_where_the_animator_keyed_it(self) -> None:
        """An arm without keys on a body that moves: keys of what carries it are no reason for keys of its own."""
        program = demo()
        names = program.channel_names()
        own = {names[c] for c in program.bounds["marl", "arm.L"].own.values()}
        bare = program.on(replace(program.take, curves={n: c for n, c in program.take.curves.items() if n not in own}))
        name = names[bare.bounds["marl", "arm.L"].systems["fk"].channels[4]]
        timed = bare.with_curves({name: curve([Key(30.0, 0.0, 0.0), Key(50.0, 0.0, 0.0)])})
        for before, wanted in ((bare, [0.0, 204.0]), (timed, [0.0, 30.0, 50.0, 204.0])):
            for keys in ("kept", "few"):
                take, proof = apply(before, Handover((("marl", "arm.L"),), "ik", 0.0, keys=keys))  # type: ignore[arg-type]
                made = [c.times.tolist() for n, c in take.curves.items() if n in {f"marl/arm.L.ik.t{a}" for a in "xyz"}]
                self.assertEqual(made, [wanted] * 3, keys)
                self.assertLess(proof.departure_place.value, 1e-6)
