"""The model check finds planted errors, offers repairs that mend them, and leaves a sound network alone."""

from __future__ import annotations

from math import sqrt

import pytest

from tests.helpers import Item, bus, line, load, network, source, switch, transformer
from vastmesh.core.checks import Check, run_checks
from vastmesh.core.electrical.fault import fault_current_ka
from vastmesh.core.network import Add, Network, Update
from vastmesh.core.results.state import run_load_flow, run_unbalanced
from vastmesh.core.severity import Severity


def sound() -> Network:
    return network(
        bus("G", 33), source("G", fault_max_mva=800.0, fault_min_mva=600.0), bus("S"),
        transformer("G", "S", rated_mva=10.0, vector_group="Dyn11"),
        bus("a"), line("S", "a", length_km=2.0, rating_a=300.0), load("a", 1.0),
        bus("b"), line("a", "b", length_km=1.0, rating_a=300.0), load("b", 0.5),
    )  # fmt: skip


def found(net: Network, rule: str, element: str | None = None) -> list[Check]:
    return [c for c in run_checks(net) if c.rule == rule and element in (None, c.element)]


def test_a_sound_network_has_nothing_to_say() -> None:
    assert run_checks(sound()) == []


# What is planted, the rule and element that must find it, whether it is a breach, whether a repair is offered.
PLANTED: list[tuple[Item, str, str, bool, bool]] = [
    ({"id": "a-b", "length_km": None}, "missing", "a-b", True, True),
    ({"id": "a-b", "r_ohm_per_km": None}, "missing", "a-b", True, True),
    ({"id": "G/S", "impedance_pct": None}, "missing", "G/S", True, True),
    ({"id": "b", "nominal_kv": None}, "missing", "b", True, True),
    ({"id": "load-b", "reactive_power_mvar": None}, "missing", "load-b", True, True),
    ({"id": "G/S", "lv_kv": 6.6}, "voltage", "G/S", True, True),
    ({"id": "G/S", "hv_bus": "S", "lv_bus": "G"}, "voltage", "G/S", True, True),
    ({"id": "G/S", "impedance_pct": 30.0}, "impedance", "G/S", False, False),
    ({"id": "G/S", "x_over_r": 1.0}, "x_over_r", "G/S", False, False),
    ({"id": "G/S", "emergency_mva": 5.0}, "cooling", "G/S", False, False),
    ({"id": "a-b", "length_km": 800.0}, "length", "a-b", False, True),
    ({"id": "a-b", "x_ohm_per_km": 3.0}, "reactance", "a-b", False, False),
    ({"id": "a-b", "r_ohm_per_km": 9.0}, "resistance", "a-b", False, False),
    ({"id": "b", "nominal_kv": 6.6}, "voltage", "a-b", True, False),
    ({"id": "a-b", "type": "Al 4×150 XLPE 0.4 kV cable"}, "voltage", "a-b", True, True),
    ({"id": "S-a", "rating_a": 60.0}, "rating", "a-b", False, False),
    ({"id": "load-b", "name": "load-a"}, "names", "load-b", False, True),
    ({"id": "source-G", "in_service": False}, "supply", "G", True, False),
]


@pytest.mark.parametrize(("planted", "rule", "element", "breach", "repair"), PLANTED)
def test_planted_errors_are_found_and_mended(
    planted: Item, rule: str, element: str, breach: bool, repair: bool
) -> None:
    net = sound()
    net.apply([Update(id=planted["id"], values={k: v for k, v in planted.items() if k != "id"})])
    first = found(net, rule, element)
    assert first, [c.text for c in run_checks(net)]
    assert (first[0].severity is Severity.BREACH) == breach
    assert (first[0].repair is not None) == repair
    if first[0].repair:
        net.apply(first[0].repair.changes)
        assert found(net, rule, element) == []
        assert run_load_flow(net).account.converged


def test_open_ends_and_lonely_buses() -> None:
    net = sound()
    net.apply([Add(item=bus("c")), Add(item=line("b", "c")), Add(item=bus("lost"))])
    assert {c.element for c in found(net, "ends")} == {"c", "lost"}
    lost = found(net, "ends", "lost")[0]
    assert lost.repair
    net.apply(lost.repair.changes)
    assert "lost" not in net


