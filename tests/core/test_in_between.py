"""In-betweens against an independent mixing of the joints, through changes of system and follow, with what stands."""

from __future__ import annotations

import unittest

import numpy as np
from scipy.spatial.transform import Rotation

from tests.depth import DEPTH
from yielding_tether.core.curves import ARRIVING, LEAVING
from yielding_tether.core.errors import CoreError
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.program import Program
from yielding_tether.core.rig import Bound
from yielding_tether.core.transforms import Floats

from .test_findings import clean
from .test_handover import captured, demo
from .worlds import limb_member, random_take, scene, stepped


def turns(program: Program, bound: Bound, frame: float, side: int = LEAVING) -> Rotation:
    """The joints of a part in what each hangs from."""
    poses = program.evaluate([frame], side)
    return Rotation.from_quat(poses.rot[0, bound.above]).inv() * Rotation.from_quat(poses.rot[0, bound.nodes])


def keys_around(program: Program, bound: Bound, frame: float) -> tuple[float, float]:
    times = np.unique(
        np.concatenate([program.curve(int(c)).times for s in bound.keyed_systems for c in bound.systems[s].channels])
    )
    times = times[(times >= program.take.first) & (times <= program.take.last)]
    return float(times[times < frame].max()), float(times[times > frame].min())


class Between(unittest.TestCase):
    def check(self, program: Program, part: tuple[str, str], frame: float, share: float) -> Program:
        bound = program.bound(*part)
        a, b = keys_around(program, bound, frame)
        done = run(program, "in-between", Asked((part,), frame, None, {"share": 100.0 * share}))
        after = program.on(done.take)
        one, two = turns(program, bound, a), turns(program, bound, b, ARRIVING)
        got = turns(after, bound, frame)
        for k in range(len(bound.nodes)):
            way = (one[k].inv() * two[k]).as_rotvec()
            wanted = one[k] * Rotation.from_rotvec(share * way)
            self.assertLess((wanted.inv() * got[k]).magnitude(), 1e-6, bound.part.joints[k])
        # Nothing is another beyond the keys on either side.
        self.assertEqual((done.proof.first, done.proof.last), (a, b))
        frames, joints = program.take.frames, program.joints()[1]
        mine: Floats = frames[(frames <= a) | (frames >= b)]
        was, now = (p.evaluate(mine).pos[:, joints] for p in (program, after))
        np.testing.assert_allclose(now, was, atol=1e-12)
        return after

    def test_random_limbs_in_either_system_and_over_a_change(self) -> None:
        for seed in range(6 * DEPTH):
            rng = np.random.default_rng(40 + seed)
            member = limb_member(rng)
            program = Program(scene(member), random_take(rng, (member,), spread=0.4))
            bound = next(b for b in program.bounds.values() if len(b.systems) > 1)
            driver = program.channel_names()[bound.drivers[0][1]]
            program = program.with_curves({driver: stepped((0, float(seed % 2)), (31, float(seed % 3 == 0)))})
            frame = float(rng.integers(20, 45)) + 0.5
            self.check(program, bound.id, frame, (0.0, 0.25, 0.5, 1.0, 1.2)[seed % 5])

    def test_halves_and_ends_on_a_whole_person(self) -> None:
        program = Program(demo().scene, demo().take)
        for share in (0.0, 0.5, 1.0):
            self.check(program, ("marl", "arm.L"), 63.0, share)
            self.check(program, ("marl", "head"), 63.0, share)

    def test_what_stands_stays_while_the_body_goes_between(self) -> None:
        program = clean(1)
        feet = [c for c in program.take.contacts if "foot" in c.joint]
        contact = max(feet, key=lambda c: c.last - c.first)
        frame = round(0.5 * (contact.first + contact.last)) + 0.5
        parts = tuple(
            b.id
            for b in program.bounds.values()
            if b.member.id == "marl" and ("leg" in b.part.name or b.part.name in ("body", "hips", "spine"))
        )
        after = program.on(run(program, "in-between", Asked(parts, frame, None, {"share": 10.0})).take)
        node = program.nodes["marl", contact.joint]
        a, b = (p.evaluate([frame]) for p in (program, after))
        np.testing.assert_allclose(b.pos[0, node], a.pos[0, node], atol=1e-6)
        self.assertGreater(np.abs(b.pos - a.pos).max(), 1e-5)

    def test_what_can_not_be_is_told(self) -> None:
        program = Program(demo().scene, demo().take)
        for p, part, frame, told in (
            (program, ("marl", "arm.L"), 0.0, "no key before"), (captured(), ("body", "arm.L"), 30.0, "hand it over"),
        ):  # fmt: skip
            with self.assertRaisesRegex(CoreError, told):
                run(p, "in-between", Asked((part,), frame))


if __name__ == "__main__":
    unittest.main()
