"""Bends that stand on the wrong side and bend guides that nobody finds: the faults that only the two-segment limb has, and
their repairs."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial

import numpy as np

from ..curves import ARRIVING, LEAVING, STEPPED, Curve, Key, curve, insert, put
from ..express import control_target, expressed, fence, motion_of, set_over
from ..findings import Finding, span_of, states, who_of
from ..kernels.two_segment import SENSIBLE
from ..program import Poses, Program, pieces
from ..proof import switch_times
from ..rig import Bound
from ..transforms import Floats, multiply, rotate
from .system import Repaired
from .two_segment import FAR, NEAR, TwoSegment, ik_name

#: A bend that turns this far about the line of aim from one frame to the next has flipped.
FLIP = np.radians(100.0)
#: A guide that is carried nearer than this share of its limb's length to the line of aim says nothing.
CLOSE = 0.1
#: A limb bent less than this share of its length shows no side.
BENT = 0.03


def bend_sides(bound: Bound, system: TwoSegment, poses: Poses) -> tuple[Floats, Floats]:
    """Unit line of aim (F, 3) and where the middle joint stands off it (F, 3), metres."""
    root, mid, end = (poses.pos[:, bound.nodes[k]] for k in system.run(bound.part))
    line = end - root
    aim = line / np.maximum(np.linalg.norm(line, axis=1, keepdims=True), 1e-9)
    off = mid - root
    return aim, off - np.sum(off * aim, axis=1, keepdims=True) * aim


def side_turn(aim_a: Floats, side_a: Floats, aim_b: Floats, side_b: Floats) -> Floats:
    """(F,) signed angle about the line of aim by which a bend turned from a to b, its aim carried along."""
    half = aim_a + aim_b
    # The half turn about the middle of two directions carries one onto the other; twice over it is a plain turn.
    half = half / np.maximum(np.linalg.norm(half, axis=1, keepdims=True), 1e-9)
    turn = multiply(_half_turn(half), _half_turn(aim_a))
    carried = rotate(turn, side_a)
    sine = np.sum(np.cross(carried, side_b) * aim_b, axis=1)
    found: Floats = np.arctan2(sine, np.sum(carried * side_b, axis=1))
    return found


def _half_turn(axis: Floats) -> Floats:
    return np.concatenate([axis, np.zeros((len(axis), 1))], axis=1)


def _read(
    program: Program, bound: Bound, sides: Callable[[Poses], tuple[Floats, Floats]], grid: Floats, side: int
) -> tuple[Floats, Floats]:
    """Where a limb aims and to which side it bends (F, 3) at many times, a piece of them after the other."""
    found = [sides(program.evaluate(grid[some], side, only=bound.nodes)) for some in pieces(len(grid))]
    aims, bent = zip(*found, strict=True)
    return np.concatenate(aims), np.concatenate(bent)


def bend_flips(program: Program, bound: Bound, system: TwoSegment) -> Iterator[Finding]:
    """Stretches of IK in which the bend stands on the wrong side."""
    mine = bound.systems[system.name]
    parts = states(program, bound)
    if not any(s.state == system.name for s in parts):
        return
    keyed = [program.curve(c).times for c in mine.channels[6:]]
    changes = set(switch_times(program, bound))
    sides = partial(bend_sides, bound, system)
    for s in parts:
        if s.state != system.name or s.last <= s.first:
            continue
        grid = np.unique(np.concatenate([np.arange(np.ceil(s.first), s.last + 0.5), [s.first, s.last], *keyed]))
        grid = grid[(grid >= s.first) & (grid <= s.last)]
        (aim_a, side_a), (aim_l, side_l) = (_read(program, bound, sides, grid, side) for side in (ARRIVING, LEAVING))
        least = BENT * mine.data.length * program.sizes(grid, LEAVING, int(bound.nodes[0]))
        bent_a, bent_l = np.linalg.norm(side_a, axis=1) > least, np.linalg.norm(side_l, axis=1) > least
        within = np.abs(side_turn(aim_l[:-1], side_l[:-1], aim_a[1:], side_a[1:])) > FLIP
        at = np.abs(side_turn(aim_a, side_a, aim_l, side_l)) > FLIP
        flips = [float(grid[k]) for k in np.flatnonzero(at & bent_a & bent_l)
                 if s.first < grid[k] < s.last and float(grid[k]) not in changes]  # fmt: skip
        flips += [float(grid[k + 1]) for k in np.flatnonzero(within & bent_l[:-1] & bent_a[1:])]
        flips = sorted(set(flips))
        for k in range(0, len(flips), 2):
            first = flips[k]
            last = flips[k + 1] if k + 1 < len(flips) else s.last
            i = int(np.searchsorted(grid, first))
            size = float(np.linalg.norm(side_l[i] - side_a[i - 1]))
            said = f"{who_of(bound)}'s bend flips to the other side {span_of(first, last)}"
            yield Finding(
                "flip", bound.member.id, bound.part.name, who_of(bound), first, last, size, np.pi, said, jumps=True
            )


def carried_guides(program: Program, bound: Bound, system: TwoSegment) -> Iterator[Finding]:
    """Stretches in which what a bend guide follows carries it so near to the line of aim that the bend hardly knows a side."""
    for guide in bound.guides.values():
        frames = program.take.frames
        followed = program.sample(frames, LEAVING, np.array(guide.switches)).max(axis=0) > 0.0
        driving = bound.driving(program.sample(frames, LEAVING, bound.driver_channels))
        frames = frames[followed & (driving == list(bound.systems).index(system.name))]
        if not len(frames):
            continue
        poses = program.evaluate(frames, only=[guide.space, *bound.nodes])
        size = poses.size(bound.slot)
        length = bound.systems[system.name].data.length * (1.0 if size is None else size)
        root, _, end = (poses.pos[:, bound.nodes[k]] for k in system.run(bound.part))
        line, off = end - root, poses.pos[:, guide.space] - root
        far = np.linalg.norm(np.cross(off, line), axis=1) / np.maximum(np.linalg.norm(line, axis=1), 1e-9)
        near = frames[far < CLOSE * length]
        for run in np.split(near, np.flatnonzero(np.diff(near) > 1.0) + 1) if len(near) else ():
            first, last = float(run[0]), float(run[-1])
            worst = float(far[(frames >= first) & (frames <= last)].min())
            said = f"The bend guide of {bound.who} is carried to {100.0 * worst:.1f} cm from the line of aim {span_of(first, last)}"
            yield Finding("lost", bound.member.id, bound.part.name, who_of(bound), first, last, worst, 0.0, said)


def let_go(program: Program, bound: Bound, finding: Finding) -> Repaired:
    """The guide follows nothing while it would be carried to the line of aim: the bend goes over from where it was before that
    to where it is after it in one sweep, with the speeds that it has there."""
    (guide,) = bound.guides.values()
    take = program.take
    first, last = max(finding.frame - 1.0, float(take.first)), min(finding.last + 1.0, float(take.last))
    open_end = finding.last >= take.last
    weights = dict.fromkeys(guide.switches, 0.0)
    target = control_target(program, bound, guide.control.name, weights)
    curves = dict(take.curves)
    if not open_end:
        fence(program, curves, target.channels.tolist(), [last])
    ends = np.unique([first, last])
    curves.update(expressed(motion_of(program, target), target, curves, ends, ends, set(), open_end))
    names = program.channel_names()
    for c in weights:
        curves[names[c]] = set_over(program.curve(c), first, last, open_end, 0.0, float(program.defaults[c]))
    return Repaired(take.with_curves(curves), first, last)


def lost_guides(program: Program, bound: Bound, system: TwoSegment) -> Iterator[Finding]:
    """Stretches in which the bend guide can't be found."""
    yield from carried_guides(program, bound, system)
    guide = bound.own[ik_name(bound), "guide"]
    kept = program.curve(guide)
    if not len(kept):
        return
    frames = np.unique(np.concatenate([program.take.frames, kept.times]))
    frames = frames[(frames >= program.take.first) & (frames <= program.take.last)]
    length = bound.systems[system.name].data.length
    off = SENSIBLE * length + program.sample(frames, LEAVING, np.array([guide]))[0]
    lost = np.concatenate([[False], (off > FAR * length) | (off < NEAR * length), [False]])
    edges = np.flatnonzero(lost[1:] != lost[:-1])
    for a, b in zip(edges[::2], edges[1::2] - 1, strict=True):
        worst = off[a : b + 1][np.argmax(np.abs(off[a : b + 1] - SENSIBLE * length))]
        said = f"The bend guide of {bound.who} stands {worst:.2f} m off {span_of(float(frames[a]), float(frames[b]))}"
        yield Finding(
            "lost", bound.member.id, bound.part.name, who_of(bound), float(frames[a]), float(frames[b]), float(worst), 0.0,
            said,
        )  # fmt: skip


