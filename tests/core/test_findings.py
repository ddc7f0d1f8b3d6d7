"""A9: planted faults are all found, none is invented, and repairs leave none and the rest as it was."""

from __future__ import annotations

import unittest
from dataclasses import replace
from functools import cache
from itertools import pairwise

import numpy as np

from tests.depth import DEPTH
from yielding_tether.core.contacts import measure
from yielding_tether.core.curves import ARRIVING, EMPTY, FREE, LEAVING, LINEAR, STEPPED, Curve, Key, curve, insert, put
from yielding_tether.core.errors import CoreError
from yielding_tether.core.findings import KINDS, find_all, states
from yielding_tether.core.operations import repair
from yielding_tether.core.program import Program
from yielding_tether.core.systems.bends import side_turn
from yielding_tether.core.transforms import rotation_distance
from yielding_tether.demo import named
from yielding_tether.demo.cast_off import cast_off
from yielding_tether.demo.lantern_round import lantern_round

from . import faults
from .readings import drive_of, guides_of, length_of, limbs_of
from .test_handover import captured, demo

SEEDS = 12 * DEPTH


@cache
def clean(which: int) -> Program:
    """A demo take with its own planted faults repaired."""
    scene, take = (cast_off, lantern_round)[which]()
    program = Program(scene, take)
    return Program(scene, repair.apply(program, [])[0])


@cache
def planted(seed: int) -> tuple[Program, list[faults.Planted], list[str], Program]:
    """A take with a fault on each of its four limbs, at random places: the faults, whose they are, and before."""
    rng = np.random.default_rng(seed)
    before = clean(seed % 2)
    program = before
    found, whose = [], []
    kinds = list(faults.KINDS)
    for n, name in enumerate(rng.permutation(["arm.L", "arm.R", "leg.L", "leg.R"])):
        kind = kinds[(seed + 3 * n) % len(kinds)] if n < 2 else str(rng.choice(kinds))
        limb = program.bounds["marl", str(name)]
        places = faults.places(program, limb, kind, range(8, 176))
        if not places:
            continue
        made = faults.KINDS[kind](rng, program, limb, float(rng.choice(places)))
        found.append(made)
        whose.append(str(name))
        program = Program(program.scene, made.take)
    return program, found, whose, before


class Carried(unittest.TestCase):
    def test_a_body_that_jumps_is_one_finding_and_not_one_for_each_part_it_carries(self) -> None:
        program = clean(0)
        root = next(b for b in program.bounds.values() if b.member.id == "marl" and b.part.free)
        names = program.channel_names()
        changed = {}
        for c, size in zip(root.systems["place"].channels, (0.0, 0.3, 0.0, 0.0, 0.4, 0.0), strict=True):
            kept = insert(program.curve(c), 33.5, float(program.defaults[c]))
            key = kept.key(kept.find(33.5) or 0)
            changed[names[c]] = put(kept, [key._replace(leaving=key.leaving + size, rule=0)])
        jumped = program.with_curves(changed)
        found = [f for f in find_all(jumped) if f.frame == 33.5]
        self.assertIn(root.part.name, [f.part for f in found])
        # A hand or foot that follows the world or the deck stays, and its limb bends another way; no joint row jumps.
        for f in found:
            limb = jumped.bounds[f.member, f.part]
            self.assertTrue(f.part == root.part.name or limb.controls, f)
        root_found = next(f for f in found if f.part == root.part.name)
        self.assertAlmostEqual(root_found.place, 0.3, places=6)
        self.assertAlmostEqual(root_found.turn, 0.4, places=6)


