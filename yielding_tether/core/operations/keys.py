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
    KINDS,
    SMOOTH,
    STEPPED,
    Curve,
    Key,
    automatic_slopes,
    curve,
    insert,
    put,
)
from ..errors import CoreError
from ..fitting import fit_values
from ..program import Program
from ..proof import Proof, prove, reach, switch_times
from ..rig import Bound
from ..takes import Take
from .operation import Asked, Choice, Operation, Outcome, check_parts, check_stretch, labels, offered

#: Channel → times of its keys.
Named = Mapping[str, tuple[float, ...]]
#: What "set" can give to a key.
FIELDS = ("arriving", "leaving", "slope_in", "slope_out", "kind", "rule", "tag", "lock")


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
        _check_values(program, channel, new)
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
    bound = program.bound(member, part)
    changed: dict[str, Curve] = {}
    idle = _idle_fit(program, bound, frame)
    # Where what drives changes on either side, a key keeps the new one from reaching what is seen.
    times = np.array(switch_times(program, bound))
    walls = [*times[times < frame][-1:].tolist(), *times[times > frame][:1].tolist()]
    driving = bound.state(program.now(frame, bound.driver_channels)[:, None])
    for c in sorted(set(bound.own.values())):
        channel = program.info[c][2]
        name = program.channel_names()[c]
        old = program.curve(c)
        alone = channel.system and bound.systems[channel.system].system.moves_alone
        if (
            not channel.poses
            or (channel.seldom and not len(old))
            or (alone and driving != channel.system and not len(old))
        ):
            continue
        default = float(program.defaults[c])
        stepped = channel.trait.stepped
        if c in idle:
            at = old.find(frame)
            if at is not None and old.key(at).lock:
                continue
            kept = old
            for t in walls if len(old) else []:
                kept = insert(kept, t, default, FENCE)
            if at is not None:
                key = old.key(at)._replace(arriving=idle[c], leaving=idle[c])
            else:
                key = Key(frame, idle[c], idle[c], kind=STEPPED if stepped else SMOOTH, rule=AUTOMATIC)
            changed[name] = automatic_slopes(put(kept, [key]), [frame], neighbours=False)
            continue
        fresh = curve([Key(frame, default, default, kind=STEPPED, rule=FREE)]) if stepped else None
        changed[name] = fresh if fresh is not None and not len(old) else insert(old, frame, default)
    changed = {n: c for n, c in changed.items() if c != program.take.curves.get(n, EMPTY)}
    if not changed:
        raise CoreError(f"{bound.part.label} has all its keys at frame {frame:g} already.")
    return _proven(program, "key the part", changed)


def _idle_fit(program: Program, bound: Bound, frame: float) -> dict[int, float]:
    """Values of the idle systems' channels that fit the pose; a system that moves by itself keeps its own."""
    shares = program.now(frame, bound.driver_channels)
    active = bound.active(lambda k: (shares[k] > 0.0, shares[k] < 1.0))
    poses = program.evaluate([frame], only=program.fit_nodes([bound]))
    found: dict[int, float] = {}
    for name in bound.keyed_systems:
        if name in active:
            continue
        mine = bound.systems[name]
        values = fit_values(program, bound, name, poses, program.now(frame, mine.channels))[:, 0]
        found |= {int(c): float(v) for c, v, held in zip(mine.channels, values, mine.held, strict=True) if not held}
    return found


def _proven(program: Program, operation: str, changed: dict[str, Curve]) -> tuple[Take, Proof]:
    after = program.with_curves(changed)
    after.check_loops()
    return after.take, prove(operation, program, after, *reach(program.take, changed))


def _check_values(program: Program, channel: str, new: Curve) -> None:
    described = program.info[program.channels[channel]][2]
    kind = described.kind
    least, most = described.bounds
    if kind == "scale" and len(new) and not (least <= new.numbers[:, 1:3].min() and new.numbers[:, 1:3].max() <= most):
        raise CoreError(
            f"The {program.reading(channel)}, goes from {least:g} to {most:g} times: nothing beyond can be keyed."
        )
    if kind == "share" and len(new) and (new.numbers[:, 1:3].min() < 0.0 or new.numbers[:, 1:3].max() > 1.0):
        raise CoreError(f"The {program.reading(channel)} is a share: it must stay between 0 and 1.")
    if kind == "sign":
        # Keys that are moved go as they are; what is given to a key must be a side, and steps.
        there = {k[1:] for k in program.curve(program.channels[channel]).all_keys()}
        given = [k for k in new.all_keys() if k[1:] not in there]
        if any(k.kind != STEPPED or {abs(k.arriving), abs(k.leaving)} != {1.0} for k in given):
            raise CoreError(
                f"The {program.reading(channel)} says to which side a limb bends: it is 1 or -1, and it steps."
            )


