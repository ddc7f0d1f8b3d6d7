"""Make workable: a capture becomes a take to work on, in one gesture.

    contacts found → planted → baked with few keys → findings repaired

Each step is the operation of that name on what the step before it has made. It is written as a revision of its own, so that it
can be looked at, undone and done otherwise by itself; what finds nothing to do is left out and told.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from ..contacts import ends_of
from ..errors import CoreError
from ..findings import find_all
from ..program import Program
from ..progress import stage
from ..proof import prove
from ..rig import Bound
from .contact import standing
from .handover import TOLERANCE
from .operation import (
    OPERATIONS,
    Asked,
    Choice,
    Operation,
    Outcome,
    Parts,
    Step,
    Value,
    check_parts,
    check_stretch,
    offered,
    run,
    stretch_words,
    system_options,
)
from .repair import REFUSED

#: What a step is asked for on what is there before it; CoreError where there is nothing for it to do.
Asking = Callable[[Program], Asked]


@offered
class MakeWorkable(Operation):
    """Makes a capture workable."""

    id = "workable"
    rank = 19
    under = "as is"
    label = "Make workable"
    applies = "parts"
    help = "What a capture moves gets contacts, planted hands and feet, few keys, no findings: step by step, each undone by itself."
    choices = (
        Choice(
            "whom", "of", "options", "body", (("body", "the whole body"), ("parts", "what is chosen")),
        ),
        Choice(
            "contacts", "contacts", "options", "find", (("find", "found"), ("keep", "as they are")),
            help="Where hands and feet stand or hold, found anew, or those that the take has.",
        ),
        Choice(
            "plant", "hands and feet", "options", "all", (("all", "planted"), ("none", "left as they move")),
            help="Each holds its place and turn on what it stands on.",
        ),
        Choice(
            "bake", "keys", "options", "few",
            (("few", "few keys"), ("every", "on every frame"), ("none", "none: it stays captured")),
        ),
        *(replace(c, folded=True, when=("bake", ("few",))) for c in TOLERANCE),
        Choice("to", "in", "name", "", folded=True, when=("bake", ("few", "every")), help="Which system takes the keys."),
        Choice(
            "repair", "findings", "options", "all", (("all", "repaired"), ("none", "left to look at")), folded=True,
        ),
    )  # fmt: skip

    def offered_for(self, bound: Bound) -> bool:
        return _captured(bound)

    def options(self, program: Program, parts: Parts) -> dict[str, tuple[tuple[str, str], ...]]:
        every = _whom(program, parts, "body")
        alone = {n for p in every for n, s in program.bound(*p).systems.items() if s.system.moves_alone}
        there = (o for o in system_options(program, every) if o[0] not in alone)
        return {"to": (("", "ends that stand or hold by IK, else by joints"), *there)}

    def lasts(self, program: Program, asked: Asked) -> float:
        parts = _whom(program, asked.parts, str(asked.choices.get("whom", "body")))
        return OPERATIONS["bake"].lasts(program, replace(asked, parts=parts))

    def run(self, program: Program, asked: Asked) -> Outcome:
        c = self.chosen(asked)
        check_parts(program, asked.parts)
        first, last = check_stretch(program.take, asked.first, asked.last)
        parts = _whom(program, asked.parts, c["whom"])
        ends = tuple(p for p in parts if ends_of(program.bound(*p)))
        at = Asked(parts, asked.first, asked.last)

        def plant(now: Program) -> Asked:
            some = tuple(p for p in ends if standing(now, p, first, last))
            if not some:
                raise CoreError("nothing stands anywhere.")
            return replace(at, parts=some, choices={"each": "all"})

        def bake(now: Program) -> Asked:
            given: dict[str, Value] = {k: c[k] for k in ("to", *(t.name for t in TOLERANCE))}
            # The animator's own keys stay; those that planting has made are as few as will do.
            own = any(
                len(program.curve(k)) for p in parts for s in program.bound(*p).systems.values() for k in s.channels
            )
            return replace(at, choices={**given, "keys": c["bake"], "there": "stay" if own else "go"})

        def repair(now: Program) -> Asked:
            open_ = [
                f.key for f in find_all(now)
                if (f.member, f.part) in parts and first <= f.frame <= last and f.kind not in REFUSED
            ]  # fmt: skip
            if not open_:
                raise CoreError("there was nothing to repair.")
            return Asked(findings=tuple(open_))

        plan: list[tuple[str, str, float, Asking]] = [
            ("contacts", "Finding contacts", 0.1, lambda _: replace(at, parts=ends, choices={"do": "find"})),
            ("plant", "Planting", 0.2, plant),
            ("bake", "Baking", 0.6, bake), ("repair", "Repairing", 0.1, repair),
        ]  # fmt: skip
        left_out = {"contacts": "keep", "plant": "none", "bake": "none", "repair": "none"}
        plan = [p for p in plan if c[p[0]] != left_out[p[0]]]
        now, steps, notes = program, list[Step](), list[str]()
        begun, total = 0.0, sum(p[2] for p in plan) + 0.1
        for id, doing, share, asking in plan:
            with stage(doing, begun / total, (begun + share) / total):
                try:
                    one = asking(now)
                    outcome = run(now, id, one)
                    if id == "repair" and not outcome.proof.contacts_kept:
                        raise CoreError("findings are left to look at: their repair would let slip what stands.")
                except CoreError as error:
                    # What one step can't do keeps the others from nothing; it is told.
                    notes.append(f"{doing}: {error}")
                else:
                    steps.append(Step(id, one, outcome.take, outcome.proof, outcome.label))
                    now = now.on(outcome.take)
            begun += share
        if not steps:
            raise CoreError(" ".join(notes) or "Choose at least one thing to be done.")
        with stage("Proving it", begun / total, 1.0):
            # What is planted at the edges eases outside.
            begin, end = min(s.proof.first for s in steps), max(s.proof.last for s in steps)
            proof = prove("workable", program, now, begin, end, notes=tuple(notes))
        who = ", ".join(dict.fromkeys(program.scene.member(m).name for m, _ in parts))
        label = f"Make {who} workable, {stretch_words(asked.first, asked.last)}"
        return Outcome(now.take, proof, label, tuple(steps))


def _captured(bound: Bound) -> bool:
    """Whether a capture can move a part."""
    return any(s.system.moves_alone for s in bound.systems.values())


def _whom(program: Program, parts: Parts, whom: str) -> Parts:
    """The parts that are meant: those chosen, or all of their bodies that a capture moves."""
    if whom != "body":
        return parts
    members = {m for m, _ in parts}
    return tuple(b.id for b in program.bounds.values() if b.member.id in members and _captured(b))
