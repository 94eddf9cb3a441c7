"""What one file declares is enough: options, progress, tables, plots, findings, workings, scheme, keeping, comparing."""

from __future__ import annotations

import io
import pickle
from collections.abc import Iterator

import polars as pl
import pytest

from tests.api.conftest import Project
from tests.made_up import MADE_UP
from tests.test_studies_by_script import OPTIONS, street
from vastmesh.core.studies import STUDIES, Inputs


@pytest.fixture(autouse=True)
def lanterns() -> Iterator[None]:
    STUDIES[MADE_UP.name] = MADE_UP
    yield
    del STUDIES[MADE_UP.name]


def test_a_new_study_is_listed_with_fields_like_those_of_elements(project: Project) -> None:
    found = next(s for s in project.client.get("/api/studies").json() if s["name"] == "lanterns")
    assert (found["live"], found["follows"], found["explains"]) == (False, True, True)
    fields = {f["name"]: f for f in found["fields"]}
    assert (fields["reach_km"]["label"], fields["reach_km"]["unit"], fields["reach_km"]["maximum"]) == (
        "Reach",
        "km",
        50,
    )
    assert fields["wick"]["choices"] == ["short", "long"]
    assert (fields["keeper"]["ref"], fields["keeper"]["type"]) == ("bus", "reference")


def test_its_result_has_everything_under_its_address_and_kept_it_loses_nothing(project: Project) -> None:
    answer = project.study("lanterns", {"wick": "long"}, keep="Long wicks")
    job, run = f"results/job-{answer['id']}", f"results/run-{answer['kept']}"
    now, kept = project.get(job).json(), project.get(run).json()
    assert {k: v for k, v in now.items() if k != "address"} == {k: v for k, v in kept.items() if k != "address"}
    assert now["statement"].endswith("is the brightest of 119.")
    assert [q["label"] for q in now["quantities"]] == ["Lantern light"]
    plot = now["figures"][0]
    assert (plot["series"][0]["drawn"], len(plot["series"][0]["x"]), plot["bounds"][0]["label"]) == (
        "bars",
        12,
        "glare",
    )
    assert now["findings"][0]["text"] == "4.0 km; at most 1 km is pleasant"
    assert now["scheme"][0]["label"] == "Light Ambry 132"
    for address in (job, run):
        body = {"table": "lanterns", "text": "light_km > 1 km and area = North"}
        rows = project.client.post(f"{project.url}/{address}/sift", json=body).json()["rows"]
        assert 0 in rows
        assert len(rows) < 4
        data = project.client.post(
            f"{project.url}/{address}/export", json={"tables": ["lanterns"], "form": "parquet"}
        ).content
        assert pl.read_parquet(io.BytesIO(data))["light_km"].max() == 4.0
        steps = project.get(f"{address}/workings/{now['findings'][0]['element']}").json()["workings"][0]["steps"]
        assert steps[0]["value"] == 4.0
        assert project.get(f"{address}/workings/T-Q1").json()["workings"] == []


def test_two_of_its_runs_are_compared(project: Project) -> None:
    ids = [project.study("lanterns", {"reach_km": r}, keep=f"{r} km")["kept"] for r in (1.0, 3.0)]
    body = {"before": f"run-{ids[0]}", "after": f"run-{ids[1]}", "table": "lanterns", "quantity": "light_km"}
    found = project.client.post(f"{project.url}/compare", json=body).json()
    change = next(c["values"] for c in found["table"]["columns"] if c["name"] == "change")
    assert change[0] == 2.0
    assert [(q["table"], q["name"]) for q in found["quantities"]] == [("lanterns", "light_km")]
    mixed = project.client.post(f"{project.url}/compare", json={**body, "after": "live", "quantity": "light_km"})
    assert mixed.status_code == 422


def test_a_bad_option_is_refused_in_words(project: Project) -> None:
    for options, text in (
        ({"reach_km": -1}, "reach_km"), ({"wick": "none"}, "wick"), ({"keeper": "nowhere"}, "name a bus"),
        ({"colour": 1}, "colour"),
    ):  # fmt: skip
        answer = project.client.post(f"{project.url}/runs", json={"study": "lanterns", "options": options})
        said = answer.json()["detail"] if answer.status_code != 200 else project.study("lanterns", options)["problem"]
        assert text in said


def test_what_studies_are_made_of_can_be_sent_to_another_process() -> None:
    small = street().network
    inputs = Inputs(small, small.condition, (), 7)
    again = pickle.loads(pickle.dumps(inputs))
    assert again.network.to_items() == small.to_items()
    assert again.under == inputs.under
    for study in STUDIES.values():
        options = study.options(**OPTIONS.get(study.name, {}))
        first = study.run(inputs, options, lambda share, words: None)
        second = study.run(again, pickle.loads(pickle.dumps(options)), lambda share, words: None)
        figures = [{k: v for k, v in r.summary.items() if k != "took_s"} for r in (first, second)]
        assert figures[0] == figures[1]
        assert pickle.loads(pickle.dumps(first)).summary == first.summary
