"""Conditions through the service: their own values and limits act at once, come off again, and never spoil the network."""

from __future__ import annotations

from typing import Any

import pytest

from tests.api.conftest import Project, values


def live(project: Project) -> dict[str, Any]:
    found: dict[str, Any] = project.get("live").json()
    return found


def test_a_tap_of_one_condition_acts_there_and_nowhere_else(project: Project) -> None:
    assert project.update("winter-evening", values={"T-Q1": {"tap_position": -8}}).status_code == 200
    assert values(live(project), "branches", "tap_position")["T-Q1"] == -8
    assert project.item("T-Q1")["tap_position"] == -4
    project.update("settings", condition="summer-noon")
    assert values(live(project), "branches", "tap_position")["T-Q1"] == -4
    project.update("settings", condition="winter-evening")
    assert values(live(project), "branches", "tap_position")["T-Q1"] == -8
    project.post("undo")
    project.post("undo")
    project.post("undo")
    assert values(live(project), "branches", "tap_position")["T-Q1"] == -4


def test_a_machine_holds_another_voltage_in_one_condition(project: Project) -> None:
    project.update("winter-evening", values={"Thessel Head hydro": {"voltage_pu": 1.03}})
    assert values(live(project), "buses", "voltage_pu")["Thessel Head 13.8"] == pytest.approx(1.03, abs=1e-6)
    project.update("winter-evening", values={"Thessel Head hydro": {"control": "power_factor", "power_factor": 1.0}})
    q = values(live(project), "injections", "reactive_power_mvar")["Thessel Head hydro"]
    assert q == pytest.approx(0.0, abs=1e-6)


def test_values_that_fit_nothing_are_pointed_out_and_count_for_nothing(project: Project) -> None:
    before = values(live(project), "buses", "voltage_pu")
    project.update("winter-evening", values={"T-Q1": {"tap_position": 400}, "gone": {"x": 1}})
    assert values(live(project), "buses", "voltage_pu") == pytest.approx(before, abs=1e-7)
    found = [c for c in project.get("checks").json() if c["rule"] == "conditions"]
    assert len(found) == 2
    for c in found[:1]:
        assert project.change(c["repair"]["changes"]).status_code == 200
    left = [c for c in project.get("checks").json() if c["rule"] == "conditions"]
    assert len(left) < 2


def test_emergency_limits_of_a_condition_let_more_through(project: Project) -> None:
    def loaded() -> dict[str, dict[str, Any]]:
        return {f["element"]: f for f in live(project)["findings"] if f["quantity"] == "loading_pct"}

    normal = loaded()
    assert normal["T-Q1"]["severity"] == "breach"
    project.update("winter-evening", limit_set="emergency")
    emergency = loaded()
    assert emergency["T-Q1"]["severity"] == "watch"
    assert "limit" in emergency["T-Q1"]
    assert (
        len([f for f in emergency.values() if f["severity"] == "breach"])
        < len([f for f in normal.values() if f["severity"] == "breach"]) + 1
    )


def test_a_preview_keeps_the_values_of_the_condition(project: Project) -> None:
    project.update("winter-evening", values={"T-Q1": {"tap_position": -8}})
    answer = project.client.post(f"{project.url}/preview", json={"demand_factor": 0.5}).json()
    assert values(answer, "branches", "tap_position")["T-Q1"] == -8
    assert values(live(project), "branches", "tap_position")["T-Q1"] == -8


def test_settings_choose_the_method_and_say_so(project: Project) -> None:
    newton = values(live(project), "buses", "voltage_pu")
    for method, words in (("fast_decoupled", "Fast decoupled"), ("gauss_seidel", "Gauss–Seidel"), ("newton", "Newton")):
        done = project.update("settings", method=method)
        assert done.status_code == 200
        account = done.json()["live"]["account"]
        assert account["ending"] == "converged"
        assert account["method"].startswith(words)
        assert values(done.json()["live"], "buses", "voltage_pu") == pytest.approx(newton, abs=2e-5)
    refused = project.update("settings", method="magic")
    assert refused.status_code == 422
    assert refused.json()["errors"][0]["field"] == "method"


@pytest.mark.parametrize(
    ("field", "value"),
    [
        ("low_voltage_pu", 2.0),
        ("max_iterations", 0),
        ("start", "middle"),
        ("tolerance_pu", 0.0),
        ("slack_shared", "perhaps"),
    ],
)
def test_bad_settings_name_field_value_and_remedy(project: Project, field: str, value: Any) -> None:
    answer = project.update("settings", **{field: value})
    assert answer.status_code == 422
    problem = answer.json()["errors"][0]
    assert (problem["element"], problem["field"]) == ("settings", field)
    assert problem["allowed"]
    assert live(project)["account"]["ending"] == "converged"


