"""Posing controls at one frame: live while they are dragged, keyed when they are let go.

The rule for keys: what was dragged is keyed, at this frame, in the system that drives. A control of an idle
system starts from where it is drawn, on the pose; its drag is fitted into the driving system, so the stored keys
of the idle one stay as they are. Captured motion is adjusted, never written over. Several controls are solved from the
root outward, each on top of those before it; hands and feet that are to be kept come last, put back where they were.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from ..contacts import end_of
from ..curves import EMPTY, SMOOTH, STEPPED, Curve, set_value
from ..errors import CoreError
from ..fitting import fit_values, held
from ..program import Program
from ..proof import Proof, prove, reach
from ..takes import Take
from ..transforms import Floats
from .operation import refuse_nothing


@dataclass(frozen=True)
class Drag:
    """A control put to a place: `position` (metres) and `rotation` are in the world; a control whose place is not its own
    (a joint) heeds the rotation only, a bend guide the position only. `also`: what is dragged with it at the same frame;
    `keep`: parts whose ends stay where they are meanwhile."""

    member: str
    part: str
    control: str
    frame: float
    position: tuple[float, float, float]
    rotation: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 1.0)
    also: tuple[Drag, ...] = ()
    keep: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True)
class Posing:
    """Channel values that a drag asks for, by channel index, and the system that takes the keys."""

    values: dict[int, float]
    system: str


def solve_all(program: Program, drag: Drag) -> dict[int, float]:
    """Values that put a control, and those in hand with it, where they were dragged and leave kept ends where they are, by
    channel index. CoreError if a part can't be posed there and then."""
    frame = drag.frame
    dragged = (drag, *drag.also)
    mine = {(d.member, d.part) for d in dragged}
    kept = [program.bound(*p) for p in dict.fromkeys(drag.keep) if p not in mine]
    order = sorted(dragged, key=lambda d: int(program.bound(d.member, d.part).nodes.min()))
    values: dict[int, float] = {}
    for one in order:
        values |= solve(program, one, values).values
    for bound in sorted(kept, key=lambda b: int(b.nodes.min())):
        end = end_of(bound)
        if end is None:
            raise CoreError(f"{bound.part.label} has no end that could stay where it is.")
        node = program.nodes[bound.member.id, end.control.rests_on]
        was = program.evaluate([frame], only=[node])
        place, turn = tuple(was.pos[0, node].tolist()), tuple(was.rot[0, node].tolist())
        values |= solve(program, Drag(*bound.id, end.control.name, frame, place, turn), values).values
    return values


def solve(program: Program, drag: Drag, given: Mapping[int, float] | None = None) -> Posing:
    """Values that put a control where it was dragged, while other channels have the values `given`. CoreError if the part
    can't be posed there and then."""
    given = given or {}
    numbers = (*drag.position, *drag.rotation, drag.frame)
    if not np.isfinite(numbers).all() or max(abs(x) for x in numbers) > 1e6:
        raise CoreError("A drag needs finite numbers.")
    size = float(np.linalg.norm(drag.rotation))
    if size < 1e-9:
        raise CoreError("The rotation of a drag must be a quaternion of length one.")
    turn = np.array(drag.rotation) / size
    bound = program.bound(drag.member, drag.part)
    dragged = next(
        (n for n, s in bound.systems.items() if any(c.name == drag.control for c in s.controls)),
        None,
    )
    if dragged is None:
        raise CoreError(f"{bound.part.label} has no control {drag.control!r}.")
    shares = program.now(drag.frame, bound.driver_channels)
    driving = bound.state(shares[:, None])
    if driving is None:
        raise CoreError(
            f"{bound.part.label} is half-driven at frame {drag.frame:g}: let one system drive there before posing it."
        )
    needed = program.fit_nodes([bound])
    here = program.evaluate([drag.frame], overrides=dict(given), only=needed)
    mine = bound.systems[dragged]
    channels = sorted(set(bound.own.values()))
    now = dict(zip(channels, program.now(drag.frame, channels).tolist(), strict=True))
    now |= {c: v for c, v in given.items() if c in now}
    if dragged != driving:
        # An idle system is drawn where it fits the pose, so that is where a drag of it starts.
        near = np.array([now[int(c)] for c in mine.channels])
        fitted = held(mine, fit_values(program, bound, dragged, here, near))[:, 0]
        now |= dict(zip(mine.channels.tolist(), fitted.tolist(), strict=True))
    wanted = mine.system.drag(bound, program.posed(bound, here), drag.control, np.array(drag.position), turn, now)
    locks = dict(zip(mine.channels.tolist(), zip(mine.held, mine.standard, mine.bounds, strict=True), strict=True))
    for c, (locked, standard, limits) in locks.items():
        if c in wanted:
            wanted[c] = float(standard) if locked else float(np.clip(wanted[c], *limits))
    # What poses nothing is kept as it was put whichever system drives.
    still = {c: v for c, v in wanted.items() if not program.info[c][2].poses}
    if dragged == driving:
        return Posing(wanted, driving)
    overrides: dict[int, float | Floats] = {**given, **{int(c): now[int(c)] for c in mine.channels}}
    overrides |= wanted
    overrides |= bound.drive_to(dragged)
    posed = program.evaluate([drag.frame], overrides=overrides, only=needed)
    takes = bound.systems[driving]
    near = program.now(drag.frame, takes.channels)
    found = held(takes, fit_values(program, bound, driving, posed, near))[:, 0]
    return Posing(dict(zip(takes.channels.tolist(), found.tolist(), strict=True)) | still, driving)


def apply(program: Program, drag: Drag) -> tuple[Take, Proof]:
    """The take with the drag keyed, and its proof: nothing changes beyond the keys on either side."""
    frame = drag.frame
    values = solve_all(program, drag)
    if not program.take.first <= frame <= program.take.last:
        raise CoreError(f"Frame {frame:g} does not lie in the take.")
    names = program.channel_names()
    curves: dict[str, Curve] = {}
    for c, value in values.items():
        old = program.take.curves.get(names[c], EMPTY)
        stepped = program.info[c][2].trait.stepped
        if stepped and program.now(frame, [c])[0] == value:
            continue
        curves[names[c]] = set_value(old, frame, value, STEPPED if stepped else SMOOTH)
    after = program.with_curves(curves)
    after.check_loops()
    refuse_nothing(program.take, after.take)
    return after.take, prove("pose", program, after, *reach(program.take, curves))


def describe(drag: Drag, program: Program) -> str:
    """One line for the list of revisions."""
    bound = program.bound(drag.member, drag.part)
    labels = {c.name: c.label for c in bound.described}
    more = f" and {len(drag.also)} more" if drag.also else ""
    stays = len(set(drag.keep))
    kept = f", {stays} kept in place" if stays else ""
    return f"Pose {labels.get(drag.control, drag.control)}{more} at frame {drag.frame:g}{kept}"
