"""Faults that tests from outside once found: each as it was met, measured by something other than what made it."""

from __future__ import annotations

import unittest
from fractions import Fraction

import numpy as np

from tests.depth import DEPTH
from yielding_tether.core.channels import TRAITS
from yielding_tether.core.clips import copy
from yielding_tether.core.contacts import reads
from yielding_tether.core.curves import ARRIVING, FREE, LEAVING, SMOOTH, STEPPED, Key, curve
from yielding_tether.core.errors import CoreError
from yielding_tether.core.findings import Finding, find_all
from yielding_tether.core.measure import meter, one_sided
from yielding_tether.core.operations import Asked, repair, run
from yielding_tether.core.operations.handover import Handover, apply
from yielding_tether.core.operations.paste import Paste
from yielding_tether.core.operations.paste import apply as paste
from yielding_tether.core.program import Poses, Program
from yielding_tether.core.proof import prove
from yielding_tether.core.takes import Take
from yielding_tether.core.transforms import Ints, rotation_distance

from . import faults
from .contract import kinds, programs
from .readings import limbs_of
from .test_contacts import measured
from .test_findings import clean
from .test_handover import captured, demo, smooth_world
from .worlds import limb_member, scene, stepped


def jumps(program: Program, part: tuple[str, str]) -> dict[float, float]:
    """Metres by which a part's joints jump at each time at which any of its channels is keyed: both sides evaluated."""
    bound = program.bound(*part)
    times = program.key_times(set(bound.own.values()))
    times = times[(times > program.take.first) & (times <= program.take.last)]
    a, b = (program.evaluate(times, side) for side in (ARRIVING, LEAVING))
    off = np.linalg.norm(a.pos[:, bound.nodes] - b.pos[:, bound.nodes], axis=-1).max(axis=1)
    return {float(t): float(x) for t, x in zip(times, off, strict=True) if x > 1e-6}


