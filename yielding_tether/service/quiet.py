"""What is done once nobody has asked for anything for a while: memory that is free goes back to the system.

The allocator keeps what is freed at hand, which saves posing a page fault for every four kilobytes; after a long capture was
looked at that is hundreds of megabytes.
"""

from __future__ import annotations

import ctypes
import threading
import time

from starlette.types import ASGIApp, Message, Receive, Scope, Send

#: Seconds without a request that count as quiet.
QUIET = 3.0


class Quiet:
    """ASGI middleware that notes when something was last asked for, and tidies up when all is quiet."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app
        self._last = 0.0
        self._tidied = True
        # Other C libraries give memory back by themselves.
        self._trim = getattr(ctypes.CDLL(None), "malloc_trim", None)
        if self._trim is not None:
            threading.Thread(target=self._watch, daemon=True).start()

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        async def noted(message: Message) -> None:
            # Each answer of a socket counts.
            self._last, self._tidied = time.monotonic(), False
            await send(message)

        await self.app(scope, receive, noted)

    def _watch(self) -> None:
        while True:
            time.sleep(QUIET / 2)
            if not self._tidied and time.monotonic() - self._last > QUIET:
                self._tidied = True
                self._trim(0)
