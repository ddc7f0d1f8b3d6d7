"""Rows of limbs of three and more segments (see `systems.n_segment`): two rigid pieces, closed by the two-segment solve."""

from __future__ import annotations

from .block import (
    U,
    _3,
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
from .scalars import add, axis_turn, norm, qmul, qrot, qunit
from .two_segment import solve_one, swivel_given

#: Integers of a row before the joints: joints, middle joint, node of what the limb hangs from, node of the end's control,
#: channels of swivel, carry, twist and sign, slot of the size, node of where the bend guide is carried (-1 nowhere). Then for each joint: node, first Euler channel of its offset (-1 none),
#: first length channel, joint of the capture.
HEAD, EACH = 10, 4
#: Floats before the joints: constants (9), reach at rest, length at rest, rest of the first joint (4). Then for each
#: joint: offset (3), rest (4), signs of the rotation order (4), hinge (3), how much it curls (radians).
FLOAT_HEAD, FLOAT_EACH = 15, 15


def chain(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places one limb of many segments."""
    values, waves, work = room.values, room.waves, room.work
    offsets, inner = room.offsets, room.inner
    i = U(first_i)
    f = U(first_f)
    joints = ints[i]
    middle = ints[i + U(1)]
    above = node_slot(ints[i + U(2)])
    target = node_slot(ints[i + U(3)])
    swivel = value_slot(ints[i + U(4)])
    carry = value_slot(ints[i + U(5)])
    twist = value_slot(ints[i + U(6)])
    sign = value_slot(ints[i + U(7)])
    slot = ints[i + U(8)]
    guide = ints[i + U(9)]
    hinge = row3(floats, f)
    lower_hinge = row3(floats, f + U(3))
    constants = (floats[f + U(7)], floats[f + U(8)])
    rest_reach = floats[f + U(9)]
    length = floats[f + U(10)]
    first_rest = row4(floats, f + U(11))
    for j in range(joints):
        r = i + U(HEAD + EACH * j)
        moving_offset(
            ints[r + U(2)], ints[r + U(3)], slot, floats, f + U(FLOAT_HEAD + FLOAT_EACH * j), room, size, U(j) * _3
        )  # fmt: skip
    for b in range(U(size)):
        up = turn_at(work, above + b)
        root = add(place_at(work, above + b), qrot(up, place_at(offsets, b)))
        end = place_at(work, target + b)
        # How far it curls depends on the reach with the size taken off.
        reach = norm((end[0] - root[0], end[1] - root[1], end[2] - root[2])) / room.sizes[value_slot(slot) + b]
        p = (0.0, 0.0, 0.0)
        q = (0.0, 0.0, 0.0, 1.0)
        a = p
        for j in range(1, joints):
            p = add(p, qrot(q, place_at(offsets, U(j) * _3 + b)))
            if j == middle:
                a = p
                p = (0.0, 0.0, 0.0)
                q = (0.0, 0.0, 0.0, 1.0)
            elif j < joints - 1:
                t = f + U(FLOAT_HEAD + FLOAT_EACH * j)
                curl = floats[t + U(14)] * (rest_reach - reach) / length
                local = qmul(row4(floats, t + U(3)), axis_turn(row3(floats, t + U(11)), curl))
                wave = wave_slot(ints[i + U(HEAD + EACH * j + 1)]) + b
                ex, ey, ez, ew = row4(floats, t + U(7))
                q = qunit(qmul(q, qmul(local, turned_by(waves, wave, ex, ey, ez, ew))))
            inner[j, 0] = p[0]
            inner[j, 1] = p[1]
            inner[j, 2] = p[2]
            inner[j, 3] = q[0]
            inner[j, 4] = q[1]
            inner[j, 5] = q[2]
            inner[j, 6] = q[3]
        swung = values[swivel + b]
        if guide >= 0:
            n = node_slot(guide) + b
            swung += swivel_given(
                root, up, first_rest, a, hinge, constants[1], end, place_at(work, n), turn_at(work, n)
            )
        upper, mid, mid_rot, place = solve_one(
            root, up, first_rest, a, p, hinge, lower_hinge, constants, end, swung, values[carry + b], values[twist + b],
            values[sign + b],
        )  # fmt: skip
        put_at(work, node_slot(ints[i + U(HEAD)]) + b, root, upper)
        put_at(work, node_slot(ints[i + U(HEAD) + U(EACH * middle)]) + b, mid, mid_rot)
        put_at(work, node_slot(ints[i + U(HEAD) + U(EACH * (joints - 1))]) + b, place, turn_at(work, target + b))
        for j in range(1, joints - 1):
            if j != middle:
                p = (inner[j, 0], inner[j, 1], inner[j, 2])
                q = (inner[j, 3], inner[j, 4], inner[j, 5], inner[j, 6])
                base = upper if j < middle else mid_rot
                start = root if j < middle else mid
                put_at(
                    work, node_slot(ints[i + U(HEAD + EACH * j)]) + b, add(start, qrot(base, p)), qunit(qmul(base, q))
                )


CHAIN = kind(chain)
