"""Optimal flow: a published five-bus system, closed forms, optimality by independent code, prices by differences."""

from __future__ import annotations

import json
from typing import Any

import numpy as np
import pytest
from scipy.optimize import linprog

from tests.conftest import DATA
from tests.helpers import at, bus, line, load, network, run_study, source
from vastmesh.core.errors import InvalidFields
from vastmesh.core.network import Network, SchemeChange, Update
from vastmesh.core.results import Result
from vastmesh.core.results.state import solve_as_set
from vastmesh.core.studies import STUDIES, Inputs, StopRequested
from vastmesh.core.studies.optimal_flow import OptimalFlowOptions
from vastmesh.core.studies.optimal_flow._build import build
from vastmesh.core.studies.optimal_flow._prices import balance_jacobian, end_gradient, split
from vastmesh.core.studies.optimal_flow._problem import solve

KV, WIDE = 230.0, {"bands": "entered", "low_pu": 0.9, "high_pu": 1.1}


@pytest.fixture(scope="module")
def published() -> dict[str, Any]:
    found: dict[str, Any] = json.loads((DATA / "five-bus-optimal-flow.json").read_text())
    return found


def five_bus(case: dict[str, Any]) -> Network:
    ohm = KV**2 / case["base_mva"]
    items: list[dict[str, Any]] = [
        {"kind": "settings", "id": "settings", "frequency_hz": 60, "base_mva": case["base_mva"]}
    ]
    items += [bus(str(b["number"]), KV) for b in case["buses"]]
    items += [load(str(d["bus"]), d["p_mw"], d["q_mvar"]) for d in case["loads"]]
    for g in case["generators"]:
        common = {"id": g["id"], "bus": str(g["bus"]), "least_mw": g["p_min_mw"], "most_mw": g["p_max_mw"],
                  "cost_per_mwh": g["cost"]["c1"], "cost_rising": g["cost"]["c2"]}  # fmt: skip
        if g["bus"] == case["reference_bus"]:
            items.append({"kind": "source", **common})
        else:
            items.append({"kind": "generator", **common, "active_power_mw": g["p_mw"], "control": "voltage",
                          "q_min_mvar": g["q_min_mvar"], "q_max_mvar": g["q_max_mvar"], "rated_mva": 700})  # fmt: skip
    for b in case["branches"]:
        rating = {"rating_a": b["rating_mva"] / (3**0.5 * KV) * 1e3} if b["rating_mva"] else {}
        items.append(line(str(b["from"]), str(b["to"]), id=b["id"], r_ohm_per_km=b["r"] * ohm, x_ohm_per_km=b["x"] * ohm,
                          b_us_per_km=b["b"] / ohm * 1e6, **rating))  # fmt: skip
    return network(*items)


def test_a_published_system_to_its_digits(published: dict[str, Any]) -> None:
    expected = published["ac_optimal_flow"]
    net = five_bus(published["case"])
    result = run_study("optimal_flow", net, branches="power", **WIDE)
    assert result.account.converged, result.account
    assert result.summary["cost"] == pytest.approx(expected["objective"], rel=1e-7)
    assert result.summary["losses_mw"] == pytest.approx(expected["p_loss_mw"], abs=1e-4)
    for g in expected["generators"]:
        assert at(result, "plants", g["id"], "after_mw") == pytest.approx(g["p_mw"], abs=1e-3)
    for b in expected["buses"]:
        ident = str(b["bus"])
        assert at(result, "buses", ident, "after_pu") == pytest.approx(b["vm"], abs=2e-5)
        assert at(result, "buses", ident, "price") == pytest.approx(b["price_p"], abs=1e-4)
        assert at(result, "buses", ident, "price_q") == pytest.approx(b["price_q"], abs=2e-3)
    binding = {
        (i, w): s for i, w, s in zip(*(result.tables["binding"][c] for c in ("id", "what", "saves")), strict=True)
    }
    assert binding["4-5/1", "Rating, to end"] == pytest.approx(61.31090955, rel=1e-5)
    assert binding["3", "Highest voltage"] == pytest.approx(1.56902135, rel=1e-3)
    assert binding["G1/1", "Most active power"] == pytest.approx(2.9350819, rel=1e-4)
    assert binding["G4/1", "Least active power"] == pytest.approx(0.28791179, rel=1e-3)
    assert result.summary["off_pu"] is not None
    assert result.summary["off_pu"] < 1e-8


