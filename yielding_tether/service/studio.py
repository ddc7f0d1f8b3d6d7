"""What the routes share: takes made ready to evaluate, trials, and what the bench shows of a take."""

from __future__ import annotations

import secrets
import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from dataclasses import dataclass, replace
from typing import Generic, TypeVar

import numpy as np

from ..core import clips
from ..core.cast import Channel, FkPart, FreePart, LimbPart, Member, Part
from ..core.clips import Clip
from ..core.curves import EMPTY, LEAVING
from ..core.errors import CoreError
from ..core.evaluation import Limb, Poses, Program
from ..core.findings import Finding, find_all, switch_times
from ..core.fitting import fit_limb, guide_places, system_channels
from ..core.operations import pose
from ..core.proof import Proof, prove
from ..core.stands import find_stands
from ..core.takes import WORLD, Take
from ..core.tones import colour_of
from ..core.transforms import Floats, rotation_distance
from ..store.codec import proof_json
from ..store.store import Loaded, Missing, Store
from . import operations
from . import schemas as s

K = TypeVar("K", bound=Hashable)
V = TypeVar("V")


class Recent(Generic[K, V]):
    """A dictionary that keeps the entries used last; safe among threads."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._items: OrderedDict[K, V] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: K) -> V | None:
        with self._lock:
            if key in self._items:
                self._items.move_to_end(key)
            return self._items.get(key)

    def put(self, key: K, value: V) -> V:
        with self._lock:
            self._items[key] = value
            self._items.move_to_end(key)
            while len(self._items) > self._most:
                self._items.popitem(last=False)
            return value

    def made(self, key: K, make: Callable[[], V]) -> V:
        """The entry, made now if it is not there."""
        found = self.get(key)
        return found if found is not None else self.put(key, make())


@dataclass(frozen=True)
class Open:
    """A take at a revision, ready to evaluate."""

    loaded: Loaded
    program: Program


@dataclass(frozen=True)
class Trial:
    """A result that was tried and not applied."""

    base: Open
    program: Program
    proof: Proof
    label: str


class Studio:
    """Takes in use. Nothing here is the truth: the store is, and everything can be made again from it."""

    def __init__(self, store: Store) -> None:
        self.store = store
        self._open: Recent[tuple[int, int], Open] = Recent(24)
        self._trials: Recent[str, Trial] = Recent(24)
        self._findings: Recent[int, list[Finding]] = Recent(200)
        self._entries: Recent[int, s.TakeEntry] = Recent(500)

    def open(self, take_id: int, revision: int | None = None) -> Open:
        """A take at a revision, by default its head. Missing if there is none."""
        at = revision if revision is not None else self.store.head(take_id)
        return self._open.made((take_id, at), lambda: self._load(take_id, at))

    def _load(self, take_id: int, revision: int) -> Open:
        loaded = self.store.load(take_id, revision)
        return Open(loaded, Program(loaded.scene, loaded.take))

    # --- operations -----------------------------------------------------------------------------------

    def try_(self, take_id: int, asked: s.OperationAsked) -> tuple[str, Trial]:
        """Runs an operation without writing anything; the trial can be looked at by its name."""
        base = self.open(take_id, asked.revision)
        take, proof, label = operations.run(base.program, asked, self.store.clip)
        name = secrets.token_urlsafe(9)
        return name, self._trials.put(name, Trial(base, Program(base.loaded.scene, take), proof, label))

    def trial(self, name: str) -> Trial:
        found = self._trials.get(name)
        if found is None:
            raise Missing("This trial is gone: try the operation again.")
        return found

    def apply(self, take_id: int, asked: s.OperationAsked) -> s.Applied:
        """Runs an operation and writes it as one revision on the one it started from."""
        base = self.open(take_id, asked.revision)
        take, proof, label = operations.run(base.program, asked, self.store.clip)
        return self._commit(base, take, label, asked.model_dump(mode="json"), proof)

    def apply_drag(self, take_id: int, asked: s.DragAsked) -> s.Applied:
        """Writes a drag that has ended as one revision."""
        base = self.open(take_id, asked.revision)
        drag = as_drag(asked)
        take, proof = pose.apply(base.program, drag)
        asked_json = {"operation": "pose", **asked.model_dump(mode="json")}
        return self._commit(base, take, pose.describe(drag, base.program), asked_json, proof)

    def _commit(self, base: Open, take: Take, label: str, asked: dict[str, object], proof: Proof | None) -> s.Applied:
        id = self.store.commit(base.loaded, take, label, asked, proof)
        loaded = replace(base.loaded, take=take, revision=id)
        self._open.put((base.loaded.take_id, id), Open(loaded, Program(loaded.scene, take)))
        number = self.store.revisions(base.loaded.take_id, id)[0][0].number
        return s.Applied(
            revision=id,
            number=number,
            label=label,
            sentence=operations.sentence(proof) if proof else label,
            proof=proof_json(proof) if proof else None,
        )

    def mark(self, take_id: int, asked: s.Marked) -> s.Applied:
        """Marks a finding as wanted, or as open again, as a revision of its own."""
        base = self.open(take_id, asked.revision)
        found = {f.key: f for f in self._all_findings(base)}
        if asked.finding not in found:
            raise CoreError("This finding is not there any more: something has changed since it was listed.")
        take = base.loaded.take
        marked = [k for k in take.wanted if k != asked.finding] + ([asked.finding] if asked.wanted else [])
        label = f"{'Wanted' if asked.wanted else 'Open again'}: {found[asked.finding].sentence}"[:200]
        body = {"operation": "mark", **asked.model_dump(mode="json")}
        return self._commit(base, replace(take, wanted=tuple(marked)), label, body, None)

    # --- clips ----------------------------------------------------------------------------------------

    def copy(self, take_id: int, asked: s.CopyAsked) -> s.ClipInfo:
        """Keeps a pose or a range of some parts."""
        program = self.open(take_id, asked.revision).program
        clip = clips.copy(program, asked.member, asked.parts, asked.first, asked.last, asked.name)
        return clip_info(self.store.keep_clip(clip), clip)

    # --- what the bench shows -------------------------------------------------------------------------

    def findings(self, open_: Open) -> list[Finding]:
        """Open findings."""
        return [f for f in self._all_findings(open_) if f.key not in open_.loaded.take.wanted]

    def _all_findings(self, open_: Open) -> list[Finding]:
        return self._findings.made(open_.loaded.revision, lambda: find_all(open_.program, wanted=True))

    def compare(self, take_id: int, a: int, b: int, other: int | None) -> s.Compared:
        """Two revisions of a take, or one of it and one of another take of the same scene."""
        one, two = self.open(take_id, a), self.open(take_id if other is None else other, b)
        if one.loaded.scene_id != two.loaded.scene_id:
            raise CoreError("Two takes can be compared where they play in one scene.")
        return compared(one.program, two.program, len(self.findings(one)), len(self.findings(two)))

    def entry(self, take_id: int, head: int) -> s.TakeEntry:
        """What Home tells of a take; remembered by its head, so that long captures are not opened each time."""
        return self._entries.made(head, lambda: self._entry(take_id))

    def _entry(self, take_id: int) -> s.TakeEntry:
        open_ = self.open(take_id)
        take = open_.loaded.take
        return s.TakeEntry(
            id=take_id, name=take.name, first=take.first, last=take.last, rate=float(take.rate),
            revisions=self.store.revision_count(take_id),
            keys=key_count(take),
            captured=bool(take.captures), findings=[f.sentence for f in self.findings(open_)],
        )  # fmt: skip

    def take_info(self, take_id: int, revision: int | None) -> s.TakeInfo:
        open_ = self.open(take_id, revision)
        loaded, program = open_.loaded, open_.program
        take = loaded.take
        ((row, redo),) = self.store.revisions(take_id, loaded.revision)
        found = self.findings(open_)
        wanted = [f for f in self._all_findings(open_) if f.key in take.wanted]
        names, _ = program.joints()
        return s.TakeInfo(
            id=take_id, scene_id=loaded.scene_id, scene=loaded.scene.name, name=take.name, rate=float(take.rate),
            rate_fraction=(take.rate.numerator, take.rate.denominator), first=take.first, last=take.last,
            revision=loaded.revision, number=row.number, can_undo=row.parent is not None, can_redo=redo is not None,
            members=[member_info(m) for m in loaded.scene.members], joints=names,
            limbs=[s.LimbInfo(member=m, part=p) for m, p in program.limbs],
            strands=strands(program, found), findings=[finding_info(f) for f in found],
            wanted=[finding_info(f, True) for f in wanted], proof=row.proof, label=row.label, revision_name=row.name,
            parent=row.parent,
        )  # fmt: skip

    def revisions(self, take_id: int) -> list[s.RevisionInfo]:
        head = self.store.head(take_id)
        rows = [r for r, _ in self.store.revisions(take_id)]
        parents = {r.id: r.parent for r in rows}
        path: set[int] = set()
        at: int | None = head
        while at is not None:
            path.add(at)
            at = parents.get(at)
        return [
            s.RevisionInfo(
                id=r.id, number=r.number, parent=r.parent, label=r.label, name=r.name, created=r.created,
                proof=r.proof, on_path=r.id in path,
            )
            for r in rows
        ]  # fmt: skip


def as_drag(asked: s.DragAsked) -> pose.Drag:
    return pose.Drag(asked.member, asked.part, asked.handle, asked.frame, asked.position, asked.rotation, asked.joint)


def member_info(member: Member) -> s.MemberInfo:
    return s.MemberInfo(
        id=member.id, name=member.name, kind=member.kind, joints=[j.name for j in member.skeleton.joints],
        parents=list(member.skeleton.parents),
        parts=[
            s.PartInfo(
                name=p.name, label=p.label, side=p.side, kind=p.kind, joints=list(p.joints),
                role=p.role if isinstance(p, LimbPart) else "",
                hinge_from=p.hinge_from if isinstance(p, LimbPart) else "",
            )
            for p in member.parts
        ],
        shapes=[
            s.ShapeInfo(
                joint=h.joint, form=h.form, colour=colour_of(h.tone), a=h.a, b=h.b, size=list(h.size), turn=h.turn
            )
            for h in member.shapes
        ],
        notes=list(member.notes),
    )  # fmt: skip


def finding_info(f: Finding, wanted: bool = False) -> s.FindingInfo:
    return s.FindingInfo(
        key=f.key, kind=f.kind, member=f.member, part=f.part, frame=f.frame, last=f.last, place=f.place,  # type: ignore[arg-type]
        turn=f.turn, sentence=f.sentence, wanted=wanted,
    )  # fmt: skip


def clip_info(id: int, clip: Clip) -> s.ClipInfo:
    return s.ClipInfo(
        id=id, name=clip.name, source=clip.source, length=clip.length, parts=[p.label for p in clip.parts]
    )  # fmt: skip


def compared(a: Program, b: Program, findings_a: int, findings_b: int) -> s.Compared:
    """The difference of two takes over the frames both have."""
    first, last = max(a.take.first, b.take.first), min(a.take.last, b.take.last)
    if last < first:
        raise CoreError("These takes have no frame in common.")
    frames = np.arange(first, last + 1, dtype=np.float64)
    names, nodes_a = a.joints()
    nodes_b = b.joints()[1]
    one, two = a.evaluate(frames), b.evaluate(frames)
    place = np.linalg.norm(two.pos[:, nodes_b] - one.pos[:, nodes_a], axis=-1)
    turn = rotation_distance(two.rot[:, nodes_b], one.rot[:, nodes_a])
    column = {name: k for k, name in enumerate(names)}
    rows = []
    for member in a.scene.members:
        for part in member.parts:
            mine = place[:, [column[member.id, j] for j in part.joints]].max(axis=1)
            label = part.label if member.kind == "character" else member.name
            rows.append(s.PartDifference(member=member.id, part=part.name, label=label, place=mine.tolist()))
    rows.sort(key=lambda r: -max(r.place))
    changes = [(limb, t) for limb in b.limbs.values() for t in switch_times(b, limb)]
    proof = prove("compare", a, b, float(first), float(last), changes)
    return s.Compared(
        frames=frames.tolist(), place=place.max(axis=1).tolist(), turn=turn.max(axis=1).tolist(),
        parts=[r for r in rows if max(r.place) > 0.0], proof=proof_json(proof), sentence=operations.sentence(proof),
        findings_a=findings_a, findings_b=findings_b, keys_a=key_count(a.take), keys_b=key_count(b.take),
    )  # fmt: skip


def key_count(take: Take) -> int:
    """Keys of a take, those of what is followed left out."""
    return sum(len(c) for n, c in take.curves.items() if not n.endswith((".position", ".rotation")))


def stand_infos(program: Program) -> list[s.StandInfo]:
    """Where limbs stand or hold, and how far they slip."""
    return [
        s.StandInfo(
            member=x.member, part=x.part, joint=x.joint, anchor=x.anchor, first=x.first, last=x.last,
            should=x.should.tolist(), slip=x.slip.tolist(),
        )
        for x in find_stands(program)
    ]  # fmt: skip


def curve_infos(program: Program, channels: list[str]) -> list[s.CurveInfo]:
    """Channels with their keys."""
    found = []
    for name in channels:
        if name not in program.channels:
            raise CoreError(f"The take has no channel {name}.")
        c = program.channels[name]
        channel = program.info[c][2]
        kept = program.take.curves.get(name, EMPTY)
        found.append(
            s.CurveInfo(
                channel=name, label=channel_label(channel), unit=pose.unit_of(channel.name), role=channel.role,
                default=float(program.defaults[c]), keys=[s.CurveKey(**k._asdict()) for k in kept.all_keys()],
            )
        )  # fmt: skip
    return found


def channel_label(channel: Channel) -> str:
    """A channel as the animator reads it."""
    if channel.role == "tether":
        anchor, _, what = channel.name.rpartition(".")
        return f"follows {anchor}, {what}"
    return f"{channel.control} {_NAMES.get(channel.name, channel.name)}"


def strands(program: Program, found: list[Finding]) -> list[s.Strand]:
    """One strand for every part of the cast, characters first."""
    rank = {"character": 0, "prop": 1, "set": 2}
    rows = []
    for member in sorted(program.scene.members, key=lambda m: rank[m.kind]):
        for part in member.parts:
            limb = program.limbs.get((member.id, part.name))
            share = program.channels.get(f"{member.id}/{part.name}.captured")
            rows.append(
                s.Strand(
                    member=member.id, part=part.name,
                    label=part.label if member.kind == "character" else member.name, side=part.side, kind=part.kind,
                    drive=_runs(program, limb.drive) if limb else [],
                    captured=_runs(program, share) if share is not None else [],
                    keys=_strand_keys(program, member, part), follows=follows(program, member, part),
                    findings=[finding_info(f) for f in found if (f.member, f.part) == (member.id, part.name)],
                )
            )  # fmt: skip
    return rows


def _runs(program: Program, channel: int) -> list[tuple[int, float]]:
    """(whole frame, value) wherever a channel changes from one frame to the next."""
    frames = program.take.frames
    values = program.sample(frames, LEAVING, np.array([channel]))[0].round(4)
    starts = np.flatnonzero(np.concatenate([[True], values[1:] != values[:-1]]))
    return [(int(frames[k]), float(values[k])) for k in starts]


def _strand_keys(program: Program, member: Member, part: Part) -> list[s.StrandKey]:
    """Times at which any channel of the part is keyed; what it follows has a bar of its own."""
    marks: dict[float, tuple[set[str], bool]] = {}
    for name, c in program.channels.items():
        id, owner, channel = program.info[c]
        if id != member.id or owner is not part or channel.role == "tether":
            continue
        for key in program.take.curves.get(name, EMPTY).all_keys():
            systems, split = marks.setdefault(key.time, (set(), False))
            systems.add(channel.role)
            marks[key.time] = (systems, split or key.split)
    return [s.StrandKey(time=t, split=split, systems=sorted(systems)) for t, (systems, split) in sorted(marks.items())]


def _control_of(part: Part) -> str | None:
    if isinstance(part, LimbPart):
        return part.ik
    return part.joint if isinstance(part, FreePart) else None


def follows(program: Program, member: Member, part: Part) -> list[s.Follow]:
    """Stretches of frames over which the part's control follows an anchor."""
    control = _control_of(part)
    found = []
    frames = program.take.frames
    for tether in program.take.tethers:
        if (tether.member, tether.control) != (member.id, control):
            continue
        channels = [
            program.channels[tether.weight_channel(w)]
            for w, on in (("position", tether.position), ("rotation", tether.rotation))
            if on
        ]
        if not channels:
            continue
        weight = program.sample(frames, LEAVING, np.array(channels)).max(axis=0)
        on = np.concatenate([[False], weight > 0.0, [False]])
        edges = np.flatnonzero(on[1:] != on[:-1])
        anchor = (
            "the world"
            if tether.anchor_member == WORLD
            else _anchor_label(program, tether.anchor_member, tether.anchor)
        )
        found += [
            s.Follow(
                anchor=anchor,
                first=float(frames[a]),
                last=float(frames[b - 1]),
                weight=float(weight[a:b].max()),
            )
            for a, b in zip(edges[::2], edges[1::2], strict=True)
        ]
    return found


