"""Figures of the balanced load flow against closed forms, a published system and an independent method."""

from __future__ import annotations

from math import sqrt

import numpy as np
import pytest

from tests.helpers import assert_balanced, bus, column, line, load, network, source, switch, transformer, volts
from vastmesh.core.electrical import compile_network, nodal_pattern, nodal_values, trace, two_ports
from vastmesh.core.flow import Ending
from vastmesh.core.flow.balanced import LoadFlowOptions
from vastmesh.core.network import Condition, Network, Update
from vastmesh.core.results.state import LiveLoadFlow, run_load_flow
from vastmesh.exchange import read_network

TIGHT = LoadFlowOptions(tolerance_pu=1e-12)


def two_bus(mw: float, mvar: float, **more: float) -> Network:
    return network(bus("a"), bus("b"), source("a"), line("a", "b", length_km=2.0), load("b", mw, mvar, **more))


def test_two_buses_match_the_quadratic_solution() -> None:
    """|V|² solves V⁴ + (2(RP + XQ) - E²) V² + |Z|²|S|² = 0 for a constant power load behind R + jX."""
    r, x, p, q, e = 0.6, 0.7, 2.0, 1.0, 11.0
    result = run_load_flow(two_bus(p, q), TIGHT)
    b = 2 * (r * p + x * q) - e**2
    exact = sqrt((-b + sqrt(b**2 - 4 * (r**2 + x**2) * (p**2 + q**2))) / 2)
    assert column(result, "buses", "voltage_kv")["b"] == pytest.approx(exact, rel=1e-11)
    losses = r * (p**2 + q**2) / exact**2
    assert result.summary["active_loss_mw"] == pytest.approx(losses, rel=1e-9)


def test_constant_impedance_is_a_voltage_divider() -> None:
    """A load that is an impedance Z_L = U²/S* behind Z gives V = E Z_L / (Z_L + Z)."""
    result = run_load_flow(two_bus(2.0, 1.0, constant_power_pct=0.0, constant_impedance_pct=100.0), TIGHT)
    z_load = 11.0**2 / complex(2.0, -1.0)
    assert volts(result)["b"] == pytest.approx(z_load / (z_load + complex(0.6, 0.7)), abs=1e-11)


def test_constant_current_draws_power_in_proportion_to_voltage() -> None:
    result = run_load_flow(two_bus(2.0, 1.0, constant_power_pct=0.0, constant_current_pct=100.0), TIGHT)
    v = abs(volts(result)["b"])
    assert column(result, "injections", "active_power_mw")["load-b"] == pytest.approx(2.0 * v, rel=1e-10)
    assert column(result, "injections", "reactive_power_mvar")["load-b"] == pytest.approx(1.0 * v, rel=1e-10)


def test_line_charging_raises_the_open_end() -> None:
    """A line open at its far end: V = E / (1 + Z·jB/2), the Ferranti effect of the nominal pi."""
    net = network(bus("a", 132), bus("b", 132), source("a"), line("a", "b", length_km=80.0, b_us_per_km=3.0))
    half = 1j * 3e-6 * 80 / 2
    exact = 1 / (1 + complex(0.3, 0.35) * 80 * half)
    assert volts(run_load_flow(net, TIGHT))["b"] == pytest.approx(exact, abs=1e-11)


@pytest.mark.parametrize(
    ("group", "degrees"),
    [("YNyn0", 0), ("Dyn1", -30), ("Dyn5", -150), ("Dyn11", 30), ("YNd1", -30), ("YNd11", 30), ("Dyn7", 150)],
)
def test_vector_group_turns_the_low_voltage_side(group: str, degrees: float) -> None:
    """IEC 60076-1: the clock number times 30° is the angle by which LV lags HV."""
    net = network(bus("h", 33), bus("l", 11), source("h"), transformer("h", "l", vector_group=group))
    angle = column(run_load_flow(net, TIGHT), "buses", "angle_deg")["l"]
    assert angle == pytest.approx(degrees, abs=1e-9)


