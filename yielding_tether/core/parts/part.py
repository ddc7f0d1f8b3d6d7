"""What all parts have in common. Each kind is a frozen dataclass, so that scenes are stored as they are."""

from __future__ import annotations

import itertools
from collections.abc import Mapping
from functools import cached_property
from typing import ClassVar, Literal, NamedTuple

from ..channels import Channel, in_words, moving
from ..errors import CoreError
from ..settings import Setting
from ..skeleton import Skeleton
from ..systems.system import System
from ..values import PoseValue

Side = Literal["left", "right", "middle"]
#: All kinds of parts, by the word that tells them apart in stored scenes.
PARTS: dict[str, type[Part]] = {}


class Fold(NamedTuple):
    """Joints between which a limb folds: its root, where it bends, its end; `hinge`: the axis about which it bends, in the root."""

    root: str
    bend: str
    end: str
    hinge: tuple[float, float, float]


class Part:
    """A part: `joints` from the root outward with a rotation order each, a side, and systems. The first system drives where
    no other does; every further one has a driver, whose share says how far it takes over from those before it."""

    name: str
    label: str
    side: Side
    kind: str
    joints: tuple[str, ...]
    locked: tuple[str, ...] = ()
    moves: tuple[bool, ...] = ()
    #: Whether its one joint is placed by keys and not by an offset, so that systems mix its place too.
    free: ClassVar[bool] = False
    #: Whether it is a root with a size, for all that hangs from it.
    grows: ClassVar[bool] = False
    #: What the animator may want to know of how it was found.
    hinge_from: str = ""
    role: str = ""
    #: Whether named values can pose its joints, and those that do: where they are turned one by one.
    staged: ClassVar[bool] = False
    values: tuple[PoseValue, ...] = ()

    def __init_subclass__(cls, *, kind: str) -> None:
        PARTS[kind] = cls

    @property
    def touches(self) -> bool:
        """Whether its end stands on things or holds them, as hands and feet do; others show controls only while in hand."""
        return True

    @property
    def joint_orders(self) -> tuple[str, ...]:
        """Rotation order of each joint."""
        raise NotImplementedError

    @property
    def moving(self) -> tuple[bool, ...]:
        """Which joints have lengths that change: none where nothing is said of them."""
        return self.moves or (False,) * len(self.joints)

    def systems(self) -> tuple[System, ...]:
        """Its systems, in the order in which they take over from one another."""
        raise NotImplementedError

    def drivers(self) -> tuple[Channel, ...]:
        """The driver of each system but the first."""
        return ()

    def channels(self) -> tuple[Channel, ...]:
        """All its channels: those of its systems, its lengths, its drivers."""
        lengths = [c for joint, on in zip(self.joints, self.moving, strict=True) if on for c in moving(joint, "")]
        return (*(c for system in self.systems() for c in system.channels(self)), *lengths, *self.drivers())

    @cached_property
    def headings(self) -> dict[str, str]:
        """Under what its values are read, by the control that has them: the joint, or the control where a system has several."""
        found: dict[str, str] = {}
        for system in self.systems():
            ends = {c.name: c.label for c in system.controls(self) if c.own}
            found |= ends if len(ends) > 1 else {}
        return found | {j: in_words(j) for j in self.joints}

    @property
    def corners(self) -> tuple[str, ...]:
        """Joints between which the segments of a limb run: its root, where it bends, its end. None where it is no limb."""
        return ()

    @property
    def folds(self) -> tuple[Fold, ...]:
        """How it brings each of its ends to a place. None where it has no end that stands on things or holds them."""
        return ()

    def stands_on(self, skeleton: Skeleton) -> tuple[tuple[str, str, tuple[float, float, float]], ...]:
        """Points of its end that come to rest each by itself, as (name, joint, place in the joint, metres): the one about which it
        turns before all of it stands, then that about which it turns after it, and others that stand with that."""
        return ()

    def settings(self) -> tuple[Setting, ...]:
        """What of it is fitted to a body by figures."""
        return ()

    def shown(self, skeleton: Skeleton, orders: Mapping[str, str]) -> tuple[dict[str, float], ...]:
        """Poses, as values by control.channel, that show one after another how it moves and what its settings do;
        orders: rotation order by joint."""
        return ()

    def check(self, skeleton: Skeleton) -> None:
        """CoreError if it does not fit the skeleton."""


def check_run(part: Part, skeleton: Skeleton) -> None:
    """CoreError unless the joints of a part hang one from the next."""
    ids = [skeleton.index[name] for name in part.joints]
    for a, b in itertools.pairwise(ids):
        if skeleton.parents[b] != a:
            raise CoreError(f"The joints of {part.label} must hang one from the next: {', '.join(part.joints)}.")
