"""The two-segment limb's formulas (see `systems.two_segment`), and its rows: three joints from an end, angles and a sign.

The solve is written with choices in place of branches, so that times side by side are worked together.
"""

from __future__ import annotations

import math

from .arrays import line4, load3, load4
from .block import (
    BLOCK,
    U,
    _1,
    _2,
    _3,
    _6,
    _7,
    copy_node,
    copy_rows,
    moving_offset,
    node_slot,
    place_at,
    put_at,
    row3,
    row4,
    turn_at,
    value_slot,
)
from .guide import turned_share
from .rows import kind
from .scalars import (
    add,
    axis_turn,
    cross,
    dot,
    inlined,
    inner,
    kernel,
    norm,
    qconj,
    qmul,
    qrot,
    qunit,
    scale,
    shortest_arc,
    sine_cosine,
    sub,
    turn_of,
    wrap_near,
    written,
)

#: Distance of a bend guide from the line of aim, as a share of the limb's length.
SENSIBLE = 0.9
#: Below this bend the direction of bending carries no information.
STRAIGHT = 1e-6
#: Numbers of a row: integers nodes of the three joints, of what the limb hangs from, of the end's control, channels of
#: swivel, carry, twist and sign, then for each joint its first length channel and its joint of the capture, slot of the
#: size, node of where the bend guide is carried (-1 nowhere); floats
#: offsets (9), rest of the first joint (4), constants (9), form (18).
INTS, FLOATS = 17, 40


@inlined
def normal_to(v, onto):  # type: ignore[no-untyped-def]
    """v made normal to the unit vector `onto`, of unit length; any normal where v lies along it. Without branches."""
    v = sub(v, scale(onto, dot(v, onto)))
    apart = norm(v) >= 1e-9
    first = abs(onto[0]) < 0.6
    v = (
        v[0] if apart else (0.0 if first else -onto[2]), v[1] if apart else (onto[2] if first else 0.0),
        v[2] if apart else (-onto[1] if first else onto[0]),
    )  # fmt: skip
    return scale(v, 1.0 / norm(v))


@kernel
def square(v, onto):  # type: ignore[no-untyped-def]
    """`normal_to` for who is no kernel."""
    return normal_to(v, onto)


@inlined
def form_of(o1, o2, hinge, lower_hinge):  # type: ignore[no-untyped-def]
    """Lengths, direction, hinge, its normal, lower direction and the turn Q of a limb with these offsets and the hinge
    in the frames of its upper and of its middle joint."""
    l1 = norm(o1)
    l2 = norm(o2)
    d1 = scale(o1, 1.0 / l1)
    d2 = scale(o2, 1.0 / l2)
    h = normal_to(hinge, d1)
    h2 = normal_to(lower_hinge, d2)
    b = cross(h, d1)
    q = qmul(turn_of(d1, b, h), qconj(turn_of(d2, cross(h2, d2), h2)))
    return l1, l2, d1, h, b, d2, q


@kernel
def shape(o1, o2, hinge, lower_hinge):  # type: ignore[no-untyped-def]
    """`form_of` for who is no kernel."""
    return form_of(o1, o2, hinge, lower_hinge)


@kernel
def direction_turn(h, b, angle, lift):  # type: ignore[no-untyped-def]
    """M: turn about the hinge by `angle` after a lift out of its plane by `lift`."""
    q = axis_turn(h, angle)
    if lift == 0.0:
        return q
    return qmul(q, axis_turn((-b[0], -b[1], -b[2]), lift))


@inlined
def half_angle(c, s):  # type: ignore[no-untyped-def]
    """Cosine and sine of half the angle whose cosine and sine are c and s, without the angle; exact near zero and
    near the half turn."""
    h = math.sqrt(0.5 * (1.0 + abs(c)))
    o = 0.5 * abs(s) / h
    hs = h if c <= 0.0 else o
    return (o if c <= 0.0 else h), (hs if s >= 0.0 else -hs)


