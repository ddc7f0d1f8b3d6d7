"""*Rough crossing*: Marl crosses the rocking deck as a capture has it, dense and noisy: brief stances, a stumble, a stop with the
right hand on the rail, and on to where he stands. When his heels, balls, tips and the hand touch is kept beside it.

The motion is made with rolling feet, sampled joint by joint, and noise is laid on hips, knees, ankles and wrists: white and slow.
`crossing` makes others of other pace, rate, noise and floor.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from functools import cache
from typing import NamedTuple

import numpy as np
from numpy.random import Generator
from scipy.ndimage import gaussian_filter1d
from scipy.spatial.transform import Rotation

from ..core.cast import Member
from ..core.curves import LEAVING, Curve
from ..core.kernels.foot import SOFT
from ..core.operations import Asked, run
from ..core.parts.leg import Sole
from ..core.program import Program
from ..core.takes import Capture, Scene, Take, Tether
from ..core.transforms import Floats, inverse, multiply, rotate
from .ferry import RAIL_HEIGHT, deck, lookout, on_deck, rail
from .marl import marl
from .people import NECK, SPINE, palm_turn
from .posing import Table, along, followed, keyed, steps

#: Seconds of standing before the first step, at the rail, and after the last.
STILL, STOP, END = 0.9, 1.5, 1.0
#: Where he begins and which way along the deck he goes, metres.
START, ACROSS = -1.02, 0.3
#: Feet aside of the middle, metres.
ASIDE = 0.095
#: Roll (degrees) of a foot as its heel comes down, as it leaves from its ball or from its tip, and in its swing.
STRIKE, LEAVES, TIPTOE, SWUNG = -16.0, 38.0, 62.0, 52.0
#: Roll (degrees) up to which his ball stays where it is.
STAYS = float(np.degrees(Sole.tip_from - SOFT))
#: Shares of a stance: flat from here, the heel up from here; or on tiptoe that, and on its tip from here.
FLAT, HEEL_UP, TIPTOE_UP, ON_TIP = 0.14, 0.62, 0.5, 0.72
#: Joints with noise, and how much of it each has beside the others.
NOISY = {"thigh": 0.35, "shin": 0.5, "foot": 1.0, "forearm": 0.4, "hand": 1.2}


class Touch(NamedTuple):
    """A point of the body on something, first and last second: heel or ball of a foot, its tip while that stands alone, or a palm."""

    joint: str
    point: str
    anchor: str
    first: float
    last: float


@dataclass(frozen=True)
class Crossing:
    """A made capture: its scene and take, when what touched, and how far its heels, balls and tips are from where they would be
    without noise, metres RMS."""

    scene: Scene
    take: Take
    truth: tuple[Touch, ...]
    noise: float


class Step(NamedTuple):
    """A stance of a foot: first and last second, and where on the deck along the way."""

    side: str
    first: float
    last: float
    at: float


@dataclass(frozen=True)
class Kind:
    """How somebody crosses: steps a second, length of a step (metres), frames a second, noise at heels and tips (metres RMS), how far
    the deck rocks (1: as in the other takes), the seed of the noise, and whether he goes on tiptoe at the end of a stance."""

    pace: float = 1.75
    stride: float = 0.32
    rate: int = 60
    noise: float = 0.003
    rocks: float = 1.0
    seed: int = 7
    tiptoe: bool = False


def rough_crossing() -> tuple[Scene, Take]:
    """The scene and its take, a capture."""
    made = crossing(Kind())
    return made.scene, made.take


@cache
def crossing(kind: Kind) -> Crossing:
    """A capture of a walk across the deck."""
    stances, end = _stances(kind)
    rate = float(kind.rate)
    last = int(np.ceil(end * rate))
    scene = Scene("Ferry in rough water", (deck(), rail(), marl(), lookout()))
    tethers = (*on_deck(), *(Tether("deck", "marl", f"arm.{side}.ik", "deck", "deck") for side in "LR"))
    take = Take("Rough crossing", Fraction(kind.rate), 0, last, tethers=tethers)
    for tether in tethers:
        take = take.with_curves(followed(tether, (0, 1.0)))
    take = take.with_curves({f"marl/{limb}.{side}.drive": steps((0, 1.0)) for limb in ("arm", "leg") for side in "LR"})
    rests = [s for s in stances if s.last - s.first > 0.9 * STOP]
    stop = (max(s.first for s in rests if s.first > 0.0 and s.last < end), min(s.last for s in rests if s.first > 0.0))
    tables: Table = {
        **_feet(stances, rate, kind.tiptoe),
        **_body(stances, end, rate),
        **_arms(stances, stop, end, rate),
    }
    take = take.with_curves({**_deck(kind, last), **keyed("marl", tables)})
    hold = (stop[0] + 0.25, stop[1] - 0.1)
    asked = Asked(
        (("marl", "arm.R"),), round(hold[0] * rate), round(hold[1] * rate), {"on": "rail/rail", "ease": 6, "before": 4}
    )
    take = run(Program(scene, take), "plant", asked).take
    truth = (*_truth(stances, kind.tiptoe), Touch("hand.R", "palm", "rail", *(round(t * rate) / rate for t in hold)))
    return _captured(scene, take, truth, kind)


# --- the way


def _stances(kind: Kind) -> tuple[list[Step], float]:
    """Stances of both feet in order of time, and the last second: there are two walks with a stop between, the second with a
    stumble: one step far too short, and the next one quick."""
    step = 1.0 / kind.pace
    double = 0.24 * step
    found: list[Step] = []
    at = {"L": START, "R": START}
    began = {"L": 0.0, "R": 0.0}
    now = STILL
    for walk, plan in enumerate(((1.0, 1.0, 1.0, 0.0), (1.0, 0.35, 1.15, 1.0, 0.0))):
        for n, length in enumerate(plan):
            side = "RL"[(n + walk) % 2]
            quick = 0.72 if walk == 1 and n in (1, 2) else 1.0
            other = at["L" if side == "R" else "R"]
            to = other + (length * kind.stride if length else 0.0)
            lifts = now
            down = now + quick * (step - double) + (0.1 if n == 0 else 0.0)
            found.append(Step(side, began[side], lifts, at[side]))
            began[side], at[side] = down, to
            now = down + quick * double
        now += STOP if walk == 0 else 0.0
    end = now + END
    found += [Step(side, began[side], end, at[side]) for side in "LR"]
    return sorted(found, key=lambda s: (s.first, s.side)), end


def _next(stances: list[Step], one: Step) -> Step | None:
    return next((s for s in stances if s.side == one.side and s.first > one.first), None)


def _roll(one: Step, stands: bool, leaves: bool, tiptoe: bool) -> tuple[float, float]:
    """Seconds from which a foot is flat in a stance, and from which its heel is up."""
    long, up = min(one.last - one.first, 0.75), TIPTOE_UP if tiptoe else HEEL_UP
    return (
        one.first if stands else one.first + FLAT * long, one.last if not leaves else one.last - (1.0 - up) * long
    )  # fmt: skip


def _ball_up(one: Step) -> float:
    """Second from which a foot is on its tip, where it goes on tiptoe."""
    return one.last - (1.0 - ON_TIP) * min(one.last - one.first, 0.75)


def _feet(stances: list[Step], rate: float, tiptoe: bool) -> Table:
    table: dict[str, list[tuple[float, float]]] = {}
    for side, sign in (("L", -1.0), ("R", 1.0)):
        rows: dict[str, list[tuple[float, float]]] = {c: [] for c in ("tx", "ty", "tz", "ry", "roll")}
        rest = np.array([0.108 if side == "L" else -0.108, 0.0, -0.02])
        for one in (s for s in stances if s.side == side):
            after = _next(stances, one)
            flat, up = _roll(one, one.first == 0.0, after is not None, tiptoe)
            for t in (one.first, one.last):
                rows["tx"].append((t, one.at - rest[0]))
                rows["ty"].append((t, 0.0))
                rows["tz"].append((t, ACROSS + ASIDE * sign - rest[2]))
                rows["ry"].append((t, 90.0 - 7.0 * sign))
            if one.first > 0.0:
                rows["roll"].append((one.first, STRIKE))
            rows["roll"] += [(flat, 0.0), (up, 0.0)]
            if after is not None:
                swing = after.first - one.last
                # Where ball and tip take turns it goes on evenly.
                on_tip = [(_ball_up(one), STAYS), (one.last, TIPTOE)] if tiptoe else [(one.last, LEAVES)]
                rows["roll"] += [
                    *on_tip, (one.last + 0.22 * swing, SWUNG), (one.last + 0.6 * swing, 4.0), (one.last + 0.85 * swing, STRIKE)
                ]  # fmt: skip
                rows["ty"].append((one.last + 0.45 * swing, 0.055))
        table |= {f"leg.{side}.ik.{c}": _at(r, rate) for c, r in rows.items()}
    return table


def _at(rows: list[tuple[float, float]], rate: float) -> list[tuple[float, float]]:
    """Rows of seconds as rows of frames."""
    return sorted((round(t * rate, 3), v) for t, v in dict(rows).items())


def _body(stances: list[Step], end: float, rate: float) -> Table:
    """Over both feet while both stand, ahead onto the one that has come down; down in between, up over the one that stands."""
    times = sorted({0.0, end, *(s.first for s in stances), *(s.last for s in stances)})
    rows: dict[str, list[tuple[float, float]]] = {c: [] for c in ("tx", "ty", "tz", "rx", "ry", "rz")}
    spine: dict[str, list[tuple[float, float]]] = {c: [] for c in ("rx", "ry")}
    for t in times:
        down = [s for s in stances if s.first <= t <= s.last]
        feet = [s.at for s in down] or [stances[0].at]
        ahead = max(feet) if len(down) > 1 else feet[0]
        lean = sum((1.0 if s.side == "R" else -1.0) for s in down) / max(len(down), 1)
        turn = 5.0 * np.sign(sum((1.0 if s.side == "R" else -1.0) * s.at for s in down)) if len(set(feet)) > 1 else 0.0
        rows["tx"].append((t, 0.45 * min(feet) + 0.55 * ahead))
        rows["ty"].append((t, -0.065 if len(down) > 1 and len(set(feet)) > 1 else -0.045))
        rows["tz"].append((t, ACROSS + 0.035 * lean))
        rows["ry"].append((t, 90.0 + turn))
        rows["rx"].append((t, 3.0))
        rows["rz"].append((t, 2.5 * lean))
        spine["rx"].append((t, 7.0 if len(set(feet)) > 1 else 4.0))
        spine["ry"].append((t, -1.6 * turn))
    table = {f"hips.{c}": _at(r, rate) for c, r in rows.items()}
    table |= along(SPINE, "rx", _at(spine["rx"], rate)) | along(SPINE, "ry", _at(spine["ry"], rate))
    return table | along(NECK[:2], "rx", [(t, 4.0) for t, _ in _at(spine["rx"], rate)])


def _arms(stances: list[Step], stop: tuple[float, float], end: float, rate: float) -> Table:
    """Each arm swings against its leg; while he stops the right hand is on the rail."""
    member = marl()
    bones = member.skeleton
    table: dict[str, list[tuple[float, float]]] = {}
    times = sorted({0.0, end, *(s.first for s in stances)})
    for side, sign in (("L", -1.0), ("R", 1.0)):
        rest = bones.rest_pose[0][bones.index[f"hand.{side}"]]
        hangs = palm_turn(side, (0.25, -0.95, 0.1 * sign), (0.0, -0.1, -1.0 * sign))
        on_it = palm_turn(side, (0.8, -0.2, 0.55 * sign), (0.1, -0.95, 0.1))
        rows: dict[str, list[tuple[float, float]]] = {c: [] for c in ("tx", "ty", "tz", "rx", "ry", "rz")}
        for t in times:
            holds = side == "R" and stop[0] + 0.05 < t < stop[1]
            if holds:
                continue
            down = [s.at for s in stances if s.first <= t <= s.last]
            mine = [s.at for s in stances if s.first <= t <= s.last and s.side == side]
            middle = float(np.mean(down))
            against = -0.7 * (mine[0] - middle) if mine else 0.12
            place = np.array([middle + 0.02 + against, 0.80 + 0.25 * abs(against), ACROSS + 0.27 * sign])
            _put(rows, t, place - rest, hangs)
        if side == "R":
            at = float(np.mean([s.at for s in stances if s.first <= stop[0] + 0.3 <= s.last]))
            for t in (stop[0] + 0.25, stop[1] - 0.1):
                _put(rows, t, np.array([at + 0.2, RAIL_HEIGHT + 0.06, 0.70]) - rest, on_it)
        table |= {f"arm.{side}.ik.{c}": _at(r, rate) for c, r in rows.items()}
    return table


def _put(rows: dict[str, list[tuple[float, float]]], t: float, place: Floats, turn: Floats) -> None:
    y, x, z = Rotation.from_quat(turn).as_euler("YXZ", degrees=True)
    for c, v in zip(("tx", "ty", "tz", "rx", "ry", "rz"), (*place.tolist(), x, y, z), strict=True):
        rows[c].append((t, float(v)))


def _deck(kind: Kind, last: int) -> dict[str, Curve]:
    """The deck in rougher water than in the other takes, in seconds whatever the rate."""
    rate = kind.rate
    times = np.arange(0.0, last / rate + 0.2, 0.2)
    waves = (("rz", 2.9, 3.1, 0.4), ("rx", 3.7, 1.7, 1.1), ("ty", 3.3, 0.03, 0.8))
    return keyed(
        "deck",
        {f"deck.{c}": [(round(t * rate, 3), kind.rocks * size * np.sin(2.0 * np.pi * t / period + shift)) for t in times] for c, period, size, shift in waves},
    )  # fmt: skip


def _truth(stances: list[Step], tiptoe: bool) -> list[Touch]:
    found = []
    for one in stances:
        leaves = _next(stances, one) is not None
        flat, up = _roll(one, one.first == 0.0, leaves, tiptoe)
        ball = _ball_up(one) if tiptoe and leaves else one.last
        for point, a, b in (("heel", one.first, up), ("ball", flat, ball), ("tip", ball, one.last)):
            if a == b:
                continue
            found.append(Touch(f"foot.{one.side}", point, "deck", a, b))
    return found


# --- the capture


def _captured(scene: Scene, take: Take, truth: tuple[Touch, ...], kind: Kind) -> Crossing:
    """The motion as samples of joints with noise, of which heels and tips have so much (metres RMS)."""
    program = Program(scene, take)
    member = scene.member("marl")
    frames = take.frames
    nodes = [program.nodes["marl", j.name] for j in member.skeleton.joints]
    poses = program.evaluate(frames, LEAVING, only=nodes)
    pos, rot = poses.pos[:, nodes], poses.rot[:, nodes]
    offsets, turns = _local(member, pos, rot)
    rng = np.random.default_rng(kind.seed)
    noise = {
        j.name: _noise(rng, len(frames), kind.rate) for j in member.skeleton.joints if j.name.split(".")[0] in NOISY
    }
    clean, size = _soles(member, offsets, turns), 0.01
    for _ in range(3):
        shaken = _shaken(member, turns, noise, size)
        off = _soles(member, offsets, shaken) - clean
        rms = float(np.sqrt((off**2).sum(axis=-1).mean() / 3.0))
        size *= kind.noise / max(rms, 1e-12) if kind.noise else 0.0
    shaken = _shaken(member, turns, noise, size)
    off = _soles(member, offsets, shaken) - clean
    for j in range(shaken.shape[1]):
        flips = np.cumsum(np.concatenate([[0], (np.sum(shaken[1:, j] * shaken[:-1, j], axis=1) < 0.0).astype(int)])) % 2
        shaken[flips == 1, j] *= -1.0
    kept = {n: c for n, c in take.curves.items() if n.startswith(("deck/", "rail/"))}
    tethers = tuple(t for t in take.tethers if t.member == "rail")
    made = Take(take.name, take.rate, take.first, take.last, kept, tethers, {"marl": Capture(offsets, shaken)})
    return Crossing(scene, made, truth, float(np.sqrt((off**2).sum(axis=-1).mean() / 3.0)))


def _local(member: Member, pos: Floats, rot: Floats) -> tuple[Floats, Floats]:
    """(F, J, 3) and (F, J, 4) of joints in what each hangs from."""
    offsets, turns = np.empty_like(pos), np.empty_like(rot)
    for k, up in enumerate(member.skeleton.parents):
        if up < 0:
            offsets[:, k], turns[:, k] = pos[:, k], rot[:, k]
            continue
        back = inverse(rot[:, up])
        offsets[:, k], turns[:, k] = rotate(back, pos[:, k] - pos[:, up]), multiply(back, rot[:, k])
    return offsets, turns


def _noise(rng: Generator, count: int, rate: int) -> Floats:
    """(F, 3) small turns, one in size: half of them white, half slow."""
    white = rng.normal(0.0, 1.0, (count, 3))
    slow = gaussian_filter1d(rng.normal(0.0, 1.0, (count, 3)), 0.35 * rate, axis=0, mode="reflect")
    slow /= np.sqrt((slow**2).mean()) + 1e-12
    found: Floats = np.sqrt(0.5) * (white + slow)
    return found


def _shaken(member: Member, turns: Floats, noise: dict[str, Floats], size: float) -> Floats:
    found = turns.copy()
    for k, joint in enumerate(member.skeleton.joints):
        if joint.name in noise:
            half = 0.5 * size * NOISY[joint.name.split(".")[0]] * noise[joint.name]
            small = np.concatenate([half, np.ones((len(half), 1))], axis=1)
            found[:, k] = multiply(found[:, k], small / np.linalg.norm(small, axis=1, keepdims=True))
    return found


def _soles(member: Member, offsets: Floats, turns: Floats) -> Floats:
    """(F, 6, 3) heels, balls and tips in the world."""
    pos, rot = member.skeleton.pose(offsets, turns)
    points = [x for part in member.parts for x in part.stands_on(member.skeleton)]
    at = [member.skeleton.index[joint] for _, joint, _ in points]
    found: Floats = pos[:, at] + rotate(rot[:, at], np.array([p for _, _, p in points]))
    return found
