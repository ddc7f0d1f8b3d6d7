"""What an operation is: its choices are declared beside its code, it says what it suggests, and runs.

An operation is one file here; importing this package registers it, and the interface shows it with its choices.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from math import isfinite
from typing import Any, Literal, NamedTuple

from ..clips import Clip
from ..curves import SUMMED, Curve
from ..errors import CoreError
from ..express import fence
from ..findings import unkeyed
from ..layers import can_layer, carried, flattened, folded, layer_of, onto_layer, with_layer
from ..program import Program
from ..proof import Proof, prove
from ..rig import Bound
from ..takes import Take

Value = str | int | float
Parts = tuple[tuple[str, str], ...]
#: What an operation is offered for: a stretch of parts that more than one system can drive, or of any parts; a part at
#: one frame; findings, keys, a clip, the whole take, a contact.
Applies = Literal["systems", "parts", "frame", "findings", "keys", "clip", "take", "contact"]


@dataclass(frozen=True)
class Choice:
    """One choice: of `options` (value, label), of a "name" among those that the parts in hand have (`Operation.options`),
    of an "anchor" among all that can be followed, a "text" of the animator's own, a "point" in the world that is clicked in
    the view ("x y z" in metres, "" for none), of another "take" by its number, or a number from `least` to `most` in a `unit`.
    `when`: the choice and the values of it for which this one matters, where that one does; `folded`: shown on demand."""

    name: str
    label: str
    kind: Literal["options", "name", "text", "anchor", "point", "take", "whole", "number"]
    default: Value
    options: tuple[tuple[str, str], ...] = ()
    least: float = 0.0
    most: float = 0.0
    unit: str = ""
    folded: bool = False
    help: str = ""
    when: tuple[str, tuple[str, ...]] | None = None


@dataclass(frozen=True)
class Asked:
    """What an operation is asked for: a stretch of parts, choices, and what some operations need beside them: `other` is the take
    that a choice names."""

    parts: Parts = ()
    first: float = 0.0
    last: float | None = None
    choices: Mapping[str, Value] = field(default_factory=dict)
    findings: tuple[str, ...] = ()
    edit: Any = None
    clip: Clip | None = None
    other: Program | None = None


class Step(NamedTuple):
    """One of several operations of which a result is made: its id, what it was asked for, and what it made of the step before."""

    operation: str
    asked: Asked
    take: Take
    proof: Proof
    label: str


class Outcome(NamedTuple):
    """The new take, its proof, and a line for the list of revisions; where it was made in steps, each is a revision of its own,
    the last of which is the new take."""

    take: Take
    proof: Proof
    label: str
    steps: tuple[Step, ...] = ()


#: A place in the world, metres.
Spot = tuple[float, float, float]


class Pull(NamedTuple):
    """Something to drag in the view while an operation is tried: where it stands, and the stretches (first and last frame) that
    would bring it to other places."""

    label: str
    at: Spot
    to: tuple[tuple[float, float, Spot], ...]


class InView(NamedTuple):
    """What an operation shows in the view while it is tried: a path, a place for each frame from the first on, what of it can be
    dragged, and the path as it `was`."""

    path: tuple[Spot, ...]
    pulls: tuple[Pull, ...]
    was: tuple[Spot, ...] = ()


class Line(NamedTuple):
    """A line of a chart: what it is called, and its points."""

    label: str
    points: tuple[tuple[float, float], ...]


class Chart(NamedTuple):
    """Figures that help to decide while an operation is tried: what runs `along` and `up`, with units; lines; where along it stands
    `now`; and the choices that one picks there, each by how many times of what is picked. `wide`: along goes by ratios."""

    along: str
    up: str
    lines: tuple[Line, ...]
    now: float | None = None
    picks: tuple[tuple[str, float], ...] = ()
    wide: bool = False


class Operation:
    """Base of all operations."""

    id = ""
    label = ""
    help = ""
    applies: Applies = "parts"
    choices: tuple[Choice, ...] = ()
    #: What it works on where a take has layers: the sum of all, keys as they are stored, or the take as it is.
    under: Literal["sum", "keys", "as is"] = "sum"
    #: Whether layers are carried across what it changes where nothing is said, and not left as they are on a base that gives way.
    carries = False
    #: Whether what it makes goes to the layer that the animator has in hand.
    to_layer = False
    #: Where it stands among those that are offered, the least first: what is done more often is nearer at hand.
    rank = 50

    def offered_for(self, bound: Bound) -> bool:
        """Whether a stretch of a part is offered this."""
        return self.applies == "parts" or (self.applies == "systems" and len(bound.systems) > 1)

    def suggest(
        self, program: Program, parts: Parts, first: float, last: float | None, made: Mapping[str, Value]
    ) -> dict[str, Value]:
        """Choices that a stretch most likely wants, beside the defaults; `made`: what has been chosen already."""
        return {}

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        """Options that these parts have, for choices where they differ from part to part."""
        return {}

    def in_view(self, program: Program, asked: Asked) -> InView | None:
        """What it shows in the view while it is tried, beside the ghost."""
        return None

    def chart(self, program: Program, asked: Asked, after: Program) -> Chart | None:
        """Figures to decide by, of a take and what was made of it; None where there are none, or they would take long."""
        return None

    def lasts(self, program: Program, asked: Asked) -> float:
        """About how many seconds it takes: what lasts long is worked out beside everything else."""
        return 0.0

    def run(self, program: Program, asked: Asked) -> Outcome:
        """Runs it. CoreError says what can't be done; nothing changes then."""
        raise NotImplementedError

    def chosen(self, asked: Asked) -> dict[str, Any]:
        """The choices made, defaults filled in; CoreError names one that is not offered."""
        known = {c.name: c for c in self.choices}
        for name in asked.choices:
            if name not in known:
                there = f"it has {', '.join(known)}" if known else "it has none"
                raise CoreError(f"{self.label} has no choice {name!r}: {there}.")
        return {c.name: self._value(c, asked.choices.get(c.name, c.default)) for c in self.choices}

    def system(self, program: Program, asked: Asked, named: str) -> str:
        """The system named, or the one suggested where none is."""
        if named:
            return named
        check_parts(program, asked.parts)
        found = self.suggest(program, asked.parts, asked.first, asked.last, {}).get("to")
        if found is None:
            raise CoreError(
                f"{labels(program, asked.parts)}: only one system can drive here, so there is nothing to go over to."
            )
        return str(found)

    def _value(self, choice: Choice, value: Value) -> Value:
        if choice.kind in ("name", "text", "anchor", "point", "take"):
            if not isinstance(value, str):
                raise CoreError(f"{choice.label!r} of {self.label} is a name.")
            return value
        if choice.kind == "options":
            values = [o[0] for o in choice.options]
            if value not in values:
                raise CoreError(f"{choice.label!r} of {self.label} is one of {', '.join(values)}, not {value!r}.")
            return value
        whole = choice.kind == "whole"
        good = not isinstance(value, bool) and isinstance(value, (int, float)) and choice.least <= value <= choice.most
        if not good or (whole and value != int(value)):
            raise CoreError(
                f"{choice.label!r} of {self.label} is a {'whole ' if whole else ''}number from {choice.least:g} to "
                f"{choice.most:g}."
            )
        return int(value) if whole else float(value)


