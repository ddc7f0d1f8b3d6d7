"""The evaluation contract: subsets, sides, spans by active tethers, loops, an exchange of who holds whom."""

from __future__ import annotations

import sys
import unittest
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from threading import Thread
from unittest.mock import patch

import numpy as np

from tests.depth import DEPTH
from yielding_tether.core.cores import shared
from yielding_tether.core.curves import ARRIVING, LEAVING, SMOOTH, Key, curve
from yielding_tether.core.errors import CoreError, LoopError
from yielding_tether.core.parts import FkPart
from yielding_tether.core.program import Program, evaluate
from yielding_tether.core.takes import WORLD, Capture, Take, Tether
from yielding_tether.core.tape import Tape
from yielding_tether.core.transforms import Floats, inverse, multiply, rotate, rotation_distance
from yielding_tether.demo import named

from .worlds import Generator, limb_member, prop, random_curve, random_take, scene, stepped, weights


def exchange(rng: Generator) -> tuple[Program, Tether, Tether]:
    """The hand holds the prop until frame 30, then the prop holds the hand: who follows whom changes by a step."""
    hand, held = limb_member(rng, "hand"), prop("lantern", (0.4, 1.0, 0.3))
    holds = Tether("hand", "lantern", "lantern", "hand", "end")
    held_by = Tether("lantern", "hand", "limb.ik", "lantern", "lantern")
    take = random_take(rng, (hand, held))
    take = replace(take, tethers=(holds, held_by)).with_curves(
        {
            **weights(holds, stepped((0, 1.0), (30, 0.0))),
            **weights(held_by, stepped((0, 0.0), (30, 1.0))),
            "hand/limb.drive": stepped((0, 0.0), (30, 1.0)),
        }
    )
    return Program(scene(hand, held), take), holds, held_by


class Subsets(unittest.TestCase):
    def programs(self) -> list[Program]:
        rng = np.random.default_rng(1)
        swung = limb_member(rng, moves=True)
        return [exchange(np.random.default_rng(2))[0], Program(scene(swung), random_take(rng, (swung,)))]

    def test_any_subset_in_any_order_gives_the_same_bits(self) -> None:
        rng = np.random.default_rng(3)
        for program in self.programs():
            times = np.sort(np.concatenate([np.arange(0.0, 61.0), rng.uniform(-3, 65, 80)]))
            whole = program.evaluate(times)
            for _ in range(40):
                picked = rng.permutation(len(times))[: rng.integers(1, len(times))]
                part = program.evaluate(times[picked])
                self.assertEqual(part.pos.tobytes(), whole.pos[picked].tobytes())
                self.assertEqual(part.rot.tobytes(), whole.rot[picked].tobytes())

    def test_what_other_values_do_not_move_is_worked_out_once_with_the_same_bits(self) -> None:
        rng, fewer = np.random.default_rng(4), 0
        for program in [*self.programs(), Program(*named("Lantern round")), Program(*named("Rough crossing"))]:
            at = np.sort(rng.uniform(program.take.first - 2.0, program.take.last + 2.0, 150))
            for bound in program.bounds.values():
                mine = next(iter(bound.systems.values())).channels
                some = rng.permutation(mine)[: rng.integers(1, len(mine) + 1)]
                others = [program.bounds[k] for k in list(program.bounds)[:3]]
                nodes = np.concatenate([b.nodes for b in (bound, *others)])
                still = program.still(at, nodes, some)
                if still is None:
                    # What something has a size in, or by whose values it goes which stages there are.
                    switches = program._switching.intersection(some.tolist())
                    self.assertTrue(program.rig.slot_count > 1 or switches, bound.id)
                    continue
                values = {
                    int(c): program.sample(at, channels=np.array([c]))[0] + rng.normal(0.0, 0.1, 150) for c in some
                }
                which = rng.permutation(150)[:90]
                over = {c: v[which] for c, v in values.items()}
                plain = program.track(at[which], LEAVING, nodes, over)
                quick = program.track(at[which], LEAVING, nodes, over, still.some(which))
                for a, b in zip(plain, quick, strict=True):
                    self.assertEqual(a.tobytes(), b.tobytes(), bound.id)
                rows = [len(p.runs) for (_, _, moved), p in program._plans.items() if moved == still.channels]
                fewer += max(rows) < max(len(p.runs) for (_, _, moved), p in program._plans.items() if moved is None)
        self.assertGreater(fewer, 20)

    def test_backward_alone_and_in_batches(self) -> None:
        for program in self.programs():
            times = np.arange(0.0, 60.5, 0.5)
            whole = program.evaluate(times)
            backward = program.evaluate(times[::-1])
            self.assertEqual(backward.pos[::-1].tobytes(), whole.pos.tobytes())
            alone = np.concatenate([program.evaluate([t]).pos for t in times])
            self.assertEqual(alone.tobytes(), whole.pos.tobytes())
            batches = np.concatenate([program.evaluate(b).rot for b in np.array_split(times, 7)])
            self.assertEqual(batches.tobytes(), whole.rot.tobytes())

    def test_no_times_give_no_poses(self) -> None:
        self.assertEqual(self.programs()[0].evaluate([]).pos.shape[0], 0)


