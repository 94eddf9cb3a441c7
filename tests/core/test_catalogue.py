"""Catalogue and typical data: physically plausible, ordered, free of gaps, and near what standards print."""

from __future__ import annotations

from math import inf, log, pi, sqrt

import pytest

from vastmesh.core.catalogue import (
    FAMILIES,
    EquipmentType,
    earthing_a,
    earthing_ohm,
    motor_circuit,
    neighbour,
    overhead_rating_a,
    search,
    standard_rating,
    types_of,
    typical_line_type,
    typical_transformer,
    typical_x_over_r,
    zero_sequence_share,
)
from vastmesh.core.network import REGISTRY, Transformer, catalogue_family, make_item

LINES = types_of("line")
OMEGA = 2 * pi * 50


def names(family: str, query: str) -> list[str]:
    return [t.name for t in search(types_of(family).values(), query)]


@pytest.mark.parametrize("family", sorted(FAMILIES))
def test_every_series_is_ordered_and_every_type_describes_itself(family: str) -> None:
    by_series: dict[str, list[EquipmentType]] = {}
    for found in types_of(family).values():
        assert found.description
        assert found.basis, f"{found.name} does not say where its figures come from"
        assert search([found], found.name.lower()), found.name
        if found.series:
            by_series.setdefault(found.series, []).append(found)
    for series, members in by_series.items():
        sizes = sorted(t.size for t in members)
        assert len(set(sizes)) == len(sizes), f"{series}: two types of one size"


@pytest.mark.parametrize("family", ["line", "transformer", "switch", "electrode"])
def test_types_give_only_fields_their_elements_have(family: str) -> None:
    kinds = [c for c in REGISTRY.values() if catalogue_family(c) == family]
    assert kinds
    ends = {"from_bus": "a", "to_bus": "b", "hv_bus": "a", "lv_bus": "b", "bus": "a"}
    for found in types_of(family).values():
        for cls in kinds:
            assert set(found.values) <= set(cls.model_fields), found.name
            terminals = {t: ends[t] for t in cls.terminals()}  # type: ignore[attr-defined]
            more = {"length_km": 1.0} if family == "line" else {}
            item = make_item(
                {"kind": cls.model_fields["kind"].default, "id": "x", "type": found.name, **terminals, **more}
            )
            assert item.missing() == ()
            assert all(item.origins[f] == "catalogue" for f in found.values)


def test_larger_sections_resist_less_and_carry_more() -> None:
    by_series: dict[str, list[EquipmentType]] = {}
    for found in LINES.values():
        by_series.setdefault(found.series, []).append(found)
    for series, members in by_series.items():
        members.sort(key=lambda t: t.size)
        r = [float(t.values["r_ohm_per_km"]) for t in members]
        amps = [float(t.values["rating_a"]) for t in members]
        assert r == sorted(r, reverse=True), series
        assert amps == sorted(amps), series


@pytest.mark.parametrize("found", LINES.values(), ids=lambda t: t.name)
def test_constants_are_plausible(found: EquipmentType) -> None:
    """Metals between copper and alloy at working temperature; waves travel at most at the speed of light."""
    v = found.values
    assert 17 < float(v["r_ohm_per_km"]) * found.size < 42
    low, high = (0.24, 0.48) if v["construction"] == "overhead" else (0.06, 0.17)
    assert low < float(v["x_ohm_per_km"]) < high
    assert float(v["r0_ohm_per_km"]) > float(v["r_ohm_per_km"])
    if v["b_us_per_km"]:
        speed = OMEGA / sqrt(float(v["x_ohm_per_km"]) * float(v["b_us_per_km"]) * 1e-6)  # km/s
        assert speed < 299_792


# IEC 60502-2:2014, annex B: single-core XLPE cables in trefoil directly in the ground, 20 °C, 1.5 K·m/W, 0.8 m.
PRINTED_TREFOIL = {
    "Al": {50: 152, 70: 186, 95: 221, 120: 252, 150: 281, 185: 317, 240: 367, 300: 414, 400: 470},
    "Cu": {50: 196, 70: 239, 95: 285, 120: 323, 150: 361, 185: 406, 240: 469, 300: 526, 400: 590},
}


