"""Flight: a prop that is let go flies under gravity until it is caught.

    centre(t) = c0 + v t + g t² / 2          turn(t) = exp(spin t) · turn(0)

Its centre of mass is on that parabola and it spins steadily. Either the release is kept (place, speed and spin as it was held;
the catch is where the arc is then), or the catch is met: place and turn of the frame on which it is caught are given, and the
speed and spin that lead there are what it leaves with. The arc is re-expressed in the prop's own control, in the world, with
keys where it needs them.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal, NamedTuple

import numpy as np

from ..cast import Member, Shape
from ..curves import ARRIVING, EMPTY, FLIGHT, LEAVING, Curve, put
from ..errors import CoreError
from ..express import FINE, Curves, Motion, Target, control_target, expressed, fence, set_over
from ..followers import BoundControl
from ..measure import STEP, Limits, one_sided
from ..program import Poses, Program
from ..proof import Proof, prove
from ..rig import Bound
from ..takes import Take
from ..transforms import Floats, Ints, rotate, rotation_distance
from .handover import refuse_locked
from .operation import (
    Asked,
    Choice,
    InView,
    Operation,
    Outcome,
    Parts,
    Pull,
    Spot,
    Value,
    check_parts,
    check_stretch,
    labels,
    offered,
)

#: Metres a second squared, downward.
GRAVITY = 9.81
#: How near the keys keep the centre of mass to its parabola (metres) and the turn to its steady spin (radians): half of what
#: is promised.
NEAR, TURNED = 5e-7, np.radians(0.05)
#: Most keys in any one frame, and a frame over all: where the angles turn about their pole, they need many near by.
DENSEST, MOST = 256, 8
#: Frames before and after the release at which another one is looked for, and how much less it must add to be told.
AROUND, WORTH = 5, 0.8
#: Frames about the ends of a flight to which they can be dragged.
REACH = 24.0
#: Below this a shape's middle is taken for the joint itself, metres.
CENTRED = 1e-5


@dataclass(frozen=True)
class Flight:
    """What is asked for: props that fly from frame `first` to `last`. `turns`: whole turns more than the spin at the release
    comes nearest to, where the catch is met."""

    parts: Parts
    first: float
    last: float
    meets: Literal["release", "catch"] = "catch"
    turns: int = 0


class Arc(NamedTuple):
    """A flight that begins at `first`: `centre` of mass in the joint (3,), its place (3,) and velocity (3,) there, turn (4,) and
    `spin` (3,), `fall` (3,); metres, radians and frames."""

    first: float
    centre: Floats
    place: Floats
    velocity: Floats
    turn: Floats
    spin: Floats
    fall: Floats

    def at(self, times: Floats) -> tuple[Floats, Floats]:
        """(F, 3) places of the centre of mass, (F, 4) turns."""
        from scipy.spatial.transform import Rotation

        t = (times - self.first)[:, None]
        turned = Rotation.from_rotvec(t * self.spin) * Rotation.from_quat(self.turn)
        return self.place + t * self.velocity + 0.5 * t * t * self.fall, np.atleast_2d(turned.as_quat())

    def joint(self, times: Floats) -> tuple[Floats, Floats]:
        """(F, 3) places of the joint, (F, 4) turns."""
        centre, turn = self.at(times)
        return centre - rotate(turn, self.centre[None]), turn


def centre_of_mass(member: Member) -> Floats:
    """(3,) where the weight of a prop of one joint is, in that joint, metres: the middle of its shapes by volume."""
    found = [
        (_volume(s), 0.5 * (np.array(s.a) + np.array(s.b)) if s.form == "capsule" else np.array(s.a))
        for s in member.shapes
    ]
    total = sum(v for v, _ in found)
    if not total > 0.0:
        return np.zeros(3)
    centre = np.sum([v * at for v, at in found], axis=0) / total
    return centre if float(np.linalg.norm(centre)) > CENTRED else np.zeros(3)


def _volume(shape: Shape) -> float:
    size = np.asarray(shape.size, dtype=np.float64)
    if shape.form == "block":
        return float(np.prod(size))
    if shape.form == "ball":
        return float(4.0 / 3.0 * np.pi * np.prod(size if len(size) == 3 else np.repeat(size[0], 3)))
    if shape.form == "ring":
        return float(2.0 * np.pi**2 * size[0] * size[-1] ** 2)
    length = float(np.linalg.norm(np.array(shape.b) - np.array(shape.a)))
    return float(np.pi * np.mean(size) ** 2 * length + 4.0 / 3.0 * np.pi * np.mean(size) ** 3)


def can_fly(bound: Bound) -> BoundControl | None:
    """The control of a prop that is in the world where it follows nothing."""
    able = [c for c in bound.controls.values() if not c.control.hangs_from]
    return able[0] if bound.member.kind == "prop" and bound.part.free and able and not bound.captured else None


def arc_of(program: Program, bound: Bound, asked: Flight) -> tuple[Arc, Limits, Limits]:
    """The flight that is asked for, and how the prop was held where it begins and ends."""
    node = int(bound.nodes[0])
    ends = [one_sided(program, np.array([t]), np.array([node])) for t in (asked.first, asked.last)]
    centre = program.sizes(np.array([asked.first]), ARRIVING, node)[0] * centre_of_mass(bound.member)
    frames = asked.last - asked.first
    fall = np.array([0.0, -GRAVITY / float(program.take.rate) ** 2, 0.0])
    held = _held(ends[0], ARRIVING, centre)
    if asked.meets == "release":
        return Arc(asked.first, centre, *held, fall), ends[0], ends[1]
    caught = _held(ends[1], LEAVING, centre)
    velocity = _throw(held[0], caught[0], frames, fall)
    spin = _spin(held[2], caught[2], held[3], frames, asked.turns)
    return Arc(asked.first, centre, held[0], velocity, held[2], spin, fall), ends[0], ends[1]


def _held(limits: Limits, side: int, centre: Floats, k: int = 0) -> tuple[Floats, Floats, Floats, Floats]:
    """Place and velocity of the centre of mass, turn and spin on one side of moment k."""
    pos, rot, spin = limits.pos[side, k, 0], limits.rot[side, k, 0], limits.spin[side, k, 0]
    arm = rotate(rot[None], centre[None])[0]
    return pos + arm, limits.velocity[side, k, 0] + np.cross(spin, arm), rot, spin


def _spin(start: Floats, end: Floats, held: Floats, frames: float, more: int) -> Floats:
    """(3,) the steady spin that leads from one turn to another, of all those the nearest to that with which it was held."""
    from scipy.spatial.transform import Rotation

    short = (Rotation.from_quat(end) * Rotation.from_quat(start).inv()).as_rotvec()
    angle = float(np.linalg.norm(short))
    along = short if angle > 1e-9 else held if float(np.linalg.norm(held)) > 1e-9 else np.array([1.0, 0.0, 0.0])
    axis = along / float(np.linalg.norm(along))
    wanted = float(held @ axis) * frames
    whole = round((wanted - (angle if angle > 1e-9 else 0.0)) / (2.0 * np.pi)) + more
    found: Floats = (short + 2.0 * np.pi * whole * axis) / frames
    return found


def apply(program: Program, asked: Flight) -> tuple[Take, Proof]:
    """The take after it, and its proof. CoreError says what can't be done; nothing changes then."""
    check_parts(program, asked.parts)
    first, last = check_stretch(program.take, asked.first, asked.last)
    if not first < last:
        raise CoreError("A flight needs a last frame after its first.")
    curves: Curves = dict(program.take.curves)
    notes = []
    for id in asked.parts:
        bound = program.bound(*id)
        control = can_fly(bound)
        if control is None:
            raise CoreError(f"{bound.who} is no prop that is free in the world: only such a thing can fly.")
        refuse_locked(program, [*control.channels, *control.switches], first, last)
        notes += _fly(program, bound, control, curves, Flight((id,), first, last, asked.meets, asked.turns))
    after = program.with_curves({n: c for n, c in curves.items() if c is not program.take.curves.get(n)})
    after.check_loops()
    return after.take, prove("flight", program, after, first, last, notes=tuple(notes))


