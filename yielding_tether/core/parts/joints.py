"""Joints posed one by one: a hand, hips, a face."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

from ..errors import CoreError
from ..skeleton import Skeleton
from ..systems.fk import Fk
from ..systems.system import System
from ..values import PoseValue
from .part import Part, Side


@dataclass(frozen=True)
class FkPart(Part, kind="fk"):
    """Joints posed one by one from the root outward. `moves` says which of them have an offset that moves."""

    name: str
    label: str
    joints: tuple[str, ...]
    orders: tuple[str, ...]
    moves: tuple[bool, ...]
    side: Side = "middle"
    kind: Literal["fk"] = "fk"
    values: tuple[PoseValue, ...] = ()
    staged: ClassVar[bool] = True

    @property
    def joint_orders(self) -> tuple[str, ...]:
        return self.orders

    def systems(self) -> tuple[System, ...]:
        return (Fk(),)

    def check(self, skeleton: Skeleton) -> None:
        if not len(self.joints) == len(self.orders) == len(self.moves):
            raise CoreError(
                f"{self.label} needs a rotation order, and whether its length moves, for each of its joints."
            )
