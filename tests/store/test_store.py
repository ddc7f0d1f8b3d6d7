"""The store on a real PostgreSQL: what goes in comes out bit for bit, revisions, compare-and-swap, kills."""

from __future__ import annotations

import threading
import unittest
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np
from sqlalchemy import event, text
from sqlalchemy.exc import IntegrityError

from tests.core.test_handover import captured, demo
from tests.core.worlds import limb_member, random_take, scene, stepped
from tests.depth import DEPTH
from tests.servers import fresh_store, together
from yielding_tether.core.clips import copy
from yielding_tether.core.curves import set_value
from yielding_tether.core.operations.handover import Handover, apply
from yielding_tether.core.program import Program
from yielding_tether.core.sides import in_mirror
from yielding_tether.core.takes import Anchor, Capture, Layer, PivotPoint, Take, Tether
from yielding_tether.store import codec
from yielding_tether.store.store import Loaded, Missing, Stale, Store


def edited(take: Take, k: int) -> Take:
    name = sorted(take.curves)[k % len(take.curves)]
    return take.with_curves({name: set_value(take.curves[name], 7.0 + k, 0.1 * k)})


class Storing(unittest.TestCase):
    store: Store

    @classmethod
    def setUpClass(cls) -> None:
        cls.store = fresh_store()

    @classmethod
    def tearDownClass(cls) -> None:
        cls.store.close()

    def opened(self) -> Loaded:
        rng = np.random.default_rng(1)
        member = limb_member(rng)
        _, (take,) = self.store.add_scene(scene(member), [random_take(rng, (member,), kinds=(0, 1, 2))])
        return self.store.load(take)

    def commit(self, base: Loaded, label: str, key: str | None = None) -> int:
        return self.store.commit(base, edited(base.take, 100 + len(label)), label, {}, None, key)

    def test_takes_come_back_bit_for_bit(self) -> None:
        for program in (demo(), captured()):
            _, (id_,) = self.store.add_scene(program.scene, [program.take])
            loaded = self.store.load(id_)
            self.assertEqual(loaded.scene, program.scene)
            self.assertEqual(dict(loaded.take.curves), dict(program.take.curves))
            self.assertEqual(loaded.take.tethers, program.take.tethers)
            self.assertEqual(loaded.take.rate, program.take.rate)
            for name, capture in program.take.captures.items():
                back = loaded.take.captures[name]
                self.assertEqual(back.offsets.tobytes(), capture.offsets.tobytes())
                self.assertEqual(back.rotations.tobytes(), capture.rotations.tobytes())

    def test_curves_survive_the_codec(self) -> None:
        for c in demo().take.curves.values():
            self.assertEqual(codec.curve_from(codec.curve_bytes(c)), c)

    def test_undo_and_redo_without_end(self) -> None:
        base = self.opened()
        states = [base]
        for k in range(12):
            head = states[-1]
            take = edited(head.take, k)
            id_ = self.store.commit(head, take, f"edit {k}", {"k": k}, None)
            states.append(replace(head, take=take, revision=id_))
        at = states[-1].revision
        for want in reversed(states[:-1]):
            at = self.store.step(base.take_id, at, -1)
            self.assertEqual(at, want.revision)
            self.assertEqual(dict(self.store.load(base.take_id).take.curves), dict(want.take.curves))
        with self.assertRaisesRegex(Missing, "nothing to undo"):
            self.store.step(base.take_id, at, -1)
        for want in states[1:]:
            at = self.store.step(base.take_id, at, 1)
            self.assertEqual(at, want.revision)
        with self.assertRaisesRegex(Missing, "nothing to redo"):
            self.store.step(base.take_id, at, 1)

    def test_an_edit_after_an_undo_keeps_the_other_branch(self) -> None:
        base = self.opened()
        left = self.store.commit(base, edited(base.take, 1), "left", {}, None)
        self.store.step(base.take_id, left, -1)
        right = self.store.commit(base, edited(base.take, 2), "right", {}, None)
        self.store.step(base.take_id, right, -1)
        self.assertEqual(self.store.step(base.take_id, base.revision, 1), right)
        self.assertEqual(self.store.go_to(base.take_id, right, left), left)
        self.store.step(base.take_id, left, -1)
        self.assertEqual(self.store.step(base.take_id, base.revision, 1), left)
        self.assertEqual([r.label for r, _ in self.store.revisions(base.take_id)], ["As opened", "left", "right"])

    def test_a_stale_writer_is_refused_with_what_changed(self) -> None:
        base = self.opened()
        first = self.store.commit(base, edited(base.take, 1), "the first window", {}, None)
        count = len(self.store.revisions(base.take_id))
        with self.assertRaises(Stale) as caught:
            self.store.commit(base, edited(base.take, 2), "the second window", {}, None)
        self.assertEqual((caught.exception.head, caught.exception.labels), (first, ["the first window"]))
        self.assertEqual(len(self.store.revisions(base.take_id)), count)
        self.assertEqual(self.store.head(base.take_id), first)

    def test_of_many_writers_at_once_exactly_one_wins(self) -> None:
        base = self.opened()
        won, lost = [], []

        def write(k: int) -> None:
            try:
                won.append(self.store.commit(base, edited(base.take, k), f"writer {k}", {}, None))
            except Stale:
                lost.append(k)

        threads = [threading.Thread(target=write, args=(k,)) for k in range(8)]
        for t in threads:
            t.start()
        for t in threads:
            t.join()
        self.assertEqual((len(won), len(lost)), (1, 7))
        self.assertEqual(self.store.head(base.take_id), won[0])
        self.assertEqual(len(self.store.revisions(base.take_id)), 2)

    def test_what_is_sent_again_under_its_key_is_written_once(self) -> None:
        store, base = self.store, self.opened()
        first = self.commit(base, "the first time", key="k")
        # Also when another edit has come in between, and for all that send it at one time.
        other = self.commit(store.load(base.take_id), "another")
        self.assertEqual(self.commit(base, "the second time", key="k"), first)
        self.assertEqual((store.written(base.take_id, "k"), store.written(base.take_id, "none")), (first, None))
        here = store.load(base.take_id)
        with ThreadPoolExecutor(6) as pool:
            made = set(pool.map(lambda n: self.commit(here, f"at once {n}", key="m"), range(6)))
        self.assertEqual(len(made), 1)
        numbers = [r.number for r, _ in store.revisions(base.take_id)]
        self.assertEqual(numbers, list(range(len(numbers))))
        self.assertEqual(store.head(base.take_id), next(iter(made)))
        self.assertNotEqual(other, first)

    def test_a_stale_writer_is_told_what_was_undone_and_done(self) -> None:
        store, base = self.store, self.opened()
        here = store.load(base.take_id, self.commit(base, "one"))
        store.step(base.take_id, here.revision, -1)
        with self.assertRaises(Stale) as caught:
            self.commit(here, "late")
        self.assertEqual(caught.exception.labels, ["Undo one"])
        at = base.revision
        for n in range(25):
            at = self.commit(store.load(base.take_id, at), f"step {n}")
        with self.assertRaises(Stale) as caught:
            self.commit(here, "late")
        told = caught.exception.labels
        self.assertEqual((told[:3], told[-1], len(told)), (["Undo one", "step 0", "step 1"], "and 6 more", 21))

    def test_the_head_goes_a_long_way_in_as_many_statements_as_a_short_one(self) -> None:
        store, base = self.store, self.opened()
        at = [base.revision]
        for n in range(40):
            at.append(self.commit(store.load(base.take_id, at[-1]), f"step {n}"))
        counts = []
        for to in (base.revision, at[-1], at[-2], at[-1]):
            said: list[str] = []

            def note(_c: object, _k: object, statement: str, *_rest: object, said: list[str] = said) -> None:
                said.append(statement)

            event.listen(store.engine, "before_cursor_execute", note)
            store.go_to(base.take_id, store.head(base.take_id), to)
            event.remove(store.engine, "before_cursor_execute", note)
            counts.append(len(said))
        self.assertEqual(len(set(counts)), 1, counts)
        # Redo leads along the way taken.
        store.go_to(base.take_id, at[-1], base.revision)
        for expected in at[1:]:
            self.assertEqual(store.step(base.take_id, store.head(base.take_id), 1), expected)

    def test_what_nothing_refers_to_is_collected_and_nothing_else(self) -> None:
        store = fresh_store()
        self.addCleanup(store.close)
        program = captured()
        kept, _ = store.add_scene(program.scene, [program.take])
        gone, (take,) = store.add_scene(program.scene, [program.take])
        base = store.load(take)
        alone = edited(base.take, 500)
        store.commit(base, alone, "alone", {}, None)
        self.assertEqual(store.collect(), (0, 0))
        store.delete_scene(gone)
        count, size = store.collect()
        changed = [n for n in alone.curves if alone.curves[n] is not base.take.curves.get(n)]
        self.assertEqual((count, size), (1, len(codec.curve_bytes(alone.curves[changed[0]]))))
        store.delete_scene(kept)
        self.assertGreaterEqual(store.collect()[0], 2)
        with store.engine.connect() as db:
            self.assertEqual(db.execute(text("select count(*) from blob")).scalar_one(), 0)

    def test_collecting_races_no_writer_who_shares_a_blob(self) -> None:
        """Writers make and unmake scenes that share all of their curves while others collect; whatever is there can be read."""
        store = fresh_store()
        self.addCleanup(store.close)
        rng = np.random.default_rng(1)
        member = limb_member(rng)
        take = random_take(rng, (member,), kinds=(0, 1, 2))

        def write() -> None:
            scene_id, (take_id,) = store.add_scene(scene(member), [take])
            loaded = store.load(take_id)
            self.assertEqual(dict(loaded.take.curves), dict(take.curves))
            store.commit(loaded, edited(loaded.take, 300), "one", {}, None)
            other = Store(store.url)
            other.load(take_id)
            other.close()
            store.delete_scene(scene_id)

        self.assertEqual(together((write, write, write, store.collect), 3.0 * DEPTH), [])

    def test_revisions_share_unchanged_curves(self) -> None:
        base = self.opened()
        with self.store.engine.connect() as db:
            before = db.execute(text("select count(*) from blob")).scalar_one()
        self.store.commit(base, edited(base.take, 3), "one curve", {}, None)
        with self.store.engine.connect() as db:
            self.assertEqual(db.execute(text("select count(*) from blob")).scalar_one(), before + 1)

    def test_layers_are_kept_with_their_revision_and_their_curves_are_not_collected(self) -> None:
        base = self.opened()
        names = list(base.take.curves)
        weight = stepped((0, 0.5), (20, 1.0))
        layers = (
            Layer(
                "layer1",
                "lift",
                {names[0]: base.take.curves[names[1]], names[2]: weight},
                weight,
                solo=True,
                stretch=(3.0, 9.5),
            ),
            Layer("layer2", "empty", mute=True),
        )
        at = self.store.commit(base, replace(base.take, layers=layers), "layer", {}, None)
        self.store.collect()
        fresh = Store(str(self.store.engine.url.render_as_string(hide_password=False)))
        self.addCleanup(fresh.close)
        self.assertEqual(fresh.load(base.take_id, at).take.layers, layers)
        self.assertEqual(fresh.load(base.take_id, base.revision).take.layers, ())

    def test_the_proof_is_kept_with_the_revision(self) -> None:
        program = demo()
        _, (id_,) = self.store.add_scene(program.scene, [program.take])
        base = self.store.load(id_)
        take, proof = apply(program, Handover((("marl", "arm.R"),), "ik", 118.0))
        self.store.commit(base, take, "repair", {"operation": "handover"}, proof)
        kept = self.store.revisions(id_)[-1][0].proof
        assert kept is not None
        self.assertEqual(kept["changes"][0]["pose_before"], proof.changes[0].pose_before)
        self.assertEqual(kept["clean"], proof.clean)

    def test_proofs_stored_by_older_versions_are_told_as_new_ones_are(self) -> None:
        _, proof = apply(demo(), Handover((("marl", "arm.R"),), "ik", 118.0))
        body = codec.proof_json(proof)
        self.assertEqual(codec.proof_from(body), proof)
        for name in ("sentence", "clean", "within", "worst_frame", "tolerance"):
            del body[name]
        for change in body["changes"]:
            del change["what"]
        old = codec.proof_from({**body, "something": 1})
        assert old is not None
        self.assertEqual((old.sentence, old.clean, old.worst_frame), (proof.sentence, proof.clean, proof.worst_frame))
        self.assertEqual([c.pose_before for c in old.changes], [c.pose_before for c in proof.changes])

    def test_takes_whose_way_round_was_stored_as_whole_turns_open_without_it(self) -> None:
        base = self.opened()
        some = next(iter(base.take.curves))
        with self.store.engine.begin() as connection:
            connection.execute(
                text("update revision set curves = curves || jsonb_build_object('arm/upper.it.way', curves -> :some) "
                     "where id = :id"), {"some": some, "id": base.revision},
            )  # fmt: skip
            later = ("points", "values", "layers", "frames", "captures", "flipped")
            connection.execute(text("alter table revision " + ", ".join(f"drop column {name}" for name in later)))
            connection.execute(text("update alembic_version set version_num = '0006'"))
        self.store.migrate()
        self.assertEqual(dict(self.store.load(base.take_id).take.curves), dict(base.take.curves))

    def test_a_revision_may_have_frames_and_captures_of_its_own(self) -> None:
        _, (id_,) = self.store.add_scene(captured().scene, [captured().take])
        base = self.store.load(id_)
        (member, capture), *_ = base.take.captures.items()
        turned = Capture(
            capture.offsets[::-1].copy(), capture.rotations[::-1].copy(), capture.first + 3.0, capture.step
        )
        take = replace(base.take, first=-4, last=base.take.last + 9, captures={member: turned})
        second = self.store.commit(base, take, "turned", {}, None)
        edit = self.store.load(id_)
        self.assertEqual((edit.take.first, edit.take.last), (-4, base.take.last + 9))
        third = self.store.commit(edit, edited(edit.take, 1), "an edit", {}, None)
        # Read anew by another program, after all that nobody refers to was removed.
        self.store.collect()
        other = Store(self.store.url)
        for revision in (second, third):
            found = other.load(id_, revision).take
            self.assertEqual((found.first, found.last), (-4, base.take.last + 9))
            np.testing.assert_array_equal(found.captures[member].offsets, turned.offsets)
            np.testing.assert_array_equal(found.captures[member].rotations, turned.rotations)
            self.assertEqual(found.captures[member].first, turned.first)
        self.store.step(id_, self.store.step(id_, third, -1), -1)
        found = other.load(id_).take
        self.assertEqual((found.first, found.last), (base.take.first, base.take.last))
        np.testing.assert_array_equal(found.captures[member].offsets, capture.offsets)

    def test_a_scene_goes_whole(self) -> None:
        base = self.opened()
        self.store.commit(base, edited(base.take, 1), "an edit", {}, None)
        self.store.delete_scene(base.scene_id)
        with self.assertRaises(Missing):
            self.store.load(base.take_id)
        with self.store.engine.connect() as db:
            left = db.execute(text("select count(*) from revision where take_id = :t"), {"t": base.take_id})
            self.assertEqual(left.scalar_one(), 0)

    def test_a_failure_in_the_middle_leaves_nothing(self) -> None:
        base = self.opened()
        # The revision itself is refused by the database after its curves went in.
        with self.assertRaises(IntegrityError):
            self.store.commit(base, edited(base.take, 5), None, {}, None)  # type: ignore[arg-type]
        lost = codec.digest(codec.curve_bytes(edited(base.take, 5).curves[sorted(base.take.curves)[5]]))
        with self.store.engine.connect() as db:
            found = db.execute(text("select count(*) from blob where hash = :h"), {"h": lost}).scalar_one()
        self.assertEqual(found, 0)
        self.assertEqual(self.store.head(base.take_id), base.revision)
        self.assertEqual(len(self.store.revisions(base.take_id)), 1)

    def test_names_of_revisions(self) -> None:
        base = self.opened()
        self.store.name_revision(base.take_id, base.revision, "before lunch")
        self.assertEqual(self.store.revisions(base.take_id)[0][0].name, "before lunch")
        with self.assertRaises(Missing):
            self.store.name_revision(base.take_id, 10**9, "nowhere")

    def test_a_revision_that_is_not_this_takes_is_not_there(self) -> None:
        one, other = self.opened(), self.opened()
        for revision in (10**9, other.revision):
            for work in (
                lambda r=revision: self.store.load(one.take_id, r),
                lambda r=revision: self.store.step(one.take_id, r, -1),
                lambda r=revision: self.store.step(one.take_id, r, 1),
                lambda r=revision: self.store.go_to(one.take_id, one.revision, r),
                lambda r=revision: self.store.name_revision(one.take_id, r, "x"),
            ):
                with self.assertRaisesRegex(Missing, f"Take {one.take_id} has no revision {revision}"):
                    work()
        self.assertEqual(self.store.head(one.take_id), one.revision)
        self.assertEqual(self.store.head(other.take_id), other.revision)


