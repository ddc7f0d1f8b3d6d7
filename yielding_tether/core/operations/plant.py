"""Plant: a hand or foot holds its place and turn on what it stands on from the first frame of a stretch to its last.

    within:   the control follows the anchor with constant values, so the hold is exact between frames too
    outside:  what the hold changes of place and speed fades over some frames, as a cubic on top of the keys (Kovar, Schreiner
              and Gleicher, "Footskate cleanup for motion capture editing", 2002, fade their corrections so)

A limb that another system drives, a capture say, is handed over to the one with the control for as long as it needs to be.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from ..contacts import measure, with_contact
from ..curves import ARRIVING, EMPTY, FREE, LEAVING, STEPPED, Curve, Key, insert, put, without
from ..errors import CoreError
from ..findings import states
from ..program import Program
from ..proof import Proof, prove, switch_times
from ..rig import Bound
from ..systems.place import place_in
from ..systems.system import Space
from ..takes import Contact, Take
from ..transforms import multiply, rotate, wrap_near
from . import handover, retether
from .contact import named, nearest, on_anchor
from .handover import Handover, refuse_locked
from .operation import (
    Asked,
    Choice,
    Operation,
    Outcome,
    Parts,
    Value,
    check_parts,
    check_stretch,
    labels,
    offered,
    stretch_words,
)
from .retether import Retether, anchors, following

#: An end that leaves its place by no more than this (metres, radians) is held already.
SAME = 1e-6


@dataclass(frozen=True)
class Plant:
    """What is asked for. `on`: what is held on to, as `Retether.to` names it; `before`: frames before the stretch over which the
    speed goes over to that of what is held, `ease`: those after it over which the hold fades."""

    parts: Parts
    on: str
    first: float
    last: float
    ease: float = 6.0
    before: float = 3.0


def apply(program: Program, asked: Plant) -> tuple[Take, Proof]:
    """The take after it, and its proof, which tells the slip. CoreError says what can't be done; nothing changes then."""
    check_parts(program, asked.parts)
    first, last = check_stretch(program.take, asked.first, asked.last)
    if last <= first:
        raise CoreError("A hold needs a last frame after its first.")
    end = min(last + max(asked.ease, 0.0), float(program.take.last))
    now = program
    for part in asked.parts:
        bound = program.bound(*part)
        if not any(c.control.touches for c in following(bound)):
            raise CoreError(f"{bound.part.label} has no control that can hold on to anything.")
        held = on_anchor(program, part, asked.on, first, last)
        if _stands(program, held):
            continue
        now = _plant(now, bound, asked.on, first, last, end, _start(program, bound, first, asked.before))
        now = now.on(with_contact(now.take, held))
    if now is program:
        raise CoreError(
            "This changes nothing: what is chosen is planted there already, from the first frame to the last."
        )
    now.check_loops()
    begin = min(_start(program, program.bound(*p), first, asked.before) for p in asked.parts)
    return now.take, prove("plant", program, now, begin, end)


def _start(program: Program, bound: Bound, first: float, before: float) -> float:
    """From when on a part is led to where it is held: from a frame earlier on at least its control is where it ends, so that what
    arrives is what is held; but not from before it last changed what drives it or what it follows."""
    changes = [t for t in switch_times(program, bound) if t < first]
    return float(max([first - max(before, 1.0), float(program.take.first), *changes]))


def _stands(program: Program, held: Contact) -> bool:
    """Whether an end is known to stand there and does not leave its place by more than rounding."""
    known = any(
        (c.member, c.joint, c.anchor_member, c.anchor) == (held.member, held.joint, held.anchor_member, held.anchor)
        and c.first <= held.first and c.last >= held.last
        for c in program.take.contacts
    )  # fmt: skip
    if not known:
        return False
    slip = measure(program, held)
    return float(slip.place.max()) <= SAME and float(slip.turn.max()) <= SAME


def _handed_over(program: Program, bound: Bound, start: float, end: float) -> bool:
    """Whether another system than the one with the control drives a part at some time of a hold."""
    system = _system(bound)
    return any(s.state != system for s in states(program, bound) if s.first < end and s.last > start)


