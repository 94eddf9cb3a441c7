"""Interruptions of feeders with ties, simulated years by processes, and the board of the demonstration."""

from __future__ import annotations

import time
from typing import Any

from synthetic import synthetic

from vastmesh.core.network import Network


def tied(n_bus: int) -> Network:
    """Feeders with a breaker at the head, a disconnector before every third node, and ties between the ends of neighbours."""
    items = []
    for item in synthetic(n_bus).to_items():
        if item["kind"] == "line" and item["id"].startswith("F"):
            k = int(item["id"].rsplit(".", 1)[1])
            gear = "breaker" if k == 0 else "disconnector" if k % 3 == 0 else None
            items.append({**item, "from_gear": gear} if gear else item)
        else:
            items.append(item)
    ends = sorted({i["bus"] for i in items if i["kind"] == "load" and i["bus"].endswith(".10")})
    for a, b in zip(ends[::2], ends[1::2], strict=False):
        if a.split(".")[0] == b.split(".")[0]:
            items.append({"kind": "switch", "id": f"tie {a} {b}", "from_bus": a, "to_bus": b, "closed": False,
                          "device": "disconnector"})  # fmt: skip
    return Network.from_items(items)


def measure_failures(n_bus: int) -> dict[str, Any]:
    """Seconds for every failure of a network, with transfers checked by load flows and without limit; overlaps left out."""
    from vastmesh.core.studies import Inputs
    from vastmesh.core.studies.failures import Course, Ready, Tally, every

    net, found = tied(n_bus), {}
    for transfers in ("unlimited", "checked"):
        course = Course(transfers=transfers, overlap_from_kv=None)
        took = []
        for _ in range(2 if n_bus <= 1000 or transfers == "unlimited" else 1):
            started = time.perf_counter()
            ready = Ready(Inputs(net), course)
            tally = Tally(ready.people, course.sustained_min).take(every(ready))
            took.append(time.perf_counter() - started)
        found[transfers] = min(took)
        solved = ready.capacity.count if ready.capacity else 0
    lines = sum(1 for e in net.elements() if e.kind == "line")
    return {"buses": n_bus, "lines": lines, "sections": ready.graph.n, "elements told": len(tally.elements),
            "seconds, transfers without limit": found["unlimited"], "seconds, transfers checked": found["checked"],
            "load flows": solved}  # fmt: skip


def measure_years(workers: int) -> dict[str, Any]:
    """Years a second of 1,000 buses through the runner, with so many processes that are warm."""
    from vastmesh.core.studies import STUDIES, Inputs
    from vastmesh.runner import LocalPool, Runner

    net, study = tied(1000), STUDIES["failure_years"]
    pool = LocalPool(workers)
    runner = Runner(pool=pool)
    took, years = [], 40_000
    options = study.options(years=years, stops=False, transfers="unlimited", overlap_from_kv=None)
    for _ in range(3):
        job = runner.submit(study, Inputs(net), options, project="bench")
        job.wait(900)
        assert job.record.state == "finished", job.record.problem
        took.append(job.record.took_s)
    runner.close()
    pool.close()
    return {"workers": workers, "years": years, "seconds": min(took), "years a second": years / min(took)}


def measure_board(_n: int) -> dict[str, Any]:
    """Seconds for the board of the demonstration: its ways, ten years, four conditions, in two processes."""
    import runpy
    from pathlib import Path

    from vastmesh.core.studies import STUDIES, Inputs
    from vastmesh.runner import LocalPool, Runner

    net = runpy.run_path(str(Path(__file__).parents[1] / "demo" / "corvane_coast.py"))["network"]()
    study = STUDIES["board"]
    pool = LocalPool(2)
    runner = Runner(pool=pool)
    job = runner.submit(study, Inputs.of(net), study.options(every=1), project="bench")
    job.wait(1800)
    assert job.record.state == "finished", job.record.problem
    took, (_, result) = job.record.took_s, runner.result(job.id)
    runner.close()
    pool.close()
    return {
        "ways": len(result.tables["ways"]),
        "states": result.summary["solved"],
        "years": 10,
        "conditions": 4,
        "seconds": took,
    }
