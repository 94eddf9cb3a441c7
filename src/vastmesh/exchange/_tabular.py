"""Element tables to and from spreadsheets: tab-separated text with units in the headings.

Reading is all or nothing: every bad row is named, and none is applied.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable
from typing import Any

from ..core.errors import DataError, FieldProblem, InvalidFields
from ..core.network import REGISTRY, Add, Change, Element, FieldSpec, FieldType, Item, Namer, Network, Update, specs
from ._rows import rows_of, without_unit

MOST_ROWS = 20_000
_YES, _NO = {"yes", "true", "1", "x", "closed", "on"}, {"no", "false", "0", "", "open", "off"}
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def shown_fields(kind: str) -> list[str]:
    """Fields of a kind that a table has a column for, the name first."""
    cls = REGISTRY[kind]
    known = {n: s for n, s in specs(cls).items() if s.type is not FieldType.OTHER and s.group != "place"}
    return sorted(known, key=lambda n: _rank(known[n]))


def _rank(spec: FieldSpec) -> int:
    """Name, connections, what is entered, then the rest."""
    if spec.name == "name":
        return 0
    if spec.terminal:
        return 1
    if spec.group != "data" or spec.name in ("in_service", "conductors"):
        return 3
    return 2


def heading(spec: FieldSpec) -> str:
    unit = spec.shown_unit if spec.shown_unit not in (None, "1") else ""
    return f"{spec.label} ({unit})" if unit else spec.label


def write_rows(network: Network, kind: str, ids: Iterable[str] | None = None, fields: list[str] | None = None) -> str:
    """Rows of one kind as tab-separated text, in shown units, names in place of ids."""
    known = specs(REGISTRY[kind])
    columns = fields or shown_fields(kind)
    items = [network[i] for i in ids] if ids is not None else [i for i in network.items.values() if i.kind == kind]
    if other := next((i for i in items if i.kind != kind), None):
        allowed = f"name only {REGISTRY[kind].plural.lower()}, as the table is of them"
        raise InvalidFields([FieldProblem(other.id, "kind", other.kind, allowed)])
    out = io.StringIO()
    writer = csv.writer(out, dialect="excel-tab", lineterminator="\n")
    writer.writerow([heading(known[c]) for c in columns])
    for item in items:
        writer.writerow([_cell(network, known[c], getattr(item, c)) for c in columns])
    return out.getvalue()


def _cell(network: Network, spec: FieldSpec, value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int | float):
        return repr(value) if spec.shown_factor == 1 else f"{value * spec.shown_factor:.15g}"
    if isinstance(value, tuple):
        return as_text(", ".join(str(v) for v in value))
    if spec.ref and value in network.items:
        return as_text(network.items[value].name)
    return as_text(str(value))


def as_text(text: str) -> str:
    """Text that a spreadsheet does not take for a formula, in lines that stay within their cell."""
    text = text.replace("\r\n", "\n").replace("\r", "\n")
    return f"'{text}" if text.startswith(_FORMULA) else text


def read_rows(network: Network, kind: str, text: str) -> list[Change]:
    """Changes from pasted rows: a row whose name is known updates that element, another one adds a new one.

    The first row holds headings: labels or field names, with or without units. Raises :class:`InvalidFields` that
    names every bad row (as ``row 3``, counted from the first row below the headings), field and value.
    """
    cls = REGISTRY.get(kind)
    if cls is None:
        raise InvalidFields([FieldProblem("table", "kind", kind, "choose one of " + ", ".join(sorted(REGISTRY)))])
    rows = [r for r in rows_of(text, "\t") if any(c.strip() for c in r)]
    if len(rows) < 2:
        raise InvalidFields(
            [FieldProblem("table", "rows", len(rows), "paste a row of headings and at least one row below it")]
        )
    if len(rows) > MOST_ROWS:
        raise InvalidFields([FieldProblem("table", "rows", len(rows), f"paste at most {MOST_ROWS} rows at once")])
    columns = _columns(cls, rows[0])
    if "name" not in columns:
        raise InvalidFields([FieldProblem("table", "headings", rows[0][0], 'one of the headings must be "Name"')])
    reader = _Reader(network, cls, columns)
    for number, row in enumerate(rows[1:], 1):
        reader.take(number, row)
    reader.try_all()
    if reader.problems:
        raise InvalidFields(sorted(reader.problems, key=lambda p: int(p.element.removeprefix("row "))))
    return reader.changes


def _columns(cls: type[Item], headings: list[str]) -> list[str | None]:
    by_word: dict[str, str] = {}
    for name, spec in specs(cls).items():
        by_word[name.lower()] = name
        by_word.setdefault(spec.label.lower(), name)
    found: list[str | None] = []
    problems: list[FieldProblem] = []
    for word in headings:
        plain = word.strip().lower()
        match = by_word.get(plain) or by_word.get(without_unit(plain))
        if plain and match is None:
            allowed = (
                "use the name or label of a field: "
                + ", ".join(s.label for s in list(specs(cls).values())[:8])
                + " ..."
            )
            problems.append(FieldProblem("table", "headings", word, allowed))
        found.append(match)
    if problems:
        raise InvalidFields(problems)
    return found


class _Reader:
    def __init__(self, network: Network, cls: type[Item], columns: list[str | None]) -> None:
        self.network, self.cls, self.columns = network, cls, columns
        self.known = specs(cls)
        self.changes: list[Change] = []
        self.problems: list[FieldProblem] = []
        self._row_of: dict[str, int] = {}
        self._named: dict[str, int] = {}
        self._names = Namer(network)
        self._by_name: dict[tuple[str, str], str] = {}
        for item in network.items.values():
            self._by_name.setdefault((item.kind, item.name), item.id)

    def take(self, number: int, row: list[str]) -> None:
        values: dict[str, Any] = {}
        bad = len(self.problems)
        if len(row) > len(self.columns):
            self.problems.append(
                FieldProblem(f"row {number}", "cells", len(row), f"there are only {len(self.columns)} headings")
            )
            return
        for name, cell in zip(self.columns, row, strict=False):
            if name is not None:
                self._value(number, self.known[name], cell.strip(), values)
        label = values.get("name")
        if not label:
            self.problems.append(FieldProblem(f"row {number}", "name", "", "give every row a name"))
        if len(self.problems) > bad or not label:
            return
        kind = self.cls.model_fields["kind"].default
        ident = self._by_name.get((kind, label)) or (label if label in self.network else None)
        if label in self._named:
            taken = f"row {self._named[label]} has that name too"
            self.problems.append(FieldProblem(f"row {number}", "name", label, taken))
            return
        self._named[label] = number
        if ident is not None:
            rest = {f: v for f, v in values.items() if f != "name"}
            self.changes.append(Update(id=ident, values=rest))
        else:
            ident = self._names.plain(label)
            self.changes.append(
                Add(item={"kind": kind, "id": ident, **{f: v for f, v in values.items() if v is not None}})
            )
        self._row_of[ident] = number

    def _value(self, number: int, spec: FieldSpec, cell: str, values: dict[str, Any]) -> None:
        def refuse(allowed: str) -> None:
            self.problems.append(FieldProblem(f"row {number}", spec.name, cell, allowed))

        if cell.startswith("'"):
            cell = cell[1:]
        if spec.type is FieldType.YES_NO:
            if cell.lower() in _YES | _NO:
                values[spec.name] = cell.lower() in _YES
            else:
                refuse(spec.allowed())
        elif cell == "":
            values[spec.name] = None
        elif spec.type in (FieldType.NUMBER, FieldType.INTEGER):
            try:
                figure = float(
                    cell.replace(" ", "").replace(",", ".") if cell.count(",") <= 1 and "." not in cell else cell
                )
            except ValueError:
                refuse(spec.allowed())
                return
            figure /= spec.shown_factor
            whole = spec.type is FieldType.INTEGER and figure.is_integer()
            values[spec.name] = int(figure) if whole else figure
        elif spec.ref:
            found = self._by_name.get((spec.ref, cell)) or (cell if cell in self.network else None)
            if found is None:
                refuse(spec.allowed())
            values[spec.name] = found
        elif spec.type is FieldType.TEXTS:
            values[spec.name] = [w.strip() for w in cell.split(",") if w.strip()]
        elif spec.type is FieldType.OTHER:
            refuse("this column can't be pasted; leave it out")
        else:
            values[spec.name] = cell

    def try_all(self) -> None:
        """Apply every row to a copy by itself, so that each bad one is named."""
        trial = self.network.copy()
        for change in self.changes:
            ident = str(change.item["id"]) if isinstance(change, Add) else change.id
            where = f"row {self._row_of[ident]}"
            try:
                trial.apply([change])
            except InvalidFields as error:
                self.problems += [FieldProblem(where, p.field, p.value, p.allowed) for p in error.problems]
            except DataError as error:
                self.problems.append(FieldProblem(where, "name", ident, str(error)))


def element_kinds(network: Network) -> dict[str, int]:
    """Kinds of elements in a network with their numbers."""
    count: dict[str, int] = {}
    for item in network.items.values():
        if isinstance(item, Element):
            count[item.kind] = count.get(item.kind, 0) + 1
    return count
