"""Captured motion as a system of every part of a captured member: immutable samples, and adjustments on top of them.

Every joint has an adjustment of its turn, zero until keyed; the root has one of its place too. The places of other
joints are lengths, which belong to the part, so that every system meets them.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from ..channels import Channel, moving, turning
from ..kernels import capture, fits
from ..kernels.capture import CAPTURE
from ..tape import Run, Tape, signs_of
from ..transforms import Floats, Ints, inverse, multiply, rotate
from .system import Control, Handle, Posed, State, System

if TYPE_CHECKING:
    from ..parts.part import Part
    from ..rig import Bound


class Captured(System):
    """Samples, then adjustments in each joint's own rotation order."""

    name = "captured"
    label = "the capture"
    moves_alone = True

    def channels(self, part: Part) -> tuple[Channel, ...]:
        found: list[Channel] = []
        for name in part.joints:
            if part.free:
                found += moving(name, self.name, "adjust.", "adj.")
            found += turning(name, self.name, "adjust.", "adj.")
        return tuple(found)

    def controls(self, part: Part) -> tuple[Control, ...]:
        gestures = ("move", "turn") if part.free else ("swing",)
        return tuple(
            Control(f"{name} capture", f"{name}, captured", order, Handle("band", gestures, name))  # type: ignore[arg-type]
            for name, order in zip(part.joints, part.joint_orders, strict=True)
        )

    def emit(self, tape: Tape, bound: Bound, into: Ints, state: State) -> list[Run]:
        channels = self._channels(bound)
        runs = []
        for k in bound.outward:
            length = channels[k, 0] if bound.part.free else bound.moving[k, 0]
            ints = (into[k], bound.above_in(into, k), channels[k, -3], length, bound.samples[k], bound.slot)
            runs.append(tape.add(CAPTURE, ints, signs_of(bound.part.joint_orders[k]), (channels[k, -3],)))
        runs = Tape.joined(runs, capture.INTS, capture.FLOATS)
        if bound.body:
            # The way of a capture grows with the body: feet that stood go on standing.
            runs.append(bound.sized(tape, int(into[0]), int(into[0]), whole=True))
        return runs

    def _channels(self, bound: Bound) -> Ints:
        return bound.systems[self.name].channels.reshape(len(bound.nodes), -1)

    def fit(self, bound: Bound, posed: Posed, near: Floats) -> Floats:
        assert posed.sampled is not None
        offsets, rotations = posed.sampled
        count = len(bound.nodes)
        each = len(near) // count
        near = near.reshape(count, each)
        # A capture's rotation stands where a joint's rest does.
        above = np.ascontiguousarray(multiply(posed.above_rot, rotations))
        out = np.empty((3 * count, len(posed.pos)))
        nothing = np.tile([0.0, 0.0, 0.0, 1.0], (count, 1))
        fits.turns(posed.rot, above, nothing, bound.orders, np.ascontiguousarray(near[:, -3:]), out)
        if each == 3:
            return out
        place = rotate(inverse(posed.above_rot[:, 0]), posed.pos[:, 0] - posed.above_pos[:, 0])
        point = 0.0 if posed.about is None else bound.offsets[:1] + rotate(bound.rests[:1], posed.about)
        place = point + (place - point) / posed.sizes[:, None]
        return np.concatenate([(place - offsets[:, 0]).T, out])

    def row_channels(self, bound: Bound, state: State) -> list[int]:
        return [*super().row_channels(bound, state), *(bound.body.about if bound.body else ())]

    def point(self, bound: Bound, posed: Posed, place: Floats) -> Floats:
        # A capture grows as a whole, about a point that does not move with it.
        found: Floats = rotate(inverse(bound.rests[0]), place - bound.offsets[0])
        return found

    def drag(
        self, bound: Bound, posed: Posed, control: str, position: Floats, rotation: Floats, now: Mapping[int, float]
    ) -> dict[int, float]:
        k = bound.part.joints.index(control.removesuffix(" capture"))
        pos, rot = posed.pos.copy(), posed.rot.copy()
        pos[0, k], rot[0, k] = position, rotation
        channels = self._channels(bound)
        near = np.array([now[int(c)] for c in channels.ravel()])
        moved = replace(posed, pos=pos, rot=rot)
        values = self.fit(bound, moved, near).reshape(len(bound.nodes), -1)
        return dict(zip(channels[k].tolist(), values[k].tolist(), strict=True))
