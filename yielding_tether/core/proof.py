"""The proof: a measured account of an operation, from evaluated joints before and after.

Nothing here knows what the operation believes it did; it sees two takes and a range. It finds by itself which parts
changed, and measures both sides of every change of system or tether, of every split key, and of the range's edges.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import field, replace
from itertools import zip_longest
from typing import Literal

import numpy as np
from pydantic import computed_field
from pydantic.dataclasses import dataclass

from .channels import TRAITS
from .contacts import STILL, measure_all, part_of
from .contacts import reads as contact_reads
from .curves import ARRIVING, EMPTY, FLIGHT, LEAVING, Curve, count_changes
from .measure import STEP, Limits, one_sided, speed_range
from .program import Program, pieces
from .rig import Bound
from .takes import WORLD, Contact, Take
from .transforms import Floats, rotation_distance

#: What counts as no movement at all, metres and radians.
EXACT = 1e-6
#: What counts as unchanged outside, metres and radians.
UNCHANGED = 1e-9
#: Share of a part's speed range that its speed may jump at a change; at least 1e-6 a frame.
SPEED_SHARE = 1e-4
#: An operation keeps a contact that it lets slip (metres) or turn (radians) by no more than this.
KEPT_PLACE, KEPT_TURN = 1e-4, 1.75e-4
#: A sole this deep in what it stands on is told, metres.
SUNK = 1e-5
#: Metres from what it stands on or holds farther than which an end is not on it.
AWAY = 0.03
#: A control this far from the joint that rests on it is out of reach, metres.
OUT_OF_REACH = 1e-4


@dataclass(frozen=True)
class Change:
    """One part at one moment: one-sided jumps after and before the operation. `what`: a change of "system" or tether, a
    "split" key, or an "edge" of the range.

    Metres, radians, and both per frame; `allowed_*` is the bound that 3-motion gives for speed. `reason`: why no speed
    can be passed on there, if none can; `wanted`: whether its jump is meant, as where something is caught.
    """

    member: str
    part: str
    label: str
    frame: float
    pose: float
    turn: float
    speed: float
    spin: float
    allowed_speed: float
    allowed_spin: float
    pose_before: float
    turn_before: float
    speed_before: float
    spin_before: float
    reason: str = ""
    what: Literal["system", "split", "edge"] = "system"
    wanted: bool = False

    @property
    def still(self) -> bool:
        """Whether nothing moves at the change."""
        return self.pose <= EXACT and self.turn <= EXACT

    @property
    def as_before(self) -> bool:
        """Whether the operation adds no jump of place: one that was there may stay."""
        return self.pose <= self.pose_before + EXACT and self.turn <= self.turn_before + EXACT

    @property
    def smooth(self) -> bool:
        """Whether the operation adds no jump of speed: a kink that was there may stay."""
        return (
            self.speed <= self.speed_before + self.allowed_speed and self.spin <= self.spin_before + self.allowed_spin
        )

    @property
    def steady(self) -> bool:
        """Whether no speed jumps at all."""
        return self.speed <= self.allowed_speed and self.spin <= self.allowed_spin


@dataclass(frozen=True)
class Held:
    """One contact of the take at quarter-frames: how far its joint slips (metres) and turns (radians) in what it stands on, how
    deep a sole sinks into that and how high it hovers over it (metres), and did before the operation; `frame`: where it slips
    most; `new`: the operation brought it; `more`: by how much more than before it slips at any one moment (metres), beyond a
    tolerance that was asked for, and `more_at`: when."""

    member: str
    part: str
    label: str
    first: float
    last: float
    frame: float
    place: float
    turn: float
    place_before: float
    turn_before: float
    new: bool = False
    depth: float = 0.0
    hover: float = 0.0
    depth_before: float = 0.0
    hover_before: float = 0.0
    more: float = 0.0
    more_at: float = 0.0

    @property
    def kept(self) -> bool:
        """Whether the operation adds no slip and no turn: where something slipped already, at no moment, but for one that slips
        less in all."""
        return self._no_worse and (self.better or self.more <= KEPT_PLACE)

    @property
    def _no_worse(self) -> bool:
        return self.place <= self.place_before + KEPT_PLACE and self.turn <= self.turn_before + KEPT_TURN

    @property
    def between(self) -> bool:
        """Whether it slips more than before only at moments at which it slips less than it does at most."""
        return self._no_worse and not self.kept

    @property
    def better(self) -> bool:
        """Whether the operation takes slip or turn away."""
        return self.place < self.place_before - KEPT_PLACE or self.turn < self.turn_before - KEPT_TURN


@dataclass(frozen=True)
class Worst:
    """The greatest value of something, and where: frame and joint."""

    value: float = 0.0
    frame: float = 0.0
    joint: str = ""


@dataclass(frozen=True)
class KeyCount:
    kept: int = 0
    added: int = 0
    removed: int = 0


@dataclass(frozen=True)
class Proof:
    """`departure_*`: how far the motion inside the range left what was there; `outside_*`: the same outside
    (place in metres, rotation in radians); `residual_*`: what locked channels kept the systems from
    reproducing, with the channels that could give way; `tolerance`: what the departure was asked to stay within; `contacts`:
    those of the take that the operation could have moved, or that are new."""

    operation: str
    first: float
    last: float
    changes: tuple[Change, ...]
    departure_place: Worst
    departure_turn: Worst
    outside_place: Worst
    outside_turn: Worst
    keys: KeyCount
    residual_place: float = 0.0
    residual_turn: float = 0.0
    gives: dict[str, float] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    tolerance: tuple[float, float] | None = None
    contacts: tuple[Held, ...] = ()

    @computed_field  # type: ignore[prop-decorator]
    @property
    def contacts_kept(self) -> bool:
        """Whether no contact slips or turns more than it did."""
        return all(c.kept for c in self.contacts)

    @computed_field  # type: ignore[prop-decorator]
    @property
    def within(self) -> bool:
        """Whether the departure stays within the tolerance, where one was given."""
        return self.tolerance is None or (
            self.departure_place.value <= self.tolerance[0] and self.departure_turn.value <= self.tolerance[1]
        )

    @computed_field  # type: ignore[prop-decorator]
    @property
    def worst_frame(self) -> float:
        """The frame most worth looking at: the worst change if any moves, else the greatest departure."""
        moving = [c for c in self.changes if not (c.still and c.smooth)]
        if moving:
            return max(moving, key=lambda c: (0.0 if c.still else c.pose, c.speed)).frame
        return self.departure_place.frame

    @property
    def unchanged_outside(self) -> bool:
        return self.outside_place.value <= UNCHANGED and self.outside_turn.value <= UNCHANGED

    @computed_field  # type: ignore[prop-decorator]
    @property
    def clean(self) -> bool:
        """Nothing moves at any change, no speed jumps that is not meant to, nothing changed outside."""
        return all(c.still and (c.smooth or c.wanted) for c in self.changes) and self.unchanged_outside

    @computed_field  # type: ignore[prop-decorator]
    @property
    def sentence(self) -> str:
        """The proof in one line."""
        return _sentence(self)


def reach(before: Take, changed: Mapping[str, Curve]) -> tuple[float, float]:
    """From which frame to which changed curves can be felt: the keys that differ and the segments beside them."""
    first, last = float(before.first), float(before.last)
    lows, highs = [], []
    for name, new in changed.items():
        old = before.curves.get(name, EMPTY)
        if old is new:
            continue
        a = {k.time: k for k in old.all_keys()}
        b = {k.time: k for k in new.all_keys()}
        differing = [t for t in a.keys() | b.keys() if a.get(t) != b.get(t)]
        if differing:
            same = [t for t in a.keys() & b.keys() if a[t] == b[t]]
            lows.append(max((t for t in same if t < min(differing)), default=first))
            highs.append(min((t for t in same if t > max(differing)), default=last))
    return max(min(lows, default=first), first), min(max(highs, default=last), last)


def sample_times(program: Program) -> Floats:
    """(T,) every frame and half-frame of the take."""
    take = program.take
    return np.arange(2 * take.first, 2 * take.last + 1, dtype=np.float64) / 2.0


#: Frames by which times may be off a key by rounding, and over which it is read how fast a take goes by.
ROUNDING, PACE = 1e-9, 1e-3
#: When what is seen at times (T,) of a take, as these arrive or leave, was seen in the one before.
Then = Callable[[Floats, int], Floats]


def same_time(times: Floats, side: int = LEAVING) -> Floats:
    """Nothing came earlier or later."""
    return times


class _Worsts:
    """The greatest difference of place and rotation between two takes over many times, and who moved at all."""

    def __init__(self, before: Program, after: Program, then: Then) -> None:
        self.place = Worst()
        self.turn = Worst()
        self._before, self._after, self._then = before, after, then
        # An operation may add tethers, never joints: the names are the same, the nodes need not be.
        self._names, self._old = before.joints()
        self._new = after.joints()[1]
        self.moved = np.zeros(len(self._names), dtype=bool)

    def add(self, times: Floats, side: int = LEAVING) -> None:
        for some in pieces(len(times)):
            at = times[some]
            old = self._before.evaluate(self._then(at, side), side, only=self._old)
            new = self._after.evaluate(at, side, only=self._new)
            place = np.linalg.norm(new.pos[:, self._new] - old.pos[:, self._old], axis=-1)
            turn = rotation_distance(new.rot[:, self._new], old.rot[:, self._old])
            self.moved |= (place > UNCHANGED).any(axis=0) | (turn > UNCHANGED).any(axis=0)
            self.place = worse(self.place, place, at, self._names)
            self.turn = worse(self.turn, turn, at, self._names)


def worse(sofar: Worst, values: Floats, times: Floats, names: list[tuple[str, str]]) -> Worst:
    t, n = np.unravel_index(int(np.argmax(values)), values.shape)
    if float(values[t, n]) <= sofar.value and sofar.joint:
        return sofar
    return Worst(float(values[t, n]), float(times[t]), names[n][1])


def switch_times(program: Program, bound: Bound) -> list[float]:
    """Times within the take at which what drives a part, or what its controls follow, steps."""
    take = program.take
    switches = np.array(bound.switches, dtype=np.int64)
    times = program.key_times(switches.tolist())
    times = times[(times > take.first) & (times <= take.last)]
    if not len(times):
        return []
    arriving, leaving = (program.sample(times, side, switches) for side in (ARRIVING, LEAVING))
    found: list[float] = times[np.any(arriving != leaving, axis=0)].tolist()
    return found


def split_times(program: Program, bound: Bound) -> list[float]:
    """Times within the take at which a channel of a part has one value as time arrives and another as it leaves: by a
    split key, or by a sign that steps. Other channels step from key to key where an animator blocks a motion out."""
    take = program.take
    found: set[float] = set()
    for c in set(bound.own.values()) - set(bound.switches):
        stepped = TRAITS[program.info[c][2].kind].stepped
        for kept in program.curves_of(c):
            found.update((kept.steps if stepped else kept.breaks).tolist())
    return sorted(t for t in found if take.first < t <= take.last)


def _moments(
    before: Program, after: Program, bound: Bound, first: float, last: float
) -> dict[float, Literal["system", "split", "edge"]]:
    """Moments of one part to measure, and what they are."""
    found: dict[float, Literal["system", "split", "edge"]] = dict.fromkeys((first, last), "edge")
    for program in (before, after):
        mine = program.bounds[bound.id]
        found |= dict.fromkeys((t for t in split_times(program, mine) if first <= t <= last), "split")
    for program in (before, after):
        mine = program.bounds[bound.id]
        found |= dict.fromkeys((t for t in switch_times(program, mine) if first <= t <= last), "system")
    return found


def changed_parts(before: Program, after: Program) -> list[Bound]:
    """Parts whose own curves differ."""
    found = []
    for id, bound in after.bounds.items():
        old = before.bounds[id]
        pairs: list[tuple[Curve, Curve]] = []
        for name in {p.channel_names()[c] for p, b in ((after, bound), (before, old)) for c in b.own.values()}:
            one, two = (p.curves_of(p.channels[name]) if name in p.channels else [EMPTY] for p in (before, after))
            pairs += zip_longest(one, two, fillvalue=EMPTY)
        if any(a is not b and a != b for a, b in pairs):
            found.append(bound)
    return found


def measure_changes(
    before: Program, after: Program, bounds: Sequence[Bound], first: float, last: float, then: Then = same_time
) -> tuple[Change, ...]:
    """One-sided jumps of parts at every moment worth measuring from first to last, in both takes; then: when that was before."""
    if not bounds:
        return ()
    # Where frames came or went, moments of the take before are those of the one after, at other times.
    both = (before, after) if then is same_time else (after, after)
    moments = {b.id: _moments(*both, b, first, last) for b in bounds}
    times = np.array(sorted({t for found in moments.values() for t in found}))
    nodes = np.concatenate([b.nodes for b in bounds])
    old_nodes = np.concatenate([before.bounds[b.id].nodes for b in bounds])
    at, pace = _before(before, times, then)
    now, old_limits = one_sided(after, times, nodes), one_sided(before, at, old_nodes)
    found = []
    start = 0
    for bound in bounds:
        mine = slice(start, start + len(bound.nodes))
        start = mine.stop
        speed, spin = speed_range(before, before.bounds[bound.id].nodes)
        allowed = max(SPEED_SHARE * speed, EXACT), max(SPEED_SHARE * spin, EXACT)
        for t, what in sorted(moments[bound.id].items()):
            k = int(np.searchsorted(times, t))
            jumps, old = _jumps(now, k, mine), _jumps(old_limits, k, mine)
            old = (*old[:2], pace[k] * old[2], pace[k] * old[3])
            reason = ""
            wanted = flies(after, bound, t)
            if jumps[2] > old[2] + allowed[0] or jumps[3] > old[3] + allowed[1]:
                thrown = f"{bound.part.label} is let go or caught at frame {t:.6g}: its speed jumps {_mm(jumps[2])} a frame there"
                reason = (thrown if wanted else unmatched_speed(after, bound, t)) or (
                    "" if now.converged[k, mine].all() else f"{bound.part.label} has no settled speed at frame {t:.6g}"
                )
            found.append(
                Change(
                    bound.member.id, bound.part.name, bound.part.label, t, *jumps, *allowed, *old, reason, what, wanted
                )
            )
    return tuple(c for c in found if c.what != "edge" or not (c.still and c.steady) or first == last)


def _before(before: Program, times: Floats, then: Then) -> tuple[Floats, Floats]:
    """When it was in the take before that is seen at times (T,), at its very keys where it is them but for rounding; and how many
    of its frames went by in one of these."""
    if then is same_time:
        return times, np.ones(len(times))
    at, keys = then(times, LEAVING), before.key_times()
    if len(keys):
        after = np.minimum(np.searchsorted(keys, at), len(keys) - 1)
        for near in (keys[after], keys[np.maximum(after - 1, 0)]):
            at = np.where(np.abs(at - near) <= ROUNDING, near, at)
    rates = [(then(times + by, k) - then(times, k)) / by for by, k in ((PACE, LEAVING), (-PACE, ARRIVING))]
    pace: Floats = np.maximum(*rates)
    return at, pace


def _jumps(limits: Limits, k: int, nodes: slice) -> tuple[float, float, float, float]:
    """Greatest jumps of place, rotation, speed and spin of some nodes at time k."""
    return (
        float(limits.pose_jump[k, nodes].max()),
        float(limits.turn_jump[k, nodes].max()),
        float(limits.speed_jump[k, nodes].max()),
        float(limits.spin_jump[k, nodes].max()),
    )


def flies(program: Program, bound: Bound, t: float) -> bool:
    """Whether a flight begins or ends at t: the speeds with which something is thrown and caught are no fault."""
    channels = [c for control in bound.controls.values() for c in control.channels]
    found = [(kept, kept.find(t)) for kept in map(program.curve, channels)]
    return any(i is not None and kept.marks[i, 2] == FLIGHT for kept, i in found)


def unmatched_speed(program: Program, bound: Bound, frame: float) -> str:
    """Why no finite slope passes a part's speed on at a frame, or nothing if one can."""
    # Speeds are measured over an eighth of a frame on both sides: what happens there counts.
    near = frame + np.linspace(-4.0, 4.0, 9) * STEP
    posed = program.posed(bound, program.evaluate(near, only=program.fit_nodes([bound])))
    for mine in bound.systems.values():
        why = mine.system.singular(bound, posed)
        if why:
            return f"{bound.part.label} {why} at frame {frame:.6g}: no finite slope passes its speed on there"
    return ""


