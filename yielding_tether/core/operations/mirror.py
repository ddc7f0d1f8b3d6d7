"""Mirror: a take, a stretch of it or the pose at one frame on the other side, reflected in one fixed plane.

    joints of the partner = plane · joints · plane, corrected from rest to rest;  channels = fit(those joints)

The plane is fixed in what the body stands on, a moving deck or the world, and goes through the body at the first frame,
upright: there the mirrored motion begins where the original does. Systems, follows, keys with their kinds, tags and locks
change sides; what is in the right hand is in the left. Set pieces stay as they are. Where a channel of one side is that of
the other but for its sign and a constant, its keys are carried over as they are; others are fitted at the same times.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np

from ..cast import Member
from ..channels import ROTATION, TRANSLATION, channel_id
from ..clips import partner
from ..contacts import cleared, with_contact
from ..curves import ARRIVING, EMPTY, LEAVING, SMOOTH, STEPPED, Curve, Key, insert, over, sample, set_value
from ..errors import CoreError
from ..express import FINE, Motion, fit_along, system_target
from ..fitting import fit_values
from ..followers import BoundControl
from ..follows import unused
from ..glass import Beginning, Glass, Shown, glass_of, placed
from ..kernels.hierarchy import to_local
from ..layers import carried
from ..measure import steps
from ..parts.root import ABOUT
from ..pivots import turnable
from ..program import Poses, Program
from ..proof import Proof, prove, reach
from ..rig import Bound
from ..takes import PIVOT, Capture, Contact, Layer, PivotPoint, Take, Tether
from ..transforms import Floats, Ints, inverse, multiply, rotate
from .anchor import spot
from .handover import refuse_locked
from .operation import (
    Asked,
    Choice,
    InView,
    Operation,
    Outcome,
    Parts,
    check_parts,
    check_stretch,
    offered,
    stretch_words,
)
from .retether import free_name

#: What of a fitted key may differ from the other side's, its sign apart, for the key to be carried over.
SAME = 1e-7
#: Rounds in which what follows one another settles.
ROUNDS = 4


@dataclass(frozen=True)
class Mirror:
    """What is asked for: the bodies and props to mirror, by id, the frames, and the plane: across what the body stands on
    ("stage"), or across the body as it is headed at the first frame ("own"); "none": they are only placed. `placed`: where
    what comes of it begins, by default where the mirror shows it."""

    members: tuple[str, ...]
    first: float
    last: float | None = None
    plane: Literal["stage", "own", "none"] = "stage"
    placed: Beginning | None = None


def apply(program: Program, asked: Mirror) -> tuple[Take, Proof]:
    """The take after it, and its proof; layers go along. CoreError says what can't be done; nothing changes then."""
    return _layered(program, asked) if program.take.layers else _mirrored(program, asked)


def _mirrored(program: Program, asked: Mirror) -> tuple[Take, Proof]:
    """The same for a take without layers."""
    first, last = check_stretch(program.take, asked.first, asked.last)
    take = program.take
    whole = first == take.first and last == take.last
    members = [program.scene.member(m) for m in asked.members]
    lead = next((m for m in members if m.kind == "character"), members[0])
    held = [m.name for m in members if m.id in take.captures]
    if held and not whole and first < last:
        raise CoreError(
            f"{', '.join(held)} has a capture, which can only be mirrored as a whole: choose the whole take."
        )
    if asked.placed is not None and not whole:
        raise CoreError("A part of a take can't begin elsewhere than the rest of it goes on: place the whole take.")
    glass = glass_of(program, lead, first, asked.plane)
    if asked.placed is not None:
        glass = placed(program, glass, lead, first, asked.placed)
    for member in members:
        for part in member.parts:
            refuse_locked(program, list(program.bound(member.id, part.name).own.values()), first, last)
    if first == last and not whole:
        return _pose(program, [m for m in members if m.kind == "character"], glass, first)
    pairs, notes = _pairs(program, members, glass)
    tethers, renamed = _tethers(program, pairs, glass)
    captures = {m: _capture(program, program.scene.member(m), pairs, glass) if m in asked.members else c
                for m, c in take.captures.items()}  # fmt: skip
    mine = {program.channel_names()[c] for b in pairs.values() if not _alone(b) for c in b.own.values()}
    curves = {n: c for n, c in take.curves.items() if n not in mine} | _switches(program, pairs, renamed)
    curves |= _pivots(program, pairs, glass)
    now = program.on(replace(take, curves=curves, tethers=tethers, captures=captures))
    order = sorted(pairs, key=lambda id: int(program.bounds[id].nodes.min()))
    for _ in range(ROUNDS):
        before = dict(now.take.curves)
        for id in order:
            now = now.with_curves(_expressed(program, now, program.bounds[id], now.bounds[pairs[id].id], glass))
        if before.keys() == now.take.curves.keys() and all(_near(before[n], c) for n, c in now.take.curves.items()):
            break
    if not whole:
        names = {n for n in {*take.curves, *now.take.curves} if take.curves.get(n) != now.take.curves.get(n)}
        now = now.on(replace(now.take, curves={**now.take.curves, **take.curves})).with_curves(
            {
                n: _between(take.curves.get(n, EMPTY), now.take.curves.get(n, EMPTY), first, last, _default(now, n))
                for n in names
            }
        )
    points = _points(program, pairs, glass) if whole else take.points
    now = now.on(replace(now.take, contacts=_contacts(program, pairs, first, last), points=points))
    # What was followed is followed no more where the other side follows it now: that stays for its dial.
    idle = {t for b in program.bounds.values() for t in unused(program, b)}
    left = {t for b in now.bounds.values() for t in unused(now, b)} - idle
    now = now.with_curves({n: set_value(EMPTY, float(take.first), 0.0, STEPPED) for t in left for n in t.weights})
    now.check_loops()
    notes += _told(program, now, pairs, glass, first, last, whole)
    return now.take, prove("mirror" if glass.flips else "place", program, now, first, last, notes=tuple(notes))


