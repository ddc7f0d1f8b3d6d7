"""BVH motion files: skeleton and sampled motion in, any take or range out.

The format as described by M. Meredith and S. Maddock, "Motion capture file formats explained" (2001): a
hierarchy of offsets, then one row of channel values a frame. Rotation channels multiply in the order in which
they are listed.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace
from fractions import Fraction

import numpy as np

from ..core.cast import Member
from ..core.curves import FREE, STEPPED, Curve, Key, curve
from ..core.errors import CoreError
from ..core.kernels.fits import turns as fit_turns
from ..core.program import Program
from ..core.progress import advance, stage
from ..core.proposal import propose
from ..core.skeleton import Joint, Skeleton
from ..core.takes import WORLD, Capture, Take, Tether
from ..core.transforms import Floats, inverse, multiply, rotate
from . import FormatError

MAX_BYTES = 120_000_000
MAX_LINES = 2_000_000
MAX_JOINTS = 1000
MAX_ENDS = 10_000
MAX_FRAMES = 400_000
MAX_NUMBERS = 60_000_000
#: Bytes that the places and rotations of all joints at all frames may take, and those of one of them.
MAX_MOTION, TRANSFORM = 256_000_000, 56
#: Most characters of a row of motion: as many for each value, and a few more.
ROW, ROW_MORE = 256, 65_536
#: Rows of motion that are read in one go.
AT_A_TIME = 256
#: What ends a line, as `str.splitlines` has it.
_ENDS_OF_LINES = "\n\r\v\f\x1c\x1d\x1e\x85\u2028\u2029"
#: Metres a unit. A body's height tells one of the first four; the others are for those who know.
UNITS = {
    "metres": 1.0, "centimetres": 0.01, "inches": 0.0254, "millimetres": 0.001, "decimetres": 0.1, "feet": 0.3048,
}  # fmt: skip
LIKELY = ("metres", "centimetres", "inches", "millimetres")
#: Axes that may point up.
UPS = ("y", "z")
BODY_HEIGHT = 1.7
#: A body this many times as long along Z as along Y stands along Z.
UPRIGHT = 1.6
#: Turns Z up into Y up.
STAND_UP = (-float(np.sqrt(0.5)), 0.0, 0.0, float(np.sqrt(0.5)))
#: Degrees by which the second row leaps where the first one is a rest pose put before the motion.
LEAP = 10.0

_CHANNELS = {f"{a}{what}": (i, what) for i, a in enumerate("xyz") for what in ("position", "rotation")}


@dataclass
class Bone:
    """One joint of the hierarchy as the file has it, in the file's own unit."""

    name: str
    parent: int
    line: int
    offset: tuple[float, float, float] = (0.0, 0.0, 0.0)
    channels: list[tuple[int, str]] = field(default_factory=list)
    tips: list[tuple[float, float, float]] = field(default_factory=list)
    has_offset: bool = False


@dataclass
class Parsed:
    """A file as read: bones, (F, C) channel values in the file's units, seconds a frame, notes."""

    bones: list[Bone]
    values: Floats
    frame_time: float
    notes: list[str]


@dataclass(frozen=True)
class Imported:
    """A character with its captured take."""

    member: Member
    take: Take
    notes: tuple[str, ...]


def parse(data: bytes) -> Parsed:
    """Reads a file; FormatError names the line, the token and what was expected there."""
    if len(data) > MAX_BYTES:
        raise FormatError(f"it has {len(data):,} bytes, more than the {MAX_BYTES:,} that are read.")
    text = _text(data)
    count = sum(text.count(end) for end in _ENDS_OF_LINES)
    if count > MAX_LINES:
        raise FormatError(f"it has {count:,} lines, more than the {MAX_LINES:,} that are read.")
    lines = text.splitlines()
    del text
    at = _find_motion(lines)
    bones = _parse_hierarchy(lines[:at])
    return _parse_motion(lines, at, bones)


