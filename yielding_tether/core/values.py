"""Named values: one number from zero to one that turns several joints, in stages recorded from poses.

    turn of a joint = rest · stages(value) · stages(next value) … · its own channels

Between two stages a joint turns along the shortest arc; zero is rest. What is posed by hand lies on top, as ever.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from .channels import Channel
from .errors import CoreError
from .transforms import IDENTITY, Floats, inverse, multiply, rotation_distance

Turn = tuple[float, float, float, float]
#: Longest name, most stages.
LONGEST, MOST = 24, 12


@dataclass(frozen=True)
class PoseValue:
    """A value that poses `joints`: `at` (S,) where its stages are, rising, above zero and at most one; `turns` (S, joints): the
    turn of each joint there, beyond its rest and before its own channels, as a unit quaternion."""

    name: str
    joints: tuple[str, ...]
    at: tuple[float, ...]
    turns: tuple[tuple[Turn, ...], ...]

    def __post_init__(self) -> None:
        if not re.fullmatch(r"[^\W_][\w '-]*", self.name) or len(self.name) > LONGEST:
            raise CoreError(
                f"A value is called by letters, figures and spaces, {LONGEST} at most, and not {self.name[:40]!r}."
            )
        rising = all(a < b for a, b in zip((0.0, *self.at), self.at, strict=False))
        if not (self.at and len(self.at) <= MOST and rising and self.at[-1] <= 1.0):
            raise CoreError(
                f"The stages of {self.name} must rise from above 0 to at most 1, and be no more than {MOST}."
            )
        turns = np.array(self.turns, dtype=np.float64)
        shaped = turns.shape == (len(self.at), len(self.joints), 4)
        if not shaped or not np.abs(np.linalg.norm(turns, axis=-1) - 1.0).max() < 1e-6:
            raise CoreError(f"{self.name} needs a turn of each of its joints at each of its stages.")

    def channel(self, part: str, system: str) -> Channel:
        """Its channel on a part."""
        return Channel(part, f"value.{self.name}", "value", system, self.name)

    def with_stage(self, at: float, turns: tuple[Turn, ...]) -> PoseValue:
        """The same with a stage in place of the one there, or one more."""
        stages = {**dict(zip(self.at, self.turns, strict=True)), at: turns}
        order = sorted(stages)
        return PoseValue(self.name, self.joints, tuple(order), tuple(stages[a] for a in order))


def turned(values: Sequence[PoseValue], joints: Sequence[str], now: Floats) -> Floats:
    """(F, n, 4) turns that values now (V, F) give to joints."""
    return _together(values, joints, [_stages(value, at) for value, at in zip(values, now, strict=True)])


def _together(values: Sequence[PoseValue], joints: Sequence[str], given: Sequence[Floats]) -> Floats:
    """(F, n, 4) turns of joints of what each value gives to its own (F, joints, 4), one after the other."""
    found = np.tile(np.array(IDENTITY), (len(given[0]) if given else 0, len(joints), 1))
    for value, turns in zip(values, given, strict=True):
        mine = [(k, value.joints.index(joint)) for k, joint in enumerate(joints) if joint in value.joints]
        to, of = np.array(mine, dtype=np.int64).reshape(-1, 2).T
        found[:, to] = multiply(found[:, to], turns[:, of])
    return found


@lru_cache(maxsize=256)
def ways(value: PoseValue) -> tuple[Floats, Floats, Floats]:
    """For each stage the turns (S, joints, 4) at the one before, and the shortest way from there: axis (S, joints, 3) and half
    angle (S, joints)."""
    turns = np.concatenate([np.tile(IDENTITY, (1, len(value.joints), 1)), np.array(value.turns)])
    step = multiply(inverse(turns[:-1]), turns[1:])
    # Of the two quaternions of a turn that with a positive real part is the shorter way.
    step = np.where(step[..., 3:] < 0.0, -step, step)
    size = np.linalg.norm(step[..., :3], axis=-1)
    axis: Floats = np.where(size[..., None] > 1e-300, step[..., :3] / np.maximum(size, 1e-300)[..., None], 0.0)
    return turns[:-1], axis, np.arctan2(size, step[..., 3])


def _stages(value: PoseValue, at: Floats) -> Floats:
    """(F, joints, 4) turns of a value's joints where it is at (F,)."""
    marks = np.array([0.0, *value.at])
    start, axis, half = ways(value)
    now = np.clip(at, 0.0, marks[-1])
    k = np.clip(np.searchsorted(marks, now, side="right") - 1, 0, len(marks) - 2)
    part = half[k] * ((now - marks[k]) / (marks[k + 1] - marks[k]))[:, None]
    return multiply(start[k], np.concatenate([axis[k] * np.sin(part)[..., None], np.cos(part)[..., None]], axis=-1))


