"""Faults of what is followed, and their repair: weights that add up to more than one, follows that nobody uses, and turns
between two things that pass half a turn apart, where the shortest way between them jumps to the other side."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from .curves import ARRIVING, EMPTY, FREE, LEAVING, SMOOTH, STEPPED, Curve, Key, curve, insert, put, sample, without
from .followers import BoundControl
from .kernels.scalars import nearest_way
from .program import Program
from .rig import Bound
from .takes import Take, Tether
from .transforms import Floats, inverse, multiply, rotation_distance

#: Above this weights add up to more than one, and are scaled down to one.
FULL = 1.0 + 1e-6
#: Step of the differences from which the slopes of scaled weights are taken, frames.
_STEP = 1e-3


def free_name(anchor: str, member: str, taken: set[str]) -> str:
    """A name for a follow that no other of the control has."""
    names = (anchor, f"{member} {anchor}", *(f"{anchor} {k}" for k in range(2, 1000)))
    return next(n.replace(".", " ") for n in names if n.replace(".", " ") not in taken)


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
    """Where the turn between two followed things goes over to the other way round: the control and the frame; the turn that jumps,
    radians; whether more than two are followed there, of which no way can be chosen."""

    control: BoundControl
    time: float
    jump: float
    many: bool = False


#: Most that a turn may change between two looks at it, radians; what it may change by before another way is said: any way
#: within half a turn says the same.
_LOOK, _KEPT = 0.4, 2.0
#: Most looks in one frame; how near the moment of a flip is told, frames.
_LOOKS, _NEAR = 64, 1e-7


def flips(program: Program, bound: Bound) -> list[Flip]:
    """Where a part's controls, turned between several things, go over to the other way round within the take."""
    found: list[Flip] = []
    for control in bound.followers.values():
        for pair, at, shares in _between(program, control):
            if pair is None:
                found += _jumps_among(program, control, at)
                continue
            turns, used = _turns_between(program, control, pair, at)
            off = np.linalg.norm(_continued(turns, used) - used, axis=1) > 1.0
            jumps = 2.0 * np.pi * np.minimum(shares, 1.0 - shares)
            for k in np.flatnonzero(off):
                moment = _moment(program, control, pair, float(at[k - 1]), float(at[k]))
                found.append(Flip(control, moment, float(jumps[k])))
    return sorted(found, key=lambda flip: flip.time)


def _between(program: Program, control: BoundControl) -> Iterator[tuple[tuple[int, int] | None, Floats, Floats]]:
    """Stretches in which a control is turned between the same two things (numbers of its anchors), or among more of them (None),
    with times dense enough to follow the turn, and the share of the second of the two."""
    turning = [(k, one.rotation) for k, one in enumerate(control.others) if one.rotation >= 0]
    channels = [c for _, c in turning]
    if not any(len(program.curve(c)) for c in channels):
        return
    at = _times(program, channels)
    shares = np.zeros((len(control.anchors), len(at)))
    shares[[k for k, _ in turning]] = _shares(program, channels, at, LEAVING)
    shares[-1] = 1.0 - shares.sum(axis=0)
    shares[-1, shares[-1] < 1e-9] = 0.0
    active = [tuple(np.flatnonzero(column > 0.0).tolist()) for column in shares.T]
    start = 0
    while start < len(at):
        end = start
        while end + 1 < len(at) and active[end + 1] == active[start]:
            end += 1
        now = active[start]
        if len(now) > 1 and end > start:
            dense = _dense(program, control, now, at[start : end + 1])
            pair = (now[0], now[1]) if len(now) == 2 else None
            yield pair, dense, np.interp(dense, at[start : end + 1], shares[now[1], start : end + 1])
        start = end + 1


def _dense(program: Program, control: BoundControl, active: tuple[int, ...], at: Floats) -> Floats:
    """These times, and as many between them as it takes for what is followed to turn but a little from one to the next."""
    nodes = [control.anchors[k].node for k in active]
    rot = program.evaluate(at, only=nodes).rot[:, nodes]
    most = rotation_distance(rot[1:], rot[:-1]).sum(axis=1)
    counts = np.clip(np.ceil(most / _LOOK), 1, _LOOKS).astype(int)
    cut = [np.linspace(a, b, n, endpoint=False) for a, b, n in zip(at[:-1], at[1:], counts, strict=True)]
    return np.concatenate([*cut, at[-1:]])


def _turns_between(
    program: Program, control: BoundControl, pair: tuple[int, int], at: Floats
) -> tuple[Floats, Floats]:  # fmt: skip
    """(F, 3) rotation vectors of the turn from one thing to the other, each as it holds the control, on the shortest arc and as
    they are taken."""
    from scipy.spatial.transform import Rotation

    both = [control.anchors[k] for k in pair]
    rot = program.evaluate(at, only=[x.node for x in both]).rot
    one, two = (multiply(rot[:, x.node], np.broadcast_to(x.rot, (len(at), 4))) for x in both)
    turns: Floats = Rotation.from_quat(multiply(inverse(one), two)).as_rotvec()
    ways = _ways(program, control, pair, at)
    return turns, np.array([nearest_way(tuple(v), tuple(w)) for v, w in zip(turns, ways, strict=True)])