def test_parts_without_supply_offer_the_switch_that_leads_to_one() -> None:
    net = sound()
    net.apply([Add(item=bus("d")), Add(item=switch("b", "d", closed=False)), Add(item=load("d", 0.1))])
    check = found(net, "supply", "d")[0]
    assert check.repair
    net.apply(check.repair.changes)
    assert found(net, "supply") == []


def test_transformers_in_parallel_that_fight() -> None:
    net = sound()
    second = transformer(
        "G", "S", id="T2", rated_mva=10.0, vector_group="Dyn11", tap_step_pct=1.25, tap_min=-8, tap_max=8
    )
    net.apply([Add(item=second), Update(id="G/S", values={"tap_step_pct": 1.25, "tap_min": -8, "tap_max": 8})])
    assert found(net, "parallel") == []
    net.apply([Update(id="T2", values={"tap_position": 4})])
    check = found(net, "parallel", "T2")[0]
    # 5 % of voltage over twice 8 % of impedance drives about 30 % of rated current.
    share = 100 * abs(1 / 1.05 - 1) / 0.16
    assert f"{share:.0f} % of rated current circulates" in check.text
    assert check.repair
    net.apply(check.repair.changes)
    assert found(net, "parallel") == []
    net.apply([Update(id="T2", values={"vector_group": "YNd1"})])
    assert found(net, "parallel", "T2")[0].severity is Severity.BREACH
    net.apply([Update(id="T2", values={"vector_group": "Dyn11", "impedance_pct": 12.0})])
    assert "unequally" in found(net, "parallel", "T2")[0].text


def test_loops_are_pointed_out_where_the_network_is_meant_to_be_radial() -> None:
    net = sound()
    net.apply([Add(item=bus("c")), Add(item=line("b", "c")), Add(item=switch("c", "S"))])
    check = found(net, "loop")[0]
    assert "loop of 4 branches at 11 kV" in check.text
    assert check.repair
    net.apply(check.repair.changes)
    assert found(net, "loop") == []
    assert run_load_flow(net).summary["dead_buses"] == 0


def test_a_breaker_too_weak_for_its_fault_level() -> None:
    """Source of 800 MVA behind 10 MVA of 8 %: I" = c U / √3 |Z| by hand."""
    net = sound()
    net.apply([Add(item=bus("x")), Add(item=switch("S", "x", breaking_ka=5.0, rated_kv=7.2)), Add(item=load("x", 0.1))])
    z_source = 1.1 * 33**2 / 800 * complex(1, 10) / abs(complex(1, 10)) * (11 / 33) ** 2
    z_unit = 0.08 * 11**2 / 10 * complex(1, 12) / abs(complex(1, 12))
    expected = 1.1 * 11 / sqrt(3) / abs(z_source + z_unit)
    assert fault_current_ka(net, ["S"])["S"] == pytest.approx(expected, rel=1e-6)
    texts = [c.text for c in run_checks(net) if c.element == "S|x"]
    assert any(f"draws {expected:.3g} kA" in t for t in texts)
    assert any("for 7.2 kV, on a bus of 11 kV" in t for t in texts)
    net.apply([Update(id="S|x", values={"breaking_ka": 20.0, "rated_kv": 12.0})])
    assert [c for c in run_checks(net) if c.element == "S|x"] == []


def test_at_the_source_the_fault_level_is_the_one_entered() -> None:
    net = network(bus("G", 33), source("G", fault_max_mva=800.0, fault_min_mva=600.0))
    assert fault_current_ka(net, ["G"])["G"] == pytest.approx(800 / sqrt(3) / 33)


def test_motors_add_to_a_fault() -> None:
    net = sound()
    before = fault_current_ka(net, ["S"])["S"]
    net.apply([Add(item={"kind": "induction_motor", "id": "M", "bus": "S", "rated_kw": 1000, "rated_kv": 11})])
    assert fault_current_ka(net, ["S"])["S"] > before
    assert fault_current_ka(network(bus("alone")), ["alone"]) == {}


