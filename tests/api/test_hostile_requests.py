"""Nothing that can be sent is answered with a 5xx: a short run of the fuzz, what was once answered so, and text without end."""

from __future__ import annotations

import io
import zipfile
from pathlib import Path
from typing import Any

import pytest
from starlette.testclient import TestClient

from tests.api.conftest import Project
from tests.api.fuzz import Fuzz
from tests.core.test_every_field_at_its_bounds import everything
from vastmesh.api import make_app

MILLION = 10**6


def hostile(folder: Path, seed: int, count: int) -> list[str]:
    """Requests to a project with one of every kind that were answered with 5xx; the project must open afterwards."""
    bad = []
    with TestClient(make_app(folder), base_url="http://127.0.0.1") as client:
        network = everything()
        ident = client.app.state.sessions.store.create("Everything", network).id  # type: ignore[attr-defined]
        run = client.post(f"/api/projects/{ident}/results/live/keep", json={"name": "kept", "note": ""}).json()["id"]
        known = {"project_id": ident, "run_id": run, "format_name": "document", "revision": "0"}
        for ask in Fuzz(client.get("/api/openapi.json").json(), list(network.items), known, seed).asks(count):
            answer = ask.of(client)
            if answer.status_code >= 500:
                bad.append(f"{ask.method} {ask.path[:200]} {(ask.body or b'')[:200]!r}")
        assert client.get(f"/api/projects/{ident}").status_code == 200
    with TestClient(make_app(folder), base_url="http://127.0.0.1") as client:
        assert client.get(f"/api/projects/{ident}").status_code == 200
    return bad


@pytest.mark.parametrize("seed", [1, 2])
def test_no_request_is_answered_with_a_5xx(tmp_path: Path, seed: int) -> None:
    assert hostile(tmp_path, seed, 500) == []


def edit(change: str, label: str = "x", base: str = "0") -> bytes:
    return f'{{"base_revision": {base}, "label": "{label}", "changes": [{change}]}}'.encode()


def setting(values: str) -> str:
    return f'{{"op": "update", "id": "Kesterby F2-01", "values": {values}}}'


def deep(levels: int) -> bytes:
    return b'{"base_revision": 0, "label": "x", "changes": ' + b"[" * levels + b"]" * levels + b"}"


ONCE_BAD: list[tuple[str, str, Any]] = [
    ("POST", "attachments?element=Heron End&file_name=a.xlsm&base_revision=0", b"PK"),
    ("POST", "attachments?element=Heron End&file_name=a.docm&base_revision=0", b"PK"),
    ("POST", "attachments?element=Heron End&file_name=%00%07&base_revision=0", b"PK"),
    ("POST", "changes", edit(setting('{"length_km": NaN}'))), ("POST", "changes", edit(setting('{"length_km": -Infinity}'))),
    ("POST", "picture.pdf", b'{"svg": "<svg/>", "paper": "\\ud800"}'),
    ("POST", "changes", edit(setting('{"name": "\\ud800"}'))), ("POST", "changes", edit(setting('{"note": "n"}'), "\\ud800")),
    ("POST", "changes", edit(setting('{"type": [1]}'))), ("POST", "changes", edit("", base="9" * 23)),
    ("POST", "changes", edit('{"op": "add", "item": {"kind": "bus", "id": "n", "origins": 5}}')),
    ("POST", "changes", deep(500)), ("POST", "changes", deep(100_000)),
    ("GET", "since/99999999999999999999999", None), ("GET", "journal?after=99999999999999999999999", None),
    ("POST", "results/live/sift", {"table": "buses", "text": "voltage_pu > 1e999"}),
    ("POST", "results/live/sift", {"table": "buses", "text": " and ".join(["voltage_pu > 1"] * 900)}),
    ("POST", "results/live/sift", {"table": "buses", "text": "voltage_pu > 'high'"}),
    ("POST", "results/live/sift", {"table": "buses", "text": "name < 3"}),
    ("POST", "results/live/sift", {"table": "no\u0000where", "text": "a"}),
    ("GET", "results/live/cause/Winter evening?quantity=voltage_pu", None),
    ("GET", "results/live/cause/Kesterby F2-01?quantity=voltage", None),
    ("GET", "table?kind=bus&ids=Kesterby F2-01", None), ("GET", "table?kind=nothing", None),
    ("POST", "table", {"base_revision": 0, "kind": "line", "text": "Name\tCircuits\nKesterby F2-01\tnan\n"}),
    ("POST", "table", {"base_revision": 0, "kind": "line", "text": "Name\rKesterby F2-01\r"}),
    ("POST", "table", {"base_revision": 0, "kind": "line", "text": "Name\tNote\nKesterby F2-01\t" + "x" * 140_000}),
    ("POST", "types/import?base_revision=0&file_name=t.csv", b"name,family\rMine,line\r"),
    ("POST", "types/import?base_revision=0&file_name=t.csv", b"name,family\nMine," + b"x" * 140_000),
    ("POST", "types/import?base_revision=0&file_name=t.csv", b"name,family,series,size\nMine,line,s,nan\n"),
    ("POST", "compare", {"before": "\x00", "after": "present"}),
    ("POST", "paste", {"base_revision": 0, "items": [{}]}),
    ("POST", "paste", {"base_revision": 0, "items": [{"id": 5, "kind": "bus"}]}),
    ("POST", "picture.pdf?paper=A4", b"<svg viewBox='a b c d'/>"), ("POST", "picture.pdf?paper=A4", b'<svg viewBox="0 0 . ." />'),
    ("POST", "picture.pdf?paper=A4", b'<svg viewBox="0 0 0 0" />'),
]  # fmt: skip


