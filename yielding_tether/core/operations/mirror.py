"""Mirror: a take, a stretch of it or the pose at one frame on the other side, reflected in one fixed plane.

    joints of the partner = plane · joints · plane, corrected from rest to rest;  channels = fit(those joints)

The plane is fixed in what the body stands on, a moving deck or the world, and goes through the body at the first frame,
upright: there the mirrored motion begins where the original does. Systems, follows, keys with their kinds, tags and locks
change sides; what is in the right hand is in the left. Set pieces stay as they are. Where a channel of one side is that of
the other but for its sign and a constant, its keys are carried over as they are; others are fitted at the same times.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple

import numpy as np

from ..cast import Member
from ..channels import ROTATION, TRANSLATION
from ..contacts import end_of
from ..curves import (
    ARRIVING,
    EMPTY,
    FREE,
    LEAVING,
    SMOOTH,
    STEPPED,
    SUMMED,
    Curve,
    Key,
    insert,
    kinds_at,
    sample,
    set_value,
)
from ..curves import over as put_over
from ..errors import CoreError
from ..express import FINE, Motion, Target, fit_along, system_target
from ..fitting import fit_values
from ..follows import unused
from ..glass import STAGE, Beginning, Glass, Plane, Shown, glass_of, glass_within, heading, placed
from ..layers import carried
from ..measure import steps
from ..other_side import (
    ONE_SIDED,
    Mates,
    Pairs,
    capture_over,
    contacts_over,
    lengths_over,
    marks_over,
    mate,
    part_pairs,
    pivots_over,
    points_over,
    switches_over,
    tethers_over,
    whole_pairs,
)
from ..program import Poses, Program
from ..proof import Proof, prove, reach
from ..rig import Bound
from ..sides import SAME, own_plane
from ..takes import WORLD, Layer, Take
from ..transforms import Floats, Ints, inverse, multiply, rotate, rotation_distance
from .anchor import spot
from .contact import standing
from .handover import refuse_locked
from .operation import (
    Asked,
    Choice,
    InView,
    Operation,
    Outcome,
    Parts,
    Step,
    check_parts,
    check_stretch,
    labels,
    offered,
    run,
    stretch_words,
)
from .retether import OWN, anchor_of, anchors, check_anchor

#: Rounds in which what follows one another settles.
ROUNDS = 4
#: Rounds in which keys are added to what goes over within its body, where that moves itself, and how far off is near enough:
#: metres and radians.
DENSER, WITHIN = 12, (1e-3, np.pi / 360.0)
#: A difference of distances that is told, metres.
TOLD = 1e-3


@dataclass(frozen=True)
class Mirror:
    """What is asked for: the bodies and props to mirror, by id, the frames, and the plane. `placed`: where what comes of it begins,
    by default where the mirror shows it. `parts`: only these, by id, within their bodies: the two sides are exchanged, or, without
    `exchange`, each goes onto the other side. `mates`: which part is like which, where the animator says so. `itself`:
    props that are not alike on both sides are mirrored themselves."""

    members: tuple[str, ...]
    first: float
    last: float | None = None
    plane: Plane = STAGE
    placed: Beginning | None = None
    parts: tuple[tuple[str, str], ...] = ()
    exchange: bool = True
    mates: Mates = field(default_factory=dict)
    itself: bool = False


class Over(NamedTuple):
    """Pairs of parts, and the mirror that shows each where its partner is to be: `within` its body, or one `glass` for all, each
    member by its own plane at rest."""

    pairs: Pairs
    glass: Glass
    within: Mapping[tuple[str, str], Glass]

    def of(self, bound: Bound) -> Glass:
        """The mirror of a part."""
        return self.within.get(bound.id) or replace(self.glass, rest=self.pairs.planes[bound.id[0]])

    def at(self, bound: Bound, times: Floats, side: Ints | int, now: Program) -> Shown:
        """The mirror of a part as it stands at times, and where what it shows is in what came of it so far."""
        return self.of(bound).at(times, side, now if bound.id in self.within else None)


def apply(program: Program, asked: Mirror) -> tuple[Take, Proof]:
    """The take after it, and its proof; layers go along. CoreError says what can't be done; nothing changes then."""
    return _layered(program, asked) if program.take.layers else _mirrored(program, asked)


