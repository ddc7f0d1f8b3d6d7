"""Findings: what is wrong with a take, found by measuring.

One finding for each fault, the cause before its symptoms: a change of system keyed by a smooth curve is one finding,
whatever jumps or turns the wrong way in the middle of it; a change keyed on one system only is one finding, with the
jump that it causes as its size; a body that jumps is one finding, not one for each part it carries. Jumps are looked for
wherever a key is split or what drives changes, speed only where a system or a tether changes. A crossfade is wanted.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from itertools import pairwise

import numpy as np

from .contacts import end_of, measure_all
from .contacts import reads as contact_reads
from .curves import ARRIVING, CROSSFADE, LEAVING, STEPPED, SUMMED, Curve
from .follows import flips, overfull, unused
from .measure import one_sided, speed_range
from .program import Poses, Program
from .proof import flies, split_times, switch_times, unmatched_speed, unreached
from .rig import Bound
from .transforms import Floats, Ints, inverse, multiply, rotate, rotation_distance

#: From this jump on a change is a pop: metres and radians.
POP_PLACE, POP_TURN = 1e-4, 1e-3
#: A jump of speed shows from this share of the part's own greatest speed on, and from this much a frame.
SPEED_SHARE, SPEED_PLACE, SPEED_TURN = 0.05, 5e-4, 2e-3
#: Two rotations this near to half a turn apart have no shorter way between them.
OPPOSITE = np.radians(178.0)
KINDS = {
    "one-sided": "keyed on one system only",
    "pop": "jump",
    "speed": "jump of speed",
    "smooth": "spread change",
    "half": "half-driven",
    "opposite": "opposite rotations",
    "flip": "bend flips",
    "lost": "guide lost",
    "reach": "place out of reach",
    "locks": "locks straight",
    "overfull": "follows by more than all",
    "unused": "follow never used",
    "round": "turns the other way round",
    "among": "turned among too many",
    "leaves": "leaves what it holds",
}
#: A limb is all but straight when it is bent by less, and snaps there when that changes by more within a frame (radians).
STRAIGHT, SNAPS = np.radians(5.0), np.radians(5.0)
#: State of a stretch in which two systems are mixed.
BOTH = "both"


@dataclass(frozen=True)
class Finding:
    """One fault: what, whose, from which frame to which, how large (metres, radians). `systems` are those before and
    after it; `sentence` is what the animator reads; `jumps`: whether it is the cause of the jumps at its ends."""

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
    jumps: bool = False

    @property
    def key(self) -> str:
        """What it is known by: the same fault has the same key in every revision."""
        return f"{self.kind}/{self.member}/{self.part}/{self.frame:.12g}"

    @property
    def short(self) -> str:
        """The fault in a word or two, with its size where it has one."""
        mm = f"{1000 * self.place:.0f} mm"
        if self.kind == "one-sided":
            return f"keyed on one side, jumps {mm}" if self.place > POP_PLACE else "keyed on one side"
        said = {
            "pop": f"jumps {mm}" if self.place > POP_PLACE else f"jumps {np.degrees(self.turn):.0f}°",
            "speed": f"speed jumps {1000 * self.place:.1f} mm a frame",
            "reach": f"{mm} out of reach",
            "locks": f"locks, {np.degrees(self.turn):.0f}° in a frame",
        }
        return said.get(self.kind, KINDS[self.kind])


@dataclass(frozen=True)
class Stretch:
    """A part of a part's time with one state: the name of the system that drives alone, or "both"."""

    state: str
    first: float
    last: float


