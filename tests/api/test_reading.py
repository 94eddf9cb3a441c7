"""Reading results through the service: sift, export, workings, summaries, causes, runs, comparison, map and pictures."""

from __future__ import annotations

import csv
import io
from itertools import pairwise
from typing import Any

import openpyxl
import polars as pl
import pytest
from starlette.testclient import TestClient

from tests.api.conftest import Project, values
from vastmesh.api._results import at_address
from vastmesh.core.network import Network


def records(table: dict[str, Any]) -> list[dict[str, Any]]:
    names = [c["name"] for c in table["columns"]]
    return [dict(zip(names, row, strict=True)) for row in zip(*(c["values"] for c in table["columns"]), strict=True)]


def ask(project: Project, method: str, action: str, **body: Any) -> Any:
    answer = project.client.request(method, f"{project.url}/{action}", json=body or None)
    assert answer.status_code < 300, answer.text
    return answer.json() if answer.content else None


def rows_of(project: Project, table: str, text: str, **more: Any) -> list[str]:
    found = ask(project, "POST", "results/live/sift", table=table, text=text, **more)
    live = project.get("live").json()["tables"]
    if table.startswith("data:"):
        ids = [i["id"] for i in project.opened()["items"] if i["kind"] == table.removeprefix("data:")]
    else:
        ids = live[table]["columns"][0]["values"]
    return [ids[r] for r in found["rows"]]


def test_three_questions_are_one_line_each(project: Project) -> None:
    volts = values(project.get("live").json(), "buses", "voltage_pu")
    assert set(rows_of(project, "buses", "voltage_pu > 1.03")) == {b for b, v in volts.items() if v and v > 1.03}
    worst = rows_of(project, "branches", "loading_pct > 70 %, largest loading_pct first")
    assert worst[0] == "T-Q1"
    assert rows_of(project, "buses", "voltage_pu = max(voltage_pu)") == [max(volts, key=lambda b: volts[b] or 0)]


def test_sifting_by_feeder_area_name_and_data(project: Project) -> None:
    assert "Heron End" in rows_of(project, "buses", 'feeder ~ "Saltern F2"')
    assert "T-Q1" in rows_of(project, "branches", "area = Quillport and kind = transformer")
    assert rows_of(project, "data:transformer", "rated_mva >= 60 MVA")
    assert "T-Q1" not in rows_of(project, "data:line", "length_km > 5 km")


def test_what_one_tab_tries_is_nobody_elses(project: Project) -> None:
    line = {"table": "buses", "text": "voltage_pu < 0.95"}

    def low(tab: str) -> list[int]:
        answer = project.client.post(f"{project.url}/results/live/sift", params={"tab": tab}, json=line)
        rows: list[int] = answer.json()["rows"]
        return rows

    before = low("one")
    project.client.post(f"{project.url}/preview", json={"demand_factor": 0.2, "tab": "two"})
    assert len(low("two")) < len(before) == len(low("one"))
    both = {tab: project.get(f"results/live?tab={tab}").json() for tab in ("one", "two")}
    assert both["two"]["summary"]["demand_mw"] < 0.3 * both["one"]["summary"]["demand_mw"]
    # What is kept, explained and exported is what its tab shows.
    kept = project.client.post(f"{project.url}/results/live/keep", params={"tab": "two"}, json={"name": "two"}).json()
    assert project.get(f"results/run-{kept['id']}").json()["summary"] == both["two"]["summary"]
    steps = {
        tab: project.get(f"results/live/workings/T-Q1?tab={tab}").json()["workings"][0]["steps"]
        for tab in ("one", "two")
    }
    assert steps["one"] != steps["two"]
    # A trial ends when it is let go, and with the next change of the network.
    project.client.post(f"{project.url}/preview", json={"tab": "two"})
    assert low("two") == before
    project.client.post(f"{project.url}/preview", json={"demand_factor": 0.2, "tab": "two"})
    project.update("settings", base_mva=50.0)
    assert low("two") == before


@pytest.mark.parametrize(("study", "options"), [("linear_flow", {}), ("sensitivities", {}), ("sweep", {"steps": 2})])
def test_what_a_result_does_not_have_is_refused_and_never_an_error_of_ours(
    project: Project, study: str, options: dict[str, Any]
) -> None:
    at = f"job-{project.study(study, options, keep=study)['id']}"
    for path in ("summaries", "cause/T-Q1?quantity=loading_pct", "sift?table=cats"):
        assert project.get(f"results/{at}/{path}").status_code == 422, path
    for quantity in ("name", "id", "state", "voltage_pu_"):
        body = {"before": "live", "after": "live", "table": "buses", "quantity": quantity}
        assert project.client.post(f"{project.url}/compare", json=body).status_code == 422, quantity
        mixed = project.client.post(f"{project.url}/compare", json={**body, "after": at})
        assert mixed.status_code == 422, quantity
    assert project.client.post(f"{project.url}/compare", json={"before": at, "after": at}).status_code == 200


