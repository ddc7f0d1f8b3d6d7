"""Proposing parts for bare skeletons: by structure first, by motion where there is some, by names where both are silent.

A limb is a run of joints with two long segments (or three, zigzag, as of a hind leg) that has a partner of the same lengths
elsewhere in the skeleton. Helper joints within its segments, or beside them, are told by where they lie and by not
bending: they are driven along. Hinges come from the motion where it bends the limb, then from a bent rest pose, then from
what the limb is. What is no limb is the body: spine, neck and head, collars, hands and feet, tails.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Any, Literal

import numpy as np

from .cast import Shape
from .errors import CoreError
from .parts import (
    Bends,
    ChainPart,
    Finger,
    FkPart,
    FreePart,
    HandPart,
    NeckPart,
    Part,
    Shrug,
    Side,
    Sole,
    TwistPart,
    arm_of,
    leg_of,
    limb_of,
)
from .skeleton import Skeleton
from .sole_finding import with_soles
from .transforms import Floats, inverse, multiply, rotate
from .twists import sharings

#: Shortest segment of a limb, as a share of the skeleton's greatest extent.
LONG = 0.08
#: What ends at most so far above the lowest end stands on the floor, as a share of that extent.
LOW = 0.15
#: Feet say where a body faces if they point so much more one way than every way, as a share of how far they point.
SAYS = 0.2
#: How far the lengths of partners may differ.
ALIKE = 0.15
#: Bend (radians) from which a rest pose, or a motion, shows its hinge.
BENT_REST, BENT_MOTION = np.radians(8.0), np.radians(4.0)
#: A limb is another's mirror image where its corners are within this share of the skeleton's greatest extent of that.
IMAGE = 1e-3
#: Below this the ways in which a pair bends are against one another: the product of two vectors that are as long as they are sure.
AGAINST = -0.5
#: A helper joint lies within this share of a segment's length from the segment itself.
ASIDE = 0.06
#: Helpers that may cut a segment, at most, for others to be seen beside it.
CUTS = 8
#: Without a motion, a joint this far along a segment may as well be its end.
LATE = 0.75
#: A joint within a segment that swings more than this (radians), and this share of the limb's own bend, is no helper.
SWINGS, SWINGS_SHARE = np.radians(10.0), 0.25
#: A third segment belongs to a limb where it is at least this share of the other two.
THIRD = 0.45
#: How much an inner joint of a zigzag limb curls as the limb is shortened by its whole length (radians).
CURL = 2.0
#: How much of a head's turn its neck takes.
NECK_TAKES = 0.5
#: By how many joints the two of a pair of limbs may differ in how far they are below where they come together.
ASKEW = 1
#: Joints of a tail, at least; of one that hangs from the hips.
TAIL, SHORT_TAIL = 4, 3

#: Where a hinge comes from whose sense was chosen.
CHOSEN = "chosen"

_LEFT = re.compile(r"(left|(^|[\W_])l([\W_]|$)|^l(?=[A-Z])|(^|[\W_])lf)", re.IGNORECASE)
_RIGHT = re.compile(r"(right|(^|[\W_])r([\W_]|$)|^r(?=[A-Z])|(^|[\W_])rt)", re.IGNORECASE)
_LIMB = re.compile(r"(arm|elbow|wrist|leg|thigh|shin|calf|knee|ankle|femur|tibia|humerus)", re.IGNORECASE)


@dataclass(frozen=True)
class Proposal:
    """Parts that drive every joint of a skeleton, pieces for a body, and what the animator should know."""

    parts: tuple[Part, ...]
    shapes: tuple[Shape, ...]
    notes: tuple[str, ...]


@dataclass(frozen=True)
class Run:
    """A limb in a skeleton: its joints from the root to the end, where it bends, and other joints that bend with it; all
    else between its ends are helpers."""

    path: tuple[int, ...]
    bends: tuple[int, ...]

    @property
    def root(self) -> int:
        return self.path[0]

    @property
    def middle(self) -> int:
        return self.bends[0]

    @property
    def end(self) -> int:
        return self.path[-1]

    @property
    def corners(self) -> tuple[int, ...]:
        """Joints between which its segments run."""
        return (self.root, *self.bends, self.end)

    @property
    def helpers(self) -> tuple[int, ...]:
        return tuple(j for j in self.path if j not in self.corners)


@dataclass(frozen=True)
class Limb:
    """A limb as it is said to be: the names of its `corners` (root, where it bends, end), what it is, on which side, and whether it
    bends to the other side than is found."""

    corners: tuple[str, ...]
    role: Literal["arm", "leg"]
    side: Literal["left", "right"]
    flipped: bool = False


def propose(
    skeleton: Skeleton, rotations: Floats | None = None, orders: Mapping[str, str] | None = None,
    said: Sequence[Limb] | None = None, offsets: Floats | None = None,
) -> Proposal:  # fmt: skip
    """Parts for a skeleton. rotations: (S, J, 4) local rotations of some motion, for what a rest pose does not tell, and offsets
    (S, J, 3, metres) its local places, sample by sample, by which it tells how thick soles are; orders: rotation order by joint,
    "zxy" where not given; said: its limbs, where they are not to be found. CoreError for limbs that can't be."""
    bones = _Bones(skeleton, rotations)
    runs, notes = bones.limbs() if said is None else (_runs_of(skeleton, said), [])
    order = {joint.name: (orders or {}).get(joint.name, "zxy") for joint in skeleton.joints}
    forward = _forward(skeleton, runs, said)
    name_of, pos = [joint.name for joint in skeleton.joints], skeleton.rest_pose[0]
    limbs = _name_limbs(skeleton, runs, forward, said)
    flipped = {run for run, limb in zip(runs, said or (), strict=False) if limb.flipped}
    parts: list[Part] = []
    tips: list[Part] = []
    taken = {0}
    for run, name, label, side, role in limbs:
        opposite = [r for r, _, _, there, what in limbs if there != side and what == role]
        hinge, found = find_hinge(skeleton, run, rotations, forward, role, bones.image_of(run, opposite))
        if run in flipped:
            hinge, found = (-hinge[0], -hinge[1], -hinge[2]), CHOSEN
        if found == "guess":
            notes.append(f"The hinge of the {label} is a guess: it is straight at rest and never bends in the motion.")
        path, middle = run.path, run.path.index(run.middle)
        given: dict[str, Any] = {"name": name, "label": label, "hinge": hinge, "side": side, "hinge_from": found}
        given["end_order"] = order[name_of[run.end]]
        toe = _toe_of(skeleton, run.end, bones) if role == "leg" else None
        collar = _collar_of(skeleton, run.root, bones) if role == "arm" else 0
        make: Callable[..., Part] = limb_of
        if role == "leg":
            make, path = leg_of, path if toe is None else (*path, toe)
            given |= {"toed": toe is not None, "sole": Sole.found(skeleton, run.end, toe, facing=_triple(forward))}
        elif collar and collar not in taken:
            make, path, middle = arm_of, (collar, *path), middle + 1
            given["shrug"] = Shrug.found(skeleton, collar, run.end, forward)
        else:
            given["role"] = role
        joints = tuple(name_of[j] for j in path)
        limb = make(joints, tuple(order[n] for n in joints), Bends(middle, *_curls(skeleton, run, path)), **given)
        parts.append(limb)
        taken |= set(path)
        beside = [j for j in sorted(bones.helpers_beside(run)) if j not in taken]
        sharing = sharings(skeleton, run.path, beside, rotations)
        if run.helpers or beside:
            told = ", ".join(name_of[j] for j in (*run.helpers, *beside))
            many = len(run.helpers) + len(beside) > 1
            by = [f"{name_of[x.helper]} by {x.share:.0%} of the twist of {name_of[x.of]}" for x in sharing]
            notes.append(
                f"{told}: {'helper joints' if many else 'a helper joint'} of the {label}, driven along with it"
                f"{': ' if by else ''}{', '.join(by)}."
            )
        if sharing:
            tips.append(TwistPart(
                f"{name}.twist", f"{label} twist", tuple(name_of[x.helper] for x in sharing),
                tuple(order[name_of[x.helper]] for x in sharing), tuple(name_of[x.of] for x in sharing),
                tuple(x.axis for x in sharing), tuple(x.share for x in sharing), side,
            ))  # fmt: skip
        plain = [name_of[j] for j in beside if j not in {x.helper for x in sharing}]
        if plain:
            tips.append(_fk(f"{name}.helpers", f"{label} helpers", plain, order, side))
        taken |= set(beside)
        below = [j for j in sorted(skeleton.descendants(run.end) - {run.end}) if j not in taken]
        if below:
            word = f"{label} {'hand' if role == 'arm' else 'toes'}".replace(f" {role} ", " ")
            tip = _fk(f"{name}.tip", word, [name_of[j] for j in below], order, side)
            fingers = _fingers(bones, below, pos[run.root] - pos[0], notes) if role == "arm" else ()
            tips.append(
                HandPart(tip.name, word, tip.joints, tip.orders, tip.moves, side, fingers=fingers) if fingers else tip
            )
            taken |= set(below)
    body = _body_parts(skeleton, [r for r, *_ in limbs], taken, order, limbs)
    root = FreePart("root", "root", name_of[0], order[name_of[0]])
    shapes = body_shapes(skeleton, [r.corners for r in runs])
    if rotations is not None and offsets is not None:
        parts, thick = with_soles(skeleton, parts, offsets, rotations)
        notes += thick
    return Proposal((root, *body, *parts, *tips), tuple(shapes), tuple(notes))


