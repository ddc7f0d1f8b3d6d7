"""The takes of Marl and Pip do what their stories say: a strap between two sizes of body, a coil from hand to hand to bollard."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from yielding_tether.core.contacts import measure_all
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations.retether import Retether
from yielding_tether.core.operations.retether import apply as follow
from yielding_tether.core.program import Program
from yielding_tether.core.transforms import inverse, rotate
from yielding_tether.demo.crate_and_rope import CAUGHT, LANDING, RELEASE, THROWN, crate_and_rope
from yielding_tether.demo.ferry import BOLLARD, LINK, LINKS
from yielding_tether.demo.marl import marl
from yielding_tether.demo.pip import pip
from yielding_tether.demo.posing import steps
from yielding_tether.demo.tow_strap import LEAD, tow_strap


class Two(unittest.TestCase):
    def test_pip_is_of_other_proportions(self) -> None:
        one, two = (m.skeleton for m in (marl(), pip()))
        tall = [float(s.rest_pose[0][s.index["head"], 1]) for s in (one, two)]
        arm = [sum(np.linalg.norm(s.offsets[s.index[f"{j}.L"]]) for j in ("forearm", "hand")) for s in (one, two)]
        self.assertLess(tall[1], 0.8 * tall[0])
        self.assertGreater(arm[1] / tall[1], 1.2 * arm[0] / tall[0])
        self.assertNotIn("collar.L", two.index)
        for bones in (one, two):
            self.assertLess(
                abs(bones.rest_pose[0][bones.index["toe.L"], 1] - bones.rest_pose[0][bones.index["toe.R"], 1]), 1e-12
            )

    def test_feet_follow_the_root_the_body_centre_or_the_hips_as_chosen(self) -> None:
        """Moving the centre leaves feet that follow the root or the world; moving the root carries all but those of the world."""
        rest = Program(tow_strap()[0], replace(tow_strap()[1], curves={}, tethers=(), contacts=()))
        drive = {f"pip/leg.{x}.drive": steps((0, 1.0)) for x in "LR"}
        lifted = {"root": steps((0, 0.0), (20, 0.1)), "hips": steps((0, 0.0), (20, -0.03))}
        for follows in ("world", "pip/root", "pip/hips"):
            asked = Retether((("pip", "leg.L"), ("pip", "leg.R")), follows, 0.0)
            tied = Program(rest.scene, follow(rest.with_curves(drive), asked)[0])
            for moved, curve in lifted.items():
                poses = tied.with_curves({f"pip/{moved}.ty": curve}).evaluate([0.0, 30.0])
                gone = {
                    j: float(np.ptp(poses.pos[:, tied.nodes["pip", j]], axis=0).max())
                    for j in ("foot.L", "foot.R", "chest")
                }
                along = follows == "pip/hips" or (follows == "pip/root" and moved == "root")
                self.assertAlmostEqual(gone["chest"], abs(0.1 if moved == "root" else -0.03), 9)
                if along or moved == "hips":
                    self.assertAlmostEqual(gone["foot.L"], gone["chest"] if along else 0.0, 9, (follows, moved))

    def test_only_what_is_planted_is_found(self) -> None:
        for made, planted in (
            (tow_strap, [("overfull", "hips", 40.0), ("pop", "arm.L", float(LEAD))]),
            (crate_and_rope, [("unused", "crate", 0.0), ("pop", "rope", float(CAUGHT))]),
        ):
            found = [(f.kind, f.part, f.frame) for f in find_all(Program(*made())) if f.kind != "reach"]
            self.assertEqual(found, planted)

    def test_feet_stand(self) -> None:
        for made in (tow_strap, crate_and_rope):
            program = Program(*made())
            for contact, slip in zip(program.take.contacts, measure_all(program, program.take.contacts), strict=True):
                self.assertLess(slip.place.max(), 0.002, contact)

    def test_the_strap_hangs_between_two_hands_and_keeps_its_length(self) -> None:
        program = Program(*tow_strap())
        frames = program.take.frames[program.take.frames != LEAD]
        poses = program.evaluate(frames)
        at = {n: poses.pos[:, program.nodes[n]] for n in (("marl", "hand.R"), ("pip", "hand.L"), ("strap", "strap"))}
        links = np.stack([poses.pos[:, program.nodes["strap", f"link{k}"]] for k in range(LINKS + 1)])
        np.testing.assert_allclose(np.linalg.norm(np.diff(links, axis=0), axis=-1), LINK, atol=1e-9)
        self.assertLess(np.linalg.norm(at["marl", "hand.R"] - at["strap", "strap"], axis=1).max(), 0.075)
        off = np.linalg.norm(at["pip", "hand.L"] - links[-1], axis=1)
        self.assertLess(off[frames < LEAD].max(), 0.075)
        self.assertLess(off[frames > LEAD + 12].max(), 0.08)

    def test_the_coil_flies_from_hand_to_hand_and_over_the_bollard(self) -> None:
        program = Program(*crate_and_rope())
        coil = program.nodes["rope", "rope"]
        for first, last in ((THROWN, CAUGHT), (RELEASE, LANDING)):
            path = program.evaluate(np.arange(first, last + 0.0)).pos[:, coil]
            np.testing.assert_allclose(np.diff(path, 2, axis=0)[:, 1], -9.81 / 24**2, atol=2e-5)
        held = program.evaluate(np.arange(CAUGHT + 12.0, RELEASE))
        hand = program.nodes["pip", "hand.R"]
        place = rotate(inverse(held.rot[:, hand]), held.pos[:, coil] - held.pos[:, hand])
        self.assertLess(np.ptp(place, axis=0).max(), 1e-9)
        end = program.evaluate([float(program.take.last)]).pos[0, coil]
        self.assertLess(np.linalg.norm(end[[0, 2]] - np.array(BOLLARD)[[0, 2]]), 1e-6)


if __name__ == "__main__":
    unittest.main()
