"""Conditions over time: steps equal single load flows, sums add up, taps are repeatable, bad profiles are named."""

from __future__ import annotations

from datetime import datetime
from typing import Any

import numpy as np
import pytest

from tests.helpers import at, bus, line, load, network, run_study, source, transformer
from vastmesh.core.errors import InvalidFields
from vastmesh.core.flow.balanced import LoadFlowOptions
from vastmesh.core.flow.phases import UnbalancedOptions
from vastmesh.core.network import Condition, Network, Update
from vastmesh.core.network.elements.profile import Profile, pack, unpack
from vastmesh.core.network.hours import at_moment, clock_of
from vastmesh.core.results.state import run_load_flow, run_unbalanced
from vastmesh.core.studies import STUDIES, Inputs
from vastmesh.core.studies.base import StopRequested


def profile(ident: str, figures: list[float], **more: Any) -> dict[str, Any]:
    return {"kind": "profile", "id": ident, "packed": pack(figures), **more}


def small(*profiles: dict[str, Any], **more: Any) -> Network:
    return network(
        bus("a", 33.0), bus("b", 33.0), source("a"), line("a", "b", rating_a=100, **more),
        load("b", 4.0, 1.0, demand_class="domestic"),
        *profiles,
    )  # fmt: skip


@pytest.mark.parametrize("seed", range(4))
def test_packed_figures_come_back_to_six_digits(seed: int) -> None:
    dice = np.random.default_rng(seed)
    values = (10.0 ** dice.uniform(-3, 3, 20_000)).tolist()
    assert np.allclose(unpack(pack(values)), values, rtol=5e-6)
    assert unpack(()) == ()
    with pytest.raises(ValueError, match="no packed profile"):
        unpack(("not packed at all",))


@pytest.mark.parametrize("name", ["Winter evening", "Summer noon"])
def test_hours_of_a_year_equal_single_load_flows(demo: Network, name: str) -> None:
    condition = next(c for c in demo.of(Condition) if c.name == name)
    demo.apply([Update(id=demo.settings.id, values={"automatic": False, "tolerance_pu": 1e-11})])
    dice = np.random.default_rng(1)
    for day in sorted(dice.integers(0, 364, 4).tolist()):
        begins = f"{datetime(2025, 1, 1).replace(month=1 + day // 31, day=1 + day % 28):%Y-%m-%dT%H:%M}"
        found = run_study("over_time", Inputs(demo, condition), begins=begins, days=1.0)
        steps = found.tables["steps"]
        for n in sorted(dice.integers(0, 24, 6).tolist()):
            moment = datetime.strptime(steps["begins"][n], "%Y-%m-%d %H:%M")
            flow = run_load_flow(
                demo, LoadFlowOptions(tolerance_pu=1e-11, automatic=False), at_moment(demo, condition, moment)
            )
            assert flow.account.converged
            volts = flow.tables["buses"]["voltage_pu"]
            assert steps["lowest_pu"][n] == pytest.approx(np.nanmin(volts), abs=1e-8)
            assert steps["highest_pu"][n] == pytest.approx(np.nanmax(volts), abs=1e-8)
            assert steps["demand_mw"][n] == pytest.approx(flow.summary["demand_mw"], rel=1e-9)
            assert steps["generation_mw"][n] == pytest.approx(flow.summary["generation_mw"], rel=1e-6)
            assert steps["losses_mw"][n] == pytest.approx(flow.summary["active_loss_mw"], rel=1e-6)


def test_energy_losses_and_hours_add_up() -> None:
    figures = [0.5, 1.0, 2.0, 0.25, 1.5, 3.0]
    found = run_study(
        "over_time", small(profile("p", figures, scales="class", key="domestic", step_min=30)), element="a-b"
    )
    assert found.summary["demand_mwh"] == pytest.approx(4.0 * sum(figures) * 0.5, rel=1e-9)
    flows = [run_load_flow(small(), None, Condition(id="c", name="c", demand_factor=f)) for f in figures]
    lost = [f.summary["active_loss_mw"] for f in flows]
    assert found.summary["losses_mwh"] == pytest.approx(sum(lost) * 0.5, rel=1e-6)  # type: ignore[arg-type]
    loading = [at(f, "branches", "a-b", "loading_pct") for f in flows]
    assert list(found.tables["steps"]["element"]) == pytest.approx(loading, rel=1e-6)
    assert at(found, "branches", "a-b", "hours_over") == pytest.approx(0.5 * sum(x > 100 for x in loading))
    assert at(found, "branches", "a-b", "peak_at").endswith("02:30")
    calendar = next(f for f in found.figures if f.name == "loading").series[0].y
    assert list(calendar) == sorted(calendar, reverse=True)
    study = STUDIES["over_time"]
    assert study.explain is not None
    told = study.explain(small(profile("p", figures, scales="class", key="domestic", step_min=30)), found,
                         Condition(id="c", name="c"),
                         "a-b",
                         {"element": "a-b"})  # fmt: skip
    cells = {c.symbol: c for c in told[0].ledger}
    assert cells["H"].value == pytest.approx(cells["H"].solver)


