"""What the routes share: takes made ready to evaluate, trials, and what the bench shows of a take."""

from __future__ import annotations

import secrets
import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Generic, TypeVar

from ..core import clips
from ..core.cores import CORES
from ..core.errors import CoreError
from ..core.findings import Finding, Memory, find_all
from ..core.operations import Outcome, pose
from ..core.operations.transfer import Names, propose, transfer
from ..core.program import Program
from ..core.proof import Proof
from ..core.takes import Take
from ..store.codec import proof_from
from ..store.store import Loaded, Made, Missing, Store
from . import operations
from . import schemas as s
from .describe import (
    as_drag,
    clip_info,
    compared,
    finding_info,
    handles,
    key_count,
    layer_infos,
    member_info,
    row_groups,
    size_rows,
    strands,
    table_rows,
)

K = TypeVar("K", bound=Hashable)
V = TypeVar("V")


#: Bytes that a take made ready works in.
ROOM = 1_500_000 * CORES
#: Bytes that entries of one kind may hold together, and most of them.
MOST_BYTES, MOST = 80_000_000, 24


class Recent(Generic[K, V]):
    """A dictionary that keeps the entries used last; safe among threads. `holds` names what an entry holds, and how many bytes
    each takes: what several hold counts once. The newest entry is kept whatever it takes."""

    def __init__(self, most: int, holds: Callable[[V], Mapping[int, int]] | None = None) -> None:
        self._most = most
        self._holds = holds
        self._items: OrderedDict[K, V] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: K) -> V | None:
        with self._lock:
            if key in self._items:
                self._items.move_to_end(key)
            return self._items.get(key)

    def put(self, key: K, value: V) -> V:
        with self._lock:
            self._items[key] = value
            self._items.move_to_end(key)
            while len(self._items) > max(1, self._room()):
                self._items.popitem(last=False)
            return value

    def clear(self) -> None:
        with self._lock:
            self._items.clear()

    def _room(self) -> int:
        """How many of the newest entries fit."""
        if self._holds is None:
            return self._most
        seen: dict[int, int] = {}
        for k, value in enumerate(reversed(self._items.values())):
            seen |= self._holds(value)
            if k >= self._most or sum(seen.values()) > MOST_BYTES:
                return k
        return self._most

    def made(self, key: K, make: Callable[[], V]) -> V:
        """The entry, made now if it is not there."""
        found = self.get(key)
        return found if found is not None else self.put(key, make())


def held_by(program: Program) -> dict[int, int]:
    """Bytes of a take and of what was made ready of it, by what holds them."""
    curves = [*program.take.curves.values(), *(c for x in program.take.layers for c in x.curves.values())]
    held = {id(c): c.numbers.nbytes + c.marks.nbytes for c in curves}
    # Laid out for the kernels they lie there once more; what was measured is some arrays of the same length each.
    slips = {id(slip): sum(a.nbytes for a in slip) for slip in list(program.measured.values())}
    captures = {id(c): c.nbytes for c in program.take.captures.values()}
    return {**held, **captures, **slips, id(program): 2 * sum(held.values()) + ROOM}


@dataclass(frozen=True)
class Open:
    """A take at a revision, ready to evaluate."""

    loaded: Loaded
    program: Program


@dataclass(frozen=True)
class Trial:
    """A result that was tried and not applied."""

    base: Open
    program: Program
    outcome: Outcome
    asked: s.OperationAsked


