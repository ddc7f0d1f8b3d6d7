"""Thin: as few keys as keep what is there within a tolerance, in the system that drives: a bake onto what is there already."""

from __future__ import annotations

from dataclasses import replace

from ..errors import CoreError
from ..program import Program
from .bake import DRIVING, FEW, Bake, apply
from .handover import TOLERANCE, tolerance_of
from .operation import Asked, Operation, Outcome, labels, offered, stretch_words


@offered
class Thin(Operation):
    """Takes away keys that are not needed."""

    id = "thin"
    rank = 56
    label = "Thin the keys"
    help = "As few keys as keep every joint where it is, within a tolerance; locked keys and what lies outside stay."
    choices = tuple(replace(c, folded=False, when=None) for c in TOLERANCE)

    def lasts(self, program: Program, asked: Asked) -> float:
        last = float(program.take.last if asked.last is None else asked.last)
        return FEW * sum(len(program.bound(*p).nodes) for p in asked.parts) * max(last - asked.first, 0.0)

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        bounds = [program.bound(*p) for p in asked.parts]
        alone = [
            b
            for b in bounds
            if b.captured and not any(len(program.curve(int(k))) for s in b.systems.values() for k in s.channels)
        ]
        if alone:
            raise CoreError(f"{alone[0].who} plays a capture and has no keys to thin: bake it with few keys instead.")
        few = Bake(asked.parts, DRIVING, asked.first, asked.last, "few", tolerance_of(c), "", "go")
        take, proof = apply(program, few)
        said = f"Thin the keys of {labels(program, asked.parts)}, {stretch_words(asked.first, asked.last)}"
        return Outcome(take, replace(proof, operation=self.id), said)
