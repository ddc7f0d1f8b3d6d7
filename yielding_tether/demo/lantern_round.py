"""*Lantern round*: Marl lifts the lantern with the right hand, looks along the deck, passes it to the left and hangs
it on the hook; the head stays steady while the body turns. Three faults are planted: a change spread over several
frames, one keyed on one system only, and a bend that flips for a few frames."""

from __future__ import annotations

from fractions import Fraction
from functools import cache

import numpy as np

from ..core.channels import channel_id
from ..core.curves import FREE, SMOOTH, STEPPED, Curve, Key, curve, put
from ..core.findings import find_all
from ..core.operations.handover import Handover, apply
from ..core.operations.repair import apply as repair
from ..core.program import Program
from ..core.takes import Scene, Take, Tether
from ..core.transforms import Floats, inverse, multiply, rotate
from .cast_off import on_rail, rocking
from .ferry import deck, hook, lantern, lookout, on_deck, quay, rail
from .marl import marl
from .people import NECK, SPINE, palm_turn
from .posing import along, closed, collars, fingers, followed, in_chest, keyed, reach, steps, touching

LAST = 192
#: Frames: the left hand takes the lantern; it hangs on the hook; the right hand takes hold of the rail, lets go.
PASS, HANG, HOLD, FREE_AGAIN = 84, 132, 104, 160
#: Where hands and feet stand and hold: joint, on what, first and last frame.
CONTACTS = (
    ("foot.L", "deck", 0, LAST), ("foot.R", "deck", 0, LAST), ("hand.L", "hook", HANG - 3, HANG + 3),
    ("hand.R", "rail", HOLD, FREE_AGAIN),
)  # fmt: skip


def lantern_scene() -> Scene:
    """The cast of *Lantern round*."""
    return Scene("Ferry by night", (deck(), rail(), hook(), quay(), marl(), lantern(), lookout()))


def _in_hand(turn: Floats, side: float) -> tuple[float, ...]:
    """Place of the lantern in a hand: hanging under it while the hand is turned like this."""
    back = inverse(turn)
    at = rotate(back, np.array([0.0, -0.235, 0.0])) + np.array([0.03 * side, -0.05, 0.0])
    return (*at.tolist(), *back.tolist())


RAISED = palm_turn("R", (-0.15, -0.25, 0.95), (0.15, -0.95, -0.25))
TAKEN = palm_turn("L", (0.1, -0.2, 0.97), (0.0, -0.97, -0.2))


def tethers() -> tuple[Tether, ...]:
    """What follows what: the lantern the right hand, the left, then the hook."""
    hook_at = (0.0, -0.3, 0.0, 0.0, 0.0, 0.0, 1.0)
    return (
        *on_deck(),
        Tether("deck", "hook", "hook", "deck", "deck"),
        Tether("rail", "marl", "arm.R.ik", "rail", "rail"),
        Tether("hook", "marl", "arm.L.ik", "hook", "hook"),
        Tether("right", "lantern", "lantern", "marl", "hand.R", offset=_in_hand(RAISED, -1.0)),  # type: ignore[arg-type]
        Tether("left", "lantern", "lantern", "marl", "hand.L", offset=_in_hand(TAKEN, 1.0)),  # type: ignore[arg-type]
        Tether("hook", "lantern", "lantern", "hook", "hook", offset=hook_at),
    )


@cache
def lantern_round() -> tuple[Scene, Take]:
    """The scene and its take."""
    scene = lantern_scene()
    take = Take("Lantern round", Fraction(24), 0, LAST, tethers=tethers())
    take = take.with_curves({**rocking(LAST), **_body(), **_feet(), **_follows(), **_fingers()})
    take = _arms(scene, take)
    take = _holds(scene, take)
    return scene, touching(_plant(scene, take), CONTACTS)


