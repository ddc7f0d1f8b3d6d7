"""Mirrored takes against an independent reflection; mirrored twice; a lantern that changes hands; captures; ranges."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np
from scipy.spatial.transform import Rotation

from yielding_tether.core.cast import Member
from yielding_tether.core.contacts import measure_all
from yielding_tether.core.curves import ARRIVING, LEAVING, Key, curve, put
from yielding_tether.core.errors import CoreError
from yielding_tether.core.findings import find_all
from yielding_tether.core.glass import STAGE, Plane, glass_of
from yielding_tether.core.layers import flattened
from yielding_tether.core.measure import one_sided
from yielding_tether.core.operations import Asked, run
from yielding_tether.core.operations.mirror import Mirror, apply
from yielding_tether.core.parts import FkPart, FreePart, HandPart, LimbPart, Part
from yielding_tether.core.program import Program
from yielding_tether.core.skeleton import Joint, Skeleton
from yielding_tether.core.takes import Scene
from yielding_tether.core.transforms import Floats, inverse, multiply, rotate
from yielding_tether.demo import named
from yielding_tether.demo.rough_crossing import Kind
from yielding_tether.demo.rough_crossing import crossing as rough

from .test_bake import crossing
from .test_findings import clean
from .test_layers import arm, layered
from .worlds import limb_member, random_take

EVERY = {"marl", "rope", "lantern"}


def movable(program: Program) -> tuple[str, ...]:
    return tuple(m.id for m in program.scene.members if m.kind in ("character", "prop"))


def matrix(q: Floats) -> Floats:
    """(F, 3, 3) rotation matrices of quaternions (F, 4)."""
    x, y, z, w = np.moveaxis(q, -1, 0)
    return np.moveaxis(
        np.array([
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]), 2, 0,
    )  # fmt: skip


def other_side(name: str) -> str:
    for a, b in ((".L", ".R"), (".R", ".L")):
        if name.endswith(a):
            return name[: -len(a)] + b
        if f"{a}" in name:
            return name.replace(a, b)
    return name


def reflection(program: Program, member: str, at: Floats, stand: str | None, point: Floats) -> Floats:
    """(F, J, 3) where joints of a body are in a mirror across x through a point of what it stands on: with matrices."""
    poses = program.evaluate(at)
    names, nodes = program.joints([member])
    flip = np.diag([-1.0, 1.0, 1.0])
    if stand is None:
        base, turn = np.zeros((len(at), 3)), np.tile(np.eye(3), (len(at), 1, 1))
    else:
        node = program.nodes[stand, stand]
        base, turn = poses.pos[:, node], matrix(poses.rot[:, node])
    found = np.empty((len(at), len(names), 3))
    index = {n: k for k, (_, n) in enumerate(names)}
    for k, (_, name) in enumerate(names):
        local = np.einsum("fji,fj->fi", turn, poses.pos[:, nodes[k]] - base)
        seen = (local - point) @ flip.T + point
        found[:, index[other_side(name)]] = base + np.einsum("fij,fj->fi", turn, seen)
    return found


class OfDemoTakes(unittest.TestCase):
    def check(self, program: Program, member: str, take: Program, allowed: float) -> None:
        at = np.arange(2 * program.take.first, 2 * program.take.last + 1) / 2.0
        root = program.evaluate([float(program.take.first)])
        hips = next(b for b in program.bounds.values() if b.member.id == "marl" and b.part.free)
        node = program.nodes["deck", "deck"]
        back = matrix(root.rot[:, node])[0]
        point = back.T @ (root.pos[0, hips.nodes[0]] - root.pos[0, node])
        want = reflection(program, member, at, "deck", point)
        got = take.evaluate(at).pos[:, take.joints([member])[1]]
        self.assertLess(float(np.linalg.norm(want - got, axis=-1).max()), allowed)

    def test_joints_are_where_a_mirror_shows_them(self) -> None:
        for which, allowed in ((0, 1e-6), (1, 1e-6)):
            program = clean(which)
            take, proof = apply(program, Mirror(movable(program), 0.0))
            self.check(program, "marl", program.on(take), allowed)
            told = [
                n for n in proof.notes if "from where the mirror shows it" in n and "Rope" not in n and "rope" not in n
            ]
            self.assertEqual(told, [], proof.notes)
            # Every key of one side is a key of the other, of the same kind.
            for name, kept in program.take.curves.items():
                member, _, rest = name.partition("/")
                there = take.curves.get(f"{member}/{other_side(rest)}")
                if there is None or rest.rpartition(".")[2] in ("position", "rotation"):
                    continue
                kinds = dict(zip(there.times.tolist(), there.marks[:, 0].tolist(), strict=True))
                for t, kind in zip(kept.times.tolist(), kept.marks[:, 0].tolist(), strict=True):
                    self.assertEqual(kinds.get(t), kind, (name, t))
            self.assertEqual([f for f in find_all(program.on(take)) if f.kind != "speed"], [])

    def test_a_pose_is_mirrored_at_its_frame_alone(self) -> None:
        for which, frame in ((0, 50.0), (1, 120.0)):
            program = clean(which)
            take, proof = apply(program, Mirror(movable(program), frame, frame))
            after = program.on(take)
            at = np.array([frame])
            here = program.evaluate(at)
            hips = next(b for b in program.bounds.values() if b.member.id == "marl" and b.part.free)
            node = program.nodes["deck", "deck"]
            point = matrix(here.rot[:, node])[0].T @ (here.pos[0, hips.nodes[0]] - here.pos[0, node])
            want = reflection(program, "marl", at, "deck", point)
            for side in (ARRIVING, LEAVING):
                got = after.evaluate(at, side).pos[:, after.joints(["marl"])[1]]
                self.assertLess(float(np.linalg.norm(want - got, axis=-1).max()), 1e-6)
            # Both systems of an arm hold the pose; what drives and what is followed is as it was.
            for bound in after.bounds.values():
                if bound.member.id == "marl" and len(bound.keyed_systems) > 1:
                    for system in bound.keyed_systems:
                        held = after.evaluate(at, overrides={**bound.drive_to(system)}).pos[0, bound.nodes]
                        np.testing.assert_allclose(held, after.evaluate(at).pos[0, bound.nodes], atol=1e-6)
                for c in bound.switches:
                    self.assertEqual(after.curve(c), program.curve(c))
            self.assertTrue(proof.unchanged_outside)
            self.assertEqual(run(program, "mirror", Asked((("marl", "spine"),), frame, frame, {})).label,
                             f"Mirror the pose at frame {frame:g}")  # fmt: skip
        with self.assertRaisesRegex(CoreError, "hand it over to a system with keys"):
            apply(crossing(), Mirror(("body",), 30.0, 30.0))

    def test_who_is_mirrored_is_a_choice(self) -> None:
        program = clean(1)
        everyone = run(program, "mirror", Asked((("marl", "spine"),), 0.0, None, {"what": "all"}))
        self.assertIn("Mirror Marl, Lantern", everyone.label)
        alone = run(program, "mirror", Asked((("marl", "spine"),), 0.0, None, {"what": "body"}))
        self.assertIn("Mirror Marl, from", alone.label)
        # The hook stays: the hand that held it is nowhere near it on the other side.
        away = max(c.hover for c in alone.proof.contacts if "hook" in c.label)
        self.assertIn(f"right arm on the hook is {1000.0 * away:.1f} mm away from it", alone.proof.sentence)
        held = {n: c for n, c in program.take.curves.items() if n.startswith("lantern/")}
        self.assertEqual({n: alone.take.curves[n] for n in held}, held)
        self.assertNotEqual({n: everyone.take.curves.get(n) for n in held}, held)
        deck = {n: c for n, c in program.take.curves.items() if n.startswith("deck/")}
        self.assertEqual({n: everyone.take.curves[n] for n in deck}, deck)

    def test_only_what_leaves_the_mirror_is_told(self) -> None:
        # Where a stretch ends, what was there before is back: that is no departure from the mirror.
        program = clean(1)
        _, proof = apply(program, Mirror(movable(program), 20.0, 60.0))
        self.assertEqual([n for n in proof.notes if "from where the mirror shows it" in n], [])

    def test_mirrored_twice_it_is_what_it_was(self) -> None:
        for which in (0, 1):
            program = clean(which)
            once = program.on(apply(program, Mirror(movable(program), 0.0))[0])
            twice = program.on(apply(once, Mirror(movable(program), 0.0))[0])
            at = np.arange(0, 2 * program.take.last + 1) / 2.0
            a, b = program.evaluate(at), twice.evaluate(at)
            off = np.linalg.norm(a.pos[:, program.joints()[1]] - b.pos[:, twice.joints()[1]], axis=-1)
            self.assertLess(float(off.max()), 1e-6)
            # Every key is there again, of its kind; where a follow that stays behind changes, keys were split.
            for name, kept in program.take.curves.items():
                there = twice.take.curves[name]
                kinds = dict(zip(there.times.tolist(), there.marks[:, 0].tolist(), strict=True))
                self.assertEqual([kinds.get(t) for t in kept.times.tolist()], kept.marks[:, 0].tolist(), name)
                self.assertLessEqual(len(there), len(kept) + 3, name)

    def test_every_demo_take_mirrored_twice_is_what_it_was(self) -> None:
        """Bodies that hang at props, two follows of one thing, values that are zero with slopes that are not: whole casts."""
        for name in ("Crate and rope", "Tow strap", "Hauling in", "Ladder", "Brindle's trot"):
            program = Program(*named(name))
            bodies = [m.id for m in program.scene.members if m.kind == "character"]
            asked = Asked(tuple(next(b.id for b in program.bounds.values() if b.member.id == m) for m in bodies), 0.0)
            once = program.on(run(program, "mirror", asked).take)
            twice = program.on(run(once, "mirror", asked).take)
            at = np.arange(0, 2 * program.take.last + 1) / 2.0
            a, b = program.evaluate(at), twice.evaluate(at)
            off = np.linalg.norm(a.pos[:, program.joints()[1]] - b.pos[:, twice.joints()[1]], axis=-1)
            self.assertLess(float(off.max()), 1e-5, name)
            slips = [[float(x.place.max()) for x in measure_all(p, p.take.contacts)] for p in (program, once)]
            np.testing.assert_allclose(sorted(slips[0]), sorted(slips[1]), atol=1e-5, err_msg=name)
            # Each body where the mirror shows it; what stays where it is, or is not keyed, may follow otherwise between keys.
            plane = glass_of(program, program.scene.member(bodies[0]), 0.0, STAGE).at(at)
            now = once.evaluate(at)
            for (member, joint), node in zip(*program.joints(bodies), strict=True):
                there = once.nodes[member, other_side(joint)]
                gap = np.linalg.norm(plane.place(a.pos[:, node]) - now.pos[:, there], axis=1)
                self.assertLess(float(gap.max()), 2e-2, (name, member, joint))
            kinds = [sorted(f.kind for f in find_all(p) if f.kind != "speed") for p in (program, once)]
            self.assertEqual(*kinds, name)

    def test_a_value_that_is_zero_goes_over_by_its_slope(self) -> None:
        """Two controls whose keys are all at zero, one of them on its way there: its sign is told by the slope alone."""
        program = clean(1)
        keyed = {n: c for n, c in program.take.curves.items() if n.startswith("lantern/lantern.r") and len(c)}
        self.assertGreater(max(float(np.abs(c.numbers[:, 3:5]).max()) for c in keyed.values()), 1e-3)
        mirrored = program.on(apply(program, Mirror(movable(program), 0.0))[0])
        at = np.array([84.0])
        jumps = [one_sided(p, at, p.bounds["lantern", "lantern"].nodes) for p in (program, mirrored)]
        self.assertLess(float(jumps[0].spin_jump.max()), 1e-6)
        self.assertLess(float(jumps[1].spin_jump.max()), 1e-6)

    def test_the_lantern_changes_hands_at_the_same_frames(self) -> None:
        program = clean(1)
        mirrored = program.on(apply(program, Mirror(movable(program), 0.0))[0])
        at = np.arange(0.0, program.take.last + 0.5)
        for one, two in (("hand.R", "hand.L"), ("hand.L", "hand.R")):
            far = []
            for p, hand in ((program, one), (mirrored, two)):
                poses = p.evaluate(at)
                far.append(
                    np.linalg.norm(
                        poses.pos[:, p.nodes["marl", hand]] - poses.pos[:, p.nodes["lantern", "lantern"]], axis=1
                    )
                )
            self.assertLess(float(np.abs(far[0] - far[1]).max()), 1e-4)

        # Who holds it changes where it did, from the other hand to the other hand.
        def holders(p: Program) -> list[tuple[float, str]]:
            found = []
            for t in p.take.tethers:
                if t.member == "lantern" and t.anchor.startswith("hand"):
                    w = p.sample(at, LEAVING, np.array([p.channels[t.weight_channel("position")]]))[0]
                    found += [(float(f), t.anchor) for f in at[w > 0.5]]
            return sorted(found)

        self.assertEqual([(f, other_side(h)) for f, h in holders(program)], holders(mirrored))

    def test_its_own_heading_keeps_the_start(self) -> None:
        program = clean(0)
        take, _ = apply(program, Mirror(("marl",), 0.0, plane=Plane("own")))
        a, b = program.evaluate([0.0]), program.on(take).evaluate([0.0])
        hips = program.nodes["marl", "hips"]
        self.assertLess(float(np.linalg.norm(a.pos[0, hips] - b.pos[0, hips])), 1e-6)


class OfACapture(unittest.TestCase):
    def test_a_capture_alone_is_mirrored_with_its_samples(self) -> None:
        program = crossing()
        take, proof = apply(program, Mirror(("body",), 0.0))
        mirrored = program.on(take)
        at = np.arange(0.0, 120.5, 0.5)
        root = program.evaluate([0.0]).pos[0, program.joints(["body"])[1][0]]
        want = reflection(program, "body", at, None, root)
        got = mirrored.evaluate(at).pos[:, mirrored.joints(["body"])[1]]
        off = np.linalg.norm(want - got, axis=-1)
        self.assertLess(float(off[::2].max()), 1e-6)
        self.assertLess(float(off.max()), 2e-3)
        self.assertEqual(take.captures["body"].offsets.shape, program.take.captures["body"].offsets.shape)
        twice = mirrored.on(apply(mirrored, Mirror(("body",), 0.0))[0])
        back = twice.evaluate(at).pos - program.evaluate(at).pos
        self.assertLess(float(np.abs(back[:, program.joints()[1]]).max()), 1e-6)
        del proof
        with self.assertRaisesRegex(CoreError, "only be mirrored as a whole"):
            apply(program, Mirror(("body",), 10.0, 50.0))


def pair(rng: np.random.Generator) -> Member:
    """A body with a limb on each side, one as a mirror across x shows the other, whose bones change their lengths."""
    one = limb_member(rng, moves=True)
    joints = [Joint("root", -1, (0.0, 1.0, 0.0))]
    parts: list[Part] = [FreePart("root", "root", "root")]
    limb = next(p for p in one.parts if isinstance(p, LimbPart))
    for side, sign, tag in (("left", 1.0, ".L"), ("right", -1.0, ".R")):
        for k, name in enumerate(limb.joints):
            bone = one.skeleton.joints[one.skeleton.index[name]]
            x, y, z = bone.offset
            q = bone.rest
            at = (sign * x + (0.2 * sign if k == 0 else 0.0), y, z)
            joints.append(
                Joint(name + tag, 0 if k == 0 else len(joints) - 1, at, (q[0], sign * q[1], sign * q[2], q[3]))
            )
        h = limb.hinge
        hinge = h if sign > 0 else (h[0], -h[1], -h[2])
        names = tuple(n + tag for n in limb.joints)
        parts.append(replace(limb, name=f"limb{tag}", label=f"{side} limb", side=side, hinge=hinge, joints=names))
    return Member("body", "Body", "character", Skeleton(tuple(joints)), tuple(parts))


class Lengths(unittest.TestCase):
    def test_what_has_no_partner_keeps_its_own_motion(self) -> None:
        """A hand with a finger less, and an arm in IK that hangs in the world: neither is torn off by the mirror."""
        for captured in (False, True):
            program = crossing() if captured else clean(0)
            scene = program.scene
            member = next(m for m in scene.members if m.kind == "character")
            fewer = []
            for part in member.parts:
                if part.side == "left" and len(part.joints) > 10:
                    spare = FkPart("spare", "left spare", part.joints[-3:], ("yxz",) * 3, (False,) * 3, "left")
                    less = {"fingers": part.fingers[:-1]} if isinstance(part, HandPart) else {}
                    fewer += [replace(part, joints=part.joints[:-3], orders=part.joint_orders[:-3],
                                      moves=part.moving[:-3], **less), spare]  # type: ignore[type-var]  # fmt: skip
                else:
                    fewer.append(replace(part, label="strong arm") if part.name == "arm.R" else part)
            body = replace(member, parts=tuple(fewer))
            program = Program(
                replace(scene, members=tuple(body if m is member else m for m in scene.members)), program.take
            )
            none = {(body.id, f"arm.{s}"): f"arm.{s}" for s in "LR"}
            take, proof = apply(program, Mirror((body.id,), 0.0, mates=none))
            after = Program(program.scene, take)
            self.assertEqual(sum("keeps its own motion" in n for n in proof.notes), 5, proof.notes)
            # The arm at the keys of what drives it, whether FK or IK on the rail.
            arm = program.bounds[body.id, "arm.R"]
            keyed = {n: [program.curve(int(c)).times for c in arm.systems[n].channels] for n in arm.keyed_systems}
            at = np.unique(
                np.concatenate([np.zeros(1), *(t[t < 118] for t in keyed["fk"]), *(t[t >= 118] for t in keyed["ik"])])
            )
            for joint in ("finger1.L", "finger3.tip.L", "thumb.R", "hand.R", "forearm.R", "upperarm.R"):
                up = body.skeleton.joints[body.skeleton.parents[body.skeleton.index[joint]]].name
                local = []
                for one in (program, after):
                    poses = one.evaluate(at)
                    a, b = one.nodes[body.id, up], one.nodes[body.id, joint]
                    back = inverse(poses.rot[:, a])
                    local.append((rotate(back, poses.pos[:, b] - poses.pos[:, a]), multiply(back, poses.rot[:, b])))
                np.testing.assert_allclose(local[0][0], local[1][0], atol=1e-6, err_msg=joint)
                self.assertLess(
                    float(np.abs(1.0 - np.abs(np.sum(local[0][1] * local[1][1], axis=1))).max()), 1e-9, joint
                )

    def test_what_lengthens_one_side_lengthens_the_other(self) -> None:
        for seed in range(6):
            rng = np.random.default_rng(seed)
            member = pair(rng)
            program = Program(Scene("pair", (member,)), random_take(rng, (member,), kinds=(2,)))
            mirrored = program.on(apply(program, Mirror(("body",), 0.0))[0])
            at = np.arange(0.0, 61.0)
            root = program.evaluate([0.0]).pos[0, program.nodes["body", "root"]]
            want = reflection(program, "body", at, None, root)
            off = np.linalg.norm(want - mirrored.evaluate(at).pos[:, mirrored.joints(["body"])[1]], axis=-1)
            # Everything turns and lengthens as in a mirror, the root too: it stands in the plane and maps by signs.
            self.assertLess(float(off.max()), 1e-6, seed)

    def test_bones_that_are_not_alike_lengthen_alike(self) -> None:
        rng = np.random.default_rng(3)
        member = pair(rng)
        longer = [replace(j, offset=(1.3 * j.offset[0], 1.3 * j.offset[1], 1.3 * j.offset[2])) if j.name.endswith(".R") else j
                  for j in member.skeleton.joints]  # fmt: skip
        member = replace(member, skeleton=Skeleton(tuple(longer)))
        program = Program(Scene("pair", (member,)), random_take(rng, (member,), kinds=(2,)))
        take = apply(program, Mirror(("body",), 0.0))[0]
        left, right = (program.bound("body", f"limb.{s}") for s in "LR")
        names, seen = program.channel_names(), 0
        for a, b in zip(left.moving.ravel().tolist(), right.moving.ravel().tolist(), strict=True):
            if a >= 0 and len(program.curve(a)):
                seen += 1
                self.assertEqual(take.curves[names[b]], program.curve(a), names[b])
        self.assertGreater(seen, 2)


class Locks(unittest.TestCase):
    def test_locked_keys_are_not_touched_and_adjustments_come_along(self) -> None:
        program = clean(0)
        kept = program.take.curves["marl/head.ry"]
        locked = program.with_curves({"marl/head.ry": put(kept, [kept.key(3)._replace(lock=1)])})
        with self.assertRaisesRegex(CoreError, "head, turn y at frame .* is locked: unlock it"):
            apply(locked, Mirror(("marl",), 0.0))
        program = crossing()
        channel = program.channel_names()[program.bounds["body", "head"].systems["captured"].channels[0]]
        adjusted = program.with_curves(
            {channel: curve([Key(10.0, 0.0, 0.0), Key(20.0, 0.3, 0.3), Key(30.0, 0.0, 0.0)])}
        )
        mirrored = adjusted.on(apply(adjusted, Mirror(("body",), 0.0))[0])
        at = np.arange(0.0, 121.0)
        root = program.evaluate([0.0]).pos[0, program.joints(["body"])[1][0]]
        want = reflection(adjusted, "body", at, None, root)
        off = np.linalg.norm(want - mirrored.evaluate(at).pos[:, mirrored.joints(["body"])[1]], axis=-1)
        self.assertLess(float(off.max()), 1e-6)


class Asking(unittest.TestCase):
    def test_a_range_leaves_all_else(self) -> None:
        program = clean(1)
        take, proof = apply(program, Mirror(movable(program), 40.0, 80.0))
        self.assertTrue(proof.unchanged_outside, proof.sentence)
        at = np.concatenate([np.arange(0.0, 40.0, 0.5), np.arange(80.0, 192.5, 0.5)])
        a, b = program.evaluate(at), program.on(take).evaluate(at)
        off = np.abs(a.pos[:, program.joints()[1]] - b.pos[:, program.on(take).joints()[1]])
        self.assertLess(float(off.max()), 1e-9)

    def test_it_is_offered_for_bodies(self) -> None:
        program = clean(0)
        outcome = run(program, "mirror", Asked((("marl", "arm.R"),), 0.0, None, {"what": "body"}))
        self.assertEqual(outcome.label, "Mirror Marl, from frame 0 on")
        with self.assertRaisesRegex(CoreError, "part of a body"):
            run(program, "mirror", Asked((("rope", "rope"),), 0.0))


class OnADeckThatRocks(unittest.TestCase):
    def test_what_was_planted_of_a_capture_stands_on_the_other_side_as_still(self) -> None:
        """The root of a capture follows nothing: the mirror goes with the deck on which the feet stand, baked or not."""
        made = rough(Kind(rate=30.0, noise=0.002, pace=2.0, seed=9))
        hips = (("marl", "hips"),)
        raw = Program(made.scene, made.take)
        legs = (("marl", "leg.L"), ("marl", "leg.R"))
        only = {"whom": "parts", "bake": "none", "repair": "none"}
        planted = raw.on(run(raw, "workable", Asked(legs, 0.0, None, only)).take)
        # Baked alone, the hips are exact where a leg that is not baked changes over: no miss becomes a jump of the leg.
        outcome = run(planted, "bake", Asked(hips, 0.0, None, {"tolerance": 2.0}))
        self.assertGreater(len(outcome.proof.changes), 10)
        self.assertLess(max(c.pose for c in outcome.proof.changes), 1e-6)
        baked = planted.on(outcome.take)
        for program in (planted, baked):
            done = run(program, "mirror", Asked(hips, 0.0))
            after = program.on(done.take)
            # Where a capture takes over between two of its samples, what was exact at these is so to some micrometres.
            self.assertLess(max(c.pose for c in done.proof.changes), 1e-5)
            # No whole turns are told: the root is headed by as much as it was.
            if program is baked:
                self.assertLess(np.abs(after.take.curves["marl/hips.ry"].numbers[:, 2]).max(), 2.0)
            slips = [[float(s.place.max()) for s in measure_all(p, p.take.contacts)] for p in (program, after)]
            self.assertEqual(len(slips[0]), len(slips[1]))
            self.assertLess(max(slips[1]), max(slips[0]) + 1e-5)
            # An independent reflection, in the deck as it stands at each frame, in the plane in which the root walks.
            was, now = (p.evaluate(p.take.frames) for p in (program, after))
            deck, axis = program.nodes["deck", "deck"], 2
            for joint in ("hips", *(("head", "hand.L", "foot.L", "foot.R") if program is planted else ())):
                nodes = program.nodes["marl", joint], program.nodes["marl", other_side(joint)]
                one, two = (
                    Rotation.from_quat(p.rot[:, deck]).inv().apply(p.pos[:, n] - p.pos[:, deck])
                    for p, n in zip((was, now), nodes, strict=True)
                )
                one[:, axis] = 2.0 * 0.3 - one[:, axis]
                self.assertLess(np.abs(one - two).max(), 1e-6 if program is planted else 1e-3, joint)


class OfLayers(unittest.TestCase):
    def test_layers_change_sides_with_what_they_lie_on(self) -> None:
        base = clean(0)
        rng = np.random.default_rng(3)
        names = arm(base, "ik") + arm(base, "fk", "leg.L") + arm(base, "lead", "head")
        p = layered(rng, base, names, 2, size=0.1)
        layers = (replace(p.take.layers[0], mute=True), *p.take.layers[1:])
        p = p.on(replace(p.take, layers=layers))
        asked = Asked((("marl", "head"),), 0.0, None, {"what": "all"})
        done = run(p, "mirror", asked)
        self.assertEqual([(x.id, x.name, x.mute) for x in done.take.layers], [(x.id, x.name, x.mute) for x in layers])
        at, joints = p.take.frames, p.joints()[1]

        def same(a: Program, b: Program, within: float) -> None:
            one, two = (x.evaluate(at) for x in (a, b))
            np.testing.assert_allclose(two.pos[:, joints], one.pos[:, joints], atol=within)

        # As the sum is mirrored; muted as what was without it, and heard as what was with it.
        for mutes in ((True, False), (False, False)):
            before, after = (
                x.on(
                    replace(x.take, layers=tuple(replace(y, mute=m) for y, m in zip(x.take.layers, mutes, strict=True)))
                )
                for x in (p, p.on(done.take))
            )
            flat = before.on(flattened(before))
            same(flat.on(run(flat, "mirror", asked).take), after, 1e-7)
        twice = run(p.on(done.take), "mirror", asked).take
        same(p, p.on(twice), 1e-7)
        # Their keys go over with their kinds where a sign does it, and nothing is left where they were.
        for was, now, again in zip(layers, done.take.layers, twice.layers, strict=True):
            self.assertFalse([n for n in now.curves if ".L" in n])
            for name, kept in was.curves.items():
                if name.startswith(("marl/thigh", "marl/shin", "marl/foot", "marl/toe")):
                    np.testing.assert_array_equal(now.curves[other_side(name)].times, kept.times)
                    np.testing.assert_array_equal(now.curves[other_side(name)].marks, kept.marks)
                    np.testing.assert_allclose(again.curves[name].numbers, kept.numbers, atol=1e-12)


if __name__ == "__main__":
    unittest.main()
