"""Conductors and cables.

Resistance at 20 °C: cables after IEC 60228 (class 2), overhead conductors from the section and
the resistivity of the alloy (IEC 60889, IEC 60104). Reactance from an equivalent spacing:
x = ω μ0/2π · ln(GMD/GMR) at 50 Hz; ratings are rounded figures for ordinary laying conditions.
"""

from __future__ import annotations

from dataclasses import dataclass
from math import log, pi, sqrt


@dataclass(frozen=True)
class LineType:
    """Constants of one circuit in positive sequence at 50 Hz."""

    name: str
    construction: str
    max_kv: float
    r_ohm_per_km: float
    x_ohm_per_km: float
    b_us_per_km: float
    rating_a: float

    def constants(self) -> dict[str, float]:
        """The fields of a line that this type fills."""
        return {
            "r_ohm_per_km": self.r_ohm_per_km,
            "x_ohm_per_km": self.x_ohm_per_km,
            "b_us_per_km": self.b_us_per_km,
            "rating_a": self.rating_a,
        }


_ALLOY_OHM_MM2_PER_KM = 32.84  # IEC 60104, type B
_ALUMINIUM_OHM_MM2_PER_KM = 28.264  # IEC 60889
_OMEGA = 2 * pi * 50
_STRANDING = 1.02  # lay of the strands


def _overhead(section: int, max_kv: float, spacing_m: float, rating_a: float, *, alloy: bool) -> LineType:
    radius_m = sqrt(section / pi / 0.75) / 1000  # stranded section fills three quarters of its circle
    gmr, rho = 0.77 * radius_m, _ALLOY_OHM_MM2_PER_KM if alloy else _ALUMINIUM_OHM_MM2_PER_KM
    return LineType(
        name=f"{'Alloy' if alloy else 'Al/St'} {section} {max_kv:g} kV overhead",
        construction="overhead",
        max_kv=max_kv,
        r_ohm_per_km=round(_STRANDING * rho / section, 4),
        x_ohm_per_km=round(_OMEGA * 2e-4 * log(spacing_m / gmr), 4),
        b_us_per_km=round(1e6 * _OMEGA * 2 * pi * 8.854e-9 / log(spacing_m / radius_m), 3),
        rating_a=rating_a,
    )


# Aluminium cables: section, IEC 60228 resistance, then per voltage (reactance, µF/km, ampacity in ground).
_CABLE_R = {50: 0.641, 95: 0.320, 150: 0.206, 185: 0.164, 240: 0.125, 300: 0.100, 400: 0.0778, 630: 0.0469}
_CABLES: dict[float, dict[int, tuple[float, float, float]]] = {
    0.4: {50: (0.083, 0.0, 130), 95: (0.082, 0.0, 195), 150: (0.080, 0.0, 250), 185: (0.080, 0.0, 285),
          240: (0.079, 0.0, 335)},
    11.0: {95: (0.103, 0.29, 215), 150: (0.098, 0.34, 275), 185: (0.095, 0.37, 310), 240: (0.091, 0.41, 360),
           300: (0.088, 0.45, 405)},
    33.0: {150: (0.117, 0.19, 285), 240: (0.109, 0.23, 370), 300: (0.105, 0.25, 420), 400: (0.100, 0.28, 475),
           630: (0.092, 0.34, 610)},
    132.0: {400: (0.130, 0.18, 480), 630: (0.120, 0.21, 620)},
}  # fmt: skip


def _cable(section: int, max_kv: float, x: float, c_uf: float, rating_a: float) -> LineType:
    b = round(_OMEGA * c_uf, 3)
    return LineType(f"Al {section} {max_kv:g} kV cable", "cable", max_kv, _CABLE_R[section], x, b, rating_a)


_ALL = [
    _overhead(25, 0.4, 0.4, 130, alloy=True),
    _overhead(50, 0.4, 0.4, 200, alloy=True),
    _overhead(95, 0.4, 0.4, 300, alloy=True),
    _overhead(50, 11, 1.1, 190, alloy=True),
    _overhead(100, 11, 1.1, 300, alloy=True),
    _overhead(150, 11, 1.1, 390, alloy=True),
    _overhead(100, 33, 1.8, 310, alloy=True),
    _overhead(150, 33, 1.8, 400, alloy=False),
    _overhead(200, 33, 1.8, 490, alloy=False),
    _overhead(175, 132, 5.0, 430, alloy=False),
    _overhead(300, 132, 5.0, 620, alloy=False),
    _overhead(400, 132, 5.0, 750, alloy=False),
    *(_cable(s, kv, *data) for kv, sections in _CABLES.items() for s, data in sections.items()),
]

LINE_TYPES: dict[str, LineType] = {t.name: t for t in _ALL}


def typical_line_type(nominal_kv: float) -> str | None:
    """The type to start from at a voltage: a middling overhead conductor (cable at 400 V); None above 145 kV."""
    fitting = [t for t in _ALL if nominal_kv <= t.max_kv * 1.1]
    if not fitting:
        return None
    level = min(t.max_kv for t in fitting)
    wanted = "cable" if level < 1 else "overhead"
    same = [t for t in fitting if t.max_kv == level and t.construction == wanted]
    return same[len(same) // 2].name if same else fitting[0].name
