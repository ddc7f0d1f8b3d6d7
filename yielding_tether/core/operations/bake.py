"""Bake: what moves parts, a capture, another system, what they follow, becomes keys of a chosen system.

    channels = fit(the joints that are there), keys on every frame, on the keys that are there, or as few as will do

Parts are baked from the root outward, each fitted to the motion that was there on top of what is baked already: so what a
tolerance took below is not carried on, and every joint stays within its own.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from ..curves import LEAVING
from ..errors import CoreError
from ..express import FINE, Judged, Motion, Placing, carry, drive, fence, system_target
from ..measure import steps
from ..program import Poses, Program
from ..proof import Proof, prove
from ..rig import Bound
from ..takes import Take
from ..transforms import Floats, Ints, inverse, rotate
from .handover import TOLERANCE, refuse_locked, tolerance_of
from .operation import (
    Asked,
    Choice,
    Operation,
    Outcome,
    Parts,
    Value,
    check_parts,
    check_stretch,
    check_tolerance,
    labels,
    offered,
    stretch_words,
    system_options,
)
from .retether import anchors, following, switched

#: Share of the tolerance that a part may use beside those below it, while others that are baked hang from it.
CARRYING = 0.35


@dataclass(frozen=True)
class Bake:
    """What is asked for. `to`: the system that takes the keys, "" the one that each part has keys in, or its last; `follow`:
    what its control follows then, as `Retether.to` names it, "" what it follows."""

    parts: Parts
    to: str
    first: float
    last: float | None = None
    keys: Literal["few", "every", "kept"] = "few"
    tolerance: tuple[float, float] = (1e-3, np.pi / 360.0)
    follow: str = ""


def apply(program: Program, asked: Bake) -> tuple[Take, Proof]:
    """The take after it, and its proof. CoreError says what can't be done; nothing changes then."""
    check_parts(program, asked.parts)
    first, last = check_stretch(program.take, asked.first, asked.last)
    if first == last:
        raise CoreError("A bake needs a last frame after its first.")
    check_tolerance(asked.tolerance)
    bounds = sorted((program.bound(*p) for p in asked.parts), key=lambda b: int(b.nodes.min()))
    now = program
    for bound in bounds:
        system = _system(bound, asked.to)
        if asked.follow and following(bound):
            now = switched(now, now.bound(*bound.id), asked.follow, first, last)
        now = _bake(program, now, now.bound(*bound.id), system, asked, first, last)
    now.check_loops()
    within = asked.tolerance if asked.keys == "few" else None
    return now.take, prove("bake", program, now, first, last, tolerance=within)


def _system(bound: Bound, wanted: str) -> str:
    """The system of a part that takes the keys."""
    if not wanted:
        return bound.keyed_systems[-1]
    found = bound.system_for(wanted)
    if found is None or bound.systems[found].system.moves_alone:
        there = ", ".join(bound.label_of(s) for s in bound.keyed_systems)
        raise CoreError(f"{bound.part.label} can't be baked to {wanted!r}: its keys are in {there}.")
    return found


