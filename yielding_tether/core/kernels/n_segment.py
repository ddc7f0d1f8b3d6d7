"""Rows of limbs of three and more segments (see `systems.n_segment`): two rigid pieces, closed by the two-segment solve."""

from __future__ import annotations

import math

from .arrays import line3, line4
from .block import (
    BLOCK,
    NODE_ROWS,
    U,
    _1,
    _2,
    _3,
    _4,
    _5,
    _7,
    copy_node,
    copy_rows,
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
from .scalars import add, axis_turn, forward_angle, inlined, inner, kernel, norm, qconj, qmul, qrot, qunit, scale, sub
from .two_segment import put_limb, solve_one, swivel_given

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


@inlined
def turn_along(below, end, rest, line):  # type: ignore[no-untyped-def]
    """Angle (radians) by which the end of a limb is turned about the line of aim from its rest in what is below. Without branches."""
    aim = qrot(qconj(below), line)
    size = norm(aim)
    far = size >= 1e-9
    q = qmul(qmul(qconj(below), end), qconj(rest))
    along = (q[0] * aim[0] + q[1] * aim[1] + q[2] * aim[2]) / (size if far else 1.0)
    angle = 2.0 * forward_angle(along if q[3] >= 0.0 else -along, abs(q[3]))
    u = (q[3] * q[3] + along * along) / AGAINST
    u = u if u < 1.0 else 1.0
    return angle * faded(angle, FULL) * u * u * (3.0 - 2.0 * u) if far else 0.0


#: Rows of what a limb of many segments keeps while it is placed: where it begins, the turn along it that is shared, by how much its
#: joints curl, where its middle joint is in its first piece and its end in its second, its swivel, its twist, how many times as long
#: it is. Once it is solved a node has room from `_FIRST` on.
_CURL, _FIRST, _SECOND, _SWUNG, _WRUNG, _LONGER = _4, _5, U(8 * BLOCK), U(11 * BLOCK), U(12 * BLOCK), U(13 * BLOCK)


@inner
def begin_piece(out, size):  # type: ignore[no-untyped-def]
    """Puts the first node of `out` where a piece begins."""
    for k in range(U(NODE_ROWS)):
        x = 1.0 if k == U(NODE_ROWS - 1) else 0.0
        for b in range(U(size)):
            out[k * _1 + b] = x


def chain(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places one limb of many segments: its joints in its two pieces, those by the two-segment solve, and then all of them."""
    values, waves, work, inp, out, offsets = room.values, room.waves, room.work, room.inp, room.out, room.offsets
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
    slot = value_slot(ints[i + U(8)])
    guide = ints[i + U(9)]
    sharing = 1.0 if ints[i + U(10)] > 0 else 0.0
    stretch = ints[i + U(11)]
    last_rest = row4(floats, f + U(15))
    hinge = row3(floats, f)
    lower_hinge = row3(floats, f + U(3))
    constants = (floats[f + U(7)], floats[f + U(8)])
    rest_reach = floats[f + U(9)]
    length = floats[f + U(10)]
    first_rest = row4(floats, f + U(11))
    by_first, by_middle = floats[f + U(FLOAT_HEAD + 18)], floats[f + U(FLOAT_HEAD + 18) + U(FLOAT_EACH * middle)]
    for j in range(joints):
        r = i + U(HEAD + EACH * j)
        moving_offset(
            ints[r + U(2)], ints[r + U(3)], ints[i + U(8)], floats, f + U(FLOAT_HEAD + FLOAT_EACH * j), room, size, U(j) * _3
        )  # fmt: skip
    for b in range(U(size)):
        up = turn_at(work, above + b)
        root = add(place_at(work, above + b), qrot(up, place_at(offsets, b)))
        line = sub(place_at(work, target + b), root)
        # How far it curls depends on the reach with the size taken off.
        reach = norm(line) / room.sizes[slot + b]
        # Beyond its length it is as straight as it gets, and does not curl the other way.
        reach = reach if reach < length else length
        shared = sharing * turn_along(up, turn_at(work, target + b), last_rest, line)
        inp[b] = root[0]
        inp[b + _1] = root[1]
        inp[b + _2] = root[2]
        inp[b + _3] = shared
        inp[b + _CURL] = (rest_reach - reach) / length
        inp[b + _LONGER] = 1.0
        inp[b + _SWUNG] = shared * by_first
        inp[b + _WRUNG] = values[twist + b] + shared * by_middle
    begin_piece(out, size)
    for j in range(1, joints):
        o = U(j) * _3
        if j == middle or j == joints - 1:
            ends = _FIRST if j == middle else _SECOND
            for b in range(U(size)):
                p = add(place_at(out, b), qrot(turn_at(out, b), place_at(offsets, o + b)))
                inp[b + ends] = p[0]
                inp[b + ends + _1] = p[1]
                inp[b + ends + _2] = p[2]
            begin_piece(out, size)
        else:
            t = f + U(FLOAT_HEAD + FLOAT_EACH * j)
            rest, curls, by = row4(floats, t + U(3)), floats[t + U(14)], floats[t + U(18)]
            bends, bone = row3(floats, t + U(11)), row3(floats, t + U(15))
            ex, ey, ez, ew = row4(floats, t + U(7))
            wave = wave_slot(ints[i + U(HEAD + EACH * j + 1)])
            for b in range(U(size)):
                q = turn_at(out, b)
                local = qmul(rest, axis_turn(bends, curls * inp[b + _CURL]))
                local = qmul(local, axis_turn(bone, by * inp[b + _3]))
                p = add(place_at(out, b), qrot(q, place_at(offsets, o + b)))
                put_at(out, b + _7, p, qunit(qmul(q, qmul(local, turned_by(waves, wave + b, ex, ey, ez, ew)))))
            copy_rows(out, _7, out, U(0), U(NODE_ROWS), size)
            copy_node(out, U(0), work, node_slot(ints[i + U(HEAD + EACH * j)]), size)
    if stretch >= 0:
        for b in range(U(size)):
            # Out of the plane of its hinge it does not reach as far as its two pieces are long.
            one, two = norm(place_at(inp, b + _FIRST)), norm(place_at(inp, b + _SECOND))
            lift = math.cos(constants[0] + values[carry + b])
            line = sub(place_at(work, target + b), place_at(inp, b))
            far = norm(line) / math.sqrt(one * one + two * two + 2.0 * one * two * lift)
            if far > 1.0:
                inp[b + _LONGER] = far ** values[value_slot(stretch) + b]
    if guide >= 0:
        for b in range(U(size)):
            n = node_slot(guide) + b
            # What the guide says by its share is not turned away from it.
            inp[b + _SWUNG] *= 1.0 - turned_share(turn_at(work, n))
            inp[b + _SWUNG] += swivel_given(
                place_at(inp, b), turn_at(work, above + b), first_rest, scale(place_at(inp, b + _FIRST), inp[b + _LONGER]), hinge,
                constants[1], place_at(work, target + b), place_at(work, n), turn_at(work, n),
            )  # fmt: skip
    for b in range(U(size)):
        root = place_at(inp, b)
        longer = inp[b + _LONGER]
        upper, mid, mid_rot, place = solve_one(
            root, turn_at(work, above + b), first_rest, scale(place_at(inp, b + _FIRST), longer),
            scale(place_at(inp, b + _SECOND), longer), hinge, lower_hinge, constants, place_at(work, target + b),
            inp[b + _SWUNG] + values[swivel + b], values[carry + b], inp[b + _WRUNG], values[sign + b],
        )  # fmt: skip
        put_limb(out, b, root, upper, mid, mid_rot, place)
    copy_node(out, U(0), work, node_slot(ints[i + U(HEAD)]), size)
    copy_node(out, _7, work, node_slot(ints[i + U(HEAD) + U(EACH * middle)]), size)
    for j in range(1, joints - 1):
        if j != middle:
            own = node_slot(ints[i + U(HEAD + EACH * j)])
            piece = U(0) if j < middle else _7
            for b in range(U(size)):
                base = turn_at(out, piece + b)
                p = add(place_at(out, piece + b), qrot(base, scale(place_at(work, own + b), inp[b + _LONGER])))
                put_at(inp, b + _FIRST, p, qunit(qmul(base, turn_at(work, own + b))))
            copy_node(inp, _FIRST, work, own, size)
    # The end is turned as its control, whether it reaches that or not.
    end = node_slot(ints[i + U(HEAD) + U(EACH * (joints - 1))])
    copy_rows(work, target + _3, out, _7 + _7 + _3, U(4), size)
    copy_node(out, _7 + _7, work, end, size)


CHAIN = kind(chain)


@kernel
def turns_along(below, end, rest, line, out):  # type: ignore[no-untyped-def]
    """`turn_along` (F,) of posed limbs: below, end (F, 4), rest (4,), line of aim (F, 3)."""
    for f in range(len(out)):
        out[f] = turn_along(line4(below, f), line4(end, f), (rest[0], rest[1], rest[2], rest[3]), line3(line, f))