@pytest.mark.parametrize("side", ["hv", "lv"])
def test_tap_changes_the_turns_of_its_side(side: str) -> None:
    """At no load the secondary voltage is the turns ratio: HV taps divide, LV taps multiply."""
    tap = {"tap_side": side, "tap_step_pct": 1.25, "tap_min": -8, "tap_max": 8, "tap_position": -4}
    net = network(bus("h", 33), bus("l", 11), source("h"), transformer("h", "l", **tap))
    v = column(run_load_flow(net, TIGHT), "buses", "voltage_pu")["l"]
    assert v == pytest.approx(1 / 0.95 if side == "hv" else 0.95, rel=1e-11)


def test_transformer_impedance_from_its_name_plate() -> None:
    """Short-circuited at rated voltage it would carry rated current / uk, at the X/R given."""
    net = network(bus("h", 33), bus("l", 11), transformer("h", "l", impedance_pct=10.0, x_over_r=15.0))
    ports = two_ports(compile_network(net).tables["branch"])
    assert abs(ports.ff[0]) == pytest.approx(1 / 0.1 * 10 / 100, rel=1e-9)
    assert (1 / ports.ff[0]).imag / (1 / ports.ff[0]).real == pytest.approx(15.0, rel=1e-9)


def test_load_loss_fixes_the_resistance() -> None:
    net = network(bus("h", 33), bus("l", 11), source("h"), transformer("h", "l", load_loss_kw=60.0, x_over_r=None))
    z = 1 / two_ports(compile_network(net).tables["branch"]).ff[0]
    assert z.real == pytest.approx(0.06 / 10 * 100 / 10, rel=1e-9)
    assert abs(z) == pytest.approx(0.08 * 10, rel=1e-9)


def test_iron_loss_and_no_load_current_at_rated_voltage() -> None:
    net = network(
        bus("h", 33), bus("l", 11), source("h"), transformer("h", "l", iron_loss_kw=12.0, no_load_current_pct=0.5)
    )
    row = run_load_flow(net, TIGHT).tables["branches"].records()[0]
    assert row["from_active_power_mw"] == pytest.approx(0.012, rel=1e-6)
    assert np.hypot(row["from_active_power_mw"], row["from_reactive_power_mvar"]) == pytest.approx(0.05, rel=1e-6)


def test_nine_bus_system_equals_the_published_solution(nine_bus_file: bytes, nine_bus_expected: dict) -> None:
    """Three machines, nine buses (textbook system): voltages, angles, flows and losses."""
    result = run_load_flow(read_network(nine_bus_file).network, TIGHT)
    expected = nine_bus_expected
    for row, want in zip(result.tables["buses"].records(), expected["buses"], strict=True):
        assert row["id"] == str(want["bus"])
        assert row["voltage_pu"] == pytest.approx(want["vm"], abs=1e-9)
        assert row["angle_deg"] == pytest.approx(want["va_deg"], abs=1e-9)
    rows = {r["id"]: r for r in result.tables["branches"].records()}
    for want in expected["branches"]:
        row = rows[want["id"]]
        flows = [(row["from_active_power_mw"], row["from_reactive_power_mvar"]),
                 (row["to_active_power_mw"], row["to_reactive_power_mvar"])]  # fmt: skip
        flows = flows if row["from_bus"] == want["id"].split("-")[0] else flows[::-1]
        assert flows[0] == pytest.approx((want["pf_mw"], want["qf_mvar"]), abs=1e-7)
        assert flows[1] == pytest.approx((want["pt_mw"], want["qt_mvar"]), abs=1e-7)
    assert result.summary["active_loss_mw"] == pytest.approx(expected["totals"]["p_loss_mw"], abs=1e-7)


