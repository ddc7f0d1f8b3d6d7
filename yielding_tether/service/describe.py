"""What the bench shows of a take, told once for every part alike: members, handles, strands, cards, pose tables."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import replace

import numpy as np

from ..core.cast import Member
from ..core.channels import Channel, in_words
from ..core.clips import Clip
from ..core.contacts import anchor_reads, end_of, end_words, kept_end, measure_all, part_of
from ..core.curves import EMPTY, LEAVING, Curve, sample
from ..core.errors import CoreError
from ..core.findings import Finding
from ..core.fitting import fit
from ..core.layers import heard, layer_of
from ..core.operations import OPERATIONS
from ..core.operations.contact import named
from ..core.operations.pose import Drag
from ..core.operations.repair import REFUSED
from ..core.parts import Part
from ..core.pivots import owner_of
from ..core.program import Poses, Program
from ..core.proof import prove
from ..core.rig import Bound
from ..core.systems.system import Control
from ..core.takes import WORLD, Take, Tether
from ..core.tones import colour_of
from ..core.transforms import Floats, rotate, rotation_distance
from . import schemas as s

#: State of a part in which two systems are mixed.
BOTH = "both"


def as_drag(asked: s.DragAsked) -> Drag:
    def moved(m: s.Moved) -> Drag:
        return Drag(m.member, m.part, m.control, asked.frame, m.position, m.rotation)

    return replace(
        moved(asked), also=tuple(moved(m) for m in asked.also), keep=tuple((p.member, p.part) for p in asked.keep),
        about=asked.about, layer=asked.layer,
    )  # fmt: skip


def member_info(program: Program, member: Member) -> s.MemberInfo:
    return s.MemberInfo(
        id=member.id, name=member.name, kind=member.kind, joints=[j.name for j in member.skeleton.joints],
        parents=list(member.skeleton.parents), centre=member.skeleton.joints[member.skeleton.centre].name,
        parts=[
            s.PartInfo(
                name=p.name, label=p.label, side=p.side, kind=p.kind, joints=list(p.joints), role=p.role,
                hinge_from=p.hinge_from, end=kept_end(program.bound(member.id, p.name)) is not None,
                stands=end_of(program.bound(member.id, p.name)) is not None,
                trail=_trail(program.bound(member.id, p.name)),
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
        grips=[
            s.GripInfo(
                name=g.name, joint=g.joint, position=g.position,
                towards=tuple(rotate(np.array(g.rotation), np.array([0.0, 1.0, 0.0])).tolist()),
            )
            for g in member.grips
        ],
    )  # fmt: skip


def _trail(bound: Bound) -> list[str]:
    """Joints whose paths show how a part moves: what its lines lead to and its ends, else its first two."""
    controls = bound.described
    shown = [c.handle.joined_to for c in controls if c.handle.joined_to] + [c.rests_on for c in controls if c.rests_on]
    return list(dict.fromkeys(shown)) or list(bound.part.joints[:2])


# --- handles and pose tables ----------------------------------------------------------------------------


def table_rows(program: Program) -> int:
    """Rows of a pose table."""
    return point_rows(program) + len(program.take.points)


def point_rows(program: Program) -> int:
    """The first row of a pose table that holds a point to turn about."""
    return size_rows(program) + len(program.rig.given.members) + len(program.take.anchors)


def size_rows(program: Program) -> int:
    """The first row of a pose table that tells a member's size."""
    return len(program.joints()[1]) + sum(len(b.placed) for b in program.bounds.values())


def handles(program: Program) -> list[s.HandleInfo]:
    """Handles of every control of every part."""
    names, _ = program.joints()
    row_of = {name: k for k, name in enumerate(names)}
    next_row = len(names)
    # Anchors come and go: their rows are the last, so that all others stay where they are.
    first = size_rows(program) + len(program.rig.given.members)
    row_of |= {(a.id, j.name): first + k for k, a in enumerate(program.take.anchors) for j in a.member.skeleton.joints}
    found = []
    for bound in program.bounds.values():
        member = bound.member.id
        placed = {c.name for _, c in bound.placed}
        for system, mine in bound.systems.items():
            for control in mine.controls:
                handle = control.handle
                if control.name in placed:
                    row, next_row = next_row, next_row + 1
                else:
                    row = row_of[member, handle.idle_at]
                along = _child(bound.member, handle.idle_at) if "swing" in handle.gestures else None
                long = _length(bound.member, handle.idle_at) if handle.form == "band" else _reach(bound.member, control)
                found.append(
                    s.HandleInfo(
                        member=member, part=bound.part.name, control=control.name, label=control.label, form=handle.form,
                        gestures=list(handle.gestures), system=system, side=bound.part.side, row=row,
                        joined=row_of[member, handle.joined_to] if handle.joined_to else None,
                        along=None if along is None else row_of[member, along], always=handle.always, turns=None,
                        size=min(1.0, max(long / BONE, 0.15)),
                    )
                )  # fmt: skip
    return found + list(_points(program))


