"""Bodies of other build from the same parts: a goat of the demo, and one on six legs that only tests have."""

from __future__ import annotations

import re
import unittest
from dataclasses import replace
from itertools import permutations
from pathlib import Path

import numpy as np

from tests.core.contract import driven, random_values
from tests.core.worlds import with_helpers
from yielding_tether.core.cast import Member
from yielding_tether.core.contacts import measure_all
from yielding_tether.core.curves import ARRIVING, EMPTY, LEAVING, SMOOTH, STEPPED, set_value
from yielding_tether.core.findings import find_all
from yielding_tether.core.fitting import fit
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.operations.mirror import Mirror
from yielding_tether.core.operations.mirror import apply as mirror
from yielding_tether.core.parts import ChainPart, Footed, LegPart
from yielding_tether.core.program import Program
from yielding_tether.core.proposal import propose
from yielding_tether.core.rig import Bound
from yielding_tether.core.skeleton import Joint, Skeleton
from yielding_tether.core.takes import Scene, Take, Tether
from yielding_tether.core.transforms import rotate, rotation_distance
from yielding_tether.demo.brindle import brindle
from yielding_tether.demo.brindles_trot import POP, brindles_trot

CORE = Path(__file__).resolve().parents[2] / "yielding_tether" / "core"
V = tuple[float, float, float]


def six_legged() -> Member:
    """Three pairs of legs along a level spine, the last pair of three segments, with a head on a neck of four and a tail."""
    rows: list[tuple[str, str, V]] = [("b0", "", (0.0, 0.7, 0.0))]
    rows += [(f"b{k}", f"b{k - 1}", (0.0, 0.01, 0.22)) for k in range(1, 5)]
    for letter, sign in (("p", 1.0), ("q", -1.0)):
        for pair, on in (("f", "b4"), ("m", "b2")):
            leg: list[V] = [
                (0.12 * sign, -0.06, 0.0),
                (0.04 * sign, -0.3, -0.04),
                (0.0, -0.28, 0.05),
                (0.0, -0.05, 0.06),
            ]
            rows += [(f"{letter}{pair}{k}", f"{letter}{pair}{k - 1}" if k else on, at) for k, at in enumerate(leg)]
        hind: list[V] = [
            (0.12 * sign, -0.05, -0.05),
            (0.0, -0.22, 0.12),
            (0.0, -0.2, -0.16),
            (0.0, -0.19, 0.06),
            (0.0, -0.04, 0.06),
        ]
        rows += [(f"{letter}h{k}", f"{letter}h{k - 1}" if k else "b0", at) for k, at in enumerate(hind)]
    rows += [(f"n{k}", f"n{k - 1}" if k else "b4", (0.0, 0.11, 0.07)) for k in range(4)]
    rows += [(f"t{k}", f"t{k - 1}" if k else "b0", (0.0, 0.02, -0.1)) for k in range(5)]
    names = [name for name, _, _ in rows]
    bones = Skeleton(tuple(Joint(name, names.index(up) if up else -1, at) for name, up, at in rows))
    return Member("six", "Six", "character", bones, propose(bones).parts)


def wandering(member: Member, seed: int) -> Program:
    """The member in a take in which all of it moves a little, twenty keys a second and a half apart."""
    rng = np.random.default_rng(seed)
    program = Program(Scene("alone", (member,)), Take("wander", brindles_trot()[1].rate, 0, 60))
    curves = {}
    for bound in program.bounds.values():
        for mine in bound.systems.values():
            for c, stepped in zip(mine.channels.tolist(), mine.stepped.tolist(), strict=True):
                kept = EMPTY
                size = (
                    0.03 if program.info[c][2].kind == "length" else 0.3 if program.info[c][2].kind == "angle" else 0.0
                )
                for t in (0.0, 20.0, 40.0, 60.0) if size and not stepped else ():
                    kept = set_value(kept, t, float(rng.normal() * size), SMOOTH)
                if len(kept):
                    curves[program.rig.names[c]] = kept
    return program.with_curves(curves)


def limbs(program: Program) -> list[Bound]:
    return [b for b in program.bounds.values() if isinstance(b.part, (LegPart, ChainPart))]