def with_answer(net: Network, result: Result) -> Network:
    found = net.copy()
    found.apply([SchemeChange.model_validate(c).change for c in result.scheme])
    return found


def test_its_answer_as_a_scheme_is_the_load_flow_of_the_optimum(published: dict[str, Any]) -> None:
    net = five_bus(published["case"])
    result = run_study("optimal_flow", net, branches="power", **WIDE)
    flow = solve_as_set(with_answer(net, result))
    assert flow.account.converged
    for b in ("1", "2", "3", "4", "5"):
        assert at(flow, "buses", b, "voltage_pu") == pytest.approx(at(result, "buses", b, "after_pu"), abs=3e-6)


def two_bus(**more: Any) -> Network:
    """A dear machine at the load, a cheap source behind a line."""
    return network(
        bus("a", 132), bus("b", 132), source("a", cost_per_mwh=20.0), load("b", 100.0, 0.0),
        line("a", "b", r_ohm_per_km=0.0, x_ohm_per_km=20.0, **more),
        {"kind": "generator", "id": "g", "bus": "b", "active_power_mw": 10, "rated_mva": 150, "cost_per_mwh": 70.0,
         "q_min_mvar": -80, "q_max_mvar": 80, "control": "voltage"},
    )  # fmt: skip


def test_without_a_limit_the_cheap_one_carries_all_at_one_price() -> None:
    result = run_study("optimal_flow", two_bus(), **WIDE)
    assert at(result, "plants", "source-a", "after_mw") == pytest.approx(100.0, abs=1e-4)
    assert at(result, "plants", "g", "after_mw") == pytest.approx(0.0, abs=1e-4)
    assert at(result, "buses", "b", "price") == pytest.approx(20.0, abs=1e-3)
    assert at(result, "branches", "a-b", "rent") == pytest.approx(0.0, abs=1e-2)
    assert result.summary["cost"] == pytest.approx(2000.0, rel=1e-6)


def test_behind_a_line_that_is_full_the_dear_one_sets_the_price_and_the_line_earns_the_difference() -> None:
    rating = 60.0 / (3**0.5 * 132) * 1e3
    result = run_study(
        "optimal_flow", two_bus(rating_a=rating), branches="power", bands="entered", low_pu=0.9999999, high_pu=1.0000001
    )
    # |S| at 1 p.u. is 60 MVA: with both voltages alike Q = P tan(d/2) at either end.
    x = 20.0 / 132**2 * 100
    d = 2 * np.arcsin(0.6 * x / 2)
    carried = 100 * np.sin(d) / x
    assert at(result, "plants", "source-a", "after_mw") == pytest.approx(carried, rel=1e-5)
    assert at(result, "plants", "g", "after_mw") == pytest.approx(100 - carried, rel=1e-4)
    assert at(result, "buses", "a", "price") == pytest.approx(20.0, abs=1e-3)
    assert at(result, "buses", "b", "price") == pytest.approx(70.0, abs=1e-3)
    assert at(result, "branches", "a-b", "rent") == pytest.approx(50 * carried, rel=1e-3)


def random_case(seed: int) -> Network:
    """A meshed network of some buses, plants with rising costs, and lines that may be full."""
    rng = np.random.default_rng(seed)
    n = int(rng.integers(5, 14))
    items: list[dict[str, Any]] = [bus(f"b{k}", 132) for k in range(n)]
    items.append(source("b0", cost_per_mwh=float(rng.uniform(30, 60)), cost_rising=float(rng.uniform(0.01, 0.1))))
    pairs = {(int(rng.integers(k)), k) for k in range(1, n)} | {
        tuple(sorted(rng.choice(n, 2, replace=False).tolist())) for _ in range(n)
    }
    for f, t in sorted(pairs):
        items.append(line(f"b{f}", f"b{t}", length_km=float(rng.uniform(5, 40)), r_ohm_per_km=0.06, x_ohm_per_km=0.4,
                          b_us_per_km=2.8, rating_a=float(rng.uniform(180, 500))))  # fmt: skip
    for k in range(1, n):
        items.append(load(f"b{k}", float(rng.uniform(2, 30)), float(rng.uniform(0, 10)),
                          constant_power_pct=60, constant_impedance_pct=40))  # fmt: skip
    for k in sorted(rng.choice(np.arange(1, n), 3, replace=False).tolist()):
        items.append({"kind": "generator", "id": f"g{k}", "bus": f"b{k}", "active_power_mw": 20.0, "rated_mva": 80.0,
                      "control": "voltage", "q_min_mvar": -25, "q_max_mvar": 35, "cost_per_mwh": float(rng.uniform(10, 60)),
                      "cost_rising": float(rng.uniform(0.01, 0.3))})  # fmt: skip
    return network(*items)


