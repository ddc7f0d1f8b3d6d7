"""Figures of speed and memory as JSON lines, each timing beside a reference measured in the same run.

`python -m tests.measure [name …]` runs the measurements whose names contain one of these words.
"""

from __future__ import annotations

import json
import os
import platform
import resource
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from dataclasses import replace
from fractions import Fraction
from functools import partial
from typing import Any
from unittest.mock import patch

import httpx
import numpy as np
import pinocchio as pin

from yielding_tether.core import few_keys
from yielding_tether.core.contact_finding import find
from yielding_tether.core.curves import STEPPED, Curve, Key, curve
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations import Asked, bake, fade_follow, flight, mirror, plant, repair, retether, run
from yielding_tether.core.operations.handover import Handover, apply
from yielding_tether.core.operations.pose import Drag, solve_all
from yielding_tether.core.parts import LimbPart
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Scene, Take, Tether
from yielding_tether.demo.brindles_trot import brindles_trot
from yielding_tether.demo.cast_off import cast_off
from yielding_tether.demo.lantern_round import lantern_round
from yielding_tether.demo.rough_crossing import crossing
from yielding_tether.demo.tow_strap import tow_strap
from yielding_tether.formats import bvh, glb

from . import page_measure, soak
from .captures import prolonged
from .core.crossings import agreement, random_kind


def say(name: str, **figures: object) -> None:
    print(json.dumps({"figure": name, **figures}), flush=True)


def fastest(work: Callable[[], object], times: int) -> float:
    """Seconds of the fastest of some runs: what the machine can do when nothing else disturbs it."""
    found = []
    for _ in range(times):
        began = time.perf_counter()
        work()
        found.append(time.perf_counter() - began)
    return min(found)


def alone(work: Callable[[], object], times: int) -> float:
    """Seconds of the fastest of some runs without the help of other cores."""
    with patch("yielding_tether.core.program.CORES", 1):
        return fastest(work, times)


def pin_forward_kinematics(program: Program, frames: int) -> Callable[[], None]:
    """Forward kinematics alone of the same joints in the rigid-body library, spherical joints, one call a frame."""
    model = pin.Model()
    for member in program.scene.members:
        ids: list[int] = []
        for joint in member.skeleton.joints:
            at = pin.SE3(np.eye(3), np.array(joint.offset))
            up = ids[joint.parent] if joint.parent >= 0 else 0
            kind = pin.JointModelSpherical() if joint.parent >= 0 else pin.JointModelFreeFlyer()
            ids.append(model.addJoint(up, kind, at, f"{member.id}/{joint.name}"))
    data = model.createData()
    poses = [pin.randomConfiguration(model, -np.ones(model.nq), np.ones(model.nq)) for _ in range(frames)]

    def work() -> None:
        for q in poses:
            pin.forwardKinematics(model, data, q)

    return work


def driven_by(program: Program, system: str) -> Program:
    """The same take with every limb driven by one system throughout."""
    changed = {}
    for bound in program.bounds.values():
        if system in bound.systems and any(c.touches for c in bound.described):
            for c, level in bound.drive_to(system).items():
                changed[program.channel_names()[c]] = curve([Key(0.0, level, level, kind=STEPPED)])
    return program.with_curves(changed)


