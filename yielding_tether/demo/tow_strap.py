"""*Tow strap*: Marl, on the left, and Pip hold a strap between them on the rocking deck. Pip leans back and leads, the strap's far
end in her hand; then Marl hauls, and Pip's hand goes with the strap. Two faults are planted: Pip's hand pops as it takes to
the strap, and Marl's hips follow the deck by more than all for a while."""

from __future__ import annotations

from fractions import Fraction
from functools import cache

from ..core.channels import channel_id
from ..core.curves import Curve
from ..core.operations.handover import Handover
from ..core.operations.handover import apply as hand_over
from ..core.operations.retether import Retether
from ..core.operations.retether import apply as follow
from ..core.program import Program
from ..core.takes import Scene, Take, Tether
from .cast_off import rocking
from .ferry import LINKS, deck, lookout, on_deck, quay, rail, strap
from .marl import marl
from .people import NECK, SPINE, palm_turn
from .pip import pip
from .posing import along, collars, fingers, followed, in_chest, keyed, nudge, reach, steps, touching

LAST = 168
#: Frames: Marl begins to lead; Pip steps with the pull; Marl steps back with it.
LEAD, STEP, BACK = 84, 98, 92
END = f"link{LINKS}"
#: A second follow of the deck, for a fault.
TWICE = "deck again"
#: How the strap's ends lie in a hand: across the palm.
IN_RIGHT = (-0.03, -0.06, 0.02, 0.0, 0.0, 0.0, 1.0)
IN_LEFT = (0.03, -0.055, 0.02, 0.0, 0.0, 0.0, 1.0)


def strap_scene() -> Scene:
    """The cast of *Tow strap*."""
    return Scene("Ferry at the quay", (deck(), rail(), quay(), marl(), pip(), strap(), lookout()))


def tethers() -> tuple[Tether, ...]:
    """The strap's near end is in Marl's hand, its far end in Pip's; both only by place, so that it hangs as it does."""
    return (
        *on_deck("marl", "pip"),
        Tether(TWICE, "marl", "hips", "deck", "deck"),
        Tether("hand", "strap", "strap", "marl", "hand.R", rotation=False, offset=IN_RIGHT),
        Tether("hand", "strap", "line.ik", "pip", "hand.L", rotation=False, offset=IN_LEFT),
    )


@cache
def tow_strap() -> tuple[Scene, Take]:
    """The scene and its take."""
    scene = strap_scene()
    take = Take("Tow strap", Fraction(24), 0, LAST, tethers=tethers())
    take = take.with_curves({**rocking(LAST), **_marl(), **_pip(), **_feet(), **_follows()})
    take = take.with_curves(fingers([(0, 66), (LAST, 66)], [(0, 20), (60, 34), (LAST, 24)]))
    take = take.with_curves(fingers([(0, 24), (50, 40), (110, 12), (LAST, 22)], [(0, 66), (LAST, 66)], "pip"))
    take = _arms(scene, take)
    take = _marl_leads(scene, take)
    take = touching(
        take, [("foot.L", "deck", 0, LAST), ("foot.R", "deck", 0, BACK), ("foot.R", "deck", BACK + 12, LAST)]
    )
    take = touching(
        take, [("foot.L", "deck", 0, STEP), ("foot.L", "deck", STEP + 12, LAST), ("foot.R", "deck", 0, LAST)], "pip"
    )
    return scene, _plant(take)


def _marl() -> dict[str, Curve]:
    """Marl faces along the deck; gives with the pull, then leans back into the haul, the weight over the rear foot."""
    return keyed("marl", {
        "hips.tz": [(0, -0.72), (26, -0.7), (52, -0.66), (76, -0.66), (94, -0.74), (112, -0.82), (134, -0.85), (168, -0.85)],
        "hips.ty": [(0, -0.08), (26, -0.10), (52, -0.11), (76, -0.14), (94, -0.20), (112, -0.19), (134, -0.17), (168, -0.16)],
        "hips.tx": [(0, 0.05), (52, 0.03), (94, 0.06), (168, 0.05)],
        "hips.ry": [(0, -6), (52, 0), (76, -10), (94, -24), (112, -20), (168, -14)],
        "hips.rx": [(0, 2), (52, 8), (76, 2), (94, -10), (112, -13), (134, -9), (168, -8)],
        **along(SPINE, "ry", [(0, 2), (52, 14), (76, -2), (96, -26), (114, -20), (168, -10)]),
        **along(SPINE, "rx", [(0, 4), (52, 12), (76, 6), (96, -8), (114, -4), (168, 2)]),
        **along(NECK[:2], "ry", [(0, -2), (52, -10), (96, 18), (114, 15), (168, 8)]),
        "head.ry": [(0, 0), (52, -6), (96, 14), (114, 10), (168, 6)],
        "head.rx": [(0, 4), (52, 2), (76, 6), (96, 12), (134, 6), (168, 8)],
        **collars({
            "collar.R.ry": [(0, 4), (52, 14), (96, -10), (168, 0)],
        }),
    })  # fmt: skip


