"""The compiled heart of the evaluation: runs stages over frames, each frame by itself, one call for all.

The tables below hold what every joint, control and limb of a scene needs, row by row; a stage is a kind and a
run of rows. A new kind of part is a new table, a new branch in `run` and a file with its kernel.
"""

from __future__ import annotations

from typing import NamedTuple

from .curves import sample_row
from .limb import solve_limb
from .systems.fk import solve_joint
from .tethers import place_control
from .transforms import Floats, Ints, kernel

FK, CONTROL, LIMB = 0, 1, 2


class Joints(NamedTuple):
    """Rows of joints: channels (n, 6) tx ty tz rx ry rz or -1, rotation order, node above (-1 the world), own
    node, channel of the captured share (-1 none), joint of the capture (-1 none), whether the rest is a rotation
    at all, offsets (n, 3), rests (n, 4)."""

    channels: Ints
    order: Ints
    parent: Ints
    node: Ints
    captured: Ints
    sample: Ints
    turned: Ints
    offsets: Floats
    rests: Floats


class Controls(NamedTuple):
    """Rows of controls: channels (n, 6), rotation order, captured share, joint of the capture, nodes of space
    and control; anchors start[n]…start[n + 1] with their node (-1 the world), the control's place in them
    (reach) and the channels of their weights (position, rotation; -1 not released), own space last."""

    channels: Ints
    order: Ints
    captured: Ints
    sample: Ints
    space: Ints
    node: Ints
    start: Ints
    anchors: Ints
    weights: Ints
    reach_pos: Floats
    reach_rot: Floats


class Limbs(NamedTuple):
    """Rows of limbs: first of their three rows of joints, node above, node of the IK control, channels of the
    driver, of the captured share and of IK (n, 10), constants (n, 9)."""

    joint: Ints
    parent: Ints
    target: Ints
    drive: Ints
    captured: Ints
    ik: Ints
    constants: Floats


class Sampled(NamedTuple):
    """Where channel values come from: packed curves of the channels `keyed`, `fixed` (C,) values of all others,
    and `forced` (K, F) values put in place of those of the channels `over` (K,)."""

    starts: Ints
    cubics: Floats
    keyed: Ints
    fixed: Floats
    over: Ints
    forced: Floats


@kernel
def run(frames, at, side, stages, source, joints, controls, limbs, quats, shares, values, cap_off, cap_rot, pos, rot):  # type: ignore[no-untyped-def]  # fmt: skip
    """Fills pos (F, N, 3) and rot (F, N, 4) at the rows `frames`, of times at (F,) and sides side (F,).

    stages: (S, 3) kind, first row, number of rows, in an order in which each comes after what it reads; cap_off
    (F, J, 3), cap_rot (F, J, 4): captures at the same times. Room to work in: quats (K, 4), shares (2, K) for the
    means of up to K anchors, values (C, B) for the channels of a block of B times that stays in the cache.
    """
    width = values.shape[1]
    for c in range(values.shape[0]):
        for b in range(width):
            values[c, b] = source.fixed[c]
    for block in range(0, len(frames), width):
        size = min(width, len(frames) - block)
        for k in range(len(source.keyed)):
            sample_row(
                source.starts[k], source.starts[k + 1], source.cubics, at, side, frames, block, size, values,
                source.keyed[k],
            )  # fmt: skip
        for k in range(len(source.over)):
            for b in range(size):
                values[source.over[k], b] = source.forced[k, frames[block + b]]
        for b in range(size):
            f = frames[block + b]
            for s in range(len(stages)):
                kind = stages[s, 0]
                first = stages[s, 1]
                if kind == 0:
                    for n in range(first, first + stages[s, 2]):
                        solve_joint(f, n, values, b, joints, cap_off, cap_rot, pos, rot)
                elif kind == 1:
                    place_control(f, first, values, b, controls, quats, shares, cap_off, cap_rot, pos, rot)
                else:
                    solve_limb(f, first, values, b, limbs, joints, cap_off, cap_rot, pos, rot)
