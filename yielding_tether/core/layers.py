"""Layers: motion on top of motion.

A layer holds curves for some channels. A value that is no turn is added to what lies beneath, times the layer's weight; the three
Euler angles of a control or joint are one turn, which is multiplied on the right, in the control's own space, scaled along its arc
by the weight:

    R = R_base · exp(w1 log L1) · exp(w2 log L2) · …

What an operation wants of the sum is written as base = wanted ∘ layers⁻¹ (`into_base`), or into one of the layers (`into_layer`).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from .channels import ROTATION
from .curves import (
    ARRIVING,
    EMPTY,
    FENCE,
    FREE,
    LEAVING,
    SMOOTH,
    STEPPED,
    SUMMED,
    Curve,
    Key,
    Packed,
    curve,
    insert,
    pack,
    sample,
    set_value,
    sides,
    spliced,
)
from .errors import CoreError
from .kernels import fits
from .kernels.sample import sample_packed
from .takes import Layer, Take
from .transforms import IDENTITY, ORDERS, Floats, Ints, euler, inverse, multiply, rotation_distance, whole_turns_near

if TYPE_CHECKING:
    from .program import Program
    from .rig import Rig

#: Half of the step (frames) at which slopes of turns are taken.
STEP = 1.0 / 64.0
#: How far a curve may be from what it is to say at a frame (metres, radians, or none) without a key there.
EXACT = 1e-8
#: Below this (metres, radians, or none) two values are the same.
ALIKE = 1e-9
#: Least weight of a layer that can be posed on: below it a pose would need a layer a thousand times as large.
LEAST = 1e-3


def heard(layers: Sequence[Layer]) -> tuple[Layer, ...]:
    """The layers that count, from the lowest up: those that are solo if any is, and none that is muted."""
    solo = any(x.solo for x in layers)
    return tuple(x for x in layers if not x.mute and (x.solo or not solo) and x.curves)


def can_layer(program: Program, channel: int) -> bool:
    """Whether a channel can have a layer: what steps, drives or sizes can't."""
    described = program.info[channel][2]
    return not described.trait.stepped and described.kind not in ("share", "sign", "turn", "point", "scale")


@dataclass(frozen=True)
class Turn:
    """Three Euler channels that are one turn, and their rotation order."""

    channels: tuple[int, int, int]
    order: str


def turn_of(rig: Rig, channel: int) -> Turn | None:
    """The turn of which a channel is one angle; None for any other value."""
    member, part, described = rig.info[channel]
    name = described.name
    if described.kind != "angle" or name[-2:] not in ROTATION or not (name[:-2] == "" or name[:-2].endswith(".")):
        return None
    prefix = name[:-2]
    stem = rig.names[channel][: -len(name)]
    found = [rig.channels.get(f"{stem}{prefix}{axis}", -1) for axis in ROTATION]
    if min(found) < 0:
        return None
    joint = described.control if described.control in part.joints else prefix[:-1]
    if joint in part.joints:
        order = part.joint_orders[part.joints.index(joint)]
    else:
        order = rig.bounds[member, part.name].controls[described.control].control.order
    return Turn((found[0], found[1], found[2]), order)


class _Packed(NamedTuple):
    """A layer's curves for one call: of its values, and of its angles, `at` the rows that they have among those of all layers."""

    curves: Packed
    at: Ints
    weight: Curve


