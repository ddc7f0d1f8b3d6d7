"""Sides exchanged within a body, one side put onto the other, planes elsewhere, pairs by structure and by word, what stays behind:
against reflections with matrices."""

from __future__ import annotations

import unittest
from collections.abc import Callable
from dataclasses import replace

import numpy as np
from scipy.spatial.transform import Rotation

from yielding_tether.core.cast import Member, Shape
from yielding_tether.core.clips import partner
from yielding_tether.core.contacts import measure_all
from yielding_tether.core.curves import Curve
from yielding_tether.core.errors import CoreError
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.parts import FkPart, FreePart, LimbPart, Part
from yielding_tether.core.program import Poses, Program
from yielding_tether.core.rig import Bound
from yielding_tether.core.skeleton import Joint, Skeleton
from yielding_tether.core.takes import Scene, Tether
from yielding_tether.core.transforms import Floats
from yielding_tether.demo.brindles_trot import brindles_trot

from ..depth import DEPTH
from .test_bake import crossing
from .test_bodies import six_legged, wandering
from .test_findings import clean
from .test_mirror import other_side, pair
from .worlds import random_curve, random_take, stepped

FLIP = np.diag([-1.0, 1.0, 1.0])


def in_middle(program: Program, member: str, middle: str, joints: list[str], at: Floats) -> tuple[Floats, Floats]:
    """(F, J, 3) joints in a joint of the middle, in the body's own axes; and (F, J, 3, 3) how they are turned there beyond rest."""
    poses = program.evaluate(at)
    rest = program.scene.member(member).skeleton
    index, turns = rest.index, Rotation.from_quat(rest.rest_pose[1])
    node = program.nodes[member, middle]
    base = Rotation.from_quat(poses.rot[:, node]) * turns[index[middle]].inv()
    places, turned = [], []
    for j in joints:
        n = program.nodes[member, j]
        places.append(base.inv().apply(poses.pos[:, n] - poses.pos[:, node]))
        turned.append((base.inv() * Rotation.from_quat(poses.rot[:, n]) * turns[index[j]].inv()).as_matrix())
    return np.stack(places, axis=1), np.stack(turned, axis=1)


