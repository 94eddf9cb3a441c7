"""Jobs beside the service: done in worker processes, whole or in parts; whatever goes wrong, each ends and says why."""

from __future__ import annotations

import os
import signal
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import psutil
import pytest

from tests.made_up_parts import IN_ONE, IN_PARTS, Options
from vastmesh.core.network import Network
from vastmesh.core.studies import STUDIES, Inputs
from vastmesh.core.studies.sweep import SweepOptions
from vastmesh.runner import Job, JobState, LocalPool, Runner
from vastmesh.store import JobRecord, Store, StoreUnusable
from vastmesh.worker._packing import pack_answer, unpack_answer

pytestmark = pytest.mark.xdist_group("runner")  # its processes are started once

LONG = 300.0  # for what takes no time unless the machine is busy


@pytest.fixture(scope="module")
def two_workers() -> Iterator[LocalPool]:
    pool = LocalPool(2, nice=0)
    yield pool
    pool.close()


@pytest.fixture
def runner(two_workers: LocalPool) -> Iterator[Runner]:
    found = Runner(pool=two_workers)
    yield found
    found.close()


@pytest.fixture
def store(tmp_path: Path) -> Iterator[Store]:
    found = Store(tmp_path)
    yield found
    found.close()


@pytest.fixture
def keeping(store: Store, two_workers: LocalPool) -> Iterator[tuple[Runner, Store, str]]:
    """A runner that keeps book, and a project."""
    found = Runner(store.jobs, two_workers)
    yield found, store, store.create("Made up", Network()).id
    found.close()


def in_parts(runner: Runner, project: str = "", **options: Any) -> Job:
    return runner.submit(IN_PARTS, Inputs(Network()), Options(**options), project=project)


def in_one(runner: Runner, project: str = "", **options: Any) -> Job:
    return runner.submit(IN_ONE, Inputs(Network()), Options(**options), project=project)


def ended(job: Job) -> JobState:
    assert job.wait(LONG)
    return job.state


def until(runner: Runner, wanted: Callable[[JobRecord], bool], job: Job) -> None:
    """Wait for a step of a job."""
    seen = threading.Event()
    forget = runner.listen(lambda r: seen.set() if r.id == job.id and wanted(r) else None)
    if not wanted(runner.record(job.id)):
        assert seen.wait(LONG)
    forget()


def column(runner: Runner, job: Job, name: str = "square") -> list[float]:
    return list(runner.result(job.id)[1].tables["squares"][name])


# What is asked comes back


def test_a_study_in_parts_comes_back_whole_and_in_order(runner: Runner) -> None:
    job = in_parts(runner, parts=50)
    assert ended(job) is JobState.FINISHED
    assert column(runner, job) == [float(n * n) for n in range(50)]
    assert (job.record.parts, job.record.parts_done, job.record.missing, job.fraction) == (50, 50, 0, 1.0)


def test_one_worker_and_two_give_the_same_answer_to_the_last_bit(two_workers: LocalPool) -> None:
    found = []
    alone = LocalPool(1, nice=0)
    for pool in (alone, two_workers, two_workers):
        one = Runner(pool=pool)
        job = in_parts(one, parts=40, seed=7)
        assert ended(job) is JobState.FINISHED
        found.append(column(one, job, "drawn"))
        one.close()
    alone.close()
    here = IN_PARTS.run(Inputs(Network()), Options(parts=40, seed=7), lambda share, words: None)
    assert found[0] == found[1] == found[2] == list(here.tables["squares"]["drawn"])


@pytest.mark.parametrize("automatic", ["on", "both"])
def test_a_sweep_by_workers_is_the_sweep_done_here(runner: Runner, demo: Network, automatic: str) -> None:
    options = SweepOptions(steps=27, automatic=automatic)
    before = demo.to_items()
    job = runner.submit(STUDIES["sweep"], Inputs(demo.copy()), options)
    assert ended(job) is JobState.FINISHED
    here = STUDIES["sweep"].run(Inputs(demo.copy()), options, lambda share, words: None)
    _, there = runner.result(job.id)
    for name, table in here.tables.items():
        for c in table.columns:
            assert list(there.tables[name][c.name]) == pytest.approx(list(c.values), nan_ok=True, abs=0), (name, c.name)
    assert there.account == here.account
    assert demo.to_items() == before


