"""Curves with split keys: sampling, slopes, exact insertion, edits that leave all else bit for bit.

A key holds a time (frames), a value and a slope (value per frame) as time arrives and another pair as it
leaves, the kind of the segment that leaves it, a slope rule, a tag and a lock. Smooth segments are the cubic
Hermite of glTF 2.0's CUBICSPLINE. Before its first key and after its last one a curve is constant.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np

from .errors import CoreError
from .kernels.sample import LEADS, cubics_of, disorder, sample_packed
from .transforms import Floats, Ints

STEPPED, LINEAR, SMOOTH = LEADS
FREE, AUTOMATIC, FLAT = 0, 1, 2
KINDS = ("stepped", "linear", "smooth")
RULES = ("free", "automatic", "flat")
#: Tag of a key put at the edge of an edited range.
FENCE = 1
#: Tag of the keys of a driver between which two systems are mixed on purpose.
CROSSFADE = 2
#: Tag of the keys between which a prop flies, which are fences too.
FLIGHT = 3
#: Tag of a key that only a sum of layers has, while an operation works on it: nobody put it there, and it is never kept.
SUMMED = 4

LEAVING, ARRIVING = 0, 1


class Key(NamedTuple):
    """One key; times in frames, slopes in value per frame."""

    time: float
    arriving: float
    leaving: float
    slope_in: float = 0.0
    slope_out: float = 0.0
    kind: int = SMOOTH
    rule: int = AUTOMATIC
    tag: int = 0
    lock: int = 0

    @property
    def split(self) -> bool:
        """Whether the value arriving differs from the value leaving."""
        return self.arriving != self.leaving


@dataclass(frozen=True)
class Curve:
    """Keys in order of time; immutable. `numbers`: (n, 5) float64 time, arriving, leaving, slope in, slope
    out; `marks`: (n, 4) uint8 kind, rule, tag, lock."""

    numbers: Floats
    marks: np.ndarray

    def __post_init__(self) -> None:
        if self.numbers.ndim != 2 or self.numbers.shape[1] != 5 or self.marks.shape != (len(self.numbers), 4):
            raise CoreError("A curve needs rows of five numbers and four marks.")
        wrong = disorder(np.array(self.numbers, dtype=np.float64, order="C"))
        if wrong:
            raise CoreError(
                "A curve holds a number that is not finite."
                if wrong == 1
                else "The keys of a curve must be in order of time, one at a time."
            )
        self.numbers.setflags(write=False)
        self.marks.setflags(write=False)

    def __len__(self) -> int:
        return len(self.numbers)

    def __eq__(self, other: object) -> bool:
        return (
            isinstance(other, Curve)
            and np.array_equal(self.numbers, other.numbers)
            and np.array_equal(self.marks, other.marks)
        )

    __hash__ = None  # type: ignore[assignment]

    @property
    def times(self) -> Floats:
        """(n,) key times in frames."""
        return self.numbers[:, 0]

    @cached_property
    def cubics(self) -> Floats:
        """(n, 7) as the kernels read it: see `Packed`."""
        found: Floats = np.empty((len(self.numbers), 7))
        # Of arrays that can be written to, as kernels are compiled for.
        cubics_of(np.array(self.numbers, order="C"), np.array(self.marks, order="C"), found)
        return found

    @cached_property
    def breaks(self) -> Floats:
        """Times at which it has one value arriving and another leaving, by a split key."""
        found: Floats = self.numbers[self.numbers[:, 1] != self.numbers[:, 2], 0]
        return found

    @cached_property
    def steps(self) -> Floats:
        """Times at which it has another value than before where it goes in steps."""
        before = np.concatenate([self.numbers[:1, 1], self.numbers[:-1, 2]])
        found: Floats = self.numbers[before != self.numbers[:, 2], 0]
        return found

    @cached_property
    def still(self) -> float | None:
        """The only value it has, if it is a single key; None otherwise."""
        whole = len(self.numbers) == 1 and self.numbers[0, 1] == self.numbers[0, 2]
        return float(self.numbers[0, 1]) if whole else None

    def key(self, index: int) -> Key:
        return Key(*self.numbers[index].tolist(), *self.marks[index].tolist())

    def all_keys(self) -> list[Key]:
        return [Key(*n, *m) for n, m in zip(self.numbers.tolist(), self.marks.tolist(), strict=True)]

    def find(self, time: float) -> int | None:
        """Index of the key at exactly this time, or None."""
        i = int(np.searchsorted(self.times, time))
        return i if i < len(self) and self.times[i] == time else None


EMPTY = Curve(np.empty((0, 5)), np.empty((0, 4), dtype=np.uint8))


def curve(keys: Iterable[Key]) -> Curve:
    """A curve of these keys, put in order of time; CoreError if two share a time or a number is not finite."""
    ordered = sorted(keys)
    if not ordered:
        return EMPTY
    return Curve(
        np.array([k[:5] for k in ordered], dtype=np.float64),
        np.array([k[5:] for k in ordered], dtype=np.uint8),
    )


def spliced(kept: Curve, part: Curve, inside: np.ndarray) -> Curve:
    """A curve with the keys of another in place of those that are `inside` (n,)."""
    numbers = np.concatenate([kept.numbers[~inside], part.numbers])
    order = np.argsort(numbers[:, 0], kind="stable")
    return Curve(numbers[order], np.concatenate([kept.marks[~inside], part.marks])[order])


class Packed(NamedTuple):
    """Curves side by side in the form that the kernels read: `cubics` (n, 7) holds for each key its time, value
    leaving, the three coefficients of the cubic that leaves it, value arriving, and whether it is not stepped."""

    starts: Ints
    cubics: Floats


def pack(curves: Sequence[Curve]) -> Packed:
    """Curves laid end to end; each needs at least one key."""
    starts = np.zeros(len(curves) + 1, dtype=np.int64)
    cubics = [c.cubics for c in curves]
    np.cumsum([len(c) for c in cubics], out=starts[1:])
    return Packed(starts, np.concatenate(cubics) if cubics else np.zeros((0, 7)))


def sides(side: int | np.ndarray, count: int) -> np.ndarray:
    """(count,) side of each time: 0 leaving, 1 arriving."""
    found = np.empty(count, dtype=np.int64)
    # Always an array of its own: one that can't be written to would have the kernels compiled once more.
    found[:] = side
    return found


def sample(c: Curve, at: Floats | Sequence[float], side: int | np.ndarray = LEAVING, default: float = 0.0) -> Floats:
    """(F,) values of a curve at these frames; `default` if it has no keys."""
    times = np.ascontiguousarray(at, dtype=np.float64)
    if not len(c):
        return np.full(len(times), default, dtype=np.float64)
    out = np.empty(len(times))
    sample_packed(np.array([0, len(c)]), c.cubics, times, sides(side, len(times)), out)
    return out


def slopes(c: Curve, at: Floats | Sequence[float], side: int = LEAVING) -> Floats:
    """(F,) slopes, value per frame, of a curve at these frames; zero beyond its ends."""
    times = np.ascontiguousarray(at, dtype=np.float64)
    if not len(c):
        return np.zeros(len(times))
    cubics = c.cubics
    i = np.searchsorted(c.times, times, side="left" if side == ARRIVING else "right") - 1
    s = times - c.times[np.maximum(i, 0)]
    _, _, c1, c2, c3, _, _ = cubics[np.maximum(i, 0)].T
    found: Floats = np.where((i >= 0) & (i < len(c) - 1), c1 + s * (2.0 * c2 + s * 3.0 * c3), 0.0)
    return found


def kinds_at(c: Curve, times: Floats) -> np.ndarray:
    """(F,) kinds of keys put at times at which a curve has none: of the segment that they cut; before all smooth, but for what
    steps."""
    before = np.searchsorted(c.times, times) - 1
    kinds = c.marks[np.maximum(before, 0), 0] if len(c) else np.full(len(times), SMOOTH, dtype=np.uint8)
    return np.where((before < 0) & (kinds != STEPPED), SMOOTH, kinds)


def insert(c: Curve, time: float, default: float = 0.0, tag: int = 0) -> Curve:
    """The same curve with a key at `time`.

    A cubic is split, so no value changes by more than rounding (1e-12) inside the cut segment, and nothing at
    all elsewhere: the keys around it keep their numbers. Only beyond the ends of a curve, where it is constant,
    the slope that faced nothing becomes zero. A key that only a sum had is one from then on.
    """
    there = c.find(time)
    if there is not None:
        if c.marks[there, 2] != SUMMED:
            return c
        marks = c.marks.copy()
        marks[there, 2] = tag
        return Curve(c.numbers, marks)
    at = [time]
    value = float(sample(c, at, default=default)[0])
    i = int(np.searchsorted(c.times, time)) - 1
    if i < 0 or i == len(c) - 1:
        kind = int(kinds_at(c, np.array(at))[0])
        # A key outside must not bend the constant run between it and its neighbour.
        new = Key(time, value, value, 0.0, 0.0, kind, FREE, tag)
        keys = c.all_keys()
        if i < 0 and keys:
            keys[0] = keys[0]._replace(slope_in=0.0)
        elif keys:
            keys[i] = keys[i]._replace(slope_out=0.0)
        return curve([*keys, new])
    slope = float(slopes(c, at)[0])
    # Slopes are per frame, so those at the far ends serve the halves as they are: the neighbours stay.
    row = [[time, value, value, slope, slope]]
    mark = np.array([[c.marks[i, 0], FREE, tag, 0]], dtype=np.uint8)
    return Curve(
        np.concatenate([c.numbers[: i + 1], row, c.numbers[i + 1 :]]),
        np.concatenate([c.marks[: i + 1], mark, c.marks[i + 1 :]]),
    )


def without(c: Curve, first: float, last: float) -> Curve:
    """The curve without the keys strictly between first and last."""
    keep = (c.times <= first) | (c.times >= last)
    return Curve(c.numbers[keep], c.marks[keep])


def put(c: Curve, keys: Iterable[Key]) -> Curve:
    """The curve with these keys, each in place of the one at its time."""
    new = {k.time: k for k in keys}
    return curve([*(k for k in c.all_keys() if k.time not in new), *new.values()])


def over(old: Curve, keys: list[Key], first: float, last: float, default: float) -> Curve:
    """A curve that holds these keys from first to last and is as it was elsewhere."""
    kept = without(insert(insert(old, first, default), last, default), first, last)
    a, b = kept.key(kept.find(first) or 0), kept.key(kept.find(last) or 0)
    new = [*keys]
    new[0] = new[0]._replace(arriving=a.arriving, slope_in=a.slope_in, rule=FREE, tag=FENCE)
    new[-1] = new[-1]._replace(leaving=b.leaving, slope_out=b.slope_out, kind=b.kind, rule=FREE, tag=FENCE)
    return put(kept, new)


def automatic_slopes(c: Curve, around: Iterable[float], neighbours: bool = True) -> Curve:
    """Slopes by rule for the keys at `around` and, if wanted, their neighbours.

    Automatic: the weighted harmonic mean of the chords on both sides, zero where they disagree, so a curve
    never leaves the span of its keys (F. N. Fritsch and R. E. Carlson, 1980). It never looks across a fence
    or a split key. Flat: zero. Free slopes stay.
    """
    if not len(c):
        return c
    numbers = c.numbers.copy()
    touched: set[int] = set()
    for time in around:
        i = int(np.searchsorted(c.times, time))
        reach = 1 if neighbours else 0
        touched.update(range(max(i - reach, 0), min(i + reach + 1, len(c))))
    for i in touched:
        rule = c.marks[i, 1]
        if rule == FREE:
            continue
        slope = 0.0
        wall = c.marks[i, 2] in (FENCE, FLIGHT) or numbers[i, 1] != numbers[i, 2]
        if rule == AUTOMATIC and 0 < i < len(c) - 1 and not wall:
            h0 = numbers[i, 0] - numbers[i - 1, 0]
            h1 = numbers[i + 1, 0] - numbers[i, 0]
            d0 = (numbers[i, 1] - numbers[i - 1, 2]) / h0
            d1 = (numbers[i + 1, 1] - numbers[i, 2]) / h1
            if d0 * d1 > 0.0:
                w0, w1 = 2.0 * h1 + h0, h1 + 2.0 * h0
                slope = (w0 + w1) / (w0 / d0 + w1 / d1)
        numbers[i, 3] = numbers[i, 4] = slope
    return Curve(numbers, c.marks.copy())


def set_value(c: Curve, time: float, value: float, kind: int = SMOOTH, neighbours: bool = True) -> Curve:
    """The curve with this value at `time`: the key there takes it on both sides, or a new key with automatic
    slopes is put; `neighbours`: whether slopes by rule of the keys beside it are computed anew. CoreError if the key there
    is locked."""
    i = c.find(time)
    if i is not None:
        old = c.key(i)
        if old.lock:
            raise CoreError(f"The key at frame {time:g} is locked: unlock it first.")
        new = old._replace(arriving=value, leaving=value)
    else:
        before = int(np.searchsorted(c.times, time)) - 1
        new = Key(time, value, value, kind=int(c.marks[before, 0]) if before >= 0 else kind)
    return automatic_slopes(put(c, [new]), [time], neighbours)


def count_changes(before: Mapping[str, Curve], after: Mapping[str, Curve]) -> tuple[int, int, int]:
    """Keys (kept, added, removed) between two sets of curves; a key is known by its channel and time."""
    kept = added = removed = 0
    for name in before.keys() | after.keys():
        old = before.get(name, EMPTY)
        new = after.get(name, EMPTY)
        if old is new:
            kept += len(old)
            continue
        common = len(np.intersect1d(old.times, new.times, assume_unique=True))
        kept += common
        added += len(new) - common
        removed += len(old) - common
    return kept, added, removed