def _layered(program: Program, asked: Mirror) -> tuple[Take, Proof]:
    """The same for a take with layers: each goes over to the other side as the base does, muted ones too."""
    old = program.take.layers
    heard = program.on(replace(program.take, layers=tuple(replace(x, mute=False, solo=False) for x in old)))
    notes: list[str] = []

    def work(beneath: Program) -> Take:
        made, proof = _mirrored(beneath, asked)
        notes[:] = proof.notes
        return made

    made = carried(heard, work)
    after = heard.on(made)
    layers = tuple(
        replace(x, curves=_as_keyed(heard, after, was, x), mute=was.mute, solo=was.solo)
        for was, x in zip(old, made.layers, strict=True)
    )
    after = program.on(replace(made, layers=layers))
    after.check_loops()
    first, last = check_stretch(program.take, asked.first, asked.last)
    operation = "place" if asked.plane == "none" else "mirror"
    return after.take, prove(operation, program, after, first, last, notes=tuple(notes))


def _as_keyed(program: Program, after: Program, was: Layer, made: Layer) -> dict[str, Curve]:
    """Curves of a layer on the other side: where one of those that it had, or its negative, says the same at all frames, that with
    its keys; what says nothing is left out."""
    found: dict[str, Curve] = {}
    frames = program.take.frames
    for name, c in made.curves.items():
        values = sample(c, frames, LEAVING)
        if np.abs(values).max(initial=0.0) <= SAME:
            continue
        found[name] = c
        for kept in was.curves.values():
            sign = next(
                (x for x in (1.0, -1.0) if np.abs(sample(kept, frames, LEAVING) * x - values).max() <= SAME), 0.0
            )
            if sign:
                numbers = kept.numbers.copy()
                numbers[:, 1:] *= sign
                found[name] = Curve(numbers, kept.marks)
                break
    return found


def _pose(program: Program, members: list[Member], glass: Glass, frame: float) -> tuple[Take, Proof]:
    """The pose of bodies at one frame on the other side, keyed in every system of each part; what drives and what is
    followed stays, and so does what they hold."""
    pairs, notes = _pairs(program, members, glass)
    changed: dict[str, Curve] = {}
    names = program.channel_names()
    now = program
    at, side = np.array([frame]), np.zeros(1, dtype=np.int64)
    shown = glass.at(at)
    for id in sorted(pairs, key=lambda id: int(pairs[id].nodes.min())):
        bound, other = program.bounds[id], pairs[id]
        state = other.state(program.now(frame, other.driver_channels)[:, None])
        if state is None or other.systems[state].system.moves_alone:
            raise CoreError(
                f"{other.who} is not driven by keys alone at frame {frame:g}: hand it over to a system with keys first."
            )
        was = program.evaluate(at, side, only=np.concatenate([bound.nodes, bound.above]))
        for system in other.keyed_systems:
            target = system_target(now, other, system)
            reached = now.evaluate(at, side, only=now.fit_nodes([other]))
            _reflect(reached, was, bound, other, shown)
            values = target.fit(reached, now.now(frame, target.channels))[:, 0]
            for k, c in enumerate(target.channels):
                old = now.curve(int(c))
                sign = bool(target.mine.stepped[k])
                if not len(old) and abs(values[k] - now.defaults[c]) <= SAME:
                    continue
                changed[names[c]] = set_value(old, frame, float(values[k]), STEPPED if sign else SMOOTH)
        now = program.with_curves(changed)
    first, last = reach(program.take, changed)
    return now.take, prove("mirror", program, now, first, last, notes=tuple(notes))


