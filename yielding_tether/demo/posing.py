"""What the makers of demo takes share: keying by tables, reaching with a hand, standing with a foot."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from ..core.channels import ROTATION, TRANSLATION, channel_id
from ..core.curves import AUTOMATIC, FREE, SMOOTH, STEPPED, Curve, Key, automatic_slopes, curve, put
from ..core.fitting import fit_values
from ..core.kernels.scalars import frame_turn
from ..core.operations import Asked, run
from ..core.program import Program
from ..core.rig import Bound
from ..core.takes import Contact, Scene, Take, Tether
from ..core.transforms import Floats, inverse, multiply, rotate

Table = Mapping[str, Sequence[tuple[float, float]]]
#: Channels that tables give in degrees.
_DEGREES = {*ROTATION, "swivel", "carry", "twist", "roll", "bank", "heel", "ball", "tip", "lift"}


def keyed(member: str, table: Table) -> dict[str, Curve]:
    """Smooth curves from tables of (frame, value); angles in degrees, lengths in metres."""
    curves = {}
    for name, rows in table.items():
        control, _, channel = name.rpartition(".")
        size = np.pi / 180.0 if channel in _DEGREES else 1.0
        keys = [Key(float(t), v * size, v * size, kind=SMOOTH, rule=AUTOMATIC) for t, v in rows]
        made = curve(keys)
        curves[channel_id(member, control, channel)] = automatic_slopes(made, made.times.tolist())
    return curves


def collars(table: Table) -> Table:
    """Turns of collarbones by hand: as they are in FK, and in IK as they are in the end."""
    return {**table, **{f"arm.{name.split('.')[1]}.ik.{name}": rows[-1:] for name, rows in table.items()}}


def steps(*rows: tuple[float, float]) -> Curve:
    """A stepped curve of (frame, value from there on)."""
    before = rows[0][1]
    keys = []
    for t, v in rows:
        keys.append(Key(float(t), before, v, kind=STEPPED, rule=FREE))
        before = v
    return curve(keys)


def followed(tether: Tether, *rows: tuple[float, float]) -> dict[str, Curve]:
    """Stepped weights of a tether."""
    return {name: steps(*rows) for name in tether.weights}


def swing(period: float, size: float, shift: float, last: int) -> list[tuple[float, float]]:
    """Extremes and crossings of a rocking motion, for a smooth curve."""
    quarter = period / 4.0
    count = int(last / quarter) + 3
    return [(round((n - 1) * quarter + shift), size * (0.0, 1.0, 0.0, -1.0)[n % 4]) for n in range(count)]


def hand_turn(fingers: Sequence[float], palm: Sequence[float], rest_fingers: Floats, rest_palm: Floats) -> Floats:
    """World rotation (4,) of a hand that rests facing the world's axes, so that its fingers and its palm point
    these ways."""

    def frame(a: Floats, b: Floats) -> tuple[float, ...]:
        x = a / np.linalg.norm(a)
        y = b - (b @ x) * x
        y = y / np.linalg.norm(y)
        z = np.cross(x, y)
        return frame_turn(tuple(x.tolist()), tuple(y.tolist()), tuple(z.tolist()))  # type: ignore[no-any-return]

    wanted = np.array(frame(np.asarray(fingers, dtype=float), np.asarray(palm, dtype=float)))
    rest = np.array(frame(rest_fingers, rest_palm))
    return multiply(wanted, inverse(rest))


def grip_turn(fingers: Sequence[float], palm: Sequence[float]) -> tuple[float, float, float, float]:
    """Rotation of a grip along which the fingers and the palm of what holds there point so."""
    turn = hand_turn(fingers, palm, np.array([1.0, 0.0, 0.0]), np.array([0.0, 1.0, 0.0]))
    x, y, z, w = map(float, turn)
    return x, y, z, w


def along(joints: Sequence[str], channel: str, rows: Sequence[tuple[float, float]], later: float = 1.0) -> Table:
    """A turn shared evenly by joints one above the other, each `later` than the one below it by so many frames."""
    last = rows[-1][0]
    return {
        f"{joint}.{channel}": [(min(t + k * later, last) if t else t, v / len(joints)) for t, v in rows]
        for k, joint in enumerate(joints)
    }


def fingers(
    right: Sequence[tuple[float, float]], left: Sequence[tuple[float, float]], member: str = "marl"
) -> dict[str, Curve]:
    """Curl of both hands' fingers and thumbs from tables of (frame, degrees at each finger's first joint)."""
    table: dict[str, Sequence[tuple[float, float]]] = {}
    for letter, rows, sign in (("R", right, 1.0), ("L", left, -1.0)):
        for n in (1, 2, 3):
            for joint, share in (("", 0.85), (".mid", 0.65), (".tip", 0.4)):
                table[f"finger{n}{joint}.{letter}.rz"] = [(t, sign * share * v) for t, v in rows]
        for joint, share in (("", 0.3), (".mid", 0.3), (".tip", 0.2)):
            table[f"thumb{joint}.{letter}.rx"] = [(t, share * abs(v)) for t, v in rows]
    return keyed(member, table)


Row = tuple[float, Floats, Floats, float]


def in_chest(
    program: Program, table: Sequence[tuple[float, tuple[float, float, float], Floats, float]], member: str = "marl"
) -> list[Row]:
    """Rows for `reach` from places and rotations in the space of the chest as it stands at each frame."""
    chest = program.nodes[member, "chest"]
    bones = program.scene.member(member).skeleton
    rest = bones.rest_pose[0][bones.index["chest"]]
    found = []
    for frame, place, turn, swivel in table:
        poses = program.evaluate([frame])
        c, r = poses.pos[0, chest], poses.rot[0, chest]
        found.append((float(frame), c + rotate(r, np.array(place) - rest), multiply(r, turn), swivel))
    return found


def reach(scene: Scene, take: Take, member: str, part: str, rows: Sequence[Row]) -> Take:
    """FK keys of a limb whose end is at a place in the world at given frames.

    rows: (frame, place (3,), rotation (4,), swivel in degrees). The limb is posed in IK and fitted in FK, so
    the arcs between are those of FK.
    """
    program = Program(scene, take)
    limb = program.bound(member, part)
    names = program.channel_names()
    channels = limb.systems["fk"].channels
    near = np.zeros(len(channels))
    keys: list[list[Key]] = [[] for _ in channels]
    for frame, place, turn, swivel in rows:
        near = _reached(program, limb, (frame, place, turn, swivel), near)
        for k, value in enumerate(near):
            keys[k].append(Key(float(frame), float(value), float(value), kind=SMOOTH, rule=AUTOMATIC))
    curves = {}
    for c, mine in zip(channels, keys, strict=True):
        made = curve(mine)
        curves[names[c]] = automatic_slopes(made, made.times.tolist())
    return take.with_curves(curves)


def _reached(program: Program, limb: Bound, row: Row, near: Floats) -> Floats:
    """FK values of a limb whose end is where the row says."""
    frame, place, turn, swivel = row
    (end,) = limb.controls
    ik = limb.systems["ik"]
    now = {limb.own[end, c]: 0.0 for c in (*TRANSLATION, *ROTATION)}
    posed = program.posed(limb, program.evaluate([frame]))
    overrides: dict[int, float | Floats] = {**ik.system.drag(limb, posed, end, place, turn, now)}
    overrides[limb.own[end, "swivel"]] = float(np.radians(swivel))
    overrides |= limb.drive_to("ik")
    return fit_values(program, limb, "fk", program.evaluate([frame], overrides=overrides), near)[:, 0]


def through(scene: Scene, take: Take, member: str, part: str, row: Row, speed: Floats) -> Take:
    """The take with the FK keys of a limb at the row's frame leading its end through at `speed` (3,), metres a frame,
    without turning."""
    program = Program(scene, take)
    limb = program.bound(member, part)
    frame, place, turn, swivel = row
    h = 1.0 / 64.0
    channels = limb.systems["fk"].channels
    near = program.now(frame, channels)
    before, after = (_reached(program, limb, (frame + s, place + s * speed, turn, swivel), near) for s in (-h, h))
    curves = {}
    for c, slope in zip(channels, (after - before) / (2.0 * h), strict=True):
        name = program.channel_names()[c]
        kept = take.curves[name]
        key = kept.key(kept.find(frame) or 0)._replace(slope_in=float(slope), slope_out=float(slope), rule=FREE)
        curves[name] = put(kept, [key])
    return take.with_curves(curves)


def touching(take: Take, rows: Sequence[tuple[str, str, int, int]], member: str = "marl") -> Take:
    """The take with these contacts of somebody's joints with set pieces alone: (joint, set piece, first, last)."""
    contacts = [Contact(member, joint, piece, piece, float(a), float(b)) for joint, piece, a, b in rows]
    ends = {c.joint for c in contacts}
    rest = (c for c in take.contacts if c.member != member or c.joint not in ends)
    return replace(take, contacts=(*rest, *contacts))


def closed(
    scene: Scene, take: Take, letter: str, on: str, first: float, last: float | None, over: int, member: str = "marl"
) -> Take:  # fmt: skip
    """The take with a hand closed on something from one frame to another, or to the end; `over` frames before and after."""
    asked = Asked(((member, f"fingers.{letter}"),), first, last, {"on": on, "over": over})
    return run(Program(scene, take), "grip", asked).take


def nudge(take: Take, name: str, frame: float, by: float) -> Take:
    """A planted fault: the value that leaves one key is off by this much."""
    c = take.curves[name]
    key = c.key(c.find(frame) or 0)
    return replace(take, curves={**take.curves, name: put(c, [key._replace(leaving=key.leaving + by)])})
