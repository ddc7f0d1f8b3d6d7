"""Fitting a body: figures of its parts, limbs that are said, what is measured of it, how it is shown."""

from __future__ import annotations

import unittest
from dataclasses import replace
from fractions import Fraction
from unittest.mock import patch

import numpy as np
from scipy.spatial.transform import Rotation

from yielding_tether.core.body_fit import checks, limbs_of, orders_of, pointed, refitted, rehearsal
from yielding_tether.core.cast import Member
from yielding_tether.core.errors import CoreError
from yielding_tether.core.parts import PARTS, ChainPart, LimbPart
from yielding_tether.core.program import Program
from yielding_tether.core.proposal import Limb, propose
from yielding_tether.core.takes import Scene, Take
from yielding_tether.core.transforms import rotate
from yielding_tether.demo.brindle import brindle
from yielding_tether.demo.marl import marl
from yielding_tether.demo.pip import pip

from .test_handover import captured
from .test_proposal import many_legged


def bodies() -> list[Member]:
    bones = many_legged(3)
    proposal = propose(bones)
    return [marl(), pip(), brindle(), Member("six", "Six", "character", bones, proposal.parts, proposal.shapes)]


def take_of(member: Member, take: Take) -> Program:
    return Program(Scene("alone", (member,)), take)


class Settings(unittest.TestCase):
    def test_each_goes_where_it_is_put_and_only_there_and_moves_no_body_at_rest(self) -> None:
        rng = np.random.default_rng(5)
        seen = set()
        for member in bodies():
            bare = Take("at rest", Fraction(24), 0, 1)
            rest = take_of(member, bare).evaluate([0.0])
            for part in member.parts:
                for setting in part.settings():
                    seen.add(part.kind)
                    value = setting.of(part)
                    # Halfway to a limit at most: shares of one part must not exceed the whole.
                    other = value + 0.5 * rng.random() * (min(setting.most, 1.0) - value) / len(part.joints)
                    after = refitted(member, {(part.name, setting.id): other})
                    fitted = after.part(part.name)
                    self.assertAlmostEqual(setting.of(fitted), other, delta=1e-12)
                    self.assertEqual(after.parts[: member.parts.index(part)], member.parts[: member.parts.index(part)])
                    for one in part.settings():
                        if not set(one.at) & set(setting.at) and not setting.shared:
                            self.assertAlmostEqual(one.of(fitted), one.of(part), delta=1e-12)
                    now = take_of(after, bare).evaluate([0.0])
                    np.testing.assert_allclose(now.pos, rest.pos, atol=1e-9)
                    self.assertEqual(refitted(after, {(part.name, setting.id): value}).name, member.name)
        # Every kind of part that has figures was among them.
        self.assertLessEqual({"footed limb", "shouldered limb", "neck", "twist", "chain"}, seen)
        self.assertLessEqual(seen, set(PARTS))

    def test_what_can_not_be_is_refused_by_name(self) -> None:
        for settings, told in (
            ({("leg.L", "tip from"): 9.0}, "limits"),
            ({("leg.Q", "tip from"): 1.0}, "no part leg.Q"),
            ({("leg.L", "tip form"): 1.0}, "nothing to set that is called 'tip form'"),
        ):
            with self.assertRaisesRegex(CoreError, told):
                refitted(marl(), settings)

    def test_a_place_is_pointed_at_on_the_body_in_any_pose(self) -> None:
        rng = np.random.default_rng(8)
        seen = set()
        for member in bodies():
            for part in member.parts:
                take = rehearsal(member, part.name)
                for setting in part.settings():
                    if not setting.places(part):
                        with self.assertRaisesRegex(CoreError, "is no place"):
                            pointed(member, part.name, setting.id, np.zeros(3))
                        continue
                    seen.add(setting.id)
                    frame = float(rng.uniform(0, take.last))
                    program = take_of(member, take)
                    pose, node = program.evaluate([frame]), program.nodes[member.id, setting.joint]
                    turn = Rotation.from_quat(pose.rot[0, node])
                    way = np.array(setting.along) / np.linalg.norm(np.array(setting.along))
                    # Anywhere beside the line along which it goes.
                    value = rng.uniform(setting.least, setting.most)
                    local = value * way + np.cross(way, rng.uniform(-0.1, 0.1, 3))
                    at = pose.pos[0, node] + turn.apply(local)
                    self.assertAlmostEqual(pointed(member, part.name, setting.id, at, frame), value, delta=1e-9)
                    after = refitted(member, {(part.name, setting.id): value}).part(part.name)
                    self.assertAlmostEqual(float(np.array(setting.places(after)[0]) @ way), value, delta=1e-9)
                    beyond = pose.pos[0, node] + turn.apply((setting.most + 0.01) * way)
                    with self.assertRaisesRegex(CoreError, "limits are"):
                        pointed(member, part.name, setting.id, beyond, frame)
        self.assertLessEqual({"heel", "tip", "under", "left", "right"}, seen)
        for part, id in (("leg.L", "hell"), ("leg.Q", "heel")):
            with self.assertRaisesRegex(CoreError, "to set"):
                pointed(marl(), part, id, np.zeros(3))

    def test_shares_of_a_whole_give_way_to_the_one_that_is_set(self) -> None:
        before, after = (m.part("spine") for m in (marl(), refitted(marl(), {("spine", "share spine.mid"): 0.7})))
        assert isinstance(before, ChainPart) and isinstance(after, ChainPart)
        self.assertAlmostEqual(sum(after.shares), 1.0)
        self.assertAlmostEqual(after.shares[1], 0.7)
        others = [a / b for k, (a, b) in enumerate(zip(after.shares, before.shares, strict=True)) if k != 1]
        np.testing.assert_allclose(others, others[0])
        # Where there is room for it, the others keep theirs.
        less = refitted(marl(), {("spine", "share spine.mid"): 0.1}).part("spine")
        assert isinstance(less, ChainPart)
        self.assertEqual(less.shares[2:], before.shares[2:])

    def test_every_part_is_shown_from_rest_and_back_to_it(self) -> None:
        for member in bodies():
            orders = orders_of(member)
            for part in member.parts:
                if not part.shown(member.skeleton, orders):
                    continue
                take = rehearsal(member, part.name)
                poses = take_of(member, take).evaluate(take.frames)
                apart = np.linalg.norm(poses.pos - poses.pos[0], axis=-1).max(axis=1)
                turned = np.abs(np.abs(np.sum(poses.rot * poses.rot[0], axis=-1)) - 1.0).max(axis=1)
                self.assertGreater(max(apart.max(), turned.max()), 1e-3, (member.name, part.name))
                for frame in take.frames[::24]:
                    self.assertLess(apart[int(frame)], 1e-9, (member.name, part.name, frame))
                # It stands on the floor meanwhile, on its soles where it has any.
                self.assertGreater(poses.pos[0, :, 1].min(), -1e-9)
                program = take_of(member, take)
                soles = [
                    float(poses.pos[0, n := program.nodes[member.id, j], 1] + rotate(poses.rot[0, n], np.array(at))[1])
                    for p in member.parts for _, j, at in p.stands_on(member.skeleton)
                ]  # fmt: skip
                if soles:
                    self.assertAlmostEqual(min(soles), 0.0, delta=1e-9)


