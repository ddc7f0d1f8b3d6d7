"""Turn about: over a stretch a control turns about one of its points, or about its own place again; poses at its keys stay."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ..errors import CoreError
from ..express import Placing
from ..followers import BoundControl
from ..pivots import SAME, about, pivot_of, point_at, points_of, turnable
from ..program import Program
from ..proof import prove
from ..rig import Bound
from ..transforms import Floats
from .anchor import spot
from .handover import KEYS, TOLERANCE, refuse_locked, tolerance_of
from .operation import (
    Asked,
    Choice,
    Operation,
    Outcome,
    Parts,
    Value,
    check_parts,
    check_stretch,
    check_tolerance,
    offered,
    stretch_words,
)

#: The control's own place, as a point to turn about.
OWN = "own"


def one_part(program: Program, parts: Parts) -> Bound:
    """The one part that is asked for; CoreError where it has no control that turns about points."""
    check_parts(program, parts)
    if len(parts) != 1:
        raise CoreError("Choose one part to turn about a point.")
    bound = program.bound(*parts[0])
    if not turnable(bound):
        raise CoreError(f"{bound.who} has no control with a place of its own, so it can't be turned about a point.")
    return bound


def control_of(bound: Bound, named: str) -> BoundControl:
    """The control of a part that is named, or its last one; CoreError where it can't turn about points."""
    known = {c.control.name: c for c in turnable(bound)}
    if named and named not in known:
        raise CoreError(f"{bound.who} has no control {named!r} to turn about a point: choose {', '.join(known)}.")
    return known[named] if named else list(known.values())[-1]


@offered
class TurnAbout(Operation):
    """Lets a control turn about a point over a stretch."""

    id = "turn-about"
    to_layer = True
    label = "Turn about"
    help = "Between its keys the control turns about a point that stays where it is; the pose at every key stays."
    choices = (
        Choice("which", "about", "name", OWN, help="One of its points, or its own place."),
        Choice(
            "at", "or here", "point", "", folded=True,
            help="Click a place in the view, or give x y z in metres, at the first frame.",
        ),
        KEYS,
        *TOLERANCE,
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return bool(turnable(bound))

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        if len(parts) != 1:
            return {"which": ((OWN, "its own place"),)}
        named = ((p.name, p.name) for p in points_of(program, program.bound(*parts[0])))
        return {"which": ((OWN, "its own place"), *named)}

    def suggest(
        self, program: Program, parts: Parts, first: float, last: float | None, made: Mapping[str, Value]
    ) -> dict[str, Value]:
        there = points_of(program, program.bound(*parts[0])) if len(parts) == 1 else []
        return {"which": there[0].name} if there else {}

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        bound = one_part(program, asked.parts)
        first, last = check_stretch(program.take, asked.first, asked.last)
        if first == last and last < program.take.last:
            raise CoreError("A turn about a point needs a last frame after its first.")
        check_tolerance(tolerance_of(c))
        control, point, said = self._point(program, bound, c["which"], c["at"], first)
        refuse_locked(program, control.channels, first, last)
        if np.abs(self._now(program, control, first, last) - point).max() <= SAME:
            raise CoreError(f"{bound.who} turns about {said} there already.")
        placing = Placing(c["keys"], tolerance_of(c))
        after = about(program, bound.id, control.control.name, point, first, last, placing)
        after.check_loops()
        within = placing.tolerance if placing.keys in ("within", "few") else None
        proof = prove("turn-about", program, after, first, last, tolerance=within)
        return Outcome(after.take, proof, f"{bound.who} turns about {said}, {stretch_words(asked.first, asked.last)}")

    @staticmethod
    def _now(program: Program, control: BoundControl, first: float, last: float) -> Floats:
        """(F, 3) points about which a control turns in a stretch, wherever they may change."""
        if control.pivot < 0:
            return np.zeros((1, 3))
        times = program.key_times(range(control.pivot, control.pivot + 3))
        at = np.union1d(times[(times >= first) & (times < max(last, first + 1e-9))], [first])
        return np.array([pivot_of(program, control, t) for t in at])

    @staticmethod
    def _point(program: Program, bound: Bound, which: str, at: str, first: float) -> tuple[BoundControl, Floats, str]:
        """The control that turns, the point in it, and what that is called."""
        place = spot(at)
        if place is not None:
            control = control_of(bound, "")
            return control, point_at(program, control, place, first), "a point"
        if which == OWN:
            turned = [c for c in turnable(bound) if c.pivot >= 0]
            return (turned or turnable(bound))[-1], np.zeros(3), "its own place"
        named = {p.name: p for p in points_of(program, bound)}
        if which not in named:
            there = f"it has {', '.join(named)}" if named else "place one first"
            raise CoreError(f"{bound.who} has no point called {which!r}: {there}.")
        return control_of(bound, named[which].control), np.array(named[which].place), f"its {which}"
