"""A raw capture made workable: what stands is planted, few keys keep the rest within the tolerance, step by step."""

from __future__ import annotations

import unittest
from dataclasses import replace
from functools import cache

import numpy as np

from tests.core.test_hand import HAND, Tips, passing
from tests.core.test_rolling_plant import SLIP, TURN
from yielding_tether.core.contacts import measure
from yielding_tether.core.curves import ARRIVING, LEAVING, Curve
from yielding_tether.core.errors import CoreError
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations import OPERATIONS, Asked, Outcome, run
from yielding_tether.core.program import Program
from yielding_tether.core.progress import Cancelled, watched
from yielding_tether.core.takes import Scene
from yielding_tether.core.transforms import inverse, multiply, rotate, rotation_distance
from yielding_tether.demo.rough_crossing import Kind, crossing
from yielding_tether.formats import bvh

LEG = (("marl", "leg.L"),)
FIRST, LAST = 4.0, 96.0


@cache
def raw() -> Program:
    # Of arms that hang straight, an elbow goes through straight again and again.
    made = crossing(Kind(rate=30.0, noise=0.002, pace=2.0, seed=9))
    return Program(made.scene, made.take)


@cache
def made() -> Outcome:
    return run(raw(), "workable", Asked(LEG, FIRST, LAST))


class Workable(unittest.TestCase):
    def test_it_is_made_in_steps_that_go_on_from_one_another(self) -> None:
        outcome = made()
        self.assertEqual([s.operation for s in outcome.steps][:3], ["contacts", "plant", "bake"])
        self.assertIs(outcome.steps[-1].take, outcome.take)
        now = raw()
        for step in outcome.steps:
            again = run(now, step.operation, step.asked)
            self.assertEqual(again.label, step.label)
            for name, curve in step.take.curves.items():
                self.assertEqual(again.take.curves[name], curve)
            now = now.on(step.take)

    def test_no_step_makes_anything_jump(self) -> None:
        """Whatever arrives at a change is as exact as what leaves it, also where few keys are chosen."""
        frames = np.arange(FIRST + 1.0, LAST)
        for step in made().steps:
            now = raw().on(step.take)
            nodes = list(now.joints()[1])
            arriving, leaving = (now.track(frames, np.full(len(frames), side), nodes) for side in (ARRIVING, LEAVING))
            self.assertLess(np.abs(arriving[0] - leaving[0]).max(), 1e-6, step.label)
            self.assertLess(rotation_distance(arriving[1], leaving[1]).max(), 1e-6, step.label)
        self.assertNotIn("repair", [s.operation for s in made().steps])
        self.assertEqual([(c.part, c.frame) for c in made().proof.changes if not c.smooth], [])

    def test_what_stands_stands(self) -> None:
        after = raw().on(made().take)
        contacts = after.take.contacts
        self.assertGreaterEqual(len(contacts), 4)
        for contact in contacts:
            slip = measure(after, contact)
            self.assertLess(float(slip.place.max()), SLIP, contact.id)
            self.assertLess(float(slip.turn.max()), TURN, contact.id)

    def test_few_keys_keep_every_joint_within_the_tolerance_of_what_was_planted(self) -> None:
        planted, baked = (raw().on(s.take) for s in made().steps[1:3])
        halves = np.arange(2 * FIRST, 2 * LAST + 1) / 2.0
        nodes = [n for b in baked.bounds.values() if b.member.id == "marl" for n in b.nodes.tolist()]
        a, b = (p.evaluate(halves, only=nodes) for p in (planted, baked))
        place = np.linalg.norm(a.pos[:, nodes] - b.pos[:, nodes], axis=-1)
        turn = rotation_distance(a.rot[:, nodes], b.rot[:, nodes])
        # At the last frame the capture drives on.
        self.assertLess(float(place[:-1].max()), 1e-3 + 1e-9)
        self.assertLess(float(turn[:-1].max()), np.pi / 360.0 + 1e-9)
        channels = [k for x in baked.bounds.values() if x.member.id == "marl" for k in x.own.values()]
        counts = [sum(FIRST < t < LAST for t in baked.curve(k).times) for k in channels if len(baked.curve(k))]
        self.assertLess(sum(counts), 0.55 * len(counts) * (LAST - FIRST))

    def test_what_does_not_move_in_what_carries_it_has_a_key_at_either_end(self) -> None:
        """Fingers of which nothing is captured: keys would but take back what the tolerance has moved of the hand."""
        baked = raw().on(made().steps[2].take)
        fingers = [baked.bound("marl", f"fingers.{side}") for side in "LR"]
        counts = [len(baked.curve(int(c))) for b in fingers for c in b.systems["fk"].channels]
        self.assertEqual(set(counts), {2})
        self.assertEqual({b.state(baked.sample([40.0], LEAVING, b.driver_channels)) for b in fingers}, {"fk"})

    def test_nothing_jumps_that_did_not_and_nothing_else_changes(self) -> None:
        after = raw().on(made().take)
        self.assertEqual([f.sentence for f in find_all(after) if f.kind == "pop"], [])
        self.assertTrue(made().proof.unchanged_outside)
        # Planted hands and feet are led there, and let go.
        outside = np.concatenate([[0.0, 0.5], np.arange(LAST + 6.0, after.take.last, 0.5)])
        a, b = raw().evaluate(outside), after.evaluate(outside)
        shown = raw().joints()[1]
        self.assertLess(np.abs(a.pos[:, shown] - b.pos[:, shown]).max(), 1e-9)
        self.assertIs(after.take.captures["marl"], raw().take.captures["marl"])

    def test_steps_can_be_left_out_and_what_finds_nothing_is_told(self) -> None:
        only = {"bake": "none", "whom": "parts"}
        outcome = run(raw(), "workable", Asked(LEG, FIRST, LAST, only))
        self.assertEqual([s.operation for s in outcome.steps], ["contacts", "plant"])
        self.assertEqual({m for s in outcome.steps for m, _ in s.asked.parts}, {"marl"})
        self.assertIn("nothing to repair", " ".join(outcome.proof.notes))
        with self.assertRaisesRegex(CoreError, "at least one"):
            run(
                raw(),
                "workable",
                Asked(LEG, FIRST, LAST, {**only, "contacts": "keep", "plant": "none", "repair": "none"}),
            )
        # In the air nothing stands: it is baked all the same.
        free = run(raw(), "workable", Asked((("marl", "head"),), 10.0, 14.0, {"whom": "parts"}))
        self.assertEqual([s.operation for s in free.steps], ["bake"])

    def test_it_says_how_far_it_is_and_ends_where_nobody_wants_it(self) -> None:
        told: list[tuple[float, str]] = []

        def tell(done: float, doing: str) -> None:
            told.append((done, doing))
            if done > 0.4:
                raise Cancelled

        with watched(tell), self.assertRaises(Cancelled):
            run(raw(), "workable", Asked(LEG, FIRST, LAST))
        shares = [d for d, _ in told]
        self.assertEqual(shares, sorted(shares))
        self.assertLessEqual({"Finding contacts", "Planting"}, {w for _, w in told})
        asked = Asked(LEG, 0.0, None)
        self.assertGreater(OPERATIONS["workable"].lasts(raw(), asked), OPERATIONS["bake"].lasts(raw(), asked))


