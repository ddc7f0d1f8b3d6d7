"""Handover: parts change from one system to another, and nothing moves at the change.

    the incoming channels = fit_B(solve_A(x))

At the first frame every channel of the incoming system gets a split key: as time arrives it holds what it held,
as time leaves the fit. Slopes are those of the fit along the motion, so the speed passes on. Then the motion is
carried on at the kept key times or on every frame, the pose is held, or the system is led into its own motion. Where the
stretch already holds the wanted system, its keys stay, and a jump at the change into it is joined.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Any, Literal

import numpy as np

from ..contacts import part_of, planted
from ..curves import ARRIVING, LEAVING
from ..errors import CoreError
from ..express import Curves, Placing, Settling, carry, drive, fence, hold, join, system_target
from ..fitting import fit
from ..program import Program
from ..proof import EXACT, Proof, prove
from ..rig import Bound
from ..takes import Take
from ..transforms import Floats, rotation_distance
from .operation import (
    Asked,
    Choice,
    Operation,
    Outcome,
    Parts,
    Value,
    check_parts,
    check_tolerance,
    labels,
    offered,
    stretch_words,
    system_options,
)


@dataclass(frozen=True)
class Handover:
    """What to hand over: `parts` (member, part) to the system `to`, from frame `first` to `last`, or from there
    on when `last` is None. `after`: carry the motion on, hold the pose, or lead into the system's "own" motion; where a
    pose is held, the speed that arrives passes on and fades over `settle` frames, `speed` "keep" where it leads "settle"
    back onto the held pose, or it stops at once ("stop", or 0 frames). `keys`: on the kept key times, on every frame, or
    on the kept key times and as many more as keep every joint within `tolerance` (metres and radians) of the motion that
    was."""

    parts: Parts
    to: str
    first: float
    last: float | None = None
    after: Literal["carry", "hold", "own"] = "carry"
    keys: Literal["kept", "every", "within", "few"] = "kept"
    settle: int = 4
    speed: Literal["keep", "settle", "stop"] = "keep"
    tolerance: tuple[float, float] = (1e-3, np.pi / 360.0)


@dataclass
class _Work:
    """One part in hand: its curves so far, whether anything changed, what locks took from it."""

    bound: Bound
    system: str
    curves: Curves
    changed: bool = False
    notes: list[str] = field(default_factory=list)
    residual: tuple[float, float] = (0.0, 0.0)
    gives: dict[str, float] = field(default_factory=dict)


def handed_over(program: Program, asked: Handover) -> Program:
    """The take after the handover, for operations that go on from there. CoreError as of `apply`."""
    return _works(program, asked)[0]


def apply(program: Program, asked: Handover) -> tuple[Take, Proof]:
    """The take after the handover, and its proof. CoreError says what can't be done; nothing changes then."""
    after, works, without = _works(program, asked)
    notes = [n for w in works for n in w.notes]
    if without:
        names = ", ".join(b.part.label for b in without)
        notes.append(f"Left out: {names}, which {works[0].bound.label_of(works[0].system)} can't drive.")
    proof = prove(
        "handover", program, after, *_range(program, asked),
        residual=(max(w.residual[0] for w in works), max(w.residual[1] for w in works)),
        gives={k: v for w in works for k, v in w.gives.items()},
        notes=tuple(notes), tolerance=asked.tolerance if asked.keys in ("within", "few") else None,
    )  # fmt: skip
    return after.take, proof


def _works(program: Program, asked: Handover) -> tuple[Program, list[_Work], list[Bound]]:
    """The take after the handover, what was done to each part, and the parts that have no such system."""
    take = program.take
    first, last = _range(program, asked)
    works, without = [], []
    for member, name in asked.parts:
        bound = program.bound(member, name)
        system = bound.system_for(asked.to)
        if system is None:
            without.append(bound)
        else:
            works.append(_hand_over(program, bound, system, asked, first, last))
    if not works:
        there = ", ".join(without[0].label_of(s) for s in without[0].systems)
        raise CoreError(f"{without[0].part.label} has no system {asked.to!r}: it has {there}.")
    if not any(w.changed for w in works):
        raise CoreError(
            f"{works[0].bound.label_of(works[0].system)} already drives {labels(program, asked.parts)} from frame "
            f"{first:g} to {last:g}: nothing to hand over."
        )
    curves = {k: v for w in works if w.changed for k, v in w.curves.items() if v is not take.curves.get(k)}
    after = program.with_curves(curves)
    after.check_loops()
    return after, works, without


def _range(program: Program, asked: Handover) -> tuple[float, float]:
    check_parts(program, asked.parts)
    take = program.take
    first = float(asked.first)
    last = float(take.last if asked.last is None else asked.last)
    if not (np.isfinite(first) and np.isfinite(last)):
        raise CoreError("The first and last frame must be numbers.")
    if first < take.first or last > take.last or first > last:
        raise CoreError(
            f"Frames {first:g} to {last:g} do not lie in the take, which runs from {take.first} to {take.last}."
        )
    if asked.settle < 0:
        raise CoreError("A pose can't settle over less than no frames.")
    check_tolerance(asked.tolerance)
    if first == last and last < take.last:
        raise CoreError("A handover over a range needs a last frame after its first.")
    return first, last