class Within(unittest.TestCase):
    def check(self, was: Program, now: Program, one: Bound, middle: str, at: Floats, within: float) -> None:
        """A part's motion is on the other side, seen from the middle of its body: in place (metres) and, ten times that, turn."""
        member, joints = one.member.id, list(one.part.joints)
        theirs = [other_side(j) for j in joints]
        places, turns = in_middle(was, member, middle, joints, at)
        there, turned = in_middle(now, member, middle, theirs, at)
        self.assertLess(float(np.linalg.norm(places @ FLIP - there, axis=-1).max()), within, one.who)
        self.assertLess(float(np.abs(FLIP @ turns @ FLIP - turned).max()), 10.0 * within, one.who)

    def test_one_side_goes_onto_the_other_on_random_bodies(self) -> None:
        for seed in range(4 * DEPTH):
            rng = np.random.default_rng(seed)
            member = pair(rng)
            program = Program(Scene("pair", (member,)), random_take(rng, (member,), kinds=(2,)))
            for one, two in (("limb.L", "limb.R"), ("limb.R", "limb.L")):
                done = run(program, "mirror", Asked((("body", one),), 0.0, None, {"what": "parts", "how": "onto"}))
                after = program.on(done.take)
                source = program.bounds["body", one]
                # At its own keys, those of what it follows, and where it goes over to another system.
                at = np.unique(np.concatenate([program.curve(int(c)).times for c in source.own.values()]))
                self.check(program, after, source, "root", at, 1e-6)
                mine = {
                    n: c for n, c in program.take.curves.items() if f"/{two}" not in n and not self.of(program, n, two)
                }
                self.assertEqual({n: done.take.curves.get(n) for n in mine}, mine)

    def of(self, program: Program, name: str, part: str) -> bool:
        """Whether a curve is of a part."""
        return program.channels[name] in program.bounds["body", part].own.values()

    def test_arms_and_legs_are_exchanged_in_a_take(self) -> None:
        program = clean(0)
        done = run(program, "mirror", Asked((("marl", "spine"),), 0.0, None, {"what": "sides"}))
        after = program.on(done.take)
        at = np.unique(np.concatenate([program.take.frames[::4], [0.0]]))
        for name, middle in (("arm.L", "chest"), ("arm.R", "chest")):
            bound = program.bounds["marl", name]
            self.check(program, after, bound, middle, np.arange(0.0, program.take.last, 0.5), 1e-3)
        # The middle goes on as it did, to the bit.
        for name in ("hips", "spine", "head"):
            for c in program.bounds["marl", name].own.values():
                self.assertEqual(program.curve(c), after.curve(c))
        # Who stood on the one foot stands on the other at the same frames.
        spans = [sorted((c.first, c.last, f(c.joint)) for c in p.take.contacts if "foot" in c.joint)
                 for p, f in ((program, other_side), (after, str))]  # fmt: skip
        self.assertEqual(*spans)
        self.assertTrue(any("slips" in line for line in done.proof.sentence.split(";")) or not done.proof.contacts_kept)
        # Twice, it is what it was.
        back = program.on(run(after, "mirror", Asked((("marl", "spine"),), 0.0, None, {"what": "sides"})).take)
        nodes = program.joints(["marl"])[1]
        keys = np.unique(np.concatenate([c.times for n, c in program.take.curves.items() if n.startswith("marl/")]))
        off = np.linalg.norm(program.evaluate(at).pos[:, nodes] - back.evaluate(at).pos[:, nodes], axis=-1)
        self.assertLess(float(off[np.isin(at, keys)].max()), 1e-5)

    def test_of_a_capture_too(self) -> None:
        program = crossing()
        arm = next(b for b in program.bounds.values() if b.part.label == "left arm")
        at = np.arange(0.0, program.take.last + 1.0)
        middle = "chest"
        for how in ("onto", "exchanged"):
            done = run(program, "mirror", Asked((arm.id,), 0.0, None, {"what": "parts", "how": how}))
            after = program.on(done.take)
            self.check(program, after, arm, middle, at, 1e-6)
            if how == "exchanged":
                other = program.bounds["body", partner(arm.member, arm.part).name]  # type: ignore[union-attr]
                self.check(program, after, other, middle, at, 1e-6)
            rest = [n for j, n in zip(*program.joints(["body"]), strict=True)
                    if not any(j[1] in b.part.joints for b in program.bounds.values() if b.part.side != "middle")]  # fmt: skip
            np.testing.assert_allclose(program.evaluate(at).pos[:, rest], after.evaluate(at).pos[:, rest], atol=1e-9)
        with self.assertRaisesRegex(CoreError, "only be mirrored as a whole"):
            run(program, "mirror", Asked((arm.id,), 10.0, 50.0, {"what": "parts"}))

    def test_a_pose_in_the_plane_of_a_body_that_leans(self) -> None:
        program = clean(1)
        frame = 90.0
        done = run(program, "mirror", Asked((("marl", "spine"),), frame, frame, {"plane": "leaning"}))
        after = program.on(done.take)
        at = np.array([frame])
        joints = list(program.scene.member("marl").skeleton.index)
        places, turns = in_middle(program, "marl", "hips", joints, at)
        there, turned = in_middle(after, "marl", "hips", [other_side(j) for j in joints], at)
        self.assertLess(float(np.abs(places @ FLIP - there).max()), 1e-6)
        self.assertLess(float(np.abs(FLIP @ turns @ FLIP - turned).max()), 1e-6)
        hips = program.nodes["marl", "hips"]
        np.testing.assert_allclose(program.evaluate(at).pos[0, hips], after.evaluate(at).pos[0, hips], atol=1e-9)
        with self.assertRaisesRegex(CoreError, "for a pose"):
            run(program, "mirror", Asked((("marl", "spine"),), 0.0, None, {"plane": "leaning"}))

    def test_what_can_not_change_sides_is_said(self) -> None:
        with self.assertRaisesRegex(CoreError, "hangs from nothing"):
            run(clean(0), "mirror", Asked((("marl", "hips"),), 0.0, None, {"what": "parts", "how": "onto"}))