class Layering:
    """The layers of a take made ready: `channels` that any of them moves, each with all three of a turn: `scalars`, which are no
    turns, and `turns` by the first of their channels."""

    def __init__(self, rig: Rig, layers: Sequence[Layer]) -> None:
        self.layers = heard(layers)
        self.turns: dict[int, Turn] = {}
        for name in dict.fromkeys(n for layer in self.layers for n in layer.curves):
            c = rig.channels.get(name)
            if c is None:
                raise CoreError(f"A layer has keys for {name}, which nothing in the cast has.")
            if (turn := turn_of(rig, c)) is not None:
                self.turns[turn.channels[0]] = turn
        turning = [c for turn in self.turns.values() for c in turn.channels]
        layered = {rig.channels[n] for layer in self.layers for n in layer.curves}
        self.scalars = sorted(layered - set(turning))
        self.channels = frozenset([*self.scalars, *turning])
        #: All of them, row by row: values that are no turns, then the angles of each turn.
        self.rows = np.array([*self.scalars, *turning], dtype=np.int64)
        self._orders = np.array([ORDERS.index(t.order) for t in self.turns.values()], dtype=np.int64)
        orders = [t.order for t in self.turns.values()]
        self._of_order = {o: np.array([k for k, x in enumerate(orders) if x == o]) for o in dict.fromkeys(orders)}
        row = {int(c): k for k, c in enumerate(self.rows)}
        self._packed = []
        for layer in self.layers:
            kept = [(row[rig.channels[n]], c) for n, c in layer.curves.items() if len(c)]
            self._packed.append(
                _Packed(pack([c for _, c in kept]), np.array([k for k, _ in kept], dtype=np.int64), layer.weight)
            )

    def over(self, times: Floats, side: int | np.ndarray) -> tuple[Floats, Floats, np.ndarray]:
        """(S, F) what all layers add to each value that is no turn; (T, F, 4) by how much they turn each turn, and (T, F) whether
        they do at all."""
        count, frames, which = len(self.scalars), len(times), sides(side, len(times))
        added = np.zeros((count, frames))
        turned = np.tile(np.array(IDENTITY), (len(self.turns), frames, 1))
        for packed in self._packed:
            values = np.zeros((len(self.rows), frames))
            found = np.empty((len(packed.at), frames))
            sample_packed(packed.curves.starts, packed.curves.cubics, times, which, found.reshape(-1))
            values[packed.at] = found
            weight = sample(packed.weight, times, which, 1.0) if len(packed.weight) else np.ones(frames)
            added += weight * values[:count]
            step = scaled(self._quaternions(values[count:]).reshape(-1, 4), np.tile(weight, len(self.turns)))
            turned = multiply(turned, step.reshape(turned.shape))
        moved: np.ndarray = np.any(turned[..., :3], axis=-1)
        return added, turned, moved

    def _quaternions(self, angles: Floats) -> Floats:
        """(T, F, 4) turns of Euler angles (3 T, F)."""
        each = angles.reshape(len(self.turns), 3, angles.shape[1])
        found = np.empty((len(each), angles.shape[1], 4))
        for order, some in self._of_order.items():
            found[some] = euler(order, np.moveaxis(each[some], 1, 0).reshape(3, -1)).reshape(len(some), -1, 4)
        return found

    def sums(self, base: Callable[[Ints], Floats], times: Floats, side: int | np.ndarray) -> dict[int, Floats]:
        """Values (F,) of all channels that have layers; base: (C, F) what lies beneath all, of channels."""
        beneath, count = base(self.rows), len(self.scalars)
        added, turned, moved = self.over(times, side)
        values = np.concatenate([beneath[:count] + added, beneath[count:]])
        if moved.any():
            whole = multiply(self._quaternions(beneath[count:]), turned)
            found = as_angles(np.moveaxis(whole, 0, 1), self._orders, beneath[count:])
            # Where no layer turns anything it is what lies beneath, to the last bit.
            values[count:] = np.where(np.repeat(moved, 3, axis=0), found, beneath[count:])
        return dict(zip(self.rows.tolist(), values, strict=True))

    def beneath(
        self, wanted: Mapping[int, Floats], times: Floats, side: int | np.ndarray, near: Callable[[Ints], Floats]
    ) -> dict[int, Floats]:  # fmt: skip
        """Base values (F,) under which these (F,) are the sums, of channels among which all three of each turn are; near: (C, F)
        values near which angles are told."""
        others, count = near(self.rows), len(self.scalars)
        values = (
            np.stack([wanted.get(int(c), others[k]) for k, c in enumerate(self.rows)]) if len(self.rows) else others
        )
        added, turned, _ = self.over(times, side)
        values[:count] -= added
        if self.turns:
            whole = multiply(self._quaternions(values[count:]), inverse(turned))
            values[count:] = as_angles(np.moveaxis(whole, 0, 1), self._orders, others[count:])
        return {**wanted, **{int(c): values[k] for k, c in enumerate(self.rows) if c in wanted}}


