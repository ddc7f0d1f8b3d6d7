"""Plant: a hand or foot holds its place and turn on what it stands on from the first frame of a stretch to its last.

    within:   the control follows the anchor with constant values, so the hold is exact between frames too
    after it: what the hold has moved the limb by fades over some frames, as a cubic on top of the keys (Kovar, Schreiner
              and Gleicher, "Footskate cleanup for motion capture editing", 2002, fade their corrections so)

A limb that another system drives, a capture say, is handed over to the one with the control for as long as it needs to be.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from ..contacts import measure, with_contact
from ..curves import ARRIVING, EMPTY, FREE, LEAVING, STEPPED, Curve, insert, put
from ..errors import CoreError
from ..findings import states
from ..program import Program
from ..proof import Proof, prove
from ..rig import Bound
from ..systems.place import place_in
from ..systems.system import Space
from ..takes import Contact, Take
from ..transforms import Floats, wrap_near
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
    """What is asked for. `on`: what is held on to, as `Retether.to` names it; `ease`: frames after the stretch over which
    the hold fades."""

    parts: Parts
    on: str
    first: float
    last: float
    ease: float = 6.0


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
        if not following(bound):
            raise CoreError(f"{bound.part.label} has no control that can hold on to anything.")
        held = on_anchor(program, part, asked.on, first, last)
        if _stands(program, held):
            continue
        now = _plant(now, bound, asked.on, first, last, end)
        now = now.on(with_contact(now.take, held))
    if now is program:
        raise CoreError(
            "This changes nothing: what is chosen is planted there already, from the first frame to the last."
        )
    now.check_loops()
    before = max(first - 1.0, float(program.take.first))
    begin = before if any(_handed_over(program, program.bound(*p), before, end) for p in asked.parts) else first
    return now.take, prove("plant", program, now, begin, end)


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


def _plant(program: Program, bound: Bound, on: str, first: float, last: float, end: float) -> Program:
    """One part held from first to last, eased until end."""
    control = following(bound)[-1]
    system = _system(bound)
    last_of_all = float(program.take.last)
    now = program
    # From a frame earlier on the control is where the limb ends: what arrives at the hold is then what is held.
    start = max(first - 1.0, float(program.take.first))
    refuse_locked(program, control.channels, start, end)
    if _handed_over(program, bound, start, end):
        until = None if end >= last_of_all else end
        now = now.on(handover.apply(now, Handover((bound.id,), system, start, until, keys="every"))[0])
    here = now.bound(*bound.id)
    # What the motion without the hold has at its end, in the space that it is in there.
    free = now.sample([last], LEAVING, np.array(here.controls[control.control.name].channels))[:, 0]
    held = now.on(
        retether.apply(
            now,
            Retether((bound.id,), on, first, None if last >= last_of_all else last, "ride", offset="here", settle=0.0),
        )[0]
    )
    if last >= last_of_all:
        return held
    return _eased(held, held.bound(*bound.id), control.control.name, free, last, end)


def _eased(program: Program, bound: Bound, control: str, free: Floats, last: float, end: float) -> Program:
    """Fades what a hold has moved a control by from `last` on: a cubic that begins with it and ends with nothing."""
    placed = bound.controls[control]
    names = program.channel_names()
    poses = program.evaluate([last], ARRIVING, only=[placed.node])
    space = program.evaluate([last], LEAVING, only=[placed.space])
    found = place_in(
        poses.pos[:, placed.node], poses.rot[:, placed.node],
        Space(space.pos[:, placed.space], space.rot[:, placed.space], space.size(placed.slot)),
        placed.control.order, np.append(np.zeros(3), free[3:]),
    )[:, 0]  # fmt: skip
    length = end - last
    changed: dict[str, Curve] = {}
    for k, c in enumerate(placed.channels):
        off = float(wrap_near(found[k] - free[k], 0.0) if k >= 3 else found[k] - free[k])
        if not off or length <= 0.0:
            continue
        old = program.take.curves.get(names[c], EMPTY)
        default = float(program.defaults[c])
        kept = insert(insert(old, last, default), end, default)
        keys = []
        for key in kept.all_keys():
            if not last <= key.time <= end:
                continue
            u = (key.time - last) / length
            more, slope = off * (1.0 - 3.0 * u * u + 2.0 * u**3), off * (6.0 * u * u - 6.0 * u) / length
            if key.kind == STEPPED and key.time < end:
                slope = 0.0
            new = key._replace(rule=FREE)
            if key.time > last:
                new = new._replace(arriving=key.arriving + more, slope_in=key.slope_in + slope)
            if key.time < end:
                new = new._replace(leaving=key.leaving + more, slope_out=key.slope_out + slope)
            keys.append(new)
        changed[names[c]] = put(kept, keys)
    return program.with_curves(changed)


@offered
class PlantParts(Operation):
    """Plants hands and feet."""

    id = "plant"
    label = "Plant"
    applies = "parts"
    help = "The hand or foot holds its place and turn over the stretch; what that moves fades after it."
    choices = (
        Choice("on", "on", "anchor", "world", help="What it stands on or holds: choose it here, or click it in the view."),
        Choice(
            "ease", "ease over", "whole", 6, least=0, most=96, unit="frames",
            help="Frames after the stretch over which what the hold has moved fades.",
        ),
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return any(c.control.rests_on and c.control.hangs_from for c in following(bound))

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
        take, proof = apply(program, Plant(asked.parts, c["on"], asked.first, last, c["ease"]))
        said = f"Plant {labels(program, asked.parts)} on {retether.read(program, c['on'])}"
        return Outcome(take, proof, f"{said}, {stretch_words(asked.first, asked.last)}")
