"""Harmonic spectra of generic equipment: current of each order in per cent of the fundamental.

Ideal converters have 1/h at the characteristic orders (IEC TR 61000-3-6, annex); the others are rounded
means of published measurements, for a first study, to be replaced by the maker's figures.
"""

from __future__ import annotations

from cmath import phase
from math import cos, pi, sin

from ._types import EquipmentType, Family, Value, family

_SPECTRA: dict[str, tuple[str, dict[int, float]]] = {
    "Six-pulse rectifier, ideal": ("1/h at 6k ± 1", {h: round(100 / h, 2) for k in range(1, 5) for h in (6 * k - 1, 6 * k + 1)}),
    "Twelve-pulse rectifier, ideal": ("1/h at 12k ± 1", {h: round(100 / h, 2) for k in range(1, 3) for h in (12 * k - 1, 12 * k + 1)}),
    "Six-pulse drive with choke": ("voltage-source drive, 3 % choke", {5: 38, 7: 14, 11: 7.4, 13: 3.6, 17: 3.2, 19: 1.9, 23: 1.7, 25: 1.2}),
    "Six-pulse drive, no choke": ("voltage-source drive", {5: 65, 7: 41, 11: 8.5, 13: 7.7, 17: 4.3, 19: 3.1, 23: 2.6, 25: 1.8}),
    "Twelve-pulse drive": ("two bridges 30° apart", {5: 3.7, 7: 1.2, 11: 6.9, 13: 3.2, 17: 0.3, 19: 0.2, 23: 1.4, 25: 1.3}),
    "Active front end": ("transistor rectifier", {5: 2.0, 7: 1.4, 11: 0.9, 13: 0.7, 17: 0.5, 19: 0.4}),
    "Solar inverter, three-phase": ("transistor inverter at rated power", {5: 1.4, 7: 1.0, 11: 0.6, 13: 0.5, 17: 0.3, 19: 0.2}),
    "Wind turbine, full converter": ("transistor converter", {5: 1.1, 7: 0.9, 11: 0.5, 13: 0.4, 17: 0.3, 19: 0.3}),
    "Car charger, single-phase": ("on-board charger with correction", {3: 7.0, 5: 3.5, 7: 2.0, 9: 1.5, 11: 1.2, 13: 0.9}),
    "Fast charger, three-phase": ("transistor rectifier", {5: 3.2, 7: 2.4, 11: 1.6, 13: 1.2, 17: 0.8, 19: 0.7}),
    "Shore converter": ("frequency converter for ships", {5: 3.0, 7: 2.0, 11: 4.0, 13: 2.5, 23: 1.2, 25: 1.0}),
    "LED lighting": ("electronic ballasts", {3: 18, 5: 9, 7: 6, 9: 4.5, 11: 3.5, 13: 2.5}),
    "Switched-mode supplies": ("office and home electronics", {3: 68, 5: 42, 7: 21, 9: 9, 11: 6, 13: 5}),
    "Arc furnace, melting": ("even orders included", {2: 7.7, 3: 5.8, 4: 2.5, 5: 4.2, 7: 3.1, 11: 1.1, 13: 0.9}),
    "Domestic mixture": ("a street in the evening", {3: 11, 5: 6, 7: 4, 9: 2, 11: 1.5, 13: 1}),
}  # fmt: skip


# Angles against h times the fundamental's, where the physics gives them: blocks of current of 120°. Control alone turns every
# order h times as far as the fundamental, so that they stay.
_ANGLES: dict[str, dict[int, float]] = {
    name: {h: 180.0 if h % 6 == 5 else 0.0 for h in _SPECTRA[name][1]}
    for name in ("Six-pulse rectifier, ideal", "Twelve-pulse rectifier, ideal")
}


def bridge_current(firing_deg: float, overlap_deg: float, orders: tuple[int, ...]) -> dict[int, tuple[float, float]]:
    """Orders of the line current of a six-pulse bridge with smooth direct current: per cent of the fundamental, and angle in
    degrees against h times the fundamental's.

    While two phases commutate the current follows cos a - cos (a + t) (N. Mohan, T. M. Undeland, W. P. Robbins, "Power
    Electronics", 3rd ed., 2003, 6-4); its Fourier sums are taken of 2,880 samples, good to 1e-5 of the fundamental.
    """
    a, u = firing_deg * pi / 180, max(overlap_deg, 1e-3) * pi / 180
    count = 2880
    samples = [2 * pi * (k + 0.5) / count for k in range(count)]
    whole = cos(a) - cos(a + u)

    def rise(t: float) -> float:
        return 0.0 if t <= 0 else 1.0 if t >= u else (cos(a) - cos(a + t)) / whole

    block = 2 * pi / 3
    wave = [rise(t) - rise(t - block) - rise(t - pi) + rise(t - pi - block) for t in samples]
    found = {h: 2 / count * sum(w * complex(cos(h * t), -sin(h * t)) for w, t in zip(wave, samples, strict=True))
             for h in (1, *orders)}  # fmt: skip
    first = phase(found[1])
    told = {}
    for h in orders:
        angle = (phase(found[h]) - h * first) * 180 / pi
        told[h] = 100 * abs(found[h]) / abs(found[1]), (angle + 180) % 360 - 180
    return told


_CHARACTERISTIC = tuple(h for k in range(1, 5) for h in (6 * k - 1, 6 * k + 1))
_CONTROLLED = bridge_current(20.0, 15.0, _CHARACTERISTIC)
_SPECTRA["Six-pulse rectifier, controlled"] = (
    "firing at 20°, overlap 15°", {h: round(m, 2) for h, (m, _) in _CONTROLLED.items()}
)  # fmt: skip
_ANGLES["Six-pulse rectifier, controlled"] = {h: round(a, 1) for h, (_, a) in _CONTROLLED.items()}


def _build() -> list[EquipmentType]:
    found = []
    for name, (words, orders) in _SPECTRA.items():
        values: dict[str, Value] = {f"order_{h}_pct": float(v) for h, v in orders.items()}
        values |= {f"order_{h}_deg": a for h, a in _ANGLES.get(name, {}).items()}
        thd = sum(v * v for v in orders.values()) ** 0.5
        values["distortion_pct"] = round(thd, 1)
        found.append(EquipmentType("spectrum", name, f"{name}: {words}, harmonic spectrum {thd:.0f} %", values, "", thd,
                                   "Per cent of the fundamental current", tuple(("", float(h)) for h in orders)))  # fmt: skip
    return found


family(
    Family(
        "spectrum",
        "Spectra",
        "Currents of each order drawn by distorting equipment",
        ("distortion_pct",),
        _build,
    )
)
