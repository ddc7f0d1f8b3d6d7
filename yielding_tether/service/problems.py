"""What is told of an error, to those who ask over HTTP and of jobs alike: a status and a problem in words."""

from __future__ import annotations

from typing import Literal

from psycopg import errors
from sqlalchemy.exc import DataError, InterfaceError, OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeout

from ..core.errors import CoreError
from ..formats import FormatError
from ..store.connection import Hung
from ..store.jobs import MOST, TooMany
from ..store.store import Changed, Missing, Stale
from . import schemas as s

Hindrance = Literal["away", "slow", "full"]
#: Errors of a database that is there and does not come to an end.
SLOW = (errors.QueryCanceled, errors.LockNotAvailable, errors.ConnectionTimeout, Hung)
#: Errors by which the database is known to be hindered.
HINDERED = (InterfaceError, OperationalError, PoolTimeout)
#: Errors that are told in their own words, or in ours; any other one is a fault.
TOLD = (CoreError, FormatError, Missing, Stale, Changed, TooMany, DataError, MemoryError, *HINDERED)


def hindrance(error: Exception) -> tuple[Hindrance, str]:
    """What keeps the database from working, and that in a sentence."""
    cause = getattr(error, "orig", None)
    if isinstance(cause, errors.DiskFull):
        return "full", "The disk of the database is full: make room on it."
    if isinstance(error, PoolTimeout) or isinstance(
        cause, errors.QueryCanceled | errors.LockNotAvailable | errors.ConnectionTimeout | Hung
    ):
        return "slow", "The database takes too long to answer: it is hung, or at too much at once."
    return "away", "The database does not answer just now."


def problem_of(error: Exception) -> tuple[int, s.Problem]:
    """Status and problem of an error."""
    match error:
        case FormatError():
            return 422, s.Problem(message=str(error), line=error.line, token=error.token)
        case CoreError():
            return 422, s.Problem(message=str(error))
        case Missing():
            return 404, s.Problem(message=str(error))
        case Changed():
            return 409, s.Problem(message=str(error))
        case Stale():
            return 409, s.Problem(message=str(error), head=error.head, changed=error.labels)
        case TooMany():
            return 429, s.Problem(message=f"{MOST} files are being read or written already: ask again in a moment.")
        case DataError():
            return 422, s.Problem(message="A text or number of this request is beyond what can be stored.")
        case MemoryError():
            return 422, s.Problem(message="This takes more memory than one file may: cut it into shorter takes.")
        case InterfaceError() | OperationalError() | PoolTimeout():
            return 503, s.Problem(message=f"{hindrance(error)[1]} What was applied is safe; try again in a moment.")
        case _:
            said = "This could not be worked out: that is a fault of the program, and it was logged."
            return 500, s.Problem(message=said)
