"""*Crate and rope*: Marl throws the coil to Pip, who stands on a crate at the rail; Pip catches it, turns to the quay and throws it
over the bollard, and Marl steps up and lays a hand on her shoulder. Both throws are flights. Two faults are planted: the
coil pops in Pip's hand as it is caught, and a follow of the crate that nobody uses."""

from __future__ import annotations

import itertools
from dataclasses import replace
from fractions import Fraction
from functools import cache

import numpy as np

from ..core.channels import channel_id
from ..core.curves import FREE, SMOOTH, STEPPED, Curve, Key, curve, put
from ..core.operations.flight import Flight
from ..core.operations.flight import apply as fly
from ..core.program import Program
from ..core.takes import Scene, Take, Tether
from ..core.transforms import Floats, multiply, quat_to_euler, rotate
from .cast_off import BOLLARD_HEAD, GRAVITY, OVER, rocking
from .ferry import crate, deck, lookout, on_deck, quay, rail, rope
from .marl import marl
from .people import NECK, SPINE, palm_turn
from .pip import pip
from .posing import Row, along, collars, fingers, followed, in_chest, keyed, reach, steps, through, touching

LAST = 156
#: Frames: Marl lets go, Pip catches; Pip lets go, the coil lands.
THROWN, CAUGHT, RELEASE, LANDING = 34, 49, 108, 126
#: Where the crate stands, and how high its top is.
CRATE, TOP = (-0.22, 0.42), 0.34
#: The coil in a hand.
QUARTER = (0.0, 0.0, float(np.sqrt(0.5)), float(np.sqrt(0.5)))
HANDS = {"marl": (-0.035, -0.05, 0.0), "pip": (-0.03, -0.045, 0.0)}


def crate_scene() -> Scene:
    """The cast of *Crate and rope*."""
    return Scene("Ferry with cargo", (deck(), rail(), quay(), marl(), pip(), crate(), rope(), lookout()))


def tethers() -> tuple[Tether, ...]:
    """Marl goes with the deck, Pip with the crate on it, the coil with the hand that holds it."""
    on_crate = (Tether("crate", "pip", c, "crate", "crate") for c in ("root", "leg.L.ik", "leg.R.ik"))
    held = (Tether(who, "rope", "rope", who, "hand.R", offset=(*at, *QUARTER)) for who, at in HANDS.items())
    return (*on_deck("marl"), Tether("deck", "crate", "crate", "deck", "deck"), *on_crate, *held)


@cache
def crate_and_rope() -> tuple[Scene, Take]:
    """The scene and its take."""
    scene = crate_scene()
    take = Take("Crate and rope", Fraction(24), 0, LAST, tethers=tethers())
    take = take.with_curves({**rocking(LAST), **_marl(), **_pip(), **_stands(), **_follows()})
    take = take.with_curves(
        fingers([(0, 62), (THROWN - 2, 62), (THROWN + 1, 8), (LAST, 24)], [(0, 20), (30, 34), (LAST, 24)])
    )
    caught = [(0, 16), (CAUGHT - 8, 4), (CAUGHT + 1, 62), (RELEASE - 2, 62), (RELEASE + 1, 8), (LAST, 22)]
    take = take.with_curves(fingers(caught, [(0, 14), (CAUGHT, 30), (LAST, 22)], "pip"))
    take = _arms(scene, take)
    take = _coil(scene, take)
    take = touching(take, [("foot.L", "deck", 0, 108), ("foot.L", "deck", 122, LAST), ("foot.R", "deck", 0, 28)])
    stood = [
        ("foot.L", "crate", 0, 60),
        ("foot.L", "crate", 80, LAST),
        ("foot.R", "crate", 0, 64),
        ("foot.R", "crate", 74, LAST),
    ]
    return scene, _plant(touching(take, stood, "pip"))