#: Rotations this near to one another (radians) are the same.
SAME = 1e-7
#: Where values are sought from, and in how many steps: at a few times, and at all.
STARTS, PROBES, ROUNDS = np.array([0.15, 0.5, 0.85]), 8, 24
#: How many times apart values are sought from anywhere; between them from what lies on both sides.
APART = 16


def recovered(values: Sequence[PoseValue], joints: Sequence[str], local: Floats) -> Floats | None:
    """(V, F) values that alone make these turns of joints beyond their rests, local (F, n, 4), in order of time; None where none
    do at all times. Gauss and Newton's method from several starts at a few of the times, between them from what is there."""
    count = len(local)
    still = [k for k, j in enumerate(joints) if not any(j in v.joints for v in values)]
    if rotation_distance(local[:, still], np.array(IDENTITY)).max(initial=0.0) >= SAME:
        return None
    # Most poses are made by hand: a look at a few tells that for little.
    some = np.unique(np.linspace(0, count - 1, min(count, 3)).astype(np.int64))
    if _anywhere(values, joints, local[some], PROBES) is None:
        return None
    some = np.unique([*range(0, count, APART), count - 1])
    there = _anywhere(values, joints, local[some], ROUNDS)
    if there is None:
        return None
    between = np.stack([np.interp(np.arange(count), some, v) for v in there])
    found, far = _sought(values, joints, local, between, ROUNDS)
    left = np.flatnonzero(far >= SAME)
    if len(left):
        others = _anywhere(values, joints, local[left], ROUNDS)
        if others is None:
            return None
        found[:, left] = others
    return found


def _anywhere(values: Sequence[PoseValue], joints: Sequence[str], local: Floats, rounds: int) -> Floats | None:
    """(V, F) such values, sought from all starts side by side, the best of them for each time; None where there are none."""
    frames, starts = len(local), len(STARTS)
    begin = np.tile(np.repeat(STARTS, frames), (len(values), 1))
    now, far = _sought(values, joints, np.tile(local, (starts, 1, 1)), begin, rounds)
    far = far.reshape(starts, frames)
    if far.min(axis=0).max() >= SAME:
        return None
    found: Floats = now.reshape(len(values), starts, frames)[:, far.argmin(axis=0), np.arange(frames)]
    return found


def _sought(
    values: Sequence[PoseValue], joints: Sequence[str], local: Floats, begin: Floats, rounds: int
) -> tuple[Floats, Floats]:
    """(V, F) values sought from some (V, F), and (F,) how far the joints are from where they should be turned then, radians."""
    now = begin.copy()
    todo = np.arange(len(local))
    for _ in range(rounds):
        at, wanted = now[:, todo], local[todo]
        given = [_stages(value, here) for value, here in zip(values, at, strict=True)]
        off = _off(_together(values, joints, given), wanted)
        slopes = np.empty((*off.shape, len(values)))
        for v, value in enumerate(values):
            step = np.where(at[v] < 0.5, 1e-6, -1e-6)
            moved = _together(values, joints, [*given[:v], _stages(value, at[v] + step), *given[v + 1 :]])
            slopes[:, :, v] = (_off(moved, wanted) - off) / step[:, None]
        normal = np.einsum("fkv,fkw->fvw", slopes, slopes) + 1e-9 * np.eye(len(values))
        by = np.linalg.solve(normal, np.einsum("fkv,fk->fv", slopes, off)[..., None])[..., 0]
        change = np.clip(at - by.T, 0.0, 1.0) - at
        now[:, todo] += change
        todo = todo[np.abs(change).max(axis=0) >= 1e-12]
        if not len(todo):
            break
    return now, rotation_distance(turned(values, joints, now), local).max(axis=1)


def _off(given: Floats, local: Floats) -> Floats:
    """(F, 3 n) how far joints that are turned like this are from where they should be turned."""
    apart = multiply(inverse(given), local)
    return 2.0 * (np.where(apart[..., 3:] < 0.0, -apart, apart)[..., :3]).reshape(len(local), -1)
