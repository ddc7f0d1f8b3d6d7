"""What an operation has made, as bytes: on its way from the worker that worked it out to the program that shows it."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from typing import Any

from ..core.curves import Curve
from ..core.operations import Outcome, Step
from ..core.proof import Proof
from ..core.takes import Capture, Take
from ..store import codec
from . import operations


def outcome_bytes(base: Take, outcome: Outcome) -> Iterator[bytes]:
    """An outcome as bytes: the length of a text and the text, JSON, then the curves that it names and those captures that are not
    those of `base`, each of them once."""
    blobs: dict[str, bytes] = {}
    # What the take was opened with goes by its member: it is long, and there already.
    names = {id(c): f"of {member}" for member, c in base.captures.items()}

    def kept(curve: Curve) -> str:
        data = codec.curve_bytes(curve)
        blobs[found := codec.digest(data)] = data
        return found

    def captured(capture: Capture) -> str:
        found = names.get(id(capture))
        if found is None:
            data = codec.capture_bytes(capture)
            blobs[found := codec.digest(data)] = data
            names[id(capture)] = found
        return found

    def told(made: Outcome | Step) -> dict[str, object]:
        take = codec.take_json(made.take, kept, captured)
        return {"label": made.label, "proof": codec.proof_json(made.proof), "take": take}

    steps = [{**told(x), "operation": x.operation, "asked": operations.asked_json(x.asked)} for x in outcome.steps]
    body = {**told(outcome), "steps": steps}
    text = json.dumps({**body, "blobs": {name: len(data) for name, data in blobs.items()}}).encode()
    yield len(text).to_bytes(8, "little") + text
    yield from blobs.values()


def outcome_from(base: Take, data: bytes) -> Outcome:
    """The outcome of such bytes, on the take that it was made of."""
    at = 8 + int.from_bytes(data[:8], "little")
    body = json.loads(data[8:at])
    blobs: dict[str, bytes] = {}
    for name, size in body["blobs"].items():
        blobs[name] = data[at : at + size]
        at += size
    curves = {codec.digest(codec.curve_bytes(c)): c for c in base.curves.values()}
    captures = {f"of {member}": c for member, c in base.captures.items()}

    def captured(stored: Mapping[str, Any]) -> Capture:
        found = captures.get(stored["blob"])
        if found is None:
            found = captures[stored["blob"]] = codec.capture_from(blobs[stored["blob"]], stored)
        return found

    def take(of: dict[str, Any]) -> Take:
        for name in codec.curves_named(of) - curves.keys():
            curves[name] = codec.curve_from(blobs[name])
        return codec.take_from(base, of, curves, captured)

    def proof(of: dict[str, object]) -> Proof:
        found = codec.proof_from(of)
        assert found is not None
        return found

    steps = tuple(
        Step(x["operation"], operations.asked_from(x["asked"]), take(x["take"]), proof(x["proof"]), x["label"])
        for x in body["steps"]
    )
    return Outcome(take(body["take"]), proof(body["proof"]), body["label"], steps)
