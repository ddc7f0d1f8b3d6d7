"""Files and lost servers in the real page: progress and cancel, posing while a file is read, an edit that outlives the server."""

from __future__ import annotations

import re
import tempfile
import threading
import time
from pathlib import Path
from typing import Any

import httpx
import numpy as np
from playwright.sync_api import Page, Route, expect

from tests.captures import prolonged
from tests.core.test_handover import demo
from tests.interface.pages import SIZE, Pages
from tests.servers import PATIENCE, Service
from yielding_tether.core.body_fit import pointed, refitted
from yielding_tether.core.transforms import rotate
from yielding_tether.formats import bvh


class Files(Pages):
    bodies = True

    def brought(self, page: Page, frames: int, name: str, seen: bool = True) -> None:
        """Gives the page a capture of so many frames, and sees that it is being read, or waits until it is there."""
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / f"{name}.bvh"
            file.write_bytes(prolonged(bvh.write(demo(), "marl", 0, 60), frames))
            page.get_by_test_id("picker").set_input_files(file)
            if not seen:
                page.wait_for_url(re.compile(r"/take/\d+"))
                return
            # The page has read it once something is told of it.
            expect(page.get_by_label("Bringing in", exact=True)).to_be_visible()
            expect(page.get_by_text(re.compile(r"Reading the (file|motion), \d+ %"))).to_be_visible()

    def home(self) -> Page:
        # At the very first visit a take is shown.
        page = self.open(f"/take/{self.take()}")
        expect(page.get_by_test_id("strands")).to_be_visible()
        page.goto(self.service.base + "/")
        expect(page.get_by_role("heading", name="Chain ferry")).to_be_visible()
        return page

    def ended(self, cancelled: list[str]) -> dict[str, Any]:
        """The job that the page has cancelled, once it has ended."""
        for _ in range(200):
            if cancelled:
                told: dict[str, Any] = self.http.get(cancelled[0].partition("/api")[2]).json()
                if told["state"] not in ("coming", "waiting", "running"):
                    return told
            time.sleep(0.05)
        raise AssertionError(f"nothing was cancelled, or it goes on: {cancelled}")

    def listen(self, page: Page) -> list[str]:
        found: list[str] = []
        page.on("request", lambda r: found.append(r.url) if r.method == "DELETE" else None)
        return found

    def test_a_body_is_fitted_by_sliders_and_shown_in_motion(self) -> None:
        page = self.home()
        self.brought(page, 60, "walker", seen=False)
        self.drawn(page)
        page.keyboard.press("Shift+F")
        expect(page.get_by_role("heading", name="Fit walker")).to_be_visible()
        page.get_by_label("Parts").get_by_role("button", name="left leg 4 joints").click()
        page.wait_for_function("() => window.benchView && window.benchView.gl.info.render.triangles > 500")
        scene = page.url.split("/scene/")[1].split("/")[0]

        def told(part: str, setting: str) -> float:
            parts = self.http.post(f"/scenes/{scene}/characters/body/fit", json={}).json()["parts"]
            found: float = next(s for p in parts if p["name"] == part for s in p["settings"] if s["id"] == setting)[
                "value"
            ]
            return found

        before = told("leg.R", "tip from")
        slider = page.get_by_role("slider", name="turns about the tip from, left leg")
        slider.focus()
        for _ in range(10):
            page.keyboard.press("ArrowRight")
        expect(page.get_by_role("button", name=re.compile(r"^was 40\.1"))).to_be_visible()
        self.assertEqual(told("leg.R", "tip from"), before)
        # It is seen in motion: the foot goes another way than it went.
        page.get_by_role("button", name="Stop").click()
        # The tip is pointed at on the body, and is where the core says that this is.
        aim = page.get_by_role("button", name="Point at tip before the ankle, left leg")
        aim.click()
        expect(page.get_by_role("status")).to_contain_text("Click the body: tip before the ankle")
        page.keyboard.press("Escape")
        expect(page.get_by_role("status")).to_be_hidden()
        aim.click()
        # The foot fills the picture.
        page.wait_for_function(
            "() => { const s = window.benchView, dot = s.scene.getObjectByName('tip'); dot.updateWorldMatrix(true, false);"
            " return s.camera.position.distanceTo(s.camera.position.clone().setFromMatrixPosition(dot.matrixWorld)) < 1.5; }"
        )
        self.settled(page)
        x, y = page.evaluate(
            """() => { const s = window.benchView, b = s.gl.domElement.getBoundingClientRect(); let found = null;
            const dot = s.scene.getObjectByName("tip"); dot.updateWorldMatrix(true, false);
            const v = s.camera.position.clone().setFromMatrixPosition(dot.matrixWorld).project(s.camera);
            return [b.left + (v.x + 1) / 2 * b.width, b.top + (1 - v.y) / 2 * b.height]; }"""
        )
        with page.expect_response(lambda r: "/fit" in r.url and "pointed" in (r.request.post_data or "")) as answer:
            page.mouse.click(x, y)
        there = answer.value.request.post_data_json["pointed"]
        member = bvh.read(bvh.write(demo(), "marl", 0, 60), "body", "walker").member
        value = pointed(
            refitted(member, {("leg.L", "tip from"): answer.value.request.post_data_json["settings"]["leg.L"]["tip from"]}),
            "leg.L", "tip", np.array(there["at"]), there["frame"],
        )  # fmt: skip
        self.assertAlmostEqual(answer.value.json()["pointed"], value, delta=1e-9)
        expect(page.get_by_role("textbox", name="tip before the ankle, left leg", exact=True)).to_have_value(
            f"{1000 * value:.1f}".rstrip("0").rstrip(".")
        )
        expect(page.get_by_role("status")).to_be_hidden()
        page.get_by_role("button", name="Bends the other way").click()
        page.get_by_role("combobox", name="ends at", exact=True).click()
        page.get_by_role("option", name="hand.R", exact=True).click()
        expect(page.get_by_role("alert").first).to_contain_text("don't hang one below the other")
        expect(page.get_by_role("button", name="Apply")).to_be_disabled()
        page.get_by_role("button", name="Put all back").click()
        expect(page.get_by_role("button", name=re.compile(r"^was "))).to_have_count(0)
        slider.focus()
        for _ in range(10):
            page.keyboard.press("ArrowRight")
        # At once: the try of the last step is not yet under way, and does not take the place of what is written.
        page.get_by_role("button", name="Apply").click()
        expect(page.get_by_text("walker is fitted anew.")).to_be_visible()
        for part in ("leg.L", "leg.R"):
            self.assertAlmostEqual(told(part, "tip from"), before + 10 * (np.pi - 0.1) / 200, delta=0.02)
        page.get_by_role("button", name="Back", exact=True).click()
        self.drawn(page)
        self.assertEqual(self.errors, [])

    def test_bringing_in_and_delivering_can_be_left(self) -> None:
        page = self.home()
        scenes = self.http.get("/scenes").json()
        cancelled = self.listen(page)
        self.brought(page, 18000, "long")
        page.get_by_role("button", name="Cancel").click()
        expect(page.get_by_role("dialog")).to_be_hidden()
        self.assertEqual(self.ended(cancelled)["state"], "cancelled")
        self.assertEqual(self.http.get("/scenes").json(), scenes)
        # The next one comes in as ever.
        self.brought(page, 4000, "walk", seen=False)
        self.drawn(page)
        cancelled.clear()
        page.get_by_role("button", name="Deliver").click()
        page.get_by_role("button", name="Write the file").click()
        expect(page.get_by_text(re.compile(r"Sampling the motion, \d+ %"))).to_be_visible()
        page.get_by_role("dialog").get_by_role("button", name="Stop").click()
        self.assertEqual(self.ended(cancelled)["state"], "cancelled")
        # The form is there again, as it was.
        expect(page.get_by_role("button", name="Write the file")).to_be_enabled()
        page.get_by_label("to frame").fill("10")
        with page.expect_download() as file:
            page.get_by_role("button", name="Write the file").click()
        self.assertEqual(file.value.path().read_bytes()[:4], b"glTF")
        self.assertEqual(self.errors, [])

    def test_a_hand_is_posed_while_a_file_is_read(self) -> None:
        bench = self.bench()
        answers: list[float] = []
        bench.on("websocket", lambda s: s.on("framereceived", lambda _: answers.append(time.monotonic())))
        self.to_frame(bench, 150)
        self.row(bench, "right arm").click()
        self.settled(bench)
        x, y = self.grab(bench, "arm.R", 0)
        data = prolonged(bvh.write(demo(), "marl", 0, 60), 6000)
        made: list[dict[str, Any]] = []

        def bring() -> None:
            made.append(self.http.post("/import?filename=meanwhile.bvh", content=data).json())

        reading = threading.Thread(target=bring)
        began = time.monotonic()
        reading.start()
        bench.mouse.move(x, y)
        bench.mouse.down()
        step = 0
        while reading.is_alive() or step < 10:
            step += 1
            bench.mouse.move(x + step % 20, y - step % 15)
            bench.wait_for_timeout(30)
        ended = time.monotonic()
        bench.mouse.up()
        reading.join()
        self.wait_for_revision(bench, "Pose right arm")
        self.assertIn("take_id", made[0])
        during = [t for t in answers if began < t < ended]
        # Answers come all the while: in each fifth of the time that the file is read.
        spans = [(began + k * (ended - began) / 5, began + (k + 1) * (ended - began) / 5) for k in range(5)]
        self.assertTrue(all(any(a < t < b for t in during) for a, b in spans), (len(during), ended - began))
        self.http.delete(f"/scenes/{made[0]['scene_id']}").raise_for_status()
        self.assertEqual(self.errors, [])