def test_no_parts_at_all_is_an_answer(runner: Runner) -> None:
    job = in_parts(runner, parts=0)
    assert ended(job) is JobState.FINISHED
    assert column(runner, job) == []


def test_parts_that_are_quick_go_out_many_at_a_time_and_memory_stays_flat(runner: Runner) -> None:
    ended(in_parts(runner, parts=300))
    before = psutil.Process().memory_info().rss
    job = in_parts(runner, parts=10_000, size=50)  # 4 MB of answers
    assert ended(job) is JobState.FINISHED
    assert job.serial < 1_500
    assert column(runner, job)[-1] == 9_999.0**2
    assert psutil.Process().memory_info().rss - before < 100e6


def test_no_part_is_begun_when_what_is_there_is_enough(runner: Runner) -> None:
    job = in_parts(runner, parts=4000, slow_s=0.05, enough=3)
    assert ended(job) is JobState.FINISHED
    assert 3 <= len(column(runner, job)) < 4000
    assert job.record.parts == job.record.parts_done
    assert not job.record.missing
    notes = runner.result(job.id)[1].account.notes
    assert all("not needed" in n for n in notes)
    here = IN_PARTS.run(Inputs(Network()), Options(parts=40, enough=3), lambda share, words: None)
    assert here.summary == {"parts": 3.0}


def test_what_is_there_so_far_can_be_looked_at_in_order(runner: Runner) -> None:
    job = in_parts(runner, parts=400, slow_s=0.05)
    until(runner, lambda r: r.partial, job)
    so_far = column(runner, job)
    assert 0 < len(so_far) < 400
    assert so_far == sorted(so_far)
    runner.cancel(job.id)
    assert ended(job) is JobState.CANCELLED
    assert job.record.partial  # what was done can still be looked at


# What goes wrong


@pytest.mark.parametrize(("trouble", "words"), [
    ("raise", "unexpected"), ("refuse", "choose another"), ("kill", "signal 9"), ("nonsense", "unexpected"),
])  # fmt: skip
def test_a_part_that_fails_is_told_and_the_others_stay(runner: Runner, trouble: str, words: str) -> None:
    job = in_parts(runner, parts=30, trouble=trouble)
    assert ended(job) is JobState.FINISHED
    assert column(runner, job) == [float(n * n) for n in range(30) if n != 7]
    notes = runner.result(job.id)[1].account.notes
    assert len(notes) == 1
    assert notes[0].startswith("7: ")
    assert words in notes[0]
    assert job.record.missing == 1
    assert "part 8" in job.record.log
    if trouble == "raise":
        assert "ZeroDivisionError: as it was told to" in job.record.log


def test_a_part_whose_worker_dies_once_is_done_again(runner: Runner, tmp_path: Path) -> None:
    job = in_parts(runner, parts=30, trouble="kill_once", once=str(tmp_path / "died"))
    assert ended(job) is JobState.FINISHED
    assert column(runner, job) == [float(n * n) for n in range(30)]
    assert "signal 9" in job.record.log


def test_all_workers_killed_in_the_middle_lose_nothing(runner: Runner, two_workers: LocalPool) -> None:
    job = in_parts(runner, parts=100, slow_s=0.02)
    until(runner, lambda r: r.parts_done > 5, job)
    for pid in two_workers.processes:
        os.kill(pid, signal.SIGKILL)
    assert ended(job) is JobState.FINISHED
    assert column(runner, job) == [float(n * n) for n in range(100)]


def test_no_part_with_an_answer_is_a_failure(runner: Runner) -> None:
    job = in_parts(runner, parts=1, trouble="raise", at=0)
    assert ended(job) is JobState.FAILED
    assert "None of its 1 parts" in str(job.record.problem)


