"""Operations over HTTP: what they are asked for, and how they describe themselves."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, Protocol

from ..core.clips import Clip
from ..core.curves import Key
from ..core.errors import CoreError
from ..core.operations import OPERATIONS, Asked, Operation, Outcome, run
from ..core.operations.keys import EditAsked, NamedKeys
from ..core.operations.operation import LAYERS
from ..core.program import Program
from ..store.store import Loaded
from . import schemas as s


class Kept(Protocol):
    """What is kept beside a take that an operation may need: clips and other takes, by their numbers."""

    def clip(self, id: int) -> Clip: ...

    def load(self, take_id: int, revision: int | None = None) -> Loaded: ...


def info(operation: Operation) -> s.OperationInfo:
    """An operation as the interface reads it."""
    return s.OperationInfo(
        id=operation.id, label=operation.label, to_layer=operation.to_layer, applies=operation.applies, help=operation.help,
        choices=[
            s.Choice(
                name=c.name, label=c.label, kind=c.kind, options=list(c.options), least=c.least, most=c.most,
                default=c.default, unit=c.unit, folded=c.folded, help=c.help,
                when=None if c.when is None else s.When(choice=c.when[0], values=list(c.when[1])),
            )
            for c in (*operation.choices, *((LAYERS,) if operation.carries else ()))
        ],
    )  # fmt: skip


def all_infos() -> list[s.OperationInfo]:
    return [info(o) for o in sorted(OPERATIONS.values(), key=lambda o: o.rank)]


def asked_of(body: s.OperationAsked, kept: Kept) -> Asked:
    """What the core is asked for."""
    operation = OPERATIONS.get(body.operation)
    named = [str(body.choices.get(c.name) or "") for c in operation.choices if c.kind == "take"] if operation else []
    return Asked(
        tuple((p.member, p.part) for p in body.parts), body.first, body.last, body.choices, tuple(body.findings),
        None if body.edit is None else _edit(body.edit), None if body.clip is None else kept.clip(body.clip), _other(kept, next(filter(None, named), "")),
    )  # fmt: skip


def _other(kept: Kept, named: str) -> Program | None:
    """The take that a choice names, as it is at its head; None where none does."""
    if not named:
        return None
    if not named.isdecimal() or len(named) > 9:
        raise CoreError(f"A take is chosen by its number, not {named[:40]!r}.")
    loaded = kept.load(int(named))
    return Program(loaded.scene, loaded.take)


def asked_json(asked: Asked) -> dict[str, Any]:
    """What a step was asked for, as its revision says it; steps have no edits and no clips."""
    return {
        "parts": [{"member": m, "part": p} for m, p in asked.parts], "first": asked.first, "last": asked.last,
        "choices": dict(asked.choices), "findings": list(asked.findings),
    }  # fmt: skip


def asked_from(body: Mapping[str, Any]) -> Asked:
    """What `asked_json` has written."""
    parts = tuple((p["member"], p["part"]) for p in body["parts"])
    return Asked(parts, body["first"], body["last"], body["choices"], tuple(body["findings"]))


def _edit(body: s.KeyEdit) -> EditAsked:
    named = tuple(
        NamedKeys(tuple(k.times), k.channel, None if k.part is None else (k.part.member, k.part.part))
        for k in body.keys
    )
    puts = tuple((k.channel, Key(**k.model_dump(exclude={"channel"}))) for k in body.put)
    return EditAsked(body.what, named, puts, body.by, body.rise, body.about, body.factor, body.values)


def run_asked(program: Program, body: s.OperationAsked, kept: Kept) -> Outcome:
    """Runs an operation: the new take, its proof and a line for the list of revisions."""
    return run(program, body.operation, asked_of(body, kept))


def lasts(program: Program, body: s.OperationAsked, kept: Kept) -> float:
    """About how many seconds an operation takes."""
    operation = OPERATIONS.get(body.operation)
    # What it can't do is told by trying it.
    return 0.0 if operation is None else operation.lasts(program, asked_of(body, kept))


def in_view(program: Program, body: s.OperationAsked, kept: Kept) -> s.InView | None:
    """What an operation that is tried shows in the view."""
    found = OPERATIONS[body.operation].in_view(program, asked_of(body, kept))
    if found is None:
        return None
    pulls = [
        s.Pull(label=p.label, at=p.at, to=[s.PullTo(first=a, last=b, place=x) for a, b, x in p.to]) for p in found.pulls
    ]
    return s.InView(path=list(found.path), pulls=pulls, was=list(found.was))


def chart(program: Program, body: s.OperationAsked, after: Program, kept: Kept) -> s.ChartInfo | None:
    """Figures by which to decide on what was tried."""
    found = OPERATIONS[body.operation].chart(program, asked_of(body, kept), after)
    if found is None:
        return None
    return s.ChartInfo(
        along=found.along, up=found.up, now=found.now, wide=found.wide,
        lines=[s.ChartLine(label=x.label, points=list(x.points)) for x in found.lines],
        picks=[s.Pick(choice=name, times=times) for name, times in found.picks],
    )  # fmt: skip


def suggested(program: Program, body: s.SuggestAsked, takes: Callable[[], list[tuple[str, str]]]) -> s.Suggested:
    """The choices that a stretch of these parts most likely wants, and which options its parts have; `takes`: all there are, by
    their numbers."""
    operation = OPERATIONS.get(body.operation)
    if operation is None:
        return s.Suggested(choices={}, options={})
    parts = tuple((p.member, p.part) for p in body.parts)
    known = {c.name for c in operation.choices}
    made = {name: value for name, value in body.choices.items() if name in known}
    suggested = operation.suggest(program, parts, body.first, body.last, made)
    choices = {c.name: c.default for c in operation.choices} | suggested | made
    options = {name: list(found) for name, found in operation.options(program, parts).items()}
    if named := [c.name for c in operation.choices if c.kind == "take"]:
        options |= dict.fromkeys(named, takes())
    return s.Suggested(choices=choices, options=options)
