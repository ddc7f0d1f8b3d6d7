"""FK: each joint turned in what it hangs from, or in what its turn follows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np

from ..channels import ROTATION, Channel, in_words, turning
from ..kernels import fits, joint
from ..kernels.follow import JOINT_FOLLOWING
from ..kernels.staged import STAGE, STAGED
from ..tape import Run, Tape, signs_of
from ..transforms import ORDERS, Floats, Ints, inverse, multiply, rotation_distance
from ..values import SAME, PoseValue, recovered, turned, ways
from .system import Control, Handle, Posed, State, System

if TYPE_CHECKING:
    from ..followers import BoundControl
    from ..parts.part import Part
    from ..rig import Bound

NO_TURN = np.array([[0.0, 0.0, 0.0, 1.0]])
_NOWHERE, _UNTURNED = (0.0, 0.0, 0.0), (0.0, 0.0, 0.0, 1.0)


class Fk(System):
    """Three Euler channels a joint, in the joint's own rotation order, zero at rest."""

    name = "fk"
    label = "FK"
    #: Whether the turns of its joints may follow something.
    follows = True

    def channels(self, part: Part) -> tuple[Channel, ...]:
        turns = tuple(c for name in part.joints for c in turning(name, self.name))
        return (*turns, *(v.channel(part.name, self.name) for v in part.values))

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
        runs = []
        for k in bound.outward:
            if (control := bound.turned.get(bound.part.joints[k])) is not None:
                follows = bool(control.followed(state))
                staged = follows and bool(self._values(bound, k, state))
                runs.append(following(tape, bound, k, control, into, joint=follows and not staged))
                if staged:
                    # It is where its space is, and turns in that.
                    runs.append(self._staged(tape, bound, k, state, (into[k], control.space), (*_NOWHERE, *_UNTURNED)))
                if follows:
                    continue
            runs.append(self.row(tape, bound, k, into, state))
        return Tape.joined(runs, joint.INTS, joint.FLOATS)

    def row(self, tape: Tape, bound: Bound, k: int, into: Ints, state: State) -> Run:
        """The row of joint k, which follows nothing."""
        if self._values(bound, k, state):
            nodes, more = (into[k], bound.above_in(into, k)), (bound.moving[k, 0], bound.samples[k], bound.slot)
            return self._staged(tape, bound, k, state, nodes, (*bound.offsets[k], *bound.rests[k]), more)
        return joint_row(tape, bound, k, into, bound.systems[self.name].channels[3 * k])

    @staticmethod
    def _values(bound: Bound, k: int, state: State) -> list[tuple[PoseValue, int]]:
        """Named values above zero that turn joint k, with its number in each: others cost nothing."""
        name = bound.part.joints[k]
        channels = dict(zip(bound.part.values, bound.value_channels, strict=True))
        return [(v, v.joints.index(name)) for v, c in channels.items() if name in v.joints and state(c) & 1]

    def _staged(
        self, tape: Tape, bound: Bound, k: int, state: State, nodes: Sequence[int], rest: Sequence[float],
        more: Sequence[int] = (-1, -1, 0),
    ) -> Run:  # fmt: skip
        """The row of joint k, written to the first of two nodes and hanging from the other, at rest with this place and turn, where
        named values turn it; more: its first length channel, joint of the capture and size."""
        mine = self._values(bound, k, state)
        first = bound.systems[self.name].channels[3 * k]
        table: list[int] = []
        stages: list[float] = []
        for value, j in mine:
            low, (_, axes, halves), count = 0.0, ways(value), len(stages)
            for at, axis, half in zip(value.at, axes, halves, strict=True):
                # What a stage does not turn costs nothing.
                stages += [low, 1.0 / (at - low), *axis[j], half[j]] if half[j] else []
                low = at
            table += [bound.own[bound.part.name, f"value.{value.name}"], (len(stages) - count) // STAGE]
        floats = (*rest, *signs_of(bound.part.joint_orders[k]), *stages)
        return tape.add(STAGED, (*nodes, first, *more, len(mine), *table), floats, (first,))

    def stays(self, bound: Bound) -> list[int]:
        first = 3 * len(bound.nodes)
        return list(range(first, first + len(bound.part.values)))

    def mirrored(self, bound: Bound, other: Bound) -> dict[int, float]:
        pairs = zip(self.stays(bound), bound.part.values, other.part.values, strict=False)
        return {k: 1.0 for k, mine, theirs in pairs if (mine.name, mine.at) == (theirs.name, theirs.at)}

    def fit(self, bound: Bound, posed: Posed, near: Floats) -> Floats:
        out = np.empty((3 * len(bound.nodes), len(posed.pos)))
        above, rests = turned_in(bound, posed), bound.rests
        values = bound.part.values
        if values:
            now = np.stack([np.broadcast_to(posed.kept.get(k, near[k]), len(posed.pos)) for k in self.stays(bound)])
            above, rests = multiply(above, rests), np.tile(NO_TURN, (len(rests), 1))
            local = multiply(inverse(above), posed.rot)
            given = turned(values, bound.part.joints, now)
            if rotation_distance(given, local).max(initial=0.0) > SAME:
                alone = recovered(values, bound.part.joints, local)
                now, given = (now, given) if alone is None else (alone, turned(values, bound.part.joints, alone))
            above = multiply(above, given)
        near = np.ascontiguousarray(near[: len(out)].reshape(-1, 3))
        fits.turns(posed.rot, np.ascontiguousarray(above), rests, bound.orders, near, out)
        return np.concatenate([out, now]) if values else out

    def drag(
        self, bound: Bound, posed: Posed, control: str, position: Floats, rotation: Floats, now: Mapping[int, float]
    ) -> dict[int, float]:
        k = bound.part.joints.index(control)
        channels = [bound.own[control, c] for c in ROTATION]
        near = np.array([[now[c] for c in channels]])
        out = np.empty((3, 1))
        values = bound.part.values
        at = np.array([[now[bound.own[bound.part.name, f"value.{v.name}"]]] for v in values]).reshape(-1, 1)
        above = multiply(turned_in(bound, posed)[:, k : k + 1], bound.rests[None, k : k + 1])
        if values:
            above = multiply(above, turned(values, bound.part.joints, at)[:, k : k + 1])
        fits.turns(rotation[None, None], np.ascontiguousarray(above), NO_TURN, bound.orders[k : k + 1], near, out)
        return dict(zip(channels, out[:, 0].tolist(), strict=True))


def joint_row(tape: Tape, bound: Bound, k: int, into: Ints, first: int) -> Run:
    """The row of joint k of a part, turned by three channels from `first` on; `into`: nodes of the part's joints."""
    still = bound.moving[k, 0] < 0 and bound.samples[k] < 0
    kind = joint.JOINT_MOVED if not still else joint.JOINT_GROWN if bound.slot else joint.JOINT
    ints = (into[k], bound.above_in(into, k), first, bound.moving[k, 0], bound.samples[k], bound.slot)
    floats = (*bound.offsets[k], *bound.rests[k], *signs_of(bound.part.joint_orders[k]))
    return tape.add(kind, ints, floats, (first,))


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