def test_a_result_asked_for_just_before_an_edit_is_read_with_its_own_network(project: Project) -> None:
    app = project.client.app
    one = app.state.sessions.get(project.url.rsplit("/", 1)[1])  # type: ignore[attr-defined]
    asked = at_address(one, app.state.runner, "live")  # type: ignore[attr-defined]
    gone = project.post("remove", ids=["Kesterby F2-01"])
    assert gone.status_code == 200
    assert asked.out_of_date
    assert not asked.live
    assert "Kesterby F2-01" in asked.network
    assert asked.explained("Kesterby F2-01")
    assert "Kesterby F2-01" not in at_address(one, app.state.runner, "live").network  # type: ignore[attr-defined]


def test_a_kept_run_is_asked_like_any_result_and_says_when_it_is_out_of_date(project: Project) -> None:
    done = project.study("linear_flow", keep="Linear")
    job, run = project.get(f"results/job-{done['id']}").json(), project.get(f"results/run-{done['kept']}").json()
    for found in (job, run):
        assert (found["study"], found["out_of_date"], found["condition"]) == ("linear_flow", False, "Winter evening")
        assert found["statement"]
        assert found["quantities"]
    assert {k: v for k, v in job.items() if k != "address"} == {k: v for k, v in run.items() if k != "address"}
    rows = project.client.post(
        f"{project.url}/results/run-{done['kept']}/sift", json={"table": "branches", "text": "area = Quillport"}
    ).json()["rows"]
    assert rows
    project.update("settings", base_mva=50.0)
    assert project.get(f"results/job-{done['id']}").json()["out_of_date"]
    text = project.client.post(
        f"{project.url}/results/run-{done['kept']}/export",
        json={"tables": ["branches"], "form": "csv", "rows": rows[:2]},
    ).text
    assert len(text.splitlines()) == 3
    for address, status in (("job-nothing", 404), ("run-nothing", 404), ("here", 422), ("job-", 422)):
        assert project.get(f"results/{address}").status_code == status, address


def test_a_bad_line_says_where_and_what(project: Project) -> None:
    answer = project.client.post(f"{project.url}/results/live/sift", json={"table": "buses", "text": "voltage < 1"})
    assert answer.status_code == 422
    body = answer.json()
    assert body["code"] == "sift"
    assert "did you mean voltage_pu" in body["detail"]
    assert body["errors"][0]["value"] == 0
    unknown = project.client.post(f"{project.url}/results/live/sift", json={"table": "cats", "text": ""})
    assert unknown.status_code == 422
    assert "buses" in unknown.json()["detail"]


def test_help_names_columns_and_functions(project: Project) -> None:
    found = project.get("results/live/sift?table=buses").json()
    assert {"voltage_pu", "feeder", "substation", "tags"} <= {c["name"] for c in found["columns"]}
    assert "max" in found["functions"]


# Runs


def test_a_kept_run_stays_while_the_network_goes_on_and_can_be_compared(project: Project) -> None:
    kept = ask(project, "POST", "results/live/keep", name="Before", note="as found")
    before = values(project.get("live").json(), "branches", "loading_pct")["T-Q1"]
    project.update("T-Q1", rated_mva=80.0)
    found = ask(project, "POST", "compare", before=f"run-{kept['id']}", table="branches", quantity="loading_pct")
    rows = records(found["table"])
    assert rows[0]["id"] == "T-Q1"
    assert rows[0]["before"] == pytest.approx(before)
    assert rows[0]["change"] == pytest.approx(rows[0]["after"] - rows[0]["before"])
    assert all(abs(a["change"] or 0) >= abs(b["change"] or 0) for a, b in pairwise(rows))
    assert any(f["element"] == "T-Q1" for f in found["findings_lost"])
    assert rows_of(project, "branches", "loading_pct - pinned.loading_pct < -10", pinned=kept["id"])[0] == "T-Q1"
    picture = project.get(f"runs/{kept['id']}/picture").json()
    old = next(i for i in picture["items"] if i["id"] == "T-Q1")
    assert old["rated_mva"] != 80.0
    assert project.item("T-Q1")["rated_mva"] == 80.0
    table = values(picture["result"], "branches", "loading_pct")
    assert table["T-Q1"] == pytest.approx(before)


