"""Measuring and proving: one-sided limits against known motion, planted faults seen, nothing else reported."""

from __future__ import annotations

import unittest
from dataclasses import replace
from fractions import Fraction

import numpy as np
from scipy.spatial.transform import Rotation

from yielding_tether.core.curves import FREE, LINEAR, STEPPED, Key, curve, set_value
from yielding_tether.core.findings import find_all
from yielding_tether.core.measure import meter, one_sided, steps
from yielding_tether.core.operations.handover import Handover, apply
from yielding_tether.core.program import Program
from yielding_tether.core.proof import Change, Held, KeyCount, Proof, Worst, prove
from yielding_tether.core.takes import Take

from .test_handover import demo
from .worlds import limb_member, prop, random_take, scene


def moving_box(keys: list[Key]) -> Program:
    box = prop("box")
    return Program(scene(box), Take("t", Fraction(24), 0, 30, {"box/box.tx": curve(keys)}))


class OneSided(unittest.TestCase):
    def test_jumps_of_place_and_speed_are_what_was_planted(self) -> None:
        rng = np.random.default_rng(1)
        for _ in range(40):
            gap, before, after = rng.uniform(-0.2, 0.2), rng.uniform(-0.1, 0.1), rng.uniform(-0.1, 0.1)
            program = moving_box([
                Key(0.0, 0.0, 0.0, 0.0, 0.3, rule=FREE),
                Key(10.0, 0.5, 0.5 + gap, before, after, rule=FREE),
                Key(30.0, 1.0, 1.0, rule=FREE),
            ])  # fmt: skip
            node = np.array([program.nodes["box", "box"]])
            limits = one_sided(program, np.array([10.0]), node)
            self.assertAlmostEqual(float(limits.pose_jump[0, 0]), abs(gap), places=12)
            self.assertAlmostEqual(float(limits.speed_jump[0, 0]), abs(after - before), places=9)
            self.assertAlmostEqual(float(limits.velocity[1, 0, 0, 0]), before, places=9)
            self.assertAlmostEqual(float(limits.velocity[0, 0, 0, 0]), after, places=9)

    def test_turning_speed_is_that_of_the_curve(self) -> None:
        box = prop("box")
        spin = curve(
            [Key(0.0, 0.0, 0.0, kind=LINEAR, rule=FREE), Key(10.0, 2.0, 2.0, kind=LINEAR), Key(20.0, 1.0, 1.0)]
        )
        program = Program(scene(box), Take("t", Fraction(24), 0, 30, {"box/box.ry": spin}))
        limits = one_sided(program, np.array([10.0]), np.array([program.nodes["box", "box"]]))
        np.testing.assert_allclose(limits.spin[1, 0, 0], [0, 0.2, 0], atol=1e-10)
        np.testing.assert_allclose(limits.spin[0, 0, 0], [0, -0.1, 0], atol=1e-10)
        self.assertAlmostEqual(float(limits.spin_jump[0, 0]), 0.3, places=9)

    def test_stencils_reach_across_no_key(self) -> None:
        rng = np.random.default_rng(2)
        for _ in range(100):
            breaks = np.sort(rng.uniform(0, 10, 12))
            times = np.concatenate([rng.choice(breaks, 3), rng.uniform(0, 10, 3)])
            for t, step in zip(times, steps(breaks, times), strict=True):
                between = breaks[(np.abs(breaks - t) < 4 * step) & (breaks != t)]
                self.assertEqual(len(between), 0)

    def test_keys_close_to_one_another_are_still_told_apart(self) -> None:
        program = moving_box([
            Key(10.0, 0.0, 0.0, 0.0, 0.0, LINEAR, FREE), Key(10.01, 0.01, 0.01, 0.0, 0.0, LINEAR, FREE),
            Key(10.02, 0.0, 0.0, 0.0, 0.0, LINEAR, FREE),
        ])  # fmt: skip
        limits = one_sided(program, np.array([10.0, 10.01]), np.array([program.nodes["box", "box"]]))
        np.testing.assert_allclose(limits.velocity[:, :, 0, 0], [[1.0, -1.0], [0.0, 1.0]], atol=1e-8)


