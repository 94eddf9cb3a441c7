"""Refused means refused, acknowledged means kept: every door, every failure, and projects whose stored rows are damaged."""

from __future__ import annotations

import asyncio
import sqlite3
import threading
import zlib
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import orjson
import pytest
from starlette.testclient import TestClient

from tests.api.conftest import Project
from vastmesh.api import make_app
from vastmesh.api._sessions import LiveSession
from vastmesh.core.network import Network
from vastmesh.core.results.state import LiveLoadFlow
from vastmesh.core.results.state import _guard as guard
from vastmesh.store import FILE_NAME, FolderInUse, FolderLock, Store

TYPE = "name,family,series,size,r_ohm_per_km,x_ohm_per_km,rating_a,construction\n"


def import_types(project: Project, rows: str) -> Any:
    answer = project.client.post(
        f"{project.url}/types/import", params={"base_revision": project.revision, "file_name": "t.csv"},
        content=(TYPE + rows).encode(),
    )  # fmt: skip
    if answer.status_code == 200:
        project.revision = answer.json()["revision"]
    return answer


def session_of(project: Project) -> LiveSession:
    found: LiveSession = project.client.app.state.sessions.get(project.url.rsplit("/", 1)[1])  # type: ignore[attr-defined]
    return found


def afresh(project: Project, folder: Path) -> Project:
    """The same project in another service on the same folder."""
    project.client.app.state.sessions.store.close()  # type: ignore[attr-defined]
    return Project(TestClient(make_app(folder), base_url="http://127.0.0.1"), project.url.rsplit("/", 1)[1])


# Refused means refused


def test_a_refused_consequence_leaves_nothing_behind(project: Project, tmp_path: Path) -> None:
    assert import_types(project, "Mine,line,mine,1,0.1,0.1,300,cable\n").status_code == 200
    assert project.update("Kesterby F2-01", type="Mine").status_code == 200
    before = project.opened()["items"]
    answer = import_types(project, "Mine,line,mine,1,-0.3,0.1,300,cable\nOther,line,mine,2,0.2,0.1,300,cable\n")
    assert answer.status_code == 422
    assert project.opened()["items"] == before
    assert project.update("Kesterby F2-01", type="Other").status_code == 422
    assert afresh(project, tmp_path).opened()["items"] == before


def test_whatever_breaks_while_applying_is_taken_back(project: Project, monkeypatch: pytest.MonkeyPatch) -> None:
    """A failure that nobody foresaw, in each step of an edit: the same objects in the same order as before."""
    one = session_of(project)
    items = list(one.network.items.items())
    for owner, name in ((one.base, "consequences"), (one.base, "_check_references"), (one.store, "append")):
        with monkeypatch.context() as patch:
            patch.setattr(owner, name, lambda *_, **__: 1 / 0)
            answer = project.change([
                {"op": "remove", "id": "Kesterby F2 load 1"} if "Kesterby F2 load 1" in one.network.items else
                {"op": "update", "id": "Kesterby F2-01", "values": {"length_km": 9.0}},
                {"op": "add", "item": {"kind": "bus", "id": "new", "nominal_kv": 11}, "before": items[3][0]},
            ])  # fmt: skip
        assert answer.status_code == 500
        assert answer.json()["code"] == "unexpected"
        assert [(i, id(x)) for i, x in one.network.items.items()] == [(i, id(x)) for i, x in items]
    assert project.update("Kesterby F2-01", length_km=9.0).status_code == 200


def test_an_empty_reference_is_refused(project: Project) -> None:
    line = {"kind": "line", "id": "x", "from_bus": "", "to_bus": "Heron End", "length_km": 1}
    for answer in (project.change([{"op": "add", "item": line}]), project.update("Kesterby F2-01", to_bus="")):
        assert answer.status_code == 422
        assert any(e["field"] in ("from_bus", "to_bus") for e in answer.json()["errors"])


# An answer whatever a solver does