def _mirrored(program: Program, asked: Mirror) -> tuple[Take, Proof]:
    """The same for a take without layers."""
    first, last = check_stretch(program.take, asked.first, asked.last)
    take = program.take
    whole = first == take.first and last == take.last
    pose = first == last and not whole
    over, notes = _over(program, asked, first)
    pairs, glass = over.pairs, over.glass
    held = [program.scene.member(m).name for m in sorted(pairs.members & take.captures.keys())]
    if held and not (whole or pose):
        raise CoreError(
            f"{', '.join(held)} has a capture, which can only be mirrored as a whole: choose the whole take."
        )
    if asked.placed is not None and not whole:
        raise CoreError("A part of a take can't begin elsewhere than the rest of it goes on: place the whole take.")
    if asked.plane.how == "leaning" and not pose:
        raise CoreError("A plane that leans with the body is for a pose: choose one frame, or another plane.")
    for other in pairs.values():
        refuse_locked(program, list(other.own.values()), first, last)
    if pose:
        return _pose(program, over, notes, first)
    tethers, renamed = tethers_over(program, pairs, glass.flips)
    captures = {
        m: capture_over(program, m, pairs, over.of) if m in pairs.members else c for m, c in take.captures.items()
    }
    mine = {program.channel_names()[c] for id, b in pairs.items() if id not in pairs.alone for c in b.own.values()}
    curves = {n: c for n, c in take.curves.items() if n not in mine} | switches_over(program, pairs, renamed)
    curves |= pivots_over(program, pairs, glass.flips)
    now = program.on(replace(take, curves=curves, tethers=tethers, captures=captures))
    order = sorted(pairs, key=lambda id: int(program.bounds[id].nodes.min()))
    keyed: dict[tuple[str, str], set[str]] = {}
    for _ in range(ROUNDS):
        before = dict(now.take.curves)
        for id in order:
            made = _expressed(program, now, program.bounds[id], now.bounds[pairs[id].id], over)
            # What an earlier round has keyed, before what it follows was in place, may be at rest by now.
            own = take.curves.keys() if id in pairs.alone else set()
            if stale := keyed.get(id, set()) - made.keys() - own:
                now = now.on(replace(now.take, curves={n: c for n, c in now.take.curves.items() if n not in stale}))
            keyed[id] = set(made)
            now = now.with_curves(made)
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
    points = points_over(program, pairs, glass.flips) if whole else take.points
    contacts, wanted = contacts_over(program, pairs, first, last), marks_over(take, pairs, first, last)
    flipped = take.flipped
    if asked.itself and whole and glass.flips and not asked.parts:
        unlike = {m for m in asked.members if own_plane(program.scene.member(m))[1] > ONE_SIDED}
        flipped = tuple(sorted(unlike ^ set(flipped)))
    now = now.on(replace(now.take, contacts=contacts, points=points, wanted=wanted, flipped=flipped))
    # What was followed is followed no more where the other side follows it now: that stays for its dial.
    idle = {t for b in program.bounds.values() for t in unused(program, b)}
    left = {t for b in now.bounds.values() for t in unused(now, b)} - idle
    now = now.with_curves({n: set_value(EMPTY, float(take.first), 0.0, STEPPED) for t in left for n in t.weights})
    now.check_loops()
    notes += [*_told(program, now, over, first, last, whole), *_left_out(program, now, pairs, first, last)]
    return now.take, prove("mirror" if glass.flips else "place", program, now, first, last, notes=tuple(notes))


def _over(program: Program, asked: Mirror, first: float) -> tuple[Over, list[str]]:
    """What goes over to what, in which mirror, and what is told of it."""
    members = [program.scene.member(m) for m in asked.members]
    lead = next((m for m in members if m.kind == "character"), members[0])
    if asked.parts:
        pairs = part_pairs(program, list(asked.parts), asked.mates, asked.exchange)
        within = {id: glass_within(program, program.bounds[id]) for id in pairs}
        return Over(pairs, next(iter(within.values())), within), []
    glass = _glass(program, asked, lead, first)
    pairs, notes = whole_pairs(program, [m.id for m in members], glass.flips, asked.mates, asked.itself)
    return Over(pairs, glass, {}), notes


def _glass(program: Program, asked: Mirror, lead: Member, first: float) -> Glass:
    """The mirror that is asked for."""
    moved = {int(n) for b in program.bounds.values() if b.member.id in asked.members for n in b.nodes}
    if asked.plane.how == "fixed" and asked.plane.node in moved:
        raise CoreError("A mirror can't be fixed in what it mirrors: choose a set piece, the world or what stays.")
    glass = glass_of(program, lead, first, asked.plane)
    return glass if asked.placed is None else placed(program, glass, lead, first, asked.placed)


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
    operation = "place" if asked.plane.how == "none" else "mirror"
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


