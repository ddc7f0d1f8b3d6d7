"""Rigid transforms over arrays: products, inverses and distances of unit quaternions x y z w, shapes (…, 4) and (…, 3).

The scalar forms that the kernels use are in `kernels.scalars`.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .kernels.scalars import EULER_SIGNS, ORDERS, quat_to_euler, wrap_near

__all__ = [
    "EULER_SIGNS", "IDENTITY", "ORDERS", "Floats", "Ints", "euler", "inverse", "multiply", "quat_to_euler", "rotate",
    "rotation_distance", "wrap_near",
]  # fmt: skip

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
IDENTITY = (0.0, 0.0, 0.0, 1.0)


def rotation_distance(a: Floats, b: Floats) -> Floats:
    """Angle (radians, 0…π) between unit quaternions of shape (…, 4)."""
    a, b = np.broadcast_arrays(a, b)
    flip = np.where(np.sum(a * b, axis=-1, keepdims=True) < 0.0, -1.0, 1.0)
    # The chord is exact for small angles, where the arc cosine of the dot product loses half the digits.
    chord = np.linalg.norm(a - flip * b, axis=-1)
    result: Floats = 4.0 * np.arcsin(np.clip(0.5 * chord, 0.0, 1.0))
    return result


def multiply(a: Floats, b: Floats) -> Floats:
    """Products a·b of unit quaternions of shape (…, 4)."""
    ax, ay, az, aw = (a[..., k] for k in range(4))
    bx, by, bz, bw = (b[..., k] for k in range(4))
    # Component by component: general cross products cost several times as much.
    parts = (
        aw * bx + ax * bw + ay * bz - az * by,
        aw * by - ax * bz + ay * bw + az * bx,
        aw * bz + ax * by - ay * bx + az * bw,
        aw * bw - ax * bx - ay * by - az * bz,
    )
    product: Floats = np.stack(parts, axis=-1)
    return product


def inverse(q: Floats) -> Floats:
    """Inverses of unit quaternions of shape (…, 4)."""
    result: Floats = q * np.array([-1.0, -1.0, -1.0, 1.0])
    return result


def rotate(q: Floats, v: Floats) -> Floats:
    """Vectors (…, 3) turned by unit quaternions (…, 4)."""
    x, y, z, w = (q[..., k] for k in range(4))
    vx, vy, vz = (v[..., k] for k in range(3))
    tx, ty, tz = 2.0 * (y * vz - z * vy), 2.0 * (z * vx - x * vz), 2.0 * (x * vy - y * vx)
    parts = (vx + w * tx + y * tz - z * ty, vy + w * ty + z * tx - x * tz, vz + w * tz + x * ty - y * tx)
    result: Floats = np.stack(parts, axis=-1)
    return result


def euler(order: str, angles: Floats) -> Floats:
    """(F, 4) rotations of Euler angles (3, F), x y z, in a rotation order."""
    found = np.broadcast_to(np.array(IDENTITY), (angles.shape[1], 4))
    for letter in order:
        axis = "xyz".index(letter)
        one = np.zeros((angles.shape[1], 4))
        one[:, axis], one[:, 3] = np.sin(0.5 * angles[axis]), np.cos(0.5 * angles[axis])
        found = multiply(found, one)
    return found
