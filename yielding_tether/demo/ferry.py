"""The ferry's set pieces and props: rocking deck, rail, bollard, quay, mooring rope."""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from ..core.cast import Grip, Member, Shape
from ..core.parts import ChainPart, FreePart
from ..core.skeleton import Joint, Skeleton
from ..core.takes import Tether
from .posing import grip_turn

V = tuple[float, float, float]

#: Height of the rail's bar above the deck, and its distance ahead of the middle.
RAIL_HEIGHT, RAIL_AHEAD = 0.98, 0.72
#: Where the quay's bollard stands, and the height of its head above the water's level of zero.
BOLLARD: V = (-0.35, 0.0, 2.9)
BOLLARD_HEAD = 0.42
#: Where the lantern's hook hangs over the deck.
HOOK: V = (0.46, 1.5, 0.56)


def piece(id: str, name: str, kind: str, at: V, shapes: list[Shape], grips: tuple[Grip, ...] = ()) -> Member:
    return Member(
        id,
        name,
        kind,
        Skeleton((Joint(id, -1, at),)),
        (FreePart(id, name.lower(), id, "yxz"),),
        tuple(shapes),
        grips=grips,
    )  # type: ignore[arg-type]


def on_deck(*crew: str) -> tuple[Tether, ...]:
    """What goes with the deck in every take: the rail, roots and both feet of the crew, by default Marl's."""
    roots = {"pip": "root"}
    controls = [(who, c) for who in crew or ("marl",) for c in (roots.get(who, "hips"), "leg.L.ik", "leg.R.ik")]
    return tuple(Tether("deck", member, control, "deck", "deck") for member, control in [("rail", "rail"), *controls])


def deck() -> Member:
    """The deck: its top is the height zero at rest, its middle the point about which it rocks."""
    planks = [
        Shape(
            "deck",
            "block",
            "plank" if n % 2 else "plank2",
            (-1.2 + 0.3 * n, -0.03, -0.1),
            size=(0.29, 0.06, 2.1),
        )
        for n in range(9)
    ]
    hull = [
        Shape("deck", "block", "hull", (0.0, -0.17, -0.1), size=(2.74, 0.22, 2.24)),
        Shape("deck", "block", "hulltrim", (0.0, -0.045, 0.99), size=(2.74, 0.09, 0.06)),
    ]
    return piece("deck", "Deck", "set", (0.0, 0.0, 0.0), planks + hull)


def rail() -> Member:
    """The rail at the deck's edge, its own piece so that hands can hold it."""
    bar = Shape("rail", "capsule", "rail", (-1.2, 0.0, 0.0), (1.2, 0.0, 0.0), (0.03, 0.03))
    low = Shape("rail", "capsule", "rail", (-1.2, -0.48, 0.0), (1.2, -0.48, 0.0), (0.018, 0.018))
    posts = [
        Shape("rail", "capsule", "rail", (x, -RAIL_HEIGHT, 0.0), (x, 0.0, 0.0), (0.026, 0.026))
        for x in (-1.2, -0.6, 0.6, 1.2)
    ]
    return piece("rail", "Rail", "set", (0.0, RAIL_HEIGHT, RAIL_AHEAD), [bar, low, *posts])


def quay() -> Member:
    """The landing: stones and the bollard that the rope is thrown over."""
    x, y, z = BOLLARD
    shapes = [
        Shape("quay", "block", "stone", (0.0, -0.2, 0.65), size=(4.4, 0.4, 2.0)),
        Shape("quay", "block", "stone2", (0.0, -0.03, -0.28), size=(4.44, 0.1, 0.16)),
        Shape("quay", "capsule", "iron", (x, y, 0.1), (x, y + BOLLARD_HEAD - 0.09, 0.1), (0.1, 0.085)),
        Shape("quay", "ball", "iron", (x, y + BOLLARD_HEAD - 0.06, 0.1), size=(0.13, 0.06, 0.13)),
    ]
    return piece("quay", "Quay", "set", (0.0, 0.0, z - 0.1), shapes)


def lookout() -> Member:
    """A camera on the quay that sees all of the deck."""
    at, look = np.array([1.55, 1.5, 3.3]), np.array([0.1, 0.85, 0.1])
    back = (at - look) / np.linalg.norm(at - look)
    side = np.cross([0.0, 1.0, 0.0], back)
    side /= np.linalg.norm(side)
    turn = Rotation.from_matrix(np.stack([side, np.cross(back, side), back], axis=1)).as_quat()
    shapes = (
        Shape("lookout", "block", "iron", (0.0, 0.0, 0.07), size=(0.1, 0.12, 0.16)),
        Shape("lookout", "capsule", "iron", (0.0, 0.0, 0.0), (0.0, 0.0, -0.05), (0.03, 0.042)),
    )
    joint = Joint("lookout", -1, (float(at[0]), float(at[1]), float(at[2])), tuple(turn.tolist()))
    return Member(
        "lookout", "Lookout", "camera", Skeleton((joint,)), (FreePart("lookout", "lookout", "lookout", "yxz"),), shapes
    )