class Planted(unittest.TestCase):
    def test_all_are_found_none_is_invented_and_repairs_leave_none_and_the_rest_unchanged(self) -> None:
        kinds = set()
        for seed in range(SEEDS):
            program, made, whose, _ = planted(seed)
            found = find_all(program)
            told = [f"{f.kind} {f.part} {f.frame:g}: {f.sentence}" for f in found]
            with self.subTest(seed=seed):
                self.assertEqual(len(found), len(made), told)
                for fault, part in zip(made, whose, strict=True):
                    kinds.add(fault.kind)
                    mine = [f for f in found if f.part == part]
                    self.assertEqual([f.kind for f in mine], [fault.kind], (part, fault.first, told))
                    self.assertAlmostEqual(mine[0].frame, fault.first, delta=1.0)
                    self.assertAlmostEqual(mine[0].last, fault.last, delta=1.0)
                take, proof = repair.apply(program, [])
                after = program.on(take)
                self.assertEqual([f.sentence for f in find_all(after)], [])
                self.assertTrue(proof.clean, proof.changes)
                names = program.channel_names()
                touched = {n for n in names if take.curves.get(n, EMPTY) != program.take.curves.get(n, EMPTY)}
                for name in touched:
                    self.assertTrue(any(f"/{p}." in name or self.drives(program, p, name) for p in whose), name)
                self.unchanged_elsewhere(program, after, made, whose)
        self.assertEqual(kinds, set(KINDS) - {"reach", "locks", "overfull", "unused", "round", "among", "leaves"})

    def drives(self, program: Program, part: str, name: str) -> bool:
        return program.info[program.channels[name]][1] is program.bounds["marl", part].part

    def unchanged_elsewhere(
        self, program: Program, after: Program, made: list[faults.Planted], whose: list[str]
    ) -> None:
        """Joints of every limb outside the stretches of its fault, with the key on either side, stay as they are."""
        frames = np.arange(program.take.first, program.take.last + 0.25, 0.5)
        old, new = program.evaluate(frames), after.evaluate(frames)
        for (_, part), limb in limbs_of(program).items():
            nodes = list(limb.nodes)
            inside = np.zeros(len(frames), dtype=bool)
            for fault, name in zip(made, whose, strict=True):
                if name == part:
                    kept = [program.take.curves.get(n, EMPTY).times for n in program.channel_names()
                            if program.info[program.channels[n]][1] is limb.part]  # fmt: skip
                    lows = [t[t < fault.first].max(initial=program.take.first) for t in kept if len(t)]
                    highs = [t[t > fault.last].min(initial=program.take.last) for t in kept if len(t)]
                    inside |= (frames >= min(lows)) & (frames <= max(highs))
            place = np.linalg.norm(new.pos[:, nodes] - old.pos[:, nodes], axis=-1).max(axis=1)
            self.assertLess(place[~inside].max(initial=0.0), 1e-9, part)

    def test_each_kind_is_repaired_alone(self) -> None:
        """Repairing one of several leaves the others as they were found."""
        for seed in range(0, SEEDS, 7):
            program, _, _, _ = planted(seed)
            before = find_all(program)
            first = before[0]
            take, _ = repair.apply(program, [first.key])
            left = find_all(Program(program.scene, take))
            self.assertEqual([f.key for f in left], [f.key for f in before if f.key != first.key])


