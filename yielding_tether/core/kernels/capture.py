"""Captured motion: sampled joints, interpolated with continuous speed and exact at the samples, and its adjustments.

A captured joint's rotation is that of its samples, then its adjustment; its offset is that of its samples plus its
length channels, which belong to the part.
"""

from __future__ import annotations

import math

from .block import (
    U,
    copy_node,
    moving_offset,
    node_slot,
    place_at,
    put_at,
    row4,
    turn_at,
    turned_by,
    wave_slot,
)
from .rows import kind
from .scalars import add, kernel, qmul, qrot, written

#: Numbers of a row: integers node, above, first channel of the turn's adjustment, first length channel, joint of the
#: capture, slot of the size; floats signs of the adjustment's rotation order (4).
INTS, FLOATS = 6, 4


def captured_joints(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places captured joints."""
    waves, captures, work, out = room.waves, room.captures, room.work, room.out
    for n in range(U(count)):
        i = U(first_i) + n * U(INTS)
        f = U(first_f) + n * U(FLOATS)
        own = node_slot(ints[i])
        above = node_slot(ints[i + U(1)])
        wave = wave_slot(ints[i + U(2)])
        sample = node_slot(ints[i + U(4)])
        moving_offset(ints[i + U(3)], ints[i + U(4)], ints[i + U(5)], floats, f, room, size, U(0))
        ex, ey, ez, ew = row4(floats, f)
        for b in range(U(size)):
            q = qmul(turn_at(captures, sample + b), turned_by(waves, wave + b, ex, ey, ez, ew))
            r = turn_at(work, above + b)
            d = qmul(r, q)
            p = add(place_at(work, above + b), qrot(r, place_at(room.offsets, b)))
            put_at(out, b, p, d)
        copy_node(out, U(0), work, own, size)


CAPTURE = kind(captured_joints)


@written
def _hermite(table, k, j, a, s, step_in, step_out, i0, i3):  # type: ignore[no-untyped-def]
    """Cubic Hermite between samples k and k + 1 of component a with slopes of central differences."""
    p0 = table[k, j, a]
    p1 = table[k + 1, j, a]
    d = p1 - p0
    m0 = (p1 - table[i0, j, a]) / step_in
    m1 = (table[i3, j, a] - p0) / step_out
    return p0 + s * (m0 + s * ((3.0 * d - 2.0 * m0 - m1) + s * (m0 + m1 - 2.0 * d)))


@kernel
def sample_capture(offsets, rotations, first, step, at, joints, out):  # type: ignore[no-untyped-def]
    """Local transforms of a capture at times.

    offsets (S, J, 3), rotations (S, J, 4): the samples, the first at frame `first`, then every `step` frames; at (F,);
    joints (K,): those wanted; out (7 K, F): seven rows a joint as of a node. Constant beyond both ends.
    """
    count = offsets.shape[0]
    for f in range(len(at)):
        x = (at[f] - first) / step
        if x <= 0.0 or count == 1:
            k, s = 0, 0.0
        elif x >= count - 1:
            k, s = count - 1, 0.0
        else:
            k = int(math.floor(x))
            s = x - k
        i0 = k - 1 if k > 0 else 0
        i3 = k + 2 if k + 2 < count else count - 1
        step_in = float(k + 1 - i0)
        step_out = float(i3 - k)
        for n in range(len(joints)):
            j = joints[n]
            o = 7 * n
            if s == 0.0:
                for a in range(3):
                    out[o + a, f] = offsets[k, j, a]
                for a in range(4):
                    out[o + 3 + a, f] = rotations[k, j, a]
                continue
            length = 0.0
            for a in range(3):
                out[o + a, f] = _hermite(offsets, k, j, a, s, step_in, step_out, i0, i3)
            for a in range(4):
                v = _hermite(rotations, k, j, a, s, step_in, step_out, i0, i3)
                out[o + 3 + a, f] = v
                length += v * v
            length = 1.0 / math.sqrt(length)
            for a in range(4):
                out[o + 3 + a, f] *= length