class Brought(unittest.TestCase):
    def test_a_file_without_a_stage_is_made_workable_on_the_ground(self) -> None:
        """Its feet follow the world from the start; some stances have their heel down for a single frame, fast."""
        made = crossing(Kind(rate=30.0, noise=0.002, pace=2.0, seed=9, rocks=0.0))
        read = bvh.read(bvh.write(Program(made.scene, made.take), "marl", 120, 215), "body", "walk")
        program = Program(Scene("walk", (read.member,)), read.take)
        leg = next(b.id for b in program.bounds.values() if b.part.name.startswith("leg"))
        outcome = run(program, "workable", Asked((leg,)))
        self.assertEqual([s.operation for s in outcome.steps][:3], ["contacts", "plant", "bake"])
        self.assertGreaterEqual(len(outcome.take.contacts), 4)
        for step in outcome.steps[1:]:
            self.assertTrue(step.proof.contacts_kept and step.proof.within, step.label)
            after = program.on(step.take)
            for contact in step.take.contacts:
                slip = measure(after, contact)
                self.assertLess(float(slip.place.max()), SLIP, (step.operation, contact.id))
                self.assertLess(float(slip.turn.max()), TURN, (step.operation, contact.id))


class ByFingertips(unittest.TestCase):
    def test_fingertips_on_the_rail_stay_there(self) -> None:
        """A hand passes along the rail, three fingertips on it for a while: found, planted and baked with few keys they hold."""
        program = passing("tz", 1.0)
        held = program.on(run(program, "plant", Asked((HAND,), 140.0, 150.0, {"on": "rail/rail"})).take)
        read = bvh.read(bvh.write(held, "marl", 121, 179), "body", "held")
        stage_ = tuple(m for m in program.scene.members if m.kind == "set")
        names = {m.id for m in stage_}
        curves = {
            n: Curve(c.numbers - [121.0, 0.0, 0.0, 0.0, 0.0], c.marks)
            for n, c in program.take.curves.items() if n.partition("/")[0] in names
        }  # fmt: skip
        tethers = tuple(t for t in program.take.tethers if t.member in names)
        raw = Program(Scene("held", (*stage_, read.member)), replace(read.take, curves=curves, tethers=tethers))
        parts = tuple(b.id for b in raw.bounds.values() if any(j in b.part.joints for j in ("hand.L", "finger1.tip.L")))
        self.assertEqual(len(parts), 2)
        outcome = run(raw, "workable", Asked(parts, 0.0, None, {"whom": "parts"}))
        self.assertEqual([s.operation for s in outcome.steps], ["contacts", "plant", "bake"], outcome.proof.notes)
        tips = [c for c in outcome.take.contacts if c.joint in Tips.TIPS]
        self.assertEqual(sorted(c.joint for c in tips), sorted(Tips.TIPS))
        after = raw.on(outcome.take)
        for c in tips:
            self.assertGreater(c.last - c.first, 6.0)
            at = np.append(np.arange(c.first, c.last, 0.25), c.last)
            side = np.where(at == c.last, ARRIVING, LEAVING)
            pos, rot = after.track(at, side, [after.nodes["rail", "rail"], after.nodes["body", c.joint]])
            back = inverse(rot[:, 0])
            place, turn = rotate(back, pos[:, 1] - pos[:, 0]), multiply(back, rot[:, 1])
            self.assertLess(float(np.linalg.norm(place - place[0], axis=1).max()), SLIP, c.id)
            self.assertLess(float(rotation_distance(turn, turn[:1]).max()), TURN, c.id)
