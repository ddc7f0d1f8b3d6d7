"""GLB: skeleton, body and motion of one cast member, as glTF 2.0 in its binary form.

The motion is sampled adaptively: wherever a reader that interpolates straight (rotations along the shortest arc, as
the standard has it) would place a joint more than a share of a tenth of a millimetre off, another sample is put. A
split key becomes two samples as close as the reader's single-precision times allow.
"""

from __future__ import annotations

import json
import struct
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..core.cast import Member, Shape
from ..core.curves import ARRIVING, LEAVING
from ..core.errors import CoreError
from ..core.kernels import hierarchy
from ..core.program import Program
from ..core.progress import advance, stage
from ..core.skin import skin_of
from ..core.tones import colour_of
from ..core.transforms import Floats, Ints, inverse, rotate

#: How far a reader may place a joint off, metres: a third of the tenth of a millimetre that files are held to.
TOLERANCE = 3e-5
#: Closest samples, frames: a limb that locks straight moves its middle joint ever faster up to that moment.
FINEST = 1.0 / 16384.0
#: Most samples of one motion, those of each joint counted.
MOST = 12_000_000
#: Intervals that are compared in one go, and bytes of a piece of the file.
AT_A_TIME, PIECE = 512, 1 << 20
_FLOAT, _USHORT, _UINT = 5126, 5123, 5125


#: Where a reader's straight interpolation is compared with the motion between two samples; unevenly, since a limb that
#: passes near straight moves in short bursts.
SHARES = np.array([0.08, 0.2, 0.35, 0.5, 0.65, 0.8, 0.92])


@dataclass
class _Bin:
    """The binary chunk with its views and accessors."""

    data: bytearray = field(default_factory=bytearray)
    views: list[dict[str, Any]] = field(default_factory=list)
    accessors: list[dict[str, Any]] = field(default_factory=list)

    def add(
        self, values: np.ndarray, kind: str, component: int, target: int | None = None, bounds: bool = False
    ) -> int:
        """Lays an array down; returns its accessor."""
        while len(self.data) % 4:
            self.data.append(0)
        raw = np.ascontiguousarray(values)
        view: dict[str, Any] = {"buffer": 0, "byteOffset": len(self.data), "byteLength": raw.nbytes}
        if target is not None:
            view["target"] = target
        self.data += raw.tobytes()
        accessor: dict[str, Any] = {
            "bufferView": len(self.views), "componentType": component, "count": len(raw), "type": kind
        }  # fmt: skip
        if bounds:
            flat = raw.reshape(len(raw), -1)
            accessor["min"], accessor["max"] = flat.min(axis=0).tolist(), flat.max(axis=0).tolist()
        self.views.append(view)
        self.accessors.append(accessor)
        return len(self.accessors) - 1


def write(program: Program, member_id: str, first: float, last: float) -> bytes:
    """A GLB file of one member, in one piece; see `blocks`."""
    return b"".join(blocks(program, member_id, first, last))


def blocks(program: Program, member_id: str, first: float, last: float) -> Iterator[bytes]:
    """A GLB file of one member over the whole frames first…last of the take, piece by piece. CoreError where they are not in
    it."""
    program.take.whole_frames(first, last)
    member = program.scene.member(member_id)
    with stage("Making the body", 0.0, 0.1):
        document, out = _begun(program.scene.name, member)
    with stage("Sampling the motion", 0.1, 1.0):
        samples = sampled(program, member, first, last)
    document["animations"] = [_animation(out, member, samples, program.take.name)]
    yield from _ended(document, out)


def body(member: Member) -> bytes:
    """A GLB file of a member at rest: its skeleton and its body, no motion."""
    return b"".join(_ended(*_begun(member.name, member)))