class Planes(unittest.TestCase):
    def seen(self, choices: dict[str, str | float], stand: str | None, point: Floats, normal: Floats) -> None:
        """A take mirrored in a plane fixed in something, through a point and across a normal there, both (3,)."""
        program = clean(1)
        done = run(program, "mirror", Asked((("marl", "spine"),), 0.0, None, choices))
        after = program.on(done.take)
        at = np.arange(0.0, program.take.last + 1.0, 3.0)
        poses, now = program.evaluate(at), after.evaluate(at)
        flip = np.eye(3) - 2.0 * np.outer(normal, normal)
        node = program.world if stand is None else program.nodes[stand, stand]
        turn = Rotation.from_quat(poses.rot[:, node])
        for joint in program.scene.member("marl").skeleton.index:
            one, two = program.nodes["marl", joint], program.nodes["marl", other_side(joint)]
            local = turn.inv().apply(poses.pos[:, one] - poses.pos[:, node])
            want = turn.apply((local - point) @ flip + point) + poses.pos[:, node]
            self.assertLess(float(np.abs(want - now.pos[:, two]).max()), 1e-4, (choices, joint))

    def test_planes_through_other_things(self) -> None:
        self.seen({"plane": "fixed", "of": "deck/deck"}, "deck", np.zeros(3), np.array([1.0, 0.0, 0.0]))
        with self.assertRaisesRegex(CoreError, "what it mirrors"):
            run(clean(1), "mirror", Asked((("marl", "spine"),), 0.0, None, {"plane": "fixed", "of": "marl/chest"}))
        with self.assertRaisesRegex(CoreError, "Click the place"):
            run(clean(1), "mirror", Asked((("marl", "spine"),), 0.0, None, {"plane": "spot"}))

    def test_a_plane_through_a_place(self) -> None:
        program = crossing()
        done = run(
            program,
            "mirror",
            Asked((("body", "spine"),), 0.0, None, {"plane": "spot", "through": "1.5 0 0.5", "along": 30.0}),
        )
        at = np.arange(0.0, program.take.last + 1.0)
        was, now = program.evaluate(at), program.on(done.take).evaluate(at)
        a = np.radians(30.0)
        # Along (sin, 0, cos): across it is (cos, 0, -sin).
        normal, point = np.array([np.cos(a), 0.0, -np.sin(a)]), np.array([1.5, 0.0, 0.5])
        for joint in program.scene.member("body").skeleton.index:
            one, two = program.nodes["body", joint], program.nodes["body", other_side(joint)]
            off = (was.pos[:, one] - point) @ normal
            want = was.pos[:, one] - 2.0 * np.outer(off, normal)
            self.assertLess(float(np.abs(want - now.pos[:, two]).max()), 1e-6, joint)


class Alike(unittest.TestCase):
    def test_parts_are_paired_by_where_they_lie(self) -> None:
        program = clean(0)
        member = program.scene.member("marl")
        renamed = replace(member, parts=tuple(
            replace(p, label="strong arm") if p.name == "arm.R" else p for p in member.parts  # type: ignore[type-var]
        ))  # fmt: skip
        left, right = (next(p for p in renamed.parts if p.name == n) for n in ("arm.L", "arm.R"))
        self.assertIs(partner(renamed, left), right)
        self.assertIs(partner(renamed, right), left)

    def test_pairs_are_corrected_by_word(self) -> None:
        program = Program(*brindles_trot())
        some = next(b.id for b in program.bounds.values() if b.part.side == "middle" and not b.part.free)
        done = run(program, "mirror", Asked((some,), 0.0, None, {"pairs": "left ear = none, right ear = none"}))
        after = program.on(done.take)
        alone = [n for n in done.proof.notes if "keeps its own motion" in n]
        self.assertEqual(len(alone), 2, done.proof.notes)
        ear = next(b for b in program.bounds.values() if b.part.label == "left ear")
        for c in ear.own.values():
            self.assertEqual(program.curve(c), after.curve(c))
        for said, says in (
            ("left ear", "as 'left tail"), ("left ear = left wing", "No part is called 'left wing'"),
            ("left ear = right foreleg", "not built alike"), ("left ear = right ear, right ear = none", "like two parts"),
        ):  # fmt: skip
            with self.subTest(said), self.assertRaisesRegex(CoreError, says):
                run(program, "mirror", Asked((some,), 0.0, None, {"pairs": said}))

    def test_who_stays_behind_is_told_with_how_far(self) -> None:
        program = clean(1)
        done = run(program, "mirror", Asked((("marl", "spine"),), 0.0, None, {"what": "body"}))
        told = [n for n in done.proof.notes if n.startswith("Lantern stays")]
        self.assertTrue(told, done.proof.notes)
        # With it in hand as well, nothing stays.
        both = run(program, "mirror", Asked((("marl", "spine"), ("lantern", "lantern")), 0.0, None, {"what": "body"}))
        self.assertEqual([n for n in both.proof.notes if "stays:" in n], [])
        self.assertIn("Lantern", both.label)

    def test_marks_of_what_is_wanted_change_sides(self) -> None:
        program = clean(0)
        take = replace(
            program.take, wanted=("pop/marl/arm.L/40", "pop/marl/arm.R/100", "pop/marl/spine/50", "pop/deck/deck/7")
        )
        after = run(program.on(take), "mirror", Asked((("marl", "spine"),), 0.0, 60.0)).take
        self.assertEqual(
            set(after.wanted), {"pop/marl/arm.R/40", "pop/marl/arm.R/100", "pop/marl/spine/50", "pop/deck/deck/7"}
        )


