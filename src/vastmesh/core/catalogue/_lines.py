"""Overhead lines at ordinary spacings, and cables.

Overhead: conductors of the catalogue at an equivalent spacing for the voltage. Cables: resistance after
IEC 60228 class 2, insulation after IEC 60502 (60840 above 33 kV), reactance and capacitance from the
construction, ampacity by IEC 60287-1-1 with the thermal resistances of 60287-2-1.
"""

from __future__ import annotations

from math import log, pi, sqrt

from ._conductors import TEMPERATURE_COEFFICIENT, at_temperature
from ._types import EquipmentType, Family, Value, family, types_of

_OMEGA = 2 * pi * 50
_EPS0 = 8.854e-12

# Maximum resistance at 20 °C, Ω/km (IEC 60228:2004, table 2).
RESISTANCE_20C = {
    "Cu": {16: 1.15, 25: 0.727, 35: 0.524, 50: 0.387, 70: 0.268, 95: 0.193, 120: 0.153, 150: 0.124, 185: 0.0991,
           240: 0.0754, 300: 0.0601, 400: 0.0470, 500: 0.0366, 630: 0.0283, 800: 0.0221, 1000: 0.0176},
    "Al": {16: 1.91, 25: 1.20, 35: 0.868, 50: 0.641, 70: 0.443, 95: 0.320, 120: 0.253, 150: 0.206, 185: 0.164,
           240: 0.125, 300: 0.100, 400: 0.0778, 500: 0.0605, 630: 0.0469, 800: 0.0367, 1000: 0.0291},
}  # fmt: skip
# Insulation thickness, mm, by system voltage: cross-linked polyethylene (IEC 60502-2, table 6; 60840).
_THICKNESS = {11.0: 3.4, 20.0: 5.5, 33.0: 8.0, 132.0: 17.0}
_SOIL_K_M_PER_W, _GROUND_C, _DEPTH_MM = 1.5, 20.0, 800.0
_XLPE_K_M_PER_W, _PVC_K_M_PER_W, _SHEATH_K_M_PER_W = 3.5, 5.0, 3.5


def _lv_thickness(section: float) -> float:
    """Insulation thickness of 0.6/1 kV cables, mm (IEC 60502-1, table 6, rounded)."""
    return 0.9 if section <= 35 else 1.0 if section <= 50 else 1.1 if section <= 95 else 1.4 if section <= 150 else 1.7


def cable_rating_a(
    material: str, section: float, *, thickness_mm: float, screened: bool, cores: int, insulation: str
) -> float:
    """Continuous current, A, of a cable or trefoil of single-core cables laid directly in the ground.

    IEC 60287-1-1, clause 1.4.1.1, without dielectric loss and screen circulating currents (screens bonded at
    one end); T1 and T4 after 60287-2-1, clauses 2.1.1 and 2.2. Soil 1.5 K·m/W, 20 °C, depth 0.8 m.
    """
    dc = conductor_diameter_mm(section)
    hot = 90.0 if insulation == "XLPE" else 70.0
    rho_insulation = _XLPE_K_M_PER_W if insulation == "XLPE" else _PVC_K_M_PER_W
    key = {"Cu": "copper", "Al": "aluminium"}[material]
    r = at_temperature(RESISTANCE_20C[material][int(section)], key, hot) / 1e3
    xs2 = 8 * pi * 50 / r * 1e-7
    r *= 1 + xs2**2 / (192 + 0.8 * xs2**2)  # skin effect, 60287-1-1 clause 2.1.2
    core = _core_diameter_mm(section, thickness_mm, screened=screened)
    t1 = rho_insulation / (2 * pi) * log(core / dc)
    if cores == 1:
        outer = core + (2 * 1.0 if screened else 0) + 2 * 2.2
        t3 = _SHEATH_K_M_PER_W / (2 * pi) * log(outer / (outer - 4.4))
        u = 2 * _DEPTH_MM / outer
        t4 = 1.5 * _SOIL_K_M_PER_W / pi * (log(2 * u) - 0.630)
        heat = r * (t1 + 1.6 * t3 + t4)
    else:
        laid = core * (2.155 if cores == 3 else 2.414)
        outer = laid + 2 * (2.0 + 0.035 * laid)
        t3 = _SHEATH_K_M_PER_W / (2 * pi) * log(outer / laid)
        u = 2 * _DEPTH_MM / outer
        t4 = _SOIL_K_M_PER_W / (2 * pi) * log(u + sqrt(u * u - 1))
        heat = r * (t1 + 3 * (t3 + t4))
    return sqrt((hot - _GROUND_C) / heat)