def _pose(program: Program, over: Over, notes: list[str], frame: float) -> tuple[Take, Proof]:
    """The pose of bodies at one frame on the other side, keyed in every system of each part; what drives and what is
    followed stays, and so does what they hold."""
    pairs = over.pairs
    changed: dict[str, Curve] = {}
    names = program.channel_names()
    now = program
    at, side = np.array([frame]), np.zeros(1, dtype=np.int64)
    mine = [id for id in pairs if program.bounds[id].member.kind == "character"]
    for id in sorted(mine, key=lambda id: int(pairs[id].nodes.min())):
        bound, other = program.bounds[id], pairs[id]
        shown = over.at(bound, at, LEAVING, now)
        state = other.state(program.now(frame, other.driver_channels)[:, None])
        if state is None or other.systems[state].system.moves_alone:
            raise CoreError(
                f"{other.who} is not driven by keys alone at frame {frame:g}: hand it over to a system with keys first."
            )
        was = program.evaluate(at, side, only=np.concatenate([bound.nodes, bound.above]))
        for system in other.keyed_systems:
            target = system_target(now, other, system)
            reached = now.evaluate(at, side, only=now.fit_nodes([other]))
            _reflect(reached, was, bound, other, shown, id in pairs.alone)
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


def _reflect(reached: Poses, was: Poses, bound: Bound, other: Bound, shown: Shown, alone: bool) -> None:
    """Puts a part's joints where the mirror shows those of its partner; those of a part without one where they were in what they
    hang from. was: its joints, and what they hang from."""
    if alone:
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


def _told(program: Program, now: Program, over: Over, first: float, last: float, whole: bool) -> list[str]:
    """How far parts are from where the mirror shows them, where that is more than a tenth of a millimetre: between keys, or
    where they follow what stays."""
    at = np.unique(np.append(np.arange(2 * np.ceil(first), 2 * last + 0.5) / 2.0, [first, last]))
    found: dict[tuple[str, str], list[tuple[float, str, float]]] = {}
    # What leaves the last frame of a stretch is what was there before.
    side = np.where((at == last) & (not whole), ARRIVING, LEAVING)
    seen: dict[str, Shown] = {}
    was, new = program.evaluate(at, side), now.evaluate(at, side)
    for id, other in over.pairs.items():
        there, alone = now.bounds[other.id], id in over.pairs.alone
        wanted = replace(new, pos=new.pos.copy(), rot=new.rot.copy())
        bound = program.bounds[id]
        key = id[1] if over.within else id[0]
        shown = seen.get(key) or seen.setdefault(key, over.at(bound, at, side, now))
        _reflect(wanted, was, bound, there, shown, alone)
        off = np.linalg.norm(wanted.pos[:, there.nodes] - new.pos[:, there.nodes], axis=-1).max(axis=1)
        if off.max() > 1e-4:
            worst = float(at[int(np.argmax(off))])
            where = (
                "it was in what it hangs from" if alone else "the mirror shows it" if over.glass.flips else "it was put"
            )
            found.setdefault((other.id[0], where), []).append((float(off.max()), other.who, worst))
    told = []
    for (_, where), parts in found.items():
        # One of a body alone: the others mostly go with it.
        far, who, worst = max(parts)
        more = f"; {len(parts) - 1} more of its parts are, by no more" if len(parts) > 1 else ""
        told.append(f"{who} is up to {1000 * far:.1f} mm from where {where}, at frame {worst:g}{more}.")
    return told


def _left_out(program: Program, now: Program, pairs: Pairs, first: float, last: float) -> list[str]:
    """What of bodies and props that stay is followed by what changes sides, or follows it, and how much farther they are from one
    another, where that is more than a millimetre."""
    members = pairs.members
    at = np.arange(np.ceil(first), last + 0.5)
    found: dict[str, None] = {}
    for t in program.take.tethers:
        if (t.member in members) == (t.anchor_member in members) or WORLD in (t.member, t.anchor_member):
            continue
        if any(program.scene.member(m).kind == "set" for m in (t.member, t.anchor_member)):
            continue
        weights = [program.channels[n] for n in t.weights if n in program.channels]
        if not weights or program.sample(at, LEAVING, np.array(weights)).max() <= 0.5:
            continue
        far = []
        for p, control, anchor in (
            (program, t.control, t.anchor), (now, pairs.named(t.member, t.control), pairs.named(t.anchor_member, t.anchor)),
        ):  # fmt: skip
            ends = [_node_of(p, t.member, control), _node_of(p, t.anchor_member, anchor)]
            pos = p.track(at, LEAVING, ends)[0]
            far.append(np.linalg.norm(pos[:, 0] - pos[:, 1], axis=1))
        more = np.abs(far[1] - far[0])
        if more.max() > TOLD:
            k = int(np.argmax(more))
            stays = program.scene.member(t.anchor_member if t.member in members else t.member).name
            found[
                f"{stays} stays: {program.rig.reads(t.member, t.control)} and {program.rig.reads(t.anchor_member, t.anchor)} were "
                f"{100 * far[0][k]:.1f} cm apart at frame {at[k]:g}, on the other side it is {100 * far[1][k]:.1f} cm."
            ] = None
    return list(found)


