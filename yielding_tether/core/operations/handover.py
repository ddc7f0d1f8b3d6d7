"""Handover: one or several limbs change between FK and IK, and nothing moves at the change.

    the incoming channels = fit_B(solve_A(x))

At the first frame every channel of the incoming system gets a split key: as time arrives it holds what it held,
as time leaves the fit. Slopes are those of the fit along the motion, so the speed passes on. Then the motion is
carried on at the kept key times or on every frame, or the pose is held. Where the stretch already holds the
wanted system, its keys stay, and a jump at the change into it is joined.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import pairwise
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import brentq

from ..cast import LimbPart
from ..curves import (
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
    without,
)
from ..errors import CoreError
from ..evaluation import Limb, Program
from ..fitting import fit_limb, fit_values, limb_bends, system_channels
from ..measure import slopes_of, stencil, steps
from ..proof import EXACT, Proof, prove
from ..takes import Take
from ..transforms import Floats, Ints, rotation_distance, wrap_near

Flags = NDArray[np.bool_]

#: Step of the plain central difference at keys that no source key shares, frames.
_CENTRAL = 1.0 / 32.0


@dataclass(frozen=True)
class Handover:
    """What to hand over: `parts` (member, part) to the system `to`, from frame `first` to `last`, or from there
    on when `last` is None. `after`: carry the motion on, or hold the pose; where it is held, the speed that arrives
    passes on and fades over `settle` frames, `speed` "keep" where it leads "settle" back onto the held pose, or it
    stops at once ("stop", or 0 frames). `keys`: on the kept key times, on every frame, or on the kept key times and
    as many more as keep every joint within `tolerance` (metres and radians) of the motion that was."""

    parts: tuple[tuple[str, str], ...]
    to: Literal["fk", "ik"]
    first: float
    last: float | None = None
    after: Literal["carry", "hold"] = "carry"
    keys: Literal["kept", "every", "within"] = "kept"
    settle: int = 4
    speed: Literal["keep", "settle", "stop"] = "keep"
    tolerance: tuple[float, float] = (1e-3, np.pi / 360.0)


@dataclass
class _Work:
    """One limb in hand: its curves so far, where it changed, what locks took from it."""

    limb: Limb
    curves: dict[str, Curve]
    changes: list[float] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    residual: tuple[float, float] = (0.0, 0.0)
    gives: dict[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Fitted:
    """Channels of a system along a motion, at T key times: `values` and `slopes` (2, K, T), leaving first."""

    times: Floats
    values: Floats
    slopes: Floats


def apply(program: Program, asked: Handover) -> tuple[Take, Proof]:
    """The take after the handover, and its proof. CoreError says what can't be done; nothing changes then."""
    take = program.take
    first, last, open_end = _range(take, asked)
    works = []
    for member, name in asked.parts:
        limb = program.limbs.get((member, name))
        if limb is None:
            raise CoreError(f"{name} of {member} is no limb: only limbs have both IK and FK.")
        works.append(_hand_over(program, limb, asked, first, last, open_end))
    if not any(w.curves for w in works):
        labels = ", ".join(w.limb.part.label for w in works)
        raise CoreError(
            f"{asked.to.upper()} already drives {labels} from frame {first:g} to {last:g}: nothing to hand over."
        )
    after = Program(program.scene, take.with_curves({k: v for w in works for k, v in w.curves.items()}))
    after.check_loops()
    proof = prove(
        "handover", program, after, first, last, [(w.limb, t) for w in works for t in w.changes],
        residual=(max(w.residual[0] for w in works), max(w.residual[1] for w in works)),
        gives={k: v for w in works for k, v in w.gives.items()},
        notes=tuple(n for w in works for n in w.notes), tolerance=asked.tolerance if asked.keys == "within" else None,
    )  # fmt: skip
    return after.take, proof


def _range(take: Take, asked: Handover) -> tuple[float, float, bool]:
    if not asked.parts:
        raise CoreError("Choose at least one limb to hand over.")
    if len(set(asked.parts)) != len(asked.parts):
        raise CoreError("A limb is named twice in one handover.")
    first = float(asked.first)
    last = float(take.last if asked.last is None else asked.last)
    if not (np.isfinite(first) and np.isfinite(last)):
        raise CoreError("The first and last frame must be numbers.")
    if first < take.first or last > take.last or first > last:
        raise CoreError(
            f"Frames {first:g} to {last:g} do not lie in the take, which runs from {take.first} to {take.last}."
        )
    if asked.settle < 0:
        raise CoreError("A pose can't settle over less than no frames.")
    if not (min(asked.tolerance) > 0.0 and np.isfinite(asked.tolerance).all()):
        raise CoreError("A tolerance must be above zero.")
    open_end = asked.last is None or last >= take.last
    if first == last and not open_end:
        raise CoreError("A handover over a range needs a last frame after its first.")
    return first, last, open_end


