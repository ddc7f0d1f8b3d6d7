"""Fitting the systems of a limb to a given pose, with the residual that locked channels leave."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from .curves import LEAVING
from .evaluation import Limb, Poses, Program
from .systems import fk, two_segment
from .transforms import ORDERS, Floats, Ints, inverse, rotate, rotation_distance

SYSTEMS = ("fk", "ik")


@dataclass(frozen=True)
class Fit:
    """Channel values (K, F) of `channels` (K,) that reproduce a pose, and what locks keep them from.

    `position`, `rotation`: (F,) residual in metres and radians, the greatest of the limb's joints; `gives`:
    locked channels whose freedom would take the residual away, with the value each would need.
    """

    channels: Ints
    values: Floats
    position: Floats
    rotation: Floats
    gives: dict[str, float]


def system_channels(limb: Limb, system: str) -> Ints:
    """Channels that belong to one system of a limb: 9 of FK or 10 of IK."""
    return limb.fk[:, 3:].ravel() if system == "fk" else limb.ik


def parent_turns(limb: Limb, poses: Poses) -> Floats:
    """(F, 4) rotation of what the limb hangs from."""
    if limb.parent < 0:
        return np.tile([0.0, 0.0, 0.0, 1.0], (len(poses.times), 1))
    return np.ascontiguousarray(poses.rot[:, limb.parent])


def fit_values(limb: Limb, poses: Poses, system: str, near: Floats) -> Floats:
    """(K, F) channel values of a system that reproduce the limb's joints in `poses`, each time nearest to the
    time before and the first nearest to `near` (K,). Locks are not heeded."""
    nodes = list(limb.nodes)
    rot = np.ascontiguousarray(poses.rot[:, nodes])
    up = parent_turns(limb, poses)
    geometry = limb.geometry
    if system == "fk":
        out = np.empty((9, len(poses.times)))
        above = np.ascontiguousarray(np.concatenate([up[:, None], rot[:, :2]], axis=1))
        order = np.array([ORDERS.index(o) for o in limb.part.orders])
        fk.fit_turns(rot, above, geometry.rests, order, near.reshape(3, 3), out)
        return out
    out = np.empty((10, len(poses.times)))
    pos = np.ascontiguousarray(poses.pos[:, nodes])
    two_segment.fit(
        pos, rot, up, limb_offsets(limb, poses), tuple(geometry.rests[0].tolist()), geometry.constants,
        np.ascontiguousarray(poses.pos[:, limb.space]), np.ascontiguousarray(poses.rot[:, limb.space]),
        ORDERS.index(limb.part.end_order), np.ascontiguousarray(near), out,
    )  # fmt: skip
    return out


def limb_offsets(limb: Limb, poses: Poses) -> Floats:
    """(F, 3, 3) local offsets of the limb's joints at those times: rest or capture, plus translation channels.

    The first one is not needed by any fit and stays at rest."""
    offsets = np.repeat(limb.geometry.offsets[None], len(poses.times), axis=0)
    if limb.captured >= 0 or any(limb.part.moves):
        for j in (1, 2):
            a, b = limb.nodes[j - 1], limb.nodes[j]
            offsets[:, j] = rotate(inverse(poses.rot[:, a]), poses.pos[:, b] - poses.pos[:, a])
    return offsets


def _posed(limb: Limb, poses: Poses) -> tuple[Any, ...]:
    """What the kernels that read a posed limb want: places, rotations, parent, offsets, rest, constants."""
    nodes = list(limb.nodes)
    return (
        np.ascontiguousarray(poses.pos[:, nodes]), np.ascontiguousarray(poses.rot[:, nodes]),
        parent_turns(limb, poses), limb_offsets(limb, poses), tuple(limb.geometry.rests[0].tolist()),
        limb.geometry.constants,
    )  # fmt: skip


def limb_bends(limb: Limb, poses: Poses) -> Floats:
    """(2, F) bend about the hinge and angle out of its plane, radians."""
    out = np.empty((2, len(poses.times)))
    two_segment.bends(*_posed(limb, poses), out)
    return out


def guide_places(limb: Limb, poses: Poses, extra: Floats | None = None) -> Floats:
    """(F, 3) where the bend guide of a limb stands, fitted to the pose whichever system drives; `extra` (F,): metres
    beyond its sensible distance."""
    out = np.empty((len(poses.times), 3))
    two_segment.guides(*_posed(limb, poses), np.zeros(len(out)) if extra is None else extra, out)
    return out


def limb_length(limb: Limb) -> float:
    """Length of the limb's two segments at rest, metres."""
    return float(np.linalg.norm(limb.geometry.offsets[1:], axis=1).sum())


def guide_distance(limb: Limb, poses: Poses, guide: Floats) -> float:
    """Metres beyond its sensible distance at which a guide at `guide` (3,) stands off the line of aim, in the pose at
    the first time."""
    root, end = poses.pos[0, limb.nodes[0]], poses.pos[0, limb.nodes[2]]
    line = end - root
    off = guide - root
    aim = line / max(float(np.linalg.norm(line)), 1e-9)
    return float(np.linalg.norm(off - (off @ aim) * aim)) - two_segment.SENSIBLE * limb_length(limb)


def swivel_towards(limb: Limb, poses: Poses, guide: Floats) -> float:
    """Swivel (radians) that points the limb's bend at `guide` (3,) in the pose at the first time."""
    up = tuple(parent_turns(limb, poses)[0].tolist())
    offsets = limb_offsets(limb, poses)[0]
    swivel: float = two_segment.guide_swivel(
        tuple(poses.pos[0, limb.nodes[0]].tolist()), up, tuple(limb.geometry.rests[0].tolist()),
        tuple(offsets[1].tolist()), tuple(offsets[2].tolist()), limb.geometry.constants,
        tuple(poses.pos[0, limb.nodes[2]].tolist()), tuple(np.asarray(guide, dtype=float).tolist()),
    )  # fmt: skip
    return swivel


def fit_limb(program: Program, limb: Limb, poses: Poses, system: str, near: Floats | None = None) -> Fit:
    """Fits one system of a limb to a pose. Locked channels are held at zero, and the residual is measured by
    posing the limb again with what was found."""
    channels = system_channels(limb, system)
    start = program.sample(poses.times[:1], LEAVING, channels)[:, 0] if near is None else near
    values = fit_values(limb, poses, system, start)
    names = program.channel_names()
    gives: dict[str, float] = {}
    for k, channel in enumerate(channels):
        if int(channel) in limb.locked:
            worst = float(values[k][np.argmax(np.abs(values[k]))])
            if abs(worst) > 1e-9:
                gives[names[channel]] = worst
            values[k] = 0.0
    overrides: dict[int, float | Floats] = {int(c): values[k] for k, c in enumerate(channels)}
    overrides[limb.drive] = 1.0 if system == "ik" else 0.0
    if limb.captured >= 0:
        overrides[limb.captured] = 0.0
    again = program.evaluate(poses.times, overrides=overrides)
    nodes = list(limb.nodes)
    position = np.linalg.norm(again.pos[:, nodes] - poses.pos[:, nodes], axis=-1).max(axis=1)
    rotation = rotation_distance(again.rot[:, nodes], poses.rot[:, nodes]).max(axis=1)
    return Fit(channels, values, position, rotation, gives)