def _reach(member: Member, control: Control) -> float:
    """Length (metres) at rest of what a control moves by its end: a finger's is drawn smaller than an arm's; that of a bone where
    it moves something else."""
    skeleton = member.skeleton
    if not (control.hangs_from and control.rests_on):
        return BONE
    above, j, found = skeleton.parents[skeleton.index[control.hangs_from]], skeleton.index[control.rests_on], 0.0
    while skeleton.parents[j] not in (above, -1):
        found += float(np.linalg.norm(skeleton.offsets[j]))
        j = skeleton.parents[j]
    return found


def _points(program: Program) -> Iterator[s.HandleInfo]:
    """Handles of the points about which controls are turned, in the order of their rows."""
    for k, point in enumerate(program.take.points):
        bound, _ = owner_of(program, point)
        system = next(n for n, mine in bound.systems.items() if any(c.name == point.control for c in mine.controls))
        yield s.HandleInfo(
            member=point.member, part=bound.part.name, control=f"{point.control} @ {point.name}", label=point.name,
            form="pin", gestures=["turn"], system=system, side=bound.part.side, row=point_rows(program) + k, joined=None,
            along=None, always=False, size=1.0, turns=s.Turns(control=point.control, about=point.place, marker=point.marker),
        )  # fmt: skip


#: Length of a bone (metres) at which a band round its joint is drawn in full size.
BONE = 0.18


def _length(member: Member, joint: str) -> float:
    """Length of a joint's longest bone; of one that ends there that of the bone above."""
    bones = member.skeleton
    below = _child(member, joint)
    return float(np.linalg.norm(bones.offsets[bones.index[below or joint]]))


def _child(member: Member, joint: str) -> str | None:
    """The joint at the end of a joint's longest bone."""
    at = member.skeleton.index[joint]
    below = [j for j, parent in enumerate(member.skeleton.parents) if parent == at]
    if not below:
        return None
    return member.skeleton.joints[max(below, key=lambda j: float(np.linalg.norm(member.skeleton.offsets[j])))].name


def pose_table(program: Program, poses: Poses, values: dict[int, float] | None = None) -> np.ndarray:
    """(F, rows, 7) float32 positions and rotations: all joints of the cast, then the handles that stand elsewhere, in the
    order in which the take tells them, then each member with its size in place of the first number, then the take's
    anchors and the points to turn about, turned as their controls are. `values`: channels that a drag holds elsewhere than
    their curves say.

    Whichever system drives, a control is drawn where it fits the pose: at its own place while its system drives, else on
    its joint; what is computed from the pose is computed from it.
    """
    _, nodes = program.joints()
    table = np.zeros((len(poses.times), table_rows(program), 7), dtype=np.float32)
    table[:, : len(nodes), :3] = poses.pos[:, nodes]
    table[:, : len(nodes), 3:] = poses.rot[:, nodes]
    row = len(nodes)
    placed = [b for b in program.bounds.values() if b.placed]
    # Of all of them at once: each question costs as much as some of the values.
    channels = [b.driver_channels for b in placed]
    shares = program.sample(poses.times, poses.side, np.concatenate([*channels, np.empty(0, dtype=np.int64)]))
    begins = np.cumsum([0, *(len(c) for c in channels)]).tolist()
    for bound, first, last in zip(placed, begins, begins[1:], strict=False):
        order = list(bound.systems)
        driving = bound.driving(shares[first:last])
        computed = program.computed(bound, poses, values) if any(c.handle.computed for _, c in bound.placed) else {}
        for system, control in bound.placed:
            if control.handle.computed:
                table[:, row, :3] = computed[control.name]
                table[:, row, 6] = 1.0
            else:
                at, end = bound.controls[control.name].node, program.nodes[bound.member.id, control.handle.idle_at]
                # Where two systems are mixed, the control is where its own keys say.
                own = ((driving == order.index(system)) | (driving < 0))[:, None]
                table[:, row, :3] = np.where(own, poses.pos[:, at], poses.pos[:, end])
                table[:, row, 3:] = np.where(own, poses.rot[:, at], poses.rot[:, end])
            row += 1
    for member in program.rig.given.members:
        size = poses.size(program.rig.slot_of(program.nodes[member.id, member.skeleton.joints[0].name]))
        table[:, row, 0] = 1.0 if size is None else size
        row += 1
    for anchor in program.take.anchors:
        node = program.nodes[anchor.id, anchor.member.skeleton.joints[0].name]
        table[:, row, :3], table[:, row, 3:] = poses.pos[:, node], poses.rot[:, node]
        row += 1
    _put_points(program, poses, table[:, row:])
    return table