def unreached(program: Program, bound: Bound, frames: Floats) -> list[tuple[float, float, float]]:
    """Stretches (first, last, greatest metres) of frames over which a joint does not reach the control it rests on, while
    that control's system drives alone; of a part with several such the farthest at each frame."""
    off = np.zeros(len(frames))
    driving = bound.driving(program.sample(frames, LEAVING, bound.driver_channels))
    for k, mine in enumerate(bound.systems.values()):
        driven = driving == k
        for control in mine.controls if driven.any() else ():
            placed = bound.controls.get(control.name)
            if placed is None or not control.stands or bound.part.free or control.rests_on not in bound.part.joints:
                # What hangs from nothing is wherever its control puts it.
                continue
            joint = program.nodes[bound.member.id, control.rests_on]
            aim = mine.system.aim(bound, control.name)
            poses = program.evaluate(frames[driven], only=[joint, aim])
            off[driven] = np.maximum(off[driven], np.linalg.norm(poses.pos[:, joint] - poses.pos[:, aim], axis=1))
    far = np.concatenate([[False], off > OUT_OF_REACH, [False]])
    edges = np.flatnonzero(far[1:] != far[:-1])
    return [
        (float(frames[a]), float(frames[b]), float(off[a : b + 1].max()))
        for a, b in zip(edges[::2], edges[1::2] - 1, strict=True)
    ]


