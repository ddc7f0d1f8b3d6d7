"""Every part of a capture in the real page: handed to keys and back, crossfaded, its findings worked to empty."""

from __future__ import annotations

import re
import tempfile
from pathlib import Path

import numpy as np
from playwright.sync_api import Page, expect

from tests.core.test_handover import demo
from tests.interface.pages import Pages, choose
from yielding_tether.core.transforms import inverse, rotate, rotation_distance
from yielding_tether.formats import bvh


class Following(Pages):
    scene = "Ferry by night"
    bodies = True

    def test_a_lantern_follows_what_is_found_or_clicked_and_lets_go(self) -> None:
        page = self.bench()
        self.select(page, "Lantern", 60, 192)
        offer = page.get_by_test_id("offer")
        choose(page, "Follow")
        field = offer.get_by_label("follow", exact=True)
        field.click()
        page.keyboard.type("left hand")
        expect(page.get_by_role("option").first).to_have_text("Marl, left hand")
        page.keyboard.press("Enter")
        expect(field).to_have_value("Marl, left hand")
        expect(page.get_by_test_id("sentence")).to_contain_text("Nothing moves at the change")
        # What stands in the view is chosen by a click instead.
        page.mouse.click(*self.on_screen(page, "head"))
        expect(field).to_have_value("Marl, head")
        expect(page.get_by_test_id("sentence")).to_contain_text("Nothing moves at the change")
        expect(offer.get_by_role("button", name="Apply ⏎")).to_be_enabled()
        offer.get_by_role("button", name="Apply ⏎").click()
        self.wait_for_revision(page, "Lantern follows Marl, head, from frame 60 on")
        expect(page.get_by_test_id("driver")).to_contain_text("follows Marl's head")
        # The page says what the core measured: the lantern keeps its place in the head.
        asked = {"times": [70, 130, 190], "side": "leaving"}
        take = self.http.post(f"/takes/{self.take()}/transforms", json=asked).json()
        names = [tuple(n) for n in take["joints"]]
        head, lantern = (names.index(n) for n in (("marl", "head"), ("lantern", "lantern")))
        pos, rot = np.array(take["positions"]), np.array(take["rotations"])
        local = rotate(inverse(rot[:, head]), pos[:, lantern] - pos[:, head])
        self.assertLess(float(np.abs(local - local[:1]).max()), 1e-9)
        self.select(page, "Lantern", 100, 150)
        choose(page, "Drop a follow")
        expect(offer.get_by_role("button", name="Apply ⏎")).to_be_enabled()
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Drop the follow head of lantern")
        self.assertEqual(self.errors, [])


class Turning(Pages):
    def test_the_head_stays_while_the_body_turns_and_is_let_go_again(self) -> None:
        page = self.bench()
        self.select(page, r"\bhead\b", 20, 204)
        offer = page.get_by_test_id("offer")
        choose(page, "Follow")
        expect(offer.get_by_role("button", name="head", exact=True)).to_have_attribute("aria-pressed", "true")
        offer.get_by_role("button", name="ride along").click()
        expect(page.get_by_test_id("sentence")).to_contain_text("Nothing moves at the change")
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Head follows the world, from frame 20 on")
        expect(page.get_by_test_id("driver")).to_contain_text("head turns with the world")
        self.assertLess(self.turned([26, 40, 58]), 1e-6)
        # Let go again: it moves with the neck from there on, from the pose that it has.
        self.select(page, r"\bhead\b", 60, 204)
        choose(page, "Follow")
        field = offer.get_by_label("follow", exact=True)
        field.click()
        page.get_by_role("option", name="its own space").click()
        offer.get_by_role("button", name="ride along").click()
        expect(page.get_by_test_id("sentence")).to_contain_text("Nothing moves at the change")
        expect(offer.get_by_role("button", name="Apply ⏎")).to_be_enabled()
        offer.get_by_role("button", name="Apply ⏎").click()
        self.wait_for_revision(page, "Head follows its own space, from frame 60 on")
        self.assertLess(self.turned([26, 40, 58]), 1e-6)
        self.assertGreater(self.turned([66, 90, 120]), 0.05)
        # Half of it, on the dial.
        self.to_frame(page, 40)
        page.keyboard.press("f")
        holds = page.get_by_label("Who holds on to what")
        expect(holds).to_contain_text("head↻turns with the world")
        expect(holds).to_contain_text("left leg→follows deck")
        page.keyboard.press("f")
        page.get_by_label("How far head goes with the world").press("ArrowLeft")
        self.wait_for_revision(page, "Add 1 key of head, follows world, rotation")
        expect(page.get_by_label("How far head goes with the world")).to_have_attribute("aria-valuenow", "99")
        self.assertEqual(self.errors, [])

    def turned(self, times: list[int]) -> float:
        """By how much the head turns in the world between these frames, as the core computes it."""
        take = self.http.post(f"/takes/{self.take()}/transforms", json={"times": times, "side": "leaving"}).json()
        head = [tuple(n) for n in take["joints"]].index(("marl", "head"))
        turns = np.array(take["rotations"])[:, head]
        return float(rotation_distance(turns, turns[:1]).max())


