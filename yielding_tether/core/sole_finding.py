"""Telling from motion how thick soles are: a bare skeleton says where its joints are, not what lies under them.

A foot that rolls turns about a point that stays: about its heel, then about its tip. From one moment to another every turn in a
plane leaves one point where it was (L. Euler, 1776; F. Reuleaux, "Theoretische Kinematik", 1875). In a swing those centres lie
anywhere; in stances they gather under heel and tip, equally far under both, in all feet that are alike.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from scipy.ndimage import gaussian_filter

from .parts import Part
from .skeleton import Skeleton
from .transforms import Floats, Ints, inverse, multiply, rotate

#: Samples over which a turn is looked at: as few of these as turn a foot by so much (radians), and not by so much more.
OVER, TURNS, WHIRLS = (1, 2, 3, 4, 6, 8, 12), 0.2, 0.6
#: Samples that are looked at, at most.
LOOKED = 20000
#: Where centres are looked for, in lengths of the sole: from so far before to so far behind where heel and tip are said to be, and
#: from so far over to so far under that; how finely, and by how much those about one point stray.
ALONG, RAISED, LOWER, FINE, STRAY = 0.3, 0.1, 0.3, 0.01, 0.03
#: How far what is at a centre moves across its plane meanwhile, at most: lengths of the sole a radian.
ACROSS = 0.25
#: Turns (radians) about a sole that is told, in all; how many times as many as there were anywhere, and as about any sole that lies
#: farther than so much (lengths) over or under it; and in how many stances, so many samples apart.
ENOUGH, GATHERED, CLEARLY, APART, STANCES, AFTER = 0.35, 6.0, 1.45, 0.09, 4, 12
#: Soles whose heels and tips are as far along and under them are alike: in shares of their length. A sole that lies within so
#: much of where it is said to be is there.
ALIKE, TELLS = 0.1, 0.02
#: Turns (radians) about a tip from which the bend of the toe is told, in all; and how much a toe may bend while it turns with its
#: foot as one, in shares of the turn.
BENDS, AS_ONE = 0.35, 0.2


class Foot(NamedTuple):
    """A part that stands on a sole: the joint that carries it, the ways (3, 3) to its left, up and forward in that, how far its
    last point is from its first along it (metres), and both: a joint and a place in that."""

    part: Part
    joint: int
    ways: Floats
    length: float
    heel: tuple[int, Floats]
    tip: tuple[int, Floats]


class Turned(NamedTuple):
    """Turns of a foot about its heel or tip: their centres (N, 2), how far before and under what is said to be there, in lengths of
    the sole; from which sample each is, and how much (radians) it counts; the bend of the toe (radians) before and after, (N, 2).
    """

    centres: Floats
    first: Ints
    counts: Floats
    bends: Floats


def with_soles(
    skeleton: Skeleton, parts: Sequence[Part], offsets: Floats, rotations: Floats
) -> tuple[list[Part], list[str]]:
    """The parts, their soles as low as a motion tells, and what there is to say of that; as they are where it tells nothing.
    offsets (S, J, 3, metres), rotations (S, J, 4): local places and turns."""
    alike: list[tuple[Floats, list[Foot]]] = []
    for foot in (f for p in parts if (f := _foot(skeleton, p))):
        form = _form(skeleton, foot)
        group = next((g for known, g in alike if np.abs(known - form).max() < ALIKE), None)
        if group is None:
            alike.append((form, [foot]))
        else:
            group.append(foot)
    found: dict[str, Part] = {}
    notes = []
    for _, group in alike:
        motion = offsets[:LOOKED], rotations[:LOOKED]
        heels = [_turned(skeleton, foot, *foot.heel, *motion) for foot in group]
        tips = [_turned(skeleton, foot, *foot.tip, *motion) for foot in group]
        lower = _lower(heels, tips)
        if lower is None:
            continue
        bend = _bend(tips, lower)
        for foot in group:
            figures = {s.id: s for s in foot.part.settings()}
            made = figures["under"].put(foot.part, figures["under"].of(foot.part) + lower * foot.length)
            if bend is not None and (rolls := figures.get("tip from")):
                made = rolls.put(made, min(max(bend, rolls.least), rolls.most))
            found[made.name] = made
        told = ", ".join(f.part.label for f in group)
        where = f"{abs(1000.0 * lower * group[0].length):.0f} mm {'under' if lower > 0.0 else 'over'} the ends of the skeleton"
        notes.append(f"Sole of {told}: {where}, where heels and tips stay as they turn in the motion.")
    return [found.get(p.name, p) for p in parts], notes


def _foot(skeleton: Skeleton, part: Part) -> Foot | None:
    """What of a part stands on a sole whose height can be set; None where nothing does."""
    stands, under = part.stands_on(skeleton), next((s for s in part.settings() if s.id == "under"), None)
    if len(stands) < 2 or under is None or under.along is None:
        return None
    places, rests = skeleton.rest_pose
    joint = skeleton.index[under.joint]
    up = -np.array(under.along) / np.linalg.norm(under.along)
    (heel, at_heel), (tip, at_tip) = ((skeleton.index[j], np.array(at)) for _, j, at in (stands[0], stands[-1]))
    along = rotate(
        inverse(rests[joint]), places[tip] + rotate(rests[tip], at_tip) - places[heel] - rotate(rests[heel], at_heel)
    )
    forward = along - (along @ up) * up
    length = float(np.linalg.norm(forward))
    if length < 1e-3:
        return None
    forward /= length
    return Foot(part, joint, np.stack([np.cross(up, forward), up, forward]), length, (heel, at_heel), (tip, at_tip))


def _form(skeleton: Skeleton, foot: Foot) -> Floats:
    """(2, 2) what soles that are alike have in common: where their ends are under and along the joint that carries them, in their
    lengths."""
    places, rests = skeleton.rest_pose
    ends = [places[j] + rotate(rests[j], at) - places[foot.joint] for j, at in (foot.heel, foot.tip)]
    seen = rotate(inverse(rests[foot.joint]), np.array(ends)) @ foot.ways[1:].T
    found: Floats = seen / foot.length
    return found


def _turned(skeleton: Skeleton, foot: Foot, joint: int, at: Floats, offsets: Floats, rotations: Floats) -> Turned:
    """The turns of a foot, or of its toe, about what may be an end of the sole, at a place in the joint that turns."""
    length, rests = foot.length, skeleton.rest_pose[1]
    # The ways of the sole, in the joint that turns.
    back = multiply(inverse(rests[joint]), rests[foot.joint])
    _, up, forward = rotate(back, foot.ways)
    pos, rot = _placed(skeleton, joint, offsets, rotations)
    point_at = pos + rotate(rot, at)
    ahead, under = (rotate(rot, length * way) for way in (forward, -up))
    bent = np.zeros(len(pos))
    if joint != foot.joint:
        by = multiply(multiply(inverse(_placed(skeleton, foot.joint, offsets, rotations)[1]), rot), back)
        bent = -2.0 * np.arctan2(by[:, :3] @ foot.ways[0], by[:, 3])
        bent = (bent + np.pi) % (2.0 * np.pi) - np.pi
    kept: list[tuple[Floats, Ints, Floats, Floats]] = []
    open_yet = np.ones(len(pos), dtype=bool)
    for over in OVER:
        first = np.flatnonzero(open_yet[: max(len(pos) - over, 0)])
        then = first + over
        # The centre c: point_at + c[0] ahead + c[1] under, at both moments in one place.
        table = np.stack([ahead[then] - ahead[first], under[then] - under[first]], axis=-1)
        moved = point_at[then] - point_at[first]
        turn = np.linalg.norm(table, axis=(1, 2)) / (np.sqrt(2.0) * length)
        open_yet[first[turn > TURNS]] = False
        turns = (turn > TURNS) & (turn < WHIRLS)
        first, table, moved, turn = first[turns], table[turns], moved[turns], turn[turns]
        normal = np.einsum("nij,nik->njk", table, table)
        fair = np.linalg.det(normal) > 1e-3 * np.trace(normal, axis1=1, axis2=2) ** 2
        first, table, moved, turn, normal = first[fair], table[fair], moved[fair], turn[fair], normal[fair]
        centre = -np.linalg.solve(normal, np.einsum("nij,ni->nj", table, moved)[..., None])[..., 0]
        left_over = np.linalg.norm(moved + np.einsum("nij,nj->ni", table, centre), axis=1)
        plane = left_over < ACROSS * turn * length
        kept.append(
            (
                centre[plane],
                first[plane],
                turn[plane] / over,
                np.stack([bent[first], bent[first + over]], axis=1)[plane],
            )
        )
    return Turned(*(np.concatenate(x) for x in zip(*kept, strict=True)))


def _placed(skeleton: Skeleton, joint: int, offsets: Floats, rotations: Floats) -> tuple[Floats, Floats]:
    """Places (S, 3) and turns (S, 4) of a joint in the world."""
    above = skeleton.parents[joint]
    if above < 0:
        return offsets[:, joint], rotations[:, joint]
    pos, rot = _placed(skeleton, above, offsets, rotations)
    return pos + rotate(rot, offsets[:, joint]), multiply(rot, rotations[:, joint])


def _lower(heels: Sequence[Turned], tips: Sequence[Turned]) -> float | None:
    """How much lower than they are said to be soles lie, in their lengths; None where the turns do not tell."""
    size = (round(2.0 * ALONG / FINE), round((RAISED + LOWER) / FINE))
    spread = STRAY / FINE
    room = 2.0 * np.pi * spread**2
    told = np.zeros(size[1])
    tops = []
    for turned in (heels, tips):
        counted = np.zeros(size)
        for one in turned:
            cell = np.floor((one.centres + [ALONG, RAISED]) / FINE).astype(int)
            inside = ((cell >= 0) & (cell < size)).all(axis=1)
            np.add.at(counted, tuple(cell[inside].T), one.counts[inside])
        # By height, what turns about the best of all places along it, if that is far more than about any.
        about = room * gaussian_filter(counted, spread, mode="constant")
        best = about.max(axis=0)
        told += best * (best > GATHERED * counted.mean() * room)
        tops.append((about.argmax(axis=0) + 0.5) * FINE - ALONG)
    peak = int(told.argmax())
    apart = np.abs(np.arange(len(told)) - peak) > APART / FINE
    near = np.arange(peak - 3, peak + 4)
    # What gathers at the edge of where is looked gathers elsewhere.
    if told[peak] < max(ENOUGH, CLEARLY * float(told[apart].max())) or near[0] < 0 or near[-1] >= len(told):
        return None
    lower = float(told[near] @ (near + 0.5) / told[near].sum()) * FINE - RAISED
    stances = 0
    for turned, top in zip((heels, tips), tops, strict=True):
        for one in turned:
            there = np.sort(one.first[np.linalg.norm(one.centres - [top[peak], lower], axis=1) < 2.0 * STRAY])
            stances += len(there[:1]) + int((np.diff(there) > AFTER).sum())
    return lower if stances >= STANCES and abs(lower) > TELLS else None


def _bend(tips: Sequence[Turned], lower: float) -> float | None:
    """The bend (radians) of toes while foot and toe turn as one about a tip so much lower than it is said to be; None where that is
    not seen."""
    centres, _, counts, bends = (np.concatenate(x) for x in zip(*tips, strict=True))
    seen = (np.abs(centres - [0.0, lower]).max(axis=1) < 2.0 * STRAY) & (np.abs(np.diff(bends)[:, 0]) < AS_ONE * TURNS)
    counts, bends = counts[seen], bends[seen].mean(axis=1)
    if counts.sum() < BENDS:
        return None
    order = np.argsort(bends)
    return float(bends[order][np.searchsorted(np.cumsum(counts[order]), 0.5 * counts.sum())])
