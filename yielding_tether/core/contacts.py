"""Contacts: where hands and feet stand or hold, found in a take, and how far they slip and turn in what they stand on.

They are found as `contact_finding` describes it. Slip is the distance of the joint from its place in the anchor at the contact's
first frame; before the sole is on and after it, that of the heel or ball that stands from its place under the sole. How deep the
points of a sole or the bones of a hand and its fingers sink into the surface of a set piece or prop, and how high what stands or
holds hovers over it, is measured against its shapes.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from .cast import Shape
from .curves import ARRIVING
from .errors import CoreError
from .followers import BoundControl
from .program import Program
from .rig import Bound
from .shapes import Balls, balls_of, exact, solid_distance
from .takes import WORLD, Contact, Take
from .transforms import Floats, inverse, multiply, rotate, rotation_distance

#: A contact that slips (metres) and turns (radians) by no more than this is planted.
STILL = (2e-4, 3.5e-4)
#: Times at which all of a hand is looked at together.
AT_ONCE = 2000


class Slip(NamedTuple):
    """A contact at F times: where its joint should be (F, 3) in the world, and how far it is from there, metres (F,) and
    radians (F,); how deep the deepest point of its sole or hand is in what it stands on, and how high the lowest that stands is
    over it, metres (F,), both zero where no surface is known."""

    times: Floats
    should: Floats
    place: Floats
    turn: Floats
    depth: Floats
    hover: Floats


def ends_of(bound: Bound) -> list[BoundControl]:
    """The controls that rest on a part's ends with which it stands or holds: one of an arm or a leg, of hands one a finger."""
    able = [c for c in bound.controls.values() if c.control.is_end and c.control.rests_on in bound.part.joints]
    return [] if bound.part.free else list({c.control.rests_on: c for c in able}.values())


def end_of(bound: Bound) -> BoundControl | None:
    """The control that rests on a limb's end, if it has one to stand on or hold with."""
    able = [c for c in ends_of(bound) if c.control.touches]
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
    """A contact as the animator reads it: of a limb its name, of a hand's fingertip that of its joint."""
    bound, end = part_of(program, contact), end_words(program, contact)
    who = f"{bound.member.name}'s {end}" if end else bound.who
    return f"{who} on {anchor_reads(program, contact)}"


def end_words(program: Program, contact: Contact) -> str:
    """Which of several ends of a part a contact is about, as the animator reads it; nothing where there is one."""
    alone = part_of(program, contact).part.touches
    return "" if alone else program.rig.words(contact.member, contact.joint)


def anchor_reads(program: Program, contact: Contact) -> str:
    """What a contact stands on, as the animator reads it."""
    if contact.anchor_member == WORLD:
        return "the ground"
    member = program.scene.member(contact.anchor_member)
    if member.kind != "character":
        return f"the {member.name.lower()}"
    return f"{member.name}'s {program.rig.words(contact.anchor_member, contact.anchor)}"


# --- measuring ------------------------------------------------------------------------------------------


class Spot(NamedTuple):
    """What of an end comes to rest by itself: its name ("" the whole end), and points (P, 3) in joints (P,)."""

    name: str
    joints: tuple[str, ...]
    points: Floats


def spots_of(bound: Bound) -> tuple[Spot, ...]:
    """The points of a part's end that come to rest each by itself: heel, ball and tip of a foot; nothing of ends that have none."""
    found = bound.part.stands_on(bound.member.skeleton)
    return tuple(Spot(name, (joint,), np.array([point])) for name, joint, point in found)


def bones_of(bound: Bound, joint: str) -> tuple[tuple[str, ...], Balls]:
    """An end that comes to rest as a whole: its joints that have bones, of a hand those of its fingers, and balls in these."""
    bones = bound.member.skeleton
    below = [bones.joints[k].name for k in sorted(bones.descendants(bones.index[joint]))]
    drawn = {s.joint for s in bound.member.shapes if s.form == "capsule"}
    joints = tuple(j for j in below if j in drawn)
    return joints, balls_of(bound.member.shapes, joints)


def times_of(contact: Contact) -> tuple[Floats, np.ndarray]:
    """Quarter-frames of a contact, with its last frame as it arrives, and their sides."""
    times = np.append(np.arange(contact.begin, contact.end, 0.25), contact.end)
    if contact.points:
        times = np.union1d(times, [contact.first, contact.last])
    side = np.zeros(len(times), dtype=np.int64)
    side[-1] = ARRIVING
    return times, side


def measure(program: Program, contact: Contact) -> Slip:
    """Slip and turn of a contact against its first frame, at quarter-frames."""
    return measure_all(program, [contact])[0]


