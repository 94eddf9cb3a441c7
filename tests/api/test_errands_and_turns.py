"""Costly files are read and made beside the service, or ended; one project never takes all threads; what was tried is at hand."""

from __future__ import annotations

import asyncio
import io
import json
import threading
from typing import Any

import openpyxl
import pytest

from tests.api.conftest import Project
from vastmesh.api._turns import Turns
from vastmesh.core.errors import InvalidFields, UnreadableFile
from vastmesh.errands import ErrandFailed, rows_of_workbook, run_errand, workbook_rows
from vastmesh.reports import picture_pdf


def book(rows: list[list[Any]]) -> bytes:
    made, out = openpyxl.Workbook(), io.BytesIO()
    for row in rows:
        made.active.append(row)
    made.save(out)
    return out.getvalue()


ROWS: list[list[Any]] = [["name", "family"], ["a", "line"], [None, 2.5], [True, "x" * 50]]


def test_a_workbook_read_beside_is_what_is_read_here() -> None:
    data = book(ROWS)
    assert asyncio.run(workbook_rows(data)) == rows_of_workbook(data)


def test_what_an_errand_refuses_is_refused_here_in_the_same_words() -> None:
    with pytest.raises(UnreadableFile, match="not a spreadsheet"):
        asyncio.run(workbook_rows(b"PK nothing"))
    asked = {"svg": "<svg viewBox='0 0 1 1'/>", "paper": "B9", "title": "", "lines": []}
    with pytest.raises(InvalidFields, match="choose one of"):
        asyncio.run(run_errand("pdf", json.dumps(asked).encode()))


def test_an_errand_that_takes_too_long_or_breaks_is_ended_and_says_so() -> None:
    with pytest.raises(ErrandFailed, match="not done after"):
        asyncio.run(run_errand("workbook", book(ROWS), most_s=0.01))
    with pytest.raises(ErrandFailed, match="memory or time"):
        asyncio.run(run_errand("no such errand", b""))


def test_an_errand_nobody_waits_for_is_ended(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("vastmesh.errands._LOOKED_AFTER_S", 0.0)

    async def gone() -> bool:
        return True

    with pytest.raises(ErrandFailed, match="Nobody waits"):
        asyncio.run(run_errand("workbook", book(ROWS), gone=gone))


def test_a_large_workbook_of_types_is_read_beside_the_service(
    project: Project, monkeypatch: pytest.MonkeyPatch
) -> None:
    sent: list[int] = []

    async def seen(data: bytes, gone: Any) -> list[list[Any]]:
        sent.append(len(data))
        return await workbook_rows(data, gone)

    monkeypatch.setattr("vastmesh.api._routes.workbook_rows", seen)
    monkeypatch.setattr("vastmesh.api._routes._LARGE_BOOK", 100)
    data = book([["name", "family", "r_ohm_per_km", "x_ohm_per_km"], ["Mine", "line", 0.2, 0.3]])
    url = f"{project.url}/types/import?base_revision={project.revision}&file_name=t.xlsx"
    assert project.client.post(url, content=data).status_code == 200
    assert sent == [len(data)]
    assert any(i["id"] == "Mine" for i in project.opened()["items"])


NESTED = "".join(f'<pattern id="p{k}" width="1" height="1"><rect fill="url(#p{k + 1})"/></pattern>' for k in range(12))


@pytest.mark.parametrize(
    ("inside", "words"),
    [
        ('<use href="#a"/>', "only"), ("<foreignObject/>", "only"), (f"<defs>{NESTED}</defs>", "filled with another"),
        ("<g>" * 70 + "</g>" * 70, "deep"), ("<script/>", "only"), ('<filter id="f"/>', "only"),
    ],
)  # fmt: skip
def test_a_picture_that_draws_itself_again_is_refused(inside: str, words: str) -> None:
    svg = f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 9 9">{inside}</svg>'
    with pytest.raises(InvalidFields, match=words):
        picture_pdf(svg, paper="A4", title="", lines=[])


def test_many_pages_of_a_large_picture_are_refused_before_they_are_made() -> None:
    svg = f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 1000 1000"><title>{"x" * 4_000_000}</title></svg>'
    with pytest.raises(InvalidFields, match="too much"):
        picture_pdf(svg, paper="A4", title="", lines=[], mm_per_unit=1.2)


def test_json_is_refused_beyond_what_the_loop_can_read_at_once(project: Project) -> None:
    body = b'{"base_revision": 0, "label": "' + b"x" * (5 * 2**20) + b'"}'
    answer = project.client.post(f"{project.url}/changes", content=body, headers={"content-type": "application/json"})
    assert (answer.status_code, answer.json()["code"]) == (413, "too-large")
    # A picture is one long text, and may be longer.
    svg = f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 9 9"><title>{"x" * (5 * 2**20)}</title></svg>'
    assert project.client.post(f"{project.url}/picture.pdf", json={"svg": svg, "paper": "B9"}).status_code == 422


def test_one_project_takes_its_turns_and_another_goes_by() -> None:
    going, most, order = 0, 0, []

    async def app(scope: Any, receive: Any, send: Any) -> None:
        nonlocal going, most
        going += "/one/" in scope["path"]
        most = max(most, going)
        await asyncio.sleep(0)
        await asyncio.sleep(0)
        going -= "/one/" in scope["path"]
        order.append(scope["path"])

    turns = Turns(app, at_work=2)

    async def all_at_once() -> None:
        asked = [f"/api/projects/one/{k}" for k in range(9)] + [
            "/api/projects/two/x",
            "/api/health",
            "/api/projects/one/events",
        ]
        await asyncio.gather(*(turns({"type": "http", "path": p}, None, None) for p in asked))  # type: ignore[arg-type]

    asyncio.run(all_at_once())
    assert most == 3, "two at work, and one that only listens"
    assert len(order) == 12
    assert order.index("/api/projects/two/x") < 5
    assert turns._turns == {}, "nothing is remembered of who has gone"


def test_factors_that_somebody_has_just_tried_are_not_solved_again(
    project: Project, monkeypatch: pytest.MonkeyPatch
) -> None:
    session = project.client.app.state.sessions.get(project.url.rsplit("/", 1)[1])  # type: ignore[attr-defined]
    solved, own = [], session._live.solve
    monkeypatch.setattr(session._live, "solve", lambda *a, **k: solved.append(1) or own(*a, **k))
    body = {"demand_factor": 0.7, "generation_factor": 1.0}
    answers = [
        project.client.post(f"{project.url}/preview", json={**body, "tab": f"tab number {k}"}).json() for k in range(4)
    ]
    assert len(solved) == 1
    assert all(a["summary"] == answers[0]["summary"] for a in answers)
    project.client.post(f"{project.url}/preview", json={**body, "demand_factor": 0.71, "tab": "tab number 1"})
    assert len(solved) == 2
    # What each tab looks at is its own all the same.
    assert session.last("tab number 0")[0].demand_factor == 0.7
    assert session.last("tab number 1")[0].demand_factor == 0.71
    project.update("T-Q1", note="x")
    project.client.post(f"{project.url}/preview", json={**body, "demand_factor": 0.71, "tab": "tab number 1"})
    assert len(solved) == 4, "an edit is another network"
    assert threading.active_count() < 60
