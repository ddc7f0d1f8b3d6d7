"""Plant: a hand or foot holds its place and turn on what it stands on from the first frame of a stretch to its last.

    within:   the control follows the anchor with constant values, so the hold is exact between frames too
    rolling:  a foot's control is held from when its heel comes down until its ball leaves, and its roll goes on: about the heel
              before the sole is on, about the ball after it, none while it is
    outside:  what the hold changes of place and speed fades over some frames, as a cubic on top of the keys (Kovar, Schreiner
              and Gleicher, "Footskate cleanup for motion capture editing", 2002, fade their corrections so)

A limb that another system drives, a capture say, is handed over to the one with the control for as long as it needs to be.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from ..contact_finding import find
from ..contacts import (
    anchor_reads,
    bones_of,
    end_of,
    ends_of,
    measure,
    over,
    part_of,
    planted,
    spots_of,
    surface_of,
    with_contact,
)
from ..curves import (
    ARRIVING,
    EMPTY,
    LEAVING,
    STEPPED,
    Curve,
    Key,
    curve,
    sample,
)
from ..errors import CoreError
from ..express import control_target, motion_of, set_over
from ..findings import states
from ..followers import BoundControl
from ..giving_way import Given, Stood, give_way
from ..program import Program
from ..progress import stage
from ..proof import Proof, prove, switch_times
from ..rig import Bound
from ..systems.system import Control
from ..takes import Contact, Take, Tether
from ..transforms import Floats, inverse, rotate
from . import handover, retether
from .contact import OF, ends_offered, named, nearest, on_anchor, standing
from .handover import Handover, refuse_locked
from .hold_curves import SAME, Span, constant, eased, pivots, rolled, stilled, within_reach
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
from .retether import Retether, anchors

#: Frames by which a stretch may differ from a stance and still mean that.
ALIKE = 2.0
#: A limb bent less than this (radians) does not say to which side it bends.
BENT = np.radians(4.0)
#: How often the body gives way anew where a limb still does not reach.
GIVES = 2
#: Metres by which a hand is pushed out of what it holds at most.
CLEAR = 0.02
#: Steps in which a sole is brought out of what it is in, and a hand.
_PUSHES, HANDED = 12, 60


@dataclass(frozen=True)
class Plant:
    """What is asked for. `on`: what is held on to, as `Retether.to` names it; `before`: frames before the stretch over which the
    speed goes over to that of what is held, `ease`: those after it over which the hold fades; `at`: whether it is held where it is
    at the first frame, or where it is in the mean; `rolls`: a foot is held from its heel to its ball, as a contact there says;
    `gives`: whether the body gives way where a limb does not reach, over `within` frames, or that is only told; `of`: of a part
    that has several ends, the control of the one that is meant, left out all of them."""

    parts: Parts
    on: str
    first: float
    last: float
    ease: float = 6.0
    before: float = 3.0
    at: Literal["first", "mean"] = "first"
    rolls: bool = False
    gives: Literal["body", "nothing"] = "body"
    within: float = 6.0
    of: str = ""


#: A place and turn in what is held on to, and those that are known by the first frame of a hold and its part.
Offset = tuple[float, float, float, float, float, float, float] | None
Offsets = dict[tuple[object, ...], Offset]
#: Parts to be held, where, and how.
Plan = list[tuple[tuple[str, str], Contact, Plant]]


def apply(program: Program, asked: Plant) -> tuple[Take, Proof]:
    """The take after it, and its proof, which tells the slip. CoreError says what can't be done; nothing changes then."""
    check_parts(program, asked.parts)
    first, last = check_stretch(program.take, asked.first, asked.last)
    if last <= first:
        raise CoreError("A hold needs a last frame after its first.")
    plan, notes = [], list[str]()
    for part in asked.parts:
        bound = _able(program, part)
        for end in on_anchor(program, part, asked.on, first, last, asked.of):
            held = _stance(program, bound, end) if asked.rolls else end
            # What stands before and after it stays where it stands.
            before, after = _room(held, standing(program, part, -np.inf, np.inf))
            if after < asked.ease:
                notes.append(
                    f"{bound.who} fades over {after:g} frames, since it stands again at frame {held.end + after:g}."
                )
            plan.append((part, held, replace(asked, before=min(asked.before, before), ease=min(asked.ease, after))))
    return _done(program, plan, asked, tuple(dict.fromkeys(notes)))


