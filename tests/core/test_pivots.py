"""Turns about points: the point stays between the keys, another point takes over without a movement, and notes change nothing."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np
from numpy.random import Generator

from tests.core.contract import driven
from yielding_tether.core.clips import copy
from yielding_tether.core.curves import ARRIVING, EMPTY, LEAVING, SMOOTH, put, set_value
from yielding_tether.core.errors import CoreError
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.operations.handover import Handover
from yielding_tether.core.operations.handover import apply as hand_over
from yielding_tether.core.operations.mirror import Mirror
from yielding_tether.core.operations.mirror import apply as mirror
from yielding_tether.core.operations.paste import Paste
from yielding_tether.core.operations.paste import apply as paste
from yielding_tether.core.operations.pose import Drag
from yielding_tether.core.operations.pose import apply as pose
from yielding_tether.core.operations.transfer import transfer
from yielding_tether.core.pivots import turning_from
from yielding_tether.core.program import Program
from yielding_tether.core.takes import PivotPoint, Take
from yielding_tether.core.transforms import Floats, inverse, multiply, rotate, rotation_distance
from yielding_tether.demo.cast_off import cast_off
from yielding_tether.demo.lantern_round import lantern_round

FOOT, HAND = ("marl", "leg.L"), ("marl", "arm.R")
STILL = 1e-5


def about(axis: Floats | tuple[float, ...], degrees: float) -> Floats:
    half = np.radians(degrees) / 2.0
    return np.append(np.sin(half) * np.array(axis) / np.linalg.norm(axis), np.cos(half))


def turn(random: Generator, degrees: float) -> Floats:
    return about(random.normal(size=3), degrees)


def turned_about(
    program: Program, part: tuple[str, str], point: Floats, frame: float, by: Floats, **more: object
) -> Program:
    """A part's control turned about a point in it at a frame, as a drag of the point does."""
    control = program.bound(*part).controls
    name = next(iter(control))
    node = control[name].node
    here = program.evaluate([frame], only=[node])
    pos, rot = here.pos[0, node], here.rot[0, node]
    at = pos + rotate(rot, point)
    place = at + rotate(by, pos - at)
    drag = Drag(*part, name, frame, tuple(place), tuple(multiply(by, rot)), about=tuple(point.tolist()), **more)  # type: ignore[arg-type]
    return program.on(pose(program, drag)[0])


def track(program: Program, part: tuple[str, str], point: Floats, at: Floats, side: Floats | int = LEAVING) -> Floats:
    """(F, 3) a point of a part's control in what carries that, read from evaluated nodes."""
    control = next(iter(program.bound(*part).controls.values()))
    poses = program.evaluate(at, np.broadcast_to(side, at.shape).astype(np.int64), only=[control.node, control.space])
    place = poses.pos[:, control.node] + rotate(poses.rot[:, control.node], point)
    return rotate(inverse(poses.rot[:, control.space]), place - poses.pos[:, control.space])


