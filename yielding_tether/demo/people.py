"""People of the ferry, by one generator: skeleton, parts and body. All joints face the world's axes at rest.

The numbers are Marl's; a `Build` says by how much another's bones and girths differ from his, and what he or she wears.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from ..core.cast import Grip, Member, Shape
from ..core.parts import (
    ArmPart,
    CentrePart,
    Finger,
    FkPart,
    FreePart,
    HandPart,
    LegPart,
    LimbPart,
    NeckPart,
    Part,
    Shrug,
    Side,
    Sole,
    TwistPart,
)
from ..core.proposal import Run, find_hinge, spine_of
from ..core.skeleton import Joint, Skeleton
from ..core.transforms import Floats
from ..core.values import PoseValue
from .posing import grip_turn, hand_turn

V = tuple[float, float, float]

_MIDDLE: list[tuple[str, str | None, V]] = [
    ("hips", None, (0.0, 0.86, 0.0)),
    ("spine.low", "hips", (0.0, 0.97, -0.005)),
    ("spine.mid", "spine.low", (0.0, 1.05, -0.002)),
    ("spine.high", "spine.mid", (0.0, 1.13, 0.0)),
    ("chest", "spine.high", (0.0, 1.21, 0.0)),
    ("neck.low", "chest", (0.0, 1.41, -0.01)),
    ("neck.high", "neck.low", (0.0, 1.445, -0.006)),
    ("head", "neck.high", (0.0, 1.48, 0.0)),
]
#: The left half; the right one is its mirror image. A palm carries the outer finger, so that the hand can be hollowed.
_LEFT: list[tuple[str, str, V]] = [
    ("collar", "chest", (0.04, 1.35, 0.01)),
    ("upperarm", "collar", (0.19, 1.35, 0.0)),
    ("forearm", "upperarm", (0.355, 1.15, -0.018)),
    ("hand", "forearm", (0.505, 0.965, 0.03)),
    ("thumb", "hand", (0.518, 0.951, 0.052)),
    ("thumb.mid", "thumb", (0.532, 0.938, 0.077)),
    ("thumb.tip", "thumb.mid", (0.546, 0.925, 0.099)),
    ("finger1", "hand", (0.559, 0.902, 0.06)),
    ("finger1.mid", "finger1", (0.58, 0.877, 0.065)),
    ("finger1.tip", "finger1.mid", (0.597, 0.857, 0.069)),
    ("finger2", "hand", (0.564, 0.897, 0.034)),
    ("finger2.mid", "finger2", (0.587, 0.87, 0.036)),
    ("finger2.tip", "finger2.mid", (0.605, 0.848, 0.037)),
    ("palm", "hand", (0.528, 0.94, 0.015)),
    ("finger3", "palm", (0.558, 0.902, 0.008)),
    ("finger3.mid", "finger3", (0.578, 0.878, 0.006)),
    ("finger3.tip", "finger3.mid", (0.594, 0.859, 0.004)),
    ("thigh", "hips", (0.10, 0.83, 0.0)),
    ("shin", "thigh", (0.108, 0.46, 0.022)),
    ("foot", "shin", (0.108, 0.095, -0.02)),
    ("toe", "foot", (0.112, 0.03, 0.10)),
]
#: Helper joints of segments: the segment's joint, its end, how far along it they lie, whose twist they share, and how much of it.
#: Those next to the body hold back from a turn of the whole segment, those at the far end go along with what turns there.
_TWISTS = (
    ("upperarm", "forearm", 0.3, "upperarm", -0.7), ("forearm", "hand", 0.65, "hand", 0.6),
    ("thigh", "shin", 0.3, "thigh", -0.7), ("shin", "foot", 0.65, "foot", 0.6),
)  # fmt: skip
_TIPS: dict[str, V] = {
    "head": (0.0, 0.25, 0.0), "thumb.tip": (0.013, -0.012, 0.02), "finger1.tip": (0.013, -0.016, 0.003),
    "finger2.tip": (0.014, -0.017, 0.001), "finger3.tip": (0.012, -0.014, -0.002), "toe": (0.004, -0.005, 0.085),
}  # fmt: skip
SPINE = ("spine.low", "spine.mid", "spine.high", "chest")
NECK = ("neck.low", "neck.high", "head")
DIGITS = ("thumb", "finger1", "finger2", "finger3")

#: At rest the fingers point down the arm and the thumbs forward; both hands, left first.
FINGERS = np.array([0.064, -0.075, 0.0])
THUMB = np.array([0.0, 0.0, 1.0])


def palm_turn(letter: str, fingers: V, palm: V) -> Floats:
    """World rotation (4,) of the left ("L") or right ("R") hand whose fingers and palm point these ways."""
    rest = FINGERS if letter == "L" else FINGERS * [-1.0, 1.0, 1.0]
    facing = np.cross(FINGERS, THUMB) if letter == "L" else np.cross(THUMB, rest)
    return hand_turn(fingers, palm, rest, facing)


@dataclass(frozen=True)
class Build:
    """One of the crew. `bones`: times Marl's length of the bone that leads to a joint, `girths`: times his girth at a joint, both by
    the joint's name without its side (one where left out); `tones`: what is worn in place of his tones; `head`: pieces of the
    head beside the head itself, made with `ball` and `ring`."""

    id: str
    name: str
    head: Callable[[], list[Shape]]
    bones: Mapping[str, float] = field(default_factory=dict)
    girths: Mapping[str, float] = field(default_factory=dict)
    tones: Mapping[str, str] = field(default_factory=dict)
    collars: bool = True
    #: Whether a root on the floor carries the body's centre, or the hips are both.
    root: bool = False

    def girth(self, joint: str) -> float:
        return self.girths.get(_base(joint).split(".")[0].rstrip("123"), self.girths.get("", 1.0))

    def tone(self, tone: str) -> str:
        return self.tones.get(tone, tone)


def _base(joint: str) -> str:
    """A joint's name without its side."""
    return joint.removesuffix(".L").removesuffix(".R")


