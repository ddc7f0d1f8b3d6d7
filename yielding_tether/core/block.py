"""A block of times in the works: rows of numbers for all its times side by side.

The kernels work a stage at a time over a block, with the times innermost: numbers of neighbouring times lie side by
side, so that the machine takes several at once. Every time is still worked by itself, operation by operation, so its
bits do not depend on its neighbours. Indices are unsigned: a signed one may mean "from the end", which costs a choice.
"""

from __future__ import annotations

import numpy as np

from .transforms import inlined

#: Times in a block.
BLOCK = 16
U = np.uint64
_1, _2, _3, _4, _5, _6, _7 = (np.uint64(k * BLOCK) for k in range(1, 8))
#: Rows of a node in `work`: three of its place, four of its rotation.
NODE_ROWS = 7


@inlined
def slot(node, b):  # type: ignore[no-untyped-def]
    """Where the numbers of a node at time b of the block begin in `work`."""
    return U(node) * _7 + U(b)


@inlined
def place_at(work, o):  # type: ignore[no-untyped-def]
    """Place of the node whose numbers begin at o."""
    return (work[o], work[o + _1], work[o + _2])


@inlined
def turn_at(work, o):  # type: ignore[no-untyped-def]
    """Rotation of the node whose numbers begin at o."""
    return (work[o + _3], work[o + _4], work[o + _5], work[o + _6])


@inlined
def put_at(work, o, p, q):  # type: ignore[no-untyped-def]
    """Writes place and rotation of the node whose numbers begin at o."""
    work[o] = p[0]
    work[o + _1] = p[1]
    work[o + _2] = p[2]
    work[o + _3] = q[0]
    work[o + _4] = q[1]
    work[o + _5] = q[2]
    work[o + _6] = q[3]


@inlined
def wave_slot(channel, b):  # type: ignore[no-untyped-def]
    """Where the half-angle sine of a channel at time b is in `waves`."""
    return U(channel) * _2 + U(b)


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
