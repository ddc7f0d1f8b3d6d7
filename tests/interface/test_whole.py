"""A large cast at the bench: rows that fold, what nobody told the page of, a camera that keeps the body, many in hand."""

from __future__ import annotations

import json
import re

import numpy as np
from playwright.sync_api import Page, expect

from tests.core.test_handover import demo

from .pages import Pages, choose


class Crowd(Pages):
    """Three characters of some thirty rows each, one with a system and a strip with an operation that exist nowhere else."""

    bodies = True
    module = "tests.interface.extras"
    scene = "Three hands"

    def rows(self, page: Page) -> list[str]:
        return [r[0] for r in json.loads(page.get_by_test_id("strands").get_attribute("data-rows") or "[]")]

    def test_a_system_an_operation_and_choices_of_which_the_page_knows_nothing(self) -> None:
        page = self.bench()
        self.row(page, r"^\W*head\b").click()
        card = page.get_by_label("Part card")
        expect(card).to_contain_text("Driven by FK")
        expect(card.get_by_role("button", name="Twirl, idle")).to_be_visible()
        self.select(page, r"^\W*head\b", 40, 100)
        strip = page.get_by_test_id("offer")
        choose(page, "Hand over")
        expect(strip.get_by_role("button", name="Twirl", exact=True)).to_have_attribute("aria-pressed", "true")
        expect(page.get_by_test_id("sentence").first).to_contain_text("Nothing moves at the change")
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Hand over head to Twirl")
        expect(card).to_contain_text("Driven by Twirl")
        self.select(page, r"^\W*head\b", 120, 150)
        choose(page, "Shiver")
        expect(strip.get_by_label("by", exact=True)).to_be_hidden()
        strip.get_by_role("button", name="hard").click()
        strip.get_by_label("by", exact=True).fill("12")
        strip.get_by_label("by", exact=True).press("Enter")
        self.wait_for_revision(page, "Shiver head")
        self.assertEqual(self.errors, [])

    def test_ninety_rows_fold_are_found_and_pinned(self) -> None:
        page = self.bench()
        strands = page.get_by_label("Strands", exact=True)
        shown = self.rows(page)
        strand_count = len(self.http.get(f"/takes/{self.take()}").json()["strands"])
        self.assertGreater(strand_count, 90)
        self.assertLess(len(shown), strand_count / 3)
        for name in ("Marl", "Pip", "Wren"):
            expect(strands.get_by_role("button", name=re.compile(rf"^\W*{name}"))).to_be_visible()
        # Folded: a limb holds its fingers, a character all of itself.
        strands.get_by_role("button", name="Fold Pip").click()
        self.assertEqual([r for r in self.rows(page) if r.startswith("pip/")], [])
        strands.get_by_role("button", name="Unfold left arm").first.click()
        self.assertIn("marl/thumb.L", self.rows(page))
        # Found by typing, whatever is folded.
        page.keyboard.press("/")
        page.keyboard.type("pip: finger3")
        self.assertEqual(self.rows(page), [f"pip/finger3{j}.{s}" for s in "LR" for j in ("", ".mid", ".tip")])
        strands.get_by_label(re.compile("^Keep Pip: finger3.L on top")).click()
        page.get_by_label("Rows whose name contains").press("Escape")
        self.assertEqual(self.rows(page)[0], "pip/finger3.L")
        # A body clicked takes its part in hand, and its row is there.
        page.keyboard.press("c")
        page.keyboard.press("2")
        page.wait_for_timeout(700)
        info = self.http.get(f"/takes/{self.take()}").json()
        x, y = self.projected(page, info["joints"].index(["wren", "head"]), info["first"])
        page.mouse.click(x, y)
        expect(page.get_by_label("Part card").get_by_role("heading")).to_contain_text("head")
        self.assertIn("wren/head", self.rows(page))
        # All of that is there again at the next visit, and a link opens at its frame and part.
        page.wait_for_timeout(500)
        self.assertIn("part=wren/head", page.url)
        page.reload()
        expect(page.get_by_label("Part card").get_by_role("heading")).to_contain_text("head")
        self.assertEqual(self.rows(page)[0], "pip/finger3.L")
        self.assertNotIn("pip/head", self.rows(page))
        self.assertEqual(self.errors, [])


