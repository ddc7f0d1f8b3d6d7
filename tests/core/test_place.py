"""Placed takes against an independent rigid motion, there and back, mirrored and placed, with what stands and what is held."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np
from scipy.spatial.transform import Rotation

from yielding_tether.core.contacts import measure_all
from yielding_tether.core.errors import CoreError
from yielding_tether.core.operations import OPERATIONS, Asked, run
from yielding_tether.core.program import Program
from yielding_tether.core.transforms import Floats
from yielding_tether.demo.brindles_trot import brindles_trot

from .test_bake import crossing
from .test_findings import clean


def stage_of(program: Program) -> str | None:
    return next((m.id for m in program.scene.members if m.id == "deck"), None)


def local(program: Program, at: Floats, members: list[str]) -> tuple[Floats, Rotation, Floats]:
    """(F, J, 3) joints in the deck, or in the world; and its turn and place."""
    poses = program.evaluate(at)
    nodes = program.joints(members)[1]
    stage = stage_of(program)
    if stage is None:
        return poses.pos[:, nodes], Rotation.identity(len(at)), np.zeros((len(at), 3))
    node = program.nodes[stage, stage]
    turn = Rotation.from_quat(poses.rot[:, node])
    off = poses.pos[:, nodes] - poses.pos[:, node][:, None]
    return np.einsum("fij,fni->fnj", turn.as_matrix(), off), turn, poses.pos[:, node]


def root_of(program: Program, body: str) -> int:
    return int(next(b for b in program.bounds.values() if b.member.id == body and b.part.free).nodes[0])


class Placing(unittest.TestCase):
    def test_joints_are_moved_as_one_and_back_again(self) -> None:
        for program, body, within in (
            (clean(1), "marl", 1e-4), (Program(*brindles_trot()), "brindle", 5e-4), (crossing(), "body", 1e-5),
        ):  # fmt: skip
            members = [m.id for m in program.scene.members if m.kind in ("character", "prop")]
            some = next(b.id for b in program.bounds.values() if b.member.id == body)
            at = np.arange(program.take.first, program.take.last + 1, dtype=float)
            done = run(
                program, "place", Asked((some,), 0.0, None, {"to": "spot", "at": "2.5 0 -1.25", "heading": 70.0})
            )
            after = program.on(done.take)
            was, now = (local(p, at, [body])[0] for p in (program, after))
            # One rigid motion (Kabsch) takes all joints of all frames there.
            means = [x.reshape(-1, 3).mean(axis=0) for x in (was, now)]
            turn, _ = Rotation.align_vectors((now - means[1]).reshape(-1, 3), (was - means[0]).reshape(-1, 3))
            shown = turn.apply((was - means[0]).reshape(-1, 3)).reshape(was.shape) + means[1]
            with self.subTest(program.scene.name):
                self.assertLess(np.abs(shown - now).max(), within)
                # Level, and about the vertical.
                self.assertLess(np.abs(turn.apply([0.0, 1.0, 0.0]) - [0.0, 1.0, 0.0]).max(), 1e-6)
                self.assertLess(np.abs((now - shown)[..., 1]).max(), within)
                # Over the ground at the place, as what it stands on lies there.
                node = list(after.joints([body])[1]).index(root_of(after, body))
                first = local(after, at[:1], [body])[0][0, node]
                _, lies, base = local(program, at[:1], [body])
                there = lies.inv().apply(np.array([2.5, 0.0, -1.25]) - base)[0]
                np.testing.assert_allclose(first[[0, 2]], there[[0, 2]], atol=1e-6)
                slips = [measure_all(p, p.take.contacts) for p in (program, after)]
                for one, two in zip(*slips, strict=True):
                    self.assertLessEqual(float(two.place.max()), float(one.place.max()) + 1e-5)
                self.assertTrue(done.proof.contacts_kept)
                held = [m for m in members if m != body]
                for prop in held:
                    gaps = [
                        np.linalg.norm(p.evaluate(at).pos[:, p.nodes[body, p.scene.member(body).skeleton.joints[3].name]]
                                       - p.evaluate(at).pos[:, p.joints([prop])[1][0]], axis=1)
                        for p in (program, after)
                    ]  # fmt: skip
                    np.testing.assert_allclose(gaps[0], gaps[1], atol=within)

    def test_a_mirrored_take_begins_as_the_original_does(self) -> None:
        program = clean(1)
        take = run(program, "mirror", Asked((("marl", "head"),), 0.0, None, {"to": "start", "plane": "own"})).take
        at, node = np.array([float(program.take.first)]), root_of(program, "marl")
        a, b = (p.evaluate(at) for p in (program, program.on(take)))
        np.testing.assert_allclose(b.pos[0, node], a.pos[0, node], atol=1e-9)
        ways = [Rotation.from_quat(x.rot[0, node]).apply([0.0, 0.0, 1.0]) for x in (a, b)]
        heads = [np.arctan2(w[0], w[2]) for w in ways]
        # Headed alike but for what its root leans to the side.
        self.assertLess(abs(heads[0] - heads[1]), 0.3)

    def test_its_way_is_shown_and_what_can_not_be_is_told(self) -> None:
        program = clean(1)
        asked = Asked((("marl", "head"),), 0.0, None, {"to": "origin", "heading": 30.0})
        view = OPERATIONS["place"].in_view(program, asked)
        assert view is not None
        # And, beside it, the way it goes as it is.
        went = program.evaluate(np.arange(len(view.was), dtype=float)).pos[:, root_of(program, "marl")]
        np.testing.assert_allclose(np.array(view.was)[:, [0, 2]], went[:, [0, 2]], atol=1e-9)
        assert view is not None
        after = program.on(run(program, "place", asked).take)
        path = after.evaluate(program.take.frames).pos[:, root_of(after, "marl")]
        np.testing.assert_allclose(np.array(view.path)[:, [0, 2]], path[:, [0, 2]], atol=1e-4)
        for first, last, choices, told in (
            (0.0, None, {"to": "spot"}, "Click the place"), (10.0, 60.0, {"to": "origin"}, "place the whole take"),
        ):  # fmt: skip
            with self.assertRaisesRegex(CoreError, told):
                run(program, "place", Asked((("marl", "head"),), first, last, choices))


if __name__ == "__main__":
    unittest.main()


class Meeting(unittest.TestCase):
    def test_it_begins_where_another_take_is_at_a_frame(self) -> None:
        program = clean(1)
        other = program.on(replace(program.take, name="another"))
        elsewhere: dict[str, str | float] = {"to": "spot", "at": "1 0 -2", "heading": 50.0}
        other = other.on(run(other, "place", Asked((("marl", "spine"),), 0.0, None, elsewhere)).take)
        for id, asked in (("place", {"to": "meet", "frame": 60.0}), ("mirror", {"to": "meet", "frame": 60.0})):
            done = run(program, id, Asked((("marl", "spine"),), 0.0, None, asked, other=other))
            after = program.on(done.take)
            hips = root_of(program, "marl")
            there, here = other.evaluate([60.0]), after.evaluate([0.0])
            flat = [p.pos[0, hips] for p in (there, here)]
            np.testing.assert_allclose(flat[0][[0, 2]], flat[1][[0, 2]], atol=1e-6)
            ahead = [Rotation.from_quat(p.rot[0, hips]).apply([0.0, 0.0, 1.0]) for p in (there, here)]
            angles = [np.degrees(np.arctan2(a[0], a[2])) for a in ahead]
            self.assertLess(abs((angles[0] - angles[1] + 180.0) % 360.0 - 180.0), 1.0, id)
        for asked, what, says in (
            ({"to": "meet"}, None, "Choose the take"), ({"to": "meet", "frame": 999.0}, other, "do not lie in the take"),
            ({"to": "meet"}, crossing(), "is not in"),
        ):  # fmt: skip
            with self.subTest(says), self.assertRaisesRegex(CoreError, says):
                run(program, "place", Asked((("marl", "spine"),), 0.0, None, asked, other=what))