def _hand_over(program: Program, bound: Bound, system: str, asked: Handover, first: float, last: float) -> _Work:
    work = _Work(bound, system, dict(program.take.curves))
    open_end = last >= program.take.last
    incoming = bound.systems[system].channels.tolist()
    refuse_locked(program, [*incoming, *bound.drive_to(system)], first, last)
    settling = Settling(asked.speed, float(asked.settle))
    curves = work.curves
    pieces = _pieces(program, bound, system, first, last)
    target = system_target(program, bound, system)
    if not open_end:
        # Whatever is put within the range is fenced at its end: nothing that follows may feel it.
        fence(program, curves, incoming, [last])
    if asked.after == "hold":
        hold(program, target, curves, first, last, settling)
        _note_locks(program, work, np.array([first]))
        work.changed = True
    else:
        for start, end, stays in pieces:
            if stays:
                work.changed |= _join(program, work, start, settling.fade)
            elif asked.after == "own":
                fence(program, curves, incoming, [start])
                join(program, target, curves, start, settling.fade)
                _note_locks(program, work, np.array([start]))
                work.changed = True
            else:
                placing = Placing(asked.keys, asked.tolerance)
                times = carry(program, target, curves, start, end, end == last and open_end, placing)
                _note_locks(program, work, times)
                if asked.keys == "kept" and len(times) == 2:
                    work.notes.append(
                        f"{bound.part.label} has no keys of its own between frames {start:g} and {end:g}: "
                        "put keys on every frame to follow the motion more closely."
                    )
                work.changed = True
    if not work.changed:
        return work
    drive(program, bound, curves, system, first, last)
    # Every system that keys make is keyed at the change; the outgoing ones keep their shape.
    for name in _drove(program, bound, first, last) - {system}:
        if not bound.systems[name].system.moves_alone:
            fence(program, curves, bound.systems[name].channels.tolist(), (first,) if open_end else (first, last))
    return work


def _drove(program: Program, bound: Bound, first: float, last: float) -> set[str]:
    """Systems that take part anywhere in a stretch, or beside it."""
    at = np.unique(np.concatenate([np.linspace(first, last, 33), program.key_times(bound.driver_channels.tolist())]))
    at = at[(at >= first) & (at <= last)]
    shares = np.concatenate([program.sample(at, side, bound.driver_channels) for side in (ARRIVING, LEAVING)], axis=1)
    found: set[str] = set()
    for k in range(shares.shape[1]):
        found.update(bound.active(lambda d, k=k: (shares[d, k] > 0.0, shares[d, k] < 1.0)))
    return found


def refuse_locked(program: Program, channels: list[int], first: float, last: float) -> None:
    """CoreError where a key that would be written over is locked."""
    names = program.channel_names()
    for c in channels:
        kept = program.curve(c)
        inside = (kept.times >= first) & (kept.times <= last) & (kept.marks[:, 3] > 0)
        if inside.any():
            frame = float(kept.times[inside][0])
            raise CoreError(
                f"The key of {program.reading(names[c])} at frame {frame:g} is locked: unlock it, or choose a stretch without it."
            )


def _pieces(program: Program, bound: Bound, system: str, first: float, last: float) -> list[tuple[float, float, bool]]:
    """The range cut where the drivers change: (start, end, whether the wanted system drives there)."""
    times = program.key_times(bound.driver_channels.tolist())
    edges = sorted({first, last, *times[(times > first) & (times < last)].tolist()})
    if len(edges) == 1:
        edges = [first, last]
    pieces: list[tuple[float, float, bool]] = []
    for start, end in pairwise(edges):
        inside = program.sample(np.linspace(start, end, 5)[:-1], LEAVING, bound.driver_channels)
        stays = bound.state(inside) == system
        if pieces and pieces[-1][2] == stays and not stays:
            pieces[-1] = (pieces[-1][0], end, stays)
        else:
            pieces.append((start, end, stays))
    return pieces


def _join(program: Program, work: _Work, start: float, settle: float) -> bool:
    """Takes a jump out of an existing change into the wanted system. False if nothing jumps there."""
    bound = work.bound
    nodes = bound.nodes
    arriving, leaving = (program.evaluate([start], side, only=nodes) for side in (ARRIVING, LEAVING))
    gap = float(np.linalg.norm(arriving.pos[:, nodes] - leaving.pos[:, nodes], axis=-1).max())
    turn = float(rotation_distance(arriving.rot[:, nodes], leaving.rot[:, nodes]).max())
    if start <= program.take.first or (gap <= EXACT and turn <= EXACT):
        return False
    join(program, system_target(program, bound, work.system), work.curves, start, settle)
    work.notes.append(
        f"{bound.part.label} joins its {bound.label_of(work.system)} keys at frame {start:g}, "
        f"where it jumped by {1000 * gap:.1f} mm."
    )
    return True


