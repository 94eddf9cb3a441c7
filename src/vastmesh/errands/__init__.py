"""Costly files in processes of their own: bounded in time and memory, ended when nobody waits any more.

What is known to read a file slowly (a large workbook) or to make one slowly (a picture of many pages) would keep the service's
interpreter from everybody else, and can't be stopped in a thread. Bytes go in, bytes come out.
"""

from __future__ import annotations

import asyncio
import json
import os
import sys
from collections.abc import Awaitable, Callable, Coroutine
from typing import Any

from ..core.errors import FieldProblem, InvalidFields, UnreadableFile, VastMeshError
from ._workbook import rows_of_workbook, unpacked_size

__all__ = ["ErrandFailed", "rows_of_workbook", "run_errand", "unpacked_size", "workbook_rows"]

MOST_S = 120.0
_SIDE_BY_SIDE = 2
_LOOKED_AFTER_S = 0.5
_turns: dict[asyncio.AbstractEventLoop, asyncio.Semaphore] = {}


class ErrandFailed(VastMeshError):
    """A file took more time or memory than it may. ``code``: too-costly."""

    code = "too-costly"


Gone = Callable[[], Awaitable[bool]]


async def run_errand(name: str, data: bytes, *, gone: Gone | None = None, most_s: float = MOST_S) -> bytes:
    """What an errand makes of some bytes: ``pdf``, ``document`` or ``workbook``. Waits without a thread; ``gone``: whether nobody
    waits for it any more, with whom its process ends.

    Raises what the errand raises of :class:`InvalidFields` and :class:`UnreadableFile`, and :class:`ErrandFailed`.
    """
    loop = asyncio.get_running_loop()
    for old in [other for other in _turns if other.is_closed()]:
        del _turns[old]
    async with _turns.setdefault(loop, asyncio.Semaphore(_SIDE_BY_SIDE)):
        process = await asyncio.create_subprocess_exec(
            sys.executable, "-m", "vastmesh.errands", name, str(int(most_s) + 1),
            stdin=asyncio.subprocess.PIPE, stdout=asyncio.subprocess.PIPE, stderr=asyncio.subprocess.DEVNULL,
            env={**os.environ, "PYTHONPATH": os.pathsep.join(p for p in sys.path if p)},
        )  # fmt: skip
        try:
            out, _ = await asyncio.wait_for(_unless_gone(process.communicate(data), gone), most_s)
        except TimeoutError:
            raise ErrandFailed(
                f"It was not done after {most_s:g} s. Make the file or the picture smaller; nothing was kept of it."
            ) from None
        finally:
            if process.returncode is None:
                process.kill()
                await process.wait()
    if out[:1] == b"+":
        return out[1:]
    if out[:1] != b"-":
        raise ErrandFailed("It took more memory or time than a file may. Make it smaller; nothing was kept of it.")
    told = json.loads(out[1:])
    if "unreadable" in told:
        raise UnreadableFile(told["unreadable"])
    raise InvalidFields([FieldProblem(*p) for p in told["problems"]])


async def _unless_gone(work: Coroutine[Any, Any, tuple[bytes, bytes]], gone: Gone | None) -> tuple[bytes, bytes]:
    task = asyncio.ensure_future(work)
    try:
        while not task.done():
            await asyncio.wait({task}, timeout=_LOOKED_AFTER_S)
            if gone is not None and not task.done() and await gone():
                raise ErrandFailed("Nobody waits for it any more.")
        return task.result()
    finally:
        task.cancel()


async def workbook_rows(data: bytes, gone: Gone | None = None) -> list[list[Any]]:
    """Rows of the first sheet of a workbook, as :func:`rows_of_workbook` finds them."""
    found: list[list[Any]] = json.loads(await run_errand("workbook", data, gone=gone))
    return found
