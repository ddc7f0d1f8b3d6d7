"""Repairs of findings: each takes one fault out and leaves everything outside its own stretch as it was.

one-sided   every system gets its keys at the change; a jump is joined
pop         the first key after the change meets the pose that arrives, with its speed; where the part takes hold there, the last
            key before it meets the pose that is held, if it slips less so
speed       the same, where only the speed jumped
smooth      the change happens at one frame; the incoming system takes the pose and the speed that arrive; where the part takes
            hold or lets go meanwhile, it happens there
half, opposite
            one system drives: the one that takes over, or the one that drove before
flip, lost  what only one system can have, its own file repairs
overfull    weights that add up to more than one are what they count as
unused      a follow that nobody uses leaves the take
leaves      the end is planted where it holds on
round       stepped keys say the way round, between two things that are followed and pass half a turn apart
reach       has no repair: which of body, place and length gives way is for the animator to say

A repair that leaves its finding where it was, or makes another, says so before it is applied.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from ..contacts import measure_all
from ..curves import ARRIVING, EMPTY, LEAVING, Curve, without
from ..errors import CoreError
from ..express import bends_otherwise, drive, fence, join, lead, system_target
from ..findings import BOTH, POP_PLACE, Finding, Memory, find_all
from ..follows import round_the_same_way, scaled, without_unused
from ..program import Program
from ..proof import Proof, prove
from ..rig import Bound
from ..systems.system import Repaired
from ..takes import Contact, Take
from .operation import Asked, Operation, Outcome, offered

#: Frames over which a speed fades where no key follows.
SETTLE = 4.0
#: Frames by which a part may take hold before or after what drives it changes.
AT = 1.0


def apply(program: Program, keys: Sequence[str]) -> tuple[Take, Proof]:
    """Repairs the findings with these keys, or all if none is named. CoreError if one is not there, or can't be
    repaired."""
    memory = Memory()
    found = {f.key: f for f in find_all(program, wanted=True, memory=memory)}
    for key in keys:
        if key not in found:
            raise CoreError("This finding is not there any more: something has changed since it was listed.")
    todo = [found[k] for k in dict.fromkeys(keys)] if keys else find_all(program, memory=memory)
    if not todo:
        raise CoreError("There is nothing to repair: the take has no open findings.")
    refused = [REFUSED[f.kind] for f in todo if f.kind in REFUSED]
    todo = [f for f in todo if f.kind not in REFUSED]
    if not todo:
        raise CoreError(refused[0])
    now, first, last = program, np.inf, -np.inf
    notes = list(dict.fromkeys(refused))
    standing = set(found)

    def place(finding: Finding) -> tuple[float, int]:
        """Causes come first: an earlier repair may have taken a later finding with it, and then nothing is left to do; and at one
        frame that of what others hang from, of which less is upstream."""
        nodes = program.bound(finding.member, finding.part).nodes
        return finding.frame, len(program.sources(nodes, np.array([finding.frame])))

    for finding in sorted(todo, key=place):
        if finding.key not in standing:
            continue
        done = _repaired(now, finding)
        after = now.on(done.take)
        left = {f.key: f for f in find_all(after, wanted=True, memory=memory)}
        # The same fault may stay under another name: a change that lacked keys and has them now may jump still.
        same = [
            f for f in left.values() if (f.member, f.part, f.frame) == (finding.member, finding.part, finding.frame)
        ]
        if finding.kind in ("pop", "one-sided"):
            # The jump is gone; what of its speed can't be joined is told beside it.
            same = [f for f in same if f.kind != "speed"]
        elif finding.kind in ("overfull", "unused", "round", "leaves"):
            # What is wrong with weights is no jump, and takes none with it.
            same = [f for f in same if f.kind == finding.kind]
        if same:
            notes.append(f"Not repaired: {finding.sentence}. {_why(after, same[0])}")
            continue
        new = [
            f for k, f in left.items() if k not in standing and f.member == finding.member and f.part == finding.part
        ]
        notes += [f"The repair leaves this to look at: {f.sentence}." for f in new]
        now, standing = after, set(left)
        first, last = min(first, done.first), max(last, done.last)
    if now is program:
        raise CoreError(notes[-1])
    now.check_loops()
    return now.take, prove("repair", program, now, float(first), float(last), notes=tuple(notes))


def _repaired(program: Program, finding: Finding) -> Repaired:
    """The repair of a finding: that of its kind, or that of the system which alone can have it."""
    if finding.kind in _REPAIRS:
        return _REPAIRS[finding.kind](program, finding)
    bound = program.bound(finding.member, finding.part)
    found = [made for s in bound.systems.values() if (made := s.system.repair(program, bound, finding))]
    return found[0]


def _why(program: Program, finding: Finding) -> str:
    """Why a finding stays."""
    bound = program.bound(finding.member, finding.part)
    names = program.channel_names()
    mine = [c for c in bound.own.values() if (i := program.curve(c).find(finding.frame)) is not None
            and program.curve(c).marks[i, 3]]  # fmt: skip
    if mine:
        return f"A key of {program.reading(names[mine[0]])} is locked there: unlock it first."
    if BOTH in finding.systems:
        return "Two systems are mixed there on purpose: let one of them drive there first."
    held = [program.reading(names[c]) for s in bound.systems.values() for c in s.channels[s.held]]
    if held:
        return f"Locked channels keep it from being met: {', '.join(held)}."
    return "What is keyed on both sides of it can't meet: hand the part over from there on instead."


def describe(program: Program, keys: Sequence[str]) -> str:
    """One line for the list of revisions."""
    found = {f.key: f for f in find_all(program, wanted=True)}
    picked = [found[k] for k in dict.fromkeys(keys) if k in found] if keys else find_all(program)
    if len(picked) == 1:
        return f"Repair: {picked[0].sentence}"[:200]
    return f"Repair {len(picked)} findings"


def _reach(program: Program, curves: dict[str, Curve], channels: Sequence[int], t: float) -> float:
    """Until when a new value at t is felt: the latest of the next keys."""
    names = program.channel_names()
    after = [times[times > t] for c in channels if len(times := curves.get(names[c], EMPTY).times)]
    return max((float(x[0]) if len(x) else float(program.take.last) for x in after), default=t)


def _change(program: Program, finding: Finding) -> Repaired:
    """One-sided keys, pops, jumps of speed."""
    t = finding.frame
    bound = program.bound(finding.member, finding.part)
    curves = dict(program.take.curves)
    before, after = finding.systems
    if BOTH in finding.systems:
        # Within a crossfade there is no system that could give way.
        return Repaired(program.take, t, t)
    for keyed in {before, after}:
        if not bound.systems[keyed].system.moves_alone:
            fence(program, curves, bound.systems[keyed].channels.tolist(), [t])
    if finding.kind == "one-sided" and finding.place <= 1e-6 and finding.turn <= 1e-6:
        return Repaired(program.take.with_curves(curves), t, t)
    if bound.systems[after].system.moves_alone and before != after:
        first = lead(program, system_target(program, bound, before), curves, t)
        return Repaired(program.take.with_curves(curves), first, t)
    led = _led_onto(program, bound, curves, before, t) if finding.kind == "pop" else None
    if finding.kind == "pop" and bends_otherwise(program, system_target(program, bound, after), t):
        return led or Repaired(program.take, t, t)
    _keep_what_follows(program, bound, curves, after, t)
    fenced = program.with_curves(curves)
    join(fenced, system_target(fenced, bound, after), curves, t, SETTLE)
    joined = program.with_curves(curves)
    if led is not None and _slips(program.on(led.take), bound, t) <= _slips(joined, bound, t) + POP_PLACE:
        return led
    return Repaired(joined.take, t, _reach(program, curves, bound.systems[after].channels.tolist(), t))


def _contacts(program: Program, bound: Bound) -> list[Contact]:
    """The take's contacts of a part."""
    return [c for c in program.take.contacts if c.member == bound.member.id and c.joint in bound.part.joints]


