"""D7 and editing of keys: what is not named stays bit for bit, what is named does what was asked, or nothing does."""

from __future__ import annotations

import unittest

import numpy as np

from yielding_tether.core.curves import (
    ARRIVING,
    AUTOMATIC,
    EMPTY,
    FLAT,
    FREE,
    LEAVING,
    LINEAR,
    SMOOTH,
    STEPPED,
    Curve,
    Key,
    curve,
    sample,
    slopes,
)
from yielding_tether.core.errors import CoreError
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.operations.keys import (
    Edit,
    all_drivers,
    apply,
    channels_of,
    describe,
    key_part,
    keys_at,
)
from yielding_tether.core.program import Program
from yielding_tether.core.proof import count_changes, reach
from yielding_tether.core.transforms import rotation_distance

from .readings import drive_of, limbs_of
from .test_findings import clean
from .test_handover import captured, demo
from .worlds import limb_member, random_take, scene


def world(seed: int) -> Program:
    rng = np.random.default_rng(seed)
    member = limb_member(rng)
    return Program(scene(member), random_take(rng, (member,), spread=0.6))


def some(rng: np.random.Generator, program: Program) -> dict[str, tuple[float, ...]]:
    """A few keys of a few channels."""
    names = [n for n in program.take.curves if not n.endswith(("drive", "bend"))]
    found = {}
    for name in rng.choice(names, size=3, replace=False):
        times = program.take.curves[name].times
        found[str(name)] = tuple(float(t) for t in rng.choice(times, size=2, replace=False))
    return found