def _marl() -> dict[str, Curve]:
    """Marl draws back over the rear foot and throws underhand, following it up on his toes."""
    return keyed("marl", {
        "hips.tx": [(0, -0.10), (20, -0.16), (34, -0.06), (52, -0.08), (80, -0.1), (LAST, -0.1)],
        "hips.ty": [(0, -0.05), (20, -0.11), (28, -0.09), (36, -0.05), (52, -0.07), (80, -0.05), (102, -0.09), (112, -0.05), (126, -0.09), (138, -0.04), (LAST, -0.045)],
        "hips.tz": [(0, -0.78), (20, -0.87), (34, -0.68), (42, -0.64), (60, -0.70), (90, -0.72), (106, -0.56), (120, -0.30), (134, -0.10), (LAST, -0.08)],
        "hips.ry": [(0, -10), (20, -34), (34, 12), (42, 18), (60, 4), (LAST, 0)],
        "hips.rx": [(0, 2), (20, 4), (34, 8), (44, 4), (LAST, 2)],
        **along(SPINE, "ry", [(0, -8), (21, -34), (35, 20), (44, 24), (64, 4), (LAST, 0)]),
        **along(SPINE, "rx", [(0, 4), (21, 12), (35, 2), (46, -4), (70, 4), (LAST, 4)]),
        **along(NECK[:2], "ry", [(0, 6), (21, 24), (35, -8), (60, -2), (LAST, 0)]),
        "head.ry": [(0, 6), (21, 22), (35, -10), (60, 0), (LAST, -2)],
        "head.rx": [(0, 2), (21, 0), (36, -12), (48, -8), (100, -4), (112, -12), (126, -6), (LAST, -2)],
        **collars({
            "collar.R.rz": [(0, -2), (34, -10), (44, -14), (60, -2), (LAST, -2)],
        }),
    })  # fmt: skip


def _pip() -> dict[str, Curve]:
    """Pip reaches up for the coil, gives with it, turns about on the crate, winds up and throws."""
    table = {
        "hips.tx": [(0, -0.22), (CAUGHT, -0.22), (56, -0.24), (78, -0.22), (98, -0.26), (108, -0.21), (LAST, -0.22)],
        "hips.ty": [(0, 0.29), (40, 0.28), (CAUGHT, 0.30), (57, 0.235), (70, 0.29), (98, 0.235), (108, 0.285), (116, 0.27), (LAST, 0.29)],
        "hips.tz": [(0, 0.42), (40, 0.43), (57, 0.46), (78, 0.42), (98, 0.37), (108, 0.45), (116, 0.46), (LAST, 0.43)],
        "hips.ry": [(0, -172), (40, -168), (57, -150), (66, -140), (82, -40), (98, -36), (108, 14), (118, 16), (LAST, 2)],
        "hips.rx": [(0, 2), (CAUGHT, -4), (57, 8), (72, 2), (98, -4), (108, 6), (116, 8), (LAST, 2)],
        **along(SPINE, "ry", [(0, 4), (CAUGHT, -12), (57, 22), (72, 14), (98, -38), (109, 22), (120, 24), (LAST, 4)]),
        **along(SPINE, "rx", [(0, 4), (CAUGHT, -8), (57, 16), (72, 6), (98, -10), (109, 10), (120, 8), (LAST, 4)]),
        **along(NECK[:2], "ry", [(0, 2), (CAUGHT, 8), (57, -8), (72, 14), (98, 24), (109, -8), (LAST, -2)]),
        "head.rx": [(0, -8), (40, -16), (CAUGHT, -18), (57, 12), (72, 0), (108, -12), (116, -10), (128, 4), (LAST, 0)],
        "head.ry": [(0, 2), (CAUGHT, 4), (66, 20), (78, 24), (98, 20), (109, -8), (LAST, -4)],
    }  # fmt: skip
    # The crate has moved from where it rests, and Pip with it.
    for axis, by in (("hips.tx", CRATE[0]), ("hips.tz", CRATE[1] + 0.62)):
        table[axis] = [(t, v - by) for t, v in table[axis]]
    return keyed("pip", table)


