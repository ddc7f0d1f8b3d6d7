"""Connections that do not wait for ever: a server that is hung (stopped, or on a disk that is) keeps its sockets open and says
nothing, which no time-out of its own can end."""

from __future__ import annotations

from typing import Any

import psycopg
from psycopg import errors
from sqlalchemy import Engine, create_engine, event

#: Seconds that a server may take to answer whether it is there, to let somebody in, and to do a statement: those that it keeps by
#: itself, and a little more.
PING, CONNECT, STATEMENT, HUNG = 2.0, 4, 30, 33.0
#: What no statement may take longer than, nor waiting for another writer.
LIMITS = (
    f"-c statement_timeout={STATEMENT}s -c lock_timeout=15s -c idle_in_transaction_session_timeout=120s"
)  # fmt: skip


class Hung(psycopg.OperationalError):
    """The server did not answer in time."""


class Connection(psycopg.Connection[Any]):
    """One that gives up after `limit` seconds without an answer, and is closed then."""

    limit = HUNG

    def wait(self, gen: Any, interval: float = 0.1, timeout: float | None = None) -> Any:
        try:
            return super().wait(gen, interval, self.limit if timeout is None else timeout)
        except errors._WaitTimeout:
            self.pgconn.finish()
            raise Hung("the server does not answer") from None


def engine_on(url: str) -> Engine:
    """A pool of such connections."""
    # Asking before each use lets the program go on when the database comes back.
    engine = create_engine(
        url, pool_pre_ping=True, pool_size=8, max_overflow=8, pool_timeout=10.0,
        connect_args={"connect_timeout": CONNECT, "options": LIMITS},
    )  # fmt: skip
    event.listen(engine, "do_connect", lambda dialect, record, args, named: Connection.connect(*args, **named))
    ping = engine.dialect.do_ping

    def ask(connection: Any) -> bool:
        connection.limit = PING
        try:
            return ping(connection)
        finally:
            connection.limit = HUNG

    engine.dialect.do_ping = ask  # type: ignore[method-assign]
    return engine
