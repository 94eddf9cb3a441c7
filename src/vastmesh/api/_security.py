"""What stands before every request: Host and Origin checks, an upload limit, and headers on the way out."""

from __future__ import annotations

from urllib.parse import urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from ._errors import problem

UPLOAD_LIMIT = 64 * 1024 * 1024
_DRAIN_LIMIT = 1024 * 1024 * 1024  # a refused body is read to its end up to here, so that the answer arrives
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
        headers = Headers(scope=scope)
        host = headers.get("host", "")
        if _name(host) not in self.hosts:
            answer = problem(421, "wrong-host", "Wrong host", f"This server does not answer for the host {host!r}.")
            await answer(scope, receive, send)
            return
        origin = headers.get("origin")
        if origin is not None and scope["method"] not in ("GET", "HEAD") and urlsplit(origin).netloc != host:
            text = f"Requests from pages of {origin} are not accepted."
            await problem(403, "wrong-origin", "Wrong origin", text)(scope, receive, send)
            return
        await self._within_limit(scope, receive, send, headers)

    async def _within_limit(self, scope: Scope, receive: Receive, send: Send, headers: Headers) -> None:
        read = 0
        started = ended = False

        async def counted() -> Message:
            nonlocal read, ended
            message = await receive()
            read += len(message.get("body", b""))
            ended = not message.get("more_body", False)
            if read > self.limit:
                raise _TooLarge
            return message

        async def sealed(message: Message) -> None:
            nonlocal started
            if message["type"] == "http.response.start":
                started = True
                out = MutableHeaders(scope=message)
                for name, value in _HEADERS.items():
                    out.setdefault(name, value)
            await send(message)

        try:
            announced = headers.get("content-length", "")
            if announced.isdigit() and int(announced) > self.limit:
                raise _TooLarge
            await self.app(scope, counted, sealed)
        except _TooLarge:
            if started:
                raise
            if not ended:
                await self._drain(receive, read)
            text = f"The upload is larger than {self.limit // 2**20} MB. Nothing of it was kept."
            await problem(413, "too-large", "Too large", text)(scope, receive, sealed)

    @staticmethod
    async def _drain(receive: Receive, read: int) -> None:
        """Read the rest of a refused body, else the client sees a broken connection in place of the answer."""
        while read < _DRAIN_LIMIT:
            message = await receive()
            read += len(message.get("body", b""))
            if message["type"] != "http.request" or not message.get("more_body"):
                return


def _name(host: str) -> str:
    """The host without its port."""
    return urlsplit(f"//{host}").hostname or ""