@dataclass
class Memory:
    """Findings of parts, remembered with the curves they were read from: a drag reads one part again."""

    _kept: dict[tuple[str, str], tuple[object, list[Curve], list[Finding]]] = field(default_factory=dict)

    def of(self, program: Program, bound: Bound) -> list[Finding]:
        """Findings of a part, read again only if something that it is made of has changed."""
        curves = [k for c in sorted(program.sources_of(bound)) for k in program.curves_of(c)]
        take = program.take
        around = (program.rig.tethers, take.contacts, tuple(id(c) for c in take.captures.values()), take.last)
        kept = self._kept.get(bound.id)
        if kept and kept[0] == around and len(kept[1]) == len(curves) and all(map(_same, kept[1], curves)):
            return kept[2]
        found = list(part_findings(program, bound))
        self._kept[bound.id] = (around, curves, found)
        return found


def _same(a: Curve, b: Curve) -> bool:
    return a is b


def find_all(program: Program, wanted: bool = False, memory: Memory | None = None) -> list[Finding]:
    """All findings of a take in order of time; those marked as wanted only if asked for."""
    memory = memory or Memory()
    found = [f for bound in program.bounds.values() for f in memory.of(program, bound)]
    if program.take.layers:
        found = _by_layers(program, found)
    marked = set(program.take.wanted)
    return sorted((f for f in found if wanted or f.key not in marked), key=lambda f: (f.frame, f.member, f.part))


def _by_layers(program: Program, found: list[Finding]) -> list[Finding]:
    """Findings that are not there without the layers, with the names of those without which they are gone."""

    def keys(of: Program, parts: set[tuple[str, str]]) -> set[str]:
        return {f.key for id in parts for f in part_findings(of, of.bounds[id])}

    base = keys(program.base, {(f.member, f.part) for f in found})
    made = {f.key: f for f in found if f.key not in base}
    parts = {(f.member, f.part) for f in made.values()}
    causes: dict[str, list[str]] = {key: [] for key in made}
    for layer in program.layering.layers if made else ():
        others = tuple(replace(x, mute=x.mute or x is layer) for x in program.take.layers)
        for key in made.keys() - keys(program.on(replace(program.take, layers=others)), parts):
            causes[key].append(layer.name)
    return [
        replace(f, sentence=f"{f.sentence}, by the layer {', '.join(causes[f.key])}") if causes.get(f.key) else f
        for f in found
    ]


def part_findings(program: Program, bound: Bound) -> Iterator[Finding]:
    """Findings of one part."""
    parts = states(program, bound)
    own = [f for mine in bound.systems.values() for f in mine.system.findings(program, bound)]
    # Some faults are the cause of the jumps at both their ends.
    caused = {t for f in own if f.jumps for t in (f.frame, f.last)}
    changes = [f for f in _changes(program, bound, parts) if f.kind != "pop" or f.frame not in caused]
    yield from changes
    yield from _mixed(program, bound, parts)
    # A place that jumps out of reach is told by the jump.
    jumped = {f.frame for f in changes}
    far = [f for f in _unreached(program, bound) if f.frame not in jumped]
    yield from far
    yield from own
    # Where it does not reach its place, that is why it is straight.
    yield from (
        k for k in _locking(program, bound, parts) if not any(f.frame - 1 <= k.frame <= f.last + 1 for f in far)
    )
    yield from _followed(program, bound)
    yield from _leaving(program, bound)


def _followed(program: Program, bound: Bound) -> Iterator[Finding]:
    """What is wrong with what a part's controls and joints follow."""
    common = (bound.member.id, bound.part.name, who_of(bound))
    told: set[float] = set()
    for first, last, most in overfull(program, bound):
        if first not in told:
            said = f"{common[2]}: what is followed adds up to {100 * most:.0f} % {span_of(first, last)}, and counts as 100 %"
            yield Finding("overfull", *common, first, last, 0.0, 0.0, said)
        told.add(first)
    turned = flips(program, bound)
    for kind, how in (
        ("round", "what it follows passes half a turn apart"),
        ("among", "it is turned among three and more"),
    ):
        mine = [f for f in turned if f.many == (kind == "among")]
        if mine:
            first, jump = mine[0].time, max(f.jump for f in mine)
            said = f"{common[2]} turns the other way round at frame {first:.4g}: {how}"
            yield Finding(kind, *common, first, float(program.take.last), 0.0, jump, said)
    idle = unused(program, bound)
    if idle:
        names = ", ".join(t.name for t in idle)
        said = f"{common[2]} has {'follows' if len(idle) > 1 else 'a follow'} that the take never uses: {names}"
        yield Finding("unused", *common, float(program.take.first), float(program.take.first), 0.0, 0.0, said)