def apply_all(program: Program, asked: Plant) -> tuple[Take, Proof]:
    """Every stance and hold of the parts that lies in the stretch, as the take knows them or the motion shows them, each on what it
    is on: feet that roll from heel to ball, captured ends where they are in the mean. CoreError where there is none."""
    check_parts(program, asked.parts)
    first, last = check_stretch(program.take, asked.first, asked.last)
    bounds = [_able(program, part) for part in asked.parts]
    known = {b.id: _within(program, b, first, last) for b in bounds}
    if not any(known.values()):
        raise CoreError(
            f"{labels(program, asked.parts)}: nothing stands on anything or holds anything, {stretch_words(first, asked.last)}."
        )
    plan: Plan = []
    for bound in bounds:
        contacts = known[bound.id]
        for held in contacts:
            # Between two of them there is as much time to leave as to arrive; what stands beyond the stretch stays where it stands.
            near = _room(held, contacts)
            before, after = np.minimum(0.5 * np.array(near), _room(held, standing(program, bound.id, -np.inf, np.inf)))
            how = replace(
                asked, on=named(held), rolls=bool(held.points), at="mean" if _captured(program, bound, held.first) else "first",
                before=min(asked.before, float(before)), ease=min(asked.ease, float(after)),
            )  # fmt: skip
            plan.append((bound.id, held, how))
    return _done(program, plan, asked)


def _room(held: Contact, others: Sequence[Contact]) -> tuple[float, float]:
    """Frames from the contact of the same joint before a hold to it, and from it to the one after."""
    mine = [c for c in others if c.joint == held.joint]
    before = min((held.begin - c.end for c in mine if c.end <= held.begin), default=np.inf)
    return before, min((c.begin - held.end for c in mine if c.begin >= held.end), default=np.inf)


def _able(program: Program, part: tuple[str, str]) -> Bound:
    """A part that can hold on to something; CoreError where it can't."""
    bound = program.bound(*part)
    if not ends_of(bound):
        raise CoreError(f"{bound.part.label} has no control that can hold on to anything.")
    return bound


def _control(bound: Bound, joint: str) -> BoundControl:
    """The control of the end that a contact is about."""
    return next(c for c in ends_of(bound) if c.control.rests_on == joint)


def _within(program: Program, bound: Bound, first: float, last: float) -> list[Contact]:
    """Contacts of a part that lie in a stretch, those of the take, else those that its motion shows, in order of time."""
    there = standing(program, bound.id, first, last) or find(program, [bound.id])
    return sorted((c for c in there if c.begin >= first and c.end <= last), key=lambda c: c.begin)


def _captured(program: Program, bound: Bound, at: float) -> bool:
    """Whether a capture moves a part at a frame."""
    state = bound.state(program.now(at, bound.driver_channels)[:, None])
    return state is not None and bound.systems[state].system.moves_alone


def _held(program: Program, part: tuple[str, str], held: Contact, asked: Plant, known: Offsets) -> tuple[Program, Span]:
    """One hold, and the frames that it changes; `known`: where holds are, by part and frame, of which this becomes one."""
    # Holds before it may have added follows, whose weights are among the channels.
    bound = program.bound(*part)
    flat = held.first, held.last if held.whole else held.first
    span = Span(
        held.begin, held.end, flat, _start(program, bound, held.begin, asked.before),
        min(held.end + max(asked.ease, 0.0), float(program.take.last)), _on_fore(bound, held), _on_tip(bound, held), part,
        _control(bound, held.joint).control.name,
    )  # fmt: skip
    now = _plant(program, bound, asked, span, known)
    return now.on(with_contact(now.take, held)), span