class Capture(Pages):
    brought = 0

    def take(self) -> int:
        return self.brought

    def setUp(self) -> None:
        self.begin()
        self.data = bvh.write(demo(), "marl", 0, 100)

    def brought_in(self, name: str, button: str | None = None) -> Page:
        page = self.open("/take/1")
        expect(page.get_by_test_id("strands")).to_be_visible()
        page.goto(self.service.base + "/")
        expect(page.get_by_role("heading", name="Chain ferry")).to_be_visible()
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / f"{name}.bvh"
            file.write_bytes(self.data)
            if button is None:
                page.get_by_test_id("picker").set_input_files(file)
            else:
                section = page.get_by_role("region", name=button, exact=True)
                with page.expect_file_chooser() as chosen:
                    section.get_by_role("button", name="Bring in a take…").click()
                chosen.value.set_files(file)
            page.wait_for_url(re.compile(r"/take/\d+"))
        found = re.search(r"/take/(\d+)", page.url)
        assert found
        self.brought = int(found[1])
        self.drawn(page)
        return page

    def places(self, revision: int | None = None) -> np.ndarray:
        """(F, joints, 3) of the whole take at half-frames, as the core has them."""
        asked: dict[str, object] = {"times": np.arange(0, 200.5, 0.5).tolist(), "side": "leaving", "member": "body"}
        if revision is not None:
            asked["revision"] = revision
        found = self.http.post(f"/takes/{self.take()}/transforms", json=asked).raise_for_status().json()
        return np.array(found["positions"])

    def do(self, page: Page, label: str, first: int, last: int, words: str, *clicks: str) -> None:
        """Drags along a strand, chooses, applies."""
        self.select(page, label, first, last)
        offer = page.get_by_test_id("offer")
        expect(offer).to_be_visible()
        for name in clicks:
            (
                choose(page, name)
                if name in ("Bake", "Crossfade", "Mirror", "Plant")
                else offer.get_by_role("button", name=name, exact=True).click()
            )
        expect(page.get_by_test_id("sentence")).to_be_visible()
        expect(offer.get_by_role("button", name="Apply ⏎")).to_be_enabled()
        page.keyboard.press("Enter")
        self.wait_for_revision(page, words)

    def test_every_part_goes_to_keys_and_back_to_the_capture(self) -> None:
        page = self.brought_in("crossing")
        page.get_by_role("alert").get_by_role("button", name="Close").click()
        was = self.places()
        handed = (("spine", "FK"), ("left hand", "FK"), ("right leg", "IK"))
        for label, to in handed:
            self.do(page, label, 20, 60, f"Hand over {label} to {to}, frames 20 to 60", to, "every frame")
        keyed = self.places()
        self.assertGreater(float(np.abs(keyed - was).max()), 0.0)
        self.assertLess(float(np.linalg.norm(keyed - was, axis=-1).max()), 0.02)
        self.assertEqual(self.http.get(f"/takes/{self.take()}").json()["findings"], [])
        for label, _ in handed:
            self.do(page, label, 20, 60, f"Hand over {label} to the capture, frames 20 to 60", "the capture")
        self.assertEqual(self.places().tobytes(), was.tobytes())
        # A hand fades over from the capture to its keys; that is wanted and no finding.
        self.do(page, "left hand", 30, 38, "Crossfade left hand to FK, frames 30 to 38", "Crossfade", "FK")
        expect(page.get_by_label("Strands", exact=True)).to_be_visible()
        self.assertEqual(self.http.get(f"/takes/{self.take()}").json()["findings"], [])
        # The leg's keys are pulled apart until there is something to repair; then nothing is left.
        self.do(page, "right leg", 20, 60, "Hand over right leg to IK, frames 20 to 60", "IK")
        self.select(page, "right leg", 10, 70)
        offer = page.get_by_test_id("offer")
        choose(page, "Keys")
        offer.get_by_role("button", name=re.compile("^move")).first.click()
        offer.get_by_label("by", exact=True).fill("3")
        expect(offer.get_by_role("button", name="Apply ⏎")).to_be_enabled()
        page.keyboard.press("Enter")
        slip = page.get_by_test_id("findings")
        expect(slip).to_contain_text("2 findings")
        expect(slip).to_contain_text(re.compile(r"right leg jumps .* at frame 23"))
        page.keyboard.press("Shift+R")
        expect(page.get_by_test_id("sentence")).to_contain_text("Nothing moves at the change")
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Repair 2 findings")
        expect(slip).to_have_count(0)
        self.assertEqual(self.http.get(f"/takes/{self.take()}").json()["findings"], [])
        # Outside of the stretches that were worked on nothing has moved in all this.
        now = self.places()
        self.assertEqual(now[:40].tobytes(), was[:40].tobytes())
        self.assertEqual(now[150:].tobytes(), was[150:].tobytes())
        self.assertEqual(self.errors, [])

    def test_the_whole_job_in_one_go(self) -> None:
        """A capture baked with few keys, a foot planted, a hand that follows the body, mirrored, compared, delivered."""
        page = self.brought_in("crossing")
        page.get_by_role("alert").get_by_role("button", name="Close").click()
        self.do(page, "left leg", 0, 100, "Bake left leg, from frame 0 on", "Bake", "IK")
        keys = [len(c["keys"]) for c in self.curves("body/leg.L.ik.tx", "body/leg.L.ik.rz", "body/leg.L.ik.swivel")]
        self.assertLess(max(keys), 40)
        self.do(page, "left leg", 20, 50, "Plant left leg on the world, frames 20 to 50", "Plant")
        self.assertLess(self.slip("foot.L", 20, 50), 1e-4)
        self.do(page, "left arm", 0, 100, "Bake left arm, from frame 0 on", "Bake", "IK")
        self.select(page, "left arm", 60, 90)
        offer = page.get_by_test_id("offer")
        choose(page, "Follow")
        field = offer.get_by_label("follow", exact=True)
        field.click()
        page.keyboard.type("chest")
        page.keyboard.press("ArrowDown")
        page.keyboard.press("Enter")
        expect(field).to_have_value("crossing, chest")
        offer.get_by_role("button", name="ride along", exact=True).click()
        expect(offer.get_by_role("button", name="Apply ⏎")).to_be_enabled()
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Left arm follows crossing, chest, frames 60 to 90")
        before = self.places()
        self.do(page, "left leg", 0, 100, "Mirror crossing, from frame 0 on", "Mirror")
        self.assertLess(self.slip("foot.R", 20, 50), 1e-4)
        # In the mirror the feet are about as far apart as before, on each other's side.
        names = [n for m, n in self.http.get(f"/takes/{self.take()}").json()["joints"]]
        left, right = names.index("foot.L"), names.index("foot.R")
        after = self.places()
        apart = [np.linalg.norm(p[::2, left] - p[::2, right], axis=1) for p in (before, after)]
        self.assertLess(float(np.abs(apart[0] - apart[1]).max()), 1e-2)
        page.keyboard.press("v")
        page.get_by_role("dialog").get_by_role("button", name="Compare").first.click()
        expect(page.get_by_role("button", name="Worst frame")).to_be_visible()
        page.go_back()
        self.drawn(page)
        page.get_by_role("button", name="Deliver").click()
        expect(page.get_by_test_id("holds")).to_contain_text("Left out: keys, systems, follows")
        with page.expect_download() as file:
            page.get_by_role("button", name="Write the file").click()
        self.assertEqual(Path(file.value.path()).read_bytes()[:4], b"glTF")
        self.assertEqual(self.errors, [])

    def curves(self, *channels: str) -> list[dict]:  # type: ignore[type-arg]
        found: list[dict] = []  # type: ignore[type-arg]
        for channel in channels:
            found += self.http.get(f"/takes/{self.take()}/curves", params={"channel": channel}).json()
        return found

    def slip(self, joint: str, first: float, last: float) -> float:
        """Metres by which a joint leaves its place in the world, at quarter-frames."""
        asked = {"times": np.arange(first, last, 0.25).tolist(), "side": "leaving", "member": "body"}
        found = self.http.post(f"/takes/{self.take()}/transforms", json=asked).json()
        names = [n for _, n in found["joints"]]
        place = np.array(found["positions"])[:, names.index(joint)]
        return float(np.linalg.norm(place - place[0], axis=1).max())

    def test_a_capture_comes_in_as_a_further_take(self) -> None:
        page = self.brought_in("again", "Chain ferry")
        scene = next(s for s in self.http.get("/scenes").json() if s["name"] == "Chain ferry")
        self.assertEqual([t["name"] for t in scene["takes"]], ["Cast off", "again"])
        expect(page.get_by_role("alert")).to_contain_text("a further take of Chain ferry")
        self.assertEqual(self.errors, [])