class Bodies(unittest.TestCase):
    def bodies(self) -> list[tuple[str, Program]]:
        return [(m.id, wandering(m, seed)) for seed, m in enumerate((brindle(), six_legged()))]

    def test_what_they_are_made_of(self) -> None:
        goat = {p.name: p.kind for p in brindle().parts}
        self.assertEqual({goat[f"{n}.{s}"] for n in ("foreleg",) for s in "LR"}, {"footed limb"})
        self.assertEqual({goat[f"hindleg.{s}"] for s in "LR"}, {"footed chain"})
        self.assertEqual({goat["tail"], goat["spine"]}, {"chain"})
        self.assertEqual((goat["head"], goat["ear.L"]), ("neck", "fk"))
        six = six_legged().parts
        self.assertEqual(sorted(p.kind for p in six if p.role == "leg"), ["footed chain"] * 2 + ["footed limb"] * 4)
        named = {p.name: p.joints for p in six}
        self.assertEqual((named["spine"], named["head"]), (("b1", "b2", "b3", "b4"), ("n0", "n1", "n2")))
        said = [p.name for p in CORE.rglob("*.py") if re.search(r"goat|brindle|hoof", p.read_text(), re.IGNORECASE)]
        self.assertEqual(said, [], "no species is known in the core")

    def test_a_helper_in_a_hind_leg_leaves_it_whole(self) -> None:
        bones = brindle().skeleton
        for lower in ("gaskin", "shank", "hind hoof"):
            parts = propose(with_helpers(bones, f"{lower}.L")).parts
            legs = {p.name: p.joints for p in parts if p.role == "leg" and p.kind == "footed chain"}
            with self.subTest(above=lower):
                self.assertEqual({len(j) - (f"in {lower}.L" in j) for j in legs.values()}, {4})
                self.assertEqual(sum(f"in {lower}.L" in j for j in legs.values()), 1)

    def test_any_pose_carries_over_and_nothing_jumps(self) -> None:
        for name, program in self.bodies():
            for bound in limbs(program):
                rng = np.random.default_rng(7)
                at = rng.uniform(0.0, 60.0, 60)
                for one, other in permutations(bound.keyed_systems, 2):
                    values = random_values(rng, bound, one, len(at))
                    overrides = {int(c): values[k] for k, c in enumerate(bound.systems[one].channels)}
                    pose = program.evaluate(at, overrides={**overrides, **bound.drive_to(one)})
                    there = fit(program, bound, other, pose)
                    with self.subTest(body=name, part=bound.part.name, one=one):
                        self.assertLess(max(there.position.max(), there.rotation.max()), 1e-6)
                for first, last, id, choices in (
                    (20.0, None, "handover", {"to": "ik"}), (12.0, 34.0, "handover", {"to": "ik", "keys": "every"}),
                    (12.0, 34.0, "retether", {"to": "world", "keys": "every"}), (24.0, 30.0, "crossfade", {"to": "ik"}),
                ):  # fmt: skip
                    begun = driven(program, bound, "ik") if id == "retether" else program
                    after = begun.on(run(begun, id, Asked((bound.id,), first, last, choices)).take)
                    nodes, times = begun.joints()[1], np.array([first, *([last] if last else [])])
                    came, went = (after.evaluate(times, side) for side in (ARRIVING, LEAVING))
                    with self.subTest(body=name, part=bound.part.name, id=id, last=last):
                        self.assertLess(np.abs(came.pos[:, nodes] - went.pos[:, nodes]).max(), 1e-6)
                        self.assertLess(rotation_distance(came.rot[:, nodes], went.rot[:, nodes]).max(), 1e-6)
                        if choices.get("keys") == "every":
                            whole = np.arange(0.0, 61.0)
                            gone = begun.evaluate(whole).pos[:, nodes] - after.evaluate(whole).pos[:, nodes]
                            self.assertLess(np.abs(gone).max(), 1e-6)

    def test_at_rest_they_are_the_same_on_any_anchor(self) -> None:
        for member in (brindle(), six_legged()):
            rest = Program(Scene("alone", (member,)), Take("rest", brindles_trot()[1].rate, 0, 1))
            was = rest.evaluate([0.0])
            for bound in limbs(rest):
                for to in (("world", "world"), (member.id, member.skeleton.joints[0].name)):
                    control = list(bound.controls)[-1]
                    tether = Tether("it", member.id, control, *to)
                    tied = rest.on(replace(rest.take, tethers=(tether,)))
                    full = {n: set_value(EMPTY, 0.0, 1.0, STEPPED) for n in tether.weights}
                    there = driven(tied.with_curves(full), tied.bound(*bound.id), "ik").evaluate([0.0])
                    nodes, other = rest.joints()[1], tied.joints()[1]
                    with self.subTest(body=member.id, part=bound.part.name, to=to):
                        self.assertLess(np.abs(there.pos[0, other] - was.pos[0, nodes]).max(), 1e-9)

    def test_feet_roll_about_the_points_of_their_soles(self) -> None:
        for name, program in self.bodies():
            for bound in (b for b in limbs(program) if isinstance(b.part, Footed)):
                sole, end = bound.part.sole, program.nodes[bound.member.id, bound.part.foot]  # type: ignore[attr-defined]
                roll = np.radians(np.array([-30.0, -12.0, -4.0, 0.0, 8.0, 20.0, 36.0]))
                at = np.full(len(roll), 10.0)
                ik = bound.part.ik  # type: ignore[attr-defined]
                still = {c: 0.0 for (control, _), c in bound.own.items() if control == ik}
                over = {**still, bound.own[ik, "ty"]: 0.08, bound.own[ik, "roll"]: roll, **bound.drive_to("ik")}
                poses = program.evaluate(at, overrides=over)
                for what, inside in ((sole.heel, roll <= 0.0), (sole.ball, (roll >= 0.0) & (roll <= np.radians(36.0)))):
                    place = (poses.pos[:, end] + rotate(poses.rot[:, end], np.array(what)))[inside]
                    with self.subTest(body=name, part=bound.part.name):
                        self.assertLess(np.abs(place - place[-1 if what is sole.heel else 0]).max(), 1e-5)
                self.assertGreater(rotation_distance(poses.rot[0, end], poses.rot[-1, end]), 0.5)