def _leaving(program: Program, bound: Bound) -> Iterator[Finding]:
    """Ends that leave what they hold, and follow, by more than they may."""
    for contact in program.take.contacts:
        if contact.within is None or contact.member != bound.member.id or contact.joint not in bound.part.joints:
            continue
        held = (contact.anchor_member, contact.anchor)
        mine = [
            t.weight_channel("position") for t in program.take.tethers
            if (t.anchor_member, t.anchor) == held and t.member == contact.member and t.position and t.control in bound.controls
        ]  # fmt: skip
        if not mine:
            continue
        (slip,) = measure_all(program, [contact])
        worst = int(np.argmax(slip.place))
        far, at = float(slip.place[worst]), float(slip.times[worst])
        # It says that it holds it: what does not follow it is somewhere else on purpose.
        if far > contact.within and max(program.now(at, [program.channels[n]])[0] for n in mine) >= 0.5:
            said = f"{contact_reads(program, contact)} leaves its place by {_mm(far)} at frame {at:g} while it holds on"
            yield Finding(
                "leaves", bound.member.id, bound.part.name, who_of(bound), contact.first, contact.last, far, 0.0, said
            )


def _allowed(program: Program, nodes: Ints) -> tuple[float, float]:
    """Jumps of speed and spin that do not show, from the greatest speeds of these nodes over the take."""
    place, turn = speed_range(program, nodes)
    return max(SPEED_SHARE * place, SPEED_PLACE), max(SPEED_SHARE * turn, SPEED_TURN)


def states(program: Program, bound: Bound) -> list[Stretch]:
    """What drives a part over the take, stretch by stretch."""
    take = program.take
    drivers = bound.driver_channels
    times = program.key_times(drivers.tolist())
    cuts = np.unique(np.concatenate([times, [take.first, take.last]]))
    cuts = cuts[(cuts >= take.first) & (cuts <= take.last)]
    found: list[Stretch] = []

    def add(first: float, last: float) -> None:
        at = np.linspace(first, last, 7)[1:-1] if last > first else np.array([first])
        state = bound.state(program.sample(at, LEAVING, drivers)) or BOTH
        if found and found[-1].state == state:
            found[-1] = Stretch(state, found[-1].first, last)
        else:
            found.append(Stretch(state, first, last))

    for first, last in pairwise(cuts):
        add(float(first), float(last))
    arriving, leaving = (program.sample([take.last], side, drivers) for side in (ARRIVING, LEAVING))
    if not found or np.any(arriving != leaving):
        add(float(take.last), float(take.last))
    return found


def _word(bound: Bound, state: str) -> str:
    return "both systems" if state == BOTH else bound.label_of(state)


def who_of(bound: Bound) -> str:
    who = bound.who
    return who[0].upper() + who[1:]


def _mm(metres: float) -> str:
    return f"{1000 * metres:.1f} mm"


def _size(place: float, turn: float) -> str:
    """A place (metres) and a turn (radians) that are off, without what of them is nothing to the eye."""
    said = [
        *([_mm(place)] if place >= 5e-5 else []),
        *([f"{np.degrees(turn):.1f}°"] if turn >= np.radians(0.05) else []),
    ]
    return " and ".join(said) or "less than 0.1 mm"


def _at(frame: float) -> str:
    return f"{frame:.6g}"


def span_of(first: float, last: float) -> str:
    return f"at frame {_at(first)}" if first == last else f"from frame {_at(first)} to {_at(last)}"


# --- changes at one moment ------------------------------------------------------------------------------


