"""Runs every kernel once, so that their compiled forms are on disk before anyone waits for them."""

from __future__ import annotations

import numpy as np

from .core.evaluation import Program
from .core.findings import find_all
from .core.operations.handover import Handover, apply
from .core.operations.pose import Drag
from .core.operations.pose import apply as apply_pose
from .core.takes import Scene
from .demo.cast_off import cast_off
from .formats import bvh
from .service.studio import card, pose_table


def warm() -> None:
    """Makes the demo take, hands it over both ways, poses it, and brings in a capture of it."""
    scene, take = cast_off()
    program = Program(scene, take)
    find_all(program)
    pose_table(program, program.evaluate(take.frames[:3]))
    card(program, "marl", "arm.R", 20.0)
    apply(program, Handover((("marl", "arm.L"),), "fk", 120.0))
    apply(program, Handover((("marl", "arm.L"),), "ik", 20.0, 40.0, keys="every"))
    for handle in ("control", "guide", "joint"):
        apply_pose(program, Drag("marl", "arm.L", handle, 30.0, (0.3, 1.2, 0.4), joint="forearm.L"))  # type: ignore[arg-type]
    read = bvh.read(bvh.write(program, "marl", 0, 20), "body", "capture")
    captured = Program(Scene("capture", (read.member,)), read.take)
    captured.evaluate(np.arange(0.0, 20.0, 0.5))
    limb = next(iter(captured.limbs))
    apply(captured, Handover((limb,), "ik", 5.0, 10.0, keys="every"))
