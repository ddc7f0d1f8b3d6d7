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
from typing import Literal, NamedTuple

import numpy as np

from ..contact_finding import find
from ..contacts import anchor_reads, measure, over, part_of, planted, spots_of, surface_of, with_contact
from ..curves import (
    ARRIVING,
    AUTOMATIC,
    EMPTY,
    FREE,
    LEAVING,
    SMOOTH,
    STEPPED,
    Curve,
    Key,
    automatic_slopes,
    curve,
    insert,
    put,
    sample,
    without,
)
from ..curves import over as put_over
from ..errors import CoreError
from ..express import control_target, motion_of, set_over
from ..findings import states
from ..followers import BoundControl
from ..giving_way import Given, Stood, give_way
from ..program import Program
from ..progress import stage
from ..proof import Proof, prove, switch_times
from ..rig import Bound
from ..systems.place import place_in
from ..systems.system import Control, Rolling, Space
from ..takes import Contact, Take, Tether
from ..transforms import Floats, inverse, multiply, rotate, wrap_near
from . import handover, retether
from .contact import named, nearest, on_anchor, standing
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
#: Frames by which a stretch may differ from a stance and still mean that.
ALIKE = 2.0
#: A limb bent less than this (radians) does not say to which side it bends.
BENT = np.radians(4.0)
#: How often the body gives way anew where a limb still does not reach.
GIVES = 2
#: Steps in which a sole is brought out of what it is in.
_PUSHES = 12
#: By how much (radians) the heel comes up at a time where a leg is too short.
LIFT = 0.01


@dataclass(frozen=True)
class Plant:
    """What is asked for. `on`: what is held on to, as `Retether.to` names it; `before`: frames before the stretch over which the
    speed goes over to that of what is held, `ease`: those after it over which the hold fades; `at`: whether it is held where it is
    at the first frame, or where it is in the mean; `rolls`: a foot is held from its heel to its ball, as a contact there says;
    `gives`: whether the body gives way where a limb does not reach, over `within` frames, or that is only told."""

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


#: A place and turn in what is held on to, and those that are known by the first frame of a hold and its part.
Offset = tuple[float, float, float, float, float, float, float] | None
Offsets = dict[tuple[object, ...], Offset]
#: Parts to be held, where, and how.
Plan = list[tuple[tuple[str, str], Contact, Plant]]


class _Span(NamedTuple):
    """A hold of one part: its first and last frame, those of its sole, from when it is led there and until when it fades; whether
    it is the ball that stands before the sole, and after it."""

    first: float
    last: float
    flat: tuple[float, float]
    start: float
    end: float
    ball: tuple[bool, bool]
    part: tuple[str, str]


def apply(program: Program, asked: Plant) -> tuple[Take, Proof]:
    """The take after it, and its proof, which tells the slip. CoreError says what can't be done; nothing changes then."""
    check_parts(program, asked.parts)
    first, last = check_stretch(program.take, asked.first, asked.last)
    if last <= first:
        raise CoreError("A hold needs a last frame after its first.")
    plan, notes = [], list[str]()
    for part in asked.parts:
        bound = _able(program, part)
        held = on_anchor(program, part, asked.on, first, last)
        if asked.rolls:
            held = _stance(program, bound, held)
        # What stands before and after it stays where it stands.
        before, after = _room(held, standing(program, part, -np.inf, np.inf))
        if after < asked.ease:
            notes.append(
                f"{bound.who} fades over {after:g} frames, since it stands again at frame {held.end + after:g}."
            )
        plan.append((part, held, replace(asked, before=min(asked.before, before), ease=min(asked.ease, after))))
    return _done(program, plan, asked, tuple(notes))


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
    plan, alone = [], 0
    for bound in bounds:
        contacts = known[bound.id]
        for k, held in enumerate(contacts):
            if not held.whole:
                # What of a foot stands on its heel or ball alone has no place and turn of its own to hold.
                alone += 1
                continue
            # Between two of them there is as much time to leave as to arrive; what stands beyond the stretch stays where it stands.
            near = _room(held, contacts[max(k - 1, 0) : k + 2])
            before, after = np.minimum(0.5 * np.array(near), _room(held, standing(program, bound.id, -np.inf, np.inf)))
            how = replace(
                asked, on=named(held), rolls=bool(held.points), at="mean" if _captured(program, bound, held.first) else "first",
                before=min(asked.before, float(before)), ease=min(asked.ease, float(after)),
            )  # fmt: skip
            plan.append((bound.id, held, how))
    notes = (f"{alone} of them stand on heel or ball alone, and stay as they are.",) if alone else ()
    return _done(program, plan, asked, notes)


