"""Anchors: places that the animator makes for one take, lets things follow, and takes away again.

An anchor is a member of the cast that only its take has: it has a control, can be keyed, dragged and tethered. What follows
it when it is taken away keeps its motion in its own space.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from ..curves import EMPTY, LEAVING, STEPPED, set_value
from ..errors import CoreError
from ..express import Placing
from ..program import Program
from ..proof import prove
from ..rig import Bound
from ..takes import Anchor, Take
from . import retether
from .handover import KEYS, TOLERANCE, tolerance_of
from .operation import Asked, Choice, Operation, Outcome, Parts, Value, check_parts, check_stretch, labels, offered
from .retether import OWN, Offset, Retether, anchors, control_for

#: Longest name of an anchor.
LONGEST = 40


def make(program: Program, name: str, place: Offset) -> tuple[Take, Anchor]:
    """The take with an anchor at a place (metres, unit quaternion) in the world."""
    called = _name(program, name)
    taken = {m.id for m in program.scene.members}
    id = next(f"anchor-{k}" for k in range(1, len(taken) + 2) if f"anchor-{k}" not in taken)
    anchor = Anchor(id, called, place[:3], place[3:])
    return replace(program.take, anchors=(*program.take.anchors, anchor)), anchor


def _name(program: Program, name: str) -> str:
    """A name for an anchor; CoreError where it can't have it."""
    called = " ".join(name.split()) or "anchor"
    if len(called) > LONGEST:
        raise CoreError(f"The name of an anchor has at most {LONGEST} letters.")
    taken = {m.name for m in program.scene.members}
    if not name.strip():
        called = next(n for n in ("anchor", *(f"anchor {k}" for k in range(2, 1000))) if n not in taken)
    if called in taken:
        raise CoreError(f"There is a {called} in the cast already: give the anchor another name.")
    return called


def remove(program: Program, bound: Bound, placing: Placing) -> tuple[Take, list[str]]:
    """The take without an anchor, and who let go of it; whoever followed it keeps its motion in its own space."""
    id = bound.member.id
    let_go = []
    now = program
    for tether in [t for t in program.take.tethers if t.anchor_member == id]:
        holder = next(b for b in now.bounds.values() if b.member.id == tether.member and tether.control in
                      {c.name for c in retether.able(b)})  # fmt: skip
        now = now.on(retether.drop(now, holder.id, tether.name, placing)[0])
        let_go.append(holder.who)
    take = now.take
    return replace(
        take, anchors=tuple(a for a in take.anchors if a.id != id),
        tethers=tuple(t for t in take.tethers if t.member != id),
        contacts=tuple(c for c in take.contacts if c.anchor_member != id),
        curves={n: c for n, c in take.curves.items() if not n.startswith(f"{id}/")},
    ), let_go  # fmt: skip


def spot(value: str) -> tuple[float, float, float] | None:
    """A place that was pointed at, "x y z" in metres; None where none was."""
    if not value.strip():
        return None
    try:
        x, y, z = (float(v) for v in value.split())
    except ValueError:
        raise CoreError(f"A place is three numbers in metres, x y z, not {value[:40]!r}.") from None
    if not np.isfinite([x, y, z]).all() or max(map(abs, (x, y, z))) > 1e4:
        raise CoreError("A place needs finite numbers, within ten kilometres.")
    return x, y, z