@pytest.mark.parametrize("metal", ["Al", "Cu"])
def test_computed_cable_ratings_are_near_the_printed_ones(metal: str) -> None:
    for section, amps in PRINTED_TREFOIL[metal].items():
        assert LINES[f"{metal} 1×{section} XLPE 11 kV cable"].values["rating_a"] == pytest.approx(amps, rel=0.06), (
            section
        )


def test_a_bare_conductor_is_in_heat_balance() -> None:
    """At its rating, what is taken up equals what is given off; no wind or more sun lowers it."""
    d, r, i = 0.0150, 0.20e-3, overhead_rating_a(15.0, 0.20)
    taken_up = i * i * r + 0.5 * d * 900
    radiated = 0.6 * pi * d * 5.67e-8 * (353.15**4 - 308.15**4)
    reynolds = 1.644e9 * 0.6 * d * (308.15 + 22.5) ** -1.78
    convected = 0.02585 * (0.65 * reynolds**0.2 + 0.23 * reynolds**0.61) * 45 * pi
    assert taken_up == pytest.approx(radiated + convected, rel=1e-9)
    assert overhead_rating_a(15.0, 0.20, wind_m_s=0.2) < i
    assert overhead_rating_a(15.0, 0.20, sun_w_m2=0) > i


def test_overhead_reactance_follows_its_formula() -> None:
    """x = ω μ0/2π ln(GMD/GMR) with the geometric mean radius of 19 strands."""
    wire = types_of("conductor")["Alloy 100"].values
    found = LINES["Alloy 100 11 kV overhead"].values
    strand = sqrt(4 * 100 / pi / 19)
    assert wire["diameter_mm"] == pytest.approx(5 * strand, abs=0.01)
    assert wire["gmr_mm"] == pytest.approx(0.7577 * 5 * strand / 2, abs=0.001)
    assert found["x_ohm_per_km"] == pytest.approx(OMEGA * 2e-4 * log(1100 / float(wire["gmr_mm"])), abs=2e-4)


# Searching


def test_search_takes_any_part_and_ranges() -> None:
    found = names("line", "Al 95..185 11 kV")
    assert {"Al 1×95 XLPE 11 kV cable", "Al 3×185 XLPE 11 kV cable"} <= set(found)
    assert all(" 11 kV" in n for n in found)
    assert not any("×50 " in n or "×240 " in n for n in found)
    assert "Al 1×240 XLPE 11 kV cable" in names("line", "240mm2 xlpe 11kV")
    assert names("line", "no such thing") == []
    assert len(names("line", "")) == len(LINES)


def test_a_number_is_a_figure_and_not_a_piece_of_one() -> None:
    assert all("11 kV" in n or " 11/" in n for n in names("transformer", "11 kV"))
    assert not any("110" in n for n in names("line", "11"))
    assert names("transformer", "500..1000 kVA 11/0.415") == [
        "500 kVA 11/0.415 kV Dyn11", "630 kVA 11/0.415 kV Dyn11", "800 kVA 11/0.415 kV Dyn11", "1000 kVA 11/0.415 kV Dyn11",
    ]  # fmt: skip
    assert names("switch", "fuse gG 315 A") == ["LV fuse gG 315 A"]
    assert names("line", "cable Cu 390..425 A 11 kV 1") == ["Cu 1×185 XLPE 11 kV cable"]


def test_the_next_size_up_and_down() -> None:
    start = LINES["Al 1×185 XLPE 11 kV cable"]
    up, down = neighbour(start, 1), neighbour(start, -1)
    assert up is not None
    assert down is not None
    assert (up.size, down.size) == (240, 150)
    assert neighbour(up, -1) == start
    largest = max((t for t in LINES.values() if t.series == start.series), key=lambda t: t.size)
    assert neighbour(largest, 1) is None


# Typical data and name plates


