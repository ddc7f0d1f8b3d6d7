"""Following: where a control's space is, from what it is tethered to, and the control within it."""

from __future__ import annotations

from .block import place_at, put_at, slot, turn_at, turned_by, wave_slot
from .systems.fk import channel, load3, load4, row3, row4
from .transforms import add, inlined, mean_rotation, qmul, qrot, qunit, scale, slerp


@inlined
def place_control(n, b, f, room, controls, cap_off, cap_rot):  # type: ignore[no-untyped-def]
    """Space and place of control n (a row of the control tables) at time b of a block, frame f.

    Weights above one in sum are normalised; what is missing goes to the own space, the last of its anchors.
    Rotations meet in the geodesic mean whatever their number.
    """
    values = room.values
    work = room.work
    quats = room.quats
    shares = room.shares
    start = controls.start[n]
    count = controls.start[n + 1] - start
    if count == 1:
        # Nothing is followed but the own space.
        above = slot(controls.anchors[start], b)
        r = turn_at(work, above)
        p = add(place_at(work, above), qrot(r, row3(controls.reach_pos, start)))
        q = qmul(r, row4(controls.reach_rot, start))
    else:
        for what in range(2):
            total = 0.0
            for k in range(count - 1):
                w = max(channel(values, controls.weights[start + k, what], b), 0.0)
                shares[what, k] = w
                total += w
            if total > 1.0:
                for k in range(count - 1):
                    shares[what, k] /= total
                total = 1.0
            shares[what, count - 1] = 1.0 - total
        p = (0.0, 0.0, 0.0)
        turns = 0
        for k in range(count):
            wp = shares[0, k]
            wr = shares[1, k]
            if wp == 0.0 and wr == 0.0:
                continue
            above = slot(controls.anchors[start + k], b)
            r = turn_at(work, above)
            if wp != 0.0:
                o = add(place_at(work, above), qrot(r, row3(controls.reach_pos, start + k)))
                p = add(p, scale(o, wp))
            if wr != 0.0:
                q = qmul(r, row4(controls.reach_rot, start + k))
                quats[turns, 0] = q[0]
                quats[turns, 1] = q[1]
                quats[turns, 2] = q[2]
                quats[turns, 3] = q[3]
                shares[1, turns] = wr
                turns += 1
        q = (quats[0, 0], quats[0, 1], quats[0, 2], quats[0, 3])
        if turns > 1:
            q = qunit(mean_rotation(quats, shares[1], turns))
    put_at(work, slot(controls.space[n], b), p, q)
    chans = controls.channels
    t = add(p, qrot(q, (values[chans[n, 0], b], values[chans[n, 1], b], values[chans[n, 2], b])))
    signs = controls.signs
    turn = turned_by(room.waves, wave_slot(chans[n, 3], b), signs[n, 0], signs[n, 1], signs[n, 2], signs[n, 3])
    q = qunit(qmul(q, turn))
    share = channel(values, controls.captured[n], b)
    if share > 0.0:
        # The capture of a root is its place in the world.
        t = add(scale(t, 1.0 - share), scale(load3(cap_off, f, controls.sample[n]), share))
        q = slerp(q, load4(cap_rot, f, controls.sample[n]), share)
    put_at(work, slot(controls.node[n], b), t, q)