# --- repairs


def turn_back(program: Program, bound: Bound, system: TwoSegment, finding: Finding) -> Repaired:
    """The bend goes back to the side it came from: by its sign where that stepped, else by the swivel."""
    t, end = finding.frame, finding.last
    curves = dict(program.take.curves)
    bend, swivel = (bound.own[ik_name(bound), c] for c in ("bend", "swivel"))
    stepped = program.curve(bend)
    before, now = (float(program.now(t, [bend], side)[0]) for side in (ARRIVING, LEAVING))
    by_sign = stepped.find(t) is not None and before * now < 0.0
    channel = bend if by_sign else swivel
    name = program.channel_names()[channel]
    kept = program.curve(channel)
    if not by_sign:
        earlier = kept.times[kept.times < t]
        came = (
            float(earlier[-1])
            if len(earlier) and (kept.find(t) is None or not kept.key(kept.find(t) or 0).split)
            else t
        )
        arriving, leaving = (program.evaluate([came, t], side, only=bound.nodes) for side in (ARRIVING, LEAVING))
        (aim_a, side_a), (aim_l, side_l) = (bend_sides(bound, system, poses) for poses in (arriving, leaving))
        off = float(side_turn(aim_a[:1], side_a[:1], aim_l[1:], side_l[1:])[0])
    # A key at the end keeps what follows as it was; there the bend is on its own side again, or the take ends.
    default = float(program.defaults[channel])
    kept = insert(insert(kept, t, default), end, default)
    curves[name] = _shifted(kept, t, end, (lambda v: -v) if by_sign else (lambda v: v - off), end >= program.take.last)
    changed = curves[name]
    i, j = int(np.searchsorted(changed.times, t)), int(np.searchsorted(changed.times, end))
    first = float(changed.times[i - 1]) if i else float(program.take.first)
    last = float(changed.times[j]) if j < len(changed) else float(program.take.last)
    return Repaired(program.take.with_curves(curves), first, last)