def _mirrored(v: V) -> V:
    return (-v[0], v[1], v[2])


def _built(build: Build) -> tuple[list[tuple[str, str | None, V]], list[tuple[str, str, V]]]:
    """Joints of the middle and of the left half as they are at rest, with the soles on the floor."""
    marl: dict[str | None, V] = {name: at for name, _, at in (*_MIDDLE, *_LEFT)} | {None: (0.0, 0.0, 0.0)}
    above: dict[str, str | None] = {name: up for name, up, _ in (*_MIDDLE, *_LEFT)}
    if not build.collars:
        above = {n: "chest" if up == "collar" else up for n, up in above.items() if n != "collar"}
    found: dict[str | None, V] = {None: (0.0, 0.0, 0.0)}
    for name, up in above.items():
        by = build.bones.get(name.split(".")[0].rstrip("123"), build.bones.get("", 1.0))
        found[name] = tuple(a + by * (b - c) for a, b, c in zip(found[up], marl[name], marl[up], strict=True))  # type: ignore[assignment]
    down = found["toe"][1] - build.girth("toe") * marl["toe"][1]
    placed = {n: (at[0], at[1] - down, at[2]) for n, at in found.items() if n}
    middle = [name for name, _, _ in _MIDDLE]
    if build.root:
        return [("root", None, (0.0, 0.0, 0.0)), *((n, above[n] or "root", placed[n]) for n in middle)], [
            (n, str(above[n]), placed[n]) for n in above if n not in middle
        ]
    return [(n, above[n], placed[n]) for n in middle], [(n, str(above[n]), placed[n]) for n in above if n not in middle]


def skeleton(build: Build) -> Skeleton:
    """The joints of one of the crew: Marl has 58."""
    places, half = _built(build)
    left = {name: at for name, _, at in half}
    for upper, lower, along, _, _ in _TWISTS:
        a, b = np.array(left[upper]), np.array(left[lower])
        half.append((f"{upper}.twist", upper, tuple((a + along * (b - a)).tolist())))
    for letter in "LR":
        for name, parent, at in half:
            above = parent if parent in ("chest", "hips") else f"{parent}.{letter}"
            places.append((f"{name}.{letter}", above, at if letter == "L" else _mirrored(at)))
    index = {name: i for i, (name, _, _) in enumerate(places)}
    joints = []
    for name, parent, at in places:
        up = places[index[parent]][2] if parent is not None else (0.0, 0.0, 0.0)
        offset = (at[0] - up[0], at[1] - up[1], at[2] - up[2])
        tip = _TIPS.get(_base(name))
        if tip is not None:
            x, y, z = (build.girth(name) * v for v in (_mirrored(tip) if name.endswith(".R") else tip))
            tip = (x, y, z)
        joints.append(Joint(name, index[parent] if parent is not None else -1, offset, tip=tip))
    return Skeleton(tuple(joints))


def _fk(name: str, label: str, joints: list[str], side: Side = "middle", order: str = "yxz") -> FkPart:
    return FkPart(name, label, tuple(joints), (order,) * len(joints), (False,) * len(joints), side)