def _changes(program: Program, bound: Bound, parts: list[Stretch]) -> Iterator[Finding]:
    """Jumps, jumps of speed, and changes that only one system has keys for."""
    switches = switch_times(program, bound)
    # Within and at the edges of a mixed stretch the mixing is the cause, and it is told by itself.
    mixed = [s for s in parts if s.state == BOTH and not is_crossfade(program, bound, s)]
    times = sorted({*switches, *split_times(program, bound)})
    times = [t for t in times if not any(s.first <= t <= s.last for s in mixed)]
    if not times:
        return
    nodes = bound.nodes
    outer = np.unique(bound.outer)
    limits = one_sided(program, np.array(times), np.concatenate([nodes, outer]))
    mine = slice(0, len(nodes))
    allowed = _allowed(program, nodes) if switches else (0.0, 0.0)
    pose_jump, turn_jump = limits.pose_jump, limits.turn_jump
    for k, t in enumerate(times):
        before, after = _around(parts, t)
        place, turn = float(pose_jump[k, mine].max()), float(turn_jump[k, mine].max())
        if float(pose_jump[k, len(nodes) :].max()) > POP_PLACE or float(turn_jump[k, len(nodes) :].max()) > POP_TURN:
            # What carries the part jumps: only what the part itself adds is its own.
            place, turn = _own_jump(bound, limits.pos[:, k], limits.rot[:, k])
        popped = place > POP_PLACE or turn > POP_TURN
        jump = f"jumps {_size(place, turn)} at frame {_at(t)}"
        common = (bound.member.id, bound.part.name, who_of(bound), t, t, place, turn)
        # Where a crossfade begins or ends nothing is fitted, so no keys are needed.
        missing = _missing(program, bound, parts, t) if t in switches else []
        if missing:
            what = (
                f"changes from {_word(bound, before)} to {_word(bound, after)} at frame {_at(t)} without a key in "
                f"{_word(bound, missing[-1])}"
            )
            also = f" and {jump}" if popped else ""
            yield Finding("one-sided", *common, f"{who_of(bound)} {what}{also}", (before, after))
        elif popped:
            yield Finding("pop", *common, f"{who_of(bound)} {jump}", (before, after))
        elif t in switches and not flies(program, bound, t):
            speed, spin = float(limits.speed_jump[k, mine].max()), float(limits.spin_jump[k, mine].max())
            rough = speed > allowed[0] or spin > allowed[1]
            # Blocked motion has no speed to pass on, and what does not settle has none either.
            rough = rough and bool(limits.converged[k, mine].all())
            rough = rough and not (_held(program, bound, before, t, -1) or _held(program, bound, after, t, 0))
            if rough and t < program.take.last and not unmatched_speed(program, bound, t):
                yield Finding(
                    "speed", *common[:5], speed, spin,
                    f"{who_of(bound)}'s speed jumps {_size(speed, spin)} a frame at frame {_at(t)}",
                    (before, after),
                )  # fmt: skip


def _own_jump(bound: Bound, pos: Floats, rot: Floats) -> tuple[float, float]:
    """What of a jump is the part's own: as seen from what carries it, or of its end in the world where that is less. pos
    (2, N, 3), rot (2, N, 4): the part's joints, then what carries it, leaving and arriving."""
    count = len(bound.nodes)
    outer = np.unique(bound.outer)
    base = count + np.searchsorted(outer, bound.outer)
    back = inverse(rot[:, base])
    local = rotate(back, pos[:, :count] - pos[:, base])
    turned = multiply(back, rot[:, :count])
    place = float(np.linalg.norm(local[0] - local[1], axis=-1).max())
    turn = float(rotation_distance(turned[0], turned[1]).max())
    if bound.controls:
        end = bound.outward[-1]
        place = min(place, float(np.linalg.norm(pos[0, end] - pos[1, end])))
        turn = min(turn, float(rotation_distance(rot[0, end], rot[1, end])))
    return place, turn