def test_agrees_with_an_independent_fixed_point_method(demo: Network) -> None:
    """V = Y⁻¹ (S/V)* iterated with dense algebra, sources eliminated: another road to the same answer."""
    demo.apply([Update(id="Thessel Head hydro", values={"control": "reactive", "reactive_power_mvar": 5.0})])
    # Taps as entered: the arrays compared with know nothing of where control would put them.
    result = run_load_flow(demo, TIGHT.model_copy(update={"automatic": False}))
    arrays = compile_network(demo)
    topology = trace(arrays)
    pattern = nodal_pattern(arrays, topology)
    n = pattern.n
    y = np.zeros((n, n), complex)
    columns = np.repeat(np.arange(n), np.diff(pattern.indptr))
    y[pattern.indices, columns] = nodal_values(pattern, two_ports(arrays.tables["branch"]), arrays.tables["shunt"])
    table = {r["id"]: r for r in result.tables["injections"].records()}
    s = np.zeros(n, complex)
    for kind, sign in (("load", -1), ("injection", 1)):
        rows = arrays.tables[kind]
        for element, at in zip(rows["element"], rows["bus"], strict=True):
            ident = arrays.element_id[element]
            if ident != "Bulk supply":
                row = table[ident]
                s[pattern.row[at]] += (
                    sign * complex(row["active_power_mw"], row["reactive_power_mvar"]) / arrays.base_mva
                )
    slack = pattern.row[arrays.bus_id.index("Ambry 132")]
    rest = np.arange(n) != slack
    v = np.ones(n, complex)
    v[slack] = 1.025
    for _ in range(400):
        v[rest] = np.linalg.solve(y[np.ix_(rest, rest)], np.conj(s[rest] / v[rest]) - y[rest, slack] * v[slack])
    ours = volts(result)
    for ident, row in zip(arrays.bus_id, pattern.row, strict=True):
        assert ours[ident] == pytest.approx(v[row], abs=1e-9)


def test_demo_balances_at_every_bus(demo: Network) -> None:
    for condition in demo.of(Condition):
        assert_balanced(demo, run_load_flow(demo, condition=condition))


def test_planted_troubles_are_found(demo: Network) -> None:
    findings = run_load_flow(demo).findings
    assert findings[0].element == "T-Q1"
    assert findings[0].value == pytest.approx(115.6, abs=3)
    assert "Heron End" in {f.element for f in findings}
    assert not [f for f in findings if f.element.startswith("LR ")], "taken for balanced the street has no trouble"
    demo.apply([Update(id="Ambry - Lowmere", values={"in_service": False})])
    after = {f.element: f for f in run_load_flow(demo).findings}["Thessel Head - Quillport"]
    assert after.severity == "breach"
    assert after.value > 110


def test_closed_switch_is_a_perfect_connection_and_shows_its_flow() -> None:
    plain = run_load_flow(two_bus(2.0, 1.0), TIGHT)
    net = network(
        bus("a"), bus("m"), bus("b"), source("a"), switch("a", "m", rating_a=200.0), line("m", "b", length_km=2.0),
        load("b", 2.0, 1.0),
    )  # fmt: skip
    result = run_load_flow(net, TIGHT)
    assert volts(result)["b"] == pytest.approx(volts(plain)["b"], abs=1e-12)
    flow = column(result, "branches", "from_active_power_mw")
    assert flow["a|m"] == pytest.approx(flow["m-b"], abs=1e-9)
    amps = column(result, "branches", "from_current_a")
    assert column(result, "branches", "loading_pct")["a|m"] == pytest.approx(amps["m-b"] / 2, rel=1e-9)
    assert_balanced(net, result)


def test_equal_closed_switches_in_a_ring_share_equally() -> None:
    net = network(
        bus("a"), bus("b"), source("a"), load("b", 3.0), switch("a", "b"), {**switch("a", "b"), "id": "second"}
    )  # fmt: skip
    flow = column(run_load_flow(net), "branches", "from_active_power_mw")
    assert flow["a|b"] == pytest.approx(1.5, abs=1e-9)
    assert flow["second"] == pytest.approx(1.5, abs=1e-9)