def test_an_area_holds_its_agreed_export(project: Project) -> None:
    project.update("quillport", export_mw=-60.0)
    project.change([{"op": "add", "item": {"kind": "generator", "id": "Peaker", "bus": "Quillport 33 B",
                                           "active_power_mw": 5.0, "participation": 1.0}}])  # fmt: skip
    before = values(live(project), "areas", "export_mw")["quillport"]
    done = project.update("settings", interchange=True).json()
    after = values(done["live"], "areas", "export_mw")["quillport"]
    assert after > before
    assert after == pytest.approx(-60.0, abs=1.0)  # half of the ties' losses stand between the two accounts
    assert any("for the exchange of its area" in n for n in done["live"]["account"]["notes"])


def test_what_is_lost_for_a_trial_is_out_there_and_nowhere_else(project: Project) -> None:
    whole = values(live(project), "branches", "loading_pct")
    tried = project.client.post(f"{project.url}/preview", json={"lost": ["Ambry - Lowmere"], "tab": "one"}).json()
    after = values(tried, "branches", "loading_pct")
    assert after["Ambry - Lowmere"] is None
    assert after["Thessel Head - Quillport"] > whole["Thessel Head - Quillport"] + 30
    assert values(live(project), "branches", "loading_pct")["Lowmere - Quillport"] == pytest.approx(
        whole["Lowmere - Quillport"]
    )
    again = project.client.post(f"{project.url}/preview", json={"tab": "one"}).json()
    assert values(again, "branches", "loading_pct")["Ambry - Lowmere"] == pytest.approx(whole["Ambry - Lowmere"])


def test_profiles_come_in_are_replaced_and_drive_the_sheet(project: Project) -> None:
    rows = "time,demand\n" + "".join(f"2025-01-01 {h:02d}:00,{0.5 + 0.01 * h:.2f}\n" for h in range(24))
    address = f"{project.url}/profiles/import?base_revision={project.revision}"
    for _ in range(2):
        answer = project.client.post(
            address, content=rows.encode(), headers={"content-type": "application/octet-stream"}
        )
        assert answer.status_code == 200, answer.text
        address = f"{project.url}/profiles/import?base_revision={answer.json()['revision']}"
    kept = [i for i in project.get("").json()["items"] if i["kind"] == "profile" and i["scales"] == "demand"]
    assert len(kept) == 1
    for i in [i["id"] for i in project.get("").json()["items"] if i["kind"] == "profile" and i["scales"] != "demand"]:
        assert i.startswith("profile-")
    tried = project.client.post(f"{project.url}/preview", json={"moment": "2025-01-01T20:00", "tab": "one"})
    assert tried.status_code == 200
    whole = sum(x or 0 for x in values(tried.json(), "injections", "active_power_mw").values())
    assert whole != 0
    bad = project.client.post(
        address, content=b"time,demand\n1,2\n3,4\n", headers={"content-type": "application/octet-stream"}
    )
    assert bad.status_code in (400, 422)
    assert "no moment" in bad.text
    nowhere = project.client.post(
        f"{project.url}/profiles/fetch", json={"base_revision": project.revision, "address": "http://example.org"}
    )
    assert nowhere.status_code in (400, 422)
    assert "on this machine" in nowhere.text
    assert project.client.post(f"{project.url}/preview", json={"moment": "2025-13-01T20:00"}).status_code == 422


def test_a_later_year_has_what_is_connected_by_then_and_not_what_is_at_its_end(project: Project) -> None:
    new = {"kind": "load", "id": "estate", "bus": "Heron End", "active_power_mw": 0.4, "reactive_power_mvar": 0.1,
           "in_service": False, "from_year": 2030}  # fmt: skip
    answer = project.post("changes", label="A new connection", changes=[{"op": "add", "item": new}])
    assert answer.status_code == 200
    project.update("Mole demand", until_year=2031)

    def carried(year: int) -> tuple[float | None, float | None]:
        answer = project.client.post(f"{project.url}/preview", json={"year": year, "tab": "one"})
        assert answer.status_code == 200, answer.text
        power = values(answer.json(), "injections", "active_power_mw")
        return power.get("Mole demand"), power.get("estate")

    seen = {y: carried(y) for y in (2029, 2030, 2031)}
    assert [bool(seen[y][0]) for y in seen] == [True, True, False]
    assert [bool(seen[y][1]) for y in seen] == [False, True, True]
