"""Posing by drags: what is dragged goes there, keys follow the rule, the idle system rides along untouched."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from yielding_tether.core.curves import EMPTY
from yielding_tether.core.errors import CoreError
from yielding_tether.core.fitting import fit
from yielding_tether.core.operations.pose import Drag, apply, describe, solve, solve_all
from yielding_tether.core.program import Program
from yielding_tether.core.transforms import rotation_distance

from .readings import guides_of, limbs_of, run_of
from .test_handover import captured, demo
from .worlds import limb_member, random_take, scene, stepped, unit


class Drags(unittest.TestCase):
    def place_of(self, program: Program, drag: Drag, node: int) -> tuple[np.ndarray, np.ndarray]:
        found = program.evaluate([drag.frame], overrides=dict(solve(program, drag).values))
        return found.pos[0, node], found.rot[0, node]

    def test_an_ik_control_goes_where_it_is_dragged_whichever_system_drives(self) -> None:
        program = demo()
        limb = program.bounds["marl", "arm.R"]
        rng = np.random.default_rng(1)
        for frame in (20.0, 60.0, 130.0, 180.0):
            here = program.evaluate([frame])
            for _ in range(5):
                root = here.pos[0, run_of(limb)[0]]
                to = root + np.array(unit(rng, 3)) * rng.uniform(0.15, 0.45)
                drag = Drag("marl", "arm.R", "arm.R.ik", frame, tuple(to.tolist()), unit(rng, 4))
                pos, rot = self.place_of(program, drag, run_of(limb)[2])
                np.testing.assert_allclose(pos, to, atol=1e-9)
                self.assertLess(float(rotation_distance(rot, np.array(drag.rotation))), 1e-9)

    def test_an_idle_drag_starts_from_the_drawn_place(self) -> None:
        """Dragging the idle control to where it is drawn moves nothing."""
        program = demo()
        limb = program.bounds["marl", "arm.R"]
        here = program.evaluate([60.0])
        end = run_of(limb)[2]
        still = Drag(
            "marl", "arm.R", "arm.R.ik", 60.0, tuple(here.pos[0, end].tolist()), tuple(here.rot[0, end].tolist())
        )
        posed = program.evaluate([60.0], overrides=dict(solve(program, still).values))
        nodes = list(limb.nodes)
        self.assertLess(np.abs(posed.pos[0, nodes] - here.pos[0, nodes]).max(), 1e-9)
        self.assertEqual(solve(program, still).system, "fk")

    def test_a_guide_turns_the_limb_towards_itself(self) -> None:
        program = demo()
        limb = program.bounds["marl", "arm.L"]
        for frame in (30.0, 150.0):
            here = program.evaluate([frame])
            to = guides_of(program, limb, here)[0] + np.array([0.1, 0.25, -0.1])
            drag = Drag("marl", "arm.L", "arm.L.guide", frame, tuple(to.tolist()))
            posed = program.evaluate([frame], overrides=dict(solve(program, drag).values))
            # The end stays; the guide now stands in the half plane of where it was put.
            np.testing.assert_allclose(posed.pos[0, run_of(limb)[2]], here.pos[0, run_of(limb)[2]], atol=1e-9)
            a, c = here.pos[0, run_of(limb)[0]], here.pos[0, run_of(limb)[2]]
            aim = (c - a) / np.linalg.norm(c - a)
            sides = [g - a - ((g - a) @ aim) * aim for g in (to, guides_of(program, limb, posed)[0])]
            cosine = sides[0] @ sides[1] / np.prod([np.linalg.norm(s) for s in sides])
            self.assertAlmostEqual(float(cosine), 1.0, places=9)

    def test_how_far_a_guide_stands_moves_nothing(self) -> None:
        """A8: put nearer or farther along its own direction, the guide stands there and the pose is what it was."""
        program = demo()
        rng = np.random.default_rng(12)
        for frame, part in ((30.0, "arm.L"), (150.0, "arm.R"), (90.0, "leg.R")):
            limb = program.bounds["marl", part]
            here = program.evaluate([frame])
            stands = guides_of(program, limb, here)[0]
            a, c = here.pos[0, run_of(limb)[0]], here.pos[0, run_of(limb)[2]]
            aim = (c - a) / np.linalg.norm(c - a)
            foot = a + ((stands - a) @ aim) * aim
            away = (stands - foot) / np.linalg.norm(stands - foot)
            for distance in rng.uniform(0.2, 9.0, 6):
                to = foot + distance * away
                take, proof = apply(program, Drag("marl", part, f"{part}.guide", frame, tuple(to.tolist())))
                after = Program(program.scene, take)
                posed = after.evaluate([frame])
                nodes = program.joints()[1]
                self.assertLess(np.abs(posed.pos[:, nodes] - here.pos[:, nodes]).max(), 1e-9)
                extra = after.sample([frame], 0, np.array([limb.own[f"{part}.ik", "guide"]]))[0]
                np.testing.assert_allclose(guides_of(program, limb, posed, extra)[0], to, atol=1e-6)
                self.assertTrue(all(c.as_before and c.smooth for c in proof.changes))

    def test_joints_of_any_part_turn_as_asked(self) -> None:
        program = demo()
        rng = np.random.default_rng(2)
        for part, joint in (("spine", "chest"), ("head", "neck.low"), ("arm.R", "forearm.R"), ("leg.L", "shin.L")):
            turn = unit(rng, 4)
            drag = Drag("marl", part, joint, 140.0, (0.0, 0.0, 0.0), turn)
            _, rot = self.place_of(program, drag, program.nodes["marl", joint])
            self.assertLess(float(rotation_distance(rot, np.array(turn))), 1e-9)

    def test_the_root_goes_where_it_is_dragged(self) -> None:
        program = demo()
        drag = Drag("marl", "hips", "hips", 33.0, (0.3, 0.7, 0.1), unit(np.random.default_rng(3), 4))
        pos, rot = self.place_of(program, drag, program.nodes["marl", "hips"])
        np.testing.assert_allclose(pos, drag.position, atol=1e-12)
        self.assertLess(float(rotation_distance(rot, np.array(drag.rotation))), 1e-12)

    def test_keys_are_put_at_the_frame_in_the_driving_system_only(self) -> None:
        program = demo()
        for frame, driving in ((64.0, "fk"), (150.0, "ik")):
            take, proof = apply(program, Drag("marl", "arm.R", "arm.R.ik", frame, (0.1, 1.3, 0.4)))
            changed = {n for n, c in take.curves.items() if c is not program.take.curves.get(n)}
            limb = program.bounds["marl", "arm.R"]
            names = program.channel_names()
            self.assertLessEqual(changed, {names[c] for c in limb.systems[driving].channels})
            for name in changed:
                self.assertIsNotNone(take.curves[name].find(frame))
                old, new = program.take.curves.get(name, EMPTY), take.curves[name]
                others = [k for k in new.all_keys() if k.time != frame]
                self.assertEqual(
                    [(k.time, k.leaving) for k in others],
                    [(k.time, k.leaving) for k in old.all_keys() if k.time != frame],
                )
            self.assertEqual(proof.keys.removed, 0)
            self.assertLess(proof.outside_place.value, 1e-9)

    def test_a_captured_part_is_adjusted_and_its_capture_stays(self) -> None:
        """Dragging any control of a captured limb puts it there by adjustments; the capture keeps every bit."""
        program = captured()
        (cap,) = program.take.captures.values()
        was = cap.rotations.tobytes(), cap.offsets.tobytes()
        for id, limb in limbs_of(program).items():
            control = next(iter(limb.controls))
            here = program.evaluate([10.0])
            root, end = here.pos[0, run_of(limb)[0]], here.pos[0, run_of(limb)[2]]
            to = root + 0.8 * (end - root) + np.array([0.02, 0.03, -0.02])
            turn = tuple(here.rot[0, run_of(limb)[2]].tolist())
            drag = Drag(*id, control, 10.0, tuple(to.tolist()), turn)
            found = solve(program, drag)
            self.assertEqual(found.system, "captured")
            posed = program.evaluate([10.0], overrides=dict(found.values))
            np.testing.assert_allclose(posed.pos[0, run_of(limb)[2]], to, atol=1e-9)
            take, proof = apply(program, drag)
            self.assertIs(take.captures["body"], cap)
            self.assertLess(proof.outside_place.value, 1e-9)
        self.assertEqual((cap.rotations.tobytes(), cap.offsets.tobytes()), was)

    def test_a_drag_of_the_end_puts_no_key_where_the_bend_stays(self) -> None:
        """The bend sign steps: a key with the value it has would only stand in the way."""
        program = demo()
        drag = Drag("marl", "arm.R", "arm.R.ik", 150.5, (-0.2, 1.25, 0.36))
        take, _ = apply(program, drag)
        self.assertEqual(take.curves.get("marl/arm.R.ik.bend"), program.take.curves.get("marl/arm.R.ik.bend"))
        changed = {n.rsplit(".", 1)[1] for n, c in take.curves.items() if c is not program.take.curves.get(n)}
        self.assertEqual(changed, {"tx", "ty", "tz", "rx", "ry", "rz"})

    def test_any_number_that_is_too_large_is_refused(self) -> None:
        for far in ((2e6, 0.0, 0.0), (0.0, -2e6, 0.0), (0.0, 0.0, np.nan), (np.inf, 1.0, 1.0)):
            with self.assertRaisesRegex(CoreError, "finite numbers"):
                solve(demo(), Drag("marl", "arm.R", "arm.R.ik", 60.0, far))

    def test_captured_joints_turn_and_only_free_ones_move(self) -> None:
        program = captured()
        for bound in program.bounds.values():
            for control in bound.systems["captured"].controls:
                self.assertEqual("move" in control.handle.gestures, bound.part.free, control)

    def test_half_driven_frames_and_nonsense_are_refused(self) -> None:
        program = demo()
        half = Program(program.scene, program.take.with_curves({"marl/arm.R.drive": stepped((0, 0.5))}))
        for subject, drag, message in (
            (half, Drag("marl", "arm.R", "arm.R.ik", 10.0, (0, 1, 0)), "half-driven at frame 10"),
            (program, Drag("marl", "arm.R", "arm.R.ik", 10.0, (float("nan"), 1, 0)), "finite numbers"),
            (program, Drag("marl", "arm.R", "arm.R.ik", 10.0, (0, 1, 0), (0, 0, 0, 0)), "quaternion of length one"),
            (program, Drag("marl", "spine", "hand.R", 10.0, (0, 1, 0)), "has no control 'hand.R'"),
            (program, Drag("marl", "tail", "tail", 10.0, (0, 1, 0)), "has no part tail"),
            (program, Drag("ghost", "tail", "tail", 10.0, (0, 1, 0)), "no member ghost"),
        ):
            with self.assertRaisesRegex(CoreError, message):
                solve(subject, drag)


class Together(unittest.TestCase):
    """Several controls in hand, and ends that stay while others are dragged."""

    ENDS = (("arm.L", "hand.L"), ("arm.R", "hand.R"), ("leg.L", "foot.L"), ("leg.R", "foot.R"))

    def test_ends_stay_in_place_and_turn_whichever_system_drives(self) -> None:
        rng = np.random.default_rng(7)
        for program, member, root in ((demo(), "marl", "hips"), (captured(), "body", "root")):
            ends = self.ENDS
            nodes = [program.nodes[member, joint] for _, joint in ends]
            hips = program.nodes[member, "hips"]
            for frame in (20.0, 60.0, 150.5):
                was = program.evaluate([frame])
                to = was.pos[0, hips] + rng.uniform(-0.02, 0.02, 3) - [0.0, 0.03, 0.0]
                drag = Drag(
                    member, root, "hips", frame, tuple(to.tolist()), tuple(was.rot[0, hips].tolist()),
                    keep=tuple((member, part) for part, _ in ends),
                )  # fmt: skip
                now = program.evaluate([frame], overrides=dict(solve_all(program, drag)))
                np.testing.assert_allclose(now.pos[0, hips], to, atol=1e-9)
                np.testing.assert_allclose(now.pos[0, nodes], was.pos[0, nodes], atol=1e-7)
                self.assertLess(float(rotation_distance(now.rot[0, nodes], was.rot[0, nodes]).max()), 1e-6)
                take, proof = apply(program, drag)
                keyed = program.on(take).evaluate([frame])
                np.testing.assert_allclose(keyed.pos[0, nodes], was.pos[0, nodes], atol=1e-7)
                self.assertTrue(proof.unchanged_outside)

    def test_what_is_in_hand_goes_where_each_is_put_in_any_order(self) -> None:
        program = demo()
        frame = 150.0
        was = program.evaluate([frame])
        drags = []
        for part, joint in (("leg.L", "foot.L"), ("leg.R", "foot.R"), ("hips", "hips")):
            node = program.nodes["marl", joint]
            to = was.pos[0, node] + [0.01, 0.02, -0.015]
            control = "hips" if part == "hips" else f"{part}.ik"
            drags.append(Drag("marl", part, control, frame, tuple(to.tolist()), tuple(was.rot[0, node].tolist())))
        for first in range(3):
            others = tuple(d for k, d in enumerate(drags) if k != first)
            drag = replace(drags[first], also=others)
            now = program.evaluate([frame], overrides=dict(solve_all(program, drag)))
            for joint in ("foot.L", "foot.R", "hips"):
                node = program.nodes["marl", joint]
                np.testing.assert_allclose(now.pos[0, node] - was.pos[0, node], [0.01, 0.02, -0.015], atol=1e-9)
        self.assertEqual(
            describe(replace(drags[2], also=tuple(drags[:2])), program), "Pose hips and 2 more at frame 150"
        )
        twice = replace(drags[2], keep=(("marl", "leg.L"), ("marl", "leg.L")))
        self.assertEqual(describe(twice, program), "Pose hips at frame 150, 1 kept in place")

    def test_a_part_without_an_end_can_not_stay(self) -> None:
        program = demo()
        drag = Drag("marl", "hips", "hips", 150.0, (0.0, 0.8, 0.1), keep=(("marl", "head"),))
        with self.assertRaisesRegex(CoreError, "head has no end that could stay"):
            apply(program, drag)


class IdleRidesAlong(unittest.TestCase):
    def test_after_a_thousand_random_edits_fits_are_exact_and_idle_keys_untouched(self) -> None:
        """A7."""
        rng = np.random.default_rng(9)
        member = limb_member(rng)
        take = random_take(rng, (member,), spread=0.5).with_curves({"arm/limb.drive": stepped((0, 0.0))})
        program = Program(scene(member), take)
        limb = program.bounds["arm", "limb"]
        idle = [program.channel_names()[c] for c in limb.systems["ik"].channels]
        stored = {n: take.curves[n].numbers.tobytes() for n in idle if n in take.curves}
        self.assertGreater(len(stored), 5)
        worst = 0.0
        for k in range(1000):
            frame = float(rng.integers(0, 61))
            control = (limb.part.joints[rng.integers(3)], "limb.ik", "limb.guide")[k % 3]
            here = program.evaluate([frame])
            to = here.pos[0, run_of(limb)[0]] + np.array(unit(rng, 3)) * rng.uniform(0.2, 0.6)
            drag = Drag("arm", "limb", control, frame, tuple(to.tolist()), unit(rng, 4))
            values = solve(program, drag).values
            names = program.channel_names()
            from yielding_tether.core.curves import set_value

            program = Program(
                program.scene,
                program.take.with_curves(
                    {names[c]: set_value(program.take.curves.get(names[c], EMPTY), frame, v) for c, v in values.items()}
                ),
            )
            limb = program.bounds["arm", "limb"]
            at = np.array([frame, float(rng.uniform(0, 60))])
            fitted = fit(program, limb, "ik", program.evaluate(at))
            worst = max(worst, float(fitted.position.max()), float(fitted.rotation.max()))
        self.assertLessEqual(worst, 1e-6)
        for name, data in stored.items():
            self.assertEqual(program.take.curves[name].numbers.tobytes(), data)
