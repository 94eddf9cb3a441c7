"""Turns: only so many requests of one project are at work at a time; the others wait, without a thread each.

Requests of a project wait for its lock in any case. Were every one of them to wait in a thread of the service, fifty people on
one project would leave none for the other projects.
"""

from __future__ import annotations

import asyncio

from starlette.types import ASGIApp, Receive, Scope, Send

AT_WORK = 8
# These wait on the loop and not in a thread, for as long as somebody looks on or something is worked out elsewhere.
_WAITING = frozenset({"events", "cases", "document", "picture.pdf", "import"})


class Turns:
    """ASGI middleware around the routes of projects."""

    def __init__(self, app: ASGIApp, at_work: int = AT_WORK) -> None:
        self.app, self.at_work = app, at_work
        self._turns: dict[str, tuple[asyncio.Semaphore, int]] = {}

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        project = _project(scope["path"]) if scope["type"] == "http" else None
        if project is None:
            await self.app(scope, receive, send)
            return
        turn, users = self._turns.get(project, (asyncio.Semaphore(self.at_work), 0))
        self._turns[project] = turn, users + 1
        try:
            async with turn:
                await self.app(scope, receive, send)
        finally:
            turn, users = self._turns[project]
            if users > 1:
                self._turns[project] = turn, users - 1
            else:
                del self._turns[project]  # nobody works or waits


def _project(path: str) -> str | None:
    """The project that a request has to take its turn in; None for others, and for those that only wait."""
    parts = path.split("/", 5)
    if len(parts) < 5 or parts[1:3] != ["api", "projects"] or parts[4] in _WAITING or parts[-1] in _WAITING:
        return None
    return parts[3]