def _fingers(bones: _Bones, below: list[int], out: Floats, notes: list[str]) -> tuple[Finger, ...]:
    """The fingers among the joints below a wrist: of each run that branches no more (helpers aside) the last three joints
    between which there are bones; what ends nowhere only marks a tip. `out`: from the body's middle to where the arm begins."""
    skeleton, pos, found = bones.skeleton, bones.pos, list[Finger]()
    children: dict[int, list[int]] = {}
    for j in below:
        goes_on = [c for c in bones.children[j] if bones.children[c]]
        # What ends at once beside what goes on is no finger of its own.
        children[j] = goes_on or sorted(bones.children[j], key=lambda c: bones.lengths[c])[-1:]
    for leaf in (j for j in children if not children[j]):
        path = [leaf]
        while children.get(up := skeleton.parents[path[0]]) == path[:1]:
            path.insert(0, up)
        if len(path) > 3 and (skeleton.joints[leaf].tip is None or bones.lengths[leaf] < 1e-6):
            path.pop()
        runs = [tuple(path[n - 3 : n]) for n in range(len(path), 2, -1)]
        run = next((r for r in runs if min(bones.lengths[j] for j in r[1:]) > 1e-6), None)
        if run is None:
            if runs:
                names = ", ".join(skeleton.joints[j].name for j in path)
                notes.append(f"{names}: a finger that is posed joint by joint, for a helper joint cuts it.")
            continue
        # A straight finger bends down, or towards the body where it hangs.
        along = (pos[run[2]] - pos[run[0]]) / np.linalg.norm(pos[run[2]] - pos[run[0]])
        way = np.array([0.0, -1.0, 0.0]) if abs(along[1]) < 0.8 else -out * [1.0, 0.0, 1.0]
        hinge, _ = find_hinge(skeleton, Run(run, (run[1],)), bones.rotations, way, "finger")
        a, b, c = (below.index(j) for j in run)
        found.append(Finger((a, b, c), hinge))
    return tuple(found)


def _collar_of(skeleton: Skeleton, root: int, bones: _Bones) -> int:
    """The collarbone of an arm: what it alone hangs from, where that branches off a body; 0 where there is none."""
    collar = skeleton.parents[root]
    up = skeleton.parents[collar]
    alone = up > 0 and bones.children[collar] == [root] and bones.lengths[root] > 1e-6
    return collar if alone and len(bones.children[up]) > 1 else 0


