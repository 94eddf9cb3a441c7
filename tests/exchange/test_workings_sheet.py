"""The exported sheet, recalculated by another program, gives the program's figures."""

from __future__ import annotations

import io
import os
import shutil
import subprocess
from pathlib import Path

import openpyxl
import pytest

from tests.core.test_harmonic_limits import works
from tests.core.test_per_phase_findings import street
from tests.core.test_planning import town
from tests.helpers import bus, line, load, network, source, transformer
from vastmesh.core.network import Network
from vastmesh.core.results.state import run_load_flow, run_unbalanced
from vastmesh.core.studies import STUDIES, Inputs
from vastmesh.core.studies.load_flow import explain_flow, explain_phases
from vastmesh.core.workings import Ledger
from vastmesh.exchange import write_workings

ALL = ("source-s", "s/l", "l-e", "load-e", "e", "l")


def two_bus() -> Network:
    """The example of the documentation: a source, a transformer, a short line and mixed demand."""
    return network(
        bus("s", 33), source("s", voltage_pu=1.01, fault_max_mva=600.0, fault_min_mva=450.0), bus("l", 11), bus("e", 11),
        transformer("s", "l", iron_loss_kw=9.0, no_load_current_pct=0.5, tap_step_pct=1.25, tap_min=-8, tap_max=8,
                    tap_position=-2),
        line("l", "e", length_km=3.0, b_us_per_km=4.0, rating_a=400.0),
        load("e", 4.0, 1.5, constant_power_pct=50.0, constant_current_pct=20.0, constant_impedance_pct=30.0),
    )  # fmt: skip


def sheet(net: Network) -> bytes:
    tables = run_load_flow(net).tables
    return write_workings("Example", (w for i in ALL for w in explain_flow(net, tables, net.condition, i)))


def per_phase_sheet() -> bytes:
    """A street with unequal loads: a bus, its cable and one home."""
    net = street()
    tables = run_unbalanced(net).tables
    return write_workings("Example", (w for i in ("b", "a-b", "on A") for w in explain_phases(net, tables, i)))


def harmonic_sheet() -> bytes:
    """One source, one line, one drive: the figure by hand is that of the network."""
    net, study, asked = works(), STUDIES["distortion"], {"demand": "none", "lines": "nominal"}
    result = study.run(Inputs(net), study.options(**asked), lambda share, words: None)
    assert study.explain is not None
    return write_workings("Example", study.explain(net, result, net.condition, "w", asked))


def plans_sheet() -> bytes:
    """A plan's net present cost year by year, and the interruptions of a load and a feeder of the same town."""
    net, found = town(), []
    for name, idents, asked in (
        ("board", ("p", "second"), {"years": 6, "every": 2, "outages": False}), ("reliability", ("load-e", "s-e"), {}),
    ):  # fmt: skip
        study = STUDIES[name]
        result = study.run(Inputs.of(net), study.options(**asked), lambda share, words: None)
        assert study.explain is not None
        found += [w for i in idents for w in study.explain(net, result, net.condition, i, asked)]
    assert len(found) == 4
    return write_workings("Example", found)


def test_formulas_are_live_inputs_are_marked_and_texts_stay_texts() -> None:
    book = openpyxl.load_workbook(io.BytesIO(sheet(two_bus())))
    assert len(book.sheetnames) == len(ALL)
    for page in book:
        rows = [r for r in page.iter_rows(min_row=6) if r[0].value]
        formulas = [r[3] for r in rows if isinstance(r[3].value, str)]
        given = [r[3] for r in rows if not isinstance(r[3].value, str)]
        assert formulas
        assert all(c.fill.fgColor.rgb == "FFF3E6C4" for c in given)
        assert all(not str(r[1].value).startswith("=") for r in rows)


def test_a_name_that_looks_like_a_formula_stays_a_text() -> None:
    ledger = Ledger('=HYPERLINK("x")')
    ledger.given("a", "=1+1", 3.0)
    ledger.line("b", "@x", "a * 2")
    book = openpyxl.load_workbook(io.BytesIO(write_workings("=cmd", [ledger.working()])))
    page = book.worksheets[0]
    assert page["B6"].data_type == "s"
    assert page["A1"].data_type == "s"
    assert page["D7"].data_type == "f"


@pytest.mark.xdist_group("office")
@pytest.mark.parametrize("what", ["balanced", "per phase", "harmonics", "plans"])
def test_recalculated_by_an_office_program_it_gives_our_figures(tmp_path: Path, what: str) -> None:
    """Cached values are taken out first, so that what comes back has been computed there."""
    office = shutil.which("soffice") or shutil.which("libreoffice")
    assert office, "LibreOffice Calc is needed for this test: apt-get install libreoffice-calc-nogui"
    made = {
        "balanced": lambda: sheet(two_bus()),
        "per phase": per_phase_sheet,
        "harmonics": harmonic_sheet,
        "plans": plans_sheet,
    }
    data = made[what]()
    book = openpyxl.load_workbook(io.BytesIO(data))  # openpyxl writes formulas without values
    book.save(tmp_path / "in.xlsx")
    cell = {"balanced": "D10", "per phase": "D9", "harmonics": "D16", "plans": "D9"}[what]
    assert openpyxl.load_workbook(tmp_path / "in.xlsx", data_only=True).worksheets[0][cell].value is None
    done = tmp_path / "out"
    convert = [
        "--headless",
        "--convert-to",
        "xlsx:Calc MS Excel 2007 XML",
        "--outdir",
        str(done),
        str(tmp_path / "in.xlsx"),
    ]
    said = ""
    for attempt in range(3):  # once in many runs the program itself breaks off at its start
        home = tmp_path / f"home{attempt}"
        home.mkdir()
        ran = subprocess.run(
            [office, *convert], capture_output=True, text=True, timeout=180, env={**os.environ, "HOME": str(home)}
        )
        said = ran.stderr
        if ran.returncode == 0 and (done / "in.xlsx").exists():
            break
    assert (done / "in.xlsx").exists(), said
    recalculated = openpyxl.load_workbook(done / "in.xlsx", data_only=True)
    compared = 0
    for page in recalculated:
        for row in page.iter_rows(min_row=6, values_only=True):
            if row[0] and row[6] is not None:
                assert row[3] == pytest.approx(row[6], rel=1e-6, abs=1e-6), (page.title, row)
                assert row[7] == pytest.approx(0.0, abs=1e-6)
                compared += 1
    assert compared > {"balanced": 25, "per phase": 15, "harmonics": 1, "plans": 3}[what]
    if what == "harmonics":
        by_hand = {r[0]: r[3] for r in recalculated.worksheets[1].iter_rows(min_row=6, values_only=True) if r[0]}
        for h in (5, 7, 11, 13):
            assert by_hand[f"u{h}"] == pytest.approx(by_hand[f"p{h}"], rel=1e-6)
        assert by_hand["THD"] == pytest.approx(by_hand["P"], rel=1e-6)
