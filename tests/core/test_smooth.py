"""Smoothing: a known motion out of known noise, peaks kept, what stands stays, nothing outside, on keys, captures and layers."""

from __future__ import annotations

import unittest
from dataclasses import replace
from fractions import Fraction
from functools import cache

import numpy as np
from scipy.spatial.transform import Rotation

from tests.depth import DEPTH
from yielding_tether.core.contacts import measure_all
from yielding_tether.core.contacts import planted as planted_ones
from yielding_tether.core.curves import SMOOTH, Key, curve
from yielding_tether.core.errors import CoreError
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations import OPERATIONS, Asked, run
from yielding_tether.core.program import Program
from yielding_tether.core.smoothing import cutoff_of, low_pass
from yielding_tether.core.takes import Capture, Layer, Take
from yielding_tether.core.transforms import Floats, multiply, rotation_distance
from yielding_tether.demo import named
from yielding_tether.demo.rough_crossing import Kind, crossing

from .test_findings import clean
from .test_handover import captured
from .worlds import limb_member, scene, stepped

LEGS = (("marl", "leg.L"), ("marl", "leg.R"))


@cache
def planted() -> Program:
    """A captured walk whose feet are planted on the deck, its hips and spine still noisy."""
    made = crossing(Kind(rate=60, noise=0.002, seed=11))
    p = Program(made.scene, made.take)
    p = p.on(run(p, "contacts", Asked(LEGS, 0.0, None)).take)
    p = p.on(run(p, "plant", Asked(LEGS, 0.0, None, {"each": "all"})).take)
    rng = np.random.default_rng(3)
    capture = p.take.captures["marl"]
    shaken = capture.rotations.copy()
    for joint in ("hips", "spine1", "chest"):
        k = p.scene.member("marl").skeleton.index.get(joint)
        if k is not None:
            shaken[:, k] = multiply(shaken[:, k], small(rng, len(shaken), 0.004))
    noisy = Capture(capture.offsets.copy(), shaken, capture.first, capture.step)
    return p.on(replace(p.take, captures={"marl": noisy}))


def small(rng: np.random.Generator, count: int, size: float) -> Floats:
    """(F, 4) small white turns of a size (radians, each way)."""
    found = np.concatenate([0.5 * rng.normal(0.0, size, (count, 3)), np.ones((count, 1))], axis=1)
    return found / np.linalg.norm(found, axis=1, keepdims=True)


def db(after: Floats, before: Floats) -> float:
    return float(20.0 * np.log10(np.sqrt(np.mean(after**2)) / np.sqrt(np.mean(before**2))))


class Filter(unittest.TestCase):
    def test_it_has_no_delay_and_the_gain_of_its_formula(self) -> None:
        rate, cutoff = 100.0, 6.0
        t = np.arange(0.0, 20.0, 1.0 / rate)
        for f in (1.0, 3.6, 6.0, 9.0, 15.0):
            wave = np.sin(2.0 * np.pi * f * t + 0.3)
            inner = slice(400, -400)
            got = low_pass(wave[:, None], rate, cutoff)[inner, 0]
            # The bilinear transform bends frequencies: by their tangents they are as in the formula.
            bent = np.tan(np.pi * f / rate) / np.tan(np.pi * cutoff / rate)
            np.testing.assert_allclose(got, wave[inner] / (1.0 + bent**8), atol=1e-4)

    def test_the_cutoff_is_where_the_motion_ends(self) -> None:
        for seed in range(3 * DEPTH):
            rng = np.random.default_rng(seed)
            for rate, end in ((60.0, 1.5), (120.0, 3.0), (120.0, 8.0)):
                t = np.arange(0.0, 12.0, 1.0 / rate)
                motion = np.stack(
                    [np.sin(2 * np.pi * f * t + rng.uniform(0, 6)) for f in (0.3 * end, 0.6 * end, end)], axis=1
                )
                found = cutoff_of(motion + rng.normal(0.0, 0.05, motion.shape), rate)
                self.assertGreater(found, 1.5 * end)
                self.assertLess(found, 3.0 * end + 1.5)
                # Without noise there is nothing to take away.
                self.assertEqual(cutoff_of(motion, rate), 0.45 * rate)


