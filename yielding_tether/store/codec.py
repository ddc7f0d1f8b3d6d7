"""Core objects to stored bytes and back."""

from __future__ import annotations

import hashlib
import struct
from collections.abc import Callable, Mapping
from dataclasses import replace
from functools import lru_cache
from typing import Any

import numpy as np
from pydantic import TypeAdapter

from ..core.cast import Grip, Member, Shape
from ..core.clips import Clip, PartClip
from ..core.curves import Curve, Key, curve
from ..core.errors import CoreError
from ..core.parts import PARTS, Part
from ..core.proof import Proof
from ..core.skeleton import Skeleton
from ..core.takes import Anchor, Capture, Contact, Layer, PivotPoint, Recorded, Take, Tether

_SKELETON = TypeAdapter(Skeleton)
_SHAPES = TypeAdapter(tuple[Shape, ...])
_GRIPS = TypeAdapter(tuple[Grip, ...])
_TETHERS = TypeAdapter(tuple[Tether, ...])
_CONTACTS = TypeAdapter(tuple[Contact, ...])
_ANCHORS = TypeAdapter(tuple[Anchor, ...])
_POINTS = TypeAdapter(tuple[PivotPoint, ...])
_VALUES = TypeAdapter(tuple[Recorded, ...])
_PROOF = TypeAdapter(Proof)


