"""Lift the swings: between each two stances of a foot or a hand its end goes higher, wider, further or later, and not at all at
lift-off and touchdown.

    height(t) = most · ease(t),  ease zero with its speed at both ends of a swing, one in its middle

Whatever drives a swing gets it, as a nudge does (`nudge.more_of`); stances are not touched, to the bit.
"""

from __future__ import annotations

from collections.abc import Mapping
from itertools import pairwise
from typing import NamedTuple

import numpy as np

from ..contact_finding import find
from ..contacts import end_of, part_of
from ..curves import LEAVING, Curve
from ..errors import CoreError
from ..program import Program
from ..proof import prove
from ..rig import Bound
from ..sides import across
from ..takes import Contact
from ..transforms import Floats, inverse, multiply, rotate
from .nudge import FAR, LATER, STILL, Ease, more_of
from .operation import (
    Asked,
    Choice,
    Operation,
    Outcome,
    Value,
    check_parts,
    check_stretch,
    labels,
    offered,
    stretch_words,
)

#: Centimetres by which swings are lifted where nothing is said.
HEIGHT = 3.0
#: Swings shorter than this (frames) are none: nothing is to be seen of what is lifted within.
SHORT = 2.0
_UP = np.array([0.0, 1.0, 0.0])


class Swing(NamedTuple):
    """What lies between two stances of a part's end: the last frame of the one and the first of the other."""

    part: tuple[str, str]
    first: float
    last: float

    @property
    def middle(self) -> float:
        return 0.5 * (self.first + self.last)


def swings(program: Program, bound: Bound, first: float, last: float) -> list[Swing]:
    """Swings of a part that lie in a stretch, between the stances that the take knows of it, or that its motion shows."""
    mine: list[Contact] = [c for c in program.take.contacts if part_of(program, c).id == bound.id]
    stands = sorted(mine or find(program, [bound.id]), key=lambda c: c.begin)
    found, reached = [], -np.inf
    for one, two in pairwise(stands):
        reached = max(reached, one.end)
        if two.begin - reached >= SHORT and first <= reached and two.begin <= last:
            found.append(Swing(bound.id, float(reached), float(two.begin)))
    return found


@offered
class Lift(Operation):
    """Lifts what lies between stances."""

    id = "lift"
    rank = 19
    label = "Lift the swings"
    help = "Each swing between two stances goes higher, wider, further or later, and not at all where the foot leaves and lands."
    choices = (
        Choice("up", "higher by", "number", HEIGHT, least=-FAR, most=FAR, unit="cm", help="At the middle of each swing."),
        Choice("wide", "wider by", "number", 0.0, least=-FAR, most=FAR, unit="cm", help="Away from the other side of the body."),
        Choice("far", "further by", "number", 0.0, least=-FAR, most=FAR, unit="cm", folded=True, help="Along its way."),
        Choice("later", "later by", "number", 0.0, least=-LATER, most=LATER, unit="frames", folded=True),
    )  # fmt: skip
    to_layer = True

    def offered_for(self, bound: Bound) -> bool:
        return bound.part.touches and end_of(bound) is not None

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        check_parts(program, asked.parts)
        first, last = check_stretch(program.take, asked.first, asked.last)
        if not any(c[k] for k in ("up", "wide", "far", "later")):
            raise CoreError("Say by how much to lift: higher, wider, further or later.")
        todo = [s for part in asked.parts for s in swings(program, _able(program, part), first, last)]
        if not todo:
            raise CoreError(
                f"{labels(program, asked.parts)}: no swing lies between two stances, {stretch_words(asked.first, asked.last)}. "
                f"Find contacts first, or choose a longer stretch."
            )
        now = program
        for swing in todo:
            now = now.with_curves(_lifted(now, swing, c))
        now.check_loops()
        low, high = min(s.first for s in todo), max(s.last for s in todo)
        return Outcome(
            now.take, prove(self.id, program, now, low, high),
            f"Lift {len(todo)} swing{'s' if len(todo) > 1 else ''} of {labels(program, asked.parts)}",
        )  # fmt: skip


def _able(program: Program, part: tuple[str, str]) -> Bound:
    bound = program.bound(*part)
    if not bound.part.touches or end_of(bound) is None:
        raise CoreError(
            f"{bound.who} stands on nothing and holds nothing, so it has no swings: choose a foot or a hand."
        )
    return bound


def _lifted(program: Program, swing: Swing, c: Mapping[str, Value]) -> dict[str, Curve]:
    """Curves of a part with one swing lifted."""
    bound = program.bound(*swing.part)
    up, wide, far = (0.01 * float(c[k]) for k in ("up", "wide", "far"))
    by = up * _UP
    if wide or far:
        along, aside = _ways(program, bound, swing)
        by = by + far * along + wide * aside
    ease = Ease(swing.first, swing.middle, swing.middle, swing.last)
    return more_of(program, bound, "", (by, STILL, float(c["later"])), ease)


def _ways(program: Program, bound: Bound, swing: Swing) -> tuple[Floats, Floats]:
    """Level directions (3,): along the way of a swing, and aside, away from the middle of the body as it stands half-way."""
    member, skeleton = bound.member, bound.member.skeleton
    control = end_of(bound)
    assert control is not None
    root = next(b for b in program.bounds.values() if b.member.id == member.id and b.part.free)
    end, body = program.nodes[member.id, control.control.rests_on], int(root.nodes[0])
    pos, rot = program.track(np.array([swing.first, swing.middle, swing.last]), LEAVING, [end, body])
    places, rests = skeleton.rest_pose
    own = skeleton.index[root.part.joints[0]]
    off = (places[skeleton.index[control.control.rests_on]] - places[own]) @ across(member)
    sideways = across(member) * (1.0 if off >= 0.0 else -1.0)
    aside = _level(rotate(multiply(rot[1, 1], inverse(rests[own])), sideways))
    along = _level(pos[2, 0] - pos[0, 0])
    # What lands where it left goes on ahead of the body.
    return (along if along.any() else np.cross(aside, _UP) * (1.0 if off >= 0.0 else -1.0)), aside


def _level(way: Floats) -> Floats:
    """The level direction (3,) of a way; nothing where it has next to none."""
    level = way * np.array([1.0, 0.0, 1.0])
    size = float(np.linalg.norm(level))
    return level / size if size > 1e-3 else np.zeros(3)
