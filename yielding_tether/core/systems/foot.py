"""IK of a leg whose foot rolls: its control stays flat under the foot, and the limb aims at what roll, bank and turns make of it.

Beside the values of the limb, of two segments or more, there are roll, bank, turns about heel, ball and tip, and of a toe a lift
and its own turn: more than there are freedoms. So a fit keeps values that make the pose already; else the control is level in
what it follows with the heading of the sole, roll is the sole's pitch along that and bank its tilt after it, and what they leave
goes to the control. Where the foot turns about a point by which it stands, that takes the heading (`stance_turns`), and the control
stays. The formulas are in `kernels.foot`.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, cast

import numpy as np

from ..channels import Channel, in_words, turning
from ..kernels import fits
from ..kernels.foot import AIM, SOFT, TOE, feet
from ..tape import Run, Tape, signs_of
from ..transforms import Floats, Ints, inverse, multiply, rotate
from .n_segment import NSegment
from .place import fit_control
from .system import Control, Handle, Posed, Rolling, State, Turning
from .two_segment import TwoSegment, ik_name

if TYPE_CHECKING:
    from ..parts.leg import Footed
    from ..parts.part import Part
    from ..rig import Bound

#: Roll, bank and turns, after the values of the limb; then of a toe its lift and its own turn.
FOOT = (
    ("roll", "roll"), ("bank", "bank"), ("heel", "turn about the heel"), ("ball", "turn about the ball"),
    ("tip", "turn about the tip"),
)  # fmt: skip
#: Least and greatest roll (radians) that a lever gives.
ROLLS = (-1.5, 2.5)
#: Metres and radians within which two soles are each other's mirror image.
ALIKE = 1e-6
#: Node at which the limb aims, by the name of the control and this.
AIMED = "aim"


def sole_of(bound: Bound) -> Floats:
    """(SOLE,) numbers of a sole, as the kernels read them."""
    return cast("Footed", bound.part).sole.numbers


class RollingFoot(TwoSegment):
    """IK of two segments with a foot that rolls. Its joints and values are counted from those of the limb, so that a limb of more
    segments has it too."""

    ample = True

    def foot(self, part: Part) -> int:
        """Which of the part's joints is the foot: after it comes the toe, where there is one."""
        return self.run(part)[2]

    def firsts(self, bound: Bound) -> tuple[int, int]:
        """Places among the channels of the roll, and of the lift of a toe."""
        roll = bound.systems[self.name].channels.tolist().index(bound.own[ik_name(bound), FOOT[0][0]])
        return roll, roll + len(FOOT)

    def channels(self, part: Part) -> tuple[Channel, ...]:
        leg = cast("Footed", part)
        *shape, guide = super().channels(part)
        closed = {c for c in part.locked if "." not in c}

        def one(name: str, label: str) -> Channel:
            return Channel(leg.ik, name, "angle", self.name, label, access="locked" if name in closed else "open")

        foot = [one(name, label) for name, label in FOOT]
        toe = (
            [one("lift", "toe lift"), *turning(leg.ik, self.name, f"{leg.toe}.", f"{in_words(leg.toe)},")]
            if leg.toe
            else []
        )
        return (*shape, *foot, *toe, guide)

    def controls(self, part: Part) -> tuple[Control, ...]:
        foot = part.joints[self.foot(part)]
        lever = Control(
            lever_name(part), f"heel of the {part.label}", "xyz", Handle("lever", ("move",), foot, foot, computed=True),
            shows=(cast("Footed", part).ik, "roll"),
        )  # fmt: skip
        return (*super().controls(part), lever)

    def nodes(self, part: Part) -> tuple[tuple[str, str], ...]:
        return ((cast("Footed", part).ik, AIMED),)

    def aim(self, bound: Bound, control: str) -> int:
        return bound.extra[control, AIMED] if control == ik_name(bound) else super().aim(bound, control)

    def tilts(self, bound: Bound, control: str) -> list[int]:
        found: list[int] = self._foot_channels(bound).tolist()
        return found if control == ik_name(bound) else []

    def rolls(self, bound: Bound, control: str) -> Rolling | None:
        channels = bound.systems[self.name].channels.tolist()
        roll, lift = self.firsts(bound)
        toe = range(lift, lift + 4) if self._toed(bound) else ()
        level = tuple(channels[k] for k in (*range(roll + 1, lift), *toe))
        most = cast("Footed", bound.part).sole.tip_from - SOFT
        return Rolling(channels[roll], level, most) if control == ik_name(bound) else None

    def turning(self, bound: Bound) -> Turning:
        *points, left, _, forward = sole_of(bound)[:24].reshape(8, 3)
        turns, names = self.firsts(bound)[0] + 2, ("heel", "ball", "tip")
        channels = {name: turns + k for k, name in enumerate(names)}
        return Turning(ik_name(bound), channels, left, forward, dict(zip(names, points, strict=False)))

    def emit(self, tape: Tape, bound: Bound, into: Ints, state: State) -> list[Run]:
        channels, sole = bound.systems[self.name].channels, sole_of(bound)
        k, (roll, first) = self.foot(bound.part) + 1, self.firsts(bound)
        control = bound.controls[ik_name(bound)].node
        aimed = (self.aim(bound, ik_name(bound)), control, *channels[roll:first], bound.slot)
        runs = [tape.add(AIM, aimed, sole), *super().emit(tape, bound, into, state)]
        if self._toed(bound):
            lift = channels[first]
            ints = (
                into[k], into[k - 1], channels[roll], lift, lift + 1, bound.moving[k, 0], bound.samples[k], bound.slot
            )  # fmt: skip
            floats = (
                *bound.offsets[k], *bound.rests[k], *signs_of(bound.part.joint_orders[k]), *sole[15:18], sole[24]
            )  # fmt: skip
            runs.append(tape.add(TOE, ints, floats, (lift + 1,)))
        return runs

    # --- fitting

    def fit(self, bound: Bound, posed: Posed, near: Floats) -> Floats:
        shape = super().fit(bound, posed, near)
        foot = self._level(bound, posed, near)
        roll, first = self.firsts(bound)
        for k in posed.kept.keys() & range(roll, first):
            foot[k - roll] = posed.kept[k]
        shape[:6] = self._control(bound, posed, foot, near)
        if not self._toed(bound):
            return np.concatenate([shape, foot])
        k = self.foot(bound.part) + 1
        toe = slice(k, k + 1)
        lift = posed.kept.get(first, np.zeros(len(posed.pos)))[None]
        own = np.empty((3, len(posed.pos)))
        above = multiply(posed.rot[:, k - 1], self._toe_turn(bound, foot, lift[0]))
        fits.turns(
            np.ascontiguousarray(posed.rot[:, toe]), np.ascontiguousarray(above[:, None]), bound.rests[toe], bound.orders[toe],
            np.ascontiguousarray(near[first + 1 : first + 4].reshape(1, 3)), own,
        )  # fmt: skip
        return np.concatenate([shape, foot, lift, own])

    def _foot_channels(self, bound: Bound) -> Ints:
        """(5,) channels of roll, bank and turns."""
        roll, lift = self.firsts(bound)
        found: Ints = bound.systems[self.name].channels[roll:lift]
        return found

    def _toed(self, bound: Bound) -> bool:
        return len(bound.nodes) > self.foot(bound.part) + 1

    def _level(self, bound: Bound, posed: Posed, near: Floats) -> Floats:
        """(5, F) values of the foot under which its control is level in its space; nothing where roll or bank is locked."""
        mine = bound.systems[self.name]
        foot = np.zeros((5, len(posed.pos)))
        k, at = self.foot(bound.part), self.firsts(bound)[0]
        if mine.held[at] or mine.held[at + 1]:
            return foot
        left, up, forward = sole_of(bound)[15:24].reshape(3, 3)
        # The sole's turn from rest, in the control's space, by its directions there.
        turn = multiply(inverse(posed.spaces[ik_name(bound)].rot), posed.rot[:, k])
        side = rotate(turn, left)
        roll = np.arctan2(-rotate(turn, forward) @ up, rotate(turn, up) @ up)
        foot[0] = np.unwrap(np.concatenate([near[at : at + 1], roll]))[1:]
        foot[1] = np.arctan2(side @ up, np.hypot(side @ left, side @ forward))
        return foot

    def _placed(self, bound: Bound, foot: Floats) -> tuple[Floats, Floats, Floats]:
        """Place (F, 3), rotation (F, 4) of the foot in its control, and angle about the ball (F,), for values (5, F)."""
        pos, rot, balls = np.empty((foot.shape[1], 3)), np.empty((foot.shape[1], 4)), np.empty(foot.shape[1])
        feet(np.ascontiguousarray(foot), sole_of(bound), pos, rot, balls)
        return pos, rot, balls

    def _toe_turn(self, bound: Bound, foot: Floats, lift: Floats) -> Floats:
        """(F, 4) turn of the toe in the foot, before its rest and its own."""
        half = -0.5 * (self._placed(bound, foot)[2] + lift)
        left = sole_of(bound)[15:18]
        return np.concatenate([np.sin(half)[:, None] * left, np.cos(half)[:, None]], axis=1)

    def _under(self, bound: Bound, posed: Posed, foot: Floats, pos: Floats, rot: Floats) -> tuple[Floats, Floats]:
        """Place and rotation of the control where the foot is at pos (F, 3), rot (F, 4)."""
        place, turn, _ = self._placed(bound, foot)
        under = multiply(rot, inverse(turn))
        return pos - rotate(under, posed.sizes[:, None] * place), under

    def _control(self, bound: Bound, posed: Posed, foot: Floats, near: Floats) -> Floats:
        control, k = ik_name(bound), self.foot(bound.part)
        pos, rot = self._under(bound, posed, foot, posed.pos[:, k], posed.rot[:, k])
        return fit_control(posed, control, pos, rot, bound.controls[control].control.order, near)

    def mirrored(self, bound: Bound, other: Bound) -> dict[int, float]:
        soles = sole_of(bound), sole_of(other)
        one, two = (_by_ways(sole) for sole in soles)
        # Heel, ball and tip of the other side, and its edges changed over, with their left and right.
        swapped = two[[0, 1, 2, 4, 3]] * [-1.0, 1.0, 1.0]
        alike = np.abs(one - swapped).max() <= ALIKE and abs(soles[0][24] - soles[1][24]) <= ALIKE
        if len(bound.nodes) != len(other.nodes) or not alike:
            return {}
        roll, lift = self.firsts(bound)
        signs = {roll: 1.0, **dict.fromkeys(range(roll + 1, lift), -1.0)}
        return signs | ({lift: 1.0} if self._toed(bound) else {})

    # --- dragging

    def _lever(self, bound: Bound) -> Floats:
        """(3,) where the lever that rolls the foot stands, in its joint: behind the heel, by a third of its length."""
        sole = sole_of(bound)
        heel, tip = sole[:3], sole[6:9]
        found: Floats = heel + (heel - tip) / 3.0
        return found

    def places(self, bound: Bound, posed: Posed, values: Mapping[int, Floats]) -> dict[str, Floats]:
        k = self.foot(bound.part)
        at = posed.pos[:, k] + rotate(posed.rot[:, k], posed.sizes[:, None] * self._lever(bound))
        return {**super().places(bound, posed, values), lever_name(bound.part): at}

    def drag(
        self, bound: Bound, posed: Posed, control: str, position: Floats, rotation: Floats, now: Mapping[int, float]
    ) -> dict[int, float]:
        if control != lever_name(bound.part):
            return super().drag(bound, posed, control, position, rotation, now)
        channels, k = self._foot_channels(bound), self.foot(bound.part)
        foot = np.array([[now[int(c)]] for c in channels])
        pos, rot = self._under(bound, posed, foot, posed.pos[:1, k], posed.rot[:1, k])
        wanted = rotate(inverse(rot[0]), position - pos[0]) / posed.sizes[0]
        # The roll under which the lever comes nearest: looked for ever more finely.
        low, high = ROLLS
        while high - low > 1e-7:
            rolls = np.linspace(low, high, 201)
            place, turn, _ = self._placed(bound, np.vstack([rolls, np.repeat(foot[1:], 201, axis=1)]))
            best = rolls[np.argmin(np.linalg.norm(place + rotate(turn, self._lever(bound)) - wanted, axis=1))]
            step = 2.0 * (rolls[1] - rolls[0])
            low, high = max(best - step, ROLLS[0]), min(best + step, ROLLS[1])
        return {int(channels[0]): float(0.5 * (low + high))}

    def rest(
        self, bound: Bound, posed: Posed, control: str, position: Floats, rotation: Floats, now: Mapping[int, float]
    ) -> tuple[Floats, Floats]:
        if control != ik_name(bound):
            return position, rotation
        foot = np.array([[now[int(c)]] for c in self._foot_channels(bound)])
        pos, rot = self._under(bound, posed, foot, position[None], rotation[None])
        return pos[0], rot[0]


class ChainWithFoot(RollingFoot, NSegment):
    """IK of more segments with a foot that rolls."""


def _by_ways(sole: Floats) -> Floats:
    """(5, 3) points of a sole along its ways: to the left, up, forward."""
    found: Floats = sole[:15].reshape(5, 3) @ sole[15:24].reshape(3, 3).T
    return found


def lever_name(part: Part) -> str:
    """Name of the lever behind the heel of a leg, by which its foot is rolled."""
    return f"{part.name}.heel"
