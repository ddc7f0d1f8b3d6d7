"""The other side of a body: which part takes the motion of which, and what comes along with it as it is there.

Follows, contacts, what drives, lengths, pivot points, marks on findings and captured samples go over by the pairs of parts; the
motion of joints and keys is `operations.mirror`'s work.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from .channels import channel_id
from .clips import partner
from .contacts import cleared, with_contact
from .curves import Curve, insert
from .errors import CoreError
from .followers import BoundControl
from .follows import free_name
from .glass import Glass, Shown
from .kernels.hierarchy import to_local
from .parts.root import ABOUT
from .pivots import turnable
from .program import Program
from .rig import Bound
from .sides import SAME, own_plane
from .takes import PIVOT, Capture, Contact, PivotPoint, Take, Tether
from .transforms import Floats, Ints, inverse, multiply, rotate

#: A prop that differs by more from what a mirror shows of it is told, metres.
ONE_SIDED = 2e-3
#: The part that takes the motion of one on the other side, by the id of that; itself where it is to keep its own.
Mates = Mapping[tuple[str, str], str]


class Pairs(dict[tuple[str, str], Bound]):
    """For each part that is mirrored, by its id, the one that takes its motion; `alone`: those that take their own, since none is
    like them on the other side. Joints and controls are known by `over`: what one is called there, by member and name; `planes`:
    the normal of each member's own plane at rest, in which it is as it is in a mirror."""

    def __init__(
        self, program: Program, pairs: Mapping[tuple[str, str], Bound], alone: frozenset[tuple[str, str]]
    ) -> None:
        super().__init__(pairs)
        self.alone = alone
        self.planes = {m: own_plane(program.scene.member(m))[0] for m in {id[0] for id in pairs}}
        self.over: dict[tuple[str, str], str] = {}
        for id, other in pairs.items():
            bound = program.bounds[id]
            names = [(a.name, b.name) for a, b in zip(bound.described, other.described, strict=True)]
            for one, two in (*zip(bound.part.joints, other.part.joints, strict=True), *names):
                self.over.setdefault((id[0], one), two)

    def flip(self, member: str) -> Floats:
        """(3, 3) the reflection in a member's own plane at rest."""
        found: Floats = np.eye(3) - 2.0 * np.outer(self.planes[member], self.planes[member])
        return found

    @property
    def members(self) -> set[str]:
        """Ids of bodies and props that are mirrored, in part or whole."""
        return {id[0] for id in self}

    def named(self, member: str, name: str) -> str:
        """What a joint or control is called on the other side; its own name where it does not go there."""
        return self.over.get((member, name), name)


def mate(program: Program, id: tuple[str, str], mates: Mates) -> Bound | None:
    """The part that is like one on the other side; itself in the middle, None where none is. `mates`: as the animator says, both
    ways; one that is said to be its own has none."""
    if id in mates:
        return None if mates[id] == id[1] else program.bound(id[0], mates[id])
    found = partner(program.bounds[id].member, program.bounds[id].part)
    # A part that was given to another is nobody else's any more.
    return None if found is None or (id[0], found.name) in mates else program.bound(id[0], found.name)


def whole_pairs(
    program: Program, members: list[str], flips: bool, mates: Mates, itself: bool = False
) -> tuple[Pairs, list[str]]:  # fmt: skip
    """Pairs of all parts of bodies and props, and what is told of parts that have none like them on the other side;
    `itself`: whether props that are not alike on both sides are mirrored themselves."""
    pairs: dict[tuple[str, str], Bound] = {}
    alone, notes = set(), []
    for member in members:
        for part in program.scene.member(member).parts:
            id = (member, part.name)
            other = mate(program, id, mates) if flips else program.bounds[id]
            if other is None:
                alone.add(id)
                notes.append(
                    f"{part.label}: {program.scene.member(member).name} has no part like it on the other side; it keeps its own "
                    f"motion, carried along with what it hangs from."
                )
            pairs[id] = other or program.bounds[id]
        whose = program.scene.member(member)
        if flips and (unlike := own_plane(whose)[1]) > ONE_SIDED:
            also = " and is mirrored itself" if itself else ", and keeps its own shape"
            notes.append(
                f"{whose.name} is not alike on both sides (by {1000 * unlike:.0f} mm): it changes hands{also}."
            )
    return Pairs(program, pairs, frozenset(alone)), notes


