"""One-sided limits of place and speed, measured from evaluated joints and from nothing else."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .curves import ARRIVING, LEAVING
from .evaluation import Program
from .transforms import Floats, Ints, inverse, multiply, rotation_distance

#: One-sided first difference of fourth order on five points a step apart (B. Fornberg, 1988).
STENCIL = np.array([-25.0 / 12.0, 4.0, -3.0, 4.0 / 3.0, -0.25])
#: The widest step of the stencil, in frames.
STEP = 1.0 / 32.0


@dataclass(frozen=True)
class Limits:
    """One-sided limits at T times of N nodes; index 0 leaving, 1 arriving. `pos` (2, T, N, 3) metres, `rot`
    (2, T, N, 4), `velocity` (2, T, N, 3) metres a frame, `spin` (2, T, N, 3) radians a frame."""

    times: Floats
    pos: Floats
    rot: Floats
    velocity: Floats
    spin: Floats

    @property
    def pose_jump(self) -> Floats:
        """(T, N) metres."""
        result: Floats = np.linalg.norm(self.pos[0] - self.pos[1], axis=-1)
        return result

    @property
    def turn_jump(self) -> Floats:
        """(T, N) radians."""
        return rotation_distance(self.rot[0], self.rot[1])

    @property
    def speed_jump(self) -> Floats:
        """(T, N) metres a frame."""
        result: Floats = np.linalg.norm(self.velocity[0] - self.velocity[1], axis=-1)
        return result

    @property
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


def one_sided(program: Program, times: Floats, nodes: Ints) -> Limits:
    """Limits of place and speed of these nodes on both sides of each time (frames)."""
    times = np.asarray(times, dtype=np.float64)
    step = steps(program.key_times(), times)
    at, side = stencil(times, step)
    poses = program.evaluate(at, side)
    shape = (len(times), 2, 5, len(nodes))
    pos = poses.pos[:, nodes].reshape(*shape, 3)
    rot = poses.rot[:, nodes].reshape(*shape, 4)
    velocity = slopes_of(pos, step)
    # All rotations of a stencil in one hemisphere, or the difference would see a jump that is none.
    rot = np.where(np.sum(rot * rot[:, :, :1], axis=-1, keepdims=True) < 0.0, -rot, rot)
    spin = 2.0 * multiply(slopes_of(rot, step), inverse(rot[:, :, 0]))[..., :3]
    return Limits(
        times,
        np.moveaxis(pos[:, :, 0], 1, 0),
        np.moveaxis(rot[:, :, 0], 1, 0),
        np.moveaxis(velocity, 1, 0),
        np.moveaxis(spin, 1, 0),
    )


def speed_range(program: Program, nodes: Ints) -> tuple[float, float]:
    """Greatest speed of these nodes over the take: metres a frame and radians a frame, from frame to frame."""
    poses = program.evaluate(program.take.frames)
    if len(poses.times) < 2:
        return 0.0, 0.0
    moved = np.linalg.norm(np.diff(poses.pos[:, nodes], axis=0), axis=-1)
    turned = rotation_distance(poses.rot[1:, nodes], poses.rot[:-1, nodes])
    return float(moved.max()), float(turned.max())


def meter(program: Program, nodes: Ints, frames: Floats) -> tuple[Floats, Floats]:
    """Pose jump (metres) and speed jump (metres a frame) at each frame, the greatest of these nodes."""
    limits = one_sided(program, frames, nodes)
    # Before its first and after its last frame a take stands still: what begins or ends there is no jump.
    inside = (frames > program.take.first) & (frames < program.take.last)
    place = np.where(inside, limits.pose_jump.max(axis=1), 0.0)
    return place, np.where(inside, limits.speed_jump.max(axis=1), 0.0)
