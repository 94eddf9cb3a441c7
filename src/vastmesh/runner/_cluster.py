"""A cluster of several machines behind the same interface as the processes of this one, by Dask."""

from __future__ import annotations

import contextlib
import logging
import os
import queue
import secrets
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..core.errors import VastMeshError
from ..worker import Task, TaskError, far_stop, far_task, far_version, in_words
from ._pool import Answered, Failed, Listener, Lost, Progressed

Client = Any  # of Dask, which is installed where there is a cluster and has no types
Future = Any

_log = logging.getLogger(__name__)
SETTING = "VASTMESH_CLUSTER"
_CONNECT_S = 5.0
_LOOK_EVERY_S = 0.3
_COUNT_EVERY_S = 2.0
_TRY_EVERY_S = 5.0
_SILENT_S = 3.0  # without a scheduler, then it is lost


class NoCluster(VastMeshError):
    code = "no-cluster"

    def __init__(self, why: str) -> None:
        super().__init__(why)
        self.why = why

    def __str__(self) -> str:
        return self.why


@dataclass
class _Out:
    task: Task
    tell: Listener
    future: Future | None = None


class ClusterPool:
    """Workers that a scheduler knows. One thread talks with it, so that nobody else ever waits for the network."""

    def __init__(self, address: str) -> None:
        """Raises :class:`NoCluster` when the package for it is not installed."""
        try:
            import distributed  # noqa: F401
        except ImportError:
            raise NoCluster(
                f"{SETTING} names a cluster, but Dask is not installed here: pip install 'vastmesh[cluster]'"
            ) from None
        self.address = address
        self.trouble = ""
        self.folder: Path | None = None
        self._size = 0
        self._asked: queue.SimpleQueue[tuple[str, Any]] = queue.SimpleQueue()
        self._out: dict[str, _Out] = {}
        self._brought: dict[str, Future] = {}
        self._client: Client | None = None
        self._topic = f"vastmesh-{secrets.token_hex(4)}"
        self._tried = self._counted = self._silent_since = 0.0
        self._closed = False
        self._thread = threading.Thread(target=self._run, daemon=True, name="cluster")
        self._thread.start()

    @property
    def size(self) -> int:
        return self._size

    @property
    def place(self) -> str:
        return f"cluster {self.address}, {self._size} worker{'' if self._size == 1 else 's'}"

    def attach(self, folder: Path) -> None:
        """Where packed inputs are found."""
        self.folder = folder

    def drop(self, name: str) -> None:
        self._asked.put(("drop", name))

    def start(self, task: Task, tell: Listener) -> None:
        self._asked.put(("start", _Out(task, tell)))

    def stop(self, task: str, *, at_once: bool = False) -> None:
        self._asked.put(("stop", (task, at_once)))

    def close(self) -> None:
        self._closed = True
        self._asked.put(("", None))
        self._thread.join(_CONNECT_S + 3)

    # The thread

    def _run(self) -> None:
        doing: dict[str, Callable[[Any], None]] = {
            "start": self._start,
            "stop": self._stop,
            "drop": self._drop,
            "done": self._done,
        }
        while not self._closed:
            try:
                if self._client is None:
                    self._connect()
                self._watch()
                word, what = self._asked.get(timeout=_LOOK_EVERY_S)
                if word:
                    doing[word](what)
            except queue.Empty:
                continue
            except Exception as error:
                _log.warning("cluster %s: %s", self.address, error)
                self._lose(f"The cluster at {self.address} is lost ({_brief(error)})")
        if self._client is not None:
            with contextlib.suppress(Exception):
                self._client.close(timeout=2)

    def _connect(self) -> None:
        if time.monotonic() - self._tried < _TRY_EVERY_S and self._tried:
            return
        import distributed

        self._tried = time.monotonic()
        connect: Any = distributed.Client
        try:
            client: Client = connect(self.address, timeout=_CONNECT_S, set_as_default=False, name="vastmesh")
        except Exception as error:
            self.trouble = f"The cluster at {self.address} does not answer ({_brief(error)})"
            return
        try:
            client.get_versions(check=True)
            other = in_words(client.run(far_version))
        except Exception as error:
            other = _brief(error)
        if other:
            self.trouble = f"The cluster at {self.address} does not fit: {other}"
            client.close(timeout=1)
            return
        client.subscribe_topic(self._topic, self._progressed)
        self._client, self._counted, self._silent_since, self.trouble = client, 0.0, 0.0, ""

    def _watch(self) -> None:
        """Count the workers, and notice when the scheduler is gone."""
        client, moment = self._client, time.monotonic()
        if client is None:
            return
        if client.status == "running":
            self._silent_since = 0.0
            if moment - self._counted > _COUNT_EVERY_S:
                self._counted = moment
                self._size = sum(client.nthreads().values())
        elif not self._silent_since:
            self._silent_since = moment
        elif moment - self._silent_since > _SILENT_S:
            self._lose(f"The cluster at {self.address} is lost: its scheduler is gone")

    def _lose(self, why: str) -> None:
        client, self._client = self._client, None
        self._size, self.trouble, self._tried = 0, why, time.monotonic()
        out, self._out = self._out, {}
        self._brought = {}
        for one in out.values():
            one.tell(Lost(one.task.id, why, everywhere=True))
        if client is not None:
            with contextlib.suppress(Exception):
                client.close(timeout=1)

    def _start(self, one: _Out) -> None:
        client, task = self._client, one.task
        if client is None:
            one.tell(Lost(task.id, self.trouble or f"The cluster at {self.address} is lost", everywhere=True))
            return
        self._out[task.id] = one
        if task.inputs not in self._brought:
            assert self.folder is not None
            data = (self.folder / task.inputs).read_bytes()
            # Sent to one worker; whoever needs it later gets it from there, once.
            self._brought[task.inputs] = client.scatter(data, hash=False)
        one.future = client.submit(
            far_task, task, self._brought[task.inputs], self._topic, key=f"vastmesh-{task.id}", pure=False
        )
        one.future.add_done_callback(lambda future: self._asked.put(("done", (task.id, future))))

    def _done(self, what: tuple[str, Future]) -> None:
        ident, future = what
        one = self._out.get(ident)
        if one is None:
            return
        status = future.status
        if status == "lost" or (status != "finished" and self._client is not None and self._client.status != "running"):
            return  # the scheduler is gone: noticed by who watches
        del self._out[ident]
        if status == "finished":
            found = future.result(timeout=_CONNECT_S)
            one.tell(Failed(ident, found) if isinstance(found, TaskError) else Answered(ident, found[1], found[0]))
        elif status == "cancelled":
            one.tell(Lost(ident, "it was stopped", stopped=True))
        else:
            error = future.exception(timeout=_CONNECT_S)
            one.tell(Lost(ident, f"the worker was lost ({_brief(error)})"))

    def _stop(self, what: tuple[str, bool]) -> None:
        ident, _ = what
        one = self._out.pop(ident, None)
        if one is None or self._client is None:  # it has ended, or is lost with the rest
            return
        # What does not listen goes on over there until it is done, and its answer is thrown away.
        one.tell(Lost(ident, "it was stopped", stopped=True))
        if one.future is not None:
            one.future.cancel()
        self._client.run(far_stop, ident, on_error="ignore")

    def _drop(self, name: str) -> None:
        self._brought.pop(name, None)

    def _progressed(self, event: tuple[float, Any]) -> None:
        _, told = event
        if (one := self._out.get(told["task"])) is not None:
            one.tell(Progressed(told["task"], told["fraction"], told["doing"]))


def cluster_named() -> ClusterPool | None:
    """The cluster that ``VASTMESH_CLUSTER`` names; None when it names none."""
    address = os.environ.get(SETTING, "").strip()
    return ClusterPool(address) if address else None


def _brief(error: object) -> str:
    return (str(error).splitlines() or [type(error).__name__])[0][:200]


__all__ = ["ClusterPool", "NoCluster", "cluster_named"]
