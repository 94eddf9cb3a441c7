"""What the service refuses: bad values, bad files, strangers. Every refusal is RFC 9457 and changes nothing."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest
from starlette.testclient import TestClient

from tests.api.conftest import Project


def problem(answer: Any, status: int) -> dict[str, Any]:
    assert answer.status_code == status, answer.text
    assert answer.headers["content-type"] == "application/problem+json"
    body: dict[str, Any] = answer.json()
    assert {"type", "title", "status", "detail", "code", "errors"} <= set(body)
    assert "Traceback" not in answer.text
    return body


@pytest.mark.parametrize(
    ("ident", "values", "field", "words"),
    [
        ("T-Q1", {"rated_mva": -4}, "rated_mva", "from 1e-06 to 5000 MVA"),
        ("T-Q1", {"rated_mva": "lots"}, "rated_mva", "enter a number"),
        ("T-Q1", {"tap_position": 99}, "tap_position", "from -8 to 8"),
        ("T-Q1", {"colour": "red"}, "colour", "no such field"),
        ("Heron End", {"area": "T-Q1"}, "area", "name an existing area"),
        ("settings", {"tolerance_pu": 0}, "tolerance_pu", "from 1e-12 to 0.01 p.u."),
        ("winter-evening", {"demand_factor": -1}, "demand_factor", "from 0 to 10"),
    ],
)
def test_bad_values_name_element_field_and_remedy(
    project: Project, ident: str, values: dict[str, Any], field: str, words: str
) -> None:
    before = project.opened()["items"]
    body = problem(project.update(ident, **values), 422)
    assert body["errors"][0]["element"] == ident
    assert body["errors"][0]["field"] == field
    assert words in body["errors"][0]["allowed"]
    assert project.opened()["items"] == before


def test_a_group_with_one_bad_change_is_refused_whole(project: Project) -> None:
    good = {"op": "update", "id": "T-Q2", "values": {"rated_mva": 60.0}}
    bad = {"op": "add", "item": {"kind": "bus", "id": "x", "nominal_kv": -1}}
    body = problem(project.post("changes", label="both", changes=[good, bad]), 422)
    assert body["errors"][0]["element"] == "x"
    assert project.item("T-Q2")["rated_mva"] == 45.0
    assert project.opened()["project"]["revision"] == 0


def test_unknown_things_are_404(project: Project, client: TestClient) -> None:
    assert problem(project.update("nobody", name="x"), 404)["errors"][0]["element"] == "nobody"
    assert problem(client.get("/api/projects/nowhere"), 404)["code"] == "unknown-project"
    problem(client.get("/api/nothing"), 404)
    problem(project.post("grow", at="nobody", what="load"), 404)
    problem(project.post("grow", at="Heron End", what="castle"), 422)
    problem(client.get(f"{project.url}/export/scroll"), 422)


def test_malformed_requests_name_the_place(project: Project, client: TestClient) -> None:
    body = problem(
        client.post(f"{project.url}/changes", json={"base_revision": 0, "label": "x", "changes": [{"op": "eat"}]}), 422
    )
    assert body["errors"][0]["field"].startswith("body.changes.0")
    problem(client.post(f"{project.url}/changes", content=b"{not json"), 422)
    problem(client.post(f"{project.url}/preview", json={"demand_factor": 99}), 422)
    body = problem(project.update("T-Q1", base=7, rated_mva=50.0), 422)
    assert "stands at revision 0" in body["detail"]


def test_essentials_can_not_be_removed(project: Project) -> None:
    assert "stay" in problem(project.post("remove", ids=["settings"]), 422)["detail"]
    problem(project.post("remove", ids=["winter-evening"]), 422)
    assert project.post("remove", ids=["summer-noon"]).status_code == 200


def test_a_damaged_file_says_where_and_leaves_no_project(client: TestClient, nine_bus_file: bytes) -> None:
    half = client.post("/api/projects/import", content=nine_bus_file[: len(nine_bus_file) // 2])
    body = problem(half, 422)
    assert body["line"] is not None
    problem(client.post("/api/projects/import", content=b""), 422)
    problem(client.post("/api/projects/import", content=b"\x00\x01binary"), 422)
    assert client.get("/api/projects").json() == []


def test_a_200_mb_upload_is_refused_announced_or_not(client: TestClient) -> None:
    block = b"x" * 2**20

    def stream() -> Iterator[bytes]:
        for _ in range(200):
            yield block

    announced = client.post("/api/projects/import", content=block * 200)
    assert "64 MB" in problem(announced, 413)["detail"]
    problem(client.post("/api/projects/import", content=stream()), 413)
    assert client.get("/api/projects").json() == []


@pytest.mark.parametrize("host", ["evil.example", "127.0.0.1.evil.example:8420", "", "192.168.0.4:8420"])
def test_other_hosts_are_refused(client: TestClient, host: str) -> None:
    problem(client.get("/api/projects", headers={"host": host}), 421)


@pytest.mark.parametrize("origin", ["http://evil.example", "https://127.0.0.1:8420.evil.example", "null"])
def test_other_origins_can_not_change_anything(client: TestClient, origin: str) -> None:
    problem(client.post("/api/projects", json={"name": "x"}, headers={"origin": origin}), 403)
    assert client.get("/api/projects").json() == []
    own = client.post("/api/projects", json={"name": "x"}, headers={"origin": "http://127.0.0.1:8420"})
    assert own.status_code == 201


def test_every_answer_carries_the_security_headers(client: TestClient) -> None:
    for path in ("/", "/api/projects", "/api/projects/nobody", "/assets/none.js"):
        headers = client.get(path).headers
        assert "script-src 'self'" in headers["content-security-policy"]
        assert "unsafe-inline" not in headers["content-security-policy"].split("style-src")[0]
        assert headers["x-content-type-options"] == "nosniff"


@pytest.mark.parametrize("path", ["/../../pyproject.toml", "/..%2f..%2fpyproject.toml", "/assets/../../cli.py"])
def test_files_outside_the_front_end_are_never_served(client: TestClient, path: str) -> None:
    assert "[project]" not in client.get(path).text
    assert "argparse" not in client.get(path).text
