"""A day at the bench in the real page: findings worked to empty, keys and slopes, comparison, clips, help, access."""

from __future__ import annotations

import json
import re

import numpy as np
from playwright.sync_api import Page, Route, expect

from tests.core.test_findings import clean
from tests.core.test_handover import demo
from tests.interface.pages import Pages
from tests.servers import ROOT
from yielding_tether.core.clips import copy
from yielding_tether.core.curves import sample
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations import paste, repair
from yielding_tether.core.program import Program
from yielding_tether.core.proof import prove
from yielding_tether.demo.lantern_round import lantern_round
from yielding_tether.formats import bvh

AXE = ROOT / "web/node_modules/axe-core/axe.min.js"


class Findings(Pages):
    scene = "Ferry by night"

    def test_findings_are_worked_to_empty(self) -> None:
        page = self.bench()
        found = find_all(Program(*lantern_round()))
        slip = page.get_by_test_id("findings")
        expect(slip).to_contain_text(f"{len(found)} findings")
        for finding in found:
            expect(slip).to_contain_text(finding.sentence)
        # The first is repaired alone, the second is wanted, the rest go with the keyboard.
        page.get_by_role("button", name=f"Repair: {found[0].sentence}").click()
        program = Program(*lantern_round())
        _, proof = repair.apply(program, [found[0].key])
        counts = f"{proof.keys.kept} kept, {proof.keys.added} added, {proof.keys.removed} removed"
        expect(page.get_by_test_id("sentence")).to_contain_text(counts)
        expect(page.get_by_test_id("sentence")).to_contain_text("outside unchanged")
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Repair: ")
        expect(slip).to_contain_text("2 findings")
        page.get_by_role("button", name=f"This is wanted: {found[1].sentence}").click()
        self.wait_for_revision(page, "Wanted: ")
        expect(slip).to_contain_text("1 finding")
        page.get_by_role("button", name=re.compile("1 wanted as it is")).click()
        page.get_by_role("button", name="open again").click()
        self.wait_for_revision(page, "Open again: ")
        page.evaluate("() => document.activeElement?.blur()")
        page.keyboard.press("Shift+R")
        expect(page.get_by_test_id("sentence")).to_contain_text("Nothing moves at the change")
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Repair 2 findings")
        self.assertEqual(self.http.get(f"/takes/{self.take()}").json()["findings"], [])
        expect(page.get_by_test_id("findings")).to_have_count(0)
        self.assertEqual(self.errors, [])