def _bake(program: Program, now: Program, bound: Bound, system: str, asked: Bake, first: float, last: float) -> Program:
    """Bakes one part on top of what is baked already."""
    curves = dict(now.take.curves)
    open_end = last >= program.take.last
    target = system_target(now, bound, system)
    refuse_locked(now, [*target.channels.tolist(), *bound.drive_to(system)], first, last)
    if not open_end:
        fence(now, curves, target.channels.tolist(), [last])
    inside = set(bound.nodes.tolist())
    around = np.array(sorted(set(target.nodes.tolist()) - inside), dtype=np.int64)
    breaks = program.key_times()

    def poses(at: Floats, side: Ints) -> Poses:
        # The part as it was, and around it what is there now.
        found = program.evaluate(at, side, only=target.nodes)
        if now is program or not len(around):
            return found
        base = now.evaluate(at, side, only=around)
        if bound.above[0] in around:
            above, begin = int(bound.above[0]), int(bound.nodes[0])
            # The part moves along with where it begins: to reach for its old end would bend a limb that is all but straight.
            local = rotate(inverse(found.rot[:, above]), found.pos[:, begin] - found.pos[:, above])
            shift = base.pos[:, above] + rotate(base.rot[:, above], local) - found.pos[:, begin]
            found.pos[:, bound.nodes] += shift[:, None]
        found.pos[:, around], found.rot[:, around] = base.pos[:, around], base.rot[:, around]
        return found

    motion = Motion(now, poses, lambda t: FINE * steps(breaks, t))
    # A part answers for its own joints and for what hangs from them, as far as that is not baked by itself.
    asked_for = [program.bounds[p] for p in asked.parts if p != bound.id]
    carried = [b for b in asked_for if _hangs(program, b, inside)]
    others = {n for b in carried for n in b.nodes.tolist()}
    answers = [b for b in program.bounds.values() if b.id != bound.id and _hangs(program, b, inside)]
    answers = [b for b in answers if b not in carried and not _hangs(program, b, others)]
    # Where a part begins that is baked on top of it counts too.
    begins = [int(b.nodes[0]) for b in carried]
    watched = np.array([*(n for b in (bound, *answers) for n in b.nodes.tolist()), *begins], dtype=np.int64)
    below = sum(_hangs(program, bound, set(b.nodes.tolist())) for b in asked_for)
    share = min(1.0, CARRYING * (1 + below)) if carried else 1.0
    placing = Placing(asked.keys, (asked.tolerance[0] * share, asked.tolerance[1] * share))
    carry(now, target, curves, first, last, open_end, placing, motion, Judged(program, watched))
    drive(now, bound, curves, system, first, last)
    for name in {s for s in bound.keyed_systems if s != system}:
        if any(len(now.curve(c)) for c in bound.systems[name].channels):
            fence(now, curves, bound.systems[name].channels.tolist(), (first,) if open_end else (first, last))
    return now.with_curves({n: c for n, c in curves.items() if c is not now.take.curves.get(n)})


def _hangs(program: Program, bound: Bound, nodes: set[int]) -> bool:
    """Whether a part hangs from joints, directly or by others."""
    member = bound.member
    names = {program.nodes[member.id, j.name]: k for k, j in enumerate(member.skeleton.joints)}
    k = names.get(int(bound.nodes.min()), 0)
    while (k := member.skeleton.parents[k]) >= 0:
        if program.nodes[member.id, member.skeleton.joints[k].name] in nodes:
            return True
    return False


@offered
class BakeParts(Operation):
    """Bakes parts to keys."""

    id = "bake"
    label = "Bake"
    applies = "parts"
    help = "What moves the parts becomes keys of one system: as few as keep every joint within the tolerance, or more."
    choices = (
        Choice("to", "to", "name", "", help="Which system takes the keys."),
        Choice(
            "keys", "keys", "options", "few", (("few", "few keys"), ("kept", "existing keys"), ("every", "every frame"))
        ),
        *(replace(c, folded=False, when=("keys", ("few",))) for c in TOLERANCE),
        Choice("follow", "following", "anchor", "", folded=True, help="What its control follows there."),
    )  # fmt: skip

    def suggest(
        self, program: Program, parts: Parts, first: float, last: float | None, made: Mapping[str, Value]
    ) -> dict[str, Value]:
        """The system in which the first part has keys, or its last one."""
        if not parts:
            return {}
        bound = program.bound(*parts[0])
        shares = program.sample([first], LEAVING, bound.driver_channels)
        now = bound.state(shares)
        return {"to": now if now in bound.keyed_systems else bound.keyed_systems[-1]}

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        alone = {n for p in parts for n, s in program.bound(*p).systems.items() if s.system.moves_alone}
        able = any(following(program.bound(*p)) for p in parts)
        return {
            "to": tuple(o for o in system_options(program, parts) if o[0] not in alone),
            "follow": (("", "what it follows"), *(anchors(program) if able else ())),
        }

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        take, proof = apply(
            program, Bake(asked.parts, c["to"], asked.first, asked.last, c["keys"], tolerance_of(c), c["follow"])
        )
        said = f"Bake {labels(program, asked.parts)}, {stretch_words(asked.first, asked.last)}"
        return Outcome(take, proof, said)
