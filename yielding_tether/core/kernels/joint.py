"""Rows of joints turned in what they hang from: the plain ones, and those whose offsets move.

A joint's offset is that of its rest or of its capture, plus its length channels; its rotation is its rest, then its
Euler channels. Offsets belong to the part: whichever system drives it, they are the same.
"""

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
from .scalars import add, qmul, qrot, scale

#: Numbers of a row: integers node, above, first Euler channel, first length channel (-1 none), joint of the capture (-1
#: none), slot of the size; floats offset (3), rest (4), signs of the rotation order (4).
INTS, FLOATS = 6, 11


def joints(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places joints whose offsets do not move."""
    waves, work, out = room.waves, room.work, room.out
    for n in range(U(count)):
        i = U(first_i) + n * U(INTS)
        f = U(first_f) + n * U(FLOATS)
        own = node_slot(ints[i])
        above = node_slot(ints[i + U(1)])
        wave = wave_slot(ints[i + U(2)])
        offset = row3(floats, f)
        rest = row4(floats, f + U(3))
        ex, ey, ez, ew = row4(floats, f + U(7))
        for b in range(U(size)):
            q = qmul(rest, turned_by(waves, wave + b, ex, ey, ez, ew))
            r = turn_at(work, above + b)
            d = qmul(r, q)
            p = add(place_at(work, above + b), qrot(r, offset))
            put_at(out, b, p, d)
        copy_node(out, U(0), work, own, size)


def grown_joints(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places joints whose offsets do not move but for the size of their body."""
    waves, work, out, sizes = room.waves, room.work, room.out, room.sizes
    for n in range(U(count)):
        i = U(first_i) + n * U(INTS)
        f = U(first_f) + n * U(FLOATS)
        above = node_slot(ints[i + U(1)])
        wave = wave_slot(ints[i + U(2)])
        slot = value_slot(ints[i + U(5)])
        offset = row3(floats, f)
        rest = row4(floats, f + U(3))
        ex, ey, ez, ew = row4(floats, f + U(7))
        for b in range(U(size)):
            q = qmul(rest, turned_by(waves, wave + b, ex, ey, ez, ew))
            r = turn_at(work, above + b)
            d = qmul(r, q)
            p = add(place_at(work, above + b), qrot(r, scale(offset, sizes[slot + b])))
            put_at(out, b, p, d)
        copy_node(out, U(0), work, node_slot(ints[i]), size)


def moved_joints(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places joints whose offsets move."""
    waves, work, out = room.waves, room.work, room.out
    for n in range(U(count)):
        i = U(first_i) + n * U(INTS)
        f = U(first_f) + n * U(FLOATS)
        own = node_slot(ints[i])
        above = node_slot(ints[i + U(1)])
        wave = wave_slot(ints[i + U(2)])
        moving_offset(ints[i + U(3)], ints[i + U(4)], ints[i + U(5)], floats, f, room, size, U(0))
        rest = row4(floats, f + U(3))
        ex, ey, ez, ew = row4(floats, f + U(7))
        for b in range(U(size)):
            q = qmul(rest, turned_by(waves, wave + b, ex, ey, ez, ew))
            r = turn_at(work, above + b)
            d = qmul(r, q)
            p = add(place_at(work, above + b), qrot(r, place_at(room.offsets, b)))
            put_at(out, b, p, d)
        copy_node(out, U(0), work, own, size)


JOINT, JOINT_GROWN, JOINT_MOVED = kind(joints), kind(grown_joints), kind(moved_joints)
