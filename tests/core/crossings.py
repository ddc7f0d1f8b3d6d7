"""Made crossings of the deck, and how well contacts that are found agree with what their maker knows, point by point."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from yielding_tether.core.takes import Contact
from yielding_tether.demo.rough_crossing import Crossing, Kind

#: Frames around an edge that do not count for frames found.
EDGE = 2


@dataclass
class Agreement:
    """Frames of a point that stand in both, in what was found alone, and in truth alone, those within two of an edge left out;
    stances missed, found in pieces, and invented; by how many frames each edge is off."""

    both: int = 0
    invented_frames: int = 0
    missed_frames: int = 0
    missed: list[str] = field(default_factory=list)
    split: list[str] = field(default_factory=list)
    invented: list[str] = field(default_factory=list)
    edges: list[float] = field(default_factory=list)
    elsewhere: int = 0

    @property
    def precision(self) -> float:
        return self.both / (self.both + self.invented_frames) if self.both + self.invented_frames else 1.0

    @property
    def recall(self) -> float:
        return self.both / (self.both + self.missed_frames) if self.both + self.missed_frames else 1.0


def spans_of(contacts: Sequence[Contact], joint: str, point: str) -> list[tuple[float, float, str]]:
    """When a point stands, and on what; what adjoins is one."""
    found = []
    for c in contacts:
        points = {p.name: (p.first, p.last) for p in c.points}
        if c.joint == joint and (point in points or not (c.points or point == "tip")):
            found.append((*points.get(point, (c.first, c.last)), c.anchor))
    joined: list[tuple[float, float, str]] = []
    for a, b, anchor in sorted(found):
        if joined and a - joined[-1][1] <= 1.0 and joined[-1][2] == anchor:
            joined[-1] = (joined[-1][0], max(b, joined[-1][1]), anchor)
        else:
            joined.append((a, b, anchor))
    return joined


def agreement(made: Crossing, contacts: Sequence[Contact]) -> dict[str, Agreement]:
    """By point: heel, ball, palm, and tip where that stands alone."""
    rate, count = float(made.take.rate), made.take.last + 1
    frames = np.arange(count)
    found: dict[str, Agreement] = {}
    for joint, point in dict.fromkeys((t.joint, t.point) for t in made.truth):
        mine = found.setdefault(point, Agreement())
        truth = [(t.first * rate, t.last * rate, t.anchor) for t in made.truth if (t.joint, t.point) == (joint, point)]
        got = spans_of(contacts, joint, point)
        stands, told, near = (np.zeros(count, dtype=bool) for _ in range(3))
        for a, b, _ in truth:
            stands |= (frames >= a) & (frames <= b)
            for edge in (a, b):
                if 0.0 < edge < count - 1:
                    near |= np.abs(frames - edge) <= EDGE
        for a, b, _ in got:
            told |= (frames >= a) & (frames <= b)
        mine.both += int((stands & told & ~near).sum())
        mine.invented_frames += int((told & ~stands & ~near).sum())
        mine.missed_frames += int((stands & ~told & ~near).sum())
        for a, b, anchor in truth:
            inside = [g for g in got if min(b, g[1]) - max(a, g[0]) > 0.3 * min(b - a, g[1] - g[0])]
            what = f"{point} of {joint} {a:.1f} to {b:.1f}"
            if len(inside) != 1:
                (mine.split if inside else mine.missed).append(what)
                continue
            mine.elsewhere += inside[0][2] != anchor
            mine.edges += [inside[0][0] - a] if a > 0.0 else []
            mine.edges += [inside[0][1] - b] if b < count - 2 else []
        mine.invented += [
            f"{point} of {joint} {a:.0f} to {b:.0f}" for a, b, _ in got
            if not any(min(b, t[1]) > max(a, t[0]) for t in truth)
        ]  # fmt: skip
    return found


def random_kind(rng: np.random.Generator, seed: int, noise: tuple[float, float] = (0.001, 0.0035)) -> Kind:
    """A way to cross of any pace, rate, floor and noise."""
    return Kind(
        pace=float(rng.uniform(1.3, 2.1)), stride=float(rng.uniform(0.24, 0.33)),
        rate=int(rng.choice([24, 25, 30, 48, 50, 60, 90])),
        noise=float(rng.uniform(*noise)), rocks=float(rng.uniform(0.3, 2.0)), seed=seed,
    )  # fmt: skip
