"""The contract of a part, over every registered part and system, keyed and captured."""

from __future__ import annotations

import unittest
from dataclasses import replace
from itertools import permutations

import numpy as np

from tests.depth import DEPTH
from yielding_tether.core.clips import copy
from yielding_tether.core.curves import ARRIVING, LEAVING, curve
from yielding_tether.core.findings import find_all
from yielding_tether.core.fitting import fit
from yielding_tether.core.layers import can_layer
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.operations.handover import Handover, apply
from yielding_tether.core.operations.paste import Paste
from yielding_tether.core.operations.paste import apply as paste
from yielding_tether.core.program import Program
from yielding_tether.core.rig import Bound
from yielding_tether.core.takes import WORLD, Layer, Tether
from yielding_tether.core.transforms import Floats, rotation_distance

from .contract import EXAMPLES, at_rest, captured, driven, kinds, programs, random_values
from .test_layers import swing
from .worlds import stepped, weights

#: Of each kind of part.
SEEDS = 2 * DEPTH
POSES = 400


def off(bound: Bound, a: Floats, b: Floats, qa: Floats, qb: Floats) -> tuple[float, float]:
    nodes = bound.nodes
    place = float(np.linalg.norm(a[:, nodes] - b[:, nodes], axis=-1).max())
    return place, float(rotation_distance(qa[:, nodes], qb[:, nodes]).max())


class Complete(unittest.TestCase):
    """A2, for every pair of systems of every part: any pose carries over, there and back."""

    def test_there_and_back_between_all_systems(self) -> None:
        count = 0
        for kind in kinds():
            for seed in range(SEEDS):
                for program, bound in programs(seed, kind):
                    rng = np.random.default_rng(seed)
                    at = rng.uniform(0, 60, POSES)
                    for one, other in permutations(bound.systems, 2):
                        values = random_values(rng, bound, one, POSES)
                        overrides = {int(c): values[k] for k, c in enumerate(bound.systems[one].channels)}
                        pose = program.evaluate(at, overrides={**overrides, **bound.drive_to(one)})
                        there = fit(program, bound, other, pose)
                        with self.subTest(kind=kind, seed=seed, one=one, other=other):
                            self.assertLessEqual(there.position.max(), 1e-6)
                            self.assertLessEqual(there.rotation.max(), 1e-6)
                        # And back again: compared by joints, since other values may mean the same pose.
                        fitted = {int(c): there.values[k] for k, c in enumerate(there.channels)}
                        second = program.evaluate(at, overrides={**fitted, **bound.drive_to(other)})
                        back = fit(program, bound, one, second)
                        third = {int(c): back.values[k] for k, c in enumerate(back.channels)}
                        again = program.evaluate(at, overrides={**third, **bound.drive_to(one)})
                        place, turn = off(bound, again.pos, pose.pos, again.rot, pose.rot)
                        with self.subTest(kind=kind, seed=seed, one=one, other=other, way="back"):
                            self.assertLessEqual((place, turn), (1e-6, 1e-6))
                            self.assertLessEqual(turn, 1e-6)
                        count += POSES
        self.assertGreaterEqual(count, 30_000)


