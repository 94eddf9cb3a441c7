from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from ..core.errors import VastMeshError
from ..core.studies import Study
from ..version import __version__


class Ask(StrEnum):
    """What is asked of a worker: all of a study, its parts by name, the answers of some, or the whole from the answers."""

    WHOLE = "whole"
    PLAN = "plan"
    PARTS = "parts"
    JOIN = "join"


@dataclass(frozen=True)
class Task:
    """One piece of work for one process. ``inputs``: name under which the inputs are found; ``parts``: their numbers and what
    they are. For joining, of all parts: ``plan``: what they are; ``answers``: offset and size in the file ``spool``, or why there
    is none, blank while it may still come."""

    id: str
    job: str
    ask: Ask
    study: Study
    options: BaseModel
    inputs: str
    parts: Sequence[tuple[int, Any]] = ()
    plan: Sequence[Any] = ()
    answers: Sequence[tuple[int, int] | str] = ()
    spool: Path | None = None
    version: str = field(default=__version__)


class TaskError(VastMeshError):
    """What went wrong with a task, told from one process to another. ``code``: of the error it stands for; ``log``: the
    traceback, for errors that are nobody's fault but ours; ``stopped``: somebody wanted it to end."""

    def __init__(self, code: str, text: str, log: str = "", *, stopped: bool = False) -> None:
        super().__init__(code, text, log)
        self.code, self.text, self.log, self.stopped = code, text, log, stopped

    def __str__(self) -> str:
        return self.text

    def __reduce__(self) -> tuple[Any, ...]:
        return _told, (self.code, self.text, self.log, self.stopped)

    @property
    def ours(self) -> bool:
        """Whether it is a defect rather than something in the data: worth another try."""
        return bool(self.log)


def _told(code: str, text: str, log: str, stopped: bool) -> TaskError:
    return TaskError(code, text, log, stopped=stopped)
