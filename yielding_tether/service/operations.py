"""The operations the service offers: a new one is one entry here, and the interface shows it with its choices."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from ..core.clips import Clip
from ..core.curves import KINDS, Key
from ..core.errors import CoreError
from ..core.evaluation import Program
from ..core.operations import handover, keys, paste, repair
from ..core.proof import Proof
from ..core.takes import Take
from .schemas import Choice, KeyEdit, OperationAsked, OperationInfo

#: Finds a kept clip by its id.
Clips = Callable[[int], Clip]


@dataclass(frozen=True)
class Offered:
    """How an operation is described, run and written down."""

    info: OperationInfo
    run: Callable[[Program, OperationAsked, Clips], tuple[Take, Proof, str]]


def _run_handover(program: Program, asked: OperationAsked, _: Clips) -> tuple[Take, Proof, str]:
    c = _choices(HANDOVER, asked)
    wanted = handover.Handover(
        tuple((p.member, p.part) for p in asked.parts), c["to"], asked.first, asked.last, c["after"], c["keys"],
        int(c["settle"]), c["speed"], (float(c["tolerance"]) / 1000.0, math.radians(float(c["tolerance_turn"]))),
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
            name="keys", label="where keys are put", kind="options",
            options=[("kept", "kept keys"), ("within", "within a tolerance"), ("every", "every frame")],
            default="kept",
        ),
        Choice(
            name="tolerance", label="tolerance, mm", kind="number", least=0.01, most=1000, default=1.0, folded=True,
            help="How far a joint may leave the motion that was, where keys are added within a tolerance.",
        ),
        Choice(name="tolerance_turn", label="and turn, °", kind="number", least=0.01, most=90, default=0.5, folded=True),
        Choice(
            name="speed", label="speed", kind="options",
            options=[("keep", "passes on"), ("settle", "passes on, back to the pose"), ("stop", "stops at once")],
            default="keep", folded=True, help="What becomes of the speed where the pose is held.",
        ),
        Choice(
            name="settle", label="settle over", kind="whole", least=0, most=48, default=4, folded=True,
            help="Frames over which the speed fades where the pose is held.",
        ),
    ],
)  # fmt: skip

KEYS = OperationInfo(
    id="keys", label="Keys", applies="parts", help="What happens to the keys of these parts within the stretch.",
    choices=[
        Choice(
            name="do", label="keys", kind="options",
            options=[("move", "move"), ("scale", "scale in time"), ("delete", "delete"), ("kind", "kind"), ("lock", "lock"), ("unlock", "unlock")],
            default="move",
        ),
        Choice(name="by", label="by frames", kind="number", least=-10000, most=10000, default=1.0, help="How far keys move."),
        Choice(name="factor", label="factor", kind="number", least=0.01, most=100, default=1.5, help="About the first frame of the stretch."),
        Choice(name="kind", label="kind", kind="options", options=[(k, k) for k in KINDS], default="stepped"),
    ],
)  # fmt: skip
KEY = OperationInfo(
    id="key", label="Key the part", applies="frame", choices=[],
    help="Keys everything of the part at this frame: both systems, the driver and what it follows.",
)  # fmt: skip
DRIVERS = OperationInfo(
    id="drivers", label="All drivers", applies="take", help="The kind of all keys of drivers and of what is followed, at once.",
    choices=[Choice(name="kind", label="kind", kind="options", options=[(k, k) for k in KINDS], default="stepped")],
)  # fmt: skip
REPAIR = OperationInfo(
    id="repair", label="Repair", applies="findings", choices=[],
    help="Takes the named findings out, or all of them; everything outside their stretches stays.",
)  # fmt: skip
EDIT = OperationInfo(
    id="edit", label="Edit keys", applies="keys", choices=[],
    help="Adds, deletes, moves, scales or sets the named keys; all others keep their numbers.",
)  # fmt: skip
PASTE = OperationInfo(
    id="paste", label="Paste", applies="clip", help="Puts a clip here: on this body, or on its other side.",
    choices=[
        Choice(name="swap", label="side", kind="options", options=[("same", "same side"), ("other", "other side")], default="same"),
        Choice(
            name="way", label="as", kind="options", options=[("pose", "pose, both systems fitted"), ("values", "values as keyed")],
            default="pose",
        ),
        Choice(
            name="systems", label="systems", kind="options",
            options=[("with", "with what drives and is followed"), ("without", "without")], default="with", folded=True,
        ),
    ],
)  # fmt: skip


def _run_keys(program: Program, asked: OperationAsked, _: Clips) -> tuple[Take, Proof, str]:
    c = _choices(KEYS, asked)
    last = program.take.last if asked.last is None else asked.last
    named: dict[str, tuple[float, ...]] = {}
    for ref in asked.parts:
        channels = keys.channels_of(program, ref.member, ref.part)
        times = program.key_times({program.channels[n] for n in channels})
        named |= keys.keys_at(program, channels, tuple(times[(times >= asked.first) & (times <= last)].tolist()))
    if not named:
        raise CoreError(f"These parts have no keys from frame {asked.first:g} to {last:g}.")
    do = str(c["do"])
    if do in ("kind", "lock", "unlock"):
        values = {"kind": float(KINDS.index(str(c["kind"])))} if do == "kind" else {"lock": float(do == "lock")}
        edit = keys.Edit("set", named, values=values)
    elif do == "delete":
        edit = keys.Edit("delete", named)
    elif do == "scale":
        edit = keys.Edit("scale", named, about=asked.first, factor=float(c["factor"]))
    else:
        edit = keys.Edit("move", named, by=float(c["by"]))
    return (*keys.apply(program, edit), keys.describe(edit))


def _run_key(program: Program, asked: OperationAsked, _: Clips) -> tuple[Take, Proof, str]:
    if len(asked.parts) != 1:
        raise CoreError("Choose one part to key.")
    ref = asked.parts[0]
    label = program.scene.member(ref.member).part(ref.part).label
    return (*keys.key_part(program, ref.member, ref.part, asked.first), f"Key {label} at frame {asked.first:g}")


def _run_drivers(program: Program, asked: OperationAsked, _: Clips) -> tuple[Take, Proof, str]:
    kind = str(_choices(DRIVERS, asked)["kind"])
    named = keys.all_drivers(program)
    take, proof = keys.apply(program, keys.Edit("set", named, values={"kind": float(KINDS.index(kind))}))
    return take, proof, f"All drivers {kind}"


def _run_repair(program: Program, asked: OperationAsked, _: Clips) -> tuple[Take, Proof, str]:
    return (*repair.apply(program, asked.findings), repair.describe(program, asked.findings))


def _run_edit(program: Program, asked: OperationAsked, _: Clips) -> tuple[Take, Proof, str]:
    if asked.edit is None:
        raise CoreError("An edit of keys needs its `edit`.")
    edit = as_edit(program, asked.edit)
    return (*keys.apply(program, edit), keys.describe(edit))


def as_edit(program: Program, asked: KeyEdit) -> keys.Edit:
    """The edit with its keys named channel by channel."""
    named: dict[str, tuple[float, ...]] = {}
    for k in asked.keys:
        times = tuple(k.times)
        if k.channel is not None:
            named[k.channel] = (*named.get(k.channel, ()), *times)
        elif k.part is not None:
            channels = keys.channels_of(program, k.part.member, k.part.part)
            found = keys.keys_at(program, channels, times) if asked.what != "add" else dict.fromkeys(channels, times)
            for n, t in found.items():
                named[n] = (*named.get(n, ()), *t)
        else:
            raise CoreError("Keys are named by a channel or by a part.")
    whole: dict[str, tuple[Key, ...]] = {}
    for key in asked.put:
        made = Key(**key.model_dump(exclude={"channel"}))
        whole[key.channel] = (*whole.get(key.channel, ()), made)
        named[key.channel] = (*named.get(key.channel, ()), key.time)
    return keys.Edit(asked.what, named, asked.by, asked.rise, asked.about, asked.factor, dict(asked.values), whole)


def _run_paste(program: Program, asked: OperationAsked, clips: Clips) -> tuple[Take, Proof, str]:
    if asked.clip is None or not asked.parts:
        raise CoreError("A paste needs a clip, and a part of who it goes to.")
    c = _choices(PASTE, asked)
    wanted = paste.Paste(
        clips(asked.clip), asked.parts[0].member, asked.first, c["swap"] == "other", c["way"], c["systems"] == "with"
    )  # type: ignore[arg-type]  # fmt: skip
    return (*paste.apply(program, wanted), paste.describe(wanted))


OFFERED: dict[str, Offered] = {
    o.info.id: o
    for o in (
        Offered(HANDOVER, _run_handover), Offered(KEYS, _run_keys), Offered(KEY, _run_key), Offered(DRIVERS, _run_drivers),
        Offered(REPAIR, _run_repair), Offered(EDIT, _run_edit), Offered(PASTE, _run_paste),
    )
}  # fmt: skip


def _choices(info: OperationInfo, asked: OperationAsked) -> dict[str, str | int | float]:
    """The choices made, defaults filled in; CoreError names one that is not offered."""
    known = {c.name: c for c in info.choices}
    for name in asked.choices:
        if name not in known:
            raise CoreError(f"{info.label} has no choice {name!r}: it has {', '.join(known)}.")
    found: dict[str, str | int | float] = {}
    for c in info.choices:
        value = asked.choices.get(c.name, c.default)
        if c.kind == "options":
            if value not in [o[0] for o in c.options]:
                raise CoreError(
                    f"{c.label!r} of {info.label} is one of {', '.join(o[0] for o in c.options)}, not {value!r}."
                )
            found[c.name] = str(value)
        elif c.kind == "number":
            if isinstance(value, bool) or not isinstance(value, (int, float)) or not c.least <= value <= c.most:
                raise CoreError(f"{c.label!r} of {info.label} is a number from {c.least:g} to {c.most:g}.")
            found[c.name] = float(value)
        else:
            if (
                isinstance(value, bool)
                or not isinstance(value, (int, float))
                or value != int(value)
                or not c.least <= value <= c.most
            ):
                raise CoreError(f"{c.label!r} of {info.label} is a whole number from {c.least:g} to {c.most:g}.")
            found[c.name] = int(value)
    return found


def run(program: Program, asked: OperationAsked, clips: Clips) -> tuple[Take, Proof, str]:
    """Runs an operation: the new take, its proof and a line for the list of revisions."""
    offered = OFFERED.get(asked.operation)
    if offered is None:
        raise CoreError(f"There is no operation {asked.operation!r}: there are {', '.join(OFFERED)}.")
    return offered.run(program, asked, clips)


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
    told = ""
    if proof.tolerance is not None:
        bound = f"{1000 * proof.tolerance[0]:g} mm and {math.degrees(proof.tolerance[1]):g}°"
        told = f" ({'within' if proof.within else 'beyond'} the tolerance of {bound})"
    parts.append(
        f"after it the motion differs by at most {_mm(d.value)} and {math.degrees(proof.departure_turn.value):.2f}°, at frame {d.frame:g}{told}"
    )
    o = proof.outside_place.value
    parts.append("outside unchanged" if o <= 1e-9 else f"outside changed by {_mm(o)}")
    k = proof.keys
    parts.append(f"keys: {k.kept} kept, {k.added} added, {k.removed} removed")
    if proof.gives:
        parts.append(f"locked channels leave {_mm(proof.residual_place)}: {', '.join(proof.gives)} could give way")
    if proof.operation == "paste" and proof.notes:
        parts.append(f"without a match: {' '.join(proof.notes).rstrip('.')}")
    text = "; ".join(parts) + "."
    return text[0].upper() + text[1:]


def _mm(metres: float) -> str:
    mm = 1000.0 * metres
    if mm < 1e-3:
        return "0 mm"
    return f"{mm:.3f} mm" if mm < 0.1 else f"{mm:.1f} mm"
