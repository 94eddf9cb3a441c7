"""Harmonics over the API: causes of a job's findings, pictures of spectra, filters in workbooks, own types in files."""

from __future__ import annotations

import io
from collections.abc import Callable

import openpyxl
import pytest

from tests.api.conftest import Project
from vastmesh.core.catalogue import EquipmentType
from vastmesh.core.network import OwnType
from vastmesh.exchange._types import own_as_type, read_types, write_types_csv, write_types_xlsx


def test_a_finding_of_a_distortion_says_why_and_what_helps(project: Project) -> None:
    project.update("settings", condition="summer-noon")
    job = project.study("distortion")
    finding = next(f for f in job["result"]["findings"] if f["quantity"] == "order_5_pct")
    where = f"results/job-{job['id']}/cause"
    told = project.get(f"{where}/{finding['element']}?quantity=order_5_pct").json()
    assert "Kesterby bank" in told["text"]
    detune = next(p for p in told["proposals"] if p["label"].startswith("Detune"))
    assert project.change(detune["changes"]).status_code == 200
    again = project.study("distortion")["result"]
    assert not [f for f in again["findings"] if f["severity"] == "breach"]
    assert project.get(f"{where}/nobody?quantity=order_5_pct").status_code == 404


def test_a_spectrum_is_pictured_and_one_that_is_not_there_is_said(project: Project) -> None:
    figures = project.get("spectrum?name=Six-pulse rectifier, ideal").json()
    assert [f["name"] for f in figures] == ["spectrum", "waveform"]
    assert figures[0]["series"][0]["y"][0] == 20.0
    assert project.get("spectrum?name=nothing").status_code == 404


def test_the_sizing_of_a_filter_is_in_its_workbook(project: Project) -> None:
    grown = project.post("grow", at="Kesterby 11", what="filter").json()
    ident = grown["select"]
    book = openpyxl.load_workbook(io.BytesIO(project.get(f"results/live/workings-sheet/{ident}").content))
    assert "Its sizing" in book.sheetnames
    assert any(str(c.value).startswith("=") for row in book["Its sizing"].iter_rows() for c in row)


@pytest.mark.parametrize("write", [write_types_csv, write_types_xlsx])
def test_spectra_in_rows_leave_and_come_as_files(write: Callable[[list[EquipmentType]], bytes]) -> None:
    made = OwnType(id="drive", name="drive", family="spectrum", orders="5 31 180; 7 12; 11.5 2", orders_50="5 40")
    (item,) = read_types(write([own_as_type(made)]), "types")
    again = OwnType(**item)
    assert again.spectra() == made.spectra()
