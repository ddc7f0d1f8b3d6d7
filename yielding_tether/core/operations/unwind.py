"""Make angles continuous: at each key those of the angles that make the same turn which are nearest to the key before.

A turn has its angles in one rotation order but for whole turns, and a second set of them: (x, y, z) turns as (x + π, π - y, z + π)
does, y the one in the middle. The pose at every key stays; between two keys it takes the short way where it went round.
"""

from __future__ import annotations

import numpy as np

from ..curves import Curve, automatic_slopes, insert
from ..errors import CoreError
from ..layers import Turn, turn_of
from ..program import Program
from ..proof import prove
from ..transforms import Floats, whole_turns_near
from .handover import refuse_locked
from .operation import Asked, Operation, Outcome, check_parts, check_stretch, labels, offered, stretch_words

#: Radians by which angles must be off their nearest ones to be put there.
OFF = 1e-9


@offered
class Unwind(Operation):
    """Makes angles continuous."""

    id = "unwind"
    rank = 55
    label = "Make angles continuous"
    help = "Flips and whole turns between keys go: each key keeps its pose, in the angles nearest to those of the key before."
    to_layer = True

    def run(self, program: Program, asked: Asked) -> Outcome:
        self.chosen(asked)
        check_parts(program, asked.parts)
        first, last = check_stretch(program.take, asked.first, asked.last)
        names = program.channel_names()
        curves: dict[str, Curve] = {}
        for part in asked.parts:
            bound = program.bound(*part)
            turns = {
                t.channels: t
                for s in bound.keyed_systems
                for c in bound.systems[s].channels
                if (t := turn_of(program.rig, int(c)))
            }
            for channels, turn in turns.items():
                made = _unwound(program, turn, first, last)
                if made is not None:
                    refuse_locked(program, list(channels), first, last)
                    curves |= {names[c]: k for c, k in zip(channels, made, strict=True)}
        if not curves:
            raise CoreError(f"{labels(program, asked.parts)}: the angles are continuous there already.")
        after = program.with_curves(curves)
        return Outcome(
            after.take, prove(self.id, program, after, first, last),
            f"Angles of {labels(program, asked.parts)} made continuous, {stretch_words(asked.first, asked.last)}",
        )  # fmt: skip


def _unwound(program: Program, turn: Turn, first: float, last: float) -> list[Curve] | None:
    """The curves of a turn with its angles continuous within a stretch; None where they are."""
    curves = [program.curve(c) for c in turn.channels]
    times = np.unique(np.concatenate([c.times for c in curves]))
    times = times[(times >= first) & (times <= last)]
    if len(times) < 2:
        return None
    whole = list(curves)
    for t in times.tolist():
        whole = [insert(c, t, float(program.defaults[k])) for c, k in zip(whole, turn.channels, strict=True)]
    rows = [np.searchsorted(c.times, times) for c in whole]
    # Angles as they arrive and as they leave, in the order of the rotation, and their slopes.
    axes = ["xyz".index(a) for a in turn.order]
    numbers = np.stack([whole[a].numbers[rows[a], 1:] for a in axes])
    was, near = numbers.copy(), numbers[:, 0, 1].copy()
    for k in range(1, len(times)):
        for side in (0, 1):
            angles, slopes = _nearest(numbers[:, k, side], numbers[:, k, 2 + side], near)
            numbers[:, k, side], numbers[:, k, 2 + side] = angles, slopes
            near = angles
    if np.abs(numbers[..., :2] - was[..., :2]).max() <= OFF:
        return None
    # What leaves the last key goes on as it was.
    if last < program.take.last:
        numbers[:, -1, 1], numbers[:, -1, 3] = was[:, -1, 1], was[:, -1, 3]
    found = []
    for n, c in enumerate(whole):
        made = c.numbers.copy()
        made[rows[n], 1:] = numbers[axes.index(n)]
        # Slopes by rule were made of the angles that are gone.
        found.append(automatic_slopes(Curve(made, c.marks.copy()), times, neighbours=False))
    return found


def _nearest(angles: Floats, slopes: Floats, near: Floats) -> tuple[Floats, Floats]:
    """Angles (3,) in the order of the rotation that turn the same, nearest to others, and their slopes."""
    other = np.array([angles[0] + np.pi, np.pi - angles[1], angles[2] + np.pi])
    sets = [(whole_turns_near(x, near), s) for x, s in ((angles, slopes), (other, slopes * [1, -1, 1]))]
    return min(sets, key=lambda x: float(np.sum((x[0] - near) ** 2)))