def evaluation() -> None:
    """A whole take, by all cores, against forward kinematics alone of the same tree by one, as the reference offers it; as it is
    and driven by one kind of system."""
    program = Program(*cast_off())
    frames = program.take.frames
    reference = pin_forward_kinematics(program, len(frames))
    takes = {
        "as is": (program, 1.15),
        "all FK": (driven_by(program, "fk"), 0.9),
        "all IK": (driven_by(program, "ik"), 1.15),
    }
    # In turns, so that all meet the same machine.
    ratios: dict[str, list[float]] = {name: [] for name in takes}
    single: dict[str, list[float]] = {name: [] for name in takes}
    pins = []
    for _ in range(11):
        pins.append(fastest(reference, 9))
        for name, (one, _) in takes.items():
            whole = partial(one.evaluate, frames)
            ratios[name].append(fastest(whole, 9) / pins[-1])
            single[name].append(alone(whole, 9) / pins[-1])
    per_frame = float(np.median(pins)) / len(frames)
    for name, (_, bound) in takes.items():
        say(
            f"whole-take evaluation {name}, against forward kinematics alone", median=round(float(np.median(ratios[name])), 2),
            bound=bound, least=round(min(ratios[name]), 2), most=round(max(ratios[name]), 2),
            on_one_core=round(float(np.median(single[name])), 2),
        )  # fmt: skip
    long = np.tile(frames, 5)
    say(
        "that of a frame, and at five times the frames", pin_microseconds=round(1e6 * per_frame, 2),
        joints=len(program.joints()[0]), frames=len(frames),
        ratio_at_five_times=round(fastest(lambda: program.evaluate(long), 20) / len(long) / per_frame, 2),
    )  # fmt: skip
    frame = float(np.median([fastest(lambda: program.evaluate([100.0]), 30) for _ in range(11)]))
    say("one frame", microseconds=round(1e6 * frame, 1), bound=70, pin_frames=round(frame / per_frame, 1))


def kernels() -> None:
    """Compiling all kernels from nothing, in the two processes of set-up."""
    with tempfile.TemporaryDirectory() as folder:
        code = (
            "import time, resource as r; t = time.perf_counter(); from yielding_tether.warm import compiled; compiled();"
            "print(time.perf_counter() - t, *(sum(r.getrusage(w)[:2]) for w in (r.RUSAGE_SELF, r.RUSAGE_CHILDREN)))"
        )
        found = []
        for _ in range(2):
            done = subprocess.run(
                [sys.executable, "-c", code],
                env={**os.environ, "NUMBA_CACHE_DIR": folder},
                capture_output=True,
                text=True,
                check=True,
            )
            found.append([float(x) for x in done.stdout.split()])
    cold, known = found
    say(
        "kernels compiled from nothing, in two processes", seconds=round(cold[0] - known[0], 1), bound=20,
        of_processors=round(sum(cold[1:]) - sum(known[1:]), 1), compiled_before=round(known[0], 1),
    )  # fmt: skip


def waving(low: float, high: float) -> Curve:
    """A curve that goes from one value to another and jumps back, every 40 frames."""
    keys = [(t, low + (high - low) * (t / 40.0 % 1.0)) for t in range(0, 205, 20)]
    return curve([Key(float(t), v, v) for t, v in keys])


def bodies() -> None:
    """Whole takes against forward kinematics alone of the same trees: Marl, Pip and the goat together; Marl with everything active
    that a take can have: every limb in IK with its collarbone, hands by three named values each, hands, feet and hips about points,
    feet that roll, a size, a hand and a head that follow half; the same while every part is between two systems, as in a crossfade
    of all of him at once."""
    scene, take = tow_strap()
    goat_scene, goat = brindles_trot()
    cast = Scene("three", (*scene.members, *goat_scene.members))
    three = Program(cast, replace(take, curves={**take.curves, **goat.curves}, tethers=(*take.tethers, *goat.tethers)))
    plain = Program(*cast_off())
    names = plain.channel_names()
    drivers = [names[c] for b in plain.bounds.values() for _, c in b.drivers if b.member.id == "marl"]
    curves = {name: curve([Key(0.0, 1.0, 1.0, kind=STEPPED)]) for name in drivers}
    curves |= {f"marl/fingers.{s}.value.{v}": waving(0.05, 0.9) for s in "LR" for v in ("curl", "spread", "fist")}
    turned = ("leg.L.ik", "leg.R.ik", "arm.L.ik", "arm.R.ik", "hips")
    curves |= {f"marl/{c}.pivot.{a}": curve([Key(0.0, 0.05, 0.05, kind=STEPPED)]) for c in turned for a in "xyz"}
    curves |= {"marl/hips.size": waving(1.0, 1.2), **{f"marl/leg.{s}.ik.roll": waving(0.05, 0.4) for s in "LR"}}
    more = (
        Tether("more", "marl", "arm.L.ik", "deck", "deck"), Tether("more", "marl", "head.lead", "deck", "deck", False, True)
    )  # fmt: skip
    curves |= {w: waving(0.05, 0.5) for t in more for w in t.weights}
    busy = plain.on(replace(plain.take, tethers=(*plain.take.tethers, *more))).with_curves(curves)
    mixed = busy.with_curves({name: waving(0.05, 0.8) for name in drivers})
    for name, program, bound in (
        ("Marl, Pip and the goat", three, None), ("Marl with everything active", busy, 1.3),
        ("Marl with everything mixed", mixed, None),
    ):  # fmt: skip
        frames = program.take.frames
        reference = pin_forward_kinematics(program, len(frames))
        program.evaluate(frames)
        whole = partial(program.evaluate, frames)
        ratios = [fastest(whole, 5) / fastest(reference, 5) for _ in range(9)]
        single = [alone(whole, 5) / fastest(reference, 5) for _ in range(9)]
        median, one = (round(float(np.median(r)), 2) for r in (ratios, single))
        say(
            f"whole-take evaluation, {name}",
            median=median,
            bound=bound,
            on_one_core=one,
            joints=len(program.joints()[0]),
        )