def _reflect(reached: Poses, was: Poses, bound: Bound, other: Bound, shown: Shown) -> None:
    """Puts a part's joints where the mirror shows those of its partner; those of a part without one where they were in what they
    hang from. was: its joints, and what they hang from."""
    if _alone(bound):
        for k in bound.outward:
            up, node = bound.above[k], bound.nodes[k]
            turn = multiply(reached.rot[:, up], inverse(was.rot[:, up]))
            reached.pos[:, node] = reached.pos[:, up] + rotate(turn, was.pos[:, node] - was.pos[:, up])
            reached.rot[:, node] = multiply(turn, was.rot[:, node])
        return
    rests = [m.skeleton.rest_pose[1] for m in (bound.member, other.member)]
    index = [m.skeleton.index for m in (bound.member, other.member)]
    for k, joint in enumerate(bound.part.joints):
        reached.pos[:, other.nodes[k]] = shown.place(was.pos[:, bound.nodes[k]])
        reached.rot[:, other.nodes[k]] = shown.turn(
            was.rot[:, bound.nodes[k]], rests[0][index[0][joint]], rests[1][index[1][other.part.joints[k]]]
        )


def _told(
    program: Program, now: Program, pairs: dict[tuple[str, str], Bound], glass: Glass, first: float, last: float,
    whole: bool,
) -> list[str]:  # fmt: skip
    """How far parts are from where the mirror shows them, where that is more than a tenth of a millimetre: between keys, or
    where they follow what stays."""
    at = np.unique(np.append(np.arange(2 * np.ceil(first), 2 * last + 0.5) / 2.0, [first, last]))
    found = []
    # What leaves the last frame of a stretch is what was there before.
    side = np.where((at == last) & (not whole), ARRIVING, LEAVING)
    shown = glass.at(at, side)
    was, new = program.evaluate(at, side), now.evaluate(at, side)
    for id, other in pairs.items():
        there = now.bounds[other.id]
        wanted = replace(new, pos=new.pos.copy(), rot=new.rot.copy())
        _reflect(wanted, was, program.bounds[id], there, shown)
        off = np.linalg.norm(wanted.pos[:, there.nodes] - new.pos[:, there.nodes], axis=-1).max(axis=1)
        if off.max() > 1e-4:
            worst = float(at[int(np.argmax(off))])
            where = (
                "it was in what it hangs from"
                if _alone(other)
                else "the mirror shows it"
                if glass.flips
                else "it was put"
            )
            found.append(f"{other.who} is up to {1000 * off.max():.1f} mm from where {where}, at frame {worst:g}.")
    return found


def _near(a: Curve, b: Curve) -> bool:
    return len(a) == len(b) and bool(np.allclose(a.numbers, b.numbers, rtol=0.0, atol=1e-12))


def _default(program: Program, name: str) -> float:
    return float(program.defaults[program.channels[name]])


def _pairs(program: Program, members: list[Member], glass: Glass) -> tuple[dict[tuple[str, str], Bound], list[str]]:
    """For each part the one that takes its motion, itself where none is like it on the other side, and what is told of those."""
    pairs: dict[tuple[str, str], Bound] = {}
    notes = []
    for member in members:
        for part in member.parts:
            other = partner(member, part) if glass.flips else part
            if other is None:
                notes.append(
                    f"{part.label}: {member.name} has no part like it on the other side; it keeps its own motion, carried "
                    f"along with what it hangs from."
                )
            pairs[member.id, part.name] = program.bound(member.id, (other or part).name)
    return pairs, notes


def _alone(bound: Bound) -> bool:
    """Whether a part has none like it on the other side."""
    return partner(bound.member, bound.part) is None


def _joint_on_other_side(pairs: dict[tuple[str, str], Bound], program: Program, member: str, name: str) -> str:
    """The joint or control that is to another part what one is to its own."""
    for id, other in pairs.items():
        bound = program.bounds[id]
        if id[0] != member:
            continue
        if name in bound.part.joints:
            return other.part.joints[bound.part.joints.index(name)]
        for one, two in zip(bound.described, other.described, strict=True):
            if one.name == name:
                return two.name
    return name


def _reach(program: Program, tether: Tether) -> Floats:
    """(7,) place and rotation at which a control is tied to what it follows; not a number for one that is new."""
    for bound in program.bounds.values():
        control = bound.followers.get(tether.control) if bound.member.id == tether.member else None
        mine = [t for t in program.take.tethers if (t.member, t.control) == (tether.member, tether.control)]
        if control is not None and tether in mine:
            one = control.anchors[mine.index(tether)]
            return np.concatenate([one.pos, one.rot])
    if tether.offset is not None:
        return np.array(tether.offset)
    return np.full(7, np.nan)