class Reading(unittest.TestCase):
    def test_the_demo_takes_have_just_their_planted_faults(self) -> None:
        self.assertEqual([(f.kind, f.part, f.frame) for f in find_all(demo())], [("pop", "arm.R", 118.0)])
        found = [(f.kind, f.part, f.frame) for f in find_all(Program(*lantern_round()))]
        self.assertEqual(
            found, [("flip", "leg.L", 40.0), ("smooth", "arm.R", 102.0), ("one-sided", "arm.L", 120.0)]
        )  # fmt: skip

    def test_a_capture_has_nothing_to_find(self) -> None:
        self.assertEqual(find_all(captured()), [])

    def test_what_is_wanted_is_left_out_and_can_be_asked_for(self) -> None:
        finding = find_all(demo())[0]
        marked = Program(demo().scene, replace(demo().take, wanted=(finding.key,)))
        self.assertEqual(find_all(marked), [])
        self.assertEqual(find_all(marked, wanted=True), [finding])
        with self.assertRaisesRegex(CoreError, "nothing to repair"):
            repair.apply(marked, [])
        take, _ = repair.apply(marked, [finding.key])
        self.assertEqual(find_all(Program(marked.scene, take), wanted=True), [])

    def test_a_finding_that_is_gone_is_refused(self) -> None:
        with self.assertRaisesRegex(CoreError, "not there any more"):
            repair.apply(demo(), ["pop/marl/arm.R/20"])

    def test_what_arrives_is_led_to_where_a_hand_takes_hold(self) -> None:
        """A hand that jumps onto a rail comes to the rail; it does not slide along it. One that is where it takes hold as it comes,
        and off from there on, stays: once it was led off by 30 mm, and glided back while it held."""
        for name, at, joint in (("Cast off", 118.0, ""), ("Ladder", 38.0, "hand.L"), ("Hauling in", 50.0, "hand.L")):
            program = Program(*named(name))
            finding = next(f for f in find_all(program) if f.kind == "pop")
            self.assertEqual(finding.frame, at)
            take, proof = repair.apply(program, [finding.key])
            after = Program(program.scene, take)
            self.assertTrue(proof.clean and proof.contacts_kept, proof.sentence)
            nodes = program.joints()[1]
            arriving, leaving = (after.evaluate([at], side).pos[0, nodes] for side in (ARRIVING, LEAVING))
            np.testing.assert_allclose(arriving, leaving, atol=1e-9)
            self.assertEqual([f.kind for f in find_all(after) if (f.part, f.frame) == (finding.part, at)], [])
            if joint:
                held = next(c for c in take.contacts if (c.joint, c.begin) == (joint, at))
                self.assertGreater(float(measure(program, held).place.max()), 0.02)
                self.assertLess(float(measure(after, held).place.max()), 1e-3, name)
                continue
            later = np.arange(2.0 * at, 2.0 * take.last + 1.0) / 2.0
            np.testing.assert_array_equal(
                after.evaluate(later).pos[:, nodes], program.evaluate(later).pos[:, nodes], name
            )

    def test_a_change_spread_over_the_edge_of_a_hold_comes_at_that_edge(self) -> None:
        """Once the hand changed over where the spread began: it slid over the rail by 60 to 150 mm, or glided by some."""
        now, name = clean(1), "marl/arm.R.drive"
        held = next(c for c in now.take.contacts if c.joint == "hand.R")
        begin, end = held.begin, held.end
        self.assertLess(float(measure(now, held).place.max()), 1e-4)
        for first, last, edge in (
            (begin - 2.0, begin + 4.0, begin), (begin, begin + 6.0, begin), (begin - 4.5, begin, begin),
            (end - 3.0, end + 4.0, end), (end - 1.5, end, end), (end, end + 6.0, end), (end - 5.0, end + 1.5, end),
        ):  # fmt: skip
            a = 0.0 if edge == begin else 1.0
            keys = [k for k in now.take.curves[name].all_keys() if k.time != edge]
            spread = [Key(first, a, a, rule=FREE), Key(last, 1.0 - a, 1.0 - a, kind=STEPPED, rule=FREE)]
            program = now.with_curves({name: curve(sorted([k for k in keys if not first <= k.time <= last] + spread))})
            (found,) = find_all(program)
            self.assertEqual((found.kind, found.frame, found.last), ("smooth", first, last))
            take, proof = repair.apply(program, [found.key])
            after = program.on(take)
            self.assertEqual(find_all(after), [])
            self.assertTrue(proof.unchanged_outside and proof.contacts_kept, proof.sentence)
            self.assertLess(float(measure(after, held).place.max()), 1e-4, (first, last))
            changes = [b.first for _, b in pairwise(states(after, after.bound("marl", "arm.R")))]
            self.assertEqual(changes, [begin, end])

    def test_a_change_spread_up_to_where_it_was_leaves_no_jump_there(self) -> None:
        """Once what its system had been at until then stayed at the last of its frames: the arm jumped by 645 mm."""
        now, name = clean(1), "marl/arm.L.drive"
        spread = [Key(118.75, 0.0, 0.0, rule=FREE), Key(120.0, 1.0, 1.0, kind=STEPPED, rule=FREE)]
        rest = [k for k in now.take.curves[name].all_keys() if k.time != 120.0]
        program = now.with_curves({name: curve(sorted(rest + spread))})
        take, proof = repair.apply(program, [f.key for f in find_all(program)])
        self.assertEqual(find_all(program.on(take)), [])
        self.assertTrue(proof.unchanged_outside and all(c.still for c in proof.changes), proof.sentence)

    def test_the_repair_of_a_lost_guide_moves_nothing(self) -> None:
        program = clean(0)
        limb = program.bounds["marl", "leg.L"]
        made = faults.lost(np.random.default_rng(3), program, limb, 60.0)
        lost = Program(program.scene, made.take)
        take, proof = repair.apply(lost, [])
        after = Program(program.scene, take)
        frames = program.take.frames
        self.assertEqual(proof.departure_place.value, 0.0)
        self.assertTrue(np.array_equal(after.evaluate(frames).pos, lost.evaluate(frames).pos))
        poses = after.evaluate(frames)
        extra = after.sample(frames, LEAVING, np.array([limb.own["leg.L.ik", "guide"]]))[0]
        root = poses.pos[:, limb.nodes[0]]
        reach = np.linalg.norm(guides_of(program, limb, poses, extra) - root, axis=1)
        self.assertLess(reach.max(), 3.0 * length_of(limb))

    def test_a_linear_segment_takes_a_speed_over(self) -> None:
        """The same repair where the incoming keys are linear: the change is smooth, what follows stays."""
        program = faults.changed_at(np.random.default_rng(1), clean(0), clean(0).bounds["marl", "leg.R"], 30.0)
        limb = program.bounds["marl", "leg.R"]
        name = program.channel_names()[limb.systems["fk"].channels[0]]
        kept = program.take.curves[name]
        keys = [k._replace(kind=LINEAR, leaving=k.leaving + 0.1) if k.time == 30.0 else k for k in kept.all_keys()]
        broken = Program(program.scene, program.take.with_curves({name: curve(keys)}))
        take, proof = repair.apply(broken, [])
        self.assertTrue(proof.clean)
        self.assertEqual(take.curves[name].key(take.curves[name].find(30.0) or 0).kind, 2)

    def test_a_key_that_changes_nothing_is_no_change(self) -> None:
        """A driver keyed again in the middle of a stretch: a flip that begins there is a flip, not a pop."""
        program = clean(0)
        limb = program.bounds["marl", "leg.L"]
        drive = program.channel_names()[drive_of(limb)]
        made = faults.flip(np.random.default_rng(2), program, limb, 30.0)
        keyed = made.take.with_curves({drive: insert(made.take.curves[drive], 30.0)})
        found = find_all(Program(program.scene, keyed))
        self.assertEqual([(f.kind, f.frame, f.last) for f in found], [("flip", 30.0, made.last)])

    def test_blocked_motion_has_no_speed_to_find(self) -> None:
        program = faults.changed_at(np.random.default_rng(4), clean(0), clean(0).bounds["marl", "leg.R"], 60.0)
        limb = program.bounds["marl", "leg.R"]
        curves = {}
        for c in limb.systems["fk"].channels:
            name = program.channel_names()[c]
            kept = program.take.curves[name]
            marks = kept.marks.copy()
            marks[kept.times >= 60.0, 0] = STEPPED
            curves[name] = Curve(kept.numbers, marks)
        blocked = Program(program.scene, program.take.with_curves(curves))
        self.assertEqual([f.kind for f in find_all(blocked) if f.frame == 60.0], [])

    def test_a_prop_that_changes_hands_meets_the_new_one(self) -> None:
        scene, take = lantern_round()
        start = "lantern/lantern.tx"
        bumped = take.with_curves({start: curve([Key(84.0, 0.0, 0.05, rule=FREE), Key(100.0, 0.05, 0.05, rule=FREE)])})
        program = Program(scene, bumped)
        found = [f for f in find_all(program) if f.member == "lantern"]
        self.assertEqual([(f.kind, f.frame) for f in found[:1]], [("pop", 84.0)])
        after = Program(scene, repair.apply(program, [found[0].key])[0])
        node = after.nodes["lantern", "lantern"]
        a, b = after.evaluate([84.0], ARRIVING), after.evaluate([84.0], LEAVING)
        self.assertLess(np.linalg.norm(a.pos[0, node] - b.pos[0, node]), 1e-6)
        self.assertLess(rotation_distance(a.rot[0, node], b.rot[0, node]), 1e-6)

    def test_states_cover_the_take_without_gaps(self) -> None:
        for seed in range(8):
            program, _, _, _ = planted(seed)
            for limb in limbs_of(program).values():
                found = states(program, limb)
                self.assertEqual((found[0].first, found[-1].last), (program.take.first, program.take.last))
                for a, b in pairwise(found):
                    self.assertEqual(a.last, b.first)
                    self.assertNotEqual(a.state, b.state)

    def test_the_turn_of_a_bend_is_measured_about_the_line_of_aim(self) -> None:
        rng = np.random.default_rng(5)
        aim = rng.normal(size=(200, 3))
        aim /= np.linalg.norm(aim, axis=1, keepdims=True)
        side = np.cross(aim, rng.normal(size=(200, 3)))
        angle = rng.uniform(-3.1, 3.1, 200)
        turned = side * np.cos(angle)[:, None] + np.cross(aim, side) * np.sin(angle)[:, None]
        np.testing.assert_allclose(side_turn(aim, side, aim, turned), angle, atol=1e-9)