def _picked(said: str, old: Curve, times: tuple[float, ...], unlocking: bool = False) -> list[Key]:
    """The named keys of the channel that reads so; CoreError if one is not there, or is locked."""
    found = []
    for t in times:
        i = old.find(t)
        if i is None:
            raise CoreError(f"The {said} has no key at frame {t:g}.")
        key = old.key(i)
        if key.lock and not unlocking:
            raise CoreError(f"The key of {said} at frame {t:g} is locked: unlock it first.")
        found.append(key)
    return found


def _add(program: Program, channel: str, old: Curve, times: tuple[float, ...], edit: Edit) -> Curve:
    c = program.channels[channel]
    default = float(program.defaults[c])
    new = old
    for t in times:
        if not len(new) and program.info[c][2].trait.stepped:
            # Switches are stepped by default.
            new = curve([Key(t, default, default, kind=STEPPED, rule=FREE)])
        new = insert(new, t, default)
    return _set(program, channel, new, times, edit) if edit.values else new


def _delete(program: Program, channel: str, old: Curve, times: tuple[float, ...], edit: Edit) -> Curve:
    gone = {k.time for k in _picked(program.reading(channel), old, times)}
    return curve([k for k in old.all_keys() if k.time not in gone])


def _moved(said: str, old: Curve, times: tuple[float, ...], to: Callable[[Key], Key]) -> Curve:
    """The named keys put elsewhere; CoreError where one would land on a key that stays."""
    picked = _picked(said, old, times)
    gone = {k.time for k in picked}
    stay = {k.time for k in old.all_keys()} - gone
    new = [to(k) for k in picked]
    landed: set[float] = set()
    for key in new:
        if key.time in stay or key.time in landed:
            raise CoreError(
                f"A key of {said} would land on the one at frame {key.time:g}: delete that first, or move elsewhere."
            )
        landed.add(key.time)
    made = put(curve([k for k in old.all_keys() if k.time not in gone]), new)
    return automatic_slopes(made, [k.time for k in new], neighbours=False)


def _move(program: Program, channel: str, old: Curve, times: tuple[float, ...], edit: Edit) -> Curve:
    rise = edit.rise
    return _moved(
        program.reading(channel), old, times,
        lambda k: k._replace(time=k.time + edit.by, arriving=k.arriving + rise, leaving=k.leaving + rise),
    )  # fmt: skip


def _scale(program: Program, channel: str, old: Curve, times: tuple[float, ...], edit: Edit) -> Curve:
    f = edit.factor
    if f <= 0.0:
        raise CoreError("Times can be scaled by a factor above zero only.")
    return _moved(
        program.reading(channel), old, times,
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
    for key in _picked(program.reading(channel), old, times, unlocking=set(values) == {"lock"}):
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
    _picked(program.reading(channel), old, tuple(t for t in times if old.find(t) is not None))
    return automatic_slopes(put(old, new), [k.time for k in new], neighbours=False)


_EDITS: dict[str, Callable[[Program, str, Curve, tuple[float, ...], Edit], Curve]] = {
    "add": _add, "delete": _delete, "move": _move, "scale": _scale, "set": _set, "put": _put
}  # fmt: skip


def channels_of(program: Program, member: str, part: str) -> list[str]:
    """Channels of a part, those of what it follows included."""
    names = program.channel_names()
    return [names[c] for c in sorted(set(program.bound(member, part).own.values()))]


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
        if program.info[program.channels[n]][2].kind == "share"
    }


def describe(program: Program, edit: Edit) -> str:
    """One line for the list of revisions."""
    count = sum(len(t) for t in edit.keys.values())
    keys = f"{count} key{'' if count == 1 else 's'}"
    names = list(edit.keys)
    where = f" of {program.reading(names[0])}" if len(names) == 1 else f" of {len(names)} channels"
    word = {"add": "Add", "delete": "Delete", "move": "Move", "scale": "Scale in time", "set": "Set", "put": "Paste"}[
        edit.what
    ]
    more = ""
    if edit.what == "set" and edit.values:
        more = f" ({', '.join(edit.values)})"
    elif edit.what == "move" and edit.by:
        more = f" by {edit.by:g} frames"
    return f"{word} {keys}{where}{more}"


# --- as operations --------------------------------------------------------------------------------------


@dataclass(frozen=True)
class NamedKeys:
    """Keys by channel and frames; or by part (member, part) and frames: then those of all its channels."""

    times: tuple[float, ...]
    channel: str | None = None
    part: tuple[str, str] | None = None


@dataclass(frozen=True)
class EditAsked:
    """An `Edit` whose keys may be named by parts; `puts`: whole keys with their channels."""

    what: Literal["add", "delete", "move", "scale", "set", "put"]
    keys: tuple[NamedKeys, ...] = ()
    puts: tuple[tuple[str, Key], ...] = ()
    by: float = 0.0
    rise: float = 0.0
    about: float = 0.0
    factor: float = 1.0
    values: Mapping[str, float] | None = None


