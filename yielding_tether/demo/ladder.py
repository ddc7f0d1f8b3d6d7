"""*Ladder*: Marl climbs the quay's ladder, a hand and the foot across from it together; the body hangs from straight arms and swings
under the hands before each pull. One fault is planted: the left hand pops as it takes hold of a rung."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from functools import cache

import numpy as np

from ..core.cast import Member, Shape
from ..core.channels import channel_id
from ..core.curves import AUTOMATIC, SMOOTH, Curve, Key, automatic_slopes, curve
from ..core.takes import Scene, Take, Tether
from ..core.transforms import ORDERS, Floats, quat_to_euler, rotate
from .ferry import piece
from .marl import marl
from .people import NECK, SPINE, palm_turn
from .posing import along, closed, followed, keyed, nudge, steps, touching

#: Rungs: how far apart, how thick, how many; how far before Marl the ladder stands, and half of its width; metres.
APART, THICK, RUNGS, BEFORE, HALF = 0.29, 0.017, 12, 0.36, 0.2
#: Frames of a step, steps, and the frames of a step between which its hand and foot are off their rungs.
STEP, STEPS, OFF, ON = 22, 4, 5, 16
LAST = STEP * STEPS + 14
#: The rungs on which hands and feet begin; each step takes a hand and the foot across from it two rungs up.
HANDS, FEET = {"R": 5, "L": 6}, {"L": 1, "R": 2}
#: When the left hand pops: as it takes hold.
POP = STEP + ON
#: Where the ankle is to a rung under the ball of the foot.
ANKLE = np.array([0.0, 0.09, -0.105])


def ladder() -> Member:
    """Two stiles and their rungs, upright before Marl."""
    height = APART * (RUNGS + 0.5)
    shapes = [
        Shape("ladder", "capsule", "rail", (HALF * side, -0.1, BEFORE), (HALF * side, height, BEFORE), (0.03, 0.03))
        for side in (-1.0, 1.0)
    ]
    for k in range(RUNGS + 1):
        shapes.append(
            Shape("ladder", "capsule", "iron", (-HALF, APART * k, BEFORE), (HALF, APART * k, BEFORE), (THICK, THICK))
        )
    wall = Shape("ladder", "block", "stone", (0.0, 0.5 * height - 0.3, BEFORE + 0.42), size=(2.6, height + 0.5, 0.3))
    ledge = Shape("ladder", "block", "hull", (0.0, -0.14, 0.0), size=(1.5, 0.08, 1.2))
    return piece("ladder", "Ladder", "set", (0.0, 0.0, 0.0), [*shapes, wall, ledge])


def ladder_scene() -> Scene:
    """The cast of *Ladder*."""
    return Scene("Quay wall", (ladder(), marl()))


def tethers() -> tuple[Tether, ...]:
    """Hands and feet are on the ladder."""
    return tuple(
        Tether("ladder", "marl", f"{limb}.{side}.ik", "ladder", "ladder") for limb in ("arm", "leg") for side in "LR"
    )


@cache
def climbing() -> tuple[Scene, Take]:
    """The scene and its take."""
    scene = ladder_scene()
    take = Take("Ladder", Fraction(24), 0, LAST, tethers=tethers())
    for tether in tethers():
        take = take.with_curves(followed(tether, (0, 1.0)))
    take = take.with_curves({f"marl/{limb}.{side}.drive": steps((0, 1.0)) for limb in ("arm", "leg") for side in "LR"})
    take = take.with_curves({**_body(), **_feet(), **_hands(scene)})
    take = _closed(scene, take)
    for limb, joint, start in (("arm", "hand", HANDS), ("leg", "foot", FEET)):
        for side in "LR":
            rows = [(f"{joint}.{side}", "ladder", a, b) for a, b, _ in _holds(side, start[side], limb)]
            take = touching(take, rows)
    return scene, nudge(take, "marl/arm.L.ik.ty", float(POP), 0.03)


def _holds(side: str, rung: int, limb: str) -> list[tuple[int, int, int]]:
    """First and last frame on each rung, and which: the right hand goes with the left foot."""
    first = side == ("R" if limb == "arm" else "L")
    found, begun = [], 0
    for n in range(STEPS):
        if (n % 2 == 0) == first:
            found.append((begun, STEP * n + OFF, rung))
            begun, rung = STEP * n + ON, rung + 2
    return [*found, (begun, LAST, rung)]


def _body() -> dict[str, Curve]:
    """Each step hangs back and to the side of the hand that holds, swings, and is pulled up past the middle of the step."""
    rise, back, over, lean, turn, sway = [], [], [], [], [], []
    for n in range(STEPS + 1):
        at, height, side = STEP * n, APART * n, 1.0 if n % 2 == 0 else -1.0
        rise += [(at, height), (at + 7, height + 0.004)] + (
            [(at + 19, height + APART - 0.01)] if n < STEPS else [(LAST, height)]
        )
        back += [(at, 0.0), (at + 6, -0.008), (at + 14, 0.03)]
        over += [(at, 0.0), (at + 8, 0.03 * side), (at + 18, 0.015 * side)]
        lean += [(at, 5.0), (at + 6, 0.0), (at + 14, 10.0)]
        turn += [(at, 0.0), (at + 9, 9.0 * side), (at + 19, 2.0 * side)]
        sway += [(at, 0.0), (at + 9, 5.0 * side), (at + 17, -2.0 * side)]
    return keyed("marl", {
        "hips.ty": [(t, v + 0.02) for t, v in _within(rise)], "hips.tz": [(t, v - 0.02) for t, v in _within(back)], "hips.tx": _within(over),
        "hips.rx": _within(lean), "hips.ry": _within(turn), "hips.rz": _within(sway),
        **along(SPINE, "rx", _within([(t, 0.8 * v) for t, v in lean])), **along(SPINE, "ry", _within([(t, -1.6 * v) for t, v in turn])),
        **along(SPINE, "rz", _within([(t, -1.2 * v) for t, v in sway])),
        **along(NECK[:2], "rx", [(0, -18), (40, -10), (70, -20), (LAST, -14)]),
        "head.rx": [(0, -14), (30, -6), (60, -18), (LAST, -8)], "head.ry": [(0, 0), (34, 8), (64, -7), (LAST, 0)],
    })  # fmt: skip


def _within(rows: Sequence[tuple[float, float]]) -> list[tuple[float, float]]:
    """The rows that lie in the take, one for each frame."""
    return sorted({t: v for t, v in rows if t <= LAST}.items())


def _feet() -> dict[str, Curve]:
    """The balls of the feet on the rungs, a foot drawn back and up between them."""
    rest = {side: np.array([0.108 if side == "L" else -0.108, 0.095, -0.02]) for side in "LR"}
    table: dict[str, list[tuple[float, float]]] = {}
    for side in "LR":
        rows: dict[str, list[tuple[float, float]]] = {c: [] for c in ("tx", "ty", "tz", "rx")}
        holds = _holds(side, FEET[side], "leg")
        for n, (a, b, rung) in enumerate(holds):
            at = np.array([0.095 if side == "L" else -0.095, APART * rung + THICK, BEFORE]) + ANKLE - rest[side]
            for c, v in zip(("tx", "ty", "tz"), at.tolist(), strict=True):
                rows[c] += [(a, v), (b, v)]
            rows["rx"] += [(a, -6.0), (b, -6.0)]
            if n + 1 < len(holds):
                middle = (b + holds[n + 1][0]) / 2.0
                rows["ty"].append((middle, float(at[1]) + 1.05 * APART))
                rows["tz"].append((middle, float(at[2]) - 0.14))
                rows["rx"].append((middle, 22.0))
        table |= {f"leg.{side}.ik.{c}": sorted(dict(r).items()) for c, r in rows.items()}
        table[f"leg.{side}.ik.swivel"] = [(0, 14.0 if side == "L" else -14.0), (LAST, 14.0 if side == "L" else -14.0)]
    return keyed("marl", table)


def _hands(scene: Scene) -> dict[str, Curve]:
    """Palms over the rungs, fingers up and over; between rungs a hand goes back and up with its fingers ahead."""
    bones = scene.member("marl").skeleton
    curves: dict[str, Curve] = {}
    for side, sign in (("L", 1.0), ("R", -1.0)):
        palm = next(g for g in scene.member("marl").grips if g.joint == f"hand.{side}")
        rest = bones.rest_pose[0][bones.index[f"hand.{side}"]]
        rows: dict[str, list[tuple[float, float]]] = {c: [] for c in ("tx", "ty", "tz", "rx", "ry", "rz")}
        near = np.zeros(3)

        def put(
            frame: float,
            place: Floats,
            turn: Floats,
            rows: dict[str, list[tuple[float, float]]] = rows,
            rest: Floats = rest,
        ) -> None:
            nonlocal near
            near = np.array(quat_to_euler(ORDERS.index("yxz"), tuple(turn.tolist()), *near.tolist()))
            for c, v in zip(("tx", "ty", "tz"), (place - rest).tolist(), strict=True):
                rows[c].append((frame, v))
            for c, v in zip(("rx", "ry", "rz"), np.degrees(near).tolist(), strict=True):
                rows[c].append((frame, v))

        over = palm_turn(side, (0.12 * sign, 0.55, 0.83), (0.0, -0.83, 0.55))
        open_hand = palm_turn(side, (0.05 * sign, 0.92, 0.4), (0.0, -0.4, 0.92))
        holds = _holds(side, HANDS[side], "arm")
        for n, (a, b, rung) in enumerate(holds):
            at = np.array([0.11 * sign, APART * rung, BEFORE]) - rotate(over, np.array(palm.position) * [1.0, 1.0, 1.0])
            at = at + np.array([0.0, THICK + 0.012, -0.012])
            put(a, at, over)
            put(b, at, over)
            if n + 1 < len(holds):
                put((b + holds[n + 1][0]) / 2.0, at + np.array([0.01 * sign, 1.15 * APART, -0.1]), open_hand)
        for c, r in rows.items():
            size = np.pi / 180.0 if c[0] == "r" else 1.0
            keys = [Key(float(t), v * size, v * size, kind=SMOOTH, rule=AUTOMATIC) for t, v in sorted(dict(r).items())]
            made = curve(keys)
            curves[channel_id("marl", f"arm.{side}.ik", c)] = automatic_slopes(made, made.times.tolist())
        curves |= keyed("marl", {f"arm.{side}.ik.swivel": [(0, -18.0 * sign), (LAST, -18.0 * sign)]})
    return curves


def _closed(scene: Scene, take: Take) -> Take:
    """Each hand closed on each of its rungs."""
    for side in "LR":
        for a, b, _ in _holds(side, HANDS[side], "arm"):
            take = closed(scene, take, side, "ladder", float(a), None if b == LAST else float(b), 4)
    return take
