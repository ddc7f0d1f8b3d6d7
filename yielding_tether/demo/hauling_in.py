"""*Hauling in*: Marl backs along the rocking deck and hauls a line in hand over hand, the right one leading with long pulls and the
left one holding between them; what is in falls before his feet. One fault is planted: the left hand pops as it takes hold.

Its scene has a second take: the same, without the fault, mirrored and placed on the quay, where the left hand leads."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from functools import cache
from itertools import pairwise

import numpy as np

from ..core.cast import Member, Shape
from ..core.channels import channel_id
from ..core.curves import AUTOMATIC, SMOOTH, Curve, Key, automatic_slopes, curve, sample
from ..core.operations import Asked, run
from ..core.parts import ChainPart, FreePart
from ..core.program import Program
from ..core.skeleton import Joint, Skeleton
from ..core.systems.fk import turn_in
from ..core.takes import Scene, Take, Tether
from ..core.transforms import ORDERS, Floats, multiply, quat_to_euler, rotate
from .cast_off import rocking
from .ferry import BOLLARD, deck, lookout, on_deck, quay, rail
from .marl import marl
from .people import NECK, SPINE, palm_turn
from .posing import along, closed, followed, keyed, nudge, steps, touching

#: Frames of a pull with either hand, how many, and the take.
CYCLE, CYCLES = 36, 3
LAST = CYCLE * CYCLES + 18
#: How far the line comes in and he goes back with each, metres.
IN, BACK = 0.55, 0.24
#: Links of the line, their length and thickness, metres.
LINKS, LINK, THICK = 24, 0.12, 0.017
#: The far end of its links, and the way along it towards him.
FAR = np.array([2.4, 0.79, 0.0])
WAY = np.array([-1.0, 0.08, 0.0]) / np.hypot(1.0, 0.08)
#: Where he stands at first.
AT = 0.55
#: How the line lies on the deck: in waves of this length that swing so far to either side (radians).
WAVE, WAVES = 0.8, 1.15
#: Where the tail of the line lies.
TAIL = np.array([1.04, THICK, 0.02])
#: How far before his hips a hand takes hold.
AHEAD = {"R": 0.4, "L": 0.3}
#: Where he begins on the quay, metres: as far from its edge as leaves him room.
PLACE = f"0.2 0 {BOLLARD[2] + 1.0:g}"
#: When the left hand pops: as it takes hold.
POP = CYCLE + 14
#: Holds: first and last frame.
HOLDS = {
    "R": [(0, 18), (30, 54), (66, 90), (102, LAST)],
    "L": [(0, 4), (14, 34), (50, 70), (86, LAST)],
}


def line() -> Member:
    """The line: taut from overboard to its far end, and links from there on."""
    step = (LINK * WAY).tolist()
    names = [f"link{k}" for k in range(LINKS + 1)]
    joints = [Joint("line", -1, tuple(FAR.tolist())), Joint(names[0], 0, (0.0, 0.0, 0.0))]
    joints += [Joint(n, k + 1, tuple(step)) for k, n in enumerate(names[1:])]
    out = tuple((-2.2 * WAY).tolist())
    shapes = [Shape("line", "capsule", "rope", (0.0, 0.0, 0.0), out, (THICK, THICK))]
    shapes += [Shape(n, "capsule", "rope", (0.0, 0.0, 0.0), tuple(step), (THICK, THICK)) for n in names[:-1]]
    many, across = len(names), (0.0, 0.0, 1.0)
    chain = ChainPart(
        "line", "line", tuple(names), ("yxz",) * many, many // 2, across, (across,) * many, (0.0,) * many, "yxz"
    )
    parts = (FreePart("far", "far end", "line", "yxz"), chain)
    return Member("line", "Line", "prop", Skeleton(tuple(joints)), parts, tuple(shapes))


def hauling_scene() -> Scene:
    """The cast of *Hauling in*."""
    return Scene("Ferry at the landing", (deck(), rail(), quay(), marl(), line(), lookout()))


def tethers(stage: str) -> tuple[Tether, ...]:
    """Body, hands and line go with what he stands on, the rail with the deck."""
    controls = [("marl", c) for c in ("hips", "leg.L.ik", "leg.R.ik", "arm.L.ik", "arm.R.ik")]
    mine = (Tether(stage, member, control, stage, stage) for member, control in (*controls, ("line", "line")))
    return (*(t for t in on_deck() if t.member == "rail"), *mine)


@cache
def hauling_in() -> tuple[Scene, list[Take]]:
    """The scene and its takes."""
    scene = hauling_scene()
    take = _hauled(scene, "deck", "Hauling in")
    for axis, by in (("tz", 0.03), ("ry", 0.2)):
        take = nudge(take, f"marl/arm.L.ik.{axis}", float(POP), by)
    where: dict[str, str | float] = {"what": "all", "plane": "own", "to": "spot", "at": PLACE, "heading": 90.0}
    landed = Program(scene, _hauled(scene, "quay", "Hauling in, on the quay"))
    return scene, [take, run(landed, "mirror", Asked((("marl", "hips"),), 0.0, None, where)).take]


def _hauled(scene: Scene, stage: str, name: str) -> Take:
    """The take without its fault, on the deck or on the quay."""
    take = Take(name, Fraction(24), 0, LAST, tethers=tethers(stage))
    for tether in tethers(stage):
        take = take.with_curves(followed(tether, (0, 1.0)))
    take = take.with_curves({f"marl/{limb}.{side}.drive": steps((0, 1.0)) for limb in ("arm", "leg") for side in "LR"})
    take = take.with_curves({**rocking(LAST), **_body(), **_feet(), **_line()})
    take = take.with_curves(_hands(scene))
    take = _held(scene, take)
    return touching(take, [(f"foot.{side}", stage, a, b) for side in "LR" for a, b in _stands(side)])


# --- the body


def _repeated(rows: Sequence[tuple[float, float]], by: float = 0.0) -> list[tuple[float, float]]:
    """What each cycle does, as (frame within it, value), on top of what those before it have gone on by."""
    found = {n * CYCLE + t: n * by + v for n in range(CYCLES + 1) for t, v in rows}
    return sorted((t, v) for t, v in found.items() if t <= LAST)


@cache
def _body() -> dict[str, Curve]:
    """The weight falls back into each pull of the right hand and sinks; the left holds while the feet follow."""
    forward = [(t, AT - v) for t, v in _repeated([(0, 0.0), (8, 0.07), (16, 0.15), (26, 0.14)], BACK)]
    lean = _repeated([(0, 3.0), (7, -7.0), (16, -13.0), (24, -4.0), (31, -8.0)])
    turn = _repeated([(0, 8.0), (8, -2.0), (17, -10.0), (25, -2.0), (32, 8.0)])
    return keyed("marl", {
        "hips.tx": forward,
        "hips.ty": _repeated([(0, -0.09), (7, -0.15), (16, -0.13), (26, -0.10), (31, -0.12)]),
        "hips.tz": _repeated([(0, 0.0), (9, 0.03), (17, 0.04), (27, -0.02)]),
        "hips.rx": lean, "hips.ry": [(t, 90.0 + v) for t, v in turn], "hips.rz": _repeated([(0, 0.0), (10, 3.0), (24, -2.0)]),
        **along(SPINE, "rx", _repeated([(0, 22.0), (8, 16.0), (17, 8.0), (26, 16.0), (32, 14.0)])),
        **along(SPINE, "ry", _repeated([(0, 16.0), (8, 4.0), (17, -14.0), (26, -2.0), (32, 12.0)])),
        **along(NECK[:2], "ry", _repeated([(1, -14.0), (9, 0.0), (18, 12.0), (27, 2.0), (33, -12.0)])),
        **along(NECK[:2], "rx", _repeated([(1, -8.0), (9, 0.0), (18, 10.0), (27, 0.0)])),
        "head.ry": _repeated([(2, -8.0), (10, 0.0), (19, 9.0), (28, 0.0)]), "head.rx": _repeated([(2, 2.0), (19, 8.0)]),
    })  # fmt: skip


def _steps(side: str) -> list[tuple[int, int]]:
    """First and last frames of a foot's steps: the left one, before, is drawn back as the left hand pulls, the right one falls back
    into the next pull."""
    begin, last = (19, CYCLES) if side == "L" else (28, CYCLES)
    return [(CYCLE * n + begin, CYCLE * n + begin + 10) for n in range(last)]


def _stands(side: str) -> list[tuple[int, int]]:
    """First and last frames of a foot's stances."""
    steps = _steps(side)
    starts, ends = [0, *(b for _, b in steps)], [*(a for a, _ in steps), LAST]
    return list(zip(starts, ends, strict=True))


