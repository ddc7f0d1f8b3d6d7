"""Where limbs stand or hold: stretches in which an end rests in what it follows, and how far it slips from its place.

A reading for the eye, before contacts are set: speed relative to the anchor with hysteresis, as 3-motion describes
detection. Slip is the distance of the end from its place at the first frame of the stretch, carried by the anchor.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .curves import LEAVING
from .program import Program
from .rig import Bound, BoundControl
from .takes import WORLD
from .transforms import Floats, inverse, rotate

#: An end comes to rest below the first of these speeds and leaves above the second, metres a frame.
REST, LEAVE = 2e-3, 5e-3
#: Shorter rests are passings-by.
LEAST = 6


@dataclass(frozen=True)
class Stand:
    """One limb at rest from frame to frame: `should` (F, 3) where its end would be without slip, in the world, and
    `slip` (F,) metres, at whole frames first…last."""

    member: str
    part: str
    joint: str
    anchor: str
    first: int
    last: int
    should: Floats
    slip: Floats

    __hash__ = None  # type: ignore[assignment]


def find_stands(program: Program) -> list[Stand]:
    """All stands of all limbs, limb by limb in order of time."""
    frames = program.take.frames
    ends = [
        (bound, control) for bound in program.bounds.values() for control in bound.controls.values()
        if control.control.rests_on in bound.part.joints and not bound.part.free
    ]  # fmt: skip
    if len(frames) <= LEAST or not ends:
        return []
    poses = program.evaluate(frames)
    found = []
    for bound, control in ends:
        node, label = anchor_of(program, bound, control)
        joint = control.control.rests_on
        place = poses.pos[:, program.nodes[bound.member.id, joint]]
        at, turn = poses.pos[:, node], poses.rot[:, node]
        local = rotate(inverse(turn), place - at)
        speed = np.linalg.norm(np.diff(local, axis=0), axis=1)
        for a, b in _rests(speed):
            should = at[a : b + 1] + rotate(turn[a : b + 1], np.broadcast_to(local[a], (b + 1 - a, 3)))
            slip = np.linalg.norm(place[a : b + 1] - should, axis=1)
            found.append(Stand(*bound.id, joint, label, int(frames[a]), int(frames[b]), should, slip))
    return found


def anchor_of(program: Program, bound: Bound, control: BoundControl) -> tuple[int, str]:
    """What a control follows most over the take: its node and its name."""
    best, node, label = 0.0, program.world, "the world"
    at = program.take.frames[:: max(1, len(program.take.frames) // 64)]
    for tether in program.take.tethers:
        if (tether.member, tether.control) != (bound.member.id, control.control.name) or not tether.position:
            continue
        weight = float(
            program.sample(at, LEAVING, np.array([program.channels[tether.weight_channel("position")]])).mean()
        )
        if weight > best:
            best = weight
            if tether.anchor_member == WORLD:
                node, label = program.world, "the world"
            else:
                node = program.nodes[tether.anchor_member, tether.anchor]
                label = program.scene.member(tether.anchor_member).name
    return node, label


def _rests(speed: Floats) -> list[tuple[int, int]]:
    """Runs (first, last) of frames over which the speed stays low."""
    found = []
    start: int | None = None
    for k, v in enumerate(speed.tolist()):
        if start is None and v < REST:
            start = k
        elif start is not None and v > LEAVE:
            if k - start >= LEAST:
                found.append((start, k))
            start = None
    if start is not None and len(speed) - start >= LEAST:
        found.append((start, len(speed)))
    return found
