"""A collarbone that takes a share of its arm's turn: tuned on top, exact in a handover, never a jump, never a loop."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from yielding_tether.core.errors import LoopError
from yielding_tether.core.fitting import fit
from yielding_tether.core.operations.handover import Handover, apply
from yielding_tether.core.operations.pose import Drag, solve_all
from yielding_tether.core.parts.arm import Shouldered
from yielding_tether.core.program import Program
from yielding_tether.core.rig import Bound
from yielding_tether.core.takes import Tether
from yielding_tether.core.transforms import Floats, euler, inverse, multiply, rotate, rotation_distance

from .contract import EXAMPLES, Example, at_rest, driven, posed
from .worlds import stepped, unit


def arm(seed: int) -> Example:
    """A random arm, every third with helpers in its segments."""
    return EXAMPLES["shouldered limb" if seed % 3 else "shouldered chain"](np.random.default_rng(seed))


def body(seed: int, **shrug: object) -> tuple[Program, Bound]:
    """Such an arm at rest, with another shrug where it is given."""
    example = arm(seed)
    parts = tuple(
        replace(p, shrug=replace(p.shrug, **shrug)) if isinstance(p, Shouldered) else p
        for p in example.member.parts  # type: ignore[type-var]
    )
    program = at_rest(replace(example, member=replace(example.member, parts=parts)))
    return program, program.bound("body", "arm")


def taken(program: Program, bound: Bound, values: dict[int, float | Floats], system: str) -> Floats:
    """(F, 4) turn of the collarbone from rest in what it hangs from, while other channels have these values (F,)."""
    count = len(next(iter(values.values())))  # type: ignore[arg-type]
    poses = program.evaluate(np.zeros(count), overrides={**values, **bound.drive_to(system)})
    local = multiply(inverse(poses.rot[:, bound.above[0]]), poses.rot[:, bound.nodes[0]])
    return multiply(local, inverse(bound.rests[0])[None])


def size(turns: Floats) -> Floats:
    return rotation_distance(turns, np.array([0.0, 0.0, 0.0, 1.0]))


class Share(unittest.TestCase):
    def test_what_is_tuned_lies_on_top(self) -> None:
        rng = np.random.default_rng(3)
        for seed in range(12):
            program, bound = body(seed)
            for system in ("fk", "ik"):
                mine = bound.systems[system]
                values = {int(c): rng.uniform(-0.4, 0.4, 40) for c in mine.channels}
                first = int(mine.channels[0] if system == "fk" else bound.own["arm.ik", "collar.rx"])
                plain = {**values, **{first + k: np.zeros(40) for k in range(3)}}
                on = np.stack([values[first + k] for k in range(3)])
                rest = bound.rests[:1]
                tuned = multiply(multiply(rest, euler(bound.part.joint_orders[0], on)), inverse(rest))
                wanted = multiply(taken(program, bound, plain, system), tuned)
                self.assertLess(rotation_distance(taken(program, bound, values, system), wanted).max(), 1e-9)

    def test_nothing_up_to_the_set_angle_then_its_share(self) -> None:
        """Measured by an arm that is raised about its axis, its hand drawn round where the arm begins at rest."""
        for seed in range(12):
            program, bound = body(seed)
            rest = program.evaluate([0.0])
            up = rest.pos[0, bound.above[0]], rest.rot[0, bound.above[0]]
            begins, hand = (rotate(inverse(up[1]), rest.pos[0, bound.nodes[k]] - up[0]) for k in (1, -1))
            line = hand - begins
            # Only what turns in the plane of raising is all raising.
            axis, forward = (v / np.linalg.norm(v) for v in (np.cross(line, [0.3, 0.5, 0.7]), line))
            program, bound = body(
                seed, shares=(0.4, 0.0), past=(0.5, 0.5), raised=tuple(axis.tolist()), forward=tuple(forward.tolist())
            )
            angles = np.linspace(-1.6, 1.6, 81)
            turned = np.cos(angles)[:, None] * line + np.sin(angles)[:, None] * np.cross(axis, line)
            space = rest.pos[0, bound.controls["arm.ik"].space], rest.rot[0, bound.controls["arm.ik"].space]
            at = rotate(inverse(space[1]), up[0] + rotate(up[1], begins + turned) - space[0])
            values = {bound.own["arm.ik", c]: at[:, k] for k, c in enumerate(("tx", "ty", "tz"))}
            got = size(taken(program, bound, values, "ik"))
            self.assertLess(got[angles < 0.5 - 0.17].max(), 1e-9)
            far = angles > 0.5 + 0.17
            np.testing.assert_allclose(got[far], 0.4 * (angles[far] - 0.5), atol=1e-9)

    def test_it_never_jumps_whatever_the_share_and_the_turn(self) -> None:
        for seed in range(20):
            rng = np.random.default_rng(seed)
            shares = tuple(rng.uniform(0.0, 1.0, 2).tolist())
            program, bound = body(seed, shares=shares, past=tuple(rng.uniform(0.0, 1.0, 2).tolist()))
            # A great circle of the hand that passes opposite to where it is at rest.
            rest = program.evaluate([0.0])
            begins, hand = rest.pos[0, bound.nodes[1]], rest.pos[0, bound.nodes[-1]]
            line = hand - begins
            side = np.cross(line, unit(rng, 3))
            side *= np.linalg.norm(line) / np.linalg.norm(side)
            angles = np.linspace(0.0, 2.0 * np.pi, 4001)[:, None]
            at = begins + np.cos(angles) * line + np.sin(angles) * side
            space = rest.pos[0, bound.controls["arm.ik"].space], rest.rot[0, bound.controls["arm.ik"].space]
            at = rotate(inverse(space[1]), at - space[0])
            values = {bound.own["arm.ik", c]: at[:, k] for k, c in enumerate(("tx", "ty", "tz"))}
            turns = taken(program, bound, values, "ik")
            self.assertLess(rotation_distance(turns[1:], turns[:-1]).max(), 0.02, (seed, shares))

    def test_it_reads_what_moves_the_hand_and_not_itself(self) -> None:
        rng = np.random.default_rng(8)
        for seed in (3, 4):
            program, bound = body(seed, shares=(0.5, 0.5), past=(0.05, 0.05))
            fk, ik = (bound.systems[s].channels for s in ("fk", "ik"))
            turns = {j: fk[3 * k : 3 * k + 3] for k, j in enumerate(bound.part.joints)}
            base = {int(c): np.full(9, float(rng.uniform(-0.5, 0.5))) for c in (*fk, *ik)}
            for system, still, moving in (
                ("fk", turns["end"], [*turns["upper"], *turns["lower"]]), ("ik", ik[3:10], ik[:3])
            ):  # fmt: skip
                before = taken(program, bound, base, system)
                for c in still:
                    swung = {**base, int(c): rng.uniform(-1, 1, 9)}
                    self.assertLess(rotation_distance(taken(program, bound, swung, system), before).max(), 1e-12)
                self.assertGreater(max(
                    rotation_distance(taken(program, bound, {**base, int(c): rng.uniform(-1, 1, 9)}, system), before).max()
                    for c in moving
                ), 1e-3)  # fmt: skip

    def test_a_hand_on_its_own_arm_is_a_loop(self) -> None:
        program, _ = body(1)
        for joint in ("collar", "upper"):
            tether = Tether("self", "body", "arm.ik", "body", joint)
            curves = {n: stepped((0, 1.0)) for n in tether.weights} | {"body/arm.drive": stepped((0, 1.0))}
            with self.assertRaises(LoopError):
                Program(program.scene, replace(program.take, tethers=(tether,)).with_curves(curves)).evaluate([0.0])


class Dragged(unittest.TestCase):
    def test_any_joint_is_turned_as_asked_while_the_collarbone_goes_along(self) -> None:
        rng = np.random.default_rng(5)
        for seed in range(12):
            # Shares of a body; with those near one a turn may have no answer, or many.
            shares = tuple(rng.uniform(0.0, 0.4, 2).tolist())
            program, bound = body(seed, shares=shares, past=(0.1, 0.1))
            program = driven(program, bound, "ik" if seed % 2 else "fk")
            for joint in bound.part.joints:
                turn = unit(rng, 4)
                found = solve_all(program, Drag("body", "arm", joint, 0.0, (0.0, 0.0, 0.0), turn))
                now = program.evaluate([0.0], overrides=found)
                off = rotation_distance(now.rot[0, program.nodes["body", joint]], np.array(turn))
                self.assertLess(float(off), 1e-9, (seed, joint))

    def test_a_forearm_is_turned_as_asked_while_the_upper_arm_follows_something_or_nothing(self) -> None:
        rng = np.random.default_rng(6)
        for seed in range(8):
            program, _ = body(seed, shares=(0.3, 0.3), past=(0.1, 0.1))
            tether = Tether("still", "body", "upper", "world", "world", position=False)
            for weight in (1.0, 0.0):
                curves = {n: stepped((0, weight)) for n in tether.weights}
                tied = Program(program.scene, replace(program.take, tethers=(tether,)).with_curves(curves))
                for joint in ("lower", "end"):
                    turn = unit(rng, 4)
                    found = solve_all(tied, Drag("body", "arm", joint, 0.0, (0.0, 0.0, 0.0), turn))
                    now = tied.evaluate([0.0], overrides=found)
                    off = rotation_distance(now.rot[0, tied.nodes["body", joint]], np.array(turn))
                    self.assertLess(float(off), 1e-9, (seed, joint, weight))


class Handed(unittest.TestCase):
    def test_a_handover_leaves_the_shoulder_where_it_is(self) -> None:
        for seed in range(8):
            example = arm(seed)
            program = posed(np.random.default_rng(seed), example)
            program = driven(program, program.bound("body", "arm"), "fk" if seed % 2 else "ik")
            to = "ik" if seed % 2 else "fk"
            take, proof = apply(program, Handover((("body", "arm"),), to, 20.0, 40.0, keys="every"))
            after = program.on(take)
            bound = program.bound("body", "arm")
            frames = np.arange(0.0, 61.0)
            a, b = program.evaluate(frames), after.evaluate(frames)
            for k in (0, 1):
                self.assertLess(np.abs(a.pos[:, bound.nodes[k]] - b.pos[:, bound.nodes[k]]).max(), 1e-6)
                self.assertLess(rotation_distance(a.rot[:, bound.nodes[k]], b.rot[:, bound.nodes[k]]).max(), 1e-6)
            self.assertTrue(proof.unchanged_outside)
            # And its tuning exists once per system: what the other has is as it was.
            values = fit(program, bound, "fk", a)
            self.assertLess(max(values.position.max(), values.rotation.max()), 1e-6)
