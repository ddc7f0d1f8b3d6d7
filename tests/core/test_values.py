"""Named values: what they turn, what lies on top, what a fit gives back, and how they are recorded."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from tests.core.contract import driven
from yielding_tether.core.curves import EMPTY, SMOOTH, set_value
from yielding_tether.core.errors import CoreError
from yielding_tether.core.fitting import fit_values
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.operations.mirror import Mirror
from yielding_tether.core.operations.mirror import apply as mirror
from yielding_tether.core.operations.pose import Drag, solve
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Take
from yielding_tether.core.transforms import ORDERS, Floats, euler, inverse, multiply, rotation_distance
from yielding_tether.core.values import PoseValue
from yielding_tether.demo.cast_off import cast_off, ferry_scene

HAND, LEG = ("marl", "fingers.R"), ("marl", "leg.L")


def still() -> Program:
    return Program(ferry_scene(), Take("still", cast_off()[1].rate, 0, 10))


def with_keys(program: Program, keys: dict[str, float], frame: float = 0.0) -> Program:
    return program.with_curves(
        {n: set_value(program.take.curves.get(n, EMPTY), frame, v, SMOOTH) for n, v in keys.items()}
    )


def local(program: Program, part: tuple[str, str], at: Floats) -> Floats:
    """(F, n, 4) turns of a part's joints beyond their rests, from evaluated joints."""
    bound = program.bound(*part)
    poses = program.evaluate(at)
    return multiply(inverse(multiply(poses.rot[:, bound.above], bound.rests)), poses.rot[:, bound.nodes])


def between(a: Floats, b: Floats, share: float) -> Floats:
    """The shortest way between two turns, by another formula than that of the code."""
    dot = float(a @ b)
    b, dot = (-b, -dot) if dot < 0.0 else (b, dot)
    angle = np.arccos(min(dot, 1.0))
    if angle < 1e-9:
        return a
    found: Floats = (np.sin((1.0 - share) * angle) * a + np.sin(share * angle) * b) / np.sin(angle)
    return found


