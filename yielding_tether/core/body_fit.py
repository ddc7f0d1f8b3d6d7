"""Fitting a body: which joints are its limbs, corrected, and the figures of its parts; checked, and shown in motion."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np

from .cast import Member
from .channels import channel_id
from .curves import FREE, STEPPED, Curve, Key, curve
from .errors import CoreError
from .fitting import fit
from .parts import Part
from .program import Program
from .proposal import CHOSEN, Limb, propose
from .takes import Capture, Scene, Take
from .transforms import Floats, inverse, rotate

#: Frames of a rehearsal from rest to a pose and back.
BEAT = 24
#: Poses of a capture at which a fit is checked.
LOOKS = 24
#: Share by which the lengths of a pair of limbs may differ without being told as odd.
UNEQUAL = 0.15


@dataclass(frozen=True)
class Check:
    """Something that was measured of a body: what, how much, and whether that is well."""

    sentence: str
    well: bool


def orders_of(member: Member) -> dict[str, str]:
    """Rotation order by joint."""
    return {j: order for part in member.parts for j, order in zip(part.joints, part.joint_orders, strict=True)}


def limbs_of(member: Member) -> tuple[Limb, ...]:
    """The limbs of a body as they are."""
    return tuple(
        Limb(
            p.corners,
            "leg" if p.role == "leg" else "arm",
            "left" if p.side == "left" else "right",
            p.hinge_from == CHOSEN,
        )
        for p in member.parts
        if p.corners
    )


def refitted(
    member: Member, settings: Mapping[tuple[str, str], float], limbs: Sequence[Limb] | None = None,
    captures: Sequence[Capture] = (),
) -> Member:  # fmt: skip
    """A body with other figures, by part and setting, and with other limbs where they are given: then all its parts are proposed
    anew, by the first of its captures, and keep what was set of those that are still there. CoreError says what can't be."""
    if limbs is not None and tuple(limbs) != limbs_of(member):
        rotations, offsets = (captures[0].rotations, captures[0].offsets) if captures else (None, None)
        made, told = (
            propose(member.skeleton, rotations, orders_of(member), said, offsets) for said in (limbs, limbs_of(member))
        )
        notes = (*(n for n in member.notes if n not in told.notes), *made.notes)
        kept = {(p.name, s.id): s.of(p) for p in member.parts for s in p.settings()}
        before = {p.name: p.corners for p in member.parts}
        parts = [
            _set(p, {id: v for (name, id), v in kept.items() if name == p.name and before[name] == p.corners})
            for p in made.parts
        ]
        member = replace(member, parts=tuple(parts), shapes=made.shapes, notes=notes)
    there = {p.name for p in member.parts}
    for name, id in settings:
        if name not in there:
            raise CoreError(f"{member.name} has no part {name}, of which {id!r} could be set.")
    parts = [_set(p, {id: v for (n, id), v in settings.items() if n == p.name}, True) for p in member.parts]
    return replace(member, parts=tuple(parts))


def _set(part: Part, values: Mapping[str, float], must: bool = False) -> Part:
    there = {s.id: s for s in part.settings()}
    for id, value in values.items():
        if id in there:
            part = there[id].put(part, value)
        elif must:
            raise CoreError(f"{part.label} has nothing to set that is called {id!r}.")
    return part


def pointed(member: Member, part: str, setting: str, at: Floats, frame: float = 0.0) -> float:
    """The figure by which what a setting places comes as far as a point (3,) of the world (metres), at a frame of the part's
    rehearsal. CoreError where there is no such setting, where it is no place, or out of its limits."""
    mine = {s.id: s for p in member.parts if p.name == part for s in p.settings()}.get(setting)
    if mine is None:
        raise CoreError(f"{member.name} has no {setting!r} of {part!r} to set.")
    program = Program(Scene("pointed at", (member,)), rehearsal(member, part))
    pose, node = program.evaluate([frame]), program.nodes.get((member.id, mine.joint), program.world)
    x, y, z = rotate(inverse(pose.rot[0, node]), at - pose.pos[0, node]).tolist()
    return mine.reached((x, y, z))


