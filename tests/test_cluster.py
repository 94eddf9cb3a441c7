"""A cluster of two workers on this machine: the same answers, and what is lost is done again or says so."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import threading
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import psutil
import pytest

from tests.made_up_parts import IN_ONE, IN_PARTS, Options
from vastmesh.core.network import Network
from vastmesh.core.studies import STUDIES, Inputs
from vastmesh.core.studies.sweep import SweepOptions
from vastmesh.runner import ClusterPool, JobState, LocalPool, Runner
from vastmesh.store import JobRecord

pytestmark = pytest.mark.xdist_group("cluster")  # one after the other: the last one ends the scheduler

LONG = 300.0
ROOT = Path(__file__).parent.parent


@dataclass
class Machines:
    """A scheduler and the workers that ``vastmesh worker`` started for it."""

    address: str
    scheduler: subprocess.Popen[bytes]
    workers: subprocess.Popen[bytes]

    def at_work(self) -> list[psutil.Process]:
        """The processes that do tasks: children of those that watch them."""
        return [
            p
            for p in psutil.Process(self.workers.pid).children(recursive=True)
            if "spawn_main" in " ".join(p.cmdline())
        ]

    def end(self) -> None:
        for process in (self.workers, self.scheduler):
            for child in psutil.Process(process.pid).children(recursive=True) if process.poll() is None else []:
                child.kill()
            process.kill()
            process.wait()


@pytest.fixture(scope="module")
def machines() -> Iterator[Machines]:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    address = f"tcp://127.0.0.1:{port}"
    quiet = {"cwd": ROOT, "stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    environment = {**os.environ, "PYTHONPATH": str(ROOT), "DASK_DISTRIBUTED__WORKER__MEMORY__TERMINATE": "False"}
    scheduler = subprocess.Popen(
        [sys.executable, "-m", "dask", "scheduler", "--host", "127.0.0.1", "--port", str(port), "--no-dashboard"], **quiet,
        env=environment,
    )  # fmt: skip
    workers = subprocess.Popen(
        [sys.executable, "-m", "vastmesh.cli", "worker", address, "--workers", "2"], env=environment, **quiet
    )
    found = Machines(address, scheduler, workers)
    yield found
    found.end()


@pytest.fixture
def runner(machines: Machines, pool: LocalPool) -> Iterator[Runner]:
    cluster = ClusterPool(machines.address)
    while cluster.size < 2:  # workers come one by one
        assert machines.scheduler.poll() is None
        assert machines.workers.poll() is None
        threading.Event().wait(0.1)
    found = Runner(pool=pool, cluster=cluster)
    yield found
    found.close()


def squares(runner: Runner, ident: str) -> list[float]:
    return list(runner.result(ident)[1].tables["squares"]["square"])


def until_some_are_done(runner: Runner, ident: str) -> None:
    seen = threading.Event()

    def told(record: JobRecord) -> None:
        if record.id == ident and record.parts_done > 3:
            seen.set()

    forget = runner.listen(told)
    assert seen.wait(LONG)
    forget()


def test_a_cluster_gives_what_this_machine_gives(runner: Runner, demo: Network) -> None:
    job = runner.submit(IN_PARTS, Inputs(Network()), Options(parts=60, seed=3))
    assert job.wait(LONG)
    assert job.state is JobState.FINISHED, job.record.problem
    assert job.record.ran_on.startswith("cluster tcp://127.0.0.1")
    here = IN_PARTS.run(Inputs(Network()), Options(parts=60, seed=3), lambda share, words: None)
    _, there = runner.result(job.id)
    assert list(there.tables["squares"]["drawn"]) == list(here.tables["squares"]["drawn"])

    options = SweepOptions(steps=25, automatic="both")
    job = runner.submit(STUDIES["sweep"], Inputs(demo.copy()), options)
    assert job.wait(LONG)
    local = STUDIES["sweep"].run(Inputs(demo.copy()), options, lambda share, words: None)
    _, far = runner.result(job.id)
    for c in local.tables["points"].columns:
        assert list(far.tables["points"][c.name]) == list(c.values), c.name

    # In one piece: refused data, nonsense and a cancel come back as they do from processes.
    bad = runner.submit(STUDIES["sweep"], Inputs(demo.copy()), SweepOptions(quantity="conditions", conditions=("no",)))
    wrong = runner.submit(IN_ONE, Inputs(Network()), Options(trouble="nonsense"))
    assert bad.wait(LONG)
    assert wrong.wait(LONG)
    assert "name an existing condition" in str(bad.record.problem)
    assert (wrong.state, wrong.record.code) == (JobState.FAILED, "unexpected")
    endless = runner.submit(IN_ONE, Inputs(Network()), Options(parts=100_000, slow_s=0.05))
    while endless.fraction == 0.0:
        assert not endless.wait(0.05)
    runner.cancel(endless.id)
    assert endless.wait(LONG)
    assert endless.state is JobState.CANCELLED


def test_a_worker_that_is_killed_loses_nothing(runner: Runner, machines: Machines) -> None:
    job = runner.submit(IN_PARTS, Inputs(Network()), Options(parts=120, slow_s=0.05))
    until_some_are_done(runner, job.id)
    os.kill(machines.at_work()[0].pid, signal.SIGKILL)
    assert job.wait(LONG)
    assert job.state is JobState.FINISHED, job.record.problem
    assert squares(runner, job.id) == [float(n * n) for n in range(120)]


def test_a_lost_scheduler_ends_in_a_clear_state_and_the_job_goes_on_here(runner: Runner, machines: Machines) -> None:
    job = runner.submit(IN_PARTS, Inputs(Network()), Options(parts=80, slow_s=0.1))
    until_some_are_done(runner, job.id)
    machines.scheduler.send_signal(signal.SIGKILL)
    assert job.wait(LONG)
    assert job.state is JobState.INTERRUPTED
    assert job.record.code == "cluster-lost"
    assert "It can go on on this machine" in str(job.record.problem)
    done = job.record.parts_done
    assert 0 < done < 80
    runner.go_on(job.id)
    assert job.wait(LONG)
    assert job.state is JobState.FINISHED, job.record.problem
    assert job.record.parts_done == 80
    assert squares(runner, job.id) == [float(n * n) for n in range(80)]


def test_a_cluster_that_is_not_there_is_told_and_the_job_goes_on_here(pool: LocalPool) -> None:
    runner = Runner(pool=pool, cluster=ClusterPool("tcp://127.0.0.1:9"))
    job = runner.submit(IN_PARTS, Inputs(Network()), Options(parts=3))
    assert job.wait(LONG)
    assert job.state is JobState.INTERRUPTED
    assert "does not answer" in str(job.record.problem)
    runner.go_on(job.id)
    assert job.wait(LONG)
    assert job.state is JobState.FINISHED
    runner.close()
