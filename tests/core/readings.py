"""What tests read of limbs: their driver, control, bend and guide."""

from __future__ import annotations

import numpy as np

from yielding_tether.core.followers import BoundControl
from yielding_tether.core.program import Poses, Program
from yielding_tether.core.rig import Bound
from yielding_tether.core.systems.two_segment import TwoSegment, guide_name
from yielding_tether.core.transforms import Floats, Ints
from yielding_tether.demo import scenes


def every_body() -> list[tuple[Program, str]]:
    """Each body, prop and piece of the demo takes once, by its name there, with a take in which it is."""
    found = {}
    for scene, takes in scenes():
        program = Program(scene, takes[0])
        found |= {(m.id, len(m.skeleton)): (program, m.id) for m in scene.members}
    return list(found.values())


def limbs_of(program: Program) -> dict[tuple[str, str], Bound]:
    """Parts whose ends stand on things or hold them: arms and legs."""
    return {id: b for id, b in program.bounds.items() if any(c.touches for c in b.described)}


def drive_of(bound: Bound) -> int:
    """Channel that says how far its second system drives."""
    return bound.drivers[0][1]


def end_of(bound: Bound) -> BoundControl:
    """The IK control."""
    (control,) = bound.controls.values()
    return control


def length_of(bound: Bound) -> float:
    return float(bound.systems["ik"].data.length)


def _ik(bound: Bound) -> TwoSegment:
    system = bound.systems["ik"].system
    assert isinstance(system, TwoSegment)
    return system


def run_of(bound: Bound) -> Ints:
    """(3,) nodes at which the limb begins, bends and ends."""
    nodes: Ints = bound.nodes[list(_ik(bound).run(bound.part))]
    return nodes


def bends_of(program: Program, bound: Bound, poses: Poses) -> Floats:
    """(2, F) bend and carry angle."""
    return _ik(bound).bends(bound, program.posed(bound, poses))


def guides_of(program: Program, bound: Bound, poses: Poses, extra: Floats | None = None) -> Floats:
    """(F, 3) places of the bend guide."""
    guide = next(c for (_, name), c in bound.own.items() if name == "guide")
    values = {guide: np.zeros(len(poses.times)) if extra is None else extra}
    return _ik(bound).places(bound, program.posed(bound, poses), values)[guide_name(bound.part)]


def swivel_of(program: Program, bound: Bound, poses: Poses, guide: Floats) -> float:
    """Swivel that points the bend at a guide."""
    return _ik(bound).swivel_towards(bound, program.posed(bound, poses), guide)