def _tied_alike(a: Floats, b: Floats) -> bool:
    """Whether two ties are the same; a rotation and its negative are."""
    turned = min(float(np.abs(a[3:] - b[3:]).max()), float(np.abs(a[3:] + b[3:]).max()))
    return bool(np.abs(a[:3] - b[:3]).max() <= SAME and turned <= SAME)


def _rest(program: Program, member: str, name: str) -> Floats:
    """(4,) rest rotation of a joint, or of the joint on which a control rests; a guide is not turned."""
    whose = program.scene.member(member)
    if name not in whose.skeleton.index:
        mine = [b for b in program.bounds.values() if b.member.id == member]
        control = next(c for b in mine for c in b.described if c.name == name)
        if not control.rests_on:
            return np.array([0.0, 0.0, 0.0, 1.0])
        name = control.rests_on
    rest: Floats = whose.skeleton.rest_pose[1][whose.skeleton.index[name]]
    return rest


def _offset(
    program: Program, pairs: dict[tuple[str, str], Bound], tether: Tether, control: str, anchor: str, glass: Glass
) -> Floats | None:
    """(7,) how a mirrored control is tied to a mirrored anchor: as the mirror shows it. None where the anchor stays."""
    if tether.anchor_member not in {id[0] for id in pairs}:
        return None
    reach = _reach(program, tether)
    a, b = (_rest(program, tether.anchor_member, n) for n in (tether.anchor, anchor))
    one, two = (_rest(program, tether.member, n) for n in (tether.control, control))
    flip = np.append(glass.rest, 0.0)
    seen = rotate(a, reach[:3])
    seen = seen - 2.0 * float(seen @ glass.rest) * glass.rest
    turn = multiply(
        inverse(b), multiply(multiply(flip, multiply(a, reach[3:])), multiply(multiply(inverse(one), flip), two))
    )
    return np.concatenate([rotate(inverse(b), seen), turn * (1.0 if turn[3] >= 0.0 else -1.0)])


def _tethers(
    program: Program, pairs: dict[tuple[str, str], Bound], glass: Glass
) -> tuple[tuple[Tether, ...], dict[tuple[str, str, str], str]]:
    """Follows of the mirrored take, and the name of each follow on the other side by (member, control, name)."""
    tethers = list(program.take.tethers)
    renamed: dict[tuple[str, str, str], str] = {}
    if not glass.flips:
        return program.take.tethers, {(t.member, t.control, t.name): t.name for t in tethers}
    mirrored = {id[0] for id in pairs}
    own = {(id[0], c) for id, other in pairs.items() if _alone(other) for c in other.followers}
    for t in program.take.tethers:
        if t.member not in mirrored or (t.member, t.control) in own:
            continue
        control = _joint_on_other_side(pairs, program, t.member, t.control)
        anchor = t.anchor
        if t.anchor_member in mirrored:
            anchor = _joint_on_other_side(pairs, program, t.anchor_member, t.anchor)
        offset = _offset(program, pairs, t, control, anchor, glass)
        wanted = (t.member, control, t.anchor_member, anchor, t.position, t.rotation)
        there = [x for x in tethers
                 if (x.member, x.control, x.anchor_member, x.anchor, x.position, x.rotation) == wanted
                 and (offset is None or _tied_alike(_reach(program, x), offset))]  # fmt: skip
        if not there:
            taken = {x.name for x in tethers if (x.member, x.control) == (t.member, control)}
            name = free_name(t.name, t.anchor_member, taken)
            tied = None if offset is None else tuple(map(float, offset))
            there = [replace(t, name=name, control=control, anchor=anchor, offset=tied)]  # type: ignore[arg-type]
            tethers += there
        renamed[t.member, t.control, t.name] = there[0].name
    return tuple(tethers), renamed


def _contacts(program: Program, pairs: dict[tuple[str, str], Bound], first: float, last: float) -> tuple[Contact, ...]:
    """Contacts of the mirrored take: from first to last those of the other side."""
    mirrored = {id[0] for id in pairs}
    take = program.take
    shown = []
    for c in take.contacts:
        if c.member not in mirrored or c.first >= last or c.last <= first:
            continue
        joint = _joint_on_other_side(pairs, program, c.member, c.joint)
        anchor = c.anchor
        if c.anchor_member in mirrored:
            anchor = _joint_on_other_side(pairs, program, c.anchor_member, c.anchor)
        if kept := c.cut(first, last):
            shown.append(replace(kept, joint=joint, anchor=anchor))
    for c in (c for c in take.contacts if c.member in mirrored):
        take = replace(take, contacts=tuple(cleared(take, c.member, c.joint, first, last)))
    for c in shown:
        take = with_contact(take, c)
    return take.contacts