class Trot(unittest.TestCase):
    def setUp(self) -> None:
        scene, take = brindles_trot()
        self.program = Program(scene, take)

    def test_only_what_is_planted_is_found_and_hooves_stand(self) -> None:
        self.assertEqual(
            [(f.kind, f.part, f.frame) for f in find_all(self.program)], [("pop", "hindleg.L", float(POP))]
        )
        contacts = self.program.take.contacts
        self.assertGreaterEqual(len(contacts), 18)
        for contact, slip in zip(contacts, measure_all(self.program, contacts), strict=True):
            self.assertLess(slip.place.max(), 1e-3, contact)
        # Diagonal pairs: a cycle apart all is as it was, but for the way that was made.
        poses = self.program.evaluate([21.0, 41.0])
        nodes = [self.program.nodes["brindle", j] for j in ("hoof.L", "hind hoof.R", "chest", "tail.tip")]
        gone = poses.pos[1, nodes] - poses.pos[0, nodes]
        self.assertLess(np.ptp(gone[:, 2]), 5e-3)
        self.assertLess(np.abs(gone[:, :2]).max(), 5e-3)

    def test_planted_and_mirrored_as_any_body(self) -> None:
        outcome = run(self.program, "plant", Asked((("brindle", "hindleg.R"),), 20.0, 30.0, {}))
        planted = self.program.on(outcome.take)
        at = np.arange(20.0, 30.01, 0.25)
        hoof = planted.evaluate(at).pos[:, planted.nodes["brindle", "hind hoof.R"]]
        self.assertLess(np.abs(hoof - hoof[0]).max(), 1e-4)
        asked = Mirror(("brindle",), 0.0, float(self.program.take.last))
        twice = self.program
        for _ in range(2):
            twice = twice.on(mirror(twice, asked)[0])
        frames = np.arange(0.0, 100.0, 0.5)
        nodes = self.program.joints()[1]
        self.assertLess(
            np.abs(twice.evaluate(frames).pos[:, nodes] - self.program.evaluate(frames).pos[:, nodes]).max(), 1e-6
        )


if __name__ == "__main__":
    unittest.main()
