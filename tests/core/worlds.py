"""Random rigs, curves and takes for property tests."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import numpy as np
from numpy.random import Generator

from yielding_tether.core.cast import Member
from yielding_tether.core.channels import channel_id
from yielding_tether.core.curves import FREE, LINEAR, SMOOTH, Curve, Key, curve
from yielding_tether.core.parts import FkPart, FreePart, LimbPart
from yielding_tether.core.skeleton import Joint, Skeleton
from yielding_tether.core.takes import Scene, Take, Tether
from yielding_tether.core.transforms import ORDERS


def unit(rng: Generator, size: int) -> tuple[float, ...]:
    v = rng.normal(size=size)
    return tuple((v / np.linalg.norm(v)).tolist())


def order(rng: Generator) -> str:
    return ORDERS[rng.integers(6)]


def with_helpers(bones: Skeleton, *joints: str) -> Skeleton:
    """The same skeleton with a helper joint half-way to each of these, called "in" and its name."""
    rows: list[Joint] = []
    at: dict[str, int] = {}
    for joint in bones.joints:
        parent = at[bones.joints[joint.parent].name] if joint.parent >= 0 else -1
        offset = joint.offset
        if joint.name in joints:
            offset = tuple(0.5 * x for x in joint.offset)  # type: ignore[assignment]
            rows.append(Joint(f"in {joint.name}", parent, offset))
            parent = len(rows) - 1
        at[joint.name] = len(rows)
        rows.append(replace(joint, parent=parent, offset=offset))
    return Skeleton(tuple(rows))


def limb_member(rng: Generator, name: str = "arm", *, straight_rest: bool = False, moves: bool = False) -> Member:
    """A root, a carrier and one limb with random lengths, rest rotations, hinge and rotation orders."""
    lengths = np.exp(rng.uniform(np.log(0.15), np.log(0.6), 2))
    first = np.array(unit(rng, 3))
    mid_rest = (0.0, 0.0, 0.0, 1.0) if straight_rest else unit(rng, 4)
    second = first if straight_rest else np.array(unit(rng, 3))
    joints = (
        Joint("root", -1, tuple(rng.uniform(-2, 2, 3).tolist()), unit(rng, 4)),
        Joint("carrier", 0, tuple(rng.uniform(-0.3, 0.3, 3).tolist()), unit(rng, 4)),
        Joint("upper", 1, tuple(rng.uniform(-0.2, 0.2, 3).tolist()), unit(rng, 4)),
        Joint("lower", 2, tuple((first * lengths[0]).tolist()), mid_rest),
        Joint("end", 3, tuple((second * lengths[1]).tolist()), unit(rng, 4)),
    )
    return Member(
        name, name.title(), "character", Skeleton(joints),
        (
            FreePart("body", "body", "root", order(rng)),
            FkPart("carrier", "carrier", ("carrier",), (order(rng),), (False,)),
            LimbPart(
                "limb", "limb", ("upper", "lower", "end"), (order(rng), order(rng), order(rng)),
                unit(rng, 3), order(rng), "left", (False, moves, moves),
            ),
        ),
    )  # fmt: skip


def prop(name: str, at: tuple[float, float, float] = (0.0, 0.0, 0.0)) -> Member:
    """A single joint that can be tethered."""
    return Member(name, name.title(), "prop", Skeleton((Joint(name, -1, at),)), (FreePart(name, name, name),))


def random_curve(rng: Generator, last: int, spread: float, count: int = 6, kinds: tuple[int, ...] = (SMOOTH,)) -> Curve:
    """Keys at random whole frames with free slopes."""
    times = np.sort(rng.choice(last + 1, size=count, replace=False))
    keys = []
    for t in times:
        value = float(rng.uniform(-spread, spread))
        slope = float(rng.normal() * spread / last * 4)
        keys.append(Key(float(t), value, value, slope, slope, kinds[rng.integers(len(kinds))], FREE))
    return curve(keys)


def random_take(
    rng: Generator,
    members: tuple[Member, ...],
    last: int = 60,
    spread: float = 0.7,
    kinds: tuple[int, ...] = (SMOOTH, SMOOTH, LINEAR),
    skip: tuple[str, ...] = ("drive", "bend", "captured", "carry", "twist"),
) -> Take:
    """Curves on every channel of the cast but the skipped ones and seldom ones; lengths move by a twentieth as much."""
    curves = {}
    for member in members:
        for part in member.parts:
            for c in part.channels():
                if c.name in skip or c.seldom:
                    continue
                size = spread if c.kind == "angle" else 0.1 * spread
                if not c.system:
                    size = 0.03
                curves[channel_id(member.id, c.control, c.name)] = random_curve(rng, last, size, kinds=kinds)
    return Take("random", Fraction(24), 0, last, curves)


def stepped(*steps: tuple[float, float]) -> Curve:
    """A stepped curve: (frame, value) from there on; the value before is that of the first."""
    keys = []
    before = steps[0][1]
    for time, value in steps:
        keys.append(Key(float(time), before, value, kind=0, rule=FREE))
        before = value
    return curve(keys)


def growing(rng: Generator, members: tuple[Member, ...], last: int = 60) -> dict[str, Curve]:
    """Sizes of all roots between a half and two, each about a point of its own, smoothly growing and shrinking."""
    curves = {}
    for member in members:
        for part in member.parts:
            for c in part.channels() if part.free else ():
                name = channel_id(member.id, c.control, c.name)
                if c.kind == "scale":
                    ends = np.exp(rng.uniform(-0.69, 0.69, 2))
                    keys = zip((0.0, float(last)), ends.tolist(), strict=True)
                    curves[name] = curve([Key(t, v, v, 0.0, 0.0, SMOOTH, FREE) for t, v in keys])
                elif c.name.startswith("about."):
                    curves[name] = stepped((0, float(rng.uniform(-1.0, 1.0))))
    return curves


def weights(tether: Tether, steps: Curve) -> dict[str, Curve]:
    return dict.fromkeys(tether.weights, steps)


def scene(*members: Member) -> Scene:
    return Scene("random", members)
