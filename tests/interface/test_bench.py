"""The real page in real Chromium, as a new user would use it; its figures compared with the core's."""

from __future__ import annotations

import re
import tempfile
import unittest
from pathlib import Path

import httpx
import numpy as np
from playwright.sync_api import Locator, Page, expect, sync_playwright

from tests.core.test_handover import demo
from tests.formats.test_bvh import written
from tests.servers import Service
from yielding_tether.core.operations import handover, pose
from yielding_tether.core.proof import Proof

FLAGS = [
    "--no-sandbox",
    "--use-angle=swiftshader",
    "--enable-unsafe-swiftshader",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]


class Bench(unittest.TestCase):
    service: Service

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service()
        cls.addClassCleanup(cls.service.stop)
        playwright = sync_playwright().start()
        cls.addClassCleanup(playwright.stop)
        cls.browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        cls.addClassCleanup(cls.browser.close)
        cls.http = httpx.Client(base_url=cls.service.base + "/api", timeout=60)
        cls.addClassCleanup(cls.http.close)

    def setUp(self) -> None:
        take = self.take()
        info = self.http.get(f"/takes/{take}").json()
        first = self.http.get(f"/takes/{take}/revisions").json()[0]["id"]
        if info["revision"] != first:
            self.http.post(f"/takes/{take}/head", json={"revision": info["revision"], "to": first}).raise_for_status()
        self.context = self.browser.new_context(viewport={"width": 1280, "height": 800})
        self.addCleanup(self.context.close)
        self.errors: list[str] = []

    def take(self) -> int:
        scenes = self.http.get("/scenes").json()
        id_: int = next(s for s in scenes if s["name"] == "Chain ferry")["takes"][0]["id"]
        return id_

    def open(self, path: str = "/") -> Page:
        page = self.context.new_page()
        page.on("pageerror", lambda e: self.errors.append(str(e)))
        page.goto(self.service.base + path)
        return page

    def bench(self) -> Page:
        page = self.open(f"/take/{self.take()}")
        self.drawn(page)
        return page

    def drawn(self, page: Page) -> None:
        """Waits until the strands stand and the view has its poses."""
        expect(page.get_by_test_id("strands")).to_be_visible(timeout=30_000)
        page.wait_for_function(
            "() => window.benchView && window.benchView.gl.info.render.triangles > 1000", timeout=30_000
        )
        expect(page.get_by_test_id("driver")).to_be_visible(timeout=30_000)

    def row(self, page: Page, label: str) -> Locator:
        return page.get_by_label("Strands", exact=True).get_by_role("button", name=re.compile(label)).first

    def select(self, page: Page, label: str, first: float, last: float) -> None:
        """Drags along a part's strand from one frame to another."""
        sheet = page.get_by_test_id("strands")
        box = sheet.bounding_box()
        row = self.row(page, label).bounding_box()
        assert box and row
        low, high = (float(sheet.get_attribute(a) or 0) for a in ("data-first", "data-last"))
        y = row["y"] + row["height"] / 2

        def x(frame: float) -> float:
            return box["x"] + 10 + (frame - low) * (box["width"] - 20) / (high - low)

        page.mouse.move(x(first), y)
        page.mouse.down()
        page.mouse.move(x((first + last) / 2), y, steps=3)
        page.mouse.move(x(last), y, steps=3)
        page.mouse.up()

    def head(self) -> int:
        head: int = self.http.get(f"/takes/{self.take()}").json()["revision"]
        return head

    def wait_for_revision(self, page: Page, words: str) -> None:
        expect(page.get_by_test_id("revision")).to_contain_text(words, timeout=15_000)

    def proof(self) -> Proof:
        return handover.apply(demo(), handover.Handover((("marl", "arm.R"),), "ik", 118.0))[1]

    def test_the_planted_pop_is_repaired_as_a_new_user_would(self) -> None:
        page = self.open()
        page.wait_for_url(re.compile(r"/take/\d+"), timeout=15_000)
        self.drawn(page)
        expect(page.get_by_label("Frame", exact=True)).to_have_value("118")
        pop = 1000 * self.proof().changes[0].pose_before
        expect(page.get_by_test_id("first-step")).to_contain_text(f"right arm jumps {pop:.1f} mm")
        expect(page.get_by_test_id("first-step")).to_contain_text("press Enter")
        before = self.head()
        self.select(page, "right arm", 118, 204)
        sentence = page.get_by_test_id("sentence")
        expect(sentence).to_contain_text(f"Nothing moves at the change (was {pop:.1f} mm)", timeout=15_000)
        counts = self.proof().keys
        expect(sentence).to_contain_text(f"{counts.kept} kept, {counts.added} added, {counts.removed} removed")
        # Tried, not applied: the take still stands where it was, the meter shows both.
        self.assertEqual(self.head(), before)
        expect(page.get_by_test_id("meter")).to_have_attribute(
            "aria-label", re.compile(rf"jump {pop:.3f} mm; tried: .* 0\.000 mm"), timeout=15_000
        )
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Hand over right arm to IK, from frame 118 on")
        self.assertNotEqual(self.head(), before)
        self.assertEqual(self.http.get(f"/takes/{self.take()}").json()["findings"], [])
        expect(page.get_by_test_id("first-step")).to_have_count(0)
        page.keyboard.press("Control+z")
        self.wait_for_revision(page, "As opened")
        self.assertEqual(self.head(), before)
        page.keyboard.press("Control+Shift+z")
        self.wait_for_revision(page, "Hand over right arm")
        page.reload()
        self.drawn(page)
        self.wait_for_revision(page, "Hand over right arm")
        self.assertEqual(self.errors, [])

    def test_escape_drops_what_is_tried(self) -> None:
        page = self.bench()
        before = self.head()
        self.select(page, "left arm", 120, 180)
        expect(page.get_by_test_id("offer")).to_contain_text("frames 120–180")
        expect(page.get_by_test_id("proof")).to_contain_text("Tried, not applied", timeout=15_000)
        expect(page.get_by_role("button", name="FK", exact=True)).to_have_attribute("aria-pressed", "true")
        page.keyboard.press("Escape")
        expect(page.get_by_test_id("offer")).to_have_count(0)
        self.assertEqual(self.head(), before)

    def test_choices_are_tried_as_they_are_made(self) -> None:
        page = self.bench()
        self.select(page, "right arm", 20, 60)
        expect(page.get_by_test_id("proof")).to_contain_text("Tried", timeout=15_000)
        carried = page.get_by_test_id("sentence").inner_text()
        page.get_by_role("button", name="hold the pose").click()
        expect(page.get_by_test_id("sentence")).not_to_have_text(carried, timeout=15_000)
        page.get_by_role("button", name="Apply").click()
        self.wait_for_revision(page, "frames 20 to 60, pose held")

    def grab(self, page: Page, limb: str, kind: int) -> tuple[float, float]:
        """Where a limb's control (0) or guide (1) is on the screen."""
        info = self.http.get(f"/takes/{self.take()}").json()
        n = next(i for i, found in enumerate(info["limbs"]) if found["part"] == limb)
        row = len(info["joints"]) + 2 * n + kind
        frame = int(page.get_by_label("Frame", exact=True).input_value())
        raw = self.http.get(f"/takes/{self.take()}/poses", params={"first": frame, "last": frame}).content
        place = np.frombuffer(raw, "<f4").reshape(-1, 7)[row, :3].tolist()
        found = page.evaluate(
            """([x, y, z]) => { const s = window.benchView; const c = s.camera; c.updateMatrixWorld();
            const v = c.position.clone().set(x, y, z).project(c); const b = s.gl.domElement.getBoundingClientRect();
            return [b.left + (v.x + 1) / 2 * b.width, b.top + (1 - v.y) / 2 * b.height]; }""",
            place,
        )
        return found[0], found[1]

    def test_a_hand_is_dragged_live_and_keyed_when_let_go(self) -> None:
        page = self.bench()
        # At frame 118 IK drives the right arm; its control stands at the hand.
        x, y = self.grab(page, "arm.R", 0)
        sent: list[str] = []
        page.on("websocket", lambda ws: ws.on("framesent", lambda data: sent.append(str(data))))
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x - 30, y - 20, steps=4)
        page.mouse.move(x - 60, y - 60, steps=6)
        page.wait_for_timeout(600)
        self.assertGreater(len(sent), 0)
        before = self.head()
        page.mouse.up()
        self.wait_for_revision(page, "Pose right arm at frame 118")
        self.assertNotEqual(self.head(), before)
        # The page showed what the core computes for the last drag it sent.
        stored = self.http.get(f"/takes/{self.take()}/revisions").json()[-1]
        self.assertEqual(stored["label"], "Pose right arm at frame 118")
        moved = self.http.post(f"/takes/{self.take()}/transforms", json={"times": [118], "member": "marl"}).json()
        joints = [j[1] for j in moved["joints"]]
        hand = np.array(moved["positions"][0][joints.index("hand.R")])
        was = demo().evaluate([118.0]).pos[0, demo().nodes["marl", "hand.R"]]
        self.assertGreater(float(np.linalg.norm(hand - was)), 0.03)
        new_x, new_y = self.grab(page, "arm.R", 0)
        self.assertLess(np.hypot(new_x - (x - 60), new_y - (y - 60)), 12)
        page.keyboard.press("Control+z")
        self.wait_for_revision(page, "As opened")

    def test_an_idle_control_keys_the_driving_system(self) -> None:
        page = self.bench()
        field = page.get_by_label("Frame", exact=True)
        field.fill("60")
        field.press("Enter")
        expect(page.get_by_test_id("driver")).to_contain_text("FK drives here", timeout=15_000)
        page.wait_for_timeout(500)
        x, y = self.grab(page, "arm.R", 0)
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + 30, y - 30, steps=5)
        page.wait_for_timeout(400)
        page.mouse.up()
        self.wait_for_revision(page, "Pose right arm at frame 60")
        info = self.http.get(f"/takes/{self.take()}").json()
        strand = next(s for s in info["strands"] if s["part"] == "arm.R")
        key = next(k for k in strand["keys"] if k["time"] == 60)
        self.assertEqual(key["systems"], ["fk"])

    def test_stepping_playing_and_the_keyboard(self) -> None:
        page = self.bench()
        field = page.get_by_label("Frame", exact=True)
        page.keyboard.press("ArrowRight")
        expect(field).to_have_value("119")
        page.keyboard.press("Home")
        expect(field).to_have_value("0")
        page.keyboard.press("n")
        expect(field).to_have_value("118")
        expect(page.get_by_test_id("offer")).to_be_visible()
        page.keyboard.press("Escape")
        page.keyboard.press("Home")
        page.keyboard.press("Space")
        page.wait_for_function("() => Number(document.querySelector('[aria-label=Frame]').value) > 5", timeout=15_000)
        page.keyboard.press("Space")
        page.keyboard.press("?")
        expect(page.get_by_role("dialog")).to_contain_text("Keys and first steps")

    def test_the_card_shows_both_systems_as_the_core_has_them(self) -> None:
        page = self.bench()
        card = page.get_by_label("Part card")
        expect(card).to_contain_text("IK drives here, follows rail")
        limb = demo().limbs["marl", "arm.R"]
        values = demo().sample([118.0], 0, limb.ik)[:, 0]
        expect(card).to_contain_text(f"{1000 * values[0]:.1f} mm")
        expect(card).to_contain_text(f"{np.degrees(values[6]):.1f}°")
        card.get_by_role("button", name=re.compile("FK, idle")).click()
        expect(card).to_contain_text("stored, and as the pose wants it")

    def test_a_capture_comes_in_and_is_handed_over_at_once(self) -> None:
        page = self.open()
        page.wait_for_url(re.compile(r"/take/\d+"), timeout=15_000)
        self.drawn(page)
        page.goto(self.service.base + "/")
        expect(page.get_by_role("heading", name="Chain ferry")).to_be_visible(timeout=15_000)
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "deck walk.bvh"
            file.write_text(written(np.random.default_rng(1), frames=30)[0])
            page.get_by_test_id("picker").set_input_files(file)
            page.wait_for_url(re.compile(r"/take/\d+"), timeout=15_000)
        self.drawn(page)
        expect(page.get_by_test_id("driver")).to_contain_text("Captured motion drives here")
        self.select(page, "left arm", 5, 20)
        expect(page.get_by_test_id("sentence")).to_contain_text("Nothing moves at the change", timeout=15_000)
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Hand over left arm to IK, frames 5 to 20")

    def test_a_broken_file_is_refused_with_its_line(self) -> None:
        page = self.bench()
        page.goto(self.service.base + "/")
        expect(page.get_by_role("heading", name="Chain ferry")).to_be_visible(timeout=15_000)
        count = len(self.http.get("/scenes").json())
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "torn.bvh"
            lines = written(np.random.default_rng(1))[0].split("\n")
            lines[3] = "OFFSET 0 none 0"
            file.write_text("\n".join(lines))
            page.get_by_test_id("picker").set_input_files(file)
            expect(page.get_by_role("alert")).to_contain_text(
                "torn.bvh was not brought in. Line 4, at 'none'", timeout=15_000
            )
        self.assertEqual(len(self.http.get("/scenes").json()), count)

    def test_a_second_window_is_told_and_goes_on(self) -> None:
        first, second = self.bench(), self.bench()
        self.select(first, "right arm", 118, 204)
        expect(first.get_by_test_id("sentence")).to_be_visible(timeout=15_000)
        self.select(second, "left arm", 120, 180)
        expect(second.get_by_test_id("sentence")).to_be_visible(timeout=15_000)
        first.keyboard.press("Enter")
        self.wait_for_revision(first, "Hand over right arm")
        second.keyboard.press("Enter")
        expect(second.get_by_role("alert")).to_contain_text(
            "changed since you opened it: Hand over right arm", timeout=15_000
        )
        self.wait_for_revision(second, "Hand over right arm")

    def test_what_the_page_drags_is_what_the_core_solves(self) -> None:
        """A drag of the guide changes the swivel by what `pose.solve` says for the same place."""
        info = self.http.get(f"/takes/{self.take()}").json()
        drag = pose.Drag("marl", "arm.L", "guide", 150.0, (0.7, 1.3, 0.2))
        asked = {
            "revision": info["revision"],
            "frame": 150,
            "member": "marl",
            "part": "arm.L",
            "handle": "guide",
            "position": [0.7, 1.3, 0.2],
        }
        self.http.post(f"/takes/{self.take()}/pose", json=asked).raise_for_status()
        card = self.http.get(
            f"/takes/{self.take()}/card", params={"member": "marl", "part": "arm.L", "frame": 150}
        ).json()
        swivel = next(c["value"] for s in card["systems"] for c in s["channels"] if c["name"].endswith("swivel"))
        self.assertAlmostEqual(swivel, next(iter(pose.solve(demo(), drag).values.values())), places=12)
        page = self.bench()
        self.row(page, "left arm").click()
        field = page.get_by_label("Frame", exact=True)
        field.fill("150")
        field.press("Enter")
        expect(page.get_by_label("Part card")).to_contain_text(f"{np.degrees(swivel):.1f}°", timeout=15_000)
