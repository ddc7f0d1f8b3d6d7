"""Limbs: one value drives all three joints between FK (0) and IK (1), with captured motion under both."""

from __future__ import annotations

from .block import place_at, put_at, slot, turn_at
from .systems import two_segment
from .systems.fk import channel, load4, local_offset, local_turn, row4
from .transforms import add, inlined, kernel, qconj, qmul, qrot, qunit, slerp


@kernel
def _mix(parent_rot, a, b, share):  # type: ignore[no-untyped-def]
    """Share of the way from a to b along the shortest arc, in the part's own parent space."""
    back = qconj(parent_rot)
    return qunit(qmul(parent_rot, slerp(qmul(back, a), qmul(back, b), share)))


@inlined
def kept_shape(shapes, n):  # type: ignore[no-untyped-def]
    """The shape of limb n as `two_segment.shape` gives it, from the table."""
    row = shapes[n]
    return (
        row[0], row[1], (row[2], row[3], row[4]), (row[5], row[6], row[7]), (row[8], row[9], row[10]),
        (row[11], row[12], row[13]), (row[14], row[15], row[16], row[17]),
    )  # fmt: skip


@inlined
def solve_limb(n, b, f, room, limbs, joints, cap_off, cap_rot):  # type: ignore[no-untyped-def]
    """World transforms of the three joints of limb n (a row of the limb tables) at time b of a block, frame f."""
    values = room.values
    work = room.work
    above = slot(limbs.parent[n], b)
    base = place_at(work, above)
    up = turn_at(work, above)
    j = limbs.joint[n]
    share = channel(values, limbs.captured[n], b)
    ikness = values[limbs.drive[n], b]
    o0 = local_offset(values, b, j, joints, cap_off, f)
    o1 = local_offset(values, b, j + 1, joints, cap_off, f)
    o2 = local_offset(values, b, j + 2, joints, cap_off, f)
    root = add(base, qrot(up, o0))
    q0 = up
    q1 = up
    q2 = up
    if share < 1.0:
        if ikness < 1.0:
            q0 = qunit(qmul(up, local_turn(room.waves, b, j, joints)))
            q1 = qunit(qmul(q0, local_turn(room.waves, b, j + 1, joints)))
            q2 = qunit(qmul(q1, local_turn(room.waves, b, j + 2, joints)))
        if ikness > 0.0:
            ik = limbs.ik
            form = kept_shape(limbs.shapes, n) if limbs.rigid[n] else two_segment.shape(o1, o2, limbs.constants[n])
            target = slot(limbs.target[n], b)
            upper, _, mid_rot, _, end_rot = two_segment.solve_pose(
                root, up, row4(joints.rests, j), o1, o2, form, limbs.constants[n], place_at(work, target),
                turn_at(work, target), values[ik[n, 6], b], values[ik[n, 7], b], values[ik[n, 8], b],
                values[ik[n, 9], b],
            )  # fmt: skip
            if ikness < 1.0:
                q0 = _mix(up, q0, upper, ikness)
                q1 = _mix(up, q1, mid_rot, ikness)
                q2 = _mix(up, q2, end_rot, ikness)
            else:
                q0 = upper
                q1 = mid_rot
                q2 = end_rot
    if share > 0.0:
        sample = joints.sample[j]
        c0 = qmul(up, load4(cap_rot, f, sample))
        c1 = qmul(c0, load4(cap_rot, f, joints.sample[j + 1]))
        c2 = qmul(c1, load4(cap_rot, f, joints.sample[j + 2]))
        if share < 1.0:
            q0 = _mix(up, q0, c0, share)
            q1 = _mix(up, q1, c1, share)
            q2 = _mix(up, q2, c2, share)
        else:
            q0 = qunit(c0)
            q1 = qunit(c1)
            q2 = qunit(c2)
    mid = add(root, qrot(q0, o1))
    put_at(work, slot(joints.node[j], b), root, q0)
    put_at(work, slot(joints.node[j + 1], b), mid, q1)
    put_at(work, slot(joints.node[j + 2], b), add(mid, qrot(q1, o2)), q2)