def part_pairs(program: Program, parts: list[tuple[str, str]], mates: Mates, both: bool) -> Pairs:
    """Pairs of single parts, which change sides within their body, `both` ways or only onto the other side. CoreError where one has
    none like it there, or hangs from nothing."""
    pairs: dict[tuple[str, str], Bound] = {}
    for id in parts:
        bound = program.bounds[id]
        if bound.part.free:
            raise CoreError(f"{bound.who} hangs from nothing in which it could change sides: mirror the whole body.")
        other = mate(program, id, mates)
        if other is None:
            raise CoreError(
                f"{bound.who} has no part like it on the other side: leave it out, or say which part it is."
            )
        for one, two in ((bound, other), (other, bound)) if both else ((bound, other),):
            pairs[one.id] = two
    if not pairs:
        raise CoreError("No part here has one like it on the other side.")
    return Pairs(program, pairs, frozenset())


def tethers_over(
    program: Program, pairs: Pairs, flips: bool
) -> tuple[tuple[Tether, ...], dict[tuple[str, str, str], str]]:
    """Follows of the mirrored take, and the name of each follow on the other side by (member, control, name)."""
    tethers = list(program.take.tethers)
    renamed: dict[tuple[str, str, str], str] = {}
    given: set[tuple[str, str, str]] = set()
    if not flips:
        return program.take.tethers, {(t.member, t.control, t.name): t.name for t in tethers}
    mirrored = pairs.members
    own = {(id[0], c) for id in pairs.alone for c in pairs[id].followers}
    for t in program.take.tethers:
        if (t.member, t.control) not in pairs.over or (t.member, t.control) in own:
            continue
        control = pairs.named(t.member, t.control)
        anchor = t.anchor
        if t.anchor_member in mirrored:
            anchor = pairs.named(t.anchor_member, t.anchor)
        offset = _offset(program, pairs, t, control, anchor)
        wanted = (t.member, control, t.anchor_member, anchor, t.position, t.rotation)
        # Two that are alike stay two: each goes to one of its own, by its name where there is that.
        there = [x for x in tethers
                 if (x.member, x.control, x.anchor_member, x.anchor, x.position, x.rotation) == wanted
                 and (x.member, x.control, x.name) not in given
                 and (offset is None or _tied_alike(_reach(program, x), offset))]  # fmt: skip
        there.sort(key=lambda x: x.name != t.name)
        if not there:
            taken = {x.name for x in tethers if (x.member, x.control) == (t.member, control)}
            name = free_name(t.name, t.anchor_member, taken)
            tied = None if offset is None else tuple(map(float, offset))
            there = [replace(t, name=name, control=control, anchor=anchor, offset=tied)]  # type: ignore[arg-type]
            tethers += there
        given.add((t.member, control, there[0].name))
        renamed[t.member, t.control, t.name] = there[0].name
    return tuple(tethers), renamed


def _reach(program: Program, tether: Tether) -> Floats:
    """(7,) place and rotation at which a control is tied to what it follows; not a number for one that is new."""
    for bound in program.bounds.values():
        control = bound.followers.get(tether.control) if bound.member.id == tether.member else None
        mine = [t for t in program.take.tethers if (t.member, t.control) == (tether.member, tether.control)]
        if control is not None and tether in mine:
            one = control.anchors[mine.index(tether)]
            return np.concatenate([one.pos, one.rot])
    if tether.offset is not None:
        return np.array(tether.offset)
    return np.full(7, np.nan)


def _tied_alike(a: Floats, b: Floats) -> bool:
    """Whether two ties are the same; a rotation and its negative are."""
    turned = min(float(np.abs(a[3:] - b[3:]).max()), float(np.abs(a[3:] + b[3:]).max()))
    return bool(np.abs(a[:3] - b[:3]).max() <= SAME and turned <= SAME)


