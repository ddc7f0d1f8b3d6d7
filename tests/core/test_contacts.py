"""Contacts: found as the makers of the demo takes know them, measured against an independent computation, kept and told."""

from __future__ import annotations

import unittest
from dataclasses import replace
from fractions import Fraction

import numpy as np
from scipy.spatial.transform import Rotation

from yielding_tether.core.cast import Shape
from yielding_tether.core.contact_finding import _rests, find
from yielding_tether.core.contacts import along, measure_all, planted
from yielding_tether.core.curves import FREE, LEAVING, LINEAR, SMOOTH, Key, curve
from yielding_tether.core.errors import CoreError
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations import OPERATIONS, Asked, run
from yielding_tether.core.operations.bake import Bake
from yielding_tether.core.operations.bake import apply as bake
from yielding_tether.core.operations.handover import Handover
from yielding_tether.core.operations.handover import apply as hand_over
from yielding_tether.core.operations.mirror import Mirror
from yielding_tether.core.operations.mirror import apply as mirror
from yielding_tether.core.program import Program
from yielding_tether.core.proof import prove
from yielding_tether.core.shapes import signed_distance
from yielding_tether.core.takes import Capture, Contact, Standing, Take
from yielding_tether.core.transforms import inverse, multiply, rotate, rotation_distance
from yielding_tether.demo import brindles_trot, cast_off, lantern_round, rough_crossing

from .faults import straying
from .readings import limbs_of
from .test_bake import crossing
from .test_findings import clean
from .test_hand import HAND, passing
from .worlds import limb_member, scene, stepped

LEFT, RIGHT, ARM = (("marl", "leg.L"),), (("marl", "leg.R"),), (("marl", "arm.R"),)


def measured(program: Program, contact: Contact) -> tuple[float, float]:
    """Slip and turn at quarter-frames: the joint seen from its anchor, against the first frame."""
    at = np.append(np.arange(contact.first, contact.last, 0.25), contact.last)
    side = (at == contact.last).astype(np.int64)
    poses = program.evaluate(at, side)
    joint = program.nodes[contact.member, contact.joint]
    base = program.world if contact.anchor_member == "world" else program.nodes[contact.anchor_member, contact.anchor]
    pos, rot = poses.pos[:, joint], poses.rot[:, joint]
    carry = multiply(poses.rot[:, base], inverse(poses.rot[0, base]))
    should = poses.pos[:, base] + rotate(carry, pos[0] - poses.pos[0, base])
    turned = rotation_distance(rot, multiply(carry, rot[0]))
    return float(np.linalg.norm(pos - should, axis=1).max()), float(turned.max())