class Edits(unittest.TestCase):
    def unnamed_stay(
        self, before: Program, after: object, named: dict[str, tuple[float, ...]], moved: bool = False
    ) -> None:
        curves = after.curves  # type: ignore[attr-defined]
        for name, old in before.take.curves.items():
            gone = set(named.get(name, ()))
            stay = [k for k in old.all_keys() if k.time not in gone]
            new = {k.time: k for k in curves.get(name, EMPTY).all_keys()}
            for key in stay:
                self.assertEqual(new[key.time], key, name)
            if name not in named:
                self.assertIs(curves[name], old)

    def test_every_edit_keeps_what_is_not_named(self) -> None:
        for seed in range(40):
            rng = np.random.default_rng(seed)
            program = world(seed)
            named = some(rng, program)
            rise = float(rng.normal() * 0.1)
            for edit in (
                Edit("move", named, by=0.25, rise=rise), Edit("scale", named, about=100.0, factor=1.001),
                Edit("set", named, values={"kind": float(rng.integers(3)), "tag": 7.0}), Edit("delete", named),
                Edit("set", named, values={"leaving": 0.3, "slope_out": 0.01}),
                Edit("set", named, values={"rule": float(rng.integers(3)), "lock": 1.0}),
            ):  # fmt: skip
                take, proof = apply(program, edit)
                self.unnamed_stay(program, take, named)
                self.assertLessEqual(proof.outside_place.value, 1e-12, (seed, edit.what))
                self.assertLessEqual(proof.outside_turn.value, 1e-12)
                self.assertEqual(
                    (proof.keys.kept, proof.keys.added, proof.keys.removed),
                    count_changes(program.take.curves, take.curves),
                )

    def test_moving_carries_value_slope_and_marks(self) -> None:
        c = curve([
            Key(0.0, 0.0, 0.0, rule=FREE), Key(10.0, 1.0, 2.0, 0.1, 0.2, LINEAR, FREE, 3),
            Key(20.0, 0.0, 0.0, rule=FREE),
        ])  # fmt: skip
        program = world(1)
        name = next(n for n in program.take.curves if n.endswith(".rx"))
        program = Program(program.scene, program.take.with_curves({name: c}))
        take, _ = apply(program, Edit("move", {name: (10.0,)}, by=3.0, rise=0.5))
        self.assertEqual(take.curves[name].key(1), Key(13.0, 1.5, 2.5, 0.1, 0.2, LINEAR, FREE, 3))
        take, _ = apply(program, Edit("scale", {name: (10.0,)}, about=4.0, factor=2.0))
        self.assertEqual(take.curves[name].key(1), Key(16.0, 1.0, 2.0, 0.05, 0.1, LINEAR, FREE, 3))

    def test_scaling_all_keys_slows_the_same_motion(self) -> None:
        for seed in range(10):
            program = world(seed)
            name = next(n for n in program.take.curves if n.endswith("upper.rx"))
            old = program.take.curves[name]
            take, _ = apply(program, Edit("scale", {name: tuple(old.times.tolist())}, about=0.0, factor=0.5))
            at = np.linspace(0.0, 60.0, 200)
            np.testing.assert_allclose(sample(take.curves[name], 0.5 * at), sample(old, at), atol=1e-12)

    def test_adding_a_key_changes_no_value(self) -> None:
        for seed in range(30):
            rng = np.random.default_rng(seed)
            program = world(seed)
            times = tuple(float(t) for t in rng.uniform(0, 60, 3))
            names = [str(n) for n in rng.choice(list(program.take.curves), size=4, replace=False)]
            take, proof = apply(program, Edit("add", dict.fromkeys(names, times)))
            self.assertLessEqual(max(proof.departure_place.value, proof.outside_place.value), 1e-12)
            for name in names:
                for t in times:
                    self.assertIsNotNone(take.curves[name].find(t))
            valued, _ = apply(program, Edit("add", {names[0]: (times[0],)}, values={"arriving": 0.2, "leaving": 0.2}))
            self.assertEqual(sample(valued.curves[names[0]], [times[0]])[0], 0.2)

    def test_rules_give_slopes_to_named_keys_alone(self) -> None:
        for seed in range(20):
            program = world(seed)
            name = next(n for n in program.take.curves if n.endswith("lower.ry"))
            old = program.take.curves[name]
            t = float(old.times[2])
            flat, _ = apply(program, Edit("set", {name: (t,)}, values={"rule": float(FLAT)}))
            self.assertEqual((flat.curves[name].key(2).slope_in, flat.curves[name].key(2).slope_out), (0.0, 0.0))
            auto, _ = apply(program, Edit("set", {name: (t,)}, values={"rule": float(AUTOMATIC)}))
            made = auto.curves[name].key(2)
            chords = [(old.numbers[k + 1, 1] - old.numbers[k, 2]) / (old.times[k + 1] - old.times[k]) for k in (1, 2)]
            if chords[0] * chords[1] <= 0.0:
                self.assertEqual(made.slope_in, 0.0)
            else:
                low, high = sorted(chords)
                self.assertTrue(low - 1e-12 <= made.slope_in <= high + 1e-12)
            # A slope set by hand is free from then on.
            hand, _ = apply(Program(program.scene, auto), Edit("set", {name: (t,)}, values={"slope_in": 0.5}))
            self.assertEqual((hand.curves[name].key(2).rule, hand.curves[name].key(2).slope_in), (FREE, 0.5))
            want = 0.5 if old.marks[1, 0] == SMOOTH else float(slopes(old, [t], ARRIVING)[0])
            self.assertAlmostEqual(float(slopes(hand.curves[name], [t], ARRIVING)[0]), want, places=9)

    def test_the_reach_of_an_edit_covers_all_that_differs(self) -> None:
        for seed in range(40):
            rng = np.random.default_rng(seed)
            program = world(seed)
            named = some(rng, program)
            take, _ = apply(program, Edit("move", named, by=0.3, rise=0.2))
            for name in named:
                old, new = program.take.curves[name], take.curves[name]
                low, high = reach(program.take, {name: new})
                at = np.linspace(0.0, 60.0, 481)
                differs = np.abs(sample(old, at) - sample(new, at)) > 1e-12
                self.assertTrue(np.all((at[differs] >= low) & (at[differs] <= high)), name)


class Putting(unittest.TestCase):
    def test_whole_keys_are_put_with_every_number(self) -> None:
        for seed in range(10):
            program = world(seed)
            names = [n for n in program.take.curves if n.endswith((".rx", ".tz"))][:2]
            first = {n: program.take.curves[n].all_keys()[:3] for n in names}
            keys = {n: tuple(k._replace(time=k.time + 0.5, rule=FREE) for k in ks) for n, ks in first.items()}
            named = {n: tuple(k.time for k in ks) for n, ks in keys.items()}
            take, proof = apply(program, Edit("put", named, put=keys))
            for n in names:
                for key in keys[n]:
                    i = take.curves[n].find(key.time)
                    self.assertEqual(take.curves[n].key(i or 0), key)
                self.assertEqual(
                    [k for k in take.curves[n].all_keys() if k.time not in named[n]], program.take.curves[n].all_keys()
                )
            self.assertLessEqual(proof.outside_place.value, 1e-12)
            with self.assertRaisesRegex(CoreError, "not at the frames"):
                apply(program, Edit("put", {names[0]: (1.25,)}, put=keys))
            broken = {names[0]: (keys[names[0]][0]._replace(kind=9),)}
            with self.assertRaisesRegex(CoreError, "a mark that no key can have"):
                apply(program, Edit("put", {names[0]: (named[names[0]][0],)}, put=broken))