def _node_of(program: Program, member: str, name: str) -> int:
    """Node of a joint, or of the joint on which a control rests."""
    if (member, name) in program.nodes:
        return program.nodes[member, name]
    bound = next(b for b in program.bounds.values() if b.member.id == member and name in b.controls)
    return program.nodes[member, bound.controls[name].control.rests_on or bound.part.joints[-1]]


def _near(a: Curve, b: Curve) -> bool:
    return len(a) == len(b) and bool(np.allclose(a.numbers, b.numbers, rtol=0.0, atol=1e-12))


def _default(program: Program, name: str) -> float:
    return float(program.defaults[program.channels[name]])


def _expressed(program: Program, now: Program, bound: Bound, other: Bound, over: Over) -> dict[str, Curve]:
    """A part's curves on the other side: every system that keys make, its keys at the same times."""
    found: dict[str, Curve] = {}
    glass, lone = over.of(bound), bound.id in over.pairs.alone
    # Where what is followed changes, keys are split; a follow that stays behind needs other values than before.
    changes = program.key_times(bound.weight_channels) if bound.weight_channels else np.empty(0)
    breaks = program.key_times()

    for system in bound.systems:
        if bound.systems[system].system.moves_alone and not any(
            len(program.curve(int(c))) for c in bound.systems[system].channels
        ):
            # Nothing is adjusted: the mirrored samples are the motion.
            continue
        one, target = bound.systems[system], system_target(now, other, system)
        if signs := one.system.mirrored(bound, other):
            signs = signs if glass.flips else dict.fromkeys(signs, 1.0)
            target = replace(target, fit=_with(program, now, bound, other, system, signs))

        def poses(at: Floats, side: Ints, system: str = system, target: object = target) -> Poses:
            # The joints as this system holds them, whichever drives: idle keys are mirrored too.
            alone: dict[int, float | Floats] = {**bound.drive_to(system)}
            was = program.evaluate(at, side, overrides=alone, only=np.concatenate([bound.nodes, bound.above]))
            reached = now.evaluate(at, side, only=now.fit_nodes([other]))
            _reflect(reached, was, bound, other, over.at(bound, at, side, now), lone)
            return reached

        motion = Motion(now, poses, lambda t: FINE * steps(breaks, t), between=False)
        times = np.unique(np.concatenate([*(program.curve(int(c)).times for c in one.channels), changes]))
        if not len(times):
            times = np.array([float(program.take.first)])
        # Where a limb changes sides it is straight, and the least miss of it, or of what it hangs from, is a jump.
        extra = _sides(program, bound.member.id) if glass.stood else np.empty(0)
        made = _keyed(program, now, bound, other, system, motion, target, np.union1d(times, extra), extra)
        for _ in range(DENSER if over.within or glass.stood else 0):
            more = _between_keys(program, now.with_curves(made), bound, other, system, poses, np.union1d(times, extra))
            if not len(more):
                break
            extra = np.union1d(extra, more)
            made = _keyed(program, now, bound, other, system, motion, target, np.union1d(times, extra), extra)
        found |= made
    flip = over.pairs.flip(bound.id[0]) if glass.flips else np.eye(3)
    return found if lone else found | lengths_over(program, now, bound, other, flip)


def _sides(program: Program, member: str) -> Floats:
    """Times at which a limb of a body changes the side to which it bends."""
    mine = [s for b in program.bounds.values() if b.member.id == member for s in b.systems.values()]
    return program.key_times([int(c) for s in mine for c in s.channels[s.stepped] if len(program.curve(int(c))) > 1])


def _keyed(
    program: Program, now: Program, bound: Bound, other: Bound, system: str, motion: Motion, target: Target, times: Floats,
    extra: Floats,
) -> dict[str, Curve]:  # fmt: skip
    """A system's curves on the other side: at the times of each channel's own keys where signs make it, else, and at the `extra`
    ones, at those of all that are keyed together."""
    one, two, names = bound.systems[system], other.systems[system], now.channel_names()
    found: dict[str, Curve] = {}
    changes = program.key_times(bound.weight_channels) if bound.weight_channels else np.empty(0)
    fitted = fit_along(motion, target, times, np.ones(len(times), dtype=bool), now.now(float(times[0]), two.channels))
    for group in _groups(program, one.channels):
        curves = [program.curve(int(one.channels[k])) for k in group]
        made = [
            _signed(c, fitted.values[:, k], fitted.slopes[:, k], times, bool(one.stepped[k]))
            for k, c in zip(group, curves, strict=True)
        ]
        if any(m is None for m in made):
            # The values of one are made of those of all: they are keyed together.
            at = np.unique(np.concatenate([*(c.times for c in curves), changes, extra, times[:1]]))
            made = [
                _fitted(c, fitted.values[:, k], fitted.slopes[:, k], times, at)
                for k, c in zip(group, curves, strict=True)
            ]
            made = [_unwound(m, c) if one.wraps[k] else m for k, c, m in zip(group, curves, made, strict=True)]
        found |= {names[two.channels[k]]: m for k, m in zip(group, made, strict=True) if m is not None and len(m)}
    return found


