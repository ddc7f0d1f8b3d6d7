"""A cast made ready: nodes, channels, parts bound to them, and the stages of the evaluation with their rows.

Nodes are numbered joints, controls, spaces, the world, then scratch, so that a joint's node depends on the cast alone. A
*stage* is a part, or a control that can follow something; which nodes it reads, which channels it needs and which rows
the kernels run depend on the state of its switches. So a limb that FK drives takes plain joint rows, a control that
follows one thing alone a plain row, and only two systems mixed are blended.
"""

from __future__ import annotations

from collections import Counter, OrderedDict
from collections.abc import Collection, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from threading import Lock
from typing import Any, NamedTuple

import numpy as np

from .cast import Member
from .channels import ROTATION, TRANSLATION, Channel, channel_id
from .described import CAPTURED, Described, described
from .errors import CoreError, LoopError
from .followers import Body, BoundControl, BoundGuide, BoundTurn, Followed
from .kernels import blend, hold
from .kernels.blend import BLEND
from .kernels.hold import BESIDE, END, HELD, LOWER, UPPER
from .kernels.size import SIZED
from .parts import Part
from .parts.root import ABOUT, SIZE
from .systems.fk import following
from .systems.system import Control, Posed, State, System
from .takes import HOLD, PIVOT, WAY, WORLD, Anchor, Recorded, Scene, Tether
from .tape import Run, Tape
from .transforms import Floats, Ints, inverse, multiply, rotate

#: Switches whose states fit into one number.
MOST_SWITCHES = 31
_NO_TURN = np.array([0.0, 0.0, 0.0, 1.0])


@dataclass(eq=False)
class BoundSystem:
    """A system of one part: `channels` (K,) that pose, in the order of its fit; `held` (K,) which of them are locked, and
    `standard` (K,) their values without keys; `controls`: what is dragged; `data`: what the system keeps for itself."""

    system: System
    controls: tuple[Control, ...]
    channels: Ints
    held: np.ndarray
    standard: Floats
    stepped: np.ndarray
    wraps: np.ndarray
    bounds: Floats
    data: Any = None