def _room(held: Contact, others: Sequence[Contact]) -> tuple[float, float]:
    """Frames from the contact before a hold to it, and from it to the one after."""
    before = min((held.begin - c.end for c in others if c.end <= held.begin), default=np.inf)
    return before, min((c.begin - held.end for c in others if c.begin >= held.end), default=np.inf)


def _able(program: Program, part: tuple[str, str]) -> Bound:
    """A part that can hold on to something; CoreError where it can't."""
    bound = program.bound(*part)
    if not any(c.control.touches for c in following(bound)):
        raise CoreError(f"{bound.part.label} has no control that can hold on to anything.")
    return bound


def _within(program: Program, bound: Bound, first: float, last: float) -> list[Contact]:
    """Contacts of a part that lie in a stretch, those of the take, else those that its motion shows, in order of time."""
    there = standing(program, bound.id, first, last) or find(program, [bound.id])
    return sorted((c for c in there if c.begin >= first and c.end <= last), key=lambda c: c.begin)


def _captured(program: Program, bound: Bound, at: float) -> bool:
    """Whether a capture moves a part at a frame."""
    state = bound.state(program.now(at, bound.driver_channels)[:, None])
    return state is not None and bound.systems[state].system.moves_alone


def _held(
    program: Program, part: tuple[str, str], held: Contact, asked: Plant, known: Offsets
) -> tuple[Program, _Span]:
    """One hold, and the frames that it changes; `known`: where holds are, by part and frame, of which this becomes one."""
    # Holds before it may have added follows, whose weights are among the channels.
    bound = program.bound(*part)
    span = _Span(
        held.begin, held.end, (held.first, held.last), _start(program, bound, held.begin, asked.before),
        min(held.end + max(asked.ease, 0.0), float(program.take.last)), _on_fore(bound, held), part,
    )  # fmt: skip
    now = _plant(program, bound, asked, span, known)
    return now.on(with_contact(now.take, held)), span


def _done(program: Program, plan: Plan, asked: Plant, notes: tuple[str, ...] = ()) -> tuple[Take, Proof]:
    """All holds of a plan, and their proof. Where a limb does not reach, the body gives way beneath what holds where it is: all is
    planted anew on that, so that what swings goes along."""
    base, plain, known = program, program, Offsets()
    moves: list[Given] = []
    for n in range(GIVES + 1):
        now, spans = base, list[_Span]()
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


def _stood(program: Program, spans: list[_Span], first: float, last: float) -> list[Stood]:
    """What stands then: what was just planted, and what was already."""
    found = [(s.part, s.first, s.last) for s in spans]
    new = {(p, a) for p, a, _ in found}
    there = [(part_of(program, c).id, c.begin, c.end) for c in planted(program, first, last)]
    found += [x for x in there if x[:2] not in new]
    stood = []
    for part, a, b in found:
        bound = program.bound(*part)
        stood.append(Stood(part, _system(bound), following(bound)[-1].control.name, a, b))
    return stood


def _on_fore(bound: Bound, held: Contact) -> tuple[bool, bool]:
    """Whether it is the fore point of a foot that stands before its sole does, and after that."""
    fore = next((p for s in spots_of(bound)[1:2] for p in held.points if p.name == s.name), None)
    return (fore is not None and fore.first < held.first, fore is not None and fore.last > held.last)


def _stance(program: Program, bound: Bound, held: Contact) -> Contact:
    """The stance from heel to ball that overlaps a hold most, of the take or of the motion; CoreError where none is known."""
    control = following(bound)[-1].control.name
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
    """The system that has the control of a part's end."""
    control = following(bound)[-1].control.name
    return next(n for n, s in bound.systems.items() if any(c.name == control for c in s.controls))


