"""Nudge: places and turns as given in the stretch, eased as told at its ends, keys later in time, nothing elsewhere."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np
from scipy.spatial.transform import Rotation

from yielding_tether.core.curves import ARRIVING, LEAVING, curve, sample
from yielding_tether.core.errors import CoreError
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.program import Program
from yielding_tether.core.rig import Bound
from yielding_tether.core.takes import Layer
from yielding_tether.core.transforms import Floats

from .test_handover import captured
from .test_layers import plain
from .worlds import limb_member, random_take, scene

QUARTERS = np.arange(0.0, 204.25, 0.25)


def nudged(program: Program, part: str, first: float, last: float | None, member: str = "marl", **by: float) -> Program:
    return program.on(run(program, "nudge", Asked(((member, part),), first, last, by)).take)


def moved(before: Program, after: Program, node: int, times: Floats) -> Floats:
    """(F, 3) how far a joint is from where it was."""
    return after.evaluate(times).pos[:, node] - before.evaluate(times).pos[:, node]


def carried(program: Program, bound: Bound, by: tuple[float, float, float], times: Floats, at: float) -> Floats:
    """(F, 3) a vector of the world at a frame, that goes with the space in which a part's one control is."""
    space = next(iter(bound.controls.values())).space
    here, then = (Rotation.from_quat(program.evaluate(t).rot[:, space]) for t in (times, np.array([at])))
    found: Floats = (here * then.inv()).apply(np.array(by))
    return found


def share(times: Floats, first: float, last: float, ease: float) -> Floats:
    """By hand: nothing, up along 3x² - 2x³, all, and down again."""
    x = np.clip(np.minimum((times - first) / ease + 1.0, (last - times) / ease + 1.0), 0.0, 1.0)
    found: Floats = 3.0 * x**2 - 2.0 * x**3
    return found


class Places(unittest.TestCase):
    def test_a_foot_is_elsewhere_by_as_much_as_said_and_eased_between_keys_too(self) -> None:
        p = plain()
        node = p.nodes["marl", "foot.L"]
        for first, last, ease in ((60.0, 70.0, 8), (61.25, 88.5, 5), (100.0, 100.0, 12)):
            q = nudged(p, "leg.L", first, last, x=2.0, y=1.0, ease=ease)
            by = carried(p, p.bound("marl", "leg.L"), (0.02, 0.01, 0.0), QUARTERS, first)
            wanted = share(QUARTERS, first, last, ease)[:, None] * by
            reached = p.evaluate(QUARTERS)
            straight = np.linalg.norm(reached.pos[:, node] - reached.pos[:, p.nodes["marl", "thigh.L"]], axis=1)
            bent = straight < 0.97 * straight.max()
            np.testing.assert_allclose(moved(p, q, node, QUARTERS)[bent], wanted[bent], atol=1e-7)
            self.assertGreater(int((wanted[bent, 0] > 0.019).sum()), 3)

    def test_what_follows_something_else_meanwhile_is_as_far_off_on_both_sides_of_that(self) -> None:
        """Once a nudged foot jumped where it changed from the deck to a thing that lies another way: up was not up any more."""
        p = plain()
        node = p.nodes["marl", "foot.L"]
        follows = p
        for at, to in ((70.0, "marl/hand.R"), (84.25, "marl/head"), (96.0, "world")):
            asked = Asked((("marl", "leg.L"),), at, None, {"to": to, "keys": "every"})
            follows = follows.on(run(follows, "retether", asked).take)
        for first, last, by in (
            (62.0, 100.0, {"y": 2.0}),
            (75.0, 90.0, {"y": 1.0, "ry": 20.0}),
            (84.25, 84.25, {"x": 2.0, "y": 1.0}),
        ):
            done = run(follows, "nudge", Asked((("marl", "leg.L"),), first, last, {**by, "ease": 12}))
            q = follows.on(done.take)
            self.assertTrue(all(c.as_before for c in done.proof.changes), done.proof.sentence)
            if "ry" not in by:
                self.assertTrue(all(c.smooth for c in done.proof.changes if c.frame < 96.0), done.proof.sentence)
            self.assertTrue(done.proof.unchanged_outside)
            for t in (t for t in (70.0, 84.25, 96.0) if first - 12 < t < last + 12):
                arriving, leaving = (q.evaluate([t], side).pos[0, node] for side in (ARRIVING, LEAVING))
                np.testing.assert_allclose(leaving, arriving, atol=1e-6)
            here = moved(follows, q, node, np.array([first]))[0]
            np.testing.assert_allclose(here[:2], np.array([by.get("x", 0.0), by["y"]]) / 100.0, atol=2e-3)

    def test_what_begins_or_ends_with_the_take_has_no_ease_there(self) -> None:
        p = plain()
        node = p.nodes["marl", "hips"]
        for first, last, over in ((0, 20, (-99, 20)), (150, None, (150, 999))):
            q = nudged(p, "hips", first, last, y=-2.0, ease=10)
            wanted = carried(p, p.bound("marl", "hips"), (0.0, -0.02, 0.0), QUARTERS, first)
            np.testing.assert_allclose(
                moved(p, q, node, QUARTERS), share(QUARTERS, *over, 10)[:, None] * wanted, atol=1e-9
            )

    def test_without_an_ease_it_begins_and_ends_at_once(self) -> None:
        p = plain()
        place = int(p.bound("marl", "hips").controls["hips"].place)
        hips = [place, place + 1, place + 2]
        q = nudged(p, "hips", 60, 70, x=3.0, ease=0)
        at = np.array([60.0, 65.0, 70.0])
        for side, inside in ((ARRIVING, [0, 1, 1]), (LEAVING, [1, 1, 0])):
            got = np.linalg.norm(q.sample(at, side, hips) - p.sample(at, side, hips), axis=0)
            np.testing.assert_allclose(got, 0.03 * np.array(inside), atol=1e-9)

    def test_an_fk_arm_goes_by_its_hand_where_that_is_asked(self) -> None:
        p = plain()
        node = p.nodes["marl", "hand.L"]
        self.assertEqual(
            p.bound("marl", "arm.L").state(p.now(60.0, p.bound("marl", "arm.L").driver_channels)[:, None]), "fk"
        )
        q = nudged(p, "arm.L", 60, 66, x=3.0, z=-2.0)
        np.testing.assert_allclose(moved(p, q, node, np.array([60.0]))[0], [0.03, 0.0, -0.02], atol=1e-6)