def test_open_switch_leaves_its_far_side_dead() -> None:
    net = network(
        bus("a"), bus("b"), bus("c"), source("a"), switch("a", "b", closed=False), line("b", "c"), load("c", 1.0)
    )
    result = run_load_flow(net)
    state = column(result, "buses", "state")
    assert state == {"a": "live", "b": "dead", "c": "dead"}
    assert np.isnan(column(result, "buses", "voltage_pu")["c"])
    assert result.summary["demand_mw"] == 0
    assert any("2 buses have no supply" in f.text for f in result.findings)


def test_every_island_has_its_own_reference() -> None:
    net = network(
        bus("a"), bus("b"), source("a", voltage_pu=1.02), line("a", "b"), load("b", 1.0),
        bus("x", 33), bus("y", 33), source("x", voltage_pu=0.99, angle_deg=40.0), line("x", "y"), load("y", 5.0),
    )  # fmt: skip
    v = volts(run_load_flow(net, TIGHT))
    assert abs(v["a"]) == pytest.approx(1.02)
    assert np.degrees(np.angle(v["x"])) == pytest.approx(40.0)
    assert abs(v["y"]) < 0.99


def with_machine(**more: object) -> Network:
    machine = {"kind": "generator", "id": "g", "bus": "b", "active_power_mw": 2.0, "control": "voltage",
               "voltage_pu": 1.0, **more}  # fmt: skip
    return network(bus("a"), bus("b"), source("a"), line("a", "b", length_km=5.0), load("b", 5.0, 3.0), machine)


def test_machine_holds_its_voltage_within_its_limits() -> None:
    result = run_load_flow(with_machine(q_min_mvar=-10.0, q_max_mvar=10.0), TIGHT)
    assert abs(volts(result)["b"]) == pytest.approx(1.0, abs=1e-12)
    assert result.account.notes == []


def test_machine_stops_at_its_reactive_limit_and_says_so() -> None:
    result = run_load_flow(with_machine(q_min_mvar=-1.0, q_max_mvar=0.5), TIGHT)
    assert column(result, "injections", "reactive_power_mvar")["g"] == pytest.approx(0.5, abs=1e-9)
    assert abs(volts(result)["b"]) < 1.0
    assert "upper reactive limit, 0.5 Mvar" in result.account.notes[0]
    free = run_load_flow(with_machine(q_min_mvar=-1.0, q_max_mvar=0.5), LoadFlowOptions(reactive_limits=False))
    assert abs(volts(free)["b"]) == pytest.approx(1.0, abs=1e-9)


def test_machine_comes_back_from_its_limit() -> None:
    """Solved from an answer at the limit, with the cause gone, it must hold its voltage again."""
    net = with_machine(q_min_mvar=-3.0, q_max_mvar=4.0)
    live = LiveLoadFlow(net)
    heavy = live.solve(Condition(id="heavy", name="heavy", demand_factor=2.0))
    assert "upper reactive limit" in heavy.account.notes[0]
    light = live.solve(Condition(id="light", name="light", demand_factor=0.6))
    assert abs(volts(light)["b"]) == pytest.approx(1.0, abs=1e-9)
    assert light.account.notes == []


def test_machines_on_one_bus_share_by_rating_within_limits() -> None:
    net = with_machine(q_min_mvar=-10.0, q_max_mvar=0.2, rated_mva=5.0)
    twin = {"kind": "generator", "id": "h", "bus": "b", "active_power_mw": 0.0, "control": "voltage", "rated_mva": 10.0,
            "q_min_mvar": -20.0, "q_max_mvar": 20.0}  # fmt: skip
    result = run_load_flow(Network.from_items([*net.to_items(), twin]), TIGHT)
    assert abs(volts(result)["b"]) == pytest.approx(1.0, abs=1e-10)
    assert column(result, "injections", "reactive_power_mvar")["g"] == pytest.approx(0.2, abs=1e-9)
    assert_balanced(net, result)


