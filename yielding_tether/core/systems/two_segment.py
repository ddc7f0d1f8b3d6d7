"""IK of a two-segment limb, with as many freedoms as its three FK joints.

The nine freedoms: place and rotation of the end (6), the *swivel* of the hinge plane about the line of aim,
the *carry angle* out of the hinge plane, and the *twist* of the lower segment; a stepped *bend* sign says to
which side the hinge bends. The hinge axis is carried by the upper segment itself: nothing is read off the
triangle of the three joints, so a straight limb is nothing special.

With d the direction of the upper segment and h the hinge (both in the upper frame), b = h × d:

    M(angle, lift) = turn(h, angle) · turn(-b, lift)            takes d to any direction
    middle joint   = M(bend, carry) · Q · turn(lower, twist)    Q takes the lower segment onto d
    upper joint    = turn(aim, swivel) · arc(d at rest → aim) · rest · M(aim in the upper frame)⁻¹

All angles read zero at rest.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from ..cast import LimbPart
from ..skeleton import Skeleton
from ..transforms import (
    Floats,
    add,
    axis_turn,
    cross,
    dot,
    frame_turn,
    kernel,
    norm,
    qconj,
    qmul,
    qrot,
    quat_to_euler,
    qunit,
    scale,
    shortest_arc,
    sub,
    wrap_near,
)
from .fk import load3, load4, row3, row4

#: Rest angles of the limb within its constants: bend, carry, swivel.
REST_BEND, REST_CARRY, REST_SWIVEL = 6, 7, 8
#: Distance of a bend guide from the line of aim, as a share of the limb's length.
SENSIBLE = 0.9
#: Below this bend the direction of bending carries no information.
STRAIGHT = 1e-6


class Geometry(NamedTuple):
    """Unchanging shape of a limb: `offsets` (3, 3) and `rests` (3, 4) of its joints, and `constants` (9,):
    hinge in the upper frame, hinge in the middle frame, rest bend, carry and swivel (radians)."""

    offsets: Floats
    rests: Floats
    constants: Floats


@kernel
def _square(v, onto):  # type: ignore[no-untyped-def]
    """v made normal to the unit vector `onto`, of unit length."""
    v = sub(v, scale(onto, dot(v, onto)))
    return scale(v, 1.0 / norm(v))


@kernel
def shape(o1, o2, constants):  # type: ignore[no-untyped-def]
    """Lengths, direction, hinge, its normal, lower direction and the turn Q of a limb with these offsets."""
    l1 = norm(o1)
    l2 = norm(o2)
    d1 = scale(o1, 1.0 / l1)
    d2 = scale(o2, 1.0 / l2)
    h = _square((constants[0], constants[1], constants[2]), d1)
    h2 = _square((constants[3], constants[4], constants[5]), d2)
    b = cross(h, d1)
    q = qmul(frame_turn(d1, b, h), qconj(frame_turn(d2, cross(h2, d2), h2)))
    return l1, l2, d1, h, b, d2, q


@kernel
def direction_turn(h, b, angle, lift):  # type: ignore[no-untyped-def]
    """M: turn about the hinge by `angle` after a lift out of its plane by `lift`."""
    q = axis_turn(h, angle)
    if lift == 0.0:
        return q
    return qmul(q, axis_turn((-b[0], -b[1], -b[2]), lift))


@kernel
def half_of(c, s):  # type: ignore[no-untyped-def]
    """Cosine and sine of half the angle whose cosine and sine are c and s, without the angle; exact near zero and
    near the half turn."""
    if c > 0.0:
        h = math.sqrt(0.5 * (1.0 + c))
        return h, 0.5 * s / h
    h = math.sqrt(0.5 * (1.0 - c))
    return (0.5 * abs(s) / h, h) if s >= 0.0 else (0.5 * abs(s) / h, -h)


@kernel
def aimed_turn(v, d, h, b):  # type: ignore[no-untyped-def]
    """M for the direction v, a vector of any length: what `direction_turn` gives for its angles, without them."""
    x = dot(v, d)
    y = dot(v, b)
    z = dot(v, h)
    flat = math.sqrt(x * x + y * y)
    size = math.sqrt(flat * flat + z * z)
    c, s = half_of(x / flat, y / flat) if flat > 0.0 else (1.0, 0.0)
    q = (h[0] * s, h[1] * s, h[2] * s, c)
    if z == 0.0:
        return q
    c, s = half_of(flat / size, z / size)
    return qmul(q, (-b[0] * s, -b[1] * s, -b[2] * s, c))


@kernel
def angles_of(v, d, h, b):  # type: ignore[no-untyped-def]
    """Angle about the hinge and lift out of its plane of a direction v."""
    x = dot(v, d)
    y = dot(v, b)
    return math.atan2(y, x), math.atan2(dot(v, h), math.sqrt(x * x + y * y))


@kernel
def aim_of(line, reach, parent_rot, rest, d):  # type: ignore[no-untyped-def]
    """Unit direction from the limb's root to its end; that of rest where a full fold leaves none."""
    if reach > 1e-9:
        return scale(line, 1.0 / reach)
    return qrot(qmul(parent_rot, rest), d)


