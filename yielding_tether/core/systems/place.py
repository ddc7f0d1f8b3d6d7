"""Place: a root, a centre or a prop put where its one control is, in its own space or in what it follows."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np

from ..channels import ROTATION, TRANSLATION, Channel, moving, turning
from ..kernels import fits
from ..kernels.copy import COPY
from ..tape import Run, Tape
from ..transforms import ORDERS, Floats, Ints, inverse, multiply, rotate
from .system import Control, Handle, Posed, Space, State, System

if TYPE_CHECKING:
    from ..parts.part import Part
    from ..rig import Bound


class Place(System):
    """Place and rotation of the part's one joint; the control is the joint itself."""

    name = "place"
    label = "keys"

    def __init__(self, handle: Handle | None = None, *, hangs: bool = False) -> None:
        """hangs: its own space is what its joint hangs from, else the world."""
        self.handle, self.hangs = handle, hangs

    def channels(self, part: Part) -> tuple[Channel, ...]:
        return (*moving(part.joints[0], self.name), *turning(part.joints[0], self.name))

    def controls(self, part: Part) -> tuple[Control, ...]:
        joint = part.joints[0]
        return (
            Control(
                joint, part.label, part.joint_orders[0], self.handle or Handle("cradle", ("move", "turn"), joint),
                frozenset({"position", "rotation"}), joint if self.hangs else "", joint,
            ),
        )  # fmt: skip

    def reads(self, bound: Bound, state: State) -> list[int]:
        return [bound.controls[bound.part.joints[0]].node]

    def row_channels(self, bound: Bound, state: State) -> list[int]:
        # Place and rotation belong to the control's own stage.
        return list(bound.body.about) if bound.body else []

    def defaults(self, bound: Bound) -> dict[int, float]:
        """A character grows about the floor under it, all else about its own joint."""
        if bound.member.kind != "character" or not bound.part.grows:
            return {}
        joint = bound.part.joints[0]
        under = rotate(inverse(bound.rests[0]), np.array([0.0, -bound.offsets[0, 1], 0.0]))
        return {bound.own[joint, "about." + c]: float(x) for c, x in zip(TRANSLATION, under, strict=True)}

    def emit(self, tape: Tape, bound: Bound, into: Ints, state: State) -> list[Run]:
        control = bound.controls[bound.part.joints[0]].node
        if bound.body:
            return [bound.sized(tape, int(into[0]), control, whole=False)]
        return [tape.add(COPY, (into[0], control), ())]

    def fit(self, bound: Bound, posed: Posed, near: Floats) -> Floats:
        pos, rot = posed.pos[:, 0], posed.rot[:, 0]
        return fit_control(posed, bound.part.joints[0], pos - grown(posed, rot), rot, bound.part.joint_orders[0], near)

    def drag(
        self, bound: Bound, posed: Posed, control: str, position: Floats, rotation: Floats, now: Mapping[int, float]
    ) -> dict[int, float]:
        place = position - grown(posed, rotation[None])[0]
        return drag_control(bound, posed, control, bound.part.joint_orders[0], place, rotation, now)

    def point(self, bound: Bound, posed: Posed, place: Floats) -> Floats:
        found: Floats = rotate(inverse(posed.rot[0, 0]), place - posed.pos[0, 0]) / posed.sizes[0]
        return found


def grown(posed: Posed, rot: Floats) -> Floats:
    """(F, 3) how far the size of a body moves its root, turned by rot (F, 4), off its control."""
    if posed.about is None:
        return np.zeros((len(rot), 3))
    moved: Floats = rotate(rot, (1.0 - posed.sizes)[:, None] * posed.about)
    return moved


def fit_control(posed: Posed, control: str, pos: Floats, rot: Floats, order: str, near: Floats) -> Floats:
    """(6, F) channels of a control at these places (F, 3) and rotations (F, 4); near: (6,) or more."""
    return place_in(pos, rot, posed.spaces[control], order, near)


def place_in(pos: Floats, rot: Floats, space: Space, order: str, near: Floats) -> Floats:
    """(6, F) channels tx ty tz rx ry rz that put something to these places (F, 3) and rotations (F, 4) in a space; near: (6,)
    or more, what the first angles are near to."""
    out = np.empty((6, len(pos)))
    fits.place(
        *(np.ascontiguousarray(x) for x in (pos, rot, space.pos, space.rot)), ORDERS.index(order),
        np.ascontiguousarray(near[3:6]), out,
    )  # fmt: skip
    if space.size is not None:
        out[:3] /= space.size
    if space.pivot is not None:
        out[:3] += (rotate(multiply(inverse(space.rot), rot), space.pivot) - space.pivot).T
    return out


def drag_control(
    bound: Bound, posed: Posed, control: str, order: str, position: Floats, rotation: Floats, now: Mapping[int, float]
) -> dict[int, float]:
    """Channels that put a control to a place and rotation in the world."""
    channels = [bound.own[control, c] for c in (*TRANSLATION, *ROTATION)]
    near = np.array([now[c] for c in channels])
    out = fit_control(posed, control, position[None], rotation[None], order, near)
    return dict(zip(channels, out[:, 0].tolist(), strict=True))
