"""Curves: sampling against an independent formula, exact insertion, sides, automatic slopes."""

from __future__ import annotations

import unittest

import numpy as np

from yielding_tether.core.curves import (
    ARRIVING,
    AUTOMATIC,
    FENCE,
    FREE,
    LEAVING,
    LINEAR,
    SMOOTH,
    STEPPED,
    Curve,
    Key,
    automatic_slopes,
    curve,
    insert,
    put,
    sample,
    set_value,
    slopes,
    without,
)
from yielding_tether.core.errors import CoreError

from .worlds import random_curve

ALL = (STEPPED, LINEAR, SMOOTH)


def split_curve(rng: np.random.Generator) -> Curve:
    """Random keys of all kinds, some of them split."""
    keys = random_curve(rng, 60, 2.0, 9, ALL).all_keys()
    return curve([k._replace(leaving=k.leaving + rng.normal()) if rng.random() < 0.4 else k for k in keys])


def by_definition(c: Curve, t: float, arriving: bool) -> float:
    """The value as glTF's CUBICSPLINE defines it, with Bernstein-like basis functions, key by key."""
    keys = c.all_keys()
    before = [k for k in keys if (k.time < t or (k.time == t and not arriving))]
    if not before:
        return keys[0].arriving
    a = before[-1]
    after = [k for k in keys if k.time > a.time]
    if not after or a.kind == STEPPED:
        return a.leaving
    b = after[0]
    h = b.time - a.time
    u = (t - a.time) / h
    if a.kind == LINEAR:
        return (1 - u) * a.leaving + u * b.arriving
    return (
        (2 * u**3 - 3 * u**2 + 1) * a.leaving
        + h * (u**3 - 2 * u**2 + u) * a.slope_out
        + (-2 * u**3 + 3 * u**2) * b.arriving
        + h * (u**3 - u**2) * b.slope_in
    )


class Sampling(unittest.TestCase):
    def test_values_follow_the_definition_on_both_sides(self) -> None:
        rng = np.random.default_rng(1)
        for _ in range(60):
            c = split_curve(rng)
            at = np.concatenate([rng.uniform(-5, 65, 40), c.times])
            for side in (0, 1):
                got = sample(c, at, side)
                want = [by_definition(c, t, side == ARRIVING) for t in at]
                np.testing.assert_allclose(got, want, atol=1e-12)

    def test_values_at_keys_are_the_keys_bit_for_bit(self) -> None:
        rng = np.random.default_rng(2)
        for _ in range(40):
            c = split_curve(rng)
            self.assertEqual(sample(c, c.times).tolist(), c.numbers[:, 2].tolist())
            smooth_before = np.flatnonzero(c.marks[:-1, 0] != STEPPED) + 1
            got = sample(c, c.times, ARRIVING)[smooth_before]
            self.assertEqual(got.tolist(), c.numbers[smooth_before, 1].tolist())

    def test_slopes_are_the_derivative(self) -> None:
        rng = np.random.default_rng(3)
        for _ in range(40):
            c = split_curve(rng)
            at = rng.uniform(-2, 62, 50)
            at = at[np.abs(at[:, None] - c.times).min(axis=1) > 1e-3]
            h = 1e-5
            numeric = (sample(c, at + h) - sample(c, at - h)) / (2 * h)
            np.testing.assert_allclose(slopes(c, at), numeric, atol=1e-6)

    def test_slopes_at_a_split_key_are_those_of_their_side(self) -> None:
        c = curve(
            [
                Key(0.0, 0.0, 0.0, 0.0, 1.0, SMOOTH, FREE),
                Key(4.0, 2.0, 5.0, -3.0, 7.0, SMOOTH, FREE),
                Key(9.0, 1.0, 1.0, 2.0, 0.0),
            ]
        )
        self.assertEqual((slopes(c, [4.0], ARRIVING)[0], slopes(c, [4.0], LEAVING)[0]), (-3.0, 7.0))
        self.assertEqual((slopes(c, [0.0], ARRIVING)[0], slopes(c, [0.0], LEAVING)[0]), (0.0, 1.0))

    def test_order_of_times_does_not_matter(self) -> None:
        rng = np.random.default_rng(4)
        c = split_curve(rng)
        at = rng.uniform(0, 60, 200)
        shuffled = rng.permutation(200)
        self.assertEqual(sample(c, at)[shuffled].tobytes(), sample(c, at[shuffled]).tobytes())


