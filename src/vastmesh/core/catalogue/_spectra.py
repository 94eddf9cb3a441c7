"""Harmonic spectra of generic equipment: current of each order in per cent of the fundamental.

Ideal converters have 1/h at the characteristic orders (IEC TR 61000-3-6, annex); the others are rounded
means of published measurements, for a first study, to be replaced by the maker's figures.
"""

from __future__ import annotations

from ._types import EquipmentType, Family, Value, family

_SPECTRA: dict[str, tuple[str, dict[int, float]]] = {
    "Six-pulse rectifier, ideal": ("1/h at 6k ± 1", {h: round(100 / h, 2) for k in range(1, 5) for h in (6 * k - 1, 6 * k + 1)}),
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


# Angles against h times the fundamental's, where the physics gives them: blocks of current of 120°.
_ANGLES: dict[str, dict[int, float]] = {
    "Six-pulse rectifier, ideal": {h: 180.0 if h % 6 == 5 else 0.0 for h in _SPECTRA["Six-pulse rectifier, ideal"][1]},
}


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