class Keys(unittest.TestCase):
    def test_known_noise_on_known_keys_falls_and_peaks_stay(self) -> None:
        """A limb at 120 frames a second that swings at 1 Hz at most, keyed on every frame with white noise, in FK and in IK."""
        for seed in range(2 * DEPTH):
            rng = np.random.default_rng(seed)
            member = limb_member(rng)
            frames = np.arange(0.0, 961.0)
            bare = Program(scene(member), Take("swing", Fraction(120), 0, 960))
            bound = next(b for b in bare.bounds.values() if len(b.systems) > 1)
            names = bare.channel_names()
            system = ("fk", "ik")[seed % 2]
            mine = [
                names[c] for c, stepped_ in zip(bound.systems[system].channels, bound.systems[system].stepped, strict=True)
                if not stepped_ and bare.info[c][2].kind in ("angle", "length")
                and not names[c].endswith((".carry", ".twist", ".swivel"))
            ]  # fmt: skip
            clean, noisy = {}, {}
            for name in mine:
                size = 0.35 if bare.info[bare.channels[name]][2].kind == "angle" else 0.03
                wave = sum(size / k * np.sin(2 * np.pi * 0.5 * k * frames / 120.0 + rng.uniform(0, 6)) for k in (1, 2))
                shaken = wave + rng.normal(0.0, 0.03 * size, len(frames))
                for values, into in ((wave, clean), (shaken, noisy)):
                    slopes = np.gradient(values)
                    into[name] = curve(
                        [Key(t, v, v, s, s, SMOOTH) for t, v, s in zip(frames, values, slopes, strict=True)]
                    )
            drive = {names[bound.drivers[0][1]]: stepped((0, float(system == "ik")))}
            truth, shaken_ = (bare.with_curves({**c, **drive}) for c in (clean, noisy))
            asked = Asked((bound.id,), 0.0, None, OPERATIONS["smooth"].suggest(shaken_, (bound.id,), 0.0, None, {}))
            done = run(shaken_, "smooth", asked)
            smooth = shaken_.on(done.take)
            at, left, was = frames[120:-120], [], []
            for name in mine:
                c = np.array([bare.channels[name]])
                a, b, d = (p.sample(at, channels=c)[0] for p in (truth, shaken_, smooth))
                was.append((b - a) / np.std(b - a))
                left.append((d - a) / np.std(b - a))
                for high in (np.max, np.min):
                    self.assertLess(abs(high(d) - high(a)), 0.02 * np.ptp(a) / 2.0 + 0.01 * np.ptp(a), name)
                # The keys are where they were.
                np.testing.assert_array_equal(done.take.curves[name].times, shaken_.take.curves[name].times)
            self.assertLess(db(np.array(left), np.array(was)), -12.0)
            self.assertIn("dB less", done.proof.notes[0])

    def test_outside_of_its_stretch_nothing_is_another(self) -> None:
        p = planted()
        asked = Asked((("marl", "spine"),), 60.0, 130.0, {"above": 5.0, "stands": "goes"})
        done = run(p, "smooth", asked)
        q = p.on(done.take)
        self.assertIs(done.take.captures, p.take.captures)
        outside = np.concatenate([np.arange(0.0, 60.25, 0.25), np.arange(130.0, p.take.last + 0.25, 0.25)])
        joints = p.joints()[1]
        np.testing.assert_allclose(q.evaluate(outside).pos[:, joints], p.evaluate(outside).pos[:, joints], atol=1e-12)
        self.assertGreater(np.abs(q.evaluate([95.0]).pos[:, joints] - p.evaluate([95.0]).pos[:, joints]).max(), 1e-4)
        self.assertTrue(all(c.pose < 1e-6 and c.steady for c in done.proof.changes))


