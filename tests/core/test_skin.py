"""The skin of a body: closed, smooth, near its shapes, carried by joints that belong there, and sound where joints bend."""

from __future__ import annotations

import unittest
from itertools import pairwise

import numpy as np

from yielding_tether.core.cast import Member, Shape
from yielding_tether.core.parts import FkPart, FreePart
from yielding_tether.core.shapes import signed_distance
from yielding_tether.core.skeleton import Joint, Skeleton
from yielding_tether.core.skin import Surface, skin_of
from yielding_tether.core.transforms import Floats, inverse, multiply, rotate
from yielding_tether.demo.marl import marl
from yielding_tether.formats import glb

from .test_bake import crossing


def axis_angle(axis: Floats, angle: float) -> Floats:
    return np.append(np.sin(angle / 2) * axis, np.cos(angle / 2))


def posed(skeleton: Skeleton, turns: dict[str, Floats]) -> tuple[Floats, Floats]:
    """World places and rotations of the joints with some turned in their own space."""
    pos, rot = np.zeros((len(skeleton), 3)), np.zeros((len(skeleton), 4))
    for k, (joint, up) in enumerate(zip(skeleton.joints, skeleton.parents, strict=True)):
        own = multiply(np.array(joint.rest), turns.get(joint.name, np.array([0.0, 0.0, 0.0, 1.0])))
        if up < 0:
            pos[k], rot[k] = joint.offset, own
        else:
            pos[k] = pos[up] + rotate(rot[up], np.array(joint.offset))
            rot[k] = multiply(rot[up], own)
    return pos, rot


def skinned(skeleton: Skeleton, surface: Surface, turns: dict[str, Floats]) -> Floats:
    """Points of a surface in a pose: the weighted mean of where each of their joints carries them."""
    rest_pos, rest_rot = skeleton.rest_pose
    pos, rot = posed(skeleton, turns)
    found = np.zeros_like(surface.points)
    for k in range(4):
        j = surface.joints[:, k].astype(int)
        local = rotate(inverse(rest_rot[j]), surface.points - rest_pos[j])
        found += surface.weights[:, k, None] * (rotate(rot[j], local) + pos[j])
    return found


def volume(points: Floats, faces: np.ndarray) -> float:
    a, b, c = (points[faces[:, k].astype(int)] for k in range(3))
    return float(np.einsum("ij,ij->", a, np.cross(b, c)) / 6.0)


