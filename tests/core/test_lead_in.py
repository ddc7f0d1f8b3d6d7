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

    def test_what_is_in_its_way_is_told(self) -> None:
        p = plain()
        with self.assertRaisesRegex(CoreError, "merge them"):
            run(layered(np.random.default_rng(1), p, arm(p, "ik")), "lead-in", Asked((("marl", "head"),)))
        with self.assertRaisesRegex(CoreError, "part of a body"):
            run(p, "lead-in", Asked((("deck", "deck"),)))


if __name__ == "__main__":
    unittest.main()
