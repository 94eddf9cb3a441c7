from __future__ import annotations

import threading
import time
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from pathlib import Path
from typing import IO, Any

from pydantic import BaseModel

from ..core.studies import Study
from ..store import JobRecord
from ..worker import Ask, Packed, Task
from ._pool import Executor

_PART_S = 0.5  # what is handed out together should take about so long
_MOST_TOGETHER = 512
_MOST_LOG = 20_000


class JobState(StrEnum):
    """``joining``: all parts are there; ``interrupted``: by the end of the service or of the cluster."""

    WAITING = "waiting"
    RUNNING = "running"
    JOINING = "joining"
    FINISHED = "finished"
    CANCELLED = "cancelled"
    FAILED = "failed"
    INTERRUPTED = "interrupted"


@dataclass
class Going:
    """A task under way. ``extra``: beyond the usual number, so that nobody waits for long."""

    task: Task
    where: Executor
    extra: bool
    since: float = field(default_factory=time.monotonic)
    fraction: float = 0.0

    @property
    def weight(self) -> int:
        return max(1, len(self.task.parts))


@dataclass
class Job:
    """One study being done. Only the thread of the runner alters it; ``record`` is what is told and kept of it."""

    record: JobRecord
    study: Study
    options: BaseModel
    inputs: str
    plan: Sequence[Any] | None = None
    answers: list[tuple[int, int] | str] = field(default_factory=list)
    todo: deque[int] = field(default_factory=deque)
    alone: set[int] = field(default_factory=set)  # parts that went wrong in company, or once by themselves
    tries: dict[int, int] = field(default_factory=dict)
    going: dict[str, Going] = field(default_factory=dict)
    losses: int = 0
    part_s: float | None = None
    spool: Path | None = None
    spooled: int = 0
    spool_file: IO[bytes] | None = None
    joined_at: float = 0.0
    joined: int = 0
    join_s: float = 0.0
    worked: float | None = None  # seconds in the worker, of a study in one piece
    result: Packed | None = None
    started: float = 0.0
    cancelled: bool = False
    stopping: bool = False  # with what is done
    here: bool = False  # not on the cluster
    ending: bool = False
    serial: int = 0
    told: float = 0.0
    noted: float = 0.0
    _done: threading.Event = field(default_factory=threading.Event)
    _waiting: threading.Lock = field(default_factory=threading.Lock)
    _calls: list[Callable[[], None]] = field(default_factory=list)

    @property
    def id(self) -> str:
        return self.record.id

    @property
    def state(self) -> JobState:
        return JobState(self.record.state)

    @property
    def fraction(self) -> float:
        return self.record.fraction

    @property
    def left_s(self) -> float | None:
        """Seconds left, estimated from what has been done."""
        if self.state is not JobState.RUNNING or self.fraction < 0.02:
            return None
        return (time.monotonic() - self.started) * (1 - self.fraction) / self.fraction

    @property
    def done(self) -> bool:
        """Whether it has ended, and that is written down."""
        return self._done.is_set()

    def wait(self, seconds: float) -> bool:
        """Wait until it has ended, at most so long; whether it has."""
        return self._done.wait(seconds)

    def then(self, call: Callable[[], None]) -> None:
        """Call something once it has ended, in the thread of the runner; at once when it has."""
        with self._waiting:
            if not self._done.is_set():
                self._calls.append(call)
                return
        call()

    # For the runner

    def go_on(self) -> None:
        """It has not ended after all."""
        self._done.clear()

    def end(self) -> None:
        """It has ended: let everybody know who waits for it."""
        with self._waiting:
            self._done.set()
            calls, self._calls = self._calls, []
        for call in calls:
            call()

    def task(self, ask: Ask, **more: Any) -> Task:
        self.serial += 1
        return Task(f"{self.id}-{self.serial}", self.id, ask, self.study, self.options, self.inputs, **more)

    @property
    def parts_out(self) -> int:
        return sum(len(g.task.parts) for g in self.going.values())

    @property
    def complete(self) -> bool:
        return self.plan is not None and not self.todo and not self.parts_out

    def batch(self, side_by_side: int) -> list[int]:
        """The next parts to be handed out together: about half a second's worth, and some left for the others."""
        first = self.todo.popleft()
        found = [first]
        if first in self.alone or self.part_s is None:
            return found
        fair = -(-len(self.todo) // (2 * side_by_side))
        most = min(max(int(_PART_S / max(self.part_s, 1e-6)), 1), _MOST_TOGETHER, max(fair, 1))
        while self.todo and len(found) < most and self.todo[0] not in self.alone:
            found.append(self.todo.popleft())
        return found

    def measure(self, seconds: float, parts: int) -> None:
        new = seconds / max(parts, 1)
        self.part_s = new if self.part_s is None else 0.5 * (self.part_s + new)

    def put_away(self, part: int, answer: bytes) -> None:
        """Append an answer to the file of all answers. Raises :class:`OSError`."""
        assert self.spool is not None
        if self.spool_file is None:
            self.spool_file = self.spool.open("ab")
        self.spool_file.write(answer)
        self.answers[part] = (self.spooled, len(answer))
        self.spooled += len(answer)

    def note(self, text: str) -> None:
        """Put something into the log."""
        self.record.log = f"{self.record.log}{text.rstrip()}\n"[-_MOST_LOG:]

    def close_spool(self) -> None:
        if self.spool_file is not None:
            self.spool_file.close()
            self.spool_file = None
        if self.spool is not None:
            self.spool.unlink(missing_ok=True)