class Editing(unittest.TestCase):
    def test_inserting_a_key_changes_no_value(self) -> None:
        rng = np.random.default_rng(5)
        for _ in range(200):
            c = split_curve(rng)
            time = float(rng.uniform(-5, 65))
            new = insert(c, time)
            self.assertEqual(len(new), len(c) + 1)
            at = np.concatenate([np.linspace(-6, 66, 300), c.times])
            for side in (0, 1):
                np.testing.assert_allclose(sample(new, at, side), sample(c, at, side), atol=1e-12)
            # Beyond the cut segment not one bit moves.
            i = int(np.searchsorted(c.times, time))
            far = at[(at < c.times[max(i - 1, 0)]) | (at > c.times[min(i, len(c) - 1)])]
            if 0 < i < len(c):
                self.assertEqual(sample(new, far).tobytes(), sample(c, far).tobytes())
                keep = np.arange(len(new)) != i
                self.assertEqual(new.numbers[keep].tobytes(), c.numbers.tobytes())
                self.assertEqual(new.marks[keep].tobytes(), c.marks.tobytes())

    def test_inserting_where_a_key_is_changes_nothing(self) -> None:
        c = split_curve(np.random.default_rng(6))
        self.assertIs(insert(c, float(c.times[3])), c)

    def test_without_keeps_the_edges(self) -> None:
        c = curve([Key(t, t, t) for t in (0.0, 5.0, 10.0, 15.0, 20.0)])
        self.assertEqual(without(c, 5.0, 20.0).times.tolist(), [0.0, 5.0, 20.0])

    def test_automatic_slopes_never_overshoot(self) -> None:
        rng = np.random.default_rng(7)
        for _ in range(100):
            times = np.sort(rng.choice(60, 8, replace=False)).astype(float)
            c = curve([Key(float(t), v, v, rule=AUTOMATIC) for t, v in zip(times, rng.normal(size=8), strict=True)])
            c = automatic_slopes(c, c.times.tolist())
            for a, b in zip(c.all_keys()[:-1], c.all_keys()[1:], strict=True):
                values = sample(c, np.linspace(a.time, b.time, 30), ARRIVING)
                low, high = sorted((a.leaving, b.arriving))
                self.assertGreaterEqual(values.min(), low - 1e-12)
                self.assertLessEqual(values.max(), high + 1e-12)

    def test_a_new_value_gives_its_neighbours_their_automatic_slopes_too(self) -> None:
        c = curve([Key(float(t), float(t), float(t), 9.0, 9.0, rule=AUTOMATIC) for t in (0, 10, 20, 30, 40)])
        changed = set_value(c, 20.0, 24.0)
        # The weighted harmonic mean of the chords (Fritsch and Carlson), for keys ten frames apart: their harmonic mean.
        for t, chords in ((10.0, (1.0, 1.4)), (20.0, (1.4, 0.6)), (30.0, (0.6, 1.0))):
            key = changed.key(changed.find(t) or 0)
            self.assertAlmostEqual(key.slope_out, 2.0 / (1.0 / chords[0] + 1.0 / chords[1]), places=12)
        for t in (0.0, 40.0):
            self.assertEqual(changed.key(changed.find(t) or 0), c.key(c.find(t) or 0))

    def test_automatic_slopes_stop_at_fences_and_split_keys(self) -> None:
        rising = [Key(float(t), float(t), float(t)) for t in (0, 10, 20, 30)]
        fenced = put(curve(rising), [rising[1]._replace(tag=FENCE), rising[2]._replace(leaving=21.0)])
        c = automatic_slopes(fenced, [10.0, 20.0])
        self.assertEqual(c.key(1).slope_in, 0.0)
        self.assertEqual(c.key(2).slope_out, 0.0)

    def test_a_locked_key_is_refused(self) -> None:
        c = curve([Key(3.0, 1.0, 1.0, lock=1)])
        with self.assertRaisesRegex(CoreError, r"frame 3 is locked: unlock it first"):
            set_value(c, 3.0, 2.0)

    def test_broken_curves_are_refused(self) -> None:
        with self.assertRaisesRegex(CoreError, "in order of time"):
            curve([Key(1.0, 0.0, 0.0), Key(1.0, 2.0, 2.0)])
        with self.assertRaisesRegex(CoreError, "not finite"):
            curve([Key(1.0, float("nan"), 0.0)])
