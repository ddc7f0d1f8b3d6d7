"""Makes the pictures of docs/screenshots from the demo data: `python -m scripts.screenshots`."""

from __future__ import annotations

from playwright.sync_api import Page, sync_playwright

from tests.interface.pages import FLAGS, choose
from tests.servers import ROOT, Service, ask

FOLDER = ROOT / "docs" / "screenshots"


def keep(page: Page, name: str) -> None:
    page.wait_for_timeout(1500)
    page.screenshot(path=FOLDER / f"{name}.png")


def take(page: Page, label: str) -> None:
    """Takes the part of a row in hand."""
    page.get_by_label("Strands", exact=True).locator("button[aria-pressed]", has_text=label).first.click()


def frame(page: Page, number: int) -> None:
    field = page.get_by_label("Frame", exact=True)
    field.fill(str(number))
    field.press("Enter")
    page.evaluate("() => document.activeElement?.blur()")


def bench_of(page: Page, service: Service, name: str) -> None:
    """Opens the take of this name, and waits until it is drawn."""
    takes = [t for s in ask.get(f"{service.base}/api/scenes").json() for t in s["takes"]]
    page.goto(f"{service.base}/take/{next(t['id'] for t in takes if t['name'] == name)}")
    page.wait_for_function("() => window.benchView?.gl.info.render.triangles > 1000")


def main() -> None:
    service = Service()
    try:
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path="/usr/bin/chromium-headless-shell", args=FLAGS)
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.goto(service.base)
            page.wait_for_url("**/take/**")
            page.wait_for_function("() => window.benchView?.gl.info.render.triangles > 1000")
            keep(page, "bench-first-run")
            page.keyboard.press("n")
            page.get_by_test_id("sentence").wait_for()
            page.keyboard.press("Escape")
            page.keyboard.press("h")
            page.get_by_test_id("sentence").wait_for()
            keep(page, "bench-handover-tried")
            page.keyboard.press("Enter")
            page.get_by_test_id("revision").get_by_text("Hand over").wait_for()
            take(page, "left leg")
            frame(page, 80)
            page.keyboard.press("h")
            frame(page, 140)
            page.keyboard.press("]")
            frame(page, 110)
            page.get_by_test_id("proof").get_by_text("contacts keep their places").wait_for()
            keep(page, "contacts-kept")
            page.keyboard.press("Escape")
            take(page, "right arm")
            for name, at, number in (("Bake", 20, 60), ("Mirror", 0, 76)):
                frame(page, at)
                page.keyboard.press("h")
                choose(page, name)
                page.get_by_test_id("proof").get_by_text("Tried, not applied").wait_for()
                frame(page, number)
                page.get_by_test_id("proof").get_by_text("Tried, not applied").wait_for()
                keep(page, name.lower())
                page.keyboard.press("Escape")
            take(page, "Mooring rope")
            frame(page, 73)
            page.keyboard.press("[")
            frame(page, 96)
            page.keyboard.press("]")
            choose(page, "Fly")
            page.get_by_test_id("proof").get_by_text("Tried, not applied").wait_for()
            page.keyboard.press("Enter")
            page.get_by_test_id("revision").get_by_text("flies").wait_for()
            frame(page, 82)
            for key in ("y", "f", "-", "-", "-", "-"):
                page.keyboard.press(key)
            keep(page, "flight")
            for key in ("y", "f", "+", "+", "+", "+", "Control+z"):
                page.keyboard.press(key)
            page.get_by_test_id("revision").get_by_text("flies").wait_for(state="detached")
            take(page, "right arm")
            frame(page, 76)
            page.keyboard.press("y")
            keep(page, "bench-at-rest")
            page.get_by_role("button", name="Day / lamp").click()
            keep(page, "bench-by-lamplight")
            page.get_by_role("button", name="Day / lamp").click()
            page.keyboard.press("y")
            take(page, "head")
            for channel in ("head, turn x", "head, turn y", "neck low, turn y"):
                page.get_by_label(f"Curve of {channel}", exact=True).click()
            frame(page, 58)
            page.keyboard.press(".")
            keep(page, "curves")
            page.keyboard.press("w")
            side = browser.new_page(viewport={"width": 1280, "height": 800})
            bench_of(side, service, "Tow strap")
            frame(side, 100)
            side.keyboard.press("3")
            keep(side, "tow-strap")
            bench_of(side, service, "Rough crossing")
            take(side, "left leg")
            for key in ("Home", "[", "End", "]"):
                side.keyboard.press(key)
            choose(side, "Smooth")
            side.get_by_test_id("proof").get_by_text("dB less").first.wait_for()
            frame(side, 229)
            side.get_by_test_id("proof").get_by_text("dB less").first.wait_for()
            side.mouse.move(640, 20)
            keep(side, "smooth")
            choose(side, "Make workable")
            side.get_by_test_id("proof").get_by_text("Tried, not applied").wait_for(timeout=180_000)
            side.keyboard.press("Enter")
            side.get_by_test_id("revision").get_by_text("Bake").wait_for(timeout=60_000)
            frame(side, 158)
            side.keyboard.press("+")
            keep(side, "workable")
            side.keyboard.press("Escape")
            side.keyboard.press("-")
            bench_of(side, service, "Lantern round")
            side.get_by_label("Strands", exact=True).get_by_role("button", name="Unfold right arm").click()
            take(side, "right hand")
            frame(side, 20)
            side.keyboard.press("[")
            choose(side, "Close on")
            side.get_by_test_id("proof").get_by_text("On the lantern").first.wait_for()
            side.keyboard.press("i")
            keep(side, "close-on")
            bench_of(side, service, "Brindle's trot")
            frame(side, 50)
            side.keyboard.press("3")
            keep(side, "brindle")
            side.close()
            page.get_by_role("button", name="Deliver").click()
            page.get_by_test_id("holds").wait_for()
            keep(page, "deliver")
            page.keyboard.press("Escape")
            page.keyboard.press("v")
            page.get_by_role("dialog").get_by_role("button", name="Compare").first.click()
            page.get_by_role("button", name="Worst frame").click()
            keep(page, "compare")
            page.get_by_role("button", name="Home").click()
            keep(page, "home")
            page.get_by_role("region", name="Chain ferry").get_by_role("button", name="Fit Marl…").click()
            page.get_by_label("Parts").get_by_role("button", name="left leg 4 joints").click()
            page.wait_for_function("() => window.benchView?.gl.info.render.triangles > 1000")
            page.wait_for_timeout(1500)
            page.get_by_role("button", name="Stop").click()
            keep(page, "fit")
            page.get_by_role("button", name="Back", exact=True).click()
            page.get_by_role("button", name="Move to… another character: Cast off").click()
            page.get_by_test_id("transfer-sentence").wait_for()
            keep(page, "transfer")
            browser.close()
    finally:
        service.stop()


if __name__ == "__main__":
    main()