class PlantedAnew(unittest.TestCase):
    def test_what_stands_is_planted_as_a_step_of_its_own(self) -> None:
        program = clean(0)
        asked: dict[str, str | float] = {"what": "sides", "stances": "planted"}
        done = run(program, "mirror", Asked((("marl", "spine"),), 0.0, None, asked))
        self.assertEqual([s.operation for s in done.steps], ["mirror", "plant"])
        bare = run(program, "mirror", Asked((("marl", "spine"),), 0.0, None, {"what": "sides"}))
        self.assertEqual(done.steps[0].take.curves, bare.take.curves)
        slips = [max(float(s.place.max()) for s in measure_all(p, p.take.contacts))
                 for p in (program.on(bare.take), program.on(done.take))]  # fmt: skip
        self.assertGreater(slips[0], 0.1)
        self.assertLess(slips[1], 1e-4)
        # Where nothing stands it is mirrored all the same, and told.
        free = program.on(replace(program.take, contacts=()))
        none = run(free, "mirror", Asked((("marl", "spine"),), 0.0, None, asked))
        self.assertEqual(none.steps, ())
        self.assertIn("Nothing stands there", none.proof.sentence)


class Props(unittest.TestCase):
    def test_a_prop_is_mirrored_in_the_plane_in_which_it_is_alike(self) -> None:
        """A bent rod of three joints along any axes, held by a hand: each joint where a mirror shows it, with its turn."""
        base = clean(1)
        for axis in range(3):
            along, bend = np.roll([1.0, 0.0, 0.0], axis), np.roll([0.0, 1.0, 0.0], axis)
            steps = [np.zeros(3), 0.2 * along + 0.1 * bend, 0.3 * along]
            joints = [Joint(f"rod{k}", k - 1, (float(s[0]), float(s[1]), float(s[2]))) for k, s in enumerate(steps)]
            parts: tuple[Part, ...] = (
                FreePart("rod", "rod", "rod0", "yxz"), FkPart("tip", "tip", ("rod1", "rod2"), ("yxz",) * 2, (False,) * 2),
            )  # fmt: skip
            rod = Member("rod", "Rod", "prop", Skeleton(tuple(joints)), parts)
            rng = np.random.default_rng(axis)
            turned = {f"rod/rod{k}.r{c}": random_curve(rng, 100, 1.5) for k in range(3) for c in "xyz"}
            scene = replace(base.scene, members=(*base.scene.members, rod))
            take = replace(base.take, tethers=(*base.take.tethers, Tether("hand", "rod", "rod0", "marl", "hand.R")))
            take = take.with_curves(
                {**turned, "rod/rod0.hand.position": stepped((0.0, 1.0)), "rod/rod0.hand.rotation": stepped((0.0, 1.0))}
            )
            program = Program(scene, take)
            done = run(program, "mirror", Asked((("marl", "spine"),), 0.0, None, {"plane": "fixed", "of": "deck/deck"}))
            after = program.on(done.take)
            at = np.unique(np.concatenate([c.times for c in turned.values()]))
            was, now = program.evaluate(at), after.evaluate(at)
            deck = program.nodes["deck", "deck"]
            turn = Rotation.from_quat(was.rot[:, deck])
            for k in range(3):
                node = program.nodes["rod", f"rod{k}"]
                local = turn.inv().apply(was.pos[:, node] - was.pos[:, deck]) @ FLIP
                want = turn.apply(local) + was.pos[:, deck]
                self.assertLess(float(np.abs(want - now.pos[:, node]).max()), 1e-6, (axis, k))

    def test_a_prop_that_is_not_alike_on_both_sides_is_named(self) -> None:
        gaff = [
            Shape("gaff", "capsule", "iron", (0.0, 0.0, 0.0), end, (0.01, 0.01))
            for end in ((0.3, 0.0, 0.0), (0.1, 0.2, 0.05))
        ]
        alone = Member(
            "gaff",
            "Gaff",
            "prop",
            Skeleton((Joint("gaff", -1, (0.0, 0.0, 0.0)),)),
            (FreePart("gaff", "gaff", "gaff"),),
            tuple(gaff),
        )
        base = clean(1)
        program = Program(replace(base.scene, members=(*base.scene.members, alone)), base.take)
        done = run(program, "mirror", Asked((("marl", "spine"),), 0.0, None))
        self.assertEqual(
            [n for n in done.proof.notes if "not alike" in n],
            ["Gaff is not alike on both sides (by 100 mm): it changes hands, and keeps its own shape."],
        )

    def test_a_one_sided_prop_can_be_mirrored_itself(self) -> None:
        """A bent hook in a hand: every end of its shapes where a mirror shows it, and twice, all as it was, to the bit."""
        base = clean(1)
        ends = ((0.3, 0.0, 0.0), (0.1, 0.2, 0.05))
        hook = tuple(Shape("gaff", "capsule", "iron", (0.02, 0.01, 0.0), end, (0.01, 0.01)) for end in ends)
        rest = Rotation.from_rotvec([0.2, 0.6, -0.4]).as_quat()
        joint = Joint("gaff", -1, (0.1, 1.0, 0.3), tuple(rest.tolist()))
        gaff = Member("gaff", "Gaff", "prop", Skeleton((joint,)), (FreePart("gaff", "gaff", "gaff"),), hook)
        rng = np.random.default_rng(8)
        take = replace(base.take, tethers=(*base.take.tethers, Tether("hand", "gaff", "gaff", "marl", "hand.R")))
        turned = {f"gaff/gaff.r{c}": random_curve(rng, 100, 1.5) for c in "xyz"}
        held = {f"gaff/gaff.hand.{w}": stepped((0.0, 1.0)) for w in ("position", "rotation")}
        program = Program(
            replace(base.scene, members=(*base.scene.members, gaff)), take.with_curves({**turned, **held})
        )
        asked = Asked((("marl", "spine"),), 0.0, None, {"plane": "fixed", "of": "deck/deck", "props": "itself"})
        done = run(program, "mirror", asked)
        self.assertEqual(done.take.flipped, ("gaff",))
        self.assertIn(
            "Gaff is not alike on both sides (by 100 mm): it changes hands and is mirrored itself.", done.proof.notes
        )
        after = program.on(done.take)
        at = np.unique(np.concatenate([c.times for c in turned.values()]))
        was, now = program.evaluate(at), after.evaluate(at)
        deck = program.nodes["deck", "deck"]
        lies = Rotation.from_quat(was.rot[:, deck])

        def points(p: Program, poses: Poses) -> Floats:
            node, shapes = p.nodes["gaff", "gaff"], p.scene.member("gaff").shapes
            ends = [x for s in shapes for x in (s.a, s.b)]
            return np.stack(
                [poses.pos[:, node] + Rotation.from_quat(poses.rot[:, node]).apply(x) for x in ends], axis=1
            )

        for one, two in zip(
            np.moveaxis(points(program, was), 1, 0), np.moveaxis(points(after, now), 1, 0), strict=True
        ):
            want = lies.apply(lies.inv().apply(one - was.pos[:, deck]) @ FLIP) + was.pos[:, deck]
            np.testing.assert_allclose(two, want, atol=1e-6)
        twice = run(after, "mirror", asked).take
        self.assertEqual(twice.flipped, ())
        back = program.on(twice).scene.member("gaff")
        self.assertEqual(back, gaff)
        # By default it keeps its shape.
        self.assertEqual(run(program, "mirror", replace(asked, choices={})).take.flipped, ())


