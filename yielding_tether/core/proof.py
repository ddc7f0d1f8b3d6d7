"""The proof: a measured account of an operation, from evaluated joints before and after.

Nothing here knows what the operation believes it did; it sees two takes, the range and the parts.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from .curves import ARRIVING, EMPTY, LEAVING, Curve, count_changes
from .evaluation import Limb, Program
from .fitting import limb_bends
from .measure import STEP, Limits, one_sided, speed_range
from .takes import Take
from .transforms import Floats, rotation_distance

#: What counts as no movement at all, metres and radians.
EXACT = 1e-6
#: Share of a part's speed range that its speed may jump at a change; at least 1e-6 a frame.
SPEED_SHARE = 1e-4
#: A limb this near to straight, or to its full fold (radians), can't pass its speed on through any finite slope.
NEARLY_STRAIGHT = 0.02


@dataclass(frozen=True)
class Change:
    """One part at one change of system: one-sided jumps after and before the operation.

    Metres, radians, and both per frame; `allowed_*` is the bound that 3-motion gives for speed.
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

    @property
    def still(self) -> bool:
        """Whether nothing moves at the change."""
        return self.pose <= EXACT and self.turn <= EXACT

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
    reproducing, with the channels that could give way; `tolerance`: what the departure was asked to stay within."""

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

    @property
    def within(self) -> bool:
        """Whether the departure stays within the tolerance, where one was given."""
        return self.tolerance is None or (
            self.departure_place.value <= self.tolerance[0] and self.departure_turn.value <= self.tolerance[1]
        )

    @property
    def worst_frame(self) -> float:
        """The frame most worth looking at: the worst change if any moves, else the greatest departure."""
        moving = [c for c in self.changes if not (c.still and c.smooth)]
        if moving:
            return max(moving, key=lambda c: (c.pose, c.speed)).frame
        return self.departure_place.frame

    @property
    def clean(self) -> bool:
        """Nothing moves at any change, no speed jumps, nothing changed outside."""
        return (
            all(c.still and c.smooth for c in self.changes)
            and self.outside_place.value <= 1e-9
            and self.outside_turn.value <= 1e-9
        )


def reach(before: Take, changed: Mapping[str, Curve]) -> tuple[float, float]:
    """From which frame to which changed curves can be felt: the keys that differ and the segments beside them."""
    first, last = float(before.first), float(before.last)
    lows, highs = [], []
    for name, new in changed.items():
        a = {k.time: k for k in before.curves.get(name, EMPTY).all_keys()}
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


class _Worsts:
    """The greatest difference of place and rotation between two takes over many times."""

    def __init__(self) -> None:
        self.place = Worst()
        self.turn = Worst()

    def add(self, before: Program, after: Program, times: Floats, side: int = LEAVING) -> None:
        if not len(times):
            return
        # An operation may add tethers, never joints: the names are the same, the nodes need not be.
        names, old_nodes = before.joints()
        new_nodes = after.joints()[1]
        old, new = before.evaluate(times, side), after.evaluate(times, side)
        place = np.linalg.norm(new.pos[:, new_nodes] - old.pos[:, old_nodes], axis=-1)
        turn = rotation_distance(new.rot[:, new_nodes], old.rot[:, old_nodes])
        self.place = _worse(self.place, place, times, names)
        self.turn = _worse(self.turn, turn, times, names)


def _worse(sofar: Worst, values: Floats, times: Floats, names: list[tuple[str, str]]) -> Worst:
    t, n = np.unravel_index(int(np.argmax(values)), values.shape)
    if float(values[t, n]) <= sofar.value and sofar.joint:
        return sofar
    return Worst(float(values[t, n]), float(times[t]), names[n][1])


def measure_changes(before: Program, after: Program, at: list[tuple[Limb, float]]) -> tuple[Change, ...]:
    """One-sided jumps of limbs at frames, in both takes."""
    if not at:
        return ()
    limbs = list({id(limb): limb for limb, _ in at}.values())
    nodes = np.array([n for limb in limbs for n in limb.nodes], dtype=np.int64)
    times = np.array(sorted({t for _, t in at}))
    now, then = one_sided(after, times, nodes), one_sided(before, times, nodes)
    found = []
    for i, limb in enumerate(limbs):
        mine = slice(3 * i, 3 * i + 3)
        speed, spin = speed_range(before, nodes[mine])
        for t in [t for other, t in at if other is limb]:
            k = int(np.searchsorted(times, t))
            pose, turn, jolt, twist = _jumps(now, k, mine)
            change = Change(
                limb.member.id, limb.part.name, limb.part.label, t, pose, turn, jolt, twist,
                max(SPEED_SHARE * speed, EXACT), max(SPEED_SHARE * spin, EXACT), *_jumps(then, k, mine),
            )  # fmt: skip
            found.append(change if change.smooth else replace(change, reason=unmatched_speed(after, limb, t)))
    return tuple(found)


def _jumps(limits: Limits, k: int, nodes: slice) -> tuple[float, float, float, float]:
    """Greatest jumps of place, rotation, speed and spin of some nodes at time k."""
    return (
        float(limits.pose_jump[k, nodes].max()),
        float(limits.turn_jump[k, nodes].max()),
        float(limits.speed_jump[k, nodes].max()),
        float(limits.spin_jump[k, nodes].max()),
    )


def unmatched_speed(program: Program, limb: Limb, frame: float) -> str:
    """Why no finite slope passes a limb's speed on at a frame, or nothing if one can."""
    # Speeds are measured over an eighth of a frame on both sides: what happens there counts.
    near = frame + np.linspace(-4.0, 4.0, 9) * STEP
    bends, carries = limb_bends(limb, program.evaluate(near))
    k = int(np.argmin(np.abs(np.sin(bends))))
    bend, carry = bends[k], carries[int(np.argmin(np.abs(np.cos(carries))))]
    where = f"{limb.part.label} %s at frame {frame:g}: no finite slope passes its speed on there"
    if abs(np.sin(bend)) < NEARLY_STRAIGHT:
        return where % ("is straight" if np.cos(bend) > 0.0 else "is folded as far as it goes")
    if abs(np.cos(carry)) < NEARLY_STRAIGHT:
        return where % "points along its own hinge"
    return ""


