"""The cast: characters, props and set pieces, and the parts that drive their joints."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Literal

from .channels import in_words
from .errors import CoreError
from .parts import Part
from .skeleton import Skeleton
from .transforms import ORDERS
from .values import PoseValue


@dataclass(frozen=True)
class Shape:
    """A piece of a body, fixed in a joint: a friendly solid that makes the pose readable.

    `form`: capsule or taper (from `a` to `b`, radius `size[0]` at a and `size[1]` at b), ball (centre a,
    half axes `size`), block (centre a, full `size`, rounded), ring (centre a, axis towards b). `turn` is the
    rotation of balls and blocks in the joint.
    """

    joint: str
    form: Literal["capsule", "ball", "block", "ring"]
    tone: str
    a: tuple[float, float, float]
    b: tuple[float, float, float] = (0.0, 0.0, 0.0)
    size: tuple[float, ...] = (0.05,)
    turn: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 1.0)


@dataclass(frozen=True)
class Grip:
    """Where something is held, or holds: a named place in a joint (metres), its x axis along the fingers of what holds there and
    its y axis out of the palm, towards what is held. A hand's own palm is a grip too: two are brought together by laying one on
    the other."""

    name: str
    joint: str
    position: tuple[float, float, float]
    rotation: tuple[float, float, float, float]


@dataclass(frozen=True)
class Member:
    """A cast member: `id` is unique in its scene and part of every channel's name."""

    id: str
    name: str
    #: A camera looks along its joint's −Z, with Y up, as glTF has it.
    kind: Literal["character", "prop", "set", "camera", "anchor"]
    skeleton: Skeleton
    parts: tuple[Part, ...]
    shapes: tuple[Shape, ...] = ()
    notes: tuple[str, ...] = field(default=())
    grips: tuple[Grip, ...] = ()

    def __post_init__(self) -> None:
        # A grip goes with its joint: a body whose joints are called otherwise has none there.
        object.__setattr__(self, "grips", tuple(g for g in self.grips if g.joint in self.skeleton.index))
        driven: dict[str, str] = {}
        for part in self.parts:
            for joint in part.joints:
                if joint not in self.skeleton.index:
                    raise CoreError(f"{self.name} has no joint {joint}, which its part {part.label} needs.")
                if joint in driven:
                    raise CoreError(f"Joint {joint} of {self.name} is driven by {driven[joint]} and {part.label}.")
                driven[joint] = part.label
            part.check(self.skeleton)
            for order in part.joint_orders:
                if order not in ORDERS:
                    raise CoreError(f"{order!r} of {part.label} is no rotation order: use one of {', '.join(ORDERS)}.")
        missing = [joint.name for joint in self.skeleton.joints if joint.name not in driven]
        if missing:
            raise CoreError(f"No part of {self.name} drives {', '.join(missing)}.")

    def part(self, name: str) -> Part:
        """The part of this name; CoreError if there is none."""
        for part in self.parts:
            if part.name == name:
                return part
        raise CoreError(f"{self.name} has no part {name}.")

    def with_value(self, part: str, value: PoseValue) -> Member:
        """The same with a named value more on a part. CoreError where that can't have it."""
        mine = self.part(part)
        if not mine.staged:
            raise CoreError(f"{self.reads(mine)} can't be posed by named values: its joints are not turned one by one.")
        lost = [j for j in value.joints if j not in mine.joints]
        if lost or any(v.name == value.name for v in mine.values):
            why = f"it has no {lost[0]}" if lost else "it has one of that name"
            raise CoreError(f"{self.reads(mine)} can't have the value {value.name}: {why}.")
        more = replace(mine, values=(*mine.values, value))  # type: ignore[type-var]
        return replace(self, parts=tuple(more if p is mine else p for p in self.parts))

    def reads(self, part: Part) -> str:
        """What a part is called: by its label in a character, by the member's name elsewhere."""
        return f"{self.name}'s {part.label}" if self.kind == "character" else f"the {self.name.lower()}"

    @cached_property
    def joint_words(self) -> dict[str, str]:
        """Its joints as the animator reads them, by name: "left forearm". Where two would read alike, each by its own name."""
        words = {
            j: in_words(j) if p.side == "middle" else f"{p.side} {in_words(j)}" for p in self.parts for j in p.joints
        }
        often = Counter(words.values())
        return {j: said if often[said] == 1 else j for j, said in words.items()}

    def row_label(self, part: Part) -> str:
        """What a part is called beside the others of its own member."""
        return part.label if self.kind == "character" else self.name
