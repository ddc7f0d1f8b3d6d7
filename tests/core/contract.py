"""What every part and every system must keep, whatever it is: a new part brings its tests by being registered here.

`EXAMPLES` has a maker of random bodies for each registered kind of part; all tests of test_contract.py run over all of
them, keyed and captured.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, fields, replace
from typing import Any

import numpy as np
from numpy.random import Generator

from yielding_tether.core.cast import Member
from yielding_tether.core.curves import SMOOTH
from yielding_tether.core.parts import (
    PARTS,
    ArmPart,
    CentrePart,
    ChainArmPart,
    ChainLegPart,
    ChainPart,
    Finger,
    FkPart,
    FreePart,
    HandPart,
    LegPart,
    NeckPart,
    Part,
    Shrug,
    Sole,
    TwistPart,
)  # fmt: skip
from yielding_tether.core.program import Program
from yielding_tether.core.rig import Bound
from yielding_tether.core.skeleton import Joint, Skeleton
from yielding_tether.core.takes import Anchor, Capture, Take
from yielding_tether.core.transforms import Floats, inverse, multiply, rotate
from yielding_tether.core.values import PoseValue

from .worlds import growing, limb_member, order, random_take, scene, stepped, unit


@dataclass(frozen=True)
class Example:
    """A body with one part worth looking at."""

    member: Member
    part: str


def free(rng: Generator) -> Example:
    return Example(limb_member(rng), "body")


def anchor(rng: Generator) -> Example:
    """A place made by the animator; as a member of its own it is like any other."""
    made = Anchor("mark", "mark", unit(rng, 3), unit(rng, 4))  # type: ignore[arg-type]
    return Example(replace(made.member, kind="prop"), "anchor")


def centre(rng: Generator) -> Example:
    """A root with the body's centre under it, and a joint on that."""
    bones = Skeleton(tuple(
        Joint(n, k - 1, tuple(rng.uniform(-0.6, 0.6, 3).tolist()), unit(rng, 4)) for k, n in enumerate(("root", "hips", "spine"))
    ))  # fmt: skip
    parts = (
        FreePart("root", "root", "root", order(rng)), CentrePart("hips", "hips", "hips", order(rng)),
        FkPart("spine", "spine", ("spine",), (order(rng),), (False,)),
    )  # fmt: skip
    return Example(Member("body", "Body", "character", bones, parts), "hips")


def values(rng: Generator, joints: tuple[str, ...]) -> tuple[PoseValue, ...]:
    """Up to two named values that turn some joints, in one to three stages."""
    found = []
    for name in ("curl", "spread")[: int(rng.integers(3))]:
        some = tuple(j for j in joints if rng.random() < 0.7) or joints[:1]
        at = tuple(sorted(rng.uniform(0.05, 1.0, int(rng.integers(1, 4))).tolist()))
        found.append(PoseValue(name, some, at, tuple(tuple(unit(rng, 4) for _ in some) for _ in at)))  # type: ignore[misc]
    return tuple(found)


def joints(rng: Generator) -> Example:
    """A tree of joints, some of which move: a hand, say."""
    parents = (-1, 0, 1, 2, 1, 4, 1)
    names = ("root", "palm", "a1", "a2", "b1", "b2", "c1")
    bones = Skeleton(tuple(
        Joint(n, p, tuple(rng.uniform(-0.3, 0.3, 3).tolist()), unit(rng, 4))
        for n, p in zip(names, parents, strict=True)
    ))  # fmt: skip
    moves = tuple(bool(x) for x in rng.random(6) < 0.4)
    tree = FkPart("hand", "hand", names[1:], tuple(order(rng) for _ in range(6)), moves, values=values(rng, names[1:]))
    return Example(
        Member("tree", "Tree", "character", bones, (FreePart("root", "root", "root", order(rng)), tree)), "hand"
    )


def hand(rng: Generator) -> Example:
    """A palm with two fingers on it and one beside it, one with a nail; any axes and lengths."""
    tree = (
        ("root", -1), ("wrist", 0), ("palm", 1), ("a1", 2), ("a2", 3), ("a3", 4), ("nail", 5), ("b1", 2), ("b2", 7), ("b3", 8),
        ("c1", 1), ("c2", 10), ("c3", 11),
    )  # fmt: skip
    bones = Skeleton(tuple(
        Joint(n, p, tuple((rng.uniform(0.05, 0.3) * np.array(unit(rng, 3))).tolist()), unit(rng, 4)) for n, p in tree
    ))  # fmt: skip
    run = tuple(n for n, _ in tree[2:])
    part = HandPart(
        "hand", "hand", run, tuple(order(rng) for _ in run), tuple(bool(x) for x in rng.random(len(run)) < 0.3), "left",
        values=values(rng, run), fingers=tuple(Finger((k, k + 1, k + 2), unit(rng, 3)) for k in (1, 5, 8)),  # type: ignore[arg-type]
    )  # fmt: skip
    carrier = FkPart("wrist", "wrist", ("wrist",), (order(rng),), (False,))
    return Example(
        Member("body", "Body", "character", bones, (FreePart("root", "root", "root"), carrier, part)), "hand"
    )