@kernel
def aim_frame(parent_rot, rest, d, h, aim):  # type: ignore[no-untyped-def]
    """The upper frame with d swung from its rest direction onto `aim` along the shortest arc, swivel zero."""
    up = qmul(parent_rot, rest)
    return qmul(shortest_arc(qrot(up, d), aim, qrot(up, h)), up)


@kernel
def solve_pose(root, parent_rot, rest, o1, o2, form, constants, end, end_rot, swivel, carry, twist, sign):  # type: ignore[no-untyped-def]  # fmt: skip
    """World transforms of one limb.

    root, parent_rot: place of its first joint and rotation of what it hangs from; form: the `shape` of its offsets
    o1 and o2; end, end_rot: the IK control. Returns (upper rotation, middle place, middle rotation, end place, end
    rotation). Out of reach the limb points straight at the control; a full fold of equal segments aims as at rest.
    """
    l1, l2, d1, h, b, d2, q = form
    lift = constants[7] + carry
    line = sub(end, root)
    reach = norm(line)
    cos_lift = 1.0 if lift == 0.0 else math.cos(lift)
    flat = 2.0 * l1 * l2 * cos_lift
    c = (reach * reach - l1 * l1 - l2 * l2) / flat if flat != 0.0 else 1.0
    # Within rounding of straight, or of the full fold, the cosine turns noise of 1e-14 into an angle of 1e-7;
    # more so the nearer the lower segment comes to the hinge.
    rounding = 1e-13 / abs(cos_lift)
    if c >= 1.0 - rounding:
        c = 1.0
    elif c <= -1.0 + rounding:
        c = -1.0
    half_cos = math.sqrt(0.5 * (1.0 + c))
    half_sin = math.sqrt(0.5 * (1.0 - c)) * (-1.0 if sign < 0.0 else 1.0)
    middle = (h[0] * half_sin, h[1] * half_sin, h[2] * half_sin, half_cos)
    if lift != 0.0:
        middle = qmul(middle, axis_turn((-b[0], -b[1], -b[2]), lift))
    inner = add(scale(d1, l1), scale(qrot(middle, d1), l2))
    aim = aim_of(line, reach, parent_rot, rest, d1)
    upper = qmul(axis_turn(aim, constants[8] + swivel), aim_frame(parent_rot, rest, d1, h, aim))
    upper = qunit(qmul(upper, qconj(aimed_turn(inner, d1, h, b))))
    mid = add(root, qrot(upper, o1))
    q_mid = qmul(middle, q)
    if twist != 0.0:
        q_mid = qmul(q_mid, axis_turn(d2, twist))
    mid_rot = qunit(qmul(upper, q_mid))
    return upper, mid, mid_rot, add(mid, qrot(mid_rot, o2)), end_rot


