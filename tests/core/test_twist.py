"""Twist helpers: joints in a segment that share a twist whatever drives the limb, so that sleeves do not wring."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np
from scipy.spatial.transform import Rotation

from yielding_tether.core.cast import Member
from yielding_tether.core.channels import channel_id
from yielding_tether.core.curves import Curve, Key, curve
from yielding_tether.core.errors import CoreError
from yielding_tether.core.fitting import fit_values
from yielding_tether.core.operations.handover import Handover, apply
from yielding_tether.core.operations.pose import Drag
from yielding_tether.core.operations.pose import apply as apply_pose
from yielding_tether.core.parts import FkPart, TwistPart
from yielding_tether.core.program import Program
from yielding_tether.core.skeleton import Joint, Skeleton
from yielding_tether.core.skin import skin_of
from yielding_tether.core.takes import Scene, Take
from yielding_tether.core.transforms import Floats, inverse, multiply, rotate
from yielding_tether.demo.marl import marl

from .test_handover import demo

#: Helper, what it hangs from, whose twist it shares, the joint at which its segment ends, and its share.
HELPERS = [
    (f"{segment}.twist.{s}", f"{segment}.{s}", f"{of}.{s}", f"{end}.{s}", share)
    for s in "LR"
    for segment, of, end, share in (
        ("upperarm", "upperarm", "forearm", -0.7), ("forearm", "hand", "hand", 0.6), ("thigh", "thigh", "shin", -0.7),
        ("shin", "foot", "foot", 0.6),
    )
]  # fmt: skip


def still(values: dict[str, float]) -> Program:
    """Marl at rest but for some angles, radians."""
    curves: dict[str, Curve] = {n: curve([Key(0.0, v, v)]) for n, v in values.items()}
    return Program(Scene("yard", (marl(),)), Take("still", demo().take.rate, 0, 1, curves=curves))


class Twists(unittest.TestCase):
    def local(self, program: Program, joint: str, times: Floats) -> Rotation:
        """A joint's turn in what it hangs from; all of Marl's joints face the world at rest."""
        bones = program.scene.member("marl").skeleton
        poses = program.evaluate(times)
        up = bones.joints[bones.parents[bones.index[joint]]].name
        a, b = (Rotation.from_quat(poses.rot[:, program.nodes["marl", n]]) for n in (up, joint))
        return a.inv() * b

    def test_they_take_their_share_whatever_drives(self) -> None:
        """Against a decomposition of its own: the shortest turn of the axis taken off, what is left is the twist."""
        times = np.linspace(0.0, 204.0, 97)
        program = demo()
        limbs = tuple(("marl", f"{limb}.{s}") for limb in ("arm", "leg") for s in "LR")
        takes = [program.take, *(apply(program, Handover(limbs, to, 0.0))[0] for to in ("fk", "ik"))]
        for take in takes:
            now = Program(program.scene, take)
            bones = now.scene.member("marl").skeleton
            for helper, segment, of, end, share in HELPERS:
                axis = np.array(bones.joints[bones.index[end]].offset)
                axis /= np.linalg.norm(axis)
                turn = self.local(now, of, times)
                to = turn.apply(axis)
                swing = [Rotation.align_vectors([t], [axis])[0] for t in to]
                angle = [float((s.inv() * q).as_rotvec() @ axis) for s, q in zip(swing, turn, strict=True)]
                wanted = Rotation.from_rotvec(share * np.outer(angle, axis))
                off = (wanted.inv() * self.local(now, helper, times)).magnitude()
                self.assertLess(float(off.max()), 1e-7, f"{helper} {segment}")

    def test_the_line_is_the_same_however_joints_lie_at_rest_and_whichever_the_helper_hangs_from(self) -> None:
        for seed in range(6):
            rng = np.random.default_rng(seed)
            rests = [Rotation.random(random_state=rng) for _ in range(3)]
            axis = rng.normal(size=3)
            axis /= np.linalg.norm(axis)
            arm, elbow, helper = (tuple(r.as_quat().tolist()) for r in rests)
            for up in (1, 2):
                bones = Skeleton((
                    Joint("root", -1, (0.0, 1.0, 0.0)), Joint("arm", 0, (0.1, 0.2, 0.0), arm),
                    Joint("elbow", 1, (0.3, 0.0, 0.1), elbow), Joint("helper", up, (0.1, 0.0, 0.0), helper),
                ))  # fmt: skip
                parts = (
                    FkPart("all", "all", ("root", "arm", "elbow"), ("xyz",) * 3, (False,) * 3),
                    TwistPart("twist", "twist", ("helper",), ("xyz",), ("elbow",), (tuple(axis.tolist()),), (0.6,)),
                )
                # The elbow turns by 0.9 about the line; in the arm, or in itself where the helper hangs from it.
                line = axis if up == 2 else rests[1].inv().apply(axis)
                angles = Rotation.from_rotvec(0.9 * line).as_euler("XYZ").tolist()
                curves = {
                    channel_id("m", "elbow", f"r{x}"): curve([Key(0.0, v, v)])
                    for x, v in zip("xyz", angles, strict=True)
                }
                program = Program(
                    Scene("m", (Member("m", "M", "character", bones, parts),)),
                    Take("m", demo().take.rate, 0, 1, curves=curves),
                )
                poses = program.evaluate([0.0])
                above, seen = (
                    Rotation.from_quat(poses.rot[0, program.nodes["m", n]])
                    for n in (("arm", "elbow")[up - 1], "helper")
                )
                want = Rotation.from_rotvec(0.6 * 0.9 * axis) * rests[2]
                self.assertLess(float((want.inv() * (above.inv() * seen)).magnitude()), 1e-7, (seed, up))

    def test_what_is_keyed_lies_on_top(self) -> None:
        name = channel_id("marl", "forearm.twist.L", "rx")
        hand = channel_id("marl", "hand.L", "ry")
        share = self.local(still({hand: 0.8}), "forearm.twist.L", np.zeros(1))
        both = self.local(still({hand: 0.8, name: 0.3}), "forearm.twist.L", np.zeros(1))
        on_top = (share.inv() * both).as_rotvec()[0]
        np.testing.assert_allclose(on_top, [0.3, 0.0, 0.0], atol=1e-12)

    def test_a_helper_is_turned_by_hand_where_it_is_dragged(self) -> None:
        """The drag gives the rotation asked for, its neighbour stays, and the fit finds the keys again."""
        program = demo()
        bound = program.bound("marl", "arm.twist.R")
        frame = 40.0
        node, other = (program.nodes["marl", j] for j in ("forearm.twist.R", "upperarm.twist.R"))
        before = program.evaluate([frame])
        wanted = multiply(before.rot[0, node], np.array([np.sin(0.2), 0.0, 0.0, np.cos(0.2)]))
        place = before.pos[0, node]
        drag = Drag("marl", "arm.twist.R", "forearm.twist.R", frame, tuple(place.tolist()), tuple(wanted.tolist()))
        take, _ = apply_pose(program, drag)
        after = Program(program.scene, take)
        now = after.evaluate([frame])
        self.assertLess(abs(1.0 - abs(float(now.rot[0, node] @ wanted))), 1e-12)
        np.testing.assert_allclose(now.rot[0, other], before.rot[0, other], atol=1e-12)
        mine = after.bound("marl", "arm.twist.R")
        kept = after.now(frame, mine.systems["shared"].channels)
        np.testing.assert_allclose(fit_values(after, mine, "shared", now, np.zeros(6))[:, 0], kept, atol=1e-9)
        self.assertGreater(float(np.abs(kept).max()), 0.3)
        self.assertEqual(bound.keyed_systems, ["shared"])

    def test_a_turned_hand_does_not_wring_its_sleeve(self) -> None:
        """The sleeve's girth half way down the forearm, with the hand turned over."""
        member = marl()
        bones = member.skeleton
        axis = np.array(bones.joints[bones.index["hand.L"]].offset)
        order = "yxz"
        turn = Rotation.from_rotvec(np.radians(100.0) * axis / np.linalg.norm(axis))
        angles = dict(zip(order, turn.as_euler(order.upper()), strict=True))
        values = {channel_id("marl", "hand.L", f"r{c}"): float(v) for c, v in angles.items()}
        sleeve = next(s for s in skin_of(member).surfaces if s.tone == "jersey")
        rest_pos, rest_rot = bones.rest_pose
        elbow, wrist = (rest_pos[bones.index[n]] for n in ("forearm.L", "hand.L"))
        along = (sleeve.points - elbow) @ (wrist - elbow) / float((wrist - elbow) @ (wrist - elbow))
        line = elbow + along[:, None] * (wrist - elbow)
        off = np.linalg.norm(sleeve.points - line, axis=1)
        ring = (along > 0.3) & (along < 0.9) & (off < 0.1)
        self.assertGreater(int(ring.sum()), 100)
        poses = still(values).evaluate([0.0])
        nodes = still(values).joints(["marl"])[1]
        pos, rot = poses.pos[0, nodes], poses.rot[0, nodes]
        points = np.zeros_like(sleeve.points)
        for k in range(4):
            j = sleeve.joints[:, k].astype(int)
            local = rotate(inverse(rest_rot[j]), sleeve.points - rest_pos[j])
            points += sleeve.weights[:, k, None] * (rotate(rot[j], local) + pos[j])
        kept = np.linalg.norm(points - line, axis=1)[ring] / off[ring]
        self.assertGreater(float(kept.min()), 0.85)
        self.assertGreater(float(kept.mean()), 0.89)

    def test_what_can_not_share_is_refused_in_words(self) -> None:
        member = marl()
        part = next(p for p in member.parts if isinstance(p, TwistPart) and p.name == "arm.twist.L")
        for bad, words in (
            ({"of": ("upperarm.L", "foot.L")}, "must hang from foot.L"),
            ({"of": ("upperarm.L", "nobody")}, "can't share the twist of nobody"),
            ({"axes": ((1.0, 0.0, 0.0), (2.0, 0.0, 0.0))}, "no direction"),
            ({"shares": (0.5,)}, "a share for each joint"),
        ):
            with self.assertRaisesRegex(CoreError, words):
                replace(part, **bad).check(member.skeleton)  # type: ignore[arg-type]


if __name__ == "__main__":
    unittest.main()
