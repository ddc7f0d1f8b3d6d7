"""What an operation has made, as bytes: on its way from the worker that worked it out to the program that shows it."""

from __future__ import annotations

import json
from collections.abc import Iterator

from ..core.curves import Curve
from ..core.operations import Outcome, Step
from ..core.proof import Proof
from ..core.takes import Take
from ..store import codec
from . import operations


def outcome_bytes(outcome: Outcome) -> Iterator[bytes]:
    """An outcome as bytes: the length of a text and the text, JSON, then the curves that it names, each of them once."""
    blobs: dict[str, bytes] = {}

    def kept(curve: Curve) -> str:
        data = codec.curve_bytes(curve)
        blobs[found := codec.digest(data)] = data
        return found

    def told(made: Outcome | Step) -> dict[str, object]:
        return {"label": made.label, "proof": codec.proof_json(made.proof), "take": codec.take_json(made.take, kept)}

    steps = [{**told(x), "operation": x.operation, "asked": operations.asked_json(x.asked)} for x in outcome.steps]
    body = {**told(outcome), "steps": steps}
    text = json.dumps({**body, "curves": {name: len(data) for name, data in blobs.items()}}).encode()
    yield len(text).to_bytes(8, "little") + text
    yield from blobs.values()


def outcome_from(base: Take, data: bytes) -> Outcome:
    """The outcome of such bytes, on the take that it was made of, whose captures and frames it has."""
    at = 8 + int.from_bytes(data[:8], "little")
    body = json.loads(data[8:at])
    curves = {codec.digest(codec.curve_bytes(c)): c for c in base.curves.values()}
    for name, size in body["curves"].items():
        if name not in curves:
            curves[name] = codec.curve_from(data[at : at + size])
        at += size

    def take(of: dict[str, object]) -> Take:
        return codec.take_from(base, of, curves)

    def proof(of: dict[str, object]) -> Proof:
        found = codec.proof_from(of)
        assert found is not None
        return found

    steps = tuple(
        Step(x["operation"], operations.asked_from(x["asked"]), take(x["take"]), proof(x["proof"]), x["label"])
        for x in body["steps"]
    )
    return Outcome(take(body["take"]), proof(body["proof"]), body["label"], steps)
