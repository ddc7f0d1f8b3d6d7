"""A stance planted from heel to ball: no point that stands slides, whatever the noise, and nothing jumps where it ends."""

from __future__ import annotations

import unittest
from dataclasses import replace
from fractions import Fraction
from functools import cache
from unittest.mock import patch

import numpy as np
from scipy.spatial.transform import Rotation

from tests.depth import DEPTH
from yielding_tether.core.contact_finding import find
from yielding_tether.core.contacts import measure, spots_of
from yielding_tether.core.curves import ARRIVING, LEAVING, Key, curve, insert
from yielding_tether.core.errors import CoreError
from yielding_tether.core.operations import OPERATIONS, Asked, run
from yielding_tether.core.parts.leg import LegPart
from yielding_tether.core.program import Program
from yielding_tether.core.proof import Proof
from yielding_tether.core.skeleton import Skeleton
from yielding_tether.core.takes import Scene, Take
from yielding_tether.core.transforms import Floats, inverse, multiply, rotate, rotation_distance
from yielding_tether.demo.rough_crossing import Kind, crossing
from yielding_tether.formats import bvh

#: Slip (metres) and turn (radians) of what is planted.
SLIP, TURN = 1e-4, np.radians(0.01)


#: Both feet and the hand on the rail.
PARTS = (("marl", "leg.L"), ("marl", "leg.R"), ("marl", "arm.R"))


@cache
def planted(kind: Kind) -> tuple[Program, Program, Proof]:
    """A capture, the same with all that stands and holds planted in one go, and the proof of that."""
    made = crossing(kind)
    program = Program(made.scene, made.take)
    suggested = OPERATIONS["plant"].suggest(program, PARTS, 0.0, None, {})
    assert suggested["each"] == "all"
    done = run(program, "plant", Asked(PARTS, 0.0, None, suggested))
    return program, program.on(done.take), done.proof


KINDS = [Kind(rate=30, noise=0.002, seed=21, tiptoe=True), Kind(rate=60, noise=0.003, seed=22, pace=1.6, rocks=1.6)][
    : 1 + DEPTH
]


def in_deck(
    program: Program, joint: str, point: Floats, times: Floats, side: int | np.ndarray
) -> tuple[Floats, Floats]:
    """(F, 3), (F, 4) a point of a joint and the joint's turn in the deck, computed from poses alone."""
    poses = program.evaluate(times, side)
    j, deck = program.nodes["marl", joint], program.nodes["deck", "deck"]
    back = inverse(poses.rot[:, deck])
    place = poses.pos[:, j] + rotate(poses.rot[:, j], point)
    return rotate(back, place - poses.pos[:, deck]), multiply(back, poses.rot[:, j])