def _done(program: Program, plan: Plan, asked: Plant, notes: tuple[str, ...] = ()) -> tuple[Take, Proof]:
    """All holds of a plan, and their proof. Where a limb does not reach, the body gives way beneath what holds where it is: all is
    planted anew on that, so that what swings goes along."""
    base, plain, known = program, program, Offsets()
    moves: list[Given] = []
    for n in range(GIVES + 1):
        now, spans = base, list[Span]()
        for k, (part, held, how) in enumerate(plan):
            with stage("Planting", (k + n * len(plan)) / (2 * len(plan)), (k + 1 + n * len(plan)) / (2 * len(plan))):
                if not _stands(now, held):
                    now, span = _held(now, part, held, how, known)
                    spans.append(span)
        if not spans:
            raise CoreError(
                "This changes nothing: what is chosen is planted there already, from the first frame to the last."
            )
        first, last = min(s.start for s in spans), max(s.end for s in spans)
        given = (
            give_way(now, _stood(now, spans, first, last), asked.within)
            if asked.gives == "body" and n < GIVES
            else None
        )
        if given is None:
            break
        if not moves:
            plain = now
        moves.append(given)
        base = given.on(base)
    now.check_loops()
    if not moves:
        return now.take, prove("plant", program, now, first, last, notes=notes)
    a, b = min(g.first for g in moves), max(g.last for g in moves)
    by = f"by {1000 * max(g.most for g in moves):.1f} mm, from frame {a:g} to {b:g}"
    proof = prove("plant", program, now, min(first, a), max(last, b), notes=(*notes, f"The body gives way {by}."))
    if all(c.as_before for c in proof.changes) and proof.contacts_kept:
        return now.take, proof
    # What else hangs on the body would pay for it: a limb that changes over just then, say, from one system to the other.
    told = prove(
        "plant",
        program,
        plain,
        first,
        last,
        notes=(*notes, f"The body could give way {by}, but something else would jump then."),
    )
    fewer = sum(not c.as_before for c in told.changes) < sum(not c.as_before for c in proof.changes)
    return (plain.take, told) if fewer or not proof.contacts_kept else (now.take, proof)


def _stood(program: Program, spans: list[Span], first: float, last: float) -> list[Stood]:
    """What stands then: what was just planted, and what was already."""
    found = [(s.part, s.first, s.last) for s in spans]
    new = {(p, a) for p, a, _ in found}
    there = [(part_of(program, c).id, c.begin, c.end) for c in planted(program, first, last)]
    found += [x for x in there if x[:2] not in new]
    stood = []
    for part, a, b in found:
        # What is too short of a finger is no matter of the hips.
        if (end := end_of(program.bound(*part))) is not None:
            stood.append(Stood(part, _system(program.bound(*part)), end.control.name, a, b))
    return stood


def _on_fore(bound: Bound, held: Contact) -> tuple[bool, bool]:
    """Whether it is a fore point of a foot that stands before its sole does, and after that."""
    fore = [p for s in spots_of(bound)[1:] for p in held.points if p.name == s.name]
    if not held.whole:
        return bool(fore), bool(fore)
    return any(p.first < held.first for p in fore), any(p.last > held.last for p in fore)


def _on_tip(bound: Bound, held: Contact) -> float:
    """From when on a foot stands on its tip alone: minus infinity where it does all along, infinity where it does not."""
    first = next((p.first for s in spots_of(bound)[2:] for p in held.points if p.name == s.name), np.inf)
    return first if first > held.begin else -np.inf


def _stance(program: Program, bound: Bound, held: Contact) -> Contact:
    """The stance from heel to ball that overlaps a hold most, of the take or of the motion; CoreError where none is known."""
    control = _control(bound, held.joint).control.name
    if bound.systems[_system(bound)].system.rolls(bound, control) is None:
        raise CoreError(f"{bound.who} has no foot that rolls: plant it with its place and turn.")
    there = [
        c for c in (*standing(program, bound.id, held.first, held.last), *find(program, [bound.id]))
        if c.whole and (c.anchor_member, c.anchor) == (held.anchor_member, held.anchor)
        and c.begin < held.last and c.end > held.first
    ]  # fmt: skip
    if not there:
        raise CoreError(
            f"{bound.who} does not stand on {anchor_reads(program, held)} from frame {held.first:g} to {held.last:g} with heel and "
            "ball, so there is nothing to roll over: find its contacts, or plant it with its place and turn."
        )
    # One that says when heel and ball stand comes before one that does not.
    return max(there, key=lambda c: (bool(c.points), min(c.end, held.last) - max(c.begin, held.first)))


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
    """The system that has the controls of a part's ends."""
    control = ends_of(bound)[-1].control.name
    return next(n for n, s in bound.systems.items() if any(c.name == control for c in s.controls))


