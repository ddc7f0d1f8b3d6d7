"""A body's skin: one smooth surface for each tone that runs over several joints, made of its shapes and weighted to its joints.

    field(p)   = smooth union of the shapes' signed distances; the surface is where it is zero
    weight(p)  ~ exp(-(how much further a joint's shapes are than the nearest) / reach), among neighbours in the skeleton

The smooth union is the polynomial one (I. Quilez, "Smooth minimum"; after Ricci, "A constructive geometry for computer
graphics", 1973), the surface comes from marching cubes (Lewiner et al., 2003), the weights are then smoothed over it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from .cast import Member, Shape
from .shapes import signed_distance
from .skeleton import Skeleton
from .transforms import Floats, inverse, rotate

#: Size of a cell as a share of the least radius of what it shows, and how many go into the height of a body at least and most.
CELL, FEWEST, MOST = 0.95, 70, 140
#: Most cells of a grid; the thinnest that is shown by it, cells for a radius.
CELLS, THIN = 2_000_000, 1.4
#: Shapes flow into one another within this share of their least radius.
BLEND = 0.55
#: How fast the weight of a joint fades as its shapes lie further than the nearest, as a share of their radius.
REACH = 0.3
#: Rounds in which weights are smoothed over the surface.
SMOOTHING = 4


@dataclass(frozen=True)
class Surface:
    """A closed surface at rest, in the member's own space: `points` and `normals` (V, 3), `faces` (T, 3), the four `joints`
    (V, 4) that carry each point, with `weights` (V, 4) that add up to one."""

    tone: str
    points: Floats
    normals: Floats
    faces: np.ndarray
    joints: np.ndarray
    weights: Floats


@dataclass(frozen=True)
class Skin:
    """Surfaces, and the shapes that stay pieces of their own: rings, caps, eyes."""

    surfaces: tuple[Surface, ...]
    pieces: tuple[Shape, ...]


def skin_of(member: Member) -> Skin:
    """The skin of a character; of anything else its shapes as they are. Made once for each body."""
    if member.kind != "character":
        return Skin((), member.shapes)
    return _made(member.skeleton, member.shapes)


@lru_cache(maxsize=16)
def _made(skeleton: Skeleton, shapes: tuple[Shape, ...]) -> Skin:
    surfaces: list[Surface] = []
    covered: set[int] = set()
    for tone in sorted({s.tone for s in shapes}):
        round_ = [s for s in shapes if s.tone == tone and s.form in ("capsule", "ball")]
        cell = _cell(skeleton, round_)
        # What is thinner than the grid can show stays a piece, and so does what has no size.
        thick = [s for s in round_ if 0.0 < cell <= THIN * _radius(s)]
        if len({s.joint for s in thick}) > 1:
            surfaces.append(_surface(skeleton, tone, thick, cell))
            covered.update(map(id, thick))
    return Skin(tuple(surfaces), tuple(s for s in shapes if id(s) not in covered))


def _radius(shape: Shape) -> float:
    return float(min(shape.size))


def _ends(skeleton: Skeleton, shape: Shape) -> Floats:
    """The ends of a shape, or its middle, at rest in the member's own space."""
    rest_pos, rest_rot = skeleton.rest_pose
    j = skeleton.index[shape.joint]
    ends = np.array([shape.a] if shape.form == "ball" else [shape.a, shape.b], dtype=np.float64)
    found: Floats = rotate(np.broadcast_to(rest_rot[j], (len(ends), 4)), ends) + rest_pos[j]
    return found


def _box(skeleton: Skeleton, shapes: Sequence[Shape]) -> tuple[Floats, Floats]:
    """The corners of a box about shapes."""
    corners = [_ends(skeleton, s) + sign * max(s.size) for s in shapes for sign in (-1.0, 1.0)]
    return np.vstack(corners).min(axis=0), np.vstack(corners).max(axis=0)


def _cell(skeleton: Skeleton, shapes: Sequence[Shape]) -> float:
    """Size of a grid's cells for some shapes, metres; zero where there is nothing to show."""
    tall = float(np.ptp(skeleton.rest_pose[0], axis=0).max())
    if not shapes or tall <= 0.0:
        return 0.0
    low, high = _box(skeleton, shapes)
    wanted = float(np.clip(CELL * min(_radius(s) for s in shapes), tall / MOST, tall / FEWEST))
    return max(wanted, float(np.cbrt(np.prod(high - low) / CELLS)))


def _surface(skeleton: Skeleton, tone: str, shapes: Sequence[Shape], cell: float) -> Surface:
    # Here and below: a start need not wait for what only a skin needs.
    from skimage.measure import marching_cubes

    low, high = _box(skeleton, shapes)
    low, high = low - 3.0 * cell, high + 3.0 * cell
    counts = np.ceil((high - low) / cell).astype(int) + 1
    # Far from everything, so that the first shape flows into nothing.
    field = np.full(counts, 1e3)
    for shape in sorted(shapes, key=_radius, reverse=True):
        _join(field, shape, skeleton, low, cell)
    verts, faces, _, _ = marching_cubes(field, 0.0, spacing=(cell,) * 3)  # type: ignore[no-untyped-call]
    points = verts.astype(np.float64) + low
    joints, weights = _weights(skeleton, shapes, points, faces)
    return Surface(tone, points, _normals(points, faces), faces.astype(np.uint32), joints, weights)


