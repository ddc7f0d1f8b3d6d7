"""Rows of a collarbone that takes a share of its arm's turn, and is posed on top of it.

    place          where the arm begins while the collarbone is at rest
    direction d    from there to where the hand is to be: its control, or the end of the arm as its own channels turn it from that place
    turn           the shortest arc from the direction at rest to d, as a rotation vector, faded to nothing at half a turn
    collarbone     what it hangs from · exp(share · what of that turn is past the set angle) · rest · its own channels

So nothing depends on itself: the collarbone's turn is read off what moves the hand, never off where the arm then begins. Raising and
swinging forward have shares and set angles of their own.
"""

from __future__ import annotations

import math

from .block import (
    U,
    _1,
    _2,
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
from .n_segment import FULL
from .rows import kind
from .scalars import add, cross, dot, forward_angle, inlined, kernel, norm, qconj, qmul, qrot, sine_cosine, sub

#: Numbers of a row: integers its node, what it hangs from, first Euler channel, first length channel (-1 none), joint of the capture
#: (-1 none), slot of the size, node that the hand goes to (-1: as the channels turn it), first Euler channels of the arm's first
#: two joints; floats offset (3), rest (4), signs of the rotation order (4), then `SHAPE`, then signs of the arm's two joints (8).
INTS, FLOATS = 9, 50
#: Numbers of its shape: where the arm begins at rest (3), the direction of its end from there (3), the axes about which it is raised and
#: swung forward (6), shares of both, angles from which on they count, over which they set in; then of the arm's channels: rest of
#: its first joint with that of the collarbone (4), offset and rest of the second (7), offset of its end (3).
SHAPE = 31


@inlined
def past(angle, first, over):  # type: ignore[no-untyped-def]
    """What of an angle is past another, either way; it sets in smoothly over a stretch about that."""
    size = abs(angle) - first
    soft = (size + over) * (size + over) / (4.0 * over)
    size = soft if size < over else size
    size = size if abs(angle) - first > -over else 0.0
    return size if angle >= 0.0 else -size


@inlined
def shrugged(d, at_rest, axes, counts):  # type: ignore[no-untyped-def]
    """The turn that a collarbone takes of its arm's direction d, a vector in what it hangs from; at_rest: that at rest; axes and
    `counts` (shares, set angles, stretch) as in the shape. Written without branches."""
    raised, forward = axes
    size = norm(d)
    shrink = 1.0 / (size if size > 1e-9 else 1.0)
    d = (d[0] * shrink, d[1] * shrink, d[2] * shrink)
    across = cross(at_rest, d)
    sine, cosine = norm(across), dot(at_rest, d)
    # The half angle is within a quarter turn; at half a turn, where nothing says which way, it is faded to nothing.
    angle = 2.0 * forward_angle(sine, 1.0 + cosine if cosine > -1.0 else 0.0)
    u = (angle - FULL) / (math.pi - FULL)
    fade = (1.0 - u) * (1.0 - u) * (1.0 + 2.0 * u)
    fade = fade if u > 0.0 else 1.0
    by = fade * (angle / sine if sine > 1e-12 else 1.0)
    by = by if size > 1e-9 else 0.0
    # An arm that is lowered leaves its collarbone where it is.
    lifted = by * dot(across, raised)
    up = counts[0] * past(lifted if lifted > 0.0 else 0.0, counts[2], counts[4])
    on = counts[1] * past(by * dot(across, forward), counts[3], counts[4])
    turn = math.sqrt(up * up + on * on)
    s, c = sine_cosine(0.5 * turn)
    s = s / turn if turn > 1e-12 else 0.5
    return (
        s * (up * raised[0] + on * forward[0]), s * (up * raised[1] + on * forward[1]),
        s * (up * raised[2] + on * forward[2]), c,
    )  # fmt: skip


@inlined
def shape_at(shape, f):  # type: ignore[no-untyped-def]
    """Beginning, direction at rest, axes and counts of a shape whose numbers begin at f."""
    counts = (shape[f + U(12)], shape[f + U(13)], shape[f + U(14)], shape[f + U(15)], shape[f + U(16)])
    return row3(shape, f), row3(shape, f + U(3)), (row3(shape, f + U(6)), row3(shape, f + U(9))), counts


def shoulders(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places collarbones."""
    waves, work, out, inp = room.waves, room.work, room.out, room.inp
    for n in range(U(count)):
        i = U(first_i) + n * U(INTS)
        f = U(first_f) + n * U(FLOATS)
        above = node_slot(ints[i + U(1)])
        wave, first, second = wave_slot(ints[i + U(2)]), wave_slot(ints[i + U(7)]), wave_slot(ints[i + U(8)])
        moving_offset(ints[i + U(3)], ints[i + U(4)], ints[i + U(5)], floats, f, room, size, U(0))
        rest = row4(floats, f + U(3))
        ex, ey, ez, ew = row4(floats, f + U(7))
        begins, at_rest, axes, counts = shape_at(floats, f + U(11))
        if ints[i + U(6)] >= 0:
            target, slot = node_slot(ints[i + U(6)]), value_slot(ints[i + U(5)])
            for b in range(U(size)):
                d = qrot(qconj(turn_at(work, above + b)), sub(place_at(work, target + b), place_at(work, above + b)))
                grown = room.sizes[slot + b]
                inp[b] = d[0] - grown * begins[0]
                inp[b + _1] = d[1] - grown * begins[1]
                inp[b + _2] = d[2] - grown * begins[2]
        else:
            upper_rest, upper = row4(floats, f + U(28)), row3(floats, f + U(32))
            lower_rest, lower = row4(floats, f + U(35)), row3(floats, f + U(39))
            ax, ay, az, aw = row4(floats, f + U(11 + SHAPE))
            bx, by, bz, bw = row4(floats, f + U(15 + SHAPE))
            for b in range(U(size)):
                q = qmul(upper_rest, turned_by(waves, first + b, ax, ay, az, aw))
                r = qmul(q, qmul(lower_rest, turned_by(waves, second + b, bx, by, bz, bw)))
                d = add(qrot(q, upper), qrot(r, lower))
                inp[b] = d[0]
                inp[b + _1] = d[1]
                inp[b + _2] = d[2]
        for b in range(U(size)):
            q = shrugged(place_at(inp, b), at_rest, axes, counts)
            q = qmul(q, qmul(rest, turned_by(waves, wave + b, ex, ey, ez, ew)))
            r = turn_at(work, above + b)
            put_at(out, b, add(place_at(work, above + b), qrot(r, place_at(room.offsets, b))), qmul(r, q))
        copy_node(out, U(0), work, node_slot(ints[i]), size)


SHOULDER = kind(shoulders)


@kernel
def turns_taken(directions, shape, out):  # type: ignore[no-untyped-def]
    """Turns (F, 4) that a collarbone takes of these directions of its arm (F, 3) in what it hangs from."""
    _, at_rest, axes, counts = shape_at(shape, U(0))
    for n in range(directions.shape[0]):
        q = shrugged((directions[n, 0], directions[n, 1], directions[n, 2]), at_rest, axes, counts)
        for k in range(4):
            out[n, k] = q[k]
