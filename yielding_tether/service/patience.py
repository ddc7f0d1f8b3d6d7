"""How long is waited for a request that has begun: whoever sends half of one and falls silent takes a place from others."""

from __future__ import annotations

import asyncio

from uvicorn.protocols.http.h11_impl import H11Protocol

#: Seconds in which all headers of a request must have come, and in which each further piece of its body must.
HEADERS, PIECE = 10.0, 30.0


class Patient(H11Protocol):
    """Closes connections whose request does not come to the end of its headers."""

    _giving_up: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        self._wait()

    def data_received(self, data: bytes) -> None:
        super().data_received(data)
        if self._answering() or self.transport.get_protocol() is not self:
            self._stop_waiting()
        else:
            self._wait()

    def connection_lost(self, exc: Exception | None) -> None:
        self._stop_waiting()
        super().connection_lost(exc)

    def _answering(self) -> bool:
        return self.cycle is not None and not self.cycle.response_complete

    def _wait(self) -> None:
        # From the first piece on: whoever sends a letter now and then is not waited for either.
        if self._giving_up is None and not self.transport.is_closing():
            self._giving_up = self.loop.call_later(HEADERS, self._give_up)

    def _stop_waiting(self) -> None:
        if self._giving_up is not None:
            self._giving_up.cancel()
            self._giving_up = None

    def _give_up(self) -> None:
        self._giving_up = None
        if not self._answering() and not self.transport.is_closing():
            self.transport.close()
