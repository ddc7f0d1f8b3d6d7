"""What the service costs those who work at it."""

from __future__ import annotations

import json
import resource
import subprocess
import sys
import time
from collections.abc import Callable
from typing import Any

import httpx
import numpy as np

from measures.figures import long_capture, measured, say
from tests.servers import Service, ask, fresh_store, socket_to
from yielding_tether.core.parts import LimbPart
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Scene
from yielding_tether.demo.cast_off import cast_off
from yielding_tether.formats import bvh


@measured("live")
def live() -> None:
    """Live posing through the WebSocket of the real service: as the take is, and while eight more controls follow."""
    service = Service()
    try:
        scenes = ask.get(f"{service.base}/api/scenes").json()
        take = next(t["id"] for s in scenes for t in s["takes"] if t["name"] == "Cast off")
        _live(service.base, take, "live posing, request to reply")
        for k, part in enumerate(("head", "spine", "fingers.L", "fingers.R", "leg.L", "leg.R", "arm.L", "arm.R")):
            revision = ask.get(f"{service.base}/api/takes/{take}").json()["revision"]
            asked = {
                "revision": revision, "operation": "retether", "parts": [{"member": "marl", "part": part}], "first": 20,
                "last": None, "choices": {"to": ("world", "deck/deck", "rail/rail")[(k + k // 4) % 3], "after": "ride"},
            }  # fmt: skip
            ask.post(f"{service.base}/api/takes/{take}/apply", json=asked, timeout=60).raise_for_status()
        _live(service.base, take, "live posing while eight more follow")
    finally:
        service.stop()


def _live(base: str, take: int, name: str) -> None:
    """Six hundred drags of a hand, one after the other."""
    info = ask.get(f"{base}/api/takes/{take}").json()
    drag = {"revision": info["revision"], "frame": 60, "member": "marl", "part": "arm.R", "control": "arm.R.ik"}
    found, echo = [], []
    with socket_to(f"{base.replace('http', 'ws')}/api/takes/{take}/live") as socket:
        for k in range(600):
            place = [-0.2 + 0.1 * np.sin(k / 20), 1.2 + 0.1 * np.cos(k / 30), 0.35]
            began = time.perf_counter()
            socket.send(json.dumps({**drag, "position": place, "seq": k}))
            socket.recv()
            found.append(time.perf_counter() - began)
            # The reference: a message the service refuses at once, over the same socket.
            began = time.perf_counter()
            socket.send("{}")
            socket.recv()
            echo.append(time.perf_counter() - began)
    ms = 1000 * np.array(found[100:])
    say(
        name, median_ms=round(float(np.median(ms)), 2), bound_median_ms=4,
        p95_ms=round(float(np.percentile(ms, 95)), 2), bound_p95_ms=16,
        ratio_to_refused_message=round(float(np.median(ms) / (1000 * np.median(echo[100:]))), 2),
    )  # fmt: skip


@measured("working")
def working() -> None:
    """Opening, trying, applying, undoing over HTTP: a take of 205 frames, and 9,000 frames of a leg."""
    service = Service()
    try:
        http = httpx.Client(base_url=f"{service.base}/api", timeout=120)
        scene, take = cast_off()
        data = long_capture(Program(scene, take), 9_000)
        http.post("/import", params={"filename": "Long.bvh"}, content=data).raise_for_status()
        takes = {t["name"]: t["id"] for s in http.get("/scenes").json() for t in s["takes"]}
        ids = {"205 frames": takes.pop("Cast off"), "9,000 frames": next(i for n, i in takes.items() if "Long" in n)}
        for name, id in ids.items():
            info = http.get(f"/takes/{id}").json()
            # The right arm of the demo's sailor, any leg of the capture.
            word = "arm.R" if name == "205 frames" else "leg"
            member, part = next(
                (m["id"], p["name"]) for m in info["members"] for p in m["parts"]
                if word in (p["name"], p["label"].split()[-1])
            )  # fmt: skip
            asked = {
                "operation": "handover", "parts": [{"member": member, "part": part}], "first": 20, "last": None,
                "choices": {"to": "ik"},
            }  # fmt: skip
            times: dict[str, list[float]] = {"open": [], "try": [], "apply": [], "undo": []}

            def timed(
                what: str, work: Callable[[], httpx.Response], times: dict[str, list[float]] = times
            ) -> dict[str, Any]:
                began = time.perf_counter()
                answer = work()
                times[what].append(1000 * (time.perf_counter() - began))
                if answer.is_error:
                    raise SystemExit(answer.text)
                found: dict[str, Any] = answer.json()
                return found

            at = info["revision"]
            for _ in range(11 if name == "205 frames" else 3):
                body = {**asked, "revision": at}
                timed("try", lambda body=body, id=id: http.post(f"/takes/{id}/try", json=body))
                done = timed("apply", lambda body=body, id=id: http.post(f"/takes/{id}/apply", json=body))
                timed("open", lambda id=id: http.get(f"/takes/{id}"))
                timed(
                    "undo", lambda done=done, id=id: http.post(f"/takes/{id}/undo", json={"revision": done["revision"]})
                )
            say(f"working on {name}, milliseconds", **{k: round(float(np.median(v)), 1) for k, v in times.items()})
    finally:
        service.stop()


@measured("full take")
def full_take() -> None:
    """The same live posing, poses and opening on a take with 2,000 keys more and 50 revisions, against a fresh one."""
    service = Service()
    try:
        http = httpx.Client(base_url=f"{service.base}/api", timeout=120)
        take = next(t["id"] for s in http.get("/scenes").json() for t in s["takes"] if t["name"] == "Cast off")
        drag = {"frame": 60, "member": "marl", "part": "arm.R", "control": "arm.R.ik"}

        def timed(work: Callable[[], object], times: int) -> float:
            found = []
            for _ in range(times):
                began = time.perf_counter()
                work()
                found.append(time.perf_counter() - began)
            return 1000 * float(np.median(found))

        def figures() -> dict[str, float]:
            head = http.get(f"/takes/{take}").json()["revision"]
            with socket_to(f"{service.base.replace('http', 'ws')}/api/takes/{take}/live") as socket:
                k = iter(range(10_000))

                def ask() -> None:
                    n = next(k)
                    place = [-0.2 + 0.1 * np.sin(n / 20), 1.2, 0.35]
                    socket.send(json.dumps({**drag, "revision": head, "position": place, "seq": n}))
                    socket.recv()

                timed(ask, 60)
                live_ms = timed(ask, 300)
            poses = {"first": 0, "last": 127, "revision": head}
            return {
                "live_ms": live_ms,
                "poses_ms": timed(lambda: http.get(f"/takes/{take}/poses", params=poses), 40),
                "open_ms": timed(lambda: http.get(f"/takes/{take}"), 20),
            }

        fresh = figures()
        rows = [
            f"marl/{j}.{c}" for j in ("spine.low", "spine.mid", "chest", "neck.low", "head") for c in ("rx", "ry", "rz")
        ]
        added = 0
        for n in range(50):
            head = http.get(f"/takes/{take}").json()["revision"]
            times = [k + 0.5 + n / 101 for k in range(n % 7, 200, 70)]
            edit = {"what": "add", "keys": [{"channel": c, "times": times} for c in rows]}
            http.post(
                f"/takes/{take}/apply", json={"operation": "edit", "revision": head, "edit": edit}
            ).raise_for_status()
            added += len(rows) * len(times)
        full = figures()
        say(
            "a take with keys added and 50 revisions, against a fresh one", keys_added=added,
            **{f"{name}_ratio": round(full[name] / fresh[name], 2) for name in fresh},
            **{f"{name}_fresh": round(fresh[name], 2) for name in fresh},
        )  # fmt: skip
    finally:
        service.stop()


@measured("capture")
def capture() -> None:
    """Import of an 18,000-frame capture, in a process of its own so that its memory can be told."""
    done = subprocess.run([sys.executable, "-m", "measures.service"], capture_output=True, text=True, check=True)
    print(done.stdout, end="", flush=True)


def capture_here() -> None:
    """Writes the capture, reads and plays it through the store; prints time and peak memory."""
    scene, take = cast_off()
    program = Program(scene, take)
    data = long_capture(program, 18_000)
    began = time.perf_counter()
    sum(map(float, data[data.index(b"Frame Time") :].split(b"\n", 1)[1].split()))
    reference = time.perf_counter() - began
    store = fresh_store()
    base = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    began = time.perf_counter()
    read = bvh.read(data, "body", "long")
    _, (id_,) = store.add_scene(Scene("long", (read.member,)), [read.take])
    seconds = time.perf_counter() - began
    del read
    loaded = store.load(id_)
    played = Program(loaded.scene, loaded.take)
    began = time.perf_counter()
    for first in range(0, 18_000, 1000):
        played.evaluate(np.arange(first, first + 1000.0))
    evaluated = time.perf_counter() - began
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    say(
        "18,000-frame capture", import_seconds=round(seconds, 2), bound_seconds=10,
        ratio_to_parsing_its_numbers=round(seconds / reference, 1), evaluate_seconds=round(evaluated, 2),
        peak_memory_mb=round(peak / 1024), before_import_mb=round(base / 1024), bound_mb=1024,
        joints=len(played.joints()[0]), file_mb=round(len(data) / 1e6, 1),
        limbs=sum(isinstance(p, LimbPart) for p in loaded.scene.members[0].parts),
    )  # fmt: skip


if __name__ == "__main__":
    capture_here()