class Rest(unittest.TestCase):
    def test_rest_reads_zero_in_every_system_and_any_system_drives_it(self) -> None:
        for kind in kinds():
            for seed in range(20):
                example = EXAMPLES[kind](np.random.default_rng(seed))
                program = at_rest(example)
                bound = program.bound(example.member.id, example.part)
                rest = example.member.skeleton.rest_pose
                nodes = program.joints()[1]
                for system, mine in bound.systems.items():
                    poses = program.evaluate([0.0], overrides={**bound.drive_to(system)})
                    with self.subTest(kind=kind, seed=seed, system=system):
                        self.assertLess(np.abs(poses.pos[0, nodes] - rest[0]).max(), 1e-9)
                        self.assertLess(rotation_distance(poses.rot[0, nodes], rest[1]).max(), 1e-7)
                        values = fit(program, bound, system, poses, mine.standard.copy()).values[:, 0]
                        self.assertLess(np.abs(values - mine.standard)[~mine.stepped].max(), 1e-6)

    def test_the_rest_pose_is_the_same_whichever_anchor_is_chosen(self) -> None:
        """C1: within 1e-9, for every control that can follow something."""
        for kind in kinds():
            example = EXAMPLES[kind](np.random.default_rng(3))
            plain = at_rest(example)
            want = plain.evaluate([0.0]).pos[0, plain.joints()[1]]
            bound = plain.bound(example.member.id, example.part)
            able = [c for mine in bound.systems.values() for c in mine.controls if c.releases]
            for control, moves, turns in ((c.name, "position" in c.releases, "rotation" in c.releases) for c in able):
                for anchor in ((WORLD, WORLD), (example.member.id, example.member.skeleton.joints[0].name)):
                    if anchor[1] == control:
                        continue
                    tether = Tether("a", example.member.id, control, *anchor, moves, turns)
                    take = replace(plain.take, tethers=(tether,)).with_curves(weights(tether, stepped((0, 1.0))))
                    program = Program(plain.scene, take)
                    over = {c: v for s in bound.systems for c, v in program.bound(*bound.id).drive_to(s).items()}
                    got = program.evaluate([0.0], overrides=over).pos[0, program.joints()[1]]
                    self.assertLess(np.abs(got - want).max(), 1e-9, (kind, control, anchor))


class SameBits(unittest.TestCase):
    def test_any_subset_in_any_order_gives_the_same_bits(self) -> None:
        for kind in kinds():
            for seed in range(3):
                for program, bound in programs(seed, kind):
                    names = program.channel_names()
                    # Every way of driving, and mixtures.
                    shares = {names[c]: stepped((0, 0.0), (15, 0.4), (30, 1.0), (40, 0.7)) for _, c in bound.drivers}
                    mixed = program.with_curves(shares)
                    rng = np.random.default_rng(seed)
                    times = np.sort(np.concatenate([np.arange(0.0, 61.0), rng.uniform(-3, 65, 70)]))
                    whole = mixed.evaluate(times)
                    self.assertTrue(np.isfinite(whole.pos[:, mixed.joints()[1]]).all())
                    for _ in range(6):
                        picked = rng.permutation(len(times))[: rng.integers(1, len(times))]
                        part = mixed.evaluate(times[picked])
                        self.assertEqual(part.pos.tobytes(), whole.pos[picked].tobytes(), (kind, seed))
                        self.assertEqual(part.rot.tobytes(), whole.rot[picked].tobytes(), (kind, seed))
                    # Only some nodes: the same bits for them.
                    some = mixed.evaluate(times, only=bound.nodes)
                    self.assertEqual(some.pos[:, bound.nodes].tobytes(), whole.pos[:, bound.nodes].tobytes())
                    # What a drag put in place of the curves leaves nothing behind.
                    over = {int(c): 1.0 for c in next(iter(bound.systems.values())).channels}
                    mixed.evaluate(times[:3], overrides=over)
                    self.assertEqual(mixed.evaluate(times).pos.tobytes(), whole.pos.tobytes())


class Mixing(unittest.TestCase):
    def test_between_systems_each_joint_turns_on_the_shortest_arc_in_the_parts_own_parent_space(self) -> None:
        """A1, also under a capture and for parts of many joints."""
        from scipy.spatial.transform import Rotation, Slerp

        looked = 0
        for kind in kinds():
            for seed in range(SEEDS):
                for program, bound in programs(seed, kind):
                    for name, channel in bound.drivers:
                        below = next(iter(bound.systems))
                        frame = [float(np.random.default_rng(seed).uniform(1, 59))]
                        quiet = {c: 0.0 for _, c in bound.drivers}
                        a, b, m = (program.evaluate(frame, overrides={**quiet, channel: w}) for w in (0.0, 1.0, 0.3))
                        for node, base in zip(bound.nodes, bound.outer, strict=True):
                            up = Rotation.from_quat(a.rot[0, base])
                            ends = Rotation.concatenate([up.inv() * Rotation.from_quat(p.rot[0, node]) for p in (a, b)])
                            if (ends[0].inv() * ends[1]).magnitude() > 3.0:
                                continue
                            want = up * Slerp([0, 1], ends)([0.3])[0]
                            self.assertLess(
                                float(rotation_distance(m.rot[0, node], want.as_quat())), 1e-9, (kind, name, below)
                            )
                            looked += 1
        self.assertGreater(looked, 100)


