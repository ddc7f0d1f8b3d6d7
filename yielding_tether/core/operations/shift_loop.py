"""Shift a loop: a take that goes round begins some frames later in its cycle, half of it by default, and closes as it did.

    value(t) = old(t + by),  and past the end  old(t + by - length) + what one round adds

Every curve is cut once and its two pieces change places, with their keys, kinds and slopes; what goes on from round to round, as a
walk does, gets what one round adds. Half a cycle of an odd number of frames falls between two: keys go there.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..contacts import with_contact
from ..curves import ARRIVING, FENCE, LEAVING, Curve, Key, curve, insert, sample
from ..errors import CoreError
from ..program import Program
from ..proof import prove
from ..rig import Bound
from ..takes import Contact, Layer, Take
from .operation import Asked, Choice, Operation, Outcome, check_stretch, offered

#: What one round may leave of a value that steps.
STEPS = 1e-9


@offered
class ShiftLoop(Operation):
    """Begins a loop elsewhere in its cycle."""

    id = "shift-loop"
    rank = 64
    label = "Shift the loop"
    help = "A take that goes round begins later in its cycle: half of it and mirrored, a symmetric gait is what it was."
    under = "as is"
    choices = (
        Choice(
            "by", "by", "number", 0.0, least=-100_000.0, most=100_000.0, unit="frames",
            help="How much later in its cycle it begins; 0: half a cycle.",
        ),
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return bound.member.kind == "character"

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        take = program.take
        length = float(take.last - take.first)
        by = float(c["by"]) % length if c["by"] else 0.5 * length
        if take.captures:
            who = ", ".join(program.scene.member(m).name for m in take.captures)
            raise CoreError(f"{who} has a capture, which can't be shifted in its cycle: bake it to keys first.")
        if not by:
            raise CoreError("It begins there already: that is a whole round.")
        if check_stretch(take, asked.first, asked.last) != (take.first, take.last):
            raise CoreError(
                "A part of a take can't go round by itself: choose the whole take to shift it in its cycle."
            )
        cut, stepped = float(take.first) + by, {int(c) for b in program.bounds.values() for c in b.switches}
        made = replace(
            take, curves={n: _shifted(program, n, k, cut, stepped) for n, k in take.curves.items()}, contacts=_contacts(take, cut),
            layers=tuple(_layer(program, x, cut) for x in take.layers),
        )  # fmt: skip
        after = program.on(made)
        after.check_loops()
        proof = prove(self.id, program, after, float(take.first), float(take.last))
        return Outcome(made, proof, f"Shift the loop by {by:g} frames")


def _shifted(program: Program, name: str, kept: Curve, cut: float, switches: set[int]) -> Curve:
    """A curve whose part from the cut on comes first, and then what was before that."""
    first, last = float(program.take.first), float(program.take.last)
    channel = program.channels[name]
    stepped = program.info[channel][2].trait.stepped or channel in switches
    return _turned_round(
        kept, float(program.defaults[channel]), first, last, cut, program.reading(name) if stepped else ""
    )


def _turned_round(kept: Curve, default: float, first: float, last: float, cut: float, steps: str) -> Curve:
    """The same; steps: how a value reads that has to be the same after one round."""
    if len(kept) < 2 and not (len(kept) and kept.numbers[0, 1] != kept.numbers[0, 2]):
        # What stands still does so everywhere.
        return kept
    whole = kept
    for t in (first, cut, last):
        whole = insert(whole, t, default, FENCE)
    begins, ends = float(sample(whole, [first], LEAVING)[0]), float(sample(whole, [last], ARRIVING)[0])
    more = ends - begins
    if steps and abs(more) > STEPS:
        raise CoreError(f"The {steps} is another at the end than at the beginning: the take is no loop.")
    keys = [k for k in whole.all_keys() if first <= k.time <= last]
    at = next(n for n, k in enumerate(keys) if k.time == cut)
    late = [k._replace(time=k.time - (cut - first)) for k in keys[at:]]
    early = [_raised(k._replace(time=k.time + last - cut), more) for k in keys[: at + 1]]
    # Where the end meets the beginning one key arrives as the end did and leaves as the beginning does.
    seam = late[-1]._replace(
        leaving=early[0].leaving, slope_out=early[0].slope_out, kind=early[0].kind, rule=0, tag=FENCE
    )
    return curve([*late[:-1], seam, *early[1:]])


def _raised(key: Key, by: float) -> Key:
    return key._replace(arriving=key.arriving + by, leaving=key.leaving + by)


def _layer(program: Program, x: Layer, cut: float) -> Layer:
    first, last = float(program.take.first), float(program.take.last)
    turned = {n: _turned_round(c, 0.0, first, last, cut, "") for n, c in x.curves.items()}
    return replace(x, curves=turned, weight=_turned_round(x.weight, 1.0, first, last, cut, ""), stretch=None)


def _contacts(take: Take, cut: float) -> tuple[Contact, ...]:
    """Contacts where they come now; one over the cut is two, and two that meet at the seam are one."""
    first, last = float(take.first), float(take.last)
    bare = replace(take, contacts=())
    pieces = [
        (piece, by)
        for c in take.contacts
        for piece, by in ((c.cut(cut, np.inf), first - cut), (c.cut(-np.inf, cut), last - cut))
        if piece is not None
    ]
    for piece, by in sorted(pieces, key=lambda p: p[0].begin + p[1]):
        points = tuple(replace(p, first=p.first + by, last=p.last + by) for p in piece.points)
        moved = replace(piece, first=piece.first + by, last=piece.last + by, points=points)
        near = [
            c for c in bare.contacts
            if (c.member, c.joint, c.anchor_member, c.anchor) == (moved.member, moved.joint, moved.anchor_member, moved.anchor)
            and abs(c.end - moved.begin) < 1.0
        ]  # fmt: skip
        if near and not moved.points and not near[0].points:
            bare = replace(bare, contacts=tuple(c for c in bare.contacts if c is not near[0]))
            moved = replace(moved, first=near[0].first)
        bare = with_contact(bare, moved)
    return bare.contacts