def digest(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


def curve_bytes(c: Curve) -> bytes:
    """Count, then the numbers as little-endian float64, then the marks."""
    return struct.pack("<I", len(c)) + c.numbers.astype("<f8").tobytes() + c.marks.tobytes()


def curve_from(data: bytes) -> Curve:
    (count,) = struct.unpack_from("<I", data)
    numbers = np.frombuffer(data, "<f8", count * 5, 4).reshape(count, 5).astype(np.float64)
    marks = np.frombuffer(data, np.uint8, count * 4, 4 + 40 * count).reshape(count, 4).copy()
    return Curve(numbers, marks)


def capture_bytes(capture: Capture) -> bytes:
    return capture.offsets.astype("<f8").tobytes() + capture.rotations.astype("<f8").tobytes()


def capture_from(data: bytes, stored: Mapping[str, Any]) -> Capture:
    """A capture of these bytes, stored so."""
    samples, joints = stored["samples"], stored["joints"]
    cut = samples * joints * 3
    # The bytes themselves, which nobody writes to, where the machine's numbers are like this.
    offsets = np.frombuffer(data, "<f8", cut).astype(np.float64, copy=False).reshape(samples, joints, 3)
    rotations = np.frombuffer(data, "<f8", samples * joints * 4, cut * 8).astype(np.float64, copy=False)
    return Capture(offsets, rotations.reshape(samples, joints, 4), stored["first"], stored["step"])


@lru_cache
def _part_adapter(kind: str) -> TypeAdapter[Part]:
    if kind not in PARTS:
        raise CoreError(f"There is no kind of part called {kind!r}: there are {', '.join(PARTS)}.")
    return TypeAdapter(PARTS[kind])


def member_json(member: Member) -> dict[str, Any]:
    """A member as stored; its parts are told apart by their kind."""
    return {
        "id": member.id, "name": member.name, "kind": member.kind,
        "skeleton": _SKELETON.dump_python(member.skeleton, mode="json"),
        "parts": [_part_adapter(p.kind).dump_python(p, mode="json") for p in member.parts],
        "shapes": _SHAPES.dump_python(member.shapes, mode="json"), "notes": list(member.notes),
        "grips": _GRIPS.dump_python(member.grips, mode="json"),
    }  # fmt: skip


def member_from(body: dict[str, Any]) -> Member:
    return Member(
        body["id"], body["name"], body["kind"], _SKELETON.validate_python(body["skeleton"]),
        tuple(_part_adapter(p["kind"]).validate_python(p) for p in body["parts"]),
        _SHAPES.validate_python(body["shapes"]), tuple(body["notes"]),
        _GRIPS.validate_python(body.get("grips", ())),
    )  # fmt: skip


def tethers_json(tethers: tuple[Tether, ...]) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = _TETHERS.dump_python(tethers, mode="json")
    return found


def tethers_from(body: list[dict[str, Any]]) -> tuple[Tether, ...]:
    return _TETHERS.validate_python(body)


def contacts_json(contacts: tuple[Contact, ...]) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = _CONTACTS.dump_python(contacts, mode="json")
    return found


def contacts_from(body: list[dict[str, Any]]) -> tuple[Contact, ...]:
    return _CONTACTS.validate_python(body)


def anchors_json(anchors: tuple[Anchor, ...]) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = _ANCHORS.dump_python(anchors, mode="json")
    return found


def anchors_from(body: list[dict[str, Any]]) -> tuple[Anchor, ...]:
    return _ANCHORS.validate_python(body)


def points_json(points: tuple[PivotPoint, ...]) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = _POINTS.dump_python(points, mode="json")
    return found


def points_from(body: list[dict[str, Any]]) -> tuple[PivotPoint, ...]:
    return _POINTS.validate_python(body)


def values_json(values: tuple[Recorded, ...]) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = _VALUES.dump_python(values, mode="json")
    return found


def values_from(body: list[dict[str, Any]]) -> tuple[Recorded, ...]:
    return _VALUES.validate_python(body)


def layers_json(layers: tuple[Layer, ...], kept: Callable[[Curve], str]) -> list[dict[str, Any]]:
    """Layers as stored; kept: the name under which a curve is stored."""
    return [
        {
            "id": x.id, "name": x.name, "mute": x.mute, "solo": x.solo, "stretch": x.stretch, "weight": kept(x.weight),
            "curves": {channel: kept(c) for channel, c in x.curves.items()},
        }
        for x in layers
    ]  # fmt: skip


def layers_from(body: list[dict[str, Any]], blobs: Mapping[str, Curve]) -> tuple[Layer, ...]:
    return tuple(
        Layer(
            x["id"], x["name"], {channel: blobs[h] for channel, h in x["curves"].items()}, blobs[x["weight"]], x["mute"], x["solo"],
            None if x["stretch"] is None else (x["stretch"][0], x["stretch"][1]),
        )
        for x in body
    )  # fmt: skip


def curves_of(layers: list[dict[str, Any]]) -> set[str]:
    """Names of the curves of stored layers."""
    return {h for x in layers for h in (x["weight"], *x["curves"].values())}


def captures_json(captures: Mapping[str, Capture], kept: Callable[[Capture], str]) -> list[dict[str, Any]]:
    """Captures as stored, in the order of their members; kept: the name under which one is stored."""
    return [
        {
            "member": member, "samples": c.offsets.shape[0], "joints": c.offsets.shape[1], "first": c.first, "step": c.step,
            "blob": kept(c),
        }
        for member, c in sorted(captures.items())
    ]  # fmt: skip


#: What a revision says of its take. Where it says nothing of frames and captures (None), they are the take's own.
FIELDS = (
    "frames", "captures", "curves", "tethers", "wanted", "contacts", "anchors", "points", "values", "flipped", "layers",
)  # fmt: skip


def take_json(take: Take, kept: Callable[[Curve], str], captured: Callable[[Capture], str]) -> dict[str, Any]:
    """What a revision says of a take; kept, captured: the names under which a curve and a capture are stored."""
    return {
        "frames": [take.first, take.last], "captures": captures_json(take.captures, captured),
        "curves": {channel: kept(c) for channel, c in take.curves.items()}, "tethers": tethers_json(take.tethers),
        "wanted": list(take.wanted), "contacts": contacts_json(take.contacts), "anchors": anchors_json(take.anchors),
        "points": points_json(take.points), "values": values_json(take.values), "flipped": list(take.flipped),
        "layers": layers_json(take.layers, kept),
    }  # fmt: skip


def take_from(
    base: Take, body: Mapping[str, Any], blobs: Mapping[str, Curve], captured: Callable[[Mapping[str, Any]], Capture]
) -> Take:
    """A take with the frames and captures of another, and what a revision says of it; blobs: curves by the names under which they
    are stored; captured: the capture that is stored so."""
    first, last = body["frames"] or (base.first, base.last)
    captures = base.captures if body["captures"] is None else {x["member"]: captured(x) for x in body["captures"]}
    return replace(
        base, first=first, last=last, captures=captures,
        curves={channel: blobs[h] for channel, h in body["curves"].items()}, tethers=tethers_from(body["tethers"]),
        wanted=tuple(body["wanted"]), contacts=contacts_from(body["contacts"]), anchors=anchors_from(body["anchors"]),
        points=points_from(body["points"]), values=values_from(body["values"]), flipped=tuple(body["flipped"]),
        layers=layers_from(body["layers"], blobs),
    )  # fmt: skip


def curves_named(body: Mapping[str, Any]) -> set[str]:
    """Names of all curves of what a revision says of its take."""
    return {*body["curves"].values(), *curves_of(body["layers"])}


def clip_json(clip: Clip) -> dict[str, Any]:
    """A clip with every number in full."""

    def keys(c: Curve | None) -> list[list[float]] | None:
        return None if c is None else [list(k) for k in c.all_keys()]

    return {
        "name": clip.name, "source": clip.source, "length": clip.length,
        "parts": [
            {
                "part": p.part, "label": p.label, "side": p.side, "kind": p.kind,
                "channels": [[slot, role, keys(c), default] for slot, role, c, default in p.channels],
                "weights": [[name, keys(c)] for name, c in p.weights],
                "times": p.times.tolist(), "step": p.step.tolist(), "turns": p.turns.tolist(),
            }
            for p in clip.parts
        ],
    }  # fmt: skip


def clip_from(body: dict[str, Any]) -> Clip:
    def made(keys: list[list[Any]]) -> Curve:
        return curve([Key(*k) for k in keys])

    def channel(slot: str, role: str, keys: list[list[Any]] | None, default: float) -> tuple[Any, ...]:
        return slot, role, None if keys is None else made(keys), default

    return Clip(
        body["name"], body["source"], body["length"],
        tuple(
            PartClip(
                p["part"], p["label"], p["side"], p["kind"],
                tuple(channel(*c) for c in p["channels"]),  # type: ignore[misc]
                tuple((name, made(k)) for name, k in p["weights"]),
                np.array(p["times"], dtype=np.float64), np.array(p["step"], dtype=np.float64),
                np.array(p["turns"], dtype=np.float64),
            )
            for p in body["parts"]
        ),
    )  # fmt: skip


def proof_json(proof: Proof) -> dict[str, Any]:
    """A proof with what follows from its figures."""
    found: dict[str, Any] = _PROOF.dump_python(proof, mode="json")
    return found


def proof_from(body: dict[str, Any] | None) -> Proof | None:
    """A stored proof; what followed from its figures then follows anew, so old ones are told as new ones are."""
    return None if body is None else _PROOF.validate_python(body)