@inner
def aimed_turn(v, d, h, b):  # type: ignore[no-untyped-def]
    """M for the direction v, a vector of any length: what `direction_turn` gives for its angles, without them."""
    x = dot(v, d)
    y = dot(v, b)
    z = dot(v, h)
    flat = math.sqrt(x * x + y * y)
    size = math.sqrt(flat * flat + z * z)
    c, s = half_angle(x / flat, y / flat) if flat > 0.0 else (1.0, 0.0)
    q = (h[0] * s, h[1] * s, h[2] * s, c)
    if z == 0.0:
        return q
    c, s = half_angle(flat / size, z / size)
    return qmul(q, (-b[0] * s, -b[1] * s, -b[2] * s, c))


@kernel
def angles_of(v, d, h, b):  # type: ignore[no-untyped-def]
    """Angle about the hinge and lift out of its plane of a direction v."""
    x = dot(v, d)
    y = dot(v, b)
    return math.atan2(y, x), math.atan2(dot(v, h), math.sqrt(x * x + y * y))


@inner
def aim_of(line, reach, parent_rot, rest, d):  # type: ignore[no-untyped-def]
    """Unit direction from the limb's root to its end; that of rest where a full fold leaves none."""
    if reach > 1e-9:
        return scale(line, 1.0 / reach)
    return qrot(qmul(parent_rot, rest), d)


@inner
def aim_frame(parent_rot, rest, d, h, aim):  # type: ignore[no-untyped-def]
    """The upper frame with d swung from its rest direction onto `aim` along the shortest arc, swivel zero."""
    up = qmul(parent_rot, rest)
    return qmul(shortest_arc(qrot(up, d), aim, qrot(up, h)), up)