def limb(rng: Generator) -> Example:
    seed = int(rng.integers(6))
    return Example(limb_member(rng, straight_rest=seed % 2 == 0, moves=seed % 3 == 0), "limb")


def sole(rng: Generator) -> Sole:
    """Any points and any ways."""
    points = (tuple(rng.uniform(-0.2, 0.2, 3).tolist()) for _ in range(5))
    return Sole(*points, unit(rng, 3), unit(rng, 3), float(rng.uniform(0.2, 1.5)))  # type: ignore[arg-type]


def leg(rng: Generator) -> Example:
    """Two segments and a foot with any axes and any sole, with a toe or without."""
    toe = bool(rng.random() < 0.7)
    names = ("root", "base", "thigh", "shin", "foot", *(("toe",) if toe else ()))
    bones = Skeleton(tuple(
        Joint(n, k - 1, tuple((rng.uniform(0.1, 0.5) * np.array(unit(rng, 3))).tolist()), unit(rng, 4)) for k, n in enumerate(names)
    ))  # fmt: skip
    run = names[2:]
    part = LegPart(
        "leg", "leg", run, tuple(order(rng) for _ in run), unit(rng, 3), order(rng), "left",  # type: ignore[arg-type]
        tuple(bool(x) for x in rng.random(len(run)) < 0.3),
        sole=sole(rng),
    )  # fmt: skip
    carrier = FkPart("carrier", "carrier", ("base",), (order(rng),), (False,))
    return Example(Member("body", "Body", "character", bones, (FreePart("root", "root", "root"), carrier, part)), "leg")


def arm(rng: Generator) -> Example:
    """Two segments behind a collarbone, with any axes, shares and set angles."""
    names = ("root", "base", "collar", "upper", "lower", "end")
    bones = Skeleton(tuple(
        Joint(n, k - 1, tuple((rng.uniform(0.1, 0.5) * np.array(unit(rng, 3))).tolist()), unit(rng, 4)) for k, n in enumerate(names)
    ))  # fmt: skip
    run = names[2:]
    part = ArmPart(
        "arm", "arm", run, tuple(order(rng) for _ in run), unit(rng, 3), order(rng), "left",  # type: ignore[arg-type]
        tuple(bool(x) for x in rng.random(4) < 0.3), shrug=shrug(rng),
    )  # fmt: skip
    carrier = FkPart("carrier", "carrier", ("base",), (order(rng),), (False,))
    return Example(Member("body", "Body", "character", bones, (FreePart("root", "root", "root"), carrier, part)), "arm")


def shrug(rng: Generator) -> Shrug:
    """Any axes, shares and set angles."""
    raised = np.array(unit(rng, 3))
    forward = np.cross(raised, unit(rng, 3))
    forward /= np.linalg.norm(forward)
    shares, past = (tuple(float(x) for x in rng.uniform(0.0, most, 2)) for most in (1.0, 1.5))
    return Shrug(tuple(raised.tolist()), tuple(forward.tolist()), shares, past)  # type: ignore[arg-type]


def chain(rng: Generator, can_share: bool = True) -> Example:
    """Three to six segments, some of them helper joints of no length, with any axes, hinges and curls."""
    count = int(rng.integers(4, 8))
    middle = int(rng.integers(1, count - 1))
    straight = bool(rng.random() < 0.3)
    way = np.array(unit(rng, 3))
    bones = [Joint("root", -1, (0.0, 1.0, 0.0), unit(rng, 4)), Joint("base", 0, (0.1, 0.0, 0.0), unit(rng, 4))]
    for k in range(count):
        direction = way if straight else np.array(unit(rng, 3))
        # A helper joint lies where its parent is; the joints about which the limb bends do not.
        length = (
            0.0 if 1 < k < count - 1 and k not in (middle, middle + 1) and rng.random() < 0.3 else rng.uniform(0.1, 0.5)
        )
        rest = (0.0, 0.0, 0.0, 1.0) if straight else unit(rng, 4)
        bones.append(Joint(f"c{k}", k + 1, tuple((direction * length).tolist()), rest))
    names = tuple(f"c{k}" for k in range(count))
    shares = rng.uniform(0.0, 1.0, count) if can_share and rng.random() < 0.5 else np.zeros(0)
    part = ChainPart(
        "chain", "chain", names, tuple(order(rng) for _ in names), middle, unit(rng, 3),
        tuple(unit(rng, 3) for _ in names), tuple(float(x) for x in rng.uniform(-2, 2, count)), order(rng), "left",
        tuple(bool(x) for x in rng.random(count) < 0.3), shares=tuple((0.9 * shares / max(shares.sum(), 1e-9)).tolist()),
    )  # fmt: skip
    carrier = FkPart("carrier", "carrier", ("base",), (order(rng),), (False,))
    member = Member(
        "chain", "Chain", "character", Skeleton(tuple(bones)), (FreePart("root", "root", "root"), carrier, part)
    )
    return Example(member, "chain")