class Jumps(unittest.TestCase):
    def test_a_jump_is_a_finding_wherever_it_stands(self) -> None:
        """A split key inside one system, far from any change."""
        program = clean(0)
        limb = program.bounds["marl", "arm.R"]
        name = program.channel_names()[limb.systems["fk"].channels[1]]
        kept = program.take.curves[name]
        key = kept.key(3)
        self.assertEqual(limb.state(program.sample([key.time], LEAVING, limb.driver_channels)), "fk")
        broken = program.with_curves({name: curve([k if k.time != key.time else k._replace(leaving=k.leaving + 0.3)
                                                   for k in kept.all_keys()])})  # fmt: skip
        (found,) = [f for f in find_all(broken) if f.part == "arm.R"]
        self.assertEqual((found.kind, found.frame), ("pop", key.time))
        self.assertAlmostEqual(found.place, jumps(broken, ("marl", "arm.R"))[key.time], places=9)
        place, _ = meter(broken, limb.nodes, np.array([key.time]))
        self.assertAlmostEqual(float(place[0]), found.place, places=9)
        repaired = broken.on(repair.apply(broken, [found.key])[0])
        self.assertEqual([f for f in find_all(repaired) if f.part == "arm.R"], [])
        self.assertEqual(jumps(repaired, ("marl", "arm.R")), {})

    def test_a_pasted_range_that_ends_elsewhere_is_found_at_its_end(self) -> None:
        program = demo()
        clip = copy(program, "marl", ["arm.L"], 20.0, 50.0)
        take, _ = paste(program, Paste(clip, "marl", 60.0))
        after = program.on(take)
        there = jumps(after, ("marl", "arm.L"))
        listed = {f.frame: f.place for f in find_all(after) if f.part == "arm.L" and f.kind in ("pop", "one-sided")}
        self.assertEqual(set(there), set(listed))
        self.assertGreater(max(listed.values()), 0.05)

    def test_a_second_handover_over_the_end_of_the_first_leaves_no_silent_jump(self) -> None:
        for seed in range(12):
            program = smooth_world(seed, 0.0)
            rng = np.random.default_rng(seed)
            for first, last in ((10.0, 30.0), (float(rng.integers(20, 29)), float(rng.integers(35, 50)))):
                to = ("ik", "fk")[int(rng.integers(2))]
                after_ = ("carry", "hold")[int(rng.integers(2))]
                try:
                    take, proof = apply(program, Handover((("arm", "limb"),), to, first, last, after=after_))
                except CoreError:
                    continue
                now = program.on(take)
                # Nothing beyond the range feels it.
                t = np.arange(0.0, 60.25, 0.5)
                t = t[(t < first) | (t >= last)]
                a, b = program.evaluate(t), now.evaluate(t)
                joints = program.joints()[1]
                self.assertLess(np.abs(a.pos[:, joints] - b.pos[:, joints]).max(), 1e-9)
                self.assertTrue(proof.unchanged_outside)
                program = now
            there = {t: x for t, x in jumps(program, ("arm", "limb")).items() if x > 1e-4}
            listed = {f.frame for f in find_all(program) if f.part == "limb"}
            self.assertLessEqual(set(there), listed, seed)

    def test_a_crossfade_to_what_lies_beneath_leaves_what_comes_later(self) -> None:
        program = captured()
        limb = (("body", "arm.L"),)
        program = program.on(run(program, "handover", Asked(limb, 80.0, None, {"to": "ik", "keys": "every"})).take)
        done = run(program, "crossfade", Asked(limb, 30.0, None, {"to": "fk", "over": 8}))
        now, bound = program.on(done.take), program.bounds[limb[0]]
        at = np.concatenate([np.arange(0.0, 30.25, 0.25), np.arange(80.0, 120.0, 0.25)])
        was, new = (p.evaluate(at).pos[:, bound.nodes] for p in (program, now))
        np.testing.assert_allclose(new, was, atol=1e-9)
        states = [bound.state(now.now(t, bound.driver_channels)[:, None]) for t in (20.0, 60.0, 79.0, 90.0)]
        self.assertEqual(states, ["captured", "fk", "fk", "ik"])

    def test_a_handover_out_of_a_crossfade_leaves_what_was_before_it(self) -> None:
        """The driver is cut in the middle of going over: its first half keeps its slope."""
        program = smooth_world(3, 0.0)
        limb = (("arm", "limb"),)
        faded = program.on(run(program, "crossfade", Asked(limb, 10.0, None, {"to": "ik", "over": 12})).take)
        take, proof = apply(faded, Handover(limb, "ik", 16.0, None, after="hold"))
        at = np.arange(0.0, 16.0, 0.25)
        a, b = faded.evaluate(at), faded.on(take).evaluate(at)
        joints = program.joints()[1]
        self.assertLess(np.abs(a.pos[:, joints] - b.pos[:, joints]).max(), 1e-12)
        self.assertTrue(proof.unchanged_outside)

    def test_a_body_that_jumps_is_one_finding_and_not_one_for_each_part_it_carries(self) -> None:
        program = clean(0)
        name = "marl/hips.ty"
        kept = program.take.curves[name]
        key = kept.key(4)
        broken = program.with_curves({name: curve([k if k.time != key.time else k._replace(leaving=k.leaving + 0.04)
                                                   for k in kept.all_keys()])})  # fmt: skip
        found = [f for f in find_all(broken) if f.frame == key.time]
        self.assertEqual([(f.kind, f.part) for f in found], [("pop", "hips")])


