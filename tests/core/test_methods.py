"""Every method solves the same equations: it agrees with Newton, or says that it did not converge."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import HealthCheck, given, seed, settings

from tests.helpers import assert_balanced, bus, line, load, network, networks, source, transformer, volts
from vastmesh.core.flow import Ending
from vastmesh.core.flow.balanced import LoadFlowOptions
from vastmesh.core.network import Network
from vastmesh.core.results.state import LoadFlowResult, run_load_flow
from vastmesh.exchange import read_network

OTHERS = ("fast_decoupled", "gauss_seidel")


def solved(net: Network, method: str, **more: object) -> LoadFlowResult:
    return run_load_flow(net, LoadFlowOptions(method=method, automatic=False, **more))  # type: ignore[arg-type]


def assert_agrees(net: Network, method: str) -> bool:
    """Agreement with Newton to 1e-6 p.u. where the method converged; returns whether it did."""
    newton, other = solved(net, "automatic"), solved(net, method, tolerance_pu=1e-9)
    if not other.account.converged:
        assert other.account.ending is Ending.ITERATION_LIMIT
        assert "did not converge" in other.account.explanation
        assert not other.tables
        return False
    a, b = volts(newton), volts(other)
    assert max(abs(a[i] - b[i]) for i in a if np.isfinite(a[i])) < 1e-6
    return True


@pytest.mark.parametrize("method", ["newton", *OTHERS])
def test_methods_agree_on_the_nine_bus_system(nine_bus_file: bytes, method: str) -> None:
    assert assert_agrees(read_network(nine_bus_file, "nine-bus.cdf").network, method)


@pytest.mark.parametrize("method", ["newton", *OTHERS])
def test_methods_agree_on_the_demo(demo: Network, method: str) -> None:
    assert assert_agrees(demo, method)


@seed(11)
@settings(max_examples=50, deadline=None, suppress_health_check=list(HealthCheck))
@given(networks())
@pytest.mark.parametrize("method", OTHERS)
def test_methods_agree_on_random_networks(method: str, net: Network) -> None:
    assert assert_agrees(net, method)


def test_a_method_is_named_with_its_start() -> None:
    net = network(bus("a"), bus("b"), source("a"), line("a", "b"), load("b", 1.0))
    assert solved(net, "gauss_seidel", start="flat").account.method == "Gauss–Seidel, flat start"
    assert solved(net, "fast_decoupled").account.method == "Fast decoupled, linear start"
    assert solved(net, "automatic").account.method == "Newton, linear start"


def test_the_automatic_ladder_says_which_rungs_failed() -> None:
    """A demand beyond what the line can carry: every rung is tried and named."""
    net = network(bus("a"), bus("b"), source("a"), line("a", "b", length_km=60.0), load("b", 12.0, 6.0))
    result = solved(net, "automatic")
    assert result.account.ending is Ending.ITERATION_LIMIT
    assert [r for r in ("linear start", "flat start", "damped steps") if any(r in n for n in result.account.notes)]
    alone = solved(net, "newton")
    assert alone.account.ending is Ending.ITERATION_LIMIT
    assert not alone.account.notes


@pytest.mark.parametrize("method", OTHERS)
def test_a_method_that_runs_out_of_steps_says_so(demo: Network, method: str) -> None:
    result = solved(demo, method, max_iterations=1 if method == "fast_decoupled" else 25)
    assert result.account.ending is Ending.ITERATION_LIMIT
    assert "choose the automatic method" in result.account.explanation


@pytest.mark.parametrize("method", OTHERS)
def test_machines_stop_at_their_reactive_limits_whatever_the_method(method: str) -> None:
    machine = {"kind": "generator", "id": "g", "bus": "b", "active_power_mw": 1.0, "control": "voltage",
               "voltage_pu": 1.05, "q_min_mvar": -0.1, "q_max_mvar": 0.2}  # fmt: skip
    net = network(bus("a"), bus("b"), source("a"), line("a", "b", length_km=10.0), load("b", 2.0, 1.0), machine)
    result = solved(net, method)
    table = result.tables["injections"]
    q = dict(zip(table["id"], table["reactive_power_mvar"], strict=True))["g"]
    assert q == pytest.approx(0.2, abs=1e-6)
    assert abs(volts(result)["b"]) < 1.05
    assert assert_agrees(net, method)


# Low voltage


def collapsed(low: float) -> LoadFlowResult:
    net = network(bus("a"), bus("b"), source("a"), line("a", "b", r_ohm_per_km=1e-9, x_ohm_per_km=0.4, length_km=30.0),
                  load("b", 8.0))  # fmt: skip
    return run_load_flow(net, LoadFlowOptions(low_voltage_pu=low))


def test_demand_at_low_voltage_follows_its_square_as_in_the_closed_form() -> None:
    """V² = E² / (1 + (X P / (V₀² U²))²) for a load that has become the admittance P / V₀² behind a reactance."""
    assert collapsed(0.0).account.ending is Ending.ITERATION_LIMIT
    result = collapsed(0.7)
    conductance = 8.0 / 11**2 / 0.7**2  # siemens, with MW and kV
    expected = 1 / np.sqrt(1 + (12.0 * conductance) ** 2)
    assert abs(volts(result)["b"]) == pytest.approx(expected, abs=1e-7)
    assert expected < 0.7
    drawn = result.tables["injections"]["active_power_mw"][list(result.tables["injections"]["id"]).index("load-b")]
    assert drawn == pytest.approx(8.0 * (expected / 0.7) ** 2, rel=1e-6)
    assert any("below 0.7 p.u." in n for n in result.account.notes)


def test_demand_above_the_low_voltage_stays_as_it_is() -> None:
    net = network(bus("a", 33), source("a"), bus("b"), transformer("a", "b"), load("b", 4.0, 1.0))
    with_, without = (run_load_flow(net, LoadFlowOptions(low_voltage_pu=x)) for x in (0.8, 0.0))
    assert volts(with_)["b"] == pytest.approx(volts(without)["b"], abs=1e-12)
    assert_balanced(net, with_)
