"""Faults of follows, planted in every demo take: all are found, none is invented, and repairs leave none."""

from __future__ import annotations

import unittest
from collections.abc import Callable
from dataclasses import replace
from functools import cache
from typing import NamedTuple

import numpy as np
from numpy.random import Generator

from tests.core.worlds import stepped
from tests.depth import DEPTH
from yielding_tether.core.curves import LEAVING, SMOOTH, Key, curve, insert, put
from yielding_tether.core.errors import CoreError, LoopError
from yielding_tether.core.findings import find_all
from yielding_tether.core.operations import repair
from yielding_tether.core.operations.retether import Retether, apply
from yielding_tether.core.program import Program
from yielding_tether.core.rig import Bound
from yielding_tether.core.takes import Anchor, Tether
from yielding_tether.demo.brindles_trot import brindles_trot
from yielding_tether.demo.cast_off import cast_off
from yielding_tether.demo.crate_and_rope import crate_and_rope
from yielding_tether.demo.lantern_round import lantern_round
from yielding_tether.demo.tow_strap import tow_strap

#: Each kind of fault first in each take, once or deeper.
SEEDS = 12 * DEPTH
TAKES = (cast_off, lantern_round, tow_strap, crate_and_rope, brindles_trot)


class Planted(NamedTuple):
    program: Program
    kind: str
    part: tuple[str, str]


@cache
def clean(which: int) -> Program:
    """A demo take with its own planted faults repaired."""
    program = Program(*TAKES[which]())
    return program.on(repair.apply(program, [])[0])


def ends(program: Program) -> list[Bound]:
    """Hands, feet, heads and props that nothing else hangs on."""
    held = {(t.anchor_member, t.anchor) for t in program.take.tethers}
    found = []
    for bound in program.bounds.values():
        kind = bound.member.kind
        if kind == "character" and (bound.part.name == "head" or any(c.touches for c in bound.described)):
            found.append(bound)
        if kind == "prop" and not held & {(bound.member.id, j) for j in bound.part.joints}:
            found.append(bound)
    return found


def following(bound: Bound) -> str:
    """What of a part follows: its control that stands somewhere, or its last joint."""
    return next((n for n, c in bound.controls.items() if c.control.stands), bound.part.joints[-1])


def changed(rng: Generator, program: Program, bound: Bound, frame: float) -> tuple[Program, list[int]] | None:
    """A clean change of what is followed at a frame, restored after a while, and the channels that were keyed anew."""
    control = following(bound)
    sets = [f"{m.id}/{m.skeleton.joints[0].name}" for m in program.scene.members if m.kind == "set"]
    to = str(rng.choice(["world", *sets]))
    try:
        take, _ = apply(program, Retether((bound.id,), to, frame, frame + 12.0, keys="every", control=control))
    except (CoreError, LoopError):
        return None
    after = program.on(take)
    return (after, after.bound(*bound.id).followers[control].channels) if not find_all(after) else None


def pop(rng: Generator, program: Program, bound: Bound, frame: float) -> Planted | None:
    return _broken(rng, program, bound, frame, "pop", lambda k, by: k._replace(leaving=k.leaving + by))


def speed(rng: Generator, program: Program, bound: Bound, frame: float) -> Planted | None:
    return _broken(
        rng, program, bound, frame, "speed", lambda k, by: k._replace(slope_out=k.slope_out + by, kind=SMOOTH)
    )


def _broken(
    rng: Generator, program: Program, bound: Bound, frame: float, kind: str, change: Callable[[Key, float], Key]
) -> Planted | None:  # fmt: skip
    made = changed(rng, program, bound, frame)
    if made is None or bound.state(program.now(frame, bound.driver_channels)[:, None]) != _system(made[0], bound):
        return None
    after, channels = made
    name = after.rig.names[channels[int(rng.integers(len(channels)))]]
    kept = after.take.curves[name]
    by = float((0.15 if kind == "pop" else 0.35) * rng.uniform(0.8, 1.3) * rng.choice([-1.0, 1.0]))
    key = change(kept.key(kept.find(frame) or 0), by)
    return Planted(after.with_curves({name: put(kept, [key])}), kind, bound.id)


def _system(program: Program, bound: Bound) -> str:
    """The system whose control or joint of a part follows."""
    control = following(bound)
    return next(n for n, mine in bound.systems.items() if any(c.name == control for c in mine.controls))


def overfull(rng: Generator, program: Program, bound: Bound, frame: float) -> Planted | None:
    """The same thing followed once more, beside in full."""
    full = [t for t in program.take.tethers if (t.member, t.control) == (bound.member.id, following(bound))]
    at = np.arange(frame, frame + 8.0)
    rows = {t: np.array([program.channels[n] for n in t.weights]) for t in full if t.weights}
    full = [t for t, r in rows.items() if len(r) and program.sample(at, LEAVING, r).min() >= 1.0]
    if not full:
        return None
    more = replace(full[0], name="again")
    after = program.on(replace(program.take, tethers=(*program.take.tethers, more)))
    some = stepped((0, 0.0), (frame, float(rng.uniform(0.2, 0.9))), (frame + 8.0, 0.0))
    return Planted(after.with_curves(dict.fromkeys(more.weights, some)), "overfull", bound.id)


