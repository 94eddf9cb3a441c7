"""Distribution and power transformers, 50 kVA to 250 MVA, after the preferred ratings of IEC 60076-1."""

from __future__ import annotations

from ._types import EquipmentType, Family, Value, family
from ._typical import RATINGS, typical_transformer

# HV and LV in kV, and the range of ratings in MVA in which such units are usual. Rated LV is above nominal.
_RANGES = [
    (11.0, 0.415, 0.05, 2.5), (20.0, 0.42, 0.05, 2.5), (33.0, 0.415, 0.05, 2.5), (33.0, 11.5, 2.5, 40.0),
    (33.0, 20.5, 4.0, 40.0), (132.0, 11.5, 10.0, 63.0), (132.0, 20.5, 16.0, 63.0), (132.0, 34.5, 16.0, 125.0),
    (220.0, 34.5, 40.0, 160.0), (220.0, 138.0, 63.0, 250.0), (275.0, 138.0, 100.0, 250.0), (400.0, 138.0, 160.0, 250.0),
]  # fmt: skip
_BASIS = "Preferred ratings of IEC 60076-1; impedance and losses typical of the rating class (IEC 60076-5, table 1)"


def _unit(rated: float, hv: float, lv: float) -> EquipmentType:
    values: dict[str, Value] = {"rated_mva": rated, **typical_transformer(rated, hv, lv)}
    power = f"{rated * 1000:g} kVA" if rated < 2 else f"{rated:g} MVA"
    name = f"{power} {hv:g}/{lv:g} kV {values['vector_group']}"
    words = f"{power} {hv:g}/{lv:g} kV {values['vector_group']} transformer {values['impedance_pct']:g} %"
    numbers = (("kva", rated * 1000), ("mva", rated), ("kv", hv), ("kv", lv))
    return EquipmentType("transformer", name, words, values, f"{hv:g}/{lv:g} kV transformer", rated, _BASIS, numbers)


_SINGLE = (0.005, 0.01, 0.016, 0.025, 0.05, 0.1)


def _single(rated: float, hv: float, lv: float, group: str) -> EquipmentType:
    """A single-phase unit; of a centre-tapped one ``lv`` is from end to end."""
    typical = typical_transformer(rated, hv, lv)
    values: dict[str, Value] = {
        "rated_mva": rated, "hv_kv": round(hv, 3), "lv_kv": round(lv, 4), "impedance_pct": 2.5 if rated < 0.05 else 4.0,
        "x_over_r": 1.5, "vector_group": group, "iron_loss_kw": round(typical["iron_loss_kw"] / 2, 3),
    }  # fmt: skip
    values["conductors"] = "AB" if hv > 10 and group == "Ii0" and round(hv, 2) == round(hv) else "AN"
    shown = f"{hv:.4g}/{lv:g} kV {group}"
    words = "centre-tapped single-phase transformer" if group == "Iii0" else "single-phase transformer"
    name = f"{rated * 1000:g} kVA {shown}"
    return EquipmentType("transformer", name, f"{name} {words}", values, shown, rated,
                         "Preferred ratings of IEC 60076-1; impedance and losses typical of small single-phase units",
                         (("kva", rated * 1000), ("kv", float(f"{hv:.4g}")), ("kv", lv)))  # fmt: skip


def _build() -> list[EquipmentType]:
    phase = 3**0.5
    single = [
        _single(r, hv, lv, group)
        for hv, lv, group in (
            (11.0, 0.24, "Ii0"),
            (11 / phase, 0.24, "Ii0"),
            (11 / phase, 0.24, "Iii0"),
            (33 / phase, 0.24, "Ii0"),
        )
        for r in _SINGLE
    ]
    return [_unit(r, hv, lv) for hv, lv, low, high in _RANGES for r in RATINGS if low <= r <= high] + single


family(
    Family("transformer", "Transformers", "Two-winding transformers by rating and voltages",
           ("rated_mva", "impedance_pct", "x_over_r", "iron_loss_kw", "vector_group"), _build)
)  # fmt: skip