def _around(parts: list[Stretch], t: float) -> tuple[str, str]:
    """What drives as time arrives at t, and as it leaves."""
    before = next((s.state for s in reversed(parts) if s.first < t), parts[0].state)
    return before, next((s.state for s in reversed(parts) if s.first <= t), parts[0].state)


def _missing(program: Program, bound: Bound, parts: list[Stretch], t: float) -> list[str]:
    """Of the two systems of a change at t those that have no keys there."""
    before, after = _around(parts, t)
    return [] if before == after else [s for s in (before, after) if not _keyed(program, bound, s, t)]


def unkeyed(program: Program, bound: Bound) -> list[tuple[float, str]]:
    """Changes of what drives a part, each with a system of the two that has no keys there."""
    parts = states(program, bound)
    return [(t, s) for t in switch_times(program, bound) for s in _missing(program, bound, parts, t)]


def _keyed(program: Program, bound: Bound, system: str, t: float) -> bool:
    """Whether a system has keys at t in all its channels that have keys at all."""
    if system == BOTH or bound.systems[system].system.moves_alone:
        return True
    curves = [c for c in map(program.curve, bound.systems[system].channels) if len(c)]
    found = [c.find(t) for c in curves]
    return bool(curves) and all(i is not None and c.marks[i, 2] != SUMMED for i, c in zip(found, curves, strict=True))


def _held(program: Program, bound: Bound, system: str, t: float, by: int) -> bool:
    """Whether a system stands still by stepped keys, in the segments that arrive at t (by -1) or leave it (0)."""
    if system == BOTH:
        return False
    mine = bound.systems[system]
    kinds = []
    for c, stepped in zip(mine.channels, mine.stepped, strict=True):
        kept = program.curve(c)
        i = kept.find(t)
        if i is not None and not stepped and 0 <= i + by < len(kept) - 1:
            kinds.append(int(kept.marks[i + by, 0]))
    return bool(kinds) and all(k == STEPPED for k in kinds)


def _unreached(program: Program, bound: Bound) -> Iterator[Finding]:
    """Places that a part is to hold and does not reach."""
    for first, last, far in unreached(program, bound, program.take.frames):
        said = f"{who_of(bound)} does not reach its place by {_mm(far)} {span_of(first, last)}"
        yield Finding("reach", bound.member.id, bound.part.name, who_of(bound), first, last, far, 0.0, said)


def _locking(program: Program, bound: Bound, parts: list[Stretch]) -> Iterator[Finding]:
    """Limbs that snap straight, or out of that, while their end stands and a control of its own places it: one for each stance."""
    corners, control = bound.part.corners, end_of(bound)
    if len(corners) != 3 or control is None:
        return
    nodes = [program.nodes[bound.member.id, j] for j in corners]
    for contact in program.take.contacts:
        if (contact.member, contact.joint) != (bound.member.id, control.control.rests_on):
            continue
        at = np.arange(np.ceil(contact.begin), contact.end + 0.5)
        placed = np.zeros(len(at), dtype=bool)
        for p in parts:
            if p.state in bound.keyed_systems and any(c.touches for c in bound.systems[p.state].controls):
                placed |= (at >= p.first) & (at <= p.last)
        if len(at) < 2 or not placed.any():
            continue
        pos = program.track(at, np.where(at >= contact.end, ARRIVING, LEAVING), nodes)[0]
        upper, lower = pos[:, 1] - pos[:, 0], pos[:, 2] - pos[:, 1]
        bend = np.arctan2(np.linalg.norm(np.cross(upper, lower), axis=1), np.sum(upper * lower, axis=1))
        change = np.abs(np.diff(bend))
        snaps = (np.minimum(bend[1:], bend[:-1]) < STRAIGHT) & (change > SNAPS)
        snaps &= placed[1:] & placed[:-1]
        if snaps.any():
            k = int(np.argmax(np.where(snaps, change, 0.0)))
            frame = float(at[k + int(bend[k + 1] < bend[k])])
            how = "locks straight" if bend[k + 1] < bend[k] else "comes out of being straight"
            said = f"{who_of(bound)} {how} at frame {frame:g}: it turns {np.degrees(change[k]):.1f}° within a frame while it stands"
            yield Finding(
                "locks", bound.member.id, bound.part.name, who_of(bound), frame, frame, 0.0, float(change[k]), said
            )


