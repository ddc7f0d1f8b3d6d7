"""Contacts found in noisy captures whose truth is known: point by point, edge by edge, on the moving deck."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from tests.depth import DEPTH
from yielding_tether.core.contact_finding import LEAST, find, noise_of
from yielding_tether.core.contacts import measure, spots_of
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Contact, Standing
from yielding_tether.core.transforms import inverse, rotate
from yielding_tether.demo.rough_crossing import Kind, crossing

from .crossings import Agreement, agreement, random_kind


class Noisy(unittest.TestCase):
    def agree(self, kind: Kind) -> dict[str, Agreement]:
        made = crossing(kind)
        self.assertAlmostEqual(made.noise, kind.noise, delta=0.02 * kind.noise + 1e-12)
        return agreement(made, find(Program(made.scene, made.take)))

    def test_other_noise_rates_paces_and_floors_than_it_was_made_for(self) -> None:
        """E1: per point precision and recall at least 0.95, no stance missed, split or invented, 95 % of edges within 2 frames."""
        rng = np.random.default_rng(20260)
        all_of: dict[str, list[Agreement]] = {}
        edges: list[float] = []
        for n in range(10 * DEPTH):
            kind = random_kind(rng, 500 + n)
            if n % 2:
                # On tiptoe the heel of a quick step is down for too few frames to be told.
                kind = replace(kind, tiptoe=True, pace=min(kind.pace, 1.4))
            for point, found in self.agree(kind).items():
                all_of.setdefault(point, []).append(found)
                edges += found.edges
                with self.subTest(kind=kind, point=point):
                    self.assertEqual((found.missed, found.split, found.invented), ([], [], []))
                    # Of a tip there are a handful of frames in one crossing.
                    self.assertGreaterEqual(min(found.precision, found.recall), 0.8 if point == "tip" else 0.95)
                    self.assertEqual(found.elsewhere, 0)
        self.assertEqual(set(all_of), {"heel", "ball", "tip", "palm"})
        for point, found_ in all_of.items():
            both, more, less = (
                sum(getattr(f, n) for f in found_) for n in ("both", "invented_frames", "missed_frames")
            )
            self.assertGreaterEqual(both / (both + max(more, less)), 0.95, point)
        off = np.abs(edges)
        self.assertGreater(len(off), 250)
        self.assertGreaterEqual(float((off <= 2.0).mean()), 0.95)
        self.assertLessEqual(float(np.median(off)), 1.0)

    def test_clean_motion_is_found_to_the_frame(self) -> None:
        for rate in (24, 60):
            for point, found in self.agree(Kind(rate=rate, noise=0.0)).items():
                self.assertEqual((found.missed, found.split, found.invented), ([], [], []), (rate, point))
                self.assertLessEqual(float(np.abs(found.edges).max()), 1.5, (rate, point))

    def test_noise_is_told_from_what_moves(self) -> None:
        rng = np.random.default_rng(4)
        way = np.concatenate([np.zeros((300, 3)), np.cumsum(np.full((40, 3), 0.02), axis=0), np.full((300, 3), 0.8)])
        for size in (0.0005, 0.002, 0.006):
            told = noise_of(way + rng.normal(0.0, size, way.shape), 30.0)
            self.assertAlmostEqual(told, size, delta=0.2 * size)

    def test_short_captures_and_those_without_feet_have_none(self) -> None:
        made = crossing(Kind(rate=24, noise=0.001))
        program = Program(made.scene, made.take)
        self.assertEqual(find(program, [("marl", "head")]), [])
        self.assertGreater(min(c.end - c.begin for c in find(program)), LEAST * 24 - 1)


class Measured(unittest.TestCase):
    """E6: slip of heel and ball before the sole is on and after it, against a computation of its own."""

    def test_slip_of_each_point(self) -> None:
        made = crossing(Kind(rate=30, noise=0.002))
        program = Program(made.scene, made.take)
        deck = program.nodes["deck", "deck"]
        looked = 0
        for contact in find(program):
            if not contact.points:
                continue
            looked += 1
            bound = program.bound("marl", f"leg.{contact.joint[-1]}")
            spots = {s.name: s for s in spots_of(bound)}
            times = np.arange(contact.begin, contact.end + 1e-9, 0.25)
            poses = program.evaluate(times)

            def local(joint: str, point: np.ndarray) -> np.ndarray:
                j = program.nodes["marl", joint]
                place = poses.pos[:, j] + rotate(poses.rot[:, j], point)  # noqa: B023
                return rotate(inverse(poses.rot[:, deck]), place - poses.pos[:, deck])  # noqa: B023

            on = (times >= contact.first) & (times <= contact.last) & contact.whole
            ankle = local(contact.joint, np.zeros(3))
            wanted = np.where(on, np.linalg.norm(ankle - ankle[int(np.argmax(on))], axis=1), 0.0)
            for p in contact.points:
                way = local(spots[p.name].joints[0], spots[p.name].points[0])
                stands = (times >= p.first) & (times <= p.last)
                away = np.linalg.norm(way - way[int(np.argmax(stands & on if (stands & on).any() else stands))], axis=1)
                wanted = np.where(stands & ~on, np.maximum(wanted, away), wanted)
            slip = measure(program, contact)
            np.testing.assert_allclose(slip.times, times)
            np.testing.assert_allclose(slip.place, wanted, atol=1e-9)
        self.assertGreater(looked, 4)

    def test_what_is_cut_keeps_its_points_within(self) -> None:
        whole = Contact(
            "m", "foot", "world", "world", 10, 20, points=(Standing("heel", 6, 20), Standing("ball", 10, 26))
        )
        self.assertEqual((whole.begin, whole.end, whole.whole), (6, 26, True))
        cut = whole.cut(8, 22)
        assert cut is not None
        self.assertEqual((cut.begin, cut.first, cut.last, cut.end), (8, 10, 20, 22))
        self.assertIsNone(whole.cut(21, 40))
        late = whole.cut(12, 40)
        assert late is not None
        self.assertEqual((late.begin, late.end), (12, 26))

    def test_other_edges_take_along_what_stands_by_itself(self) -> None:
        """Once the ball of a foot that stood on that alone went on standing where its plank no longer was."""
        heel, ball, tip = Standing("heel", 6, 20), Standing("ball", 10, 26), Standing("tip", 26, 30)
        rolls = Contact("m", "foot", "world", "world", 10, 20, points=(heel, ball, tip))
        tiptoe = Contact("m", "foot", "world", "world", 10, 30, points=(replace(ball), tip))
        self.assertEqual((rolls.whole, tiptoe.whole), (True, False))
        # A heel that is said to stand up to the sole alone takes the sole away from nobody.
        self.assertTrue(Contact("m", "foot", "world", "world", 10, 20, points=(replace(heel, last=10), ball)).whole)
        for old, first, last, wanted in (
            (rolls, 8, 18, ((6, 18), (8, 26), (26, 30))), (rolls, 4, 28, ((4, 28), (4, 28), (28, 30))),
            (rolls, 12, 34, ((6, 34), (12, 34))), (tiptoe, 14, 28, ((14, 26), (26, 28))),
            (tiptoe, 8, 22, ((8, 22),)), (tiptoe, 27, 40, ((27, 40),)),
        ):  # fmt: skip
            moved = old.moved(first, last)
            self.assertEqual((moved.first, moved.last, moved.whole), (first, last, old.whole))
            self.assertEqual(tuple((p.first, p.last) for p in moved.points), wanted, (first, last))
