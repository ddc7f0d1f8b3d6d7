"""Motion expressed in another system: the one way in which every operation re-expresses what is there.

    channels of a system along a motion = fit(the motion's joints), with one-sided slopes from a stencil

Handing over, posing, pasting and repairing choose a motion, a system, and where keys are put; the rest is here: fits at
the key times and between them, so that angles are followed; signs that step where a limb is straight; keys added until a
tolerance is kept; a system made to meet what arrives, to lead to what follows, or to hold a pose.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from .contacts import anchor_node, measure_all, part_of, spots_of, stays
from .curves import (
    ARRIVING,
    EMPTY,
    FENCE,
    FREE,
    LEAVING,
    LINEAR,
    SMOOTH,
    STEPPED,
    Curve,
    Key,
    insert,
    put,
    sample,
    spliced,
    without,
)
from .few_keys import allowed, choose
from .fitting import fit_values, held
from .kernels.fits import apart
from .kernels.two_segment import STRAIGHT
from .measure import slopes_of, stencil, steps
from .program import Poses, Program, Still, among, pieces
from .progress import stage
from .rig import Bound, BoundSystem
from .systems.fk import turn_in
from .systems.place import place_in
from .systems.system import Space
from .takes import Contact
from .transforms import Floats, Ints, inverse, rotate, whole_turns_near, wrap_near

Flags = NDArray[np.bool_]
_EMPTY: Floats = np.empty(0)
Curves = dict[str, Curve]
#: Step of the plain central difference at keys that no source key shares, frames.
_CENTRAL = 1.0 / 32.0
#: Where the sign of a segment is read, as shares of its length.
_WITHIN = np.array([0.125, 0.5, 0.875])
#: What of a sign of a limb counts: below it the limb is straight there.
NOTED = 1e-6
#: Metres and radians below which an adjustment is the rounding of a fit.
ROUNDING = 1e-9
#: Frames below which two times are one.
ROUNDED = 1e-6
#: Radians by which one angle at one time is another: less than what two ways round differ by, and more than what a fit does.
ROUND = 1.0
#: Times that are followed together.
FOLLOWED = 500
#: Share of a proof's widest step at which slopes are fitted: near a singular pose a coarser one misses what is measured.
FINE = 0.25


@dataclass(frozen=True)
class Motion:
    """Wanted joints: `poses` at any times and sides, in the nodes of `program`; `step` of stencils at times, which reach
    across no break; whether there is something `between` the times that are asked for."""

    program: Program
    poses: Callable[[Floats, Ints], Poses]
    step: Callable[[Floats], Floats]
    between: bool = True


@dataclass(frozen=True)
class Target:
    """What a motion is expressed in: the channels of a system of a part, or those of one control alone in the space that
    it follows.

    `mine`: its channels, with locks and limits; `nodes`: what its `fit` (poses, near) → (K, F) reads; `sources`: nodes that
    the motion to express is made of; `live`: values of switches under which it is what is seen; `weights`: those of them
    that say what is followed, and about which point it turns, in place of what the curves say; `signs`: whether it is a system
    whose signs may step; `alone`: values of switches under which the motion is read, where it is not that which is seen;
    `made_of`: channels of which it is made, where the nodes do not say that; `alike`: those of them that count where what carries
    the part carries all of it, before and after.
    """

    bound: Bound
    mine: BoundSystem
    nodes: Ints
    sources: list[int]
    fit: Callable[[Poses, Floats], Floats]
    live: Mapping[int, float]
    weights: Mapping[int, float] = field(default_factory=dict)
    signs: bool = True
    alone: Mapping[int, float] = field(default_factory=dict)
    made_of: frozenset[int] | None = None
    alike: frozenset[int] | None = None

    @property
    def channels(self) -> Ints:
        return self.mine.channels

    @property
    def moves_alone(self) -> bool:
        return self.mine.system.moves_alone


def system_target(program: Program, bound: Bound, system: str) -> Target:
    """A system of a part, its controls in the spaces that they follow."""
    mine = bound.systems[system]
    controls = {c.name for c in mine.controls}
    spaces = [c.space for name, c in bound.followers.items() if name in controls]
    return Target(
        bound, mine, program.fit_nodes([bound]), [*bound.nodes.tolist(), *bound.above.tolist(), *bound.givers, *spaces],
        lambda poses, near: fit_values(program, bound, system, poses, near), bound.drive_to(system),
        alike=frozenset(bound.own.values()) if _carried_whole(bound) else None,
    )  # fmt: skip


def _carried_whole(bound: Bound) -> bool:
    """Whether what a part hangs from carries all of it, controls included: how that moves is then no part of its own motion."""
    base = set(bound.outer.tolist())
    hang = {anchor.node for control in bound.followers.values() for anchor in control.anchors}
    return len(base) == 1 and hang <= base and not (bound.captured or bound.givers or bound.guides)


def control_target(program: Program, bound: Bound, control: str, weights: Mapping[int, float]) -> Target:
    """One control or joint that can follow something, in the space where these weights (by channel) put it, turning about the
    point that they name; its own channels come first."""
    placed = bound.followers[control]
    named, system = next((n, s) for n, s in bound.systems.items() if any(c.name == control for c in s.controls))
    along = system.system.along(bound, control)
    picked = np.array([*(int(np.flatnonzero(system.channels == c)[0]) for c in placed.channels), *along])
    mine = replace(
        system, channels=system.channels[picked], held=system.held[picked], standard=system.standard[picked],
        stepped=system.stepped[picked], wraps=system.wraps[picked], bounds=system.bounds[picked],
    )  # fmt: skip
    if control in bound.guides or along:
        # What a guide says, and what lies on top of the rest, is fitted with the limb as its own system moves it, whatever drives.
        def shown(poses: Poses, near: Floats) -> Floats:
            start = system.standard.copy()
            start[picked] = near
            found: Floats = fit_values(program, bound, named, poses, start)[picked]
            return found

        whole = system_target(program, bound, named)
        seen = [*whole.sources, *(a.node for a in placed.anchors)]
        return replace(
            whole,
            mine=mine,
            fit=shown,
            sources=seen,
            live=weights,
            weights=weights,
            signs=False,
            alone=whole.live,
            alike=None,
        )
    order = placed.control.order

    def fit(poses: Poses, near: Floats) -> Floats:
        at, space = placed.node, placed.space
        pos, rot = poses.pos[:, at], poses.rot[:, at]
        about = program.pivot(placed, poses)
        into = Space(poses.pos[:, space], poses.rot[:, space], poses.size(placed.slot), about)
        return place_in(pos, rot, into, order, near) if placed.place >= 0 else turn_in(rot, into.rot, order, near)

    nodes = np.unique(np.array([placed.node, placed.space, *(a.node for a in placed.anchors)], dtype=np.int64))
    # A joint turns as its own system has it, even where that drives it in part or not at all.
    alone = bound.drive_to(named) if placed.control.is_joint else {}
    return Target(bound, mine, nodes, nodes.tolist(), fit, weights, weights, False, alone)


def motion_of(program: Program, target: Target) -> Motion:
    """The motion of a program as it is, as far as a target reads it; controls stand in the spaces of its weights."""
    nodes = np.unique(np.concatenate([target.nodes, _anchors(target)]))
    breaks = program.key_times()

    def poses(at: Floats, side: Ints) -> Poses:
        found = program.evaluate(at, side, target.alone, only=nodes)
        if target.weights:
            others = sorted({*target.bound.space_channels} - target.weights.keys())
            now = dict(zip(others, program.sample(at, side, np.array(others, dtype=np.int64)), strict=True))
            for control in target.bound.followers.values():
                control.put_space(found, {**now, **target.weights})
        return found

    return Motion(program, poses, lambda at: FINE * steps(breaks, at))


def _anchors(target: Target) -> Ints:
    """Nodes of what the part's controls may follow, where their spaces are put anew."""
    controls = target.bound.followers.values() if target.weights else ()
    return np.array([one.node for control in controls for one in control.anchors], dtype=np.int64)