def _hand_over(program: Program, limb: Limb, asked: Handover, first: float, last: float, open_end: bool) -> _Work:
    work = _Work(limb, {})
    names = program.channel_names()
    goal = 1.0 if asked.to == "ik" else 0.0
    system = system_channels(limb, asked.to)
    curves = dict(program.take.curves)
    _refuse_locked(program, limb, system, first, last)

    if asked.after == "hold":
        _hold(program, work, curves, asked, system, first, last)
        work.changes.append(first)
    else:
        for start, end, stays in _pieces(program, limb, goal, first, last):
            if stays:
                joined = _join(program, work, curves, asked, start)
                if joined:
                    work.changes.append(start)
            else:
                _carry(program, work, curves, asked, system, start, end, end == last and open_end)
                work.changes.append(start)
    if not work.changes:
        return work
    drive_names = [names[c] for c in limb.switches]
    for name, level in zip(drive_names, (goal, 0.0), strict=False):
        default = float(program.defaults[program.channels[name]])
        curves[name] = set_over(curves.get(name, EMPTY), first, last, open_end, level, default)
    # Both systems are keyed at the change; the outgoing one keeps its shape.
    outgoing = system_channels(limb, "fk" if asked.to == "ik" else "ik")
    for c in outgoing:
        kept = curves.get(names[c], EMPTY)
        for edge in (first,) if open_end else (first, last):
            kept = insert(kept, edge, float(program.defaults[c]), FENCE)
        curves[names[c]] = kept
    if not open_end:
        work.changes.append(last)
    work.curves = {k: v for k, v in curves.items() if v is not program.take.curves.get(k)}
    return work


def _refuse_locked(program: Program, limb: Limb, system: Ints, first: float, last: float) -> None:
    names = program.channel_names()
    for c in (*system, limb.drive):
        kept = program.take.curves.get(names[c], EMPTY)
        inside = (kept.times >= first) & (kept.times <= last) & (kept.marks[:, 3] > 0)
        if inside.any():
            frame = float(kept.times[inside][0])
            raise CoreError(
                f"The key of {names[c]} at frame {frame:g} is locked: unlock it, or choose a stretch without it."
            )


def _pieces(program: Program, limb: Limb, goal: float, first: float, last: float) -> list[tuple[float, float, bool]]:
    """The range cut where the driver changes hands: (start, end, whether the wanted system drives there)."""
    names = program.channel_names()
    switches = limb.switches
    cuts = {first, last}
    for c in switches:
        times = program.take.curves.get(names[c], EMPTY).times
        cuts.update(times[(times > first) & (times < last)].tolist())
    edges = sorted(cuts)
    if len(edges) == 1:
        edges = [first, last]
    pieces: list[tuple[float, float, bool]] = []
    for start, end in pairwise(edges):
        inside = program.sample(np.linspace(start, end, 5)[:-1], LEAVING, np.array(switches))
        stays = bool(np.all(inside[0] == goal)) and bool(np.all(inside[1:] == 0.0))
        if pieces and pieces[-1][2] == stays and not stays:
            pieces[-1] = (pieces[-1][0], end, stays)
        else:
            pieces.append((start, end, stays))
    return pieces


def _source_channels(program: Program, limb: Limb, to: str, start: float, end: float) -> set[int]:
    """Channels that the motion of a limb is made of over a stretch: its live ones and all upstream of its joints
    and of the space it is fitted in."""
    at = np.unique(np.append(np.arange(np.ceil(start), end), [start, end]))
    nodes = [limb.nodes[2]] + ([limb.space] if to == "ik" else [])
    found = program.sources(nodes, at)
    drive = program.sample(at, LEAVING, np.array([limb.drive]))
    if np.all(drive == 0.0):
        found -= set(limb.ik.tolist())
    if np.all(drive == 1.0):
        found -= set(limb.fk[:, 3:].ravel().tolist())
    if limb.captured >= 0 and np.all(program.sample(at, LEAVING, np.array([limb.captured])) == 1.0):
        found -= set(limb.ik.tolist()) | set(limb.fk[:, 3:].ravel().tolist())
    return found


