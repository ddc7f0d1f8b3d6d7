"""Contacts: where hands and feet stand or hold, found in a take, and how far they slip and turn in what they stand on.

Finding works as 3-motion describes it: speed relative to each set piece and to the ground, with hysteresis, and the gap
between the end's surface and the other's. The speed is that of the end's own extent, so that a heel that lifts counts
while its toe still stands. Slip is the distance of the joint from its place in the anchor at the contact's first frame.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from .cast import Member, Shape
from .curves import ARRIVING, LEAVING
from .errors import CoreError
from .followers import BoundControl
from .program import Poses, Program
from .progress import advance
from .rig import Bound
from .shapes import signed_distance
from .takes import WORLD, Contact, Take
from .transforms import Floats, inverse, multiply, rotate, rotation_distance

#: An end comes to rest below the first of these speeds and leaves above the second, body heights a second: a body 1.7 m
#: tall rests below 48 mm a second.
REST, LEAVE = 0.028, 0.07
#: Rests shorter than this are passings-by, seconds.
LEAST = 0.17
#: How far the surface of an end may be from what it stands on, body heights.
GAP = 0.018
#: The share of frames on which a world without set pieces is reached by its lowest end: that height is the ground.
GROUND = 0.02
#: A contact that slips (metres) and turns (radians) by no more than this is planted.
STILL = (2e-4, 3.5e-4)


class End(NamedTuple):
    """A hand or foot: its part, its joint, and points on its surface, (P, 3) in joints (P,): their nodes and names."""

    bound: Bound
    joint: str
    points: Floats
    of: list[int]
    names: list[str]


class Slip(NamedTuple):
    """A contact at F times: where its joint should be (F, 3) in the world, and how far it is from there, metres (F,) and
    radians (F,)."""

    times: Floats
    should: Floats
    place: Floats
    turn: Floats


def end_of(bound: Bound) -> BoundControl | None:
    """The control that rests on a part's end, if it has an end to stand on or hold with."""
    able = [c for c in bound.controls.values() if c.control.touches and c.control.rests_on in bound.part.joints]
    able = [] if bound.part.free else able
    return able[-1] if able else None


def kept_end(bound: Bound) -> BoundControl | None:
    """The control at a part's end that can be kept where it is while others are moved: a hand, a foot, the chest."""
    able = [c for c in bound.controls.values() if c.place >= 0 and c.control.rests_on in bound.part.joints]
    return able[-1] if able and not bound.part.free else None


def part_of(program: Program, contact: Contact) -> Bound:
    """The part whose joint a contact is about; CoreError where there is none."""
    for bound in program.bounds.values():
        if bound.member.id == contact.member and contact.joint in bound.part.joints:
            return bound
    raise CoreError(f"The cast has no joint {contact.member}/{contact.joint}, which a contact of the take is about.")


def anchor_node(program: Program, contact: Contact) -> int:
    """Node of what a contact stands on; CoreError where there is none."""
    if contact.anchor_member == WORLD:
        return program.world
    node = program.nodes.get((contact.anchor_member, contact.anchor))
    if node is None:
        raise CoreError(f"The cast has no {contact.anchor_member}/{contact.anchor} to stand on.")
    return node


def reads(program: Program, contact: Contact) -> str:
    """A contact as the animator reads it."""
    return f"{part_of(program, contact).who} on {anchor_reads(program, contact)}"


def anchor_reads(program: Program, contact: Contact) -> str:
    """What a contact stands on, as the animator reads it."""
    if contact.anchor_member == WORLD:
        return "the ground"
    member = program.scene.member(contact.anchor_member)
    name = f"the {member.name.lower()}" if member.kind != "character" else f"{member.name}'s {contact.anchor}"
    return name


# --- measuring ------------------------------------------------------------------------------------------


def times_of(contact: Contact) -> tuple[Floats, np.ndarray]:
    """Quarter-frames of a contact, with its last frame as it arrives, and their sides."""
    times = np.append(np.arange(contact.first, contact.last, 0.25), contact.last)
    side = np.zeros(len(times), dtype=np.int64)
    side[-1] = ARRIVING
    return times, side


def measure(program: Program, contact: Contact) -> Slip:
    """Slip and turn of a contact against its first frame, at quarter-frames."""
    return measure_all(program, [contact])[0]


