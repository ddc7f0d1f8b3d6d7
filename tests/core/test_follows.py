"""Faults of what is followed, planted at random: found, none invented, and taken out without moving anything."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from tests.depth import DEPTH
from yielding_tether.core.curves import LEAVING, LINEAR, SMOOTH, Key, curve, insert, put
from yielding_tether.core.errors import CoreError
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations import repair
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Take, Tether
from yielding_tether.core.transforms import rotation_distance
from yielding_tether.demo.cast_off import cast_off

from .test_retether import world
from .worlds import limb_member, scene, stepped

KINDS = ("overfull", "unused")


def planted(seed: int, turning: bool) -> tuple[Program, list[tuple[str, float, float]]]:
    """A limb's end, or an FK joint, that follows raft and cup by more than all of it for a while, and a follow of a prop that
    nobody uses; what is to be found (part, first frame, last)."""
    rng = np.random.default_rng(seed)
    program = world(3 * seed if turning else 3 * seed + 1)
    control, whole = ("upper", (False, True)) if turning else ("limb.ik", (True, True))
    raft, cup = (Tether(n, "arm", control, n, n, *whole) for n in ("raft", "cup"))
    idle = Tether("raft", "cup", "cup", "raft", "raft")
    a, b = sorted(float(x) for x in rng.choice(np.arange(5, 55), 2, replace=False))
    one, two = (float(x) for x in rng.uniform(0.6, 1.0, 2))
    weights = {}
    for what in ("position", "rotation") if not turning else ("rotation",):
        weights[raft.weight_channel(what)] = stepped((0, one))
        if seed % 2:
            weights[cup.weight_channel(what)] = stepped((0, 0.0), (a, two), (b, 0.0))
        else:
            # Dialled in and out: smoothly, or in straight lines.
            kind = SMOOTH if seed % 4 else LINEAR
            keys = [Key(t, v, v, 0.0, 0.0, kind) for t, v in ((a - 4, 0.0), (a, two), (b, two), (b + 4, 0.0))]
            weights[cup.weight_channel(what)] = curve(keys)
    take = replace(program.take, tethers=(raft, cup, idle)).with_curves(weights)
    return program.on(take), [("arm/limb", a, b), ("cup/cup", 0.0, 60.0)]


class Followed(unittest.TestCase):
    def test_all_are_found_and_repaired_with_nothing_moved(self) -> None:
        for seed in range(25 * DEPTH):
            for turning in (False, True):
                program, made = planted(seed, turning)
                found = [f for f in find_all(program) if f.kind in KINDS]
                with self.subTest(seed=seed, turning=turning):
                    self.assertEqual(
                        [f"{f.member}/{f.part}" for f in found], [m[0] for m in sorted(made, key=lambda m: m[1])]
                    )
                    full = next(f for f in found if f.kind == "overfull")
                    slack = 0.5 if seed % 2 else 4.0
                    self.assertAlmostEqual(full.frame, made[0][1], delta=slack)
                    self.assertAlmostEqual(full.last, made[0][2], delta=slack)
                    take, proof = repair.apply(program, [f.key for f in found])
                    after = program.on(take)
                    self.assertEqual([f.sentence for f in find_all(after) if f.kind in KINDS], [])
                    self.assertEqual([t.member for t in take.tethers], ["arm", "arm"])
                    t = np.arange(0.0, 60.5, 0.25)
                    a, b = program.evaluate(t), after.evaluate(t)
                    old, new = program.joints()[1], after.joints()[1]
                    # On frames it is the very same; between them smooth weights are scaled along a cubic, and the proof tells.
                    place = np.linalg.norm(a.pos[:, old] - b.pos[:, new], axis=-1).max(axis=1)
                    turn = rotation_distance(a.rot[:, old], b.rot[:, new]).max(axis=1)
                    self.assertLess(float(place[::4].max()), 1e-6)
                    self.assertLess(float(turn[::4].max()), 1e-6)
                    self.assertLessEqual(float(turn[::2].max()), proof.departure_turn.value + 1e-9)
                    self.assertLess(float(turn.max()), 0.1)
                    self.assertTrue(proof.unchanged_outside)
                    names = [n for n in take.curves if n.startswith("arm/") and ".raft." in n]
                    for n in names:
                        rows = [after.channels[n], after.channels[n.replace(".raft.", ".cup.")]]
                        total = after.sample(np.arange(0.0, 60.0, 0.1), LEAVING, np.array(rows)).sum(axis=0)
                        self.assertLess(float(total.max()), 1.02)


class Round(unittest.TestCase):
    """A joint or a control turned between two things that turn against one another by more than half a turn."""

    def turning(self, seed: int) -> tuple[Program, str, Tether]:
        """A body that turns once and a half round, there and part of the way back, in which something is held half-way."""
        rng = np.random.default_rng(seed)
        member = limb_member(rng)
        most = float(rng.uniform(1.2, 3.4) * np.pi * rng.choice([-1.0, 1.0]))
        axis = f"arm/root.r{member.parts[0].joint_orders[0][-1]}"
        keys = [
            Key(0, 0, 0, 0, 0, SMOOTH),
            Key(40, most, most, 0, 0, SMOOTH),
            Key(60, 0.3 * most, 0.3 * most, 0, 0, SMOOTH),
        ]
        control, kind = (("upper", False), ("limb.ik", True))[seed % 2]
        tether = Tether("it", "arm", control, "world", "world", kind, True)
        weight = float(rng.uniform(0.3, 0.7))
        curves = {axis: curve(keys), **dict.fromkeys(tether.weights, stepped((0, weight)))}
        if kind:
            curves["arm/limb.drive"] = stepped((0, 1.0))
        return Program(scene(member), Take("round", 24, 0, 60, curves, (tether,))), control, tether  # type: ignore[arg-type]

    def test_the_flip_is_found_and_repaired_and_the_turn_goes_on(self) -> None:
        for seed in range(10 * DEPTH):
            program, control, _ = self.turning(seed)
            found = [f for f in find_all(program) if f.kind == "round"]
            self.assertEqual(len(found), 1, seed)
            after = Program(program.scene, repair.apply(program, [found[0].key])[0])
            # Neither a flip nor a jump is left, at no side of any key.
            left = [f.sentence for f in find_all(after) if f.kind not in ("reach", "flip")]
            self.assertFalse(left, seed)
            node = program.nodes["arm", control, "space"]
            at = np.arange(0.0, 60.0, 1 / 64)
            was, now = (p.evaluate(at).rot[:, node] for p in (program, after))
            root = program.evaluate(at).rot[:, program.nodes["arm", "root"]]
            body = rotation_distance(root[1:], root[:-1])
            self.assertGreater(rotation_distance(was[1:], was[:-1]).max(), 0.5, seed)
            # It turns by its share of what the body turns, and never by more.
            self.assertLess(rotation_distance(now[1:], now[:-1]).max(), 1.01 * body.max(), seed)
            before = at < found[0].frame - 1e-6
            self.assertLess(rotation_distance(was, now)[before].max(), 1e-9)

    def test_among_three_things_it_is_told_that_no_way_can_be_chosen(self) -> None:
        program, control, tether = self.turning(1)
        more = replace(tether, name="more", anchor_member="arm", anchor="carrier")
        still = program.on(replace(program.take, tethers=(tether, more)))
        for share, kinds in ((0.0, {"round"}), (0.3, {"among"})):
            now = still.with_curves(
                dict.fromkeys(tether.weights, stepped((0, 0.35))) | dict.fromkeys(more.weights, stepped((0, share)))
            )
            found = {f.kind: f for f in find_all(now) if f.kind in ("round", "among")}
            self.assertEqual(set(found), kinds)
            # It is where the evaluated space jumps.
            frame = next(iter(found.values())).frame
            rot = now.evaluate([frame - 0.2, frame]).rot[:, now.nodes["arm", control, "space"]]
            self.assertGreater(float(rotation_distance(rot[0], rot[1])), 0.5)
            if "among" in found:
                with self.assertRaisesRegex(CoreError, "two of them at a time"):
                    repair.apply(now, [found["among"].key])

    def test_a_joint_half_way_turns_half_of_every_turn_of_the_body(self) -> None:
        program, control, tether = self.turning(0)
        program = program.with_curves(dict.fromkeys(tether.weights, stepped((0, 0.5))))
        key = next(f.key for f in find_all(program) if f.kind == "round")
        after = Program(program.scene, repair.apply(program, [key])[0])
        turned = after.evaluate([0.0, 40.0]).rot[:, after.nodes["arm", control, "space"]]
        most = next(c for n, c in program.take.curves.items() if n.startswith("arm/root.r")).numbers[1, 1]
        want = abs((0.5 * most + np.pi) % (2 * np.pi) - np.pi)
        self.assertAlmostEqual(float(rotation_distance(turned[1], turned[0])), want, 6)


class Leaving(unittest.TestCase):
    def test_a_hand_that_leaves_what_it_follows_is_found_and_planted(self) -> None:
        """The rail in the hand of the demo take, which wanders off by some centimetres for a while: by more than it may or not."""
        clean = Program(*cast_off())
        name, at = "marl/arm.L.ik.tx", 150.0
        old = clean.take.curves[name]
        value = float(clean.now(at, [clean.channels[name]])[0])
        for off, within in ((0.05, 0.02), (0.05, 0.2), (0.01, 0.02), (0.05, None)):
            moved = put(
                insert(insert(insert(old, 130.0), at), 180.0), [Key(at, value + off, value + off, 0.0, 0.0, SMOOTH)]
            )
            held = tuple(replace(c, within=within) for c in clean.take.contacts)
            program = clean.on(replace(clean.take, contacts=held)).with_curves({name: moved})
            found = [f for f in find_all(program) if f.kind == "leaves"]
            self.assertEqual(len(found), int(off > (within or 1.0)), (off, within))
            for f in found:
                self.assertEqual((f.part, f.frame), ("arm.L", 108.0))
                self.assertAlmostEqual(f.place, 0.05, delta=0.01)
                take, _ = repair.apply(program, [f.key])
                self.assertFalse([f for f in find_all(program.on(take)) if f.kind == "leaves"])
        # What does not follow the rail there may be anywhere.
        free = program.with_curves(
            {n: stepped((0, 0.0)) for n in program.take.curves if n.startswith("marl/arm.L.ik.rail")}
        )
        self.assertFalse([f for f in find_all(free) if f.kind == "leaves"])


if __name__ == "__main__":
    unittest.main()