def _join(field: Floats, shape: Shape, skeleton: Skeleton, low: Floats, cell: float) -> None:
    """Joins a shape to a field on a grid, in place, as far as it reaches."""
    j = skeleton.index[shape.joint]
    rest_pos, rest_rot = skeleton.rest_pose
    at = _ends(skeleton, shape)
    blend = BLEND * _radius(shape)
    reach = max(shape.size) + blend + 4.0 * cell
    first = np.maximum(np.floor((at.min(axis=0) - reach - low) / cell).astype(int), 0)
    last = np.minimum(np.ceil((at.max(axis=0) + reach - low) / cell).astype(int) + 1, field.shape)
    axes = [low[k] + cell * np.arange(first[k], last[k]) for k in range(3)]
    grid = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1)
    local = rotate(np.broadcast_to(inverse(rest_rot[j]), (*grid.shape[:-1], 4)), grid - rest_pos[j])
    own = signed_distance(shape, local)
    here = field[first[0] : last[0], first[1] : last[1], first[2] : last[2]]
    h = np.maximum(blend - np.abs(here - own), 0.0) / blend
    here[...] = np.minimum(here, own) - 0.25 * blend * h * h


def _normals(points: Floats, faces: np.ndarray) -> Floats:
    """Normals of points: the mean of those of their faces, by area."""
    a, b, c = (points[faces[:, k]] for k in range(3))
    across = np.cross(b - a, c - a)
    found = np.zeros_like(points)
    for k in range(3):
        np.add.at(found, faces[:, k], across)
    return np.asarray(found / np.maximum(np.linalg.norm(found, axis=1, keepdims=True), 1e-12))


def _weights(
    skeleton: Skeleton, shapes: Sequence[Shape], points: Floats, faces: np.ndarray
) -> tuple[np.ndarray, Floats]:
    """Joints (V, 4) that carry points and their weights (V, 4)."""
    rest_pos, rest_rot = skeleton.rest_pose
    names = sorted({s.joint for s in shapes}, key=lambda n: skeleton.index[n])
    own = [skeleton.index[n] for n in names]
    off = np.full((len(points), len(names)), np.inf)
    size = np.zeros(len(names))
    for s in shapes:
        k, j = names.index(s.joint), skeleton.index[s.joint]
        local = rotate(np.broadcast_to(inverse(rest_rot[j]), (len(points), 4)), points - rest_pos[j])
        off[:, k] = np.minimum(off[:, k], signed_distance(s, local))
        size[k] = max(size[k], _radius(s))
    nearest = off.argmin(axis=1)
    over = off - off[np.arange(len(points)), nearest][:, None]
    found = np.exp(-over / (REACH * size[nearest])[:, None])
    # A thigh does not carry the other: only what hangs from one another shares a point.
    shared = _neighbours(skeleton, own)[nearest]
    found = _smoothed(found * shared, faces, len(points)) * shared
    found /= found.sum(axis=1, keepdims=True)
    most = np.argsort(-found, axis=1)[:, :4]
    weights = np.take_along_axis(found, most, axis=1)
    if most.shape[1] < 4:
        lack = 4 - most.shape[1]
        most = np.pad(most, ((0, 0), (0, lack)))
        weights = np.pad(weights, ((0, 0), (0, lack)))
    weights = weights / weights.sum(axis=1, keepdims=True)
    joints = np.array(own)[most].astype(np.uint16)
    joints[weights <= 0.0] = 0
    return joints, weights


def _neighbours(skeleton: Skeleton, own: Sequence[int]) -> Floats:
    """(K, K) one where a joint is another, hangs from it, or is hung from it, over joints without shapes too."""

    def above(j: int) -> int:
        j = skeleton.parents[j]
        while j >= 0 and j not in own:
            j = skeleton.parents[j]
        return j

    found = np.eye(len(own))
    for k, j in enumerate(own):
        near = [above(j)]
        if near[0] >= 0 and (ends := _ends_beyond(skeleton, j)):
            # A helper in a segment lies between what the segment hangs from and what hangs from it.
            near += [above(near[0]), *ends]
        for other in near:
            if other in own:
                found[k, own.index(other)] = found[own.index(other), k] = 1.0
    return found


def _ends_beyond(skeleton: Skeleton, j: int) -> list[int]:
    """Joints that hang where j does, with j on the straight line to them; nothing if something hangs from j itself."""
    up = skeleton.parents[j]
    if j in skeleton.parents:
        return []
    at = np.array(skeleton.joints[j].offset)
    found = []
    for other, parent in enumerate(skeleton.parents):
        end = np.array(skeleton.joints[other].offset)
        long = float(np.linalg.norm(end))
        if parent != up or other == j or long <= 0.0:
            continue
        share = float(at @ end) / long**2
        if 0.0 < share < 1.0 and np.linalg.norm(at - share * end) < 0.02 * long:
            found.append(other)
    return found


def _smoothed(values: Floats, faces: np.ndarray, count: int) -> Floats:
    """Values (V, K) of points, each the mean of itself and its neighbours on the surface, some times over."""
    from scipy.sparse import coo_array, csr_array, diags_array

    edges = np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]])
    both = np.concatenate([edges, edges[:, ::-1]])
    near: csr_array = coo_array((np.ones(len(both)), (both[:, 0], both[:, 1])), shape=(count, count)).tocsr()
    near.data[:] = 1.0
    near = near + diags_array(np.ones(count))
    mean = diags_array(1.0 / np.asarray(near.sum(axis=1)).ravel()) @ near
    for _ in range(SMOOTHING):
        values = mean @ values
    return np.asarray(values)
