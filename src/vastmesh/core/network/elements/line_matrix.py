from __future__ import annotations

from functools import lru_cache
from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from ..fields import choice, quantity
from ..items import Item

_Rows = Annotated[str, Field(max_length=400)]


class LineMatrix(Item):
    """Measured or published constants of a line: the full matrix over its conductors, shared by any number of lines.

    Lower triangle, row by row: figures parted by blanks, rows by semicolons, in the order of the conductors.
    """

    label, plural = "Line matrix", "Line matrices"

    kind: Literal["line_matrix"] = "line_matrix"
    order: Annotated[str, Field(pattern=r"^A?B?C?N?$", min_length=1)] = choice(
        "Order", "Conductors of the rows, for example ABCN", default="ABCN"
    )
    r_rows: _Rows | None = choice(
        "Resistance", "Ω/km with earth return: 0.6; 0.05 0.6; ...", default=None,
    )  # fmt: skip
    x_rows: _Rows | None = choice("Reactance", "Ω/km with earth return: 0.8; 0.5 0.8; ...", default=None)
    b_rows: _Rows | None = choice("Susceptance", "µS/km between conductors and earth; none when blank", default=None)
    rating_a: float | None = quantity("Rating", "Continuous current; lines without their own take it", unit="A", gt=0,
                                      le=1e5)  # fmt: skip

    def _missing_beyond_fields(self) -> tuple[str, ...]:
        return tuple(f for f in ("r_rows", "x_rows") if not getattr(self, f))

    @model_validator(mode="after")
    def _fits(self) -> Self:
        for name in ("r_rows", "x_rows", "b_rows"):
            if text := getattr(self, name):
                lower_triangle(name, text, len(self.order))
        if not self.missing():
            r = lower_triangle("r_rows", self.r_rows or "", len(self.order))
            x = lower_triangle("x_rows", self.x_rows or "", len(self.order))
            for i in range(len(self.order)):
                if r[i][i] < 0 or (r[i][i] == 0 and x[i][i] == 0):
                    raise ValueError(f"r_rows: conductor {self.order[i]} needs an own impedance above zero")
        return self

    def z_ohm_per_km(self) -> tuple[tuple[complex, ...], ...]:
        """Series impedance of the conductors, symmetric, Ω/km."""
        n = len(self.order)
        r, x = (lower_triangle(f, getattr(self, f) or "", n) for f in ("r_rows", "x_rows"))
        return tuple(
            tuple(complex(r[max(i, j)][min(i, j)], x[max(i, j)][min(i, j)]) for j in range(n)) for i in range(n)
        )

    def b_us(self) -> tuple[tuple[float, ...], ...] | None:
        """Shunt susceptance of the conductors, symmetric, µS/km; None when there is none."""
        if not self.b_rows:
            return None
        n = len(self.order)
        b = lower_triangle("b_rows", self.b_rows, n)
        return tuple(tuple(b[max(i, j)][min(i, j)] for j in range(n)) for i in range(n))


@lru_cache(maxsize=512)
def lower_triangle(field: str, text: str, size: int) -> tuple[tuple[float, ...], ...]:
    """Rows of a lower triangle written as text. Raises ValueError naming the field, the row and what is expected."""
    rows = [part.split() for part in text.replace(",", ".").strip().strip(";").split(";")]
    if len(rows) != size:
        raise ValueError(f"{field}: {len(rows)} rows are given for {size} conductors; part rows by semicolons")
    found = []
    for number, row in enumerate(rows, 1):
        if len(row) != number:
            raise ValueError(f"{field}: row {number} has {len(row)} figures, the lower triangle needs {number}")
        try:
            found.append(tuple(float(v) for v in row))
        except ValueError:
            raise ValueError(f"{field}: row {number} holds {' '.join(row)!r}; write figures such as 0.25") from None
        if not all(abs(v) < 1e6 for v in found[-1]):
            raise ValueError(f"{field}: row {number} holds a figure that is not below a million")
    return tuple(found)
