"""Place: a root or a prop put where its one control is, in the world or in what it follows."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np

from ..channels import ROTATION, TRANSLATION, Channel, moving, turning
from ..kernels import fits
from ..kernels.copy import COPY
from ..tape import Run, Tape
from ..transforms import ORDERS, Floats, Ints
from .system import Control, Handle, Posed, State, System

if TYPE_CHECKING:
    from ..parts.part import Part
    from ..rig import Bound


class Place(System):
    """Place and rotation of the part's one joint; the control is the joint itself."""

    name = "place"
    label = "keys"

    def channels(self, part: Part) -> tuple[Channel, ...]:
        return (*moving(part.joints[0], self.name), *turning(part.joints[0], self.name))

    def controls(self, part: Part) -> tuple[Control, ...]:
        joint = part.joints[0]
        return (
            Control(
                joint, part.label, part.joint_orders[0], Handle("cradle", ("move", "turn"), joint),
                frozenset({"position", "rotation"}), "", joint,
            ),
        )  # fmt: skip

    def reads(self, bound: Bound, state: State) -> list[int]:
        return [bound.controls[bound.part.joints[0]].node]

    def row_channels(self, bound: Bound, state: State) -> list[int]:
        # They belong to the control's own stage.
        return []

    def emit(self, tape: Tape, bound: Bound, into: Ints, state: State) -> list[Run]:
        return [tape.add(COPY, (into[0], bound.controls[bound.part.joints[0]].node), ())]

    def fit(self, bound: Bound, posed: Posed, near: Floats) -> Floats:
        return fit_control(
            posed, bound.part.joints[0], posed.pos[:, 0], posed.rot[:, 0], bound.part.joint_orders[0], near
        )

    def drag(
        self, bound: Bound, posed: Posed, control: str, position: Floats, rotation: Floats, now: Mapping[int, float]
    ) -> dict[int, float]:
        return drag_control(bound, posed, control, bound.part.joint_orders[0], position, rotation, now)


def fit_control(posed: Posed, control: str, pos: Floats, rot: Floats, order: str, near: Floats) -> Floats:
    """(6, F) channels of a control at these places (F, 3) and rotations (F, 4); near: (6,) or more."""
    return place_in(pos, rot, *posed.spaces[control], order, near)


def place_in(pos: Floats, rot: Floats, space_pos: Floats, space_rot: Floats, order: str, near: Floats) -> Floats:
    """(6, F) channels tx ty tz rx ry rz that put something to these places (F, 3) and rotations (F, 4) in a space (F, 3),
    (F, 4); near: (6,) or more, what the first angles are near to."""
    out = np.empty((6, len(pos)))
    fits.place(
        *(np.ascontiguousarray(x) for x in (pos, rot, space_pos, space_rot)), ORDERS.index(order),
        np.ascontiguousarray(near[3:6]), out,
    )  # fmt: skip
    return out


def drag_control(
    bound: Bound, posed: Posed, control: str, order: str, position: Floats, rotation: Floats, now: Mapping[int, float]
) -> dict[int, float]:
    """Channels that put a control to a place and rotation in the world."""
    channels = [bound.own[control, c] for c in (*TRANSLATION, *ROTATION)]
    near = np.array([now[c] for c in channels])
    out = fit_control(posed, control, position[None], rotation[None], order, near)
    return dict(zip(channels, out[:, 0].tolist(), strict=True))
