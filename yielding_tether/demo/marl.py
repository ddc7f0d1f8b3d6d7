"""Marl, the deckhand: skeleton, parts and body. All joints face the world's axes at rest."""

from __future__ import annotations

import numpy as np

from ..core.cast import Member, Shape
from ..core.parts import FkPart, FreePart, LimbPart, Part, Side
from ..core.proposal import Run, find_hinge
from ..core.skeleton import Joint, Skeleton
from ..core.transforms import Floats
from .posing import hand_turn

V = tuple[float, float, float]

_MIDDLE: list[tuple[str, str | None, V]] = [
    ("hips", None, (0.0, 0.86, 0.0)),
    ("spine.low", "hips", (0.0, 0.97, -0.005)),
    ("spine.mid", "spine.low", (0.0, 1.09, 0.0)),
    ("chest", "spine.mid", (0.0, 1.21, 0.0)),
    ("neck", "chest", (0.0, 1.41, -0.01)),
    ("head", "neck", (0.0, 1.48, 0.0)),
]
#: The left half; the right one is its mirror image.
_LEFT: list[tuple[str, str, V]] = [
    ("collar", "chest", (0.04, 1.35, 0.01)),
    ("upperarm", "collar", (0.19, 1.35, 0.0)),
    ("forearm", "upperarm", (0.355, 1.15, -0.018)),
    ("hand", "forearm", (0.505, 0.965, 0.03)),
    ("thumb", "hand", (0.525, 0.945, 0.065)),
    ("thumb.tip", "thumb", (0.545, 0.925, 0.095)),
    ("finger1", "hand", (0.565, 0.895, 0.062)),
    ("finger1.tip", "finger1", (0.59, 0.865, 0.068)),
    ("finger2", "hand", (0.57, 0.89, 0.034)),
    ("finger2.tip", "finger2", (0.597, 0.858, 0.036)),
    ("finger3", "hand", (0.565, 0.895, 0.006)),
    ("finger3.tip", "finger3", (0.59, 0.865, 0.004)),
    ("thigh", "hips", (0.10, 0.83, 0.0)),
    ("shin", "thigh", (0.108, 0.46, 0.022)),
    ("foot", "shin", (0.108, 0.095, -0.02)),
    ("toe", "foot", (0.112, 0.03, 0.10)),
]
_TIPS: dict[str, V] = {
    "head": (0.0, 0.25, 0.0), "thumb.tip": (0.015, -0.018, 0.02), "finger1.tip": (0.02, -0.024, 0.004),
    "finger2.tip": (0.021, -0.026, 0.002), "finger3.tip": (0.02, -0.024, -0.002), "toe": (0.004, -0.005, 0.085),
}  # fmt: skip

#: At rest the fingers point down the arm and the thumbs forward; both hands, left first.
FINGERS = np.array([0.064, -0.075, 0.0])
THUMB = np.array([0.0, 0.0, 1.0])


def palm_turn(letter: str, fingers: V, palm: V) -> Floats:
    """World rotation (4,) of the left ("L") or right ("R") hand whose fingers and palm point these ways."""
    rest = FINGERS if letter == "L" else FINGERS * [-1.0, 1.0, 1.0]
    facing = np.cross(FINGERS, THUMB) if letter == "L" else np.cross(THUMB, rest)
    return hand_turn(fingers, palm, rest, facing)


def _mirrored(v: V) -> V:
    return (-v[0], v[1], v[2])


def skeleton() -> Skeleton:
    """Marl's 38 joints."""
    places = list(_MIDDLE)
    for letter in "LR":
        for name, parent, at in _LEFT:
            above = parent if parent in ("chest", "hips") else f"{parent}.{letter}"
            places.append((f"{name}.{letter}", above, at if letter == "L" else _mirrored(at)))
    index = {name: i for i, (name, _, _) in enumerate(places)}
    joints = []
    for name, parent, at in places:
        up = places[index[parent]][2] if parent is not None else (0.0, 0.0, 0.0)
        offset = (at[0] - up[0], at[1] - up[1], at[2] - up[2])
        base = name.removesuffix(".L").removesuffix(".R")
        tip = _TIPS.get(base)
        if tip is not None and name.endswith(".R"):
            tip = _mirrored(tip)
        joints.append(Joint(name, index[parent] if parent is not None else -1, offset, tip=tip))
    return Skeleton(tuple(joints))


def _fk(name: str, label: str, joints: list[str], side: Side = "middle", order: str = "yxz") -> FkPart:
    return FkPart(name, label, tuple(joints), (order,) * len(joints), (False,) * len(joints), side)


def _limb(bones: Skeleton, name: str, label: str, joints: tuple[str, str, str], side: Side, role: str) -> LimbPart:
    i, j, k = (bones.index[n] for n in joints)
    hinge, found = find_hinge(bones, Run((i, j, k), (j,)), None, np.array([0.0, 0.0, 1.0]), role)
    return LimbPart(name, label, joints, ("zyx", "yxz", "yxz"), hinge, "yxz", side, hinge_from=found, role=role)


