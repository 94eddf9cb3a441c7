"""Units in which figures are written, by dimension."""

from __future__ import annotations

# Unit, in small letters -> dimension and size in the dimension's own unit.
_SIZES: dict[str, tuple[str, float]] = {
    "%": ("share", 0.01), "p.u.": ("share", 1.0), "pu": ("share", 1.0), "p.u": ("share", 1.0), "1": ("share", 1.0),
    "v": ("voltage", 1.0), "kv": ("voltage", 1e3),
    "a": ("current", 1.0), "ka": ("current", 1e3),
    "w": ("active power", 1.0), "kw": ("active power", 1e3), "mw": ("active power", 1e6),
    "var": ("reactive power", 1.0), "kvar": ("reactive power", 1e3), "mvar": ("reactive power", 1e6),
    "va": ("apparent power", 1.0), "kva": ("apparent power", 1e3), "mva": ("apparent power", 1e6),
    "m": ("length", 1.0), "km": ("length", 1e3), "ft": ("length", 0.3048),
    "°": ("angle", 1.0), "deg": ("angle", 1.0), "ω": ("resistance", 1.0), "ohm": ("resistance", 1.0),
    "hz": ("frequency", 1.0), "s": ("time", 1.0),
}  # fmt: skip


def unit_named(unit: str | None) -> tuple[str, float] | None:
    """Dimension and size of a unit; None where it is not known."""
    return _SIZES.get(unit.lower()) if unit else None


def ratio(unit: str, wanted: str) -> float | None:
    """What a figure in one unit is multiplied by to be in another; None where they don't measure the same."""
    own, other = unit_named(unit), unit_named(wanted)
    if own is None or other is None or own[0] != other[0]:
        return None
    return own[1] / other[1]
