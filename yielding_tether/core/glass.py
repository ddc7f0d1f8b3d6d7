"""Where a whole take goes: reflected in a fixed mirror, put to another place and heading, or both.

    shown = place ∘ reflection,  in what the body stands on, which may move

Only level moves and turns about the vertical are made, so that what stands goes on standing.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from .cast import Member
from .clips import across
from .curves import LEAVING
from .errors import CoreError
from .program import Program
from .transforms import Floats, Ints, inverse, multiply, rotate

_UP = np.array([0.0, 1.0, 0.0])


@dataclass(frozen=True)
class Beginning:
    """Where a take is to begin: as the original does, at the origin of what it stands on, or at a `spot` of the world (metres),
    there headed by an angle (radians about the vertical; 0: along z)."""

    to: Literal["start", "origin", "spot"]
    spot: tuple[float, float, float] = (0.0, 0.0, 0.0)
    heading: float = 0.0


@dataclass(frozen=True)
class Glass:
    """A mirror fixed in something that may move: the node it is fixed in, its point (3,) and unit normal (3,) there, the
    normal of the body's own plane at rest (3,), and whether it `flips` at all; and where all that it shows is moved to, there too:
    by a turn (4,), and then a shift (3,)."""

    program: Program
    node: int
    point: Floats
    normal: Floats
    rest: Floats
    flips: bool = True
    turn: Floats | None = None
    shift: Floats | None = None

    @property
    def flip(self) -> Floats:
        """(3, 3) the reflection in the body's own plane at rest; nothing where it does not flip."""
        found: Floats = np.eye(3) - (2.0 * np.outer(self.rest, self.rest) if self.flips else 0.0)
        return found

    def at(self, times: Floats, side: Ints | int = LEAVING) -> Shown:
        """The mirror as it stands at these times."""
        pos, rot = self.program.track(times, side, [self.node])
        return Shown(self, pos[:, 0], rot[:, 0])


@dataclass(frozen=True)
class Shown:
    """A mirror at F times: place (F, 3) and rotation (F, 4) of what it is fixed in."""

    glass: Glass
    pos: Floats
    rot: Floats

    def place(self, pos: Floats) -> Floats:
        """Positions (F, 3) as they are shown."""
        local = rotate(inverse(self.rot), pos - self.pos)
        if self.glass.flips:
            off = (local - self.glass.point) @ self.glass.normal
            local = local - 2.0 * off[:, None] * self.glass.normal
        if self.glass.turn is not None and self.glass.shift is not None:
            local = rotate(np.broadcast_to(self.glass.turn, self.rot.shape), local) + self.glass.shift
        result: Floats = self.pos + rotate(self.rot, local)
        return result

    def turn(self, rot: Floats, rest: Floats, other: Floats) -> Floats:
        """World rotations (F, 4) of a joint with this rest as those of one with the other rest: plane · rotation · inverse of
        rest · plane at rest · other rest. A reflection is a half turn about its normal, up to a sign."""
        beyond = multiply(rot, inverse(rest))
        if self.glass.flips:
            a, b = (np.append(n, 0.0) for n in (self.glass.normal, self.glass.rest))
            flip = multiply(multiply(self.rot, np.broadcast_to(a, self.rot.shape)), inverse(self.rot))
            shown: Floats = multiply(multiply(flip, beyond), multiply(b, other))
        else:
            shown = multiply(beyond, other)
        if self.glass.turn is not None:
            by = multiply(multiply(self.rot, np.broadcast_to(self.glass.turn, self.rot.shape)), inverse(self.rot))
            shown = multiply(by, shown)
        return shown