def as_angles(turns: Floats, orders: Ints, near: Floats) -> Floats:
    """(3 n, F) Euler angles of turns (F, n, 4) in rotation orders (n,), each time those nearest to `near` (3 n, F)."""
    count, frames = len(orders), len(turns)
    found, plain = np.empty((3 * count, frames)), np.tile(np.array(IDENTITY), (frames, count, 1))
    rests, start = (
        np.tile(np.array(IDENTITY), (count, 1)),
        near[:, 0].reshape(count, 3) if frames else np.zeros((count, 3)),
    )
    fits.turns(np.ascontiguousarray(turns), plain, rests, orders, np.ascontiguousarray(start), found)
    return whole_turns_near(found, near)


def scaled(turns: Floats, weight: Floats) -> Floats:
    """(F, 4) turns (F, 4) gone along their shorter arc by weights (F,)."""
    q = np.where(turns[:, 3:] < 0.0, -turns, turns)
    size = np.linalg.norm(q[:, :3], axis=1)
    half = weight * np.arctan2(size, q[:, 3])
    axis = np.divide(q[:, :3], size[:, None], out=np.zeros_like(q[:, :3]), where=size[:, None] > 1e-300)
    return np.concatenate([axis * np.sin(half)[:, None], np.cos(half)[:, None]], axis=1)


def as_euler(turns: Floats, order: str, near: Floats) -> Floats:
    """(3, F) Euler angles of turns (F, 4), each time those nearest to `near` (3, F)."""
    return as_angles(turns[:, None], np.array([ORDERS.index(order)]), near)


# --- one take of all ------------------------------------------------------------------------------------


def flattened(program: Program, tag: int = 0) -> Take:
    """The take without layers, their sum in its curves: of values that are no turns at the keys of all, with slopes, exact in
    between where no weight changes and all are smooth; else, and of turns, at every whole frame too, exact there. Keys that the
    base has not have this tag."""
    layering, names = program.layering, program.channel_names()
    groups: list[tuple[tuple[int, ...], Floats]] = []
    for c in layering.scalars:
        moving = [x for x in layering.layers if names[c] in x.curves and len(x.weight) > 1]
        often = program.take.frames if moving else np.empty(0)
        groups.append(((c,), np.union1d(program.key_times((c,)), often)))
    for turn in layering.turns.values():
        often = _turning(program, turn)
        if len(often):
            groups.append((turn.channels, np.union1d(program.key_times(turn.channels), often)))
    if not groups:
        return replace(program.take, layers=())
    # All at once: summing one of them costs nearly as much as summing all.
    times = np.unique(np.concatenate([t for _, t in groups]))
    row = {int(c): k for k, c in enumerate(layering.rows)}
    arriving, leaving = (
        with_speeds(lambda at, side: program.sample(at, side, layering.rows), times, side)
        for side in (ARRIVING, LEAVING)
    )
    numbers = np.stack([arriving[0], leaving[0], arriving[1], leaving[1]], axis=-1)
    found: dict[str, Curve] = {}
    for channels, mine in groups:
        at = np.searchsorted(times, mine)
        made = _resummed(program, channels, mine, numbers[[row[c] for c in channels]][:, at], tag)
        found |= dict(zip((names[c] for c in channels), made, strict=True))
    return replace(program.take.with_curves(found), layers=())


def _turning(program: Program, turn: Turn) -> Floats:
    """Whole frames at which a layer turns something; none where all that it has are zeros."""
    frames, names = program.take.frames, program.channel_names()
    curves = [
        x.curves[n] for x in program.layering.layers for c in turn.channels if len(x.curves.get(n := names[c], EMPTY))
    ]
    curves = [c for c in curves if c.numbers[:, 1:].any()]
    if not curves:
        return np.empty(0)
    # Where one ends on something it goes on with that.
    low = min(c.times[0] if c.numbers[0, 1] == 0.0 else frames[0] for c in curves)
    high = max(c.times[-1] if c.numbers[-1, 2] == 0.0 else frames[-1] for c in curves)
    found: Floats = frames[(frames >= low) & (frames <= high)]
    return found