def silent(share: float, words: str) -> None:
    pass


SEEDS = range(8)


@pytest.mark.parametrize("seed", SEEDS)
def test_the_optimality_conditions_hold_by_independent_code(seed: int) -> None:
    """Feasible, stationary, complementary, each to 1e-6 of the scale it is on; and prices add up from their parts."""
    net = random_case(seed)
    case = build(net, net.condition, OptimalFlowOptions())
    assert case is not None
    found = solve([case.state], silent)[0]
    assert found.found
    g, lim, v = case.grid, case.limits, found.v * np.exp(1j * found.theta)
    y = np.zeros((g.n, g.n), complex)
    np.add.at(y, (g.row, g.col), g.y)
    taken = v * np.conj(y @ v) + (g.load[0] + g.load[2] * found.v + g.load[4] * found.v**2) + 1j * (
        g.load[1] + g.load[3] * found.v + g.load[5] * found.v**2)  # fmt: skip
    given = np.zeros(g.n, complex)
    np.add.at(given, g.at, found.p + 1j * found.q)
    assert np.abs(taken - given).max() < 1e-8
    for x, low, high in (
        (found.v, lim.v_low, lim.v_high),
        (found.p, lim.p_low, lim.p_high),
        (found.q, lim.q_low, lim.q_high),
    ):
        assert (x >= low - 1e-8).all()
        assert (x <= high + 1e-8).all()
    i_f = g.ports[0] * v[g.frm] + g.ports[1] * v[g.to]
    i_t = g.ports[2] * v[g.frm] + g.ports[3] * v[g.to]
    assert (np.abs(i_f) <= lim.most_from * (1 + 1e-7)).all()
    assert (np.abs(i_t) <= lim.most_to * (1 + 1e-7)).all()
    scale = max(np.abs(found.price_p).max(), 1.0)
    # Stationary: by the powers, and by angles and voltages.
    place = case.state.layout.place("p")
    linear, square = case.state.cost.linear[place], case.state.cost.square[place]
    by_p = linear + 2 * square * found.p - found.price_p[g.at] + found.at_p
    by_q = -found.price_q[g.at] + found.at_q
    assert np.abs(by_p).max() < 1e-6 * scale
    assert np.abs(by_q).max() < 1e-6 * scale
    state = balance_jacobian(g, v).T @ np.r_[found.price_p, found.price_q]
    for side, mu in ((0, found.at_from), (1, found.at_to)):
        for k in np.flatnonzero(mu).tolist():
            state = state + mu[k] * end_gradient(g, v, k, side, power=False)
    state[g.n :] += found.at_v
    free = ~np.isfinite(lim.angle)
    assert np.abs(state[: g.n][free]).max() < 1e-6 * scale
    assert np.abs(state[g.n :]).max() < 1e-6 * scale
    # Complementary: a multiplier only where the limit is reached, with its sign.
    for x, low, high, mu in (
        (found.v, lim.v_low, lim.v_high, found.at_v),
        (found.p, lim.p_low, lim.p_high, found.at_p),
    ):
        assert np.abs(np.maximum(mu, 0) * (high - x)).max() < 1e-5 * scale
        assert np.abs(np.minimum(mu, 0) * (x - low)).max() < 1e-5 * scale
    assert (found.at_from >= -1e-9 * scale).all()
    ends = np.where(np.isfinite(lim.most_from), lim.most_from - np.abs(i_f), 0)
    assert np.abs(found.at_from * ends).max() < 1e-5 * scale
    parts = split(g, lim, found)
    energy = np.r_[np.full(g.n, parts.energy), np.zeros(g.n)]
    assert np.allclose(energy + parts.losses + parts.limits, np.r_[found.price_p, found.price_q], atol=1e-4 * scale)