def _toe_of(skeleton: Skeleton, foot: int, bones: _Bones) -> int | None:
    """The joint of a foot's toe: the one that hangs from it and leads farthest, if one has any length."""
    able = [c for c in bones.children[foot] if bones.lengths[c] > 1e-6]
    return max(able, key=lambda c: bones.lengths[c] + bones.below[c], default=None)


def _fk(name: str, label: str, joints: list[str], order: dict[str, str], side: Side) -> FkPart:
    return FkPart(name, label, tuple(joints), tuple(order[j] for j in joints), (False,) * len(joints), side)


# --- limbs ----------------------------------------------------------------------------------------------


class _Bones:
    """A skeleton with what is read of it again and again."""

    def __init__(self, skeleton: Skeleton, rotations: Floats | None) -> None:
        self.skeleton = skeleton
        self.rotations = rotations if rotations is not None and len(rotations) else None
        self.pos = skeleton.rest_pose[0]
        self.extent = float(np.ptp(self.pos, axis=0).max()) or 1.0
        self.lengths = np.linalg.norm(skeleton.offsets, axis=1)
        self.below = np.zeros(len(skeleton))
        for j in range(len(skeleton) - 1, 0, -1):
            up = skeleton.parents[j]
            self.below[up] = max(self.below[up], self.lengths[j] + self.below[j])
        self.all_children: list[list[int]] = [[] for _ in range(len(skeleton))]
        for j, up in enumerate(skeleton.parents):
            if up >= 0:
                self.all_children[up].append(j)
        self.beside = self._beside()
        self.children = [[c for c in found if c not in self.beside] for found in self.all_children]

    def _beside(self) -> set[int]:
        """Joints that lie beside a segment: nothing but helpers hang from them, and they lie on the segment to a sibling, or
        where their parent is."""
        found: set[int] = set()
        for j in range(len(self.skeleton) - 1, 0, -1):
            if not set(self.all_children[j]) <= found:
                continue
            siblings = [c for c in self.all_children[self.skeleton.parents[j]] if c != j and c not in found]
            tip = self.skeleton.joints[j].tip
            if tip is not None and np.linalg.norm(tip) > ASIDE * self.extent:
                continue
            deeper = [c for c in siblings if self.lengths[c] + self.below[c] > self.lengths[j] + self.below[j]]
            alone = not self.all_children[j] and bool(deeper) and self.lengths[j] < 1e-3 * self.extent
            if alone or any(self._along(j, c) for c in deeper):
                found.add(j)
        return found

    def _along(self, j: int, c: int) -> bool:
        """Whether a joint lies on the segment from where it hangs to a sibling, or to what is straight beyond that: helpers may cut
        a segment that others lie beside."""
        start = self.pos[self.skeleton.parents[j]]
        off = self.pos[j] - start
        # No farther than the joint itself, and through no more than a few helpers: a rope has hundreds of joints in line.
        ends = [c]
        for at in ends:
            end = self.pos[at] - start
            if _on_segment(off, end):
                return True
            if len(ends) <= CUTS and end @ end < off @ off:
                ends += [k for k in self.all_children[at] if _on_segment(end, self.pos[k] - start)]
        return False

    def helpers_beside(self, run: Run) -> set[int]:
        """Helper joints that hang from a limb's segments."""
        found: set[int] = set()
        for j in run.path[:-1]:
            for c in self.all_children[j]:
                if c in self.beside:
                    found |= self.skeleton.descendants(c)
        return found

    def swing(self, j: int, towards: int) -> float:
        """How far (radians, 95 %) a joint swings what lies towards a joint below it, in the motion; a turn about that
        direction itself is none."""
        if self.rotations is None:
            return 0.0
        rot = self.skeleton.rest_pose[1]
        v = rotate(inverse(rot[j]), self.pos[towards] - self.pos[j])
        size = float(np.linalg.norm(v))
        if size < 1e-9:
            return 0.0
        moved = rotate(self.rotations[:, j], v / size)
        # From where it is on the whole: a rest pose need not be one that the motion ever takes.
        middle = moved.mean(axis=0)
        middle /= max(float(np.linalg.norm(middle)), 1e-9)
        return float(np.percentile(np.arccos(np.clip(moved @ middle, -1.0, 1.0)), 95))

    def path_to(self, end: int, most: int) -> list[int]:
        """Joints above one, itself first, as long as nothing branches between: at most so many."""
        found = [end]
        while len(found) < most:
            up = self.skeleton.parents[found[-1]]
            if up <= 0:
                break
            found.append(up)
            if len(self.children[up]) != 1:
                break
        return found

    def candidates(self) -> tuple[list[Run], list[Run]]:
        """Runs that may be limbs: two long straight segments that meet in a joint, or three that go zigzag. Of runs that
        differ only in where one of their segments begins or ends, the one whose segments are most alike; and all of them."""
        found: list[Run] = []
        for k in range(1, len(self.skeleton)):
            above = self.path_to(k, 12)
            if not self.beside.isdisjoint(above):
                continue
            for b in range(2, len(above)):
                path = tuple(reversed(above[: b + 1]))
                if self.lengths[path[1]] < 1e-9 or self.lengths[k] < 1e-9:
                    # A limb begins and ends where its segments do, not at a helper of no length.
                    continue
                run = self._bent(path)
                if run is not None:
                    found.append(run)
        every = found
        for of_root in (True, False):
            best: dict[tuple[int, int], Run] = {}
            for run in found:
                key = (run.root if of_root else run.end, run.middle)
                if key not in best or self.alike(run) > self.alike(best[key]):
                    best[key] = run
            found = list(best.values())
        return [*found, *(longer for run in found if (longer := self._longer(run)) is not run)], every

    def alike(self, run: Run) -> float:
        """How alike the segments of a run are, one at most; a plain run is preferred to one with helpers."""
        lengths = self.segments(run)
        found: float = min(lengths) / max(lengths) * 0.95 ** len(run.helpers)
        return found

    def _bent(self, path: tuple[int, ...]) -> Run | None:
        """A run that bends in one joint between straight segments, if it does."""
        found: tuple[float, Run] | None = None
        for m in path[1:-1]:
            if m != path[1] and self.lengths[m] < 1e-9 and self.rotations is None:
                continue
            run = Run(path, (m,))
            lengths = self.segments(run)
            if min(lengths) < max(LONG * self.extent, 0.4 * max(lengths)) or not self._straight(run):
                continue
            alike = min(lengths) / max(lengths)
            swing = self.swing(m, self._next_apart(path, m))
            others = [self.swing(h, self._next_apart(path, h)) for h in run.helpers]
            if any(s > SWINGS and s > SWINGS_SHARE * swing for s in others):
                continue
            value = alike + 2.0 * swing
            if found is None or value > found[0]:
                found = value, run
        return found[1] if found else None

    def _next_apart(self, path: tuple[int, ...], j: int) -> int:
        """The next joint of a path that does not lie where this one does."""
        for c in path[path.index(j) + 1 :]:
            if np.linalg.norm(self.pos[c] - self.pos[j]) > 1e-9:
                return c
        return path[-1]

    def segments(self, run: Run) -> list[float]:
        """Lengths of a run's segments."""
        corners = run.corners
        return [float(np.linalg.norm(self.pos[b] - self.pos[a])) for a, b in pairwise(corners)]

    def _straight(self, run: Run) -> bool:
        """Whether the helpers of a run lie on its segments."""
        for a, b in pairwise(run.corners):
            between = run.path[run.path.index(a) + 1 : run.path.index(b)]
            bone = self.pos[b] - self.pos[a]
            if not all(_on_segment(self.pos[h] - self.pos[a], bone) for h in between):
                return False
            # Near its end a segment may as well have ended: only a motion can tell.
            late = [h for h in between if (self.pos[h] - self.pos[a]) @ bone > LATE * float(bone @ bone)]
            if late and self.rotations is None:
                return False
        return True

    def score(self, run: Run) -> float:
        """Long, with segments alike, and with little left beyond its end: what hangs from a wrist or an ankle is short,
        what hangs from an elbow is a forearm. Helpers are taken in, but a plain run is preferred."""
        lengths = self.segments(run)
        left = float(self.below[run.end]) / lengths[-1]
        # Of three segments the first need not be as long as the others, where the motion shows that it takes part.
        shown = len(run.bends) > 1 and self.swing(run.root, run.middle) > SWINGS
        alike = 0.95 ** len(run.helpers) if shown else self.alike(run)
        return sum(lengths) * alike / (1.0 + 4.0 * left * left)

    def limbs(self) -> tuple[list[Run], list[str]]:
        """The limbs, the surest first, and notes on what was left out."""
        skeleton, notes = self.skeleton, list[str]()
        likely, every = self.candidates()
        candidates = sorted(likely, key=lambda r: -self.score(r))
        chosen: list[Run] = []
        used: set[int] = set()
        for run in candidates:
            inside = skeleton.descendants(run.root)
            # From what is a limb no other hangs: that is a spine, or a neck.
            if used & (inside | {run.root}):
                continue
            lengths = self.segments(run)
            partners = [
                u for u in candidates
                if not used & (skeleton.descendants(u.root) | {u.root}) and not (set(u.path) & inside)
                and run.root not in skeleton.descendants(u.root)
                and len(u.bends) == len(run.bends) and self._abreast(u.root, run.root)
                and all(abs(a - b) <= ALIKE * b for a, b in zip(self.segments(u), lengths, strict=True))
            ]  # fmt: skip
            if partners:
                partner = self._image(min(partners, key=lambda u: self._unlike(u, run)), run, every)
                mine = self._image(run, partner, every)
                chosen += [mine, partner]
                # What hangs below a limb belongs to its hand or foot.
                used |= inside | skeleton.descendants(mine.root) | skeleton.descendants(partner.root)
        for run in candidates:
            told = " ".join(skeleton.joints[n].name for n in run.corners)
            if not used & set(run.path) and len(_LIMB.findall(told)) >= 2:
                chosen.append(run)
                used |= skeleton.descendants(run.root)
        if not chosen:
            notes.append("No limbs were found: every joint is posed in FK.")
        return chosen, notes

    def _abreast(self, a: int, b: int) -> bool:
        """Whether two joints are about equally far below where they come together: a neck is no partner of a hind leg."""
        up, other = (_upward(self.skeleton, j) for j in (a, b))
        common = next(j for j in up if j in other)
        return abs(up.index(common) - other.index(common)) <= ASKEW

    def _unlike(self, a: Run, b: Run) -> tuple[float, float, float]:
        """How far a run is from being the partner of another: in depth, in helpers, from being its mirror image (metres)."""
        depth = abs(_depth(self.skeleton, a.root) - _depth(self.skeleton, b.root))
        return float(depth), float(len(a.path) != len(b.path)), self._off_mirror(a, b)

    def image_of(self, run: Run, others: Sequence[Run]) -> Run | None:
        """Which of other runs is its mirror image, if one is."""
        apart = [r for r in others if np.linalg.norm(self.pos[r.root] - self.pos[run.root]) > IMAGE * self.extent]
        alike = [r for r in apart if len(r.bends) == len(run.bends)]
        best = min(alike, key=lambda r: self._off_mirror(run, r), default=None)
        return best if best is not None and self._off_mirror(run, best) <= IMAGE * self.extent else None

    def _image(self, run: Run, partner: Run, every: Sequence[Run]) -> Run:
        """The run, or another that shares joints with it and is by far more like the partner's mirror image: where helpers cut what
        is straight at rest, its lengths alone may say several things."""
        others = [
            u for u in (run, *every)
            if set(u.path) & set(run.path) and not set(u.path) & set(partner.path) and len(u.bends) == len(partner.bends)
        ]  # fmt: skip
        best = min(others, key=lambda u: self._off_mirror(u, partner))
        off, least = self._off_mirror(run, partner), self._off_mirror(best, partner)
        return best if off > max(ALIKE * ASIDE * self.extent, 4.0 * least) else run

    def _off_mirror(self, a: Run, b: Run) -> float:
        """How far (metres) the corners of a run lie from those of another mirrored in the plane between where both begin, and that
        plane from what they hang from: two legs of one side, one behind the other, are each other's copies, not images."""
        one, two = (self.pos[list(r.corners)] for r in (a, b))
        across = two[0] - one[0]
        size = float(np.linalg.norm(across))
        if size < 1e-9:
            return float(np.linalg.norm(one - two, axis=1).max())
        across /= size
        up, other = (_upward(self.skeleton, r.root) for r in (a, b))
        common = next(j for j in up if j in other)
        middle = 0.5 * (one[0] + two[0])
        seen = one - 2.0 * ((one - middle) @ across)[:, None] * across
        return float(np.linalg.norm(seen - two, axis=1).max() + abs((self.pos[common] - middle) @ across))

    def _longer(self, run: Run) -> Run:
        """The run with a third segment, where it goes on zigzag through a long one that stands upright, as a hind leg does."""
        # Down to the last joint that is in line with all on the way there: those are its helpers.
        third: list[int] = []
        at = run.end
        while len(self.children[at]) == 1:
            at = self.children[at][0]
            bone = self.pos[at] - self.pos[run.end]
            if not all(_on_segment(self.pos[h] - self.pos[run.end], bone) for h in third):
                break
            third.append(at)
        if not third:
            return run
        end = third[-1]
        lengths = self.segments(run)
        bone = self.pos[end] - self.pos[run.end]
        size = float(np.linalg.norm(bone))
        if size < max(THIRD * max(lengths), LONG * self.extent) or abs(bone[1]) < 0.7 * size:
            return run
        a, m, b = (self.pos[j] for j in run.corners)
        first = np.cross(m - a, b - m) / (lengths[0] * lengths[1])
        second = np.cross(b - m, bone) / (lengths[1] * size)
        bent = min(np.linalg.norm(first), np.linalg.norm(second)) > np.sin(BENT_REST)
        if not bent or float(first @ second) > 0.0:
            return run
        return Run((*run.path, *third), (run.middle, run.end))