def _rest(program: Program, member: str, name: str) -> Floats:
    """(4,) rest rotation of a joint, or of the joint on which a control rests; a guide is not turned."""
    whose = program.scene.member(member)
    if name not in whose.skeleton.index:
        mine = [b for b in program.bounds.values() if b.member.id == member]
        control = next(c for b in mine for c in b.described if c.name == name)
        if not control.rests_on:
            return np.array([0.0, 0.0, 0.0, 1.0])
        name = control.rests_on
    rest: Floats = whose.skeleton.rest_pose[1][whose.skeleton.index[name]]
    return rest


def _offset(program: Program, pairs: Pairs, tether: Tether, control: str, anchor: str) -> Floats | None:
    """(7,) how a mirrored control is tied to a mirrored anchor: as the mirror shows it. None where the anchor stays."""
    if tether.anchor_member not in pairs.members:
        return None
    reach = _reach(program, tether)
    a, b = (_rest(program, tether.anchor_member, n) for n in (tether.anchor, anchor))
    one, two = (_rest(program, tether.member, n) for n in (tether.control, control))
    own, theirs = (pairs.planes[m] for m in (tether.member, tether.anchor_member))
    seen = rotate(a, reach[:3])
    seen = seen - 2.0 * float(seen @ theirs) * theirs
    turned = multiply(
        multiply(np.append(theirs, 0.0), multiply(a, reach[3:])), multiply(inverse(one), np.append(own, 0.0))
    )
    turn = multiply(inverse(b), multiply(turned, two))
    return np.concatenate([rotate(inverse(b), seen), turn * (1.0 if turn[3] >= 0.0 else -1.0)])


def contacts_over(program: Program, pairs: Pairs, first: float, last: float) -> tuple[Contact, ...]:
    """Contacts of the mirrored take: from first to last those of the other side."""
    mirrored = pairs.members
    take = program.take
    shown = []
    for c in take.contacts:
        if (c.member, c.joint) not in pairs.over or c.first >= last or c.last <= first:
            continue
        anchor = pairs.named(c.anchor_member, c.anchor) if c.anchor_member in mirrored else c.anchor
        if kept := c.cut(first, last):
            shown.append(replace(kept, joint=pairs.named(c.member, c.joint), anchor=anchor))
    theirs = {(member, there) for (member, _), there in pairs.over.items()}
    for c in (c for c in take.contacts if (c.member, c.joint) in theirs):
        take = replace(take, contacts=tuple(cleared(take, c.member, c.joint, first, last)))
    for c in shown:
        take = with_contact(take, c)
    return take.contacts


def marks_over(take: Take, pairs: Pairs, first: float, last: float) -> tuple[str, ...]:
    """Marks on findings that are wanted: from first to last those of the other side."""
    found, shown = [], []
    theirs = {other.id for other in pairs.values()}
    for key in take.wanted:
        kind, _, rest = key.partition("/")
        where, _, frame = rest.rpartition("/")
        member, _, part = where.partition("/")
        inside = first <= float(frame) <= last
        if inside and (member, part) in pairs:
            shown.append(f"{kind}/{member}/{pairs[member, part].id[1]}/{frame}")
        if not (inside and (member, part) in theirs):
            found.append(key)
    return tuple(dict.fromkeys([*found, *shown]))


def switches_over(program: Program, pairs: Pairs, renamed: dict[tuple[str, str, str], str]) -> dict[str, Curve]:
    """What drives, what is followed and how large it is, as it is on the other side."""
    found: dict[str, Curve] = {}
    for id, other in pairs.items():
        bound = program.bounds[id]
        if id in pairs.alone:
            continue
        for (control, name), c in bound.own.items():
            size = bound.body is not None and c == bound.body.size
            if not (c in bound.switches or c in bound.hold or size) or not len(program.curve(c)):
                continue
            there = pairs.named(id[0], control) if control != bound.part.name else other.part.name
            tether, dot, what = name.rpartition(".")
            on_other_side = f"{renamed[id[0], control, tether]}.{what}" if dot else name
            found[f"{id[0]}/{there}.{on_other_side}"] = program.curve(c)
    return found


