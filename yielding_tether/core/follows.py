"""Faults of what is followed, and their repair: weights that add up to more than one, follows that nobody uses, and turns
between two things that pass half a turn apart, where the shortest way between them jumps to the other side."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import partial
from typing import NamedTuple

import numpy as np

from .curves import ARRIVING, EMPTY, FREE, LEAVING, SMOOTH, STEPPED, Curve, Key, curve, insert, put, sample, without
from .followers import BoundControl
from .program import Program
from .rig import Bound
from .takes import Take, Tether
from .transforms import Floats, inverse, multiply

#: Above this weights add up to more than one, and are scaled down to one.
FULL = 1.0 + 1e-6
#: Step of the differences from which the slopes of scaled weights are taken, frames.
_STEP = 1e-3


def unused(program: Program, bound: Bound) -> list[Tether]:
    """Follows of a part's controls that nothing in the take keys. One that is keyed to zero is left for its dial."""
    found = []
    for tether in program.take.tethers:
        if tether.member != bound.member.id or tether.control not in bound.followers:
            continue
        if not any(n in program.take.curves for n in tether.weights):
            found.append(tether)
    return found


def without_unused(program: Program, bound: Bound) -> Take:
    """The take without the follows of a part that nobody uses."""
    gone = unused(program, bound)
    return replace(program.take, tethers=tuple(t for t in program.take.tethers if t not in gone))


def overfull(program: Program, bound: Bound) -> Iterator[tuple[float, float, float]]:
    """Stretches (first frame, last, greatest sum) over which weights of one of a part's controls add up to more than one."""
    for control in bound.followers.values():
        for channels in _kinds(control):
            at = _times(program, channels)
            total = np.max([_sum(program, channels, at, side) for side in (ARRIVING, LEAVING)], axis=0)
            over = np.concatenate([[False], total > FULL, [False]])
            edges = np.flatnonzero(over[1:] != over[:-1])
            for a, b in zip(edges[::2], edges[1::2] - 1, strict=True):
                yield float(at[a]), float(at[b]), float(total[a : b + 1].max())


def _kinds(control: BoundControl) -> Iterator[list[int]]:
    """Weights of place, and of rotation, where there are several."""
    for what in (0, 1):
        found = [one.weights[what] for one in control.others if one.weights[what] >= 0]
        if len(found) > 1:
            yield found


def _times(program: Program, channels: list[int]) -> Floats:
    """Frames and keys of weights within the take."""
    take = program.take
    at = np.union1d(take.frames, program.key_times(channels))
    return at[(at >= take.first) & (at <= take.last)]


def scaled(program: Program, bound: Bound, first: float, last: float) -> Take:
    """The take in which weights that add up to more than one from a frame to another add up to one there: as they count
    already, so that nothing moves."""
    names = program.channel_names()
    curves: dict[str, Curve] = {}
    for control in bound.followers.values():
        for channels in _kinds(control):
            at = _times(program, channels)
            # From the moment before to the one after, where they add up to less.
            inside = np.flatnonzero((at >= first) & (at <= last))
            at = at[max(inside[0] - 1, 0) : inside[-1] + 2]
            arriving, leaving = (_shares(program, channels, at, side) for side in (ARRIVING, LEAVING))
            if max(_sum(program, channels, at, side).max() for side in (ARRIVING, LEAVING)) <= FULL:
                continue
            rising = (_shares(program, channels, at + _STEP, LEAVING) - leaving) / _STEP
            falling = (arriving - _shares(program, channels, at - _STEP, ARRIVING)) / _STEP
            # Where one goes over smoothly, what the others count as changes too.
            steps = np.all([_steps(program.curve(c), at) for c in channels], axis=0)
            came = np.append(steps[:1], steps[:-1])
            for k, c in enumerate(channels):
                kept = insert(insert(program.curve(c), float(at[0]), 0.0), float(at[-1]), 0.0)
                keys = [
                    Key(
                        t, float(arriving[k, n]), float(leaving[k, n]), 0.0 if came[n] else float(falling[k, n]),
                        0.0 if steps[n] else float(rising[k, n]), STEPPED if steps[n] else SMOOTH, FREE,
                    )
                    for n, t in enumerate(at.tolist())
                ]  # fmt: skip
                first_key, last_key = (kept.key(kept.find(float(t)) or 0) for t in (at[0], at[-1]))
                keys[0] = keys[0]._replace(arriving=first_key.arriving, slope_in=first_key.slope_in)
                keys[-1] = keys[-1]._replace(leaving=last_key.leaving, slope_out=last_key.slope_out, kind=last_key.kind)
                curves[names[c]] = put(without(kept, float(at[0]), float(at[-1])), keys)
    return program.take.with_curves(curves)


def _shares(program: Program, channels: list[int], at: Floats, side: int) -> Floats:
    """(K, F) weights as they count: scaled down where they add up to more than one."""
    rows = np.maximum(program.sample(at, side, np.array(channels)), 0.0)
    found: Floats = rows / np.maximum(rows.sum(axis=0), 1.0)
    return found


def _sum(program: Program, channels: list[int], at: Floats, side: int) -> Floats:
    """(F,) what weights add up to."""
    found: Floats = np.maximum(program.sample(at, side, np.array(channels)), 0.0).sum(axis=0)
    return found


def _steps(kept: Curve, at: Floats) -> np.ndarray:
    """(F,) whether a weight stands still in the segments that leave these times."""
    if not len(kept):
        return np.ones(len(at), dtype=bool)
    i = np.searchsorted(kept.times, at, side="right") - 1
    still: np.ndarray = (i < 0) | (i == len(kept) - 1) | (kept.marks[np.maximum(i, 0), 0] == STEPPED)
    return still


