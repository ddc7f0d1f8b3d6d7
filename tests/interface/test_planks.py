"""Contacts and transfer in the real page: planks are clicked, planted, dragged, taken away, found anew; a take is moved to
another version of its character. Figures as the core has them."""

from __future__ import annotations

import re
from typing import Any

import numpy as np
from playwright.sync_api import Page, expect

from tests.core.test_bake import crossing
from tests.interface.pages import Pages, choose
from yielding_tether.core.contact_finding import find
from yielding_tether.core.contacts import measure
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Contact
from yielding_tether.core.transforms import inverse, rotate
from yielding_tether.demo import named
from yielding_tether.demo.cast_off import cast_off
from yielding_tether.formats import bvh


class OnStrands(Pages):
    def planks(self, part: str) -> list[dict[str, Any]]:
        strands = self.http.get(f"/takes/{self.take()}").json()["strands"]
        found: list[dict[str, Any]] = next(s for s in strands if s["part"] == part)["contacts"]
        return found

    def at(self, page: Page, label: str, frame: float) -> tuple[float, float]:
        """Where a frame of a row's planks is on the screen."""
        sheet = page.get_by_test_id("strands")
        box, row = sheet.bounding_box(), self.row(page, label).bounding_box()
        assert box and row
        low, high = (float(sheet.get_attribute(a) or 0) for a in ("data-first", "data-last"))
        return box["x"] + 10 + (frame - low) * (box["width"] - 20) / (high - low), row["y"] + row["height"] - 5


