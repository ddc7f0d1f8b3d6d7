"""The sides of bodies and props at rest: which way lies across, in which plane they are alike, and how a prop looks in a mirror."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from .cast import Grip, Member, Shape
from .transforms import Floats, inverse, multiply, rotate

#: What of two sides may differ for them to be alike: metres, radians, values.
SAME = 1e-7


def across(member: Member) -> Floats:
    """(3,) the body's own sideways axis at rest, from its left parts to its right ones or along x if it has none."""
    pos = member.skeleton.rest_pose[0]
    left = [pos[member.skeleton.index[p.joints[0]]] for p in member.parts if p.side == "left"]
    right = [pos[member.skeleton.index[p.joints[0]]] for p in member.parts if p.side == "right"]
    if not left or not right:
        return np.array([1.0, 0.0, 0.0])
    off = np.mean(left, axis=0) - np.mean(right, axis=0)
    axis = np.zeros(3)
    axis[int(np.argmax(np.abs(off)))] = 1.0
    return axis


def own_plane(member: Member) -> tuple[Floats, float]:
    """(3,) normal of the plane through a member's root at rest in which it is as it is in a mirror, and how far it is from that
    (metres). A body has one between its sides; of a prop, whose joints have no sides, it is the best of those across the axes of
    the world and of its root."""
    sides = {p.side for p in member.parts}
    if {"left", "right"} <= sides:
        return across(member), 0.0
    places, turns = member.skeleton.rest_pose
    joints = places - places[0]
    index = member.skeleton.index
    points = []
    for s in member.shapes:
        j = index[s.joint]
        ends = np.array([s.a, s.b if s.form in ("capsule", "ring") else s.a])
        points.append(joints[j] + rotate(np.broadcast_to(turns[j], (2, 4)), ends))
    solid = np.concatenate([joints, *points])
    axes = np.concatenate([np.eye(3), rotate(np.broadcast_to(turns[0], (3, 4)), np.eye(3))])
    off = []
    for axis in axes:
        seen = solid - 2.0 * np.outer(solid @ axis, axis)
        unlike = float(np.linalg.norm(seen[:, None] - solid[None], axis=-1).min(axis=1).max())
        # Its joints are each their own partner: they have to lie in the plane.
        off.append(max(float(np.abs(joints @ axis).max()), unlike))
    best = next(k for k, x in enumerate(off) if x <= min(off) + SAME)
    return axes[best], off[best]


def in_mirror(member: Member) -> Member:
    """A prop of the other hand: its shapes and grips as a mirror in its own plane shows them; its joints, which lie in that or are
    placed by keys, as they are."""
    normal = own_plane(member)[0]
    turns = member.skeleton.rest_pose[1]
    places = member.skeleton.rest_pose[0] - member.skeleton.rest_pose[0][0]

    def there(joint: str, at: tuple[float, ...]) -> tuple[float, float, float]:
        j = member.skeleton.index[joint]
        seen = places[j] + rotate(turns[j], np.array(at))
        seen = seen - 2.0 * float(seen @ normal) * normal
        x, y, z = map(float, rotate(inverse(turns[j]), seen - places[j]))
        return x, y, z

    def turned(joint: str, by: tuple[float, ...], first: Floats) -> tuple[float, float, float, float]:
        """first: the plane, in what is turned, across which it is alike itself."""
        rest = turns[member.skeleton.index[joint]]
        seen = multiply(np.append(normal, 0.0), multiply(multiply(rest, np.array(by)), np.append(first, 0.0)))
        x, y, z, w = map(float, multiply(inverse(rest), seen))
        return (x, y, z, w) if w >= 0.0 else (-x, -y, -z, -w)

    side = np.array([1.0, 0.0, 0.0])

    def shape(s: Shape) -> Shape:
        # A ring's second point is a way, and what has a turn is alike in each of its own planes.
        b = there(s.joint, s.b) if s.form == "capsule" else tuple(
            (np.array(there(s.joint, s.b)) - np.array(there(s.joint, (0.0, 0.0, 0.0)))).tolist()
        )  # fmt: skip
        return replace(s, a=there(s.joint, s.a), b=b, turn=turned(s.joint, s.turn, side))

    def grip(g: Grip) -> Grip:
        # Fingers and palm keep their axes: it is across them that it is alike.
        return replace(
            g, position=there(g.joint, g.position), rotation=turned(g.joint, g.rotation, np.array([0.0, 0.0, 1.0]))
        )

    return replace(member, shapes=tuple(map(shape, member.shapes)), grips=tuple(map(grip, member.grips)))
