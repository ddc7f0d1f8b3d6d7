"""Record a value: the pose of a part becomes a stage of a named value from zero to one, which then poses it as a whole."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..channels import channel_id
from ..errors import CoreError
from ..program import Program
from ..proof import prove
from ..rig import Bound
from ..takes import Recorded
from ..transforms import inverse, multiply
from ..values import PoseValue
from .operation import Asked, Choice, Operation, Outcome, Parts, check_parts, check_stretch, offered

NEW = "new"
#: Most values that are recorded on a part.
MOST = 12


@offered
class RecordValue(Operation):
    """Records a stage of a named value, or takes a value away."""

    id = "record"
    under = "as is"
    label = "Named value"
    help = "The pose here becomes a stage of a value from 0 to 1: turning that poses the whole part, your own turns on top."
    choices = (
        Choice("which", "which", "name", NEW, help="A new one, or one that was recorded in this take."),
        Choice("what", "and", "options", "put", (("put", "record the pose"), ("gone", "take it away"))),
        Choice("called", "called", "text", "", help="Its name: left out, it is called pose.", when=("which", (NEW,))),
        Choice(
            "at", "as its stage at", "number", 1.0, least=0.01, most=1.0, when=("what", ("put",)),
            help="Where between 0, rest, and 1 this pose is reached.",
        ),
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return bound.part.staged

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        there = recorded(program, program.bound(*parts[0])) if len(parts) == 1 else []
        return {"which": ((NEW, "a new value"), *((r.value.name, r.value.name) for r in there))}

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        check_parts(program, asked.parts)
        if len(asked.parts) != 1:
            raise CoreError("Choose one part to record a value of.")
        bound = program.bound(*asked.parts[0])
        first, _ = check_stretch(program.take, asked.first, asked.last)
        there = {r.value.name: r for r in recorded(program, bound)}
        old = there.get(c["which"])
        if old is None and c["which"] != NEW:
            names = f"it has {', '.join(there)}" if there else "none was recorded"
            raise CoreError(f"{bound.who} has no recorded value {c['which']!r}: {names}.")
        if c["what"] == "gone":
            made, said = None, _gone(program, bound, old)
        else:
            if old is None and len(there) >= MOST:
                raise CoreError(f"{bound.who} has {MOST} values already: take one away first.")
            made = Recorded(*bound.id, _stage(program, bound, old, c["called"], float(c["at"]), first))
            said = f"Record {made.value.name} of {bound.who} at {float(c['at']):g}"
        kept = program.take.values
        values = (*kept, made) if old is None else tuple(made if r == old else r for r in kept)
        after = program.on(replace(program.take, values=tuple(r for r in values if r is not None)))
        return Outcome(after.take, prove(self.id, program, after, first, first), said)


def recorded(program: Program, bound: Bound) -> list[Recorded]:
    """Values that were recorded on a part in the take."""
    return [r for r in program.take.values if (r.member, r.part) == bound.id]


def _gone(program: Program, bound: Bound, old: Recorded | None) -> str:
    if old is None:
        raise CoreError(f"Choose which value of {bound.who} to take away.")
    if channel_id(bound.member.id, bound.part.name, f"value.{old.value.name}") in program.take.curves:
        raise CoreError(f"{old.value.name} of {bound.who} has keys: delete them before you take it away.")
    return f"Take {old.value.name} of {bound.who} away"


def _stage(program: Program, bound: Bound, old: Recorded | None, called: str, at: float, frame: float) -> PoseValue:
    """The value with the pose of a part at a frame as its stage."""
    if not bound.part.staged:
        raise CoreError(f"{bound.who} can't be posed by named values: its joints are not turned one by one.")
    poses = program.evaluate([frame], only=[*bound.nodes, *bound.above])
    local = multiply(inverse(multiply(poses.rot[0, bound.above], bound.rests)), poses.rot[0, bound.nodes])
    local /= np.linalg.norm(local, axis=-1, keepdims=True)
    turns = tuple((float(x), float(y), float(z), float(w)) for x, y, z, w in local)
    taken = {v.name for v in bound.part.values}
    if old is not None:
        return old.value.with_stage(at, turns)
    name = " ".join(called.split()) or next(
        n for n in ("pose", *(f"pose {k}" for k in range(2, MOST + 2))) if n not in taken
    )
    if name in taken or name == NEW:
        raise CoreError(f"{bound.who} has a value called {name!r} already: give this one another name.")
    return PoseValue(name, bound.part.joints, (at,), (turns,))