@pytest.mark.parametrize("seed", [0, 3, 5])
def test_a_price_is_what_one_more_costs(seed: int) -> None:
    net = random_case(seed)
    result = run_study("optimal_flow", net)
    ident = next(i.id for i in net.elements() if i.kind == "load")
    bus_of = net[ident].bus  # type: ignore[attr-defined]
    cost = []
    for step in (-0.05, 0.05):
        # What is added is constant power, whatever the demand there is made of.
        extra = {"kind": "load", "id": "extra", "bus": bus_of, "active_power_mw": step, "reactive_power_mvar": 0.0}
        if step < 0:
            extra = {
                "kind": "generator",
                "id": "extra",
                "bus": bus_of,
                "active_power_mw": -step,
                "dispatched": False,
                "cost_per_mwh": 0.0,
            }
        made = Network.from_items([*net.to_items(), extra])
        cost.append(run_study("optimal_flow", made).summary["cost"])
    assert (cost[1] - cost[0]) / 0.1 == pytest.approx(at(result, "buses", bus_of, "price"), rel=1e-4)


def test_no_random_point_that_keeps_the_limits_is_cheaper() -> None:
    net = random_case(2)
    best = run_study("optimal_flow", net).summary["cost"]
    assert best is not None
    rng = np.random.default_rng(1)
    tried = 0
    plants = [e.id for e in net.elements() if e.kind == "generator"]
    for _ in range(60):
        point = net.copy()
        volts = {i: {"voltage_pu": float(rng.uniform(0.96, 1.05))} for i in [*plants, "source-b0"]}
        power = {i: {"active_power_mw": float(rng.uniform(0, 80))} for i in plants}
        point.apply([Update(id=i, values=values | power.get(i, {})) for i, values in volts.items()])
        flow = solve_as_set(point)
        if not flow.account.converged or any(f.severity == "breach" for f in flow.findings):
            continue
        tried += 1
        mw = dict(zip(flow.tables["injections"]["id"], flow.tables["injections"]["active_power_mw"], strict=True))
        items: list[Any] = [point[i] for i in [*plants, "source-b0"]]
        cost = sum(e.cost_per_mwh * mw[e.id] + e.cost_rising * mw[e.id] ** 2 for e in items)
        assert cost >= best - 1e-6 * abs(best)
    assert tried >= 5


def test_least_losses_and_least_change() -> None:
    net = random_case(4)
    now = solve_as_set(net)
    least = run_study("optimal_flow", net, best="losses")
    cheap = run_study("optimal_flow", net)
    assert least.summary["losses_mw"] < cheap.summary["losses_mw"]  # type: ignore[operator]
    assert least.summary["losses_mw"] < now.summary["active_loss_mw"]  # type: ignore[operator]
    still = run_study("optimal_flow", two_bus(), best="least_change", **WIDE)
    assert at(still, "plants", "g", "change_mw") == pytest.approx(0.0, abs=1e-3)


def test_voltages_alone_lose_less_and_the_source_takes_up_the_rest() -> None:
    net = random_case(6)
    result = run_study("optimal_flow", net, best="losses", active=False)
    assert result.account.converged
    changed = dict(zip(result.tables["plants"]["id"], result.tables["plants"]["change_mw"], strict=True))
    assert all(abs(v) < 1e-6 for i, v in changed.items() if i != "source-b0")
    assert result.summary["losses_mw"] < result.summary["losses_mw_before"]  # type: ignore[operator]


def test_what_would_have_to_give_is_the_least_there_is() -> None:
    """Line full at 60 MVA, machine of 20 MW at most, 100 MW of demand: 20 MW are missing, and only that."""
    net = two_bus(rating_a=60.0 / (3**0.5 * 132) * 1e3)
    net.apply([Update(id="g", values={"most_mw": 20.0})])
    result = run_study("optimal_flow", net, branches="power", **WIDE)
    assert not result.account.converged
    rows = result.tables["relaxations"]
    assert set(rows["id"]) <= {"g", "a-b"}
    given = sum((n - was) / 100 for n, was in zip(rows["needed"], rows["limit"], strict=True))
    assert given == pytest.approx(0.2, rel=0.03)
    assert "Nothing keeps every limit" in (result.statement or "")
    assert result.findings
    # With what it names the answer is there.
    for ident, what, needed in zip(rows["id"], rows["what"], rows["needed"], strict=True):
        field, value = ("most_mw", needed) if ident == "g" else ("rating_a", needed / (3**0.5 * 132) * 1e3)
        assert what
        net.apply([Update(id=ident, values={field: float(value) * 1.001})])
    assert run_study("optimal_flow", net, branches="power", **WIDE).account.converged