def _between_keys(
    program: Program, made: Program, bound: Bound, other: Bound, system: str, poses: Callable[[Floats, Ints], Poses],
    times: Floats,
) -> Floats:  # fmt: skip
    """Of the half-frames between these times at which a system has a share in what drives, the worst of each gap in which the part
    is farther than `WITHIN` from where the mirror shows it."""
    first, last = program.take.first, program.take.last
    at: Floats = np.arange(2 * first, 2 * last + 1) / 2.0
    drives = bound.driving(program.sample(at, LEAVING, bound.driver_channels))
    at = at[((drives == list(bound.systems).index(system)) | (drives < 0)) & ~np.isin(at, times)]
    if not len(at):
        return at
    side = np.zeros(len(at), dtype=np.int64)
    mine = made.bounds[other.id]
    new = made.evaluate(at, side, overrides={**mine.drive_to(system)}, only=mine.nodes)
    wanted = poses(at, side)
    off: Floats = np.linalg.norm(new.pos[:, mine.nodes] - wanted.pos[:, other.nodes], axis=-1).max(axis=1) / WITHIN[0]
    turned = rotation_distance(new.rot[:, mine.nodes], wanted.rot[:, other.nodes]).max(axis=1) / WITHIN[1]
    worst = np.maximum(off, turned)
    gap = np.searchsorted(times, at)
    found: Floats = np.array([at[gap == g][int(np.argmax(worst[gap == g]))] for g in np.unique(gap[worst > 1.0])])
    return found


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


def _groups(program: Program, channels: Ints) -> list[list[int]]:
    """Channels of a system that make one place or one rotation together, by their numbers in it."""
    found: dict[tuple[str, str], list[int]] = {}
    for k, c in enumerate(channels):
        info = program.info[int(c)][2]
        joint, _, axis = info.name.rpartition(".")
        what = axis[0] if axis in (*TRANSLATION, *ROTATION) else axis
        found.setdefault((f"{info.control} {joint}", what), []).append(k)
    return list(found.values())


def _signed(kept: Curve, values: Floats, slopes: Floats, times: Floats, stepped: bool) -> Curve | None:
    """The curve itself or its negative, and a constant, where that is what was fitted; None elsewhere. values, slopes (2, T)."""
    if stepped or not len(kept):
        return kept if stepped or not np.abs(values).max(initial=0.0) > SAME else None
    every = np.stack([sample(kept, times, side) for side in (LEAVING, ARRIVING)])
    rows = np.searchsorted(times, kept.times)
    found: list[tuple[float, Curve]] = []
    for sign in (1.0, -1.0):
        more = values - sign * every
        if np.ptp(more) <= SAME:
            numbers = kept.numbers.copy()
            numbers[:, 1:] *= sign
            # A constant of rounding alone is none: mirrored twice, a key is what it was, to the bit.
            if abs(more.mean()) > SAME:
                numbers[:, 1:3] += more.mean()
            off = [np.abs(slopes[side, rows] - numbers[:, c]).max() for side, c in ((ARRIVING, 3), (LEAVING, 4))]
            found.append((float(max(off)), Curve(numbers, kept.marks.copy())))
    # Where all values are zero either sign makes them: then the slopes say which it is.
    return min(found, key=lambda f: f[0], default=(0.0, None))[1]


def _fitted(kept: Curve, values: Floats, slopes: Floats, times: Floats, at: Floats) -> Curve:
    """Keys at these times too with fitted values and slopes; kinds, tags and locks where a curve has keys. (2, T) each."""
    new = at[~np.isin(at, kept.times)]
    numbers, marks = np.zeros((len(kept) + len(new), 5)), np.zeros((len(kept) + len(new), 4), dtype=np.uint8)
    numbers[len(kept) :, 0], marks[len(kept) :, 0], marks[len(kept) :, 1] = new, kinds_at(kept, new), FREE
    numbers[: len(kept)], marks[: len(kept)] = kept.numbers, kept.marks
    marks[: len(kept), 2][np.isin(kept.times, at) & (kept.marks[:, 2] == SUMMED)] = 0
    order = np.argsort(numbers[:, 0])
    numbers, marks = numbers[order], marks[order]
    where = np.searchsorted(times, numbers[:, 0])
    numbers[:, 1], numbers[:, 2] = values[ARRIVING, where], values[LEAVING, where]
    moving = marks[:, 0] != STEPPED
    numbers[moving, 3], numbers[moving, 4] = slopes[ARRIVING, where][moving], slopes[LEAVING, where][moving]
    whole = np.abs(numbers[:, 1] - numbers[:, 2]) <= 1e-12
    numbers[whole, 1] = numbers[whole, 2]
    return Curve(numbers, marks)


