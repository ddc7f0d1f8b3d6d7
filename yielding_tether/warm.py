"""Runs every kernel once, so that their compiled forms are on disk before anyone waits for them."""

from __future__ import annotations

import numpy as np

from .core.cast import Member
from .core.findings import find_all
from .core.fitting import fit
from .core.operations.bake import Bake
from .core.operations.bake import apply as bake
from .core.operations.handover import Handover, apply
from .core.operations.mirror import Mirror
from .core.operations.mirror import apply as mirror
from .core.operations.pose import Drag
from .core.operations.pose import apply as apply_pose
from .core.parts import ChainPart, FreePart
from .core.program import Program
from .core.skeleton import Joint, Skeleton
from .core.takes import Scene, Take
from .demo.cast_off import cast_off
from .formats import bvh
from .service.describe import card, pose_table


def warm() -> None:
    """Makes the demo take, hands it over both ways, poses it, brings in a capture of it, and fits a tail."""
    scene, take = cast_off()
    program = Program(scene, take)
    find_all(program)
    pose_table(program, program.evaluate(take.frames[:3]))
    card(program, "marl", "arm.R", 20.0)
    apply(program, Handover((("marl", "arm.L"),), "fk", 120.0))
    apply(program, Handover((("marl", "arm.L"),), "ik", 20.0, 40.0, keys="every"))
    for control in ("arm.L.ik", "arm.L.guide", "forearm.L"):
        apply_pose(program, Drag("marl", "arm.L", control, 30.0, (0.3, 1.2, 0.4)))
    read = bvh.read(bvh.write(program, "marl", 0, 20), "body", "capture")
    captured = Program(Scene("capture", (read.member,)), read.take)
    captured.evaluate(np.arange(0.0, 20.0, 0.5))
    # Every kind of part once, in its last system.
    able = {b.part.kind: b for b in captured.bounds.values() if len(b.keyed_systems) > 1}
    for bound in able.values():
        apply(captured, Handover((bound.id,), bound.keyed_systems[-1], 5.0, 10.0, keys="every"))
    limb = next(b for b in able.values() if b.followers)
    bake(captured, Bake((limb.id,), limb.keyed_systems[-1], 5.0, 10.0))
    mirror(captured, Mirror(("body",), 0.0))
    _tail()


def _tail() -> None:
    """A chain of four segments, both ways."""
    names = ("root", "a", "b", "c", "d", "e")
    skeleton = Skeleton(tuple(Joint(n, k - 1, (0.0, 0.0, 0.2 * (k > 1))) for k, n in enumerate(names)))
    side = (1.0, 0.0, 0.0)
    tail = ChainPart("tail", "tail", names[1:], ("xyz",) * 5, 2, side, (side,) * 5, (0.0, 1.0, 0.0, 1.0, 0.0))
    member = Member("tail", "Tail", "character", skeleton, (FreePart("root", "root", "root"), tail))
    program = Program(Scene("tail", (member,)), Take("rest", cast_off()[1].rate, 0, 1))
    bound = program.bound("tail", "tail")
    for system, other in (("fk", "ik"), ("ik", "fk")):
        fit(program, bound, other, program.evaluate([0.0], overrides={**bound.drive_to(system)}))
