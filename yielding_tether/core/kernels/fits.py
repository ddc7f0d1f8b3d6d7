"""Products and turns side by side, and fitting Euler channels of joints and channels of controls: the inverses of their rows."""

from __future__ import annotations

import math

from .arrays import line3, line4, load4
from .scalars import euler_to_quat, kernel, qconj, qmul, qrot, quat_to_euler, qunit, sub


@kernel
def products(a, b, out):  # type: ignore[no-untyped-def]
    """Products of quaternions a, b: (F, 4); out: (F, 4)."""
    for f in range(a.shape[0]):
        out[f, 0], out[f, 1], out[f, 2], out[f, 3] = qmul(line4(a, f), line4(b, f))


@kernel
def apart(pos, rot, other_pos, other_rot, first, last, place, turn, out):  # type: ignore[no-untyped-def]
    """How far apart the worst of some joints are, as a share of what they may be: the larger of place and of turn.

    pos, other_pos: (F, N, 3) metres; rot, other_rot: (F, N, 4) unit quaternions; first to last: which of the N count; place (metres)
    and turn (radians): what they may be apart; out: (F,).
    """
    for f in range(pos.shape[0]):
        far, chord = 0.0, 0.0
        for n in range(first, last):
            square = 0.0
            for c in range(3):
                d = pos[f, n, c] - other_pos[f, n, c]
                square += d * d
            far = square if square > far else far
            dot = 0.0
            for c in range(4):
                dot += rot[f, n, c] * other_rot[f, n, c]
            sign = -1.0 if dot < 0.0 else 1.0
            square = 0.0
            for c in range(4):
                d = rot[f, n, c] - sign * other_rot[f, n, c]
                square += d * d
            chord = square if square > chord else chord
        # The chord is exact for small angles, where the arc cosine of the dot product loses half the digits.
        half = 0.5 * math.sqrt(chord)
        angle = 4.0 * math.asin(half if half < 1.0 else 1.0)
        far = math.sqrt(far) / place
        out[f] = far if far > angle / turn else angle / turn


@kernel
def turned(q, v, out):  # type: ignore[no-untyped-def]
    """Vectors v (F, 3) turned by unit quaternions q (F, 4); out: (F, 3)."""
    for f in range(q.shape[0]):
        out[f, 0], out[f, 1], out[f, 2] = qrot(line4(q, f), line3(v, f))


@kernel
def rotations(order, angles, out):  # type: ignore[no-untyped-def]
    """Rotations of Euler angles (3, F) in one rotation order; out: (F, 4)."""
    for f in range(angles.shape[1]):
        out[f, 0], out[f, 1], out[f, 2], out[f, 3] = euler_to_quat(order, angles[0, f], angles[1, f], angles[2, f])


@kernel
def turns(rot, above, rests, order, near, out):  # type: ignore[no-untyped-def]
    """Euler channels of joints, each time nearest to the time before.

    rot, above: (F, n, 4) world rotations of the joints and of what they hang from; near: (n, 3) the
    angles to start near; out: (n * 3, F) radians.
    """
    for n in range(rot.shape[1]):
        x, y, z = near[n, 0], near[n, 1], near[n, 2]
        back = qconj(line4(rests, n))
        for f in range(rot.shape[0]):
            local = qmul(back, qmul(qconj(load4(above, f, n)), load4(rot, f, n)))
            x, y, z = quat_to_euler(order[n], qunit(local), x, y, z)
            out[3 * n, f] = x
            out[3 * n + 1, f] = y
            out[3 * n + 2, f] = z


@kernel
def place(pos, rot, space_pos, space_rot, order, near, out):  # type: ignore[no-untyped-def]
    """Channels tx ty tz rx ry rz of a control at world pos (F, 3), rot (F, 4) in its space; near (3,); out (6, F)."""
    x, y, z = near[0], near[1], near[2]
    for f in range(pos.shape[0]):
        up = qconj(line4(space_rot, f))
        t = qrot(up, sub(line3(pos, f), line3(space_pos, f)))
        out[0, f] = t[0]
        out[1, f] = t[1]
        out[2, f] = t[2]
        x, y, z = quat_to_euler(order, qunit(qmul(up, line4(rot, f))), x, y, z)
        out[3, f] = x
        out[4, f] = y
        out[5, f] = z
