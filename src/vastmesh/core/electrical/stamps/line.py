from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...network import Line, LineGeometry
from ..arrays import Columns
from ..line_constants import line_constants
from . import Context, column, stamp


def from_geometry(e: Line, geometry: LineGeometry, frequency_hz: float) -> tuple[float, float, float, float]:
    """R, X in Ω/km, B in µS/km and rating in A: what is entered on the line, else what follows from the geometry."""
    found = line_constants(geometry, frequency_hz)
    computed = (found.z1.real, found.z1.imag, found.b1, geometry.rating_a if geometry.rating_a else np.inf)
    given = (e.r_ohm_per_km, e.x_ohm_per_km, e.b_us_per_km, e.rating_a)
    r, x, b, rating = (c if g is None else g for g, c in zip(given, computed, strict=True))
    return r, x, b, rating


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
        geometry = ctx.find(e.geometry) if e.geometry else None
        if isinstance(geometry, LineGeometry) and not geometry.missing():
            r[i], x[i], b[i], rating[i] = from_geometry(e, geometry, ctx.frequency_hz)
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