#: What becomes of layers where one system or follow gives way to another, beside the choices of an operation that `carries` them.
LAYERS = Choice(
    "layers", "layers", "options", "carried", (("carried", "layers carried across"), ("folded", "all into the base")),
    help="Each layer says in the new system what it said before, or what all of them make becomes the base.",
)  # fmt: skip


#: All operations by their id.
OPERATIONS: dict[str, Operation] = {}


def offered(operation: type[Operation]) -> type[Operation]:
    """Registers an operation."""
    OPERATIONS[operation.id] = operation()
    return operation


def run(program: Program, id: str, asked: Asked) -> Outcome:
    """Runs an operation by its id. One that would change nothing is refused."""
    operation = OPERATIONS.get(id)
    if operation is None:
        raise CoreError(f"There is no operation {id!r}: there are {', '.join(OPERATIONS)}.")
    outcome = _layered(program, operation, asked)
    refuse_nothing(program.take, outcome.take)
    return outcome


def _layered(program: Program, operation: Operation, asked: Asked) -> Outcome:
    """Runs an operation on a take that may have layers. Two choices more say how: `layers`, whether these are carried across
    what it changes ("carried") or the base gives way beneath them ("folded"); `layer`, into which one all is written."""
    choices = dict(asked.choices)
    how, which = str(choices.pop("layers", "")), str(choices.pop("layer", ""))
    asked = replace(asked, choices=choices)
    if how not in ("", "carried", "folded"):
        raise CoreError(f"Layers are 'carried' across a change or it is 'folded' into the base, not {how!r}.")
    take = program.take
    if operation.under == "keys" and which:
        layer = layer_of(take, which)
        outcome = operation.run(program.on(replace(take, curves=layer.curves, layers=())), asked)
        _check_layered(program, outcome.take.curves)
        made = with_layer(take, replace(layer, curves=outcome.take.curves))
        label, first, last = f"{outcome.label}, layer {layer.name}", outcome.proof.first, outcome.proof.last
        return Outcome(made, prove(operation.id, program, program.on(made), first, last), label)
    if operation.under != "sum" or not (which or program.layering.layers):
        return operation.run(program, asked)
    before = flattened(program, SUMMED)
    outcome = operation.run(program.on(before), asked)
    notes = outcome.proof.notes
    if which:
        made = onto_layer(program, before, outcome.take, which)
        notes = (*notes, f"It reads what is seen, and is written into the layer {layer_of(take, which).name}.")
        if made.curves != take.curves:
            notes = (*notes, "What steps is never layered: that is written into the base.")
    elif how == "carried" or (how == "" and operation.carries):
        made = carried(program, lambda p: operation.run(p, asked).take)
        notes = (*notes, "Layers are carried across; at other weights than these they look otherwise than before.")
    else:
        made = _keyed_at_changes(program, program.on(outcome.take), folded(program, before, outcome.take))
        heard = ", ".join(x.name for x in program.layering.layers)
        notes = (*notes, f"It reads what is seen, and is written into the base beneath {heard}.")
    there = program.on(replace(made, layers=())).channels
    if any(n not in there for x in made.layers for n in x.curves):
        # What is gone has no layers either.
        made = replace(
            made,
            layers=tuple(replace(x, curves={n: c for n, c in x.curves.items() if n in there}) for x in made.layers),
        )
    after = program.on(made)
    after.check_loops()
    was = outcome.proof
    proof = prove(
        was.operation, program, after, was.first, was.last, residual=(was.residual_place, was.residual_turn), gives=was.gives,
        notes=notes, tolerance=was.tolerance,
    )  # fmt: skip
    return Outcome(made, proof, outcome.label)


