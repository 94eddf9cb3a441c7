"""Result tables as CSV, XLSX and Parquet, and packed into one file for keeping."""

from __future__ import annotations

import csv
import io
import zipfile
from collections.abc import Iterable, Mapping
from dataclasses import replace
from math import log10
from typing import TYPE_CHECKING, Any

import numpy as np
import xlsxwriter

from ..core.errors import FieldProblem, InvalidFields
from ..core.results import Column, Table
from ..core.units import ratio
from ._tabular import as_text

if TYPE_CHECKING:
    import polars as pl  # loaded where a table is packed: the command line does without

FORMS = {
    "csv": "text/csv",
    "xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
    "parquet": "application/vnd.apache.parquet",
}
_MOST_SHEET_ROWS = 1_048_000


def heading(column: Column) -> str:
    return f"{column.label} ({column.unit})" if column.unit else column.label


def write_tables(tables: Iterable[Table], form: str) -> bytes:
    """Tables as a file: XLSX holds them all, CSV and Parquet the first one.

    Units stand in the headings of CSV and XLSX; Parquet has the plain column names. No text can start a formula.
    Raises :class:`InvalidFields` for a form there is not.
    """
    found = list(tables)
    if form not in FORMS:
        raise InvalidFields([FieldProblem("export", "form", form, "choose one of " + ", ".join(FORMS))])
    if form == "xlsx":
        return _xlsx(found)
    return _csv(found[0]) if form == "csv" else _parquet(found[0])


def picked(table: Table, rows: Any = None, columns: Iterable[str] | None = None) -> Table:
    """Some rows and columns of a table, in the order given."""
    known = {c.name: c for c in table.columns}
    names = list(columns) if columns is not None else list(known)
    if unknown := [n for n in names if n not in known]:
        allowed = f"{table.label} has the columns {', '.join(known)}"
        raise InvalidFields([FieldProblem("export", "columns", n, allowed) for n in unknown])
    made = []
    for n in names:
        c = known[n]
        values: Any = c.values
        if rows is not None:
            values = values[rows] if isinstance(values, np.ndarray) else [values[i] for i in rows]
        made.append(Column(c.name, c.label, values, c.unit, c.digits, c.meaning, c.fixed, c.view))
    return Table(table.name, table.label, made)


def in_units(table: Table, units: Mapping[str, str]) -> Table:
    """A table with figures turned into other units at the same precision: ``units`` says which one becomes which.

    Raises :class:`InvalidFields` where two don't measure the same.
    """
    factors: dict[str, float] = {}
    for unit, wanted in units.items():
        if (factor := ratio(unit, wanted)) is None:
            raise InvalidFields(
                [FieldProblem("export", "units", wanted, f"name a unit that {unit} can be turned into")]
            )
        factors[unit] = factor
    made = []
    for c in table.columns:
        if c.unit is None or c.unit not in factors or not isinstance(c.values, np.ndarray):
            made.append(c)
            continue
        digits = None if c.digits is None else max(c.digits - round(log10(factors[c.unit])), 0)
        made.append(replace(c, values=c.values * factors[c.unit], unit=units[c.unit], digits=digits))
    return Table(table.name, table.label, made)


def frame(table: Table) -> pl.DataFrame:
    import polars as pl

    return pl.DataFrame({c.name: _series(c.name, c.values) for c in table.columns})


def _series(name: str, values: Any) -> pl.Series:
    import polars as pl

    if isinstance(values, np.ndarray) and values.dtype.kind in "fiub":
        found = pl.Series(name, values)
        return found.fill_nan(None) if values.dtype.kind == "f" else found
    return pl.Series(name, list(values), strict=False)


def _parquet(table: Table) -> bytes:
    out = io.BytesIO()
    frame(table).write_parquet(out)
    return out.getvalue()


def _csv(table: Table) -> bytes:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n", quoting=csv.QUOTE_NONNUMERIC)
    writer.writerow([heading(c) for c in table.columns])
    columns = [_plain(c) for c in table.columns]
    for row in zip(*columns, strict=True):
        writer.writerow(["" if v is None else as_text(v) if isinstance(v, str) else v for v in row])
    return b"\xef\xbb\xbf" + out.getvalue().encode()


def _plain(column: Column) -> list[Any]:
    return frame(Table("one", "", [column]))[column.name].to_list()


def _xlsx(tables: list[Table]) -> bytes:
    out = io.BytesIO()
    options = {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False, "nan_inf_to_errors": True}
    book = xlsxwriter.Workbook(out, options)
    head = book.add_format({"bold": True, "bottom": 1, "font_color": "#0E6674", "text_wrap": True, "valign": "top"})
    for table in tables:
        sheet = book.add_worksheet(table.label[:31])
        for k, c in enumerate(table.columns):
            sheet.write_string(0, k, heading(c), head)
            digits = "0" if c.digits is None else "0." + "0" * c.digits if c.digits else "0"
            figure = book.add_format({"num_format": digits if c.digits is not None else "General"})
            width = 12.0
            for row, v in enumerate(_plain(c)[:_MOST_SHEET_ROWS], 1):
                if isinstance(v, bool):
                    sheet.write_boolean(row, k, v)
                elif isinstance(v, int | float):
                    sheet.write_number(row, k, v, figure)
                elif v is not None:
                    sheet.write_string(row, k, str(v))
                    width = max(width, min(len(str(v)) + 1, 40))
            sheet.set_column(k, k, width)
        sheet.freeze_panes(1, 1)
        if len(table):
            sheet.autofilter(0, 0, len(table), len(table.columns) - 1)
    if not tables:
        book.add_worksheet("Empty")
    book.close()
    return out.getvalue()


def pack_tables(tables: Mapping[str, Table]) -> tuple[bytes, list[dict[str, Any]]]:
    """All tables as Parquet in one archive, and what their columns mean as plain data."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        for name, table in tables.items():
            archive.writestr(f"{name}.parquet", _parquet(table))
    facts = [
        {"name": t.name, "label": t.label,
         "columns": [{"name": c.name, "label": c.label, "unit": c.unit, "digits": c.digits, "meaning": c.meaning,
                      "fixed": c.fixed, "view": c.view} for c in t.columns]}
        for t in tables.values()
    ]  # fmt: skip
    return out.getvalue(), facts


def unpack_tables(data: bytes, facts: list[dict[str, Any]]) -> dict[str, Table]:
    """What :func:`pack_tables` packed."""
    import polars as pl

    found: dict[str, Table] = {}
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        for about in facts:
            one = pl.read_parquet(io.BytesIO(archive.read(f"{about['name']}.parquet")))
            columns = [Column(values=_values(one[c["name"]]), **c) for c in about["columns"]]
            found[about["name"]] = Table(about["name"], about["label"], columns)
    return found


def _values(series: pl.Series) -> Any:
    if series.dtype.is_float():
        return series.fill_null(np.nan).to_numpy()
    return series.to_numpy() if series.dtype.is_integer() and series.null_count() == 0 else series.to_list()
