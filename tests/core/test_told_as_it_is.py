"""What is said of networks at the bounds of what can be asked: darkness, no least cost, no overlap, names that are not there."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
import pytest

from tests.helpers import at, bus, line, load, network, ring, run_study, source
from vastmesh.core.checks import run_checks
from vastmesh.core.errors import InvalidFields
from vastmesh.core.flow import Ending
from vastmesh.core.network import Network, Update, cost_lines_of, specs
from vastmesh.core.results.state import LoadFlowResult, run_load_flow, run_unbalanced
from vastmesh.core.studies import STUDIES, Inputs

PLANT = {"may_stop": True, "cost_running": 100.0, "least_mw": 5.0, "cost_per_mwh": 60.0}


# --- costs -------------------------------------------------------------------------------------------------------------------


def test_a_plant_that_is_switched_off_costs_nothing_in_any_figure() -> None:
    result = run_study("optimal_flow", ring(plant=PLANT), equations="linear", whole=True)
    plants = {r["id"]: r for r in result.tables["plants"].records()}
    assert "off: plant" in result.statement
    assert plants["plant"]["after_mw"] == pytest.approx(0.0, abs=1e-9)
    assert plants["plant"]["hour_after"] == 0.0
    assert result.summary["cost"] == pytest.approx(70.0 * 40.0, abs=1e-6)
    assert result.summary["cost"] == pytest.approx(result.summary["value"] or 0, abs=1e-6)
    assert result.summary["cost"] == pytest.approx(sum(r["hour_after"] for r in plants.values()))
    # Now it runs, and does cost.
    assert plants["plant"]["hour_before"] == pytest.approx(20 * 60 + 100)


@pytest.mark.parametrize("rows", ["20 15; 50 30; 80 70", "-20 10; 50 30", "-40 5; -10 12; 60 40", "-20 8; -5 9"])
def test_an_hour_without_power_costs_nothing_whatever_step_that_lies_in(rows: str) -> None:
    blocks = [tuple(float(x) for x in r.split()) for r in rows.split(";")]

    def spent(mw: float) -> float:
        """Sum of small steps from zero."""
        grid = np.linspace(0, mw, 20001)
        middle = (grid[1:] + grid[:-1]) / 2
        prices = [next((c for to, c in blocks if p <= to), blocks[-1][1]) for p in middle]
        return float(np.sum(np.array(prices) * np.diff(grid)))

    for mw in (-60.0, -15.0, 0.0, 3.0, 55.0):
        told = max(c * mw + k for c, k in cost_lines_of(rows))
        assert told == pytest.approx(spent(mw), rel=1e-3, abs=0.05), mw


@pytest.mark.parametrize("whole", [False, True])
def test_a_cost_that_falls_for_ever_is_told_as_that_and_not_as_limits_that_cant_be_kept(whole: bool) -> None:
    """One source is paid for what it gives at the bus of another that takes it."""
    second = {"kind": "source", "id": "paid", "bus": "A", "cost_per_mwh": -10.0}
    net = ring(second, plant=PLANT)
    result = run_study("optimal_flow", net, equations="linear", whole=whole)
    assert not result.account.converged
    assert "no least" in (result.account.explanation or "")
    net.apply([Update(id="paid", values={"most_mw": 10.0})])
    assert run_study("optimal_flow", net, equations="linear", whole=whole).account.converged
    net.apply([Update(id="paid", values={"cost_rising": 0.5, "most_mw": None})])
    found = run_study("optimal_flow", net, equations="linear", whole=whole)
    if not whole:  # what rises with the square has a least: -10 + 2 * 0.5 p = 40
        assert at(found, "plants", "paid", "after_mw") == pytest.approx(50.0, rel=1e-6)


def test_limits_that_cant_be_kept_are_still_told_as_that() -> None:
    net = ring(**{"A-B": {"rating_a": 20.0}, "B-C": {"rating_a": 20.0}})
    result = run_study("optimal_flow", net, equations="linear")
    assert "No dispatch keeps every limit" in (result.account.explanation or "")


def test_an_exact_optimum_without_end_is_no_answer() -> None:
    result = run_study("optimal_flow", ring({"kind": "source", "id": "paid", "bus": "A", "cost_per_mwh": -10.0}))
    assert not result.account.converged
    assert "paid" in (result.account.explanation or "")


# --- capability ----------------------------------------------------------------------------------------------------------------


def test_a_capability_beside_the_range_of_power_is_refused_with_its_remedy_and_found_before() -> None:
    net = ring(plant={"capability": "80 -20 20; 120 -10 10"})
    with pytest.raises(InvalidFields) as refused:
        run_study("optimal_flow", net)
    (problem,) = refused.value.problems
    assert (problem.element, problem.field) == ("plant", "capability")
    assert "80 to 120 MW" in problem.allowed
    assert "0 to 60 MW" in problem.allowed
    found = [c for c in run_checks(net) if c.rule == "capability"]
    assert [c.element for c in found] == ["plant"]
    net.apply([Update(id="plant", values={"capability": "50 -20 20; 120 -10 10"})])
    result = run_study("optimal_flow", net)
    assert result.account.converged
    assert 50 - 1e-6 <= at(result, "plants", "plant", "after_mw") <= 60 + 1e-6
    assert not [c for c in run_checks(net) if c.rule == "capability"]


def test_a_plant_that_stays_beside_its_curve_has_what_the_nearest_end_gives() -> None:
    net = ring(plant={"capability": "80 -7 7; 120 -5 5", "dispatched": False})
    result = run_study("optimal_flow", net)
    assert result.account.converged
    assert abs(at(result, "plants", "plant", "after_mvar")) <= 7 + 1e-6


# --- darkness ------------------------------------------------------------------------------------------------------------------


def radial() -> Network:
    return network(bus("a"), bus("b"), source("a"), line("a", "b"), load("b", 1.0))


def test_losing_the_only_source_is_not_secure() -> None:
    net = radial()
    net.apply([])
    rule = {"kind": "outage", "id": "black", "members": ["source-a"]}
    dark = network(*[i for i in net.to_items() if i["kind"] != "settings"], rule)
    result = run_study("outages", dark)
    assert "Secure" not in result.statement
    assert "nothing has a supply" in result.statement
    assert result.summary["outages_bad"] == 1.0


def test_outages_that_take_demand_are_said_to() -> None:
    result = run_study("outages", radial(), of="branches", from_kv=1.0)
    assert "Secure" not in result.statement
    assert "one of them takes demand" in result.statement
    assert (result.summary["outages_bad"], result.summary["outages_with_loss"]) == (0.0, 1.0)


def test_headroom_of_a_dead_bus_has_no_figure_and_says_why() -> None:
    net = network(
        bus("a"), bus("b"), bus("c"), source("a"), line("a", "b"), line("b", "c", in_service=False), load("b", 1.0)
    )
    result = run_study("headroom", net, from_kv=1.0, outages="none")
    assert "nan" not in result.statement
    assert at(result, "headroom", "c", "demand_ends") == "nothing live takes it"
    assert np.isnan(at(result, "headroom", "c", "demand_room_mw"))
    assert np.isfinite(at(result, "headroom", "b", "demand_room_mw"))
    alone = run_study("headroom", net, bus="c", outages="none")
    assert "None of the buses that were asked about has a supply" in alone.statement


def test_a_limit_table_without_a_source_has_no_answer() -> None:
    net = ring()
    net.apply([Update(id="source-A", values={"in_service": False})])
    result = run_study("limit_table", net)
    assert result.account.ending is not Ending.CONVERGED
    assert "Nothing binds" not in result.statement


# --- names -------------------------------------------------------------------------------------------------------------------


def named_options() -> Iterator[tuple[str, str, str]]:
    for study in STUDIES.values():
        for name, spec in specs(study.options).items():
            if spec.ref is not None:
                yield study.name, name, spec.ref


@pytest.mark.parametrize(("study", "option", "kind"), list(named_options()))
def test_what_an_option_names_has_to_be_there_and_of_its_kind(study: str, option: str, kind: str) -> None:
    known = STUDIES[study]
    net, field = ring(), known.options.model_fields[option]
    there = {
        "bus": "B",
        "branch": "A-B",
        "element": "A-B",
        "area": None,
        "condition": None,
        "shunt": None,
        "bank": None,
    }
    needed = {n: there[spec.ref] for n, spec in specs(known.options).items() if spec.ref and spec.required}
    for ident in ("nowhere", *(["source-A"] if kind not in ("element", "bank") else [])):
        several = "tuple" in str(field.annotation)
        options = known.options.model_construct(**needed | {option: (ident,) if several else ident})
        with pytest.raises(InvalidFields, match=f"name an existing {kind}"):
            known.run(Inputs(net), options, lambda share, words: None)
        if known.split is not None:
            with pytest.raises(InvalidFields, match=f"name an existing {kind}"):
                known.split.plan(Inputs(net), options)


def test_an_interface_without_branches_is_found() -> None:
    net = ring({"kind": "interface", "id": "cut", "most_mw": 10.0})
    assert any(c.element == "cut" and "no branches" in c.text for c in run_checks(net))


def test_what_would_have_to_give_for_every_outage_is_told_as_limits_are_called() -> None:
    net = ring(**{"A-B": {"rating_a": 120.0}, "A-C": {"rating_a": 120.0}})
    result = run_study("optimal_flow", net, outages="branches", outages_above_kv=50.0)
    assert not result.account.converged
    told = result.tables["relaxations"]
    assert len(told)
    for what in told["what"]:
        assert not any(word in what for word in ("limit of", "p.u.")), what
        assert what[0].isupper()
    assert all(np.isfinite(told["needed"]))


# --- sources -----------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("solve", [run_load_flow, run_unbalanced])
def test_a_source_that_cant_hold_its_voltage_is_found(solve: Callable[..., LoadFlowResult]) -> None:
    net = ring(**{"source-A": {"q_min_mvar": -50.0, "q_max_mvar": 50.0}})
    given = at(solve(net), "injections", "source-A", "reactive_power_mvar")
    assert not [f for f in solve(net).findings if f.element == "source-A"]
    net.apply([Update(id="source-A", values={"q_max_mvar": given - 1.0})])
    (found,) = [f for f in solve(net).findings if f.element == "source-A"]
    assert (found.direction, found.limit, found.value) == ("above", pytest.approx(given - 1), pytest.approx(given))
    net.apply([Update(id="source-A", values={"q_max_mvar": given + 5, "q_min_mvar": given + 1.0})])
    (found,) = [f for f in solve(net).findings if f.element == "source-A"]
    assert found.direction == "below"


def test_the_optimal_flow_keeps_reactive_limits_of_a_source() -> None:
    free = run_study("optimal_flow", ring())
    q = at(free, "plants", "source-A", "after_mvar")
    bounded = run_study("optimal_flow", ring(**{"source-A": {"q_min_mvar": q + 3.0, "q_max_mvar": q + 4.0}}))
    assert bounded.account.converged
    assert at(bounded, "plants", "source-A", "after_mvar") == pytest.approx(q + 3.0, abs=1e-5)
    assert (bounded.summary["cost"] or 0) > (free.summary["cost"] or 0)
    after = run_study(
        "optimal_flow", ring(**{"source-A": {"q_max_mvar": q - 2.0}}), outages="branches", outages_above_kv=50.0
    )
    assert after.account.converged


@pytest.mark.parametrize("detail", ["balanced", "per_phase"])
def test_an_ideal_source_lets_no_harmonic_stand(detail: str) -> None:
    drive = {"kind": "load", "id": "d", "bus": "b", "active_power_mw": 2.0, "reactive_power_mvar": 0.6,
             "spectrum": "Six-pulse rectifier, ideal"}  # fmt: skip
    found = []
    for ideal in (False, True):
        net = network(
            bus("a"),
            bus("b"),
            source("a", fault_max_mva=150.0, fault_min_mva=150.0, ideal=ideal),
            line("a", "b"),
            drive,
        )
        result = run_study("distortion", net, detail=detail, demand="none", lines="nominal")
        found.append([at(result, "buses", b, "order_5_pct") for b in "ab"])
    assert found[0][0] > 1
    assert found[1][0] < 1e-4 * found[0][0]
    # At the end the line alone is left.
    assert found[1][1] < found[0][1]


def test_what_linear_equations_and_days_leave_out_is_said_with_the_answer() -> None:
    for more in ({}, {"time": "day"}):
        linear = run_study("optimal_flow", ring(), equations="linear", taps=True, **more).account.assumed
        for word in ("taps", "voltages"):
            assert any("leaves out" in a and word in a for a in linear)
    for asked, words in (({"equations": "linear"}, "look at none"), ({"time": "day"}, "is not offered")):
        with pytest.raises(ValueError, match=words):
            run_study("optimal_flow", ring(), outages="branches", **asked)
    exact = run_study("optimal_flow", ring())
    assert not any("leaves out" in a for a in exact.account.assumed)
