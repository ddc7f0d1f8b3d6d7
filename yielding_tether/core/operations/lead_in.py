"""Lead-in: some frames before the take, from the rest pose into its first frame, for cloth and hair that are simulated later.

The frames are put before the first one, so all others keep their numbers, to the bit. A root comes from where it stands still and
gathers the speed that it has at its first frame; joint by joint the body goes from rest to the pose and the speed that are there.
Nothing stands or holds in between: what drives turns the joints one by one.
"""

from __future__ import annotations

from dataclasses import replace

from ..curves import FENCE, FREE, LEAVING, SMOOTH, STEPPED, Curve, Key, insert, put, without
from ..errors import CoreError
from ..express import fit_at, system_target
from ..program import Program
from ..proof import prove
from ..rig import Bound
from .operation import Asked, Choice, Operation, Outcome, check_parts, offered

#: Frames that are put before a take where nothing is said.
FRAMES = 24


@offered
class LeadIn(Operation):
    """Frames from the rest pose into the take."""

    id = "lead-in"
    rank = 70
    label = "Lead in"
    help = "Frames before the take, from the rest pose into its first one; all frames of the take stay as they are."
    under = "as is"
    choices = (
        Choice("frames", "over", "whole", FRAMES, least=2, most=1000, unit="frames", help="Before the first frame of the take."),
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return bound.member.kind == "character"

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        check_parts(program, asked.parts)
        bodies = list(dict.fromkeys(m for m, _ in asked.parts if program.scene.member(m).kind == "character"))
        if not bodies:
            raise CoreError("Choose a part of a body that is led into the take.")
        take = program.take
        if program.layering.layers:
            raise CoreError(
                "Layers would lie on the rest pose too: merge them, or mute them, and then lead into the take."
            )
        begin = take.first - int(c["frames"])
        curves: dict[str, Curve] = {}
        for bound in program.bounds.values():
            if bound.member.id in bodies:
                curves |= _led(program, bound, float(begin))
        after = program.on(replace(take, first=begin)).with_curves(curves)
        after.check_loops()
        # The take as it was, held at its first frame before that: what is compared with.
        before = program.on(replace(take, first=begin))
        names = " and ".join(program.scene.member(m).name for m in bodies)
        return Outcome(
            after.take, prove(self.id, before, after, float(begin), float(take.first)),
            f"Lead {names} into the take over {int(c['frames'])} frames",
        )  # fmt: skip


def _led(program: Program, bound: Bound, begin: float) -> dict[str, Curve]:
    """A part's curves with keys from a frame on up to the first one of the take."""
    first, names = float(program.take.first), program.channel_names()
    system = bound.keyed_systems[0]
    mine, curves = bound.systems[system], dict[str, Curve]()
    found = fit_at(program, system_target(program, bound, system), first, LEAVING)
    state = bound.state(program.now(first, bound.driver_channels)[:, None])
    drives = state == system
    if state is not None and not drives and not bound.systems[state].system.moves_alone:
        # What takes over has keys where it does.
        for c in bound.systems[state].channels.tolist():
            if len(kept := program.curve(c)):
                curves[names[c]] = insert(kept, first, float(program.defaults[c]), FENCE)
    for k, c in enumerate(mine.channels.tolist()):
        # Keys before the take, if there are any, would be in the way.
        kept = without(insert(program.curve(c), first, float(program.defaults[c])), begin, first)
        key = kept.key(kept.find(first) or 0)
        value = key.leaving if drives else float(found.values[LEAVING, k, 0])
        kind = STEPPED if mine.stepped[k] else SMOOTH
        slope = 0.0 if kind == STEPPED else float(found.slopes[LEAVING, k, 0])
        # What carries the body gathers its speed evenly: a take seldom begins where bodies are made.
        rest = value - 0.5 * slope * (first - begin) if bound.part.free else float(mine.standard[k])
        if rest == value == key.leaving and not len(program.curve(c)):
            continue
        curves[names[c]] = put(
            kept,
            [
                Key(begin, rest, rest, 0.0, 0.0, kind, FREE, FENCE),
                key._replace(arriving=value, slope_in=slope, rule=FREE),
            ],
        )
    if not drives:
        for c, level in bound.drive_to(system).items():
            old = program.curve(c)
            was = without(insert(old, first, float(program.defaults[c])), begin, first)
            key = was.key(was.find(first) or 0)
            curves[names[c]] = put(
                was, [Key(begin, level, level, 0.0, 0.0, STEPPED, FREE), key._replace(arriving=level, slope_in=0.0)]
            )
    return curves