@pytest.mark.parametrize("study", ["balanced", "per_phase"])
def test_a_solver_that_breaks_off_names_the_element(
    project: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, study: str
) -> None:
    """The edit is kept and answered, the project opens, and without the culprit all is well again."""
    project.update("settings", study=study)
    from vastmesh.core.results.state import LiveUnbalanced

    owner: type[Any] = LiveUnbalanced if study == "per_phase" else LiveLoadFlow
    own = owner.solve

    def brittle(self: Any, *args: Any, **more: Any) -> Any:
        bad: Any = self.network.items["Kesterby F2-01"]
        if bad.in_service and bad.length_km == 7.77:
            raise ZeroDivisionError("length")
        return own(self, *args, **more)

    monkeypatch.setattr(owner, "solve", brittle)
    answer = project.update("Kesterby F2-01", length_km=7.77)
    assert answer.status_code == 200
    live = answer.json()["live"]
    assert live["account"]["ending"] == "failed"
    assert live["account"]["breaks_at"] == "Kesterby F2-01"
    assert [f["element"] for f in live["findings"]] == ["Kesterby F2-01"]
    assert "Kesterby F2-01" in live["account"]["explanation"]
    again = afresh(project, tmp_path)
    assert again.opened()["live"]["account"]["ending"] == "failed"
    assert again.update("Kesterby F2-01", in_service=False).json()["live"]["account"]["ending"] == "converged"
    assert again.post("undo").json()["live"]["account"]["ending"] == "failed"
    assert again.post("undo").json()["live"]["account"]["ending"] == "converged"


def test_what_cannot_be_compiled_is_found_by_halves(project: Project, monkeypatch: pytest.MonkeyPatch) -> None:
    """Among all of the network, where no edit gives a hint: with few compilations."""
    tried = []
    own = guard.compile_network

    def brittle(network: Network) -> Any:
        tried.append(len(network.items))
        if "Kesterby F2-03" in network.items:
            raise KeyError("bus")
        return own(network)

    monkeypatch.setattr(guard, "compile_network", brittle)
    monkeypatch.setattr(LiveLoadFlow, "solve", lambda *_, **__: 1 / 0)
    account = project.get("live").json()["account"]
    assert (account["ending"], account["breaks_at"]) == ("failed", "Kesterby F2-03")
    assert len(tried) < 30