class Planks(OnStrands):
    def test_fingertips_are_planted_each_by_itself(self) -> None:
        page = self.bench()
        self.select(page, "left hand", 130, 180)
        offer = choose(page, "Plant")
        expect(page.get_by_role("combobox", name="on")).to_have_value("Rail")
        offer.get_by_role("button", name="tip of finger 1", exact=True).click()
        expect(page.get_by_test_id("sentence")).to_contain_text(
            "Marl's left finger 1 tip on the rail slips 0 mm and 0.00°"
        )
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Plant left hand on Rail")
        (plank,) = self.planks("fingers.L")
        self.assertEqual(
            (plank["of"], plank["anchor"], plank["first"], plank["last"]), ("left finger 1 tip", "the rail", 130, 180)
        )
        self.assertLess(plank["slip"], 1e-6)
        self.to_frame(page, 150)
        expect(page.get_by_label("Part card")).to_contain_text(
            "Left finger 1 tip on the rail, frames 130–180, slips 0 mm"
        )
        self.assertEqual(self.errors, [])

    def test_a_nudge_is_tried_with_a_little_and_told_by_how_much(self) -> None:
        page = self.bench()
        foot = [n for m, n in self.http.get(f"/takes/{self.take()}").json()["joints"] if m == "marl"].index("foot.L")
        asked = {"times": [62.0, 67.0, 71.0], "side": "leaving", "member": "marl"}
        was = np.array(self.http.post(f"/takes/{self.take()}/transforms", json=asked).json()["positions"])[:, foot]
        self.select(page, "left leg", 66, 68)
        offer = page.get_by_test_id("offer")
        choose(page, "Nudge")
        # As much ease as there is room for beside the contacts.
        expect(offer.get_by_label("ease over")).to_have_value("5")
        offer.get_by_label("up", exact=True).fill("3")
        offer.get_by_label("up", exact=True).press("Tab")
        expect(page.get_by_test_id("sentence")).to_contain_text("contacts keep their places")
        offer.get_by_role("button", name="Apply ⏎").click()
        self.wait_for_revision(page, "Nudge Marl's left leg, frames 66 to 68")
        now = np.array(self.http.post(f"/takes/{self.take()}/transforms", json=asked).json()["positions"])[:, foot]
        self.assertAlmostEqual(now[1, 1] - was[1, 1], 0.03, delta=2e-3)
        self.assertTrue(np.all(now[[0, 2], 1] - was[[0, 2], 1] < 0.03))
        self.assertEqual(self.errors, [])

    def test_an_edge_is_dragged_and_a_plank_taken_away(self) -> None:
        page = self.bench()
        start, y = self.at(page, "left leg", 73)
        end, _ = self.at(page, "left leg", 66)
        page.mouse.move(start, y)
        page.mouse.down()
        page.mouse.move((start + end) / 2, y, steps=3)
        page.mouse.move(end, y, steps=3)
        # Dropped at once: the frame goes along with the edge.
        expect(page.get_by_label("Frame", exact=True)).to_have_value("66")
        page.mouse.up()
        self.wait_for_revision(page, "left leg on the deck: frames 66 to 204")
        plank = self.planks("leg.L")[1]
        self.assertEqual((plank["first"], plank["last"]), (66, 204))
        program = Program(*cast_off())
        known = measure(program, Contact("marl", "foot.L", "deck", "deck", 66.0, 204.0))
        self.assertAlmostEqual(plank["slip"], float(known.place.max()), places=9)
        expect(page.get_by_test_id("proof")).to_contain_text(f"slips {1000 * plank['slip']:.1f} mm")
        page.mouse.click(*self.at(page, "left leg", 120))
        expect(page.get_by_test_id("offer")).to_be_visible()
        page.keyboard.press("Delete")
        self.wait_for_revision(page, "Take 1 contact of left leg away")
        self.assertEqual(len(self.planks("leg.L")), 1)
        page.keyboard.press("Control+z")
        self.wait_for_revision(page, "left leg on the deck")
        self.assertEqual(len(self.planks("leg.L")), 2)
        self.assertEqual(self.errors, [])

    def test_contacts_are_found_over_a_stretch(self) -> None:
        page = self.bench()
        self.select(page, "right leg", 0, 204)
        offer = page.get_by_test_id("offer")
        choose(page, "Contacts")
        # All are there: the strip proposes to take them away, then to find them.
        expect(offer.get_by_role("button", name="take them away")).to_have_attribute("aria-pressed", "true")
        expect(page.get_by_test_id("sentence")).to_be_visible()
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Take 2 contacts of right leg away")
        self.select(page, "right leg", 0, 204)
        choose(page, "Contacts")
        expect(offer.get_by_role("button", name="find them here")).to_have_attribute("aria-pressed", "true")
        expect(page.get_by_test_id("sentence")).to_contain_text("right leg on the deck")
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Find 2 contacts of right leg")
        known = [c for c in find(Program(*cast_off())) if c.joint == "foot.R"]
        self.assertEqual([(p["first"], p["last"]) for p in self.planks("leg.R")], [(c.first, c.last) for c in known])
        self.assertEqual(self.errors, [])

    def test_a_dial_blends_and_a_click_keeps_the_pose(self) -> None:
        page = self.bench()
        self.to_frame(page, 140)
        dial = page.get_by_role("slider", name="How far it follows rail")
        expect(dial).to_have_attribute("aria-valuetext", "100 %")
        rail = dial.locator("xpath=ancestor::*[contains(@class, 'MuiSlider-root')]").bounding_box()
        assert rail
        y = rail["y"] + rail["height"] / 2
        page.mouse.move(rail["x"] + rail["width"], y)
        page.mouse.down()
        page.mouse.move(rail["x"] + rail["width"] / 2, y, steps=4)
        # Seen before it is let go, as a ghost with its proof; nothing is written.
        expect(page.get_by_test_id("proof")).to_contain_text("Tried, not applied")
        self.wait_for_revision(page, "As opened")
        page.mouse.up()
        page.wait_for_function(
            "() => document.body.innerText.includes('Undo') && !document.body.innerText.includes('As opened')"
        )
        expect(dial).not_to_have_attribute("aria-valuetext", "100 %")
        weight = int((dial.get_attribute("aria-valuetext") or "0").split()[0]) / 100
        self.assertAlmostEqual(weight, 0.5, delta=0.1)
        curves = self.http.get(
            f"/takes/{self.take()}/curves",
            params={"channel": ["marl/arm.R.ik.rail.position", "marl/arm.R.ik.rail.rotation"]},
        ).json()
        for c in curves:
            self.assertEqual([k["leaving"] for k in c["keys"] if k["time"] == 140], [weight])
        page.keyboard.press("Control+z")
        self.wait_for_revision(page, "As opened")
        page.get_by_label("Part card").get_by_role("button", name="rail").click()
        expect(page.get_by_test_id("offer").get_by_role("button", name="Follow", exact=True)).to_have_attribute(
            "aria-pressed", "true"
        )
        expect(page.get_by_test_id("sentence")).to_contain_text("Nothing moves at the change")
        self.assertEqual(self.errors, [])

    def test_a_capture_moves_to_a_body_whose_names_carry_a_prefix(self) -> None:
        program = crossing()
        written = bvh.write(program, program.scene.members[0].id, 0, 40).decode()
        prefixed = re.sub(r"(ROOT|JOINT) (\S+)", r"\1 crew:\2", written)
        ids = {}
        for name, text in (("plain", written), ("prefixed", prefixed)):
            sent = self.http.post("/import", params={"filename": f"{name}.bvh"}, content=text.encode())
            ids[name] = sent.raise_for_status().json()
        page = self.open()
        page.evaluate("() => localStorage.setItem('visited', '1')")
        page.goto(self.service.base + "/")
        page.get_by_role("button", name="Move to… another character: plain").click()
        page.get_by_role("combobox", name="To").click()
        page.get_by_role("option", name=re.compile("^prefixed")).click()
        # The prefix is proposed, everything matches, and that is said before anything is done.
        expect(page.get_by_label("Prefix of names there")).to_have_value("crew:")
        expect(page.get_by_test_id("transfer-sentence")).to_contain_text("everything matches")
        expect(page.get_by_test_id("transfer-sentence")).to_contain_text("within 0 mm")
        # A prefix that is wrong is told at once; put right again it is moved.
        page.get_by_label("Prefix of names there").fill("captain:")
        expect(page.get_by_role("table", name="What does not match")).to_contain_text(
            "has no samples; it stays at rest"
        )
        page.get_by_label("Prefix of names there").fill("crew:")
        expect(page.get_by_test_id("transfer-sentence")).to_contain_text("everything matches")
        page.get_by_label("Name of the new take").fill("Crossing moved")
        page.get_by_role("button", name="Move", exact=True).click()
        page.wait_for_url(re.compile(r"/take/\d+"))
        made = int(page.url.rsplit("/", 1)[1])
        times = {"times": [0.0, 7.5, 40.0]}
        a, b = (
            self.http.post(f"/takes/{take}/transforms", json=times).raise_for_status().json()
            for take in (ids["plain"]["take_id"], made)
        )
        self.assertEqual(self.http.get(f"/takes/{made}").json()["name"], "Crossing moved")
        np.testing.assert_allclose(b["positions"], a["positions"], atol=1e-6)
        self.assertEqual(self.errors, [])


