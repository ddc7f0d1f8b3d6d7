"""Crossfade: a wanted blend over several frames between what two systems hold in their stored keys.

Unlike a handover nothing is fitted: both systems keep their keys, and what drives goes over smoothly. Its keys are tagged,
so that it is never taken for a change that somebody spread by mistake. An end in a contact stays where both hold it.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ..channels import channel_id
from ..curves import (
    ARRIVING,
    CROSSFADE,
    EMPTY,
    FREE,
    LEAVING,
    SMOOTH,
    STEPPED,
    Curve,
    Key,
    insert,
    put,
    sample,
    without,
)
from ..errors import CoreError
from ..express import Curves, set_over
from ..program import Program
from ..proof import prove, reach
from ..rig import Bound
from ..takes import HOLD
from .contact import standing
from .handover import refuse_locked
from .operation import Asked, Choice, Operation, Outcome, Parts, Value, check_parts, labels, offered, system_options


def ramp(old: Curve, first: float, last: float, level: float, default: float) -> Curve:
    """A driver curve that goes over to `level` from first to last, tagged as wanted; its later keys stay."""
    came, arriving = (float(sample(old, [first], side, default)[0]) for side in (LEAVING, ARRIVING))
    kept = without(insert(insert(old, first, default), last, default), first, last)
    start = kept.key(kept.find(first) or 0)
    # The level stays until a later key says what drives from there on.
    return put(
        kept,
        [
            Key(first, arriving, came, start.slope_in, 0.0, SMOOTH, FREE, CROSSFADE),
            Key(last, level, level, 0.0, 0.0, STEPPED, FREE, CROSSFADE),
        ],
    )


def fade(program: Program, bound: Bound, curves: Curves, system: str, first: float, last: float) -> None:
    """Fades one part over to a system from first to last. CoreError where that can't be done."""
    names = program.channel_names()
    order = list(bound.systems)
    at = program.key_times(bound.driver_channels.tolist())
    inside = np.concatenate([[first], at[(at > first) & (at < last)]])
    shares = program.sample(inside, LEAVING, bound.driver_channels)
    now = bound.state(shares)
    if now is None:
        raise CoreError(
            f"{bound.part.label} changes what drives it, or is half-driven, between frames {first:g} and {last:g}: "
            "choose frames over which one system drives."
        )
    if now == system:
        raise CoreError(f"{bound.label_of(system)} already drives {bound.part.label} at frame {first:g}.")
    drivers = dict(bound.drivers)
    rising = order.index(system) > order.index(now)
    moving = drivers[system if rising else now]
    refuse_locked(program, list(drivers.values()), first, last)
    default = float(program.defaults[moving])
    curves[names[moving]] = ramp(curves.get(names[moving], EMPTY), first, last, float(rising), default)
    for name, c in bound.drivers:
        beneath = not rising and order.index(name) < order.index(now) and order.index(name) >= order.index(system)
        if not beneath:
            continue
        # What the fade uncovers is set below it, up to where that changes by itself.
        old = curves.get(names[c], EMPTY)
        later = old.times[old.times > last]
        end = float(later[0]) if len(later) else float(program.take.last)
        level = float(name == system)
        curves[names[c]] = set_over(old, first, end, not len(later), level, float(program.defaults[c]))
    # What stands or holds on meanwhile stays where both systems have it; all the fade long, so that nothing jumps where it ends.
    kept = channel_id(*bound.id, HOLD)
    held = bool(bound.part.folds) and bool(standing(program, bound.id, first, last))
    if held or kept in curves:
        curves[kept] = set_over(curves.get(kept, EMPTY), first, last, False, float(held), 0.0)


OVER = Choice(
    "over", "over", "whole", 8, least=1, most=480, unit="frames", help="From the first frame of the stretch on."
)


def over_stretch(first: float, last: float | None) -> dict[str, Value]:
    """A stretch as the frames of a fade, as far as it can be one."""
    return {"over": int(last - first)} if last is not None and OVER.least <= last - first <= OVER.most else {}


@offered
class Crossfade(Operation):
    """Fades parts over from what one system holds to what another holds."""

    id = "crossfade"
    rank = 12
    carries = True
    label = "Crossfade"
    applies = "systems"
    help = "A wanted blend over some frames: both systems keep their keys, and neither is fitted to the other."
    choices = (
        Choice("to", "to", "name", "", help="Which system it fades to; left out: another than the one that drives."),
        OVER,
    )

    def suggest(
        self, program: Program, parts: Parts, first: float, last: float | None, made: Mapping[str, Value]
    ) -> dict[str, Value]:
        from .operation import OPERATIONS

        found = {
            k: v for k, v in OPERATIONS["handover"].suggest(program, parts, first, last, made).items() if k == "to"
        }
        return found | over_stretch(first, last)

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        return {"to": system_options(program, parts)}

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        check_parts(program, asked.parts)
        to = self.system(program, asked, c["to"])
        first, last = float(asked.first), float(asked.first) + c["over"]
        if not program.take.first <= first < last <= program.take.last:
            raise CoreError(
                f"A crossfade from frame {first:g} to {last:g} does not lie in the take, which runs from "
                f"{program.take.first} to {program.take.last}."
            )
        curves = dict(program.take.curves)
        notes = []
        for member, part in asked.parts:
            bound = program.bound(member, part)
            system = bound.system_for(to)
            if system is None:
                raise CoreError(f"{bound.part.label} has no system {to!r}.")
            fade(program, bound, curves, system, first, last)
            mine = bound.systems[system]
            if not mine.system.moves_alone and not any(len(program.curve(k)) for k in mine.channels):
                notes.append(f"{bound.label_of(system)} of the {bound.part.label} has no keys: it stands at rest.")
        changed = {n: k for n, k in curves.items() if k is not program.take.curves.get(n)}
        after = program.with_curves(changed)
        after.check_loops()
        # Where ends stay is felt within the fade alone, which what drives reaches around.
        driven = {n: k for n, k in changed.items() if not n.endswith(f".{HOLD}")}
        proof = prove("crossfade", program, after, *reach(program.take, driven), notes=tuple(notes))
        one = program.bound(*asked.parts[0])
        said = one.label_of(one.system_for(to) or to)
        label = f"Crossfade {labels(program, asked.parts)} to {said}, frames {first:g} to {last:g}"
        return Outcome(after.take, proof, label)