class Threads(unittest.TestCase):
    def test_who_adds_a_row_finds_it_while_others_add_and_read(self) -> None:
        """Takes of one scene share the rows: one that is missing would be read beyond their end."""
        missed: list[int] = []

        def work(tape: Tape) -> None:
            for n in range(200):
                made = tape.add(0, range(40), range(40), (3 * n,))
                ints, floats = tape.arrays
                if min(len(ints) - made.ints, len(floats) - made.floats) < 40 or 3 * n not in tape.angles:
                    missed.append(n)

        was = sys.getswitchinterval()
        sys.setswitchinterval(1e-6)
        self.addCleanup(sys.setswitchinterval, was)
        for _ in range(2 * DEPTH):
            threads = [Thread(target=work, args=(tape,)) for tape in [Tape()] * 4]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
        self.assertEqual(missed, [])

    def test_cores_share_a_take_and_all_get_the_same_bits(self) -> None:
        """However many share it, with values in place of the curves too, and whoever else asks for the same take meanwhile."""
        first, _, _ = exchange(np.random.default_rng(2))
        rng = np.random.default_rng(5)
        times = rng.uniform(-3.0, 65.0, 400)
        over: list[dict[int, float | Floats]] = [{}, {first.channels["hand/limb.ik.tx"]: rng.uniform(-1.0, 1.0, 400)}]
        wanted = [first.evaluate(times, overrides=o) for o in over]
        wrong: list[int] = []

        def work(program: Program) -> None:
            for n in range(6):
                found = program.evaluate(times, overrides=over[n % 2])
                if (
                    found.pos.tobytes() != wanted[n % 2].pos.tobytes()
                    or found.rot.tobytes() != wanted[n % 2].rot.tobytes()
                ):
                    wrong.append(n)

        for cores in (2, 3, 7):
            with patch.multiple("yielding_tether.core.program", CORES=cores, SHARE=1, WORTH=0):
                program = first.with_curves({})
                threads = [Thread(target=work, args=(program,)) for _ in range(3)]
                for thread in threads:
                    thread.start()
                for thread in threads:
                    thread.join()
            self.assertEqual(len(program._rooms), cores)
        self.assertEqual(wrong, [])

    def test_shared_work_keeps_its_order_and_its_faults_are_heard(self) -> None:
        def nested(n: int) -> list[int]:
            return shared(lambda k: 10 * n + k, range(4))

        self.assertEqual(shared(nested, range(5)), [nested(n) for n in range(5)])
        self.assertEqual(shared(nested, []), [])
        ended = ThreadPoolExecutor(1)
        ended.shutdown()
        with patch("yielding_tether.core.cores._POOL", ended):
            self.assertEqual(shared(nested, range(5)), [nested(n) for n in range(5)])
        for k in (0, 4):
            with self.assertRaises(ZeroDivisionError):
                shared(lambda n, k=k: 1 / (n - k), range(5))