class Skins(unittest.TestCase):
    def bodies(self) -> tuple[tuple[str, object], ...]:
        return (("marl", marl()), ("capture", crossing().scene.members[0]))

    def test_surfaces_are_closed_and_face_outward(self) -> None:
        for name, member in self.bodies():
            skin = skin_of(member)  # type: ignore[arg-type]
            self.assertGreater(len(skin.surfaces), 0, name)
            for x in skin.surfaces:
                edges = np.concatenate([x.faces[:, [a, b]] for a, b in ((0, 1), (1, 2), (2, 0))]).astype(np.int64)
                # Every edge is walked once in each direction.
                forth = np.sort(edges[:, 0] * 1_000_000 + edges[:, 1])
                back = np.sort(edges[:, 1] * 1_000_000 + edges[:, 0])
                np.testing.assert_array_equal(forth, back, x.tone)
                self.assertEqual(len(np.unique(forth)), len(forth), x.tone)
                self.assertGreater(volume(x.points, x.faces), 1e-4, x.tone)
                a, b, c = (x.points[x.faces[:, k].astype(int)] for k in range(3))
                out = np.einsum("ij,ij->i", np.cross(b - a, c - a), x.normals[x.faces[:, 0].astype(int)])
                self.assertGreater(float(np.mean(out > 0.0)), 0.99, x.tone)

    def test_it_lies_on_its_shapes_but_where_they_flow_together(self) -> None:
        member = marl()
        rest_pos, rest_rot = member.skeleton.rest_pose
        for x in skin_of(member).surfaces:
            off = np.full(len(x.points), np.inf)
            for shape in member.shapes:
                if shape.tone == x.tone and shape.form in ("ball", "capsule"):
                    j = member.skeleton.index[shape.joint]
                    local = rotate(inverse(rest_rot[j]), x.points - rest_pos[j])
                    off = np.minimum(off, signed_distance(shape, local))
            self.assertGreater(float(off.min()), -0.01, x.tone)
            self.assertLess(float(off.max()), 0.04, x.tone)
            self.assertLess(float(np.median(np.abs(off))), 0.006, x.tone)

    def test_weights_add_up_and_no_side_carries_the_other(self) -> None:
        for name, member in self.bodies():
            skeleton = member.skeleton  # type: ignore[attr-defined]
            limbs = {p.name: p.joints for p in member.parts if p.kind == "limb"}  # type: ignore[attr-defined]
            for x in skin_of(member).surfaces:  # type: ignore[arg-type]
                np.testing.assert_allclose(x.weights.sum(axis=1), 1.0, atol=1e-12)
                self.assertGreaterEqual(float(x.weights.min()), 0.0)
                carried = np.zeros((len(x.points), len(skeleton)))
                np.put_along_axis(carried, x.joints.astype(int), x.weights, axis=1)
                for a, b in pairwise(sorted(limbs)):
                    left, right = (carried[:, [skeleton.index[j] for j in limbs[n]]].sum(axis=1) for n in (a, b))
                    # Where both begin the body between them may go with both; what is a limb's own goes with no other.
                    self.assertLess(float(np.minimum(left, right).max()), 0.3, f"{name} {a} {b}")
                    self.assertLess(float(right[left > 0.6].max(initial=0.0)), 0.02, f"{name} {a} {b}")

    def test_at_rest_it_is_as_it_was_made_and_moves_with_its_joints(self) -> None:
        member = marl()
        for x in skin_of(member).surfaces:
            np.testing.assert_allclose(skinned(member.skeleton, x, {}), x.points, atol=1e-9)
        jersey = next(x for x in skin_of(member).surfaces if x.tone == "jersey")
        turned = skinned(member.skeleton, jersey, {"hips": axis_angle(np.array([0.0, 1.0, 0.0]), 0.7)})
        pos = member.skeleton.rest_pose[0][0]
        about = rotate(
            np.broadcast_to(axis_angle(np.array([0.0, 1.0, 0.0]), 0.7), (len(turned), 4)), jersey.points - pos
        )
        np.testing.assert_allclose(turned, about + pos, atol=1e-9)

    def test_odd_bodies_have_one_too_or_stay_pieces(self) -> None:
        """Thin as a thread, without length, a single joint, a cube of legs, a finger as far away as a mast."""

        def body(offsets: list[tuple[float, float, float]], size: float) -> Member:
            bones = Skeleton(tuple(Joint(f"j{k}", k - 1, o) for k, o in enumerate(offsets)))
            parts = (
                FreePart("root", "root", "j0", "xyz"),
                *(FkPart(j.name, j.name, (j.name,), ("xyz",), (False,)) for j in bones.joints[1:]),
            )
            shapes = tuple(
                Shape(j.name, "capsule", "skin", (0.0, 0.0, 0.0), (0.0, 0.1, 0.0), (size, size)) for j in bones.joints
            )
            return Member("odd", "Odd", "character", bones, parts, shapes)

        step = (0.0, 0.3, 0.0)
        for name, offsets, size in (
            ("thread", [step] * 4, 1e-5), ("no size", [step] * 3, 0.0), ("one joint", [step], 0.05),
            ("no length", [(0.0, 0.0, 0.0)] * 3, 0.05), ("mast", [step, step, (0.0, 90.0, 0.0)], 0.05),
            ("cube", [(0.0, 0.0, 0.0), (2.0, 0.0, 0.0), (0.0, 2.0, 0.0), (-2.0, 0.0, 2.0)], 0.4),
        ):  # fmt: skip
            with self.subTest(name):
                member = body(offsets, size)
                skin = skin_of(member)
                for x in skin.surfaces:
                    self.assertTrue(np.isfinite(x.points).all())
                    np.testing.assert_allclose(x.weights.sum(axis=1), 1.0, atol=1e-12)
                self.assertEqual(bool(skin.surfaces), name == "cube")
                self.assertEqual(len(skin.pieces), 0 if skin.surfaces else len(member.shapes))
                self.assertEqual(glb.body(member)[:4], b"glTF")

    def test_joints_bend_without_collapsing(self) -> None:
        member = marl()
        x, y = np.array([1.0, 0.0, 0.0]), np.array([0.0, 1.0, 0.0])
        for tone, joint, axis, angle in (
            ("jersey", "forearm.L", y, -1.9), ("jersey", "upperarm.R", y, 1.2), ("trousers", "shin.L", x, 1.9),
            ("trousers", "thigh.R", x, -1.3), ("skin", "head", y, 1.0), ("jersey", "chest", x, 0.5),
        ):  # fmt: skip
            with self.subTest(joint=joint):
                surface = next(s for s in skin_of(member).surfaces if s.tone == tone)
                bent = skinned(member.skeleton, surface, {joint: axis_angle(axis, angle)})
                rest = volume(surface.points, surface.faces)
                self.assertGreater(volume(bent, surface.faces) / rest, 0.93)
                self.assertLess(volume(bent, surface.faces) / rest, 1.07)