def _body() -> dict[str, Curve]:
    return keyed("marl", {
        "hips.tx": [(0, -0.02), (30, -0.05), (58, -0.04), (84, 0.01), (110, 0.06), (132, 0.1), (160, 0.05), (192, 0.0)],
        "hips.ty": [(0, -0.04), (24, -0.055), (52, -0.045), (84, -0.06), (112, -0.06), (132, -0.05), (160, -0.06), (192, -0.045)],
        "hips.tz": [(0, 0.2), (52, 0.18), (84, 0.22), (112, 0.235), (132, 0.25), (160, 0.235), (192, 0.21)],
        "hips.ry": [(0, -6), (34, -30), (58, -26), (84, 4), (112, 14), (132, 18), (160, 6), (192, 2)],
        "hips.rx": [(0, 3), (58, 2), (84, 5), (132, 0), (160, 4), (192, 3)],
        **along(SPINE, "ry", [(0, -6), (36, -36), (60, -29), (88, 9), (116, 15), (134, 18), (162, 6), (192, 0)]),
        "chest.rx": [(0, 2), (38, -3), (84, 4), (132, -5), (164, 3), (192, 2)],
        "chest.rz": [(0, 0), (38, 4), (90, 0), (134, -4), (164, 0), (192, 0)],
        # The head counters the turn of the body: it keeps looking out over the bow.
        **along(NECK[:2], "ry", [(0, 5), (36, 30), (60, 26), (88, -4), (116, -13), (134, -16), (162, -6), (192, -1)]),
        "head.ry": [(0, 6), (37, 30), (61, 26), (89, -5), (117, -13), (135, -18), (163, -6), (192, -1)],
        "head.rx": [(0, 0), (40, -4), (84, 10), (104, 6), (128, -8), (150, -4), (192, 0)],
        **collars({
            "collar.R.rz": [(0, -2), (30, -10), (60, -8), (84, -4), (112, -2), (192, -2)],
            "collar.L.rz": [(0, 2), (84, 5), (112, 10), (132, 16), (150, 6), (192, 2)],
        }),
    })  # fmt: skip


def _feet() -> dict[str, Curve]:
    curves = keyed("marl", {
        "leg.L.ik.tx": [(0, 0.05), (192, 0.05)], "leg.L.ik.tz": [(0, 0.26), (192, 0.26)],
        "leg.R.ik.tx": [(0, -0.07), (192, -0.07)], "leg.R.ik.tz": [(0, 0.12), (192, 0.12)],
        "leg.L.ik.ry": [(0, 12), (192, 12)], "leg.R.ik.ry": [(0, -20), (192, -20)],
        "leg.L.ik.swivel": [(0, -5), (192, -5)], "leg.R.ik.swivel": [(0, 10), (192, 10)],
    })  # fmt: skip
    for letter in "LR":
        curves[channel_id("marl", f"leg.{letter}", "drive")] = steps((0, 1.0))
    return curves


def _follows() -> dict[str, Curve]:
    curves: dict[str, Curve] = {}
    weights = {"right": [(0, 1.0), (PASS, 0.0)], "left": [(0, 0.0), (PASS, 1.0), (HANG, 0.0)]}
    for tether in tethers():
        rows = weights.get(tether.name, [(0, 1.0)]) if tether.member == "lantern" else [(0, 1.0)]
        if tether.member == "lantern" and tether.name == "hook":
            rows = [(0, 0.0), (HANG, 1.0)]
        curves |= followed(tether, *rows)
    return curves


def _fingers() -> dict[str, Curve]:
    return fingers(
        [(0, 60), (PASS + 2, 8), (HOLD - 6, 8), (FREE_AGAIN + 6, 18), (LAST, 24)],
        [(0, 20), (PASS - 8, 6), (HANG + 6, 6), (156, 18), (LAST, 24)],
    )


def _held_by(program: Program, tether: str, frame: float) -> tuple[Floats, Floats]:
    """Where the lantern is while it follows this tether."""
    poses = program.evaluate([frame])
    t = next(t for t in program.take.tethers if t.member == "lantern" and t.name == tether)
    node = program.nodes[t.anchor_member, t.anchor]
    assert t.offset is not None
    pos, rot = poses.pos[0, node], poses.rot[0, node]
    return pos + rotate(rot, np.array(t.offset[:3])), multiply(rot, np.array(t.offset[3:]))


def _hand_for(program: Program, lantern_at: tuple[Floats, Floats], tether: str) -> tuple[Floats, Floats]:
    """Where the hand of a tether has to be for the lantern to be there."""
    t = next(t for t in program.take.tethers if t.member == "lantern" and t.name == tether)
    assert t.offset is not None
    turn = multiply(lantern_at[1], inverse(np.array(t.offset[3:])))
    return lantern_at[0] - rotate(turn, np.array(t.offset[:3])), turn