def test_what_has_a_profile_follows_it_in_place_of_the_condition() -> None:
    half = Condition(id="c", name="c", demand_factor=0.5, class_factors={"domestic": 0.2})
    net = small(profile("p", [1.0, 0.5], scales="class", key="domestic"))
    found = run_study("over_time", Inputs(net, half))
    assert list(found.tables["steps"]["demand_mw"]) == pytest.approx([4.0, 2.0])
    whole = small(profile("p", [1.0, 0.5], scales="class", key="domestic"), profile("all", [0.5, 0.5]))
    assert list(run_study("over_time", Inputs(whole, half)).tables["steps"]["demand_mw"]) == pytest.approx([2.0, 1.0])
    metered = small(profile("m", [3.0, 7.0], scales="element", key="load-b", means="mw"))
    found = run_study("over_time", Inputs(metered, half))
    assert list(found.tables["steps"]["demand_mw"]) == pytest.approx([3.0, 7.0])
    one = at_moment(metered, half, datetime(2025, 1, 1, 1))
    assert run_load_flow(metered, None, one).summary["demand_mw"] == pytest.approx(7.0)
    nobody = small(profile("p", [1.0], scales="class", key="farming"))
    assert any("left out" in n for n in run_study("over_time", nobody).account.notes)


def test_hours_per_phase_equal_single_load_flows_per_phase(demo: Network) -> None:
    demo.apply([Update(id=demo.settings.id, values={"automatic": False})])
    condition = demo.condition
    found = run_study("over_time", Inputs(demo, condition), begins="2025-01-15T16:00", days=0.25, load_flow="per_phase")
    steps = found.tables["steps"]
    for n in (0, 2, 5):
        moment = datetime.strptime(steps["begins"][n], "%Y-%m-%d %H:%M")
        flow = run_unbalanced(demo, UnbalancedOptions(automatic=False), at_moment(demo, condition, moment))
        assert flow.account.converged
        buses = flow.tables["buses"]
        phases = np.array([buses[f"phase_{p}_voltage_pu"] for p in "abc"], float)
        assert steps["lowest_pu"][n] == pytest.approx(np.nanmin(phases), abs=1e-6)
        assert steps["highest_pu"][n] == pytest.approx(np.nanmax(phases), abs=1e-6)
        assert steps["worst_pct"][n] == pytest.approx(np.nanmax(flow.tables["branches"]["loading_pct"]), rel=1e-5)
        assert steps["highest_neutral_v"][n] == pytest.approx(flow.summary["highest_neutral_v"], rel=1e-4)
        assert steps["demand_mw"][n] == pytest.approx(flow.summary["demand_mw"], rel=1e-6)
        assert steps["losses_mw"][n] == pytest.approx(flow.summary["active_loss_mw"], rel=1e-4)
    assert found.summary["losses_mwh"] == pytest.approx(sum(steps["losses_mw"]))


def test_where_all_phases_are_alike_both_load_flows_say_the_same() -> None:
    net = small(profile("p", [0.5, 1.0, 2.0, 0.25], scales="class", key="domestic"))
    a, b = (run_study("over_time", net, load_flow=f) for f in ("balanced", "per_phase"))
    for name in ("demand_mw", "generation_mw", "losses_mw", "worst_pct", "lowest_pu", "highest_pu", "broken"):
        assert list(b.tables["steps"][name]) == pytest.approx(list(a.tables["steps"][name]), rel=1e-5), name
    for table, names in (("branches", ("peak_pct", "hours_over", "beyond_mvah", "losses_mwh")),
                         ("buses", ("least_pu", "top_pu", "hours_outside"))):  # fmt: skip
        one, two = ({r["id"]: r for r in x.tables[table].records()} for x in (a, b))
        assert set(one) == set(two)
        for ident, row in one.items():
            assert [two[ident][n] for n in names] == pytest.approx([row[n] for n in names], rel=1e-4, abs=1e-6), ident
    left = small(profile("p", [1.0], scales="class", key="farming"))
    assert any("left out" in n for n in run_study("over_time", left, load_flow="per_phase").account.notes)


def test_what_is_beyond_the_rating_of_three_windings_is_the_same_per_phase() -> None:
    unit = {"kind": "three_winding", "id": "W", "hv_bus": "a", "mv_bus": "b", "lv_bus": "c", "hv_mva": 8, "mv_mva": 8,
            "lv_mva": 8, "hv_kv": 33, "mv_kv": 11, "lv_kv": 6.6, "z_hm_pct": 10, "z_ml_pct": 7, "z_hl_pct": 16}  # fmt: skip
    net = network(
        bus("a", 33.0), bus("b", 11.0), bus("c", 6.6), source("a"), unit, load("b", 4.0, 1.0), load("c", 3.0, 1.0),
        profile("p", [0.6, 1.4, 1.2, 0.8]),
    )  # fmt: skip
    a, b = (run_study("over_time", net, load_flow=f).tables["branches"].records() for f in ("balanced", "per_phase"))
    one, two = (max((r for r in rows if r["id"] == "W"), key=lambda r: r["peak_pct"]) for rows in (a, b))
    assert one["beyond_mvah"] > 1.0
    for name in ("peak_pct", "hours_over", "beyond_mvah"):
        assert two[name] == pytest.approx(one[name], rel=2e-3), name