class Keys(Pages):
    def lay(self, page: Page, *labels: str) -> None:
        for label in labels:
            page.get_by_label(f"Curve of {label}", exact=True).click()
        expect(page.get_by_test_id("curves")).to_have_attribute("aria-label", re.compile(re.escape(labels[-1])))

    def test_a_heading_lays_out_all_that_tells_something(self) -> None:
        page = self.bench()
        page.get_by_role("button", name="Curves", exact=True).click()
        expect(page.get_by_test_id("curves").locator("..")).to_contain_text("No curve is laid out")
        page.get_by_label("Curves of IK, driving").click()
        info = self.http.get(f"/takes/{self.take()}").json()
        asked = {"member": "marl", "part": "arm.R", "frame": 118, "revision": info["revision"]}
        card = self.http.get(f"/takes/{info['id']}/card", params=asked).json()
        (driving,) = (s for s in card["systems"] if s["driving"])
        for c in driving["channels"]:
            box = page.get_by_label(f"Curve of {c['label']}", exact=True)
            expect(box).to_be_checked(checked=c["keyed"] or c["own"] != c["standard"])
        page.get_by_label("Curves of IK, driving").click()
        expect(page.get_by_test_id("strands")).to_be_visible()
        self.assertEqual(self.errors, [])

    def at(self, page: Page, frame: float, share: float) -> tuple[float, float]:
        sheet = page.get_by_test_id("curves")
        box = sheet.bounding_box()
        assert box
        low, high = (float(sheet.get_attribute(a) or 0) for a in ("data-first", "data-last"))
        return box["x"] + 10 + (frame - low) * (box["width"] - 20) / (high - low), box["y"] + share * box["height"]

    def stored(self, channel: str) -> list[dict]:  # type: ignore[type-arg]
        found = self.http.get(f"/takes/{self.take()}/curves", params={"channel": channel}).json()
        return found[0]["keys"]  # type: ignore[no-any-return]

    def height(self, page: Page, frame: float) -> float:
        """Where on the sheet a value of the head's turn stands: the whole shown range fills the page's sheet."""
        c = demo().take.curves["marl/head.ry"]
        shown = np.concatenate([c.numbers[:, 1], c.numbers[:, 2], sample(c, np.linspace(0, 204, 65))])
        value = float(sample(c, [frame])[0])
        middle, span = (shown.max() + shown.min()) / 2, max(shown.max() - shown.min(), 0.02)
        page.wait_for_function("() => document.querySelector('[data-testid=curves]').clientHeight > 100")
        box = page.get_by_test_id("curves").bounding_box()
        assert box
        return 0.5 - (value - middle) / span * (box["height"] - 32) / box["height"]

    def test_a_key_is_moved_and_a_slope_changed_in_the_curves(self) -> None:
        page = self.bench()
        self.row(page, "head").click()
        self.to_frame(page, 58)
        self.lay(page, "head, turn y")
        channel = "marl/head.ry"
        before = self.stored(channel)
        key = next(k for k in before if k["time"] == 58)
        x, y = self.at(page, 58, self.height(page, 58))
        page.mouse.move(x, y)
        page.mouse.down()
        to, _ = self.at(page, 62, 0)
        page.mouse.move(to, y + 20, steps=5)
        page.mouse.up()
        self.wait_for_revision(page, "Move 1 key of head, turn y by 4 frames")
        moved = self.stored(channel)
        here = next(k for k in moved if k["time"] == 62)
        self.assertLess(here["leaving"], key["leaving"])
        self.assertEqual([k for k in moved if k["time"] != 62], [k for k in before if k["time"] != 58])
        # The page draws the ghost of what was there before: the curve of the revision before.
        expect(page.get_by_test_id("picked")).to_contain_text("1 key picked")
        page.get_by_role("button", name="flat", exact=True).click()
        self.wait_for_revision(page, "Set 1 key of head, turn y (rule)")
        flat = next(k for k in self.stored(channel) if k["time"] == 62)
        self.assertEqual((flat["slope_in"], flat["slope_out"], flat["rule"]), (0.0, 0.0, 2))
        # By keyboard: the picked key moves in time; a lock keeps it from being deleted.
        page.evaluate("() => document.activeElement?.blur()")
        page.keyboard.press("Alt+ArrowRight")
        self.wait_for_revision(page, "by 1 frames")
        self.assertTrue(any(k["time"] == 63 for k in self.stored(channel)))
        page.get_by_role("button", name="lock", exact=True).click()
        self.wait_for_revision(page, "(lock)")
        page.evaluate("() => document.activeElement?.blur()")
        page.keyboard.press("Delete")
        expect(page.get_by_role("alert")).to_contain_text("is locked")
        self.assertEqual(self.errors, [])

    def test_a_value_is_typed_and_a_part_keyed(self) -> None:
        page = self.bench()
        self.row(page, "head").click()
        self.to_frame(page, 70)
        field = page.get_by_label("head, turn y at this frame", exact=True)
        # The card has come for this frame once it shows the value that the core has there.
        value = float(np.degrees(sample(demo().take.curves["marl/head.ry"], [70.0])[0]))
        expect(field).to_have_value(f"{value:.3f}".rstrip("0").rstrip("."))
        field.fill("12.5")
        field.press("Enter")
        self.wait_for_revision(page, "Add 1 key of head, turn y")
        key = next(k for k in self.stored("marl/head.ry") if k["time"] == 70)
        self.assertAlmostEqual(key["leaving"], float(np.radians(12.5)), places=12)
        page.evaluate("() => document.activeElement?.blur()")
        page.keyboard.press("k")
        self.wait_for_revision(page, "Key head at frame 70")
        page.get_by_role("button", name="Delete the key of head, turn y at this frame").click()
        self.wait_for_revision(page, "Delete 1 key of head, turn y")

    def test_keys_of_a_stretch_move_together(self) -> None:
        page = self.bench()
        self.select(page, "left arm", 40, 70)
        page.get_by_role("button", name="Keys", exact=True).click()
        field = page.get_by_label("by", exact=True)
        field.fill("3")
        expect(page.get_by_test_id("sentence")).to_contain_text("keys: ")
        page.get_by_role("button", name="Apply").click()
        self.wait_for_revision(page, "by 3 frames")
        times = {k["time"] for k in self.stored("marl/upperarm.L.rx")}
        old = set(demo().take.curves["marl/upperarm.L.rx"].times.tolist())
        self.assertEqual(times, {t + 3 if 40 <= t <= 70 else t for t in old})

    def test_the_auto_key_rule_is_shown_and_switched(self) -> None:
        page = self.bench()
        page.get_by_label("What letting go of a drag keys").locator("..").click()
        page.get_by_role("option", name="nothing until K").click()
        expect(page.get_by_role("listbox")).to_be_hidden()
        page.evaluate("() => document.activeElement?.blur()")
        before = self.head()
        page.keyboard.press("Alt+ArrowUp")
        expect(page.get_by_role("alert")).to_contain_text("Not keyed yet")
        self.assertEqual(self.head(), before)
        page.keyboard.press("k")
        self.wait_for_revision(page, "Pose right arm at frame 118")