def _put_points(program: Program, poses: Poses, rows: np.ndarray) -> None:
    """Fills rows (F, points, 7) with the points to turn about: in their controls, or in the joints on which those ride while
    another system drives."""
    for k, point in enumerate(program.take.points):
        bound, control = owner_of(program, point)
        order = list(bound.systems)
        system = next(n for n, mine in bound.systems.items() if control.control in mine.controls)
        driving = bound.driving(program.sample(poses.times, poses.side, bound.driver_channels))
        own = ((driving == order.index(system)) | (driving < 0))[:, None]
        end = program.nodes[bound.member.id, control.control.handle.idle_at]
        turn = np.where(own, poses.rot[:, control.node], poses.rot[:, end])
        size = poses.size(control.slot)
        reach = np.array(point.place) * (1.0 if size is None else size[:, None])
        rows[:, k, :3] = np.where(own, poses.pos[:, control.node], poses.pos[:, end]) + rotate(turn, reach)
        rows[:, k, 3:] = turn


# --- findings, clips, comparison ------------------------------------------------------------------------


def finding_info(f: Finding, wanted: bool = False) -> s.FindingInfo:
    return s.FindingInfo(
        key=f.key, kind=f.kind, short=f.short, repairable=f.kind not in REFUSED, member=f.member, part=f.part,
        frame=f.frame, last=f.last, place=f.place, turn=f.turn, sentence=f.sentence, wanted=wanted,
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
    one, two = a.evaluate(frames, only=nodes_a), b.evaluate(frames, only=nodes_b)
    place = np.linalg.norm(two.pos[:, nodes_b] - one.pos[:, nodes_a], axis=-1)
    turn = rotation_distance(two.rot[:, nodes_b], one.rot[:, nodes_a])
    column = {name: k for k, name in enumerate(names)}
    rows = []
    for member in a.rig.given.members:
        for part in member.parts:
            mine = place[:, [column[member.id, j] for j in part.joints]].max(axis=1)
            label = member.row_label(part)
            rows.append(s.PartDifference(member=member.id, part=part.name, label=label, place=mine.tolist()))
    rows.sort(key=lambda r: -max(r.place))
    proof = prove("compare", a, b, float(first), float(last))
    return s.Compared(
        frames=frames.tolist(), place=place.max(axis=1).tolist(), turn=turn.max(axis=1).tolist(),
        parts=[r for r in rows if max(r.place) > 0.0], proof=proof, sentence=proof.sentence,
        findings_a=findings_a, findings_b=findings_b, keys_a=key_count(a.take), keys_b=key_count(b.take),
    )  # fmt: skip


def key_count(take: Take) -> int:
    """Keys of a take and its layers, as a proof counts them."""
    return sum(map(len, take.all_curves.values()))


def contact_infos(program: Program) -> list[s.ContactInfo]:
    """The take's contacts, at each frame from their first on."""
    found = []
    for c, x in zip(program.take.contacts, measure_all(program, program.take.contacts), strict=True):
        at = (x.times - x.times[0]) % 1.0 == 0.0
        found.append(
            s.ContactInfo(
                id=c.id, member=c.member, part=part_of(program, c).part.name, joint=c.joint, anchor=anchor_reads(program, c),
                frames=x.times[at].tolist(), should=x.should[at].tolist(), slip=x.place[at].tolist(),
                depth=x.depth[at].tolist(), hover=x.hover[at].tolist(),
            )
        )  # fmt: skip
    return found


def planks(program: Program, only: Sequence[tuple[str, str]] | None = None) -> dict[tuple[str, str], list[s.Plank]]:
    """The take's contacts by part, of all parts or of some."""
    contacts = [c for c in program.take.contacts if only is None or part_of(program, c).id in only]
    found: dict[tuple[str, str], list[s.Plank]] = {}
    for c, x in zip(contacts, measure_all(program, contacts), strict=True):
        plank = s.Plank(
            id=c.id, anchor=anchor_reads(program, c), of=end_words(program, c), on=named(c), first=c.first, last=c.last,
            slip=float(x.place.max()), turn=float(x.turn.max()), depth=float(x.depth.max()), hover=float(x.hover.max()),
            points=[s.PlankPoint(name=p.name, first=p.first, last=p.last) for p in c.points],
        )  # fmt: skip
        found.setdefault(part_of(program, c).id, []).append(plank)
    return found


def curve_infos(program: Program, channels: list[str], layer: str = "") -> list[s.CurveInfo]:
    """Channels with their keys in the base or in a layer."""
    found = []
    for name in channels:
        if name not in program.channels:
            raise CoreError(f"The take has no channel {name}.")
        c = program.channels[name]
        channel = program.info[c][2]
        kept = _kept(program, c, layer)
        found.append(
            s.CurveInfo(
                channel=name, label=_reading(program, c), unit=channel.trait.unit, kind=channel.kind,
                system=channel.system, default=0.0 if layer else float(program.defaults[c]),
                keys=[s.CurveKey(**k._asdict()) for k in kept.all_keys()],
            )
        )  # fmt: skip
    return found


def _reading(program: Program, channel: int) -> str:
    """A channel as the animator reads it: by its joint, or by its name alone where it is a control's."""
    _member, part, info = program.info[channel]
    return info.reading if info.control in part.joints else info.label or info.name


# --- strands --------------------------------------------------------------------------------------------

#: Kinds of cast members in the order of their rows, with the name of the group that those without groups of their own make.
KINDS = {"character": "", "prop": "props", "set": "set", "camera": "cameras", "anchor": "anchors"}


def strands(program: Program, found: list[Finding], only: Sequence[tuple[str, str]] | None = None) -> list[s.Strand]:
    """One strand for every part of the cast, or for some, characters first."""
    members = [m.id for m in sorted(program.scene.members, key=lambda m: list(KINDS).index(m.kind))]
    rows = []
    _, group_of = row_groups(program)
    standing = planks(program, only)
    for bound in sorted(program.bounds.values(), key=lambda b: members.index(b.member.id)):
        if only is not None and bound.id not in only:
            continue
        member, part = bound.member, bound.part
        shares = program.sample(program.take.frames, LEAVING, bound.driver_channels)
        level = np.zeros(len(program.take.frames))
        for k, share in enumerate(shares):
            level += share * (k + 1 - level)
        names = [*bound.systems, BOTH]
        rows.append(
            s.Strand(
                member=member.id, part=part.name, label=member.row_label(part), side=part.side, kind=part.kind,
                main=len(bound.keyed_systems) > 1, group=group_of[bound.id], systems=system_infos(bound),
                level=_runs(program, level.round(4)),
                states=[(f, names[int(k)]) for f, k in _runs(program, bound.driving(shares))],
                keys=_strand_keys(program, bound), follows=follows(program, bound), contacts=standing.get(bound.id, []),
                findings=[finding_info(f) for f in found if (f.member, f.part) == bound.id],
                operations=[o.id for o in OPERATIONS.values() if o.offered_for(bound)],
            )
        )  # fmt: skip
    return rows


def row_groups(program: Program) -> tuple[list[s.RowGroup], dict[tuple[str, str], str]]:
    """Groups of rows, and the group of every part.

    Parts of one side that hang from one another are a group, led by the one that keys drive in more ways than one: an arm
    with its shoulder and its fingers. What is left of a character is its body, led by
    its root; props, set pieces and cameras are a group each.
    """
    groups: dict[str, s.RowGroup] = {}
    group_of: dict[tuple[str, str], str] = {}
    for kind, label in KINDS.items():
        for member in program.scene.members:
            if member.kind != kind:
                continue
            tops = _tops(program, member)
            for part in member.parts:
                id = f"{member.id}/{tops[part.name]}" if label == "" else label
                group_of[member.id, part.name] = id
                if id in groups:
                    continue
                mine = [p for p in member.parts if tops[p.name] == tops[part.name]]
                several = [p for p in mine if len(program.bound(member.id, p.name).keyed_systems) > 1]
                lead = several[0] if several and tops[part.name] else mine[0]
                if label:
                    groups[id] = s.RowGroup(id=id, label=label, member="", lead=None)
                else:
                    own = "body" if not tops[part.name] else lead.label
                    groups[id] = s.RowGroup(id=id, label=own, member=member.id, lead=lead.name)
    return list(groups.values()), group_of


def _tops(program: Program, member: Member) -> dict[str, str]:
    """The first part of the run of one side that each part hangs in; nothing for those of the body."""
    owner = {joint: part for part in member.parts for joint in part.joints}
    above: dict[str, str] = {}
    for part in member.parts:
        top = part
        while True:
            k = member.skeleton.parents[min(member.skeleton.index[j] for j in top.joints)]
            up = owner.get(member.skeleton.joints[k].name) if k >= 0 else None
            if up is None or up.side != part.side or up is top:
                break
            top = up
        above[part.name] = top.name if part.side in ("left", "right") else ""
    # A part of a side that is alone, and that keys drive in one way, is no group: an ear.
    counts = list(above.values())
    able = {p.name for p in member.parts if len(program.bound(member.id, p.name).keyed_systems) > 1}
    return {n: t if counts.count(t) > 1 or n in able else "" for n, t in above.items()}


def system_infos(bound: Bound) -> list[s.SystemInfo]:
    keyed = set(bound.keyed_systems)
    return [s.SystemInfo(name=n, label=bound.label_of(n), keyed=n in keyed) for n in bound.systems]


def _runs(program: Program, values: np.ndarray) -> list[tuple[int, float]]:
    """(whole frame, value) wherever a value changes from one frame of the take to the next."""
    frames = program.take.frames
    starts = np.flatnonzero(np.concatenate([[True], values[1:] != values[:-1]]))
    return [(int(frames[k]), float(values[k])) for k in starts]


def _belongs(channel: Channel) -> str:
    """What a key of a channel is told as on a strand: its system, "drive" or "offset"."""
    return "drive" if channel.kind == "share" else channel.system or "offset"


def _strand_keys(program: Program, bound: Bound) -> list[s.StrandKey]:
    """Times at which any channel of the part is keyed; what it follows has a bar of its own."""
    marks: dict[float, tuple[set[str], bool]] = {}
    for c in set(bound.own.values()) - set(bound.weight_channels):
        channel = program.info[c][2]
        for row in program.curve(c).numbers[:, :3].tolist():
            systems, split = marks.setdefault(row[0], (set(), False))
            systems.add(_belongs(channel))
            marks[row[0]] = (systems, split or row[1] != row[2])
    return [s.StrandKey(time=t, split=split, systems=sorted(systems)) for t, (systems, split) in sorted(marks.items())]


def follows(program: Program, bound: Bound) -> list[s.Follow]:
    """Stretches of frames over which a part's controls follow anchors."""
    found = []
    frames = program.take.frames
    systems = {c.name: n for n, mine in bound.systems.items() for c in mine.controls}
    mine = [
        t for t in program.take.tethers if t.member == bound.member.id and t.control in bound.followers and t.released
    ]
    weights = {
        t: program.sample(frames, LEAVING, np.array([program.channels[n] for n in t.weights])).max(axis=0) for t in mine
    }
    for tether, weight in weights.items():
        # One lies on top of the other, in the order in which they were made.
        beside = [w for t, w in weights.items() if t.control == tether.control]
        below = [w for t, w in weights.items() if t.control == tether.control and mine.index(t) < mine.index(tether)]
        whole = np.maximum(np.sum(np.maximum(beside, 0.0), axis=0), 1.0)
        # Controls of one system have a band each.
        bands = list(dict.fromkeys(t.control for t in mine if systems[t.control] == systems[tether.control]))
        band, count = bands.index(tether.control), len(bands)
        low = (band + (np.sum(np.maximum(below, 0.0), axis=0) / whole if below else np.zeros(len(frames)))) / count
        high = low + np.maximum(weight, 0.0) / whole / count
        on = np.concatenate([[False], weight > 0.0, [False]])
        edges = np.flatnonzero(on[1:] != on[:-1])
        anchor = _anchor_label(program, tether.anchor_member, tether.anchor)
        apart, turns = _apart(bound, tether), tether.control in bound.turned
        says = " ".join(w for w in (apart, "turns with" if turns else "follows", anchor) if w)
        for a, b in zip(edges[::2], edges[1::2], strict=True):
            starts = [k for k in range(a, b) if k == a or (low[k], high[k]) != (low[k - 1], high[k - 1])]
            shares = [(int(frames[k]), round(float(low[k]), 4), round(float(high[k]), 4)) for k in starts]
            found.append(
                s.Follow(
                    anchor=anchor, control=apart, turns=turns, says=says, system=systems[tether.control],
                    first=float(frames[a]), last=float(frames[b - 1]),
                    weight=float(weight[a:b].max()), shares=shares,
                )
            )  # fmt: skip
    return found


def _apart(bound: Bound, tether: Tether) -> str:
    """What of a part follows, where it is not the part's own control."""
    if tether.control in bound.controls:
        # Of a hand, which finger.
        return "" if tether.control in bound.part.joints else bound.part.headings.get(tether.control, "")
    return bound.followers[tether.control].control.label.removesuffix(f" of the {bound.part.label}")


def _anchor_label(program: Program, member_id: str, anchor: str) -> str:
    if member_id == WORLD:
        return "the world"
    member = program.scene.member(member_id)
    if member.kind != "character":
        # Of what is more than one piece, which one is meant is told too.
        which = f", {in_words(anchor)}" if len(member.skeleton) > 1 and anchor != member.skeleton.joints[0].name else ""
        return f"{member.name.lower()}{which}"
    return f"{member.name}'s {program.rig.words(member_id, anchor)}"


# --- card -----------------------------------------------------------------------------------------------


def layer_infos(program: Program) -> list[s.LayerInfo]:
    """The layers of a take, from the lowest up."""
    found = []
    for layer in program.take.layers:
        spans: dict[tuple[str, str], list[float]] = {}
        for name, kept in layer.curves.items():
            member, part, _ = program.info[program.channels[name]]
            # Where it ends on something it goes on with that.
            low = kept.times[0] if kept.numbers[0, 1] == 0.0 else program.take.first
            high = kept.times[-1] if kept.numbers[-1, 2] == 0.0 else program.take.last
            spans.setdefault((member, part.name), []).extend((float(low), float(high)))
        found.append(
            s.LayerInfo(
                id=layer.id, name=layer.name, mute=layer.mute, solo=layer.solo, heard=layer in heard(program.take.layers),
                weights=[(k.time, k.leaving) for k in layer.weight.all_keys()], stretch=layer.stretch,
                keys=sum(map(len, layer.curves.values())),
                parts=[s.LayerPart(member=m, part=p, first=min(t), last=max(t)) for (m, p), t in spans.items()],
            )
        )  # fmt: skip
    return found


def card(program: Program, member_id: str, part_name: str, frame: float, layer: str = "") -> s.Card:
    """A part at a frame, with the values of its systems and how far the idle ones stand off; layer: the one whose keys are told."""
    if layer:
        layer_of(program.take, layer)
    bound = program.bound(member_id, part_name)
    part, nodes = bound.part, bound.nodes
    here = program.evaluate([frame], only=program.fit_nodes([bound]))
    shares = program.now(frame, bound.driver_channels)
    driver = bound.state(shares[:, None]) or BOTH
    places, turns, residuals, systems = [], [], [], []
    for name, mine in bound.systems.items():
        stored = program.now(frame, mine.channels)
        driving = name == driver
        fits = stored
        if not driving or len(bound.systems) == 1:
            fitted = fit(program, bound, name, here)
            fits = fitted.values[:, 0]
            residuals.append(float(fitted.position[0]))
        # What has no keys stands nowhere.
        if (
            not driving
            and not mine.system.moves_alone
            and any(len(k) for c in mine.channels for k in program.curves_of(c))
        ):
            idle = program.evaluate([frame], overrides={**bound.drive_to(name)}, only=nodes)
            places.append(float(np.linalg.norm(idle.pos[0, nodes] - here.pos[0, nodes], axis=-1).max()))
            turns.append(float(rotation_distance(idle.rot[0, nodes], here.rot[0, nodes]).max()))
        rows = [
            _card_channel(program, int(c), v, f, frame, driving, layer)
            for c, v, f in zip(mine.channels, stored, fits, strict=True)
        ]
        # What poses the whole comes before its joints.
        rows.sort(key=lambda r: r.kind != "value")
        systems.append(
            s.CardSystem(
                system=name,
                label=bound.label_of(name),
                keyed=not mine.system.moves_alone,
                driving=driving,
                channels=rows,
            )
        )
    if driver == BOTH:
        k = max(n for n, v in enumerate(shares) if v > 0.0)
        says = f"Half and half ({shares[k]:.2f} of {bound.label_of(bound.drivers[k][0])}) drive here"
        rule = "Let one system drive here before posing."
    else:
        label = bound.label_of(driver)
        says = f"Driven by {label}" if len(bound.systems) > 1 else ""
        adjusts = bound.systems[driver].system.moves_alone
        rule = (
            "It goes on top of the capture, as an adjustment at this frame."
            if adjusts else f"It goes into {label}, at this frame."
        )  # fmt: skip
    in_system = {int(c) for mine in bound.systems.values() for c in mine.channels}
    weights = set(bound.weight_channels)
    others = [c for c in sorted(set(bound.own.values())) if c not in in_system and c not in weights]
    values = program.now(frame, others)
    return s.Card(
        member=member_id, part=part_name, label=part.label, side=part.side, kind=part.kind, driver=driver, says=says,
        systems=systems, others=[_card_channel(program, c, v, v, frame, True, layer) for c, v in zip(others, values, strict=True)],
        idle_place=max(places, default=None), idle_turn=max(turns, default=None), residual=max(residuals, default=None),
        follows=[f for f in follows(program, bound) if f.first <= frame <= f.last],
        dials=dials(program, bound, frame), rule=rule,
    )  # fmt: skip


def dials(program: Program, bound: Bound, frame: float) -> list[s.Dial]:
    """What the controls of a part can follow, and how far they do at a frame."""
    found: list[s.Dial] = []
    names = program.channel_names()
    told: Counter[tuple[str, str]] = Counter()
    for tether in program.take.tethers:
        if tether.member != bound.member.id or tether.control not in bound.followers:
            continue
        channels = [program.channels[n] for n in tether.weights]
        # The same thing may be followed at several places: by the hand, and by a grip.
        anchor = _anchor_label(program, tether.anchor_member, tether.anchor)
        told[tether.control, anchor] += 1
        which = told[tether.control, anchor]
        found.append(
            s.Dial(
                anchor=f"{anchor} {which}" if which > 1 else anchor,
                control=_apart(bound, tether), channels=[names[c] for c in channels],
                weight=float(program.now(frame, channels).max(initial=0.0)),
                keyed=any(program.curve(c).find(frame) is not None for c in channels),
            )
        )  # fmt: skip
    return found


def _group(part: Part, channel: Channel) -> str:
    """Under which heading a value stands on the card."""
    if channel.kind == "value":
        return "as a whole, 0 to 1"
    return part.headings.get(channel.control, "")


def _card_channel(
    program: Program, c: int, value: float, fits: float, frame: float, live: bool, layer: str
) -> s.CardChannel:  # fmt: skip
    member, part, channel = program.info[c]
    bound = program.bound(member, part.name)
    held = any(bool(mine.held[k]) for mine in bound.systems.values() for k in np.flatnonzero(mine.channels == c))
    least, most = (float(x) if np.isfinite(x) else None for x in channel.bounds)
    return s.CardChannel(
        name=program.channel_names()[c], label=_reading(program, c),
        group=_group(part, channel), short=channel.label or channel.name,
        unit=channel.trait.unit, kind=channel.kind, locked=held,
        least=least, most=most, value=float(value), fits=float(fits), standard=float(program.defaults[c]),
        keyed=_kept(program, c, layer).find(frame) is not None, live=live, own=_own(program, c, frame, layer),
        made_of=_made_of(program, c, frame),
    )  # fmt: skip


def _kept(program: Program, c: int, layer: str) -> Curve:
    """Keys of a channel in a layer, or in the base."""
    return layer_of(program.take, layer).curves.get(program.channel_names()[c], EMPTY) if layer else program.curve(c)


def _own(program: Program, c: int, frame: float, layer: str) -> float:
    """What a channel has in a layer, or in the base, at a frame."""
    return float(sample(_kept(program, c, layer), [frame], default=0.0 if layer else float(program.defaults[c]))[0])


def _made_of(program: Program, c: int, frame: float) -> str:
    """What the base and the layers give to a value, in words; empty where nothing lies on it."""
    name, unit = program.channel_names()[c], program.info[c][2].trait.unit
    size, word = {"rad": (180.0 / np.pi, "°"), "m": (1000.0, " mm")}.get(unit, (1.0, ""))
    layers = [x for x in program.take.layers if name in x.curves]
    if not layers:
        return ""
    told = [f"base {size * _own(program, c, frame, ''):.1f}{word}"]
    for x in layers:
        quiet = "" if x in program.layering.layers else " (not heard)"
        told.append(f"{x.name} {size * _own(program, c, frame, x.id):+.1f}{word}{quiet}")
    return f"{', '.join(told)}; in all {size * float(program.now(frame, [c])[0]):.1f}{word}"


#: Half of what a small picture of several people shows from side to side, metres.
WIDEST = 0.45
#: What is thinner than this is left out of it, metres.
THIN = 0.025


def pose_strip(program: Program, count: int = 9) -> s.PoseStrip:
    """The characters at a few frames, as seen from the front left: what of their bodies is round and not small, as thick lines; of
    one without a body its bones."""
    frames = np.linspace(program.take.first, program.take.last, count).round()
    poses = program.evaluate(frames)
    x, z = np.cos(0.6), np.sin(0.6)
    pictures: list[list[tuple[float, float, float, float, float]]] = [[] for _ in frames]
    people = [m for m in program.scene.members if m.kind == "character"]
    centres = [program.nodes[m.id, m.skeleton.joints[m.skeleton.centre].name] for m in people]
    # All as they stand about the middle of them, and as small as they must be to be seen together.
    base = poses.pos[:, centres].mean(axis=1) if people else np.zeros((len(frames), 3))
    seen = poses.pos - base[:, None]
    flat = np.stack([seen[..., 0] * x - seen[..., 2] * z, seen[..., 1]], axis=-1)
    mine = [[program.nodes[m.id, j.name] for j in m.skeleton.joints] for m in people]
    widest = max((float(np.abs(flat[:, nodes, 0]).max()) for nodes in mine), default=0.0)
    size = min(1.0, WIDEST / max(widest, 1e-6)) if len(people) > 1 else 1.0
    for member, nodes in zip(people, mine, strict=True):
        lines: list[tuple[Floats, Floats, float]] = []
        for shape in member.shapes:
            wide = float(np.mean(shape.size)) if shape.form in ("capsule", "ball") else 0.0
            if wide >= THIN:
                n = program.nodes[member.id, shape.joint]
                own = program.sizes(frames, 0, n)[:, None]
                ends = [shape.a, shape.b if shape.form == "capsule" else shape.a]
                at = [poses.pos[:, n] + own * rotate(poses.rot[:, n], np.array(e)) - base for e in ends]
                lines.append((at[0], at[1], wide * float(own[0, 0])))
        if not lines:
            lines = [
                (seen[:, nodes[parent]], seen[:, nodes[j]], THIN)
                for j, parent in enumerate(member.skeleton.parents) if parent >= member.skeleton.centre
            ]  # fmt: skip
        for one, two, wide in lines:
            a, b = (size * np.stack([v[:, 0] * x - v[:, 2] * z, v[:, 1]], axis=-1) for v in (one, two))
            for picture, row in zip(pictures, np.round(np.concatenate([a, b], axis=1), 3).tolist(), strict=True):
                picture.append((*row, round(2.0 * size * wide, 3)))
    return s.PoseStrip(frames=frames.tolist(), bones=pictures)
