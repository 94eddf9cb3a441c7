"""Schemes through the service: laid on, recorded into, undone, merged, compared; other phases; the load flow per phase."""

from __future__ import annotations

import io
from typing import Any

import openpyxl
import pytest

from tests.api.conftest import Project, values
from vastmesh.runner import AsideFailed


def add_scheme(project: Project, ident: str, *changes: dict[str, Any], **more: Any) -> Any:
    item = {"kind": "scheme", "id": ident, "active": True, "changes": list(changes), **more}
    return project.change([{"op": "add", "item": item}])


def on(ident: str, **fields: Any) -> dict[str, Any]:
    return {"change": {"op": "update", "id": ident, "values": fields}}


def finished(project: Project, study: str, **options: Any) -> dict[str, Any]:
    """The result of a study, waited for."""
    job = project.study(study, options)
    assert job["state"] == "finished", job["problem"]
    found: dict[str, Any] = job["result"]
    return found


def demand(project: Project, ident: str = "Heron End demand") -> float:
    return float(project.item(ident)["active_power_mw"])


def test_a_scheme_shows_at_once_and_goes_again(project: Project) -> None:
    before = values(project.opened()["live"], "branches", "loading_pct")["T-Q1"]
    done = add_scheme(project, "relief", on("T-Q1", rated_mva=80.0)).json()
    assert {i["id"] for i in done["changed"]} == {"relief", "T-Q1"}
    assert values(done["live"], "branches", "loading_pct")["T-Q1"] < 0.7 * before
    assert project.item("T-Q1")["rated_mva"] == 80.0
    off = project.update("relief", active=False).json()
    assert {i["id"] for i in off["changed"]} == {"relief", "T-Q1"}
    assert values(off["live"], "branches", "loading_pct")["T-Q1"] == pytest.approx(before, abs=1e-6)
    assert project.item("T-Q1")["rated_mva"] == 40.0


def test_edits_are_recorded_and_the_present_network_stays(project: Project) -> None:
    was = demand(project)
    add_scheme(project, "trial")
    project.update("settings", recording="trial")
    project.update("Heron End demand", active_power_mw=0.123)
    assert demand(project) == 0.123
    entry = project.item("trial")["changes"][0]
    assert entry["label"].startswith("Heron End demand: active power")
    exported = project.get("export/document").json()
    base = next(i for i in exported["items"] if i["id"] == "Heron End demand")
    assert base["active_power_mw"] == was, "a file holds the present network, and schemes as schemes"
    project.post("undo")
    assert demand(project) == was
    project.post("redo")
    assert demand(project) == 0.123


def test_growing_while_recording_belongs_to_the_scheme(project: Project) -> None:
    add_scheme(project, "trial")
    project.update("settings", recording="trial")
    done = project.post("grow", at="Heron End", what="line").json()
    new = [i["id"] for i in done["changed"] if i["kind"] in ("bus", "line")]
    assert len(new) == 2
    layers = project.get("layers").json()
    assert {layers["added"][i] for i in new} == {"trial"}
    placed = project.item(next(i for i in new if not i.startswith("Line")))
    assert placed["x"] is not None
    project.update("settings", recording=None)
    off = project.update("trial", active=False).json()
    assert set(off["removed"]) == set(new)
    again = project.update("trial", active=True).json()
    assert set(new) <= {i["id"] for i in again["changed"]}


def test_what_only_a_scheme_has_is_refused_to_the_present_network(project: Project) -> None:
    add_scheme(project, "trial", {"change": {"op": "add", "item": {"kind": "bus", "id": "annex", "nominal_kv": 11.0}}})
    load = {"kind": "load", "id": "annex load", "bus": "annex", "active_power_mw": 0.1, "power_factor": 0.95}
    refused = project.change([{"op": "add", "item": load}])
    assert refused.status_code in (404, 422)
    assert "annex" in refused.json()["detail"]
    assert "annex load" not in {i["id"] for i in project.opened()["items"]}


def test_clashes_and_what_does_not_fit_are_told(project: Project) -> None:
    add_scheme(project, "one", on("T-Q1", rated_mva=60.0), rank=1)
    add_scheme(project, "two", on("T-Q1", rated_mva=80.0), on("nothing", x=1.0), rank=2)
    layers = project.get("layers").json()
    clash = layers["clashes"][0]
    assert clash == {"element": "T-Q1", "field": "rated_mva", "earlier": "one", "later": "two"}
    assert [(u["scheme"], u["number"]) for u in layers["unfit"]] == [("two", 1)]
    assert project.item("T-Q1")["rated_mva"] == 80.0


