"""Worker processes of this machine: started when they are needed, kept, watched, replaced."""

from __future__ import annotations

import contextlib
import os
import shutil
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from multiprocessing.connection import Connection, wait
from pathlib import Path
from typing import Any, Protocol

import psutil

from ..worker import Task, TaskError

_LOOK_EVERY_S = 0.25
_IDLE_S = 60.0  # after which a worker beyond the usual number is let go
_MOST_TASKS = 400  # of one worker, then it is replaced
_GROWN_MB = 700  # beyond what it had when it was new: replaced when it is idle
_GRACE_S = 0.7  # between being asked to stop and being ended
_GRACE_WITH_BEST_S = 10.0  # for a study that answers with the best so far
_NICE = 15  # below the service: the live loop goes first
_ONE_THREAD = ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS", "MKL_NUM_THREADS", "NUMBA_NUM_THREADS", "POLARS_MAX_THREADS")


@dataclass(frozen=True)
class Progressed:
    task: str
    fraction: float
    doing: str


@dataclass(frozen=True)
class Answered:
    task: str
    reply: list[bytes]
    took_s: float


@dataclass(frozen=True)
class Failed:
    task: str
    error: TaskError


@dataclass(frozen=True)
class Lost:
    """The process is gone. ``stopped``: because it was asked to stop and did not; ``everywhere``: with it all there were;
    ``hopeless``: it would only happen again."""

    task: str
    why: str
    log: str = ""
    stopped: bool = False
    everywhere: bool = False
    hopeless: bool = False


Event = Progressed | Answered | Failed | Lost
Listener = Callable[[Event], None]


class Executor(Protocol):
    """Where tasks are done: processes of this machine, or a cluster of several."""

    @property
    def size(self) -> int:
        """How many tasks are done side by side."""

    @property
    def place(self) -> str:
        """Where that is, in words."""

    @property
    def trouble(self) -> str:
        """Why nothing can be done there; blank when all is well."""

    def drop(self, name: str) -> None:
        """Let go of packed inputs."""

    def start(self, task: Task, tell: Listener) -> None:
        """Begin; exactly one of :class:`Answered`, :class:`Failed`, :class:`Lost` will be told, unless this raises."""

    def stop(self, task: str, *, at_once: bool = False) -> None:
        """Ask a task to stop; what does not listen is ended a moment later."""

    def close(self) -> None: ...


@dataclass
class _Worker:
    process: subprocess.Popen[bytes]
    line: Connection
    errors: Path
    ready: bool = False
    task: Task | None = None
    tell: Listener | None = None
    started: float = field(default_factory=time.monotonic)
    since: float = field(default_factory=time.monotonic)  # at work, or idle
    deadline: float | None = None
    why: str = ""  # it is ended
    stopped: bool = False
    greedy: bool = False  # it took too much memory
    done: int = 0
    usual_mb: float = 0.0
    sending: threading.Lock = field(default_factory=threading.Lock)

    def send(self, word: str, what: Any = None) -> None:
        with contextlib.suppress(OSError, ValueError), self.sending:  # a process that is gone is noticed by its line
            self.line.send((word, what))