def _resummed(program: Program, channels: Sequence[int], times: Floats, numbers: Floats, tag: int) -> list[Curve]:
    """Curves of channels with keys at these times, of values and slopes (K, T, 4) arriving and leaving; `tag`: of new ones."""
    found = []
    blocked = _held(program, channels, times)
    for k, channel in enumerate(channels):
        old = program.curve(channel)
        rows = np.column_stack([times, numbers[k]])
        rows[0, 3] = rows[-1, 4] = 0.0
        marks = np.zeros((len(times), 4), dtype=np.uint8)
        marks[:, 0], marks[:, 1], marks[:, 2] = np.where(blocked, STEPPED, SMOOTH), FREE, tag
        # Tags and locks stay on the keys that were there.
        marks[np.searchsorted(times, old.times), 2:] = old.marks[:, 2:]
        found.append(Curve(rows, marks))
    return found


def with_speeds(at: Callable[[Floats, int], Floats], times: Floats, side: int) -> tuple[Floats, Floats]:
    """(K, F) values of a function of time and side at times, and its slopes on that side."""
    h = -STEP if side == ARRIVING else STEP
    values = at(times, side)
    # Of a cubic three values and the one here give the slope exactly.
    a, b, c = (at(times + k * h, side) for k in (1.0, 2.0, 3.0))
    return values, (-11.0 * values + 18.0 * a - 9.0 * b + 2.0 * c) / (6.0 * h)


def _held(program: Program, channels: Sequence[int], times: Floats) -> np.ndarray:
    """(T,) whether the segment that leaves each time is stepped in all that these channels are made of: of a turn each angle comes
    from all three."""
    blocked = np.ones(len(times), dtype=bool)
    for c in (k for channel in channels for k in program.curves_of(channel)):
        if len(c) > 1:
            i = np.searchsorted(c.times, times, side="right") - 1
            blocked &= (i < 0) | (i >= len(c) - 1) | (c.marks[np.maximum(i, 0), 0] == STEPPED)
    return blocked


# --- writing --------------------------------------------------------------------------------------------


def at_frame(program: Program, values: Mapping[int, float], frame: float) -> dict[int, float]:
    """Base values under which these are the sums at a frame; of a turn all three angles come along."""
    layering = program.layering
    touched = layering.channels & values.keys()
    if not touched:
        return dict(values)
    whole = _with_turns(program, values, frame)
    at, side = np.array([frame]), np.array([LEAVING])
    given = {c: np.array([v]) for c, v in whole.items()}
    found = layering.beneath(given, at, side, lambda cs: program.base.sample(at, LEAVING, cs))
    return {c: float(v[0]) for c, v in found.items()}


def _with_turns(program: Program, values: Mapping[int, float], frame: float) -> dict[int, float]:
    """The values with those of the angles that make a turn with one of them."""
    found = dict(values)
    for c in values:
        turn = turn_of(program.rig, c)
        for other in turn.channels if turn else ():
            if other not in found:
                found[other] = float(program.now(frame, [other])[0])
    return found