class Meters(unittest.TestCase):
    def test_smooth_motion_is_flat(self) -> None:
        program = moving_box([Key(0.0, 0.0, 0.0), Key(12.0, 1.0, 1.0), Key(30.0, 0.2, 0.2)])
        place, speed = meter(program, np.array([program.nodes["box", "box"]]), program.take.frames)
        self.assertLess(place.max(), 1e-12)
        self.assertLess(speed.max(), 1e-9)

    def test_only_the_faulty_frame_stands_out(self) -> None:
        limb = demo().bounds["marl", "arm.R"]
        place, _ = meter(demo(), np.array(limb.nodes), demo().take.frames)
        self.assertEqual(int(place.argmax()), 118)
        self.assertLess(np.delete(place, 118).max(), 1e-9)


class Findings(unittest.TestCase):
    def planted(self, seed: int) -> tuple[Program, set[float]]:
        """A limb that changes systems some times; at some of the changes the pose is kept, at some it is not."""
        from yielding_tether.core.operations.handover import Handover, apply

        rng = np.random.default_rng(seed)
        member = limb_member(rng)
        program = Program(scene(member), random_take(rng, (member,), spread=0.4, kinds=(2,)))
        frames = np.sort(rng.choice(np.arange(5, 55), 4, replace=False)).astype(float)
        for first, last in (frames[:2], frames[2:]):
            take, _ = apply(program, Handover((("arm", "limb"),), "ik", float(first), float(last)))
            program = Program(program.scene, take)
        wrong = set(rng.choice(frames[[0, 2]], rng.integers(0, 3), replace=False).tolist())
        curves = {}
        for name in ("arm/limb.ik.tx", "arm/limb.ik.rz"):
            kept = program.take.curves[name]
            curves[name] = curve(
                [k._replace(leaving=k.leaving + 0.05) if k.time in wrong else k for k in kept.all_keys()]
            )
        return Program(program.scene, program.take.with_curves(curves)), wrong

    def test_planted_pops_are_found_and_none_invented(self) -> None:
        total = 0
        for seed in range(25):
            program, wrong = self.planted(seed)
            # Where a random curve ends, its speed does too: that is no pop.
            self.assertEqual({f.frame for f in find_all(program) if f.kind != "speed"}, wrong)
            total += len(wrong)
        self.assertGreater(total, 10)

    def test_the_sentence_tells_whose_where_and_how_much(self) -> None:
        (pop,) = find_all(demo())
        self.assertRegex(pop.sentence, r"^Marl's right arm jumps \d+\.\d mm and \d+\.\d° at frame 118$")


