"""Transfer: a take of one character moved to another version of it by name, with systems, follows and contacts.

Names are compared without the prefix that each side's carry. What matches is carried over as it is, so that it comes back
bit for bit; nothing is fitted here. What does not match is told before anything is done: it stays behind, and nothing is
ever added to the cast that the take goes to.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import fields, replace
from typing import Any, NamedTuple

import numpy as np

from ..cast import Member
from ..channels import channel_id
from ..contacts import reads as contact_reads
from ..curves import Curve
from ..errors import CoreError
from ..parts import Part
from ..program import Program
from ..proof import Worst, sample_times, worse
from ..rig import Bound
from ..takes import WORLD, Capture, Contact, PivotPoint, Scene, Take, Tether
from ..transforms import rotation_distance

#: Rest places (metres) and rotations that differ by less are the same.
SAME = 1e-9
#: What of a part is said of it, not what it does.
_WORDS = ("name", "label", "side", "hinge_from", "role")


class Names(NamedTuple):
    """The prefixes that the names of the source and of the target carry, not counted when names are compared."""

    source: str = ""
    target: str = ""


class Mismatch(NamedTuple):
    """Something that does not match: `what` it is (part, channel, follow, contact, joint, rest, capture, member), its name,
    and why, with what that means."""

    what: str
    name: str
    says: str


class Transferred(NamedTuple):
    """The take for the other scene and an account of it: parts, channels and keys that came along, what did not match, and
    how far any joint of both is from where the source has it, at frames and half-frames (metres, radians)."""

    take: Take
    parts: int
    channels: int
    keys: int
    follows: int
    contacts: int
    mismatches: tuple[Mismatch, ...]
    place: Worst
    turn: Worst

    @property
    def sentence(self) -> str:
        """The account in one line."""
        far = f"{1000 * self.place.value:.1f} mm" if self.place.value > 1e-6 else "0 mm"
        where = f", {self.place.joint} at frame {self.place.frame:g}" if self.place.value > 1e-6 else ""
        missing = len(self.mismatches)
        rest = "everything matches" if not missing else f"{missing} thing{'s' if missing > 1 else ''} did not match"
        return (
            f"{self.parts} parts with {self.channels} channels and {self.keys} keys, {self.follows} follows and "
            f"{self.contacts} contacts came along; {rest}; joints that both have are within {far} and "
            f"{np.degrees(self.turn.value):.2f}° of the source{where}."
        )


def prefixes(member: Member) -> list[str]:
    """Prefixes that names of a body may carry: none, what all its joints share up to a mark, and what most carry."""
    names = [j.name for j in member.skeleton.joints]
    marked = Counter(n[: k + 1] for n in names for k, letter in enumerate(n[:-1]) if letter in ":|_")
    found = {"", *(p for p, count in marked.items() if count > len(names) // 2)}
    low, high = min(names), max(names)
    shared = next((k for k, (a, b) in enumerate(zip(low, high, strict=False)) if a != b), 0)
    return sorted((p for p in {*found, low[:shared]} if not _alike(member, p)), key=lambda p: (len(p), p))


def _alike(member: Member, prefix: str) -> str:
    """A name that two joints, or two parts, of a body share once a prefix is left out; nothing where none do."""
    for names in ([j.name for j in member.skeleton.joints], [p.name for p in member.parts]):
        twice = [n for n, count in Counter(_bare(n, prefix) for n in names).items() if count > 1]
        if twice:
            return twice[0]
    return ""


def propose(source: Member, target: Member) -> Names:
    """The prefixes with which most joints have the same name on both sides; the shortest of those."""
    best = Names()
    most = -1
    for a in prefixes(source):
        mine = {_bare(j.name, a) for j in source.skeleton.joints}
        for b in prefixes(target):
            matched = len(mine & {_bare(j.name, b) for j in target.skeleton.joints})
            if matched > most:
                best, most = Names(a, b), matched
    return best


def _bare(name: str, prefix: str) -> str:
    return name[len(prefix) :] if prefix and name.startswith(prefix) and len(name) > len(prefix) else name


def transfer(
    program: Program, member: str, scene: Scene, target: str, names: Names | None = None, called: str = ""
) -> Transferred:
    """Moves a take's character `member` to the character `target` of a scene. CoreError says what can't be done.

    names: the prefixes to leave out; proposed from both bodies where they are not given. The scene's other members come
    along by their ids where both casts have them.
    """
    source, other = program.scene.member(member), scene.member(target)
    for one in (source, other):
        if one.kind != "character":
            raise CoreError(f"{one.name} is no character: a take is moved from one character to another.")
    names = names or propose(source, other)
    for one, prefix in ((source, names.source), (other, names.target)):
        alike = _alike(one, prefix)
        if alike:
            raise CoreError(f"Without {prefix!r} two things of {one.name} are called {alike}: choose another prefix.")
    work = _Work(program.merged, scene, source, other, names)
    if told := ", ".join(x.name for x in program.take.layers):
        heard = "what is heard of them is merged into the curves, the rest stays behind"
        work.miss("layer", told, heard)
    return work.run(called)


class _Work:
    """One transfer while it is made."""

    def __init__(self, program: Program, scene: Scene, source: Member, target: Member, names: Names) -> None:
        self.program, self.scene, self.names = program, scene, names
        self.source, self.target = source, target
        self.mismatches: list[Mismatch] = []
        #: Members that come along, with those they become; the character first.
        self.members: dict[str, Member] = {source.id: target}
        for other in program.scene.members:
            there = next((m for m in scene.staged(program.take.anchors).members if m.id == other.id), None)
            if other.id != source.id and there is not None and there.id != target.id and there.kind == other.kind:
                self.members[other.id] = there
        # What has a body of its own here, by the bare names of its joints and controls there.
        plain = Take("none", program.take.rate, program.take.first, program.take.last, anchors=program.take.anchors)
        self.there = Program(scene, plain)

    def names_of(self, member: str) -> Names:
        return self.names if member == self.source.id else Names()

    def miss(self, what: str, name: str, says: str) -> None:
        self.mismatches.append(Mismatch(what, name, says))

    def run(self, called: str) -> Transferred:
        take = self.program.take
        for member in self.program.scene.members:
            if member.id not in self.members and self._moves(member):
                self.miss("member", member.name, "is not in the other cast; what moves it stays behind")
        pairs = list(self._pairs())
        tethers, weights = self._tethers()
        curves, channels = self._curves(pairs, weights)
        contacts = tuple(c for c in map(self._contact, take.contacts) if c is not None)
        captures = self._captures()
        made = Take(called or take.name, take.rate, take.first, take.last, curves, tethers, captures, (), contacts,
                    take.anchors, tuple(p for p in map(self._pivot_point, take.points) if p is not None))  # fmt: skip
        if take.wanted:
            self.miss("mark", f"{len(take.wanted)} findings", "are marked as wanted here; the marks stay behind")
        after = Program(self.scene, made)
        after.check_loops()
        place, turn = self._measured(after)
        keys = sum(len(c) for c in curves.values())
        return Transferred(
            made, len(pairs), channels, keys, len(tethers), len(contacts), tuple(self.mismatches), place, turn
        )

    def _moves(self, member: Member) -> bool:
        take = self.program.take
        return member.id in take.captures or any(n.startswith(f"{member.id}/") for n in take.curves)

    # --- parts ----------------------------------------------------------------------------------------

    def _pairs(self) -> Iterator[tuple[Bound, Bound]]:
        """Parts of both sides that are the same; what is not is told."""
        for id, other in self.members.items():
            mine, theirs = self.names_of(id)
            member = self.program.scene.member(id)
            found = {_bare(p.name, theirs): p for p in other.parts}
            used = set()
            for part in member.parts:
                bound = self.program.bound(id, part.name)
                same = found.get(_bare(part.name, mine))
                if same is None:
                    if self._keyed(bound):
                        self.miss("part", bound.who, f"{other.name} has no such part; {self._count(bound)} stay behind")
                    continue
                used.add(same.name)
                why = self._unlike(part, same, Names(mine, theirs))
                if why:
                    if self._keyed(bound):
                        self.miss("part", bound.who, f"{why}; {self._count(bound)} stay behind")
                    continue
                self._rests(bound, member, other, part, same)
                yield bound, self.there.bound(other.id, same.name)
            for part in other.parts:
                if part.name not in used:
                    self.miss("part", other.reads(part), "is not in the source; it stays at rest")

    def _keyed(self, bound: Bound) -> bool:
        return any(len(self.program.curve(c)) for c in bound.own.values())

    def _count(self, bound: Bound) -> str:
        curves = [self.program.curve(c) for c in bound.own.values()]
        return f"{sum(1 for c in curves if len(c))} channels with {sum(len(c) for c in curves)} keys"

    def _unlike(self, a: Part, b: Part, names: Names) -> str:
        """Why two parts of the same name are not the same, or nothing."""
        if a.kind != b.kind:
            return f"it is a {b.kind} there, a {a.kind} here"
        if [_bare(j, names.source) for j in a.joints] != [_bare(j, names.target) for j in b.joints]:
            return f"it has other joints there: {', '.join(b.joints)}"
        if a.joint_orders != b.joint_orders:
            return "its joints have other rotation orders there"
        unlike = [
            f.name for f in fields(a)  # type: ignore[arg-type]
            if f.name not in (*_WORDS, "joints", "locked")
            and _plain(getattr(a, f.name), names.source) != _plain(getattr(b, f.name), names.target)
        ]  # fmt: skip
        return f"it is set up otherwise there ({', '.join(unlike)})" if unlike else ""

    def _rests(self, bound: Bound, member: Member, other: Member, part: Part, same: Part) -> None:
        """Tells where the rest pose of a part, or what it hangs from, is another."""
        for a, b in zip(part.joints, same.joints, strict=True):
            i, j = member.skeleton.index[a], other.skeleton.index[b]
            one, two = member.skeleton.joints[i], other.skeleton.joints[j]
            off = float(np.linalg.norm(np.subtract(one.offset, two.offset)))
            turned = float(rotation_distance(np.array(one.rest), np.array(two.rest)))
            if off > SAME or turned > SAME:
                said = f"rests {1000 * off:.1f} mm and {np.degrees(turned):.1f}° otherwise there: the pose is another"
                self.miss("rest", f"{bound.who}, {a}", said)
            mine, theirs = self.names_of(member.id)
            up, there = member.skeleton.parents[i], other.skeleton.parents[j]
            above = "" if up < 0 else _bare(member.skeleton.joints[up].name, mine)
            over = "" if there < 0 else _bare(other.skeleton.joints[there].name, theirs)
            if above != over:
                self.miss(
                    "joint",
                    f"{bound.who}, {a}",
                    f"hangs from {over or 'nothing'} there, from {above or 'nothing'} here",
                )

    # --- what is carried over -------------------------------------------------------------------------

    def _curves(self, pairs: list[tuple[Bound, Bound]], weights: dict[str, str]) -> tuple[dict[str, Curve], int]:
        """Curves by their names there."""
        curves: dict[str, Curve] = {}
        channels = 0
        info = self.program.info
        for bound, other in pairs:
            mine, theirs = self.names_of(bound.member.id)
            slots = {(_bare(c, theirs), _bare(n, theirs)): i for (c, n), i in other.own.items()}
            for (control, name), c in bound.own.items():
                kept = self.program.curve(c)
                if not len(kept) or c in bound.weight_channels:
                    continue
                if info[c][2].kind == "point":
                    # A control has these where they have keys: they are there if it is.
                    if (named := self._named(bound.member.id, control)) is not None:
                        curves[channel_id(*named, name)] = kept
                        channels += 1
                    continue
                if c in bound.hold and other.part.folds and len(other.systems) > 1:
                    # It is there, too, where it has keys.
                    curves[channel_id(*other.id, name)] = kept
                    channels += 1
                    continue
                there = slots.get((_bare(control, mine), _bare(name, mine)))
                said = f"{bound.who}, {info[c][2].reading}"
                if there is None:
                    self.miss("channel", said, f"is not there; {len(kept)} keys stay behind")
                    continue
                if there in _held(other) and c not in _held(bound):
                    self.miss("channel", said, f"is locked there; {len(kept)} keys stay behind")
                    continue
                curves[self.there.channel_names()[there]] = kept
                channels += 1
        for name, there_name in weights.items():
            if name in self.program.take.curves:
                curves[there_name] = self.program.take.curves[name]
                channels += 1
        return curves, channels

    def _named(self, member: str, name: str) -> tuple[str, str] | None:
        """A joint or control as the other cast has it."""
        if member == WORLD:
            return WORLD, name
        other = self.members.get(member)
        if other is None:
            return None
        mine, theirs = self.names_of(member)
        bare = _bare(name, mine)
        for key in self.there.nodes:
            if key[0] == other.id and len(key) == 2 and _bare(key[1], theirs) == bare:
                return other.id, key[1]
        return None

    def _reads(self, member: str, name: str) -> str:
        return "the world" if member == WORLD else self.program.rig.reads(member, name)

    def _tethers(self) -> tuple[tuple[Tether, ...], dict[str, str]]:
        """Follows there, and the names of their weights here with those there."""
        found: list[Tether] = []
        weights: dict[str, str] = {}
        for tether in self.program.take.tethers:
            control = self._named(tether.member, tether.control)
            anchored = self._named(tether.anchor_member, tether.anchor)
            said = f"{self._reads(tether.member, tether.control)} on {self._reads(tether.anchor_member, tether.anchor)}"
            if control is None or anchored is None:
                gone = "its control" if control is None else "what it follows"
                self.miss("follow", said, f"{gone} is not there; the follow stays behind")
                continue
            new = replace(tether, member=control[0], control=control[1], anchor_member=anchored[0], anchor=anchored[1])
            found.append(new)
            weights.update(zip(tether.weights, new.weights, strict=True))
        return tuple(found), weights

    def _contact(self, contact: Contact) -> Contact | None:
        joint = self._named(contact.member, contact.joint)
        anchored = self._named(contact.anchor_member, contact.anchor)
        if joint is None or anchored is None:
            gone = "its joint" if joint is None else "what it stands on"
            where = f"frames {contact.first:g} to {contact.last:g}"
            said = f"{contact_reads(self.program, contact)}, {where}"
            self.miss("contact", said, f"{gone} is not there; the contact stays behind")
            return None
        return replace(contact, member=joint[0], joint=joint[1], anchor_member=anchored[0], anchor=anchored[1])

    def _pivot_point(self, point: PivotPoint) -> PivotPoint | None:
        there = self._named(point.member, point.control)
        if there is None:
            said = f"{point.name} of {self._reads(point.member, point.control)}"
            self.miss("point", said, "its control is not there; it stays behind")
            return None
        return replace(point, member=there[0], control=there[1])

    def _captures(self) -> dict[str, Capture]:
        """Captures with their joints in the order of the other bodies; a joint that has no samples stays at rest."""
        found = {}
        for id, kept in self.program.take.captures.items():
            other = self.members.get(id)
            if other is None:
                continue
            mine, theirs = self.names_of(id)
            bones = self.program.scene.member(id).skeleton
            order = {_bare(j.name, mine): k for k, j in enumerate(bones.joints)}
            count = len(kept.offsets)
            offsets = np.empty((count, len(other.skeleton.joints), 3))
            turns = np.empty((count, len(other.skeleton.joints), 4))
            for k, joint in enumerate(other.skeleton.joints):
                at = order.pop(_bare(joint.name, theirs), None)
                if at is None:
                    offsets[:, k], turns[:, k] = joint.offset, joint.rest
                    self.miss("capture", joint.name, "has no samples; it stays at rest")
                else:
                    offsets[:, k], turns[:, k] = kept.offsets[:, at], kept.rotations[:, at]
            for name in order:
                self.miss("capture", name, "is not there; its samples stay behind")
            found[other.id] = Capture(offsets, turns, kept.first, kept.step)
        return found

    # --- measured -------------------------------------------------------------------------------------

    def _measured(self, after: Program) -> tuple[Worst, Worst]:
        """How far joints of both are from where the source has them, at frames and half-frames."""
        names: list[tuple[str, str]] = []
        rows: list[tuple[int, int]] = []
        for id, other in self.members.items():
            mine, theirs = self.names_of(id)
            there = {_bare(j.name, theirs): j.name for j in other.skeleton.joints}
            for joint in self.program.scene.member(id).skeleton.joints:
                name = there.get(_bare(joint.name, mine))
                if name is not None:
                    names.append((id, joint.name))
                    rows.append((self.program.nodes[id, joint.name], after.nodes[other.id, name]))
        place, turn = Worst(), Worst()
        if not rows:
            return place, turn
        old, new = np.array(rows).T
        times = sample_times(self.program)
        for at in np.array_split(times, max(1, len(times) // 1024)):
            a, b = self.program.evaluate(at, only=old), after.evaluate(at, only=new)
            off = np.linalg.norm(a.pos[:, old] - b.pos[:, new], axis=-1)
            turned = rotation_distance(a.rot[:, old], b.rot[:, new])
            place = worse(place, off, at, names)
            turn = worse(turn, turned, at, names)
        return place, turn


def _held(bound: Bound) -> set[int]:
    """Channels of a part that are locked."""
    return {int(c) for mine in bound.systems.values() for c, on in zip(mine.channels, mine.held, strict=True) if on}


def _plain(value: Any, prefix: str) -> Any:
    """A part's setting with the names in it bare."""
    if isinstance(value, str):
        return _bare(value, prefix)
    if isinstance(value, (tuple, list)):
        return tuple(_plain(v, prefix) for v in value)
    return value