def _begun(scene: str, member: Member) -> tuple[dict[str, Any], _Bin]:
    """The document of a member: its skeleton, its body, and the data laid down so far."""
    skeleton = member.skeleton
    out = _Bin()
    # The member's name may be that of one of its joints; nodes are told apart by their place, not by name.
    nodes: list[dict[str, Any]] = [
        {"name": j.name, "translation": list(j.offset), "rotation": list(j.rest)} for j in skeleton.joints
    ]
    for j, parent in enumerate(skeleton.parents):
        if parent >= 0:
            nodes[parent].setdefault("children", []).append(j)
    document: dict[str, Any] = {
        "asset": {"version": "2.0", "generator": "Yielding Tether"},
        "scene": 0, "scenes": [{"name": scene, "nodes": [0]}], "nodes": nodes,
    }  # fmt: skip
    if member.shapes:
        _add_body(document, out, member)
    return document, out


def _ended(document: dict[str, Any], out: _Bin) -> Iterator[bytes]:
    """The file of a document and its data, piece by piece."""
    document["bufferViews"], document["accessors"] = out.views, out.accessors
    while len(out.data) % 4:
        out.data.append(0)
    document["buffers"] = [{"byteLength": len(out.data)}]
    text = json.dumps(document, separators=(",", ":")).encode()
    text += b" " * (-len(text) % 4)
    total = 12 + 8 + len(text) + 8 + len(out.data)
    yield struct.pack("<4sII", b"glTF", 2, total) + struct.pack("<I4s", len(text), b"JSON") + text
    yield struct.pack("<I4s", len(out.data), b"BIN\0")
    for k in range(0, len(out.data), PIECE):
        yield bytes(out.data[k : k + PIECE])


# --- motion ---------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Samples:
    """Local transforms at S times: frames, seconds as a reader has them (S,) float32, offsets (S, J, 3), rotations (S, J, 4)
    with neighbours in one hemisphere, single precision too; which joints (J,) move or turn from where they are at rest; sizes
    (S,) of the body, which are taken off the offsets."""

    frames: Floats
    seconds: np.ndarray
    offsets: np.ndarray
    rotations: np.ndarray
    moves: np.ndarray
    turns: np.ndarray
    sizes: np.ndarray


def sampled(program: Program, member: Member, first: float, last: float) -> Samples:
    """The motion of one member, sampled until a reader's straight interpolation stays within the tolerance. CoreError where that
    takes too many samples for one file."""
    rate = float(program.take.rate)
    splits = _splits(program, first, last)
    halves = np.arange(np.ceil(2 * first), np.floor(2 * last) + 0.5) / 2.0
    frames = np.unique(np.concatenate([halves, [first, last], splits]))
    low, high = frames[:-1], frames[1:]
    left = 1.0
    while len(low):
        worst = np.empty(len(low))
        for k in range(0, len(low), AT_A_TIME):
            # Most intervals are halved a few times, then fewer and fewer.
            advance(1.0 - left * (1.0 - 0.3 * k / len(low)))
            some = slice(k, k + AT_A_TIME)
            worst[some] = _strays(program, member, low[some], high[some])
        left *= 0.7
        cut = (worst > TOLERANCE) & (high - low > FINEST)
        if (len(frames) + cut.sum()) * len(member.skeleton) > MOST:
            raise CoreError(
                f"Frames {first:g} to {last:g} take more samples than one file holds: write them in shorter ranges, one file each."
            )
        low, high = low[cut], high[cut]
        middle = 0.5 * (low + high)
        frames = np.union1d(frames, middle)
        low, high = np.concatenate([low, middle]), np.concatenate([middle, high])
    # Split keys are sampled on both sides.
    arriving = splits[(splits > first)]
    at = np.concatenate([frames, arriving])
    side = np.concatenate([np.zeros(len(frames), dtype=np.int64), np.ones(len(arriving), dtype=np.int64)])
    order = np.lexsort((-side, at))
    at, side = at[order], side[order]
    seconds = ((at - first) / rate).astype(np.float32)
    for k in np.flatnonzero(side == ARRIVING):
        seconds[k] = np.nextafter(seconds[k + 1], np.float32(-np.inf))
    keep = np.concatenate([[True], np.diff(seconds) > 0.0])
    return _filled(program, member, at[keep], side[keep], seconds[keep])


