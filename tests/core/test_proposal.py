"""Proposing parts for bare skeletons: structure first, names second, sides, hinges, bodies that are no people."""

from __future__ import annotations

import unittest
from dataclasses import replace
from fractions import Fraction

import numpy as np

from yielding_tether.core.cast import Member
from yielding_tether.core.errors import CoreError
from yielding_tether.core.fitting import fit
from yielding_tether.core.parts import ChainPart, FkPart, Footed, HandPart, LegPart, LimbPart, Sole, TwistPart
from yielding_tether.core.program import Program
from yielding_tether.core.proposal import Limb, Run, find_hinge, find_limbs, propose
from yielding_tether.core.skeleton import Joint, Skeleton
from yielding_tether.core.takes import Scene, Take
from yielding_tether.core.transforms import inverse, multiply, rotate
from yielding_tether.demo.marl import marl

from .readings import guides_of, limbs_of
from .test_handover import demo
from .worlds import random_take

V = tuple[float, float, float]


def skeleton(*rows: tuple[str, str, V]) -> Skeleton:
    """Joints as (name, parent, offset); the first has no parent."""
    index = {name: i for i, (name, _, _) in enumerate(rows)}
    return Skeleton(tuple(Joint(name, index.get(parent, -1), offset) for name, parent, offset in rows))


