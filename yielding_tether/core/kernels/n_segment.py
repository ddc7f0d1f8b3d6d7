"""Rows of limbs of three and more segments (see `systems.n_segment`): two rigid pieces, closed by the two-segment solve."""

from __future__ import annotations

import math

from .arrays import line3, line4
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
from .guide import turned_share
from .rows import kind
from .scalars import add, axis_turn, inlined, inner, kernel, norm, qconj, qmul, qrot, qunit, scale, sub
from .two_segment import solve_one, swivel_given

#: Integers of a row before the joints: joints, middle joint, node of what the limb hangs from, node of the end's control,
#: channels of swivel, carry, twist and sign, slot of the size, node of where the bend guide is carried (-1 nowhere), whether the turn along it is
#: shared, channel of how far it stretches (-1 not at all). Then for each joint: node, first Euler channel of its offset (-1 none),
#: first length channel, joint of the capture.
HEAD, EACH = 12, 4
#: Floats before the joints: constants (9), reach at rest, length at rest, rest of the first joint (4), rest of the last joint in what
#: is below (4). Then for each joint: offset (3), rest (4), signs of the rotation order (4), hinge (3), how much it curls (radians),
#: direction of its bone (3), its share of the turn along the limb.
FLOAT_HEAD, FLOAT_EACH = 19, 19
#: From two thirds of half a turn on what is shared of the turn along a limb fades, so that it is nothing where the shorter way round
#: changes sides; and where the end is turned against the limb (the cosine of half that turn, squared), where no turn along it is left.
FULL, AGAINST = 2.0 * math.pi / 3.0, 0.25


@inlined
def faded(angle, full):  # type: ignore[no-untyped-def]
    """By how much of it an angle counts that fades between `full` and half a turn, where it is nothing."""
    u = (abs(angle) - full) / (math.pi - full)
    by = (1.0 - u) * (1.0 - u) * (1.0 + 2.0 * u)
    return by if u > 0.0 else 1.0


@inner
def turn_along(below, end, rest, line):  # type: ignore[no-untyped-def]
    """Angle (radians) by which the end of a limb is turned about the line of aim from its rest in what is below."""
    aim = qrot(qconj(below), line)
    size = norm(aim)
    if size < 1e-9:
        return 0.0
    q = qmul(qmul(qconj(below), end), qconj(rest))
    along = (q[0] * aim[0] + q[1] * aim[1] + q[2] * aim[2]) / size
    angle = 2.0 * math.atan2(along if q[3] >= 0.0 else -along, abs(q[3]))
    u = (q[3] * q[3] + along * along) / AGAINST
    return angle * faded(angle, FULL) * (1.0 if u >= 1.0 else u * u * (3.0 - 2.0 * u))


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
    sharing = ints[i + U(10)]
    stretch = ints[i + U(11)]
    last_rest = row4(floats, f + U(15))
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
        # Beyond its length it is as straight as it gets, and does not curl the other way.
        reach = reach if reach < length else length
        shared = 0.0
        if sharing > 0:
            shared = turn_along(up, turn_at(work, target + b), last_rest, sub(end, root))
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
                if sharing > 0:
                    local = qmul(local, axis_turn(row3(floats, t + U(15)), shared * floats[t + U(18)]))
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
        longer = 1.0
        if stretch >= 0:
            # Out of the plane of its hinge it does not reach as far as its two pieces are long.
            one, two = norm(a), norm(p)
            lift = math.cos(constants[0] + values[carry + b])
            far = norm(sub(end, root)) / math.sqrt(one * one + two * two + 2.0 * one * two * lift)
            if far > 1.0:
                longer = far ** values[value_slot(stretch) + b]
                a = scale(a, longer)
                p = scale(p, longer)
        swung = shared * floats[f + U(FLOAT_HEAD + 18)]
        wrung = values[twist + b] + shared * floats[f + U(FLOAT_HEAD + 18) + U(FLOAT_EACH * middle)]
        if guide >= 0:
            n = node_slot(guide) + b
            # What the guide says by its share is not turned away from it.
            swung *= 1.0 - turned_share(turn_at(work, n))
            swung += swivel_given(
                root, up, first_rest, a, hinge, constants[1], end, place_at(work, n), turn_at(work, n)
            )
        upper, mid, mid_rot, place = solve_one(
            root, up, first_rest, a, p, hinge, lower_hinge, constants, end, swung + values[swivel + b], values[carry + b], wrung,
            values[sign + b],
        )  # fmt: skip
        put_at(work, node_slot(ints[i + U(HEAD)]) + b, root, upper)
        put_at(work, node_slot(ints[i + U(HEAD) + U(EACH * middle)]) + b, mid, mid_rot)
        put_at(work, node_slot(ints[i + U(HEAD) + U(EACH * (joints - 1))]) + b, place, turn_at(work, target + b))
        for j in range(1, joints - 1):
            if j != middle:
                p = scale((inner[j, 0], inner[j, 1], inner[j, 2]), longer)
                q = (inner[j, 3], inner[j, 4], inner[j, 5], inner[j, 6])
                base = upper if j < middle else mid_rot
                start = root if j < middle else mid
                put_at(
                    work, node_slot(ints[i + U(HEAD + EACH * j)]) + b, add(start, qrot(base, p)), qunit(qmul(base, q))
                )


CHAIN = kind(chain)


@kernel
def turns_along(below, end, rest, line, out):  # type: ignore[no-untyped-def]
    """`turn_along` (F,) of posed limbs: below, end (F, 4), rest (4,), line of aim (F, 3)."""
    for f in range(len(out)):
        out[f] = turn_along(line4(below, f), line4(end, f), (rest[0], rest[1], rest[2], rest[3]), line3(line, f))