class Repairs(unittest.TestCase):
    def test_a_flip_is_repaired_without_touching_what_follows(self) -> None:
        """The repair of a sign that has no key to end it must not turn the elbow for the rest of the take."""
        for seed in range(20):
            rng = np.random.default_rng(seed)
            program = clean(0)
            limb = program.bounds["marl", "leg.L"]
            frame = int(rng.integers(20, 120))
            if not faults.places(program, limb, "flip", [frame]):
                continue
            made = faults.flip(rng, program, limb, frame)
            broken = program.on(made.take)
            take, proof = repair.apply(broken, [])
            after = broken.on(take)
            t = np.arange(0.0, 204.5, 0.5)
            a, b = program.evaluate(t), after.evaluate(t)
            nodes = limb.nodes
            self.assertLess(np.abs(a.pos[:, nodes] - b.pos[:, nodes]).max(), 1e-6, seed)
            self.assertEqual(jumps(after, ("marl", "leg.L")), {})
            self.assertTrue(all(c.still for c in proof.changes))

    def test_a_flip_to_the_end_of_the_take_is_repaired_to_its_end(self) -> None:
        program = clean(0)
        limb = program.bounds["marl", "leg.L"]
        name = program.channel_names()[limb.own["leg.L.ik", "bend"]]
        broken = program.with_curves({name: stepped((0, 1.0), (150, -1.0))})
        after = broken.on(repair.apply(broken, [])[0])
        t = np.arange(0.0, 204.5, 0.5)
        self.assertLess(np.abs(after.evaluate(t).pos - program.evaluate(t).pos)[:, limb.nodes].max(), 1e-9)

    def test_nothing_is_written_that_changes_nothing(self) -> None:
        program = clean(0)
        with self.assertRaisesRegex(CoreError, "nothing to repair"):
            repair.apply(program, [])
        take, _ = run(program, "drivers", Asked(choices={"kind": "linear"}))[:2]
        with self.assertRaisesRegex(CoreError, "changes nothing"):
            run(program.on(take), "drivers", Asked(choices={"kind": "linear"}))

    def test_what_cannot_be_repaired_says_why_before_it_is_applied(self) -> None:
        """A locked channel keeps an incoming system from meeting what arrives."""
        member = limb_member(np.random.default_rng(8))
        from dataclasses import replace

        part = replace(member.parts[2], locked=("carry", "twist"))  # type: ignore[type-var]
        member = replace(member, parts=(*member.parts[:2], part))  # type: ignore[arg-type]
        program = smooth_world(8, 0.0)
        names = {n: c for n, c in program.take.curves.items() if not n.endswith((".carry", ".twist"))}
        keys = {
            "arm/limb.ik.tx": curve([Key(30.0, 0.1, 0.1), Key(40.0, 0.2, 0.2)]),
            "arm/limb.drive": stepped((0, 0.0), (30, 1.0)),
        }
        locked = Program(scene(member), Take("t", Fraction(24), 0, 60, {**names, **keys}))
        pops = [f for f in find_all(locked) if f.kind in ("pop", "one-sided") and f.part == "limb"]
        self.assertTrue(pops)
        with self.assertRaisesRegex(CoreError, "Not repaired: .*Locked channels keep it from being met"):
            repair.apply(locked, [pops[0].key])


