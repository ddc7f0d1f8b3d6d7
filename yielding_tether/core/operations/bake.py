"""Bake: what moves parts, a capture, another system, what they follow, becomes keys of a chosen system.

    channels = fit(the joints that are there), keys on every frame, on the keys that are there, or as few as will do

Parts are baked from the root outward, each fitted to the motion that was there on top of what is baked already: so what a
tolerance took below is not carried on, and every joint stays within its own. A hand or foot in a planted contact stays where
it was planted.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from ..contacts import end_of, ends_of
from ..curves import LEAVING
from ..errors import CoreError
from ..express import FINE, Hold, Judged, Motion, Placing, carry, drive, fence, holding, system_target
from ..fitting import fit_values, reach
from ..measure import steps
from ..program import Poses, Program, pieces
from ..progress import advance, stage
from ..proof import Proof, prove
from ..rig import Bound
from ..takes import Contact, Take
from ..transforms import Floats, Ints, inverse, rotate
from .handover import TOLERANCE, refuse_locked, tolerance_of
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
    check_tolerance,
    labels,
    offered,
    stretch_words,
    system_options,
)
from .retether import anchors, following, switched

#: The system that drives each part, whichever it is.
DRIVING = "what drives"
#: Share of the tolerance that a part may use beside those below it, while others that are baked hang from it.
CARRYING = 0.35
#: Share of the tolerance that small parts use which are baked in what carries them.
ALONG = 0.4
#: How far joints of such a part are from where it begins, at most, in heights of the body.
SMALL = 0.1
#: Seconds that a joint takes at a frame, with few keys and with one on each.
FEW, DENSE = 4e-4, 1.2e-4
#: Tolerances that are compared, as many times what is chosen, and seconds that this may take in all.
TIMES, CHARTED = (0.25, 0.5, 1.0, 2.0, 4.0), 6.0
#: Metres, radians or shares within which a part does not move.
STILL = 1e-7
#: Seconds longer than which an end that neither stands nor holds swings free.
FREE = 1.0
#: Frames before and after a planted contact over which an end comes back to where the rest of the body carries it.
LEAVES = 4.0


@dataclass(frozen=True)
class Bake:
    """What is asked for. `to`: the system that takes the keys, "" the one that each part has keys in, or its last, DRIVING the one
    that drives each of them at the first frame; `follow`:
    what its control follows then, as `Retether.to` names it, "" what it follows; `there`: whether keys that are there stay
    among few ones, or are free to go; `nth`: on every which frame where keys are put on frames."""

    parts: Parts
    to: str
    first: float
    last: float | None = None
    keys: Literal["few", "every", "kept"] = "few"
    tolerance: tuple[float, float] = (1e-3, np.pi / 360.0)
    follow: str = ""
    there: Literal["stay", "go"] = "stay"
    nth: int = 1


def apply(program: Program, asked: Bake) -> tuple[Take, Proof]:
    """The take after it, and its proof. CoreError says what can't be done; nothing changes then."""
    now = baked(program, asked)
    first, last = check_stretch(program.take, asked.first, asked.last)
    within = asked.tolerance if asked.keys == "few" else None
    with stage("Proving it", 0.9, 1.0):
        return now.take, prove("bake", program, now, first, last, tolerance=within)


def baked(program: Program, asked: Bake) -> Program:
    """The take after it, without a proof."""
    check_parts(program, asked.parts)
    first, last = check_stretch(program.take, asked.first, asked.last)
    if first == last:
        raise CoreError("A bake needs a last frame after its first.")
    check_tolerance(asked.tolerance)
    bounds = sorted((program.bound(*p) for p in asked.parts), key=lambda b: int(b.nodes.min()))
    now = program
    ahead = {b.id: share for b in bounds if (share := _ahead(program, b, asked, first, last))}
    # First, so that what carries them answers for them as they will be.
    bounds.sort(key=lambda b: b.id not in ahead)
    for k, bound in enumerate(bounds):
        keeps = _planted(program, asked, bound, first, last)
        runs = _runs(program, bound, asked.to, first, last)
        if asked.follow and following(bound):
            now = switched(now, now.bound(*bound.id), asked.follow, first, last)
        with stage(f"Baking {bound.part.label}", 0.9 * k / len(bounds), 0.9 * (k + 1) / len(bounds)):
            for n, (system, begin, end) in enumerate(runs):
                with stage("", n / len(runs), (n + 1) / len(runs)):
                    now = _bake(program, now, now.bound(*bound.id), system, asked, begin, end, keeps, ahead)
    now.check_loops()
    return now


