"""Plants faults of every kind at random places in a take without any, and says where it put them."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np
from numpy.random import Generator

from yielding_tether.core.curves import (
    EMPTY,
    FREE,
    LEAVING,
    SMOOTH,
    STEPPED,
    Curve,
    Key,
    curve,
    insert,
    put,
    sample,
    without,
)
from yielding_tether.core.fitting import fit_values
from yielding_tether.core.operations.handover import Handover, apply
from yielding_tether.core.program import Program
from yielding_tether.core.rig import Bound
from yielding_tether.core.systems.bends import bend_sides
from yielding_tether.core.takes import Take
from yielding_tether.core.transforms import multiply

from .readings import drive_of, length_of, run_of
from .worlds import stepped


@dataclass(frozen=True)
class Planted:
    """A take with one more fault, its kind and the frames it may be found between."""

    take: Take
    kind: str
    first: float
    last: float


def system_at(program: Program, limb: Bound, frame: float) -> str:
    return "ik" if program.sample([frame], LEAVING, np.array([drive_of(limb)]))[0, 0] == 1.0 else "fk"


def changed_at(rng: Generator, program: Program, limb: Bound, frame: float) -> Program:
    """A clean change of system at a frame, both systems keyed, carried on for a while and given back."""
    to = "fk" if system_at(program, limb, frame) == "ik" else "ik"
    asked = Handover(((limb.member.id, limb.part.name),), to, frame, frame + 14, keys="every")  # type: ignore[arg-type]
    return Program(program.scene, apply(program, asked)[0])


def _names(program: Program, limb: Bound, system: str) -> list[str]:
    names = program.channel_names()
    return [names[c] for c in limb.systems[system].channels]


def _changed_keys(take: Take, name: str, at: float, change: Callable[[Key], Key | None]) -> Take:
    kept = take.curves[name]
    keys = [change(k) if k.time == at else k for k in kept.all_keys()]
    return take.with_curves({name: curve([k for k in keys if k is not None])})


def pop(rng: Generator, program: Program, limb: Bound, frame: float) -> Planted:
    take = changed_at(rng, program, limb, frame).take
    name = _names(program, limb, system_at(Program(program.scene, take), limb, frame))[int(rng.integers(3))]
    size = float(rng.uniform(0.05, 0.2) * rng.choice([-1, 1]))
    return Planted(
        _changed_keys(take, name, frame, lambda k: k._replace(leaving=k.leaving + size)), "pop", frame, frame
    )


def speed(rng: Generator, program: Program, limb: Bound, frame: float) -> Planted:
    take = changed_at(rng, program, limb, frame).take
    name = _names(program, limb, system_at(Program(program.scene, take), limb, frame))[int(rng.integers(3))]
    size = float(rng.uniform(0.12, 0.2) * rng.choice([-1, 1]))
    take = _changed_keys(take, name, frame, lambda k: k._replace(slope_out=k.slope_out + size, kind=SMOOTH))
    return Planted(take, "speed", frame, frame)


def one_sided(rng: Generator, program: Program, limb: Bound, frame: float) -> Planted:
    """The keys of the outgoing or of the incoming system are taken away at the change."""
    take = changed_at(rng, program, limb, frame).take
    incoming = system_at(Program(program.scene, take), limb, frame)
    system = incoming if rng.random() < 0.5 else ("fk" if incoming == "ik" else "ik")
    for name in _names(program, limb, system):
        if name in take.curves:
            take = _changed_keys(take, name, frame, lambda k: None)
    return Planted(take, "one-sided", frame, frame)


def _drive(program: Program, limb: Bound) -> tuple[str, Curve]:
    name = program.channel_names()[drive_of(limb)]
    return name, program.take.curves.get(name, EMPTY)


def smooth(rng: Generator, program: Program, limb: Bound, frame: float) -> Planted:
    """The change is keyed by a smooth curve over several frames; both systems have keys."""
    made = changed_at(rng, program, limb, frame)
    name, drive = _drive(made, limb)
    key = drive.key(drive.find(frame) or 0)
    spread = float(rng.integers(2, 7))
    keys = [k for k in drive.all_keys() if k.time != frame]
    keys += [Key(frame, key.arriving, key.arriving, kind=SMOOTH, rule=FREE)]
    keys += [Key(frame + spread, key.leaving, key.leaving, kind=STEPPED, rule=FREE)]
    return Planted(made.take.with_curves({name: curve(keys)}), "smooth", frame, frame + spread)


def half(rng: Generator, program: Program, limb: Bound, frame: float) -> Planted:
    """The driver rests between the systems for some frames."""
    name, drive = _drive(program, limb)
    last = frame + float(rng.integers(2, 9))
    level = float(rng.uniform(0.2, 0.8))
    now = float(program.sample([frame], LEAVING, np.array([drive_of(limb)]))[0, 0])
    # A key of the driver that lies between would end the fault early.
    kept = without(insert(insert(drive if len(drive) else stepped((0, now)), frame), last), frame, last)
    first_key, last_key = kept.key(kept.find(frame) or 0), kept.key(kept.find(last) or 0)
    kept = put(kept, [first_key._replace(leaving=level, kind=STEPPED), last_key._replace(arriving=level, kind=STEPPED)])
    return Planted(program.take.with_curves({name: kept}), "half", frame, last)


def opposite(rng: Generator, program: Program, limb: Bound, frame: float) -> Planted:
    """Half-driven frames in which a joint of the idle system is turned half round."""
    last = frame + 4.0
    now = system_at(program, limb, frame)
    idle = "fk" if now == "ik" else "ik"
    # The end's own rotation is what IK can turn half round by itself.
    joint = 2 if idle == "ik" else int(rng.integers(3))
    frames = np.arange(frame - 1, last + 2)
    poses = program.evaluate(frames)
    axis = np.zeros(4)
    axis[int(rng.integers(3))] = 1.0
    node = run_of(limb)[joint]
    poses.rot[:, node] = multiply(poses.rot[:, node], np.tile(axis, (len(frames), 1)))
    near = program.sample([frame], LEAVING, limb.systems[idle].channels)[:, 0]
    values = fit_values(program, limb, idle, poses, near)
    take = program.take
    for k, name in enumerate(_names(program, limb, idle)):
        kept = take.curves.get(name, EMPTY)
        default = 1.0 if name.endswith(".bend") else 0.0
        for edge in (frames[0] - 1, frames[-1] + 1):
            kept = insert(kept, float(edge), default)
        kind = STEPPED if name.endswith(".bend") else SMOOTH
        keys = [Key(float(t), float(v), float(v), kind=kind, rule=FREE) for t, v in zip(frames, values[k], strict=True)]
        take = take.with_curves({name: put(kept, keys)})
    planted = half(np.random.default_rng(int(rng.integers(1000))), Program(program.scene, take), limb, frame)
    return Planted(planted.take, "opposite", frame, planted.last)


def flip(rng: Generator, program: Program, limb: Bound, frame: float) -> Planted:
    """The bend, or the swivel, stands on the other side for some frames."""
    last = frame + float(rng.integers(3, 9))
    names = program.channel_names()
    if rng.random() < 0.5:
        name, change = names[limb.systems["ik"].channels[9]], lambda v: -v
    else:
        half_turn = float(np.pi * rng.choice([-1, 1]))
        name, change = names[limb.systems["ik"].channels[6]], lambda v: v + half_turn
    kept = program.take.curves.get(name, EMPTY)
    default = 1.0 if name.endswith(".bend") else 0.0
    kept = insert(insert(kept, frame, default), last, default)
    keys = []
    for k in kept.all_keys():
        inside = frame < k.time < last
        keys.append(k._replace(
            arriving=change(k.arriving) if inside or k.time == last else k.arriving,
            leaving=change(k.leaving) if inside or k.time == frame else k.leaving,
        ))  # fmt: skip
    return Planted(program.take.with_curves({name: curve(keys)}), "flip", frame, last)


def lost(rng: Generator, program: Program, limb: Bound, frame: float) -> Planted:
    """The bend guide stands far away, or on the limb itself, for some frames."""
    last = frame + float(rng.integers(2, 9))
    length = length_of(limb)
    away = float(rng.uniform(3.0, 20.0)) * length if rng.random() < 0.5 else -0.8 * length
    keys = [
        Key(0.0, 0.0, 0.0, kind=STEPPED), Key(frame, 0.0, away, kind=STEPPED), Key(last, away, 0.0, kind=STEPPED)
    ]  # fmt: skip
    return Planted(
        program.take.with_curves({program.channel_names()[limb.own[f"{limb.part.name}.ik", "guide"]]: curve(keys)}),
        "lost",
        frame,
        last - 1,
    )


KINDS = {
    "pop": pop, "speed": speed, "one-sided": one_sided, "smooth": smooth, "half": half, "opposite": opposite,
    "flip": flip, "lost": lost,
}  # fmt: skip


def places(program: Program, limb: Bound, kind: str, frames: Iterable[int]) -> list[int]:
    """Those of these frames at which a fault of this kind would show: a flip needs IK and a bend, a change a limb that is not
    straight, and all some frames without another change."""
    take = program.take
    drive = program.sample(take.frames, LEAVING, np.array([drive_of(limb)]))[0]
    _, side = bend_sides(limb, limb.systems["ik"].system, program.evaluate(take.frames, only=limb.nodes))  # type: ignore[arg-type]
    bent = np.linalg.norm(side, axis=1) >= 0.12 * length_of(limb)
    found = []
    for frame in frames:
        some = slice(frame - 4 - take.first, frame + 18 - take.first)
        if some.start < 0 or some.stop > len(drive) or np.any(drive[some] != drive[some][0]) or not bent[some].all():
            continue
        if kind != "flip" or drive[some][0] == 1.0:
            found.append(frame)
    return found


def straying(program: Program, frame: float, **by: float) -> Program:
    """Marl's right arm with a key of its control at a frame that has so much more of some of its values: what it holds slips."""
    changed = {}
    for name, more in by.items():
        kept = program.take.curves[f"marl/arm.R.ik.{name}"]
        value = float(sample(kept, [frame])[0]) + more
        changed[f"marl/arm.R.ik.{name}"] = put(kept, [Key(frame, value, value)])
    return program.with_curves(changed)
