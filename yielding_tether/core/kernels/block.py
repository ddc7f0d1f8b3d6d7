"""A block of times in the works: rows of numbers for all its times side by side.

The kernels work a stage at a time over a block, with the times innermost: numbers of neighbouring times lie side by
side, and a loop that reads few arrays and writes to one of its own is packed by the compiler: several times at once.
Every time is still worked by itself, operation by operation, so its bits do not depend on its neighbours. Indices are
unsigned: a signed one may mean "from the end", which costs a choice.
"""

from __future__ import annotations

import numpy as np

from .scalars import inlined, inner

#: Times in a block.
BLOCK = 64
U = np.uint64
#: Rows of a node: three of its place, four of its rotation.
NODE_ROWS = 7
_1, _2, _3, _4, _5, _6, _7 = (np.uint64(k * BLOCK) for k in range(1, 8))


@inlined
def node_slot(node):  # type: ignore[no-untyped-def]
    """Where the numbers of a node begin in `work`."""
    return U(node) * _7


@inlined
def wave_slot(channel):  # type: ignore[no-untyped-def]
    """Where the half-angle sines of a channel begin in `waves`; the cosines follow, then the next channel."""
    return U(channel) * _2


@inlined
def value_slot(channel):  # type: ignore[no-untyped-def]
    """Where the values of a channel begin in `values`."""
    return U(channel) * _1


@inlined
def place_at(rows, o):  # type: ignore[no-untyped-def]
    """The vector whose three rows begin at o."""
    return (rows[o], rows[o + _1], rows[o + _2])


@inlined
def turn_at(rows, o):  # type: ignore[no-untyped-def]
    """Rotation of the node whose numbers begin at o."""
    return (rows[o + _3], rows[o + _4], rows[o + _5], rows[o + _6])


@inlined
def put_at(rows, o, p, q):  # type: ignore[no-untyped-def]
    """Writes place and rotation of the node whose numbers begin at o."""
    rows[o] = p[0]
    rows[o + _1] = p[1]
    rows[o + _2] = p[2]
    rows[o + _3] = q[0]
    rows[o + _4] = q[1]
    rows[o + _5] = q[2]
    rows[o + _6] = q[3]


@inner
def copy_node(source, start, work, node, size):  # type: ignore[no-untyped-def]
    """Copies the seven rows that begin at `start` in `source` to a node."""
    for k in range(U(NODE_ROWS)):
        a = start + k * _1
        o = node + k * _1
        for b in range(U(size)):
            work[o + b] = source[a + b]


@inner
def copy_rows(source, start, into, at, count, size):  # type: ignore[no-untyped-def]
    """Copies `count` rows that begin at `start` in `source` to those that begin at `at` in `into`."""
    for k in range(U(count)):
        a = U(start) + k * _1
        o = U(at) + k * _1
        for b in range(U(size)):
            into[o + b] = source[a + b]


@inlined
def turned_by(waves, o, ex, ey, ez, ew):  # type: ignore[no-untyped-def]
    """Rotation of three Euler channels in a row, the first with its half-angle sine at o; the signs are those of the
    rotation order (`transforms.EULER_SIGNS`)."""
    sx, cx = waves[o], waves[o + _1]
    sy, cy = waves[o + _2], waves[o + _3]
    sz, cz = waves[o + _4], waves[o + _5]
    return (
        sx * cy * cz + ex * (cx * sy * sz),
        sy * cx * cz + ey * (cy * sx * sz),
        sz * cx * cy + ez * (cz * sx * sy),
        cx * cy * cz + ew * (sx * sy * sz),
    )


@inlined
def row3(array, n):  # type: ignore[no-untyped-def]
    """Three numbers in a row from n on."""
    return (array[n], array[n + U(1)], array[n + U(2)])


@inlined
def row4(array, n):  # type: ignore[no-untyped-def]
    """Four numbers in a row from n on."""
    return (array[n], array[n + U(1)], array[n + U(2)], array[n + U(3)])


@inner
def moving_offset(length, sample, slot, floats, f, room, size, at):  # type: ignore[no-untyped-def]
    """Fills the three rows of the room's `offsets` from `at` on with a joint's local offset: that of its capture (joint
    `sample`, -1 none) or that of its rest in `floats` at f, plus its three length channels (the first is `length`, -1
    none), times the size in `slot` (0: as it is)."""
    values, captures, offset = room.values, room.captures, room.offsets
    for k in range(U(3)):
        o = at + k * _1
        if sample >= 0:
            c = node_slot(sample) + k * _1
            for b in range(U(size)):
                offset[o + b] = captures[c + b]
        else:
            x = floats[f + k]
            for b in range(U(size)):
                offset[o + b] = x
        if length >= 0:
            v = value_slot(length) + k * _1
            for b in range(U(size)):
                offset[o + b] += values[v + b]
        if slot > 0:
            s = value_slot(slot)
            for b in range(U(size)):
                offset[o + b] *= room.sizes[s + b]
