"""Loop: a stretch becomes a take that goes round. Over its last frames every control goes over to what its first frame has, moved
by what one round goes on by.

    value(t) += h(t),  h one cubic from nothing to what is missing at the last frame, in place and in speed

Nothing is fitted between: a cubic on top of cubics is one, so keys stay where they are, of their kinds. What stands at the last
frame stands there from the beginning of that stance: it is put where it belongs in the swing before.
"""

from __future__ import annotations

from dataclasses import replace
from typing import NamedTuple

import numpy as np

from ..contacts import end_of
from ..curves import ARRIVING, FENCE, FREE, LEAVING, LINEAR, SMOOTH, STEPPED, Curve, insert
from ..ends import held_ends
from ..errors import CoreError
from ..express import FINE, Motion, fit_along, system_target
from ..glass import Glass, Plane, Shown, glass_of, heading
from ..measure import steps
from ..program import Poses, Program
from ..proof import prove
from ..rig import Bound
from ..takes import Contact, Take
from ..transforms import Floats, Ints, inverse, multiply, rotate, wrap_near
from .handover import refuse_locked
from .mirror import WHAT, members_of
from .operation import Asked, Choice, Operation, Outcome, check_stretch, offered

#: Radians by which a body may be headed otherwise at the end of a round and still go straight on.
STRAIGHT = np.pi / 12.0
#: What of a switch, and of a value that is closed, may differ.
SAME = 1e-6
#: Metres that the last frame may be from how a round begins before another one near is looked for, and how many frames away.
APART, NEAR = 0.02, 200.0