@offered
class MakeAnchor(Operation):
    """Makes an anchor, and lets a part follow it."""

    id = "anchor"
    label = "Make an anchor"
    help = "A place of your own to be followed: it can be moved, keyed and tied to something itself."
    choices = (
        Choice("called", "called", "text", "", help="Its name: left out, it is called anchor."),
        Choice("at", "at", "point", "", help="Click a place in the view, or give x y z in metres; left out, where the part is."),
        Choice("on", "on", "anchor", "world", help="What the anchor itself follows from the start.", folded=True),
        Choice(
            "then", "then", "options", "follow", (("follow", "the part follows it"), ("none", "nobody follows it yet")),
            help="From here on the part follows it; its pose and speed pass on.",
        ),
        KEYS,
        *TOLERANCE,
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return bool(retether.able(bound))

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        return {"on": tuple((v, t) for v, t in anchors(program) if v != OWN)}

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        check_parts(program, asked.parts)
        first, last = check_stretch(program.take, asked.first, asked.last)
        control = control_for(program, program.bound(*asked.parts[0]), "", first)
        node = program.rig.control_node(asked.parts[0][0], control.name)
        here = program.evaluate([first], only=[node])
        x, y, z = spot(c["at"]) or tuple(map(float, here.pos[0, node]))
        turn = (0.0, 0.0, 0.0, 1.0) if c["at"].strip() else tuple(map(float, here.rot[0, node]))
        take, anchor = make(program, c["called"], (x, y, z, *turn))  # type: ignore[arg-type]
        now = program.on(take)
        own = next(b for b in now.bounds.values() if b.member.id == anchor.id)
        if c["on"] != "world":
            now = _tied(now, own, c["on"], first)
        if c["then"] == "follow":
            wanted = Retether(
                asked.parts, f"{anchor.id}/{own.part.joints[0]}", first, asked.last, "carry", c["keys"], "here",
                tolerance=tolerance_of(c),
            )  # fmt: skip
            now = retether.retethered(now, wanted)
        within = tolerance_of(c) if c["keys"] in ("within", "few") else None
        proof = prove("anchor", program, now, first, last, tolerance=within)
        who = f"; {labels(program, asked.parts)} follows it" if c["then"] == "follow" else ""
        return Outcome(now.take, proof, f"Make {anchor.name}{who}")


def _tied(program: Program, own: Bound, on: str, at: float) -> Program:
    """A new anchor that follows something all along, so that at a frame it is where it was made."""
    retether.check_anchor(program, on)
    (control,) = own.controls.values()
    tether = retether.new_tether(program.take.tethers, own, control.control, *retether.anchor_of(on))
    there = retether.seen_from(program, retether.node_of(program, tether), own, control.control, at, LEAVING)
    tied = replace(tether, offset=there)
    take = replace(program.take, tethers=(*program.take.tethers, tied))
    now = program.on(take.with_curves({n: set_value(EMPTY, float(take.first), 1.0, STEPPED) for n in tied.weights}))
    now.check_loops()
    return now


@offered
class RemoveAnchor(Operation):
    """Takes an anchor away."""

    id = "remove anchor"
    label = "Remove it"
    help = "The anchor leaves the take; whoever follows it keeps its motion in its own space."
    choices = (Choice("keys", "where keys are put", "options", "every", KEYS.options), *TOLERANCE)

    def offered_for(self, bound: Bound) -> bool:
        return bound.member.kind == "anchor"

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        check_parts(program, asked.parts)
        let_go: list[str] = []
        now = program
        for id in asked.parts:
            _mine(program, id)
            take, more = remove(now, now.bound(*id), Placing(c["keys"], tolerance_of(c)))
            now = now.on(take)
            let_go += more
        within = tolerance_of(c) if c["keys"] in ("within", "few") else None
        notes = (f"Let go of it: {', '.join(dict.fromkeys(let_go))}.",) if let_go else ()
        proof = prove(
            "remove anchor",
            program,
            now,
            float(program.take.first),
            float(program.take.last),
            tolerance=within,
            notes=notes,
        )
        names = ", ".join(program.scene.member(m).name for m, _ in asked.parts)
        return Outcome(now.take, proof, f"Remove {names}")


@offered
class RenameAnchor(Operation):
    """Gives an anchor another name."""

    id = "rename anchor"
    label = "Rename"
    help = "Another name for the anchor."
    choices = (Choice("called", "called", "text", ""),)

    def offered_for(self, bound: Bound) -> bool:
        return bound.member.kind == "anchor"

    def suggest(
        self, program: Program, parts: Parts, first: float, last: float | None, made: Mapping[str, Value]
    ) -> dict[str, Value]:
        return {"called": program.scene.member(parts[0][0]).name} if parts else {}

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        check_parts(program, asked.parts)
        if len(asked.parts) != 1:
            raise CoreError("Choose one anchor to rename.")
        anchor = _mine(program, asked.parts[0])
        if not c["called"].strip() or c["called"].strip() == anchor.name:
            raise CoreError("Give the anchor another name.")
        named = replace(anchor, name=_name(program, c["called"]))
        take = replace(program.take, anchors=tuple(named if a == anchor else a for a in program.take.anchors))
        now = program.on(take)
        proof = prove("rename anchor", program, now, float(take.first), float(take.first))
        return Outcome(take, proof, f"{anchor.name} is called {named.name}")


def _mine(program: Program, part: tuple[str, str]) -> Anchor:
    """The anchor that a part is; CoreError where it is none."""
    found = next((a for a in program.take.anchors if a.id == part[0]), None)
    if found is None:
        raise CoreError(f"{program.bound(*part).part.label} is no anchor of this take.")
    return found