class LocalPool:
    """As many processes as it is asked to use at once; one thread looks after them all. Safe for use by several threads."""

    def __init__(
        self,
        size: int | None = None,
        *,
        memory_mb: float | None = None,
        nice: int | None = None,
        folder: Path | None = None,
    ) -> None:
        """``size``: how many side by side, by default as many as cores; ``memory_mb``: of one of them, by default its share of
        three quarters of the machine's; ``folder``: for what is handed over, emptied when closed."""
        self._size = size or usual_size()
        self.memory_mb = memory_mb or max(1024.0, 0.75 * psutil.virtual_memory().total / 2**20 / (self._size + 1))
        told = os.environ.get("VASTMESH_NICE", "")
        self._nice = nice if nice is not None else int(told) if told.isdigit() else _NICE
        self._within = folder
        self._folder: Path | None = None
        self._workers: list[_Worker] = []
        self._lock = threading.RLock()
        self._wake, self._woken = socket.socketpair()
        self._closed = False
        self._serial = 0
        self._thread: threading.Thread | None = None

    @property
    def folder(self) -> Path:
        """For what is handed over; made when it is first needed."""
        with self._lock:
            if self._folder is None:
                self._folder = Path(tempfile.mkdtemp(prefix="vastmesh-", dir=self._within))
            return self._folder

    @property
    def size(self) -> int:
        return self._size

    @property
    def place(self) -> str:
        return f"this machine, {self._size} worker{'s' if self._size > 1 else ''}"

    @property
    def trouble(self) -> str:
        return ""

    @property
    def processes(self) -> list[int]:
        """Ids of the processes there are."""
        with self._lock:
            return [w.process.pid for w in self._workers]

    def bring(self, name: str, blocks: Iterable[bytes]) -> None:
        """Put packed inputs down under a name, where every worker finds them."""
        path = self.folder / name
        if not path.exists():
            part = path.with_suffix(f".{threading.get_ident()}")
            with part.open("wb") as target:
                for block in blocks:
                    target.write(block)
            part.replace(path)

    def drop(self, name: str) -> None:
        (self.folder / name).unlink(missing_ok=True)

    def warm(self, workers: int = 1) -> None:
        """Start some ahead of need, with their kernels loaded."""
        with self._lock:
            for _ in range(workers - len(self._workers)):
                self._begin(warm=True)

    def start(self, task: Task, tell: Listener) -> None:
        with self._lock:
            worker = next((w for w in self._workers if w.task is None and not w.why), None) or self._begin(warm=False)
            worker.task, worker.tell, worker.since, worker.deadline = task, tell, time.monotonic(), None
            worker.stopped = False
        try:
            worker.send("task", task)
        except Exception:  # a study that can't be sent, as one that stands in no module
            with self._lock:
                worker.task = worker.tell = None
            raise

    def stop(self, task: str, *, at_once: bool = False) -> None:
        with self._lock:
            worker = next((w for w in self._workers if w.task is not None and w.task.id == task), None)
            if worker is None or worker.task is None:
                return
            again = worker.stopped
            worker.stopped = True
            grace = _GRACE_WITH_BEST_S if worker.task.study.ends_with_best and not at_once and not again else _GRACE_S
            due = time.monotonic() + (0.0 if at_once else grace)
            worker.deadline = min(worker.deadline or due, due)
        worker.send("stop", task)
        self._nudge()

    def close(self) -> None:
        with self._lock:
            self._closed = True
        self._nudge()
        if self._thread is not None:  # it closes lines too: not at the same time
            self._thread.join(10)
        with self._lock:
            workers, self._workers = self._workers, []
        for w in workers:
            w.process.kill()
            w.line.close()
        for w in workers:
            w.process.wait()
        if self._folder is not None:
            shutil.rmtree(self._folder, ignore_errors=True)

    # One thread

    def _begin(self, *, warm: bool) -> _Worker:
        if self._closed:
            raise RuntimeError("the pool is closed")
        self._serial += 1
        ours, theirs = socket.socketpair()
        errors = self.folder / f"worker-{self._serial}.log"
        environment = {**os.environ, **dict.fromkeys(_ONE_THREAD, "1")}
        with errors.open("wb") as log:
            process = subprocess.Popen(
                [sys.executable, "-m", "vastmesh.worker", str(theirs.fileno())], pass_fds=[theirs.fileno()],
                stdin=subprocess.DEVNULL, stdout=log, stderr=log, env=environment, start_new_session=True,
            )  # fmt: skip
        theirs.close()
        with contextlib.suppress(psutil.Error, OSError):
            psutil.Process(process.pid).nice(self._nice)
        worker = _Worker(process, Connection(ours.detach()), errors)
        self._workers.append(worker)
        worker.line.send({"path": sys.path, "folder": str(self.folder), "warm": warm})
        if self._thread is None:
            self._thread = threading.Thread(target=self._look_after, daemon=True, name="workers")
            self._thread.start()
        self._nudge()
        return worker

    def _nudge(self) -> None:
        with contextlib.suppress(OSError):
            self._wake.send(b".")

    def _look_after(self) -> None:
        looked = time.monotonic()
        while not self._closed:
            with self._lock:
                lines: dict[Any, _Worker] = {w.line: w for w in self._workers}
            try:
                heard = wait([self._woken, *lines], _LOOK_EVERY_S)
            except (OSError, ValueError):  # a line was closed under it: everything is ending
                continue
            for ready in heard:
                if ready is self._woken:
                    self._woken.recv(4096)
                else:
                    self._hear(lines[ready])
            self._end_overdue()
            if time.monotonic() - looked > _LOOK_EVERY_S:
                looked = time.monotonic()
                self._look_round()

    def _hear(self, worker: _Worker) -> None:
        try:
            word, *what = worker.line.recv()
            reply = [worker.line.recv_bytes() for _ in range(what[2])] if word == "answer" else []
        except (EOFError, OSError):
            self._gone(worker)
            return
        except Exception as error:  # an error that can't be read is as good as a process gone
            worker.why = worker.why or f"what it said could not be read ({type(error).__name__})"
            worker.process.kill()
            self._gone(worker)
            return
        if word == "ready":
            worker.ready, worker.usual_mb = True, _memory_mb(worker.process.pid)
            return
        tell = worker.tell
        if worker.task is None or tell is None or what[0] != worker.task.id:
            return
        if word == "progress":
            tell(Progressed(*what))
            return
        with self._lock:
            worker.task, worker.tell, worker.since, worker.deadline = None, None, time.monotonic(), None
            worker.done += 1
            if self._outgrown(worker):
                self._retire(worker)
        tell(Answered(what[0], reply, what[1]) if word == "answer" else Failed(what[0], what[1]))

    def _outgrown(self, worker: _Worker) -> bool:
        grown = _memory_mb(worker.process.pid) - worker.usual_mb > _GROWN_MB if worker.done % 8 == 0 else False
        return worker.done >= _MOST_TASKS or grown

    def _retire(self, worker: _Worker) -> None:
        worker.send("end")
        if worker in self._workers:
            self._workers.remove(worker)
        worker.line.close()
        threading.Thread(target=worker.process.wait, daemon=True).start()  # nobody waits for it but somebody must

    def _gone(self, worker: _Worker) -> None:
        """Its line is cut: the process has ended, or is about to."""
        with self._lock:
            if worker in self._workers:
                self._workers.remove(worker)
            task, tell = worker.task, worker.tell
            worker.task = worker.tell = None
        worker.line.close()
        worker.process.kill()
        status = worker.process.wait()
        log = worker.errors.read_text(errors="replace")[-4000:] if worker.errors.exists() else ""
        worker.errors.unlink(missing_ok=True)
        if task is not None and tell is not None:
            ended = f"was ended by signal {-status}" if status < 0 else f"ended with status {status}"
            tell(
                Lost(
                    task.id,
                    worker.why or f"the worker process {ended}",
                    log,
                    stopped=worker.stopped,
                    hopeless=worker.greedy,
                )
            )

    def _end_overdue(self) -> None:
        now = time.monotonic()
        with self._lock:
            overdue = [w for w in self._workers if w.deadline is not None and now >= w.deadline]
        for w in overdue:
            w.deadline, w.why = None, "it did not stop when it was asked to"
            w.process.kill()  # its line tells the rest

    def _look_round(self) -> None:
        """End what takes too much memory, and let go of what has been idle for long."""
        now = time.monotonic()
        with self._lock:
            workers = list(self._workers)
            idle = [w for w in workers if w.task is None and w.ready and now - w.since > _IDLE_S]
            for w in idle[: max(0, len(workers) - self._size)]:
                self._retire(w)
        for w in workers:
            if w.task is not None and (mb := _memory_mb(w.process.pid)) > self.memory_mb:
                w.greedy, w.why = (
                    True,
                    f"it took {mb / 1024:.1f} GB of memory; {self.memory_mb / 1024:.1f} GB are allowed",
                )
                w.process.kill()


def usual_size() -> int:
    """Workers unless told otherwise: what ``VASTMESH_WORKERS`` says, else as many as cores."""
    told = os.environ.get("VASTMESH_WORKERS", "")
    cores = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    return max(1, int(told) if told.isdigit() else cores)


def _memory_mb(pid: int) -> float:
    try:
        return float(psutil.Process(pid).memory_info().rss) / 2**20
    except psutil.Error:
        return 0.0
