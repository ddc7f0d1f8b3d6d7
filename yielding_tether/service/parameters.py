"""What routes take from addresses and headers, and the refusals that all of them share."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Header, Query
from fastapi import Path as PathParameter

from . import schemas as s

TakeId = Annotated[int, PathParameter(ge=1, le=s.MOST_ID)]
JobId = Annotated[int, PathParameter(ge=1, le=s.MOST_ID)]
RevisionId = Annotated[int, Query(ge=1, le=s.MOST_REVISION)]
#: Sent again under the same key, an edit whose answer was lost is written once.
Key = Annotated[str | None, Header(min_length=1, max_length=100)]
Frames = Annotated[float, Query(allow_inf_nan=False)]
PROBLEMS: dict[int | str, dict[str, Any]] = {
    400: {"model": s.Problem, "description": "The request can't be read."},
    401: {"model": s.Problem, "description": "The program was started with a key, and this request has not shown it."},
    403: {"model": s.Problem, "description": "Only pages and programs of this machine may ask."},
    404: {"model": s.Problem, "description": "What was asked for is not there."},
    408: {"model": s.Problem, "description": "The body did not come to its end."},
    409: {"model": s.Problem, "description": "The take has moved on; `head` is where it stands."},
    413: {"model": s.Problem, "description": "The body is larger than what is read."},
    422: {"model": s.Problem, "description": "It can't be done; `message` says why and what to do."},
    429: {"model": s.Problem, "description": "Enough waits already; ask again in a moment."},
    503: {"model": s.Problem, "description": "The database does not answer just now; nothing was lost."},
}
