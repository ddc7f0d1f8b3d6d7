"""*Cast off*: Marl swings the mooring rope, throws it over the quay's bollard, and grips the rail of the rocking
deck. One fault is planted: the right arm pops as IK takes over on the rail."""

from __future__ import annotations

from fractions import Fraction
from functools import cache

import numpy as np

from ..core.channels import channel_id
from ..core.curves import FREE, SMOOTH, Curve, Key, curve
from ..core.operations import plant
from ..core.operations.handover import Handover, apply
from ..core.program import Program
from ..core.takes import Scene, Take, Tether
from ..core.transforms import Floats, multiply, quat_to_euler, rotate
from .ferry import BOLLARD, BOLLARD_HEAD, deck, on_deck, quay, rail, rope
from .marl import marl
from .people import NECK, SPINE, palm_turn
from .posing import (
    along,
    closed,
    collars,
    fingers,
    followed,
    in_chest,
    keyed,
    nudge,
    reach,
    steps,
    swing,
    through,
    touching,
)

LAST = 204
#: Frames: the rope leaves the hand; it lands; the left and the right hand take hold of the rail.
RELEASE, LANDING, GRIP_LEFT, GRIP_RIGHT = 74, 93, 108, 118
GRAVITY = 9.81 / 24.0**2
#: Frames the rope flies, and the place over the bollard that it flies to.
FLIGHT = LANDING - RELEASE
OVER = np.array([BOLLARD[0], BOLLARD_HEAD + 0.1, BOLLARD[2]])
#: Where hands and feet stand and hold: joint, on what, first and last frame.
CONTACTS = (
    ("foot.L", "deck", 0, 60), ("foot.L", "deck", 73, LAST), ("foot.R", "deck", 0, 60), ("foot.R", "deck", 102, LAST),
    ("hand.L", "rail", GRIP_LEFT, LAST), ("hand.R", "rail", GRIP_RIGHT, LAST),
)  # fmt: skip
#: The rope's place in the hand that holds it.
IN_HAND = (-0.035, -0.05, 0.0)


def ferry_scene() -> Scene:
    """The cast of *Cast off*."""
    return Scene("Chain ferry", (deck(), rail(), quay(), marl(), rope()))


def tethers() -> tuple[Tether, ...]:
    """What follows what: the set and the feet the deck, the hands the rail, the rope the right hand."""
    return (
        *on_deck(),
        Tether("rail", "marl", "arm.L.ik", "rail", "rail"),
        Tether("rail", "marl", "arm.R.ik", "rail", "rail"),
        Tether("hand", "rope", "rope", "marl", "hand.R", offset=(*IN_HAND, 0.0, 0.0, np.sqrt(0.5), np.sqrt(0.5))),
    )


@cache
def cast_off() -> tuple[Scene, Take]:
    """The scene and its take."""
    scene = ferry_scene()
    take = Take("Cast off", Fraction(24), 0, LAST, tethers=tethers())
    take = take.with_curves({**rocking(LAST), **_body(), **_feet(), **_follows(), **_fingers()})
    take = _arms(scene, take)
    take = _rope(scene, take)
    take = _grips(scene, take)
    return scene, touching(take, CONTACTS)


def rocking(last: int) -> dict[str, Curve]:
    """The deck on the tide."""
    return keyed("deck", {
        "deck.rz": swing(68, 2.6, -6, last),
        "deck.rx": swing(92, 1.3, -20, last),
        "deck.ty": swing(80, 0.022, -10, last),
    })  # fmt: skip