def _stands() -> dict[str, Curve]:
    """Marl's feet on the deck, the rear one up on its toes after the throw; Pip's on the crate, turning about in small steps."""
    curves = keyed("crate", {"crate.tx": [(0, CRATE[0])], "crate.tz": [(0, CRATE[1] + 0.62)]})
    curves |= keyed("marl", {
        "leg.L.ik.tx": [(0, -0.10), (LAST, -0.10)], "leg.L.ik.tz": [(0, -0.62), (108, -0.62), (122, -0.02), (LAST, -0.02)], "leg.L.ik.ry": [(0, 10), (LAST, 10)],
        "leg.L.ik.ty": [(0, 0.0), (108, 0.0), (115, 0.07), (122, 0.0), (LAST, 0.0)],
        "leg.L.ik.roll": [(0, 0), (108, 0), (113, 16), (119, -12), (122, 0), (LAST, 0)],
        "leg.R.ik.tx": [(0, -0.12), (LAST, -0.12)], "leg.R.ik.tz": [(0, -0.88), (94, -0.88), (107, -0.42), (123, -0.42), (136, -0.12), (LAST, -0.12)],
        "leg.R.ik.ry": [(0, -34), (94, -34), (107, -16), (136, -12), (LAST, -12)],
        "leg.R.ik.ty": [(0, 0.0), (94, 0.0), (101, 0.07), (107, 0.0), (123, 0.0), (130, 0.06), (136, 0.0), (LAST, 0.0)],
        "leg.R.ik.roll": [(0, 0), (28, 0), (40, 34), (60, 30), (74, 0), (LAST, 0)],
    })  # fmt: skip
    rest = {letter: pip().skeleton.rest_pose[0][pip().skeleton.index[f"foot.{letter}"]] for letter in "LR"}
    # Where the feet stand on the crate, by frames: they turn about by turns.
    spots = {
        "L": [(0, -0.12, 0.40, -178), (60, -0.12, 0.40, -178), (68, -0.26, 0.30, -80), (80, -0.28, 0.46, 6), (LAST, -0.28, 0.46, 6)],
        "R": [(0, -0.31, 0.43, -150), (64, -0.31, 0.43, -150), (74, -0.14, 0.30, -30), (LAST, -0.14, 0.30, -30)],
    }  # fmt: skip
    for letter, rows in spots.items():
        x, _, z = rest[letter]
        # The crate has moved from where it rests: a foot at rest in it has gone along.
        table = {
            "tx": [(t, a - x - CRATE[0]) for t, a, _, _ in rows],
            "tz": [(t, b - z - CRATE[1] - 0.62) for t, _, b, _ in rows],
            "ry": [(t, float(r)) for t, _, _, r in rows],
            "ty": _lifts(rows),
        }
        curves |= keyed("pip", {f"leg.{letter}.ik.{c}": keys for c, keys in table.items()})
    for who in ("marl", "pip"):
        for letter in "LR":
            curves[channel_id(who, f"leg.{letter}", "drive")] = steps((0, 1.0))
    return curves


def _lifts(rows: list[tuple[int, float, float, int]]) -> list[tuple[float, float]]:
    """Heights of a foot that stands on the crate and is lifted from spot to spot."""
    found = [(float(rows[0][0]), TOP)]
    for (t, *here), (u, *there) in itertools.pairwise(rows):
        if here != there:
            found += [(float(t), TOP), (0.5 * (t + u), TOP + 0.045)]
        found.append((float(u), TOP))
    return sorted(dict(found).items())


def _follows() -> dict[str, Curve]:
    curves: dict[str, Curve] = {}
    for tether in tethers():
        held = {"marl": [(0, 1.0), (THROWN, 0.0)], "pip": [(0, 0.0), (CAUGHT, 1.0), (RELEASE, 0.0)]}
        curves |= followed(tether, *(held[tether.name] if tether.member == "rope" else [(0, 1.0)]))
    return curves


