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

from ..contacts import kept_end
from ..curves import SMOOTH, STEPPED, Curve, set_value
from ..errors import CoreError
from ..fitting import fit_values, held
from ..layers import at_frame, into_layer, layer_of
from ..pivots import arriving, key_turn, turned, turning_from
from ..program import Program
from ..proof import Proof, prove, reach
from ..takes import Take
from ..transforms import Floats
from .handover import refuse_locked
from .operation import refuse_nothing


@dataclass(frozen=True)
class Drag:
    """A control put to a place: `position` (metres) and `rotation` are in the world; a control whose place is not its own
    (a joint) heeds the rotation only, a bend guide the position only. `also`: what is dragged with it at the same frame;
    `keep`: parts whose ends stay where they are meanwhile; `about`: the point in the control (metres, at size one) about which
    it turns up to this frame from its key before (None: as it does there); `layer`: that which is keyed, "" the base."""

    member: str
    part: str
    control: str
    frame: float
    position: tuple[float, float, float]
    rotation: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 1.0)
    also: tuple[Drag, ...] = ()
    keep: tuple[tuple[str, str], ...] = ()
    about: tuple[float, float, float] | None = None
    layer: str = ""


@dataclass(frozen=True)
class Posing:
    """Channel values that a drag asks for, by channel index, and the system that takes the keys."""

    values: dict[int, float]
    system: str


def solve_all(program: Program, drag: Drag, shown: Program | None = None) -> dict[int, float]:
    """Values that put a control, and those in hand with it, where they were dragged and leave kept ends where they are, by
    channel index; `shown`: the take in which they are there, if that is another. CoreError if a part can't be posed there and
    then."""
    frame = drag.frame
    dragged = (drag, *drag.also)
    mine = {(d.member, d.part) for d in dragged}
    kept = [program.bound(*p) for p in dict.fromkeys(drag.keep) if p not in mine]
    order = sorted(dragged, key=lambda d: int(program.bound(d.member, d.part).nodes.min()))
    values: dict[int, float] = {}
    for one in order:
        values |= solve(program, one, values).values
    for bound in sorted(kept, key=lambda b: int(b.nodes.min())):
        end = kept_end(bound)
        if end is None:
            raise CoreError(f"{bound.part.label} has no end that could stay where it is.")
        node = program.nodes[bound.member.id, end.control.rests_on]
        was = (shown or program).evaluate([frame], only=[node])
        place, turn = tuple(was.pos[0, node].tolist()), tuple(was.rot[0, node].tolist())
        values |= solve(program, Drag(*bound.id, end.control.name, frame, place, turn), values, joint=True).values
    return values


def solve(program: Program, drag: Drag, given: Mapping[int, float] | None = None, *, joint: bool = False) -> Posing:
    """Values that put a control where it was dragged, while other channels have the values `given`; `joint`: it is the joint
    that rests on it which is to be there. CoreError if the part can't be posed there and then."""
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
    shown, place = program.posed(bound, here), np.array(drag.position)
    if joint or dragged != driving:
        # An idle control is drawn on its joint.
        place, turn = mine.system.rest(bound, shown, drag.control, place, turn, now)
    wanted = mine.system.drag(bound, shown, drag.control, place, turn, now)
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
    if not program.take.first <= frame <= program.take.last:
        raise CoreError(f"Frame {frame:g} does not lie in the take.")
    now = program
    control = program.bound(drag.member, drag.part).controls.get(drag.control)
    if drag.about is not None and control is not None and _drives(program, drag) and frame > program.take.first:
        point = np.array(drag.about)
        refuse_locked(program, control.channels, turning_from(program, control, frame), frame)
        now, first = turned(program, program.bound(drag.member, drag.part), control, point, frame)
        # Up to the frame it turns about the point; what it does from there on is joined to it.
        values = solve_all(arriving(now, drag.member, control, point, first), drag, program)
        bound = now.bound(drag.member, drag.part)
        own = {c: v for c, v in values.items() if c in bound.controls[drag.control].channels}
        values = {c: v for c, v in values.items() if c not in own}
        now = now.with_curves(key_turn(now, bound, drag.control, point, frame, first, own))
    else:
        values = solve_all(program, drag)
    if drag.layer:
        if now is not program:
            raise CoreError(
                "A turn about a point is keyed in the base: choose that, or turn about the control's own place."
            )
        after = program.on(into_layer(program, drag.layer, values, frame))
        after.check_loops()
        refuse_nothing(program.take, after.take)
        first, last = _beside(after.take, drag.layer, frame)
        return after.take, prove("pose", program, after, first, last, notes=_strayed(program, after, drag))
    # What is keyed is what the layers leave of it.
    values = at_frame(now, values, frame)
    now_base = now.base
    names = now.channel_names()
    curves: dict[str, Curve] = {}
    for c, value in values.items():
        stepped = now.info[c][2].trait.stepped
        if stepped and now_base.now(frame, [c])[0] == value:
            continue
        curves[names[c]] = set_value(now.curve(c), frame, value, STEPPED if stepped else SMOOTH)
    after = now.with_curves(curves)
    after.check_loops()
    refuse_nothing(program.take, after.take)
    changed = {n: c for n, c in after.take.curves.items() if c is not program.take.curves.get(n)}
    return after.take, prove(
        "pose", program, after, *reach(program.take, changed), notes=_strayed(program, after, drag)
    )


def _beside(take: Take, layer: str, frame: float) -> tuple[float, float]:
    """The nearest keys of a layer on either side of a frame, between which a key there is felt."""
    times = np.unique(np.concatenate([c.times for c in layer_of(take, layer).curves.values()]))
    before, after = times[times < frame], times[times > frame]
    return (
        float(before[-1] if len(before) else take.first), float(after[0] if len(after) else take.last)
    )  # fmt: skip


#: How far a kept end may be from its place (metres) without a word.
KEPT = 1e-4


def _strayed(program: Program, after: Program, drag: Drag) -> tuple[str, ...]:
    """Ends that were to stay where they are and could not, with how far they are from there."""
    found = []
    for id in dict.fromkeys(drag.keep):
        end = kept_end(program.bound(*id))
        if end is None or id == (drag.member, drag.part):
            continue
        node = program.nodes[id[0], end.control.rests_on]
        was, now = (p.evaluate([drag.frame], only=[node]).pos[0, node] for p in (program, after))
        off = float(np.linalg.norm(now - was))
        if off > KEPT:
            found.append(f"The {end.control.label} does not reach where it was to stay by {1000.0 * off:.1f} mm.")
    return tuple(found)


def _drives(program: Program, drag: Drag) -> bool:
    """Whether the control that is dragged is that of the system that drives."""
    bound = program.bound(drag.member, drag.part)
    driving = bound.state(program.now(drag.frame, bound.driver_channels)[:, None])
    return driving is not None and any(c.name == drag.control for c in bound.systems[driving].controls)


def describe(drag: Drag, program: Program) -> str:
    """One line for the list of revisions."""
    bound = program.bound(drag.member, drag.part)
    labels = {c.name: c.label for c in bound.described}
    more = f" and {len(drag.also)} more" if drag.also else ""
    stays = len(set(drag.keep))
    kept = f", {stays} kept in place" if stays else ""
    return f"Pose {labels.get(drag.control, drag.control)}{more} at frame {drag.frame:g}{kept}"
