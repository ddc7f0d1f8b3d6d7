"""Two systems of a part mixed: every joint turns along the shortest arc in the part's own parent space."""

from __future__ import annotations

from .block import U, moving_offset, node_slot, place_at, put_at, turn_at, value_slot
from .rows import kind
from .scalars import add, qconj, qmul, qrot, qunit, scale, slerp

#: Numbers of a row: integers node, above, what the part hangs from there, the joint in the one and in the other system,
#: channel of the share of the other, whether the place is mixed too (else it hangs from above by its offset), first
#: length channel, joint of the capture, slot of the size; floats offset (3).
INTS, FLOATS = 10, 3


def blended_joints(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places joints between two systems."""
    values, work = room.values, room.work
    for n in range(U(count)):
        i = U(first_i) + n * U(INTS)
        f = U(first_f) + n * U(FLOATS)
        own = node_slot(ints[i])
        above = node_slot(ints[i + U(1)])
        base = node_slot(ints[i + U(2)])
        one = node_slot(ints[i + U(3)])
        other = node_slot(ints[i + U(4)])
        share = value_slot(ints[i + U(5)])
        free = ints[i + U(6)] != 0
        moving_offset(ints[i + U(7)], ints[i + U(8)], ints[i + U(9)], floats, f, room, size, U(0))
        for b in range(U(size)):
            w = values[share + b]
            up = turn_at(work, base + b)
            back = qconj(up)
            q = slerp(qmul(back, turn_at(work, one + b)), qmul(back, turn_at(work, other + b)), w)
            if free:
                p = add(scale(place_at(work, one + b), 1.0 - w), scale(place_at(work, other + b), w))
            else:
                p = add(place_at(work, above + b), qrot(turn_at(work, above + b), place_at(room.offsets, b)))
            put_at(work, own + b, p, qunit(qmul(up, q)))


BLEND = kind(blended_joints)
