"""Proposing parts for a bare skeleton: limbs by structure first, by names where structure says nothing.

A two-segment limb is a run of three joints with two long segments that has a partner of the same lengths
elsewhere in the skeleton. Hinges come from a bent rest pose, then from the motion, then from what the limb is.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from .cast import Shape
from .parts import FkPart, FreePart, LimbPart, Part, Side
from .skeleton import Skeleton
from .transforms import Floats, inverse, rotate

#: Shortest segment of a limb, as a share of the skeleton's greatest extent.
LONG = 0.08
#: How far the lengths of partners may differ.
ALIKE = 0.15
#: Bend (radians) from which a rest pose, or a motion, shows its hinge.
BENT_REST, BENT_MOTION = np.radians(8.0), np.radians(4.0)

_LEFT = re.compile(r"(left|(^|[\W_])l([\W_]|$)|^l(?=[A-Z])|(^|[\W_])lf)", re.IGNORECASE)
_RIGHT = re.compile(r"(right|(^|[\W_])r([\W_]|$)|^r(?=[A-Z])|(^|[\W_])rt)", re.IGNORECASE)
_TWIST = re.compile(r"(roll|twist)", re.IGNORECASE)
_LIMB = re.compile(r"(arm|elbow|wrist|leg|thigh|shin|calf|knee|ankle|femur|tibia|humerus)", re.IGNORECASE)


@dataclass(frozen=True)
class Proposal:
    """Parts that drive every joint of a skeleton, pieces for a body, and what the animator should know."""

    parts: tuple[Part, ...]
    shapes: tuple[Shape, ...]
    notes: tuple[str, ...]


def propose(skeleton: Skeleton, rotations: Floats | None = None, orders: dict[str, str] | None = None) -> Proposal:
    """Parts for a skeleton. rotations: (S, J, 4) local rotations of some motion, for the hinges of limbs that
    are straight at rest; orders: rotation order by joint, "zxy" where not given."""
    triples, notes = find_limbs(skeleton)
    order = {joint.name: (orders or {}).get(joint.name, "zxy") for joint in skeleton.joints}
    forward = _forward(skeleton, triples)
    limbs = _name_limbs(skeleton, triples, forward)
    parts: list[Part] = [FreePart("root", "root", skeleton.joints[0].name, order[skeleton.joints[0].name])]
    taken = {skeleton.joints[0].name}
    tips: list[FkPart] = []
    for (i, j, k), name, label, side, role in limbs:
        joints = tuple(skeleton.joints[n].name for n in (i, j, k))
        hinge, found = find_hinge(skeleton, i, j, k, rotations, forward, role)
        if found == "guess":
            notes.append(f"The hinge of the {label} is a guess: it is straight at rest and never bends in the motion.")
        parts.append(
            LimbPart(
                name,
                label,
                (joints[0], joints[1], joints[2]),
                (order[joints[0]], order[joints[1]], order[joints[2]]),
                hinge,
                order[joints[2]],
                side,
                hinge_from=found,
                role=role,
            )  # fmt: skip
        )
        taken.update(joints)
        rest = [skeleton.joints[n].name for n in sorted(skeleton.descendants(k) - {k})]
        if rest:
            tips.append(
                _fk(
                    f"{name}.tip",
                    f"{label.split()[0]} {'hand' if role == 'arm' else 'toes'}",
                    rest,
                    order,
                    side,
                )
            )
            taken.update(rest)
    body = [joint.name for joint in skeleton.joints if joint.name not in taken]
    if body:
        parts.insert(1, _fk("body", "body and head", body, order, "middle"))
    return Proposal((*parts, *tips), tuple(body_shapes(skeleton, [t for t, *_ in limbs])), tuple(notes))


def _fk(name: str, label: str, joints: list[str], order: dict[str, str], side: Side) -> FkPart:
    return FkPart(name, label, tuple(joints), tuple(order[j] for j in joints), (False,) * len(joints), side)


def find_limbs(skeleton: Skeleton) -> tuple[list[tuple[int, int, int]], list[str]]:
    """Joint triples of the limbs, the surest first, and notes on what was left out."""
    pos, _ = skeleton.rest_pose
    extent = float(np.ptp(pos, axis=0).max()) or 1.0
    lengths = np.linalg.norm(skeleton.offsets, axis=1)
    below = _reach_below(skeleton, lengths)
    candidates: list[tuple[int, int, int]] = []
    score: dict[tuple[int, int, int], float] = {}
    notes: list[str] = []
    for k, j in enumerate(skeleton.parents):
        i = skeleton.parents[j] if j >= 0 else -1
        # The first joint is the root: it places the body and is no limb's.
        if i <= 0 or min(lengths[j], lengths[k]) < max(LONG * extent, 0.4 * max(lengths[j], lengths[k])):
            continue
        names = [skeleton.joints[n].name for n in (i, j, k)]
        if any(_TWIST.search(name) for name in names):
            continue
        candidates.append((i, j, k))
        # Long, with segments alike, and with little left beyond its end: what hangs from a wrist or an ankle is
        # short, what hangs from an elbow is a forearm.
        left = below[k] / lengths[k]
        alike = min(lengths[j], lengths[k]) / max(lengths[j], lengths[k])
        score[i, j, k] = (lengths[j] + lengths[k]) * alike / (1.0 + 4.0 * left * left)
    candidates.sort(key=lambda t: -score[t])
    if any(_TWIST.search(joint.name) for joint in skeleton.joints):
        notes.append("Twist joints lie within segments here: a limb that runs through them is posed in FK.")
    chosen: list[tuple[int, int, int]] = []
    used: set[int] = set()
    for t in candidates:
        if used & set(t):
            continue
        inside = skeleton.descendants(t[0])
        partners = [
            u for u in candidates
            if not (used & set(u)) and not (set(u) & inside) and t[0] not in skeleton.descendants(u[0])
            and abs(lengths[u[1]] - lengths[t[1]]) <= ALIKE * lengths[t[1]]
            and abs(lengths[u[2]] - lengths[t[2]]) <= ALIKE * lengths[t[2]]
        ]  # fmt: skip
        if partners:
            partner = min(
                partners,
                key=lambda u: (
                    abs(_depth(skeleton, u[0]) - _depth(skeleton, t[0])),
                    abs(pos[u[2], 1] - pos[t[2], 1]),
                ),
            )
            chosen += [t, partner]
            # What hangs below a limb belongs to its hand or foot.
            used |= inside | skeleton.descendants(partner[0])
    for t in candidates:
        told = " ".join(skeleton.joints[n].name for n in t)
        if not used & set(t) and len(_LIMB.findall(told)) >= 2:
            chosen.append(t)
            used |= skeleton.descendants(t[0])
    if not chosen:
        notes.append("No limbs were found: every joint is posed in FK.")
    return chosen, notes


def _reach_below(skeleton: Skeleton, lengths: Floats) -> Floats:
    """(J,) length of the longest run of segments below each joint."""
    below = np.zeros(len(skeleton))
    for j in range(len(skeleton) - 1, 0, -1):
        parent = skeleton.parents[j]
        below[parent] = max(below[parent], lengths[j] + below[j])
    return below


def _depth(skeleton: Skeleton, joint: int) -> int:
    depth = 0
    while joint >= 0:
        joint = skeleton.parents[joint]
        depth += 1
    return depth


def _forward(skeleton: Skeleton, triples: list[tuple[int, int, int]]) -> Floats:
    """Unit vector (3,) in which the rest pose faces: along the feet, else +Z."""
    pos, rot = skeleton.rest_pose
    ends = sorted(triples, key=lambda t: pos[t[2], 1])[:2]
    total = np.zeros(3)
    for _, _, k in ends:
        for j in sorted(skeleton.descendants(k)):
            joint = skeleton.joints[j]
            reach = pos[j] - pos[k] if j != k else np.zeros(3)
            if joint.tip is not None:
                reach = reach + rotate(rot[j], np.array(joint.tip))
            total += [reach[0], 0.0, reach[2]]
    size = float(np.linalg.norm(total))
    return total / size if size > 1e-6 else np.array([0.0, 0.0, 1.0])


def _name_limbs(
    skeleton: Skeleton, triples: list[tuple[int, int, int]], forward: Floats
) -> list[tuple[tuple[int, int, int], str, str, Side, str]]:
    pos, _ = skeleton.rest_pose
    left = np.cross([0.0, 1.0, 0.0], forward)
    middle = pos[0]
    lowest = min((pos[t[2], 1] for t in triples), default=0.0)
    extent = float(np.ptp(pos, axis=0).max()) or 1.0
    found = []
    count: dict[str, int] = {}
    for t in triples:
        names = " ".join(skeleton.joints[n].name for n in t)
        is_left, is_right = bool(_LEFT.search(names)), bool(_RIGHT.search(names))
        if is_left == is_right:
            is_left = float((pos[t[2]] + pos[t[0]] - 2 * middle) @ left) > 0.0
        side: Side = "left" if is_left else "right"
        role = "leg" if pos[t[2], 1] < lowest + 0.15 * extent else "arm"
        label = f"{side} {role}"
        count[label] = count.get(label, 0) + 1
        number = f" {count[label]}" if count[label] > 1 else ""
        found.append((t, f"{role}.{side[0].upper()}{number.strip()}", label + number, side, role))
    # Arms before legs, left before right: the order in which the animator meets them everywhere.
    return sorted(found, key=lambda f: (f[4], f[3], f[2]))


def find_hinge(
    skeleton: Skeleton, i: int, j: int, k: int, rotations: Floats | None, forward: Floats, role: str
) -> tuple[tuple[float, float, float], str]:
    """Hinge axis (3,) of a limb in its upper frame and where it was found: "rest", "motion" or "guess"."""
    d1 = skeleton.offsets[j] / np.linalg.norm(skeleton.offsets[j])
    d2 = skeleton.offsets[k] / np.linalg.norm(skeleton.offsets[k])
    lower = rotate(skeleton.rests[j], d2)
    aside = lower - (lower @ d1) * d1
    if np.arctan2(np.linalg.norm(aside), lower @ d1) >= BENT_REST:
        return _hinge(d1, aside), "rest"
    if rotations is not None and len(rotations):
        lowers = rotate(rotations[:, j], d2)
        asides = lowers - (lowers @ d1)[:, None] * d1
        if np.percentile(np.linalg.norm(asides, axis=1), 95) >= np.sin(BENT_MOTION):
            _, _, axes = np.linalg.svd(asides, full_matrices=False)
            bend = axes[0] * (1.0 if np.sum(asides @ axes[0]) >= 0.0 else -1.0)
            return _hinge(d1, bend), "motion"
    # A knee folds backward, an elbow forward.
    up = skeleton.rest_pose[1][i]
    bend = rotate(inverse(up), -forward if role == "leg" else forward)
    bend = bend - (bend @ d1) * d1
    if np.linalg.norm(bend) < 1e-3:
        bend = np.cross(d1, [1.0, 0.0, 0.0] if abs(d1[0]) < 0.6 else [0.0, 1.0, 0.0])
    return _hinge(d1, bend), "guess"


def _hinge(d1: Floats, bend: Floats) -> tuple[float, float, float]:
    """Axis about which the direction d1 turns towards `bend`."""
    h = np.cross(d1, bend)
    h = h / np.linalg.norm(h)
    return (float(h[0]), float(h[1]), float(h[2]))


def body_shapes(skeleton: Skeleton, triples: list[tuple[int, int, int]]) -> list[Shape]:
    """A plain body: a tapered piece along every bone, thicker on the trunk, a ball on the head."""
    pos, rot = skeleton.rest_pose
    extent = float(np.ptp(pos, axis=0).max()) or 1.0
    thick = {n: 0.036 for t in triples for n in t[:2]}
    for t in triples:
        for n in skeleton.descendants(t[2]) - {t[2]}:
            thick[n] = 0.010
        thick[t[2]] = 0.022
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