@dataclass(eq=False)
class Bound:
    """A part made ready, for every part alike. `nodes` of its joints, `above` of what each hangs from, `outer` of what the
    part hangs from there; `offsets`, `rests`, `orders` of the joints, `moving` (n, 3) their length channels (-1 none),
    `samples` their joints of the captures (-1 none); `own`: all its channels by (control, name); `drivers`: systems after
    the first with the channel of their share; `controls` that have places of their own and can follow something, `turned`:
    joints whose turns may follow something in this take, `guides`: bend guides that may."""

    member: Member
    part: Part
    nodes: Ints
    above: Ints
    outer: Ints
    up: Ints
    outward: list[int]
    offsets: Floats
    rests: Floats
    orders: Ints
    moving: Ints
    samples: Ints
    own: dict[tuple[str, str], int]
    systems: dict[str, BoundSystem] = field(default_factory=dict)
    drivers: tuple[tuple[str, int], ...] = ()
    controls: dict[str, BoundControl] = field(default_factory=dict)
    turned: dict[str, BoundControl] = field(default_factory=dict)
    guides: dict[str, BoundGuide] = field(default_factory=dict)
    #: Nodes that its systems write beside its joints, by name.
    extra: dict[tuple[str, str], int] = field(default_factory=dict)
    scratch: list[Ints] = field(default_factory=list)
    #: Channel of whether its ends stay where two systems that are mixed have them; none where it never has keys.
    hold: tuple[int, ...] = ()
    #: Slot of the size of its joints (0: one), and the body that hangs from it, where it is a root with a size of its own.
    slot: int = 0
    body: Body | None = None

    @property
    def id(self) -> tuple[str, str]:
        return self.member.id, self.part.name

    @property
    def who(self) -> str:
        """The part as the animator reads it."""
        return self.member.reads(self.part)

    @property
    def sampled(self) -> tuple[int, ...]:
        """Its joints of the captures, of those that have one."""
        return tuple(k for k in self.samples.tolist() if k >= 0)

    @property
    def captured(self) -> bool:
        return any(s.system.moves_alone for s in self.systems.values())

    @property
    def keyed_systems(self) -> list[str]:
        """Systems that keys make, in order."""
        return [name for name, s in self.systems.items() if not s.system.moves_alone]

    @cached_property
    def value_channels(self) -> list[int]:
        """Channels of the named values that pose it, in their order."""
        return [self.own[self.part.name, f"value.{v.name}"] for v in self.part.values]

    @cached_property
    def by_joints(self) -> str:
        """The system that keys make and that turns its joints one by one; nothing where none does."""
        mine = ((name, self.systems[name].controls) for name in self.keyed_systems)
        return next((name for name, controls in mine if controls and all(c.is_joint for c in controls)), "")

    @property
    def described(self) -> list[Control]:
        """All its controls, those of one system after another."""
        return [control for mine in self.systems.values() for control in mine.controls]

    @cached_property
    def placed(self) -> list[tuple[str, Control]]:
        """Controls that stand elsewhere than on a joint, with their systems: they are drawn at places of their own."""
        return [
            (name, control)
            for name, mine in self.systems.items()
            for control in mine.controls
            if control.handle.computed or (control.stands and control.name not in self.part.joints)
        ]

    @cached_property
    def givers(self) -> list[int]:
        """Nodes from which its systems take turns that come before their channels."""
        return [n for s in self.systems.values() for n in s.system.givers(self)]

    @property
    def driver_channels(self) -> Ints:
        return np.array([c for _, c in self.drivers], dtype=np.int64)

    @property
    def followers(self) -> dict[str, BoundControl]:
        """All that may follow something in this take."""
        return {**self.controls, **self.turned, **self.guides}

    @cached_property
    def weight_channels(self) -> list[int]:
        """Weights of what its controls and joints follow."""
        return [c for control in self.followers.values() for c in control.switches]

    @cached_property
    def space_channels(self) -> list[int]:
        """All that say where its controls' spaces are and about what they turn in them: those weights, ways round, points."""
        return [*self.weight_channels, *(c for control in self.followers.values() for c in control.chosen)]

    @property
    def switches(self) -> list[int]:
        """Channels that say what drives and what is followed."""
        return [*self.driver_channels.tolist(), *self.weight_channels]

    def sized(self, tape: Tape, node: int, source: int, *, whole: bool) -> Run:
        """A row that writes a node made of another by the size of the body: all of it grows about the body's point, or only
        what hangs from it."""
        assert self.body is not None
        ints = (node, source, self.body.slot, self.body.about[0], int(whole))
        return tape.add(SIZED, ints, (*self.offsets[0], *self.rests[0]))

    def above_in(self, into: Ints, k: int) -> int:
        """Node that joint k hangs from where the part's joints are written to `into`."""
        return int(into[self.up[k]]) if self.up[k] >= 0 else int(self.above[k])

    def label_of(self, system: str) -> str:
        """A system as the animator reads it."""
        return self.systems[system].system.label

    def driving(self, shares: Floats) -> Ints:
        """(F,) which system drives alone for these shares (drivers, F), in the order of `systems`; -1 where two are mixed."""
        found = np.zeros(shares.shape[1], dtype=np.int64)
        for k, share in enumerate(shares):
            found = np.where(share >= 1.0, k + 1, np.where(share > 0.0, -1, found))
        return found

    def state(self, shares: Floats) -> str | None:
        """The system that drives alone over all of these times, or None."""
        found = np.unique(self.driving(shares))
        return list(self.systems)[found[0]] if len(found) == 1 and found[0] >= 0 else None

    def active(self, share: Any) -> list[str]:
        """Systems that take part, in order; share(k): whether that of driver k is above zero, and below one."""
        names = list(self.systems)
        found = [names[0]]
        for k, (name, _) in enumerate(self.drivers):
            above, below = share(k)
            if not above:
                continue
            found = [*found, name] if below else [name]
        return found

    def active_in(self, state: State) -> list[str]:
        """Systems that take part where the switches are in a state."""

        def share(k: int) -> tuple[bool, bool]:
            bits = state(self.drivers[k][1])
            return bool(bits & 1), bool(bits & 2)

        return self.active(share)

    def drive_to(self, system: str) -> dict[int, float]:
        """Shares that let one system drive alone; those of systems before it do not matter, and stay."""
        names = [name for name, _ in self.drivers]
        k = names.index(system) if system in names else -1
        return {c: float(n == k) for n, (_, c) in enumerate(self.drivers) if n >= k}

    def system_for(self, wanted: str) -> str | None:
        """The system of this name, or the only keyed one where another keyed one is meant; None if there is none."""
        if wanted in self.systems:
            return wanted
        keyed = self.keyed_systems
        return keyed[0] if wanted != CAPTURED.name and len(keyed) == 1 else None


class Stage:
    """One step of the evaluation: the nodes it writes, the channels whose state decides about it, and what it reads,
    needs and runs in a given state."""

    label = ""
    writes: tuple[int, ...] = ()
    switches: tuple[int, ...] = ()
    #: Joints of the captures that its rows may read.
    samples: tuple[int, ...] = ()

    def state(self, code: int) -> State:
        bits = {c: code >> (2 * k) & 3 for k, c in enumerate(self.switches)}
        return bits.__getitem__

    def reads(self, state: State) -> list[int]:
        raise NotImplementedError

    def channels(self, state: State) -> list[int]:
        raise NotImplementedError

    def emit(self, tape: Tape, state: State) -> list[Run]:
        raise NotImplementedError


class ControlStage(Stage):
    """The place of a control, and its space."""

    def __init__(self, bound: Bound, control: BoundControl) -> None:
        self.label = bound.who
        self.bound, self.control = bound, control
        self.samples = bound.sampled
        self.writes = (control.space, control.node, *([control.body.grown] if control.body else []))
        self.switches = tuple(control.switches)

    def reads(self, state: State) -> list[int]:
        return self.control.reads(state)

    def channels(self, state: State) -> list[int]:
        body = self.control.body
        sizes = [body.size, *body.about] if body else []
        return [*self.control.channels, *self.switches, *self.control.chosen, *sizes]

    def emit(self, tape: Tape, state: State) -> list[Run]:
        runs = self.control.emit(tape, self.control.node, state)
        if self.control.body:
            runs.append(self.bound.sized(tape, self.control.body.grown, self.control.body.world, whole=True))
        return runs