class Limbs(unittest.TestCase):
    def test_what_is_said_as_found_changes_nothing(self) -> None:
        bones = many_legged(2)
        proposal = propose(bones)
        member = Member("four", "Four", "character", bones, proposal.parts, proposal.shapes)
        self.assertIs(refitted(member, {}, limbs_of(member)).parts[3], member.parts[3])
        again = propose(bones, None, orders_of(member), limbs_of(member))
        self.assertEqual({p.corners for p in again.parts}, {p.corners for p in proposal.parts})

    def test_one_that_was_missed_or_taken_for_another_is_corrected(self) -> None:
        bones = many_legged(2)
        proposal = propose(bones)
        member = Member("four", "Four", "character", bones, proposal.parts, proposal.shapes)
        limbs = limbs_of(member)
        without = refitted(member, {}, limbs[1:])
        self.assertEqual(limbs_of(without), limbs[1:])
        self.assertFalse({p.name for p in without.parts if p.corners} == {p.name for p in member.parts if p.corners})
        back = refitted(without, {}, limbs)
        self.assertEqual({p.corners for p in back.parts}, {p.corners for p in member.parts})
        first = replace(limbs[0], role="arm", side="right" if limbs[0].side == "left" else "left")
        other = refitted(member, {}, (first, *limbs[1:]))
        part = next(p for p in other.parts if p.corners == first.corners)
        self.assertEqual((part.side, part.role), (first.side, "arm"))
        # Three segments where two were found.
        longer = replace(limbs[0], corners=(*limbs[0].corners, limbs[0].corners[-1][:-1] + "d"))
        chain = next(p for p in refitted(member, {}, (longer, *limbs[1:])).parts if p.corners == longer.corners)
        self.assertIsInstance(chain, ChainPart)

    def test_one_that_bends_the_other_way_has_its_hinge_turned_and_stays_so(self) -> None:
        bones = many_legged(2)
        proposal = propose(bones)
        member = Member("four", "Four", "character", bones, proposal.parts, proposal.shapes)
        limbs = limbs_of(member)
        after = refitted(member, {}, (replace(limbs[0], flipped=True), *limbs[1:]))
        old, new = (next(p for p in m.parts if p.corners == limbs[0].corners) for m in (member, after))
        assert isinstance(old, LimbPart) and isinstance(new, LimbPart)
        np.testing.assert_allclose(new.hinge, [-x for x in old.hinge])
        self.assertTrue(limbs_of(after)[0].flipped)
        self.assertEqual(limbs_of(refitted(after, {}, limbs))[0], limbs[0])

    def test_what_was_set_stays_with_limbs_that_stay(self) -> None:
        member = bodies()[-1]
        leg = next(p for p in member.parts if p.kind == "footed limb")
        set_ = refitted(member, {(leg.name, "tip from"): 1.1})
        others = tuple(
            x for x in limbs_of(set_) if x.corners != next(iter(limbs_of(set_))).corners or x.corners == leg.corners
        )
        after = refitted(set_, {}, others)
        kept = next(p for p in after.parts if p.corners == leg.corners)
        self.assertAlmostEqual(next(s for s in kept.settings() if s.id == "tip from").of(kept), 1.1)

    def test_limbs_that_can_not_be_are_refused_by_their_joints(self) -> None:
        member = bodies()[-1]
        limbs = limbs_of(member)
        a, b, c = limbs[0].corners
        for corners, told in (
            ((a, b), "needs a root, a joint that bends and an end"), ((a, b, "nowhere"), "no joint nowhere"),
            ((c, b, a), "don't hang one below the other"), ((a, a, c), "don't hang one below the other"),
            ((limbs[1].corners[0], b, c), "don't hang one below the other"),
            ((member.skeleton.joints[0].name, b, c), "under the body"),
        ):  # fmt: skip
            with self.assertRaisesRegex(CoreError, told):
                refitted(member, {}, (Limb(corners, "leg", "left"), *limbs[1:]))
        with self.assertRaisesRegex(CoreError, "shares joints with"):
            refitted(member, {}, (*limbs, limbs[0]))


