"""Rigid transforms over arrays: products, inverses and distances of unit quaternions x y z w, shapes (…, 4) and (…, 3).

The scalar forms that the kernels use are in `kernels.scalars`.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .kernels.scalars import EULER_SIGNS, ORDERS, quat_to_euler, wrap_near

__all__ = [
    "EULER_SIGNS", "IDENTITY", "ORDERS", "Floats", "Ints", "inverse", "multiply", "quat_to_euler", "rotate",
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
    av, aw, bv, bw = a[..., :3], a[..., 3:], b[..., :3], b[..., 3:]
    v = aw * bv + bw * av + np.cross(av, bv)
    product: Floats = np.concatenate([v, aw * bw - np.sum(av * bv, axis=-1, keepdims=True)], axis=-1)
    return product


def inverse(q: Floats) -> Floats:
    """Inverses of unit quaternions of shape (…, 4)."""
    result: Floats = q * np.array([-1.0, -1.0, -1.0, 1.0])
    return result


def rotate(q: Floats, v: Floats) -> Floats:
    """Vectors (…, 3) turned by unit quaternions (…, 4)."""
    t = 2.0 * np.cross(q[..., :3], v)
    result: Floats = v + q[..., 3:] * t + np.cross(q[..., :3], t)
    return result