@pytest.mark.parametrize(("method", "path", "body"), ONCE_BAD)
def test_what_was_once_answered_with_a_5xx(project: Project, method: str, path: str, body: Any) -> None:
    send = {"content": body} if isinstance(body, bytes) else {"json": body} if body is not None else {}
    media = (
        {"content-type": "application/json"}
        if method == "POST" and not path.startswith(("att", "types", "picture.pdf?"))
        else {}
    )
    answer = project.client.request(method, f"{project.url}/{path}", headers=media, **send)
    assert answer.status_code < 500, answer.text
    assert project.get("").status_code == 200


def test_every_element_of_the_demo_has_workings_per_phase(project: Project) -> None:
    project.update("settings", study="per_phase")
    for item in project.opened()["items"]:
        for what in ("about", "phases", "supply"):
            answer = project.get(f"{what}/{item['id']}")
            assert answer.status_code < 500, (what, item["id"], answer.text)


@pytest.mark.parametrize("path", ["/%00", "/assets/%00", "/" + "a" * 5000, "/..%2f..%2fetc%2fpasswd", "/api/%00"])
def test_odd_addresses_are_no_trouble(client: TestClient, path: str) -> None:
    assert client.get(path).status_code < 500


def broken_workbook() -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        archive.writestr("[Content_Types].xml", "<Types/>")
        archive.writestr("xl/workbook.xml", "<workbook><sheets><sheet name='a' sheetId='1'/></sheets>")
        archive.writestr("xl/worksheets/sheet1.xml", "<worksheet><sheetData><row><c t='s'><v>9999</v>")
    return out.getvalue()


@pytest.mark.parametrize("data", [broken_workbook(), b"PK\x03\x04" + b"\x00" * 100])
def test_a_broken_workbook_is_refused(project: Project, data: bytes) -> None:
    answer = project.client.post(f"{project.url}/types/import?base_revision=0&file_name=t.xlsx", content=data)
    assert answer.status_code == 422


@pytest.mark.parametrize("text", ["9", " ", "\t", "(", "[", ",", '"', "'", "\n", "a", "é", ".", "-", "/", ";", "0 "])
def test_a_million_of_one_character_is_read_in_one_pass(project: Project, text: str) -> None:
    """What looks at every character again for every other one would not end in an hour."""
    long = text * (MILLION // len(text))
    for path, body in (
        ("/api/projects/import", (f"TAPE\nBUS DATA FOLLOWS {long}\n-999\n").encode()), ("/api/projects/import", long.encode()),
        (f"{project.url}/types/import?base_revision=0&file_name=t.csv", f"name{long},family\na,line\n".encode()),
    ):  # fmt: skip
        assert project.client.post(path, content=body).status_code in (201, 400, 422)
    heading = {"base_revision": 0, "kind": "line", "text": f"Name\tLength{long}x\nKesterby F2-01\t1\n"}
    assert project.client.post(f"{project.url}/table", json=heading).status_code in (200, 413, 422)
    assert (
        project.client.post(f"{project.url}/results/live/sift", json={"table": "buses", "text": long}).status_code
        == 422
    )


def test_whole_numbers_asked_for_in_an_address_fit_the_database(client: TestClient) -> None:
    """What is beyond 64 bits is refused before it gets there, wherever a whole number is taken."""
    for path, ways in client.get("/api/openapi.json").json()["paths"].items():
        for method, spec in ways.items():
            for p in spec.get("parameters", []):
                for schema in [p["schema"], *p["schema"].get("anyOf", [])]:
                    if schema.get("type") == "integer":
                        assert schema.get("minimum", -(2**70)) >= -(2**63), (method, path, p["name"])
                        assert schema.get("maximum", 2**70) < 2**63, (method, path, p["name"])