class Joins(unittest.TestCase):
    """How a system that takes over goes on from what arrives."""

    def handed(self, keys: list[Key]) -> tuple[Program, Program]:
        program = smooth_world(4, 0.0)
        limb = program.bounds["arm", "limb"]
        names = program.channel_names()
        fk = {names[c]: curve(keys) for c in limb.systems["fk"].channels}
        before = program.with_curves({**fk, "arm/limb.drive": stepped((0, 1.0))})
        take, _ = apply(before, Handover((("arm", "limb"),), "fk", 30.0, after="own", settle=4))
        return before, before.on(take)

    def test_where_no_key_follows_the_speed_fades_and_the_pose_stays(self) -> None:
        before, after = self.handed([Key(10.0, 0.1, 0.1), Key(20.0, 0.2, 0.2)])
        limb = after.bounds["arm", "limb"]
        channels = limb.systems["fk"].channels
        values = after.sample([30.0, 34.0, 40.0, 60.0], LEAVING, channels)
        self.assertLess(float(np.abs(values[:, 1:] - values[:, 1:2]).max()), 1e-12)
        self.assertGreater(float(np.abs(values[:, 1] - values[:, 0]).max()), 1e-4)
        limits = one_sided(after, np.array([30.0, 34.0]), limb.nodes)
        self.assertLess(float(limits.pose_jump.max()), 1e-6)
        del before

    def test_where_keys_follow_they_stay_and_nothing_is_added_after(self) -> None:
        keys = [Key(10.0, 0.1, 0.1), Key(20.0, 0.2, 0.2), Key(50.0, 0.3, 0.3)]
        before, after = self.handed(keys)
        for c in after.bounds["arm", "limb"].systems["fk"].channels:
            later = [k for k in after.curve(int(c)).all_keys() if k.time > 30.0]
            self.assertEqual([(k.time, k.arriving, k.leaving) for k in later], [(50.0, 0.3, 0.3)])
        del before

    def test_a_repair_leaves_stepped_keys_stepped(self) -> None:
        """Motion blocked out in steps stays blocked out: only the first key takes the pose that arrives."""
        program = smooth_world(4, 0.0)
        limb = program.bounds["arm", "limb"]
        names = program.channel_names()
        keys = [Key(t, v, v, kind=STEPPED) for t, v in ((30.0, 0.1), (40.0, 0.3), (50.0, 0.2))]
        ik = [c for c in limb.systems["ik"].channels if not names[c].endswith("bend")]
        broken = program.with_curves(
            {**{names[c]: curve(keys) for c in ik}, "arm/limb.drive": stepped((0, 0.0), (30, 1.0))}
        )
        found = [f for f in find_all(broken) if f.frame == 30.0 and f.part == "limb"]
        self.assertTrue(found)
        take, proof = repair.apply(broken, [f.key for f in found])
        self.assertTrue(proof.unchanged_outside)
        for c in ik:
            kept = take.curves[names[c]]
            first = kept.key(kept.find(30.0) or 0)
            self.assertEqual((first.kind, first.slope_out), (STEPPED, 0.0))
            values = broken.on(take).sample([30.0, 33.0, 39.9], LEAVING, np.array([c]))
            self.assertEqual(len(set(values[0].tolist())), 1)
            self.assertEqual([k.kind for k in kept.all_keys() if k.time >= 30.0], [STEPPED] * 3)

    def test_a_jump_goes_even_where_its_speed_cannot_be_joined(self) -> None:
        """Some channels of the incoming system stand in steps, others move: the pose meets, and the rest is told."""
        program = smooth_world(4, 0.0)
        limb = program.bounds["arm", "limb"]
        names = program.channel_names()
        keys = [Key(t, v, v, kind=STEPPED) for t, v in ((30.0, 0.1), (40.0, 0.3), (50.0, 0.2))]
        ik = [c for c in limb.systems["ik"].channels if names[c].endswith(("tx", "ty", "tz"))]
        broken = program.with_curves(
            {**{names[c]: curve(keys) for c in ik}, "arm/limb.drive": stepped((0, 0.0), (30, 1.0))}
        )
        (found,) = [f for f in find_all(broken) if f.frame == 30.0 and f.part == "limb"]
        take, proof = repair.apply(broken, [found.key])
        self.assertGreater(jumps(broken, ("arm", "limb"))[30.0], 0.3)
        self.assertNotIn(30.0, jumps(broken.on(take), ("arm", "limb")))
        self.assertTrue(any("leaves this to look at" in n and "speed jumps" in n for n in proof.notes), proof.notes)