class Through(Pages):
    scene = "Ferry by night"

    def test_a_camera_of_the_cast_is_looked_through_and_left(self) -> None:
        page = self.bench()

        def camera() -> np.ndarray:
            """Place and axes of the view's camera, as rows."""
            found = page.evaluate(
                "() => { const c = window.benchView.camera; c.updateMatrixWorld(); return c.matrixWorld.elements; }"
            )
            return np.array(found).reshape(4, 4)[[3, 0, 1, 2], :3]

        # The camera rides on the deck from here on: what it sees rocks.
        head = self.head()
        asked = {
            "operation": "retether", "revision": head, "parts": [{"member": "lookout", "part": "lookout"}], "first": 0,
            "choices": {"to": "deck/deck", "after": "ride"},
        }  # fmt: skip
        self.http.post(f"/takes/{self.take()}/apply", json=asked).raise_for_status()
        page.reload()
        self.drawn(page)
        page.get_by_label("Viewpoint: three-quarter ▾").click()
        page.get_by_role("menuitem", name="through lookout").click()
        expect(page.get_by_label("Viewpoint: through lookout ▾")).to_be_visible()
        seen = []
        for frame in (20, 90):
            self.to_frame(page, frame)
            body = {"times": [frame], "side": "leaving", "member": "lookout"}
            told = self.http.post(f"/takes/{self.take()}/transforms", json=body).json()
            place, turn = np.array(told["positions"])[0, 0], np.array(told["rotations"])[0, 0]
            want = np.array([place, *rotate(np.tile(turn, (3, 1)), np.eye(3))])
            for _ in range(100):
                if np.abs(camera() - want).max() < 2e-5:
                    break
                page.wait_for_timeout(50)
            np.testing.assert_allclose(camera(), want, atol=2e-5)
            seen.append(place)
        self.assertGreater(float(np.abs(seen[1] - seen[0]).max()), 1e-3)
        # Turning the view leaves the camera, from where it is.
        box = page.get_by_test_id("view").bounding_box()
        assert box
        page.mouse.move(box["x"] + 640, box["y"] + 40)
        page.mouse.down()
        page.mouse.move(box["x"] + 700, box["y"] + 44, steps=4)
        page.mouse.up()
        expect(page.get_by_label("Viewpoint: kept view ▾")).to_be_visible()
        self.assertGreater(float(np.abs(camera()[0] - seen[1]).max()), 1e-2)
        self.assertLess(float(np.abs(camera()[0] - seen[1]).max()), 2.0)
        self.assertEqual(self.errors, [])