@inlined
def solve_pose(root, up, rest, o1, o2, form, constants, end, swivel, carry, twist, sign):  # type: ignore[no-untyped-def]
    """World transforms of one limb.

    root, up: place of its first joint and rotation of what it hangs from; rest: of its first joint; form: the `shape` of
    its offsets o1 and o2; constants: rest carry and swivel; end: place of the IK control. Returns (upper rotation,
    middle place, middle rotation, end place). Out of reach the limb points straight at the control; a full fold of
    equal segments aims as at rest.
    """
    l1, l2, d1, h, bb, d2, qq = form
    rest_carry, rest_swivel = constants
    lift = rest_carry + carry
    line = (end[0] - root[0], end[1] - root[1], end[2] - root[2])
    reach = math.sqrt(line[0] * line[0] + line[1] * line[1] + line[2] * line[2])
    _, cos_lift = sine_cosine(lift)
    lift_s, lift_c = sine_cosine(0.5 * lift)
    flat = 2.0 * l1 * l2 * cos_lift
    c = (reach * reach - l1 * l1 - l2 * l2) / flat if flat != 0.0 else 1.0
    # Within rounding of straight, or of the full fold, the cosine turns noise of 1e-14 into an angle of 1e-7;
    # more so the nearer the lower segment comes to the hinge.
    rounding = 1e-13 / abs(cos_lift)
    c = 1.0 if c >= 1.0 - rounding else c
    c = -1.0 if c <= -1.0 + rounding else c
    half_cos = math.sqrt(0.5 * (1.0 + c))
    half_sin = math.sqrt(0.5 * (1.0 - c))
    half_sin = -half_sin if sign < 0.0 else half_sin
    middle = qmul(
        (h[0] * half_sin, h[1] * half_sin, h[2] * half_sin, half_cos),
        (-bb[0] * lift_s, -bb[1] * lift_s, -bb[2] * lift_s, lift_c),
    )
    lower = qrot(middle, d1)
    inner = (d1[0] * l1 + lower[0] * l2, d1[1] * l1 + lower[1] * l2, d1[2] * l1 + lower[2] * l2)
    upright = qmul(up, rest)
    start = qrot(upright, d1)
    far = reach > 1e-9
    shrink = 1.0 / (reach if far else 1.0)
    aim = (
        line[0] * shrink if far else start[0],
        line[1] * shrink if far else start[1],
        line[2] * shrink if far else start[2],
    )
    # The shortest arc from the rest direction to the aim; opposite directions go about the hinge.
    spare = qrot(upright, h)
    w = 1.0 + (start[0] * aim[0] + start[1] * aim[1] + start[2] * aim[2])
    across = cross(start, aim)
    opposite = w < 1e-14
    arc = qunit(
        (
            spare[0] if opposite else across[0],
            spare[1] if opposite else across[1],
            spare[2] if opposite else across[2],
            0.0 if opposite else w,
        )
    )
    turn_s, turn_c = sine_cosine(0.5 * (rest_swivel + swivel))
    upper = qmul((aim[0] * turn_s, aim[1] * turn_s, aim[2] * turn_s, turn_c), qmul(arc, upright))
    # Take off the turn that leads the upper segment to the line of aim: `aimed_turn` of `inner`.
    x = inner[0] * d1[0] + inner[1] * d1[1] + inner[2] * d1[2]
    y = inner[0] * bb[0] + inner[1] * bb[1] + inner[2] * bb[2]
    z = inner[0] * h[0] + inner[1] * h[1] + inner[2] * h[2]
    flat = math.sqrt(x * x + y * y)
    size = math.sqrt(flat * flat + z * z)
    plain = flat > 0.0
    shrink = 1.0 / (flat if plain else 1.0)
    size = size if size > 0.0 else 1.0
    ca, sa = half_angle(x * shrink if plain else 1.0, y * shrink if plain else 0.0)
    cb, sb = half_angle(flat / size, z / size)
    aimed = qmul((h[0] * sa, h[1] * sa, h[2] * sa, ca), (-bb[0] * sb, -bb[1] * sb, -bb[2] * sb, cb))
    upper = qunit(qmul(upper, qconj(aimed)))
    mid = add(root, qrot(upper, o1))
    twist_s, twist_c = sine_cosine(0.5 * twist)
    mid_turn = qmul(qmul(middle, qq), (d2[0] * twist_s, d2[1] * twist_s, d2[2] * twist_s, twist_c))
    mid_rot = qunit(qmul(upper, mid_turn))
    return upper, mid, mid_rot, add(mid, qrot(mid_rot, o2))


@inlined
def solve_one(root, up, rest, o1, o2, hinge, lower_hinge, constants, end, swivel, carry, twist, sign):  # type: ignore[no-untyped-def]  # fmt: skip
    """`solve_pose` of a limb whose form is not known beforehand, compiled once for all who call it."""
    form = form_of(o1, o2, hinge, lower_hinge)
    return solve_pose(root, up, rest, o1, o2, form, constants, end, swivel, carry, twist, sign)


@written
def put_limb(out, b, root, upper, mid, mid_rot, end):  # type: ignore[no-untyped-def]
    """Writes what a solve gives, but the rotation of the end, to three nodes in a row."""
    put_at(out, b, root, upper)
    put_at(out, b + _7, mid, mid_rot)
    o = b + _7 + _7
    out[o] = end[0]
    out[o + _1] = end[1]
    out[o + _2] = end[2]


@inner
def swivel_to(root, parent_rot, rest, o1, hinge, rest_swivel, end, guide):  # type: ignore[no-untyped-def]
    """`guide_swivel` of a limb with this hinge and swivel at rest."""
    d1 = scale(o1, 1.0 / norm(o1))
    h = square(hinge, d1)
    line = sub(end, root)
    reach = norm(line)
    aim = aim_of(line, reach, parent_rot, rest, d1)
    side = cross(aim, qrot(aim_frame(parent_rot, rest, d1, h, aim), h))
    wanted = sub(guide, root)
    wanted = sub(wanted, scale(aim, dot(wanted, aim)))
    if norm(wanted) < 1e-9:
        return 0.0
    return math.atan2(dot(cross(side, wanted), aim), dot(side, wanted)) - rest_swivel


