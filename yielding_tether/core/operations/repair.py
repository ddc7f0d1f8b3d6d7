"""Repairs of findings: each takes one fault out and leaves everything outside its own stretch as it was.

one-sided   both systems get their keys at the change; a jump is joined
pop         the first key after the change meets the pose that arrives, with its speed
speed       the same, where only the speed jumped
smooth      the change happens at one frame; the incoming system takes the pose and the speed that arrive
half, opposite
            one system drives: the one that takes over, or the one that drove before
flip        the bend goes back to the side it came from
lost        the guide goes back to a sensible distance; the pose does not depend on it
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from ..cast import ROTATION, TRANSLATION, FreePart
from ..curves import ARRIVING, EMPTY, FENCE, FREE, LEAVING, SMOOTH, STEPPED, Curve, Key, curve, insert, put, without
from ..errors import CoreError
from ..evaluation import Limb, Program
from ..findings import POP_PLACE, Finding, bend_sides, find_all, side_turn
from ..fitting import limb_length, system_channels
from ..measure import slopes_of, stencil, steps
from ..proof import Proof, prove
from ..systems import fk
from ..takes import Take
from ..transforms import ORDERS
from .handover import fit_along, join, set_over

#: Frames over which a speed fades where no key follows.
SETTLE = 4.0


@dataclass(frozen=True)
class _Repaired:
    """A take with one fault less, the frames within which it changed, and the changes to measure."""

    take: Take
    first: float
    last: float
    changes: list[float]


def apply(program: Program, keys: Sequence[str]) -> tuple[Take, Proof]:
    """Repairs the findings with these keys, or all if none is named. CoreError if one is not there."""
    found = {f.key: f for f in find_all(program, wanted=True)}
    for key in keys:
        if key not in found:
            raise CoreError("This finding is not there any more: something has changed since it was listed.")
    todo = [found[k] for k in dict.fromkeys(keys)] if keys else find_all(program)
    if not todo:
        raise CoreError("There is nothing to repair: the take has no open findings.")
    now, first, last = program, np.inf, -np.inf
    changes = []
    # Causes come first: an earlier repair may have taken a later finding with it, and then nothing is left to do.
    for finding in sorted(todo, key=lambda f: f.frame):
        if now is not program and finding.key not in {f.key for f in find_all(now, wanted=True)}:
            continue
        done = _REPAIRS[finding.kind](now, finding)
        now = Program(program.scene, done.take)
        first, last = min(first, done.first), max(last, done.last)
        limb = now.limbs.get((finding.member, finding.part))
        if limb is not None:
            changes += [(limb, t) for t in done.changes]
    now.check_loops()
    latest = [(now.limbs[limb.member.id, limb.part.name], t) for limb, t in changes]
    return now.take, prove(
        "repair", program, now, float(first), float(last), list({(id(m), t): (m, t) for m, t in latest}.values())
    )


def describe(program: Program, keys: Sequence[str]) -> str:
    """One line for the list of revisions."""
    found = {f.key: f for f in find_all(program, wanted=True)}
    picked = [found[k] for k in dict.fromkeys(keys) if k in found] if keys else find_all(program)
    if len(picked) == 1:
        return f"Repair: {picked[0].sentence}"[:200]
    return f"Repair {len(picked)} findings"


def _edge(program: Program, curves: dict[str, Curve], channels: Sequence[int], t: float) -> None:
    """Keys in all these channels at t that change nothing."""
    names = program.channel_names()
    for c in channels:
        curves[names[c]] = insert(curves.get(names[c], EMPTY), t, float(program.defaults[c]), FENCE)


def _reach(program: Program, curves: dict[str, Curve], channels: Sequence[int], t: float) -> float:
    """Until when a new value at t is felt: the latest of the next keys."""
    names = program.channel_names()
    after = [times[times > t] for c in channels if len(times := curves[names[c]].times)]
    return max((float(x[0]) if len(x) else float(program.take.last) for x in after), default=t)


def _change(program: Program, finding: Finding) -> _Repaired:
    """One-sided keys, pops, jumps of speed."""
    t = finding.frame
    part = program.scene.member(finding.member).part(finding.part)
    if isinstance(part, FreePart):
        return _meet(program, finding, part)
    limb = program.limbs[finding.member, finding.part]
    curves = dict(program.take.curves)
    before, after = finding.systems
    for keyed in {before, after} - {"capture"}:
        _edge(program, curves, system_channels(limb, keyed).tolist(), t)
    if finding.kind == "one-sided" and finding.place <= 1e-6 and finding.turn <= 1e-6:
        return _Repaired(program.take.with_curves(curves), t, t, [])
    if after == "capture":
        first = _join_back(program, limb, curves, before, t)
        return _Repaired(program.take.with_curves(curves), first, t, [t])
    system = system_channels(limb, after)
    join(Program(program.scene, program.take.with_curves(curves)), limb, curves, after, t, SETTLE)
    return _Repaired(program.take.with_curves(curves), t, _reach(program, curves, system.tolist(), t), [t])


def _join_back(program: Program, limb: Limb, curves: dict[str, Curve], before: str, t: float) -> float:
    """Where a capture takes over, which never changes, the outgoing system's last stretch is led to meet it."""
    system = system_channels(limb, before)
    names = program.channel_names()
    near = program.sample([t], ARRIVING, system)[:, 0]
    fitted = fit_along(program, limb, before, np.array([t]), np.array([True]), near)
    first = t
    for k, c in enumerate(system):
        kept = curves[names[c]]
        i = kept.find(t) or 0
        slope = 0.0 if k == 9 else float(fitted.slopes[LEAVING, k, 0])
        curves[names[c]] = put(kept, [kept.key(i)._replace(
            arriving=float(fitted.values[LEAVING, k, 0]), slope_in=slope, rule=FREE)])  # fmt: skip
        first = min(first, float(kept.times[i - 1]) if i else float(program.take.first))
    return first


