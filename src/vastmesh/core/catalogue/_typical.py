"""Typical values for what a name plate or a data sheet would say."""

from __future__ import annotations

from typing import Any

# Rated power up to (MVA): impedance %, X/R, iron loss as per mille of rating, no-load current %.
_TRANSFORMER_CLASSES = [
    (0.63, 4.0, 3.0, 1.6, 1.0),
    (2.5, 6.0, 6.0, 1.3, 0.8),
    (12.5, 8.0, 14.0, 0.9, 0.6),
    (31.5, 10.0, 20.0, 0.7, 0.5),
    (100.0, 12.5, 27.0, 0.6, 0.4),
    (float("inf"), 14.0, 45.0, 0.5, 0.3),
]
RATINGS = [
    0.05, 0.1, 0.16, 0.25, 0.4, 0.5, 0.63, 0.8, 1.0, 1.6, 2.5, 4.0, 6.3, 8.0, 10.0, 12.5, 16.0, 20.0, 25.0, 31.5, 40.0,
    63.0, 80.0, 100.0, 125.0, 160.0, 250.0,
]  # fmt: skip


def standard_rating(at_least_mva: float) -> float:
    """The next standard transformer rating, in MVA (IEC 60076 preferred series)."""
    return next((r for r in RATINGS if r >= at_least_mva), RATINGS[-1])


def typical_transformer(rated_mva: float, hv_kv: float, lv_kv: float) -> dict[str, Any]:
    """Typical fields of a two-winding transformer: impedance and losses by rating class, taps by voltage.

    Large units regulate on load on the HV side (±8 × 1.25 %), small ones off load (±2 × 2.5 %).
    """
    z, x_over_r, iron, current = next(c[1:] for c in _TRANSFORMER_CLASSES if rated_mva <= c[0])
    on_load = rated_mva > 2.5
    return {
        "hv_kv": hv_kv,
        "lv_kv": lv_kv,
        "impedance_pct": z,
        "x_over_r": x_over_r,
        "iron_loss_kw": round(iron * rated_mva, 3),
        "no_load_current_pct": current,
        "vector_group": "YNd1" if lv_kv > 5 and hv_kv > 60 else "Dyn11",
        "tap_side": "hv",
        "tap_step_pct": 1.25 if on_load else 2.5,
        "tap_min": -8 if on_load else -2,
        "tap_max": 8 if on_load else 2,
    }