def layers() -> None:
    """A whole take and one frame with layers on thirty channels, against the same take without any, and a drag onto a layer."""
    from .core.test_layers import arm, layered

    plain = Program(*cast_off())
    names = arm(plain, "ik") + arm(plain, "fk", "leg.L") + arm(plain, "lead", "head")
    frames = plain.take.frames
    whole, one = fastest(lambda: plain.evaluate(frames), 20), fastest(lambda: plain.evaluate([60.0]), 50)
    for count in (1, 5, 20):
        rng = np.random.default_rng(count)
        program = layered(rng, plain, names, count)
        times = iter(frames[None] + 1e-3 * rng.random((200, 1)))
        drag = Drag("marl", "arm.L", "arm.L.ik", 150.0, (0.3, 1.2, 0.5), layer="l0")
        say(
            f"{count} layers on {len(program.layering.channels)} channels", frames=len(frames),
            whole_take_ratio=round(fastest(lambda p=program, t=times: p.evaluate(next(t)), 20) / whole, 1),
            one_frame_ratio=round(fastest(lambda p=program, t=times: p.evaluate(next(t)[:1]), 50) / one, 1),
            drag_ms=round(1e3 * fastest(lambda p=program, d=drag: solve_all(p, d), 20), 2),
        )  # fmt: skip


def contacts() -> None:
    """How far contacts that are found agree with what the makers of crossings know, by how much noise there is, and what finding
    costs beside evaluating every frame."""
    for noise in (0.0, 0.001, 0.002, 0.003, 0.004, 0.005):
        edges: list[float] = []
        wrong = frames = off = 0
        times: list[float] = []
        for n in range(8):
            kind = random_kind(np.random.default_rng(900 + n), 900 + n, (noise, noise))
            made = crossing(kind)
            program = Program(made.scene, made.take)
            began = time.perf_counter()
            found = find(program)
            spent = time.perf_counter() - began
            program = program.on(replace(made.take, name="again"))
            times.append(spent / fastest(lambda p=program: p.evaluate(p.take.frames), 3))
            for point in agreement(made, found).values():
                edges += point.edges
                wrong += len(point.missed) + len(point.split) + len(point.invented)
                frames += point.both
                off += point.invented_frames + point.missed_frames
        say(
            f"contacts found in eight crossings with noise of {1000.0 * noise:g} mm", edges=len(edges),
            edges_within_2=round(float((np.abs(edges) <= 2.0).mean()), 3), median=round(float(np.median(np.abs(edges))), 2),
            frames_agree=round(frames / (frames + off), 4), missed_split_invented=wrong,
            times_an_evaluation=round(float(np.median(times)), 1),
        )  # fmt: skip


