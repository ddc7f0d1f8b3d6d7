"""A11: copied poses and ranges go to another frame, take, body and side; what has no match is listed."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from yielding_tether.core.clips import across, copy, local_turns, reflected
from yielding_tether.core.curves import LEAVING
from yielding_tether.core.errors import CoreError
from yielding_tether.core.operations.paste import Paste, apply
from yielding_tether.core.parts import LimbPart
from yielding_tether.core.program import Program
from yielding_tether.core.skeleton import Joint, Skeleton
from yielding_tether.core.takes import Scene
from yielding_tether.core.transforms import Floats, inverse, multiply, rotate, rotation_distance
from yielding_tether.demo.lantern_round import lantern_round

from .readings import drive_of, limbs_of
from .test_findings import clean
from .test_handover import captured, demo
from .worlds import limb_member, random_take, scene

ARMS = ["arm.L", "arm.R"]
UPPER = ["spine", "head", "arm.L", "fingers.L", "arm.R", "fingers.R"]


def turns(program: Program, parts: list[str], frame: float, member: str = "marl") -> Floats:
    """Turns of joints against the joint above, measured from the poses alone."""
    return np.concatenate([
        local_turns(program, program.bound(member, p), program.evaluate([frame]))[0] for p in parts
    ])  # fmt: skip


class Poses(unittest.TestCase):
    def test_a_pose_lands_exactly_in_both_systems(self) -> None:
        rng = np.random.default_rng(4)
        for parts in (ARMS, UPPER, ["leg.L", "leg.R", "fingers.L"]):
            for _ in range(4):
                source, target = (float(f) for f in rng.integers(5, 190, 2))
                clip = copy(demo(), "marl", parts, source, source)
                take, proof = apply(demo(), Paste(clip, "marl", target))
                after = Program(demo().scene, take)
                off = rotation_distance(turns(after, parts, target), turns(demo(), parts, source))
                self.assertLess(off.max(), 1e-6)
                self.assertEqual(proof.notes, ())
                self.assertLessEqual(proof.outside_place.value, 1e-9)
                for name in parts:
                    limb = limbs_of(after).get(("marl", name))
                    if limb is None:
                        continue
                    # Whichever system drives, the pose is the same: both were keyed.
                    for drive in (0.0, 1.0):
                        poses = after.evaluate([target], overrides={drive_of(limb): drive})
                        got = local_turns(after, limb, poses)[0]
                        self.assertLess(rotation_distance(got, turns(demo(), [name], source)).max(), 1e-6)

    def test_the_driver_of_a_pasted_pose_stays(self) -> None:
        clip = copy(demo(), "marl", ARMS, 60.0, 60.0)
        take, _ = apply(demo(), Paste(clip, "marl", 150.0))
        for name in ("marl/arm.L.drive", "marl/arm.R.drive"):
            self.assertEqual(take.curves[name], demo().take.curves[name])

    def test_the_other_side_is_a_reflection(self) -> None:
        """Marl's rest is symmetric, so the reflected pose of a hand is measured in the plane between the shoulders."""
        rng = np.random.default_rng(7)
        for frame in rng.integers(5, 200, 6).astype(float):
            clip = copy(demo(), "marl", ["arm.L"], float(frame), float(frame))
            take, _ = apply(demo(), Paste(clip, "marl", 30.0, swap=True))
            after = Program(demo().scene, take)
            here, there = demo().evaluate([frame]), after.evaluate([30.0])

            def seen(program: Program, poses, joint: str) -> Floats:  # type: ignore[no-untyped-def]
                chest = program.nodes["marl", "chest"]
                place = poses.pos[0, program.nodes["marl", joint]] - poses.pos[0, chest]
                return rotate(inverse(poses.rot[0, chest]), place)

            for joint in ("upperarm", "forearm", "hand"):
                left, right = seen(demo(), here, f"{joint}.L"), seen(after, there, f"{joint}.R")
                np.testing.assert_allclose(right, left * [-1.0, 1.0, 1.0], atol=1e-6)

    def test_what_has_no_match_is_listed(self) -> None:
        member = demo().scene.member("marl")
        bare = replace(member, id="bare", name="Bare", parts=tuple(p for p in member.parts))
        fewer = [
            replace(p, label=f"odd {p.label}", name=f"odd.{p.name}") if p.name == "head" else p for p in bare.parts
        ]
        bare = replace(bare, parts=tuple(fewer))
        clip = copy(demo(), "marl", ["head", "arm.L"], 40.0, 40.0)
        program = Program(Scene("two", (*demo().scene.members, bare)), demo().take)
        take, proof = apply(program, Paste(clip, "bare", 20.0))
        self.assertEqual(proof.notes, ("head: Bare has no part like it.",))
        off = turns(Program(program.scene, take), ["arm.L"], 20.0, "bare")
        self.assertLess(rotation_distance(off, turns(demo(), ["arm.L"], 40.0)).max(), 1e-6)
        # What has another name goes by what it is called.
        called = replace(bare, id="called", parts=tuple(replace(p, name=f"my.{p.name}") for p in member.parts))
        also = Program(Scene("two", (*demo().scene.members, called)), demo().take)
        _, proof = apply(also, Paste(clip, "called", 20.0))
        self.assertEqual(proof.notes, ())
        only = copy(demo(), "marl", ["head"], 40.0, 40.0)
        with self.assertRaisesRegex(CoreError, "Nothing of this clip has a match in Bare"):
            apply(program, Paste(only, "bare", 20.0))

    def test_another_body_of_other_axes_takes_the_turns(self) -> None:
        """Bodies whose joints rest turned otherwise take the same turns, seen in the axes of the body."""
        rng = np.random.default_rng(9)
        a, b = limb_member(rng, "a"), limb_member(rng, "b")
        # The same bones, told with other axes: each joint's rest is turned by its own amount.
        spins = [np.array([0.0, 0.0, 0.0, 1.0]), *(rng.normal(size=(4, 4)))]
        spins = [s / np.linalg.norm(s) for s in spins]
        joints = []
        for n, joint in enumerate(a.skeleton.joints):
            up = spins[joint.parent] if joint.parent >= 0 else np.array([0.0, 0.0, 0.0, 1.0])
            offset = rotate(inverse(up), np.array(joint.offset))
            rest = multiply(inverse(up), multiply(np.array(joint.rest), spins[n]))
            joints.append(Joint(joint.name, joint.parent, tuple(offset.tolist()), tuple(rest.tolist())))
        upper = spins[a.skeleton.index["upper"]]
        parts = tuple(
            replace(p, hinge=tuple(rotate(inverse(upper), np.array(p.hinge)).tolist()))
            if isinstance(p, LimbPart)
            else p
            for p in a.parts
        )
        b = replace(b, skeleton=Skeleton(tuple(joints)), parts=parts)
        take = random_take(rng, (a, b))
        program = Program(scene(a, b), take)
        clip = copy(program, "a", ["limb", "carrier"], 20.0, 20.0)
        after = Program(program.scene, apply(program, Paste(clip, "b", 40.0))[0])
        for part in ("limb", "carrier"):
            off = rotation_distance(turns(after, [part], 40.0, "b"), turns(program, [part], 20.0, "a"))
            self.assertLess(off.max(), 1e-6)