def _runs(program: Program, bound: Bound, wanted: str, first: float, last: float) -> list[tuple[str, float, float]]:
    """Systems of a part that take the keys, each from when to when."""
    if wanted == DRIVING:
        state = bound.state(program.sample([first], LEAVING, bound.driver_channels))
        wanted = state if state in bound.keyed_systems else ""
    if wanted:
        found = bound.system_for(wanted)
        if found is None or bound.systems[found].system.moves_alone:
            there = ", ".join(bound.label_of(s) for s in bound.keyed_systems)
            raise CoreError(f"{bound.part.label} can't be baked to {wanted!r}: its keys are in {there}.")
        return [(found, first, last)]
    # Hands and feet that stand or hold by their ends; what swings free, and everything else, joint by joint, as it is posed.
    free, held = bound.keyed_systems[0], bound.keyed_systems[-1]
    if free == held:
        return [(held, first, last)]
    runs, at = [], first
    for begin, end in _held(program, bound, first, last):
        runs += [(free, at, begin)] if begin > at else []
        runs.append((held, begin, end))
        at = end
    return [*runs, (free, at, last)] if at < last else runs


def _held(program: Program, bound: Bound, first: float, last: float) -> list[tuple[float, float]]:
    """Stretches of whole frames over which an end stands or holds again and again: of hands and feet all of it where nobody has
    looked for contacts of their body yet."""
    contacts = [c for c in program.take.contacts if c.member == bound.member.id]
    if not contacts:
        return [(first, last)] if bound.part.touches else []
    mine = [c for c in contacts if c.joint in bound.part.joints and c.begin < last and c.end > first]
    free = FREE * float(program.take.rate)
    found: list[tuple[float, float]] = []
    for begin, end in sorted((float(np.floor(c.begin)), float(np.ceil(c.end))) for c in mine):
        if found and begin - found[-1][1] <= free:
            found[-1] = (found[-1][0], max(found[-1][1], end))
        else:
            found.append((begin, end))
    return [(first if a - first <= free else a, last if last - b <= free else b) for a, b in found]


def _bake(
    program: Program, now: Program, bound: Bound, system: str, asked: Bake, first: float, last: float,
    keeps: Collection[Planted], ahead: Mapping[tuple[str, str], float],
) -> Program:  # fmt: skip
    """Bakes one part on top of what is baked already; `keeps`: what its ends must keep, beyond the stretch too; `ahead`:
    parts that are baked in what carries them, which answers for them, and which share of the tolerance they may use."""
    curves = dict(now.take.curves)
    open_end = last >= program.take.last
    target = system_target(now, bound, system)
    refuse_locked(now, [*target.channels.tolist(), *bound.drive_to(system)], first, last)
    if not open_end:
        fence(now, curves, target.channels.tolist(), [last])
    inside = set(bound.nodes.tolist())
    around = np.array(sorted(set(target.nodes.tolist()) - inside), dtype=np.int64)
    begun = [x for x in _begun(bound) if x[1] in around]
    # What carries the part may have been given keys of its own, between frames too.
    breaks = np.union1d(program.key_times(), now.key_times())

    def poses(at: Floats, side: Ints) -> Poses:
        # The part as it was, and around it what is there now.
        found = program.evaluate(at, side, only=target.nodes)
        if now is program or not len(around):
            return found
        base = now.evaluate(at, side, only=around)
        # A copy: it is to stay where it is while the part is moved along.
        stood = [found.pos[:, k.node].copy() for k in keeps]
        for begin, above, mine in begun:
            # The part moves along with where it begins, each finger of a hand by itself: to reach for its old end would bend a
            # limb that is all but straight.
            local = rotate(inverse(found.rot[:, above]), found.pos[:, begin] - found.pos[:, above])
            shift = base.pos[:, above] + rotate(base.rot[:, above], local) - found.pos[:, begin]
            found.pos[:, mine] += shift[:, None]
        found.pos[:, around], found.rot[:, around] = base.pos[:, around], base.rot[:, around]
        for one, there in zip(keeps, stood, strict=True):
            found = one.reached(now, bound, found, there) if begun else found
        return found

    motion = Motion(now, poses, lambda t: FINE * steps(breaks, t))
    # A part answers for its own joints and for what hangs from or follows them, as far as that is not baked by itself.
    asked_for = [program.bounds[p] for p in asked.parts if p != bound.id and p not in ahead]
    carried = [b for b in asked_for if _hangs(program, b, inside)]
    others = {n for b in carried for n in b.nodes.tolist()}
    answers = [b for b in program.bounds.values() if b.id != bound.id and _depends(program, b, inside)]
    answers = [b for b in answers if b not in carried and not _depends(program, b, others)]
    # Where a part begins that is baked on top of it counts too: a hand begins with every finger.
    begins = [
        int(n) for b in carried for n, up in zip(b.nodes, b.above, strict=True) if int(up) not in set(b.nodes.tolist())
    ]  # fmt: skip
    watched = np.array([*(n for b in (bound, *answers) for n in b.nodes.tolist()), *begins], dtype=np.int64)
    below = sum(_hangs(program, bound, set(b.nodes.tolist())) for b in asked_for)
    share = ahead.get(bound.id, min(1.0, CARRYING * (1 + below)) if carried else 1.0)
    # Where another system, or another thing, takes over what hangs from it and is not baked, the least miss would be a jump.
    changes = program.key_times({int(c) for b in answers for c in (*b.driver_channels, *b.weight_channels)})
    placing = Placing(
        asked.keys, (asked.tolerance[0] * share, asked.tolerance[1] * share), asked.there == "go", asked.nth,
        tuple(changes.tolist()) if asked.keys == "few" else (),
    )  # fmt: skip
    carry(
        now,
        target,
        curves,
        first,
        last,
        open_end,
        placing,
        motion,
        Judged(program, watched, _holds(program, asked, bound, first, last)),
    )
    drive(now, bound, curves, system, first, last)
    for name in {s for s in bound.keyed_systems if s != system}:
        if any(len(now.curve(c)) for c in bound.systems[name].channels):
            fence(now, curves, bound.systems[name].channels.tolist(), (first,) if open_end else (first, last))
    return now.with_curves({n: c for n, c in curves.items() if c is not now.take.curves.get(n)})


