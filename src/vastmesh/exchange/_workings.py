"""Workings as a spreadsheet that recomputes itself: inputs in marked cells, formulas live, the program's figure beside."""

from __future__ import annotations

import io
import re
from collections.abc import Iterable

import xlsxwriter

from ..core.workings import Working, in_cells

_HEADINGS = ("Symbol", "Quantity", "Formula", "Value", "Unit", "From", "Program", "Difference")
_WIDTHS = (9, 44, 44, 16, 9, 34, 16, 14)


def write_workings(title: str, workings: Iterable[Working]) -> bytes:
    """XLSX with one sheet for each working that has live formulas; values stand in the cells before any recalculation."""
    out = io.BytesIO()
    book = xlsxwriter.Workbook(out, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False})
    head = book.add_format({"bold": True, "bottom": 1, "font_color": "#0E6674"})
    large = book.add_format({"bold": True, "font_size": 14})
    quiet = book.add_format({"font_color": "#5B6673", "text_wrap": True, "valign": "top"})
    given = book.add_format({"bg_color": "#F3E6C4", "border": 1, "border_color": "#DDD6C8", "num_format": "General"})
    figure = book.add_format({"num_format": "General"})
    taken = set[str]()
    for w in workings:
        if not w.ledger:
            continue
        sheet = book.add_worksheet(_sheet_name(w.title, taken))
        for column, width in enumerate(_WIDTHS):
            sheet.set_column(column, column, width)
        sheet.write_string(0, 0, f"{title}: {w.title}", large)
        sheet.write_string(1, 0, w.note, quiet)
        sheet.write_string(
            2, 0, "Cells on a ground of sand are inputs: change them and everything below follows.", quiet
        )
        for column, text in enumerate(_HEADINGS):
            sheet.write_string(4, column, text, head)
        place = {c.symbol: f"D{row + 1}" for row, c in enumerate(w.ledger, 5)}
        for row, (cell, step) in enumerate(zip(w.ledger, w.steps, strict=True), 5):
            sheet.write_string(row, 0, cell.symbol)
            sheet.write_string(row, 1, cell.label)
            sheet.write_string(row, 2, step.formula)
            if cell.expression is None:
                sheet.write_number(row, 3, cell.value, given)
            else:
                sheet.write_formula(row, 3, in_cells(cell.expression, place), figure, cell.value)
            sheet.write_string(row, 4, cell.unit)
            sheet.write_string(row, 5, cell.source)
            if cell.solver is not None:
                sheet.write_number(row, 6, cell.solver, figure)
                sheet.write_formula(row, 7, f"=D{row + 1}-G{row + 1}", figure, cell.value - cell.solver)
        sheet.freeze_panes(5, 0)
    if not taken:
        book.add_worksheet("Workings").write_string(0, 0, f"{title}: nothing here has worked figures")
    book.close()
    return out.getvalue()


def _sheet_name(title: str, taken: set[str]) -> str:
    plain = re.sub(r"[\[\]:*?/\\]", " ", title).strip("' ")[:28] or "Working"
    name, n = plain, 2
    while name.lower() in taken:
        name, n = f"{plain} {n}", n + 1
    taken.add(name.lower())
    return name
