"""Lead-in: a rest pose first, every frame of the take the very same, no step at its first frame, nothing that stands before it."""

from __future__ import annotations

import unittest

import numpy as np

from yielding_tether.core.errors import CoreError
from yielding_tether.core.findings import find_all
from yielding_tether.core.measure import one_sided
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Scene, Take
from yielding_tether.core.transforms import inverse, multiply, rotation_distance
from yielding_tether.demo.brindles_trot import brindles_trot
from yielding_tether.demo.lantern_round import lantern_round
from yielding_tether.demo.rough_crossing import rough_crossing

from .test_handover import captured, demo
from .test_layers import arm, layered, plain


def worlds() -> list[tuple[Scene, Take, str]]:
    found = [
        (demo().scene, demo().take),
        lantern_round(),
        brindles_trot(),
        rough_crossing(),
        (captured().scene, captured().take),
    ]
    return [(s, t, next(m.id for m in s.members if m.kind == "character" and m.parts)) for s, t in found]


class Leading(unittest.TestCase):
    def test_it_goes_from_rest_into_the_first_frame_and_changes_no_other(self) -> None:
        for scene, take, body in worlds():
            p = Program(scene, take)
            some = next(b.id for b in p.bounds.values() if b.member.id == body)
            done = run(p, "lead-in", Asked((some,), 0.0, None, {"frames": 20}))
            q = p.on(done.take)
            with self.subTest(scene.name):
                self.assertEqual((done.take.first, done.take.last), (take.first - 20, take.last))
                at, joints = np.arange(4 * take.first, 4 * take.last + 1) / 4.0, p.joints()[1]
                was, now = p.evaluate(at), q.evaluate(at)
                # A key at the first frame splits a curve that had one before: there within rounding.
                within = 1e-14 if any(c.times[0] < take.first for c in take.curves.values()) else 0.0
                np.testing.assert_allclose(now.pos[:, joints], was.pos[:, joints], rtol=0.0, atol=within)
                np.testing.assert_allclose(now.rot[:, joints], was.rot[:, joints], rtol=0.0, atol=within)
                # Every joint hangs at its first frame as it does at rest.
                member = p.scene.member(body)
                first = q.evaluate([done.take.first])
                rests = member.skeleton.rest_pose[1]
                roots = {j for part in member.parts if part.free for j in part.joints}
                for k, joint in enumerate(member.skeleton.joints):
                    if joint.parent < 0 or joint.name in roots:
                        continue
                    node, up = (p.nodes[body, member.skeleton.joints[x].name] for x in (k, joint.parent))
                    local = multiply(inverse(first.rot[0, up]), first.rot[0, node])
                    wanted = multiply(inverse(rests[joint.parent]), rests[k])
                    self.assertLess(float(rotation_distance(local, wanted)), 1e-6, joint.name)
                # What arrives at the take's first frame is what leaves it, with its speed.
                limits = one_sided(q, np.array([float(take.first)]), p.joints([body])[1])
                self.assertLess(limits.pose_jump.max(), 1e-6)
                self.assertLess(limits.turn_jump.max(), 1e-6)
                self.assertLessEqual({f.key for f in find_all(q)}, {f.key for f in find_all(p)})
                self.assertFalse([c for c in done.take.contacts if c.begin < take.first])
                self.assertLess(done.proof.outside_place.value, 1e-12)

    def test_what_carries_a_body_gathers_its_speed_evenly(self) -> None:
        scene, take, body = worlds()[2]
        done = run(p := Program(scene, take), "lead-in", Asked(((body, "head"),), 0.0, None, {"frames": 24}))
        q = p.on(done.take)
        root = next(b for b in q.bounds.values() if b.part.free and b.member.id == body)
        channels = root.systems[root.keyed_systems[0]].channels
        at = np.linspace(done.take.first, take.first - 1e-9, 9)
        moved = q.sample(at, 0, channels) - q.sample(at[:1], 0, channels)
        # By the square of time: a quarter of the way at half of the time.
        np.testing.assert_allclose(moved, moved[:, -1:] * np.linspace(0.0, 1.0, 9) ** 2, atol=1e-6)
        step = 1e-3
        speed = (q.sample([take.first + step], 0, channels) - q.sample([take.first], 0, channels))[:, 0] / step
        self.assertGreater(float(np.abs(speed).max()), 1e-3)
        np.testing.assert_allclose(2.0 * moved[:, -1] / 24.0, speed, atol=1e-3)

    def test_what_is_in_its_way_is_told(self) -> None:
        p = plain()
        with self.assertRaisesRegex(CoreError, "merge them"):
            run(layered(np.random.default_rng(1), p, arm(p, "ik")), "lead-in", Asked((("marl", "head"),)))
        with self.assertRaisesRegex(CoreError, "part of a body"):
            run(p, "lead-in", Asked((("deck", "deck"),)))


if __name__ == "__main__":
    unittest.main()