def _meet(program: Program, finding: Finding, part: FreePart) -> _Repaired:
    """A root or a prop meets the place and the speed that arrive."""
    t = finding.frame
    names = program.channel_names()
    channels = [program.channels[f"{finding.member}/{part.joint}.{c}"] for c in (*TRANSLATION, *ROTATION)]
    node, space = program.nodes[finding.member, part.joint], program.nodes[finding.member, part.joint, "space"]
    at = np.array([t])
    step = steps(program.key_times(), at)
    times, side = stencil(at, step)
    # What arrives, seen from the space that is followed afterwards.
    followed = program.tether_channels(finding.member, part.joint)
    weights = program.sample(at, LEAVING, np.array(followed, dtype=np.int64))[:, 0]
    wanted = program.evaluate(times[5:], side[5:])
    spaces = program.evaluate(times[5:], side[5:], overrides=dict(zip(followed, weights.tolist(), strict=True)))
    near = program.sample(at, LEAVING, np.array(channels))[3:, 0]
    out = np.empty((6, 5))
    fk.fit_place(
        np.ascontiguousarray(wanted.pos[:, node]), np.ascontiguousarray(wanted.rot[:, node]),
        np.ascontiguousarray(spaces.pos[:, space]), np.ascontiguousarray(spaces.rot[:, space]),
        ORDERS.index(part.order), near, out,
    )  # fmt: skip
    both = np.stack([out, out], axis=1)
    slope = slopes_of(np.moveaxis(both, 0, -1)[None], step)[0, 1]
    curves = dict(program.take.curves)
    _edge(program, curves, channels, t)
    for k, c in enumerate(channels):
        kept = curves[names[c]]
        key = kept.key(kept.find(t) or 0)
        value, speed = float(out[k, 0]), float(slope[k])
        if kept.times[-1] == t:
            # Nothing follows: the speed fades, and what was there after it stays.
            fade = min(SETTLE, program.take.last - t)
            if not fade:
                continue
            kept = insert(kept, t + fade, key.leaving, FENCE)
        kind = SMOOTH if key.kind == STEPPED else key.kind
        curves[names[c]] = put(kept, [key._replace(leaving=value, slope_out=speed, rule=FREE, kind=kind)])
    return _Repaired(program.take.with_curves(curves), t, _reach(program, curves, channels, t), [])


def _mixed(program: Program, finding: Finding) -> _Repaired:
    """One system drives where two were mixed. A change happens at one frame, and the incoming system takes the pose
    and the speed that arrive there; where the mixing led nowhere, the system before it goes on."""
    limb = program.limbs[finding.member, finding.part]
    before, after = finding.systems
    first, last = finding.frame, finding.last
    curves = dict(program.take.curves)
    changing = bool(before and after) and before != after
    # A capture never changes: what leads to it stays until it takes over.
    stay = after if changing and after != "capture" else before or after or "ik"
    names = program.channel_names()
    levels = {limb.drive: 1.0 if stay == "ik" else 0.0} if stay != "capture" else {}
    if limb.captured >= 0:
        levels[limb.captured] = 1.0 if stay == "capture" else 0.0
    for c, level in levels.items():
        old = curves.get(names[c], EMPTY)
        open_end = last >= program.take.last
        curves[names[c]] = set_over(old, first, last, open_end, level, float(program.defaults[c]))
    if not changing:
        return _Repaired(program.take.with_curves(curves), first, last, [])
    for system in {before, after} - {"capture"}:
        channels = system_channels(limb, system).tolist()
        _edge(program, curves, channels, first)
        _edge(program, curves, channels, last)
    driven = Program(program.scene, program.take.with_curves(curves))
    at = last if after == "capture" else first
    arriving, leaving = driven.evaluate([at], ARRIVING), driven.evaluate([at], LEAVING)
    nodes = list(limb.nodes)
    if np.linalg.norm(arriving.pos[:, nodes] - leaving.pos[:, nodes], axis=-1).max() > POP_PLACE and last > first:
        # The systems stand apart: what lies between the edges would make the way to the next key short and hard.
        for c in system_channels(limb, stay):
            curves[names[c]] = without(curves[names[c]], first, last)
        driven = Program(program.scene, program.take.with_curves(curves))
    if after == "capture":
        start = _join_back(driven, limb, curves, before, last)
        return _Repaired(program.take.with_curves(curves), min(start, first), last, [last])
    join(driven, limb, curves, after, first, SETTLE)
    end = max(last, _reach(program, curves, system_channels(limb, after).tolist(), first))
    return _Repaired(program.take.with_curves(curves), first, end, [first])


