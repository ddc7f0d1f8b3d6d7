"""Retethers between world, set piece, prop, joint and control, both moving; and a lantern that changes hands three times."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from tests.depth import DEPTH
from yielding_tether.core.curves import ARRIVING, LEAVING, SMOOTH, Key, curve
from yielding_tether.core.errors import CoreError, LoopError
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.operations.retether import OWN, Retether, apply
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Take
from yielding_tether.core.transforms import Floats, inverse, multiply, rotate, rotation_distance
from yielding_tether.demo.lantern_round import lantern_round

from .worlds import limb_member, prop, random_take, scene, stepped


def world(seed: int) -> Program:
    """Two bodies with a limb each, a prop and a thing that stands for a set piece, all moving."""
    rng = np.random.default_rng(seed)
    cast = (limb_member(rng), limb_member(rng, "other"), prop("cup", (0.3, 1.0, 0.1)), prop("raft", (0.0, -0.1, 0.0)))
    take = random_take(rng, cast, kinds=(2,))
    drive = {"arm/limb.drive": stepped((0, 1.0))} if seed % 3 else {}
    return Program(scene(*cast), take.with_curves(drive))


#: Who follows what: a limb's end, a root, a prop.
PAIRS = [
    (("arm", "limb"), "world"), (("arm", "limb"), "raft/raft"), (("arm", "limb"), "cup/cup"), (("arm", "limb"), "other/end"),
    (("arm", "limb"), "other/limb.ik"), (("arm", "limb"), "arm/carrier"), (("arm", "limb"), OWN), (("arm", "body"), "raft/raft"),
    (("arm", "body"), "other/lower"), (("cup", "cup"), "arm/end"), (("cup", "cup"), "arm/limb.ik"), (("cup", "cup"), "raft/raft"),
]  # fmt: skip


def placed(program: Program, member: str, control: str, at: Floats, side: int = LEAVING) -> tuple[Floats, Floats]:
    poses = program.evaluate(at, side)
    node = (
        next(b for b in program.bounds.values() if b.member.id == member and control in b.controls)
        .controls[control]
        .node
    )
    return poses.pos[:, node], poses.rot[:, node]


def placing(program: Program, part: tuple[str, str]) -> str:
    """The control of a part that has a place of its own."""
    return next(iter(program.bounds[part].controls))


def kink(program: Program, nodes: np.ndarray, at: float, h: float = 1e-4) -> float:
    """By how much the speed of joints jumps at a time: one-sided differences of second order."""
    t = at + h * np.array([0.0, 1.0, 2.0])
    leaving, arriving = program.evaluate(t, LEAVING).pos[:, nodes], program.evaluate(2 * at - t, ARRIVING).pos[:, nodes]
    out, into = (s * (-3 * p[0] + 4 * p[1] - p[2]) / (2 * h) for s, p in ((1, leaving), (-1, arriving)))
    return float(np.linalg.norm(out - into, axis=-1).max())


class Checked(unittest.TestCase):
    def check(self, before: Program, after: Program, part: tuple[str, str], first: float, last: float | None) -> None:
        """No jump, no jump of speed, nothing outside: from evaluated joints alone."""
        take = before.take
        t = np.arange(0, 2 * take.last + 1) / 2.0
        nodes = before.joints()[1]
        new = after.joints()[1]
        a, b = before.evaluate(t), after.evaluate(t)
        off = np.linalg.norm(a.pos[:, nodes] - b.pos[:, new], axis=-1).max(axis=1)
        turn = rotation_distance(a.rot[:, nodes], b.rot[:, new]).max(axis=1)
        outside = (t < first) | (t >= (np.inf if last is None else last))
        self.assertLess(off[outside].max(initial=0.0), 1e-9)
        self.assertLess(turn[outside].max(initial=0.0), 1e-9)
        # Who hangs from it goes along, and jumps no more than it did.
        mine = after.bounds[part].nodes
        for at in (first, *(() if last is None else (last,))):
            x, y = (after.evaluate([at], side).pos[0, mine] for side in (ARRIVING, LEAVING))
            self.assertLess(float(np.abs(x - y).max()), 1e-6)
            old = before.bounds[part].nodes
            speed = np.linalg.norm(np.diff(before.evaluate(take.frames).pos[:, old], axis=0), axis=-1).max()
            self.assertLess(kink(after, mine, at), kink(before, old, at) + max(1e-4 * speed, 1e-6) + 1e-5, (part, at))


class Following(Checked):
    def test_the_motion_goes_on_whatever_is_followed(self) -> None:
        for seed in range(4 * DEPTH):
            program = world(seed)
            rng = np.random.default_rng(500 + seed)
            for part, to in PAIRS:
                first = float(rng.integers(3, 30))
                last = None if rng.random() < 0.4 else float(rng.integers(first + 5, 58))
                with self.subTest(seed=seed, part=part, to=to, first=first, last=last):
                    try:
                        take, proof = apply(
                            program, Retether((part,), to, first, last, keys="every", control=placing(program, part))
                        )
                    except LoopError:
                        continue
                    except CoreError as error:
                        self.assertIn("already follows", str(error))
                        continue
                    after = program.on(take)
                    self.check(program, after, part, first, last)
                    self.assertTrue(all(c.still and (c.smooth or c.reason) for c in proof.changes), proof.sentence)
                    self.assertTrue(proof.unchanged_outside)
                    # On every frame the control itself stands where it stood.
                    control = placing(program, part)
                    frames = np.arange(first, (60.0 if last is None else last) + 0.5)
                    a, b = (placed(p, part[0], control, frames, ARRIVING) for p in (program, after))
                    self.assertLess(float(np.abs(a[0] - b[0]).max()), 1e-6)
                    self.assertLess(float(rotation_distance(a[1], b[1]).max()), 1e-6)
                    # A kink that was there is told as one now that something changes there.
                    now, was = ([f.sentence for f in find_all(p) if f.kind != "speed"] for p in (after, program))
                    self.assertEqual(now, was)

    def test_it_rides_along_from_the_moment_on(self) -> None:
        for seed in range(3 * DEPTH):
            program = world(seed)
            for part, to in PAIRS:
                if to == OWN:
                    continue
                with self.subTest(seed=seed, part=part, to=to):
                    try:
                        asked = Retether((part,), to, 20.0, 50.0, after="ride", offset="here", settle=3)
                        take, proof = apply(program, replace(asked, control=placing(program, part)))
                    except LoopError:
                        continue
                    after = program.on(take)
                    self.check(program, after, part, 20.0, 50.0) if not proof.changes[-1].pose > 1e-6 else None
                    control = placing(program, part)
                    at = np.arange(23.0, 50.0, 0.5)
                    pos, rot = placed(after, part[0], control, at)
                    poses = after.evaluate(at)
                    node = after.world if to == "world" else after.nodes[tuple(to.split("/"))]
                    back = inverse(poses.rot[:, node]) if to != "world" else np.tile([0.0, 0.0, 0.0, 1.0], (len(at), 1))
                    base = poses.pos[:, node] if to != "world" else np.zeros((len(at), 3))
                    local, turned = rotate(back, pos - base), multiply(back, rot)
                    self.assertLess(float(np.abs(local - local[:1]).max()), 1e-9)
                    self.assertLess(float(rotation_distance(turned, turned[:1]).max()), 1e-7)
                    x, y = (placed(after, part[0], control, np.array([20.0]), side)[0] for side in (ARRIVING, LEAVING))
                    self.assertLess(float(np.abs(x - y).max()), 1e-6)

    def test_within_a_tolerance_few_keys_do(self) -> None:
        program = world(1)
        asked = Retether((("arm", "limb"),), "raft/raft", 10.0, 50.0, keys="within", tolerance=(0.002, 0.02))
        take, proof = apply(program, asked)
        self.assertTrue(proof.within)
        t = np.arange(20, 101) / 2.0
        mine = program.bounds["arm", "limb"].nodes
        after = program.on(take)
        a, b = program.evaluate(t).pos[:, mine], after.evaluate(t).pos[:, after.bounds["arm", "limb"].nodes]
        self.assertLessEqual(float(np.linalg.norm(a - b, axis=-1).max()), 0.002)
        kept, _ = apply(program, replace(asked, keys="kept"))
        more, fewer = (sum(len(c) for n, c in t.curves.items() if n.startswith("arm/limb.ik.")) for t in (take, kept))
        self.assertGreaterEqual(more, fewer)

    def test_what_cannot_be_done_says_so_and_changes_nothing(self) -> None:
        program = world(2)
        for asked, words in (
            (Retether((("arm", "limb"),), "arm/end", 10.0, what="rotation"), "follow one another in a loop"),
            (Retether((("arm", "limb"),), "arm/nose", 10.0), "can be followed"),
            (Retether((("arm", "carrier"),), "world", 10.0, control="limb.ik"), "no control 'limb.ik' that can follow"),
            (Retether((("arm", "limb"),), "world", 70.0), "runs from 0 to 60"),
            (Retether((("arm", "limb"),), "world", 20.0, 20.0), "last frame after its first"),
            (Retether((("arm", "limb"),), OWN, 20.0), "already follows"),
        ):
            with self.assertRaisesRegex(CoreError, words):
                apply(program, asked)

    def test_tied_as_it_is_here_its_values_are_zero(self) -> None:
        program = world(1)
        take, _ = apply(program, Retether((("cup", "cup"),), "raft/raft", 12.0, None, keys="every", offset="here"))
        after = program.on(take)
        control = after.bounds["cup", "cup"].controls["cup"]
        np.testing.assert_allclose(after.sample([12.0], LEAVING, np.array(control.channels))[:, 0], 0.0, atol=1e-9)
        # To the very end, or for a range: the same follow again is refused.
        for first, last in ((12.0, None), (20.0, None), (20.0, 40.0)):
            with self.assertRaisesRegex(CoreError, "already follows"):
                apply(after, Retether((("cup", "cup"),), "raft/raft", first, last))

    def test_a_follow_is_added_once(self) -> None:
        program = world(1)
        one, _ = apply(program, Retether((("cup", "cup"),), "raft/raft", 10.0, 20.0))
        two, _ = apply(program.on(one), Retether((("cup", "cup"),), "raft/raft", 30.0, 40.0))
        self.assertEqual(len(one.tethers), 1)
        self.assertEqual(two.tethers, one.tethers)


class Dropping(unittest.TestCase):
    def test_the_motion_stays_when_a_follow_is_dropped(self) -> None:
        for seed in range(4 * DEPTH):
            program = world(seed)
            asked = Retether((("arm", "limb"),), "raft/raft", 8.0, 30.0, keys="every", control="limb.ik")
            one, _ = apply(program, asked)
            two, _ = apply(program.on(one), replace(asked, first=41.0, last=None, after="ride"))
            before = program.on(two)
            take, proof, *_ = run(before, "untether", Asked((("arm", "limb"),), 0.0, None))
            self.assertEqual(take.tethers, program.take.tethers)
            self.assertFalse([n for n in take.curves if ".raft." in n])
            self.assertTrue(proof.unchanged_outside)
            after = program.on(take)
            at = np.arange(0.0, 61.0)
            a, b = (placed(p, "arm", "limb.ik", at) for p in (before, after))
            self.assertLess(float(np.abs(a[0] - b[0]).max()), 1e-6)
            self.assertLess(float(rotation_distance(a[1], b[1]).max()), 1e-6)
            with self.assertRaisesRegex(CoreError, "follows nothing in this take"):
                run(after, "untether", Asked((("arm", "limb"),), 0.0, None))


class Dialled(unittest.TestCase):
    def test_a_follow_that_is_dialled_in_and_out_is_dropped_whole(self) -> None:
        program = world(1)
        take, _ = apply(program, Retether((("arm", "limb"),), "raft/raft", 20.0, 40.0))
        (tether,) = take.tethers
        for times in ((20.0, 30.0, 40.0), (20.4, 30.0, 39.7), (20.0, 30.0, 60.0)):
            dial = curve([Key(t, v, v, 0.0, 0.0, SMOOTH) for t, v in zip(times, (0.0, 0.8, 0.0), strict=True)])
            before = program.on(take).with_curves(
                {tether.weight_channel("position"): dial, tether.weight_channel("rotation"): dial}
            )
            dropped, proof, *_ = run(before, "untether", Asked((("arm", "limb"),), 0.0, None))
            self.assertEqual(dropped.tethers, ())
            self.assertTrue(proof.unchanged_outside, proof.sentence)
            at = np.arange(0.0, 61.0)
            a, b = (placed(p, "arm", "limb.ik", at) for p in (before, program.on(dropped)))
            self.assertLess(float(np.abs(a[0] - b[0]).max()), 1e-6)


class Along(unittest.TestCase):
    def test_who_hangs_on_what_is_left_is_named_and_comes_along(self) -> None:
        """C7: a hand and a ladle hang on the cup; the hand goes over to the raft, the ladle is named, stays or comes along."""
        rng = np.random.default_rng(7)
        cast = (
            limb_member(rng),
            prop("cup", (0.3, 1.0, 0.1)),
            prop("raft", (0.0, -0.1, 0.0)),
            prop("ladle", (0.2, 1.1, 0.0)),
        )
        plain = Program(
            scene(*cast), random_take(rng, cast, kinds=(2,)).with_curves({"arm/limb.drive": stepped((0, 1.0))})
        )
        take, _ = apply(plain, Retether((("arm", "limb"), ("ladle", "ladle")), "cup/cup", 0.0, keys="every"))
        program = plain.on(take)
        asked = Retether((("arm", "limb"),), "raft/raft", 30.0, keys="every")
        left, proof = apply(program, asked)
        self.assertIn("On what it leaves hangs also the ladle: take it along if you like", proof.sentence)
        came, told = apply(program, replace(asked, along=True))
        self.assertNotIn("take it along", told.sentence)
        at = np.arange(0.0, 61.0)
        node = program.nodes["ladle", "ladle"]
        for made, anchor in ((left, "cup"), (came, "raft")):
            after = program.on(made)
            # Nothing moves either way, and from then on it hangs where it is said to.
            self.assertLess(
                float(np.abs(after.evaluate(at).pos[:, node] - program.evaluate(at).pos[:, node]).max()), 1e-6
            )
            (live,) = [
                t.anchor for t in made.tethers
                if t.member == "ladle" and after.now(40.0, [after.channels[t.weight_channel("position")]])[0] > 0.0
            ]  # fmt: skip
            self.assertEqual(live, anchor)


class Lantern(unittest.TestCase):
    def test_from_hand_to_hand_to_hook(self) -> None:
        """The lantern hangs on the right hand all along; three retethers take it to the left hand, the hook, and back."""
        base, take = lantern_round()
        names = [n for n in take.curves if n.startswith("lantern/")]
        held = {n: stepped((0, 1.0)) for n in names if ".right." in n}
        curves = {n: c for n, c in take.curves.items() if n not in names}
        curves |= held
        program = Program(base, Take(take.name, take.rate, take.first, take.last, curves, take.tethers))
        steps = (("marl/hand.L", 60.0), ("hook/hook", 110.0), ("marl/hand.R", 150.0))
        for to, first in steps:
            outcome = run(
                program, "retether", Asked((("lantern", "lantern"),), first, None, {"to": to, "after": "ride"})
            )
            proof = outcome.proof
            self.assertTrue(all(c.still for c in proof.changes), proof.sentence)
            self.assertTrue(all(c.smooth for c in proof.changes), proof.sentence)
            self.assertTrue(proof.unchanged_outside)
            program = program.on(outcome.take)
        for to, first, last in (
            ("marl/hand.L", 65.0, 110.0),
            ("hook/hook", 115.0, 150.0),
            ("marl/hand.R", 155.0, 192.0),
        ):
            at = np.arange(first, last, 0.25)
            poses = program.evaluate(at)
            node, ring = program.nodes[tuple(to.split("/"))], program.nodes["lantern", "lantern"]
            local = rotate(inverse(poses.rot[:, node]), poses.pos[:, ring] - poses.pos[:, node])
            self.assertLess(float(np.abs(local - local[:1]).max()), 1e-9, to)
        self.assertEqual([f for f in find_all(program) if f.member == "lantern"], [])


if __name__ == "__main__":
    unittest.main()
