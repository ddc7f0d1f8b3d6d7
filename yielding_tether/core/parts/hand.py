"""Hands: fingers that are posed joint by joint, by named values, or each by its tip."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

import numpy as np

from ..channels import Channel
from ..errors import CoreError
from ..settings import turned
from ..skeleton import Skeleton
from ..systems.fingers import Fingers
from ..systems.fk import Fk
from ..systems.system import System
from ..transforms import rotate
from .joints import FkPart
from .limb import ik_driver
from .part import Fold

V = tuple[float, float, float]


@dataclass(frozen=True)
class Finger:
    """A finger, or a toe: which of the hand's joints are at its root, where it bends, and at its end; `hinge`: the axis about which
    it bends, in the frame of the first."""

    run: tuple[int, int, int]
    hinge: V


@dataclass(frozen=True)
class HandPart(FkPart, kind="fingered"):
    """A palm with fingers of three joints each; what belongs to no finger is turned joint by joint in either system."""

    kind: Literal["fingered"] = "fingered"  # type: ignore[assignment]
    fingers: tuple[Finger, ...] = ()
    role: str = "hand"

    @property
    def touches(self) -> bool:
        """What stands or holds is the hand as a whole, the end of its arm."""
        return False

    @property
    def beside(self) -> tuple[int, ...]:
        """Joints, by their number in the part, that belong to no finger."""
        theirs = {k for finger in self.fingers for k in finger.run}
        return tuple(k for k in range(len(self.joints)) if k not in theirs)

    def control_of(self, finger: Finger) -> str:
        """Name of the IK control at the end of a finger."""
        return f"{self.joints[finger.run[2]]}.ik"

    @property
    def folds(self) -> tuple[Fold, ...]:
        runs = ((finger, [self.joints[k] for k in finger.run]) for finger in self.fingers)
        return tuple(Fold(root, bend, end, finger.hinge) for finger, (root, bend, end) in runs)

    def systems(self) -> tuple[System, ...]:
        return (Fk(), Fingers())

    def drivers(self) -> tuple[Channel, ...]:
        return (ik_driver(self.name),)

    def shown(self, skeleton: Skeleton, orders: Mapping[str, str]) -> tuple[dict[str, float], ...]:
        bent: dict[str, float] = {}
        for finger in self.fingers:
            names = [self.joints[k] for k in finger.run]
            x, y, z = rotate(skeleton.rest_pose[1][skeleton.index[names[0]]], np.array(finger.hinge)).tolist()
            for joint in names:
                bent |= turned(skeleton, orders, joint, (x, y, z), 0.5)
        return (bent,)

    def check(self, skeleton: Skeleton) -> None:
        super().check(skeleton)
        theirs = [k for finger in self.fingers for k in finger.run]
        if not theirs or len(set(theirs)) < len(theirs) or not set(theirs) <= set(range(len(self.joints))):
            raise CoreError(f"{self.label} needs fingers, each of three joints of its own.")
        for finger in self.fingers:
            first, middle, last = (skeleton.index[self.joints[k]] for k in finger.run)
            if (skeleton.parents[last], skeleton.parents[middle]) != (middle, first):
                raise CoreError(f"The joints of {self.joints[finger.run[0]]} must hang one from the next.")
            if min(float(np.linalg.norm(skeleton.joints[j].offset)) for j in (middle, last)) < 1e-6:
                raise CoreError(f"{self.joints[finger.run[0]]} has a segment without length.")
