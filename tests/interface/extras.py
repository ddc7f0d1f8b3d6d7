"""The program with things that exist nowhere else: a system, a kind of part, an operation, and a scene of a large cast.

`python -m tests.interface.extras` runs it as users run theirs. Nothing in the page knows of any of these.
"""

from __future__ import annotations

import sys
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from yielding_tether import __main__ as program
from yielding_tether.core.cast import Member
from yielding_tether.core.channels import ROTATION, Channel, turning
from yielding_tether.core.curves import STEPPED, Key, curve, put
from yielding_tether.core.kernels import fits
from yielding_tether.core.operations.operation import Asked, Choice, Operation, Outcome, check_parts, labels, offered
from yielding_tether.core.parts import FkPart
from yielding_tether.core.parts.part import Part
from yielding_tether.core.program import Program
from yielding_tether.core.proof import prove
from yielding_tether.core.rig import Bound
from yielding_tether.core.systems.fk import Fk
from yielding_tether.core.systems.system import Control, Handle, Posed, System
from yielding_tether.core.takes import Scene, Take
from yielding_tether.core.transforms import Floats
from yielding_tether.demo.cast_off import cast_off
from yielding_tether.store.store import Store


class Twirl(Fk):
    """Joints turned one by one once more, by channels of their own."""

    name = "twirl"
    label = "Twirl"

    def channels(self, part: Part) -> tuple[Channel, ...]:
        return tuple(c for name in part.joints for c in turning(name, self.name, "twirl.", "twirl"))

    def controls(self, part: Part) -> tuple[Control, ...]:
        return tuple(
            Control(f"{name}.twirl", f"{name} twirl", order, Handle("wheel", ("turn",), name))
            for name, order in zip(part.joints, part.joint_orders, strict=True)
        )

    def drag(
        self, bound: Bound, posed: Posed, control: str, position: Floats, rotation: Floats, now: Mapping[int, float]
    ) -> dict[int, float]:
        joint = control.removesuffix(".twirl")
        k = bound.part.joints.index(joint)
        channels = [bound.own[joint, f"twirl.{c}"] for c in ROTATION]
        out = np.empty((3, 1))
        fits.turns(
            rotation[None, None], posed.above_rot[:, k : k + 1], bound.rests[k : k + 1], bound.orders[k : k + 1],
            np.array([[now[c] for c in channels]]), out,
        )  # fmt: skip
        return dict(zip(channels, out[:, 0].tolist(), strict=True))


@dataclass(frozen=True)
class TwirlPart(Part, kind="twirl"):
    """Joints that FK or Twirl turn."""

    name: str
    label: str
    joints: tuple[str, ...]
    orders: tuple[str, ...]
    side: Literal["left", "right", "middle"] = "middle"
    kind: Literal["twirl"] = "twirl"

    @property
    def joint_orders(self) -> tuple[str, ...]:
        return self.orders

    def systems(self) -> tuple[System, ...]:
        return (Fk(), Twirl())

    def drivers(self) -> tuple[Channel, ...]:
        return (Channel(self.name, "drive", "share", "", "what drives, 0 FK to 1 Twirl"),)


@offered
class Shiver(Operation):
    """Puts the first channel of parts off by an angle at the first frame of a stretch."""

    id = "shiver"
    label = "Shiver"
    applies = "parts"
    help = "Turns the first channel of each part a little."
    choices = (
        Choice("how", "how", "options", "soft", (("soft", "softly"), ("hard", "hard"))),
        Choice("by", "by", "number", 5.0, least=0.0, most=90.0, unit="°", when=("how", ("hard",))),
    )

    def offered_for(self, bound: Bound) -> bool:
        return True

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        check_parts(program, asked.parts)
        curves = {}
        for part in asked.parts:
            bound = program.bound(*part)
            channel = int(next(iter(bound.systems.values())).channels[-1])
            by = np.radians(c["by"] if c["how"] == "hard" else 1.0)
            value = float(program.now(asked.first, [channel])[0]) + by
            old = program.curve(channel)
            curves[program.channel_names()[channel]] = put(old, [Key(asked.first, value, value)])
        after = program.with_curves(curves)
        last = float(program.take.last)
        return Outcome(
            after.take, prove("shiver", program, after, asked.first, last), f"Shiver {labels(program, asked.parts)}"
        )


def hands() -> tuple[Scene, Take]:
    """Three hands aboard: each with a row for every joint beside the limbs, so some forty; the first one's head twirls."""
    scene, take = cast_off()
    marl = scene.member("marl")
    members = [
        _many(replace(marl, id=id, name=name)) for id, name in (("marl", "Marl"), ("pip", "Pip"), ("wren", "Wren"))
    ]
    kept = {n: c for n, c in take.curves.items() if n.startswith("marl/") and not n.startswith("marl/head")}
    curves = {n: c for n, c in kept.items() if ".rail." not in n and ".deck." not in n}
    for id, x in (("pip", -1.2), ("wren", 1.2)):
        curves |= {n.replace("marl/", f"{id}/", 1): c for n, c in list(curves.items()) if n.startswith("marl/")}
        curves[f"{id}/hips.tx"] = curve([Key(0.0, x, x, kind=STEPPED)])
    own = Scene("Three hands", tuple(members))
    names = set(Program(own, Take("none", take.rate, 0, 1)).channels)
    return own, Take("Muster", take.rate, take.first, take.last, {n: c for n, c in curves.items() if n in names})


def _many(member: Member) -> Member:
    parts: list[Part] = []
    for part in member.parts:
        if member.id == "marl" and part.name == "head":
            parts.append(TwirlPart(part.name, part.label, part.joints, part.joint_orders))
        elif isinstance(part, FkPart):
            parts += [
                FkPart(j, j, (j,), (order,), (False,), part.side)
                for j, order in zip(part.joints, part.joint_orders, strict=True)
            ]
        else:
            parts.append(part)
    return replace(member, parts=tuple(parts))


def _load(store: Store) -> None:
    if not store.scenes():
        scene, take = hands()
        store.add_scene(scene, [take])
    plain(store)


plain = program._load_demo

if __name__ == "__main__":
    program._load_demo = _load
    sys.exit(program.main())