def measure_all(program: Program, contacts: Sequence[Contact]) -> list[Slip]:
    """Slips of contacts, in their order; those of one joint on one thing are posed together, and none is measured twice."""
    groups: dict[tuple[int, int], list[int]] = {}
    for k, contact in enumerate(contacts):
        if contact in program.measured:
            continue
        pair = (program.nodes[part_of(program, contact).member.id, contact.joint], anchor_node(program, contact))
        known = program.recalled(contact, pair)
        if known is None:
            groups.setdefault(pair, []).append(k)
        else:
            program.measured[contact] = known
    for (joint, node), mine in groups.items():
        spans = [times_of(contacts[k]) for k in mine]
        pos, rot = program.track(
            np.concatenate([t for t, _ in spans]), np.concatenate([s for _, s in spans]), [joint, node]
        )
        back = inverse(rot[:, 1])
        grown = program.sizes(np.concatenate([t for t, _ in spans]), np.concatenate([s for _, s in spans]), node)
        # What is held on to may grow, and its holder's place in it with it.
        local = rotate(back, pos[:, 0] - pos[:, 1]) / grown[:, None]
        turned = multiply(back, rot[:, 0])
        at = 0
        for k, (times, _) in zip(mine, spans, strict=True):
            own = slice(at, at + len(times))
            at = own.stop
            still = np.broadcast_to(local[own][0], (len(times), 3))
            program.measured[contacts[k]] = Slip(
                times, pos[own, 1] + grown[own, None] * rotate(rot[own, 1], still),
                grown[own] * np.linalg.norm(local[own] - still, axis=1), rotation_distance(turned[own], turned[own][:1]),
            )  # fmt: skip
    return [program.measured[contact] for contact in contacts]


def planted(program: Program, first: float, last: float) -> list[Contact]:
    """Contacts of the take within a stretch that hold: those that slip and turn by no more than what counts as still."""
    there = [c for c in program.take.contacts if c.first < last and c.last > first]
    slips = measure_all(program, there)
    return [c for c, s in zip(there, slips, strict=True) if s.place.max() <= STILL[0] and s.turn.max() <= STILL[1]]


# --- keeping --------------------------------------------------------------------------------------------


def with_contact(take: Take, contact: Contact) -> Take:
    """The take with this contact; those of the same joint that it overlaps are cut back to what it leaves of them."""
    rest = cleared(take, contact.member, contact.joint, contact.first, contact.last)
    return replace(take, contacts=tuple(sorted((*rest, contact), key=_order)))


def cleared(take: Take, member: str, joint: str, first: float, last: float) -> list[Contact]:
    """The take's contacts with the frames from first to last taken away from those of a joint."""
    found = []
    for old in take.contacts:
        if (old.member, old.joint) != (member, joint):
            found.append(old)
            continue
        before, after = min(old.last, first - 1.0), max(old.first, last + 1.0)
        if before > old.first:
            found.append(replace(old, last=before))
        if after < old.last:
            found.append(replace(old, first=after))
    return found


def _order(contact: Contact) -> tuple[str, str, float]:
    return contact.member, contact.joint, contact.first


# --- finding --------------------------------------------------------------------------------------------


def find(program: Program, parts: Sequence[tuple[str, str]] | None = None) -> list[Contact]:
    """Contacts of the ends of these parts, or of all, with set pieces and the ground; joint by joint in order of time."""
    frames = program.take.frames
    ends = [e for b in program.bounds.values() if (parts is None or b.id in parts) and (e := _end(program, b))]
    least = max(2, round(LEAST * float(program.take.rate)))
    if len(frames) <= least or not ends:
        return []
    surfaces = [(m, s) for m in program.scene.members if m.kind == "set" for s in m.shapes]
    ground = 0.0 if surfaces else _ground(program, ends)
    anchors: list[tuple[str, str]] = [(WORLD, WORLD), *dict.fromkeys((m.id, s.joint) for m, s in surfaces)]
    found: list[Contact] = []
    for k, end in enumerate(ends):
        advance(k / len(ends))
        own = program.nodes[end.bound.member.id, end.joint]
        # A body that grows is as large as it mostly is.
        grown = float(np.median(program.sizes(frames, LEAVING, own)))
        tall = grown * _height(end.bound.member)
        size = grown * _extent(end) or 0.05 * tall
        nodes = [_node(program, a) for a in anchors]
        pos, rot = program.track(frames, LEAVING, [own, *nodes])
        tried: list[tuple[float, Contact]] = []
        for n, (anchor, node) in enumerate(zip(anchors, nodes, strict=True), 1):
            back = inverse(rot[:, n])
            place = rotate(back, pos[:, 0] - pos[:, n])
            grows = program.sizes(frames, LEAVING, node)
            place *= (float(np.median(grows)) / grows)[:, None]
            turn = multiply(back, rot[:, 0])
            moved = np.linalg.norm(np.diff(place, axis=0), axis=1) + size * rotation_distance(turn[1:], turn[:-1])
            speed = moved * float(program.take.rate) / tall
            mine = [s for m, s in surfaces if (m.id, s.joint) == anchor]
            for a, b in _rests(speed, least):
                if _gap(program, end, node, mine, ground, frames[a : b + 1]) > GAP * tall:
                    continue
                contact = Contact(end.bound.member.id, end.joint, *anchor, float(frames[a]), float(frames[b]))
                tried.append((float(speed[a:b].mean()), contact))
        # An end stands on one thing at a time: on that in which it moves least.
        taken: list[Contact] = []
        for _, contact in sorted(tried, key=lambda t: t[0]):
            if all(contact.last < c.first or contact.first > c.last for c in taken):
                taken.append(contact)
        found += sorted(taken, key=lambda c: c.first)
    return found


def _node(program: Program, anchor: tuple[str, str]) -> int:
    return program.world if anchor[0] == WORLD else program.nodes[anchor]