def fit_along(program: Program, limb: Limb, to: str, times: Floats, exact: Flags, near: Floats) -> Fitted:
    """Fits a system at key times along a motion, with slopes from both sides.

    times: (T,) frames in order; exact: (T,) bool, where both one-sided slopes are wanted (elsewhere one
    central difference does); near: (K,) values before the first. Angles are followed from frame to frame, so
    their representation at sparse keys is the continuous one.
    """
    k = len(system_channels(limb, to))
    breaks = program.key_times()
    edge, plain = times[exact], times[~exact]
    step = steps(breaks, edge)
    at1, side1 = stencil(edge, step)
    at2 = (plain[:, None] + np.array([-_CENTRAL, 0.0, _CENTRAL])).ravel()
    between = np.arange(np.floor(times[0]) + 1.0, times[-1])
    at = np.concatenate([at1, at2, between])
    side = np.concatenate([side1, np.zeros(len(at2) + len(between), dtype=np.int64)])
    # Arriving (1) comes before leaving (0) at the same time.
    order = np.lexsort((-side, at))
    poses = program.evaluate(at[order], side[order])
    fitted = np.empty((k, len(at)))
    fitted[:, order] = fit_values(limb, poses, to, near)
    values, slopes = np.empty((2, k, len(times))), np.empty((2, k, len(times)))
    one = np.moveaxis(fitted[:, : len(at1)].reshape(k, len(edge), 2, 5), 0, -1)
    values[:, :, exact] = np.moveaxis(one[:, :, 0], 2, 0).transpose(2, 0, 1)
    slopes[:, :, exact] = slopes_of(one, step).transpose(1, 2, 0)
    three = fitted[:, len(at1) : len(at1) + len(at2)].reshape(k, len(plain), 3)
    values[:, :, ~exact] = three[None, :, :, 1]
    slopes[:, :, ~exact] = (three[:, :, 2] - three[:, :, 0])[None] / (2.0 * _CENTRAL)
    return Fitted(times, values, slopes)


def _carry(
    program: Program, work: _Work, curves: dict[str, Curve], asked: Handover, system: Ints,
    start: float, end: float, open_end: bool,
) -> None:  # fmt: skip
    """Re-expresses the motion of start…end in the incoming system."""
    limb = work.limb
    source = _source_channels(program, limb, asked.to, start, end)
    key_times = program.key_times(source)
    inner = key_times[(key_times > start) & (key_times < end)]
    times = np.concatenate([[start], inner, [end]]) if end > start else np.array([start])
    if asked.keys == "every":
        times = np.unique(np.concatenate([times, np.arange(np.ceil(start), end)]))
    crossings = _crossings(program, limb, times) if asked.to == "ik" else np.empty(0)
    both_sides = np.concatenate([[start, end], inner, crossings])
    times = np.unique(np.concatenate([times, crossings]))
    _note_locks(program, work, asked.to, times)
    keyed = _expressed(program, limb, curves, asked, system, times, both_sides, source, open_end)
    if asked.keys == "within" and end > start:
        while True:
            more = _beyond(program, limb, {**curves, **keyed}, asked, times)
            if not len(more):
                break
            times = np.unique(np.concatenate([times, more]))
            keyed = _expressed(program, limb, curves, asked, system, times, both_sides, source, open_end)
    curves.update(keyed)
    if len(inner) == 0 and asked.keys == "kept" and end > start:
        work.notes.append(
            f"{limb.part.label} has no keys of its own between frames {start:g} and {end:g}: "
            "put keys on every frame to follow the motion more closely."
        )