def test_a_snapshot_that_fails_does_not_refuse_the_edit(project: Project, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(Store, "wants_snapshot", lambda *_: True)
    monkeypatch.setattr(Store, "write_snapshot", lambda *_: 1 / 0)
    answer = project.update("Kesterby F2-01", length_km=2.0)
    assert answer.status_code == 200
    assert project.item("Kesterby F2-01")["length_km"] == 2.0


# Two at once


def test_recording_from_two_tabs_is_a_conflict(project: Project) -> None:
    project.change([{"op": "add", "item": {"kind": "scheme", "id": "S", "name": "S", "active": True}}])
    project.update("settings", recording="S")
    base = project.revision
    assert project.update("Kesterby F2-01", base=base, length_km=3.0).status_code == 200
    answer = project.update("Kesterby F2-01", base=base, length_km=4.0)
    assert answer.status_code == 409
    assert [(e["element"], e["field"]) for e in answer.json()["errors"]] == [("Kesterby F2-01", "length_km")]
    assert project.item("Kesterby F2-01")["length_km"] == 3.0
    assert project.update("Kesterby F2-01", base=base, note="also here").status_code == 200, "another field is merged"


def test_undo_does_not_take_back_what_was_not_seen(project: Project) -> None:
    seen = project.revision
    project.update("Kesterby F2-01", length_km=3.0)
    answer = project.client.post(f"{project.url}/undo", params={"base_revision": seen})
    assert answer.status_code == 409
    assert answer.json()["changes_since"][0]["items"] == ["Kesterby F2-01"]
    assert project.client.post(f"{project.url}/undo", params={"base_revision": project.revision}).status_code == 200


def test_an_edit_sent_twice_is_done_once(project: Project, tmp_path: Path) -> None:
    change = {"op": "add", "item": {"kind": "bus", "id": "twice", "nominal_kv": 11}}
    body = {"label": "Add", "changes": [change], "key": "0123456789"}
    first = project.client.post(f"{project.url}/changes", json={"base_revision": 0, **body})
    again = project.client.post(f"{project.url}/changes", json={"base_revision": 0, **body})
    assert (first.status_code, again.status_code) == (200, 200)
    assert first.json()["revision"] == again.json()["revision"]
    assert "twice" in [i["id"] for i in again.json()["changed"]]
    other = afresh(project, tmp_path)
    assert other.client.post(f"{other.url}/changes", json={"base_revision": 0, **body}).json()["revision"] == 1


def test_one_service_for_a_folder(tmp_path: Path) -> None:
    with FolderLock(tmp_path), pytest.raises(FolderInUse, match="another Vast Mesh"):
        FolderLock(tmp_path)
    FolderLock(tmp_path).release()


# Damaged rows

Damage = Callable[[sqlite3.Connection, str], None]


def set_row(table: str, column: str, value: bytes, revision: int) -> Damage:
    def do(db: sqlite3.Connection, ident: str) -> None:
        db.execute(f"update {table} set {column} = ? where project_id = ? and revision = ?", (value, ident, revision))

    return do


def drop(table: str, revision: int) -> Damage:
    def do(db: sqlite3.Connection, ident: str) -> None:
        db.execute(f"delete from {table} where project_id = ? and revision = ?", (ident, revision))

    return do


UNFIT = orjson.dumps([{"op": "update", "id": "Kesterby F2-01", "values": {"length_km": -4}}])
DAMAGES: dict[str, tuple[Damage, int]] = {
    "journal is not JSON": (set_row("journal", "changes", b"{[", 3), 2),
    "journal holds something else": (set_row("journal", "changes", b'{"a": 1}', 3), 2),
    "a change that is refused": (set_row("journal", "changes", UNFIT, 3), 2),
    "a change of nothing known": (set_row("journal", "changes", UNFIT.replace(b"Kesterby F2-01", b"gone"), 2), 1),
    "a revision is missing": (drop("journal", 2), 1),
    "the last revision is missing": (drop("journal", 4), 3),
    "the last revision is not JSON": (set_row("journal", "changes", b"{[", 4), 3),
    "the last inverse is not JSON": (set_row("journal", "inverse", b"{[", 4), 4),
    "a kind that there is not": (set_row("journal", "kind", b"more", 1), 4),
}


@pytest.mark.parametrize("name", DAMAGES)
def test_a_damaged_project_opens_for_reading_and_is_repaired(project: Project, tmp_path: Path, name: str) -> None:
    damage, reached = DAMAGES[name]
    for k in range(4):
        project.update("Kesterby F2-01", length_km=1.0 + k)
    ident = project.url.rsplit("/", 1)[1]
    project.client.app.state.sessions.store.close()  # type: ignore[attr-defined]
    with sqlite3.connect(tmp_path / FILE_NAME) as db:
        damage(db, ident)
    other = Project(TestClient(make_app(tmp_path), base_url="http://127.0.0.1"), ident)
    opened = other.opened()
    assert opened["project"]["revision"] == reached
    assert other.get("journal").status_code == 200
    if name == "the last inverse is not JSON":  # told once it is wanted; all else goes on
        assert (opened["damage"], other.post("undo").json()["code"]) == (None, "damaged-row")
        return
    assert "reading only" in opened["damage"]
    assert other.item("Kesterby F2-01")["length_km"] == float(reached)
    answer = other.update("Kesterby F2-01", length_km=9.0)
    assert (answer.status_code, answer.json()["code"]) == (409, "read-only")
    assert other.get("export/document").status_code == 200
    assert other.client.post(f"{other.url}/repair").status_code == 200
    other.revision = other.opened()["project"]["revision"]
    assert other.opened()["damage"] is None
    assert other.update("Kesterby F2-01", length_km=9.0).status_code == 200
    assert other.post("undo").status_code == 200
    assert other.post("undo").status_code == 422, "what lies before the repair is not undone"
    third = afresh(other, tmp_path)
    assert third.item("Kesterby F2-01")["length_km"] == float(reached)
    assert third.client.post(f"{third.url}/repair").status_code == 422


@pytest.mark.parametrize(
    "data", [b"no zlib", zlib.compress(b"{["), zlib.compress(b'[{"kind": "bus"}]'), zlib.compress(b"5")]
)
def test_a_damaged_snapshot_is_passed_over_where_another_serves(project: Project, tmp_path: Path, data: bytes) -> None:
    one = session_of(project)
    project.update("Kesterby F2-01", length_km=2.0)
    one.store.write_snapshot(one.project_id, one.revision, one.base)
    one.store.close()
    with sqlite3.connect(tmp_path / FILE_NAME) as db:
        db.execute("update snapshot set items = ? where project_id = ? and revision = 1", (data, one.project_id))
    other = afresh(project, tmp_path)
    assert other.opened()["damage"] is None
    assert other.item("Kesterby F2-01")["length_km"] == 2.0
    other.client.app.state.sessions.store.close()  # type: ignore[attr-defined]
    with sqlite3.connect(tmp_path / FILE_NAME) as db:
        db.execute("update snapshot set items = ? where project_id = ?", (data, one.project_id))
    client = TestClient(make_app(tmp_path), base_url="http://127.0.0.1")
    answer = client.get(project.url)
    assert (answer.status_code, answer.json()["code"]) == (410, "beyond-repair")


# Words


@pytest.mark.parametrize(
    ("content", "said"), [(b"this is no database, but long enough to look at", "damaged"), (None, "newer")]
)
def test_a_database_that_is_none_is_said_in_one_sentence(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], content: bytes | None, said: str
) -> None:
    from vastmesh.cli import main

    if content is not None:
        (tmp_path / FILE_NAME).write_bytes(content)
    else:
        Store(tmp_path).close()
        with sqlite3.connect(tmp_path / FILE_NAME) as db:
            db.execute("update alembic_version set version_num = '9999'")
    assert main(["backup", str(tmp_path / "out"), "--data", str(tmp_path)]) == 2
    text = capsys.readouterr().err
    assert said in text
    assert "Traceback" not in text