def test_a_machine_that_holds_another_bus_gets_the_voltage_of_that_bus() -> None:
    net = random_case(1)
    plant = next(e for e in net.elements() if e.kind == "generator")
    other = next(e.id for e in net.elements() if e.kind == "bus" and e.id not in (plant.bus, "b0"))  # type: ignore[attr-defined]
    net.apply([Update(id=plant.id, values={"held_bus": other})])
    result = run_study("optimal_flow", net)
    assert result.summary["off_pu"] < 1e-6  # type: ignore[operator]
    change = next(c["change"] for c in result.scheme if c["change"]["id"] == plant.id)
    assert change["values"]["voltage_pu"] == pytest.approx(at(result, "buses", other, "after_pu"), abs=1e-6)
    flow = solve_as_set(with_answer(net, result))
    assert at(flow, "buses", other, "voltage_pu") == pytest.approx(at(result, "buses", other, "after_pu"), abs=3e-6)


@pytest.mark.parametrize("seed", [0, 3])
def test_every_figure_can_be_asked(seed: int) -> None:
    net = random_case(seed)
    study = STUDIES["optimal_flow"]
    result = run_study("optimal_flow", net)
    assert study.explain is not None
    asked = 0
    for name in ("buses", "plants", "branches"):
        for ident in result.tables[name]["id"]:
            for working in study.explain(net, result, net.condition, ident, {}):
                for cell in working.ledger:
                    if cell.solver is not None:
                        assert cell.value == pytest.approx(cell.solver, rel=1e-6, abs=1e-4), (ident, cell.symbol)
                        asked += 1
    assert asked == sum(len(result.tables[n]) for n in ("buses", "plants", "branches"))
    assert study.explain(net, result, net.condition, next(e.id for e in net.elements() if e.kind == "load"), {}) == []


def test_it_ends_when_somebody_wants_that() -> None:
    told: list[str] = []

    def enough(share: float, words: str) -> None:
        told.append(words)
        if len(told) == 3:
            raise StopRequested

    study = STUDIES["optimal_flow"]
    with pytest.raises(StopRequested):
        study.run(Inputs(random_case(0)), study.options(), enough)
    assert len(told) == 3
    assert "objective" in told[-1]


TEXTBOOK = {
    "as printed": (7.92, 0.001562, 561.0, (393.2, 334.6, 122.2), 9.148),
    "with the first one's cheaper fuel": (6.48, 0.00128, 459.0, (600.0, 187.1, 62.9), 8.576),
}


@pytest.mark.parametrize("equations", ["exact", "linear"])
@pytest.mark.parametrize("which", TEXTBOOK)
def test_the_dispatch_of_three_units_of_a_textbook_to_its_printed_digits(which: str, equations: str) -> None:
    """Wood, Wollenberg, Power Generation, Operation, and Control, 2nd ed., Wiley 1996, examples 3A and 3B: 850 MW from three
    units without a network; in the second the first unit stands at its most."""
    slope, rising, running, expected, price = TEXTBOOK[which]
    net = network(
        bus("b", 132),
        load("b", 850.0, 0.0),
        source("b", cost_per_mwh=slope, cost_rising=rising, cost_running=running, least_mw=150.0, most_mw=600.0),
        *(
            {"kind": "generator", "id": i, "bus": "b", "active_power_mw": 100.0, "rated_mva": 500.0, "least_mw": least,
             "most_mw": most, "cost_per_mwh": c, "cost_rising": r, "cost_running": f}
            for i, least, most, c, r, f in (("g2", 100.0, 400.0, 7.85, 0.00194, 310.0), ("g3", 50.0, 200.0, 7.97, 0.00482, 78.0))
        ),
    )  # fmt: skip
    result = run_study("optimal_flow", net, equations=equations)
    assert result.account.converged, result.account
    for ident, mw in zip(("source-b", "g2", "g3"), expected, strict=True):
        assert at(result, "plants", ident, "after_mw") == pytest.approx(mw, abs=0.051)
    assert at(result, "buses", "b", "price") == pytest.approx(price, abs=0.0006)