def _fly(program: Program, bound: Bound, control: BoundControl, curves: Curves, asked: Flight) -> list[str]:
    """Puts one prop's flight into `curves`; returns what there is to say of it."""
    first, last = asked.first, asked.last
    open_end = last >= program.take.last
    arc, released, caught = arc_of(program, bound, asked)
    weights = dict.fromkeys(control.switches, 0.0)
    target = control_target(program, bound, control.control.name, weights)
    names = program.channel_names()
    if not open_end:
        fence(program, curves, target.channels.tolist(), [last])
    motion = _motion(program, target, control, arc)
    base = dict(curves)
    for c in control.switches:
        old = curves.get(names[c], EMPTY)
        base[names[c]] = set_over(old, first, last, open_end, 0.0, float(program.defaults[c]))
    ends = np.array([first, last])
    # Two keys hold a parabola; where the middle is not the joint, its place turns with it.
    plain = expressed(motion, target, base, ends, ends, set(), open_end)
    place = {names[c]: plain[names[c]] for c in target.channels[:3]} if not arc.centre.any() else {}
    times = ends
    while True:
        made = base | expressed(motion, target, base, times, ends, set(), open_end) | place
        off, turned = _strays(program.with_curves(_new(program, made)), control, arc, times)
        over = np.maximum(off / NEAR, turned / TURNED)
        # A cubic strays with the fourth power of its length; a little less than that asks for, so as not to go too far.
        pieces = np.where(over > 1.0, np.maximum(np.ceil(0.95 * over**0.25), 2.0), 1.0)
        pieces = np.minimum(pieces, np.maximum(np.floor(DENSEST * np.diff(times)), 1.0)).astype(int)
        if pieces.max() == 1 or pieces.sum() > MOST * (last - first) + MOST:
            break
        cut = [np.linspace(a, b, n, endpoint=False) for a, b, n in zip(times[:-1], times[1:], pieces, strict=True)]
        times = np.concatenate([*cut, [last]])
    curves.update(made | {names[c]: _tagged(made[names[c]], first, last) for c in target.channels})
    return _words(program, bound, arc, released, caught, asked, (float(off.max()), float(turned.max())))


