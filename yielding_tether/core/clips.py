"""Clips: a pose, or a range with its keys, of some parts, kept apart from any take; with systems and tethers.

A clip holds two accounts of what was copied: the channels, as keyed; and the turns of the joints, each against the
joint above it and its own rest, in the axes of the body. The first goes back where it came from to the last bit; the
second fits any body and, reflected, the other side.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from .cast import Member
from .channels import Channel
from .curves import FENCE, Curve, curve, insert
from .errors import CoreError
from .measure import stencil, steps
from .parts import Part
from .program import Poses, Program
from .rig import Bound
from .sides import across
from .skeleton import Skeleton
from .transforms import Floats, inverse, multiply, rotate


@dataclass(frozen=True)
class PartClip:
    """One part: `channels` by slot (see `slots`) with role, keys from the clip's start (None where it had none) and the
    value without keys, `weights` of what its control follows by tether and "position" or "rotation"; `times` (T,),
    `step` (T,) and `turns` (T, 2, 5, J, 4): the joints on a stencil about each key time, leaving then arriving."""

    part: str
    label: str
    side: str
    kind: str
    channels: tuple[tuple[str, str, Curve | None, float], ...]
    weights: tuple[tuple[str, Curve], ...]
    times: Floats
    step: Floats
    turns: Floats

    __hash__ = None  # type: ignore[assignment]


@dataclass(frozen=True)
class Clip:
    """A pose (`length` 0) or a range of `length` frames of some parts of one cast member."""

    name: str
    source: str
    length: float
    parts: tuple[PartClip, ...]


def copy(program: Program, member_id: str, parts: Sequence[str], first: float, last: float, name: str = "") -> Clip:
    """Copies a pose (first == last) or a range. CoreError if there is nothing to copy."""
    take = program.take
    if not parts:
        raise CoreError("Choose at least one part to copy.")
    if not take.first <= first <= last <= take.last:
        raise CoreError(f"Frames {first:g} to {last:g} do not lie in the take.")
    member = program.scene.member(member_id)
    copied = tuple(_copy_part(program, program.bound(member_id, p), float(first), float(last)) for p in parts)
    labels = ", ".join(p.label for p in copied[:3]) + (f" and {len(copied) - 3} more" if len(copied) > 3 else "")
    made = name.strip() or (f"{labels}, frame {first:g}" if first == last else f"{labels}, {first:g} to {last:g}")
    return Clip(made[:120], member.name, float(last - first), copied)


def _cut(kept: Curve, first: float, last: float, default: float) -> Curve:
    """The keys of a curve within first…last, with keys at both ends, from time zero."""
    whole = insert(insert(kept, first, default, FENCE), last, default, FENCE)
    return curve([k._replace(time=k.time - first) for k in whole.all_keys() if first <= k.time <= last])


def _copy_part(program: Program, bound: Bound, first: float, last: float) -> PartClip:
    channels: list[tuple[str, str, Curve | None, float]] = []
    times = {0.0, last - first}
    for slot, c in slots(program, bound).items():
        kept, default = program.curve(c), float(program.defaults[c])
        cut = _cut(kept, first, last, default) if len(kept) else None
        channels.append((slot, role(program.info[c][2]), cut, default))
        times |= set(cut.times.tolist()) if cut is not None else set()
    weights = []
    for c in bound.weight_channels:
        weights.append((program.info[c][2].name, _cut(program.curve(c), first, last, 0.0)))
    at = np.array(sorted(times))
    step = steps(program.key_times(), at + first)
    samples, sides = stencil(at + first, step)
    turns = local_turns(program, bound, program.evaluate(samples, sides))
    part = bound.part
    return PartClip(
        part.name, part.label, part.side, part.kind, tuple(channels), tuple(weights), at, step,
        turns.reshape(len(at), 2, 5, len(part.joints), 4),
    )  # fmt: skip


def slots(program: Program, bound: Bound) -> dict[str, int]:
    """Channels of a part by what they are to it, whatever its joints and controls are called: "joint 0 rx",
    "ik swivel", "part drive". What it follows is told apart."""
    found = {}
    joints = bound.part.joints
    weights = set(bound.weight_channels)
    for (control, name), c in bound.own.items():
        if c in weights:
            continue
        owner = owner_of(bound, control)
        # Inner joints are told by their number too.
        joint, dot, rest = name.rpartition(".")
        known = dot and joint in joints
        found[f"{owner} {f'joint {joints.index(joint)} {rest}' if known else name}"] = c
    return found


def owner_of(bound: Bound, control: str) -> str:
    """What a joint or control is to its part, whatever it is called."""
    joints = bound.part.joints
    if control in joints:
        return f"joint {joints.index(control)}"
    ends = [c.name for c in bound.described if c.own]
    if control in ends and len(ends) > 1:
        return f"end {ends.index(control)}"
    return "part" if control == bound.part.name else "ik"


def role(channel: Channel) -> str:
    """What a channel is in a clip: "drive" for what says which system drives, else its system or "offset"."""
    return "drive" if channel.kind == "share" else channel.system or "offset"


def _above(skeleton: Skeleton, joint: str) -> int:
    return skeleton.parents[skeleton.index[joint]]


def local_turns(program: Program, bound: Bound, poses: Poses) -> Floats:
    """(F, J, 4) turns of a part's joints against what is above them, beyond rest, in the axes of the body."""
    skeleton = bound.member.skeleton
    rest = skeleton.rest_pose[1]
    out = np.empty((len(poses.times), len(bound.nodes), 4))
    for k, joint in enumerate(bound.part.joints):
        j, p = skeleton.index[joint], _above(skeleton, joint)
        own = multiply(poses.rot[:, bound.nodes[k]], inverse(rest[j]))
        if p >= 0:
            own = multiply(inverse(multiply(poses.rot[:, bound.above[k]], inverse(rest[p]))), own)
        out[:, k] = own
    return out