@dataclass(frozen=True)
class Fitted:
    """Channels of a system along a motion, at T key times: `values` and `slopes` (2, K, T), leaving first. Channels that
    are held keep their standing value; signs have no slope. `passed`: values (K, B) at frames `between` (B,), through which angles
    were followed."""

    times: Floats
    values: Floats
    slopes: Floats
    between: Floats
    passed: Floats

    def with_more(self, other: Fitted) -> Fitted:
        """With those of the times of another that are new."""
        times, which = np.unique(np.concatenate([self.times, other.times]), return_index=True)
        values, slopes = (
            np.concatenate(x, axis=2)[:, :, which] for x in ((self.values, other.values), (self.slopes, other.slopes))
        )
        return Fitted(times, values, slopes, self.between, self.passed)

    def agrees(self, other: Fitted) -> bool:
        """Whether the angles of another, followed through other times, have the same way round wherever both have been."""
        _, mine, its = np.intersect1d(self.times, other.between, return_indices=True)
        return not np.any(np.abs(self.values[LEAVING][:, mine] - other.passed[:, its]) > ROUND)


def fit_along(motion: Motion, target: Target, times: Floats, exact: Flags, near: Floats) -> Fitted:
    """Fits a target at key times along a motion, with slopes from both sides.

    times: (T,) frames in order; exact: (T,) bool, where both one-sided slopes are wanted (elsewhere one
    central difference does); near: (K,) values before the first. Angles are followed from frame to frame, so
    their representation at sparse keys is the continuous one.
    """
    mine = target.mine
    k = len(mine.channels)
    edge, plain = times[exact], times[~exact]
    step = motion.step(edge)
    at1, side1 = stencil(edge, step)
    at2 = (plain[:, None] + np.array([-_CENTRAL, 0.0, _CENTRAL])).ravel()
    # What is fitted there anyway need not be looked at twice.
    between = np.setdiff1d(np.arange(np.floor(times[0]) + 1.0, times[-1]), times) if motion.between else np.empty(0)
    at = np.concatenate([at1, at2, between])
    side = np.concatenate([side1, np.zeros(len(at2) + len(between), dtype=np.int64)])
    # Arriving (1) comes before leaving (0) at the same time.
    order = np.lexsort((-side, at))
    fitted = np.empty((k, len(at)))
    fitted[:, order] = _fits(motion, target, at[order], side[order], near)
    fitted = held(mine, fitted)
    values, slopes = np.empty((2, k, len(times))), np.empty((2, k, len(times)))
    one = np.moveaxis(fitted[:, : len(at1)].reshape(k, len(edge), 2, 5), 0, -1)
    values[:, :, exact] = np.moveaxis(one[:, :, 0], 2, 0).transpose(2, 0, 1)
    slopes[:, :, exact] = slopes_of(one, step).transpose(1, 2, 0)
    three = fitted[:, len(at1) : len(at1) + len(at2)].reshape(k, len(plain), 3)
    values[:, :, ~exact] = three[None, :, :, 1]
    slopes[:, :, ~exact] = (three[:, :, 2] - three[:, :, 0])[None] / (2.0 * _CENTRAL)
    slopes[:, mine.stepped | mine.held] = 0.0
    return Fitted(times, values, slopes, between, fitted[:, len(at1) + len(at2) :])


def halfway(motion: Motion, target: Target, fitted: Fitted) -> Floats:
    """(K, T - 1) channels of a target halfway between the times of what is fitted, angles in the way round that they have there:
    seen more closely they may go another."""
    times, known = fitted.times, fitted.values[LEAVING]
    at = np.sort(np.concatenate([times, 0.5 * (times[1:] + times[:-1])]))
    found = np.empty((len(known), len(times) - 1))
    first = 0
    while first < len(times) - 1:
        last = min(first + FOLLOWED, len(times) - 1)
        some = at[2 * first : 2 * last + 1]
        made = held(target.mine, _fits(motion, target, some, np.zeros(len(some), dtype=np.int64), known[:, first]))
        off = np.flatnonzero(np.any(np.abs(made[:, 2::2] - known[:, first + 1 : last + 1]) > ROUND, axis=0))
        last = first + 1 + int(off[0]) if len(off) else last
        found[:, first:last] = made[:, 1 : 2 * (last - first) : 2]
        first = last
    return found


def _fits(motion: Motion, target: Target, at: Floats, side: Ints, near: Floats) -> Floats:
    """(K, F) channels of a target along a motion at times in order; each piece of these begins near where the last ended."""
    found = np.empty((len(target.channels), len(at)))
    for some in pieces(len(at)):
        found[:, some] = target.fit(motion.poses(at[some], side[some]), near)
        near = found[:, some.stop - 1]
    return found