class Slipping(OnStrands):
    scene = "Ferry by night"

    def test_a_plank_is_clicked_and_planted(self) -> None:
        # The hand strays on the rail by some millimetres.
        nudge = {
            "revision": self.head(), "operation": "nudge", "parts": [{"member": "marl", "part": "arm.R"}],
            "first": 126, "last": 134, "choices": {"x": 0.3, "ease": 8},
        }  # fmt: skip
        self.http.post(f"/takes/{self.take()}/apply", json=nudge).raise_for_status()
        page = self.bench()
        page.get_by_role("button", name="Repair all").click()
        expect(page.get_by_test_id("sentence")).to_contain_text("Nothing moves at the change")
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Repair 3 findings")
        slips = 1000 * self.planks("arm.R")[0]["slip"]
        self.assertGreater(slips, 1.0)
        page.mouse.click(*self.at(page, "right arm", 130))
        expect(page.get_by_test_id("offer").get_by_role("button", name="Plant", exact=True)).to_have_attribute(
            "aria-pressed", "true"
        )
        expect(page.get_by_role("combobox", name="on")).to_have_value("Rail")
        expect(page.get_by_test_id("sentence")).to_contain_text(
            re.compile(rf"right arm on the rail slips 0 mm and 0\.00°, from frame 104 to 160 \(was {slips:.1f} mm"),
        )
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Plant right arm on Rail")
        self.assertLess(self.planks("arm.R")[0]["slip"], 1e-4)
        self.assertEqual(self.errors, [])