def _arms(scene: Scene, take: Take) -> Take:
    program = Program(scene, take)
    down_l = palm_turn("L", (0.1, -1.0, 0.15), (-1.0, 0.0, 0.0))
    right = in_chest(program, [
        (0, (-0.30, 1.05, 0.34), RAISED, 0.0),
        (20, (-0.30, 1.30, 0.40), RAISED, -6.0),
        (38, (-0.36, 1.40, 0.38), RAISED, -10.0),
        (58, (-0.30, 1.36, 0.40), RAISED, -8.0),
        (PASS - 4, (-0.06, 1.18, 0.35), RAISED, 0.0),
        (PASS, (-0.05, 1.17, 0.36), RAISED, 0.0),
        (PASS + 4, (-0.07, 1.17, 0.36), RAISED, 0.0),
        (94, (-0.22, 1.12, 0.36), palm_turn("R", (0.0, -0.3, 0.95), (0.1, -0.95, -0.3)), 0.0),
    ])  # fmt: skip
    # It is there before it takes hold, so that it comes to rest on it.
    gripping = [(float(t), *on_rail(program, t, "R"), -4.0) for t in (HOLD - 2, HOLD, HOLD + 3, HOLD + 7)]
    take = reach(scene, take, "marl", "arm.R", [*right, *gripping])
    program = Program(scene, take)
    meet = [(float(t), *_hand_for(program, _held_by(program, "right", t), "left"), 0.0)
            for t in (PASS - 4, PASS - 1, PASS, PASS + 1, PASS + 4)]  # fmt: skip
    hang = [
        (float(t), *_hand_for(program, _held_by(program, "hook", t), "left"), 6.0) for t in (HANG - 3, HANG, HANG + 3)
    ]
    left = in_chest(program, [
        (0, (0.33, 0.86, 0.10), down_l, 0.0),
        (48, (0.34, 0.90, 0.14), down_l, 0.0),
        (70, (0.20, 1.10, 0.40), TAKEN, 0.0),
        (98, (0.18, 1.26, 0.44), TAKEN, 0.0),
        (116, (0.28, 1.46, 0.44), TAKEN, 4.0),
        (146, (0.32, 1.20, 0.30), TAKEN, 4.0),
        (160, (0.33, 0.90, 0.14), down_l, 0.0),
        (LAST, (0.33, 0.86, 0.12), down_l, 0.0),
    ])  # fmt: skip
    return reach(scene, take, "marl", "arm.L", sorted([*left, *meet, *hang], key=lambda row: row[0]))


def _holds(scene: Scene, take: Take) -> Take:
    """The right hand holds the rail in IK for a while; the left one holds on to the hook. Fingers lie on what is held."""
    hold = Handover((("marl", "arm.R"),), "ik", HOLD, None, "hold", settle=3)
    take, _ = apply(Program(scene, take), hold)
    back = Handover((("marl", "arm.R"),), "fk", FREE_AGAIN, None, "hold", settle=8)
    take, _ = apply(Program(scene, take), back)
    take, _ = apply(Program(scene, take), Handover((("marl", "arm.L"),), "ik", HANG - 12, HANG + 4))
    for letter, on, first, last, over in (
        ("R", "lantern", 0, PASS - 4, 6), ("R", "rail", HOLD, FREE_AGAIN, 6), ("L", "lantern", PASS - 2, HANG, 6),
    ):  # fmt: skip
        take = closed(scene, take, letter, on, first, last, over)
    # The lantern swings on the hook when it is let go.
    swing = [(HANG, 0.0), (HANG + 9, 0.14), (HANG + 22, -0.1), (HANG + 36, 0.07), (HANG + 50, -0.04)]
    keys = [Key(float(t), v, v, 0.0, 0.0, SMOOTH, FREE) for t, v in swing]
    take = take.with_curves({channel_id("lantern", "lantern", "rx"): curve(keys)})
    # The lantern goes from hand to hand with the speed it has.
    program = Program(scene, take)
    return repair(program, [f.key for f in find_all(program) if f.member == "lantern"])[0]


def _plant(scene: Scene, take: Take) -> Take:
    """The faults that the product is to find."""
    drive = channel_id("marl", "arm.R", "drive")
    kept = take.curves[drive]
    # The right hand's change onto the rail is spread over six frames.
    spread = [Key(HOLD - 2.0, 0.0, 0.0, 0.0, 0.0, SMOOTH, FREE), Key(HOLD + 4.0, 1.0, 1.0, 0.0, 0.0, STEPPED, FREE)]
    keys = [*(k for k in kept.all_keys() if k.time != HOLD), *spread]
    take = take.with_curves({drive: curve(keys)})
    # The left hand's change to the hook was keyed in IK only.
    program = Program(scene, take)
    names = program.channel_names()
    fk = {names[c]: take.curves[names[c]] for c in program.bound("marl", "arm.L").systems["fk"].channels}
    bare = {n: curve([k for k in c.all_keys() if k.time != HANG - 12.0]) for n, c in fk.items()}
    take = take.with_curves(bare)
    # The left knee snaps to the other side for nine frames.
    knee = channel_id("marl", "leg.L.ik", "bend")
    flipped = put(
        take.curves.get(knee, curve([])),
        [Key(40.0, 1.0, -1.0, kind=STEPPED, rule=FREE), Key(49.0, -1.0, 1.0, kind=STEPPED, rule=FREE)],
    )
    return take.with_curves({knee: flipped})
