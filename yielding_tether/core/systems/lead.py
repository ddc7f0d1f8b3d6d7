"""A run of joints whose last one leads: a neck that takes shares of the head's turn.

The head turns by a control of its own, in what the neck hangs from or in what it follows, whatever the neck does; each joint of the
neck takes a share of that turn (`kernels.lead`), with a turn by hand on top. Three freedoms a joint: any pose carries over.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, NamedTuple, cast

import numpy as np

from ..channels import ROTATION, Channel, in_words, turning
from ..kernels import fits
from ..kernels.lead import LED, turns_given
from ..tape import Run, Tape, signs_of
from ..transforms import Floats, Ints, multiply
from .fk import turn_in
from .system import Control, Handle, Posed, State, System

if TYPE_CHECKING:
    from ..parts.neck import NeckPart
    from ..parts.part import Part
    from ..rig import Bound


class Shape(NamedTuple):
    """Unchanging shape of the run: `rests` (n, 4) of its joints in what it hangs from, `shares` (n - 1,)."""

    rests: Floats
    shares: Floats


class Lead(System):
    """Three Euler channels of what leads, then three of each joint below it, all zero at rest."""

    name = "lead"

    def __init__(self, label: str) -> None:
        self.label = label

    def channels(self, part: Part) -> tuple[Channel, ...]:
        lead = cast("NeckPart", part).lead
        tuned = [c for n in part.joints[:-1] for c in turning(lead, self.name, f"{n}.", f"{in_words(n)},")]
        return (*turning(lead, self.name), *tuned)

    def controls(self, part: Part) -> tuple[Control, ...]:
        return (
            Control(
                cast("NeckPart", part).lead, f"{in_words(part.joints[-1])}, leading", part.joint_orders[-1],
                Handle("band", ("swing",), part.joints[-1]), frozenset({"rotation"}), part.joints[0], part.joints[-1],
            ),
        )  # fmt: skip

    def bind(self, bound: Bound) -> Shape:
        rests = bound.rests.copy()
        for k in range(1, len(rests)):
            rests[k] = multiply(rests[k - 1], rests[k])
        return Shape(rests, np.array(cast("NeckPart", bound.part).shares))

    def reads(self, bound: Bound, state: State) -> list[int]:
        return [bound.controls[cast("NeckPart", bound.part).lead].node]

    def row_channels(self, bound: Bound, state: State) -> list[int]:
        # The turn of what leads belongs to its own stage.
        found: list[int] = bound.systems[self.name].channels[3:].tolist()
        return found

    def emit(self, tape: Tape, bound: Bound, into: Ints, state: State) -> list[Run]:
        mine: Shape = bound.systems[self.name].data
        tuned = [*bound.systems[self.name].channels[3::3].tolist(), -1]
        ints = [len(into), bound.above[0], bound.controls[cast("NeckPart", bound.part).lead].node, bound.slot]
        floats = [*mine.rests[-1]]
        for k in range(len(into)):
            ints += [into[k], tuned[k], bound.moving[k, 0], bound.samples[k]]
            floats += [*bound.offsets[k], *bound.rests[k], *signs_of(bound.part.joint_orders[k]), *mine.rests[k]]
            floats.append([*mine.shares, 0.0][k])
        return [tape.add(LED, ints, floats, tuned[:-1])]

    def fit(self, bound: Bound, posed: Posed, near: Floats) -> Floats:
        lead = cast("NeckPart", bound.part).lead
        order = bound.controls[lead].control.order
        first = turn_in(posed.rot[:, -1], posed.spaces[lead].rot, order, near[:3])
        count = len(bound.nodes) - 1
        if not count:
            return first
        mine: Shape = bound.systems[self.name].data
        given = np.empty((len(posed.pos), count, 4))
        below, end = (np.ascontiguousarray(x) for x in (posed.above_rot[:, 0], posed.rot[:, -1]))
        turns_given(below, end, mine.rests[-1], mine.rests, mine.shares, given)
        above = multiply(multiply(posed.above_rot[:, :-1], bound.rests[None, :-1]), given)
        out = np.empty((3 * count, len(posed.pos)))
        nothing = np.tile([0.0, 0.0, 0.0, 1.0], (count, 1))
        fits.turns(
            np.ascontiguousarray(posed.rot[:, :-1]), np.ascontiguousarray(above), nothing, bound.orders[:-1],
            np.ascontiguousarray(near[3:].reshape(-1, 3)), out,
        )  # fmt: skip
        return np.concatenate([first, out])

    def drag(
        self, bound: Bound, posed: Posed, control: str, position: Floats, rotation: Floats, now: Mapping[int, float]
    ) -> dict[int, float]:
        channels = [bound.own[control, c] for c in ROTATION]
        near = np.array([now[c] for c in channels])
        turned = turn_in(rotation[None], posed.spaces[control].rot, bound.controls[control].control.order, near)
        return dict(zip(channels, turned[:, 0].tolist(), strict=True))