class Plain(unittest.TestCase):
    def test_fk_agrees_with_the_readable_form(self) -> None:
        """The kernels against Skeleton.pose with SciPy's Euler angles."""
        from scipy.spatial.transform import Rotation

        for seed in range(20):
            rng = np.random.default_rng(seed)
            member = limb_member(rng, moves=seed % 2 == 0)
            take = random_take(rng, (member,))
            program = Program(scene(member), take)
            times = rng.uniform(0, 60, 9)
            values = program.sample(times)
            skeleton = member.skeleton
            offsets = np.repeat(skeleton.offsets[None], 9, axis=0)
            turns = np.repeat(skeleton.rests[None], 9, axis=0)
            for part in member.parts:
                orders = (part.order,) if part.kind == "free" else part.orders
                for name, order in zip(part.joints, orders, strict=True):
                    j = skeleton.index[name]
                    c = [values[program.channels[f"arm/{name}.r{a}"]] for a in order]
                    euler = Rotation.from_euler(order.upper(), np.array(c).T)
                    turns[:, j] = multiply(turns[:, j], euler.as_quat())
                    if f"arm/{name}.tx" in program.channels:
                        moved = np.array([values[program.channels[f"arm/{name}.t{a}"]] for a in "xyz"]).T
                        offsets[:, j] += rotate(skeleton.rests[j], moved) if j == 0 else moved
            pos, rot = skeleton.pose(offsets, turns)
            got = program.evaluate(times)
            nodes = program.joints()[1]
            np.testing.assert_allclose(got.pos[:, nodes], pos, atol=1e-12)
            self.assertLess(rotation_distance(got.rot[:, nodes], rot).max(), 1e-12)


class Following(unittest.TestCase):
    def test_a_full_tether_keeps_the_rest_place_in_its_anchor(self) -> None:
        rng = np.random.default_rng(4)
        body, box = limb_member(rng, "body"), prop("box", (1.0, 0.5, 0.2))
        tether = Tether("end", "box", "box", "body", "end")
        take = replace(random_take(rng, (body,)), tethers=(tether,)).with_curves(weights(tether, stepped((0, 1.0))))
        program = Program(scene(body, box), take)
        at = rng.uniform(0, 60, 30)
        pose = program.evaluate(at)
        hand, thing = program.nodes["body", "end"], program.nodes["box", "box"]
        local = rotate(inverse(pose.rot[:, hand]), pose.pos[:, thing] - pose.pos[:, hand])
        rest, turn = body.skeleton.rest_pose
        j = body.skeleton.index["end"]
        want = rotate(inverse(turn[j]), np.array([1.0, 0.5, 0.2]) - rest[j])
        np.testing.assert_allclose(local, np.broadcast_to(want, local.shape), atol=1e-12)

    def test_the_rest_pose_is_the_same_whichever_anchor_is_chosen(self) -> None:
        """C1: within 1e-9."""
        rng = np.random.default_rng(5)
        body, box = limb_member(rng, "body"), prop("box", (1.0, 0.5, 0.2))
        shown = []
        for anchor in [(WORLD, WORLD), ("body", "end"), ("body", "root"), ("body", "limb.ik"), None]:
            tethers = () if anchor is None else (Tether("a", "box", "box", *anchor),)
            take = Take("rest", random_take(rng, ()).rate, 0, 1, tethers=tethers)
            for t in tethers:
                take = take.with_curves(weights(t, stepped((0, 1.0))))
            program = Program(scene(body, box), take)
            shown.append(program.evaluate([0.0]).pos[0, program.nodes["box", "box"]])
        self.assertLess(np.ptp(np.array(shown), axis=0).max(), 1e-9)

    def test_position_and_rotation_are_released_apart(self) -> None:
        rng = np.random.default_rng(6)
        body, box = limb_member(rng, "body"), prop("box", (1.0, 0.5, 0.2))
        tether = Tether("end", "box", "box", "body", "end", position=False)
        take = replace(random_take(rng, (body,)), tethers=(tether,))
        take = take.with_curves({tether.weight_channel("rotation"): stepped((0, 1.0))})
        program = Program(scene(body, box), take)
        pose = program.evaluate([10.0, 40.0])
        node = program.nodes["box", "box"]
        np.testing.assert_allclose(pose.pos[:, node], [[1.0, 0.5, 0.2]] * 2, atol=1e-12)
        self.assertGreater(float(rotation_distance(pose.rot[0, node], pose.rot[1, node])), 1e-3)

    def test_partial_weights_share_with_the_own_space_and_surplus_is_normalised(self) -> None:
        a, b, box = prop("a", (2.0, 0.0, 0.0)), prop("b", (0.0, 2.0, 0.0)), prop("box")
        tethers = (Tether("a", "box", "box", "a", "a"), Tether("b", "box", "box", "b", "b"))
        moved = {"a/a.tx": stepped((0, 1.0)), "b/b.ty": stepped((0, 1.0))}
        for wa, wb, want in ((0.5, 0.0, (0.5, 0, 0)), (0.25, 0.5, (0.25, 0.5, 0)), (1.0, 3.0, (0.25, 0.75, 0))):
            take = Take("w", random_take(np.random.default_rng(0), ()).rate, 0, 1, moved, tethers)
            take = take.with_curves({**weights(tethers[0], stepped((0, wa))), **weights(tethers[1], stepped((0, wb)))})
            program = Program(scene(a, b, box), take)
            np.testing.assert_allclose(program.evaluate([0.0]).pos[0, program.nodes["box", "box"]], want, atol=1e-12)

    def test_a_smooth_weight_moves_the_control_continuously(self) -> None:
        rng = np.random.default_rng(7)
        body, box = limb_member(rng, "body"), prop("box", (1.0, 0.5, 0.2))
        tether = Tether("end", "box", "box", "body", "root")
        take = replace(random_take(rng, (body,), kinds=(SMOOTH,), spread=0.3), tethers=(tether,))
        fade = curve([Key(10.0, 0.0, 0.0), Key(20.0, 1.0, 1.0), Key(40.0, 0.0, 0.0)])
        program = Program(scene(body, box), take.with_curves(weights(tether, fade)))
        at = np.arange(5, 45, 0.01)
        steps = np.linalg.norm(np.diff(program.evaluate(at).pos[:, program.nodes["box", "box"]], axis=0), axis=1)
        self.assertLess(steps.max(), 0.01)