def _plant(program: Program, bound: Bound, asked: Plant, span: _Span, known: Offsets) -> Program:
    """One part held over a span, led to it from its start on, eased until its end; where it is `known`, there."""
    control = following(bound)[-1]
    system = _system(bound)
    first, last, flat, start, end, *_ = span
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
    held = retether.retethered(now, Retether((bound.id,), asked.on, first, until, "ride", offset="here", settle=0.0))
    rolls = bound.systems[system].system.rolls(bound, control.control.name) if asked.rolls else None
    tilts = (
        bound.systems[system].system.tilts(bound, control.control.name)
        if rolls is None
        else [rolls.channel, *rolls.level]
    )
    new = next((t for t in held.take.tethers if t not in now.take.tethers), None)
    if new is not None:
        if span[:1] + span.part not in known:
            if asked.rolls or asked.at == "mean":
                held, new = _in_the_mean(now, held, new, bound, control.control, flat)
            values = program.now(first, tilts) if rolls is None else np.zeros(len(tilts))
            held, new = _out_of_it(
                held, new, bound, control.control, asked.on, flat[0], dict(zip(tilts, values, strict=True))
            )
            known[span[:1] + span.part] = new.offset
        else:
            held, new = _offset(held, new, known[span[:1] + span.part])
    if _handed_over(program, bound, start, end):
        held = _steadied(program, now, held, bound, system, control, tilts, span)
    edges = [(edge, until) for edge, until in ((first, start), (last, end)) if program.take.first < edge < last_of_all]
    for edge, until in edges:
        held = _eased(held, held.bound(*bound.id), control.control.name, asked.on, 0.5 * (first + last), edge, until)
    if rolls is None:
        refuse_locked(program, tilts, start, end)
        held = held.with_curves(_stilled(held, tilts, first, last, edges))
    else:
        refuse_locked(program, [rolls.channel, *rolls.level], start, end)
        held = held.with_curves(_stilled(held, list(rolls.level), first, last, edges, at=0.0))
        held = held.with_curves({held.channel_names()[rolls.channel]: _rolled(held, rolls, span)})
        held = _within_reach(held, held.bound(*bound.id), asked.on, rolls, span)
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
        curves[names[c]] = _constant(held.take, curves.get(names[c], EMPTY), default, value, first, last)
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
    """The hold moved and turned as little as leaves no point of the sole below the surface that it stands on; tilts: what the other
    values of its control are in the hold."""
    shapes = () if on == "world" else surface_of(held, Contact("", "", *retether.anchor_of(on), 0.0, 1.0))
    spots = spots_of(bound)
    if not (shapes and spots) or new.offset is None:
        return held, new
    node = held.nodes[retether.anchor_of(on)]
    own = held.bound(*bound.id).controls[control.name]
    of = [held.nodes[bound.member.id, s.joints[0]] for s in spots]
    drive = held.bound(*bound.id).drive_to(_system(bound))
    poses = held.evaluate([at], LEAVING, {**drive, **tilts}, only=[node, own.node, *of])
    back, size = inverse(poses.rot[0, node]), float(held.sizes(np.array([at]), LEAVING, node)[0])
    grown = float(held.sizes(np.array([at]), LEAVING, of[0])[0])
    points = np.array(
        [poses.pos[0, n] + grown * rotate(poses.rot[0, n], s.points[0]) for n, s in zip(of, spots, strict=True)]
    )
    points = rotate(back, points - poses.pos[0, node]) / size
    about = rotate(back, poses.pos[0, own.node] - poses.pos[0, node]) / size
    # Takes long to import, and a start does not wait for it.
    from scipy.spatial.transform import Rotation

    lever = max(float(np.linalg.norm(points - about, axis=1).max()), 1e-6)

    def moved(by: Floats) -> Floats:
        # Three of place and three of turn, as metres at the farthest point.
        turned: Floats = Rotation.from_rotvec(by[3:] / lever).apply(points - about) + about + by[:3]
        return turned

    by = np.zeros(6)
    for _ in range(_PUSHES):
        off = over(shapes, moved(by))
        deep = np.flatnonzero(off < -SAME * 1e-3)
        if not len(deep):
            break
        step = 1e-7
        slopes = np.array([(over(shapes, moved(by + step * d)) - off)[deep] / step for d in np.eye(6)]).T
        by = by + np.linalg.pinv(slopes, rcond=1e-6) @ -off[deep]
    if not by.any():
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
    span: _Span,
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