def _switches(
    program: Program, pairs: dict[tuple[str, str], Bound], renamed: dict[tuple[str, str, str], str]
) -> dict[str, Curve]:
    """What drives, what is followed and how large it is, as it is on the other side."""
    found: dict[str, Curve] = {}
    for id, other in pairs.items():
        bound = program.bounds[id]
        if _alone(bound):
            continue
        for (control, name), c in bound.own.items():
            size = bound.body is not None and c == bound.body.size
            if not (c in bound.switches or size) or not len(program.curve(c)):
                continue
            there = (
                _joint_on_other_side(pairs, program, id[0], control) if control != bound.part.name else other.part.name
            )
            tether, dot, what = name.rpartition(".")
            on_other_side = f"{renamed[id[0], control, tether]}.{what}" if dot else name
            found[f"{id[0]}/{there}.{on_other_side}"] = program.curve(c)
    return found


def _expressed(program: Program, now: Program, bound: Bound, other: Bound, glass: Glass) -> dict[str, Curve]:
    """A part's curves on the other side: every system that keys make, its keys at the same times."""
    found: dict[str, Curve] = {}
    names = now.channel_names()
    # Where what is followed changes, keys are split; a follow that stays behind needs other values than before.
    changes = program.key_times(bound.weight_channels) if bound.weight_channels else np.empty(0)
    breaks = program.key_times()

    for system in bound.systems:
        if bound.systems[system].system.moves_alone and not any(
            len(program.curve(int(c))) for c in bound.systems[system].channels
        ):
            # Nothing is adjusted: the mirrored samples are the motion.
            continue
        one, two = bound.systems[system], other.systems[system]
        target = system_target(now, other, system)
        if signs := one.system.mirrored(bound, other):
            signs = signs if glass.flips else dict.fromkeys(signs, 1.0)
            target = replace(target, fit=_with(program, now, bound, other, system, signs))

        def poses(at: Floats, side: Ints, system: str = system, target: object = target) -> Poses:
            # The joints as this system holds them, whichever drives: idle keys are mirrored too.
            alone: dict[int, float | Floats] = {**bound.drive_to(system)}
            was = program.evaluate(at, side, overrides=alone, only=np.concatenate([bound.nodes, bound.above]))
            reached = now.evaluate(at, side, only=now.fit_nodes([other]))
            shown = glass.at(at, side)
            _reflect(reached, was, bound, other, shown)
            return reached

        motion = Motion(now, poses, lambda t: FINE * steps(breaks, t), between=False)
        times = np.unique(np.concatenate([*(program.curve(int(c)).times for c in one.channels), changes]))
        if not len(times):
            times = np.array([float(program.take.first)])
        near = now.now(float(times[0]), two.channels)
        fitted = fit_along(motion, target, times, np.ones(len(times), dtype=bool), near)
        for group in _groups(program, one.channels):
            curves = [program.curve(int(one.channels[k])) for k in group]
            made = [
                _signed(c, fitted.values[:, k], times, bool(one.stepped[k])) for k, c in zip(group, curves, strict=True)
            ]
            if any(m is None for m in made):
                # The values of one are made of those of all: they are keyed together.
                at = np.unique(np.concatenate([*(c.times for c in curves), changes, times[:1]]))
                made = [
                    _fitted(
                        c, fitted.values[:, k], fitted.slopes[:, k], times, at, float(program.defaults[one.channels[k]])
                    )
                    for k, c in zip(group, curves, strict=True)
                ]
            found |= {names[two.channels[k]]: m for k, m in zip(group, made, strict=True) if m is not None and len(m)}
    return found if _alone(bound) else found | _lengths(program, now, bound, other, glass)


def _with(
    program: Program, now: Program, bound: Bound, other: Bound, system: str, signs: dict[int, float]
) -> Callable[[Poses, Floats], Floats]:  # fmt: skip
    """A fit that takes over some values of the other side by their signs."""
    channels = bound.systems[system].channels

    def fit(poses: Poses, near: Floats) -> Floats:
        values = program.sample(poses.times, poses.side, channels[list(signs)])
        kept = {k: sign * value for (k, sign), value in zip(signs.items(), values, strict=True)}
        return fit_values(now, other, system, poses, near, kept)

    return fit


def _lengths(program: Program, now: Program, bound: Bound, other: Bound, glass: Glass) -> dict[str, Curve]:
    """Length channels of a part on the other side: turned from what a joint hangs from at rest to what its partner does; and
    the point about which a root's body grows, turned from the one root at rest to the other."""
    names = now.channel_names()
    flip = glass.flip
    triples = [
        (a, b, _rest_above(bound, k), _rest_above(other, k), bound.offsets[k], other.offsets[k])
        for k, (a, b) in enumerate(zip(bound.moving, other.moving, strict=True))
    ]
    if bound.part.grows:
        points = (np.array([b.own[b.part.joints[0], c] for c in ABOUT]) for b in (bound, other))
        triples.append((*points, bound.rests[0], other.rests[0], np.zeros(3), np.zeros(3)))
    return _turned(program, names, triples, flip)


