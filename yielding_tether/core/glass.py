"""Where a whole take goes: reflected in a fixed mirror, put to another place and heading, or both.

    shown = place ∘ reflection,  in what the body stands on, which may move

Only level moves and turns about the vertical are made, so that what stands goes on standing.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from .cast import Member
from .contacts import anchor_node
from .curves import LEAVING
from .errors import CoreError
from .program import Program
from .rig import Bound
from .sides import across
from .transforms import Floats, Ints, inverse, multiply, rotate

#: What moves by no more than this (metres, and of a unit quaternion) in a whole take stands still.
STILL = 1e-9
_UP = np.array([0.0, 1.0, 0.0])


@dataclass(frozen=True)
class Beginning:
    """Where a take is to begin: as the original does, at the origin of what it stands on, at a `spot` of what it stands on, or with
    its root over or under a place (all in the world, metres), there headed by an angle (radians about the vertical; 0: along z)."""

    to: Literal["start", "origin", "spot", "root"]
    spot: tuple[float, float, float] = (0.0, 0.0, 0.0)
    heading: float = 0.0


@dataclass(frozen=True)
class Glass:
    """A mirror fixed in something that may move: the node it is fixed in, its point (3,) and unit normal (3,) there, the
    normal of the body's own plane at rest (3,), and whether it `flips` at all; and where all that it shows is moved to, there too:
    by a turn (4,), and then a shift (3,). `stood`: it is fixed in what the body stands on, though its root does not follow that."""

    program: Program
    node: int
    point: Floats
    normal: Floats
    rest: Floats
    flips: bool = True
    turn: Floats | None = None
    shift: Floats | None = None
    stood: bool = False

    def at(self, times: Floats, side: Ints | int = LEAVING, now: Program | None = None) -> Shown:
        """The mirror as it stands at these times; what it shows is as it stands then in `now`, where that is another take."""
        here = self.program.track(times, side, [self.node])
        there = here if now is None else now.track(times, side, [self.node])
        return Shown(self, here[0][:, 0], here[1][:, 0], there[0][:, 0], there[1][:, 0])


@dataclass(frozen=True)
class Shown:
    """A mirror at F times: place (F, 3) and rotation (F, 4) of what it is fixed in, and where that is for what it shows."""

    glass: Glass
    pos: Floats
    rot: Floats
    there: Floats
    turned: Floats

    def place(self, pos: Floats) -> Floats:
        """Positions (F, 3) as they are shown."""
        local = rotate(inverse(self.rot), pos - self.pos)
        if self.glass.flips:
            off = (local - self.glass.point) @ self.glass.normal
            local = local - 2.0 * off[:, None] * self.glass.normal
        if self.glass.turn is not None and self.glass.shift is not None:
            local = rotate(np.broadcast_to(self.glass.turn, self.rot.shape), local) + self.glass.shift
        result: Floats = self.there + rotate(self.turned, local)
        return result

    def turn(self, rot: Floats, rest: Floats, other: Floats) -> Floats:
        """World rotations (F, 4) of a joint with this rest as those of one with the other rest: plane · rotation · inverse of
        rest · plane at rest · other rest. A reflection is a half turn about its normal, up to a sign."""
        # In what the mirror is fixed in, and out of it again where that is now.
        local = multiply(inverse(self.rot), multiply(rot, inverse(rest)))
        if self.glass.flips:
            a, b = (np.append(n, 0.0) for n in (self.glass.normal, self.glass.rest))
            local = multiply(multiply(np.broadcast_to(a, self.rot.shape), local), multiply(b, other))
        else:
            local = multiply(local, other)
        if self.glass.turn is not None:
            local = multiply(np.broadcast_to(self.glass.turn, self.rot.shape), local)
        shown: Floats = multiply(self.turned, local)
        return shown


@dataclass(frozen=True)
class Plane:
    """In which plane a mirror lies: upright through the body, across the nearest axis of what carries it ("stage") or of the body
    ("own"); through the middle of something else (`node`, "fixed"); upright through a `spot` of the world (metres), running
    `along` a heading (radians about the vertical; 0: along z); through the body as it leans ("leaning"); or nowhere ("none")."""

    how: Literal["stage", "own", "fixed", "spot", "leaning", "none"] = "stage"
    node: int = -1
    spot: tuple[float, float, float] = (0.0, 0.0, 0.0)
    along: float = 0.0


#: Across what the body stands on.
STAGE = Plane()


def stood_on(program: Program, member: Member) -> int:
    """Node of the set piece on which a body stands and holds for the longest time of its take, by its contacts; the world where
    there is none, or where it never moves."""
    lasting: dict[int, float] = {}
    for c in program.take.contacts:
        if c.member == member.id:
            node = anchor_node(program, c)
            lasting[node] = lasting.get(node, 0.0) + c.last - c.first
    node = max(lasting, key=lambda n: lasting[n], default=program.world)
    pieces = {n for b in program.bounds.values() if b.member.kind == "set" for n in b.nodes.tolist()}
    if node not in pieces:
        return program.world
    pos, rot = program.track(program.take.frames, LEAVING, [node])
    moves = np.ptp(pos, axis=0).max() > STILL or np.ptp(rot, axis=0).max() > STILL
    return node if moves else program.world


def glass_of(program: Program, member: Member, frame: float, plane: Plane, stands: bool = True) -> Glass:
    """A plane through a body at a frame, or elsewhere, fixed in what carries its root there, else (`stands`) in what the body
    stands on, or in what it is said to be."""
    root = next((b for b in program.bounds.values() if b.member.id == member.id and b.part.free), None)
    rest, how = across(member), plane.how
    flips = how != "none"
    if root is None:
        return Glass(program, program.world, np.zeros(3), rest, rest, flips)
    node, joint = program.world, int(root.nodes[0])
    own = member.skeleton.rest_pose[1][member.skeleton.index[root.part.joints[0]]]
    if how == "leaning":
        return Glass(program, joint, np.zeros(3), rotate(inverse(own), rest), rest)
    for control in root.controls.values():
        weights = [float(program.now(frame, one.switches).max(initial=0.0)) for one in control.anchors]
        if max(weights) > 0.5:
            node = control.anchors[int(np.argmax(weights))].node
    stood = node == program.world and stands and how != "fixed"
    node = stood_on(program, member) if stood else node
    stood = stood and node != program.world
    node = plane.node if how == "fixed" else node
    poses = program.evaluate([frame], only=[joint, node])
    back = inverse(poses.rot[0, node])
    turned = multiply(multiply(back, poses.rot[0, joint]), inverse(own))
    normal = rotate(turned, rest)
    if how == "spot":
        normal = rotate(back, np.array([np.cos(plane.along), 0.0, -np.sin(plane.along)]))
    normal = normal * np.array([1.0, 0.0, 1.0])
    if float(np.linalg.norm(normal)) < 1e-3:
        raise CoreError(f"{member.name} lies on its side at frame {frame:g}: its own plane is not upright there.")
    if how in ("stage", "fixed"):
        # The nearest axis of what it stands on: there most keys change nothing but their sign.
        straight = np.zeros(3)
        straight[int(np.argmax(np.abs(normal)))] = 1.0
        normal = straight
    place = np.array(plane.spot) if how == "spot" else poses.pos[0, node if how == "fixed" else joint]
    point = rotate(back, place - poses.pos[0, node])
    return Glass(program, node, point, normal / np.linalg.norm(normal), rest, flips, stood=stood)


def glass_within(program: Program, bound: Bound) -> Glass:
    """The mirror in which a part sees its place on the other side of its body: in the middle of the nearest joint above that is on
    neither side, and goes with that."""
    member, skeleton = bound.member, bound.member.skeleton
    middle = {j for p in member.parts if p.side == "middle" for j in p.joints}
    up = skeleton.parents[skeleton.index[bound.part.joints[0]]]
    while up >= 0 and skeleton.joints[up].name not in middle and skeleton.parents[up] >= 0:
        up = skeleton.parents[up]
    if up < 0:
        raise CoreError(f"{bound.who} hangs from nothing in which it could change sides: mirror the whole body.")
    rest = across(member)
    normal = rotate(inverse(skeleton.rest_pose[1][up]), rest)
    return Glass(program, program.nodes[member.id, skeleton.joints[up].name], np.zeros(3), normal, rest)


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
        if to.to == "root":
            # What it stands on may lean: at the height that the root has, it is there as seen from above.
            axes = rotate(np.broadcast_to(rot[0, 1], (3, 4)), np.eye(3))
            left = np.array(to.spot) - pos[0, 1] - here[1] * axes[1]
            there[[0, 2]] = np.linalg.solve(axes[[0, 2]][:, [0, 2]].T, left[[0, 2]])
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