class Turns(unittest.TestCase):
    def setUp(self) -> None:
        self.random = np.random.default_rng(31)
        scene, take = cast_off()
        self.program = Program(scene, take)

    def test_a_point_stays_between_the_keys_and_the_next_adds_no_movement(self) -> None:
        scene, take = cast_off()
        for part, first in ((FOOT, 8.0), (HAND, 20.0)):
            now = Program(scene, Take("still", take.rate, 0, 60))
            now = driven(now, now.bound(*part), "ik")
            # Bent, so that neither is out of reach; with a key where the turn begins.
            for name, value in (("marl/leg.L.ik.ty", 0.2), ("marl/arm.R.ik.tz", 0.25), ("marl/arm.R.ik.ty", 0.1)):
                now = now.with_curves({name: set_value(EMPTY, first, value, SMOOTH)})
            begun = now
            one, two = self.random.normal(size=(2, 3)) * 0.15
            now = turned_about(now, part, one, first + 10.0, turn(self.random, 40.0))
            quarters = np.arange(first, first + 10.01, 0.25)
            side = np.where(quarters == quarters[-1], ARRIVING, LEAVING)
            path = track(now, part, one, quarters, side)
            with self.subTest(part=part, what="it turned"):
                far = np.linalg.norm(track(now, part, np.zeros(3), quarters, side) - path[0], axis=1)
                self.assertGreater(np.ptp(track(now, part, np.zeros(3), quarters, side), axis=0).max(), 0.01)
                self.assertLess(np.ptp(far), STILL)
            with self.subTest(part=part, what="the point stays"):
                self.assertLess(np.abs(path - path[0]).max(), STILL)
            # Then about another, then lifted: nothing moves at either change.
            now = turned_about(now, part, two, first + 20.0, turn(self.random, 25.0))
            path = track(now, part, two, quarters + 10.0, np.where(quarters == quarters[-1], ARRIVING, LEAVING))
            self.assertLess(np.abs(path - path[0]).max(), STILL)
            nodes = now.joints()[1]
            for change in (first, first + 10.0, first + 20.0):
                poses = now.evaluate([change, change], np.array([ARRIVING, LEAVING]))
                with self.subTest(part=part, change=change):
                    self.assertLess(np.abs(poses.pos[0, nodes] - poses.pos[1, nodes]).max(), 1e-6)
                    self.assertLess(rotation_distance(poses.rot[0, nodes], poses.rot[1, nodes]).max(), 1e-6)
            known = {f.key for f in find_all(begun)}
            self.assertEqual([f.sentence for f in find_all(now) if f.kind == "pop" and f.key not in known], [])

    def test_points_change_no_pose_and_turns_outlive_them(self) -> None:
        asked = Asked((FOOT,), 90.0, None, {"called": "outer edge", "at": "0.2 0.1 0.3", "marker": "0.6 0.1 0.3"})
        now = self.program.on(run(self.program, "point", asked).take)
        frames = np.arange(0.0, 204.0, 0.5)
        was = self.program.evaluate(frames)
        (point,) = now.take.points
        now = turned_about(now, FOOT, np.array(point.place), 120.0, turn(self.random, 20.0))
        kept = now.evaluate(frames)
        for id, choices in (
            ("point", {"which": "outer edge", "called": "edge", "at": "0 0 0"}), ("point", {"called": "toe"}),
            ("point", {"which": "toe", "marker": "0 2 0"}), ("point", {"which": "edge", "what": "gone"}),
            ("point", {"which": "toe", "what": "gone"}),
        ):  # fmt: skip
            now = now.on(run(now, id, Asked((FOOT,), 90.0, None, choices)).take)
            again = now.evaluate(frames)
            self.assertTrue(np.array_equal(again.pos, kept.pos) and np.array_equal(again.rot, kept.rot))
        self.assertEqual(now.take.points, ())
        nodes = self.program.joints()[1]
        self.assertTrue(np.array_equal(was.pos[frames < 72, :][:, nodes], kept.pos[frames < 72, :][:, now.joints()[1]]))

    def test_a_stretch_turns_about_a_point_and_back_about_itself(self) -> None:
        begun = self.program
        point = PivotPoint(*HAND[:1], "arm.R.ik", "wrist", (0.1, -0.05, 0.2))
        now = begun.on(replace(begun.take, points=(point,)))
        frames = np.arange(0.0, 204.0, 0.5)
        for choices, last in (({"which": "wrist"}, 60.0), ({"which": "own"}, None)):
            outcome = run(now, "turn-about", Asked((HAND,), 10.0, last, {**choices, "keys": "every"}))
            now = now.on(outcome.take)
            self.assertEqual(outcome.proof.outside_place.value, 0.0)
            nodes, other = begun.joints()[1], now.joints()[1]
            one, two = begun.evaluate(frames), now.evaluate(frames)
            self.assertLess(np.abs(one.pos[:, nodes] - two.pos[:, other]).max(), 2e-4)
            whole = frames == np.floor(frames)
            self.assertLess(np.abs(one.pos[:, nodes] - two.pos[:, other])[whole].max(), 1e-9)

    def test_everything_else_goes_on_with_a_turn(self) -> None:
        point = np.array([0.04, -0.05, 0.16])
        now = turned_about(self.program, FOOT, point, 120.0, turn(self.random, 12.0))
        frames = np.arange(72.0, 121.0)
        nodes = now.joints()[1]
        was = now.evaluate(frames, np.where(frames == 120.0, ARRIVING, LEAVING))
        for id, choices in (
            ("handover", {"to": "fk", "keys": "every"}),
            ("retether", {"to": "marl/hips", "keys": "every"}),
        ):
            after = now.on(run(now, id, Asked((FOOT,), 80.0, 110.0, choices)).take)
            then = after.evaluate(frames, np.where(frames == 120.0, ARRIVING, LEAVING))
            with self.subTest(id=id):
                self.assertLess(np.abs(was.pos[:, nodes] - then.pos[:, after.joints()[1]]).max(), 1e-6)
        # Handed over to keys of FK and back from them: what is fitted stands about the point too.
        fk = now.on(hand_over(now, Handover((FOOT,), "fk", 72.0, 120.0, keys="every"))[0])
        back = fk.on(hand_over(fk, Handover((FOOT,), "ik", 72.0, 120.0, keys="every"))[0])
        then = back.evaluate(frames, np.where(frames == 120.0, ARRIVING, LEAVING))
        self.assertLess(np.abs(was.pos[:, nodes] - then.pos[:, back.joints()[1]]).max(), 1e-6)

    def test_a_mirror_turns_about_the_other_sides_point(self) -> None:
        scene, take = lantern_round()
        program = Program(scene, take)
        point = np.array([0.04, -0.05, 0.16])
        named = program.on(replace(take, points=(PivotPoint(*FOOT[:1], "leg.L.ik", "edge", tuple(point.tolist())),)))
        now = turned_about(named, FOOT, point, take.first + 12.0, turn(self.random, 15.0))
        members = tuple(m.id for m in scene.members if m.kind in ("character", "prop"))
        asked = Mirror(members, float(take.first), float(take.last))
        once = now.on(mirror(now, asked)[0])
        self.assertEqual([p.control for p in once.take.points], ["leg.R.ik"])
        self.assertIn("marl/leg.R.ik.pivot.x", once.take.curves)
        twice = once.on(mirror(once, asked)[0])
        frames = np.arange(float(take.first), float(take.last), 0.5)
        one, two = now.evaluate(frames), twice.evaluate(frames)
        legs = [
            [p.nodes["marl", j] for s in "LR" for j in (f"shin.{s}", f"foot.{s}", f"toe.{s}")] for p in (now, twice)
        ]
        self.assertLess(np.abs(one.pos[:, legs[0]] - two.pos[:, legs[1]]).max(), 1e-6)
        self.assertLess(np.abs(np.array(twice.take.points[0].place) - point).max(), 1e-12)
        # Between keys as well the mirrored foot is as far from the head as the original.
        shown, feet = once.evaluate(frames), []
        for poses, here, side in ((one, now, "L"), (shown, once, "R")):
            feet.append(poses.pos[:, here.nodes["marl", f"foot.{side}"]] - poses.pos[:, here.nodes["marl", "head"]])
        self.assertLess(np.abs(np.subtract(*(np.linalg.norm(f, axis=1) for f in feet))).max(), 1e-6)

    def test_a_move_by_name_takes_points_and_turns_along(self) -> None:
        point = np.array([0.04, -0.05, 0.16])
        named = replace(self.program.take, points=(PivotPoint("marl", "leg.L.ik", "edge", (0.04, -0.05, 0.16)),))
        now = turned_about(self.program.on(named), FOOT, point, 120.0, turn(self.random, 12.0))
        there = transfer(now, "marl", now.rig.given, "marl").take
        self.assertEqual(there.points, now.take.points)
        self.assertEqual(dict(there.curves), dict(now.take.curves))

    def test_a_copy_turns_about_its_point_where_it_is_pasted(self) -> None:
        for part, control in ((("marl", "hips"), "hips"), (FOOT, "leg.L.ik")):
            point = np.array([0.1, 0.2, -0.05])
            now = turned_about(self.program, part, point, 120.0, turn(self.random, 10.0))
            first = turning_from(now, now.bound(*part).controls[control], 120.0)
            clip = copy(now, "marl", [part[1]], first, 120.0)
            bare = Program(now.rig.given, replace(self.program.take, contacts=()))
            after = bare.on(paste(bare, Paste(clip, "marl", first, way="values"))[0])
            at = np.arange(first, 120.01, 0.25)
            side = np.where(at == 120.0, ARRIVING, LEAVING)
            nodes = [[p.nodes[part[0], j] for j in now.bound(*part).part.joints] for p in (now, after)]
            off = now.evaluate(at, side).pos[:, nodes[0]] - after.evaluate(at, side).pos[:, nodes[1]]
            with self.subTest(part=part):
                self.assertLess(np.abs(off).max(), 1e-9)

    def test_a_size_is_no_matter(self) -> None:
        grown = self.program.with_curves({"marl/hips.size": set_value(EMPTY, 0.0, 2.0, SMOOTH)})
        point = np.array([0.05, -0.04, 0.1])
        now = turned_about(grown, FOOT, point, 120.0, turn(self.random, 20.0))
        at = np.arange(72.0, 120.01, 0.25)
        path = track(now, FOOT, point, at, np.where(at == 120.0, ARRIVING, LEAVING))
        self.assertLess(np.abs(path - path[0]).max(), STILL)

    def test_locked_keys_stay(self) -> None:
        name = "marl/leg.L.ik.tx"
        kept = self.program.curve(self.program.channels[name])
        key = kept.key(kept.find(72.0) or 0)
        now = self.program.with_curves({name: put(kept, [key._replace(lock=True)])})
        with self.assertRaisesRegex(CoreError, "locked"):
            turned_about(now, FOOT, np.array([0.1, 0.0, 0.0]), 120.0, turn(self.random, 10.0))

    def test_what_cannot_be_is_said(self) -> None:
        for id, choices, word in (
            ("turn-about", {"which": "nowhere"}, "no point called 'nowhere'"),
            ("turn-about", {}, "turns about its own place there already"),
            ("turn-about", {"at": "1 2"}, "three numbers"), ("turn-about", {"at": "900 0 0"}, "within 100 m"),
            ("point", {"called": "x" * 41}, "at most 40 letters"), ("point", {"called": "own"}, "another name"),
            ("point", {"what": "gone"}, "it has none"), ("point", {"which": "heel"}, "no point called 'heel'"),
        ):  # fmt: skip
            with self.subTest(id=id, choices=choices), self.assertRaisesRegex(CoreError, word):
                run(self.program, id, Asked((FOOT,), 20.0, None, choices))
        with self.assertRaisesRegex(CoreError, "no control with a place of its own"):
            run(self.program, "point", Asked((("marl", "arm.twist.L"),), 20.0))


