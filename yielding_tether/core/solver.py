"""The compiled heart of the evaluation: runs stages over blocks of frames, each frame by itself, one call for all.

The tables below hold what every joint, control and limb of a scene needs, row by row; a stage is a kind and a
run of rows. A new kind of part is a new table, a new branch in `run` and a file with its kernel.
"""

from __future__ import annotations

from typing import NamedTuple

from .block import BLOCK, U, place_at, slot, turn_at, wave_slot
from .curves import sample_row
from .limb import solve_limb
from .systems.fk import solve_joint
from .tethers import place_control
from .transforms import Floats, Ints, inlined, kernel, sine_cosine

FK, CONTROL, LIMB = 0, 1, 2


class Joints(NamedTuple):
    """Rows of joints: channels (n, 6) tx ty tz (or -1) rx ry rz (in a row), signs (n, 4) of the rotation order, node
    above, own node, channel of the captured share (-1 none), joint of the capture (-1 none), offsets (n, 3), rests
    (n, 4). The node after the last is the world, here and in the other tables."""

    channels: Ints
    signs: Floats
    parent: Ints
    node: Ints
    captured: Ints
    sample: Ints
    offsets: Floats
    rests: Floats


class Controls(NamedTuple):
    """Rows of controls: channels (n, 6), signs (n, 4) of the rotation order, captured share, joint of the capture,
    nodes of space and control; anchors start[n]…start[n + 1] with their node, the control's place in them (reach)
    and the channels of their weights (position, rotation; -1 not released), own space last."""

    channels: Ints
    signs: Floats
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
    driver, of the captured share and of IK (n, 10), constants (n, 9), whether its offsets never move and, if so, its
    shape (n, 18)."""

    joint: Ints
    parent: Ints
    target: Ints
    drive: Ints
    captured: Ints
    ik: Ints
    constants: Floats
    rigid: Ints
    shapes: Floats


class Sampled(NamedTuple):
    """Where channel values come from: packed curves of the channels `keyed`, and `forced` (K, F) values put in place
    of those of the channels `over` (K,)."""

    starts: Ints
    cubics: Floats
    keyed: Ints
    over: Ints
    forced: Floats


class Room(NamedTuple):
    """Room for one block of BLOCK times: `values` (C, BLOCK) of all channels; `waves` (C * 2 * BLOCK,) sine and cosine
    of half of each that is an Euler angle; `work` ((N + 1) * 7 * BLOCK,) place and rotation of all nodes and, last, of
    the world; `quats` (K, 4) and `shares` (2, K) for the means of up to K anchors."""

    values: Floats
    waves: Floats
    work: Floats
    quats: Floats
    shares: Floats


@kernel
def halve(values, turning, size, waves):  # type: ignore[no-untyped-def]
    """Fills waves with sine and cosine of half of values[turning, 0:size]."""
    for i in range(len(turning)):
        c = U(turning[i])
        first = wave_slot(c, 0)
        for b in range(U(size)):
            s, k = sine_cosine(0.5 * values[c, b])
            waves[first + b] = s
            waves[first + U(BLOCK) + b] = k


@inlined
def copy_out(frames, start, size, work, pos, rot):  # type: ignore[no-untyped-def]
    """Hands a block over: pos (F, N, 3) and rot (F, N, 4) at its frames."""
    for b in range(size):
        f = U(frames[start + b])
        for n in range(U(pos.shape[1])):
            o = slot(n, b)
            p = place_at(work, o)
            q = turn_at(work, o)
            pos[f, n, U(0)] = p[0]
            pos[f, n, U(1)] = p[1]
            pos[f, n, U(2)] = p[2]
            rot[f, n, U(0)] = q[0]
            rot[f, n, U(1)] = q[1]
            rot[f, n, U(2)] = q[2]
            rot[f, n, U(3)] = q[3]


@kernel
def run(spans, frames, stages, at, side, source, turning, joints, controls, limbs, room, cap_off, cap_rot, pos, rot):  # type: ignore[no-untyped-def]  # fmt: skip
    """Fills pos (F, N, 3) and rot (F, N, 4) at the times at (F,), sides side (F,).

    spans: (G, 4) groups of times with one order of stages: first and end in frames (F,), which holds rows of times,
    first and end in stages (S, 3): kind, first row, number of rows, in an order in which each comes after what it
    reads; turning: the Euler angles among the channels that are sampled; room: with all other channels filled in;
    cap_off (F, J, 3), cap_rot (F, J, 4): captures at the same times.
    """
    values = room.values
    for g in range(len(spans)):
        for block in range(spans[g, 0], spans[g, 1], BLOCK):
            size = min(BLOCK, spans[g, 1] - block)
            for k in range(len(source.keyed)):
                sample_row(
                    source.starts[k], source.starts[k + 1], source.cubics, at, side, frames, block, size, values,
                    source.keyed[k],
                )  # fmt: skip
            for k in range(len(source.over)):
                for b in range(size):
                    values[source.over[k], b] = source.forced[k, frames[block + b]]
            halve(values, turning, size, room.waves)
            # A stage at a time over the block: what its rows say is read once, and its times wait for no other.
            for s in range(spans[g, 2], spans[g, 3]):
                kind = stages[s, 0]
                first = stages[s, 1]
                if kind == 0:
                    for n in range(first, first + stages[s, 2]):
                        solve_joint(n, frames, block, size, room, joints, cap_off, cap_rot)
                elif kind == 1:
                    for b in range(size):
                        place_control(first, b, frames[block + b], room, controls, cap_off, cap_rot)
                else:
                    for b in range(size):
                        solve_limb(first, b, frames[block + b], room, limbs, joints, cap_off, cap_rot)
            copy_out(frames, block, size, room.work, pos, rot)
