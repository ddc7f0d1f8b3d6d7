"""The real page in real Chromium, as a new user would use it; its figures compared with the core's."""

from __future__ import annotations

import re
import tempfile
from pathlib import Path

import numpy as np
from playwright.sync_api import expect

from tests.core.test_handover import demo
from tests.formats.test_bvh import written
from tests.interface.pages import Pages
from yielding_tether.core.operations import handover, pose
from yielding_tether.core.proof import Proof


class Bench(Pages):
    def proof(self) -> Proof:
        return handover.apply(demo(), handover.Handover((("marl", "arm.R"),), "ik", 118.0))[1]

    def test_the_planted_pop_is_repaired_as_a_new_user_would(self) -> None:
        page = self.open()
        page.wait_for_url(re.compile(r"/take/\d+"))
        self.drawn(page)
        expect(page.get_by_label("Frame", exact=True)).to_have_value("118")
        pop = 1000 * self.proof().changes[0].pose_before
        expect(page.get_by_test_id("findings")).to_contain_text(f"right arm jumps {pop:.1f} mm")
        expect(page.get_by_test_id("first-step")).to_contain_text("press Enter")
        before = self.head()
        self.select(page, "right arm", 118, 204)
        sentence = page.get_by_test_id("sentence")
        expect(sentence).to_contain_text(f"Nothing moves at the change (was {pop:.1f} mm)")
        counts = self.proof().keys
        expect(sentence).to_contain_text(f"{counts.kept} kept, {counts.added} added, {counts.removed} removed")
        # Tried, not applied: the take still stands where it was, the meter shows both.
        self.assertEqual(self.head(), before)
        expect(page.get_by_test_id("meter")).to_have_attribute(
            "aria-label", re.compile(rf"jump {pop:.3f} mm.*; tried: .* 0\.000 mm")
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

    def test_of_controls_that_lie_over_one_another_that_of_the_part_in_hand_is_dragged(self) -> None:
        page = self.bench()
        self.to_frame(page, 124)
        # From the side the left hand is before the right one.
        page.keyboard.press("3")
        self.row(page, "right arm").click()
        expect(page.get_by_label("Part card").get_by_role("heading")).to_contain_text("right arm")
        self.settled(page)
        (x, y), over = self.grab(page, "arm.R", 0), self.grab(page, "arm.L", 0)
        self.assertLess(np.hypot(x - over[0], y - over[1]), 12)
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x, y - 20, steps=3)
        page.mouse.up()
        self.wait_for_revision(page, "Pose right arm at frame 124")

    def test_who_asked_for_less_motion_gets_none(self) -> None:
        page = self.bench()
        play = page.get_by_role("button", name="Play", exact=True)
        lasts = "e => parseFloat(getComputedStyle(e).transitionDuration)"
        self.addCleanup(page.emulate_media, reduced_motion="reduce")
        page.emulate_media(reduced_motion="no-preference")
        self.assertGreater(play.evaluate(lasts), 0.05)
        page.emulate_media(reduced_motion="reduce")
        self.assertLess(play.evaluate(lasts), 1e-3)

    def test_escape_drops_what_is_tried(self) -> None:
        page = self.bench()
        before = self.head()
        self.select(page, "left arm", 120, 180)
        expect(page.get_by_test_id("offer")).to_contain_text("frames 120–180")
        expect(page.get_by_test_id("proof")).to_contain_text("Tried, not applied")
        expect(page.get_by_role("button", name="FK", exact=True)).to_have_attribute("aria-pressed", "true")
        page.keyboard.press("Escape")
        expect(page.get_by_test_id("offer")).to_have_count(0)
        self.assertEqual(self.head(), before)

    def test_choices_are_tried_as_they_are_made(self) -> None:
        page = self.bench()
        self.select(page, "right arm", 20, 60)
        expect(page.get_by_test_id("proof")).to_contain_text("Tried")
        carried = page.get_by_test_id("sentence").inner_text()
        page.get_by_role("button", name="hold the pose").click()
        expect(page.get_by_test_id("sentence")).not_to_have_text(carried)
        page.get_by_role("button", name="Apply").click()
        self.wait_for_revision(page, "frames 20 to 60, pose held")

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
        expect(page.get_by_test_id("driver")).to_contain_text("Driven by FK")
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
        page.wait_for_function("() => Number(document.querySelector('[aria-label=Frame]').value) > 5")
        page.keyboard.press("Space")
        page.keyboard.press("?")
        expect(page.get_by_role("dialog")).to_contain_text("First steps and keys")

    def test_the_picture_holds_no_more_however_often_it_is_played_and_parts_are_taken(self) -> None:
        page = self.bench()
        page.get_by_role("button", name="trails", exact=True).click()
        held = []
        for _ in range(4):
            for name in ("left arm", "right arm"):
                self.row(page, name).click()
                page.evaluate("() => document.activeElement?.blur()")
                for shown in ("Stop", "Play"):
                    page.keyboard.press("Space")
                    expect(page.get_by_role("button", name=shown, exact=True)).to_be_visible()
                    page.evaluate(
                        "() => new Promise((drawn) => requestAnimationFrame(() => requestAnimationFrame(drawn)))"
                    )
            held.append(page.evaluate("() => window.benchView.gl.info.memory.geometries"))
        self.assertEqual(held[1:], held[1:2] * 3)

    def test_the_card_shows_both_systems_as_the_core_has_them(self) -> None:
        page = self.bench()
        card = page.get_by_label("Part card")
        expect(card).to_contain_text("Driven by IK, follows rail")
        limb = demo().bounds["marl", "arm.R"]
        values = demo().sample([118.0], 0, limb.systems["ik"].channels)[:, 0]
        for label, value in (("move x", 1000 * values[0]), ("swivel", np.degrees(values[6]))):
            field = card.get_by_label(f"{label} at this frame", exact=True)
            self.assertAlmostEqual(float(field.input_value()), float(value), delta=5.1e-4)
        card.get_by_role("button", name=re.compile("FK, idle")).click()
        expect(card).to_contain_text("stored, and as the pose wants it")

    def test_a_capture_comes_in_and_is_handed_over_at_once(self) -> None:
        page = self.open()
        page.wait_for_url(re.compile(r"/take/\d+"))
        self.drawn(page)
        page.goto(self.service.base + "/")
        expect(page.get_by_role("heading", name="Chain ferry")).to_be_visible()
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "deck walk.bvh"
            file.write_text(written(np.random.default_rng(1), frames=30)[0])
            page.get_by_test_id("picker").set_input_files(file)
            page.wait_for_url(re.compile(r"/take/\d+"))
        self.drawn(page)
        # What was noticed is unfolded by who wants to read it.
        told = page.get_by_role("alert")
        expect(told.get_by_text("Read as centimetres")).to_be_hidden()
        told.locator("summary").click()
        expect(told.get_by_text("Read as centimetres")).to_be_visible()
        told.get_by_role("button", name="Close").click()
        expect(page.get_by_test_id("driver")).to_contain_text("Driven by the capture")
        self.select(page, "left arm", 5, 20)
        expect(page.get_by_test_id("sentence")).to_contain_text("Nothing moves at the change")
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Hand over left arm to IK, frames 5 to 20")

    def test_a_broken_file_is_refused_with_its_line(self) -> None:
        page = self.bench()
        page.goto(self.service.base + "/")
        expect(page.get_by_role("heading", name="Chain ferry")).to_be_visible()
        count = len(self.http.get("/scenes").json())
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "torn.bvh"
            lines = written(np.random.default_rng(1))[0].split("\n")
            lines[3] = "OFFSET 0 none 0"
            file.write_text("\n".join(lines))
            page.get_by_test_id("picker").set_input_files(file)
            expect(page.get_by_role("alert")).to_contain_text("torn.bvh was not brought in. Line 4, at 'none'")
        self.assertEqual(len(self.http.get("/scenes").json()), count)

    def test_a_second_window_is_told_and_goes_on(self) -> None:
        first, second = self.bench(), self.bench()
        self.select(first, "right arm", 118, 204)
        expect(first.get_by_test_id("sentence")).to_be_visible()
        self.select(second, "left arm", 120, 180)
        expect(second.get_by_test_id("sentence")).to_be_visible()
        first.keyboard.press("Enter")
        self.wait_for_revision(first, "Hand over right arm")
        second.keyboard.press("Enter")
        expect(second.get_by_role("alert")).to_contain_text("changed since you opened it: Hand over right arm")
        self.wait_for_revision(second, "Hand over right arm")
        # What the second window tried is tried again on the newer state, and goes on from there.
        expect(second.get_by_role("alert")).to_contain_text("Enter applies it")
        # Two windows draw in software on the same cores: they may need their time.
        expect(second.get_by_test_id("proof")).to_contain_text("Tried, not applied")
        second.keyboard.press("Enter")
        self.wait_for_revision(second, "Hand over left arm")
        labels = [r["label"] for r in self.http.get(f"/takes/{self.take()}/revisions").json()[-2:]]
        self.assertEqual([x.split(",")[0] for x in labels], ["Hand over right arm to IK", "Hand over left arm to FK"])

    def test_what_the_page_drags_is_what_the_core_solves(self) -> None:
        """A drag of the guide changes the swivel by what `pose.solve` says for the same place."""
        info = self.http.get(f"/takes/{self.take()}").json()
        drag = pose.Drag("marl", "arm.L", "arm.L.guide", 150.0, (0.7, 1.3, 0.2))
        asked = {
            "revision": info["revision"],
            "frame": 150,
            "member": "marl",
            "part": "arm.L",
            "control": "arm.L.guide",
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
        shown = page.get_by_label("swivel at this frame", exact=True)
        expect(shown).to_have_value(f"{np.degrees(swivel):.3f}".rstrip("0").rstrip("."))
