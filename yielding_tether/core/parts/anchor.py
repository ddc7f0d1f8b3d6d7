"""Anchors: places that the animator made, to be followed; they are moved, keyed and tethered as props are."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from ..systems.place import Place
from ..systems.system import Handle, System
from .root import FreePart


@dataclass(frozen=True)
class AnchorPart(FreePart, kind="own place"):
    """A place of its own, without a body: its handle is all that shows of it."""

    kind: Literal["own place"] = "own place"  # type: ignore[assignment]

    def systems(self) -> tuple[System, ...]:
        return (Place(Handle("cross", ("move", "turn"), self.joint, always=True)),)
