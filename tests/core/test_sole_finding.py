"""How thick soles are, told from motion: files of bare skeletons whose makers know it."""

from __future__ import annotations

import unittest
from dataclasses import replace
from functools import cache

import numpy as np
from scipy.spatial.transform import Rotation

from tests.core.crossings import random_kind
from yielding_tether.core.body_fit import limbs_of, refitted
from yielding_tether.core.contact_finding import find
from yielding_tether.core.curves import ARRIVING, LEAVING
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.program import Program
from yielding_tether.core.proposal import propose
from yielding_tether.core.takes import Scene
from yielding_tether.core.transforms import Floats, rotate
from yielding_tether.demo.rough_crossing import Crossing, Kind, crossing
from yielding_tether.formats import bvh

QUIET = Kind(tiptoe=True, pace=1.4, noise=0.001, rocks=0.0, seed=11)


@cache
def bare(kind: Kind) -> tuple[Crossing, bvh.Imported]:
    """A crossing, and what comes of it as a file of joints alone."""
    made = crossing(kind)
    return made, bvh.read(bvh.write(Program(made.scene, made.take), "marl", 0.0, made.take.last), "b", "B")


def soles(parts: object) -> dict[str, object]:
    return {p.name: p.sole for p in parts if hasattr(p, "sole")}  # type: ignore[attr-defined]


class Thickness(unittest.TestCase):
    def test_walks_tell_it(self) -> None:
        """Where nothing of the file does: a heel that rolls on, a tip that rolls off; any pace, rate, noise and floor. What is too
        noisy tells nothing, and never something else."""
        rng = np.random.default_rng(2611)
        kinds = [replace(random_kind(rng, n, (0.0, 0.0015)), seed=2600 + n, rocks=0.4) for n in range(2)]
        kinds += [QUIET, replace(random_kind(rng, 9, (0.0, 0.003)), tiptoe=True, pace=1.35)]
        rough = [random_kind(rng, 20 + n, (0.002, 0.006)) for n in range(2)]
        for kind in (*kinds, *rough):
            made, read = bare(kind)
            true = soles(made.scene.member("marl").parts)
            untold = soles(propose(read.member.skeleton, read.take.captures["b"].rotations).parts)
            for name, sole in soles(read.member.parts).items():
                with self.subTest(kind=kind, leg=name):
                    if kind in rough and sole == untold[name]:
                        continue
                    for point in ("heel", "tip", "left", "right"):
                        off = np.array(getattr(sole, point)) - getattr(true[name], point)
                        self.assertLess(abs(off[1]), 0.009)
                        self.assertGreater(
                            abs((np.array(getattr(untold[name], point)) - getattr(true[name], point))[1]), 0.024
                        )
                    self.assertEqual(sole.ball, untold[name].ball)  # type: ignore[attr-defined]
            if kind not in rough:
                self.assertTrue(any("Sole of left leg, right leg" in n for n in read.notes), read.notes)

    def test_bodies_of_any_size(self) -> None:
        _, read = bare(QUIET)
        bones, capture = read.member.skeleton, read.take.captures["b"]
        first = soles(read.member.parts)
        for size in (0.31, 3.7):
            grown = replace(
                bones, joints=tuple(
                    replace(j, offset=tuple(size * np.array(j.offset)), tip=j.tip and tuple(size * np.array(j.tip)))
                    for j in bones.joints
                ),
            )  # fmt: skip
            made = soles(propose(grown, capture.rotations, offsets=size * capture.offsets).parts)
            for name, sole in made.items():
                np.testing.assert_allclose(sole.heel, size * np.array(first[name].heel), atol=1e-9)  # type: ignore[attr-defined]

    def test_where_nothing_is_told(self) -> None:
        """Feet that stand still, that only wiggle in the air, one frame, and soles that are where they are said to be."""
        _, read = bare(QUIET)
        bones, capture = read.member.skeleton, read.take.captures["b"]
        still, turns = (np.repeat(x[:1], 400, axis=0) for x in (capture.offsets, capture.rotations))
        wiggling = turns.copy()
        wiggles = Rotation.from_rotvec(np.outer(0.5 * np.sin(np.arange(400) / 9.0), [1.0, 0.0, 0.0])).as_quat()
        wiggling[:, bones.index["foot.L"]] = wiggles
        untold = soles(propose(bones, capture.rotations).parts)
        for offsets, rotations in ((still, turns), (still, wiggling), (still[:1], turns[:1])):
            self.assertEqual(soles(propose(bones, rotations, offsets=offsets).parts), untold)
        # What ends in the very sole.
        lower = 0.025
        ends = replace(
            bones, joints=tuple(
                replace(j, tip=(j.tip[0], j.tip[1] - lower, j.tip[2])) if j.tip and j.name.startswith("toe") else j
                for j in bones.joints
            ),
        )  # fmt: skip
        told, said = (propose(ends, capture.rotations, offsets=x) for x in (capture.offsets, None))
        for name, sole in soles(told.parts).items():
            self.assertLess(abs(sole.heel[1] - soles(said.parts)[name].heel[1]), 0.006)  # type: ignore[attr-defined]

    def test_made_workable_from_a_bare_file(self) -> None:
        """Tips stand alone where they do, nothing that stands slips, and a foot is where it was captured."""
        made, read = bare(QUIET)
        before = Program(Scene("B", (read.member,)), read.take)
        tips = [c for c in find(before) if any(p.name == "tip" for p in c.points)]
        self.assertEqual(len(tips), sum(t.point == "tip" for t in made.truth))
        legs = [b for b in before.bounds if b[1].startswith(("leg", "root"))]
        done = run(before, "workable", Asked(tuple(legs), read.take.first, read.take.last, {}))
        after = before.on(done.take)
        feet = [before.nodes["b", f"{j}.{s}"] for j in ("foot", "toe") for s in "LR"]
        at = read.take.frames
        off = np.linalg.norm(before.evaluate(at).pos[:, feet] - after.evaluate(at).pos[:, feet], axis=-1)
        self.assertLess(off.max(), 0.012)
        for contact in done.take.contacts:
            for point in contact.points:
                if point.name == "tip":
                    self.assertLess(self._slip(after, contact.joint, point.first, point.last), 1e-4)

    def _slip(self, program: Program, foot: str, first: float, last: float) -> float:
        """How far (metres) the tip of a foot comes from where it is first."""
        leg = next(p for p in program.scene.member("b").parts if getattr(p, "foot", "") == foot)
        joint, at = next((j, p) for name, j, p in leg.stands_on(program.scene.member("b").skeleton) if name == "tip")
        times = np.arange(first, last + 0.01, 0.25)
        node = program.nodes["b", joint]
        pos, rot = program.track(times, np.where(times == last, ARRIVING, LEAVING), [node])
        places: Floats = pos[:, 0] + rotate(rot[:, 0], np.array(at))
        return float(np.linalg.norm(places - places[0], axis=1).max())


class Fitted(unittest.TestCase):
    def test_limbs_corrected_keep_it(self) -> None:
        """Parts that are proposed anew tell it from the same motion."""
        _, read = bare(QUIET)
        limbs = limbs_of(read.member)
        swapped = refitted(read.member, {}, (replace(limbs[0], flipped=True), *limbs[1:]), [read.take.captures["b"]])
        for name, sole in soles(swapped.parts).items():
            np.testing.assert_allclose(sole.heel, soles(read.member.parts)[name].heel, atol=1e-9)  # type: ignore[attr-defined]
