"""Fitting a system of a part to a given pose, with the residual that locked and limited channels leave."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from .program import Poses, Program
from .rig import Bound, BoundSystem
from .stance_turns import stance_turns
from .transforms import Floats, Ints, rotation_distance


@dataclass(frozen=True)
class Fit:
    """Channel values (K, F) of `channels` (K,) that reproduce a pose, and what locks and limits keep them from.

    `position`, `rotation`: (F,) residual in metres and radians, the greatest of the part's joints; `gives`:
    held channels whose freedom would take the residual away, with the value each would need.
    """

    channels: Ints
    values: Floats
    position: Floats
    rotation: Floats
    gives: dict[str, float]


def fit_values(
    program: Program, bound: Bound, system: str, poses: Poses, near: Floats, kept: Mapping[int, Floats] | None = None
) -> Floats:  # fmt: skip
    """(K, F) channel values of a system that reproduce the part's joints in `poses`, each time nearest to the
    time before and the first nearest to `near` (K,); those of the take, where a system has several that do and they do all
    along. Locks and limits are not heeded. kept: values (F,) to be taken as they are, by their place among the channels."""
    mine = bound.systems[system]
    if stays := mine.system.stays(bound):
        now = program.sample(poses.times, poses.side, mine.channels[stays])
        kept = {**dict(zip(stays, now, strict=True)), **(kept or {})}
    if not kept:
        if mine.system.ample and _made(program, bound, system, poses):
            return program.sample(poses.times, poses.side, mine.channels)
        kept = stance_turns(program, bound, mine, poses.times, poses.side)
    return mine.system.fit(bound, replace(program.posed(bound, poses), kept=kept), near)


#: What values that a take has leave (metres, radians) of a pose that they make.
MADE = 1e-7


def _made(program: Program, bound: Bound, system: str, poses: Poses) -> bool:
    """Whether a system makes these poses by what the take has, in the spaces that they show."""
    nodes = np.array([*bound.nodes, *(c.space for c in bound.followers.values())])
    now = program.evaluate(poses.times, poses.side, overrides=bound.drive_to(system), only=nodes)
    if np.linalg.norm(now.pos[:, nodes] - poses.pos[:, nodes], axis=-1).max() > MADE:
        return False
    return bool(rotation_distance(now.rot[:, nodes], poses.rot[:, nodes]).max() <= MADE)


def held(system: BoundSystem, values: Floats) -> Floats:
    """The values (K, …) with locked channels at their default and limited ones within their limits."""
    lows, highs = (system.bounds[:, k].reshape(-1, *(1,) * (values.ndim - 1)) for k in (0, 1))
    locked = system.held.reshape(lows.shape)
    found: Floats = np.where(locked, system.standard.reshape(lows.shape), np.clip(values, lows, highs))
    return found


def fit(program: Program, bound: Bound, system: str, poses: Poses, near: Floats | None = None) -> Fit:
    """Fits one system of a part to a pose. Locked channels are held at their default and limited ones within their
    limits, and the residual is measured by posing the part again with what was found."""
    mine = bound.systems[system]
    start = program.now(float(poses.times[0]), mine.channels) if near is None else near
    wanted = fit_values(program, bound, system, poses, start)
    values = held(mine, wanted)
    names = program.channel_names()
    gives: dict[str, float] = {}
    for k, channel in enumerate(mine.channels):
        off = np.abs(wanted[k] - values[k])
        if off.max(initial=0.0) > 1e-9:
            gives[names[channel]] = float(wanted[k][np.argmax(off)])
    position, rotation = residual(program, bound, system, values, poses)
    return Fit(mine.channels, values, position, rotation, gives)


def reach(program: Program, bound: Bound, system: str, wanted: Poses) -> Poses:
    """Poses of a part's joints as one of its systems has them that is fitted to wanted ones: its end where they have it, as far as
    the part reaches; all else is not a number."""
    mine = bound.systems[system]
    near = program.now(float(wanted.times[0]), mine.channels)
    values = held(mine, fit_values(program, bound, system, wanted, near))
    overrides: dict[int, float | Floats] = {**bound.drive_to(system)}
    overrides |= {int(c): v for c, v in zip(mine.channels, values, strict=True)}
    return program.evaluate(wanted.times, wanted.side, overrides=overrides, only=bound.nodes)


def residual(program: Program, bound: Bound, system: str, values: Floats, poses: Poses) -> tuple[Floats, Floats]:
    """(F,) metres and (F,) radians by which a part posed with these values (K, F) in one system misses the poses."""
    overrides: dict[int, float | Floats] = {int(c): values[k] for k, c in enumerate(bound.systems[system].channels)}
    overrides |= bound.drive_to(system)
    nodes = bound.nodes
    again = program.evaluate(poses.times, poses.side, overrides=overrides, only=nodes)
    position = np.linalg.norm(again.pos[:, nodes] - poses.pos[:, nodes], axis=-1).max(axis=1)
    return position, rotation_distance(again.rot[:, nodes], poses.rot[:, nodes]).max(axis=1)