@pytest.mark.parametrize("load_flow", ["balanced", "per_phase"])
def test_taps_go_on_from_where_they_stood_and_counts_are_repeatable(load_flow: str) -> None:
    net = network(
        bus("a", 33.0), bus("b", 33.0), bus("c", 11.0), source("a"), line("a", "b", length_km=20),
        transformer("b", "c", regulates=True, tap_step_pct=1.25, tap_min=-10, tap_max=10, target_pu=1.0, band_pct=2.0),
        load("c", 4.0, 1.5), profile("p", [0.2, 1.8, 1.8, 0.2, 0.2, 1.8]),
    )  # fmt: skip
    found = run_study("over_time", net, load_flow=load_flow)
    again = run_study("over_time", net, load_flow=load_flow)
    assert at(found, "taps", "b/c", "steps_taken") == at(again, "taps", "b/c", "steps_taken") > 0
    moves = list(found.tables["steps"]["moves"])
    assert moves[2] == 0.0 == moves[4], "the same demand as before moves nothing"
    assert moves[1] > 0 < moves[3]


def test_asked_to_stop_it_answers_with_the_steps_so_far() -> None:
    net = small(profile("p", [1.0] * 100))

    def stop(fraction: float, words: str) -> None:
        if fraction > 0.3:
            raise StopRequested

    study = STUDIES["over_time"]
    found = study.run(Inputs(net), study.options(), stop)
    assert 30 <= len(found.tables["steps"]) < 100
    assert "Stopped after" in found.statement


def test_profiles_that_do_not_fit_together_are_named() -> None:
    with pytest.raises(InvalidFields, match="no profile with figures"):
        run_study("over_time", small())
    both = small(profile("p", [1.0] * 5), profile("q", [1.0] * 5, zone="Europe/Elsewhere"))
    with pytest.raises(InvalidFields, match="same time zone"):
        run_study("over_time", both)
    with pytest.raises(InvalidFields, match="have figures from"):
        run_study("over_time", small(profile("p", [1.0] * 5)), begins="2026-01-01T00:00")
    with pytest.raises(InvalidFields, match="fewer days"):
        run_study("over_time", small(profile("p", [1.0] * 24)), days=3.0)
    for bad, told in (
        ({"scales": "class"}, "name the class"), ({"means": "mw"}, "one element"),
        ({"begins": "2025-13-01T00:00"}, "enter a moment"),
        ({"packed": pack([1.0, -1.0])}, "step 2"),
    ):  # fmt: skip
        with pytest.raises(ValueError, match=told):
            Profile.model_validate({"id": "p", "packed": pack([1.0]), **bad})


def test_mixed_steps_count_as_they_stand() -> None:
    quarter = Profile.model_validate({"id": "q", "name": "q", "packed": pack([1, 2, 3, 4, 5, 6, 7, 8]), "step_min": 15})
    hour = Profile.model_validate({"id": "h", "name": "h", "packed": pack([1.0, 2.0, 3.0]), "step_min": 60})
    clock = clock_of([quarter, hour], None, None, None)
    assert (clock.step_min, clock.count) == (15, 8)
    coarse = clock_of([quarter, hour], None, None, 60)
    assert coarse.count == 2


def test_storage_gives_what_is_there_and_takes_what_has_room() -> None:
    store = {"kind": "inverter", "id": "s", "bus": "b", "active_power_mw": 1.0, "rated_mva": 5.0, "energy": "storage",
             "energy_mwh": 4.0,
             "energy_now_pct": 50.0, "round_trip_pct": 81.0}  # fmt: skip
    asked = [1.0, 1.0, -3.0, -3.0, 2.0, 2.0, 2.0]
    net = small(store, profile("p", asked, scales="element", key="s", means="mw"))
    found = run_study("over_time", net)
    # One way keeps 0.9. It gives 1 (2 - 1/0.9), then what is left; takes in 2.7, then
    # up to 4 MWh; gives 2 / 0.9 once, then the rest.
    energy, given = 2.0, []
    for p in asked:
        real = min(p, energy * 0.9) if p > 0 else max(p, -(4.0 - energy) / 0.9)
        energy -= real / 0.9 if real > 0 else real * 0.9
        given.append(real)
    demand, losses = found.tables["steps"]["demand_mw"], found.tables["steps"]["losses_mw"]
    assert list(demand) == pytest.approx([4.0] * 7)
    assert at(found, "storage", "s", "given_mwh") == pytest.approx(sum(p for p in given if p > 0))
    assert at(found, "storage", "s", "taken_mwh") == pytest.approx(-sum(p for p in given if p < 0))
    assert at(found, "storage", "s", "end_mwh") == pytest.approx(energy, abs=1e-9)
    assert at(found, "storage", "s", "cut_h") == pytest.approx(
        sum(abs(a - b) > 1e-9 for a, b in zip(asked, given, strict=True))
    )
    assert all(x > 0 for x in losses)