class Layered(Pages):
    def at(self, frames: list[float]) -> np.ndarray:
        asked = {"times": frames, "side": "leaving", "member": "marl"}
        return np.array(self.http.post(f"/takes/{self.take()}/transforms", json=asked).json()["positions"])

    def test_a_swing_is_lifted_on_a_layer_the_leg_handed_over_beneath_it_and_all_merged(self) -> None:
        page = self.bench()
        frames, outside = np.arange(62.0, 73.0).tolist(), [40.0, 61.0, 73.0, 120.0]
        was, around = self.at(frames), self.at(outside)
        self.row(page, "left leg").click()
        self.select(page, "left leg", 62, 73)
        # What is tried takes its place in the picture before the panel does.
        expect(page.get_by_text("Tried, not applied")).to_be_visible()
        page.keyboard.press("Shift+L")
        panel = page.get_by_label("Layers", exact=True)
        panel.get_by_role("button", name=re.compile(r"^On \d+–\d+")).click()
        self.wait_for_revision(page, "Make layer untitled")
        chosen = panel.get_by_role("button", name="untitled", exact=True)
        expect(chosen).to_have_attribute("aria-pressed", "true")
        page.keyboard.press("Escape")
        self.to_frame(page, 67)
        at = page.get_by_test_id("revision")
        # Faster than they are answered: each goes on from the one before it.
        made = int(at.inner_text().split(" ")[0])
        for _ in range(4):
            page.keyboard.press("Alt+ArrowUp")
        expect(at).to_have_text(f"{made + 4} · Pose left leg at frame 67")
        expect(page.get_by_role("alert")).to_have_count(0)
        expect(page.get_by_label("Part card")).to_contain_text("on untitled")
        lifted = self.at(frames)
        names = [n for m, n in self.http.get(f"/takes/{self.take()}").json()["joints"] if m == "marl"]
        self.assertGreater((lifted - was)[5, names.index("foot.L"), 1], 0.03)
        np.testing.assert_allclose(self.at(outside), around, atol=1e-9)
        # Its weight is tried while the take plays: the picture shows it at once, and nothing is written until it is let go.
        page.keyboard.press("Space")
        slider = panel.get_by_role("slider", name="Weight of untitled all along")
        box = slider.locator("xpath=ancestor::*[contains(@class, 'MuiSlider-root')]").bounding_box()
        assert box is not None
        page.mouse.move(box["x"] + box["width"], box["y"] + box["height"] / 2)
        page.mouse.down()
        with page.expect_response(re.compile(r"/poses\?.*trial=")) as drawn:
            page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2, steps=3)
        self.assertTrue(drawn.value.ok)
        expect(at).to_contain_text("Pose left leg at frame 67")
        page.mouse.move(box["x"] - 5, box["y"] + box["height"] / 2, steps=3)
        page.mouse.up()
        self.wait_for_revision(page, "Weigh layer untitled 0 all along")
        np.testing.assert_allclose(self.at(frames), was, atol=1e-9)
        page.keyboard.press("Space")
        page.get_by_role("button", name="Undo").click()
        self.wait_for_revision(page, "Pose left leg")
        # Weighed over time: keys at frames, which are moved and taken away on its curve.
        for frame in (60, 75):
            self.to_frame(page, frame)
            panel.get_by_role("button", name="More of untitled").click()
            page.get_by_role("menuitem", name="Key its weight at this frame").click()
            self.wait_for_revision(page, f"Weigh layer untitled 1 at frame {frame}")
        key = panel.get_by_role("slider", name="Weight at frame 75")
        key.focus()
        page.keyboard.press("ArrowDown")
        self.wait_for_revision(page, "Weigh layer untitled 0.95 at frame 75")
        x = (67 - 60) / 15
        weight = 1.0 - 0.05 * (3 * x * x - 2 * x**3)
        foot = names.index("foot.L")
        np.testing.assert_allclose(
            (self.at([67.0]) - was[5])[0, foot, 1], weight * (lifted - was)[5, foot, 1], rtol=1e-6
        )
        key.focus()
        page.keyboard.press("Delete")
        self.wait_for_revision(page, "Weight of layer untitled without its key at frame 75")
        np.testing.assert_allclose(self.at(frames), lifted, atol=1e-9)
        # Beneath it the leg goes over to FK, and nothing is seen of it.
        self.select(page, "left leg", 63, 71)
        expect(page.get_by_test_id("sentence")).to_contain_text("Nothing moves at the change")
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "to FK")
        self.assertLess(np.abs(self.at(frames) - lifted).max(), 2e-3)
        expect(chosen).to_be_visible()
        panel.get_by_role("button", name="Merge all").click()
        self.wait_for_revision(page, "Merge all layers")
        self.assertLess(np.abs(self.at(frames) - lifted).max(), 2e-3)
        page.get_by_role("button", name="Undo").click()
        expect(chosen).to_be_visible()
        self.assertEqual(self.errors, [])


