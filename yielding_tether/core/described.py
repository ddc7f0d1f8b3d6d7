"""What a part of a member says of itself, read once: the same in every rig of its scene, whatever is followed in it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from .cast import Member
from .channels import TRANSLATION, Channel, channel_id, moving
from .errors import CoreError
from .parts import Part
from .systems.captured import Captured
from .systems.system import Control, System
from .takes import Scene
from .transforms import ORDERS, Floats, Ints

CAPTURED = Captured()


class DescribedSystem(NamedTuple):
    """A system of a part: `posing` (K,) positions of its channels that pose among all of the part's, `held` (K,) which of them are
    locked, their values without keys, which are stepped, which wrap, their bounds."""

    system: System
    controls: tuple[Control, ...]
    posing: Ints
    held: np.ndarray
    standard: Floats
    stepped: np.ndarray
    wraps: np.ndarray
    bounds: Floats


@dataclass(eq=False)
class Described:
    """A part of a member. `ids` of its n joints in the skeleton, `up`: which of them each hangs from (-1: none), `outward`:
    them from the root on; `offsets` (n, 3), `rests` (n, 4) and `orders` (n,) of the joints; of its channels `names` in a take,
    `info` and values without keys, `own`: the position of each by (control, name); `lengths` (n, 3): positions of the joints'
    lengths (-1: none); `drivers`: systems after the first with the position of their share; `extra`: what else has a node."""

    member: Member
    part: Part
    ids: list[int]
    up: Ints
    outward: list[int]
    offsets: Floats
    rests: Floats
    orders: Ints
    names: list[str]
    info: list[tuple[str, Part, Channel]]
    standard: list[float]
    own: dict[tuple[str, str], int]
    lengths: Ints
    drivers: tuple[tuple[str, int], ...]
    systems: list[DescribedSystem]
    extra: list[tuple[str, str]]


def described(scene: Scene, member: Member, part: Part, captured: bool) -> Described:
    """What a part says of itself, where its member has a capture or none; a scene remembers it."""
    kept: dict[tuple[str, str, bool], Described] = scene.__dict__.setdefault("_described", {})
    key = (member.id, part.name, captured)
    found = kept.get(key)
    # One on which a take records values, or that is mirrored itself, is another.
    if found is None or found.member is not member or found.part is not part:
        found = kept[key] = _read(member, part, captured)
    return found


def _read(member: Member, part: Part, captured: bool) -> Described:
    skeleton = member.skeleton
    ids = [skeleton.index[name] for name in part.joints]
    where = {j: k for k, j in enumerate(ids)}
    channels = list(part.channels())
    if captured:
        channels += CAPTURED.channels(part)
        if not part.free:
            # A captured body's places are adjusted by lengths, which every system of the part meets.
            channels += [c for j, on in zip(part.joints, part.moving, strict=True) if not on for c in moving(j, "")]
        channels.append(Channel(part.name, "captured", "share", "", "share of the capture", default=1.0))
    own = {(c.control, c.name): n for n, c in enumerate(channels)}
    _check_locks(part, own)
    drivers = [(s.name, own[d.control, d.name]) for s, d in zip(part.systems()[1:], part.drivers(), strict=True)]
    if captured:
        drivers.append((CAPTURED.name, own[part.name, "captured"]))
    return Described(
        member, part, ids, np.array([where.get(skeleton.parents[j], -1) for j in ids], dtype=np.int64),
        sorted(range(len(ids)), key=lambda k: ids[k]), skeleton.offsets[ids].copy(), skeleton.rests[ids].copy(),
        np.array([ORDERS.index(o) for o in part.joint_orders], dtype=np.int64),
        [channel_id(member.id, c.control, c.name) for c in channels], [(member.id, part, c) for c in channels],
        [c.standard for c in channels], own,
        np.array(
            [[own[n, c] if (n, "tx") in own and not part.free else -1 for c in TRANSLATION] for n in part.joints],
            dtype=np.int64,
        ),
        tuple(drivers), [_system(part, s, own) for s in (*part.systems(), *([CAPTURED] if captured else []))],
        [n for s in part.systems() for n in s.nodes(part)],
    )  # fmt: skip


def _system(part: Part, system: System, own: dict[tuple[str, str], int]) -> DescribedSystem:
    posing = [c for c in system.channels(part) if c.poses]
    return DescribedSystem(
        system, tuple(system.controls(part)), np.array([own[c.control, c.name] for c in posing], dtype=np.int64),
        np.array([c.access == "locked" or f"{c.control}.{c.name}" in part.locked for c in posing]),
        np.array([c.standard for c in posing]), np.array([c.trait.stepped for c in posing]),
        np.array([c.trait.wraps for c in posing]), np.array([c.bounds for c in posing]),
    )  # fmt: skip


def _check_locks(part: Part, own: dict[tuple[str, str], int]) -> None:
    known = {name for _, name in own} | {f"{control}.{name}" for control, name in own}
    for name in part.locked:
        if name not in known:
            raise CoreError(f"{part.label} has no channel {name} to lock.")
