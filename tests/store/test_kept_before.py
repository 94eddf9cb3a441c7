"""A folder as the version before results had addresses left it: its project, and runs of every kind, open whole."""

from __future__ import annotations

import zipfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from starlette.testclient import TestClient

from vastmesh.api import make_app

SAMPLE = Path(__file__).parents[1] / "data" / "kept-before-desks.zip"


@pytest.fixture
def client(tmp_path: Path) -> Iterator[TestClient]:
    zipfile.ZipFile(SAMPLE).extractall(tmp_path)
    with TestClient(make_app(tmp_path), base_url="http://127.0.0.1:8420") as found:
        yield found


def test_runs_kept_by_the_version_before_open_and_can_be_asked_further(client: TestClient) -> None:
    project = client.get("/api/projects").json()[0]
    url = f"/api/projects/{project['id']}"
    assert client.get(url).json()["live"]["account"]["ending"] == "converged"
    runs = {r["name"]: r for r in client.get(f"{url}/runs").json()}
    assert set(runs) == {"As found", "Sweep before", "Linear before", "Per phase before"}
    for name, table, study in (
        ("As found", "buses", "load_flow"), ("Per phase before", "buses", "unbalanced"), ("Sweep before", "points", "sweep"),
        ("Linear before", "branches", "linear_flow"),
    ):  # fmt: skip
        address = f"{url}/results/run-{runs[name]['id']}"
        found = client.get(address).json()
        assert (found["study"], found["account"]["ending"]) == (study, "converged")
        assert found["tables"][table]["columns"][0]["values"]
        assert found["out_of_date"] == (name != "Per phase before")
        line = {"buses": "voltage_pu < 2", "points": "lowest_voltage_pu > 0.5", "branches": "kind = line"}[table]
        answer = client.post(f"{address}/sift", json={"table": table, "text": line})
        assert answer.json()["rows"], answer.text
        exported = client.post(f"{address}/export", json={"tables": [table], "form": "csv"})
        assert len(exported.text.splitlines()) >= 2
    # What a load flow kept then is explained now, from the network as it stood.
    steps = client.get(f"{url}/results/run-{runs['As found']['id']}/workings/Load End").json()["workings"]
    assert steps
    both = {"before": f"run-{runs['As found']['id']}", "after": f"run-{runs['Per phase before']['id']}"}
    change = client.post(f"{url}/compare", json=both).json()
    assert change["quantities"]
    assert change["chosen"].startswith("buses ")