class Judging(Pages):
    bodies = True

    def test_two_revisions_are_compared(self) -> None:
        page = self.bench()
        page.keyboard.press("n")
        expect(page.get_by_test_id("sentence")).to_be_visible()
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Repair")
        self.to_frame(page, 20)
        page.keyboard.press("v")
        expect(page.get_by_role("dialog")).to_contain_text(re.compile(r"today, \d\d:\d\d:\d\d"))
        number = page.get_by_test_id("revision").inner_text().split()[0]
        page.get_by_role("button", name=f"Name revision {number}").click()
        page.get_by_label(f"Name of revision {number}").fill("hand joined")
        page.get_by_label(f"Name of revision {number}").press("Enter")
        self.wait_for_revision(page, "hand joined")
        first = page.get_by_role("listitem").filter(has_text="As opened")
        first.get_by_role("button", name="Compare").click()
        page.wait_for_url(re.compile(r"/compare/\d+/\d+"))
        proof = prove("compare", demo(), clean(0), 0.0, 204.0)
        expect(page.get_by_test_id("most")).to_have_text(f"{1000 * proof.departure_place.value:.1f} mm")
        # It opens where they are farthest apart, and comes back there.
        nodes = demo().joints()[1]
        apart = demo().evaluate(demo().take.frames).pos[:, nodes] - clean(0).evaluate(demo().take.frames).pos[:, nodes]
        most = f"{1000 * np.linalg.norm(apart, axis=-1).max():.1f} mm"
        expect(page.get_by_test_id("difference-here")).to_contain_text(most)
        page.keyboard.press("ArrowLeft")
        expect(page.get_by_test_id("difference-here")).not_to_contain_text(most)
        page.get_by_role("button", name="Worst frame").click()
        expect(page.get_by_test_id("difference-here")).to_contain_text(most)
        expect(page.get_by_test_id("figures")).to_contain_text("open findings")
        expect(page.get_by_test_id("difference")).to_have_attribute("aria-label", re.compile("right arm"))
        page.keyboard.press("Escape")
        self.drawn(page)
        self.assertEqual(self.errors, [])

    def test_ghosts_trails_and_views_are_drawn(self) -> None:
        page = self.bench()
        triangles = "() => window.benchView.gl.info.render.triangles"
        lines = "() => window.benchView.gl.info.render.lines + window.benchView.gl.info.render.points"

        def settled(what: str) -> int:
            page.wait_for_timeout(500)
            number: int = page.evaluate(what)
            return number

        def becomes(what: str, how: str) -> None:
            # On a busy machine a picture may take its time.
            page.wait_for_function(f"() => ({what})() {how}")

        drawn = settled(triangles)
        page.keyboard.press("b")
        becomes(triangles, f"< {drawn / 2}")
        page.keyboard.press("b")
        becomes(triangles, f">= {drawn / 2}")
        was = settled(lines)
        page.keyboard.press("y")
        becomes(lines, f"> {was + 60}")
        page.keyboard.press("y")
        page.keyboard.press("p")
        self.to_frame(page, 100)
        becomes(lines, "> 0")
        expect(page.get_by_role("button", name="pin 1")).to_be_visible()
        for key in "12345":
            page.keyboard.press(key)
        expect(page.get_by_label("Viewpoint")).to_contain_text("floor level")
        page.keyboard.press("o")
        expect(page.get_by_role("button", name="alone")).to_have_attribute("aria-pressed", "true")
        # Clicking a body takes its part in hand: the head, where its joint is drawn.
        page.keyboard.press("o")
        page.keyboard.press("c")
        page.keyboard.press("2")
        page.wait_for_timeout(600)
        x, y = self.on_screen(page, "head")
        page.mouse.click(x, y - 12)
        expect(page.get_by_label("Part card").get_by_role("heading")).to_have_text("head")
        self.assertEqual(self.errors, [])