class Standing(unittest.TestCase):
    def test_hips_and_spine_are_smoothed_and_planted_feet_stay(self) -> None:
        p = planted()
        parts = (("marl", "hips"), ("marl", "spine"))
        parts = tuple(x for x in parts if x in p.bounds) or tuple(
            b.id for b in p.bounds.values() if b.member.id == "marl" and b.captured and "leg" not in b.part.name
        )
        done = run(p, "smooth", Asked(parts, 0.0, None))
        q = p.on(done.take)
        for c, one, two in zip(
            p.take.contacts, measure_all(p, p.take.contacts), measure_all(q, q.take.contacts), strict=True
        ):
            self.assertLessEqual(float(two.place.max()), float(one.place.max()) + 1e-4, c)
            self.assertLessEqual(float(two.turn.max()), float(one.turn.max()) + 2e-4, c)
            self.assertLessEqual(float(two.depth.max()), float(one.depth.max()) + 1e-5, c)
        self.assertTrue(done.proof.contacts_kept)
        self.assertLessEqual({f.key for f in find_all(q) if f.kind == "pop"}, {f.key for f in find_all(p)})

    def test_captured_legs_meet_what_is_planted_when_the_hips_are_smoothed_hard(self) -> None:
        made = crossing(Kind(rate=30, noise=0.002, seed=77))
        p = Program(made.scene, made.take)
        p = p.on(run(p, "contacts", Asked(LEGS, 0.0, None)).take)
        p = p.on(run(p, "plant", Asked(LEGS, 0.0, None, {"each": "all"})).take)
        self.assertFalse([f for f in find_all(p) if f.kind == "pop"])
        q = p.on(run(p, "smooth", Asked((("marl", "hips"),), 0.0, None, {"above": 1.5})).take)
        frames = p.take.frames
        self.assertGreater(np.abs(p.evaluate(frames).pos - q.evaluate(frames).pos).max(), 5e-4)
        self.assertEqual([f.sentence for f in find_all(q) if f.kind == "pop"], [])
        for one, two in zip(measure_all(p, p.take.contacts), measure_all(q, q.take.contacts), strict=True):
            self.assertLessEqual(float(two.place.max()), float(one.place.max()) + 1e-4)

    def test_keyed_limbs_stay_where_they_stand_in_either_system(self) -> None:
        """Legs of a keyed take whose hips and feet are smoothed hard; and an arm handed over to FK while it holds the rail."""
        hauling = Program(*named("Hauling in"))
        held = clean(0)
        (hold,) = [c for c in held.take.contacts if c.joint == "hand.R"]
        free = run(
            held,
            "handover",
            Asked((("marl", "arm.R"),), hold.first + 30, hold.last - 10, {"to": "fk", "keys": "every"}),
        )
        held = held.on(free.take)
        for p, parts in (
            (hauling, (*LEGS, ("marl", "hips"))), (hauling, (("marl", "arm.L"), ("marl", "leg.L"))),
            (held, (("marl", "spine"), ("marl", "arm.R"))),
        ):  # fmt: skip
            q = p.on(run(p, "smooth", Asked(parts, 9.0, float(p.take.last) - 3.0, {"above": 2.0})).take)
            self.assertGreater(np.abs(p.evaluate(p.take.frames).pos - q.evaluate(p.take.frames).pos).max(), 1e-3)
            mine = [c for c in planted_ones(p, 0.0, float(p.take.last)) if c.member == "marl"]
            self.assertTrue(mine)
            for c, one, two in zip(mine, measure_all(p, mine), measure_all(q, mine), strict=True):
                # Beside a change of system within what it holds, frames are held and not all that lies between them.
                seen = two.times % 1.0 == 0.0 if p is held and c.joint == "hand.R" else two.times > -1.0
                self.assertLessEqual(
                    float(two.place[seen].max()), float(one.place.max()) + 1e-4, (p.scene.name, parts, c)
                )

    def test_raw_stances_slip_less_and_other_parts_stay_as_they_are(self) -> None:
        made = crossing(Kind(rate=60, noise=0.003, seed=5))
        p = Program(made.scene, made.take)
        p = p.on(run(p, "contacts", Asked((*LEGS, ("marl", "arm.L")), 0.0, None)).take)
        q = p.on(run(p, "smooth", Asked(LEGS[:1], 0.0, None)).take)
        mine = [c for c in p.take.contacts if c.joint.endswith(".L") and "foot" in c.joint]
        pairs = list(zip(measure_all(p, mine), measure_all(q, mine), strict=True))
        self.assertGreater(len(pairs), 2)
        self.assertLess(sum(float(b.place.max()) for _, b in pairs), 0.85 * sum(float(a.place.max()) for a, _ in pairs))
        for a, b in pairs:
            self.assertLessEqual(float(b.place.max()), float(a.place.max()) + 1e-4)
        left = set(p.bound(*LEGS[0]).nodes.tolist())
        others = np.array([n for n in p.joints(["marl"])[1] if n not in left])
        a, b = (x.evaluate(p.take.frames) for x in (p, q))
        hanging = [n for n in others if np.abs(a.pos[:, n] - b.pos[:, n]).max() > 0.0]
        # Only what hangs from the foot goes along.
        names = {n: k[1] for k, n in zip(*p.joints(["marl"]), strict=True)}
        self.assertTrue(all(names[n].endswith(".L") for n in hanging), [names[n] for n in hanging])