def _pip() -> dict[str, Curve]:
    """Pip leans far back against the strap, then is drawn a step forward and catches herself."""
    return keyed("pip", {
        "hips.tz": [(0, 0.64), (26, 0.74), (52, 0.86), (76, 0.82), (90, 0.66), (104, 0.45), (118, 0.37), (138, 0.41), (168, 0.40)],
        "hips.ty": [(0, -0.06), (26, -0.10), (52, -0.17), (76, -0.15), (90, -0.09), (104, -0.11), (118, -0.15), (138, -0.12), (168, -0.115)],
        "hips.tx": [(0, 0.02), (168, 0.02)],
        "hips.ry": [(0, -172), (52, -162), (92, -178), (122, -186), (168, -178)],
        "hips.rx": [(0, -2), (26, -8), (52, -18), (76, -14), (92, 2), (108, 14), (122, 16), (140, 6), (168, 5)],
        **along(SPINE, "ry", [(0, 4), (52, 24), (92, -2), (122, -16), (168, -4)]),
        **along(SPINE, "rx", [(0, 4), (52, -8), (92, 10), (122, 20), (140, 8), (168, 6)]),
        **along(NECK[:2], "ry", [(0, -4), (52, -16), (92, 2), (122, 10), (168, 3)]),
        "head.rx": [(0, 2), (52, 10), (92, -2), (122, -12), (140, -6), (168, -4)],
        "head.ry": [(0, -2), (52, -10), (122, 8), (168, 2)],
    })  # fmt: skip


def _feet() -> dict[str, Curve]:
    """All feet stand; Marl steps back with the right one, Pip forward with the left one."""
    at = BACK, BACK + 6, BACK + 12
    on = STEP, STEP + 6, STEP + 12
    curves = keyed("marl", {
        "leg.L.ik.tz": [(0, -0.492), (LAST, -0.492)], "leg.L.ik.tx": [(0, -0.168), (LAST, -0.168)],
        "leg.L.ik.ry": [(0, 6), (LAST, 6)],
        "leg.R.ik.tz": [(0, -0.708), (at[0], -0.708), (at[2], -0.948), (LAST, -0.948)],
        "leg.R.ik.ty": [(0, 0.0), (at[0], 0.0), (at[1], 0.06), (at[2], 0.0), (LAST, 0.0)],
        "leg.R.ik.tx": [(0, 0.288), (at[0], 0.288), (at[2], 0.308), (LAST, 0.308)],
        "leg.R.ik.ry": [(0, -24), (at[0], -24), (at[2], -38), (LAST, -38)],
        "leg.R.ik.roll": [(0, 0), (at[0], 0), (at[1], 14), (at[2], 0), (LAST, 0)],
    })  # fmt: skip
    curves |= keyed("pip", {
        "leg.L.ik.tz": [(0, 0.703), (on[0], 0.703), (on[2], 0.413), (LAST, 0.413)],
        "leg.L.ik.ty": [(0, 0.0), (on[0], 0.0), (on[1], 0.07), (on[2], 0.0), (LAST, 0.0)],
        "leg.L.ik.tx": [(0, 0.047), (on[0], 0.047), (on[2], 0.027), (LAST, 0.027)],
        "leg.L.ik.ry": [(0, -194), (on[0], -194), (on[2], -184), (LAST, -184)],
        "leg.L.ik.roll": [(0, 0), (on[0], 0), (on[0] + 5, 18), (on[2] - 3, -12), (on[2], 0), (LAST, 0)],
        "leg.R.ik.tz": [(0, 0.607), (LAST, 0.607)], "leg.R.ik.tx": [(0, -0.037), (LAST, -0.037)],
        "leg.R.ik.ry": [(0, -148), (LAST, -148)],
    })  # fmt: skip
    for who in ("marl", "pip"):
        for letter in "LR":
            curves[channel_id(who, f"leg.{letter}", "drive")] = steps((0, 1.0))
    return curves