def _plant(program: Program, bound: Bound, asked: Plant, span: Span, known: Offsets) -> Program:
    """One part held over a span, led to it from its start on, eased until its end; where it is `known`, there."""
    control = bound.controls[span.control]
    system = _system(bound)
    first, last, flat, start, end, *_ = span
    key = (first, *span.part, span.control)
    last_of_all = float(program.take.last)
    now = program
    refuse_locked(program, control.channels, start, end)
    if _handed_over(program, bound, start, end):
        until = None if end >= last_of_all else end
        if asked.rolls:
            # Level is what lies as that does on which it stands.
            follows = Retether((bound.id,), asked.on, start, until, keys="every", control=control.control.name)
            now = retether.retethered(now, follows)
        now = handover.handed_over(now, Handover((bound.id,), system, start, until, keys="every"))
    until = None if last >= last_of_all else last
    held = retether.retethered(
        now, Retether((bound.id,), asked.on, first, until, "ride", offset="here", settle=0.0, control=span.control)
    )
    rolls = bound.systems[system].system.rolls(bound, control.control.name) if asked.rolls else None
    tilts = (
        bound.systems[system].system.tilts(bound, control.control.name)
        if rolls is None
        else [rolls.channel, *rolls.level]
    )
    new = next((t for t in held.take.tethers if t not in now.take.tethers), None)
    if new is not None:
        if key not in known:
            if asked.rolls or asked.at == "mean":
                stood = (first, span.tip if first < span.tip < last else last) if span.alone else flat
                held, new = _in_the_mean(now, held, new, bound, control.control, stood)
            else:
                held, new = _as_it_leaves(now, held, new, bound, control.control, first)
            values = program.now(first, tilts) if rolls is None else np.zeros(len(tilts))
            # A hand that was put there stays as it was put.
            if asked.rolls or asked.at == "mean" or spots_of(bound):
                held, new = _out_of_it(
                    held, new, bound, control.control, asked.on, flat[0], dict(zip(tilts, values, strict=True))
                )
            known[key] = new.offset
        else:
            held, new = _offset(held, new, known[key])
    if _handed_over(program, bound, start, end):
        held = _steadied(program, now, held, bound, system, control, tilts, span)
    edges = [(edge, until) for edge, until in ((first, start), (last, end)) if program.take.first < edge < last_of_all]
    turned = [] if rolls is None else pivots(now, held, bound, bound.systems[system], span)
    for edge, until in edges:
        by = [p for p in turned if edge in p.edges]
        held = eased(held, held.bound(*bound.id), control.control.name, asked.on, 0.5 * (first + last), edge, until, by)
    if rolls is None:
        refuse_locked(program, tilts, start, end)
        held = held.with_curves(stilled(held, tilts, first, last, edges))
    else:
        refuse_locked(program, [rolls.channel, *rolls.level], start, end)
        held = held.with_curves(stilled(held, list(rolls.level), first, last, edges, at=0.0))
        held = held.with_curves({held.channel_names()[p.channel]: p.over(held) for p in turned})
        held = held.with_curves({held.channel_names()[rolls.channel]: rolled(held, rolls, span)})
        held = within_reach(held, held.bound(*bound.id), asked.on, rolls, span)
    return held if new is None else _in_one_follow(held, bound.id, control.control.name, new, first, last)


