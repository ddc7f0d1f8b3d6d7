"""Editing keys: add, delete, move, scale in time, set values, slopes, kinds, rules, tags and locks; key the part.

Keys that are not named keep every number they have; slopes by rule are computed anew for the named keys alone.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Literal

import numpy as np

from ..curves import (
    AUTOMATIC,
    EMPTY,
    FENCE,
    FREE,
    LEAVING,
    STEPPED,
    Curve,
    Key,
    automatic_slopes,
    curve,
    insert,
    put,
)
from ..errors import CoreError
from ..evaluation import Limb, Program
from ..findings import switch_times
from ..fitting import fit_values, system_channels
from ..proof import Proof, prove, reach
from ..takes import Take

#: Channel → times of its keys.
Named = Mapping[str, tuple[float, ...]]
#: What "set" can give to a key.
FIELDS = ("arriving", "leaving", "slope_in", "slope_out", "kind", "rule", "tag", "lock")
#: Roles of channels that are shares, between 0 and 1.
_SHARES = ("drive", "captured", "tether")


@dataclass(frozen=True)
class Edit:
    """One edit of the named keys.

    "add": a key at each of these times, without changing the curve, then `values` set; "delete"; "move": by `by`
    frames and `rise` (metres, radians or none); "scale": times about the frame `about` by `factor`; "set": what
    `values` holds (see FIELDS); "put": the whole keys in `put`, by channel, at the times that `keys` names.
    """

    what: Literal["add", "delete", "move", "scale", "set", "put"]
    keys: Named
    by: float = 0.0
    rise: float = 0.0
    about: float = 0.0
    factor: float = 1.0
    values: Mapping[str, float] | None = None
    put: Mapping[str, tuple[Key, ...]] | None = None


def apply(program: Program, edit: Edit) -> tuple[Take, Proof]:
    """The take with the keys edited, and its proof. CoreError names the key that stands in the way."""
    if not any(edit.keys.values()):
        raise CoreError("Choose at least one key.")
    numbers = (edit.by, edit.rise, edit.about, edit.factor, *(edit.values or {}).values())
    if not np.isfinite(numbers).all() or max(map(abs, numbers), default=0.0) > 1e6:
        raise CoreError("An edit of keys needs finite numbers.")
    changed = {}
    for channel, times in edit.keys.items():
        if channel not in program.channels:
            raise CoreError(f"The take has no channel {channel}.")
        if not times:
            continue
        old = program.take.curves.get(channel, EMPTY)
        new = _EDITS[edit.what](program, channel, old, tuple(dict.fromkeys(map(float, times))), edit)
        _check_shares(program, channel, new)
        if new != old:
            changed[channel] = new
    if not changed:
        raise CoreError("This changes nothing: the keys are that way already.")
    return _proven(program, f"{edit.what} keys", changed)


def key_part(program: Program, member: str, part: str, frame: float) -> tuple[Take, Proof]:
    """Keys everything of a part at a frame: both systems, so that either can take over there, the driver, and what it
    follows. The driving system keeps its motion; the idle one gets the values that fit the pose."""
    if not program.take.first <= frame <= program.take.last:
        raise CoreError(f"Frame {frame:g} does not lie in the take.")
    found = program.scene.member(member).part(part)
    changed: dict[str, Curve] = {}
    limb = program.limbs.get((member, part))
    idle: dict[int, float] = {}
    walls: list[float] = []
    if limb is not None:
        idle = _idle_fit(program, limb, frame)
        # Where the driver changes on either side, a key keeps the new one from reaching what is seen.
        times = np.array(switch_times(program, limb))
        walls = [*times[times < frame][-1:].tolist(), *times[times > frame][:1].tolist()]
    for name, c in program.channels.items():
        owner, part_of, channel = program.info[c]
        if owner != member or part_of is not found or channel.role == "guide":
            continue
        old = program.take.curves.get(name, EMPTY)
        default = float(program.defaults[c])
        if c in idle:
            kind = STEPPED if channel.name == "bend" else 2
            at = old.find(frame)
            if at is not None and old.key(at).lock:
                continue
            kept = old
            for t in walls if len(old) else []:
                kept = insert(kept, t, default, FENCE)
            if at is not None:
                key = old.key(at)._replace(arriving=idle[c], leaving=idle[c])
            else:
                key = Key(frame, idle[c], idle[c], kind=kind, rule=AUTOMATIC)
            changed[name] = automatic_slopes(put(kept, [key]), [frame], neighbours=False)
            continue
        stepped = channel.role in _SHARES or channel.name == "bend"
        fresh = curve([Key(frame, default, default, kind=STEPPED, rule=FREE)]) if stepped else None
        changed[name] = fresh if fresh is not None and not len(old) else insert(old, frame, default)
    changed = {n: c for n, c in changed.items() if c != program.take.curves.get(n, EMPTY)}
    if not changed:
        raise CoreError(f"{found.label} has all its keys at frame {frame:g} already.")
    return _proven(program, "key the part", changed)


def _idle_fit(program: Program, limb: Limb, frame: float) -> dict[int, float]:
    """Values of the idle system's channels that fit the pose."""
    drive = float(program.sample([frame], LEAVING, np.array([limb.drive]))[0, 0])
    captured = limb.captured >= 0 and program.sample([frame], LEAVING, np.array([limb.captured]))[0, 0] > 0.0
    poses = program.evaluate([frame])
    found: dict[int, float] = {}
    for system, driving in (("fk", drive < 1.0), ("ik", drive > 0.0)):
        if driving and not captured:
            continue
        channels = system_channels(limb, system)
        near = program.sample([frame], LEAVING, channels)[:, 0]
        values = fit_values(limb, poses, system, near)[:, 0]
        found |= {int(c): float(v) for c, v in zip(channels, values, strict=True) if int(c) not in limb.locked}
    return found