def fence(program: Program, curves: Curves, channels: Iterable[int], times: Iterable[float]) -> None:
    """Keys in all these channels at these times that change nothing."""
    names = program.channel_names()
    for c in channels:
        kept = curves.get(names[c], EMPTY)
        for t in times:
            kept = insert(kept, t, float(program.defaults[c]), FENCE)
        curves[names[c]] = kept


def drive(program: Program, bound: Bound, curves: Curves, system: str, first: float, last: float) -> None:
    """One system drives a part from first to last, and whatever did before and after."""
    names = program.channel_names()
    open_end = last >= program.take.last
    for c, level in bound.drive_to(system).items():
        old = curves.get(names[c], EMPTY)
        curves[names[c]] = set_over(old, first, last, open_end, level, float(program.defaults[c]))


def set_over(old: Curve, first: float, last: float, open_end: bool, level: float, default: float) -> Curve:
    """A driver curve held at `level` from first to last and as it was elsewhere."""
    kept = insert(old, first, default)
    arriving = float(sample(old, [first], ARRIVING, default)[0])
    if open_end:
        # The segment that arrives keeps its slope: a driver may just be going over from one system to another.
        slope = kept.key(kept.find(first) or 0).slope_in
        return put(without(kept, first, np.inf), [Key(first, arriving, level, slope, 0.0, STEPPED, FREE)])
    kept = without(insert(kept, last, default), first, last)
    start, end = kept.key(kept.find(first) or 0), kept.key(kept.find(last) or 0)
    return put(
        kept,
        [
            Key(first, arriving, level, start.slope_in, 0.0, STEPPED, FREE),
            end._replace(arriving=level, slope_in=0.0),
        ],
    )


# --- carrying a motion on -------------------------------------------------------------------------------


#: Radians by which an angle swings between two times of a dense motion so that fewer keys may stray between them unseen.
SWINGING = 0.3
#: Frames up to which it is tried whether inserted keys of all channels are fewer than chosen ones.
SHORT = 240.0
#: Frames beyond twice which a motion is carried on a stretch after the other.
LONG = 1000.0
#: What added keys leave of the place (metres) and turn (radians) of a joint in a planted contact: half of what counts as
#: kept, so that it is kept between the frames that are judged too.
HELD = (5e-5, 8.7e-5)


@dataclass(frozen=True)
class Placing:
    """Where keys are put along a motion: on the kept key times, on every frame or every Nth (`nth`), on the kept ones and as many
    more as keep every joint of the cast within `tolerance` (metres and radians), or on as few frames as keep them there; whether
    keys that the target has are `free` to go then. `exact`: times at which the motion must be met, tolerance or not."""

    keys: Literal["kept", "every", "within", "few"] = "kept"
    tolerance: tuple[float, float] = (1e-3, np.pi / 360.0)
    free: bool = False
    nth: int = 1
    exact: tuple[float, ...] = ()


class Hold(NamedTuple):
    """A joint (node), or a point (3,) of one that may turn about it, that stands still from one frame to another, in what it stands
    on; or one that slips there (node `anchor`) from its `place` (3,) in it, by up to `most` metres."""

    node: int
    first: float
    last: float
    point: Floats | None = None
    anchor: int = -1
    place: Floats | None = None
    most: float = 0.0

    def at(self, track: Track, k: int) -> Floats:
        """(F, 3) where it is; k: its number among the nodes of a track."""
        found = track.pos[:, k]
        return found if self.point is None else found + rotate(track.rot[:, k], self.point)

    def slips(self, track: Track, k: int, anchor: int) -> Floats:
        """(F,) how far it is from its place; anchor: the number of what it stands on."""
        assert self.place is not None
        local = rotate(inverse(track.rot[:, anchor]), self.at(track, k) - track.pos[:, anchor])
        found: Floats = np.linalg.norm(local - self.place, axis=1)
        return found


@dataclass(frozen=True)
class Judged:
    """Whose motion added keys must keep, at which joints (nodes), and which of them must not leave their place at all."""

    program: Program
    nodes: Ints
    holds: tuple[Hold, ...] = ()

    @property
    def every(self) -> list[int]:
        """Nodes that are looked at: those that answer, after them those that stand, and what those stand on that slip."""
        return [*self.nodes.tolist(), *(h.node for h in self.holds), *(h.anchor for h in self.holds if h.most)]

    def seen(
        self,
        program: Program,
        at: Floats,
        overrides: Mapping[int, float | Floats] | None = None,
        still: Still | None = None,
    ) -> Track:
        """Where they all are in a program; still: what is known of them there."""
        return Track(*program.track(at, LEAVING, self.every, overrides, still))

    def off(self, at: Floats, now: Track, wanted: Track, tolerance: tuple[float, float]) -> Floats:
        """(F,) how far the worst joint is from where it should be, in what it may be."""
        count = len(self.nodes)
        found = _apart(now, wanted, 0, count, tolerance)
        anchor = count + len(self.holds)
        for k, hold in enumerate(self.holds, count):
            there = (at >= hold.first) & (at <= hold.last)
            if hold.most:
                off = np.maximum(hold.slips(now, k, anchor) - hold.most, 0.0) / HELD[0]
                anchor += 1
            elif hold.point is None:
                off = _apart(now, wanted, k, k + 1, HELD)
            else:
                off = np.linalg.norm(hold.at(now, k) - hold.at(wanted, k), axis=1) / HELD[0]
            found[there] = np.maximum(found, off)[there]
        return found


class Track(NamedTuple):
    """Places (F, N, 3) and rotations (F, N, 4) of some nodes over time."""

    pos: Floats
    rot: Floats

    def some(self, which: Ints) -> Track:
        return Track(self.pos[which], self.rot[which])


def holds_of(program: Program, contact: Contact) -> list[Hold]:
    """What stands still of a contact: its joint while the sole is on, and each point of it while that stands."""
    spots = {s.name: s for s in spots_of(part_of(program, contact))} if contact.points else {}
    found = [Hold(program.nodes[contact.member, contact.joint], contact.first, contact.last)] if contact.whole else []
    for p in (p for p in contact.points if p.name in spots):
        spot = spots[p.name]
        found.append(Hold(program.nodes[contact.member, spot.joints[0]], p.first, p.last, spot.points[0]))
    return found


