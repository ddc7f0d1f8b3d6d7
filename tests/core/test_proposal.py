"""Proposing parts for bare skeletons: structure first, names second, sides, hinges, bodies that are no people."""

from __future__ import annotations

import unittest

import numpy as np

from yielding_tether.core.cast import Member
from yielding_tether.core.errors import CoreError
from yielding_tether.core.fitting import fit
from yielding_tether.core.parts import LimbPart
from yielding_tether.core.program import Program
from yielding_tether.core.proposal import find_hinge, find_limbs, propose
from yielding_tether.core.skeleton import Joint, Skeleton
from yielding_tether.core.takes import Scene, Take
from yielding_tether.demo.marl import marl

from .readings import limbs_of
from .worlds import random_take

V = tuple[float, float, float]


def skeleton(*rows: tuple[str, str, V]) -> Skeleton:
    """Joints as (name, parent, offset); the first has no parent."""
    index = {name: i for i, (name, _, _) in enumerate(rows)}
    return Skeleton(tuple(Joint(name, index.get(parent, -1), offset) for name, parent, offset in rows))


def many_legged(pairs: int) -> Skeleton:
    """A long body with pairs of legs and no telling names."""
    rows: list[tuple[str, str, V]] = [("b0", "", (0.0, 0.6, 0.0))]
    for n in range(pairs):
        rows.append((f"b{n + 1}", f"b{n}", (0.0, 0.0, 0.35)))
        for letter, sign in (("p", 1.0), ("q", -1.0)):
            rows += [
                (f"{letter}{n}a", f"b{n + 1}", (0.12 * sign, -0.02, 0.0)),
                (f"{letter}{n}b", f"{letter}{n}a", (0.02 * sign, -0.28, 0.04)),
                (f"{letter}{n}c", f"{letter}{n}b", (0.0, -0.27, -0.04)),
                (f"{letter}{n}d", f"{letter}{n}c", (0.0, -0.03, 0.06)),
            ]
    return skeleton(*rows)


class Structure(unittest.TestCase):
    def test_marls_own_limbs_are_found_from_his_bare_skeleton(self) -> None:
        member = marl()
        found = {p.joints for p in propose(member.skeleton).parts if isinstance(p, LimbPart)}
        self.assertEqual(found, {p.joints for p in member.parts if isinstance(p, LimbPart)})

    def test_bodies_with_four_and_six_legs(self) -> None:
        for pairs in (2, 3):
            bones = many_legged(pairs)
            proposal = propose(bones)
            limbs = [p for p in proposal.parts if isinstance(p, LimbPart)]
            self.assertEqual(len(limbs), 2 * pairs)
            self.assertEqual({p.side for p in limbs}, {"left", "right"})
            for part in limbs:
                # The letter p stands on the left of the body, which faces along +Z.
                self.assertEqual(part.side == "left", part.joints[0].startswith("p"))
            self.assertEqual(len({p.name for p in limbs}), 2 * pairs)
            # Every joint is driven by one part, and each limb is complete.
            member = Member("beast", "Beast", "character", bones, proposal.parts)
            take = random_take(np.random.default_rng(1), (member,))
            program = Program(Scene("s", (member,)), Take("t", take.rate, 0, 60, take.curves))
            for limb in limbs_of(program).values():
                found = fit(program, limb, "ik", program.evaluate(np.arange(0.0, 60.0, 7.0)))
                self.assertLess(found.position.max(), 1e-6)
                self.assertLess(found.rotation.max(), 1e-6)

    def test_a_limb_without_a_partner_is_found_by_its_names(self) -> None:
        bones = skeleton(
            ("root", "", (0, 1, 0)), ("chest", "root", (0, 0.5, 0)), ("R_UpperArm", "chest", (-0.2, 0, 0)),
            ("R_ForeArm", "R_UpperArm", (-0.3, 0, 0)), ("R_Wrist", "R_ForeArm", (-0.28, 0, 0)),
        )  # fmt: skip
        (part,) = [p for p in propose(bones).parts if isinstance(p, LimbPart)]
        self.assertEqual((part.joints, part.side), (("R_UpperArm", "R_ForeArm", "R_Wrist"), "right"))

    def test_a_rope_has_no_limbs_and_says_so(self) -> None:
        rope = skeleton(("r0", "", (0, 0, 0)), *((f"r{n}", f"r{n - 1}", (0.0, -0.1, 0.0)) for n in range(1, 12)))
        proposal = propose(rope)
        self.assertFalse([p for p in proposal.parts if isinstance(p, LimbPart)])
        self.assertIn("No limbs were found: every joint is posed in FK.", proposal.notes)
        self.assertEqual(find_limbs(rope)[0], [])

    def test_collars_are_told_from_upper_arms_even_when_forearms_are_short(self) -> None:
        rows: list[tuple[str, str, V]] = [
            ("h", "", (0, 0.9, 0)),
            ("s", "h", (0, 0.2, 0)),
            ("t", "s", (0, 0.2, 0)),
            ("n", "t", (0, 0.2, 0)),
        ]
        for letter, sign in (("p", 1.0), ("q", -1.0)):
            rows += [
                (f"{letter}1", "t", (0.0, 0.0, 0.0)), (f"{letter}2", f"{letter}1", (0.18 * sign, 0.09, 0)),
                (f"{letter}3", f"{letter}2", (0.26 * sign, 0, 0)), (f"{letter}4", f"{letter}3", (0.16 * sign, 0, 0)),
                (f"{letter}5", f"{letter}4", (0.035 * sign, 0, 0)), (f"{letter}6", "h", (0.0, 0.0, 0.0)),
                (f"{letter}7", f"{letter}6", (0.07 * sign, -0.09, 0.04)),
                (f"{letter}8", f"{letter}7", (0.14 * sign, -0.38, 0)),
                (f"{letter}9", f"{letter}8", (0.14 * sign, -0.4, 0)),
                (f"{letter}0", f"{letter}9", (0.01 * sign, -0.03, 0.12)),
            ]  # fmt: skip
        found = {p.joints for p in propose(skeleton(*rows)).parts if isinstance(p, LimbPart)}
        self.assertEqual(found, {("p2", "p3", "p4"), ("q2", "q3", "q4"), ("p7", "p8", "p9"), ("q7", "q8", "q9")})

    def test_limbs_through_twist_joints_are_left_in_fk_with_a_note(self) -> None:
        rows: list[tuple[str, str, V]] = [("root", "", (0, 1, 0)), ("chest", "root", (0, 0.5, 0))]
        for side, sign in (("Left", 1.0), ("Right", -1.0)):
            chain = ["Arm", "ArmRoll", "ForeArm", "ForeArmRoll", "Hand"]
            rows += [
                (side + n, side + chain[k - 1] if k else "chest", (0.14 * sign, 0, 0)) for k, n in enumerate(chain)
            ]
        proposal = propose(skeleton(*rows))
        self.assertFalse([p for p in proposal.parts if isinstance(p, LimbPart)])
        self.assertTrue(any("Twist joints" in n for n in proposal.notes))

    def test_fingers_are_no_limbs(self) -> None:
        joints = {j for p in propose(marl().skeleton).parts if isinstance(p, LimbPart) for j in p.joints}
        self.assertFalse([j for j in joints if "finger" in j or "thumb" in j])


