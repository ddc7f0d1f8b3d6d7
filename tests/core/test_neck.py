"""A neck that takes shares of the head's turn: by the places and turns of joints alone."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np
from scipy.spatial.transform import Rotation

from tests.depth import DEPTH
from yielding_tether.core.curves import SMOOTH, Key, curve
from yielding_tether.core.errors import CoreError
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations.handover import Handover
from yielding_tether.core.operations.handover import apply as handover
from yielding_tether.core.operations.retether import OWN, Retether, apply
from yielding_tether.core.parts import NeckPart
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Take, Tether
from yielding_tether.core.transforms import rotation_distance
from yielding_tether.demo.cast_off import cast_off

from .contract import EXAMPLES, driven, posed
from .test_retether import Checked
from .worlds import scene, stepped


def led(seed: int, shares: tuple[float, ...] | None = None) -> tuple[Program, NeckPart]:
    """A body whose head leads, at rest."""
    example = EXAMPLES["neck"](np.random.default_rng(seed))
    neck = next(p for p in example.member.parts if isinstance(p, NeckPart))
    if shares is not None:
        parts = tuple(replace(p, shares=shares) if p is neck else p for p in example.member.parts)
        example = replace(example, member=replace(example.member, parts=parts))
        neck = replace(neck, shares=shares)
    program = Program(scene(example.member), Take("rest", 24, 0, 60))
    return driven(program, program.bound("body", "head"), "lead"), neck


def tracks(program: Program, names: tuple[str, ...]) -> tuple[np.ndarray, list[Rotation]]:
    """Places (F, n, 3) and turns of joints at some times."""
    poses = program.evaluate(np.linspace(0.0, 60.0, 49))
    nodes = [program.nodes["body", n] for n in names]
    return poses.pos[:, nodes], [Rotation.from_quat(poses.rot[:, n]) for n in nodes]


class Sharing(unittest.TestCase):
    def test_each_joint_takes_its_share_of_the_heads_turn_in_what_is_below(self) -> None:
        """Up to two thirds of half a turn; the head itself is turned as its control says."""
        for seed in range(6 * DEPTH):
            program, neck = led(seed)
            axis = f"body/head.lead.r{neck.orders[-1][0]}"
            most = float(np.random.default_rng(seed).uniform(1.0, 2.0))
            turned = program.with_curves({axis: curve([Key(t, v, v, 0, 0, SMOOTH) for t, v in ((0, 0.0), (60, most))])})
            _, rest = tracks(program, ("chest", *neck.joints))
            _, now = tracks(turned, ("chest", *neck.joints))
            whole = now[-1] * rest[-1].inv()
            self.assertAlmostEqual(float(whole[-1].magnitude()), most, 9)
            taken = 0.0
            for k, share in enumerate(neck.shares):
                taken += share
                mine = now[k + 1] * rest[k + 1].inv()
                off = (mine.inv() * Rotation.from_rotvec(taken * whole.as_rotvec())).magnitude()
                self.assertLess(float(off.max()), 1e-7, (seed, k))

    def test_by_hand_on_top_adds_on_top_and_pushing_the_head_keeps_its_turn(self) -> None:
        for seed in range(4 * DEPTH):
            rng = np.random.default_rng(seed)
            program, neck = led(seed)
            lead = {f"body/head.lead.r{c}": stepped((0, float(rng.uniform(-0.8, 0.8)))) for c in "xyz"}
            turned = program.with_curves(lead)
            angle = float(rng.uniform(-0.5, 0.5))
            pushed = turned.with_curves({f"body/head.lead.{neck.joints[0]}.rx": stepped((0, angle))})
            (pos, before), (there, after) = tracks(turned, neck.joints), tracks(pushed, neck.joints)
            self.assertLess(float((before[-1].inv() * after[-1]).magnitude().max()), 1e-9)
            self.assertGreater(float(np.abs(pos[:, -1] - there[:, -1]).max()), 1e-3)
            # The first joint turns by just that, about its own axis as it stands.
            more = (before[0].inv() * after[0]).as_rotvec()
            np.testing.assert_allclose(more, np.tile([angle, 0.0, 0.0], (len(more), 1)), atol=1e-9)

    def test_no_share_spoils_the_rest_pose_and_none_ever_jumps(self) -> None:
        for seed in range(3 * DEPTH):
            _, neck = led(seed)
            rng = np.random.default_rng(seed)
            lead = {f"body/head.lead.r{c}": stepped((0, float(rng.uniform(-3.0, 3.0)))) for c in "xyz"}
            last = None
            rest = None
            for whole in np.linspace(0.0, 1.0, 60):
                program, _ = led(seed, tuple([float(whole) / len(neck.shares)] * len(neck.shares)))
                pose = program.evaluate([0.0]).pos[0, program.joints()[1]]
                self.assertLess(np.abs(pose - (pose if rest is None else rest)).max(), 1e-12)
                rest = pose
                poses = program.with_curves(lead).evaluate([0.0])
                rot = poses.rot[0, program.joints()[1]]
                if last is not None:
                    self.assertLess(float(rotation_distance(rot, last).max()), 1.1 * np.pi / 59)
                last = rot

    def test_the_head_may_turn_all_the_way_round(self) -> None:
        """What is shared fades before half a turn, where the shortest way changes sides: the neck never jumps."""
        program, neck = led(2)
        axis = f"body/head.lead.r{neck.orders[-1][0]}"
        round_ = curve([Key(0, -4.0, -4.0, 8 / 60, 8 / 60, SMOOTH), Key(60, 4.0, 4.0, 8 / 60, 8 / 60, SMOOTH)])
        poses = program.with_curves({axis: round_}).evaluate(np.linspace(0.0, 60.0, 4001))
        nodes = [program.nodes["body", n] for n in neck.joints]
        steps = rotation_distance(poses.rot[1:][:, nodes], poses.rot[:-1][:, nodes])
        self.assertLess(float(steps.max()), 8.0 / 4000 * 4.0)

    def test_what_no_neck_can_be_is_refused(self) -> None:
        _, neck = led(1)
        for wrong, words in (
            ((0.7,) * len(neck.shares) if len(neck.shares) > 1 else (1.2,), "above one"),
            ((0.1,) * 9, "two joints"),
        ):
            with self.assertRaisesRegex(CoreError, words):
                led(1, wrong)


class Leading(Checked):
    def test_the_head_follows_the_world_and_is_let_go_while_it_leads(self) -> None:
        for seed in range(3 * DEPTH):
            rng = np.random.default_rng(seed)
            program = posed(rng, EXAMPLES["neck"](rng))
            bound = program.bound("body", "head")
            program = driven(program, bound, "lead")
            head = int(bound.nodes[-1])
            for to, first, last in (("world", 12.0, 40.0), ("body/root", 8.0, None)):
                take, proof = apply(program, Retether((bound.id,), to, first, last, keys="every"))
                after = program.on(take)
                self.check(program, after, bound.id, first, last)
                self.assertEqual(take.tethers[-1].control, "head.lead")
                self.assertFalse(take.tethers[-1].position)
                self.assertTrue(proof.unchanged_outside)
            take, _ = apply(program, Retether((bound.id,), "world", 12.0, None, "ride", settle=0))
            held = program.on(take)
            rot = held.evaluate(np.arange(12.0, 60.0)).rot[:, head]
            self.assertLess(float(rotation_distance(rot, rot[:1]).max()), 1e-9)
            free = held.on(apply(held, Retether((bound.id,), OWN, 30.0, None, keys="every"))[0])
            self.check(held, free, bound.id, 30.0, None)

    def test_dialled_half_way_the_head_turns_half_of_what_the_body_does(self) -> None:
        program, _ = led(5)
        body = next(p for p in program.scene.members[0].parts if p.name == "root")
        turn = curve([Key(0, 0, 0, 0, 0, SMOOTH), Key(60, 1.2, 1.2, 0, 0, SMOOTH)])
        tether = Tether("it", "body", "head.lead", "world", "world", False, True)
        on = program.on(replace(program.take, tethers=(tether,))).with_curves(
            {f"body/root.r{body.joint_orders[0][-1]}": turn}
        )
        for share in (0.0, 0.25, 0.5, 0.75, 1.0):
            now = on.with_curves({tether.weight_channel("rotation"): stepped((0, share))})
            rot = now.evaluate([0.0, 60.0]).rot[:, now.nodes["body", "head"]]
            self.assertAlmostEqual(float(rotation_distance(rot[1], rot[0])), (1.0 - share) * 1.2, 9)

    def test_marls_head_is_handed_over_and_nothing_is_found(self) -> None:
        program = Program(*cast_off())
        bound = program.bound("marl", "head")
        take, proof = handover(program, Handover((bound.id,), "lead", 30.0, 90.0, keys="every"))
        after = program.on(take)
        self.check(program, after, bound.id, 30.0, 90.0)
        self.assertTrue(proof.unchanged_outside)
        self.assertEqual([f.part for f in find_all(after)], [f.part for f in find_all(program)])


if __name__ == "__main__":
    unittest.main()
