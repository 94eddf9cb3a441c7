"""Where things land, what is refused, and what one gesture costs to undo."""

from __future__ import annotations

from typing import Any

import pytest

from tests.api.conftest import Project
from vastmesh.core.network import SHOOTS


def items(project: Project) -> dict[str, dict[str, Any]]:
    return {i["id"]: i for i in project.opened()["items"]}


def apart(found: dict[str, dict[str, Any]]) -> bool:
    spots = [(i["x"], i["y"]) for i in found.values() if i["kind"] == "bus"]
    return len(set(spots)) == len(spots)


@pytest.mark.parametrize("what", sorted(n for n, s in SHOOTS.items() if "bus" in s.at))
@pytest.mark.parametrize("at", ["Heron End", "Quillport 132"])
def test_what_grows_has_a_place_of_its_own_and_one_undo(project: Project, what: str, at: str) -> None:
    before = items(project)
    options = {"count": 4} if what in ("section", "line", "cable") else {}
    done = project.post("grow", at=at, what=what, options=options)
    assert done.status_code == 200, done.text
    found = items(project)
    new = [i for i in found.values() if i["kind"] == "bus" and i["id"] not in before]
    assert all(isinstance(b.get("x"), int | float) for b in new)
    assert apart(found)
    assert done.json()["live"]["account"]["ending"] == "converged"
    project.post("undo")
    assert items(project) == before


def test_only_the_chosen_buses_are_tidied(project: Project) -> None:
    ids = ["Sluice Farm", "Reed Hatch"]
    project.change([{"op": "update", "id": i, "values": {"x": 5000.0 + n, "y": 4000.0}} for n, i in enumerate(ids)])
    before = items(project)
    done = project.post("tidy", ids=ids).json()
    assert {i["id"] for i in done["changed"]} == set(ids)
    after = items(project)
    assert all(after[i]["x"] < 4000 for i in ids)
    assert apart(after)
    assert {i: v for i, v in after.items() if i not in ids} == {i: v for i, v in before.items() if i not in ids}
    assert project.post("tidy", ids=["T-Q1"]).status_code == 422


def test_joining_what_can_not_be_one_is_refused(project: Project) -> None:
    before = items(project)
    for gone, kept, words in (("Heron End", "Ambry 132", "one nominal voltage"), ("Heron End", "Heron End", "two different"),
                              ("T-Q1", "Heron End", "two different")):  # fmt: skip
        refused = project.post("join", gone=gone, kept=kept)
        assert refused.status_code == 422
        assert words in refused.json()["detail"]
    assert project.post("join", gone="nobody", kept="Heron End").status_code == 404
    assert items(project) == before


def test_sizes_change_for_several_at_once_and_stop_at_the_end(project: Project) -> None:
    ids = ["Kesterby F2-01", "Kesterby F2-02", "Heron End demand"]
    done = project.post("swap", ids=ids, step=1).json()
    assert {i["id"] for i in done["changed"]} == set(ids[:2])
    assert done["history"]["undo"] == "Next size up for 2"
    assert project.post("swap", ids=ids[:1], step=20).status_code == 422, "there is no size that large"
    assert items(project)["Kesterby F2-01"]["type"] == "Al 1×240 XLPE 11 kV cable"


def test_importing_types_again_updates_them(project: Project) -> None:
    def send(r: float) -> Any:
        data = f"name,family,r_ohm_per_km,x_ohm_per_km,rating_a\nMine,line,{r},0.1,300\n".encode()
        answer = project.client.post(
            f"{project.url}/types/import", params={"base_revision": project.revision}, content=data
        )
        project.revision = answer.json()["revision"]
        return answer.json()

    send(0.3)
    project.update("Kesterby F2-01", type="Mine")
    assert items(project)["Kesterby F2-01"]["r_ohm_per_km"] == 0.3
    done = send(0.2)
    assert {i["id"] for i in done["changed"]} == {"Mine", "Kesterby F2-01"}
    assert items(project)["Kesterby F2-01"]["r_ohm_per_km"] == 0.2
    found = project.get("types?family=line&query=mine").json()
    assert (found["total"], found["types"][0]["used"]) == (1, 1)


def test_tables_of_chosen_rows_only(project: Project) -> None:
    text = project.get("table?kind=line&ids=Kesterby F2-01&ids=Kesterby F2-02").text
    assert [r.split("\t")[0] for r in text.splitlines()] == ["Name", "Kesterby F2-01", "Kesterby F2-02"]
    assert project.get("table?kind=castle").status_code == 422


def test_profiles_of_feeders_and_from_buses(project: Project) -> None:
    feeder = project.get("profile/Saltern F2-01").json()
    assert (feeder["name"], feeder["bus"][0], feeder["parent"][0]) == ("Saltern F2-01", "Saltern 11", None)
    assert max(feeder["distance_km"]) == pytest.approx(14.0)
    own = project.get("profile/Tollgate").json()
    assert own["bus"][0] == "Tollgate"
    assert "Heron End" in own["bus"]
    assert "Mill Lane" not in own["bus"]
    assert project.get("profile/nobody").status_code == 404


@pytest.mark.parametrize(
    ("sent", "kept"),
    [
        ("a.pdf", "a.pdf"),
        ("../../etc/passwd", "passwd"),
        ("C:\\plans\\x.dwg", "x.dwg"),
        ("", "file"),
        ("ä" * 300, "ä" * 120),
    ],
)
def test_file_names_lose_their_folders(project: Project, sent: str, kept: str) -> None:
    params = {"element": "T-Q1", "file_name": sent, "base_revision": project.revision}
    done = project.client.post(f"{project.url}/attachments", params=params, content=b"x")
    assert done.status_code == 200, done.text
    assert done.json()["changed"][0]["attachments"][0]["name"] == kept


def test_files_that_are_too_large_or_at_no_element_are_refused(project: Project) -> None:
    params = {"element": "T-Q1", "file_name": "big.bin", "base_revision": project.revision}
    refused = project.client.post(f"{project.url}/attachments", params=params, content=b"0" * (16 * 2**20 + 1))
    assert refused.status_code == 422
    assert "16 MB" in refused.json()["detail"]
    settings = project.client.post(f"{project.url}/attachments", params={**params, "element": "settings"}, content=b"x")
    assert settings.status_code == 422
    assert "attachments" not in items(project)["T-Q1"]


def test_checks_and_supply_follow_the_condition(project: Project) -> None:
    assert project.get("supply/Saltern 11").json()["live"]
    project.change([{"op": "update", "id": "winter-evening", "values": {"states": {"T-Saltern": "out"}}}])
    assert not project.get("supply/Saltern 11").json()["live"]
    dead = [c for c in project.get("checks").json() if c["rule"] == "supply"]
    assert dead
    assert "have no supply" in dead[0]["text"]
    assert items(project)["T-Saltern"]["in_service"] is True