@inner
def swivel_given(root, parent_rot, rest, o1, hinge, rest_swivel, end, place, turn):  # type: ignore[no-untyped-def]
    """Swivel (radians) that a bend guide gives where it is carried to `place`, by the share kept in `turn`: between nothing
    and all of the way to that place, on the shorter side."""
    share = turned_share(turn)
    if share == 0.0:
        return 0.0
    return share * wrap_near(swivel_to(root, parent_rot, rest, o1, hinge, rest_swivel, end, place), 0.0)


#: Rows of what a solve reads: what the limb hangs from (7), the control (7), swivel, carry, twist, sign.
_TARGET, _ANGLES = U(7 * BLOCK), U(14 * BLOCK)
_END = U(14 * BLOCK)


@written
def gather(ints, i, size, values, work, inp):  # type: ignore[no-untyped-def]
    """Lays what a solve reads side by side."""
    copy_rows(work, node_slot(ints[i + U(3)]), inp, U(0), U(7), size)
    copy_rows(work, node_slot(ints[i + U(4)]), inp, _TARGET, U(7), size)
    for k in range(U(4)):
        copy_rows(values, value_slot(ints[i + U(5) + k]), inp, _ANGLES + k * _1, U(1), size)


@written
def scatter(ints, i, size, out, inp, work):  # type: ignore[no-untyped-def]
    """Hands the three joints over; the end is turned as its control."""
    for k in range(U(3)):
        copy_node(out, k * _7, work, node_slot(ints[i + k]), size)
    copy_rows(inp, _TARGET + _3, work, node_slot(ints[i + U(2)]) + _3, U(4), size)


