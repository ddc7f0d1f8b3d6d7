"""Evaluation: from a scene, a take and times to the world transforms of every joint and control.

The nodes of the graph are *stages of parts*: the space and place of a control, the joints of a part. Only what
counts at a time is a dependence: a tether of weight zero is not, nor is the IK control of a limb that FK
drives. Times are grouped into spans with the same active dependences; each span has its own order, so two
things may hold one another in turn. A loop within one span is a LoopError that names who and when.

Every kernel treats each time by itself: any subset of times, in any order, gives the same bits.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np

from . import solver
from .block import BLOCK, NODE_ROWS
from .cast import (
    IK_CHANNELS,
    ROTATION,
    TRANSLATION,
    Channel,
    FkPart,
    FreePart,
    LimbPart,
    Member,
    Part,
    channel_id,
)
from .curves import EMPTY, LEAVING, pack, sample_packed, sides
from .errors import CoreError, LoopError
from .skeleton import Skeleton
from .solver import CONTROL, FK, LIMB, Controls, Joints, Limbs, Room, Sampled
from .systems import captured, two_segment
from .takes import WORLD, Scene, Take, Tether
from .transforms import EULER_SIGNS, ORDERS, Floats, Ints, inverse, multiply, rotate

_NO_OFFSETS = np.empty((0, 0, 3))
_NO_TURNS = np.empty((0, 0, 4))
_NONE = np.empty(0, dtype=np.int64)
_NO_VALUES = np.empty((0, 0))


def _bits(values: Floats) -> Ints:
    """What matters of the value of a switch: bit 0 above zero, bit 1 below one."""
    found: Ints = (values > 0.0) + 2 * (values < 1.0).astype(np.int64)
    return found


@dataclass
class Poses:
    """Everything at F times: `pos` (F, N, 3) metres and `rot` (F, N, 4) of all nodes in the world, and
    `side` (F,) the side of each time. Look nodes up in the program that made it."""

    times: Floats
    pos: Floats
    rot: Floats
    side: np.ndarray


Reads = Callable[[int], Sequence[int]]


@dataclass
class Stage:
    """One step of the evaluation: the nodes it writes, the nodes it reads when its activity is a given code."""

    label: str
    writes: tuple[int, ...]
    reads: Reads
    #: Kind, first row and number of rows in the solver's tables.
    rows: tuple[int, int, int]
    #: All channels the stage uses.
    channels: tuple[int, ...]
    #: Channels whose being nonzero (bit 2k) and below one (bit 2k + 1) decides what is read.
    switches: tuple[int, ...] = ()


@dataclass
class Limb:
    """Where a limb's numbers are: nodes of its joints, of its IK control and that control's space, of what it
    hangs from (-1 the world), its channels (`guide`: how far the bend guide stands), and its shape."""

    member: Member
    part: LimbPart
    parent: int
    nodes: tuple[int, int, int]
    space: int
    target: int
    fk: Ints
    ik: Ints
    guide: int
    drive: int
    captured: int
    geometry: two_segment.Geometry
    locked: frozenset[int] = field(default_factory=frozenset)

    @property
    def switches(self) -> list[int]:
        """Channels that say what drives: the driver and, under a capture, its share."""
        return [self.drive, self.captured] if self.captured >= 0 else [self.drive]


class _Rows:
    """The solver's tables while they are being filled."""

    def __init__(self) -> None:
        self.node: list[int] = []
        self._joints: list[tuple[object, ...]] = []
        self._controls: list[tuple[object, ...]] = []
        self._limbs: list[tuple[object, ...]] = []
        self._start = [0]
        self._anchors: list[int] = []
        self._weights: list[tuple[int, int]] = []
        self._reach: list[tuple[Floats, Floats]] = []

    def add_joint(
        self, skeleton: Skeleton, name: str, channels: list[int], order: str, parent: int, node: int, share: int,
        sample: int,
    ) -> None:  # fmt: skip
        joint = skeleton.joints[skeleton.index[name]]
        self.node.append(node)
        self._joints.append(
            (
                channels,
                EULER_SIGNS[ORDERS.index(order)],
                parent,
                node,
                share,
                sample,
                joint.offset,
                joint.rest,
            )
        )

    def add_control(
        self, channels: list[int], order: str, share: int, sample: int, space: int, node: int, anchors: list[int],
        weights: list[tuple[int, int]], reach: list[tuple[Floats, Floats]],
    ) -> int:  # fmt: skip
        self._controls.append((channels, EULER_SIGNS[ORDERS.index(order)], share, sample, space, node))
        self._anchors += anchors
        # The own space has no weight of its own: it takes what is missing.
        self._weights += [*weights, (-1, -1)]
        self._reach += reach
        self._start.append(len(self._anchors))
        return len(self._controls) - 1

    def add_limb(self, *row: object) -> int:
        self._limbs.append(row)
        return len(self._limbs) - 1

    def tables(self, world: int) -> tuple[Joints, Controls, Limbs]:
        """The tables; `world`: the node that stands for it."""

        def column(rows: list[tuple[object, ...]], k: int, width: int = 0, kind: type = np.int64) -> np.ndarray:
            shape = (len(rows), width) if width else (len(rows),)
            return np.ascontiguousarray(np.array([row[k] for row in rows], dtype=kind).reshape(shape))

        def nodes(found: np.ndarray) -> Ints:
            return np.where(found < 0, world, found)

        j, c, m = self._joints, self._controls, self._limbs
        return (
            Joints(
                column(j, 0, 6), column(j, 1, 4, np.float64), nodes(column(j, 2)), column(j, 3), column(j, 4),
                column(j, 5), column(j, 6, 3, np.float64), column(j, 7, 4, np.float64),
            ),
            Controls(
                column(c, 0, 6), column(c, 1, 4, np.float64), column(c, 2), column(c, 3), column(c, 4), column(c, 5),
                np.array(self._start, dtype=np.int64), nodes(np.array(self._anchors, dtype=np.int64)),
                np.array(self._weights, dtype=np.int64).reshape(-1, 2),
                np.array([r[0] for r in self._reach]).reshape(-1, 3),
                np.array([r[1] for r in self._reach]).reshape(-1, 4),
            ),
            Limbs(
                column(m, 0), nodes(column(m, 1)), column(m, 2), column(m, 3), column(m, 4), column(m, 5, 10),
                column(m, 6, 9, np.float64), column(m, 7), column(m, 8, 18, np.float64),
            ),
        )  # fmt: skip


