"""What poses cost: of a take, of bodies, under layers, with follows, against a library that only multiplies along a tree."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from dataclasses import replace
from functools import partial

import numpy as np

from measures.figures import alone, driven_by, fastest, measured, pin_forward_kinematics, say, waving
from tests.core.test_layers import arm, layered
from yielding_tether.core.curves import STEPPED, Key, curve
from yielding_tether.core.operations import fade_follow, flight, retether
from yielding_tether.core.operations.pose import Drag, solve_all
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Scene, Tether
from yielding_tether.demo.brindles_trot import brindles_trot
from yielding_tether.demo.cast_off import cast_off
from yielding_tether.demo.tow_strap import tow_strap


@measured("evaluation")
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


@measured("kernels")
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


@measured("bodies")
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


@measured("layers")
def layers() -> None:
    """A whole take and one frame with layers on thirty channels, against the same take without any, and a drag onto a layer."""
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


@measured("following")
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