def test_what_a_scheme_takes_out_is_still_told_with_its_place(project: Project) -> None:
    before = project.item("Heron End")
    add_scheme(project, "give up")
    project.update("settings", recording="give up")
    project.post("remove", ids=["Heron End"])
    layers = project.get("layers").json()
    removed = {i["id"]: i for i in layers["removed"]}
    assert removed["Heron End"] == before
    assert "Heron End demand" in removed, "what hung there goes with it"
    assert all(layers["by"][i] == ["give up"] for i in removed)
    assert not {i["id"] for i in project.opened()["items"]} & set(removed)
    project.update("give up", active=False)
    assert project.get("layers").json()["removed"] == []


def test_merging_is_one_step_and_can_be_undone(project: Project) -> None:
    add_scheme(project, "relief", on("T-Q1", rated_mva=80.0))
    assert project.post("merge", scheme="relief").status_code == 200
    assert project.item("relief")["active"] is False
    assert project.item("T-Q1")["rated_mva"] == 80.0
    project.post("undo")
    assert project.item("relief")["active"] is True
    project.update("relief", active=False)
    assert project.item("T-Q1")["rated_mva"] == 40.0


def test_schemes_survive_a_restart(project: Project) -> None:
    add_scheme(project, "relief", on("T-Q1", rated_mva=80.0))
    project.client.app.state.sessions.close(project.url.rsplit("/", 1)[1])  # type: ignore[attr-defined]
    assert project.item("T-Q1")["rated_mva"] == 80.0


def test_large_cases_are_solved_beside_the_service_and_say_the_same(
    project: Project, monkeypatch: pytest.MonkeyPatch
) -> None:  # fmt: skip
    add_scheme(project, "relief", on("T-Q1", rated_mva=80.0), active=False)
    body = {"before": {}, "after": {"schemes": ["relief"], "condition": "winter-evening"}, "pictures": True}
    here = project.client.post(f"{project.url}/cases", json=body).json()
    monkeypatch.setattr("vastmesh.api._schemes._MANY", 10)
    beside = project.client.post(f"{project.url}/cases", json=body)
    assert beside.status_code == 200
    assert beside.json()["summary"] == here["summary"]
    assert beside.json()["results"] == here["results"]
    assert beside.json()["findings_lost"] == here["findings_lost"]
    assert project.get("jobs").json() == [], "nobody's list has them"
    refused = project.client.post(f"{project.url}/cases", json={"before": {"schemes": ["none"]}, "after": {}})
    assert refused.status_code == 422

    # What goes wrong beside is told like what goes wrong here.
    def broken(*_: object) -> None:
        raise AsideFailed("There was not enough memory for it.", "memory")

    monkeypatch.setattr("vastmesh.runner.Runner.aside", broken)
    told = project.client.post(f"{project.url}/cases", json=body)
    assert (told.status_code, told.json()["code"]) == (400, "memory")


def test_comparing_cases(project: Project) -> None:
    add_scheme(project, "relief", on("T-Q1", rated_mva=80.0), cost_k=900.0, active=False)
    body = {"before": {"schemes": []}, "after": {"schemes": ["relief"]}, "pictures": True}
    found = project.client.post(f"{project.url}/cases", json=body).json()
    assert found["after"]["cost_k"] == 900.0
    assert any(f["element"] == "T-Q1" for f in found["findings_lost"])
    assert len(found["before"]["items"]) == len(found["after"]["items"])
    assert found["results"]["branches:loading_pct"]["columns"][0]["values"][0] == "T-Q1"
    refused = project.client.post(f"{project.url}/cases", json={"before": {"schemes": ["none"]}, "after": {}})
    assert refused.status_code == 422


# Phases


def test_another_phase_is_one_request(project: Project) -> None:
    home = next(i for i in project.opened()["items"] if i["id"] == "LR home 01")
    assert home["conductors"] == "AN"
    choices = project.get("phases/LR home 01").json()
    assert (choices["now"], choices["choices"], choices["unit"]) == ("A", ["A", "B", "C"], "LR home 01")
    done = project.post("phases", ident="LR home 01", phases="C").json()
    assert [i["conductors"] for i in done["changed"]] == ["CN"]
    within = next(i["id"] for i in project.opened()["items"] if i.get("bus") == "Crescent 2" and i["kind"] == "load")
    assert project.get(f"phases/{within}").json()["unit"] == "LR crescent-1"
    moved = project.post("phases", ident="LR crescent-1", phases="B").json()
    assert {i["conductors"] for i in moved["changed"]} == {"BN"}
    assert len(moved["changed"]) == 13
    refused = project.post("phases", ident="Heron End demand", phases="B")
    assert refused.status_code == 422
    assert project.get("phases/T-Q1").json()["choices"] == []


