"""How a hold is led, kept and left on the curves of what it holds: constant while it lasts, a cubic on top of the keys outside of
it; of a foot that rolls the roll, about heel or ball alone while the sole is not on."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from ..contacts import spots_of
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
from ..program import Program
from ..rig import Bound, BoundSystem
from ..stance_turns import heading
from ..systems.place import place_in
from ..systems.system import Rolling, Space
from ..takes import Take
from ..transforms import Floats, inverse, multiply, rotate, wrap_near
from . import retether

#: A place that is left by no more than this (metres, radians) is held.
SAME = 1e-6
#: By how much (radians) the heel comes up at a time where a leg is too short.
LIFT = 0.01
#: Step of the difference that gives the speed with which what is held moves, frames.
_STEP = 1.0 / 64.0


#: Frames over which a roll that was held back for the ball's sake is its own once the tip has taken over.
TAKES = 4.0
#: Radians by which a sole turns at least, while its heel or ball alone stands, for that to be more than a capture's noise.
TURNS = 0.15


class Span(NamedTuple):
    """A hold of one part: its first and last frame, those of its sole, from when it is led there and until when it fades; whether
    it is the ball that stands before the sole, and after it; from when on its tip stands alone; the control that holds it."""

    first: float
    last: float
    flat: tuple[float, float]
    start: float
    end: float
    ball: tuple[bool, bool]
    tip: float
    part: tuple[str, str]
    control: str

    @property
    def alone(self) -> bool:
        """Whether heel or ball stands alone from its first frame to its last: there is no sole that is on."""
        return self.flat[0] == self.flat[1]

    def most(self, rolls: Rolling, at: Floats) -> Floats:
        """(F,) how far a foot may roll at times (F,): no farther than its ball stays while that is to stand."""
        return np.where(at > self.tip, np.pi, rolls.most)


def rolled(program: Program, rolls: Rolling, span: Span) -> Curve:
    """The curve of a roll that turns about heel, ball or tip alone before the sole is on and after it, and not at all while it is;
    as it was elsewhere."""
    kept, default = program.curve(rolls.channel), float(program.defaults[rolls.channel])
    a, b = span.flat
    tip = [span.tip] if span.first < span.tip < span.last else []
    times = np.unique([span.first, a, b, *tip, span.last, *np.arange(np.ceil(span.first), span.last)])
    if len(kept):
        times = np.union1d(times, kept.times[(kept.times > span.first) & (kept.times < span.last)])
    times = times[(times <= a) | (times >= b)]
    values = sample(kept, times, LEAVING, default) if len(kept) else np.zeros(len(times))
    if tip:
        # Beyond what its ball may roll by where the tip takes over, it comes over some frames.
        over = max(float(values[times == span.tip][0]) - rolls.most, 0.0)
        u = np.clip((times - span.tip) / min(TAKES, span.last - span.tip), 0.0, 1.0)
        values = values - np.where(times >= span.tip, over * (1.0 - u) ** 2 * (1.0 + 2.0 * u), 0.0)
    on = (times >= a) & (times <= b) & (not span.alone)
    for outside, ball in zip((times < a, (times >= b) & ~on), span.ball, strict=True):
        values = np.where(
            outside, np.clip(values, *((0.0, span.most(rolls, times)) if ball else (-np.pi, 0.0))), values
        )
    values = np.where(on, 0.0, values)
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


class Pivot(NamedTuple):
    """How a foot turns about its heel, ball or tip while that alone stands: the channel and its keys; the frames at which the hold
    begins or ends with it; the point (3,) and the axis (3,) in its control."""

    channel: int
    keys: Curve
    edges: tuple[float, ...]
    point: Floats
    axis: Floats

    def turns(self, edge: float, at: Floats) -> Floats:
        """(F, 4) turns beyond an edge of the hold, at the speed that it has there."""
        key = self.keys.key(self.keys.find(edge) or 0)
        speed = key.slope_out if edge == self.keys.times[0] else key.slope_in
        half = 0.5 * (key.leaving + speed * (at - edge))[:, None]
        return np.concatenate([np.sin(half) * self.axis, np.cos(half)], axis=1)

    def over(self, program: Program) -> Curve:
        """The channel's curve with its keys; beyond its edges as it was, but for where the take begins or ends there."""
        first, last = (float(self.keys.times[k]) for k in (0, -1))
        made = put_over(
            program.curve(self.channel), self.keys.all_keys(), first, last, float(program.defaults[self.channel])
        )
        for edge in self.edges:
            if not program.take.first < edge < program.take.last:
                value = self.keys.key(self.keys.find(edge) or 0).leaving
                made = put(made, [made.key(made.find(edge) or 0)._replace(arriving=value, leaving=value)])
        return made