class Found(unittest.TestCase):
    def test_as_the_makers_of_the_demo_takes_know_them(self) -> None:
        for made in (cast_off.cast_off, lantern_round.lantern_round):
            program = Program(*made())
            there = find(program)
            known = sorted(program.take.contacts, key=lambda c: (c.joint, c.first))
            # None missed, none invented, none split; every edge within two frames.
            self.assertEqual(
                sorted((c.joint, c.anchor) for c in there), sorted((c.joint, c.anchor) for c in known), made.__name__
            )
            for a, b in zip(sorted(there, key=lambda c: (c.joint, c.first)), known, strict=True):
                self.assertLessEqual(max(abs(a.first - b.first), abs(a.last - b.last)), 2.0, b.id)

    def test_on_the_ground_where_a_file_has_no_set_pieces(self) -> None:
        program = crossing()
        there = find(program)
        self.assertEqual({c.anchor_member for c in there}, {"world"})
        feet = [c for c in there if c.joint.startswith("foot")]
        self.assertGreaterEqual(len(feet), 2)
        frames = program.take.frames
        for c in feet:
            # Nearly still while it stands: slower than a swing by far.
            y = program.evaluate(frames, only=[program.nodes[c.member, c.joint]]).pos[
                :, program.nodes[c.member, c.joint]
            ]
            inside = (frames >= c.first) & (frames <= c.last)
            speed = np.linalg.norm(np.diff(y, axis=0), axis=1)
            self.assertLess(float(np.median(speed[inside[1:] & inside[:-1]])), 0.1 * float(speed.max()))

    def test_what_passes_by_or_hangs_in_the_air_is_none(self) -> None:
        member = limb_member(np.random.default_rng(3))
        fast = Take("fast", Fraction(24), 0, 10, {
            "arm/limb.drive": stepped((0, 1.0)),
            "arm/limb.ik.tx": curve([Key(0.0, -0.04, -0.04, kind=LINEAR), Key(10.0, 0.04, 0.04, kind=LINEAR)]),
        })  # fmt: skip
        self.assertEqual(find(Program(scene(member), fast)), [])
        # A hand that the animator holds still, far from everything: of the demo cast, with no key at all.
        program = Program(cast_off.ferry_scene(), Take("still", Fraction(24), 0, 40, tethers=cast_off.tethers()))
        self.assertEqual({c.joint for c in find(program)}, {"foot.L", "foot.R"})

    def test_the_gap_is_the_distance_from_the_surface(self) -> None:
        rng = np.random.default_rng(5)
        points = rng.uniform(-1.0, 1.0, (200, 3))
        block = Shape("j", "block", "iron", (0.1, 0.0, 0.0), size=(0.4, 0.2, 0.6))
        nearest = np.clip(points, np.array([-0.1, -0.1, -0.3]), np.array([0.3, 0.1, 0.3]))
        np.testing.assert_allclose(
            np.maximum(signed_distance(block, points), 0.0), np.linalg.norm(points - nearest, axis=1), atol=1e-12
        )
        bar = Shape("j", "capsule", "iron", (0.0, 0.0, 0.0), (0.0, 0.5, 0.0), (0.05, 0.05))
        line = np.stack([np.zeros(200), np.clip(points[:, 1], 0.0, 0.5), np.zeros(200)], axis=1)
        away = np.maximum(np.linalg.norm(points - line, axis=1) - 0.05, 0.0)
        np.testing.assert_allclose(np.maximum(signed_distance(bar, points), 0.0), away, atol=1e-12)
        ball = Shape("j", "ball", "iron", (0.0, 0.0, 0.0), size=(0.3, 0.3, 0.3))
        away = np.maximum(np.linalg.norm(points, axis=1) - 0.3, 0.0)
        np.testing.assert_allclose(np.maximum(signed_distance(ball, points), 0.0), away, atol=1e-12)


