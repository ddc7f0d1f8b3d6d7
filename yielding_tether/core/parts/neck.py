"""A neck: joints between the body and the head, each of which takes a share of the head's turn."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from ..channels import ROTATION, Channel, in_words
from ..errors import CoreError
from ..settings import Setting
from ..skeleton import Skeleton
from ..systems.fk import Fk
from ..systems.lead import Lead
from ..systems.system import System
from .part import Part, Side, check_run


@dataclass(frozen=True)
class NeckPart(Part, kind="neck"):
    """Joints that hang one from the next, the last of which leads. `shares`: how much of its turn each joint before it takes."""

    name: str
    label: str
    joints: tuple[str, ...]
    orders: tuple[str, ...]
    shares: tuple[float, ...]
    side: Side = "middle"
    moves: tuple[bool, ...] = ()
    locked: tuple[str, ...] = ()
    kind: Literal["neck"] = "neck"

    @property
    def lead(self) -> str:
        """Name of the control that leads."""
        return f"{self.name}.lead"

    @property
    def touches(self) -> bool:
        return False

    @property
    def joint_orders(self) -> tuple[str, ...]:
        return self.orders

    def systems(self) -> tuple[System, ...]:
        return (Fk(), Lead(f"{in_words(self.joints[-1])}'s lead"))

    def drivers(self) -> tuple[Channel, ...]:
        return (Channel(self.name, "drive", "share", "", f"what drives, 0 FK to 1 {in_words(self.joints[-1])}'s lead"),)

    def settings(self) -> tuple[Setting, ...]:
        return tuple(
            Setting(f"share {name}", f"{in_words(name)} takes", "share", 0.0, 1.0, (f"shares.{k}",), shared="shares")
            for k, name in enumerate(self.joints[:-1])
        )

    def shown(self, skeleton: Skeleton, orders: Mapping[str, str]) -> tuple[dict[str, float], ...]:
        lead = {f"{self.name}.drive": 1.0}
        return tuple(lead | {f"{self.lead}.{c}": angle} for c in ROTATION for angle in (0.8, -0.8))

    def check(self, skeleton: Skeleton) -> None:
        check_run(self, skeleton)
        if not len(self.orders) == len(self.joints) == len(self.shares) + 1 > 1:
            raise CoreError(
                f"{self.label} needs two joints or more, with a rotation order each, and a share of all but the last."
            )
        if min(self.shares) < 0.0 or sum(self.shares) > 1.0 + 1e-9:
            raise CoreError(f"The shares of {self.label} must not be below zero, nor above one in all.")