def slips_of(program: Program, contact: Contact, most: float) -> list[Hold]:
    """The same of a contact that slips as it is, by `most` metres: it is to do so by no more than that."""
    anchor, found = anchor_node(program, contact), []
    at = np.arange(contact.begin, contact.end)
    # What grows under it is no slip, and neither is what a sole grows; neither is told from one here.
    if np.any(program.sizes(at, LEAVING, anchor) != 1.0):
        return []
    grows = bool(np.any(program.sizes(at, LEAVING, program.nodes[contact.member, contact.joint]) != 1.0))
    for hold in (h for h in holds_of(program, contact) if h.point is None or not grows):
        # A point from where it is while the sole is on.
        on = contact.whole and hold.first <= contact.first <= hold.last
        pos, rot = program.track(np.array([contact.first if on else hold.first]), LEAVING, [hold.node, anchor])
        there = Track(pos, rot)
        place = rotate(inverse(rot[0, 1]), hold.at(there, 0)[0] - pos[0, 1])
        found.append(hold._replace(anchor=anchor, place=place, most=max(most, HELD[0])))
    return found


def holding(
    program: Program, start: float, end: float, counts: Callable[[Contact], bool] = lambda _: True
) -> tuple[Hold, ...]:  # fmt: skip
    """Joints in a contact within a stretch, of those contacts that count: in a planted one still, in another no worse than they
    are."""
    there = [c for c in program.take.contacts if c.first < end and c.last > start and counts(c)]
    slips = measure_all(program, there)
    return tuple(
        h for c, s in zip(there, slips, strict=True)
        for h in (holds_of(program, c) if stays(s) else slips_of(program, c, float(s.place.max())))
    )  # fmt: skip


def carry(
    program: Program, target: Target, curves: Curves, start: float, end: float, open_end: bool, placing: Placing,
    motion: Motion | None = None, judged: Judged | None = None,
) -> Floats:  # fmt: skip
    """Expresses the motion of start…end in a target, by default that of the program; returns the key times. `judged`: where
    few keys are measured, by default at every joint of the cast against the program. What is long is done a stretch after the
    other, each on the last key of the one before: what a stretch takes of time and memory does not depend on what is around it."""
    near = program.now(start, target.channels)
    names, standing = [program.channel_names()[c] for c in target.channels], program.defaults[target.channels]
    edges = _stretches(start, end, placing)
    if judged is None:
        judged = Judged(
            program,
            program.joints()[1],
            holding(program, start, end) if placing.keys != "kept" else (),
        )
    motion, found = motion or motion_of(program, target), []
    count = max(1, len(edges) - 1)
    for n in range(count):
        a, b = edges[n], edges[min(n + 1, len(edges) - 1)]
        with stage("", n / count, (n + 1) / count):
            found.append(_carried(program, target, curves, a, b, open_end and b == end, placing, motion, judged, near))
        near = np.array(
            [float(sample(curves.get(x, EMPTY), [b], ARRIVING, d)[0]) for x, d in zip(names, standing, strict=True)]
        )
    for t in edges[1:-1]:
        for name in names:
            if name in curves:
                curves[name] = _healed(curves[name], t)
    return np.unique(np.concatenate(found))


