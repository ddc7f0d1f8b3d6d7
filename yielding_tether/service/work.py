"""What jobs do: one function a kind. It gets what was asked for, reads the file that came with it and writes the one that comes
of it, and returns what is told of the job once it is done."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any, NamedTuple

from ..core.contact_finding import find
from ..core.errors import CoreError
from ..core.program import Program
from ..core.progress import stage
from ..core.takes import Scene, Take
from ..formats import FormatError, bvh, glb
from ..store.store import Store
from . import operations
from . import schemas as s
from .outcomes import outcome_bytes

#: Reads the file that came with a job.
Read = Callable[[], bytes]
#: Writes the file that comes of a job, piece by piece; returns its size in bytes.
Write = Callable[[Iterator[bytes]], int]
Work = Callable[[Store, dict[str, Any], Read, Write], s.Result]


class Writer(NamedTuple):
    """A format that takes go out in."""

    blocks: Callable[[Program, str, float, float], Iterator[bytes]]
    media: str
    summary: str
    help: str
    label: str
    holds: str
    leaves: str


WRITERS = {
    "bvh": Writer(
        bvh.blocks, "text/plain; charset=utf-8", "One member as a BVH file",
        "Every whole frame of the range, in centimetres.", "BVH: skeleton and motion as text",
        "Every joint at every whole frame of the range, in centimetres, Y up.",
        "Left out: the body's shape, keys, systems, follows and contacts; a change within a frame is seen on the frames beside"
        " it only. Where a body grows, its joints have whole places beside their offsets, which some readers add.",
    ),
    "glb": Writer(
        glb.blocks, "model/gltf-binary", "One member as a GLB file: skeleton, body and motion",
        "glTF 2.0, metres, Y up; sampled until a reader's interpolation stays within a tenth of a millimetre.",
        "GLB: skeleton, body and motion, glTF 2.0",
        "Skeleton, body and motion in metres, Y up; sampled until straight interpolation stays within a tenth of a millimetre,"
        " changes within a frame included.",
        "Left out: keys, systems, follows and contacts: the motion holds what they did.",
    ),
}  # fmt: skip


def bring_in(store: Store, asked: dict[str, Any], read: Read, write: Write) -> s.Result:
    """A capture becomes a scene, or with `scene` a further take of one. asked: filename, unit, up, scene."""
    filename, scene = asked["filename"], asked["scene"]
    check_readable(filename)
    name = Path(filename.replace("\\", "/")).stem[:80] or "Capture"
    with stage("Reading", 0.0, 0.7):
        got = bvh.read(read(), "body", name, asked["unit"], asked["up"])
    notes = got.notes
    with stage("Finding contacts", 0.7, 0.9):
        if scene is None:
            program = _with_contacts(Program(Scene(name, (got.member,)), got.take))
        else:
            there = store.scene(scene)
            take, notes = _further_take(there, got)
            program = _with_contacts(Program(there, take))
    with stage("Storing", 0.9, 1.0):
        if scene is None:
            scene_id, (take_id,) = store.add_scene(program.scene, [program.take])
        else:
            scene_id, take_id = scene, store.add_take(scene, program.take)
    parts = [b.part.label for b in program.bounds.values() if len(b.keyed_systems) > 1]
    info = s.ImportedInfo(scene_id=scene_id, take_id=take_id, notes=list(notes), parts=parts)
    return s.Result(imported=info)


def check_readable(filename: str) -> None:
    """FormatError for the name of a file that no reader is for."""
    if not filename.lower().endswith(".bvh"):
        raise FormatError(f"{filename} is no capture file: so far BVH files can be brought in.")


def _with_contacts(program: Program) -> Program:
    """A capture with the contacts that its motion shows."""
    return program.on(replace(program.take, contacts=tuple(find(program))))


def _further_take(scene: Scene, read: bvh.Imported) -> tuple[Take, tuple[str, ...]]:
    """The take of a file for the first of a scene's characters that it fits; CoreError of the nearest where none does."""
    refusal = CoreError(f"{scene.name} has no character that a capture could be of.")
    for member in scene.members:
        if member.kind != "character":
            continue
        try:
            return bvh.fitting_member(member, read)
        except CoreError as error:
            refusal = error
    raise refusal


def deliver(store: Store, asked: dict[str, Any], read: Read, write: Write) -> s.Result:
    """One member's motion becomes a file. asked: take, revision, ending, member, first, last (None: those of the take)."""
    loaded = store.load(asked["take"], asked["revision"])
    take, writer = loaded.take, WRITERS[asked["ending"]]
    # What is stored as JSON comes back as a whole number where it is one, however large.
    first, last = (float(x if asked[k] is None else asked[k]) for k, x in (("first", take.first), ("last", take.last)))
    size = write(writer.blocks(Program(loaded.scene, take), asked["member"], first, last))
    plain = "".join(c if c.isascii() and c.isalnum() else "-" for c in f"{take.name} {asked['member']}").lower()
    return s.Result(file=s.FileInfo(name=f"{plain}.{asked['ending']}", media=writer.media, size=size))


def work_out(store: Store, asked: dict[str, Any], read: Read, write: Write) -> s.Result:
    """What an operation makes, kept beside the job until it is looked at. asked: take, asked (an OperationAsked as text,
    so that its numbers stay what they are)."""
    body = s.OperationAsked.model_validate_json(asked["asked"])
    loaded = store.load(asked["take"], body.revision)
    write(outcome_bytes(loaded.take, operations.run_asked(Program(loaded.scene, loaded.take), body, store)))
    return s.Result()


WORK: dict[str, Work] = {"bring in": bring_in, "deliver": deliver, "try": work_out}
