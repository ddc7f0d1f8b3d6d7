"""IK of a two-segment limb, with as many freedoms as its three FK joints.

The nine freedoms: place and rotation of the end (6), the *swivel* of the hinge plane about the line of aim,
the *carry angle* out of the hinge plane, and the *twist* of the lower segment; a stepped *bend* sign says to
which side the hinge bends. The hinge axis is carried by the upper segment itself: nothing is read off the
triangle of the three joints, so a straight limb is nothing special.

With d the direction of the upper segment and h the hinge (both in the upper frame), b = h × d:

    M(angle, lift) = turn(h, angle) · turn(-b, lift)            takes d to any direction
    middle joint   = M(bend, carry) · Q · turn(lower, twist)    Q takes the lower segment onto d
    upper joint    = turn(aim, swivel) · arc(d at rest → aim) · rest · M(aim in the upper frame)⁻¹

All angles read zero at rest. The formulas are in `kernels.two_segment`.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from typing import TYPE_CHECKING, Any, Literal, NamedTuple, cast

import numpy as np

from ..channels import Channel, moving, turning
from ..kernels import two_segment as formulas
from ..kernels.guide import turned_share
from ..kernels.scalars import add, cross, norm, qconj, qmul, qrot, scale
from ..tape import Run, Tape
from ..transforms import Floats, Ints, wrap_near
from .place import drag_control, fit_control
from .system import Control, Handle, Posed, Repaired, State, System

if TYPE_CHECKING:
    from ..findings import Finding
    from ..parts.limb import LimbPart
    from ..parts.part import Part
    from ..program import Program
    from ..rig import Bound

#: Rest angles of the limb within its constants: bend, carry, swivel.
REST_BEND, REST_CARRY, REST_SWIVEL = 6, 7, 8
#: A bend guide is lost beyond this many lengths of its limb, or nearer than this to the line of aim.
FAR, NEAR = 3.0, 0.25
#: A limb this near to straight, or to its full fold (radians), can't pass its speed on through any finite slope.
NEARLY_STRAIGHT = 0.02
#: Angles and sign of a limb's IK after its place and rotation.
SHAPE = ("swivel", "carry", "twist", "bend")


class Geometry(NamedTuple):
    """Unchanging shape of a limb: `offsets` (3, 3) and `rests` (3, 4) of its joints, and `constants` (9,):
    hinge in the upper frame, hinge in the middle frame, rest bend, carry and swivel (radians)."""

    offsets: Floats
    rests: Floats
    constants: Floats

    @property
    def length(self) -> float:
        """Length of both segments at rest, metres."""
        return float(np.linalg.norm(self.offsets[1:], axis=1).sum())


class Bent(NamedTuple):
    """What the formulas read of a limb at F times: pos, rot (F, 3, …) of root, middle and end, rotation of what it hangs
    from (F, 4), its two segments as offsets (F, 3, 3), rest of its first joint, constants."""

    pos: Floats
    rot: Floats
    above: Floats
    offsets: Floats
    rest: tuple[float, ...]
    constants: Floats


def shape_channels(part: Part) -> tuple[Channel, ...]:
    """Channels of a limb's IK."""
    return end_channels(part.ik, {c for c in part.locked if "." not in c})  # type: ignore[attr-defined]


def end_channels(control: str, closed: Collection[str] = ()) -> tuple[Channel, ...]:
    """Channels by which a control moves a limb: place and rotation of the end, swivel, carry angle, twist and the bend's side."""

    def one(name: str, kind: str, label: str) -> Channel:
        return Channel(control, name, kind, "ik", label, access="locked" if name in closed else "open")  # type: ignore[arg-type]

    return (
        *moving(control, "ik"), *turning(control, "ik"), one("swivel", "angle", "swivel"), one("carry", "angle", "carry angle"),
        one("twist", "angle", "twist"), one("bend", "sign", "bend side"),
    )  # fmt: skip


