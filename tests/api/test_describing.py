"""Describing a network through the service: copies, tables, types, documents, checks, workings, supply."""

from __future__ import annotations

import time

import pytest
from fastapi.testclient import TestClient

from tests.api.conftest import Project


def items(project: Project) -> dict[str, dict[str, object]]:
    return {i["id"]: i for i in project.get("").json()["items"]}


def test_a_feeder_pasted_thirty_times_is_one_step(project: Project) -> None:
    # Thirty more feeders are more than the transformer could feed at full demand.
    project.change([{"op": "update", "id": "winter-evening", "values": {"demand_factor": 0.1}}])
    before = items(project)
    feeder = project.get("supply/Kesterby F2-01").json()
    chosen = [i for i in before.values() if i["id"] == "Kesterby F2-01" or i["id"] in feeder["buses"]
              or set(map(str, i.values())) & set(feeder["buses"])]  # fmt: skip
    started = time.perf_counter()
    done = project.post("paste", items=chosen, onto="Kesterby 11", times=30).json()
    took = time.perf_counter() - started
    names = [i["name"] for i in items(project).values() if i["kind"] in ("bus", "line", "load")]
    assert len(names) == len(set(names))
    assert len(done["pasted"]) == 30 * (len(chosen) - len(done["left_out"]))
    assert done["live"]["summary"]["dead_buses"] == 0
    assert took < 10, "far above what it takes; the benchmark measures it"
    spots = [(i["x"], i["y"]) for i in items(project).values() if i["kind"] == "bus"]
    assert len(set(spots)) == len(spots), "no copy lies on another bus"
    project.post("undo")
    assert items(project) == before


def test_pasting_where_the_voltage_differs_is_refused(project: Project) -> None:
    load = items(project)["Cold Store demand"]
    line = items(project)["Kesterby F2-01"]
    bus = items(project)[str(line["to_bus"])]
    refused = project.post("paste", items=[line, bus], onto="Ambry 132")
    assert refused.status_code == 422
    assert "choose a bus of that voltage" in refused.json()["detail"]
    assert project.post("paste", items=[load], onto="Ambry 132").status_code == 422


def test_three_bad_rows_apply_none_and_are_named(project: Project) -> None:
    text = ("Name\tLength (km)\tRating (A)\n"
            "Saltern F2-01\t1.3\t300\nSaltern F2-02\t-1\t300\nSaltern F2-03\tlong\t300\nSaltern F2-04\t1.0\t0\n")  # fmt: skip
    refused = project.post("table", kind="line", text=text)
    assert refused.status_code == 422
    found = [(e["element"], e["field"]) for e in refused.json()["errors"]]
    assert found == [("row 2", "length_km"), ("row 3", "length_km"), ("row 4", "rating_a")]
    assert items(project)["Saltern F2-01"]["length_km"] == 1.1
    good = project.post("table", kind="line", text="Name\tLength (km)\nSaltern F2-01\t1,3\n")
    assert good.status_code == 200, good.text
    assert items(project)["Saltern F2-01"]["length_km"] == 1.3


def test_a_table_goes_out_and_comes_back_unchanged(project: Project) -> None:
    before = items(project)
    text = project.get("table?kind=load").text
    assert text.splitlines()[0].startswith("Name\t")
    assert project.post("table", kind="load", text=text).status_code == 200
    after = items(project)
    for ident, item in before.items():
        same = {k: v for k, v in item.items() if k != "origins"}
        assert {k: v for k, v in after[ident].items() if k != "origins"} == same, ident


def test_new_rows_add_elements(project: Project) -> None:
    text = "Name\tBus\tActive power (MW)\tPower factor\nKiosk\tHeron End\t0.01\t0.95\nKiosk 2\tHeron End\t0.02\t0.95\n"
    assert project.post("table", kind="load", text=text).status_code == 200
    assert items(project)["Kiosk 2"]["bus"] == "Heron End"


def test_the_next_size_and_types_of_ones_own(project: Project) -> None:
    up = project.post("swap", ids=["Kesterby F2-01"], step=1).json()
    assert up["changed"][0]["type"] == "Al 1×240 XLPE 11 kV cable"
    assert project.post("swap", ids=["Heron End"], step=1).status_code == 422
    csv = ("name,family,series,size,r_ohm_per_km,x_ohm_per_km,rating_a,construction\n"
           "Harbour special,line,harbour,500,0.08,0.1,600,cable\n")  # fmt: skip
    base = project.revision
    done = project.client.post(
        f"{project.url}/types/import", params={"base_revision": base, "file_name": "t.csv"}, content=csv.encode()
    )
    assert done.status_code == 200, done.text
    project.revision = done.json()["revision"]
    found = project.get("types?family=line&query=harbour").json()["types"]
    assert [(t["name"], t["own"], t["used"]) for t in found] == [("Harbour special", True, 0)]
    change = {"op": "update", "id": "Kesterby F2-01", "values": {"type": "Harbour special"}}
    assert project.change([change]).status_code == 200
    before = project.get("live").json()["summary"]["active_loss_mw"]
    values = {"r_ohm_per_km": 0.4, "x_ohm_per_km": 0.1, "rating_a": 600, "construction": "cable"}
    done = project.change([{"op": "update", "id": "Harbour special", "values": {"values": values}}]).json()
    assert {i["id"] for i in done["changed"]} == {"Harbour special", "Kesterby F2-01"}
    assert done["live"]["summary"]["active_loss_mw"] > before, "changing a type re-solves what uses it"
    project.post("undo")
    assert items(project)["Kesterby F2-01"]["r_ohm_per_km"] == 0.08


