"""A foot that rolls: where a limb aims while its control stays flat, and the toe that stays flat meanwhile.

    roll < 0        the foot turns about the heel
    roll ≥ 0        about the ball, where the toe stays as it stands, up to an angle; from there on about the tip, toe and all
    aim             control · turn about the heel · about the ball · about the tip · bank · roll
    toe             ball angle taken off · lift · its own channels

Turns are about points of the sole as it stands: right-handed, about its normal (turns), the way forward (bank) and the way from
its right to its left (roll). The bank is about the edge on which it then stands, so the corner there stays where it is while
the foot rolls.
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
from .scalars import add, inlined, kernel, qmul, qrot, qunit, scale, sine_cosine, sub

#: Half the stretch of the roll (radians) over which the ball's stage goes over into that of the tip.
SOFT = 0.05235987755982988
#: Numbers of the row that aims: integers node that it writes, node of the control, channels of roll, bank and the turns about heel,
#: ball and tip, slot of the size; floats the sole (`SOLE`).
AIM_INTS = 8
#: Numbers of a sole: heel, ball, tip, points on its left and right edges, then its directions to the left, up and forward, all in
#: the joint of the foot, and the roll from which it turns about the tip.
SOLE = 25
#: Numbers of the toe's row: integers its node, that of the foot, channels of roll and lift, first Euler channel, first length channel,
#: joint of the capture, slot of the size; floats offset (3), rest (4), signs of the rotation order (4), direction to the
#: left (3), the roll from which the foot turns about the tip.
TOE_INTS, TOE_FLOATS = 8, 15


@inlined
def stages(roll, first):  # type: ignore[no-untyped-def]
    """Angles about heel, ball and tip of a roll; from `first` on it is about the tip, smoothly."""
    up = roll if roll > 0.0 else 0.0
    beyond = up - first
    soft = (beyond + SOFT) * (beyond + SOFT) / (4.0 * SOFT)
    tip = soft if beyond < SOFT else beyond
    tip = tip if beyond > -SOFT else 0.0
    return roll - up, up - tip, tip


@inlined
def about(point, axis, angle, p, q):  # type: ignore[no-untyped-def]
    """What is at (p, q), turned about an axis through a point."""
    s, c = sine_cosine(0.5 * angle)
    turn = (axis[0] * s, axis[1] * s, axis[2] * s, c)
    return add(point, qrot(turn, sub(p, point))), qmul(turn, q)


@inlined
def rolled(roll, bank, turns, points, ways, first):  # type: ignore[no-untyped-def]
    """Place and rotation of a foot in its control; `turns` about heel, ball and tip; `points` and `ways` of its sole."""
    heel, ball, tip, left_edge, right_edge = points
    left, up, forward = ways
    by_heel, by_ball, by_tip = stages(roll, first)
    # It stands on its heel or on its ball, never on both.
    back = by_heel < 0.0
    stands = (heel[0] if back else ball[0], heel[1] if back else ball[1], heel[2] if back else ball[2])
    p, q = about(stands, left, by_heel if back else by_ball, (0.0, 0.0, 0.0), (0.0, 0.0, 0.0, 1.0))
    p, q = about(tip, left, by_tip, p, q)
    # A bank to the right lifts the left edge.
    right = bank > 0.0
    edge = (
        right_edge[0] if right else left_edge[0], right_edge[1] if right else left_edge[1],
        right_edge[2] if right else left_edge[2],
    )  # fmt: skip
    p, q = about(edge, forward, bank, p, q)
    p, q = about(tip, up, turns[2], p, q)
    p, q = about(ball, up, turns[1], p, q)
    return about(heel, up, turns[0], p, q)


@inlined
def sole_at(sole, f):  # type: ignore[no-untyped-def]
    """Points, ways and set angle of a sole whose numbers begin at f."""
    points = (
        row3(sole, f), row3(sole, f + U(3)), row3(sole, f + U(6)), row3(sole, f + U(9)), row3(sole, f + U(12))
    )  # fmt: skip
    return points, (row3(sole, f + U(15)), row3(sole, f + U(18)), row3(sole, f + U(21))), sole[f + U(24)]


def aims(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places where limbs aim."""
    values, work, out = room.values, room.work, room.out
    for n in range(U(count)):
        i = U(first_i) + n * U(AIM_INTS)
        control = node_slot(ints[i + U(1)])
        roll, bank, heel = value_slot(ints[i + U(2)]), value_slot(ints[i + U(3)]), value_slot(ints[i + U(4)])
        ball, tip, slot = value_slot(ints[i + U(5)]), value_slot(ints[i + U(6)]), value_slot(ints[i + U(7)])
        points, ways, first = sole_at(floats, U(first_f) + n * U(SOLE))
        for b in range(U(size)):
            turns = (values[heel + b], values[ball + b], values[tip + b])
            p, q = rolled(values[roll + b], values[bank + b], turns, points, ways, first)
            r = turn_at(work, control + b)
            put_at(out, b, add(place_at(work, control + b), qrot(r, scale(p, room.sizes[slot + b]))), qunit(qmul(r, q)))
        copy_node(out, U(0), work, node_slot(ints[i]), size)


def toes(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places toes."""
    values, waves, work, out = room.values, room.waves, room.work, room.out
    for n in range(U(count)):
        i = U(first_i) + n * U(TOE_INTS)
        f = U(first_f) + n * U(TOE_FLOATS)
        above = node_slot(ints[i + U(1)])
        roll, lift = value_slot(ints[i + U(2)]), value_slot(ints[i + U(3)])
        wave = wave_slot(ints[i + U(4)])
        moving_offset(ints[i + U(5)], ints[i + U(6)], ints[i + U(7)], floats, f, room, size, U(0))
        rest = row4(floats, f + U(3))
        ex, ey, ez, ew = row4(floats, f + U(7))
        left, first = row3(floats, f + U(11)), floats[f + U(14)]
        for b in range(U(size)):
            _, ball, _ = stages(values[roll + b], first)
            s, c = sine_cosine(-0.5 * (ball + values[lift + b]))
            q = qmul(
                (left[0] * s, left[1] * s, left[2] * s, c), qmul(rest, turned_by(waves, wave + b, ex, ey, ez, ew))
            )  # fmt: skip
            r = turn_at(work, above + b)
            put_at(out, b, add(place_at(work, above + b), qrot(r, place_at(room.offsets, b))), qmul(r, q))
        copy_node(out, U(0), work, node_slot(ints[i]), size)


AIM, TOE = kind(aims), kind(toes)


@kernel
def feet(values, sole, pos, rot, balls):  # type: ignore[no-untyped-def]
    """Places pos (F, 3) and rotations rot (F, 4) of a foot in its control, and the angles (F,) about its ball, for values (5, F) of
    roll, bank and the turns about heel, ball and tip."""
    points, ways, first = sole_at(sole, U(0))
    for n in range(values.shape[1]):
        p, q = rolled(values[0, n], values[1, n], (values[2, n], values[3, n], values[4, n]), points, ways, first)
        for k in range(3):
            pos[n, k] = p[k]
        for k in range(4):
            rot[n, k] = q[k]
        _, balls[n], _ = stages(values[0, n], first)
