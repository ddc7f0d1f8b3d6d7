"""What gives way where a planted end is out of its limb's reach: the body moves as little as lets every limb that stands get there.

    shift = the shortest vector into the intersection of the balls about (place of the end - where the limb begins), 0.995 · length

found by alternating projections (Boyle and Dykstra, 1986). Over some frames around the greatest of them is taken, that is smoothed
and projected again, so that the body comes and goes gently. A captured body is moved by its adjustments: the capture stays.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from .curves import ARRIVING, LEAVING, SMOOTH, STEPPED, Curve
from .errors import CoreError
from .express import FINE, ROUNDING, Curves, Motion, Placing, carry, system_target
from .measure import steps
from .program import Poses, Program
from .rig import Bound
from .transforms import Floats, Ints

#: Share of its length up to which a limb may be stretched, metres that are left beside, and rounds in which what still does not
#: reach is given more.
NEAR, MARGIN, ROUNDS = 0.995, 5e-4, 3
#: Share of the longest limb that stands by which a body gives way at most: farther off something else is wrong, and that is told.
FAR = 0.25
#: Rounds of projections.
PROJECTIONS = 60
#: Metres below which nothing need move.
ENOUGH = 1e-5


class Stood(NamedTuple):
    """A part whose end stands, from one frame to another, where a control of one of its systems puts it."""

    part: tuple[str, str]
    system: str
    control: str
    first: float
    last: float


class Given(NamedTuple):
    """What gives way: for each body that moves its part, frames (F,) and by how much it is moved there (F, 3), metres; by how much
    at most, and from when to when."""

    moves: tuple[tuple[tuple[str, str], Floats, Floats], ...]
    most: float
    first: float
    last: float

    def on(self, program: Program) -> Program:
        """A take with these bodies moved."""
        for id, frames, shift in self.moves:
            program = _moved(program, program.bound(*id), frames, shift)[0]
        return program


def give_way(program: Program, stood: Sequence[Stood], around: float) -> Given | None:
    """How bodies are to be moved for their standing limbs to reach; around: frames over which that comes and goes. None where all
    reach, or where nothing could move. CoreError where two systems drive a body at once."""
    found = []
    for member in dict.fromkeys(s.part[0] for s in stood):
        carrier = next((b for b in program.bounds.values() if b.member.id == member and b.part.free), None)
        one = _given(program, carrier, [s for s in stood if s.part[0] == member], around) if carrier else None
        found += [one] if one else []
    if not found:
        return None
    moves = tuple(m for g in found for m in g.moves)
    return Given(moves, max(g.most for g in found), min(g.first for g in found), max(g.last for g in found))


def _given(program: Program, carrier: Bound, stood: Sequence[Stood], around: float) -> Given | None:
    take = program.take
    first = max(np.floor(min(s.first for s in stood) - 2.0 * around - 1.0), float(take.first))
    last = min(np.ceil(max(s.last for s in stood) + 2.0 * around + 1.0), float(take.last))
    frames = np.arange(first, last + 1.0)
    # What stands one after the other shares a row: a long walk has many stances, and few at once.
    rows = _rows(stood)
    spans = [slice(*np.searchsorted(frames, [s.first, np.nextafter(s.last, np.inf)])) for s in stood]
    shape = (max(rows) + 1, len(frames))
    active = np.zeros(shape, dtype=bool)
    centres, radii = np.zeros((*shape, 3)), np.zeros(shape)
    for row, span, s in zip(rows, spans, stood, strict=True):
        active[row, span] = True
        centres[row, span], radii[row, span] = _ball(program, s, frames[span])
    longest = float(radii.max())
    for row, span, s in zip(rows, spans, stood, strict=True):
        # What falls short though it should reach, as an arm whose shoulder does not stretch, says how far it does reach.
        short = _short(program, s, frames[span])
        far = np.linalg.norm(centres[row, span], axis=1) - short - MARGIN
        radii[row, span] = np.where(short > ENOUGH, np.minimum(radii[row, span], far), radii[row, span])
    if not (active & (np.linalg.norm(centres, axis=2) > radii + ENOUGH)).any():
        return None
    for _ in range(ROUNDS):
        wanted = _projected(np.zeros((len(frames), 3)), centres, radii, active)
        shift = _projected(_gentle(wanted, int(np.ceil(around))), centres, radii, active)
        if np.linalg.norm(shift, axis=1).max() > FAR * longest:
            return None
        now, a, b = _moved(program, carrier, frames, shift)
        left = [_residual(now, s) for s in stood]
        if max(left) <= ENOUGH:
            break
        for row, span, off in zip(rows, spans, left, strict=True):
            radii[row, span] -= off
    return Given(((carrier.id, frames, shift),), float(np.linalg.norm(shift, axis=1).max()), a, b)


def _rows(stood: Sequence[Stood]) -> list[int]:
    """A row for each of what stands, so that no two in one of them stand at a time."""
    found = [0] * len(stood)
    ends: list[float] = []
    for k in sorted(range(len(stood)), key=lambda k: stood[k].first):
        row = next((n for n, end in enumerate(ends) if end < stood[k].first), len(ends))
        ends[row : row + 1] = [stood[k].last]
        found[k] = row
    return found


def _ball(program: Program, stood: Stood, frames: Floats) -> tuple[Floats, Floats]:
    """(F, 3) by how much a limb's end should be from where it begins, and (F,) how far it reaches."""
    bound = program.bound(*stood.part)
    control = bound.controls[stood.control].control
    aim = bound.systems[stood.system].system.aim(bound, stood.control)
    side = np.where(frames == stood.last, ARRIVING, LEAVING)
    pos = program.track(frames, side, [int(bound.nodes[0]), aim])[0]
    skeleton = bound.member.skeleton
    places = skeleton.rest_pose[0]
    chain = bound.part.joints[: bound.part.joints.index(str(control.rests_on)) + 1]
    at = places[[skeleton.index[j] for j in chain]]
    length = float(np.linalg.norm(np.diff(at, axis=0), axis=1).sum())
    size = program.sizes(frames, LEAVING, int(bound.nodes[0]))
    return pos[:, 1] - pos[:, 0], NEAR * length * size - MARGIN