def limbs(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places limbs whose segments keep their lengths."""
    values, work, inp, out = room.values, room.work, room.inp, room.out
    for n in range(U(count)):
        i = U(first_i) + n * U(INTS)
        f = U(first_f) + n * U(FLOATS)
        gather(ints, i, size, values, work, inp)
        o0 = row3(floats, f)
        o1 = row3(floats, f + U(3))
        o2 = row3(floats, f + U(6))
        rest = row4(floats, f + U(9))
        constants = (floats[f + U(20)], floats[f + U(21)])
        t = f + U(22)
        form = (
            floats[t], floats[t + U(1)], row3(floats, t + U(2)), row3(floats, t + U(5)), row3(floats, t + U(8)),
            row3(floats, t + U(11)), row4(floats, t + U(14)),
        )  # fmt: skip
        for b in range(U(size)):
            up = turn_at(inp, b)
            root = add(place_at(inp, b), qrot(up, o0))
            a = b + _ANGLES
            upper, mid, mid_rot, end = solve_pose(
                root, up, rest, o1, o2, form, constants, place_at(inp, b + _TARGET), inp[a], inp[a + _1], inp[a + _2],
                inp[a + _3],
            )  # fmt: skip
            put_limb(out, b, root, upper, mid, mid_rot, end)
        scatter(ints, i, size, out, inp, work)


def grown_limbs(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places limbs whose segments keep their lengths but for the size of their body: solved at size one, about their roots."""
    values, work, inp, out, sizes = room.values, room.work, room.inp, room.out, room.sizes
    for n in range(U(count)):
        i = U(first_i) + n * U(INTS)
        f = U(first_f) + n * U(FLOATS)
        gather(ints, i, size, values, work, inp)
        o0 = row3(floats, f)
        o1 = row3(floats, f + U(3))
        o2 = row3(floats, f + U(6))
        rest = row4(floats, f + U(9))
        slot = value_slot(ints[i + U(15)])
        constants = (floats[f + U(20)], floats[f + U(21)])
        t = f + U(22)
        form = (
            floats[t], floats[t + U(1)], row3(floats, t + U(2)), row3(floats, t + U(5)), row3(floats, t + U(8)),
            row3(floats, t + U(11)), row4(floats, t + U(14)),
        )  # fmt: skip
        for b in range(U(size)):
            up = turn_at(inp, b)
            s = sizes[slot + b]
            root = add(place_at(inp, b), scale(qrot(up, o0), s))
            target = add(root, scale(sub(place_at(inp, b + _TARGET), root), 1.0 / s))
            a = b + _ANGLES
            upper, mid, mid_rot, end = solve_pose(
                root, up, rest, o1, o2, form, constants, target, inp[a], inp[a + _1], inp[a + _2], inp[a + _3],
            )  # fmt: skip
            mid, end = add(root, scale(sub(mid, root), s)), add(root, scale(sub(end, root), s))
            put_limb(out, b, root, upper, mid, mid_rot, end)
        scatter(ints, i, size, out, inp, work)


def moved_limbs(first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Places limbs whose segments change their lengths, or whose bend guide follows something."""
    values, work, inp, out, offsets = room.values, room.work, room.inp, room.out, room.offsets
    for n in range(U(count)):
        i = U(first_i) + n * U(INTS)
        f = U(first_f) + n * U(FLOATS)
        gather(ints, i, size, values, work, inp)
        for k in range(U(3)):
            moving_offset(
                ints[i + U(9) + k * U(2)],
                ints[i + U(10) + k * U(2)],
                ints[i + U(15)],
                floats,
                f + k * U(3),
                room,
                size,
                k * _3,
            )
        rest = row4(floats, f + U(9))
        hinge = row3(floats, f + U(13))
        lower_hinge = row3(floats, f + U(16))
        constants = (floats[f + U(20)], floats[f + U(21)])
        guide = ints[i + U(16)]
        for b in range(U(size)):
            up = turn_at(inp, b)
            root = add(place_at(inp, b), qrot(up, place_at(offsets, b)))
            o1 = place_at(offsets, b + _3)
            o2 = place_at(offsets, b + _6)
            a = b + _ANGLES
            target = place_at(inp, b + _TARGET)
            swivel = inp[a]
            if guide >= 0:
                g = node_slot(guide) + b
                swivel += swivel_given(
                    root, up, rest, o1, hinge, constants[1], target, place_at(work, g), turn_at(work, g)
                )
            upper, mid, mid_rot, end = solve_one(
                root,
                up,
                rest,
                o1,
                o2,
                hinge,
                lower_hinge,
                constants,
                target,
                swivel,
                inp[a + _1],
                inp[a + _2],
                inp[a + _3],
            )
            put_limb(out, b, root, upper, mid, mid_rot, end)
        scatter(ints, i, size, out, inp, work)


LIMB, LIMB_GROWN, LIMB_MOVED = kind(limbs), kind(grown_limbs), kind(moved_limbs)


@kernel
def fit_pose(root, parent_rot, rest, o1, o2, constants, upper, mid_rot, end):  # type: ignore[no-untyped-def]
    """The inverse of `solve_pose`: (bend, carry, twist, swivel) of a posed limb, radians, bend signed."""
    l1, l2, d1, h, b, d2, q = shape(
        o1, o2, (constants[0], constants[1], constants[2]), (constants[3], constants[4], constants[5])
    )
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
def fit(pos, rot, above, offsets, rest, constants, near, out):  # type: ignore[no-untyped-def]
    """Angles of posed limbs, each time nearest to the time before.

    pos (F, 3, 3), rot (F, 3, 4): the joints in the world; above (F, 4); offsets (F, 3, 3): local offsets of the joints at
    those times; near (4,): values to start near; out (4, F): swivel, carry, twist, bend.
    """
    swivel_near, twist_near, sign = near[0], near[2], near[3]
    for f in range(pos.shape[0]):
        bend, carry, twist, swivel = fit_pose(
            load3(pos, f, U(0)), line4(above, f), rest, load3(offsets, f, U(1)), load3(offsets, f, U(2)),
            constants, load4(rot, f, U(0)), load4(rot, f, U(1)), load3(pos, f, U(2)),
        )  # fmt: skip
        swivel_near = wrap_near(swivel, swivel_near)
        twist_near = wrap_near(twist, twist_near)
        if abs(bend) > STRAIGHT:
            sign = 1.0 if bend > 0.0 else -1.0
        out[0, f] = swivel_near
        out[1, f] = carry
        out[2, f] = twist_near
        out[3, f] = sign


@inner
def guide_place(root, parent_rot, rest, o1, o2, constants, end, swivel, distance):  # type: ignore[no-untyped-def]
    """Where the bend guide of a limb stands: (its place, the middle joint's side of the aim line as a unit
    vector). It stands off the aim line on the side to which the hinge bends, and stays on that side when the
    limb passes through straight."""
    _, _, d1, h, _, _, _ = shape(
        o1, o2, (constants[0], constants[1], constants[2]), (constants[3], constants[4], constants[5])
    )
    line = sub(end, root)
    reach = norm(line)
    aim = aim_of(line, reach, parent_rot, rest, d1)
    start = qmul(axis_turn(aim, constants[8] + swivel), aim_frame(parent_rot, rest, d1, h, aim))
    side = cross(aim, qrot(start, h))
    share = norm(o1) / (norm(o1) + norm(o2))
    middle = add(root, scale(line, share))
    return add(middle, scale(side, distance)), side


@kernel
def given(pos, parent_rot, offsets, rest, constants, place, turn, out):  # type: ignore[no-untyped-def]
    """`swivel_given` (F,) of posed limbs; the inputs are those of `guides`, and the guide's space (F, 3), (F, 4)."""
    hinge = (constants[0], constants[1], constants[2])
    for f in range(pos.shape[0]):
        out[f] = swivel_given(
            load3(pos, f, U(0)), line4(parent_rot, f), rest, load3(offsets, f, U(1)), hinge,
            constants[8], load3(pos, f, U(2)), (place[f, 0], place[f, 1], place[f, 2]), line4(turn, f),
        )  # fmt: skip


@kernel
def guide_swivel(root, parent_rot, rest, o1, constants, end, guide):  # type: ignore[no-untyped-def]
    """The swivel (radians) that points a limb at a bend guide standing at `guide`; the inverse of
    `guide_place` at any distance. A guide on the aim line says nothing: the swivel is then zero."""
    return swivel_to(root, parent_rot, rest, o1, (constants[0], constants[1], constants[2]), constants[8], end, guide)


@kernel
def guides(pos, rot, parent_rot, offsets, rest, constants, extra, out):  # type: ignore[no-untyped-def]
    """Places (F, 3) of the bend guides of posed limbs: pos (F, 3, 3), rot (F, 3, 4), parent_rot (F, 4),
    offsets (F, 3, 3). They stand off by as much as the limb's two segments are long, times 0.9, and `extra` (F,)
    metres."""
    for f in range(pos.shape[0]):
        root = load3(pos, f, U(0))
        end = load3(pos, f, U(2))
        up = line4(parent_rot, f)
        o1 = load3(offsets, f, U(1))
        o2 = load3(offsets, f, U(2))
        _, _, _, swivel = fit_pose(root, up, rest, o1, o2, constants, load4(rot, f, U(0)), load4(rot, f, U(1)), end)
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
            load3(pos, f, U(0)), line4(parent_rot, f), rest, load3(offsets, f, U(1)), load3(offsets, f, U(2)), constants,
            load4(rot, f, U(0)), load4(rot, f, U(1)), load3(pos, f, U(2)),
        )  # fmt: skip
        out[0, f] = bend
        out[1, f] = carry + constants[7]
