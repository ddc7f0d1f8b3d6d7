"""Nodes of a body that has a size: its root, and the world as it is seen by what grows with it.

A size s about a point c is the transform T(c) · s · T(-c). The channels of the root hold c in the root at rest. Where keys
put the root, its control keeps its place and the body grows about the point in it; a captured motion grows as a whole, its
way included, about the point where the rest pose has it.
"""

from __future__ import annotations

from .block import U, _1, _2, node_slot, place_at, put_at, row3, row4, turn_at, value_slot
from .rows import kind
from .scalars import add, qrot, scale, sub

#: Numbers of a row: integers node, the one it is made of, slot of the size, first channel of the point, whether all grows;
#: floats the root at rest (3 + 4).
INTS, FLOATS = 5, 7


def sized_nodes(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places nodes where the size of their body puts them."""
    values, work = room.values, room.work
    for n in range(U(count)):
        i = U(first_i) + n * U(INTS)
        f = U(first_f) + n * U(FLOATS)
        own = node_slot(ints[i])
        source = node_slot(ints[i + U(1)])
        slot = value_slot(ints[i + U(2)])
        about = value_slot(ints[i + U(3)])
        whole = ints[i + U(4)] != 0
        rest = row3(floats, f)
        turned = row4(floats, f + U(3))
        for b in range(U(size)):
            s = room.sizes[slot + b]
            c = (values[about + b], values[about + _1 + b], values[about + _2 + b])
            p = place_at(work, source + b)
            q = turn_at(work, source + b)
            if whole:
                c = add(rest, qrot(turned, c))
                p = add(c, scale(sub(p, c), s))
            else:
                p = add(p, qrot(q, scale(c, 1.0 - s)))
            put_at(work, own + b, p, q)


SIZED = kind(sized_nodes)