def prove(
    operation: str,
    before: Program,
    after: Program,
    first: float,
    last: float,
    *,
    residual: tuple[float, float] = (0.0, 0.0),
    gives: dict[str, float] | None = None,
    notes: tuple[str, ...] = (),
    tolerance: tuple[float, float] | None = None,
    then: Then = same_time,
) -> Proof:
    """Measures an operation on the range first…last (frames; the end of the take counts as inside).

    Both takes are compared at every frame and half-frame on every joint of the cast; at the edges of the range
    the side that lies outside is compared as outside. then: where frames came or went, when it was in the take before what is
    seen at a time of the one after.
    """
    if before.take.anchors != after.take.anchors:
        # One that comes or goes is there in both, so that who followed it can be compared.
        every = {a.id: a for a in (*before.take.anchors, *after.take.anchors)}
        before, after = (p.on(replace(p.take, anchors=tuple(every.values()))) for p in (before, after))
    seen = before if then is same_time else after
    times = np.unique(np.concatenate([sample_times(seen), [first, last]]))
    open_end = last >= seen.take.last
    inside = (times >= first) & ((times < last) | (open_end & (times <= last)))
    within, outside = _Worsts(before, after, then), _Worsts(before, after, then)
    # In pieces, so that a long capture does not need all its poses at once.
    for chunk in np.array_split(np.arange(len(times)), max(1, len(times) // 1024)):
        within.add(times[chunk][inside[chunk]])
        outside.add(times[chunk][~inside[chunk]])
    if first > seen.take.first:
        # Before the first frame there is nothing to keep: a change there starts the take.
        outside.add(np.array([first]), ARRIVING)
    own = changed_parts(before, after)
    names = {name: k for k, name in enumerate(before.joints()[0])}
    moved = within.moved | outside.moved
    mine = {b.id for b in own}
    others = [
        b for b in after.bounds.values()
        if b.id not in mine and any(moved[names[j]] for j in ((b.member.id, j) for j in b.part.joints) if j in names)
    ]  # fmt: skip
    # What follows the range is looked at too where it did not stay as it was.
    end = last if outside.place.value <= UNCHANGED and outside.turn.value <= UNCHANGED else float(seen.take.last)
    begin = first if end == last else float(seen.take.first)
    changes = measure_changes(before, after, [*own, *others], begin, end, then)
    reached = []
    frames = seen.take.frames[(seen.take.frames >= first) & (seen.take.frames <= last)]
    for bound in own:
        for a, b, far in unreached(after, bound, frames):
            span = f"at frame {a:g}" if a == b else f"from frame {a:g} to {b:g}"
            reached.append(f"{bound.part.label} does not reach its place by {1000 * far:.1f} mm, {span}.")
    could = {after.reading(n): v for n, v in (gives or {}).items()}
    kept, added, removed = count_changes(before.take.all_curves, _at_their_time(after.take.all_curves, then))
    return Proof(
        operation, first, last, changes, within.place, within.turn, outside.place, outside.turn,
        KeyCount(kept, added, removed), residual[0], residual[1], could, (*notes, *reached), tolerance,
        measure_contacts(before, after, {n for n, k in names.items() if moved[k]}, then, tolerance),
    )  # fmt: skip


def _at_their_time(curves: Mapping[str, Curve], then: Then) -> Mapping[str, Curve]:
    """Curves with their keys at the times that they had."""
    if then is same_time:
        return curves
    found = {}
    for name, c in curves.items():
        # Of keys between which a pose is held the last is the one that was there.
        times, back = np.unique(then(c.times, LEAVING)[::-1], return_index=True)
        row = len(c) - 1 - back
        found[name] = Curve(np.column_stack([times, c.numbers[row, 1:]]), c.marks[row])
    return found


def _when_it_was(contact: Contact, then: Then) -> Contact:
    """A contact at the times that it had."""
    if then is same_time:
        return contact
    first, last = (float(then(np.array([t]), k)[0]) for t, k in ((contact.first, LEAVING), (contact.last, ARRIVING)))
    points = []
    for p in contact.points:
        a, b = (float(then(np.array([t]), k)[0]) for t, k in ((p.first, LEAVING), (p.last, ARRIVING)))
        points.append(replace(p, first=a, last=b))
    return replace(contact, first=first, last=last, points=tuple(points))


def measure_contacts(
    before: Program, after: Program, moved: set[tuple[str, str]], then: Then = same_time,
    tolerance: tuple[float, float] | None = None,
) -> tuple[Held, ...]:  # fmt: skip
    """The contacts of a take that are new or that stand between things of which one has moved, in both takes; tolerance: metres
    and radians by which what was not planted may move."""
    joints = set(before.joints()[0])
    told = []
    for contact in after.take.contacts:
        anchor = (contact.anchor_member, contact.anchor)
        still = (contact.member, contact.joint) not in moved and anchor not in moved
        known = _when_it_was(contact, then) in before.take.contacts
        if not (still and (anchor in joints or contact.anchor_member == WORLD) and known):
            told.append(contact)
    old = [_when_it_was(c, then) for c in told]
    found = []
    for contact, earlier, now, was in zip(told, old, measure_all(after, told), measure_all(before, old), strict=True):
        # Where times are others, between the quarter-frames that were measured, only the most is compared.
        grown = now.place - was.place if then is same_time else np.zeros(1)
        k, most = int(np.argmax(grown)), float(was.place.max())
        allowed = tolerance[0] if tolerance and most > STILL[0] else 0.0
        found.append(Held(
            contact.member, part_of(after, contact).part.name, contact_reads(after, contact), contact.first, contact.last,
            float(now.times[int(np.argmax(now.place))]), float(now.place.max()), float(now.turn.max()), most,
            float(was.turn.max()), earlier not in before.take.contacts, float(now.depth.max()), float(now.hover.max()),
            float(was.depth.max()), float(was.hover.max()), max(0.0, float(grown[k]) - allowed), float(now.times[k]),
        ))  # fmt: skip
    return tuple(found)


def _sentence(proof: Proof) -> str:
    parts = []
    told = [c for c in proof.changes if c.what != "edge" or not c.as_before]
    if told:
        # Metres and radians weigh alike: a turn moves what is a metre away.
        still = all(c.still for c in told)
        kept = not still and all(c.as_before for c in told)
        # Where an operation adds a jump, those that were there already do not count.
        added = told if kept else [c for c in told if not c.as_before] or told
        worst = max(added, key=lambda c: max(c.pose, c.turn))
        before = max(told, key=lambda c: max(c.pose_before, c.turn_before))
        moves = f"moves {_mm(worst.pose)}" if worst.pose > EXACT else f"turns {_deg(worst.turn)}"
        at = "nothing moves at the change" if still else f"{moves} at frame {worst.frame:.6g}"
        if kept:
            at += ", as it did before"
        elif max(before.pose_before, before.turn_before) > 1e-5:
            at += f" (was {_mm(before.pose_before) if before.pose_before > 1e-5 else _deg(before.turn_before)})"
        parts.append(at)
        rough = [c for c in told if not c.smooth]
        kink = max(rough or told, key=lambda c: max(c.speed, c.spin))
        jumps = _mm(kink.speed) if kink.speed > kink.allowed_speed else _deg(kink.spin)
        if rough:
            parts.append(kink.reason or f"speed jumps {jumps} a frame at frame {kink.frame:.6g}")
        elif all(c.steady for c in told):
            parts.append("speed passes on")
        else:
            parts.append(f"speed jumps {jumps} a frame at frame {kink.frame:.6g}, as it did before")
    d = proof.departure_place
    bound = ""
    if proof.tolerance is not None:
        within = f"{1000 * proof.tolerance[0]:g} mm and {np.degrees(proof.tolerance[1]):g}°"
        bound = f" ({'within' if proof.within else 'beyond'} the tolerance of {within})"
    turn = proof.departure_turn
    worst_at = d.frame if d.value > UNCHANGED else turn.frame
    most = f"{_mm(d.value)} and {np.degrees(turn.value):.2f}°, at frame {worst_at:g}{bound}"
    stays = max(d.value, turn.value) <= UNCHANGED
    parts.append("every pose stays" if stays else f"after it the motion differs by at most {most}")
    o = proof.outside_place.value
    parts.append("outside unchanged" if proof.unchanged_outside else f"outside changed by {_mm(o)}")
    k = proof.keys
    parts.append(f"keys: {k.kept} kept, {k.added} added, {k.removed} removed")
    if proof.contacts:
        parts.append(_contacts_words(proof.contacts))
    if proof.gives:
        parts.append(f"locked channels leave {_mm(proof.residual_place)}: {', '.join(proof.gives)} could give way")
    said = ["; ".join(parts), *proof.notes]
    return " ".join(f"{text[0].upper()}{text[1:].rstrip('.')}." for text in said if text)


def _deg(angle: float) -> str:
    return f"{np.degrees(angle):.2g}°"


def _contacts_words(contacts: Sequence[Held]) -> str:
    lost = [c for c in contacts if not c.kept]
    better = [c for c in contacts if c.better and c not in lost]
    # What is new and slips is told of once, as what slips.
    new = [c for c in contacts if c.new and c not in better and c not in lost]
    # What is marked to stand on something, and is nowhere near it.
    away = [c for c in contacts if c.hover > AWAY + (0.0 if c.new else c.hover_before)]
    if not lost and not better and not new and not away:
        return "contacts keep their places"
    said = []
    for some, worst, rest in (
        (lost, "place", "slip"),
        (better, "place_before", "slip less"),
        (new, "place", "are new"),
    ):
        if some:
            said.append(_contact_words(max(some, key=lambda c: float(getattr(c, worst)))))
        if len(some) > 1:
            said.append(f"{len(some) - 1} more {rest}")
    if away:
        c = max(away, key=lambda c: c.hover)
        said.append(f"{c.label} is {_mm(c.hover)} away from it, from frame {c.first:g} to {c.last:g}")
    if len(away) > 1:
        said.append(f"{len(away) - 1} more are away")
    return "; ".join(said)


def _contact_words(c: Held) -> str:
    if c.between:
        return (
            f"{c.label} slips {_mm(c.more)} more than before at frame {c.more_at:g}, {_mm(c.place)} at most, "
            f"from frame {c.first:g} to {c.last:g}"
        )
    said = f"{c.label} slips {_mm(c.place)} and {np.degrees(c.turn):.2f}°, from frame {c.first:g} to {c.last:g}"
    # What was as deep in it before is no news.
    if c.depth > SUNK + (0.0 if c.new else c.depth_before):
        said += f", and sinks {_mm(c.depth)} into it"
    was = f" (was {_mm(c.place_before)} and {np.degrees(c.turn_before):.2f}°)"
    return said + (was if c.better or not c.kept else "")


def _mm(metres: float) -> str:
    mm = 1000.0 * metres
    if mm < 1e-3:
        return "0 mm"
    return f"{mm:.3f} mm" if mm < 0.1 else f"{mm:.1f} mm"
