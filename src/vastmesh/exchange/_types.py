"""Equipment types to and from CSV and XLSX."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable
from typing import Any

import xlsxwriter

from ..core.catalogue import FAMILIES, EquipmentType
from ..core.errors import FieldProblem, InvalidFields, UnreadableFile
from ..core.network import OwnType
from ..errands import rows_of_workbook
from ._rows import rows_of
from ._tabular import as_text

SPECTRA = ("orders", "orders_75", "orders_50", "orders_25")  # rows of a spectrum, in place of its values
_FIXED = ("name", "family", "description", "series", "size")


def _rows(types: Iterable[EquipmentType]) -> list[list[Any]]:
    found = list(types)
    fields = list(dict.fromkeys(f for t in found for f in t.values))
    rows: list[list[Any]] = [[*_FIXED, *fields]]
    for t in found:
        rows.append([t.name, t.family, t.description, t.series, t.size, *(t.values.get(f) for f in fields)])
    return rows


def write_types_csv(types: Iterable[EquipmentType]) -> bytes:
    """Types as CSV with a byte-order mark, which spreadsheets need to see that it is UTF-8."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n", quoting=csv.QUOTE_NONNUMERIC)
    for row in _rows(types):
        writer.writerow([as_text(c) if isinstance(c, str) else "" if c is None else c for c in row])
    return out.getvalue().encode("utf-8-sig")


def write_types_xlsx(types: Iterable[EquipmentType]) -> bytes:
    """Types as one sheet; text never becomes a formula or a link."""
    out = io.BytesIO()
    book = xlsxwriter.Workbook(out, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False})
    sheet, bold = book.add_worksheet("Types"), book.add_format({"bold": True})
    for r, row in enumerate(_rows(types)):
        for c, value in enumerate(row):
            if isinstance(value, str):
                sheet.write_string(r, c, value, bold if r == 0 else None)
            elif value is not None:
                sheet.write_number(r, c, value)
    sheet.freeze_panes(1, 1)
    sheet.autofit()
    book.close()
    return out.getvalue()


def read_types(data: bytes, file_name: str, rows: list[list[Any]] | None = None) -> list[dict[str, Any]]:
    """Items of kind ``own_type`` from CSV or XLSX; ``rows``: of a workbook that has been read already. Raises
    :class:`UnreadableFile` or :class:`InvalidFields`."""
    if rows is None:
        rows = rows_of_workbook(data) if is_workbook(data) else _read_csv(data)
    rows = [r for r in rows if any(c not in (None, "") for c in r)]
    if len(rows) < 2:
        raise UnreadableFile("it needs a row of headings and at least one type below it")
    heads = [str(h or "").strip() for h in rows[0]]
    if "name" not in heads or "family" not in heads:
        raise UnreadableFile('the headings must include "name" and "family"', line=1)
    items: list[dict[str, Any]] = []
    problems: list[FieldProblem] = []
    for number, row in enumerate(rows[1:], 2):
        record: dict[str, Any] = {h: _plain(v) for h, v in zip(heads, row, strict=False) if h and v not in (None, "")}
        name = str(record.pop("name", "")).strip()
        family = str(record.pop("family", ""))
        if not name or family not in FAMILIES:
            field, value = ("name", name) if not name else ("family", family)
            problems.append(FieldProblem(f"row {number}", field, value, "give a name" if not name else
                                         "choose one of " + ", ".join(FAMILIES)))  # fmt: skip
            continue
        texts = ("description", "series", *(SPECTRA if family == "spectrum" else ()))
        fixed: dict[str, Any] = {f: str(record.pop(f)) for f in texts if f in record}
        size = record.pop("size", 0.0)
        items.append({"kind": "own_type", "id": name, "name": name, "family": family, **fixed,
                      "size": size if isinstance(size, int | float) else 0.0, "values": record})  # fmt: skip
    if problems:
        raise InvalidFields(problems)
    return items


def _plain(value: Any) -> Any:
    if isinstance(value, bool) or value is None or isinstance(value, int | float):
        return value
    text = str(value).strip().removeprefix("'")
    try:
        return float(text)
    except ValueError:
        return text


def is_workbook(data: bytes) -> bool:
    return data[:2] == b"PK"


def _read_csv(data: bytes) -> list[list[Any]]:
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise UnreadableFile("it is neither XLSX nor text in UTF-8") from None
    delimiter = max(",;\t", key=text.partition("\n")[0].count)
    return [list(r) for r in rows_of(text, delimiter)]


def own_as_type(item: OwnType) -> EquipmentType:
    """A network's own type in the form of the catalogue."""
    values = {**item.values, **{f: text for f in SPECTRA if (text := getattr(item, f))}}
    return EquipmentType(item.family, item.id, f"{item.id} {item.description}", values, item.series, item.size,
                         "entered in this project", (("", item.size),))  # fmt: skip