def _keyed_at_changes(program: Program, flat: Program, made: Take) -> Take:
    """A base with keys wherever what was made of the sum, `flat`, has them at a change of what drives: where they change nothing
    there, the base under layers has got none. They change nothing here either."""
    after = program.on(made)
    curves = dict(made.curves)
    for bound in after.bounds.values():
        mine = [after.channel_names()[c] for c in bound.own.values()]
        if all(made.curves.get(n) is program.take.curves.get(n) for n in mine):
            continue
        there = unkeyed(flat, flat.bounds[bound.id])
        for time, system in unkeyed(after, bound):
            if (time, system) not in there:
                fence(after, curves, bound.systems[system].channels.tolist(), [time])
    return made.with_curves(curves)


def _check_layered(program: Program, curves: Mapping[str, Curve]) -> None:
    """CoreError where a layer would have keys of what can't be layered."""
    for name in curves:
        if not can_layer(program, program.channels[name]):
            raise CoreError(f"The {program.reading(name)} can't be on a layer: choose the base to key it.")


def refuse_nothing(before: Take, after: Take) -> None:
    """CoreError where two takes are the same: what changes nothing is no revision."""
    same = (
        (before.first, before.last) == (after.first, after.last)
        and before.captures.keys() == after.captures.keys()
        and all(c is after.captures[m] for m, c in before.captures.items())
        and before.tethers == after.tethers
        and before.anchors == after.anchors
        and before.points == after.points
        and before.values == after.values
        and before.flipped == after.flipped
        and before.contacts == after.contacts
        and before.wanted == after.wanted
        and before.layers == after.layers
        and before.curves.keys() == after.curves.keys()
    )
    if same and all(before.curves[n] is c or before.curves[n] == c for n, c in after.curves.items()):
        raise CoreError("This changes nothing: all of it is that way already.")


def check_stretch(take: Take, first: float, last: float | None) -> tuple[float, float]:
    """First and last frame of a stretch; CoreError where it does not lie in the take."""
    low, high = float(first), float(take.last if last is None else last)
    if not take.first <= low <= high <= take.last:
        raise CoreError(
            f"Frames {low:g} to {high:g} do not lie in the take, which runs from {take.first} to {take.last}."
        )
    return low, high


def check_parts(program: Program, parts: Sequence[tuple[str, str]]) -> None:
    """CoreError where no part is named, one is named twice, or one is not there."""
    if not parts:
        raise CoreError("Choose at least one part.")
    if len(set(parts)) != len(parts):
        raise CoreError("A part is named twice.")
    for member, part in parts:
        program.bound(member, part)


def check_tolerance(tolerance: tuple[float, float]) -> None:
    """CoreError unless a tolerance (metres, radians) can be kept."""
    if not (min(tolerance) > 0.0 and all(map(isfinite, tolerance))):
        raise CoreError("A tolerance must be above zero.")


def labels(program: Program, parts: Sequence[tuple[str, str]]) -> str:
    """Parts by the names the animator knows."""
    names = [program.bound(*p).part.label for p in parts]
    return ", ".join(names[:4]) + (f" and {len(names) - 4} more" if len(names) > 4 else "")


def stretch_words(first: float, last: float | None) -> str:
    return f"from frame {first:g} on" if last is None else f"frames {first:g} to {last:g}"


def system_options(program: Program, parts: Parts) -> tuple[tuple[str, str], ...]:
    """Systems that drive these parts, with their labels; only of parts that have more than one."""
    found: dict[str, str] = {}
    for part in parts:
        bound = program.bound(*part)
        if len(bound.systems) > 1:
            found |= {name: bound.label_of(name) for name in bound.systems}
    return tuple(found.items())
