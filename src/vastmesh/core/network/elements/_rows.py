"""Tables of numbers that are written as text."""

from __future__ import annotations

import re
from typing import Annotated

from pydantic import Field

Rows = Annotated[str, Field(max_length=4000)]
_MOST_ROWS = 300


def rows_of(field: str, text: str, least: int, most: int) -> list[tuple[float, ...]]:
    """Rows of numbers from text: rows end with ; or a new line, numbers stand apart by blanks or tabs. Raises ValueError that
    names the field and the row."""
    found: list[tuple[float, ...]] = []
    for number, row in enumerate((r for r in re.split(r"[;\n\r]+", text) if r.strip()), 1):
        words = re.sub(r"(\d),(\d)", r"\1.\2", row).replace("%", " ").replace("°", " ").split()
        try:
            values = tuple(float(w) for w in words)
        except ValueError:
            raise ValueError(f"{field}: row {number}, {row.strip()!r}: write numbers apart by blanks") from None
        if not least <= len(values) <= most or not all(abs(v) < 1e6 for v in values):
            wanted = f"{least} to {most}" if most > least else f"{least}"
            raise ValueError(f"{field}: row {number}, {row.strip()!r}: write {wanted} numbers")
        found.append(values)
    if len(found) > _MOST_ROWS:
        raise ValueError(f"{field}: at most {_MOST_ROWS} rows")
    return found