def _taken(program: Program, bound: Bound, t: float) -> list[Contact]:
    """Contacts of a part that begin at a moment."""
    return [c for c in _contacts(program, bound) if abs(c.begin - t) <= AT]


def _slips(program: Program, bound: Bound, t: float) -> float:
    """How far (metres) what a part takes hold of at a moment slips in its hand."""
    return max((float(s.place.max()) for s in measure_all(program, _taken(program, bound, t))), default=0.0)


def _led_onto(program: Program, bound: Bound, curves: dict[str, Curve], before: str, t: float) -> Repaired | None:
    """What comes arrives where the part takes hold at a moment: what it stands on or holds from there on is not for it to choose.
    None where it takes no hold there, or can't be led to it."""
    if bound.systems[before].system.moves_alone or not _taken(program, bound, t):
        return None
    led = dict(curves)
    first = lead(program, system_target(program, bound, before), led, t)
    after = program.with_curves(led)
    arriving, leaving = (after.evaluate([t], side, only=bound.nodes) for side in (ARRIVING, LEAVING))
    off = np.linalg.norm(arriving.pos[:, bound.nodes] - leaving.pos[:, bound.nodes], axis=-1).max()
    return Repaired(after.take, first, t) if off <= POP_PLACE else None


def _keep_what_follows(program: Program, bound: Bound, curves: dict[str, Curve], system: str, t: float) -> None:
    """Where no key follows, what was there after a moment comes back once the speed has faded."""
    names = program.channel_names()
    fade = min(SETTLE, float(program.take.last) - t)
    for c in bound.systems[system].channels.tolist():
        kept = curves.get(names[c], EMPTY)
        if fade > 0.0 and len(kept) and kept.times[-1] <= t:
            fence(program, curves, [c], [t + fade])