def _filled(program: Program, member: Member, at: Floats, side: Ints, seconds: np.ndarray) -> Samples:
    """The samples at these times, worked out a few at a time: in single precision they take half of what they are made of."""
    count = len(member.skeleton)
    offsets, rotations = np.empty((len(at), count, 3), np.float32), np.empty((len(at), count, 4), np.float32)
    moves, turns = np.zeros(count, dtype=bool), np.zeros(count, dtype=bool)
    rest = np.array([j.offset for j in member.skeleton.joints]), np.array([j.rest for j in member.skeleton.joints])
    near = rest[1]
    sizes = np.ones(len(at), np.float32)
    for k in range(0, len(at), AT_A_TIME):
        some = slice(k, k + AT_A_TIME)
        offset, turn, sizes[some] = _local(program, member, at[some], side[some])
        before = np.concatenate([near[None], turn[:-1]])
        turn *= np.cumprod(np.where(np.sum(turn * before, axis=-1) < 0.0, -1.0, 1.0), axis=0)[..., None]
        near = turn[-1]
        moves |= np.abs(offset - rest[0]).max(axis=(0, 2)) > 1e-9
        turns |= np.abs(turn - rest[1]).max(axis=(0, 2)) > 0.0
        offsets[some], rotations[some] = offset, turn
    return Samples(at, seconds, offsets, rotations, moves, turns, sizes)


def _strays(program: Program, member: Member, low: Floats, high: Floats) -> Floats:
    """How far a reader's joints are from ours at most within each interval from low (N,) to high (N,), metres."""
    off_a, rot_a, size_a = _local(program, member, low, LEAVING)
    off_b, rot_b, size_b = _local(program, member, high, ARRIVING)
    # Between neighbours, all at once: (shares, intervals, joints).
    offsets = off_a + SHARES[:, None, None, None] * (off_b - off_a)
    offsets[..., 1:, :] *= (size_a + SHARES[:, None] * (size_b - size_a))[..., None, None]
    pos = _posed(member, offsets, _slerp(rot_a, rot_b, SHARES[:, None, None, None]))
    world = _world(program, member, (low + SHARES[:, None] * (high - low)).ravel())
    worst: Floats = np.linalg.norm(pos - world.reshape(pos.shape), axis=-1).max(axis=(0, 2))
    return worst


def _splits(program: Program, first: float, last: float) -> Floats:
    """Times in first…last at which some curve's value splits, or a stepped one steps."""
    found: set[float] = set()
    for kept in program.take.curves.values():
        numbers, kinds = kept.numbers, kept.marks[:, 0]
        stepped = np.concatenate([[False], kinds[:-1] == 0]) if len(kept) else np.zeros(0, dtype=bool)
        found.update(numbers[(numbers[:, 1] != numbers[:, 2]) | stepped, 0].tolist())
    times = np.array(sorted(found))
    result: Floats = times[(times >= first) & (times <= last)] if len(times) else np.empty(0)
    return result


def _nodes(program: Program, member: Member) -> list[int]:
    return [program.nodes[member.id, j.name] for j in member.skeleton.joints]


def _world(program: Program, member: Member, at: Floats) -> Floats:
    nodes = _nodes(program, member)
    return program.evaluate(at, only=nodes).pos[:, nodes]


