"""FK: each joint turned in what it hangs from, or in what its turn follows."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np

from ..channels import ROTATION, Channel, in_words, turning
from ..kernels import fits, joint
from ..kernels.follow import JOINT_FOLLOWING
from ..tape import Run, Tape, signs_of
from ..transforms import ORDERS, Floats, Ints, inverse, multiply
from .system import Control, Handle, Posed, State, System

if TYPE_CHECKING:
    from ..followers import BoundControl
    from ..parts.part import Part
    from ..rig import Bound

NO_TURN = np.array([[0.0, 0.0, 0.0, 1.0]])


class Fk(System):
    """Three Euler channels a joint, in the joint's own rotation order, zero at rest."""

    name = "fk"
    label = "FK"
    #: Whether the turns of its joints may follow something.
    follows = True

    def channels(self, part: Part) -> tuple[Channel, ...]:
        return tuple(c for name in part.joints for c in turning(name, self.name))

    def controls(self, part: Part) -> tuple[Control, ...]:
        return tuple(
            Control(
                name, in_words(name), order, Handle("band", ("swing",), name),
                frozenset({"rotation"} if self.follows else ()), is_joint=True,
            )
            for name, order in zip(part.joints, part.joint_orders, strict=True)
        )  # fmt: skip

    def reads(self, bound: Bound, state: State) -> list[int]:
        return [node for control in bound.turned.values() for node in control.followed(state)]

    def row_channels(self, bound: Bound, state: State) -> list[int]:
        weights = [c for control in bound.turned.values() for c in (*control.switches, *control.chosen)]
        return [*super().row_channels(bound, state), *weights]

    def emit(self, tape: Tape, bound: Bound, into: Ints, state: State) -> list[Run]:
        channels = bound.systems[self.name].channels.reshape(-1, 3)
        runs = []
        for k in bound.outward:
            if (control := bound.turned.get(bound.part.joints[k])) is not None:
                follows = bool(control.followed(state))
                runs.append(following(tape, bound, k, control, into, joint=follows))
                if follows:
                    continue
            length, sample = bound.moving[k, 0], bound.samples[k]
            still = length < 0 and sample < 0 and not bound.slot
            ints = (into[k], bound.above_in(into, k), channels[k, 0], length, sample, bound.slot)
            floats = (*bound.offsets[k], *bound.rests[k], *signs_of(bound.part.joint_orders[k]))
            runs.append(tape.add(joint.JOINT if still else joint.JOINT_MOVED, ints, floats, (channels[k, 0],)))
        return Tape.joined(runs, joint.INTS, joint.FLOATS)

    def fit(self, bound: Bound, posed: Posed, near: Floats) -> Floats:
        out = np.empty((3 * len(bound.nodes), len(posed.pos)))
        fits.turns(
            posed.rot,
            turned_in(bound, posed),
            bound.rests,
            bound.orders,
            np.ascontiguousarray(near.reshape(-1, 3)),
            out,
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
            turned_in(bound, posed)[:, k : k + 1],
            bound.rests[k : k + 1],
            bound.orders[k : k + 1],
            near,
            out,
        )
        return dict(zip(channels, out[:, 0].tolist(), strict=True))


def turned_in(bound: Bound, posed: Posed) -> Floats:
    """(F, n, 4) what each joint of a part turns in, beyond its rest: what it hangs from, or what its turn follows."""
    if not bound.turned:
        return posed.above_rot
    found = posed.above_rot.copy()
    for name, control in bound.turned.items():
        k = bound.part.joints.index(name)
        found[:, k] = multiply(posed.spaces[control.control.name].rot, inverse(bound.rests[k])[None])
    return found


def turn_in(rot: Floats, space: Floats, order: str, near: Floats) -> Floats:
    """(3, F) Euler channels of something with these rotations (F, 4) in a space (F, 4); near: (3,), what the first are near."""
    out = np.empty((3, len(rot)))
    fits.turns(
        np.ascontiguousarray(rot[:, None]), np.ascontiguousarray(space[:, None]), NO_TURN,
        np.array([ORDERS.index(order)]), np.ascontiguousarray(near.reshape(1, 3)), out,
    )  # fmt: skip
    return out


def following(tape: Tape, bound: Bound, k: int, control: BoundControl, into: Ints, *, joint: bool) -> Run:
    """A row that writes the space in which a joint of a part turns while it follows something, where the part's joints are
    in the nodes `into`, and there the joint itself if it is asked for."""
    ints = [
        into[k] if joint else -1, control.space, bound.above_in(into, k), control.turn, bound.moving[k, 0],
        bound.samples[k], len(control.anchors) - 1, bound.slot,
    ]  # fmt: skip
    for one in control.others:
        ints += [one.node, one.rotation, one.way]
    floats = [*bound.offsets[k], *bound.rests[k], *signs_of(control.control.order)]
    for one in control.others:
        floats += one.rot.tolist()
    return tape.add(JOINT_FOLLOWING, ints, floats, (control.turn,))
