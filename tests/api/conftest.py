from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from starlette.testclient import TestClient

from vastmesh.api import make_app
from vastmesh.core.network import Network
from vastmesh.runner import LocalPool


@pytest.fixture
def client(tmp_path: Path, pool: LocalPool) -> Iterator[TestClient]:
    with TestClient(make_app(tmp_path, pool=pool), base_url="http://127.0.0.1:8420") as found:
        yield found


class Project:
    """A project as a client sees it: keeps the revision and hands out changes."""

    def __init__(self, client: TestClient, ident: str) -> None:
        self.client, self.url = client, f"/api/projects/{ident}"
        self.revision = self.opened()["project"]["revision"]

    def opened(self) -> dict[str, Any]:
        answer = self.client.get(self.url)
        assert answer.status_code == 200, answer.text
        found: dict[str, Any] = answer.json()
        return found

    def post(self, action: str, /, *, base: int | None = None, **body: Any) -> Any:
        """The raw answer; the revision moves on when it went well."""
        body = (
            {"base_revision": self.revision if base is None else base, **body} if action not in ("undo", "redo") else {}
        )
        answer = self.client.post(f"{self.url}/{action}", json=body)
        if answer.status_code == 200:
            self.revision = answer.json()["revision"]
        return answer

    def study(self, study: str, options: dict[str, Any] | None = None, **more: Any) -> dict[str, Any]:
        """A study, waited for: how its job ended, with its result."""
        answer = self.client.post(f"{self.url}/runs", json={"study": study, "options": options or {}, **more})
        assert answer.status_code == 200, answer.text
        job = self.client.app.state.runner.job(answer.json()["id"])  # type: ignore[attr-defined]
        assert job.wait(300)
        found: dict[str, Any] = self.client.get(f"/api/jobs/{job.id}").json()
        return found

    def update(self, ident: str, *, base: int | None = None, **values: Any) -> Any:
        change = {"op": "update", "id": ident, "values": values}
        return self.post("changes", base=base, label=f"Set {ident}", changes=[change])

    def get(self, action: str) -> Any:
        return self.client.get(f"{self.url}/{action}".rstrip("/"))

    def change(self, changes: list[dict[str, Any]]) -> Any:
        return self.post("changes", label="Change", changes=changes)

    def item(self, ident: str) -> dict[str, Any]:
        return next(i for i in self.opened()["items"] if i["id"] == ident)


@pytest.fixture
def project(client: TestClient, demo: Network) -> Project:
    """The demo region as an open project."""
    sessions = client.app.state.sessions  # type: ignore[attr-defined]
    return Project(client, sessions.store.create("Corvane Coast", demo).id)


def values(live: dict[str, Any], table: str, name: str) -> dict[str, Any]:
    columns = {c["name"]: c["values"] for c in live["tables"][table]["columns"]}
    return dict(zip(columns["id"], columns[name], strict=True))