class TurnStage(Stage):
    """The space in which a joint turns that may follow something. Where its system drives, the part's own rows write it on
    their way along the joints; where another does, it hangs from the joints as they are."""

    def __init__(self, bound: Bound, control: BoundControl) -> None:
        self.label = bound.who
        self.bound, self.control = bound, control
        self.k = bound.part.joints.index(control.control.name)
        self.system = next(n for n, mine in bound.systems.items() if control.control in mine.controls)
        self.writes = (control.space,)
        self.switches = (*bound.driver_channels.tolist(), *control.switches)
        self.samples = bound.sampled

    def _by_rows(self, state: State) -> bool:
        return self.system in self.bound.active_in(state)

    def reads(self, state: State) -> list[int]:
        if self._by_rows(state):
            return [int(self.bound.nodes[self.k])]
        return [int(self.bound.above[self.k]), *self.control.followed(state)]

    def channels(self, state: State) -> list[int]:
        lengths = [c for c in self.bound.moving[self.k].tolist() if c >= 0]
        return [] if self._by_rows(state) else [*self.control.switches, *self.control.chosen, *lengths]

    def emit(self, tape: Tape, state: State) -> list[Run]:
        if self._by_rows(state):
            return []
        return [following(tape, self.bound, self.k, self.control, self.bound.nodes, joint=False)]


class GuideStage(Stage):
    """Where a bend guide is carried by what it follows."""

    def __init__(self, bound: Bound, guide: BoundGuide) -> None:
        self.label = bound.who
        self.guide = guide
        self.writes = (guide.space,)
        self.switches = tuple(guide.switches)

    def reads(self, state: State) -> list[int]:
        return self.guide.reads(state)

    def channels(self, state: State) -> list[int]:
        return list(self.switches)

    def emit(self, tape: Tape, state: State) -> list[Run]:
        return self.guide.emit(tape, self.guide.space, state)


class PartStage(Stage):
    """The joints of a part."""

    def __init__(self, bound: Bound) -> None:
        self.label = bound.who
        self.bound = bound
        self.writes = (*bound.nodes.tolist(), *bound.extra.values())
        weights = [c for control in bound.turned.values() for c in control.switches]
        self.samples = bound.sampled
        # A value that is zero turns nothing, and has no part in the rows.
        self.switches = (*bound.driver_channels.tolist(), *weights, *bound.value_channels, *bound.hold)

    def reads(self, state: State) -> list[int]:
        bound = self.bound
        found = set(bound.outer.tolist())
        if bound.body:
            # Whatever drives a root, the size comes with its control.
            found.add(bound.controls[bound.part.joints[0]].node)
        for name in bound.active_in(state):
            found.update(bound.systems[name].system.reads(bound, state))
        return sorted(found)

    def channels(self, state: State) -> list[int]:
        bound = self.bound
        found = [*bound.driver_channels.tolist(), *(c for c in bound.moving.ravel().tolist() if c >= 0)]
        active = bound.active_in(state)
        for name in active:
            found += bound.systems[name].system.row_channels(bound, state)
        if len(active) > 1:
            found += bound.hold
            # The spaces of joints come after the mixing, whichever systems are mixed.
            found += [c for control in bound.turned.values() for c in (*control.switches, *control.chosen)]
        return found

    def emit(self, tape: Tape, state: State) -> list[Run]:
        bound = self.bound
        active = bound.active_in(state)
        if len(active) == 1:
            return bound.systems[active[0]].system.emit(tape, bound, bound.nodes, state)
        runs: list[Run] = []
        for n, name in enumerate(active):
            runs += bound.systems[name].system.emit(tape, bound, bound.scratch[n], state)
        drivers = dict(bound.drivers)
        one = bound.scratch[0]
        # Where more than two are mixed there is no one way from the one end to the other.
        held = len(active) == 2 and any(state(c) & 1 for c in bound.hold)
        for n, name in enumerate(active[1:], 1):
            into = bound.nodes if n == len(active) - 1 and not held else bound.scratch[-1]
            runs += self._blend(tape, one, bound.scratch[n], drivers[name], into)
            one = into
        if held:
            runs += self._held(tape, one, bound.scratch[0], bound.scratch[1], drivers[active[1]])
        # A joint's space hangs from the joints as they are, not from those of its system alone.
        for name, turned in bound.turned.items():
            runs.append(following(tape, bound, bound.part.joints.index(name), turned, bound.nodes, joint=False))
        return runs

    def _blend(self, tape: Tape, one: Ints, other: Ints, share: int, into: Ints) -> list[Run]:
        bound = self.bound
        runs = []
        for k in bound.outward:
            ints = (
                into[k], bound.above_in(into, k), bound.outer[k], one[k], other[k], share, int(bound.part.free),
                bound.moving[k, 0], bound.samples[k], bound.slot,
            )  # fmt: skip
            runs.append(tape.add(BLEND, ints, bound.offsets[k]))
        return Tape.joined(runs, blend.INTS, blend.FLOATS)

    def _held(self, tape: Tape, mixed: Ints, one: Ints, other: Ints, share: int) -> list[Run]:
        """Joints as they are mixed, but for limbs: their ends are where both systems have them."""
        bound, at = self.bound, self.bound.part.joints.index
        folds = [(at(f.root), at(f.bend), at(f.end), f.hinge) for f in bound.part.folds]
        part, of, runs = dict.fromkeys(range(len(bound.nodes)), BESIDE), dict[int, int](), list[Run]()
        for k in bound.outward:
            # What hangs from a joint of a limb goes with it.
            part[k], of[k] = (part[up], of[up]) if (up := int(bound.up[k])) >= 0 else (BESIDE, 0)
            for n, fold in enumerate(folds):
                if k in fold[:3]:
                    part[k], of[k] = (UPPER, LOWER, END)[fold.index(k)], n
            root, bend, end, hinge = folds[of[k]]
            ints = (
                bound.nodes[k], mixed[k], part[k], mixed[root], mixed[bend], mixed[end], one[end], other[end], share
            )  # fmt: skip
            runs.append(tape.add(HELD, ints, hinge))
        return Tape.joined(runs, hold.INTS, hold.FLOATS)