def measure_all(program: Program, contacts: Sequence[Contact]) -> list[Slip]:
    """Slips of contacts, in their order; those of one joint on one thing are posed together, and none is measured twice."""
    groups: dict[tuple[int, ...], list[int]] = {}
    for k, contact in enumerate(contacts):
        if contact in program.measured:
            continue
        bound = part_of(program, contact)
        spots = spots_of(bound)
        joints = [j for s in spots for j in s.joints] if spots else bones_of(bound, contact.joint)[0]
        own = {j: program.nodes[contact.member, j] for j in joints}
        joint = program.nodes[contact.member, contact.joint]
        among = (anchor_node(program, contact), joint, *(n for n in own.values() if n != joint))
        known = program.recalled(contact, among)
        if known is None:
            groups.setdefault(among, []).append(k)
        else:
            program.measured[contact] = known
    for among, mine in groups.items():
        spans = [times_of(contacts[k]) for k in mine]
        every, sides_ = np.concatenate([t for t, _ in spans]), np.concatenate([s for _, s in spans])
        pos, rot = program.track(every, sides_, list(among))
        back = inverse(rot[:, 0])
        # What is held on to may grow, and its holder's place in it with it.
        grown = program.sizes(every, sides_, among[0])
        size = program.sizes(every, sides_, among[1])
        local = rotate(back[:, None], pos[:, 1:] - pos[:, :1]) / grown[:, None, None]
        turned = multiply(back[:, None], rot[:, 1:])
        at = 0
        for k, (times, _) in zip(mine, spans, strict=True):
            own_ = slice(at, at + len(times))
            at = own_.stop
            contact = contacts[k]
            given = program, contact, among, times, local[own_], turned[own_], size[own_] / grown[own_]
            off, turn = _off(*given)
            depth, hover = _heights(*given)
            program.measured[contact] = Slip(
                times,
                pos[own_, 1] - grown[own_, None] * rotate(rot[own_, 0], off),
                grown[own_] * np.linalg.norm(off, axis=1),
                turn,
                grown[own_] * depth,
                grown[own_] * hover,
            )
    return [program.measured[contact] for contact in contacts]


def _off(
    program: Program, contact: Contact, among: tuple[int, ...], times: Floats, local: Floats, turned: Floats, size: Floats
) -> tuple[Floats, Floats]:  # fmt: skip
    """(F, 3) how far what stands is from its place, in the anchor, and (F,) radians it has turned: all of the end while the sole is
    on, each of its points before that and after it. local (F, N, 3), turned (F, N, 4): its joints in the anchor."""
    on = (times >= contact.first) & (times <= contact.last) & contact.whole
    first = int(np.argmax(on))
    off = np.where(on[:, None], local[:, 0] - local[first, 0], 0.0)
    turn = np.where(on, rotation_distance(turned[:, 0], turned[first, 0][None]), 0.0)
    spots = {s.name: s for s in spots_of(part_of(program, contact))} if contact.points else {}
    for point in contact.points:
        spot = spots.get(point.name)
        if spot is None:
            # The body was fitted anew since, and has no such foot there now.
            continue
        k = among[1:].index(program.nodes[contact.member, spot.joints[0]])
        places = local[:, k] + size[:, None] * rotate(turned[:, k], spot.points[0])
        stands = (times >= point.first) & (times <= point.last)
        # Where it is while the sole is on, else where it begins to stand.
        there = stands & on
        reference = places[int(np.argmax(there if there.any() else stands))]
        away = places - reference
        worse = stands & ~on & (np.linalg.norm(away, axis=1) > np.linalg.norm(off, axis=1))
        off = np.where(worse[:, None], away, off)
    return off, turn


def surface_of(program: Program, contact: Contact) -> tuple[Shape, ...]:
    """The shapes of what a contact stands on, in the joint that it stands on; none of the world."""
    if contact.anchor_member == WORLD:
        return ()
    shapes = program.scene.member(contact.anchor_member).shapes
    return tuple(s for s in shapes if s.joint == contact.anchor)


def over(shapes: Sequence[Shape], points: Floats) -> Floats:
    """(...,) how far points (..., 3) are from the nearest of some shapes, metres, below zero within."""
    every = points.reshape(-1, 3)
    low, high = every.min(axis=0), every.max(axis=0)
    middle, around = 0.5 * (low + high), 0.5 * float(np.linalg.norm(high - low))
    off = np.array([float(solid_distance(s, middle)) for s in shapes])
    # What is farther from all of them than another is at most needs no look at each.
    near = [s for s, d in zip(shapes, off, strict=True) if d <= off.min() + 2.0 * around or not exact(s)]
    found: Floats = np.min([solid_distance(s, points) for s in near], axis=0)
    return found


