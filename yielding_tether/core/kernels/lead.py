"""Rows of a run of joints whose last one leads: it turns by itself, and each joint below takes a share of its turn.

    turn of the end        D = below⁻¹ · end · rest of the end in what is below⁻¹
    joint k                rest · exp(share_k · log D, in the rest of joint k) · its own channels

The logarithm jumps to the other side at half a turn; so what is shared fades from two thirds of that on, and is nothing there.
"""

from __future__ import annotations

from .arrays import line4
from .block import U, _3, moving_offset, node_slot, place_at, put_at, row4, turn_at, turned_by, wave_slot
from .n_segment import FULL, faded
from .rows import kind
from .scalars import add, inner, kernel, norm, qconj, qexp, qlog, qmul, qrot, qunit, scale

#: Integers of a row before the joints: joints, node of what the first hangs from, node of what leads, slot of the size. Then for each
#: joint: node, first Euler channel (-1 none), first length channel, joint of the capture.
HEAD, EACH = 4, 4
#: Floats before the joints: rest of the last joint in what is below (4). Then for each joint: offset (3), rest (4), signs of the
#: rotation order (4), its own rest in what is below (4), its share.
FLOAT_HEAD, FLOAT_EACH = 4, 16


@inner
def turn_to_share(below, end, rest):  # type: ignore[no-untyped-def]
    """Rotation vector of the end's turn from its rest in what is below, faded towards half a turn."""
    v = qlog(qunit(qmul(qmul(qconj(below), end), qconj(rest))))
    return scale(v, faded(norm(v), FULL))


@inner
def shared(v, rest, share):  # type: ignore[no-untyped-def]
    """The turn that a joint takes of it, in its own rest."""
    return qexp(scale(qrot(qconj(rest), v), share))


def led_joints(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places one run of joints."""
    waves, work, offsets = room.waves, room.work, room.offsets
    i = U(first_i)
    f = U(first_f)
    joints = ints[i]
    above = node_slot(ints[i + U(1)])
    lead = node_slot(ints[i + U(2)])
    rest = row4(floats, f)
    for j in range(joints):
        r = i + U(HEAD + EACH * j)
        at = f + U(FLOAT_HEAD + FLOAT_EACH * j)
        moving_offset(ints[r + U(2)], ints[r + U(3)], ints[i + U(3)], floats, at, room, size, U(j) * _3)
    for b in range(U(size)):
        q = turn_at(work, above + b)
        p = place_at(work, above + b)
        end = turn_at(work, lead + b)
        v = turn_to_share(q, end, rest)
        for j in range(joints):
            at = f + U(FLOAT_HEAD + FLOAT_EACH * j)
            p = add(p, qrot(q, place_at(offsets, U(j) * _3 + b)))
            if j == joints - 1:
                q = end
            else:
                local = qmul(row4(floats, at + U(3)), shared(v, row4(floats, at + U(11)), floats[at + U(15)]))
                wave = wave_slot(ints[i + U(HEAD + EACH * j + 1)]) + b
                ex, ey, ez, ew = row4(floats, at + U(7))
                q = qunit(qmul(q, qmul(local, turned_by(waves, wave, ex, ey, ez, ew))))
            put_at(work, node_slot(ints[i + U(HEAD + EACH * j)]) + b, p, q)


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