class Layers(unittest.TestCase):
    def test_what_is_smoothed_of_a_capture_may_lie_on_a_layer(self) -> None:
        p = captured()
        rng = np.random.default_rng(5)
        c = p.take.captures["body"]
        turns = np.stack(
            [multiply(c.rotations[:, k], small(rng, len(c.rotations), 0.01)) for k in range(c.rotations.shape[1])],
            axis=1,
        )
        p = p.on(
            replace(
                p.take,
                captures={"body": Capture(c.offsets.copy(), turns, c.first, c.step)},
                layers=(Layer("l0", "smooth"),),
            )
        )
        asked = Asked((("body", "arm.L"),), 20.0, 90.0, {"above": 4.0, "layer": "l0"})
        done = run(p, "smooth", asked)
        self.assertEqual(dict(done.take.curves), dict(p.take.curves))
        self.assertIs(done.take.captures, p.take.captures)
        direct = p.on(run(p, "smooth", replace(asked, choices={"above": 4.0})).take)
        at, joints = p.take.frames, p.joints()[1]
        a, b = p.on(done.take).evaluate(at), direct.evaluate(at)
        np.testing.assert_allclose(a.pos[:, joints], b.pos[:, joints], atol=1e-6)
        self.assertLess(rotation_distance(a.rot[:, joints], b.rot[:, joints]).max(), 1e-6)

    def test_what_can_not_be_is_told(self) -> None:
        p = captured()
        for choices, first, last, told in (
            ({"above": 12.5}, 0.0, 100.0, "nothing faster"), ({"above": 4.0}, 10.0, 12.0, "at least four frames"),
        ):  # fmt: skip
            with self.assertRaisesRegex(CoreError, told):
                run(p, "smooth", Asked((("body", "arm.L"),), first, last, choices))


if __name__ == "__main__":
    unittest.main()