def _pivots(program: Program, pairs: dict[tuple[str, str], Bound], glass: Glass) -> dict[str, Curve]:
    """Points about which controls turn, as they are in the controls on the other side."""
    found: dict[str, Curve] = {}
    for bound, one, two, turn in _turning(program, pairs, glass):
        if one.pivot >= 0:
            names = [channel_id(bound.member.id, two.control.name, axis) for axis in PIVOT]
            points = one.pivot + np.arange(3)
            found |= _mixed(program, points, names, turn)
    return found


def _points(program: Program, pairs: dict[tuple[str, str], Bound], glass: Glass) -> tuple[PivotPoint, ...]:
    """Named points, in the controls on the other side."""
    over = {
        (b.member.id, one.control.name): (two.control.name, turn)
        for b, one, two, turn in _turning(program, pairs, glass)
    }
    found = []
    for p in program.take.points:
        control, turn = over.get((p.member, p.control), (p.control, np.eye(3)))
        place, marker = (tuple((turn @ np.array(x)).tolist()) for x in (p.place, p.marker))
        found.append(replace(p, control=control, place=place, marker=marker))
    return tuple(found)


def _turning(
    program: Program, pairs: dict[tuple[str, str], Bound], glass: Glass
) -> Iterator[tuple[Bound, BoundControl, BoundControl, Floats]]:
    """Controls that turn about points, each with its partner and what makes (3, 3) a place in the one one in the other."""
    flip = glass.flip
    for id, other in pairs.items():
        bound = program.bounds[id]
        if _alone(bound):
            continue
        for one, two in zip(turnable(bound), turnable(other), strict=True):
            up, down = (_rest_of(b, c) for b, c in ((bound, one), (other, two)))
            yield bound, one, two, _between_rests(up, down, flip)


def _rest_of(bound: Bound, control: BoundControl) -> Floats:
    """(4,) rest rotation of a control: that of the joint it rests on."""
    skeleton = bound.member.skeleton
    rest: Floats = skeleton.rest_pose[1][skeleton.index[control.control.rests_on]]
    return rest


def _between_rests(up: Floats, down: Floats, flip: Floats) -> Floats:
    """(3, 3) what a reflection makes of places in something with one rest rotation, in something with another."""
    # Columns of a rotation are what it makes of the axes.
    turn: Floats = rotate(np.tile(inverse(down), (3, 1)), rotate(np.tile(up, (3, 1)), np.eye(3)) @ flip).T
    return turn


def _turned(program: Program, names: list[str], triples: list[Any], flip: Floats) -> dict[str, Curve]:
    """Lengths along three axes on the other side: mine and theirs (3,) channels, rest rotations and offsets of both."""
    found: dict[str, Curve] = {}
    for mine, theirs, up, down, rest, other_rest in triples:
        if mine[0] < 0 or theirs[0] < 0 or not any(len(program.curve(int(c))) for c in mine):
            continue
        turn = _between_rests(up, down, flip)
        if np.abs(turn @ rest - other_rest).max() > SAME:
            # Bones that are not alike at rest: what lengthens one lengthens the other.
            found |= {names[b]: program.curve(int(c)) for c, b in zip(mine, theirs, strict=True)}
            continue
        found |= _mixed(program, mine, [names[c] for c in theirs], turn)
    return found


def _mixed(program: Program, mine: Ints, theirs: list[str], turn: Floats) -> dict[str, Curve]:
    """Curves of three lengths (channels `mine`) turned by turn (3, 3), under other names; those without keys are left out."""
    found: dict[str, Curve] = {}
    times = np.unique(np.concatenate([program.curve(int(c)).times for c in mine]))
    whole = [program.curve(int(c)) for c in mine]
    for t in times.tolist():
        whole = [insert(w, t, float(program.defaults[int(c)])) for c, w in zip(mine, whole, strict=True)]
    mixed = np.einsum("ij,jtn->itn", turn, np.stack([c.numbers[:, 1:] for c in whole]))
    for axis, name in enumerate(theirs):
        # Where one axis alone makes another, its own keys do.
        source = np.flatnonzero(np.abs(turn[axis]) > SAME)
        if len(source) == 1 and abs(abs(turn[axis, source[0]]) - 1.0) <= SAME:
            kept = program.curve(int(mine[source[0]]))
            numbers = kept.numbers.copy()
            numbers[:, 1:] *= np.sign(turn[axis, source[0]])
            found[name] = Curve(numbers, kept.marks.copy())
        else:
            found[name] = Curve(np.column_stack([times, mixed[axis]]), whole[axis].marks.copy())
    return {n: c for n, c in found.items() if len(c)}


