"""What the page costs, in real Chromium with software drawing at 1280x800: first picture, playing, memory."""

from __future__ import annotations

import os
import re
import time
from itertools import pairwise
from statistics import median

from playwright.sync_api import Page

from measures.figures import measured, say
from tests.interface.pages import chromium
from tests.servers import Service

#: Minutes of work over which the page's memory is looked at, from the second one on.
WORK = float(os.environ.get("YIELDING_TETHER_TEST_PAGE_MINUTES", "2"))
LIMB = re.compile("(left|right) (arm|leg)")
DRAWN = "() => window.benchView?.gl.info.render.triangles > 1000"
#: When each picture was drawn, from when it is asked for on.
WATCH = """() => { const gl = window.benchView.gl; const old = gl.render.bind(gl); window.pictures = [];
  gl.render = (...a) => { old(...a); window.pictures.push(performance.now()); }; }"""


@measured("page", by_name=True)
def page() -> None:
    """The bench of the demo take, opened, played and worked at."""
    service = Service()
    try:
        browser = chromium()
        firsts, data = [], []
        for _ in range(5):
            context = browser.new_context(viewport={"width": 1280, "height": 800})
            one = context.new_page()
            one.goto(f"{service.base}/take/1")
            one.wait_for_function(DRAWN, polling="raf")
            firsts.append(one.evaluate("() => performance.now()"))
            # From the first question to the last answer that the first picture needs.
            data.append(
                one.evaluate(
                    "() => { const a = performance.getEntriesByType('resource')"
                    ".filter((e) => /takes.1($|.poses|.body)/.test(e.name));"
                    " return Math.max(...a.map((e) => e.responseEnd)) - Math.min(...a.map((e) => e.startTime)); }"
                )
            )
            context.close()
        say(
            "first picture of the bench", seconds=round(median(firsts) / 1000, 2), bound_seconds=1.5,
            data_seconds=round(median(data) / 1000, 2), bound_data_seconds=0.4, all=[round(f / 1000, 2) for f in firsts],
        )  # fmt: skip
        context = browser.new_context(viewport={"width": 1280, "height": 800})
        one = context.new_page()
        one.goto(f"{service.base}/take/1")
        one.wait_for_function(DRAWN)
        one.wait_for_timeout(3000)
        one.evaluate(WATCH)
        one.keyboard.press("Space")
        one.wait_for_timeout(9000)
        one.keyboard.press("Space")
        times = one.evaluate("() => window.pictures")[3:]
        gaps = [b - a for a, b in pairwise(times)]
        usual = median(gaps)
        say(
            "playing 205 frames", pictures_a_second=round(1000 * len(gaps) / sum(gaps), 1), median_ms=round(usual, 1),
            within_half_as_long_again=round(sum(g <= 1.5 * usual for g in gaps) / len(gaps), 3), bound=0.95,
        )  # fmt: skip
        _memory(one)
        context.close()
    finally:
        service.stop()


def _memory(one: Page) -> None:
    """Playing, selecting, trying and undoing, again and again; what is held after collecting at the second minute and the last."""
    channel = one.context.new_cdp_session(one)

    def held() -> float:
        channel.send("HeapProfiler.collectGarbage")
        return float(channel.send("Runtime.getHeapUsage")["usedSize"]) / 1e6

    def work(seconds: float) -> int:
        until, rounds = time.monotonic() + seconds, 0
        while time.monotonic() < until:
            rounds += 1
            rows = one.get_by_label("Strands", exact=True).locator("button[aria-pressed]", has_text=LIMB)
            rows.nth(rounds % 4).click()
            sheet = one.get_by_test_id("strands").bounding_box()
            row = rows.nth(rounds % 4).bounding_box()
            assert sheet and row
            y = row["y"] + row["height"] / 2
            one.mouse.move(sheet["x"] + 200, y)
            one.mouse.down()
            one.mouse.move(sheet["x"] + 420, y, steps=4)
            one.mouse.up()
            one.wait_for_timeout(900)
            # Keys are for the bench, not for the button clicked last.
            one.evaluate("() => document.activeElement?.blur()")
            one.keyboard.press("Enter")
            one.wait_for_timeout(700)
            one.keyboard.press("Escape")
            one.keyboard.press("Control+z")
            one.keyboard.press("Space")
            one.wait_for_timeout(1200)
            one.keyboard.press("Space")
        return rounds

    minute = WORK / 10
    work(120 * minute)
    early = held()
    rounds = work(480 * minute)
    late = held()
    say(
        "memory of the page after work", early_mb=round(early, 1), late_mb=round(late, 1), ratio=round(late / early, 3),
        bound=1.05, rounds=rounds, minutes=10 * minute,
    )  # fmt: skip
