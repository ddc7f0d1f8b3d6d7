"""A take moved to other versions of its character: every mismatch told, all else exact, there and back bit for bit."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from yielding_tether.core.cast import Member
from yielding_tether.core.curves import Key, curve
from yielding_tether.core.errors import CoreError
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.operations.transfer import Names, Transferred, prefixes, propose, transfer
from yielding_tether.core.parts import TwistPart
from yielding_tether.core.program import Program
from yielding_tether.core.skeleton import Skeleton
from yielding_tether.core.takes import Scene
from yielding_tether.demo.cast_off import cast_off
from yielding_tether.demo.lantern_round import lantern_scene

from .test_bake import crossing


def renamed(member: Member, prefix: str, without: tuple[str, ...] = (), id: str = "other") -> Member:
    """Another version of a body: every joint and part with a prefix, some parts left out with their joints."""
    gone = {j for p in member.parts if p.name in without for j in p.joints}
    kept = [j for j in member.skeleton.joints if j.name not in gone]
    index = {j.name: k for k, j in enumerate(kept)}
    joints = tuple(
        replace(
            j, name=prefix + j.name,
            parent=-1 if j.parent < 0 else index[member.skeleton.joints[j.parent].name],
        )
        for j in kept
    )  # fmt: skip
    parts = []
    for p in (p for p in member.parts if p.name not in without):
        whose = {"joint": prefix + p.joints[0]} if p.free else {"joints": tuple(prefix + j for j in p.joints)}
        if isinstance(p, TwistPart):
            whose["of"] = tuple(prefix + j for j in p.of)
        parts.append(replace(p, name=prefix + p.name, **whose))  # type: ignore[type-var]
    shapes = tuple(replace(s, joint=prefix + s.joint) for s in member.shapes if s.joint not in gone)
    return replace(member, id=id, skeleton=Skeleton(joints), parts=tuple(parts), shapes=shapes)


def with_body(scene: Scene, member: Member) -> Scene:
    """The scene with another body in place of Marl's."""
    return Scene("other", tuple(member if m.id == "marl" else m for m in scene.members))