def pivots(before: Program, held: Program, bound: Bound, mine: BoundSystem, span: Span) -> list[Pivot]:
    """How the sole of a foot that is held goes on turning as it did, where its heel, ball or tip stands alone: not at all where the
    sole is on."""
    turning = mine.system.turning(bound)
    found: list[Pivot] = []
    if turning is None:
        return found
    control = held.bound(*bound.id).controls[span.control]
    rear, fore, *tip = (s.name for s in spots_of(bound))
    up = np.cross(turning.forward, turning.left)
    (a, b), leaves = span.flat, min(max(span.tip, span.flat[1]), span.last)
    stages = [(span.first, a, fore if span.ball[0] else rear), (b, leaves, fore if span.ball[1] else rear)]
    for first, last, name in (*stages, *((leaves, span.last, name) for name in tip)):
        if last <= first:
            continue
        at = np.unique([first, last, *np.arange(np.ceil(first), last)])
        side = np.where(at == last, ARRIVING, LEAVING)
        still = held.track(at, side, [control.node])[1][:, 0]
        turns = before.track(at, side, [before.nodes[bound.member.id, control.control.rests_on]])[1][:, 0]
        ways = np.unwrap(heading(turning, multiply(inverse(still), turns)))
        # It begins with nothing where the sole or another point stands before it, or ends so.
        begins, level = span.alone and first == span.first, -1 if last == a else 0
        if not begins:
            ways -= ways[level]
        if np.abs(ways).max() <= TURNS:
            continue
        keys = [Key(float(t), v, v, kind=SMOOTH, rule=AUTOMATIC) for t, v in zip(at, ways.tolist(), strict=True)]
        made = automatic_slopes(curve(keys), at.tolist())
        if not begins:
            # From the sole it begins, or onto it ends, without a jump in speed.
            made = put(made, [made.key(level % len(at))._replace(rule=FREE, slope_in=0.0, slope_out=0.0)])
        if b <= first and last < span.last:
            # While its tip stands on, it stays turned.
            end = made.key(len(made) - 1)
            stays = Key(span.last, end.leaving, end.leaving, 0.0, 0.0, SMOOTH, FREE)
            made = put(made, [end._replace(rule=FREE, slope_out=0.0), stays])
        edges = (*((span.first,) if begins or last == a else ()), *((span.last,) if b <= first else ()))
        found.append(Pivot(int(mine.channels[turning.channels[name]]), made, edges, turning.points[name], up))
    return found


def _bounded(kept: Curve, rolls: Rolling, span: Span) -> Curve:
    """A roll whose slopes keep it on the side of its stage between keys too: about the heel it is never above nothing, about the
    ball never below it, nor so far that it would turn about the tip before that stands alone. A cubic lies between its control
    points (Bernstein)."""
    a, b = span.flat
    for t in (span.start, span.end):
        kept = insert(kept, t, 0.0)
    for (first, last), ball in zip(((span.first, a), (b, span.last)), span.ball, strict=True):
        keys = [k for k in kept.all_keys() if first <= k.time <= last]
        for n in range(len(keys) - 1):
            one, other = keys[n : n + 2]
            low, high = (0.0, float(span.most(rolls, np.array([other.time]))[0])) if ball else (-np.pi, 0.0)
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


def stilled(
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
        changed[names[c]] = constant(program.take, kept, default, value, first, last)
    return changed


def constant(take: Take, kept: Curve, default: float, value: float, first: float, last: float) -> Curve:
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


def within_reach(program: Program, bound: Bound, on: str, rolls: Rolling, span: Span) -> Program:
    """The heel comes up as far as a leg that is too short asks for, while the ball alone stands, or the tip."""
    channel, name = rolls.channel, program.channel_names()[rolls.channel]
    kept = program.curve(channel)
    times = kept.times[(kept.times > span.flat[1]) & (kept.times <= span.last)]
    if not (len(times) and span.ball[1]):
        return program
    # At the last of them what arrives is held still.
    side = np.where(times == span.last, ARRIVING, LEAVING)
    values = sample(kept, times, side, 0.0)
    node = program.world if on == "world" else program.nodes[retether.anchor_of(on)]
    # A tip stays where it is while the ball stands too: the toe is flat then.
    stands = spots_of(bound)[2 if span.tip < span.last else 1]
    joint = program.nodes[bound.member.id, stands.joints[0]]

    def place(t: float, at: int, over: dict[int, float | Floats]) -> Floats:
        poses = program.evaluate([t], at, over, only=[node, joint])
        spot = poses.pos[0, joint] + float(program.sizes(np.array([t]), at, joint)[0]) * rotate(
            poses.rot[0, joint], stands.points[0]
        )
        return rotate(inverse(poses.rot[0, node]), spot - poses.pos[0, node])

    stood, most = place(span.flat[0], LEAVING, {}), span.most(rolls, times)

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
        lifted[left] = np.minimum(lifted[left] + LIFT, most[left])
        more = off(left, lifted[left]) > SAME
        left = left[more & (lifted[left] < most[left])]
    # A little more, so that nothing is missed between the keys.
    lifted = np.where(lifted > values, np.minimum(lifted + LIFT, most), values)
    # Once up it does not come down again before it leaves.
    lifted = np.maximum.accumulate(lifted)
    keys = []
    for t, v in zip(times, lifted.tolist(), strict=True):
        key = kept.key(kept.find(float(t)) or 0)
        keys.append(key._replace(arriving=v, leaving=key.leaving if t == span.last else v))
    return program.with_curves({name: _bounded(automatic_slopes(put(kept, keys), times.tolist()), rolls, span)})


def eased(
    program: Program,
    bound: Bound,
    control: str,
    on: str,
    inside: float,
    edge: float,
    until: float,
    pivots: Sequence[Pivot] = (),
) -> Program:
    """Fades what a hold changes a control by from one of its edges outward: a cubic that begins with the place and the speed of
    what is held, and ends with nothing. inside: a frame of the hold; pivots: what the foot turns by there, which beyond the edge
    the control carries."""
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
    place = poses.pos[:, node] + rotate(poses.rot[:, node], size * np.array(seen[:3]))
    turn = multiply(poses.rot[:, node], np.broadcast_to(np.array(seen[3:]), (3, 4)))
    own = program.sizes(at, side, program.nodes[bound.member.id, placed.control.rests_on])[:, None]
    for pivot in pivots:
        turned = pivot.turns(edge, at)
        place = place + rotate(turn, own * (pivot.point - rotate(turned, pivot.point)))
        turn = multiply(turn, turned)
    wanted = place_in(
        place,
        turn,
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
