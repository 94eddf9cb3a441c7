"""Linear rows of a programme, as they are met and as arrays."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from scipy.sparse import coo_array

from ..electrical.arrays import Floats, Ints


@dataclass(frozen=True)
class Rows:
    """Linear rows ``low`` <= A x <= ``high``, A in coordinates."""

    row: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    col: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    value: Floats = field(default_factory=lambda: np.zeros(0))
    low: Floats = field(default_factory=lambda: np.zeros(0))
    high: Floats = field(default_factory=lambda: np.zeros(0))

    def __len__(self) -> int:
        return len(self.low)

    def matrix(self, columns: int) -> coo_array:
        return coo_array((self.value, (self.row, self.col)), shape=(len(self), columns))


class RowsOf:
    """Linear rows as they are met, each with a name for what it stands for."""

    def __init__(self) -> None:
        self.row: list[int] = []
        self.col: list[int] = []
        self.value: list[float] = []
        self.low: list[float] = []
        self.high: list[float] = []
        self.names: list[tuple[str, str]] = []

    def add(self, terms: list[tuple[int, float]], low: float, high: float, name: tuple[str, str] = ("", "")) -> None:
        """A row of places and factors."""
        for col, value in terms:
            self.row.append(len(self.low))
            self.col.append(col)
            self.value.append(value)
        self.low.append(low)
        self.high.append(high)
        self.names.append(name)

    def done(self) -> Rows:
        return Rows(np.array(self.row, np.int64), np.array(self.col, np.int64), np.array(self.value, float),
                    np.array(self.low, float), np.array(self.high, float))  # fmt: skip
