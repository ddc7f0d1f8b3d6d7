"""Smooth: over a stretch parts move without what is faster than a cutoff; what stands on something stays where it stands.

What keys drive is smoothed in the values of its own controls, at the keys that are there; a capture in the turns of its joints, as
adjustments on top of it, which stays what it is. Ends in contact, of what is smoothed and of what hangs from it, are put back to
where they stood (`held_ends`), and nothing goes deeper into what it stands on than it was.
"""

from __future__ import annotations

from collections.abc import Mapping
from itertools import pairwise
from typing import NamedTuple

import numpy as np

from ..channels import in_words
from ..contacts import part_of
from ..curves import ARRIVING, LEAVING, STEPPED, Curve, insert
from ..ends import carried_over, held_ends, lifted_ends, spline
from ..errors import CoreError
from ..layers import scaled
from ..program import Poses, Program
from ..proof import prove, split_times
from ..rig import Bound
from ..smoothing import HIGHEST, Away, Fast, Spikes, continuous, cutoff_of, fast, low_pass, spectrum
from ..transforms import Floats, Ints, inverse, multiply, rotate, rotation_distance
from .handover import refuse_locked
from .operation import (
    Asked,
    Chart,
    Choice,
    Line,
    Operation,
    Outcome,
    Parts,
    Value,
    check_parts,
    check_stretch,
    labels,
    offered,
    stretch_words,
)

#: Frames over which smoothing sets in where something else goes on at an edge.
EASE = 6.0
#: Radians by which a frame must be elsewhere to have been a spike.
STANDING_OUT = 1e-5
#: Points of a chart, and the share of the strongest power below which nothing is told apart.
CHARTED, FAINT = 100, 1e-9
#: Metres that count as a radian where both are looked at together: about the length of a limb's segment.
METRE = 0.3


