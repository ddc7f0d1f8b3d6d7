"""What hostile files and killed processes cost."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
import time

import httpx

from measures.figures import fastest, long_capture, measured, say
from measures.soak import revisions
from tests.servers import Service, ask
from yielding_tether.core.program import Program
from yielding_tether.demo.cast_off import cast_off
from yielding_tether.formats import bvh


@measured("kills", by_name=True)
def kills() -> None:
    """Fifty kills of the server and fifty of the database while an animator works: see tests/service/test_kills.py."""
    done = subprocess.run(
        [sys.executable, "-m", "tests.run", "tests.service.test_kills"],
        env={**os.environ, "YIELDING_TETHER_TEST_KILLS": "50"}, capture_output=True, text=True, check=False,
    )  # fmt: skip
    say("50 kills of the server and 50 of the database", nothing_lost=done.returncode == 0)


@measured("faults")
def faults() -> None:
    """What hostile files cost, and how long others wait while a large one is read."""
    head = (
        b"HIERARCHY\nROOT a%bb\n{\nOFFSET 0 0 0\nCHANNELS 3 Xrotation Yrotation Zrotation\nEnd Site\n{\nOFFSET 0 1 0\n}\n}\n"
        b"MOTION\nFrames: 2\nFrame Time: 0.04\n0 0 0\n0 0 0\n"
    )
    few, many = (fastest(lambda n=n: bvh.read(head % (b" " * n), "a", "b"), 5) for n in (400_000, 1_600_000))
    say("a name of four times as many spaces, times the time", ratio=round(many / few, 1), bound=8)
    data = long_capture(Program(*cast_off()), 18_000)
    service = Service()
    try:
        waits: list[float] = []
        done = threading.Event()

        def look() -> None:
            with httpx.Client(base_url=service.base, timeout=60) as client:
                while not done.is_set():
                    began = time.perf_counter()
                    client.get("/api/health").raise_for_status()
                    waits.append(time.perf_counter() - began)
                    time.sleep(0.005)

        looker = threading.Thread(target=look)
        looker.start()
        time.sleep(1.0)
        calm = sorted(waits)
        waits.clear()
        began = time.perf_counter()
        ask.post(f"{service.base}/api/import?filename=long.bvh", content=data, timeout=600).raise_for_status()
        took = time.perf_counter() - began
        done.set()
        looker.join()
        busy = sorted(waits)
        say(
            "others wait while a capture of 18,000 frames is read", megabytes=round(len(data) / 1e6, 1),
            read_seconds=round(took, 2), median_ms=round(1e3 * busy[len(busy) // 2], 1),
            p95_ms=round(1e3 * busy[int(0.95 * len(busy))], 1), most_ms=round(1e3 * busy[-1], 1), bound_most_ms=100,
            calm_median_ms=round(1e3 * calm[len(calm) // 2], 1),
        )  # fmt: skip
    finally:
        service.stop()
    revisions(data)