def _system(bound: Bound) -> str:
    """The system that has the control of a part's end."""
    control = following(bound)[-1].control.name
    return next(n for n, s in bound.systems.items() if any(c.name == control for c in s.controls))


def _plant(program: Program, bound: Bound, on: str, first: float, last: float, end: float, start: float) -> Program:
    """One part held from first to last, led to it from start on, eased until end."""
    control = following(bound)[-1]
    system = _system(bound)
    last_of_all = float(program.take.last)
    now = program
    refuse_locked(program, control.channels, start, end)
    if _handed_over(program, bound, start, end):
        until = None if end >= last_of_all else end
        now = now.on(handover.apply(now, Handover((bound.id,), system, start, until, keys="every"))[0])
    held = now.on(
        retether.apply(
            now,
            Retether((bound.id,), on, first, None if last >= last_of_all else last, "ride", offset="here", settle=0.0),
        )[0]
    )
    edges = [(edge, until) for edge, until in ((first, start), (last, end)) if program.take.first < edge < last_of_all]
    for edge, until in edges:
        held = _eased(held, held.bound(*bound.id), control.control.name, on, 0.5 * (first + last), edge, until)
    tilts = bound.systems[system].system.tilts(bound, control.control.name)
    refuse_locked(program, tilts, start, end)
    return held.with_curves(_stilled(held, tilts, first, last, edges))


def _stilled(
    program: Program, channels: list[int], first: float, last: float, edges: list[tuple[float, float]]
) -> dict[str, Curve]:
    """Channels that stay as they are at the first frame of a hold, so that what rests on its control does not move in it; what that
    changes fades outward from each edge."""
    names = program.channel_names()
    changed: dict[str, Curve] = {}
    for c in channels:
        kept = program.curve(c)
        if not len(kept):
            continue
        default = float(program.defaults[c])
        value = float(program.now(first, [c])[0])
        for edge, until in edges:
            kept = insert(insert(kept, edge, default), until, default)
            key = kept.key(kept.find(edge) or 0)
            out = until > edge
            now, slope = (key.leaving, key.slope_out) if out else (key.arriving, key.slope_in)
            kept = put(kept, _faded(kept, edge, until, value - now, -slope if out else slope))
        kept = without(insert(insert(kept, first, default), last, default), first, last)
        start, end = (kept.key(kept.find(t) or 0) for t in (first, last))
        start = start._replace(leaving=value, slope_out=0.0, rule=FREE)
        end = end._replace(arriving=value, slope_in=0.0, rule=FREE)
        # Where the take begins or ends with the hold, there is nothing on its other side.
        if first <= program.take.first:
            start = start._replace(arriving=value, slope_in=0.0)
        if last >= program.take.last:
            end = end._replace(leaving=value, slope_out=0.0)
        changed[names[c]] = put(kept, [start, end])
    return changed


#: Step of the difference that gives the speed with which what is held moves, frames.
_STEP = 1.0 / 64.0


