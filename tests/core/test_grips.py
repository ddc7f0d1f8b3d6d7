"""Grips: what is snapped to a hand lies in its palm, a hand that is snapped to something lies on its grip."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np
from scipy.spatial.transform import Rotation

from yielding_tether.core.cast import Grip
from yielding_tether.core.curves import ARRIVING, EMPTY, LEAVING, Key, automatic_slopes, put
from yielding_tether.core.errors import CoreError
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations import OPERATIONS, Asked, run
from yielding_tether.core.operations.handover import Handover
from yielding_tether.core.operations.handover import apply as hand_over
from yielding_tether.core.operations.operation import Parts, Value
from yielding_tether.core.operations.retether import Retether, apply
from yielding_tether.core.program import Program
from yielding_tether.core.takes import WORLD, Contact
from yielding_tether.core.transforms import Floats
from yielding_tether.demo.crate_and_rope import crate_and_rope
from yielding_tether.demo.lantern_round import lantern_round

from .worlds import stepped


def grip(program: Program, member: str, name: str, joint: str | None = None) -> tuple[Grip, int]:
    grips = program.scene.member(member).grips
    found = next(g for g in grips if g.name == name and joint in (None, g.joint))
    return found, program.nodes[member, found.joint]


def placed(program: Program, one: tuple[Grip, int], at: float, size: float = 1.0) -> tuple[Floats, Rotation]:
    """Where a grip is in the world, and how it is turned."""
    what, node = one
    pose = program.evaluate([at])
    turn = Rotation.from_quat(pose.rot[0, node])
    return pose.pos[0, node] + size * turn.apply(what.position), turn * Rotation.from_quat(what.rotation)


class Snapped(unittest.TestCase):
    def lie(self, program: Program, a: tuple[Grip, int], b: tuple[Grip, int], at: float, *sizes: float) -> None:
        (p, q), (r, s) = placed(program, a, at, *sizes[:1]), placed(program, b, at, *sizes[1:])
        self.assertLess(np.abs(p - r).max(), 1e-9)
        self.assertLess((q.inv() * s).magnitude(), 1e-7)

    def test_a_lantern_lies_in_the_palm_of_either_hand_and_hangs_on_the_hook(self) -> None:
        program = Program(*lantern_round())
        for to, holder in (("marl/hand.L", "palm"), ("marl/hand.R", "palm"), ("hook/hook", "hook")):
            whose, joint = to.split("/")
            for last in (None, 60.0):
                asked = Retether((("lantern", "lantern"),), to, 20.0, last, "snap")
                take, proof = apply(program, asked)
                after = program.on(take)
                for at in (20.0, 41.5, 59.0):
                    self.lie(after, grip(after, "lantern", "handle"), grip(after, whose, holder, joint), at)
                self.assertTrue(proof.unchanged_outside)
                # It jumps there because that was asked for.
                self.assertFalse([f for f in find_all(after) if (f.part, f.frame) == ("lantern", 20.0)])
                frames = np.arange(20.0 if last is None else 0.0, 20.0)
                a, b = (p.evaluate(frames).pos for p in (program, after))
                self.assertLess(np.abs(a[:, program.joints()[1]] - b[:, after.joints()[1]]).max(initial=0.0), 1e-12)

    def test_a_hand_takes_the_nearest_grip_of_a_crate_whatever_their_sizes(self) -> None:
        program = Program(*crate_and_rope())
        program = program.on(hand_over(program, Handover((("marl", "arm.L"),), "ik", 30.0))[0])
        sizes = {"crate/crate.size": stepped((0, 0.6)), "marl/hips.size": stepped((0, 1.3))}
        for grown, (one, two) in ((program, (1.0, 1.0)), (program.with_curves(sizes), (1.3, 0.6))):
            take, _ = apply(
                grown, Retether((("marl", "arm.L"),), "crate/crate", 40.0, None, "snap", control="arm.L.ik")
            )
            after = grown.on(take)
            palm = grip(after, "marl", "palm", "hand.L")[0]
            control = palm, after.bounds["marl", "arm.L"].controls["arm.L.ik"].node
            here = placed(grown, grip(grown, "marl", "palm", "hand.L"), 40.0, one)[0]
            there = [grip(grown, "crate", n) for n in ("left rope", "right rope")]
            nearest = min(there, key=lambda g: float(np.linalg.norm(placed(grown, g, 40.0, two)[0] - here)))
            self.lie(after, control, (nearest[0], after.nodes["crate", "crate"]), 55.0, one, two)

    def test_a_hand_reaches_for_what_it_takes_hold_of(self) -> None:
        """It is there on the frame, in place and speed, whatever drives until then, and comes back; farther away nothing moves."""
        whole = Program(*crate_and_rope())
        last = float(whole.take.last)
        for end, reach, over in ((None, 12.0, 0.0), (70.0, 9.0, 0.0), (70.0, 0.0, 0.0), (70.0, 11.0, 40.0)):
            program = whole.on(hand_over(whole, Handover((("marl", "arm.L"),), "ik", over))[0])
            asked = Retether((("marl", "arm.L"),), "crate/crate", 40.0, end, "snap", control="arm.L.ik", reach=reach)
            take, proof = apply(program, asked)
            after = program.on(take)
            hand = [after.nodes["marl", "hand.L"]]
            jumps, speeds = [], []
            for at in (40.0, *([70.0] if end else [])):
                a, b = (after.evaluate([at], side).pos[0, hand[0]] for side in (ARRIVING, LEAVING))
                jumps.append(float(np.linalg.norm(a - b)))
                h = 1e-4
                before, behind = (
                    after.evaluate([at - h, at + h], side).pos[:, hand[0]] for side in (LEAVING, ARRIVING)
                )
                speeds.append(float(np.linalg.norm((b - behind[1]) + (a - before[0])) / h))
            if not reach:
                self.assertGreater(min(jumps), 0.02)
                continue
            self.assertLess(max(jumps), 1e-6)
            self.assertLess(max(speeds), 1e-3)
            away = np.array(
                [t for t in np.arange(0.0, last + 0.5, 0.5) if t < 40.0 - reach or (end and t > end + reach)]
            )
            a, b = (p.evaluate(away).pos[:, p.joints()[1]] for p in (program, after))
            self.assertLess(np.abs(a - b).max(), 1e-12)
            moved = np.linalg.norm((program.evaluate([38.0]).pos - after.evaluate([38.0]).pos)[0, hand[0]])
            self.assertGreater(moved, 0.01)
            self.assertTrue(proof.unchanged_outside)
            if over:
                continue
            # No key more on the way there than at its edge.
            old, new = (set(c.times[(c.times >= 40.0 - reach) & (c.times < 40.0)]) for c in (
                p.take.curves["marl/arm.L.ik.tx"] for p in (program, after)
            ))  # fmt: skip
            self.assertLessEqual(new - old, {40.0 - reach})
            # Its control lies on the nearer grip, wherever an arm reaches.
            palm, control = (
                grip(after, "marl", "palm", "hand.L")[0],
                after.bounds["marl", "arm.L"].controls["arm.L.ik"].node,
            )
            spots = [grip(after, "crate", n) for n in ("left rope", "right rope")]
            places = [placed(after, one, 40.0)[0] for one in ((palm, control), *spots)]
            self.assertLess(min(np.linalg.norm(places[0] - p) for p in places[1:]), 1e-9)

    def test_a_hand_that_still_holds_something_reaches_from_where_it_lets_go(self) -> None:
        program = Program(*crate_and_rope())
        program = program.on(hand_over(program, Handover((("marl", "arm.L"),), "ik", 0.0))[0])
        hand = [program.nodes["marl", "hand.L"]]
        for spans, still in ((((20.0, 36.0),), 36.0), (((20.0, 50.0),), 39.9), (((20.0, 36.0), (78.0, 90.0)), 36.0)):
            contacts = tuple(Contact("marl", "hand.L", WORLD, WORLD, a, b) for a, b in spans)
            held = program.on(replace(program.take, contacts=contacts))
            asked = Retether((("marl", "arm.L"),), "crate/crate", 40.0, 70.0, "snap", control="arm.L.ik", reach=15.0)
            after = held.on(apply(held, asked)[0])
            at = np.append(np.arange(20.0, still), np.arange(78.0 if len(spans) > 1 else 85.0, 90.0))
            a, b = (p.evaluate(at).pos[:, hand] for p in (held, after))
            self.assertLess(np.abs(a - b).max(), 1e-9)

    def test_two_hands_reach_each_from_its_own_frame(self) -> None:
        """One that holds something until just before leaves the other its whole way, and stays until then to the last bit of it."""
        program = Program(*crate_and_rope())
        arms = (("marl", "arm.L"), ("marl", "arm.R"))
        program = program.on(hand_over(program, Handover(arms, "ik", 0.0))[0])
        held = program.on(replace(program.take, contacts=(Contact("marl", "hand.L", WORLD, WORLD, 20.0, 37.0),)))
        after = held.on(apply(held, Retether(arms, "crate/crate", 40.5, None, "snap", reach=14.0))[0])
        at = np.arange(20.0, 37.25, 0.25)
        left, right = (held.nodes["marl", f"hand.{s}"] for s in "LR")
        a, b = (p.evaluate(at) for p in (held, after))
        off = np.linalg.norm(a.pos - b.pos, axis=-1)
        self.assertLess(off[:, left].max(), 1e-12)
        self.assertLess(off[at <= 26.5, right].max(), 1e-12)
        self.assertGreater(off[-1, right], 0.01)
        for hand in (left, right):
            one, two = (after.evaluate([40.5], side).pos[0, hand] for side in (ARRIVING, LEAVING))
            self.assertLess(np.abs(one - two).max(), 1e-6)

    def test_what_is_followed_again_is_followed_by_the_same_tether(self) -> None:
        """A prop that rides along is tied as it is there the first time; then its keys say where it is in what it follows again."""
        program, part = Program(*lantern_round()), (("lantern", "lantern"),)
        follow = OPERATIONS["retether"]
        tethers = program.take.tethers
        for to, tied, more in (("marl/hand.L", "rest", 0), ("deck/deck", "here", 1)):
            made: dict[str, Value] = {"to": to}
            choices = made | follow.suggest(program, part, 20.0, 60.0, made)
            self.assertEqual((choices["after"], choices["offset"]), ("ride", tied))
            after = program.on(run(program, "retether", Asked(part, 20.0, 60.0, choices)).take)
            self.assertEqual(len(after.take.tethers) - len(tethers), more)
            a, b = (after.evaluate([20.0], side).pos for side in (ARRIVING, LEAVING))
            self.assertLess(np.abs(a - b)[0, after.nodes["lantern", "lantern"]].max(), 1e-9)

    def test_a_lantern_passed_on_is_mended_in_one_go_where_the_hand_that_gave_it_moves(self) -> None:
        """From nothing but hips and feet: it lies in the right hand, the left reaches for it and takes it over. Then the right
        hand's keys change: what jumps is told, and one repair of all leaves nothing, though each hangs from another."""
        program = Program(*lantern_round())
        lantern, arms = (("lantern", "lantern"),), (("marl", "arm.L"), ("marl", "arm.R"))

        def done(operation: str, parts: Parts, at: float, **choices: Value) -> None:
            nonlocal program
            program = program.on(run(program, operation, Asked(parts, at, None, choices)).take)

        def posed(at: float, *values: float) -> None:
            """The right hand, by six values of its control, at a frame."""
            nonlocal program
            keys = {
                f"marl/arm.R.ik.{c}": (at, x) for c, x in zip(("tx", "ty", "tz", "ry", "rx", "rz"), values, strict=True)
            }
            curves = {n: put(program.take.curves.get(n, EMPTY), [Key(t, x, x)]) for n, (t, x) in keys.items()}
            program = program.with_curves({n: automatic_slopes(c, [at]) for n, c in curves.items()})

        bodies = [
            b
            for b in program.bounds
            if b[0] == "marl" and b[1] not in ("hips", "leg.L", "leg.R") and ".twist" not in b[1]
        ]
        done("reset", (*bodies, *lantern), 0.0, to="nothing")
        done("handover", arms, 0.0, to="ik")
        done("retether", lantern, 0.0, to="marl/hand.R", after="snap")
        posed(48.0, 0.36, 0.19, 0.3, -0.29, -0.04, -0.86)
        done("retether", arms[:1], 56.0, to="lantern/lantern", after="snap", reach=10)
        done("retether", arms[:1], 58.0, to="own", after="ride")
        done("retether", lantern, 58.0, to="marl/hand.L", after="ride", offset="here")
        self.assertFalse([f for f in find_all(program) if f.kind == "pop"])
        posed(84.0, 0.0, 0.0, 0.1, 0.0, 0.0, 0.0)
        told = {(f.part, f.frame) for f in find_all(program) if f.kind == "pop"}
        self.assertEqual(told, {("arm.L", 56.0), ("arm.L", 58.0), ("lantern", 58.0)})
        keys = tuple(f.key for f in find_all(program) if f.kind == "pop")
        mended = program.on(run(program, "repair", Asked((), 0.0, None, {}, keys)).take)
        self.assertFalse([f for f in find_all(mended) if f.kind == "pop"])

    def test_what_has_no_grip_says_so(self) -> None:
        program = Program(*lantern_round())
        for part, to, who in (
            (("lantern", "lantern"), "marl/head", "Marl, head"),
            (("marl", "leg.L"), "hook/hook", "left leg"),
        ):
            with self.assertRaisesRegex(CoreError, f"{who} has no grip"):
                apply(program, Retether((part,), to, 20.0, None, "snap"))


if __name__ == "__main__":
    unittest.main()