@offered
class Smooth(Operation):
    """Takes away what is faster than a cutoff."""

    id = "smooth"
    rank = 28
    label = "Smooth"
    help = "Takes away what is faster than the motion itself: noise of a capture, keys that tremble. What stands stays there."
    choices = (
        Choice(
            "what", "take away", "options", "fast",
            (("fast", "what is too fast"), ("spikes", "spikes alone")), folded=True,
            help="Spikes are single frames that stand out of those around them; all other frames stay.",
        ),
        Choice(
            "above", "take away what is faster than", "number", 0.0, least=0.0, most=240.0, unit="Hz",
            when=("what", ("fast",)), help="0: for each part where its own motion ends and noise begins.",
        ),
        Choice("of", "of", "name", "", folded=True, help="One joint or control of the part alone, or all of it."),
        Choice(
            "by", "by", "number", 100.0, least=1.0, most=100.0, unit="%", folded=True,
            help="How far towards the smooth motion.",
        ),
        Choice(
            "stands", "what stands", "options", "stays", (("stays", "stays where it stands"), ("goes", "goes along")),
            help="Feet and hands in contact, of these parts and of what hangs from them.",
        ),
    )  # fmt: skip
    to_layer = True

    def suggest(
        self, program: Program, parts: Parts, first: float, last: float | None, made: Mapping[str, Value]
    ) -> dict[str, Value]:
        """Where the motion of a part ends and its noise begins; of several each its own."""
        if len(parts) != 1:
            return {}
        end = float(program.take.last if last is None else last)
        rate = float(program.take.rate)
        found = _cutoff(program, program.bound(*parts[0]), first, end)
        return {"above": round(found, 1)} if found < HIGHEST * rate else {}

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        """Its joints and controls, where one part is chosen."""
        every: list[tuple[str, str]] = [("", "all of it")]
        if len(parts) == 1:
            bound = program.bound(*parts[0])
            labels = {c.name: c.label for s in bound.systems.values() for c in s.controls}
            every += [
                (name, labels.get(name) or in_words(name)) for name in dict.fromkeys([*bound.part.joints, *labels])
            ]
        return {"of": tuple(every)}

    def chart(self, program: Program, asked: Asked, after: Program) -> Chart | None:
        """How strong the motion is at each frequency, before and after."""
        c = self.chosen(asked)
        first, last = check_stretch(program.take, asked.first, asked.last)
        if c["what"] != "fast" or last - first < 16.0:
            return None
        rate = float(program.take.rate)
        lines, most = [], 0.0
        for word, p in (("before", program), ("after", after)):
            turned = np.concatenate([_measured(p, p.bound(*part), first, last) for part in asked.parts], axis=1)
            frequencies, power = spectrum(turned, rate)
            most = most or float(power.max())
            if most <= 0.0:
                return None
            # One point for each step of the chart's width, the strongest within it.
            steps = np.unique(np.linspace(0, len(power), CHARTED + 1).astype(int))
            strong = np.maximum.reduceat(power, steps[:-1])
            decibels = 10.0 * np.log10(np.maximum(strong / most, FAINT))
            lines.append(Line(word, tuple(zip(frequencies[steps[:-1]].tolist(), decibels.tolist(), strict=True))))
        return Chart(
            "faster than, Hz", "of its strongest, dB", tuple(lines), float(c["above"]) or None, (("above", 1.0),)
        )

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        check_parts(program, asked.parts)
        first, last = check_stretch(program.take, asked.first, asked.last)
        if last - first < 4.0:
            raise CoreError("Smoothing needs a stretch of at least four frames.")
        cutoff, rate, by = float(c["above"]), float(program.take.rate), 0.01 * float(c["by"])
        if cutoff >= 0.5 * rate:
            raise CoreError(
                f"At {rate:g} frames a second there is nothing faster than {0.5 * rate:g} Hz: take away what is slower than that."
            )
        bounds = sorted((program.bound(*p) for p in asked.parts), key=lambda b: int(b.nodes.min()))
        notes, now, used = list[str](), program, list[float]()
        of, known = str(c["of"]), dict(self.options(program, asked.parts)["of"])
        if of not in known:
            raise CoreError(
                f"Nothing is called {of[:40]!r} here: choose all of it, or a joint or control of one part alone."
            )
        frames, stays = np.arange(np.ceil(first), last + 0.5), c["stands"] == "stays"
        for bound in bounds:
            if c["what"] == "spikes":
                done = _smoothed(now, now.bound(*bound.id), first, last, Spikes(), by, stays, of)
                turned = [_local(p, p.bound(*bound.id), frames, LEAVING)[1] for p in (now, done)]
                off = rotation_distance(*turned).max(axis=1)
                notes.append(_spiked(bound, off, frames[0]))
                now = done if off.max() > STANDING_OUT else now
                continue
            below = cutoff or _cutoff(program, bound, first, last)
            if below >= HIGHEST * rate and not cutoff:
                notes.append(f"{bound.who} has no noise above its own motion, and stays as it is.")
                continue
            used.append(below)
            was = _measured(program, bound, first, last)
            now = _smoothed(now, now.bound(*bound.id), first, last, Fast(rate, below), by, stays, of)
            notes.append(_said(bound, was, _measured(now, now.bound(*bound.id), first, last), rate, below))
        if now is program:
            raise CoreError(
                f"{notes[0]} {'Choose other parts or frames.' if c['what'] == 'spikes' else 'Say what is too fast.'}"
            )
        if stays:
            now = held_ends(program, now, first, last, max(used, default=rate))
            now, lifted = lifted_ends(program, now, first, last)
            notes += lifted
        now.check_loops()
        return Outcome(
            now.take, prove(self.id, program, now, first, last, notes=tuple(notes)),
            f"Smooth {labels(program, asked.parts)}{f', {known[of]}' if of else ''}, {stretch_words(asked.first, asked.last)}",
        )  # fmt: skip


def _said(bound: Bound, was: Floats, new: Floats, rate: float, cutoff: float) -> str:
    """What was taken away of a part, and what of the motion itself went with it."""
    before, after = (np.degrees(fast(x, rate, cutoff)) for x in (was, new))
    slow = [low_pass(x, rate, cutoff) for x in (was, new)]
    moved, lost = (float(np.std(x, axis=0).max()) for x in (slow[0], slow[1] - slow[0]))
    less = f", {20 * np.log10(before / after):.0f} dB less" if 1e-9 < after < before else ""
    kept = f"; of the slower motion {100 * lost / moved:.1f} % went with it" if moved > 1e-6 else ""
    return f"{bound.who}: faster than {cutoff:.1f} Hz {before:.2f}° before, {after:.2f}° after{less}{kept}."


def _spiked(bound: Bound, off: Floats, first: float) -> str:
    """How many frames of a part were spikes; off (F,): radians by which they are elsewhere now."""
    count = int((off > STANDING_OUT).sum())
    if not count:
        return f"{bound.who}: no frame stands out."
    most = f"the greatest by {np.degrees(off.max()):.1f}°, at frame {first + int(off.argmax()):g}"
    return f"{bound.who}: {count} frame{'' if count == 1 else 's'} stood out, {most}."


