"""In-between: at one frame a pose that favours the one before or the one after, by one dial.

    turn = before ∘ exp(share · log(before⁻¹ ∘ after)),  of each joint in what it hangs from;  channels = fit(those joints)

Poses are mixed in joints, so it does not matter what drives or what is followed at the keys on either side. What stands or holds at
the frame stays there.
"""

from __future__ import annotations

import numpy as np

from ..contacts import end_of, part_of
from ..curves import ARRIVING, FENCE, LEAVING, SMOOTH, STEPPED, Curve, insert, set_value
from ..errors import CoreError
from ..express import system_target
from ..fitting import reach
from ..layers import scaled
from ..program import Poses, Program
from ..proof import prove
from ..rig import Bound
from ..transforms import inverse, multiply, rotate
from .handover import refuse_locked
from .operation import Asked, Choice, Operation, Outcome, check_parts, check_stretch, labels, offered

#: Where between two poses one is made if nothing is said, per cent.
HALF = 50.0


@offered
class InBetween(Operation):
    """Keys a pose between two."""

    id = "in-between"
    rank = 17
    label = "In-between"
    help = "At the first frame of the stretch: a pose between the keys before and after it. What stands stays where it stands."
    choices = (
        Choice(
            "share", "towards the one after", "number", HALF, least=-50.0, most=150.0, unit="%",
            help="0: the pose before, 100: the one after; beyond them it overshoots.",
        ),
    )  # fmt: skip
    to_layer = True

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        check_parts(program, asked.parts)
        frame, _ = check_stretch(program.take, asked.first, asked.last)
        bounds = sorted((program.bound(*p) for p in asked.parts), key=lambda b: int(b.nodes.min()))
        systems = {b.id: _driving(program, b, frame) for b in bounds}
        before, after = _around(program, bounds, frame)
        share = 0.01 * float(c["share"])
        curves: dict[str, Curve] = {}
        now, names = program, program.channel_names()
        for bound in bounds:
            target = system_target(now, now.bound(*bound.id), systems[bound.id])
            refuse_locked(now, target.channels.tolist(), frame, frame)
            posed = _mixed(program, now, now.bound(*bound.id), (before, frame, after), share)
            values = target.fit(posed, now.now(frame, target.channels))[:, 0]
            for k, channel in enumerate(target.channels.tolist()):
                old = now.curve(channel)
                if target.mine.held[k] or (not len(old) and abs(values[k] - now.defaults[channel]) <= 1e-9):
                    continue
                kind = STEPPED if target.mine.stepped[k] else SMOOTH
                # The poses on either side stay, in channels without keys there too.
                for edge in (before, after):
                    old = insert(old, edge, float(now.defaults[channel]), FENCE)
                curves[names[channel]] = set_value(old, frame, float(values[k]), kind, neighbours=False)
            now = program.with_curves(curves)
        now.check_loops()
        return Outcome(
            now.take, prove(self.id, program, now, before, after),
            f"{labels(program, asked.parts)} at frame {frame:g}: {100 * share:g} % from frame {before:g} to {after:g}",
        )  # fmt: skip


def _driving(program: Program, bound: Bound, frame: float) -> str:
    """The system that drives a part at a frame; CoreError where keys alone do not."""
    state = bound.state(program.now(frame, bound.driver_channels)[:, None])
    if state is None or bound.systems[state].system.moves_alone:
        raise CoreError(
            f"{bound.who} is not driven by keys alone at frame {frame:g}: hand it over to a system with keys first."
        )
    return state


def _around(program: Program, bounds: list[Bound], frame: float) -> tuple[float, float]:
    """The frames of the keys before and after a frame; CoreError where there is none on a side."""
    channels = {int(c) for b in bounds for s in b.keyed_systems for c in b.systems[s].channels}
    times = program.key_times(sorted(channels))
    times = times[(times >= program.take.first) & (times <= program.take.last)]
    before, after = times[times < frame], times[times > frame]
    if not (len(before) and len(after)):
        where = "before" if not len(before) else "after"
        raise CoreError(
            f"There is no key {where} frame {frame:g} to make a pose between two: choose a frame between keys."
        )
    return float(before[-1]), float(after[0])


def _space(program: Program, bound: Bound) -> int:
    """The node in which what carries a body is placed."""
    return next((c.space for c in bound.controls.values() if c.place >= 0), int(bound.above[0]))


def _mixed(
    program: Program, now: Program, bound: Bound, frames: tuple[float, float, float], share: float
) -> Poses:  # fmt: skip
    """The pose of a part between two frames, on top of what is there now at the one in the middle."""
    before, frame, after = frames
    nodes = np.concatenate([bound.nodes, bound.above])
    if bound.part.free:
        nodes[len(bound.nodes)] = _space(program, bound)
    pos, rot = program.track(np.array([before, after]), np.array([LEAVING, ARRIVING]), nodes)
    count = len(bound.nodes)
    back = inverse(rot[:, count:])
    places, turns = rotate(back, pos[:, :count] - pos[:, count:]), multiply(back, rot[:, :count])
    step = multiply(inverse(turns[0]), turns[1])
    turned = multiply(turns[0], scaled(step, np.full(count, share)))
    placed = places[0] + share * (places[1] - places[0])
    needed = [*now.fit_nodes([bound]), *nodes.tolist()]
    found = now.evaluate([frame], only=needed)
    for k in bound.outward:
        up = int(nodes[count + k])
        found.pos[0, bound.nodes[k]] = found.pos[0, up] + rotate(found.rot[0, up], placed[k])
        found.rot[0, bound.nodes[k]] = multiply(found.rot[0, up], turned[k])
    return _standing(program, now, bound, found, frame)


def _standing(program: Program, now: Program, bound: Bound, found: Poses, frame: float) -> Poses:
    """The pose with the part's end where it stood, if it stands at the frame."""
    control = end_of(bound)
    stands = [c for c in program.take.contacts if c.begin <= frame <= c.end and part_of(program, c).id == bound.id]
    if control is None or not stands:
        return found
    (system,) = [n for n in bound.keyed_systems if control.control in bound.systems[n].controls][-1:]
    node = now.nodes[bound.member.id, control.control.rests_on]
    at = program.evaluate([frame], only=[node])
    found.pos[0, node], found.rot[0, node] = at.pos[0, node], at.rot[0, node]
    reached = reach(now, bound, system, found)
    found.pos[:, bound.nodes], found.rot[:, bound.nodes] = reached.pos[:, bound.nodes], reached.rot[:, bound.nodes]
    return found