class Whole(Pages):
    def inside(self, page: Page, member: str, frame: int) -> None:
        """Every joint of a character lies within the view."""
        info = self.http.get(f"/takes/{self.take()}").json()
        view = page.get_by_test_id("view").bounding_box()
        assert view
        seen = self.all_projected(page, frame)
        for (owner, joint), (x, y) in zip(info["joints"], seen, strict=False):
            if owner == member:
                self.assertTrue(view["x"] <= x <= view["x"] + view["width"], f"{joint}, frame {frame}")
                self.assertTrue(view["y"] <= y <= view["y"] + view["height"], f"{joint}, frame {frame}")

    def camera(self, page: Page) -> np.ndarray:
        return np.array(page.evaluate("() => window.benchView.camera.position.toArray()"))

    def test_what_is_tried_hides_nothing_at_either_size(self) -> None:
        page = self.bench()
        for width, height in ((1280, 800), (1920, 1080)):
            page.set_viewport_size({"width": width, "height": height})
            self.select(page, "left leg", 40, 100)
            strip = page.get_by_test_id("offer")
            expect(strip).to_be_visible()
            # Where there is more room, the first tells it.
            for operation in strip.get_by_label("Operation").get_by_role("button").all()[: None if width < 1900 else 2]:
                operation.evaluate("button => button.click()")
                box, view, rows = (
                    x.bounding_box() for x in (strip, page.get_by_test_id("view"), page.get_by_test_id("strands"))
                )
                assert box and view and rows
                self.assertLess(box["height"], 80)
                self.assertGreaterEqual(box["y"], view["y"] + view["height"] - 1)
                self.assertLessEqual(box["y"] + box["height"], rows["y"] + 1)
                self.assertLessEqual(box["x"] + box["width"], width)
                right = strip.get_by_role("button", name="Drop Esc").bounding_box()
                assert right
                self.assertLessEqual(right["x"] + right["width"], width)
            page.keyboard.press("Escape")
        self.assertEqual(self.errors, [])

    def test_the_body_is_whole_in_every_view_and_stays_so_as_the_take_goes_on(self) -> None:
        page = self.bench()
        for key in "12345":
            page.keyboard.press(key)
            page.wait_for_timeout(500)
            self.inside(page, "marl", 118)
        page.keyboard.press("1")
        for frame in (0, 60, 76, 204):
            self.to_frame(page, frame)
            page.wait_for_timeout(500)
            self.inside(page, "marl", frame)
        # From where it stands: the part in hand fills the view, then the body again; by keys nearer and round.
        page.keyboard.press("i")
        page.wait_for_timeout(500)
        near = self.camera(page)
        page.keyboard.press("6")
        page.wait_for_timeout(500)
        self.inside(page, "marl", 204)
        self.assertGreater(float(np.linalg.norm(self.camera(page) - near)), 0.3)
        for keys in ("+", "Control+ArrowLeft", "Control+Shift+ArrowUp"):
            before = self.camera(page)
            page.keyboard.press(keys)
            page.wait_for_timeout(300)
            self.assertGreater(float(np.linalg.norm(self.camera(page) - before)), 0.05, keys)
        self.assertEqual(self.errors, [])

    def test_it_goes_with_a_set_piece_and_views_are_kept(self) -> None:
        page = self.bench()
        info = self.http.get(f"/takes/{self.take()}").json()
        deck = info["joints"].index(["deck", "deck"])
        page.get_by_label("Viewpoint").click()
        page.get_by_role("menuitem", name="ferry deck").or_(
            page.get_by_role("menuitem", name=re.compile("^deck"))
        ).first.click()
        self.to_frame(page, 20)
        page.wait_for_timeout(300)
        self.settled(page)
        seen = self.projected(page, deck, 20)
        self.to_frame(page, 50)
        page.wait_for_timeout(300)
        self.settled(page)
        again = self.projected(page, deck, 50)
        self.assertLess(np.hypot(seen[0] - again[0], seen[1] - again[1]), 1.0)
        page.get_by_label("Viewpoint").click()
        page.get_by_label("Name of this view").fill("by the rail")
        page.get_by_role("button", name="Keep", exact=True).click()
        expect(page.get_by_role("menu")).to_be_hidden()
        place = self.camera(page)
        page.keyboard.press("3")
        page.wait_for_timeout(400)
        page.get_by_label("Viewpoint").click()
        page.get_by_role("menuitem", name="by the rail").click()
        page.wait_for_timeout(600)
        np.testing.assert_allclose(self.camera(page), place, atol=1e-6)
        self.assertEqual(self.errors, [])

    def test_the_current_frame_is_always_in_sight(self) -> None:
        page = self.bench()
        sheet = page.get_by_test_id("strands")
        box = sheet.bounding_box()
        assert box
        page.mouse.move(box["x"] + 700, box["y"] + 10)
        page.keyboard.down("Control")
        for _ in range(12):
            page.mouse.wheel(0, -200)
        page.keyboard.up("Control")
        page.wait_for_timeout(200)

        def shown() -> tuple[float, float]:
            return float(sheet.get_attribute("data-first") or 0), float(sheet.get_attribute("data-last") or 0)

        self.assertLess(shown()[1] - shown()[0], 60)
        for frame in (3, 200, 118):
            self.to_frame(page, frame)
            expect(page.get_by_test_id("frame-mark")).to_have_text(str(frame))
            self.assertTrue(shown()[0] <= frame <= shown()[1])
        page.keyboard.press("e")
        page.wait_for_timeout(200)
        self.assertEqual(shown(), (0.0, 204.0))
        # Two frames visited last, by one key; a stretch played round and round.
        self.to_frame(page, 60)
        page.keyboard.press("q")
        expect(page.get_by_label("Frame", exact=True)).to_have_value("118")
        page.keyboard.press("q")
        expect(page.get_by_label("Frame", exact=True)).to_have_value("60")
        self.select(page, "left leg", 80, 90)
        expect(page.get_by_test_id("offer")).to_contain_text("frames 80–90")
        page.keyboard.press("u")
        # Space plays though the strip has the focus.
        page.keyboard.press("Space")
        expect(page.get_by_role("button", name="Stop")).to_be_visible()
        for _ in range(6):
            page.wait_for_timeout(150)
            frame = int(page.get_by_label("Frame", exact=True).input_value())
            self.assertTrue(80 <= frame <= 90, frame)
        page.keyboard.press("Space")
        self.assertEqual(self.errors, [])

    def joints(self, names: list[str], frame: int) -> np.ndarray:
        info = self.http.get(f"/takes/{self.take()}").json()
        raw = self.http.get(f"/takes/{self.take()}/poses", params={"first": frame, "last": frame}).content
        rows = [info["joints"].index(["marl", n]) for n in names]
        return np.frombuffer(raw, "<f4").reshape(-1, 7)[rows]

    def drag(self, page: Page, at: tuple[float, float], by: tuple[float, float]) -> None:
        page.mouse.move(*at)
        page.mouse.down()
        page.mouse.move(at[0] + by[0] / 2, at[1] + by[1] / 2, steps=3)
        page.mouse.move(at[0] + by[0], at[1] + by[1], steps=3)
        page.wait_for_timeout(300)
        page.mouse.up()

    def test_ends_stay_while_the_hips_are_dragged(self) -> None:
        page = self.bench()
        self.to_frame(page, 150)
        self.row(page, r"^\W*hips").click()
        page.keyboard.press("Shift+A")
        ends = ["hand.L", "hand.R", "foot.L", "foot.R"]
        before = self.joints([*ends, "hips"], 150)
        page.wait_for_timeout(500)
        self.drag(page, self.on_screen(page, "hips"), (0, 18))
        self.wait_for_revision(page, "4 kept in place")
        after = self.joints([*ends, "hips"], 150)
        self.assertLess(float(np.abs(after[:4] - before[:4]).max()), 1e-5)
        self.assertGreater(float(np.linalg.norm(after[4, :3] - before[4, :3])), 0.01)
        self.assertEqual(self.errors, [])

    def test_two_in_hand_go_together(self) -> None:
        page = self.bench()
        self.to_frame(page, 150)
        before = self.joints(["foot.L", "foot.R"], 150)
        # From the front, where no foot is before the other; once the view has settled.
        page.keyboard.press("2")
        page.wait_for_timeout(300)
        self.settled(page)
        page.keyboard.down("Shift")
        for limb in ("leg.L", "leg.R"):
            page.mouse.click(*self.grab(page, limb, 0))
            page.wait_for_timeout(200)
            self.settled(page)
        page.keyboard.up("Shift")
        right = self.grab(page, "leg.R", 0)
        self.drag(page, right, (20, -12))
        self.wait_for_revision(page, "and 1 more")
        went = self.joints(["foot.L", "foot.R"], 150)[:, :3] - before[:, :3]
        self.assertLess(float(np.abs(went[0] - went[1]).max()), 1e-5)
        self.assertGreater(float(np.linalg.norm(went[0])), 0.01)
        self.assertEqual(self.errors, [])

    def test_a_value_is_dragged_and_put_back(self) -> None:
        page = self.bench()
        self.to_frame(page, 150)
        self.row(page, "left leg").click()
        card = page.get_by_label("Part card")
        field = card.get_by_label("swivel at this frame", exact=True)
        # The card has come for this frame once it shows the value that the core has there.
        there = demo()
        channel = there.channels["marl/leg.L.ik.swivel"]
        was = round(float(np.degrees(there.sample([150.0], channels=np.array([channel]))[0, 0])), 3)
        expect(field).to_have_value(f"{was:g}")
        expect(card.get_by_text("swivel", exact=True)).to_be_visible()
        page.wait_for_timeout(500)
        word = card.get_by_text("swivel", exact=True).bounding_box()
        assert word
        self.drag(page, (word["x"] + 10, word["y"] + 5), (40, 0))
        self.wait_for_revision(page, "Add 1 key")
        expect(field).to_have_value(str(round(was + 20, 3)).removesuffix(".0"))
        # A box is ticked by Space, which elsewhere plays.
        box = card.get_by_label("Curve of swivel", exact=True)
        box.focus()
        page.keyboard.press("Space")
        expect(box).to_be_checked()
        expect(page.get_by_role("button", name="Play")).to_be_visible()
        card.get_by_text("swivel", exact=True).hover()
        card.get_by_label("Put swivel back").click()
        expect(field).to_have_value("0")
        self.assertEqual(self.errors, [])

    def test_what_is_delivered_is_told_and_checked_first(self) -> None:
        page = self.bench()
        page.get_by_role("button", name="Deliver").click()
        write = page.get_by_role("button", name="Write the file")
        expect(write).to_be_enabled()
        for bad in ("", "-4", "900", "3.5", "x"):
            page.get_by_label("to frame").fill(bad)
            expect(write).to_be_disabled()
        page.get_by_label("to frame").fill("40")
        page.get_by_label("BVH: skeleton").check()
        expect(page.get_by_test_id("holds")).to_contain_text("Left out: the body's shape")
        with page.expect_download() as file:
            write.click()
        self.assertIn(b"Frames: 41", file.value.path().read_bytes())
        self.assertEqual(self.errors, [])
