"""Arms and legs: two segments between three joints, with complete FK and IK."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar, Literal

from ..channels import Channel
from ..errors import CoreError
from ..settings import turned
from ..skeleton import Skeleton
from ..systems.fk import Fk
from ..systems.system import System
from ..systems.two_segment import TwoSegment
from ..values import PoseValue
from .part import Fold, Part, Side, check_run


@dataclass(frozen=True)
class LimbPart(Part, kind="limb"):
    """Two segments between three joints.

    `hinge`: axis of the middle joint, in the frame of the upper joint; a positive bend turns the lower segment about it.
    `hinge_from` says where the axis was found, `bends_as` whether its sense is as given or follows a bent rest pose.
    `locked`: channels of either system that stay at their default ("carry", "twist", "bend", or "joint.rx").
    """

    name: str
    label: str
    joints: tuple[str, ...]
    orders: tuple[str, ...]
    hinge: tuple[float, float, float]
    end_order: str = "xyz"
    side: Side = "middle"
    moves: tuple[bool, ...] = ()
    locked: tuple[str, ...] = ()
    hinge_from: str = "rest"
    role: str = "limb"
    kind: Literal["limb"] = "limb"
    bends_as: Literal["rest", "hinge"] = "rest"
    values: tuple[PoseValue, ...] = ()
    staged: ClassVar[bool] = True

    @property
    def ik(self) -> str:
        """Name of the IK control at the end of the limb."""
        return f"{self.name}.ik"

    @property
    def bones(self) -> tuple[str, ...]:
        """Joints between which its two segments run."""
        return self.joints[:3]

    @property
    def joint_orders(self) -> tuple[str, ...]:
        return self.orders

    def systems(self) -> tuple[System, ...]:
        return (Fk(), TwoSegment())

    def drivers(self) -> tuple[Channel, ...]:
        return (ik_driver(self.name),)

    @property
    def corners(self) -> tuple[str, ...]:
        return self.bones

    @property
    def folds(self) -> tuple[Fold, ...]:
        root, bend, end = self.bones
        return (Fold(root, bend, end, self.hinge),)

    def shown(self, skeleton: Skeleton, orders: Mapping[str, str]) -> tuple[dict[str, float], ...]:
        bend = self.bones[1]
        return (turned(skeleton, orders, bend, self.hinge, 1.2),)

    def check(self, skeleton: Skeleton) -> None:
        if len(self.joints) != 3 or len(self.orders) != 3:
            raise CoreError(f"{self.label} needs three joints, with a rotation order each.")
        self.check_segments(skeleton)

    def check_segments(self, skeleton: Skeleton) -> None:
        """CoreError unless its joints hang one from the next, with lengths between them."""
        check_run(self, skeleton)
        for joint in self.joints[1:3]:
            if sum(x * x for x in skeleton.joints[skeleton.index[joint]].offset) < 1e-12:
                raise CoreError(f"{self.label} has a segment without length, above {joint}.")


def ik_driver(name: str) -> Channel:
    """What says how far IK takes over from FK."""
    return Channel(name, "drive", "share", "", "what drives, 0 FK to 1 IK")