def test_a_backup_of_nowhere_fails(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    from vastmesh.cli import main

    assert main(["backup", str(tmp_path / "out"), "--data", str(tmp_path / "typo")]) == 2
    assert not (tmp_path / "typo").exists()
    assert "--data" in capsys.readouterr().err


@pytest.mark.parametrize(
    ("headers", "status"),
    [({"host": "["}, 421), ({"origin": "http://["}, 403), ({"host": "evil.example"}, 421), ({}, 500)],
)
def test_every_refusal_is_a_problem_with_the_headers(
    client: TestClient, monkeypatch: pytest.MonkeyPatch, headers: dict[str, str], status: int
) -> None:
    monkeypatch.setattr(Store, "rename", lambda *_: 1 / 0)
    answer = client.patch("/api/projects/x", json={"name": "y"}, headers=headers)
    assert answer.status_code == status
    assert answer.headers["content-type"] == "application/problem+json"
    assert answer.headers["x-content-type-options"] == "nosniff"
    assert "default-src 'self'" in answer.headers["content-security-policy"]


def test_a_locked_database_is_said(tmp_path: Path, demo: Network, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("vastmesh.store._store._WAIT_S", 0.05)
    with TestClient(make_app(tmp_path), base_url="http://127.0.0.1") as client:
        project = Project(client, client.app.state.sessions.store.create("Demo", demo).id)  # type: ignore[attr-defined]
        with sqlite3.connect(tmp_path / FILE_NAME) as other:
            other.execute("BEGIN IMMEDIATE")
            answer = project.update("Kesterby F2-01", length_km=3.0)
            other.rollback()
        assert answer.status_code == 503
        assert "locked" in answer.json()["detail"]
        assert project.item("Kesterby F2-01")["length_km"] != 3.0
        assert project.update("Kesterby F2-01", length_km=3.0).status_code == 200


def test_a_file_without_a_bus_makes_no_project(client: TestClient) -> None:
    from vastmesh.exchange import write_network

    answer = client.post("/api/projects/import?file_name=a.json", content=write_network(Network(), "Empty", "document"))
    assert answer.status_code == 422
    assert "no bus" in answer.json()["detail"]
    assert client.get("/api/projects").json() == []


def test_listening_does_not_wait_for_a_calculation(project: Project) -> None:
    """A queue is had while another thread holds the session."""
    one = session_of(project)
    held, done = threading.Event(), threading.Event()

    def hold() -> None:
        with one.lock:
            held.set()
            done.wait()

    other = threading.Thread(target=hold)
    other.start()
    held.wait()

    async def listen() -> None:
        one.forget(one.listen())

    with ThreadPoolExecutor(1) as own:
        own.submit(asyncio.run, listen()).result()
    done.set()
    other.join()


def test_thousands_of_wrong_items_are_summed_up(project: Project) -> None:
    changes = [{"op": "update", "id": "Kesterby F2-01", "values": {"length_km": "x" * 300}} for _ in range(3000)]
    answer = project.change(changes)
    assert answer.status_code == 422
    assert len(answer.content) < 40_000
    assert answer.json()["left_untold"] == 2950


def test_a_supply_trace_that_is_read_on_is_of_the_network_it_was_asked_of(project: Project) -> None:
    """Edits go on while somebody reads it: once it walked the items of the network that was being changed."""
    session = session_of(project)
    trace = session.trace()
    walk = iter(trace.network.items)
    next(walk)
    there = len(trace.network.items)
    project.change([{"op": "add", "item": {"kind": "bus", "id": "new", "nominal_kv": 11.0}}])
    assert sum(1 for _ in walk) == there - 1
    assert "new" in session.network.items
    assert "new" not in trace.network.items
    assert "new" in session.trace().network.items
