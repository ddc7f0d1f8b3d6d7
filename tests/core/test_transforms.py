"""Rotations against SciPy: all orders, poles, continuity, means."""

from __future__ import annotations

import math
import unittest

import numpy as np
from scipy.spatial.transform import Rotation

from yielding_tether.core.kernels.scalars import (
    euler_to_quat,
    mean_rotation,
    shortest_arc,
    sine_cosine,
    slerp,
)
from yielding_tether.core.transforms import ORDERS, multiply, quat_to_euler, rotate, rotation_distance

from .worlds import unit


class Euler(unittest.TestCase):
    def test_all_orders_agree_with_scipy(self) -> None:
        rng = np.random.default_rng(1)
        for code, name in enumerate(ORDERS):
            for _ in range(200):
                angles = rng.uniform(-4, 4, 3)
                ours = np.array(euler_to_quat(code, *angles))
                theirs = Rotation.from_euler(name.upper(), angles[["xyz".index(a) for a in name]]).as_quat()
                self.assertLess(float(rotation_distance(ours, theirs)), 1e-14)

    def test_there_and_back_also_at_the_pole(self) -> None:
        rng = np.random.default_rng(2)
        for code in range(6):
            middle = "xyz".index(ORDERS[code][1])
            for k in range(400):
                angles = rng.uniform(-3, 3, 3)
                if k % 2:
                    # At the pole of the order, and within rounding of it.
                    angles[middle] = np.pi / 2 * rng.choice([-1, 1]) + rng.choice([0.0, 1e-12, 1e-9, 1e-6, 1e-3])
                q = euler_to_quat(code, *angles)
                back = quat_to_euler(code, q, *(angles + rng.normal(size=3) * 0.1))
                self.assertLess(float(rotation_distance(np.array(euler_to_quat(code, *back)), np.array(q))), 1e-12)

    def test_the_nearest_representation_is_taken(self) -> None:
        rng = np.random.default_rng(3)
        for code in range(6):
            for _ in range(200):
                angles = rng.uniform(-9, 9, 3)
                angles["xyz".index(ORDERS[code][1])] = rng.uniform(-8, 8)
                back = np.array(quat_to_euler(code, euler_to_quat(code, *angles), *angles))
                np.testing.assert_allclose(back, angles, atol=1e-7)


class Means(unittest.TestCase):
    def test_two_rotations_meet_on_the_shortest_arc(self) -> None:
        rng = np.random.default_rng(4)
        for _ in range(200):
            a, b = unit(rng, 4), unit(rng, 4)
            w = float(rng.random())
            mean = np.array(mean_rotation(np.array([a, b]), np.array([1 - w, w]), 2))
            if rotation_distance(np.array(a), np.array(b)) < 3.0:
                self.assertLess(float(rotation_distance(mean, np.array(slerp(a, b, w)))), 1e-9)

    def test_quarters_of_a_turn(self) -> None:
        still = (0.0, 0.0, 0.0, 1.0)
        turned = tuple(Rotation.from_rotvec([0, 1.9, 0]).as_quat().tolist())
        for share in (0.25, 0.5, 0.75):
            mean = np.array(mean_rotation(np.array([still, turned]), np.array([1 - share, share]), 2))
            np.testing.assert_allclose(Rotation.from_quat(mean).as_rotvec(), [0, 1.9 * share, 0], atol=1e-12)

    def test_the_mean_does_not_jump_when_a_weight_reaches_zero(self) -> None:
        rng = np.random.default_rng(5)
        for _ in range(50):
            centre = Rotation.from_quat(unit(rng, 4))
            quats = np.array([(centre * Rotation.from_rotvec(rng.normal(size=3) * 0.4)).as_quat() for _ in range(3)])
            two = np.array(mean_rotation(quats, np.array([0.4, 0.6, 0.0]), 3))
            three = np.array(mean_rotation(quats, np.array([0.4, 0.6 - 1e-9, 1e-9]), 3))
            self.assertLess(float(rotation_distance(two, three)), 1e-8)

    def test_the_mean_is_where_the_weighted_arcs_cancel(self) -> None:
        rng = np.random.default_rng(6)
        for _ in range(50):
            centre = Rotation.from_quat(unit(rng, 4))
            quats = [(centre * Rotation.from_rotvec(rng.normal(size=3) * 0.5)) for _ in range(5)]
            w = rng.dirichlet(np.ones(5))
            mean = Rotation.from_quat(mean_rotation(np.array([q.as_quat() for q in quats]), w, 5))
            left = sum(wi * (mean.inv() * q).as_rotvec() for wi, q in zip(w, quats, strict=True))
            np.testing.assert_allclose(left, 0, atol=1e-12)


class SineCosine(unittest.TestCase):
    def test_to_the_last_bits(self) -> None:
        rng = np.random.default_rng(9)
        for spread in (1e-300, 1e-8, 1.0, 10.0, 1e4, 2e5):
            for x in (rng.normal(size=2000) * spread).tolist():
                s, c = sine_cosine(x)
                self.assertLessEqual(abs(s - math.sin(x)), 4e-16)
                self.assertLessEqual(abs(c - math.cos(x)), 4e-16)
        for x in (rng.normal(size=2000) * 1e9).tolist():
            # As exact as the angle itself is.
            s, c = sine_cosine(x)
            self.assertLessEqual(abs(s - math.sin(x)), np.spacing(abs(x)) + 4e-16)
            self.assertLessEqual(abs(c - math.cos(x)), np.spacing(abs(x)) + 4e-16)
        for x in (1e16, -1e100, 1e300):
            self.assertAlmostEqual(math.hypot(*sine_cosine(x)), 1.0, delta=1e-12)
        self.assertEqual(sine_cosine(0.0), (0.0, 1.0))


class Arrays(unittest.TestCase):
    def test_products_and_turns_agree_with_scipy(self) -> None:
        rng = np.random.default_rng(7)
        a, b = Rotation.random(50, rng=rng), Rotation.random(50, rng=rng)
        v = rng.normal(size=(50, 3))
        self.assertLess(rotation_distance(multiply(a.as_quat(), b.as_quat()), (a * b).as_quat()).max(), 1e-14)
        np.testing.assert_allclose(rotate(a.as_quat(), v), a.apply(v), atol=1e-14)
        np.testing.assert_allclose(rotation_distance(a.as_quat(), b.as_quat()), (a.inv() * b).magnitude(), atol=1e-12)

    def test_shortest_arc_reaches_opposite_directions(self) -> None:
        rng = np.random.default_rng(8)
        for k in range(200):
            u = unit(rng, 3)
            v = tuple(-x for x in u) if k % 5 == 0 else unit(rng, 3)
            spare = np.cross(u, unit(rng, 3))
            q = np.array(shortest_arc(u, v, tuple((spare / np.linalg.norm(spare)).tolist())))
            np.testing.assert_allclose(rotate(q, np.array(u)), v, atol=1e-7 if k % 5 == 0 else 1e-12)