def into_layer(program: Program, id: str, values: Mapping[int, float], frame: float) -> Take:
    """The take with keys in a layer at a frame under which these values, by channel, are the sums. CoreError where the layer does
    not count there, or a value can't be layered."""
    take = program.take
    layer = heard_layer(take, id)
    position = take.layers.index(layer)
    now = {c: v for c, v in values.items() if abs(v - float(program.now(frame, [c])[0])) > ALIKE}
    refused = [c for c in now if not can_layer(program, c)]
    if refused:
        told = program.reading(program.channel_names()[refused[0]])
        raise CoreError(f"The {told} can't be on a layer: choose the base to key it.")
    at, side = np.array([float(frame)]), np.array([LEAVING])
    own = float(sample(layer.weight, at, LEAVING, 1.0)[0]) if len(layer.weight) else 1.0
    if abs(own) < LEAST:
        raise CoreError(
            f"The layer {layer.name} has no weight at frame {frame:g}: nothing that is posed on it would show."
        )
    whole = _with_turns(program, now, frame)
    heard_ = heard(take.layers)
    lower = Layering(program.rig, tuple(x for x in take.layers[:position] if x in heard_))
    upper = Layering(program.rig, tuple(replace(x, solo=False) for x in take.layers[position + 1 :] if x in heard_))
    names, kept = program.channel_names(), dict(layer.curves)
    wanted = upper.beneath(
        {c: np.array([v]) for c, v in whole.items()}, at, side, lambda cs: program.sample(at, LEAVING, cs)
    )

    def under(channels: Ints) -> Floats:
        beneath = program.base.sample(at, LEAVING, channels)
        found = lower.sums(lambda cs: program.base.sample(at, LEAVING, cs), at, side)
        return np.stack([found.get(int(c), beneath[k]) for k, c in enumerate(channels)])

    done: set[int] = set()
    for c in wanted:
        if c in done:
            continue
        turn = turn_of(program.rig, c)
        if turn is None:
            new = {c: float((wanted[c] - under(np.array([c]))[0])[0]) / own}
        else:
            low = euler(turn.order, under(np.array(turn.channels)))
            high = euler(turn.order, np.stack([wanted[x] for x in turn.channels]))
            step = scaled(multiply(inverse(low), high), np.array([1.0 / own]))
            before = np.stack(
                [sample(kept.get(names[x], EMPTY), at) if names[x] in kept else np.zeros(1) for x in turn.channels]
            )
            new = {x: float(v[0]) for x, v in zip(turn.channels, as_euler(step, turn.order, before), strict=True)}
        for x, value in new.items():
            done.add(x)
            kept[names[x]] = set_value(kept.get(names[x], fences(layer)), float(frame), value, SMOOTH)
    return with_layer(take, replace(layer, curves=kept))


def fences(layer: Layer) -> Curve:
    """A curve that is nothing at the ends of a layer's stretch."""
    return curve([Key(float(t), 0.0, 0.0, tag=FENCE, rule=FREE) for t in layer.stretch or ()])


def layer_of(take: Take, id: str) -> Layer:
    """The layer of this id; CoreError if there is none."""
    for layer in take.layers:
        if layer.id == id:
            return layer
    known = ", ".join(f"{x.id} ({x.name})" for x in take.layers) or "none"
    raise CoreError(f"The take has no layer {id!r}: it has {known}.")


def heard_layer(take: Take, id: str) -> Layer:
    """The layer of this id; CoreError if there is none, or if it is not heard, so that nothing written to it would be seen."""
    layer = layer_of(take, id)
    if layer.mute or (any(x.solo for x in take.layers) and not layer.solo):
        raise CoreError(f"The layer {layer.name} is not heard: unmute it before you pose on it.")
    return layer


def with_layer(take: Take, layer: Layer) -> Take:
    """The take with a layer in place of the one of the same id."""
    return replace(take, layers=tuple(layer if x.id == layer.id else x for x in take.layers))


# --- operations under layers ----------------------------------------------------------------------------


def folded(program: Program, before: Take, after: Take) -> Take:
    """What an operation made of a flattened take, as a base under the layers as they are: where it changed a curve that has
    layers, the base is what it wants without them; everywhere else it stays bit for bit. before: what it was given."""
    layering, names = program.layering, program.channel_names()
    curves = {n: c for n, c in after.curves.items() if program.channels.get(n) not in layering.channels}
    for c in layering.channels:
        if names[c] in program.take.curves:
            curves[names[c]] = program.take.curves[names[c]]
    groups = [(c,) for c in layering.scalars] + [t.channels for t in layering.turns.values()]
    for group in groups:
        pairs = [(before.curves.get(names[c], EMPTY), after.curves.get(names[c], EMPTY)) for c in group]
        span = _changed(program.take, pairs)
        if span is None:
            continue
        made = _unlayered(program, group, [b for _, b in pairs], span)
        curves |= dict(zip((names[c] for c in group), made, strict=True))
    return replace(after, curves={n: c for n, c in curves.items() if len(c)}, layers=program.take.layers)


