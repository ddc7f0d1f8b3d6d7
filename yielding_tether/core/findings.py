"""Findings: what is wrong with a take, found by measuring.

One finding for each fault, the cause before its symptoms: a change of system keyed by a smooth curve is one finding,
whatever jumps or turns the wrong way in the middle of it; a change keyed on one system only is one finding, with the
jump that it causes as its size. Speed is looked at only where a system or a tether changes.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from .cast import FreePart
from .curves import ARRIVING, EMPTY, LEAVING, STEPPED
from .evaluation import Limb, Poses, Program
from .fitting import limb_length, system_channels
from .measure import one_sided
from .proof import unmatched_speed
from .systems.two_segment import SENSIBLE
from .transforms import Floats, Ints, multiply, rotate, rotation_distance

#: From this jump on a change is a pop: metres and radians.
POP_PLACE, POP_TURN = 1e-4, 1e-3
#: A jump of speed shows from this share of the part's own greatest speed on, and from this much a frame.
SPEED_SHARE, SPEED_PLACE, SPEED_TURN = 0.05, 5e-4, 2e-3
#: Two rotations this near to half a turn apart have no shorter way between them.
OPPOSITE = np.radians(178.0)
#: A bend that turns this far about the line of aim from one frame to the next has flipped.
FLIP = np.radians(100.0)
#: A limb bent less than this share of its length shows no side.
BENT = 0.03
#: A bend guide is lost beyond this many lengths of its limb, or nearer than this to the line of aim.
FAR, NEAR = 3.0, 0.25

KINDS = {
    "one-sided": "keyed on one system only",
    "pop": "jump",
    "speed": "jump of speed",
    "smooth": "change spread over several frames",
    "half": "half-driven frames",
    "opposite": "opposite rotations",
    "flip": "flipped bend",
    "lost": "lost bend guide",
}


@dataclass(frozen=True)
class Finding:
    """One fault: what, whose, from which frame to which, how large (metres, radians). `systems` are those before and
    after it; `sentence` is what the animator reads."""

    kind: str
    member: str
    part: str
    label: str
    frame: float
    last: float
    place: float
    turn: float
    sentence: str
    systems: tuple[str, str] = ("", "")

    @property
    def key(self) -> str:
        """What it is known by: the same fault has the same key in every revision."""
        return f"{self.kind}/{self.member}/{self.part}/{self.frame:g}"


@dataclass(frozen=True)
class Stretch:
    """A part of a limb's time with one state: "fk", "ik", "capture", or "both" where two are mixed."""

    state: str
    first: float
    last: float


def find_all(program: Program, wanted: bool = False) -> list[Finding]:
    """All findings of a take in order of time; those marked as wanted only if asked for."""
    found: list[Finding] = []
    # A capture that drives throughout has no change to look at, however long it is.
    changing = [limb for limb in program.limbs.values() if switch_times(program, limb) or _ever_ik(program, limb)]
    take = program.take
    reach = _Reach(program) if changing else None
    for limb in changing:
        assert reach is not None
        parts = states(program, limb)
        found += _changes(program, limb, parts, reach)
        found += _mixed(program, limb, parts)
        found += _flips(program, limb, parts)
    for limb in program.limbs.values():
        found += _lost(program, limb)
    found += _free_controls(program, reach)
    marked = set(take.wanted)
    return sorted((f for f in found if wanted or f.key not in marked), key=lambda f: (f.frame, f.member, f.part))


class _Reach:
    """Greatest speeds of nodes over the take, measured once for all."""

    def __init__(self, program: Program) -> None:
        poses = program.evaluate(program.take.frames)
        if len(poses.times) < 2:
            self.place = self.turn = np.zeros(poses.pos.shape[1])
            return
        self.place = np.linalg.norm(np.diff(poses.pos, axis=0), axis=-1).max(axis=0)
        self.turn = rotation_distance(poses.rot[1:], poses.rot[:-1]).max(axis=0)

    def allowed(self, nodes: Ints) -> tuple[float, float]:
        """Jumps of speed and spin that do not show."""
        return (
            max(SPEED_SHARE * float(self.place[nodes].max()), SPEED_PLACE),
            max(SPEED_SHARE * float(self.turn[nodes].max()), SPEED_TURN),
        )