def _flip(program: Program, finding: Finding) -> _Repaired:
    """The bend goes back to the side it came from: by its sign where that stepped, else by the swivel."""
    limb = program.limbs[finding.member, finding.part]
    names = program.channel_names()
    t, end = finding.frame, finding.last
    curves = dict(program.take.curves)
    bend, swivel = int(limb.ik[9]), int(limb.ik[6])
    stepped = curves.get(names[bend], EMPTY)
    before = float(program.sample([t], ARRIVING, np.array([bend]))[0, 0])
    now = float(program.sample([t], LEAVING, np.array([bend]))[0, 0])
    by_sign = stepped.find(t) is not None and before * now < 0.0
    if by_sign:
        curves[names[bend]] = _shifted(stepped, t, end, lambda v: -v)
    else:
        kept = curves.get(names[swivel], EMPTY)
        earlier = kept.times[kept.times < t]
        came = float(earlier[-1]) if kept.find(t) is None or not kept.key(kept.find(t) or 0).split else t
        at = [came, t]
        arriving, leaving = program.evaluate(at, ARRIVING), program.evaluate(at, LEAVING)
        (aim_a, side_a), (aim_l, side_l) = bend_sides(limb, arriving), bend_sides(limb, leaving)
        off = float(side_turn(aim_a[:1], side_a[:1], aim_l[1:], side_l[1:])[0])
        curves[names[swivel]] = _shifted(kept, t, end, lambda v: v - off)
    changed = curves[names[bend if by_sign else swivel]]
    i = int(np.searchsorted(changed.times, t))
    j = int(np.searchsorted(changed.times, end))
    first = float(changed.times[i - 1]) if i else float(program.take.first)
    last = float(changed.times[j]) if j < len(changed) else float(program.take.last)
    return _Repaired(program.take.with_curves(curves), first, last, [])


def _shifted(kept: Curve, first: float, last: float, change: Callable[[float], float]) -> Curve:
    """Values from where time leaves `first` to where it arrives at `last` put through `change`."""
    keys: list[Key] = []
    for key in kept.all_keys():
        inside = first < key.time < last
        # A key that is not split carries its value on both sides: a smooth curve flips on its way to it.
        whole = not key.split and first <= key.time < last and key.kind != STEPPED
        arriving = change(key.arriving) if inside or (key.time == last and key.split) or whole else key.arriving
        leaving = change(key.leaving) if first <= key.time < last else key.leaving
        keys.append(key._replace(arriving=arriving, leaving=leaving))
    return curve(keys)


def _lost(program: Program, finding: Finding) -> _Repaired:
    """The guide stands at its sensible distance while it was lost; nothing else changes."""
    limb = program.limbs[finding.member, finding.part]
    name = program.channel_names()[limb.guide]
    kept = program.take.curves[name]
    times = kept.times
    # The keys that the lost stretch hangs from: those in it and the ones it runs between.
    i = max(int(np.searchsorted(times, finding.frame, side="right")) - 1, 0)
    j = min(int(np.searchsorted(times, finding.last)), len(times) - 1)
    keys = []
    most = 0.6 * limb_length(limb)
    for key in (kept.key(n) for n in range(i, j + 1)):
        far = abs(key.leaving) > most or abs(key.arriving) > most
        keys.append(key._replace(arriving=0.0, leaving=0.0, slope_in=0.0, slope_out=0.0) if far else key)
    return _Repaired(
        program.take.with_curves({name: put(kept, keys)}), float(times[i]), float(times[j]), []
    )  # fmt: skip


_REPAIRS: dict[str, Callable[[Program, Finding], _Repaired]] = {
    "one-sided": _change, "pop": _change, "speed": _change, "smooth": _mixed, "half": _mixed, "opposite": _mixed,
    "flip": _flip, "lost": _lost,
}  # fmt: skip