def onto_layer(program: Program, before: Take, after: Take, id: str) -> Take:
    """What an operation made of a flattened take, written into one layer: all else stays bit for bit, but for what can't be
    layered. before: what it was given."""
    take, names = program.take, program.channel_names()
    layer = heard_layer(take, id)
    above = take.layers[take.layers.index(layer) + 1 :]
    upper = Layering(program.rig, tuple(replace(x, solo=False) for x in above if x in heard(take.layers)))
    curves, kept, done = dict(take.curves), dict(layer.curves), set[int]()
    for name in sorted(before.curves.keys() | after.curves.keys()):
        old, new = before.curves.get(name, EMPTY), after.curves.get(name, EMPTY)
        c = program.channels.get(name)
        if old == new or c in done:
            continue
        if c is None or not can_layer(program, c):
            curves[name] = new
            continue
        turn = turn_of(program.rig, c)
        group = turn.channels if turn else (c,)
        done |= set(group)
        was, now = ([t.curves.get(names[x], EMPTY) for x in group] for t in (before, after))
        span = _changed(take, list(zip(was, now, strict=True)))
        if span is not None:
            own = [kept.get(names[x], EMPTY) for x in group]
            at = _led_to(program, layer, upper, group, turn, was, now)
            made = _spliced(span, [x.times for x in (*now, *own)], at, own, [0.0] * len(group), take.frames)
            kept |= {names[x]: _trimmed(new, old) for x, new, old in zip(group, made, own, strict=True)}
    done_layer = replace(layer, curves={n: c for n, c in kept.items() if len(c)})
    base = replace(after, curves={n: c for n, c in curves.items() if len(c)}, layers=take.layers)
    return with_layer(base, done_layer)


def _trimmed(made: Curve, old: Curve) -> Curve:
    """A layer's curve without new keys that say nothing among others that say nothing: where it is, it does something."""
    fresh = ~np.isin(made.times, old.times)
    quiet = (np.abs(made.numbers[:, 1:]) <= np.where(fresh, ALIKE, 0.0)[:, None]).all(axis=1)
    numbers = made.numbers.copy()
    numbers[quiet, 1:] = 0.0
    beside = np.concatenate([[True], quiet, [True]])
    gone = quiet & fresh & beside[:-2] & beside[2:]
    return Curve(numbers[~gone], made.marks[~gone])


def _led_to(
    program: Program, layer: Layer, upper: Layering, group: Sequence[int], turn: Turn | None, was: Sequence[Curve],
    now: Sequence[Curve],
) -> Callable[[Floats, int], Floats]:  # fmt: skip
    """Values (K, F) of a layer under which what is seen goes over from some curves to others."""
    names = program.channel_names()

    def at(times: Floats, side: int) -> Floats:
        a, b = (
            np.stack([sample(c, times, side, float(program.defaults[x])) for c, x in zip(cs, group, strict=True)])
            for cs in (was, now)
        )
        own = np.stack([_or_nothing(layer.curves, names[x], times, side) for x in group])
        weight = sample(layer.weight, times, side, 1.0) if len(layer.weight) else np.ones(len(times))
        share = np.divide(1.0, weight, out=np.zeros_like(weight), where=np.abs(weight) > LEAST)
        if turn is None:
            found: Floats = own + (b - a) * share
            return found
        above = np.tile(np.array(IDENTITY), (len(times), 1))
        if (k := list(upper.turns).index(turn.channels[0]) if turn.channels[0] in upper.turns else -1) >= 0:
            above = upper.over(times, side)[1][k]
        change = multiply(inverse(euler(turn.order, a)), euler(turn.order, b))
        mine = scaled(euler(turn.order, own), weight)
        return as_euler(
            scaled(multiply(mine, multiply(above, multiply(change, inverse(above)))), share), turn.order, own
        )

    return at


class _Span(NamedTuple):
    """Between which times curves are others than they were, and whether they are, too, before the first and after the last."""

    low: float
    high: float
    before: bool
    after: bool

    def within(self, times: Sequence[Floats]) -> Floats:
        """Its ends, and those of these times that lie in it."""
        found = np.unique(np.concatenate([[self.low, self.high], *times]))
        result: Floats = found[(found >= self.low) & (found <= self.high)]
        return result


