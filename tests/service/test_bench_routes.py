"""What the bench in full asks of the service: findings, keys, clips, curves, comparison, GLB; equal to the core's."""

from __future__ import annotations

import json
import unittest

import httpx
import numpy as np

from tests.core.test_handover import demo
from tests.servers import PATIENCE, Service
from yielding_tether.core.contacts import measure_all
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations import OPERATIONS, Asked, repair, run
from yielding_tether.core.operations.transfer import transfer
from yielding_tether.core.program import Program
from yielding_tether.core.proof import prove
from yielding_tether.demo import named
from yielding_tether.demo.lantern_round import lantern_round
from yielding_tether.formats import glb

ARM = {"member": "marl", "part": "arm.R"}


class Routes(unittest.TestCase):
    service: Service
    http: httpx.Client

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service()
        cls.addClassCleanup(cls.service.stop)
        cls.http = httpx.Client(base_url=cls.service.base + "/api", timeout=PATIENCE)
        cls.addClassCleanup(cls.http.close)

    def opened(self, scene: str = "Chain ferry") -> dict:  # type: ignore[type-arg]
        """A demo take put back to its first revision."""
        take = next(s for s in self.http.get("/scenes").json() if s["name"] == scene)["takes"][0]["id"]
        info = self.http.get(f"/takes/{take}").json()
        first = self.http.get(f"/takes/{take}/revisions").json()[0]["id"]
        if info["revision"] != first:
            self.http.post(f"/takes/{take}/head", json={"revision": info["revision"], "to": first}).raise_for_status()
            info = self.http.get(f"/takes/{take}").json()
        return info  # type: ignore[no-any-return]

    def apply(self, info: dict, operation: str, **more: object) -> httpx.Response:  # type: ignore[type-arg]
        return self.http.post(
            f"/takes/{info['id']}/apply", json={"operation": operation, "revision": info["revision"], **more}
        )  # fmt: skip

    def test_findings_and_their_repairs_are_the_cores(self) -> None:
        info = self.opened("Ferry by night")
        program = Program(*lantern_round())
        found = find_all(program)
        self.assertEqual([f["key"] for f in info["findings"]], [f.key for f in found])
        self.assertEqual([f["sentence"] for f in info["findings"]], [f.sentence for f in found])
        asked = {"operation": "repair", "revision": info["revision"]}
        tried = self.http.post(f"/takes/{info['id']}/try", json=asked).json()
        _, proof = repair.apply(program, [])
        self.assertEqual(tried["sentence"], proof.sentence)
        self.assertEqual(self.http.get(f"/takes/{info['id']}").json()["revision"], info["revision"])
        done = self.apply(info, "repair", findings=[found[0].key]).json()
        self.assertEqual(done["label"], f"Repair: {found[0].sentence}"[:200])
        left = self.http.get(f"/takes/{info['id']}").json()["findings"]
        self.assertEqual([f["key"] for f in left], [f.key for f in found[1:]])
        gone = self.apply({**info, "revision": done["revision"]}, "repair", findings=[found[0].key])
        self.assertEqual(gone.status_code, 422)
        self.assertIn("not there any more", gone.json()["message"])

    def test_wanted_findings_stay_wanted_with_their_revision(self) -> None:
        info = self.opened()
        key = info["findings"][0]["key"]
        url = f"/takes/{info['id']}/wanted"
        marked = self.http.post(url, json={"revision": info["revision"], "finding": key, "wanted": True})
        self.assertEqual(marked.status_code, 200, marked.text)
        now = self.http.get(f"/takes/{info['id']}").json()
        self.assertEqual((now["findings"], [f["key"] for f in now["wanted"]]), ([], [key]))
        self.assertTrue(now["label"].startswith("Wanted: "))
        self.http.post(f"/takes/{info['id']}/undo", json={"revision": now["revision"]}).raise_for_status()
        again = self.http.get(f"/takes/{info['id']}").json()
        self.assertEqual(([f["key"] for f in again["findings"]], again["wanted"]), ([key], []))
        no = self.http.post(url, json={"revision": again["revision"], "finding": "pop/x/y/1", "wanted": True})
        self.assertEqual(no.status_code, 422)

    def test_keys_are_edited_as_named(self) -> None:
        info = self.opened()
        channel = "marl/head.ry"
        before = self.http.get(f"/takes/{info['id']}/curves", params={"channel": channel}).json()[0]
        self.assertEqual([k["time"] for k in before["keys"]], demo().take.curves[channel].times.tolist())
        edit = {
            "what": "move",
            "keys": [{"channel": channel, "times": [before["keys"][2]["time"]]}],
            "by": 1,
            "rise": 0.1,
        }
        done = self.apply(info, "edit", edit=edit).json()
        after = self.http.get(f"/takes/{info['id']}/curves", params={"channel": channel}).json()[0]
        self.assertEqual([k for k in after["keys"] if k["time"] != before["keys"][2]["time"] + 1],
                         [k for k in before["keys"] if k["time"] != before["keys"][2]["time"]])  # fmt: skip
        self.assertEqual(done["proof"]["operation"], "move keys")
        # Keys named by part: all its channels at that frame; the ghost of before is the parent revision's.
        now = self.http.get(f"/takes/{info['id']}").json()
        self.assertEqual(now["parent"], info["revision"])
        ghost = self.http.get(
            f"/takes/{info['id']}/curves", params={"channel": channel, "revision": now["parent"]}
        ).json()[0]
        self.assertEqual(ghost, before)
        by_part = {"what": "delete", "keys": [{"part": {"member": "marl", "part": "spine"}, "times": [24]}]}
        done = self.apply(now, "edit", edit=by_part).json()
        self.assertGreaterEqual(done["proof"]["keys"]["removed"], 2)
        for bad, words in (
            ({"what": "delete", "keys": [{"channel": channel, "times": [3.3]}]}, "no key at frame 3.3"),
            ({"what": "delete", "keys": [{"times": [1]}]}, "by a channel or by a part"),
        ):
            got = self.apply({**now, "revision": done["revision"]}, "edit", edit=bad)
            self.assertEqual(got.status_code, 422)
            self.assertIn(words, got.json()["message"])

    def test_every_operation_runs_with_its_default_choices(self) -> None:
        info = self.opened()
        listed = {o["id"]: o for o in self.http.get("/operations").json()}
        self.assertEqual(set(listed), set(OPERATIONS))
        parts = {"parts": [ARM], "first": 118}
        clip = self.http.post(
            f"/takes/{info['id']}/clips", json={"member": "marl", "parts": ["arm.L"], "first": 30, "last": 30}
        ).json()
        more: dict[str, dict[str, object]] = {
            "handover": parts, "keys": {**parts, "choices": {"by": 0.5}}, "key": {"parts": [ARM], "first": 60},
            "repair": {},
            "drivers": {"choices": {"kind": "linear"}}, "paste": {"clip": clip["id"], "parts": [ARM], "first": 60},
            "edit": {"edit": {"what": "add", "keys": [{"channel": "marl/head.ry", "times": [33]}]}},
        }  # fmt: skip
        for id, asked in more.items():
            got = self.http.post(
                f"/takes/{info['id']}/try", json={"operation": id, "revision": info["revision"], **asked}
            )  # fmt: skip
            self.assertEqual(got.status_code, 200, (id, got.text))
            self.assertIn("keys:", got.json()["sentence"])
        for id in ("keys", "key", "edit", "paste"):
            got = self.http.post(f"/takes/{info['id']}/try", json={"operation": id, "revision": info["revision"]})
            self.assertEqual(got.status_code, 422, id)
        self.http.delete(f"/clips/{clip['id']}").raise_for_status()

    def test_figures_to_decide_by_come_with_what_was_tried(self) -> None:
        info = self.opened("Ferry in rough water")
        parts = {"parts": [{"member": "marl", "part": "leg.L"}], "first": 0, "last": 120, "revision": info["revision"]}
        bake = {"operation": "bake", **parts, "choices": {"to": "ik", "tolerance": 3.0, "tolerance_turn": 1.5}}
        tried = self.http.post(f"/takes/{info['id']}/try", json=bake).json()
        chart = self.http.get(f"/takes/{info['id']}/chart", params={"trial": tried["trial"]}).json()
        program = Program(*named("Rough crossing"))
        there = Asked((("marl", "leg.L"),), 0.0, 120.0, bake["choices"])  # type: ignore[arg-type]
        wanted = OPERATIONS["bake"].chart(program, there, program.on(run(program, "bake", there).take))
        assert wanted is not None
        self.assertEqual([tuple(p) for p in chart["lines"][0]["points"]], list(wanted.lines[0].points))
        self.assertEqual(chart["now"], 3.0)
        # Others have none; what is gone is said, and so is a take that it is not of.
        plain = self.http.post(f"/takes/{info['id']}/try", json={"operation": "mirror", **parts, "last": None}).json()
        self.assertIsNone(self.http.get(f"/takes/{info['id']}/chart", params={"trial": plain["trial"]}).json())
        for take, trial in ((info["id"], "gone"), (info["id"] + 1, tried["trial"])):
            self.assertEqual(self.http.get(f"/takes/{take}/chart", params={"trial": trial}).status_code, 404)

    def test_a_take_is_placed_where_another_one_is(self) -> None:
        info = self.opened("Ferry at the landing")
        parts = {"parts": [{"member": "marl", "part": "hips"}], "first": 0, "revision": info["revision"]}
        asked = {"operation": "place", **parts, "choices": {}}
        takes = self.http.post(f"/takes/{info['id']}/suggest", json=asked).json()["options"]["meets"]
        other = next(id for id, name in takes if name.startswith("Hauling in, on the quay"))
        meet = {**asked, "choices": {"to": "meet", "meets": other, "frame": 0}}
        for bad, status in (("999999", 404), ("no number", 422), ("", 422), ("9" * 30, 422)):
            wrong = {**asked, "choices": {"to": "meet", "meets": bad}}
            self.assertEqual(self.http.post(f"/takes/{info['id']}/try", json=wrong).status_code, status, bad)
        self.http.post(f"/takes/{info['id']}/apply", json=meet).raise_for_status()
        places = []
        for take in (info["id"], int(other)):
            got = self.http.post(f"/takes/{take}/transforms", json={"times": [0]}).json()
            places.append(np.array(got["positions"])[0, [tuple(j) for j in got["joints"]].index(("marl", "hips"))])
        np.testing.assert_allclose(places[0][[0, 2]], places[1][[0, 2]], atol=1e-6)
        self.opened("Ferry at the landing")

    def test_clips_are_kept_renamed_and_removed(self) -> None:
        info = self.opened()
        asked = {"member": "marl", "parts": ["arm.L", "head"], "first": 20, "last": 50, "name": " throw "}
        clip = self.http.post(f"/takes/{info['id']}/clips", json=asked).json()
        self.assertEqual((clip["name"], clip["length"], clip["parts"]), ("throw", 30, ["left arm", "head"]))
        self.http.post(f"/clips/{clip['id']}/name", json={"name": "the throw"}).raise_for_status()
        self.assertIn("the throw", [c["name"] for c in self.http.get("/clips").json()])
        tried = self.http.post(f"/takes/{info['id']}/try", json={
            "operation": "paste", "revision": info["revision"], "clip": clip["id"], "parts": [ARM], "first": 100,
            "choices": {"way": "values"},
        }).json()  # fmt: skip
        self.assertLess(tried["proof"]["outside_place"]["value"], 1e-12)
        self.http.delete(f"/clips/{clip['id']}").raise_for_status()
        self.assertEqual(self.http.delete(f"/clips/{clip['id']}").status_code, 404)
        self.assertEqual(self.http.post(f"/clips/{clip['id']}/name", json={"name": "x"}).status_code, 404)

    def test_two_revisions_are_compared_as_the_core_measures(self) -> None:
        info = self.opened()
        done = self.apply(info, "repair").json()
        got = self.http.get(
            f"/takes/{info['id']}/compare", params={"a": info["revision"], "b": done["revision"]}
        ).json()
        after = Program(demo().scene, repair.apply(demo(), [])[0])
        proof = prove("compare", demo(), after, 0.0, 204.0)
        # What arrives at the rail is led there; what holds on to it stays as it is.
        self.assertEqual((int(np.argmax(got["place"])), got["place"][118]), (117, 0.0))
        self.assertAlmostEqual(got["proof"]["departure_place"]["value"], proof.departure_place.value, places=12)
        self.assertEqual((got["findings_a"], got["findings_b"]), (1, 0))
        # Keys are counted in one way, whoever tells them.
        kept, added, removed = (got["proof"]["keys"][k] for k in ("kept", "added", "removed"))
        self.assertEqual((got["keys_a"], got["keys_b"]), (kept + removed, kept + added))
        self.assertEqual(got["parts"][0]["part"], "arm.R")
        nodes = demo().joints()[1]
        off = np.linalg.norm(after.evaluate([112.0]).pos[0, nodes] - demo().evaluate([112.0]).pos[0, nodes], axis=-1)
        self.assertAlmostEqual(got["place"][112], float(off.max()), places=12)
        other = self.opened("Ferry by night")
        refused = self.http.get(
            f"/takes/{info['id']}/compare",
            params={"a": info["revision"], "b": other["revision"], "take_b": other["id"]},
        )
        self.assertEqual(refused.status_code, 422)

    def test_a_take_moves_to_another_scene_as_the_core_says(self) -> None:
        info = self.opened()
        scenes = self.http.get("/scenes").json()
        there = next(x for x in scenes if x["name"] == "Ferry by night")
        self.assertEqual(there["characters"], [{"id": "marl", "name": "Marl"}])
        body = {"revision": info["revision"], "member": "marl", "scene": there["id"], "target": "marl", "name": "Moved"}
        url = f"/takes/{info['id']}/transfer"
        told = self.http.post(url, json=body).json()
        want = transfer(demo(), "marl", lantern_round()[0], "marl", called="Moved")
        self.assertEqual(told["sentence"], want.sentence)
        self.assertEqual([(m["what"], m["name"], m["says"]) for m in told["mismatches"]], list(want.mismatches))
        # Told only: nothing is made.
        self.assertIsNone(told["take_id"])
        self.assertEqual(self.http.get("/scenes").json(), scenes)
        made = self.http.post(url, json={**body, "apply": True}).json()
        now = next(x for x in self.http.get("/scenes").json() if x["id"] == there["id"])
        self.assertEqual([t["name"] for t in now["takes"] if t["id"] == made["take_id"]], ["Moved"])
        opened = self.http.get(f"/takes/{made['take_id']}").json()
        self.assertEqual([m["id"] for m in opened["members"]], [m.id for m in lantern_round()[0].members])
        for wrong, words in (({"target": "nobody"}, "no member nobody"), ({"member": "rope"}, "no character")):
            refused = self.http.post(url, json={**body, **wrong, "apply": True})
            self.assertEqual((refused.status_code, words in refused.text), (422, True))
        self.assertEqual(self.http.post(url, json={**body, "scene": 9999}).status_code, 404)

    def test_contacts_and_files_are_the_cores(self) -> None:
        info = self.opened()
        contacts = self.http.get(f"/takes/{info['id']}/contacts").json()
        known = demo().take.contacts
        self.assertEqual(
            [(c["id"], c["frames"][0], c["frames"][-1]) for c in contacts], [(c.id, c.first, c.last) for c in known]
        )
        for told, slip in zip(contacts, measure_all(demo(), known), strict=True):
            np.testing.assert_array_equal(told["slip"], slip.place[::4])
            np.testing.assert_array_equal(told["should"], slip.should[::4])
        got = self.http.get(f"/takes/{info['id']}/export.glb", params={"member": "marl", "first": 30, "last": 60})
        self.assertEqual(got.content, glb.write(demo(), "marl", 30.0, 60.0))
        self.assertIn("cast-off-marl.glb", got.headers["content-disposition"])
        bad = self.http.get(f"/takes/{info['id']}/export.glb", params={"member": "nobody"})
        self.assertEqual((bad.status_code, "no member nobody" in bad.text), (422, True))
        card = self.http.get(f"/takes/{info['id']}/card", params={**ARM, "frame": 118}).json()
        self.assertIn("marl/arm.R.drive", [c["name"] for c in card["others"]])
        self.assertEqual(json.loads(json.dumps(card))["driver"], "ik")
