"""Holds of hands and feet: no slip and no turn on what they stand on, between frames too; eased after; nothing else moves."""

from __future__ import annotations

import re
import unittest
from dataclasses import replace

import numpy as np

from yielding_tether.core.curves import ARRIVING, LEAVING, insert, put
from yielding_tether.core.errors import CoreError
from yielding_tether.core.operations import OPERATIONS, Asked, run
from yielding_tether.core.operations.plant import Plant, apply
from yielding_tether.core.program import Program
from yielding_tether.core.proof import prove, switch_times
from yielding_tether.core.transforms import inverse, multiply, rotate, rotation_distance
from yielding_tether.demo.lantern_round import lantern_round

from .faults import straying
from .test_bake import crossing
from .test_findings import clean


def slip(
    program: Program, part: tuple[str, str], joint: str, on: str, first: float, last: float
) -> tuple[float, float]:
    """Metres and radians by which a joint leaves its place on something, at quarter-frames."""
    at = np.append(np.arange(first, last, 0.25), last)
    side = np.where(at == last, ARRIVING, LEAVING)
    poses = program.evaluate(at, side)
    node = program.nodes[part[0], joint]
    pos, rot = poses.pos[:, node], poses.rot[:, node]
    if on != "world":
        base = program.nodes[tuple(on.split("/"))]
        back = inverse(poses.rot[:, base])
        pos, rot = rotate(back, pos - poses.pos[:, base]), multiply(back, rot)
    return float(np.linalg.norm(pos - pos[0], axis=1).max()), float(rotation_distance(rot, rot[:1]).max())


def _free(program: Program, part: tuple[str, str], first: float) -> bool:
    """Whether what drives a part, and what it follows, stays the same just before a frame: there it can be led to a hold."""
    return not [t for t in switch_times(program, program.bounds[part]) if first - 1.0 < t <= first]


