from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class Column:
    """One column of a result table; ``digits`` is how many decimals mean something.

    ``fixed``: it says what the row is and not how it came out, so it stays while only results change.
    ``view``: the way of looking at it (phases, sequences, line) with which it is shown; always when blank.
    """

    name: str
    label: str
    values: Sequence[Any] | NDArray[Any]
    unit: str | None = None
    digits: int | None = None
    meaning: str = ""
    fixed: bool = False
    view: str = ""


@dataclass(frozen=True)
class Table:
    """Columns of equal length; the first one holds the id of the element of each row."""

    name: str
    label: str
    columns: list[Column]

    def __getitem__(self, name: str) -> Any:
        return next(c.values for c in self.columns if c.name == name)

    def __len__(self) -> int:
        return len(self.columns[0].values)

    def records(self) -> list[dict[str, Any]]:
        """One plain record per row; numbers that do not exist are None."""
        lists = [_plain(c.values) for c in self.columns]
        names = [c.name for c in self.columns]
        return [dict(zip(names, row, strict=True)) for row in zip(*lists, strict=True)]


def _plain(values: Sequence[Any] | NDArray[Any]) -> list[Any]:
    if not isinstance(values, np.ndarray):
        return list(values)
    if values.dtype.kind != "f":
        return list(values.tolist())
    return [v if np.isfinite(v) else None for v in values.tolist()]
