"""Close on: the fingers of a hand bend until they lie on what they hold, and stay so over a stretch."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ..channels import in_words
from ..curves import EMPTY, FREE, SMOOTH, Curve, Key, insert, put, without
from ..errors import CoreError
from ..fitting import fit_values
from ..grasp import CLEAR, Closed, Surface, close, fingers_of, gaps
from ..program import Program
from ..proof import prove
from ..rig import Bound
from ..shapes import balls_of
from ..transforms import multiply
from ..values import PoseValue
from .handover import refuse_locked
from .operation import (
    Asked,
    Choice,
    Operation,
    Outcome,
    Parts,
    Value,
    check_parts,
    check_stretch,
    offered,
    stretch_words,
)

#: How near a finger lies on what it holds, metres.
ON = 2e-3


@offered
class CloseOn(Operation):
    """Closes hands on something."""

    id = "grip"
    to_layer = True
    label = "Close on"
    help = "The fingers bend until they lie on what they hold, none of them in it."
    choices = (
        Choice("on", "on", "name", "", help="What is held: left out, what is nearest."),
        Choice("by", "bending as", "name", "", help="The value by whose way the fingers bend: left out, the last."),
        Choice(
            "over", "closing over", "whole", 6, least=0, most=48, unit="frames",
            help="Frames before the stretch, and after it.",
        ),
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return bool(bound.part.values) and len(fingers_of(bound)) > 1

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        if len(parts) != 1:
            return {}
        bound = program.bound(*parts[0])
        others = [m for m in program.scene.members if m.id != bound.member.id and m.shapes]
        return {
            "on": tuple((m.id, m.name) for m in others),
            "by": tuple((v.name, v.name) for v in reversed(bound.part.values)),
        }  # fmt: skip

    def suggest(
        self, program: Program, parts: Parts, first: float, last: float | None, made: Mapping[str, Value]
    ) -> dict[str, Value]:
        if len(parts) != 1:
            return {}
        bound = program.bound(*parts[0])
        return {"on": _nearest(program, bound, first), "by": bound.part.values[-1].name if bound.part.values else ""}

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        check_parts(program, asked.parts)
        if len(asked.parts) != 1:
            raise CoreError("Choose one hand to close.")
        bound = program.bound(*asked.parts[0])
        first, last = check_stretch(program.take, asked.first, asked.last)
        value = _value(bound, c["by"])
        on = c["on"] or _nearest(program, bound, first)
        if on == bound.member.id or not program.scene.member(on).shapes:
            raise CoreError(
                f"{bound.who} can't close on {program.scene.member(on).name}: choose what has a surface of its own."
            )
        if bound.state(program.now(first, bound.driver_channels)[:, None]) != bound.by_joints:
            raise CoreError(f"{bound.who} is not driven by keys at frame {first:g}: hand it over to FK there first.")
        closed = close(program, bound, value, [on], first)
        reached = [g <= ON for g in closed.gaps]
        name = program.scene.member(on).name
        if not any(reached):
            raise CoreError(
                f"No finger of {bound.who} reaches the {name.lower()} at frame {first:g}: bring the hand nearer first."
            )
        after = program.with_curves(_keyed(program, bound, closed, first, last, float(c["over"])))
        notes = _told(program, after, bound, closed, on, first, last)
        low, high = max(first - c["over"], float(program.take.first)), min(last + c["over"], float(program.take.last))
        return Outcome(
            after.take, prove(self.id, program, after, low, high, notes=notes),
            f"Close {bound.who} on {name}, {stretch_words(asked.first, asked.last)}",
        )  # fmt: skip


def _value(bound: Bound, name: str) -> PoseValue:
    known = {v.name: v for v in bound.part.values}
    if not known:
        raise CoreError(f"{bound.who} has no named value by whose way it could close: record one first.")
    if name and name not in known:
        raise CoreError(f"{bound.who} has no value {name!r}: it has {', '.join(known)}.")
    return known[name] if name else bound.part.values[-1]


def _nearest(program: Program, bound: Bound, frame: float) -> str:
    """The member whose surface is nearest to the middle of a part; CoreError where nothing has one."""
    poses = program.evaluate([frame], only=bound.nodes)
    middle = poses.pos[:, bound.nodes].mean(axis=1, keepdims=True)
    others = [m.id for m in program.scene.members if m.id != bound.member.id and m.shapes]
    if not others:
        raise CoreError("Nothing in the cast has a surface to close on.")
    return min(others, key=lambda m: float(Surface(program, [m], np.array([frame])).off(middle)[0, 0]))


def _keyed(program: Program, bound: Bound, closed: Closed, first: float, last: float, over: float) -> dict[str, Curve]:
    """Curves with the hand closed from first to last, as it was `over` frames before and after."""
    poses = program.evaluate([first], only=program.fit_nodes([bound]))
    for k in bound.outward:
        up = int(bound.up[k])
        above = poses.rot[0, bound.nodes[up] if up >= 0 else bound.above[k]]
        poses.rot[0, bound.nodes[k]] = multiply(multiply(above, bound.rests[k]), closed.turns[k])
    mine = bound.systems[bound.by_joints]
    values = fit_values(program, bound, bound.by_joints, poses, program.now(first, mine.channels))[:, 0]
    channels = mine.channels[: 3 * len(bound.nodes)]
    refuse_locked(program, channels.tolist(), max(first - over, float(program.take.first)), last)
    names = program.channel_names()
    found: dict[str, Curve] = {}
    open_end = last >= program.take.last
    for c, value in zip(channels.tolist(), values.tolist(), strict=False):
        old = program.take.curves.get(names[c], EMPTY)
        if not len(old) and abs(value - program.defaults[c]) < 1e-12:
            continue
        default = float(program.defaults[c])
        kept = insert(old, max(first - over, float(program.take.first)), default)
        kept = insert(kept, first, default)
        if not open_end:
            kept = insert(insert(kept, last, default), min(last + over, float(program.take.last)), default)
        times = {first, *((last,) if not open_end else ()), *(t for t in old.times.tolist() if first <= t <= last)}
        held = [Key(t, value, value, 0.0, 0.0, SMOOTH, FREE) for t in sorted(times)]
        found[names[c]] = put(without(kept, first, np.inf) if open_end else without(kept, first, last), held)
    return found


def _told(
    program: Program, after: Program, bound: Bound, closed: Closed, on: str, first: float, last: float
) -> tuple[str, ...]:
    """Which fingers lie on what is held, which do not, and how that changes over the stretch."""
    what = program.scene.member(on).name.lower()
    # A finger is called after the first joint of it that has a bone: what carries it may have none.
    bones = set(balls_of(bound.member.shapes, bound.part.joints).joint.tolist())
    names = [in_words(bound.part.joints[next((k for k in run if k in bones), run[0])]) for run in closed.fingers]
    lie = [n for n, far in zip(names, closed.gaps, strict=True) if -CLEAR <= far <= ON]
    said = [f"On the {what}: {', '.join(lie)}."] if lie else []
    for name, far in zip(names, closed.gaps, strict=True):
        if far > ON:
            said.append(f"{name.capitalize()} does not reach it by {1000.0 * far:.0f} mm.")
        elif far < -CLEAR:
            said.append(f"{name.capitalize()} is {-1000.0 * far:.1f} mm within it as it opens: move the hand.")
    frames = np.unique(np.append(np.arange(np.ceil(first), last), [first, last]))[:: max(1, int((last - first) // 40))]
    far_off = gaps(after, bound, [on], frames)
    moved = np.abs(far_off - far_off[0])
    if moved.max() > ON:
        k = int(np.argmax(moved))
        said.append(f"It does not stay so: at frame {frames[k]:g} the hand is {1000.0 * far_off[k]:.0f} mm off.")
    return tuple(said)
