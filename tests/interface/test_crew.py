"""Following in the real page: a hand on another's shoulder, a coil thrown and caught, an anchor made, followed and taken away."""

from __future__ import annotations

import re
import unittest

import numpy as np
from playwright.sync_api import Locator, Page, expect

from yielding_tether.core.transforms import inverse, rotate
from yielding_tether.demo.marl import marl

from .pages import Pages, choose


class Crew(Pages):
    bodies = True

    def places(self, take: int, times: list[float]) -> tuple[list[tuple[str, str]], np.ndarray, np.ndarray]:
        """Names, places (F, J, 3) and rotations (F, J, 4) of all joints, as the core computes them."""
        found = self.http.post(f"/takes/{take}/transforms", json={"times": times, "side": "leaving"}).json()
        return [tuple(n) for n in found["joints"]], np.array(found["positions"]), np.array(found["rotations"])

    def choose(self, page: Page, operation: str) -> Locator:
        return choose(page, operation)

    def apply(self, page: Page, words: str) -> None:
        button = page.get_by_test_id("offer").get_by_role("button", name="Apply ⏎")
        expect(button).to_be_enabled()
        button.click()
        self.wait_for_revision(page, words)

    def pulls(self, page: Page) -> list[tuple[float, float]]:
        """Where what can be dragged of a trial is on the screen."""
        page.wait_for_function(
            "() => { let n = 0; benchView.scene.traverse((o) => (n += o.geometry?.type === 'RingGeometry')); return n > 2; }"
        )
        found: list[tuple[float, float]] = page.evaluate(
            """() => { const { scene, camera, gl } = window.benchView; const box = gl.domElement.getBoundingClientRect();
            const out = []; scene.traverse((o) => { if (o.geometry?.type !== "RingGeometry") return;
            const v = o.getWorldPosition(camera.position.clone()).project(camera);
            out.push([box.left + (v.x + 1) / 2 * box.width, box.top + (1 - v.y) / 2 * box.height]); }); return out; }"""
        )
        return found

    def follow(self, page: Page, to: str, way: str) -> None:
        """Lets what is selected follow something, found in the list."""
        offer = self.choose(page, "Follow")
        offer.get_by_label("follow", exact=True).fill(to)
        page.get_by_role("option", name=to, exact=True).click()
        offer.get_by_role("button", name=way).click()
        self.apply(page, f"follows {to}")


class Cargo(Crew):
    scene = "Ferry with cargo"

    def test_a_hand_on_the_others_shoulder_goes_with_it_and_the_coil_is_caught_again(self) -> None:
        page = self.bench()
        # The first of the two arms of this name is Marl's.
        self.select(page, "left arm", 144, 156)
        self.choose(page, "Hand over")
        self.apply(page, "Hand over left arm to IK")
        self.select(page, "left arm", 146, 156)
        offer = self.choose(page, "Follow")
        offer.get_by_label("follow", exact=True).fill("Pip, left upper arm")
        page.get_by_role("option", name="Pip, left upper arm", exact=True).click()
        offer.get_by_role("button", name="ride along").click()
        offer.get_by_role("button", name="more…").click()
        offer.get_by_role("button", name="as it is here").click()
        expect(page.get_by_test_id("sentence")).to_contain_text("Nothing moves at the change")
        self.apply(page, "Left arm follows Pip, left upper arm")
        names, pos, rot = self.places(self.take(), [150.0, 152.0, 156.0])
        hand, shoulder = (names.index(n) for n in (("marl", "hand.L"), ("pip", "upperarm.L")))
        seen = rotate(inverse(rot[:, shoulder]), pos[:, hand] - pos[:, shoulder])
        self.assertLess(np.ptp(seen, axis=0).max(), 1e-6)
        self.assertGreater(np.ptp(pos[:, shoulder], axis=0).max(), 1e-4)
        # The coil: what pops as it is caught meets the hand where that is now.
        self.select(page, "Mooring rope", 34, 49)
        offer = self.choose(page, "Fly")
        expect(page.get_by_test_id("sentence")).to_contain_text("rises")
        # Its top is dragged up: it flies for longer.
        x, y = self.pulls(page)[2]
        page.mouse.move(x, y)
        expect(page.get_by_test_id("pointed")).to_have_text("its top")
        page.mouse.down()
        page.mouse.move(x, y - 12, steps=3)
        page.mouse.up()
        expect(offer).to_contain_text(re.compile(r"frames 34–5[0-6]"))
        last = int(offer.inner_text().split("34–")[1][:2])
        self.apply(page, "flies")
        names, pos, _ = self.places(self.take(), [float(f) for f in range(34, last)])
        fall = np.diff(pos[:, names.index(("rope", "rope"))], 2, axis=0)
        np.testing.assert_allclose(fall[:, 1], -9.81 / 24**2, atol=2e-5)
        self.assertEqual(self.errors, [])