class Exchange(unittest.TestCase):
    def test_hand_holds_prop_then_prop_holds_hand_without_a_cycle(self) -> None:
        """C5."""
        for seed in range(10):
            program, _, _ = exchange(np.random.default_rng(seed))
            hand, thing = program.nodes["hand", "end"], program.nodes["lantern", "lantern"]
            before, after = np.arange(0.0, 30.0), np.arange(30.0, 61.0)
            early = program.evaluate(before)
            local = rotate(inverse(early.rot[:, hand]), early.pos[:, thing] - early.pos[:, hand])
            # The prop's own keys move it within the hand's space: take them off.
            space = program.nodes["lantern", "lantern", "space"]
            held = rotate(inverse(early.rot[:, hand]), early.pos[:, space] - early.pos[:, hand])
            self.assertLess(np.ptp(held, axis=0).max(), 1e-12)
            self.assertGreater(np.ptp(local, axis=0).max(), 1e-3)
            late = program.evaluate(after)
            space = program.nodes["hand", "limb.ik", "space"]
            held = rotate(inverse(late.rot[:, thing]), late.pos[:, space] - late.pos[:, thing])
            self.assertLess(np.ptp(held, axis=0).max(), 1e-12)
            program.check_loops()

    def test_sides_of_the_exchange_belong_to_their_own_span(self) -> None:
        program, _, _ = exchange(np.random.default_rng(3))
        eps = 1e-7
        for side, near in ((ARRIVING, 30.0 - eps), (LEAVING, 30.0 + eps)):
            at = program.evaluate([30.0], side)
            close = program.evaluate([near])
            self.assertLess(np.abs(at.pos - close.pos).max(), 1e-5)
        self.assertGreater(np.abs(program.evaluate([30.0], ARRIVING).pos - program.evaluate([30.0]).pos).max(), 1e-3)

    def test_a_true_loop_is_refused_with_members_and_frames(self) -> None:
        program, holds, _ = exchange(np.random.default_rng(4))
        looped = program.take.with_curves(weights(holds, stepped((0, 1.0), (45, 0.0))))
        again = Program(program.scene, looped)
        with self.assertRaises(LoopError) as caught:
            again.check_loops()
        self.assertEqual((caught.exception.first, caught.exception.last), (30.0, 44.0))
        self.assertIn("the lantern", str(caught.exception))
        self.assertIn("Hand's limb", str(caught.exception))
        with self.assertRaises(LoopError):
            again.evaluate([40.0])
        # Outside the loop's frames the take still plays.
        self.assertTrue(np.isfinite(again.evaluate([10.0, 50.0]).pos).all())