def _on_segment(point: Floats, end: Floats) -> bool:
    """Whether a point lies on the segment from the origin to an end, but for ASIDE of its length; not beyond its end."""
    size = float(np.linalg.norm(end))
    if size < 1e-9:
        return float(np.linalg.norm(point)) < 1e-9
    along = float(point @ end) / size
    return (
        -ASIDE * size <= along <= (1.0 - 1e-6) * size
        and float(np.linalg.norm(point - along * end / size)) <= ASIDE * size
    )


def find_limbs(skeleton: Skeleton, rotations: Floats | None = None) -> tuple[list[Run], list[str]]:
    """The limbs of a skeleton, the surest first, and notes on what was left out."""
    return _Bones(skeleton, rotations).limbs()


def _curls(
    skeleton: Skeleton, run: Run, joints: tuple[int, ...]
) -> tuple[tuple[tuple[float, float, float], ...], tuple[float, ...]]:
    """For each of these joints the axis about which it curls, in its own frame, and by how much; helpers do not."""
    rot = skeleton.rest_pose[1]
    pos = skeleton.rest_pose[0]
    hinges, curls = [], []
    for j in joints:
        axis, curl = np.array([1.0, 0.0, 0.0]), 0.0
        if j in run.bends[1:]:
            k = run.corners.index(j)
            before, after = (pos[b] - pos[a] for a, b in ((run.corners[k - 1], j), (j, run.corners[k + 1])))
            normal = np.cross(before, after)
            axis = rotate(inverse(rot[j]), normal / np.linalg.norm(normal))
            curl = CURL
        hinges.append((float(axis[0]), float(axis[1]), float(axis[2])))
        curls.append(curl)
    return tuple(hinges), tuple(curls)


