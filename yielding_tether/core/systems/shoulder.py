"""FK and IK of an arm whose collarbone takes a share of its turn: read off where the hand is to be, never off where it begins.

Each system has a turn of the collarbone by hand, on top of what it takes; they are blended as the arm is. So any pose carries
over, and a handover leaves the shoulder where it is. The formulas are in `kernels.shoulder`.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, cast
from weakref import WeakKeyDictionary

import numpy as np

from ..channels import Channel, in_words, turning
from ..kernels import fits
from ..kernels.shoulder import SHOULDER, turns_taken
from ..tape import Run, Tape, signs_of
from ..transforms import ORDERS, Floats, Ints, euler, inverse, multiply, rotate
from .fk import NO_TURN, Fk, turn_in
from .n_segment import NSegment
from .system import Control, Posed, State
from .two_segment import TwoSegment, ik_name

if TYPE_CHECKING:
    from ..parts.arm import Shouldered
    from ..parts.part import Part
    from ..rig import Bound

#: Stretch about a set angle (radians) over which a share sets in.
SETS_IN = 0.17
#: Most rounds in which a turned joint and the collarbone that goes along with it are brought together.
SOUGHT = 200


#: Numbers of the shoulders that were asked for, by part: they are what they are from the part's rest alone.
_SHAPES: WeakKeyDictionary[Bound, Floats] = WeakKeyDictionary()


def shoulder_of(bound: Bound) -> Floats:
    """(SHAPE,) numbers of a shoulder, as the kernels read them."""
    found = _SHAPES.get(bound)
    if found is None:
        found = _SHAPES[bound] = _shape(bound)
    return found


def _shape(bound: Bound) -> Floats:
    shrug = cast("Shouldered", bound.part).shrug
    collar, upper = bound.offsets[:2]
    elbow = elbow_of(bound)
    rests = bound.rests
    begins = collar + rotate(rests[0], upper)
    first = multiply(rests[0], rests[1])
    (lower, second), (end, _) = _along(bound, 1, elbow), _along(bound, elbow, len(rests) - 1)
    reach = rotate(first, lower) + rotate(multiply(first, second), end)
    size = float(np.linalg.norm(reach))
    # An arm folded onto its own beginning leads nowhere: then what it takes is counted from where its first segment leads.
    at_rest = reach / size if size > 1e-6 else rotate(first, lower) / np.linalg.norm(lower)
    over = max(min(SETS_IN, *shrug.past), 1e-9)
    return np.concatenate([
        begins, at_rest, shrug.raised, shrug.forward, shrug.shares, shrug.past, [over], first, lower, second, end
    ])  # fmt: skip


def elbow_of(bound: Bound) -> int:
    """Which of the arm's joints it bends in."""
    found: int = bound.systems[ShoulderedIk.name].system.run(bound.part)[1]  # type: ignore[attr-defined]
    return found


def _along(bound: Bound, one: int, other: int) -> tuple[Floats, Floats]:
    """Place (3,) and rotation (4,) of one joint in an earlier one, at rest."""
    pos, rot = np.zeros(3), np.array([0.0, 0.0, 0.0, 1.0])
    for k in range(one + 1, other + 1):
        pos, rot = pos + rotate(rot, bound.offsets[k]), multiply(rot, bound.rests[k])
    return pos, rot


def collar_row(tape: Tape, bound: Bound, into: Ints, first: int, target: int, arm: tuple[int, int]) -> Run:
    """The row of a collarbone: `first` of its Euler channels, the node that the hand goes to or the Euler channels of the joints
    that turn the arm's two segments."""
    orders, elbow = bound.part.joint_orders, elbow_of(bound)
    ints = (
        into[0], bound.above[0], first, bound.moving[0, 0], bound.samples[0], bound.slot, target, *arm
    )  # fmt: skip
    floats = (
        *bound.offsets[0], *bound.rests[0], *signs_of(orders[0]), *shoulder_of(bound),
        *(x for k in (1, elbow) for x in signs_of(orders[k])),
    )  # fmt: skip
    return tape.add(SHOULDER, ints, floats, (first, *(c for c in arm if target < 0)))


def fit_collar(bound: Bound, posed: Posed, directions: Floats, near: Floats) -> Floats:
    """(3, F) Euler channels of the collarbone on top of what it takes of these directions (F, 3)."""
    taken = np.empty((len(directions), 4))
    turns_taken(np.ascontiguousarray(directions), shoulder_of(bound), taken)
    above = multiply(multiply(posed.above_rot[:, 0], taken), bound.rests[0])
    out = np.empty((3, len(directions)))
    fits.turns(
        np.ascontiguousarray(posed.rot[:, :1]), np.ascontiguousarray(above[:, None]), NO_TURN, bound.orders[:1],
        np.ascontiguousarray(near.reshape(1, 3)), out,
    )  # fmt: skip
    return out


