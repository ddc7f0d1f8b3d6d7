"""Follow through: joints come after what carries them, each some frames later than the one above it.

    turn of joint k in the world = from what it is towards what it was k · frames ago, by a weight

So a tail, an ear, a strap or a spine overlaps with the motion that carries it; keys are put on FK, and the weight fades in and out
at the ends of the stretch.
"""

from __future__ import annotations

import numpy as np

from ..channels import in_words
from ..curves import LEAVING
from ..errors import CoreError
from ..express import FINE, Curves, Motion, Placing, carry, fence, system_target
from ..kernels.scalars import slerp
from ..measure import steps
from ..program import Poses, Program
from ..proof import prove
from ..rig import Bound
from ..transforms import Floats, Ints
from .handover import refuse_locked
from .operation import (
    Asked,
    Choice,
    Operation,
    Outcome,
    Parts,
    check_parts,
    check_stretch,
    labels,
    offered,
    stretch_words,
)


@offered
class FollowThrough(Operation):
    """Lets joints come after what carries them."""

    id = "follow-through"
    to_layer = True
    label = "Follow through"
    help = "Each joint comes some frames after the one above it: overlap for tails, ears, straps and spines, as keys of FK."
    choices = (
        Choice(
            "frames", "each", "number", 2.0, least=0.1, most=24.0, unit="frames later",
            help="How much later than the joint above.",
        ),
        Choice(
            "weight", "by", "number", 60.0, least=1.0, most=100.0, unit="%",
            help="How far each goes back to where it was then.",
        ),
        Choice("begin", "from", "name", "", help="The first joint that comes later: left out, the first of the part.", folded=True),
        Choice(
            "keys", "where keys are put", "options", "kept",
            (("kept", "on the keys that move it"), ("every", "on every frame")), folded=True,
        ),
        Choice(
            "ease", "fading over", "whole", 6, least=0, most=48, unit="frames", folded=True,
            help="At both ends of the stretch.",
        ),
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        stands = bound.member.kind == "character" and any(c.touches for c in bound.described)
        return bool(bound.by_joints) and len(bound.nodes) > 1 and not stands

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        if len(parts) != 1:
            return {}
        bound = program.bound(*parts[0])
        return {"begin": tuple((j, in_words(j)) for j in bound.part.joints)}

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        check_parts(program, asked.parts)
        first, last = check_stretch(program.take, asked.first, asked.last)
        if first == last:
            raise CoreError("Joints come after what carries them over a stretch: choose more than one frame.")
        curves: Curves = dict(program.take.curves)
        # From the root outward: what hangs from a part comes after that, as it goes by then.
        now = program
        for id in sorted(asked.parts, key=lambda p: int(program.bound(*p).nodes.min())):
            bound = now.bound(*id)
            if not bound.by_joints:
                raise CoreError(f"{bound.who} has no joints that keys turn one by one.")
            shares = now.sample(np.arange(np.ceil(first), last + 0.5), LEAVING, bound.driver_channels)
            if bound.state(shares) != bound.by_joints:
                raise CoreError(
                    f"{bound.who} is not driven by FK from frame {first:g} to {last:g}: hand it over there first."
                )
            refuse_locked(now, bound.systems[bound.by_joints].channels.tolist(), first, last)
            motion = _later(
                now, bound, _delays(bound, c["begin"], c["frames"]), c["weight"] / 100.0, first, last, float(c["ease"])
            )
            target = system_target(now, bound, bound.by_joints)
            curves = dict(now.take.curves)
            open_end = last >= program.take.last
            if not open_end:
                fence(now, curves, target.channels.tolist(), [last])
            carry(now, target, curves, first, last, open_end, Placing(c["keys"]), motion)
            now = now.with_curves({n: k for n, k in curves.items() if k is not now.take.curves.get(n)})
        return Outcome(
            now.take, prove(self.id, program, now, first, last),
            f"{labels(program, asked.parts)} follows through, {stretch_words(asked.first, asked.last)}",
        )  # fmt: skip


def _delays(bound: Bound, begin: str, frames: float) -> Floats:
    """(n,) by how many frames each joint of a part comes later: none above the one at which it begins."""
    names = bound.part.joints
    if begin and begin not in names:
        raise CoreError(f"{bound.who} has no joint {begin!r} to begin with: it has {', '.join(names)}.")
    found = np.zeros(len(names))
    started = np.zeros(len(names), dtype=bool)
    for k in bound.outward:
        up = int(bound.up[k])
        started[k] = not begin or names[k] == begin or (up >= 0 and started[up])
        if started[k]:
            found[k] = frames + (found[up] if up >= 0 else 0.0)
    return found


def _later(
    program: Program, bound: Bound, delays: Floats, weight: float, first: float, last: float, ease: float
) -> Motion:
    """The motion in which each joint of a part goes back by a weight to how it was turned so many frames ago."""
    breaks = program.key_times()
    take = program.take

    def share(at: Floats) -> Floats:
        # It fades where there is something before and after the stretch.
        rise = np.clip((at - first) / ease, 0.0, 1.0) if ease and first > take.first else np.ones(len(at))
        fall = np.clip((last - at) / ease, 0.0, 1.0) if ease and last < take.last else np.ones(len(at))
        low = np.minimum(rise, fall)
        found: Floats = weight * low * low * (3.0 - 2.0 * low)
        return found

    def poses(at: Floats, side: Ints) -> Poses:
        found = program.evaluate(at, side, only=program.fit_nodes([bound]))
        by = share(at)
        turned = {k: found.rot[:, bound.nodes[k]].copy() for k in bound.outward}
        for delay in np.unique(delays[delays > 0.0]):
            nodes = bound.nodes[delays == delay]
            before = program.evaluate(np.maximum(at - delay, float(take.first)), side, only=nodes)
            for k in np.flatnonzero(delays == delay).tolist():
                ways = zip(turned[k].tolist(), before.rot[:, bound.nodes[k]].tolist(), by.tolist(), strict=True)
                turned[k] = np.array([slerp(tuple(a), tuple(b), w) for a, b, w in ways])
        # Where they are is not asked for: FK turns.
        for k, rot in turned.items():
            found.rot[:, bound.nodes[k]] = rot
        return found

    return Motion(program, poses, lambda at: FINE * steps(breaks, at))