def lengths_over(program: Program, now: Program, bound: Bound, other: Bound, flip: Floats) -> dict[str, Curve]:
    """Length channels of a part on the other side: turned from what a joint hangs from at rest to what its partner does; and
    the point about which a root's body grows, turned from the one root at rest to the other. flip (3, 3): of its body at rest."""
    names = now.channel_names()
    triples = [
        (a, b, _rest_above(bound, k), _rest_above(other, k), bound.offsets[k], other.offsets[k])
        for k, (a, b) in enumerate(zip(bound.moving, other.moving, strict=True))
    ]
    if bound.part.grows:
        points = (np.array([b.own[b.part.joints[0], c] for c in ABOUT]) for b in (bound, other))
        triples.append((*points, bound.rests[0], other.rests[0], np.zeros(3), np.zeros(3)))
    return _turned(program, names, triples, flip)


def pivots_over(program: Program, pairs: Pairs, flips: bool) -> dict[str, Curve]:
    """Points about which controls turn, as they are in the controls on the other side."""
    found: dict[str, Curve] = {}
    for bound, one, two, turn in _turning(program, pairs, flips):
        if one.pivot >= 0:
            names = [channel_id(bound.member.id, two.control.name, axis) for axis in PIVOT]
            points = one.pivot + np.arange(3)
            found |= _mixed(program, points, names, turn)
    return found


def points_over(program: Program, pairs: Pairs, flips: bool) -> tuple[PivotPoint, ...]:
    """Named points, in the controls on the other side."""
    over = {
        (b.member.id, one.control.name): (two.control.name, turn)
        for b, one, two, turn in _turning(program, pairs, flips)
    }
    theirs = {(member, there) for (member, _), (there, _) in over.items()}
    found = [p for p in program.take.points if (p.member, p.control) not in theirs]
    for p in program.take.points:
        if (p.member, p.control) in over:
            control, turn = over[p.member, p.control]
            place, marker = (tuple((turn @ np.array(x)).tolist()) for x in (p.place, p.marker))
            found.append(replace(p, control=control, place=place, marker=marker))
    return tuple(found)


def _turning(program: Program, pairs: Pairs, flips: bool) -> Iterator[tuple[Bound, BoundControl, BoundControl, Floats]]:
    """Controls that turn about points, each with its partner and what makes (3, 3) a place in the one one in the other."""
    for id, other in pairs.items():
        bound = program.bounds[id]
        if id in pairs.alone:
            continue
        for one, two in zip(turnable(bound), turnable(other), strict=True):
            up, down = (_rest_of(b, c) for b, c in ((bound, one), (other, two)))
            yield bound, one, two, _between_rests(up, down, pairs.flip(id[0]) if flips else np.eye(3))


def _rest_of(bound: Bound, control: BoundControl) -> Floats:
    """(4,) rest rotation of a control: that of the joint it rests on."""
    skeleton = bound.member.skeleton
    rest: Floats = skeleton.rest_pose[1][skeleton.index[control.control.rests_on]]
    return rest


def _between_rests(up: Floats, down: Floats, flip: Floats) -> Floats:
    """(3, 3) what a reflection makes of places in something with one rest rotation, in something with another."""
    # Columns of a rotation are what it makes of the axes.
    turn: Floats = rotate(np.tile(inverse(down), (3, 1)), rotate(np.tile(up, (3, 1)), np.eye(3)) @ flip).T
    return turn


def _turned(program: Program, names: list[str], triples: list[Any], flip: Floats) -> dict[str, Curve]:
    """Lengths along three axes on the other side: mine and theirs (3,) channels, rest rotations and offsets of both."""
    found: dict[str, Curve] = {}
    for mine, theirs, up, down, rest, other_rest in triples:
        if mine[0] < 0 or theirs[0] < 0 or not any(len(program.curve(int(c))) for c in mine):
            continue
        turn = _between_rests(up, down, flip)
        if np.abs(turn @ rest - other_rest).max() > SAME:
            # Bones that are not alike at rest: what lengthens one lengthens the other.
            found |= {names[b]: program.curve(int(c)) for c, b in zip(mine, theirs, strict=True)}
            continue
        found |= _mixed(program, mine, [names[c] for c in theirs], turn)
    return found