def _text(data: bytes) -> str:
    """The file's words, whatever its encoding and marks at its start and end."""
    head = data[:4096]
    if head.startswith((b"\xff\xfe", b"\xfe\xff")):
        text = data.decode("utf-16", errors="replace")
    elif b"\0" in head:
        # UTF-16 without a mark: every other byte of plain words is zero.
        wide = {"utf-16-le": head[1::2], "utf-16-be": head[::2]}
        kind = next((k for k, high in wide.items() if len(high) > 4 and high.count(0) > 0.9 * len(high)), None)
        if kind is None:
            raise FormatError("this is no text: a BVH file starts with the word HIERARCHY.")
        text = data.decode(kind, errors="replace")
    else:
        text = data.decode("utf-8-sig", errors="replace")
    # Old systems end a text with Ctrl-Z.
    return text.rstrip("\x1a\0 \t\r\n").lstrip("\ufeff")


def _named(line: str) -> tuple[str, str, str] | None:
    """ROOT or JOINT, the name after it, spaces and all, and what follows from an opening brace on; None for other lines."""
    bare = line.strip()
    for word in ("root", "joint"):
        if bare[: len(word)].lower() == word and bare[len(word) : len(word) + 1].isspace():
            name, brace, rest = bare[len(word) :].partition("{")
            return bare[: len(word)], name.strip(), brace + rest
    return None


def _without_comment(line: str) -> str:
    """A line without what follows # or //, where that begins a word; a joint's name keeps what it is made of."""
    if _named(line):
        return line
    for mark in ("#", "//"):
        at = line.find(mark)
        if at == 0 or (at > 0 and line[at - 1].isspace()):
            line = line[:at]
    return line


def _find_motion(lines: list[str]) -> int:
    for n, line in enumerate(lines):
        if line.strip().lower() == "motion":
            return n
    first = next((n for n, line in enumerate(lines) if line.strip()), None)
    if first is None:
        raise FormatError("it is empty: expected HIERARCHY.")
    if lines[first].split()[0].lower() != "hierarchy":
        raise FormatError("expected HIERARCHY.", first + 1, lines[first].split()[0])
    raise FormatError("the file ends without its MOTION part: it may have been cut off.", len(lines))


def _tokens(lines: Iterable[str]) -> Iterator[tuple[str, int]]:
    """Words of the hierarchy with their line numbers; the name of a joint is one word, spaces and all."""
    for n, line in enumerate(lines, 1):
        named = _named(line)
        if named:
            yield named[0], n
            yield named[1], n
        rest = named[2] if named else line
        for word in re.sub(r"([{}])", r" \1 ", rest).split():
            yield word, n


def _parse_hierarchy(lines: list[str]) -> list[Bone]:
    words = _tokens(map(_without_comment, lines))
    last = [len(lines)]

    def take(expected: str) -> tuple[str, int]:
        try:
            word, line = next(words)
        except StopIteration:
            raise FormatError(f"the hierarchy ends too early: expected {expected}.", last[0]) from None
        last[0] = line
        return word, line

    def want(word: str) -> None:
        got, line = take(word)
        if got.lower() != word.lower():
            raise FormatError(f"expected {word}.", line, got)

    def number(what: str) -> float:
        word, line = take(what)
        return _number(word, line, what)

    def triple(what: str) -> tuple[float, float, float]:
        return (number(f"{what} x"), number(f"{what} y"), number(f"{what} z"))

    def begin(parent: int) -> int:
        name, line = take("a joint's name")
        if not name:
            raise FormatError("expected a joint's name.", line)
        if name in names:
            raise FormatError("this name is used by two joints: give each one of its own.", line, name)
        if len(bones) >= MAX_JOINTS:
            raise FormatError(f"more than {MAX_JOINTS} joints.", line, name)
        names.add(name)
        bones.append(Bone(name, parent, line))
        want("{")
        return len(bones) - 1

    bones: list[Bone] = []
    names: set[str] = set()
    ends = 0
    want("HIERARCHY")
    want("ROOT")
    stack = [begin(-1)]
    while stack:
        bone = bones[stack[-1]]
        word, line = take("OFFSET, CHANNELS, JOINT, End Site or }")
        what = word.lower()
        if what == "offset":
            bone.offset = triple("the offset's")
            bone.has_offset = True
        elif what == "channels":
            _parse_channels(bone, line, take)
        elif what == "joint":
            stack.append(begin(stack[-1]))
        elif what == "end":
            want("Site")
            want("{")
            want("OFFSET")
            bone.tips.append(triple("the end's"))
            want("}")
            ends += 1
            if ends > MAX_ENDS:
                raise FormatError(f"more than {MAX_ENDS:,} End Sites.", line)
        elif what == "}":
            if not bone.has_offset:
                raise FormatError(f"joint {bone.name} has no OFFSET.", line, word)
            stack.pop()
        else:
            raise FormatError("expected OFFSET, CHANNELS, JOINT, End Site or }.", line, word)
    for word, line in words:
        what = "a second ROOT: import one body at a time" if word.lower() == "root" else "expected MOTION"
        raise FormatError(f"{what}.", line, word)
    return bones


