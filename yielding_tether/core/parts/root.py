"""Roots and props: one joint, put where its control is."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

from ..channels import Channel
from ..systems.place import Place
from ..systems.system import System
from .part import Part, Side

#: Channels of the size of all that hangs from a root, and of the point about which it grows, in the root.
SIZE = "size"
ABOUT = ("about.tx", "about.ty", "about.tz")


@dataclass(frozen=True)
class FreePart(Part, kind="free"):
    """A root control: it places the skeleton's first joint, in the world or in what it is tethered to."""

    name: str
    label: str
    joint: str
    order: str = "xyz"
    side: Side = "middle"
    kind: Literal["free"] = "free"
    free: ClassVar[bool] = True
    grows: ClassVar[bool] = True

    @property
    def joints(self) -> tuple[str, ...]:  # type: ignore[override]
        return (self.joint,)

    @property
    def joint_orders(self) -> tuple[str, ...]:
        return (self.order,)

    def channels(self) -> tuple[Channel, ...]:
        point = (Channel(self.joint, name, "length", "", f"grows about {name[-1]}", seldom=True) for name in ABOUT)
        return (*super().channels(), Channel(self.joint, SIZE, "scale", "", SIZE, seldom=True), *point)

    def systems(self) -> tuple[System, ...]:
        return (Place(),)