class Handovers(unittest.TestCase):
    """A3 to A5 and A10 for every pair of systems."""

    def test_nothing_moves_at_the_change_and_outside_stays(self) -> None:
        for kind in kinds():
            for seed in range(SEEDS):
                for plain, bound in programs(seed, kind):
                    for one, other in permutations(bound.systems, 2):
                        program = driven(plain, bound, one)
                        asked = Handover((bound.id,), other, 12.0, 40.0 if seed % 2 else None, keys="every")
                        take, proof = apply(program, asked)
                        after = program.on(take)
                        with self.subTest(kind=kind, seed=seed, one=one, other=other):
                            self.unchanged(program, after, 12.0, 40.0 if seed % 2 else 61.0)
                            self.still(after, bound, 12.0)
                            self.assertTrue(proof.unchanged_outside)
                            self.assertTrue(all(c.still for c in proof.changes), proof.changes)
                            self.assertTrue(all(c.smooth or c.reason for c in proof.changes), proof.changes)
                            # On every frame the motion is carried on exactly.
                            frames = np.arange(12.0, 40.0)
                            a, b = program.evaluate(frames), after.evaluate(frames)
                            self.assertLessEqual(np.abs(a.pos[:, bound.nodes] - b.pos[:, bound.nodes]).max(), 1e-6)
                            self.assertEqual(bound.state(after.sample([20.0], LEAVING, bound.driver_channels)), other)
                            for id, cap in program.take.captures.items():
                                self.assertIs(take.captures[id], cap)

    def unchanged(self, before: Program, after: Program, first: float, last: float) -> None:
        t = np.arange(0.0, 60.25, 0.5)
        t = t[(t < first) | (t >= last)]
        nodes = before.joints()[1]
        a, b = before.evaluate(t), after.evaluate(t)
        self.assertLess(np.abs(a.pos[:, nodes] - b.pos[:, nodes]).max(), 1e-12)

    def still(self, program: Program, bound: Bound, frame: float) -> None:
        a, b = (program.evaluate([frame], side) for side in (ARRIVING, LEAVING))
        place, turn = off(bound, a.pos, b.pos, a.rot, b.rot)
        self.assertLessEqual(place, 1e-6)
        self.assertLessEqual(turn, 1e-6)

    def test_back_to_the_capture_it_moves_as_captured(self) -> None:
        """Handed to keys and back, the part moves as it was captured once the speed has faded."""
        for kind in kinds():
            for seed in range(SEEDS):
                rng = np.random.default_rng(seed)
                example = EXAMPLES[kind](rng)
                program = captured(rng, example)
                bound = program.bound(example.member.id, example.part)
                keyed = bound.keyed_systems[-1]
                there, _ = apply(program, Handover((bound.id,), keyed, 10.0, keys="every"))
                back, proof = apply(program.on(there), Handover((bound.id,), "captured", 30.0, after="own", settle=5))
                after = program.on(back)
                with self.subTest(kind=kind, seed=seed):
                    self.assertTrue(all(c.still for c in proof.changes), proof.changes)
                    frames = np.arange(36.0, 61.0, 0.5)
                    a, b = program.evaluate(frames), after.evaluate(frames)
                    joints = program.joints()[1]
                    self.assertEqual(a.pos[:, joints].tobytes(), b.pos[:, joints].tobytes())
                    self.assertEqual(a.rot[:, joints].tobytes(), b.rot[:, joints].tobytes())