def test_runs_are_listed_named_noted_and_removed(project: Project) -> None:
    one = ask(project, "POST", "results/live/keep", name="One")
    two = ask(project, "POST", "results/live/keep", name="Two")
    assert {r["name"] for r in project.get("runs").json()} == {"One", "Two"}
    ask(project, "PATCH", f"runs/{one['id']}", name="First", note="why")
    found = project.get(f"runs/{one['id']}").json()
    assert (found["run"]["name"], found["run"]["note"]) == ("First", "why")
    assert found["condition"]["name"] == "Winter evening"
    assert found["options"]["tolerance_pu"] == 1e-8
    ask(project, "DELETE", f"runs/{two['id']}")
    assert [r["name"] for r in project.get("runs").json()] == ["First"]
    gone = project.get(f"runs/{two['id']}")
    assert (gone.status_code, gone.json()["code"]) == (404, "unknown-run")


def test_a_run_belongs_to_its_project(project: Project, client: TestClient, demo: Network) -> None:
    kept = ask(project, "POST", "results/live/keep", name="Mine")
    other = client.app.state.sessions.store.create("Other", demo).id  # type: ignore[attr-defined]
    assert client.get(f"/api/projects/{other}/runs/{kept['id']}").status_code == 404


def test_a_study_is_answered_at_once_when_it_is_quick_and_kept_when_asked(project: Project) -> None:
    done = project.study("sweep", {"steps": 3, "automatic": "both"}, keep="Sweep")
    assert done["state"] == "finished"
    assert len(records(done["result"]["tables"]["points"])) == 6
    assert project.get(f"runs/{done['kept']}").json()["run"]["study"] == "sweep"
    again = project.client.get(f"/api/jobs/{done['id']}").json()
    assert again["state"] == "finished"
    assert project.client.get("/api/jobs/none").status_code == 404


def test_a_long_study_can_be_cancelled(project: Project) -> None:
    started = ask(project, "POST", "runs", study="sweep", options={"steps": 200, "automatic": "both"})
    ended = project.client.delete(f"/api/jobs/{started['id']}").json()
    assert ended["state"] in ("cancelled", "finished")
    assert ended["state"] == "finished" or "cancelled" in ended["problem"]


@pytest.mark.parametrize(
    ("body", "words"),
    [
        ({"study": "magic"}, "choose one of"),
        ({"study": "sweep", "options": {"steps": 1}}, "greater than or equal to 2"),
        ({"study": "sweep", "options": {"start": 1.0, "stop": 1.0}}, "enter a range"),
        ({"study": "sweep", "options": {"colour": "red"}}, "the options are quantity"),
    ],
)
def test_bad_options_name_the_option(project: Project, body: dict[str, Any], words: str) -> None:
    answer = project.client.post(f"{project.url}/runs", json=body)
    assert answer.status_code == 422
    assert words in answer.text


def test_linear_flow_and_sensitivities_through_the_service(project: Project) -> None:
    linear = project.study("linear_flow")["result"]
    assert "added as demand at each sending end" in linear["statement"]
    found = project.study("sensitivities", {"bus": "Heron End"})["result"]
    table = {r["id"]: r for r in records(found["tables"]["buses"])}
    assert table["Heron End"]["voltage_by_mvar"] > table["Ambry 132"]["voltage_by_mvar"]
    refused = project.study("sensitivities", {"bus": "nowhere"})
    assert (refused["state"], "nowhere" in refused["problem"]) == ("failed", True)


def test_runs_survive_a_restart(project: Project, client: TestClient) -> None:
    kept = ask(project, "POST", "results/live/keep", name="Before")
    client.app.state.sessions.close(project.url.rsplit("/", 1)[1])  # type: ignore[attr-defined]
    assert records(project.get(f"runs/{kept['id']}").json()["result"]["tables"]["buses"])


# Explaining


def test_workings_of_the_result_and_their_sheet(project: Project) -> None:
    found = project.get("results/live/workings/T-Q1").json()["workings"]
    steps = {s["symbol"]: s for s in found[0]["steps"]}
    live = values(project.get("live").json(), "branches", "from_active_power_mw")["T-Q1"]
    assert steps["P1"]["value"] == pytest.approx(live, abs=1e-6)
    answer = project.client.get(f"{project.url}/results/live/workings-sheet/T-Q1")
    assert "T-Q1%20workings.xlsx" in answer.headers["content-disposition"]
    book = openpyxl.load_workbook(io.BytesIO(answer.content))
    assert any(str(c.value).startswith("=") for c in book.worksheets[0]["D"])
    assert project.get("results/live/workings/nowhere").status_code == 404


def test_summaries_and_causes(project: Project) -> None:
    found = project.get("results/live/summaries").json()["tables"]
    assert {"by_area", "by_feeder", "by_level", "by_substation", "losses_by_kind", "losses_by_level"} == set(found)
    assert sum(r["demand_mw"] for r in records(found["by_level"])) == pytest.approx(
        project.get("live").json()["summary"]["demand_mw"], abs=1e-6
    )
    cause = project.get("results/live/cause/T-Q1?quantity=loading_pct").json()
    assert "beside T-Q2" in cause["text"]
    low = project.get("results/live/cause/Heron End?quantity=voltage_pu").json()
    assert "arises in" in low["text"]
    assert low["proposals"]
    applied = project.change(low["proposals"][0]["changes"])
    assert applied.status_code == 200