def _rolled(program: Program, rolls: Rolling, span: _Span) -> Curve:
    """The curve of a roll that turns about heel or ball alone before the sole is on and after it, and not at all while it is; as it
    was elsewhere."""
    kept, default = program.curve(rolls.channel), float(program.defaults[rolls.channel])
    a, b = span.flat
    times = np.unique([span.first, a, b, span.last, *np.arange(np.ceil(span.first), span.last)])
    if len(kept):
        times = np.union1d(times, kept.times[(kept.times > span.first) & (kept.times < span.last)])
    times = times[(times <= a) | (times >= b)]
    values = sample(kept, times, LEAVING, default) if len(kept) else np.zeros(len(times))
    for outside, ball in zip((times < a, times > b), span.ball, strict=True):
        values = np.where(outside, np.clip(values, *((0.0, rolls.most) if ball else (-np.pi, 0.0))), values)
    values = np.where((times >= a) & (times <= b), 0.0, values)
    keys = [Key(float(t), v, v, kind=SMOOTH, rule=AUTOMATIC) for t, v in zip(times, values.tolist(), strict=True)]
    made = automatic_slopes(curve(keys), times.tolist())
    result = put_over(kept, made.all_keys(), span.first, span.last, default)
    # What stands there leads on at the speed that the foot has beyond it.
    start, end = (result.key(result.find(t) or 0) for t in (span.first, span.last))
    ends = [
        start._replace(arriving=start.leaving, slope_out=start.slope_in if values[0] else start.slope_out),
        end._replace(leaving=end.arriving, slope_in=end.slope_out if values[-1] else end.slope_in),
    ]
    return _bounded(put(result, ends), rolls, span)


def _bounded(kept: Curve, rolls: Rolling, span: _Span) -> Curve:
    """A roll whose slopes keep it on the side of its stage between keys too: about the heel it is never above nothing, about the
    ball never below it, nor so far that it would turn about the tip. A cubic lies between its control points (Bernstein)."""
    a, b = span.flat
    for t in (span.start, span.end):
        kept = insert(kept, t, 0.0)
    for (first, last), ball in zip(((span.first, a), (b, span.last)), span.ball, strict=True):
        low, high = (0.0, rolls.most) if ball else (-np.pi, 0.0)
        keys = [k for k in kept.all_keys() if first <= k.time <= last]
        for n in range(len(keys) - 1):
            one, other = keys[n : n + 2]
            third = (other.time - one.time) / 3.0
            out = np.clip(one.slope_out, (low - one.leaving) / third, (high - one.leaving) / third)
            into = np.clip(other.slope_in, (other.arriving - high) / third, (other.arriving - low) / third)
            keys[n], keys[n + 1] = one._replace(slope_out=float(out)), other._replace(slope_in=float(into))
        # Within a stage both sides of a key have the lesser slope.
        for n in range(1, len(keys) - 1):
            least = min(keys[n].slope_in, keys[n].slope_out, key=abs)
            keys[n] = keys[n]._replace(slope_in=least, slope_out=least)
        # And what is beyond the hold, as far as it is led there or fades, has that of its edge.
        if keys and first == span.first and span.start < first:
            keys[0] = keys[0]._replace(slope_in=keys[0].slope_out)
        if keys and last == span.last and span.end > last:
            keys[-1] = keys[-1]._replace(slope_out=keys[-1].slope_in)
        kept = put(kept, [k._replace(rule=FREE) for k in keys])
    return kept


def _stilled(
    program: Program,
    channels: list[int],
    first: float,
    last: float,
    edges: list[tuple[float, float]],
    at: float | None = None,
) -> dict[str, Curve]:
    """Channels that stay as they are at the first frame of a hold, or at a value, so that what rests on its control does not move
    in it; what that changes fades outward from each edge."""
    names = program.channel_names()
    changed: dict[str, Curve] = {}
    for c in channels:
        kept = program.curve(c)
        if not len(kept):
            continue
        default = float(program.defaults[c])
        value = float(program.now(first, [c])[0]) if at is None else at
        for edge, until in edges:
            kept = insert(insert(kept, edge, default), until, default)
            if until == edge:
                # Without an ease it begins or ends at once.
                continue
            key = kept.key(kept.find(edge) or 0)
            out = until > edge
            now, slope = (key.leaving, key.slope_out) if out else (key.arriving, key.slope_in)
            kept = put(kept, _faded(kept, edge, until, value - now, -slope if out else slope))
        changed[names[c]] = _constant(program.take, kept, default, value, first, last)
    return changed