class Values(unittest.TestCase):
    def setUp(self) -> None:
        self.random = np.random.default_rng(17)

    def test_stages_turn_joints_and_channels_lie_on_top(self) -> None:
        program = still()
        bound = program.bound(*HAND)
        names = [v.name for v in bound.part.values]
        self.assertEqual(names, ["curl", "spread", "fist"])
        for _ in range(15):
            at = dict(zip(names, self.random.uniform(0.0, 1.0, 3), strict=True))
            angles = self.random.normal(size=(len(bound.nodes), 3)) * 0.4
            keys = {f"marl/fingers.R.value.{n}": float(v) for n, v in at.items()}
            for joint, row in zip(bound.part.joints, angles.tolist(), strict=True):
                keys |= {f"marl/{joint}.{c}": a for c, a in zip(("rx", "ry", "rz"), row, strict=True)}
            found = local(with_keys(program, keys), HAND, np.array([0.0]))[0]
            for k, joint in enumerate(bound.part.joints):
                wanted = np.array([0.0, 0.0, 0.0, 1.0])
                for value in bound.part.values:
                    if joint not in value.joints:
                        continue
                    marks, turns = [0.0, *value.at], [np.array([0.0, 0.0, 0.0, 1.0])]
                    turns += [np.array(t[value.joints.index(joint)]) for t in value.turns]
                    n = min(int(np.searchsorted(marks, at[value.name], side="right")) - 1, len(marks) - 2)
                    share = (at[value.name] - marks[n]) / (marks[n + 1] - marks[n])
                    wanted = multiply(wanted, between(turns[n], turns[n + 1], min(share, 1.0)))
                wanted = multiply(wanted, euler(ORDERS[bound.orders[k]], angles[k][:, None])[0])
                self.assertLess(float(rotation_distance(found[k], wanted)), 1e-9)

    def test_at_zero_all_is_at_rest_and_nobody_else_pays(self) -> None:
        program = still()
        self.assertLess(
            rotation_distance(local(program, HAND, np.array([0.0])), np.array([0.0, 0.0, 0.0, 1.0])).max(), 1e-12
        )
        plain = replace(program.scene.member("marl"), parts=tuple(
            replace(p, values=()) if p.values else p for p in program.scene.member("marl").parts
        ))  # fmt: skip
        scene = replace(
            program.rig.given, members=tuple(plain if m.id == "marl" else m for m in program.rig.given.members)
        )
        one, two = program.evaluate([0.0, 3.0]), Program(scene, program.take).evaluate([0.0, 3.0])
        self.assertLess(np.abs(one.pos - two.pos).max(), 1e-12)

    def test_a_fit_keeps_what_is_keyed_and_finds_what_made_the_pose(self) -> None:
        program = still()
        bound = program.bound(*HAND)
        keyed = with_keys(program, {"marl/fingers.R.value.fist": 0.8, "marl/finger2.R.ry": 0.3})
        poses = keyed.evaluate([0.0])
        kept = fit_values(keyed, bound, "fk", poses, keyed.now(0.0, bound.systems["fk"].channels))[:, 0]
        self.assertLess(np.abs(kept - keyed.now(0.0, bound.systems["fk"].channels)).max(), 1e-9)
        # Nothing at hand, and the pose is one that values make alone: they are found, and no turn is left over.
        for _ in range(6):
            at = self.random.uniform(0.05, 0.95, 2)
            made = with_keys(
                program, {"marl/fingers.R.value.spread": float(at[0]), "marl/fingers.R.value.fist": float(at[1])}
            )
            found = fit_values(
                program, bound, "fk", made.evaluate([0.0]), program.now(0.0, bound.systems["fk"].channels)
            )[:, 0]
            posed = program.evaluate(
                [0.0], overrides=dict(zip(bound.systems["fk"].channels.tolist(), found.tolist(), strict=True))
            )
            self.assertLess(
                rotation_distance(posed.rot[0, bound.nodes], made.evaluate([0.0]).rot[0, bound.nodes]).max(), 1e-6
            )
            self.assertLess(np.abs(found[: 3 * len(bound.nodes)]).max(), 1e-6)
            self.assertLess(abs(found[-2] - at[0]), 1e-5)
        # Any other pose goes into the turns of the joints.
        turns = self.random.normal(size=(len(bound.nodes), 4))
        turns /= np.linalg.norm(turns, axis=1, keepdims=True)
        odd = program.evaluate([0.0])
        odd.rot[0, bound.nodes] = turns
        values = fit_values(keyed, bound, "fk", odd, keyed.now(0.0, bound.systems["fk"].channels))[:, 0]
        self.assertAlmostEqual(values[-1], 0.8)

    def test_a_joint_dragged_under_a_value_goes_where_it_was_put(self) -> None:
        program = with_keys(still(), {"marl/fingers.R.value.curl": 0.7})
        node = program.nodes["marl", "finger1.R"]
        wanted = multiply(program.evaluate([0.0]).rot[0, node], np.array([0.0, np.sin(0.2), 0.0, np.cos(0.2)]))
        found = solve(program, Drag(*HAND, "finger1.R", 0.0, (0.0, 0.0, 0.0), tuple(wanted))).values
        self.assertLess(float(rotation_distance(program.evaluate([0.0], overrides=found).rot[0, node], wanted)), 1e-9)

    def test_a_pose_is_recorded_in_stages_and_poses_any_part(self) -> None:
        for part, turned in ((HAND, "finger2.R"), (LEG, "shin.L"), (("marl", "spine"), "spine.mid")):
            program = still()
            program = driven(program, program.bound(*part), "fk") if len(program.bound(*part).systems) > 1 else program
            names = [f"marl/{turned}.{c}" for c in ("rx", "ry", "rz")]
            now = program
            stages = {}
            for at, angle in ((1.0, 0.9), (0.4, -0.3)):
                posed = with_keys(now, {n: angle * (k + 1) / 3 for k, n in enumerate(names)})
                stages[at] = local(posed, part, np.array([0.0]))[0]
                choices = {"at": at, **({"called": "nod"} if at == 1.0 else {"which": "nod"})}
                now = now.on(
                    replace(now.take, values=run(posed, "record", Asked((part,), 0.0, None, choices)).take.values)
                )
            channel = f"marl/{part[1]}.value.nod"
            for at, wanted in stages.items():
                with self.subTest(part=part, at=at):
                    found = local(with_keys(now, {channel: at}), part, np.array([0.0]))[0]
                    self.assertLess(rotation_distance(found, wanted).max(), 1e-9)
            keyed = with_keys(with_keys(now, {channel: 0.2}), {channel: 1.0}, 8.0)
            with self.assertRaisesRegex(CoreError, "delete them before"):
                run(keyed, "record", Asked((part,), 0.0, None, {"which": "nod", "what": "gone"}))
            gone = run(now, "record", Asked((part,), 0.0, None, {"which": "nod", "what": "gone"}))
            self.assertEqual(gone.take.values, ())
            if part != HAND:
                # Handed over and back, what is keyed is what poses.
                there = keyed.on(run(keyed, "handover", Asked((part,), 2.0, 6.0, {"to": "ik", "keys": "every"})).take)
                frames = np.arange(0.0, 9.0)
                nodes = keyed.joints()[1]
                self.assertLess(
                    np.abs(there.evaluate(frames).pos[:, nodes] - keyed.evaluate(frames).pos[:, nodes]).max(), 1e-6
                )

    def test_a_mirror_takes_values_over(self) -> None:
        scene, take = cast_off()
        fist = "marl/fingers.L.value.fist"
        program = with_keys(with_keys(Program(scene, take), {fist: 0.2}, 10.0), {fist: 0.9}, 60.0)
        asked = Mirror(("marl",), 0.0, float(take.last))
        once = program.on(mirror(program, asked)[0])
        self.assertEqual(
            once.take.curves["marl/fingers.R.value.fist"], program.take.curves["marl/fingers.L.value.fist"]
        )
        twice = once.on(mirror(once, asked)[0])
        nodes = [program.nodes["marl", j] for j in program.bound("marl", "fingers.L").part.joints]
        frames = np.arange(0.0, 204.0, 0.5)
        self.assertLess(
            rotation_distance(program.evaluate(frames).rot[:, nodes], twice.evaluate(frames).rot[:, nodes]).max(), 1e-6
        )

    def test_what_cannot_be_is_said(self) -> None:
        program = still()
        for part, choices, word in (
            (HAND, {"called": "fist"}, "already"), (HAND, {"which": "grasp"}, "no recorded value"),
            (HAND, {"called": "a/b"}, "letters"), (HAND, {"what": "gone"}, "Choose which"),
            (("marl", "arm.L"), {}, "not turned one by one"), (HAND, {"at": 1.5}, "from 0.01 to 1"),
        ):  # fmt: skip
            with self.subTest(choices=choices), self.assertRaisesRegex(CoreError, word):
                run(program, "record", Asked((part,), 0.0, None, choices))
        turn = ((0.0, 0.0, 0.0, 1.0),)
        for at, turns in (
            ((0.5, 0.5), (turn, turn)),
            ((0.0,), (turn,)),
            ((0.5,), ()),
            ((0.5,), (((1.0, 1.0, 0.0, 0.0),),)),
        ):
            with self.subTest(at=at), self.assertRaises(CoreError):
                PoseValue("odd", ("finger1.R",), at, turns)


if __name__ == "__main__":
    unittest.main()