def _new(program: Program, curves: Mapping[str, Curve]) -> dict[str, Curve]:
    return {n: c for n, c in curves.items() if c is not program.take.curves.get(n)}


def _motion(program: Program, target: Target, control: BoundControl, arc: Arc) -> Motion:
    """The control along the arc."""

    def poses(at: Floats, side: Ints) -> Poses:
        found = program.evaluate(at, side, only=target.nodes)
        found.pos[:, control.node], found.rot[:, control.node] = arc.joint(at)
        control.put_space(found, target.weights)
        return found

    return Motion(program, poses, lambda at: np.full(len(at), FINE * STEP))


def _tagged(flown: Curve, first: float, last: float) -> Curve:
    """A curve whose keys at both ends of a flight say so: that speed jumps where something is caught is no fault."""
    return put(flown, [flown.key(i)._replace(tag=FLIGHT) for t in (first, last) if (i := flown.find(t)) is not None])


def _strays(after: Program, control: BoundControl, arc: Arc, times: Floats) -> tuple[Floats, Floats]:
    """(K,) how far the centre of mass leaves its parabola (metres), and the turn its spin (radians), between each two keys."""
    shares = np.arange(1, 8) / 8.0
    at = (times[:-1, None] + np.diff(times)[:, None] * shares).ravel()
    poses = after.evaluate(at, only=[control.node])
    rot = poses.rot[:, control.node]
    centre, turn = arc.at(at)
    off = poses.pos[:, control.node] + rotate(rot, np.broadcast_to(arc.centre, (len(at), 3))) - centre
    each = (len(times) - 1, len(shares))
    return np.linalg.norm(off, axis=1).reshape(each).max(axis=1), rotation_distance(rot, turn).reshape(each).max(axis=1)


