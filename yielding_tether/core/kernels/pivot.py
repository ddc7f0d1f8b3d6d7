"""Controls that turn about a point fixed in them, other than their own place.

A control at t with the turn R in its space stands, about a point c in it, at t + c − R·c: the point itself is where it is while
the control is not turned, at t + c, however R goes.
"""

from __future__ import annotations

from .block import U, _1, _2, node_slot, place_at, turn_at, value_slot
from .rows import kind
from .scalars import add, qrot, scale, sub

#: Integers of a row: node of the control, of its space, first channel of the point, slot of the size of its space (0: one).
INTS, FLOATS = 4, 0


def pivoted_controls(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Moves controls that were placed about themselves to where they stand about their points."""
    values, work = room.values, room.work
    for n in range(U(count)):
        i = U(first_i) + n * U(INTS)
        own = node_slot(ints[i])
        space = node_slot(ints[i + U(1)])
        point = value_slot(ints[i + U(2)])
        slot = value_slot(ints[i + U(3)])
        for b in range(U(size)):
            c = (values[point + b], values[point + _1 + b], values[point + _2 + b])
            c = scale(c, room.sizes[slot + b])
            off = sub(qrot(turn_at(work, space + b), c), qrot(turn_at(work, own + b), c))
            p = add(place_at(work, own + b), off)
            work[own + b] = p[0]
            work[own + _1 + b] = p[1]
            work[own + _2 + b] = p[2]


PIVOT = kind(pivoted_controls)
