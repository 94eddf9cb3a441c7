"""Voltage levels of harmonics by nominal voltage, per cent: to be read with the standards beside them.

Compatibility levels in the manner of IEC 61000-2-2 (up to 1 kV) and 61000-2-12 (up to 35 kV), indicative planning levels in
the manner of IEC TR 61000-3-6 (above 1 kV, and above 35 kV).
"""

from __future__ import annotations

_LOW = {2: 2.0, 3: 5.0, 4: 1.0, 5: 6.0, 6: 0.5, 7: 5.0, 8: 0.5, 9: 1.5, 11: 3.5, 13: 3.0, 15: 0.4, 21: 0.3}
_MEDIUM = {2: 1.8, 3: 4.0, 4: 1.0, 5: 5.0, 6: 0.5, 7: 4.0, 8: 0.5, 9: 1.2, 11: 3.0, 13: 2.5, 15: 0.3, 21: 0.2}
_HIGH = {2: 1.4, 3: 2.0, 4: 0.8, 5: 2.0, 6: 0.4, 7: 2.0, 8: 0.4, 9: 1.0, 11: 1.5, 13: 1.5, 15: 0.3, 21: 0.2}
_TOTAL = {"low": 8.0, "medium": 6.5, "high": 3.0}


def level_of(nominal_kv: float, limits: str) -> str:
    """Which table counts: low, medium, high."""
    if nominal_kv <= 1 or limits == "compatibility":
        return "low"
    return "medium" if nominal_kv <= 35 else "high"


def limit_pct(level: str, order: int) -> float:
    """Level of one order, per cent of the fundamental."""
    table = {"low": _LOW, "medium": _MEDIUM, "high": _HIGH}[level]
    if order in table:
        return table[order]
    if order % 2 == 0:
        a, b = {"low": (0.25, 0.25), "medium": (0.25, 0.22), "high": (0.19, 0.16)}[level]
        return a * 10 / order + b
    if order % 3 == 0:
        return 0.2
    if level == "high":
        return 1.2 * 17 / order
    a, b = {"low": (2.27, 0.27), "medium": (1.9, 0.2)}[level]
    return a * 17 / order - b


def total_pct(level: str) -> float:
    """Level of total distortion."""
    return _TOTAL[level]
