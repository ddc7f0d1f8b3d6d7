"""Nudge: over a stretch a control is a little elsewhere, turned a little more, or a little later, eased at both ends.

What is given at the first frame of the stretch is what its values have more of all along it: a place is moved in the space that
the control follows, a turn is made in the control's own. Where it follows something else meanwhile, it is as far from where it was
after the change as before it. Its keys stay where they are, but where they are to come later.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from math import inf, isfinite
from typing import NamedTuple

import numpy as np

from ..curves import ARRIVING, FENCE, FREE, LEAVING, SMOOTH, STEPPED, Curve, curve, insert, put, sample
from ..errors import CoreError
from ..layers import Turn, as_euler, scaled, turn_of, with_speeds
from ..program import Program
from ..proof import prove, switch_times
from ..rig import Bound
from ..systems.system import Control
from ..takes import Take
from ..transforms import Floats, euler, inverse, multiply, rotation_distance
from .handover import refuse_locked
from .operation import (
    Asked,
    Choice,
    Operation,
    Outcome,
    Parts,
    Value,
    check_parts,
    check_stretch,
    offered,
    stretch_words,
)
from .pose import Drag, solve

#: Furthest place (cm), turn (degrees) and time (frames).
FAR, ROUND, LATER = 500.0, 180.0, 200.0
#: Frames over which it is eased where nothing stands in the way.
EASE = 8
#: Frames before a change of what is followed at which it is not there yet, and by which speeds are told there.
JUST, STEP = 1e-9, 1.0 / 64.0
#: The rotation that turns nothing.
STILL = np.array([0.0, 0.0, 0.0, 1.0])
#: Below this (radians, or the unit of a value) a nudged curve is what it is to be between its keys.
NEAR = 5e-4
#: How steep the ease is in its middle, as a multiple of a straight line: a key must not overtake the one before it.
STEEP = 1.5


class Ease(NamedTuple):
    """How far a nudge counts: from nothing at `low` to all of it at `first`, all until `last`, and nothing from `high` on; without
    a way between two of them it begins or ends at once."""

    low: float
    first: float
    last: float
    high: float

    def at(self, times: Floats, side: int) -> Floats:
        """(F,) shares at times, on one side of them."""
        inside = (times >= self.first) & (times <= self.last)
        if self.low == self.first and side == ARRIVING:
            inside &= times > self.first
        if self.last == self.high and side == LEAVING:
            inside &= times < self.last
        found = np.where(inside, 1.0, 0.0)
        for outer, inner in ((self.low, self.first), (self.high, self.last)):
            if outer != inner:
                x = (times - outer) / (inner - outer)
                found = np.where((x > 0.0) & (x < 1.0), x * x * (3.0 - 2.0 * x), found)
        return found

    def speed(self, time: float, side: int) -> float:
        """How fast that grows on one side of a time, a frame."""
        for outer, inner in ((self.low, self.first), (self.high, self.last)):
            if outer != inner and isfinite(outer):
                x = (time - outer) / (inner - outer)
                into, out = (0.0 < x <= 1.0, 0.0 <= x < 1.0)
                if into if (side == ARRIVING) == (outer < inner) else out:
                    return 6.0 * x * (1.0 - x) / (inner - outer)
        return 0.0

    @property
    def edges(self) -> list[float]:
        return sorted(t for t in {self.low, self.first, self.last, self.high} if isfinite(t))


@dataclass(frozen=True)
class Group:
    """Channels that are one value or one turn, and what they get more of: a number, or a rotation (4,), one from each of some
    times on (`more` (P,) or (P, 4), `since` (P - 1,)); `passes` (P, 3): of a value the edge of its stretch at which a speed passes
    on from the one before or after, that speed, and over how many frames from there it goes."""

    channels: tuple[int, ...]
    turn: Turn | None
    more: Floats
    since: Floats
    passes: Floats

    def at(self, times: Floats, side: int) -> Floats:
        """(F,) or (F, 4) what it is at times, on one side of them."""
        k = np.searchsorted(self.since, times, side="right" if side == LEAVING else "left")
        found: Floats = self.more[k]
        if self.turn is None:
            edge, speed, length = self.passes[k].T
            u = np.clip((times - edge) / length, 0.0, 1.0)
            found = found + speed * length * u * (1.0 - u) ** 2
        return found

    @property
    def times(self) -> Floats:
        """Where it goes over from one to another, and where a speed that has passed on is gone."""
        found: Floats = np.concatenate([self.since, (self.passes[:, 0] + self.passes[:, 2])[self.passes[:, 1] != 0.0]])
        return found


@offered
class Nudge(Operation):
    """A control is a little elsewhere, turned, or later over a stretch."""

    id = "nudge"
    rank = 18
    label = "Nudge"
    help = "Over the stretch it is a little elsewhere, turned a little more, or later; eased at both ends."
    choices = (
        Choice("which", "what", "name", "", help="The control that is moved and turned; in time all of the part comes later."),
        Choice("x", "along x", "number", 0.0, least=-FAR, most=FAR, unit="cm"),
        Choice("y", "up", "number", 0.0, least=-FAR, most=FAR, unit="cm"),
        Choice("z", "along z", "number", 0.0, least=-FAR, most=FAR, unit="cm"),
        Choice("rx", "round x", "number", 0.0, least=-ROUND, most=ROUND, unit="°", folded=True),
        Choice("ry", "round the vertical", "number", 0.0, least=-ROUND, most=ROUND, unit="°", folded=True),
        Choice("rz", "round z", "number", 0.0, least=-ROUND, most=ROUND, unit="°", folded=True),
        Choice("later", "later by", "number", 0.0, least=-LATER, most=LATER, unit="frames", help="Below zero: earlier."),
        Choice(
            "ease", "ease over", "whole", EASE, least=0, most=240, unit="frames",
            help="Before the stretch and after it; without, it begins and ends at once.",
        ),
    )  # fmt: skip
    to_layer = True

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        if len(parts) != 1:
            return {"which": (("", "its end"),)}
        found = {c.name: c.label for s in program.bound(*parts[0]).systems.values() for c in nudged(s.controls)}
        return {"which": (("", "its end"), *found.items())}

    def suggest(
        self, program: Program, parts: Parts, first: float, last: float | None, made: Mapping[str, Value]
    ) -> dict[str, Value]:
        """A little, to see where it would go, eased between the contacts around."""
        eased: dict[str, Value] = {"ease": _free(program, parts, first, last)}
        if {"x", "y", "z", "rx", "ry", "rz", "later"} & made.keys():
            return eased
        able = all(
            any("move" in c.handle.gestures for s in program.bound(*p).systems.values() for c in nudged(s.controls))
            for p in parts
        )
        return eased | ({"y": 1.0} if able else {"ry": 5.0})

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        check_parts(program, asked.parts)
        first, last = check_stretch(program.take, asked.first, asked.last)
        place = np.array([c["x"], c["y"], c["z"]]) / 100.0
        turn = euler("xyz", np.radians([[c["rx"]], [c["ry"]], [c["rz"]]]))[0]
        later, eased = float(c["later"]), float(c["ease"])
        if not (place.any() or turn[:3].any() or later):
            raise CoreError("Say by how much to nudge: a place, a turn, or a time.")
        if c["which"] and len(asked.parts) != 1:
            raise CoreError("Choose one part to nudge one of its controls, or none of them to nudge the ends of all.")
        low, high = float(program.take.first), float(program.take.last)
        # What begins with the take or ends with it has no ease there.
        begins = (-inf, -inf) if first == low else (max(first - eased, low), first)
        ends = (inf, inf) if last == high else (last, min(last + eased, high))
        ease, curves = Ease(*begins, *ends), dict[str, Curve]()
        for part in asked.parts:
            curves |= more_of(program, program.bound(*part), c["which"], (place, turn, later), ease)
        after = program.with_curves(curves)
        after.check_loops()
        who = ", ".join(program.bound(*p).who for p in asked.parts)
        proof = prove("nudge", program, after, max(ease.low, low), min(ease.high, high))
        return Outcome(after.take, proof, f"Nudge {who}, {stretch_words(asked.first, asked.last)}")


def _free(program: Program, parts: Parts, first: float, last: float | None) -> int:
    """Frames of ease for which there is room around a stretch before the part stands somewhere, or after it stood."""
    room = [float(EASE)]
    for contact in program.take.contacts:
        if any(contact.member == m and contact.joint in program.bound(m, p).part.joints for m, p in parts):
            if contact.last <= first:
                room.append(first - contact.last)
            if last is not None and contact.first >= last:
                room.append(contact.first - last)
    return int(min(room))


def nudged(controls: Sequence[Control]) -> list[Control]:
    """Those of a system's controls that have a place or a turn of their own."""
    return [c for c in controls if not c.handle.computed]