def _measured(program: Program, bound: Bound, first: float, last: float) -> Floats:
    """(F, 3 n) how the joints of a part are turned in what they hang from, as rotation vectors from their mean (radians)."""
    at = np.arange(np.ceil(first), last + 0.5)
    local = _local(program, bound, at, LEAVING)[1]
    mean = np.sum(local * np.where(np.sum(local * local[:1], axis=-1, keepdims=True) < 0.0, -1.0, 1.0), axis=0)
    mean /= np.maximum(np.linalg.norm(mean, axis=-1, keepdims=True), 1e-12)
    off = multiply(inverse(np.broadcast_to(mean, local.shape)), local)
    off = np.where(off[..., 3:] < 0.0, -off, off)
    size = np.linalg.norm(off[..., :3], axis=-1, keepdims=True)
    axis = np.divide(off[..., :3], size, out=np.zeros_like(off[..., :3]), where=size > 1e-15)
    vector: Floats = 2.0 * np.arctan2(size, off[..., 3:]) * axis
    found: Floats = vector.reshape(len(at), -1)
    return found


def _cutoff(program: Program, bound: Bound, first: float, last: float) -> float:
    """Where the motion of a part ends and its noise begins (Hertz): in what is keyed, in the values of its controls, for the joints
    of a limb may snap where its end goes smoothly."""
    at = np.arange(np.ceil(first), last + 0.5)
    state = bound.state(program.sample(at, LEAVING, bound.driver_channels))
    values = _measured(program, bound, first, last)
    if state is not None and not bound.systems[state].system.moves_alone:
        mine = bound.systems[state]
        moving = mine.channels[~(mine.stepped | mine.held)]
        angles = np.array([program.info[int(c)][2].kind == "angle" for c in moving])
        values = program.sample(at, LEAVING, moving)
        values = (np.where(angles[:, None], np.unwrap(values, axis=1), values / METRE)).T
    return cutoff_of(values, float(program.take.rate))


def _local(program: Program, bound: Bound, at: Floats, side: int | Ints) -> tuple[Floats, Floats]:
    """Places (F, n, 3) and turns (F, n, 4) of the joints of a part in what each hangs from."""
    nodes = np.concatenate([bound.nodes, bound.above])
    pos, rot = program.track(at, side, nodes)
    count = len(bound.nodes)
    back = inverse(rot[:, count:])
    return rotate(back, pos[:, :count] - pos[:, count:]), multiply(back, rot[:, :count])


class _Piece(NamedTuple):
    """What lies between two edges at which smoothing has no share, but where these are open: at the ends of the take."""

    first: float
    last: float
    open_first: bool
    open_last: bool

    @property
    def frames(self) -> Floats:
        """Its ends, and the whole frames between them."""
        return np.unique(np.concatenate([[self.first], np.arange(np.ceil(self.first), self.last), [self.last]]))

    def share(self, at: Floats) -> Floats:
        """(F,) how far smoothing counts."""
        ease = min(EASE, 0.5 * (self.last - self.first))
        rise = np.ones(len(at)) if self.open_first else np.clip((at - self.first) / ease, 0.0, 1.0)
        fall = np.ones(len(at)) if self.open_last else np.clip((self.last - at) / ease, 0.0, 1.0)
        low = np.minimum(rise, fall)
        found: Floats = low * low * (3.0 - 2.0 * low)
        return found


def _pieces(
    program: Program, bound: Bound, first: float, last: float, stands: list[tuple[float, float]]
) -> list[_Piece]:
    """Pieces of a stretch between which the values of a part step, or it stands."""
    inner = {*split_times(program, bound), *(t for span in stands for t in span)}
    edges = [first, *sorted(t for t in inner if first < t < last), last]
    return [
        _Piece(a, b, a == program.take.first, b == program.take.last) for a, b in pairwise(edges)
        if b - a >= 4.0 and not any(low <= a and b <= high for low, high in stands)
    ]  # fmt: skip


def _stands(program: Program, bound: Bound, first: float, last: float) -> list[tuple[float, float]]:
    """From when to when the end of a part stands while a control of its own, which keys move, places it: there it is smooth."""
    found = []
    for c in program.take.contacts:
        if part_of(program, c).id != bound.id or c.begin >= last or c.end <= first:
            continue
        middle = np.array([0.5 * (max(c.begin, first) + min(c.end, last))])
        state = bound.state(program.sample(middle, LEAVING, bound.driver_channels))
        if state in bound.keyed_systems and any(
            x.is_end and x.rests_on == c.joint for x in bound.systems[state].controls
        ):
            found.append((c.begin, c.end))
    return found


def _smoothed(
    program: Program, bound: Bound, first: float, last: float, away: Away, by: float, stays: bool, of: str
) -> Program:  # fmt: skip
    """A part, or one joint or control `of` it, without what is faster, whatever drives it; `stays`: but where a control of its own
    has its end stand."""
    now = program
    stands = _stands(program, bound, first, last) if stays else []
    for piece in _pieces(program, bound, first, last, stands):
        at = np.append(piece.frames[:-1], 0.5 * (piece.frames[:-1] + piece.frames[1:]))
        state = bound.state(program.sample(at, LEAVING, bound.driver_channels))
        if state is None:
            raise CoreError(
                f"{bound.who} is not driven by one system from frame {piece.first:g} to {piece.last:g}: choose a stretch in which "
                f"one drives."
            )
        mine = now.bound(*bound.id)
        refuse_locked(now, mine.systems[state].channels.tolist(), piece.first, piece.last)
        how = _smooth_capture if mine.systems[state].system.moves_alone else _smooth_keys
        now = how(now, mine, state, piece, away, by, of)
    return now


