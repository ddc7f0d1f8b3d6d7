"""Rows of a run of joints whose last one leads: it turns by itself, and each joint below takes a share of its turn.

    turn of the end        D = below⁻¹ · end · rest of the end in what is below⁻¹
    joint k                rest · exp(share_k · log D, in the rest of joint k) · its own channels

The logarithm jumps to the other side at half a turn; so what is shared fades from two thirds of that on, and is nothing there.
"""

from __future__ import annotations

from .arrays import line4
from .block import (
    NODE_ROWS,
    U,
    _1,
    _2,
    _3,
    _7,
    copy_node,
    copy_rows,
    moving_offset,
    node_slot,
    place_at,
    put_at,
    row4,
    turn_at,
    turned_by,
    wave_slot,
)
from .n_segment import FULL, faded
from .rows import kind
from .scalars import add, inlined, kernel, norm, qconj, qexp, qlog, qmul, qrot, qunit, scale

#: Integers of a row before the joints: joints, node of what the first hangs from, node of what leads, slot of the size. Then for each
#: joint: node, first Euler channel (-1 none), first length channel, joint of the capture.
HEAD, EACH = 4, 4
#: Floats before the joints: rest of the last joint in what is below (4). Then for each joint: offset (3), rest (4), signs of the
#: rotation order (4), its own rest in what is below (4), its share.
FLOAT_HEAD, FLOAT_EACH = 4, 16


@inlined
def turn_to_share(below, end, rest):  # type: ignore[no-untyped-def]
    """Rotation vector of the end's turn from its rest in what is below, faded towards half a turn."""
    v = qlog(qunit(qmul(qmul(qconj(below), end), qconj(rest))))
    return scale(v, faded(norm(v), FULL))


@inlined
def shared(v, rest, share):  # type: ignore[no-untyped-def]
    """The turn that a joint takes of it, in its own rest."""
    return qexp(scale(qrot(qconj(rest), v), share))


def led_joints(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places one run of joints, one after the other."""
    waves, work, offsets, inp, out = room.waves, room.work, room.offsets, room.inp, room.out
    i = U(first_i)
    f = U(first_f)
    joints = ints[i]
    above = node_slot(ints[i + U(1)])
    lead = node_slot(ints[i + U(2)])
    rest = row4(floats, f)
    for b in range(U(size)):
        v = turn_to_share(turn_at(work, above + b), turn_at(work, lead + b), rest)
        inp[b] = v[0]
        inp[b + _1] = v[1]
        inp[b + _2] = v[2]
    copy_rows(work, above, out, U(0), U(NODE_ROWS), size)
    for j in range(joints):
        r = i + U(HEAD + EACH * j)
        at = f + U(FLOAT_HEAD + FLOAT_EACH * j)
        moving_offset(ints[r + U(2)], ints[r + U(3)], ints[i + U(3)], floats, at, room, size, U(0))
        last = j == joints - 1
        local_rest, below_rest, share = row4(floats, at + U(3)), row4(floats, at + U(11)), floats[at + U(15)]
        wave = wave_slot(0 if last else ints[r + U(1)])
        ex, ey, ez, ew = row4(floats, at + U(7))
        for b in range(U(size)):
            q = turn_at(out, b)
            p = add(place_at(out, b), qrot(q, place_at(offsets, b)))
            local = qmul(local_rest, shared(place_at(inp, b), below_rest, share))
            q = qunit(qmul(q, qmul(local, turned_by(waves, wave + b, ex, ey, ez, ew))))
            put_at(out, b + _7, p, q)
        # What leads turns by itself.
        copy_rows(out, _7, out, U(0), U(NODE_ROWS), size)
        if last:
            copy_rows(work, lead + _3, out, _3, U(4), size)
        copy_node(out, U(0), work, node_slot(ints[r]), size)


LED = kind(led_joints)


@kernel
def turns_given(below, end, rest, rests, shares, out):  # type: ignore[no-untyped-def]
    """What each joint takes, out (F, n, 4), where the end is turned like this: below (F, 4), end (F, 4); rest (4,) of the end and
    rests (n, 4) of the joints in what is below, shares (n,)."""
    for f in range(out.shape[0]):
        v = turn_to_share(line4(below, f), line4(end, f), (rest[0], rest[1], rest[2], rest[3]))
        for j in range(out.shape[1]):
            q = shared(v, line4(rests, j), shares[j])
            for k in range(4):
                out[f, j, k] = q[k]