def _residual(program: Program, stood: Stood) -> float:
    """How far a standing joint stays from where it should be at most, at quarter-frames."""
    return float(_short(program, stood, np.append(np.arange(stood.first, stood.last, 0.25), stood.last)).max())


def _short(program: Program, stood: Stood, at: Floats) -> Floats:
    """(F,) how far a standing joint stays from where it should be."""
    bound = program.bound(*stood.part)
    aim = bound.systems[stood.system].system.aim(bound, stood.control)
    joint = program.nodes[bound.member.id, str(bound.controls[stood.control].control.rests_on)]
    pos = program.track(at, np.where(at == stood.last, ARRIVING, LEAVING), [aim, joint])[0]
    found: Floats = np.linalg.norm(pos[:, 0] - pos[:, 1], axis=1)
    return found


def _projected(start: Floats, centres: Floats, radii: Floats, active: np.ndarray) -> Floats:
    """(F, 3) the points nearest to these in all the balls (L, F) that are active; between them where they do not meet."""
    found = start.copy()
    carried = np.zeros_like(centres)
    for _ in range(PROJECTIONS):
        for k in range(len(centres)):
            at = found + carried[k]
            off = at - centres[k]
            far = np.linalg.norm(off, axis=1)
            inside = np.where(far > radii[k], np.maximum(radii[k], 0.0) / np.maximum(far, 1e-12), 1.0)
            there = np.where(active[k][:, None], centres[k] + off * inside[:, None], at)
            carried[k] = at - there
            found = there
    return found


def _gentle(shift: Floats, around: int) -> Floats:
    """(F, 3) the greatest of so many frames around each, then smoothed over as many."""
    if around < 1:
        return shift
    from scipy.ndimage import maximum_filter1d

    size = np.linalg.norm(shift, axis=1)
    most = maximum_filter1d(size, 2 * around + 1, mode="nearest")
    kept = np.array([
        shift[max(0, f - around) + int(np.argmax(size[max(0, f - around) : f + around + 1]))] if most[f] > 0.0 else shift[f]
        for f in range(len(shift))
    ])  # fmt: skip
    window = np.hanning(2 * around + 3)[1:-1]
    padded = np.concatenate([np.repeat(kept[:1], around, 0), kept, np.repeat(kept[-1:], around, 0)])
    return np.stack([np.convolve(padded[:, a], window / window.sum(), mode="valid") for a in range(3)], axis=1)


def _moved(program: Program, carrier: Bound, frames: Floats, shift: Floats) -> tuple[Program, float, float]:
    """The take with a body shifted (F, 3) at frames, and from when to when that changes it."""
    from scipy.interpolate import PchipInterpolator

    moves = np.flatnonzero(np.linalg.norm(shift, axis=1) > 1e-9)
    a, b = float(frames[max(moves[0] - 1, 0)]), float(frames[min(moves[-1] + 1, len(frames) - 1)])
    within = frames[(frames >= a) & (frames <= b)]
    state = carrier.state(program.sample(within, LEAVING, carrier.driver_channels))
    if state is None:
        raise CoreError(
            f"{carrier.who} is driven by two systems from frame {a:g} to {b:g}, so it can't give way: let one of them drive there."
        )
    target = system_target(program, carrier, state)
    by = PchipInterpolator(frames, shift, axis=0)
    breaks = program.key_times()

    def poses(at: Floats, side: Ints) -> Poses:
        found = program.evaluate(at, side, only=target.nodes)
        found.pos[:, carrier.nodes] += by(np.clip(at, frames[0], frames[-1]))[:, None]
        return found

    curves: Curves = dict(program.take.curves)
    motion = Motion(program, poses, lambda t: FINE * steps(np.union1d(breaks, frames), t))
    carry(program, target, curves, a, b, b >= program.take.last, Placing("every"), motion)
    names = program.channel_names()
    for c in target.channels[~target.mine.stepped].tolist():
        # A body that stands still from key to key, stepped ones, moves smoothly while it gives way.
        made = curves[names[c]]
        there = (made.times >= a) & (made.times < b) & (made.marks[:, 0] == STEPPED)
        if there.any():
            marks = made.marks.copy()
            marks[there, 0] = SMOOTH
            curves[names[c]] = Curve(made.numbers, marks)
    if target.moves_alone:
        for c, standing in zip(target.channels.tolist(), target.mine.standard.tolist(), strict=True):
            made = curves[names[c]]
            if not len(program.curve(c)) and np.abs(made.numbers[:, 1:3] - standing).max() <= ROUNDING:
                # Of a fit that adjusts nothing only the rounding is left.
                del curves[names[c]]
    return (
        program.on(program.take.with_curves({n: c for n, c in curves.items() if program.take.curves.get(n) is not c})),
        a,
        b,
    )
