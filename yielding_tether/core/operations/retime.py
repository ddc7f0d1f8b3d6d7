"""Retime: a stretch of the whole take lasts longer or shorter, frames are put in where the pose is held, or are taken out.

    keys, contacts, layers, captures at t  →  at f(t);  f is straight in three pieces, of slope one before and after the stretch

Everything goes along, systems and follows too, and what comes after the stretch comes earlier or later by whole frames: so every
frame outside keeps its pose. A capture is read at other times, where it can, at its very samples.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ..curves import FENCE, FREE, LEAVING, SMOOTH, STEPPED, Curve, insert
from ..errors import CoreError
from ..program import Program
from ..proof import prove
from ..rig import Bound
from ..takes import Capture, Contact, Layer, Take
from ..transforms import Floats
from .operation import Asked, Choice, Operation, Outcome, check_stretch, offered, stretch_words

#: Frames of the longest take that is made.
MOST = 100_000


@dataclass(frozen=True)
class Timing:
    """When everything comes: `first` stays, what was at `last` comes at `until`; without a stretch (first = last) frames are put
    in, at which the pose is held, and where `until` is `first` frames are taken out."""

    first: float
    last: float
    until: float

    @property
    def by(self) -> float:
        """Frames by which what comes after the stretch comes later."""
        return self.until - self.last

    def now(self, times: Floats) -> Floats:
        """When comes what was at these times."""
        found: Floats = np.where(times >= self.last, times + self.by, times)
        if self.last > self.first:
            inside = (times > self.first) & (times < self.last)
            share = (times - self.first) / (self.last - self.first)
            found = np.where(inside, self.first + share * (self.until - self.first), found)
        else:
            found = np.where(times > self.first, times + self.by, times)
        return found

    def then(self, times: Floats, side: int = LEAVING) -> Floats:
        """When it was that comes at these times, as they arrive or leave."""
        found: Floats = np.where(times >= self.until, times - self.by, np.minimum(times, self.first))
        if self.until > self.first:
            inside = (times > self.first) & (times < self.until)
            share = (times - self.first) / (self.until - self.first)
            found = np.where(inside, self.first + share * (self.last - self.first), found)
        before = times < self.first if self.until == self.first and side == LEAVING else times <= self.first
        return np.where(before, times, found)

    def curve(self, kept: Curve, default: float) -> Curve:
        """A curve whose keys come then."""
        if len(kept) < 2 and not (len(kept) and kept.numbers[0, 1] != kept.numbers[0, 2]):
            return Curve(np.column_stack([self.now(kept.times), kept.numbers[:, 1:]]), kept.marks)
        whole = insert(insert(kept, self.first, default, FENCE), self.last, default, FENCE)
        numbers, marks = whole.numbers.copy(), whole.marks.copy()
        a, b = (int(np.searchsorted(whole.times, t)) for t in (self.first, self.last))
        if self.last == self.first:
            return self._held(numbers, marks, a)
        if self.until == self.first:
            # One key: what arrives at the first frame, and what leaves the last.
            numbers[a, 2], numbers[a, 4], marks[a, 0] = numbers[b, 2], numbers[b, 4], marks[b, 0]
            marks[a, 1] = FREE
            keep = np.r_[0 : a + 1, b + 1 : len(numbers)]
            numbers, marks = numbers[keep], marks[keep]
            numbers[a + 1 :, 0] += self.by
            return Curve(numbers, marks)
        scale = (self.last - self.first) / (self.until - self.first)
        numbers[a + 1 : b + 1, 3] *= scale
        numbers[a:b, 4] *= scale
        if scale != 1.0:
            marks[[a, b], 1] = FREE
        numbers[:, 0] = self.now(whole.times)
        return Curve(numbers, marks)

    def _held(self, numbers: Floats, marks: np.ndarray, k: int) -> Curve:
        """Keys of a curve with another one after the k-th, up to which it holds its value."""
        numbers, marks = np.insert(numbers, k, numbers[k], axis=0), np.insert(marks, k, marks[k], axis=0)
        numbers[k, 2], numbers[k, 4] = numbers[k + 1, 2], 0.0
        numbers[k + 1, 1], numbers[k + 1, 3] = numbers[k + 1, 2], 0.0
        marks[k, 0] = STEPPED if marks[k, 0] == STEPPED else SMOOTH
        marks[[k, k + 1], 1], marks[[k, k + 1], 2] = FREE, FENCE
        numbers[k + 1 :, 0] += self.by
        return Curve(numbers, marks)

    def contact(self, held: Contact) -> Contact | None:
        """A contact then; None where all of it was taken out."""
        first, last = self.now(np.array([held.first, held.last])).tolist()
        points = []
        for p in held.points:
            a, b = self.now(np.array([p.first, p.last])).tolist()
            if b > a:
                points.append(replace(p, first=a, last=b))
        return replace(held, first=first, last=last, points=tuple(points)) if last > first else None

    def capture(self, own: Capture) -> Capture:
        """A capture read at the times that are seen then, at its samples where these lie on them."""
        end = own.first + own.step * (len(own.offsets) - 1)
        count = int(np.floor((float(self.now(np.array([end]))[0]) - own.first) / own.step + 1e-9)) + 1
        seen = own.first + own.step * np.arange(float(count))
        # A sample has one pose: where frames were taken out, that of the frame which comes there now.
        at = self.then(seen)
        place = (at - own.first) / own.step
        near = np.clip(np.round(place), 0, len(own.offsets) - 1).astype(np.int64)
        offsets, rotations = own.offsets[near].copy(), own.rotations[near].copy()
        between = np.flatnonzero(np.abs(place - near) > 1e-9)
        if len(between):
            joints = np.arange(own.offsets.shape[1])
            rows = np.moveaxis(own.at(at[between], joints).reshape(len(joints), 7, -1), 2, 0)
            offsets[between], rotations[between] = rows[..., :3], rows[..., 3:]
        for k in range(1, len(rotations)):
            rotations[k, np.sum(rotations[k] * rotations[k - 1], axis=-1) < 0.0] *= -1.0
        return Capture(offsets, rotations, own.first, own.step)

    def layer(self, x: Layer) -> Layer:
        stretch = None if x.stretch is None else tuple(self.now(np.array(x.stretch)).tolist())
        curves = {n: self.curve(c, 0.0) for n, c in x.curves.items()}
        return replace(x, curves=curves, weight=self.curve(x.weight, 1.0), stretch=stretch)

    def wanted(self, key: str) -> str:
        """What a finding that is wanted is known by then."""
        head, _, frame = key.rpartition("/")
        return f"{head}/{float(self.now(np.array([float(frame)]))[0]):.12g}"


@offered
class Retime(Operation):
    """Makes a stretch longer or shorter."""

    id = "retime"
    rank = 58
    label = "Retime"
    help = "The stretch of the whole take lasts longer or shorter; all that comes after it comes later or earlier."
    under = "as is"
    choices = (
        Choice(
            "how", "the stretch", "options", "lasts",
            (("lasts", "lasts"), ("put in", "begins later: its first pose is held"), ("taken out", "is taken out")),
            help="Everything goes along: contacts, layers, what drives and what is followed.",
        ),
        Choice(
            "frames", "for", "whole", 24, least=1, most=10_000, unit="frames", when=("how", ("lasts", "put in")),
            help="How long the stretch lasts, or how many frames are put in before it.",
        ),
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return bound.member.kind == "character"

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        take = program.take
        first, last = check_stretch(take, asked.first, asked.last)
        timing = _timing(take, first, last, c["how"], float(c["frames"]))
        made = _retimed(program, timing)
        after = program.on(made)
        after.check_loops()
        notes = []
        if timing.last == timing.first or timing.until == timing.first:
            notes = [
                "What moves at the seam stops or jumps there; an ease, or a repair of what is found, takes that out."
            ]
        label = {
            "lasts": f"{stretch_words(first, last).capitalize()} last {c['frames']}",
            "put in": f"{c['frames']} frames put in at frame {first:g}",
            "taken out": f"{stretch_words(first, last).capitalize()} taken out",
        }[c["how"]]
        # Between its samples a capture goes smoothly through two on either side: that reaches further.
        near = 2.0 * max((c.step for c in take.captures.values()), default=0.0)
        low, high = max(timing.first - near, float(take.first)), min(timing.until + near, float(made.last))
        proof = prove(self.id, program, after, low, high, notes=tuple(notes), then=timing.then)
        return Outcome(made, proof, label)


def _timing(take: Take, first: float, last: float, how: str, frames: float) -> Timing:
    """When everything comes. CoreError where that is not by whole frames, or changes nothing."""
    if how == "put in":
        timing = Timing(first, first, first + frames)
    elif last == first:
        raise CoreError("Choose a stretch of more than one frame.")
    else:
        timing = Timing(first, last, first + frames if how == "lasts" else first)
    if timing.by == 0.0:
        raise CoreError(f"The stretch lasts {frames:g} frames already.")
    if timing.by != round(timing.by):
        raise CoreError("What comes after the stretch has to come later by whole frames: choose whole frames.")
    length = take.last + timing.by - take.first
    if how == "taken out" and (first <= take.first and last >= take.last):
        raise CoreError("That would leave nothing of the take.")
    if length > MOST:
        raise CoreError(f"A take of {length:g} frames is too long: the most are {MOST:,}.")
    return timing


def _retimed(program: Program, timing: Timing) -> Take:
    take = program.take
    for name, kept in take.curves.items():
        inside = (kept.times >= timing.first) & (kept.times <= timing.last) & (kept.marks[:, 3] != 0)
        if inside.any():
            raise CoreError(
                f"The {program.reading(name)} is locked at frame {kept.times[inside][0]:g}: unlock it before it is retimed."
            )
    contacts = tuple(c for held in take.contacts if (c := timing.contact(held)))
    return replace(
        take, last=take.last + int(timing.by), curves={n: timing.curve(c, _standing(program, n)) for n, c in take.curves.items()},
        captures={m: timing.capture(c) for m, c in take.captures.items()}, contacts=contacts,
        layers=tuple(map(timing.layer, take.layers)), wanted=tuple(map(timing.wanted, take.wanted)),
    )  # fmt: skip


def _standing(program: Program, name: str) -> float:
    return float(program.defaults[program.channels[name]])