def more_of(
    program: Program, bound: Bound, which: str, by: tuple[Floats, Floats, float], ease: Ease, near: float = NEAR
) -> dict[str, Curve]:
    """Curves of a part that is nudged; near: how far (radians, or the unit of a value) they may be off between keys."""
    place, turn, later = by
    start, end = max(ease.low, float(program.take.first)), min(ease.high, float(program.take.last))
    keyed = program.key_times(bound.driver_channels.tolist())
    times = np.unique(np.concatenate([ease.edges, [start, end], keyed[(keyed >= start) & (keyed <= end)]]))
    within = np.union1d(times, 0.5 * (times[1:] + times[:-1]))
    shares = [program.sample(within, side, bound.driver_channels) for side in (ARRIVING, LEAVING)]
    # What arrives before the stretch and leaves after it is not asked.
    system = bound.state(np.concatenate([shares[0][:, 1:], shares[1][:, :-1], shares[1][:, :1]], axis=1))
    if system is None:
        raise CoreError(
            f"{bound.who} is not driven by one system all along from frame {start:g} to "
            f"{end:g}, its ease included: choose a stretch in which one drives."
        )
    mine = bound.systems[system]
    refuse_locked(program, mine.channels.tolist(), start, end)
    names = program.channel_names()
    curves: dict[str, Curve] = {}
    if later:
        if mine.system.moves_alone:
            raise CoreError(
                f"{bound.who} plays {mine.system.label} there, which has no keys to come later: hand it over to keys first."
            )
        _check_room(bound, later, ease)
        for channel in mine.channels.tolist():
            kept = program.curve(channel)
            if (
                len(kept)
                and (moved := _later(kept, later, ease, program.take, float(program.defaults[channel]))) != kept
            ):
                curves[names[channel]] = moved
    groups = _groups(program, bound, system, which, (place, turn), (start, max(ease.first, start), end))
    now = program.with_curves(curves) if curves else program
    for group in groups:
        curves |= dict(zip((names[k] for k in group.channels), _with_more(now, group, ease, near), strict=True))
    return curves