class Clips(Pages):
    def test_a_pose_is_pasted_to_another_frame(self) -> None:
        page = self.bench()
        self.row(page, "left arm").click()
        self.to_frame(page, 57)
        page.keyboard.press("Control+c")
        expect(page.get_by_role("alert")).to_contain_text("Kept: left arm, frame 57")
        self.to_frame(page, 20)
        page.keyboard.press("Control+v")
        clip = copy(demo(), "marl", ["arm.L"], 57.0, 57.0)
        take, proof = paste.apply(demo(), paste.Paste(clip, "marl", 20.0))
        expect(page.get_by_test_id("sentence")).to_contain_text(f"{proof.keys.added} added")
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Paste left arm, frame 57 at frame 20")
        got = self.http.post(f"/takes/{self.take()}/transforms", json={"times": [20], "member": "marl"}).json()
        program = Program(demo().scene, take)
        want = program.evaluate([20.0]).pos[0, program.joints(["marl"])[1]]
        np.testing.assert_allclose(np.array(got["positions"][0]), want, atol=1e-12)
        # From the locker, onto the other side.
        page.keyboard.press("l")
        dialog = page.get_by_role("dialog")
        expect(dialog).to_contain_text("pose from Marl: left arm")
        dialog.get_by_role("button", name="Paste here").first.click()
        page.get_by_role("button", name="other side").click()
        expect(page.get_by_test_id("sentence")).to_contain_text("keys:")
        page.get_by_role("button", name="Apply").click()
        self.wait_for_revision(page, "on the other side")
        page.keyboard.press("l")
        page.get_by_role("button", name=re.compile("Remove left arm, frame 57")).first.click()
        expect(page.get_by_role("dialog")).to_contain_text("Nothing is kept yet")
        self.assertEqual(self.errors, [])