class OutOfTheGround(unittest.TestCase):
    def test_what_would_sink_is_lifted_and_what_stands_stays(self) -> None:
        p = planted()
        at = np.arange(0.0, 4 * p.take.last + 1) / 4.0
        done = run(p, "smooth", Asked(LEGS, 0.0, None, {"above": 2.0}))
        after = p.on(done.take)
        # Left alone, so low a cutoff takes the soles through the deck.
        alone = p.on(run(p, "smooth", Asked(LEGS, 0.0, None, {"above": 2.0, "stands": "goes"})).take)

        def deepest(program: Program, leg: tuple[str, str]) -> float:
            """How deep heel, ball and tip are in the deck at the worst of quarter-frames, by their heights over its top."""
            poses, worst = program.evaluate(at), 0.0
            deck = program.nodes["deck", "deck"]
            back = Rotation.from_quat(poses.rot[:, deck]).inv()
            for _, joint, point in program.bounds[leg].part.stands_on(program.scene.member("marl").skeleton):
                node = program.nodes["marl", joint]
                place = poses.pos[:, node] + Rotation.from_quat(poses.rot[:, node]).apply(point)
                local = back.apply(place - poses.pos[:, deck])
                over_it = (np.abs(local[:, 0]) < 1.2) & (np.abs(local[:, 2]) < 0.5)
                worst = max(worst, float(-(local[over_it, 1]).min(initial=0.0)))
            return worst

        for leg in LEGS:
            was, now, without = (deepest(x, leg) for x in (p, after, alone))
            self.assertGreater(without, 4e-3)
            self.assertLess(now, was + 1e-4, leg)
        for one, two in zip(measure_all(p, p.take.contacts), measure_all(after, p.take.contacts), strict=True):
            self.assertLess(float(two.place.max()), float(one.place.max()) + 1e-5)
            self.assertLess(float(two.depth.max()), float(one.depth.max()) + 1e-5)
        self.assertEqual(sum("is lifted by up to" in n for n in done.proof.notes), 2, done.proof.notes)
        # As it is offered there is nothing to lift.
        offered = run(p, "smooth", Asked(LEGS, 0.0, None, {}))
        self.assertEqual([n for n in offered.proof.notes if "sank" in n or "sinks" in n], [])

    def test_the_spectrum_is_that_of_how_the_joints_turn(self) -> None:
        p = planted()
        spine = (("marl", "spine"),)
        asked = Asked(spine, 0.0, None, {"above": 6.0})
        after = p.on(run(p, "smooth", asked).take)
        chart = OPERATIONS["smooth"].chart(p, asked, after)
        assert chart is not None
        self.assertEqual(
            (chart.now, chart.picks, [x.label for x in chart.lines]), (6.0, (("above", 1.0),), ["before", "after"])
        )
        frames, strongest = np.arange(0.0, p.take.last + 1.0), 0.0
        for line, q in zip(chart.lines, (p, after), strict=True):
            poses, power = q.evaluate(frames), np.zeros(len(frames) // 2 + 1)
            for joint in p.bounds["marl", "spine"].part.joints:
                skeleton = p.scene.member("marl").skeleton
                up = skeleton.joints[skeleton.parents[skeleton.index[joint]]].name
                own, above = (Rotation.from_quat(poses.rot[:, q.nodes["marl", n]]) for n in (joint, up))
                local = above.inv() * own
                vector = (local.mean().inv() * local).as_rotvec()
                window = np.hanning(len(frames))[:, None] * (vector - np.linspace(vector[0], vector[-1], len(frames)))
                power += np.sum(np.abs(np.fft.rfft(window, axis=0)) ** 2, axis=1)
            hertz, wide = np.fft.rfftfreq(len(frames), 1.0 / 60.0), round(0.75 * len(frames) / 60.0)
            even = np.convolve(power, np.full(wide, 1.0 / wide), mode="same")
            strongest = strongest or even.max()
            shown = np.array(line.points)
            for k in range(len(shown) - 1):
                within = (hertz >= shown[k, 0] - 1e-9) & (hertz < shown[k + 1, 0] - 1e-9)
                want = 10.0 * np.log10(max(even[within].max() / strongest, 1e-9))
                self.assertAlmostEqual(shown[k, 1], want, delta=0.5, msg=f"{line.label} at {shown[k, 0]}")
        self.assertLess(max(y for x, y in chart.lines[1].points if x > 12.0), -60.0)
        self.assertGreater(min(y for x, y in chart.lines[0].points if x > 12.0), -60.0)
        self.assertIsNone(OPERATIONS["smooth"].chart(p, replace(asked, choices={"what": "spikes"}), after))


class OfOne(unittest.TestCase):
    def test_one_joint_or_control_alone_is_smoothed(self) -> None:
        # A capture: the shin alone, by its adjustments; what hangs from it goes along, and what it hangs from stays.
        p = planted()
        raw = p.on(replace(p.take, contacts=(), curves={}))
        asked = Asked((("marl", "leg.L"),), 0.0, None, {"above": 4.0, "of": "shin.L", "stands": "goes"})
        done = run(raw, "smooth", asked)
        self.assertIn("shin", done.label)
        changed = {
            n
            for n, c in done.take.curves.items()
            if raw.take.curves.get(n) != c and np.abs(c.numbers[:, 1:3]).max() > 1e-9
        }
        self.assertTrue(changed)
        self.assertTrue(all("shin.L" in n for n in changed), changed)
        # Keys: the curves of one control alone are others.
        keyed = clean(0)
        some = next(n for n in keyed.take.curves if n.startswith("marl/spine"))
        control = some.partition("/")[2].rpartition(".")[0]
        made = run(
            keyed, "smooth", Asked((("marl", "spine"),), 0.0, None, {"above": 2.0, "of": control, "stands": "goes"})
        ).take
        other = {n for n, c in made.curves.items() if keyed.take.curves.get(n) != c}
        self.assertTrue(other)
        self.assertTrue(all(n.startswith(f"marl/{control}.") for n in other), other)
        options = dict(OPERATIONS["smooth"].options(keyed, (("marl", "arm.L"),))["of"])
        self.assertLessEqual({"", "upperarm.L", "arm.L.ik"}, set(options))
        for parts in ((("marl", "spine"),), (("marl", "spine"), ("marl", "head"))):
            with self.assertRaisesRegex(CoreError, "Nothing is called"):
                run(keyed, "smooth", Asked(parts, 0.0, None, {"above": 2.0, "of": "hoof"}))