def states(program: Program, limb: Limb) -> list[Stretch]:
    """What drives a limb over the take, stretch by stretch."""
    take = program.take
    switches = limb.switches
    names = program.channel_names()
    times = [take.curves.get(names[c], EMPTY).times for c in switches]
    cuts = np.unique(np.concatenate([*times, [take.first, take.last]]))
    cuts = cuts[(cuts >= take.first) & (cuts <= take.last)]
    found: list[Stretch] = []

    def add(first: float, last: float) -> None:
        inside = program.sample(np.linspace(first, last, 7)[1:-1], LEAVING, np.array(switches))
        state = _state(inside) if last > first else _state(program.sample([first], LEAVING, np.array(switches)))
        if found and found[-1].state == state:
            found[-1] = Stretch(state, found[-1].first, last)
        else:
            found.append(Stretch(state, first, last))

    for first, last in pairwise(cuts):
        add(float(first), float(last))
    if not found or np.any(program.sample([take.last], ARRIVING, np.array(switches))
                           != program.sample([take.last], LEAVING, np.array(switches))):  # fmt: skip
        add(float(take.last), float(take.last))
    return found


def _state(values: Floats) -> str:
    drive, captured = values[0], values[1:].max(axis=0, initial=0.0)
    if np.all(captured == 1.0):
        return "capture"
    if np.any(captured > 0.0) or np.any((drive > 0.0) & (drive < 1.0)):
        return "both"
    return "ik" if drive[0] == 1.0 else "fk"


def switch_times(program: Program, limb: Limb) -> list[float]:
    """Times within the take at which the driver, the capture's share or a tether of the limb changes."""
    return _stepping(program, limb.switches + program.tether_channels(limb.member.id, limb.part.ik))


def _stepping(program: Program, switches: list[int]) -> list[float]:
    """Times within the take at which one of these channels has another value as time leaves than as it arrives."""
    take = program.take
    times = program.key_times(set(switches))
    times = times[(times > take.first) & (times <= take.last)]
    if not len(times):
        return []
    arriving, leaving = (program.sample(times, side, np.array(switches)) for side in (ARRIVING, LEAVING))
    found: list[float] = times[np.any(arriving != leaving, axis=0)].tolist()
    return found


def _ever_ik(program: Program, limb: Limb) -> bool:
    kept = program.take.curves.get(program.channel_names()[limb.drive])
    return kept is not None and bool(np.any(kept.numbers[:, 1:3] > 0.0))


def _word(state: str) -> str:
    return {"fk": "FK", "ik": "IK", "capture": "the capture", "both": "both systems"}[state]


def _who(limb: Limb) -> str:
    return f"{limb.member.name}'s {limb.part.label}"


def _mm(metres: float) -> str:
    return f"{1000 * metres:.1f} mm"


def _span(first: float, last: float) -> str:
    return f"at frame {first:g}" if first == last else f"from frame {first:g} to {last:g}"


# --- changes at one moment ------------------------------------------------------------------------------


def _changes(program: Program, limb: Limb, parts: list[Stretch], reach: _Reach) -> Iterator[Finding]:
    """Pops, jumps of speed, and changes that only one system has keys for."""
    times = np.array(switch_times(program, limb))
    # Within and at the edges of a mixed stretch the mixing is the cause, and it is told by itself.
    mixed = [s for s in parts if s.state == "both"]
    times = np.array([t for t in times if not any(s.first <= t <= s.last for s in mixed)])
    if not len(times):
        return
    nodes = np.array(limb.nodes)
    limits = one_sided(program, times, nodes)
    allowed = reach.allowed(nodes)
    for k, t in enumerate(times.tolist()):
        before = next((s.state for s in reversed(parts) if s.first < t), parts[0].state)
        after = next((s.state for s in reversed(parts) if s.first <= t), parts[0].state)
        place, turn = float(limits.pose_jump[k].max()), float(limits.turn_jump[k].max())
        popped = place > POP_PLACE or turn > POP_TURN
        jump = f"jumps {_mm(place)} and {np.degrees(turn):.1f}° at frame {t:g}"
        common = (limb.member.id, limb.part.name, _who(limb), t, t, place, turn)
        missing = [] if before == after else [s for s in (before, after) if not _keyed(program, limb, s, t)]
        if missing:
            what = (
                f"changes from {_word(before)} to {_word(after)} at frame {t:g} without a key in {_word(missing[-1])}"
            )
            also = f" and {jump}" if popped else ""
            yield Finding("one-sided", *common, f"{_who(limb)} {what}{also}", (before, after))
        elif popped:
            yield Finding("pop", *common, f"{_who(limb)} {jump}", (before, after))
        else:
            speed, spin = float(limits.speed_jump[k].max()), float(limits.spin_jump[k].max())
            rough = speed > allowed[0] or spin > allowed[1]
            # Blocked motion has no speed to pass on.
            rough = rough and not (_held(program, limb, before, t, -1) or _held(program, limb, after, t, 0))
            if rough and t < program.take.last and not unmatched_speed(program, limb, t):
                yield Finding(
                    "speed", *common[:5], speed, spin,
                    f"{_who(limb)}'s speed jumps {_mm(speed)} and {np.degrees(spin):.1f}° a frame at frame {t:g}",
                    (before, after),
                )  # fmt: skip


