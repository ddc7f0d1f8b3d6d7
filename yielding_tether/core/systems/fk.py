"""FK: each joint turned in its parent. Solve and fit, and the mixing of a capture under them."""

from __future__ import annotations

from ..block import U, place_at, put_at, slot, turn_at, turned_by, wave_slot
from ..transforms import (
    add,
    inlined,
    kernel,
    qconj,
    qmul,
    qrot,
    quat_to_euler,
    qunit,
    slerp,
    sub,
)


@inlined
def load3(array, f, n):  # type: ignore[no-untyped-def]
    return (array[f, n, 0], array[f, n, 1], array[f, n, 2])


@inlined
def load4(array, f, n):  # type: ignore[no-untyped-def]
    return (array[f, n, 0], array[f, n, 1], array[f, n, 2], array[f, n, 3])


@inlined
def row3(array, n):  # type: ignore[no-untyped-def]
    return (array[n, 0], array[n, 1], array[n, 2])


@inlined
def row4(array, n):  # type: ignore[no-untyped-def]
    return (array[n, 0], array[n, 1], array[n, 2], array[n, 3])


@inlined
def channel(values, c, b):  # type: ignore[no-untyped-def]
    """Value of channel c at time b of the block; a channel that does not exist (-1) is zero."""
    return values[c, b] if c >= 0 else 0.0


@inlined
def local_turn(waves, b, joint, joints):  # type: ignore[no-untyped-def]
    """Local rotation of a joint (a row of the joint tables): its rest, then its Euler channels."""
    signs = joints.signs
    q = turned_by(
        waves, wave_slot(joints.channels[joint, 3], b), signs[joint, 0], signs[joint, 1], signs[joint, 2],
        signs[joint, 3],
    )  # fmt: skip
    return qmul(row4(joints.rests, joint), q)


@inlined
def local_offset(values, b, joint, joints, cap_off, f):  # type: ignore[no-untyped-def]
    """Local offset of a joint: that of its capture, or else of its rest, plus its translation channels.
    Offsets belong to the part: whichever system drives it, they are the same."""
    sample = joints.sample[joint]
    o = load3(cap_off, f, sample) if sample >= 0 else row3(joints.offsets, joint)
    chans = joints.channels
    if chans[joint, 0] < 0:
        return o
    return add(o, (values[chans[joint, 0], b], values[chans[joint, 1], b], values[chans[joint, 2], b]))


@inlined
def solve_joint(joint, frames, start, size, room, joints, cap_off, cap_rot):  # type: ignore[no-untyped-def]
    """World transforms of one joint from the one above it, at the frames frames[start:start + size] of a block."""
    waves = room.waves
    work = room.work
    own = slot(joints.node[joint], 0)
    above = slot(joints.parent[joint], 0)
    if joints.captured[joint] < 0 and joints.channels[joint, 0] < 0:
        # The plain joint, by far the commonest: nothing in this loop branches.
        offset = row3(joints.offsets, joint)
        rest = row4(joints.rests, joint)
        first = wave_slot(joints.channels[joint, 3], 0)
        ex, ey, ez, ew = row4(joints.signs, joint)
        for b in range(U(size)):
            q = qmul(rest, turned_by(waves, first + b, ex, ey, ez, ew))
            r = turn_at(work, above + b)
            put_at(work, own + b, add(place_at(work, above + b), qrot(r, offset)), qmul(r, q))
        return
    for b in range(size):
        f = frames[start + b]
        share = channel(room.values, joints.captured[joint], b)
        o = local_offset(room.values, b, joint, joints, cap_off, f)
        if share < 1.0:
            q = local_turn(waves, b, joint, joints)
            if share > 0.0:
                q = slerp(q, load4(cap_rot, f, joints.sample[joint]), share)
        else:
            q = load4(cap_rot, f, joints.sample[joint])
        at = above + U(b)
        r = turn_at(work, at)
        put_at(work, own + U(b), add(place_at(work, at), qrot(r, o)), qmul(r, q))


@kernel
def fit_turns(turns, parents, rests, order, near, out):  # type: ignore[no-untyped-def]
    """Euler channels of joints, the inverse of `local_turn`, each time nearest to the time before.

    turns, parents: (F, n, 4) world rotations of the joints and of what they hang from; near: (n, 3) the
    angles to start near; out: (n * 3, F) radians.
    """
    for n in range(turns.shape[1]):
        x, y, z = near[n, 0], near[n, 1], near[n, 2]
        back = qconj(row4(rests, n))
        for f in range(turns.shape[0]):
            local = qmul(back, qmul(qconj(load4(parents, f, n)), load4(turns, f, n)))
            x, y, z = quat_to_euler(order[n], qunit(local), x, y, z)
            out[3 * n, f] = x
            out[3 * n + 1, f] = y
            out[3 * n + 2, f] = z


@kernel
def fit_place(pos, rot, space_pos, space_rot, order, near, out):  # type: ignore[no-untyped-def]
    """Channels tx ty tz rx ry rz of a control at world pos (F, 3), rot (F, 4) in its space; out: (6, F)."""
    x, y, z = near[0], near[1], near[2]
    for f in range(pos.shape[0]):
        up = qconj(row4(space_rot, f))
        t = qrot(up, sub(row3(pos, f), row3(space_pos, f)))
        out[0, f] = t[0]
        out[1, f] = t[1]
        out[2, f] = t[2]
        x, y, z = quat_to_euler(order, qunit(qmul(up, row4(rot, f))), x, y, z)
        out[3, f] = x
        out[4, f] = y
        out[5, f] = z