def _mixed(program: Program, finding: Finding) -> Repaired:
    """One system drives where two were mixed. A change happens at one frame, and the incoming system takes the pose
    and the speed that arrive there; where the mixing led nowhere, the system before it goes on. Where the part takes hold of
    something meanwhile, it changes there and is led to that; where it lets go, it changes there."""
    bound = program.bound(finding.member, finding.part)
    before, after = finding.systems
    first, last = finding.frame, finding.last
    curves = dict(program.take.curves)
    alone = {n for n, s in bound.systems.items() if s.system.moves_alone}
    changing = bool(before and after) and before != after
    mine = _contacts(program, bound)
    if changing and not alone & {before, after}:
        takes = [c.begin for c in mine if first <= c.begin <= last and c.begin > program.take.first]
        led = _changed_at(program, bound, (before, after), (first, takes[0], last)) if takes else None
        if led is not None:
            return led
        if leaves := [c.end for c in mine if first < c.end <= last]:
            fence(program, curves, bound.systems[before].channels.tolist(), [first])
            drive(program, bound, curves, before, first, leaves[0])
            first = leaves[0]
    # A capture never changes: what leads to it stays until it takes over.
    stay = after if changing and after not in alone else before or after or bound.keyed_systems[-1]
    if last > first:
        drive(program, bound, curves, stay, first, last)
    if not changing:
        return Repaired(program.take.with_curves(curves), first, last)
    for system in {before, after} - alone:
        fence(program, curves, bound.systems[system].channels.tolist(), [first, last])
    driven = program.with_curves(curves)
    at = last if after in alone else first
    nodes = bound.nodes
    arriving, leaving = (driven.evaluate([at], side, only=nodes) for side in (ARRIVING, LEAVING))
    names = program.channel_names()
    apart = np.linalg.norm(arriving.pos[:, nodes] - leaving.pos[:, nodes], axis=-1).max() > POP_PLACE
    if last > first:
        for c, stepped in zip(bound.systems[stay].channels, bound.systems[stay].stepped, strict=True):
            kept = curves.get(names[c], EMPTY)
            if apart:
                # The systems stand apart: what lies between the edges would make the way to the next key short and hard.
                kept = without(kept, first, last)
            curves[names[c]] = kept if stepped or stay != after else _in_one(kept, first, last)
        driven = program.with_curves(curves)
    if after in alone:
        start = lead(driven, system_target(driven, bound, before), curves, last)
        return Repaired(program.take.with_curves(curves), min(start, first), last)
    join(driven, system_target(driven, bound, after), curves, first, SETTLE)
    end = max(last, _reach(program, curves, bound.systems[after].channels.tolist(), first))
    return Repaired(program.take.with_curves(curves), finding.frame, end)