def _rest_above(bound: Bound, k: int) -> Floats:
    """(4,) rest rotation of what a joint hangs from."""
    skeleton = bound.member.skeleton
    parent = skeleton.parents[skeleton.index[bound.part.joints[k]]]
    rest: Floats = skeleton.rest_pose[1][parent] if parent >= 0 else np.array([0.0, 0.0, 0.0, 1.0])
    return rest


def _groups(program: Program, channels: Ints) -> list[list[int]]:
    """Channels of a system that make one place or one rotation together, by their numbers in it."""
    found: dict[tuple[str, str], list[int]] = {}
    for k, c in enumerate(channels):
        info = program.info[int(c)][2]
        joint, _, axis = info.name.rpartition(".")
        what = axis[0] if axis in (*TRANSLATION, *ROTATION) else axis
        found.setdefault((f"{info.control} {joint}", what), []).append(k)
    return list(found.values())


def _signed(kept: Curve, values: Floats, times: Floats, stepped: bool) -> Curve | None:
    """The curve itself or its negative, and a constant, where that is what was fitted; None elsewhere. values (2, T)."""
    if stepped or not len(kept):
        return kept if stepped or not np.abs(values).max(initial=0.0) > SAME else None
    every = np.stack([sample(kept, times, side) for side in (LEAVING, ARRIVING)])
    for sign in (1.0, -1.0):
        more = values - sign * every
        if np.ptp(more) <= SAME:
            numbers = kept.numbers.copy()
            numbers[:, 1:] *= sign
            # A constant of rounding alone is none: mirrored twice, a key is what it was, to the bit.
            if abs(more.mean()) > SAME:
                numbers[:, 1:3] += more.mean()
            return Curve(numbers, kept.marks.copy())
    return None


def _fitted(kept: Curve, values: Floats, slopes: Floats, times: Floats, at: Floats, default: float) -> Curve:
    """Keys at these times with fitted values and slopes; kinds, tags and locks where a curve has keys. (2, T) each."""
    for t in at:
        kept = insert(kept, float(t), default)
    where = np.searchsorted(times, kept.times)
    numbers = kept.numbers.copy()
    numbers[:, 1], numbers[:, 2] = values[ARRIVING, where], values[LEAVING, where]
    smooth = kept.marks[:, 0] != STEPPED
    numbers[smooth, 3], numbers[smooth, 4] = slopes[ARRIVING, where][smooth], slopes[LEAVING, where][smooth]
    whole = np.abs(numbers[:, 1] - numbers[:, 2]) <= 1e-12
    numbers[whole, 1] = numbers[whole, 2]
    return Curve(numbers, kept.marks.copy())


def _capture(program: Program, member: Member, pairs: dict[tuple[str, str], Bound], glass: Glass) -> Capture:
    """A capture as the mirror shows it: the motion of each joint on its partner."""
    own = program.take.captures[member.id]
    at = own.first + own.step * np.arange(float(len(own.offsets)))
    index = member.skeleton.index
    alone: dict[int, float | Floats] = {}
    for b in program.bounds.values():
        if b.member.id == member.id:
            alone |= b.drive_to(list(b.systems)[-1])
            # The samples themselves, without what is adjusted on top.
            alone |= {int(c): 0.0 for c in b.systems[list(b.systems)[-1]].channels}
            # And at the size that they were taken at.
            alone |= {b.body.size: 1.0} if b.body else {}
    nodes = program.joints([member.id])[1]
    poses = program.evaluate(at, overrides=alone, only=nodes)
    shown = glass.at(at)
    pos, rot = np.empty((len(at), len(nodes), 3)), np.empty((len(at), len(nodes), 4))
    rests = member.skeleton.rest_pose[1]
    carried: set[int] = set()
    for id, other in pairs.items():
        if id[0] != member.id:
            continue
        if _alone(other):
            carried |= {index[j] for j in other.part.joints}
            continue
        for one, two in zip(program.bounds[id].part.joints, other.part.joints, strict=True):
            j, to = index[one], index[two]
            pos[:, to] = shown.place(poses.pos[:, nodes[j]])
            rot[:, to] = shown.turn(poses.rot[:, nodes[j]], rests[j], rests[to])
    for j in sorted(carried):
        up = member.skeleton.parents[j]
        pos[:, j] = pos[:, up] + rotate(rot[:, up], own.offsets[:, j])
        rot[:, j] = multiply(rot[:, up], own.rotations[:, j])
    offsets, turns = np.empty_like(pos), np.empty_like(rot)
    to_local(np.array(member.skeleton.parents, dtype=np.int64), pos, rot, offsets, turns)
    for k in range(1, len(turns)):
        turns[k, np.sum(turns[k] * turns[k - 1], axis=-1) < 0.0] *= -1.0
    return Capture(offsets, turns, own.first, own.step)