@pytest.mark.parametrize(("trouble", "words"), [("plan", "choose another"), ("join", "unexpected")])
def test_a_plan_or_a_join_that_fails_says_why(runner: Runner, trouble: str, words: str) -> None:
    job = in_parts(runner, trouble=trouble)
    assert ended(job) is JobState.FAILED
    assert words in str(job.record.problem)


@pytest.mark.parametrize(("trouble", "words"), [
    ("raise", "unexpected"), ("nonsense", "unexpected"), ("kill", "signal 9"),
])  # fmt: skip
def test_a_study_in_one_piece_that_fails_says_why(runner: Runner, trouble: str, words: str) -> None:
    job = in_one(runner, trouble=trouble)
    assert ended(job) is JobState.FAILED
    assert words in str(job.record.problem)
    assert job.record.log


def test_a_study_in_one_piece_whose_worker_dies_once_is_done_again(runner: Runner, tmp_path: Path) -> None:
    assert ended(in_one(runner, trouble="kill_once", once=str(tmp_path / "died"), parts=1)) is JobState.FINISHED


def test_what_leaks_is_ended_before_the_machine_is(tmp_path: Path) -> None:
    pool = LocalPool(1, memory_mb=600, nice=0)
    one = Runner(pool=pool)
    job = in_parts(one, parts=10, trouble="leak")
    assert ended(job) is JobState.FINISHED
    assert "memory" in one.result(job.id)[1].account.notes[0]
    assert column(one, job) == [float(n * n) for n in range(10) if n != 7]
    one.close()
    pool.close()


def test_data_that_does_not_fit_is_told_with_its_remedy(runner: Runner, demo: Network) -> None:
    options = SweepOptions(quantity="conditions", conditions=("nowhere",))
    job = runner.submit(STUDIES["sweep"], Inputs(demo.copy()), options)
    assert ended(job) is JobState.FAILED
    assert "name an existing condition" in str(job.record.problem)
    assert job.record.code == "invalid-fields"


# Cancelling


def test_cancelling_what_waits_does_not_begin_it(runner: Runner) -> None:
    busy = [in_parts(runner, parts=200, slow_s=0.2) for _ in range(2)]
    waiting = in_one(runner, parts=200, slow_s=0.1)
    runner.cancel(waiting.id)
    assert ended(waiting) is JobState.CANCELLED
    for job in busy:
        runner.cancel(job.id)
        assert ended(job) is JobState.CANCELLED


def test_cancelling_what_listens(runner: Runner) -> None:
    job = in_one(runner, parts=3000, slow_s=0.1)
    until(runner, lambda r: r.state == "running" and r.fraction > 0, job)
    runner.cancel(job.id)
    assert ended(job) is JobState.CANCELLED
    assert not job.record.has_result


@pytest.mark.parametrize("begin", [in_one, in_parts])
def test_what_does_not_listen_is_ended_with_its_process(
    runner: Runner, two_workers: LocalPool, begin: Callable[..., Job]
) -> None:
    job = begin(runner, trouble="loop", at=0, parts=5)
    until(runner, lambda r: r.state == "running" and (r.parts == 0 or r.parts_done == 4), job)
    runner.cancel(job.id)
    assert ended(job) is JobState.CANCELLED
    assert ended(in_parts(runner)) is JobState.FINISHED


def test_cancelling_while_it_is_joined(runner: Runner) -> None:
    job = in_parts(runner, trouble="slow_join", at=-1)
    until(runner, lambda r: r.state == "joining", job)
    runner.cancel(job.id)
    assert ended(job) is JobState.CANCELLED


def test_stopping_keeps_what_is_done(runner: Runner) -> None:
    job = in_parts(runner, parts=300, slow_s=0.05)
    until(runner, lambda r: r.parts_done >= 3, job)
    runner.stop(job.id)
    assert ended(job) is JobState.FINISHED
    done = column(runner, job)
    assert 3 <= len(done) < 300
    notes = runner.result(job.id)[1].account.notes
    assert len(notes) == 300 - len(done)
    assert all("stopped" in n for n in notes)