def _feet() -> dict[str, Curve]:
    """The left foot ahead, the right one behind and turned out; each step rolls off its tip and comes down on the toes."""
    table: dict[str, list[tuple[float, float]]] = {}
    for side, ahead, aside, turn in (("L", 0.26, -0.14, 82.0), ("R", -0.24, 0.13, 62.0)):
        rest = np.array([0.108 if side == "L" else -0.108, 0.0, -0.02])
        rows: dict[str, list[tuple[float, float]]] = {c: [] for c in ("tx", "ty", "tz", "ry", "roll")}
        for n, (a, b) in enumerate(_stands(side)):
            at = np.array([AT + ahead - BACK * n, 0.0, aside]) - rest
            for c, v in (("tx", at[0]), ("ty", 0.0), ("tz", at[2]), ("ry", turn), ("roll", 0.0)):
                rows[c] += [(a, float(v)), (b, float(v))]
            if n < len(_steps(side)):
                middle = 0.5 * (b + _stands(side)[n + 1][0])
                rows["ty"].append((middle, 0.06))
                rows["roll"] += [(b + 3, -12.0), (middle + 2, 20.0)]
        table |= {f"leg.{side}.ik.{c}": sorted(dict(r).items()) for c, r in rows.items()}
    return keyed("marl", table)