#: More of a value or a turn, by the channels that it is of.
More = dict[tuple[int, ...], tuple[Turn | None, Floats]]


def _groups(
    program: Program, bound: Bound, system: str, which: str, by: tuple[Floats, Floats], times: tuple[float, float, float]
) -> list[Group]:  # fmt: skip
    """What the values of a control get more of between the first and the last of these times, so that at the middle one it is moved
    (m) and turned in the world, and where it follows something else meanwhile by as much on both sides of that."""
    place, turn = by
    start, frame, end = times
    if not (place.any() or turn[:3].any()):
        return []
    control = _control(bound, system, which, bool(place.any()))
    placed = bound.controls.get(control.name) if control in bound.systems[system].controls else None
    node = placed.node if placed else program.nodes[bound.member.id, control.handle.idle_at]
    changes = [t for t in switch_times(program, bound) if start < t < end] if placed else []

    def gone(one: More, at: Floats) -> tuple[Floats, Floats]:
        """(F, 3) how far more of the values put a control from where it is at times, and (F, 4) how far they turn it."""
        here = program.evaluate(at, only=[node])
        over: dict[int, float | Floats] = {}
        for channels, (kind, more) in one.items():
            now = program.sample(at, LEAVING, np.array(channels))
            over |= zip(channels, _added(kind, now, more[:, None] if kind is None else more[None]), strict=True)
        there = program.evaluate(at, overrides=over, only=[node])
        return there.pos[:, node] - here.pos[:, node], multiply(there.rot[:, node], inverse(here.rot[:, node]))

    def onward(one: More, edge: float, out: int) -> tuple[More, More]:
        """What goes on where something else is followed, from one side of that to the other (out = 1: to what comes after it), and
        with which speed, so that neither place nor speed of the control jumps."""
        steps = STEP * np.arange(3.0)
        mine, other = (edge - JUST - steps, edge + steps)[::out]
        places, turns = gone(one, mine)
        new = _more(program, bound, control, node, (places[0], turns[0]), float(other[0]))
        # Both are told away from the change.
        lacks = sum((3.0 * p[0] - 4.0 * p[1] + p[2]) / (2.0 * STEP) for p in (places, gone(new, other)[0]))
        return new, _more(program, bound, control, node, (np.asarray(lacks), STILL), float(other[0]))

    first = bisect_right(changes, frame)
    pieces = {first: _more(program, bound, control, node, by, frame)}
    passes: dict[int, tuple[float, float, More]] = {}
    ends = [start, *changes, end]
    for out, order in ((1, range(first, len(changes))), (-1, range(first, 0, -1))):
        for k in order:
            edge = changes[k if out > 0 else k - 1]
            pieces[k + out], speed = onward(pieces[k], edge, out)
            passes[k + out] = edge, out * min(float(EASE), ends[k + out + 1] - ends[k + out]), speed
    found = list[Group]()
    for channels, kind in {c: kind for piece in pieces.values() for c, (kind, _) in piece.items()}.items():
        none = np.zeros(1) if kind is None else STILL
        more = np.stack([pieces[k][channels][1] if channels in pieces[k] else none for k in sorted(pieces)])
        rows = np.tile([0.0, 0.0, 1.0], (len(pieces), 1))
        for k, (edge, length, speed) in passes.items():
            if kind is None and channels in speed:
                # It is told away from the edge.
                rows[k] = edge, np.sign(length) * speed[channels][1][0], length
        found.append(Group(channels, kind, more[:, 0] if kind is None else more, np.array(changes), rows))
    return found