def _parse_channels(bone: Bone, line: int, take) -> None:  # type: ignore[no-untyped-def]
    if bone.channels:
        raise FormatError(f"joint {bone.name} lists its channels twice.", line)
    word, line = take("the number of channels")
    if word not in ("0", "1", "2", "3", "4", "5", "6"):
        raise FormatError("expected the number of channels, 0 to 6.", line, word)
    for _ in range(int(word)):
        name, line = take("a channel's name")
        found = _CHANNELS.get(name.lower())
        if found is None:
            raise FormatError("expected a channel such as Xposition or Zrotation.", line, name)
        if found in bone.channels:
            raise FormatError(f"joint {bone.name} lists this channel twice.", line, name)
        bone.channels.append(found)


def _number(word: str, line: int, what: str) -> float:
    try:
        value = float(word)
    except ValueError:
        raise FormatError(f"expected a number for {what}.", line, word) from None
    if not np.isfinite(value) or abs(value) > 1e9 or "_" in word:
        raise FormatError(f"expected a finite number for {what}.", line, word)
    return value


def _parse_motion(lines: list[str], at: int, bones: list[Bone]) -> Parsed:
    notes: list[str] = []
    marked = any("#" in line or "//" in line for line in lines[at + 1 :])
    bare = map(_without_comment, lines[at + 1 :]) if marked else lines[at + 1 :]
    rows = ((n, line) for n, line in enumerate(bare, at + 2) if line and not line.isspace())

    def header(label: str) -> tuple[str, int]:
        n, line = next(rows, (len(lines), ""))
        head, colon, value = line.partition(":")
        if not colon or " ".join(head.lower().split()) != label.lower():
            raise FormatError(f"expected '{label}:'.", n, line.strip() or None)
        return value.strip(), n

    word, n = header("Frames")
    try:
        declared = int(word)
    except ValueError:
        raise FormatError("expected a whole number of frames.", n, word or None) from None
    if declared <= 0:
        raise FormatError("a take needs at least one frame.", n, word)
    word, n = header("Frame Time")
    frame_time = _number(word, n, "the frame time in seconds") if word else 0.0
    if not 1e-4 <= frame_time <= 10.0:
        raise FormatError("expected a frame time between 0.0001 and 10 seconds.", n, word or None)
    width = sum(len(b.channels) for b in bones)
    if width == 0:
        raise FormatError("no joint has a channel, so there is no motion.", bones[0].line)
    body = [(n, line) for n, line in rows]
    if not body:
        raise FormatError("there is no motion after the frame time.", len(lines))
    values = _read_rows(body, width, len(bones))
    count = len(values)
    if count != declared:
        notes.append(f"The file announces {declared} frames and holds {count}: all {count} were read.")
    return Parsed(bones, values, frame_time, notes)


