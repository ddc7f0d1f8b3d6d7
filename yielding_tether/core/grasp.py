"""Closing a hand on something: each finger bends as a named value has it, joint by joint, until it lies on the surface.

All joints of a finger bend together until one of its bones touches; those up to there stop, and the ones beyond go on. Bones
and surfaces are the shapes of the bodies: a bone's is a run of balls along it.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from .program import Poses, Program
from .rig import Bound
from .shapes import balls_of, capsules_distance, solid_distance
from .transforms import Floats, Ints, inverse, multiply, rotate
from .values import PoseValue, turned

#: How far off a surface fingers stop, metres; steps in which a finger is bent, and parts into which the last of them is cut again
#: and again.
CLEAR, STEPS, PARTS, ROUNDS = 4e-4, 60, 32, 5
#: How far the first joint of a finger may be bent back where it would begin within the surface, radians, and in how many steps.
BACK, BACK_STEPS = float(np.radians(50.0)), 50
#: Distances that are worked out at once, at most.
AT_ONCE = 500_000
#: Shares tried for each joint of a finger that missed.
SOUGHT = 9
#: Less than this nearer (metres) than before is not nearer: the rounding of a distance.
NEARER = 1e-7


@dataclass(frozen=True)
class Closed:
    """A hand closed at one moment: `turns` (n, 4) of its joints beyond their rests; for each finger its joints (numbers in the
    part), outward, and how far it is from the surface, metres, below zero within."""

    turns: Floats
    fingers: tuple[tuple[int, ...], ...]
    gaps: tuple[float, ...]


def fingers_of(bound: Bound) -> list[tuple[int, ...]]:
    """Runs of a part's joints from where they leave what it hangs from to each end, as numbers in the part."""
    ends = [k for k in range(len(bound.nodes)) if k not in bound.up.tolist()]
    found = []
    for k in ends:
        run = [k]
        while bound.up[run[-1]] >= 0:
            run.append(int(bound.up[run[-1]]))
        found.append(tuple(reversed(run)))
    return sorted(found, key=lambda run: run[-1])