def _easier(program: Program, bound: Bound, arc: Arc, caught: Limits, asked: Flight, added: float) -> str:
    """Another frame near by on which to let go, where the throw would have to add much less; or nothing."""
    at = asked.first + np.arange(-AROUND, AROUND + 1.0)
    at = at[(at >= program.take.first) & (at < asked.last) & (at != asked.first)]
    if not len(at):
        return ""
    end = _held(caught, LEAVING, arc.centre)[0]
    more = [
        float(np.linalg.norm(_throw(place, end, asked.last - t, arc.fall) - velocity))
        for t, place, velocity, _, _ in _holds(program, bound, at, ARRIVING, arc.centre)
    ]
    k = int(np.argmin(more))
    rate = float(program.take.rate)
    return f"Let go at frame {at[k]:g} it would add {rate * more[k]:.2f} m/s." if more[k] < WORTH * added else ""


def _throw(start: Floats, end: Floats, frames: float, fall: Floats) -> Floats:
    """(3,) the velocity that leads from one place to another."""
    found: Floats = (end - start) / frames - 0.5 * frames * fall
    return found


def _words(
    program: Program,
    bound: Bound,
    arc: Arc,
    released: Limits,
    caught: Limits,
    asked: Flight,
    strays: tuple[float, float],
) -> list[str]:
    """What is to be known of a flight beside its proof."""
    rate = float(program.take.rate)
    _, was, _, turned = _held(released, ARRIVING, arc.centre)
    top = arc.place[1] + 0.5 * arc.velocity[1] ** 2 / -arc.fall[1] if arc.velocity[1] > 0.0 else arc.place[1]
    found = [
        f"{bound.who} leaves at {rate * float(np.linalg.norm(arc.velocity)):.2f} m/s and rises {top - arc.place[1]:.2f} m."
    ]
    if asked.meets == "catch":
        speed, spin = float(np.linalg.norm(arc.velocity - was)), float(np.linalg.norm(arc.spin - turned))
        found.append(
            f"It was held at {rate * float(np.linalg.norm(was)):.2f} m/s: the throw adds {rate * speed:.2f} m/s and "
            f"{np.degrees(rate * spin):.0f}°/s."
        )
        if speed > 0.0 and (easier := _easier(program, bound, arc, caught, asked, speed)):
            found.append(easier)
    elif asked.last < program.take.last:
        pos, rot = (x[0] for x in arc.joint(np.array([asked.last])))
        off = float(np.linalg.norm(pos - caught.pos[LEAVING, 0, 0]))
        away = float(rotation_distance(rot, caught.rot[LEAVING, 0, 0]))
        if max(off, away) > 1e-6:
            found.append(
                f"Where it is caught, it is {1000 * off:.0f} mm and {np.degrees(away):.0f}° from where it goes on."
            )
    if strays[0] > 2.0 * NEAR or strays[1] > 2.0 * TURNED:
        found.append(f"Keys hold the arc to {1000 * strays[0]:.3f} mm and {np.degrees(strays[1]):.2f}° only.")
    return found


