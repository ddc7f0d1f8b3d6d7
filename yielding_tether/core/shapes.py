"""Distances from the shapes of a body: of contacts to what they stand on, of a skin to what it covers."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from .cast import Shape
from .transforms import Floats, Ints, inverse, rotate

#: Balls along a bone.
BALLS = 17


def signed_distance(shape: Shape, points: Floats) -> Floats:
    """Distance (...,) of points (..., 3) in the shape's joint from its surface, metres; below zero within (of a block zero). Of a
    ball with unlike axes an estimate that is exact on its surface (the gradient's, after Taubin, 1994)."""
    a = np.asarray(shape.a, dtype=np.float64)
    found: Floats
    if shape.form == "block":
        local = rotate(inverse(np.asarray(shape.turn)), points - a)
        outside = np.maximum(np.abs(local) - 0.5 * np.asarray(shape.size), 0.0)
        return np.asarray(np.linalg.norm(outside, axis=-1))
    if shape.form == "ball":
        half = np.asarray(shape.size) if len(shape.size) == 3 else np.repeat(shape.size[0], 3)
        local = rotate(inverse(np.asarray(shape.turn)), points - a)
        scaled, steep = np.linalg.norm(local / half, axis=-1), np.linalg.norm(local / half**2, axis=-1)
        found = np.where(steep > 1e-9, scaled * (scaled - 1.0) / np.maximum(steep, 1e-9), -half.min())
        return found
    line = np.asarray(shape.b, dtype=np.float64)
    if shape.form == "ring":
        axis = line / max(float(np.linalg.norm(line)), 1e-12)
        off = points - a
        along = off @ axis
        across = np.linalg.norm(off - along[..., None] * axis, axis=-1)
        return np.asarray(np.hypot(across - shape.size[0], along) - shape.size[-1])
    span = line - a
    share = np.clip((points - a) @ span / max(float(span @ span), 1e-12), 0.0, 1.0)
    radius = shape.size[0] + (shape.size[-1] - shape.size[0]) * share
    return np.asarray(np.linalg.norm(points - (a + share[..., None] * span), axis=-1) - radius)


def solid_distance(shape: Shape, points: Floats) -> Floats:
    """The same, below zero within a block too, exactly."""
    if shape.form != "block":
        return signed_distance(shape, points)
    local = rotate(inverse(np.asarray(shape.turn)), points - np.asarray(shape.a, dtype=np.float64))
    off = np.abs(local) - 0.5 * np.asarray(shape.size)
    found: Floats = np.linalg.norm(np.maximum(off, 0.0), axis=-1) + np.minimum(off.max(axis=-1), 0.0)
    return found


def capsules_distance(points: Floats, a: Floats, b: Floats, radii: Floats) -> Floats:
    """Distance (..., N) of points (..., N, 3) from the nearest of M capsules, metres, below zero within: ends a and b (..., M, 3),
    radii (..., M, 2) there. What comes before may be one for many."""
    span = (b - a)[..., None, :, :]
    off = points[..., None, :] - a[..., None, :, :]
    length = np.maximum(np.einsum("...k,...k", span, span), 1e-12)
    share = np.clip(np.einsum("...k,...k", off, span) / length, 0.0, 1.0)
    off -= share[..., None] * span
    radius = radii[..., None, :, 0] + share * (radii[..., None, :, 1] - radii[..., None, :, 0])
    found: Floats = (np.sqrt(np.einsum("...k,...k", off, off)) - radius).min(axis=-1)
    return found


class Balls(NamedTuple):
    """Balls that fill the bones of some joints: `joint` (N,) which of those each is in, `at` (N, 3) where, `radius` (N,)."""

    joint: Ints
    at: Floats
    radius: Floats


def balls_of(shapes: Sequence[Shape], joints: Sequence[str]) -> Balls:
    """What of some joints is drawn as capsules, of a hand its fingers and not the palm, as balls."""
    joint, at, radius = [], [], []
    for shape in shapes:
        if shape.joint not in joints or shape.form != "capsule":
            continue
        a, b = np.array(shape.a), np.array(shape.b)
        for share in np.linspace(0.0, 1.0, BALLS):
            joint.append(joints.index(shape.joint))
            at.append(a + share * (b - a))
            radius.append(shape.size[0] + share * (shape.size[-1] - shape.size[0]))
    return Balls(np.array(joint, dtype=np.int64), np.array(at).reshape(-1, 3), np.array(radius))