def turned_anyhow(rng: np.random.Generator, member: Member) -> Member:
    """The same bones, the joints of the right side turned any way at rest: axes that have nothing to do with those of the left."""
    skeleton = member.skeleton
    places, turns = skeleton.rest_pose
    rests = [
        Rotation.from_quat(rng.normal(size=4)) if j.name.endswith(".R") else Rotation.from_quat(t)
        for j, t in zip(skeleton.joints, turns, strict=True)
    ]
    joints = []
    for k, j in enumerate(skeleton.joints):
        up, base = (rests[j.parent], places[j.parent]) if j.parent >= 0 else (Rotation.identity(), np.zeros(3))
        offset, rest = up.inv().apply(places[k] - base), (up.inv() * rests[k]).as_quat()
        joints.append(Joint(j.name, j.parent, tuple(offset.tolist()), tuple(rest.tolist())))
    parts = []
    for part in member.parts:
        if isinstance(part, LimbPart) and part.side == "right":
            k = skeleton.index[part.joints[0]]
            hinge = rests[k].inv().apply(Rotation.from_quat(turns[k]).apply(part.hinge))
            parts.append(replace(part, hinge=tuple(hinge.tolist())))
        else:
            parts.append(part)
    return replace(member, skeleton=Skeleton(tuple(joints)), parts=tuple(parts))