def find_hinge(
    skeleton: Skeleton, run: Run, rotations: Floats | None, forward: Floats, role: str, image: Run | None = None
) -> tuple[tuple[float, float, float], str]:
    """Hinge axis (3,) of a limb in its upper frame and where it was found: "motion", "rest" or "guess".

    Where the motion says how a limb bends, the motion decides, whatever a rest pose that is nearly straight may say.
    image: a limb that is its mirror image at rest; then what either of them does counts for both, and their hinges are each
    other's image: what is mirrored is the same motion with the same keys."""
    pos, rot = skeleton.rest_pose
    i, m, k = run.root, run.middle, run.end if len(run.bends) == 1 else run.bends[1]
    back = inverse(rot[i])
    upper, lower = rotate(back, pos[m] - pos[i]), rotate(back, pos[k] - pos[m])
    d1 = upper / np.linalg.norm(upper)
    aside = lower - (lower @ d1) * d1
    bent = float(np.arctan2(np.linalg.norm(aside), lower @ d1))
    if rotations is not None and len(rotations):
        d, asides = _moved(skeleton, run, m, k, rotations)
        if image is not None:
            across = pos[image.root] - pos[i]
            plane = np.eye(3) - 2.0 * np.outer(across, across) / (across @ across)
            end = image.end if len(image.bends) == 1 else image.bends[1]
            there = _moved(skeleton, image, image.middle, end, rotations)
            other, more = (rotate(back, rotate(rot[image.root], x) @ plane) for x in there)
            # Two that clearly bend against one another are none of each other's business.
            if _way(asides) @ _way(more) > AGAINST:
                d = (d + other) / np.linalg.norm(d + other)
                asides = np.concatenate([asides, more])
        size = float(np.percentile(np.linalg.norm(asides, axis=1), 95))
        if size >= np.sin(BENT_MOTION) and (bent < BENT_REST or np.arcsin(min(size, 1.0)) > bent):
            bend = _bend(asides)
            return _hinge(d, bend - (bend @ d) * d), "motion"
    if bent >= BENT_REST:
        return _hinge(d1, aside), "rest"
    # A knee folds backward, an elbow forward.
    bend = rotate(back, -forward if role == "leg" else forward)
    bend = bend - (bend @ d1) * d1
    if np.linalg.norm(bend) < 1e-3:
        bend = np.cross(d1, [1.0, 0.0, 0.0] if abs(d1[0]) < 0.6 else [0.0, 1.0, 0.0])
    return _hinge(d1, bend), "guess"