def _control(bound: Bound, system: str, which: str, moves: bool) -> Control:
    """The control that is meant: the one that is named, else the end of what drives; CoreError where it can't be."""
    # What drives comes first; a control of another system is dragged from where it is drawn, on the pose.
    known = {
        c.name: c for n in sorted(bound.systems, key=lambda n: n != system) for c in nudged(bound.systems[n].controls)
        if n == system or not bound.systems[n].system.moves_alone
    }  # fmt: skip
    driving = [c.name for c in nudged(bound.systems[system].controls)]
    able = [c for c in known.values() if not moves or "move" in c.handle.gestures]
    mine = [c for c in able if c.name in driving]
    if which and which not in known:
        raise CoreError(f"{bound.who} has no control {which!r}: choose {', '.join(known)}.")
    control = known[which] if which else mine[-1] if mine else able[0] if able else None
    if control is None or control not in able:
        said = f"The {control.label} of {bound.who}" if control else bound.who
        raise CoreError(f"{said} only turns, so it can't be moved: give a turn.")
    return control


def _more(
    program: Program, bound: Bound, control: Control, node: int, by: tuple[Floats, Floats], frame: float
) -> More:  # fmt: skip
    """What values get more of, so that at a frame a control is moved (m) and turned in the world."""
    here = program.evaluate([frame], only=[node])
    at, rot = here.pos[0, node] + by[0], multiply(by[1], here.rot[0, node])
    drag = Drag(*bound.id, control.name, frame, tuple(at.tolist()), tuple(rot.tolist()))
    wanted = solve(program, drag).values
    found, done = More(), set[int]()
    for c in wanted:
        if c in done or program.info[c][2].trait.stepped:
            continue
        one = turn_of(program.rig, c)
        channels = one.channels if one else (c,)
        done |= set(channels)
        was = program.now(frame, list(channels))
        want = np.array([wanted.get(x, was[k]) for k, x in enumerate(channels)])
        if one is None:
            more = want - was
        else:
            a, b = (euler(one.order, v[:, None])[0] for v in (was, want))
            more = multiply(inverse(a), b)
        if np.abs(more if one is None else more[:3]).max() > 1e-12:
            found[channels] = one, more
    return found


def _added(turn: Turn | None, values: Floats, more: Floats) -> Floats:
    """(C, F) values, or the angles of a turn, with numbers or rotations (F, 4) more."""
    return values + more if turn is None else as_euler(multiply(euler(turn.order, values), more), turn.order, values)