def _limb(bones: Skeleton, name: str, label: str, joints: tuple[str, ...], side: Side, role: str) -> LimbPart:
    i, j, k = (bones.index[n] for n in joints)
    hinge, found = find_hinge(bones, Run((i, j, k), (j,)), None, np.array([0.0, 0.0, 1.0]), role)
    return LimbPart(name, label, joints, ("zyx", "yxz", "yxz"), hinge, "yxz", side, hinge_from=found, role=role)


def _arm(bones: Skeleton, letter: str, side: Side, *, collar: bool) -> LimbPart:
    """An arm, behind a collarbone that goes along where there is one."""
    joints = tuple(f"{n}.{letter}" for n in ("upperarm", "forearm", "hand"))
    arm = _limb(bones, f"arm.{letter}", f"{side} arm", joints, side, "arm")
    if not collar:
        return arm
    return ArmPart(
        arm.name, arm.label, (f"collar.{letter}", *joints), ("yxz", *arm.orders), arm.hinge, arm.end_order, side,
        hinge_from=arm.hinge_from,
        shrug=Shrug.found(bones, bones.index[f"collar.{letter}"], bones.index[joints[-1]], np.array([0.0, 0.0, 1.0])),
    )  # fmt: skip


def _leg(bones: Skeleton, letter: str, side: Side) -> LegPart:
    """A leg whose foot rolls, with its toes."""
    joints = tuple(f"{n}.{letter}" for n in ("thigh", "shin", "foot", "toe"))
    leg = _limb(bones, f"leg.{letter}", f"{side} leg", joints[:3], side, "leg")
    sole = Sole.found(bones, bones.index[joints[2]], bones.index[joints[3]], floor=0.0)
    return LegPart(
        leg.name, leg.label, joints, (*leg.orders, "yxz"), leg.hinge, leg.end_order, side, (False,) * 4, hinge_from=leg.hinge_from,
        sole=sole,
    )  # fmt: skip


def _twists(
    bones: Skeleton,
    name: str,
    label: str,
    letter: str,
    rows: tuple[tuple[str, str, float, str, float], ...],
    side: Side,
) -> TwistPart:
    axes = [np.array(bones.joints[bones.index[f"{lower}.{letter}"]].offset) for _, lower, _, _, _ in rows]
    return TwistPart(
        name, label, tuple(f"{upper}.twist.{letter}" for upper, *_ in rows), ("yxz",) * len(rows),
        tuple(f"{other}.{letter}" for _, _, _, other, _ in rows),
        tuple(tuple((a / np.linalg.norm(a)).tolist()) for a in axes), tuple(share for *_, share in rows), side,
    )  # fmt: skip


#: Degrees by which each joint of a finger bends at the stages of a value; of the thumb; of the palm; and how far the outer
#: fingers spread.
_CURLED = {0.5: (30.0, 42.0, 20.0), 1.0: (74.0, 92.0, 56.0)}
_FIST = {0.6: (70.0, 80.0, 40.0), 1.0: (84.0, 100.0, 64.0)}
_THUMB = {0.6: (6.0, 8.0, 4.0), 1.0: (26.0, 38.0, 30.0)}


def _hand(name: str, label: str, joints: list[str], letter: str, side: Side) -> HandPart:
    """A hand whose fingers bend as its values have them."""
    sign = 1.0 if letter == "R" else -1.0
    fingers = tuple(
        Finger((at, at + 1, at + 2), (1.0, 0.0, 0.0) if d == "thumb" else (0.0, 0.0, sign))
        for d, at in ((d, joints.index(f"{d}.{letter}")) for d in DIGITS)
    )
    plain = _fk(name, label, joints, side)
    return HandPart(
        name, label, plain.joints, plain.orders, plain.moves, side, values=hand_values(letter), fingers=fingers
    )


def hand_values(letter: str) -> tuple[PoseValue, ...]:
    """What poses a hand as a whole: its fingers curled, spread, and a fist, for which thumb and palm come along at the end."""
    sign = 1.0 if letter == "R" else -1.0

    def turn(axis: int, degrees: float) -> tuple[float, float, float, float]:
        half = np.radians(degrees) / 2.0
        x, y, z = (float(np.sin(half)) if k == axis else 0.0 for k in range(3))
        return x, y, z, float(np.cos(half))

    def value(name: str, stages: dict[float, dict[str, tuple[int, float]]]) -> PoseValue:
        joints = tuple(dict.fromkeys(j for turns in stages.values() for j in turns))
        rows = tuple(tuple(turn(*turns.get(j, (0, 0.0))) for j in joints) for turns in stages.values())
        return PoseValue(name, tuple(f"{j}.{letter}" for j in joints), tuple(stages), rows)

    def bent(digit: str, axis: int, degrees: tuple[float, ...], way: float) -> dict[str, tuple[int, float]]:
        return {f"{digit}{t}": (axis, way * d) for t, d in zip(("", ".mid", ".tip"), degrees, strict=True)}

    fingers = [d for d in DIGITS if d != "thumb"]
    curl = {at: {k: v for d in fingers for k, v in bent(d, 2, by, sign).items()} for at, by in _CURLED.items()}
    fist = {
        at: {k: v for d in fingers for k, v in bent(d, 2, by, sign).items()} | bent("thumb", 0, _THUMB[at], 1.0)
        | {"palm": (2, sign * (0.0 if at < 1.0 else 12.0))}
        for at, by in _FIST.items()
    }  # fmt: skip
    spread = {1.0: {d: (0, by) for d, by in zip(fingers, (-14.0, 0.0, 14.0), strict=True)}}
    return value("curl", curl), value("spread", spread), value("fist", fist)


