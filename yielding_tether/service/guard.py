"""Keeps the door: loopback hosts and origins only, bodies of bounded size, pages that load nothing from elsewhere."""

from __future__ import annotations

import asyncio
import hashlib
import secrets
from urllib.parse import urlsplit

from starlette.datastructures import Headers
from starlette.requests import cookie_parser
from starlette.responses import JSONResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from ..formats.bvh import MAX_BYTES
from .patience import PIECE

#: What keeps the key in a browser.
COOKIE = "tether-key"
LOCAL = frozenset({"127.0.0.1", "localhost", "[::1]", "::1"})
#: Bodies beyond this are refused; only captures come near it.
MAX_BODY = MAX_BYTES
MAX_JSON = 2_000_000
#: What a browser may do with the page: only what comes with it, in no other page's frame.
HEADERS = [
    (b"content-security-policy", b"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; "
     b"worker-src 'self' blob:; object-src 'none'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"),
    (b"x-content-type-options", b"nosniff"),
    (b"referrer-policy", b"no-referrer"),
]  # fmt: skip


def is_local(address: str) -> bool:
    """Whether a Host header, or an Origin, names this machine's loopback."""
    try:
        return urlsplit(address if "//" in address else f"//{address}").hostname in LOCAL
    except ValueError:
        return False


class _Unread(Exception):
    """The body was not read to its end."""


def token_of(key: str) -> str:
    """What a browser keeps in place of the key."""
    return hashlib.sha256(f"yielding tether {key}".encode()).hexdigest()


class Guard:
    """ASGI middleware: refuses foreign Host and Origin headers, bodies that are too large or do not come, and, where there is a
    `key`, whoever does not have it."""

    def __init__(self, app: ASGIApp, key: str = "") -> None:
        self.app = app
        self._key = key

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] not in ("http", "websocket"):
            await self.app(scope, receive, send)
            return
        headers = Headers(scope=scope)
        origin = headers.get("origin")
        # What another site's page asks for without a form carries no origin, but browsers say where it comes from.
        foreign = scope["path"].startswith("/api") and headers.get("sec-fetch-site") in ("cross-site", "same-site")
        same = origin is None or (is_local(origin) and urlsplit(origin).netloc == headers.get("host"))
        if not is_local(headers.get("host", "")) or not same or foreign:
            await self._refuse(scope, receive, send, 403, "Only pages of this program on this machine may ask.")
            return
        if "\0" in scope["path"] or b"%00" in scope["query_string"]:
            await self._refuse(scope, receive, send, 400, "An address has no NUL in it.")
            return
        if not self._has_key(scope["path"], headers):
            await self._refuse(scope, receive, send, 401, "This program asks for the key that it was started with.")
            return
        if scope["type"] == "websocket":
            await self.app(scope, receive, send)
            return
        limit = MAX_BODY if scope["path"] == "/api/import" else MAX_JSON
        length = headers.get("content-length", "0")
        if not (length.isascii() and length.isdigit() and len(length) < 16) or int(length) > limit:
            await self._refuse(scope, receive, send, 413, f"The body is larger than the {limit:,} bytes that are read.")
            return
        seen, begun, more = 0, False, True
        # What is wrong with the body, whatever those who read it make of that.
        wrong: tuple[int, str] | None = None

        async def headed(message: Message) -> None:
            nonlocal begun
            if wrong is not None and not begun:
                return
            if message["type"] == "http.response.start":
                begun = True
                message = {**message, "headers": [*message.get("headers", []), *HEADERS]}
            await send(message)

        async def counted() -> Message:
            nonlocal seen, more, wrong
            try:
                # Once it is whole, the next one says that who asked is gone: that may take its time.
                message = await asyncio.wait_for(receive(), PIECE if more else None)
            except TimeoutError:
                wrong = 408, "The rest of the body did not come."
                raise _Unread from None
            more = message.get("more_body", False)
            seen += len(message.get("body", b""))
            if seen > limit:
                wrong = 413, f"The body is larger than the {limit:,} bytes that are read."
                raise _Unread
            return message

        try:
            await self.app(scope, counted, headed)
        except _Unread:
            if begun:
                raise
        if wrong is not None and not begun:
            await self._refuse(scope, receive, send, *wrong)

    def _has_key(self, path: str, headers: Headers) -> bool:
        """Whether who asks has the key, or needs none: the page itself holds nothing, and asks for it."""
        if not self._key or not path.startswith("/api") or path == "/api/key":
            return True
        # Headers come as they were sent, a letter a byte.
        scheme, _, given = headers.get("authorization", "").partition(" ")
        if scheme.lower() == "bearer" and secrets.compare_digest(given.strip().encode("latin-1"), self._key.encode()):
            return True
        kept = cookie_parser(headers.get("cookie", "")).get(COOKIE, "")
        return secrets.compare_digest(kept.encode("latin-1"), token_of(self._key).encode())

    @staticmethod
    async def _refuse(scope: Scope, receive: Receive, send: Send, status: int, message: str) -> None:
        if scope["type"] == "websocket":
            await send({"type": "websocket.close", "code": 4403, "reason": message})
            return
        headers = {name.decode(): value.decode() for name, value in HEADERS}
        await JSONResponse({"message": message, "changed": []}, status, headers)(scope, receive, send)