def _proven(program: Program, operation: str, changed: dict[str, Curve]) -> tuple[Take, Proof]:
    after = Program(program.scene, program.take.with_curves(changed))
    after.check_loops()
    first, last = reach(program.take, changed)
    changes = []
    for limb in after.limbs.values():
        drive = after.take.curves.get(after.channel_names()[limb.drive], EMPTY)
        mine = {n for n in changed if program.info[program.channels[n]][1] is limb.part}
        if mine:
            steps = [
                k.time for k in drive.all_keys() if k.split and first <= k.time <= last and k.time > after.take.first
            ]
            changes += [(limb, t) for t in steps]
    return after.take, prove(operation, program, after, first, last, changes)


def _check_shares(program: Program, channel: str, new: Curve) -> None:
    role = program.info[program.channels[channel]][2].role
    if role in _SHARES and len(new) and (new.numbers[:, 1:3].min() < 0.0 or new.numbers[:, 1:3].max() > 1.0):
        raise CoreError(f"{channel} is a share: it must stay between 0 and 1.")


def _picked(channel: str, old: Curve, times: tuple[float, ...], unlocking: bool = False) -> list[Key]:
    """The named keys; CoreError if one is not there, or is locked."""
    found = []
    for t in times:
        i = old.find(t)
        if i is None:
            raise CoreError(f"{channel} has no key at frame {t:g}.")
        key = old.key(i)
        if key.lock and not unlocking:
            raise CoreError(f"The key of {channel} at frame {t:g} is locked: unlock it first.")
        found.append(key)
    return found


def _add(program: Program, channel: str, old: Curve, times: tuple[float, ...], edit: Edit) -> Curve:
    c = program.channels[channel]
    info = program.info[c][2]
    default = float(program.defaults[c])
    new = old
    for t in times:
        if not len(new) and (info.role in _SHARES or info.name == "bend"):
            # Switches are stepped by default.
            new = curve([Key(t, default, default, kind=STEPPED, rule=FREE)])
        new = insert(new, t, default)
    return _set(program, channel, new, times, edit) if edit.values else new


def _delete(program: Program, channel: str, old: Curve, times: tuple[float, ...], edit: Edit) -> Curve:
    gone = {k.time for k in _picked(channel, old, times)}
    return curve([k for k in old.all_keys() if k.time not in gone])


def _moved(channel: str, old: Curve, times: tuple[float, ...], to: Callable[[Key], Key]) -> Curve:
    """The named keys put elsewhere; CoreError where one would land on a key that stays."""
    picked = _picked(channel, old, times)
    gone = {k.time for k in picked}
    stay = {k.time for k in old.all_keys()} - gone
    new = [to(k) for k in picked]
    landed: set[float] = set()
    for key in new:
        if key.time in stay or key.time in landed:
            raise CoreError(
                f"A key of {channel} would land on the one at frame {key.time:g}: delete that first, or move elsewhere."
            )
        landed.add(key.time)
    made = put(curve([k for k in old.all_keys() if k.time not in gone]), new)
    return automatic_slopes(made, [k.time for k in new], neighbours=False)


def _move(program: Program, channel: str, old: Curve, times: tuple[float, ...], edit: Edit) -> Curve:
    rise = edit.rise
    return _moved(
        channel, old, times,
        lambda k: k._replace(time=k.time + edit.by, arriving=k.arriving + rise, leaving=k.leaving + rise),
    )  # fmt: skip


