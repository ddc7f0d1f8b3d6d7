"""Limbs: one value drives all three joints between FK (0) and IK (1), with captured motion under both."""

from __future__ import annotations

from .systems import two_segment
from .systems.fk import channel, load3, load4, local_offset, local_turn, row4, store
from .transforms import add, inlined, kernel, qconj, qmul, qrot, qunit, slerp


@kernel
def _mix(parent_rot, a, b, share):  # type: ignore[no-untyped-def]
    """Share of the way from a to b along the shortest arc, in the part's own parent space."""
    back = qconj(parent_rot)
    return qunit(qmul(parent_rot, slerp(qmul(back, a), qmul(back, b), share)))


@inlined
def solve_limb(f, n, values, column, limbs, joints, cap_off, cap_rot, pos, rot):  # type: ignore[no-untyped-def]
    """World transforms of the three joints of limb n (a row of the limb tables) at time f.

    `column`: of that time in `values`.
    """
    parent = limbs.parent[n]
    if parent >= 0:
        base = load3(pos, f, parent)
        up = load4(rot, f, parent)
    else:
        base = (0.0, 0.0, 0.0)
        up = (0.0, 0.0, 0.0, 1.0)
    j = limbs.joint[n]
    share = channel(values, limbs.captured[n], column)
    ikness = values[limbs.drive[n], column]
    o0 = local_offset(values, column, j, joints, cap_off, f)
    o1 = local_offset(values, column, j + 1, joints, cap_off, f)
    o2 = local_offset(values, column, j + 2, joints, cap_off, f)
    root = add(base, qrot(up, o0))
    q0 = up
    q1 = up
    q2 = up
    if share < 1.0:
        if ikness < 1.0:
            q0 = qunit(qmul(up, local_turn(values, column, j, joints)))
            q1 = qunit(qmul(q0, local_turn(values, column, j + 1, joints)))
            q2 = qunit(qmul(q1, local_turn(values, column, j + 2, joints)))
        if ikness > 0.0:
            ik = limbs.ik
            target = limbs.target[n]
            upper, _, mid_rot, _, end_rot = two_segment.solve_pose(
                root, up, row4(joints.rests, j), o1, o2, limbs.constants[n], load3(pos, f, target),
                load4(rot, f, target), values[ik[n, 6], column], values[ik[n, 7], column], values[ik[n, 8], column],
                values[ik[n, 9], column],
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
    store(pos, rot, f, joints.node[j], root, q0)
    store(pos, rot, f, joints.node[j + 1], mid, q1)
    store(pos, rot, f, joints.node[j + 2], add(mid, qrot(q1, o2)), q2)
