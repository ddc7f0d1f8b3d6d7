"""The cast: characters, props and set pieces, and the parts that drive their joints."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal, NamedTuple

from .errors import CoreError
from .skeleton import Skeleton
from .transforms import ORDERS

Side = Literal["left", "right", "middle"]
TRANSLATION = ("tx", "ty", "tz")
ROTATION = ("rx", "ry", "rz")
#: Channels of a two-segment limb's IK: nine freedoms and the stepped bend sign.
IK_CHANNELS = (*TRANSLATION, *ROTATION, "swivel", "carry", "twist", "bend")
DEFAULTS = {"bend": 1.0}
ANGLES = frozenset({*ROTATION, "swivel", "carry", "twist"})


class Channel(NamedTuple):
    """A value over time. `role`: fk, ik, offset (segment lengths), guide (how far the bend guide stands beyond its
    sensible distance, metres), drive, captured or tether."""

    control: str
    name: str
    role: str

    @property
    def default(self) -> float:
        return DEFAULTS.get(self.name, 0.0)


@dataclass(frozen=True)
class FreePart:
    """A root control: it places the skeleton's first joint, in the world or in what it is tethered to."""

    name: str
    label: str
    joint: str
    order: str = "xyz"
    side: Side = "middle"
    kind: Literal["free"] = "free"

    @property
    def joints(self) -> tuple[str, ...]:
        return (self.joint,)

    def channels(self) -> list[Channel]:
        return [Channel(self.joint, c, "fk") for c in (*TRANSLATION, *ROTATION)]


@dataclass(frozen=True)
class FkPart:
    """Joints posed one by one from the root outward. `moves` says which of them have an offset that moves."""

    name: str
    label: str
    joints: tuple[str, ...]
    orders: tuple[str, ...]
    moves: tuple[bool, ...]
    side: Side = "middle"
    kind: Literal["fk"] = "fk"

    def channels(self) -> list[Channel]:
        found = []
        for joint, moves in zip(self.joints, self.moves, strict=True):
            found += [Channel(joint, c, "fk") for c in ROTATION]
            if moves:
                found += [Channel(joint, c, "offset") for c in TRANSLATION]
        return found


@dataclass(frozen=True)
class LimbPart:
    """Two segments between three joints, with complete FK and IK.

    `hinge`: unit axis of the middle joint, in the frame of the upper joint, normal to the upper segment; a
    positive bend turns the lower segment about it. `hinge_from` says where the axis was found. `locked`:
    channels of either system that must stay at zero ("carry", "twist", "bend", or "joint.rx").
    """

    name: str
    label: str
    joints: tuple[str, str, str]
    orders: tuple[str, str, str]
    hinge: tuple[float, float, float]
    end_order: str = "xyz"
    side: Side = "middle"
    moves: tuple[bool, bool, bool] = (False, False, False)
    locked: tuple[str, ...] = ()
    hinge_from: str = "rest"
    role: str = "limb"
    kind: Literal["limb"] = "limb"

    @property
    def ik(self) -> str:
        """Name of the IK control at the end of the limb."""
        return f"{self.name}.ik"

    def channels(self) -> list[Channel]:
        found = [Channel(joint, c, "fk") for joint in self.joints for c in ROTATION]
        found += [Channel(self.ik, c, "ik") for c in IK_CHANNELS]
        found.append(Channel(self.ik, "guide", "guide"))
        for joint, moves in zip(self.joints, self.moves, strict=True):
            if moves:
                found += [Channel(joint, c, "offset") for c in TRANSLATION]
        return [*found, Channel(self.name, "drive", "drive")]


Part = FreePart | FkPart | LimbPart


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
class Member:
    """A cast member: `id` is unique in its scene and part of every channel's name."""

    id: str
    name: str
    kind: Literal["character", "prop", "set"]
    skeleton: Skeleton
    parts: tuple[Part, ...]
    shapes: tuple[Shape, ...] = ()
    notes: tuple[str, ...] = field(default=())

    def __post_init__(self) -> None:
        driven: dict[str, str] = {}
        for part in self.parts:
            for joint in part.joints:
                if joint not in self.skeleton.index:
                    raise CoreError(f"{self.name} has no joint {joint}, which its part {part.label} needs.")
                if joint in driven:
                    raise CoreError(f"Joint {joint} of {self.name} is driven by {driven[joint]} and {part.label}.")
                driven[joint] = part.label
            if isinstance(part, LimbPart):
                self._check_limb(part)
            orders = (part.order,) if isinstance(part, FreePart) else part.orders
            for order in orders:
                if order not in ORDERS:
                    raise CoreError(f"{order!r} of {part.label} is no rotation order: use one of {', '.join(ORDERS)}.")
        missing = [joint.name for joint in self.skeleton.joints if joint.name not in driven]
        if missing:
            raise CoreError(f"No part of {self.name} drives {', '.join(missing)}.")

    def _check_limb(self, part: LimbPart) -> None:
        i, j, k = (self.skeleton.index[name] for name in part.joints)
        joints = self.skeleton.joints
        if joints[j].parent != i or joints[k].parent != j:
            raise CoreError(f"The joints of {part.label} must hang one from the next: {', '.join(part.joints)}.")
        for joint in (joints[j], joints[k]):
            if sum(x * x for x in joint.offset) < 1e-12:
                raise CoreError(f"{part.label} has a segment without length, above {joint.name}.")

    def part(self, name: str) -> Part:
        """The part of this name; CoreError if there is none."""
        for part in self.parts:
            if part.name == name:
                return part
        raise CoreError(f"{self.name} has no part {name}.")


def channel_id(member: str, control: str, channel: str) -> str:
    """The name of a channel within a take."""
    return f"{member}/{control}.{channel}"