def pulls(program: Program, asked: Flight) -> InView:
    """The arc of a flight, and its ends and its top as things to drag. Place and gravity are given, so what dragging changes is
    when it is let go and when it is caught: the ends slide along where the prop is held, and the top rises with the time between
    them; where the release is kept, the top is that of a throw from another frame."""
    (id,) = asked.parts
    bound = program.bound(*id)
    arc, _, _ = arc_of(program, bound, asked)
    first, last, take = asked.first, asked.last, program.take
    starts = first + np.arange(-REACH, REACH + 1.0)
    ends = last + np.arange(-REACH, REACH + 1.0)
    starts = starts[(starts >= take.first) & (starts < last - 1.0)]
    ends = ends[(ends <= take.last) & (ends > first + 1.0)]
    throws = [(t, place, velocity) for t, place, velocity, _, _ in _holds(program, bound, starts, ARRIVING, arc.centre)]
    caught = [(t, place) for t, place, *_ in _holds(program, bound, ends, LEAVING, arc.centre)]
    if asked.meets == "catch":
        landings = caught
        flights = [(first, t, arc.place, _throw(arc.place, place, t - first, arc.fall)) for t, place in caught]
    else:
        landings = [(t, arc.at(np.array([t]))[0][0]) for t in ends.tolist()]
        flights = [(t, last, place, velocity) for t, place, velocity in throws]
    tops = [
        (a, b, top) for a, b, place, velocity in flights if (top := _top(place, velocity, arc.fall, b - a)) is not None
    ]
    found = [
        Pull("where it is let go", _spot(arc.place), tuple((t, last, _spot(place)) for t, place, _ in throws)),
        Pull(
            "where it is caught",
            _spot(arc.at(np.array([last]))[0][0]),
            tuple((first, t, _spot(x)) for t, x in landings),
        ),
    ]
    if (top := _top(arc.place, arc.velocity, arc.fall, last - first)) is not None:
        found.append(Pull("its top", _spot(top), tuple((a, b, _spot(x)) for a, b, x in tops)))
    path, _ = arc.at(np.unique(np.append(np.arange(first, last), last)))
    return InView(tuple(map(_spot, path)), tuple(found))


def _holds(
    program: Program, bound: Bound, at: Floats, side: int, centre: Floats
) -> list[tuple[float, Floats, Floats, Floats, Floats]]:
    """Each of some moments, and how a prop is held there, as `_held` says it."""
    limits = one_sided(program, at, bound.nodes[:1])
    return [(t, *_held(limits, side, centre, k)) for k, t in enumerate(at.tolist())]


def _top(place: Floats, velocity: Floats, fall: Floats, frames: float) -> Floats | None:
    """(3,) the highest place of a flight, where it rises before it falls."""
    t = float(velocity[1] / -fall[1])
    return place + t * velocity + 0.5 * t * t * fall if 0.0 < t < frames else None


def _spot(at: Floats) -> Spot:
    x, y, z = map(float, at)
    return x, y, z


@offered
class Fly(Operation):
    """Lets props fly from where they are let go to where they are caught."""

    id = "flight"
    label = "Fly"
    applies = "parts"
    help = "From the first frame of the stretch to its last it flies under gravity: let go, and caught."
    choices = (
        Choice(
            "meets", "keeps", "options", "catch", (("catch", "the catch"), ("release", "the release")),
            help="The catch: place and turn of the last frame are met. The release: it leaves as it was held.",
        ),
        Choice(
            "turns", "turns more", "whole", 0, least=-20, most=20, when=("meets", ("catch",)),
            help="Beside those that its spin at the release comes nearest to.",
        ),
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return can_fly(bound) is not None

    def suggest(
        self, program: Program, parts: Parts, first: float, last: float | None, made: Mapping[str, Value]
    ) -> dict[str, Value]:
        """Where it only ends with the take, nobody catches it."""
        return {"meets": "release"} if last is None or last >= program.take.last else {}

    def in_view(self, program: Program, asked: Asked) -> InView | None:
        if len(asked.parts) != 1:
            return None
        c = self.chosen(asked)
        end = float(program.take.last) if asked.last is None else float(asked.last)
        return pulls(program, Flight(asked.parts, float(asked.first), end, c["meets"], c["turns"]))

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        end = float(program.take.last) if asked.last is None else float(asked.last)
        take, proof = apply(program, Flight(asked.parts, float(asked.first), end, c["meets"], c["turns"]))
        said = f"{labels(program, asked.parts)} flies"
        return Outcome(take, proof, f"{said[0].upper()}{said[1:]}, frames {asked.first:g} to {end:g}")
