"""Limbs of three and more segments: a hind leg, a finger, a tail, an arm with helper joints in its segments."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar, Literal, NamedTuple

import numpy as np

from ..channels import ROTATION, Channel, in_words
from ..errors import CoreError
from ..settings import Setting, turned
from ..skeleton import Skeleton
from ..systems.fk import Fk
from ..systems.n_segment import NSegment, inner_joints, run_of
from ..systems.system import System
from ..transforms import rotate
from ..values import PoseValue
from .limb import LimbPart, ik_driver
from .part import Fold, Part, Side, check_run

#: How far a spine stretches to its end where that is out of reach: 0 not at all, 1 all the way.
STRETCH = "stretch"


class Bends(NamedTuple):
    """How a limb of many joints bends: see `ChainPart`."""

    middle: int
    hinges: tuple[tuple[float, float, float], ...]
    curls: tuple[float, ...]


def limb_of(joints: tuple[str, ...], orders: tuple[str, ...], bends: Bends, **more: Any) -> LimbPart | ChainPart:
    """A limb of two segments where it has three joints, else of many."""
    if len(joints) == 3:
        return LimbPart(joints=joints, orders=orders, bends_as="hinge", **more)
    return ChainPart(joints=joints, orders=orders, **bends._asdict(), **more)


@dataclass(frozen=True)
class ChainPart(Part, kind="chain"):
    """Segments between joints that hang one from the next.

    `bones` are all of its joints, or those of them that are its limb. `middle`: the joint at which the limb bends as a whole;
    `hinge`: axis of that bend in the frame of the first of the bones. `hinges`: for each joint the axis about which it curls, in
    its own frame, `curls`: by how much (radians, for a limb that is shortened by its whole length); a helper joint has a curl of
    zero and is driven along. `shares`: how much each joint but the last takes of the turn of the end along the limb, before what
    is keyed: a spine.
    """

    name: str
    label: str
    joints: tuple[str, ...]
    orders: tuple[str, ...]
    middle: int
    hinge: tuple[float, float, float]
    hinges: tuple[tuple[float, float, float], ...]
    curls: tuple[float, ...]
    end_order: str = "xyz"
    side: Side = "middle"
    moves: tuple[bool, ...] = ()
    locked: tuple[str, ...] = ()
    hinge_from: str = "rest"
    role: str = "limb"
    kind: Literal["chain"] = "chain"
    shares: tuple[float, ...] = ()
    values: tuple[PoseValue, ...] = ()
    staged: ClassVar[bool] = True

    @property
    def ik(self) -> str:
        """Name of the IK control at the end of the limb."""
        return f"{self.name}.ik"

    @property
    def bones(self) -> tuple[str, ...]:
        """Joints between which its segments run."""
        return self.joints

    @property
    def touches(self) -> bool:
        return not self.shares and self.role != "tail"

    @property
    def joint_orders(self) -> tuple[str, ...]:
        return self.orders

    @property
    def corners(self) -> tuple[str, ...]:
        bends = [k for k, curl in enumerate(self.curls) if k == self.middle or curl != 0.0]
        limb = self.role in ("arm", "leg")
        return (self.bones[0], *(self.joints[k] for k in bends), self.bones[-1]) if limb else ()

    @property
    def folds(self) -> tuple[Fold, ...]:
        return (Fold(self.bones[0], self.joints[self.middle], self.bones[-1], self.hinge),) if self.corners else ()

    def settings(self) -> tuple[Setting, ...]:
        return (
            *(
                Setting(f"share {n}", f"{in_words(n)} takes of the turn", "share", 0.0, 1.0, (f"shares.{k}",), shared="shares")
                for k, n in enumerate(self.joints)
                if self.shares
            ),
            *(
                Setting(f"curl {self.joints[k]}", f"{in_words(self.joints[k])} curls by", "angle", -6.0, 6.0, (f"curls.{k}",))
                for k in inner_joints(self)
            ),
        )  # fmt: skip

    def shown(self, skeleton: Skeleton, orders: Mapping[str, str]) -> tuple[dict[str, float], ...]:
        # What bends along it: every joint about its own hinge, a little.
        bent: dict[str, float] = {}
        hinges = dict(zip(self.joints, self.hinges, strict=True))
        for joint, hinge in ((j, hinges[j]) for j in self.bones[1:]):
            x, y, z = rotate(np.array(skeleton.joints[skeleton.index[joint]].rest), np.array(hinge)).tolist()
            bent |= turned(skeleton, orders, joint, (x, y, z), 0.9 / (len(self.bones) - 1))
        ik = {f"{self.name}.drive": 1.0}
        turns = tuple(ik | {f"{self.ik}.{c}": 0.8} for c in ROTATION) if self.shares else ()
        return (bent, *turns)

    def systems(self) -> tuple[System, ...]:
        return (Fk(), NSegment())

    def channels(self) -> tuple[Channel, ...]:
        if not self.shares:
            return super().channels()
        # FK knows no stretch: what is stretched as it takes over is told.
        return (
            *super().channels(),
            Channel(self.ik, STRETCH, "number", "", "stretches", limits=(0.0, 1.0), seldom=True),
        )

    def drivers(self) -> tuple[Channel, ...]:
        return (ik_driver(self.name),)

    def check(self, skeleton: Skeleton) -> None:
        check_run(self, skeleton)
        count = len(self.joints)
        first, middle, last = run_of(self)
        if not first < middle < last:
            raise CoreError(f"{self.label} needs three joints or more, and a middle one between its ends.")
        if self.shares and (len(self.shares) != count or min(self.shares) < 0.0 or sum(self.shares) > 1.0 + 1e-9):
            raise CoreError(f"{self.label} needs a share of its turn for each of its joints, not above one in all.")
        if not len(self.orders) == len(self.hinges) == len(self.curls) == count:
            raise CoreError(f"{self.label} needs a rotation order, a hinge and a curl for each of its joints.")
        pos = skeleton.rest_pose[0]
        a, m, b = (pos[skeleton.index[self.joints[k]]] for k in (first, middle, last))
        if min(np.linalg.norm(m - a), np.linalg.norm(b - m)) < 1e-6:
            raise CoreError(f"{self.label} has no length on one side of {self.joints[self.middle]}.")
