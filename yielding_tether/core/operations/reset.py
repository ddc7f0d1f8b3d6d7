"""Reset: parts at rest over a stretch, eased into it and out of it; every control of what drives reads zero there."""

from __future__ import annotations

import numpy as np

from ..curves import ARRIVING, FENCE, FREE, SMOOTH, STEPPED, Curve, Key, insert, over, put, sample
from ..errors import CoreError
from ..program import Program
from ..proof import prove
from ..rig import Bound
from .handover import refuse_locked
from .operation import Asked, Choice, Operation, Outcome, check_parts, check_stretch, labels, offered, stretch_words

#: Frames over which a part goes to rest and comes back.
EASE = 6


@offered
class Reset(Operation):
    """Puts parts to rest."""

    id = "reset"
    rank = 60
    label = "Reset"
    help = "Over the stretch all controls of what drives read zero: the rest pose, eased at both ends."
    choices = (
        Choice("ease", "easing over", "whole", EASE, least=0, most=240, unit="frames", help="Within the stretch, at both ends."),
    )  # fmt: skip
    to_layer = True

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        check_parts(program, asked.parts)
        first, last = check_stretch(program.take, asked.first, asked.last)
        if first == last:
            raise CoreError("A part is at rest over a stretch: choose more than one frame.")
        curves: dict[str, Curve] = {}
        for part in asked.parts:
            curves |= _at_rest(program, program.bound(*part), first, last, float(c["ease"]))
        after = program.with_curves(curves)
        after.check_loops()
        return Outcome(
            after.take, prove(self.id, program, after, first, last),
            f"Reset {labels(program, asked.parts)}, {stretch_words(asked.first, asked.last)}",
        )  # fmt: skip


def _at_rest(program: Program, bound: Bound, first: float, last: float, ease: float) -> dict[str, Curve]:
    """Curves of a part whose channels are what they are without keys, from some frames after the first to some before the last."""
    at = np.unique(np.append(np.arange(np.ceil(first), last), [first]))
    state = bound.state(program.sample(at, 0, bound.driver_channels))
    if state is None:
        raise CoreError(
            f"{bound.who} is not driven by one system from frame {first:g} to {last:g}: choose a stretch in which one drives."
        )
    mine, names = bound.systems[state], program.channel_names()
    refuse_locked(program, mine.channels.tolist(), first, last)
    open_first, open_last = first == program.take.first, last == program.take.last
    ease = min(ease, 0.5 * (last - first))
    low, high = (first if open_first else first + ease), (last if open_last else last - ease)
    curves: dict[str, Curve] = {}
    for k, c in enumerate(mine.channels.tolist()):
        kept = program.curve(c)
        if mine.held[k] or not len(kept):
            continue
        default, rest = float(program.defaults[c]), float(mine.standard[k])
        kind = STEPPED if mine.stepped[k] else SMOOTH
        keys = [Key(t, rest, rest, 0.0, 0.0, kind, FREE) for t in sorted({low, high})]
        whole = insert(insert(kept, first, default, FENCE), last, default, FENCE)
        a, b = (whole.key(whole.find(t) or 0) for t in (first, last))
        if low > first:
            # What steps does so where the rest begins.
            value = float(sample(kept, [first], ARRIVING, default)[0])
            keys.insert(
                0, a._replace(leaving=value if kind == SMOOTH else rest, slope_out=a.slope_in, kind=kind, rule=FREE)
            )
        if high < last:
            keys.append(b._replace(arriving=b.leaving if kind == SMOOTH else rest, slope_in=b.slope_out, rule=FREE))
        made = over(kept, keys, first, last, default)
        if open_last:
            # Nothing comes after it: what leaves the last frame of a take is at rest too.
            made = put(made, [made.key(made.find(last) or 0)._replace(leaving=rest, slope_out=0.0)])
        curves[names[c]] = made
    return curves
