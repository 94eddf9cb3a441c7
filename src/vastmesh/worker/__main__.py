"""A worker process of the service: ``python -m vastmesh.worker FD``. It ends when the other end of its socket is gone."""

from __future__ import annotations

import faulthandler
import os
import queue
import sys
import threading
import time
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

_TELL_EVERY_S = 0.15


def main() -> None:
    faulthandler.enable()
    line = Connection(int(sys.argv[1]))
    hello: dict[str, Any] = line.recv()
    sys.path[:] = hello["path"]
    _serve(line, Path(hello["folder"]), warm=hello["warm"])


def _serve(line: Connection, folder: Path, *, warm: bool) -> None:
    from ..core.studies import StopRequested
    from . import Bench, Task, TaskError

    if warm:
        from ..core.studies.warm import warm_up

        warm_up()
    asked: queue.SimpleQueue[Any] = queue.SimpleQueue()
    stop: set[str] = set()
    sending = threading.Lock()

    def listen() -> None:
        while True:
            try:
                word, what = line.recv()
            except (EOFError, OSError):
                os._exit(0)  # the service is gone: nobody wants an answer
            if word == "stop":
                stop.add(what)
            else:
                asked.put((word, what))

    def send(*message: Any) -> None:
        with sending:
            line.send(message)

    threading.Thread(target=listen, daemon=True).start()
    bench = Bench(lambda name: (folder / name).open("rb"))
    send("ready", os.getpid())
    while True:
        word, what = asked.get()
        if word == "end":
            break
        task: Task = what
        told = 0.0

        def tell(fraction: float, doing: str) -> None:
            nonlocal told
            if task.id in stop:  # noqa: B023  of the task at hand
                raise StopRequested
            if (now := time.monotonic()) - told > _TELL_EVERY_S:
                told = now
                send("progress", task.id, float(fraction), str(doing)[:200])  # noqa: B023

        started = time.monotonic()
        try:
            reply = bench.carry_out(task, tell)
        except TaskError as error:
            send("failed", task.id, error)
        else:
            with sending:
                line.send(("answer", task.id, time.monotonic() - started, len(reply)))
                for piece in reply:
                    line.send_bytes(piece)
        stop.discard(task.id)


if __name__ == "__main__":
    main()