def _keyed(program: Program, limb: Limb, system: str, t: float) -> bool:
    """Whether a system has keys at t in all its channels that have keys at all."""
    if system == "capture":
        return True
    names = program.channel_names()
    curves = [program.take.curves[names[c]] for c in system_channels(limb, system) if names[c] in program.take.curves]
    return bool(curves) and all(c.find(t) is not None for c in curves)


def _held(program: Program, limb: Limb, system: str, t: float, by: int) -> bool:
    """Whether a system stands still by stepped keys, in the segments that arrive at t (by -1) or leave it (0)."""
    if system == "capture":
        return False
    names = program.channel_names()
    kinds = []
    for c in system_channels(limb, system):
        kept = program.take.curves.get(names[c], EMPTY)
        i = kept.find(t)
        if i is not None and program.info[c][2].name != "bend" and 0 <= i + by < len(kept) - 1:
            kinds.append(int(kept.marks[i + by, 0]))
    return bool(kinds) and all(k == STEPPED for k in kinds)


def _free_controls(program: Program, reach: _Reach | None) -> Iterator[Finding]:
    """Pops and jumps of speed of roots and props where what they follow changes."""
    for member in program.scene.members:
        for part in member.parts:
            if not isinstance(part, FreePart):
                continue
            times = _stepping(program, program.tether_channels(member.id, part.joint))
            if not times:
                continue
            reach = reach or _Reach(program)
            nodes = np.array([program.nodes[member.id, part.joint]])
            limits = one_sided(program, np.array(times), nodes)
            allowed = reach.allowed(nodes)
            who = f"{member.name}'s {part.label}" if member.kind == "character" else f"The {member.name.lower()}"
            for k, t in enumerate(times):
                place, turn = float(limits.pose_jump[k, 0]), float(limits.turn_jump[k, 0])
                speed, spin = float(limits.speed_jump[k, 0]), float(limits.spin_jump[k, 0])
                if place > POP_PLACE or turn > POP_TURN:
                    said = f"{who} jumps {_mm(place)} and {np.degrees(turn):.1f}° at frame {t:g}"
                    yield Finding("pop", member.id, part.name, who, t, t, place, turn, said)
                elif speed > allowed[0] or spin > allowed[1]:
                    said = f"{who}'s speed jumps {_mm(speed)} and {np.degrees(spin):.1f}° a frame at frame {t:g}"
                    yield Finding("speed", member.id, part.name, who, t, t, speed, spin, said)


# --- mixed stretches ------------------------------------------------------------------------------------


def _mixed(program: Program, limb: Limb, parts: list[Stretch]) -> Iterator[Finding]:
    """Stretches in which two systems are mixed: smooth changes, half-driven frames, opposite rotations."""
    for k, s in enumerate(parts):
        if s.state != "both":
            continue
        before = parts[k - 1].state if k > 0 else ""
        after = parts[k + 1].state if k + 1 < len(parts) else ""
        frames = np.unique(np.concatenate([
            np.arange(np.ceil(s.first), s.last + 0.5), np.linspace(s.first, s.last, 9)
        ]))  # fmt: skip
        frames = frames[(frames > s.first) & (frames < s.last)] if s.last > s.first else np.array([s.first])
        gap, joint, at, place = _between_systems(program, limb, frames)
        count = int(np.sum(frames == np.round(frames)))
        halves = f"{count} frame{'s are' if count != 1 else ' is'} half and half"
        common = (limb.member.id, limb.part.name, _who(limb), s.first, s.last, place, gap)
        if gap > OPPOSITE:
            said = (
                f"{_who(limb)} is mixed from opposite rotations of {joint} near frame {at:g}: which way it turns "
                f"is chance, {_span(s.first, s.last)}"
            )
            yield Finding("opposite", *common, said, (before, after))
        elif before and after and before != after:
            said = f"{_who(limb)} changes from {_word(before)} to {_word(after)} {_span(s.first, s.last)}: {halves}"
            yield Finding("smooth", *common, said, (before, after))
        else:
            yield Finding(
                "half", *common, f"{_who(limb)} is half-driven {_span(s.first, s.last)}: {halves}", (before, after)
            )