def _eased(program: Program, bound: Bound, control: str, on: str, inside: float, edge: float, until: float) -> Program:
    """Fades what a hold changes a control by from one of its edges outward: a cubic that begins with the place and the speed of
    what is held, and ends with nothing. inside: a frame of the hold."""
    placed = bound.controls[control]
    names = program.channel_names()
    length = abs(until - edge)
    if length <= 0.0:
        return program
    out = 1.0 if until > edge else -1.0
    side = LEAVING if out > 0.0 else ARRIVING
    node = program.world if on == "world" else program.nodes[retether.anchor_of(on)]
    seen = retether.seen_from(program, node, bound, placed.control, inside, LEAVING)
    at = edge + out * _STEP * np.arange(3.0)
    poses = program.evaluate(at, side, only=[node, placed.space])
    size = program.sizes(at, side, node)[:, None]
    near = program.now(edge, placed.channels, side)
    wanted = place_in(
        poses.pos[:, node] + rotate(poses.rot[:, node], size * np.array(seen[:3])),
        multiply(poses.rot[:, node], np.broadcast_to(np.array(seen[3:]), (3, 4))),
        Space(poses.pos[:, placed.space], poses.rot[:, placed.space], poses.size(placed.slot)),
        placed.control.order, near,
    )  # fmt: skip
    speeds = out * (-3.0 * wanted[:, 0] + 4.0 * wanted[:, 1] - wanted[:, 2]) / (2.0 * _STEP)
    changed: dict[str, Curve] = {}
    for k, c in enumerate(placed.channels):
        old = program.take.curves.get(names[c], EMPTY)
        default = float(program.defaults[c])
        kept = insert(insert(old, edge, default), until, default)
        key = kept.key(kept.find(edge) or 0)
        value, slope = (key.leaving, key.slope_out) if out > 0.0 else (key.arriving, key.slope_in)
        off = float(wrap_near(wanted[k, 0] - value, 0.0) if k >= 3 else wanted[k, 0] - value)
        more = float(speeds[k]) - slope
        changed[names[c]] = put(kept, _faded(kept, edge, until, off, out * more))
    return program.with_curves(changed)


def _faded(kept: Curve, edge: float, until: float, off: float, speed: float) -> list[Key]:
    """Keys of a curve between two times with a cubic on top that has a value and a speed away from the edge there, and ends with
    nothing."""
    length, out = abs(until - edge), 1.0 if until > edge else -1.0
    keys = []
    for key in kept.all_keys():
        u = out * (key.time - edge) / length
        if not 0.0 <= u <= 1.0:
            continue
        more = off * (1.0 - 3.0 * u * u + 2.0 * u**3) + speed * length * (u - 2.0 * u * u + u**3)
        slope = out * (off * (6.0 * u * u - 6.0 * u) / length + speed * (1.0 - 4.0 * u + 3.0 * u * u))
        new = key._replace(rule=FREE)
        arrives, leaves = (u > 0.0, u < 1.0) if out > 0.0 else (u < 1.0, u > 0.0)
        if arrives:
            new = new._replace(arriving=key.arriving + more, slope_in=key.slope_in + slope)
        if leaves:
            new = new._replace(
                leaving=key.leaving + more, slope_out=key.slope_out + (0.0 if key.kind == STEPPED else slope)
            )
        keys.append(new)
    return keys


@offered
class PlantParts(Operation):
    """Plants hands and feet."""

    id = "plant"
    rank = 22
    label = "Plant"
    applies = "parts"
    help = "The hand or foot holds its place and turn over the stretch; what that moves fades after it."
    choices = (
        Choice("on", "on", "anchor", "world", help="What it stands on or holds: choose it here, or click it in the view."),
        Choice(
            "ease", "ease over", "whole", 6, least=0, most=96, unit="frames",
            help="Frames after the stretch over which what the hold has moved fades.",
        ),
        Choice(
            "before", "arrives over", "whole", 3, least=0, most=96, unit="frames", folded=True,
            help="Frames before the stretch over which the speed goes over to that of what is held.",
        ),
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return any(c.control.touches for c in following(bound))

    def suggest(
        self, program: Program, parts: Parts, first: float, last: float | None, made: Mapping[str, Value]
    ) -> dict[str, Value]:
        """What the take says it stands on there, or what its motion shows."""
        end = float(program.take.last) if last is None else last
        near = next((c for p in parts if (c := nearest(program, p, first, end))), None)
        return {"on": named(near)} if near else {}

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        return {"on": tuple(a for a in anchors(program) if a[0] != retether.OWN)}

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        last = float(program.take.last if asked.last is None else asked.last)
        take, proof = apply(program, Plant(asked.parts, c["on"], asked.first, last, c["ease"], c["before"]))
        said = f"Plant {labels(program, asked.parts)} on {retether.read(program, c['on'])}"
        return Outcome(take, proof, f"{said}, {stretch_words(asked.first, asked.last)}")