def _local(program: Program, member: Member, at: Floats, side: int | np.ndarray) -> tuple[Floats, Floats, Floats]:
    """Local offsets (S, J, 3) with the size of the body taken off, rotations (S, J, 4), sizes (S,)."""
    nodes = _nodes(program, member)
    poses = program.evaluate(at, side, only=nodes)
    pos, rot = np.ascontiguousarray(poses.pos[:, nodes]), np.ascontiguousarray(poses.rot[:, nodes])
    offsets, rotations = np.empty_like(pos), np.empty_like(rot)
    hierarchy.to_local(np.array(member.skeleton.parents), pos, rot, offsets, rotations)
    sizes = program.sizes(at, side, nodes[0])
    offsets[:, 1:] /= sizes[:, None, None]
    return offsets, rotations, sizes


def _posed(member: Member, offsets: Floats, rotations: Floats) -> Floats:
    """World places (…, J, 3) of local offsets (…, J, 3) and rotations (…, J, 4)."""
    count = offsets.shape[-2]
    flat, turns = offsets.reshape(-1, count, 3), rotations.reshape(-1, count, 4)
    pos, rot = np.empty_like(flat), np.empty_like(turns)
    hierarchy.to_world(np.array(member.skeleton.parents), flat, turns, pos, rot)
    return pos.reshape(offsets.shape)


def _slerp(a: Floats, b: Floats, share: Floats) -> Floats:
    """Along the shortest arc from a to b (…, 4), as readers of the format do."""
    dots = np.sum(a * b, axis=-1, keepdims=True)
    b = np.where(dots < 0.0, -b, b)
    angle = np.arccos(np.clip(np.abs(dots), 0.0, 1.0))
    near = angle < 1e-6
    sine = np.where(near, 1.0, np.sin(angle))
    wa = np.where(near, 1.0 - share, np.sin((1.0 - share) * angle) / sine)
    wb = np.where(near, share, np.sin(share * angle) / sine)
    found = wa * a + wb * b
    result: Floats = found / np.linalg.norm(found, axis=-1, keepdims=True)
    return result


def _animation(out: _Bin, member: Member, samples: Samples, name: str) -> dict[str, Any]:
    times = out.add(samples.seconds, "SCALAR", _FLOAT, bounds=True)
    channels: list[dict[str, Any]] = []
    samplers: list[dict[str, Any]] = []

    def channel(node: int, path: str, values: np.ndarray, kind: str) -> None:
        accessor = out.add(values, kind, _FLOAT)
        samplers.append({"input": times, "output": accessor, "interpolation": "LINEAR"})
        channels.append({"sampler": len(samplers) - 1, "target": {"node": node, "path": path}})

    for j in range(len(member.skeleton)):
        # What stands at rest throughout needs no samples; the root always has its own.
        if j == 0 or samples.turns[j]:
            channel(j, "rotation", samples.rotations[:, j], "VEC4")
        if j == 0 or samples.moves[j]:
            channel(j, "translation", samples.offsets[:, j], "VEC3")
    if np.abs(samples.sizes - 1.0).max(initial=0.0) > 0.0:
        # The whole body hangs from its first joint, and grows with it.
        channel(0, "scale", np.repeat(samples.sizes[:, None], 3, axis=1), "VEC3")
    return {"name": name, "channels": channels, "samplers": samplers}


# --- body -----------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class _Mesh:
    """Part of a body at rest: points and normals (V, 3), faces (T, 3), the four joints (V, 4) of each point and their
    weights (V, 4)."""

    points: Floats
    normals: Floats
    faces: np.ndarray
    joints: np.ndarray
    weights: Floats


def _meshes(member: Member) -> dict[str, list[_Mesh]]:
    """A body's skin and its rigid pieces, by tone."""
    rest_pos, rest_rot = member.skeleton.rest_pose
    skin = skin_of(member)
    found: dict[str, list[_Mesh]] = {}
    for x in skin.surfaces:
        found.setdefault(x.tone, []).append(_Mesh(x.points, x.normals, x.faces, x.joints, x.weights))
    for shape in skin.pieces:
        j = member.skeleton.index[shape.joint]
        points, normals, faces = solid(shape)
        turn = np.broadcast_to(rest_rot[j], (len(points), 4))
        joints, weights = np.zeros((len(points), 4), dtype=np.uint16), np.zeros((len(points), 4))
        joints[:, 0], weights[:, 0] = j, 1.0
        found.setdefault(shape.tone, []).append(
            _Mesh(rotate(turn, points) + rest_pos[j], rotate(turn, normals), faces, joints, weights)
        )
    return found