class Proofs(unittest.TestCase):
    def test_every_split_key_and_edge_is_measured(self) -> None:
        program = clean(0)
        limb = program.bounds["marl", "arm.R"]
        name = program.channel_names()[limb.systems["fk"].channels[0]]
        kept = program.take.curves[name]
        key = kept.key(2)
        broken = program.with_curves({name: curve([k if k.time != key.time else k._replace(leaving=k.leaving + 0.2)
                                                   for k in kept.all_keys()])})  # fmt: skip
        proof = prove("any", program, broken, key.time - 3.0, key.time + 3.0)
        change = next(c for c in proof.changes if c.frame == key.time and c.part == "arm.R")
        self.assertEqual(change.what, "split")
        self.assertAlmostEqual(change.pose, jumps(broken, ("marl", "arm.R"))[key.time], places=9)
        self.assertFalse(proof.clean)
        # What the same change does to the other parts is measured at the edges of the range.
        self.assertFalse(proof.unchanged_outside)

    def test_at_the_first_frame_nothing_arrives(self) -> None:
        program = smooth_world(3, 0.0)
        limits = one_sided(program, np.array([0.0, 60.0]), program.joints()[1])
        self.assertEqual(float(limits.speed_jump.max()), 0.0)
        self.assertEqual(float(limits.pose_jump[0].max()), 0.0)
        _, proof = apply(program, Handover((("arm", "limb"),), "ik", 0.0, None, after="hold"))
        self.assertTrue(all(c.steady for c in proof.changes if c.frame == 0.0), proof.changes)

    def test_a_speed_near_straight_is_refined_until_it_settles(self) -> None:
        """A limb about to lock: what a step of 1/64 frame gives is no limit; what is told is, or says that it is none."""
        member = limb_member(np.random.default_rng(2), straight_rest=True)
        program = Program(scene(member), Take("t", Fraction(24), 0, 60))
        limb = program.bounds["arm", "limb"]
        length = float(limb.systems["ik"].data.length)
        end = program.evaluate([0.0])
        aim = end.pos[0, limb.nodes[2]] - end.pos[0, limb.nodes[0]]
        x = int(np.argmax(np.abs(aim)))
        channel = f"arm/limb.ik.t{'xyz'[x]}"
        del length
        for gap in (1e-3, 1e-5, 1e-7):
            # The end comes towards the root slowly from where it is all but straight.
            keys = [
                Key(t, v, v, s, s, SMOOTH, FREE) for t, v, s in ((0.0, 0.0, 0.0), (30.0, 0.0, 0.0), (60.0, 0.0, 0.0))
            ]
            keys[1] = keys[1]._replace(arriving=-gap, leaving=-gap)
            moved = program.with_curves({channel: curve(keys), "arm/limb.drive": stepped((0, 1.0))})
            limits = one_sided(moved, np.array([30.0]), limb.nodes)
            told = limits.speed_jump[0]
            h = 1e-6
            a, b, c = (moved.evaluate([30.0 + d]).pos[0, limb.nodes] for d in (-h, 0.0, h))
            true = np.linalg.norm((c - b) / h - (b - a) / h, axis=-1)
            for n in range(3):
                if limits.converged[0, n]:
                    self.assertLess(abs(float(told[n] - true[n])), 2e-5 + 0.05 * float(true[n]))


class Places(unittest.TestCase):
    def test_a_place_out_of_reach_is_a_finding_and_a_note(self) -> None:
        program = clean(0)
        limb = program.bounds["marl", "leg.L"]
        name = "marl/leg.L.ik.ty"
        far = curve([Key(0.0, 0.0, 0.0), Key(60.0, 0.0, 0.0), Key(70.0, -0.25, -0.25), Key(80.0, 0.0, 0.0)])
        broken = program.with_curves({name: far})
        (found,) = [f for f in find_all(broken) if f.kind == "reach"]
        t = broken.take.frames
        aim = limb.extra["leg.L.ik", "aim"]
        poses = broken.evaluate(t, only=[limb.nodes[2], aim])
        off = np.linalg.norm(poses.pos[:, limb.nodes[2]] - poses.pos[:, aim], axis=1)
        out = t[off > 1e-4]
        self.assertEqual((found.frame, found.last), (out[0], out[-1]))
        self.assertAlmostEqual(found.place, float(off.max()), places=9)
        proof = prove("any", program, broken, 55.0, 85.0)
        self.assertTrue(any("does not reach its place" in n for n in proof.notes))
        with self.assertRaisesRegex(CoreError, "has no repair"):
            repair.apply(broken, [found.key])

    def test_late_half_frames_are_told_apart(self) -> None:
        a = Finding("pop", "m", "p", "l", 123456.5, 123456.5, 0.0, 0.0, "")
        b = Finding("pop", "m", "p", "l", 123457.0, 123457.0, 0.0, 0.0, "")
        self.assertNotEqual(a.key, b.key)
        self.assertEqual(Finding("pop", "m", "p", "l", 118.0, 118.0, 0.0, 0.0, "").key, "pop/m/p/118")