def _smooth_keys(
    program: Program, bound: Bound, system: str, piece: _Piece, away: Away, by: float, of: str
) -> Program:  # fmt: skip
    """The keys of a system's channels put where the smooth motion is at their times."""
    mine, names = bound.systems[system], program.channel_names()
    frames = piece.frames
    # What arrives at its end belongs to it, and what leaves there does not.
    values = program.sample(frames, np.where(frames == piece.last, ARRIVING, LEAVING), mine.channels)
    angles = np.array([program.info[int(c)][2].kind == "angle" for c in mine.channels])
    whole = np.where(angles[:, None], np.unwrap(values, axis=1), values)
    smooth = whole + by * piece.share(frames) * (away.values(whole.T).T - whole)
    curves: dict[str, Curve] = {}
    for k, c in enumerate(mine.channels.tolist()):
        kept, channel = program.curve(c), program.info[c][2]
        if of and not (channel.control == of or channel.name.startswith(f"{of}.")):
            continue
        if len(kept) and not (mine.stepped[k] or mine.held[k]) and np.ptp(values[k]) > 1e-12:
            curves[names[c]] = _put(kept, frames, smooth[k], piece, float(program.defaults[c]))
    return program.with_curves(curves)


def _put(kept: Curve, frames: Floats, values: Floats, piece: _Piece, default: float) -> Curve:
    """A curve whose keys in a piece lie on a line through values (F,) at frames (F,); both its ends are keys that stay, with their
    slopes, where something else goes on there."""
    line = spline(frames, values)
    whole = insert(insert(kept, piece.first, default), piece.last, default)
    numbers, marks = whole.numbers.copy(), whole.marks.copy()
    inside = (whole.times > piece.first) & (whole.times < piece.last)
    begins, ends = whole.times == piece.first, whole.times == piece.last
    into = inside | (ends & piece.open_last)
    out = inside | (begins & piece.open_first)
    numbers[into, 1] = line(whole.times[into])
    numbers[out, 2] = line(whole.times[out])
    slope = line(whole.times, 1)
    stepped = marks[:, 0] == STEPPED
    numbers[into, 3] = np.where(stepped, numbers[:, 3], slope)[into]
    numbers[out, 4] = np.where(stepped, numbers[:, 4], slope)[out]
    marks[inside, 1] = 0
    return Curve(numbers, marks)


def _smooth_capture(
    program: Program, bound: Bound, system: str, piece: _Piece, away: Away, by: float, of: str
) -> Program:  # fmt: skip
    """A capture's joints turned, and those that move placed, as the smooth motion has them in what they hang from."""
    frames = piece.frames
    side = np.where(frames == piece.last, ARRIVING, LEAVING)
    places, turns = _local(program, bound, frames, side)
    share = by * piece.share(frames)
    # What is added to the capture is nothing, and stands still, where something else goes on: so speed passes on there.
    still = not piece.open_first, not piece.open_last
    count = len(bound.nodes)
    mine = np.array([of in ("", joint) for joint in bound.part.joints], dtype=float)
    more = share[:, None, None] * mine[:, None] * (away.values(places) - places)
    step = multiply(inverse(turns), away.turns(turns))
    turned = continuous(np.stack([scaled(step[:, k], share * mine[k]) for k in range(count)], axis=1))
    place, rotation = spline(frames, more, still), spline(frames, turned, still)

    def poses(at: Floats, side: Ints) -> Poses:
        found = program.evaluate(at, side, only=[*program.fit_nodes([bound]), *bound.above.tolist()])
        moved, how = place(at), rotation(at)
        how /= np.linalg.norm(how, axis=-1, keepdims=True)
        nodes, above = bound.nodes, bound.above
        back = inverse(found.rot[:, above])
        where = rotate(back, found.pos[:, nodes] - found.pos[:, above]) + moved
        turn = multiply(multiply(back, found.rot[:, nodes]), how)
        for k in bound.outward:
            up, node = above[k], nodes[k]
            found.pos[:, node] = found.pos[:, up] + rotate(found.rot[:, up], where[:, k])
            found.rot[:, node] = multiply(found.rot[:, up], turn[:, k])
        return found

    return carried_over(program, bound, system, piece.first, piece.last, poses)
