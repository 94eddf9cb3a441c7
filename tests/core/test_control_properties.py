"""Properties of joint control: nothing is lost when it is shared out, order follows the supply, hunting is said."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.helpers import Item, assert_balanced, bus, column, line, load, network, source, transformer, volts
from vastmesh.core.electrical import compile_network, trace
from vastmesh.core.flow.balanced import LoadFlowOptions
from vastmesh.core.flow.balanced._controls import tap_order
from vastmesh.core.flow.balanced._controls._base import shared_out
from vastmesh.core.network import Network, Update
from vastmesh.core.results.state import LiveLoadFlow, LoadFlowResult, live_options, run_load_flow

SHARES = st.lists(st.tuples(st.floats(0.1, 10), st.floats(0, 5), st.floats(0, 5)), min_size=1, max_size=6)


@given(SHARES, st.floats(-40, 40))
def test_what_is_shared_out_adds_up_or_everybody_is_at_a_limit(
    members: list[tuple[float, float, float]], amount: float
) -> None:
    weight = np.array([m[0] for m in members])
    low, high = -np.array([m[1] for m in members]), np.array([m[2] for m in members])
    share = shared_out(amount, weight, low, high)
    assert np.all(share >= low - 1e-9)
    assert np.all(share <= high + 1e-9)
    if low.sum() <= amount <= high.sum():
        assert share.sum() == pytest.approx(amount, abs=1e-7)
    elif amount > high.sum():
        assert share == pytest.approx(high)
    else:
        assert share == pytest.approx(low)


@given(st.lists(st.floats(0.1, 10), min_size=2, max_size=6), st.floats(-5, 5))
def test_without_limits_shares_are_in_proportion(weights: list[float], amount: float) -> None:
    weight = np.array(weights)
    free = np.full(len(weight), np.inf)
    assert shared_out(amount, weight, -free, free) == pytest.approx(amount * weight / weight.sum(), abs=1e-9)


def chain(count: int, **more: Any) -> Network:
    items: list[Item] = [bus("n0"), source("n0", voltage_pu=0.97)]
    for k in range(count):
        items += [bus(f"m{k}"), line(f"n{k}", f"m{k}", length_km=0.3), bus(f"n{k + 1}"), load(f"n{k + 1}", 0.2, 0.05)]
        items.append({"kind": "regulator", "id": f"r{k}", "from_bus": f"m{k}", "to_bus": f"n{k + 1}", **more})
    return network(*items)


@pytest.mark.parametrize("count", [1, 2, 4, 7])
def test_the_order_of_taps_counts_those_before_them(count: int) -> None:
    net = chain(count)
    arrays = compile_network(net)
    order = tap_order(arrays, trace(arrays))
    ids = [arrays.element_id[e] for e in arrays.tables["tap"]["element"]]
    assert [i for _, i in sorted(zip(order.tolist(), ids, strict=True))] == [f"r{k}" for k in range(count)]
    assert np.all(np.diff(np.sort(order)) == 1)


def test_a_tap_reached_by_two_ways_counts_the_shorter_one() -> None:
    """A ring fed at one end: the regulator at the far side is reached past one other, not two."""
    reg = {"kind": "regulator"}
    net = network(
        bus("s"), source("s"), bus("a"), bus("b"), bus("c"), bus("d"), {**reg, "id": "r1", "from_bus": "s", "to_bus": "a"},
        {**reg, "id": "r2", "from_bus": "a", "to_bus": "b"}, line("s", "c"), line("c", "b"),
        {**reg, "id": "r3", "from_bus": "b", "to_bus": "d"},
    )  # fmt: skip
    arrays = compile_network(net)
    order = dict(
        zip(
            [arrays.element_id[e] for e in arrays.tables["tap"]["element"]],
            tap_order(arrays, trace(arrays)),
            strict=True,
        )
    )
    assert order["r3"] == 1 or order["r3"] <= order["r1"] + 1
    assert order["r3"] < 2 + order["r1"]


def test_a_band_narrower_than_a_step_is_said_to_hunt_and_ends() -> None:
    net = network(bus("s"), source("s", voltage_pu=0.98), bus("a"), load("a", 0.5),
                  {"kind": "regulator", "id": "r", "from_bus": "s", "to_bus": "a", "step_pct": 2.5, "band_pct": 0.3})  # fmt: skip
    result = run_load_flow(net)
    assert result.account.converged
    v, notes = abs(volts(result)["a"]), result.account.notes
    assert any("r was hunting between two positions" in n for n in notes)
    assert abs(v - 1.0) < 0.025


@settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.integers(1, 4), st.floats(0.96, 1.04), st.booleans())
def test_continuous_regulators_in_a_row_all_hold_their_target(count: int, target: float, loaded: bool) -> None:
    net = chain(count, continuous=True, target_pu=target)
    if not loaded:
        net.apply(
            [
                Update(id=f"load-n{k + 1}", values={"active_power_mw": 0.0, "reactive_power_mvar": 0.0})
                for k in range(count)
            ]
        )
    result = run_load_flow(net)
    tap = column(result, "branches", "tap_position")
    for k in range(count):
        off = abs(abs(volts(result)[f"n{k + 1}"]) - target)
        assert off < 2e-6 or tap[f"r{k}"] in (-16, 16)
    assert_balanced(net, result)


@settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.floats(0.985, 1.01), st.floats(0.5, 5.0), st.floats(1.0, 40.0))
def test_a_remote_bus_is_held_or_every_machine_is_at_its_limit(target: float, mw: float, most: float) -> None:
    common = {"kind": "generator", "active_power_mw": 0.3, "control": "voltage", "held_bus": "t", "voltage_pu": target}
    limits = {"q_min_mvar": -most, "q_max_mvar": most}
    net = network(bus("s"), source("s"), bus("t"), bus("a"), line("s", "t", length_km=5.0), line("t", "a", length_km=0.5),
                  load("t", mw, mw / 3), {**common, **limits, "id": "g1", "bus": "a", "rated_mva": 5.0},
                  {**common, **limits, "id": "g2", "bus": "a", "rated_mva": 9.0})  # fmt: skip
    result = run_load_flow(net)
    q = column(result, "injections", "reactive_power_mvar")
    held = abs(abs(volts(result)["t"]) - target) < 2e-6
    at_limit = all(abs(abs(q[g]) - most) < 1e-6 for g in ("g1", "g2"))
    assert held or at_limit
    assert_balanced(net, result)


def machines(result: LoadFlowResult) -> dict[str, float]:
    return column(result, "injections", "active_power_mw")


@settings(max_examples=20, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.floats(1.0, 9.0), st.floats(0.1, 5.0), st.floats(0.1, 5.0), st.floats(-2.0, 6.0))
def test_the_shared_slack_is_in_proportion_whatever_the_schedule(
    mw: float, one: float, two: float, schedule: float
) -> None:
    net = network(
        bus("s", 33), source("s", scheduled_mw=schedule, participation=one), bus("a", 33), line("s", "a", length_km=3.0),
        load("a", mw, mw / 4), {"kind": "generator", "id": "g", "bus": "a", "active_power_mw": 2.0, "participation": two},
    )  # fmt: skip
    result = run_load_flow(net, LoadFlowOptions(slack_shared=True))
    beyond = machines(result)["source-s"] - schedule, machines(result)["g"] - 2.0
    assert beyond[0] * two == pytest.approx(beyond[1] * one, abs=1e-4)
    assert_balanced(net, result)


def test_two_islands_share_each_their_own_slack() -> None:
    def island(name: str, mw: float) -> list[Item]:
        return [bus(f"{name}s", 33), source(f"{name}s", participation=1.0), bus(f"{name}a", 33), line(f"{name}s", f"{name}a"),
                load(f"{name}a", mw), {"kind": "generator", "id": f"{name}g", "bus": f"{name}a", "active_power_mw": 0.0,
                                       "participation": 1.0}]  # fmt: skip

    result = run_load_flow(network(*island("x", 4.0), *island("y", 10.0)), LoadFlowOptions(slack_shared=True))
    power = machines(result)
    assert power["xg"] == pytest.approx(power["source-xs"], rel=1e-5)
    assert power["yg"] == pytest.approx(power["source-ys"], rel=1e-5)
    assert power["xg"] == pytest.approx(2.0, rel=0.01)
    assert power["yg"] == pytest.approx(5.0, rel=0.01)


# Options, one source of them


def test_every_option_is_a_setting_and_says_what_it_does() -> None:
    net = network(bus("a"), source("a"))
    settings_ = net.settings
    for name, field in LoadFlowOptions.model_fields.items():
        assert name in type(settings_).model_fields, name
        assert field.description, name
        assert len(field.description) > 30
    assert live_options(settings_).start == "last"


@pytest.mark.parametrize("method", ["newton", "fast_decoupled", "gauss_seidel", "automatic"])
def test_the_method_set_in_the_network_is_the_one_that_solves(method: str) -> None:
    net = network(bus("a"), bus("b"), source("a"), line("a", "b"), load("b", 1.0, 0.3))
    net.apply([])
    live = LiveLoadFlow(Network.from_items([*net.to_items(), {"kind": "settings", "id": "settings", "method": method}]))
    words = {
        "newton": "Newton",
        "automatic": "Newton",
        "fast_decoupled": "Fast decoupled",
        "gauss_seidel": "Gauss–Seidel",
    }
    first = live.solve()
    assert first.account.method.startswith(words[method])
    again = live.solve()
    assert again.account.method == f"{words[method]}, last solution"
    assert abs(volts(again)["b"]) == pytest.approx(abs(volts(run_load_flow(net))["b"]), abs=1e-6)


def test_an_unsettled_control_is_said(monkeypatch: pytest.MonkeyPatch) -> None:
    from vastmesh.core.flow.balanced import _settle
    from vastmesh.core.flow.balanced._controls import _all

    monkeypatch.setattr(_settle, "MOST_ROUNDS", 1)
    monkeypatch.setattr(_all, "MOST_ROUNDS", 1)
    result = run_load_flow(chain(3))
    assert any("had not settled after 1 rounds" in n for n in result.account.notes)


def test_a_tap_of_a_transformer_out_of_service_does_nothing() -> None:
    unit = transformer("h", "l", regulates=True, tap_step_pct=1.25, tap_min=-8, tap_max=8, in_service=False)
    net = network(bus("h", 33), source("h"), bus("l"), unit, load("l", 1.0))
    result = run_load_flow(net)
    assert result.account.converged
    assert not any("went from tap" in n for n in result.account.notes)
