"""The two-segment limb: complete both ways, clean at rest, steady through straight, guides exact, locks honest."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from yielding_tether.core.cast import Member
from yielding_tether.core.fitting import fit, fit_values
from yielding_tether.core.program import Program
from yielding_tether.core.rig import Bound
from yielding_tether.core.takes import Take
from yielding_tether.core.transforms import Floats, rotation_distance

from .readings import bends_of, drive_of, end_of, guides_of, swivel_of
from .worlds import Generator, limb_member, random_take, scene

FRAMES = 2500


def posed(rng: Generator, member: Member, system: str, straight: float) -> tuple[Program, Bound, Floats, dict]:  # type: ignore[type-arg]
    """A limb with random channels in one system at FRAMES times; a share of them exactly straight."""
    program = Program(scene(member), random_take(rng, (member,), skip=("drive", "bend", "carry", "twist")))
    limb = program.bounds[member.id, "limb"]
    channels = limb.systems[system].channels
    n = len(channels)
    values = rng.uniform(-np.pi, np.pi, (n, FRAMES))
    is_straight = rng.random(FRAMES) < straight
    if system == "fk":
        # The middle joint turned so that both segments lie in line, with any twist.
        values[3:6, is_straight] = straight_turns(limb, rng, int(is_straight.sum()))
    else:
        values[:3] = rng.uniform(-0.6, 0.6, (3, FRAMES))
        values[7] = rng.uniform(-1.2, 1.2, FRAMES)
        values[9] = rng.choice([-1.0, 1.0], FRAMES)
    overrides = {int(c): values[k] for k, c in enumerate(channels)}
    overrides |= limb.drive_to(system)
    return program, limb, values, overrides


def straight_turns(limb: Bound, rng: Generator, count: int) -> Floats:
    """(3, count) Euler channels of the middle joint that lay the lower segment along the upper one."""
    from scipy.spatial.transform import Rotation

    from yielding_tether.core.transforms import ORDERS, quat_to_euler

    d1, d2 = (limb.systems["ik"].data.offsets[j] / np.linalg.norm(limb.systems["ik"].data.offsets[j]) for j in (1, 2))
    rest = Rotation.from_quat(limb.systems["ik"].data.rests[1])
    onto = Rotation.align_vectors([d1], [d2])[0]
    order = ORDERS.index(limb.part.orders[1])
    out = np.empty((3, count))
    for k in range(count):
        local = rest.inv() * onto * Rotation.from_rotvec(d2 * rng.uniform(-1, 1))
        out[:, k] = quat_to_euler(order, tuple(local.as_quat().tolist()), 0.0, 0.0, 0.0)
    return out


def errors(limb: Bound, a: Floats, b: Floats, qa: Floats, qb: Floats) -> tuple[float, float]:
    nodes = list(limb.nodes)
    place = np.linalg.norm(a[:, nodes] - b[:, nodes], axis=-1).max()
    return float(place), float(rotation_distance(qa[:, nodes], qb[:, nodes]).max())


class Complete(unittest.TestCase):
    """A2: 100,000 random poses, both ways, with the bounds of the brief."""

    def there_and_back(self, system: str, other: str) -> None:
        worst_place = worst_turn = 0.0
        count = 0
        for seed in range(20):
            rng = np.random.default_rng(seed)
            member = limb_member(rng, straight_rest=seed % 2 == 0, moves=seed % 3 == 0)
            program, limb, _, overrides = posed(rng, member, system, 0.05)
            at = rng.uniform(0, 60, FRAMES)
            pose = program.evaluate(at, overrides=overrides)
            fitted = fit(program, limb, other, pose, np.zeros(len(limb.systems[other].channels)))
            worst_place = max(worst_place, float(fitted.position.max()))
            worst_turn = max(worst_turn, float(fitted.rotation.max()))
            # And back again into the first system.
            there = {int(c): fitted.values[k] for k, c in enumerate(fitted.channels)}
            there |= limb.drive_to(other)
            second = program.evaluate(at, overrides=there)
            again = fit_values(program, limb, system, second, np.zeros(len(limb.systems[system].channels)))
            back = {int(c): again[k] for k, c in enumerate(limb.systems[system].channels)}
            back |= limb.drive_to(system)
            third = program.evaluate(at, overrides=back)
            place, turn = errors(limb, pose.pos, third.pos, pose.rot, third.rot)
            worst_place, worst_turn = max(worst_place, place), max(worst_turn, turn)
            count += FRAMES
        self.assertEqual(count, 50_000)
        self.assertLessEqual(worst_place, 1e-6)
        self.assertLessEqual(worst_turn, 1e-6)

    def test_fk_to_ik_to_fk(self) -> None:
        self.there_and_back("fk", "ik")

    def test_ik_to_fk_to_ik(self) -> None:
        self.there_and_back("ik", "fk")

    def test_random_poses_do_hold_straight_limbs(self) -> None:
        rng = np.random.default_rng(1)
        member = limb_member(rng)
        program, limb, _, overrides = posed(rng, member, "fk", 0.05)
        pose = program.evaluate(rng.uniform(0, 60, FRAMES), overrides=overrides)
        a, b, c = (pose.pos[:, n] for n in limb.nodes)
        reach = np.linalg.norm(c - a, axis=1)
        full = np.linalg.norm(b - a, axis=1) + np.linalg.norm(c - b, axis=1)
        share = float(np.mean(full - reach < 1e-12))
        self.assertGreater(share, 0.03)
        self.assertLess(share, 0.08)


class Rest(unittest.TestCase):
    def test_every_control_reads_zero_at_rest_and_ik_changes_nothing(self) -> None:
        for seed in range(60):
            rng = np.random.default_rng(seed)
            member = limb_member(rng, straight_rest=seed % 2 == 0)
            program = Program(scene(member), Take("rest", random_take(rng, ()).rate, 0, 1))
            limb = program.bounds["arm", "limb"]
            rest = program.evaluate([0.0])
            in_ik = program.evaluate([0.0], overrides={drive_of(limb): 1.0})
            place, turn = errors(limb, rest.pos, in_ik.pos, rest.rot, in_ik.rot)
            self.assertLessEqual(place, 1e-9)
            self.assertLessEqual(turn, 1e-9)
            for system in ("fk", "ik"):
                zero = fit(program, limb, system, rest).values[:9]
                self.assertLess(np.abs(zero).max(), 1e-7)


class Straight(unittest.TestCase):
    def test_a_limb_swept_through_straight_keeps_its_side_and_swivel(self) -> None:
        """The hinge passes from bent over straight to bent the other way, with small bends out of its plane."""
        for seed in range(20):
            rng = np.random.default_rng(seed)
            member = limb_member(rng, straight_rest=True)
            program = Program(scene(member), Take("sweep", random_take(rng, ()).rate, 0, 1))
            limb = program.bounds["arm", "limb"]
            count = 401
            bend = np.linspace(0.5, -0.2, count)
            off = 0.01 * np.sin(np.linspace(0, 9, count))
            fk = np.zeros((9, count))
            hinge = limb.systems["ik"].data.constants[:3]
            lifted = np.cross(
                limb.systems["ik"].data.offsets[1] / np.linalg.norm(limb.systems["ik"].data.offsets[1]), hinge
            )
            from scipy.spatial.transform import Rotation

            from yielding_tether.core.transforms import ORDERS, quat_to_euler

            for k in range(count):
                turn = Rotation.from_rotvec(hinge * bend[k]) * Rotation.from_rotvec(lifted * off[k])
                fk[3:6, k] = quat_to_euler(
                    ORDERS.index(limb.part.orders[1]), tuple(turn.as_quat().tolist()), *fk[3:6, k - 1]
                )
            overrides: dict[int, float | Floats] = {int(c): fk[k] for k, c in enumerate(limb.systems["fk"].channels)}
            pose = program.evaluate(np.linspace(0, 1, count), overrides=overrides)
            fitted = fit(program, limb, "ik", pose)
            self.assertLessEqual(fitted.position.max(), 1e-6)
            self.assertLessEqual(fitted.rotation.max(), 1e-6)
            swivel = fitted.values[6]
            # No step of the sweep (0.1° of bend) moves the swivel or the guide by more than a little.
            self.assertLess(np.abs(np.diff(swivel)).max(), 0.01)
            guides = guides_of(program, limb, pose)
            self.assertLess(np.linalg.norm(np.diff(guides, axis=0), axis=1).max(), 0.02)

    def test_out_of_reach_the_limb_points_at_its_control(self) -> None:
        rng = np.random.default_rng(3)
        member = limb_member(rng)
        program = Program(scene(member), Take("far", random_take(rng, ()).rate, 0, 1))
        limb = program.bounds["arm", "limb"]
        pose = program.evaluate([0.0], overrides={drive_of(limb): 1.0, int(limb.systems["ik"].channels[0]): 5.0})
        a, _, c = (pose.pos[0, n] for n in limb.nodes)
        aim = pose.pos[0, end_of(limb).node] - a
        aim /= np.linalg.norm(aim)
        along = c - a
        np.testing.assert_allclose(along / np.linalg.norm(along), aim, atol=1e-9)
        # Stretched as far as its carry angle lets it.
        self.assertLess(abs(bends_of(program, limb, pose)[0, 0]), 1e-6)


class Guides(unittest.TestCase):
    def test_guide_and_swivel_convert_exactly_at_any_distance(self) -> None:
        """Putting a guide anywhere along its own direction gives back the swivel that placed it."""
        for seed in range(30):
            rng = np.random.default_rng(seed)
            member = limb_member(rng)
            program = Program(scene(member), random_take(rng, (member,)))
            limb = program.bounds["arm", "limb"]
            for frame in rng.uniform(0, 60, 5):
                pose = program.evaluate([frame])
                swivel = float(fit_values(program, limb, "ik", pose, np.zeros(10))[6, 0])
                guide = guides_of(program, limb, pose)[0]
                a, c = pose.pos[0, limb.nodes[0]], pose.pos[0, limb.nodes[2]]
                aim = (c - a) / np.linalg.norm(c - a)
                foot = a + ((guide - a) @ aim) * aim
                for distance in (0.3, 1.0, 7.0):
                    back = swivel_of(program, limb, pose, foot + distance * (guide - foot))
                    self.assertLess(abs((back - swivel + np.pi) % (2 * np.pi) - np.pi), 1e-9)

    def test_the_elbow_lies_on_the_guides_side(self) -> None:
        rng = np.random.default_rng(5)
        member = limb_member(rng)
        program = Program(
            scene(member), random_take(rng, (member,), skip=("drive", "rx", "ry", "rz", "bend", "carry", "twist"))
        )
        limb = program.bounds["arm", "limb"]
        at = np.linspace(0, 60, 50)
        pose = program.evaluate(
            at,
            overrides={drive_of(limb): 1.0, int(limb.systems["ik"].channels[7]): -limb.systems["ik"].data.constants[7]},
        )
        guide = guides_of(program, limb, pose)
        a, b, c = (pose.pos[:, n] for n in limb.nodes)
        aim = (c - a) / np.linalg.norm(c - a, axis=1, keepdims=True)
        off = (b - a) - np.sum((b - a) * aim, axis=1, keepdims=True) * aim
        side = (guide - a) - np.sum((guide - a) * aim, axis=1, keepdims=True) * aim
        bent = np.linalg.norm(off, axis=1) > 1e-4
        cosine = np.sum(off * side, axis=1) / (np.linalg.norm(off, axis=1) * np.linalg.norm(side, axis=1) + 1e-30)
        self.assertTrue(bent.any())
        np.testing.assert_allclose(cosine[bent], 1.0, atol=1e-6)


class Blend(unittest.TestCase):
    def test_ends_are_pure_and_between_each_joint_turns_on_the_shortest_arc(self) -> None:
        """A1, compared with SciPy's slerp in the part's own parent space."""
        from scipy.spatial.transform import Rotation, Slerp

        for seed in range(20):
            rng = np.random.default_rng(seed)
            member = limb_member(rng)
            program = Program(scene(member), random_take(rng, (member,)))
            limb = program.bounds["arm", "limb"]
            frame = [float(rng.uniform(0, 60))]
            fk, ik, mid = (program.evaluate(frame, overrides={drive_of(limb): w}) for w in (0.0, 1.0, 0.3))
            for node in limb.nodes:
                up = Rotation.from_quat(fk.rot[0, limb.above[0]])
                ends = Rotation.concatenate([up.inv() * Rotation.from_quat(p.rot[0, node]) for p in (fk, ik)])
                want = up * Slerp([0, 1], ends)([0.3])[0]
                if (ends[0].inv() * ends[1]).magnitude() < 3.0:
                    self.assertLess(float(rotation_distance(mid.rot[0, node], want.as_quat())), 1e-9)


class Locks(unittest.TestCase):
    def test_a_locked_channel_leaves_a_residual_and_says_what_could_give(self) -> None:
        rng = np.random.default_rng(8)
        member = limb_member(rng)
        part = replace(member.parts[2], locked=("carry", "twist"))  # type: ignore[type-var]
        member = replace(member, parts=(*member.parts[:2], part))  # type: ignore[arg-type]
        program = Program(scene(member), random_take(rng, (member,)))
        limb = program.bounds["arm", "limb"]
        found = fit(program, limb, "ik", program.evaluate([20.0]))
        self.assertGreater(found.rotation.max(), 1e-3)
        self.assertEqual(set(found.gives), {"arm/limb.ik.carry", "arm/limb.ik.twist"})
        # Freed, the same pose fits exactly: the locks were what prevented it.
        free = Program(scene(replace(member, parts=(*member.parts[:2], replace(part, locked=())))), program.take)  # type: ignore[type-var]
        self.assertLess(fit(free, free.bounds["arm", "limb"], "ik", free.evaluate([20.0])).rotation.max(), 1e-6)
