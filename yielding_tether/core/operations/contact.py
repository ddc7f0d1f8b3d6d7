"""Contacts of a take: found over a stretch, marked, moved, taken away. They move nothing; every proof measures them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from ..contact_finding import find
from ..contacts import anchor_reads, ends_of, part_of, reads, with_contact
from ..errors import CoreError
from ..program import Program
from ..proof import prove
from ..rig import Bound
from ..takes import WORLD, Contact
from .operation import (
    Asked,
    Choice,
    Operation,
    Outcome,
    Parts,
    Value,
    check_parts,
    check_stretch,
    labels,
    offered,
    stretch_words,
)
from .retether import OWN, anchors


def standing(program: Program, part: tuple[str, str], first: float, last: float) -> list[Contact]:
    """The take's contacts of a part that overlap a stretch."""
    joints = program.bound(*part).part.joints
    return [
        c for c in program.take.contacts
        if c.member == part[0] and c.joint in joints and c.first < last and c.last > first
    ]  # fmt: skip


def found(program: Program, parts: Parts, first: float, last: float, loose: float = 1.0) -> list[Contact]:
    """Contacts that the motion shows, as far as they lie in a stretch; loose: as of `find`."""
    return [c for one in find(program, parts, loose) if (c := one.cut(first, last))]


def nearest(program: Program, part: tuple[str, str], first: float, last: float) -> Contact | None:
    """The contact of a part that overlaps a stretch most, or is nearest to it: one of the take's, else one that its motion
    shows; of fingertips else that of the hand from which they hang."""
    bound = program.bound(*part)
    mine = [c for c in program.take.contacts if c.member == part[0]]
    bones = bound.member.skeleton
    above = bones.index[bound.part.joints[0]]
    there = (
        [c for c in mine if c.joint in bound.part.joints] or find(program, [part])
        or [c for c in mine if above in bones.descendants(bones.index[c.joint])]
    )  # fmt: skip
    return max(there, key=lambda c: min(c.last, last) - max(c.first, first), default=None)


def on_anchor(
    program: Program, part: tuple[str, str], on: str, first: float, last: float, of: str = ""
) -> list[Contact]:
    """Contacts of a part's ends, or of the one whose control is named (`of`), on what `Retether.to` would name so; CoreError where
    the part has no end, or none of that name."""
    bound = program.bound(*part)
    ends = [e for e in ends_of(bound) if of in ("", e.control.name)]
    if not ends:
        there = ", ".join(e.control.name for e in ends_of(bound))
        raise CoreError(
            f"{bound.part.label} has no end {of!r}: it has {there}." if there
            else f"{bound.part.label} has no end that could stand on anything."
        )  # fmt: skip
    if on == OWN or on not in {value for value, _ in anchors(program)}:
        raise CoreError(f"Nothing called {on!r} can be stood on: choose a joint or control of the cast, or the world.")
    member, _, name = (WORLD, "", WORLD) if on == "world" else on.partition("/")
    return [Contact(part[0], e.control.rests_on, member, name, first, last) for e in ends]


#: Which of several ends is meant.
OF = Choice("of", "of it", "name", "", help="Which of its ends: left out, each.")