class Rolling(unittest.TestCase):
    def test_heel_sole_ball_and_tip_stay_where_they_stand_at_quarter_frames(self) -> None:
        for kind in KINDS:
            _, after, _ = planted(kind)
            contacts = [c for c in after.take.contacts if c.joint.startswith("foot")]
            self.assertGreater(len(contacts), 8)
            self.assertGreater(sum(len(c.points) > 1 for c in contacts), 5)
            self.assertEqual(sum(len(c.points) > 2 for c in contacts) > 3, kind.tiptoe)
            for c in contacts:
                bound = after.bound("marl", f"leg.{c.joint[-1]}")
                spots = {s.name: s for s in spots_of(bound)}
                spans = {p.name: (p.first, p.last) for p in c.points} or dict.fromkeys(
                    ("heel", "ball"), (c.first, c.last)
                )
                for name, (first, last) in spans.items():
                    times = np.arange(first, last, 0.25)
                    way, _ = in_deck(after, spots[name].joints[0], spots[name].points[0], times, LEAVING)
                    end, _ = in_deck(after, spots[name].joints[0], spots[name].points[0], np.array([last]), ARRIVING)
                    way = np.concatenate([way, end])
                    self.assertLess(np.linalg.norm(way - way[len(way) // 2], axis=1).max(), SLIP, (c.id, name))
                flat = np.arange(c.first, c.last, 0.25)
                place, turn = in_deck(after, c.joint, np.zeros(3), flat, LEAVING)
                self.assertLess(np.linalg.norm(place - place[0], axis=1).max(), SLIP, c.id)
                self.assertLess(rotation_distance(turn, turn[:1]).max(), TURN, c.id)
                self.assertLess(float(measure(after, c).place.max()), SLIP)

    def test_no_point_of_a_sole_is_in_the_deck_and_the_figures_are_those_of_the_poses(self) -> None:
        """Depth and height over the planks from poses alone, each block by its own axes."""
        for kind in KINDS[:2]:
            before, after, _ = planted(kind)
            blocks = [s for s in after.scene.member("deck").shapes if s.form == "block" and s.joint == "deck"]
            self.assertTrue(blocks)
            for program, contact in ((p, c) for c in after.take.contacts for p in (before, after)):
                if not contact.joint.startswith("foot"):
                    continue
                told = measure(program, contact)
                side = np.where(np.arange(len(told.times)) == len(told.times) - 1, ARRIVING, LEAVING)
                leg = after.bound("marl", f"leg.{contact.joint[-1]}")
                deep, low = np.full(len(told.times), -np.inf), np.full(len(told.times), np.inf)
                for name, joint, point in leg.part.stands_on(leg.member.skeleton):
                    places = in_deck(program, joint, np.array(point), told.times, side)[0]
                    high = np.full(len(places), np.inf)
                    for block in blocks:
                        local = Rotation.from_quat(block.turn).inv().apply(places - np.array(block.a))
                        off = np.abs(local) - 0.5 * np.array(block.size)
                        outside = np.sqrt((np.maximum(off, 0.0) ** 2).sum(axis=1))
                        high = np.minimum(high, np.where((off < 0.0).all(axis=1), off.max(axis=1), outside))
                    stands = (told.times >= contact.first) & (told.times <= contact.last)
                    for p in (p for p in contact.points if p.name == name):
                        stands |= (told.times >= p.first) & (told.times <= p.last)
                    deep = np.maximum(deep, -high)
                    low = np.where(stands, np.minimum(low, high), low)
                np.testing.assert_allclose(told.depth, np.maximum(deep, 0.0), atol=1e-9)
                np.testing.assert_allclose(told.hover, np.maximum(low, 0.0), atol=1e-9)
                if program is after:
                    self.assertLess(float(told.depth.max()), 1e-5, contact.id)
            raw = [float(measure(before, c).depth.max()) for c in after.take.contacts]
            self.assertGreater(max(raw), 1e-3)

    def test_a_stretch_that_ends_within_an_older_stance_leaves_the_rest_of_that_where_it_stands(self) -> None:
        """Once what the new hold had moved faded over the frames that stood already."""
        made = crossing(Kind(rate=30.0, noise=0.002, pace=2.0, seed=9, rocks=0.0))
        now, legs, middle = Program(made.scene, made.take), PARTS[:2], 120.25
        for first, last in ((100.5, None), (40.0, middle)):
            for asked in ({"do": "find"}, {"each": "all"}):
                now = now.on(run(now, "contacts" if "do" in asked else "plant", Asked(legs, first, last, asked)).take)
        self.assertEqual(sum(c.first == middle + 1.0 for c in now.take.contacts), 2)
        for contact in (c for c in now.take.contacts if c.whole):
            times = np.arange(contact.first, contact.last, 0.25)
            place, _ = in_deck(now, contact.joint, np.zeros(3), times, LEAVING)
            self.assertLess(np.ptp(place, axis=0).max(), SLIP, contact.id)

    def test_a_foot_follows_the_deck_once_however_often_it_stands_there(self) -> None:
        before, after, _ = planted(KINDS[0])
        self.assertGreater(len([c for c in after.take.contacts if c.joint == "foot.L"]), 3)
        new = [(t.member, t.control, t.anchor) for t in after.take.tethers if t not in before.take.tethers]
        self.assertEqual(len(new), len(set(new)), new)

    def test_nothing_jumps_and_all_else_is_as_captured(self) -> None:
        for kind in KINDS:
            before, after, proof = planted(kind)
            contacts = after.take.contacts
            self.assertTrue(proof.unchanged_outside)
            self.assertGreater(len(proof.changes), 15)
            self.assertTrue(all(c.still and c.smooth for c in proof.changes), proof.changes)
            hand = next(c for c in contacts if c.joint == "hand.R")
            slip = measure(after, hand)
            self.assertLess(float(slip.place.max()), SLIP)
            self.assertLess(float(slip.turn.max()), TURN)
            # As it was captured its fingers were in the rail.
            self.assertGreater(float(measure(before, hand).depth.max()), 5e-3)
            self.assertLess(max(float(slip.depth.max()), float(slip.hover.max())), 1e-5)
            for id, kept in before.take.captures.items():
                self.assertIs(after.take.captures[id], kept)
            frames = before.take.frames
            a, b = before.evaluate(frames), after.evaluate(frames)
            for side in "LR":
                near = np.zeros(len(frames), dtype=bool)
                for c in (c for c in contacts if c.joint == f"foot.{side}"):
                    near |= (frames >= c.begin - 3) & (frames <= c.end + 6)
                nodes = before.bound("marl", f"leg.{side}").nodes
                self.assertLess(np.abs(a.pos[~near][:, nodes] - b.pos[~near][:, nodes]).max(initial=0.0), 1e-9)
                # What goes is the noise: nothing is moved farther than a few of it.
                off = np.linalg.norm(a.pos[:, nodes[2]] - b.pos[:, nodes[2]], axis=1)
                self.assertLess(off.max(), 8.0 * kind.noise)

    def test_a_bake_of_body_and_legs_with_few_keys_leaves_what_stands_where_it_stands(self) -> None:
        """Whatever the tolerance: once the feet went along with the hips, and every half-frame got keys in vain."""
        _, planted_, _ = planted(KINDS[0])
        body = (("marl", "hips"), ("marl", "leg.L"), ("marl", "leg.R"))
        done = run(planted_, "bake", Asked(body, 0.0, None, {"keys": "few", "to": ""}))
        after = planted_.on(done.take)
        feet = [c for c in planted_.take.contacts if c.joint.startswith("foot")]
        for c in feet:
            slip = measure(after, c)
            self.assertLess(float(slip.place.max()), SLIP, c.id)
            self.assertLess(float(slip.turn.max()), TURN, c.id)
        halves = np.arange(0.0, after.take.last + 0.25, 0.5)
        nodes = [n for part in body for n in after.bound(*part).nodes.tolist()]
        a, b = (p.evaluate(halves).pos[:, nodes] for p in (planted_, after))
        self.assertLess(float(np.linalg.norm(a - b, axis=-1).max()), 1e-3)
        names = after.channel_names()
        leg = after.bound("marl", "leg.L").systems["ik"].channels
        # Noise of two millimetres asks for keys, but not for one on every half-frame.
        self.assertLess(max(len(done.take.curves[names[c]]) for c in leg[:3]), 0.6 * len(after.take.frames))

    def test_it_holds_where_it_is_in_the_mean_from_the_first_frame_of_a_take_on(self) -> None:
        """What arrives at the first frame of a take is of no account: once a captured foot was held 70 mm off there."""
        made = crossing(KINDS[0])
        program = Program(made.scene, made.take)
        first = find(program, [("marl", "leg.L")])[0]
        self.assertEqual(first.begin, 0.0)
        for how in ({"at": "first"}, {"at": "mean"}):
            asked = Asked((("marl", "leg.L"),), 0.0, first.last, {"on": "deck/deck", **how})
            after = program.on(run(program, "plant", asked).take)
            times = np.arange(0.0, first.last)
            was, now = (in_deck(p, "foot.L", np.zeros(3), times, LEAVING)[0] for p in (program, after))
            self.assertLess(np.ptp(now, axis=0).max(), SLIP)
            wanted = was[0] if how["at"] == "first" else was.mean(axis=0)
            # With the roll of a single frame of the noise the sole is some millimetres in the deck, of which it comes out.
            self.assertLess(np.linalg.norm(now[0] - wanted), 5e-3, how)

    def test_several_parts_are_held_at_once(self) -> None:
        """Each hold may add a follow, whose weights are channels: once the second of two was written into those of others."""
        made = crossing(KINDS[0])
        program = Program(made.scene, made.take)
        after = program.on(run(program, "plant", Asked(PARTS[:2], 2.0, 12.0, {"on": "deck/deck", "at": "mean"})).take)
        times = np.arange(2.0, 12.0, 0.25)
        for joint in ("foot.L", "foot.R"):
            place, turn = in_deck(after, joint, np.zeros(3), times, LEAVING)
            self.assertLess(np.ptp(place, axis=0).max(), SLIP)
            self.assertLess(rotation_distance(turn, turn[:1]).max(), TURN)

    def test_it_ends_at_once_where_there_is_no_ease_and_knows_no_name_of_a_point(self) -> None:
        made = crossing(KINDS[0])
        renamed = [("aft", "bow", "beak")[k] for k in range(3)]
        of_a_leg = LegPart.stands_on

        def other(part: LegPart, skeleton: Skeleton) -> tuple[tuple[str, str, tuple[float, float, float]], ...]:
            return tuple((n, *rest) for n, (_, *rest) in zip(renamed, of_a_leg(part, skeleton), strict=True))  # type: ignore[misc]

        with patch.object(LegPart, "stands_on", other):
            program = Program(made.scene, made.take)
            after = program.on(
                run(program, "plant", Asked(PARTS[:1], 0.0, None, {"each": "all", "ease": 0, "before": 0})).take
            )
            self.assertEqual({p.name for c in after.take.contacts for p in c.points}, set(renamed))
            for contact in after.take.contacts:
                self.assertLess(float(measure(after, contact).place.max()), SLIP)

    def test_what_stands_nowhere_is_told(self) -> None:
        made = crossing(KINDS[0])
        program = Program(made.scene, made.take)
        with self.assertRaisesRegex(CoreError, "nothing stands on anything"):
            run(program, "plant", Asked((("marl", "arm.L"),), 0.0, None, {"each": "all"}))
        _, after, _ = planted(KINDS[0])
        with self.assertRaisesRegex(CoreError, "planted there already"):
            run(after, "plant", Asked(PARTS, 0.0, None, {"each": "all"}))

    def test_what_can_not_roll_is_told(self) -> None:
        made = crossing(KINDS[0])
        program = Program(made.scene, made.take)
        with self.assertRaisesRegex(CoreError, "no foot that rolls"):
            run(program, "plant", Asked((("marl", "arm.R"),), 60, 90, {"on": "rail/rail", "hold": "rolls"}))
        stance = find(program, [("marl", "leg.R")])
        swings = (stance[0].end + 4, stance[1].begin - 4)
        with self.assertRaisesRegex(CoreError, "find its contacts"):
            run(program, "plant", Asked((("marl", "leg.R"),), *swings, {"on": "deck/deck", "hold": "rolls"}))

    def test_a_key_that_rounding_alone_parts_from_a_frame_makes_no_slope(self) -> None:
        """Of two times 1e-14 apart no speed can be taken: once a half-frame beside one was 115 mm off."""
        made = crossing(KINDS[0])
        name = "deck/deck.ty"
        kept = made.take.curves[name]
        take = made.take.with_curves({name: insert(kept, 33.00000000000001)})
        program = Program(made.scene, take)
        choices = {"to": "deck/deck", "keys": "every", "control": "leg.R.ik"}
        leg, halves = (("marl", "leg.R"),), np.arange(20.0, 50.0, 0.5)
        follows = program.on(run(program, "retether", Asked(leg, 20.0, 50.0, choices)).take)
        after = program.on(run(follows, "handover", Asked(leg, 20.0, 50.0, {"to": "ik", "keys": "every"})).take)
        nodes = program.bound(*leg[0]).nodes
        a, b = (p.evaluate(halves).pos[:, nodes] for p in (program, after))
        self.assertLess(np.abs(a - b).max(), 0.01)


class Alone(unittest.TestCase):
    """Heel or ball alone: of a body on the ground whose legs reach."""

    FRAMES = np.arange(81.0)
    FOOT = ("thigh.L", "shin.L", "foot.L", "toe.L")

    def setUp(self) -> None:
        marl = crossing(KINDS[0]).scene.member("marl")
        self.rest = Program(Scene("ground", (marl,)), Take("turn", Fraction(30), 0, 80))

    def worked(self, given: dict[str, Floats]) -> tuple[Program, Program]:
        """A capture of the body with these values of channels, frame by frame, and the same made workable: its left leg."""
        low = dict.fromkeys(("leg.L.drive", "leg.R.drive"), np.ones(81))
        low |= {"leg.R.ik.ty": np.full(81, 0.1), "hips.ty": np.full(81, -0.1)}
        curves = {
            f"marl/{n}": curve([Key(t, v, v) for t, v in zip(self.FRAMES.tolist(), x.tolist(), strict=True)])
            for n, x in (low | given).items()
        }
        read = bvh.read(bvh.write(self.rest.on(replace(self.rest.take, curves=curves)), "marl", 0, 80), "body", "turn")
        before = Program(Scene("turn", (read.member,)), read.take)
        asked = Asked((("body", "leg.L"),), 0.0, 80.0, {"whom": "parts"})
        return before, before.on(run(before, "workable", asked).take)

    def points(self, after: Program) -> list[tuple[str, float, float]]:
        """What of the foot stands, and how much that is; nothing of it slips."""
        mine = [c for c in after.take.contacts if c.joint == "foot.L"]
        self.assertLess(max(float(measure(after, c).place.max()) for c in mine), SLIP)
        return [(p.name, p.first, p.last) for c in mine for p in c.points]

    def test_a_foot_that_turns_on_its_ball_goes_on_turning(self) -> None:
        """Its heel leaves, it turns by up to 130° about its ball and stands again: planted and baked with few keys it does too."""
        u = np.clip((self.FRAMES - 30.0) / 20.0, 0.0, 1.0)
        ankle, toe = (self.rest.evaluate([0.0]).pos[0, self.rest.nodes["marl", j]] for j in ("foot.L", "toe.L"))
        ball = np.array([toe[0], 0.0, toe[2]])
        for most in (1.2, 2.3):
            ways = most * u * u * (3.0 - 2.0 * u)
            turned = Rotation.from_rotvec(np.outer(ways, (0.0, 1.0, 0.0))).apply(ball - ankle)
            place = ball - turned - ankle + (0.0, 0.1, 0.0)
            before, after = self.worked(
                {f"leg.L.ik.t{c}": place[:, k] for k, c in enumerate("xyz")} | {"leg.L.ik.ry": ways}
            )
            self.assertGreater(max(last for name, _, last in self.points(after) if name == "ball"), 40.0)
            at, foot = np.arange(0.0, 80.0, 0.25), [before.nodes["body", j] for j in self.FOOT]
            off = np.linalg.norm(before.evaluate(at).pos[:, foot] - after.evaluate(at).pos[:, foot], axis=-1)
            self.assertLess(float(off.max()), 2e-3, (most, at[off.max(axis=1).argmax()]))

    def test_what_stands_on_its_ball_or_its_tip_alone_is_planted(self) -> None:
        """On the ball of its foot or its tip, from one place to another, its heel going up and down, and turning or not."""
        u = np.clip((self.FRAMES - 36.0) / 8.0, 0.0, 1.0)
        goes = u * u * (3.0 - 2.0 * u)
        for point, n, roll, twist in (("ball", 1, 0.42, 0.0), ("ball", 1, 0.42, 0.5), ("tip", 2, 1.3, 0.3)):
            before, after = self.worked({
                "leg.L.ik.roll": roll + 0.1 * np.sin(self.FRAMES / 7.0), f"leg.L.ik.{point}": twist * np.sin(self.FRAMES / 11.0),
                "leg.L.ik.ty": 0.1 + 0.04 * np.sin(np.pi * u), "leg.L.ik.tz": 0.15 * goes, "hips.tz": 0.1 * goes,
            })  # fmt: skip
            stands = self.points(after)
            self.assertEqual([name for name, _, _ in stands], [point, point])
            spot = spots_of(after.bound("body", "leg.L"))[n]
            # The second stands up to the last frame: nothing jumps there.
            held = before.on(run(before, "plant", Asked((("body", "leg.L"),), 0.0, None, {"each": "all"})).take)
            ends = [held.evaluate([80.0], side).pos[0, held.nodes["body", "foot.L"]] for side in (ARRIVING, LEAVING)]
            self.assertEqual(stands[-1][2], 80.0)
            self.assertLess(float(np.abs(ends[0] - ends[1]).max()), 1e-9)
            for _, first, last in stands:
                self.assertGreater(last - first, 25.0)
                at = np.arange(first, last, 0.25)
                ways = []
                for program in (before, after):
                    poses, joint = program.evaluate(at), program.nodes["body", spot.joints[0]]
                    ways.append(poses.pos[:, joint] + rotate(poses.rot[:, joint], spot.points[0]))
                self.assertGreater(float(np.ptp(ways[0], axis=0).max()), 10 * SLIP)
                self.assertLess(float(np.linalg.norm(ways[1] - ways[1][0], axis=1).max()), SLIP)
                self.assertLess(float(np.linalg.norm(ways[1] - ways[0], axis=1).max()), 0.02)

    def test_what_goes_up_on_its_tip_and_turns_there_stays_near_where_it_was(self) -> None:
        """Once a ball up in the air counted as one that stands: planted, the foot was 100 mm off and left at 140 mm a frame."""

        def ramp(first: float, last: float) -> Floats:
            u = np.clip((self.FRAMES - first) / (last - first), 0.0, 1.0)
            return u * u * (3.0 - 2.0 * u)

        leaves = np.clip((self.FRAMES - 56.0) / 20.0, 0.0, 1.0) ** 2
        for begun, by_ball, by_tip in ((0.0, -0.9, 0.8), (0.3, 0.8, 0.5)):
            before, after = self.worked({
                "leg.L.ik.roll": begun + 0.5 * ramp(10, 24) + 0.7 * ramp(30, 38), "leg.L.ik.ball": by_ball * ramp(14, 30),
                "leg.L.ik.tip": by_tip * ramp(34, 52), "leg.L.ik.ty": 0.1 + 0.06 * leaves, "leg.L.ik.tz": 0.1 * leaves,
            })  # fmt: skip
            spans = {name: (first, last) for name, first, last in self.points(after)}
            self.assertEqual("heel" in spans, begun == 0.0)
            self.assertGreater(spans["tip"][1], 50.0)
            self.assertLess(spans["ball"][1], spans["tip"][0] + 1e-9)
            at, foot = np.arange(0.0, 80.0, 0.25), [before.nodes["body", j] for j in self.FOOT]
            was, now = (p.evaluate(at).pos[:, foot] for p in (before, after))
            self.assertLess(float(np.linalg.norm(was - now, axis=-1).max()), 0.015)
            speeds = [float(np.linalg.norm(np.diff(x, axis=0), axis=-1).max()) for x in (was, now)]
            self.assertLess(speeds[1], 1.5 * speeds[0])