class Refusals(unittest.TestCase):
    def test_a_locked_key_is_left_alone(self) -> None:
        program = world(3)
        name = next(n for n in program.take.curves if n.endswith("upper.rx"))
        t = float(program.take.curves[name].times[1])
        locked = Program(program.scene, apply(program, Edit("set", {name: (t,)}, values={"lock": 1.0}))[0])
        for edit in (
            Edit("move", {name: (t,)}, by=1.0), Edit("delete", {name: (t,)}), Edit("scale", {name: (t,)}, factor=2.0),
            Edit("set", {name: (t,)}, values={"leaving": 1.0}),
            Edit("set", {name: (t,)}, values={"lock": 0.0, "leaving": 1.0}),
        ):  # fmt: skip
            with self.assertRaisesRegex(CoreError, f"key of {program.reading(name)} at frame {t:g} is locked"):
                apply(locked, edit)
        again, _ = apply(locked, Edit("set", {name: (t,)}, values={"lock": 0.0}))
        self.assertEqual(again.curves[name], program.take.curves[name])

    def test_what_can_not_be_is_refused_by_name(self) -> None:
        program = world(4)
        name = next(n for n in program.take.curves if n.endswith("upper.rx"))
        times = tuple(program.take.curves[name].times.tolist())
        for edit, words in (
            (Edit("move", {name: (times[0],)}, by=times[1] - times[0]), "would land on the one at frame"),
            (Edit("scale", {name: times}, factor=0.0), "above zero only"),
            (Edit("scale", {name: times}, about=3.0, factor=-1.0), "above zero only"),
            (Edit("delete", {name: (1234.5,)}), "no key at frame 1234.5"),
            (Edit("delete", {"arm/nobody.rx": (1.0,)}), "no channel arm/nobody.rx"),
            (Edit("set", {name: times[:1]}, values={"colour": 1.0}), "no colour"),
            (Edit("set", {name: times[:1]}, values={"kind": 3.0}), "kind of a key is a whole number from 0 to 2"),
            (Edit("set", {name: times[:1]}, values={"kind": 0.5}), "kind of a key is a whole number"),
            (Edit("set", {name: times[:1]}, values={"leaving": float("nan")}), "finite numbers"),
            (Edit("move", {name: times[:1]}, by=1e9), "finite numbers"),
            (Edit("move", {name: times[:1]}), "changes nothing"),
            (Edit("delete", {name: ()}), "at least one key"),
            (Edit("add", {"arm/limb.drive": (5.0,)}, values={"arriving": 2.0, "leaving": 2.0}), "between 0 and 1"),
        ):
            with self.assertRaisesRegex(CoreError, words):
                apply(program, edit)


class Signs(unittest.TestCase):
    def test_which_side_a_limb_bends_to_always_steps(self) -> None:
        program = clean(1)
        bound = program.bounds["marl", "leg.L"]
        name = next(n for n in channels_of(program, "marl", "leg.L") if n.endswith(".bend"))
        signs = curve([Key(40.0, 1.0, -1.0, kind=STEPPED, rule=FREE), Key(60.0, -1.0, 1.0, kind=STEPPED, rule=FREE)])
        program = program.with_curves({name: signs})
        made = run(program, "keys", Asked((bound.id,), 0.0, 192.0, {"do": "kind", "kind": "linear"}))
        self.assertEqual(made.take.curves[name], signs)
        swivel = name.replace(".bend", ".swivel")
        self.assertEqual(set(made.take.curves[swivel].marks[:, 0].tolist()), {LINEAR})
        for values in ({"kind": 1.0}, {"leaving": 0.5}, {"arriving": 0.0, "leaving": 0.0}):
            with self.assertRaisesRegex(CoreError, "to which side a limb bends"):
                apply(program, Edit("set", {name: (40.0,)}, values=values))
        # What is there stays editable otherwise.
        moved, _ = apply(program, Edit("move", {name: (40.0,)}, by=2.0))
        self.assertEqual(moved.curves[name].times.tolist(), [42.0, 60.0])
        # Takes from before may hold a side that does not step where nothing follows: it moves as it is.
        old = program.with_curves({name: curve([*signs.all_keys(), Key(70.0, 1.0, 1.0, kind=SMOOTH, rule=FREE)])})
        moved, _ = apply(old, Edit("move", {name: (70.0,)}, by=2.0))
        self.assertEqual(moved.curves[name].times.tolist(), [40.0, 60.0, 72.0])