def ends_offered(program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
    """The ends of one part among which there is a choice, as options of `OF`."""
    mine = ends_of(program.bound(*parts[0])) if len(parts) == 1 else []
    each = tuple((e.control.name, e.control.label) for e in mine)
    return {"of": (("", "each"), *each)} if len(mine) > 1 else {}


def split(program: Program, parts: Parts, first: float, last: float) -> tuple[list[Contact], list[Contact]]:
    """Contacts that go on over the first frame of a stretch, and the two that each becomes: up to there, and from the next frame
    on. CoreError where there is none."""
    over = [c for p in parts for c in standing(program, p, first, last) if c.begin < first and c.end > first + 1.0]
    pieces = [x for c in over for x in (c.cut(-np.inf, first), c.cut(first + 1.0, np.inf)) if x is not None]
    if not over:
        raise CoreError(f"{labels(program, parts)}: no contact goes on over frame {first:g}.")
    return over, pieces


def joined(program: Program, parts: Parts, first: float, last: float) -> tuple[list[Contact], list[Contact]]:
    """Contacts of each part that a stretch reaches, and the one that those of each become, on what the first of them is on.
    CoreError where no part has two."""
    gone, made = list[Contact](), list[Contact]()
    for part in parts:
        mine = sorted(standing(program, part, first, last), key=lambda c: c.begin)
        if len(mine) > 1:
            one, end = mine[0], mine[-1]
            # What stood alone between two of them does so no more.
            stood = [
                [p for p in c.points if (c is one or p.last > c.first) and (c is end or p.first < c.last)] for c in mine
            ]
            points = {p.name: p for c in stood for p in c}
            begun = {p.name: p.first for c in reversed(stood) for p in c}
            whole = tuple(replace(p, first=begun[n]) for n, p in points.items())
            gone += mine
            made.append(replace(one, last=end.last, points=whole))
    if not gone:
        raise CoreError(
            f"{labels(program, parts)}: there are no two contacts to make one of, from frame {first:g} to {last:g}."
        )
    return gone, made


def named(contact: Contact) -> str:
    """What a contact stands on, as choices name it."""
    return "world" if contact.anchor_member == WORLD else f"{contact.anchor_member}/{contact.anchor}"


@offered
class Contacts(Operation):
    """Finds, marks and takes away contacts of hands and feet."""

    id = "contacts"
    rank = 24
    under = "as is"
    label = "Contacts"
    applies = "parts"
    help = "Where the hand or foot stands or holds: every proof then tells how far it slips."
    choices = (
        Choice(
            "do", "contacts", "options", "find",
            (
                ("find", "find them here"), ("mark", "mark one here"), ("remove", "take them away"),
                ("split", "split at the first frame"), ("join", "make one of them"),
            ),
            help="Found by their speed and by how near they are to set pieces and ground.",
        ),
        Choice(
            "loose", "that move by up to", "number", 100.0, least=10.0, most=1000.0, unit="% of what is usual",
            when=("do", ("find",)), help="More: stances that creep or hover are found too; less: only those that stand still.",
        ),
        Choice("on", "on", "anchor", "world", when=("do", ("mark",)), help="What it stands on or holds."),
        replace(OF, when=("do", ("mark",))),
        Choice(
            "within", "may leave it by", "number", 0.0, least=0.0, most=1000.0, unit="mm", folded=True,
            help="Farther from its place than this, while it follows what it holds, is a finding; at 0 nobody watches.",
        ),
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return bool(ends_of(bound))

    def suggest(
        self, program: Program, parts: Parts, first: float, last: float | None, made: Mapping[str, Value]
    ) -> dict[str, Value]:
        """To take away what is there; else to find; else to mark, on what the end stands on elsewhere."""
        end = float(program.take.last) if last is None else last
        able = [p for p in parts if ends_of(program.bound(*p))]
        there = {p: standing(program, p, first, end) for p in able}
        if able and all(there.values()):
            return {"do": "remove"}
        if found(program, tuple(able), first, end):
            return {"do": "find"}
        near = [c for p in able if (c := nearest(program, p, first, end))]
        return {"do": "mark", **({"on": named(near[0])} if near else {})}

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        return {"on": tuple(a for a in anchors(program) if a[0] != OWN), **ends_offered(program, parts)}

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        check_parts(program, asked.parts)
        first, last = check_stretch(program.take, asked.first, asked.last)
        take, new = program.take, []
        where = stretch_words(first, last)
        for part in asked.parts:
            if not ends_of(program.bound(*part)):
                raise CoreError(f"{program.bound(*part).part.label} has no end that could stand on anything.")
        if c["do"] == "find":
            new = found(program, asked.parts, first, last, c["loose"] / 100.0)
            if not new:
                raise CoreError(f"{labels(program, asked.parts)}: nothing rests on anything, {where}.")
            whose = tuple(dict.fromkeys(part_of(program, x).id for x in new))
            said = f"Find {len(new)} contact{'s' if len(new) > 1 else ''} of {labels(program, whose)}"
        elif c["do"] == "mark":
            new = [x for p in asked.parts for x in on_anchor(program, p, c["on"], first, last, c["of"])]
            said = f"Mark {labels(program, asked.parts)} on {anchor_reads(program, new[0])}"
        elif c["do"] in ("split", "join"):
            how = split if c["do"] == "split" else joined
            gone, new = how(program, asked.parts, first, last)
            take = replace(take, contacts=tuple(x for x in take.contacts if x not in gone))
            into = f"Split contacts of {labels(program, asked.parts)}" if c["do"] == "split" else "Make one contact"
            said = into if c["do"] == "split" else f"{into} of {len(gone)} of {labels(program, asked.parts)}"
        else:
            gone = [x for p in asked.parts for x in standing(program, p, first, last)]
            if not gone:
                raise CoreError(f"{labels(program, asked.parts)}: no contact there, {where}.")
            take = replace(take, contacts=tuple(x for x in take.contacts if x not in gone))
            said = f"Take {len(gone)} contact{'s' if len(gone) > 1 else ''} of {labels(program, asked.parts)} away"
        for contact in new:
            within = c["within"] / 1000.0 or (contact.within if c["do"] in ("split", "join") else None)
            take = with_contact(take, replace(contact, within=within))
        if c["do"] == "find" and set(take.contacts) == set(program.take.contacts):
            raise CoreError(f"{labels(program, asked.parts)}: what rests there was found already, {where}.")
        return Outcome(take, prove("contacts", program, program.on(take), first, last), f"{said}, {where}")


@offered
class MoveContact(Operation):
    """Gives one contact other edges, or another thing to stand on; `first` and `last` are its new edges."""

    id = "contact"
    under = "as is"
    label = "Move a contact"
    applies = "contact"
    help = "Its edges, or what it stands on."
    choices = (
        Choice("contact", "contact", "name", "", help="The contact, by its id."),
        Choice("on", "on", "anchor", "", help="What it stands on; nothing: as before."),
    )

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        old = next((x for x in program.take.contacts if x.id == c["contact"]), None)
        if old is None:
            raise CoreError("This contact is not there any more: something has changed since it was shown.")
        first, last = check_stretch(program.take, asked.first, asked.last)
        new = old.moved(first, last)
        if c["on"]:
            there = on_anchor(program, part_of(program, old).id, c["on"], first, last)[0]
            new = replace(new, anchor_member=there.anchor_member, anchor=there.anchor)
        rest = replace(program.take, contacts=tuple(x for x in program.take.contacts if x is not old))
        take = with_contact(rest, new)
        low, high = min(old.first, first), max(old.last, last)
        return Outcome(
            take,
            prove("contacts", program, program.on(take), low, high),
            f"{reads(program, new)}: {stretch_words(first, last)}",
        )