class Days(unittest.TestCase):
    """Random orders of work: after every operation the proof is what an independent measurement finds, nothing outside has
    changed, jumps are listed where they are, and undoing is bit-identical."""

    DAYS, OPERATIONS = 5 * DEPTH, 20 if DEPTH == 1 else 60

    def asked(self, rng: np.random.Generator, program: Program) -> tuple[str, Asked] | None:
        several = [id for id, b in program.bounds.items() if len(b.systems) > 1]
        parts = several if several and rng.random() < 0.8 else list(program.bounds)
        part = parts[rng.integers(len(parts))]
        last_frame = program.take.last
        first = float(rng.integers(1, last_frame - 12))
        last = None if rng.random() < 0.25 else float(rng.integers(first + 4, last_frame))
        bound = program.bound(*part)
        what = rng.choice(
            [
                "handover",
                "handover",
                "crossfade",
                "repair",
                "keys",
                "key",
                "drivers",
                "bake",
                "retether",
                "plant",
                "contacts",
            ]
        )
        anchors = ["world", *("/".join(n) for n in program.joints()[0] if n[0] != part[0] or rng.random() < 0.05)]
        anchor = str(anchors[rng.integers(len(anchors))])
        # Bakes and holds cost by the frame.
        near = first + 14.0 if last is None or last > first + 14.0 else last
        near = min(near, float(last_frame))
        if what == "bake":
            return "bake", Asked((part,), first, near, {"keys": str(rng.choice(["few", "every", "kept"]))})
        if what == "retether":
            keys, after = str(rng.choice(["kept", "few", "within"])), str(rng.choice(["carry", "ride"]))
            return "retether", Asked((part,), first, near if keys != "kept" else last,
                                     {"to": anchor, "keys": keys, "after": after})  # fmt: skip
        if what == "plant":
            return "plant", Asked((part,), first, near, {"on": anchor, "ease": int(rng.integers(0, 8))})
        if what == "contacts":
            do = str(rng.choice(["find", "mark", "mark", "remove"]))
            return "contacts", Asked((part,), first, last, {"do": do} | ({"on": anchor} if do == "mark" else {}))
        if what in ("handover", "crossfade"):
            to = list(bound.systems)[rng.integers(len(bound.systems))]
            choices: dict[str, str | int | float] = {"to": to}
            if what == "handover":
                choices |= {
                    "after": str(rng.choice(["carry", "hold", "own"])), "keys": str(rng.choice(["kept", "every"])),
                    "speed": str(rng.choice(["keep", "settle", "stop"])), "settle": int(rng.integers(0, 7)),
                }  # fmt: skip
            else:
                choices["over"] = int(rng.integers(1, 12))
            return str(what), Asked((part,), first, last, choices)
        if what == "repair":
            return "repair", Asked()
        if what == "keys":
            do = str(rng.choice(["move", "delete", "kind"]))
            return "keys", Asked((part,), first, first + 6.0, {"do": do, "by": 0.5, "kind": "linear"})
        if what == "key":
            return "key", Asked((part,), first)
        return "drivers", Asked(choices={"kind": "stepped"})

    def test_days(self) -> None:
        done: dict[str, int] = {}
        for day in range(self.DAYS):
            rng = np.random.default_rng(day)
            kind = kinds()[day % len(kinds())]
            worlds = (
                lambda: clean(0), lambda d=day: smooth_world(d, 0.0), demo, lambda d=day, k=kind: programs(d, k)[1][0],
                lambda d=day, k=kind: programs(d, k)[0][0],
            )  # fmt: skip
            program = worlds[day % 5]()
            history = [program]
            for _ in range(self.OPERATIONS):
                picked = self.asked(rng, program)
                assert picked is not None
                try:
                    take, proof, *_ = run(program, *picked)
                except CoreError as error:
                    self.assertTrue(str(error))
                    continue
                after = program.on(take)
                done[picked[0]] = done.get(picked[0], 0) + 1
                with self.subTest(day=day, operation=picked):
                    self.measure(program, after, proof)
                    self.listed(after)
                program = after
                history.append(program)
            # Undone to the start, every take is what it was, to the bit.
            for old, new in zip(history, [Program(p.scene, p.take) for p in history], strict=True):
                a, b = old.evaluate(old.take.frames), new.evaluate(new.take.frames)
                self.assertEqual(a.pos.tobytes(), b.pos.tobytes())
        self.assertGreaterEqual(len(done), 6)
        self.assertGreater(sum(done.values()), 60)

    def measure(self, before: Program, after: Program, proof: object) -> None:
        """Places and rotations at every half-frame, sorted by the proof's own range."""
        from yielding_tether.core.proof import Proof

        assert isinstance(proof, Proof)
        first, last = proof.first, proof.last
        t = np.arange(2 * before.take.first, 2 * before.take.last + 1) / 2.0
        joints = before.joints()[1]
        a, b = before.evaluate(t), after.evaluate(t)
        place = np.linalg.norm(a.pos[:, joints] - b.pos[:, joints], axis=-1).max(axis=1)
        turn = rotation_distance(a.rot[:, joints], b.rot[:, joints]).max(axis=1)
        inside = (t >= first) & ((t < last) | (last >= before.take.last))
        self.assertLess(place[~inside].max(initial=0.0), 1e-9)
        self.assertLess(turn[~inside].max(initial=0.0), 1e-9)
        self.assertTrue(proof.unchanged_outside)
        self.assertGreaterEqual(proof.departure_place.value, place[inside].max(initial=0.0) - 1e-9)
        for held in proof.contacts:
            (contact,) = (c for c in after.take.contacts if (reads(after, c), c.first) == (held.label, held.first))
            if contact.points:
                # Of a foot that rolls heel and ball stand at other times: `test_rolling_plant` measures them.
                continue
            np.testing.assert_allclose(
                [held.place, held.turn, held.place_before, held.turn_before],
                [*measured(after, contact), *measured(before, contact)], atol=1e-9,
            )  # fmt: skip
        for change in proof.changes:
            nodes = after.bounds[change.member, change.part].nodes
            x, y = (after.evaluate([change.frame], side) for side in (ARRIVING, LEAVING))
            if change.frame > after.take.first:
                jump = float(np.linalg.norm(x.pos[:, nodes] - y.pos[:, nodes], axis=-1).max())
                self.assertAlmostEqual(change.pose, jump, delta=1e-9)

    def followed(self, program: Program, id: tuple[str, str]) -> list[int]:
        """Nodes that the controls of a part may follow."""
        mine = [t for t in program.take.tethers if t.member == id[0] and t.control in program.bounds[id].controls]
        return [program.nodes[t.anchor_member, t.anchor] for t in mine if t.anchor_member != "world"]

    def carried(self, x: Poses, y: Poses, base: int, nodes: Ints, size: float) -> bool:
        """Whether a jump of some nodes can come of what carries them."""
        turned = float(rotation_distance(x.rot[0, base], y.rot[0, base]))
        if np.linalg.norm(x.pos[0, base] - y.pos[0, base]) > 1e-4 or turned > 1e-3:
            return True
        length = float(np.linalg.norm(x.pos[0, nodes] - x.pos[0, base], axis=-1).max())
        return size - turned * length <= 1e-4

    def listed(self, program: Program) -> None:
        """Every jump of a limb at a split key or a change is covered by a finding of that part, or of what carries it."""
        found = find_all(program, wanted=True)
        for id, bound in limbs_of(program).items():
            blocked = {
                float(k.time)
                for c in bound.own.values()
                if not TRAITS[program.info[c][2].kind].stepped
                for k in program.curve(c).all_keys()
                if k.kind == STEPPED
            }
            for t, size in jumps(program, id).items():
                if size <= 1e-4 or (t not in set(program.key_times(bound.driver_channels.tolist())) and blocked):
                    continue
                x, y = (program.evaluate([t], side) for side in (ARRIVING, LEAVING))
                # What carries the part, or what its controls follow, may jump in place or in turn: that is told once, of
                # what jumps. A turn of it too small to be told may still show at the end of a long part.
                if any(
                    self.carried(x, y, base, bound.nodes, size)
                    for base in [bound.outer[0], *self.followed(program, id)]
                ):
                    continue
                self.assertTrue(
                    any((f.member, f.part) == id and f.frame - 1e-9 <= t <= f.last + 1e-9 for f in found), (id, t, size)
                )