class Surface:
    """The shapes of members as they stand at F moments."""

    def __init__(self, program: Program, members: Sequence[str], frames: Floats) -> None:
        shapes = [(m.id, s) for m in program.scene.members if m.id in members for s in m.shapes]
        nodes = [program.nodes[id, s.joint] for id, s in shapes]
        poses = program.evaluate(frames, only=nodes)
        self.shapes = [s for _, s in shapes]
        #: (F, M, 3), (F, M, 4), (F, M): where the joints of the shapes are, and how large.
        self.pos, self.rot = poses.pos[:, nodes], poses.rot[:, nodes]
        known = {node: program.sizes(frames, 0, node) for node in set(nodes)}
        self.sizes = np.stack([known[node] for node in nodes], axis=1) if nodes else np.ones((len(frames), 0))

    def keep_near(self, point: Floats, reach: float) -> None:
        """Leaves out what is farther than `reach` from a point (3,), but for what is nearest to it: nothing that far is met, and
        asking costs as much for each shape as for all the rest."""
        away = np.array([self._off([k], point[None, None]).min() for k in range(len(self.shapes))])
        near = np.flatnonzero(away <= max(reach, away.min(initial=np.inf)))
        self.shapes = [self.shapes[k] for k in near]
        self.pos, self.rot, self.sizes = self.pos[:, near], self.rot[:, near], self.sizes[:, near]

    def off(self, points: Floats) -> Floats:
        """(L, N) how far points (L, N, 3) in the world are from it, metres, below zero within: at each of its moments, or all at
        its only one."""
        found = np.full(points.shape[:-1], np.inf)
        alike = [k for k, s in enumerate(self.shapes) if s.form == "capsule"]
        # As many capsules at once as there is room for.
        some = max(1, AT_ONCE // max(1, found.size))
        groups = [alike[k : k + some] for k in range(0, len(alike), some)]
        for which in (*groups, *([k] for k, s in enumerate(self.shapes) if s.form != "capsule")):
            found = np.minimum(found, self._off(which, points))
        return found

    def _off(self, which: Sequence[int], points: Floats) -> Floats:
        """The same for one of its shapes, or for several capsules."""
        shapes = [self.shapes[k] for k in which]
        pos, rot, sizes = self.pos[:, which], self.rot[:, which], self.sizes[:, which]
        if shapes[0].form == "capsule":
            a, b = (pos + rotate(rot, sizes[..., None] * np.array(ends))
                    for ends in zip(*((s.a, s.b) for s in shapes), strict=True))  # fmt: skip
            return capsules_distance(
                points, a, b, sizes[..., None] * np.array([(s.size[0], s.size[-1]) for s in shapes])
            )
        local = rotate(inverse(rot), points - pos) / sizes[..., None]
        found: Floats = sizes * solid_distance(shapes[0], local)
        return found


def joint_places(bound: Bound, poses: Poses, turns: Floats, wanted: Sequence[int]) -> tuple[Floats, Floats]:
    """Places (..., n, 3) and rotations (..., n, 4) of some of a part's joints, turned like this (..., n, 4) beyond their rests,
    at the first time; others are not worked out."""
    pos, rot = np.empty((*turns.shape[:-1], 3)), np.empty(turns.shape)
    size = poses.size(bound.slot)
    offsets = bound.offsets * (1.0 if size is None else size[0])
    needed = set(wanted)
    for k in reversed(bound.outward):
        if k in needed and bound.up[k] >= 0:
            needed.add(int(bound.up[k]))
    for k in bound.outward:
        if k in needed:
            up, above = int(bound.up[k]), int(bound.above[k])
            from_pos, from_rot = (
                (pos[..., up, :], rot[..., up, :]) if up >= 0 else (poses.pos[0, above], poses.rot[0, above])
            )
            pos[..., k, :] = from_pos + rotate(from_rot, offsets[k])
            rot[..., k, :] = multiply(multiply(from_rot, bound.rests[k]), turns[..., k, :])
    return pos, rot


def gaps(program: Program, bound: Bound, members: Sequence[str], frames: Floats) -> Floats:
    """(F,) how far a part's bones are from members as they stand at each frame, metres, below zero within."""
    balls = balls_of(bound.member.shapes, bound.part.joints)
    poses = program.evaluate(frames, only=bound.nodes)
    nodes, size = bound.nodes[balls.joint], poses.size(bound.slot)
    grown = np.ones(len(frames)) if size is None else size
    places = poses.pos[:, nodes] + rotate(poses.rot[:, nodes], grown[:, None, None] * balls.at)
    off = Surface(program, members, frames).off(places) - grown[:, None] * balls.radius
    found: Floats = off.min(axis=1, initial=np.inf)
    return found


def close(program: Program, bound: Bound, value: PoseValue, members: Sequence[str], frame: float) -> Closed:
    """Closes a part's fingers on members at a frame, each along the way that a value bends it."""
    hand = _Hand(program, bound, value, members, frame)
    done: set[int] = set()
    runs, gaps = fingers_of(bound), []
    for run in runs:
        mine = [k for k in run if k not in done and bound.part.joints[k] in value.joints]
        done |= set(run)
        if mine:
            hand.bend(mine)
        own = hand.balls_in(run)
        gaps.append(float(hand.off(hand.turns, own).min()) if len(own) else np.inf)
    return Closed(hand.turns, tuple(runs), tuple(gaps))


class _Hand:
    """A hand as it closes: `turns` (n, 4) of its joints beyond their rests."""

    def __init__(self, program: Program, bound: Bound, value: PoseValue, members: Sequence[str], frame: float) -> None:
        self.bound, self.value = bound, value
        self.surface = Surface(program, members, np.array([frame]))
        self.balls = balls_of(bound.member.shapes, bound.part.joints)
        self.poses = program.evaluate([frame], only=[*bound.nodes, *bound.above])
        above = multiply(self.poses.rot[0, bound.above], bound.rests)
        self.turns = multiply(inverse(above), self.poses.rot[0, bound.nodes])
        size = self.poses.size(bound.slot)
        self.size = 1.0 if size is None else float(size[0])
        # As far as the fingers reach, and as much again: of a ball with unlike axes the distance is an estimate.
        longest = max(sum(float(np.linalg.norm(bound.offsets[k])) for k in run) for run in fingers_of(bound))
        at = self.poses.pos[0, bound.above[bound.outward[0]]]
        self.surface.keep_near(at, 2.0 * self.size * (longest + float(self.balls.radius.max(initial=0.0)) + 0.05))

    def balls_in(self, joints: Sequence[int]) -> Ints:
        """Balls of some joints, by number."""
        return np.flatnonzero(np.isin(self.balls.joint, joints))

    def off(self, turns: Floats, which: Ints) -> Floats:
        """(..., N) how far balls are from the surface with the joints turned like this (..., n, 4)."""
        j = self.balls.joint[which]
        pos, rot = joint_places(self.bound, self.poses, turns, np.unique(j).tolist())
        places = pos[..., j, :] + rotate(rot[..., j, :], self.balls.at[which] * self.size)
        found: Floats = self.surface.off(places.reshape(-1, *places.shape[-2:]))
        found = found.reshape(places.shape[:-1]) - self.size * self.balls.radius[which]
        return found

    def bent(self, mine: Sequence[int], shares: Floats, back: Floats) -> Floats:
        """(S, n, 4) the turns with these joints bent by shares (S,) of the way, the first of them turned back first."""
        found = np.repeat(self.turns[None], len(shares), axis=0)
        found[:, mine] = turned([self.value], self.bound.part.joints, shares[None])[:, mine]
        found[:, mine[0]] = multiply(back, found[:, mine[0]])
        return found

    def bend(self, mine: list[int]) -> None:
        """Bends a finger until all of its bones lie on the surface, or it is bent as far as it goes."""
        back = self._back(mine)
        low, first = 0.0, mine
        whole = self.turns = self.bent(mine, np.zeros(1), back)[0]
        while first:
            which = self.balls_in(first)
            start = self.off(whole, which)

            def touching(
                shares: Floats, first: list[int] = first, which: Ints = which, start: Floats = start
            ) -> Floats:
                turns = np.repeat(self.turns[None], len(shares), axis=0)
                turns[:, first] = self.bent(mine, shares, back)[:, first]
                there = self.off(turns, which)
                found: Floats = np.where((there < CLEAR) & (there < start - NEARER), there, np.inf)
                return found

            steps = np.linspace(low, 1.0, STEPS + 1)[1:]
            hits = np.flatnonzero(np.isfinite(touching(steps)).any(axis=1))
            if not len(hits):
                self.turns[first] = self.bent(mine, np.ones(1), back)[0, first]
                if first == mine:
                    self._seek(mine, back)
                return
            high = float(steps[hits[0]])
            low = high - (1.0 - low) / STEPS
            for _ in range(ROUNDS):
                # The first of some shares between at which it touches, then between that and the one before.
                between = np.linspace(low, high, PARTS + 1)
                touched = np.append(np.isfinite(touching(between[1:-1])).any(axis=1), True)
                k = int(np.argmax(touched))
                low, high = float(between[k]), float(between[k + 1])
            bone = int(self.balls.joint[which[int(np.argmin(touching(np.array([high]))[0]))]])
            self.turns[first] = self.bent(mine, np.array([low]), back)[0, first]
            whole = self.turns
            first = first[first.index(bone) + 1 :]

    def _seek(self, mine: Sequence[int], back: Floats) -> None:
        """Bends each bone of a finger by a share of its own where all together missed: so that it comes nearest and stays
        outside."""
        which, shares = self.balls_in(mine), np.linspace(0.0, 1.0, SOUGHT)
        ways = self.bent(mine, shares, back)
        bones = sorted(set(self.balls.joint[which].tolist()))
        picked = np.array(list(itertools.product(range(SOUGHT), repeat=len(bones))))
        tried = np.repeat(self.turns[None], len(picked), axis=0)
        for n, k in enumerate(bones):
            tried[:, k] = ways[picked[:, n], k]
        off = self.off(tried, which).min(axis=1)
        off = np.where(off >= CLEAR, off, np.inf)
        if off.min() < self.off(self.turns, which).min():
            self.turns = tried[int(np.argmin(off))]

    def _back(self, mine: list[int]) -> Floats:
        """The turn (4,) by which the first joint of a finger is bent back so that it begins outside the surface: none where it
        does, and none where that does not help."""
        none, which = np.array([0.0, 0.0, 0.0, 1.0]), self.balls_in(mine)
        step = turned([self.value], self.bound.part.joints, np.array([[0.5 * self.value.at[0]]]))[0][mine[0]]
        axis = step[:3] / max(float(np.linalg.norm(step[:3])), 1e-12)
        half = 0.5 * np.linspace(0.0, BACK, BACK_STEPS + 1)
        backs = np.concatenate([-np.sin(half)[:, None] * axis, np.cos(half)[:, None]], axis=1)
        out = self.off(self.bent(mine, np.zeros(len(half)), backs), which).min(axis=1) >= 0.0
        return backs[int(np.argmax(out))] if out.any() else none
