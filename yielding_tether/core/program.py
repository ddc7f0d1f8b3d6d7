"""Evaluation: from a scene, a take and times to the world transforms of every joint and control.

Only what counts at a time is a dependence: a tether of weight zero is not, nor is the IK control of a limb that FK drives.
Times are grouped into spans with the same active dependences; each span has its own order, so two things may hold one
another in turn. A loop within one span is a LoopError that names who and when. Every time is treated by itself: any
subset of times, in any order, gives the same bits.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Hashable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np

from .cores import CORES, shared
from .curves import EMPTY, LEAVING, STEPPED, Curve, pack, sides
from .errors import CoreError
from .followers import BoundControl
from .kernels.block import BLOCK, NODE_ROWS, U
from .kernels.rows import Room, addresses
from .kernels.run import Curves, run
from .kernels.sample import halve, sample_packed
from .layers import Layering, flattened
from .parts.root import SIZE
from .progress import still_wanted
from .rig import Bound, Rig, rig_of
from .systems.system import Posed, Space
from .takes import HOLD, PIVOT, WAY, Scene, Take
from .transforms import Floats, Ints, inverse, rotate

_NONE = np.empty(0, dtype=np.int64)
_NO_VALUES = np.empty((0, 0))
#: Times that are worked out in one go where there may be many.
PIECE = 4096
#: Rows, of all times together, that are worth another core's while; and after how many it is worth a room of its own.
SHARE, WORTH = 4000, 40_000
#: Rows that whoever asks has worked out until the others are awake.
LATE = 1000


def _same(a: Mapping[str, object], b: Mapping[str, object]) -> bool:
    """Whether two maps hold the very same things: what is as long as a capture is not compared number by number."""
    return a.keys() == b.keys() and all(a[k] is b[k] for k in a)


def _bits(values: Floats) -> Ints:
    """What matters of the value of a switch: bit 0 above zero, bit 1 below one."""
    found: Ints = (values > 0.0) + 2 * (values < 1.0).astype(np.int64)
    return found


@dataclass
class Poses:
    """Everything at F times: `pos` (F, N, 3) metres and `rot` (F, N, 4) of all nodes in the world, `side` (F,) the side of
    each time, and `sizes` (F, S) of what has one, by slot; None where nothing has. Look nodes up in the program that made
    it; the last is the world itself."""

    times: Floats
    pos: Floats
    rot: Floats
    side: np.ndarray
    sizes: Floats | None = None
    #: Points (F, 3) about which controls turn, by the first of their channels, where they are not those of the take.
    pivots: dict[int, Floats] = field(default_factory=dict)

    def some(self, which: Ints) -> Poses:
        """Those of these times, by their indices."""
        sizes = None if self.sizes is None else self.sizes[which]
        points = {c: p[which] for c, p in self.pivots.items()}
        return Poses(self.times[which], self.pos[which], self.rot[which], self.side[which], sizes, points)

    def size(self, slot: int) -> Floats | None:
        """(F,) the size in a slot; None where it is one."""
        return None if self.sizes is None or not slot else self.sizes[:, slot]


def pieces(count: int, size: int = PIECE) -> Iterator[slice]:
    """Many times a piece after the other, so that the poses of no more than one are held."""
    return (slice(k, min(k + size, count)) for k in range(0, count, size))


def among(overrides: Mapping[int, float | Floats], some: slice | Ints) -> dict[int, float | Floats]:
    """Values that are put in place of what curves say, for a piece of the times."""
    return {c: v[some] if isinstance(v, np.ndarray) and v.ndim else v for c, v in overrides.items()}


class _Groups(NamedTuple):
    """Times grouped by what is active: `order` (F,) their indices, group after group; `starts` (G + 1,) where each begins
    and the last ends; the activity code of each stage in every group."""

    order: Ints
    starts: Ints
    codes: list[Ints]

    def frames(self, group: int) -> Ints:
        """Indices of the times of a group."""
        return self.order[self.starts[group] : self.starts[group + 1]]


def _grouped(found: Ints) -> tuple[Ints, Ints]:
    """Indices of times group by group, in order within each, and where each group begins and the last ends."""
    count = len(found)
    if found[0] == found[-1] and (count == 1 or not np.any(found != found[0])):
        return np.arange(count), np.array([0, count])
    order = np.argsort(found, kind="stable")
    cuts = np.flatnonzero(np.diff(found[order])) + 1
    return order, np.concatenate([[0], cuts, [count]])


@dataclass
class _Plan:
    """What one state of all switches needs: runs (R, 4) in order, packed rows and Euler channels to sample, joints of captures."""

    runs: Ints
    keyed: Ints
    turning: Ints
    samples: frozenset[int]


@dataclass(frozen=True)
class Still:
    """What other values of some channels do not move, at F times: `nodes` (G,), and `rows` (7 G, F) of place and rotation of each;
    None where all is worked out. To try many values costs no more than what they move."""

    channels: frozenset[int]
    nodes: Ints
    rows: Floats

    def some(self, which: slice | Ints) -> Still:
        """At some of the times."""
        return Still(self.channels, self.nodes, np.ascontiguousarray(self.rows[:, which]))


class Program:
    """A scene and a take made ready to evaluate. Building it checks every name the take uses; `on` makes another take of
    the same scene ready for less."""

    def __init__(self, scene: Scene, take: Take, rig: Rig | None = None) -> None:
        captured = tuple((id, c.offsets.shape[1]) for id, c in take.captures.items())
        keyed = frozenset(name for name in take.curves if name.endswith((f".{SIZE}", f".{HOLD}", *WAY, *PIVOT)))
        now = (take.tethers, captured, keyed, take.anchors, take.values, take.flipped)
        if (
            rig is None
            or rig.given is not scene
            or (rig.tethers, rig.captured, rig.keyed, rig.anchors, rig.values, rig.flipped) != now
        ):
            rig = rig_of(scene, *now)
        self.rig = rig
        self.scene = rig.scene
        self.take = take
        self.nodes = rig.nodes
        self.channels = rig.channels
        self.info = rig.info
        self.defaults = rig.defaults
        self.bounds = rig.bounds
        self.world = rig.world
        for name in take.curves:
            if name not in self.channels:
                raise CoreError(f"The take has keys for {name}, which nothing in the cast has.")
        self._pack()
        self._plans: dict[tuple[bytes, bytes, frozenset[int] | None], _Plan] = {}
        #: Rooms that nobody works in, each with how many Euler angles it has the sines and cosines of; by the part of the times
        #: that is worked out in it, so that a core mostly meets its own.
        self._rooms: dict[int, tuple[int, Room]] = {}
        self._worked = 0
        self._known_codes: dict[tuple[bytes, bytes], Ints] = {}
        #: What others have measured of it, by what they measured.
        self.measured: dict[Hashable, Any] = {}
        self._before: tuple[Take, dict[Hashable, Any]] = (take, {})
        self._lately: OrderedDict[tuple[bytes, bytes], _Groups] = OrderedDict()
        self._known_joins: dict[tuple[int, ...], tuple[Ints, Ints, Ints, Ints, Ints]] = {}

    def on(self, take: Take) -> Program:
        """Another take of the same scene; what does not depend on its curves is shared."""
        made = Program(self.rig.given, take, self.rig)
        made._before = (self.take, self.measured)
        return made

    def recalled(self, what: Hashable, nodes: Ints | Sequence[int]) -> Any:
        """What was measured of the take that this one was made from, where nothing that places these nodes is another now; None
        where it is not known."""
        before, measured = self._before
        found = measured.get(what)
        alike = before.layers == self.take.layers and before.tethers == self.take.tethers
        if found is None or not alike or not _same(before.captures, self.take.captures):
            return None
        names = (self.rig.names[c] for c in self.sources(nodes))
        return found if all(before.curves.get(n) is self.take.curves.get(n) for n in names) else None

    @cached_property
    def layering(self) -> Layering:
        """Its layers made ready."""
        return Layering(self.rig, self.take.layers)

    def _layered(self, at: Floats, side: np.ndarray) -> dict[int, Floats]:
        """Values (F,) of all channels with layers; few times asked for lately are remembered, since they are asked for again."""
        key = (at.tobytes(), side.tobytes())
        found = self._lately_layered.get(key)
        if found is None:
            if len(self._lately_layered) >= 8:
                self._lately_layered.popitem(last=False)
            found = self.layering.sums(lambda cs: self.base.sample(at, side, cs), at, side)
            if len(at) <= PIECE:
                self._lately_layered[key] = found
        return found

    @cached_property
    def _lately_layered(self) -> OrderedDict[tuple[bytes, bytes], dict[int, Floats]]:
        return OrderedDict()

    @cached_property
    def base(self) -> Program:
        """The take without its layers."""
        return self.on(replace(self.take, layers=())) if self.take.layers else self

    @cached_property
    def merged(self) -> Program:
        """The take with what its layers make in its curves."""
        return self.on(flattened(self)) if self.take.layers else self

    def with_curves(self, changed: Mapping[str, Curve]) -> Program:
        """The same take with these curves in place of its own."""
        return self.on(self.take.with_curves(changed))

    def _pack(self) -> None:
        """Lays out the curves: those that change are sampled, the others are values."""
        self._fixed = self.defaults.copy()
        keyed = []
        for name, kept in self.take.curves.items():
            c = self.channels[name]
            if kept.still is not None:
                self._fixed[c] = kept.still
            elif len(kept):
                keyed.append(c)
        self._keyed = np.array(sorted(keyed), dtype=np.int64)
        names = self.rig.names
        self._packed = pack([self.take.curves[names[c]] for c in self._keyed])
        self._keyed_row = {int(c): k for k, c in enumerate(self._keyed)}
        stages = self.rig.stages
        pairs = [(c, s, 2 * bit) for s, stage in enumerate(stages) for bit, c in enumerate(stage.switches)]
        self._switches, self._switch_stage, self._switch_shift = np.array(pairs, dtype=np.int64).reshape(-1, 3).T
        self._switch_bits = _bits(self._fixed[self._switches])
        self._moving_switches = np.flatnonzero(np.isin(self._switches, self._keyed))
        self._switch_curves = pack([self.take.curves[names[c]] for c in self._switches[self._moving_switches]])

    def _room(self) -> Room:
        """Room to work in, for one at a time."""
        values = np.repeat(self._fixed, BLOCK)
        work = np.zeros((self.rig.count, NODE_ROWS, BLOCK))
        work[self.world, -1] = 1.0
        most, joints = self.rig.most_anchors, self.rig.most_joints
        sampled = sum(count for _, count in self.rig.captured)
        return Room(
            values, np.zeros(2 * len(values)), work.ravel(), np.zeros(sampled * NODE_ROWS * BLOCK),
            np.empty(18 * BLOCK), np.empty(3 * NODE_ROWS * BLOCK), np.empty(max(3, joints) * 3 * BLOCK),
            np.empty((most, 4)), np.empty((2, most)), np.empty(BLOCK), np.empty(BLOCK, dtype=np.int64),
            np.ones(self.rig.slot_count * BLOCK),
        )  # fmt: skip

    # --- evaluating -----------------------------------------------------------------------------------

    def sample(
        self, times: Floats | Sequence[float], side: int | np.ndarray = LEAVING, channels: Ints | None = None
    ) -> Floats:
        """(C, F) values of these channels, or of all, at the frames `times`, on one side of split keys."""
        at = np.ascontiguousarray(times, dtype=np.float64)
        picked = np.arange(len(self.defaults)) if channels is None else channels
        values = np.repeat(self._fixed[picked, None], len(at), axis=1)
        which = sides(side, len(at))
        sums = (
            self._layered(at, which)
            if self.take.layers and self.layering.channels.intersection(picked.tolist())
            else {}
        )
        for r, c in enumerate(picked):
            if int(c) in sums:
                values[r] = sums[int(c)]
                continue
            k = self._keyed_row.get(int(c))
            if k is not None:
                sample_packed(self._packed.starts[k : k + 2], self._packed.cubics, at, which, values[r])
        return values

    def evaluate(
        self,
        times: Floats | Sequence[float],
        side: int | np.ndarray = LEAVING,
        overrides: Mapping[int, float | Floats] | None = None,
        only: Ints | Sequence[int] | None = None,
    ) -> Poses:
        """Poses at these frames; `side` (one for all or one each) matters only at split keys.

        `overrides` puts values in place of what the curves say, by channel index: a live drag. `only`: the nodes that
        are wanted, what they do not need is not worked out, and others mean nothing (not a number at both ends of the times); by
        default all but those that a system
        writes for itself, which are zero. Raises LoopError when parts need one
        another at the same time, Cancelled when nobody wants the work any more that asks.
        """
        still_wanted()
        at = np.ascontiguousarray(times, dtype=np.float64)
        which = sides(side, len(at))
        if len(at) > PIECE and self.take.captures:
            return self._in_pieces(at, which, overrides or {}, only)
        shape = (len(at), self.rig.shown)
        pos, rot = np.empty((*shape, 3)), np.empty((*shape, 4))
        if only is None:
            (nodes, gaps), missing = self._all_nodes, 0.0
        else:
            nodes, missing = self._wanted(only), np.nan
            gaps = self._gaps(nodes)
        # To write to all of what nobody asked for costs more than what was asked for.
        some = slice(None) if only is None else [0, -1]
        for first, last in gaps if len(at) else ():
            pos[some, first:last] = missing
            rot[some, first:last] = missing
        sizes = self._work_out(at, which, overrides or {}, None if only is None else nodes, nodes, nodes, pos, rot)
        return Poses(at, pos, rot, which, sizes if sizes.shape[1] else None)

    def _wanted(self, nodes: Ints | Sequence[int]) -> Ints:
        """Nodes that are wanted, in order, and the world, which always is."""
        return np.unique(np.append(np.asarray(nodes, dtype=np.int64), self.world))

    def _work_out(
        self, at: Floats, side: Ints, overrides: Mapping[int, float | Floats], wanted: Ints | None, nodes: Ints, into: Ints,
        pos: Floats, rot: Floats, still: Still | None = None,
    ) -> Floats:  # fmt: skip
        """Works out what places the nodes that are wanted, or all, on top of what is `still` where that is known, and writes some
        of them to columns of pos (F, K, 3) and rot (F, K, 4); returns sizes (F, S) of the slots, where there are some."""
        slots = self.rig.slot_count
        sizes = np.empty((len(at), slots if slots > 1 else 0))
        if not len(at):
            return sizes
        if self.take.layers and self.layering.channels:
            # What has layers comes as it is in the end: an unlayered take has the very same rows.
            overrides = {**self._layered(at, side), **overrides}
        over = np.array(list(overrides), dtype=np.int64)
        forced = np.empty((len(over), len(at)))
        for k, value in enumerate(overrides.values()):
            forced[k] = value
        known = self._switching.isdisjoint(overrides)
        groups = self._spans_lately(at, side) if known else self._spans(at, side, over, forced)
        plans = [self._plan(codes, at, groups.frames(g), wanted, still) for g, codes in enumerate(groups.codes)]
        # One call for all groups: handing the tables over costs more than a block of frames.
        spans, runs, keyed, turning, joints = self._joined(plans)
        spans[:, 0], spans[:, 1] = groups.starts[:-1], groups.starts[1:]
        euler = self.rig.tape.turning
        spun = np.array([c for c in over.tolist() if c in euler], dtype=np.int64) if len(over) else _NONE
        curves = Curves(
            self._packed.starts, self._packed.cubics, self._keyed, keyed, turning, over, forced, self._fixed[over], spun
        )
        ints, floats = self.rig.tape.arrays
        captured = self._captures(at, joints)
        stood = (still.nodes, still.rows) if still else (_NONE, _NO_VALUES)
        given = (
            addresses(), spans, groups.order, runs, nodes, into, at, side, curves, joints, captured, *stood, ints, floats, pos,
            rot, sizes,
        )  # fmt: skip
        cuts = self._cuts(len(at), runs, len(plans)) if len(at) >= BLOCK else []
        if cuts:
            shared(lambda k: self._work(k, cuts[k], cuts[k + 1], given), range(len(cuts) - 1))
        else:
            self._work(0, 0, len(at), given)
        return sizes

    def _cuts(self, times: int, runs: Ints, plans: int) -> list[int]:
        """Where work is cut that cores share, nothing where one does it: what a time costs goes by the rows that are run for it.
        The last part is that of whoever asks, who is at it while the others are still to be woken: it is as much larger."""
        work = times * int(runs[:, 3].sum()) // plans
        self._worked += work
        parts = min(CORES, work // SHARE)
        # A room for each of them must have been worth its while.
        if parts < 2 or (parts > len(self._rooms) and self._worked < WORTH):
            return []
        others = times * (work - LATE) // (work * parts)
        return [*(others * k for k in range(parts)), times]

    def _work(self, part: int, first: int, end: int, given: tuple[Any, ...]) -> None:
        """Runs rows over a part of the times, in a room that nobody else works in."""
        halved, room = self._ready(part)
        run(room, first, end, *given)
        self._rooms[part] = halved, room

    def track(
        self,
        times: Floats,
        side: int | Ints,
        nodes: Ints | Sequence[int],
        overrides: Mapping[int, float | Floats] | None = None,
        still: Still | None = None,
    ) -> tuple[Floats, Floats]:
        """Places (F, N, 3) and rotations (F, N, 4) of a few nodes at many times: only a piece of all is held at once; `still`: what
        is known of these nodes at these times; no other channels are overridden then."""
        every, which = np.ascontiguousarray(times, dtype=np.float64), sides(side, len(times))
        given, wanted = np.array(nodes, dtype=np.int64), self._wanted(nodes)
        pos, rot = np.empty((len(every), len(given), 3)), np.empty((len(every), len(given), 4))
        for some in pieces(len(every)):
            still_wanted()
            over = among(overrides or {}, some)
            self._work_out(
                every[some], which[some], over, wanted, given, np.arange(len(given)), pos[some], rot[some],
                still.some(some) if still else None,
            )  # fmt: skip
        return pos, rot

    def still(self, times: Floats, nodes: Ints | Sequence[int], channels: Ints) -> Still | None:
        """What other values of these channels leave where it is of what places these nodes; None where sizes or layers are."""
        moving = frozenset(channels.tolist())
        if self.rig.slot_count > 1 or self.take.layers or not self._switching.isdisjoint(moving):
            return None
        at, wanted, found = np.ascontiguousarray(times, dtype=np.float64), self._wanted(nodes), set[int]()
        groups = self._spans(at, sides(LEAVING, len(at)))
        for g, codes in enumerate(groups.codes):
            some = at[groups.frames(g)]
            planned = self.rig.planned(codes, wanted, float(some.min()), float(some.max()))
            found |= self.rig.moved(planned, codes, moving, wanted)[1]
        kept = np.array(sorted(found), dtype=np.int64)
        pos, rot = self.track(at, LEAVING, kept)
        rows = np.concatenate([pos, rot], axis=2).reshape(len(at), -1).T
        return Still(moving, kept, np.ascontiguousarray(rows))

    def sizes(self, times: Floats, side: int | Ints, node: int) -> Floats:
        """(F,) size of what stands at a node, at these times."""
        slot = self.rig.slot_of(node)
        if not slot:
            return np.ones(len(times))
        which = sides(side, len(times))
        root = self.rig.root_node(slot)
        found = np.ones(len(times))
        for some in pieces(len(times)):
            grown = self.evaluate(times[some], which[some], only=[root]).size(slot)
            assert grown is not None
            found[some] = grown
        return found

    def _in_pieces(
        self, at: Floats, side: Ints, overrides: Mapping[int, float | Floats], only: Ints | Sequence[int] | None
    ) -> Poses:
        """The same, a piece of the times after the other: captures are interpolated for all joints at once."""
        pos, rot = np.empty((len(at), self.rig.shown, 3)), np.empty((len(at), self.rig.shown, 4))
        sizes = []
        for some in pieces(len(at)):
            found = self.evaluate(at[some], side[some], among(overrides, some), only)
            pos[some], rot[some] = found.pos, found.rot
            if found.sizes is not None:
                sizes.append(found.sizes)
        return Poses(at, pos, rot, side, np.concatenate(sizes) if sizes else None)

    def _gaps(self, nodes: Ints) -> list[tuple[int, int]]:
        """Runs of nodes that are not among these (in order)."""
        edges = np.concatenate([[-1], nodes, [self.rig.shown]])
        before = np.flatnonzero(np.diff(edges) > 1)
        return [(int(edges[k]) + 1, int(edges[k + 1])) for k in before]

    def _joined(self, plans: list[_Plan]) -> tuple[Ints, Ints, Ints, Ints, Ints]:
        """Spans (G, 8) of several plans, their frames left open, with runs, packed rows and Euler channels end to end, and joints
        of captures that any of them reads."""
        key = tuple(map(id, plans))
        made = self._known_joins.get(key)
        if made is None:
            spans = np.zeros((len(plans), 8), dtype=np.int64)
            spans[:, 3::2] = np.cumsum([[len(p.runs), len(p.keyed), len(p.turning)] for p in plans], axis=0)
            spans[1:, 2::2] = spans[:-1, 3::2]
            made = self._known_joins[key] = (
                spans, np.concatenate([p.runs for p in plans]), np.concatenate([p.keyed for p in plans]),
                np.concatenate([p.turning for p in plans]),
                np.array(sorted(frozenset[int]().union(*(p.samples for p in plans))), dtype=np.int64),
            )  # fmt: skip
        return made[0].copy(), *made[1:]

    @cached_property
    def _all_nodes(self) -> tuple[Ints, list[tuple[int, int]]]:
        """All but those that a system writes for itself while it drives, and where those are."""
        own = [node for bound in self.rig.bounds.values() for node in bound.extra.values()]
        nodes = np.setdiff1d(np.arange(self.rig.shown), own)
        return nodes, self._gaps(nodes)

    def _ready(self, part: int) -> tuple[int, Room]:
        """How many Euler angles do not change, and a room that nobody works in with the sines and cosines of those."""
        found = self._rooms.pop(part, None)
        halved, room = found or (0, self._room())
        if halved != len(self.rig.tape.turning):
            # Rows are made as they are first needed, and may bring angles that nobody asked for before.
            angles = self.rig.tape.angles
            halve(room.values, angles, U(0), U(len(angles)), U(BLOCK), room.waves)
            halved = len(angles)
        return halved, room

    def _captures(self, at: Floats, joints: Ints) -> Floats:
        """(7 K, F) local places and rotations of joints (K,) of the captures, numbered through all of them, in order of these."""
        found, first = [], 0
        for capture in self.take.captures.values():
            last = first + capture.offsets.shape[1]
            mine = joints[(joints >= first) & (joints < last)] - first
            if len(mine):
                found.append(capture.at(at, mine))
            first = last
        if len(found) == 1:
            return found[0]
        return np.concatenate(found) if found else np.empty((0, len(at)))

    @cached_property
    def _switching(self) -> frozenset[int]:
        """Channels by whose values activity goes."""
        return frozenset(self._switches.tolist())

    def _spans_lately(self, at: Floats, side: np.ndarray) -> _Groups:
        """Groups of times with the same activity; those asked for lately are remembered, since the same times are
        mostly asked for again."""
        if len(at) == 1:
            return self._spans(at, side)
        key = (at.tobytes(), side.tobytes())
        found = self._lately.get(key)
        if found is None:
            if len(self._lately) >= 4:
                self._lately.popitem(last=False)
            found = self._lately[key] = self._spans(at, side)
        return found

    def _spans(self, at: Floats, side: np.ndarray, over: Ints = _NONE, forced: Floats = _NO_VALUES) -> _Groups:
        """Groups of times with the same activity.

        at, side: (F,); over (K,), forced (K, F): channels whose values are put in place of the curves'."""
        forcing = np.flatnonzero((self._switches[:, None] == over).any(axis=1)) if len(over) else _NONE
        if self._steps is not None and not len(forcing):
            cuts, known, states = self._steps
            found = np.searchsorted(cuts, at, side="right")
            if side.any():
                found = np.where(side == LEAVING, found, np.searchsorted(cuts, at, side="left"))
            found = states[found]
            order, starts = _grouped(found)
            return _Groups(order, starts, [known[g] for g in found[order[starts[:-1]]]])
        moving = self._moving_switches
        rows = np.empty((len(moving), len(at)))
        sample_packed(*self._switch_curves, at, side, rows.reshape(-1))
        if len(forcing):
            every = np.union1d(moving, forcing)
            whole = np.empty((len(every), len(at)))
            whole[np.isin(every, moving)] = rows
            for k, c in enumerate(over):
                whole[self._switches[every] == c] = forced[k]
            moving, rows = every, whole
        bits = _bits(rows)
        if len(at) == 1:
            return _Groups(np.zeros(1, dtype=np.int64), np.array([0, 1]), [self._codes(moving, bits[:, 0])])
        found = np.zeros(len(at), dtype=np.int64)
        for n, row in enumerate(bits):
            if n and n % 28 == 0:
                # Numbered anew before the code runs out of bits.
                found = np.unique(found, return_inverse=True)[1].ravel()
            found = 4 * found + row
        order, starts = _grouped(found)
        return _Groups(order, starts, [self._codes(moving, bits[:, order[k]]) for k in starts[:-1]])

    @cached_property
    def _steps(self) -> tuple[Floats, list[Ints], Ints] | None:
        """Where all switches only step: the times at which they do, the codes that occur, and which of them holds before,
        between and after these times; None where one of them goes over smoothly."""
        names = self.rig.names
        curves = [self.take.curves[names[c]] for c in self._switches[self._moving_switches]]
        if any(np.any(c.marks[:-1, 0] != STEPPED) for c in curves):
            return None
        cuts = np.unique(np.concatenate([c.times for c in curves])) if curves else np.empty(0)
        edges = np.concatenate([[cuts[0] - 1.0], cuts, [cuts[-1] + 1.0]]) if len(cuts) else np.zeros(2)
        at = 0.5 * (edges[1:] + edges[:-1])
        rows = np.empty((len(curves), len(at)))
        sample_packed(*self._switch_curves, at, sides(LEAVING, len(at)), rows.reshape(-1))
        bits = _bits(rows)
        known: dict[bytes, int] = {}
        codes: list[Ints] = []
        states = np.empty(len(at), dtype=np.int64)
        for k in range(len(at)):
            key = bits[:, k].tobytes()
            if key not in known:
                known[key] = len(codes)
                codes.append(self._codes(self._moving_switches, bits[:, k]))
            states[k] = known[key]
        return cuts, codes, states

    def _codes(self, moving: Ints, bits: Ints) -> Ints:
        """Activity code of each stage where the switches `moving` have these bits (K,), the others those they have
        without keys."""
        key = (moving.tobytes(), bits.tobytes())
        codes = self._known_codes.get(key)
        if codes is None:
            now = self._switch_bits.copy()
            now[moving] = bits
            codes = np.zeros(len(self.rig.stages), dtype=np.int64)
            np.add.at(codes, self._switch_stage, now << self._switch_shift)
            self._known_codes[key] = codes
        return codes

    def _plan(self, codes: Ints, at: Floats, frames: Ints, nodes: Ints | None, still: Still | None = None) -> _Plan:
        """Rows to run where the stages have these codes, for all nodes or for those that are wanted."""
        key = (codes.tobytes(), b"" if nodes is None else nodes.tobytes(), still.channels if still else None)
        plan = self._plans.get(key)
        if plan is None:
            made = self.rig.planned(codes, nodes, float(at[frames].min()), float(at[frames].max()))
            if still and nodes is not None:
                made, _ = self.rig.moved(made, codes, still.channels, nodes)
            keyed = sorted(made.channels & self._keyed_row.keys())
            plan = _Plan(
                made.runs,
                np.array([self._keyed_row[c] for c in keyed], dtype=np.int64),
                np.array([c for c in keyed if c in self.rig.tape.turning], dtype=np.int64),
                made.samples,
            )
            self._plans[key] = plan
        return plan

    def check_loops(self) -> None:
        """LoopError if any frame of the take, or any time at which a switch changes, has a loop."""
        times = set(self.take.frames.tolist())
        for c in np.unique(self._switches).tolist():
            keys = self.take.curves.get(self.rig.names[c], EMPTY).times
            times.update(keys.tolist())
            times.update((0.5 * (keys[1:] + keys[:-1])).tolist())
        at = np.array(sorted(times))
        for side in (0, 1):
            groups = self._spans(at, sides(side, len(at)))
            for g, codes in enumerate(groups.codes):
                self._plan(codes, at, groups.frames(g), None)

    # --- reading --------------------------------------------------------------------------------------

    def sources(self, nodes: Sequence[int] | Ints, times: Floats | None = None) -> set[int]:
        """Channels that take part in placing these nodes at any of these times, upstream ones included; without times anywhere in
        the take, and with those that decide what drives."""
        at = self.take.frames if times is None else np.asarray(times, dtype=np.float64)
        spans = self._take_spans if times is None else self._spans(at, sides(LEAVING, len(at)))
        found: set[int] = set()
        for g, codes in enumerate(spans.codes):
            some = at[spans.frames(g)]
            made = self.rig.planned(codes, np.asarray(nodes, dtype=np.int64), float(some.min()), float(some.max()))
            found |= made.channels
            if times is None:
                found.update(c for s in made.order for c in self.rig.stages[s].switches)
        return found

    def sources_of(self, bound: Bound) -> set[int]:
        """Channels that take part in a part's motion anywhere in the take, with its own idle ones and its guide."""
        return set(bound.own.values()) | self.sources(self.fit_nodes([bound]))

    @cached_property
    def _take_spans(self) -> _Groups:
        return self._spans(self.take.frames, sides(LEAVING, len(self.take.frames)))

    def key_times(self, channels: Sequence[int] | set[int] | None = None) -> Floats:
        """All times at which one of these channels, or any channel at all, has a key; in order."""
        if channels is None:
            return self._every_key_time
        times = [k.times for c in channels for k in self.curves_of(c)]
        return np.unique(np.concatenate(times)) if times else np.empty(0)

    @cached_property
    def _every_key_time(self) -> Floats:
        times = [c.times for c in self.take.curves.values()]
        for layer in self.layering.layers if self.take.layers else ():
            times += [layer.weight.times, *(c.times for c in layer.curves.values())]
        return np.unique(np.concatenate(times)) if times else np.empty(0)

    def curve(self, channel: int) -> Curve:
        """The keys of a channel."""
        return self.take.curves.get(self.rig.names[channel], EMPTY)

    def curves_of(self, channel: int) -> list[Curve]:
        """The keys of a channel, and those of all that lies on top of it."""
        found, name = [self.curve(channel)], self.rig.names[channel]
        for layer in self.layering.layers if self.take.layers else ():
            if name in layer.curves:
                found += [layer.curves[name], layer.weight]
        return found

    def joints(self, members: Sequence[str] | None = None) -> tuple[list[tuple[str, str]], Ints]:
        """Names (member, joint) and nodes of all joints of these members, or of the whole cast."""
        if members is None:
            return self.rig.joints
        names = [(m.id, j.name) for m in self.scene.members if m.id in members for j in m.skeleton.joints]
        return names, np.array([self.nodes[n] for n in names], dtype=np.int64)

    def reading(self, name: str) -> str:
        """A channel of this name as the animator reads it: its part, the joint of it where it has more than one, the value."""
        found = self.channels.get(name)
        if found is None:
            return name
        _, part, channel = self.info[found]
        of = part.headings.get(channel.control, "")
        return ", ".join(dict.fromkeys(w for w in (part.label, of, channel.label or channel.name) if w))

    def channel_names(self) -> list[str]:
        return self.rig.names

    def bound(self, member: str, part: str) -> Bound:
        """A part made ready; CoreError if there is none."""
        found = self.bounds.get((member, part))
        if found is None:
            self.scene.member(member).part(part)
            raise CoreError(f"{member} has no part {part}.")
        return found

    def posed(self, bound: Bound, poses: Poses) -> Posed:
        """A part's joints in these poses as its systems' fits read them."""
        pos, rot = np.ascontiguousarray(poses.pos[:, bound.nodes]), np.ascontiguousarray(poses.rot[:, bound.nodes])
        above_pos, above_rot = poses.pos[:, bound.above], np.ascontiguousarray(poses.rot[:, bound.above])
        offsets = np.repeat(bound.offsets[None], len(pos), axis=0)
        size = poses.size(bound.body.slot if bound.body else bound.slot)
        if size is not None and not bound.body:
            offsets *= size[:, None, None]
        loose = np.flatnonzero((bound.moving[:, 0] >= 0) | (bound.samples >= 0))
        if len(loose):
            back = inverse(above_rot[:, loose])
            offsets[:, loose] = rotate(back, pos[:, loose] - above_pos[:, loose])
        spaces = {
            name: Space(
                np.ascontiguousarray(poses.pos[:, c.space]),
                np.ascontiguousarray(poses.rot[:, c.space]),
                poses.size(c.slot),
                self.pivot(c, poses),
            )
            for name, c in bound.followers.items()
        }
        sampled = None
        if bound.captured:
            rows = self._captures(np.ascontiguousarray(poses.times), np.maximum(bound.samples, 0)).reshape(
                -1, NODE_ROWS, len(pos)
            )
            moved = np.ascontiguousarray(np.moveaxis(rows, 2, 0))
            sampled = moved[..., :3], moved[..., 3:]
        given = next((g for s in bound.systems.values() if (g := s.system.given(bound, poses)) is not None), None)
        about = None
        if bound.body:
            about = self.sample(poses.times, poses.side, np.array(bound.body.about)).T
        return Posed(pos, rot, above_pos, above_rot, offsets, spaces, sampled, given, size, about)

    def pivot(self, control: BoundControl, poses: Poses) -> Floats | None:
        """(F, 3) point about which a control turns in these poses, in the control; None where that has no keys."""
        if control.pivot < 0:
            return None
        found = poses.pivots.get(control.pivot)
        return self.sample(poses.times, poses.side, control.pivot + np.arange(3)).T if found is None else found

    def computed(
        self, bound: Bound, poses: Poses, values: Mapping[int, float] | None = None
    ) -> dict[str, Floats]:  # fmt: skip
        """(F, 3) places of a part's computed controls in these poses; `values` in place of what the curves say, by channel."""
        still = [c for c in bound.own.values() if not self.info[c][2].poses]
        sampled = self.sample(poses.times, poses.side, np.array(still, dtype=np.int64))
        now = {c: np.full(len(poses.times), values[c]) if values and c in values else sampled[k]
               for k, c in enumerate(still)}  # fmt: skip
        posed = self.posed(bound, poses)
        found: dict[str, Floats] = {}
        for mine in bound.systems.values():
            found |= mine.system.places(bound, posed, now)
        return found

    def fit_nodes(self, bounds: Sequence[Bound]) -> Ints:
        """Nodes that fits of these parts read: their joints, what they hang from, what gives them turns, and the spaces of their
        controls."""
        found: list[int] = []
        for b in bounds:
            found += [*b.nodes.tolist(), *b.above.tolist(), *b.givers, *(c.space for c in b.followers.values())]
        return np.unique(np.array(found, dtype=np.int64))

    def now(self, frame: float, channels: Ints | Sequence[int], side: int = LEAVING) -> Floats:
        """(K,) values of channels at one frame."""
        return self.sample([frame], side, np.asarray(channels, dtype=np.int64))[:, 0]


def evaluate(scene: Scene, take: Take, times: Floats | Sequence[float], side: int = LEAVING) -> Poses:
    """Poses of a take at these frames. Keep a `Program` when asking more than once."""
    return Program(scene, take).evaluate(times, side)