# Side by side


def test_two_jobs_of_one_project_and_one_of_another_share_the_workers(runner: Runner) -> None:
    first = [in_parts(runner, project="one", parts=60, slow_s=0.1) for _ in range(2)]
    other = in_parts(runner, project="other", parts=3, slow_s=0.01)
    assert ended(other) is JobState.FINISHED
    assert not any(j.record.ended for j in first)  # it did not wait for them
    for job in first:
        runner.cancel(job.id)


def test_a_quick_study_does_not_wait_for_long_ones_in_one_piece(runner: Runner, demo: Network) -> None:
    long = [in_one(runner, project="one", parts=10_000, slow_s=0.1) for _ in range(3)]
    until(runner, lambda r: r.state == "running", long[1])
    quick = STUDIES["linear_flow"]
    job = runner.submit(quick, Inputs(demo.copy()), quick.options(), project="one")
    assert ended(job) is JobState.FINISHED
    assert not any(j.record.ended for j in long)
    for j in long:
        runner.cancel(j.id)
        assert ended(j) is JobState.CANCELLED


def test_inputs_are_packed_once_for_a_revision(runner: Runner, two_workers: LocalPool, demo: Network) -> None:
    inputs = Inputs(demo.copy(), revision=3)
    jobs = [runner.submit(STUDIES["sweep"], inputs, SweepOptions(steps=2), project="p") for _ in range(3)]
    assert all(ended(j) is JobState.FINISHED for j in jobs)
    assert len(list(two_workers.folder.glob("in-p-3-*"))) == 1


# Kept


def test_what_ends_is_on_disk_with_all_that_is_needed_to_repeat_it(keeping: tuple[Runner, Store, str]) -> None:
    runner, store, project = keeping
    job = in_parts(runner, project, parts=5)
    assert ended(job) is JobState.FINISHED
    (found,) = store.jobs.of(project)
    assert (found.state, found.study, found.options["parts"], found.parts_done) == ("finished", "made-up-parts", 5, 5)
    assert found.ran_on.startswith("this machine")
    other = Runner(store.jobs, runner.pool)
    assert list(other.result(job.id)[1].tables["squares"]["square"]) == [0.0, 1.0, 4.0, 9.0, 16.0]
    assert [r.id for r in other.records(project)] == [job.id]
    other.close()


def test_a_result_that_is_to_be_kept_becomes_a_run_whole(keeping: tuple[Runner, Store, str]) -> None:
    runner, store, project = keeping
    job = runner.submit(
        IN_PARTS, Inputs(Network(), revision=4), Options(parts=5), project=project, keep="Squares", note="n"
    )
    assert ended(job) is JobState.FINISHED
    (run,) = store.runs(project)
    assert (run.id, run.name, run.note, run.revision) == (job.record.kept, "Squares", "n", 4)
    assert store.run(project, run.id)[1].facts["options"]["parts"] == 5


def test_what_was_under_way_when_the_service_ended_is_interrupted(store: Store, two_workers: LocalPool) -> None:
    project = store.create("Made up", Network()).id
    first = Runner(store.jobs, two_workers)
    job = in_parts(first, project, parts=300, slow_s=0.1)
    until(first, lambda r: r.parts_done > 0, job)
    first.close()
    assert store.jobs.of(project)[0].state == "interrupted"
    store.jobs.write(JobRecord("killed", project, "sweep", 0, "now", state="running"))  # as kill -9 leaves it
    second = Runner(store.jobs, two_workers)
    states = {r.id: (r.state, r.problem) for r in second.records(project)}
    assert {s for s, _ in states.values()} == {"interrupted"}
    assert "Start it again" in str(states["killed"][1])
    second.close()


