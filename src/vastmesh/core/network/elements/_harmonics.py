"""What elements say about other frequencies than the network's: spectra in rows, resistance against order, source models."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Mapping
from dataclasses import dataclass
from itertools import pairwise
from math import pi
from typing import Annotated, Any, Literal

from pydantic import AfterValidator

from ..fields import When, choice, quantity
from ._rows import Rows, rows_of

SourceModel = Literal["current", "parallel", "voltage"]


def levels_in(field: str, text: str | None) -> list[tuple[float, float]]:
    """Orders and per cent of each, both above 0. Raises ValueError that names the field and the row."""
    found = [(h, pct) for h, pct in rows_of(field, text, 2, 2)] if text else []
    for order, pct in found:
        if order <= 0 or pct <= 0:
            raise ValueError(f"{field}: order {order:g} at {pct:g} %: both must be above 0")
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


def _readable(text: str) -> str:
    table_of("resistance_table", text)
    return text


ResistanceTable = Annotated[Rows, AfterValidator(_readable)]


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


_MODELS = ("parallel", "voltage")
_OWN: When = {"source_model": _MODELS}
_ENTERED: When = {**_OWN, "own_by": ("entered",)}
_ROTOR: When = {**_OWN, "own_by": ("locked_rotor",)}
_FILTER: When = {**_OWN, "own_by": ("filter",)}
OwnBy = Literal["entered", "locked_rotor", "filter"]


OWN_X_PCT, OWN_R_PCT = 15.0, 1.5  # where nothing is entered: a filter reactor of a converter
FILTER_R_OF_X = 0.02  # a reactor of a quality of 50
STARTING_X, STARTING_COS = 6.0, 0.3  # of a motor about whose start nothing is known


def own_by() -> Any:
    return choice("Its impedance from", "Resistance and reactance in per cent; the starting current of a motor; or the filter "
                  "towards the network of a converter", default="entered", group="harmonics", when=_OWN)  # fmt: skip


def own_reactance() -> Any:
    return quantity("Its reactance", "At the network's frequency, of its rating (a load's: of its power); 15 % when blank",
                    unit="%", default=None, gt=0, le=1000, group="harmonics", when=_ENTERED)  # fmt: skip


def own_resistance() -> Any:
    return quantity("Its resistance", "Of its rating (a load's: of its power); 1.5 % when blank", unit="%", default=None, ge=0,
                    le=1000, group="harmonics", when=_ENTERED)  # fmt: skip


def own_exponent() -> Any:
    return quantity("Its skin effect", "Resistance at harmonic order h is its resistance times h to this power", unit="1",
                    default=0.0, ge=0, le=2, group="harmonics", when=_OWN)  # fmt: skip


def own_starting_current() -> Any:
    return quantity("Starting current", "With its rotor locked, times that of its rating (a load's: of its power); 6 when blank",
                    unit="1", default=None, ge=1, le=20, group="harmonics", when=_ROTOR)  # fmt: skip


def own_starting_cos() -> Any:
    return quantity("Starting power factor", "With its rotor locked; 0.3 when blank", unit="1", default=None, ge=0, le=0.9,
                    group="harmonics", when=_ROTOR)  # fmt: skip


def filter_reactor() -> Any:
    return quantity("Filter reactor", "Towards the network, one phase; 15 % of its rating when blank", unit="mH",
                    default=None, gt=0, le=1e5, group="harmonics", when=_FILTER)  # fmt: skip


def filter_resistance() -> Any:
    return quantity("Filter resistance", "Of the reactor and what damps it, one phase; 2 % of the reactance when blank", unit="Ω",
                    default=None, gt=0, le=1e5, group="harmonics", when=_FILTER)  # fmt: skip


def filter_capacitor() -> Any:
    return quantity("Filter capacitor", "Behind the reactor to the star point, one phase; none when blank", unit="µF",
                    default=None, gt=0, le=1e7, group="harmonics", when=_FILTER)  # fmt: skip


@dataclass(frozen=True)
class OwnOhm:
    """An element's own impedance in Ω at the network's frequency: resistance, reactance, and that of a capacitor in series."""

    r: float
    x: float
    xc: float = 0.0


def own_ohm(e: Any, kv: float, rated_mva: float, frequency_hz: float) -> OwnOhm:
    """By what its card says. Per cent and starting currents are of its rating at the voltage of its bus, kV."""
    base = kv**2 / rated_mva
    if e.own_by == "locked_rotor":
        size = base / (e.own_starting_x or STARTING_X)
        cos = STARTING_COS if e.own_starting_cos is None else e.own_starting_cos
        return OwnOhm(size * cos, size * (1 - cos * cos) ** 0.5)
    if e.own_by == "filter":
        turn = 2 * pi * frequency_hz
        farad = (e.own_filter_uf or 0.0) * 1e-6
        x = turn * e.own_filter_mh / 1e3 if e.own_filter_mh else OWN_X_PCT / 100 * base
        return OwnOhm(e.own_filter_ohm or x * FILTER_R_OF_X, x, 1 / (turn * farad) if farad else 0.0)
    r, x = e.own_r_pct, e.own_x_pct
    return OwnOhm((OWN_R_PCT if r is None else r) / 100 * base, (OWN_X_PCT if x is None else x) / 100 * base)