@kernel
def fit_pose(root, parent_rot, rest, o1, o2, constants, upper, mid_rot, end):  # type: ignore[no-untyped-def]
    """The inverse of `solve_pose`: (bend, carry, twist, swivel) of a posed limb, radians, bend signed."""
    l1, l2, d1, h, b, d2, q = shape(o1, o2, constants)
    local = qmul(qconj(upper), mid_rot)
    bend, lift = angles_of(qrot(local, d2), d1, h, b)
    middle = direction_turn(h, b, bend, lift)
    rolled = qmul(qconj(qmul(middle, q)), local)
    twist = 2.0 * math.atan2(rolled[0] * d2[0] + rolled[1] * d2[1] + rolled[2] * d2[2], rolled[3])
    inner = add(scale(d1, l1), scale(qrot(middle, d1), l2))
    line = sub(end, root)
    reach = norm(line)
    aim = aim_of(line, reach, parent_rot, rest, d1)
    start = aim_frame(parent_rot, rest, d1, h, aim)
    swung = qmul(qmul(upper, aimed_turn(inner, d1, h, b)), qconj(start))
    swivel = 2.0 * math.atan2(swung[0] * aim[0] + swung[1] * aim[1] + swung[2] * aim[2], swung[3])
    return bend, lift - constants[7], twist, swivel - constants[8]


@kernel
def fit(pos, rot, parent_rot, offsets, rest, constants, space_pos, space_rot, order, near, out):  # type: ignore[no-untyped-def]
    """IK channels of posed limbs, each time nearest to the time before.

    pos (F, 3, 3), rot (F, 3, 4): the joints in the world; parent_rot (F, 4); offsets (F, 3, 3): local offsets
    of the joints at those times; space_pos (F, 3), space_rot (F, 4): the space of the IK control; near (10,):
    values to start near; out (10, F): tx ty tz rx ry rz swivel carry twist bend.
    """
    x, y, z, swivel_near, twist_near, sign = near[3], near[4], near[5], near[6], near[8], near[9]
    for f in range(pos.shape[0]):
        end = load3(pos, f, 2)
        bend, carry, twist, swivel = fit_pose(
            load3(pos, f, 0), row4(parent_rot, f), rest, load3(offsets, f, 1), load3(offsets, f, 2),
            constants, load4(rot, f, 0), load4(rot, f, 1), end,
        )  # fmt: skip
        up = qconj(row4(space_rot, f))
        t = qrot(up, sub(end, row3(space_pos, f)))
        x, y, z = quat_to_euler(order, qunit(qmul(up, load4(rot, f, 2))), x, y, z)
        swivel_near = wrap_near(swivel, swivel_near)
        twist_near = wrap_near(twist, twist_near)
        if abs(bend) > STRAIGHT:
            sign = 1.0 if bend > 0.0 else -1.0
        out[0, f] = t[0]
        out[1, f] = t[1]
        out[2, f] = t[2]
        out[3, f] = x
        out[4, f] = y
        out[5, f] = z
        out[6, f] = swivel_near
        out[7, f] = carry
        out[8, f] = twist_near
        out[9, f] = sign


def geometry(skeleton: Skeleton, part: LimbPart) -> Geometry:
    """Constants of a limb from its rest pose; its hinge is squared to the upper segment and turned so that the
    rest bend is not negative."""
    ids = [skeleton.index[name] for name in part.joints]
    offsets = skeleton.offsets[ids].copy()
    rests = skeleton.rests[ids].copy()
    o1, o2 = tuple(offsets[1]), tuple(offsets[2])
    d1 = scale(o1, 1.0 / norm(o1))
    d2 = scale(o2, 1.0 / norm(o2))
    mid = tuple(rests[1])
    h = _square(part.hinge, d1)
    angle, _ = angles_of(qrot(mid, d2), d1, h, cross(h, d1))
    if angle < -1e-3:
        h = scale(h, -1.0)
    b = cross(h, d1)
    angle, lift = angles_of(qrot(mid, d2), d1, h, b)
    base = qmul(qconj(direction_turn(h, b, angle, lift)), mid)
    constants = np.zeros(9)
    constants[0:3] = h
    constants[3:6] = qrot(qconj(base), h)
    constants[REST_BEND], constants[REST_CARRY] = angle, lift
    nothing = (0.0, 0.0, 0.0)
    unit = (0.0, 0.0, 0.0, 1.0)
    upper = tuple(rests[0])
    mid_rot = qmul(upper, mid)
    end = add(qrot(upper, o1), qrot(mid_rot, o2))
    constants[REST_SWIVEL] = fit_pose(nothing, unit, upper, o1, o2, constants, upper, mid_rot, end)[3]
    return Geometry(offsets, rests, constants)


