"""Hands: each finger by its tip, along with the hand or on a thing, and back joint by joint."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from yielding_tether.core.clips import slots
from yielding_tether.core.contact_finding import find
from yielding_tether.core.curves import LINEAR, Curve, Key, put
from yielding_tether.core.errors import CoreError
from yielding_tether.core.operations import OPERATIONS, run
from yielding_tether.core.operations.bake import Bake
from yielding_tether.core.operations.bake import apply as bake
from yielding_tether.core.operations.handover import Handover
from yielding_tether.core.operations.handover import apply as hand_over
from yielding_tether.core.operations.operation import Asked
from yielding_tether.core.operations.pose import Drag
from yielding_tether.core.operations.pose import apply as pose
from yielding_tether.core.parts import Finger, HandPart
from yielding_tether.core.program import Poses, Program
from yielding_tether.core.takes import Contact
from yielding_tether.core.transforms import inverse, multiply, rotate, rotation_distance
from yielding_tether.demo.lantern_round import lantern_round
from yielding_tether.demo.marl import marl

from .test_handover import demo
from .worlds import stepped

HAND = ("marl", "fingers.L")


def passing(axis: str, way: float) -> Program:
    """The left hand, its arm placed by IK, passes along or over the rail at 2.5 mm a frame, from frame 120 to 180."""
    program = demo()
    name = f"marl/arm.L.ik.{axis}"
    old = program.take.curves[name]
    here = float(old.all_keys()[-1].leaving)
    ends = [(120.0, here - 0.05 * way), (180.0, here + 0.1 * way)]
    return program.with_curves({name: put(old, [Key(t, v, v, kind=LINEAR) for t, v in ends])})


def strays(program: Program, joint: str, first: float, last: float) -> tuple[float, float]:
    """Metres and radians by which a joint leaves its place in the rail, at quarter-frames."""
    at = np.append(np.arange(first, last, 0.25), last)
    pos, rot = program.track(
        at, (at == last).astype(np.int64), [program.nodes["rail", "rail"], program.nodes["marl", joint]]
    )
    back = inverse(rot[:, 0])
    place, turn = rotate(back, pos[:, 1] - pos[:, 0]), multiply(back, rot[:, 1])
    return float(np.linalg.norm(place - place[0], axis=1).max()), float(rotation_distance(turn, turn[:1]).max())


class Tips(unittest.TestCase):
    TIPS = ("finger1.tip.L", "finger2.tip.L", "finger3.tip.L")

    def test_fingertips_are_planted_each_by_itself_and_stay_while_the_hand_moves_on(self) -> None:
        program = passing("tz", 1.0)
        for of, held in (("finger2.tip.L.ik", self.TIPS[1:2]), ("", self.TIPS)):
            done = run(program, "plant", Asked((HAND,), 140.0, 150.0, {"on": "rail/rail", "of": of}))
            now = program.on(done.take)
            for joint in self.TIPS:
                self.assertGreater(strays(program, joint, 140.0, 150.0)[0], 0.02)
                place, turn = strays(now, joint, 140.0, 150.0)
                self.assertEqual(place < 1e-9 and turn < 1e-9, joint in held, (of, joint))
                there = [(c.first, c.last, c.anchor) for c in done.take.contacts if c.joint == joint]
                self.assertEqual(there, [(140.0, 150.0, "rail")] if joint in held else [])
            self.assertRegex(
                done.proof.sentence,
                r"Marl's left finger \d tip on the rail slips 0 mm and 0.00°, from frame 140 to 150",
            )
            self.assertTrue(done.proof.unchanged_outside)
            at = np.concatenate([np.arange(0.0, 137.25, 0.25), np.arange(156.0, 204.0, 0.25)])
            joints = program.joints()[1]
            was, new = (p.evaluate(at).pos[:, joints] for p in (program, now))
            # Between the keys on every frame that IK is handed over with, FK and IK go their own ways by next to nothing.
            np.testing.assert_allclose(new, was, atol=1e-6)
        # They keep their places in few keys too.
        take, proof = bake(now, Bake((HAND,), "ik", 130.0, 165.0))
        for joint in self.TIPS:
            self.assertLess(strays(now.on(take), joint, 140.0, 150.0)[0], 1e-4)
        self.assertTrue(proof.contacts_kept, proof.sentence)

    def test_they_are_found_where_the_palm_neither_stands_nor_holds(self) -> None:
        self.assertEqual(find(demo(), [HAND]), [])
        for axis, way in (("tz", 1.0), ("ty", -1.0)):
            program = passing(axis, way)
            done = run(program, "plant", Asked((HAND,), 140.0, 150.0, {"on": "rail/rail"}))
            bare = program.on(replace(done.take, first=121, last=179, contacts=()))
            found = [c for c in find(bare) if c.joint in self.TIPS or c.joint == "hand.L"]
            self.assertEqual(sorted(c.joint for c in found), list(self.TIPS))
            for c in found:
                self.assertLessEqual(max(abs(c.first - 140.0), abs(c.last - 150.0)), 2.0, c)

    def test_what_they_are_planted_on_is_what_their_hand_holds_until_they_have_contacts(self) -> None:
        suggest = OPERATIONS["plant"].suggest
        self.assertEqual(suggest(demo(), (HAND,), 130.0, 180.0, {}), {"on": "rail/rail"})
        deck = demo().on(replace(demo().take, contacts=(Contact("marl", "thumb.tip.L", "deck", "deck", 120.0, 150.0),)))
        self.assertEqual(suggest(deck, (HAND,), 130.0, 180.0, {}), {"on": "deck/deck"})

    def test_what_they_can_not_hold_is_told(self) -> None:
        # The hand rises by more than fingers reach: told once, by the farthest of them.
        done = run(program := passing("ty", 1.0), "plant", Asked((HAND,), 140.0, 150.0, {"on": "rail/rail"}))
        (told,) = (n for n in done.proof.notes if "does not reach" in n)
        farthest = 1000.0 * max(strays(program.on(done.take), j, 140.0, 150.0)[0] for j in (*self.TIPS, "thumb.tip.L"))
        self.assertAlmostEqual(float(told.split(" mm")[0].rpartition(" ")[2]), farthest, delta=0.1)
        with self.assertRaisesRegex(CoreError, "left hand has no end 'thumb': it has thumb.tip.L.ik, finger1.tip.L.ik"):
            run(demo(), "plant", Asked((HAND,), 130.0, 180.0, {"on": "rail/rail", "of": "thumb"}))


class Hand(unittest.TestCase):
    def test_a_fingertip_stays_on_the_rail_while_the_hand_shifts(self) -> None:
        program = demo()
        for keys in ("few", "every"):
            take, proof = hand_over(program, Handover((HAND,), "ik", 120.0, 190.0, keys=keys))  # type: ignore[arg-type]
            self.assertTrue(proof.clean and proof.within, proof.sentence)
        on = OPERATIONS["retether"].run(
            program.on(take), Asked((HAND,), 130.0, 180.0, {"to": "rail/rail", "control": "finger1.tip.L.ik"})
        )
        self.assertTrue(on.proof.clean, on.proof.sentence)
        self.assertIn("Tip of finger 1 of the left hand follows Rail", on.label)
        held = program.on(on.take)
        # The hand goes elsewhere: the tip stays on the rail, the other fingers go along with the hand.
        name = "marl/arm.L.ik.tx"
        old = held.take.curves[name]
        moved = held.with_curves({name: Curve(old.numbers + [0.0, 0.004, 0.004, 0.0, 0.0], old.marks)})
        at = np.arange(281.0, 360.0) / 2.0
        seen = {}
        for which, of in (("was", held), ("is", moved)):
            poses = of.evaluate(at)

            def there(joint: str, below: tuple[str, str], poses: Poses = poses, of: Program = of) -> np.ndarray:
                n, m = of.nodes["marl", joint], of.nodes[below]
                back = inverse(poses.rot[:, m])
                return np.concatenate(
                    [rotate(back, poses.pos[:, n] - poses.pos[:, m]), np.abs(multiply(back, poses.rot[:, n]))], axis=1
                )

            seen[which] = [
                there("finger1.tip.L", ("rail", "rail")), there("finger2.tip.L", ("marl", "hand.L")),
                there("hand.L", ("rail", "rail")),
            ]  # fmt: skip
        tip, other, hand = (np.abs(a - b)[:, :3].max(axis=1) for a, b in zip(*seen.values(), strict=True))
        self.assertLess(float(tip.max()), 1e-9)
        self.assertLess(float(other.max()), 1e-9)
        self.assertGreater(float(hand.min()), 3.9e-3)
        np.testing.assert_allclose(seen["was"][0][:, 3:], seen["is"][0][:, 3:], atol=1e-9)

    def test_a_tip_is_dragged_and_the_palm_cupped_beneath_it(self) -> None:
        program = demo()
        take, _ = hand_over(program, Handover((HAND,), "ik", 120.0))
        program = program.on(take)
        tip = program.nodes["marl", "finger3.tip.L"]
        before = program.evaluate([150.0]).pos[0, tip]
        to = before + [0.0, 0.003, 0.002]
        x, y, z = to.tolist()
        posed, _ = pose(program, Drag("marl", "fingers.L", "finger3.tip.L.ik", 150.0, (x, y, z)))
        after = program.on(posed)
        np.testing.assert_allclose(after.evaluate([150.0]).pos[0, tip], to, atol=1e-9)
        # What cups the palm leaves the tips where they are.
        cupped = after.with_curves({"marl/fingers.L.palm.L.rz": stepped((0.0, 0.1))})
        palm = after.nodes["marl", "palm.L"]
        one, two = (p.evaluate([150.0]) for p in (after, cupped))
        self.assertGreater(float(rotation_distance(one.rot[0, palm], two.rot[0, palm])), 0.05)
        np.testing.assert_allclose(two.pos[0, tip], to, atol=1e-9)

    def test_within_a_tolerance_the_keys_of_what_carries_the_hand_are_not_needed(self) -> None:
        program = Program(*lantern_round())
        first, last = 5.0, 95.0
        at = np.arange(2.0 * first, 2.0 * last) / 2.0
        nodes = program.joints()[1]
        for name in ("fingers.L", "fingers.R"):
            bound = program.bound("marl", name)
            arm = program.key_times(program.sources([int(bound.outer[0])]))
            arm = arm[(arm > first) & (arm < last)]
            added = {}
            for keys in ("kept", "within"):
                take, proof = hand_over(program, Handover((bound.id,), "ik", first, last, keys=keys))  # type: ignore[arg-type]
                self.assertTrue(proof.clean, proof.sentence)
                added[keys] = proof.keys.added
                a, b = program.evaluate(at), program.on(take).evaluate(at)
                off = np.linalg.norm(a.pos[:, nodes] - b.pos[:, nodes], axis=-1).max()
                if keys == "within":
                    self.assertLess(off, 1e-3 + 1e-9)
                else:
                    # Kept keys are those of its parents too.
                    times = program.on(take).key_times({int(c) for c in bound.systems["ik"].channels})
                    self.assertLessEqual(set(arm.tolist()), set(times.tolist()))
            self.assertGreater(len(arm), 10)
            self.assertLess(added["within"], 0.5 * added["kept"])
        # A tip that follows the world is not carried: where the arm moves the finger moves in the hand.
        held = OPERATIONS["retether"].run(
            program.on(take), Asked((bound.id,), first, last, {"to": "world", "control": "finger1.tip.R.ik"})
        )
        back, proof = hand_over(program.on(held.take), Handover((bound.id,), "fk", first, last, keys="within"))
        self.assertTrue(proof.clean, proof.sentence)
        times = program.on(back).key_times({int(c) for c in bound.systems["fk"].channels})
        self.assertLessEqual(set(arm.tolist()), set(times.tolist()))

    def test_every_channel_of_a_clip_is_told_apart(self) -> None:
        program = demo()
        bound = program.bound(*HAND)
        self.assertEqual(len(slots(program, bound)), len(bound.own))

    def test_a_bake_moves_each_finger_along_with_where_it_begins(self) -> None:
        """Of arms baked within a tolerance the fingers are no farther off than that, and need no key on every frame."""
        program = Program(*lantern_round())
        parts = (("marl", "arm.R"), ("marl", "fingers.R"))
        take, proof = bake(program, Bake(parts, "ik", 20.0, 150.0))
        self.assertTrue(proof.within, proof.sentence)
        self.assertLess(proof.keys.added, 1200)
        self.assertIsNotNone(take)


class Unfit(unittest.TestCase):
    def test_hands_that_cannot_be_are_refused(self) -> None:
        bones = marl().skeleton
        hand = next(p for p in marl().parts if isinstance(p, HandPart))
        for fingers, why in (
            ((), "needs fingers"), ((Finger((1, 2, 3), (0, 0, 1)), Finger((3, 4, 5), (0, 0, 1))), "needs fingers"),
            ((Finger((1, 3, 2), (0.0, 0.0, 1.0)),), "hang one from the next"),
        ):  # fmt: skip
            part = HandPart(hand.name, hand.label, hand.joints, hand.orders, hand.moves, "left", fingers=fingers)
            with self.assertRaisesRegex(CoreError, why):
                part.check(bones)