def prove(
    operation: str,
    before: Program,
    after: Program,
    first: float,
    last: float,
    changes: list[tuple[Limb, float]],
    *,
    residual: tuple[float, float] = (0.0, 0.0),
    gives: dict[str, float] | None = None,
    notes: tuple[str, ...] = (),
    tolerance: tuple[float, float] | None = None,
) -> Proof:
    """Measures an operation on the range first…last (frames; the end of the take counts as inside).

    Both takes are compared at every frame and half-frame on every joint of the cast; at the edges of the range
    the side that lies outside is compared as outside.
    """
    times = np.unique(np.concatenate([sample_times(before), [first, last]]))
    open_end = last >= before.take.last
    inside = (times >= first) & ((times < last) | (open_end & (times <= last)))
    within, outside = _Worsts(), _Worsts()
    # In pieces, so that a long capture does not need all its poses at once.
    for chunk in np.array_split(np.arange(len(times)), max(1, len(times) // 1024)):
        within.add(before, after, times[chunk][inside[chunk]])
        outside.add(before, after, times[chunk][~inside[chunk]])
    if first > before.take.first:
        # Before the first frame there is nothing to keep: a change there starts the take.
        outside.add(before, after, np.array([first]), ARRIVING)
    kept, added, removed = count_changes(before.take.curves, after.take.curves)
    return Proof(
        operation, first, last, measure_changes(before, after, changes),
        within.place, within.turn, outside.place, outside.turn,
        KeyCount(kept, added, removed), residual[0], residual[1], dict(gives or {}), notes, tolerance,
    )  # fmt: skip
