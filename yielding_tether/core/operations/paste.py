"""Pasting a clip: to another frame, take, body or side. What has no match is listed, never dropped in silence."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from ..channels import channel_id
from ..clips import Clip, PartClip, matching, owner_of, put_turns, reflected, slots
from ..curves import ARRIVING, EMPTY, FREE, LEAVING, SMOOTH, STEPPED, Key, over, set_value
from ..errors import CoreError
from ..express import Curves, Motion, fit_along, system_target
from ..measure import stencil
from ..pivots import turnable
from ..program import Poses, Program
from ..proof import Proof, prove, reach
from ..rig import Bound
from ..sides import across
from ..takes import PIVOT, Take
from ..transforms import Floats, Ints
from .operation import Asked, Choice, Operation, Outcome, offered


@dataclass(frozen=True)
class Paste:
    """A clip put onto `member` at `frame`; `swap` puts it on the other side, reflected. `way`: "pose" poses the joints
    and fits every system to them, "values" writes the channels as they were keyed. With `systems` a range brings what
    drives and what is followed along; a pose never does, since both systems take it."""

    clip: Clip
    member: str
    frame: float
    swap: bool = False
    way: Literal["pose", "values"] = "pose"
    systems: bool = True


def apply(program: Program, asked: Paste) -> tuple[Take, Proof]:
    """The take with the clip pasted, and its proof; its notes list what found no match. CoreError if nothing did."""
    take, clip = program.take, asked.clip
    first, last = float(asked.frame), float(asked.frame) + clip.length
    if not take.first <= first <= last <= take.last:
        raise CoreError(
            f"The clip would reach from frame {first:g} to {last:g}; the take runs from {take.first} to {take.last}."
        )
    if asked.swap and asked.way == "values":
        raise CoreError("Values can't be put on the other side as they are: paste the pose.")
    member = program.scene.member(asked.member)
    pairs: list[tuple[PartClip, Bound]] = []
    notes = []
    for copied in clip.parts:
        part = matching(member, copied, asked.swap)
        if part is None:
            notes.append(
                f"{copied.label}: {member.name} has no part like it" + (" on the other side." if asked.swap else ".")
            )
        else:
            pairs.append((copied, program.bound(member.id, part.name)))
    if not pairs:
        raise CoreError(f"Nothing of this clip has a match in {member.name}: {' '.join(notes)}")
    begun, program = program, with_points(program, pairs)
    pairs = [(copied, program.bound(*bound.id)) for copied, bound in pairs]
    take = program.take
    refused = [b.part.label for _, b in pairs if _moves_alone(program, b, first, last)]
    if refused:
        raise CoreError(
            f"Captured motion drives {', '.join(refused)} between frames {first:g} and {last:g}, and would hide what is "
            "pasted: hand it over to keys there first."
        )
    curves = dict(take.curves)
    if asked.systems and clip.length > 0.0:
        for copied, bound in pairs:
            notes += _values(program, copied, bound, curves, first, last, drivers=True)
            notes += _weights(program, copied, bound, curves, first, last)
    # The poses are put where the body stands once all that drives and is followed is in place, from the root outward.
    normal = across(member)
    for copied, bound in sorted(pairs, key=lambda pair: int(pair[1].nodes.min())):
        if asked.way == "values" or bound.part.free:
            notes += _values(program, copied, bound, curves, first, last, drivers=False)
        else:
            now = program.with_curves(curves)
            _pose(now, copied, bound, curves, first, last, normal if asked.swap else None)
    changed = {n: c for n, c in curves.items() if c is not take.curves.get(n)}
    after = program.with_curves(changed)
    after.check_loops()
    low, high = (first, last) if clip.length > 0.0 else reach(take, changed)
    return after.take, prove("paste", begun, after, low, high, notes=tuple(notes))


def with_points(program: Program, pairs: list[tuple[PartClip, Bound]]) -> Program:
    """The program in which controls can turn about points where those that were copied do: they are keyed only where they do."""
    more = {}
    zero = set_value(EMPTY, program.take.first, 0.0, STEPPED)
    for copied, bound in pairs:
        there = slots(program, bound)
        names = {owner_of(bound, c.control.name): c.control.name for c in turnable(bound)}
        for slot, _, kept, _ in copied.channels:
            owner, _, axis = slot.rpartition(" ")
            if kept is not None and axis in PIVOT and slot not in there and owner in names:
                more[channel_id(bound.member.id, names[owner], axis)] = zero
    return program.with_curves(more) if more else program


def _moves_alone(program: Program, bound: Bound, first: float, last: float) -> bool:
    """Whether a system that moves by itself takes part anywhere in the stretch."""
    at = np.linspace(first, last, 9)
    return any(
        bound.systems[name].system.moves_alone and bool(np.any(program.sample(at, LEAVING, np.array([c])) > 0.0))
        for name, c in bound.drivers
    )


def _weights(program: Program, copied: PartClip, bound: Bound, curves: Curves, first: float, last: float) -> list[str]:
    """Pastes the weights of what is followed; returns what has no match."""
    notes = []
    mine = {program.info[c][2].name: c for c in bound.weight_channels}
    for suffix, weight in copied.weights:
        if suffix not in mine:
            notes.append(f"{bound.part.label}: it follows nothing called {suffix.partition('.')[0]} here.")
            continue
        name = program.channel_names()[mine[suffix]]
        curves[name] = over(curves.get(name, EMPTY), _at(weight.all_keys(), first), first, last, 0.0)
    return notes


def _flat(value: float, length: float) -> list[Key]:
    return [Key(0.0, value, value, kind=STEPPED, rule=FREE), Key(length, value, value, kind=STEPPED, rule=FREE)]


def _at(keys: list[Key], first: float) -> list[Key]:
    return [k._replace(time=k.time + first) for k in keys]


def _values(
    program: Program, copied: PartClip, bound: Bound, curves: Curves, first: float, last: float, drivers: bool
) -> list[str]:
    """Writes the channels as they were keyed, the drivers or all others; returns what has no match."""
    notes = []
    own = slots(program, bound)
    for slot, role, kept, default in copied.channels:
        if (role == "drive") != drivers:
            continue
        channel = own.get(slot)
        if channel is None:
            notes += [f"{bound.part.label}: it has no channel {slot}."] if kept is not None else []
            continue
        name = program.channel_names()[channel]
        old = curves.get(name, EMPTY)
        if last == first:
            value = kept.key(0).leaving if kept is not None else default
            stepped = program.info[channel][2].trait.stepped
            curves[name] = set_value(old, first, value, STEPPED if stepped else SMOOTH)
        elif kept is not None or len(old):
            keys = kept.all_keys() if kept is not None else _flat(default, last - first)
            curves[name] = over(old, _at(keys, first), first, last, default)
    return notes


def _pose(
    program: Program, copied: PartClip, bound: Bound, curves: Curves, first: float, last: float, normal: Floats | None
) -> None:
    """Poses the joints as they were copied and fits every system of the part that keys make to them."""
    turns = copied.turns if normal is None else reflected(copied.turns, normal)
    times = copied.times + first
    at, side = stencil(times, copied.step)
    order = np.lexsort((-side, at))
    sorted_turns = turns.reshape(-1, len(bound.nodes), 4)[order]

    def poses(at: Floats, side: Ints) -> Poses:
        # Only the stencils of the clip's own key times are known. What lies beyond the take stands still.
        found = program.evaluate(at, side)
        put_turns(bound, found, sorted_turns)
        return found

    motion = Motion(program, poses, lambda _: copied.step, between=False)
    for system in bound.keyed_systems:
        mine = bound.systems[system]
        near = program.now(first, mine.channels)
        fitted = fit_along(motion, system_target(program, bound, system), times, np.ones(len(times), dtype=bool), near)
        for k, c in enumerate(mine.channels):
            if mine.held[k]:
                continue
            name = program.channel_names()[c]
            kind = STEPPED if mine.stepped[k] else SMOOTH
            old = curves.get(name, EMPTY)
            if last == first:
                curves[name] = set_value(old, first, float(fitted.values[LEAVING, k, 0]), kind)
                continue
            values, slopes = fitted.values[:, k].tolist(), fitted.slopes[:, k].tolist()
            keys = [
                Key(
                    float(t),
                    values[ARRIVING][n],
                    values[LEAVING][n],
                    slopes[ARRIVING][n],
                    slopes[LEAVING][n],
                    kind,
                    FREE,
                )
                for n, t in enumerate(times)
            ]
            curves[name] = over(old, keys, first, last, float(program.defaults[c]))


def describe(asked: Paste) -> str:
    """One line for the list of revisions."""
    side = " on the other side" if asked.swap else ""
    return f"Paste {asked.clip.name} at frame {asked.frame:g}{side}"


@offered
class PasteClip(Operation):
    """Puts a clip onto a body."""

    id = "paste"
    to_layer = True
    label = "Paste"
    applies = "clip"
    help = "Puts a clip here: on this body, or on its other side."
    choices = (
        Choice("swap", "side", "options", "same", (("same", "same side"), ("other", "other side"))),
        Choice("way", "as", "options", "pose", (("pose", "pose, all systems fitted"), ("values", "values as keyed"))),
        Choice(
            "systems", "systems", "options", "with", (("with", "with what drives and is followed"), ("without", "without")),
            folded=True,
        ),
    )  # fmt: skip

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        if asked.clip is None or not asked.parts:
            raise CoreError("A paste needs a clip, and a part of who it goes to.")
        wanted = Paste(
            asked.clip, asked.parts[0][0], asked.first, c["swap"] == "other", c["way"], c["systems"] == "with"
        )
        return Outcome(*apply(program, wanted), describe(wanted))
