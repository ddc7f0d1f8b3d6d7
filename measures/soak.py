"""Long loads on the real program: many writers of one take, an hour of mixed work, many revisions of a long capture."""

from __future__ import annotations

import os
import random
import threading
import time
from pathlib import Path
from typing import Any

import httpx
import orjson

from measures.figures import measured, say
from tests.core.test_handover import demo
from tests.servers import Service, ask, socket_to
from yielding_tether.formats import bvh

#: Minutes that each of them takes.
WRITERS, SOAK = (
    float(os.environ.get("YIELDING_TETHER_TEST_WRITERS", "5")),
    float(os.environ.get("YIELDING_TETHER_TEST_SOAK", "60")),
)


def resident(process: int) -> int:
    """Megabytes of a process and of those that it has started, as far as they are Python's."""
    total = 0
    for entry in Path("/proc").iterdir():
        try:
            words = (entry / "status").read_text().split() if entry.name.isdigit() else []
            mine = words and (int(entry.name) == process or int(words[words.index("PPid:") + 1]) == process)
            if mine and words[1].startswith("python"):
                total += int(words[words.index("VmRSS:") + 1])
        except (OSError, ValueError):
            continue
    return total // 1024


@measured("writers", by_name=True)
def writers() -> None:
    """Eight animators pose and key one take at once."""
    service = Service(private=True)
    try:
        take = next(t["id"] for s in ask.get(f"{service.base}/api/scenes").json() for t in s["takes"])
        end = time.monotonic() + 60 * WRITERS
        waits: list[float] = []
        written: list[int] = []
        wrong: list[str] = []
        refused: list[str] = []

        def work(seed: int) -> None:
            dice = random.Random(seed)
            with httpx.Client(base_url=f"{service.base}/api", timeout=60) as http:
                head = http.get(f"/takes/{take}").json()["revision"]
                with socket_to(f"{service.base.replace('http', 'ws')}/api/takes/{take}/live") as channel:
                    while time.monotonic() < end:
                        drag = {
                            "revision": head, "frame": dice.randint(5, 100), "member": "marl", "part": "arm.R",
                            "control": "arm.R.ik", "position": [-0.3 + 0.2 * dice.random(), 1.1, 0.3],
                        }  # fmt: skip
                        for seq in range(15):
                            began = time.perf_counter()
                            channel.send(orjson.dumps({**drag, "seq": seq}).decode())
                            if isinstance(channel.recv(), str):
                                wrong.append("posing was refused")
                            waits.append(time.perf_counter() - began)
                            time.sleep(0.03)
                        answer = http.post(f"/takes/{take}/pose", json=drag)
                        if answer.status_code == 200:
                            head = answer.json()["revision"]
                            written.append(head)
                        elif answer.status_code == 409:
                            told = answer.json()
                            head = told["head"]
                            refused.append(told["message"])
                            if not told["changed"]:
                                wrong.append(answer.text)
                        else:
                            wrong.append(f"{answer.status_code} {answer.text}")

        threads = [threading.Thread(target=work, args=(k,)) for k in range(8)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        revisions = ask.get(f"{service.base}/api/takes/{take}/revisions", timeout=60).json()
        ids = [r["id"] for r in revisions]
        waits.sort()
        say(
            "eight writers on one take", minutes=WRITERS, poses=len(waits), median_ms=round(1e3 * waits[len(waits) // 2], 1),
            p95_ms=round(1e3 * waits[int(0.95 * len(waits))], 1), bound_p95_ms=150, most_ms=round(1e3 * waits[-1]),
            written=len(written), refused=len(refused), wrong=len(wrong), first_wrong=wrong[:1],
            lost=len(set(written) - set(ids)), one_line=[r["parent"] for r in revisions] == [None, *ids[:-1]],
        )  # fmt: skip
    finally:
        service.stop()


@measured("soak", by_name=True)
def soak() -> None:
    """An animator's day, over and over: poses, trials, edits, undo, files in and out, scenes that come and go."""
    service = Service(private=True)
    try:
        dice = random.Random(1)
        file = bvh.write(demo(), "marl", 0, 120)
        assert service.process is not None
        begun, minute = time.monotonic(), 0
        sizes: list[int] = []
        rounds, wrong = 0, []

        def ask(method: str, path: str, fine: tuple[int, ...] = (200, 204), **more: Any) -> Any:
            answer = http.request(method, path, **more)
            if answer.status_code not in fine:
                wrong.append(f"{method} {path}: {answer.status_code} {answer.text[:200]}")
            return answer

        with httpx.Client(base_url=f"{service.base}/api", timeout=120) as http:
            while time.monotonic() - begun < 60 * SOAK:
                rounds += 1
                made = ask("POST", f"/import?filename=round{rounds}.bvh", content=file).json()
                take, parts = made["take_id"], ["arm.L", "arm.R", "leg.L", "leg.R"]
                for _ in range(6):
                    head = ask("GET", f"/takes/{take}").json()["revision"]
                    first, to = dice.randint(5, 100), dice.choice(["ik", "fk"])
                    asked = {
                        "operation": "handover", "revision": head, "first": first,
                        "parts": [{"member": "body", "part": dice.choice(parts)}], "choices": {"to": to},
                    }  # fmt: skip
                    if dice.random() < 0.3:
                        asked |= {"operation": "bake", "last": min(120, first + 30)}
                    tried = ask("POST", f"/takes/{take}/try", (200, 422), json=asked)
                    if tried.status_code == 200:
                        ask("GET", f"/takes/{take}/poses?first=0&last=120&trial={tried.json()['trial']}")
                        head = ask("POST", f"/takes/{take}/apply", json=asked).json()["revision"]
                    if dice.random() < 0.3:
                        ask("POST", f"/takes/{take}/undo", (200, 404), json={"revision": head})
                ask("GET", f"/takes/{take}/export.bvh?member=body")
                if rounds % 5 == 0:
                    ask("GET", f"/takes/{take}/export.glb?member=body&first=0&last=40")
                ask("DELETE", f"/scenes/{made['scene_id']}")
                if time.monotonic() - begun > 60 * (minute + 1):
                    minute += 1
                    sizes.append(resident(service.process.pid))
        half = sizes[len(sizes) // 2 :] or [0]
        say(
            "a soak of mixed work", minutes=SOAK, rounds=rounds, wrong=len(wrong), first_wrong=wrong[:1], megabytes=sizes,
            second_half_from=half[0], second_half_to=half[-1],
        )  # fmt: skip
    finally:
        service.stop()


def revisions(data: bytes) -> None:
    """25 revisions of an 18,000-frame capture, made and then opened one after another."""
    service = Service()
    try:
        assert service.process is not None
        with httpx.Client(base_url=f"{service.base}/api", timeout=120) as http:
            begun = resident(service.process.pid)
            take = http.post("/import?filename=long.bvh", content=data).raise_for_status().json()["take_id"]
            head = http.get(f"/takes/{take}").json()["revision"]
            most = 0
            for k in range(24):
                asked = {
                    "operation": "handover", "revision": head, "parts": [{"member": "body", "part": "arm.L"}],
                    "first": 100 + 50 * k, "last": 120 + 50 * k, "choices": {"to": "ik"},
                }  # fmt: skip
                head = http.post(f"/takes/{take}/apply", json=asked).raise_for_status().json()["revision"]
            for row in http.get(f"/takes/{take}/revisions").json():
                http.get(f"/takes/{take}?revision={row['id']}").raise_for_status()
                http.get(f"/takes/{take}/poses?first=0&last=1000&revision={row['id']}").raise_for_status()
                most = max(most, _server(service.process.pid))
            time.sleep(8.0)
            say(
                "25 revisions of an 18,000-frame capture", server_mb=most, bound_mb=600, at_rest_mb=_server(service.process.pid),
                with_worker_at_first_mb=begun, with_worker_at_rest_mb=resident(service.process.pid),
            )  # fmt: skip
    finally:
        service.stop()


def _server(process: int) -> int:
    words = Path(f"/proc/{process}/status").read_text().split()
    return int(words[words.index("VmRSS:") + 1]) // 1024
