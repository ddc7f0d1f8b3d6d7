"""Takes tidied and put in their place: swings lifted, a noisy ankle smoothed, a take mirrored, placed, led in."""

from __future__ import annotations

import re
import unittest

import numpy as np
from playwright.sync_api import Page, expect

from tests.interface.pages import Pages, choose
from yielding_tether.core.transforms import Floats, inverse, rotate


class Tidy(Pages):
    def joint(self, name: tuple[str, str], times: Floats, on: tuple[str, str] | None = None) -> Floats:
        """(F, 3) where the core has a joint at times, in the world or in another joint."""
        asked = {"times": times.tolist(), "side": "leaving"}
        got = self.http.post(f"/takes/{self.take()}/transforms", json=asked).json()
        names = [tuple(n) for n in got["joints"]]
        pos, rot = np.array(got["positions"]), np.array(got["rotations"])
        here = pos[:, names.index(name)]
        if on is None:
            return here
        stage = names.index(on)
        found: Floats = rotate(inverse(rot[:, stage]), here - pos[:, stage])
        return found

    def apply(self, page: Page, words: str) -> None:
        expect(page.get_by_test_id("proof")).to_contain_text("Tried, not applied")
        expect(page.get_by_test_id("offer").get_by_role("button", name="Apply ⏎")).to_be_enabled()
        page.keyboard.press("Enter")
        self.wait_for_revision(page, words)


class Lifted(Tidy):
    def test_swings_are_lifted_a_take_is_mirrored_placed_compared_and_led_in(self) -> None:
        page = self.bench()
        times = np.arange(0.0, 204.5, 0.5)
        was = self.joint(("marl", "foot.L"), times)
        self.select(page, "left leg", 0, 204)
        offer = choose(page, "Lift the swings")
        offer.get_by_label("higher by").fill("5")
        page.keyboard.press("Tab")
        expect(page.get_by_test_id("sentence")).to_contain_text("50.0 mm")
        expect(page.get_by_test_id("sentence")).to_contain_text("contacts keep their places")
        self.apply(page, "Lift 1 swing of left leg")
        now = self.joint(("marl", "foot.L"), times)
        self.assertAlmostEqual(float((now - was)[:, 1].max()), 0.05, delta=1e-4)
        stands = (times <= 60.0) | (times >= 73.0)
        np.testing.assert_array_equal(now[stands], was[stands])
        # Mirrored, it begins as the original does; from the list of those for which there is no room.
        self.select(page, "left leg", 0, 204)
        offer = choose(page, "Mirror")
        offer.get_by_role("button", name="more…").click()
        offer.get_by_role("button", name="as the original").click()
        # A click there leaves Enter to what was tried.
        offer.get_by_role("button", name="less").click()
        hips = self.joint(("marl", "hips"), times[:1])
        self.apply(page, "Mirror Marl")
        np.testing.assert_allclose(self.joint(("marl", "hips"), times[:1]), hips, atol=0.02)
        # Enter applies what was chosen from behind the button, too.
        self.select(page, "left leg", 0, 204)
        choose(page, "Lead in")
        self.apply(page, "Lead Marl into the take over 24 frames")
        info = self.http.get(f"/takes/{self.take()}").json()
        self.assertEqual((info["first"], info["last"]), (-24, 204))
        expect(page.get_by_test_id("strands")).to_have_attribute("data-first", "-24")
        page.get_by_role("button", name="Undo").click()
        expect(page.get_by_test_id("strands")).to_have_attribute("data-first", "0")
        self.assertEqual(self.errors, [])