class Rig:
    """A scene with what may be followed in it and who has a capture: everything that does not change with the keys."""

    def __init__(
        self, scene: Scene, tethers: Sequence[Tether] = (), captured: Sequence[tuple[str, int]] = (),
        keyed: Collection[str] = (), anchors: tuple[Anchor, ...] = (), values: tuple[Recorded, ...] = (),
        flipped: tuple[str, ...] = (),
    ) -> None:  # fmt: skip
        """captured: members that have a capture, with the number of its joints; keyed: channels of sizes, ways round and
        pivots that have keys: nobody else's rows know of them."""
        #: The scene as it was given, and with the anchors of the take beside its cast.
        self.given = scene
        self.scene = scene.staged(anchors, values, flipped)
        self.flipped = flipped
        self.anchors = anchors
        self.values = values
        self.tethers = tuple(tethers)
        self.captured = tuple(captured)
        self.keyed = frozenset(keyed)
        #: Slots of the sizes of joints and controls by (member, name), and of roots that have one; the first slot is one.
        self._slots: dict[tuple[str, str], int] = {}
        self._bodies: dict[tuple[str, str], int] = {}
        self._slot_of: dict[int, int] | None = None
        self.slot_count = 1
        #: Node of each joint or control by (member, name); the space of a control by (member, name, "space").
        self.nodes: dict[tuple[str, ...], int] = {}
        self.channels: dict[str, int] = {}
        #: Member, part and description of each channel.
        self.info: list[tuple[str, Part, Channel]] = []
        self.bounds: dict[tuple[str, str], Bound] = {}
        self.stages: list[Stage] = []
        self.tape = Tape()
        self._emitted: dict[tuple[int, int], Emitted] = {}
        self._planned: dict[tuple[bytes, bytes], Planned] = {}
        #: The same by what is wanted alone, each with the codes of the stages that take part.
        self._ways: dict[bytes, list[tuple[Planned, bytes]]] = {}
        #: Rows are added by one thread at a time.
        self._writing = Lock()
        self._defaults: list[float] = []
        self._controls: dict[tuple[str, str], tuple[Part, Control]] = {}
        #: How many controls of a member have a label.
        self._labels: Counter[tuple[str, str]] = Counter()
        #: Joints whose turns may follow something, and bend guides.
        self._seldom: dict[tuple[str, str], tuple[Part, Control]] = {}
        self._number_nodes()
        self._check_tethers()
        rests = self._rest_places()
        for member in self.scene.members:
            for part in member.parts:
                self._bind(member, part, rests)
        self.names = list(self.channels)
        self.defaults = np.array(self._defaults)
        names = [(m.id, j.name) for m in self.scene.members if m.kind != "anchor" for j in m.skeleton.joints]
        #: Names (member, joint) and nodes of all joints of the cast; anchors have no body.
        self.joints = names, np.array([self.nodes[n] for n in names], dtype=np.int64)
        self.writer = np.full(self.count, -1, dtype=np.int64)
        for s, stage in enumerate(self.stages):
            self.writer[list(stage.writes)] = s
            if len(stage.switches) > MOST_SWITCHES:
                raise CoreError(
                    f"{stage.label} follows too many things: take some of its follows out of the take first."
                )

    # --- nodes ----------------------------------------------------------------------------------------

    def _number_nodes(self) -> None:
        follow_able: list[tuple[Member, Part, Control]] = []
        scratch = 0
        for member in self.scene.members:
            for joint in member.skeleton.joints:
                self.nodes[member.id, joint.name] = len(self.nodes)
        for member in self.scene.members:
            for part in member.parts:
                what = self._said(member, part)
                count = len(what.systems)
                scratch = max(scratch, (count + 1) * len(part.joints) if count > 1 else 0)
                for system in what.systems:
                    able = [c for c in system.controls if c.releases]
                    follow_able += [(member, part, c) for c in able if c.own]
                    self._seldom |= {(member.id, c.name): (part, c) for c in able if not c.own}
        for member, part, control in follow_able:
            self._controls[member.id, control.name] = (part, control)
            self._labels[member.id, control.label] += 1
            key = (member.id, control.name)
            self.nodes[(*key, "control") if key in self.nodes else key] = len(self.nodes)
        for member, _, control in follow_able:
            self.nodes[member.id, control.name, "space"] = len(self.nodes)
        for member in self.scene.members:
            for part in member.parts:
                for name in self._said(member, part).extra:
                    self.nodes[(member.id, *name)] = len(self.nodes)
        # Joints and guides have a space of their own only where they follow something: nobody else pays for it.
        for tether in self.tethers:
            key = (tether.member, tether.control)
            if key in self._seldom and key not in self._controls:
                self.nodes.setdefault((*key, "space"), len(self.nodes))
        self._number_sizes()
        self.world = len(self.nodes)
        #: Nodes that poses hold: all but scratch.
        self.shown = self.world + 1
        self.count = self.shown + scratch

    def _number_sizes(self) -> None:
        """Slots of the roots that have a size in this take, and nodes of the world as what grows with them sees it."""
        growing = {(t.member, t.control) for t in self.tethers if t.scales}
        for member in self.scene.members:
            for part in member.parts:
                root = (member.id, part.joints[0])
                if part.grows and (channel_id(*root, SIZE) in self.keyed or root in growing):
                    self._bodies[root] = self.slot_count
                    self.slot_count += 1
                    self.nodes[(*root, "grown")] = len(self.nodes)
        if self._bodies:
            names = [(m.id, j.name) for m in self.scene.members for j in m.skeleton.joints]
            for whose in dict.fromkeys([*names, *self._controls]):
                self._slots[whose] = self._bodies.get((whose[0], self._root(*whose)), 0)

    def root_node(self, slot: int) -> int:
        """Node of the control of the root whose size is in a slot."""
        return next(self.control_node(*root) for root, own in self._bodies.items() if own == slot)

    def slot_of(self, node: int) -> int:
        """Slot of the size of what stands at a node: a joint, a control, the world."""
        if not self._bodies:
            return 0
        if self._slot_of is None:
            known = {self.control_node(*whose): slot for whose, slot in self._slots.items()}
            known |= {self.nodes[whose]: slot for whose, slot in self._slots.items() if whose in self.nodes}
            grown = {self.nodes[(*root, "grown")]: slot for root, slot in self._bodies.items()}
            self._slot_of = known | grown
        return self._slot_of.get(node, 0)

    def _root(self, member: str, name: str) -> str:
        """The joint from which a joint or control of a member hangs in the end."""
        bones = self.scene.member(member).skeleton
        j = bones.index[name if name in bones.index else self._controls[member, name][1].rests_on]
        while bones.parents[j] >= 0:
            j = bones.parents[j]
        return bones.joints[j].name

    def _rest_places(self) -> dict[tuple[str, ...], tuple[Floats, Floats]]:
        """Rest position (3,) and rotation (4,) in the world of every joint and control."""
        rests: dict[tuple[str, ...], tuple[Floats, Floats]] = {}
        for member in self.scene.members:
            pos, rot = member.skeleton.rest_pose
            for j, joint in enumerate(member.skeleton.joints):
                rests[member.id, joint.name] = (pos[j], rot[j])
        for (member_id, name), (_, control) in self._controls.items():
            rests.setdefault((member_id, name), rests[member_id, control.rests_on])
        return rests

    # --- parts ----------------------------------------------------------------------------------------

    def _channel(self, member: Member, part: Part, channel: Channel) -> int:
        name = channel_id(member.id, channel.control, channel.name)
        self.channels[name] = len(self.channels)
        self.info.append((member.id, part, channel))
        self._defaults.append(channel.standard)
        return self.channels[name]

    def _sample(self, member: Member, joint: str) -> int:
        """Joint of the captures side by side, or -1."""
        start = 0
        for id, count in self.captured:
            if id == member.id:
                return start + member.skeleton.index[joint]
            start += count
        return -1

    def _said(self, member: Member, part: Part) -> Described:
        return described(self.given, member, part, member.id in dict(self.captured))

    def _bind(self, member: Member, part: Part, rests: dict[tuple[str, ...], tuple[Floats, Floats]]) -> None:
        what = self._said(member, part)
        above = [self._node_above(member, j) for j in what.ids]
        outer = list(above)
        for k in what.outward:
            if what.up[k] >= 0:
                outer[k] = outer[what.up[k]]
        first = len(self.channels)
        self.channels.update((name, first + n) for n, name in enumerate(what.names))
        self.info += what.info
        self._defaults += what.standard
        own = {key: first + n for key, n in what.own.items()}
        bound = Bound(
            member, part, np.array([self.nodes[member.id, n] for n in part.joints], dtype=np.int64),
            np.array(above, dtype=np.int64), np.array(outer, dtype=np.int64), what.up, what.outward, what.offsets, what.rests,
            what.orders, np.where(what.lengths >= 0, first + what.lengths, -1),
            np.array([self._sample(member, n) for n in part.joints], dtype=np.int64), own,
            drivers=tuple((name, first + n) for name, n in what.drivers),
        )  # fmt: skip
        bound.extra = {n: self.nodes[member.id, *n] for n in what.extra}
        slot = self._slots.get((member.id, part.joints[0]), 0)
        if not part.grows:
            bound.slot = slot
        elif slot:
            x, y, z = (own[part.joints[0], c] for c in ABOUT)
            grown = self.nodes[member.id, part.joints[0], "grown"]
            bound.body = Body(slot, own[part.joints[0], SIZE], (x, y, z), grown, self.world)
        for s in what.systems:
            bound.systems[s.system.name] = BoundSystem(
                s.system, s.controls, first + s.posing, s.held, s.standard.copy(), s.stepped, s.wraps, s.bounds
            )
        for mine in bound.systems.values():
            for control in mine.controls:
                if control.own and control.releases:
                    bound.controls[control.name] = self._control(bound, control, rests)
                elif control.is_joint and (member.id, control.name, "space") in self.nodes:
                    bound.turned[control.name] = self._turned(bound, control, rests)
        for mine in bound.systems.values():
            mine.data = mine.system.bind(bound)
            for channel, value in mine.system.defaults(bound).items():
                self._defaults[channel] = value
                mine.standard[mine.channels == channel] = value
            for control in mine.controls:
                if control.releases and control.handle.computed and (member.id, control.name, "space") in self.nodes:
                    bound.guides[control.name] = self._guide(bound, mine, control, rests)
        self.bounds[bound.id] = bound
        if channel_id(*bound.id, HOLD) in self.keyed and part.folds and len(bound.systems) > 1:
            stay = self._channel(member, part, Channel(part.name, HOLD, "share", "", "ends stay", seldom=True))
            bound.own[part.name, HOLD], bound.hold = stay, (stay,)
        if len(bound.systems) > 1:
            n = len(part.joints)
            bound.scratch = [self.shown + np.arange(k * n, (k + 1) * n) for k in range(len(bound.systems) + 1)]
        self.stages += [ControlStage(bound, control) for control in bound.controls.values()]
        self.stages += [TurnStage(bound, turned) for turned in bound.turned.values()]
        self.stages += [GuideStage(bound, guide) for guide in bound.guides.values()]
        self.stages.append(PartStage(bound))

    def _node_above(self, member: Member, joint: int) -> int:
        parent = member.skeleton.parents[joint]
        return self.nodes[member.id, member.skeleton.joints[parent].name] if parent >= 0 else self.world

    # --- following ------------------------------------------------------------------------------------

    def _control(
        self, bound: Bound, control: Control, rests: dict[tuple[str, ...], tuple[Floats, Floats]]
    ) -> BoundControl:  # fmt: skip
        member = bound.member
        anchors = self._followed(bound, control, rests[member.id, control.name], rests)
        # A control hangs from what the joint it begins at hangs from.
        own = Followed(self.world, -1, -1, *rests[member.id, control.name])
        if control.hangs_from:
            j = member.skeleton.index[control.hangs_from]
            parent = member.skeleton.parents[j]
            if parent >= 0:
                reach = _within(rests[member.id, control.name], rests[member.id, member.skeleton.joints[parent].name])
                own = Followed(self._node_above(member, j), -1, -1, *reach, bound.slot)
        anchors.append(own)
        node, space = self.control_node(member.id, control.name), self.nodes[member.id, control.name, "space"]
        turn = bound.own[control.name, ROTATION[0]]
        if "position" not in control.releases:
            # What only turns has no size.
            anchors = [one._replace(slot=0, root=-1, taken=False) for one in anchors]
            return BoundTurn(control, bound.who, node, space, -1, turn, anchors)
        slot = 0
        if any(one.slot for one in anchors):
            slot, self.slot_count = self.slot_count, self.slot_count + 1
        place = bound.own[control.name, TRANSLATION[0]]
        pivot = self._pivot(bound, control)
        return BoundControl(control, bound.who, node, space, place, turn, anchors, slot, bound.body, pivot)

    def _pivot(self, bound: Bound, control: Control) -> int:
        """First of the three channels of the point about which a control turns, -1 where they have no keys."""
        if not any(channel_id(bound.member.id, control.name, axis) in self.keyed for axis in PIVOT):
            return -1
        found = len(self.channels)
        for axis in PIVOT:
            channel = Channel(control.name, axis, "point", "", f"turns about, {axis[-1]}", seldom=True)
            bound.own[control.name, axis] = self._channel(bound.member, bound.part, channel)
        return found

    def _turned(
        self, bound: Bound, control: Control, rests: dict[tuple[str, ...], tuple[Floats, Floats]]
    ) -> BoundControl:  # fmt: skip
        """A joint that stays where it hangs, and whose turn may follow something."""
        k = bound.part.joints.index(control.name)
        anchors = self._followed(bound, control, rests[bound.member.id, control.name], rests)
        # Its place and size are those of its own joint, whatever its turn follows.
        anchors = [one._replace(slot=0, root=-1, taken=False) for one in anchors]
        anchors.append(Followed(int(bound.above[k]), -1, -1, bound.offsets[k], bound.rests[k]))
        return BoundControl(
            control, bound.who, int(bound.nodes[k]), self.nodes[bound.member.id, control.name, "space"], -1,
            bound.own[control.name, ROTATION[0]], anchors,
        )  # fmt: skip

    def _guide(
        self, bound: Bound, mine: BoundSystem, control: Control, rests: dict[tuple[str, ...], tuple[Floats, Floats]]
    ) -> BoundGuide:  # fmt: skip
        """A bend guide that may follow something with its place: at rest it is where its system puts it."""
        member, skeleton = bound.member, bound.member.skeleton
        pos, rot = (x[None, [skeleton.index[n] for n in bound.part.joints]] for x in skeleton.rest_pose)
        ups = [skeleton.parents[skeleton.index[n]] for n in bound.part.joints]
        above = np.stack([skeleton.rest_pose[1][up] if up >= 0 else _NO_TURN for up in ups])
        posed = Posed(pos, rot, pos, above[None], bound.offsets[None])
        rest = mine.system.places(bound, posed, {})[control.name][0], _NO_TURN
        space = self.nodes[member.id, control.name, "space"]
        anchors = self._followed(bound, control, rest, rests)
        anchors.append(Followed(self.world, -1, -1, *rest))
        return BoundGuide(control, bound.who, space, space, -1, -1, anchors, swivel=bound.own[control.shows])

    def _followed(
        self, bound: Bound, control: Control, rest: tuple[Floats, Floats],
        rests: dict[tuple[str, ...], tuple[Floats, Floats]],
    ) -> list[Followed]:  # fmt: skip
        """What a control is tethered to; `rest`: where it is at rest."""
        member = bound.member
        found = []
        for tether in self.tethers:
            if (tether.member, tether.control) != (member.id, control.name):
                continue
            node = self._anchor(tether)
            if tether.offset is not None:
                reach = np.array(tether.offset[:3]), np.array(tether.offset[3:])
            elif tether.anchor_member == WORLD:
                reach = rest
            else:
                reach = _within(rest, rests[tether.anchor_member, tether.anchor])
            pair = []
            for what, released in (("position", tether.position), ("rotation", tether.rotation)):
                label = f"follows {tether.name}, {what}"
                channel = Channel(control.name, f"{tether.name}.{what}", "share", "", label)
                pair.append(self._channel(member, bound.part, channel) if released else -1)
                if released:
                    bound.own[control.name, channel.name] = pair[-1]
            slot, root, taken = self._size_of(tether, bound)
            way = self._way(bound, control, tether)
            found.append(Followed(node, pair[0], pair[1], *reach, slot, root, taken, way))
        return found

    def _way(self, bound: Bound, control: Control, tether: Tether) -> int:
        """First of the three channels of the way round to what a control is tethered to, -1 where they have no keys."""
        if not self.keyed & set(tether.ways):
            return -1
        found = len(self.channels)
        for axis in WAY:
            label = f"follows {tether.name}, way round {axis[-1]}"
            channel = Channel(control.name, f"{tether.name}.{axis}", "turn", "", label, seldom=True)
            bound.own[control.name, channel.name] = self._channel(bound.member, bound.part, channel)
        return found

    def _size_of(self, tether: Tether, bound: Bound) -> tuple[int, int, bool]:
        """Slot of the size of what is followed, the node whose stage writes it (-1 none), and whether the body takes it on."""
        whose = self._grown(tether) if self._grows(tether) else (tether.anchor_member, tether.anchor)
        slot = self._slots.get(whose, 0)
        if not slot:
            return 0, -1, False
        return slot, self.control_node(whose[0], self._root(*whose)), tether.scales and bound.part.grows

    def _described(self, tether: Tether) -> tuple[Part, Control] | None:
        """What a tether is on, with its part; None where that can't follow anything."""
        key = (tether.member, tether.control)
        return self._controls.get(key) or self._seldom.get(key)

    def _grown(self, tether: Tether) -> tuple[str, str]:
        """The control or joint that is as large as what a tether is on: a guide is as large as the joint beside it."""
        found = self._described(tether)
        beside = found[1].handle.idle_at if found and found[1].handle.computed else tether.control
        return tether.member, beside

    def _grows(self, tether: Tether) -> bool:
        """Whether a tether is to the world as it grows with the control's own body."""
        mine = self._grown(tether)
        return (
            tether.scales
            and tether.anchor_member == WORLD
            and mine not in self._bodies
            and self._slots.get(mine, 0) > 0
        )

    def rests_on(self, member: str, control: str) -> str:
        """The joint on which a control rests."""
        return self._controls[member, control][1].rests_on

    def control_node(self, member: str, control: str) -> int:
        """Node of a control, also where it has the name of a joint."""
        found = self.nodes.get((member, control, "control"))
        return self.nodes[member, control] if found is None else found

    def reads(self, member: str, name: str) -> str:
        """A joint or control as something to follow, as the animator reads it."""
        whose = self.scene.member(member)
        if len(whose.skeleton) == 1:
            return whose.name
        return f"{whose.name}, {self.words(member, name)}"

    def words(self, member: str, name: str) -> str:
        """What a joint or a control of a member is called beside the member's own name: no two read alike."""
        joints = self.scene.member(member).joint_words
        if name in joints:
            return joints[name]
        found = self._controls.get((member, name))
        if found is None:
            return name
        part, control = found
        if control.label == part.label:
            return f"control of the {part.label}"
        alone = self._labels[member, control.label] == 1 and control.label not in joints.values()
        return control.label if alone else f"{part.label}, {control.label}"

    def _anchor(self, tether: Tether) -> int:
        if self._grows(tether):
            return self.nodes[tether.member, self._root(*self._grown(tether)), "grown"]
        if tether.anchor_member == WORLD:
            return self.world
        node = self.nodes.get((tether.anchor_member, tether.anchor))
        if node is None:
            raise CoreError(
                f"The tether {tether.name} of {tether.control} follows {tether.anchor} of "
                f"{tether.anchor_member}, which is not in the cast."
            )
        return node

    def _check_tethers(self) -> None:
        for t in self.tethers:
            found = self._described(t)
            if found is None:
                raise CoreError(f"The tether {t.name} is on {t.control} of {t.member}, which can't follow anything.")
            wrong = {w for w in t.released if w not in found[1].releases}
            if wrong and found[1].is_joint:
                raise CoreError(
                    f"The tether {t.name} lets {t.control} of {t.member} follow in place too: a joint stays where it hangs, "
                    "and only its turn follows."
                )
            if wrong:
                raise CoreError(
                    f"The tether {t.name} lets {t.control} of {t.member} follow in {', '.join(sorted(wrong))}, which it can't."
                )

    @cached_property
    def most_anchors(self) -> int:
        """Greatest number of anchors of any control, own spaces included."""
        return max((len(c.anchors) for b in self.bounds.values() for c in b.followers.values()), default=1)

    @cached_property
    def most_joints(self) -> int:
        return max(len(b.nodes) for b in self.bounds.values())

    # --- rows -----------------------------------------------------------------------------------------

    def emitted(self, stage: int, code: int) -> Emitted:
        """The rows of a stage in a state of its switches, made when they are first needed."""
        found = self._emitted.get((stage, code))
        if found is None:
            with self._writing:
                one = self.stages[stage]
                state = one.state(code)
                runs = [tuple(run) for run in one.emit(self.tape, state)]
                reads = [int(self.writer[n]) for n in one.reads(state) if n != self.world]
                found = self._emitted[stage, code] = Emitted(runs, frozenset(one.channels(state)), reads)
        return found

    def planned(self, codes: Ints, nodes: Ints | None, first: float, last: float) -> Planned:
        """What is worked out where the switches of the stages have these codes: for all nodes or for those that are wanted.
        LoopError names who needs one another on frames first…last."""
        wanted = b"" if nodes is None else nodes.tobytes()
        key = (codes.tobytes(), wanted)
        found = self._planned.get(key)
        if found is None:
            if len(self._planned) >= PLANNED:
                self._planned.clear()
                self._ways.clear()
            # Mostly it is switches of what takes no part that are others than before.
            ways = self._ways.setdefault(wanted, [])
            found = next((p for p, state in ways if codes[p.order].tobytes() == state), None)
            if found is None:
                order = self._order(codes, nodes, first, last)
                found = self._made(order, codes)
                ways.append((found, codes[order].tobytes()))
            self._planned[key] = found
        return found

    def _made(self, order: list[int], codes: Ints) -> Planned:
        """These stages, in this order."""
        made = [self.emitted(s, int(codes[s])) for s in order]
        return Planned(
            order, np.array([run for m in made for run in m.runs], dtype=np.int64).reshape(-1, 4),
            frozenset[int]().union(*(m.channels for m in made)),
            frozenset[int]().union(*(self.stages[s].samples for s in order)),
        )  # fmt: skip

    def moved(self, planned: Planned, codes: Ints, channels: frozenset[int], nodes: Ints) -> tuple[Planned, set[int]]:
        """Those of the planned stages that other values of these channels move, and the nodes of all others that they read, or that
        are wanted."""
        moving: set[int] = set()
        for s in planned.order:
            one = self.emitted(s, int(codes[s]))
            if not channels.isdisjoint(one.channels) or not moving.isdisjoint(one.reads):
                moving.add(s)
        order = [s for s in planned.order if s in moving]
        read = {int(r) for s in order for r in self.emitted(s, int(codes[s])).reads} - moving
        still = {n for s in read for n in self.stages[s].writes}
        wanted = {n for n in nodes.tolist() if n != self.world and int(self.writer[n]) not in moving}
        return self._made(order, codes), still | wanted

    def _order(self, codes: Ints, nodes: Ints | None, first: float, last: float) -> list[int]:
        """Stages in an order in which each comes after what it reads."""
        order: list[int] = []
        mark = [0] * len(self.stages)
        path: list[int] = []
        state = codes.tolist()

        def visit(s: int) -> None:
            if mark[s] == 2:
                return
            if mark[s] == 1:
                loop = path[path.index(s) :]
                labels = list(dict.fromkeys(self.stages[i].label for i in loop))
                raise LoopError(labels, first, last)
            mark[s] = 1
            path.append(s)
            for read in self.emitted(s, state[s]).reads:
                visit(read)
            path.pop()
            mark[s] = 2
            order.append(s)

        wanted = range(len(self.stages)) if nodes is None else [int(self.writer[n]) for n in nodes if n != self.world]
        for s in wanted:
            visit(s)
        return order