class Rough(OnStrands):
    scene = "Ferry in rough water"

    def test_a_raw_capture_is_planted_from_heel_to_ball_in_one_go(self) -> None:
        page = self.bench()
        there = len(self.http.get(f"/takes/{self.take()}/revisions").json())
        self.assertEqual(self.planks("leg.L"), [])
        # From one end of both legs' strands to the other.
        self.row(page, "left leg").click()
        page.keyboard.press("Home")
        page.keyboard.press("[")
        page.keyboard.press("End")
        page.keyboard.press("]")
        offer = page.get_by_test_id("offer")
        choose(page, "Plant")
        expect(offer.get_by_role("button", name="every stance in it")).to_have_attribute("aria-pressed", "true")
        expect(page.get_by_test_id("sentence")).to_contain_text("speed passes on")
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Plant all stances of left leg")
        planks = self.planks("leg.L")
        found = find(Program(*named("Rough crossing")), [("marl", "leg.L")])
        self.assertEqual([(p["first"], p["last"]) for p in planks], [(c.first, c.last) for c in found])
        self.assertEqual([len(p["points"]) for p in planks], [len(c.points) for c in found])
        self.assertLess(max(p["slip"] for p in planks), 1e-4)
        # The core says the same of the ball while the heel is up.
        rolls = next(p for p in planks if any(x["last"] > p["last"] + 5 for x in p["points"]))
        ball = next(x for x in rolls["points"] if x["name"] == "ball")
        times = np.arange(rolls["last"], ball["last"], 0.5).tolist()
        asked = {"times": times, "side": "leaving"}
        got = self.http.post(f"/takes/{self.take()}/transforms", json=asked).json()
        names = [tuple(n) for n in got["joints"]]
        pos, rot = np.array(got["positions"]), np.array(got["rotations"])
        deck, toe = names.index(("deck", "deck")), names.index(("marl", "toe.L"))
        local = rotate(inverse(rot[:, deck]), pos[:, toe] - pos[:, deck])
        self.assertLess(np.ptp(local, axis=0).max(), 1e-4)
        self.assertEqual(len(self.http.get(f"/takes/{self.take()}/revisions").json()), there + 1)
        page.get_by_role("button", name="Undo").click()
        expect(page.get_by_test_id("revision")).not_to_contain_text("Plant all")
        self.assertEqual(self.planks("leg.L"), [])
        self.assertEqual(self.errors, [])

    def test_a_raw_capture_is_made_workable_by_a_worker_and_each_step_is_undone_by_itself(self) -> None:
        page = self.bench()
        self.row(page, "left leg").click()
        page.keyboard.press("Home")
        page.keyboard.press("[")
        self.to_frame(page, 70)
        page.keyboard.press("]")
        offer = page.get_by_test_id("offer")
        choose(page, "Make workable")
        # It tells how far it is, and Esc drops it.
        expect(offer.get_by_test_id("progress")).to_contain_text(re.compile("Finding contacts|Planting|Baking|Waiting"))
        page.keyboard.press("Escape")
        expect(offer).to_have_count(0)
        self.select(page, "left leg", 0, 70)
        choose(page, "Make workable")
        steps = page.get_by_label("Steps", exact=True)
        expect(steps).to_be_visible()
        there = len(self.http.get(f"/takes/{self.take()}/revisions").json())
        labels = steps.locator("summary").all_inner_texts()
        self.assertEqual([re.sub("^[^A-Z]*", "", x).split()[0] for x in labels], ["Find", "Plant", "Bake"])
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Bake")
        self.assertEqual(len(self.http.get(f"/takes/{self.take()}/revisions").json()), there + 3)
        after = self.http.get(f"/takes/{self.take()}").json()
        self.assertTrue(after["proof"]["within"] and after["proof"]["contacts_kept"])
        slips = [p["slip"] for part in ("leg.L", "leg.R") for p in self.planks(part)]
        self.assertGreaterEqual(len(slips), 2)
        self.assertLess(max(slips), 1e-4)
        for gone, left in (("Bake", "Plant"), ("Plant", "Find"), ("Find", "As opened")):
            page.get_by_role("button", name="Undo").click()
            expect(page.get_by_test_id("revision")).not_to_contain_text(gone)
            self.wait_for_revision(page, left)
        self.assertEqual(self.planks("leg.L"), [])
        self.assertEqual(self.errors, [])