def put_turns(bound: Bound, poses: Poses, turns: Floats) -> None:
    """Poses a part's joints in place: the inverse of `local_turns`, with the lengths that the poses have."""
    skeleton = bound.member.skeleton
    rest = skeleton.rest_pose[1]
    old_pos, old_rot = poses.pos.copy(), poses.rot.copy()
    for k in bound.outward:
        joint = bound.part.joints[k]
        j, p = skeleton.index[joint], _above(skeleton, joint)
        own = multiply(turns[:, k], np.broadcast_to(rest[j], (len(turns), 4)))
        if p >= 0:
            up, node = bound.above[k], bound.nodes[k]
            own = multiply(multiply(poses.rot[:, up], inverse(rest[p])), own)
            reach = rotate(inverse(old_rot[:, up]), old_pos[:, node] - old_pos[:, up])
            poses.pos[:, node] = poses.pos[:, up] + rotate(poses.rot[:, up], reach)
        poses.rot[:, bound.nodes[k]] = own


def reflected(turns: Floats, normal: Floats) -> Floats:
    """Rotations (…, 4) as a mirror with this unit normal shows them."""
    v = turns[..., :3]
    turned = 2.0 * np.sum(v * normal, axis=-1, keepdims=True) * normal - v
    result: Floats = np.concatenate([turned, turns[..., 3:]], axis=-1)
    return result


def partner(member: Member, part: Part) -> Part | None:
    """The part of the same kind, with as many joints, on the other side: the one that is called like it, or that lies where a
    mirror shows it; the part itself in the middle."""
    if part.side == "middle":
        return part
    if named := _namesake(member, part):
        return named
    # Of those that nobody is called like, the nearest to one another.
    there = _nearest(member, part)
    return there if there is not None and _nearest(member, there) is part else None


def _likes(member: Member, part: Part) -> list[Part]:
    """Parts of the same kind on the other side."""
    other = "right" if part.side == "left" else "left"
    mine = (other, part.kind, len(part.joints))
    return [p for p in member.parts if (p.side, p.kind, len(p.joints)) == mine]


def _namesake(member: Member, part: Part) -> Part | None:
    wanted = part.label.replace(part.side, "right" if part.side == "left" else "left")
    return next((p for p in _likes(member, part) if p.label == wanted), None)


def _nearest(member: Member, part: Part) -> Part | None:
    """The part without a namesake at rest nearest to where a mirror shows one; None where none is within a tenth of the body."""
    pos, index, side = member.skeleton.rest_pose[0], member.skeleton.index, across(member)
    within = 0.1 * float(np.ptp(pos, axis=0).max())
    roots = [pos[index[p.joints[0]]] @ side for p in member.parts if p.side == "middle"]
    middle = float(np.median(roots)) if roots else 0.0
    wanted = pos[[index[j] for j in part.joints]]
    wanted = wanted - 2.0 * np.outer(wanted @ side - middle, side)
    likes = _likes(member, part)
    found = [
        (float(np.linalg.norm(pos[[index[j] for j in p.joints]] - wanted, axis=1).mean()), k)
        for k, p in enumerate(likes) if _namesake(member, p) is None
    ]  # fmt: skip
    return likes[min(found)[1]] if found and min(found)[0] <= within else None


def matching(member: Member, clip: PartClip, swap: bool) -> Part | None:
    """The part of a body that a copied one goes to: by name, else by what it is called; None if there is none."""
    found = next((p for p in member.parts if p.name == clip.part), None) or next(
        (p for p in member.parts if p.label.lower() == clip.label.lower()), None
    )
    if found is not None and swap:
        found = partner(member, found)
    if found is None or found.kind != clip.kind or len(found.joints) != clip.turns.shape[3]:
        return None
    return found
