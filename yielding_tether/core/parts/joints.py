"""Joints posed one by one: a spine, a neck, a hand, toes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from ..errors import CoreError
from ..skeleton import Skeleton
from ..systems.fk import Fk
from ..systems.system import System
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
