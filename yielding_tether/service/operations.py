"""The operations the service offers: a new one is one entry here, and the interface shows it with its choices."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from ..core.errors import CoreError
from ..core.evaluation import Program
from ..core.operations import handover
from ..core.proof import Proof
from ..core.takes import Take
from .schemas import Choice, OperationAsked, OperationInfo


@dataclass(frozen=True)
class Offered:
    """How an operation is described, run and written down."""

    info: OperationInfo
    run: Callable[[Program, OperationAsked], tuple[Take, Proof, str]]


def _run_handover(program: Program, asked: OperationAsked) -> tuple[Take, Proof, str]:
    c = _choices(HANDOVER, asked)
    wanted = handover.Handover(
        tuple((p.member, p.part) for p in asked.parts), c["to"], asked.first, asked.last, c["after"], c["keys"],
        int(c["settle"]),
    )  # type: ignore[arg-type]  # fmt: skip
    take, proof = handover.apply(program, wanted)
    return take, proof, handover.describe(wanted, program)


HANDOVER = OperationInfo(
    id="handover", label="Hand over", applies="limbs",
    help="Another system takes the limb over; the pose and the speed pass on.",
    choices=[
        Choice(name="to", label="to", kind="options", options=[("ik", "IK"), ("fk", "FK")], default="ik"),
        Choice(
            name="after", label="then", kind="options",
            options=[("carry", "carry the motion on"), ("hold", "hold the pose")], default="carry",
        ),
        Choice(
            name="keys", label="keys", kind="options",
            options=[("kept", "on the kept key times"), ("every", "on every frame")], default="kept", folded=True,
        ),
        Choice(
            name="settle", label="settle over", kind="whole", least=0, most=48, default=4, folded=True,
            help="Frames over which the speed fades where the pose is held.",
        ),
    ],
)  # fmt: skip

OFFERED: dict[str, Offered] = {"handover": Offered(HANDOVER, _run_handover)}


def _choices(info: OperationInfo, asked: OperationAsked) -> dict[str, str | int]:
    """The choices made, defaults filled in; CoreError names one that is not offered."""
    known = {c.name: c for c in info.choices}
    for name in asked.choices:
        if name not in known:
            raise CoreError(f"{info.label} has no choice {name!r}: it has {', '.join(known)}.")
    found: dict[str, str | int] = {}
    for c in info.choices:
        value = asked.choices.get(c.name, c.default)
        if c.kind == "options":
            if value not in [o[0] for o in c.options]:
                raise CoreError(
                    f"{c.label!r} of {info.label} is one of {', '.join(o[0] for o in c.options)}, not {value!r}."
                )
            found[c.name] = str(value)
        else:
            if (
                isinstance(value, bool)
                or not isinstance(value, (int, float))
                or value != int(value)
                or not c.least <= value <= c.most
            ):
                raise CoreError(f"{c.label!r} of {info.label} is a whole number from {c.least} to {c.most}.")
            found[c.name] = int(value)
    return found


def run(program: Program, asked: OperationAsked) -> tuple[Take, Proof, str]:
    """Runs an operation: the new take, its proof and a line for the list of revisions."""
    offered = OFFERED.get(asked.operation)
    if offered is None:
        raise CoreError(f"There is no operation {asked.operation!r}: there are {', '.join(OFFERED)}.")
    return offered.run(program, asked)


def sentence(proof: Proof) -> str:
    """The proof in one line."""
    parts = []
    if proof.changes:
        worst = max(proof.changes, key=lambda c: c.pose)
        before = max(c.pose_before for c in proof.changes)
        at = (
            "nothing moves at the change"
            if all(c.still for c in proof.changes)
            else f"moves {_mm(worst.pose)} at the change"
        )
        if before > 1e-5:
            at += f" (was {_mm(before)})"
        parts.append(at)
        rough = [c for c in proof.changes if not c.smooth]
        if rough:
            worst = max(rough, key=lambda c: c.speed)
            parts.append(worst.reason or f"speed jumps {_mm(worst.speed)} a frame at frame {worst.frame:g}")
        elif all(c.steady for c in proof.changes):
            parts.append("speed passes on")
        else:
            kink = max(proof.changes, key=lambda c: c.speed)
            parts.append(f"speed jumps {_mm(kink.speed)} a frame at frame {kink.frame:g}, as it did before")
    d = proof.departure_place
    parts.append(
        f"after it the motion differs by at most {_mm(d.value)} and {math.degrees(proof.departure_turn.value):.2f}°, at frame {d.frame:g}"
    )
    o = proof.outside_place.value
    parts.append("outside unchanged" if o <= 1e-9 else f"outside changed by {_mm(o)}")
    k = proof.keys
    parts.append(f"keys: {k.kept} kept, {k.added} added, {k.removed} removed")
    if proof.gives:
        parts.append(f"locked channels leave {_mm(proof.residual_place)}: {', '.join(proof.gives)} could give way")
    text = "; ".join(parts) + "."
    return text[0].upper() + text[1:]


def _mm(metres: float) -> str:
    mm = 1000.0 * metres
    if mm < 1e-3:
        return "0 mm"
    return f"{mm:.3f} mm" if mm < 0.1 else f"{mm:.1f} mm"