def _changed(take: Take, pairs: Sequence[tuple[Curve, Curve]]) -> _Span | None:
    """Where curves are others than they were; None where none is."""
    found = _Span(np.inf, -np.inf, False, False)
    for old, new in pairs:
        if old is new or old == new:
            continue
        times = np.unique(np.concatenate([old.times, new.times]))
        there = [(old.find(float(t)), new.find(float(t))) for t in times]
        differ = [n for n, (a, b) in enumerate(there) if a is None or b is None or _other(old.key(a), new.key(b))]
        if not differ:
            continue
        # The segments on either side of a key go with it, and all that lies beyond the first of all keys or the last.
        before, after = min(differ) == 0, max(differ) == len(times) - 1
        low = min(float(take.first), float(times[0])) if before else float(times[min(differ) - 1])
        high = max(float(take.last), float(times[-1])) if after else float(times[max(differ) + 1])
        found = _Span(min(found.low, low), max(found.high, high), found.before or before, found.after or after)
    return found if found.low <= found.high else None


def _other(old: Key, new: Key) -> bool:
    """Whether a key is another one now; one that only the sum had may have got a tag."""
    return old != new and (old.tag != SUMMED or old._replace(tag=new.tag) != new)


def _unlayered(program: Program, group: Sequence[int], wanted: Sequence[Curve], span: _Span) -> list[Curve]:
    """Base curves of channels that are one value or one turn, under which the sums are the wanted ones within a span, and the base
    as it was elsewhere."""
    layering, turn = program.layering, program.layering.turns.get(group[0])
    dense = _turning(program, turn) if turn else np.empty(0)
    times = [*(w.times for w in wanted), program.key_times(group), dense]

    def base_at(at: Floats, side: int) -> Floats:
        given = {c: sample(w, at, side, float(program.defaults[c])) for c, w in zip(group, wanted, strict=True)}
        found = layering.beneath(given, at, side, lambda cs: program.base.sample(at, side, cs))
        return np.stack([found[c] for c in group])

    old = [program.curve(c) for c in group]
    return _spliced(span, times, base_at, old, [float(program.defaults[c]) for c in group], program.take.frames)


def _spliced(
    span: _Span, keyed: Sequence[Floats], at: Callable[[Floats, int], Floats], old: Sequence[Curve], defaults: Sequence[float],
    frames: Floats,
) -> list[Curve]:  # fmt: skip
    """Curves with keys of a function of time and side at these times within a span, and at whole frames too where few keys do not
    say what it is there, spliced into old ones, which are what these are where they have no keys."""
    made = _at_times(span, span.within(keyed), at, old, defaults)
    inside = frames[(frames > span.low) & (frames < span.high)]
    if len(inside):
        off = np.stack([sample(c, inside, LEAVING, d) for c, d in zip(made, defaults, strict=True)]) - at(
            inside, LEAVING
        )
        if np.abs(off).max() > EXACT:
            made = _at_times(span, span.within([*keyed, inside]), at, old, defaults)
    return made


def _at_times(
    span: _Span, times: Floats, at: Callable[[Floats, int], Floats], old: Sequence[Curve], defaults: Sequence[float]
) -> list[Curve]:  # fmt: skip
    """Curves with keys of a function at times, the first and last of which are the ends of a span, spliced into old ones."""
    arriving, leaving = (with_speeds(at, times, side) for side in (ARRIVING, LEAVING))
    found = []
    for k, (before, default) in enumerate(zip(old, defaults, strict=True)):
        numbers = np.column_stack([times, arriving[0][k], leaving[0][k], arriving[1][k], leaving[1][k]])
        marks = np.zeros((len(times), 4), dtype=np.uint8)
        marks[:, 0], marks[:, 1] = SMOOTH, FREE
        kept = insert(insert(before, span.low, default), span.high, default)
        # What arrives before and leaves after stays as it was, but where all of that is another too.
        if not span.before:
            first = kept.key(kept.find(span.low) or 0)
            numbers[0, 1], numbers[0, 3], marks[0, 2] = first.arriving, first.slope_in, FENCE
        if not span.after:
            last = kept.key(kept.find(span.high) or 0)
            numbers[-1, 2], numbers[-1, 4] = last.leaving, last.slope_out
            marks[-1, 0], marks[-1, 2] = last.kind, FENCE
        found.append(spliced(kept, Curve(numbers, marks), (kept.times >= span.low) & (kept.times <= span.high)))
    return found


