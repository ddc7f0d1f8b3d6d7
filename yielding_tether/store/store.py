"""Scenes, takes and revisions in PostgreSQL.

One operation is one transaction is one revision. A writer names the revision it started from; when the head has
moved on, Stale says what changed and nothing is written.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from fractions import Fraction
from itertools import takewhile
from pathlib import Path
from types import MappingProxyType
from typing import Any, NamedTuple
from weakref import WeakValueDictionary

import psycopg
from sqlalchemy import func, update
from sqlalchemy import select as sa_select
from sqlalchemy import text as sa_text
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Session, col, select

from ..core.cast import Member
from ..core.clips import Clip
from ..core.curves import Curve
from ..core.proof import Proof
from ..core.takes import Capture, Scene, Take
from . import codec
from .connection import engine_on
from .tables import BlobRow, CaptureRow, ClipRow, MemberRow, RevisionRow, SceneRow, TakeRow

#: Most labels of what has changed that a stale writer is told.
TOLD = 20


class Missing(LookupError):
    """What was asked for is not there."""


class Stale(RuntimeError):
    """The take has moved on since the revision a writer started from."""

    def __init__(self, head: int, labels: list[str]) -> None:
        self.head = head
        self.labels = labels
        done = "; ".join(labels) or "an undo or redo"
        super().__init__(f"This take has changed since you opened it: {done}. Go on from the newer state.")


class Changed(RuntimeError):
    """What was to be changed is no longer as it was."""


@dataclass(frozen=True)
class Revision:
    """A revision without its curves."""

    id: int
    number: int
    parent: int | None
    label: str
    name: str | None
    created: str
    proof: dict[str, Any] | None
    operation: dict[str, Any]


class Made(NamedTuple):
    """What one revision says: its take, its line, what was asked for, its proof."""

    take: Take
    label: str
    operation: dict[str, Any]
    proof: Proof | None


@dataclass(frozen=True)
class Loaded:
    """A take at one revision, with the scene it plays in."""

    take_id: int
    scene_id: int
    revision: int
    scene: Scene
    take: Take


class Store:
    """All access to the database."""

    def __init__(self, url: str) -> None:
        self.url = url
        self.engine = engine_on(url)
        # Both never change, and are known by their content: what a program uses still is not read anew.
        self._curves: WeakValueDictionary[str, Curve] = WeakValueDictionary()
        self._captures: WeakValueDictionary[tuple[str, float, float], Capture] = WeakValueDictionary()

    def migrate(self) -> None:
        """Brings the tables to the newest form."""
        steps = Path(__file__).parent / "migrations"
        newest = max(p.name.partition("_")[0] for p in (steps / "versions").glob("[0-9]*.py"))
        with self.engine.connect() as connection:
            known = connection.exec_driver_sql("select to_regclass('alembic_version')").scalar()
            if known and connection.exec_driver_sql("select version_num from alembic_version").scalar() == newest:
                return
        # A fifth of a second to import, which most starts need not.
        from alembic import command
        from alembic.config import Config

        config = Config()
        config.set_main_option("script_location", str(steps))
        config.set_main_option("sqlalchemy.url", self.url.replace("%", "%%"))
        command.upgrade(config, "head")

    def close(self) -> None:
        self.engine.dispose()

    @contextmanager
    def _session(self) -> Iterator[Session]:
        with Session(self.engine, expire_on_commit=False) as session, session.begin():
            yield session

    @contextmanager
    def _reading(self) -> Iterator[Session]:
        """A session that sees everything as it stands at its first question, whoever writes or takes away meanwhile."""
        engine = self.engine.execution_options(isolation_level="REPEATABLE READ")
        with Session(engine, expire_on_commit=False) as session, session.begin():
            yield session

    def ping(self) -> None:
        """Raises if the database does not answer."""
        with self._session() as s:
            s.connection().exec_driver_sql("select 1")

    # --- scenes ---------------------------------------------------------------------------------------

    def add_scene(self, scene: Scene, takes: Iterable[Take]) -> tuple[int, list[int]]:
        """Stores a scene with its takes; all or nothing. Returns its id and those of the takes."""
        return self.add_scenes([(scene, list(takes))])[0]

    def add_scenes(self, scenes: Iterable[tuple[Scene, Iterable[Take]]]) -> list[tuple[int, list[int]]]:
        """Stores scenes with their takes; all or nothing."""
        found = []
        with self._session() as s:
            for scene, takes in scenes:
                row = SceneRow(name=scene.name)
                s.add(row)
                s.flush()
                assert row.id is not None
                for place, member in enumerate(scene.members):
                    s.add(MemberRow(scene_id=row.id, key=member.id, place=place, body=codec.member_json(member)))
                found.append((row.id, [self._add_take(s, row.id, take) for take in takes]))
        return found

    def scenes(self) -> list[dict[str, Any]]:
        """Scenes with their cast and takes, newest first."""
        with self._reading() as s:
            rows = s.exec(select(SceneRow).order_by(col(SceneRow.id).desc())).all()
            members: dict[int, list[Any]] = defaultdict(list)
            for scene, *member in s.exec(
                select(  # type: ignore[call-overload]
                    MemberRow.scene_id,
                    MemberRow.key,
                    MemberRow.body["name"].astext,
                    MemberRow.body["kind"].astext,  # type: ignore[index]
                ).order_by(col(MemberRow.place))
            ).all():
                members[scene].append(tuple(member))
            takes: dict[int, list[TakeRow]] = defaultdict(list)
            for take in s.exec(select(TakeRow).order_by(col(TakeRow.id))).all():
                takes[take.scene_id].append(take)
            return [{"row": r, "members": members[r.id or 0], "takes": takes[r.id or 0]} for r in rows]

    def delete_scene(self, scene_id: int) -> None:
        """Removes a scene with its takes and all their revisions."""
        with self._session() as s:
            row = s.get(SceneRow, scene_id)
            if row is None:
                raise Missing(f"There is no scene {scene_id}.")
            takes = [t.id for t in s.exec(select(TakeRow).where(TakeRow.scene_id == scene_id))]
            s.execute(update(TakeRow).where(col(TakeRow.scene_id) == scene_id).values(head_id=None))
            s.execute(update(RevisionRow).where(col(RevisionRow.take_id).in_(takes)).values(parent_id=None))
            s.flush()
            s.delete(row)

    def collect(self) -> tuple[int, int]:
        """Removes blobs that no revision and no capture refers to any more; returns how many, and their bytes.

        Writers wait meanwhile, and those who have begun are waited for: so none can count on a blob that is on its way out.
        """
        with self._session() as s:
            s.connection().execute(sa_text("lock table blob in share row exclusive mode"))
            gone = s.connection().execute(
                sa_text(
                    "with used as (select blob as hash from capture union "
                    "select value from revision, jsonb_each_text(curves) union "
                    "select x.value->>'blob' from revision, jsonb_array_elements(captures) x union "
                    "select x.value->>'weight' from revision, jsonb_array_elements(layers) x union "
                    "select y.value from revision, jsonb_array_elements(layers) x, jsonb_each_text(x.value->'curves') y), "
                    "gone as (delete from blob where not exists (select 1 from used where used.hash = blob.hash) "
                    "returning octet_length(data) as size) select count(*), coalesce(sum(size), 0) from gone"
                )
            )
            count, size = gone.one()
            return int(count), int(size)

    # --- takes ----------------------------------------------------------------------------------------

    def add_take(self, scene_id: int, take: Take) -> int:
        """Adds a take to a scene that is there; returns its id. Missing if the scene is not."""
        with self._session() as s:
            if s.get(SceneRow, scene_id) is None:
                raise Missing(f"There is no scene {scene_id}.")
            return self._add_take(s, scene_id, take)

    def scene(self, scene_id: int) -> Scene:
        """A scene with its cast. Missing if it is not there."""
        with self._reading() as s:
            row = s.get(SceneRow, scene_id)
            if row is None:
                raise Missing(f"There is no scene {scene_id}.")
            rows = s.exec(select(MemberRow).where(MemberRow.scene_id == scene_id).order_by(col(MemberRow.place))).all()
            return Scene(row.name, tuple(self._member(r) for r in rows))

    def takes_of(self, scene_id: int) -> list[tuple[int, int]]:
        """The takes of a scene, each with the count of its revisions."""
        with self._reading() as s:
            counted = select(TakeRow.id, func.count()).join(RevisionRow, col(RevisionRow.take_id) == TakeRow.id)
            found = s.exec(
                counted.where(TakeRow.scene_id == scene_id).group_by(col(TakeRow.id)).order_by(col(TakeRow.id))
            )
            return [(id, count) for id, count in found.all() if id is not None]

    def refit(
        self, scene_id: int, before: Member, after: Member, anew: Mapping[int, Take] = MappingProxyType({})
    ) -> None:
        """Gives a scene's member another body; takes of it that are given begin anew, in place of their only revision. Changed if
        the body is no longer the one before, or such a take has more revisions by now."""
        with self._session() as s:
            query = select(MemberRow).where(MemberRow.scene_id == scene_id, MemberRow.key == before.id)
            row = s.exec(query.with_for_update()).one_or_none()
            if row is None:
                raise Missing(f"There is no {before.name} in scene {scene_id}.")
            if self._member(row) != before:
                raise Changed(f"{before.name} was fitted anew meanwhile: open it again.")
            row.body = codec.member_json(after)
            s.add(row)
            for take_id, take in anew.items():
                own = s.exec(select(TakeRow).where(TakeRow.id == take_id).with_for_update()).one()
                old = s.exec(select(RevisionRow).where(RevisionRow.take_id == take_id)).all()
                if len(old) != 1:
                    raise Changed(f"{own.name} was worked on meanwhile: open {before.name} again.")
                own.head_id = None
                s.flush()
                s.delete(old[0])
                s.flush()
                made = self._add_revision(s, take_id, None, 0, take, "As opened", {"operation": "open"}, None)
                own.head_id = made.id
                s.add(own)

    def _add_take(self, s: Session, scene_id: int, take: Take) -> int:
        row = TakeRow(
            scene_id=scene_id, name=take.name, rate_numerator=take.rate.numerator,
            rate_denominator=take.rate.denominator, first=take.first, last=take.last,
        )  # fmt: skip
        s.add(row)
        s.flush()
        assert row.id is not None
        blobs: dict[str, bytes] = {}
        own = codec.captures_json(take.captures, lambda c: self._kept(codec.capture_bytes(c), blobs))
        self._add_blobs(s, blobs)
        for stored in own:
            s.add(CaptureRow(take_id=row.id, **stored))
        s.flush()
        captured = {id(take.captures[x["member"]]): x["blob"] for x in own}
        revision = self._add_revision(
            s, row.id, None, 0, take, "As opened", {"operation": "open"}, None, captured=captured
        )
        row.head_id = revision.id
        s.add(row)
        return row.id

    def _add_blobs(self, s: Session, blobs: Mapping[str, bytes]) -> None:
        if blobs:
            rows = [{"hash": h, "data": d} for h, d in blobs.items()]
            s.execute(insert(BlobRow).on_conflict_do_nothing(), rows)

    def _add_revision(
        self, s: Session, take_id: int, parent: int | None, number: int, take: Take, label: str,
        operation: dict[str, Any], proof: Proof | None, known: Mapping[str, tuple[Curve, str]] | None = None,
        key: str | None = None, captured: Mapping[int, str] | None = None,
    ) -> RevisionRow:  # fmt: skip
        names = {**(captured or {}), **{id(c): name for c, name in (known or {}).values()}}
        blobs: dict[str, bytes] = {}
        body = codec.take_json(
            take,
            lambda c: names.get(id(c)) or self._kept(codec.curve_bytes(c), blobs),
            lambda c: names.get(id(c)) or self._kept(codec.capture_bytes(c), blobs),
        )
        row = self._take(s, take_id)
        own = {"frames": [row.first, row.last], "captures": self._own_captures(s, take_id)}
        body |= {name: None for name, its in own.items() if body[name] == its}
        self._add_blobs(s, blobs)
        made = RevisionRow(
            take_id=take_id, parent_id=parent, number=number, label=label, operation=operation,
            proof=codec.proof_json(proof) if proof else None, key=key, **body,
        )  # fmt: skip
        s.add(made)
        s.flush()
        return made

    @staticmethod
    def _own_captures(s: Session, take_id: int) -> list[dict[str, Any]]:
        """The captures of a take as it was opened, as revisions name theirs."""
        rows = s.exec(select(CaptureRow).where(CaptureRow.take_id == take_id).order_by(col(CaptureRow.member))).all()
        return [row.model_dump(exclude={"id", "take_id"}) for row in rows]

    def _capture(self, s: Session, stored: Mapping[str, Any]) -> Capture:
        """A capture that is stored so."""
        key = stored["blob"], stored["first"], stored["step"]
        known = self._captures.get(key)
        if known is None:
            known = self._captures[key] = codec.capture_from(self._blobs(s, [key[0]])[key[0]], stored)
        return known

    @staticmethod
    def _kept(data: bytes, blobs: dict[str, bytes]) -> str:
        """The name of bytes, which are put among those to store."""
        blobs[name := codec.digest(data)] = data
        return name

    def load(self, take_id: int, revision: int | None = None) -> Loaded:
        """A take at a revision, by default its head."""
        with self._reading() as s:
            row = self._take(s, take_id)
            rev = s.get(RevisionRow, revision if revision is not None else row.head_id)
            if rev is None or rev.take_id != take_id or rev.id is None:
                raise Missing(f"Take {take_id} has no revision {revision}.")
            members = s.exec(
                select(MemberRow).where(MemberRow.scene_id == row.scene_id).order_by(col(MemberRow.place))
            ).all()
            scene_row = s.get(SceneRow, row.scene_id)
            assert scene_row is not None
            body = {name: getattr(rev, name) for name in codec.FIELDS}
            if body["captures"] is None:
                body["captures"] = self._own_captures(s, take_id)
            wanted = codec.curves_named(body)
            blobs = {h: kept for h in wanted if (kept := self._curves.get(h)) is not None}
            missing = wanted - blobs.keys()
            for hash, data in self._blobs(s, list(missing)).items() if missing else ():
                blobs[hash] = self._curves[hash] = codec.curve_from(data)
            rate = Fraction(row.rate_numerator, row.rate_denominator)
            take = codec.take_from(
                Take(row.name, rate, row.first, row.last), body, blobs, lambda c: self._capture(s, c)
            )
            scene = Scene(scene_row.name, tuple(self._member(m) for m in members))
            return Loaded(take_id, row.scene_id, rev.id, scene, take)

    @staticmethod
    def _blobs(s: Session, hashes: list[str]) -> dict[str, bytes]:
        """Bytes by their hash; asked for as they are, for as text they would take three times the room."""
        own = s.connection().connection.driver_connection
        assert isinstance(own, psycopg.Connection)
        with own.cursor(binary=True) as cursor:
            return dict(cursor.execute("select hash, data from blob where hash = any(%s)", [hashes]).fetchall())

    @staticmethod
    def _member(row: MemberRow) -> Member:
        return codec.member_from(row.body)

    @staticmethod
    def _take(s: Session, take_id: int) -> TakeRow:
        row = s.get(TakeRow, take_id)
        if row is None:
            raise Missing(f"There is no take {take_id}.")
        return row

    # --- revisions ------------------------------------------------------------------------------------

    def commit(
        self,
        base: Loaded,
        take: Take,
        label: str,
        operation: dict[str, Any],
        proof: Proof | None,
        key: str | None = None,
        steps: Sequence[Made] = (),
    ) -> int:
        """A new revision on top of `base`; Stale if the head is no longer there. One that was written under this `key` is the
        answer again. Where it was made in `steps`, these are what is written, each on top of the one before: the last of them has
        its take, and is the answer."""
        with self._session() as s:
            # Writers of one take wait for one another here, so that each number is given once.
            row = s.exec(select(TakeRow).where(TakeRow.id == base.take_id).with_for_update()).one_or_none()
            if row is None:
                raise Missing(f"There is no take {base.take_id}.")
            written = self._written(s, base.take_id, key)
            if written is not None:
                return written
            if row.head_id != base.revision:
                assert row.head_id is not None
                raise Stale(row.head_id, self._labels_between(s, base.revision, row.head_id))
            parent = s.get(RevisionRow, base.revision)
            assert parent is not None
            number = s.exec(select(func.max(RevisionRow.number)).where(RevisionRow.take_id == base.take_id)).one() or 0
            before = base.take
            for made in steps or (Made(take, label, operation, proof),):
                assert parent.id is not None
                number += 1
                known = {c: (before.curves[c], h) for c, h in parent.curves.items() if c in before.curves}
                stored = parent.captures or self._own_captures(s, base.take_id)
                captured = {id(before.captures[x["member"]]): x["blob"] for x in stored}
                last = not steps or made is steps[-1]
                new = self._add_revision(
                    s, base.take_id, parent.id, number, made.take, made.label, made.operation, made.proof, known,
                    key if last else None, captured,
                )  # fmt: skip
                parent.redo_id = new.id
                s.add(parent)
                parent, before = new, made.take
            assert parent.id is not None
            row.head_id = parent.id
            s.add(row)
            return parent.id

    def written(self, take_id: int, key: str | None) -> int | None:
        """The revision of a take that was written under a key."""
        with self._session() as s:
            return self._written(s, take_id, key)

    @staticmethod
    def _written(s: Session, take_id: int, key: str | None) -> int | None:
        if key is None:
            return None
        return s.exec(
            select(RevisionRow.id).where(RevisionRow.take_id == take_id, RevisionRow.key == key)
        ).one_or_none()

    def _swap(self, s: Session, take_id: int, expected: int, to: int) -> None:
        """Moves the head by compare-and-swap."""
        done = s.execute(
            update(TakeRow)
            .where(col(TakeRow.id) == take_id, col(TakeRow.head_id) == expected)
            .values(head_id=to)
            .execution_options(synchronize_session=False)
        )
        if done.rowcount != 1:  # type: ignore[attr-defined]
            head = s.exec(select(TakeRow.head_id).where(TakeRow.id == take_id)).one_or_none()
            if head is None:
                raise Missing(f"There is no take {take_id}.")
            raise Stale(head, self._labels_between(s, expected, head))

    def _labels_between(self, s: Session, base: int, head: int) -> list[str]:
        """What has happened since `base`, to where the head is now: what was undone, then what was done, by their labels."""
        back, forth = self._upward(s, base), self._upward(s, head)
        common = {id for id, _ in forth}
        undone = list(takewhile(lambda row: row[0] not in common, back))
        reached = {id for id, _ in back}
        done = list(takewhile(lambda row: row[0] not in reached, forth))
        labels = [f"Undo {label}" for _, label in undone] + [label for _, label in reversed(done)]
        return labels if len(labels) <= TOLD else [*labels[:TOLD], f"and {len(labels) - TOLD} more"]

    @staticmethod
    def _upward(s: Session, id: int) -> list[tuple[int, str]]:
        """Id and label of a revision and of all those before it, the nearest first."""
        rows = s.connection().execute(
            sa_text(
                "with recursive up as (select id, parent_id, label, 0 as n from revision where id = :id union all "
                "select r.id, r.parent_id, r.label, n + 1 from revision r join up on r.id = up.parent_id) "
                "select id, label from up order by n"
            ),
            {"id": id},
        )
        return [(int(r[0]), str(r[1])) for r in rows]

    def step(self, take_id: int, base: int, direction: int) -> int:
        """Undo (-1) or redo (+1) from revision `base`; returns the new head. Missing if there is nowhere to go."""
        with self._session() as s:
            row = s.get(RevisionRow, base)
            if row is None or row.take_id != take_id:
                raise Missing(f"Take {take_id} has no revision {base}.")
            to = row.parent_id if direction < 0 else row.redo_id
            if to is None:
                raise Missing("There is nothing to undo." if direction < 0 else "There is nothing to redo.")
            self._swap(s, take_id, base, to)
            if direction < 0:
                parent = s.get(RevisionRow, to)
                assert parent is not None
                parent.redo_id = base
                s.add(parent)
            return to

    def go_to(self, take_id: int, base: int, to: int) -> int:
        """Moves the head to any revision of the take; redo then leads along the way taken."""
        with self._session() as s:
            target = s.get(RevisionRow, to)
            if target is None or target.take_id != take_id:
                raise Missing(f"Take {take_id} has no revision {to}.")
            self._swap(s, take_id, base, to)
            # One statement however long the way.
            s.connection().execute(
                sa_text(
                    "with recursive up as (select parent_id as id, id as child from revision where id = :id union all "
                    "select r.parent_id, r.id from revision r join up on r.id = up.id) "
                    "update revision set redo_id = up.child from up where revision.id = up.id"
                ),
                {"id": to},
            )
            return to

    # --- clips ----------------------------------------------------------------------------------------

    def keep_clip(self, clip: Clip) -> int:
        """Stores a clip; returns its id."""
        with self._session() as s:
            row = ClipRow(name=clip.name, body=codec.clip_json(clip))
            s.add(row)
            s.flush()
            assert row.id is not None
            return row.id

    def clips(self) -> list[tuple[int, Clip]]:
        """All kept clips, newest first."""
        with self._reading() as s:
            rows = s.exec(select(ClipRow).order_by(col(ClipRow.id).desc())).all()
            return [(row.id or 0, codec.clip_from({**row.body, "name": row.name})) for row in rows]

    def clip(self, id: int) -> Clip:
        """A kept clip; Missing if there is none."""
        with self._session() as s:
            row = s.get(ClipRow, id)
            if row is None:
                raise Missing(f"There is no clip {id}: it may have been removed in another window.")
            return codec.clip_from({**row.body, "name": row.name})

    def rename_clip(self, id: int, name: str) -> None:
        with self._session() as s:
            row = s.get(ClipRow, id)
            if row is None:
                raise Missing(f"There is no clip {id}.")
            row.name = name
            s.add(row)

    def remove_clip(self, id: int) -> None:
        with self._session() as s:
            row = s.get(ClipRow, id)
            if row is None:
                raise Missing(f"There is no clip {id}.")
            s.delete(row)

    # --- names ----------------------------------------------------------------------------------------

    def name_revision(self, take_id: int, revision: int, name: str | None) -> None:
        with self._session() as s:
            row = s.get(RevisionRow, revision)
            if row is None or row.take_id != take_id:
                raise Missing(f"Take {take_id} has no revision {revision}.")
            row.name = name
            s.add(row)

    def head(self, take_id: int) -> int:
        with self._session() as s:
            head = self._take(s, take_id).head_id
            assert head is not None
            return head

    def revision(self, take_id: int, id: int) -> tuple[Revision, int | None]:
        """One revision of a take, with the child that redo goes to. Missing if it is not there (any more)."""
        found = self.revisions(take_id, id)
        if not found:
            raise Missing(f"Take {take_id} has no revision {id}.")
        return found[0]

    def revisions(self, take_id: int, only: int | None = None) -> list[tuple[Revision, int | None]]:
        """All revisions of a take in order of their numbers, or only one of them, each with the child that redo goes
        to. Their curves stay where they are."""
        r = RevisionRow
        columns = (r.id, r.number, r.parent_id, r.label, r.name, r.created, r.proof, r.operation, r.redo_id)
        with self._reading() as s:
            self._take(s, take_id)
            asked = s.execute(
                sa_select(*columns)  # type: ignore[arg-type]
                .where(col(r.take_id) == take_id, *([col(r.id) == only] if only is not None else []))
                .order_by(col(r.number))
            )
            return [
                (Revision(id, number, parent, label, name, created.isoformat(), proof, operation), redo)
                for id, number, parent, label, name, created, proof, operation, redo in asked
            ]

    def revision_count(self, take_id: int) -> int:
        with self._session() as s:
            return s.exec(select(func.count()).where(col(RevisionRow.take_id) == take_id)).one()
