"""What can follow something, made ready: controls with places of their own, joints whose turns follow, and the guides that
say which way a limb bends."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from .kernels.follow import CONTROL, CONTROL_GROWN, CONTROL_MIXED, JOINT_FOLLOWING
from .kernels.guide import GUIDE, share_turn
from .kernels.pivot import PIVOT
from .kernels.scalars import mean_rotation, turned_round
from .systems.system import Control, State
from .tape import Run, Tape, signs_of
from .transforms import Floats, multiply, rotate

if TYPE_CHECKING:
    from .program import Poses


class Body(NamedTuple):
    """What hangs from a root with a size: the slot of the size, its channel, those of the point about which it grows, the
    node of the world as what grows with it sees it, and that of the world."""

    slot: int
    size: int
    about: tuple[int, int, int]
    grown: int
    world: int


class Followed(NamedTuple):
    """One thing that something may follow: its node; the channels of the weights of place and rotation (-1 where that is not
    released, or needs no weight); the follower's rest place `pos` (3,) and rotation `rot` (4,) in it; the slot of its size, the
    node that writes that (-1 none), and whether the follower's body takes the size on; the first channel of the way round (-1
    none)."""

    node: int
    position: int
    rotation: int
    pos: Floats
    rot: Floats
    slot: int = 0
    root: int = -1
    taken: bool = False
    way: int = -1

    @property
    def weights(self) -> tuple[int, int]:
        return self.position, self.rotation

    @property
    def switches(self) -> list[int]:
        return [c for c in self.weights if c >= 0]

    @property
    def ways(self) -> list[int]:
        """Channels of the way round, none where it has no keys."""
        return [self.way, self.way + 1, self.way + 2] if self.way >= 0 else []

    def on(self, state: State) -> bool:
        """Whether it is followed at all."""
        return any(state(c) & 1 for c in self.switches)


@dataclass(eq=False)
class BoundControl:
    """A control that can follow something: nodes of itself and of its space, and what it may follow, its own space last,
    without weights. `place`, `turn`: first channels of its place (-1 for a joint, which only turns) and of its Euler angles.
    `slot`: that of the mean size of what is followed, by which the control's place is multiplied (0: one); `body`: what hangs
    from it, where that has a size; `pivot`: first channel of the point about which it turns (-1: its own place)."""

    control: Control
    label: str
    node: int
    space: int
    place: int
    turn: int
    anchors: list[Followed]
    slot: int = 0
    body: Body | None = None
    pivot: int = -1

    @property
    def own(self) -> Followed:
        """Its own space."""
        return self.anchors[-1]

    @property
    def others(self) -> list[Followed]:
        """What it may follow beside its own space."""
        return self.anchors[:-1]

    @property
    def switches(self) -> list[int]:
        return [c for one in self.others for c in one.switches]

    @property
    def channels(self) -> list[int]:
        """Channels that place it in its space."""
        place = range(self.place, self.place + 3) if self.place >= 0 else ()
        return [*place, *range(self.turn, self.turn + 3)]

    @property
    def chosen(self) -> list[int]:
        """Channels of ways round, and of the point about which it turns."""
        point = range(self.pivot, self.pivot + 3) if self.pivot >= 0 else ()
        return [*(c for one in self.anchors for c in one.ways), *point]

    def alone(self, state: State) -> Followed | None:
        """What is followed in full while nothing else is followed at all; None where several are."""
        active = [one for one in self.others if one.on(state)]
        if not active:
            return self.own
        full = len(active) == 1 and all(c >= 0 and state(c) == 1 for c in active[0].weights)
        return active[0] if full else None

    def reads(self, state: State) -> list[int]:
        """Nodes of what is followed now; the own space unless others hold place and rotation in full."""
        found = self.followed(state)
        # Who grows with an anchor needs to know how large it is.
        found += [one.root for one in self.anchors if one.root >= 0 and one.node in found]
        full = [any(one.weights[what] >= 0 and state(one.weights[what]) == 1 for one in self.others) for what in (0, 1)]
        return found if all(full) else [*found, self.own.node]

    def followed(self, state: State) -> list[int]:
        """Nodes of what is followed now."""
        return [one.node for one in self.others if one.on(state)]

    def emit(self, tape: Tape, node: int, state: State) -> list[Run]:
        """Rows that write the space and the control, the latter to `node`."""
        one = self.alone(state)
        reach = one or self.own
        ints = [self.space, node, one.node if one else 0, self.place, self.turn]
        floats = [*reach.pos, *reach.rot, *signs_of(self.control.order)]
        about = [] if self.pivot < 0 else [tape.add(PIVOT, (node, self.space, self.pivot, self.slot), ())]
        if one is not None and not self.slot and self.body is None:
            return [tape.add(CONTROL, ints, floats, (self.turn,)), *about]
        if one is not None and self.body is None:
            return [tape.add(CONTROL_GROWN, [*ints, one.slot, self.slot], floats, (self.turn,)), *about]
        ints += [len(self.anchors), self.slot, *(self.body[:2] if self.body else (0, -1))]
        for each in self.anchors:
            ints += [each.node, *each.weights, each.slot, each.taken, each.way]
            floats += [*each.pos, *each.rot]
        return [tape.add(CONTROL_MIXED, ints, floats, (self.turn,)), *about]

    def _shares(self, poses: Poses, weights: Mapping[int, float | Floats]) -> Floats:
        """(anchors, 2, F) how far each is followed, in place and in rotation, under these weights."""
        shares = np.zeros((len(self.anchors), 2, len(poses.times)))
        for k, one in enumerate(self.others):
            for what, c in enumerate(one.weights):
                shares[k, what] = np.maximum(weights.get(c, 0.0), 0.0)
        shares /= np.maximum(1.0, shares.sum(axis=0))
        shares[-1] = 1.0 - shares.sum(axis=0)
        return shares

    def put_space(self, poses: Poses, weights: Mapping[int, float | Floats]) -> None:
        """Puts its space where what it follows carries it under other weights (by channel, (F,) where they change), in place, and
        lets it turn about the point that they name."""
        count = len(poses.times)
        if self.pivot >= 0:
            points = [np.broadcast_to(weights.get(self.pivot + k, 0.0), count) for k in range(3)]
            poses.pivots[self.pivot] = np.stack(points, axis=1)
        shares = self._shares(poses, weights)
        place = np.zeros_like(poses.pos[:, self.space])
        turns = np.empty((len(self.anchors), count, 4))
        mean = np.zeros(count)
        for k, one in enumerate(self.anchors):
            if shares[k, 0].any():
                size = poses.size(one.slot)
                place += shares[k, 0][:, None] * placed_in(poses, one)
                mean += shares[k, 0] * (1.0 if size is None else size)
            if shares[k, 1].any():
                turns[k] = multiply(poses.rot[:, one.node], one.rot)
        poses.pos[:, self.space] = place
        if poses.sizes is not None and self.slot:
            poses.sizes[:, self.slot] = mean
        for k in range(len(self.anchors)):
            alone = shares[k, 1] == 1.0
            poses.rot[alone, self.space] = turns[k, alone]
        for f in np.flatnonzero(shares[:, 1].max(axis=0) < 1.0):
            some = np.flatnonzero(shares[:, 1, f])
            if len(some) == 2:
                said = [
                    [np.broadcast_to(weights.get(c, 0.0), count)[f] for c in self.anchors[k].ways] or [0.0] * 3
                    for k in some
                ]
                way = np.subtract(said[1], said[0])
                if way.any():
                    poses.rot[f, self.space] = turned_round(turns[some, f], shares[some[1], 1, f], tuple(way))
                    continue
            # The mean orders its shares anew: each time gets its own.
            poses.rot[f, self.space] = mean_rotation(turns[some, f], shares[some, 1, f], len(some))


@dataclass(eq=False)
class BoundTurn(BoundControl):
    """A control that only turns: it is where it is at rest in its own space, whatever its turn follows."""

    def emit(self, tape: Tape, node: int, state: State) -> list[Run]:
        if self.alone(state) is self.own:
            return super().emit(tape, node, state)
        ints = [node, self.space, self.own.node, self.turn, -1, -1, len(self.others), 0]
        floats = [*self.own.pos, *self.own.rot, *signs_of(self.control.order)]
        for one in self.others:
            ints += [one.node, one.rotation, one.way]
            floats += one.rot.tolist()
        return [tape.add(JOINT_FOLLOWING, ints, floats, (self.turn,))]


@dataclass(eq=False)
class BoundGuide(BoundControl):
    """A bend guide that follows something with its place. Its space is the mean of where what it follows carries it; the share
    that is followed in all is kept there as a turn (`kernels.guide.share_turn`). A limb swivels towards that place by this
    share, and the swivel that is keyed comes on top: so nothing followed is nothing added."""

    swivel: int = -1

    @property
    def channels(self) -> list[int]:
        return [self.swivel]

    def reads(self, state: State) -> list[int]:
        return self.followed(state)

    def emit(self, tape: Tape, node: int, state: State) -> list[Run]:
        ints, floats = [self.space, len(self.others)], []
        for one in self.others:
            ints += [one.node, one.position, one.slot]
            floats += one.pos.tolist()
        return [tape.add(GUIDE, ints, floats)]

    def put_space(self, poses: Poses, weights: Mapping[int, float | Floats]) -> None:
        shares = self._shares(poses, weights)[:-1, 0]
        whole = shares.sum(axis=0)
        place = np.zeros_like(poses.pos[:, self.space])
        for share, one in zip(shares, self.others, strict=True):
            if share.any():
                place += (share / np.maximum(whole, 1e-300))[:, None] * placed_in(poses, one)
        poses.pos[:, self.space] = place
        poses.rot[:, self.space] = np.array([share_turn(w) for w in whole])


def placed_in(poses: Poses, one: Followed) -> Floats:
    """(F, 3) where something that is followed carries what follows it."""
    size = poses.size(one.slot)
    reach = one.pos if size is None else size[:, None] * one.pos
    found: Floats = poses.pos[:, one.node] + rotate(poses.rot[:, one.node], reach)
    return found
