"""What may be carried for good, for hours and for minutes: findings, outages and optimal flow all keep the set that counts."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from tests.helpers import at, bus, line, load, network, run_study, source, transformer
from vastmesh.core.checks import run_checks
from vastmesh.core.network import Condition, Network
from vastmesh.core.results import loading_allowed, voltage_bands
from vastmesh.core.results.state import run_load_flow, run_unbalanced
from vastmesh.core.severity import Severity

SETS = ("normal", "emergency", "short_time")


def two(**rating: Any) -> Network:
    return network(
        bus("a", 33.0), bus("b", 33.0), source("a"), line("a", "b", length_km=2, **rating),
        {**line("a", "b", length_km=2, rating_a=500), "id": "second"}, load("b", 10.0, 2.0),
    )  # fmt: skip


@pytest.mark.parametrize(
    ("given", "shares"),
    [
        ({"rating_a": 100}, (1.0, 1.0, 1.0)),
        ({"rating_a": 100, "emergency_rating_a": 120}, (1.0, 1.2, 1.2)),
        ({"rating_a": 100, "emergency_rating_a": 120, "short_time_rating_a": 150}, (1.0, 1.2, 1.5)),
        ({"rating_a": 100, "short_time_rating_a": 150}, (1.0, 1.0, 1.5)),
        ({"rating_a": 100, "emergency_rating_a": 120, "short_time_rating_a": 110}, (1.0, 1.2, 1.2)),
    ],
)
def test_a_line_may_carry_more_the_shorter_it_lasts(given: dict[str, float], shares: tuple[float, ...]) -> None:
    net = two(**given)
    assert [loading_allowed(net.settings, net["a-b"], s) for s in SETS] == pytest.approx(shares)


def test_so_may_a_transformer() -> None:
    net = network(
        bus("a", 33.0), bus("c", 11.0), source("a"), transformer("a", "c", rated_mva=10.0, short_time_mva=16.0)
    )
    assert [loading_allowed(net.settings, net["a/c"], s) for s in SETS] == pytest.approx([1.0, 1.0, 1.6])
    cooled = network(bus("a", 33.0), bus("c", 11.0), source("a"),
                     transformer("a", "c", rated_mva=10.0, emergency_mva=13.0, short_time_mva=12.0))  # fmt: skip
    assert [loading_allowed(cooled.settings, cooled["a/c"], s) for s in SETS] == pytest.approx([1.0, 1.3, 1.3])
    assert any(c.element == "a/c" and "for minutes is less" in c.text for c in run_checks(cooled))
    assert not any("for minutes is less" in c.text for c in run_checks(net))


@pytest.mark.parametrize("solve", [run_load_flow, run_unbalanced])
def test_findings_are_by_the_set_of_the_condition(solve: Any) -> None:
    net = two(rating_a=60, emergency_rating_a=75, short_time_rating_a=200)
    loading = at(solve(net), "branches", "a-b", "loading_pct")
    assert 125 < loading < 200
    for limits, breach in (("normal", True), ("emergency", True), ("short_time", False)):
        condition = Condition(id="c", name="c", limit_set=limits)
        found = [
            f for f in solve(net, condition=condition).findings if f.element == "a-b" and f.severity is Severity.BREACH
        ]
        assert bool(found) == breach, limits
    limit = next(f.limit for f in solve(net, condition=Condition(id="c", name="c", limit_set="emergency")).findings
                 if f.element == "a-b")  # fmt: skip
    assert limit == pytest.approx(125.0)


def test_voltage_limits_of_minutes_come_before_those_of_hours_and_the_normal_ones() -> None:
    def limits(ident: str, name: str, low: float, **more: Any) -> dict[str, Any]:
        return {"kind": "voltage_limits", "id": ident, "limit_set": name, "low_breach_pu": low, "low_watch_pu": low + 0.01,
                **more}  # fmt: skip

    net = network(bus("a"), source("a"), limits("n", "normal", 0.94), limits("e", "emergency", 0.9),
                  limits("s", "short_time", 0.85, up_to_kv=1.0))  # fmt: skip
    usual = "voltage-limits"  # built in, where none of the network's own fits
    assert [v.id for v in net.voltage_limits("normal")] == ["n", usual]
    assert [v.id for v in net.voltage_limits("emergency")] == ["e", "n", usual]
    assert [v.id for v in net.voltage_limits("short_time")] == ["s", "e", "n", usual]
    # What one study takes for outside every other one does, and the findings.
    low = network(bus("a", 0.4), source("a", voltage_pu=0.92), limits("h", "normal", 0.8, above_kv=1.0))
    assert [f.limit for f in run_load_flow(low).findings if f.quantity == "voltage_pu"] == [0.94]
    assert voltage_bands(low, "normal", ["a"], np.array([0.4])).tolist() == [[0.94, 1.06]]


def test_an_outage_is_judged_by_the_set_that_is_allowed_after_it() -> None:
    net = two(rating_a=130, emergency_rating_a=150, short_time_rating_a=250)
    used = {}
    for limits in SETS:
        found = run_study("outages", net, of="lines", limit_set=limits)
        row = next(r for r in found.tables["outages"].records() if r["name"] == "second")
        used[limits] = row["worst_pct"]
        assert (row["verdict"] == "limits broken") == (limits != "short_time")
    assert used["normal"] / used["emergency"] == pytest.approx(150 / 130)
    assert used["normal"] / used["short_time"] == pytest.approx(250 / 130)


def test_an_optimal_flow_keeps_the_set_of_its_condition() -> None:
    """A dear plant at the load relieves the line only as far as the limits ask."""
    plant = {"kind": "generator", "id": "g", "bus": "b", "active_power_mw": 0.0, "rated_mva": 20.0, "energy": "thermal",
             "control": "voltage", "voltage_pu": 1.0, "cost_per_mwh": 90.0}  # fmt: skip
    needed = {}
    for limits in SETS:
        net = network(
            bus("a", 33.0), bus("b", 33.0), source("a", cost_per_mwh=30.0), load("b", 10.0, 0.0),
            line("a", "b", length_km=2, rating_a=80, emergency_rating_a=110, short_time_rating_a=140), plant,
            {"kind": "condition", "id": "now", "name": "now", "limit_set": limits},
        )  # fmt: skip
        condition = next(c for c in net.of(Condition) if c.id == "now")
        from vastmesh.core.studies import Inputs

        found = run_study("optimal_flow", Inputs(net, condition))
        needed[limits] = next(r["after_mw"] for r in found.tables["plants"].records() if r["id"] == "g")
    per_a = 3**0.5 * 33 / 1000
    assert needed["normal"] - needed["emergency"] == pytest.approx(30 * per_a, abs=0.1)
    assert needed["emergency"] - needed["short_time"] == pytest.approx(30 * per_a, abs=0.1)
