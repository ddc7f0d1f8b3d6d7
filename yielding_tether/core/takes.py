"""Scenes, takes, tethers and captures: what the animator works on."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from fractions import Fraction
from functools import cached_property
from itertools import pairwise

import numpy as np

from .cast import Member
from .channels import channel_id
from .curves import EMPTY, Curve
from .errors import CoreError
from .kernels.capture import sample_capture
from .parts import AnchorPart
from .sides import in_mirror
from .skeleton import Joint, Skeleton
from .transforms import Floats, Ints
from .values import PoseValue

WORLD = "world"
#: What the channels of the way round are called after their tether.
WAY = ("way.x", "way.y", "way.z")
#: What the channels of the point about which a control turns are called: its place in the control, at size one.
PIVOT = ("pivot.x", "pivot.y", "pivot.z")
#: What the channel is called that says whether a part's ends stay, while two systems are mixed, where both have them.
HOLD = "hold"


@dataclass(frozen=True)
class Tether:
    """A control that follows an anchor.

    `anchor`: "world", or a joint or control as (member, name). Weights over time are the channels
    `weight_channel(...)`, position and rotation apart. `offset`, if given, is the control's place in the
    anchor (position, unit quaternion), else that of the rest pose; both at size one. `scales`: a root or prop takes the size
    of what it follows on; a body's own control that follows the world keeps its place in the world as that grows with
    its body (else in the world as it is).
    """

    name: str
    member: str
    control: str
    anchor_member: str
    anchor: str
    position: bool = True
    rotation: bool = True
    offset: tuple[float, float, float, float, float, float, float] | None = None
    scales: bool = False

    @property
    def released(self) -> tuple[str, ...]:
        """In what it lets its control follow: "position", "rotation" or both."""
        return tuple(w for w, on in (("position", self.position), ("rotation", self.rotation)) if on)

    @property
    def weights(self) -> tuple[str, ...]:
        """Channels of its weights."""
        return tuple(map(self.weight_channel, self.released))

    @property
    def ways(self) -> tuple[str, ...]:
        """Channels of the rotation vector (radians) near which its turn from what else is followed is taken: the way round."""
        return tuple(channel_id(self.member, self.control, f"{self.name}.{axis}") for axis in WAY)

    def weight_channel(self, what: str) -> str:
        """Channel of the weight of "position" or "rotation"."""
        return channel_id(self.member, self.control, f"{self.name}.{what}")


@dataclass(frozen=True)
class Anchor:
    """A place that the animator made in one take, to be followed: `id` is that of a member of its cast; `position` (metres) and
    `rotation` (unit quaternion) are its rest place in the world."""

    id: str
    name: str
    position: tuple[float, float, float]
    rotation: tuple[float, float, float, float]

    @cached_property
    def member(self) -> Member:
        """The anchor as a member of the cast."""
        bones = Skeleton((Joint("anchor", -1, self.position, self.rotation),))
        return Member(self.id, self.name, "anchor", bones, (AnchorPart("anchor", self.name, "anchor"),))


@dataclass(frozen=True)
class Standing:
    """A point of a foot, heel or ball, that stands from its first frame to its last."""

    name: str
    first: float
    last: float

    def __post_init__(self) -> None:
        if not (np.isfinite([self.first, self.last]).all() and self.first < self.last):
            raise CoreError(f"The {self.name} can't stand from frame {self.first:g} to {self.last:g}.")


@dataclass(frozen=True)
class Contact:
    """Where a joint stands on or holds on to something, from its first frame to its last: place and rotation of the joint
    in the anchor are meant to stay. An annotation of the take: it moves nothing. `anchor`: as of a tether; `within`: how far
    the joint may leave its place (metres) while it follows the anchor before that is a fault, where that was chosen; `points`:
    of a foot that rolls, when its heel and its ball stand, before the sole is on and after it, and when its tip does alone; one
    after the other where the sole is never on."""

    member: str
    joint: str
    anchor_member: str
    anchor: str
    first: float
    last: float
    within: float | None = None
    points: tuple[Standing, ...] = ()

    def __post_init__(self) -> None:
        if len({p.name for p in self.points}) < len(self.points):
            raise CoreError("A contact has each of its points once.")
        if self.within is not None and not (np.isfinite(self.within) and self.within > 0.0):
            raise CoreError("How far a contact may leave its place must be above zero.")
        if not (np.isfinite([self.first, self.last]).all() and self.first < self.last):
            raise CoreError(f"A contact needs a last frame after its first, not {self.first:g} to {self.last:g}.")

    @property
    def whole(self) -> bool:
        """Whether from its first frame to its last all of the end stands, and not one point of it after the other."""
        spans = sorted((p.first, p.last) for p in self.points)
        if len(spans) < 2:
            return not spans
        together = any(after[0] < before[1] for before, after in pairwise(spans))
        return together or (self.first, self.last) != (spans[0][0], spans[-1][1])

    @property
    def begin(self) -> float:
        """The first frame at which anything of it stands."""
        return min(self.first, *(p.first for p in self.points)) if self.points else self.first

    @property
    def end(self) -> float:
        """The last frame at which anything of it stands."""
        return max(self.last, *(p.last for p in self.points)) if self.points else self.last

    def moved(self, first: float, last: float) -> Contact:
        """The same with other edges: what of it stands by itself goes along, begins before or ends after them as it did, or is
        gone."""
        points = []
        for p in self.points:
            a, b = (first if p.first == self.first else p.first), (last if p.last == self.last else p.last)
            if self.whole and min(p.last, self.last) > max(p.first, self.first):
                a, b = min(a, first), max(b, last)
            elif self.whole:
                # What stands alone after the sole does so from then on.
                a, b = (max(a, last), b) if p.first >= self.last else (a, min(b, first))
            else:
                a, b = max(a, first), min(b, last)
            points += [replace(p, first=a, last=b)] if b > a else []
        return replace(self, first=first, last=last, points=tuple(points))

    def cut(self, first: float, last: float) -> Contact | None:
        """What of it lies within these frames; None where nothing does."""
        points = (
            replace(p, first=max(p.first, first), last=min(p.last, last))
            for p in self.points
            if min(p.last, last) > max(p.first, first)
        )
        a, b = max(self.first, first), min(self.last, last)
        return replace(self, first=a, last=b, points=tuple(points)) if b > a else None

    @property
    def id(self) -> str:
        """Names it within its take: contacts of one joint do not overlap."""
        return f"{self.member}/{self.joint}@{self.first:.12g}"


@dataclass(frozen=True)
class PivotPoint:
    """A named point about which a control can be turned: its place in the control, metres at size one, and where its marker is
    drawn from there (metres, in the control too). A note beside the take: turns keep the places they were made about."""

    member: str
    control: str
    name: str
    place: tuple[float, float, float]
    marker: tuple[float, float, float] = (0.0, 0.0, 0.0)

    def __post_init__(self) -> None:
        if not np.isfinite([self.place, self.marker]).all() or np.abs([self.place, self.marker]).max() > 100.0:
            raise CoreError(f"The point {self.name} must lie within 100 m of its control, and so must its marker.")


@dataclass(frozen=True)
class Recorded:
    """A named value that the animator recorded on a part."""

    member: str
    part: str
    value: PoseValue


#: Bytes of a capture's interpolated motion that are remembered.
LATELY = 32_000_000


@dataclass(frozen=True)
class Capture:
    """Sampled local joint transforms of one member, never changed: (S, J, 3) offsets in metres and (S, J, 4)
    rotations, neighbours in one hemisphere; sample s lies at take frame `first + s * step`."""

    offsets: Floats
    rotations: Floats
    first: float = 0.0
    step: float = 1.0

    def __post_init__(self) -> None:
        if self.offsets.shape[:2] != self.rotations.shape[:2] or not len(self.offsets):
            raise CoreError("A capture needs a place and a rotation of every joint at every sample.")
        if not (np.isfinite(self.offsets).all() and np.isfinite(self.rotations).all()):
            raise CoreError("A capture holds a number that is not finite.")
        self.offsets.setflags(write=False)
        self.rotations.setflags(write=False)

    __hash__ = None  # type: ignore[assignment]

    @cached_property
    def _lately(self) -> OrderedDict[tuple[bytes, bytes], Floats]:
        return OrderedDict()

    def at(self, times: Floats, joints: Ints) -> Floats:
        """(7 K, F) local places and rotations of some joints (K,) at frames, seven rows a joint; those asked for lately are
        remembered, since an operation asks for the same times again and again. Not to be written to."""
        key = times.tobytes(), joints.tobytes()
        found = self._lately.get(key)
        if found is None:
            found = np.empty((7 * len(joints), len(times)))
            sample_capture(self.offsets, self.rotations, self.first, self.step, times, joints, found)
            if len(times) > 1:
                self._lately[key] = found
                while sum(x.nbytes for x in self._lately.values()) > LATELY:
                    self._lately.popitem(last=False)
        return found

    @property
    def nbytes(self) -> int:
        """Bytes of the samples."""
        return int(self.offsets.nbytes + self.rotations.nbytes)

    @property
    def last(self) -> float:
        """Take frame of the last sample."""
        return self.first + self.step * (len(self.offsets) - 1)


@dataclass(frozen=True)
class Layer:
    """Motion on top of a take's (see `layers`): curves by channel name, `weight` over time (one without keys), whether it is left
    out, or alone with others that are; `stretch`: first and last frame outside of which it is nothing."""

    id: str
    name: str
    curves: Mapping[str, Curve] = field(default_factory=dict)
    weight: Curve = EMPTY
    mute: bool = False
    solo: bool = False
    stretch: tuple[float, float] | None = None


@dataclass(frozen=True)
class Take:
    """One performance: curves by channel name, tethers and captures, on frames first…last at a rational rate
    (frames a second); `wanted` are the keys of findings that the animator wants as they are, `contacts` where its joints
    stand and hold, `anchors` the places made in it, `points` those to turn about, `values` that were recorded, `flipped` props that
    are mirrored themselves.
    Immutable; an operation gives a new one that shares what it did not touch."""

    name: str
    rate: Fraction
    first: int
    last: int
    curves: Mapping[str, Curve] = field(default_factory=dict)
    tethers: tuple[Tether, ...] = ()
    captures: Mapping[str, Capture] = field(default_factory=dict)
    wanted: tuple[str, ...] = ()
    contacts: tuple[Contact, ...] = ()
    anchors: tuple[Anchor, ...] = ()
    points: tuple[PivotPoint, ...] = ()
    values: tuple[Recorded, ...] = ()
    flipped: tuple[str, ...] = ()
    #: From the lowest up.
    layers: tuple[Layer, ...] = ()

    def __post_init__(self) -> None:
        if self.rate <= 0:
            raise CoreError("The frame rate of a take must be above zero.")
        if len({a.id for a in self.anchors}) != len(self.anchors):
            raise CoreError("Two anchors of the take share a name.")
        if self.last < self.first:
            raise CoreError(f"A take can't end at frame {self.last}, before its first frame {self.first}.")

    def with_curves(self, changed: Mapping[str, Curve]) -> Take:
        """The take with these curves in place of its own; a curve without keys is dropped."""
        curves = {**self.curves, **changed}
        return replace(self, curves={name: c for name, c in curves.items() if len(c)})

    @property
    def all_curves(self) -> dict[str, Curve]:
        """All curves, those of the layers among them, by names of their own."""
        return {**self.curves, **{f"{x.id} {n}": c for x in self.layers for n, c in x.curves.items()}}

    def whole_frames(self, first: float, last: float) -> Floats:
        """(F,) whole frames first…last. CoreError unless both are whole and within the take."""
        if not (np.isfinite([first, last]).all() and first == round(first) and last == round(last)):
            raise CoreError(f"The frames to write must be whole ones, not {first:g} to {last:g}.")
        if not self.first <= first <= last <= self.last:
            raise CoreError(
                f"There are no frames from {first:g} to {last:g} to write: the take runs from {self.first} to {self.last}."
            )
        return np.arange(first, last + 1.0)

    @cached_property
    def frames(self) -> Floats:
        """(F,) the whole frames of the take."""
        return np.arange(self.first, self.last + 1, dtype=np.float64)


@dataclass(frozen=True)
class Scene:
    """A cast. Names of its members are unique."""

    name: str
    members: tuple[Member, ...]

    def __post_init__(self) -> None:
        ids = [m.id for m in self.members]
        if len(set(ids)) != len(ids):
            raise CoreError("Two members of the cast share a name.")

    def staged(
        self, anchors: tuple[Anchor, ...], values: tuple[Recorded, ...] = (), flipped: tuple[str, ...] = ()
    ) -> Scene:  # fmt: skip
        """The cast with the anchors of a take beside it, its parts with the values that were recorded there, and props that are
        mirrored themselves."""
        known = {m.id for m in self.members}
        more = tuple(a.member for a in anchors if a.id not in known)
        members = self.members
        for one in values:
            if one.member not in known:
                raise CoreError(f"The cast has no member {one.member}, on which {one.value.name} was recorded.")
            members = tuple(m.with_value(one.part, one.value) if m.id == one.member else m for m in members)
        members = tuple(in_mirror(m) if m.id in flipped else m for m in members)
        return replace(self, members=(*members, *more)) if more or values or flipped else self

    def member(self, id: str) -> Member:
        """The member of this name; CoreError if there is none."""
        for member in self.members:
            if member.id == id:
                return member
        raise CoreError(f"The cast has no member {id}.")