def _moved(skeleton: Skeleton, run: Run, m: int, k: int, rotations: Floats) -> tuple[Floats, Floats]:
    """In the frame of a limb's root: the direction (3,) of its upper segment, and how far (S, 3) the lower one's direction
    stands off it in a motion."""
    place = np.zeros((len(rotations), 3))
    turn = np.tile([0.0, 0.0, 0.0, 1.0], (len(rotations), 1))
    at: dict[int, Floats] = {run.root: place}
    for j in run.path[1 : run.path.index(k) + 1]:
        place = place + rotate(turn, np.broadcast_to(skeleton.offsets[j], place.shape))
        turn = multiply(turn, rotations[:, j])
        at[j] = place
    upper, lower = at[m], at[k] - at[m]
    upper = upper / np.linalg.norm(upper, axis=1, keepdims=True)
    lower = lower / np.linalg.norm(lower, axis=1, keepdims=True)
    d = upper.mean(axis=0)
    return d / np.linalg.norm(d), lower - np.sum(lower * upper, axis=1, keepdims=True) * upper


def _bend(asides: Floats) -> Floats:
    """The way (3,), of length one, that a limb bends most in a motion (S, 3)."""
    _, _, axes = np.linalg.svd(asides, full_matrices=False)
    found: Floats = axes[0] * (1.0 if np.sum(asides @ axes[0]) >= 0.0 else -1.0)
    return found


def _way(asides: Floats) -> Floats:
    """The same, as long as it is sure: of length one where a limb bends to one side only, none where it hardly bends."""
    bend = _bend(asides)
    along = asides @ bend
    found: Floats = bend * (np.sum(along) / np.sum(np.maximum(np.abs(along), np.sin(BENT_MOTION))))
    return found


def _hinge(d1: Floats, bend: Floats) -> tuple[float, float, float]:
    """Axis about which the direction d1 turns towards `bend`."""
    h = np.cross(d1, bend)
    if np.linalg.norm(h) < 1e-9 * max(float(np.linalg.norm(bend)), 1e-9):
        h = np.cross(d1, [1.0, 0.0, 0.0] if abs(d1[0]) < 0.6 else [0.0, 1.0, 0.0])
    h = h / np.linalg.norm(h)
    return (float(h[0]), float(h[1]), float(h[2]))


def _upward(skeleton: Skeleton, joint: int) -> list[int]:
    """A joint and all above it, up to the root."""
    found = [joint]
    while skeleton.parents[found[-1]] >= 0:
        found.append(skeleton.parents[found[-1]])
    return found


def _depth(skeleton: Skeleton, joint: int) -> int:
    depth = 0
    while joint >= 0:
        joint = skeleton.parents[joint]
        depth += 1
    return depth


def _forward(skeleton: Skeleton, runs: list[Run], said: Sequence[Limb] | None = None) -> Floats:
    """Unit vector (3,) in which the rest pose faces: along the feet; where these say nothing, across what lies between the limbs of
    a pair, to the side to which knees and head lean."""
    pos, rot = skeleton.rest_pose
    legs = sorted(runs, key=lambda r: pos[r.end, 1])
    # Of all of them: what points aside on the left does so on the right. One that is lifted at rest is a leg all the same.
    legs = list(dict.fromkeys([*legs[:2], *_standing(pos, runs)]))
    total, length = np.zeros(3), 0.0
    for run in legs:
        k = run.end
        for j in sorted(skeleton.descendants(k)):
            joint = skeleton.joints[j]
            reach = pos[j] - pos[k] if j != k else np.zeros(3)
            if joint.tip is not None:
                reach = reach + rotate(rot[j], np.array(joint.tip))
            total += [reach[0], 0.0, reach[2]]
            length += float(np.hypot(reach[0], reach[2]))
    size = float(np.linalg.norm(total))
    if size > max(1e-6, SAYS * length):
        return total / size
    across = np.zeros(3)
    # Found limbs come in pairs; of those that are said, the sides are known.
    ones, others = runs[::2], runs[1::2]
    if said is not None:
        told = sorted(zip(runs, said, strict=True), key=lambda x: (x[1].role, pos[x[0].root, 1], pos[x[0].end, 1]))
        ones, others = ([r for r, x in told if x.side == side] for side in ("right", "left"))
    for a, b in zip(ones, others, strict=False):
        if abs(pos[a.root, 1] - pos[b.root, 1]) < LOW * float(np.linalg.norm(pos[a.root] - pos[b.root])):
            apart = pos[b.root] - pos[a.root]
            across += apart if said is not None or apart @ across >= 0.0 else -apart
    across[1] = 0.0
    size = float(np.linalg.norm(across))
    if size < 1e-6:
        return np.array([0.0, 0.0, 1.0])
    ahead: Floats = np.cross(across / size, [0.0, 1.0, 0.0])
    if said is not None:
        return ahead
    top = int(np.argmax(pos[:, 1]))
    leans = sum((pos[r.middle] - 0.5 * (pos[r.root] + pos[r.end])) for r in legs) + pos[top] - pos[0]
    if abs(leans @ ahead) < 1e-6:
        leans = np.array([0.1, 0.0, 1.0])
    return ahead if leans @ ahead > 0.0 else -ahead


