"""What a worker of a cluster does: the same as a process of this machine, called through Dask."""

from __future__ import annotations

import io
import threading
import time
from typing import Any

from ..core.studies import StopRequested
from ..version import __version__
from ._carry import Bench, Reply
from ._task import Task, TaskError

_TELL_EVERY_S = 0.4
_stopped: set[str] = set()
_own = threading.local()


def far_version() -> str:
    return __version__


def far_stop(task: str) -> None:
    """Asked of every worker: whoever does the task ends it at its next step."""
    if len(_stopped) > 10_000:
        _stopped.clear()
    _stopped.add(task)


def far_task(task: Task, inputs: bytes, topic: str) -> tuple[float, Reply] | TaskError:
    """Do a task with inputs that the cluster has brought here; what goes wrong comes back as a value."""
    from distributed import get_worker

    worker = get_worker()
    told = 0.0

    def tell(fraction: float, doing: str) -> None:
        nonlocal told
        if task.id in _stopped:
            raise StopRequested
        if (now := time.monotonic()) - told > _TELL_EVERY_S:
            told = now
            worker.log_event(topic, {"task": task.id, "fraction": float(fraction), "doing": str(doing)[:200]})

    bench: Bench = _own.__dict__.setdefault("bench", Bench(lambda name: io.BytesIO(b"")))
    bench.opened = lambda name: io.BytesIO(inputs)
    started = time.monotonic()
    try:
        reply = bench.carry_out(task, tell)
    except TaskError as error:
        return error
    return time.monotonic() - started, reply


def in_words(found: dict[str, Any]) -> str:
    """Versions other than ours, by worker; blank when all are alike."""
    other = sorted({str(v) for v in found.values() if v != __version__})
    return (
        f"workers run version {', '.join(other)}, this service {__version__}: install the same everywhere"
        if other
        else ""
    )