def chain_leg(rng: Generator) -> Example:
    """A chain that ends in a foot with any sole, with a toe or without."""
    plain = chain(rng, can_share=False)
    bones, more = of_chain(plain)
    if toed := bool(rng.random() < 0.7):
        offset = (rng.uniform(0.1, 0.5) * np.array(unit(rng, 3))).tolist()
        bones = Skeleton((*bones.joints, Joint("toe", len(bones.joints) - 1, tuple(offset), unit(rng, 4))))
        more |= {name: (*more[name], x) for name, x in one_more(rng, "toe").items()}
    part = ChainLegPart(**more, sole=sole(rng), toed=toed)
    return replace(plain, member=replace(plain.member, skeleton=bones, parts=(*plain.member.parts[:-1], part)))


def chain_arm(rng: Generator) -> Example:
    """A chain behind a collarbone: what it hung from. Joints that an arm of two segments has are called as there."""
    plain = chain(rng, can_share=False)
    bones, more = of_chain(plain)
    run = more["joints"]
    called = {"base": "collar", run[0]: "upper", run[more["middle"]]: "lower", run[-1]: "end"}
    bones = Skeleton(tuple(replace(j, name=called.get(j.name, j.name)) for j in bones.joints))
    more |= {"name": "arm", "label": "arm", "joints": tuple(called.get(j, j) for j in run)}
    more |= {name: (x, *more[name]) for name, x in one_more(rng, "collar").items()} | {"middle": more["middle"] + 1}
    part = ChainArmPart(**more, shrug=shrug(rng))
    return Example(Member("body", "Body", "character", bones, (plain.member.parts[0], part)), "arm")


def of_chain(example: Example) -> tuple[Skeleton, dict[str, Any]]:
    """Skeleton and part of a chain, and what makes another of it."""
    part = example.member.parts[-1]
    assert isinstance(part, ChainPart)
    return example.member.skeleton, {f.name: getattr(part, f.name) for f in fields(part) if f.name != "kind"}


def one_more(rng: Generator, joint: str) -> dict[str, Any]:
    """What a chain says of a joint, for one that is none of its limb."""
    return {
        "joints": joint,
        "orders": order(rng),
        "hinges": unit(rng, 3),
        "curls": 0.0,
        "moves": bool(rng.random() < 0.3),
    }


def twist(rng: Generator) -> Example:
    """Two segments with a helper each: one holds back from its own segment's twist, one goes along with the end's."""
    places = (
        ("root", -1), ("base", 0), ("upper", 1), ("lower", 2), ("end", 3), ("upper.helper", 2), ("lower.helper", 3)
    )  # fmt: skip
    bones = Skeleton(tuple(Joint(n, p, tuple(rng.uniform(-0.4, 0.4, 3).tolist()), unit(rng, 4)) for n, p in places))
    names = ("base", "upper", "lower", "end")
    carrier = FkPart("limb", "limb", names, tuple(order(rng) for _ in names), (False,) * 4)
    helpers = TwistPart(
        "twists", "twists", ("upper.helper", "lower.helper"), (order(rng), order(rng)), ("upper", "end"),
        (unit(rng, 3), unit(rng, 3)), tuple(float(x) for x in rng.uniform(-1, 1, 2)),
    )  # fmt: skip
    root = FreePart("root", "root", "root", order(rng))
    return Example(Member("twisted", "Twisted", "character", bones, (root, carrier, helpers)), "twists")