def turned(heading: float, *rows: tuple[str, str, V]) -> Skeleton:
    """The same joints of a body that faces elsewhere at rest: `heading` about the vertical, radians."""
    c, s = float(np.cos(heading)), float(np.sin(heading))
    return skeleton(*((name, parent, (c * x + s * z, y, c * z - s * x)) for name, parent, (x, y, z) in rows))


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
        found = {p.bones for p in propose(member.skeleton).parts if isinstance(p, LimbPart)}
        self.assertEqual(found, {p.bones for p in member.parts if isinstance(p, LimbPart)})

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

    def test_legs_that_hang_from_one_joint_are_paired_across_the_body(self) -> None:
        for spread, heading in ((0.05, 0.0), (0.15, 1.9), (0.3, -2.6), (0.15, 3.1)):
            rows: list[tuple[str, str, V]] = [("b", "", (0.0, 0.5, 0.0)), ("head", "b", (0.0, 0.05, 0.5))]
            for letter, sign in (("p", 1.0), ("q", -1.0)):
                for n in range(3):
                    rows += [
                        (f"{letter}{n}a", "b", (0.1 * sign, 0.0, 0.3 - spread * n)),
                        (f"{letter}{n}b", f"{letter}{n}a", (0.2 * sign, 0.1, 0.01 * n)),
                        # No two sides are quite alike.
                        (f"{letter}{n}c", f"{letter}{n}b", (0.1 * sign, -0.3 + 5e-4 * sign, 0.0)),
                        # A foot that points aside says nothing of where the body faces.
                        (f"{letter}{n}d", f"{letter}{n}c", (0.06 * sign, 0.0, 0.0)),
                    ]
            limbs = [p for p in propose(turned(heading, *rows)).parts if isinstance(p, LimbPart)]
            sides = {(p.joints[0][0], p.side) for p in limbs}
            self.assertEqual((len(limbs), sides), (6, {("p", "left"), ("q", "right")}), spread)
            # The two of a pair are called alike.
            of = {p.name: p.joints[0] for p in limbs}
            self.assertTrue(all(of[n.replace(".L", ".R")][1:] == j[1:] for n, j in of.items()), of)

    def test_what_leads_to_the_head_from_a_body_with_arms_at_its_root_is_all_neck(self) -> None:
        rows: list[tuple[str, str, V]] = [("body", "", (0.0, 0.8, 0.0))]
        rows += [(f"n{k}", f"n{k - 1}" if k else "body", (0.0, 0.1, 0.04)) for k in range(7)]
        for letter, sign in (("p", 1.0), ("q", -1.0)):
            rows += [
                (f"{letter}a", "body", (0.1 * sign, 0.1, 0.05)), (f"{letter}b", f"{letter}a", (0.25 * sign, 0.0, -0.08)),
                (f"{letter}c", f"{letter}b", (0.25 * sign, 0.0, 0.09)),
                (f"{letter}d", "body", (0.06 * sign, -0.05, 0.0)), (f"{letter}e", f"{letter}d", (0.0, -0.35, 0.05)),
                (f"{letter}f", f"{letter}e", (0.0, -0.35, -0.05)),
            ]  # fmt: skip
        parts = {p.name: p.joints for p in propose(skeleton(*rows)).parts}
        # The last one ends nowhere: it only marks the top of the head.
        self.assertEqual(parts["head"], tuple(f"n{k}" for k in range(6)))
        self.assertNotIn("spine", parts)

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
        found = {p.bones for p in propose(skeleton(*rows)).parts if isinstance(p, LimbPart)}
        self.assertEqual(found, {("p2", "p3", "p4"), ("q2", "q3", "q4"), ("p7", "p8", "p9"), ("q7", "q8", "q9")})

    def test_helper_joints_are_driven_along_whatever_they_are_called(self) -> None:
        """Within a segment, at its start, beside it, of no length: every limb is found, complete, and nothing is lost."""
        bends = {"Left": (0.0, 0.0, 1.0), "Right": (0.0, 0.0, -1.0)}
        for seed in range(60):
            rng = np.random.default_rng(seed)
            rows: list[tuple[str, str, V]] = [
                ("q0", "", (0, 0.95, 0)), ("q1", "q0", (0, 0.25, 0)), ("q2", "q1", (0, 0.25, 0)),
                ("q3", "q2", (0, 0.12, 0)), ("q4", "q3", (0, 0.15, 0)),
            ]  # fmt: skip
            helped = set(rng.permutation(4)[: rng.integers(1, 5)].tolist())
            corners = {}
            for n, (letter, sign, top) in enumerate((("a", 1, "q2"), ("b", -1, "q2"), ("c", 1, "q0"), ("d", -1, "q0"))):
                arm = letter in "ab"
                way = np.array([sign, 0.0, 0.0]) if arm else np.array([0.0, -1.0, 0.0])
                lengths = (0.28, 0.26, 0.09) if arm else (0.42, 0.41, 0.06)
                rows.append((f"{letter}0", top, (0.12 * sign, 0.05 if arm else -0.05, 0.0)))
                above = f"{letter}0"
                for k, length in enumerate(lengths):
                    name = f"{letter}{k + 1}"
                    shares = [1.0]
                    if n in helped and k < 2:
                        kind = rng.integers(4)
                        cut = float(rng.uniform(0.2, 0.6))
                        shares = (
                            [[cut, 1.0 - cut], [0.0, 1.0], [1.0], [cut, 1.0 - cut]][kind] if k or kind != 1 else [1.0]
                        )
                        if kind > 1:
                            # Beside the segment, before or beyond where another cuts it.
                            at = way * length * (cut if kind == 2 else rng.uniform(0.1, 0.95))
                            rows.append((f"x{letter}{k}", above, tuple(at.tolist())))
                    for h, share in enumerate(shares):
                        last = h == len(shares) - 1
                        made = name if last else f"h{letter}{k}{h}"
                        rows.append((made, above, tuple((way * length * share).tolist())))  # type: ignore[arg-type]
                        above = made
                corners[letter] = (f"{letter}0", f"{letter}1", f"{letter}2")
            bones = skeleton(*rows)
            motion = np.zeros((24, len(bones), 4))
            motion[..., 3] = 1.0
            half = np.radians(np.linspace(5, 60, 24)) / 2.0
            for letter, corner in corners.items():
                axis = np.array(bends["Left" if letter in "ac" else "Right"] if letter in "ab" else (1.0, 0.0, 0.0))
                motion[:, bones.index[corner[1]]] = np.c_[axis * np.sin(half)[:, None], np.cos(half)]
            for rotations in (None, motion):
                proposal = propose(bones, rotations)
                found = {}
                for p in proposal.parts:
                    if isinstance(p, LimbPart):
                        found[p.joints[0][0]] = p.bones
                    elif isinstance(p, ChainPart):
                        found[p.joints[0][0]] = (p.joints[0], p.joints[p.middle], p.bones[-1])
                toes = {p.joints[0][0]: p.toe for p in proposal.parts if isinstance(p, Footed)}
                with self.subTest(seed=seed, motion=rotations is not None):
                    # Whatever is in its segments, a leg has a foot that rolls, with its toe.
                    self.assertEqual(toes, {"c": "c3", "d": "d3"})
                    same = {k: (v[0], v[2]) for k, v in found.items()}
                    self.assertEqual(same, {k: (v[0], v[2]) for k, v in corners.items()})
                    if rotations is not None:
                        self.assertEqual(found, corners)
                    roles = {p.joints[0][0]: p.role for p in proposal.parts if p.role in ("arm", "leg")}
                    self.assertEqual(roles, {"a": "arm", "b": "arm", "c": "leg", "d": "leg"})
                    extra = [j.name for j in bones.joints if j.name[0] in "hx"]
                    self.assertTrue(all(any(name in note for note in proposal.notes) for name in extra), proposal.notes)
                    Member("m", "M", "character", bones, proposal.parts)

    def test_a_long_rope_with_a_spike_beside_its_root_is_read(self) -> None:
        rows: list[tuple[str, str, V]] = [("r", "", (0, 1, 0)), ("s", "r", (0.0005, 0, 5.0))]
        rows += [(f"c{k}", f"c{k - 1}" if k else "r", (0, 0, 0.01)) for k in range(1200)]
        self.assertEqual([p for p in propose(skeleton(*rows)).parts if isinstance(p, LimbPart)], [])

    def test_helpers_share_the_twist_that_the_motion_shows(self) -> None:
        """A helper that goes along, one that stands still, one with a mind of its own; and without motion, by where they lie."""
        program = demo()
        member = program.scene.member("marl")
        bones = member.skeleton
        nodes = program.joints(["marl"])[1]
        poses = program.evaluate(program.take.frames)
        up = list(bones.parents)
        rot = poses.rot[:, nodes]
        local = np.array([multiply(inverse(rot[:, p]), rot[:, j]) if p >= 0 else rot[:, j] for j, p in enumerate(up)])
        local = np.moveaxis(local, 0, 1)
        still, own = bones.index["thigh.twist.L"], bones.index["shin.twist.L"]
        local[:, still] = [0.0, 0.0, 0.0, 1.0]
        local[:, own] = [np.sin(0.15), 0.0, 0.0, np.cos(0.15)]
        found = {p.name: p for p in propose(bones, local).parts}
        arm = found["arm.R.twist"]
        assert isinstance(arm, TwistPart)
        self.assertEqual(dict(zip(arm.joints, arm.of, strict=True)),
                         {"forearm.twist.R": "hand.R", "upperarm.twist.R": "upperarm.R"})  # fmt: skip
        for joint, share in zip(arm.joints, arm.shares, strict=True):
            self.assertAlmostEqual(share, 0.6 if joint.startswith("fore") else -0.7, places=7)
        self.assertNotIn("leg.L.twist", found)
        self.assertEqual(set(found["leg.L.helpers"].joints), {"shin.twist.L", "thigh.twist.L"})
        lying = next(p for p in propose(bones).parts if p.name == "leg.R.twist")
        assert isinstance(lying, TwistPart)
        shares = dict(zip(lying.joints, lying.shares, strict=True))
        self.assertAlmostEqual(shares["thigh.twist.R"], -0.7, places=9)
        self.assertAlmostEqual(shares["shin.twist.R"], 0.65, places=9)

    def test_a_foot_leads_to_the_middle_of_its_toes_and_stands_on_the_floor(self) -> None:
        bones = marl().skeleton
        foot, toe = bones.index["foot.L"], bones.index["toe.L"]
        wide = [replace(j, name=f"more{n}", offset=(j.offset[0] + by, *j.offset[1:])) for n, by in enumerate((0.03, -0.03))
                for j in (bones.joints[toe],)]  # fmt: skip
        one, many = (Sole.found(s, foot, toe) for s in (bones, Skeleton((*bones.joints, *wide))))
        np.testing.assert_allclose(many.forward, one.forward, atol=1e-12)
        # Heel, tip and edges lie as low as the lowest end of a joint, or on the floor that is given.
        pos, rot = bones.rest_pose
        end = pos[toe] + rotate(rot[toe], np.array(bones.joints[toe].tip))
        given = Sole.found(bones, foot, toe, floor=0.01)
        for sole, height in ((one, end[1]), (given, 0.01)):
            for point in (sole.heel, sole.tip, sole.left, sole.right):
                self.assertAlmostEqual(point[1], height - pos[foot, 1], places=12)
        self.assertEqual(one.ball, bones.joints[toe].offset)
        self.assertGreater(one.tip[2], one.ball[2])
        self.assertLess(one.heel[2], 0.0)
        # Without a toe, and without anything below it, its length is that of the shin's third.
        bare = Skeleton(tuple(replace(j, tip=None) for j in bones.joints[: foot + 1]))
        self.assertAlmostEqual(
            Sole.found(bare, foot, None).tip[2], np.linalg.norm(bones.joints[foot].offset) / 3.0, places=6
        )

    def test_feet_without_toes_lead_where_the_body_faces_found_or_said(self) -> None:
        rows: list[tuple[str, str, V]] = [("hips", "", (0.0, 0.9, 0.0)), ("head", "hips", (0.0, 0.7, 0.02))]
        for letter, sign in (("p", 1.0), ("q", -1.0)):
            rows += [
                (f"{letter}a", "hips", (0.1 * sign, 0.0, 0.0)), (f"{letter}b", f"{letter}a", (0.0, -0.4, 0.02)),
                (f"{letter}c", f"{letter}b", (0.0, -0.42, -0.02)),
            ]  # fmt: skip
        for heading in (0.0, 1.3, -2.2, 3.0):
            bones = turned(heading, *rows)
            said = [Limb(("qa", "qb", "qc"), "leg", "right"), Limb(("pa", "pb", "pc"), "leg", "left")]
            for parts in (propose(bones).parts, propose(bones, said=said).parts):
                legs = [p for p in parts if isinstance(p, LegPart)]
                self.assertEqual({(p.joints[0], p.side) for p in legs}, {("pa", "left"), ("qa", "right")})
                for leg in legs:
                    np.testing.assert_allclose(
                        leg.sole.forward, (np.sin(heading), 0.0, np.cos(heading)), atol=0.05, err_msg=str(heading)
                    )

    def test_a_body_gets_spine_neck_head_hands_and_feet_as_parts(self) -> None:
        parts = propose(marl().skeleton).parts
        names = {p.name for p in parts}
        # The head leads its neck, the chest ends a spine.
        kinds = {p.name: p.kind for p in parts}
        self.assertEqual((kinds["head"], kinds["spine"]), ("neck", "chain"))
        self.assertLessEqual({"root", "spine", "head", "arm.L.tip"}, names)
        self.assertTrue(
            all(len(p.joints) == 4 for p in parts if p.role in ("arm", "leg")),
            "a foot with its toe, an arm with its collarbone",
        )
        self.assertNotIn("body", names)

    def test_hind_legs_of_three_segments_and_a_tail_are_limbs_of_their_own(self) -> None:
        rows: list[tuple[str, str, V]] = [
            ("b0", "", (0, 0.8, 0)),
            ("b1", "b0", (0, 0.02, 0.3)),
            ("b2", "b1", (0, 0.02, 0.3)),
        ]
        for letter, sign in (("p", 1.0), ("q", -1.0)):
            rows += [
                (f"{letter}f0", "b2", (0.1 * sign, -0.1, 0.0)), (f"{letter}f1", f"{letter}f0", (0, -0.3, -0.05)),
                (f"{letter}f2", f"{letter}f1", (0, -0.3, 0.04)), (f"{letter}f3", f"{letter}f2", (0, -0.03, 0.05)),
                (f"{letter}h0", "b0", (0.1 * sign, -0.05, -0.05)), (f"{letter}h1", f"{letter}h0", (0, -0.25, 0.12)),
                (f"{letter}h2", f"{letter}h1", (0, -0.22, -0.16)), (f"{letter}h3", f"{letter}h2", (0, -0.22, 0.06)),
                (f"{letter}h4", f"{letter}h3", (0, -0.03, 0.06)),
            ]  # fmt: skip
        rows += [("n0", "b2", (0, 0.2, 0.1)), ("n1", "n0", (0, 0.2, 0.08)), ("n2", "n1", (0, 0.02, 0.15))]
        rows += [(f"t{k}", f"t{k - 1}" if k else "b0", (0, 0.02, -0.09)) for k in range(6)]
        proposal = propose(skeleton(*rows))
        chains = {p.bones for p in proposal.parts if isinstance(p, ChainPart) and p.touches}
        # The spine ends where the forelegs come together; what goes on from there is neck and head.
        tail = tuple(f"t{k}" for k in range(6))
        self.assertEqual({p.bones for p in proposal.parts if isinstance(p, ChainPart)}, chains | {tail})
        named = {p.name: p.joints for p in proposal.parts}
        self.assertEqual((named["spine"], named["head"][0]), (("b1", "b2"), "n0"))
        self.assertEqual(
            chains, {("ph0", "ph1", "ph2", "ph3"), ("qh0", "qh1", "qh2", "qh3")}, "a tail stands on nothing"
        )
        limbs = {p.bones for p in proposal.parts if isinstance(p, LimbPart)}
        self.assertEqual(limbs, {("pf0", "pf1", "pf2"), ("qf0", "qf1", "qf2")})

    def test_a_first_segment_that_takes_part_belongs_to_a_leg_however_short_it_is(self) -> None:
        """A wading bird's: the thigh is short, and only the motion tells it from a hip."""
        rows: list[tuple[str, str, V]] = [("q", "", (0, 0.92, 0)), ("n", "q", (0, 0.2, 0.1)), ("h", "n", (0, 0.3, 0.1))]
        for side, x in (("u", 0.05), ("w", -0.05)):
            places = [(x, -0.04, 0.0), (0.0, -0.22, 0.06), (0.0, -0.3, -0.1), (0.0, -0.34, 0.04), (0.0, -0.01, 0.12)]
            rows += [(f"{side}{k}", f"{side}{k - 1}" if k else "q", at) for k, at in enumerate(places)]  # type: ignore[misc]
        bones = skeleton(*rows)
        motion = np.zeros((24, len(bones), 4))
        motion[..., 3] = 1.0
        for moves in (False, True):
            for k in range(0 if moves else 1, 3):
                half = 0.5 * np.radians(25.0) * np.sin(np.linspace(0.0, 6.0, 24) + k)
                for side in "uw":
                    motion[:, bones.index[f"{side}{k}"]] = np.c_[np.sin(half), 0.0 * half, 0.0 * half, np.cos(half)]
            with self.subTest(moves=moves):
                found = {p.joints[0] for p in propose(bones, motion).parts if getattr(p, "role", "") == "leg"}
                self.assertEqual(found, {"u0", "w0"} if moves else {"u1", "w1"})

    def test_hands_with_fingers_of_three_joints_are_found_and_bend_into_the_palm(self) -> None:
        member = marl()
        truth = {
            p.joints[f.run[0]]: (tuple(p.joints[k] for k in f.run), np.array(f.hinge))
            for p in member.parts if isinstance(p, HandPart) for f in p.fingers
        }  # fmt: skip
        # Joints that only mark the tips are no part of them.
        bones = member.skeleton
        ends = (f.run[2] for p in member.parts if isinstance(p, HandPart) for f in p.fingers)
        hands = (p for p in member.parts if isinstance(p, HandPart) for _ in p.fingers)
        nubs = [Joint(f"nub{k}", bones.index[p.joints[e]], (0.0, 0.0, 0.0), tip=(0.0, 0.0, 0.0))
                for k, (p, e) in enumerate(zip(hands, ends, strict=True))]  # fmt: skip
        fingers = []
        for made in (bones, Skeleton((*bones.joints, *nubs))):
            found = [p for p in propose(made).parts if isinstance(p, HandPart)]
            self.assertEqual([p.label for p in found], ["left hand", "right hand"])
            fingers += [(p, f) for p in found for f in p.fingers]
        self.assertEqual(len(fingers), 16)
        for part, finger in fingers:
            joints, hinge = truth[part.joints[finger.run[0]]]
            self.assertEqual(tuple(part.joints[k] for k in finger.run), joints)
            self.assertGreater(float(hinge @ finger.hinge), 0.8, joints)

    def test_a_helper_beside_a_finger_costs_no_finger_and_one_within_it_is_told(self) -> None:
        bones = marl().skeleton

        def found(at: str, aside: V, inside: bool) -> tuple[list[tuple[str, ...]], str]:
            new = bones.index[at] + 1
            moved = [j.parent + (j.parent >= new) for j in bones.joints]
            if inside:
                moved = [new if p == new - 1 else p for p in moved]
            joints = [replace(j, parent=p) for j, p in zip(bones.joints, moved, strict=True)]
            joints.insert(new, Joint("aux", new - 1, aside))
            made = propose(Skeleton(tuple(joints)))
            hand = next(p for p in made.parts if isinstance(p, HandPart) and p.side == "left")
            return [tuple(hand.joints[k] for k in f.run) for f in hand.fingers], " ".join(made.notes)

        whole = [tuple(f"{n}{x}.L" for x in ("", ".mid", ".tip")) for n in ("thumb", "finger1", "finger2", "finger3")]
        for at in ("finger2.L", "finger2.mid.L", "finger2.tip.L"):
            for aside in ((0.0, 0.0, 0.0), (0.004, 0.0, 0.0), (0.0, 0.005, 0.003)):
                with self.subTest(at=at, aside=aside):
                    fingers, told = found(at, aside, False)
                    self.assertEqual(fingers, whole)
                    self.assertNotIn("aux: a finger", told)
        fingers, told = found("finger2.mid.L", (0.0, 0.0, 0.0), True)
        self.assertEqual(fingers, [whole[0], whole[1], whole[3]])
        self.assertIn("finger2.mid.L, aux, finger2.tip.L: a finger that is posed joint by joint", told)

    def test_fingers_are_no_limbs(self) -> None:
        joints = {j for p in propose(marl().skeleton).parts if isinstance(p, LimbPart) for j in p.joints}
        self.assertFalse([j for j in joints if "finger" in j or "thumb" in j])