class Hips(unittest.TestCase):
    """Hips swung about points on, above and far from the spine: what is kept stays as far as it reaches, and else it is told."""

    def test_chest_and_feet_stay_while_hips_swing(self) -> None:
        scene, take = cast_off()
        program = Program(scene, Take("still", take.rate, 0, 20))
        # Standing in IK with bent knees, the spine free to stretch.
        low = {f"marl/leg.{s}.ik.ty": set_value(EMPTY, 0.0, 0.22, SMOOTH) for s in "LR"}
        stretch = {"marl/spine.ik.stretch": set_value(EMPTY, 0.0, 1.0, SMOOTH)}
        program = program.with_curves({**low, **stretch})
        for part in ("leg.L", "leg.R", "spine"):
            program = driven(program, program.bound("marl", part), "ik")
        keep = (("marl", "leg.L"), ("marl", "leg.R"), ("marl", "spine"))
        was = program.evaluate([10.0])
        for place in ((0.0, 0.0, 0.0), (0.0, 0.12, 0.0), (0.0, 0.4, 0.05), (0.35, 0.5, -0.3)):
            for degrees in (-30.0, -8.0, 14.0, 30.0):
                by = about((0.2, 0.4, 0.9), degrees)
                after = turned_about(program, ("marl", "hips"), np.array(place), 10.0, by, keep=keep)
                now = after.evaluate([10.0])
                off = [
                    float(np.linalg.norm(now.pos[0, after.nodes["marl", j]] - was.pos[0, program.nodes["marl", j]]))
                    for j in ("chest", "foot.L", "foot.R")
                ]  # fmt: skip
                legs = [after.bound("marl", f"leg.{s}") for s in "LR"]
                long = [float(np.linalg.norm(now.pos[0, b.nodes[2]] - now.pos[0, b.nodes[0]])) for b in legs]
                reach = [far / b.systems["ik"].data.length for far, b in zip(long, legs, strict=True)]
                with self.subTest(place=place, degrees=degrees, reach=reach):
                    self.assertLess(off[0], 1e-6)
                    for far, share in zip(off[1:], reach, strict=True):
                        self.assertLess(far if share < 0.999999 else 0.0, 1e-6)

    def test_what_does_not_reach_is_told(self) -> None:
        scene, take = cast_off()
        program = Program(scene, take)
        name = "hips"
        node = program.bound("marl", name).controls[name].node
        here = program.evaluate([40.0], only=[node])
        far = tuple((here.pos[0, node] + [0.0, -0.2, 0.0]).tolist())
        drag = Drag("marl", "hips", name, 40.0, far, tuple(here.rot[0, node].tolist()), keep=(("marl", "spine"),))
        _, proof = pose(program, drag)
        self.assertRegex(" ".join(proof.notes), "does not reach where it was to stay by (19|20)[0-9]\\.")