class AnyAxes(unittest.TestCase):
    def test_sides_whose_axes_have_nothing_to_do_with_one_another(self) -> None:
        times = np.array([0.0, 9.0, 21.0, 33.0, 48.0, 60.0])
        for seed in range(3 * DEPTH):
            rng = np.random.default_rng(seed)
            member = turned_anyhow(rng, pair(rng))
            program = Program(Scene("pair", (member,)), random_take(rng, (member,), kinds=(2,)))
            # Headed straight on, so that the plane lies across x.
            keyed = {n: c for n, c in program.take.curves.items() if not n.startswith("body/root.r")}.items()
            program = program.on(replace(program.take, curves={}))
            program = program.with_curves(
                {n: Curve(np.column_stack([times, c.numbers[:, 1:]]), c.marks) for n, c in keyed}
            )
            self.check(program, "body", times, other_side, 1e-9)

    def test_a_body_on_six_legs(self) -> None:
        program = wandering(six_legged(), 4)
        names = str.maketrans("pq", "qp")
        self.check(program, "six", np.array([0.0, 20.0, 40.0, 60.0]), lambda n: n[0].translate(names) + n[1:], 1e-7)

    def check(self, program: Program, body: str, at: Floats, other: Callable[[str], str], within: float) -> None:
        """Each joint where a mirror across x through its root shows it, at key times; and twice, all as it was, everywhere."""
        some = next(b.id for b in program.bounds.values() if b.part.side != "middle")
        once = program.on(run(program, "mirror", Asked((some,), 0.0)).take)
        twice = program.on(run(once, "mirror", Asked((some,), 0.0)).take)
        was, now = program.evaluate(at), once.evaluate(at)
        root = was.pos[0, program.joints([body])[1][0]]
        for (_, joint), node in zip(*program.joints([body]), strict=True):
            want = (was.pos[:, node] - root) @ FLIP + root
            there = now.pos[:, once.nodes[body, other(joint)]]
            self.assertLess(float(np.abs(want - there).max()), within, joint)
        every = np.arange(0.0, 2.0 * program.take.last + 1.0) / 2.0
        nodes = program.joints()[1]
        np.testing.assert_allclose(
            program.evaluate(every).pos[:, nodes], twice.evaluate(every).pos[:, nodes], atol=1e-6
        )