def _unwound(made: Curve | None, kept: Curve) -> Curve | None:
    """A curve of angles less the whole turns by which it begins farther from where another one, or its negative, begins."""
    if made is None or not len(made) or not len(kept):
        return made
    begins = made.numbers[0, 2]
    apart = [(begins - s * kept.numbers[0, 2]) / (2.0 * np.pi) for s in (1.0, -1.0)]
    turns = np.round(min(apart, key=lambda x: abs(x - np.round(x))))
    numbers = made.numbers.copy()
    numbers[:, 1:3] -= 2.0 * np.pi * turns
    return Curve(numbers, made.marks) if turns else made


def _between(old: Curve, new: Curve, first: float, last: float, default: float) -> Curve:
    """A curve that is the new one from first to last and the old one elsewhere."""
    inside = insert(insert(new, first, default), last, default)
    keys: list[Key] = [k for k in inside.all_keys() if first <= k.time <= last]
    return put_over(old, keys, first, last, default)


#: Which bodies and props go along, for what mirrors and what places takes.
WHAT = Choice(
    "what", "what", "options", "all", (("all", "bodies and props"), ("body", "what is chosen")),
    help="Set pieces stay where they are.",
)  # fmt: skip
#: Where a take is put.
MEET = (
    Choice("meets", "meeting", "take", "", when=("to", ("meet",)), help="It begins where this body is then, headed as there."),
    Choice("frame", "at its frame", "number", 0.0, least=-1e6, most=1e6, when=("to", ("meet",))),
)  # fmt: skip
AT = Choice("at", "at", "point", "", when=("to", ("spot",)), help="Click a place in the view, or give x y z in metres.")
HEADING = Choice(
    "heading", "headed", "number", 0.0, least=-180.0, most=180.0, unit="°", when=("to", ("origin", "spot")),
    help="About the vertical; 0: along z.",
)  # fmt: skip


def place_of(program: Program, c: Mapping[str, Any], members: tuple[str, ...], other: Program | None) -> Beginning:
    """The place that is chosen; CoreError where none is. `other`: the take that is to be met."""
    if c["to"] == "meet":
        return _meeting(program, members, other, float(c["frame"]))
    where = spot(c["at"]) if c["to"] == "spot" else None
    if c["to"] == "spot" and where is None:
        raise CoreError("Click the place in the view at which it is to begin, or give x y z in metres.")
    at = (0.0, 0.0, 0.0) if where is None else (float(where[0]), float(where[1]), float(where[2]))
    return Beginning(c["to"], at, float(np.radians(c["heading"])))


def _meeting(program: Program, members: tuple[str, ...], other: Program | None, frame: float) -> Beginning:
    """Where the body that is placed is in another take at a frame, and how it is headed there."""
    lead = next(m for m in map(program.scene.member, members) if m.kind == "character")
    if other is None:
        raise CoreError("Choose the take that it is to meet.")
    there = [m for m in other.scene.members if m.kind == "character"]
    member = next((m for m in there if m.id == lead.id), None) or next((m for m in there if m.name == lead.name), None)
    root = next((b for b in other.bounds.values() if member and b.member.id == member.id and b.part.free), None)
    if member is None or root is None:
        raise CoreError(
            f"{lead.name} is not in {other.take.name}, or has no root there: choose a take of the same body."
        )
    check_stretch(other.take, frame, frame)
    pos, rot = other.track(np.array([frame]), LEAVING, root.nodes[:1])
    rest = member.skeleton.rest_pose[1][member.skeleton.index[root.part.joints[0]]]
    x, y, z = map(float, pos[0, 0])
    return Beginning("root", (x, y, z), heading(rot[0, 0], member, rest))


def members_of(program: Program, parts: Parts, what: str) -> tuple[str, ...]:
    """Bodies and props of these parts, and all props with them where all is asked for. CoreError where no body is among them."""
    check_parts(program, parts)
    chosen = [m for m, _ in parts if program.scene.member(m).kind in ("character", "prop", "anchor")]
    if not any(program.scene.member(m).kind == "character" for m in chosen):
        raise CoreError("Choose a part of a body.")
    props = [m.id for m in program.scene.members if m.kind in ("prop", "anchor")] if what == "all" else []
    return tuple(dict.fromkeys([*chosen, *props]))