def _read_rows(body: list[tuple[int, str]], width: int, joints: int) -> Floats:
    """(F, width) values of the lines (number, text) of a motion; a row may be wrapped over several lines."""
    for n, line in body:
        if len(line) > ROW * width + ROW_MORE:
            raise FormatError(f"this row of motion has {len(line):,} characters, and should have {width} values.", n)
    counts = [len(line.split()) for _, line in body]
    numbers = sum(counts)
    if numbers > MAX_NUMBERS or numbers > MAX_FRAMES * width:
        raise FormatError(f"more motion than is read ({MAX_FRAMES:,} frames, {MAX_NUMBERS:,} values).", body[-1][0])
    held, first = 0, 0
    for k, count in enumerate(counts):
        held += count
        if held == width:
            held, first = 0, k + 1
        elif held > width:
            break
    if held:
        n, line = body[first]
        raise FormatError(f"expected {width} values in this row of motion, found {counts[first]}.", n, line.split()[-1])
    frames = numbers // width
    if joints * frames * TRANSFORM > MAX_MOTION:
        raise FormatError(
            f"{joints:,} joints over {frames:,} frames take {joints * frames * TRANSFORM / 1e6:,.0f} MB, more than the "
            f"{MAX_MOTION / 1e6:,.0f} MB that are read: cut it into shorter takes, or leave joints out.", body[-1][0],
        )  # fmt: skip
    values = np.empty(numbers)
    done = 0
    # A few rows at a time: whoever reads numbers lets nobody else work meanwhile.
    for k in range(0, len(body), AT_A_TIME):
        advance(k / len(body))
        some = body[k : k + AT_A_TIME]
        found = _floats(" ".join(line for _, line in some))
        if found is None:
            raise _no_number(some)
        values[done : done + len(found)] = found
        done += len(found)
    return values.reshape(-1, width)


def _no_number(rows: list[tuple[int, str]]) -> FormatError:
    """What is wrong with rows that hold a word that is no number."""
    for n, line in rows:
        for word in line.split():
            if _floats(word) is None:
                return FormatError("expected a finite number." if _is_number(word) else "expected a number.", n, word)
    return FormatError("the motion can't be read as numbers.", rows[0][0])


def _floats(words: str) -> Floats | None:
    """The numbers of words; None if one of them is none, or too large."""
    try:
        values = np.fromstring(words, sep=" ")
    except ValueError:
        return None
    return values if np.all(np.abs(values) <= 1e9) else None


def _is_number(word: str) -> bool:
    try:
        float(word)
    except ValueError:
        return False
    return "_" not in word


def read(data: bytes, id: str, name: str, unit: str | None = None, up: str | None = None) -> Imported:
    """A character and a capture-backed take from a file. unit: one of UNITS; by default the one that makes the
    body's height the most human. up: the file's upward axis, one of UPS; by default the one along which the body stands.
    FormatError or CoreError says what is wrong."""
    if unit is not None and unit not in UNITS:
        raise FormatError(f"unknown unit {unit!r}: use one of {', '.join(UNITS)}.")
    if up is not None and up not in UPS:
        raise FormatError(f"unknown upward axis {up!r}: use one of {', '.join(UPS)}.")
    with stage("Reading the file", 0.0, 0.6):
        parsed = parse(data)
    notes = list(parsed.notes)
    bones = parsed.bones
    raw = np.array([b.offset for b in bones])
    with stage("Reading the motion", 0.6, 0.8):
        offsets, rotations = _local_motion(parsed, raw, notes)
    unit = unit or guess_unit(bones)
    size = UNITS[unit]
    notes.append(f"Read as {unit}.")
    rest = (0.0, 0.0, 0.0, 1.0)
    if up == "z" or (up is None and _lies_along_z(bones, raw, offsets, rotations)):
        # Up is Y here: the root carries the turn, at rest and in motion.
        rest = STAND_UP
        turn = np.array(STAND_UP)
        raw[0] = rotate(turn, raw[0])
        offsets[:, 0] = rotate(np.broadcast_to(turn, (len(offsets), 4)), offsets[:, 0])
        rotations[:, 0] = multiply(np.broadcast_to(turn, (len(rotations), 4)), rotations[:, 0])
        notes.append("Z is up in this file: the body was stood up.")
    joints = tuple(
        Joint(
            b.name, b.parent, _triple(raw[j] * size), rest if j == 0 else (0.0, 0.0, 0.0, 1.0),
            _triple(np.array(b.tips[0]) * size) if b.tips else None,
        )
        for j, b in enumerate(bones)
    )  # fmt: skip
    skeleton = Skeleton(joints)
    for j, b in enumerate(bones):
        if not np.isfinite(offsets[:, j]).all():
            raise FormatError(f"joint {b.name} leaves the range of numbers.", b.line, b.name)
    orders = {b.name: _order(b) for b in bones}
    with stage("Telling the parts of the body", 0.8, 1.0):
        proposal = propose(skeleton, rotations, orders, offsets=offsets * size)
    member = Member(id, name, "character", skeleton, proposal.parts, proposal.shapes, (*notes, *proposal.notes))
    rate = _rate(parsed.frame_time)
    frames = len(parsed.values)
    tethers, curves = world_tethers(member)
    first = 1 if _starts_with_rest(parsed) else 0
    told = (*member.notes, *(("Frame 0 is the rest pose, not motion: the take starts at frame 1.",) if first else ()))
    member = replace(member, notes=told)
    last = max(frames - 1, first + 1)
    take = Take(name, rate, first, last, curves, tethers, {id: Capture(offsets * size, rotations)})
    return Imported(member, take, member.notes)