def _constant(take: Take, kept: Curve, default: float, value: float, first: float, last: float) -> Curve:
    """A curve that has one value from one frame to another, and is as it was elsewhere."""
    kept = without(insert(insert(kept, first, default), last, default), first, last)
    start, end = (kept.key(kept.find(t) or 0) for t in (first, last))
    start = start._replace(leaving=value, slope_out=0.0, rule=FREE)
    end = end._replace(arriving=value, slope_in=0.0, rule=FREE)
    # Where the take begins or ends with the hold, there is nothing on its other side.
    if first <= take.first:
        start = start._replace(arriving=value, slope_in=0.0)
    if last >= take.last:
        end = end._replace(leaving=value, slope_out=0.0)
    return put(kept, [start, end])


def _within_reach(program: Program, bound: Bound, on: str, rolls: Rolling, span: _Span) -> Program:
    """The heel comes up as far as a leg that is too short asks for, while the ball alone stands."""
    channel, name = rolls.channel, program.channel_names()[rolls.channel]
    kept = program.curve(channel)
    times = kept.times[(kept.times > span.flat[1]) & (kept.times <= span.last)]
    if not (len(times) and span.ball[1]):
        return program
    # At the last of them what arrives is held still.
    side = np.where(times == span.last, ARRIVING, LEAVING)
    values = sample(kept, times, side, 0.0)
    node = program.world if on == "world" else program.nodes[retether.anchor_of(on)]
    ball = spots_of(bound)[1]
    joint = program.nodes[bound.member.id, ball.joints[0]]

    def place(t: float, at: int, over: dict[int, float | Floats]) -> Floats:
        poses = program.evaluate([t], at, over, only=[node, joint])
        spot = poses.pos[0, joint] + float(program.sizes(np.array([t]), at, joint)[0]) * rotate(
            poses.rot[0, joint], ball.points[0]
        )
        return rotate(inverse(poses.rot[0, node]), spot - poses.pos[0, node])

    stood = place(span.flat[0], LEAVING, {})

    def off(some: np.ndarray, lifted: Floats) -> Floats:
        return np.array(
            [
                np.linalg.norm(place(times[k], int(side[k]), {channel: float(r)}) - stood)
                for k, r in zip(some, lifted, strict=True)
            ]
        )

    lifted, left = values.copy(), np.flatnonzero(off(np.arange(len(times)), values) > SAME)
    if not len(left):
        return program
    while len(left):
        lifted[left] = np.minimum(lifted[left] + LIFT, rolls.most)
        more = off(left, lifted[left]) > SAME
        left = left[more & (lifted[left] < rolls.most)]
    # A little more, so that nothing is missed between the keys.
    lifted = np.where(lifted > values, np.minimum(lifted + LIFT, rolls.most), values)
    # Once up it does not come down again before it leaves.
    lifted = np.maximum.accumulate(lifted)
    keys = []
    for t, v in zip(times, lifted.tolist(), strict=True):
        key = kept.key(kept.find(float(t)) or 0)
        keys.append(key._replace(arriving=v, leaving=key.leaving if t == span.last else v))
    return program.with_curves({name: _bounded(automatic_slopes(put(kept, keys), times.tolist()), rolls, span)})


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
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return any(c.control.touches for c in following(bound))

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
        return {"on": tuple(a for a in anchors(program) if a[0] != retether.OWN)}

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        last = float(program.take.last if asked.last is None else asked.last)
        plant = Plant(
            asked.parts, c["on"], asked.first, last, c["ease"], c["before"], c["at"], c["hold"] == "rolls", c["gives"], c["within"]
        )  # fmt: skip
        where = stretch_words(asked.first, asked.last)
        if c["each"] == "all":
            take, proof = apply_all(program, plant)
            return Outcome(take, proof, f"Plant all stances of {labels(program, asked.parts)}, {where}")
        take, proof = apply(program, plant)
        return Outcome(
            take, proof, f"Plant {labels(program, asked.parts)} on {retether.read(program, c['on'])}, {where}"
        )
