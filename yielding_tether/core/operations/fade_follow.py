"""Fade to a follow: a wanted, smooth change of what a control follows, over several frames.

Nothing is fitted, and the control keeps its values: what is new is tied so that on the last frame the same values place the
control where they did before. So both ends meet what is there, speed and all, and between them the control is placed by the
mean of its two complete placings. Its keys are tagged, so that it is never taken for a change that somebody spread by mistake.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from ..curves import EMPTY, LEAVING, Curve, insert, put
from ..errors import CoreError
from ..followers import BoundControl
from ..program import Program
from ..proof import Proof, prove
from ..rig import Bound
from ..systems.system import Control
from ..takes import WORLD, Take, Tether
from .crossfade import OVER, over_stretch, ramp
from .handover import refuse_locked
from .operation import Asked, Choice, Operation, Outcome, Parts, Value, check_parts, labels, offered
from .retether import (
    CONTROL,
    OWN,
    WHAT,
    able,
    anchor_of,
    check_anchor,
    control_for,
    new_tether,
    node_of,
    read,
    seen_from,
    wanted_of,
    which_control,
)


@dataclass(frozen=True)
class FadeFollow:
    """What is asked for: from frame `first` to `last` the control goes over to follow `to`, as `Retether` names it."""

    parts: Parts
    to: str
    first: float
    last: float
    control: str = ""
    what: Literal["both", "position", "rotation"] = "both"


def apply(program: Program, asked: FadeFollow) -> tuple[Take, Proof]:
    """The take after it, and its proof. CoreError says what can't be done; nothing changes then."""
    check_parts(program, asked.parts)
    take = program.take
    if not take.first <= asked.first < asked.last <= take.last:
        raise CoreError(
            f"A fade from frame {asked.first:g} to {asked.last:g} does not lie in the take, which runs from {take.first} to "
            f"{take.last}."
        )
    check_anchor(program, asked.to)
    after, until = program, asked.last
    for id in asked.parts:
        after, felt = _faded(after, id, asked)
        until = max(until, felt)
    after.check_loops()
    return after.take, prove("fade-follow", program, after, asked.first, until)


def _faded(program: Program, id: tuple[str, str], asked: FadeFollow) -> tuple[Program, float]:
    """The take in which one part has gone over, and until when it differs."""
    bound = program.bound(*id)
    control = control_for(program, bound, asked.control, asked.first)
    released = wanted_of(bound, control, asked.what)
    tether = _tied(program, bound, control, asked)
    staged = program.on(replace(program.take, tethers=(*program.take.tethers, tether)))
    placed = staged.bound(*id).followers[control.name]
    _check_one(program, staged, bound, placed, asked)
    weights = [
        c
        for one in placed.others
        for c, what in zip(one.weights, ("position", "rotation"), strict=True)
        if c >= 0 and what in released
    ]
    times = staged.key_times(weights)
    if np.any((times > asked.first) & (times <= asked.last)):
        raise CoreError(
            f"{bound.who} changes what it follows between frames {asked.first:g} and {asked.last:g}: choose frames over which "
            "it does not."
        )
    later = times[times > asked.last]
    until = float(later[0]) if len(later) else np.inf
    refuse_locked(staged, weights, asked.first, min(until, float(program.take.last)))
    # Tied so that on the last frame it is where it was.
    here = staged.bound(*id)
    offset = seen_from(staged, node_of(staged, tether), here, control, asked.last, LEAVING, at_zero=True)
    tied = replace(tether, offset=offset)
    names = staged.channel_names()
    wanted = {tied.weight_channel(w) for w in released}
    curves = {
        names[c]: _over(staged.take.curves.get(names[c], EMPTY), asked, until, float(names[c] in wanted))
        for c in weights
    }
    after = program.on(replace(program.take, tethers=(*program.take.tethers, tied))).with_curves(curves)
    return after, min(until, float(program.take.last))


def _tied(program: Program, bound: Bound, control: Control, asked: FadeFollow) -> Tether:
    """The follow that the control goes over to. Its own space is that of the joint that it hangs from."""
    member, anchor = anchor_of(asked.to)
    if asked.to == OWN:
        joint = control.name if control.is_joint else control.hangs_from
        bones = bound.member.skeleton
        up = bones.parents[bones.index[joint]] if joint else -1
        member, anchor = (bound.member.id, bones.joints[up].name) if up >= 0 else (WORLD, WORLD)
    return new_tether(program.take.tethers, bound, control, member, anchor)


def _check_one(program: Program, staged: Program, bound: Bound, placed: BoundControl, asked: FadeFollow) -> None:
    """CoreError where the control follows that already."""
    now = program.bound(*bound.id).followers.get(placed.control.name)
    node = placed.anchors[-2].node
    weights = [] if now is None else [(one.node, program.now(asked.first, one.switches)) for one in now.others]
    full = [a for a, said in weights if np.any(said >= 1.0)]
    own = not any(np.any(said > 0.0) for _, said in weights)
    if node in full or (own and node == placed.own.node):
        raise CoreError(f"{bound.who} already follows {read(staged, asked.to)} at frame {asked.first:g}.")


def _over(old: Curve, asked: FadeFollow, until: float, level: float) -> Curve:
    """A weight that goes over to a level, and from `until` on is what it was."""
    back = insert(old, until, 0.0) if np.isfinite(until) else old
    made = ramp(back, asked.first, asked.last, level, 0.0)
    if np.isfinite(until):
        key = made.key(made.find(until) or 0)
        made = put(made, [key._replace(arriving=level, slope_in=0.0)])
    return made


@offered
class FadeToFollow(Operation):
    """Fades controls over to follow something else."""

    id = "fade-follow"
    carries = True
    label = "Fade to a follow"
    applies = "parts"
    help = "A wanted change over some frames: the control keeps its values, and goes over to what it follows then."
    choices = (
        Choice("to", "follow", "anchor", "world", help="What is followed then: choose it here, or click it in the view."),
        OVER,
        CONTROL,
        WHAT,
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return bool(able(bound))

    def suggest(
        self, program: Program, parts: Parts, first: float, last: float | None, made: Mapping[str, Value]
    ) -> dict[str, Value]:
        return over_stretch(first, last) | which_control(program, parts, first)

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        from .operation import OPERATIONS

        return OPERATIONS["retether"].options(program, parts)

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        first, last = float(asked.first), float(asked.first) + c["over"]
        wanted = FadeFollow(asked.parts, c["to"], first, last, c["control"], c["what"])
        said = f"{labels(program, asked.parts)} goes over to follow {read(program, c['to'])}"
        return Outcome(*apply(program, wanted), f"{said[0].upper()}{said[1:]}, frames {first:g} to {last:g}")