def _expressed(
    program: Program, limb: Limb, old_curves: dict[str, Curve], asked: Handover, system: Ints, times: Floats,
    both_sides: Floats, source: set[int], open_end: bool,
) -> dict[str, Curve]:  # fmt: skip
    """Curves of the incoming system with keys at these times along the motion; slopes are taken from both sides at
    the times in `both_sides`."""
    start, end = float(times[0]), float(times[-1])
    names = program.channel_names()
    exact = np.isin(times, both_sides)
    near = program.sample([start], LEAVING, system)[:, 0]
    fitted = fit_along(program, limb, asked.to, times, exact, near)
    held = _stepped_intervals(program, source, times)
    signs = _signs(program, limb, times) if asked.to == "ik" else np.ones(len(times))
    found: dict[str, Curve] = {}
    for k, c in enumerate(system):
        name = names[c]
        free = int(c) not in limb.locked
        old = old_curves.get(name, EMPTY)
        default = float(program.defaults[c])
        kept = insert(old, start, default)
        if end > start:
            kept = insert(kept, end, default)
        kept = without(kept, start, end)
        is_sign = k == 9
        keys: list[Key] = []
        for i, t in enumerate(times):
            v_in, v_out = (float(fitted.values[s, k, i]) if free else 0.0 for s in (ARRIVING, LEAVING))
            s_in, s_out = (float(fitted.slopes[s, k, i]) if free else 0.0 for s in (ARRIVING, LEAVING))
            if is_sign:
                v_in, v_out = (float(signs[max(i - 1, 0)]), float(signs[i])) if free else (1.0, 1.0)
            kind = STEPPED if is_sign or held[i] else SMOOTH
            if is_sign:
                s_in = s_out = 0.0
                if 0 < i < len(times) - 1 and keys and keys[-1].leaving == v_out:
                    continue
            old_key = kept.key(kept.find(t) or 0) if t in (start, end) else None
            if t == start and old_key is not None:
                v_in, s_in = old_key.arriving, old_key.slope_in
            if t == end and end > start and old_key is not None:
                s_fit, v_fit = s_out, v_out
                v_out, s_out, kind = old_key.leaving, old_key.slope_out, old_key.kind
                if open_end:
                    v_out, s_out, kind = v_fit, s_fit, SMOOTH
            if abs(v_in - v_out) <= 1e-12 * max(1.0, abs(v_in)) and t not in (start, end):
                v_out = v_in
            keys.append(Key(t, v_in, v_out, s_in, s_out, kind, FREE, FENCE if t in (start, end) else 0))
        found[name] = put(kept, keys)
    return found


def _beyond(program: Program, limb: Limb, curves: dict[str, Curve], asked: Handover, times: Floats) -> Floats:
    """Where keys are wanted for the tolerance: the whole frame nearest to the worst of each segment that leaves it,
    or its middle where no frame lies between its keys. None where the segment is too short to be cut."""
    after = Program(program.scene, program.take.with_curves(curves))
    at = np.arange(2 * np.ceil(times[0]), 2 * times[-1] + 0.5) / 2.0
    at = at[(at > times[0]) & (at < times[-1]) & ~np.isin(at, times)]
    if not len(at):
        return np.empty(0)
    overrides: dict[int, float | Floats] = {
        after.channels[program.channel_names()[limb.drive]]: float(asked.to == "ik")
    }
    if limb.captured >= 0:
        overrides[after.channels[program.channel_names()[limb.captured]]] = 0.0
    was, now = program.evaluate(at), after.evaluate(at, overrides=overrides)
    # What hangs from the limb, or follows it, is to stay within the tolerance too.
    nodes = program.joints()[1]
    place = np.linalg.norm(now.pos[:, nodes] - was.pos[:, nodes], axis=-1).max(axis=1) / asked.tolerance[0]
    turn = rotation_distance(now.rot[:, nodes], was.rot[:, nodes]).max(axis=1) / asked.tolerance[1]
    off = np.maximum(place, turn)
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


def _crossings(program: Program, limb: Limb, times: Floats) -> Floats:
    """Times between these at which the limb passes through straight, or through its full fold.

    There the bend sign steps. A key of all channels at that very moment lets it step without a jump: the limb is
    straight on both sides.
    """
    grid = np.unique(np.concatenate([times, np.arange(np.ceil(times[0]), times[-1])]))
    leaving = np.sin(limb_bends(limb, program.evaluate(grid[:-1]))[0])
    arriving = np.sin(limb_bends(limb, program.evaluate(grid[1:], ARRIVING))[0])

    def sine(t: float) -> float:
        return float(np.sin(limb_bends(limb, program.evaluate([t]))[0, 0]))

    found = []
    for k in np.flatnonzero((leaving * arriving < 0.0) & (np.abs(leaving) > 1e-6) & (np.abs(arriving) > 1e-6)):
        a, b = grid[k] + 1e-9, grid[k + 1] - 1e-9
        if sine(a) * sine(b) < 0.0:
            found.append(float(brentq(sine, a, b, xtol=1e-12)))
    return np.array(found)


def _signs(program: Program, limb: Limb, times: Floats) -> Floats:
    """(T,) bend sign of the segments that leave these times; the last one is that of the segment before."""
    if len(times) == 1:
        return np.where(limb_bends(limb, program.evaluate(times))[0] < 0.0, -1.0, 1.0)
    middles = 0.5 * (times[1:] + times[:-1])
    signs = np.where(limb_bends(limb, program.evaluate(middles))[0] < 0.0, -1.0, 1.0)
    return np.append(signs, signs[-1])