def _anchor_label(program: Program, member_id: str, anchor: str) -> str:
    member = program.scene.member(member_id)
    for part in member.parts:
        if anchor in part.joints:
            if member.kind != "character":
                return member.name.lower()
            return f"{member.name}'s {anchor if isinstance(part, FkPart) else part.label}"
    return f"{member.name}'s {anchor}"


def pose_table(program: Program, poses: Poses, values: dict[int, float] | None = None) -> np.ndarray:
    """(F, J + 2 L, 7) float32 positions and rotations: all joints of the cast, then for each limb its IK control
    and its bend guide as they are drawn. `values`: channels that a drag holds elsewhere than their curves say.

    Whichever system drives, the control is drawn where it fits the pose: at its target while IK drives, else at
    the end of the limb.
    """
    _, nodes = program.joints()
    limbs = list(program.limbs.values())
    table = np.zeros((len(poses.times), len(nodes) + 2 * len(limbs), 7), dtype=np.float32)
    table[:, : len(nodes), :3] = poses.pos[:, nodes]
    table[:, : len(nodes), 3:] = poses.rot[:, nodes]
    for n, limb in enumerate(limbs):
        row = len(nodes) + 2 * n
        shown = _control_places(program, limb, poses)
        table[:, row, :3], table[:, row, 3:] = shown
        extra = program.sample(poses.times, poses.side, np.array([limb.guide]))[0]
        if values and limb.guide in values:
            extra[:] = values[limb.guide]
        table[:, row + 1, :3] = guide_places(limb, poses, extra)
        table[:, row + 1, 6] = 1.0
    return table


