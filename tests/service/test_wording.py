"""Small parts of the service: the proof's sentence, the strands' runs, who counts as local, what is remembered."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from tests.core.readings import drive_of
from tests.core.test_handover import demo
from yielding_tether.core.curves import LEAVING
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.operations.handover import Handover, apply
from yielding_tether.core.operations.retether import anchors
from yielding_tether.core.program import Program
from yielding_tether.demo import named
from yielding_tether.service.describe import dials, strands
from yielding_tether.service.guard import is_local
from yielding_tether.service.studio import Recent


class Sentences(unittest.TestCase):
    def test_a_clean_repair_and_a_rough_one_read_differently(self) -> None:
        _, proof = apply(demo(), Handover((("marl", "arm.R"),), "ik", 118.0))
        pop = 1000 * proof.changes[0].pose_before
        self.assertTrue(proof.sentence.startswith(f"Nothing moves at the change (was {pop:.1f} mm); speed passes on;"))
        self.assertIn("outside unchanged", proof.sentence)
        rough = replace(proof, changes=(replace(proof.changes[0], pose=0.012, speed=0.5, reason=""),))
        self.assertIn("Moves 12.0 mm at frame 118", rough.sentence)
        self.assertIn("speed jumps 500.0 mm a frame at frame 118", rough.sentence)
        named = replace(proof, changes=(replace(proof.changes[0], speed=0.5, reason="right arm is straight"),))
        self.assertIn("right arm is straight", named.sentence)

    def test_what_could_give_way_is_told(self) -> None:
        _, proof = apply(demo(), Handover((("marl", "arm.R"),), "ik", 118.0))
        locked = replace(proof, gives={"right arm, carry angle": 0.2}, residual_place=0.004)
        self.assertIn("locked channels leave 4.0 mm: right arm, carry angle could give way", locked.sentence)


class Dials(unittest.TestCase):
    def test_what_is_followed_at_two_places_has_two_names(self) -> None:
        program = Program(*named("Lantern round"))
        snapped = {"to": "marl/hand.R", "after": "snap"}
        after = program.on(run(program, "retether", Asked((("lantern", "lantern"),), 20.0, None, snapped)).take)
        told = [d.anchor for d in dials(after, after.bound("lantern", "lantern"), 30.0)]
        self.assertEqual(told, ["Marl's right hand", "Marl's left hand", "hook", "Marl's right hand 2"])

    def test_no_two_things_that_can_be_followed_read_alike(self) -> None:
        for name in ("Cast off", "Tow strap", "Brindle's trot"):
            program = Program(*named(name))
            offered = anchors(program)
            self.assertEqual(len({said for _, said in offered}), len(offered), name)
        said = dict(offered := anchors(Program(*named("Cast off"))))
        self.assertEqual(said["marl/hand.R"], "Marl, right hand")
        self.assertEqual(said["marl/arm.R.ik"], "Marl, control of the right arm")
        self.assertNotIn(".", "".join(words for _, words in offered))


class Strands(unittest.TestCase):
    def test_runs_say_what_drives_at_every_frame(self) -> None:
        take, _ = apply(demo(), Handover((("marl", "arm.L"),), "fk", 130.0, 160.0))
        program = Program(demo().scene, take)
        for row in strands(program, []):
            limb = program.bounds[row.member, row.part]
            self.assertEqual(row.main, len(limb.keyed_systems) > 1)
            if not row.main:
                self.assertEqual({level for _, level in row.level}, {0.0})
                continue
            want = program.sample(take.frames, LEAVING, np.array([drive_of(limb)]))[0]
            got = [max(r for r in row.level if r[0] <= frame)[1] for frame in take.frames]
            self.assertEqual(got, want.tolist())
            names = [max(r for r in row.states if r[0] <= frame)[1] for frame in take.frames]
            self.assertEqual(names, [list(limb.systems)[int(v)] for v in want])


class Doors(unittest.TestCase):
    def test_only_loopback_is_local(self) -> None:
        for address in ("127.0.0.1:8400", "localhost", "http://localhost:5173", "[::1]:8400"):
            self.assertTrue(is_local(address), address)
        for address in ("", "elsewhere.example", "127.0.0.1.elsewhere.example", "http://elsewhere.example@10.0.0.1"):
            self.assertFalse(is_local(address), address)

    def test_the_recent_ones_are_remembered(self) -> None:
        recent: Recent[int, str] = Recent(2)
        for k in (1, 2, 1, 3):
            recent.made(k, lambda k=k: f"made {k}")  # type: ignore[misc]
        self.assertEqual((recent.get(1), recent.get(2), recent.get(3)), ("made 1", None, "made 3"))