def _body() -> dict[str, Curve]:
    """Hips in the deck's space, spine and head: weight goes back with the swings, forward with the throw, and
    down into the knees when the deck comes up under the grip."""
    return keyed("marl", {
        "hips.tx": [(0, -0.02), (22, -0.06), (38, 0.01), (56, -0.085), (72, 0.04), (84, 0.05), (100, 0.01), (118, -0.01), (140, 0.025), (164, -0.03), (188, 0.02), (204, 0.0)],
        "hips.ty": [(0, -0.035), (12, -0.045), (22, -0.07), (38, -0.03), (56, -0.125), (66, -0.08), (72, -0.05), (80, -0.075), (96, -0.065), (108, -0.045), (122, -0.085), (140, -0.05), (164, -0.095), (188, -0.055), (204, -0.06)],
        "hips.tz": [(0, 0.0), (22, -0.05), (38, 0.02), (56, -0.09), (72, 0.11), (80, 0.17), (96, 0.235), (108, 0.27), (122, 0.295), (140, 0.255), (164, 0.29), (188, 0.265), (204, 0.27)],
        "hips.ry": [(0, -8), (22, -22), (38, 2), (56, -34), (72, 18), (82, 22), (98, 8), (112, 0), (140, 3), (164, -4), (204, 0)],
        "hips.rx": [(0, 2), (22, -2), (38, 4), (56, -3), (72, 7), (84, 10), (108, 10), (122, 14), (140, 9), (164, 13), (188, 9), (204, 10)],
        "hips.rz": [(0, 2), (22, 4), (38, -1), (56, 5), (72, -4), (96, 0), (140, -2.5), (164, 2.5), (188, -2), (204, 0)],
        **along(SPINE, "ry", [(0, -9), (24, -28), (40, 10), (57, -40), (73, 22), (84, 24), (104, 5), (204, 0)]),
        **along(SPINE, "rx", [(0, 5), (24, -4), (40, 12), (57, -13), (74, 9), (88, 17), (110, 16), (124, 25), (142, 13), (166, 22), (204, 16)]),
        "chest.rz": [(0, -2), (24, -5), (40, 1), (57, -6), (74, 5), (98, 0), (142, 3), (166, -3), (190, 2), (204, 0)],
        **along(NECK[:2], "ry", [(0, 6), (24, 16), (40, -2), (57, 22), (73, -9), (86, -9), (104, -2), (204, 0)]),
        "head.ry": [(0, 8), (26, 20), (42, -2), (58, 26), (74, -10), (88, -10), (106, -4), (128, 2), (204, 4)],
        "head.rx": [(0, 4), (26, 6), (42, 2), (58, 8), (74, -10), (82, -14), (94, -6), (104, 12), (114, 14), (130, -12), (150, -14), (170, -10), (204, -12)],
        "head.rz": [(0, 0), (58, -4), (76, 3), (142, -3), (166, 3), (204, 0)],
        **collars({
            "collar.R.rz": [(0, 0), (57, -4), (73, -14), (84, -8), (104, -4), (118, -7), (204, -6)],
            "collar.L.rz": [(0, 0), (57, 8), (73, 2), (104, 6), (204, 6)],
            "collar.R.ry": [(0, 0), (57, -6), (74, 14), (96, 6), (118, 8), (204, 8)],
            "collar.L.ry": [(0, 0), (57, -8), (74, 2), (108, -8), (204, -8)],
        }),
    })  # fmt: skip


def _feet() -> dict[str, Curve]:
    """Both feet stand on the deck; the left one steps into the throw, the right one follows to the rail."""
    curves = keyed("marl", {
        "leg.L.ik.tx": [(0, 0.035), (60, 0.035), (72, 0.055), (204, 0.055)],
        "leg.L.ik.ty": [(0, 0.0), (60, 0.0), (66, 0.075), (72, 0.0), (204, 0.0)],
        "leg.L.ik.tz": [(0, 0.06), (60, 0.06), (72, 0.33), (204, 0.33)],
        "leg.L.ik.roll": [(0, 0), (60, 0), (65, 12), (69, -14), (73, 0), (204, 0)],
        "leg.L.ik.ry": [(0, 14), (60, 14), (72, 8), (204, 8)],
        "leg.R.ik.tx": [(0, -0.06), (88, -0.06), (101, -0.055), (204, -0.055)],
        "leg.R.ik.ty": [(0, 0.0), (86, 0.0), (94, 0.05), (101, 0.0), (204, 0.0)],
        "leg.R.ik.tz": [(0, -0.14), (86, -0.14), (101, 0.19), (204, 0.19)],
        "leg.R.ik.roll": [(0, 0), (60, 0), (74, 24), (86, 34), (95, 6), (98, -10), (102, 0), (204, 0)],
        "leg.R.ik.ry": [(0, -28), (60, -28), (88, -18), (101, -12), (204, -12)],
        "leg.L.ik.swivel": [(0, -8), (72, -4), (204, -4)],
        "leg.R.ik.swivel": [(0, 14), (88, 10), (101, 6), (204, 6)],
    })  # fmt: skip
    for letter in "LR":
        curves[channel_id("marl", f"leg.{letter}", "drive")] = steps((0, 1.0))
    return curves


