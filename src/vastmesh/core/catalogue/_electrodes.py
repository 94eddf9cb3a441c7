"""Earthing electrodes: driven rods and buried strip, by length and soil.

Resistance to remote earth of a rod of length L and diameter d in uniform soil: ρ / (2π L) (ln(8L/d) − 1); of a strip of
width b at depth t: ρ / (π L) (ln(2L / √(b t / 2)) − 1), both after H. B. Dwight, "Calculation of resistances to ground",
Transactions AIEE 55, 1936 (as in IEEE Std 142).
"""

from __future__ import annotations

from math import log, pi, sqrt

from ._types import EquipmentType, Family, family

_ROD_MM, _STRIP_MM, _DEPTH_M = 16.0, 30.0, 0.6
_SOILS = {"clay": 30.0, "loam": 100.0, "sand": 300.0}


def rod_ohm(length_m: float, soil_ohm_m: float, diameter_mm: float = _ROD_MM) -> float:
    """Resistance of one driven rod to remote earth, Ω."""
    return soil_ohm_m / (2 * pi * length_m) * (log(8 * length_m / (diameter_mm / 1e3)) - 1)


def strip_ohm(length_m: float, soil_ohm_m: float) -> float:
    """Resistance of a buried strip to remote earth, Ω."""
    return soil_ohm_m / (pi * length_m) * (log(2 * length_m / sqrt(_STRIP_MM / 1e3 * _DEPTH_M / 2)) - 1)


def _build() -> list[EquipmentType]:
    found = []
    for soil, rho in _SOILS.items():
        for kind, lengths, ohm in (
            ("rod", (1.5, 3.0, 6.0, 9.0), rod_ohm),
            ("strip", (10.0, 20.0, 40.0, 80.0), strip_ohm),
        ):
            shape = "rod of 16 mm" if kind == "rod" else "strip of 30 mm, 0.6 m deep"
            for length in lengths:
                name = f"Earth {kind} {length:g} m in {soil}"
                found.append(
                    EquipmentType(
                        "electrode", name, f"{name}: earthing {shape}", {"resistance_ohm": float(f"{ohm(length, rho):.3g}")},
                        f"Earth {kind} in {soil}", length, f"Dwight 1936: {shape}, soil of {rho:g} Ω·m", (("m", length),),
                    )
                )  # fmt: skip
    return found


family(Family("electrode", "Earthing electrodes", "Resistance to remote earth", ("resistance_ohm",), _build))
