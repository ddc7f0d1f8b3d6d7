"""Rows of joints that named values turn in stages, and their own channels on top (see `values`)."""

from __future__ import annotations

from .block import (
    U,
    _3,
    _4,
    _5,
    _6,
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
from .scalars import add, inner, qmul, qrot, qunit, sine_cosine

#: Integers of a row before its values: node, above, first Euler channel, first length channel (-1 none), joint of the capture
#: (-1 none), slot of the size, number of values; then for each value its channel and its number of stages. Floats: offset (3),
#: rest (4), signs of the rotation order (4); then for each stage of each value the value at the one before, one over how far it is
#: from there, and the way: its axis (3) and half of its angle.
INTS, FLOATS, STAGE = 7, 11, 6


@inner
def turn_further(out, values, v, low, per, x, y, z, half, size):  # type: ignore[no-untyped-def]
    """Turns the rotations in rows 3 to 6 of `out` as far as a stage goes: not at all before it begins, all of its way past its end."""
    for b in range(U(size)):
        share = (values[v + b] - low) * per
        share = 0.0 if share < 0.0 else share
        share = 1.0 if share > 1.0 else share
        s, c = sine_cosine(share * half)
        q = qmul((out[_3 + b], out[_4 + b], out[_5 + b], out[_6 + b]), (s * x, s * y, s * z, c))
        out[_3 + b] = q[0]
        out[_4 + b] = q[1]
        out[_5 + b] = q[2]
        out[_6 + b] = q[3]


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
        out[_3 + b] = rest[0]
        out[_4 + b] = rest[1]
        out[_5 + b] = rest[2]
        out[_6 + b] = rest[3]
    at = f + U(FLOATS)
    for k in range(U(ints[i + U(6)])):
        v = value_slot(ints[i + U(INTS) + U(2) * k])
        for _ in range(U(ints[i + U(INTS + 1) + U(2) * k])):
            x, y, z = row3(floats, at + U(2))
            turn_further(out, values, v, floats[at], floats[at + U(1)], x, y, z, floats[at + U(5)], size)
            at += U(STAGE)
    for b in range(U(size)):
        q = qunit(qmul(turn_at(out, b), turned_by(waves, wave + b, ex, ey, ez, ew)))
        r = turn_at(work, above + b)
        put_at(out, b, add(place_at(work, above + b), qrot(r, place_at(room.offsets, b))), qmul(r, q))
    copy_node(out, U(0), work, node_slot(ints[i]), size)


STAGED = kind(staged_joints)