class Kept(unittest.TestCase):
    def test_slip_and_turn_are_what_the_poses_say(self) -> None:
        for program in (Program(*cast_off.cast_off()), clean(0), Program(*lantern_round.lantern_round())):
            contacts = program.take.contacts
            for contact, slip in zip(contacts, measure_all(program, contacts), strict=True):
                np.testing.assert_allclose(
                    [slip.place.max(), slip.turn.max()], measured(program, contact), atol=1e-9, err_msg=contact.id
                )

    def test_over_time_each_frame_has_its_worst(self) -> None:
        program = Program(*cast_off.cast_off())
        frames = np.arange(60.0, 205.0)
        for part, joint in (("leg.L", "foot.L"), ("arm.R", "hand.R")):
            slip, depth, _ = along(program, {("marl", part)}, frames)
            at = np.arange(4 * 60 - 2, 4 * 204 + 1) / 4.0
            worst = np.zeros(len(frames))
            for c in (c for c in program.take.contacts if c.joint == joint):
                on = at[(at >= c.begin) & (at <= c.end)]
                if not len(on):
                    continue
                poses = program.evaluate(np.append(c.begin, on), np.append(0, (on == c.end).astype(np.int64)))
                a, b = program.nodes[c.anchor_member, c.anchor], program.nodes["marl", joint]
                local = Rotation.from_quat(poses.rot[:, a]).inv().apply(poses.pos[:, b] - poses.pos[:, a])
                for t, off in zip(on, np.linalg.norm(local[1:] - local[0], axis=1), strict=True):
                    k = int(np.rint(t - 60.0))
                    worst[k] = max(worst[k], float(off))
            np.testing.assert_allclose(slip, worst, atol=1e-9)
            self.assertEqual(float(depth.min()), 0.0)
        self.assertEqual(float(np.abs(along(program, {("marl", "spine")}, frames)).max()), 0.0)

    def test_a_slide_is_measured(self) -> None:
        member = limb_member(np.random.default_rng(3))
        keys = [
            Key(0.0, 0.1, 0.1, kind=LINEAR, rule=FREE), Key(10.0, 0.1, 0.1, kind=SMOOTH, rule=FREE),
            Key(40.0, 0.13, 0.13, kind=SMOOTH, rule=FREE),
        ]  # fmt: skip
        take = Take("slide", Fraction(24), 0, 40, {
            "arm/limb.ik.tx": curve(keys), "arm/limb.drive": stepped((0, 1.0)),
        })  # fmt: skip
        joint = member.part("limb").joints[-1]
        program = Program(scene(member), replace(take, contacts=(Contact("arm", joint, "world", "world", 0.0, 40.0),)))
        (slip,) = measure_all(program, program.take.contacts)
        self.assertAlmostEqual(float(slip.place.max()), 0.03, places=6)

    def test_what_slips_already_and_slips_more_elsewhere_is_told(self) -> None:
        lifted = clean(0)
        before = lifted.on(run(lifted, "nudge", Asked(RIGHT, 120.0, 150.0, {"y": 3.0})).take)
        done = run(before, "nudge", Asked(RIGHT, 165.0, 190.0, {"y": 2.0}))
        after = before.on(done.take)
        at = np.arange(102.0, 204.25, 0.25)
        away = []
        for program in (before, after):
            foot, deck = (program.nodes[n] for n in (("marl", "foot.R"), ("deck", "deck")))
            pos, rot = program.track(at, LEAVING, [deck, foot])
            local = rotate(inverse(rot[:, 0]), pos[:, 1] - pos[:, 0])
            away.append(np.linalg.norm(local - local[0], axis=1))
        self.assertAlmostEqual(float(away[0].max()), float(away[1].max()), delta=1e-6)
        (held,) = (c for c in done.proof.contacts if c.part == "leg.R" and c.first == 102.0)
        self.assertAlmostEqual(held.more, float((away[1] - away[0]).max()), delta=1e-6)
        self.assertFalse(done.proof.contacts_kept)
        self.assertIn("right leg on the deck slips 20.0 mm more than before at frame", done.proof.sentence)
        # Back again it slips less there, and no more anywhere.
        self.assertTrue(prove("compare", after, before, 0.0, 204.0).contacts_kept)

    def test_every_proof_tells_the_slip(self) -> None:
        program = clean(0)
        # A foot handed over with the keys it has leaves its place between them: that is told, with what it was.
        take, proof = hand_over(program, Handover(LEFT, "fk", 80.0, 140.0, keys="kept"))
        (held,) = (c for c in proof.contacts if c.part == "leg.L" and c.first == 73.0)
        contact = next(c for c in program.take.contacts if c.joint == "foot.L" and c.first == 73.0)
        np.testing.assert_allclose([held.place, held.turn], measured(program.on(take), contact), atol=1e-9)
        np.testing.assert_allclose([held.place_before, held.turn_before], measured(program, contact), atol=1e-9)
        self.assertFalse(held.kept)
        self.assertFalse(proof.contacts_kept)
        self.assertIn("slips", proof.sentence)
        # On every frame it stays within the tenth of a millimetre that counts as kept.
        _, proof = hand_over(program, Handover(LEFT, "fk", 80.0, 140.0, keys="every"))
        self.assertTrue(proof.contacts_kept, proof.sentence)
        self.assertIn("contacts keep their places", proof.sentence)
        # So it does on as many keys as the tolerance needs, be it ever so large: what is planted must not leave its place.
        # The strip proposes that where a planted contact lies in the stretch.
        every = len(hand_over(program, Handover(LEFT, "fk", 80.0, 140.0, keys="every"))[0].curves["marl/thigh.L.rx"])
        for keys in ("within", "few"):
            take, proof = hand_over(
                program,
                Handover(LEFT, "fk", 80.0, 140.0, keys=keys, tolerance=(0.05, 0.5)),  # type: ignore[arg-type]
            )
            self.assertLess(measured(program.on(take), contact)[0], 1e-4, keys)
            self.assertTrue(proof.contacts_kept, proof.sentence)
            self.assertLessEqual(len(take.curves["marl/thigh.L.rx"]), every + 4, keys)
        suggested = OPERATIONS["handover"].suggest(program, LEFT, 80.0, 140.0, {})
        self.assertEqual(suggested, {"to": "fk", "keys": "within"})
        self.assertNotIn("keys", OPERATIONS["handover"].suggest(program, LEFT, 62.0, 71.0, {}))

    def test_what_is_measured_once_is_measured_again_where_anything_changed(self) -> None:
        """Slips are kept over to takes made from this one: the same as measured anew, whatever was changed."""
        rng = np.random.default_rng(8)
        program = clean(1)
        contacts = program.take.contacts
        kept = measure_all(program, contacts)
        names = [n for n, c in program.take.curves.items() if len(c) > 1 or n.endswith(".drive")]
        same = 0
        for _ in range(40):
            name = str(rng.choice(names))
            keys = program.take.curves[name].all_keys()
            k = int(rng.integers(len(keys)))
            by = 1.0 - keys[k].arriving if name.endswith(".drive") else 0.1
            keys[k] = keys[k]._replace(arriving=keys[k].arriving + by, leaving=keys[k].leaving + by)
            changed = program.with_curves({name: curve(keys)})
            anew = Program(program.scene, changed.take)
            for old, got, want in zip(kept, measure_all(changed, contacts), measure_all(anew, contacts), strict=True):
                for a, b in zip(got, want, strict=True):
                    np.testing.assert_array_equal(a, b, err_msg=name)
                same += got is old
        # What nothing has touched is not measured again.
        self.assertGreater(same, 40)

    def test_another_capture_of_the_same_body_is_measured_by_itself(self) -> None:
        """Two takes of one scene whose contacts are alike and whose captures differ, as an actor's second try does."""
        program = crossing()
        contacts = find(program)
        kept = measure_all(program, contacts)
        (capture,) = program.take.captures.values()
        places = capture.offsets.copy()
        places[:, 0, 0] += 0.01 * np.sin(np.arange(len(places)))
        take = replace(program.take, captures={"body": Capture(places, capture.rotations.copy())})
        for old, got, want in zip(
            kept,
            measure_all(program.on(take), contacts),
            measure_all(Program(program.scene, take), contacts),
            strict=True,
        ):
            np.testing.assert_array_equal(got.place, want.place)
            self.assertGreater(float(np.abs(got.place - old.place).max()), 1e-3)

    def test_a_planted_foot_is_kept_by_a_handover_afterwards(self) -> None:
        program = crossing()
        done = run(program, "plant", Asked((("body", "leg.L"),), 20.0, 50.0, {"on": "world"}))
        now = program.on(done.take)
        take, proof = hand_over(now, Handover((("body", "leg.L"),), "fk", 15.0, 60.0, keys="every"))
        (contact,) = (c for c in take.contacts if (c.first, c.last) == (20.0, 50.0))
        self.assertLess(measured(now, contact)[0], 1e-4)
        self.assertLess(measured(now.on(take), contact)[0], 2e-4)
        self.assertTrue(proof.contacts_kept, proof.sentence)

    def test_planted_ones_are_kept_by_a_bake_of_the_whole_body(self) -> None:
        for made, systems in ((cast_off.cast_off, ("ik", "fk")), (lantern_round.lantern_round, ("fk",))):
            program = Program(*made())
            parts = tuple(id for id in limbs_of(program) if id[0] == "marl")
            body = tuple(b.id for b in program.bounds.values() if b.id == ("marl", "hips"))
            first, last = 20.0, 150.0
            still = planted(program, first, last)
            self.assertGreater(len(still), 1)
            for baked, to in (((*body, *parts), ""), *((parts, s) for s in systems)):
                with self.subTest(made=made.__name__, to=to):
                    take, proof = bake(program, Bake(baked, to, first, last))
                    for contact in still:
                        slip, turn = measured(program.on(take), contact)
                        self.assertLess(slip, 1e-4, contact.id)
                        self.assertLess(turn, np.radians(0.02), contact.id)
                    self.assertFalse([h for h in proof.contacts if h.place_before <= 1e-4 < h.place], proof.sentence)

    def test_what_stands_stays_while_it_is_crossfaded(self) -> None:
        """Both systems have the end in its place, and all else of the limb otherwise."""
        tips = passing("tz", 1.0)
        tips = tips.on(run(tips, "plant", Asked((HAND,), 136.0, 156.0, {"on": "rail/rail"})).take)
        for program, id, first in (
            (Program(*cast_off.cast_off()), RIGHT[0], 140.0), (Program(*cast_off.cast_off()), ARM[0], 150.0),
            (Program(*brindles_trot.brindles_trot()), ("brindle", "hindleg.R"), 42.0), (tips, HAND, 142.0),
        ):  # fmt: skip
            for to in ("ik", "fk"):
                with self.subTest(part=id, to=to):
                    done = run(program, "handover", Asked((id,), first - 4.0, None, {"to": "fk", "keys": "every"}))
                    loose = [
                        n for n in program.channels
                        if n.split("/")[1].split(".ik.")[0] in (id[1], *program.bounds[id].part.joints)
                        and n.endswith(("swivel", "carry", "twist", "shank.R.rx"))
                    ]  # fmt: skip
                    both = program.on(done.take).with_curves({n: stepped((0.0, 0.3)) for n in loose})
                    if to == "fk":
                        both = both.with_curves({f"{id[0]}/{id[1]}.drive": stepped((0.0, 1.0))})
                    made = run(both, "crossfade", Asked((id,), first, None, {"to": to, "over": 6}))
                    faded, nodes = program.on(made.take), program.bounds[id].nodes
                    names = [n for n in made.take.curves if n.endswith(".hold")]
                    free = faded.with_curves({n: stepped((0.0, 0.0)) for n in names})
                    mine = [c for c in program.take.contacts if c.joint in program.bounds[id].part.joints]
                    held = [c for c in mine if c.first < first < first + 6.0 < c.last]
                    whole = [replace(c, first=first - 1.0, last=first + 7.0) for c in held]
                    # One finger does not reach its place, whatever drives.
                    whole = [c for c in whole if measured(both, c)[0] < 1e-5]
                    self.assertEqual(len(whole), 3 if id == HAND else 1)
                    for c in whole:
                        slip, turn = measured(faded, c)
                        self.assertLess(slip, 1e-5)
                        self.assertLess(turn, np.radians(0.01))
                        self.assertGreater(measured(free, c)[0], 3e-4)
                    # Bones keep their lengths, both ends of the fade are what they were, and between them nothing jumps.
                    at = np.arange(first - 2.0, first + 8.01, 0.125)
                    here, then = faded.evaluate(at), both.evaluate(at)
                    hangs = program.bounds[id].above
                    for n, up in zip(nodes, hangs, strict=True):
                        long, was = (np.linalg.norm(x.pos[:, n] - x.pos[:, up], axis=1) for x in (here, then))
                        np.testing.assert_allclose(long, was, atol=1e-9)
                    np.testing.assert_array_equal(here.pos[at < first], then.pos[at < first])
                    want = both.evaluate(at, overrides=program.bounds[id].drive_to(to))
                    np.testing.assert_array_equal(here.pos[at >= first + 6.0], want.pos[at >= first + 6.0])
                    moves = np.linalg.norm(np.diff(here.pos[:, nodes], axis=0), axis=2).max(axis=1)
                    self.assertLess(np.abs(np.diff(moves)).max(), 1.5e-3)
                    self.assertEqual(made.proof.contacts_kept, id != HAND, made.proof.sentence)
                    there = {f.kind for f in find_all(faded) if f.part == id[1] and f.frame in (first, first + 6.0)}
                    self.assertLessEqual(there, {"reach"})

    def test_the_mirror_changes_their_sides(self) -> None:
        program = Program(*lantern_round.lantern_round())
        take, _ = mirror(program, Mirror(("marl", "lantern"), 0.0))
        swap = {"L": "R", "R": "L"}
        known = {(c.joint[:-1] + swap[c.joint[-1]], c.anchor, c.first, c.last) for c in program.take.contacts}
        self.assertEqual({(c.joint, c.anchor, c.first, c.last) for c in take.contacts}, known)
        # The feet stand as still as they did; the hook stays where it is, so the hand that held on to it does not.
        after = program.on(take)
        for c in take.contacts:
            if c.joint.startswith("foot"):
                self.assertLess(measured(after, c)[0], 1e-4)
        # Over a stretch only what lies in it changes sides.
        take, _ = mirror(program, Mirror(("marl", "lantern"), 100.0, 140.0))
        left = sorted((c.first, c.last) for c in take.contacts if c.joint == "foot.L")
        self.assertEqual(left, [(0.0, 99.0), (100.0, 140.0), (141.0, 192.0)])


