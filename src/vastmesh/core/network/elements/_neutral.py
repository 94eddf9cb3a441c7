"""Neutral earthing: the same fields wherever a star point is brought out."""

from __future__ import annotations

from typing import Any, Literal

from ...catalogue import earthing_a, earthing_ohm
from ..fields import When, choice, quantity

Earthing = Literal["solid", "resistor", "reactor", "isolated"]
_LIMITED = ("resistor", "reactor")


def earthing(side: str = "", *, default: str = "solid", when: When | None = None) -> Any:
    label = f"{side} neutral" if side else "Neutral"
    return choice(label, "How the star point is earthed", default=default, typical=True, group="earth", when=when)


def earthing_resistance(field: str, side: str = "") -> Any:
    return quantity(
        f"{side} neutral impedance" if side else "Neutral impedance",
        "Resistance or reactance between star point and earth", unit="Ω", gt=0, le=1e6, group="earth",
        when={field: _LIMITED},
    )  # fmt: skip


def earthing_current(field: str, side: str = "") -> Any:
    return quantity(
        f"{side} earth-fault current" if side else "Earth-fault current",
        "Rated earth-fault current through the neutral impedance; gives its ohms", unit="A", gt=0, le=1e6, group="earth",
        when={field: _LIMITED},
    )  # fmt: skip


def neutral_ohm(mode: str, ohm: float | None, amps: float | None, kv: float | None) -> complex | None:
    """Impedance between star point and earth: 0 when solid, None when isolated or not known."""
    if mode == "solid":
        return 0j
    if mode == "isolated":
        return None
    size = ohm if ohm is not None else earthing_ohm(amps, kv) if amps and kv else None
    if size is None:
        return None
    return complex(size, 0) if mode == "resistor" else complex(0, size)


def other_of_pair(values: dict[str, Any], ohm: str, amps: str) -> dict[str, Any]:
    """Entering the ohms blanks the current they were computed from, and the other way round."""
    if values.get(ohm) is not None and amps not in values:
        return {**values, amps: None}
    if values.get(amps) is not None and ohm not in values:
        return {**values, ohm: None}
    return values


__all__ = [
    "Earthing",
    "earthing",
    "earthing_a",
    "earthing_current",
    "earthing_resistance",
    "neutral_ohm",
    "other_of_pair",
]