class Night(Crew):
    scene = "Ferry by night"

    def test_the_lantern_is_passed_from_hand_to_hand_and_hung_up(self) -> None:
        """From a take in which the right hand holds it all along; who holds it is read in the core's own places."""
        page = self.bench()
        for first, to, way in (
            (0, "Marl, right hand", "snap to the grip"), (84, "Marl, left hand", "ride along"), (132, "Hook", "snap to the grip"),
        ):  # fmt: skip
            self.select(page, "Lantern", first, 192)
            self.follow(page, to, way)
        names, pos, rot = self.places(self.take(), [float(f) for f in range(192)])
        ring = names.index(("lantern", "lantern"))
        for first, last, holder in (
            (0, 84, ("marl", "hand.R")),
            (88, 132, ("marl", "hand.L")),
            (132, 192, ("hook", "hook")),
        ):
            node = names.index(holder)
            held = rotate(inverse(rot[first:last, node]), pos[first:last, ring] - pos[first:last, node])
            self.assertLess(np.ptp(held, axis=0).max(), 1e-6, holder)
        # The speed with which it came fades over four frames.
        self.assertLess(np.linalg.norm(np.diff(pos[80:88, ring], axis=0), axis=1).max(), 0.03)
        self.to_frame(page, 100)
        page.get_by_role("button", name="holds").click()
        expect(page.get_by_label("Who holds on to what")).to_contain_text("Marl's left hand")
        self.assertEqual(self.errors, [])

    def test_strands_join_a_selection_with_shift_and_lose_their_keys_together(self) -> None:
        """A drag, a click on a row's name, a drag on another strand; a click on one that is in it takes it out again."""
        page = self.bench()
        keys = lambda: {s["part"]: len(s["keys"]) for s in self.http.get(f"/takes/{self.take()}").json()["strands"]}  # noqa: E731
        before = keys()
        self.select(page, "left arm", 0, 192)
        self.choose(page, "Reset").get_by_role("button", name="as if never keyed").click()
        page.keyboard.down("Shift")
        self.row(page, "Lantern").click()
        self.row(page, "head").click()
        self.select(page, "spine", 20, 100)
        self.row(page, "head").click()
        page.keyboard.up("Shift")
        expect(page.get_by_test_id("offer").get_by_role("button", name="Reset", exact=True)).to_have_attribute(
            "aria-pressed", "true"
        )
        page.get_by_test_id("offer").get_by_role("button", name="as if never keyed").click()
        expect(page.get_by_test_id("sentence")).to_contain_text("removed")
        self.apply(page, "Reset left arm, lantern, spine, from frame 0 on")
        after = keys()
        gone = {p for p in before if after[p] < before[p]}
        self.assertEqual(gone, {"arm.L", "lantern", "spine"})
        self.assertEqual([after[p] for p in sorted(gone)], [0, 0, 0])
        self.assertEqual(self.errors, [])