def _between(old: Curve, new: Curve, first: float, last: float, default: float) -> Curve:
    """A curve that is the new one from first to last and the old one elsewhere."""
    inside = insert(insert(new, first, default), last, default)
    keys: list[Key] = [k for k in inside.all_keys() if first <= k.time <= last]
    return over(old, keys, first, last, default)


#: Which bodies and props go along, for what mirrors and what places takes.
WHAT = Choice(
    "what", "what", "options", "all", (("all", "bodies and props"), ("body", "this body alone")),
    help="Set pieces stay where they are.",
)  # fmt: skip
#: Where a take is put.
AT = Choice("at", "at", "point", "", when=("to", ("spot",)), help="Click a place in the view, or give x y z in metres.")
HEADING = Choice(
    "heading", "headed", "number", 0.0, least=-180.0, most=180.0, unit="°", when=("to", ("origin", "spot")),
    help="About the vertical; 0: along z.",
)  # fmt: skip


def place_of(c: Mapping[str, Any]) -> Beginning:
    """The place that is chosen; CoreError where none is."""
    where = spot(c["at"]) if c["to"] == "spot" else None
    if c["to"] == "spot" and where is None:
        raise CoreError("Click the place in the view at which it is to begin, or give x y z in metres.")
    at = (0.0, 0.0, 0.0) if where is None else (float(where[0]), float(where[1]), float(where[2]))
    return Beginning(c["to"], at, float(np.radians(c["heading"])))


def members_of(program: Program, parts: Parts, what: str) -> tuple[str, ...]:
    """Bodies of these parts, and props with them where all is asked for. CoreError where no body is among them."""
    check_parts(program, parts)
    bodies = [m for m, _ in parts if program.scene.member(m).kind == "character"]
    if not bodies:
        raise CoreError("Choose a part of a body.")
    props = [m.id for m in program.scene.members if m.kind in ("prop", "anchor")] if what == "all" else []
    return tuple(dict.fromkeys([*bodies, *props]))


def path_of(program: Program, asked: Mirror) -> InView | None:
    """The way on the ground that a body's root goes as it would come of it."""
    lead = next((m for m in map(program.scene.member, asked.members) if m.kind == "character"), None)
    root = next((b for b in program.bounds.values() if lead and b.member.id == lead.id and b.part.free), None)
    if lead is None or root is None:
        return None
    first, last = check_stretch(program.take, asked.first, asked.last)
    glass = glass_of(program, lead, first, asked.plane)
    if asked.placed is not None:
        glass = placed(program, glass, lead, first, asked.placed)
    at = np.arange(np.ceil(first), last + 0.5)
    pos = glass.at(at).place(program.track(at, LEAVING, root.nodes[:1])[0][:, 0])
    ground = float(program.scene.member(lead.id).skeleton.rest_pose[0][:, 1].min())
    return InView(tuple((float(x), ground, float(z)) for x, _, z in pos), ())


@offered
class MirrorTake(Operation):
    """Mirrors bodies and what they hold."""

    id = "mirror"
    rank = 26
    under = "as is"
    label = "Mirror"
    applies = "parts"
    help = "The whole body, and what it holds, on the other side: systems, follows and keys change sides."
    choices = (
        replace(WHAT, label="mirrored"),
        Choice(
            "plane", "across", "options", "stage", (("stage", "what it stands on"), ("own", "its own heading")),
            help="The plane stands upright in the body at the first frame.",
        ),
        Choice(
            "to", "beginning", "options", "mirrored",
            (("mirrored", "as mirrored"), ("start", "as the original"), ("origin", "at the origin"), ("spot", "at a place")),
            folded=True, help="Where the mirrored take begins, and how it is headed there.",
        ),
        replace(AT, folded=True), replace(HEADING, folded=True),
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return bound.member.kind == "character"

    def in_view(self, program: Program, asked: Asked) -> InView | None:
        return path_of(program, self._asked(program, asked))

    def _asked(self, program: Program, asked: Asked) -> Mirror:
        c = self.chosen(asked)
        to = None if c["to"] == "mirrored" else place_of(c)
        return Mirror(members_of(program, asked.parts, c["what"]), asked.first, asked.last, c["plane"], to)

    def run(self, program: Program, asked: Asked) -> Outcome:
        mirror = self._asked(program, asked)
        take, proof = apply(program, mirror)
        names = ", ".join(program.scene.member(m).name for m in mirror.members)
        pose = asked.first == asked.last
        return Outcome(
            take, proof,
            f"Mirror the pose at frame {asked.first:g}" if pose else f"Mirror {names}, {stretch_words(asked.first, asked.last)}",
        )  # fmt: skip
