"""Twist helpers: joints in a segment that take a share of the twist at its end or of its own."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

import numpy as np

from ..channels import in_words
from ..errors import CoreError
from ..settings import Setting, turned
from ..skeleton import Skeleton
from ..systems.share import ShareOfTwist
from ..systems.system import System
from ..transforms import rotate
from .part import Part, Side


@dataclass(frozen=True)
class TwistPart(Part, kind="twist"):
    """Joints that share twists. `of`: for each the joint whose twist it takes a share of, either the one it hangs from or another
    that hangs there too; `axes`: the unit axis of that twist in the joint it hangs from; `shares`: how much of it, below zero
    where the joint is to hold back from a turn that it is carried along with."""

    name: str
    label: str
    joints: tuple[str, ...]
    orders: tuple[str, ...]
    of: tuple[str, ...]
    axes: tuple[tuple[float, float, float], ...]
    shares: tuple[float, ...]
    side: Side = "middle"
    role: str = ""
    kind: Literal["twist"] = "twist"

    @property
    def joint_orders(self) -> tuple[str, ...]:
        return self.orders

    def systems(self) -> tuple[System, ...]:
        return (ShareOfTwist(),)

    def settings(self) -> tuple[Setting, ...]:
        return tuple(
            Setting(f"share {name}", f"{in_words(name)} takes of {in_words(of)}", "share", -1.0, 1.0, (f"shares.{k}",))
            for k, (name, of) in enumerate(zip(self.joints, self.of, strict=True))
        )

    def shown(self, skeleton: Skeleton, orders: Mapping[str, str]) -> tuple[dict[str, float], ...]:
        found: list[dict[str, float]] = []
        for name, of, axis in zip(self.joints, self.of, self.axes, strict=True):
            # The axis is given in what the helper hangs from: the other joint itself, or what that hangs from.
            up = skeleton.joints[skeleton.parents[skeleton.index[name]]].name
            rest = np.array(skeleton.joints[skeleton.index[of]].rest)
            x, y, z = (rotate(rest, np.array(axis)) if up == of else np.array(axis)).tolist()
            found.append(turned(skeleton, orders, of, (x, y, z), 1.2))
        return tuple(found)

    def check(self, skeleton: Skeleton) -> None:
        count = len(self.joints)
        if not len(self.orders) == len(self.of) == len(self.axes) == len(self.shares) == count:
            raise CoreError(
                f"{self.label} needs a rotation order, a joint to share with, an axis and a share for each joint."
            )
        for name, other, axis in zip(self.joints, self.of, self.axes, strict=True):
            up = skeleton.parents[skeleton.index[name]]
            if up < 0 or other in self.joints or other not in skeleton.index:
                raise CoreError(f"{name} can't share the twist of {other}.")
            j = skeleton.index[other]
            if skeleton.parents[j] < 0 or up not in (j, skeleton.parents[j]):
                raise CoreError(f"{name} must hang from {other}, or from what {other} hangs from, to share its twist.")
            if abs(np.linalg.norm(axis) - 1.0) > 1e-9:
                raise CoreError(f"The axis about which {name} twists is no direction: give it a length of one.")