def limb_row(
    tape: Tape, bound: Bound, run: tuple[int, int, int], data: Geometry, into: Ints, aim: int, shape: Ints, guide: int = -1
) -> Run:  # fmt: skip
    """The row of three joints of a part, by their number in it, that aim at a node; `shape`: channels of swivel, carry angle, twist
    and side; `guide`: node of where their bend guide is carried, -1 where it follows nothing."""
    at = list(run)
    offsets, moving, samples = bound.offsets[at], bound.moving[at, 0], bound.samples[at]
    still = bool(np.all(moving < 0) and np.all(samples < 0)) and guide < 0
    form = formulas.shape(
        tuple(offsets[1]), tuple(offsets[2]), tuple(data.constants[0:3]), tuple(data.constants[3:6])
    )  # fmt: skip
    ints = (
        *into[at], bound.above_in(into, at[0]), aim, *shape, *np.stack([moving, samples], axis=1).ravel(), bound.slot, guide,
    )  # fmt: skip
    floats = (*offsets.ravel(), *bound.rests[at[0]], *data.constants, *np.hstack(form))
    plain = formulas.LIMB_GROWN if bound.slot else formulas.LIMB
    return tape.add(plain if still else formulas.LIMB_MOVED, ints, floats)


class TwoSegment(System):
    """IK of two segments; `bent` is overridden by limbs of more segments, which are two pieces to these formulas."""

    name = "ik"
    label = "IK"

    def channels(self, part: Part) -> tuple[Channel, ...]:
        guide = Channel(part.ik, "guide", "length", self.name, "guide, beyond its distance", poses=False)  # type: ignore[attr-defined]
        return (*shape_channels(part), guide)

    def controls(self, part: Part) -> tuple[Control, ...]:
        _, middle, end = (part.joints[k] for k in self.run(part))
        both: frozenset[Literal["position", "rotation"]] = frozenset({"position", "rotation"})
        return (
            Control(
                part.ik, part.label, part.end_order, Handle("cradle", ("move", "turn"), end, always=part.touches),  # type: ignore[attr-defined]
                both, part.joints[0], end, touches=part.touches,
            ),
            Control(
                guide_name(part), f"bend guide of the {part.label}", "xyz",
                Handle("lozenge", ("move",), middle, middle, computed=True, always=part.touches), frozenset({"position"}),
                shows=(part.ik, "swivel"),  # type: ignore[attr-defined]
            ),
        )  # fmt: skip

    def run(self, part: Part) -> tuple[int, int, int]:
        """Which of the part's joints the limb begins at, bends in and ends with."""
        first = part.joints.index(cast("LimbPart", part).bones[0])
        return first, first + 1, first + 2

    def bind(self, bound: Bound) -> Any:
        part, run = cast("LimbPart", bound.part), list(self.run(bound.part))
        return geometry(bound.offsets[run], bound.rests[run], part.hinge, part.bends_as == "rest")

    def defaults(self, bound: Bound) -> dict[int, float]:
        # A rest pose bent against the hinge is met by the other sign; which way the limb bends is the hinge's to say.
        bend = bound.systems[self.name].data.constants[REST_BEND]
        return {bound.own[ik_name(bound), "bend"]: -1.0 if bend < 0.0 else 1.0}

    def reads(self, bound: Bound, state: State) -> list[int]:
        return [bound.controls[ik_name(bound)].node, *(guide.space for guide in bound.guides.values())]

    def row_channels(self, bound: Bound, state: State) -> list[int]:
        # Place and rotation belong to the control's own stage.
        found: list[int] = bound.systems[self.name].channels[6:].tolist()
        return found

    def emit(self, tape: Tape, bound: Bound, into: Ints, state: State) -> list[Run]:
        mine = bound.systems[self.name]
        aim = self.aim(bound, ik_name(bound))
        return [
            limb_row(tape, bound, self.run(bound.part), mine.data, into, aim, mine.channels[6:10], guide_node(bound))
        ]

    def bent(self, bound: Bound, posed: Posed) -> Bent:
        """The limb as the two-segment formulas see it."""
        data = bound.systems[self.name].data
        first, _, last = self.run(bound.part)
        pos, rot, offsets = (
            np.ascontiguousarray(x[:, first : last + 1]) for x in (posed.pos, posed.rot, posed.offsets)
        )
        above = np.ascontiguousarray(posed.above_rot[:, first])
        return Bent(pos, rot, above, offsets, tuple(data.rests[0].tolist()), data.constants)

    def fit(self, bound: Bound, posed: Posed, near: Floats) -> Floats:
        out = np.empty((10, len(posed.pos)))
        control, end = ik_name(bound), self.run(bound.part)[2]
        out[:6] = fit_control(
            posed, control, posed.pos[:, end], posed.rot[:, end], bound.controls[control].control.order, near
        )
        bent = self.bent(bound, posed)
        given = self.swivel_given(bound, posed, bent)
        start = near[6:10].copy()
        start[0] += given[0]
        formulas.fit(*bent, start, out[6:])
        # What the guide gives goes from half a turn to the other half where it is right behind: the swivel goes on.
        out[6] = np.unwrap(out[6] - given)
        return out

    def swivel_given(self, bound: Bound, posed: Posed, bent: Bent) -> Floats:
        """(F,) swivel (radians) that the bend guide gives by what it follows, before the channel."""
        out = np.zeros(len(bent.pos))
        if bound.guides:
            space = posed.spaces[guide_name(bound.part)]
            formulas.given(bent.pos, bent.above, bent.offsets, bent.rest, bent.constants, space.pos, space.rot, out)
        return out

    def bends(self, bound: Bound, posed: Posed) -> Floats:
        """(2, F) bend about the hinge and angle out of its plane, radians."""
        out = np.empty((2, len(posed.pos)))
        formulas.bends(*self.bent(bound, posed), out)
        return out

    def signs(self, bound: Bound, posed: Posed) -> Floats | None:
        found: Floats = np.sin(self.bends(bound, posed)[:1])
        return found

    def singular(self, bound: Bound, posed: Posed) -> str:
        bends, carries = self.bends(bound, posed)
        bend, carry = bends[int(np.argmin(np.abs(np.sin(bends))))], carries[int(np.argmin(np.abs(np.cos(carries))))]
        if abs(np.sin(bend)) < NEARLY_STRAIGHT:
            return "is straight" if np.cos(bend) > 0.0 else "is folded as far as it goes"
        if abs(np.cos(carry)) < NEARLY_STRAIGHT:
            return "points along its own hinge"
        return ""

    def places(self, bound: Bound, posed: Posed, values: Mapping[int, Floats]) -> dict[str, Floats]:
        out = np.empty((len(posed.pos), 3))
        extra = values.get(bound.own[ik_name(bound), "guide"])
        bent = self.bent(bound, posed)
        formulas.guides(*bent, np.zeros(len(out)) if extra is None else extra * posed.sizes, out)
        if bound.guides:
            self._beside(bound, posed, bent, out)
        return {guide_name(bound.part): out}

    def _beside(self, bound: Bound, posed: Posed, bent: Bent, out: Floats) -> None:
        """Draws a guide nearer to what it follows the more it follows it, on the side to which the limb bends."""
        space = posed.spaces[guide_name(bound.part)]
        root, line = bent.pos[:, 0], bent.pos[:, 2] - bent.pos[:, 0]
        aim = line / np.maximum(np.linalg.norm(line, axis=1, keepdims=True), 1e-9)
        share = np.array([turned_share(tuple(q)) for q in space.rot.tolist()])[:, None]
        along, off = zip(*(_split(place - root, aim) for place in (out, space.pos)), strict=True)
        far = [np.linalg.norm(x, axis=1, keepdims=True) for x in off]
        side = off[0] / np.maximum(far[0], 1e-9)
        out[:] = root + along[0] + share * (along[1] - along[0]) + side * (far[0] + share * (far[1] - far[0]))

    def drag(
        self, bound: Bound, posed: Posed, control: str, position: Floats, rotation: Floats, now: Mapping[int, float]
    ) -> dict[int, float]:
        ik = ik_name(bound)
        if control == ik:
            return drag_control(bound, posed, ik, bound.controls[ik].control.order, position, rotation, now)
        swivel = bound.own[ik, "swivel"]
        given = float(self.swivel_given(bound, posed, self.bent(bound, posed))[0])
        # How far a guide stands moves nothing; which way it stands is the swivel.
        return {
            swivel: float(wrap_near(self.swivel_towards(bound, posed, position) - given, now[swivel])),
            bound.own[ik, "guide"]: self.guide_distance(bound, posed, position),
        }

    def swivel_towards(self, bound: Bound, posed: Posed, guide: Floats) -> float:
        """Swivel (radians) that points the bend at `guide` (3,) in the pose at the first time."""
        bent = self.bent(bound, posed)
        swivel: float = formulas.guide_swivel(
            tuple(bent.pos[0, 0].tolist()), tuple(bent.above[0].tolist()), bent.rest, tuple(bent.offsets[0, 1].tolist()),
            bent.constants, tuple(bent.pos[0, 2].tolist()),
            tuple(np.asarray(guide, dtype=float).tolist()),
        )  # fmt: skip
        return swivel

    def guide_distance(self, bound: Bound, posed: Posed, guide: Floats) -> float:
        """Metres beyond its sensible distance at which a guide at `guide` (3,) stands off the line of aim."""
        root, _, end = (posed.pos[0, k] for k in self.run(bound.part))
        line, off = end - root, guide - root
        aim = line / max(float(np.linalg.norm(line)), 1e-9)
        far = float(np.linalg.norm(off - (off @ aim) * aim))
        length: float = bound.systems[self.name].data.length
        return far / float(posed.sizes[0]) - formulas.SENSIBLE * length

    def findings(self, program: Program, bound: Bound) -> Iterator[Finding]:
        from .bends import bend_flips, lost_guides

        yield from bend_flips(program, bound, self)
        yield from lost_guides(program, bound, self)

    def repair(self, program: Program, bound: Bound, finding: Finding) -> Repaired | None:
        from . import bends

        repairs = {"flip": bends.turn_back, "lost": bends.bring_back}
        wanted = repairs.get(finding.kind)
        return wanted(program, bound, self, finding) if wanted else None