def handover() -> None:
    """A handover with its proof on a take of 1,000 frames."""
    scene, take = cast_off()
    repeats = 5
    curves = {name: repeated(c, repeats) for name, c in take.curves.items()}
    long = Program(scene, Take("long", Fraction(24), 0, 999, curves, take.tethers))
    reference = pin_forward_kinematics(long, 1000)
    for keys in ("kept", "every"):
        asked = Handover((("marl", "arm.R"),), "ik", 20.0, 990.0, keys=keys)  # type: ignore[arg-type]
        seconds = fastest(lambda asked=asked: apply(long, asked), 5)
        say(
            f"handover on 1,000 frames with proof, keys {keys}", seconds=round(seconds, 3), bound=0.3,
            pin_kilo_frames=round(seconds / fastest(reference, 3), 1),
        )  # fmt: skip


def repeated(c: Curve, count: int) -> Curve:
    """A curve's keys before frame 200, again and again every 200 frames."""
    keep = (c.times >= 0.0) & (c.times < 200.0)
    shifted = [c.numbers[keep] + np.array([200.0 * k, 0, 0, 0, 0]) for k in range(count)]
    return Curve(np.concatenate(shifted), np.concatenate([c.marks[keep]] * count))


def live() -> None:
    """Live posing through the WebSocket of the real service: as the take is, and while eight more controls follow."""
    from .servers import Service, ask

    service = Service()
    try:
        scenes = ask.get(f"{service.base}/api/scenes").json()
        take = next(t["id"] for s in scenes for t in s["takes"] if t["name"] == "Cast off")
        _live(service.base, take, "live posing, request to reply")
        for k, part in enumerate(("head", "spine", "fingers.L", "fingers.R", "leg.L", "leg.R", "arm.L", "arm.R")):
            revision = ask.get(f"{service.base}/api/takes/{take}").json()["revision"]
            asked = {
                "revision": revision, "operation": "retether", "parts": [{"member": "marl", "part": part}], "first": 20,
                "last": None, "choices": {"to": ("world", "deck/deck", "rail/rail")[k % 3], "after": "ride"},
            }  # fmt: skip
            ask.post(f"{service.base}/api/takes/{take}/apply", json=asked, timeout=60).raise_for_status()
        _live(service.base, take, "live posing while eight more follow")
    finally:
        service.stop()


def _live(base: str, take: int, name: str) -> None:
    """Six hundred drags of a hand, one after the other."""
    from .servers import ask, socket_to

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


def working() -> None:
    """Opening, trying, applying, undoing over HTTP: a take of 205 frames, and 9,000 frames of a leg."""
    import httpx

    from .servers import Service

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
                if p["kind"] == "limb" and word in (p["name"], p["label"].split()[-1])
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


def full_take() -> None:
    """The same live posing, poses and opening on a take with 2,000 keys more and 50 revisions, against a fresh one."""
    import httpx

    from .servers import Service, socket_to

    service = Service()
    try:
        http = httpx.Client(base_url=f"{service.base}/api", timeout=120)
        take = http.get("/scenes").json()[0]["takes"][0]["id"]
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
            f"marl/{j}.{c}" for j in ("spine.low", "spine.mid", "chest", "neck", "head") for c in ("rx", "ry", "rz")
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


def kills() -> None:
    """Fifty kills of the server and fifty of the database while an animator works: see tests/service/test_kills.py."""
    done = subprocess.run(
        [sys.executable, "-m", "tests.run", "tests.service.test_kills"],
        env={**os.environ, "YIELDING_TETHER_TEST_KILLS": "50"}, capture_output=True, text=True, check=False,
    )  # fmt: skip
    say("50 kills of the server and 50 of the database", nothing_lost=done.returncode == 0)


def faults() -> None:
    """What hostile files cost, and how long others wait while a large one is read."""
    from .servers import Service, ask

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
    soak.revisions(say, data)