def test_a_finding_is_acknowledged_by_a_change_that_can_be_undone(project: Project) -> None:
    item = {
        "kind": "acknowledgement",
        "id": "seen",
        "element": "T-Q1",
        "quantity": "loading_pct",
        "value": 112.0,
        "note": "known",
    }
    assert project.change([{"op": "add", "item": item}]).status_code == 200
    assert project.item("seen")["note"] == "known"
    assert project.post("remove", ids=["T-Q1"]).status_code == 200  # goes with the element
    assert not [i for i in project.opened()["items"] if i["id"] == "seen"]
    bad = project.change([{"op": "add", "item": {**item, "id": "x", "element": "winter-evening"}}])
    assert bad.status_code in (404, 422)


# Export, map, pictures


def test_tables_leave_as_csv_xlsx_and_parquet(project: Project) -> None:
    def export(**body: Any) -> bytes:
        answer = project.client.post(f"{project.url}/results/live/export", json=body)
        assert answer.status_code == 200, answer.text
        assert "attachment" in answer.headers["content-disposition"]
        return answer.content

    assert b"Voltage (p.u.)" in export(tables=["buses"], form="csv")
    assert len(openpyxl.load_workbook(io.BytesIO(export(form="xlsx"))).sheetnames) >= 4
    found = pl.read_parquet(
        io.BytesIO(export(tables=["branches"], form="parquet", rows=[3, 1], columns=["id", "loading_pct"]))
    )
    assert found.shape == (2, 2)
    assert b"Length (km)" in export(tables=["data:line"], form="csv")
    chosen = {"MW": "kW", "Mvar": "kvar", "p.u.": "%"}
    text = export(tables=["buses"], form="csv", columns=["id", "voltage_pu", "demand_mw"], units=chosen).decode(
        "utf-8-sig"
    )
    assert text.splitlines()[0] == '"Id","Voltage (%)","Demand (kW)"'
    first = next(r for r in csv.reader(text.splitlines()) if r[2] not in ("Demand (kW)", "0.0", ""))
    plain = {
        r["id"]: r
        for r in pl.read_parquet(io.BytesIO(export(tables=["buses"], form="parquet", units=chosen))).to_dicts()
    }
    assert float(first[2]) == pytest.approx(1e3 * plain[first[0]]["demand_mw"])
    assert float(first[1]) == pytest.approx(100 * plain[first[0]]["voltage_pu"])
    for body in (
        {"tables": ["buses"], "units": {"MW": "p.u."}},
        {"tables": ["cats"]},
        {"form": "doc"},
        {"tables": ["buses"], "rows": [99999]},
    ):
        assert project.client.post(f"{project.url}/results/live/export", json=body).status_code == 422


def test_the_map_and_the_schematic_are_two_arrangements(project: Project) -> None:
    assert project.post("place", what="map", anew=True).status_code == 200
    assert project.item("Heron End")["longitude"] is not None
    lines = [i for i in project.opened()["items"] if i["kind"] == "line"]
    assert project.post("place", what="lengths", ids=[lines[0]["id"]]).status_code == 200
    assert project.post("place", what="schematic").status_code == 200
    assert project.post("undo").json()["changed"]
    for what in ("moon", "map"):
        assert project.post("place", what=what).status_code == 422


def test_a_backdrop_is_kept_and_given_back(project: Project) -> None:
    empty = project.get("backdrop").json()
    assert empty == {"type": "FeatureCollection", "features": []} or empty["features"]
    point = b'{"type":"Feature","properties":{},"geometry":{"type":"Point","coordinates":[1,2]}}'
    data = b'{"type":"FeatureCollection","features":[' + point + b"]}"
    put = project.client.put(
        f"{project.url}/backdrop?base_revision={project.revision}&file_name=coast.geojson", content=data
    )
    assert put.status_code == 200, put.text
    assert project.get("backdrop").content == data
    project.revision = put.json()["revision"]
    for bad in (b"", b"[]", b'{"type":"Feature"}', b"\xff\xfe"):
        answer = project.client.put(f"{project.url}/backdrop?base_revision={project.revision}", content=bad)
        assert answer.status_code == 422
    assert project.get("backdrop").content == data


def test_a_picture_as_pdf(project: Project) -> None:
    svg = '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 100 50"><rect width="10" height="10"/></svg>'
    answer = project.client.post(f"{project.url}/picture.pdf", json={"svg": svg, "paper": "A3", "title": "Coast"})
    assert answer.content.startswith(b"%PDF")
    assert "A4" in project.client.get("/api/papers").json()
    assert project.client.post(f"{project.url}/picture.pdf", json={"svg": "<p/>"}).status_code == 422