def _in_one_follow(
    held: Program, part: tuple[str, str], control: str, new: Tether, first: float, last: float
) -> Program:
    """The hold in a follow of the same thing that the control has already, as values in place of the new follow's own offset:
    however many stances a foot has on a deck, it follows the deck once."""

    def alike(t: Tether) -> tuple[object, ...]:
        return t.member, t.control, t.anchor_member, t.anchor, t.released, t.scales

    other = next((t for t in held.take.tethers if t.name != new.name and alike(t) == alike(new)), None)
    if other is None:
        return held
    bound, names = held.bound(*part), held.channel_names()
    mine = [t for t in held.take.tethers if (t.member, t.control) == (new.member, new.control)]
    weights = {held.channels[n]: float(n in other.weights) for t in mine for n in t.weights}
    target = control_target(held, bound, control, weights)
    poses = motion_of(held, target).poses(np.array([first]), np.array([LEAVING]))
    values = target.fit(poses, held.now(first, target.channels))[:, 0].tolist()
    curves = {n: c for n, c in held.take.curves.items() if n not in {*new.weights, *new.ways}}
    for c, value in zip(target.channels.tolist(), values, strict=True):
        default = float(held.defaults[c])
        curves[names[c]] = constant(held.take, curves.get(names[c], EMPTY), default, value, first, last)
    for one, two in zip(other.weights, new.weights, strict=True):
        both = [held.take.curves.get(n, EMPTY) for n in (one, two)]
        times = np.union1d(both[0].times, both[1].times)
        sides = [np.max([sample(c, times, side, 0.0) for c in both], axis=0).tolist() for side in (ARRIVING, LEAVING)]
        keys = zip(times.tolist(), *sides, strict=True)
        curves[one] = curve([Key(t, a, b, kind=STEPPED) for t, a, b in keys])
    return held.on(
        replace(
            held.take,
            tethers=tuple(t for t in held.take.tethers if t.name != new.name or alike(t) != alike(new)),
            curves=curves,
        )
    )


def _offset(held: Program, new: Tether, offset: Offset) -> tuple[Program, Tether]:
    """The hold moved to a place and turn in what it holds on to."""
    moved = replace(new, offset=offset)
    return held.on(replace(held.take, tethers=tuple(moved if t is new else t for t in held.take.tethers))), moved


def _as_it_leaves(
    before: Program, held: Program, new: Tether, bound: Bound, control: Control, first: float
) -> tuple[Program, Tether]:
    """The hold where its control is as its first frame leaves: where it jumps there, what arrives does not hold yet."""
    node = retether.node_of(before, new)
    arriving, leaving = (retether.seen_from(before, node, bound, control, first, side) for side in (ARRIVING, LEAVING))
    if np.abs(np.array(arriving) - np.array(leaving)).max() <= SAME:
        return held, new
    x, y, z, qx, qy, qz, qw = map(float, leaving)
    return _offset(held, new, (x, y, z, qx, qy, qz, qw))


def _in_the_mean(
    before: Program, held: Program, new: Tether, bound: Bound, control: Control, flat: tuple[float, float]
) -> tuple[Program, Tether]:
    """The hold moved to where its control is in the mean of these frames, in what it holds on to."""
    from scipy.spatial.transform import Rotation

    node = retether.node_of(before, new)
    frames = np.unique([*np.arange(np.ceil(flat[0]), flat[1] + 1e-9), flat[0]])
    seen = np.array([retether.seen_from(before, node, bound, control, float(t), LEAVING) for t in frames])
    place, turn = seen[:, :3].mean(axis=0), Rotation.from_quat(seen[:, 3:]).mean().as_quat()
    x, y, z, qx, qy, qz, qw = map(float, (*place, *turn))
    return _offset(held, new, (x, y, z, qx, qy, qz, qw))


