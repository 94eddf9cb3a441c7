"""The sift line: what it picks, in which order, and what it says about lines that do not fit."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from vastmesh.core.network import Network
from vastmesh.core.results.state import run_load_flow
from vastmesh.core.sift import Frame, SiftError, parse, sift

FRAME = Frame(
    columns={
        "id": ["b1", "b2", "b3", "b4"],
        "name": ["Quillport 11", "Quillport 33", "Heron End", "Ambry"],
        "area": ["q", "q", "h", None],
        "kind": ["bus", "bus", "line", "line"],
        "voltage_pu": np.array([1.01, 0.97, 0.93, np.nan]),
        "voltage_kv": np.array([11.1, 32.0, 10.2, np.nan]),
        "demand_mw": np.array([2.0, 0.5, 1.5, 0.0]),
        "loading_pct": np.array([72.0, 95.0, 10.0, np.nan]),
        "tap": np.array([1, 2, 3, 4]),
        "closed": np.array([True, False, True, True]),
    },
    units={"voltage_pu": "p.u.", "voltage_kv": "kV", "demand_mw": "MW", "loading_pct": "%"},
    size=4,
    words={"q": "Quillport", "h": "Heron Hills"},
    pinned={"voltage_pu": np.array([1.01, 0.99, 0.90, 1.0])},
    late={"feeder": lambda: ["F1", "F1", "F2", "F2"]},
)


@pytest.mark.parametrize(
    ("line", "rows"),
    [
        ("", [0, 1, 2, 3]),
        ("voltage_pu < 0.98", [1, 2]),
        ("voltage_pu < 98 %", [1, 2]),
        ("voltage_kv > 11000 V and voltage_kv < 20", [0]),
        ("demand_mw >= 1500 kW", [0, 2]),
        ("demand_mw ≥ 1.5", [0, 2]),
        ("area = Quillport", [0, 1]),
        ('area = "q"', [0, 1]),
        ("area = 'heron hills'", [2]),
        ("area != Quillport", [2, 3]),
        ("name ~ quill", [0, 1]),
        ('name ~ "d"', [2]),
        ("not (kind = line)", [0, 1]),
        ("not not kind = line", [2, 3]),
        ("kind = line or voltage_pu > 1 and kind = bus", [0, 2, 3]),
        ("(kind = line or voltage_pu > 1) and tap < 3", [0]),
        ("kind in (line, switch)", [2, 3]),
        ("tap in (1, 4)", [0, 3]),
        ("voltage_pu = max(voltage_pu)", [0]),
        ("top(loading_pct, 2)", [0, 1]),
        ("bottom(voltage_pu, 1)", [2]),
        ("blank(voltage_pu)", [3]),
        ("blank(area)", [3]),
        ("voltage_pu - pinned.voltage_pu < -0.01", [1]),
        ("abs(voltage_pu - pinned.voltage_pu) > 0.01", [1, 2]),
        ("demand_mw > mean(demand_mw)", [0, 2]),
        ("demand_mw / sum(demand_mw) > 0.4", [0]),
        ("demand_mw / 1 MW > 1", [0, 2]),
        ("2 * demand_mw + 1 MW > 4", [0]),
        ("-demand_mw < -1", [0, 2]),
        ("closed = no", [1]),
        ("closed", [0, 2, 3]),
        ("closed and feeder = F2", [2, 3]),
        ("loading_pct > 70 %, largest loading_pct first", [1, 0]),
        ("smallest demand_mw first", [3, 1, 2, 0]),
        ("largest voltage_pu first", [0, 1, 2, 3]),
        ("largest name first", [1, 0, 2, 3]),
    ],
)
def test_a_line_picks_its_rows(line: str, rows: list[int]) -> None:
    assert sift(line, FRAME).rows.tolist() == rows


@pytest.mark.parametrize(
    ("line", "words", "position"),
    [
        ("voltage < 1", "did you mean voltage_pu", 0),
        ("voltage_pu", "a value, not a test", 0),
        ("voltage_pu <", "expected; found the end of the line", 12),
        ("(voltage_pu < 1", "closing bracket is missing", 15),
        ("voltage_pu < 10 kV", "can't be compared", 13),
        ("tap > 3 kV", "no unit; leave out kV", 6),
        ("name > 3", "this is not a text", 7),
        ("name < Ambry", "=, != or ~", 5),
        ("voltage_pu ~ 3", "not a text", 0),
        ("biggest(voltage_pu)", "There is no function biggest", 0),
        ("top(voltage_pu)", "Write top(column, n)", 0),
        ("top(voltage_pu, 0)", "from 1", 16),
        ("max(name) = 1", "a column of numbers", 4),
        ("pinned.loading_pct > 3", "no pinned run with this column", 0),
        ("voltage_pu < 1 kind = line", "not expected here", 15),
        ("largest voltage_pu", 'Write "first"', 18),
        ("voltage_pu < 1; drop", "means nothing here", 14),
        ("(" * 60 + "1" + ")" * 60, "deeper than", 40),
        ("a" * 3000, "at most 2000", 2000),
        ("largest closed first", "by a column or a figure", 8),
    ],
)
def test_a_line_that_does_not_fit_says_where_and_what_to_do(line: str, words: str, position: int) -> None:
    with pytest.raises(SiftError) as found:
        sift(line, FRAME)
    assert words in str(found.value)
    assert found.value.position == position


@given(st.text(max_size=60))
def test_any_text_is_read_or_refused_never_run(text: str) -> None:
    try:
        rows = sift(text, FRAME).rows
    except SiftError:
        return
    assert set(rows.tolist()) <= {0, 1, 2, 3}


@given(st.floats(0.9, 1.1), st.floats(0.0, 3.0))
def test_tests_combine_as_sets_do(volts: float, mw: float) -> None:
    a, b = f"voltage_pu < {volts:.6f}", f"demand_mw > {mw:.6f}"
    one, two = (set(sift(x, FRAME).rows.tolist()) for x in (a, b))
    assert set(sift(f"{a} and {b}", FRAME).rows.tolist()) == one & two
    assert set(sift(f"{a} or {b}", FRAME).rows.tolist()) == one | two
    assert set(sift(f"not ({a} or {b})", FRAME).rows.tolist()) == {0, 1, 2, 3} - (one | two)


def test_mentions_name_the_columns_of_a_line() -> None:
    assert sift("voltage_pu < 1 and feeder = F1", FRAME).mentions == ["voltage_pu", "feeder"]
    assert parse("").test is None


def test_three_questions_about_the_demo(demo: Network) -> None:
    """Each answered by one line; checked against the plain arrays."""
    result = run_load_flow(demo)
    buses, branches = result.tables["buses"], result.tables["branches"]

    def frame(name: str) -> Frame:
        t = result.tables[name]
        return Frame({c.name: c.values for c in t.columns}, {c.name: c.unit for c in t.columns}, len(t))

    v = buses["voltage_pu"]
    for limit in (1.03, 1.0):
        above = sift(f"voltage_pu > {limit}", frame("buses")).rows.tolist()
        assert above == [i for i, x in enumerate(v.tolist()) if x > limit]
    assert above
    worst = sift("kind = line and loading_pct > 70 %, largest loading_pct first", frame("branches")).rows
    loads = branches["loading_pct"][worst]
    assert np.all(np.diff(loads) <= 0)
    lines = [k == "line" for k in branches["kind"]]
    assert len(worst) == int(np.sum((branches["loading_pct"] > 70) & np.array(lines)))
    assert sift("voltage_pu = max(voltage_pu)", frame("buses")).rows.tolist() == [int(np.nanargmax(v))]


@pytest.mark.parametrize(("line", "rows"), [
    ("p > 700 kW", []), ("p >= 700 kW", [0]), ("p < 0.7 MW", []), ("p = 700 kW", [0]), ("p >= -700 kW", [0]),
    ("p / 350 kW > 2", []), ("p + 0.1 kW > 700 kW", [0]),
])  # fmt: skip
def test_figures_in_another_unit_are_rounded_once(line: str, rows: list[int]) -> None:
    """0.7 MW are 700 kW to the last bit, so that a limit given in either unit picks the same rows."""
    assert sift(line, Frame({"p": np.array([0.7])}, {"p": "MW"}, 1)).rows.tolist() == rows