def _stepped_intervals(program: Program, source: set[int], times: Floats) -> np.ndarray:
    """(T,) whether the segment that leaves each time is held by stepped keys in every channel it comes from."""
    names = program.channel_names()
    held = np.ones(len(times), dtype=bool)
    keyed = False
    moving_capture = any(program.info[c][2].role == "captured" and program.defaults[c] > 0.0 for c in source)
    if moving_capture:
        return np.zeros(len(times), dtype=bool)
    for c in source:
        kept = program.take.curves.get(names[c], EMPTY)
        if not len(kept) or program.info[c][2].role in ("drive", "tether"):
            continue
        i = np.searchsorted(kept.times, times, side="right") - 1
        inside = (i >= 0) & (i < len(kept) - 1)
        stepped = ~inside | (kept.marks[np.maximum(i, 0), 0] == STEPPED)
        held &= stepped
        keyed |= bool(inside.any())
    return held if keyed else np.zeros(len(times), dtype=bool)


def _join(program: Program, work: _Work, curves: dict[str, Curve], asked: Handover, start: float) -> bool:
    """Takes a jump out of an existing change into the wanted system. False if nothing jumps there."""
    limb = work.limb
    at = np.array([start])
    arriving, leaving = program.evaluate(at, ARRIVING), program.evaluate(at, LEAVING)
    nodes = list(limb.nodes)
    gap = float(np.linalg.norm(arriving.pos[:, nodes] - leaving.pos[:, nodes], axis=-1).max())
    turn = float(rotation_distance(arriving.rot[:, nodes], leaving.rot[:, nodes]).max())
    if gap <= EXACT and turn <= EXACT:
        return False
    join(program, limb, curves, asked.to, start, _settle(asked))
    work.notes.append(
        f"{limb.part.label} joins its {asked.to.upper()} keys at frame {start:g}, "
        f"where it jumped by {1000 * gap:.1f} mm."
    )
    return True


def join(program: Program, limb: Limb, curves: dict[str, Curve], to: str, start: float, settle: float) -> None:
    """Makes a system that takes over at `start` meet the pose and the speed that arrive there: its first key is
    changed in `curves`, the keys after it stay. Where none follow, the speed fades over `settle` frames."""
    names = program.channel_names()
    system = system_channels(limb, to)
    at = np.array([start])
    near = program.sample(at, LEAVING, system)[:, 0]
    fitted = fit_along(program, limb, to, at, np.array([True]), near)
    values = _nearest_turns(program, system, fitted.values[ARRIVING, :, 0], near)
    for k, c in enumerate(system):
        default = float(program.defaults[c])
        kept = insert(curves.get(names[c], EMPTY), start, default)
        key = kept.key(kept.find(start) or 0)
        free = int(c) not in limb.locked
        value = values[k] if free else default
        sign = k == 9
        slope = 0.0 if sign or not free or key.kind == STEPPED else float(fitted.slopes[ARRIVING, k, 0])
        keys = []
        if key.kind == LINEAR and kept.times[-1] > start:
            # A straight segment can't take a speed over: it becomes a smooth one that ends as it did.
            after = kept.key((kept.find(start) or 0) + 1)
            chord = (after.arriving - value) / (after.time - start)
            keys.append(after._replace(slope_in=chord, rule=FREE))
            key = key._replace(kind=SMOOTH)
        if kept.times[-1] == start:
            # Nothing follows: the pose is kept, and the speed it arrived with fades.
            fade = min(settle, program.take.last - start)
            if fade and not sign:
                held = value + slope * fade / 3.0
                keys.append(Key(start + fade, held, held, 0.0, 0.0, SMOOTH, FREE))
            else:
                slope = 0.0
        keys.append(key._replace(leaving=value, slope_out=slope, rule=FREE, kind=STEPPED if sign else key.kind))
        curves[names[c]] = put(kept, keys)


def _settle(asked: Handover) -> float:
    """Frames over which the speed of a held pose fades."""
    return 0.0 if asked.speed == "stop" else float(asked.settle)


def _carried(asked: Handover, slope: float, settle: float) -> float:
    """How far a value goes beyond the held pose while its speed fades evenly: a third of the way at that speed."""
    return slope * settle / 3.0 if asked.speed == "keep" else 0.0


