"""Controls that can follow something: where their space is, from what they are tethered to, and they within it; and joints
whose turns do.

A control whose space hangs from one thing alone is a plain row. Of several anchors, weights above one in sum are
normalised, what is missing goes to the own space, and rotations meet in the geodesic mean whatever their number.
"""

from __future__ import annotations

from .block import (
    U,
    _1,
    _2,
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
from .rows import kind
from .scalars import add, dot, inlined, inner, mean_rotation, part_way, qmul, qrot, qunit, scale, turned_round

#: Numbers of a plain row: integers node of the space, of the control, of what is followed, first channel of the place
#: (-1: it only turns), first Euler channel; floats the control's rest place in what is followed (3 + 4), signs of the rotation order (4).
INTS, FLOATS = 5, 11
#: The least that a size may be between its keys.
LEAST = 1e-3


def plain_controls(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places controls that follow one thing in full, and their spaces."""
    values, waves, work, out = room.values, room.waves, room.work, room.out
    for n in range(U(count)):
        i = U(first_i) + n * U(INTS)
        f = U(first_f) + n * U(FLOATS)
        space = node_slot(ints[i])
        own = node_slot(ints[i + U(1)])
        above = node_slot(ints[i + U(2)])
        moves = ints[i + U(3)] >= 0
        place = value_slot(ints[i + U(3)] if moves else U(0))
        wave = wave_slot(ints[i + U(4)])
        reach = row3(floats, f)
        turn = row4(floats, f + U(3))
        ex, ey, ez, ew = row4(floats, f + U(7))
        for b in range(U(size)):
            r = turn_at(work, above + b)
            p = add(place_at(work, above + b), qrot(r, reach))
            q = qmul(r, turn)
            t = add(p, qrot(q, (values[place + b], values[place + _1 + b], values[place + _2 + b])))
            d = qunit(qmul(q, turned_by(waves, wave + b, ex, ey, ez, ew)))
            put_at(out, b, p, q)
            put_at(out, b + _7, t, d)
        if not moves:
            # What only turns stays where its space is.
            copy_rows(out, U(0), out, _7, U(3), size)
        copy_node(out, U(0), work, space, size)
        copy_node(out, _7, work, own, size)


def grown_controls(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places controls that follow one thing in full which has a size, and their spaces: reach and place grow with it.

    Integers as of a plain row, then the slots of the size of what is followed and of the space.
    """
    values, waves, work, out = room.values, room.waves, room.work, room.out
    sizes = room.sizes
    for n in range(U(count)):
        i = U(first_i) + n * U(INTS + 2)
        f = U(first_f) + n * U(FLOATS)
        space = node_slot(ints[i])
        own = node_slot(ints[i + U(1)])
        above = node_slot(ints[i + U(2)])
        moves = ints[i + U(3)] >= 0
        place = value_slot(ints[i + U(3)] if moves else U(0))
        wave = wave_slot(ints[i + U(4)])
        held = value_slot(ints[i + U(5)])
        grown = value_slot(ints[i + U(6)])
        reach = row3(floats, f)
        turn = row4(floats, f + U(3))
        ex, ey, ez, ew = row4(floats, f + U(7))
        for b in range(U(size)):
            r = turn_at(work, above + b)
            s = sizes[held + b]
            p = add(place_at(work, above + b), qrot(r, scale(reach, s)))
            q = qmul(r, turn)
            t = add(p, qrot(q, scale((values[place + b], values[place + _1 + b], values[place + _2 + b]), s)))
            d = qunit(qmul(q, turned_by(waves, wave + b, ex, ey, ez, ew)))
            put_at(out, b, p, q)
            put_at(out, b + _7, t, d)
        copy_rows(sizes, held, sizes, grown, U(1), size)
        if not moves:
            # What only turns stays where its space is.
            copy_rows(out, U(0), out, _7, U(3), size)
        copy_node(out, U(0), work, space, size)
        copy_node(out, _7, work, own, size)


@inlined
def within(x):  # type: ignore[no-untyped-def]
    """A weight as it counts where there is no other."""
    x = x if x > 0.0 else 0.0
    return x if x < 1.0 else 1.0


@inner
def shared_between_two(i, f, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """`mixed_control` between one thing that is followed and the own space, the shorter way round: written without branches."""
    values, waves, work, out, sizes = room.values, room.waves, room.work, room.out, room.sizes
    place, wave = value_slot(ints[i + U(3)]), wave_slot(ints[i + U(4)])
    ex, ey, ez, ew = row4(floats, f + U(7))
    table = i + U(9)
    other, own = node_slot(ints[table]), node_slot(ints[table + U(6)])
    moves, turns = ints[table + U(1)], ints[table + U(2)]
    by_place, by_turn = value_slot(moves if moves >= 0 else 0), value_slot(turns if turns >= 0 else 0)
    much, more = 1.0 if moves >= 0 else 0.0, 1.0 if turns >= 0 else 0.0
    held, base = value_slot(ints[table + U(3)]), value_slot(ints[table + U(9)])
    takes = 1.0 if ints[table + U(4)] != 0 else 0.0
    kept = 1.0 if ints[table + U(10)] != 0 else 0.0
    grows = 1.0 if ints[i + U(6)] > 0 else 0.0
    reach, turn = row3(floats, f + U(11)), row4(floats, f + U(14))
    own_reach, own_turn = row3(floats, f + U(18)), row4(floats, f + U(21))
    for b in range(U(size)):
        w = much * within(values[by_place + b])
        s, t = sizes[held + b], sizes[base + b]
        r, q = turn_at(work, other + b), turn_at(work, own + b)
        one = add(place_at(work, other + b), qrot(r, scale(reach, s)))
        two = add(place_at(work, own + b), qrot(q, scale(own_reach, t)))
        # What does not count may not be there.
        p = (
            (one[0] * w if w > 0.0 else 0.0) + (two[0] * (1.0 - w) if w < 1.0 else 0.0),
            (one[1] * w if w > 0.0 else 0.0) + (two[1] * (1.0 - w) if w < 1.0 else 0.0),
            (one[2] * w if w > 0.0 else 0.0) + (two[2] * (1.0 - w) if w < 1.0 else 0.0),
        )
        mean = w * s + (1.0 - w) * t
        out[b + _7 + _7] = mean
        out[b + _7 + _7 + _1] = w * (1.0 + takes * (s - 1.0)) + (1.0 - w) * (1.0 + kept * (t - 1.0))
        d = more * within(values[by_turn + b])
        a, c = qmul(q, own_turn), qmul(r, turn)
        q = part_way(a, c, d)
        q = qunit(
            (q[0] if d > 0.0 else a[0], q[1] if d > 0.0 else a[1], q[2] if d > 0.0 else a[2], q[3] if d > 0.0 else a[3])
        )
        put_at(out, b, p, q)
        moved = scale((values[place + b], values[place + _1 + b], values[place + _2 + b]), 1.0 + grows * (mean - 1.0))
        put_at(out, b + _7, add(p, qrot(q, moved)), qunit(qmul(q, turned_by(waves, wave + b, ex, ey, ez, ew))))
    copy_node(out, U(0), work, node_slot(ints[i]), size)
    copy_node(out, _7, work, node_slot(ints[i + U(1)]), size)
    if ints[i + U(6)] > 0:
        copy_rows(out, _7 + _7, sizes, value_slot(ints[i + U(6)]), U(1), size)
    if ints[i + U(8)] >= 0:
        body, keyed = value_slot(ints[i + U(7)]), value_slot(ints[i + U(8)])
        for b in range(U(size)):
            sizes[body + b] = max(out[b + _7 + _7 + _1] * values[keyed + b], LEAST)


def mixed_control(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places one control that follows several things, and its space.

    Integers as of a plain row (what is followed is not read), then the number of anchors, the slot of the space's size,
    that of the control's own and the channel of that (-1 none), and for each anchor its node, the channels of its weights
    (place, rotation; -1 not released), the slot of its size, whether the control takes it on and the first channel of the way round
    (-1 none), own space last; floats as of a plain row, the places in the anchors (7 each) at the end. Reach and place are those
    at size one: they grow with what is followed.
    """
    values, waves, work, quats, shares = room.values, room.waves, room.work, room.quats, room.shares
    sizes = room.sizes
    i = U(first_i)
    f = U(first_f)
    space = node_slot(ints[i])
    own = node_slot(ints[i + U(1)])
    place = value_slot(ints[i + U(3)])
    wave = wave_slot(ints[i + U(4)])
    ex, ey, ez, ew = row4(floats, f + U(7))
    anchors = ints[i + U(5)]
    grown = value_slot(ints[i + U(6)])
    body = value_slot(ints[i + U(7)])
    own_size = ints[i + U(8)]
    table = i + U(9)
    if anchors == 2 and ints[table + U(5)] < 0 and ints[table + U(11)] < 0:
        shared_between_two(i, f, size, ints, floats, room)
        return
    for b in range(U(size)):
        for what in range(2):
            total = 0.0
            for k in range(anchors - 1):
                c = ints[table + U(6 * k + 1 + what)]
                w = values[value_slot(c) + b] if c >= 0 else 0.0
                w = w if w > 0.0 else 0.0
                shares[what, k] = w
                total += w
            if total > 1.0:
                for k in range(anchors - 1):
                    shares[what, k] /= total
                total = 1.0
            shares[what, anchors - 1] = 1.0 - total
        p = (0.0, 0.0, 0.0)
        mean = 0.0
        taken = 0.0
        way = (0.0, 0.0, 0.0)
        # A number of the same kind as that of the anchors: what is called with it is compiled once.
        turns = anchors - anchors
        for k in range(anchors):
            wp = shares[0, k]
            wr = shares[1, k]
            if wp == 0.0 and wr == 0.0:
                continue
            above = node_slot(ints[table + U(6 * k)]) + b
            reach = f + U(11 + 7 * k)
            r = turn_at(work, above)
            if wp != 0.0:
                s = sizes[value_slot(ints[table + U(6 * k + 3)]) + b]
                o = add(place_at(work, above), qrot(r, scale(row3(floats, reach), s)))
                p = add(p, scale(o, wp))
                mean += wp * s
                taken += wp * s if ints[table + U(6 * k + 4)] != 0 else wp
            if wr != 0.0:
                q = qmul(r, row4(floats, reach + U(3)))
                quats[turns, 0] = q[0]
                quats[turns, 1] = q[1]
                quats[turns, 2] = q[2]
                quats[turns, 3] = q[3]
                shares[1, turns] = wr
                c = ints[table + U(6 * k + 5)]
                if c >= 0:
                    o = value_slot(c) + b
                    way = add(way, scale((values[o], values[o + _1], values[o + _2]), 1.0 if turns > 0 else -1.0))
                turns += 1
        q = (quats[0, 0], quats[0, 1], quats[0, 2], quats[0, 3])
        if turns == 2 and dot(way, way) > 0.0:
            q = turned_round(quats, shares[1, 1], way)
        elif turns > 1:
            q = qunit(mean_rotation(quats, shares[1], turns))
        put_at(work, space + b, p, q)
        if ints[i + U(6)] > 0:
            sizes[grown + b] = mean
        if own_size >= 0:
            # Between its keys a size may swing below what can be keyed, but never to nothing.
            sizes[body + b] = max(taken * values[value_slot(own_size) + b], LEAST)
        moved = (values[place + b], values[place + _1 + b], values[place + _2 + b])
        if ints[i + U(6)] > 0:
            moved = scale(moved, mean)
        t = add(p, qrot(q, moved))
        put_at(work, own + b, t, qunit(qmul(q, turned_by(waves, wave + b, ex, ey, ez, ew))))


@inner
def turned_by_one(i, f, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """`following_joint` where it follows one thing, the shorter way round: written without branches."""
    values, waves, work, out = room.values, room.waves, room.work, room.out
    joint, above, other = ints[i], node_slot(ints[i + U(2)]), node_slot(ints[i + U(8)])
    weight = value_slot(ints[i + U(9)])
    wave = wave_slot(ints[i + U(3)] if joint >= 0 else 0)
    rest, turn = row4(floats, f + U(3)), row4(floats, f + U(11))
    ex, ey, ez, ew = row4(floats, f + U(7))
    for b in range(U(size)):
        w = within(values[weight + b])
        r = turn_at(work, above + b)
        a = qmul(r, rest)
        q = part_way(a, qmul(turn_at(work, other + b), turn), w)
        # What does not count may not be there.
        q = qunit(
            (q[0] if w > 0.0 else a[0], q[1] if w > 0.0 else a[1], q[2] if w > 0.0 else a[2], q[3] if w > 0.0 else a[3])
        )
        p = add(place_at(work, above + b), qrot(r, place_at(room.offsets, b)))
        put_at(out, b, p, q)
        put_at(out, b + _7, p, qunit(qmul(q, turned_by(waves, wave + b, ex, ey, ez, ew))))
    copy_node(out, U(0), work, node_slot(ints[i + U(1)]), size)
    if joint >= 0:
        copy_node(out, _7, work, node_slot(joint), size)


def following_joint(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places one joint that stays where it hangs and whose turn follows several things, and the space in which it turns.

    Integers node of the joint (-1: the space alone), of the space, above, first Euler channel, first length channel (-1
    none), joint of the capture (-1 none), number of anchors, slot of the size, and for each anchor its node, the channels of its weight and of the way round (-1 none); floats
    offset (3), rest (4), signs of the rotation order (4), the joint's rest in each anchor (4 each).
    """
    values, waves, work, quats, shares = room.values, room.waves, room.work, room.quats, room.shares
    i = U(first_i)
    f = U(first_f)
    joint = ints[i]
    space = node_slot(ints[i + U(1)])
    above = node_slot(ints[i + U(2)])
    moving_offset(ints[i + U(4)], ints[i + U(5)], ints[i + U(7)], floats, f, room, size, U(0))
    rest = row4(floats, f + U(3))
    ex, ey, ez, ew = row4(floats, f + U(7))
    anchors = ints[i + U(6)]
    table = i + U(8)
    if anchors == 1 and ints[table + U(2)] < 0:
        turned_by_one(i, f, size, ints, floats, room)
        return
    for b in range(U(size)):
        total = 0.0
        for k in range(anchors):
            w = values[value_slot(ints[table + U(3 * k + 1)]) + b]
            w = w if w > 0.0 else 0.0
            shares[0, k] = w
            total += w
        more = total if total > 1.0 else 1.0
        r = turn_at(work, above + b)
        turns = anchors - anchors
        way = (0.0, 0.0, 0.0)
        for k in range(anchors + 1):
            w = 1.0 - total / more if k == anchors else shares[0, k] / more
            if w == 0.0:
                continue
            if k == anchors:
                q = qmul(r, rest)
            else:
                q = qmul(turn_at(work, node_slot(ints[table + U(3 * k)]) + b), row4(floats, f + U(11 + 4 * k)))
            quats[turns, 0] = q[0]
            quats[turns, 1] = q[1]
            quats[turns, 2] = q[2]
            quats[turns, 3] = q[3]
            shares[1, turns] = w
            if k < anchors and ints[table + U(3 * k + 2)] >= 0:
                o = value_slot(ints[table + U(3 * k + 2)]) + b
                way = add(way, scale((values[o], values[o + _1], values[o + _2]), 1.0 if turns > 0 else -1.0))
            turns += 1
        q = (quats[0, 0], quats[0, 1], quats[0, 2], quats[0, 3])
        if turns == 2 and dot(way, way) > 0.0:
            q = turned_round(quats, shares[1, 1], way)
        elif turns > 1:
            q = mean_rotation(quats, shares[1], turns)
        q = qunit(q)
        p = add(place_at(work, above + b), qrot(r, place_at(room.offsets, b)))
        put_at(work, space + b, p, q)
        if joint >= 0:
            d = qunit(qmul(q, turned_by(waves, wave_slot(ints[i + U(3)]) + b, ex, ey, ez, ew)))
            put_at(work, node_slot(joint) + b, p, d)


CONTROL, CONTROL_GROWN = kind(plain_controls), kind(grown_controls)
CONTROL_MIXED = kind(mixed_control)
JOINT_FOLLOWING = kind(following_joint)