def neck(rng: Generator) -> Example:
    """A run of one to four joints below a head, with something on it."""
    count = int(rng.integers(1, 5))
    names = ["root", "chest", *(f"neck{k}" for k in range(count)), "head", "hat"]
    bones = Skeleton(tuple(
        Joint(n, k - 1, tuple(rng.uniform(-0.3, 0.3, 3).tolist()), unit(rng, 4)) for k, n in enumerate(names)
    ))  # fmt: skip
    run = tuple(names[2:-1])
    shares = rng.uniform(0.1, 1.0, count)
    parts = (
        FreePart("root", "root", "root", order(rng)), FkPart("chest", "chest", ("chest",), (order(rng),), (False,)),
        NeckPart("head", "head", run, tuple(order(rng) for _ in run), tuple((0.9 * shares / shares.sum()).tolist()),
                 moves=tuple(bool(rng.random() < 0.3) for _ in run)),
        FkPart("hat", "hat", ("hat",), (order(rng),), (False,)),
    )  # fmt: skip
    return Example(Member("body", "Body", "character", bones, parts), "head")


EXAMPLES: dict[str, Callable[[Generator], Example]] = {
    "centre": centre, "own place": anchor, "free": free, "fk": joints, "limb": limb, "chain": chain, "twist": twist, "neck": neck,
    "footed limb": leg, "footed chain": chain_leg, "shouldered chain": chain_arm, "shouldered limb": arm, "fingered": hand,
}  # fmt: skip
assert set(EXAMPLES) == set(PARTS), "every registered part needs an example here"


def posed(rng: Generator, example: Example, spread: float = 0.6) -> Program:
    """The body with random smooth keys on everything but what switches."""
    skip = ("drive", "bend", "captured", "carry", "twist")
    return Program(
        scene(example.member), random_take(rng, (example.member,), spread=spread, kinds=(SMOOTH,), skip=skip)
    )


def captured(rng: Generator, example: Example) -> Program:
    """The same motion as a capture of the body, two frames a sample, with keys of its own under it."""
    program = posed(rng, example)
    frames = np.arange(0.0, 61.0, 2.0)
    offsets, turns = local_motion(program, example.member, frames)
    take = replace(program.take, captures={example.member.id: Capture(offsets, turns, 0.0, 2.0)})
    return Program(scene(example.member), take)


def local_motion(program: Program, member: Member, frames: Floats) -> tuple[Floats, Floats]:
    """Local offsets (F, J, 3) and rotations (F, J, 4) of a body at these frames, neighbours in one hemisphere."""
    nodes = program.joints([member.id])[1]
    poses = program.evaluate(frames)
    offsets, turns = poses.pos[:, nodes].copy(), poses.rot[:, nodes].copy()
    for j, p in enumerate(member.skeleton.parents):
        if p >= 0:
            back = inverse(poses.rot[:, nodes[p]])
            offsets[:, j] = rotate(back, poses.pos[:, nodes[j]] - poses.pos[:, nodes[p]])
            turns[:, j] = multiply(back, poses.rot[:, nodes[j]])
    for k in range(1, len(turns)):
        turns[k, np.sum(turns[k] * turns[k - 1], axis=-1) < 0.0] *= -1.0
    return offsets, turns


def programs(seed: int, kind: str) -> list[tuple[Program, Bound]]:
    """One random body of a kind of part, keyed and captured; every other grows and shrinks meanwhile."""
    rng = np.random.default_rng(seed)
    example = EXAMPLES[kind](rng)
    found = []
    sizes = growing(rng, (example.member,)) if seed % 2 else {}
    for program in (p.with_curves(sizes) for p in (posed(rng, example), captured(rng, example))):
        found.append((program, program.bound(example.member.id, example.part)))
    return found


def random_values(rng: Generator, bound: Bound, system: str, count: int) -> Floats:
    """(K, count) channel values of a system, any angle, places within reach of a body, either sign."""
    mine = bound.systems[system]
    values = rng.uniform(-np.pi, np.pi, (len(mine.channels), count))
    lengths = ~mine.wraps & ~mine.stepped
    values[lengths] = rng.uniform(-0.5, 0.5, (int(lengths.sum()), count))
    values[mine.stepped] = rng.choice([-1.0, 1.0], (int(mine.stepped.sum()), count))
    return values


def at_rest(example: Example) -> Program:
    """The body without keys."""
    return Program(scene(example.member), Take("rest", random_take(np.random.default_rng(0), ()).rate, 0, 1))


def driven(program: Program, bound: Bound, system: str) -> Program:
    """The program with one system of a part driving throughout."""
    names = program.channel_names()
    return program.with_curves({names[c]: stepped((0.0, v)) for c, v in bound.drive_to(system).items()})


def kinds() -> list[str]:
    return list(EXAMPLES)


__all__ = [
    "EXAMPLES",
    "Example",
    "Part",
    "at_rest",
    "captured",
    "driven",
    "kinds",
    "posed",
    "programs",
    "random_values",
]
