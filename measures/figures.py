"""Figures of speed and memory as JSON lines, and what measurements share."""

from __future__ import annotations

import json
import time
from collections.abc import Callable
from unittest.mock import patch

import numpy as np
import pinocchio as pin

from tests.captures import prolonged
from yielding_tether.core.curves import STEPPED, Curve, Key, curve
from yielding_tether.core.program import Program
from yielding_tether.formats import bvh

#: Measurements by name, and those of them that take many minutes: made only when they are named.
MEASUREMENTS: dict[str, Callable[[], None]] = {}
BY_NAME: set[str] = set()

#: Joints of the tree, and microseconds that forward kinematics of it took a frame, on the machine where bounds in seconds were set;
#: and frames by which that is measured.
JOINTS, REFERENCE, FRAMES = 42, 2.2, 205


def measured(name: str, by_name: bool = False) -> Callable[[Callable[[], None]], Callable[[], None]]:
    """Offers what measures under a name."""

    def offer(work: Callable[[], None]) -> Callable[[], None]:
        MEASUREMENTS[name] = work
        if by_name:
            BY_NAME.add(name)
        return work

    return offer


def say(name: str, **figures: object) -> None:
    print(json.dumps({"figure": name, **figures}), flush=True)


def fastest(work: Callable[[], object], times: int) -> float:
    """Seconds of the fastest of some runs: what the machine can do when nothing else disturbs it."""
    found = []
    for _ in range(times):
        began = time.perf_counter()
        work()
        found.append(time.perf_counter() - began)
    return min(found)


def alone(work: Callable[[], object], times: int) -> float:
    """Seconds of the fastest of some runs without the help of other cores."""
    with patch("yielding_tether.core.program.CORES", 1):
        return fastest(work, times)


def pin_forward_kinematics(program: Program, frames: int, joints: int | None = None) -> Callable[[], None]:
    """Forward kinematics alone of the same joints, or of the first so many, in the rigid-body library, spherical joints, one call
    a frame."""
    model = pin.Model()
    for member in program.scene.members:
        ids: list[int] = []
        for joint in member.skeleton.joints:
            if model.njoints - 1 == joints:
                break
            at = pin.SE3(np.eye(3), np.array(joint.offset))
            up = ids[joint.parent] if joint.parent >= 0 else 0
            kind = pin.JointModelSpherical() if joint.parent >= 0 else pin.JointModelFreeFlyer()
            ids.append(model.addJoint(up, kind, at, f"{member.id}/{joint.name}"))
    data = model.createData()
    poses = [pin.randomConfiguration(model, -np.ones(model.nq), np.ones(model.nq)) for _ in range(frames)]

    def work() -> None:
        for q in poses:
            pin.forwardKinematics(model, data, q)

    return work


def speed(program: Program, looks: int = 60) -> tuple[float, float]:
    """How fast the machine is now: microseconds a frame that forward kinematics of 42 joints take, and how many times what they
    took where the bounds in seconds were set (`REFERENCE`)."""
    took = 1e6 * fastest(pin_forward_kinematics(program, FRAMES, JOINTS), looks) / FRAMES
    return round(took, 2), round(took / REFERENCE, 2)


def driven_by(program: Program, system: str) -> Program:
    """The same take with every limb driven by one system throughout."""
    changed = {}
    for bound in program.bounds.values():
        if system in bound.systems and any(c.touches for c in bound.described):
            for c, level in bound.drive_to(system).items():
                changed[program.channel_names()[c]] = curve([Key(0.0, level, level, kind=STEPPED)])
    return program.with_curves(changed)


def waving(low: float, high: float) -> Curve:
    """A curve that goes from one value to another and jumps back, every 40 frames."""
    keys = [(t, low + (high - low) * (t / 40.0 % 1.0)) for t in range(0, 205, 20)]
    return curve([Key(float(t), v, v) for t, v in keys])


def repeated(c: Curve, count: int) -> Curve:
    """A curve's keys before frame 200, again and again every 200 frames."""
    keep = (c.times >= 0.0) & (c.times < 200.0)
    shifted = [c.numbers[keep] + np.array([200.0 * k, 0, 0, 0, 0]) for k in range(count)]
    return Curve(np.concatenate(shifted), np.concatenate([c.marks[keep]] * count))


def long_capture(program: Program, frames: int) -> bytes:
    """The demo take as a capture, its rows repeated to this many frames."""
    return prolonged(bvh.write(program, "marl", 0, 199), frames)