def _follows() -> dict[str, Curve]:
    curves: dict[str, Curve] = {}
    for tether in tethers():
        curves |= followed(tether, (0, 1.0), (RELEASE, 0.0)) if tether.name == "hand" else followed(tether, (0, 1.0))
    return curves


def _fingers() -> dict[str, Curve]:
    """Curl: the right hand holds the rope, opens to let it go; then both are open until they close on the rail."""
    right = [(0, 62), (RELEASE - 3, 62), (RELEASE, 10), (GRIP_RIGHT - 8, 6)]
    left = [(0, 22), (56, 16), (74, 30), (GRIP_LEFT - 8, 4)]
    return fingers(right, left)


def on_rail(
    program: Program, frame: float, letter: str, aside: float = 0.0, about: float = 0.0
) -> tuple[Floats, Floats]:
    """Place and rotation of a hand that holds the bar, where the deck has it at this frame; `aside` (metres) along the bar from where it
    is usually, and turned about it (radians)."""
    poses = program.evaluate([frame])
    node = program.nodes["rail", "rail"]
    x = 0.27 if letter == "L" else -0.25
    here, turn = poses.pos[0, node], poses.rot[0, node]
    grip = palm_turn(letter, (0.16 if letter == "R" else -0.16, -0.42, 0.9), (0.0, -0.9, -0.42))
    turn = multiply(turn, np.array([np.sin(0.5 * about), 0.0, 0.0, np.cos(0.5 * about)]))
    return here + rotate(turn, np.array([x + aside, 0.074, -0.046])), multiply(turn, grip)


def _arms(scene: Scene, take: Take) -> Take:
    """FK throughout: rows give places in the space of the chest as it stands at that frame."""
    program = Program(scene, take)
    down_r, down_l = (
        palm_turn("R", (-0.1, -1.0, 0.15), (1.0, 0.0, 0.0)),
        palm_turn("L", (0.1, -1.0, 0.15), (-1.0, 0.0, 0.0)),
    )
    back = palm_turn("R", (-0.35, -0.75, -0.55), (0.9, 0.0, -0.3))
    front = palm_turn("R", (0.05, -0.35, 0.95), (0.95, 0.1, -0.1))
    thrown = palm_turn("R", (0.1, 0.25, 0.97), (0.5, -0.85, 0.1))
    reachout = palm_turn("R", (0.0, -0.15, 1.0), (0.1, -1.0, -0.1))
    right = [
        (0, (-0.34, 0.84, 0.06), down_r, 0.0),
        (22, (-0.42, 0.90, -0.24), back, -8.0),
        (38, (-0.22, 0.92, 0.36), front, 0.0),
        (57, (-0.46, 1.02, -0.36), back, -14.0),
        (67, (-0.27, 0.86, 0.06), down_r, -8.0),
        (81, (-0.10, 1.66, 0.46), thrown, 8.0),
        (92, (-0.20, 1.22, 0.44), reachout, 6.0),
        (106, (-0.30, 1.16, 0.36), reachout, 0.0),
    ]
    guard = palm_turn("L", (-0.25, -0.1, 1.0), (-0.5, -0.85, 0.0))
    left = [
        (0, (0.33, 0.86, 0.10), down_l, 0.0),
        (22, (0.34, 0.98, 0.26), guard, 0.0),
        (38, (0.38, 0.88, 0.02), down_l, 0.0),
        (57, (0.30, 1.18, 0.36), guard, -6.0),
        (RELEASE, (0.44, 0.98, -0.12), down_l, 10.0),
        (86, (0.42, 1.02, 0.10), down_l, 4.0),
        (98, (0.28, 1.12, 0.40), guard, 0.0),
    ]
    # FK keeps the hands on the bar for some frames after the grip, so that they arrive at its speed.
    for letter, table, grip, swivel in (("R", right, GRIP_RIGHT, -4.0), ("L", left, GRIP_LEFT, 4.0)):
        held = [(t, *on_rail(program, t, letter), swivel) for t in (grip, grip + 3, grip + 8)]
        free = in_chest(program, table)
        if letter == "R":
            # The hand goes through the release at the speed that carries the rope to the bollard.
            ((_, place, turn, _),) = in_chest(program, [(RELEASE, (-0.18, 1.42, 0.50), thrown, 0.0)])
            start = place + rotate(turn, np.array(IN_HAND))
            throw = (OVER - start) / FLIGHT + np.array([0.0, 0.5 * GRAVITY * FLIGHT, 0.0])
            free += [(RELEASE + k, place + k * throw, turn, 4.0) for k in (-3, 0, 2)]
        take = reach(scene, take, "marl", f"arm.{letter}", sorted([*free, *held], key=lambda row: row[0]))
        if letter == "R":
            take = through(scene, take, "marl", "arm.R", (RELEASE, place, turn, 4.0), throw)
    return take


