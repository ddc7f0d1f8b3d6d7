"""Arms with a collarbone that goes along: it takes a share of the arm's turn past a set angle."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar, Literal

import numpy as np

from ..errors import CoreError
from ..settings import Setting, turned
from ..skeleton import Skeleton
from ..systems.shoulder import ChainWithShoulder, ShoulderedFk, ShoulderedIk
from ..systems.system import System
from ..transforms import Floats, inverse, rotate
from .chain import Bends, ChainPart
from .limb import LimbPart
from .part import check_run

V = tuple[float, float, float]


@dataclass(frozen=True)
class Shrug:
    """How a collarbone goes along: `raised` and `forward`, the axes in what it hangs from about which it turns where the arm is
    raised (not where it is lowered) and swung forward or back; `shares` how much of either it takes, `past` from which angles
    on (radians)."""

    raised: V = (0.0, 0.0, 1.0)
    forward: V = (0.0, 1.0, 0.0)
    shares: tuple[float, float] = (0.25, 0.15)
    past: tuple[float, float] = (0.6, 0.5)

    @staticmethod
    def found(skeleton: Skeleton, collar: int, hand: int, forward: Floats) -> Shrug:
        """The shrug of a collarbone of a body that stands upright at rest and looks forward (3,): its arm is raised by a turn that
        leads the hand upward, or outward where it hangs."""
        pos, rot = skeleton.rest_pose
        up = np.array([0.0, 1.0, 0.0])
        ahead = forward - (forward @ up) * up
        size = float(np.linalg.norm(ahead))
        ahead = ahead / size if size > 1e-6 else np.array([0.0, 0.0, 1.0])
        above = skeleton.parents[collar]
        across = np.cross(up, ahead)
        outward = np.sign((pos[hand] - pos[above]) @ across) * across
        raised = ahead if np.cross(ahead, pos[hand] - pos[collar]) @ (up + outward) > 0.0 else -ahead
        back = inverse(rot[above])
        (a, b, c), (d, e, f) = (rotate(back, v).tolist() for v in (raised, up))
        return Shrug((a, b, c), (d, e, f))


class Shouldered:
    """What an arm has behind which a collarbone goes along: its first joint, which is no segment of it."""

    label: str
    joints: tuple[str, ...]
    ik: str
    shrug: Shrug

    @property
    def bones(self) -> tuple[str, ...]:
        """Joints between which its segments run."""
        return self.joints[1:]

    def shoulder_settings(self) -> tuple[Setting, ...]:
        """Shares and set angles of the collarbone."""
        return tuple(
            setting
            for k, (id, how) in enumerate((("raised", "raised"), ("swung", "swung forward or back")))
            for setting in (
                Setting(f"{id} share", f"share of an arm {how}", "share", 0.0, 1.0, (f"shrug.shares.{k}",)),
                Setting(f"{id} past", f"goes along past, {how}", "angle", 0.0, np.pi, (f"shrug.past.{k}",)),
            )
        )

    def shrugged(self, skeleton: Skeleton, orders: Mapping[str, str]) -> tuple[dict[str, float], ...]:
        """Poses, as values by control.channel, in which it goes along."""
        collar, upper = self.joints[:2]
        back = inverse(np.array(skeleton.joints[skeleton.index[collar]].rest))
        found = []
        for axis, angle in ((self.shrug.raised, 1.5), (self.shrug.forward, 1.3), (self.shrug.forward, -0.8)):
            x, y, z = rotate(back, np.array(axis)).tolist()
            found.append(turned(skeleton, orders, upper, (x, y, z), angle))
        return tuple(found)

    def check_shoulder(self) -> None:
        """CoreError for a shoulder that can't be."""
        axes = np.array([self.shrug.raised, self.shrug.forward])
        if not np.isfinite(axes).all() or np.abs(axes @ axes.T - np.eye(2)).max() > 1e-6:
            raise CoreError(
                f"The axes about which the shoulder of the {self.label} turns must be square to one another, of length one."
            )
        if not all(0.0 <= x <= 1.0 for x in self.shrug.shares) or not all(0.0 <= x <= np.pi for x in self.shrug.past):
            raise CoreError(
                f"The shoulder of the {self.label} needs shares from 0 to 1, and set angles from 0 to 180 degrees."
            )


@dataclass(frozen=True)
class ArmPart(Shouldered, LimbPart, kind="shouldered limb"):
    """A limb of collarbone, upper arm, forearm and hand."""

    role: str = "arm"
    kind: Literal["shouldered limb"] = "shouldered limb"  # type: ignore[assignment]
    # The collarbone reads the turns of the joints below it as they are keyed.
    staged: ClassVar[bool] = False
    shrug: Shrug = Shrug()

    def systems(self) -> tuple[System, ...]:
        return (ShoulderedFk(), ShoulderedIk())

    def settings(self) -> tuple[Setting, ...]:
        return self.shoulder_settings()

    def shown(self, skeleton: Skeleton, orders: Mapping[str, str]) -> tuple[dict[str, float], ...]:
        return (*self.shrugged(skeleton, orders), *super().shown(skeleton, orders))

    def check(self, skeleton: Skeleton) -> None:
        if len(self.joints) != 4 or len(self.orders) != 4:
            raise CoreError(f"{self.label} needs collarbone, upper arm, forearm and hand, with a rotation order each.")
        check_run(self, skeleton)
        for joint in self.joints[1:]:
            if np.linalg.norm(skeleton.joints[skeleton.index[joint]].offset) < 1e-6:
                raise CoreError(f"{self.label} has a segment without length, above {joint}.")
        self.check_shoulder()


@dataclass(frozen=True)
class ChainArmPart(Shouldered, ChainPart, kind="shouldered chain"):
    """An arm of more joints than three behind its collarbone: one with helpers in its segments."""

    role: str = "arm"
    kind: Literal["shouldered chain"] = "shouldered chain"  # type: ignore[assignment]
    staged: ClassVar[bool] = False
    shrug: Shrug = Shrug()

    def systems(self) -> tuple[System, ...]:
        return (ShoulderedFk(), ChainWithShoulder())

    def settings(self) -> tuple[Setting, ...]:
        return (*self.shoulder_settings(), *super().settings())

    def shown(self, skeleton: Skeleton, orders: Mapping[str, str]) -> tuple[dict[str, float], ...]:
        return (*self.shrugged(skeleton, orders), *super().shown(skeleton, orders))

    def check(self, skeleton: Skeleton) -> None:
        super().check(skeleton)
        if self.shares:
            raise CoreError(f"{self.label} is an arm: its joints take no shares of a turn.")
        self.check_shoulder()


def arm_of(joints: tuple[str, ...], orders: tuple[str, ...], bends: Bends, **more: Any) -> ArmPart | ChainArmPart:
    """An arm of two segments where it has three joints behind its collarbone, else of many."""
    if len(joints) == 4:
        return ArmPart(joints=joints, orders=orders, bends_as="hinge", **more)
    return ChainArmPart(joints=joints, orders=orders, **bends._asdict(), **more)