class Ranges(unittest.TestCase):
    def test_values_go_to_another_place_with_all_their_keys(self) -> None:
        clip = copy(demo(), "marl", ["arm.L", "head"], 20.0, 70.0)
        take, proof = apply(demo(), Paste(clip, "marl", 120.0, way="values"))
        after = Program(demo().scene, take)
        limb = demo().bounds["marl", "arm.L"]
        at = np.linspace(20.0, 69.9, 41)
        for c in (*limb.systems["fk"].channels, *limb.systems["ik"].channels, drive_of(limb)):
            a = demo().sample(at, LEAVING, np.array([c]))
            np.testing.assert_allclose(after.sample(at + 100.0, LEAVING, np.array([c])), a, atol=1e-12)
        self.assertLessEqual(proof.outside_place.value, 1e-9)
        before = demo().evaluate(np.arange(0.0, 120.0))
        self.assertTrue(np.allclose(after.evaluate(np.arange(0.0, 120.0)).pos, before.pos, atol=1e-12))
        for name, kept in demo().take.curves.items():
            outside = [k for k in kept.all_keys() if not 120.0 <= k.time <= 170.0]
            self.assertEqual(
                [k for k in take.curves[name].all_keys() if not 120.0 <= k.time <= 170.0][1:-1], outside[1:-1]
            )

    def test_a_pasted_range_brings_its_systems(self) -> None:
        clip = copy(clean(1), "marl", ["arm.R"], 96.0, 116.0)
        take, _ = apply(clean(1), Paste(clip, "marl", 20.0))
        after = Program(clean(1).scene, take)
        limb = after.bounds["marl", "arm.R"]
        at = np.linspace(96.0, 115.9, 80)
        was = clean(1).sample(at, LEAVING, np.array([drive_of(limb)]))
        self.assertEqual(set(np.unique(was)), {0.0, 1.0})
        np.testing.assert_array_equal(after.sample(at - 76.0, LEAVING, np.array([drive_of(limb)])), was)
        keyed = [96.0 + float(t) for t in clip.parts[0].times[:-1]]
        got = np.stack([turns(after, ["arm.R"], t - 76.0) for t in keyed])
        want = np.stack([turns(clean(1), ["arm.R"], t) for t in keyed])
        self.assertLess(rotation_distance(got, want).max(), 1e-6)

    def test_a_body_without_some_channels_is_told_so(self) -> None:
        """From a limb whose lengths move to one whose do not: the rest arrives, the lengths are listed."""
        rng = np.random.default_rng(2)
        a, b = limb_member(rng, "a", moves=True), limb_member(rng, "b")
        program = Program(scene(a, b), random_take(rng, (a, b)))
        clip = copy(program, "a", ["limb"], 10.0, 30.0)
        take, proof = apply(program, Paste(clip, "b", 25.0, way="values"))
        self.assertIn("limb: it has no channel joint 1 tx.", proof.notes)
        after = Program(program.scene, take)
        at = np.linspace(10.0, 29.9, 15)
        one = program.sample(at, LEAVING, np.array([program.channels["a/upper.rx"]]))
        two = after.sample(at + 15.0, LEAVING, np.array([after.channels["b/upper.rx"]]))
        np.testing.assert_allclose(two, one, atol=1e-12)

    def test_a_range_goes_to_the_other_side(self) -> None:
        clip = copy(demo(), "marl", ["arm.R"], 20.0, 60.0)
        take, proof = apply(demo(), Paste(clip, "marl", 20.0, swap=True))
        after = Program(demo().scene, take)
        for name in clip.parts[0].times:
            t = 20.0 + float(name)
            if t >= 60.0:
                continue
            want = reflected(turns(demo(), ["arm.R"], t), across(demo().scene.member("marl")))
            self.assertLess(rotation_distance(turns(after, ["arm.L"], t), want).max(), 1e-6)
        self.assertLessEqual(proof.outside_place.value, 1e-9)
        with self.assertRaisesRegex(CoreError, "other side"):
            apply(demo(), Paste(clip, "marl", 20.0, swap=True, way="values"))

    def test_a_tether_that_is_not_there_is_told(self) -> None:
        clip = copy(demo(), "marl", ["arm.L"], 110.0, 130.0)
        scene_, take = lantern_round()
        _, proof = apply(Program(scene_, take), Paste(clip, "marl", 20.0))
        self.assertIn("left arm: it follows nothing called rail here.", proof.notes)


class Refusals(unittest.TestCase):
    def test_bad_copies_and_pastes_are_refused(self) -> None:
        with self.assertRaisesRegex(CoreError, "at least one part"):
            copy(demo(), "marl", [], 1.0, 1.0)
        with self.assertRaisesRegex(CoreError, "do not lie in the take"):
            copy(demo(), "marl", ARMS, 190.0, 400.0)
        clip = copy(demo(), "marl", ARMS, 20.0, 60.0)
        with self.assertRaisesRegex(CoreError, "would reach from frame 190 to 230"):
            apply(demo(), Paste(clip, "marl", 190.0))
        body = captured()
        arm = next(p for p in body.scene.members[0].parts if isinstance(p, LimbPart))
        with self.assertRaisesRegex(CoreError, "Captured motion drives"):
            apply(body, Paste(copy(body, "body", [arm.name], 5.0, 5.0), "body", 9.0))
