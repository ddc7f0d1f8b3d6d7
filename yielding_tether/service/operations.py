"""Operations over HTTP: what they are asked for, and how they describe themselves."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from ..core.clips import Clip
from ..core.curves import Key
from ..core.operations import OPERATIONS, Asked, Operation, Outcome, run
from ..core.operations.keys import EditAsked, NamedKeys
from ..core.operations.operation import LAYERS
from ..core.program import Program
from . import schemas as s

#: Finds a kept clip by its id.
Clips = Callable[[int], Clip]


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


def asked_of(body: s.OperationAsked, clips: Clips) -> Asked:
    """What the core is asked for."""
    return Asked(
        tuple((p.member, p.part) for p in body.parts), body.first, body.last, body.choices, tuple(body.findings),
        None if body.edit is None else _edit(body.edit), None if body.clip is None else clips(body.clip),
    )  # fmt: skip


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


def run_asked(program: Program, body: s.OperationAsked, clips: Clips) -> Outcome:
    """Runs an operation: the new take, its proof and a line for the list of revisions."""
    return run(program, body.operation, asked_of(body, clips))


def lasts(program: Program, body: s.OperationAsked, clips: Clips) -> float:
    """About how many seconds an operation takes."""
    operation = OPERATIONS.get(body.operation)
    # What it can't do is told by trying it.
    return 0.0 if operation is None else operation.lasts(program, asked_of(body, clips))


def in_view(program: Program, body: s.OperationAsked) -> s.InView | None:
    """What an operation that is tried shows in the view."""
    asked = Asked(tuple((p.member, p.part) for p in body.parts), body.first, body.last, body.choices)
    found = OPERATIONS[body.operation].in_view(program, asked)
    if found is None:
        return None
    pulls = [
        s.Pull(label=p.label, at=p.at, to=[s.PullTo(first=a, last=b, place=x) for a, b, x in p.to]) for p in found.pulls
    ]
    return s.InView(path=list(found.path), pulls=pulls)


def suggested(program: Program, body: s.SuggestAsked) -> s.Suggested:
    """The choices that a stretch of these parts most likely wants, and which options its parts have."""
    operation = OPERATIONS.get(body.operation)
    if operation is None:
        return s.Suggested(choices={}, options={})
    parts = tuple((p.member, p.part) for p in body.parts)
    known = {c.name for c in operation.choices}
    made = {name: value for name, value in body.choices.items() if name in known}
    suggested = operation.suggest(program, parts, body.first, body.last, made)
    choices = {c.name: c.default for c in operation.choices} | suggested | made
    options = {name: list(found) for name, found in operation.options(program, parts).items()}
    return s.Suggested(choices=choices, options=options)