def marl() -> Member:
    """The full character: limbs with IK and FK, everything else in FK."""
    bones = skeleton()
    parts: list[Part] = [
        FreePart("hips", "hips", "hips", "yxz"),
        _fk("spine", "spine", ["spine.low", "spine.mid", "chest"]),
        _fk("head", "head", ["neck", "head"]),
    ]
    sides: tuple[tuple[str, Side], ...] = (("L", "left"), ("R", "right"))
    for letter, side in sides:
        hand = ["thumb", "finger1", "finger2", "finger3"]
        parts += [
            _fk(f"shoulder.{letter}", f"{side} shoulder", [f"collar.{letter}"], side),
            _limb(bones, f"arm.{letter}", f"{side} arm",
                  (f"upperarm.{letter}", f"forearm.{letter}", f"hand.{letter}"), side, "arm"),
            _fk(f"fingers.{letter}", f"{side} hand", [f"{n}{t}.{letter}" for n in hand for t in ("", ".tip")], side),
            _limb(bones, f"leg.{letter}", f"{side} leg",
                  (f"thigh.{letter}", f"shin.{letter}", f"foot.{letter}"), side, "leg"),
            _fk(f"toes.{letter}", f"{side} toes", [f"toe.{letter}"], side),
        ]  # fmt: skip
    return Member("marl", "Marl", "character", bones, tuple(parts), tuple(_body(bones)))


def _body(bones: Skeleton) -> list[Shape]:
    def reach(joint: str) -> V:
        return bones.joints[bones.index[joint]].offset

    def ball(joint: str, tone: str, at: V, *size: float) -> Shape:
        return Shape(joint, "ball", tone, at, size=size)

    def bone(joint: str, end: V, tone: str, *size: float) -> Shape:
        return Shape(joint, "capsule", tone, (0.0, 0.0, 0.0), end, size)

    shapes = [
        ball("hips", "trousers", (0.0, -0.01, 0.0), 0.165, 0.12, 0.125),
        ball("spine.low", "jersey", (0.0, 0.03, 0.005), 0.165, 0.115, 0.13),
        ball("spine.mid", "jersey", (0.0, 0.03, 0.0), 0.172, 0.12, 0.13),
        ball("chest", "jersey", (0.0, 0.06, 0.005), 0.185, 0.15, 0.13),
        Shape("spine.low", "ring", "belt", (0.0, -0.035, 0.0), (0.0, 1.0, 0.0), (0.148, 0.022)),
        Shape("neck", "ring", "scarf", (0.0, 0.01, 0.005), (0.0, 1.0, 0.1), (0.062, 0.036)),
        Shape("neck", "capsule", "skin", (0.0, -0.02, 0.0), (0.0, 0.09, 0.01), (0.055, 0.055)),
        ball("head", "skin", (0.0, 0.105, 0.012), 0.116, 0.135, 0.122),
        ball("head", "cap", (0.0, 0.165, -0.004), 0.121, 0.098, 0.126),
        Shape("head", "ring", "capband", (0.0, 0.150, -0.002), (0.0, 1.0, -0.08), (0.112, 0.02)),
        ball("head", "capband", (0.0, 0.272, -0.01), 0.03, 0.03, 0.03),
        ball("head", "skin", (0.0, 0.085, 0.138), 0.026, 0.024, 0.03),
        ball("head", "beard", (0.0, 0.025, 0.068), 0.085, 0.06, 0.062),
        ball("head", "ink", (0.042, 0.115, 0.122), 0.011, 0.016, 0.011),
        ball("head", "ink", (-0.042, 0.115, 0.122), 0.011, 0.016, 0.011),
    ]  # fmt: skip
    for letter, sign in (("L", 1.0), ("R", -1.0)):
        fingers = (0.03 * sign, -0.036, 0.0)
        shapes += [
            bone(f"collar.{letter}", reach(f"upperarm.{letter}"), "jersey", 0.06, 0.075),
            bone(f"upperarm.{letter}", reach(f"forearm.{letter}"), "jersey", 0.068, 0.054),
            bone(f"forearm.{letter}", reach(f"hand.{letter}"), "jersey", 0.054, 0.042),
            ball(f"hand.{letter}", "skin", (0.026 * sign, -0.032, 0.004), 0.036, 0.05, 0.046),
            bone(f"thumb.{letter}", reach(f"thumb.tip.{letter}"), "skin", 0.017, 0.015),
            bone(f"thumb.tip.{letter}", (0.012 * sign, -0.014, 0.016), "skin", 0.015, 0.013),
            *(bone(f"finger{n}.{letter}", reach(f"finger{n}.tip.{letter}"), "skin", 0.0165, 0.015) for n in (1, 2, 3)),
            *(bone(f"finger{n}.tip.{letter}", (fingers[0] * 0.6, fingers[1] * 0.6, 0.0), "skin", 0.015, 0.013)
              for n in (1, 2, 3)),
            bone(f"thigh.{letter}", reach(f"shin.{letter}"), "trousers", 0.088, 0.068),
            bone(f"shin.{letter}", reach(f"foot.{letter}"), "trousers", 0.068, 0.052),
            Shape(f"shin.{letter}", "capsule", "boot", (0.0, -0.2, -0.026), reach(f"foot.{letter}"), (0.066, 0.06)),
            ball(f"foot.{letter}", "boot", (0.002 * sign, -0.043, 0.028), 0.055, 0.05, 0.095),
            ball(f"toe.{letter}", "boot", (0.002 * sign, 0.008, 0.02), 0.054, 0.038, 0.07),
        ]  # fmt: skip
        # Left sleeves carry one band, right sleeves two: told apart by mark as well as by hue.
        elbow = reach(f"hand.{letter}")
        for share in (0.45,) if letter == "L" else (0.36, 0.56):
            at = (elbow[0] * share, elbow[1] * share, elbow[2] * share)
            shapes.append(
                Shape(
                    f"forearm.{letter}",
                    "ring",
                    "left" if letter == "L" else "right",
                    at,
                    elbow,
                    (0.047, 0.011),
                )
            )
    return shapes