def _add_body(document: dict[str, Any], out: _Bin, member: Member) -> None:
    """One skinned mesh, a primitive a tone: the skin, and rigid pieces."""
    skeleton = member.skeleton
    rest_pos, rest_rot = skeleton.rest_pose
    primitives, materials = [], []
    for tone, pieces in _meshes(member).items():
        counts = np.cumsum([0, *(len(p.points) for p in pieces)])
        joints = np.concatenate([p.joints for p in pieces]).astype(np.uint16)
        weights = np.concatenate([p.weights for p in pieces]).astype(np.float32)
        # In single precision too they add up to one.
        weights[:, 0] = np.float32(1.0) - weights[:, 1:].sum(axis=1, dtype=np.float32)
        indices = np.concatenate([p.faces.reshape(-1, 3) + counts[k] for k, p in enumerate(pieces)])
        points = np.concatenate([p.points for p in pieces]).astype(np.float32)
        normals = np.concatenate([p.normals for p in pieces])
        length = np.linalg.norm(normals, axis=1, keepdims=True)
        # A piece without size faces anywhere.
        normals = np.where(length > 0.0, normals / np.maximum(length, 1e-300), [0.0, 0.0, 1.0]).astype(np.float32)
        primitives.append({
            "attributes": {
                "POSITION": out.add(points, "VEC3", _FLOAT, 34962, bounds=True),
                "NORMAL": out.add(normals, "VEC3", _FLOAT, 34962),
                "JOINTS_0": out.add(joints, "VEC4", _USHORT, 34962),
                "WEIGHTS_0": out.add(weights, "VEC4", _FLOAT, 34962),
            },
            "indices": out.add(indices.ravel().astype(np.uint32), "SCALAR", _UINT, 34963),
            "material": len(materials),
        })  # fmt: skip
        materials.append({
            "name": tone,
            "pbrMetallicRoughness": {
                "baseColorFactor": [*_linear(colour_of(tone)), 1.0],
                "metallicFactor": 0.0, "roughnessFactor": 0.9,
            },
        })  # fmt: skip
    bind = np.zeros((len(skeleton), 4, 4))
    for j in range(len(skeleton)):
        back = inverse(rest_rot[j])
        # Columns first, as the format has it.
        bind[j, 0, :3], bind[j, 1, :3], bind[j, 2, :3] = (rotate(back, axis) for axis in np.eye(3))
        bind[j, 3, :3] = rotate(back, -rest_pos[j])
        bind[j, 3, 3] = 1.0
    document["materials"] = materials
    document["meshes"] = [{"name": f"{member.name} body", "primitives": primitives}]
    accessor = out.add(bind.reshape(-1, 16).astype(np.float32), "MAT4", _FLOAT)
    document["skins"] = [
        {"name": member.name, "joints": list(range(len(skeleton))), "inverseBindMatrices": accessor, "skeleton": 0}
    ]
    document["nodes"].append({"name": f"{member.name} body", "mesh": 0, "skin": 0})
    document["scenes"][0]["nodes"].append(len(document["nodes"]) - 1)


def _linear(colour: str) -> list[float]:
    """A colour as written, in the linear values that the format wants."""
    srgb = [int(colour[k : k + 2], 16) / 255.0 for k in (1, 3, 5)]
    return [round(c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4, 5) for c in srgb]