# --- the line


def _come_in(frame: float) -> float:
    """How far the line has come in at a frame, metres: by the very keys it is keyed with."""
    return float(sample(_coming(), [frame])[0])


@cache
def _coming() -> Curve:
    rows = _repeated([(0, 0.0), (7, 0.15), (16, 0.36), (20, 0.355), (27, 0.47), (33, 0.55)], IN)
    made = curve([Key(float(t), v, v, kind=SMOOTH, rule=AUTOMATIC) for t, v in rows])
    return automatic_slopes(made, made.times.tolist())


def _link(k: float, frame: float) -> Floats:
    """Where a link of the taut line is in the deck's space."""
    found: Floats = FAR + (_come_in(frame) + k * LINK) * WAY
    return found


def _link_ahead(side: str, n: int) -> int:
    """Which link a hand takes at a hold: the one nearest to where it can reach."""
    a = HOLDS[side][n][0]
    wanted = float(sample(_body()["marl/hips.tx"], [a])[0]) + AHEAD[side]
    along_it = (FAR[0] - wanted) / -WAY[0] - _come_in(a)
    return round(along_it / LINK)


def _slack_from(frame: float) -> float:
    """How far along the line (from its far end) it is no longer taut: at the hand that holds nearest to him."""
    found = []
    for t in np.clip(np.arange(frame - 10, frame + 11), 0, LAST):
        held = [
            _link_ahead(side, n) * LINK + _come_in(t)
            for side in "LR" for n, (a, b) in enumerate(HOLDS[side]) if a - 3 <= t <= b + 3
        ]  # fmt: skip
        found.append(max(held) + 0.06)
    # Never before a hand that holds, and without a leap as one lets go.
    lasting = [max(found[max(0, k - 5) : k + 6]) for k in range(5, 16)]
    return float(np.mean(lasting))


@cache
def _laid(length: float) -> Floats:
    """(n, 3) places of the line as it lies on the deck, from its tail on, every two centimetres."""
    arc = np.arange(0.0, length, 0.02)
    turn = WAVES * np.sin(2.0 * np.pi * arc / WAVE)
    way = np.stack([-np.cos(turn), np.zeros(len(arc)), np.sin(turn)], axis=1)
    found: Floats = TAIL + np.concatenate([np.zeros((1, 3)), np.cumsum(0.02 * way, axis=0)])
    return found


def _places(frame: float) -> Floats:
    """(LINKS + 1, 3) places of the links in the deck's space: taut, down from the hand, and on the deck."""
    slack = _slack_from(frame) - _come_in(frame)
    hand = FAR + _slack_from(frame) * WAY
    laid = _laid(LINKS * LINK)
    # As much lies on the deck as neither is taut nor hangs.
    rest = [k * 0.02 + float(np.linalg.norm(hand - p)) + slack - LINKS * LINK for k, p in enumerate(laid)]
    k = int(np.argmin(np.abs(rest)))
    line = np.concatenate([[FAR + _come_in(frame) * WAY, hand], laid[: k + 1][::-1], [TAIL + [0.6, 0.0, 0.0]]])
    pieces = [np.linspace(a, b, 2 + int(np.linalg.norm(b - a) / 5e-4)) for a, b in pairwise(line)]
    dense = np.concatenate(pieces)
    found, at = [dense[0]], 0
    for _ in range(LINKS):
        away = np.linalg.norm(dense[at:] - found[-1], axis=1)
        at += int(np.argmax(away >= LINK))
        found.append(dense[at])
    return np.array(found)


