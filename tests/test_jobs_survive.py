"""Programs that are ended in the middle: by Ctrl+C, and by kill -9."""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import psutil
import pytest

from vastmesh.core.network import Network
from vastmesh.exchange import write_network
from vastmesh.store import Store

ROOT = Path(__file__).parent.parent
MADE_UP = [sys.executable, "-m", "tests.made_up_parts"]


def until(found: Callable[[], Any], process: subprocess.Popen[Any]) -> Any:
    """What comes up sooner or later, while the program runs."""
    while not (value := found()):
        assert process.poll() is None, "it ended before"
        time.sleep(0.05)
    return value


@pytest.mark.parametrize(("parts", "presses"), [(400, 1), (400, 2)])
def test_ctrl_c_ends_a_study_with_what_is_done_and_twice_with_nothing(tmp_path: Path, parts: int, presses: int) -> None:
    file, mark = tmp_path / "empty.json", tmp_path / "mark"
    network = Network.from_items([{"kind": "bus", "id": "a", "nominal_kv": 11.0}])
    file.write_bytes(write_network(network, "Empty", "document"))
    # With two presses the last part loops: it does not listen, and is ended with its process.
    options = {"parts": parts, "slow_s": 0.2, "trouble": "mark", "at": 9, "once": str(mark)}
    if presses == 2:
        options |= {"trouble": "loop", "at": 0, "once": ""}
    told = [x for k, v in options.items() for x in ("--set", f"{k}={json.dumps(v)}")]
    arguments = [*MADE_UP, "study", str(file), "made-up-parts", *told, "--workers", "2", "--json"]
    process = subprocess.Popen(
        arguments, cwd=ROOT, stdout=subprocess.PIPE, stderr=subprocess.PIPE, start_new_session=True
    )
    workers = lambda: psutil.Process(process.pid).children()  # noqa: E731
    until(mark.exists if presses == 1 else lambda: len(workers()) == 2, process)
    children = workers()
    for _ in range(presses):
        process.send_signal(signal.SIGINT)
        time.sleep(0.5)
    out, err = process.communicate()
    assert not [c for c in children if c.is_running() and c.status() != psutil.STATUS_ZOMBIE]
    if presses == 2:
        assert process.returncode == 2
        assert b"cancelled" in err
        return
    assert process.returncode == 0, err
    found = json.loads(out)
    done = found["tables"]["squares"]
    assert 0 < len(done) < parts
    assert [r["square"] for r in done] == sorted(r["square"] for r in done)
    assert len(found["summary"]["notes"]) == parts - len(done)


@contextmanager
def service(folder: Path) -> Iterator[tuple[str, subprocess.Popen[bytes]]]:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    arguments = [*MADE_UP, "serve", "--data", str(folder), "--port", str(port), "--workers", "1"]
    environment = {**os.environ, "VASTMESH_WORKERS_READY": "0", "VASTMESH_NICE": "0"}
    process = subprocess.Popen(arguments, cwd=ROOT, stdout=subprocess.DEVNULL, env=environment)
    address = f"http://127.0.0.1:{port}/api"

    def up() -> bool:
        try:
            return bool(call(f"{address}/health"))
        except OSError:
            return False

    until(up, process)
    yield address, process
    process.kill()
    process.wait()


def call(address: str, body: Any = None) -> Any:
    data = None if body is None else json.dumps(body).encode()
    made = urllib.request.Request(address, data, {"content-type": "application/json"})
    with urllib.request.urlopen(made, timeout=300) as answer:
        return json.load(answer)


def test_a_service_killed_in_the_middle_says_so_after_its_restart_and_the_job_is_started_again(
    tmp_path: Path, demo: Network
) -> None:
    store = Store(tmp_path)
    project = store.create("Corvane Coast", demo).id
    store.close()
    with service(tmp_path) as (address, process):
        options = {"parts": 3000, "slow_s": 0.05}
        job = call(f"{address}/projects/{project}/runs", {"study": "made-up-parts", "options": options})
        until(lambda: call(f"{address}/jobs/{job['id']}")["parts_done"] > 2, process)
        children = psutil.Process(process.pid).children()
        assert children
        process.send_signal(signal.SIGKILL)
        process.wait()
        psutil.wait_procs(children)  # they notice that nobody is there any more
    with service(tmp_path) as (address, process):
        (found,) = call(f"{address}/projects/{project}/jobs")
        assert (found["id"], found["state"]) == (job["id"], "interrupted")
        assert "Start it again" in found["problem"]
        again = call(f"{address}/jobs/{job['id']}/again", {})
        until(lambda: call(f"{address}/jobs/{again['id']}")["parts_done"] > 2, process)
        states = [j["state"] for j in call(f"{address}/projects/{project}/jobs")]
        assert states == ["running", "interrupted"]