def rope() -> Member:
    """The mooring rope: a coil with its loop."""
    rings = [
        Shape(
            "rope",
            "ring",
            "rope",
            (0.0, 0.028 * n - 0.042, 0.0),
            (0.04 * (n % 2), 1.0, 0.0),
            (0.15 - 0.008 * (n % 2), 0.016),
        )
        for n in range(4)
    ]
    # Held at its edge, the fingers round the turns.
    edges = tuple(
        Grip(name, "rope", (0.15 * x, 0.0, 0.15 * z), grip_turn((0.0, 1.0, 0.0), (-x, 0.0, -z)))
        for name, x, z in (
            ("near edge", 0.0, -1.0),
            ("far edge", 0.0, 1.0),
            ("left edge", 1.0, 0.0),
            ("right edge", -1.0, 0.0),
        )
    )
    return piece("rope", "Mooring rope", "prop", (0.0, 0.1, -0.6), rings, edges)


def crate() -> Member:
    """A crate on the deck, low enough to sit on."""
    shapes = [Shape("crate", "block", "crate", (0.0, 0.0, 0.0), size=(0.46, 0.34, 0.4))]
    for side in (-1.0, 1.0):
        shapes.append(Shape("crate", "block", "plank2", (0.0, 0.12 * side, 0.0), size=(0.475, 0.045, 0.415)))
        shapes.append(Shape("crate", "ring", "rope", (0.235 * side, 0.02, 0.0), (1.0, 0.0, 0.0), (0.055, 0.011)))
    ends = tuple(
        Grip(name, "crate", (0.29 * x, 0.02, 0.0), grip_turn((0.0, -0.3, 1.0), (-x, 0.0, 0.0)))
        for name, x in (("left rope", 1.0), ("right rope", -1.0))
    )
    return piece("crate", "Crate", "prop", (0.0, 0.17, -0.62), shapes, ends)


#: Links of the strap, their length, and how far it sags at rest.
LINKS, LINK, SAG = 8, 0.12, 0.14


def strap() -> Member:
    """A strap of many links: its near end is its root, its far end the end of a chain."""
    x = np.linspace(-0.5, 0.5, LINKS + 1)
    dip = np.stack([np.zeros(len(x)), 4.0 * SAG * (x * x - 0.25), x], axis=1)
    steps = np.diff(dip, axis=0)
    steps *= LINK / np.linalg.norm(steps, axis=1, keepdims=True)
    names = [f"link{k}" for k in range(LINKS + 1)]
    joints = [Joint("strap", -1, (0.0, 1.0, -0.45)), Joint(names[0], 0, (0.0, 0.0, 0.0))]
    joints += [Joint(n, k + 1, tuple(s.tolist())) for k, (n, s) in enumerate(zip(names[1:], steps, strict=True))]
    shapes = [
        Shape(n, "capsule", "strap", (0.0, 0.0, 0.0), tuple(s.tolist()), (0.017, 0.017))
        for n, s in zip(names[:-1], steps, strict=True)
    ]
    shapes += [
        Shape("strap", "ring", "strap", (0.0, 0.0, 0.0), (0.0, 0.0, 1.0), (0.045, 0.014)),
        Shape(names[-1], "ring", "strap", (0.0, 0.0, 0.0), (0.0, 0.0, 1.0), (0.045, 0.014)),
    ]
    many = len(names)
    across = (-1.0, 0.0, 0.0)
    chain = ChainPart(
        "line", "line", tuple(names), ("yxz",) * many, many // 2, across, (across,) * many, (0.9,) * many, "yxz"
    )
    ends = tuple(
        Grip(name, joint, (0.0, 0.0, 0.0), grip_turn((1.0, 0.0, 0.0), (0.0, -1.0, 0.0)))
        for name, joint in (("near end", "strap"), ("far end", names[-1]))
    )
    parts = (FreePart("strap", "strap", "strap", "yxz"), chain)
    return Member("strap", "Strap", "prop", Skeleton(tuple(joints)), parts, tuple(shapes), grips=ends)


def hook() -> Member:
    """A post with an arm and the hook that the lantern hangs on."""
    y = HOOK[1]
    shapes = [
        Shape("hook", "capsule", "rail", (0.34, -y, 0.1), (0.34, 0.22, 0.1), (0.034, 0.028)),
        Shape("hook", "capsule", "rail", (0.34, 0.16, 0.1), (-0.02, 0.2, 0.0), (0.02, 0.017)),
        Shape("hook", "capsule", "iron", (0.0, 0.19, 0.0), (0.0, 0.03, 0.0), (0.008, 0.008)),
        Shape("hook", "ring", "iron", (0.0, 0.0, 0.0), (0.0, 0.0, 1.0), (0.026, 0.007)),
    ]
    held = Grip("hook", "hook", (0.0, -0.03, 0.0), grip_turn((0.0, 0.0, 1.0), (0.0, -1.0, 0.0)))
    return piece("hook", "Hook", "set", HOOK, shapes, (held,))


def lantern() -> Member:
    """The lantern: its joint is the middle of its body, its handle is above."""
    shapes = [
        Shape("lantern", "capsule", "iron", (0.0, -0.1, 0.0), (0.0, -0.085, 0.0), (0.075, 0.07)),
        Shape("lantern", "capsule", "glow", (0.0, -0.04, 0.0), (0.0, 0.03, 0.0), (0.058, 0.052)),
        Shape("lantern", "capsule", "iron", (0.0, 0.085, 0.0), (0.0, 0.12, 0.0), (0.066, 0.03)),
        Shape("lantern", "ring", "iron", (0.0, 0.2, 0.0), (0.0, 0.0, 1.0), (0.06, 0.008)),
    ]
    handle = Grip("handle", "lantern", (0.0, 0.25, 0.0), grip_turn((0.0, 0.0, 1.0), (0.0, -1.0, 0.0)))
    return piece("lantern", "Lantern", "prop", (-0.3, 1.0, 0.4), shapes, (handle,))