def _split(place: Floats, aim: Floats) -> tuple[Floats, Floats]:
    """What of a place (F, 3) lies along a line (F, 3), and what off it."""
    along = np.sum(place * aim, axis=1, keepdims=True) * aim
    return along, place - along


def guide_node(bound: Bound) -> int:
    """Node of where a limb's bend guide is carried by what it follows, -1 where it follows nothing."""
    return next((guide.space for guide in bound.guides.values()), -1)


def ik_name(bound: Bound) -> str:
    """Name of the control at the end of a limb."""
    return cast("LimbPart", bound.part).ik


def guide_name(part: Part) -> str:
    """Name of the bend guide of a limb."""
    return f"{part.name}.guide"


def rest_sides(offsets: Floats, rests: Floats, hinge: tuple[float, ...]) -> tuple[tuple[float, ...], float, float]:
    """The hinge squared to the upper segment, and the rest bend and carry about it (radians); offsets (3, 3), rests
    (3, 4)."""
    o1, o2 = tuple(offsets[1].tolist()), tuple(offsets[2].tolist())
    d1 = scale(o1, 1.0 / norm(o1))
    d2 = scale(o2, 1.0 / norm(o2))
    h = formulas.square(tuple(hinge), d1)
    angle, lift = formulas.angles_of(qrot(tuple(rests[1].tolist()), d2), d1, h, cross(h, d1))
    return h, float(angle), float(lift)