def _begun(bound: Bound) -> list[tuple[int, int, Ints]]:
    """Where a part begins: nodes of joints that hang from no other of its own, of what they hang from, and of all that hangs from
    them in it."""
    root = list(range(len(bound.nodes)))
    for k in bound.outward:
        root[k] = root[bound.up[k]] if bound.up[k] >= 0 else k
    return [
        (int(bound.nodes[k]), int(bound.above[k]), bound.nodes[[r == k for r in root]])
        for k in range(len(root)) if bound.up[k] < 0
    ]  # fmt: skip


def _ahead(program: Program, bound: Bound, asked: Bake, first: float, last: float) -> float:
    """The share of the tolerance with which a part is baked in what carries it, before that: 0 for none, baked on top of it.

    A part that does not move there, such as the fingers of a capture that has none, is what it was with one value of each of its
    channels: more keys would only take back what a tolerance has moved below it. So would those of runs of joints that are short,
    such as fingers that move: to take back at each of them what the hand has turned costs more keys than the hand spares.
    """
    if asked.keys != "few" or asked.follow or bound.part.free or _holds(program, asked, bound, first, last):
        return 0.0
    runs = _runs(program, bound, asked.to, first, last)
    if len(runs) > 1:
        return 0.0
    if end_of(bound) is None and _still(program, bound, runs[0][0], first, last):
        return 1.0
    if bound.part.touches or _planted(program, asked, bound, first, last) or not _short(bound):
        return 0.0
    others, mine = [program.bounds[p] for p in asked.parts if p != bound.id], set(bound.nodes.tolist())
    carried = any(_hangs(program, bound, set(b.nodes.tolist())) for b in others)
    # What carries others itself leaves them as much of the tolerance as it does otherwise.
    return ALONG if carried and not any(_hangs(program, b, mine) for b in others) else 0.0


def _still(program: Program, bound: Bound, system: str, first: float, last: float) -> bool:
    """Whether a part does not move in what carries it, at frames and halfway between."""
    at = np.unique(np.append(np.arange(2 * np.ceil(first), 2 * last + 0.5) / 2.0, [first, last]))
    near = held = program.now(first, bound.systems[system].channels)
    for some in pieces(len(at)):
        poses = program.evaluate(at[some], LEAVING, only=program.fit_nodes([bound]))
        found = fit_values(program, bound, system, poses, near)
        held = held if some.start else found[:, 0]
        if np.abs(found - held[:, None]).max() > STILL:
            return False
    return True


