"""What operations say of themselves, and choices that lead to one another: each was once changed without a test that saw it."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from yielding_tether.core.cast import Shape
from yielding_tether.core.clips import copy
from yielding_tether.core.errors import CoreError
from yielding_tether.core.express import Hold
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations import OPERATIONS, Asked, run
from yielding_tether.core.operations.bake import LEAVES, Planted
from yielding_tether.core.operations.repair import describe
from yielding_tether.core.operations.retether import OWN, anchors
from yielding_tether.core.program import Poses, Program
from yielding_tether.core.shapes import signed_distance
from yielding_tether.core.transforms import inverse, rotate
from yielding_tether.demo.lantern_round import lantern_round

from .test_bake import crossing
from .test_findings import clean
from .test_handover import demo

LEG = (("marl", "leg.L"),)


class Distances(unittest.TestCase):
    def test_of_every_form_as_points_on_its_surface_say(self) -> None:
        rng = np.random.default_rng(5)
        turn = np.array([0.1, -0.5, 0.3, 0.8])
        turn = turn / np.linalg.norm(turn)
        a, b = (0.1, 0.2, -0.3), (0.5, -0.1, 0.2)
        shapes = (
            Shape("j", "ball", "t", a, size=(0.2,)), Shape("j", "capsule", "t", a, b, (0.15, 0.05)),
            Shape("j", "ring", "t", a, (0.0, 2.0, 1.0), (0.3, 0.04)),
            Shape("j", "block", "t", a, size=(0.4, 0.2, 0.6), turn=tuple(turn)),
        )  # fmt: skip
        for shape in shapes:
            surface = self.surface(shape, rng)
            at = rng.normal(size=(60, 3)) * 0.6
            near = np.array([np.linalg.norm(surface - p, axis=1).min() for p in at])
            found = signed_distance(shape, at)
            outside = found > 0.0
            self.assertGreater(int(outside.sum()), 20, shape.form)
            np.testing.assert_allclose(found[outside], near[outside], atol=0.03, err_msg=shape.form)

    def surface(self, shape: Shape, rng: np.random.Generator) -> np.ndarray:
        way = rng.normal(size=(40_000, 3))
        way /= np.linalg.norm(way, axis=1, keepdims=True)
        a, b = np.array(shape.a), np.array(shape.b)
        if shape.form == "ball":
            return np.asarray(a + shape.size[0] * way)
        if shape.form == "capsule":
            share = rng.uniform(size=(40_000, 1))
            return np.asarray(a + share * (b - a) + (shape.size[0] + share * (shape.size[1] - shape.size[0])) * way)
        if shape.form == "ring":
            axis = b / np.linalg.norm(b)
            round_ = np.cross(axis, way)
            round_ /= np.linalg.norm(round_, axis=1, keepdims=True)
            return np.asarray(a + shape.size[0] * round_ + shape.size[1] * way[::-1])
        half = np.array(shape.size) / 2
        inside = rng.uniform(-1, 1, size=(40_000, 3))
        side = rng.integers(0, 3, size=40_000)
        inside[np.arange(40_000), side] = np.sign(inside[np.arange(40_000), side])
        return np.asarray(a + rotate(np.broadcast_to(np.array(shape.turn), (40_000, 4)), inside * half))


class Words(unittest.TestCase):
    def test_a_repair_names_the_findings_it_was_asked_for(self) -> None:
        program = Program(*lantern_round())
        found = find_all(program)
        self.assertGreater(len(found), 2)
        self.assertEqual(describe(program, [found[1].key]), f"Repair: {found[1].sentence}"[:200])
        self.assertEqual(describe(program, [found[0].key, found[1].key, found[0].key]), "Repair 2 findings")
        self.assertEqual(describe(program, []), f"Repair {len(found)} findings")
        # What is named is repaired, and nothing else.
        outcome = run(program, "repair", Asked(findings=(found[1].key,), first=found[1].frame))
        self.assertEqual(
            [f.key for f in find_all(program.on(outcome.take))], [f.key for f in found if f is not found[1]]
        )

    def test_a_clip_is_called_after_its_parts(self) -> None:
        program = demo()
        for parts, words in (
            (("arm.L",), "left arm, frame 57"), (("arm.L", "arm.R", "leg.L"), "left arm, right arm, left leg, frame 57"),
            (("arm.L", "arm.R", "leg.L", "leg.R", "hips"), "left arm, right arm, left leg and 2 more, frame 57"),
        ):  # fmt: skip
            self.assertEqual(copy(program, "marl", parts, 57.0, 57.0).name, words)
        self.assertEqual(copy(program, "marl", ("arm.L",), 57.0, 60.0).name, "left arm, 57 to 60")
        self.assertEqual(copy(program, "marl", ("arm.L",), 57.0, 60.0, "wave").name, "wave")

    def test_contacts_are_counted_in_words(self) -> None:
        program = demo()
        for first, last, words in (
            (0.0, 40.0, "Take 1 contact of left leg away"),
            (0.0, None, "Take 2 contacts of left leg away"),
        ):
            outcome = run(program, "contacts", Asked(LEG, first, last, {"do": "remove"}))
            self.assertTrue(outcome.label.startswith(words), outcome.label)

    def test_keys_of_a_stretch_are_scaled_or_moved_as_chosen(self) -> None:
        program = demo()
        arm = (("marl", "arm.L"),)
        name = "marl/upperarm.L.rx"
        was = program.take.curves[name].times
        inside = was[(was >= 22.0) & (was <= 80.0)]
        self.assertGreater(len(inside), 2)
        moved = run(program, "keys", Asked(arm, 22.0, 80.0, {"do": "move", "by": 2})).take.curves[name].times
        self.assertLessEqual(set(inside + 2.0), set(moved))
        scaled = run(program, "keys", Asked(arm, 22.0, 80.0, {"do": "scale", "factor": 1.1})).take.curves[name].times
        np.testing.assert_allclose(
            [scaled[np.abs(scaled - t).argmin()] for t in 22.0 + 1.1 * (inside - 22.0)], 22.0 + 1.1 * (inside - 22.0)
        )

    def test_nothing_stands_on_its_own_space(self) -> None:
        program = demo()
        for id in ("plant", "contacts"):
            options = OPERATIONS[id].options(program, LEG)["on"]
            self.assertNotIn(OWN, [v for v, _ in options])
            self.assertEqual(len(options), len(anchors(program)) - 1)
        self.assertIn(OWN, [v for v, _ in anchors(program)])

    def test_a_paste_without_a_clip_or_a_part_says_so(self) -> None:
        program = demo()
        clip = copy(program, "marl", ("arm.L",), 57.0, 57.0)
        for asked in (Asked(first=20.0, clip=clip), Asked((("marl", "arm.L"),), 20.0)):
            with self.assertRaisesRegex(CoreError, "needs a clip, and a part"):
                run(program, "paste", asked)

    def test_a_part_that_is_not_there_is_told_by_every_operation(self) -> None:
        program = demo()
        for id, operation in OPERATIONS.items():
            # Time goes by for the whole take, whatever part is in hand.
            if operation.applies in ("parts", "systems") and id not in ("retime", "shift-loop"):
                for parts in ((("marl", "wing.L"),), (("nobody", "arm.L"),), ()):
                    said = "wing.L|nobody" if parts else "Choose .*one part"
                    with self.subTest(id=id, parts=parts), self.assertRaisesRegex(CoreError, said):
                        run(program, id, Asked(parts, 20.0, 40.0))

    def test_a_fade_to_a_system_without_keys_says_so(self) -> None:
        program = demo()
        asked = Asked(LEG, 20.0, None, {"to": "fk", "over": 8})
        self.assertTrue([n for n in run(program, "crossfade", asked).proof.notes if "stands at rest" in n])
        keyed = program.on(run(program, "handover", Asked(LEG, 10.0, 40.0, {"to": "fk"})).take)
        self.assertFalse([n for n in run(keyed, "crossfade", replace(asked, first=45.0)).proof.notes if "at rest" in n])

    def test_a_handover_suggests_a_system_that_does_not_drive(self) -> None:
        program = clean(0)
        for part, at, to in (("arm.R", 20.0, "ik"), ("arm.R", 150.0, "fk"), ("leg.L", 20.0, "fk")):
            self.assertEqual(OPERATIONS["handover"].suggest(program, (("marl", part),), at, None, {})["to"], to)
        capture = crossing()
        self.assertEqual(OPERATIONS["handover"].suggest(capture, (("body", "leg.L"),), 20.0, 60.0, {})["to"], "ik")


class Planting(unittest.TestCase):
    def test_what_is_planted_is_reached_for_and_let_go_over_some_frames(self) -> None:
        """Where a tolerance has moved a body, its planted foot is where it stood; before and after it comes back smoothly."""
        program = demo()
        bound = program.bound("marl", "leg.L")
        node = program.nodes["marl", "foot.L"]
        keeps = Planted(node, "ik", (Hold(node, 20.0, 50.0),))
        times = np.arange(10.0, 60.25, 0.25)
        there = program.evaluate(times)
        stood = there.pos[:, node].copy()
        shifted = Poses(times, there.pos.copy(), there.rot.copy(), there.side)
        off = np.array([0.0, 0.003, -0.002])
        shifted.pos[:, bound.nodes] += off
        reached = keeps.reached(program, bound, shifted, stood)
        apart = np.linalg.norm(reached.pos[:, node] - stood, axis=1)
        size = float(np.linalg.norm(off))
        held = (times >= 20.0) & (times <= 50.0)
        self.assertLess(float(apart[held].max()), 1e-9)
        away = np.maximum(20.0 - times, times - 50.0)
        np.testing.assert_allclose(apart[away >= LEAVES], size, atol=1e-9)
        share = np.clip(1.0 - away / LEAVES, 0.0, 1.0)
        np.testing.assert_allclose(apart, size * (1.0 - share**2 * (3.0 - 2.0 * share)), atol=1e-9)

    def test_what_a_hold_has_moved_fades_as_a_cubic(self) -> None:
        """In the channels of the control, from the place and the speed of what is held to nothing."""
        program = clean(0)
        asked = Asked((("marl", "leg.R"),), 90.0, 100.0, {"on": "deck/deck", "ease": 8})
        # Where it stands again soon it has no longer than until then, and that is told.
        self.assertIn("fades over 2 frames", " ".join(run(program, "plant", asked).proof.notes))
        program = program.on(replace(program.take, contacts=()))
        outcome = run(program, "plant", asked)
        after = program.on(outcome.take)
        channels = np.array(after.bound("marl", "leg.R").controls["leg.R.ik"].channels)
        step = 1e-5
        times = np.array([100.0, 100.0 + step, *np.arange(100.5, 108.5, 0.5)])
        moved = after.sample(times, channels=channels) - program.sample(times, channels=channels)
        first, speed = moved[:, :1], (moved[:, 1:2] - moved[:, :1]) / step
        u = np.minimum((times - 100.0) / 8.0, 1.0)
        wanted = first * (1.0 - 3.0 * u * u + 2.0 * u**3) + 8.0 * speed * (u - 2.0 * u * u + u**3)
        self.assertGreater(float(np.abs(first).max()), 0.01)
        np.testing.assert_allclose(moved, wanted, atol=1e-4)
        node, deck = after.nodes["marl", "foot.R"], after.nodes["deck", "deck"]
        held = after.evaluate(np.arange(90.0, 100.0, 0.5), only=[node, deck])
        there = rotate(inverse(held.rot[:, deck]), held.pos[:, node] - held.pos[:, deck])
        self.assertLess(float(np.ptp(there, axis=0).max()), 1e-9)

    def test_a_take_may_end_where_a_hold_does(self) -> None:
        program = demo()
        last = float(program.take.last)
        outcome = run(program, "plant", Asked((("marl", "arm.L"),), 130.0, None, {"on": "quay/quay"}))
        poses = program.on(replace(outcome.take)).evaluate([130.0, last])
        hand, quay = program.nodes["marl", "hand.L"], program.nodes["quay", "quay"]
        apart = np.linalg.norm(poses.pos[:, hand] - poses.pos[:, quay], axis=1)
        self.assertAlmostEqual(float(apart[0]), float(apart[1]), places=9)
