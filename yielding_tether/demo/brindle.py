"""Brindle, the ferry's goat: barrel body, short horns, a beard, ears that hang. Her parts are those that any skeleton like hers
is proposed, by other names."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..core.cast import Member, Shape
from ..core.parts import FkPart, Footed, Part, Sole
from ..core.proposal import propose
from ..core.skeleton import Joint, Skeleton
from .people import V, ball

_MIDDLE: list[tuple[str, str | None, V]] = [
    ("hips", None, (0.0, 0.62, -0.27)), ("spine.low", "hips", (0.0, 0.645, -0.13)), ("spine.mid", "spine.low", (0.0, 0.645, 0.0)),
    ("chest", "spine.mid", (0.0, 0.63, 0.14)), ("neck.low", "chest", (0.0, 0.685, 0.25)), ("neck.mid", "neck.low", (0.0, 0.76, 0.31)),
    ("head", "neck.mid", (0.0, 0.84, 0.355)), ("tail", "hips", (0.0, 0.675, -0.36)), ("tail.mid", "tail", (0.0, 0.71, -0.395)),
    ("tail.tip", "tail.mid", (0.0, 0.745, -0.415)),
]  # fmt: skip
_LEFT: list[tuple[str, str, V]] = [
    ("foreleg", "chest", (0.085, 0.55, 0.17)), ("cannon", "foreleg", (0.085, 0.295, 0.155)), ("hoof", "cannon", (0.085, 0.065, 0.165)),
    ("thigh", "hips", (0.08, 0.575, -0.27)), ("gaskin", "thigh", (0.095, 0.405, -0.20)), ("shank", "gaskin", (0.09, 0.23, -0.345)),
    ("hind hoof", "shank", (0.09, 0.065, -0.32)), ("ear", "head", (0.055, 0.885, 0.335)), ("ear.tip", "ear", (0.12, 0.875, 0.325)),
]  # fmt: skip
_TIPS: dict[str, V] = {
    "head": (0.0, -0.07, 0.15), "tail.tip": (0.0, 0.03, -0.012), "hoof": (0.0, -0.065, 0.03), "hind hoof": (0.0, -0.065, 0.03),
    "ear.tip": (0.06, -0.03, -0.005),
}  # fmt: skip
_IN_MIDDLE = {name for name, _, _ in _MIDDLE}
#: How high the joints of the hooves are, and how long and wide a hoof is, metres.
HOOF, _LONG, _WIDE = 0.065, 0.05, 0.022


def brindle() -> Member:
    """Brindle."""
    bones = skeleton()
    return Member("brindle", "Brindle", "character", bones, tuple(_parts(bones)), tuple(_shapes(bones)))


def skeleton() -> Skeleton:
    """Her 28 joints, all facing the world's axes at rest."""
    rows = list(_MIDDLE)
    for letter, sign in (("L", 1.0), ("R", -1.0)):
        for name, up, (x, y, z) in _LEFT:
            rows.append((f"{name}.{letter}", up if up in _IN_MIDDLE else f"{up}.{letter}", (sign * x, y, z)))
    index = {name: k for k, (name, _, _) in enumerate(rows)}
    joints = []
    for name, up, at in rows:
        above = rows[index[up]][2] if up else (0.0, 0.0, 0.0)
        tip = _TIPS.get(name.removesuffix(".L").removesuffix(".R"))
        if tip and name.endswith(".R"):
            tip = (-tip[0], tip[1], tip[2])
        offset = (at[0] - above[0], at[1] - above[1], at[2] - above[2])
        joints.append(Joint(name, index[up] if up else -1, offset, tip=tip))
    return Skeleton(tuple(joints))


def _parts(bones: Skeleton) -> list[Part]:
    names = {"root": ("hips", "hips"), "leg.L": ("foreleg.L", "left foreleg"), "leg.R": ("foreleg.R", "right foreleg"),
             "leg.L2": ("hindleg.L", "left hind leg"), "leg.R2": ("hindleg.R", "right hind leg")}  # fmt: skip
    flat = -HOOF
    sole = Sole(
        (0.0, flat, -0.4 * _LONG),
        (0.0, flat, 0.3 * _LONG),
        (0.0, flat, 0.9 * _LONG),
        (_WIDE, flat, 0.3 * _LONG),
        (-_WIDE, flat, 0.3 * _LONG),
    )
    found: list[Part] = []
    for part in propose(bones).parts:
        if part.name == "face":
            for letter, side in (("L", "left"), ("R", "right")):
                ear = (f"ear.{letter}", f"ear.tip.{letter}")
                found.append(FkPart(f"ear.{letter}", f"{side} ear", ear, ("xyz",) * 2, (False,) * 2, side))  # type: ignore[arg-type]
            continue
        name, label = names.get(part.name, (part.name, part.label))
        more = {"sole": sole, "hinge_from": "given"} if isinstance(part, Footed) else {}
        found.append(replace(part, name=name, label=label, **more))  # type: ignore[type-var]
    return found