class Keeping(unittest.TestCase):
    def test_clips_come_back_bit_for_bit(self) -> None:
        store = fresh_store()
        for first, last in ((57.0, 57.0), (100.0, 130.0)):
            clip = copy(demo(), "marl", ["arm.R", "head", "hips"], first, last)
            back = store.clip(store.keep_clip(clip))
            self.assertEqual((back.name, back.source, back.length), (clip.name, clip.source, clip.length))
            for a, b in zip(back.parts, clip.parts, strict=True):
                self.assertEqual((a.part, a.channels, a.weights), (b.part, b.channels, b.weights))
                np.testing.assert_array_equal(a.turns, b.turns)
                np.testing.assert_array_equal(a.times, b.times)
        self.assertEqual([c.length for _, c in store.clips()], [30.0, 0.0])
        id = store.clips()[0][0]
        store.rename_clip(id, "grip")
        self.assertEqual(store.clip(id).name, "grip")
        store.remove_clip(id)
        for gone in (lambda: store.clip(id), lambda: store.remove_clip(id), lambda: store.rename_clip(id, "x")):
            with self.assertRaisesRegex(Missing, "no clip"):
                gone()

    def test_contacts_are_kept_with_their_revision(self) -> None:
        store = fresh_store()
        program = demo()
        self.assertGreater(len(program.take.contacts), 3)
        _, (take_id,) = store.add_scene(program.scene, [program.take])
        loaded = store.load(take_id)
        self.assertEqual(loaded.take.contacts, program.take.contacts)
        fewer = program.take.contacts[1:]
        store.commit(loaded, replace(loaded.take, contacts=fewer), "one less", {}, None)
        self.assertEqual(store.load(take_id).take.contacts, fewer)
        self.assertEqual(store.load(take_id, loaded.revision).take.contacts, program.take.contacts)

    def test_anchors_and_how_they_are_followed_are_kept_with_their_revision(self) -> None:
        store = fresh_store()
        program = demo()
        _, (take_id,) = store.add_scene(program.scene, [program.take])
        loaded = store.load(take_id)
        anchor = Anchor("anchor-1", "post", (0.1, 1.0 / 3.0, -2.0), (0.0, 0.6, 0.0, 0.8))
        tether = Tether("post", "marl", "arm.L.ik", "anchor-1", "anchor", scales=True)
        contacts = tuple(replace(c, within=0.02) for c in program.take.contacts)
        point = PivotPoint("marl", "arm.L.ik", "knuckle", (0.1, 1.0 / 3.0, 0.0), (0.0, 0.4, 0.0))
        made = replace(
            loaded.take, anchors=(anchor,), points=(point,), tethers=(*loaded.take.tethers, tether), contacts=contacts
        )
        store.commit(loaded, made, "an anchor", {}, None)
        kept = store.load(take_id).take
        self.assertEqual((kept.anchors, kept.tethers, kept.contacts), (made.anchors, made.tethers, made.contacts))
        self.assertEqual(kept.points, (point,))
        self.assertEqual(store.load(take_id, loaded.revision).take.anchors, ())

    def test_wanted_findings_are_kept_with_their_revision(self) -> None:
        store = fresh_store()
        program = demo()
        _, (take_id,) = store.add_scene(program.scene, [replace(program.take, wanted=("pop/marl/arm.R/118",))])
        loaded = store.load(take_id)
        self.assertEqual(loaded.take.wanted, ("pop/marl/arm.R/118",))
        store.commit(loaded, replace(loaded.take, wanted=()), "open again", {}, None)
        self.assertEqual(store.load(take_id).take.wanted, ())
        self.assertEqual(store.load(take_id, loaded.revision).take.wanted, ("pop/marl/arm.R/118",))

    def test_props_that_are_mirrored_themselves_are_so_from_their_revision_on(self) -> None:
        store = fresh_store()
        program = demo()
        _, (take_id,) = store.add_scene(program.scene, [program.take])
        loaded = store.load(take_id)
        store.commit(loaded, replace(loaded.take, flipped=("rope",)), "mirrored", {}, None)
        kept = store.load(take_id)
        self.assertEqual(kept.take.flipped, ("rope",))
        self.assertEqual(Program(kept.scene, kept.take).scene.member("rope"), in_mirror(program.scene.member("rope")))
        self.assertEqual(store.load(take_id, loaded.revision).take.flipped, ())