class Access(Pages):
    maxDiff = None

    def violations(self, page: Page) -> list[str]:
        """What axe-core finds, as lines, once colours have settled."""
        # Away from buttons, whose hints hang beside the page.
        page.mouse.move(640, 5)
        page.wait_for_timeout(400)
        page.evaluate("() => Promise.allSettled(document.getAnimations().map((a) => a.finished))")
        page.evaluate(AXE.read_text())
        found = page.evaluate("async () => (await axe.run(document, { resultTypes: ['violations'] })).violations")
        return [f"{v['id']}: {n['html'][:160]} {json.dumps(n['any'][:1])[:240]}" for v in found for n in v["nodes"]]

    def test_no_main_view_breaks_a_rule_of_access(self) -> None:
        page = self.bench()
        page.keyboard.press("n")
        expect(page.get_by_test_id("sentence")).to_be_visible()
        self.assertEqual(self.violations(page), [], "bench, tried")
        page.keyboard.press("Escape")
        page.get_by_label("Curve of move x", exact=True).click()
        expect(page.get_by_test_id("curves")).to_be_visible()
        self.assertEqual(self.violations(page), [], "curves")
        page.get_by_role("button", name="Day / lamp").click()
        self.assertEqual(self.violations(page), [], "by lamplight")
        page.get_by_role("button", name="Day / lamp").click()
        for key, words in (("?", "First steps"), ("l", "Locker of poses"), ("v", "Revisions of")):
            page.evaluate("() => document.activeElement?.blur()")
            page.keyboard.press(key)
            expect(page.get_by_role("dialog")).to_contain_text(words)
            self.assertEqual(self.violations(page), [], words)
            page.keyboard.press("Escape")
            expect(page.get_by_role("dialog")).to_have_count(0)
        revisions = self.http.get(f"/takes/{self.take()}/revisions").json()
        first = revisions[0]["id"]
        page.goto(f"{self.service.base}/take/{self.take()}/compare/{first}/{first}")
        expect(page.get_by_test_id("figures")).to_be_visible()
        self.assertEqual(self.violations(page), [], "compare")
        # Two of the same name are told apart.
        capture = bvh.write(demo(), "marl", 0, 4)
        for _ in range(2):
            self.http.post("/import?filename=twice.bvh", content=capture).raise_for_status()
        page.goto(self.service.base + "/")
        for name in ("Chain ferry", "twice", "twice (2)"):
            expect(page.get_by_role("heading", name=name, exact=True)).to_be_visible()
        self.assertEqual(self.violations(page), [], "home")

    def test_the_keyboard_reaches_every_command(self) -> None:
        """Every button, link and field of the bench can be focused, and shows that it is; the canvases' commands
        have keys of their own."""
        page = self.bench()
        total = page.evaluate(
            "() => [...document.querySelectorAll('button:not([disabled]), a[href], input, [role=combobox]')]"
            ".filter((e) => e.offsetParent !== null && e.tabIndex >= 0).length"
        )
        seen = set()
        page.keyboard.press("Tab")
        for _ in range(total + 20):
            found = page.evaluate(
                "() => { const e = document.activeElement; const s = getComputedStyle(e);"
                " const near = e.closest('.MuiInputBase-root, .MuiCheckbox-root') ?? e;"
                " const shown = s.outlineStyle !== 'none' || /focus/i.test(near.className);"
                " return [e.outerHTML.slice(0, 300), shown]; }"
            )
            if found[0].startswith("<body"):
                break
            self.assertTrue(found[1], f"no sign of the focus on {found[0][:120]}")
            seen.add(found[0])
            page.keyboard.press("Tab")
        self.assertGreater(len(seen), 0.8 * total)
        # A stretch by keyboard alone: from frame 30 to 60 on the left arm.
        page.evaluate("() => document.activeElement?.blur()")
        self.row(page, "left arm").click()
        page.evaluate("() => document.activeElement?.blur()")
        self.to_frame(page, 30)
        page.keyboard.press("[")
        self.to_frame(page, 60)
        page.keyboard.press("]")
        expect(page.get_by_test_id("offer")).to_contain_text("frames 30–60")
        expect(page.get_by_test_id("sentence")).to_be_visible()
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Hand over left arm to IK, frames 30 to 60")

    def test_the_page_says_when_the_service_is_away_and_goes_on(self) -> None:
        page = self.bench()
        self.service.kill()
        page.keyboard.press("Control+z")
        page.keyboard.press("n")
        expect(page.get_by_test_id("away")).to_contain_text("Everything that was applied is safe")
        self.service.start()
        expect(page.get_by_test_id("away")).to_have_count(0, timeout=20_000)
        page.keyboard.press("Escape")
        page.keyboard.press("n")
        expect(page.get_by_test_id("proof")).to_contain_text("Tried")
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Repair")

    def test_many_undos_go_in_one_turn(self) -> None:
        revision = self.head()
        for by in (2, -2) * 8:
            moved = {"channel": "marl/head.ry", "times": [58 if by > 0 else 60]}
            asked = {"operation": "edit", "parts": [], "first": 0, "edit": {"what": "move", "keys": [moved], "by": by}}
            told = self.http.post(f"/takes/{self.take()}/apply", json={**asked, "revision": revision})
            revision = told.raise_for_status().json()["revision"]
        page = self.bench()
        opened: list[str] = []
        take = f"/api/takes/{self.take()}"
        page.context.route(f"**{take}", lambda route: (opened.append(route.request.url), route.continue_()))
        self.addCleanup(page.context.unroute_all)
        for shift, words in (("false", "As opened"), ("true", "Move 1 key")):
            opened.clear()
            # One more than there is.
            pressed = f"{{ key: 'z', ctrlKey: true, shiftKey: {shift}, bubbles: true }}"
            page.evaluate(
                f"() => {{ for (let k = 0; k < 17; k++) document.body.dispatchEvent(new KeyboardEvent('keydown', {pressed})); }}"
            )
            self.wait_for_revision(page, words)
            self.assertLessEqual(len(opened), 2)
        self.assertEqual(self.head(), revision)
        self.assertEqual(page.get_by_role("alert").count(), 0)

    def test_an_edit_whose_answer_is_lost_is_there_once(self) -> None:
        page = self.bench()
        count = len(self.http.get(f"/takes/{self.take()}/revisions").json())
        keys: list[str] = []

        def lose(route: Route) -> None:
            """The first answer gets lost on its way back; what it was for has been written."""
            keys.append(route.request.headers["idempotency-key"])
            if len(keys) == 1:
                route.fetch()
                route.abort()
            else:
                route.continue_()

        # Another window, in which the same is about to be done, finds it done when it is come back to.
        other = self.bench()
        other.keyboard.press("n")
        expect(other.get_by_test_id("sentence")).to_be_visible()
        page.route("**/apply", lose)
        page.keyboard.press("n")
        expect(page.get_by_test_id("sentence")).to_be_visible()
        page.keyboard.press("Enter")
        self.wait_for_revision(page, "Repair")
        other.evaluate("() => window.dispatchEvent(new Event('focus'))")
        self.wait_for_revision(other, "Repair")
        expect(other.get_by_test_id("offer")).to_have_count(0)
        self.assertEqual((len(keys), len(set(keys))), (2, 1))
        self.assertEqual(len(self.http.get(f"/takes/{self.take()}/revisions").json()), count + 1)