class Hinges(unittest.TestCase):
    def test_a_bent_rest_pose_shows_its_hinge(self) -> None:
        bones = many_legged(1)
        i, j, k = (bones.index[n] for n in ("p0a", "p0b", "p0c"))
        axis, found = find_hinge(bones, i, j, k, None, np.array([0.0, 0.0, 1.0]), "leg")
        self.assertEqual(found, "rest")
        normal = np.cross(bones.offsets[j], bones.offsets[k])
        np.testing.assert_allclose(axis, normal / np.linalg.norm(normal), atol=1e-12)

    def test_knees_and_elbows_fold_their_own_way_when_nothing_shows(self) -> None:
        bones = skeleton(
            ("a", "", (0, 1, 0)), ("b", "a", (0, -0.1, 0)), ("c", "b", (0, -0.4, 0)), ("d", "c", (0, -0.4, 0))
        )
        forward = np.array([0.0, 0.0, 1.0])
        for role, way in (("leg", -1.0), ("arm", 1.0)):
            axis, found = find_hinge(bones, 1, 2, 3, None, forward, role)
            self.assertEqual(found, "guess")
            # A positive turn about the hinge moves the lower segment forward or backward.
            self.assertAlmostEqual(float(np.cross(axis, [0, -1, 0]) @ forward), way)


class Bones(unittest.TestCase):
    def test_broken_skeletons_are_refused(self) -> None:
        for joints, message in (
            ((), "at least one joint"),
            ((Joint("a", -1, (0, 0, 0)), Joint("a", 0, (0, 1, 0))), "Two joints are called a"),
            ((Joint("a", -1, (0, 0, 0)), Joint("b", 1, (0, 1, 0))), "must come after its parent"),
            ((Joint("a", -1, (0, 0, 0)), Joint("b", -1, (0, 1, 0))), "only the first is a root"),
            ((Joint("a", -1, (float("inf"), 0, 0)),), "not finite"),
            ((Joint("a", -1, (0, 0, 0), (0, 0, 0, 2)),), "not a unit quaternion"),
        ):
            with self.assertRaisesRegex(CoreError, message):
                Skeleton(joints)  # type: ignore[arg-type]
