"""Posing one control at one frame: live while it is dragged, keyed when it is let go.

The rule for keys: what was dragged is keyed, at this frame, in the system that drives. A control of the idle
system starts from where it is drawn, on the pose; its drag is fitted into the driving system, so the stored keys
of the idle one stay as they are.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from ..cast import ANGLES, FkPart, FreePart
from ..curves import EMPTY, LEAVING, SMOOTH, STEPPED, Curve, set_value
from ..errors import CoreError
from ..evaluation import Limb, Poses, Program
from ..fitting import fit_values, guide_distance, swivel_towards, system_channels
from ..proof import Proof, prove, reach
from ..systems import fk
from ..takes import Take
from ..transforms import ORDERS, Floats, wrap_near

Handle = Literal["control", "guide", "joint"]


@dataclass(frozen=True)
class Drag:
    """A handle put to a place. `handle`: the control of a root or of a limb's IK, a limb's bend guide, or a joint
    (then `joint` names it and only `rotation` counts). `position` (metres) and `rotation` are in the world."""

    member: str
    part: str
    handle: Handle
    frame: float
    position: tuple[float, float, float]
    rotation: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 1.0)
    joint: str = ""


@dataclass(frozen=True)
class Posed:
    """Channel values that a drag asks for, by channel index, and the system that takes the keys."""

    values: dict[int, float]
    system: str


def solve(program: Program, drag: Drag) -> Posed:
    """Values that put a handle where it was dragged. CoreError if the part can't be posed there and then."""
    numbers = (*drag.position, *drag.rotation, drag.frame)
    if not np.isfinite(numbers).all() or max(abs(x) for x in numbers) > 1e6:
        raise CoreError("A drag needs finite numbers.")
    size = float(np.linalg.norm(drag.rotation))
    if size < 1e-9:
        raise CoreError("The rotation of a drag must be a quaternion of length one.")
    turn = np.array(drag.rotation) / size
    member = program.scene.member(drag.member)
    part = member.part(drag.part)
    here = program.evaluate([drag.frame])
    _refuse_captured(program, drag, part.label)
    if isinstance(part, FreePart):
        return _pose_control(program, drag, part.joint, part.order, here, turn)
    if isinstance(part, FkPart):
        return _pose_joint(program, drag, part, here, turn)
    limb = program.limbs[drag.member, drag.part]
    return _pose_limb(program, limb, drag, here, turn)


def apply(program: Program, drag: Drag) -> tuple[Take, Proof]:
    """The take with the drag keyed, and its proof: nothing changes beyond the keys on either side."""
    posed = solve(program, drag)
    names = program.channel_names()
    curves: dict[str, Curve] = {}
    for c, value in posed.values.items():
        old = program.take.curves.get(names[c], EMPTY)
        if program.info[c][2].name == "bend":
            now = float(program.sample([drag.frame], LEAVING, np.array([c]))[0, 0])
            if now == value:
                continue
        kind = STEPPED if program.info[c][2].name == "bend" else SMOOTH
        curves[names[c]] = set_value(old, drag.frame, value, kind)
    after = Program(program.scene, program.take.with_curves(curves))
    after.check_loops()
    return after.take, prove("pose", program, after, *reach(program.take, curves), [])


def describe(drag: Drag, program: Program) -> str:
    """One line for the list of revisions."""
    label = program.scene.member(drag.member).part(drag.part).label
    what = {"control": label, "guide": f"the bend guide of the {label}", "joint": drag.joint}[drag.handle]
    return f"Pose {what} at frame {drag.frame:g}"


def _refuse_captured(program: Program, drag: Drag, label: str) -> None:
    c = program.channels.get(f"{drag.member}/{drag.part}.captured")
    if c is not None and program.sample([drag.frame], LEAVING, np.array([c]))[0, 0] > 0.0:
        raise CoreError(
            f"Captured motion drives {label} at frame {drag.frame:g}. "
            "Hand it over to IK or FK first; then it can be posed."
        )


def _pose_control(program: Program, drag: Drag, control: str, order: str, here: Poses, turn: Floats) -> Posed:
    chans = np.array([program.channels[f"{drag.member}/{control}.{c}"] for c in ("tx", "ty", "tz", "rx", "ry", "rz")])
    now = program.sample([drag.frame], LEAVING, chans)[:, 0]
    space = program.nodes[drag.member, control, "space"]
    out = np.empty((6, 1))
    fk.fit_place(
        np.array([drag.position]),
        turn[None],
        here.pos[:, space],
        here.rot[:, space],
        ORDERS.index(order),
        now[3:],
        out,
    )
    return Posed({int(c): float(v) for c, v in zip(chans, out[:, 0], strict=True)}, "root")


