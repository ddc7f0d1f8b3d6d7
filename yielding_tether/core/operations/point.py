"""Points to turn about: placed by pointing at the body, named, moved, and taken away, and no pose changes by any of it."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from ..errors import CoreError
from ..pivots import point_at, points_of, turnable
from ..program import Program
from ..proof import prove
from ..rig import Bound
from ..takes import PivotPoint
from .anchor import spot
from .operation import Asked, Choice, Operation, Outcome, Parts, check_stretch, offered
from .turn_about import control_of, one_part

#: Longest name of a point, and most points of a part.
LONGEST, MOST = 40, 24
#: A point that is not there yet.
NEW = "new"


@offered
class Points(Operation):
    """Places a point to turn about, moves and renames one, or takes one away."""

    id = "point"
    under = "as is"
    label = "Points"
    help = "Points of this part to turn about, on the body or anywhere near it. No pose changes by placing or removing them."
    choices = (
        Choice("which", "which", "name", NEW, help="A new one, or one that is there."),
        Choice("what", "and", "options", "put", (("put", "place it"), ("gone", "take it away")), help="Turns made about it stay."),
        Choice("called", "called", "text", "", help="Its name: left out, it is called point.", when=("what", ("put",))),
        Choice(
            "at", "at", "point", "", when=("what", ("put",)),
            help="Click a place in the view, or give x y z in metres; left out, where the control is, or as it is.",
        ),
        Choice(
            "marker", "marker at", "point", "", folded=True, when=("what", ("put",)),
            help="Where its marker is drawn, clear of the body; left out, at the point.",
        ),
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return bool(turnable(bound))

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        there = points_of(program, program.bound(*parts[0])) if len(parts) == 1 else []
        return {"which": ((NEW, "a new point"), *((p.name, p.name) for p in there))}

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        bound = one_part(program, asked.parts)
        first, _ = check_stretch(program.take, asked.first, asked.last)
        there = {p.name: p for p in points_of(program, bound)}
        old = None if c["which"] == NEW else _named(bound, there, c["which"])
        if c["what"] == "gone":
            if old is None:
                raise CoreError(f"Choose which point of {bound.who} to take away: {', '.join(there) or 'it has none'}.")
            made, said = None, f"Remove {old.name} of {bound.who}"
        else:
            made = _made(program, bound, list(there), old, c, first)
            said = f"Place {made.name} of {bound.who}" if old is None else f"Change {old.name} of {bound.who}"
        kept = program.take.points
        points = (*kept, made) if old is None else tuple(made if p == old else p for p in kept)
        take = replace(program.take, points=tuple(p for p in points if p is not None))
        return Outcome(take, prove(self.id, program, program.on(take), first, first), said)


def _made(
    program: Program, bound: Bound, there: list[str], old: PivotPoint | None, c: dict[str, Any], first: float
) -> PivotPoint:
    """The point that was asked for; what is left out is as it was."""
    if old is None and len(there) >= MOST:
        raise CoreError(f"{bound.who} has {MOST} points already: remove one first.")
    control = control_of(bound, old.control if old else "")
    at, marker = (old.place, old.marker) if old else ((0.0, 0.0, 0.0), (0.0, 0.0, 0.0))
    if (place := spot(c["at"])) is not None:
        at = tuple(point_at(program, control, place, first).tolist())
    if (seen := spot(c["marker"])) is not None:
        marker = tuple((point_at(program, control, seen, first) - at).tolist())
    name = _name(bound, [n for n in there if old is None or n != old.name], c["called"] or (old.name if old else ""))
    return PivotPoint(bound.member.id, control.control.name, name, at, marker)


def _named(bound: Bound, there: dict[str, PivotPoint], name: str) -> PivotPoint:
    if name not in there:
        names = f"it has {', '.join(there)}" if there else "it has none"
        raise CoreError(f"{bound.who} has no point called {name!r}: {names}.")
    return there[name]


def _name(bound: Bound, taken: list[str], name: str) -> str:
    """A name for a point; CoreError where it can't have it."""
    called = " ".join(name.split())
    if len(called) > LONGEST:
        raise CoreError(f"The name of a point has at most {LONGEST} letters.")
    if not called:
        return next(n for n in ("point", *(f"point {k}" for k in range(2, MOST + 2))) if n not in taken)
    if called in taken or called in (NEW, "own"):
        raise CoreError(f"{bound.who} has a point called {called!r} already: give this one another name.")
    return called
