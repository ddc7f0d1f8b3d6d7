"""Findings: what is wrong with a take, found by measuring. So far: pops where a system or a tether changes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .evaluation import Program
from .measure import one_sided

#: From this jump on a change is a pop: metres and radians.
POP_PLACE, POP_TURN = 1e-4, 1e-3


@dataclass(frozen=True)
class Finding:
    """One fault: what, whose, at which frame, how large (metres, radians)."""

    kind: str
    member: str
    part: str
    label: str
    frame: float
    place: float
    turn: float

    @property
    def sentence(self) -> str:
        """What the animator reads."""
        return f"{self.label} jumps {1000 * self.place:.1f} mm and {np.degrees(self.turn):.1f}° at frame {self.frame:g}"


def find_pops(program: Program) -> list[Finding]:
    """One finding for each limb and change of system at which its joints jump, in order of time."""
    names = program.channel_names()
    found = []
    for (member, part), limb in program.limbs.items():
        switches = [limb.drive] + ([limb.captured] if limb.captured >= 0 else [])
        control = f"{member}/{limb.part.ik}."
        switches += [
            c
            for name, c in program.channels.items()
            if name.startswith(control) and program.info[c][2].role == "tether"
        ]
        kept = [program.take.curves[names[c]].times for c in switches if names[c] in program.take.curves]
        times = np.unique(np.concatenate(kept)) if kept else np.empty(0)
        times = times[(times > program.take.first) & (times <= program.take.last)]
        if not len(times):
            continue
        limits = one_sided(program, times, np.array(limb.nodes))
        place, turn = limits.pose_jump.max(axis=1), limits.turn_jump.max(axis=1)
        label = f"{limb.member.name}'s {limb.part.label}"
        found += [
            Finding("pop", member, part, label, float(t), float(p), float(r))
            for t, p, r in zip(times, place, turn, strict=True)
            if p > POP_PLACE or r > POP_TURN
        ]
    return sorted(found, key=lambda f: f.frame)
