"""Following: where a control's space is, from what it is tethered to, and the control within it."""

from __future__ import annotations

from .systems.fk import channel, load3, load4, row3, row4, store
from .transforms import add, euler_to_quat, inlined, mean_rotation, qmul, qrot, qunit, scale, slerp


@inlined
def place_control(f, n, values, column, controls, quats, shares, cap_off, cap_rot, pos, rot):  # type: ignore[no-untyped-def]
    """Space and place of control n (a row of the control tables) at time f.

    Weights above one in sum are normalised; what is missing goes to the own space, the last of its anchors.
    Rotations meet in the geodesic mean whatever their number. quats (K, 4), shares (2, K): room to work in;
    `column`: of that time in `values`.
    """
    start = controls.start[n]
    count = controls.start[n + 1] - start
    p = (0.0, 0.0, 0.0)
    turns = 0
    for what in range(2):
        total = 0.0
        for k in range(count - 1):
            w = max(channel(values, controls.weights[start + k, what], column), 0.0)
            shares[what, k] = w
            total += w
        if total > 1.0:
            for k in range(count - 1):
                shares[what, k] /= total
            total = 1.0
        shares[what, count - 1] = 1.0 - total
    for k in range(count):
        wp = shares[0, k]
        wr = shares[1, k]
        if wp == 0.0 and wr == 0.0:
            continue
        o = row3(controls.reach_pos, start + k)
        q = row4(controls.reach_rot, start + k)
        a = controls.anchors[start + k]
        if a >= 0:
            r = load4(rot, f, a)
            o = add(load3(pos, f, a), qrot(r, o))
            q = qmul(r, q)
        if wp != 0.0:
            p = add(p, scale(o, wp))
        if wr != 0.0:
            quats[turns, 0] = q[0]
            quats[turns, 1] = q[1]
            quats[turns, 2] = q[2]
            quats[turns, 3] = q[3]
            shares[1, turns] = wr
            turns += 1
    q = (quats[0, 0], quats[0, 1], quats[0, 2], quats[0, 3])
    if turns > 1:
        q = qunit(mean_rotation(quats, shares[1], turns))
    store(pos, rot, f, controls.space[n], p, q)
    chans = controls.channels
    t = (
        channel(values, chans[n, 0], column),
        channel(values, chans[n, 1], column),
        channel(values, chans[n, 2], column),
    )
    turn = euler_to_quat(
        controls.order[n],
        channel(values, chans[n, 3], column),
        channel(values, chans[n, 4], column),
        channel(values, chans[n, 5], column),
    )
    t = add(p, qrot(q, t))
    q = qunit(qmul(q, turn))
    share = channel(values, controls.captured[n], column)
    if share > 0.0:
        # The capture of a root is its place in the world.
        t = add(scale(t, 1.0 - share), scale(load3(cap_off, f, controls.sample[n]), share))
        q = slerp(q, load4(cap_rot, f, controls.sample[n]), share)
    store(pos, rot, f, controls.node[n], t, q)