class Holds(unittest.TestCase):
    def check(self, program: Program, part: tuple[str, str], joint: str, on: str, first: float, last: float) -> None:
        take, proof = apply(program, Plant((part,), on, first, last, 6.0))
        after = program.on(take)
        place, turn = slip(after, part, joint, on, first, last)
        self.assertLess(place, 1e-4)
        self.assertLess(turn, np.radians(0.01))
        before = slip(program, part, joint, on, first, last)
        (held,) = (c for c in proof.contacts if (c.member, c.part, c.first, c.last) == (*part, first, last))
        np.testing.assert_allclose([held.place, held.turn], [place, turn], atol=1e-9)
        np.testing.assert_allclose([held.place_before, held.turn_before], before, atol=1e-9)
        planted = f"slips 0 mm and 0.00°, from frame {first:g} to {last:g}"
        self.assertRegex(proof.sentence, re.escape(planted) + r"(, and sinks [\d.]+ mm into it)? \(was ")
        at = np.arange(0, 2 * program.take.last + 1) / 2.0
        a, b = program.evaluate(at), after.evaluate(at)
        off = np.linalg.norm(a.pos[:, program.joints()[1]] - b.pos[:, after.joints()[1]], axis=-1).max(axis=1)
        outside = (at < first - 3.0) | (at >= min(last + 6.0, program.take.last + 1.0))
        self.assertLess(float(off[outside].max(initial=0.0)), 1e-9)
        self.assertTrue(proof.unchanged_outside)
        # Planted again, or within it, it is that way already.
        for a, b in ((first, last), (first + 3.0, last - 3.0)):
            with self.assertRaisesRegex(CoreError, "changes nothing"):
                apply(after, Plant((part,), on, a, b, 6.0))
        # Nothing jumps where the hold begins and ends, nor where it has faded.
        for t in (first, last, last + 6.0):
            if t <= program.take.last:
                x, y = (after.evaluate([t], side).pos[0, after.bounds[part].nodes] for side in (ARRIVING, LEAVING))
                self.assertLess(float(np.abs(x - y).max()), 1e-6, t)
        # Nor does the speed: outside it comes, and goes, with that of what it stands on.
        node = after.nodes[part[0], joint]
        for t, steps in ((first, (-1e-3, -2e-3)), (last, (1e-3, 2e-3))):
            if program.take.first < t < program.take.last and (t == last or _free(program, part, first)):
                side = ARRIVING if t == first else LEAVING
                now, one, two = (after.evaluate([t + h], side).pos[0, node] for h in (0.0, *steps))
                held = after.evaluate([t - steps[0]]).pos[0, node] - now
                self.assertLess(float(np.abs(-(4.0 * one - 3.0 * now - two) / 2.0 - held).max()), 5e-7, t)

    def test_a_captured_foot_stands(self) -> None:
        program = crossing()
        self.check(program, ("body", "leg.L"), "foot.L", "world", 20.0, 50.0)
        self.check(program, ("body", "leg.R"), "foot.R", "world", 80.0, 96.0)
        self.check(program, ("body", "leg.L"), "foot.L", "world", 100.0, 120.0)

    def test_a_hand_holds_the_rail_of_a_rocking_deck(self) -> None:
        program = clean(0)
        self.check(straying(program, 140.0, tx=0.005), ("marl", "arm.R"), "hand.R", "rail/rail", 120.0, 160.0)
        self.check(program, ("marl", "leg.R"), "foot.R", "deck/deck", 90.0, 100.0)
        # From where another system hands over on.
        self.check(straying(clean(1), 130.0, tx=0.002), ("marl", "arm.R"), "hand.R", "rail/rail", 104.0, 160.0)
        # The demo has planted the left one.
        with self.assertRaisesRegex(CoreError, "planted there already"):
            apply(program, Plant((("marl", "arm.L"),), "rail/rail", 108.0, 204.0))

    def test_what_slips_more_and_turns_less_is_told_once(self) -> None:
        turns, slips = straying(clean(1), 140.0, ry=0.01), straying(clean(1), 120.0, tx=0.003)
        proof = prove("pose", turns, slips, 104.0, 160.0)
        (held,) = (c for c in proof.contacts if c.part == "arm.R")
        self.assertTrue(held.better and not held.kept)
        self.assertEqual(proof.sentence.count("right arm on the rail slips"), 1)

    def test_where_it_jumps_as_it_takes_hold_it_holds_what_leaves(self) -> None:
        """Once a hand whose change was spread over the first frames of its hold was planted 170 mm beside the rail."""
        program = straying(Program(*lantern_round()), 130.0, tx=0.002)
        take, proof = apply(program, Plant((("marl", "arm.R"),), "rail/rail", 104.0, 160.0))
        self.assertTrue(proof.contacts_kept and not proof.notes, proof.sentence)
        self.assertLess(slip(program.on(take), ("marl", "arm.R"), "hand.R", "rail/rail", 104.0, 160.0)[0], 1e-9)
        at, node = np.arange(108.0, 160.0, 0.25), program.nodes["marl", "forearm.R"]
        off = program.on(take).evaluate(at).pos[:, node] - program.evaluate(at).pos[:, node]
        self.assertLess(float(np.linalg.norm(off, axis=1).max()), 5e-3)

    def test_what_was_eased_fades(self) -> None:
        program = crossing()
        take, _ = apply(program, Plant((("body", "leg.L"),), "world", 20.0, 50.0, 8.0))
        at = np.arange(50.0, 58.25, 0.25)
        node = program.nodes["body", "foot.L"]
        off = np.linalg.norm(program.evaluate(at).pos[:, node] - program.on(take).evaluate(at).pos[:, node], axis=1)
        self.assertGreater(float(off[0]), 1e-3)
        self.assertTrue(np.all(np.diff(off[off.argmax() :]) <= 1e-4))
        self.assertLess(float(off.max()), 2.5 * float(off[0]))
        self.assertLess(float(off[-1]), 1e-6)

    def test_a_locked_key_where_it_fades_is_refused(self) -> None:
        program = clean(0)
        names = program.channel_names()
        name = names[program.bounds["marl", "leg.R"].controls["leg.R.ik"].channels[0]]
        kept = insert(program.curve(program.channels[name]), 103.0, 0.0)
        locked = program.with_curves({name: put(kept, [kept.key(kept.find(103.0) or 0)._replace(lock=1)])})
        # Where the foot stands again at once there is no time to fade.
        locked = locked.on(replace(locked.take, contacts=()))
        with self.assertRaisesRegex(CoreError, "at frame 103 is locked: unlock it"):
            apply(locked, Plant((("marl", "leg.R"),), "deck/deck", 90.0, 100.0, 6.0))

    def test_a_place_out_of_reach_is_told(self) -> None:
        asked = Plant((("body", "arm.L"),), "world", 30.0, 60.0, gives="nothing")
        _, proof = apply(crossing(), asked)
        self.assertIn("does not reach its place", proof.sentence)

    def test_what_cannot_be_done_says_so(self) -> None:
        program = crossing()
        for asked, words in (
            (Plant((("body", "spine"),), "world", 10.0, 20.0), "no control that can hold on"),
            (Plant((("body", "leg.L"),), "world", 10.0, 10.0), "last frame after its first"),
            (Plant((("body", "leg.L"),), "body/foot.L", 10.0, 20.0), "follow one another in a loop"),
            (Plant((("body", "leg.L"),), "moon", 10.0, 20.0), "can be stood on"),
        ):
            with self.assertRaisesRegex(CoreError, words):
                apply(program, asked)

    def test_it_is_offered_for_limbs_and_suggests_what_they_stand_on(self) -> None:
        program = clean(0)
        plant = OPERATIONS["plant"]
        able = [b.part.name for b in program.bounds.values() if plant.offered_for(b)]
        self.assertEqual(sorted(able), ["arm.L", "arm.R", "fingers.L", "fingers.R", "leg.L", "leg.R"])
        self.assertEqual(plant.suggest(program, (("marl", "leg.R"),), 90.0, 100.0, {}), {"on": "deck/deck"})
        outcome = run(program, "plant", Asked((("marl", "leg.R"),), 90.0, 100.0, {"on": "deck/deck"}))
        self.assertEqual(outcome.label, "Plant right leg on Deck, frames 90 to 100")


if __name__ == "__main__":
    unittest.main()