def _end(program: Program, bound: Bound) -> End | None:
    """The end of a part with the points of its surface: those of the body's shapes, or its joints and tips."""
    control = end_of(bound)
    if control is None:
        return None
    member, joint = bound.member, control.control.rests_on
    bones = member.skeleton
    below = {bones.index[joint]}
    for k, parent in enumerate(bones.parents):
        if parent in below:
            below.add(k)
    names = [bones.joints[k].name for k in sorted(below)]
    spots: list[tuple[str, Floats]] = []
    for shape in member.shapes:
        if shape.joint in names:
            spots += [(shape.joint, p) for p in _support(shape)]
    if not spots:
        for k in sorted(below):
            spots.append((bones.joints[k].name, np.zeros(3)))
            tip = bones.joints[k].tip
            if tip is not None:
                spots.append((bones.joints[k].name, np.asarray(tip, dtype=np.float64)))
    whose = [n for n, _ in spots]
    return End(bound, joint, np.array([p for _, p in spots]), [program.nodes[member.id, n] for n in whose], whose)


def _support(shape: Shape) -> list[Floats]:
    """Points on a shape's surface along its own axes."""
    a, b = np.asarray(shape.a), np.asarray(shape.b)
    if shape.form in ("ball", "block"):
        half = np.asarray(shape.size) * (1.0 if shape.form == "ball" else 0.5)
        if len(half) == 1:
            half = np.repeat(half, 3)
        turn = np.asarray(shape.turn)
        return [a + rotate(turn, s * half * axis) for axis in np.eye(3) for s in (-1.0, 1.0)]
    if shape.form == "ring":
        return [a]
    return [end + r * s * axis for end, r in ((a, shape.size[0]), (b, shape.size[-1]))
            for axis in np.eye(3) for s in (-1.0, 1.0)]  # fmt: skip


def _spots(program: Program, end: End, poses: Poses) -> Floats:
    """(F, P, 3) the points of an end's surface in the world."""
    points = np.broadcast_to(end.points, (len(poses.times), *end.points.shape))
    size = poses.size(program.rig.slot_of(end.of[0]))
    if size is not None:
        points = points * size[:, None, None]
    found: Floats = poses.pos[:, end.of] + rotate(poses.rot[:, end.of], points)
    return found


def _gap(program: Program, end: End, node: int, shapes: Sequence[Shape], ground: float, frames: Floats) -> float:
    """Distance (metres) between an end and the nearest of some shapes in a node, or the ground where there are none: over
    these frames the median."""
    if len(frames) > 9:
        frames = frames[np.linspace(0, len(frames) - 1, 9).astype(int)]
    poses = program.evaluate(frames, only=[node, *set(end.of)])
    spots = _spots(program, end, poses)
    if not shapes:
        return float(np.median(np.abs(np.min(spots[..., 1], axis=1) - ground)))
    grown = program.sizes(frames, LEAVING, node)
    local = rotate(inverse(poses.rot[:, node])[:, None], spots - poses.pos[:, node][:, None]) / grown[:, None, None]
    gaps = [grown * np.maximum(signed_distance(shape, local), 0.0).min(axis=1) for shape in shapes]
    return float(np.median(np.min(gaps, axis=0)))


def _ground(program: Program, ends: Sequence[End]) -> float:
    """Height of the ground where no set piece tells it: that which the lowest end reaches again and again."""
    frames = program.take.frames[:: max(1, len(program.take.frames) // 2000)]
    lowest = np.full(len(frames), np.inf)
    for end in ends:
        poses = program.evaluate(frames, only=list(set(end.of)))
        lowest = np.minimum(lowest, _spots(program, end, poses)[..., 1].min(axis=1))
    return float(np.quantile(lowest, GROUND))


def _extent(end: End) -> float:
    """How far an end reaches from its joint at rest, metres: a turn moves its surface by that times the angle."""
    bones = end.bound.member.skeleton
    places, turns = bones.rest_pose
    at = [bones.index[n] for n in end.names]
    spots = places[at] + rotate(turns[at], end.points) - places[bones.index[end.joint]]
    return float(np.linalg.norm(spots, axis=1).max(initial=0.0))


def _height(member: Member) -> float:
    """How large a body is at rest: the greatest extent of its joints along an axis, metres."""
    places = member.skeleton.rest_pose[0]
    return max(float(np.ptp(places, axis=0).max()), 1e-6)


def _rests(speed: Floats, least: int) -> list[tuple[int, int]]:
    """Runs (first, last) of frames over which the speed (F - 1,) stays low; a single fast frame does not end one."""
    calm = speed.copy()
    if len(speed) > 2:
        calm[1:-1] = np.sort([speed[:-2], speed[1:-1], speed[2:]], axis=0)[1]
    found = []
    start: int | None = None
    for k, v in enumerate(calm.tolist()):
        if start is None and v < REST:
            start = k
        elif start is not None and v > LEAVE:
            # It left where it was last at rest, not where it is fast enough to be sure.
            end = k
            while end > start and calm[end - 1] > REST:
                end -= 1
            if end - start >= least:
                found.append((start, end))
            start = None
    if start is not None and len(calm) - start >= least:
        found.append((start, len(calm)))
    return found
