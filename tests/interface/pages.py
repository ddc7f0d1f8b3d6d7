"""What the tests of the interface share: the real program, real Chromium, and how a user finds things on the page."""

from __future__ import annotations

import atexit
import json
import re
import unittest
from functools import cache

import httpx
import numpy as np
from playwright.sync_api import Browser, BrowserContext, Locator, Page, ViewportSize, expect, sync_playwright

from tests.servers import PATIENCE, Service

FLAGS = [
    "--no-sandbox",
    "--use-angle=swiftshader",
    "--enable-unsafe-swiftshader",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    # As on a machine without a graphics processor: only the picture goes through the one that is imitated, not the page about it.
    "--disable-gpu-compositing",
]


@cache
def chromium() -> Browser:
    """One browser for all tests of a process."""
    expect.set_options(timeout=1000 * PATIENCE)
    playwright = sync_playwright().start()
    browser = playwright.chromium.launch(executable_path="/usr/bin/chromium-headless-shell", args=FLAGS)

    def end() -> None:
        browser.close()
        playwright.stop()

    atexit.register(end)
    return browser


#: What is shown as somebody left it who works without a graphics processor: bodies in stiff pieces, or their joints alone.
SHOWN = """if (location.protocol === "http:" && !localStorage.getItem("shown in the view"))
localStorage.setItem("shown in the view", JSON.stringify(%s))"""


#: What went wrong in the pages of the test that runs.
_HEARD: list[str] = []


def new_page(context: BrowserContext) -> Page:
    """A page whose faults are heard."""
    page = context.new_page()
    page.on("pageerror", lambda e: _HEARD.append(str(e)))
    page.on("response", lambda r: _HEARD.append(f"{r.status} {r.url}") if r.status == 404 else None)
    return page


@cache
def window(bodies: bool) -> Page:
    """The page that tests use one after another: each loads it anew and finds nothing kept, but the browser knows its scripts,
    which takes more than a third off. Drawing bodies, for those that do not look at them, would take a tenth."""
    context = chromium().new_context(viewport=SIZE, device_scale_factor=0.25, reduced_motion="reduce")
    context.set_default_timeout(1000 * PATIENCE)
    context.add_init_script(SHOWN % json.dumps({"light": True} if bodies else {"body": False, "bones": True}))
    return new_page(context)


@cache
def running(module: str) -> Service:
    """One program for all tests of a process; each test begins at the first revision of its take."""
    service = Service(module=module)
    atexit.register(service.stop)
    return service


def choose(page: Page, operation: str) -> Locator:
    """Chooses an operation in the strip, from among those that it has no room for too; returns the strip."""
    offer = page.get_by_test_id("offer")
    button = offer.get_by_label("Operation").get_by_role("button", name=operation, exact=True)
    more = offer.get_by_role("button", name=re.compile("more ▾$"))
    expect(offer.get_by_label("Operation")).to_be_visible()
    if button.count():
        button.click()
    else:
        more.click()
        page.get_by_role("menuitem", name=operation, exact=True).click()
        # Until it is gone it keeps the pointer from what lies under it.
        expect(page.get_by_role("menu")).to_have_count(0)
    return offer


SIZE: ViewportSize = {"width": 1280, "height": 800}