def conductor_diameter_mm(section: float) -> float:
    """Diameter of a compacted stranded conductor, mm."""
    return sqrt(4 * section / pi / 0.9)


def _core_diameter_mm(section: float, thickness: float, *, screened: bool) -> float:
    return conductor_diameter_mm(section) + 2 * thickness + (2 * (0.6 + 0.6) if screened else 0.0)


def _cable(material: str, section: int, kv: float, cores: int, insulation: str) -> EquipmentType:
    screened = kv > 1
    thickness = _THICKNESS[kv] if screened else _lv_thickness(section)
    dc = conductor_diameter_mm(section)
    core = _core_diameter_mm(section, thickness, screened=screened)
    spacing = core + (2 * (1.0 + 2.2) if cores == 1 else 0)  # between conductor centres: trefoil or laid up
    gmr = 0.7788 * dc / 2 * 0.99
    x = _OMEGA * 2e-4 * log(spacing / gmr)
    c_uf = 2 * pi * _EPS0 * 2.4 / log((dc + 1.2 + 2 * thickness) / (dc + 1.2)) * 1e9 if screened else 0.0
    r = RESISTANCE_20C[material][section]
    hot = 90.0 if insulation == "XLPE" else 70.0
    coefficient = TEMPERATURE_COEFFICIENT["copper" if material == "Cu" else "aluminium"]
    rating = cable_rating_a(
        material, section, thickness_mm=thickness, screened=screened, cores=min(cores, 4), insulation=insulation
    )
    # Return through the screen (copper, 16 to 35 mm²) or through the fourth core.
    screen_mm2 = 16 if section < 150 else 25 if section < 300 else 35
    r0 = r + 3 * (17.241 / screen_mm2 if screened else RESISTANCE_20C[material][section])
    x0 = x if screened else 4 * x
    words = f"{material} {cores} × {section} mm² {insulation} {kv:g} kV cable"
    values: dict[str, Value] = {
        "construction": "cable", "r_ohm_per_km": round(r * (1 + coefficient * (hot - 20)), 4), "x_ohm_per_km": round(x, 4),
        "b_us_per_km": round(_OMEGA * c_uf, 2), "r0_ohm_per_km": round(r0 * (1 + coefficient * (hot - 20)), 4),
        "x0_ohm_per_km": round(x0, 4), "b0_us_per_km": round(_OMEGA * c_uf, 2), "skin_exponent": 0.4,
        "rating_a": float(round(rating / 5) * 5),
    }  # fmt: skip
    if not screened:  # the fourth core is the neutral, as large as the others; cores lie side by side
        values |= {"neutral_r_ohm_per_km": values["r_ohm_per_km"], "spacing_mm": round(spacing, 1)}
    basis = f"IEC 60228, 60502; R at {hot:g} °C. Rating by IEC 60287: in the ground, 0.8 m deep, 20 °C, 1.5 K·m/W" + (
        ", trefoil, screens bonded at one end" if cores == 1 else ""
    )
    name = f"{material} {cores}×{section} {insulation} {kv:g} kV cable"
    return EquipmentType("line", name, words, values, f"{kv:g} kV cable {material} {insulation} {cores}", section, basis,
                         (("mm²", float(section)), ("kv", kv), ("×", float(cores)), ("a", float(values["rating_a"]))))  # fmt: skip


# Equivalent spacing between conductors, m, by system voltage, and the conductors that are used there.
_SPACING = {0.4: 0.4, 11.0: 1.1, 20.0: 1.3, 33.0: 1.8, 132.0: 5.0}
_USED = {
    0.4: ["Al 25", "Al 35", "Al 50", "Al 70", "Al 95", "Alloy 25", "Alloy 35", "Alloy 50", "Alloy 70", "Alloy 95"],
    11.0: ["Al/St 35", "Al/St 50", "Al/St 70", "Al/St 95", "Al/St 120", "Al/St 150", "Alloy 35", "Alloy 50", "Alloy 70",
           "Alloy 95", "Alloy 100", "Alloy 120", "Alloy 150", "Cu 16", "Cu 35", "Cu 70"],
    20.0: ["Al/St 50", "Al/St 70", "Al/St 95", "Al/St 120", "Al/St 150", "Alloy 50", "Alloy 95", "Alloy 150"],
    33.0: ["Al/St 70", "Al/St 95", "Al/St 120", "Al/St 150", "Al/St 185", "Al/St 200", "Al/St 240", "Alloy 100",
           "Alloy 150", "Alloy 200", "Alloy 300"],
    132.0: ["Al/St 150", "Al/St 185", "Al/St 240", "Al/St 300", "Al/St 380", "Al/St 435", "Al/St 490", "Alloy 175",
            "Alloy 300", "Alloy 400", "Alloy 500"],
}  # fmt: skip