def capture() -> None:
    """Import of an 18,000-frame capture, in a process of its own so that its memory can be told."""
    done = subprocess.run(
        [sys.executable, "-m", "tests.measure", "--capture"], capture_output=True, text=True, check=True
    )
    print(done.stdout, end="", flush=True)


def capture_here() -> None:
    """Writes the capture, reads and plays it through the store; prints time and peak memory."""
    from .servers import fresh_store

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


def long_capture(program: Program, frames: int) -> bytes:
    """The demo take as a capture, its rows repeated to this many frames."""
    return prolonged(bvh.write(program, "marl", 0, 199), frames)


def tidying() -> None:
    """Reading a take and repairing it, bringing few keys in, and writing it out."""
    program = Program(*lantern_round())
    reference = fastest(lambda: program.evaluate(program.take.frames), 20)
    for name, work in {
        "findings of a whole take": lambda: find_all(program),
        "repair of all findings with proof": lambda: repair.apply(program, []),
        "handover within a tolerance, 1 mm": lambda: apply(
            program, Handover((("marl", "leg.R"),), "fk", 10.0, 180.0, keys="within")
        ),
        "GLB of a whole take": lambda: glb.write(program, "marl", 0.0, 192.0),
    }.items():
        seconds = fastest(work, 3)
        say(name, seconds=round(seconds, 3), ratio_to_evaluating_the_take=round(seconds / reference, 1))


def sides_and_noise() -> None:
    """A capture mirrored, and one leg of it smoothed, against evaluating it."""
    scene, take = cast_off()
    for frames in (1_000, 10_000):
        read = bvh.read(long_capture(Program(scene, take), frames), "body", "long")
        program = Program(Scene("long", (read.member,)), read.take)
        reference = fastest(lambda p=program: p.evaluate(p.take.frames), 3)
        for name, asked in {
            "mirror": Asked((("body", "head"),), 0.0, None, {"what": "body", "plane": "own"}),
            "smooth": Asked((("body", "leg.L"),), 0.0, None, {"above": 4.0}),
        }.items():
            seconds = fastest(lambda p=program, n=name, a=asked: run(p, n, a), 1)
            say(
                f"{name} of {frames:,} frames of a capture", seconds=round(seconds, 2),
                ratio_to_evaluating_them=round(seconds / reference, 1),
            )  # fmt: skip


def whole_job() -> None:
    """Baking, following, planting and mirroring."""
    scene, take = cast_off()
    read = bvh.read(long_capture(Program(scene, take), 1_000), "body", "long")
    program = Program(Scene("long", (read.member,)), read.take)
    reference = fastest(lambda: program.evaluate(program.take.frames), 5)
    limbs = [b.part.name for b in program.bounds.values() if any(c.touches for c in b.described)]
    parts = tuple(("body", name) for name in ("root", "spine", *limbs))
    night = Program(*lantern_round())
    everyone = tuple(m.id for m in night.scene.members if m.kind in ("character", "prop"))
    every = tuple(b.id for b in program.bounds.values())
    works = {
        "bake of 1,000 frames of limbs, spine and root with few keys": lambda: bake.apply(
            program, bake.Bake(parts, "", 0.0)
        ),
        "bake of 1,000 frames of every part with few keys": lambda: bake.apply(program, bake.Bake(every, "", 0.0)),
        "a foot planted for 30 frames": lambda: plant.apply(
            program, plant.Plant((("body", limbs[-1]),), "world", 20.0, 50.0)
        ),
        "a lantern that follows the other hand": lambda: retether.apply(
            night, retether.Retether((("lantern", "lantern"),), "marl/hand.L", 60.0, after="ride")
        ),
        "a take mirrored": lambda: mirror.apply(night, mirror.Mirror(everyone, 0.0)),
    }
    for name, asked in (("limbs, spine and root", parts), ("every part", every)):
        few = bake.apply(program, bake.Bake(asked, "", 0.0))[1].keys.added
        with patch.multiple(few_keys, BENDS=few_keys.BENDS[:1], _without_spare=lambda curves, *_: curves):
            own = bake.apply(program, bake.Bake(asked, "", 0.0))[1].keys.added
        say(
            f"few keys of {name}, own times, against as few with the motion's own slopes", ratio=round(few / own, 3), bound=0.85,
            keys=few, own_slopes=own,
        )  # fmt: skip
    for name, work in works.items():
        seconds = fastest(work, 2)
        made, proof = work()
        say(
            name, seconds=round(seconds, 2), ratio_to_evaluating_1000_frames=round(seconds / reference, 1),
            keys_added=proof.keys.added, within=proof.within, place_mm=round(1000 * proof.departure_place.value, 3),
            keys=sum(map(len, made.curves.values())),
        )  # fmt: skip


