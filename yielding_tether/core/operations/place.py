"""Place: a whole take at another place and heading, with all that stands on the ground, is held, or follows.

The motion is moved as one, level and about the vertical, in what the body stands on; every system is expressed anew where it was
keyed. Set pieces stay, and what followed them follows them still, from its new place.
"""

from __future__ import annotations

from ..glass import Plane
from ..program import Program
from ..rig import Bound
from .mirror import AT, HEADING, MEET, WHAT, Mirror, apply, members_of, path_of, place_of
from .operation import Asked, Choice, InView, Operation, Outcome, offered


@offered
class PlaceTake(Operation):
    """Puts a take elsewhere."""

    id = "place"
    rank = 62
    under = "as is"
    label = "Place"
    help = "The whole take begins elsewhere, headed as is said: the body, what it holds and where it stands go along."
    choices = (
        WHAT,
        Choice(
            "to", "beginning", "options", "spot",
            (("spot", "at a place"), ("origin", "at the origin"), ("meet", "where another take is")),
        ),
        AT,
        HEADING,
        *MEET,
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return bound.member.kind == "character"

    def in_view(self, program: Program, asked: Asked) -> InView | None:
        return path_of(program, self._asked(program, asked))

    def _asked(self, program: Program, asked: Asked) -> Mirror:
        c = self.chosen(asked)
        members = members_of(program, asked.parts, c["what"])
        to = place_of(program, c, members, asked.other)
        return Mirror(members, asked.first, asked.last, Plane("none"), to)

    def run(self, program: Program, asked: Asked) -> Outcome:
        wanted = self._asked(program, asked)
        take, proof = apply(program, wanted)
        names = ", ".join(program.scene.member(m).name for m in wanted.members)
        return Outcome(take, proof, f"Place {names}")