class Drivers(unittest.TestCase):
    def test_the_kind_of_all_drivers_at_once(self) -> None:
        program = clean(1)
        named = all_drivers(program)
        self.assertTrue(any(n.endswith(".drive") for n in named) and any(".position" in n for n in named))
        smooth, _ = apply(program, Edit("set", named, values={"kind": float(SMOOTH)}))
        self.assertTrue(all(np.all(smooth.curves[n].marks[:, 0] == SMOOTH) for n in named))
        wrong = find_all(Program(program.scene, smooth))
        stepped, _ = apply(
            Program(program.scene, smooth), Edit("set", all_drivers(program), values={"kind": float(STEPPED)})
        )
        self.assertTrue(all(np.all(stepped.curves[n].marks[:, 0] == STEPPED) for n in named))
        self.assertEqual(find_all(Program(program.scene, stepped)), [])
        self.assertIsInstance(wrong, list)

    def test_a_driver_is_stepped_by_default(self) -> None:
        program = world(5)
        take, _ = apply(program, Edit("add", {"arm/limb.drive": (20.0,)}, values={"leaving": 1.0}))
        (key,) = take.curves["arm/limb.drive"].all_keys()
        self.assertEqual((key.kind, key.arriving, key.leaving), (STEPPED, 0.0, 1.0))


class KeyingParts(unittest.TestCase):
    def test_a_part_is_keyed_whole_and_the_motion_stays(self) -> None:
        rng = np.random.default_rng(8)
        for part in ("arm.R", "arm.L", "leg.L", "hips", "head"):
            frame = float(rng.integers(10, 190)) + 0.5
            program = clean(0)
            take, proof = key_part(program, "marl", part, frame)
            after = Program(program.scene, take)
            at = np.unique(np.append(program.take.frames, frame))
            nodes = program.joints()[1]
            off = np.abs(after.evaluate(at).pos[:, nodes] - program.evaluate(at).pos[:, nodes]).max()
            self.assertLess(off, 1e-9)
            self.assertTrue(proof.clean)
            for name in channels_of(program, "marl", part):
                if name.endswith(".guide") or ".about." in name or name.endswith(".size"):
                    continue
                self.assertIsNotNone(take.curves[name].find(frame), name)
            limb = limbs_of(after).get(("marl", part))
            if limb is None:
                continue
            here = program.evaluate([frame])
            for drive in (0.0, 1.0):
                # Either system could take over here: both hold the pose.
                posed = after.evaluate([frame], overrides={drive_of(limb): drive})
                nodes = list(limb.nodes)
                self.assertLess(np.abs(posed.pos[0, nodes] - here.pos[0, nodes]).max(), 1e-6)
                self.assertLess(rotation_distance(posed.rot[0, nodes], here.rot[0, nodes]).max(), 1e-6)
            with self.assertRaisesRegex(CoreError, "all its keys|changes nothing"):
                key_part(after, "marl", part, frame)

    def test_a_captured_limb_gets_both_systems(self) -> None:
        program = captured()
        part = next(iter(limbs_of(program).values())).part
        take, _ = key_part(program, "body", part.name, 50.0)
        after = Program(program.scene, take)
        limb = after.bounds["body", part.name]
        here = program.evaluate([50.0])
        for drive in (0.0, 1.0):
            posed = after.evaluate([50.0], overrides={drive_of(limb): drive, dict(limb.drivers)["captured"]: 0.0})
            self.assertLess(np.abs(posed.pos[0, list(limb.nodes)] - here.pos[0, list(limb.nodes)]).max(), 1e-6)
        with self.assertRaisesRegex(CoreError, "does not lie in the take"):
            key_part(program, "body", part.name, 5000.0)

    def test_what_an_edit_says_of_itself(self) -> None:
        name = "marl/arm.R.ik.tx"
        for channel, words in (
            (name, "right arm, move x"),
            ("marl/upperarm.R.rx", "right arm, upper arm, turn x"),
            ("marl/head.ry", "head, turn y"),
            ("marl/arm.R.drive", "right arm, what drives, 0 FK to 1 IK"),
        ):
            said = describe(demo(), Edit("move", {channel: (1.0,)}, by=2.0))
            self.assertEqual(said, f"Move 1 key of {words} by 2 frames")
        both = keys_at(demo(), channels_of(demo(), "marl", "arm.R"), (118.0,))
        self.assertIn(name, both)
        self.assertEqual(describe(demo(), Edit("set", {name: (1.0, 2.0), "x": (1.0,)}, values={"kind": 0.0})),
                         "Set 3 keys of 2 channels (kind)")  # fmt: skip
        self.assertIsInstance(demo().take.curves[name], Curve)
        self.assertEqual(LEAVING, 0)