def _rope(scene: Scene, take: Take) -> Take:
    """The rope leaves the hand with the speed it has there, flies over the bollard, and drops round it."""
    program = Program(scene, take)
    node, space = program.nodes["rope", "rope"], program.nodes["rope", "rope", "space"]
    held = program.evaluate([RELEASE - 1e-6])
    free = program.evaluate([RELEASE])
    start = held.pos[0, node] - free.pos[0, space]
    over = OVER - free.pos[0, space]
    span = FLIGHT
    # The hand goes at this speed there: see `through`.
    thrown = (over - start) / span + np.array([0.0, 0.5 * GRAVITY * span, 0.0])
    step = 1.0 / 32.0
    earlier = program.evaluate([RELEASE - step]).rot[0, node]
    turned = quat_to_euler(2, tuple(held.rot[0, node].tolist()), 0.0, 0.0, 0.0)
    before = quat_to_euler(2, tuple(earlier.tolist()), *turned)
    fall = thrown - np.array([0.0, GRAVITY * span, 0.0])
    curves = {}
    for axis, letter in enumerate("xyz"):
        down = over[axis] - (BOLLARD_HEAD - 0.2 if axis == 1 else 0.0)
        keys = [
            Key(RELEASE, 0.0, start[axis], 0.0, float(thrown[axis]), SMOOTH, FREE),
            Key(
                LANDING,
                over[axis],
                over[axis],
                fall[axis],
                fall[axis] * (1.0 if axis == 1 else 0.2),
                SMOOTH,
                FREE,
            ),
            Key(LANDING + 5, down, down, -0.05 if axis == 1 else 0.0, 0.0, SMOOTH, FREE),
        ]
        curves[channel_id("rope", "rope", f"t{letter}")] = curve(keys)
        angle = float(turned[axis])
        flat = {0: 2.0 * np.pi, 1: angle + 1.2, 2: 0.0}[axis]
        spin = (flat - angle) / span
        curves[channel_id("rope", "rope", f"r{letter}")] = curve([
            Key(RELEASE, 0.0, angle, 0.0, (angle - float(before[axis])) / step, SMOOTH, FREE),
            Key(LANDING, flat, flat, spin * 0.6, spin * 0.3, SMOOTH, FREE),
            Key(LANDING + 5, flat + 0.1, flat + 0.1, 0.0, 0.0, SMOOTH, FREE),
        ])  # fmt: skip
    return take.with_curves(curves)


def _grips(scene: Scene, take: Take) -> Take:
    """Both hands are handed over to IK on the rail; the right one then gets its planted pop."""
    for letter, frame in (("L", GRIP_LEFT), ("R", GRIP_RIGHT)):
        asked = Handover((("marl", f"arm.{letter}"),), "ik", frame, None, "hold", settle=3 if letter == "L" else 0)
        take, _ = apply(Program(scene, take), asked)
        take = closed(scene, take, letter, "rail", float(frame), None, 8)
    take, _ = plant.apply(Program(scene, take), plant.Plant((("marl", "arm.L"),), "rail/rail", GRIP_LEFT, LAST))
    program = Program(scene, take)
    limb, posed = program.bound("marl", "arm.R"), program.evaluate([GRIP_RIGHT])
    (end,) = limb.controls
    # It holds the bar as well there, but not where it arrives.
    place, turn = on_rail(program, GRIP_RIGHT, "R", -0.067, 0.25)
    now = {c: float(program.curve(c).numbers[0, 2]) for c in limb.systems["ik"].channels}
    elsewhere = limb.systems["ik"].system.drag(limb, program.posed(limb, posed), end, place, turn, now)
    elsewhere[limb.own[end, "swivel"]] = now[limb.own[end, "swivel"]] + 0.3
    names = program.channel_names()
    for c, value in elsewhere.items():
        take = nudge(take, names[c], GRIP_RIGHT, value - now[c])
    return take