def _short(bound: Bound) -> bool:
    """Whether a part is runs of joints that are short beside its body."""
    bones = bound.member.skeleton
    places = bones.rest_pose[0]
    runs = [
        [bones.index[bound.part.joints[k]] for k in np.flatnonzero(np.isin(bound.nodes, mine))]
        for _, _, mine in _begun(bound)
    ]
    reach = max(float(np.linalg.norm(places[run] - places[run[0]], axis=1).max()) for run in runs)
    return min(map(len, runs)) > 1 and reach <= SMALL * float(np.ptp(places, axis=0).max())


@dataclass(frozen=True)
class Planted:
    """Contacts that an end must keep while it is baked on top of what a tolerance has moved: its joint's node, and the system
    whose control places it."""

    node: int
    system: str
    holds: tuple[Hold, ...]

    def reached(self, program: Program, bound: Bound, poses: Poses, stood: Floats) -> Poses:
        """The poses (F) with the end where it `stood` (F, 3), as far as the part reaches; it leaves over a few frames."""
        at = poses.times
        away = np.min([np.maximum(h.first - at, at - h.last) for h in self.holds], axis=0)
        share = np.clip(1.0 - away / LEAVES, 0.0, 1.0)
        share *= share * (3.0 - 2.0 * share)
        there = np.flatnonzero(share > 0.0)
        if not len(there):
            return poses
        pos, rot, side = poses.pos[there], poses.rot[there], poses.side[there]
        sizes = None if poses.sizes is None else poses.sizes[there]
        pos[:, self.node] += share[there, None] * (stood[there] - pos[:, self.node])
        reached = reach(program, bound, self.system, Poses(at[there], pos, rot, side, sizes))
        poses.pos[np.ix_(there, bound.nodes)] = reached.pos[:, bound.nodes]
        poses.rot[np.ix_(there, bound.nodes)] = reached.rot[:, bound.nodes]
        return poses


def _planted(program: Program, asked: Bake, bound: Bound, first: float, last: float) -> list[Planted]:
    """What each end of a part must keep: planted contacts with what is not baked itself."""
    found = []
    for end in ends_of(bound):
        holds = _holds(program, asked, bound, first, last, end.control.rests_on)
        able = [n for n, s in bound.systems.items() if end.control in s.controls and not s.system.moves_alone]
        if holds and able:
            found.append(Planted(program.nodes[bound.member.id, end.control.rests_on], able[0], holds))
    return found


def _holds(program: Program, asked: Bake, bound: Bound, first: float, last: float, joint: str = "") -> tuple[Hold, ...]:
    """What a part's ends, or the one at a joint, hold on to that is not baked itself; where they slip, as they do."""
    return holding(program, first, last, lambda c: _held_by(asked, bound, c, joint))


def _held_by(asked: Bake, bound: Bound, contact: Contact, joint: str = "") -> bool:
    """Whether one of a part's ends, or the one at a joint, is in a contact with what is not baked itself."""
    ends = {(bound.member.id, e.control.rests_on) for e in ends_of(bound) if joint in ("", e.control.rests_on)}
    return (contact.member, contact.joint) in ends and contact.anchor_member not in {
        member for member, _ in asked.parts
    }


def _hangs(program: Program, bound: Bound, nodes: set[int]) -> bool:
    """Whether a part hangs from joints, directly or by others."""
    member = bound.member
    names = {program.nodes[member.id, j.name]: k for k, j in enumerate(member.skeleton.joints)}
    k = names.get(int(bound.nodes.min()), 0)
    while (k := member.skeleton.parents[k]) >= 0:
        if program.nodes[member.id, member.skeleton.joints[k].name] in nodes:
            return True
    return False


def _depends(program: Program, bound: Bound, nodes: set[int], seen: frozenset[int] = frozenset()) -> bool:
    """Whether a part hangs from joints or may follow them, directly or by others."""
    if _hangs(program, bound, nodes):
        return True
    anchors = {one.node for c in bound.followers.values() for one in c.others} - seen
    if anchors & nodes:
        return True
    owners = [b for b in program.bounds.values() if b.id != bound.id and anchors & set(b.nodes.tolist())]
    return any(_depends(program, b, nodes, seen | anchors) for b in owners)


