"""IK of fingers: each a limb of two segments to a control at its last joint, that goes along with the hand or follows a thing.

So a fingertip stays on a rail while the hand shifts. By their own the controls hang from what the hand hangs from, not from the
palm: what cups the palm leaves the tips where they are. Joints of no finger are turned one by one. Complete: the nine freedoms
of three joints are place and rotation of the end, swivel, carry angle and twist, zero at rest, as in `two_segment.py`.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Literal, NamedTuple, cast

import numpy as np

from ..channels import Channel, in_words, turning
from ..kernels import fits
from ..kernels import two_segment as formulas
from ..tape import Run, Tape
from ..transforms import Floats, Ints
from .fk import joint_row
from .place import drag_control, fit_control
from .system import Control, Handle, Posed, State, System
from .two_segment import NEARLY_STRAIGHT, REST_BEND, Bent, Geometry, end_channels, geometry, limb_row

if TYPE_CHECKING:
    from ..parts.hand import HandPart
    from ..parts.part import Part
    from ..rig import Bound

#: Channels of a finger: place and rotation of its end, swivel, carry angle, twist and the bend's side.
EACH = 10


class Digit(NamedTuple):
    """A finger made ready: its control, its joints by their number in the part, its shape."""

    control: str
    run: tuple[int, int, int]
    shape: Geometry


def hand(part: Part) -> HandPart:
    return cast("HandPart", part)


class Fingers(System):
    """IK of each finger by its end."""

    name = "ik"
    label = "IK"

    def channels(self, part: Part) -> tuple[Channel, ...]:
        ends = [c for finger in hand(part).fingers for c in end_channels(hand(part).control_of(finger))]
        names = [part.joints[k] for k in hand(part).beside]
        beside = [c for n in names for c in turning(part.name, self.name, f"{n}.", f"{in_words(n)},")]
        return (*ends, *beside)

    def controls(self, part: Part) -> tuple[Control, ...]:
        both: frozenset[Literal["position", "rotation"]] = frozenset({"position", "rotation"})
        ends = [(finger, part.joints[finger.run[2]]) for finger in hand(part).fingers]
        return tuple(
            Control(
                hand(part).control_of(finger), f"tip of {in_words(part.joints[finger.run[0]])}",
                part.joint_orders[finger.run[2]], Handle("cradle", ("move", "turn"), end), both, part.joints[0], end,
                tip=True,
            )
            for finger, end in ends
        )  # fmt: skip

    def bind(self, bound: Bound) -> tuple[Digit, ...]:
        mine, found = hand(bound.part), []
        for finger in mine.fingers:
            at = list(finger.run)
            shape = geometry(bound.offsets[at], bound.rests[at], finger.hinge, False)
            found.append(Digit(mine.control_of(finger), finger.run, shape))
        return tuple(found)

    def defaults(self, bound: Bound) -> dict[int, float]:
        return {
            bound.own[digit.control, "bend"]: -1.0 if digit.shape.constants[REST_BEND] < 0.0 else 1.0
            for digit in self._digits(bound)
        }

    def _digits(self, bound: Bound) -> tuple[Digit, ...]:
        found: tuple[Digit, ...] = bound.systems[self.name].data
        return found

    def reads(self, bound: Bound, state: State) -> list[int]:
        return [bound.controls[digit.control].node for digit in self._digits(bound)]

    def row_channels(self, bound: Bound, state: State) -> list[int]:
        # Place and rotation belong to the controls' own stages.
        channels, count = bound.systems[self.name].channels, EACH * len(self._digits(bound))
        found: list[int] = [*channels[:count].reshape(-1, EACH)[:, 6:].ravel(), *channels[count:]]
        return found

    def emit(self, tape: Tape, bound: Bound, into: Ints, state: State) -> list[Run]:
        digits, channels = self._digits(bound), bound.systems[self.name].channels
        shapes = channels[: EACH * len(digits)].reshape(-1, EACH)[:, 6:]
        first = {digit.run[0]: n for n, digit in enumerate(digits)}
        turns = dict(zip(hand(bound.part).beside, channels[EACH * len(digits) :: 3], strict=True))
        runs = []
        for k in bound.outward:
            if (n := first.get(k)) is not None:
                node = bound.controls[digits[n].control].node
                runs.append(limb_row(tape, bound, digits[n].run, digits[n].shape, into, node, shapes[n]))
            elif k in turns:
                runs.append(joint_row(tape, bound, k, into, turns[k]))
        return runs

    def _bent(self, digit: Digit, posed: Posed) -> Bent:
        run = list(digit.run)
        pos, rot, offsets = (np.ascontiguousarray(x[:, run]) for x in (posed.pos, posed.rot, posed.offsets))
        above = np.ascontiguousarray(posed.above_rot[:, run[0]])
        return Bent(pos, rot, above, offsets, tuple(digit.shape.rests[0].tolist()), digit.shape.constants)

    def fit(self, bound: Bound, posed: Posed, near: Floats) -> Floats:
        out = np.empty((len(near), len(posed.pos)))
        at = 0
        for digit in self._digits(bound):
            end, order = digit.run[2], bound.controls[digit.control].control.order
            out[at : at + 6] = fit_control(
                posed, digit.control, posed.pos[:, end], posed.rot[:, end], order, near[at : at + 6]
            )
            formulas.fit(*self._bent(digit, posed), near[at + 6 : at + EACH].copy(), out[at + 6 : at + EACH])
            at += EACH
        if beside := list(hand(bound.part).beside):
            rot, above = (np.ascontiguousarray(x[:, beside]) for x in (posed.rot, posed.above_rot))
            start = np.ascontiguousarray(near[at:].reshape(-1, 3))
            fits.turns(rot, above, bound.rests[beside], bound.orders[beside], start, out[at:])
        return out

    def _bends(self, bound: Bound, posed: Posed) -> Floats:
        """(2, S, F) bend of each finger about its hinge and angle out of its plane, radians."""
        digits = self._digits(bound)
        out = np.empty((len(digits), 2, len(posed.pos)))
        for digit, mine in zip(digits, out, strict=True):
            formulas.bends(*self._bent(digit, posed), mine)
        return out.swapaxes(0, 1)

    def signs(self, bound: Bound, posed: Posed) -> Floats | None:
        found: Floats = np.sin(self._bends(bound, posed)[0])
        return found

    def singular(self, bound: Bound, posed: Posed) -> str:
        bends, carries = self._bends(bound, posed)
        bend = bends.flat[int(np.argmin(np.abs(np.sin(bends))))]
        if abs(np.sin(bend)) < NEARLY_STRAIGHT:
            return "has a straight finger" if np.cos(bend) > 0.0 else "has a finger folded as far as it goes"
        return "has a finger along its own hinge" if np.abs(np.cos(carries)).min() < NEARLY_STRAIGHT else ""

    def drag(
        self, bound: Bound, posed: Posed, control: str, position: Floats, rotation: Floats, now: Mapping[int, float]
    ) -> dict[int, float]:
        order = bound.controls[control].control.order
        return drag_control(bound, posed, control, order, position, rotation, now)
