"""The live service: a change and its result in one answer, undo, growing, several clients, restarts."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from starlette.testclient import TestClient

from tests.api.conftest import Project, values
from vastmesh.api import make_app
from vastmesh.core.network import Network
from vastmesh.core.results.state import run_load_flow


def test_opening_gives_items_and_a_solved_result(project: Project, demo: Network) -> None:
    opened = project.opened()
    assert len(opened["items"]) == len(demo.items)
    live = opened["live"]
    assert live["account"]["ending"] == "converged"
    direct = run_load_flow(demo)
    volts = dict(zip(direct.tables["buses"]["id"], direct.tables["buses"]["voltage_pu"].tolist(), strict=True))
    assert values(live, "buses", "voltage_pu") == pytest.approx(volts, abs=1e-8)
    assert live["findings"][0]["element"] == "T-Q1"


def test_one_request_changes_and_solves(project: Project) -> None:
    before = values(project.opened()["live"], "branches", "loading_pct")["T-Q1"]
    done = project.update("T-Q1", rated_mva=80.0).json()
    assert done["revision"] == 1
    assert [i["id"] for i in done["changed"]] == ["T-Q1"]
    after = values(done["live"], "branches", "loading_pct")["T-Q1"]
    assert after < before
    assert done["history"] == {"undo": "Set T-Q1", "redo": None}
    again = project.opened()["live"]["findings"]
    assert [f["element"] for f in again] == [f["element"] for f in done["live"]["findings"]]
    assert [f["value"] for f in again] == pytest.approx([f["value"] for f in done["live"]["findings"]], abs=1e-6)


def test_undo_and_redo_are_entries_of_their_own(project: Project) -> None:
    start = project.opened()
    project.update("T-Q1", rated_mva=80.0)
    project.update("Heron End demand", active_power_mw=0.1)
    undone = project.post("undo").json()
    assert undone["history"] == {"undo": "Set T-Q1", "redo": "Set Heron End demand"}
    project.post("undo")
    opened = project.opened()
    assert opened["items"] == start["items"]
    assert opened["project"]["revision"] == 4
    assert values(opened["live"], "buses", "voltage_pu") == pytest.approx(
        values(start["live"], "buses", "voltage_pu"), abs=1e-8
    )
    project.post("redo")
    assert project.item("T-Q1")["rated_mva"] == 80.0
    project.update("T-Q2", rated_mva=60.0)
    refused = project.post("redo")
    assert refused.status_code == 422
    assert "nothing to redo" in refused.json()["detail"]
    kinds = [line["kind"] for line in project.client.get(f"{project.url}/journal").json()]
    assert kinds == ["do", "do", "undo", "undo", "redo", "do"]


def test_undo_puts_removed_equipment_back_in_its_place(project: Project) -> None:
    start = project.opened()["items"]
    removed = project.post("remove", ids=["Stone Beck"]).json()
    assert {"Stone Beck", "Saltern F2-06", "Stone Beck demand"} <= set(removed["removed"])
    assert removed["live"]["summary"]["dead_buses"] > 0
    back = project.post("undo").json()
    assert back["order"] == [i["id"] for i in start]
    assert project.opened()["items"] == start


@pytest.mark.parametrize("what", ["load", "line", "transformer", "generator"])
def test_growing_arrives_connected_placed_and_solved(project: Project, what: str) -> None:
    done = project.post("grow", at="Heron End", what=what).json()
    grown = next(i for i in done["changed"] if i["id"] == done["select"])
    assert "Heron End" in grown.values()
    assert "typical" in grown["origins"].values()
    for item in done["changed"]:
        if item["kind"] == "bus":
            assert item["x"] is not None
            assert (item["x"], item["y"]) not in {
                (i.get("x"), i.get("y")) for i in project.opened()["items"] if i != item
            }
    assert done["live"]["account"]["ending"] == "converged"
    assert done["live"]["summary"]["dead_buses"] == 0


def test_preview_solves_without_keeping(project: Project) -> None:
    start = project.opened()
    tried = project.client.post(
        f"{project.url}/preview", params={"rows": start["live"]["rows"]}, json={"demand_factor": 1.4}
    ).json()  # fmt: skip
    assert tried["summary"]["demand_mw"] == pytest.approx(1.4 * start["live"]["summary"]["demand_mw"])
    names = {c["name"]: c for c in tried["tables"]["buses"]["columns"]}
    assert names["voltage_pu"]["values"]
    assert names["name"]["fixed"]
    assert "values" not in names["name"]
    assert project.opened()["live"]["summary"] == pytest.approx(start["live"]["summary"])


def test_a_network_that_can_not_be_solved_is_an_answer_not_an_error(project: Project) -> None:
    answer = project.update("Heron End demand", active_power_mw=500.0)
    assert answer.status_code == 200
    live = answer.json()["live"]
    assert live["account"]["ending"] == "iteration_limit"
    assert "beyond what the network can carry" in live["account"]["explanation"]
    assert live["tables"] == {}
    assert live["account"]["worst"]
    assert project.post("undo").json()["live"]["account"]["ending"] == "converged"


# Several clients


def test_changes_of_other_fields_on_an_older_revision_are_merged(project: Project) -> None:
    project.update("T-Q1", rated_mva=80.0)
    late = project.update("Heron End demand", base=0, active_power_mw=0.2).json()
    assert late["merged"]
    assert late["revision"] == 2
    assert project.item("T-Q1")["rated_mva"] == 80.0


def test_changes_of_the_same_field_conflict_and_are_told_what_happened(project: Project) -> None:
    project.update("T-Q1", rated_mva=80.0)
    answer = project.update("T-Q1", base=0, rated_mva=60.0)
    assert answer.status_code == 409
    problem = answer.json()
    assert problem["code"] == "conflict"
    assert problem["errors"][0] == {
        "element": "T-Q1",
        "field": "rated_mva",
        "value": None,
        "allowed": "changed meanwhile",
    }
    assert [line["label"] for line in problem["changes_since"]] == ["Set T-Q1"]
    assert project.item("T-Q1")["rated_mva"] == 80.0


def test_a_client_that_fell_behind_catches_up(project: Project) -> None:
    project.update("T-Q1", rated_mva=80.0)
    project.post("grow", at="Heron End", what="load")
    project.post("remove", ids=["Peat Works demand"])
    news = project.client.get(f"{project.url}/since/0").json()
    assert news["revision"] == 3
    assert {"T-Q1", "Load Heron End"} == {i["id"] for i in news["changed"]}
    assert news["removed"] == ["Peat Works demand"]


def test_everything_is_there_after_a_restart(tmp_path: Path, demo: Network) -> None:
    with TestClient(make_app(tmp_path), base_url="http://127.0.0.1") as client:
        store = client.app.state.sessions.store  # type: ignore[attr-defined]
        one = Project(client, store.create("p", demo).id)
        one.update("T-Q1", rated_mva=80.0)
        one.post("undo")
        one.post("grow", at="Heron End", what="line")
        left = one.opened()
    with TestClient(make_app(tmp_path), base_url="http://127.0.0.1") as client:
        found = Project(client, left["project"]["id"]).opened()
    assert found["items"] == left["items"]
    assert found["history"] == left["history"]
    assert values(found["live"], "buses", "voltage_pu") == pytest.approx(
        values(left["live"], "buses", "voltage_pu"), abs=1e-8
    )


# Projects and files


def test_projects_live_their_lives(client: TestClient) -> None:
    made = client.post("/api/projects", json={"name": "From nothing"}).json()
    opened = client.get(f"/api/projects/{made['id']}").json()
    assert opened["live"]["account"]["ending"] == "converged"
    copy = client.post(f"/api/projects/{made['id']}/copy", json={"name": "Copy"}).json()
    client.patch(f"/api/projects/{copy['id']}", json={"name": "Second"})
    assert [p["name"] for p in client.get("/api/projects").json()] == ["Second", "From nothing"]
    assert client.delete(f"/api/projects/{made['id']}").status_code == 204
    gone = client.get(f"/api/projects/{made['id']}")
    assert (gone.status_code, gone.json()["code"]) == (410, "project-removed")
    assert [p["name"] for p in client.get("/api/projects", params={"removed": True}).json()] == ["From nothing"]
    client.post(f"/api/projects/{made['id']}/restore")
    assert len(client.get("/api/projects").json()) == 2


def imported(client: TestClient, data: bytes, name: str = "file") -> Any:
    return client.post("/api/projects/import", params={"file_name": name}, content=data)


def test_nine_bus_file_solves_to_its_published_voltages(
    client: TestClient, nine_bus_file: bytes, nine_bus_expected: dict[str, Any]
) -> None:
    done = imported(client, nine_bus_file, "nine.cdf")
    assert done.status_code == 201
    assert done.json()["report"]["assumed"]
    live = client.get(f"/api/projects/{done.json()['project']['id']}").json()["live"]
    volts, angles = values(live, "buses", "voltage_pu"), values(live, "buses", "angle_deg")
    for want in nine_bus_expected["buses"]:
        assert volts[str(want["bus"])] == pytest.approx(want["vm"], abs=1e-7)
        assert angles[str(want["bus"])] == pytest.approx(want["va_deg"], abs=1e-6)
    assert live["summary"]["active_loss_mw"] == pytest.approx(nine_bus_expected["totals"]["p_loss_mw"], abs=1e-6)


def test_imported_networks_are_laid_out_and_export_again(client: TestClient, nine_bus_file: bytes) -> None:
    ident = imported(client, nine_bus_file).json()["project"]["id"]
    buses = [i for i in client.get(f"/api/projects/{ident}").json()["items"] if i["kind"] == "bus"]
    assert len({(b["x"], b["y"]) for b in buses}) == 9
    exported = client.get(f"/api/projects/{ident}/export/document")
    assert "attachment" in exported.headers["content-disposition"]
    again = imported(client, exported.content, "x.json").json()["project"]["id"]
    items = [client.get(f"/api/projects/{i}").json()["items"] for i in (ident, again)]
    assert items[0] == items[1]
    assert client.get(f"/api/projects/{ident}/export/cdf").text.startswith(" 01/01/00")


def test_tidying_lays_everything_out_anew_in_one_step(project: Project) -> None:
    done = project.post("tidy")
    assert done.status_code == 200
    assert len(done.json()["changed"]) == 119
    project.post("undo")
    assert project.item("Ambry 132")["x"] == 420


def test_undo_takes_back_ones_own_edit_first_and_says_whose_another_is(project: Project) -> None:
    """Two windows: each takes back its own, unless the other has gone on from it."""
    mine, theirs = ({"x-tab": f"window-{n}-of-two"} for n in (1, 2))

    def edit(window: dict[str, str], ident: str, **values: float) -> None:
        body = {"base_revision": project.revision, "label": f"Set {ident}", "changes": [
            {"op": "update", "id": ident, "values": values}]}  # fmt: skip
        project.revision = project.client.post(f"{project.url}/changes", json=body, headers=window).json()["revision"]

    def undone(window: dict[str, str], action: str = "undo") -> dict[str, str | None]:
        answer = project.client.post(f"{project.url}/{action}", headers=window)
        assert answer.status_code == 200, answer.text
        project.revision = answer.json()["revision"]
        found: dict[str, str | None] = answer.json()["history"]
        return found

    def told(window: dict[str, str]) -> str | None:
        return project.client.get(project.url, headers=window).json()["history"]["undo"]  # type: ignore[no-any-return]

    start = {i: project.item(i)["rated_mva"] for i in ("T-Q1", "T-Q2")}
    edit(mine, "T-Q1", rated_mva=80.0)
    edit(theirs, "T-Q2", rated_mva=60.0)
    assert told(mine) == "Set T-Q1"
    assert told(theirs) == "Set T-Q2"
    assert undone(mine) == {"undo": "Set T-Q2 (another window's)", "redo": "Set T-Q1"}
    assert project.item("T-Q1")["rated_mva"] == start["T-Q1"]
    assert project.item("T-Q2")["rated_mva"] == 60.0
    assert undone(mine, "redo")["undo"] == "Set T-Q1"
    # The other window goes on from my edit: then it is the last one that is taken back, and it is said whose.
    edit(theirs, "T-Q1", rated_mva=90.0)
    assert told(mine) == "Set T-Q1 (another window's)"
    undone(mine)
    assert project.item("T-Q1")["rated_mva"] == 80.0
    undone(mine)
    assert project.item("T-Q1")["rated_mva"] == start["T-Q1"]
    undone(theirs)
    assert project.item("T-Q2")["rated_mva"] == start["T-Q2"]
    # What nobody is known to have made is no third window's own: it stays beneath what others did after it.
    edit({}, "T-Q1", rated_mva=81.0)
    edit(theirs, "T-Q2", rated_mva=61.0)
    assert told(mine) == "Set T-Q2 (another window's)"