def test_what_ended_is_forgotten_by_number_and_what_is_under_way_never(store: Store) -> None:
    project = store.create("Made up", Network()).id
    store.jobs.write(JobRecord("waits", project, "sweep", 0, "now", at="2020-01-01"))
    for n in range(60):
        record = JobRecord(f"job {n}", project, "sweep", 0, "now", state="finished", at=f"2999-01-01T00:00:{n:02}")
        store.jobs.write(record, (b"", b""))
    found = [r.id for r in store.jobs.of(project)]
    assert len(found) == 41
    assert "waits" in found
    assert "job 59" in found
    assert "job 0" not in found


def test_a_full_disk_keeps_the_result_in_memory_and_writes_it_when_there_is_room(
    keeping: tuple[Runner, Store, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    runner, store, project = keeping
    write = store.jobs.write

    def full(record: JobRecord, result: tuple[bytes, bytes] | None = None) -> None:
        if record.ended:
            raise StoreUnusable("full", "The database")
        write(record, result)

    monkeypatch.setattr(store.jobs, "write", full)
    job = in_parts(runner, project, parts=4)
    assert ended(job) is JobState.FINISHED
    assert "The disk" in str(job.record.problem)
    assert column(runner, job) == [0.0, 1.0, 4.0, 9.0]
    assert [r.state for r in runner.records(project)] == ["finished"]
    monkeypatch.setattr(store.jobs, "write", write)
    assert ended(in_parts(runner, project, parts=2)) is JobState.FINISHED
    assert store.jobs.result(job.id) is not None
    assert runner.record(job.id).problem is None


def test_a_job_that_can_t_be_written_down_is_not_begun(
    keeping: tuple[Runner, Store, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    runner, store, project = keeping

    def full(record: JobRecord, result: tuple[bytes, bytes] | None = None) -> None:
        raise StoreUnusable("full", "The database")

    monkeypatch.setattr(store.jobs, "write", full)
    with pytest.raises(StoreUnusable):
        in_parts(runner, project)
    assert runner.records(project) == []


def test_answers_that_can_t_be_put_down_end_the_job_with_a_reason(
    runner: Runner, monkeypatch: pytest.MonkeyPatch
) -> None:
    def full(self: Job, part: int, answer: bytes) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(Job, "put_away", full)
    job = in_parts(runner)
    assert ended(job) is JobState.FAILED
    assert "No space left" in str(job.record.problem)
    assert job.record.code == "full"


@pytest.mark.parametrize("at", ["_planned", "_begin", "_take_in"])
def test_a_defect_of_the_runner_ends_the_job_and_not_the_runner(
    runner: Runner, monkeypatch: pytest.MonkeyPatch, at: str
) -> None:
    def broken(self: Runner, *of: Any, **more: Any) -> None:
        raise ZeroDivisionError("a defect of ours")

    monkeypatch.setattr(Runner, at, broken)
    job = in_parts(runner)
    assert ended(job) is JobState.FAILED
    assert "a defect of ours" in job.record.log
    monkeypatch.undo()
    assert ended(in_parts(runner)) is JobState.FINISHED


# What goes between processes


@pytest.mark.parametrize("value", [
    np.array([1.5, np.nan, -np.inf]), np.array([[1, 2], [3, 4]]), np.array([True, False]), np.zeros((0, 4)),
    np.array(["Ärger", ""]), np.array([1 + 2j]),
])  # fmt: skip
def test_answers_come_back_to_the_last_bit(value: Any) -> None:
    from vastmesh.worker import pack_answer, unpack_answer

    found = unpack_answer(pack_answer({"value": value, "plain": {"a": [1, None, "x"]}}))
    assert found["value"].dtype == value.dtype
    assert found["value"].shape == value.shape
    assert found["value"].tobytes() == value.tobytes()
    assert found["plain"] == {"a": [1, None, "x"]}


def test_a_network_comes_back_as_it_was(demo: Network) -> None:
    import io

    from vastmesh.worker import load_inputs, pack_inputs

    found = load_inputs(io.BytesIO(b"".join(pack_inputs(Inputs(demo, revision=9)))))
    assert found.revision == 9
    assert found.network == demo
    assert {i: found.network.referrers(i) for i in demo.items} == {i: demo.referrers(i) for i in demo.items}


# Balancing: searches side by side; one that is stopped answers with the best so far

STREET = {"feeder": "T-Lantern Row", "method": "genetic", "most_changes": 2, "move_laterals": False,
          "buses": ["LR 1", "LR 2", "Crescent 1", "Lamp Court 1"]}  # fmt: skip


def test_searches_side_by_side_give_the_best_of_them(runner: Runner, demo: Network) -> None:
    study = STUDIES["balancing"]
    job = runner.submit(study, Inputs(demo.copy()), study.options(**STREET, searches=2, seed=5))
    assert ended(job) is JobState.FINISHED, job.record.problem
    _, found = runner.result(job.id)
    alone = [
        study.run(Inputs(demo.copy()), study.options(**STREET, seed=5 + k), lambda share, words: None) for k in range(2)
    ]
    assert found.summary["score"] == pytest.approx(min(float(a.summary["score"] or 0) for a in alone), abs=1e-6)
    assert any("best of 2 searches" in n for n in found.account.notes)
    assert any([c["change"] for c in found.scheme] == [c["change"] for c in a.scheme] for a in alone)


def test_a_search_that_is_cancelled_answers_with_the_best_so_far(runner: Runner, demo: Network) -> None:
    study = STUDIES["balancing"]
    options = study.options(feeder="T-Lantern Row", method="genetic", searches=8)
    job = runner.submit(study, Inputs(demo.copy()), options)
    until(runner, lambda r: r.state == "running" and r.fraction > 0.0, job)
    runner.cancel(job.id)
    assert ended(job) is JobState.FINISHED
    _, found = runner.result(job.id)
    assert found.summary["stopped"] == 1.0
    assert any("best so far" in n for n in found.account.notes)


# What of the demonstration is looked at, so that it is little.
AT_A_BUS: dict[str, dict[str, Any]] = {
    "limit_table": {"over": "present", "outages": "none"},
    "over_time": {"days": 1.0}, "reactive": {"bus": "Kesterby 33"}, "outages": {"from_kv": 30.0},
    "headroom": {"bus": "Kesterby 33"},
    "placing": {"over": "present", "most": 1, "steps": 1},
    "scan": {"bus": "Heron End"}, "filter_design": {"bus": "Heron End", "over": "present"},
    "emission_limits": {"bus": "Heron End"},
    "filter_search": {"bus": "Heron End", "over": "present", "sizes": 2, "most_steps": 1},
    "adequacy": {"supply_mw": 100.0}, "failure_years": {"years": 50}, "proposals": {"most": 2},
    "board": {"of": "plans", "years": 2, "conditions": "present", "outages": False, "interruptions": "none"},
    "best_plan": {"years": 2, "conditions": "present", "interruptions": "none", "method": "greedy"},
}  # fmt: skip


@pytest.mark.parametrize("study", [s.name for s in STUDIES.values() if s.split is not None and s.name != "balancing"])
def test_parts_of_every_study_travel_as_they_are(demo: Network, study: str) -> None:
    """Answers packed for another process and unpacked again give the same whole."""
    kind = STUDIES[study]
    more: dict[str, dict[str, Any]] = {"outages": {"of": "lines", "from_kv": 100.0, "help": "worst", "tried": 2}}
    assert kind.split is not None
    inputs, options = Inputs(demo), kind.options(**{**AT_A_BUS.get(study, {}), **more.get(study, {})})
    parts = list(kind.split.plan(inputs, options))[:6]
    ready = kind.split.prepare(inputs, options)
    answers = [kind.split.answer(ready, p, lambda *_: None) for p in parts]
    there = [unpack_answer(pack_answer(a)) for a in answers]
    here, other = (kind.split.join(inputs, options, parts, a) for a in (answers, there))
    assert here.summary == pytest.approx(other.summary, nan_ok=True)
    assert here.statement == other.statement
    assert {n: len(t) for n, t in here.tables.items()} == {n: len(t) for n, t in other.tables.items()}
