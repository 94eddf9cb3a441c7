"""Which window a request comes from: undo takes back its own edits first."""

from __future__ import annotations

import re
from contextvars import ContextVar

from starlette.types import ASGIApp, Receive, Scope, Send

WINDOW: ContextVar[str | None] = ContextVar("window", default=None)
_NAME = re.compile(rb"[A-Za-z0-9-]{8,64}")


class Whose:
    """ASGI middleware: what the header ``x-tab`` says, for as long as the request is worked on."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "http":
            name = next((v for k, v in scope["headers"] if k == b"x-tab"), b"")
            WINDOW.set(name.decode() if _NAME.fullmatch(name) else None)
        await self.app(scope, receive, send)