def _heights(
    program: Program, contact: Contact, among: tuple[int, ...], times: Floats, local: Floats, turned: Floats, size: Floats
) -> tuple[Floats, Floats]:  # fmt: skip
    """(F,) how deep the deepest of a sole's points, or of a hand's bones, is in what it stands on, and how high the lowest of those
    that stand is over it, at size one; given what `_off` is."""
    shapes, spots = surface_of(program, contact), spots_of(part_of(program, contact))
    depth, hover = np.zeros(len(times)), np.zeros(len(times))
    if not shapes:
        return depth, hover
    if not spots:
        high = _bones_over(program, contact, among, local, turned, size)
        return np.maximum(-high, 0.0), np.maximum(high, 0.0)
    stand = {p.name: (times >= p.first) & (times <= p.last) for p in contact.points}
    on = (times >= contact.first) & (times <= contact.last) & contact.whole
    lowest = np.full(len(times), np.inf)
    row = [among[1:].index(program.nodes[contact.member, s.joints[0]]) for s in spots]
    at = np.array([s.points[0] for s in spots])
    high = over(shapes, local[:, row] + size[:, None, None] * rotate(turned[:, row], at))
    depth = np.maximum(depth, -high.min(axis=1))
    for k, spot in enumerate(spots):
        stands = on | stand.get(spot.name, np.zeros(len(times), dtype=bool))
        lowest = np.where(stands, np.minimum(lowest, high[:, k]), lowest)
    return depth, np.where(np.isfinite(lowest), np.maximum(lowest, 0.0), 0.0)


def _bones_over(
    program: Program, contact: Contact, among: tuple[int, ...], local: Floats, turned: Floats, size: Floats
) -> Floats:  # fmt: skip
    """(F,) how far the bones of an end are from what it stands on or holds, below zero within; zero where it has none."""
    joints, balls = bones_of(part_of(program, contact), contact.joint)
    if not joints:
        return np.zeros(len(local))
    rows = np.array([among[1:].index(program.nodes[contact.member, j]) for j in joints])
    row = rows[balls.joint]
    shapes = surface_of(program, contact)
    found = np.empty(len(local))
    for k in range(0, len(local), AT_ONCE):
        some = slice(k, k + AT_ONCE)
        grown = size[some, None]
        places = local[some][:, row] + grown[..., None] * rotate(turned[some][:, row], balls.at)
        found[some] = (over(shapes, places) - grown * balls.radius).min(axis=1)
    return found


def stays(slip: Slip) -> bool:
    """Whether a contact holds: it slips and turns by no more than what counts as still."""
    return bool(slip.place.max() <= STILL[0] and slip.turn.max() <= STILL[1])


def planted(program: Program, first: float, last: float) -> list[Contact]:
    """Contacts of the take within a stretch that hold."""
    there = [c for c in program.take.contacts if c.first < last and c.last > first]
    return [c for c, s in zip(there, measure_all(program, there), strict=True) if stays(s)]


def along(program: Program, parts: Collection[tuple[str, str]], frames: Floats) -> Floats:
    """(3, F) metres: how far the ends of parts slip, sink and hover at each of some frames that follow one another, the worst of
    the quarter-frames around it; zero where nothing stands."""
    found = np.zeros((3, len(frames)))
    mine = [
        c
        for c in program.take.contacts
        if part_of(program, c).id in parts and c.begin <= frames[-1] and c.end >= frames[0]
    ]
    for slip in measure_all(program, mine):
        k = np.rint(slip.times - frames[0]).astype(int)
        there = (k >= 0) & (k < len(frames))
        for row, values in zip(found, (slip.place, slip.depth, slip.hover), strict=True):
            np.maximum.at(row, k[there], values[there])
    return found


# --- keeping --------------------------------------------------------------------------------------------


def with_contact(take: Take, contact: Contact) -> Take:
    """The take with this contact; those of the same joint that it overlaps are cut back to what it leaves of them."""
    rest = cleared(take, contact.member, contact.joint, contact.begin, contact.end)
    return replace(take, contacts=tuple(sorted((*rest, contact), key=_order)))


def cleared(take: Take, member: str, joint: str, first: float, last: float) -> list[Contact]:
    """The take's contacts with the frames from first to last taken away from those of a joint."""
    found = []
    for old in take.contacts:
        if (old.member, old.joint) != (member, joint):
            found.append(old)
            continue
        found += [c for c in (old.cut(-np.inf, first - 1.0), old.cut(last + 1.0, np.inf)) if c]
    return found


def _order(contact: Contact) -> tuple[str, str, float]:
    return contact.member, contact.joint, contact.first