def mates_of(program: Program, members: tuple[str, ...], said: str) -> dict[tuple[str, str], str]:
    """Which parts are like which, out of "left tail = right horn, left ear = none", by what they are called. CoreError says which
    name is not known, or which two are not built alike."""
    found: dict[tuple[str, str], str] = {}
    for words in filter(None, (w.strip() for w in said.replace(";", ",").split(","))):
        one, equals, two = (w.strip().lower() for w in words.partition("="))
        if not equals:
            raise CoreError(
                f"Say which part is like which as 'left tail = right horn', or '= none', not {words[:40]!r}."
            )
        mine = _called(program, members, one)
        if two == "none":
            pair = [mine]
        else:
            theirs = _called(program, (mine.id[0],), two)
            if not _alike(mine, theirs):
                raise CoreError(
                    f"{mine.who} and {theirs.who} are not built alike: one can't take the motion of the other."
                )
            pair = [mine, theirs]
        for a, b in zip(pair, reversed(pair), strict=True):
            if found.setdefault(a.id, b.id[1]) != b.id[1]:
                raise CoreError(f"{a.who} is said to be like two parts.")
    return found


def _alike(one: Bound, two: Bound) -> bool:
    """Whether one part can take the motion of another: of one kind, with as many joints and the same systems."""
    return (one.part.kind, len(one.part.joints), list(one.systems)) == (
        two.part.kind,
        len(two.part.joints),
        list(two.systems),
    )


def _called(program: Program, members: tuple[str, ...], name: str) -> Bound:
    """The part that is called so, of these bodies and props."""
    for b in program.bounds.values():
        if b.member.id in members and name in (b.part.label.lower(), b.part.name.lower()):
            return b
    there = ", ".join(
        b.part.label for b in program.bounds.values() if b.member.id == members[0] and b.part.side != "middle"
    )
    raise CoreError(f"No part is called {name[:40]!r} here: there are {there}.")


def path_of(program: Program, asked: Mirror) -> InView | None:
    """The way on the ground that a body's root goes as it would come of it, and that it goes as it is."""
    lead = next((m for m in map(program.scene.member, asked.members) if m.kind == "character"), None)
    root = next((b for b in program.bounds.values() if lead and b.member.id == lead.id and b.part.free), None)
    if lead is None or root is None or asked.parts:
        return None
    first, last = check_stretch(program.take, asked.first, asked.last)
    glass = _glass(program, asked, lead, first)
    at = np.arange(np.ceil(first), last + 0.5)
    was = program.track(at, LEAVING, root.nodes[:1])[0][:, 0]
    ground = float(program.scene.member(lead.id).skeleton.rest_pose[0][:, 1].min())
    new, old = (tuple((float(x), ground, float(z)) for x, _, z in way) for way in (glass.at(at).place(was), was))
    return InView(new, (), old)