@offered
class BakeParts(Operation):
    """Bakes parts to keys."""

    id = "bake"
    rank = 20
    label = "Bake"
    applies = "parts"
    help = "What moves the parts becomes keys of one system: as few as keep every joint within the tolerance, or more."
    choices = (
        Choice("to", "to", "name", "", help="Which system takes the keys."),
        Choice(
            "keys", "keys", "options", "few", (("few", "few keys"), ("kept", "existing keys"), ("every", "every frame"))
        ),
        *(replace(c, folded=False, when=("keys", ("few",))) for c in TOLERANCE),
        Choice(
            "nth", "a key every", "whole", 1, least=1, most=1000, unit="frames", when=("keys", ("every",)),
            help="A key on each frame, on every second, and so on; what lies between follows from the keys.",
        ),
        Choice(
            "there", "keys there", "options", "stay", (("stay", "stay"), ("go", "may go")), folded=True,
            when=("keys", ("few",)), help="Whether the keys that these parts have in that system stay among the few.",
        ),
        Choice("follow", "following", "anchor", "", folded=True, help="What its control follows there."),
    )  # fmt: skip

    def suggest(
        self, program: Program, parts: Parts, first: float, last: float | None, made: Mapping[str, Value]
    ) -> dict[str, Value]:
        """The system in which the part has keys, or its last one; of several parts each its own."""
        if len(parts) != 1:
            return {}
        bound = program.bound(*parts[0])
        shares = program.sample([first], LEAVING, bound.driver_channels)
        now = bound.state(shares)
        return {"to": now if now in bound.keyed_systems else bound.keyed_systems[-1]}

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        alone = {n for p in parts for n, s in program.bound(*p).systems.items() if s.system.moves_alone}
        able = any(following(program.bound(*p)) for p in parts)
        return {
            "to": (
                *((("", "each its own"), (DRIVING, "what drives each")) if len(parts) > 1 else ()),
                *(o for o in system_options(program, parts) if o[0] not in alone),
            ),
            "follow": (("", "what it follows"), *(anchors(program) if able else ())),
        }

    def lasts(self, program: Program, asked: Asked) -> float:
        """As many seconds as joints and frames ask for."""
        last = float(program.take.last if asked.last is None else asked.last)
        joints = sum(len(program.bound(*p).nodes) for p in asked.parts)
        few = asked.choices.get("keys", "few") == "few"
        return (FEW if few else DENSE) * joints * max(last - asked.first, 0.0)

    def chart(self, program: Program, asked: Asked, after: Program) -> Chart | None:
        """How many keys each tolerance would take."""
        bake = self._asked(asked)
        if bake.keys != "few" or self.lasts(program, asked) * (len(TIMES) - 1) > CHARTED:
            return None
        per, chosen = np.degrees(bake.tolerance[1]) / (1000.0 * bake.tolerance[0]), 1000.0 * bake.tolerance[0]
        points = []
        # What is picked from it must be able to be chosen.
        able = [
            t
            for t in TIMES
            if all(c.least <= v * t <= c.most for c, v in zip(TOLERANCE, (chosen, per * chosen), strict=True))
        ]
        for k, times in enumerate(able):
            advance(k / len(able))
            there = (bake.tolerance[0] * times, bake.tolerance[1] * times)
            made = after if times == 1.0 else baked(program, replace(bake, tolerance=there))
            channels = {int(c) for p in asked.parts for s in made.bounds[p].systems.values() for c in s.channels}
            inside = [made.curve(c).times for c in channels]
            last = program.take.last if asked.last is None else asked.last
            points.append((chosen * times, float(sum(((t >= asked.first) & (t <= last)).sum() for t in inside))))
        return Chart(
            "tolerance, mm", "keys", (Line("keys", tuple(points)),), chosen,
            (("tolerance", 1.0), ("tolerance_turn", float(per))), wide=True,
        )  # fmt: skip

    def _asked(self, asked: Asked) -> Bake:
        c = self.chosen(asked)
        return Bake(
            asked.parts, c["to"], asked.first, asked.last, c["keys"], tolerance_of(c), c["follow"], c["there"], c["nth"]
        )

    def run(self, program: Program, asked: Asked) -> Outcome:
        take, proof = apply(program, self._asked(asked))
        said = f"Bake {labels(program, asked.parts)}, {stretch_words(asked.first, asked.last)}"
        return Outcome(take, proof, said)
