"""Jobs as a client sees them: listed, told of by events, cancelled, started again, found again after a restart."""

from __future__ import annotations

import asyncio
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest
from starlette.testclient import TestClient

from tests.made_up_parts import IN_ONE, IN_PARTS
from vastmesh.api import make_app
from vastmesh.core.network import Network
from vastmesh.core.studies import STUDIES
from vastmesh.runner import LocalPool
from vastmesh.store import JobRecord

from .conftest import Project


@pytest.fixture(autouse=True)
def with_parts() -> Iterator[None]:
    STUDIES.update({s.name: s for s in (IN_PARTS, IN_ONE)})
    yield
    for s in (IN_PARTS, IN_ONE):
        del STUDIES[s.name]


def started(project: Project, study: str, **options: Any) -> str:
    answer = project.client.post(f"{project.url}/runs", json={"study": study, "options": options, "slot": "here"})
    assert answer.status_code == 200, answer.text
    return str(answer.json()["id"])


def ended(project: Project, ident: str) -> dict[str, Any]:
    runner = project.client.app.state.runner  # type: ignore[attr-defined]
    assert runner.job(ident).wait(300)
    found: dict[str, Any] = project.client.get(f"/api/jobs/{ident}").json()
    return found


def test_jobs_are_listed_with_all_that_is_known_of_them(project: Project) -> None:
    project.study("made-up-parts", {"parts": 4})
    (found,) = project.get("jobs").json()
    told = {k: found[k] for k in ("study", "label", "state", "parts", "parts_done", "missing", "fraction", "condition")}
    assert told == {
        "study": "made-up-parts", "label": "Made-up parts", "state": "finished", "parts": 4, "parts_done": 4, "missing": 0,
        "fraction": 1.0, "condition": "Winter evening",
    }  # fmt: skip
    assert found["options"]["parts"] == 4
    assert found["has_result"]
    assert "log" not in found
    assert project.client.get(f"/api/jobs/{found['id']}").json()["log"] == ""


def test_a_job_that_failed_tells_why_and_keeps_the_traceback(project: Project) -> None:
    found = project.study("made-up-piece", {"trouble": "raise"})
    assert (found["state"], found["result"]) == ("failed", None)
    assert "its log says more" in found["problem"]
    assert "ZeroDivisionError: as it was told to" in found["log"]


def test_a_job_is_cancelled_and_started_again_on_the_network_as_it_stands(project: Project) -> None:
    ident = started(project, "made-up-piece", parts=10_000, slow_s=0.05)
    assert project.client.delete(f"/api/jobs/{ident}").json()["state"] in ("running", "cancelled")
    assert ended(project, ident)["state"] == "cancelled"
    project.update("settings", base_mva=50.0)
    again = project.client.post(f"/api/jobs/{ident}/again").json()
    assert (again["study"], again["slot"], again["options"]["parts"]) == ("made-up-piece", "here", 10_000)
    assert again["revision"] == project.revision
    project.client.delete(f"/api/jobs/{again['id']}")
    assert ended(project, again["id"])["state"] == "cancelled"
    project.client.post(f"/api/jobs/{ident}/forget")
    assert [j["id"] for j in project.get("jobs").json()] == [again["id"]]
    assert project.client.post("/api/jobs/none/again").status_code == 404


def test_a_job_under_way_can_t_be_forgotten(project: Project) -> None:
    ident = started(project, "made-up-piece", parts=10_000, slow_s=0.05)
    project.client.post(f"/api/jobs/{ident}/forget")
    assert [j["id"] for j in project.get("jobs").json()] == [ident]
    project.client.delete(f"/api/jobs/{ident}")
    ended(project, ident)


def test_jobs_and_their_results_belong_to_their_project(project: Project, client: TestClient, demo: Network) -> None:
    ident = project.study("made-up-parts")["id"]
    other = client.app.state.sessions.store.create("Other", demo).id  # type: ignore[attr-defined]
    assert client.get(f"/api/projects/{other}/jobs").json() == []
    assert client.get(f"/api/projects/{other}/results/job-{ident}").status_code == 404
    assert client.get(f"{project.url}/results/job-{ident}").status_code == 200


def test_who_listens_to_a_project_is_told_of_every_job(project: Project) -> None:
    one = project.client.app.state.sessions.get(project.url.rsplit("/", 1)[1])  # type: ignore[attr-defined]

    async def told() -> list[dict[str, Any]]:
        queue = one.listen()
        job = one.start(
            project.client.app.state.runner,
            IN_PARTS,
            IN_PARTS.options(parts=6),
            keep=None,
            note="",  # type: ignore[attr-defined]
        )
        found: list[dict[str, Any]] = []
        while not found or found[-1]["state"] != "finished":
            found.append(await asyncio.wait_for(queue.get(), 300))
        assert {f["id"] for f in found} == {job.id}
        one.forget(queue)
        return found

    with ThreadPoolExecutor(1) as other:  # the browser tests have a loop of their own in this thread
        found = other.submit(lambda: asyncio.run(told())).result()
    assert "running" in {f["state"] for f in found}
    assert found[-1]["parts_done"] == 6


def test_a_partial_result_has_an_address_and_says_so(project: Project) -> None:
    ident = started(project, "made-up-parts", parts=2_000, slow_s=0.05)
    runner = project.client.app.state.runner  # type: ignore[attr-defined]
    while not runner.record(ident).partial:
        assert not runner.record(ident).ended
    found = project.get(f"results/job-{ident}").json()
    assert found["partial"]
    assert 0 < len(found["tables"]["squares"]["columns"][0]["values"]) < 2_000
    project.client.delete(f"/api/jobs/{ident}")
    assert ended(project, ident)["has_result"]


def test_after_a_restart_jobs_are_found_again_and_what_was_under_way_is_interrupted(
    tmp_path: Path, pool: LocalPool, demo: Network
) -> None:
    with TestClient(make_app(tmp_path, pool=pool), base_url="http://127.0.0.1") as client:
        store = client.app.state.sessions.store  # type: ignore[attr-defined]
        project = Project(client, store.create("Corvane Coast", demo).id)
        done = project.study("made-up-parts", {"parts": 3})["id"]
        store.jobs.write(JobRecord("lost", store.projects()[0].id, "made-up-parts", 0, "x", state="running"))
    with TestClient(make_app(tmp_path, pool=pool), base_url="http://127.0.0.1") as client:
        project = Project(client, project.url.rsplit("/", 1)[1])
        states = {j["id"]: j["state"] for j in project.get("jobs").json()}
        assert states == {done: "finished", "lost": "interrupted"}
        assert project.get(f"results/job-{done}").json()["summary"] == {"parts": 3.0}
        again = client.post("/api/jobs/lost/again").json()
        assert ended(project, again["id"])["state"] == "finished"
