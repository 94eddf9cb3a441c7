from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from ...network import Item, Line, LineGeometry, LineMatrix
from ..arrays import Columns
from ..line_constants import line_constants, matrix_sequence
from . import Context, column, stamp


@dataclass(frozen=True)
class InEffect:
    """Positive-sequence constants that count for a line: R, X in Ω/km, B in µS/km, rating of one circuit in A (infinite
    where none is known), and where they come from."""

    r: float
    x: float
    b: float
    rating: float
    origin: str


def in_effect(e: Line, find: Callable[[str], Item | None], frequency_hz: float) -> InEffect:
    """Constants of a line: of its matrix; else what is entered on it; else what follows from its geometry."""
    matrix, geometry = find(e.matrix or ""), find(e.geometry or "")
    if isinstance(matrix, LineMatrix) and not matrix.missing():
        z1, _, b1, _ = matrix_sequence(matrix, e.conductors)
        rating = e.rating_a or matrix.rating_a or np.inf
        return InEffect(z1.real, z1.imag, b1, rating, f"positive sequence of {matrix.name}")
    if isinstance(geometry, LineGeometry) and not geometry.missing():
        found = line_constants(geometry, frequency_hz, e.conductors)
        computed = (found.z1.real, found.z1.imag, found.b1, geometry.rating_a if geometry.rating_a else np.inf)
        given = (e.r_ohm_per_km, e.x_ohm_per_km, e.b_us_per_km, e.rating_a)
        r, x, b, rating = (c if g is None else g for g, c in zip(given, computed, strict=True))
        return InEffect(r, x, b, rating, geometry.name)
    r, x, b = e.r_ohm_per_km or 0.0, e.x_ohm_per_km or 0.0, e.b_us_per_km or 0.0
    return InEffect(r, x, b, e.rating_a or np.inf, e.type or "entered")


@stamp(Line)
def line(lines: Sequence[Line], ctx: Context) -> dict[str, Columns]:
    """Nominal pi: series impedance, half the susceptance at each end; circuits in parallel.

    Ends with different nominal voltages keep their own bases: the off-nominal ratio is that of
    the nominal voltages, so ohms stay ohms.
    """
    frm, to = ctx.rows([e.from_bus for e in lines]), ctx.rows([e.to_bus for e in lines])
    kv = ctx.bus_kv[frm]
    ohm = kv**2 / ctx.base_mva
    circuits, length = column(lines, "parallel"), column(lines, "length_km")
    r, x, b = column(lines, "r_ohm_per_km"), column(lines, "x_ohm_per_km"), column(lines, "b_us_per_km")
    rating = column(lines, "rating_a", blank=np.inf)
    for i, e in enumerate(lines):
        if e.geometry or e.matrix:
            found = in_effect(e, ctx.find, ctx.frequency_hz)
            r[i], x[i], b[i], rating[i] = found.r, found.x, found.b, found.rating
    scale = length / circuits / ohm
    half_b = 0.5j * b * 1e-6 * length * circuits * ohm
    rating *= circuits
    return {
        "branch": {
            "element": np.arange(len(lines)), "from": frm, "to": to,
            "r": r * scale, "x": x * scale,
            "shunt_from": half_b, "shunt_to": half_b,
            "ratio_to": kv / ctx.bus_kv[to],
            "rating_from_a": rating, "rating_to_a": rating,
            "rating_mva": np.full(len(lines), np.inf),
        }
    }  # fmt: skip