def _control_places(program: Program, limb: Limb, poses: Poses) -> tuple[Floats, Floats]:
    switches = limb.switches
    now = program.sample(poses.times, poses.side, np.array(switches))
    driven = (now[0] > 0.0) & (now[1:] < 1.0).all(axis=0)
    end = limb.nodes[2]
    pos = np.where(driven[:, None], poses.pos[:, limb.target], poses.pos[:, end])
    rot = np.where(driven[:, None], poses.rot[:, limb.target], poses.rot[:, end])
    return pos, rot


_NAMES = {
    "tx": "move x", "ty": "move y", "tz": "move z", "rx": "turn x", "ry": "turn y", "rz": "turn z",
    "swivel": "swivel", "carry": "carry angle", "twist": "twist", "bend": "bend side", "drive": "driver, 0 FK to 1 IK",
    "captured": "share of the capture", "guide": "guide, beyond its distance",
}  # fmt: skip


def card(program: Program, member_id: str, part_name: str, frame: float) -> s.Card:
    """A part at a frame, with the values of its systems and how far the idle one stands off."""
    member = program.scene.member(member_id)
    part = member.part(part_name)
    here = program.evaluate([frame])
    share = program.channels.get(f"{member_id}/{part_name}.captured")
    captured = float(program.sample([frame], LEAVING, np.array([share]))[0, 0]) if share is not None else None
    limb = program.limbs.get((member_id, part_name))
    drive: float | None = None
    idle_place = idle_turn = residual = None
    systems = []
    if limb is None:
        own = [c for c in program.channels.values() if program.info[c][1] is part and program.info[c][2].role == "fk"]
        values = program.sample([frame], LEAVING, np.array(own))[:, 0]
        systems.append(_card_system(program, "fk", captured != 1.0, np.array(own), values, values, frame))
        driver = "Capture" if captured == 1.0 else "FK"
    else:
        drive = float(program.sample([frame], LEAVING, np.array([limb.drive]))[0, 0])
        driver = "Capture" if captured == 1.0 else "IK" if drive == 1.0 else "FK" if drive == 0.0 else "both"
        residual = 0.0
        for name, value in (("fk", 0.0), ("ik", 1.0)):
            channels = system_channels(limb, name)
            fitted = fit_limb(program, limb, here, name)
            stored = program.sample([frame], LEAVING, channels)[:, 0]
            driving = drive == value and captured in (None, 0.0)
            systems.append(_card_system(program, name, driving, channels, stored, fitted.values[:, 0], frame))
            residual = max(residual, float(fitted.position[0]))
            if not driving:
                other: dict[int, float | Floats] = {limb.drive: value}
                if limb.captured >= 0:
                    other[limb.captured] = 0.0
                idle = program.evaluate([frame], overrides=other)
                nodes = list(limb.nodes)
                idle_place = float(np.linalg.norm(idle.pos[0, nodes] - here.pos[0, nodes], axis=-1).max())
                idle_turn = float(rotation_distance(idle.rot[0, nodes], here.rot[0, nodes]).max())
    system = {"IK": "IK", "FK": "FK"}.get(driver)
    rule = (
        f"Letting go of a drag keys what was dragged, at this frame, in {system}."
        if system
        else "Hand over to IK or FK before posing here."
    )
    return s.Card(
        member=member_id, part=part_name, label=part.label, side=part.side, kind=part.kind, drive=drive,
        captured=captured, driver=driver, systems=systems, others=_card_others(program, member_id, part, frame),
        idle_place=idle_place, idle_turn=idle_turn,
        residual=residual, follows=[f for f in follows(program, member, part) if f.first <= frame <= f.last],
        rule=rule,
    )  # fmt: skip