def _nearest_turns(program: Program, system: Ints, values: Floats, near: Floats) -> list[float]:
    """Angles put into the whole turn nearest to the keys that follow."""
    found = []
    for c, value, other in zip(system, values, near, strict=True):
        turns = program.info[c][2].name in ("rx", "ry", "rz", "swivel", "twist")
        found.append(float(wrap_near(value, other)) if turns else float(value))
    return found


def _hold(
    program: Program,
    work: _Work,
    curves: dict[str, Curve],
    asked: Handover,
    system: Ints,
    first: float,
    last: float,
) -> None:
    """Holds the pose that arrives at `first` in the incoming system until `last`."""
    limb = work.limb
    names = program.channel_names()
    at = np.array([first])
    near = program.sample(at, LEAVING, system)[:, 0]
    # What arrives is the pose to hold; at the very start of a take nothing arrives, and both sides are one.
    fitted = fit_along(program, limb, asked.to, at, np.array([True]), near)
    _note_locks(program, work, asked.to, at)
    open_end = asked.last is None or last >= program.take.last
    for k, c in enumerate(system):
        default = float(program.defaults[c])
        sign = k == 9
        free = int(c) not in limb.locked
        value = float(fitted.values[ARRIVING, k, 0]) if free else default
        slope = float(fitted.slopes[ARRIVING, k, 0]) if free and not sign else 0.0
        kept = insert(curves.get(names[c], EMPTY), first, default)
        if not open_end:
            kept = insert(kept, last, default)
            kept = without(kept, first, last)
        else:
            kept = without(kept, first, np.inf)
        start = kept.key(kept.find(first) or 0)
        settle = min(_settle(asked), last - first)
        held = value + _carried(asked, slope, settle)
        keys = [
            start._replace(
                leaving=value,
                slope_out=slope if settle else 0.0,
                kind=STEPPED if sign else SMOOTH,
                rule=FREE,
                tag=FENCE,
            )  # fmt: skip
        ]
        if settle and first + settle < last:
            keys.append(Key(first + settle, held, held, 0.0, 0.0, STEPPED if sign else SMOOTH, FREE))
        if not open_end:
            end = kept.key(kept.find(last) or 0)
            keys.append(end._replace(arriving=held, slope_in=0.0, rule=FREE, tag=FENCE))
        elif settle and first + settle >= last:
            keys.append(Key(last, held, held, 0.0, 0.0, STEPPED if sign else SMOOTH, FREE, FENCE))
        curves[names[c]] = put(kept, keys)


def _note_locks(program: Program, work: _Work, to: str, times: Floats) -> None:
    """Measures what locked channels keep the incoming system from."""
    if not work.limb.locked:
        return
    found = fit_limb(program, work.limb, program.evaluate(times), to)
    work.residual = (
        max(work.residual[0], float(found.position.max())),
        max(work.residual[1], float(found.rotation.max())),
    )
    work.gives.update(found.gives)


def set_over(old: Curve, first: float, last: float, open_end: bool, level: float, default: float) -> Curve:
    """A driver curve held at `level` from first to last and as it was elsewhere."""
    kept = insert(old, first, default)
    if open_end:
        kept = without(kept, first, np.inf)
        arriving = float(sample(old, [first], ARRIVING, default)[0])
        return put(kept, [Key(first, arriving, level, 0.0, 0.0, STEPPED, FREE)])
    kept = without(insert(kept, last, default), first, last)
    arriving = float(sample(old, [first], ARRIVING, default)[0])
    end = kept.key(kept.find(last) or 0)
    return put(
        kept,
        [
            Key(first, arriving, level, kept.key(kept.find(first) or 0).slope_in, 0.0, STEPPED, FREE),
            end._replace(arriving=level, slope_in=0.0),
        ],
    )


def limb_labels(program: Program, parts: tuple[tuple[str, str], ...]) -> str:
    """The limbs by the names the animator knows."""
    found = []
    for member, name in parts:
        part = program.scene.member(member).part(name)
        if isinstance(part, LimbPart):
            found.append(part.label)
    return ", ".join(found)


def describe(asked: Handover, program: Program) -> str:
    """One line for the list of revisions."""
    span = f"from frame {asked.first:g} on" if asked.last is None else f"frames {asked.first:g} to {asked.last:g}"
    how = "" if asked.after == "carry" else ", pose held"
    return f"Hand over {limb_labels(program, asked.parts)} to {asked.to.upper()}, {span}{how}"
