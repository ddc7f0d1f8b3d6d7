"""Reset: parts at rest over a stretch, eased into it and out of it, every control of what drives reading zero; or as if they had
never been keyed there."""

from __future__ import annotations

import numpy as np

from ..curves import ARRIVING, EMPTY, FENCE, FREE, SMOOTH, STEPPED, Curve, Key, insert, over, put, sample
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
    help = (
        "Over the stretch all controls of what drives read zero: the rest pose, eased at both ends. Or none of their keys stay, "
        "neither what drives nor what is followed."
    )
    choices = (
        Choice("to", "to", "options", "rest", (("rest", "at rest"), ("nothing", "as if never keyed"))),
        Choice(
            "ease", "easing over", "whole", EASE, least=0, most=240, unit="frames",
            help="Within the stretch, at both ends.", when=("to", ("rest",)),
        ),
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
            bound = program.bound(*part)
            unkeyed = c["to"] == "nothing"
            curves |= (
                _unkeyed(program, bound, first, last)
                if unkeyed
                else _at_rest(program, bound, first, last, float(c["ease"]))
            )
        after = program.with_curves(curves)
        after.check_loops()
        return Outcome(
            after.take, prove(self.id, program, after, first, last),
            f"Reset {labels(program, asked.parts)}, {stretch_words(asked.first, asked.last)}",
        )  # fmt: skip


def _at_rest(program: Program, bound: Bound, first: float, last: float, ease: float) -> dict[str, Curve]:
    """Curves of a part whose channels are what they are without keys, from some frames after the first to some before the last."""
    # Systems that drive anywhere in the stretch: where they change over, the part is at rest in both.
    at = np.unique(np.append(np.arange(np.ceil(first), last), [first]))
    shares = program.sample(at, 0, bound.driver_channels)
    driving = bound.active(lambda k: (bool((shares[k] > 0.0).any()), bool((shares[k] < 1.0).any())))
    systems = [bound.systems[name] for name in driving]
    names = program.channel_names()
    refuse_locked(program, [c for mine in systems for c in mine.channels.tolist()], first, last)
    open_first, open_last = first == program.take.first, last == program.take.last
    ease = min(ease, 0.5 * (last - first))
    low, high = (first if open_first else first + ease), (last if open_last else last - ease)
    curves: dict[str, Curve] = {}
    for mine, k, c in ((s, k, c) for s in systems for k, c in enumerate(s.channels.tolist())):
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


def _unkeyed(program: Program, bound: Bound, first: float, last: float) -> dict[str, Curve]:
    """Curves of all channels of a part without keys over a stretch: over a whole take none, else what the channels are without."""
    names, channels = program.channel_names(), sorted(set(bound.own.values()))
    refuse_locked(program, channels, first, last)
    curves: dict[str, Curve] = {}
    for c in (c for c in channels if len(program.curve(c))):
        default, kept = float(program.defaults[c]), program.curve(c)
        keys = [Key(t, default, default, kind=STEPPED, rule=FREE) for t in (first, last)]
        curves[names[c]] = over(kept, keys, first, last, default)
        if first == program.take.first and last == program.take.last:
            curves[names[c]] = EMPTY
    if not curves:
        raise CoreError(f"{bound.who} has no keys from frame {first:g} to {last:g}.")
    return curves