class Torso(Crew):
    def test_the_head_leads_and_stays_the_chest_is_held_and_the_hips_swing(self) -> None:
        page = self.bench()
        self.settled(page)
        at = [float(f) for f in range(40, 100, 4)]
        self.select(page, "head", 30, 204)
        offer = self.choose(page, "Hand over")
        offer.get_by_role("button", name="head's lead").click()
        expect(page.get_by_test_id("sentence")).to_contain_text("Nothing moves at the change")
        self.apply(page, "Hand over head to head's lead")
        self.select(page, "head", 36, 204)
        self.follow(page, "the world", "ride along")
        expect(page.get_by_test_id("driver")).to_contain_text("Driven by head's lead, follows the world")
        names, _, rot = self.places(self.take(), at)
        head = names.index(("marl", "head"))
        self.assertLess(np.abs(rot[:, head] - rot[:1, head]).max(), 1e-6)
        # The chest held in the world, by IK; then the hips swing at a frame, and the chest stays where it was.
        self.select(page, "spine", 30, 204)
        self.choose(page, "Hand over")
        self.apply(page, "Hand over spine to IK")
        self.select(page, "spine", 32, 204)
        self.follow(page, "the world", "keep the motion")
        self.to_frame(page, 60)
        page.get_by_label("Part card").get_by_role("button", name="what drives, and more").click()
        field = page.get_by_label("stretches at this frame", exact=True)
        field.fill("1")
        field.press("Enter")
        self.wait_for_revision(page, "stretches")
        _, was, _ = self.places(self.take(), [60.0])
        # About a point above them, which is placed, chosen on the card and turned about in the view.
        hips = was[0, names.index(("marl", "hips"))]
        self.select(page, r"\bhips\b", 56, 204)
        offer = self.choose(page, "Points")
        for label, value in (("called", "belt"), ("at", f"{hips[0]:.4f} {hips[1] + 0.15:.4f} {hips[2]:.4f}")):
            offer.get_by_label(label, exact=True).fill(value)
            offer.get_by_label(label, exact=True).press("Enter")
        self.apply(page, "Place belt of Marl's hips")
        self.to_frame(page, 60)
        page.get_by_role("button", name="belt", exact=True).click()
        info = self.http.get(f"/takes/{self.take()}").json()
        x, y = self.projected(page, next(h["row"] for h in info["handles"] if h["turns"]), 60)
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + 8, y, steps=3)
        page.mouse.move(x + 16, y + 4, steps=4)
        page.wait_for_timeout(300)
        page.mouse.up()
        self.wait_for_revision(page, "Pose hips at frame 60")
        curve = self.http.get(f"/takes/{self.take()}/curves", params={"channel": "marl/hips.pivot.y"}).json()
        self.assertGreater(max(k["leaving"] for k in curve[0]["keys"]), 0.1)
        names, now, _ = self.places(self.take(), [60.0])
        chest, low = (names.index(("marl", n)) for n in ("chest", "spine.low"))
        self.assertLess(np.linalg.norm(now[0, chest] - was[0, chest]), 1e-6)
        self.assertGreater(np.linalg.norm(now[0, low] - was[0, low]), 1e-3)
        self.assertEqual(self.errors, [])


class Foot(Crew):
    def test_a_foot_is_rolled_by_its_heel_and_turned_about_its_toe(self) -> None:
        """Where it stands: the ball stays while the heel is drawn up, then the tip while it turns about that."""
        page = self.bench()
        self.settled(page)
        self.row(page, "right leg").click()
        self.to_frame(page, 20)
        expect(page.get_by_label("roll at this frame", exact=True)).to_have_value("0")
        names, was, _ = self.places(self.take(), [20.0])
        foot, toe = (names.index(("marl", n)) for n in ("foot.R", "toe.R"))
        info = self.http.get(f"/takes/{self.take()}").json()
        lever = next(h for h in info["handles"] if h["control"] == "leg.R.heel")
        x, y = self.projected(page, lever["row"], 20)
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x, y - 12, steps=4)
        page.mouse.move(x, y - 26, steps=6)
        page.wait_for_timeout(300)
        page.mouse.up()
        self.wait_for_revision(page, "heel of the right leg")
        rolled = page.get_by_label("roll at this frame", exact=True)
        expect(rolled).not_to_have_value("0")
        _, now, _ = self.places(self.take(), [20.0])
        self.assertGreater(float(rolled.input_value()), 5.0)
        self.assertGreater(now[0, foot, 1] - was[0, foot, 1], 0.01)
        self.assertLess(np.linalg.norm(now[0, toe] - was[0, toe]), 1e-5)
        # Up on the tip by the card, and turned about it: the tip stays where the core has it.
        sole = marl().part("leg.R").sole  # type: ignore[attr-defined]
        bones = marl().skeleton
        in_toe = np.array(sole.tip) - np.array(bones.joints[bones.index["toe.R"]].offset)
        tips = []
        for label, value in (("roll", "60"), ("turn about the tip", "25")):
            field = page.get_by_label(f"{label} at this frame", exact=True)
            field.fill(value)
            field.press("Enter")
            self.wait_for_revision(page, label)
            _, pos, rot = self.places(self.take(), [20.0])
            tips.append(pos[0, toe] + rotate(rot[0, toe], in_toe))
        self.assertLess(np.linalg.norm(tips[1] - tips[0]), 1e-5)
        self.assertGreater(pos[0, toe, 1], was[0, toe, 1] + 0.01)
        self.assertEqual(self.errors, [])


