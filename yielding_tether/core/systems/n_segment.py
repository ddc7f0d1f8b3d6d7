"""IK of a limb of three and more segments: two rigid pieces about a middle joint, closed as a two-segment limb.

Inner joints other than the middle one turn by curl · offset: curl = turn(hinge, k · (reach at rest - reach) / length), of
finite speed at straight, then three Euler channels each, zero at rest. So the pieces root → middle and middle → end are
rigid for a given reach, and the two-segment formulas close them. Freedoms: 3 (n - 2) offsets, carry angle, twist, swivel
and the six of the end: 3 (n + 1), as many as n + 1 FK joints. The hinge is carried by the frame of the first joint.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple, cast

import numpy as np

from ..channels import Channel, in_words, turning
from ..kernels import fits
from ..kernels.guide import turned_share
from ..kernels.n_segment import CHAIN, turns_along
from ..tape import Run, Tape, signs_of
from ..transforms import ORDERS, Floats, Ints, inverse, multiply, rotate
from .system import Posed, State
from .two_segment import Bent, TwoSegment, geometry, guide_name, guide_node, ik_name, shape_channels

if TYPE_CHECKING:
    from ..parts.chain import ChainPart
    from ..parts.part import Part
    from ..rig import Bound


class Pieces(NamedTuple):
    """Unchanging shape of a limb of many segments: its two pieces' `offsets` (3, 3), `rests` (3, 4) and `constants` as of
    a two-segment limb; `inner`: which joints have offsets of their own; reach at rest and length, metres; `last` (4,): rest of the
    last joint in what is below, `ways` (n, 3): directions of the bones, in the joints; `shares` (n,) of the turn along it that each
    joint takes before its channels: the middle one, which is turned in the frame of the first, all between as well."""

    offsets: Floats
    rests: Floats
    constants: Floats
    inner: Ints
    reach: float
    whole: float
    last: Floats
    ways: Floats
    shares: Floats

    @property
    def length(self) -> float:
        """Length of all segments at rest, metres."""
        return self.whole


class NSegment(TwoSegment):
    """IK of n segments."""

    def channels(self, part: Part) -> tuple[Channel, ...]:
        chain = cast("ChainPart", part)
        offsets = [
            c for k in inner_joints(chain)
            for c in turning(chain.ik, self.name, f"{chain.joints[k]}.", f"{in_words(chain.joints[k])},")
        ]  # fmt: skip
        guide = Channel(chain.ik, "guide", "length", self.name, "guide, beyond its distance", poses=False)
        return (*shape_channels(part), *offsets, guide)

    def row_channels(self, bound: Bound, state: State) -> list[int]:
        stretch = bound.own.get((ik_name(bound), "stretch"))
        return [*super().row_channels(bound, state), *([] if stretch is None else [stretch])]

    def run(self, part: Part) -> tuple[int, int, int]:
        return run_of(cast("ChainPart", part))

    def bind(self, bound: Bound) -> Pieces:
        chain = cast("ChainPart", bound.part)
        first, m, end = self.run(chain)
        pos, rot = np.zeros((end + 1, 3)), bound.rests[: end + 1].copy()
        for k in range(first + 1, end + 1):
            pos[k] = pos[k - 1] + rotate(rot[k - 1], bound.offsets[k])
            rot[k] = multiply(rot[k - 1], bound.rests[k])
        offsets = np.stack(
            [np.zeros(3), rotate(inverse(rot[first]), pos[m]), rotate(inverse(rot[m]), pos[end] - pos[m])]
        )
        rests = np.stack([rot[first], multiply(inverse(rot[first]), rot[m]), multiply(inverse(rot[m]), rot[end])])
        two = geometry(offsets, rests, chain.hinge, False)
        shares = np.array(chain.shares or (0.0,) * len(chain.joints))
        shares[m] = shares[first + 1 : m + 1].sum()
        return Pieces(
            two.offsets, two.rests, two.constants, np.array(inner_joints(chain), dtype=np.int64),
            float(np.linalg.norm(pos[end])), float(np.linalg.norm(bound.offsets[first + 1 : end + 1], axis=1).sum()), rot[end],
            _directions(bound.offsets[first : end + 1]), shares[first : end + 1],
        )  # fmt: skip

    def emit(self, tape: Tape, bound: Bound, into: Ints, state: State) -> list[Run]:
        chain = cast("ChainPart", bound.part)
        data: Pieces = bound.systems[self.name].data
        channels = bound.systems[self.name].channels
        first, middle, end = self.run(chain)
        inner = {int(k): int(channels[10 + 3 * n]) for n, k in enumerate(data.inner)}
        ints: list[int] = [
            len(chain.bones), middle - first, bound.above_in(into, first), self.aim(bound, chain.ik), *channels[6:10].tolist(),
            bound.slot, guide_node(bound), bool(chain.shares), bound.own.get((chain.ik, "stretch"), -1),
        ]  # fmt: skip
        floats = [*data.constants, data.reach, data.whole, *bound.rests[first], *data.last]
        for k in range(first, end + 1):
            ints += [into[k], inner.get(k, -1), bound.moving[k, 0], bound.samples[k]]
            floats += [*bound.offsets[k], *bound.rests[k], *signs_of(chain.orders[k]), *chain.hinges[k], chain.curls[k]]
            floats += [*data.ways[k - first], data.shares[k - first]]
        return [tape.add(CHAIN, ints, floats, tuple(inner.values()))]

    def bent(self, bound: Bound, posed: Posed) -> Bent:
        data: Pieces = bound.systems[self.name].data
        three = list(self.run(bound.part))
        pos, rot = np.ascontiguousarray(posed.pos[:, three]), np.ascontiguousarray(posed.rot[:, three])
        offsets = np.zeros((len(pos), 3, 3))
        for j in (1, 2):
            offsets[:, j] = rotate(inverse(rot[:, j - 1]), pos[:, j] - pos[:, j - 1])
        return Bent(
            pos,
            rot,
            np.ascontiguousarray(posed.above_rot[:, three[0]]),
            offsets,
            tuple(data.rests[0].tolist()),
            data.constants,
        )

    def swivel_given(self, bound: Bound, posed: Posed, bent: Bent) -> Floats:
        shares = cast("ChainPart", bound.part).shares
        given = super().swivel_given(bound, posed, bent)
        if not shares:
            return given
        followed = np.zeros(len(given))
        if bound.guides:
            turns = posed.spaces[guide_name(bound.part)].rot
            followed = np.array([turned_share(tuple(q)) for q in turns.tolist()])
        return given + (1.0 - followed) * shares[0] * self._shared(bound, posed)

    def _shared(self, bound: Bound, posed: Posed) -> Floats:
        """(F,) turn along the limb (radians) of which its joints take their shares before their channels."""
        out = np.zeros(len(posed.pos))
        if cast("ChainPart", bound.part).shares:
            first, _, end = self.run(bound.part)
            data: Pieces = bound.systems[self.name].data
            below, last = (np.ascontiguousarray(x) for x in (posed.above_rot[:, first], posed.rot[:, end]))
            turns_along(below, last, data.last, np.ascontiguousarray(posed.pos[:, end] - posed.pos[:, first]), out)
        return out

    def fit(self, bound: Bound, posed: Posed, near: Floats) -> Floats:
        chain = cast("ChainPart", bound.part)
        data: Pieces = bound.systems[self.name].data
        first, middle, end = self.run(chain)
        shared = self._shared(bound, posed)
        shares = data.shares
        start = near[:10].copy()
        start[8] += shares[middle - first] * shared[0]
        shape = super().fit(bound, posed, start)
        shape[8] -= shares[middle - first] * shared
        inner = data.inner
        if not len(inner):
            return shape
        reach = np.minimum(np.linalg.norm(posed.pos[:, end] - posed.pos[:, first], axis=1) / posed.sizes, data.whole)
        half = 0.5 * np.array(chain.curls)[inner] * ((data.reach - reach) / data.whole)[:, None]
        hinges = np.array(chain.hinges)[inner]
        curl = np.concatenate([hinges[None] * np.sin(half)[..., None], np.cos(half)[..., None]], axis=-1)
        above = multiply(multiply(posed.above_rot[:, inner], bound.rests[inner][None]), curl)
        if chain.shares:
            half = 0.5 * shares[inner - first] * shared[:, None]
            turned = data.ways[inner - first][None] * np.sin(half)[..., None]
            above = multiply(above, np.concatenate([turned, np.cos(half)[..., None]], axis=-1))
        out = np.empty((3 * len(inner), len(posed.pos)))
        nothing = np.tile([0.0, 0.0, 0.0, 1.0], (len(inner), 1))
        order = np.array([ORDERS.index(chain.orders[k]) for k in inner])
        fits.turns(
            np.ascontiguousarray(posed.rot[:, inner]), np.ascontiguousarray(above), nothing, order,
            np.ascontiguousarray(near[10 : 10 + len(out)].reshape(-1, 3)), out,
        )  # fmt: skip
        return np.concatenate([shape, out])


def _directions(offsets: Floats) -> Floats:
    """(n, 3) direction from each joint to the next, in it; the last as the one before it."""
    found = np.concatenate([offsets[1:], offsets[-1:]])
    size = np.linalg.norm(found, axis=1, keepdims=True)
    return np.where(size > 1e-9, found / np.maximum(size, 1e-9), np.array([[0.0, 1.0, 0.0]]))


def run_of(chain: ChainPart) -> tuple[int, int, int]:
    """Which of its joints the limb begins at, bends in and ends with."""
    first = chain.joints.index(chain.bones[0])
    return first, chain.middle, first + len(chain.bones) - 1


def inner_joints(chain: ChainPart) -> list[int]:
    """Joints with offsets of their own: all of the limb but its first, its middle and its last."""
    first, middle, end = run_of(chain)
    return [k for k in range(first + 1, end) if k != middle]