class Proving(unittest.TestCase):
    def test_a_change_outside_the_range_is_seen(self) -> None:
        before = demo()
        name = "marl/head.ry"
        after = Program(before.scene, before.take.with_curves({name: set_value(before.take.curves[name], 20.0, 1.0)}))
        proof = prove("any", before, after, 100.0, 120.0)
        self.assertFalse(proof.clean)
        self.assertGreater(proof.outside_turn.value, 0.1)
        self.assertEqual(proof.departure_turn.value, 0.0)
        self.assertTrue(6.0 <= proof.outside_turn.frame <= 42.0)
        self.assertIn(proof.outside_turn.joint, ("head",))

    def test_the_edges_belong_to_the_side_that_lies_outside(self) -> None:
        """A value that only arrives at the first frame, or only leaves at the last, lies outside."""
        box = prop("box")
        flat = curve(
            [Key(0.0, 0.0, 0.0, kind=STEPPED), Key(10.0, 0.0, 0.0, kind=STEPPED), Key(20.0, 0.0, 0.0, kind=STEPPED)]
        )
        before = Program(scene(box), Take("t", Fraction(24), 0, 30, {"box/box.tx": flat}))

        def proof_of(index: int, **change: float) -> float:
            keys = flat.all_keys()
            keys[index] = keys[index]._replace(**change)  # type: ignore[arg-type]
            after = Program(before.scene, replace(before.take, curves={"box/box.tx": curve(keys)}))
            return prove("any", before, after, 10.0, 20.0).outside_place.value

        self.assertEqual(proof_of(1, leaving=0.4), 0.0)
        self.assertAlmostEqual(proof_of(2, leaving=0.4), 0.4)
        self.assertAlmostEqual(proof_of(0, leaving=0.4), 0.4)

    def test_what_speed_and_spin_may_jump_is_told_from_the_parts_own_range(self) -> None:
        """3-motion: a ten-thousandth of the part's greatest speed and spin over the take, at least 1e-6 a frame."""
        program = demo()
        _, proof = apply(program, Handover((("marl", "arm.R"),), "ik", 118.0))
        nodes = program.bounds["marl", "arm.R"].nodes
        poses = program.evaluate(np.arange(205.0))
        speed = np.linalg.norm(np.diff(poses.pos[:, nodes], axis=0), axis=-1).max()
        turned = Rotation.from_quat(poses.rot[:-1, nodes].reshape(-1, 4)).inv() * Rotation.from_quat(
            poses.rot[1:, nodes].reshape(-1, 4)
        )
        change = proof.changes[0]
        self.assertAlmostEqual(change.allowed_speed, max(1e-4 * speed, 1e-6), places=12)
        self.assertAlmostEqual(change.allowed_spin, max(1e-4 * turned.magnitude().max(), 1e-6), places=12)

    def test_a_tolerance_holds_for_place_and_turn(self) -> None:
        program = demo()
        _, proof = apply(program, Handover((("marl", "arm.R"),), "ik", 118.0))
        place, turn = proof.departure_place.value, proof.departure_turn.value
        self.assertGreater(min(place, turn), 1e-6)
        for tolerance, within in (
            ((2 * place, 2 * turn), True), ((place / 2, 2 * turn), False), ((2 * place, turn / 2), False), (None, True)
        ):  # fmt: skip
            self.assertEqual(replace(proof, tolerance=tolerance).within, within, tolerance)
        told = replace(proof, notes=("The first thing.", "The second."))
        self.assertTrue(told.sentence.endswith(". The first thing. The second."), told.sentence)
        self.assertTrue(told.sentence[0].isupper())

    def test_the_worst_frame_and_the_words_follow_from_the_figures(self) -> None:
        def change(frame: float, **more: float) -> Change:
            still = dict.fromkeys(
                ("pose", "turn", "speed", "spin", "pose_before", "turn_before", "speed_before", "spin_before"), 0.0
            )
            figures = {**still, "allowed_speed": 1e-5, "allowed_spin": 1e-5, **more}
            return Change("m", "p", "limb", frame, **figures)  # type: ignore[arg-type]

        def proof(*changes: Change, contacts: tuple[Held, ...] = ()) -> Proof:
            return Proof(
                "test", 0.0, 50.0, changes, Worst(0.01, 33.0, "j"), Worst(), Worst(), Worst(), KeyCount(1, 2, 3),
                contacts=contacts,
            )  # fmt: skip

        self.assertEqual(proof(change(10.0)).worst_frame, 33.0)
        self.assertEqual(proof(change(10.0), change(20.0, pose=0.02), change(30.0, pose=0.01)).worst_frame, 20.0)
        self.assertEqual(proof(change(10.0, speed=0.5), change(20.0, pose=0.02)).worst_frame, 20.0)
        self.assertEqual(proof(change(10.0, speed=0.5), change(20.0, speed=0.6)).worst_frame, 20.0)
        self.assertIn("speed passes on", proof(change(10.0)).sentence)
        # A spin that jumps is no speed that passes on, be it told as before or as new.
        for figures in ({"spin": 0.1}, {"spin": 0.1, "spin_before": 0.1}, {"speed": 0.1, "speed_before": 0.1}):
            self.assertNotIn("speed passes on", proof(change(10.0, **figures)).sentence)
        slips = [Held("m", "p", f"limb {k}", 0.0, 9.0, 3.0, 0.001 * k, 0.0, 0.0, 0.0) for k in (1, 3, 2)]
        told = proof(change(10.0), contacts=tuple(slips))
        self.assertFalse(told.contacts_kept)
        self.assertIn(
            "limb 3 slips 3.0 mm and 0.00°, from frame 0 to 9 (was 0 mm and 0.00°); 2 more slip", told.sentence
        )
        self.assertNotIn("more", proof(change(10.0), contacts=tuple(slips[:1])).sentence)
        self.assertIn(
            "contacts keep", proof(contacts=(Held("m", "p", "l", 0.0, 9.0, 3.0, 5e-5, 0.0, 0.0, 0.0),)).sentence
        )

    def test_nothing_done_proves_clean(self) -> None:
        proof = prove("nothing", demo(), Program(demo().scene, demo().take), 50.0, 60.0)
        self.assertTrue(proof.clean)
        self.assertEqual((proof.keys.added, proof.keys.removed), (0, 0))