def _lies_along_z(bones: list[Bone], raw: Floats, offsets: Floats, rotations: Floats) -> bool:
    """Whether the body stands along Z both at rest and in most of its motion: then Z is up in the file."""
    parents = [b.parent for b in bones]

    def tall(off: Floats, rot: Floats) -> np.ndarray:
        pos, turned = off.copy(), rot.copy()
        for j, p in enumerate(parents):
            if p >= 0:
                pos[:, j] = pos[:, p] + rotate(turned[:, p], off[:, j])
                turned[:, j] = multiply(turned[:, p], rot[:, j])
        extent = np.ptp(pos, axis=1)
        result: np.ndarray = extent[:, 2] > UPRIGHT * extent[:, 1]
        return result

    picked = np.unique(np.linspace(0, len(offsets) - 1, 40).astype(int))
    unit = np.zeros((1, len(bones), 4))
    unit[..., 3] = 1.0
    return bool(tall(raw[None].copy(), unit)[0]) and bool(tall(offsets[picked], rotations[picked]).mean() > 0.5)


def _starts_with_rest(parsed: Parsed) -> bool:
    """Whether the first row is the rest pose put before the motion: no joint turned, and a leap to the next row."""
    if len(parsed.values) < 4:
        return False
    turns = [k for k, what in enumerate(w for b in parsed.bones for _, w in b.channels) if what == "rotation"]
    rows = parsed.values[:3, turns]
    if not turns or np.abs(rows[0]).max() > 0.0:
        return False
    leap, after = np.abs(rows[1] - rows[0]).max(), np.abs(rows[2] - rows[1]).max()
    return bool(leap > LEAP and leap > 3.0 * after)


def world_tethers(member: Member) -> tuple[tuple[Tether, ...], dict[str, Curve]]:
    """Tethers that keep the ends of all limbs with the world, as a hand or foot set down is."""
    tethers = []
    curves = {}
    controls = [c for part in member.parts for system in part.systems() for c in system.controls(part)]
    for control in controls:
        # What hangs from the body is to be told from what hangs from the world already.
        if control.touches and control.hangs_from:
            tether = Tether("world", member.id, control.name, WORLD, WORLD)
            tethers.append(tether)
            for what in ("position", "rotation"):
                curves[tether.weight_channel(what)] = curve([Key(0.0, 1.0, 1.0, kind=STEPPED, rule=FREE)])
    return tuple(tethers), curves


def guess_unit(bones: list[Bone]) -> str:
    """The unit in which the rest pose is nearest to a person's height."""
    pos = np.zeros((len(bones), 3))
    ends = []
    for j, b in enumerate(bones):
        if b.parent >= 0:
            pos[j] = pos[b.parent] + b.offset
        ends += [pos[j], *(pos[j] + np.array(t) for t in b.tips)]
    extent = float(np.ptp(np.array(ends), axis=0).max())
    if extent <= 0.0:
        raise FormatError("all joints lie in one point: every OFFSET is zero.", bones[0].line)
    return min(LIKELY, key=lambda u: abs(np.log(extent * UNITS[u] / BODY_HEIGHT)))


def _triple(v: Floats) -> tuple[float, float, float]:
    return (float(v[0]), float(v[1]), float(v[2]))


