"""Rows of joints that named values turn in stages, and their own channels on top (see `values`)."""

from __future__ import annotations

from .block import (
    U,
    copy_node,
    moving_offset,
    node_slot,
    place_at,
    put_at,
    row3,
    row4,
    turn_at,
    turned_by,
    value_slot,
    wave_slot,
)
from .rows import kind
from .scalars import add, qmul, qrot, qunit, sine_cosine

#: Integers of a row before its values: node, above, first Euler channel, first length channel (-1 none), joint of the capture
#: (-1 none), slot of the size, number of values; then for each value its channel and its number of stages. Floats: offset (3),
#: rest (4), signs of the rotation order (4); then for each stage of each value where it is, the turn at the one before (4), and
#: the way from there: its axis (3) and half of its angle.
INTS, FLOATS, STAGE = 7, 11, 9


def staged_joints(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places one joint."""
    values, waves, work, out = room.values, room.waves, room.work, room.out
    i = U(first_i)
    f = U(first_f)
    above = node_slot(ints[i + U(1)])
    wave = wave_slot(ints[i + U(2)])
    moving_offset(ints[i + U(3)], ints[i + U(4)], ints[i + U(5)], floats, f, room, size, U(0))
    rest = row4(floats, f + U(3))
    ex, ey, ez, ew = row4(floats, f + U(7))
    for b in range(U(size)):
        q = rest
        at = f + U(FLOATS)
        for k in range(U(ints[i + U(6)])):
            v = values[value_slot(ints[i + U(INTS) + U(2) * k]) + b]
            stages = U(ints[i + U(INTS + 1) + U(2) * k])
            low = 0.0
            n = U(0)
            while n + U(1) < stages and v > floats[at + U(STAGE) * n]:
                low = floats[at + U(STAGE) * n]
                n += U(1)
            mark = at + U(STAGE) * n
            share = (v - low) / (floats[mark] - low)
            share = 0.0 if share < 0.0 else share if share < 1.0 else 1.0
            s, c = sine_cosine(share * floats[mark + U(8)])
            x, y, z = row3(floats, mark + U(5))
            q = qmul(q, qmul(row4(floats, mark + U(1)), (s * x, s * y, s * z, c)))
            at += U(STAGE) * stages
        q = qunit(qmul(q, turned_by(waves, wave + b, ex, ey, ez, ew)))
        r = turn_at(work, above + b)
        put_at(out, b, add(place_at(work, above + b), qrot(r, place_at(room.offsets, b))), qmul(r, q))
    copy_node(out, U(0), work, node_slot(ints[i]), size)


STAGED = kind(staged_joints)
