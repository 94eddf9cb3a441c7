"""What is allowed is one rule: highest loadings of the network and of elements, sets of limits, and ratings of closed switches
count in every study alike."""

from __future__ import annotations

import numpy as np
import pytest

from tests.helpers import Item, at, bus, line, network, ring, run_study, source, switch, transformer, with_settings
from vastmesh.core.network import Add, Network, Update
from vastmesh.core.network.elements.profile import pack
from vastmesh.core.results import loading_allowed
from vastmesh.core.results.state import run_load_flow, solve_as_set
from vastmesh.core.severity import Severity


def at_most(pct: float, net: Network) -> Network:
    return with_settings(net, loading_breach_pct=pct, loading_watch_pct=0.9 * pct)


def day(*figures: float) -> Item:
    return {"kind": "profile", "id": "p", "packed": pack((figures or (1.0,)) * 24)}


def breaches(net: Network) -> set[str]:
    found = solve_as_set(net, net.condition).findings
    return {f.element for f in found if f.severity is Severity.BREACH and f.quantity == "loading_pct"}


@pytest.mark.parametrize("study", ["balanced", "per_phase"])
def test_the_networks_highest_loading_is_a_breach_in_every_study(study: str) -> None:
    net = at_most(30.0, ring(day()))
    with_settings(net, study=study)
    loading = dict(zip(*(run_load_flow(net).tables["branches"][c] for c in ("id", "loading_pct")), strict=True))
    assert loading["A-B"] > 35
    assert breaches(net) == {"A-B"}
    over = run_study("over_time", net, days=1.0, load_flow=study)
    assert at(over, "branches", "A-B", "peak_pct") == pytest.approx(loading["A-B"] / 0.3, rel=1e-3)
    assert at(over, "branches", "A-B", "hours_over") == pytest.approx(24.0)
    assert at(over, "branches", "A-C", "hours_over") == 0.0
    # Without a highest loading of its own nothing is broken at that; with one of its own the line's counts.
    free = at_most(100.0, net.copy())
    assert not breaches(free)
    free.apply([Update(id="A-B", values={"loading_limit_pct": 35.0})])
    assert breaches(free) == {"A-B"}
    assert at(
        run_study("over_time", free, days=1.0, load_flow=study), "branches", "A-B", "hours_over"
    ) == pytest.approx(24.0)


def test_outages_are_judged_by_it() -> None:
    free, net = ring(), at_most(30.0, ring())
    before, after = (run_study("outages", n, of="branches") for n in (free, net))
    assert "Secure" in before.statement
    assert "Secure" not in after.statement
    assert after.summary["worst_pct"] == pytest.approx((before.summary["worst_pct"] or 0) / 0.3, rel=1e-9)


def test_the_optimal_flow_keeps_it() -> None:
    net = at_most(27.0, ring())
    best = run_study("optimal_flow", net)
    assert best.account.converged
    free = run_study("optimal_flow", ring())
    assert max(free.tables["branches"]["used_pct"]) > 27
    assert max(best.tables["branches"]["used_pct"]) == pytest.approx(100.0, abs=1e-4)
    linear = run_study("optimal_flow", net, equations="linear")
    assert max(linear.tables["branches"]["used_pct"]) < 100.0 + 1e-6


def test_transfers_headroom_and_limit_tables_end_at_it() -> None:
    """Twice the rating and half of it allowed is the same network."""
    wide: dict[str, Item] = {f"{a}-{b}": {"rating_a": 800.0} for a, b in ("AB", "BC", "AC")}
    plain, same = ring(), at_most(50.0, ring(**wide))
    for study, table, column, options in (
        ("headroom", "headroom", "demand_room_mw", {"voltage": False}),
        ("headroom", "headroom", "generation_room_mw", {"voltage": False}),
        ("limit_table", "limits", "most_mw", {"voltage": False, "of": "plants"}),
        ("transfer", "limits", "limit_mw", {"voltage": False, "to": "bus", "to_bus": "B"}),
    ):
        one, other = (run_study(study, n, **options) for n in (plain, same))
        assert table in one.tables, list(one.tables)
        a, b = (np.asarray(r.tables[table][column], float) for r in (one, other))
        assert np.isfinite(a).any()
        np.testing.assert_allclose(a, b, rtol=1e-6)


def windings() -> Network:
    three = {"kind": "three_winding", "id": "unit", "hv_bus": "h", "mv_bus": "m", "lv_bus": "l", "hv_kv": 110.0, "mv_kv": 33.0,
             "lv_kv": 11.0, "hv_mva": 20.0, "mv_mva": 20.0, "lv_mva": 10.0, "z_hm_pct": 10.0, "z_ml_pct": 6.0, "z_hl_pct": 17.0,
             "x_over_r": 30.0}  # fmt: skip
    return network(bus("h", 110.0), bus("m", 33.0), bus("l"), source("h"), three,
                   {"kind": "load", "id": "d", "bus": "m", "active_power_mw": 10.0, "reactive_power_mvar": 0.0})  # fmt: skip


