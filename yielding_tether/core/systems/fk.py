"""FK: each joint turned in what it hangs from."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np

from ..channels import ROTATION, Channel, turning
from ..kernels import fits, joint
from ..tape import Run, Tape, signs_of
from ..transforms import Floats, Ints
from .system import Control, Handle, Posed, State, System

if TYPE_CHECKING:
    from ..parts.part import Part
    from ..rig import Bound


class Fk(System):
    """Three Euler channels a joint, in the joint's own rotation order, zero at rest."""

    name = "fk"
    label = "FK"

    def channels(self, part: Part) -> tuple[Channel, ...]:
        return tuple(c for name in part.joints for c in turning(name, self.name))

    def controls(self, part: Part) -> tuple[Control, ...]:
        return tuple(
            Control(name, name, order, Handle("band", ("swing",), name))
            for name, order in zip(part.joints, part.joint_orders, strict=True)
        )

    def emit(self, tape: Tape, bound: Bound, into: Ints, state: State) -> list[Run]:
        channels = bound.systems[self.name].channels.reshape(-1, 3)
        runs = []
        for k in bound.outward:
            length, sample = bound.moving[k, 0], bound.samples[k]
            still = length < 0 and sample < 0
            ints = (into[k], bound.above_in(into, k), channels[k, 0], length, sample)
            floats = (*bound.offsets[k], *bound.rests[k], *signs_of(bound.part.joint_orders[k]))
            runs.append(tape.add(joint.JOINT if still else joint.JOINT_MOVED, ints, floats, (channels[k, 0],)))
        return Tape.joined(runs, joint.INTS, joint.FLOATS)

    def fit(self, bound: Bound, posed: Posed, near: Floats) -> Floats:
        out = np.empty((3 * len(bound.nodes), len(posed.pos)))
        fits.turns(
            posed.rot, posed.above_rot, bound.rests, bound.orders, np.ascontiguousarray(near.reshape(-1, 3)), out
        )
        return out

    def drag(
        self, bound: Bound, posed: Posed, control: str, position: Floats, rotation: Floats, now: Mapping[int, float]
    ) -> dict[int, float]:
        k = bound.part.joints.index(control)
        channels = [bound.own[control, c] for c in ROTATION]
        near = np.array([[now[c] for c in channels]])
        out = np.empty((3, 1))
        fits.turns(
            rotation[None, None],
            posed.above_rot[:, k : k + 1],
            bound.rests[k : k + 1],
            bound.orders[k : k + 1],
            near,
            out,
        )
        return dict(zip(channels, out[:, 0].tolist(), strict=True))
