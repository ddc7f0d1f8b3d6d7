"""Legs whose foot rolls: two segments or more, a foot with a sole, and a toe where there is one."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields
from functools import cached_property
from typing import Any, Literal

import numpy as np

from ..errors import CoreError
from ..settings import Setting
from ..skeleton import Skeleton
from ..systems.fk import Fk
from ..systems.foot import ChainWithFoot, RollingFoot
from ..systems.system import System
from ..transforms import Floats, inverse, rotate
from .chain import Bends, ChainPart
from .limb import LimbPart

V = tuple[float, float, float]
#: Of the sole of a foot, as shares of its length from ankle to ball: how far behind the ankle the heel stands, how far before the
#: ball the tip where no joint's end says it, and how wide it is.
HEEL, TIP, WIDE = 0.4, 0.6, 0.75


@dataclass(frozen=True)
class Sole:
    """Where a foot touches what it stands on, metres in its joint: heel, ball (its toe's joint where it has one), tip, a point on
    either edge, and its directions up, forward; `tip_from`: roll (radians) from which it turns about the tip."""

    heel: V
    ball: V
    tip: V
    left: V
    right: V
    up: V = (0.0, 1.0, 0.0)
    forward: V = (0.0, 0.0, 1.0)
    tip_from: float = 0.7

    @cached_property
    def numbers(self) -> Floats:
        """(SOLE,) as the kernels read them, the directions square to one another."""
        up = np.array(self.up) / np.linalg.norm(self.up)
        forward = np.array(self.forward) - (up @ self.forward) * up
        forward /= np.linalg.norm(forward)
        points = (self.heel, self.ball, self.tip, self.left, self.right)
        return np.concatenate([*points, np.cross(up, forward), up, forward, [self.tip_from]])

    @staticmethod
    def found(
        skeleton: Skeleton, foot: int, toe: int | None, floor: float | None = None, facing: V = (0.0, 0.0, 1.0)
    ) -> Sole:
        """The sole of a foot that stands on the floor at rest: its ball at the joint of the toe, or under where that would be.
        floor: its height (metres), by default that of the lowest joint or end of one; facing: where the body faces, for a foot
        that says nothing itself."""
        pos, rot = skeleton.rest_pose
        tips = {j: pos[j] + rotate(rot[j], np.array(b.tip)) for j, b in enumerate(skeleton.joints) if b.tip is not None}
        lowest = float(np.array([*pos, *tips.values()])[:, 1].min()) if floor is None else floor
        ankle = pos[foot]
        inside = skeleton.descendants(foot) - {foot}
        below = [*(pos[j] for j in inside), *(tips[j] for j in (*inside, foot) if j in tips)]
        # Without anything below it, a foot is taken to be a third as long as its shin.
        plain = ankle + np.array(facing) * float(np.linalg.norm(skeleton.joints[foot].offset)) / 3.0
        last = max(below, key=lambda p: float(np.hypot(*(p - ankle)[[0, 2]])), default=plain)
        ball = ankle + (last - ankle) / (1.0 + TIP) if toe is None else pos[toe]
        # Where several toes lie side by side, the foot leads to the middle of them.
        toes = [pos[j] for j in inside if skeleton.parents[j] == foot and _beside(pos[j] - ankle, ball - ankle)]
        middle = np.mean(toes, axis=0) if toes else ball
        # A foot that points straight down leads nowhere: then it is taken to lead where the body faces.
        ways = ((p - ankle) * [1.0, 0.0, 1.0] for p in (middle, last))
        forward = next((w / np.linalg.norm(w) for w in ways if np.linalg.norm(w) > 1e-6), np.array(facing))
        length = max(float((ball - ankle) @ forward), 0.5 * float(np.linalg.norm(ball - ankle)))
        ahead = max(float((last - ball) @ forward), TIP * length)
        across = np.cross([0.0, 1.0, 0.0], forward)

        def triple(v: Floats) -> V:
            return (float(v[0]), float(v[1]), float(v[2]))

        def standing(at: Floats, side: float = 0.0) -> Floats:
            found: Floats = at * [1.0, 0.0, 1.0] + [0.0, lowest, 0.0] + 0.5 * side * WIDE * length * across
            return found

        points = (
            standing(ankle - HEEL * length * forward), standing(ball) if toe is None else ball,
            standing(ball + ahead * forward), standing(ball, 1.0), standing(ball, -1.0),
        )  # fmt: skip
        back = inverse(rot[foot])
        heel, ball, tip, left, right = (triple(rotate(back, p - ankle)) for p in points)
        up = triple(rotate(back, np.array([0.0, 1.0, 0.0])))
        return Sole(heel, ball, tip, left, right, up, triple(rotate(back, forward)))


def _beside(one: Floats, other: Floats) -> bool:
    """Whether two directions lead about the same way, equally far."""
    a, b = float(np.linalg.norm(one)), float(np.linalg.norm(other))
    return a > 0.5 * b and b > 0.5 * a and float(one @ other) > 0.7 * a * b


class Footed:
    """What a limb has whose last joint is a foot that rolls, with the joint of the toe after it if there is one."""

    name: str
    label: str
    joints: tuple[str, ...]
    bones: tuple[str, ...]
    ik: str
    sole: Sole

    @property
    def foot(self) -> str:
        """Joint of the foot."""
        return self.bones[-1]

    @property
    def toe(self) -> str:
        """Joint of the toe, "" where there is none."""
        return "" if self.joints[-1] == self.foot else self.joints[-1]

    def stands_on(self, skeleton: Skeleton) -> tuple[tuple[str, str, V], ...]:
        sole, foot, toe = self.sole, self.foot, self.toe or self.foot
        places, turns = skeleton.rest_pose
        i, j = skeleton.index[foot], skeleton.index[toe]
        # A ball is the joint of the toe: what stands lies under it, in the plane of the tip.
        up = sole.numbers[18:21]
        ball = np.array(sole.ball) - max(float((np.array(sole.ball) - np.array(sole.tip)) @ up), 0.0) * up

        def in_toe(at: Floats) -> V:
            x, y, z = map(float, rotate(inverse(turns[j]), places[i] + rotate(turns[i], at) - places[j]))
            return x, y, z

        return ("heel", foot, sole.heel), ("ball", toe, in_toe(ball)), ("tip", toe, in_toe(np.array(sole.tip)))

    def sole_settings(self) -> tuple[Setting, ...]:
        """Figures by which the sole is fitted to the foot."""
        left, up, forward = self.sole.numbers[15:24].reshape(3, 3)
        points = ("heel", "tip", "left", "right", *(() if self.toe else ("ball",)))
        most = float(np.linalg.norm(self.sole.tip) + np.linalg.norm(self.sole.heel))

        def one(id: str, label: str, way: Floats, at: tuple[str, ...] = ()) -> Setting:
            along = (float(way[0]), float(way[1]), float(way[2]))
            return Setting(
                id, label, "length", -most, most, tuple(f"sole.{x}" for x in at or (id,)), along, joint=self.foot
            )

        return (
            Setting("tip from", "turns about the tip from", "angle", 0.1, np.pi, ("sole.tip_from",)),
            one("heel", "heel behind the ankle", -forward),
            *(() if self.toe else (one("ball", "ball before the ankle", forward),)),
            one("tip", "tip before the ankle", forward),
            one("under", "sole under the ankle", -up, points),
            one("left", "left edge aside", left),
            one("right", "right edge aside", -left),
        )  # fmt: skip

    def rolled(self) -> tuple[dict[str, float], ...]:
        """Poses, as values by control.channel, that show how it rolls and banks."""
        rolls = (1.0, self.sole.tip_from + 0.6, -0.5)
        tilts = ({f"{self.ik}.roll": roll} for roll in rolls), ({f"{self.ik}.bank": bank} for bank in (0.4, -0.4))
        return tuple({f"{self.name}.drive": 1.0} | values for which in tilts for values in which)

    def check_sole(self) -> None:
        """CoreError for a sole that can't be."""
        numbers = [x for f in fields(self.sole) for x in np.ravel(getattr(self.sole, f.name))]
        if not np.isfinite(numbers).all() or np.linalg.norm(np.cross(self.sole.up, self.sole.forward)) < 1e-6:
            raise CoreError(
                f"The sole of the {self.label} needs finite points, and a way up that is not its way forward."
            )
        if not 0.1 <= self.sole.tip_from <= np.pi:
            raise CoreError(f"The foot of the {self.label} must turn about its tip from a roll of 6 to 180 degrees on.")


#: A sole of a foot of which nothing is said.
PLAIN = Sole((0.0, -0.08, -0.06), (0.0, -0.08, 0.12), (0.0, -0.08, 0.2), (0.05, -0.08, 0.12), (-0.05, -0.08, 0.12))


@dataclass(frozen=True)
class LegPart(Footed, LimbPart, kind="footed limb"):
    """A limb of thigh, shin and foot, with the joint of the toe after them if there is one."""

    role: str = "leg"
    kind: Literal["footed limb"] = "footed limb"  # type: ignore[assignment]
    sole: Sole = PLAIN

    def systems(self) -> tuple[System, ...]:
        return (Fk(), RollingFoot())

    def settings(self) -> tuple[Setting, ...]:
        return self.sole_settings()

    def shown(self, skeleton: Skeleton, orders: Mapping[str, str]) -> tuple[dict[str, float], ...]:
        return (*super().shown(skeleton, orders), *self.rolled())

    def check(self, skeleton: Skeleton) -> None:
        if len(self.joints) not in (3, 4) or len(self.orders) != len(self.joints):
            raise CoreError(f"{self.label} needs thigh, shin, foot and at most a toe, with a rotation order each.")
        self.check_segments(skeleton)
        self.check_sole()


@dataclass(frozen=True)
class ChainLegPart(Footed, ChainPart, kind="footed chain"):
    """A leg of more joints than three, a hind leg or one with helpers in its segments, and its foot.
    `toed`: whether the last joint is that of the toe, and the foot the one before it."""

    role: str = "leg"
    kind: Literal["footed chain"] = "footed chain"  # type: ignore[assignment]
    sole: Sole = PLAIN
    toed: bool = False

    @property
    def bones(self) -> tuple[str, ...]:  # type: ignore[override]
        return self.joints[:-1] if self.toed else self.joints

    def systems(self) -> tuple[System, ...]:
        return (Fk(), ChainWithFoot())

    def settings(self) -> tuple[Setting, ...]:
        return (*super().settings(), *self.sole_settings())

    def shown(self, skeleton: Skeleton, orders: Mapping[str, str]) -> tuple[dict[str, float], ...]:
        return (*super().shown(skeleton, orders), *self.rolled())

    def check(self, skeleton: Skeleton) -> None:
        super().check(skeleton)
        if self.shares:
            raise CoreError(f"{self.label} is a leg: its joints take no shares of a turn.")
        self.check_sole()


def leg_of(
    joints: tuple[str, ...], orders: tuple[str, ...], bends: Bends, toed: bool, **more: Any
) -> LegPart | ChainLegPart:  # fmt: skip
    """A leg of two segments where it has three joints, not counting that of a toe, else of many."""
    if len(joints) - toed == 3:
        return LegPart(joints=joints, orders=orders, bends_as="hinge", **more)
    return ChainLegPart(joints=joints, orders=orders, toed=toed, **bends._asdict(), **more)
