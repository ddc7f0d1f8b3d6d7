"""Runs every kernel once, so that their compiled forms are on disk before anyone waits for them."""

from __future__ import annotations

from collections.abc import Iterable
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context

import numpy as np

from .core.cast import Member
from .core.findings import find_all
from .core.fitting import fit
from .core.kernels import rows
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
from .demo import keep
from .demo.cast_off import cast_off
from .formats import bvh
from .service.describe import card, pose_table


def warm() -> None:
    """Compiles the kernels, and makes the demo takes."""
    compiled()
    keep()


def compiled() -> None:
    """Compiles in two processes at once. They begin at either end of the kinds of rows, and what one has on disk the other reads;
    then one works with keyed takes and the other with a capture."""
    with ProcessPoolExecutor(1, get_context("spawn")) as beside:
        other = beside.submit(_captured)
        _keyed()
        other.result()


def _kinds(numbers: Iterable[int]) -> None:
    for number in numbers:
        rows.function_of(number)


def _keyed() -> None:
    """Makes the demo take, hands it over both ways and poses it."""
    _kinds(range(rows.count()))
    scene, take = cast_off()
    program = Program(scene, take)
    find_all(program)
    pose_table(program, program.evaluate(take.frames[:3]))
    card(program, "marl", "arm.R", 20.0)
    apply(program, Handover((("marl", "arm.L"),), "fk", 120.0))
    apply(program, Handover((("marl", "arm.L"),), "ik", 20.0, 40.0, keys="every"))
    for control in ("arm.L.ik", "arm.L.guide", "forearm.L"):
        apply_pose(program, Drag("marl", "arm.L", control, 30.0, (0.3, 1.2, 0.4)))


def _captured() -> None:
    """Fits a tail, brings in a capture and hands it over, bakes and mirrors it."""
    _kinds(reversed(range(rows.count())))
    _tail()
    scene, take = cast_off()
    read = bvh.read(bvh.write(Program(scene, take), "marl", 0, 20), "body", "capture")
    captured = Program(Scene("capture", (read.member,)), read.take)
    captured.evaluate(np.arange(0.0, 20.0, 0.5))
    # Every kind of part once, in its last system.
    able = {b.part.kind: b for b in captured.bounds.values() if len(b.keyed_systems) > 1}
    for bound in able.values():
        apply(captured, Handover((bound.id,), bound.keyed_systems[-1], 5.0, 10.0, keys="every"))
    limb = next(b for b in able.values() if b.followers)
    bake(captured, Bake((limb.id,), limb.keyed_systems[-1], 5.0, 10.0))
    mirror(captured, Mirror(("body",), 0.0))


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