def _mixed(program: Program, mine: Ints, theirs: list[str], turn: Floats) -> dict[str, Curve]:
    """Curves of three lengths (channels `mine`) turned by turn (3, 3), under other names; those without keys are left out."""
    found: dict[str, Curve] = {}
    times = np.unique(np.concatenate([program.curve(int(c)).times for c in mine]))
    whole = [program.curve(int(c)) for c in mine]
    for t in times.tolist():
        whole = [insert(w, t, float(program.defaults[int(c)])) for c, w in zip(mine, whole, strict=True)]
    mixed = np.einsum("ij,jtn->itn", turn, np.stack([c.numbers[:, 1:] for c in whole]))
    for axis, name in enumerate(theirs):
        # Where one axis alone makes another, its own keys do.
        source = np.flatnonzero(np.abs(turn[axis]) > SAME)
        if len(source) == 1 and abs(abs(turn[axis, source[0]]) - 1.0) <= SAME:
            kept = program.curve(int(mine[source[0]]))
            numbers = kept.numbers.copy()
            numbers[:, 1:] *= np.sign(turn[axis, source[0]])
            found[name] = Curve(numbers, kept.marks.copy())
        else:
            found[name] = Curve(np.column_stack([times, mixed[axis]]), whole[axis].marks.copy())
    return {n: c for n, c in found.items() if len(c)}


def _rest_above(bound: Bound, k: int) -> Floats:
    """(4,) rest rotation of what a joint hangs from."""
    skeleton = bound.member.skeleton
    parent = skeleton.parents[skeleton.index[bound.part.joints[k]]]
    rest: Floats = skeleton.rest_pose[1][parent] if parent >= 0 else np.array([0.0, 0.0, 0.0, 1.0])
    return rest


def capture_over(program: Program, member: str, pairs: Pairs, glass_of: Callable[[Bound], Glass]) -> Capture:
    """A capture as the mirror shows it: the motion of each joint on its partner, by the glass of each part. Joints that do not
    change sides are where they were in what they hang from."""
    own = program.take.captures[member]
    at = own.first + own.step * np.arange(float(len(own.offsets)))
    skeleton = program.scene.member(member).skeleton
    alone: dict[int, float | Floats] = {}
    for b in program.bounds.values():
        if b.member.id == member:
            alone |= b.drive_to(list(b.systems)[-1])
            # The samples themselves, without what is adjusted on top.
            alone |= {int(c): 0.0 for c in b.systems[list(b.systems)[-1]].channels}
            # And at the size that they were taken at.
            alone |= {b.body.size: 1.0} if b.body else {}
    nodes = program.joints([member])[1].tolist()
    column = {node: j for j, node in enumerate(nodes)}
    poses = program.evaluate(at, overrides=alone, only=nodes)
    rests = skeleton.rest_pose[1]
    source: dict[int, tuple[int, Glass]] = {}
    for id, other in pairs.items():
        if id[0] == member and id not in pairs.alone:
            bound = program.bounds[id]
            mine = zip(bound.part.joints, other.part.joints, strict=True)
            source |= {skeleton.index[two]: (skeleton.index[one], glass_of(bound)) for one, two in mine}
    seen: dict[int, Shown] = {}
    pos, rot = np.empty((len(at), len(nodes), 3)), np.empty((len(at), len(nodes), 4))
    for j, up in enumerate(skeleton.parents):
        if j in source:
            k, glass = source[j]
            if glass.node not in seen:
                fixed = column.get(glass.node)
                seen[glass.node] = (
                    glass.at(at)
                    if fixed is None
                    else Shown(glass, poses.pos[:, glass.node], poses.rot[:, glass.node], pos[:, fixed], rot[:, fixed])
                )
            pos[:, j] = seen[glass.node].place(poses.pos[:, nodes[k]])
            rot[:, j] = seen[glass.node].turn(poses.rot[:, nodes[k]], rests[k], rests[j])
        elif up < 0:
            pos[:, j], rot[:, j] = poses.pos[:, nodes[j]], poses.rot[:, nodes[j]]
        else:
            pos[:, j] = pos[:, up] + rotate(rot[:, up], own.offsets[:, j])
            rot[:, j] = multiply(rot[:, up], own.rotations[:, j])
    offsets, turns = np.empty_like(pos), np.empty_like(rot)
    to_local(np.array(skeleton.parents, dtype=np.int64), pos, rot, offsets, turns)
    for k in range(1, len(turns)):
        turns[k, np.sum(turns[k] * turns[k - 1], axis=-1) < 0.0] *= -1.0
    return Capture(offsets, turns, own.first, own.step)
