"""What the job costs, and what comes of it: contacts found, keys chosen, handovers, mirrors."""

from __future__ import annotations

import time
from dataclasses import replace
from fractions import Fraction
from unittest.mock import patch

import numpy as np

from measures.figures import fastest, long_capture, measured, pin_forward_kinematics, repeated, say
from tests.core.crossings import agreement, random_kind
from yielding_tether.core import few_keys
from yielding_tether.core.contact_finding import find
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations import Asked, bake, mirror, plant, repair, retether, run
from yielding_tether.core.operations.handover import Handover, apply
from yielding_tether.core.program import Program
from yielding_tether.core.takes import Scene, Take
from yielding_tether.demo.cast_off import cast_off
from yielding_tether.demo.lantern_round import lantern_round
from yielding_tether.demo.rough_crossing import crossing
from yielding_tether.formats import bvh, glb


@measured("contacts")
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


@measured("handover")
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


@measured("tidying")
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


@measured("sides and noise")
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


@measured("whole job")
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
