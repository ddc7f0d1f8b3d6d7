"""How far a foot turns about what of it stands: in a planted stance its control stays as it is, and its heading is that turn.

    within a stance   turn about the point = heading of the sole - heading where the sole is on (or where the stance begins)
    outside           it goes over some frames, as a cubic with the value and the speed that it has at the edge; where the next
                      stance leaves no room for that, at once

What it is at a time depends on the take alone and not on which times are asked for together. A fit makes the same pose with any
turn: what is chosen here is how much of it the control carries.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from .contacts import STILL, spots_of
from .curves import ARRIVING, LEAVING
from .program import Program
from .rig import Bound, BoundSystem
from .systems.system import Turning
from .takes import Contact, Standing
from .transforms import Floats, Ints, inverse, multiply, rotate, whole_turns_near

#: Radians up to which a turn is the stance's: one that is greater would go back too fast after it, and is the control's.
MOST = 0.5 * np.pi
#: Frames over which a turn goes after its stance, where there is so much room before the next.
GOES = 6.0
#: Frames that it needs for that at least: in fewer the control would turn too far between two keys.
ROOM = 2.0
#: Step of the difference that gives the speed at the edge of a stance, frames.
_STEP = 1.0 / 32.0


class _Stances(NamedTuple):
    """`held` (S, 7) stances in which a foot turns: place of the channel among those of its system, first and last frame, until
    when the turn stays as it is then, heading that counts as none (radians), whether it begins and whether it ends at once;
    `goes` (E, 5) how a turn goes outside them: channel, the edge, frames from there (below zero before it), value and speed at the
    edge."""

    held: Floats
    goes: Floats


def stance_turns(program: Program, bound: Bound, mine: BoundSystem, times: Floats, side: Ints) -> dict[int, Floats]:
    """(F,) radians that a foot turns about each point by which it stands, by the channel's place among those of its system; those
    of which there are none are left out."""
    turning = mine.system.turning(bound)
    if turning is None:
        return {}
    control = bound.controls[turning.control]
    contacts = tuple(
        c for c in program.take.contacts if (c.member, c.joint) == (bound.member.id, control.control.rests_on)
    )
    key = ("turns in stances", bound.id, mine.system.name, contacts)
    stances = program.measured.get(key)
    if stances is None:
        stances = program.recalled(key, [control.space, *bound.nodes.tolist()])
        program.measured[key] = stances = stances or _stances(program, bound, mine, turning, contacts)
    found: dict[int, Floats] = {}
    for place, first, last, until, none, begins, ends in stances.held.tolist():
        turn = found.setdefault(int(place), np.zeros(len(times)))
        out = ((times == first) & (side == ARRIVING) & (begins > 0.0)) | (
            (times == until) & (side == LEAVING) & (ends > 0.0)
        )
        inside = np.flatnonzero((times >= first) & (times <= until) & ~out)
        if len(inside):
            at, on = np.minimum(times[inside], last), np.where(times[inside] > last, ARRIVING, side[inside])
            turn[inside] += whole_turns_near(_headings(program, bound, turning, at, on) - none, 0.0)
    for place, edge, length, value, speed in stances.goes.tolist():
        u = (times - edge) / length
        after = (u > 0.0) & (u < 1.0)
        u = u[after]
        found[int(place)][after] += value * (1.0 - 3.0 * u**2 + 2.0 * u**3) + speed * length * (u - 2.0 * u**2 + u**3)
    return found


def _stances(
    program: Program, bound: Bound, mine: BoundSystem, turning: Turning, contacts: Sequence[Contact]
) -> _Stances:
    """Those in which a point keeps its place in what the control follows while the sole turns about it."""
    control = bound.controls[turning.control]
    contacts = sorted(contacts, key=lambda c: c.begin)
    spots = {s.name: s for s in spots_of(bound)}

    def headings(at: Floats, side: Ints) -> Floats:
        return _headings(program, bound, turning, at, side)

    held: list[tuple[float, ...]] = []
    goes: list[tuple[float, ...]] = []
    for n, contact in enumerate(contacts):
        room = {
            -1.0: min(
                0.5 * min((contact.begin - c.end for c in contacts[:n]), default=np.inf),
                contact.begin - program.take.first,
            ),
            1.0: min(
                0.5 * min((c.begin - contact.end for c in contacts[n + 1 :]), default=np.inf),
                program.take.last - contact.end,
            ),
        }
        for point in contact.points:
            place, spot = turning.channels.get(point.name), spots.get(point.name)
            if place is None or spot is None or mine.held[place]:
                continue
            for first, last, until, none, outer in _alone(contact, point):
                at = np.unique(np.append(np.arange(np.ceil(first), last), [first, last]))
                if not _keeps(program, bound, control.space, spot.joints[0], spot.points[0], at):
                    continue
                ways = np.unwrap(headings(at, np.where(at == last, ARRIVING, LEAVING)))
                level = float(ways[0 if none == first else -1])
                if not STILL[1] < np.abs(ways - level).max() <= MOST:
                    continue
                at_once = {-1.0: 0.0, 1.0: 0.0}
                for out in outer:
                    length, edge = min(GOES, room[out]), until if out > 0.0 else first
                    if length < ROOM:
                        at_once[out] = float(program.take.first < edge < program.take.last)
                        continue
                    there = last if out > 0.0 else first
                    near = headings(
                        there - out * _STEP * np.arange(3.0), np.full(3, ARRIVING if out > 0.0 else LEAVING)
                    )
                    near = whole_turns_near(near - level, 0.0)
                    speed = out * float(3.0 * near[0] - 4.0 * near[1] + near[2]) / (2.0 * _STEP) * (there == edge)
                    goes.append((place, edge, out * length, float(near[0]), speed))
                held.append((place, first, last, until, level, *at_once.values()))
    return _Stances(np.array(held, dtype=np.float64).reshape(-1, 7), np.array(goes, dtype=np.float64).reshape(-1, 5))


def _alone(contact: Contact, point: Standing) -> list[tuple[float, float, float, float, tuple[float, ...]]]:
    """From when to when a point stands without the rest of the sole, until when what it is turned by stays so, while others stand
    after it, when it is turned by nothing there, and on which sides (-1 before it, 1 after it) nothing stands."""
    if not contact.whole:
        outer = (-1.0, 1.0) if point.first == contact.begin else (1.0,)
        return [(point.first, point.last, contact.end, point.first, outer)]
    found: list[tuple[float, float, float, float, tuple[float, ...]]] = []
    if point.first < contact.first:
        last = min(point.last, contact.first)
        found.append((point.first, last, last, last, (-1.0,)))
    if point.last > contact.last:
        first = max(point.first, contact.last)
        found.append((first, point.last, contact.end, first, (1.0,)))
    return found


def _keeps(program: Program, bound: Bound, space: int, joint: str, point: Floats, at: Floats) -> bool:
    """Whether a point of a joint keeps its place in a space at all these times."""
    node = program.nodes[bound.member.id, joint]
    side = np.where(at == at[-1], ARRIVING, LEAVING)
    pos, rot = program.track(at, side, [space, node])
    size = program.sizes(at, side, node)[:, None]
    place = rotate(inverse(rot[:, 0]), pos[:, 1] + size * rotate(rot[:, 1], point) - pos[:, 0])
    return bool(np.linalg.norm(place - place[0], axis=1).max() <= STILL[0])


def _headings(program: Program, bound: Bound, turning: Turning, at: Floats, side: Ints) -> Floats:
    """(F,) headings of a sole in what its control follows, radians."""
    control = bound.controls[turning.control]
    _, rot = program.track(at, side, [control.space, program.nodes[bound.member.id, control.control.rests_on]])
    return heading(turning, multiply(inverse(rot[:, 0]), rot[:, 1]))


def heading(turning: Turning, turns: Floats) -> Floats:
    """(F,) headings (radians) of a sole by its turns (F, 4) from rest."""
    across = rotate(turns, turning.left)
    found: Floats = np.arctan2(-across @ turning.forward, across @ turning.left)
    return found