class Turns(unittest.TestCase):
    def test_a_turn_is_made_about_the_controls_place_and_eased_along_its_arc(self) -> None:
        p = plain()
        node = p.nodes["marl", "hips"]
        q = nudged(p, "hips", 60, 80, rx=10.0, ry=25.0, ease=10)
        whole = Rotation.from_euler("XYZ", [10, 25, 0], degrees=True)
        a, b = (Rotation.from_quat(x.evaluate(QUARTERS).rot[:, node]) for x in (p, q))
        k = int(np.flatnonzero(QUARTERS == 60.0)[0])
        self.assertLess((whole.inv() * (b[k] * a[k].inv())).magnitude(), 1e-9)
        # In the control's own space the same turn all along.
        own = (a.inv() * b).magnitude()
        np.testing.assert_allclose(own, share(QUARTERS, 60, 80, 10) * whole.magnitude(), atol=1e-3)
        self.assertLess(np.abs(moved(p, q, node, QUARTERS)).max(), 1e-9)


class Times(unittest.TestCase):
    def test_all_keys_of_the_stretch_come_later_and_keep_what_they_say(self) -> None:
        p = plain()
        names = p.channel_names()
        for part, system in (("leg.L", "ik"), ("arm.L", "fk"), ("head", "fk")):
            for later in (3.0, -2.0, 1.5):
                q = nudged(p, part, 60, 84, later=later, ease=8)
                for c in p.bound("marl", part).systems[system].channels:
                    old, new = (x.take.curves.get(names[c]) for x in (p, q))
                    if old is None or new is None:
                        continue
                    times = np.arange(60.0, 84.01, 0.25)
                    np.testing.assert_allclose(
                        sample(new, times + later, ARRIVING), sample(old, times, ARRIVING), atol=1e-9
                    )
                    away = QUARTERS[(QUARTERS < 52) | (QUARTERS > 92)]
                    np.testing.assert_allclose(sample(new, away), sample(old, away), atol=1e-9)
                    for key in (k for k in old.all_keys() if 60 < k.time < 84):
                        kept = new.key(new.find(key.time + later) or 0)
                        self.assertEqual(kept._replace(time=key.time), key)

    def test_keys_never_overtake_one_another(self) -> None:
        with self.assertRaisesRegex(CoreError, "ease of more than 15 frames"):
            nudged(plain(), "leg.L", 60, 84, later=10.0, ease=15)
        nudged(plain(), "leg.L", 60, 84, later=10.0, ease=16)

    def test_to_the_end_of_the_take_what_leaves_it_is_gone(self) -> None:
        q = nudged(plain(), "leg.L", 150, None, later=9.0, ease=20)
        last = max(float(c.times[-1]) for n, c in q.take.curves.items() if "leg.L" in n)
        self.assertLessEqual(last, q.take.last)