def _out_of_it(
    held: Program, new: Tether, bound: Bound, control: Control, on: str, at: float, tilts: Mapping[int, float]
) -> tuple[Program, Tether]:
    """The hold moved and turned as little as leaves no point of the sole, or ball of the hand's bones, below the surface that it
    stands on; tilts: what the other values of its control are in the hold."""
    shapes = () if on == "world" else surface_of(held, Contact("", "", *retether.anchor_of(on), 0.0, 1.0))
    if not shapes or new.offset is None:
        return held, new
    node = held.nodes[retether.anchor_of(on)]
    own = held.bound(*bound.id).controls[control.name]
    spots = spots_of(bound)
    if spots:
        of, points_of, radii = (
            [s.joints[0] for s in spots],
            np.array([s.points[0] for s in spots]),
            np.zeros(len(spots)),
        )
    else:
        joints, balls = bones_of(bound, control.rests_on)
        of, points_of, radii = [joints[k] for k in balls.joint], balls.at, balls.radius
    if not of:
        return held, new
    nodes = [held.nodes[bound.member.id, j] for j in of]
    drive = held.bound(*bound.id).drive_to(_system(bound))
    poses = held.evaluate([at], LEAVING, {**drive, **tilts}, only=[node, own.node, *nodes])
    back, size = inverse(poses.rot[0, node]), float(held.sizes(np.array([at]), LEAVING, node)[0])
    grown = float(held.sizes(np.array([at]), LEAVING, nodes[0])[0])
    points = poses.pos[0, nodes] + grown * rotate(poses.rot[0, nodes], points_of)
    points, radii = rotate(back, points - poses.pos[0, node]) / size, grown * radii / size
    about = rotate(back, poses.pos[0, own.node] - poses.pos[0, node]) / size
    # Takes long to import, and a start does not wait for it.
    from scipy.spatial.transform import Rotation

    lever = max(float(np.linalg.norm(points - about, axis=1).max()), 1e-6)

    def moved(by: Floats) -> Floats:
        # Three of place and three of turn, as metres at the farthest point.
        turned: Floats = Rotation.from_rotvec(by[3:] / lever).apply(points - about) + about + by[:3]
        return turned

    by = np.zeros(6)
    for _ in range(_PUSHES if spots else HANDED):
        off = over(shapes, moved(by)) - radii
        deep = np.flatnonzero(off < -SAME * 1e-3)
        if not len(deep):
            break
        if not spots:
            # Of the many balls of a hand the deepest: all at once would be told to come to the very surface.
            deep = deep[[off[deep].argmin()]]
        step = 1e-7
        slopes = np.array([(over(shapes, moved(by + step * d)) - radii - off)[deep] / step for d in np.eye(6)]).T
        by = by + np.linalg.pinv(slopes, rcond=1e-6) @ -off[deep]
    if not by.any() or (not spots and np.linalg.norm(by[:3]) > CLEAR):
        # A hand that is so far in what it holds is not to be brought out of it by a push.
        return held, new
    turn = Rotation.from_rotvec(by[3:] / lever)
    place = turn.apply(np.array(new.offset[:3]) - about) + about + by[:3]
    x, y, z, qx, qy, qz, qw = map(float, (*place, *(turn * Rotation.from_quat(new.offset[3:])).as_quat()))
    return _offset(held, new, (x, y, z, qx, qy, qz, qw))