def _note_locks(program: Program, work: _Work, times: Floats) -> None:
    """Measures what locked and limited channels keep the incoming system from."""
    mine = work.bound.systems[work.system]
    if not mine.held.any() and not np.isfinite(mine.bounds[~mine.stepped]).any():
        return
    found = fit(program, work.bound, work.system, program.evaluate(times))
    work.residual = (
        max(work.residual[0], float(found.position.max())),
        max(work.residual[1], float(found.rotation.max())),
    )
    work.gives.update(found.gives)


def describe(asked: Handover, program: Program) -> str:
    """One line for the list of revisions."""
    how = {"carry": "", "hold": ", pose held", "own": ", into its own motion"}[asked.after]
    bound = program.bound(*asked.parts[0])
    system = bound.system_for(asked.to)
    to = bound.label_of(system) if system else asked.to
    return f"Hand over {labels(program, asked.parts)} to {to}, {stretch_words(asked.first, asked.last)}{how}"


KEYS = Choice(
    "keys", "where keys are put", "options", "kept",
    (("kept", "kept keys"), ("within", "and more"), ("few", "few keys"), ("every", "every frame")), when=("after", ("carry",)),
)  # fmt: skip
TOLERANCE = (
    Choice(
        "tolerance", "tolerance", "number", 1.0, least=0.01, most=1000.0, unit="mm", folded=True, when=("keys", ("within", "few")),
        help="How far a joint may leave the motion that was, where keys are added within a tolerance.",
    ),
    Choice(
        "tolerance_turn", "and turn", "number", 0.5, least=0.01, most=90.0, unit="°", folded=True,
        when=("keys", ("within", "few")),
    ),
)  # fmt: skip


def tolerance_of(chosen: Mapping[str, Any]) -> tuple[float, float]:
    """The tolerance that was chosen, metres and radians."""
    return chosen["tolerance"] / 1000.0, float(np.radians(chosen["tolerance_turn"]))


@offered
class HandOver(Operation):
    """Hands parts over between systems."""

    id = "handover"
    rank = 10
    carries = True
    label = "Hand over"
    applies = "systems"
    help = "Another system takes the part over; the pose and the speed pass on."
    choices = (
        Choice("to", "to", "name", "", help="Which system takes over; left out: another than the one that drives."),
        Choice(
            "after", "then", "options", "carry",
            (("carry", "carry the motion on"), ("hold", "hold the pose"), ("own", "lead into its own motion")),
            help="Its own motion is what the system's keys hold already, or the capture.",
        ),
        KEYS,
        *TOLERANCE,
        Choice(
            "speed", "speed", "options", "keep",
            (("keep", "passes on"), ("settle", "passes on, back to the pose"), ("stop", "stops at once")), folded=True,
            when=("after", ("hold",)), help="What becomes of the speed where the pose is held.",
        ),
        Choice(
            "settle", "settle over", "whole", 4, least=0, most=48, unit="frames", folded=True, when=("after", ("hold", "own")),
            help="Frames over which the speed fades where no key follows.",
        ),
    )  # fmt: skip

    def suggest(
        self, program: Program, parts: Parts, first: float, last: float | None, made: Mapping[str, Value]
    ) -> dict[str, Value]:
        """What takes over at a jump within the stretch, else another system than the one that drives."""
        several = [program.bound(*p) for p in parts if len(program.bound(*p).systems) > 1]
        if not several:
            return {}
        bound = several[0]
        end = float(program.take.last if last is None else last)
        now = bound.state(program.sample([first], LEAVING, bound.driver_channels)) or bound.keyed_systems[0]
        times = program.key_times(bound.driver_channels.tolist())
        times = times[(times >= first) & (times <= end) & (times > program.take.first)]
        for t in times.tolist() if "to" not in made else []:
            arriving, leaving = (program.sample([t], side, bound.driver_channels) for side in (ARRIVING, LEAVING))
            nodes = bound.nodes
            before, after = (program.evaluate([t], side, only=nodes) for side in (ARRIVING, LEAVING))
            gap = np.linalg.norm(after.pos[:, nodes] - before.pos[:, nodes], axis=-1).max()
            taken = bound.state(leaving)
            if np.any(arriving != leaving) and gap > 1e-4 and taken:
                return {"to": taken}
        keyed = [s for s in bound.keyed_systems if s != now]
        to = str(made.get("to") or (keyed or [s for s in bound.systems if s != now])[-1])
        found: dict[str, Value] = {"to": to}
        if bound.systems[now].system.moves_alone:
            # A capture has no keys of its own to keep to.
            found["keys"] = "every"
        elif to in bound.systems and bound.systems[to].system.moves_alone:
            found["after"] = "own"
        elif any(part_of(program, c) in several for c in planted(program, first, end)):
            # What is planted stays: with the kept keys alone it would leave its place between them.
            found["keys"] = "within"
        return found

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        return {"to": system_options(program, parts)}

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        to = self.system(program, asked, c["to"])
        wanted = Handover(
            asked.parts, to, asked.first, asked.last, c["after"], c["keys"], c["settle"], c["speed"],
            tolerance_of(c),
        )  # fmt: skip
        return Outcome(*apply(program, wanted), describe(wanted, program))
