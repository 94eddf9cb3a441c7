"""What stands before every request: Host and Origin checks, an upload limit, and headers on the way out."""

from __future__ import annotations

import logging
import secrets
from collections.abc import Callable
from urllib.parse import urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from ._errors import problem

UPLOAD_LIMIT = 64 * 1024 * 1024
# Files come as they are; a body of JSON holds edits and pasted rows, which are read on the loop that everybody shares.
JSON_LIMIT = 4 * 1024 * 1024
PICTURE_LIMIT = 24 * 1024 * 1024  # one long text of JSON, which costs next to nothing to read
_DRAIN_LIMIT = 1024 * 1024 * 1024  # a refused body is read to its end up to here, so that the answer arrives
_log = logging.getLogger(__name__)
LOOPBACK = frozenset({"127.0.0.1", "localhost", "::1"})

# Scripts, fonts and data come from this server only. Styles may be inline: the style library writes them so.
_CSP = (
    "default-src 'self'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self'; "
    "connect-src 'self'; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
)
_HEADERS = {
    "content-security-policy": _CSP,
    "x-content-type-options": "nosniff",
    "referrer-policy": "no-referrer",
    "cross-origin-opener-policy": "same-origin",
    "cross-origin-resource-policy": "same-origin",
}


class _TooLarge(Exception):
    pass


class Guard:
    """ASGI middleware around the whole application."""

    def __init__(self, app: ASGIApp, hosts: frozenset[str] = LOOPBACK, limit: int = UPLOAD_LIMIT) -> None:
        self.app, self.hosts, self.limit = app, hosts, limit

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        started = False

        async def sealed(message: Message) -> None:
            nonlocal started
            if message["type"] == "http.response.start":
                started = True
                out = MutableHeaders(scope=message)
                for name, value in _HEADERS.items():
                    out.setdefault(name, value)
            await send(message)

        headers = Headers(scope=scope)
        host, origin = headers.get("host", ""), headers.get("origin")
        try:
            if _name(host) not in self.hosts:
                text = f"This server does not answer for the host {host[:100]!r}."
                await problem(421, "wrong-host", "Wrong host", text)(scope, receive, sealed)
            elif origin is not None and scope["method"] not in ("GET", "HEAD") and _place(origin) != host:
                text = f"Requests from pages of {origin[:100]} are not accepted."
                await problem(403, "wrong-origin", "Wrong origin", text)(scope, receive, sealed)
            else:
                await self._within_limit(scope, receive, sealed, headers, lambda: started)
        except Exception:
            reference = secrets.token_hex(4)
            _log.exception("reference %s: %s %s", reference, scope["method"], scope["path"][:200])
            if started:
                raise
            text = f"Something went wrong here that is not your doing. The log has it under {reference}. Nothing was half done."
            await problem(500, "unexpected", "Unexpected", text, reference=reference)(scope, receive, sealed)

    async def _within_limit(
        self, scope: Scope, receive: Receive, send: Send, headers: Headers, started: Callable[[], bool]
    ) -> None:
        read = 0
        ended = False
        limit = self.limit
        if headers.get("content-type", "").startswith("application/json"):
            limit = PICTURE_LIMIT if scope["path"].endswith("/picture.pdf") else JSON_LIMIT
        limit = min(limit, self.limit)

        async def counted() -> Message:
            nonlocal read, ended
            message = await receive()
            read += len(message.get("body", b""))
            ended = not message.get("more_body", False)
            if read > limit:
                raise _TooLarge
            return message

        try:
            announced = headers.get("content-length", "")
            if announced.isdigit() and int(announced[:20]) > limit:
                raise _TooLarge
            await self.app(scope, counted, send)
        except _TooLarge:
            if started():
                raise
            if not ended:
                await self._drain(receive, read)
            text = f"The upload is larger than {limit / 2**20:g} MB. Nothing of it was kept."
            await problem(413, "too-large", "Too large", text)(scope, receive, send)

    @staticmethod
    async def _drain(receive: Receive, read: int) -> None:
        """Read the rest of a refused body, else the client sees a broken connection in place of the answer."""
        while read < _DRAIN_LIMIT:
            message = await receive()
            read += len(message.get("body", b""))
            if message["type"] != "http.request" or not message.get("more_body"):
                return


def _name(host: str) -> str:
    """The host without its port; empty where it is none."""
    try:
        return urlsplit(f"//{host}").hostname or ""
    except ValueError:
        return ""


def _place(origin: str) -> str | None:
    """Host and port of an origin; None where it is none."""
    try:
        return urlsplit(origin).netloc
    except ValueError:
        return None
