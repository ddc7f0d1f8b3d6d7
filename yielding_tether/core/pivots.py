"""Pivot points: controls that turn about points fixed in them, at their keys and between them.

    place of a control in its space = t + c − R·c    with the point at c in the control

A turn keeps the place of its point with its own stretch, in stepped channels, so that naming, moving and deleting points
changes no pose. Where another point takes over, the control is expressed anew from there on: nothing moves at the change.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from .channels import TRANSLATION, channel_id
from .curves import ARRIVING, EMPTY, FREE, LEAVING, SMOOTH, STEPPED, Curve, Key, put, set_value
from .errors import CoreError
from .express import Curves, Placing, carry, control_target, fence, join, set_over
from .followers import BoundControl
from .program import Program
from .rig import Bound
from .takes import PIVOT, PivotPoint
from .transforms import Floats, inverse, rotate

#: Points this near to one another (metres) are one.
SAME = 1e-9
#: Farthest a point may lie from its control, metres.
FARTHEST = 100.0


def turnable(bound: Bound) -> list[BoundControl]:
    """Controls of a part that can be turned about points: those with a place and a turn of their own."""
    return [c for c in bound.controls.values() if c.place >= 0]


def points_of(program: Program, bound: Bound) -> list[PivotPoint]:
    """Points about which a part's controls can be turned, as the take names them."""
    mine = {c.control.name for c in turnable(bound)}
    return [p for p in program.take.points if p.member == bound.member.id and p.control in mine]


def owner_of(program: Program, point: PivotPoint) -> tuple[Bound, BoundControl]:
    """The part whose control is turned about a point, and that; CoreError where there is none."""
    for bound in program.bounds.values():
        for control in turnable(bound) if bound.member.id == point.member else ():
            if control.control.name == point.control:
                return bound, control
    raise CoreError(
        f"The cast has no control {point.member}/{point.control}, which {point.name} of the take is a point of."
    )


def point_at(program: Program, control: BoundControl, place: Sequence[float], frame: float) -> Floats:
    """(3,) where a place in the world is in a control at a frame, at size one. CoreError where that is too far off."""
    poses = program.evaluate([frame], only=[control.node])
    size = poses.size(control.slot)
    off = np.asarray(place, dtype=np.float64) - poses.pos[0, control.node]
    found: Floats = rotate(inverse(poses.rot[0, control.node]), off) / (1.0 if size is None else size[0])
    if not (np.isfinite(found).all() and np.abs(found).max() <= FARTHEST):
        raise CoreError(f"A point to turn about lies within {FARTHEST:g} m of its control.")
    return found


def pivot_of(program: Program, control: BoundControl, frame: float, side: int = LEAVING) -> Floats:
    """(3,) point in a control about which it turns on one side of a frame: zero is its own place."""
    if control.pivot < 0:
        return np.zeros(3)
    return program.now(frame, control.pivot + np.arange(3), side)


def about(
    program: Program, part: tuple[str, str], control: str, point: Floats, first: float, last: float, placing: Placing
) -> Program:
    """The program in which a control turns about a point in it from first to last, its motion expressed anew there."""
    names = [channel_id(part[0], control, axis) for axis in PIVOT]
    start = float(program.take.first)
    # With the channels there and nobody turning about anything yet, all is as it was.
    staged = program.with_curves({n: program.take.curves.get(n, set_value(EMPTY, start, 0.0, STEPPED)) for n in names})
    bound = staged.bound(*part)
    own = bound.controls[control]
    target = control_target(staged, bound, control, {own.pivot + k: float(x) for k, x in enumerate(point)})
    # Its space is the same before and after: its own keys are all that it needs.
    target = replace(target, made_of=frozenset([*own.channels, *own.chosen]))
    open_end = last >= program.take.last
    curves: Curves = dict(staged.take.curves)
    if not open_end:
        fence(staged, curves, target.channels.tolist(), [last])
    carry(staged, target, curves, first, last, open_end, placing)
    for name, value in zip(names, point.tolist(), strict=True):
        curves[name] = set_over(curves[name], first, last, open_end, value, 0.0)
    return staged.with_curves({n: c for n, c in curves.items() if c is not staged.take.curves.get(n)})


def turning_from(program: Program, control: BoundControl, frame: float) -> float:
    """Where a turn that ends at a frame begins: the key of the control before it, or the first frame."""
    times = program.key_times(control.channels)
    before = times[times < frame]
    return float(before[-1]) if len(before) else float(program.take.first)


def turned(program: Program, bound: Bound, control: BoundControl, point: Floats, frame: float) -> tuple[Program, float]:
    """The program in which a control turns about a point from its key before a frame up to that frame, and that key's frame."""
    first = turning_from(program, control, frame)
    there = np.abs(pivot_of(program, control, first) - point).max() <= SAME
    if there and np.abs(pivot_of(program, control, frame, ARRIVING) - point).max() <= SAME:
        return program, first
    return about(program, bound.id, control.control.name, point, first, frame, Placing()), first


def arriving(program: Program, member: str, control: BoundControl, point: Floats, first: float) -> Program:
    """The program in which a control turns about a point from a frame on and no other after it, its values as they are: to
    find those that it arrives with."""
    last = float(program.take.last)
    names = [channel_id(member, control.control.name, axis) for axis in PIVOT]
    if names[0] not in program.take.curves:
        # It never turned about anything but its own place, and does not now.
        return program
    return program.with_curves(
        {
            n: set_over(program.take.curves[n], first, last, True, x, 0.0)
            for n, x in zip(names, point.tolist(), strict=True)
        }
    )


def key_turn(
    program: Program, bound: Bound, name: str, point: Floats, frame: float, first: float, values: dict[int, float]
) -> dict[str, Curve]:
    """Curves of a control with these values (by channel) at a frame, reached about a point from its key at `first`. Where it
    turns about another from that frame on, the pose and its speed pass on."""
    names = program.channel_names()
    control = bound.controls[name]
    curves: dict[str, Curve] = {}
    for c in control.channels:
        if c not in values:
            continue
        old = program.curve(c)
        if c not in range(control.place, control.place + len(TRANSLATION)):
            curves[names[c]] = set_value(old, frame, values[c])
            continue
        # About its point it only turns: what stays where it was does not swing out between the keys.
        i = old.find(first)
        before = None if i is None else old.key(i)
        still = before is not None and abs(before.leaving - values[c]) <= SAME
        if before is not None and still:
            old = put(old, [before._replace(slope_out=0.0, kind=SMOOTH, rule=FREE)])
        i = old.find(frame)
        key = Key(frame, values[c], values[c]) if i is None else old.key(i)
        curves[names[c]] = put(old, [key._replace(arriving=values[c], slope_in=0.0, rule=FREE)])
    if np.abs(pivot_of(program, control, frame) - point).max() > SAME:
        after = program.with_curves(curves)
        made: Curves = dict(after.take.curves)
        join(after, control_target(after, bound, name, {}), made, frame, 0.0)
        curves |= {names[c]: made[names[c]] for c in control.channels}
    return curves
