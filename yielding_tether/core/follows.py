"""Faults of what is followed: weights that add up to more than one, and follows that nobody uses; and their repair."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from .curves import ARRIVING, FREE, LEAVING, SMOOTH, STEPPED, Curve, Key, insert, put, without
from .program import Program
from .rig import Bound, BoundControl
from .takes import Take, Tether
from .transforms import Floats

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
        found = [pair[what] for pair in control.weights[:-1] if pair[what] >= 0]
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