def unused(rng: Generator, program: Program, bound: Bound, frame: float) -> Planted | None:
    control = following(bound)
    more = Tether("nobody", bound.member.id, control, "world", "world", control in bound.controls, True)
    return Planted(program.on(replace(program.take, tethers=(*program.take.tethers, more))), "unused", bound.id)


def round_(rng: Generator, program: Program, bound: Bound, frame: float) -> Planted | None:
    """Half-way to something that turns by more than half a turn against what the part hangs from."""
    if bound.part.name != "head":
        return None
    spinner = Anchor("spinner", "spinner", (0.0, 3.0, 0.0), (0.0, 0.0, 0.0, 1.0))
    joint = bound.part.joints[-1]
    tether = Tether("spin", bound.member.id, joint, "spinner", "anchor", False, True)
    take = program.take
    after = program.on(replace(take, anchors=(*take.anchors, spinner), tethers=(*take.tethers, tether)))
    most = float(rng.uniform(1.4, 1.7) * np.pi * rng.choice([-1.0, 1.0]))
    turn = curve([Key(t, v, v, 0.0, 0.0, SMOOTH) for t, v in ((frame - 25.0, 0.0), (frame + 25.0, most))])
    made = after.with_curves({"spinner/anchor.ry": turn, tether.weight_channel("rotation"): stepped((0, 0.5))})
    return Planted(made, "round", bound.id)


def leaves(rng: Generator, program: Program, bound: Bound, frame: float) -> Planted | None:
    """A hand or foot that wanders off what it stands on or holds while it follows it."""
    for contact in program.take.contacts:
        if (
            contact.member != bound.member.id
            or contact.joint not in bound.part.joints
            or contact.last - contact.first < 24
        ):
            continue
        at = 0.5 * (contact.first + contact.last)
        if bound.state(program.now(at, bound.driver_channels)[:, None]) != _system(program, bound):
            continue
        held = tuple(replace(c, within=0.02) if c is contact else c for c in program.take.contacts)
        control = bound.controls[following(bound)]
        name = program.rig.names[control.channels[int(rng.integers(2)) * 2]]
        value = float(program.now(at, [program.channels[name]])[0])
        kept = program.curve(program.channels[name])
        for edge in (at - 10.0, at + 10.0):
            kept = insert(kept, edge, 0.0)
        off = value + 0.06 * float(rng.choice([-1.0, 1.0]))
        bump = [k for k in kept.all_keys() if not at - 10.0 < k.time < at + 10.0]
        moved = curve([*bump, Key(at, off, off, 0.0, 0.0, SMOOTH)])
        after = program.on(replace(program.take, contacts=held)).with_curves({name: moved})
        return Planted(after, "leaves", bound.id)
    return None


KINDS = {"pop": pop, "speed": speed, "overfull": overfull, "unused": unused, "round": round_, "leaves": leaves}


def planted(seed: int) -> tuple[Program, list[Planted]]:
    """A demo take with up to three faults on parts of their own."""
    rng = np.random.default_rng(seed)
    program = clean(seed % len(TAKES))
    made: list[Planted] = []
    for n in range(3):
        order = list(KINDS)[(seed // 4 + 2 * n) % 6 :] + list(KINDS)[: (seed // 4 + 2 * n) % 6]
        for kind in order:
            if made and kind in ("pop", "speed"):
                # They are made of a change at which nothing else is found.
                continue
            free = [b for b in ends(program) if b.id not in {p.part for p in made}]
            tries = [free[k] for k in rng.permutation(len(free))]
            at = float(rng.integers(30, int(program.take.last) - 40))
            one = next((p for b in tries if (p := KINDS[kind](rng, program, b, at))), None)
            if one:
                made.append(one)
                program = one.program
                break
    return program, made


class EveryTake(unittest.TestCase):
    def test_all_are_found_none_is_invented_and_repairs_leave_none(self) -> None:
        kinds = set()
        for seed in range(SEEDS):
            program, made = planted(seed)
            kinds |= {p.kind for p in made}
            with self.subTest(seed=seed, planted=[(p.kind, p.part) for p in made]):
                found = find_all(program)
                self.assertCountEqual([(f.kind, (f.member, f.part)) for f in found], [(p.kind, p.part) for p in made])
                take, proof = repair.apply(program, [])
                self.assertEqual([f.sentence for f in find_all(program.on(take))], [])
                self.assertTrue(proof.unchanged_outside)
        self.assertEqual(kinds, set(KINDS))


if __name__ == "__main__":
    unittest.main()
