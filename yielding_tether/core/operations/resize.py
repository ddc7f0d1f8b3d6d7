"""Resize: a root grows or shrinks over a stretch, with all that hangs from it, about a point that is chosen.

    the point = that in the root under which its place in the world stays while the size changes

Its size is keyed at both ends of the stretch and goes over smoothly; it stays so from then on. Nothing else is keyed, unless
the body has another size than one where the point is moved: then what drives the root is expressed anew, so that nothing
jumps there.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ..curves import ARRIVING, EMPTY, FREE, LEAVING, SMOOTH, STEPPED, Key, insert, put, sample, without
from ..errors import CoreError
from ..express import Curves, Placing, carry, motion_of, system_target
from ..parts.root import ABOUT, SIZE
from ..program import Program
from ..proof import prove
from ..rig import Bound
from .handover import refuse_locked
from .operation import Asked, Choice, Operation, Outcome, Parts, Value, check_parts, check_stretch, labels, offered
from .retether import anchors

#: Points of every root beside the joints and controls of the cast.
KEPT, OWN = "kept", "own"


def resize(program: Program, bound: Bound, size: float, first: float, last: float, about: str) -> Program:
    """The take in which a root is `size` times as large from the last frame on, and goes over to it from the first; about the
    point that it has ("kept"), its own joint ("own") or a joint or control, "member/name". CoreError where it can't."""
    if about != KEPT:
        # First the point: what moves with it is the motion at the size that the body has so far.
        program = _about(program, bound, first, about)
        bound = program.bound(*bound.id)
    channel = bound.own[bound.part.joints[0], SIZE]
    names = program.channel_names()
    refuse_locked(program, [channel], first, last)
    old = program.curve(channel)
    default = float(program.defaults[channel])
    came = [float(sample(old, [first], side, default)[0]) for side in (ARRIVING, LEAVING)]
    later = old.times[old.times > last]
    kept = without(insert(insert(old, first, default), last, default), first, last)
    start, end = kept.key(kept.find(first) or 0), kept.key(kept.find(last) or 0)
    # Where nothing follows, it stays so.
    kind = end.kind if len(later) else STEPPED
    if first == last:
        keys = [Key(first, came[0], size, start.slope_in, 0.0, kind, FREE)]
    else:
        keys = [
            Key(first, came[0], came[1], start.slope_in, 0.0, SMOOTH, FREE), Key(last, size, size, 0.0, 0.0, kind, FREE)
        ]  # fmt: skip
    return program.with_curves({names[channel]: put(kept, keys)})


def _about(program: Program, bound: Bound, first: float, about: str) -> Program:
    """Moves the point about which a body grows from a frame on; the body stays where it is."""
    joint = bound.part.joints[0]
    node = int(bound.nodes[0])
    point = program.nodes[joint_of(bound, about)]
    system = bound.state(program.now(first, bound.driver_channels)[:, None])
    if system is None:
        raise CoreError(f"{bound.part.label} is half-driven at frame {first:g}: let one system drive there first.")
    here = program.evaluate([first], only=[*program.fit_nodes([bound]), point])
    size = float(program.sizes(np.array([first]), LEAVING, node)[0])
    off = bound.systems[system].system.point(bound, program.posed(bound, here), here.pos[0, point])
    names = program.channel_names()
    channels = [bound.own[joint, c] for c in ABOUT]
    refuse_locked(program, channels, first, float(program.take.last))
    curves: Curves = {}
    for c, value in zip(channels, off, strict=True):
        came = float(program.now(first, [c], ARRIVING)[0])
        before = without(insert(program.curve(c), first, float(program.defaults[c])), first, np.inf)
        curves[names[c]] = put(before, [Key(first, came, float(value), kind=STEPPED, rule=FREE)])
    moved = program.with_curves(curves)
    if size == 1.0 and float(program.sizes(np.array([first]), ARRIVING, node)[0]) == 1.0:
        return moved
    target = system_target(moved, moved.bound(*bound.id), system)
    motion = motion_of(program, system_target(program, bound, system))
    last = float(program.take.last)
    keyed: Curves = dict(moved.take.curves)
    refuse_locked(moved, target.channels.tolist(), first, last)
    carry(program, target, keyed, first, last, True, Placing("kept"), motion)
    return moved.with_curves({n: c for n, c in keyed.items() if c is not moved.take.curves.get(n, EMPTY)})


def joint_of(bound: Bound, about: str) -> tuple[str, ...]:
    """Name of the node about which a body is to grow."""
    if about == OWN:
        return bound.member.id, bound.part.joints[0]
    member, _, name = about.partition("/")
    return member, name


@offered
class Resize(Operation):
    """Lets roots and props grow and shrink."""

    id = "resize"
    label = "Resize"
    help = "The body or prop grows or shrinks with all that hangs from it, about a point that stays where it is."
    choices = (
        Choice("size", "size", "number", 1.0, least=0.1, most=10.0, unit="times", help="How large it is from then on."),
        Choice(
            "about", "about", "anchor", KEPT, help="The point that stays where it is: choose it here, or click it in the view."
        ),
        Choice(
            "over", "over", "whole", 0, least=0, most=240, unit="frames",
            help="Frames over which it goes over from its first one on; with none it has its new size at once.",
        ),
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return bound.part.grows

    def suggest(
        self, program: Program, parts: Parts, first: float, last: float | None, made: Mapping[str, Value]
    ) -> dict[str, Value]:
        """A stretch says over which frames."""
        return {"over": int(min(last - first, 240))} if last is not None else {}

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        character = any(program.bound(*p).member.kind == "character" for p in parts)
        own = ((KEPT, "the floor under it" if character else "its own point"), (OWN, "its first joint"))
        return {"about": own + tuple((v, t) for v, t in anchors(program) if "/" in v)}

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        check_parts(program, asked.parts)
        first, _ = check_stretch(program.take, asked.first, asked.last)
        last = min(first + c["over"], float(program.take.last))
        now = program
        for id in asked.parts:
            bound = program.bound(*id)
            if not bound.part.grows:
                raise CoreError(f"{bound.part.label} has no size of its own: choose the root it hangs from.")
            about = str(c["about"])
            if about not in (KEPT, OWN) and joint_of(bound, about) not in program.nodes:
                raise CoreError(f"Nothing called {about!r} is in the cast: choose a joint or control.")
            now = resize(now, now.bound(*id), c["size"], first, last, about)
        proof = prove("resize", program, now, first, float(program.take.last))
        over = f"over frames {first:g} to {last:g}" if last > first else f"from frame {first:g} on"
        return Outcome(now.take, proof, f"{labels(program, asked.parts)}: {c['size']:g} times as large {over}")
