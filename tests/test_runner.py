"""Runs beside the service: they finish, fail with a reason, and can be cancelled."""

from __future__ import annotations

import threading

import pytest

from vastmesh.core.network import Network
from vastmesh.core.studies import Inputs
from vastmesh.core.studies.sweep import SweepOptions
from vastmesh.runner import Job, JobState, Runner


@pytest.fixture
def runner() -> Runner:
    return Runner()


def test_a_run_finishes_with_its_result_and_leaves_the_network_alone(runner: Runner, demo: Network) -> None:
    before = demo.to_items()
    job = runner.submit("sweep", Inputs(demo.copy()), SweepOptions(steps=3))
    assert job.wait(30)
    assert job.state is JobState.FINISHED
    assert job.result is not None
    assert len(job.result.tables["points"]) == 6
    assert job.fraction == 1.0
    assert demo.to_items() == before
    assert runner.job(job.id) is job


def test_a_run_that_can_t_be_carried_out_says_why(runner: Runner, demo: Network) -> None:
    job = runner.submit("sweep", Inputs(demo.copy()), SweepOptions(quantity="conditions", conditions=("nowhere",)))
    assert job.wait(30)
    assert job.state is JobState.FAILED
    assert "name an existing condition" in str(job.error)


def test_a_cancelled_run_stops_and_keeps_nothing(runner: Runner, demo: Network) -> None:
    kept: list[Job] = []
    job = runner.submit("sweep", Inputs(demo.copy()), SweepOptions(steps=200), kept.append)
    job.cancel()
    assert job.wait(30)
    assert job.state is JobState.CANCELLED
    assert job.result is None
    assert not kept


def test_a_defect_in_a_run_ends_it_and_does_not_hang(runner: Runner, demo: Network) -> None:
    def broken(job: Job) -> None:
        raise ZeroDivisionError

    job = runner.submit("sweep", Inputs(demo.copy()), SweepOptions(steps=2), broken)
    assert job.wait(30)
    assert job.state is JobState.FAILED
    assert "unexpected" in str(job.error)


def test_several_runs_wait_for_each_other(runner: Runner, demo: Network) -> None:
    done = threading.Semaphore(0)
    jobs = [
        runner.submit("sweep", Inputs(demo.copy()), SweepOptions(steps=2), lambda j: done.release()) for _ in range(5)
    ]
    assert all(j.wait(60) for j in jobs)
    assert all(done.acquire(timeout=1) for _ in jobs)
    runner.close()