def test_a_cable_behind_too_large_a_fuse() -> None:
    net = sound()
    net.apply([Add(item=bus("x")), Add(item=switch("S", "x", device="fuse", fuse_a=400.0)), Add(item=bus("y")),
               Add(item=line("x", "y", rating_a=200.0)), Add(item=load("y", 0.1))])  # fmt: skip
    assert "lets 400 A through" in found(net, "protection", "x-y")[0].text


def test_a_network_with_gaps_still_solves_what_it_can() -> None:
    net = sound()
    net.apply([Update(id="a-b", values={"length_km": None})])
    result = run_load_flow(net)
    assert result.account.converged
    assert result.summary["live_buses"] == 3


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"gone": {"x": 1}}, "gone, which is not there"),
        ({"a-b": {"length_km": -3}}, "length_km of a-b"),
        ({"a-b": {"colour": "red", "length_km": 2.0}}, "colour of a-b"),
        ({"a-b": {"from_bus": "b"}}, "from_bus of a-b"),
    ],
)
def test_what_a_condition_sets_in_vain_is_named_and_forgotten(values: dict[str, dict[str, object]], words: str) -> None:
    net = sound()
    net.apply([Add(item={"kind": "condition", "id": "c", "values": values, "states": {"b": "out"}})])
    check = found(net, "conditions", "c")[0]
    assert words in check.text
    assert check.repair is not None
    net.apply(check.repair.changes)
    assert not found(net, "conditions")
    kept = net["c"]
    assert kept.states == {"b": "out"}  # type: ignore[attr-defined]
    assert kept.values.get("a-b", {}).get("length_km") in (None, 2.0)  # type: ignore[attr-defined]


def test_costs_that_fall_and_interfaces_that_name_what_is_gone_are_found() -> None:
    net = network(
        bus("a"), bus("b"), source("a", cost_blocks="10 5; 20 3"), line("a", "b"), load("b", 1.0),
        {"kind": "interface", "id": "I", "members": ["a-b", "gone"], "most_mw": 5.0},
        {"kind": "interface", "id": "J", "members": ["-a-b"]},
    )  # fmt: skip
    found = {c.element: c.text for c in run_checks(net) if c.rule in ("cost_blocks", "interface")}
    assert "fall" in found["source-a"]
    assert "gone" in found["I"]
    assert "no bound" in found["J"]


def test_a_star_point_that_is_not_brought_out_is_found_where_a_load_needs_it() -> None:
    """Without it the load's own phase and the neutral stand at one voltage; the repair gives it nearly all of it."""
    unit = {"kind": "three_winding", "id": "unit", "hv_bus": "h", "mv_bus": "m", "lv_bus": "l", "hv_kv": 110.0, "mv_kv": 33.0,
            "lv_kv": 11.0, "hv_mva": 20.0, "mv_mva": 20.0, "lv_mva": 10.0, "z_hm_pct": 10.0, "z_ml_pct": 6.0, "z_hl_pct": 17.0,
            "x_over_r": 30.0}  # fmt: skip
    net = network(bus("h", 110.0), bus("m", 33.0, conductors="ABCN"), bus("l"), source("h", neutral="solid"), unit,
                  load("m", 0.1, id="lamp", conductors="AN"))  # fmt: skip

    def across() -> float:
        result = run_unbalanced(net)
        table = result.tables["injections"]
        return float(table["active_power_mw"][list(table["id"]).index("lamp")])

    (found,) = [c for c in run_checks(net) if c.rule == "star_point"]
    assert (found.element, found.field) == ("unit", "conductors")
    assert "lamp" in found.text
    assert found.repair is not None
    net.apply(found.repair.changes)
    assert not [c for c in run_checks(net) if c.rule == "star_point"]
    table = run_unbalanced(net).tables["buses"]
    assert table["phase_a_voltage_pu"][list(table["id"]).index("m")] > 0.95
    assert across() == pytest.approx(0.1, rel=1e-6)
