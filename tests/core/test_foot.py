"""A foot that rolls: what stands still in each stage, what a fit gives back, what it does to a plant and to a drag."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np
from numpy.random import Generator

from tests.core.contract import EXAMPLES, at_rest, driven
from tests.core.test_findings import clean
from tests.core.worlds import unit, with_helpers
from yielding_tether.core.curves import EMPTY, SMOOTH, set_value
from yielding_tether.core.findings import find_all
from yielding_tether.core.fitting import fit
from yielding_tether.core.kernels.foot import SOFT
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.operations.handover import Handover
from yielding_tether.core.operations.handover import apply as hand_over
from yielding_tether.core.operations.plant import Plant
from yielding_tether.core.operations.plant import apply as plant
from yielding_tether.core.operations.pose import Drag, solve_all
from yielding_tether.core.parts import FkPart, TwistPart
from yielding_tether.core.parts.leg import ChainLegPart, Footed, LegPart
from yielding_tether.core.program import Program
from yielding_tether.core.rig import Bound
from yielding_tether.core.stance_turns import stance_turns
from yielding_tether.core.takes import Contact, Standing, Take
from yielding_tether.core.transforms import Floats, inverse, multiply, rotate, rotation_distance
from yielding_tether.demo.cast_off import cast_off, ferry_scene
from yielding_tether.demo.posing import keyed

LEG = ("marl", "leg.R")
STILL = 1e-5


def standing(helped: bool = False) -> tuple[Program, Bound]:
    """Marl at rest, his right leg in IK, for ten frames; with helper joints in both segments of it if so."""
    scene = ferry_scene()
    if helped:
        marl = scene.member("marl")
        bones = with_helpers(marl.skeleton, "shin.R", "foot.R")
        (leg,) = (p for p in marl.parts if p.name == "leg.R")
        assert isinstance(leg, LegPart)
        thigh, shin, foot, toe = leg.joints
        joints = (thigh, "in shin.R", shin, "in foot.R", foot, toe)
        more = {f: getattr(leg, f) for f in ("name", "label", "hinge", "end_order", "side", "sole")}
        many = ChainLegPart(
            joints=joints, orders=("xyz",) * 6, middle=2, hinges=((1.0, 0.0, 0.0),) * 6, curls=(0.0,) * 6, toed=True, **more
        )  # fmt: skip
        # What shares twists hangs from what the helpers cut off.
        plain = {
            p: FkPart(p.name, p.label, p.joints, p.orders, (False,) * len(p.joints))
            for p in marl.parts if isinstance(p, TwistPart)
        }  # fmt: skip
        parts = tuple(many if p is leg else plain.get(p, p) for p in marl.parts)  # type: ignore[arg-type]
        changed = replace(marl, skeleton=bones, parts=parts, shapes=())
        scene = replace(scene, members=tuple(changed if m is marl else m for m in scene.members))
    program = Program(scene, Take("still", cast_off()[1].rate, 0, 10))
    program = driven(program, program.bound(*LEG), "ik")
    # Not so straight that the foot is out of reach.
    return program.with_curves({"marl/leg.R.ik.ty": set_value(EMPTY, 0.0, 0.25, SMOOTH)}), program.bound(*LEG)


def with_locked(program: Program, channel: str) -> Program:
    """The same with a channel of his right foot locked."""
    scene = program.scene
    parts = tuple(replace(p, locked=(channel,)) if p.name == "leg.R" else p for p in scene.member("marl").parts)
    members = tuple(replace(m, parts=parts) if m.id == "marl" else m for m in scene.members)
    return Program(replace(scene, members=members), program.take)


def over(bound: Bound, **values: float | Floats) -> dict[int, float | Floats]:
    return {bound.own[bound.part.ik, c]: v for c, v in values.items()}  # type: ignore[attr-defined]


def point(
    program: Program, bound: Bound, joint: int, at: Floats, times: Floats, values: dict[int, float | Floats]
) -> Floats:
    """(F, 3) a point of a joint of the part at these times."""
    poses = program.evaluate(times, overrides=values)
    return poses.pos[:, bound.nodes[joint]] + rotate(poses.rot[:, bound.nodes[joint]], at)


def in_toe(bound: Bound, at: tuple[float, ...]) -> Floats:
    """A point of the foot at rest, in the toe."""
    return rotate(inverse(bound.rests[-1]), np.array(at) - bound.offsets[-1])


class Stages(unittest.TestCase):
    """Measured on the body, by points of its joints: -2 the foot, -1 the toe."""

    helped = False

    def setUp(self) -> None:
        self.program, self.bound = standing(self.helped)
        assert isinstance(self.bound.part, Footed)
        self.sole = self.bound.part.sole
        self.times = np.arange(0.0, 10.01, 0.25)

    def moved(self, joint: int, at: Floats, **values: float | Floats) -> float:
        found = point(self.program, self.bound, joint, at, self.times, over(self.bound, **values))
        return float(np.linalg.norm(found - found[0], axis=1).max())

    def test_the_named_point_of_each_stage_stays(self) -> None:
        ramp = self.times / 10.0
        first = self.sole.tip_from
        heel, ball, tip = np.array(self.sole.heel), np.array(self.sole.ball), in_toe(self.bound, self.sole.tip)
        for bank in (0.0, 0.2, -0.2):
            corner = np.array(self.sole.right if bank > 0.0 else self.sole.left)
            on_heel, at_tip = (
                p + ((corner - p) @ self.side) * self.side if bank else p for p in (heel, np.array(self.sole.tip))
            )
            on_tip = in_toe(self.bound, tuple(at_tip))
            with self.subTest(bank=bank):
                self.assertLess(self.moved(-2, on_heel, roll=-0.6 + 0.6 * ramp, bank=bank), STILL)
                self.assertLess(self.moved(-1, on_tip, roll=first + SOFT + 0.5 * ramp, bank=bank), STILL)
                # In the ball's stage all of the toe stands.
                for at in (tip, in_toe(self.bound, tuple(corner)), np.zeros(3)):
                    self.assertLess(self.moved(-1, at, roll=(first - SOFT) * ramp, bank=bank), STILL)
        self.assertLess(self.moved(-2, ball, roll=(first - SOFT) * ramp), STILL)
        # And it does roll: heel up by the sine, the toe flat on its tip only after.
        lifted = point(self.program, self.bound, -2, heel, self.times, over(self.bound, roll=0.5 * ramp))
        self.assertGreater(lifted[-1, 1] - lifted[0, 1], 0.05)

    @property
    def side(self) -> Floats:
        return np.cross(self.sole.up, self.sole.forward)

    def test_turns_are_about_their_points_and_the_toe_lies_flat(self) -> None:
        ramp = self.times / 10.0
        for name, joint, at in (
            ("heel", -2, np.array(self.sole.heel)), ("ball", -2, np.array(self.sole.ball)),
            ("tip", -1, in_toe(self.bound, self.sole.tip)),
        ):  # fmt: skip
            self.assertLess(self.moved(joint, at, **{name: 0.7 * ramp}), STILL, name)
            poses = self.program.evaluate(self.times, overrides=over(self.bound, **{name: 0.7 * ramp}))
            turned = rotation_distance(poses.rot[:, self.bound.nodes[-2]], poses.rot[:1, self.bound.nodes[-2]])
            np.testing.assert_allclose(turned, 0.7 * ramp, atol=1e-9)
        rolls = np.linspace(-0.8, self.sole.tip_from - SOFT, len(self.times))
        poses = self.program.evaluate(self.times, overrides=over(self.bound, roll=rolls))
        foot, toe = (poses.rot[:, self.bound.nodes[k]] for k in (-2, -1))
        np.testing.assert_allclose(
            rotation_distance(foot, toe), np.maximum(rolls, 0.0), atol=1e-9,
            err_msg="the toe goes with the foot about the heel, and lies flat about the ball",
        )  # fmt: skip

    def test_the_roll_has_no_kink_but_at_zero(self) -> None:
        rolls = np.arange(0.01, 1.6, 0.001)
        poses = self.program.evaluate(np.zeros(len(rolls)), overrides=over(self.bound, roll=rolls))
        for k in (-2, -1):
            pos = poses.pos[:, self.bound.nodes[k]]
            self.assertLess(np.abs(np.diff(pos, 2, axis=0)).max(), 3e-6, "no speed jumps")


class StagesOfALegWithHelpers(Stages):
    helped = True


class Fitting(unittest.TestCase):
    helped = False

    def test_roll_and_bank_come_back(self) -> None:
        """10,000 random feet whose control is level in what it follows, at any heading."""
        rng = np.random.default_rng(12)
        program, bound = standing(self.helped)
        count = 10_000
        values = {c: rng.uniform(-a, a, count) for c, a in (("roll", 1.5), ("bank", 1.2), ("ry", 3.1), ("swivel", 0.3))}
        place = {c: rng.uniform(-0.05, 0.05, count) + 0.25 * (c == "ty") for c in ("tx", "ty", "tz")}
        self.comes_back(rng, program, bound, {**values, **place}, ("roll", "bank", "ry", "tx", "ty", "tz"))

    def comes_back(
        self, rng: Generator, program: Program, bound: Bound, values: dict[str, Floats], names: tuple[str, ...]
    ) -> None:
        times = np.zeros(len(next(iter(values.values()))))
        pose = program.evaluate(times, overrides=over(bound, **values))
        found = fit(program, bound, "ik", pose)
        self.assertLess(max(found.position.max(), found.rotation.max()), 1e-6)
        channels = bound.systems["ik"].channels.tolist()
        for name in names:
            got = found.values[channels.index(bound.own[bound.part.ik, name])]  # type: ignore[attr-defined]
            off = (got - values[name] + np.pi) % (2.0 * np.pi) - np.pi
            self.assertLess(np.abs(off).max(), 1e-6, name)
        for name in ("lift", "toe.R.rx", "toe.R.ry", "toe.R.rz"):
            own = found.values[channels.index(bound.own[bound.part.ik, name])]  # type: ignore[attr-defined]
            self.assertLess(np.abs(own).max(), 1e-6, f"no offset that hides the roll: {name}")

    def test_a_locked_roll_leaves_its_pitch_to_the_control(self) -> None:
        program, bound = standing(self.helped)
        locked = with_locked(program, "roll")
        pose = program.evaluate([0.0], overrides=over(bound, rx=0.4, ry=0.2))
        found = fit(locked, locked.bound(*LEG), "ik", pose)
        self.assertLess(max(found.position.max(), found.rotation.max()), 1e-6)


class FittingOfALegWithHelpers(Fitting):
    helped = True


class AtHand(unittest.TestCase):
    def test_values_at_hand_are_kept(self) -> None:
        """Whatever a take has that makes the pose, level or not."""
        rng = np.random.default_rng(4)
        for seed in range(20):
            example = EXAMPLES["footed chain" if seed % 2 else "footed limb"](np.random.default_rng(seed))
            program = at_rest(example)
            bound = program.bound(example.member.id, example.part)
            names = program.channel_names()
            kept = {names[c]: set_value(EMPTY, 0.0, float(rng.uniform(-1, 1)), SMOOTH)
                    for c in bound.systems["ik"].channels if not program.info[c][2].trait.stepped}  # fmt: skip
            program = driven(program.with_curves(kept), bound, "ik")
            pose = program.evaluate([0.0])
            found = fit(program, bound, "ik", pose)
            np.testing.assert_array_equal(found.values[:, 0], program.now(0.0, found.channels))
            # Any other pose is made anew.
            other = program.evaluate([0.0], overrides={bound.own[bound.part.ik, "roll"]: 0.3})  # type: ignore[attr-defined]
            self.assertLess(fit(program, bound, "ik", other).position.max(), 1e-6)


class Used(unittest.TestCase):
    def test_a_foot_in_fk_is_handed_over_as_a_roll(self) -> None:
        program, bound = standing()
        rolling = keyed("marl", {"leg.R.ik.roll": [(0, 0), (5, 35), (10, -18)]})
        program = program.with_curves(rolling)
        asked = Handover((LEG,), "fk", 0.0, keys="every")
        in_fk = program.on(hand_over(program, asked)[0])
        cleared = in_fk.with_curves({n: EMPTY for n in rolling})
        back, _ = hand_over(cleared, Handover((LEG,), "ik", 0.0, keys="every"))
        after = cleared.on(back)
        times = np.arange(0.0, 10.01)
        rolls = after.sample(times, channels=np.array([next(iter(over(bound, roll=0.0)))]))[0]
        np.testing.assert_allclose(
            rolls, program.sample(times, channels=np.array([next(iter(over(bound, roll=0.0)))]))[0], atol=1e-6
        )
        a, b = program.evaluate(times), after.evaluate(times)
        self.assertLess(np.abs(a.pos[:, bound.nodes] - b.pos[:, bound.nodes]).max(), 1e-6)
        self.assertFalse([f for f in find_all(after) if f.part == "leg.R"], "a roll is no foot out of reach")

    def test_where_a_foot_turns_about_what_of_it_stands_the_control_stays(self) -> None:
        """Heel first, then flat, then on its ball: in all of that the control is one, and headings are turns about these points."""
        program, bound = standing()
        take = replace(program.take, last=30)
        turning = keyed(
            "marl", {
                "leg.R.ik.roll": [(0, -25), (4, -25), (8, 0), (16, 0), (20, 30), (30, 30)],
                "leg.R.ik.heel": [(0, 30), (3, 25), (8, 0), (30, 0)], "leg.R.ik.ball": [(0, 0), (16, 0), (23, -35), (30, -35)],
            },
        )  # fmt: skip
        stands = (Standing("heel", 3.0, 8.0), Standing("ball", 8.0, 23.0))
        whole = Contact("marl", "foot.R", "deck", "deck", 8.0, 16.0, points=stands)
        alone = replace(whole, first=3.0, last=8.0, points=stands[:1])
        program = program.on(replace(take, contacts=(whole,))).with_curves(turning)
        in_fk = program.on(hand_over(program, Handover((LEG,), "fk", 0.0, keys="every"))[0])
        bare = in_fk.with_curves(dict.fromkeys(turning, EMPTY))
        control = [bound.own["leg.R.ik", c] for c in ("tx", "ty", "tz", "rx", "ry", "rz")]
        turns = [bound.own["leg.R.ik", c] for c in ("heel", "ball")]
        locked = with_locked(bare, "heel")
        for base, contact, first, last, moves in (
            (bare, whole, 3.0, 23.0, False), (bare, alone, 3.0, 8.0, False), (bare, None, 3.0, 23.0, True),
            (locked, whole, 3.0, 8.0, True),
        ):  # fmt: skip
            given = base.on(replace(base.take, contacts=(contact,) if contact else ()))
            for keys in ("every", "kept"):
                after = given.on(hand_over(given, Handover((LEG,), "ik", 0.0, keys=keys))[0])
                every = np.arange(0.0, 30.01)
                was, now = given.evaluate(every), after.evaluate(every)
                self.assertLess(np.abs(was.pos - now.pos)[:, bound.nodes].max(), 1e-6 if keys == "every" else 0.02)
                times = np.arange(first, last + 0.01) if keys == "every" else np.array([first, 8.0])
                with self.subTest(contact=contact, keys=keys, locked=base is locked):
                    values = after.sample(times, np.where(times == last, 1, 0), np.array(control))
                    self.assertEqual(np.ptp(values, axis=1).max() > 1e-3, moves)
                    if base is bare and contact is whole and keys == "every":
                        found, made = (p.sample(times, channels=np.array(turns)) for p in (after, program))
                        np.testing.assert_allclose(found, made, atol=1e-6)
                        # They go away after it, and nothing makes a step.
                        self.assertLess(np.abs(after.sample([30.0], channels=np.array(turns))).max(), 1e-9)
                        fine = after.sample(np.arange(0.0, 30.0, 0.05), channels=np.array(turns))
                        self.assertLess(np.abs(np.diff(fine)).max(), 0.02)
                        # Where the heel begins to stand, its turn arrives as fast as it then goes on.
                        mine, near = given.bound(*LEG).systems["ik"], np.array([2.98, 2.99, 3.01, 3.02])
                        place = mine.channels.tolist().index(turns[0])
                        turn = stance_turns(given, given.bound(*LEG), mine, near, np.zeros(4, dtype=np.int64))[place]
                        arrives, goes_on = (turn[1] - turn[0]) / 0.01, (turn[3] - turn[2]) / 0.01
                        self.assertGreater(abs(goes_on), 0.02)
                        self.assertAlmostEqual(arrives, goes_on, delta=0.01)

    def test_a_foot_that_spins_is_turned_by_its_control(self) -> None:
        """Further than would go back in a few frames; edges lie between frames, and what is between keys is followed too."""
        program, bound = standing()
        turned = [bound.own["leg.R.ik", c] for c in ("ball", "ry")]
        stands = Contact("marl", "foot.R", "deck", "deck", 6.0, 24.5, points=(Standing("ball", 6.0, 24.5),))
        for most in (80, 290):
            turning = keyed(
                "marl", {"leg.R.ik.roll": [(0, 30)], "leg.R.ik.ball": [(0, 0), (6, 0), (24.5, most), (30, most)]}
            )
            whole = program.on(replace(program.take, last=30, contacts=(stands,))).with_curves(turning)
            in_fk = whole.on(hand_over(whole, Handover((LEG,), "fk", 0.0, keys="every"))[0])
            given = in_fk.with_curves(dict.fromkeys(turning, EMPTY))
            after = given.on(hand_over(given, Handover((LEG,), "ik", 0.0, keys="every"))[0])
            fine = np.arange(0.0, 30.01, 0.125)
            a, b = given.evaluate(fine), after.evaluate(fine)
            with self.subTest(most=most):
                self.assertLess(np.abs(a.pos - b.pos)[:, bound.nodes].max(), 1e-4)
                ball, heading = np.degrees(
                    np.ptp(after.sample(np.arange(6.0, 24.01), channels=np.array(turned)), axis=1)
                )
                self.assertEqual(ball > 1.0, most < 90)
                self.assertEqual(heading < 1e-6, most < 90)

    def test_a_planted_foot_stands_still_while_it_had_rolled(self) -> None:
        program, bound = standing()
        rolling = keyed("marl", {"leg.R.ik.roll": [(0, 0), (5, 35), (10, -18)]})
        program = program.with_curves(rolling)
        take, _ = plant(program, Plant((LEG,), "deck/deck", 3.0, 8.0))
        after = program.on(take)
        times = np.arange(3.0, 8.01, 0.25)
        deck = program.nodes["deck", "deck"]
        poses = after.evaluate(times, np.where(times == 8.0, 1, 0))
        back = inverse(poses.rot[:, deck])
        for k in (2, 3):
            local = rotate(back, poses.pos[:, bound.nodes[k]] - poses.pos[:, deck])
            self.assertLess(np.abs(local - local[0]).max(), 1e-6)
            turned = multiply(back, poses.rot[:, bound.nodes[k]])
            self.assertLess(rotation_distance(turned, turned[:1]).max(), 1e-6)
        was, now = program.evaluate([0.0, 10.0]), after.evaluate([0.0, 10.0])
        self.assertLess(np.abs(was.pos - now.pos)[:, program.joints()[1]].max(), 0.3)

    def test_a_foot_kept_in_place_keeps_its_roll(self) -> None:
        program, bound = standing()
        for system in ("ik", "fk"):
            base = program.with_curves(
                {program.channel_names()[next(iter(over(bound, roll=0.0)))]: set_value(EMPTY, 0.0, 0.5, SMOOTH)}
            )
            base = base.on(hand_over(base, Handover((LEG,), "fk", 0.0))[0]) if system == "fk" else base
            was = base.evaluate([4.0])
            hips = base.bound("marl", "hips").nodes[0]
            to = was.pos[0, hips] + [0.03, -0.02, 0.04]
            drag = Drag("marl", "hips", "hips", 4.0, tuple(to.tolist()), tuple(was.rot[0, hips].tolist()), keep=(LEG,))
            values = solve_all(base, drag)
            now = base.evaluate([4.0], overrides=values)
            for k in (2, 3):
                node = bound.nodes[k]
                self.assertLess(np.abs(now.pos[0, node] - was.pos[0, node]).max(), 1e-6, system)
                self.assertLess(rotation_distance(now.rot[0, node], was.rot[0, node]), 1e-6, system)

    def test_the_lever_behind_the_heel_rolls(self) -> None:
        """Put where a roll would have it, it gives that roll: banked and turned as well, and where another system drives."""
        program, bound = standing()
        for roll in (-0.5, 0.0, 0.3, 0.69, 1.4):
            values = over(bound, roll=roll, bank=0.1, heel=0.2, tip=-0.3)
            rolled = program.evaluate([4.0], overrides=values)
            flat = {c: v for c, v in values.items() if c != next(iter(values))}
            names = program.channel_names()
            base = program.with_curves({names[c]: set_value(EMPTY, 0.0, float(v), SMOOTH) for c, v in flat.items()})
            at = program.computed(bound, rolled)["leg.R.heel"][0]
            found = solve_all(base, Drag("marl", "leg.R", "leg.R.heel", 4.0, tuple(at.tolist())))
            self.assertEqual(len(found), 1)
            self.assertAlmostEqual(next(iter(found.values())), roll, places=6)
        take, _ = hand_over(base, Handover((LEG,), "fk", 0.0))
        in_fk = base.on(take)
        shown = in_fk.evaluate([4.0])
        at = in_fk.computed(bound, shown)["leg.R.heel"][0]
        drag = Drag("marl", "leg.R", "leg.R.heel", 4.0, tuple((at + [0.0, 0.05, 0.0]).tolist()))
        moved = in_fk.evaluate([4.0], overrides=solve_all(in_fk, drag))
        self.assertGreater(in_fk.computed(bound, moved)["leg.R.heel"][0, 1] - at[1], 0.03)
        self.assertLess(
            np.abs(moved.pos[0, bound.nodes[3]] - shown.pos[0, bound.nodes[3]]).max(), 1e-5, "the ball stays"
        )

    def test_an_idle_control_is_dragged_from_where_it_is_drawn(self) -> None:
        """In FK the control rides on the ankle: a drag by nothing moves nothing."""
        program, bound = standing()
        rolled = program.evaluate([4.0], overrides=over(bound, roll=0.5, bank=0.1))
        channels = bound.systems["fk"].channels
        values = fit(program, bound, "fk", rolled).values[:, 0]
        names = program.channel_names()
        base = driven(
            program.with_curves(
                {names[c]: set_value(EMPTY, 0.0, float(v), SMOOTH) for c, v in zip(channels, values, strict=True)}
            ),
            bound,
            "fk",
        )
        was = base.evaluate([4.0])
        foot = bound.nodes[2]
        place, turn = was.pos[0, foot], was.rot[0, foot]
        for by in (np.zeros(3), np.array(unit(np.random.default_rng(1), 3)) * 0.03):
            found = solve_all(
                base, Drag("marl", "leg.R", "leg.R.ik", 4.0, tuple((place + by).tolist()), tuple(turn.tolist()))
            )
            now = base.evaluate([4.0], overrides=found)
            self.assertLess(np.abs(now.pos[0, foot] - place - by).max(), 1e-6)
            self.assertLess(rotation_distance(now.rot[0, foot], turn), 1e-6)
            self.assertLess(rotation_distance(now.rot[0, bound.nodes[3]], was.rot[0, bound.nodes[3]]), 1e-6)

    def test_the_mirror_takes_a_rolled_foot_over_as_it_is(self) -> None:
        """Between keys too, whatever its control and its foot are at: roll and lift as they are, bank and turns the other way."""
        rng = np.random.default_rng(9)
        program = clean(0)

        def rows(most: float) -> list[tuple[float, float]]:
            return [(float(t), float(rng.uniform(-most, most))) for t in range(0, 205, 17)]

        sizes = {
            "roll": 40,
            "bank": 15,
            "heel": 20,
            "ball": 20,
            "tip": 20,
            "lift": 15,
            "rx": 12,
            "rz": 8,
            "toe.L.rx": 10,
        }
        program = program.with_curves(keyed("marl", {f"leg.L.ik.{c}": rows(most) for c, most in sizes.items()}))
        outcome = run(program, "mirror", Asked((("marl", "hips"),), 0.0, None))
        after = program.on(outcome.take)
        names = program.channel_names()
        for channel, sign in (
            ("roll", 1.0),
            ("lift", 1.0),
            ("bank", -1.0),
            ("heel", -1.0),
            ("ball", -1.0),
            ("tip", -1.0),
        ):
            one, two = (
                c.curves[f"marl/leg.{side}.ik.{channel}"] for c, side in ((program.take, "L"), (after.take, "R"))
            )
            np.testing.assert_allclose(two.numbers[:, 1:], sign * one.numbers[:, 1:], atol=1e-9, err_msg=channel)
        self.assertIn("marl/leg.R.ik.roll", names)
        self.assertEqual([n for n in outcome.proof.notes if "right leg is up to" in n], [])

    def test_soles_that_are_no_mirror_image_are_fitted(self) -> None:
        program = clean(0)
        one, two = (program.bound("marl", f"leg.{side}") for side in "LR")
        system = one.systems["ik"].system
        self.assertEqual(len(system.mirrored(one, two)), 6)
        for change in ({"tip_from": 1.0}, {"heel": (0.0, -0.1, -0.2)}):
            other = replace(two, part=replace(two.part, sole=replace(two.part.sole, **change)))  # type: ignore[attr-defined]
            self.assertEqual(system.mirrored(one, other), {})