def _order(bone: Bone) -> str:
    letters = "".join("xyz"[axis] for axis, what in bone.channels if what == "rotation")
    return letters if len(letters) == 3 else "zxy"


def _rate(frame_time: float) -> Fraction:
    """Frames a second: the nearest usual rate within half a thousandth, else the nearest simple fraction."""
    exact = 1.0 / frame_time
    usual = [Fraction(n) for n in (12, 15, 24, 25, 30, 48, 50, 60, 72, 90, 100, 120, 144, 150, 200, 240)]
    usual += [Fraction(n * 1000, 1001) for n in (24, 30, 60, 120)]
    best = min(usual, key=lambda r: abs(float(r) - exact))
    if abs(float(best) - exact) <= 5e-4 * exact:
        return best
    return Fraction(exact).limit_denominator(1000)


def _local_motion(parsed: Parsed, raw: Floats, notes: list[str]) -> tuple[Floats, Floats]:
    """Local offsets (F, J, 3) in file units and rotations (F, J, 4), neighbours in one hemisphere."""
    count = len(parsed.values)
    offsets = np.repeat(raw[None], count, axis=0)
    rotations = np.zeros((count, len(parsed.bones), 4))
    rotations[..., 3] = 1.0
    column = 0
    for j, bone in enumerate(parsed.bones):
        advance(j / len(parsed.bones))
        moved = np.zeros((count, 3))
        moves = False
        turn = rotations[:, j]
        for axis, what in bone.channels:
            data = parsed.values[:, column]
            column += 1
            if what == "position":
                moved[:, axis] = data
                moves = True
            else:
                half = np.radians(data) / 2.0
                q = np.zeros((count, 4))
                q[:, axis], q[:, 3] = np.sin(half), np.cos(half)
                turn = multiply(turn, q)
        rotations[:, j] = turn / np.linalg.norm(turn, axis=-1, keepdims=True)
        if moves:
            added = raw[j] + moved
            # By the book the values add to the offset; many writers give the whole offset instead. On an inner
            # joint the bone's length tells which.
            length = np.linalg.norm(raw[j])
            if bone.parent < 0:
                whole = _whole_root(parsed.bones, raw, moved)
                if whole:
                    notes.append(
                        f"The places of {bone.name} stand near its OFFSET: they were read as whole, not added to it."
                    )
            else:
                whole = bool(
                    np.abs(np.linalg.norm(moved, axis=1) - length).mean()
                    < np.abs(np.linalg.norm(added, axis=1) - length).mean()
                )
            offsets[:, j] = moved if whole else added
    dots = np.sum(rotations[1:] * rotations[:-1], axis=-1)
    flips = np.cumprod(np.where(dots < 0.0, -1.0, 1.0), axis=0)
    rotations[1:] *= flips[..., None]
    return offsets, rotations


def _whole_root(bones: list[Bone], raw: Floats, moved: Floats) -> bool:
    """Whether a root's positions (F, 3) are where it is, rather than how far it is from its offset: along the longest
    part of the offset they stand near it, which by the book would lift the body to twice its height."""
    axis = int(np.argmax(np.abs(raw[0])))
    reach = max((float(np.linalg.norm(b.offset)) for b in bones[1:]), default=0.0)
    height, stands = float(raw[0, axis]), float(np.median(moved[:, axis]))
    return abs(height) > max(0.5 * reach, 1e-9) and abs(stands - height) < 0.35 * abs(height)