class Smoothed(Tidy):
    scene = "Ferry in rough water"

    def test_an_ankle_is_smoothed_and_where_it_stands_it_slips_less(self) -> None:
        page = self.bench()
        self.select(page, "left leg", 0, 506)
        choose(page, "Contacts")
        self.apply(page, "contacts of left leg")
        planks = next(
            s["contacts"] for s in self.http.get(f"/takes/{self.take()}").json()["strands"] if s["part"] == "leg.L"
        )
        one = max(planks, key=lambda p: p["last"] - p["first"])
        frames, deck = np.arange(one["first"], one["last"] + 0.5), ("deck", "deck")
        was = self.joint(("marl", "foot.L"), frames, deck)
        page.keyboard.press("Escape")
        self.select(page, "left leg", 0, 506)
        offer = choose(page, "Smooth")
        # How much noise there was is told, and that it is less now.
        expect(page.get_by_test_id("sentence")).to_contain_text("dB less")
        # Its spectrum is drawn, and a click there says from where on it is noise.
        chart = page.get_by_test_id("chart")
        expect(chart).to_have_attribute(
            "aria-label", re.compile(r"faster than, Hz; at 15 Hz: before -\d+ dB, after -\d+ dB")
        )
        box = chart.bounding_box()
        assert box is not None
        page.mouse.click(box["x"] + 0.4 * box["width"], box["y"] + 0.5 * box["height"])
        expect(offer.get_by_label("take away what is faster than")).not_to_have_value("15.1")
        picked = float(offer.get_by_label("take away what is faster than").input_value())
        self.assertAlmostEqual(picked, 30.0 * (0.4 * 272 - 10) / 252, delta=0.4)
        expect(page.get_by_test_id("sentence")).to_contain_text(f"faster than {picked:.1f} Hz")
        self.apply(page, "Smooth left leg")
        now = self.joint(("marl", "foot.L"), frames, deck)
        quick = [float(np.abs(np.diff(x, 2, axis=0)).mean()) for x in (was, now)]
        self.assertLess(quick[1], 0.3 * quick[0])
        self.assertLess(*(float(np.ptp(x, axis=0).max()) for x in (now, was)))
        self.assertEqual(self.errors, [])


class GoesRound(Tidy):
    scene = "Towpath"

    def test_a_stretch_of_a_trot_becomes_a_loop_and_a_leg_goes_onto_the_other_side(self) -> None:
        page = self.bench()
        self.select(page, "left foreleg", 10, 50)
        choose(page, "Loop")
        expect(page.get_by_test_id("sentence")).to_contain_text("It closes within 0.000 mm")
        self.apply(page, "Loop Brindle, frames 10 to 50")
        expect(page.get_by_test_id("strands")).to_have_attribute("data-first", "10")
        expect(page.get_by_test_id("strands")).to_have_attribute("data-last", "50")
        ends = np.array([10.0, 50.0])
        hips, hoof = (self.joint(("brindle", j), ends) for j in ("hips", "hoof.L"))
        np.testing.assert_allclose((hoof - hips)[0], (hoof - hips)[1], atol=1e-9)
        # One leg alone, within the body: its partner does what it does, on the other side.
        self.select(page, "left foreleg", 10, 50)
        offer = choose(page, "Mirror")
        offer.get_by_role("button", name="these parts in the body").click()
        offer.get_by_role("button", name="put onto the other side").click()
        # What does not count for parts is not asked for.
        expect(offer.get_by_role("button", name="its own heading")).to_have_count(0)
        left = self.joint(("brindle", "hoof.L"), np.array([30.0]), ("brindle", "chest"))
        self.apply(page, "Mirror left foreleg")
        right = self.joint(("brindle", "hoof.R"), np.array([30.0]), ("brindle", "chest"))
        np.testing.assert_allclose(right, left * [-1.0, 1.0, 1.0], atol=2e-3)
        # Undone, and done again, faster than any of it is answered: each press counts.
        steps, warned = page.get_by_test_id("strands"), page.get_by_role("alert")
        for keys, last in (("Control+z", "100"), ("Control+Shift+z", "50"), ("Control+z", "100")):
            page.keyboard.press(keys)
            page.keyboard.press(keys)
            expect(steps).to_have_attribute("data-last", last)
            expect(warned).to_have_count(0)
        self.wait_for_revision(page, "As opened")
        self.assertEqual(self.errors, [])


if __name__ == "__main__":
    unittest.main()