def test_the_published_linear_one_to_its_digits(published: dict[str, Any]) -> None:
    expected = published["linear_optimal_flow"]
    result = run_study("optimal_flow", five_bus(published["case"]), equations="linear", branches="power", **WIDE)
    assert result.summary["cost"] == pytest.approx(expected["objective"], rel=1e-7)
    for b in expected["buses"]:
        assert at(result, "buses", str(b["bus"]), "price") == pytest.approx(b["price_p"], rel=1e-6)
    for b in expected["branches"]:
        assert at(result, "branches", b["id"], "active_mw") == pytest.approx(b["flow_mw"], abs=1e-3)
    assert at(result, "branches", "4-5/1", "saves") == pytest.approx(62.32204211, rel=1e-6)
    assert "In the AC load flow" in (result.statement or "")
    assert result.summary["ac_loading_pct"] == pytest.approx(100, abs=2.0)


@pytest.mark.parametrize("seed", range(6))
def test_the_linear_one_is_a_linear_programme_written_by_hand(seed: int) -> None:
    net = random_case(seed)
    net.apply(
        [Update(id=e.id, values={"cost_rising": 0.0}) for e in net.elements() if e.kind in ("generator", "source")]
    )
    result = run_study("optimal_flow", net, equations="linear", branches="power")
    buses = [e.id for e in net.elements() if e.kind == "bus"]
    lines: list[Any] = [e for e in net.elements() if e.kind == "line"]
    plants: list[Any] = [e for e in net.elements() if e.kind in ("generator", "source")]
    n, m = len(buses), len(plants)
    b = np.array([132**2 / (e.x_ohm_per_km * e.length_km) for e in lines])
    eq, right = np.zeros((n + 1, n + m)), np.zeros(n + 1)
    flows, most = np.zeros((len(lines), n + m)), np.array([3**0.5 * 132 * e.rating_a / 1e3 for e in lines])
    for k, e in enumerate(lines):
        f, t = buses.index(e.from_bus), buses.index(e.to_bus)
        flows[k, f], flows[k, t] = b[k], -b[k]
        eq[f] += flows[k]
        eq[t] -= flows[k]
    for k, e in enumerate(plants):
        eq[buses.index(e.bus), n + k] = -1.0
    for e in net.elements():
        if e.kind == "load":
            right[buses.index(e.bus)] -= e.active_power_mw  # type: ignore[attr-defined]
    eq[n, buses.index("b0")] = 1.0
    bounds = [(None, None)] * n + [(None, None) if e.kind == "source" else (0, e.rated_mva) for e in plants]
    price = np.r_[np.zeros(n), [e.cost_per_mwh for e in plants]]
    by_hand = linprog(price, np.vstack([flows, -flows]), np.r_[most, most], eq, right, bounds)
    if by_hand.status != 0:
        assert not result.tables
        return
    assert result.summary["cost"] == pytest.approx(by_hand.fun, rel=1e-6)


def test_linear_ones_have_no_losses_and_say_where_nothing_fits() -> None:
    with pytest.raises(ValueError, match="no losses"):
        OptimalFlowOptions(equations="linear", best="losses")
    net = two_bus(rating_a=60.0 / (3**0.5 * 132) * 1e3)
    net.apply([Update(id="g", values={"most_mw": 20.0})])
    result = run_study("optimal_flow", net, equations="linear", branches="power", **WIDE)
    assert not result.account.converged
    assert "least that would have to give" in result.account.explanation


def test_what_can_t_be_is_said() -> None:
    net = two_bus()
    with pytest.raises(InvalidFields, match="nothing may move"):
        run_study("optimal_flow", net, active=False, reactive=False, voltages=False)
    with pytest.raises(ValueError, match="less than the highest"):
        OptimalFlowOptions(bands="entered", low_pu=1.1, high_pu=1.0)
    dead = network(bus("a"), load("a", 1.0))
    assert "nothing is live" in run_study("optimal_flow", dead).account.explanation
    with pytest.raises(InvalidFields, match="least_mw"):
        net.apply([Update(id="g", values={"least_mw": 30.0, "most_mw": 20.0})])