def _between_systems(program: Program, limb: Limb, times: Floats) -> tuple[float, str, float, float]:
    """The greatest angle between the systems that are mixed at these times, in each joint's own parent space (its
    joint and time too), and the greatest distance between their joints."""
    pure: list[Poses] = []
    share = program.sample(times, LEAVING, np.array([limb.captured]))[0] if limb.captured >= 0 else np.zeros(len(times))
    drive = program.sample(times, LEAVING, np.array([limb.drive]))[0]
    for value, active in (("fk", drive < 1.0), ("ik", drive > 0.0), ("capture", share > 0.0)):
        if not np.any(active):
            continue
        over: dict[int, float | Floats] = {limb.drive: float(value == "ik")}
        if limb.captured >= 0:
            over[limb.captured] = float(value == "capture")
        pure.append(program.evaluate(times, overrides=over))
    worst = (0.0, "", float(times[0]), 0.0)
    nodes = list(limb.nodes)
    for a, b in ((a, b) for i, a in enumerate(pure) for b in pure[i + 1 :]):
        distance = float(np.linalg.norm(a.pos[:, nodes] - b.pos[:, nodes], axis=-1).max())
        for name, node in zip(limb.part.joints, nodes, strict=True):
            gap = rotation_distance(a.rot[:, node], b.rot[:, node])
            i = int(np.argmax(gap))
            if gap[i] > worst[0]:
                worst = (float(gap[i]), name, float(times[i]), worst[3])
        worst = (*worst[:3], max(worst[3], distance))
    return worst


# --- bends and guides -----------------------------------------------------------------------------------


def bend_sides(limb: Limb, poses: Poses) -> tuple[Floats, Floats]:
    """Unit line of aim (F, 3) and where the middle joint stands off it (F, 3), metres."""
    root, mid, end = (poses.pos[:, n] for n in limb.nodes)
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


def _flips(program: Program, limb: Limb, parts: list[Stretch]) -> Iterator[Finding]:
    """Stretches of IK in which the bend stands on the wrong side."""
    names = program.channel_names()
    keyed = [program.take.curves.get(names[c], EMPTY).times for c in limb.ik[6:]]
    changes = set(switch_times(program, limb))
    for s in parts:
        if s.state != "ik" or s.last <= s.first:
            continue
        grid = np.unique(np.concatenate([np.arange(np.ceil(s.first), s.last + 0.5), [s.first, s.last], *keyed]))
        grid = grid[(grid >= s.first) & (grid <= s.last)]
        arriving, leaving = program.evaluate(grid, ARRIVING), program.evaluate(grid, LEAVING)
        (aim_a, side_a), (aim_l, side_l) = bend_sides(limb, arriving), bend_sides(limb, leaving)
        least = BENT * limb_length(limb)
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
            said = f"{_who(limb)}'s bend flips to the other side {_span(first, last)}"
            yield Finding("flip", limb.member.id, limb.part.name, _who(limb), first, last, size, np.pi, said)


def _lost(program: Program, limb: Limb) -> Iterator[Finding]:
    """Stretches in which the bend guide can't be found."""
    kept = program.take.curves.get(program.channel_names()[limb.guide])
    if kept is None:
        return
    frames = np.unique(np.concatenate([program.take.frames, kept.times]))
    frames = frames[(frames >= program.take.first) & (frames <= program.take.last)]
    length = limb_length(limb)
    off = SENSIBLE * length + program.sample(frames, LEAVING, np.array([limb.guide]))[0]
    lost = np.concatenate([[False], (off > FAR * length) | (off < NEAR * length), [False]])
    edges = np.flatnonzero(lost[1:] != lost[:-1])
    for a, b in zip(edges[::2], edges[1::2] - 1, strict=True):
        worst = off[a : b + 1][np.argmax(np.abs(off[a : b + 1] - SENSIBLE * length))]
        said = f"The bend guide of {_who(limb)} stands {worst:.2f} m off {_span(frames[a], frames[b])}"
        yield Finding(
            "lost", limb.member.id, limb.part.name, _who(limb), float(frames[a]), float(frames[b]), float(worst), 0.0,
            said,
        )  # fmt: skip