def rehearsal(member: Member, part: str) -> Take:
    """A take that shows how a part of a body moves: from rest to one pose after another and back."""
    poses = member.part(part).shown(member.skeleton, orders_of(member))
    channels = {f"{c.control}.{c.name}": c for p in member.parts for c in p.channels()}
    curves = {}
    for name in dict.fromkeys(n for pose in poses for n in pose):
        stepped, keys = channels[name].trait.stepped, []
        for k, pose in enumerate(poses):
            value = pose.get(name, channels[name].standard)
            if stepped:
                before = poses[max(k - 1, 0)].get(name, channels[name].standard)
                keys.append(Key(float(k * BEAT), before, value, kind=STEPPED, rule=FREE))
            else:
                rest = channels[name].standard
                keys += [Key(float(k * BEAT), rest, rest, rule=FREE), Key((k + 0.5) * BEAT, value, value, rule=FREE)]
        keys += (
            []
            if stepped
            else [Key(float(len(poses) * BEAT), channels[name].standard, channels[name].standard, rule=FREE)]
        )
        curves[f"{member.id}/{name}"] = curve(keys)
    curves |= _standing(member)
    return Take(f"How {member.reads(member.part(part))} moves", Fraction(24), 0, max(len(poses), 1) * BEAT, curves)


def _standing(member: Member) -> dict[str, Curve]:
    """Keeps a body at rest on the floor, however its root lies in its file."""
    bones = member.skeleton
    pos, rot = bones.rest_pose
    tips = [pos[j] + rotate(rot[j], np.array(b.tip)) for j, b in enumerate(bones.joints) if b.tip is not None]
    stands = [(bones.index[j], np.array(at)) for p in member.parts for _, j, at in p.stands_on(bones)]
    soles = [pos[j] + rotate(rot[j], at) for j, at in stands]
    # Joints and their ends lie within a foot, its sole under them.
    lowest = float(np.array([*pos, *tips, *soles])[:, 1].min())
    root = next((p for p in member.parts if p.free and p.joints[0] == bones.joints[0].name), None)
    heights = [c for c in root.channels() if c.name == "ty"] if root else []
    return {channel_id(member.id, c.control, "ty"): curve([Key(0.0, -lowest, -lowest)]) for c in heights}


def checks(member: Member, captures: Sequence[Capture]) -> list[Check]:
    """What is measured of a body: whether all systems of its parts take on the poses of its captures, whether limbs are as long on
    either side, and how sure it is to which side they bend."""
    found: list[Check] = []
    for capture in captures:
        last = capture.first + (len(capture.offsets) - 1) * capture.step
        take = Take("looked at", Fraction(24), 0, max(int(last), 1), {}, captures={member.id: capture})
        program = Program(Scene("looked at", (member,)), take)
        times = np.unique(np.linspace(capture.first, last, LOOKS).round())
        poses = program.evaluate(times)
        for bound in program.bounds.values():
            for system in bound.keyed_systems:
                one = fit(program, bound, system, poses)
                off, label = 1000.0 * float(one.position.max()), bound.systems[system].system.label
                if off > 0.1 or float(one.rotation.max()) > 1e-3:
                    turn = np.degrees(float(one.rotation.max()))
                    found.append(
                        Check(
                            f"{label} of the {bound.part.label} misses the capture by {off:.1f} mm and {turn:.1f}°",
                            False,
                        )
                    )
        if not found:
            where = "one frame" if len(times) == 1 else f"{len(times)} frames"
            found.append(Check(f"Every part takes on the capture's poses in every system, tried at {where}", True))
    limbs = [p for p in member.parts if p.corners]
    for part in limbs:
        other = next((o for o in limbs if o.label == part.label.replace("left", "right", 1)), None)
        if part.side == "left" and other is not None and len(other.corners) == len(part.corners):
            a, b = (_lengths(member, p) for p in (part, other))
            apart = float(np.max(np.abs(a - b) / np.maximum(a, b)))
            word = part.label.replace("left ", "", 1).capitalize()
            told = "equally long on either side" if apart < 1e-3 else f"longer on one side, by {apart:.1%}"
            found.append(Check(f"{word}: {told}", apart < UNEQUAL))
        if part.hinge_from == "guess":
            found.append(Check(f"To which side the {part.label} bends is a guess", False))
    return found


def _lengths(member: Member, part: Part) -> Floats:
    """Lengths (metres) of a limb's segments."""
    places = member.skeleton.rest_pose[0][[member.skeleton.index[n] for n in part.corners]]
    found: Floats = np.linalg.norm(np.diff(places, axis=0), axis=1)
    return found