def _scale(program: Program, channel: str, old: Curve, times: tuple[float, ...], edit: Edit) -> Curve:
    f = edit.factor
    if f <= 0.0:
        raise CoreError("Times can be scaled by a factor above zero only.")
    return _moved(
        channel, old, times,
        lambda k: k._replace(
            time=edit.about + f * (k.time - edit.about), slope_in=k.slope_in / f, slope_out=k.slope_out / f
        ),
    )  # fmt: skip


def _set(program: Program, channel: str, old: Curve, times: tuple[float, ...], edit: Edit) -> Curve:
    values = dict(edit.values or {})
    for name in values:
        if name not in FIELDS:
            raise CoreError(f"A key has no {name}: it has {', '.join(FIELDS)}.")
    for name, most in (("kind", 2), ("rule", 2), ("tag", 255), ("lock", 1)):
        if name in values and values[name] not in range(most + 1):
            raise CoreError(f"The {name} of a key is a whole number from 0 to {most}.")
    new = []
    for key in _picked(channel, old, times, unlocking=set(values) == {"lock"}):
        numbers = [float(values.get(n, getattr(key, n))) for n in FIELDS[:4]]
        marks = [int(values.get(n, getattr(key, n))) for n in FIELDS[4:]]
        made = Key(key.time, numbers[0], numbers[1], numbers[2], numbers[3], marks[0], marks[1], marks[2], marks[3])
        if {"slope_in", "slope_out"} & values.keys() and "rule" not in values:
            # A slope set by hand is free.
            made = made._replace(rule=FREE)
        new.append(made)
    return automatic_slopes(put(old, new), [k.time for k in new], neighbours=False)


def _put(program: Program, channel: str, old: Curve, times: tuple[float, ...], edit: Edit) -> Curve:
    new = list((edit.put or {}).get(channel, ()))
    if {k.time for k in new} != set(times) or len(new) != len(times):
        raise CoreError(f"The keys to put on {channel} are not at the frames that are named.")
    for key in new:
        if not np.isfinite(key[:5]).all() or max(map(abs, key[:5])) > 1e6:
            raise CoreError("An edit of keys needs finite numbers.")
        if key.kind not in (0, 1, 2) or key.rule not in (0, 1, 2) or key.lock not in (0, 1) or not 0 <= key.tag <= 255:
            raise CoreError(f"The key for {channel} at frame {key.time:g} has a mark that no key can have.")
    _picked(channel, old, tuple(t for t in times if old.find(t) is not None))
    return automatic_slopes(put(old, new), [k.time for k in new], neighbours=False)


_EDITS: dict[str, Callable[[Program, str, Curve, tuple[float, ...], Edit], Curve]] = {
    "add": _add, "delete": _delete, "move": _move, "scale": _scale, "set": _set, "put": _put
}  # fmt: skip


def channels_of(program: Program, member: str, part: str) -> list[str]:
    """Channels of a part, those of what it follows included."""
    found = program.scene.member(member).part(part)
    return [
        n for n, c in program.channels.items() if program.info[c][0] == member and program.info[c][1] is found
    ]  # fmt: skip


def keys_at(program: Program, channels: list[str], times: tuple[float, ...]) -> dict[str, tuple[float, ...]]:
    """Of these channels, those that have keys at these times, with the times."""
    found = {}
    for name in channels:
        kept = program.take.curves.get(name, EMPTY)
        mine = tuple(t for t in times if kept.find(t) is not None)
        if mine:
            found[name] = mine
    return found


def all_drivers(program: Program) -> dict[str, tuple[float, ...]]:
    """All keys of all drivers, shares of captures and tethers."""
    return {
        n: tuple(c.times.tolist())
        for n, c in program.take.curves.items()
        if program.info[program.channels[n]][2].role in _SHARES
    }


def describe(edit: Edit) -> str:
    """One line for the list of revisions."""
    count = sum(len(t) for t in edit.keys.values())
    keys = f"{count} key{'' if count == 1 else 's'}"
    names = list(edit.keys)
    where = f" of {names[0]}" if len(names) == 1 else f" of {len(names)} channels"
    word = {"add": "Add", "delete": "Delete", "move": "Move", "scale": "Scale in time", "set": "Set", "put": "Paste"}[
        edit.what
    ]
    more = ""
    if edit.what == "set" and edit.values:
        more = f" ({', '.join(edit.values)})"
    elif edit.what == "move" and edit.by:
        more = f" by {edit.by:g} frames"
    return f"{word} {keys}{where}{more}"
