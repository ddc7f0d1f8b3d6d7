"""Rigid transforms over arrays: products, inverses and distances of unit quaternions x y z w, shapes (…, 4) and (…, 3).

The scalar forms that the kernels use are in `kernels.scalars`.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .kernels import fits
from .kernels.scalars import EULER_SIGNS, ORDERS, quat_to_euler, wrap_near

__all__ = [
    "EULER_SIGNS", "IDENTITY", "ORDERS", "Floats", "Ints", "euler", "inverse", "multiply", "quat_to_euler", "rotate",
    "rotation_distance", "whole_turns_near", "wrap_near",
]  # fmt: skip

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
IDENTITY = (0.0, 0.0, 0.0, 1.0)


def whole_turns_near(angles: Floats, near: Floats | float) -> Floats:
    """(…,) angles plus the whole turns that bring each nearest to `near` (radians)."""
    found: Floats = angles + 2.0 * np.pi * np.round((near - angles) / (2.0 * np.pi))
    return found


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
    shape = _outer(a, b)
    product: Floats = np.empty((*shape, 4))
    fits.products(_in_rows(a, shape), _in_rows(b, shape), product.reshape(-1, 4))
    return product


def inverse(q: Floats) -> Floats:
    """Inverses of unit quaternions of shape (…, 4)."""
    result: Floats = q * np.array([-1.0, -1.0, -1.0, 1.0])
    return result


def rotate(q: Floats, v: Floats) -> Floats:
    """Vectors (…, 3) turned by unit quaternions (…, 4)."""
    shape = _outer(q, v)
    turned: Floats = np.empty((*shape, 3))
    fits.turned(_in_rows(q, shape), _in_rows(v, shape), turned.reshape(-1, 3))
    return turned


def _outer(a: Floats, b: Floats) -> tuple[int, ...]:
    """The shape of two arrays broadcast to one another, without their last axis."""
    one, other = a.shape[:-1], b.shape[:-1]
    # Asking costs as much as a few products.
    return one if one == other else np.broadcast_shapes(one, other)


def _in_rows(a: Floats, shape: tuple[int, ...]) -> Floats:
    """(F, k) of (…, k), broadcast to a shape, in memory of one kind: another would have the kernels compiled once more."""
    rows = (a if a.shape[:-1] == shape else np.broadcast_to(a, (*shape, a.shape[-1]))).reshape(-1, a.shape[-1])
    return rows if rows.flags.writeable and rows.flags.c_contiguous else np.array(rows, order="C")


def euler(order: str, angles: Floats) -> Floats:
    """(F, 4) rotations of Euler angles (3, F), x y z, in a rotation order."""
    found: Floats = np.empty((angles.shape[1], 4))
    fits.rotations(ORDERS.index(order), np.array(angles, dtype=np.float64, order="C"), found)
    return found