def _joint_turns(program: Program, drag: Drag, joint: str, order: str, here: Poses, turn: Floats) -> dict[int, float]:
    member = program.scene.member(drag.member)
    skeleton = member.skeleton
    index = skeleton.index[joint]
    parent = skeleton.parents[index]
    above = (
        here.rot[:, [program.nodes[drag.member, skeleton.joints[parent].name]]]
        if parent >= 0
        else np.array([[[0.0, 0.0, 0.0, 1.0]]])
    )
    chans = np.array([program.channels[f"{drag.member}/{joint}.{c}"] for c in ("rx", "ry", "rz")])
    now = program.sample([drag.frame], LEAVING, chans)[:, 0]
    out = np.empty((3, 1))
    fk.fit_turns(turn[None, None], above, skeleton.rests[[index]], np.array([ORDERS.index(order)]), now[None], out)
    return {int(c): float(v) for c, v in zip(chans, out[:, 0], strict=True)}


def _pose_joint(program: Program, drag: Drag, part: FkPart, here: Poses, turn: Floats) -> Posed:
    if drag.joint not in part.joints:
        raise CoreError(f"{part.label} has no joint {drag.joint}.")
    order = part.orders[part.joints.index(drag.joint)]
    return Posed(_joint_turns(program, drag, drag.joint, order, here, turn), "fk")


def _pose_limb(program: Program, limb: Limb, drag: Drag, here: Poses, turn: Floats) -> Posed:
    drive = float(program.sample([drag.frame], LEAVING, np.array([limb.drive]))[0, 0])
    if 0.0 < drive < 1.0:
        raise CoreError(
            f"{limb.part.label} is half-driven at frame {drag.frame:g} ({drive:.2f} of IK): "
            "make its driver stepped there before posing it."
        )
    driving = "ik" if drive == 1.0 else "fk"
    dragged = "fk" if drag.handle == "joint" else "ik"
    channels = system_channels(limb, dragged)
    now = program.sample([drag.frame], LEAVING, channels)[:, 0]
    # The idle system is drawn where it fits the pose, so that is where a drag of it starts.
    values = now if dragged == driving else fit_values(limb, here, dragged, now)[:, 0]
    wanted: dict[int, float] = {}
    if drag.handle == "joint":
        if drag.joint not in limb.part.joints:
            raise CoreError(f"{limb.part.label} has no joint {drag.joint}.")
        order = limb.part.orders[limb.part.joints.index(drag.joint)]
        wanted = _joint_turns(program, drag, drag.joint, order, here, turn)
    elif drag.handle == "guide":
        swivel = swivel_towards(limb, here, np.array(drag.position))
        wanted = {int(limb.ik[6]): float(wrap_near(swivel, values[6]))}
    else:
        out = np.empty((6, 1))
        fk.fit_place(
            np.array([drag.position]), turn[None], here.pos[:, limb.space], here.rot[:, limb.space],
            ORDERS.index(limb.part.end_order), values[3:6], out,
        )  # fmt: skip
        wanted = {int(c): float(v) for c, v in zip(limb.ik[:6], out[:, 0], strict=True)}
    wanted = {c: 0.0 if c in limb.locked else v for c, v in wanted.items()}
    # How far a guide stands moves nothing, so it is kept as it was put whichever system drives.
    guide = {limb.guide: guide_distance(limb, here, np.array(drag.position))} if drag.handle == "guide" else {}
    if dragged == driving:
        return Posed(wanted | guide, driving)
    overrides: dict[int, float | Floats] = {int(c): float(v) for c, v in zip(channels, values, strict=True)}
    overrides |= wanted
    overrides[limb.drive] = 1.0 if dragged == "ik" else 0.0
    posed = program.evaluate([drag.frame], overrides=overrides)
    mine = system_channels(limb, driving)
    near = program.sample([drag.frame], LEAVING, mine)[:, 0]
    fitted = fit_values(limb, posed, driving, near)[:, 0]
    found = {int(c): 0.0 if int(c) in limb.locked else float(v) for c, v in zip(mine, fitted, strict=True)}
    return Posed(found | guide, driving)


def unit_of(channel: str) -> str:
    """Unit in which a channel is stored: radians, metres, or none."""
    if channel in ANGLES:
        return "rad"
    return "m" if channel in ("tx", "ty", "tz", "guide") else ""