@offered
class MirrorTake(Operation):
    """Mirrors bodies and what they hold, or parts within their bodies."""

    id = "mirror"
    rank = 26
    under = "as is"
    label = "Mirror"
    applies = "parts"
    help = "The whole body, and what it holds, on the other side: systems, follows and keys change sides."
    choices = (
        replace(
            WHAT, label="mirrored",
            options=(*WHAT.options, ("sides", "left and right in the body"), ("parts", "these parts in the body")),
            help="Whole, in one fixed plane; or only arms, legs and what else has two sides, within the body where it goes.",
        ),
        Choice(
            "how", "they", "options", "exchanged",
            (("exchanged", "exchanged with the other side"), ("onto", "put onto the other side")), when=("what", ("parts",)),
        ),
        Choice(
            "plane", "across", "options", "stage",
            (
                ("stage", "what it stands on"), ("own", "its own heading"), ("leaning", "the body as it leans"),
                ("fixed", "the middle of"), ("spot", "a place"),
            ),
            help="The plane stands upright in the body at the first frame, or elsewhere; one that leans is for a pose.",
            when=("what", ("all", "body")),
        ),
        Choice("of", "of", "anchor", "world", when=("plane", ("fixed",)), help="A set piece, the world, or what stays."),
        Choice("through", "through", "point", "", when=("plane", ("spot",)), help="Click a place, or give x y z in metres."),
        Choice(
            "along", "running", "number", 0.0, least=-180.0, most=180.0, unit="°", when=("plane", ("spot",)),
            help="How the plane is headed, about the vertical; 0: along z.",
        ),
        Choice(
            "to", "beginning", "options", "mirrored",
            (("mirrored", "as mirrored"), ("start", "as the original"), ("origin", "at the origin"), ("spot", "at a place"),
             ("meet", "where another take is")),
            folded=True, help="Where the mirrored take begins, and how it is headed there.", when=("what", ("all", "body")),
        ),
        *(replace(c, folded=True) for c in (AT, HEADING, *MEET)),
        Choice(
            "props", "one-sided props", "options", "hands",
            (("hands", "change hands"), ("itself", "are mirrored themselves")), folded=True, when=("what", ("all", "body")),
            help="A prop that is not alike on both sides keeps its shape, or is one for the other hand from then on.",
        ),
        Choice(
            "stances", "what stands", "options", "kept", (("kept", "as it comes"), ("planted", "planted anew")), folded=True,
            help="Hands and feet in contact hold their place and turn where they stand then.",
        ),
        Choice(
            "pairs", "alike", "text", "", folded=True,
            help="Which part is like which on the other side, where names say otherwise: left tail = right horn, left ear = none.",
        ),
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return bound.member.kind == "character"

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        mine = {m for m, _ in parts}
        return {"of": tuple(o for o in anchors(program) if o[0] != OWN and anchor_of(o[0])[0] not in mine)}

    def in_view(self, program: Program, asked: Asked) -> InView | None:
        return path_of(program, self._asked(program, asked))

    def _asked(self, program: Program, asked: Asked) -> Mirror:
        c = self.chosen(asked)
        members = members_of(program, asked.parts, c["what"])
        mates = mates_of(program, members, c["pairs"])
        if c["what"] in ("sides", "parts"):
            parts, exchange = asked.parts, c["what"] == "sides" or c["how"] == "exchanged"
            if c["what"] == "sides":
                bodies = [b for b in program.bounds.values() if b.member.id in members and b.part.side != "middle"]
                parts = tuple(b.id for b in bodies if mate(program, b.id, mates) is not None)
            return Mirror(members, asked.first, asked.last, parts=parts, exchange=exchange, mates=mates)
        to = None if c["to"] == "mirrored" else place_of(program, c, members, asked.other)
        return Mirror(
            members, asked.first, asked.last, self._plane(program, c), to, mates=mates, itself=c["props"] == "itself"
        )

    def _plane(self, program: Program, c: Mapping[str, Any]) -> Plane:
        if c["plane"] == "fixed":
            check_anchor(program, c["of"])
            member, name = anchor_of(c["of"])
            return Plane("fixed", program.world if member == WORLD else _node_of(program, member, name))
        if c["plane"] == "spot":
            where = spot(c["through"])
            if where is None:
                raise CoreError(
                    "Click the place in the view through which the plane is to go, or give x y z in metres."
                )
            return Plane("spot", spot=where, along=float(np.radians(c["along"])))
        return Plane(c["plane"])

    def run(self, program: Program, asked: Asked) -> Outcome:
        mirror = self._asked(program, asked)
        take, proof = apply(program, mirror)
        names = ", ".join(program.scene.member(m).name for m in mirror.members)
        what = labels(program, mirror.parts) if mirror.parts else names
        where = f"Mirror the pose at frame {asked.first:g}"
        if asked.first != asked.last:
            where = f"Mirror {what}, {stretch_words(asked.first, asked.last)}"
        elif mirror.parts:
            where = f"Mirror {what} at frame {asked.first:g}"
        done = Outcome(take, proof, where)
        return done if self.chosen(asked)["stances"] == "kept" else _planted(program, asked, mirror, done)


def _planted(program: Program, asked: Asked, mirror: Mirror, done: Outcome) -> Outcome:
    """What stands then planted anew, as a step of its own."""
    now = program.on(done.take)
    first, last = check_stretch(now.take, asked.first, asked.last)
    ends = tuple(
        b.id for b in now.bounds.values()
        if b.member.id in mirror.members and end_of(b) is not None and standing(now, b.id, first, last)
    )  # fmt: skip
    one = Asked(ends, asked.first, asked.last, {"each": "all"})
    try:
        if not ends:
            raise CoreError("Nothing stands there, so nothing was planted anew.")
        planted = run(now, "plant", one)
    except CoreError as error:
        # It is mirrored all the same, and this is told.
        return done._replace(proof=replace(done.proof, notes=(*done.proof.notes, str(error))))
    after = program.on(planted.take)
    low, high = min(done.proof.first, planted.proof.first), max(done.proof.last, planted.proof.last)
    proof = prove("mirror", program, after, low, high, notes=(*done.proof.notes, *planted.proof.notes))
    bare = {k: v for k, v in asked.choices.items() if k != "stances"}
    steps = (
        Step("mirror", replace(asked, choices=bare), done.take, done.proof, done.label),
        Step("plant", one, planted.take, planted.proof, planted.label),
    )
    return Outcome(planted.take, proof, f"{done.label}, planted anew", steps)