@offered
class Loop(Operation):
    """Makes a stretch go round."""

    id = "loop"
    rank = 63
    label = "Loop"
    help = "The stretch becomes the take, and goes round: its last frames go over into its first one, feet stay where they stand."
    under = "as is"
    choices = (
        WHAT,
        Choice("over", "over the last", "whole", 8, least=1, most=1000, unit="frames", help="In which it goes over."),
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return bound.member.kind == "character"

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        members = members_of(program, asked.parts, c["what"])
        first, last = check_stretch(program.take, asked.first, asked.last)
        if first != round(first) or last != round(last) or last - first < 4.0:
            raise CoreError("A loop runs over at least four whole frames.")
        if program.layering.layers:
            raise CoreError("Layers would have to go round too: merge them, or mute them, and then make the loop.")
        over = min(float(c["over"]), last - first - 1.0)
        round_ = _round(program, members, first, last)
        made, begins = program, last - over
        mine = [b for b in program.bounds.values() if b.member.id in members]
        nodes = _going(program, mine, first)
        for bound in mine:
            made = _closed(program, made, bound, round_, over, nodes)
            begins = min(begins, _window(program, bound, first, last, over)[0])
        # Stances that end before the seam, of limbs that are not placed by controls of their own.
        early = [x for x in program.take.contacts if x.end < last]
        before = program.on(replace(program.take, contacts=tuple(early)))
        made = held_ends(before, made, begins, last, float(program.take.rate))
        was, now = (_apart(p, members, round_) for p in (program, made))
        take = _cut(made, int(first), int(last))
        after = program.on(take)
        after.check_loops()
        whole = program.on(replace(program.take, first=int(first), last=int(last)))
        note = f"It closes within {1000 * now[0]:.3f} mm; before, {was[1]} was {1000 * was[0]:.1f} mm from where it begins."
        better = _better(program, members, round_, was[0])
        proof = prove(self.id, whole, after, begins, last, notes=(note, better) if better else (note,))
        names = ", ".join(program.scene.member(m).name for m in members)
        return Outcome(take, proof, f"Loop {names}, frames {first:g} to {last:g}")


class _Round(NamedTuple):
    """One round: its frames, and the glass that shows what is at its first one as it is to be at its last."""

    first: float
    last: float
    glass: Glass
    root: int

    def shown(self, program: Program, at: Floats, side: Ints | int) -> Shown:
        """What is one round before times at these: in what carries it then, moved by what a round goes on by."""
        was = program.track(at - (self.last - self.first), side, [self.glass.node])
        here = program.track(at, side, [self.glass.node])
        return Shown(self.glass, was[0][:, 0], was[1][:, 0], here[0][:, 0], here[1][:, 0])


def _round(program: Program, members: tuple[str, ...], first: float, last: float) -> _Round:
    """How a round goes on: level, by as much as the root of the first body does, and about the vertical where it turns."""
    lead = next(m for m in map(program.scene.member, members) if m.kind == "character")
    glass = glass_of(program, lead, first, Plane("none"), stands=False)
    root = next((b for b in program.bounds.values() if b.member.id == lead.id and b.part.free), None)
    if root is None:
        raise CoreError(f"{lead.name} has no root to go round with.")
    rest = lead.skeleton.rest_pose[1][lead.skeleton.index[root.part.joints[0]]]
    pos, rot = program.track(np.array([first, last]), np.array([LEAVING, ARRIVING]), [root.nodes[0], glass.node])
    back = inverse(rot[:, 1])
    place, turn = rotate(back, pos[:, 0] - pos[:, 1]), multiply(back, rot[:, 0])
    by = heading(turn[1], lead, rest) - heading(turn[0], lead, rest)
    by = float(wrap_near(by, 0.0))
    by = 0.0 if abs(by) < STRAIGHT else by
    turned = np.array([0.0, np.sin(0.5 * by), 0.0, np.cos(0.5 * by)])
    shift = place[1] - rotate(turned, place[0])
    shift[1] = 0.0
    if any(c.member == lead.id and c.begin <= first and c.end >= last for c in program.take.contacts):
        # What stands all along goes nowhere, and neither does a round.
        turned, shift = np.array([0.0, 0.0, 0.0, 1.0]), np.zeros(3)
    return _Round(first, last, replace(glass, turn=turned, shift=shift), int(root.nodes[0]))


def _going(program: Program, mine: list[Bound], first: float) -> Ints:
    """Nodes of all that goes round: joints, and the spaces of controls that follow them."""
    nodes = {n for b in mine for n in b.nodes.tolist()}
    for control in (c for b in mine for c in b.followers.values()):
        weights = [float(program.now(first, one.switches).max(initial=0.0)) for one in control.others]
        held = max(range(len(weights)), key=weights.__getitem__, default=0)
        if (control.others[held] if weights and weights[held] > 0.5 else control.own).node in nodes:
            nodes.add(control.space)
    return np.array(sorted(nodes), dtype=np.int64)


def _moved(program: Program, round_: _Round, nodes: Ints, at: Floats, side: Ints) -> Poses:
    """Joints (nodes) as they were one round before, moved on; all else as it is."""
    was, found = program.evaluate(at - (round_.last - round_.first), side), program.evaluate(at, side)
    shown, still = round_.shown(program, at, side), np.array([0.0, 0.0, 0.0, 1.0])
    for n in nodes.tolist():
        found.pos[:, n] = shown.place(was.pos[:, n])
        found.rot[:, n] = shown.turn(was.rot[:, n], still, still)
    return found


def _apart(program: Program, members: tuple[str, ...], round_: _Round) -> tuple[float, str]:
    """How far the worst joint at the last frame is from what the first one has there (metres), and its name."""
    names, nodes = program.joints(list(members))
    at, side = np.array([round_.last]), np.array([ARRIVING], dtype=np.int64)
    there = round_.shown(program, at, np.zeros(1, dtype=np.int64))
    was = program.evaluate([round_.first])
    here = program.evaluate(at, side)
    off = [float(np.linalg.norm(there.place(was.pos[:, n]) - here.pos[:, n])) for n in nodes.tolist()]
    k = int(np.argmax(off))
    return off[k], program.rig.reads(*names[k])


def _better(program: Program, members: tuple[str, ...], round_: _Round, apart: float) -> str:
    """At what frame near the last one it begins again, where the last one is far from that (`apart`, metres); else nothing."""
    if apart < APART:
        return ""
    first, last = round_.first, round_.last
    half = min((last - first) // 2.0, NEAR)
    ends = np.arange(max(first + 4.0, last - half), min(program.take.last - 1.0, last + half) + 1.0)
    if not len(ends):
        return ""
    nodes = program.joints(list(members))[1]
    # What swings through a pose both ways is in it twice: the next frame tells which way.
    off = np.sum([_off_from_root(program, round_, nodes, ends + k, first + k) for k in (0.0, 1.0)], axis=0)
    near = ends[off <= 1.25 * off.min() + 0.01]
    best = float(near[np.argmin(np.abs(near - last))])
    found = _apart(program, members, _round(program, members, first, best))[0]
    if found > 0.5 * apart:
        return ""
    return f"Frame {best:g} is nearer to how it begins: {1000 * found:.1f} mm."


def _off_from_root(program: Program, round_: _Round, nodes: Ints, at: Floats, first: float) -> Floats:
    """(F,) how far the worst joint is at times from where it is at the first one, seen from the root's place and heading."""
    times = np.append(first, at)
    pos, rot = program.track(times, LEAVING, [round_.root, round_.glass.node, *nodes.tolist()])
    back = inverse(rot[:, 1])
    local = rotate(back[:, None], pos - pos[:, 1:2])
    turn = multiply(back, rot[:, 0])
    turn = multiply(turn, inverse(turn[:1]))
    level = np.arctan2(turn[:, 1], turn[:, 3])
    upright = np.zeros((len(times), 4))
    upright[:, 1], upright[:, 3] = np.sin(-level), np.cos(level)
    local -= local[:, :1] * [1.0, 0.0, 1.0]
    seen = rotate(upright[:, None], local[:, 2:])
    found: Floats = np.linalg.norm(seen[1:] - seen[:1], axis=-1).max(axis=1)
    return found


def _closed(program: Program, made: Program, bound: Bound, round_: _Round, over: float, nodes: Ints) -> Program:
    """A part that ends as it begins; nodes: all that goes round."""
    first, last = round_.first, round_.last
    states = [
        bound.state(program.now(t, bound.driver_channels, side)[:, None])
        for t, side in ((first, LEAVING), (last, ARRIVING))
    ]
    if states[0] is None or states[0] != states[1]:
        said = [bound.label_of(s) if s else "two systems at once" for s in states]
        raise CoreError(
            f"{bound.who} is driven by {said[0]} at frame {first:g} and by {said[1]} at frame {last:g}: choose frames at which one "
            f"and the same drives."
        )
    target = system_target(program, bound, states[0])
    switches = [*bound.weight_channels, *target.channels[target.mine.stepped].tolist()]
    for c in switches:
        ends = [float(program.now(t, [c], side)[0]) for t, side in ((first, LEAVING), (last, ARRIVING))]
        if abs(ends[1] - ends[0]) > SAME:
            raise CoreError(
                f"The {program.reading(program.channel_names()[c])} is another at frame {first:g} than at {last:g}: choose frames "
                f"at which it is the same."
            )
    breaks = np.union1d(program.key_times(), program.key_times() + (last - first))
    motion = Motion(
        program,
        lambda at, side: _moved(program, round_, nodes, at, side),
        lambda t: FINE * steps(breaks, t),
        between=False,
    )
    near = program.now(last, target.channels, ARRIVING)
    fitted = fit_along(motion, target, np.array([last]), np.array([True]), near)
    begin, end = _window(program, bound, first, last, over)
    stands = end < last
    curves, names = dict[str, Curve](), program.channel_names()
    slope = program.sample(np.array([last - 2e-4, last]), np.array([LEAVING, ARRIVING]), target.channels)
    for k, c in enumerate(target.channels.tolist()):
        missing = float(fitted.values[LEAVING, k, 0] - near[k])
        speed = 0.0 if stands else float(fitted.slopes[LEAVING, k, 0] - (slope[k, 1] - slope[k, 0]) / 2e-4)
        if target.mine.stepped[k] or target.mine.held[k] or (abs(missing) <= 1e-12 and abs(speed) <= 1e-9):
            continue
        refuse_locked(program, [c], begin, last)
        curves[names[c]] = _with_cubic(program.curve(c), float(program.defaults[c]), begin, end, last, missing, speed)
    return made.with_curves(curves)


def _window(program: Program, bound: Bound, first: float, last: float, over: float) -> tuple[float, float]:
    """From when to when a part goes over: in the last frames, or, where its end stands then, in the swing before."""
    control = end_of(bound)
    joint = None if control is None else control.control.rests_on
    mine = sorted(
        (c for c in program.take.contacts if (c.member, c.joint) == (bound.member.id, joint)), key=lambda c: c.begin
    )
    end = next((c.begin for c in mine if c.begin < last <= c.end), last)
    if end <= first:
        # It stands all along: what is missing is made up for evenly.
        return first, last
    begin = max(end - over, first, *(c.end for c in mine if c.end < end)) if mine else max(end - over, first)
    return (begin, end) if end - begin >= 1.0 else (max(end - over, first), end)


def _with_cubic(
    kept: Curve, default: float, begin: float, end: float, last: float, missing: float, speed: float
) -> Curve:
    """A curve with a cubic on top from begin to end, which begins flat at nothing and ends at `missing` with a `speed`; from there
    to the last frame what is missing is on top."""
    whole = kept
    for t in (begin, end, last):
        whole = insert(whole, t, default, FENCE)
    numbers, marks = whole.numbers.copy(), whole.marks.copy()
    inside = (numbers[:, 0] >= begin) & (numbers[:, 0] <= last)
    rows = np.flatnonzero(inside)
    for a, b in zip(rows[:-1].tolist(), rows[1:].tolist(), strict=True):
        # Under a cubic what was straight is none any more; what steps goes on stepping.
        if marks[a, 0] == LINEAR:
            numbers[a, 4] = numbers[b, 3] = (numbers[b, 1] - numbers[a, 2]) / (numbers[b, 0] - numbers[a, 0])
            marks[a, 0] = SMOOTH
    span = end - begin
    s = np.clip((numbers[rows, 0] - begin) / span, 0.0, 1.0)
    more = missing * (3.0 - 2.0 * s) * s * s + speed * span * (s - 1.0) * s * s
    steep = missing * 6.0 * s * (1.0 - s) / span + speed * (3.0 * s - 2.0) * s
    steep = np.where(numbers[rows, 0] > end, 0.0, steep)
    numbers[rows, 1] += more
    numbers[rows, 2] += more
    stepped = marks[rows, 0] == STEPPED
    numbers[rows, 4] += np.where(stepped, 0.0, steep)
    before = np.concatenate([[True], stepped[:-1]])
    numbers[rows, 3] += np.where(before, 0.0, steep)
    marks[rows, 1] = FREE
    return Curve(numbers, marks)


def _cut(program: Program, first: int, last: int) -> Take:
    """The take from one frame to another alone."""
    take = program.take
    curves = {}
    for name, kept in take.curves.items():
        default = float(program.defaults[program.channels[name]])
        whole = (
            insert(insert(kept, float(first), default, FENCE), float(last), default, FENCE) if len(kept) > 1 else kept
        )
        keep = (whole.times >= first) & (whole.times <= last) if len(kept) > 1 else np.ones(len(whole), dtype=bool)
        curves[name] = Curve(whole.numbers[keep], whole.marks[keep])
    contacts: list[Contact] = [x for c in take.contacts if (x := c.cut(float(first), float(last)))]
    wanted = tuple(k for k in take.wanted if first <= float(k.rpartition("/")[2]) <= last)
    return replace(take, first=first, last=last, curves=curves, contacts=tuple(contacts), wanted=wanted)
