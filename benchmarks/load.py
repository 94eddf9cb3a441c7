"""Many people and studies at once: how long an edit and a trivial address take. Kinds of ``run.py``.

People are connections that edit a load of their own about every two seconds; they don't follow what others do.
"""

from __future__ import annotations

import http.client
import json
import os
import statistics
import tempfile
import threading
import time
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from tools.served import served

_FOR_S = 15.0
_THINK_S = 2.0
_PEOPLE = (1, 20, 50)


class _Person:
    """One connection, and how long its edits took."""

    def __init__(self, address: str, project: str, load: str, number: int) -> None:
        place = urlsplit(address)
        self.line = http.client.HTTPConnection(place.hostname or "", place.port, timeout=120)
        self.url, self.load, self.number = f"/api/projects/{project}", load, number
        self.revision, self.rows, self.asked = 0, "", 0.0
        self.ms: list[float] = []

    def ask(self, method: str, url: str, body: Any = None) -> Any:
        data = None if body is None else json.dumps(body)
        if time.monotonic() - self.asked > 2:  # the service lets go of idle connections
            self.line.close()
        self.asked = time.monotonic()
        self.line.request(method, url, data, {"content-type": "application/json"} if data else {})
        answer = self.line.getresponse()
        text = answer.read()
        assert answer.status < 400, text[:300]
        return json.loads(text)

    def edit(self, value: float) -> None:
        change = {"op": "update", "id": self.load, "values": {"active_power_mw": round(value, 4)}}
        body = {"base_revision": self.revision, "label": "Set", "changes": [change]}
        started = time.perf_counter()
        found = self.ask("POST", f"{self.url}/changes?rows={self.rows}", body)
        self.ms.append((time.perf_counter() - started) * 1e3)
        self.revision, self.rows = found["revision"], found["live"]["rows"]

    def work(self, until: float, pause: float) -> None:
        time.sleep(pause * (self.number % 10) / 10)
        n = 0
        while time.monotonic() < until:
            n += 1
            self.edit(0.05 + 0.001 * (n % 40))
            time.sleep(pause)


def _quantile(ms: list[float], q: float) -> float:
    return sorted(ms)[min(int(q * len(ms)), len(ms) - 1)]


def measure_load(n_bus: int) -> dict[str, Any]:
    """``n_bus``: 0 for the demonstration. One, twenty and fifty people, without and with two studies under way."""
    import psutil
    from synthetic import synthetic

    from vastmesh.cli import demo_network
    from vastmesh.store import Store

    network = synthetic(n_bus) if n_bus else demo_network()[0]
    loads = [i.id for i in network.items.values() if i.kind == "load"]
    os.environ["PYTHONPATH"] = os.pathsep.join([str(Path(__file__).parent), str(Path(__file__).parents[1])])
    os.environ |= {"VASTMESH_NICE": "15", "VASTMESH_WORKERS": "2"}  # as it is in use
    found: dict[str, Any] = {"buses": n_bus or "demo"}
    with tempfile.TemporaryDirectory() as folder:
        store = Store(Path(folder))
        project = store.create("bench", network).id
        store.close()
        with served(Path(folder), module="busy") as address:
            process = next(p for p in psutil.Process().children() if "busy" in " ".join(p.cmdline()))
            first = _Person(address, project, loads[0], 0)
            first.edit(0.05)
            for studies in (0, 2):
                jobs = [
                    first.ask("POST", f"{first.url}/runs", {"study": "busy", "options": {"seconds": 900}})["id"]
                    for _ in range(studies)
                ]
                time.sleep(1)
                for people in _PEOPLE:
                    edits, pings = _together(address, project, loads, people)
                    key = f"{people} people{', 2 studies' if studies else ''}"
                    found[f"{key}: p50"] = statistics.median(edits)
                    found[f"{key}: p95"] = _quantile(edits, 0.95)
                    found[f"{key}: p99"] = _quantile(edits, 0.99)
                    found[f"{key}: ping p95"] = _quantile(pings, 0.95)
                for job in jobs:
                    first.ask("DELETE", f"/api/jobs/{job}")
            found["service, MB"] = process.memory_info().rss / 1e6
    return found


def _together(address: str, project: str, loads: list[str], people: int) -> tuple[list[float], list[float]]:
    until = time.monotonic() + _FOR_S
    crowd = [_Person(address, project, loads[k % len(loads)], k) for k in range(people)]
    look = _Person(address, project, loads[0], 0)
    opened = look.ask("GET", f"/api/projects/{project}/live")
    for one in crowd:
        one.revision, one.rows = opened["revision"], opened["rows"]
    threads = [threading.Thread(target=one.work, args=(until, _THINK_S if people > 1 else 0.1)) for one in crowd]
    for t in threads:
        t.start()
    pings = []
    while time.monotonic() < until:
        started = time.perf_counter()
        look.ask("GET", "/api/health")
        pings.append((time.perf_counter() - started) * 1e3)
        time.sleep(0.05)
    for t in threads:
        t.join()
    return [ms for one in crowd for ms in one.ms], pings


def measure_parts(workers: int) -> dict[str, Any]:
    """A sweep of 200 points and a study of parts on so many workers, warm; what handing out costs; memory of many parts."""
    import psutil
    from busy import Options, in_parts
    from synthetic import synthetic

    from vastmesh.core.network import Network
    from vastmesh.core.studies import STUDIES, Inputs
    from vastmesh.runner import LocalPool, Runner

    pool = LocalPool(workers)
    runner = Runner(pool=pool)
    network = synthetic(1000)
    sweep, parts = STUDIES["sweep"], in_parts()

    def seconds(study: Any, inputs: Any, options: Any) -> float:
        took = []
        for _ in range(3):
            job = runner.submit(study, inputs, options, project="bench")
            job.wait(600)
            assert job.record.state == "finished", job.record.problem
            took.append(job.record.took_s)
        return min(took)

    found: dict[str, Any] = {"workers": workers}
    options = sweep.options(steps=200, start=0.5, stop=0.9, automatic="off")
    found["sweep of 200, s"] = seconds(sweep, Inputs(network), options)
    found["100 parts of a million turns, s"] = seconds(parts, Inputs(Network()), Options(parts=100, turns=1_000_000))
    before = psutil.Process().memory_info().rss
    found["10,000 parts of nothing, s"] = seconds(parts, Inputs(Network()), Options(parts=10_000, turns=1))
    found["each part, ms"] = found["10,000 parts of nothing, s"] / 10
    found["memory more, MB"] = (psutil.Process().memory_info().rss - before) / 1e6
    runner.close()
    pool.close()
    return found
