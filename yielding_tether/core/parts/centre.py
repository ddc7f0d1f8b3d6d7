"""The body's centre: one joint under the root, put where its own control is, in the root or in what it follows."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

from ..channels import Channel
from ..errors import CoreError
from ..skeleton import Skeleton
from ..systems.place import Place
from ..systems.system import System
from .part import Part
from .root import FreePart


@dataclass(frozen=True)
class CentrePart(FreePart, kind="centre"):
    """What of a body moves and turns all but what follows something else: feet that follow the world stay when it moves, and go
    along when the root does."""

    kind: Literal["centre"] = "centre"  # type: ignore[assignment]
    grows: ClassVar[bool] = False

    def channels(self) -> tuple[Channel, ...]:
        return Part.channels(self)

    def systems(self) -> tuple[System, ...]:
        return (Place(hangs=True),)

    def check(self, skeleton: Skeleton) -> None:
        if skeleton.parents[skeleton.index[self.joint]] < 0:
            raise CoreError(f"{self.label} must hang from another joint: what hangs from nothing is a root.")