def test_the_live_load_flow_per_phase(project: Project) -> None:
    done = project.update("settings", study="per_phase").json()
    live = done["live"]
    assert live["account"]["ending"] == "converged"
    columns = {c["name"]: c for c in live["tables"]["buses"]["columns"]}
    assert columns["phase_a_voltage_pu"]["view"] == "phases"
    assert columns["positive_voltage_pu"]["view"] == "sequences"
    street = [f for f in live["findings"] if f["element"].startswith(("LR", "Wick", "Lamp", "Crescent"))]
    assert {"neutral_voltage_v", "voltage_pu", "loading_pct", "neutral_loading_pct"} <= {f["quantity"] for f in street}
    assert any("phase A" in f["text"] for f in street)
    preview = project.client.post(f"{project.url}/preview", json={"demand_factor": 0.3}).json()
    assert len(preview["findings"]) < len(live["findings"])


def test_figures_per_phase_can_be_asked_how(project: Project) -> None:
    project.update("settings", study="per_phase")
    titles = [w["title"] for w in project.get("results/live/workings/LR 7").json()["workings"]]
    assert titles == ["Voltages", "Sequences and unbalance"]
    line = project.get("results/live/workings/LR main-01").json()["workings"]
    assert [w["title"] for w in line] == ["Currents", "Loading", "Losses", "Drop along phase A", "Conductor matrix"]
    assert line[-1]["matrices"][0]["names"] == ["A", "B", "C", "N"]
    live = project.opened()["live"]
    unbalance = values(live, "buses", "unbalance_pct")["LR 7"]
    steps = {s["symbol"]: s["value"] for s in project.get("results/live/workings/LR 7").json()["workings"][1]["steps"]}
    assert steps["u2"] == pytest.approx(unbalance, rel=1e-6)
    cause = project.get("results/live/cause/LR 7?quantity=neutral_voltage_v").json()
    assert "loaded unequally" in cause["text"]


def test_balancing_as_a_run_hands_a_scheme_over(project: Project) -> None:
    result = finished(
        project, "balancing", feeder="T-Lantern Row", conditions=["winter-evening", "summer-noon"], method="exchange"
    )
    made = add_scheme(project, "balance", *result["scheme"])
    assert made.status_code == 200
    project.update("settings", study="per_phase")
    for condition in ("winter-evening", "summer-noon"):
        live = project.update("settings", condition=condition).json()["live"]
        street = ("LR", "Wick Yard", "Lamp Court", "Crescent", "Lantern Row 0.4", "T-Lantern")
        breaches = [f for f in live["findings"] if f["element"].startswith(street) and f["severity"] == "breach"]
        assert breaches == []
    moved = {i["conductors"] for i in project.opened()["items"] if i["id"].startswith(("Crescent", "LR crescent"))}
    assert len(moved) == 1, "the crescent has moved as a whole"
    assert moved != {"AN"}


def test_a_sheet_of_workings_per_phase_and_a_sweep_per_phase(project: Project) -> None:
    project.update("settings", study="per_phase")
    book = openpyxl.load_workbook(io.BytesIO(project.get("results/live/workings-sheet/LR home 05").content))
    assert book.sheetnames == ["Power and current by phase", "What the neutral carries"]
    assert any(str(c.value).startswith("=") for row in book.worksheets[0].iter_rows() for c in row)
    swept = finished(project, "sweep", quantity="conditions", automatic="as_set")
    points = {c["name"]: c["values"] for c in swept["tables"]["points"]["columns"]}
    low = dict(zip(points["label"], points["lowest_voltage_pu"], strict=True))
    high = dict(zip(points["label"], points["highest_voltage_pu"], strict=True))
    assert low["Winter evening"] < 0.9, "the street's worst phase, which the balanced flow does not know"
    assert high["Summer noon"] > 1.1
    assert all(v > 0 for v in points["highest_neutral_v"])