class Moved(unittest.TestCase):
    def same(self, program: Program, found: Transferred, scene: Scene, prefix: str, joints: list[str]) -> None:
        """The joints stand where the source has them, measured here."""
        after = Program(scene, found.take)
        at = np.arange(2 * program.take.first, 2 * program.take.last + 1) / 2.0
        a, b = program.evaluate(at), after.evaluate(at)
        old = [program.nodes["marl", j] for j in joints]
        new = [after.nodes["other", prefix + j] for j in joints]
        self.assertLess(float(np.abs(a.pos[:, old] - b.pos[:, new]).max()), 1e-9)

    def test_a_prefix_and_a_part_less(self) -> None:
        program = Program(*cast_off())
        for prefix in ("mk2:", "Deckhand_", "x|y:"):
            other = renamed(program.scene.member("marl"), prefix, ("head",))
            scene = with_body(program.scene, other)
            found = transfer(program, "marl", scene, "other")
            said = {(m.what, m.name) for m in found.mismatches}
            self.assertEqual(said, {("part", "Marl's head")}, prefix)
            gone = {n for n in program.take.curves if n.startswith(("marl/head.", "marl/neck."))}
            self.assertIn(f"{len(gone)} channels with", found.mismatches[0].says)
            joints = [
                j.name for j in program.scene.member("marl").skeleton.joints if not j.name.startswith(("head", "neck."))
            ]
            self.same(program, found, scene, prefix, joints)
            self.assertEqual((found.follows, found.contacts), (len(program.take.tethers), len(program.take.contacts)))
            self.assertLess(found.place.value, 1e-9)
            self.assertIn("1 thing did not match; joints that both have are within 0 mm and 0.00°", found.sentence)
            # And back again: what came along is what it was, to the last bit.
            back = transfer(Program(scene, found.take), "other", program.scene, "marl")
            self.assertEqual({m.name for m in back.mismatches}, {"Marl's head"})
            self.assertEqual(back.take.curves.keys(), program.take.curves.keys() - gone)
            for name, kept in back.take.curves.items():
                self.assertEqual(kept, program.take.curves[name], name)
            self.assertEqual(back.take.tethers, program.take.tethers)
            self.assertEqual(back.take.contacts, program.take.contacts)

    def test_into_another_cast(self) -> None:
        program = Program(*cast_off())
        found = transfer(program, "marl", lantern_scene(), "marl")
        said = {(m.what, m.name) for m in found.mismatches}
        # The rope is not there, nor what it followed; the lantern and the hook only stand about.
        self.assertEqual(
            said, {("member", "Mooring rope"), ("follow", "Mooring rope on Marl, right hand")}, found.mismatches
        )
        after = Program(lantern_scene(), found.take)
        node, there = (p.nodes["marl", "hand.R"] for p in (program, after))
        at = program.take.frames
        np.testing.assert_allclose(after.evaluate(at).pos[:, there], program.evaluate(at).pos[:, node], atol=1e-9)
        self.assertEqual([m.id for m in lantern_scene().members], [m.id for m in after.scene.members])
        # An end that stays while it is crossfaded stays there too.
        for id, first, choices in (
            ("handover", 140.0, {"to": "fk", "keys": "every"}),
            ("crossfade", 150.0, {"to": "ik"}),
        ):
            program = program.on(run(program, id, Asked((("marl", "arm.R"),), first, None, choices)).take)
        program = program.with_curves({"marl/arm.R.ik.twist": curve([Key(0.0, 0.3, 0.3)])})
        found = transfer(program, "marl", lantern_scene(), "marl")
        self.assertEqual({(m.what, m.name) for m in found.mismatches}, said)
        self.assertIn("marl/arm.R.hold", found.take.curves)
        after, at = Program(lantern_scene(), found.take), np.arange(290.0, 340.0) / 2.0
        np.testing.assert_allclose(after.evaluate(at).pos[:, there], program.evaluate(at).pos[:, node], atol=1e-9)

    def test_what_is_set_up_otherwise_is_told_and_stays_behind(self) -> None:
        program = Program(*cast_off())
        marl = program.scene.member("marl")
        arm = marl.part("arm.L")
        head = marl.part("head")
        turned = replace(head, orders=("xyz", "zyx", "zyx"))  # type: ignore[type-var]
        straight = replace(arm, hinge=(1.0, 0.0, 0.0))  # type: ignore[type-var]
        locked = replace(marl.part("arm.R"), locked=("hand.R.ry",))  # type: ignore[type-var]
        swap = {"head": turned, "arm.L": straight, "arm.R": locked}
        longer = tuple(
            replace(j, offset=(j.offset[0], j.offset[1] - 0.02, j.offset[2])) if j.name == "shin.R" else j
            for j in marl.skeleton.joints
        )
        other = replace(
            marl, id="other", parts=tuple(swap.get(p.name, p) for p in marl.parts), skeleton=Skeleton(longer)
        )
        found = transfer(program, "marl", with_body(program.scene, other), "other")
        told = {(m.what, m.name): m.says for m in found.mismatches}
        self.assertIn("rotation orders", told["part", "Marl's head"])
        self.assertIn("hinge", told["part", "Marl's left arm"])
        self.assertIn("locked", told["channel", "Marl's right arm, hand, turn y"])
        self.assertIn("rests 20.0 mm", told["rest", "Marl's right leg, shin.R"])
        self.assertEqual(len(told), 4, told)
        self.assertGreater(found.place.value, 1e-3)
        self.assertIn("4 things did not match", found.sentence)
        self.assertIn(
            f"within {1000 * found.place.value:.1f} mm and {np.degrees(found.turn.value):.2f}° of the source, "
            f"{found.place.joint} at frame {found.place.frame:g}", found.sentence,
        )  # fmt: skip
        self.assertFalse(any(n.startswith("other/head.") for n in found.take.curves))

    def test_a_capture_goes_along_whatever_the_order_of_its_joints(self) -> None:
        program = crossing()
        body = program.scene.members[0]
        # Another order of the same joints, by a walk that takes the children from the last to the first.
        order: list[int] = []

        def visit(k: int) -> None:
            order.append(k)
            for child in reversed([c for c, p in enumerate(body.skeleton.parents) if p == k]):
                visit(child)

        visit(0)
        place = {k: n for n, k in enumerate(order)}
        joints = tuple(
            replace(body.skeleton.joints[k], parent=place.get(body.skeleton.joints[k].parent, -1)) for k in order
        )
        other = renamed(replace(body, skeleton=Skeleton(joints)), "b_", id="other")
        found = transfer(program, body.id, Scene("other", (other,)), "other")
        self.assertEqual(found.mismatches, ())
        self.assertLess(found.place.value, 1e-9)
        back = transfer(Program(Scene("other", (other,)), found.take), "other", program.scene, body.id)
        np.testing.assert_array_equal(back.take.captures[body.id].rotations, program.take.captures[body.id].rotations)

    def test_prefixes_are_proposed(self) -> None:
        marl = cast_off()[0].member("marl")
        self.assertEqual(prefixes(marl), [""])
        self.assertEqual(propose(marl, renamed(marl, "a:b_")), Names("", "a:b_"))
        self.assertEqual(propose(renamed(marl, "old:"), renamed(marl, "new_")), Names("old:", "new_"))
        self.assertEqual(propose(renamed(marl, "same:"), renamed(marl, "same:")), Names("", ""))

    def test_what_cannot_be_done_says_so(self) -> None:
        program = Program(*cast_off())
        with self.assertRaisesRegex(CoreError, "no character"):
            transfer(program, "rope", program.scene, "marl")
        with self.assertRaisesRegex(CoreError, "no member nobody"):
            transfer(program, "marl", program.scene, "nobody")
        # A prefix without which two joints have one name can't be left out, and is not proposed.
        twin = renamed(program.scene.member("marl"), "a:")
        joints = tuple(replace(j, name="head") if j.name == "a:neck.low" else j for j in twin.skeleton.joints)
        parts = tuple(
            replace(p, joints=tuple("head" if j == "a:neck.low" else j for j in p.joints))  # type: ignore[type-var]
            if "a:neck.low" in p.joints else p
            for p in twin.parts
        )  # fmt: skip
        shapes = tuple(replace(s, joint="head") if s.joint == "a:neck.low" else s for s in twin.shapes)
        twin = replace(twin, skeleton=Skeleton(joints), parts=parts, shapes=shapes)
        self.assertNotIn("a:", prefixes(twin))
        with self.assertRaisesRegex(CoreError, "two things of Marl are called head"):
            transfer(program, "marl", with_body(program.scene, twin), "other", Names("", "a:"))
        # Names that do not match at all: everything is told, nothing is done half.
        found = transfer(
            program,
            "marl",
            with_body(program.scene, renamed(program.scene.member("marl"), "q:")),
            "other",
            Names("", ""),
        )
        self.assertGreater(len(found.mismatches), 12)
        self.assertFalse(any(n.startswith("other/") for n in found.take.curves))
        # Nor does a cast in which nothing at all matches stop the account.
        alone = renamed(program.scene.member("marl"), "q:")
        found = transfer(program, "marl", Scene("other", (alone,)), "other", Names("", ""))
        self.assertEqual((found.parts, found.keys, found.place.value), (0, 0, 0.0))


if __name__ == "__main__":
    unittest.main()