@pytest.mark.parametrize("form", ["csv", "xlsx"])
def test_types_leave_and_return_as_files(project: Project, form: str) -> None:
    data = project.get(f"types/export?family=switch&form={form}&query=fuse gG").content
    named = data
    if form == "csv":
        named = data.replace(b"LV fuse", b"My fuse")
    base = project.revision
    answer = project.client.post(f"{project.url}/types/import", params={"base_revision": base}, content=named)
    if form == "csv":
        assert answer.status_code == 200, answer.text
        assert items(project)["My fuse gG 63 A"]["values"]["fuse_a"] == 63  # type: ignore[index]
    else:
        assert answer.status_code == 422, "these names are the catalogue's own"
        assert "has this name already" in answer.json()["detail"]


def test_checks_offer_repairs_that_work(project: Project) -> None:
    project.change([{"op": "update", "id": "T-Q1", "values": {"lv_kv": 11.0}}])
    found = [c for c in project.get("checks").json() if c["element"] == "T-Q1" and c["rule"] == "voltage"]
    assert "on a bus of 33 kV" in found[0]["text"]
    assert project.change(found[0]["repair"]["changes"]).status_code == 200
    assert not [c for c in project.get("checks").json() if c["element"] == "T-Q1" and c["rule"] == "voltage"]


def test_workings_and_supply_are_told(project: Project) -> None:
    about = project.get("about/T-Q1").json()
    steps = {s["symbol"]: s for w in about["workings"] for s in w["steps"]}
    assert steps["uX"]["value"] == pytest.approx(9.993, abs=1e-3)
    assert steps["Pk"]["field"] == "load_loss_kw"
    supply = project.get("supply/Heron End").json()
    assert supply["live"]
    assert supply["path"][0] == "Heron End"
    assert supply["feeder"] == "Saltern F2-01"
    tie = project.get("supply/Tie Moor End").json()
    assert tie["thrown"]["loses"] == []
    feeders = project.get("feeders").json()["feeders"]
    assert next(f for f in feeders if f["id"] == "Saltern F2-01")["supply"] == "Saltern 11"
    assert project.get("about/nobody").status_code == 404


def test_documents_are_kept_and_served_as_downloads(project: Project, client: TestClient) -> None:
    page = b"<script>alert(1)</script>"
    base = project.revision
    params = {"element": "T-Q1", "file_name": "../test sheet.html", "base_revision": base}
    done = client.post(f"{project.url}/attachments", params=params, content=page)
    assert done.status_code == 200, done.text
    kept = items(project)["T-Q1"]["attachments"][0]  # type: ignore[index]
    assert (kept["name"], kept["size"], kept["media_type"]) == ("test sheet.html", len(page), "text/html")
    got = project.get(f"attachments/{kept['sha256']}")
    assert got.content == page
    assert got.headers["content-disposition"].startswith("attachment;")
    assert got.headers["content-type"] == "application/octet-stream"
    assert got.headers["x-content-type-options"] == "nosniff"
    assert project.get(f"attachments/{'0' * 64}").status_code == 404
    project.post("undo")
    assert "attachments" not in items(project)["T-Q1"]
    assert project.get(f"attachments/{kept['sha256']}").status_code == 404
    empty = client.post(f"{project.url}/attachments", params={**params, "base_revision": base + 2}, content=b"")
    assert empty.status_code == 422


def test_growing_in_a_line_and_between_two_buses(project: Project) -> None:
    done = project.post("grow", at="Saltern F2-01", what="insert_bus", options={"distance_km": 0.4}).json()
    lengths = sorted(i["length_km"] for i in done["changed"] if i["kind"] == "line")
    assert lengths == pytest.approx([0.4, 0.7])
    done = project.post("grow", at="Heron End", what="switch", to="Moor End").json()
    new = next(i for i in done["changed"] if i["id"] == done["select"])
    assert (new["from_bus"], new["to_bus"]) == ("Heron End", "Moor End")
    joined = project.post("join", gone="Heron End", kept="Peat Works").json()
    assert "Heron End" in joined["removed"]
    assert joined["live"]["summary"]["dead_buses"] == 0
