"""Joints whose turn follows something: an FK arm, a head, a chest that stay as they were while the body turns."""

from __future__ import annotations

import unittest
from dataclasses import replace
from itertools import product

import numpy as np

from tests.depth import DEPTH
from yielding_tether.core.curves import ARRIVING, LEAVING, SMOOTH, Key, curve
from yielding_tether.core.errors import CoreError
from yielding_tether.core.express import Placing
from yielding_tether.core.findings import find_all
from yielding_tether.core.fitting import fit
from yielding_tether.core.operations.mirror import Mirror
from yielding_tether.core.operations.mirror import apply as mirror
from yielding_tether.core.operations.retether import OWN, Retether, able, apply, drop
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Take, Tether
from yielding_tether.core.transforms import multiply, rotate, rotation_distance
from yielding_tether.demo import named
from yielding_tether.demo.cast_off import cast_off
from yielding_tether.demo.lantern_round import lantern_round

from .contract import kinds, programs
from .test_retether import Checked, world
from .worlds import limb_member, scene, stepped


def tied(program: Program, control: str, anchor: tuple[str, str], weight: float, member: str = "arm") -> Program:
    """A take in which a joint's turn follows something all along, so far."""
    tether = Tether("it", member, control, *anchor, False, True)
    take = replace(program.take, tethers=(*program.take.tethers, tether))
    return program.on(take).with_curves({tether.weight_channel("rotation"): stepped((0, weight))})