class Studio:
    """Takes in use. Nothing here is the truth: the store is, and everything can be made again from it."""

    def __init__(self, store: Store) -> None:
        self.store = store
        self._open: Recent[tuple[int, int], Open] = Recent(MOST, lambda o: held_by(o.program))
        self._trials: Recent[str, Trial] = Recent(MOST, lambda t: held_by(t.base.program) | held_by(t.program))
        #: Names of trials by what was asked for.
        self._tried: Recent[tuple[int, str], str] = Recent(MOST)
        #: What is only looked at, and belongs to no revision.
        self._shown: Recent[str, Program] = Recent(4, held_by)
        self._rigs: Recent[int, Program] = Recent(8, held_by)
        self._memories: Recent[int, Memory] = Recent(8)
        self._findings: Recent[int, list[Finding]] = Recent(200)
        self._entries: Recent[int, s.TakeEntry] = Recent(500)

    def open(self, take_id: int, revision: int | None = None) -> Open:
        """A take at a revision, by default its head. Missing if there is none."""
        at = revision if revision is not None else self.store.head(take_id)
        return self._open.made((take_id, at), lambda: self._load(take_id, at))

    def _load(self, take_id: int, revision: int) -> Open:
        loaded = self.store.load(take_id, revision)
        return Open(loaded, self._program(loaded))

    def _program(self, loaded: Loaded) -> Program:
        """A take made ready; what does not depend on its curves is shared with the scene's program made last."""
        known = self._rigs.get(loaded.scene_id)
        if known is not None and known.rig.given == loaded.scene:
            return self._rigs.put(loaded.scene_id, known.on(loaded.take))
        return self._rigs.put(loaded.scene_id, Program(loaded.scene, loaded.take))

    # --- operations -----------------------------------------------------------------------------------

    def try_(self, take_id: int, asked: s.OperationAsked) -> tuple[str, Trial]:
        """Runs an operation without writing anything; the trial can be looked at by its name."""
        base = self.open(take_id, asked.revision)
        return self.keep(take_id, asked, operations.run_asked(base.program, asked, self.store))

    def keep(self, take_id: int, asked: s.OperationAsked, outcome: Outcome) -> tuple[str, Trial]:
        """What was tried, with a name by which it can be looked at; it need not be worked out again to be applied."""
        base = self.open(take_id, asked.revision)
        name = secrets.token_urlsafe(9)
        self._tried.put((take_id, asked.model_dump_json()), name)
        return name, self._trials.put(name, Trial(base, base.program.on(outcome.take), outcome, asked))

    def lasts(self, take_id: int, asked: s.OperationAsked) -> float:
        """About how many seconds an operation takes; none where it has been tried."""
        if self._trials.get(self._tried.get((take_id, asked.model_dump_json())) or "") is not None:
            return 0.0
        return operations.lasts(self.open(take_id, asked.revision).program, asked, self.store)

    def chart(self, take_id: int, trial: str) -> s.ChartInfo | None:
        """Figures by which to decide on what was tried; without layers, for what these add is not the operation's."""
        tried = self._trials.get(trial)
        if tried is None or tried.base.loaded.take_id != take_id:
            raise Missing("This trial is gone: try the operation again.")
        if tried.base.program.take.layers:
            return None
        return operations.chart(tried.base.program, tried.asked, tried.program, self.store)

    def program(self, take_id: int, revision: int | None, trial: str | None) -> Program:
        """A take at a revision, or what was tried."""
        if not trial:
            return self.open(take_id, revision).program
        tried = self._trials.get(trial)
        found = self._shown.get(trial) if tried is None else tried.program
        if found is None:
            raise Missing("This trial is gone: try the operation again.")
        return found

    def show(self, program: Program, take_id: int, scene_id: int) -> tuple[s.TakeInfo, str]:
        """A take that is only to be looked at: what the page draws it by, and where its poses are to be had."""
        name = secrets.token_urlsafe(9)
        self._shown.put(name, program)
        return take_info(program, take_id, scene_id), name

    def forget(self) -> None:
        """Everything made ready, where a body is no longer what it was."""
        for kept in (
            self._open,
            self._trials,
            self._tried,
            self._shown,
            self._rigs,
            self._memories,
            self._findings,
            self._entries,
        ):
            kept.clear()

    def apply(self, take_id: int, asked: s.OperationAsked, key: str | None = None) -> s.Applied:
        """Runs an operation and writes it as one revision on the one it started from; what was tried is not worked out
        a second time. What was written under this key already is only told again."""
        if (written := self._written(take_id, key)) is not None:
            return written
        base = self.open(take_id, asked.revision)
        body = asked.model_dump(mode="json")
        tried = self._trials.get(self._tried.get((take_id, asked.model_dump_json())) or "")
        outcome = tried.outcome if tried else operations.run_asked(base.program, asked, self.store)
        steps = [
            Made(x.take, x.label, {"operation": x.operation, **operations.asked_json(x.asked)}, x.proof)
            for x in outcome.steps
        ]
        return self._commit(base, outcome.take, outcome.label, body, outcome.proof, key, steps)

    def suggest(self, take_id: int, asked: s.SuggestAsked) -> s.Suggested:
        """Choices that a stretch most likely wants."""
        return operations.suggested(self.open(take_id, asked.revision).program, asked, self._takes)

    def _takes(self) -> list[tuple[str, str]]:
        """All takes by their numbers, with what they are called, newest scene first."""
        return [(str(t.id), f"{t.name}, {x['row'].name}") for x in self.store.scenes() for t in x["takes"]]

    def transfer(self, take_id: int, asked: s.TransferAsked) -> s.TransferInfo:
        """A character's take moved to another scene's character; a take of that scene where it is to be applied."""
        program = self.open(take_id, asked.revision).program
        scene = self.store.scene(asked.scene)
        proposed = propose(program.scene.member(asked.member), scene.member(asked.target))
        names = Names(
            proposed.source if asked.source_prefix is None else asked.source_prefix,
            proposed.target if asked.target_prefix is None else asked.target_prefix,
        )
        found = transfer(program, asked.member, scene, asked.target, names, asked.name.strip())
        made = self.store.add_take(asked.scene, found.take) if asked.apply else None
        return s.TransferInfo(
            sentence=found.sentence, source_prefix=names.source, target_prefix=names.target, parts=found.parts,
            channels=found.channels, keys=found.keys, follows=found.follows, contacts=found.contacts,
            place=found.place.value, turn=found.turn.value,
            mismatches=[s.MismatchInfo(**m._asdict()) for m in found.mismatches], take_id=made,
        )  # fmt: skip

    def apply_drag(self, take_id: int, asked: s.DragAsked, key: str | None = None) -> s.Applied:
        """Writes a drag that has ended as one revision."""
        if (written := self._written(take_id, key)) is not None:
            return written
        base = self.open(take_id, asked.revision)
        drag = as_drag(asked)
        take, proof = pose.apply(base.program, drag)
        asked_json = {"operation": "pose", **asked.model_dump(mode="json")}
        return self._commit(base, take, pose.describe(drag, base.program), asked_json, proof, key)

    def _written(self, take_id: int, key: str | None) -> s.Applied | None:
        """What an edit that was sent before has written."""
        id = self.store.written(take_id, key) if key else None
        if id is None:
            return None
        row, _ = self.store.revision(take_id, id)
        proof = proof_from(row.proof)
        said = proof.sentence if proof else row.label
        return s.Applied(revision=id, number=row.number, label=row.label, sentence=said, proof=proof)

    def _commit(
        self, base: Open, take: Take, label: str, asked: dict[str, object], proof: Proof | None, key: str | None,
        steps: Sequence[Made] = (),
    ) -> s.Applied:  # fmt: skip
        id = self.store.commit(base.loaded, take, label, asked, proof, key, steps)
        loaded = replace(base.loaded, take=take, revision=id)
        self._open.put((base.loaded.take_id, id), Open(loaded, base.program.on(take)))
        number = self.store.revision(base.loaded.take_id, id)[0].number
        return s.Applied(
            revision=id,
            number=number,
            label=label,
            sentence=proof.sentence if proof else label,
            proof=proof,
        )

    def mark(self, take_id: int, asked: s.Marked, key: str | None = None) -> s.Applied:
        """Marks a finding as wanted, or as open again, as a revision of its own."""
        if (written := self._written(take_id, key)) is not None:
            return written
        base = self.open(take_id, asked.revision)
        found = {f.key: f for f in self._all_findings(base)}
        if asked.finding not in found:
            raise CoreError("This finding is not there any more: something has changed since it was listed.")
        take = base.loaded.take
        marked = [k for k in take.wanted if k != asked.finding] + ([asked.finding] if asked.wanted else [])
        label = f"{'Wanted' if asked.wanted else 'Open again'}: {found[asked.finding].sentence}"[:200]
        body = {"operation": "mark", **asked.model_dump(mode="json")}
        return self._commit(base, replace(take, wanted=tuple(marked)), label, body, None, key)

    # --- clips ----------------------------------------------------------------------------------------

    def copy(self, take_id: int, asked: s.CopyAsked) -> s.ClipInfo:
        """Keeps a pose or a range of some parts."""
        # What is seen is copied, layers and all.
        program = self.open(take_id, asked.revision).program.merged
        clip = clips.copy(program, asked.member, asked.parts, asked.first, asked.last, asked.name)
        return clip_info(self.store.keep_clip(clip), clip)

    # --- what the bench shows -------------------------------------------------------------------------

    def findings(self, open_: Open) -> list[Finding]:
        """Open findings."""
        return [f for f in self._all_findings(open_) if f.key not in open_.loaded.take.wanted]

    def _all_findings(self, open_: Open) -> list[Finding]:
        return self._findings.made(open_.loaded.revision, lambda: self._find(open_))

    def _find(self, open_: Open) -> list[Finding]:
        """All findings; parts whose curves are those of the revision looked at last are not read again."""
        memory = self._memories.made(open_.loaded.take_id, Memory)
        return find_all(open_.program, wanted=True, memory=memory)

    def compare(self, take_id: int, a: int, b: int, other: int | None) -> s.Compared:
        """Two revisions of a take, or one of it and one of another take of the same scene."""
        one, two = self.open(take_id, a), self.open(take_id if other is None else other, b)
        if one.loaded.scene_id != two.loaded.scene_id:
            raise CoreError("Two takes can be compared where they play in one scene.")
        return compared(one.program, two.program, len(self.findings(one)), len(self.findings(two)))

    def entry(self, take_id: int, head: int) -> s.TakeEntry:
        """What Home tells of a take; remembered by its head, so that long captures are not opened each time."""
        return self._entries.made(head, lambda: self._entry(take_id))

    def _entry(self, take_id: int) -> s.TakeEntry:
        open_ = self.open(take_id)
        take = open_.loaded.take
        return s.TakeEntry(
            id=take_id, name=take.name, first=take.first, last=take.last, rate=float(take.rate),
            revisions=self.store.revision_count(take_id),
            keys=key_count(take), contacts=len(take.contacts),
            captured=bool(take.captures), findings=[f.sentence for f in self.findings(open_)],
        )  # fmt: skip

    def take_info(self, take_id: int, revision: int | None) -> s.TakeInfo:
        open_ = self.open(take_id, revision)
        loaded = open_.loaded
        row, redo = self.store.revision(take_id, loaded.revision)
        found = self.findings(open_)
        info = take_info(open_.program, take_id, loaded.scene_id, found)
        info.revision, info.number, info.parent = loaded.revision, row.number, row.parent
        info.can_undo, info.can_redo = row.parent is not None, redo is not None
        info.wanted = [finding_info(f, True) for f in self._all_findings(open_) if f.key in loaded.take.wanted]
        info.proof, info.label, info.revision_name = proof_from(row.proof), row.label, row.name
        return info

    def revisions(self, take_id: int) -> list[s.RevisionInfo]:
        head = self.store.head(take_id)
        rows = [r for r, _ in self.store.revisions(take_id)]
        parents = {r.id: r.parent for r in rows}
        path: set[int] = set()
        at: int | None = head
        while at is not None:
            path.add(at)
            at = parents.get(at)
        return [
            s.RevisionInfo(
                id=r.id, number=r.number, parent=r.parent, label=r.label, name=r.name, created=r.created,
                proof=proof_from(r.proof), on_path=r.id in path,
            )
            for r in rows
        ]  # fmt: skip


def take_info(program: Program, take_id: int, scene_id: int, found: Sequence[Finding] = ()) -> s.TakeInfo:
    """What the page draws a take by, but for what its revision says."""
    take, scene = program.take, program.rig.given
    return s.TakeInfo(
        id=take_id, scene_id=scene_id, scene=scene.name, name=take.name, rate=float(take.rate),
        rate_fraction=(take.rate.numerator, take.rate.denominator), first=take.first, last=take.last,
        revision=0, number=0, can_undo=False, can_redo=False,
        members=[member_info(program, m) for m in scene.members], joints=program.joints()[0],
        handles=handles(program), rows=table_rows(program), sizes=size_rows(program),
        groups=row_groups(program)[0], strands=strands(program, list(found)), findings=[finding_info(f) for f in found],
        wanted=[], proof=None, label="", revision_name=None, parent=None, layers=layer_infos(program),
    )  # fmt: skip