class Checks(unittest.TestCase):
    def test_they_measure_what_a_capture_shows(self) -> None:
        program = captured()
        (member,) = program.scene.members
        captures = list(program.take.captures.values())
        well = checks(member, captures)
        self.assertTrue(all(c.well for c in well), well)
        self.assertIn("Leg: equally long on either side", [c.sentence for c in well])
        # It is looked at from its first sample to its last, wherever those lie.
        late = [replace(c, first=c.first + 100) for c in captures]
        with patch.object(Program, "evaluate", autospec=True, side_effect=Program.evaluate) as seen:
            self.assertEqual(checks(member, late), well)
        times = np.concatenate([call.args[1] for call in seen.call_args_list])
        self.assertEqual((times.min(), times.max()), (100.0, 100.0 + (len(late[0].offsets) - 1) * late[0].step))
        # A limb that may not turn as the capture turns it misses that, and says by how much.
        part = next(p for p in member.parts if p.name == "arm.L")
        locked = replace(part, locked=("carry", "twist"))  # type: ignore[type-var]
        stiff = replace(member, parts=tuple(locked if p is part else p for p in member.parts))
        ill = [c.sentence for c in checks(stiff, captures) if not c.well]
        self.assertEqual(len(ill), 1, ill)
        self.assertRegex(ill[0], r"^IK of the left arm misses the capture by \d+\.\d mm and \d+\.\d°$")

    def test_a_pair_that_is_no_pair_is_told(self) -> None:
        member = marl()
        joints = [
            replace(j, offset=(j.offset[0], 1.4 * j.offset[1], j.offset[2])) if j.name == "shin.L" else j
            for j in member.skeleton.joints
        ]
        odd = replace(member, skeleton=type(member.skeleton)(tuple(joints)))
        self.assertTrue(
            [c for c in checks(odd, []) if not c.well and c.sentence.startswith("Leg: longer on one side, by")]
        )