class Hand(Crew):
    def test_a_fist_is_made_and_a_hand_closed_on_the_rail(self) -> None:
        page = self.bench()
        self.settled(page)
        self.row(page, "right hand").click()
        self.to_frame(page, 20)
        field = page.get_by_label("fist at this frame", exact=True)
        field.fill("0.9")
        field.press("Enter")
        self.wait_for_revision(page, "fist")
        curves = self.http.get(f"/takes/{self.take()}/curves", params={"channel": "marl/fingers.R.value.fist"}).json()
        self.assertEqual([k["leaving"] for k in curves[0]["keys"]], [0.9])
        page.get_by_role("button", name="Undo", exact=True).click()
        expect(field).to_have_value("0")
        self.select(page, "right hand", 125, 204)
        offer = self.choose(page, "Close on")
        expect(offer.get_by_role("button", name="Rail", exact=True)).to_have_attribute("aria-pressed", "true")
        self.apply(page, "Close Marl's right hand on Rail")
        slip = page.get_by_test_id("proof")
        expect(slip).to_contain_text("On the rail: thumb, finger 1, finger 2, finger 3.")
        self.assertEqual(self.errors, [])


class Goat(Crew):
    scene = "Towpath"

    def test_a_hind_leg_is_handed_over_and_its_pop_repaired(self) -> None:
        page = self.bench()
        self.settled(page)
        at = [24.0, 31.5, 40.0, 55.0]
        names, was, _ = self.places(self.take(), at)
        self.select(page, "left hind leg", 24, 56)
        self.choose(page, "Hand over")
        expect(page.get_by_test_id("sentence")).to_contain_text("Nothing moves at the change")
        self.apply(page, "Hand over left hind leg to FK, frames 24 to 56")
        _, now, _ = self.places(self.take(), at)
        leg = [names.index(("brindle", f"{j}.L")) for j in ("thigh", "gaskin", "shank", "hind hoof")]
        self.assertLess(np.abs(now[[0, 3]][:, leg] - was[[0, 3]][:, leg]).max(), 0.03)
        self.assertLess(np.abs(now[0, leg] - was[0, leg]).max(), 1e-6)
        # In stiff pieces and back, while it plays.
        page.keyboard.press("Space")
        for pressed in ("false", "true"):
            page.keyboard.press("z")
            expect(page.get_by_role("button", name="light", exact=True)).to_have_attribute("aria-pressed", pressed)
        page.keyboard.press("Space")
        page.keyboard.press("n")
        self.apply(page, "Repair")
        expect(page.get_by_test_id("findings")).to_have_count(0)
        self.assertEqual(self.errors, [])


class Places(Crew):
    def test_an_anchor_is_made_by_a_click_followed_and_taken_away(self) -> None:
        page = self.bench()
        self.settled(page)
        names, was, _ = self.places(self.take(), [float(f) for f in range(0, 205, 3)])
        self.select(page, "right arm", 125, 204)
        offer = self.choose(page, "Make an anchor")
        # Its choices take room from the view.
        expect(offer.get_by_label("called", exact=True)).to_be_visible()
        self.settled(page)
        view = page.get_by_test_id("view").bounding_box()
        assert view
        at = view["x"] + 0.4 * view["width"], view["y"] + 0.85 * view["height"]
        page.mouse.move(at[0] - 40, at[1] - 20)
        page.mouse.move(*at, steps=8)
        # What the pointer is over lights up and says its name.
        expect(page.get_by_test_id("pointed")).to_have_text("Deck")
        page.mouse.click(*at)
        expect(offer.get_by_label("at", exact=True)).to_have_value(re.compile(r"^-?\d+\.\d+ -?\d+\.\d+ -?\d+\.\d+$"))
        offer.get_by_label("called", exact=True).fill("post")
        offer.get_by_label("called", exact=True).press("Enter")
        expect(page.get_by_test_id("sentence")).to_contain_text("Nothing moves at the change")
        self.apply(page, "Make post; right arm follows it")
        expect(page.get_by_test_id("driver")).to_contain_text("follows post")
        self.row(page, r"\bpost\b").click()
        expect(page.get_by_label("Part card")).to_contain_text("post")
        page.keyboard.press("[")
        self.choose(page, "Remove it")
        expect(page.get_by_test_id("sentence")).to_contain_text("Let go of it")
        self.apply(page, "Remove post")
        expect(self.row(page, r"\bpost\b")).to_have_count(0)
        _, now, _ = self.places(self.take(), [float(f) for f in range(0, 205, 3)])
        self.assertLess(np.abs(now - was).max(), 1e-3)
        self.assertIn(("marl", "hand.R"), names)
        self.assertEqual(self.errors, [])


if __name__ == "__main__":
    unittest.main()