@pytest.mark.parametrize(
    ("kv", "construction"), [(0.4, "cable"), (10, "overhead"), (11, "overhead"), (20, "overhead"), (132, "overhead")]
)
def test_growing_starts_from_a_fitting_type(kv: float, construction: str) -> None:
    name = typical_line_type(kv)
    assert name is not None
    assert LINES[name].values["construction"] == construction
    other = typical_line_type(kv, "cable")
    assert other is not None
    assert LINES[other].values["construction"] == "cable"


def test_no_type_is_invented_above_its_voltages() -> None:
    assert typical_line_type(400) is None


@pytest.mark.parametrize(("least", "rating"), [(0.01, 0.05), (0.4, 0.4), (0.41, 0.5), (39, 40), (999, 250)])
def test_standard_ratings_round_up(least: float, rating: float) -> None:
    assert standard_rating(least) == rating


@pytest.mark.parametrize("mva", [0.05, 0.63, 2.5, 12.5, 40, 100, 250])
def test_typical_transformers_are_valid_and_efficient(mva: float) -> None:
    ends = {"kind": "transformer", "id": "t", "hv_bus": "a", "lv_bus": "b"}
    data = {**ends, "rated_mva": mva, **typical_transformer(mva, 33, 11)}
    unit = make_item(data)
    assert isinstance(unit, Transformer)
    assert unit.missing() == ()
    z = unit.impedance_pu()
    assert abs(z) == pytest.approx(data["impedance_pct"] / 100)
    assert z.real + unit.magnetising_pu().real < 0.025
    assert abs(unit.magnetising_pu()) == pytest.approx(data["no_load_current_pct"] / 100)


def test_larger_transformers_have_higher_x_over_r() -> None:
    ratios = [typical_transformer(m, 33, 11)["x_over_r"] for m in (0.4, 2, 10, 30, 90, 200)]
    assert ratios == sorted(ratios) == [typical_x_over_r(m) for m in (0.4, 2, 10, 30, 90, 200)]


@pytest.mark.parametrize(
    ("group", "core", "share"),
    [("Dyn11", "three_limb", 0.9), ("YNd1", "bank", 1.0), ("YNyn0", "three_limb", 0.95), ("Dzn0", "shell", 0.1),
     ("Yyn0", "three_limb", 6.0), ("Yyn0", "five_limb", 50.0), ("YNa0", "three_limb", 0.95), ("Dd0", "shell", None),
     ("Yd11", "three_limb", None)],
)  # fmt: skip
def test_zero_sequence_follows_from_windings_and_core(group: str, core: str, share: float | None) -> None:
    assert zero_sequence_share(group, core) == share


def test_a_neutral_resistor_and_its_rated_current_are_two_sides() -> None:
    """6.351 ohms let 1000 A through at 11 kV: U/√3/I."""
    assert earthing_ohm(1000, 11) == pytest.approx(6.3509, abs=1e-4)
    assert earthing_a(earthing_ohm(400, 33), 33) == pytest.approx(400)
    assert earthing_a(0, 11) == inf


@pytest.mark.parametrize(
    ("efficiency", "pf", "start", "slip"), [(0.94, 0.87, 6.0, 0.015), (0.90, 0.82, 6.5, 0.03), (0.96, 0.90, 5.5, 0.008)]
)
def test_a_motor_circuit_gives_its_name_plate_back(efficiency: float, pf: float, start: float, slip: float) -> None:
    circuit = motor_circuit(efficiency, pf, start, 0.3, slip)
    s, shaft = circuit.plate(slip)
    assert s == pytest.approx(complex(pf, sqrt(1 - pf * pf)), abs=2e-3)
    assert shaft == pytest.approx(efficiency * pf, abs=2e-3)
    assert 1 / abs(circuit.impedance(1.0)) == pytest.approx(start, rel=2e-3)
    assert min(circuit.r1, circuit.x1, circuit.r2, circuit.x2, circuit.xm) > 0
    # What goes in and does not come out is heat in the two resistances.
    i1 = 1 / circuit.impedance(slip)
    i2 = i1 * 1j * circuit.xm / complex(circuit.r2 / slip, circuit.x2 + circuit.xm)
    heat = abs(i1) ** 2 * circuit.r1 + abs(i2) ** 2 * circuit.r2
    assert s.real - shaft == pytest.approx(heat, abs=1e-9)