def _steadied(
    program: Program,
    before: Program,
    held: Program,
    bound: Bound,
    system: str,
    control: BoundControl,
    tilts: list[int],
    span: Span,
) -> Program:
    """A limb that all but passes through straight while it is led and held bends to the side to which it mostly does: of the keys
    on each frame that it was handed over with, those that say how it bends go where noise said it."""
    mine = bound.systems[system]
    own = [k for k, c in enumerate(mine.channels.tolist()) if program.info[c][2].control == control.control.name]
    inner = [k for k in own if mine.channels[k] not in {*control.channels, *tilts}]
    signs = [k for k in inner if mine.stepped[k] and not mine.held[k]]
    if not signs:
        return held
    at = np.unique([span.start, span.end, *np.arange(np.ceil(span.start), span.end)])
    nodes = before.fit_nodes([bound])
    # Of a long take some frames tell as well.
    whole = before.take.frames[:: max(1, len(before.take.frames) // 500)]
    sides = [mine.system.signs(bound, before.posed(bound, before.evaluate(t, only=nodes))) for t in (whole, at)]
    if sides[0] is None or sides[1] is None:
        return held
    rows = {k: int(mine.stepped[:k].sum()) for k in signs}
    mostly = {k: 1.0 if float(sides[0][row].sum()) >= 0.0 else -1.0 for k, row in rows.items()}
    unclear = at[np.any([mostly[k] * sides[1][row] < np.sin(BENT) for k, row in rows.items()], axis=0)]
    unclear = unclear[(unclear > span.start) & (unclear < span.end)]
    if not len(unclear):
        return held
    names, changed = held.channel_names(), dict[str, Curve]()
    for k in inner:
        c = int(mine.channels[k])
        kept = held.curve(c)
        if not len(kept):
            continue
        if k in signs:
            changed[names[c]] = set_over(
                kept, span.start, span.end, span.end >= held.take.last, mostly[k], float(held.defaults[c])
            )
        else:
            there = np.isin(kept.times, unclear) & ~np.isin(kept.times, program.curve(c).times)
            changed[names[c]] = Curve(kept.numbers[~there], kept.marks[~there])
    return held.with_curves(changed)


@offered
class PlantParts(Operation):
    """Plants hands and feet."""

    id = "plant"
    rank = 22
    label = "Plant"
    applies = "parts"
    help = "The hand or foot holds its place and turn over the stretch; what that moves fades after it."
    choices = (
        Choice(
            "each", "plant", "options", "one", (("one", "the stretch"), ("all", "every stance in it")),
            help="The stretch itself, or each contact that lies in it, on what it is on.",
        ),
        Choice(
            "on", "on", "anchor", "world", when=("each", ("one",)),
            help="What it stands on or holds: choose it here, or click it in the view.",
        ),
        Choice(
            "ease", "ease over", "whole", 6, least=0, most=96, unit="frames",
            help="Frames after the stretch over which what the hold has moved fades.",
        ),
        Choice(
            "before", "arrives over", "whole", 3, least=0, most=96, unit="frames", folded=True,
            help="Frames before the stretch over which the speed goes over to that of what is held.",
        ),
        Choice(
            "at", "held", "options", "first", (("first", "where it is at first"), ("mean", "where it is in the mean")),
            when=("each", ("one",)), folded=True, help="In a noisy capture no single frame is where it stands.",
        ),
        Choice(
            "gives", "out of reach", "options", "body", (("body", "the body gives way"), ("nothing", "it is told")), folded=True,
            help="Where a limb is too short for its place, the body moves as little as lets all that stand reach.",
        ),
        Choice(
            "within", "comes over", "whole", 6, least=0, most=96, unit="frames", folded=True, when=("gives", ("body",)),
            help="Frames over which the body comes and goes.",
        ),
        Choice(
            "hold", "stands", "options", "still", (("still", "with place and turn"), ("rolls", "from heel to ball")),
            when=("each", ("one",)),
            help="A foot that rolls is held by what of it stands: heel, sole, ball.",
        ),
        replace(OF, when=("each", ("one",))),
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return bool(ends_of(bound))

    def suggest(
        self, program: Program, parts: Parts, first: float, last: float | None, made: Mapping[str, Value]
    ) -> dict[str, Value]:
        """What the take says it stands on there, or what its motion shows."""
        end = float(program.take.last) if last is None else last
        near = next((c for p in parts if (c := nearest(program, p, first, end))), None)
        if near is None:
            return {}
        found: dict[str, Value] = {"on": named(near)}
        # A stretch of one's own is held as it is; that of a stance from heel to ball.
        if near.points and near.whole and max(abs(first - near.first), abs(end - near.last)) <= ALIKE:
            found["hold"] = "rolls"
        if all(_captured(program, program.bound(*p), first) for p in parts):
            found["at"] = "mean"
        if any(len(_within(program, program.bound(*p), first, end)) > 1 for p in parts):
            found["each"] = "all"
        return found

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        return {"on": tuple(a for a in anchors(program) if a[0] != retether.OWN), **ends_offered(program, parts)}

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        last = float(program.take.last if asked.last is None else asked.last)
        plant = Plant(
            asked.parts, c["on"], asked.first, last, c["ease"], c["before"], c["at"], c["hold"] == "rolls", c["gives"], c["within"],
            c["of"],
        )  # fmt: skip
        where = stretch_words(asked.first, asked.last)
        if c["each"] == "all":
            take, proof = apply_all(program, plant)
            return Outcome(take, proof, f"Plant all stances of {labels(program, asked.parts)}, {where}")
        take, proof = apply(program, plant)
        return Outcome(
            take, proof, f"Plant {labels(program, asked.parts)} on {retether.read(program, c['on'])}, {where}"
        )
