"""One-sided limits of place and speed, measured from evaluated joints and from nothing else."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from .curves import ARRIVING, LEAVING
from .program import Program, pieces
from .transforms import Floats, Ints, inverse, multiply, rotation_distance

#: One-sided first difference of fourth order on five points a step apart (B. Fornberg, 1988).
STENCIL = np.array([-25.0 / 12.0, 4.0, -3.0, 4.0 / 3.0, -0.25])
#: The widest step of the stencil, in frames, and how often it is made finer by FINER until a speed converges.
STEP, FINER, ROUNDS = 1.0 / 64.0, 4.0, 4
#: A speed has converged where a finer step changes it by less than this share, and this much (metres or radians a frame).
CONVERGED, SETTLED = 0.02, 2e-6
#: Times whose limits are taken together: each asks for ten poses.
AT_ONCE = 512


@dataclass(frozen=True)
class Limits:
    """One-sided limits at T times of N nodes; index 0 leaving, 1 arriving. `pos` (2, T, N, 3) metres, `rot`
    (2, T, N, 4), `velocity` (2, T, N, 3) metres a frame, `spin` (2, T, N, 3) radians a frame; `converged` (T, N): whether
    the speeds are limits, and not only what the finest step gave. Before the first frame of a take nothing arrives, and
    after its last one nothing leaves: there the other side stands for both."""

    times: Floats
    pos: Floats
    rot: Floats
    velocity: Floats
    spin: Floats
    converged: np.ndarray

    @cached_property
    def pose_jump(self) -> Floats:
        """(T, N) metres."""
        result: Floats = np.linalg.norm(self.pos[0] - self.pos[1], axis=-1)
        return result

    @cached_property
    def turn_jump(self) -> Floats:
        """(T, N) radians."""
        return rotation_distance(self.rot[0], self.rot[1])

    @cached_property
    def speed_jump(self) -> Floats:
        """(T, N) metres a frame."""
        result: Floats = np.linalg.norm(self.velocity[0] - self.velocity[1], axis=-1)
        return result

    @cached_property
    def spin_jump(self) -> Floats:
        """(T, N) radians a frame."""
        result: Floats = np.linalg.norm(self.spin[0] - self.spin[1], axis=-1)
        return result


def steps(breaks: Floats, times: Floats) -> Floats:
    """(T,) stencil steps in frames that reach across none of the `breaks` (key times in order)."""
    if not len(breaks):
        return np.full(len(times), STEP)
    right = np.searchsorted(breaks, times, side="right")
    left = np.searchsorted(breaks, times, side="left") - 1
    after = np.where(right < len(breaks), breaks[np.minimum(right, len(breaks) - 1)] - times, np.inf)
    before = np.where(left >= 0, times - breaks[np.maximum(left, 0)], np.inf)
    return np.minimum(STEP, np.minimum(after, before) / 5.0)


def stencil(times: Floats, step: Floats) -> tuple[Floats, Ints]:
    """Times (2 * T * 5,) and sides of the stencils: per time five leaving, then five arriving backward."""
    k = np.arange(5.0)
    at = np.stack([times[:, None] + k * step[:, None], times[:, None] - k * step[:, None]], axis=1)
    side = np.empty(at.shape, dtype=np.int64)
    side[:, 0], side[:, 1] = LEAVING, ARRIVING
    return at.ravel(), side.ravel()


def slopes_of(samples: Floats, step: Floats) -> Floats:
    """Slopes per frame (T, 2, …) of samples (T, 2, 5, …) taken on a stencil."""
    shape = (len(step),) + (1,) * (samples.ndim - 2)
    d = np.tensordot(samples, STENCIL, axes=([2], [0])) / step.reshape(shape)
    d[:, 1] *= -1.0
    return d


def _speeds(program: Program, times: Floats, step: Floats, nodes: Ints) -> tuple[Floats, Floats, Floats, Floats]:
    """Places (T, 2, N, 3), rotations (T, 2, N, 4), velocities and spins (T, 2, N, 3) on both sides of each time."""
    at, side = stencil(times, step)
    shape = (len(times), 2, 5, len(nodes))
    pos, rot = (x.reshape(*shape, -1) for x in program.track(at, side, nodes))
    # All rotations of a stencil in one hemisphere, or the difference would see a jump that is none.
    rot = np.where(np.sum(rot * rot[:, :, :1], axis=-1, keepdims=True) < 0.0, -rot, rot)
    spin = 2.0 * multiply(slopes_of(rot, step), inverse(rot[:, :, 0]))[..., :3]
    return pos[:, :, 0], rot[:, :, 0], slopes_of(pos, step), spin


def one_sided(program: Program, times: Floats, nodes: Ints) -> Limits:
    """Limits of place and speed of these nodes on both sides of each time (frames).

    Where a speed differs between its sides, the step is made finer until both settle: near a straight limb a speed may
    change so fast that what a coarse step gives is no limit.
    """
    times = np.asarray(times, dtype=np.float64)
    if len(times) > AT_ONCE:
        parts = [one_sided(program, times[some], nodes) for some in pieces(len(times), AT_ONCE)]
        pos, rot, velocity, spin = (
            np.concatenate(x, axis=1) for x in zip(*((p.pos, p.rot, p.velocity, p.spin) for p in parts), strict=True)
        )
        return Limits(times, pos, rot, velocity, spin, np.concatenate([p.converged for p in parts]))
    step = steps(program.key_times(), times)
    pos, rot, velocity, spin = _speeds(program, times, step, nodes)
    converged = np.ones((len(times), len(nodes)), dtype=bool)
    jump = np.linalg.norm(velocity[:, 0] - velocity[:, 1], axis=-1) + np.linalg.norm(spin[:, 0] - spin[:, 1], axis=-1)
    open_ = np.flatnonzero((jump > SETTLED).any(axis=1))
    for _ in range(ROUNDS):
        if not len(open_):
            break
        step = step.copy()
        step[open_] /= FINER
        _, _, finer, finer_spin = _speeds(program, times[open_], step[open_], nodes)
        off = [
            (np.linalg.norm(new - old[open_], axis=-1), np.linalg.norm(new, axis=-1))
            for new, old in ((finer, velocity), (finer_spin, spin))
        ]
        settled = np.ones((len(open_), len(nodes)), dtype=bool)
        for change, size in off:
            settled &= (change <= np.maximum(SETTLED, CONVERGED * size)).all(axis=1)
        velocity[open_], spin[open_] = finer, finer_spin
        converged[open_] = settled
        open_ = open_[~settled.all(axis=1)]
    for edge, side, other in (
        (times <= program.take.first, ARRIVING, LEAVING),
        (times >= program.take.last, LEAVING, ARRIVING),
    ):
        for what in (velocity, spin):
            what[edge, side] = what[edge, other]
    begin = times <= program.take.first
    pos, rot = pos.copy(), rot.copy()
    pos[begin, ARRIVING], rot[begin, ARRIVING] = pos[begin, LEAVING], rot[begin, LEAVING]
    return Limits(
        times,
        np.moveaxis(pos, 1, 0),
        np.moveaxis(rot, 1, 0),
        np.moveaxis(velocity, 1, 0),
        np.moveaxis(spin, 1, 0),
        converged,
    )


def speed_range(program: Program, nodes: Ints) -> tuple[float, float]:
    """Greatest speed of these nodes over the take: metres a frame and radians a frame, from frame to frame."""
    pos, rot = program.track(program.take.frames, LEAVING, nodes)
    if len(pos) < 2:
        return 0.0, 0.0
    moved = np.linalg.norm(np.diff(pos, axis=0), axis=-1)
    turned = rotation_distance(rot[1:], rot[:-1])
    return float(moved.max()), float(turned.max())


def meter(program: Program, nodes: Ints, frames: Floats) -> tuple[Floats, Floats]:
    """Pose jump (metres) and speed jump (metres a frame) at each frame, the greatest of these nodes."""
    limits = one_sided(program, frames, nodes)
    return limits.pose_jump.max(axis=1), limits.speed_jump.max(axis=1)