class Planned(NamedTuple):
    """Stages in the order in which they are worked out, their runs (R, 4), the channels they need, the joints of captures."""

    order: list[int]
    runs: Ints
    channels: frozenset[int]
    samples: frozenset[int]


class Emitted(NamedTuple):
    """Rows of a stage in one state: runs, the channels they need, the stages that come before."""

    runs: list[tuple[int, ...]]
    channels: frozenset[int]
    reads: list[int]


#: States of its switches of which a rig remembers what is worked out there, at most.
PLANNED = 1024
#: Rigs that a scene keeps: those asked for last.
KEPT = 3
#: Takes of a scene are made ready by several threads.
_KEEPING = Lock()


def rig_of(
    scene: Scene, tethers: tuple[Tether, ...], captured: tuple[tuple[str, int], ...], keyed: frozenset[str],
    anchors: tuple[Anchor, ...], values: tuple[Recorded, ...], flipped: tuple[str, ...],
) -> Rig:  # fmt: skip
    """The rig of a scene with what one of its takes has; a scene keeps those that were asked for last."""
    kept: OrderedDict[tuple[object, ...], Rig] = scene.__dict__.setdefault("_rigs", OrderedDict())
    key = (tethers, captured, keyed, anchors, values, flipped)
    with _KEEPING:
        found = kept.get(key)
    found = found or Rig(scene, *key)
    with _KEEPING:
        kept[key] = found
        kept.move_to_end(key)
        while len(kept) > KEPT:
            kept.popitem(last=False)
    return found


def _within(what: tuple[Floats, Floats], anchor: tuple[Floats, Floats]) -> tuple[Floats, Floats]:
    """Place and rotation of something at rest, as seen from what it follows."""
    (rest_pos, rest_rot), (pos, rot) = what, anchor
    back = inverse(rot)
    return rotate(back, rest_pos - pos), multiply(back, rest_rot)