def _in_one(kept: Curve, first: float, last: float) -> Curve:
    """A curve without what was a change between two times: of its keys there those go whose sides differ, and the last has that on
    both of its sides that leaves it."""
    split = np.any(kept.numbers[:, 1:4:2] != kept.numbers[:, 2:5:2], axis=1)
    stays = ~(split & (kept.times > first) & (kept.times < last))
    numbers = kept.numbers[stays]
    at = numbers[:, 0] == last
    numbers[at, 1], numbers[at, 3] = numbers[at, 2], numbers[at, 4]
    return Curve(numbers, kept.marks[stays])


def _changed_at(
    program: Program, bound: Bound, systems: tuple[str, str], times: tuple[float, float, float]
) -> Repaired | None:
    """A change that was spread from the first of these times to the last, at the one between, at which the part takes hold: what
    comes is led to that. None where it can't be."""
    (before, after), (first, at, last) = systems, times
    curves = dict(program.take.curves)
    for system in systems:
        fence(program, curves, bound.systems[system].channels.tolist(), sorted({first, at, last}))
    for system, begin, end in ((before, first, at), (after, at, last)):
        if end > begin:
            drive(program, bound, curves, system, begin, end)
    led = _led_onto(program.with_curves(curves), bound, curves, before, at)
    return led and led._replace(first=min(led.first, first), last=last)


def _overfull(program: Program, finding: Finding) -> Repaired:
    """Weights are what they count as."""
    bound = program.bound(finding.member, finding.part)
    return Repaired(scaled(program, bound, finding.frame, finding.last), finding.frame, finding.last)


def _leaves(program: Program, finding: Finding) -> Repaired:
    # Planting is an operation of its own, which hands over and follows: those need this file.
    from .contact import named
    from .plant import Plant
    from .plant import apply as plant

    ease = 6.0
    last = min(finding.last + ease, float(program.take.last))
    held = next(c for c in program.take.contacts if c.first == finding.frame and c.last == finding.last
                and c.member == finding.member and c.joint in program.bound(finding.member, finding.part).part.joints)  # fmt: skip
    asked = Plant(((finding.member, finding.part),), named(held), finding.frame, finding.last, ease)
    return Repaired(plant(program, asked)[0], max(finding.frame - 1.0, float(program.take.first)), last)


def _round(program: Program, finding: Finding) -> Repaired:
    bound = program.bound(finding.member, finding.part)
    take, since = round_the_same_way(program, bound)
    return Repaired(take, min(since, finding.frame), finding.last)


def _unused(program: Program, finding: Finding) -> Repaired:
    """A follow that nobody uses leaves the take."""
    take = program.take
    bound = program.bound(finding.member, finding.part)
    return Repaired(without_unused(program, bound), float(take.first), float(take.last))


_REPAIRS: dict[str, Callable[[Program, Finding], Repaired]] = {
    "one-sided": _change, "pop": _change, "speed": _change, "smooth": _mixed, "half": _mixed, "opposite": _mixed,
    "overfull": _overfull, "unused": _unused, "round": _round, "leaves": _leaves,
}  # fmt: skip
#: Findings that no repair takes out, and why.
REFUSED = {
    "among": "Among three things and more no way round can be chosen: follow two of them at a time.",
    "locks": "A limb that locks has no repair: lower the body there, by a hair, or mark it as wanted.",
    "reach": "A place out of reach has no repair: bring the body or the place nearer, or mark it as wanted.",
}


@offered
class Repair(Operation):
    """Takes findings out."""

    id = "repair"
    label = "Repair"
    applies = "findings"
    help = "Takes the named findings out, or all of them; everything outside their stretches stays."

    def run(self, program: Program, asked: Asked) -> Outcome:
        self.chosen(asked)
        made = apply(program, asked.findings)
        return Outcome(*made, describe(program, asked.findings))