def as_edit(program: Program, asked: EditAsked) -> Edit:
    """The edit with its keys named channel by channel."""
    named: dict[str, tuple[float, ...]] = {}
    for k in asked.keys:
        if k.channel is not None:
            named[k.channel] = (*named.get(k.channel, ()), *k.times)
        elif k.part is not None:
            channels = channels_of(program, *k.part)
            found = keys_at(program, channels, k.times) if asked.what != "add" else dict.fromkeys(channels, k.times)
            for n, t in found.items():
                named[n] = (*named.get(n, ()), *t)
        else:
            raise CoreError("Keys are named by a channel or by a part.")
    whole: dict[str, tuple[Key, ...]] = {}
    for channel, key in asked.puts:
        whole[channel] = (*whole.get(channel, ()), key)
        named[channel] = (*named.get(channel, ()), key.time)
    values = dict(asked.values or {})
    return Edit(asked.what, named, asked.by, asked.rise, asked.about, asked.factor, values, whole)


_KIND = Choice("kind", "kind", "options", "stepped", tuple((k, k) for k in KINDS), when=("do", ("kind",)))


@offered
class KeysOfStretch(Operation):
    """What happens to the keys of parts within a stretch."""

    id = "keys"
    rank = 13
    to_layer = True
    under = "keys"
    label = "Keys"
    applies = "parts"
    help = "What happens to the keys of these parts within the stretch."
    choices = (
        Choice(
            "do", "keys", "options", "move",
            (
                ("move", "move"), ("scale", "scale in time"), ("delete", "delete"), ("kind", "kind"), ("lock", "lock"),
                ("unlock", "unlock"),
            ),
        ),
        Choice(
            "by", "by", "number", 1.0, least=-10000, most=10000, unit="frames", help="How far keys move.", when=("do", ("move",))
        ),
        Choice(
            "factor", "factor", "number", 1.5, least=0.01, most=100, help="About the first frame of the stretch.",
            when=("do", ("scale",)),
        ),
        _KIND,
    )  # fmt: skip

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        check_parts(program, asked.parts)
        first, last = check_stretch(program.take, asked.first, asked.last)
        named: dict[str, tuple[float, ...]] = {}
        for part in asked.parts:
            channels = channels_of(program, *part)
            times = program.key_times({program.channels[n] for n in channels})
            named |= keys_at(program, channels, tuple(times[(times >= first) & (times <= last)].tolist()))
        if not named:
            raise CoreError(f"These parts have no keys from frame {first:g} to {last:g}.")
        do = c["do"]
        if do == "kind":
            # Which side a limb bends to steps, whatever the rest does.
            named = {n: t for n, t in named.items() if program.info[program.channels[n]][2].kind != "sign"}
        if do in ("kind", "lock", "unlock"):
            values = {"kind": float(KINDS.index(c["kind"]))} if do == "kind" else {"lock": float(do == "lock")}
            edit = Edit("set", named, values=values)
        elif do == "delete":
            edit = Edit("delete", named)
        elif do == "scale":
            edit = Edit("scale", named, about=first, factor=c["factor"])
        else:
            edit = Edit("move", named, by=c["by"])
        return Outcome(*apply(program, edit), describe(program, edit))


@offered
class KeyThePart(Operation):
    """Keys everything of a part at a frame."""

    id = "key"
    under = "as is"
    label = "Key the part"
    applies = "frame"
    help = "Keys everything of the part at this frame: all its systems, what drives it and what it follows."

    def run(self, program: Program, asked: Asked) -> Outcome:
        self.chosen(asked)
        if len(asked.parts) != 1:
            raise CoreError("Choose one part to key.")
        made = key_part(program, *asked.parts[0], asked.first)
        return Outcome(*made, f"Key {labels(program, asked.parts)} at frame {asked.first:g}")


@offered
class AllDrivers(Operation):
    """The kind of all keys of drivers and of what is followed."""

    id = "drivers"
    under = "as is"
    label = "All system changes"
    applies = "take"
    help = "The kind of all keys of what drives and of what is followed, at once."
    choices = (Choice("kind", "kind", "options", "stepped", tuple((k, k) for k in KINDS)),)

    def run(self, program: Program, asked: Asked) -> Outcome:
        kind = self.chosen(asked)["kind"]
        edit = Edit("set", all_drivers(program), values={"kind": float(KINDS.index(kind))})
        return Outcome(*apply(program, edit), f"All system changes {kind}")


@offered
class EditKeys(Operation):
    """An edit of named keys."""

    id = "edit"
    to_layer = True
    under = "keys"
    label = "Edit keys"
    applies = "keys"
    help = "Adds, deletes, moves, scales or sets the named keys; all others keep their numbers."

    def run(self, program: Program, asked: Asked) -> Outcome:
        if not isinstance(asked.edit, EditAsked):
            raise CoreError("An edit of keys needs its `edit`.")
        edit = as_edit(program, asked.edit)
        return Outcome(*apply(program, edit), describe(program, edit))