def fitting_member(member: Member, read: Imported) -> tuple[Take, tuple[str, ...]]:
    """The take of a file for a character that is there already, and notes. CoreError says which joints do not fit: names
    and what they hang from must be the same, and bones as long within a hundredth."""
    mine, theirs = member.skeleton, read.member.skeleton
    # What we wrote ourselves has our names as files have them.
    ours = {j.name: j.name if j.name in theirs.index else w for j, w in zip(mine.joints, _written(mine), strict=True)}
    missing = [j.name for j in theirs.joints if j.name not in ours.values()]
    extra = [j.name for j in mine.joints if ours[j.name] not in theirs.index]
    if missing or extra:
        told = [f"{member.name} has no {', '.join(missing[:5])}"] if missing else []
        told += [f"the file has no {', '.join(extra[:5])}"] if extra else []
        raise CoreError(f"This capture does not fit {member.name}: {'; '.join(told)}.")
    order = [theirs.index[ours[j.name]] for j in mine.joints]

    def above(skeleton: Skeleton, name: str) -> str:
        up = skeleton.parents[skeleton.index[name]]
        return skeleton.joints[up].name if up >= 0 else ""

    for joint in mine.joints:
        if ours.get(above(mine, joint.name), "") != above(theirs, ours[joint.name]):
            raise CoreError(f"This capture does not fit {member.name}: {joint.name} hangs from another joint there.")
    (cap,) = read.take.captures.values()
    for k, joint in enumerate(mine.joints[1:], 1):
        a, b = np.array(joint.offset), theirs.offsets[order[k]]
        if not b.any() and cap.offsets[:, order[k]].any():
            # Its place is told in every frame alone, as we write it.
            continue
        if np.linalg.norm(a - b) > 0.01 * max(float(np.linalg.norm(a)), 0.01):
            raise CoreError(
                f"This capture does not fit {member.name}: the bone to {joint.name} is another there "
                f"({np.linalg.norm(a):.3f} m and {np.linalg.norm(b):.3f} m)."
            )
    if np.abs(mine.rests[0] - theirs.rests[0]).max() > 1e-9:
        raise CoreError(f"This capture does not fit {member.name}: another axis points up in it. Choose the axis.")
    tethers, curves = world_tethers(member)
    moved = Capture(cap.offsets[:, order].copy(), cap.rotations[:, order].copy(), cap.first, cap.step)
    take = replace(read.take, curves=curves, tethers=tethers, captures={member.id: moved})
    return take, read.notes


def write(program: Program, member_id: str, first: float, last: float) -> bytes:
    """A BVH file of one member, in one piece; see `blocks`."""
    return b"".join(blocks(program, member_id, first, last))


def blocks(program: Program, member_id: str, first: float, last: float) -> Iterator[bytes]:
    """A BVH file of one member, at every whole frame first…last of the take, in centimetres, piece by piece.

    BVH knows no rest rotations, so joints are written turned to the world's axes at rest: same joint places,
    rotations relative to the rest pose. CoreError if the range is empty.
    """
    times = program.take.whole_frames(first, last)
    skeleton = program.scene.member(member_id).skeleton
    parts = [times[k : k + AT_A_TIME] for k in range(0, len(times), AT_A_TIME)]
    moves = np.zeros(len(skeleton), dtype=bool)
    moves[0] = True
    with stage("Looking at the motion", 0.0, 0.4):
        for k, at in enumerate(parts):
            advance(k / len(parts))
            offset, _ = _against_rest(program, member_id, at)
            moves |= np.abs(offset - _rest_offsets(skeleton)).max(axis=(0, 2)) > 1e-7
    yield _head(skeleton, moves, len(times), float(1 / program.take.rate)).encode()
    near: Floats = np.zeros((len(skeleton), 3))
    with stage("Writing frames", 0.4, 1.0):
        for k, at in enumerate(parts):
            advance(k / len(parts))
            offset, turned = _against_rest(program, member_id, at)
            angles = _zxy(turned, near)
            near = angles[-1]
            columns = [
                c for j in _in_order(skeleton)
                for c in ([100.0 * offset[:, j]] if moves[j] else []) + [np.degrees(angles[:, j][:, [2, 0, 1]])]
            ]  # fmt: skip
            rows = np.concatenate(columns, axis=1)
            yield "".join(" ".join(f"{v:.6f}" for v in row) + "\n" for row in rows).encode()


def _against_rest(program: Program, member_id: str, times: Floats) -> tuple[Floats, Floats]:
    """Places (F, J, 3) and rotations (F, J, 4) of joints in the joint above, of a body whose axes are the world's at rest."""
    skeleton = program.scene.member(member_id).skeleton
    nodes = program.joints([member_id])[1]
    poses = program.evaluate(times, only=nodes)
    pos, turned = poses.pos[:, nodes], multiply(poses.rot[:, nodes], inverse(skeleton.rest_pose[1]))
    local, offset = turned.copy(), pos.copy()
    for j, p in enumerate(skeleton.parents):
        if p >= 0:
            local[:, j] = multiply(inverse(turned[:, p]), turned[:, j])
            offset[:, j] = rotate(inverse(turned[:, p]), pos[:, j] - pos[:, p])
    return offset, local