class Edited(unittest.TestCase):
    def test_marked_moved_taken_away(self) -> None:
        program = Program(*cast_off.cast_off())
        made = run(program, "contacts", Asked(RIGHT, 70.0, 80.0, {"do": "mark", "on": "deck/deck"}))
        self.assertEqual(made.take.curves, program.take.curves)
        self.assertIn("slips", made.proof.sentence)
        now = program.on(made.take)
        one = next(c for c in made.take.contacts if c.first == 70.0)
        moved = run(now, "contact", Asked(first=58.0, last=90.0, choices={"contact": one.id, "on": "world"}))
        mine = [(c.anchor, c.first, c.last) for c in moved.take.contacts if c.joint == "foot.R"]
        # What it overlaps gives way.
        self.assertEqual(mine, [("deck", 0.0, 57.0), ("world", 58.0, 90.0), ("deck", 102.0, 204.0)])
        gone = run(now.on(moved.take), "contacts", Asked(RIGHT, 58.0, 90.0, {"do": "remove"}))
        self.assertEqual([c.first for c in gone.take.contacts if c.joint == "foot.R"], [0.0, 102.0])
        bare = program.on(replace(program.take, contacts=()))
        all_found = run(bare, "contacts", Asked((*RIGHT, *ARM), 0.0, None, {"do": "find"}))
        self.assertEqual([c.joint for c in all_found.take.contacts], ["foot.R", "foot.R", "hand.R"])

    def test_what_counts_as_still_is_chosen(self) -> None:
        made = rough_crossing.crossing(rough_crossing.Kind(rate=30, noise=0.001, seed=5))
        program = Program(made.scene, made.take)
        legs = (("marl", "leg.L"), ("marl", "leg.R"))
        frames = []
        for loose in (20.0, 50.0, 100.0):
            take = run(program, "contacts", Asked(legs, 0.0, None, {"do": "find", "loose": loose})).take
            frames.append(sum(c.end - c.begin for c in take.contacts))
        self.assertLess(frames[0], frames[1])
        self.assertLess(frames[1], frames[2])
        usual = run(program, "contacts", Asked(legs, 0.0, None, {"do": "find"})).take
        self.assertEqual(usual.contacts, take.contacts)
        # A hand that creeps along the rail at 9 cm a second rests where that counts as still.
        at = np.stack([0.09 * np.arange(61.0) / 24.0, np.zeros(61), np.zeros(61)], axis=1)
        self.assertEqual([len(_rests(at, 24.0, 1.7, 4, loose)) for loose in (1.0, 4.0)], [0, 1])

    def test_split_and_made_one_again(self) -> None:
        program = Program(*cast_off.cast_off())
        before = [(c.joint, c.first, c.last) for c in program.take.contacts]
        two = run(program, "contacts", Asked(RIGHT, 30.0, None, {"do": "split"}))
        mine = [(c.first, c.last) for c in two.take.contacts if c.joint == "foot.R"]
        self.assertEqual(mine, [(0.0, 30.0), (31.0, 60.0), (102.0, 204.0)])
        self.assertEqual(two.take.curves, program.take.curves)
        one = run(program.on(two.take), "contacts", Asked(RIGHT, 10.0, 50.0, {"do": "join"}))
        self.assertEqual([(c.joint, c.first, c.last) for c in one.take.contacts], before)
        # Whatever lies between two goes into the one.
        whole = run(program, "contacts", Asked(RIGHT, 0.0, None, {"do": "join"}))
        self.assertEqual([(c.first, c.last) for c in whole.take.contacts if c.joint == "foot.R"], [(0.0, 204.0)])
        self.assertIn("slips", whole.proof.sentence)
        # A foot that rolls keeps when its heel and its ball stand.
        rolls = Contact(
            "marl",
            "foot.R",
            "deck",
            "deck",
            10.0,
            40.0,
            None,
            (Standing("heel", 6.0, 40.0), Standing("ball", 10.0, 50.0)),
        )
        rolling = program.on(replace(program.take, contacts=(rolls,)))
        cut = run(rolling, "contacts", Asked(RIGHT, 25.0, None, {"do": "split"})).take
        self.assertEqual([(c.begin, c.end) for c in cut.contacts], [(6.0, 25.0), (26.0, 50.0)])
        back = run(rolling.on(cut), "contacts", Asked(RIGHT, 0.0, 60.0, {"do": "join"})).take
        self.assertEqual(back.contacts, (rolls,))

    def test_found_again_they_are_no_news_but_for_another_watch(self) -> None:
        program, whole = Program(*cast_off.cast_off()), Asked(RIGHT, 0.0, None, {"do": "find"})
        program = program.on(replace(program.take, contacts=()))
        once = program.on(run(program, "contacts", whole).take)
        with self.assertRaisesRegex(CoreError, "was found already"):
            run(once, "contacts", whole)
        watched = run(once, "contacts", replace(whole, choices={"do": "find", "within": 5.0})).take.contacts
        self.assertEqual({c.within for c in watched}, {0.005})

    def test_what_cannot_be_done_says_so(self) -> None:
        program = Program(*cast_off.cast_off())
        for operation, asked, words in (
            ("contacts", Asked((("marl", "spine"),), 0.0, 9.0, {"do": "find"}), "no end that could stand"),
            ("contacts", Asked(RIGHT, 74.0, 84.0, {"do": "find"}), "nothing rests on anything"),
            ("contacts", Asked(RIGHT, 74.0, 84.0, {"do": "remove"}), "no contact there"),
            ("contacts", Asked(RIGHT, 74.0, 84.0, {"do": "split"}), "goes on over frame 74"),
            ("contacts", Asked(RIGHT, 10.0, 84.0, {"do": "join"}), "no two contacts"),
            ("contacts", Asked(RIGHT, 74.0, 84.0, {"do": "mark", "on": "own"}), "can be stood on"),
            ("contacts", Asked(RIGHT, 74.0, 74.0, {"do": "mark"}), "last frame after its first"),
            ("contact", Asked(first=1.0, last=9.0, choices={"contact": "marl/foot.R@7"}), "not there any more"),
            ("contact", Asked(first=0.0, last=300.0, choices={"contact": "marl/foot.R@0"}), "do not lie in the take"),
            ("contact", Asked(first=0.0, last=60.0, choices={"contact": "marl/foot.R@0"}), "changes nothing"),
        ):
            with self.assertRaisesRegex(CoreError, words):
                run(program, operation, asked)

    def test_the_most_likely_choice_is_suggested(self) -> None:
        contacts = OPERATIONS["contacts"]
        program = Program(*cast_off.cast_off())
        bare = program.on(replace(program.take, contacts=()))
        self.assertEqual(contacts.suggest(program, RIGHT, 10.0, 40.0, {}), {"do": "remove"})
        self.assertEqual(contacts.suggest(bare, RIGHT, 10.0, 40.0, {}), {"do": "find"})
        self.assertEqual(contacts.suggest(program, RIGHT, 70.0, 80.0, {}), {"do": "mark", "on": "deck/deck"})
        # What it overlaps most counts, else what is nearest.
        more = run(program, "contacts", Asked(RIGHT, 62.0, 80.0, {"do": "mark", "on": "world"})).take
        now = program.on(more)
        for first, last, on in (
            (55.0, 70.0, "world"),
            (50.0, 64.0, "deck/deck"),
            (82.0, 88.0, "world"),
            (95.0, 99.0, "deck/deck"),
        ):
            self.assertEqual(OPERATIONS["plant"].suggest(now, RIGHT, first, last, {}), {"on": on}, (first, last))
        # A hand that slips is not planted: nothing is proposed to hold it.
        slips = straying(Program(*lantern_round.lantern_round()), 130.0, tx=0.002)
        self.assertNotIn("keys", OPERATIONS["handover"].suggest(slips, (("marl", "arm.R"),), 120.0, 150.0, {}))
        holds = OPERATIONS["handover"].suggest(program, (("marl", "arm.L"),), 120.0, 180.0, {})
        self.assertEqual(holds["keys"], "within")


if __name__ == "__main__":
    unittest.main()