class Kept(unittest.TestCase):
    def test_keys_stay_where_and_what_they_are(self) -> None:
        p = plain()
        names = p.channel_names()
        q = nudged(p, "hips", 60, 90, x=2.0)
        c = int(p.bound("marl", "hips").controls["hips"].place)
        old, new = p.take.curves[names[c]], q.take.curves[names[c]]
        by: list[float] = []
        for key in old.all_keys():
            found = new.find(key.time)
            assert found is not None
            kept = new.key(found)
            self.assertEqual((kept.kind, kept.tag, kept.lock), (key.kind, key.tag, key.lock), key.time)
            if 60 < key.time < 90:
                self.assertEqual(kept.rule, key.rule)
                by.append(kept.leaving - key.leaving)
        self.assertGreater(len(by), 1)
        np.testing.assert_allclose(by, by[0], atol=1e-12)

    def test_locked_keys_and_mixed_stretches_are_refused_in_words(self) -> None:
        p = plain()
        names = p.channel_names()
        c = names[int(p.bound("marl", "hips").controls["hips"].place)]
        old = p.take.curves[c]
        at = int(np.flatnonzero((old.times > 60) & (old.times < 100))[0])
        keys = old.all_keys()
        locked = p.with_curves({c: curve([*keys[:at], keys[at]._replace(lock=1), *keys[at + 1 :]])})
        with self.assertRaisesRegex(CoreError, "locked"):
            nudged(locked, "hips", 60, 100, x=1.0)
        with self.assertRaisesRegex(CoreError, "one system all along"):
            nudged(p, "arm.L", 20, 200, x=1.0)
        with self.assertRaisesRegex(CoreError, "by how much"):
            nudged(p, "hips", 60, 100)
        with self.assertRaisesRegex(CoreError, "only turns"):
            nudged(p, "head", 60, 90, x=1.0, which="head")
        with self.assertRaisesRegex(CoreError, "no control 'tail'"):
            nudged(p, "head", 60, 90, rx=1.0, which="tail")

    def test_a_capture_is_nudged_by_adjustments_and_never_in_time(self) -> None:
        p = captured()
        member = next(m for m in p.scene.members if p.take.captures.get(m.id))
        bound = next(b for b in p.bounds.values() if b.member.id == member.id and b.part.free)
        q = nudged(p, bound.part.name, 10, 20, member.id, y=3.0, ease=4)
        for name, kept in p.take.captures.items():
            self.assertIs(q.take.captures[name], kept)
        np.testing.assert_allclose(moved(p, q, int(bound.nodes[0]), np.array([10.0, 20.0]))[:, 1], 0.03, atol=1e-9)
        with self.assertRaisesRegex(CoreError, "no keys to come later"):
            nudged(p, bound.part.name, 10, 20, member.id, later=2.0)

    def test_random_limbs_change_within_the_ease_alone(self) -> None:
        for seed in range(12):
            rng = np.random.default_rng(seed)
            member = limb_member(rng)
            p = Program(scene(member), random_take(rng, (member,), 60))
            part = member.parts[0].name
            for bound in (b for b in p.bounds.values() if b.part.name == part):
                first, last = sorted(rng.uniform(12, 48, 2).tolist())
                try:
                    q = nudged(p, part, first, last, member.id, rx=7.0, ry=-12.0, ease=6)
                except CoreError as error:
                    self.assertIn("one system all along", str(error))
                    continue
                times = np.arange(0.0, 60.1, 0.25)
                away = times[(times < first - 6) | (times > last + 6)]
                a, b = p.evaluate(away), q.evaluate(away)
                self.assertLess(np.abs(a.pos[:, bound.nodes] - b.pos[:, bound.nodes]).max(), 1e-9)


class OnLayers(unittest.TestCase):
    def test_onto_a_layer_it_leaves_the_base_as_it_is(self) -> None:
        p = plain()
        p = p.on(replace(p.take, layers=(Layer("a", "wider"), Layer("b", "above"))))
        node = p.nodes["marl", "hips"]
        q = p.on(
            run(p, "nudge", Asked((("marl", "hips"),), 60, 80, {"x": 2.0, "ry": 12.0, "ease": 8, "layer": "a"})).take
        )
        for name, kept in p.take.curves.items():
            self.assertIs(q.take.curves[name], kept)
        self.assertEqual(q.take.layers[1], p.take.layers[1])
        frames = np.arange(0.0, 205.0)
        without = nudged(p.on(replace(p.take, layers=())), "hips", 60, 80, x=2.0, ry=12.0, ease=8)
        np.testing.assert_allclose(moved(without, q, node, frames), 0.0, atol=1e-9)

    def test_the_layer_has_keys_where_it_does_something_alone(self) -> None:
        p = plain()
        p = p.on(replace(p.take, layers=(Layer("a", "wider"),)))
        asked = Asked((("marl", "leg.L"),), 64, 69, {"y": 1.0, "ease": 4, "layer": "a"})
        made = run(p, "nudge", asked).take.layers[0]
        self.assertGreaterEqual(min(c.times[0] for c in made.curves.values()), 55)
        self.assertLessEqual(max(c.times[-1] for c in made.curves.values()), 80)
