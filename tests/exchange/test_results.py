"""Result tables out and back: units in headings, figures whole, texts never formulas."""

from __future__ import annotations

import csv
import io

import numpy as np
import openpyxl
import polars as pl
import pytest

from vastmesh.core.errors import InvalidFields
from vastmesh.core.network import Network
from vastmesh.core.results import Column, Table
from vastmesh.core.results.state import run_load_flow
from vastmesh.exchange import element_table, in_units, pack_tables, picked, unpack_tables, write_tables

TABLE = Table("t", "Things", [
    Column("id", "Id", ["a", "=1+1", "@x"]), Column("voltage_pu", "Voltage", np.array([1.0, np.nan, 0.123456789]), "p.u.", 4),
    Column("on", "On", [True, False, True]), Column("at", "at", ["b", None, "-2"]), Column("n", "Count", np.array([1, 2, 3])),
])  # fmt: skip


def test_csv_has_units_in_headings_and_no_formulas() -> None:
    rows = list(csv.reader(io.StringIO(write_tables([TABLE], "csv").decode("utf-8-sig"))))
    assert rows[0] == ["Id", "Voltage (p.u.)", "On", "at", "Count"]
    assert rows[1] == ["a", "1.0", "True", "b", "1"]
    assert rows[2][:2] == ["'=1+1", ""]
    assert rows[3][0] == "'@x"
    assert rows[3][3] == "'-2"
    assert float(rows[3][1]) == 0.123456789


def test_xlsx_holds_all_tables_with_figures_as_figures(demo: Network) -> None:
    tables = run_load_flow(demo).tables
    book = openpyxl.load_workbook(io.BytesIO(write_tables([*tables.values(), TABLE], "xlsx")))
    assert book.sheetnames == [*(t.label for t in tables.values()), "Things"]
    page = book["Buses"]
    column = [c.value for c in page[1]].index("Voltage (p.u.)") + 1
    assert page.cell(2, column).value == pytest.approx(float(tables["buses"]["voltage_pu"][0]), abs=1e-12)
    assert book["Things"]["A3"].data_type == "s"
    assert book["Things"]["B3"].value is None


def test_figures_are_turned_into_other_units_at_the_same_precision() -> None:
    table = Table("t", "T", [
        Column("p", "P", np.array([1.2345, np.nan]), "MW", 4), Column("i", "I", np.array([7.0, 80.0]), "A", 1),
        Column("v", "V", np.array([0.95, 1.0]), "p.u.", 4), Column("l", "L", np.array([3.0, 4.0]), "km", 2),
        Column("name", "Name", ["a", "b"]),
    ])  # fmt: skip
    turned = in_units(table, {"MW": "kW", "A": "kA", "p.u.": "%"})
    assert [c.unit for c in turned.columns] == ["kW", "kA", "%", "km", None]
    assert [c.digits for c in turned.columns] == [1, 4, 2, 2, None]
    for name, wanted in (("p", [1234.5, np.nan]), ("i", [0.007, 0.08]), ("v", [95, 100]), ("l", [3, 4])):
        np.testing.assert_allclose(turned[name], wanted, rtol=1e-12)
    assert [c.unit for c in table.columns] == ["MW", "A", "p.u.", "km", None], "the table itself stays"
    back = in_units(turned, {"kW": "MW", "kA": "A", "%": "p.u."})
    np.testing.assert_allclose(back["p"], table["p"])
    for wrong in ({"MW": "kvar"}, {"MW": "horses"}, {"horses": "MW"}):
        with pytest.raises(InvalidFields, match="can be turned into"):
            in_units(table, wrong)


def test_parquet_gives_the_columns_back() -> None:
    found = pl.read_parquet(io.BytesIO(write_tables([TABLE], "parquet")))
    assert found.columns == ["id", "voltage_pu", "on", "at", "n"]
    assert found["voltage_pu"].to_list() == [1.0, None, 0.123456789]
    assert found["n"].dtype.is_integer()


def test_packed_tables_come_back_as_they_were(demo: Network) -> None:
    tables = run_load_flow(demo).tables
    back = unpack_tables(*pack_tables(tables))
    assert list(back) == list(tables)
    for name, table in tables.items():
        for a, b in zip(table.columns, back[name].columns, strict=True):
            assert (a.name, a.label, a.unit, a.digits) == (b.name, b.label, b.unit, b.digits)
            if isinstance(a.values, np.ndarray) and a.values.dtype.kind == "f":
                np.testing.assert_array_equal(a.values, b.values)
            else:
                assert list(a.values) == list(b.values)


def test_rows_and_columns_are_picked_in_the_order_asked_for() -> None:
    found = picked(TABLE, [2, 0], ["n", "id"])
    assert [c.name for c in found.columns] == ["n", "id"]
    assert found["n"].tolist() == [3, 1]
    with pytest.raises(InvalidFields, match="has the columns id"):
        picked(TABLE, None, ["nothing"])
    with pytest.raises(InvalidFields, match="choose one of csv, xlsx, parquet"):
        write_tables([TABLE], "doc")


def test_element_data_is_a_table_in_shown_units(demo: Network) -> None:
    table = element_table(demo, "line")
    lengths = dict(zip(table["id"], table["length_km"], strict=True))
    assert all(lengths[e.id] == e.length_km for e in demo.elements() if e.kind == "line")  # type: ignore[attr-defined]
    unit = {c.name: c.unit for c in table.columns}
    assert unit["r_ohm_per_km"] == "Ω/km"
    factors = element_table(demo, "condition")
    assert factors["demand_factor"].tolist() == [100.0, 45.0, 35.0, 70.0]
    with pytest.raises(InvalidFields):
        element_table(demo, "spaceship")
