"""What a system is: one way of driving a part, that solves controls to joints and fits joints to controls.

A system declares channels and controls, emits rows for the kernels, and fits. Handing over, posing, pasting, repairing,
proving and drawing are written once against this description; a new system is one file here.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Literal, NamedTuple

import numpy as np

from ..channels import Channel
from ..transforms import Floats, Ints

if TYPE_CHECKING:
    from ..findings import Finding
    from ..parts.part import Part
    from ..program import Poses, Program
    from ..rig import Bound
    from ..takes import Take
    from ..tape import Run, Tape

Gesture = Literal["move", "turn", "swing", "slide"]
#: State of a switch at a time: bit 0 above zero, bit 1 below one.
State = Callable[[int], int]


class Repaired(NamedTuple):
    """A take with one fault less, and the frames within which it changed."""

    take: Take
    first: float
    last: float


@dataclass(frozen=True)
class Handle:
    """How a control is drawn and dragged: `form`, one of a few shapes of our own; the joint on which it rides while its
    system is idle; the joint that a line joins it to; whether its place is `computed` from the pose; whether it shows
    `always`, or only while its part is in hand."""

    form: str
    gestures: tuple[Gesture, ...]
    idle_at: str
    joined_to: str = ""
    computed: bool = False
    always: bool = False


class Rolling(NamedTuple):
    """How a foot rolls on its control: the channel whose turn goes about the first of the points that it stands on below zero, and
    above it about the second up to `most` (radians); `level`: channels that are zero while it stands flat."""

    channel: int
    level: tuple[int, ...]
    most: float


@dataclass(frozen=True)
class Control:
    """Something to take hold of. `releases`: which of place and rotation may follow something; `hangs_from`: the joint
    that is its own space ("" the world); `rests_on`: the joint on which it rests, and must reach. `is_joint`: it is the
    joint of its name, which stays where it hangs and turns with what it follows. `shows`: of a computed one, the channel
    (control, name) that says where it stands, and that is fitted anew where it follows something else. `touches`: whether
    what rests on it stands on things or holds them, with all that hangs below; `tip`: whether that is one of several ends, each of
    which does so by itself."""

    name: str
    label: str
    order: str
    handle: Handle
    releases: frozenset[Literal["position", "rotation"]] = frozenset()
    hangs_from: str = ""
    rests_on: str = ""
    is_joint: bool = False
    shows: tuple[str, str] = ("", "")
    touches: bool = False
    tip: bool = False

    @property
    def is_end(self) -> bool:
        """Whether what rests on it stands on things or holds them."""
        return self.touches or self.tip

    @property
    def stands(self) -> bool:
        """Whether it has a place of its own, by keys."""
        return self.own and "position" in self.releases

    @property
    def own(self) -> bool:
        """Whether it is there by itself, beside the joints, whatever the take ties."""
        return not self.is_joint and not self.handle.computed


class Space(NamedTuple):
    """Where a control's space is at F times: pos (F, 3), rot (F, 4), and the size (F,) by which lengths in it are multiplied,
    None where that is one; and the point (F, 3) in the control about which it turns, None where that is its own place."""

    pos: Floats
    rot: Floats
    size: Floats | None = None
    pivot: Floats | None = None


class Turning(NamedTuple):
    """How an end turns about what of it stands, while its control stays: that control's name; by the name of the point, the place
    of the channel among those of the system; the ways to the left and forward (3,) of its sole, and by name the places (3,) of
    the points, in its joint."""

    control: str
    channels: Mapping[str, int]
    left: Floats
    forward: Floats
    points: Mapping[str, Floats]


@dataclass(frozen=True)
class Posed:
    """What a fit reads, at F times for the n joints of a part: places and rotations in the world, those of what each hangs
    from, offsets from there as they are in the world, the spaces of controls, local offsets and rotations of the capture where
    there is one, and the turns that a system is given before its channels (see `System.given`); where the body has a
    size, (F,) that, and for a root (F, 3) the point in it about which the body grows.
    """

    pos: Floats
    rot: Floats
    above_pos: Floats
    above_rot: Floats
    offsets: Floats
    spaces: Mapping[str, Space] = field(default_factory=dict)
    sampled: tuple[Floats, Floats] | None = None
    given: Floats | None = None
    size: Floats | None = None
    about: Floats | None = None
    #: Values (F,) that a fit takes as they are, by their place among the system's channels.
    kept: Mapping[int, Floats] = field(default_factory=dict)

    @property
    def sizes(self) -> Floats:
        """(F,) size of the body, one where it has none."""
        return np.ones(len(self.pos)) if self.size is None else self.size


class System:
    """Base of all systems; what is not overridden has no part in it."""

    name = ""
    label = ""
    #: Whether it moves by itself, without keys.
    moves_alone = False
    #: Whether it has more values than its part has freedoms: a fit keeps those that make a pose already.
    ample = False

    def channels(self, part: Part) -> tuple[Channel, ...]:
        """Channels in the order in which `fit` gives them; those that pose nothing last."""
        raise NotImplementedError

    def controls(self, part: Part) -> tuple[Control, ...]:
        return ()

    def nodes(self, part: Part) -> tuple[tuple[str, str], ...]:
        """Names of nodes, in the member, that its rows write beside the part's joints."""
        return ()

    def bind(self, bound: Bound) -> Any:
        """What never changes for a part: kept as the bound system's `data`."""
        return None

    def defaults(self, bound: Bound) -> dict[int, float]:
        """Values without keys that depend on the body, by channel: what its rest pose needs."""
        return {}

    def reads(self, bound: Bound, state: State) -> list[int]:
        """Nodes that its rows read beside what the part hangs from."""
        return []

    def row_channels(self, bound: Bound, state: State) -> list[int]:
        """Channels that its rows read."""
        found: list[int] = bound.systems[self.name].channels.tolist()
        return found

    def emit(self, tape: Tape, bound: Bound, into: Ints, state: State) -> list[Run]:
        """Rows that write the part's joints to the nodes `into`."""
        raise NotImplementedError

    def given(self, bound: Bound, poses: Poses) -> Floats | None:
        """(F, n, 4) turns that other joints give to the part's own, from rest, before its channels turn them; None where
        nothing does. What it reads of these poses is what `givers` names."""
        return None

    def givers(self, bound: Bound) -> list[int]:
        """Nodes from which those turns come."""
        return []

    def fit(self, bound: Bound, posed: Posed, near: Floats) -> Floats:
        """(K, F) values that reproduce a pose, each time nearest to the time before, the first to `near` (K,). Locks and
        limits are not heeded here."""
        raise NotImplementedError

    def signs(self, bound: Bound, posed: Posed) -> Floats | None:
        """(S, F) for each channel of kind "sign", in their order, something that passes through zero where it steps; None without
        one."""
        return None

    def singular(self, bound: Bound, posed: Posed) -> str:
        """Why no finite slope passes speed on at one of these times, or nothing."""
        return ""

    def places(self, bound: Bound, posed: Posed, values: Mapping[int, Floats]) -> dict[str, Floats]:
        """(F, 3) places of its computed controls; `values`: channels at these times."""
        return {}

    def drag(
        self, bound: Bound, posed: Posed, control: str, position: Floats, rotation: Floats, now: Mapping[int, float]
    ) -> dict[int, float]:
        """Channel values that put a control to a place and rotation in the world; `posed` has one time."""
        raise NotImplementedError

    def aim(self, bound: Bound, control: str) -> int:
        """Node at which the joint that rests on a control should be."""
        return bound.controls[control].node

    def tilts(self, bound: Bound, control: str) -> list[int]:
        """Channels that move the joint that rests on a control in it."""
        return []

    def along(self, bound: Bound, control: str) -> list[int]:
        """Values, by their place among its channels, that are fitted anew with those of a control, since they lie on top of what
        the system makes of these."""
        return []

    def rolls(self, bound: Bound, control: str) -> Rolling | None:
        """How what rests on a control rolls while that stands; None where nothing does."""
        return None

    def turning(self, bound: Bound) -> Turning | None:
        """How its end turns about what of it stands; None where only its control does that."""
        return None

    def stays(self, bound: Bound) -> list[int]:
        """Values, by their place among its channels, that a fit takes as the take has them unless others alone make the pose."""
        return []

    def mirrored(self, bound: Bound, other: Bound) -> dict[int, float]:
        """Signs with which channels, by their place, go over to the part on the other side, whatever the others are fitted to: of
        those that a fit would choose in another way."""
        return {}

    def rest(
        self, bound: Bound, posed: Posed, control: str, position: Floats, rotation: Floats, now: Mapping[int, float]
    ) -> tuple[Floats, Floats]:
        """Where a control has to be so that the joint that rests on it is at a place (3,) and rotation (4,) in the world."""
        return position, rotation

    def point(self, bound: Bound, posed: Posed, place: Floats) -> Floats:
        """(3,) what the channels of the point about which a root grows hold where that is at a place (3,) in the world, at the
        first time."""
        raise NotImplementedError

    def findings(self, program: Program, bound: Bound) -> Iterator[Finding]:
        """Faults that only this system can have."""
        return iter(())

    def repair(self, program: Program, bound: Bound, finding: Finding) -> Repaired | None:
        """Takes such a fault out; None if it is none of its own."""
        return None


def offsets_at_rest(bound: Bound, count: int) -> Floats:
    """(F, n, 3) local offsets of a part's joints at rest."""
    return np.repeat(bound.offsets[None], count, axis=0)