def following() -> None:
    """What a follow costs: of a joint's turn, with one anchor and with four; changes of it; ten throws."""
    scene, take = cast_off()
    plain = Program(scene, take)
    anchors = [("world", "world"), ("deck", "deck"), ("rail", "rail"), ("marl", "hips")]
    tied = {
        name: tuple(Tether(f"t{k}", "marl", "head", *a, False, True) for k, a in enumerate(anchors[:count]))
        for name, count in (("one anchor", 1), ("four anchors", 4))
    }
    programs = {"no follow": plain}
    for name, tethers in tied.items():
        program = plain.on(replace(take, tethers=(*take.tethers, *tethers)))
        programs[f"{name}, dialled out"] = program
        share = curve([Key(0, 0.2, 0.2, 0, 0, STEPPED)])
        programs[name] = program.with_curves({t.weight_channel("rotation"): share for t in tethers})
    for program in programs.values():
        program.evaluate(take.frames)
    seconds = {
        name: np.median([fastest(lambda p=p: p.evaluate(take.frames), 3) for _ in range(11)])
        for name, p in programs.items()
    }  # type: ignore[misc]
    say("a head that follows", **{n: round(float(s / seconds["no follow"]), 3) for n, s in seconds.items()})
    sized = plain.with_curves({"marl/hips.size": curve([Key(0, 1.5, 1.5, 0, 0, STEPPED)])})
    sized.evaluate(take.frames)
    took = np.median([fastest(lambda: sized.evaluate(take.frames), 3) for _ in range(11)])
    say("a body with a size", ratio_to_evaluating_the_take=round(float(took / seconds["no follow"]), 3))
    rope = (("rope", "rope"),)
    works = {
        "ten throws": lambda: [flight.apply(plain, flight.Flight(rope, 75.0 + k, 96.0)) for k in range(10)],
        "a head that follows the world": lambda: retether.apply(
            plain, retether.Retether((("marl", "head"),), "world", 20.0)
        ),
        "a fade to it": lambda: fade_follow.apply(
            plain, fade_follow.FadeFollow((("marl", "head"),), "world", 20.0, 32.0)
        ),
    }
    for name, work in works.items():
        took = fastest(work, 3)
        say(name, seconds=round(took, 3), ratio_to_evaluating_the_take=round(took / float(seconds["no follow"]), 1))


MEASUREMENTS = {
    "evaluation": evaluation, "bodies": bodies, "kernels": kernels, "layers": layers, "handover": handover, "tidying": tidying,
    "contacts": contacts, "sides and noise": sides_and_noise, "live": live, "working": working, "whole job": whole_job,
    "following": following, "full take": full_take, "capture": capture, "faults": faults, "kills": kills,
    "writers": lambda: soak.writers(say), "soak": lambda: soak.soak(say), "page": lambda: page_measure.page(say),
}  # fmt: skip


def main() -> None:
    if "--capture" in sys.argv:
        capture_here()
        return
    words = sys.argv[1:]
    say("machine", python=platform.python_version(), numpy=np.__version__, pin=pin.__version__)
    for name, work in MEASUREMENTS.items():
        # Some take many minutes: only by name.
        if any(w in name for w in words) or (not words and name not in ("kills", "writers", "soak", "page")):
            work()


if __name__ == "__main__":
    main()