class Captures(unittest.TestCase):
    def test_samples_are_met_exactly_and_speed_is_continuous(self) -> None:
        rng = np.random.default_rng(8)
        member = limb_member(rng, "body")
        source = Program(scene(member), random_take(rng, (member,), kinds=(SMOOTH,)))
        frames = np.arange(0.0, 60.0, 2.0)
        pose = source.evaluate(frames)
        skeleton = member.skeleton
        nodes = source.joints()[1]
        offsets = pose.pos[:, nodes].copy()
        turns = pose.rot[:, nodes].copy()
        for j, p in enumerate(skeleton.parents):
            if p >= 0:
                back = inverse(pose.rot[:, nodes[p]])
                offsets[:, j] = rotate(back, pose.pos[:, nodes[j]] - pose.pos[:, nodes[p]])
                turns[:, j] = multiply(back, pose.rot[:, nodes[j]])
        for s in range(1, len(turns)):
            flip = np.sum(turns[s] * turns[s - 1], axis=-1) < 0
            turns[s, flip] *= -1
        take = replace(source.take, curves={}, captures={"body": Capture(offsets, turns, 0.0, 2.0)})
        program = Program(source.scene, take)
        got = program.evaluate(frames)
        nodes2 = program.joints()[1]
        np.testing.assert_allclose(got.pos[:, nodes2], pose.pos[:, nodes], atol=1e-12)
        h = 1e-6
        for t in frames[1:-1]:
            before, at, after = (program.evaluate([t + d]).pos[0, nodes2] for d in (-h, 0.0, h))
            np.testing.assert_allclose((at - before) / h, (after - at) / h, atol=1e-4)
        self.assertTrue(np.array_equal(program.evaluate([100.0]).pos, program.evaluate([58.0]).pos))


class Names(unittest.TestCase):
    def test_unknown_names_are_refused(self) -> None:
        member = limb_member(np.random.default_rng(1))
        take = Take("x", random_take(np.random.default_rng(0), ()).rate, 0, 1, {"arm/nose.rx": stepped((0, 1.0))})
        with self.assertRaisesRegex(CoreError, r"arm/nose\.rx, which nothing in the cast has"):
            evaluate(scene(member), take, [0.0])
        for tether, message in (
            (Tether("t", "arm", "root", "ghost", "x"), "which is not in the cast"),
            (Tether("t", "arm", "limb.elbow", "arm", "root"), "can't follow anything"),
            (Tether("t", "arm", "limb.guide", "arm", "root"), "follow in rotation, which it can't"),
            (Tether("t", "arm", "upper", "arm", "root"), "stays where it hangs, and only its turn follows"),
        ):
            with self.assertRaisesRegex(CoreError, message):
                evaluate(scene(member), replace(take, curves={}, tethers=(tether,)), [0.0])

    def test_a_cast_that_does_not_fit_is_refused(self) -> None:
        member = limb_member(np.random.default_rng(1))
        with self.assertRaisesRegex(CoreError, "No part of Arm drives carrier"):
            replace(member, parts=(member.parts[0], member.parts[2]))
        with self.assertRaisesRegex(CoreError, "driven by body and again"):
            replace(member, parts=(*member.parts, FkPart("again", "again", ("root",), ("xyz",), (False,))))

    def test_random_curves_cover_what_they_should(self) -> None:
        kinds = {
            k for s in range(20) for k in random_curve(np.random.default_rng(s), 60, 1.0, kinds=(0, 1, 2)).marks[:, 0]
        }
        self.assertEqual(kinds, {0, 1, 2})