def _standing(pos: Floats, runs: Sequence[Run]) -> list[Run]:
    """Those that end about where the lowest of them does."""
    lowest = min((pos[r.end, 1] for r in runs), default=0.0)
    extent = float(np.ptp(pos, axis=0).max()) or 1.0
    return [r for r in runs if pos[r.end, 1] < lowest + LOW * extent]


def _runs_of(skeleton: Skeleton, said: Sequence[Limb]) -> list[Run]:
    """The limbs of a skeleton as they are said to be."""
    runs: list[Run] = []
    for limb in said:
        told = ", ".join(limb.corners)
        lost = [name for name in limb.corners if name not in skeleton.index]
        if lost or len(limb.corners) < 3:
            raise CoreError(
                f"There is no joint {lost[0]}."
                if lost
                else f"A limb needs a root, a joint that bends and an end: {told}."
            )
        corners = [skeleton.index[name] for name in limb.corners]
        path = _upward(skeleton, corners[-1])
        path = path[: path.index(corners[0]) + 1][::-1] if corners[0] in path else []
        if corners[0] == 0 or [j for j in path if j in corners] != corners:
            raise CoreError(f"These joints don't hang one below the other, under the body's root: {told}.")
        taken = next((r for r in runs if set(r.path) & set(path)), None)
        if taken is not None:
            raise CoreError(
                f"The limb {told} shares joints with {', '.join(skeleton.joints[j].name for j in taken.corners)}."
            )
        runs.append(Run(tuple(path), tuple(corners[1:-1])))
    return runs


def _name_limbs(
    skeleton: Skeleton, runs: list[Run], forward: Floats, said: Sequence[Limb] | None = None
) -> list[tuple[Run, str, str, Side, str]]:
    pos, _ = skeleton.rest_pose
    left = np.cross([0.0, 1.0, 0.0], forward)
    middle = pos[0]
    standing = _standing(pos, runs)
    found = []
    count: dict[str, int] = {}
    for k, run in enumerate(runs):
        names = " ".join(skeleton.joints[n].name for n in run.corners)
        is_left, is_right = bool(_LEFT.search(names)), bool(_RIGHT.search(names))
        if is_left == is_right:
            is_left = float((pos[run.end] + pos[run.root] - 2 * middle) @ left) > 0.0
        side: Side = "left" if is_left else "right"
        role = "leg" if run in standing else "arm"
        if said is not None:
            side, role = said[k].side, said[k].role
        label = f"{side} {role}"
        count[label] = count.get(label, 0) + 1
        number = f" {count[label]}" if count[label] > 1 else ""
        found.append((run, f"{role}.{side[0].upper()}{number.strip()}", label + number, side, role))
    # Arms before legs, left before right: the order in which the animator meets them everywhere.
    return sorted(found, key=lambda f: (f[4], f[3], f[2]))


# --- the body -------------------------------------------------------------------------------------------


def _body_parts(
    skeleton: Skeleton, runs: list[Run], taken: set[int], order: dict[str, str],
    limbs: list[tuple[Run, str, str, Side, str]],
) -> list[Part]:  # fmt: skip
    """Spine, neck, head, collars and hips, tails: everything that no limb, hand or foot has taken."""
    parents = skeleton.parents
    name_of = [joint.name for joint in skeleton.joints]
    pos = skeleton.rest_pose[0]
    free = [j for j in range(1, len(skeleton)) if j not in taken]
    if not free:
        return []

    def above(j: int) -> list[int]:
        """Free joints from the root down to one."""
        found = []
        while j > 0:
            if j in left:
                found.append(j)
            j = parents[j]
        return found[::-1]

    left = set(free)
    made: list[tuple[str, str, list[int], Side]] = []
    parts: list[Part] = []
    # Where the arms come together is the chest: from the root to there runs the spine.
    arms = [above(run.root) for run, *_, role in limbs if role == "arm"]
    chest: list[int] = []
    if len(arms) > 1:
        chest = [j for j in arms[0] if all(j in other for other in arms[1:])]
    elif not arms:
        # On all fours it is where the foremost pair of legs comes together.
        paths = {
            which: [above(run.root) for run, _, _, side, _ in limbs if side == which] for which in ("left", "right")
        }
        pairs = [[j for j in one if j in two] for one in paths["left"] for two in paths["right"]]
        chest = max(pairs, key=len, default=[])
    top = max(free, key=lambda j: float(pos[j, 1]))
    head_path = [j for j in above(top) if j not in chest]
    # Where arms hang from the root itself, all that leads on to the head is neck.
    if not chest and len(arms) < 2 and len(head_path) > 2:
        chest, head_path = head_path[:-2], head_path[-2:]
    spine = [j for j in chest if j in left]
    if spine:
        made.append(("spine", "spine", spine, "middle"))
        left -= set(spine)
    # The head is the last joint of the run that leads highest, with what hangs from it.
    in_line = [j for j in head_path if j in left and not any(j in arm for arm in arms)]
    tails = _tails(skeleton, left, set(in_line))
    if in_line and not any(set(in_line) & set(t) for t in tails):
        branching = [j for j in in_line if len([c for c in left if parents[c] == j]) > 1]
        head = branching[-1] if branching else in_line[-1]
        if parents[head] in in_line and branching == [] and skeleton.joints[head].tip is None and len(in_line) > 1:
            # A joint that ends nowhere only marks the top of the head.
            small = np.linalg.norm(pos[head] - pos[parents[head]]) < 0.14 * float(np.ptp(pos, axis=0).max())
            head = parents[head] if small and len(in_line) > 2 else head
        whole = sorted(j for j in skeleton.descendants(head) if j in left)
        neck = [j for j in in_line if j not in whole]
        if neck:
            # The head leads its neck; what else is on it is the face.
            parts.append(_neck([name_of[j] for j in (*neck, head)], order))
            if face := [j for j in whole if j != head]:
                made.append(("face", "face", face, "middle"))
        else:
            made.append(("head", "head", whole, "middle"))
        left -= {*neck, *whole}
    # Between the body and a limb lie collars and hips.
    for run, name, label, side, role in limbs:
        mine = [j for j in above(run.root) if j in left]
        if mine:
            extra = sorted({d for j in mine for d in skeleton.descendants(j) if d in left})
            word = "shoulder" if role == "arm" else "hip"
            where = name.partition(".")[2]
            made.append((f"{word}.{where}", label.replace(role, word), extra, side))
            left -= set(extra)
    for n, tail in enumerate(tails):
        if set(tail) <= left:
            made.append((f"tail{n or ''}", "tail" + (f" {n + 1}" if n else ""), tail, "middle"))
            left -= set(tail)
    if left:
        made.append(("body", "body", sorted(left), "middle"))
    for name, label, joints, side in made:
        fk = _fk(name, label, [name_of[j] for j in joints], order, side)
        if name.startswith("tail"):
            along = pos[joints[-1]] - pos[joints[0]]
            parts.append(_curling(skeleton, fk, np.cross(along, [0.0, 1.0, 0.0]), "tail"))
        elif name == "spine" and len(joints) > 2:
            parts.append(spine_of(skeleton, fk, _sideways(pos, limbs)))
        else:
            parts.append(fk)
    return parts