def test_two_sources_on_a_bus_share_by_fault_level_and_a_contradiction_is_reported() -> None:
    second = {**source("a", fault_max_mva=500.0, fault_min_mva=400.0), "id": "second"}
    net = network(bus("a"), bus("b"), source("a", fault_max_mva=1500.0), second, line("a", "b"), load("b", 4.0))
    result = run_load_flow(net, TIGHT)
    power = column(result, "injections", "active_power_mw")
    assert power["source-a"] == pytest.approx(3 * power["second"], rel=1e-9)
    assert not result.findings
    net.apply([Update(id="second", values={"voltage_pu": 1.03})])
    assert "wants another voltage" in run_load_flow(net).findings[0].text


def test_contradicting_transformers_in_a_loop_are_reported_and_solved() -> None:
    net = network(
        bus("h", 33), bus("l", 11), source("h"), transformer("h", "l", vector_group="Dyn11"),
        {**transformer("h", "l", vector_group="Dyn1"), "id": "other"}, load("l", 1.0),
    )  # fmt: skip
    result = run_load_flow(net)
    assert result.account.converged
    loops = [f for f in result.findings if f.quantity == "loop"]
    assert len(loops) == 1
    assert "60°" in loops[0].text
    assert min(column(result, "branches", "loading_pct").values()) > 100  # it really circulates


def test_demand_beyond_the_line_is_explained() -> None:
    """The most a source behind R + jX can carry is known: the account's share must come near it."""
    r, x, e = 0.6, 0.7, 11.0
    most = e**2 / (2 * (sqrt(r * r + x * x) + r))  # unity power factor
    result = run_load_flow(two_bus(1.5 * most, 0.0))
    assert result.account.ending is Ending.ITERATION_LIMIT
    assert result.tables == {}
    assert result.account.share_pct == pytest.approx(100 / 1.5, rel=0.01)
    assert result.account.breaks_at == "b"
    assert "Solutions end at 66.7 %" in result.account.explanation
    assert "the voltage at b falls fastest" in result.account.explanation
    assert result.account.worst[0].bus == "b"
    assert len(result.account.history) > 1


def test_solves_close_to_the_nose() -> None:
    r, x, e = 0.6, 0.7, 11.0
    most = e**2 / (2 * (sqrt(r * r + x * x) + r))
    result = run_load_flow(two_bus(0.999 * most, 0.0), LoadFlowOptions(max_iterations=40))
    assert result.account.converged


def test_nothing_to_solve_is_said_plainly() -> None:
    assert "no bus yet" in run_load_flow(Network()).account.explanation
    lonely = run_load_flow(network(bus("a"), load("a", 1.0)))
    assert lonely.account.ending is Ending.NOTHING_TO_SOLVE
    assert "No island has a source" in lonely.account.explanation
    assert column(lonely, "buses", "state") == {"a": "dead"}


def test_gaps_are_left_out_and_named() -> None:
    gap = {"kind": "line", "id": "gap", "from_bus": "b", "to_bus": "c", "r_ohm_per_km": 0.3}
    net = network(bus("a"), bus("b"), bus("c"), source("a"), line("a", "b"), load("b", 1.0), gap)
    result = run_load_flow(net)
    assert result.account.converged
    assert next(f for f in result.findings if f.element == "gap").text == "left out: length, reactance missing"


def test_a_switch_between_unequal_voltages_is_taken_as_open_and_reported() -> None:
    net = network(bus("a", 11), bus("b", 33), source("a"), switch("a", "b"))
    result = run_load_flow(net)
    assert column(result, "buses", "state")["b"] == "dead"
    assert "different nominal voltage" in next(f.text for f in result.findings if f.element == "a|b")


def test_conditions_scale_demand_and_generation_by_class() -> None:
    net = network(
        bus("a"), bus("b"), source("a"), line("a", "b"), load("b", 1.0, demand_class="farming"),
        {**load("b", 2.0), "id": "other"},
        {"kind": "generator", "id": "pv", "bus": "b", "active_power_mw": 1.0, "energy": "solar"},
    )  # fmt: skip
    condition = Condition(
        id="c", name="c", demand_factor=0.5, class_factors={"farming": 3.0}, energy_factors={"solar": 0.2}
    )
    power = column(run_load_flow(net, condition=condition), "injections", "active_power_mw")
    assert power == pytest.approx({"source-a": power["source-a"], "load-b": 1.5, "other": 1.0, "pv": 0.2})


