"""Scalar mathematics of rigid transforms for the kernels: unit quaternions (x y z w), Euler angles, means.

Scalars travel as tuples so that the kernels need no memory of their own. Every function here is compiled by Numba
without fast-math, so one frame gives the same bits alone and among ten thousand.
Formulas: K. Shoemake, "Animating rotation with quaternion curves" (1985) and "Euler angle conversion"
(Graphics Gems IV, 1994); mean rotation: H. Karcher (1977).
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numba import njit

# No fast-math; division as IEEE 754 has it rather than as an exception; and without the reference counts that
# Numba keeps for arrays, which cost more than the work (a kernel makes no arrays).
OPTIONS: dict[str, Any] = {"cache": True, "error_model": "numpy", "_nrt": False, "no_cfunc_wrapper": True}
#: Options of what no Python calls.
INNER: dict[str, Any] = {**OPTIONS, "no_cpython_wrapper": True}
#: Compiles a kernel. Each function that one calls, and each kind of arguments that it calls it with, is a unit of its own
#: to compile: so the least of two is written as a choice, and indices are unsigned throughout.
kernel = njit(**OPTIONS)
#: The same for what runs long: others may work meanwhile.
freely = njit(**{**OPTIONS, "nogil": True})
#: The same for what only kernels call.
inner = njit(**INNER)
#: The same, written into its caller: for functions that are handed tables inside the loop over frames.
inlined = njit(**{**INNER, "forceinline": True})
#: The same, written into its caller before that is compiled, so that it is no unit of its own: for what one or two call.
written = njit(**{**INNER, "inline": "always"})

#: Rotation orders by code. "xyz" means R = Rx · Ry · Rz: the last letter turns first, in the joint itself.
ORDERS = ("xyz", "xzy", "yxz", "yzx", "zxy", "zyx")
_AXES = np.array([[0, 1, 2], [0, 2, 1], [1, 0, 2], [1, 2, 0], [2, 0, 1], [2, 1, 0]], dtype=np.int64)
_PARITY = np.array([1.0, -1.0, -1.0, 1.0, 1.0, -1.0])
#: Signs (x, y, z, w) of the second term in the product of three half-angle turns: of the axis that turns second and
#: of w minus the parity of the order, of the other two plus.
EULER_SIGNS = np.array(
    [[e * (-1.0 if axis in (j, 3) else 1.0) for axis in range(4)] for e, (_, j, _) in zip(_PARITY, _AXES, strict=True)]
)
IDENTITY = (0.0, 0.0, 0.0, 1.0)


@kernel
def qmul(a, b):  # type: ignore[no-untyped-def]
    """Product a·b of two quaternions given as tuples (b turns first)."""
    ax, ay, az, aw = a
    bx, by, bz, bw = b
    return (
        aw * bx + ax * bw + ay * bz - az * by,
        aw * by - ax * bz + ay * bw + az * bx,
        aw * bz + ax * by - ay * bx + az * bw,
        aw * bw - ax * bx - ay * by - az * bz,
    )


@kernel
def qconj(q):  # type: ignore[no-untyped-def]
    """Inverse of a unit quaternion."""
    return (-q[0], -q[1], -q[2], q[3])


@kernel
def qrot(q, v):  # type: ignore[no-untyped-def]
    """Vector v (tuple of 3) turned by the unit quaternion q."""
    x, y, z, w = q
    tx = 2.0 * (y * v[2] - z * v[1])
    ty = 2.0 * (z * v[0] - x * v[2])
    tz = 2.0 * (x * v[1] - y * v[0])
    return (
        v[0] + w * tx + y * tz - z * ty,
        v[1] + w * ty + z * tx - x * tz,
        v[2] + w * tz + x * ty - y * tx,
    )


@kernel
def add(a, b):  # type: ignore[no-untyped-def]
    return (a[0] + b[0], a[1] + b[1], a[2] + b[2])


@kernel
def sub(a, b):  # type: ignore[no-untyped-def]
    return (a[0] - b[0], a[1] - b[1], a[2] - b[2])


@kernel
def scale(a, s):  # type: ignore[no-untyped-def]
    return (a[0] * s, a[1] * s, a[2] * s)


@kernel
def dot(a, b):  # type: ignore[no-untyped-def]
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


@kernel
def cross(a, b):  # type: ignore[no-untyped-def]
    return (a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0])


@kernel
def norm(a):  # type: ignore[no-untyped-def]
    return math.sqrt(a[0] * a[0] + a[1] * a[1] + a[2] * a[2])


@inner
def qunit(q):  # type: ignore[no-untyped-def]
    """q scaled to unit length."""
    s = 1.0 / math.sqrt(q[0] * q[0] + q[1] * q[1] + q[2] * q[2] + q[3] * q[3])
    return (q[0] * s, q[1] * s, q[2] * s, q[3] * s)


@inner
def axis_turn(axis, angle):  # type: ignore[no-untyped-def]
    """Quaternion of a turn by angle (radians) about a unit axis."""
    s, c = sine_cosine(0.5 * angle)
    return (axis[0] * s, axis[1] * s, axis[2] * s, c)


@kernel
def shortest_arc(u, v, spare):  # type: ignore[no-untyped-def]
    """Quaternion that turns unit vector u onto unit vector v along the shortest arc.

    Opposite vectors have no shortest arc: then the half turn goes about `spare`, a unit vector normal to u.
    """
    w = 1.0 + dot(u, v)
    if w < 1e-14:
        return (spare[0], spare[1], spare[2], 0.0)
    c = cross(u, v)
    return qunit((c[0], c[1], c[2], w))


@kernel
def frame_turn(x, y, z):  # type: ignore[no-untyped-def]
    """`turn_of` for who is no kernel."""
    return turn_of(x, y, z)


@inlined
def turn_of(x, y, z):  # type: ignore[no-untyped-def]
    """Quaternion of the right-handed orthonormal frame with columns x, y, z. Without branches: the largest of its four numbers is
    the one by which the others are taken."""
    trace = x[0] + y[1] + z[2]
    a, b, c = y[2] - z[1], z[0] - x[2], x[1] - y[0]
    d, e, f = x[1] + y[0], y[2] + z[1], z[0] + x[2]
    by_w = trace > 0.0
    by_x = (x[0] >= y[1]) & (x[0] >= z[2])
    by_y = y[1] >= z[2]
    return qunit((
        a if by_w else (1.0 + x[0] - y[1] - z[2] if by_x else (d if by_y else f)),
        b if by_w else (d if by_x else (1.0 - x[0] + y[1] - z[2] if by_y else e)),
        c if by_w else (f if by_x else (e if by_y else 1.0 - x[0] - y[1] + z[2])),
        1.0 + trace if by_w else (a if by_x else (b if by_y else c)),
    ))  # fmt: skip


@kernel
def sine_cosine(x):  # type: ignore[no-untyped-def]
    """Sine and cosine of an angle in one go, to the last bit or two: the kernels ask for both, millions of times.

    Reduction to a quarter turn in two parts, then the polynomials of fdlibm (Sun Microsystems, 1993). No branches, so
    that angles side by side are worked together. Beyond a million radians an angle's own last digit is worth more
    than what the reduction loses.
    """
    k = math.floor(x * 0.6366197723675814 + 0.5)
    r = (x - k * 1.57079632673412561417) - k * 6.07710050650619224932e-11
    r = r if abs(r) < 1.0 else 0.0
    z = r * r
    s = r + r * z * (
        -1.66666666666666324348e-01
        + z * (8.33333333332248946124e-03 + z * (-1.98412698298579493134e-04 + z * (2.75573137070700676789e-06
        + z * (-2.50507602534068634195e-08 + z * 1.58969099521155010221e-10))))
    )  # fmt: skip
    c = 1.0 - 0.5 * z + z * z * (
        4.16666666666666019037e-02
        + z * (-1.38888888888741095749e-03 + z * (2.48015872894767294178e-05 + z * (-2.75573143513906633035e-07
        + z * (2.08757232129817482790e-09 + z * -1.13596475577881948265e-11))))
    )  # fmt: skip
    quarter = k - 4.0 * math.floor(0.25 * k)
    odd = (quarter == 1.0) | (quarter == 3.0)
    sine = c if odd else s
    cosine = s if odd else c
    return -sine if quarter >= 2.0 else sine, -cosine if (quarter == 1.0) | (quarter == 2.0) else cosine


@written
def forward_angle(y, x):  # type: ignore[no-untyped-def]
    """Angle of a direction (x, y) that does not point back (x is not below zero), within a quarter turn, to the last bits.

    The angle is halved twice (the tangent of half an angle is sine over one plus cosine), then Gregory's series is short. No
    branches, so that angles side by side are worked together.
    """
    size = math.sqrt(x * x + y * y)
    x += size
    size = math.sqrt(x * x + y * y)
    t = y / (x + size)
    t = t if abs(t) <= 1.0 else 0.0
    half = t / (1.0 + math.sqrt(1.0 + t * t))
    z = half * half
    return 8.0 * half * (
        1.0 - z * (1.0 / 3.0 - z * (1.0 / 5.0 - z * (1.0 / 7.0 - z * (1.0 / 9.0 - z * (1.0 / 11.0 - z * (1.0 / 13.0
        - z * (1.0 / 15.0 - z * (1.0 / 17.0 - z * (1.0 / 19.0 - z * (1.0 / 21.0))))))))))
    )  # fmt: skip


@kernel
def euler_to_quat(order, rx, ry, rz):  # type: ignore[no-untyped-def]
    """Quaternion of Euler angles (radians, by axis) in the rotation order with this code (see ORDERS)."""
    sx, cx = sine_cosine(0.5 * rx)
    sy, cy = sine_cosine(0.5 * ry)
    sz, cz = sine_cosine(0.5 * rz)
    return (
        sx * cy * cz + EULER_SIGNS[order, 0] * (cx * sy * sz),
        sy * cx * cz + EULER_SIGNS[order, 1] * (cy * sx * sz),
        sz * cx * cy + EULER_SIGNS[order, 2] * (cz * sx * sy),
        cx * cy * cz + EULER_SIGNS[order, 3] * (sx * sy * sz),
    )


@inner
def _entry(q, row, col):  # type: ignore[no-untyped-def]
    """Entry of the rotation matrix of the unit quaternion q."""
    x, y, z, w = q
    v = (x, y, z)
    if row == col:
        a = v[(row + 1) % 3]
        b = v[(row + 2) % 3]
        return 1.0 - 2.0 * (a * a + b * b)
    third = 3 - row - col
    sign = 1.0 if (col - row) % 3 == 2 else -1.0
    return 2.0 * (v[row] * v[col] + sign * v[third] * w)


@kernel
def wrap_near(angle, near):  # type: ignore[no-untyped-def]
    """The angle plus whole turns that lies nearest to `near` (radians)."""
    return angle - 2.0 * math.pi * round((angle - near) / (2.0 * math.pi))


@kernel
def quat_to_euler(order, q, nx, ny, nz):  # type: ignore[no-untyped-def]
    """Euler angles by axis of the unit quaternion q: of all representations the one nearest to (nx, ny, nz).

    At the pole of the order the first angle is kept near and the last one takes what is left, so the
    rotation stays exact everywhere.
    """
    i = _AXES[order, 0]
    j = _AXES[order, 1]
    k = _AXES[order, 2]
    e = _PARITY[order]
    near = (nx, ny, nz)
    sin_b = e * _entry(q, i, k)
    mii = _entry(q, i, i)
    mij = _entry(q, i, j)
    cos_b = math.sqrt(mii * mii + mij * mij)
    mjk = _entry(q, j, k)
    mkk = _entry(q, k, k)
    # At the pole itself (up to rounding) the first angle is free: stay where it was.
    a = near[i] if mjk * mjk + mkk * mkk < 1e-26 else math.atan2(-e * mjk, mkk)
    b = math.atan2(sin_b, cos_b)
    ca = math.cos(a)
    sa = math.sin(a)
    # With the first turn taken off, row j is a plain turn about k: exact even near the pole.
    nji = ca * _entry(q, j, i) + e * sa * _entry(q, k, i)
    njj = ca * _entry(q, j, j) + e * sa * _entry(q, k, j)
    nik = _entry(q, i, k)
    nkk = -e * sa * mjk + ca * mkk
    b = math.atan2(e * nik, nkk)
    c = math.atan2(e * nji, njj)
    a1 = wrap_near(a, near[i])
    b1 = wrap_near(b, near[j])
    c1 = wrap_near(c, near[k])
    a2 = wrap_near(a + math.pi, near[i])
    b2 = wrap_near(math.pi - b, near[j])
    c2 = wrap_near(c + math.pi, near[k])
    d1 = abs(a1 - near[i]) + abs(b1 - near[j]) + abs(c1 - near[k])
    d2 = abs(a2 - near[i]) + abs(b2 - near[j]) + abs(c2 - near[k])
    if d2 < d1:
        a1, b1, c1 = a2, b2, c2
    if i == 0:
        if j == 1:
            return a1, b1, c1
        return a1, c1, b1
    if i == 1:
        if j == 0:
            return b1, a1, c1
        return c1, a1, b1
    if j == 0:
        return b1, c1, a1
    return c1, b1, a1


@inlined
def qlog(q):  # type: ignore[no-untyped-def]
    """Rotation vector (radians, |v| ≤ π) of a unit quaternion. Without branches."""
    side = -1.0 if q[3] < 0.0 else 1.0
    s = math.sqrt(q[0] * q[0] + q[1] * q[1] + q[2] * q[2])
    f = 2.0 * side * (forward_angle(s, side * q[3]) / s if s >= 1e-12 else 1.0)
    return (q[0] * f, q[1] * f, q[2] * f)


@inlined
def qexp(v):  # type: ignore[no-untyped-def]
    """Unit quaternion of a rotation vector (radians). Without branches."""
    a = norm(v)
    s, c = sine_cosine(0.5 * a)
    f = s / a if a >= 1e-12 else 0.5
    return (v[0] * f, v[1] * f, v[2] * f, c)


@inlined
def part_way(a, b, w):  # type: ignore[no-untyped-def]
    """The share w (0…1) of the way from rotation a to rotation b along the shortest arc; 1 gives b itself. Without branches."""
    q = qmul(a, qexp(scale(qlog(qmul(qconj(a), b)), w)))
    return (
        b[0] if w >= 1.0 else q[0], b[1] if w >= 1.0 else q[1], b[2] if w >= 1.0 else q[2], b[3] if w >= 1.0 else q[3]
    )  # fmt: skip


@kernel
def slerp(a, b, w):  # type: ignore[no-untyped-def]
    """The share w of the way from rotation a to rotation b along the shortest arc; w 0 and 1 give a and b."""
    if w == 0.0:
        return a
    if w == 1.0:
        return b
    return qmul(a, qexp(scale(qlog(qmul(qconj(a), b)), w)))


@kernel
def mean_rotation(quats, weights, count):  # type: ignore[no-untyped-def]
    """Weighted geodesic (Karcher) mean of the first `count` rotations; for two it is the shortest arc.

    quats: (n, 4) unit quaternions; weights: (n,) not negative, summing to one.
    """
    first = 0
    for n in range(count):
        if weights[n] > weights[first]:
            first = n
    m = (quats[first, 0], quats[first, 1], quats[first, 2], quats[first, 3])
    if weights[first] >= 1.0:
        return m
    if count == 2:
        other = 1 - first
        q = (quats[other, 0], quats[other, 1], quats[other, 2], quats[other, 3])
        return part_way(m, q, weights[other])
    for _ in range(60):
        step = (0.0, 0.0, 0.0)
        for n in range(count):
            if weights[n] > 0.0:
                q = (quats[n, 0], quats[n, 1], quats[n, 2], quats[n, 3])
                step = add(step, scale(qlog(qmul(qconj(m), q)), weights[n]))
        m = qunit(qmul(m, qexp(step)))
        if dot(step, step) < 1e-30:
            break
    return m


@kernel
def nearest_way(v, way):  # type: ignore[no-untyped-def]
    """Of all rotation vectors (radians) that turn as v does, whole turns more or less about its axis, the one nearest to `way`."""
    n = norm(v)
    if n < 1e-12:
        # All axes are as good: whole turns about that of the way.
        n = norm(way)
        return scale(way, 2.0 * math.pi * math.floor(n / (2.0 * math.pi) + 0.5) / n) if n > 1e-12 else v
    more = math.floor((dot(way, v) / n - n) / (2.0 * math.pi) + 0.5)
    return scale(v, 1.0 + 2.0 * math.pi * more / n)


@kernel
def turned_round(quats, weight, way):  # type: ignore[no-untyped-def]
    """Part of the way from the first of two rotations to the second, by `weight` of one: along that of all arcs between them
    whose rotation vector is nearest to `way` (radians), which stepped channels choose.

    quats: (2, 4) or more unit quaternions.
    """
    a = (quats[0, 0], quats[0, 1], quats[0, 2], quats[0, 3])
    b = (quats[1, 0], quats[1, 1], quats[1, 2], quats[1, 3])
    v = nearest_way(qlog(qmul(qconj(a), b)), way)
    return qunit(qmul(a, qexp(scale(v, weight))))