def _line() -> dict[str, Curve]:
    """The line's far end as it comes in, and the turn of each link."""
    come = _coming()
    curves: dict[str, Curve] = {}
    for axis, c in enumerate(("tx", "ty")):
        keys = [k._replace(arriving=k.arriving * WAY[axis], leaving=k.leaving * WAY[axis], slope_in=k.slope_in * WAY[axis],
                           slope_out=k.slope_out * WAY[axis]) for k in (come.key(n) for n in range(len(come)))]  # fmt: skip
        curves[channel_id("line", "line", c)] = curve(keys)
    frames = [*range(0, LAST, 4), LAST]
    values = np.zeros((LINKS, 3, len(frames)))
    for n, frame in enumerate(frames):
        places = _places(frame)
        ways = np.diff(places, axis=0)
        ways /= np.linalg.norm(ways, axis=1, keepdims=True)
        before, turn = WAY, np.array([0.0, 0.0, 0.0, 1.0])
        for k, way in enumerate(ways):
            new = multiply(_arc(before, way), turn)
            near = values[k, :, n - 1] if n else np.zeros(3)
            values[k, :, n] = turn_in(new[None], turn[None], "yxz", near)[:, 0]
            before, turn = way, new
    for k in range(LINKS):
        for axis, c in enumerate(("rx", "ry", "rz")):
            made = curve(
                [
                    Key(float(t), float(v), float(v), kind=SMOOTH, rule=AUTOMATIC)
                    for t, v in zip(frames, values[k, axis], strict=True)
                ]
            )
            curves[channel_id("line", f"link{k}", c)] = automatic_slopes(made, made.times.tolist())
    return curves


def _arc(a: Floats, b: Floats) -> Floats:
    """The shortest turn (4,) from one direction to another."""
    found = np.array([*np.cross(a, b), 1.0 + a @ b])
    result: Floats = found / np.linalg.norm(found)
    return result


# --- the hands


def _hands(scene: Scene) -> dict[str, Curve]:
    """Over the line from above, the fingers round it; between holds a hand goes ahead, up and aside."""
    bones = scene.member("marl").skeleton
    curves: dict[str, Curve] = {}
    for side, sign in (("L", -1.0), ("R", 1.0)):
        palm = next(g for g in scene.member("marl").grips if g.joint == f"hand.{side}")
        rest = bones.rest_pose[0][bones.index[f"hand.{side}"]]
        rows: dict[str, list[tuple[float, float]]] = {c: [] for c in ("tx", "ty", "tz", "rx", "ry", "rz")}
        over = palm_turn(side, (0.75, -0.25, -0.6 * sign), (-0.2, -0.95, -0.1 * sign))
        open_hand = palm_turn(side, (0.9, 0.1, -0.3 * sign), (0.0, -0.95, -0.3 * sign))
        near = np.zeros(3)
        for n, (a, b) in enumerate(HOLDS[side]):
            poses = [(float(t), _link(_link_ahead(side, n), t), over) for t in (a, b)]
            if n + 1 < len(HOLDS[side]):
                c = HOLDS[side][n + 1][0]
                ahead = _link(_link_ahead(side, n + 1), c)
                poses.append(
                    (0.5 * (b + c), 0.45 * poses[-1][1] + 0.55 * ahead + np.array([0.0, 0.07, 0.07 * sign]), open_hand)
                )
            for t, place, turn in poses:
                at = place - rotate(turn, np.array(palm.position)) + np.array([0.0, THICK + 0.01, 0.0]) - rest
                near = np.array(quat_to_euler(ORDERS.index("yxz"), tuple(turn.tolist()), *near.tolist()))
                for c_, v in zip(("tx", "ty", "tz"), at.tolist(), strict=True):
                    rows[c_].append((t, v))
                for c_, v in zip(("rx", "ry", "rz"), np.degrees(near).tolist(), strict=True):
                    rows[c_].append((t, v))
        curves |= keyed("marl", {f"arm.{side}.ik.{c}": sorted(dict(r).items()) for c, r in rows.items()})
        curves |= keyed("marl", {f"arm.{side}.ik.swivel": [(0, 24.0 * sign), (LAST, 24.0 * sign)]})
    return curves


def _held(scene: Scene, take: Take) -> Take:
    """Each hand on its link for as long as it holds it, its fingers closed."""
    for side in "LR":
        for n, (a, b) in enumerate(HOLDS[side]):
            last = None if b == LAST else float(b)
            hold = {"on": f"line/link{_link_ahead(side, n)}", "ease": 4, "before": 2}
            take = run(Program(scene, take), "plant", Asked((("marl", f"arm.{side}"),), float(a), last, hold)).take
            take = closed(scene, take, side, "line", float(a), last, 4)
    return take
