"""Distances from the shapes of a body: of contacts to what they stand on, of a skin to what it covers."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from .cast import Shape
from .transforms import Floats, Ints, rotate

#: Balls along a bone.
BALLS = 17


def signed_distance(shape: Shape, points: Floats) -> Floats:
    """Distance (...,) of points (..., 3) in the shape's joint from its surface, metres; below zero within (of a block zero). Of a
    ball with unlike axes an estimate that is exact on its surface (the gradient's, after Taubin, 1994)."""
    found: Floats
    if shape.form == "block":
        return _length(np.maximum(_outside(shape, points), 0.0))
    if shape.form == "ball":
        half = np.asarray(shape.size) if len(shape.size) == 3 else np.repeat(shape.size[0], 3)
        local = _within(shape, points)
        scaled, steep = _length(local / half), _length(local / half**2)
        found = np.where(steep > 1e-9, scaled * (scaled - 1.0) / np.maximum(steep, 1e-9), -half.min())
        return found
    a, line = (np.asarray(x, dtype=np.float64) for x in (shape.a, shape.b))
    off = points - a
    if shape.form == "ring":
        axis = line / max(float(np.linalg.norm(line)), 1e-12)
        along = off @ axis
        across = _length(off - along[..., None] * axis)
        return np.asarray(np.hypot(across - shape.size[0], along) - shape.size[-1])
    span = line - a
    share = np.clip(off @ (span / max(float(span @ span), 1e-12)), 0.0, 1.0)
    found = _length(off - share[..., None] * span)
    found -= shape.size[0] + (shape.size[-1] - shape.size[0]) * share
    return found


def solid_distance(shape: Shape, points: Floats) -> Floats:
    """The same, below zero within a block too, exactly."""
    if shape.form != "block":
        return signed_distance(shape, points)
    off = _outside(shape, points)
    deepest = np.maximum(np.maximum(off[..., 0], off[..., 1]), off[..., 2])
    found: Floats = _length(np.maximum(off, 0.0)) + np.minimum(deepest, 0.0)
    return found


def exact(shape: Shape) -> bool:
    """Whether distances from a shape differ between two points by no more than these are apart: not those that are estimates, nor
    those from what tapers."""
    return shape.form in ("block", "ring") or len(set(shape.size)) == 1


def _within(shape: Shape, points: Floats) -> Floats:
    """Points (..., 3) as the shape's own axes have them."""
    axes = np.ascontiguousarray(rotate(np.asarray(shape.turn, dtype=np.float64), np.eye(3)).T)
    found: Floats = (points - np.asarray(shape.a, dtype=np.float64)) @ axes
    return found


def _outside(shape: Shape, points: Floats) -> Floats:
    """How far points (..., 3) are beyond each pair of a block's faces, below zero between them."""
    found = _within(shape, points)
    np.abs(found, out=found)
    found -= 0.5 * np.asarray(shape.size)
    return found


def _length(vectors: Floats) -> Floats:
    found: Floats = np.sqrt(np.einsum("...k,...k", vectors, vectors))
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
    bones = [s for s in shapes if s.joint in joints and s.form == "capsule"]
    share = np.linspace(0.0, 1.0, BALLS)
    joint = np.repeat(np.array([joints.index(s.joint) for s in bones], dtype=np.int64), BALLS)
    ends = np.array([(s.a, s.b) for s in bones], dtype=np.float64).reshape(-1, 2, 3)
    thick = np.array([(s.size[0], s.size[-1]) for s in bones], dtype=np.float64).reshape(-1, 2)
    at = ends[:, :1] + share[:, None] * (ends[:, 1:] - ends[:, :1])
    radius = thick[:, :1] + share * (thick[:, 1:] - thick[:, :1])
    return Balls(joint, at.reshape(-1, 3), radius.ravel())