class Layered(unittest.TestCase):
    """Layers under a change of any two systems of any part: the motion stays, by whichever way they go along."""

    def test_nothing_moves_where_layers_lie_on_both_systems(self) -> None:
        for turn, kind in enumerate(kinds()):
            rng = np.random.default_rng(turn)
            # Keyed and captured ones by turns.
            for plain, bound in programs(turn, kind)[turn // 2 % 2 :: 2]:
                names = plain.channel_names()
                able = [names[c] for s in bound.systems.values() for c in s.channels if can_layer(plain, int(c))]
                layers = tuple(
                    Layer(f"l{k}", f"layer {k}", {n: swing(rng, 5, 55, 0.04) for n in able if rng.random() < 0.6}, w)
                    for k, w in enumerate((curve([]), swing(rng, 0, 60, 0.1, level=0.7)))
                )
                # Pairs by turns too.
                for n, (one, other) in list(enumerate(permutations(bound.systems, 2)))[turn % 2 :: 2]:
                    program = driven(plain, bound, one)
                    program = program.on(replace(program.take, layers=layers))
                    how = ("carried", "folded")[(n + turn) % 2]
                    asked = Asked(
                        (bound.id,), 12.0, 40.0 if turn % 3 else None, {"to": other, "keys": "every", "layers": how}
                    )
                    take = run(program, "handover", asked).take
                    with self.subTest(kind=kind, one=one, other=other, how=how):
                        self.assertEqual([x.id for x in take.layers], ["l0", "l1"])
                        for side in (ARRIVING, LEAVING):
                            a, b = (p.evaluate(program.take.frames, side) for p in (program, program.on(take)))
                            place, turned = off(bound, a.pos, b.pos, a.rot, b.rot)
                            self.assertLessEqual((place, turned), (1e-6, 1e-6))
                            self.assertLessEqual(turned, 1e-6)
                        for id, cap in program.take.captures.items():
                            self.assertIs(take.captures[id], cap)


class Crossfades(unittest.TestCase):
    """A6: between what two systems hold in their stored keys; never a finding, never taken for a handover."""

    def test_the_fade_leads_from_one_system_to_the_other_and_touches_no_key_of_either(self) -> None:
        for kind in kinds():
            for seed in range(3):
                for plain, bound in programs(seed, kind):
                    for one, other in permutations(bound.systems, 2):
                        program = driven(plain, bound, one)
                        asked = Asked((bound.id,), 20.0, None, {"to": other, "over": 8})
                        take, proof, label, *_ = run(program, "crossfade", asked)
                        after = program.on(take)
                        want = driven(plain, bound, other)
                        with self.subTest(kind=kind, seed=seed, one=one, other=other):
                            for at, source in (
                                (np.arange(0.0, 20.5, 0.5), program),
                                (np.arange(28.0, 60.5, 0.5), want),
                            ):
                                a, b = after.evaluate(at), source.evaluate(at)
                                self.assertLess(np.abs(a.pos[:, bound.nodes] - b.pos[:, bound.nodes]).max(), 1e-12)
                            mine = {program.channel_names()[c] for _, c in bound.drivers}
                            touched = {n for n, c in take.curves.items() if c is not program.take.curves.get(n)}
                            self.assertLessEqual(touched, mine)
                            kinds_found = {f.kind for f in find_all(after) if f.part == bound.part.name}
                            self.assertFalse(kinds_found & {"smooth", "half", "pop", "one-sided"}, kinds_found)
                            self.assertTrue(all(c.still for c in proof.changes), proof.changes)
                            self.assertIn("Crossfade", label)


class Pastes(unittest.TestCase):
    def test_a_pose_lands_in_every_keyed_system(self) -> None:
        for kind in kinds():
            for seed in range(3):
                program, bound = programs(seed, kind)[0]
                if bound.part.free:
                    continue
                clip = copy(program, bound.member.id, [bound.part.name], 10.0, 10.0)
                take, _ = paste(program, Paste(clip, bound.member.id, 40.0))
                after = program.on(take)
                shown = [after.evaluate([40.0], overrides={**bound.drive_to(s)}) for s in bound.keyed_systems]
                for other in shown[1:]:
                    place, turn = off(bound, other.pos, shown[0].pos, other.rot, shown[0].rot)
                    self.assertLessEqual(place, 1e-6)
                    self.assertLessEqual(turn, 1e-6)