# --- mixed stretches ------------------------------------------------------------------------------------


def is_crossfade(program: Program, bound: Bound, s: Stretch) -> bool:
    """Whether two systems are mixed on purpose over a stretch: its drivers' keys say so at both ends."""
    for c in bound.driver_channels:
        kept = program.curve(c)
        i, j = kept.find(s.first), kept.find(s.last)
        if i is not None and j is not None and kept.marks[i, 2] == kept.marks[j, 2] == CROSSFADE:
            return True
    return False


def _mixed(program: Program, bound: Bound, parts: list[Stretch]) -> Iterator[Finding]:
    """Stretches in which two systems are mixed: smooth changes, half-driven frames, opposite rotations."""
    for k, s in enumerate(parts):
        if s.state != BOTH:
            continue
        wanted = is_crossfade(program, bound, s)
        before = parts[k - 1].state if k > 0 else ""
        after = parts[k + 1].state if k + 1 < len(parts) else ""
        frames = np.unique(np.concatenate([
            np.arange(np.ceil(s.first), s.last + 0.5), np.linspace(s.first, s.last, 9)
        ]))  # fmt: skip
        frames = frames[(frames > s.first) & (frames < s.last)] if s.last > s.first else np.array([s.first])
        gap, joint, at, place = _between_systems(program, bound, frames)
        count = int(np.sum(frames == np.round(frames)))
        halves = f"{count} frame{'s are' if count != 1 else ' is'} half and half"
        common = (bound.member.id, bound.part.name, who_of(bound), s.first, s.last, place, gap)
        if gap > OPPOSITE:
            said = (
                f"{who_of(bound)} is mixed from opposite rotations of {joint} near frame {_at(at)}: which way it turns "
                f"is chance, {span_of(s.first, s.last)}"
            )
            yield Finding("opposite", *common, said, (before, after))
        elif wanted:
            continue
        elif before and after and before != after:
            went = f"{who_of(bound)} changes from {_word(bound, before)} to {_word(bound, after)}"
            said = f"{went} {span_of(s.first, s.last)}: {halves}"
            yield Finding("smooth", *common, said, (before, after))
        else:
            yield Finding(
                "half", *common, f"{who_of(bound)} is half-driven {span_of(s.first, s.last)}: {halves}", (before, after)
            )


def _between_systems(program: Program, bound: Bound, times: Floats) -> tuple[float, str, float, float]:
    """The greatest angle between the systems that are mixed at these times, in each joint's own parent space (its
    joint and time too), and the greatest distance between their joints."""
    shares = program.sample(times, LEAVING, bound.driver_channels)
    active = bound.active(lambda k: (bool(np.any(shares[k] > 0.0)), bool(np.any(shares[k] < 1.0))))
    pure: list[Poses] = []
    for name in active:
        over: dict[int, float | Floats] = {**bound.drive_to(name)}
        pure.append(program.evaluate(times, overrides=over, only=bound.nodes))
    worst = (0.0, "", float(times[0]), 0.0)
    nodes = bound.nodes
    for a, b in ((a, b) for i, a in enumerate(pure) for b in pure[i + 1 :]):
        distance = float(np.linalg.norm(a.pos[:, nodes] - b.pos[:, nodes], axis=-1).max())
        for name, node in zip(bound.part.joints, nodes, strict=True):
            gap = rotation_distance(a.rot[:, node], b.rot[:, node])
            i = int(np.argmax(gap))
            if gap[i] > worst[0]:
                worst = (float(gap[i]), name, float(times[i]), worst[3])
        worst = (*worst[:3], max(worst[3], distance))
    return worst