def _overhead(conductor: str, kv: float) -> EquipmentType:
    wire = types_of("conductor")[conductor].values
    spacing, gmr = _SPACING[kv], float(wire["gmr_mm"]) / 1e3
    material, section = str(wire["material"]), float(wire["section_mm2"])
    r = at_temperature(float(wire["r20_ohm_per_km"]), material, 50)
    x = _OMEGA * 2e-4 * log(spacing / gmr)
    b = 1e6 * _OMEGA * 2 * pi * _EPS0 * 1e3 / log(spacing / (float(wire["diameter_mm"]) / 2e3))
    # Zero sequence with earth return, 100 Ω·m (Carson), without earth wire.
    r_earth, depth = _OMEGA * 1e-4 * pi / 2, 658.9 * sqrt(100 / 50)
    x0 = _OMEGA * 2e-4 * (3 * log(depth) - log(gmr) - 2 * log(spacing))
    values: dict[str, Value] = {
        "construction": "overhead", "r_ohm_per_km": round(r, 4), "x_ohm_per_km": round(x, 4), "b_us_per_km": round(b, 3),
        "r0_ohm_per_km": round(r + 3 * r_earth, 4), "x0_ohm_per_km": round(x0, 4), "b0_us_per_km": round(0.6 * b, 3),
        "skin_exponent": 0.5, "rating_a": wire["rating_a"], "spacing_mm": spacing * 1e3,
    }  # fmt: skip
    if kv < 1:  # a neutral of the same conductor
        values["neutral_r_ohm_per_km"] = round(r, 4)
    basis = f"Conductor as in the catalogue, R at 50 °C; equivalent spacing {spacing:g} m; earth return 100 Ω·m"
    words = f"{conductor} mm² {kv:g} kV overhead line {material}"
    return EquipmentType("line", f"{conductor} {kv:g} kV overhead", words, values, f"{kv:g} kV overhead {material}", section,
                         basis, (("mm²", section), ("kv", kv), ("a", float(wire["rating_a"]))))  # fmt: skip


def _build() -> list[EquipmentType]:
    found = [_overhead(c, kv) for kv, used in _USED.items() for c in used]
    for material in ("Al", "Cu"):
        lv = [s for s in RESISTANCE_20C[material] if 16 <= s <= 300]
        found += [_cable(material, s, 0.4, 4, i) for i in ("XLPE", "PVC") for s in lv]
        for kv, low in ((11.0, 35), (20.0, 50), (33.0, 70)):
            found += [_cable(material, s, kv, 1, "XLPE") for s in RESISTANCE_20C[material] if low <= s <= 800]
            found += [_cable(material, s, kv, 3, "XLPE") for s in RESISTANCE_20C[material] if low <= s <= 300]
        found += [_cable(material, s, 132.0, 1, "XLPE") for s in (300, 400, 500, 630, 800, 1000)]
    return found


family(
    Family("line", "Lines and cables", "Constants, zero sequence and rating per circuit",
           ("r_ohm_per_km", "x_ohm_per_km", "b_us_per_km", "rating_a"), _build)
)  # fmt: skip


def typical_line_type(nominal_kv: float, construction: str | None = None) -> str | None:
    """The type to start from at a voltage: a middling overhead conductor (cable at 400 V); None above 145 kV."""
    level = next((kv for kv in (0.4, 11.0, 20.0, 33.0, 132.0) if nominal_kv <= kv * 1.1), None)
    if level is None:
        return None
    construction = construction or ("cable" if level < 1 else "overhead")
    return {
        "overhead": {0.4: "Alloy 50 0.4 kV overhead", 11.0: "Alloy 100 11 kV overhead", 20.0: "Alloy 95 20 kV overhead",
                     33.0: "Al/St 150 33 kV overhead", 132.0: "Al/St 300 132 kV overhead"},
        "cable": {0.4: "Al 4×150 XLPE 0.4 kV cable", 11.0: "Al 1×185 XLPE 11 kV cable",
                  20.0: "Al 1×185 XLPE 20 kV cable", 33.0: "Al 1×300 XLPE 33 kV cable",
                  132.0: "Al 1×630 XLPE 132 kV cable"},
    }[construction][level]  # fmt: skip