def solid(shape: Shape) -> tuple[Floats, Floats, np.ndarray]:
    """Points (n, 3), normals (n, 3) and triangles (m, 3) of a piece of a body, in its joint."""
    a, b = np.array(shape.a), np.array(shape.b)
    size = [*shape.size, *[shape.size[-1]] * 3]
    if shape.form == "block":
        return _block(a, np.array(size[:3]), np.array(shape.turn))
    around, along = 16, 9
    if shape.form == "ring":
        u, v = np.meshgrid(np.arange(21) * 2 * np.pi / 20, np.arange(9) * 2 * np.pi / 8, indexing="ij")
        normals = np.stack([np.cos(v) * np.cos(u), np.cos(v) * np.sin(u), np.sin(v)], axis=-1)
        middle = np.stack([np.cos(u), np.sin(u), np.zeros_like(u)], axis=-1)
        points = size[0] * middle + size[1] * normals
        turn = _turn_onto(np.array([0.0, 0.0, 1.0]), b)
    else:
        tilt = np.linspace(-np.pi / 2, np.pi / 2, along)
        v, u = np.meshgrid(tilt, np.arange(around + 1) * 2 * np.pi / around, indexing="ij")
        normals = np.stack([np.cos(v) * np.cos(u), np.sin(v), -np.cos(v) * np.sin(u)], axis=-1)
        if shape.form == "ball":
            points = normals * np.array(size[:3])
            normals = normals / np.array(size[:3])
            turn = np.array(shape.turn)
        else:
            # Lower half about a, upper half about b.
            length = float(np.linalg.norm(b - a))
            low = v <= 0.0
            points = np.where(low[..., None], size[0], size[1]) * normals
            points[..., 1] += np.where(low, 0.0, length)
            turn = _turn_onto(np.array([0.0, 1.0, 0.0]), b - a)
    rows, columns = points.shape[:2]
    grid = np.arange(rows * columns).reshape(rows, columns)
    p, q, r, s = grid[:-1, :-1], grid[:-1, 1:], grid[1:, 1:], grid[1:, :-1]
    faces = np.concatenate([np.stack([p, q, r], axis=-1).reshape(-1, 3), np.stack([p, r, s], axis=-1).reshape(-1, 3)])
    flat, norms = points.reshape(-1, 3), normals.reshape(-1, 3)
    # Triangles of no size, at the poles of balls, are left out; the others face outward.
    corner = flat[faces]
    facing = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    keep = np.linalg.norm(facing, axis=1) > 1e-12
    faces, facing = faces[keep], facing[keep]
    inward = np.sum(facing * norms[faces].mean(axis=1), axis=1) < 0.0
    faces[inward] = faces[inward][:, ::-1]
    turns = np.broadcast_to(turn, (len(flat), 4))
    return rotate(turns, flat) + a, rotate(turns, norms), faces


def _block(middle: Floats, size: Floats, turn: Floats) -> tuple[Floats, Floats, np.ndarray]:
    points, normals, faces = [], [], []
    for axis in range(3):
        for sign in (-1.0, 1.0):
            normal = np.zeros(3)
            normal[axis] = sign
            u, v = np.eye(3)[[(axis + 1) % 3, (axis + 2) % 3]]
            start = len(points)
            for x, y in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
                points.append(0.5 * size * (normal + x * u + y * v))
                normals.append(normal)
            quad = [start, start + 1, start + 2, start, start + 2, start + 3]
            faces.append(quad if sign > 0.0 else quad[::-1])
    turns = np.broadcast_to(turn, (len(points), 4))
    return rotate(turns, np.array(points)) + middle, rotate(turns, np.array(normals)), np.array(faces).reshape(-1, 3)


def _turn_onto(u: Floats, v: Floats) -> Floats:
    """Shortest turn of unit vector u onto the direction of v; a half turn about x where they are opposite."""
    v = v / np.linalg.norm(v)
    w = 1.0 + float(u @ v)
    if w < 1e-12:
        return np.array([1.0, 0.0, 0.0, 0.0])
    q = np.append(np.cross(u, v), w)
    result: Floats = q / np.linalg.norm(q)
    return result