def test_limits_sort_findings_by_how_far_past_they_are() -> None:
    net = network(
        bus("a"), bus("b"), bus("c"), source("a", voltage_pu=1.0), line("a", "b", length_km=5.0, rating_a=100.0),
        line("b", "c", length_km=3.0), load("c", 2.2, 0.6),
    )  # fmt: skip
    found = run_load_flow(net).findings
    assert [f.severity for f in found] == sorted((f.severity for f in found), key=lambda s: s != "breach")
    breaches = [f.excess for f in found if f.severity == "breach"]
    assert breaches == sorted(breaches, reverse=True)
    volt = next(f for f in found if f.element == "c")
    assert (volt.direction, volt.quantity, volt.limit) == ("below", "voltage_pu", 0.94)
    assert volt.excess == pytest.approx((0.94 - volt.value) / 0.94)


def test_areas_add_up_to_the_whole(demo: Network) -> None:
    result = run_load_flow(demo)
    areas = result.tables["areas"]
    assert sum(areas["demand_mw"]) == pytest.approx(result.summary["demand_mw"], abs=1e-9)
    assert sum(areas["active_loss_mw"]) == pytest.approx(result.summary["active_loss_mw"], abs=1e-9)
    assert sum(areas["export_mw"]) == pytest.approx(0.0, abs=1e-6)


@pytest.mark.parametrize("start", ["linear", "flat"])
def test_both_starts_lead_to_the_same_answer(demo: Network, start: str) -> None:
    one = run_load_flow(demo, LoadFlowOptions(start=start, tolerance_pu=1e-11))
    two = LiveLoadFlow(demo).solve(options=LoadFlowOptions(start="last", tolerance_pu=1e-11))
    assert volts(one) == pytest.approx(volts(two), abs=1e-8)


def test_changing_conditions_and_limits_keeps_the_compiled_arrays(demo: Network) -> None:
    live = LiveLoadFlow(demo)
    live.solve()
    arrays = live.arrays
    previous = dict(demo.items)
    demo.apply(
        [Update(id="winter-evening", values={"demand_factor": 1.1}), Update(id="limits-mv", values={"name": "x"})]
    )
    live.changed(["winter-evening", "limits-mv"], previous)
    assert live.arrays is arrays
    assert volts(live.solve()) == pytest.approx(volts(run_load_flow(demo)), abs=1e-7)
    demo.apply([Update(id="settings", values={"base_mva": 10.0})])
    live.changed(["settings"], previous)
    assert live.arrays.base_mva == 10.0
    assert volts(live.solve()) == pytest.approx(volts(run_load_flow(demo)), abs=1e-7)


def test_demand_is_scaled_by_class_and_by_area() -> None:
    """Each load by the product of what the condition says of everything, its class and its area."""
    net = network(
        {"kind": "area", "id": "north"}, bus("a", area="north"), source("a"), bus("b"), line("a", "b"),
        load("a", 1.0, demand_class="farming"), load("b", 2.0, demand_class="farming"), load("b", 4.0, id="l2"),
        {"kind": "condition", "id": "c", "demand_factor": 0.5, "class_factors": {"farming": 3.0},
         "area_factors": {"north": 0.1}},
        {"kind": "settings", "id": "settings", "condition": "c"},
    )  # fmt: skip
    drawn = column(run_load_flow(net), "injections", "active_power_mw")
    assert drawn["load-a"] == pytest.approx(0.5 * 3.0 * 0.1)
    assert (drawn["load-b"], drawn["l2"]) == pytest.approx((3.0, 2.0))
    live = LiveLoadFlow(net)
    previous = {"b": net["b"]}
    net.apply([Update(id="b", values={"area": "north"})])
    live.changed(["b"], previous)
    moved = column(live.solve(), "injections", "active_power_mw")
    assert moved["l2"] == pytest.approx(0.2), "a bus that changes its area takes its demand along"
