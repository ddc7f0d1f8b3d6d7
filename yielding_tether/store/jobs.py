"""Jobs: work that takes longer than an answer may, done by worker processes.

A job is a row that says what is asked for, how far it is and what came of it; files that come in or go out lie beside it in
pieces. Workers take jobs from a queue on the same database (procrastinate). While a worker is at a job it holds a lock named after
it, so that a job whose worker is lost, by whatever means, is known as lost by anyone who asks.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any, Literal

from procrastinate import App, PsycopgConnector
from sqlalchemy import Connection, Engine, text

from .store import Missing

#: `coming`: its file is on its way.
State = Literal["coming", "waiting", "running", "done", "failed", "cancelled"]
Side = Literal["in", "out"]

#: Most jobs that wait or run at once.
MOST = 8
#: Seconds after which a job and its files are forgotten, and one whose file has not come counts no more.
KEPT, COMING = 3600, 120
#: Bytes of a piece of a file.
PIECE = 4_000_000
#: Name of the one task of the queue, and the first number of the locks that workers hold.
TASK, _LOCKS = "work", 7301
LOST = {"message": "The worker at this was lost, so nothing came of it: ask for it again.", "status": 503}


class TooMany(RuntimeError):
    """More waits already than is taken on."""


@dataclass(frozen=True)
class Job:
    """What is known of a job. `done`: the share behind; `doing`: what is at work. Of `result` and `problem` (a message, and the
    `status` that an answer has) there is one once it is ended and not cancelled."""

    id: int
    kind: str
    arguments: dict[str, Any]
    state: State
    done: float
    doing: str
    result: dict[str, Any] | None
    problem: dict[str, Any] | None

    @property
    def ended(self) -> bool:
        return self.state in ("done", "failed", "cancelled")


_COLUMNS = "id, kind, arguments, state, done, doing, result, problem"


def queue_app(url: str) -> App:
    """The queue on a database, for its workers."""
    return App(connector=PsycopgConnector(conninfo=url.replace("+psycopg", "", 1), min_size=1, max_size=4))


class Jobs:
    """Access to the jobs of a database; `begun` is told of each that is begun."""

    def __init__(self, engine: Engine, begun: Callable[[], None] = lambda: None) -> None:
        self.engine, self._begun = engine, begun
        # Jobs are queued on our own connection, within our own transaction: this one is never opened.
        self._queue = App(connector=PsycopgConnector())

    # --- for those who ask ----------------------------------------------------------------------------

    def begin(self, kind: str, arguments: dict[str, Any]) -> int:
        """A new job, not queued yet; TooMany where enough wait. Forgets jobs of long ago."""
        with self.engine.begin() as c:
            # One after the other, so that nobody slips past the bound.
            c.execute(text("select pg_advisory_xact_lock(:ns)"), {"ns": _LOCKS})
            self._notice_lost(c)
            c.execute(
                text("delete from job where created < now() - make_interval(secs => :kept) and state != 'running'"),
                {"kept": KEPT},
            )
            there = c.execute(
                text(
                    "select count(*) from job where state in ('waiting', 'running') "
                    "or state = 'coming' and created > now() - make_interval(secs => :coming)"
                ),
                {"coming": COMING},
            ).scalar_one()
            if there >= MOST:
                raise TooMany
            made = c.execute(
                text("insert into job (kind, arguments) values (:kind, cast(:arguments as jsonb)) returning id"),
                {"kind": kind, "arguments": _json(arguments)},
            )
            id = int(made.scalar_one())
        self._begun()
        return id

    def any_waiting(self) -> bool:
        """Whether a job waits for a worker."""
        with self.engine.begin() as c:
            return bool(c.execute(text("select exists (select from job where state = 'waiting')")).scalar_one())

    def put(self, id: int, side: Side, number: int, data: bytes) -> None:
        """A piece of a job's file."""
        with self.engine.begin() as c:
            c.execute(
                text("insert into job_piece values (:id, :side, :number, :data)"),
                {"id": id, "side": side, "number": number, "data": data},
            )

    def queue(self, id: int) -> None:
        """Gives a job to the workers."""
        with self.engine.begin() as c:
            c.execute(text("update job set state = 'waiting' where id = :id and state = 'coming'"), {"id": id})
            own = c.connection.driver_connection
            self._queue.configure_task(TASK, connection=own).defer(job=id)

    def get(self, id: int) -> Job:
        """A job as it stands. Missing if there is none (any more)."""
        with self.engine.begin() as c:
            self._notice_lost(c)
            row = c.execute(text(f"select {_COLUMNS} from job where id = :id"), {"id": id}).one_or_none()
        if row is None:
            raise Missing(f"There is no job {id}: jobs are kept for an hour.")
        return Job(*row)

    @staticmethod
    def _notice_lost(c: Connection) -> None:
        """A job that runs and whose lock is free has lost its worker."""
        c.execute(
            text(
                "update job set state = 'failed', problem = cast(:lost as jsonb) "
                "where state = 'running' and pg_try_advisory_xact_lock(:ns, id)"
            ),
            {"lost": _json(LOST), "ns": _LOCKS},
        )

    def cancel(self, id: int) -> None:
        """A job that waits is cancelled at once; the worker at one that runs leaves it at its next step."""
        with self.engine.begin() as c:
            c.execute(
                text(
                    "update job set unwanted = true, state = case state when 'running' then state else 'cancelled' end "
                    "where id = :id and state in ('coming', 'waiting', 'running')"
                ),
                {"id": id},
            )

    def pieces(self, id: int, side: Side) -> Iterator[bytes]:
        """A job's file, piece by piece."""
        number = 0
        while True:
            with self.engine.begin() as c:
                data = c.execute(
                    text("select data from job_piece where job_id = :id and side = :side and number = :number"),
                    {"id": id, "side": side, "number": number},
                ).scalar_one_or_none()
            if data is None:
                return
            yield bytes(data)
            number += 1

    # --- for workers ----------------------------------------------------------------------------------

    @contextmanager
    def working(self, id: int) -> Iterator[Job | None]:
        """Takes a job on, and its lock as long as this lasts; None if it is not wanted or not there any more."""
        with self.engine.connect().execution_options(isolation_level="AUTOCOMMIT") as c:
            c.execute(text("select pg_advisory_lock(:ns, :id)"), {"ns": _LOCKS, "id": id})
            try:
                row = c.execute(
                    text(f"update job set state = 'running' where id = :id and state = 'waiting' returning {_COLUMNS}"),
                    {"id": id},
                ).one_or_none()
                yield None if row is None else Job(*row)
            finally:
                self._unlock(c, id)

    @staticmethod
    def _unlock(c: Connection, id: int) -> None:
        if not c.invalidated:
            c.execute(text("select pg_advisory_unlock(:ns, :id)"), {"ns": _LOCKS, "id": id})

    def tell(self, id: int, done: float, doing: str) -> bool:
        """Says how far a job is; returns whether it is still wanted."""
        with self.engine.begin() as c:
            found = c.execute(
                text("update job set done = :done, doing = :doing where id = :id returning not unwanted"),
                {"id": id, "done": done, "doing": doing},
            ).scalar_one_or_none()
        return bool(found)

    def end(
        self, id: int, state: State, result: dict[str, Any] | None = None, problem: dict[str, Any] | None = None
    ) -> None:
        """What came of a job; of one that failed or was cancelled no file is left."""
        with self.engine.begin() as c:
            c.execute(
                text(
                    "update job set state = :state, done = case :state when 'done' then 1 else done end, "
                    "result = cast(:result as jsonb), problem = cast(:problem as jsonb) where id = :id and state = 'running'"
                ),
                {"id": id, "state": state, "result": _json(result), "problem": _json(problem)},
            )
            gone = "" if state != "done" else " and side = 'in'"
            c.execute(text(f"delete from job_piece where job_id = :id{gone}"), {"id": id})


class Pieces:
    """Cuts a file that comes in blocks into numbered pieces of even size; `size` is what has come, in bytes."""

    def __init__(self) -> None:
        self.size = 0
        self._held = bytearray()
        self._number = 0

    def add(self, block: bytes) -> list[tuple[int, bytes]]:
        """The pieces that are whole with this block."""
        self._held += block
        self.size += len(block)
        return [self._cut() for _ in range(len(self._held) // PIECE)]

    def rest(self) -> list[tuple[int, bytes]]:
        """What is left at the end: a file has one piece at least."""
        return [self._cut()] if self._held or not self._number else []

    def _cut(self) -> tuple[int, bytes]:
        piece = self._number, bytes(self._held[:PIECE])
        del self._held[:PIECE]
        self._number += 1
        return piece


def _json(value: dict[str, Any] | None) -> str | None:
    return None if value is None else json.dumps(value)