def _carried(who: str, place: Floats, turn: Floats) -> Floats:
    """Where the coil is in a hand."""
    return place + rotate(turn, np.array(HANDS[who]))


def _throw(start: Floats, end: Floats, frames: int) -> Floats:
    """(3,) metres a frame that lead from one place to another."""
    found: Floats = (end - start) / frames + np.array([0.0, 0.5 * GRAVITY * frames, 0.0])
    return found


def _arms(scene: Scene, take: Take) -> Take:
    program = Program(scene, take)
    up = palm_turn("R", (0.1, 0.35, 0.95), (0.2, 0.85, -0.35))
    low = palm_turn("R", (-0.1, -0.5, 0.85), (0.5, -0.8, -0.4))
    down = palm_turn("R", (-0.1, -1.0, 0.15), (1.0, 0.0, 0.0))
    back = palm_turn("R", (-0.35, -0.75, -0.55), (0.9, 0.0, -0.3))
    over = palm_turn("R", (0.1, 0.25, 0.97), (0.5, -0.85, 0.1))
    hang = palm_turn("R", (0.0, -0.4, 0.9), (0.95, 0.1, -0.1))
    free = {who: palm_turn("L", (0.1, -1.0, 0.25), (-1.0, 0.0, 0.1)) for who in ("marl", "pip")}

    def thrown(
        who: str, at: int, place: tuple[float, float, float], turn: Floats, end: Floats, frames: int
    ) -> tuple[list[Row], Row, Floats]:
        ((_, here, turned, _),) = in_chest(program, [(at, place, turn, 0.0)], who)
        speed = _throw(_carried(who, here, turned), end, frames)
        return (
            [(float(at + k), here + k * speed, turned, 4.0) for k in (-3, 0, 2)],
            (float(at), here, turned, 4.0),
            speed,
        )

    rows, row, speed = thrown("pip", RELEASE, (-0.14, 1.06, 0.36), over, OVER, LANDING - RELEASE)
    pip_r = [*in_chest(program, [
        (0, (-0.20, 0.78, 0.30), low, 0.0), (38, (-0.14, 0.98, 0.40), up, 0.0), (CAUGHT, (-0.13, 1.00, 0.40), up, 0.0),
        (58, (-0.20, 0.66, 0.26), low, 0.0), (76, (-0.26, 0.62, 0.12), down, 0.0), (96, (-0.36, 0.72, -0.24), back, -12.0),
        (102, (-0.26, 0.66, 0.02), down, -8.0), (114, (-0.10, 1.22, 0.30), over, 6.0), (130, (-0.24, 0.86, 0.28), low, 0.0),
        (LAST, (-0.26, 0.66, 0.14), down, 0.0),
    ], "pip"), *rows]  # fmt: skip
    take = reach(scene, take, "pip", "arm.R", sorted(pip_r, key=lambda r: r[0]))
    take = through(scene, take, "pip", "arm.R", row, speed)
    program = Program(scene, take)
    hand = program.evaluate([float(CAUGHT)])
    k = program.nodes["pip", "hand.R"]
    caught = _carried("pip", hand.pos[0, k], hand.rot[0, k])
    rows, row, speed = thrown("marl", THROWN, (-0.22, 1.16, 0.42), hang, caught, CAUGHT - THROWN)
    marl_r = [*in_chest(program, [
        (0, (-0.32, 0.86, 0.10), down, 0.0), (20, (-0.42, 0.94, -0.24), back, -10.0), (28, (-0.30, 0.84, 0.08), down, -6.0),
        (42, (-0.16, 1.40, 0.44), over, 6.0), (58, (-0.24, 1.16, 0.34), hang, 2.0), (84, (-0.32, 0.86, 0.10), down, 0.0),
        (LAST, (-0.32, 0.86, 0.10), down, 0.0),
    ]), *rows]  # fmt: skip
    take = reach(scene, take, "marl", "arm.R", sorted(marl_r, key=lambda r: r[0]))
    take = through(scene, take, "marl", "arm.R", row, speed)
    program = Program(scene, take)
    marl_l = in_chest(program, [
        (0, (0.33, 0.88, 0.10), free["marl"], 0.0), (20, (0.32, 1.06, 0.30), free["marl"], 0.0),
        (36, (0.40, 1.00, -0.06), free["marl"], 4.0), (60, (0.34, 0.90, 0.08), free["marl"], 0.0), (118, (0.32, 1.00, 0.24), free["marl"], 0.0),
    ])  # fmt: skip
    pip_l = in_chest(program, [
        (0, (0.24, 0.74, 0.24), free["pip"], 0.0), (CAUGHT, (0.22, 0.94, 0.30), free["pip"], 0.0), (58, (0.22, 0.72, 0.24), free["pip"], 0.0),
        (98, (0.28, 0.86, 0.24), free["pip"], 0.0), (110, (0.34, 0.78, -0.10), free["pip"], 4.0), (LAST, (0.27, 0.66, 0.10), free["pip"], 0.0),
    ], "pip")  # fmt: skip
    # At the end Marl's hand comes to lie on Pip's shoulder.
    shoulder = program.nodes["pip", "upperarm.L"]
    laid = palm_turn("L", (-0.25, -0.1, 0.95), (0.1, -0.97, -0.1))
    for t, above in ((136, 0.14), (143, 0.075), (149, 0.075), (LAST, 0.075)):
        at = program.evaluate([float(t)]).pos[0, shoulder]
        marl_l.append((float(t), at + np.array([0.01, above, -0.05]), laid, 0.0))
    take = reach(scene, take, "marl", "arm.L", marl_l)
    return reach(scene, take, "pip", "arm.L", pip_l)


