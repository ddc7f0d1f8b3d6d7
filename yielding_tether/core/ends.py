"""Ends of limbs put where they are wanted once an operation has moved them: back to where they stood, out of what they sink into.

wanted = place of the joint + off(t),  its turn · turn(t);  the limb reaches for that by a system of its own
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import pairwise
from typing import NamedTuple

import numpy as np

from .contacts import Spot, anchor_node, end_of, over, part_of, spots_of
from .curves import ARRIVING, LEAVING
from .express import FINE, Flags, Motion, Placing, carry, fence, join, lead, system_target
from .fitting import reach
from .layers import scaled
from .measure import one_sided, steps
from .program import Poses, Program
from .proof import SUNK, split_times, switch_times
from .rig import Bound
from .smoothing import continuous, low_pass, low_pass_turns
from .takes import Contact
from .transforms import Floats, Ints, inverse, multiply, rotate

#: Frames over which an end leaves where it stands, or comes out of what it was in.
LEAVES = 4.0
#: Metres and radians below which an end that stands is where it was.
KEPT = (1e-6, 1e-6)
#: Half-frames on each side of a lift over which its line ends, and how often what is left is lifted again.
ROUND, ROUNDS = 2, 4
#: (F, 3) metres and (F, 4) turns, in its own axes, by which an end is elsewhere at times (F,).
Moves = Callable[[Floats], tuple[Floats, Floats]]


def held_ends(before: Program, after: Program, first: float, last: float, cutoff: float) -> Program:
    """A take in which every end that stands within a stretch is where it stood in what it stands on, before all that was done,
    without what is faster than a cutoff there; it leaves that over a few frames. Ends that are there already stay as they are."""
    now = after
    for contact in (c for c in before.take.contacts if c.begin < last and c.end > first):
        now = _held_end(before, now, contact, first, last, cutoff)
    for id in before.bounds:
        now = _met(before, now, id, first, last)
    return now


def _met(before: Program, now: Program, id: tuple[str, str], first: float, last: float) -> Program:
    """A part whose capture meets what keys hold, where one goes over to the other: the one went along with what carries it, the
    other stayed. Only where nothing jumped before."""
    bound = now.bound(*id)
    times = [t for t in switch_times(now, bound) if first < t < last] if bound.captured else []
    if not times:
        return now
    was, new = (one_sided(p, np.array(times), p.bounds[id].nodes) for p in (before, now))
    for k, t in enumerate(times):
        if new.pose_jump[k].max() <= KEPT[0] or was.pose_jump[k].max() > KEPT[0]:
            continue
        states = [bound.state(now.sample([t], side, bound.driver_channels)) for side in (ARRIVING, LEAVING)]
        alone = [x is not None and bound.systems[x].system.moves_alone for x in states]
        if alone[0] == alone[1]:
            continue
        curves = dict(now.take.curves)
        target = system_target(now, now.bound(*id), str(states[0] if alone[0] else states[1]))
        if alone[1]:
            join(now, target, curves, t, LEAVES)
        else:
            lead(now, target, curves, t)
        now = now.with_curves({n: c for n, c in curves.items() if c is not now.take.curves.get(n)})
    return now


class _Back(NamedTuple):
    """How an end gets back to where it stands, from `first` to `last`: how far (metres) and by which turn in its own axes."""

    first: float
    last: float
    place: Callable[..., Floats]
    turn: Callable[..., Floats]

    def at(self, times: Floats) -> tuple[Floats, Floats]:
        """(F, 3) and (F, 4): all of it while it stands, less and less over a few frames around that."""
        inner = np.clip(times, self.first, self.last)
        share = np.clip(1.0 - np.abs(times - inner) / LEAVES, 0.0, 1.0)
        share *= share * (3.0 - 2.0 * share)
        turn = self.turn(inner)
        turn /= np.linalg.norm(turn, axis=-1, keepdims=True)
        return share[:, None] * self.place(inner), scaled(turn, share)


def _back(before: Program, now: Program, contact: Contact, first: float, last: float, cutoff: float) -> _Back | None:
    """How the end of a contact gets back to where it stood; None where it is there."""
    ends = [(p.nodes[contact.member, contact.joint], anchor_node(p, contact)) for p in (before, now)]
    low, high = max(first, contact.begin), min(last, contact.end)
    at = np.unique(np.append(np.arange(np.ceil(2.0 * low), 2.0 * high) / 2.0, [low, high]))
    if len(at) < 4:
        return None
    side = np.where(at == high, ARRIVING, LEAVING)
    (pos, rot), (here, turned) = before.track(at, side, ends[0]), now.track(at, side, ends[1])
    back = inverse(rot[:, 1])
    place, turn = rotate(back, pos[:, 0] - pos[:, 1]), multiply(back, rot[:, 0])
    still = here[:, 1] + rotate(turned[:, 1], place) - here[:, 0]
    if _least(still, multiply(inverse(turned[:, 0]), multiply(turned[:, 1], turn))):
        return None
    rate = 2.0 * float(before.take.rate)
    place, turn = low_pass(place, rate, cutoff), low_pass_turns(turn, rate, cutoff)
    # In what it stands on, which may be elsewhere now.
    off = here[:, 1] + rotate(turned[:, 1], place) - here[:, 0]
    step = continuous(multiply(inverse(turned[:, 0]), multiply(turned[:, 1], turn)))
    return _Back(low, high, spline(at, off), spline(at, step))


def _least(off: Floats, turn: Floats) -> bool:
    """Whether an end is where it was: (F, 3) metres from there, and (F, 4) turned."""
    moved = float(np.linalg.norm(off, axis=1).max())
    return moved <= KEPT[0] and 2.0 * float(np.linalg.norm(turn[:, :3], axis=1).max()) <= KEPT[1]


def _held_end(before: Program, now: Program, contact: Contact, first: float, last: float, cutoff: float) -> Program:
    """The same for one contact."""
    bound = part_of(now, contact)
    back = _back(before, now, contact, first, last, cutoff) if _able(bound, contact.joint) else None
    if back is None:
        return now
    begin, end = max(first, back.first - LEAVES), min(last, back.last + LEAVES)
    return moved_end(now, bound, contact.joint, begin, end, back.at)


def _able(bound: Bound, joint: str) -> list[str]:
    """Systems of a part, made by keys, that place its end by a control of its own."""
    return [n for n in bound.keyed_systems if any(c.is_end and c.rests_on == joint for c in bound.systems[n].controls)]


def moved_end(now: Program, bound: Bound, joint: str, begin: float, end: float, moves: Moves) -> Program:
    """A take in which the end of a part is elsewhere from one frame to another, its limb as it reaches; in whatever drives it."""
    able, node = _able(bound, joint), now.nodes[bound.member.id, joint]
    edges = [t for t in split_times(now, bound) if begin < t < end]

    def poses(at: Floats, side: Ints) -> Poses:
        found = now.evaluate(at, side, only=now.fit_nodes([bound]))
        off, turn = moves(at)
        wanted = Poses(at, found.pos.copy(), found.rot.copy(), side, found.sizes)
        wanted.pos[:, node] += off
        wanted.rot[:, node] = multiply(wanted.rot[:, node], turn)
        reached = reach(now, bound, able[-1], wanted)
        found.pos[:, bound.nodes], found.rot[:, bound.nodes] = reached.pos[:, bound.nodes], reached.rot[:, bound.nodes]
        return found

    made = now
    for a, b in pairwise([begin, *edges, end]):
        state = bound.state(made.sample(np.array([0.5 * (a + b)]), LEAVING, bound.driver_channels))
        if state is not None:
            made = carried_over(made, made.bound(*bound.id), state, a, b, poses)
    return made


# --- out of what they sink into -------------------------------------------------------------------------


def lifted_ends(before: Program, after: Program, first: float, last: float) -> tuple[Program, list[str]]:
    """A take in which no sole that does not stand is deeper in a set piece than it was about then; and what is told of that."""
    now, told = after, list[str]()
    at = np.unique(np.append(np.arange(np.ceil(2.0 * first), 2.0 * last) / 2.0, [first, last]))
    for id, bound in after.bounds.items():
        control, spots = end_of(bound), spots_of(bound)
        if control is None or not spots or not _able(bound, control.control.rests_on):
            continue
        joint = control.control.rests_on
        node = [after.nodes[id[0], joint]]
        if np.abs(before.track(at, LEAVING, node)[0] - after.track(at, LEAVING, node)[0]).max() <= KEPT[0]:
            continue
        was, (new, up) = sunk(before, bound, spots, at)[0], sunk(now, bound, spots, at)
        around = np.pad(was, int(2 * LEAVES), mode="edge")
        usual = np.lib.stride_tricks.sliding_window_view(around, int(4 * LEAVES) + 1).max(axis=1)
        allowed = np.maximum(usual, SUNK)
        away = _away([c for c in now.take.contacts if (c.member, c.joint) == (id[0], joint)], at)
        deep = np.where(away > 0.0, new - allowed, 0.0)
        if deep.max() <= SUNK:
            continue
        k, left = int(np.argmax(deep)), deep
        for _ in range(ROUNDS):
            now = _lifted(now, now.bound(*id), joint, at, _over(left, at, away), up, away == 0.0)
            new, up = sunk(now, now.bound(*id), spots, at)
            left = np.where(away > 0.0, new - allowed, 0.0)
            if left.max() <= SUNK:
                break
        told.append(
            f"{bound.who} is lifted by up to {1000 * deep[k]:.1f} mm out of what it sank into, at frame {at[k]:g}."
        )
        if left.max() > 1e-4:
            k = int(np.argmax(left))
            told.append(f"{bound.who} still sinks {1000 * left[k]:.1f} mm deeper than it did, at frame {at[k]:g}.")
    return now, told


def _lifted(now: Program, bound: Bound, joint: str, at: Floats, high: Floats, up: Floats, stands: Flags) -> Program:
    """An end higher by (F,) metres along ways (F, 3) at times (F,): a little more, for what lies between these times. stands (F,):
    where it stands, and all that this does ends."""
    edges = np.concatenate([[0], np.flatnonzero(stands), [len(at) - 1]])
    for a, b in pairwise(np.unique(edges).tolist()):
        some = a + np.flatnonzero(high[a : b + 1] > 0.0)
        if not len(some):
            continue
        begin, end = max(some[0] - ROUND, a), min(some[-1] + ROUND, b)
        line = spline(at[begin : end + 1], 1.02 * (high[:, None] * up)[begin : end + 1], (True, True))

        def moves(times: Floats, line: Callable[..., Floats] = line) -> tuple[Floats, Floats]:
            return line(times), np.tile([0.0, 0.0, 0.0, 1.0], (len(times), 1))

        now = moved_end(now, now.bound(*bound.id), joint, float(at[begin]), float(at[end]), moves)
    return now


def _away(stances: Sequence[Contact], at: Floats) -> Floats:
    """(F,) frames from the nearest time at which an end stands, `LEAVES` at most; none while it does."""
    found = np.full(len(at), LEAVES)
    for c in stances:
        found = np.minimum(found, np.maximum(np.maximum(c.begin - at, at - c.end), 0.0))
    return found


def _over(deep: Floats, at: Floats, away: Floats) -> Floats:
    """(F,) a smooth line over depths at times, that sets in and ends within `LEAVES` frames of what it covers, or at a stance."""
    found = np.zeros(len(deep))
    for k in np.flatnonzero(deep > 0.0):
        share = np.clip(1.0 - np.abs(at - at[k]) / away[k], 0.0, 1.0)
        found = np.maximum(found, deep[k] * share * share * (3.0 - 2.0 * share))
    return found


def sunk(program: Program, bound: Bound, spots: Sequence[Spot], at: Floats) -> tuple[Floats, Floats]:
    """(F,) how deep the deepest point of a part's end is in any set piece (metres, not below zero), and (F, 3) the way up there."""
    depth, up = np.zeros(len(at)), np.tile([0.0, 1.0, 0.0], (len(at), 1))
    nodes = [program.nodes[bound.member.id, s.joints[0]] for s in spots]
    size = program.sizes(at, LEAVING, nodes[0])
    for member in program.scene.members:
        if member.kind != "set":
            continue
        for anchor in dict.fromkeys(s.joint for s in member.shapes):
            shapes = [s for s in member.shapes if s.joint == anchor]
            pos, rot = program.track(at, LEAVING, [program.nodes[member.id, anchor], *nodes])
            back = inverse(rot[:, 0])
            for k, spot in enumerate(spots, 1):
                place = pos[:, k] + size[:, None] * rotate(rot[:, k], spot.points[0])
                deep = -over(shapes, rotate(back, place - pos[:, 0]))
                worse = deep > depth
                depth[worse] = deep[worse]
                up[worse] = rotate(rot[worse, 0], np.array([0.0, 1.0, 0.0]))
    return depth, up


def carried_over(
    program: Program, bound: Bound, system: str, first: float, last: float, poses: Callable[[Floats, Ints], Poses],
) -> Program:  # fmt: skip
    """A part's motion over a stretch put into a system of it."""
    breaks = program.key_times()
    target = system_target(program, bound, system)
    curves = dict(program.take.curves)
    open_end = last >= program.take.last
    if not open_end:
        fence(program, curves, target.channels.tolist(), [last])
    carry(
        program,
        target,
        curves,
        first,
        last,
        open_end,
        Placing("every"),
        Motion(program, poses, lambda t: FINE * steps(breaks, t)),
    )
    return program.with_curves({n: c for n, c in curves.items() if c is not program.take.curves.get(n)})


def spline(frames: Floats, values: Floats, still: tuple[bool, bool] = (False, False)) -> Callable[..., Floats]:
    """The cubic spline through values (F, ...) at frames (F,), flat at the ends that are `still`."""
    # Takes a quarter of a second to import, and little wants it.
    from scipy.interpolate import CubicSpline

    flat = (1, np.zeros(values.shape[1:]))
    ends = tuple(flat if s else "not-a-knot" for s in still)
    found: Callable[..., Floats] = CubicSpline(frames, values, bc_type=ends)
    return found
