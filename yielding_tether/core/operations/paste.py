"""Pasting a clip: to another frame, take, body or side. What has no match is listed, never dropped in silence."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from ..cast import FkPart, FreePart, LimbPart, Member, Part
from ..clips import Clip, PartClip, across, control_of, matching, put_turns, reflected, slots
from ..curves import (
    ARRIVING,
    EMPTY,
    FENCE,
    FREE,
    LEAVING,
    SMOOTH,
    STEPPED,
    Curve,
    Key,
    insert,
    put,
    set_value,
    without,
)
from ..errors import CoreError
from ..evaluation import Poses, Program
from ..fitting import fit_values, system_channels
from ..measure import slopes_of, stencil
from ..proof import Proof, prove, reach
from ..systems import fk
from ..takes import Take
from ..transforms import ORDERS, Floats, Ints


@dataclass(frozen=True)
class Paste:
    """A clip put onto `member` at `frame`; `swap` puts it on the other side, reflected. `way`: "pose" poses the joints
    and fits every system to them, "values" writes the channels as they were keyed. With `systems` a range brings what
    drives and what is followed along; a pose never does, since both systems take it."""

    clip: Clip
    member: str
    frame: float
    swap: bool = False
    way: Literal["pose", "values"] = "pose"
    systems: bool = True


def apply(program: Program, asked: Paste) -> tuple[Take, Proof]:
    """The take with the clip pasted, and its proof; its notes list what found no match. CoreError if nothing did."""
    take, clip = program.take, asked.clip
    first, last = float(asked.frame), float(asked.frame) + clip.length
    if not take.first <= first <= last <= take.last:
        raise CoreError(
            f"The clip would reach from frame {first:g} to {last:g}; the take runs from {take.first} to {take.last}."
        )
    if asked.swap and asked.way == "values":
        raise CoreError("Values can't be put on the other side as they are: paste the pose.")
    member = program.scene.member(asked.member)
    pairs: list[tuple[PartClip, Part]] = []
    notes = []
    for copied in clip.parts:
        part = matching(member, copied, asked.swap)
        if part is None:
            notes.append(
                f"{copied.label}: {member.name} has no part like it" + (" on the other side." if asked.swap else ".")
            )
        else:
            pairs.append((copied, part))
    if not pairs:
        raise CoreError(f"Nothing of this clip has a match in {member.name}: {' '.join(notes)}")
    refused = [p.label for _, p in pairs if _captured(program, member, p, first, last)]
    if refused:
        raise CoreError(f"Captured motion drives {', '.join(refused)} there: hand it over to IK or FK first.")
    curves = dict(take.curves)
    if asked.systems and clip.length > 0.0:
        for copied, part in pairs:
            notes += _values(member, copied, part, curves, first, last, drivers=True)
            notes += _weights(program, member, copied, part, curves, first, last)
    # The poses are put where the body stands once all that drives and is followed is in place, from the root outward.
    normal = across(member)
    order = {j.name: n for n, j in enumerate(member.skeleton.joints)}
    for copied, part in sorted(pairs, key=lambda pair: order[pair[1].joints[0]]):
        if asked.way == "values" or isinstance(part, FreePart):
            notes += _values(member, copied, part, curves, first, last, drivers=False)
        else:
            now = Program(program.scene, take.with_curves(curves))
            _pose(now, member, copied, part, curves, first, last, normal if asked.swap else None)
    changed = {n: c for n, c in curves.items() if c is not take.curves.get(n)}
    after = Program(program.scene, take.with_curves(changed))
    after.check_loops()
    low, high = (first, last) if clip.length > 0.0 else reach(take, changed)
    limbs = [after.limbs[member.id, p.name] for _, p in pairs if isinstance(p, LimbPart)]
    edges = [t for t in {first, last} if clip.length > 0.0 and take.first < t < take.last]
    proof = prove("paste", program, after, low, high, [(m, t) for m in limbs for t in edges], notes=tuple(notes))
    return after.take, proof


def _captured(program: Program, member: Member, part: Part, first: float, last: float) -> bool:
    c = program.channels.get(f"{member.id}/{part.name}.captured")
    at = np.linspace(first, last, 9)
    return c is not None and bool(np.any(program.sample(at, LEAVING, np.array([c])) > 0.0))


def _over(old: Curve, keys: list[Key], first: float, last: float, default: float) -> Curve:
    """A curve that holds these keys from first to last and is as it was elsewhere."""
    kept = without(insert(insert(old, first, default), last, default), first, last)
    a, b = kept.key(kept.find(first) or 0), kept.key(kept.find(last) or 0)
    new = [*keys]
    new[0] = new[0]._replace(arriving=a.arriving, slope_in=a.slope_in, rule=FREE, tag=FENCE)
    new[-1] = new[-1]._replace(leaving=b.leaving, slope_out=b.slope_out, kind=b.kind, rule=FREE, tag=FENCE)
    return put(kept, new)


def _weights(
    program: Program, member: Member, copied: PartClip, part: Part, curves: dict[str, Curve], first: float, last: float
) -> list[str]:
    """Pastes the weights of what is followed; returns what has no match."""
    notes = []
    for suffix, weight in copied.weights:
        name = f"{member.id}/{control_of(part)}.{suffix}"
        if name not in program.channels:
            notes.append(f"{part.label}: it follows nothing called {suffix.partition('.')[0]} here.")
            continue
        curves[name] = _over(curves.get(name, EMPTY), _at(weight.all_keys(), first), first, last, 0.0)
    return notes


def _flat(value: float, length: float) -> list[Key]:
    return [Key(0.0, value, value, kind=STEPPED, rule=FREE), Key(length, value, value, kind=STEPPED, rule=FREE)]


def _at(keys: list[Key], first: float) -> list[Key]:
    return [k._replace(time=k.time + first) for k in keys]


def _values(
    member: Member, copied: PartClip, part: Part, curves: dict[str, Curve], first: float, last: float, drivers: bool
) -> list[str]:
    """Writes the channels as they were keyed, the driver or all others; returns what has no match."""
    notes = []
    own = slots(part)
    for slot, role, kept, default in copied.channels:
        if (role == "drive") != drivers:
            continue
        channel = own.get(slot)
        if channel is None:
            notes += [f"{part.label}: it has no channel {slot}."] if kept is not None else []
            continue
        name = f"{member.id}/{channel.control}.{channel.name}"
        old = curves.get(name, EMPTY)
        if last == first:
            value = kept.key(0).leaving if kept is not None else default
            curves[name] = set_value(old, first, value, STEPPED if channel.name == "bend" else SMOOTH)
        elif kept is not None or len(old):
            keys = kept.all_keys() if kept is not None else _flat(default, last - first)
            curves[name] = _over(old, _at(keys, first), first, last, default)
    return notes


def _pose(
    program: Program, member: Member, copied: PartClip, part: Part, curves: dict[str, Curve], first: float, last: float,
    normal: Floats | None,
) -> None:  # fmt: skip
    """Poses the joints as they were copied and fits every system of the part to them."""
    turns = copied.turns if normal is None else reflected(copied.turns, normal)
    count = len(copied.times)
    at, side = stencil(copied.times + first, copied.step)
    # What lies before the take's first frame, or after its last, stands still.
    order = np.lexsort((-side, at))
    poses = program.evaluate(at[order], side[order])
    put_turns(program, member, part, poses, turns.reshape(-1, len(part.joints), 4)[order])
    for channels, fitted in _fits(program, member, part, poses, first):
        values = np.empty_like(fitted)
        values[:, order] = fitted
        grid = np.moveaxis(values.reshape(len(channels), count, 2, 5), 0, -1)
        slopes = slopes_of(grid, copied.step)
        for k, c in enumerate(channels):
            name = program.channel_names()[c]
            stepped = program.info[int(c)][2].name == "bend"
            old = curves.get(name, EMPTY)
            if last == first:
                curves[name] = set_value(old, first, float(grid[0, 0, 0, k]), STEPPED if stepped else SMOOTH)
                continue
            keys = [
                Key(
                    float(t) + first, float(grid[n, ARRIVING, 0, k]), float(grid[n, LEAVING, 0, k]),
                    0.0 if stepped else float(slopes[n, ARRIVING, k]), 0.0 if stepped else float(slopes[n, LEAVING, k]),
                    STEPPED if stepped else SMOOTH, FREE,
                )
                for n, t in enumerate(copied.times)
            ]  # fmt: skip
            curves[name] = _over(old, keys, first, last, float(program.defaults[c]))


def _fits(program: Program, member: Member, part: Part, poses: Poses, first: float) -> list[tuple[Ints, Floats]]:
    """Channels and values (K, F) of every system of a part that reproduce the poses."""
    if isinstance(part, LimbPart):
        limb = program.limbs[member.id, part.name]
        found = []
        for system in ("fk", "ik"):
            channels = system_channels(limb, system)
            near = program.sample([first], LEAVING, channels)[:, 0]
            values = fit_values(limb, poses, system, near)
            free = np.array([int(c) not in limb.locked for c in channels])
            found.append((channels[free], values[free]))
        return found
    assert isinstance(part, FkPart)
    skeleton = member.skeleton
    nodes = [program.nodes[member.id, j] for j in part.joints]
    ups = [program.nodes[member.id, skeleton.joints[skeleton.parents[skeleton.index[j]]].name] for j in part.joints]
    channels = np.array([program.channels[f"{member.id}/{j}.{c}"] for j in part.joints for c in ("rx", "ry", "rz")])
    near = program.sample([first], LEAVING, channels)[:, 0].reshape(-1, 3)
    rot = poses.rot
    out = np.empty((len(channels), rot.shape[0]))
    fk.fit_turns(
        np.ascontiguousarray(rot[:, nodes]), np.ascontiguousarray(rot[:, ups]),
        skeleton.rests[[skeleton.index[j] for j in part.joints]], np.array([ORDERS.index(o) for o in part.orders]),
        near, out,
    )  # fmt: skip
    return [(channels, out)]


def describe(asked: Paste) -> str:
    """One line for the list of revisions."""
    side = " on the other side" if asked.swap else ""
    return f"Paste {asked.clip.name} at frame {asked.frame:g}{side}"