def _follows() -> dict[str, Curve]:
    curves: dict[str, Curve] = {}
    for tether in tethers():
        curves |= followed(tether, (0, float(tether.name != TWICE)))
    curves[channel_id("strap", "line", "drive")] = steps((0, 1.0))
    return curves


def _arms(scene: Scene, take: Take) -> Take:
    """FK in the space of each chest: both arms of the strap long, the other arms for balance."""
    program = Program(scene, take)
    hold_r, hold_l = (
        palm_turn("R", (0.35, -0.15, 0.92), (0.2, -0.97, -0.1)),
        palm_turn("L", (-0.3, 0.0, 0.95), (-0.2, -0.97, -0.1)),
    )
    free_l, free_r = (
        palm_turn("L", (0.2, -0.9, 0.4), (-0.9, 0.0, 0.3)),
        palm_turn("R", (-0.3, -0.8, 0.5), (0.9, 0.0, 0.3)),
    )
    marl_r = in_chest(program, [
        (0, (-0.14, 1.06, 0.33), hold_r, 0.0), (26, (-0.12, 1.10, 0.36), hold_r, 2.0), (52, (-0.10, 1.14, 0.40), hold_r, 4.0),
        (76, (-0.13, 1.12, 0.37), hold_r, 0.0), (94, (-0.24, 1.04, 0.26), hold_r, -10.0), (112, (-0.28, 1.06, 0.20), hold_r, -14.0),
        (134, (-0.24, 1.04, 0.26), hold_r, -10.0), (168, (-0.22, 1.02, 0.28), hold_r, -8.0),
    ])  # fmt: skip
    marl_l = in_chest(program, [
        (0, (0.30, 0.94, 0.12), free_l, 0.0), (52, (0.34, 1.00, 0.02), free_l, 4.0), (94, (0.36, 1.10, 0.24), free_l, -4.0),
        (114, (0.32, 1.04, 0.28), free_l, -4.0), (168, (0.32, 0.96, 0.16), free_l, 0.0),
    ])  # fmt: skip
    pip_l = in_chest(program, [
        (0, (0.10, 0.80, 0.36), hold_l, 0.0), (26, (0.10, 0.84, 0.42), hold_l, 0.0), (52, (0.08, 0.88, 0.46), hold_l, 0.0),
        (76, (0.09, 0.86, 0.44), hold_l, 0.0), (LEAD, (0.09, 0.86, 0.45), hold_l, 0.0), (108, (0.06, 0.90, 0.48), hold_l, 0.0),
        (140, (0.08, 0.84, 0.42), hold_l, 0.0), (168, (0.08, 0.82, 0.40), hold_l, 0.0),
    ], "pip")  # fmt: skip
    pip_r = in_chest(program, [
        (0, (-0.28, 0.66, 0.10), free_r, 0.0), (52, (-0.36, 0.84, -0.06), free_r, 0.0), (92, (-0.30, 0.76, 0.12), free_r, 0.0),
        (122, (-0.40, 0.92, 0.16), free_r, 0.0), (140, (-0.32, 0.76, 0.12), free_r, 0.0), (168, (-0.28, 0.66, 0.10), free_r, 0.0),
    ], "pip")  # fmt: skip
    for who, letter, rows in (("marl", "R", marl_r), ("marl", "L", marl_l), ("pip", "L", pip_l), ("pip", "R", pip_r)):
        take = reach(scene, take, who, f"arm.{letter}", rows)
    return take


def _marl_leads(scene: Scene, take: Take) -> Take:
    """From here on the strap hangs from Marl alone, and Pip's hand goes with its far end."""

    def made(asked: Retether) -> None:
        nonlocal take
        take = follow(Program(scene, take), asked)[0]

    made(Retether((("strap", "line"),), "marl/hand.R", LEAD, None, "carry", "within", "here", what="position"))
    take = hand_over(Program(scene, take), Handover((("pip", "arm.L"),), "ik", LEAD, None, keys="within"))[0]
    made(Retether((("pip", "arm.L"),), f"strap/{END}", LEAD, None, "carry", "within", "here", what="position"))
    return take


def _plant(take: Take) -> Take:
    """The faults that the product is to find."""
    hand = channel_id("pip", "arm.L.ik", "")
    for axis, by in (("tx", 0.05), ("ty", -0.04), ("rz", 0.25)):
        take = nudge(take, f"{hand}{axis}", LEAD, by)
    twice = next(t for t in take.tethers if t.name == TWICE)
    return take.with_curves(followed(twice, (0, 0.0), (40, 0.5), (52, 0.0)))
