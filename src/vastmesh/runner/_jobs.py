from __future__ import annotations

import secrets
import threading
import time
from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from pydantic import BaseModel

from ..core.errors import VastMeshError
from ..core.results import Result
from ..core.studies import STUDIES, Inputs, StopRequested

_REMEMBERED = 50
_AT_ONCE = 2


class JobState(StrEnum):
    WAITING = "waiting"
    RUNNING = "running"
    FINISHED = "finished"
    CANCELLED = "cancelled"
    FAILED = "failed"


@dataclass
class Job:
    """One calculation under way or done. ``fraction``: how much of it is done; ``left_s``: seconds left, estimated;
    ``kept``: id under which its result is kept; ``inputs``: what it is made of; ``project``: whose it is."""

    id: str
    study: str
    inputs: Inputs
    options: BaseModel
    project: str = ""
    state: JobState = JobState.WAITING
    fraction: float = 0.0
    doing: str = ""
    result: Result | None = None
    error: VastMeshError | None = None
    kept: str | None = None
    started: float = field(default_factory=time.monotonic)
    took_s: float = 0.0
    _cancel: threading.Event = field(default_factory=threading.Event)
    _done: threading.Event = field(default_factory=threading.Event)

    def cancel(self) -> None:
        """Stop at the next step; no effect on a run that has ended."""
        self._cancel.set()

    def wait(self, seconds: float) -> bool:
        """Wait until it has ended, at most so long; whether it has."""
        return self._done.wait(seconds)

    @property
    def left_s(self) -> float | None:
        if self.state is not JobState.RUNNING or self.fraction < 0.02:
            return None
        return (time.monotonic() - self.started) * (1 - self.fraction) / self.fraction

    def _progress(self, fraction: float, doing: str) -> None:
        if self._cancel.is_set():
            raise StopRequested
        self.fraction, self.doing = fraction, doing


class Runner:
    """Runs studies on copies of networks, a few at a time. Safe for use by several threads.

    Studies run in threads of this process: those there are now take seconds at most. Those that take longer will get
    processes of their own behind the same interface.
    """

    def __init__(self) -> None:
        self._pool = ThreadPoolExecutor(_AT_ONCE, thread_name_prefix="run")
        self._jobs: OrderedDict[str, Job] = OrderedDict()
        self._lock = threading.Lock()

    def submit(
        self,
        study: str,
        inputs: Inputs,
        options: BaseModel,
        done: Callable[[Job], Any] | None = None,
        project: str = "",
    ) -> Job:
        """Start a study; its network is a copy that nobody alters.

        ``done`` is called, in the run's thread, before it counts as finished.
        """
        job = Job(secrets.token_hex(6), study, inputs, options, project)
        with self._lock:
            self._jobs[job.id] = job
            ended = [i for i, j in self._jobs.items() if j._done.is_set()]
            for old in ended[: max(0, len(self._jobs) - _REMEMBERED)]:  # what waits or runs is never forgotten
                del self._jobs[old]
        future: Future[None] = self._pool.submit(self._work, job, done)
        assert future
        return job

    def job(self, ident: str) -> Job | None:
        with self._lock:
            return self._jobs.get(ident)

    def close(self) -> None:
        """Cancel what is under way and end the threads."""
        with self._lock:
            for job in self._jobs.values():
                job.cancel()
        self._pool.shutdown(wait=False, cancel_futures=True)

    @staticmethod
    def _work(job: Job, done: Callable[[Job], Any] | None) -> None:
        job.state, job.started = JobState.RUNNING, time.monotonic()
        try:
            job._progress(0.0, "starting")
            job.result = STUDIES[job.study].run(job.inputs, job.options, job._progress)
            job.took_s = time.monotonic() - job.started
            if done is not None:
                done(job)
            job.state = JobState.FINISHED
        except StopRequested as error:
            job.state, job.error = JobState.CANCELLED, error
        except VastMeshError as error:
            job.state, job.error = JobState.FAILED, error
        finally:
            job.took_s = job.took_s or time.monotonic() - job.started
            if job.state is JobState.RUNNING:  # a defect of ours: say so rather than run for ever
                job.state = JobState.FAILED
                job.error = VastMeshError("The run ended in an unexpected way; the server's log says more.")
            job._done.set()