class Steady(unittest.TestCase):
    def test_while_the_body_turns_a_joint_stays_follows_or_goes_half_way(self) -> None:
        """A quarter turn of the body: steady where the joint follows the world in full, along where it does not."""
        for seed in range(4):
            member = limb_member(np.random.default_rng(seed))
            turn = curve([Key(0, 0, 0, 0, 0, SMOOTH), Key(60, np.pi / 2, np.pi / 2, 0, 0, SMOOTH)])
            body = member.parts[0]
            take = Take("turn", 24, 0, 60, {f"arm/root.r{body.joint_orders[0][-1]}": turn})  # type: ignore[arg-type]
            plain = Program(scene(member), take)
            for joint in ("carrier", "upper"):
                for weight, quarter in ((1.0, 0.0), (0.0, 1.0), (0.25, 0.75), (0.5, 0.5)):
                    program = tied(plain, joint, ("world", "world"), weight)
                    rot = program.evaluate(take.frames).rot[:, program.nodes["arm", joint]]
                    gone = rotation_distance(rot, rot[0])
                    body_gone = rotation_distance(
                        *(program.evaluate([t]).rot[0, program.nodes["arm", "root"]] for t in (0, 60))
                    )
                    self.assertAlmostEqual(gone[-1], quarter * body_gone, 9, (seed, joint, weight))

    def test_dialled_in_ten_thousand_steps_it_goes_in_as_small_steps(self) -> None:
        """A joint and a control between their own space and one, two or three things, along a random path of weights."""
        count = 10_000
        for seed in range(6):
            rng = np.random.default_rng(seed)
            control = ("upper", "limb.ik")[seed % 2]
            program = world(1).with_curves({"arm/limb.drive": stepped((0, float(seed % 2)))})
            anchors = [("raft", "raft"), ("cup", "cup"), ("other", "carrier")][: 1 + seed // 2]
            tethers = tuple(Tether(f"t{k}", "arm", control, *a, bool(seed % 2)) for k, a in enumerate(anchors))
            now = program.on(replace(program.take, tethers=tethers))
            share = np.linspace(0.0, 1.0, count)
            paths = [share ** rng.uniform(1.0, 1.4) / len(anchors) for _ in anchors]
            over = {now.channels[n]: path for t, path in zip(tethers, paths, strict=True) for n in t.weights}
            bound = now.bound("arm", "limb")
            placed = bound.followers[control]
            held = now.evaluate([20.0], only=[a.node for a in placed.anchors])
            turns = [multiply(held.rot[0, a.node], a.rot) for a in placed.anchors]
            places = [held.pos[0, a.node] + rotate(held.rot[0, a.node], a.pos) for a in placed.anchors]
            widest = max(float(rotation_distance(a, b)) for a in turns for b in turns)
            self.assertLess(widest, np.radians(120.0))
            poses = now.evaluate(np.full(count, 20.0), overrides=over)
            step = float(sum(np.abs(np.diff(path)) for path in paths).max())
            rot, pos = poses.rot[:, placed.space], poses.pos[:, placed.space]
            self.assertLessEqual(rotation_distance(rot[1:], rot[:-1]).max(), 1.5 * widest * step, seed)
            if seed % 2:
                far = max(float(np.linalg.norm(a - b)) for a in places for b in places)
                self.assertLessEqual(np.linalg.norm(np.diff(pos, axis=0), axis=1).max(), 1.5 * far * step, seed)


class Fitted(unittest.TestCase):
    def test_every_system_meets_every_pose_whatever_its_joints_follow(self) -> None:
        """All kinds of parts, keyed and captured, inner joints too, while one system drives or two are mixed."""
        for kind in kinds():
            for seed in range(2 * DEPTH):
                for plain, bound in programs(seed, kind):
                    joints = [c for c in able(bound) if c.is_joint]
                    if not joints:
                        continue
                    rng = np.random.default_rng(seed)
                    joint = joints[rng.integers(len(joints))].name
                    root = (bound.member.id, bound.member.skeleton.joints[0].name)
                    anchor = ("world", "world") if seed % 2 else root
                    program = tied(plain, joint, anchor, 0.6, bound.member.id)
                    part = program.bound(*bound.id)
                    names = program.channel_names()
                    for share in (0.0, 1.0, 0.4):
                        driven = program.with_curves({names[c]: stepped((0, share)) for _, c in part.drivers})
                        at = np.sort(rng.uniform(0.0, 60.0, 9))
                        poses = driven.evaluate(at)
                        for system in part.keyed_systems:
                            found = fit(driven, driven.bound(*bound.id), system, poses)
                            own = part.systems[system].channels.tolist()
                            over = {**dict(zip(own, found.values, strict=True)), **part.drive_to(system)}
                            got = driven.evaluate(at, overrides=over)
                            place = np.abs(got.pos[:, part.nodes] - poses.pos[:, part.nodes]).max()
                            turn = rotation_distance(got.rot[:, part.nodes], poses.rot[:, part.nodes]).max()
                            self.assertLess(max(place, turn), 1e-6, (kind, seed, system, share))
                        # Any subset of times, and of nodes, the same bits.
                        some = driven.evaluate(at[3:5], only=part.nodes)
                        self.assertEqual(some.rot[:, part.nodes].tobytes(), poses.rot[3:5, part.nodes].tobytes())


class Retethered(Checked):
    def test_the_motion_goes_on_whatever_is_followed(self) -> None:
        """Joints of a limb that FK drives, and of a part of joints, all anchors moving."""
        for seed in range(3 * DEPTH):
            program = world(3 * seed)
            rng = np.random.default_rng(900 + seed)
            for part, joint in (("limb", "upper"), ("limb", "end"), ("carrier", "carrier")):
                for to in ("world", "raft/raft", "cup/cup", "other/end", "other/limb.ik", "arm/root"):
                    first = float(rng.integers(3, 30))
                    last = None if rng.random() < 0.4 else float(rng.integers(first + 5, 58))
                    with self.subTest(seed=seed, joint=joint, to=to, first=first, last=last):
                        asked = Retether((("arm", part),), to, first, last, keys="every", control=joint)
                        take, proof = apply(program, asked)
                        self.check(program, program.on(take), ("arm", part), first, last)
                        self.assertTrue(proof.unchanged_outside)
                        self.assertTrue(all(c.still and (c.smooth or c.reason) for c in proof.changes), proof.sentence)
                        back, _ = drop(program.on(take), ("arm", part), take.tethers[-1].name, Placing("every"))
                        self.assertEqual(back.tethers, program.take.tethers)
                        self.check(program, program.on(back), ("arm", part), first, last)


class Demo(unittest.TestCase):
    def test_the_head_stays_while_the_body_turns_and_is_let_go_again(self) -> None:
        program = Program(*cast_off())
        head = (("marl", "head"),)
        take, proof = apply(program, Retether(head, "world", 20, 60, after="ride", settle=0))
        after = program.on(take)
        rot = after.evaluate(np.arange(20.0, 60.0)).rot[:, after.nodes["marl", "head"]]
        self.assertLess(rotation_distance(rot, rot[0]).max(), 1e-6)
        self.assertTrue(proof.unchanged_outside)
        # At the end the motion from before is back: nothing moves there, but it turns.
        x, y = (after.evaluate([60.0], side).rot[0, after.nodes["marl", "head"]] for side in (ARRIVING, LEAVING))
        self.assertIn(f"Turns {np.degrees(rotation_distance(x, y)):.2g}° at frame 60; speed jumps", proof.sentence)
        (found,) = (f for f in find_all(after) if f.part == "head" and f.frame == 60.0)
        self.assertAlmostEqual(found.turn, float(rotation_distance(x, y)), 9)
        # Where a capture or another system drives, what follows is told to be idle.
        _, told = apply(program, Retether((("marl", "arm.L"),), "world", 150, control="upperarm.L"))
        self.assertIn("FK of the left arm drives nothing there, so nothing moves", told.sentence)

    def test_an_arm_whose_collarbone_goes_along_stays_whatever_its_joints_follow(self) -> None:
        """The collarbone takes of the values that turn the arm, which are others in what else it follows."""
        for (made, letter), joint in product(((lantern_round, "R"), (cast_off, "L")), ("upperarm", "forearm")):
            program = Program(*made())
            at = np.arange(2.0 * 12, 2.0 * 50 + 1.0) / 2.0
            arm, nodes = (("marl", f"arm.{letter}"),), program.joints()[1]
            for to, after, keys in (
                ("world", "carry", "every"),
                ("marl/hips", "carry", "few"),
                ("world", "ride", "kept"),
            ):
                with self.subTest(letter=letter, joint=joint, to=to, after=after):
                    asked = Retether(arm, to, 12, 50, after, keys, settle=0, control=f"{joint}.{letter}")
                    take, proof = apply(program, asked)
                    there = program.on(take)
                    self.assertTrue(proof.unchanged_outside)
                    few = keys == "few"
                    a, b = (p.evaluate(at if after == "carry" else at[:1]) for p in (program, there))
                    off = np.linalg.norm(a.pos[:, nodes] - b.pos[:, nodes], axis=-1)
                    self.assertLess(off.max() if few else off[::2].max(), 1.001e-3 if few else 1e-6, proof.sentence)
                    turned = rotation_distance(a.rot[:, nodes], b.rot[:, nodes])
                    self.assertLess(turned.max() if few else turned[::2].max(), np.radians(0.501) if few else 1e-6)
                    if after == "ride":
                        # It turns with what it follows: not at all.
                        rot = there.evaluate(at[:-1]).rot[:, program.nodes["marl", f"{joint}.{letter}"]]
                        self.assertLess(rotation_distance(rot, rot[0]).max(), 1e-6)

    def test_a_joint_that_drives_in_part_stays_too(self) -> None:
        """The change of the arm to IK is spread over frames 102 to 108: between them FK has a share in it."""
        program = Program(*lantern_round())
        for joint in ("hand.R", "upperarm.R"):
            take, _ = apply(program, Retether((("marl", "arm.R"),), "marl/hips", 5, keys="every", control=joint))
            a, b = (p.evaluate(take.frames).pos[:, p.joints()[1]] for p in (program, program.on(take)))
            self.assertLess(np.abs(a - b).max(), 1e-6)

    def test_what_is_followed_may_jump_or_be_right_behind(self) -> None:
        """A finger that jumps with its hand at frame 84; a knee whose guide is passed by on the far side at frame 68."""
        for name, member, part, control, to, first, last in (
            ("Tow strap", "marl", "arm.L", "upperarm.L", "pip/finger2.L", 25, 99),
            ("Crate and rope", "pip", "leg.R", "leg.R.guide", "world", 32, 76),
        ):
            program = Program(*named(name))
            asked = Retether(((member, part),), to, first, last, keys="every", control=control)
            after = program.on(apply(program, asked)[0])
            at = np.arange(2.0 * first, 2.0 * last) / 2.0
            for side in (ARRIVING, LEAVING):
                a, b = (p.evaluate(at, side).pos[:, p.joints()[1]] for p in (program, after))
                off = np.linalg.norm(a - b, axis=-1).max(axis=1)
                with self.subTest(control=control, side=side):
                    self.assertLess(off[::2].max(), 1e-6)
                    self.assertLess(off.max(), 1e-3)

    def test_what_a_joint_cannot_do_is_told(self) -> None:
        program = Program(*cast_off())
        head = (("marl", "head"),)
        for asked, words in (
            (Retether(head, "world", 20, what="position"), "stays where it hangs"),
            (Retether(head, OWN, 20), "already follows its own space"),
            (
                Retether(head, "world", 20, control="nose"),
                "has no control 'nose' that can follow anything: choose neck.low",
            ),
            (Retether(head, "marl/head", 20), "follow one another in a loop: Marl's head"),
        ):
            with self.assertRaisesRegex(CoreError, words):
                apply(program, asked)
        with self.assertRaisesRegex(CoreError, "stays where it hangs"):
            Program(program.scene, replace(program.take, tethers=(Tether("a", "marl", "head", "world", "world"),)))

    def test_a_mirrored_arm_follows_what_it_did(self) -> None:
        program = Program(*cast_off())
        take, _ = apply(program, Retether((("marl", "arm.R"),), "world", 20, 60, keys="every", control="upperarm.R"))
        seen, _ = mirror(program.on(take), Mirror(("marl",), 0.0))
        (tether,) = [t for t in seen.tethers if t.control.startswith("upperarm") and t.control.endswith("L")]
        self.assertEqual((tether.anchor_member, tether.position), ("world", False))
        there = program.on(seen)
        weight = there.channels[tether.weight_channel("rotation")]
        self.assertEqual([float(there.now(t, [weight])[0]) for t in (10, 40, 70)], [0.0, 1.0, 0.0])


if __name__ == "__main__":
    unittest.main()
