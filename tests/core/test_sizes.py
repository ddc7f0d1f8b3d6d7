"""Sizes: a root grows and shrinks all that hangs from it about a chosen point, and whoever follows it goes along."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np
from scipy.spatial.transform import Rotation

from tests.depth import DEPTH
from yielding_tether.core.contacts import measure_all
from yielding_tether.core.curves import ARRIVING, LEAVING, SMOOTH, STEPPED, Curve, Key, curve
from yielding_tether.core.errors import CoreError
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.operations.keys import Edit
from yielding_tether.core.operations.keys import apply as keys
from yielding_tether.core.operations.retether import Retether, able, apply
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Contact, Scene, Take, Tether
from yielding_tether.core.transforms import Floats, inverse, multiply, rotate, rotation_distance
from yielding_tether.demo.crate_and_rope import crate_and_rope

from .contract import kinds, programs
from .test_retether import PAIRS, Checked, world
from .worlds import growing, stepped


def sized(program: Program, size: float, member: str | None = None, about: Floats | None = None) -> Program:
    """All roots, or that of one member, at this size throughout; about a point in the root or the one that it comes with."""
    curves: dict[str, Curve] = {}
    for bound in program.bounds.values():
        if bound.part.grows and member in (None, bound.member.id):
            own = f"{bound.member.id}/{bound.part.joints[0]}"
            curves[f"{own}.size"] = stepped((0, size))
            if about is not None:
                curves |= {
                    f"{own}.about.{c}": stepped((0, float(x))) for c, x in zip(("tx", "ty", "tz"), about, strict=True)
                }
    return program.with_curves(curves)


def local(program: Program, member: str, times: Floats) -> tuple[Floats, Floats]:
    """Offsets and turns of a body's joints in what they hang from, the root's in the world."""
    bones = program.scene.member(member).skeleton
    nodes = program.joints([member])[1]
    poses = program.evaluate(times)
    pos, rot = poses.pos[:, nodes], poses.rot[:, nodes]
    up = [max(p, 0) for p in bones.parents]
    back = inverse(rot[:, up])
    return rotate(back, pos - pos[:, up])[:, 1:], multiply(back, rot)[:, 1:]


class Grown(unittest.TestCase):
    def test_every_turn_and_offset_stays_and_the_body_grows_about_its_point(self) -> None:
        """All kinds of parts, keyed and captured: turns as they were, offsets times the size, the point where it was."""
        frames = np.arange(0.0, 60.5, 7.5)
        for kind in kinds():
            for seed in range(0, 4 * DEPTH, 2):
                for plain, bound in programs(seed, kind):
                    member = bound.member.id
                    root = next(b for b in plain.bounds.values() if b.member.id == member and b.part.grows)
                    about = np.random.default_rng(seed).uniform(-1, 1, 3)
                    # What holds on to the world is another matter: here IK is of one piece with the body.
                    off, turn = local(plain, member, frames)
                    here = plain.evaluate(frames)
                    for size in (0.1, 10.0):
                        grown = sized(plain, size, member, about)
                        new, turned = local(grown, member, frames)
                        self.assertLess(np.abs(new - size * off).max(initial=0.0), 1e-7 * size, (kind, seed))
                        self.assertLess(rotation_distance(turned, turn).max(initial=0.0), 1e-6, (kind, seed))
                        there = grown.evaluate(frames)
                        a, b = (
                            Rotation.from_quat(p.rot[:, root.nodes[0]]).apply(s * about) + p.pos[:, root.nodes[0]]
                            for p, s in ((here, 1.0), (there, size))
                        )
                        if not bound.captured:
                            self.assertLess(np.abs(a - b).max(), 1e-9)
                        else:
                            # A capture grows as a whole about the point at rest.
                            rest = Rotation.from_quat(root.rests[0]).apply(about) + root.offsets[0]
                            was, now = here.pos[:, root.nodes[0]], there.pos[:, root.nodes[0]]
                            self.assertLess(np.abs(now - rest - size * (was - rest)).max(), 1e-9)

    def test_the_rest_pose_is_the_same_whichever_anchor_is_chosen_at_any_size(self) -> None:
        """Every control of every demo character, each alone on each of some anchors."""
        scene_, take = crate_and_rope()
        for member in (m for m in scene_.members if m.kind == "character"):
            self.at_rest(replace(scene_, members=(member,)), take, member.id)

    def at_rest(self, made: Scene, take: Take, member: str) -> None:
        small, large = (
            (size, p := sized(Program(made, Take("rest", take.rate, 0, 1)), size, member), p.evaluate([0.0]))
            for size in (0.1, 10.0)
        )
        rest = small[1]
        nodes, turn = rest.joints()[1], 0
        bones = made.member(member).skeleton
        for bound in [b for b in rest.bounds.values() if b.member.id == member]:
            for control in able(bound):
                if bound.part.free:
                    continue
                up = bones.parents[bones.index[bound.part.joints[0]]]
                others = list(dict.fromkeys((bones.joints[up].name, bones.joints[0].name)))
                for anchor in (("world", "world"), *((member, j) for j in others)):
                    # Small and large by turns.
                    turn += 1
                    size, rest, was = (small, large)[turn % 2]
                    whole = control.releases >= {"position"}
                    tether = Tether(
                        "it", member, control.name, *anchor, whole, "rotation" in control.releases, scales=True
                    )
                    on = replace(rest.take, tethers=(tether,))
                    drive = [rest.rig.names[c] for c in bound.driver_channels]
                    on = on.with_curves(dict.fromkeys([*tether.weights, *drive], stepped((0, 1.0))))
                    there = Program(made, on).evaluate([0.0])
                    self.assertLess(
                        np.abs(there.pos[0, nodes] - was.pos[0, nodes]).max(), 1e-9 * max(size, 1.0), control.name
                    )
                    self.assertLess(rotation_distance(there.rot[0, nodes], was.rot[0, nodes]).max(), 1e-7)

    def test_what_is_held_in_the_world_stays_there_and_what_hangs_on_a_body_stays_on_it(self) -> None:
        program = world(2)
        for scales, held in ((False, 1.0), (True, 3.0)):
            tether = Tether("it", "arm", "limb.ik", "world", "world", scales=scales)
            on = program.on(replace(program.take, tethers=(tether,)))
            curves = dict.fromkeys(tether.weights, stepped((0, 1.0)))
            before = on.with_curves(curves)
            # The point about which the body grows is the world's own middle: there the place is simply so much farther.
            root = before.bound("arm", "body")
            about = rotate(inverse(root.rests[0]), -root.offsets[0])
            after = sized(before, 3.0, "arm", about)
            node = before.bounds["arm", "limb"].controls["limb.ik"].node
            a, b = (p.evaluate([10.0, 30.0]).pos[:, node] for p in (before, after))
            self.assertLess(np.abs(held * a - b).max(), 1e-12)
        # A cup on a body's hand is on the hand whatever the body's size, farther by as much as that.
        tether = Tether("it", "cup", "cup", "arm", "end", offset=(0.1, 0.2, 0.3, 0.0, 0.0, 0.0, 1.0))
        held_ = program.on(replace(program.take, tethers=(tether,))).with_curves(
            dict.fromkeys(tether.weights, stepped((0, 1.0)))
        )
        seen = [self.seen(p) for p in (held_, sized(held_, 0.25, "arm"))]
        self.assertLess(np.abs(0.25 * seen[0] - seen[1]).max(), 1e-12)

    def seen(self, program: Program) -> Floats:
        hand, cup = program.nodes["arm", "end"], program.nodes["cup", "cup"]
        poses = program.evaluate([0.0, 20.0, 40.0])
        return Rotation.from_quat(poses.rot[:, hand]).inv().apply(poses.pos[:, cup] - poses.pos[:, hand])

    def test_a_prop_takes_the_size_of_its_holder_on_or_not(self) -> None:
        program = sized(world(1), 4.0, "arm")
        for scales in (False, True):
            for weight in (0.0, 0.5, 1.0):
                tether = Tether("it", "cup", "cup", "arm", "end", scales=scales)
                now = program.on(replace(program.take, tethers=(tether,))).with_curves(
                    dict.fromkeys(tether.weights, stepped((0, weight)))
                )
                size = now.sizes(np.array([5.0]), 0, now.nodes["cup", "cup"])[0]
                self.assertAlmostEqual(size, 1.0 + 3.0 * weight * scales, 12)


class Followed(Checked):
    def test_follows_change_without_a_jump_while_everybody_grows(self) -> None:
        for n, (part, to) in enumerate(PAIRS):
            for after, last in (("carry", None), ("carry", 44.0), ("ride", None)):
                before = world(n)
                before = before.with_curves(growing(np.random.default_rng(n), before.scene.members))
                try:
                    take, proof = apply(before, Retether((part,), to, 20.0, last, after))  # type: ignore[arg-type]
                except Exception as refused:
                    self.assertIn("already follows", str(refused))
                    continue
                if after == "carry":
                    self.check(before, Program(before.scene, take), part, 20.0, last)
                else:
                    self.assertLess(max(c.pose for c in proof.changes), 1e-6)

    def test_a_contact_on_a_body_that_grows_does_not_slip(self) -> None:
        program = world(3)
        tether = Tether("it", "cup", "cup", "other", "end")
        moved = [n for n in program.take.curves if n.startswith("cup/")]
        held = dict.fromkeys(tether.weights, stepped((0, 1.0))) | {n: stepped((0, 0.2)) for n in moved}
        grows = growing(np.random.default_rng(1), (program.scene.member("other"),))
        now = program.on(replace(program.take, tethers=(tether,))).with_curves(held | grows)
        (slip,) = measure_all(now, [Contact("cup", "cup", "other", "end", 10.0, 50.0)])
        self.assertLess(slip.place.max(), 1e-9)


class Resized(unittest.TestCase):
    def resized(self, program: Program, first: float, **choices: object) -> Program:
        out = run(program, "resize", Asked((("arm", "body"),), first, None, choices))  # type: ignore[arg-type]
        return Program(program.scene, out.take)

    def test_the_chosen_point_stays_while_the_body_grows_and_nothing_jumps_there(self) -> None:
        program = world(4)
        still = {
            n: stepped((0, float(program.now(20.0, [program.channels[n]])[0])))
            for n in program.take.curves
            if n.startswith("arm/")
        }
        for before in (program.with_curves(still), sized(program.with_curves(still), 1.7, "arm")):
            node = before.nodes["arm", "carrier"]
            after = self.resized(before, 20.0, size=0.3, over=10, about="arm/carrier")
            at = np.linspace(20.0, 30.0, 23)
            a, b = before.evaluate(at), after.evaluate(at)
            self.assertLess(np.abs(b.pos[:, node] - b.pos[:1, node]).max(), 1e-9)
            self.assertLess(np.abs(a.pos[0, before.joints()[1]] - b.pos[0, after.joints()[1]]).max(), 1e-9)
            earlier = np.arange(0.0, 20.0)
            a, b = (p.evaluate(earlier).pos[:, p.joints()[1]] for p in (before, after))
            self.assertLess(np.abs(a - b).max(), 1e-12)
            self.assertAlmostEqual(after.sizes(np.array([45.0]), 0, after.nodes["arm", "root"])[0], 0.3, 12)

    def test_a_moving_body_that_has_a_size_keeps_its_motion_where_its_point_moves(self) -> None:
        before = sized(world(5), 2.0, "arm")
        after = self.resized(before, 20.0, size=2.0, about="other/end")
        at = before.key_times([before.channels[f"arm/root.{c}"] for c in ("tx", "ry", "rz")])
        at = at[at >= 20.0]
        node = before.nodes["arm", "root"]
        a, b = before.evaluate(at), after.evaluate(at)
        self.assertLess(np.abs(a.pos[:, node] - b.pos[:, node]).max(), 1e-9)
        self.assertLess(np.abs(before.evaluate([19.9]).pos - after.evaluate([19.9]).pos).max(), 1e-12)

    def test_a_prop_that_grows_along_is_as_large_as_it_was_where_it_takes_hold(self) -> None:
        program = world(1).with_curves(growing(np.random.default_rng(2), (world(1).scene.member("arm"),)))
        before = program.with_curves({"cup/cup.size": stepped((0, 0.5))})
        for last, after in ((None, "ride"), (None, "carry"), (40.0, "carry")):
            asked = Retether((("cup", "cup"),), "arm/end", 20.0, last, after, size="with")  # type: ignore[arg-type]
            now = Program(before.scene, apply(before, asked)[0])
            node = now.nodes["cup", "cup"]
            at = np.array([10.0, 20.0, 33.0, 50.0])
            sizes = now.sizes(at, ARRIVING, node), now.sizes(at, LEAVING, node)
            for found in sizes:
                kept = 3 if last is None else 4
                self.assertLess(np.abs(found[:kept] - 0.5).max(), 1e-9, (last, after))

    def test_later_sizes_stay_and_locked_ones_are_not_touched(self) -> None:
        program = world(4)
        size = "arm/root.size"
        for kind in (STEPPED, SMOOTH):
            later = curve([Key(50.0, 2.0, 2.0, 0.0, 0.0, kind), Key(58.0, 0.5, 0.5)])
            after = self.resized(program.with_curves({size: later}), 20.0, size=3.0, over=10)
            at = [20.0, 30.0, 40.0, 50.0, 58.0]
            found = after.sizes(np.array(at), LEAVING, after.nodes["arm", "root"])
            np.testing.assert_allclose(found[[0, 1, 3, 4]], [2.0, 3.0, 2.0, 0.5], atol=1e-12)
            kept = after.take.curves[size]
            self.assertEqual([k.time for k in kept.all_keys()], [20.0, 30.0, 50.0, 58.0])
            # Once it has its size it stays, until a key that was there says otherwise.
            alone = self.resized(program, 20.0, size=3.0, over=10)
            self.assertEqual(alone.sizes(np.array([59.0]), LEAVING, alone.nodes["arm", "root"])[0], 3.0)
        for name in (size, "arm/root.about.ty"):
            held = program.with_curves({name: curve([Key(35.0, 1.0, 1.0, lock=1)])})
            with self.assertRaisesRegex(CoreError, "locked"):
                self.resized(held, 30.0, size=3.0, over=10, about="arm/carrier")
        # Where the point moves, so does what places the body: that is keyed too.
        before = sized(world(5), 2.0, "arm")
        keys = before.take.curves["arm/root.tx"].all_keys()
        held = before.with_curves({"arm/root.tx": curve([k._replace(lock=1) for k in keys])})
        with self.assertRaisesRegex(CoreError, "locked"):
            self.resized(held, 20.0, size=2.0, about="other/end")

    def test_what_is_no_size_is_refused(self) -> None:
        program = world(0)
        for size in (0.0, -1.0, 11.0, float("nan")):
            with self.assertRaisesRegex(CoreError, "0.1 to 10"):
                self.resized(program, 0.0, size=size)
            edit = Edit("add", {"arm/root.size": (5.0,)}, values={"arriving": size, "leaving": size})
            with self.assertRaisesRegex(CoreError, "0.1 to 10|finite"):
                keys(program, edit)
        with self.assertRaisesRegex(CoreError, "no size of its own"):
            run(program, "resize", Asked((("arm", "limb"),), 0.0, None, {"size": 2.0}))
        with self.assertRaisesRegex(CoreError, "Nothing called"):
            self.resized(program, 0.0, size=2.0, about="nobody/nothing")
