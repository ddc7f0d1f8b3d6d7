"""FK: each joint turned in its parent. Solve and fit, and the mixing of a capture under them."""

from __future__ import annotations

from ..transforms import (
    add,
    euler_to_quat,
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
def store(pos, rot, f, n, p, q):  # type: ignore[no-untyped-def]
    pos[f, n, 0] = p[0]
    pos[f, n, 1] = p[1]
    pos[f, n, 2] = p[2]
    rot[f, n, 0] = q[0]
    rot[f, n, 1] = q[1]
    rot[f, n, 2] = q[2]
    rot[f, n, 3] = q[3]


@inlined
def channel(values, c, f):  # type: ignore[no-untyped-def]
    """Value of channel c at time f; a channel that does not exist (-1) is zero."""
    return values[c, f] if c >= 0 else 0.0


@inlined
def local_turn(values, f, joint, joints):  # type: ignore[no-untyped-def]
    """Local rotation of a joint (a row of the joint tables): its rest, then its Euler channels."""
    chans = joints.channels
    q = euler_to_quat(
        joints.order[joint],
        channel(values, chans[joint, 3], f),
        channel(values, chans[joint, 4], f),
        channel(values, chans[joint, 5], f),
    )
    return qmul(row4(joints.rests, joint), q) if joints.turned[joint] else q


@inlined
def local_offset(values, f, joint, joints, cap_off, row):  # type: ignore[no-untyped-def]
    """Local offset of a joint: that of its capture, or else of its rest, plus its translation channels.
    Offsets belong to the part: whichever system drives it, they are the same."""
    sample = joints.sample[joint]
    o = load3(cap_off, row, sample) if sample >= 0 else row3(joints.offsets, joint)
    chans = joints.channels
    if chans[joint, 0] < 0:
        return o
    return add(o, (values[chans[joint, 0], f], values[chans[joint, 1], f], values[chans[joint, 2], f]))


@inlined
def solve_joint(f, joint, values, column, joints, cap_off, cap_rot, pos, rot):  # type: ignore[no-untyped-def]
    """World transform of one joint at time f from the one above it, with its share of the capture.

    `column`: of that time in `values`.
    """
    share = channel(values, joints.captured[joint], column)
    o = local_offset(values, column, joint, joints, cap_off, f)
    if share < 1.0:
        q = local_turn(values, column, joint, joints)
        if share > 0.0:
            q = slerp(q, load4(cap_rot, f, joints.sample[joint]), share)
    else:
        q = load4(cap_rot, f, joints.sample[joint])
    up = joints.parent[joint]
    if up >= 0:
        r = load4(rot, f, up)
        o = add(load3(pos, f, up), qrot(r, o))
        q = qmul(r, q)
    store(pos, rot, f, joints.node[joint], o, q)


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
