"""Work that is wanted only as long as who asked waits for it."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Callable
from typing import ParamSpec, TypeVar

from fastapi import Request
from starlette.concurrency import run_in_threadpool
from starlette.requests import ClientDisconnect

from ..core.progress import Cancelled, watched

P = ParamSpec("P")
T = TypeVar("T")


async def gone_away(request: Request) -> None:
    """Returns once who asked is gone; the body must have been read."""
    while (await request.receive())["type"] != "http.disconnect":
        pass


async def while_wanted(request: Request, work: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    """What work returns, done in a thread. When who asked goes away it ends at its next step, and ClientDisconnect is raised: so
    what a newer wish has overtaken keeps nobody waiting."""
    unwanted = threading.Event()

    def tell(done: float, doing: str) -> None:
        if unwanted.is_set():
            raise Cancelled

    def watched_work() -> T:
        with watched(tell):
            return work(*args, **kwargs)

    async def watch() -> None:
        await gone_away(request)
        unwanted.set()

    watching = asyncio.create_task(watch())
    try:
        return await run_in_threadpool(watched_work)
    except Cancelled:
        raise ClientDisconnect from None
    finally:
        watching.cancel()