@kernel
def guide_place(root, parent_rot, rest, o1, o2, constants, end, swivel, distance):  # type: ignore[no-untyped-def]
    """Where the bend guide of a limb stands: (its place, the middle joint's side of the aim line as a unit
    vector). It stands off the aim line on the side to which the hinge bends, and stays on that side when the
    limb passes through straight."""
    _, _, d1, h, _, _, _ = shape(o1, o2, constants)
    line = sub(end, root)
    reach = norm(line)
    aim = aim_of(line, reach, parent_rot, rest, d1)
    start = qmul(axis_turn(aim, constants[8] + swivel), aim_frame(parent_rot, rest, d1, h, aim))
    side = cross(aim, qrot(start, h))
    share = norm(o1) / (norm(o1) + norm(o2))
    middle = add(root, scale(line, share))
    return add(middle, scale(side, distance)), side


@kernel
def guide_swivel(root, parent_rot, rest, o1, o2, constants, end, guide):  # type: ignore[no-untyped-def]
    """The swivel (radians) that points a limb at a bend guide standing at `guide`; the inverse of
    `guide_place` at any distance. A guide on the aim line says nothing: the swivel is then zero."""
    _, _, d1, h, _, _, _ = shape(o1, o2, constants)
    line = sub(end, root)
    reach = norm(line)
    aim = aim_of(line, reach, parent_rot, rest, d1)
    side = cross(aim, qrot(aim_frame(parent_rot, rest, d1, h, aim), h))
    wanted = sub(guide, root)
    wanted = sub(wanted, scale(aim, dot(wanted, aim)))
    if norm(wanted) < 1e-9:
        return 0.0
    return math.atan2(dot(cross(side, wanted), aim), dot(side, wanted)) - constants[8]


@kernel
def guides(pos, rot, parent_rot, offsets, rest, constants, extra, out):  # type: ignore[no-untyped-def]
    """Places (F, 3) of the bend guides of posed limbs: pos (F, 3, 3), rot (F, 3, 4), parent_rot (F, 4),
    offsets (F, 3, 3). They stand off by as much as the limb's two segments are long, times 0.9, and `extra` (F,)
    metres."""
    for f in range(pos.shape[0]):
        root = load3(pos, f, 0)
        end = load3(pos, f, 2)
        up = row4(parent_rot, f)
        o1 = load3(offsets, f, 1)
        o2 = load3(offsets, f, 2)
        _, _, _, swivel = fit_pose(root, up, rest, o1, o2, constants, load4(rot, f, 0), load4(rot, f, 1), end)
        place, _ = guide_place(
            root, up, rest, o1, o2, constants, end, swivel, SENSIBLE * (norm(o1) + norm(o2)) + extra[f]
        )
        out[f, 0] = place[0]
        out[f, 1] = place[1]
        out[f, 2] = place[2]


@kernel
def bends(pos, rot, parent_rot, offsets, rest, constants, out):  # type: ignore[no-untyped-def]
    """Bend and carry angle (2, F), radians from straight and from the hinge plane, of posed limbs; the inputs are
    those of `guides`."""
    for f in range(pos.shape[0]):
        bend, carry, _, _ = fit_pose(
            load3(pos, f, 0), row4(parent_rot, f), rest, load3(offsets, f, 1), load3(offsets, f, 2), constants,
            load4(rot, f, 0), load4(rot, f, 1), load3(pos, f, 2),
        )  # fmt: skip
        out[0, f] = bend
        out[1, f] = carry + constants[7]