def _rest_offsets(skeleton: Skeleton) -> Floats:
    """(J, 3) offsets at rest in the world's axes; the root's is zero."""
    offsets = skeleton.rest_pose[0].copy()
    offsets[1:] -= skeleton.rest_pose[0][list(skeleton.parents[1:])]
    offsets[0] = 0.0
    return offsets


def _in_order(skeleton: Skeleton) -> list[int]:
    """Joints as the hierarchy lists them, each before those that hang from it."""
    children = _children(skeleton)
    found, stack = [], [0]
    while stack:
        j = stack.pop()
        found.append(j)
        stack += reversed(children[j])
    return found


def _children(skeleton: Skeleton) -> list[list[int]]:
    children: list[list[int]] = [[] for _ in range(len(skeleton))]
    for j, p in enumerate(skeleton.parents):
        if p >= 0:
            children[p].append(j)
    return children


def _written(skeleton: Skeleton) -> list[str]:
    """Names of joints as a file has them: without gaps, at which other readers end a name, where that leaves all of them apart."""
    names = [j.name for j in skeleton.joints]
    plain = ["_".join(name.split()) for name in names]
    return plain if len(set(plain)) == len(plain) else names


def _head(skeleton: Skeleton, moves: np.ndarray, frames: int, frame_time: float) -> str:
    """All of the file before its rows of motion."""
    children, rest, rest_rot = _children(skeleton), _rest_offsets(skeleton), skeleton.rest_pose[1]
    if 2 * moves[1:].sum() < len(moves):
        # Some readers add the places of a joint to its OFFSET, others take them as they are: of nothing they make the same. But
        # where all bones grow, the OFFSETs alone tell how large the body is.
        rest[moves] = 0.0
    out, names = ["HIERARCHY"], _written(skeleton)
    turns = "Zrotation Xrotation Yrotation"

    def numbers(v: Floats) -> str:
        return " ".join(f"{100.0 * x:.6f}" for x in v)

    stack: list[tuple[int, int, bool]] = [(0, 0, False)]
    while stack:
        j, depth, done = stack.pop()
        pad = "  " * depth
        if done:
            out.append(f"{pad}}}")
            continue
        out += [
            f"{pad}{'JOINT' if j else 'ROOT'} {names[j]}",
            f"{pad}{{",
            f"{pad}  OFFSET {numbers(rest[j])}",
        ]
        out.append(f"{pad}  CHANNELS " + (f"6 Xposition Yposition Zposition {turns}" if moves[j] else f"3 {turns}"))
        if not children[j]:
            tip = skeleton.joints[j].tip
            end = rotate(rest_rot[j], np.array(tip)) if tip else np.zeros(3)
            out += [f"{pad}  End Site", f"{pad}  {{", f"{pad}    OFFSET {numbers(end)}", f"{pad}  }}"]
        stack.append((j, depth, True))
        stack += [(c, depth + 1, False) for c in reversed(children[j])]
    return "\n".join([*out, "MOTION", f"Frames: {frames}", f"Frame Time: {frame_time:.9f}", ""])


def _zxy(q: Floats, near: Floats) -> Floats:
    """(F, J, 3) radians about x, y, z of turns (F, J, 4) made about z, x, y in that order, continuous from frame to frame and
    from those (J, 3) before."""
    count = q.shape[1]
    out = np.empty((3 * count, len(q)))
    unit = np.tile([0.0, 0.0, 0.0, 1.0], (*q.shape[:2], 1))
    fit_turns(
        np.ascontiguousarray(q), unit, np.tile([0.0, 0.0, 0.0, 1.0], (count, 1)), np.full(count, 4),
        np.ascontiguousarray(near), out,
    )  # fmt: skip
    found: Floats = out.reshape(count, 3, len(q)).transpose(2, 0, 1)
    return found
