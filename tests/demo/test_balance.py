"""Bodies that stand still in the demo takes stand over their feet, by masses worked out from their shapes here."""

from __future__ import annotations

import unittest

import numpy as np
from scipy.spatial import ConvexHull
from scipy.spatial.transform import Rotation

from yielding_tether.core.cast import Shape
from yielding_tether.core.program import Program
from yielding_tether.core.systems.foot import sole_of
from yielding_tether.core.transforms import Floats
from yielding_tether.demo import named

#: Metres a second over the ground below which a body stands still, and above the lowest point of its soles within which they stand.
STILL, STANDS = 0.08, 0.03


def mass(shape: Shape) -> tuple[float, Floats]:
    """Volume of a piece of a body, and its middle in its joint."""
    a, b, size = np.array(shape.a), np.array(shape.b), np.resize(np.array(shape.size), 3)
    if shape.form == "capsule":
        r = float(size[:2].mean())
        return np.pi * r * r * (float(np.linalg.norm(b - a)) + 4.0 / 3.0 * r), 0.5 * (a + b)
    return float(np.prod(size)) * (4.0 / 3.0 * np.pi if shape.form == "ball" else 1.0), a


def beyond(program: Program, member_id: str) -> Floats:
    """How far the centre of mass is beyond the hull of what stands, metres (negative within), on all frames on which a body stands
    still on both feet."""
    frames = program.take.frames
    poses = program.evaluate(frames)

    def at(joint: str, point: Floats) -> Floats:
        node = program.nodes[member_id, joint]
        return poses.pos[:, node] + Rotation.from_quat(poses.rot[:, node]).apply(point)

    pieces = [(s.joint, *mass(s)) for s in program.scene.member(member_id).shapes if s.form != "ring"]
    centre = sum(v * at(joint, middle) for joint, v, middle in pieces) / sum(v for _, v, _ in pieces)
    still = np.linalg.norm(np.gradient(centre[:, [0, 2]], axis=0), axis=1) * float(program.take.rate) < STILL
    feet = [b for b in program.bounds.values() if b.member.id == member_id and b.part.kind == "footed limb"]
    soles = np.stack([[at(b.part.joints[2], p) for p in sole_of(b)[:15].reshape(5, 3)] for b in feet])
    found = []
    for k in np.flatnonzero(still):
        stands = soles[:, :, k, 1] < soles[:, :, k, 1].min() + STANDS
        if stands.any(axis=1).all():
            sides = ConvexHull(soles[:, :, k][stands][:, [0, 2]]).equations
            found.append(float((sides[:, :2] @ centre[k, [0, 2]] + sides[:, 2]).max()))
    return np.array(found)


class Balance(unittest.TestCase):
    def test_who_stands_still_on_both_feet_stands_over_them(self) -> None:
        for take, least in (("Lantern round", 100), ("Cast off", 40)):
            with self.subTest(take=take):
                off = beyond(Program(*named(take)), "marl")
                self.assertGreaterEqual(len(off), least)
                self.assertLess(off.max(), 0.0)

    def test_who_leans_back_into_a_strap_does_not(self) -> None:
        self.assertGreater(beyond(Program(*named("Tow strap")), "pip").max(), 0.1)


if __name__ == "__main__":
    unittest.main()
