"""What elements say about other frequencies than the network's: spectra in rows, resistance against order, source models."""

from __future__ import annotations

import re
from bisect import bisect_left
from collections.abc import Mapping
from itertools import pairwise
from typing import Annotated, Any, Literal

from pydantic import Field

from ..fields import When, choice, quantity

SourceModel = Literal["current", "parallel", "voltage"]
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


Spectrum = dict[float, tuple[float, float | None]]


def spectrum_rows(field: str, text: str) -> Spectrum:
    """Orders from rows of order, per cent of the fundamental, and angle in degrees where one is known: share and degrees.

    Order 1, where it is given, is what the others are per cent of. Raises ValueError that names the field and the row.
    """
    found: Spectrum = {}
    whole = 100.0
    for order, pct, *angle in rows_of(field, text, 2, 3):
        if order <= 0 or order > 200:
            raise ValueError(f"{field}: order {order:g}: write orders above 0, up to 200")
        if pct < 0 or pct > 1000:
            raise ValueError(f"{field}: order {order:g}, {pct:g} %: write 0 to 1000 % of the fundamental")
        if order in found:
            raise ValueError(f"{field}: order {order:g} is there twice")
        if order == 1:
            if not 0 < pct <= 100:
                raise ValueError(f"{field}: the fundamental is {pct:g} %: write above 0, at most 100 %")
            whole = pct
        found[order] = pct, angle[0] if angle else None
    return {h: (pct / whole, degrees) for h, (pct, degrees) in found.items() if h != 1 and pct > 0}


def spectrum_values(values: Mapping[str, Any]) -> Spectrum:
    """The same from the values of a type: order_5_pct, order_5_deg and so on."""
    found: Spectrum = {}
    for key, value in values.items():
        if key.startswith("order_") and key.endswith("_pct"):
            name = key.removeprefix("order_").removesuffix("_pct")
            try:
                order, share = float(name.replace("_", ".")), float(value) / 100
            except ValueError:
                continue
            degrees = values.get(f"order_{name}_deg")
            if order > 0 and order != 1 and share > 0:
                found[order] = share, None if degrees is None else float(degrees)
    return found


def spectrum_field(label: str, meaning: str, when: When | None = None) -> Any:
    return choice(label, meaning, default=None, when=when)


def resistance_table() -> Any:
    return choice("Resistance by order", "Rows of order and R(h)/R, between them by straight lines: 1 1; 5 1.4; 25 2.6. In place "
                  "of the skin effect", default=None, group="harmonics")  # fmt: skip


def table_of(field: str, text: str) -> list[tuple[float, float]]:
    """Orders and factors, rising. Raises ValueError that names the field."""
    found = [(h, f) for h, f in rows_of(field, text, 2, 2)]
    if any(h <= 0 or f <= 0 for h, f in found):
        raise ValueError(f"{field}: orders and factors must be above 0")
    if any(b[0] <= a[0] for a, b in pairwise(found)):
        raise ValueError(f"{field}: orders must rise from row to row")
    return found


def factor_at(table: list[tuple[float, float]], order: float) -> float:
    """Between rows by straight lines, beyond them as at the last."""
    orders = [h for h, _ in table]
    n = bisect_left(orders, order)
    if n == 0 or n == len(table):
        return table[min(n, len(table) - 1)][1]
    (a, f), (b, g) = table[n - 1], table[n]
    return float(f + (g - f) * (order - a) / (b - a))


def eddy() -> Any:
    return quantity("Eddy losses", "Share of the copper loss that grows with the square of the order; in place of the skin "
                    "effect", unit="%", default=None, ge=0, le=100, group="harmonics")  # fmt: skip


def resistance_factor(e: Any, order: float) -> float:
    """R(h) / R of an element: by its table, its eddy losses, or its skin effect."""
    if table := getattr(e, "resistance_table", None):
        return factor_at(table_of("resistance_table", table), order)
    share = getattr(e, "eddy_pct", None)
    if share is not None:
        return float(1 + share / 100 * (order**2 - 1))
    exponent: float = getattr(e, "skin_exponent", 0.0) or 0.0
    return float(order**exponent)


def source_model() -> Any:
    return choice(
        "Source model", "How it injects: an ideal current; a current with its own impedance beside it; or a voltage behind that "
        "impedance, of which the spectrum is per cent", default="current", group="harmonics",
    )  # fmt: skip


_OWN: When = {"source_model": ("parallel", "voltage")}


OWN_X_PCT, OWN_R_PCT = 15.0, 1.5  # where nothing is entered: a filter reactor of a converter


def own_reactance() -> Any:
    return quantity("Its reactance", "At the network's frequency, of its rating (a load's: of its power); 15 % when blank",
                    unit="%", default=None, gt=0, le=1000, group="harmonics", when=_OWN)  # fmt: skip


def own_resistance() -> Any:
    return quantity("Its resistance", "Of its rating (a load's: of its power); 1.5 % when blank", unit="%", default=None, ge=0,
                    le=1000, group="harmonics", when=_OWN)  # fmt: skip


def own_pct(e: Any) -> complex:
    """Resistance and reactance of an element's own impedance, % of its rating."""
    r, x = e.own_r_pct, e.own_x_pct
    return complex(OWN_R_PCT if r is None else r, OWN_X_PCT if x is None else x)