def _shifted(kept: Curve, first: float, last: float, change: Callable[[float], float], ends: bool) -> Curve:
    """Values from where time leaves `first` to where it arrives at `last` put through `change`; `ends`: nothing follows."""
    keys: list[Key] = []
    for key in kept.all_keys():
        inside = first < key.time < last
        # A key that is not split carries its value on both sides: a smooth curve flips on its way to it.
        whole = not key.split and first <= key.time < last and key.kind != STEPPED
        stepping = key.kind == STEPPED
        arriving = (
            change(key.arriving)
            if inside or (key.time == last and (key.split or stepping or ends)) or whole
            else key.arriving
        )
        leaving = change(key.leaving) if first <= key.time < last or (ends and key.time == last) else key.leaving
        keys.append(key._replace(arriving=arriving, leaving=leaving))
    return curve(keys)


def bring_back(program: Program, bound: Bound, system: TwoSegment, finding: Finding) -> Repaired:
    """The guide stands at its sensible distance while it was lost; nothing else changes."""
    if bound.guides and finding.key in {f.key for f in carried_guides(program, bound, system)}:
        return let_go(program, bound, finding)
    guide = bound.own[ik_name(bound), "guide"]
    kept = program.curve(guide)
    times = kept.times
    # The keys that the lost stretch hangs from: those in it and the ones it runs between.
    i = max(int(np.searchsorted(times, finding.frame, side="right")) - 1, 0)
    j = min(int(np.searchsorted(times, finding.last)), len(times) - 1)
    keys = []
    most = 0.6 * bound.systems[system.name].data.length
    for key in (kept.key(n) for n in range(i, j + 1)):
        far = abs(key.leaving) > most or abs(key.arriving) > most
        keys.append(key._replace(arriving=0.0, leaving=0.0, slope_in=0.0, slope_out=0.0) if far else key)
    name = program.channel_names()[guide]
    return Repaired(program.take.with_curves({name: put(kept, keys)}), float(times[i]), float(times[j]))
