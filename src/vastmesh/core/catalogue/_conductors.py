"""Bare overhead conductors.

Resistance at 20 °C from section and resistivity (IEC 60889 hard-drawn aluminium 28.264 Ω·mm²/km, IEC 60104
alloy 32.84), with 2 % for the lay of the strands. The geometric mean radius is that of round strands in
concentric layers. Ratings by the heat balance of IEC TR 61597.
"""

from __future__ import annotations

from math import pi, sqrt

from ._types import EquipmentType, Family, Value, family

RESISTIVITY = {"aluminium": 28.264, "steel-reinforced": 28.264, "alloy": 32.84, "copper": 17.241}  # Ω·mm²/km at 20 °C
TEMPERATURE_COEFFICIENT = {"aluminium": 0.00403, "steel-reinforced": 0.00403, "alloy": 0.0036, "copper": 0.00393}
_LAY = 1.02
_BASIS = "IEC 60889/60104; rating by IEC TR 61597: 80 °C, air 35 °C, wind 0.6 m/s, sun 900 W/m², emissivity 0.6"

# Outer layers' geometric mean radius over outer radius, by number of strands (Woodruff, 1938).
_GMR_SHARE = {1: 0.7788, 7: 0.7256, 19: 0.7577, 37: 0.7678, 61: 0.7722, 91: 0.774}


def stranded(section_mm2: float, strands: int) -> tuple[float, float]:
    """Outer diameter and geometric mean radius, mm, of a conductor of round strands in full layers."""
    strand = sqrt(4 * section_mm2 / pi / strands)
    layers = {1: 1, 7: 3, 19: 5, 37: 7, 61: 9, 91: 11}[strands]
    diameter = strand * layers
    return diameter, _GMR_SHARE[strands] * diameter / 2


def overhead_rating_a(
    diameter_mm: float, r_ohm_per_km: float, *, conductor_c: float = 80.0, air_c: float = 35.0, wind_m_s: float = 0.6,
    sun_w_m2: float = 900.0, emissivity: float = 0.6, absorption: float = 0.5,
) -> float:  # fmt: skip
    """Steady current of a bare conductor in A, ``r_ohm_per_km`` at conductor temperature.

    Heat balance of IEC TR 61597:2021, clause 3: joule and solar gain = convection and radiation.
    """
    d, hot, cold = diameter_mm / 1e3, conductor_c + 273.15, air_c + 273.15
    sun = absorption * d * sun_w_m2
    radiated = emissivity * pi * d * 5.67e-8 * (hot**4 - cold**4)
    reynolds = 1.644e9 * wind_m_s * d * (cold + 0.5 * (hot - cold)) ** -1.78
    nusselt = 0.65 * reynolds**0.2 + 0.23 * reynolds**0.61
    convected = 0.02585 * nusselt * (hot - cold) * pi
    return float(sqrt(max(radiated + convected - sun, 0.0) / (r_ohm_per_km / 1e3)))


def at_temperature(r20: float, material: str, celsius: float) -> float:
    """Resistance at another temperature, linear in it."""
    return r20 * (1 + TEMPERATURE_COEFFICIENT[material] * (celsius - 20))


def _conductor(material: str, label: str, section: float, strands: int, steel_layers: float = 0.0) -> EquipmentType:
    diameter, gmr = stranded(section, strands)
    if steel_layers:  # the steel core makes the conductor wider and carries next to no current
        diameter *= sqrt(1 + steel_layers)
        gmr = 0.81 * diameter / 2
    r20 = _LAY * RESISTIVITY[material] / section
    rating = overhead_rating_a(diameter, at_temperature(r20, material, 80))
    values: dict[str, Value] = {
        "material": material, "section_mm2": section, "r20_ohm_per_km": round(r20, 4),
        "diameter_mm": round(diameter, 2), "gmr_mm": round(gmr, 3), "rating_a": float(round(rating / 5) * 5),
    }  # fmt: skip
    words = f"{label} {section:g} mm² overhead conductor {material}"
    return EquipmentType("conductor", f"{label} {section:g}", words, values, f"conductor {material}", section, _BASIS,
                         (("mm²", section), ("a", float(values["rating_a"]))))  # fmt: skip


def _build() -> list[EquipmentType]:
    strands = [(16, 7), (25, 7), (35, 7), (50, 7), (70, 19), (95, 19), (120, 19), (150, 37), (185, 37), (240, 61),
               (300, 61), (400, 61), (500, 61), (625, 91)]  # fmt: skip
    found = [_conductor("aluminium", "Al", s, n) for s, n in strands]
    found += [_conductor("alloy", "Alloy", s, n) for s, n in strands]
    found += [_conductor("alloy", "Alloy", s, n) for s, n in ((100, 19), (175, 37), (200, 37))]
    reinforced = [(25, 7), (35, 7), (50, 7), (70, 19), (95, 19), (120, 19), (150, 19), (185, 37), (200, 37), (240, 37),
                  (300, 37), (380, 61), (435, 61), (490, 61), (550, 61), (680, 91)]  # fmt: skip
    found += [_conductor("steel-reinforced", "Al/St", s, n, 0.17) for s, n in reinforced]
    found += [_conductor("copper", "Cu", s, n) for s, n in strands[:9]]
    return sorted(found, key=lambda t: (t.series, t.size))


family(
    Family("conductor", "Conductors", "Bare conductors for lines described by their geometry",
           ("r20_ohm_per_km", "diameter_mm", "gmr_mm", "rating_a"), _build)
)  # fmt: skip