def person(build: Build) -> Member:
    """A full character: limbs with IK and FK, everything else in FK."""
    bones = skeleton(build)
    hips = CentrePart("hips", "body centre", "hips", "yxz") if build.root else FreePart("hips", "hips", "hips", "yxz")
    parts: list[Part] = [
        *([FreePart("root", "root", "root", "yxz")] if build.root else []),
        hips,
        spine_of(bones, _fk("spine", "spine", list(SPINE)), np.array([1.0, 0.0, 0.0])),
        NeckPart("head", "head", NECK, ("yxz",) * len(NECK), (0.25, 0.3), moves=(False,) * len(NECK)),
    ]
    sides: tuple[tuple[str, Side], ...] = (("L", "left"), ("R", "right"))
    for letter, side in sides:
        hand = [f"{n}{t}.{letter}" for n in DIGITS for t in ("", ".mid", ".tip")]
        parts += [
            _arm(bones, letter, side, collar=build.collars),
            _hand(f"fingers.{letter}", f"{side} hand", [f"palm.{letter}", *hand], letter, side),
            _leg(bones, letter, side),
            *(_twists(bones, f"{limb}.twist.{letter}", f"{side} {limb} twist", letter, rows, side)
              for limb, rows in (("arm", _TWISTS[:2]), ("leg", _TWISTS[2:]))),
        ]  # fmt: skip
    grips = tuple(_palm(letter, build) for letter in "LR")
    return Member(build.id, build.name, "character", bones, tuple(parts), tuple(_body(bones, build)), grips=grips)


def _palm(letter: str, build: Build) -> Grip:
    """The palm of a hand: where what it holds lies."""
    side = 1.0 if letter == "L" else -1.0
    x, y, z = (build.girth("hand") * v for v in (0.03 * side, -0.05, 0.0))
    fingers = FINGERS * [side, 1.0, 1.0]
    facing = np.cross(FINGERS, THUMB) if letter == "L" else np.cross(THUMB, fingers)
    return Grip("palm", f"hand.{letter}", (x, y, z), grip_turn(tuple(fingers), tuple(facing)))


def ball(joint: str, tone: str, at: V, *size: float) -> Shape:
    return Shape(joint, "ball", tone, at, size=size)


def ring(joint: str, tone: str, at: V, axis: V, *size: float) -> Shape:
    return Shape(joint, "ring", tone, at, axis, size)


def _body(bones: Skeleton, build: Build) -> list[Shape]:
    """The shapes of a body: Marl's, in the girths and tones of the build."""
    shapes = [*_shapes(bones, build), *build.head()]
    return [replace(s, tone=build.tone(s.tone)) for s in shapes]