def _card_others(program: Program, member_id: str, part: Part, frame: float) -> list[s.CardChannel]:
    """What is not a channel of a system: driver, share of the capture, guide, weights of what is followed."""
    found = []
    for name, c in program.channels.items():
        owner, part_of, channel = program.info[c]
        if owner != member_id or part_of is not part or channel.role not in ("drive", "captured", "guide", "tether"):
            continue
        kept = program.take.curves.get(name, EMPTY)
        value = float(program.sample([frame], LEAVING, np.array([c]))[0, 0])
        found.append(
            s.CardChannel(
                name=name, label=channel_label(channel), unit=pose.unit_of(channel.name), value=value, fits=value,
                keyed=kept.find(frame) is not None, live=True,
            )
        )  # fmt: skip
    return found


def _card_system(
    program: Program,
    system: str,
    driving: bool,
    channels: np.ndarray,
    stored: Floats,
    fits: Floats,
    frame: float,
) -> s.CardSystem:
    names = program.channel_names()
    rows = []
    for c, value, fit in zip(channels, stored, fits, strict=True):
        channel = program.info[int(c)][2]
        kept = program.take.curves.get(names[int(c)], EMPTY)
        rows.append(
            s.CardChannel(
                name=names[int(c)], label=channel_label(channel),
                unit=pose.unit_of(channel.name), value=float(value), fits=float(fit),
                keyed=kept.find(frame) is not None, live=driving,
            )
        )  # fmt: skip
    return s.CardSystem(system=system, driving=driving, channels=rows)


def pose_strip(program: Program, count: int = 9) -> s.PoseStrip:
    """Bones of the characters at a few frames, as seen from the front left."""
    frames = np.linspace(program.take.first, program.take.last, count).round()
    poses = program.evaluate(frames)
    x, z = np.cos(0.6), np.sin(0.6)
    pictures: list[list[tuple[float, float, float, float]]] = [[] for _ in frames]
    for member in program.scene.members:
        if member.kind != "character":
            continue
        base = program.nodes[member.id, member.skeleton.joints[0].name]
        for j, parent in enumerate(member.skeleton.parents):
            if parent < 0:
                continue
            a = program.nodes[member.id, member.skeleton.joints[parent].name]
            b = program.nodes[member.id, member.skeleton.joints[j].name]
            for f, picture in enumerate(pictures):
                p, q = poses.pos[f, a] - poses.pos[f, base], poses.pos[f, b] - poses.pos[f, base]
                picture.append((float(p[0] * x - p[2] * z), float(p[1]), float(q[0] * x - q[2] * z), float(q[1])))
    return s.PoseStrip(frames=frames.tolist(), bones=pictures)