# --- the way round --------------------------------------------------------------------------------------


class Flip(NamedTuple):
    """Where the turn between two followed things passes half a turn: the time, the tether (its number among the control's anchors)
    that is to say the way round, and by how many turns from then on; the turn that jumps, radians; whether it is said
    already."""

    control: BoundControl
    time: float
    anchor: int
    way: int
    jump: float
    said: bool


def flips(program: Program, bound: Bound) -> list[Flip]:
    """Where a part's controls, turned between two things, go over to the other way round within the take."""
    return [flip for control in bound.followers.values() for flip in _flips(program, control)]


def _flips(program: Program, control: BoundControl) -> Iterator[Flip]:
    turning = [(k, one.rotation) for k, one in enumerate(control.others) if one.rotation >= 0]
    channels = [c for _, c in turning]
    if not any(len(program.curve(c)) for c in channels):
        return
    at = _times(program, channels)
    shares = np.zeros((len(control.anchors), len(at)))
    shares[[k for k, _ in turning]] = _shares(program, channels, at, LEAVING)
    shares[-1] = 1.0 - shares.sum(axis=0)
    shares[-1, shares[-1] < 1e-9] = 0.0
    partly = (shares > 0.0).sum(axis=0) == 2
    pairs = [tuple(np.flatnonzero(shares[:, f] > 0.0).tolist()) if partly[f] else None for f in range(len(at))]
    start = 0
    while start < len(at):
        end = start
        while end + 1 < len(at) and pairs[end + 1] == pairs[start]:
            end += 1
        pair = pairs[start]
        if pair is not None and end > start:
            yield from _crossings(
                program, control, (pair[0], pair[1]), at[start : end + 1], shares[pair[1], start : end + 1]
            )
        start = end + 1


def _apart(program: Program, control: BoundControl, pair: tuple[int, int], at: Floats) -> Floats:
    """(F, 4) the turn from one thing to the other, each as it holds the control."""
    both = [control.anchors[k] for k in pair]
    rot = program.evaluate(at, only=[x.node for x in both]).rot
    one, two = (multiply(rot[:, x.node], np.broadcast_to(x.rot, (len(at), 4))) for x in both)
    return multiply(inverse(one), two)


def _crossings(
    program: Program, control: BoundControl, pair: tuple[int, int], at: Floats, share: Floats
) -> Iterator[Flip]:
    """Times within a stretch at which the turn between two things passes half a turn."""
    from scipy.spatial.transform import Rotation

    turns = Rotation.from_quat(_apart(program, control, pair, at)).as_rotvec()
    angles = np.linalg.norm(turns, axis=1)
    axes = turns / np.maximum(angles, 1e-12)[:, None]
    chosen = [control.anchors[k].way for k in pair]
    said = [float(program.now(float(at[0]), [c])[0]) if c >= 0 else 0.0 for c in chosen]
    way = round(said[1] - said[0])
    for f in range(1, len(at)):
        before = (angles[f - 1] + 2.0 * np.pi * way) * axes[f - 1]
        new = round((float(before @ axes[f]) - angles[f]) / (2.0 * np.pi))
        if new != way:
            # Half a turn apart the scalar part passes zero, a whole turn apart the vector part does.
            whole = angles[f - 1] + angles[f] < np.pi
            passing = np.append(axes[f - 1], 0.0) if whole else np.array([0.0, 0.0, 0.0, 1.0])
            time = _passes(partial(_apart, program, control, pair), passing, float(at[f - 1]), float(at[f]))
            now = [float(program.now(time, [c])[0]) if c >= 0 else 0.0 for c in chosen]
            # Half of the way jumps by up to half a turn.
            jump = 2.0 * np.pi * min(share[f], 1.0 - share[f])
            which = pair[1] if control.anchors[pair[1]].rotation >= 0 else pair[0]
            yield Flip(
                control, time, which, new if which == pair[1] else -new, float(jump), round(now[1] - now[0]) == new
            )
            way = new


def _passes(apart: Callable[[Floats], Floats], part: Floats, first: float, last: float) -> float:
    """When this part (4,) of a turn passes zero between two times; the later one where it does not."""
    from scipy.optimize import brentq

    start = apart(np.array([first]))[0]

    def rest(t: float) -> float:
        q = apart(np.array([t]))[0]
        return float(part @ q) * (1.0 if start @ q >= 0.0 else -1.0)

    return float(brentq(rest, first, last, xtol=1e-12)) if rest(first) * rest(last) < 0.0 else last


def round_the_same_way(program: Program, bound: Bound) -> Take:
    """The take in which a part's controls, turned between two things, keep to their side of them: stepped keys say the way
    round from where the turn between the two passes half a turn."""
    curves: dict[str, Curve] = {}
    for flip in flips(program, bound):
        name = _tether_of(program, bound, flip).way
        old = curves.get(name, program.take.curves.get(name))
        if old is None:
            old = put(EMPTY, [Key(float(program.take.first), 0.0, 0.0, kind=STEPPED, rule=FREE)])
        came = float(sample(old, [flip.time], LEAVING, 0.0)[0])
        later = [k for k in old.all_keys() if k.time < flip.time]
        curves[name] = curve([*later, Key(flip.time, came, float(flip.way), kind=STEPPED, rule=FREE)])
    return program.take.with_curves(curves)


def _tether_of(program: Program, bound: Bound, flip: Flip) -> Tether:
    mine = [t for t in program.take.tethers if (t.member, t.control) == (bound.member.id, flip.control.control.name)]
    return mine[flip.anchor]
