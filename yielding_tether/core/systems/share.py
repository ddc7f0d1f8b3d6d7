"""A share of another joint's twist: helper joints in a segment, posed by themselves and by hand on top."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from ..channels import ROTATION
from ..kernels import fits
from ..kernels.share import FLOATS, INTS, SHARE
from ..tape import Run, Tape, signs_of
from ..transforms import Floats, Ints, inverse, multiply, rotate
from .fk import Fk
from .system import Posed, State

if TYPE_CHECKING:
    from ..parts.twist import TwistPart
    from ..program import Poses
    from ..rig import Bound


@dataclass(frozen=True)
class Shared:
    """What is shared, for n joints: `others` and what they hang from, `above` (n,) nodes; `rests` (n, 4) of the others; the
    segment's axis in those rests, `axes` (n, 3), and in the joints' own, `onto` (n, 3); `shares` (n,)."""

    others: Ints
    above: Ints
    rests: Floats
    axes: Floats
    onto: Floats
    shares: Floats


class ShareOfTwist(Fk):
    """Three Euler channels a joint, zero at rest, on top of the share."""

    name = "shared"
    label = "shared twist"
    follows = False

    def bind(self, bound: Bound) -> Shared:
        part: TwistPart = bound.part  # type: ignore[assignment]
        bones = bound.member.skeleton
        first = int(bound.nodes[0]) - bones.index[part.joints[0]]
        others = [bones.index[name] for name in part.of]
        rests = np.array([bones.joints[j].rest for j in others])
        # The axis is given in the joint that the helper hangs from, which is the other one or what that hangs from.
        axes = np.array(part.axes)
        own = [bones.joints[bones.index[name]].parent for name in part.joints]
        hung = np.array([up != j for up, j in zip(own, others, strict=True)])
        there = np.where(hung[:, None], rotate(inverse(rests), axes), axes)
        above = [bones.parents[j] for j in others]
        return Shared(
            np.array(others, dtype=np.int64) + first, np.array(above, dtype=np.int64) + first, rests, there,
            rotate(inverse(bound.rests), axes), np.array(part.shares),
        )  # fmt: skip

    def givers(self, bound: Bound) -> list[int]:
        mine: Shared = bound.systems[self.name].data
        return [*mine.others.tolist(), *mine.above.tolist()]

    def reads(self, bound: Bound, state: State) -> list[int]:
        return self.givers(bound)

    def emit(self, tape: Tape, bound: Bound, into: Ints, state: State) -> list[Run]:
        mine: Shared = bound.systems[self.name].data
        channels = bound.systems[self.name].channels.reshape(-1, 3)
        runs = []
        for k in bound.outward:
            ints = (
                into[k], bound.above_in(into, k), channels[k, 0], bound.moving[k, 0], bound.samples[k], mine.others[k],
                mine.above[k], bound.slot,
            )  # fmt: skip
            floats = (
                *bound.offsets[k], *bound.rests[k], *signs_of(bound.part.joint_orders[k]), *mine.rests[k], *mine.axes[k],
                *mine.onto[k], mine.shares[k],
            )  # fmt: skip
            runs.append(tape.add(SHARE, ints, floats, (channels[k, 0],)))
        return Tape.joined(runs, INTS, FLOATS)

    def given(self, bound: Bound, poses: Poses) -> Floats:
        mine: Shared = bound.systems[self.name].data
        turn = multiply(inverse(mine.rests), multiply(inverse(poses.rot[:, mine.above]), poses.rot[:, mine.others]))
        along = np.sum(turn[..., :3] * mine.axes, axis=-1)
        half = mine.shares * np.arctan2(np.where(turn[..., 3] >= 0.0, along, -along), np.abs(turn[..., 3]))
        return np.concatenate([np.sin(half)[..., None] * mine.onto, np.cos(half)[..., None]], axis=-1)

    def fit(self, bound: Bound, posed: Posed, near: Floats) -> Floats:
        assert posed.given is not None
        out = np.empty((3 * len(bound.nodes), len(posed.pos)))
        above = np.ascontiguousarray(multiply(posed.above_rot, multiply(bound.rests, posed.given)))
        nothing = np.tile([0.0, 0.0, 0.0, 1.0], (len(bound.nodes), 1))
        fits.turns(posed.rot, above, nothing, bound.orders, np.ascontiguousarray(near.reshape(-1, 3)), out)
        return out

    def drag(
        self, bound: Bound, posed: Posed, control: str, position: Floats, rotation: Floats, now: Mapping[int, float]
    ) -> dict[int, float]:
        k = bound.part.joints.index(control)
        rot = posed.rot.copy()
        rot[0, k] = rotation
        channels = bound.systems[self.name].channels
        values = self.fit(bound, replace(posed, rot=rot), np.array([now[int(c)] for c in channels]))
        mine = [bound.own[control, c] for c in ROTATION]
        return {c: float(v) for c, v in zip(channels.tolist(), values[:, 0], strict=True) if c in mine}
