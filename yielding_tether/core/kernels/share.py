"""Rows of joints that take a share of another joint's twist, and are posed on top of it.

A helper joint in a segment turns about the segment by `share` of the twist that another joint has about it, so that a skin
does not wring. The twist is that of the swing and twist decomposition of the other joint's turn from its rest: twice the
angle of the quaternion's part along the axis, within half a turn.
"""

from __future__ import annotations

from .block import U, copy_node, moving_offset, node_slot, place_at, put_at, row3, row4, turn_at, turned_by, wave_slot
from .rows import kind
from .scalars import add, forward_angle, qconj, qmul, qrot, sine_cosine

#: Numbers of a row: integers node, above, first Euler channel, first length channel (-1 none), joint of the capture (-1
#: none), the joint whose twist is shared, what that hangs from, slot of the size; floats offset (3), rest (4), signs of the rotation order (4),
#: rest of the other joint (4), the axis in the rest of the other joint (3), in that of this one (3), the share.
INTS, FLOATS = 8, 22


def shared_joints(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places joints that take a share of a twist."""
    waves, work, out = room.waves, room.work, room.out
    for n in range(U(count)):
        i = U(first_i) + n * U(INTS)
        f = U(first_f) + n * U(FLOATS)
        own = node_slot(ints[i])
        above = node_slot(ints[i + U(1)])
        wave = wave_slot(ints[i + U(2)])
        moving_offset(ints[i + U(3)], ints[i + U(4)], ints[i + U(7)], floats, f, room, size, U(0))
        other = node_slot(ints[i + U(5)])
        base = node_slot(ints[i + U(6)])
        rest = row4(floats, f + U(3))
        ex, ey, ez, ew = row4(floats, f + U(7))
        still = row4(floats, f + U(11))
        axis, onto = row3(floats, f + U(15)), row3(floats, f + U(18))
        share = floats[f + U(21)]
        for b in range(U(size)):
            q = qmul(qconj(still), qmul(qconj(turn_at(work, base + b)), turn_at(work, other + b)))
            along = q[0] * axis[0] + q[1] * axis[1] + q[2] * axis[2]
            s, c = sine_cosine(share * forward_angle(along if q[3] >= 0.0 else -along, abs(q[3])))
            q = (s * onto[0], s * onto[1], s * onto[2], c)
            q = qmul(qmul(rest, q), turned_by(waves, wave + b, ex, ey, ez, ew))
            r = turn_at(work, above + b)
            put_at(out, b, add(place_at(work, above + b), qrot(r, place_at(room.offsets, b))), qmul(r, q))
        copy_node(out, U(0), work, own, size)


SHARE = kind(shared_joints)
