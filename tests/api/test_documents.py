"""Results on paper: what a result declares is in its document, figures stand where their values say, and nothing is left out in
silence."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
import pytest
from defusedxml import ElementTree

from tests.api.conftest import Project
from tests.made_up import MADE_UP
from vastmesh.core.flow import Ending
from vastmesh.core.results import Account, Axis, Bound, Column, Figure, Finding, Result, Series, Table
from vastmesh.core.severity import Severity
from vastmesh.core.studies import STUDIES
from vastmesh.reports import Section, document_html, document_pdf, options_in_words, plot_svg
from vastmesh.reports._plots import ticks


@pytest.fixture
def lanterns() -> Iterator[None]:
    STUDIES[MADE_UP.name] = MADE_UP
    yield
    del STUDIES[MADE_UP.name]


def ask(project: Project, parts: list[dict[str, Any]], **more: Any) -> Any:
    return project.client.post(f"{project.url}/document", json={"parts": parts, **more})


@pytest.mark.usefixtures("lanterns")
def test_a_result_is_a_section_by_itself_as_a_page_and_as_pdf(project: Project) -> None:
    done = project.study("lanterns", {"wick": "long"}, keep="Long wicks")
    address = f"run-{done['kept']}"
    page = ask(project, [{"address": address}], title="Light & shade", form="html")
    assert page.headers["content-type"].startswith("text/html")
    text = page.text
    for words in ("<h1>Light &amp; shade</h1>", "<h2>Lantern light</h2>", "<dt>Wick</dt><dd>long</dd>", "is the brightest of 119",
                  "4.0 km; at most 1 km is pleasant", "the first 25 of 119 rows", "Reach by lantern", "By lantern"):  # fmt: skip
        assert words in text, words
    assert text.count("<rect") == 12
    assert "<script" not in text
    assert ask(project, [{"address": address}]).content.startswith(b"%PDF")
    assert ask(project, [{"address": address}], form="html", rows=200).text.count("<tr>") == 120
    alone = project.get(f"results/{address}/figures/reach.svg")
    assert alone.headers["content-type"].startswith("image/svg+xml")
    assert alone.text in text
    assert "plots of this result: reach" in project.get(f"results/{address}/figures/none.svg").text


def test_the_present_state_chosen_tables_and_what_is_out_of_date(project: Project) -> None:
    live = ask(project, [{"address": "live", "tables": ["buses"]}], form="html").text
    assert "<h2>Load flow</h2>" in live
    assert "<h3>Buses</h3>" in live
    assert "<h3>Branches</h3>" not in live
    assert "Out of date" not in live
    kept = project.client.post(f"{project.url}/results/live/keep", json={"name": "Before"}).json()["id"]
    load = next(i["id"] for i in project.opened()["items"] if i["kind"] == "load")
    assert project.update(load, active_power_mw=0.1).status_code == 200
    both = ask(project, [{"address": f"run-{kept}"}, {"address": "live"}], form="html").text
    assert both.count("Out of date") == 1
    assert '<ol class="contents">' in both


def test_two_results_and_two_cases_are_held_against_each_other(project: Project) -> None:
    kept = project.client.post(f"{project.url}/results/live/keep", json={"name": "Before"}).json()["id"]
    load = next(i for i in project.opened()["items"] if i["kind"] == "load" and i.get("active_power_mw"))
    assert project.update(load["id"], active_power_mw=0.0).status_code == 200
    text = ask(project, [{"before": f"run-{kept}", "address": "live"}], form="html").text
    assert "Voltage, buses: the largest change first" in text
    assert "findings are cured" in text
    schemes = [i["id"] for i in project.opened()["items"] if i["kind"] == "scheme"]
    cases = {"before": {"schemes": []}, "after": {"schemes": schemes[:1]}}
    page = ask(project, [{"cases": cases}], form="html").text
    shown = project.client.post(f"{project.url}/cases", json=cases).json()
    assert f"<dd>{shown['after']['title']}</dd>" in page
    totals = {c["name"]: c["values"] for c in shown["summary"]["columns"]}
    losses = totals["after"][totals["id"].index("active_loss_mw")]
    assert f">{losses:.4f}<" in page
    assert ">Losses MW<" in page


def test_what_cannot_be_printed_is_refused_in_words(project: Project) -> None:
    for parts, status, words in (
        ([], 422, "parts"), ([{}], 422, "give each part an address"), ([{"address": "nowhere"}], 422, "live, job-ID or run-ID"),
        ([{"address": "run-none"}], 404, "none"), ([{"address": "live", "tables": ["x"]}], 422, "tables with a result"),
        ([{"cases": {"before": {"schemes": ["x"]}, "after": {}}}], 422, "x"),
    ):  # fmt: skip
        answer = ask(project, parts)
        assert (answer.status_code, words in answer.text) == (status, True), answer.text


def result(*tables: Table, figures: list[Figure] | None = None, findings: list[Finding] | None = None) -> Result:
    account = Account(Ending.CONVERGED, "By hand", 1, assumed=["no wind"])
    return Result(account, {t.name: t for t in tables}, {}, findings or [], "So it is.", [], figures or [])


def test_names_are_text_and_wide_or_long_tables_say_what_they_leave_out() -> None:
    bad = "<script>alert(1)</script>"
    many = [Column(f"c{n}", f"Column {n}", np.arange(3.0) + n, "MW", 1) for n in range(60)]
    wide = Table("wide", bad, [Column("id", "Id", ["a", "b", "c"]), Column("name", "Name", [bad, "B", "C"]), *many])
    blank = Table("blank", "Blank", [Column("id", "Id", [])])
    found = Finding("a", "bus", "x", 1.0, "MW", 1.0, "l", Severity.BREACH, "above", 0.1, bad)
    html = document_html(bad, [("Network", bad)], [Section(bad, result(wide, blank, findings=[found]))], rows=2)
    assert "<script" not in html
    assert "the first 2 of 3 rows" in html
    shown = html.count("Column ")
    assert f"{60 - shown} further columns are left out" in html
    assert "Empty." in html
    assert "no wind" in html
    assert 'class="turned"' in html
    assert document_pdf(html).startswith(b"%PDF")


def test_options_are_told_by_label_and_unit_and_only_where_they_count() -> None:
    said = options_in_words(
        MADE_UP.options, {"wick": "short", "reach_km": 2.5, "soot_pct": 10.0, "keeper": "b1"}, {"b1": "Mole"}
    )
    assert said[:3] == [("Wick", "short"), ("Reach", "2.5 km"), ("Keeper", "Mole")]
    assert "Soot" not in dict(said)
    assert ("Soot", "10 %") in options_in_words(MADE_UP.options, {"wick": "long", "soot_pct": 10.0}, {})


def drawn(figure: Figure) -> Any:
    return ElementTree.fromstring(plot_svg(figure))


def tags(root: Any, name: str) -> list[Any]:
    return [e for e in root.iter() if e.tag.endswith(name)]


def test_bars_and_points_stand_where_their_values_say() -> None:
    bars = Figure("f", "F", Axis("Word"), Axis("Height", "m", 1),
                  [Series("a", "A", ["x", "y", "z"], [1.0, 2.0, -4.0], "bars"), Series("l", "L", ["x"], [3.0], "levels")],
                  [Bound("limit", 2.5), Bound("near", 2.4)])  # fmt: skip
    root = drawn(bars)
    heights = [float(r.get("height")) for r in tags(root, "rect")]
    assert heights[1] / heights[0] == pytest.approx(2.0, rel=5e-3)
    assert heights[2] / heights[0] == pytest.approx(4.0, rel=5e-3)
    names = {t.text: float(t.get("y")) for t in tags(root, "text")}
    assert names["near"] - names["limit"] >= 10
    rng = np.random.default_rng(5)
    x, y = np.sort(rng.uniform(0, 10, 30)), rng.normal(size=30)
    y[7] = np.nan
    points = drawn(Figure("p", "P", Axis("x"), Axis("y"), [Series("a", "A", x, y, "points")]))
    spots = np.array([(float(c.get("cx")), float(c.get("cy"))) for c in tags(points, "circle")])
    keep = ~np.isnan(y)
    assert np.corrcoef(spots[:, 0], x[keep])[0, 1] == pytest.approx(1.0, abs=1e-5)
    assert np.corrcoef(spots[:, 1], y[keep])[0, 1] == pytest.approx(-1.0, abs=1e-4)
    line = drawn(Figure("l", "L", Axis("x"), Axis("y"), [Series("a", "A", x, y)]))
    path = next(p.get("d") for p in tags(line, "path") if p.get("stroke-width") == "1.6")
    assert path.count("M") == 2  # broken where there is nothing


def test_cells_beyond_their_limit_are_framed_and_the_highest_is_the_darkest() -> None:
    cells = Series("c", "C", ["a", "a", "b"], ["r", "s", "s"], "cells", z=[1.0, 50.0, 101.0])
    root = drawn(
        Figure("m", "M", Axis("col"), Axis("row"), [cells], [Bound("limit", 100.0, "z")], Axis("Loading", "%", 0))
    )
    rects = tags(root, "rect")
    assert [r.get("stroke") is not None for r in rects] == [False, False, True]
    light = [sum(int(r.get("fill")[k : k + 2], 16) for k in (1, 3, 5)) for r in rects]
    assert light[0] > light[1] > light[2]
    assert "Nothing is near a limit" in plot_svg(
        Figure("m", "M", Axis("c"), Axis("r"), [Series("c", "C", [], [], "cells")])
    )
    assert "no point has a figure" in plot_svg(
        Figure("m", "M", Axis("c"), Axis("r"), [Series("c", "C", [1.0], [np.nan])])
    )


@pytest.mark.parametrize("seed", range(6))
def test_ticks_are_round_within_the_range_and_evenly_apart(seed: int) -> None:
    rng = np.random.default_rng(seed)
    for _ in range(200):
        low = float(rng.normal() * 10.0 ** rng.integers(-6, 7))
        high = low + float(abs(rng.normal()) + 1e-3) * 10.0 ** rng.integers(-6, 7)
        marks = ticks(low, high)
        span = high - low
        assert all(low - 1e-6 * span - 1e-9 <= t <= high + 1e-6 * span + 1e-9 for t in marks)
        if span > 1e-9 * max(abs(low), abs(high)) and len(marks) > 2:
            gaps = np.diff(marks)
            assert gaps.max() - gaps.min() <= 1e-6 * span + 1e-11
            gap = float(gaps.mean())
            leading = gap / 10.0 ** np.floor(np.log10(gap) + 1e-6)
            assert min(abs(leading - r) for r in (1.0, 2.0, 5.0)) < 1e-4, gap
            assert len(marks) <= 6
