"""Any table survives packing and Parquet, and no text of any table can become a formula."""

from __future__ import annotations

import csv
import io
from typing import Any

import numpy as np
import openpyxl
import polars as pl
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from vastmesh.core.results import Column, Table
from vastmesh.exchange import pack_tables, picked, unpack_tables, write_tables

PLAIN = st.text(st.characters(blacklist_categories=("Cs", "Cc")), max_size=12)
FORMULAS = st.sampled_from(["=1+1", "@sum", "+1", "-1", '=HYPERLINK("x")', "\tx", "=cmd|' /C calc'!A0"])
NUMBERS = st.one_of(st.floats(-1e9, 1e9), st.just(float("nan")))


@st.composite
def tables(draw: st.DrawFn) -> Table:
    size = draw(st.integers(1, 8))

    def many(of: st.SearchStrategy[Any]) -> list[Any]:
        return [draw(of) for _ in range(size)]

    columns = [Column("id", "Id", [f"e{i}" for i in range(size)], fixed=True)]
    for n in range(draw(st.integers(0, 4))):
        kind = draw(st.sampled_from(["float", "int", "text", "flag", "maybe"]))
        values: Any = {
            "float": lambda: np.array(many(NUMBERS), np.float64), "int": lambda: np.array(many(st.integers(-9, 9)), np.int64),
            "text": lambda: many(st.one_of(PLAIN, FORMULAS)), "flag": lambda: many(st.booleans()),
            "maybe": lambda: many(st.one_of(st.none(), PLAIN)),
        }[kind]()  # fmt: skip
        columns.append(Column(f"c{n}", f"Column {n}", values, draw(st.sampled_from([None, "MW", "p.u."])), 3))
    return Table("t", "T", columns)


def same(a: Any, b: Any) -> bool:
    if isinstance(a, np.ndarray) and a.dtype.kind == "f":
        return bool(np.array_equal(a, np.asarray(b, np.float64), equal_nan=True))
    return list(a) == list(b)


@settings(max_examples=40, deadline=None, suppress_health_check=list(HealthCheck))
@given(tables())
def test_packing_gives_every_table_back(table: Table) -> None:
    back = unpack_tables(*pack_tables({"t": table}))["t"]
    assert [c.name for c in back.columns] == [c.name for c in table.columns]
    for a, b in zip(table.columns, back.columns, strict=True):
        if any(v is not None for v in a.values):
            assert same(a.values, b.values), a.name
        assert (a.label, a.unit, a.digits, a.fixed) == (b.label, b.unit, b.digits, b.fixed)


@settings(max_examples=40, deadline=None, suppress_health_check=list(HealthCheck))
@given(tables())
def test_no_text_starts_a_formula_in_a_spreadsheet(table: Table) -> None:
    book = openpyxl.load_workbook(io.BytesIO(write_tables([table], "xlsx")))
    for row in book.worksheets[0].iter_rows():
        assert all(cell.data_type != "f" for cell in row)
    text = write_tables([table], "csv").decode("utf-8-sig")
    rows = list(csv.reader(io.StringIO(text, newline="")))[1:]
    kinds = [isinstance(c.values, np.ndarray) for c in table.columns]
    for row in rows[: len(table)]:
        for cell, numeric in zip(row, kinds, strict=False):
            assert numeric or not cell.startswith(("=", "+", "-", "@", "\t"))


@settings(max_examples=40, deadline=None, suppress_health_check=list(HealthCheck))
@given(tables(), st.data())
def test_picked_rows_are_those_asked_for(table: Table, data: st.DataObject) -> None:
    rows = data.draw(st.lists(st.integers(0, len(table) - 1), max_size=10))
    found = picked(table, rows)
    assert len(found) == len(rows)
    for before, after in zip(table.columns, found.columns, strict=True):
        plain = isinstance(before.values, np.ndarray)
        assert same(before.values[rows] if plain else [before.values[r] for r in rows], after.values)


@settings(max_examples=30, deadline=None, suppress_health_check=list(HealthCheck))
@given(tables())
def test_parquet_has_the_plain_names_and_figures(table: Table) -> None:
    frame = pl.read_parquet(io.BytesIO(write_tables([table], "parquet")))
    assert frame.columns == [c.name for c in table.columns]
    assert frame.height == len(table)
    for c in table.columns:
        if isinstance(c.values, np.ndarray) and c.values.dtype.kind == "f":
            assert same(c.values, [np.nan if v is None else v for v in frame[c.name].to_list()])