def carried(program: Program, work: Callable[[Program], Take]) -> Take:
    """What an operation makes of the base alone, with each layer carried across: beneath k layers it makes one motion, beneath
    k + 1 another, and the difference is the layer, exact where the layers have the weights that they have."""
    take, counting = program.take, program.layering.layers
    beneath = program.base
    done = work(beneath)
    result = replace(done, layers=())
    layers: list[Layer] = []
    lower_before, lower_after = beneath.take, done
    for k, layer in enumerate(take.layers):
        if layer not in counting:
            layers.append(layer)
            continue
        upto = tuple(replace(x, solo=False, mute=x not in counting) for x in take.layers[: k + 1])
        partial = program.on(replace(take, layers=upto))
        before = flattened(partial)
        after = work(program.on(before))
        layers.append(_difference(program, layer, (lower_before, lower_after), (before, after)))
        lower_before, lower_after = before, after
    # What steps is never layered: it is as all of them together want it.
    for name, kept in lower_after.curves.items():
        known = program.channels.get(name)
        if (known is None or not can_layer(program, known)) and result.curves.get(name) != kept:
            result = result.with_curves({name: kept})
    return replace(result, layers=tuple(layers))


def _difference(program: Program, layer: Layer, lower: tuple[Take, Take], upper: tuple[Take, Take]) -> Layer:
    """A layer that leads from one motion to another where an operation changed either of them, and is as it was elsewhere."""
    names, kept = program.channel_names(), dict(layer.curves)
    changed = {
        program.channels[n] for a, b in (lower, upper) for n in a.curves.keys() | b.curves.keys()
        if n in program.channels and a.curves.get(n) != b.curves.get(n)
    }  # fmt: skip
    done: set[int] = set()
    for c in sorted(changed):
        if c in done or not can_layer(program, c):
            continue
        turn = turn_of(program.rig, c)
        group = turn.channels if turn else (c,)
        done |= set(group)
        pairs = [
            (a.curves.get(names[x], EMPTY), b.curves.get(names[x], EMPTY)) for a, b in (lower, upper) for x in group
        ]
        span = _changed(program.take, pairs)
        if span is None:
            continue
        one, two = ([t.curves.get(names[x], EMPTY) for x in group] for t in (lower[1], upper[1]))
        keyed = [x.times for x in (*one, *two)]

        def between(
            at: Floats, side: int, one: list[Curve] = one, two: list[Curve] = two, group: Sequence[int] = group,
            turn: Turn | None = turn,
        ) -> Floats:  # fmt: skip
            weight = sample(layer.weight, at, side, 1.0) if len(layer.weight) else np.ones(len(at))
            share = np.divide(1.0, weight, out=np.zeros_like(weight), where=np.abs(weight) > LEAST)
            a, b = (
                np.stack([sample(k, at, side, float(program.defaults[x])) for k, x in zip(cs, group, strict=True)])
                for cs in (one, two)
            )
            if turn is None:
                found: Floats = (b - a) * share
                return found
            step = scaled(multiply(inverse(euler(turn.order, a)), euler(turn.order, b)), share)
            return as_euler(step, turn.order, np.zeros((3, len(at))))

        # Its own keys count too: what was on a channel may be on another now.
        times = span.within([*keyed, *(kept[names[x]].times for x in group if names[x] in kept)])
        if all(
            _alike(turn, between(times, k), np.stack([_or_nothing(kept, names[x], times, k) for x in group]))
            for k in (0, 1)
        ):
            # Only keys that change nothing were put beneath it.
            continue
        old = [kept.get(names[x], EMPTY) for x in group]
        made = _spliced(span, keyed, between, old, [0.0] * len(group), program.take.frames)
        kept |= dict(zip((names[x] for x in group), made, strict=True))
    return replace(layer, curves={n: c for n, c in kept.items() if len(c)})


def _or_nothing(curves: Mapping[str, Curve], name: str, times: Floats, side: int) -> Floats:
    """(F,) values of a curve, zero where there is none."""
    kept = curves.get(name, EMPTY)
    return sample(kept, times, side) if len(kept) else np.zeros(len(times))


def _alike(turn: Turn | None, a: Floats, b: Floats) -> bool:
    """Whether values (K, F) of a channel, or angles of a turn, are the same."""
    if turn is None:
        return bool(np.abs(a - b).max() <= ALIKE)
    return bool(rotation_distance(euler(turn.order, a), euler(turn.order, b)).max() <= ALIKE)