def _shapes(bones: Skeleton) -> list[Shape]:
    """A barrel on four thin legs; her near side and far side told apart by one ring and two on the cannons."""
    shapes = [
        ball("hips", "fur", (0.0, -0.005, -0.02), 0.125, 0.135, 0.15), ball("spine.low", "fur", (0.0, -0.04, 0.03), 0.145, 0.15, 0.15),
        ball("spine.mid", "fur", (0.0, -0.05, 0.05), 0.15, 0.155, 0.15), ball("chest", "fur", (0.0, -0.02, 0.03), 0.125, 0.145, 0.14),
        ball("chest", "fur2", (0.0, -0.05, 0.12), 0.07, 0.085, 0.06),
        Shape("neck.low", "capsule", "fur", (0.0, -0.02, -0.02), (0.0, 0.075, 0.06), (0.088, 0.072)),
        Shape("neck.mid", "capsule", "fur", (0.0, 0.0, 0.0), (0.0, 0.08, 0.045), (0.072, 0.06)),
        ball("head", "fur", (0.0, 0.01, 0.015), 0.062, 0.068, 0.075),
        Shape("head", "capsule", "fur", (0.0, -0.01, 0.04), (0.0, -0.06, 0.13), (0.052, 0.034)),
        Shape("head", "capsule", "fur2", (0.0, -0.062, 0.125), (0.0, -0.072, 0.15), (0.036, 0.028)),
        Shape("head", "capsule", "beard", (0.0, -0.09, 0.115), (0.0, -0.165, 0.105), (0.02, 0.005)),
        Shape("tail", "capsule", "fur", (0.0, 0.0, 0.0), (0.0, 0.035, -0.035), (0.03, 0.026)),
        Shape("tail.mid", "capsule", "fur", (0.0, 0.0, 0.0), (0.0, 0.035, -0.02), (0.026, 0.022)),
        Shape("tail.tip", "capsule", "fur2", (0.0, 0.0, 0.0), (0.0, 0.03, -0.012), (0.022, 0.01)),
    ]  # fmt: skip
    for letter, sign in (("L", 1.0), ("R", -1.0)):

        def bone(joint: str, to: str | None, tone: str, *size: float) -> Shape:
            on = bones.joints[bones.index[f"{joint}.{letter}"]]  # noqa: B023
            end = bones.joints[bones.index[f"{to}.{letter}"]].offset if to else on.tip  # noqa: B023
            assert end is not None
            return Shape(on.name, "capsule", tone, (0.0, 0.0, 0.0), end, size)

        shapes += [
            ball(f"foreleg.{letter}", "fur", (-0.012 * sign, 0.0, -0.015), 0.062, 0.1, 0.085), bone("foreleg", "cannon", "fur", 0.05, 0.032),
            bone("cannon", "hoof", "fur2", 0.03, 0.024), ball(f"thigh.{letter}", "fur", (-0.008 * sign, -0.02, -0.01), 0.072, 0.12, 0.105),
            bone("thigh", "gaskin", "fur", 0.075, 0.052), bone("gaskin", "shank", "fur", 0.05, 0.028),
            bone("shank", "hind hoof", "fur2", 0.03, 0.024),
            *(Shape(f"{n}.{letter}", "capsule", "horn", (0.0, -0.012, 0.004), (0.0, -0.046, 0.018), (0.024, 0.021)) for n in ("hoof", "hind hoof")),
            bone("ear", "ear.tip", "fur", 0.022, 0.02), bone("ear.tip", None, "fur2", 0.02, 0.008),
            Shape("head", "capsule", "horn", (0.026 * sign, 0.062, 0.0), (0.042 * sign, 0.118, -0.038), (0.017, 0.012)),
            Shape("head", "capsule", "horn", (0.042 * sign, 0.118, -0.038), (0.056 * sign, 0.138, -0.09), (0.012, 0.005)),
            ball("head", "ink", (0.052 * sign, 0.018, 0.05), 0.011, 0.013, 0.011),
        ]  # fmt: skip
        for at in (0.4,) if letter == "L" else (0.32, 0.5):
            down = np.array(bones.joints[bones.index[f"hoof.{letter}"]].offset)
            place = tuple((at * down).tolist())
            shapes.append(
                Shape(
                    f"cannon.{letter}",
                    "ring",
                    "left" if letter == "L" else "right",
                    place,
                    tuple(down.tolist()),
                    (0.03, 0.009),
                )
            )
    return shapes