class Program:
    """A scene and a take made ready to evaluate. Building it checks every name the take uses."""

    def __init__(self, scene: Scene, take: Take) -> None:
        self.scene = scene
        self.take = take
        #: Node of each joint or control by (member, name); the space of a control by (member, name, "space").
        self.nodes: dict[tuple[str, ...], int] = {}
        self.channels: dict[str, int] = {}
        self.info: list[tuple[str, Part | None, Channel]] = []
        self._defaults: list[float] = []
        self.limbs: dict[tuple[str, str], Limb] = {}
        self._stages: list[Stage] = []
        self._orders: dict[bytes, Ints] = {}
        self._rows = _Rows()
        self._place_nodes()
        rests = self._rest_places()
        for member in scene.members:
            for part in member.parts:
                self._add_part(member, part, rests)
        self._check_tethers()
        for name in take.curves:
            if name not in self.channels:
                raise CoreError(f"The take has keys for {name}, which nothing in the cast has.")
        self.defaults = np.array(self._defaults)
        self._tables = self._rows.tables(len(self.nodes))
        self._pack()
        pairs = [(c, s, 2 * bit) for s, stage in enumerate(self._stages) for bit, c in enumerate(stage.switches)]
        self._switches, self._switch_stage, self._switch_shift = np.array(pairs, dtype=np.int64).reshape(-1, 3).T
        self._switch_bits = _bits(self._fixed[self._switches])
        self._moving_switches = np.flatnonzero(np.isin(self._switches, self._keyed))
        names = list(self.channels)
        self._switch_curves = pack([self.take.curves[names[c]] for c in self._switches[self._moving_switches]])
        self._known_codes: dict[tuple[bytes, bytes], Ints] = {}
        self._writer = np.full(len(self.nodes), -1, dtype=np.int64)
        for s, stage in enumerate(self._stages):
            self._writer[list(stage.writes)] = s

    # --- building -------------------------------------------------------------------------------------

    def _place_nodes(self) -> None:
        for member in self.scene.members:
            for joint in member.skeleton.joints:
                self.nodes[member.id, joint.name] = len(self.nodes)
            for part in member.parts:
                if isinstance(part, FreePart):
                    self.nodes[member.id, part.joint, "space"] = len(self.nodes)
                elif isinstance(part, LimbPart):
                    self.nodes[member.id, part.ik] = len(self.nodes)
                    self.nodes[member.id, part.ik, "space"] = len(self.nodes)

    def _rest_places(self) -> dict[tuple[str, ...], tuple[Floats, Floats]]:
        """Rest position (3,) and rotation (4,) in the world of every joint and control."""
        rests: dict[tuple[str, ...], tuple[Floats, Floats]] = {}
        for member in self.scene.members:
            pos, rot = member.skeleton.rest_pose
            for j, joint in enumerate(member.skeleton.joints):
                rests[member.id, joint.name] = (pos[j], rot[j])
            for part in member.parts:
                if isinstance(part, LimbPart):
                    rests[member.id, part.ik] = rests[member.id, part.joints[2]]
        return rests

    def _channel(self, member: Member, part: Part | None, channel: Channel, default: float | None = None) -> int:
        name = channel_id(member.id, channel.control, channel.name)
        self.channels[name] = len(self.channels)
        self.info.append((member.id, part, channel))
        self._defaults.append(channel.default if default is None else default)
        return self.channels[name]

    def _add_part(self, member: Member, part: Part, rests: dict[tuple[str, ...], tuple[Floats, Floats]]) -> None:
        own = {(c.control, c.name): self._channel(member, part, c) for c in part.channels()}
        has_capture = member.id in self.take.captures
        share = self._channel(member, part, Channel(part.name, "captured", "captured"), 1.0) if has_capture else -1
        if isinstance(part, FreePart):
            self._add_control(member, part, part.joint, -1, part.order, own, rests, share)
            return
        nodes = tuple(self.nodes[member.id, name] for name in part.joints)
        label = f"{member.name}'s {part.label}"
        first = len(self._rows.node)
        chans = []
        for name, order in zip(part.joints, part.orders, strict=True):
            row = [own.get((name, c), -1) for c in (*TRANSLATION, *ROTATION)]
            chans.append(row)
            self._rows.add_joint(
                member.skeleton, name, row, order, self._above(member, name), self.nodes[member.id, name], share,
                self._sample(member, name),
            )  # fmt: skip
        if isinstance(part, FkPart):
            outer = tuple({self._above(member, name) for name in part.joints} - set(nodes))
            used = (*own.values(), *([share] if has_capture else []))
            self._stages.append(Stage(label, nodes, lambda code: outer, (FK, first, len(nodes)), used))
            return
        parent = self._above(member, part.joints[0])
        control = self._add_control(member, part, part.ik, parent, part.end_order, own, rests, -1)
        ik = np.array([own[part.ik, c] for c in IK_CHANNELS])
        drive = own[part.name, "drive"]
        geometry = two_segment.geometry(member.skeleton, part)

        def reads(code: int) -> Sequence[int]:
            # bit 0: the driver is above 0; bit 3: the captured share is below 1.
            return (parent, control) if code & 1 and (share < 0 or code & 8) else (parent,)

        switches = (drive,) if share < 0 else (drive, share)
        # The first six IK channels belong to the stage of the control.
        used = tuple({*own.values(), *switches} - set(ik[:6].tolist()) - {own[part.ik, "guide"]})
        rigid = share < 0 and not any(part.moves)
        form = two_segment.shape(tuple(geometry.offsets[1]), tuple(geometry.offsets[2]), geometry.constants)
        table_row = self._rows.add_limb(
            first, parent, control, drive, share, ik, geometry.constants, rigid, np.hstack(form)
        )
        self._stages.append(Stage(label, nodes, reads, (LIMB, table_row, 1), used, switches))
        self.limbs[member.id, part.name] = Limb(
            member, part, parent, (nodes[0], nodes[1], nodes[2]), self.nodes[member.id, part.ik, "space"], control,
            np.array(chans, dtype=np.int64), ik, own[part.ik, "guide"], drive, share, geometry,
            frozenset(self._locked(part, own)),
        )  # fmt: skip

    def _sample(self, member: Member, joint: str) -> int:
        """Joint of the captures side by side, or -1."""
        start = 0
        for id, cap in self.take.captures.items():
            if id == member.id:
                return start + member.skeleton.index[joint]
            start += cap.offsets.shape[1]
        return -1

    def _locked(self, part: LimbPart, own: dict[tuple[str, str], int]) -> list[int]:
        found = []
        for name in part.locked:
            control, _, channel = name.rpartition(".")
            key = (control or part.ik, channel)
            if key not in own:
                raise CoreError(f"{part.label} has no channel {name} to lock.")
            found.append(own[key])
        return found

    def _above(self, member: Member, joint: str) -> int:
        up = member.skeleton.parents[member.skeleton.index[joint]]
        return self.nodes[member.id, member.skeleton.joints[up].name] if up >= 0 else -1

    def _add_control(
        self, member: Member, part: Part, control: str, own_space: int, order: str,
        own: dict[tuple[str, str], int], rests: dict[tuple[str, ...], tuple[Floats, Floats]], share: int,
    ) -> int:  # fmt: skip
        """Adds the stage of one control that can be tethered; returns its node."""
        rest_pos, rest_rot = rests[member.id, control]
        mine = [t for t in self.take.tethers if t.member == member.id and t.control == control]
        anchors: list[int] = []
        reach: list[tuple[Floats, Floats]] = []
        weights: list[tuple[int, int]] = []
        for tether in mine:
            anchors.append(self._anchor(tether))
            if tether.offset is not None:
                reach.append((np.array(tether.offset[:3]), np.array(tether.offset[3:])))
            elif tether.anchor_member == WORLD:
                reach.append((rest_pos, rest_rot))
            else:
                a_pos, a_rot = rests[tether.anchor_member, tether.anchor]
                back = inverse(a_rot)
                reach.append((rotate(back, rest_pos - a_pos), multiply(back, rest_rot)))
            pair = [
                self._channel(member, part, Channel(control, f"{tether.name}.{what}", "tether")) if released else -1
                for what, released in (("position", tether.position), ("rotation", tether.rotation))
            ]
            weights.append((pair[0], pair[1]))
        anchors.append(own_space)
        if own_space < 0:
            reach.append((rest_pos, rest_rot))
        else:
            above = next(n for (m, n, *rest), i in self.nodes.items() if i == own_space)
            a_pos, a_rot = rests[member.id, above]
            back = inverse(a_rot)
            reach.append((rotate(back, rest_pos - a_pos), multiply(back, rest_rot)))
        chans = [own[control, c] for c in (*TRANSLATION, *ROTATION)]
        node = self.nodes[member.id, control]
        space = self.nodes[member.id, control, "space"]
        row = self._rows.add_control(
            chans,
            order,
            share,
            self._sample(member, control) if share >= 0 else -1,
            space,
            node,
            anchors,
            weights,
            reach,
        )
        flat = [c for pair in weights for c in pair]
        switches = tuple(c for c in flat if c >= 0)

        def reads(code: int) -> Sequence[int]:
            found = [own_space]
            bit = 0
            for k, pair in enumerate(weights):
                for c in pair:
                    if c >= 0:
                        if code >> (2 * bit) & 1:
                            found.append(anchors[k])
                        bit += 1
            if len(mine) and own_space >= 0 and self._own_idle(weights, code):
                found.remove(own_space)
            return found

        used = (*chans, *switches, *([share] if share >= 0 else []))
        label = f"{member.name}'s {part.label}"
        self._stages.append(Stage(label, (space, node), reads, (CONTROL, row, 1), used, switches))
        return node

    @staticmethod
    def _own_idle(weights: list[tuple[int, int]], code: int) -> bool:
        """Whether one anchor holds position and one holds rotation fully, so the own space is not read."""
        full = [False, False]
        bit = 0
        for pair in weights:
            for what, c in enumerate(pair):
                if c >= 0:
                    # Above zero and not below one.
                    full[what] |= (code >> (2 * bit)) & 3 == 1
                    bit += 1
        return all(full)

    def _anchor(self, tether: Tether) -> int:
        if tether.anchor_member == WORLD:
            return -1
        node = self.nodes.get((tether.anchor_member, tether.anchor))
        if node is None:
            raise CoreError(
                f"The tether {tether.name} of {tether.control} follows {tether.anchor} of "
                f"{tether.anchor_member}, which is not in the cast."
            )
        return node

    def _check_tethers(self) -> None:
        for t in self.take.tethers:
            if (t.member, t.control, "space") not in self.nodes:
                raise CoreError(f"The tether {t.name} is on {t.control} of {t.member}, which can't follow anything.")

    def _pack(self) -> None:
        """Lays out the curves: those that change are sampled, the others are values."""
        names = list(self.channels)
        self._fixed = self.defaults.copy()
        keyed = []
        for name, kept in self.take.curves.items():
            c = self.channels[name]
            if len(kept) == 1 and kept.numbers[0, 1] == kept.numbers[0, 2]:
                self._fixed[c] = kept.numbers[0, 1]
            elif len(kept):
                keyed.append(c)
        self._keyed = np.array(sorted(keyed), dtype=np.int64)
        self._packed = pack([self.take.curves[names[c]] for c in self._keyed])
        self._keyed_row = {int(c): k for k, c in enumerate(self._keyed)}
        #: Channels that are Euler angles: the kernels want half their sines and cosines.
        self._angles = np.array([c for c, (_, _, channel) in enumerate(self.info) if channel.name in ROTATION])
        self._turning = np.intersect1d(self._angles, self._keyed)
        values = np.repeat(self._fixed[:, None], BLOCK, axis=1)
        waves = np.zeros(len(values) * 2 * BLOCK)
        solver.halve(values, self._angles, BLOCK, waves)
        work = np.zeros((len(self.nodes) + 1, NODE_ROWS, BLOCK))
        work[-1, -1] = 1.0
        most = int(np.diff(self._tables[1].start).max(initial=1))
        self._room = Room(values, waves, work.ravel(), np.empty((most, 4)), np.empty((2, most)))

    # --- evaluating -----------------------------------------------------------------------------------

    def sample(
        self, times: Floats | Sequence[float], side: int | np.ndarray = LEAVING, channels: Ints | None = None
    ) -> Floats:
        """(C, F) values of these channels, or of all, at the frames `times`, on one side of split keys."""
        at = np.ascontiguousarray(times, dtype=np.float64)
        picked = np.arange(len(self.defaults)) if channels is None else channels
        values = np.repeat(self._fixed[picked, None], len(at), axis=1)
        which, frames = sides(side, len(at)), np.arange(len(at))
        for r, c in enumerate(picked):
            k = self._keyed_row.get(int(c))
            if k is not None:
                sample_packed(self._packed.starts[k : k + 2], self._packed.cubics, at, which, frames, values[r : r + 1])
        return values

    def evaluate(
        self,
        times: Floats | Sequence[float],
        side: int | np.ndarray = LEAVING,
        overrides: Mapping[int, float | Floats] | None = None,
    ) -> Poses:
        """Poses at these frames; `side` (one for all or one each) matters only at split keys.

        `overrides` puts values in place of what the curves say, by channel index: a live drag. Raises
        LoopError when parts need one another at the same time.
        """
        at = np.ascontiguousarray(times, dtype=np.float64)
        which = sides(side, len(at))
        over = np.array(list(overrides or ()), dtype=np.int64)
        forced = np.empty((len(over), len(at)))
        for k, value in enumerate((overrides or {}).values()):
            forced[k] = value
        pos, rot = np.empty((len(at), len(self.nodes), 3)), np.empty((len(at), len(self.nodes), 4))
        cap_off, cap_rot = self._captures(at)
        source = Sampled(self._packed.starts, self._packed.cubics, self._keyed, over, forced)
        turning = np.union1d(self._turning, over[np.isin(over, self._angles)]) if len(over) else self._turning
        room = Room(*(a.copy() for a in self._room))
        groups = self._spans(at, which, over, forced)
        if not groups:
            return Poses(at, pos, rot, which)
        # One call for all groups: handing the tables over costs more than a block of frames.
        orders = [self._order(codes, at, frames) for codes, frames in groups]
        ends = np.cumsum([[len(frames), len(order)] for (_, frames), order in zip(groups, orders, strict=True)], axis=0)
        spans = np.zeros((len(groups), 4), dtype=np.int64)
        spans[:, 1], spans[:, 3] = ends[:, 0], ends[:, 1]
        spans[1:, 0], spans[1:, 2] = ends[:-1, 0], ends[:-1, 1]
        rows = np.concatenate([frames for _, frames in groups]) if len(groups) > 1 else groups[0][1]
        stages = np.concatenate(orders) if len(orders) > 1 else orders[0]
        solver.run(spans, rows, stages, at, which, source, turning, *self._tables, room, cap_off, cap_rot, pos, rot)
        return Poses(at, pos, rot, which)

    def _captures(self, at: Floats) -> tuple[Floats, Floats]:
        """Local offsets (F, J, 3) and rotations (F, J, 4) of all captures side by side."""
        if not self.take.captures:
            return _NO_OFFSETS, _NO_TURNS
        found = []
        for cap in self.take.captures.values():
            joints = cap.offsets.shape[1]
            off, turn = np.empty((len(at), joints, 3)), np.empty((len(at), joints, 4))
            captured.sample(cap.offsets, cap.rotations, cap.first, cap.step, at, off, turn)
            found.append((off, turn))
        if len(found) == 1:
            return found[0]
        return np.concatenate([f[0] for f in found], axis=1), np.concatenate([f[1] for f in found], axis=1)

    def _spans(
        self, at: Floats, side: np.ndarray, over: Ints = _NONE, forced: Floats = _NO_VALUES
    ) -> list[tuple[Ints, Ints]]:
        """Groups of times with the same activity: its code for each stage, and the indices of the times.

        at, side: (F,); over (K,), forced (K, F): channels whose values are put in place of the curves'."""
        count = len(at)
        if count == 0:
            return []
        moving = self._moving_switches
        rows = np.empty((len(moving), count))
        sample_packed(*self._switch_curves, at, side, np.arange(count), rows)
        if len(over):
            forcing = np.flatnonzero(np.isin(self._switches, over))
            every = np.union1d(moving, forcing)
            whole = np.empty((len(every), count))
            whole[np.isin(every, moving)] = rows
            for k, c in enumerate(over):
                whole[self._switches[every] == c] = forced[k]
            moving, rows = every, whole
        bits = _bits(rows)
        group = np.zeros(count, dtype=np.int64)
        for n, row in enumerate(bits):
            if n and n % 28 == 0:
                # Numbered anew before the code runs out of bits.
                group = np.unique(group, return_inverse=True)[1].ravel()
            group = 4 * group + row
        cuts = np.flatnonzero(group[1:] != group[:-1]) + 1
        if len(cuts) > 64:
            order = np.argsort(group, kind="stable")
            starts = np.flatnonzero(np.diff(group[order])) + 1
            return [(self._codes(moving, bits[:, frames[0]]), frames) for frames in np.split(order, starts)]
        # Times in order: a few runs, of which those alike belong together.
        edges = [0, *cuts.tolist(), count]
        runs: dict[int, list[Ints]] = {}
        for first, last in pairwise(edges):
            runs.setdefault(int(group[first]), []).append(np.arange(first, last))
        return [
            (self._codes(moving, bits[:, parts[0][0]]), parts[0] if len(parts) == 1 else np.concatenate(parts))
            for parts in runs.values()
        ]

    def _codes(self, moving: Ints, bits: Ints) -> Ints:
        """Activity code of each stage where the switches `moving` have these bits (K,), the others those they have
        without keys."""
        key = (moving.tobytes(), bits.tobytes())
        codes = self._known_codes.get(key)
        if codes is None:
            now = self._switch_bits.copy()
            now[moving] = bits
            codes = np.zeros(len(self._stages), dtype=np.int64)
            np.add.at(codes, self._switch_stage, now << self._switch_shift)
            self._known_codes[key] = codes
        return codes

    def _order(self, codes: Ints, at: Floats, frames: Ints) -> Ints:
        """(S, 3) rows of the stages, in an order in which each comes after what it reads."""
        key = codes.tobytes()
        if key in self._orders:
            return self._orders[key]
        order: list[int] = []
        mark = [0] * len(self._stages)
        path: list[int] = []

        def visit(s: int) -> None:
            if mark[s] == 2:
                return
            if mark[s] == 1:
                loop = path[path.index(s) :]
                labels = list(dict.fromkeys(self._stages[i].label for i in loop))
                raise LoopError(labels, float(at[frames].min()), float(at[frames].max()))
            mark[s] = 1
            path.append(s)
            for node in self._stages[s].reads(int(codes[s])):
                if node >= 0:
                    visit(int(self._writer[node]))
            path.pop()
            mark[s] = 2
            order.append(s)

        for s in range(len(self._stages)):
            visit(s)
        rows = np.array([self._stages[s].rows for s in order], dtype=np.int64).reshape(-1, 3)
        self._orders[key] = rows
        return rows

    def check_loops(self) -> None:
        """LoopError if any frame of the take, or any time at which a switch changes, has a loop."""
        times = set(self.take.frames.tolist())
        for stage in self._stages:
            for c in stage.switches:
                name = list(self.channels)[c]
                keys = self.take.curves.get(name, EMPTY).times
                times.update(keys.tolist())
                times.update((0.5 * (keys[1:] + keys[:-1])).tolist())
        at = np.array(sorted(times))
        for side in (0, 1):
            for codes, frames in self._spans(at, sides(side, len(at))):
                self._order(codes, at, frames)

    def sources(self, nodes: Sequence[int], times: Floats) -> set[int]:
        """Channels that take part in placing these nodes at any of these times, upstream ones included."""
        found: set[int] = set()
        for codes, _ in self._spans(times, sides(LEAVING, len(times))):
            waiting = [int(self._writer[n]) for n in nodes if n >= 0]
            seen: set[int] = set()
            while waiting:
                s = waiting.pop()
                if s in seen:
                    continue
                seen.add(s)
                found.update(self._stages[s].channels)
                waiting += [int(self._writer[n]) for n in self._stages[s].reads(int(codes[s])) if n >= 0]
        return found

    def key_times(self, channels: Sequence[int] | set[int] | None = None) -> Floats:
        """All times at which one of these channels, or any channel at all, has a key; in order."""
        names = list(self.channels)
        picked = (
            self.take.curves.values() if channels is None else (self.take.curves.get(names[c], EMPTY) for c in channels)
        )
        times = [c.times for c in picked]
        return np.unique(np.concatenate(times)) if times else np.empty(0)

    # --- reading --------------------------------------------------------------------------------------

    def joints(self, members: Sequence[str] | None = None) -> tuple[list[tuple[str, str]], Ints]:
        """Names (member, joint) and nodes of all joints of these members, or of the whole cast."""
        names = [
            (m.id, j.name) for m in self.scene.members if members is None or m.id in members for j in m.skeleton.joints
        ]
        return names, np.array([self.nodes[n] for n in names], dtype=np.int64)

    def tether_channels(self, member: str, control: str) -> list[int]:
        """Channels of the weights of what a control follows."""
        start = f"{member}/{control}."
        return [c for n, c in self.channels.items() if n.startswith(start) and self.info[c][2].role == "tether"]

    def channel_names(self) -> list[str]:
        return list(self.channels)


def evaluate(scene: Scene, take: Take, times: Floats | Sequence[float], side: int = LEAVING) -> Poses:
    """Poses of a take at these frames. Keep a `Program` when asking more than once."""
    return Program(scene, take).evaluate(times, side)
