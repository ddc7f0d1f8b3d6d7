"""Channels: values over time, told apart by what kind of value they are, and their names within a take."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache
from math import inf
from typing import Literal, NamedTuple

Kind = Literal["angle", "length", "scale", "share", "sign", "turn", "point", "value", "number"]
TRANSLATION = ("tx", "ty", "tz")
ROTATION = ("rx", "ry", "rz")
AXES = {"tx": "move x", "ty": "move y", "tz": "move z", "rx": "turn x", "ry": "turn y", "rz": "turn z"}


class Trait(NamedTuple):
    """What all values of one kind have in common: the unit they are stored in, the value without keys, limits, whether
    they step from key to key, and whether whole turns make no difference."""

    unit: str
    default: float
    least: float
    most: float
    stepped: bool
    wraps: bool


TRAITS: dict[Kind, Trait] = {
    "angle": Trait("rad", 0.0, -inf, inf, False, True),
    "length": Trait("m", 0.0, -inf, inf, False, False),
    "scale": Trait("", 1.0, 0.1, 10.0, False, False),
    "share": Trait("", 0.0, 0.0, 1.0, True, False),
    "sign": Trait("", 1.0, -1.0, 1.0, True, False),
    "turn": Trait("rad", 0.0, -100.0, 100.0, True, False),
    "point": Trait("m", 0.0, -100.0, 100.0, True, False),
    "value": Trait("", 0.0, 0.0, 1.0, False, False),
    "number": Trait("", 0.0, -inf, inf, False, False),
}


@dataclass(frozen=True)
class Channel:
    """One value of a control, joint or part. `system`: the system it belongs to, or "" for what is the part's own
    (lengths, what drives, weights of what is followed). A channel that does not pose moves nothing by itself (how far a
    bend guide stands off); one that is `seldom` wanted is keyed only where it has keys already, or is asked for by name."""

    control: str
    name: str
    kind: Kind
    system: str = ""
    label: str = ""
    default: float | None = None
    limits: tuple[float, float] | None = None
    access: Literal["open", "locked", "hidden"] = "open"
    poses: bool = True
    seldom: bool = False

    @property
    def trait(self) -> Trait:
        return TRAITS[self.kind]

    @property
    def standard(self) -> float:
        """The value without keys."""
        return self.trait.default if self.default is None else self.default

    @property
    def bounds(self) -> tuple[float, float]:
        return self.limits or (self.trait.least, self.trait.most)

    @property
    def reading(self) -> str:
        """The channel as the animator reads it: "upper arm, turn x"."""
        return f"{in_words(self.control)}, {self.label or self.name}"


@lru_cache(1 << 14)
def in_words(name: str) -> str:
    """A joint's or control's name in words, without its namespace and its side: "upperarm.L" is an upper arm. The side is told
    with the part that it belongs to."""
    plain = name.rpartition(":")[2]
    plain = re.sub(r"^(left|right)(?=[A-Z._ -])|(?<=[a-z0-9._ -])(left|right)$", "", plain, flags=re.IGNORECASE)
    plain = re.sub(r"(^[LRlr](?=[._ -])|(?<=[._ -])[LRlr]$)", "", plain)
    plain = re.sub(r"(?<=[a-z])(?=[A-Z0-9])|(?<=[0-9])(?=[A-Za-z])|[._ -]+", " ", plain).strip().lower()
    plain = re.sub(r"\b(upper|lower)(arm|leg)\b", r"\1 \2", plain)
    return plain or name


class Address(NamedTuple):
    """Where a channel is; its string is the name under which a take keeps its curve."""

    member: str
    control: str
    channel: str

    def __str__(self) -> str:
        return f"{self.member}/{self.control}.{self.channel}"


def channel_id(member: str, control: str, channel: str) -> str:
    """The name of a channel within a take."""
    return str(Address(member, control, channel))


@lru_cache(1 << 14)
def turning(control: str, system: str, prefix: str = "", label: str = "") -> tuple[Channel, ...]:
    """Three Euler angles of a control or joint."""
    return tuple(Channel(control, prefix + c, "angle", system, f"{label} {AXES[c]}".strip()) for c in ROTATION)


@lru_cache(1 << 14)
def moving(control: str, system: str, prefix: str = "", label: str = "") -> tuple[Channel, ...]:
    """Three lengths that move a control or joint."""
    return tuple(Channel(control, prefix + c, "length", system, f"{label} {AXES[c]}".strip()) for c in TRANSLATION)