def _neck(joints: list[str], order: dict[str, str]) -> NeckPart:
    """A head and its neck, whose joints share its turn evenly."""
    count = len(joints) - 1
    return NeckPart(
        "head", "head", tuple(joints), tuple(order[n] for n in joints), (NECK_TAKES / count,) * count,
        moves=(False,) * len(joints),
    )  # fmt: skip


def _tails(skeleton: Skeleton, left: set[int], upward: set[int]) -> list[list[int]]:
    """Runs of joints that end freely, do not lead to the head, and are long enough to be a tail."""
    found = []
    for j in sorted(left):
        if any(skeleton.parents[c] == j for c in left):
            continue
        run = [j]
        while (up := skeleton.parents[run[-1]]) in left and sum(skeleton.parents[c] == up for c in left) == 1:
            run.append(up)
        run.reverse()
        lengths = np.linalg.norm(skeleton.offsets[run[1:]], axis=1)
        # One that hangs from the hips is a tail if it is short, too.
        if (
            len(run) >= (TAIL if skeleton.parents[run[0]] else SHORT_TAIL)
            and not set(run) <= upward
            and np.all(lengths > 1e-9)
        ):
            found.append(run)
    return found


def _sideways(pos: Floats, limbs: list[tuple[Run, str, str, Side, str]]) -> Floats:
    """(3,) from the right side of a body to its left, by where its limbs begin."""
    ends = [[pos[run.root] for run, _, _, side, _ in limbs if side == which] for which in ("left", "right")]
    return np.mean(ends[0], axis=0) - np.mean(ends[1], axis=0) if all(ends) else np.array([1.0, 0.0, 0.0])


def spine_of(skeleton: Skeleton, part: FkPart, across: Floats) -> ChainPart:
    """A spine as a limb of many segments that bends about an axis across the body, and whose joints share the chest's turn."""
    count = len(part.joints)
    return replace(_curling(skeleton, part, across, "spine"), shares=(1.0 / count,) * count)


def _curling(skeleton: Skeleton, part: FkPart, across: Floats, role: str) -> ChainPart:
    """A run of joints as a limb of many segments: it curls evenly about an axis across it."""
    rot = skeleton.rest_pose[1]
    size = float(np.linalg.norm(across))
    across = across / size if size > 1e-6 else np.array([1.0, 0.0, 0.0])
    hinges = [rotate(inverse(rot[skeleton.index[n]]), across) for n in part.joints]
    count = len(part.joints)
    middle = count // 2
    return ChainPart(
        part.name, part.label, part.joints, part.orders, middle, _triple(hinges[0]), tuple(_triple(h) for h in hinges),
        tuple(CURL if k not in (0, middle, count - 1) else 0.0 for k in range(count)), part.orders[-1], part.side,
        hinge_from="guess", role=role,
    )  # fmt: skip


def _triple(v: Floats) -> tuple[float, float, float]:
    return (float(v[0]), float(v[1]), float(v[2]))


def body_shapes(skeleton: Skeleton, corners: list[tuple[int, ...]]) -> list[Shape]:
    """A plain body: a tapered piece along every bone, thicker on the trunk, a ball on the head."""
    pos, rot = skeleton.rest_pose
    extent = float(np.ptp(pos, axis=0).max()) or 1.0
    thick = {n: 0.036 for t in corners for n in t[:-1]}
    for t in corners:
        for n in skeleton.descendants(t[-1]) - {t[-1]}:
            thick[n] = 0.010
        thick[t[-1]] = 0.022
    shapes: list[Shape] = []
    top = int(np.argmax(pos[:, 1]))
    for j, joint in enumerate(skeleton.joints):
        ends = [c.offset for n, c in enumerate(skeleton.joints) if c.parent == j]
        if joint.tip is not None:
            ends.append(joint.tip)
        r = thick.get(j, 0.05) * extent
        tone = "limb" if j in thick else "trunk"
        for end in ends:
            length = float(np.linalg.norm(end))
            if length > 0.01 * extent:
                size = min(r, 0.45 * length)
                shapes.append(Shape(joint.name, "capsule", tone, (0.0, 0.0, 0.0), end, (size, 0.8 * size)))
    # The head: a ball round its bone, or above its joint where no end is known.
    head = skeleton.joints[top]
    up = (
        rotate(inverse(rot[top]), np.array([0.0, 0.05 * extent, 0.0])) if head.tip is None else 0.5 * np.array(head.tip)
    )
    size = float(np.clip(np.linalg.norm(up), 0.04 * extent, 0.075 * extent))
    shapes = [s for s in shapes if s.joint != head.name]
    shapes.append(
        Shape(
            head.name, "ball", "skin", (float(up[0]), float(up[1]), float(up[2])), size=(0.85 * size, 1.1 * size, size)
        )
    )
    return shapes