def _stretches(start: float, end: float, placing: Placing) -> list[float]:
    """Where a motion is cut that is carried on a stretch after the other: at whole frames, of which every Nth has a key."""
    step = placing.nth if placing.keys == "every" else 1
    count = int((end - start) // LONG)
    if placing.keys == "kept" or count < 2:
        return [start, end] if end > start else [start]
    inner = [np.ceil(start) + step * round(k * (end - start) / count / step) for k in range(1, count)]
    return [start, *inner, end]


def _healed(c: Curve, time: float) -> Curve:
    """A curve whose two sides meet at a key where the motion was cut alone."""
    k = c.find(time)
    if k is None or abs(c.numbers[k, 1] - c.numbers[k, 2]) > 1e-9 * max(1.0, abs(c.numbers[k, 1])):
        return c
    numbers, marks = c.numbers.copy(), c.marks.copy()
    numbers[k, 2], numbers[k, 4], marks[k, 2] = numbers[k, 1], numbers[k, 3], 0
    return Curve(numbers, marks)


def _around(curves: Mapping[str, Curve], start: float, end: float) -> Curves:
    """What of curves can be felt within a stretch: its keys, and one more on each side."""
    found: Curves = {}
    for name, c in curves.items():
        i = max(int(np.searchsorted(c.times, start)) - 1, 0)
        j = int(np.searchsorted(c.times, end, side="right")) + 1
        found[name] = c if i == 0 and j >= len(c) else Curve(c.numbers[i:j], c.marks[i:j])
    return found


def _carried(
    program: Program, target: Target, curves: Curves, start: float, end: float, open_end: bool, placing: Placing,
    motion: Motion, judged: Judged, near: Floats,
) -> Floats:  # fmt: skip
    """The same for a stretch that is not long; near: values at its start."""
    source = sources(program, target, start, end)
    # Keys are kept where the parents have theirs too; where a tolerance says how near it stays, those of the part are enough.
    own = target.alike if placing.keys in ("within", "few") else None
    key_times = program.key_times(source if own is None else set(own))
    inner = _told_apart(key_times[(key_times > start) & (key_times < end)], np.array([start, end]))
    times = np.concatenate([[start], inner, [end]]) if end > start else np.array([start])
    if placing.keys in ("every", "few"):
        step = placing.nth if placing.keys == "every" else 1
        times = np.union1d(times, _told_apart(np.arange(np.ceil(start), end, step), times))
    crossed = crossings(program, target, times)
    exact = np.array([t for t in placing.exact if start < t < end])
    crossed = np.union1d(crossed, _told_apart(exact, np.union1d(times, crossed)))
    crossed = np.union1d(crossed, times[np.isin(times, exact)])
    both_sides = np.concatenate([[start, end], inner, crossed])
    times = np.unique(np.concatenate([times, crossed]))
    fitted = fit_along(motion, target, times, np.isin(times, both_sides), near)
    # Keys of what carries a part are no reason for keys of a channel that does not move; its own timing stays.
    others = set(target.bound.own.values()) - set(target.channels.tolist())
    told = None if placing.keys == "every" else program.key_times(others)
    keyed = expressed(motion, target, curves, times, both_sides, source, open_end, fitted, told)
    if placing.keys in ("within", "few") and end > start:
        # Few keys are chosen out of dense ones, which must be dense enough: a locked limb may swing far in one frame.
        share = 1.0 if placing.keys == "within" else 0.5
        within = (share * placing.tolerance[0], share * placing.tolerance[1])
        # Halfway between two frames what is judged lies halfway between two keys, or on one.
        split = np.floor(times[times % 1.0 != 0.0]) + 0.5 if placing.keys == "few" else np.empty(0)
        local, old = (
            program.on(replace(program.take, curves=_around(program.take.curves, start, end))),
            _around(curves, start, end),
        )
        more = _told_apart(np.unique(split[(split > start) & (split < end)]), times)
        while len(more) or len(
            more := _beyond(local, target, {**old, **_around(keyed, start, end)}, within, times, judged)
        ):
            # With the first time, so that angles are followed from there.
            new = np.append(start, more)
            other = fit_along(motion, target, new, np.zeros(len(new), dtype=bool), near)
            fitted, agreed = fitted.with_more(other), fitted.agrees(other)
            times = fitted.times
            if not agreed:
                # Seen more closely an angle goes another way round, near where a turn has no angles of its own.
                fitted = fit_along(motion, target, times, np.isin(times, both_sides), near)
            keyed = expressed(motion, target, curves, times, both_sides, source, open_end, fitted, told)
            more = np.empty(0)
    if placing.keys == "few" and end > start:
        keyed = _few(local, target, motion, old, keyed, fitted, crossed, placing, judged)
        if judged.holds and end - start <= SHORT:
            # What stands must hardly move: keys of all channels at the same times may do that with fewer.
            same = dict(curves)
            inserted = replace(placing, keys="within")
            shared = _carried(program, target, same, start, end, open_end, inserted, motion, judged, near)
            if sum(len(same[n]) for n in keyed) < sum(map(len, keyed.values())):
                keyed, times = {n: same[n] for n in keyed}, shared
    curves.update(keyed)
    return times


def _told_apart(times: Floats, others: Floats) -> Floats:
    """Those of some times in order that are apart from each other and from others: between two that rounding alone parts there is
    no slope to take."""
    kept: Floats = times[np.diff(times, prepend=-np.inf) > ROUNDED]
    among = np.concatenate([[-np.inf], np.sort(others), [np.inf]])
    after = np.searchsorted(among, kept)
    found: Floats = kept[np.minimum(kept - among[after - 1], among[after] - kept) > ROUNDED]
    return found


def _few(
    program: Program, target: Target, motion: Motion, old: Curves, keyed: Curves, fitted: Fitted,
    crossed: Floats, placing: Placing, judged: Judged,
) -> Curves:  # fmt: skip
    """As few of the keys at the times of what is fitted as keep every joint within the tolerance. Keys that the target has stay,
    where they are not free to go, and those where a sign steps (`crossed` among them): a limb that is not quite straight there
    would jump."""
    tolerance, times = placing.tolerance, fitted.times
    names = program.channel_names()
    mine = {names[c]: k for k, c in enumerate(target.channels)}
    half = 0.5 * (times[1:] + times[:-1])
    stay = {c: _EMPTY if placing.free else program.curve(c).times for c in target.channels.tolist()}
    # What stands keeps both ends of that: between them it does not move at all.
    stands = [t for h in judged.holds if h.node in target.bound.nodes for t in (h.first, h.last)]
    # A sign may step at a frame, too, at which the limb happens to be straight.
    signs = [keyed[n].numbers for n, k in mine.items() if target.mine.stepped[k]]
    flips = [t for x in signs for t in x[x[:, 1] != x[:, 2], 0].tolist()]
    fixed = {names[c]: np.isin(times, [*t, *crossed, *stands, *flips]) for c, t in stay.items()}
    between = halfway(motion, target, fitted)
    inside = {n: (c.times >= times[0]) & (c.times <= times[-1]) for n, c in keyed.items()}
    dense = {n: Curve(c.numbers[inside[n]], c.marks[inside[n]]) for n, c in keyed.items()}
    middles = {}
    for n, c in dense.items():
        if len(c) == len(times) and not target.mine.stepped[mine[n]]:
            found = between[mine[n]]
            if target.mine.wraps[mine[n]]:
                guess = 0.5 * (c.numbers[:-1, 2] + c.numbers[1:, 1])
                found = whole_turns_near(found, guess)
            middles[n] = found
    at = np.sort(np.concatenate([times, half]))
    wanted = judged.seen(judged.program, at)
    local = _around(keyed, float(times[0]), float(times[-1]))
    live = {names[c]: put(EMPTY, [Key(float(times[0]), v, v, kind=STEPPED)]) for c, v in target.live.items()}
    base = program.with_curves({**old, **local, **live})
    # Whatever is tried moves the target alone.
    still = base.still(at, judged.every, target.channels)
    frames = still.some(slice(None, None, 2)) if still else None
    reach = _reaches(base, target, times, tolerance, judged, frames)
    # Frames and half-frames are judged, and what lies between them where an angle swings far: there none of these may tell.
    swings = [np.abs(np.diff(c.numbers[:, 2])) for n, c in dense.items() if n in middles and target.mine.wraps[mine[n]]]
    most = np.where(2.0 * half == np.round(2.0 * half), 1.0, np.inf)
    k = np.flatnonzero((np.max(swings, axis=0, initial=0.0) > SWINGING) & (most > 1.0))
    for some in (k[piece] for piece in pieces(len(k))):
        # What the dense keys leave there is no fault of fewer.
        seen = judged.seen(base, half[some])
        most[some] = allowed(judged.off(half[some], seen, wanted.some(2 * some + 1), tolerance))

    channels = {n: program.channels[n] for n in dense}
    sampled: dict[str, tuple[Curve, Floats]] = {}

    def values_of(n: str, c: Curve) -> Floats:
        """Values of a channel, sampled anew only where it has another curve than last time."""
        known = sampled.get(n)
        if known is None or known[0] is not c:
            values = sample(c, at)
            # What leaves the last key is not its own.
            values[-1] = base.sample(at[-1:], channels=np.array([channels[n]]))[0, 0]
            known = sampled[n] = c, values
        return known[1]

    def measured(tried: Curves, where: Flags) -> Floats:
        """How far the joints stray."""
        # One program for all that is tried: values in place of what its curves say cost less than another.
        over: dict[int, float | Floats] = {channels[n]: values_of(n, c) for n, c in tried.items() if c is not dense[n]}
        # Of each time that is asked for also what lies halfway to its neighbours, which are needed for that.
        near = where.copy()
        near[1:] |= where[:-1]
        near[:-1] |= where[1:]
        asked_for = np.zeros(len(at), dtype=bool)
        asked_for[::2], asked_for[1::2] = near, near[:-1]
        some = np.flatnonzero(asked_for)
        off = np.zeros(len(at))
        for mine in (some[piece] for piece in pieces(len(some))):
            there = judged.seen(base, at[mine], among(over, mine), still.some(mine) if still else None)
            off[mine] = judged.off(at[mine], there, wanted.some(mine), tolerance)
        # Each time answers for what lies halfway to its neighbours too.
        middle = off[1::2] / most
        found: Floats = np.maximum(off[::2], np.maximum(np.append(middle, 0.0), np.append(0.0, middle)))
        return found

    least, more = (dict(zip((names[c] for c in target.channels), r, strict=True)) for r in reach)
    chosen = choose(dense, middles, fixed, least, more, measured)
    return {n: spliced(keyed[n], c, inside[n]) for n, c in chosen.items()}


def _apart(a: Track, b: Track, first: int, last: int, tolerance: tuple[float, float]) -> Floats:
    """(F,) how far the worst of these joints is from where it is in the other, in tolerances of place or of turn."""
    found = np.zeros(len(a.pos))
    if last > first:
        apart(a.pos, a.rot, b.pos, b.rot, first, last, float(tolerance[0]), float(tolerance[1]), found)
    return found


def _reaches(
    program: Program, target: Target, at: Floats, tolerance: tuple[float, float], judged: Judged, still: Still | None
) -> tuple[Floats, Floats]:  # fmt: skip
    """(K, T) how far each channel may stray by itself at each time before some joint leaves the tolerance, from small steps: to the
    side to which joints follow more, and to the other. An arm that is all but straight follows one side only."""
    values = program.sample(at, channels=target.channels)
    found = np.ones((2, len(target.channels), len(at)))
    step = 1e-4
    for some in pieces(len(at)):
        there = np.tile(at[some], 2)
        twice = still.some(np.tile(np.arange(some.start, some.stop), 2)) if still else None
        was = judged.seen(program, there, None, twice)
        for k, c in enumerate(target.channels):
            if not target.mine.stepped[k]:
                moved = np.concatenate([values[k][some] + step, values[k][some] - step])
                now = judged.seen(program, there, {int(c): moved}, twice)
                both = step / np.maximum(judged.off(there, now, was, tolerance), 1e-9)
                found[:, k, some] = np.sort(both.reshape(2, -1), axis=0)
    return found[0], found[1]


def sources(program: Program, target: Target, start: float, end: float) -> set[int]:
    """Channels that the motion of a target is made of over a stretch: the live ones, and all upstream of its joints and of
    the spaces in which it is fitted."""
    if target.made_of is not None:
        return set(target.made_of)
    at = np.unique(np.append(np.arange(np.ceil(start), end), [start, end]))
    return program.sources(target.sources, at)


def expressed(
    motion: Motion, target: Target, old_curves: Mapping[str, Curve], times: Floats, both_sides: Floats,
    source: set[int], open_end: bool, fitted: Fitted | None = None, told: Floats | None = None,
) -> Curves:  # fmt: skip
    """Curves of a target with keys at these times along a motion; slopes are taken from both sides at the times in
    `both_sides`. What lies before the first and after the last time stays. `fitted`: what is fitted at these times, where that is
    known; `told`: times at which a channel that stands still has a key too, beside its own; by default all of them."""
    program = motion.program
    mine = target.mine
    start, end = float(times[0]), float(times[-1])
    names = program.channel_names()
    fitted = fitted or fit_along(motion, target, times, np.isin(times, both_sides), program.now(start, mine.channels))
    # On top of motion of its own nothing stands still.
    blocked = np.zeros(len(times), dtype=bool) if target.moves_alone else stepped_intervals(program, source, times)
    signs = _signs(program, target, times)
    found: Curves = {}
    for k, c in enumerate(mine.channels):
        name = names[c]
        old = old_curves.get(name, EMPTY)
        default = float(program.defaults[c])
        kept = insert(old, start, default)
        if end > start:
            kept = insert(kept, end, default)
        kept = without(kept, start, end)
        v_in, v_out = fitted.values[ARRIVING, k].copy(), fitted.values[LEAVING, k].copy()
        s_in, s_out = fitted.slopes[ARRIVING, k].copy(), fitted.slopes[LEAVING, k].copy()
        kinds = np.where(blocked, STEPPED, SMOOTH)
        wanted = np.ones(len(times), dtype=bool)
        if mine.stepped[k]:
            kinds[:] = STEPPED
            if signs is not None and not mine.held[k]:
                stepping = signs[int(mine.stepped[:k].sum())]
                v_in, v_out = np.append(stepping[0], stepping[:-1]), stepping.copy()
            # Only where it steps is there a key between the ends.
            wanted[1:-1] = v_out[1:-1] != v_out[:-2]
        elif told is not None and _stands(v_in[1:], v_out[:-1], s_in[1:], s_out[:-1]):
            wanted[1:-1] = np.isin(times[1:-1], np.union1d(told, old.times))
        within = slice(1, -1)
        same = np.abs(v_in - v_out) <= 1e-12 * np.maximum(1.0, np.abs(v_in))
        v_out[within] = np.where(same, v_in, v_out)[within]
        first = kept.key(kept.find(start) or 0)
        v_in[0], s_in[0] = first.arriving, first.slope_in
        if end > start:
            last = kept.key(kept.find(end) or 0)
            kinds[-1] = STEPPED if mine.stepped[k] else SMOOTH
            if not open_end:
                v_out[-1], s_out[-1] = last.leaving, last.slope_out
                kinds[-1] = STEPPED if mine.stepped[k] else last.kind
        marks = np.zeros((len(times), 4), dtype=np.uint8)
        marks[:, 0], marks[:, 1], marks[[0, -1], 2] = kinds, FREE, FENCE
        made = Curve(np.stack([times, v_in, v_out, s_in, s_out], axis=1)[wanted], marks[wanted])
        found[name] = spliced(kept, made, (kept.times >= start) & (kept.times <= end))
    return found


def _stands(arriving: Floats, leaving: Floats, slopes_in: Floats, slopes_out: Floats) -> bool:
    """Whether a channel stands still from its first key to its last: values and slopes on the sides that face one another."""
    values, slopes = np.concatenate([leaving, arriving]), np.concatenate([slopes_out, slopes_in])
    return bool(len(values) > 2 and np.ptp(values) <= ROUNDING and np.abs(slopes).max() <= ROUNDING)


def _beyond(
    program: Program, target: Target, curves: Curves, tolerance: tuple[float, float], times: Floats, judged: Judged
) -> Floats:
    """Where keys are wanted for the tolerance: the whole frame nearest to the worst of each segment that leaves it,
    or its middle where no frame lies between its keys. None where the segment is too short to be cut."""
    after = program.with_curves(curves)
    at = np.arange(2 * np.ceil(times[0]), 2 * times[-1] + 0.5) / 2.0
    at = at[(at > times[0]) & (at < times[-1]) & ~np.isin(at, times)]
    if not len(at):
        return np.empty(0)
    overrides: dict[int, float | Floats] = {**target.live}
    # What hangs from the part, or follows it, is to stay within the tolerance too.
    off = np.empty(len(at))
    for some in pieces(len(at)):
        now, was = judged.seen(after, at[some], overrides), judged.seen(judged.program, at[some])
        off[some] = judged.off(at[some], now, was, tolerance)
    segment = np.searchsorted(times, at) - 1
    found = []
    for k in np.unique(segment[off > 1.0]):
        mine = np.flatnonzero(segment == k)
        worst = float(at[mine[np.argmax(off[mine])]])
        low, high = float(times[k]), float(times[k + 1])
        whole = [f for f in (np.floor(worst), np.ceil(worst)) if low < f < high]
        if whole:
            found.append(float(whole[0]))
        elif high - low > 0.3:
            found.append(0.5 * (low + high))
    return np.array(found)


def _side_of(program: Program, target: Target, at: Floats, side: int = LEAVING) -> Floats | None:
    """(S, F) what changes its sign where each sign channel of the system steps; None without one."""
    if not (target.signs and target.mine.stepped.any()):
        return None
    found = []
    for some in pieces(len(at)):
        poses = program.evaluate(at[some], side, only=target.nodes)
        signs = target.mine.system.signs(target.bound, program.posed(target.bound, poses))
        if signs is None:
            return None
        found.append(signs)
    return np.concatenate(found, axis=1) if found else np.empty((0, 0))


def crossings(program: Program, target: Target, times: Floats) -> Floats:
    """Times between these at which a sign of the system steps: a limb passes through straight, or through its full fold.

    A key of all channels at that very moment lets it step without a jump: the limb is straight on both sides.
    """
    grid = np.unique(np.concatenate([times, np.arange(np.ceil(2.0 * times[0]), 2.0 * times[-1]) / 2.0]))
    if len(grid) < 2:
        # From the last frame of a take on nothing lies between.
        return np.empty(0)
    leaving = _side_of(program, target, grid[:-1])
    arriving = _side_of(program, target, grid[1:], ARRIVING)
    if leaving is None or arriving is None:
        return np.empty(0)
    passed = (leaving * arriving < 0.0) & (np.abs(leaving) > NOTED) & (np.abs(arriving) > NOTED)
    which, across = np.nonzero(passed)
    if not len(across):
        return np.empty(0)
    # Takes half a second to import, and a start does not wait for it.
    from scipy.optimize.elementwise import find_root

    def side(t: Floats, row: Ints) -> Floats:
        found = _side_of(program, target, t)
        assert found is not None
        of: Floats = np.take_along_axis(found, row[None], axis=0)[0]
        return of

    found = find_root(
        side, (grid[across] + 1e-9, grid[across + 1] - 1e-9), args=(which,), tolerances={"xatol": 1e-12, "xrtol": 0.0}
    )
    return np.unique(found.x[found.success])


def _signs(program: Program, target: Target, times: Floats) -> Floats | None:
    """(S, T) signs of the segments that leave these times; the last one is that of the segment before. Where a limb stays
    straight its sign says nothing, and that of the segment before goes on: noise would step it at every key."""
    at = times if len(times) == 1 else (times[:-1, None] + np.diff(times)[:, None] * _WITHIN).ravel()
    sides = _side_of(program, target, at)
    if sides is None:
        return None
    if len(times) > 1:
        many = sides.reshape(len(sides), -1, len(_WITHIN))
        sides = np.take_along_axis(many, np.abs(many).argmax(axis=2)[..., None], axis=2)[..., 0]
        # What joins the segments on both sides is what both ends say, where neither says the other side; a limb that only dips
        # through straight between them is off by that little there, and jumps nowhere.
        ends = [_side_of(program, target, t, k) for t, k in ((times[:-1], LEAVING), (times[1:], ARRIVING))]
        first, last = (np.where(np.abs(e) > NOTED, e, 0.0) for e in ends if e is not None)
        sides = np.where((first * last >= 0.0) & (first + last != 0.0), first + last, sides)
    found = np.array([_carried_on(side) for side in sides])
    return found if len(times) == 1 else np.concatenate([found, found[:, -1:]], axis=1)


def _carried_on(side: Floats) -> Floats:
    """(F,) its signs, each where it says nothing that of the one before it."""
    told = np.flatnonzero(np.abs(side) > STRAIGHT)
    if not len(told):
        return np.full(len(side), float(np.where(side[0] < 0.0, -1.0, 1.0)))
    last = np.maximum(np.searchsorted(told, np.arange(len(side)), side="right") - 1, 0)
    return np.where(side[told[last]] < 0.0, -1.0, 1.0)


def stepped_intervals(program: Program, source: set[int], times: Floats) -> np.ndarray:
    """(T,) whether the segment that leaves each time is held by stepped keys in every channel it comes from."""
    blocked = np.ones(len(times), dtype=bool)
    keyed = False
    for c in source:
        member, part, channel = program.info[c]
        if channel.system and program.bounds[member, part.name].systems[channel.system].system.moves_alone:
            return np.zeros(len(times), dtype=bool)
        kept = program.curve(c)
        if not len(kept) or channel.kind == "share":
            continue
        i = np.searchsorted(kept.times, times, side="right") - 1
        inside = (i >= 0) & (i < len(kept) - 1)
        stepped = ~inside | (kept.marks[np.maximum(i, 0), 0] == STEPPED)
        blocked &= stepped
        keyed |= bool(inside.any())
    return blocked if keyed else np.zeros(len(times), dtype=bool)


# --- one moment -----------------------------------------------------------------------------------------


def fit_at(program: Program, target: Target, at: float, side: int) -> Fitted:
    """A target fitted to what arrives at a moment and to what leaves it, with the speeds; the part's controls in the spaces
    that they follow on one side of the moment, but for the target's own weights."""
    bound = target.bound
    weights = {c: float(program.now(at, [c], side)[0]) for c in bound.space_channels}
    motion = motion_of(program, replace(target, weights={**weights, **target.weights}))
    near = program.now(at, target.channels)
    return fit_along(motion, target, np.array([at]), np.array([True]), near)


def join(program: Program, target: Target, curves: Curves, at: float, settle: float) -> None:
    """Makes a system that takes over at a moment meet the pose and the speed that arrive there: its first key is
    changed in `curves`, the keys after it stay. Where none follow, the speed fades over `settle` frames; a system that
    moves by itself goes back to its own motion."""
    names = program.channel_names()
    mine = target.mine
    near = program.now(at, mine.channels)
    fitted = fit_at(program, target, at, LEAVING)
    values = np.array(_nearest_turns(mine.wraps, fitted.values[ARRIVING, :, 0], near))
    slopes = fitted.slopes[ARRIVING, :, 0].copy()
    if mine.system.moves_alone:
        # What is met already needs no adjustment: the rounding of a fit would stay on top of a motion of its own.
        values = np.where(np.abs(values - mine.standard) <= ROUNDING, mine.standard, values)
        slopes[np.abs(slopes) <= ROUNDING] = 0.0
    for k, c in enumerate(mine.channels):
        kept = insert(curves.get(names[c], EMPTY), at, float(program.defaults[c]))
        key = kept.key(kept.find(at) or 0)
        value = float(values[k])
        slope = 0.0 if key.kind == STEPPED else float(slopes[k])
        keys = []
        if key.kind == LINEAR and kept.times[-1] > at:
            # A straight segment can't take a speed over: it becomes a smooth one that ends as it did.
            after = kept.key((kept.find(at) or 0) + 1)
            chord = (after.arriving - value) / (after.time - at)
            keys.append(after._replace(slope_in=chord, rule=FREE))
            key = key._replace(kind=SMOOTH)
        if kept.times[-1] == at:
            # Nothing follows: the pose is kept, and the speed it arrived with fades.
            fade = min(settle, program.take.last - at)
            if fade and not mine.stepped[k]:
                rest = float(mine.standard[k]) if mine.system.moves_alone else value + slope * fade / 3.0
                keys.append(Key(at + fade, rest, rest, 0.0, 0.0, SMOOTH, FREE))
            else:
                slope = 0.0
        kind = STEPPED if mine.stepped[k] else key.kind
        keys.append(key._replace(leaving=value, slope_out=slope, rule=FREE, kind=kind))
        curves[names[c]] = put(kept, keys)


def bends_otherwise(program: Program, target: Target, at: float) -> bool:
    """Whether what arrives at a moment bends to another side than the keys that follow there say: a system that meets it would bend
    all of them over."""
    mine = target.mine
    later = [
        k for c in mine.channels[~mine.stepped].tolist() if (k := program.curve(c)).times[-1:].max(initial=-np.inf) > at
    ]
    signs = mine.stepped & ~mine.held
    if not (later and signs.any()):
        return False
    fitted = fit_at(program, target, at, LEAVING).values[ARRIVING, signs, 0]
    return bool(np.any(fitted != program.now(at, mine.channels[signs])))


def lead(program: Program, target: Target, curves: Curves, at: float) -> float:
    """Leads the last stretch of a system that hands over at a moment to the pose and the speed that leave it: for what
    takes over and can't give way. Returns from when on the motion changes."""
    mine = target.mine
    names = program.channel_names()
    fitted = fit_at(program, target, at, ARRIVING)
    first = at
    for k, c in enumerate(mine.channels):
        kept = insert(curves.get(names[c], EMPTY), at, float(program.defaults[c]))
        i = kept.find(at) or 0
        key = kept.key(i)._replace(
            arriving=float(fitted.values[LEAVING, k, 0]), slope_in=float(fitted.slopes[LEAVING, k, 0]), rule=FREE
        )
        curves[names[c]] = put(kept, [key])
        first = min(first, float(kept.times[i - 1]) if i else float(program.take.first))
    return first


@dataclass(frozen=True)
class Settling:
    """What becomes of the speed of a held pose over `frames`: it leads where it leads ("keep"), back onto the pose
    ("settle"), or stops at once ("stop")."""

    speed: Literal["keep", "settle", "stop"] = "keep"
    frames: float = 4.0

    @property
    def fade(self) -> float:
        return 0.0 if self.speed == "stop" else self.frames


def hold(program: Program, target: Target, curves: Curves, first: float, last: float, settling: Settling) -> None:
    """Holds the pose that arrives at `first` in a system until `last`; what lies beyond stays."""
    mine = target.mine
    names = program.channel_names()
    # What arrives is the pose to hold; at the very start of a take nothing does, and what its keys arrive with is of no account.
    fitted = fit_at(program, target, first, LEAVING)
    side = ARRIVING if first > program.take.first else LEAVING
    open_end = last >= program.take.last
    for k, c in enumerate(mine.channels):
        sign = bool(mine.stepped[k])
        value = float(fitted.values[side, k, 0])
        slope = float(fitted.slopes[side, k, 0])
        kept = insert(curves.get(names[c], EMPTY), first, float(program.defaults[c]))
        kept = (
            without(kept, first, np.inf)
            if open_end
            else without(insert(kept, last, float(program.defaults[c])), first, last)
        )
        start = kept.key(kept.find(first) or 0)
        settle = min(settling.fade, last - first)
        rest = value + (slope * settle / 3.0 if settling.speed == "keep" else 0.0)
        kind = STEPPED if sign else SMOOTH
        keys = [
            start._replace(leaving=value, slope_out=slope if settle else 0.0, kind=kind, rule=FREE, tag=FENCE)
        ]  # fmt: skip
        if settle and first + settle < last:
            keys.append(Key(first + settle, rest, rest, 0.0, 0.0, kind, FREE))
        if not open_end:
            end = kept.key(kept.find(last) or 0)
            keys.append(end._replace(arriving=rest, slope_in=0.0, rule=FREE, tag=FENCE))
        elif settle and first + settle >= last:
            keys.append(Key(last, rest, rest, 0.0, 0.0, kind, FREE, FENCE))
        curves[names[c]] = put(kept, keys)


def _nearest_turns(wraps: np.ndarray, values: Floats, near: Floats) -> list[float]:
    """Angles put into the whole turn nearest to the keys that follow."""
    return [
        float(wrap_near(value, other)) if turns else float(value)
        for turns, value, other in zip(wraps, values, near, strict=True)
    ]