class Lost(Pages):
    def test_an_edit_outlives_the_server_that_was_killed_at_it(self) -> None:
        mine = Service()
        self.addCleanup(mine.stop)
        shared, shared_http = type(self).service, type(self).http
        # A window of its own: what is done to its requests is nobody else's.
        context = self.browser.new_context(viewport=SIZE, device_scale_factor=0.5)
        self.addCleanup(context.close)
        page = context.new_page()
        killed: list[str] = []

        def kill(route: Route) -> None:
            if not killed:
                mine.kill()
            killed.append(route.request.url)
            route.continue_()

        with httpx.Client(base_url=mine.base + "/api", timeout=PATIENCE) as http:
            self.service, self.http = mine, http
            try:
                page.goto(f"{mine.base}/take/{self.take()}")
                self.drawn(page)
                self.select(page, "right arm", 118, 204)
                expect(page.get_by_test_id("sentence")).to_contain_text("Nothing moves at the change")
                count = len(http.get(f"/takes/{self.take()}/revisions").json())
                take = self.take()
                # Killed once the edit is on its way, and before its answer comes.
                page.route("**/apply", kill)
                with page.expect_request("**/apply"):
                    page.keyboard.press("Enter")
                expect(page.get_by_test_id("away")).to_be_visible()
                self.assertEqual(len(set(killed)), 1)
                page.unroute("**/apply")
                mine.start()
                expect(page.get_by_test_id("away")).to_be_hidden()
                # It is sent again after ever longer waits.
                expect(page.get_by_test_id("revision")).to_contain_text("Hand over right arm")
                revisions = http.get(f"/takes/{take}/revisions").json()
                self.assertEqual(len(revisions), count + 1)
                self.assertIn("Hand over right arm", revisions[-1]["label"])
            finally:
                self.service, self.http = shared, shared_http