def _shapes(bones: Skeleton, build: Build) -> list[Shape]:
    def wide(shape: Shape) -> Shape:
        """A shape whose place and size are Marl's."""
        by = build.girth(shape.joint)
        place = [tuple(by * v for v in end) for end in (shape.a, shape.b)]
        return replace(shape, a=place[0], b=place[1], size=tuple(by * v for v in shape.size))  # type: ignore[arg-type]

    def reach(joint: str) -> V:
        return bones.joints[bones.index[joint]].offset

    def tip(joint: str) -> V:
        end = bones.joints[bones.index[joint]].tip
        assert end is not None
        return end

    def off(joint: str, other: str) -> V:
        """The place of another joint of the same parent in a joint."""
        a, b = reach(joint), reach(other)
        return (b[0] - a[0], b[1] - a[1], b[2] - a[2])

    def bone(joint: str, end: V, tone: str, *size: float) -> Shape:
        by = build.girth(joint)
        return Shape(joint, "capsule", tone, (0.0, 0.0, 0.0), end, tuple(by * v for v in size))

    middle = [
        ball("hips", "trousers", (0.0, -0.01, 0.0), 0.165, 0.12, 0.125),
        ball("spine.low", "jersey", (0.0, 0.03, 0.005), 0.165, 0.115, 0.13),
        ball("spine.mid", "jersey", (0.0, 0.025, 0.0), 0.168, 0.105, 0.13),
        ball("spine.high", "jersey", (0.0, 0.025, 0.0), 0.174, 0.11, 0.13),
        ball("chest", "jersey", (0.0, 0.06, 0.005), 0.185, 0.15, 0.13),
        Shape("spine.low", "ring", "belt", (0.0, -0.035, 0.0), (0.0, 1.0, 0.0), (0.148, 0.022)),
        Shape("neck.low", "ring", "scarf", (0.0, 0.01, 0.005), (0.0, 1.0, 0.1), (0.062, 0.036)),
        Shape("neck.low", "capsule", "skin", (0.0, -0.02, 0.0), (0.0, 0.035, 0.004), (0.055, 0.055)),
        Shape("neck.high", "capsule", "skin", (0.0, 0.0, 0.0), (0.0, 0.055, 0.006), (0.055, 0.055)),
        ball("head", "skin", (0.0, 0.105, 0.012), 0.116, 0.135, 0.122),
        ball("head", "skin", (0.0, 0.085, 0.138), 0.026, 0.024, 0.03),
        ball("head", "ink", (0.042, 0.115, 0.122), 0.011, 0.016, 0.011),
        ball("head", "ink", (-0.042, 0.115, 0.122), 0.011, 0.016, 0.011),
    ]  # fmt: skip
    shapes = [wide(s) for s in middle]
    for letter, sign in (("L", 1.0), ("R", -1.0)):

        def segment(upper: str, lower: str, tone: str, first: float, last: float, *, near: bool) -> list[Shape]:
            """Both halves of a segment: one on its joint, the other on its twist helper, which is the one `near` the body."""
            joint, helper = f"{upper}.{letter}", f"{upper}.twist.{letter}"  # noqa: B023
            end, at = np.array(reach(f"{lower}.{letter}")), np.array(reach(helper))  # noqa: B023
            cuts = ((0.0, 0.5), (0.5, 1.0)) if near else ((0.5, 1.0), (0.0, 0.5))
            by = build.girth(joint)
            sizes = [by * first, by * 0.5 * (first + last), by * last]
            return [
                Shape(on, "capsule", tone, tuple((a * end - off).tolist()), tuple((b * end - off).tolist()),
                      (sizes[int(2 * a)], sizes[int(2 * b)]))
                for on, (a, b), off in ((helper, cuts[0], at), (joint, cuts[1], np.zeros(3)))
            ]  # fmt: skip

        shapes += [
            bone(f"collar.{letter}" if build.collars else "chest", reach(f"upperarm.{letter}"), "jersey", 0.06, 0.075),
            *segment("upperarm", "forearm", "jersey", 0.068, 0.054, near=True),
            *segment("forearm", "hand", "jersey", 0.054, 0.042, near=False),
            wide(ball(f"hand.{letter}", "skin", (0.02 * sign, -0.025, 0.012), 0.034, 0.042, 0.038)),
            wide(ball(f"palm.{letter}", "skin", (0.012 * sign, -0.015, 0.002), 0.032, 0.04, 0.028)),
            *(bone(f"{n}{t}.{letter}", reach(f"{n}{u}.{letter}"), "skin", r, r - 0.001)
              for n in DIGITS for t, u, r in (("", ".mid", 0.0165), (".mid", ".tip", 0.0155))),
            *(bone(f"{n}.tip.{letter}", tip(f"{n}.tip.{letter}"), "skin", 0.0145, 0.013) for n in DIGITS),
            *segment("thigh", "shin", "trousers", 0.088, 0.068, near=True),
            *segment("shin", "foot", "trousers", 0.068, 0.052, near=False),
            Shape(f"shin.twist.{letter}", "capsule", "boot", (0.0, 0.035, 0.001), off(f"shin.twist.{letter}", f"foot.{letter}"),
                  tuple(build.girth(f"shin.{letter}") * v for v in (0.066, 0.06))),
            wide(ball(f"foot.{letter}", "boot", (0.002 * sign, -0.043, 0.028), 0.055, 0.05, 0.095)),
            wide(ball(f"toe.{letter}", "boot", (0.002 * sign, 0.008, 0.02), 0.054, 0.038, 0.07)),
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
                    (build.girth("forearm") * 0.047, build.girth("forearm") * 0.011),
                )
            )
    return shapes