def _ways(program: Program, control: BoundControl, pair: tuple[int, int], at: Floats) -> Floats:
    """(F, 3) rotation vectors near which the turn from one thing to the other is taken."""
    both = [control.anchors[k].ways for k in pair]
    said = [program.sample(at, LEAVING, np.array(x)).T if x else np.zeros((len(at), 3)) for x in both]
    found: Floats = said[1] - said[0]
    return found


def _moment(program: Program, control: BoundControl, pair: tuple[int, int], first: float, last: float) -> float:
    """When between two times the turn between two things goes over to the other way."""
    while last - first > _NEAR:
        middle = 0.5 * (first + last)
        turns, used = _turns_between(program, control, pair, np.array([first, middle]))
        if np.linalg.norm(_continued(turns, used)[1] - used[1]) > 1.0:
            last = middle
        else:
            first = middle
    return last


def _continued(turns: Floats, used: Floats) -> Floats:
    """(F, 3) these turns (F, 3), each as it goes on from how the one before was taken."""
    found = used.copy()
    for k in range(1, len(turns)):
        found[k] = nearest_way(tuple(turns[k]), tuple(used[k - 1]))
    return found


def _jumps_among(program: Program, control: BoundControl, at: Floats) -> Iterator[Flip]:
    """Where a control that is turned among three things and more jumps while none of them does."""
    nodes = [one.node for one in control.anchors]
    rot = program.evaluate(at, only=[*nodes, control.space]).rot
    went = rotation_distance(rot[1:, control.space], rot[:-1, control.space])
    most = rotation_distance(rot[1:][:, nodes], rot[:-1][:, nodes]).max(axis=1)
    weights = program.sample(at, LEAVING, np.array([one.rotation for one in control.others if one.rotation >= 0]))
    dialled = np.pi * np.abs(np.diff(weights, axis=1)).sum(axis=0)
    for k in np.flatnonzero(went > most + dialled + 0.5 * _LOOK):
        yield Flip(control, float(at[k + 1]), float(went[k]), True)


def round_the_same_way(program: Program, bound: Bound) -> tuple[Take, float]:
    """The take in which a part's controls, turned between two things, keep to their side of them: stepped keys say near which
    turn the way is taken, long before another would be as near; and the first frame that has such a key."""
    curves: dict[str, Curve] = {}
    since = float(program.take.last)
    for control in bound.followers.values():
        tethers = [t for t in program.take.tethers if (t.member, t.control) == (bound.member.id, control.control.name)]
        for pair, at, _ in _between(program, control):
            if pair is None:
                continue
            turns, used = _turns_between(program, control, pair, at)
            if not (np.linalg.norm(_continued(turns, used) - used, axis=1) > 1.0).any():
                continue
            ways = _ways(program, control, pair, at[:1])[0]
            second = control.anchors[pair[1]].rotation >= 0
            says, other = pair[::-1] if second else pair
            now, near = used[0], ways
            steps = []
            for t, turn in zip(at.tolist(), turns, strict=True):
                now = np.array(nearest_way(tuple(turn), tuple(now)))
                if np.linalg.norm(now - near) > _KEPT:
                    steps.append((t, now))
                    near = now
            since = min(since, steps[0][0])
            for k, name in enumerate(tethers[says].ways):
                beside = (
                    float(program.now(float(at[0]), control.anchors[other].ways)[k])
                    if control.anchors[other].ways
                    else 0.0
                )
                old = curves.get(name, program.take.curves.get(name, EMPTY))
                values = [(t, (1.0 if second else -1.0) * float(v[k]) + beside) for t, v in steps]
                curves[name] = _stepped_over(old, values, program.take, float(at[-1]))
    return program.take.with_curves(curves), since


def _stepped_over(old: Curve, steps: list[tuple[float, float]], take: Take, last: float) -> Curve:
    """A stepped curve that has these values from these times on, up to `last`, where it is what it was."""
    first = steps[0][0]
    before = [k for k in old.all_keys() if k.time < first]
    after = [k for k in old.all_keys() if k.time > last]
    came, goes = (float(sample(old, [t], side, 0.0)[0]) for t, side in ((first, ARRIVING), (last, LEAVING)))
    if not before and first > take.first:
        before = [Key(float(take.first), came, came, kind=STEPPED, rule=FREE)]
    keys = []
    for t, value in steps:
        keys.append(Key(t, came, value, kind=STEPPED, rule=FREE))
        came = value
    if last < take.last:
        keys = [*(k for k in keys if k.time < last), Key(last, came, goes, kind=STEPPED, rule=FREE)]
    return curve([*before, *keys, *after])