class ShoulderedFk(Fk):
    """Three Euler channels a joint; those of the collarbone lie on top of what it takes of the arm's turn."""

    def controls(self, part: Part) -> tuple[Control, ...]:
        collar, *rest = super().controls(part)
        # What the collarbone takes is in what it hangs from: it follows nothing else.
        return (replace(collar, releases=frozenset()), *rest)

    def row(self, tape: Tape, bound: Bound, k: int, into: Ints, state: State) -> Run:
        if k:
            return super().row(tape, bound, k, into, state)
        channels = bound.systems[self.name].channels
        return collar_row(tape, bound, into, channels[0], -1, (channels[3], channels[3 * elbow_of(bound)]))

    def _directions(self, bound: Bound, values: Floats) -> Floats:
        """(F, 3) where these values (3 J, F) lead the end of the arm from its beginning, whatever turns helpers in its segments."""
        elbow = elbow_of(bound)
        first, second = (euler(ORDERS[bound.orders[k]], values[3 * k : 3 * k + 3]) for k in (1, elbow))
        (to_elbow, there), (to_end, _) = _along(bound, 1, elbow), _along(bound, elbow, len(bound.rests) - 1)
        upper = multiply(multiply(bound.rests[0], bound.rests[1]), first)
        lower = multiply(multiply(upper, there), second)
        return rotate(upper, to_elbow) + rotate(lower, to_end)

    def fit(self, bound: Bound, posed: Posed, near: Floats) -> Floats:
        found = super().fit(bound, posed, near)
        found[:3] = fit_collar(bound, posed, self._directions(bound, found), near[:3])
        return found

    def along(self, bound: Bound, control: str) -> list[int]:
        """What turns the arm by other values, in what else it follows, turns the collarbone otherwise too."""
        turned = control in bound.part.joints and bound.part.joints.index(control) in (1, elbow_of(bound))
        return [0, 1, 2] if turned else []

    def drag(
        self, bound: Bound, posed: Posed, control: str, position: Floats, rotation: Floats, now: Mapping[int, float]
    ) -> dict[int, float]:
        k = bound.part.joints.index(control)
        if k not in (0, 1, elbow_of(bound)) or any(_follows(bound, now, j) for j in range(1, k + 1)):
            return super().drag(bound, posed, control, position, rotation, now)
        channels = bound.systems[self.name].channels
        values = np.array([[now[int(c)]] for c in channels])
        if not k:
            turned = posed.rot.copy()
            turned[0, 0] = rotation
            found = fit_collar(bound, replace(posed, rot=turned), self._directions(bound, values), values[:3, 0])
            return dict(zip(channels[:3].tolist(), found[:, 0].tolist(), strict=True))
        mine = slice(3 * k, 3 * k + 3)
        for _ in range(SOUGHT):
            # The collarbone goes along with what is turned here, and carries it: until both agree.
            above = self._above(bound, posed, values, k)
            now_at = values[mine].copy()
            values[mine] = turn_in(
                rotation[None], multiply(above, bound.rests[k][None]), bound.part.joint_orders[k], now_at[:, 0]
            )
            if np.abs(values[mine] - now_at).max() < 1e-13:
                break
        return dict(zip(channels[mine].tolist(), values[mine, 0].tolist(), strict=True))

    def _above(self, bound: Bound, posed: Posed, values: Floats, k: int) -> Floats:
        """(1, 4) rotation of what joint k hangs from, at the first time, where the arm is turned by these values (3 J, 1)."""
        taken = np.empty((1, 4))
        turns_taken(np.ascontiguousarray(self._directions(bound, values)), shoulder_of(bound), taken)
        found = multiply(posed.above_rot[:1, 0], taken)
        for j in range(k):
            own = euler(bound.part.joint_orders[j], values[3 * j : 3 * j + 3])
            found = multiply(multiply(found, bound.rests[j][None]), own)
        return found


def _follows(bound: Bound, now: Mapping[int, float], k: int) -> bool:
    """Whether joint k turns with something else than what it hangs from: then no collarbone turns it."""
    tied = bound.turned.get(bound.part.joints[k])
    return tied is not None and any(now[c] > 0.0 for c in tied.switches)


class ShoulderedIk(TwoSegment):
    """IK of a limb behind a collarbone, which goes along with where the hand's control is."""

    def channels(self, part: Part) -> tuple[Channel, ...]:
        *shape, guide = super().channels(part)
        collar = part.joints[0]
        return (*shape, *turning(cast("Shouldered", part).ik, self.name, f"{collar}.", f"{in_words(collar)},"), guide)

    def first(self, bound: Bound) -> int:
        """Place among the channels of the first of the collarbone's."""
        mine = bound.systems[self.name].channels.tolist()
        found: int = mine.index(bound.own[ik_name(bound), f"{bound.part.joints[0]}.rx"])
        return found

    def emit(self, tape: Tape, bound: Bound, into: Ints, state: State) -> list[Run]:
        first = int(bound.systems[self.name].channels[self.first(bound)])
        collar = collar_row(tape, bound, into, first, self.aim(bound, ik_name(bound)), (0, 0))
        return [collar, *super().emit(tape, bound, into, state)]

    def fit(self, bound: Bound, posed: Posed, near: Floats) -> Floats:
        shape = super().fit(bound, posed, near)
        back = inverse(posed.above_rot[:, 0])
        begins = shoulder_of(bound)[:3]
        directions = rotate(back, posed.pos[:, -1] - posed.above_pos[:, 0]) - posed.sizes[:, None] * begins
        first = self.first(bound)
        return np.concatenate([shape, fit_collar(bound, posed, directions, near[first : first + 3])])


class ChainWithShoulder(ShoulderedIk, NSegment):
    """IK of more segments behind a collarbone."""