def _with_more(program: Program, group: Group, ease: Ease, near: float) -> list[Curve]:
    """Curves of a value or a turn with so much more of it: exact at keys, of which whole frames get some where it needs them."""
    take = program.take
    old = [program.curve(c) for c in group.channels]
    defaults = [float(program.defaults[c]) for c in group.channels]

    def wanted(times: Floats, side: int) -> Floats:
        base = np.stack([sample(k, times, side, d) for k, d in zip(old, defaults, strict=True)])
        share, more = ease.at(times, side), group.at(times, side)
        return _added(group.turn, base, more * share if group.turn is None else scaled(more, share))

    keyed = np.unique(np.concatenate([ease.edges, group.times, take.frames[[0, -1]], *(k.times for k in old)]))
    keys = keyed[(keyed >= ease.low) & (keyed <= ease.high)]
    frames = take.frames[(take.frames > keys[0]) & (take.frames < keys[-1])]
    halves = np.unique(np.concatenate([frames, frames - 0.5, frames + 0.5]))
    halves = halves[(halves > keys[0]) & (halves < keys[-1])]
    want = wanted(halves, LEAVING)
    while True:
        values, speeds = zip(*(with_speeds(wanted, keys, side) for side in (ARRIVING, LEAVING)), strict=True)
        numbers = np.stack([*values, *speeds], axis=-1)
        made = [
            _keyed(k, d, keys, numbers[n], ease, group.turn is None)
            for n, (k, d) in enumerate(zip(old, defaults, strict=True))
        ]
        got = np.stack([sample(k, halves, LEAVING, d) for k, d in zip(made, defaults, strict=True)])
        off = (
            np.abs(got - want).max(axis=0) if group.turn is None
            else rotation_distance(euler(group.turn.order, got), euler(group.turn.order, want))
        )  # fmt: skip
        # The worst frame between each two keys first: few of them do.
        worst: dict[int, tuple[float, float]] = {}
        for t, e in zip(np.round(halves), off, strict=True):
            if e > near and t not in keys and keys[0] < t < keys[-1]:
                k = int(np.searchsorted(keys, t))
                worst[k] = max(worst.get(k, (0.0, 0.0)), (float(e), float(t)))
        if not worst:
            return made
        keys = np.union1d(keys, [t for _, t in worst.values()])


def _keyed(old: Curve, default: float, times: Floats, numbers: Floats, ease: Ease, plain: bool) -> Curve:
    """A curve with values and slopes on both sides (T, 4) at times between which it changes, and as it was elsewhere; plain: where
    all of the nudge counts, all of the curve is moved by one number, so that its keys stay of their kind."""
    whole = old
    for t in times:
        whole = insert(whole, float(t), default, FENCE if t in ease.edges else 0)
    found = []
    for n, t in enumerate(times):
        was = whole.key(whole.find(float(t)) or 0)
        arriving, leaving, slope_in, slope_out = numbers[n].tolist()
        key = was._replace(arriving=arriving, leaving=leaving, slope_in=slope_in, slope_out=slope_out)
        alike = ease.first <= t < ease.last
        key = key._replace(
            kind=was.kind if alike and (plain or was.kind == STEPPED) else SMOOTH,
            rule=was.rule if alike and plain and t > ease.first else FREE,
        )
        # Outside all is as it was.
        if t == ease.low:
            key = key._replace(arriving=was.arriving, slope_in=was.slope_in)
        if t == ease.high:
            key = key._replace(leaving=was.leaving, slope_out=was.slope_out, kind=was.kind)
        found.append(key)
    return put(whole, found)


def _check_room(bound: Bound, later: float, ease: Ease) -> None:
    """CoreError where keys that come later would overtake others."""
    need = STEEP * abs(later)
    for word, outer, inner in (("before", ease.low, ease.first), ("after", ease.high, ease.last)):
        room = abs(inner - outer)
        if isfinite(outer) and room <= need:
            raise CoreError(
                f"To come {abs(later):g} frames {'later' if later > 0 else 'earlier'}, {bound.who} needs an ease of more than "
                f"{need:g} frames {word} the stretch, and has {room:g}: ease longer, or choose a stretch with that much room."
            )


def _later(kept: Curve, later: float, ease: Ease, take: Take, default: float) -> Curve:
    """A curve whose keys in the stretch come later, those in its ease in part; what comes out of the take is gone."""
    low, high = float(take.first), float(take.last)
    whole = kept
    for t in (*ease.edges, low, high):
        whole = insert(whole, t, default, FENCE)
    moved = []
    for key in whole.all_keys():
        into, out = (1.0 + later * ease.speed(key.time, side) for side in (ARRIVING, LEAVING))
        share = float(ease.at(np.array([key.time]), LEAVING if key.time < ease.last else ARRIVING)[0])
        eased = into != 1.0 or out != 1.0
        moved.append(
            key._replace(
                time=key.time + later * share, slope_in=key.slope_in / into, slope_out=key.slope_out / out,
                rule=FREE if eased else key.rule,
            )
        )  # fmt: skip
    made = curve(moved)
    for open_, edge, beyond in (
        (not isfinite(ease.low), low, made.times < low), (not isfinite(ease.high), high, made.times > high)
    ):  # fmt: skip
        if open_ and beyond.any():
            made = insert(made, edge, default, FENCE)
            made = curve([k for k in made.all_keys() if low <= k.time <= high])
    return made