class Hinges(unittest.TestCase):
    def test_the_hinges_of_a_pair_are_each_others_image_whatever_each_of_them_does(self) -> None:
        rng = np.random.default_rng(5)
        bones = marl().skeleton
        motion = np.zeros((30, len(bones), 4))
        motion[..., 3] = 1.0
        # Elbows and knees bend about axes of their own; one knee not at all.
        for joint, most in (("forearm.L", 1.0), ("forearm.R", 0.3), ("shin.L", 1.2)):
            axis = np.array([1.0 if "shin" in joint else -1.0, *rng.uniform(-0.4, 0.4, 2)])
            half = 0.5 * np.linspace(0.1, most, 30)[:, None]
            motion[:, bones.index[joint]] = np.hstack([np.sin(half) * axis / np.linalg.norm(axis), np.cos(half)])
        for rotations in (motion, None):
            limbs = {p.name: p for p in propose(bones, rotations).parts if isinstance(p, LimbPart)}
            for name in ("arm", "leg"):
                one, two = (limbs[f"{name}.{letter}"] for letter in "LR")
                hinges = [rotate(bones.rest_pose[1][bones.index[p.bones[0]]], np.array(p.hinge)) for p in (one, two)]
                np.testing.assert_allclose(hinges[0] * [1.0, -1.0, -1.0], hinges[1], atol=1e-9)
                found = {p.hinge_from for p in (one, two)}
                self.assertEqual(found, {"motion"} if rotations is not None else {one.hinge_from})
        # An arm that bends against the other keeps its own way.
        motion[:, bones.index["forearm.R"]] = motion[:, bones.index["forearm.L"]] * [-1.0, 1.0, 1.0, 1.0]
        arms = [p for p in propose(bones, motion).parts if isinstance(p, LimbPart) and p.role == "arm"]
        for p in arms:
            turn = motion[-1, bones.index[p.bones[1]], :3]
            self.assertGreater(turn @ np.array(p.hinge), 0.1, p.name)

    def test_where_the_motion_bends_a_limb_the_motion_decides(self) -> None:
        """A rest pose bent backward, by a hair or by a lot, turns no elbow round: bent frames have the sign +1."""
        for degrees in (0.03, 0.06, 0.5, 5.0, 12.0):
            for role, sign in (("arm", 1.0), ("leg", -1.0)):
                back = -sign * np.radians(degrees)
                bones = skeleton(
                    ("r", "", (0, 1, 0)), ("u", "r", (0, -0.1, 0)), ("m", "u", (0, -0.4, 0)),
                    ("e", "m", (0, -0.4 * float(np.cos(back)), 0.4 * float(np.sin(back)))),
                )  # fmt: skip
                angles = -sign * np.radians(np.linspace(degrees, 70.0, 30))
                rotations = np.zeros((30, 4, 4))
                rotations[..., 3] = 1.0
                rotations[:, 2, 0], rotations[:, 2, 3] = np.sin(angles / 2), np.cos(angles / 2)
                axis, found = find_hinge(bones, Run((1, 2, 3), (2,)), rotations, np.array([0.0, 0.0, 1.0]), role)
                self.assertEqual(found, "motion")
                part = LimbPart("l", "l", ("u", "m", "e"), ("xyz",) * 3, axis, bends_as="hinge")
                rest = FkPart("r", "r", ("r",), ("xyz",), (False,))
                member = Member("x", "X", "character", bones, (rest, part))
                program = Program(Scene("s", (member,)), Take("t", Fraction(24), 0, 1))
                limb = program.bound("x", "l")
                # At rest both systems stand where the skeleton does, whatever the sign says there.
                for system in limb.systems:
                    posed = program.evaluate([0.0], overrides={**limb.drive_to(system)})
                    np.testing.assert_allclose(posed.pos[0, limb.nodes], bones.rest_pose[0][1:], atol=1e-9)
                bent = {limb.own["m", "rx"]: angles[10:]}
                poses = program.evaluate(np.arange(20.0), overrides={**bent, **limb.drive_to("fk")})
                values = fit(program, limb, "ik", poses).values
                np.testing.assert_array_equal(values[9], 1.0)
                guides = guides_of(program, limb, poses)
                # The guide stands on the side of the middle joint.
                a, b, c = (poses.pos[:, n] for n in limb.nodes)
                aim = (c - a) / np.linalg.norm(c - a, axis=1, keepdims=True)
                off = b - a - np.sum((b - a) * aim, axis=1, keepdims=True) * aim
                self.assertGreater(np.sum((guides - a) * off, axis=1).min(), 0.0)

    def test_a_bent_rest_pose_shows_its_hinge(self) -> None:
        bones = many_legged(1)
        i, j, k = (bones.index[n] for n in ("p0a", "p0b", "p0c"))
        axis, found = find_hinge(bones, Run((i, j, k), (j,)), None, np.array([0.0, 0.0, 1.0]), "leg")
        self.assertEqual(found, "rest")
        normal = np.cross(bones.offsets[j], bones.offsets[k])
        np.testing.assert_allclose(axis, normal / np.linalg.norm(normal), atol=1e-12)

    def test_knees_and_elbows_fold_their_own_way_when_nothing_shows(self) -> None:
        bones = skeleton(
            ("a", "", (0, 1, 0)), ("b", "a", (0, -0.1, 0)), ("c", "b", (0, -0.4, 0)), ("d", "c", (0, -0.4, 0))
        )
        forward = np.array([0.0, 0.0, 1.0])
        for role, way in (("leg", -1.0), ("arm", 1.0)):
            axis, found = find_hinge(bones, Run((1, 2, 3), (2,)), None, forward, role)
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