def test_windings_and_units_with_more_for_a_time_are_judged_by_one_function() -> None:
    net = at_most(40.0, windings())
    assert breaches(net) == {"unit"}
    assert loading_allowed(net.settings, net["unit"], "normal") == pytest.approx(0.4)
    cooled = network(bus("h", 33.0), bus("l"), source("h"), transformer("h", "l", rated_mva=10.0, short_time_mva=15.0))
    at_most(80.0, cooled)
    assert loading_allowed(cooled.settings, cooled["h/l"], "normal") == pytest.approx(0.8)
    assert loading_allowed(cooled.settings, cooled["h/l"], "short_time") == pytest.approx(1.2)


# --- ratings of closed switches: as if they were lines of hardly any length ---------------------------------------------------


def coupled(rating_a: float, *, by: str) -> Network:
    """The ring behind a coupler of its source, which is a switch or a line of a metre."""
    joint: Item = switch("G", "A", id="coupler", rating_a=rating_a, device="breaker")
    if by == "line":
        joint = line("G", "A", id="coupler", rating_a=rating_a, length_km=1e-3, r_ohm_per_km=0.01, x_ohm_per_km=0.01)
    net = ring(bus("G", 110.0), joint, day(1.0, 1.2))
    net.apply([Update(id="source-A", values={"bus": "G"})])
    return net


@pytest.mark.parametrize(
    ("study", "table", "columns", "options"),
    [
        ("headroom", "headroom", ("demand_room_mw", "generation_room_mw"), {"voltage": False}),
        ("headroom", "headroom", ("demand_room_mw",), {"voltage": False, "outages": "model"}),
        ("limit_table", "limits", ("most_mw",), {"voltage": False, "of": "plants"}),
        ("transfer", "limits", ("limit_mw",), {"voltage": False, "to": "bus", "to_bus": "B"}),
        ("over_time", "branches", ("peak_pct", "hours_over", "beyond_mvah"), {"days": 1.0}),
    ],
)
def test_a_rated_switch_stands_against_as_much_as_a_line_of_a_metre(
    study: str, table: str, columns: tuple[str, ...], options: dict[str, object]
) -> None:
    one, other = (run_study(study, coupled(300.0, by=by), **options) for by in ("switch", "line"))
    rows, same = ({r["id"]: r for r in x.tables[table].records()} for x in (one, other))
    compared = 0
    for ident, row in rows.items():
        for c in columns:
            assert row[c] == pytest.approx(same[ident][c], rel=1e-4, abs=1e-3, nan_ok=True), (ident, c)
            compared += row[c] is not None and np.isfinite(row[c])
    assert compared
    if study == "over_time":
        assert rows["coupler"]["hours_over"] > 0
    elif study != "limit_table":  # there a line stands against it before
        named = [
            v
            for r in one.tables[table].records()
            for k, v in r.items()
            if k.endswith(("at", "where")) and isinstance(v, str)
        ]
        assert any("coupler" in v for v in named)


def test_a_year_side_by_side_sees_the_switch_as_hours_alone_do() -> None:
    """Many hours of one pattern are solved together; the current through a switch follows from each one's own powers."""
    dice = np.random.default_rng(5)
    net = coupled(300.0, by="switch")
    net.apply([Update(id="p", values={"packed": pack(dice.uniform(0.3, 1.3, 48).tolist())})])
    net.apply([Update(id="plant", values={"control": "power_factor"})])
    together = run_study("over_time", net, days=2.0, element="coupler")
    with_settings(net, method="fast_decoupled")
    alone = run_study("over_time", net, days=2.0, element="coupler")
    a, b = (np.asarray(r.tables["steps"]["element"], float) for r in (together, alone))
    assert a.max() > 100 > a.min() > 1
    np.testing.assert_allclose(a, b, rtol=1e-5)


def dear(rating_a: float, *, by: str = "switch") -> Network:
    """Where the plant costs more than what comes over the coupler."""
    net = coupled(rating_a, by=by)
    net.apply([Update(id="plant", values={"cost_per_mwh": 60.0})])
    return net


@pytest.mark.parametrize("equations", ["exact", "linear"])
@pytest.mark.parametrize("rating", [150.0, 450.0])
def test_the_optimal_flow_holds_a_rated_switch_as_a_line_of_a_metre(equations: str, rating: float) -> None:
    one, other = (run_study("optimal_flow", dear(rating, by=by), equations=equations) for by in ("switch", "line"))
    free = run_study("optimal_flow", dear(2000.0), equations=equations)
    assert one.account.converged, one.account.explanation
    assert one.summary["cost"] == pytest.approx(other.summary["cost"], rel=1e-5)
    if rating < 200:
        assert (one.summary["cost"] or 0) > (free.summary["cost"] or 0) + 1
        assert at(one, "branches", "coupler", "used_pct") == pytest.approx(100.0, abs=1e-3)
        assert "coupler" in one.statement


def test_switches_beside_a_rated_one_share_with_it_in_the_optimal_flow() -> None:
    """Two couplers in parallel, one without a rating: each carries half, and half is what the rated one may carry."""
    net = dear(100.0)
    net.apply([Add(item=switch("G", "A", id="second", device="breaker"))])
    best, alone = run_study("optimal_flow", net), run_study("optimal_flow", dear(200.0))
    assert best.summary["cost"] == pytest.approx(alone.summary["cost"], rel=1e-5)
    secured = run_study("optimal_flow", dear(450.0), outages="branches", outages_above_kv=50.0)
    assert secured.account.converged
