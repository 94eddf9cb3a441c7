"""Two results of one quantity side by side."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import FieldProblem, InvalidFields
from ._table import Column, Table


def _counts(column: Column) -> bool:
    """Whether a column holds figures; blanks among them are none."""
    if isinstance(column.values, np.ndarray):
        return column.values.dtype.kind in "fiub"
    return all(v is None or isinstance(v, int | float) for v in column.values)


@dataclass(frozen=True)
class Comparison:
    """``table``: before, after and change of the rows both have, the largest change first; and what one side lacks."""

    table: Table
    only_before: list[str]
    only_after: list[str]


def compare_tables(before: Table | None, after: Table | None, quantity: str) -> Comparison:
    """Compare one column of two tables by their ids. Raises :class:`InvalidFields` where either has no such column."""
    for word, table in (("before", before), ("after", after)):
        if table is None or not any(c.name == quantity and _counts(c) for c in table.columns):
            allowed = f"choose a table and a quantity in figures that the {word} has"
            raise InvalidFields([FieldProblem("compare", "quantity", quantity, allowed)])
    assert before is not None
    assert after is not None
    row = {i: n for n, i in enumerate(before["id"])}
    both = [(i, row[i], n) for n, i in enumerate(after["id"]) if i in row]
    old = np.asarray(before[quantity], np.float64)[[b for _, b, _ in both]]
    new = np.asarray(after[quantity], np.float64)[[a for _, _, a in both]]
    change = new - old
    order = np.argsort(-np.abs(np.nan_to_num(change)), kind="stable")
    about = next(c for c in after.columns if c.name == quantity)
    names = after["name"] if any(c.name == "name" for c in after.columns) else after["id"]
    columns = [
        Column("id", "Id", [both[k][0] for k in order]),
        Column("name", "Name", [names[both[k][2]] for k in order]),
        Column("before", "Before", old[order], about.unit, about.digits),
        Column("after", "After", new[order], about.unit, about.digits),
        Column("change", "Change", change[order], about.unit, about.digits),
    ]
    inside = {i for i, _, _ in both}
    return Comparison(
        Table("compare", after.label, columns),
        [i for i in before["id"] if i not in inside],
        [i for i in after["id"] if i not in inside],
    )
