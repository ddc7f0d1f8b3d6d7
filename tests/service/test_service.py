"""The service over real HTTP and WebSocket on a real PostgreSQL; figures compared with the core's."""

from __future__ import annotations

import json
import struct
import unittest

import httpx
import numpy as np
from websockets.exceptions import ConnectionClosed, InvalidStatus

from tests.core.readings import guides_of
from tests.core.test_handover import demo
from tests.formats.test_bvh import written
from tests.servers import PATIENCE, Service, socket_to
from yielding_tether.core.body_fit import pointed, refitted, rehearsal
from yielding_tether.core.contacts import measure_all
from yielding_tether.core.measure import meter
from yielding_tether.core.operations import handover, pose
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Scene
from yielding_tether.demo import named
from yielding_tether.formats import bvh

ARM = {"member": "marl", "part": "arm.R"}


class Serving(unittest.TestCase):
    service: Service
    http: httpx.Client

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service()
        cls.http = httpx.Client(base_url=cls.service.base + "/api", timeout=PATIENCE)
        cls.addClassCleanup(cls.service.stop)
        cls.addClassCleanup(cls.http.close)

    def demo_take(self) -> int:
        scene = next(s for s in self.http.get("/scenes").json() if s["name"] == "Chain ferry")
        id_: int = scene["takes"][0]["id"]
        return id_

    def opened(self) -> dict:  # type: ignore[type-arg]
        """The demo take, put back to its first revision."""
        take = self.demo_take()
        info = self.http.get(f"/takes/{take}").json()
        first = self.http.get(f"/takes/{take}/revisions").json()[0]["id"]
        if info["revision"] != first:
            self.http.post(f"/takes/{take}/head", json={"revision": info["revision"], "to": first})
            info = self.http.get(f"/takes/{take}").json()
        return info  # type: ignore[no-any-return]

    def asked(self, info: dict, **more: object) -> dict:  # type: ignore[type-arg]
        return {"operation": "handover", "revision": info["revision"], "parts": [ARM], "first": 118, **more}

    def test_health_and_openapi(self) -> None:
        self.assertEqual(self.http.get("/health").json(), {"service": "well", "database": "well"})
        spec = self.http.get("/openapi.json").json()
        for path, methods in spec["paths"].items():
            for method in methods.values():
                self.assertTrue(method.get("summary"), path)
        examples = json.dumps(spec["components"]["schemas"]["OperationAsked"])
        self.assertIn("arm.R", examples)

    def fit(self, scene: int, member: str, **asked: object) -> httpx.Response:
        return self.http.post(f"/scenes/{scene}/characters/{member}/fit", json=asked)

    def test_a_body_is_fitted_in_tries_until_it_is_written(self) -> None:
        brought = self.http.post("/import?filename=walker.bvh", content=bvh.write(demo(), "marl", 0, 40)).json()
        scene, take = brought["scene_id"], brought["take_id"]
        before = self.http.get(f"/takes/{take}").json()
        times = {"times": list(range(41)), "side": "leaving"}
        captured = self.http.post(f"/takes/{take}/transforms", json=times).json()
        told = self.fit(scene, "body", part="leg.L").json()
        self.assertEqual((told["closed"], told["changed"]), ("", False))
        self.assertTrue(all(c["well"] for c in told["checks"]), told["checks"])
        # Its motion is shown, by the poses that the core computes of it.
        tried = self.fit(scene, "body", part="leg.L", settings={"leg.L": {"tip from": 1.2}}).json()
        self.assertTrue(tried["changed"])
        first, last = tried["show"]["first"], tried["show"]["last"]
        got = self.http.get(f"/takes/{take}/poses?first={first}&last={last}&trial={tried['trial']}").content
        member = refitted(
            bvh.read(bvh.write(demo(), "marl", 0, 40), "body", "walker").member, {("leg.L", "tip from"): 1.2}
        )
        shown = Program(Scene("walker", (member,)), rehearsal(member, "leg.L"))
        poses = np.frombuffer(got, "<f4").reshape(-1, tried["show"]["rows"], 7)
        np.testing.assert_allclose(
            poses[:, : len(member.skeleton), :3], shown.evaluate(shown.take.frames).pos[:, shown.joints()[1]], atol=1e-6
        )
        # What is pointed at on the body is the figure that the core says; what it can't be is told.
        there = {"setting": "heel", "at": [0.05, 0.02, -0.1], "frame": 0.0}
        self.assertEqual(
            self.fit(scene, "body", part="leg.L", pointed=there).json()["pointed"],
            pointed(member, "leg.L", "heel", np.array(there["at"]), 0.0),
        )
        beyond = self.fit(scene, "body", part="leg.L", pointed={**there, "at": [0.0, 0.0, -9.0]})
        self.assertEqual((beyond.status_code, "limits" in beyond.json()["message"]), (422, True))
        # Nothing was written; what was written since refuses who knows only what was before.
        self.assertEqual(self.fit(scene, "body").json()["parts"], told["parts"])
        limbs = [{**x, "flipped": k == 0} for k, x in enumerate(told["limbs"])]
        done = self.fit(scene, "body", limbs=limbs, settings={"leg.R": {"tip from": 1.1}}, apply=True)
        self.assertEqual(done.status_code, 200, done.text)
        now = self.http.get(f"/takes/{take}").json()
        self.assertNotEqual(now["revision"], before["revision"])
        self.assertEqual(self.http.get(f"/takes/{take}?revision={before['revision']}").status_code, 404)
        self.assertTrue(self.fit(scene, "body").json()["limbs"][0]["flipped"])
        # The capture is what it was.
        again = self.http.post(f"/takes/{take}/transforms", json=times).json()
        np.testing.assert_allclose(again["positions"], captured["positions"], atol=1e-12)
        # After work on a take its limbs stay, and figures still can be set.
        asked = {
            "operation": "handover",
            "revision": now["revision"],
            "parts": [{"member": "body", "part": "arm.R"}],
            "first": 10,
        }
        self.assertEqual(
            self.http.post(f"/takes/{take}/apply", json={**asked, "choices": {"to": "ik"}}).status_code, 200
        )
        refused = self.fit(scene, "body", limbs=told["limbs"])
        self.assertEqual(refused.status_code, 422)
        self.assertIn("there was work on walker", refused.json()["message"])
        set_ = self.fit(scene, "body", settings={"arm.R": {"raised share": 1.0, "raised past": 0.0}}, apply=True).json()
        self.assertRegex(
            " ".join(c["sentence"] for c in set_["checks"]), r"walker (moves: [\d.]+ mm at frame \d+|stays as it is)"
        )
        self.assertEqual(self.fit(scene, "nobody").status_code, 404)
        self.http.delete(f"/scenes/{scene}")

    def test_a_layer_is_posed_weighed_and_told_apart(self) -> None:
        info = self.opened()
        take = info["id"]

        def apply(operation: str, first: float = 0.0, edit: object = None, **choices: object) -> dict:  # type: ignore[type-arg]
            at = self.http.get(f"/takes/{take}").json()["revision"]
            asked = {
                "operation": operation,
                "revision": at,
                "parts": [],
                "first": first,
                "choices": choices,
                "edit": edit,
            }
            answer = self.http.post(f"/takes/{take}/apply", json=asked)
            self.assertEqual(answer.status_code, 200, answer.text)
            return self.http.get(f"/takes/{take}").json()  # type: ignore[no-any-return]

        made = apply("layer", do="add", called="lift")
        (layer,) = made["layers"]
        self.assertEqual((layer["name"], layer["keys"], layer["heard"]), ("lift", 0, False))
        was = self.http.post(
            f"/takes/{take}/transforms", json={"times": [60.0], "side": "leaving", "member": "marl"}
        ).json()
        foot = was["joints"].index(["marl", "foot.L"])
        place, turn = was["positions"][0][foot], was["rotations"][0][foot]
        drag = {
            "member": "marl",
            "part": "leg.L",
            "control": "leg.L.ik",
            "frame": 60,
            "revision": made["revision"],
            "layer": layer["id"],
        }
        lifted = {**drag, "position": [place[0], place[1] + 0.08, place[2]], "rotation": turn}
        self.assertEqual(self.http.post(f"/takes/{take}/pose", json=lifted).status_code, 200)
        now = self.http.get(f"/takes/{take}").json()
        self.assertTrue(now["layers"][0]["heard"])
        self.assertEqual(
            [(p["part"], p["first"], p["last"]) for p in now["layers"][0]["parts"]], [("leg.L", 0.0, 204.0)]
        )
        apply("layer", 60.0, do="weight", which=layer["id"], weight=0.5)
        # The core computes the same of the same take.
        there = self.http.post(
            f"/takes/{take}/transforms", json={"times": [60.0], "side": "leaving", "member": "marl"}
        ).json()
        self.assertAlmostEqual(there["positions"][0][foot][1] - place[1], 0.04, delta=2e-3)
        card = self.http.get(f"/takes/{take}/card?member=marl&part=leg.L&frame=60&layer={layer['id']}").json()
        row = next(c for s in card["systems"] for c in s["channels"] if c["name"] == "marl/leg.L.ik.ty")
        self.assertAlmostEqual(row["own"], 0.08, delta=3e-3)
        self.assertTrue(row["keyed"])
        self.assertRegex(row["made_of"], r"^base -?[\d.]+ mm, lift \+(7|8)\d\.\d mm; in all -?[\d.]+ mm$")
        keys = [{"channel": row["name"], "times": [60.0]}]
        apply(
            "edit", edit={"what": "set", "keys": keys, "values": {"arriving": 0.2, "leaving": 0.2}}, layer=layer["id"]
        )
        (curve,) = self.http.get(f"/takes/{take}/curves?channel={row['name']}&layer={layer['id']}").json()
        self.assertEqual(curve["keys"][0]["leaving"], 0.2)
        for path in (
            f"/takes/{take}/card?member=marl&part=leg.L&frame=60&layer=x",
            f"/takes/{take}/curves?channel={row['name']}&layer=x",
        ):
            self.assertEqual(self.http.get(path).status_code, 422)
        merged = apply("layer", do="merge all")
        self.assertEqual(merged["layers"], [])

    def test_transforms_are_the_cores(self) -> None:
        info = self.opened()
        asked = {"times": [0, 33.5, 118], "side": "arriving", "member": "marl"}
        got = self.http.post(f"/takes/{info['id']}/transforms", json=asked).json()
        program = demo()
        want = program.evaluate([0.0, 33.5, 118.0], 1)
        names, nodes = program.joints(["marl"])
        self.assertEqual([tuple(j) for j in got["joints"]], names)
        np.testing.assert_array_equal(np.array(got["positions"]), want.pos[:, nodes])
        np.testing.assert_array_equal(np.array(got["rotations"]), want.rot[:, nodes])

    def test_poses_meter_and_card_are_the_cores(self) -> None:
        info = self.opened()
        program = demo()
        raw = self.http.get(f"/takes/{info['id']}/poses", params={"first": 100, "last": 130}).content
        table = np.frombuffer(raw, "<f4").reshape(31, info["rows"], 7)
        want = program.evaluate(np.arange(100.0, 131.0))
        np.testing.assert_allclose(table[:, : len(info["joints"]), :3], want.pos[:, program.joints()[1]], atol=1e-6)
        limb = program.bounds["marl", "arm.R"]
        guides = table[:, next(h["row"] for h in info["handles"] if h["control"] == "arm.R.guide"), :3]
        np.testing.assert_allclose(guides, guides_of(program, limb, want), atol=1e-6)
        found = self.http.get(
            f"/takes/{info['id']}/meter", params={"part": "marl/arm.R", "first": 100, "last": 130}
        ).json()
        place, speed = meter(program, np.array(limb.nodes), np.arange(100.0, 131.0))
        np.testing.assert_array_equal(found["pose"], place)
        np.testing.assert_array_equal(found["speed"], speed)
        # Slips are of a take in which a hand does.
        climb = next(t["id"] for s in self.http.get("/scenes").json() for t in s["takes"] if t["name"] == "Ladder")
        left = {"part": "marl/arm.L", "first": 30, "last": 60}
        told = self.http.get(f"/takes/{climb}/meter", params=left).json()["slip"]
        slipping = Program(*named("Ladder"))
        held = next(c for c in slipping.take.contacts if (c.joint, c.begin) == ("hand.L", 38.0))
        (slip,) = measure_all(slipping, [held])
        worst = [max(slip.place[np.rint(slip.times) == f], default=0.0) for f in range(30, 61)]
        np.testing.assert_array_equal(told, worst)
        self.assertGreater(max(worst), 1e-3)
        card = self.http.get(f"/takes/{info['id']}/card", params={**ARM, "frame": 118}).json()
        self.assertEqual((card["driver"], card["says"]), ("ik", "Driven by IK"))
        self.assertAlmostEqual(card["idle_place"], place[18], places=9)
        driving = next(s for s in card["systems"] if s["driving"])
        self.assertTrue(all(c["keyed"] for c in driving["channels"]))
        # A hand whose other system has no keys: nothing stands off.
        hand = {"member": "marl", "part": "fingers.R", "frame": 118}
        self.assertIsNone(self.http.get(f"/takes/{info['id']}/card", params=hand).json()["idle_place"])

    def test_a_take_is_shown_by_small_pictures_of_its_bodies(self) -> None:
        strip = self.http.get(f"/takes/{self.opened()['id']}/strip").json()
        self.assertEqual((strip["frames"][0], strip["frames"][-1], len(strip["bones"])), (0.0, 204.0, 9))
        program = demo()
        poses = program.evaluate(strip["frames"])
        head, hips = (program.nodes["marl", j] for j in ("head", "hips"))
        for frame, lines in enumerate(strip["bones"]):
            seen = np.array(lines)
            self.assertTrue((seen[:, 4] > 0.04).all() and len(seen) > 10)
            # As high as the head, about the hips.
            high = float(poses.pos[frame, head, 1] - poses.pos[frame, hips, 1])
            self.assertAlmostEqual(float((seen[:, [1, 3]].max(axis=1) + seen[:, 4] / 2).max()), high + 0.2, delta=0.12)

    def test_a_worked_session_try_apply_undo_redo(self) -> None:
        info = self.opened()
        self.assertEqual(len(info["findings"]), 1)
        tried = self.http.post(f"/takes/{info['id']}/try", json=self.asked(info)).json()
        take, proof = handover.apply(demo(), handover.Handover((("marl", "arm.R"),), "ik", 118.0))
        self.assertEqual(tried["proof"]["changes"][0]["pose_before"], proof.changes[0].pose_before)
        self.assertEqual(tried["proof"]["departure_place"]["value"], proof.departure_place.value)
        self.assertEqual(self.http.get(f"/takes/{info['id']}").json()["revision"], info["revision"])
        shown = self.http.get(
            f"/takes/{info['id']}/poses", params={"first": 118, "last": 130, "trial": tried["trial"]}
        ).content
        after = Program(demo().scene, take)
        table = np.frombuffer(shown, "<f4").reshape(13, -1, 7)
        want = after.evaluate(np.arange(118.0, 131.0)).pos[:, after.joints()[1]]
        np.testing.assert_allclose(table[:, : want.shape[1], :3], want, atol=1e-6)
        applied = self.http.post(f"/takes/{info['id']}/apply", json=self.asked(info)).json()
        self.assertEqual(applied["proof"]["keys"], tried["proof"]["keys"])
        now = self.http.get(f"/takes/{info['id']}").json()
        self.assertEqual((now["findings"], now["revision"]), ([], applied["revision"]))
        undone = self.http.post(f"/takes/{info['id']}/undo", json={"revision": now["revision"]}).json()
        self.assertEqual(undone["revision"], info["revision"])
        redone = self.http.post(f"/takes/{info['id']}/redo", json={"revision": undone["revision"]}).json()
        self.assertEqual(redone["revision"], applied["revision"])

    def test_an_edit_that_is_sent_again_is_written_once(self) -> None:
        info = self.opened()
        take, revision = info["id"], info["revision"]
        key = {"Idempotency-Key": f"once {take} {revision}"}
        asked = {"operation": "handover", "revision": revision, "parts": [{"member": "marl", "part": "arm.L"}], "first": 20,
                 "last": 40, "choices": {"to": "ik"}}  # fmt: skip
        first = self.http.post(f"/takes/{take}/apply", json=asked, headers=key).raise_for_status().json()
        again = self.http.post(f"/takes/{take}/apply", json=asked, headers=key).raise_for_status().json()
        self.assertEqual(again, first)
        drag = {"revision": first["revision"], "frame": 20, "member": "marl", "part": "hips", "control": "hips",
                "position": [0, 0.8, 0]}  # fmt: skip
        key = {"Idempotency-Key": "drag"}
        answers = [
            self.http.post(f"/takes/{take}/pose", json=drag, headers=key).raise_for_status().json() for _ in range(3)
        ]
        self.assertEqual(len({a["revision"] for a in answers}), 1)
        # Without a key the same request is one more edit, and stale.
        self.assertEqual(self.http.post(f"/takes/{take}/pose", json=drag).status_code, 409)

    def test_a_stale_edit_is_refused_and_changes_nothing(self) -> None:
        info = self.opened()
        self.http.post(f"/takes/{info['id']}/apply", json=self.asked(info)).raise_for_status()
        refused = self.http.post(f"/takes/{info['id']}/apply", json=self.asked(info, choices={"to": "fk"}))
        self.assertEqual(refused.status_code, 409)
        body = refused.json()
        self.assertEqual(body["changed"], ["Hand over right arm to IK, from frame 118 on"])
        self.assertEqual(body["head"], self.http.get(f"/takes/{info['id']}").json()["revision"])

    def test_what_is_wrong_is_said(self) -> None:
        info = self.opened()
        base = f"/takes/{info['id']}"
        for path, body, status, message in (
            ("/try", self.asked(info, operation="polish"), 422, "There is no operation 'polish'"),
            ("/try", self.asked(info, choices={"to": "up"}), 422, "has no system 'up'"),
            ("/try", self.asked(info, choices={"settle": 3.5}), 422, "whole number from 0 to 48"),
            ("/try", self.asked(info, choices={"pace": 1}), 422, "has no choice 'pace'"),
            ("/try", self.asked(info, first=900), 422, "runs from 0 to 204"),
            ("/try", {**self.asked(info), "revision": 10**6}, 404, "no revision"),
            ("/undo", {"revision": info["revision"]}, 404, "nothing to undo"),
            ("/transforms", {"times": []}, 422, "at least 1 item"),
            ("/transforms", {"times": [1e400]}, 422, ""),
            (
                "/pose",
                {**ARM, "revision": info["revision"], "frame": 3, "control": "wing", "position": [0, 0, 0]},
                422,
                "no control",
            ),
        ):
            got = self.http.post(base + path, content=json.dumps(body), headers={"Content-Type": "application/json"})
            self.assertEqual(got.status_code, status, got.text)
            self.assertIn(message, got.json()["message"])
        self.assertEqual(self.http.get("/takes/999").status_code, 404)
        self.assertEqual(self.http.get(base + "/poses", params={"first": 0, "last": 5000}).status_code, 422)

    def test_captures_come_in_and_go_out(self) -> None:
        text, places = written(np.random.default_rng(1), frames=20)
        before = len(self.http.get("/scenes").json())
        got = self.http.post("/import", params={"filename": "walk.bvh"}, content=text.encode()).json()
        self.assertEqual(sorted(got["parts"]), ["left arm", "left leg", "right arm", "right leg"])
        take = got["take_id"]
        info = self.http.get(f"/takes/{take}").json()
        asked = {
            **self.asked(info),
            "parts": [{"member": "body", "part": "arm.L"}],
            "first": 5,
            "last": 12,
            "choices": {"to": "ik", "keys": "every"},
        }
        proof = self.http.post(f"/takes/{take}/apply", json=asked).json()["proof"]
        self.assertTrue(all(c["pose"] < 1e-6 and c["turn"] < 1e-6 for c in proof["changes"]))
        self.assertLess(proof["outside_place"]["value"], 1e-9)
        out = self.http.get(f"/takes/{take}/export.bvh", params={"member": "body", "first": 2, "last": 4}).text
        self.assertIn("Frames: 3", out)
        moved = self.http.post(f"/takes/{take}/transforms", json={"times": [3]}).json()
        joints = [j[1] for j in moved["joints"]]
        np.testing.assert_allclose(moved["positions"][0][joints.index("C4")], places["C4"][3], atol=1e-6)
        self.http.delete(f"/scenes/{got['scene_id']}").raise_for_status()
        self.assertEqual(len(self.http.get("/scenes").json()), before)

    def test_what_mirrors_a_capture_or_makes_its_take_longer_is_kept_and_undone(self) -> None:
        got = self.http.post("/import?filename=walker.bvh", content=bvh.write(demo(), "marl", 0, 40)).json()
        take, first = got["take_id"], self.http.get(f"/takes/{got['take_id']}").json()

        def places(revision: int, low: int = 0, high: int = 40) -> np.ndarray:
            asked = {"times": list(range(low, high + 1)), "revision": revision}
            return np.array(self.http.post(f"/takes/{take}/transforms", json=asked).json()["positions"])

        body = {
            "operation": "mirror", "revision": first["revision"], "parts": [{"member": "body", "part": "head"}], "first": 0,
            "choices": {"what": "body", "plane": "own"},
        }  # fmt: skip
        tried = self.http.post(f"/takes/{take}/try", json=body).json()
        wanted = self.http.get(f"/takes/{take}/poses?first=0&last=40&trial={tried['trial']}").content
        mirrored = self.http.post(f"/takes/{take}/apply", json=body).json()["revision"]
        kept = self.http.get(f"/takes/{take}/poses?first=0&last=40&revision={mirrored}").content
        self.assertEqual(wanted, kept)
        self.assertGreater(np.abs(places(mirrored) - places(first["revision"])).max(), 0.05)
        # Twice mirrored, and longer by a lead-in and by frames put in; each undone by itself.
        twice = self.http.post(f"/takes/{take}/apply", json={**body, "revision": mirrored}).json()["revision"]
        np.testing.assert_allclose(places(twice), places(first["revision"]), atol=1e-6)
        led = {**body, "operation": "lead-in", "revision": twice, "choices": {"frames": 12}}
        led_in = self.http.post(f"/takes/{take}/apply", json=led).json()["revision"]
        info = self.http.get(f"/takes/{take}").json()
        self.assertEqual((info["first"], info["last"]), (-12, 40))
        np.testing.assert_allclose(places(led_in), places(twice), atol=1e-12)
        longer = {
            **led,
            "operation": "retime",
            "revision": led_in,
            "last": 10,
            "choices": {"how": "lasts", "frames": 25},
        }
        longest = self.http.post(f"/takes/{take}/apply", json=longer).json()["revision"]
        self.assertEqual(self.http.get(f"/takes/{take}").json()["last"], 55)
        np.testing.assert_allclose(places(longest, 25, 55), places(twice, 10, 40), atol=1e-9)
        out = self.http.get(f"/takes/{take}/export.bvh", params={"member": "body"}).text
        self.assertIn("Frames: 68", out)
        for revision, frames in ((longest, (-12, 40)), (led_in, (0, 40))):
            self.http.post(f"/takes/{take}/undo", json={"revision": revision}).raise_for_status()
            info = self.http.get(f"/takes/{take}").json()
            self.assertEqual((info["first"], info["last"]), frames)
        self.http.delete(f"/scenes/{got['scene_id']}").raise_for_status()

    def test_a_broken_file_is_refused_with_its_line_and_leaves_nothing(self) -> None:
        before = self.http.get("/scenes").json()
        lines = written(np.random.default_rng(1))[0].split("\n")
        lines[3] = "OFFSET 1 two 3"
        got = self.http.post("/import", params={"filename": "bad.bvh"}, content="\n".join(lines).encode())
        self.assertEqual((got.status_code, got.json()["line"], got.json()["token"]), (422, 4, "two"))
        other = self.http.post("/import", params={"filename": "bad.fbx"}, content=b"x")
        self.assertIn("so far BVH files", other.json()["message"])
        self.assertEqual(self.http.get("/scenes").json(), before)

    def test_live_posing_draws_what_the_core_computes_and_stores_nothing(self) -> None:
        info = self.opened()
        drag = {
            "revision": info["revision"],
            "frame": 60,
            **ARM,
            "control": "arm.R.ik",
            "position": [-0.2, 1.2, 0.35],
            "rotation": [0, 0, 0, 1],
        }
        with socket_to(f"{self.service.base.replace('http', 'ws')}/api/takes/{info['id']}/live") as socket:
            socket.send(json.dumps({**drag, "seq": 7}))
            data = socket.recv()
            assert isinstance(data, bytes)
            self.assertEqual(struct.unpack_from("<I", data)[0], 7)
            table = np.frombuffer(data, "<f4", offset=4).reshape(-1, 7)
            program = demo()
            found = pose.solve(program, pose.Drag("marl", "arm.R", "arm.R.ik", 60.0, (-0.2, 1.2, 0.35)))
            want = program.evaluate([60.0], overrides=dict(found.values)).pos[0, program.joints()[1]]
            np.testing.assert_allclose(table[: len(want), :3], want, atol=1e-6)
            for bad in (
                "nonsense",
                "[]",
                json.dumps({**drag, "frame": "NaN"}),
                json.dumps({**drag, "part": "wing"}),
                "x" * 5000,
            ):
                socket.send(bad)
                self.assertIn("message", json.loads(socket.recv()))
            # And it still answers.
            socket.send(json.dumps({**drag, "seq": 8}))
            self.assertIsInstance(socket.recv(), bytes)
        self.assertEqual(self.http.get(f"/takes/{info['id']}").json()["revision"], info["revision"])
        done = self.http.post(f"/takes/{info['id']}/pose", json=drag).json()
        self.assertIn("Pose right arm at frame 60", done["label"])

    def test_foreign_pages_and_hosts_are_kept_out(self) -> None:
        self.assertEqual(self.http.get("/health", headers={"Origin": "http://elsewhere.example"}).status_code, 403)
        self.assertEqual(self.http.get("/health", headers={"Host": "elsewhere.example"}).status_code, 403)
        self.assertEqual(self.http.get("/health", headers={"Origin": "http://127.0.0.1:1"}).status_code, 403)
        take = self.demo_take()
        with (
            self.assertRaises((ConnectionClosed, InvalidStatus)),
            socket_to(
                f"{self.service.base.replace('http', 'ws')}/api/takes/{take}/live",
                origin="http://elsewhere.example",  # type: ignore[arg-type]
            ) as socket,
        ):
            socket.recv()
        big = self.http.post(
            f"/takes/{take}/try", content=b" " * 2_100_000, headers={"Content-Type": "application/json"}
        )
        self.assertEqual(big.status_code, 413)

    def test_what_was_answered_outlives_a_killed_service(self) -> None:
        info = self.opened()
        applied = self.http.post(f"/takes/{info['id']}/apply", json=self.asked(info)).json()
        self.service.kill()
        self.service.start()
        now = self.http.get(f"/takes/{info['id']}").json()
        self.assertEqual(now["revision"], applied["revision"])
        self.assertEqual(now["findings"], [])