def _coil(scene: Scene, take: Take) -> Take:
    """Lies in the hand that holds it, flies to the next, and over the bollard, where it drops."""
    program = Program(scene, take)
    node, space = program.nodes["rope", "rope"], program.nodes["rope", "rope", "space"]
    held = program.evaluate([RELEASE - 1e-6]).rot[0, node]
    over = OVER - program.evaluate([RELEASE]).pos[0, space]
    flat = quat_to_euler(2, tuple(multiply(np.array([0.0, 0.0, 0.0, 1.0]), held).tolist()), 0.0, 0.0, 0.0)
    curves = {}
    for axis, letter in enumerate("xyz"):
        down = over[axis] - (BOLLARD_HEAD - 0.2 if axis == 1 else 0.0)
        lands = {0: 0.0, 1: float(flat[1]) + 1.2, 2: 0.0}[axis]
        for name, landed, rests in ((f"t{letter}", over[axis], down), (f"r{letter}", lands, lands + 0.1)):
            curves[channel_id("rope", "rope", name)] = curve([
                Key(0.0, 0.0, 0.0, kind=STEPPED, rule=FREE), Key(LANDING, landed, landed, kind=SMOOTH, rule=FREE),
                Key(LANDING + 5.0, rests, rests, kind=SMOOTH, rule=FREE),
            ])  # fmt: skip
    take = take.with_curves(curves)
    for first, last in ((THROWN, CAUGHT), (RELEASE, LANDING)):
        take = fly(Program(scene, take), Flight((("rope", "rope"),), float(first), float(last)))[0]
    return take


def _plant(take: Take) -> Take:
    """The faults that the product is to find."""
    for axis, by in (("tx", 0.045), ("tz", -0.03), ("ry", 0.3)):
        # It slides back into the hand over half a second.
        name = channel_id("rope", "rope", axis)
        kept = take.curves[name]
        key = kept.key(kept.find(float(CAUGHT)) or 0)
        there = key._replace(leaving=key.leaving + by, kind=SMOOTH, slope_out=0.0)
        back = Key(CAUGHT + 12.0, key.leaving, key.leaving, kind=STEPPED, rule=FREE)
        take = take.with_curves({name: put(kept, [there, back])})
    return replace(take, tethers=(*take.tethers, Tether("rail", "crate", "crate", "rail", "rail")))
