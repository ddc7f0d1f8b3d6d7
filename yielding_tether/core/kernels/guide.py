"""Bend guides that follow something: where they are carried, and by how much a limb swivels towards them."""

from __future__ import annotations

import math

from .block import U, node_slot, place_at, put_at, row3, turn_at, value_slot
from .rows import kind
from .scalars import add, kernel, qrot, scale


@kernel
def share_turn(share):  # type: ignore[no-untyped-def]
    """A share (0 to 1) as a turn about z by so many radians: what a guide's space keeps it as."""
    return (0.0, 0.0, math.sin(0.5 * share), math.cos(0.5 * share))


@kernel
def turned_share(q):  # type: ignore[no-untyped-def]
    """The share that `share_turn` keeps as a turn."""
    return 2.0 * math.atan2(q[2], q[3])


def followed_guide(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places one guide: the mean of where what it follows carries it, with the share followed in all as its turn.

    Integers node of its space, number of what is followed, and for each its node, the channel of its weight and the slot of
    its size; floats the guide's place in each (3 each).
    """
    values, work, sizes = room.values, room.work, room.sizes
    i = U(first_i)
    f = U(first_f)
    space = node_slot(ints[i])
    for b in range(U(size)):
        total = 0.0
        p = (0.0, 0.0, 0.0)
        for k in range(ints[i + U(1)]):
            each = i + U(2 + 3 * k)
            w = values[value_slot(ints[each + U(1)]) + b]
            if w > 0.0:
                above = node_slot(ints[each]) + b
                reach = scale(row3(floats, f + U(3 * k)), sizes[value_slot(ints[each + U(2)]) + b])
                p = add(p, scale(add(place_at(work, above), qrot(turn_at(work, above), reach)), w))
                total += w
        if total > 0.0:
            p = scale(p, 1.0 / total)
        put_at(work, space + b, p, share_turn(total if total < 1.0 else 1.0))


GUIDE = kind(followed_guide)
