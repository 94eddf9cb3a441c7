"""Catalogue and typical data: physically plausible, ordered, and free of gaps."""

from __future__ import annotations

from math import log, pi, sqrt

import pytest

from vastmesh.core.catalogue import LINE_TYPES, standard_rating, typical_line_type, typical_transformer
from vastmesh.core.network import Transformer, make_item


def section(name: str) -> int:
    return int(next(w for w in name.split() if w.isdigit()))


@pytest.mark.parametrize("construction", ["overhead", "cable"])
@pytest.mark.parametrize("kv", [0.4, 11, 33, 132])
def test_larger_sections_resist_less_and_carry_more(construction: str, kv: float) -> None:
    types = [t for t in LINE_TYPES.values() if t.construction == construction and t.max_kv == kv]
    metal = {t.name.split()[0] for t in types}
    for kind in metal:
        same = sorted((t for t in types if t.name.startswith(kind)), key=lambda t: section(t.name))
        resistance = [t.r_ohm_per_km for t in same]
        assert resistance == sorted(resistance, reverse=True)
        assert [t.rating_a for t in same] == sorted(t.rating_a for t in same)


@pytest.mark.parametrize("line", LINE_TYPES.values(), ids=lambda t: t.name)
def test_constants_are_plausible(line) -> None:
    """Aluminium and its alloys: 28 to 34 ohm mm²/km with stranding; waves travel at most at the speed of light."""
    assert 28 < line.r_ohm_per_km * section(line.name) < 34
    low, high = (0.25, 0.45) if line.construction == "overhead" else (0.07, 0.14)
    assert low < line.x_ohm_per_km < high
    if line.b_us_per_km:
        omega = 2 * pi * 50
        speed = omega / sqrt(line.x_ohm_per_km * line.b_us_per_km * 1e-6)  # km/s
        assert speed < 299_792


def test_overhead_reactance_follows_its_formula() -> None:
    """x = ω μ0/2π ln(GMD/GMR) with the geometric mean radius of a stranded conductor."""
    line = LINE_TYPES["Alloy 100 11 kV overhead"]
    radius = sqrt(100 / pi / 0.75) / 1000
    assert line.x_ohm_per_km == pytest.approx(2 * pi * 50 * 2e-4 * log(1.1 / (0.77 * radius)), abs=1e-4)


@pytest.mark.parametrize(
    ("kv", "construction"), [(0.4, "cable"), (10, "overhead"), (11, "overhead"), (20, "overhead"), (132, "overhead")]
)
def test_growing_starts_from_a_fitting_type(kv: float, construction: str) -> None:
    name = typical_line_type(kv)
    assert name is not None
    assert LINE_TYPES[name].max_kv * 1.1 >= kv
    assert LINE_TYPES[name].construction == construction


def test_no_type_is_invented_above_its_voltages() -> None:
    assert typical_line_type(400) is None


@pytest.mark.parametrize(("least", "rating"), [(0.01, 0.05), (0.4, 0.4), (0.41, 0.5), (39, 40), (999, 250)])
def test_standard_ratings_round_up(least: float, rating: float) -> None:
    assert standard_rating(least) == rating


@pytest.mark.parametrize("mva", [0.05, 0.63, 2.5, 12.5, 40, 100, 250])
def test_typical_transformers_are_valid_and_efficient(mva: float) -> None:
    data = {
        "kind": "transformer",
        "id": "t",
        "hv_bus": "a",
        "lv_bus": "b",
        "rated_mva": mva,
        **typical_transformer(mva, 33, 11),
    }
    unit = make_item(data)
    assert isinstance(unit, Transformer)
    assert unit.missing() == ()
    z = unit.impedance_pu()
    assert abs(z) == pytest.approx(data["impedance_pct"] / 100)
    losses = z.real + unit.magnetising_pu().real
    assert losses < 0.025
    assert abs(unit.magnetising_pu()) == pytest.approx(data["no_load_current_pct"] / 100)


def test_larger_transformers_have_higher_x_over_r() -> None:
    ratios = [typical_transformer(m, 33, 11)["x_over_r"] for m in (0.4, 2, 10, 30, 90, 200)]
    assert ratios == sorted(ratios)
