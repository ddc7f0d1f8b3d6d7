"""Keeps the door: loopback hosts and origins only, bodies of bounded size."""

from __future__ import annotations

from urllib.parse import urlsplit

from starlette.datastructures import Headers
from starlette.responses import JSONResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

LOCAL = frozenset({"127.0.0.1", "localhost", "[::1]", "::1", "testserver"})
#: Bodies beyond this are refused; only captures come near it.
MAX_BODY = 400_000_000
MAX_JSON = 2_000_000


def is_local(address: str) -> bool:
    """Whether a Host header, or an Origin, names this machine's loopback."""
    host = urlsplit(address if "//" in address else f"//{address}").hostname or ""
    return host in LOCAL


class _TooLarge(Exception):
    pass


class Guard:
    """ASGI middleware: refuses foreign Host and Origin headers and bodies that are too large."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] not in ("http", "websocket"):
            await self.app(scope, receive, send)
            return
        headers = Headers(scope=scope)
        origin = headers.get("origin")
        same = origin is None or urlsplit(origin).netloc == headers.get("host")
        if not is_local(headers.get("host", "")) or (origin is not None and not (is_local(origin) and same)):
            await self._refuse(scope, receive, send, 403, "Only pages of this program on this machine may ask.")
            return
        if scope["type"] == "websocket":
            await self.app(scope, receive, send)
            return
        limit = MAX_BODY if scope["path"] == "/api/import" else MAX_JSON
        length = headers.get("content-length", "0")
        if not length.isdigit() or int(length) > limit:
            await self._refuse(scope, receive, send, 413, f"The body is larger than the {limit:,} bytes that are read.")
            return
        seen = 0

        async def counted() -> Message:
            nonlocal seen
            message = await receive()
            seen += len(message.get("body", b""))
            if seen > limit:
                raise _TooLarge
            return message

        try:
            await self.app(scope, counted, send)
        except _TooLarge:
            await self._refuse(scope, receive, send, 413, f"The body is larger than the {limit:,} bytes that are read.")

    @staticmethod
    async def _refuse(scope: Scope, receive: Receive, send: Send, status: int, message: str) -> None:
        if scope["type"] == "websocket":
            await send({"type": "websocket.close", "code": 4403, "reason": message})
            return
        await JSONResponse({"message": message, "changed": []}, status)(scope, receive, send)