class Pages(unittest.TestCase):
    service: Service
    module = "yielding_tether"

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = running(cls.module)
        cls.browser = chromium()
        cls.http = httpx.Client(base_url=cls.service.base + "/api", timeout=PATIENCE)
        cls.addClassCleanup(cls.http.close)

    def setUp(self) -> None:
        take = self.take()
        info = self.http.get(f"/takes/{take}").json()
        first = self.http.get(f"/takes/{take}/revisions").json()[0]["id"]
        if info["revision"] != first:
            self.http.post(f"/takes/{take}/head", json={"revision": info["revision"], "to": first}).raise_for_status()
        self.begin()

    def begin(self) -> None:
        """Takes the window."""
        self.window = window(self.bodies)
        self.context = self.window.context
        self.fresh = True
        self.addCleanup(self.left)
        _HEARD.clear()
        self.errors = _HEARD

    def left(self) -> None:
        """Leaves the window as the next test wants it."""
        for page in self.context.pages[1:]:
            page.close()
        self.window.unroute_all(behavior="ignoreErrors")
        if self.window.url.startswith("http"):
            self.window.evaluate("() => { localStorage.clear(); sessionStorage.clear(); }")
        self.window.goto("about:blank")
        self.window.set_viewport_size(SIZE)

    scene = "Chain ferry"
    bodies = False

    def take(self) -> int:
        scenes = self.http.get("/scenes").json()
        id_: int = next(s for s in scenes if s["name"] == self.scene)["takes"][0]["id"]
        return id_

    def open(self, path: str = "/") -> Page:
        page = self.window if self.fresh else new_page(self.context)
        self.fresh = False
        page.goto(self.service.base + path)
        return page

    def bench(self) -> Page:
        page = self.open(f"/take/{self.take()}")
        self.drawn(page)
        return page

    def drawn(self, page: Page) -> None:
        """Waits until the strands stand and the view has its poses."""
        expect(page.get_by_test_id("strands")).to_be_visible()
        page.wait_for_function(
            "() => window.benchView && (window.benchView.gl.info.render.triangles > 1000 ||"
            " window.benchView.scene.getObjectsByProperty('name', 'bones').some((o) => o.visible))"
        )
        expect(page.get_by_test_id("driver")).to_be_visible()

    def settled(self, page: Page) -> None:
        """Waits until the camera stands still."""
        page.wait_for_function(
            "() => { const now = window.benchView.camera.position.toArray().join(); const still = window.stood === now;"
            " window.stood = now; return still; }",
            polling=250,
        )

    def row(self, page: Page, label: str) -> Locator:
        """The name of a part's row, unfolded where it lies folded."""
        strands = page.get_by_label("Strands", exact=True)
        row = strands.locator("button[aria-pressed]", has_text=re.compile(label)).first
        if not row.count():
            folds = strands.get_by_role("button", name=re.compile("^Unfold"))
            for _ in range(folds.count()):
                folds.first.click()
        return row

    def select(self, page: Page, label: str, first: float, last: float) -> None:
        """Drags along a part's strand from one frame to another."""
        sheet = page.get_by_test_id("strands")
        self.row(page, label).scroll_into_view_if_needed()
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
        expect(page.get_by_test_id("revision")).to_contain_text(words)

    def grab(self, page: Page, limb: str, kind: int) -> tuple[float, float]:
        """Where a limb's control (0) or guide (1) is on the screen."""
        info = self.http.get(f"/takes/{self.take()}").json()
        control = f"{limb}.{('ik', 'guide')[kind]}"
        row = next(h["row"] for h in info["handles"] if h["control"] == control)
        frame = int(page.get_by_label("Frame", exact=True).input_value())
        return self.projected(page, row, frame)

    def on_screen(self, page: Page, joint: str) -> tuple[float, float]:
        """Where one of Marl's joints is on the screen."""
        info = self.http.get(f"/takes/{self.take()}").json()
        row = info["joints"].index(["marl", joint])
        return self.projected(page, row, int(page.get_by_label("Frame", exact=True).input_value()))

    def projected(self, page: Page, row: int, frame: int) -> tuple[float, float]:
        """Where a row of the table of poses is on the screen."""
        x, y = self.all_projected(page, frame)[row]
        return float(x), float(y)

    def all_projected(self, page: Page, frame: int) -> np.ndarray:
        raw = self.http.get(f"/takes/{self.take()}/poses", params={"first": frame, "last": frame}).content
        return np.array(page.evaluate(
            """(places) => { const s = window.benchView; const c = s.camera; c.updateMatrixWorld();
            const b = s.gl.domElement.getBoundingClientRect(); return places.map(([x, y, z]) => {
            const v = c.position.clone().set(x, y, z).project(c);
            return [b.left + (v.x + 1) / 2 * b.width, b.top + (1 - v.y) / 2 * b.height]; }); }""",
            np.frombuffer(raw, "<f4").reshape(-1, 7)[:, :3].tolist(),
        ))  # fmt: skip

    def to_frame(self, page: Page, frame: int) -> None:
        field = page.get_by_label("Frame", exact=True)
        field.fill(str(frame))
        field.press("Enter")
        # Back to the page, so that keys are commands again.
        page.evaluate("() => document.activeElement?.blur()")