def glass_of(program: Program, member: Member, frame: float, plane: str) -> Glass:
    """An upright plane through a body at a frame, fixed in what carries its root there: across the nearest axis of that
    ("stage"), across the body ("own"), or none at all ("none")."""
    root = next((b for b in program.bounds.values() if b.member.id == member.id and b.part.free), None)
    rest = across(member)
    flips = plane != "none"
    if root is None:
        return Glass(program, program.world, np.zeros(3), rest, rest, flips)
    node, joint = program.world, int(root.nodes[0])
    for control in root.controls.values():
        weights = [float(program.now(frame, one.switches).max(initial=0.0)) for one in control.anchors]
        if max(weights) > 0.5:
            node = control.anchors[int(np.argmax(weights))].node
    poses = program.evaluate([frame], only=[joint, node])
    back = inverse(poses.rot[0, node])
    index = member.skeleton.index[root.part.joints[0]]
    turned = multiply(multiply(back, poses.rot[0, joint]), inverse(member.skeleton.rest_pose[1][index]))
    normal = rotate(turned, rest) * np.array([1.0, 0.0, 1.0])
    if float(np.linalg.norm(normal)) < 1e-3:
        raise CoreError(f"{member.name} lies on its side at frame {frame:g}: its own plane is not upright there.")
    if plane == "stage":
        # The nearest axis of what the body stands on: there most keys change nothing but their sign.
        straight = np.zeros(3)
        straight[int(np.argmax(np.abs(normal)))] = 1.0
        normal = straight
    point = rotate(back, poses.pos[0, joint] - poses.pos[0, node])
    return Glass(program, node, point, normal / np.linalg.norm(normal), rest, flips)


def placed(program: Program, glass: Glass, member: Member, frame: float, to: Beginning) -> Glass:
    """A glass whose picture begins at a place: at a frame a body's root is there, over the same ground, headed as is said."""
    root = next((b for b in program.bounds.values() if b.member.id == member.id and b.part.free), None)
    if root is None:
        raise CoreError(f"{member.name} has no root to place it by.")
    joint = int(root.nodes[0])
    pos, rot = program.track(np.array([frame]), LEAVING, [joint, glass.node])
    shown = glass.at(np.array([frame]))
    rest = member.skeleton.rest_pose[1][member.skeleton.index[root.part.joints[0]]]
    back = inverse(rot[0, 1])

    def local(place: Floats) -> Floats:
        found: Floats = rotate(back, place - pos[0, 1])
        return found

    here = local(shown.place(pos[:, 0])[0])
    headed = heading(multiply(back, shown.turn(rot[:, 0], rest, rest)[0]), member, rest)
    if to.to == "start":
        there, wanted = local(pos[0, 0]), heading(multiply(back, rot[0, 0]), member, rest)
    elif to.to == "origin":
        there, wanted = np.zeros(3), to.heading
    else:
        # A heading in the world, seen from what the body stands on.
        ahead = rotate(back, np.array([np.sin(to.heading), 0.0, np.cos(to.heading)]))
        there, wanted = local(np.array(to.spot)), float(np.arctan2(ahead[0], ahead[2]))
    by = 0.5 * (wanted - headed)
    turn = np.array([0.0, np.sin(by), 0.0, np.cos(by)])
    shift = there - rotate(turn, here)
    # Over the same ground: what stands goes on standing.
    shift[1] = 0.0
    return replace(glass, turn=turn, shift=shift)


def heading(rot: Floats, member: Member, rest: Floats) -> float:
    """Radians about the vertical by which a root (4,) with a rest rotation (4,) is headed; 0 along z. CoreError where it lies."""
    skeleton = member.skeleton
    pos = skeleton.rest_pose[0]
    sides = [[pos[skeleton.index[p.joints[0]]] for p in member.parts if p.side == s] for s in ("left", "right")]
    axis = across(member)
    if all(sides) and float((np.mean(sides[0], axis=0) - np.mean(sides[1], axis=0)) @ axis) < 0.0:
        axis = -axis
    # To its left, and up: ahead.
    ahead = np.cross(rotate(multiply(rot, inverse(rest)), axis), _UP)
    if float(np.linalg.norm(ahead)) < 1e-3:
        raise CoreError(f"{member.name} lies on its side there: it is headed nowhere.")
    return float(np.arctan2(ahead[0], ahead[2]))