def geometry(offsets: Floats, rests: Floats, hinge: tuple[float, ...], as_rest: bool) -> Geometry:
    """Constants of a limb from its rest pose: offsets (3, 3), rests (3, 4) of root, middle and end, and the hinge in the
    frame of the root. A positive bend turns about the hinge as it is given, or so that the rest bend is positive."""
    offsets, rests = offsets.copy(), rests.copy()
    o1, o2 = tuple(offsets[1].tolist()), tuple(offsets[2].tolist())
    mid = tuple(rests[1].tolist())
    h, angle, lift = rest_sides(offsets, rests, hinge)
    if as_rest and angle < -1e-3:
        h, angle, lift = rest_sides(offsets, rests, tuple(-x for x in hinge))
    d1 = scale(o1, 1.0 / norm(o1))
    b = cross(h, d1)
    base = qmul(qconj(formulas.direction_turn(h, b, angle, lift)), mid)
    constants = np.zeros(9)
    constants[0:3] = h
    constants[3:6] = qrot(qconj(base), h)
    constants[REST_BEND], constants[REST_CARRY] = angle, lift
    nothing = (0.0, 0.0, 0.0)
    unit = (0.0, 0.0, 0.0, 1.0)
    upper = tuple(rests[0].tolist())
    mid_rot = qmul(upper, mid)
    end = add(qrot(upper, o1), qrot(mid_rot, o2))
    constants[REST_SWIVEL] = formulas.fit_pose(nothing, unit, upper, o1, o2, constants, upper, mid_rot, end)[3]
    return Geometry(offsets, rests, constants)
