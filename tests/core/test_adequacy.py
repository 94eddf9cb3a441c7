"""Adequacy: against enumeration of every state, a Markov chain solved as one, and the published reliability test system."""

from __future__ import annotations

from itertools import product
from typing import Any

import numpy as np
import pytest

from tests.helpers import bus, line, load, network, run_study, source
from vastmesh.core.errors import InvalidFields
from vastmesh.core.network import Network, Update
from vastmesh.core.network.elements.profile import pack
from vastmesh.core.results.state import solve_as_set
from vastmesh.core.studies.adequacy._outages import Unit, table_of
from vastmesh.core.studies.adequacy._study import adequacy


def unit(capacity: float, rate: float, hours: float, *partial: tuple[float, float, float]) -> Unit:
    return Unit("u", "u", capacity, ((capacity, rate, hours), *partial))


def random_units(seed: int) -> list[Unit]:
    dice = np.random.default_rng(seed)
    found = []
    for _ in range(int(dice.integers(1, 7))):
        capacity = float(dice.integers(1, 40))
        partial = (
            ((float(dice.integers(0, int(capacity) + 1)), float(dice.uniform(0.5, 8)), float(dice.uniform(5, 100))),)
            if dice.random() < 0.5
            else ()
        )
        found.append(unit(capacity, float(dice.uniform(0.2, 10)), float(dice.uniform(5, 300)), *partial))
    return found


@pytest.mark.parametrize("seed", range(12))
def test_the_table_is_what_enumerating_every_state_gives(seed: int) -> None:
    units = random_units(seed)
    table = table_of(units, 1.0)
    exact: dict[int, float] = {}
    entered: dict[int, float] = {}
    for states in product(*(range(len(u.states())) for u in units)):
        p = np.prod([u.states()[k][1] for u, k in zip(units, states, strict=True)])
        missing = sum(u.states()[k][0] for u, k in zip(units, states, strict=True))
        exact[round(missing)] = exact.get(round(missing), 0.0) + p
        # Every way out of this state into one with more missing.
        for u, k in zip(units, states, strict=True):
            if k == 0:
                for mw, _, f in u.states()[1:]:
                    for edge in range(round(missing) + 1, round(missing + mw) + 1):
                        entered[edge] = entered.get(edge, 0.0) + p / u.states()[0][1] * f
    beyond = np.cumsum([exact.get(k, 0.0) for k in range(len(table.beyond))][::-1])[::-1]
    assert np.allclose(table.beyond, beyond, atol=1e-12)
    for k, f in entered.items():
        assert table.entered[k] == pytest.approx(8760 * f, rel=1e-9), k
    for room in (0.0, 3.0, 11.0, 27.5):
        expected = sum(p * max(k - room, 0.0) for k, p in exact.items())
        assert float(table.expected_beyond(np.array([room]))[0]) == pytest.approx(expected, abs=1e-10)


def test_two_states_are_the_markov_unit_of_the_textbook() -> None:
    """Failures a and repairs b per hour: unavailability a / (a + b), frequency a b / (a + b)."""
    a, b = 4.0 / 8760, 1 / 50
    table = table_of([unit(10.0, 4.0, 50.0)], 1.0)
    assert table.beyond[10] == pytest.approx(a / (a + b), rel=1e-12)
    assert table.entered[10] == pytest.approx(8760 * a * b / (a + b), rel=1e-12)
    found = adequacy(10.0, table, np.full(8760, 5.0))
    assert found.lole_h == pytest.approx(8760 * a / (a + b))
    assert found.hours_each == pytest.approx(50.0)
    assert found.eens_mwh == pytest.approx(5 * 8760 * a / (a + b))


def test_three_units_against_a_markov_chain_solved_whole() -> None:
    units = [unit(20.0, 5.0, 40.0), unit(30.0, 3.0, 80.0), unit(25.0, 6.0, 30.0, (10.0, 4.0, 60.0))]
    states = list(product(*(range(len(u.states())) for u in units)))
    at = {s: k for k, s in enumerate(states)}
    q = np.zeros((len(states), len(states)))
    for s in states:
        for k, u in enumerate(units):
            for m, (_, rate, hours) in enumerate(u.outages, 1):
                to = tuple(m if i == k else v for i, v in enumerate(s))
                if s[k] == 0:
                    q[at[s], at[to]] += rate / 8760
                elif s[k] == m:
                    q[at[s], at[tuple(0 if i == k else v for i, v in enumerate(s))]] += 1 / hours
    q -= np.diag(q.sum(axis=1))
    p = np.linalg.lstsq(np.vstack([q.T, np.ones(len(states))]), np.r_[np.zeros(len(states)), 1.0], rcond=None)[0]
    demand = 52.0
    lost = np.array([75 - sum(u.states()[v][0] for u, v in zip(units, s, strict=True)) < demand for s in states])
    into = sum(p[i] * q[i, j] for i in range(len(states)) for j in range(len(states)) if not lost[i] and lost[j])
    found = adequacy(75.0, table_of(units, 1.0), np.full(8760, demand))
    assert found.lolp == pytest.approx(p[lost].sum(), rel=1e-9)
    assert found.times == pytest.approx(8760 * into, rel=1e-9)


def test_rising_demand_begins_a_loss_of_load_too() -> None:
    table = table_of([unit(10.0, 4.0, 50.0), unit(10.0, 4.0, 50.0)], 1.0)
    day = np.array([5.0] * 12 + [15.0] * 12)
    found = adequacy(20.0, table, np.tile(day, 365))
    low, high = float(table.beyond[16]), float(table.beyond[6])
    turns = 365 * (high - low)
    own = (float(table.entered[16]) + float(table.entered[6])) / 2
    assert found.times == pytest.approx(turns + own, rel=1e-9)
    assert found.lole_d == pytest.approx(365 * high)


def test_a_step_that_does_not_divide_capacities_keeps_their_mean() -> None:
    fine, coarse = (table_of([unit(3.3, 4.0, 50.0), unit(7.7, 2.0, 90.0)], s) for s in (0.1, 1.0))
    assert fine.step * fine.beyond[1:].sum() == pytest.approx(coarse.step * coarse.beyond[1:].sum(), rel=1e-12)


# IEEE Reliability Test System 1979 (IEEE Trans. PAS-98, 2047): load model and units as printed there.
WEEKS = (
    86.2, 90.0, 87.8, 83.4, 88.0, 84.1, 83.2, 80.6, 74.0, 73.7, 71.5, 72.7, 70.4, 75.0, 72.1, 80.0, 75.4, 83.7, 87.0, 88.0,
    85.6, 81.1, 90.0, 88.7, 89.6, 86.1, 75.5, 81.6, 80.1, 88.0, 72.2, 77.6, 80.0, 72.9, 72.6, 70.5, 78.0, 69.5, 72.4, 72.4,
    74.3, 74.4, 80.0, 88.1, 88.5, 90.9, 94.0, 89.0, 94.2, 97.0, 100.0, 95.2,
)  # fmt: skip
DAYS = (93, 100, 98, 96, 94, 77, 75)
WINTER = ((67, 63, 60, 59, 59, 60, 74, 86, 95, 96, 96, 95, 95, 95, 93, 94, 99, 100, 100, 96, 91, 83, 73, 63),
          (78, 72, 68, 66, 64, 65, 66, 70, 80, 88, 90, 91, 90, 88, 87, 87, 91, 100, 99, 97, 94, 92, 87, 81))  # fmt: skip
SUMMER = ((64, 60, 58, 56, 56, 58, 64, 76, 87, 95, 99, 100, 99, 100, 100, 97, 96, 96, 93, 92, 92, 93, 87, 72),
          (74, 70, 66, 65, 64, 62, 62, 66, 81, 86, 91, 93, 93, 92, 91, 91, 92, 94, 95, 95, 100, 93, 88, 80))  # fmt: skip
BETWEEN = ((63, 62, 60, 58, 59, 65, 72, 85, 95, 99, 100, 99, 93, 92, 90, 88, 90, 92, 96, 98, 96, 90, 80, 70),
           (75, 73, 69, 66, 65, 65, 68, 74, 83, 89, 92, 94, 91, 90, 90, 86, 85, 88, 92, 100, 97, 95, 90, 85))  # fmt: skip
MACHINES = (
    (5, 12, 2940, 60), (4, 20, 450, 50), (6, 50, 1980, 20), (4, 76, 1960, 40), (3, 100, 1200, 50), (4, 155, 960, 40),
    (3, 197, 950, 50), (1, 350, 1150, 100), (2, 400, 1100, 150),
)  # fmt: skip


def test_the_published_reliability_test_system_to_its_printed_digits() -> None:
    """LOLE 9.39418 h and EENS 1176 MWh by hours, 1.36886 days by daily peaks (R. N. Allan, R. Billinton, N. M. K. Abdel-Gawad,
    Trans. PWRS-1, no. 4, 1986), exact states without rounding, 364 days."""
    demand, peaks = [], []
    for w, week in enumerate(WEEKS, 1):
        season = WINTER if w <= 8 or w >= 44 else SUMMER if 18 <= w <= 30 else BETWEEN
        for d, day in enumerate(DAYS):
            peaks.append(2850 * week / 100 * day / 100)
            demand += [peaks[-1] * h / 100 for h in season[d >= 5]]
    units = [
        Unit("u", "u", float(mw), ((float(mw), 8760 / up, float(down)),))
        for n, mw, up, down in MACHINES
        for _ in range(n)
    ]
    assert sum(u.capacity for u in units) == 3405
    table = table_of(units, 1.0)
    hours = adequacy(3405.0, table, np.array(demand))
    per_span = len(demand) / 8760
    assert round(hours.lole_h * per_span, 5) == 9.39418
    assert round(hours.eens_mwh * per_span) == 1176
    assert round(float(table.at_least(3405 - np.array(peaks) + 1e-6)[0].sum()), 5) == 1.36886


def system(**more: Any) -> Network:
    return network(
        bus("b"), source("b", most_mw=8.0, failure_rate=2.0, repair_h=10.0), load("b", 10.0),
        {"kind": "generator", "id": "g", "bus": "b", "energy": "thermal", "active_power_mw": 5.0, "rated_mva": 6.0,
         "failure_rate": 5.0, "repair_h": 40.0, **more},
    )  # fmt: skip


def test_a_network_by_hand() -> None:
    result = run_study("adequacy", system(), losses_pct=0.0)
    us, ug = 20 / 8780, 200 / 8960
    assert result.summary["lolp"] == pytest.approx(1 - (1 - us) * (1 - ug), rel=1e-9)
    missing = 8760 * ((1 - us) * ug * 2 + us * (1 - ug) * 4 + us * ug * 10)
    assert result.summary["eens_mwh"] == pytest.approx(missing, rel=1e-9)
    units = result.tables["units"]
    assert dict(zip(units["id"], units["capacity_mw"], strict=True)) == {"source-b": 8.0, "g": 6.0}
    partly = run_study("adequacy", system(partial_rate=6.0, partial_h=20.0, partial_mw=1.0), losses_pct=0.0)
    assert (partly.summary["lolp"] or 0) > (result.summary["lolp"] or 0)


def test_wind_storage_growth_and_losses_change_what_units_have_to_cover() -> None:
    def peak(*more: Any, **options: Any) -> float:
        net = network(
            *[i.model_dump(exclude_none=True) for i in system().items.values() if i.kind != "settings"], *more
        )
        return float(run_study("adequacy", net, **{"losses_pct": 0.0, **options}).summary["peak_mw"] or 0)

    day = [0.5] * 18 + [1.0] * 6
    shape = {"kind": "profile", "id": "d", "scales": "class", "key": "domestic", "packed": pack(day)}
    wind = {"kind": "generator", "id": "w", "bus": "b", "energy": "wind", "active_power_mw": 4.0, "rated_mva": 4.0}
    blow = {"kind": "profile", "id": "wp", "scales": "energy", "key": "wind", "packed": pack([0.5] * 24)}
    battery = {"kind": "generator", "id": "s", "bus": "b", "energy": "storage", "rated_mva": 2.0, "energy_mwh": 6.0,
               "active_power_mw": 0.0, "round_trip_pct": 80.0}  # fmt: skip
    assert peak() == pytest.approx(10.0)
    assert peak(losses_pct=5.0) == pytest.approx(10.5)
    assert peak(shape, wind, blow) == pytest.approx(8.0)
    # 6 MWh over six hours take one megawatt off each; 7.5 MWh go in over eighteen.
    assert peak(shape, battery) == pytest.approx(9.0, rel=1e-6)
    assert peak(shape, battery, storage=False) == pytest.approx(10.0)
    grows = {"kind": "growth", "id": "g1", "demand_class": "domestic", "from_year": 2025, "pct_per_year": 10.0}
    assert peak(grows, year=2027) == pytest.approx(12.1)


def test_nothing_that_counts_as_supply_is_refused_with_a_way_out() -> None:
    net = network(bus("b"), source("b"), load("b", 1.0))
    with pytest.raises(InvalidFields, match="supply_mw"):
        run_study("adequacy", net)
    assert run_study("adequacy", net, supply_mw=2.0, typical=False).summary["lole_h"] == 0.0
    short = run_study("adequacy", net, supply_mw=0.5, losses_pct=0.0, most_h=3.0)
    assert short.summary["lole_h"] == pytest.approx(8760)
    assert short.findings[0].quantity == "lole_h"


# --- with the network
# ---------------------------------------------------------------------------------------------------------------


def three_buses(rating_a: float) -> Network:
    """A machine and a supply on two sides of a load, two lines of different ratings; 11 kV at unity power factor."""
    gear = {"r_ohm_per_km": 0.0, "x_ohm_per_km": 0.3, "length_km": 2.0}
    return network(
        bus("a"), bus("b"), bus("c"), source("a", most_mw=8.0, failure_rate=2.0, repair_h=20.0), load("c", 10.0),
        {"kind": "generator", "id": "g", "bus": "b", "energy": "thermal", "active_power_mw": 5.0, "rated_mva": 7.0,
         "failure_rate": 5.0, "repair_h": 40.0},
        line("a", "c", rating_a=rating_a, failure_rate=1.0, repair_h=30.0, **gear),
        line("b", "c", rating_a=1000.0, failure_rate=0.5, repair_h=60.0, **gear),
    )  # fmt: skip


@pytest.mark.parametrize("rating", [200.0, 330.0, 1000.0])
def test_with_the_network_every_state_is_what_sums_on_paper_give(rating: float) -> None:
    """Both supplies are radial to the load: what it gets is the sum of the lesser of unit and line on either side."""
    result = run_study("adequacy", three_buses(rating), losses_pct=0.0, network="enumerated", from_kv=1.0, levels=1)
    most = rating * 11 * 3**0.5 / 1000
    away = {"source-b": 40 / 8800, "g": 200 / 8960, "a-c": 60 / 8820, "b-c": 60 / 8820}
    names = list(away)
    lolp = eens = 0.0
    for states in product((0, 1), repeat=4):
        if sum(states) > 2:
            continue
        p = float(np.prod([away[n] if s else 1 - away[n] for n, s in zip(names, states, strict=True)]))
        from_a = 0.0 if states[0] or states[2] else min(8.0, most)
        from_b = 0.0 if states[1] or states[3] else min(7.0, 1000 * 11 * 3**0.5 / 1000)
        shed = max(10.0 - from_a - from_b, 0.0)
        lolp += p * (shed > 1e-6)
        eens += p * shed
    rows = dict(zip(result.tables["composite"]["name"], result.tables["composite"]["value"], strict=True))
    assert rows["LOLE with the network"] == pytest.approx(8760 * lolp, rel=1e-9)
    assert rows["EENS with the network"] == pytest.approx(8760 * eens, rel=1e-6)
    drawn = run_study(
        "adequacy", three_buses(rating), losses_pct=0.0, network="sampled", from_kv=1.0, levels=1, samples=20_000
    )
    sampled = dict(zip(drawn.tables["composite"]["name"], drawn.tables["composite"]["value"], strict=True))
    spread = 8760 * (lolp * (1 - lolp) / 20_000) ** 0.5
    assert abs(sampled["LOLE with the network"] - 8760 * lolp) < 5 * spread + 8760 * 1e-3


@pytest.mark.parametrize("rating", [200.0, 1000.0])
def test_states_put_into_the_ac_load_flow_are_load_flows_made_by_hand(rating: float) -> None:
    """With one supply away the other carries all that is not shed; where a line binds in the linear equations reactive
    power takes it above its rating."""
    net = three_buses(rating)
    if rating < 500:
        net.apply([Update(id="load-c", values={"reactive_power_mvar": 4.0})])  # which linear equations don't carry
    options = {
        "losses_pct": 0.0,
        "network": "enumerated",
        "from_kv": 1.0,
        "levels": 1,
        "limit_set": "normal",
        "checked": 50,
    }
    table = run_study("adequacy", net, **options).tables["checked"]
    names = {net["g"].name: "g", net["source-a"].name: "source-a"}
    rows = dict(zip(table["name"], zip(table["shed_mw"], table["worst_pct"], table["holds"], strict=True), strict=True))
    for name, ident in names.items():
        shed, worst, holds = rows[name]
        by_hand, q = net.copy(), net["load-c"].reactive_power_mvar or 0.0  # type: ignore[attr-defined]
        by_hand.apply(
            [
                Update(id=ident, values={"in_service": False}),
                Update(id="load-c", values={"active_power_mw": 10 - shed, "reactive_power_mvar": q * (1 - shed / 10)}),
            ]
        )
        if ident == "source-a":
            by_hand = Network.from_items([*by_hand.to_items(), source("b", id="instead")])
            by_hand.apply([Update(id="g", values={"in_service": False})])
        loading = np.nanmax(solve_as_set(by_hand).tables["branches"]["loading_pct"])
        assert worst == pytest.approx(loading, rel=1e-6)
        assert holds == (loading <= 100.5 and worst <= 100.5)
    assert rows[net["g"].name][2] is (rating > 500), "the linear equations let through what AC does not"
    both = f"{net['source-a'].name} + {net['g'].name}"
    assert rows[both][0] == pytest.approx(10.0)
    none = run_study("adequacy", net, **{**options, "checked": 0})
    assert "checked" not in none.tables


def test_a_part_that_lost_its_source_is_fed_by_its_own_unit_in_the_ac_load_flow_too() -> None:
    """With the only line away the unit feeds its side alone, in both; what is not shed there has a voltage."""
    net = network(
        bus("a"), bus("b"), source("a", most_mw=8.0, failure_rate=0.0), load("a", 3.0), load("b", 4.0),
        {"kind": "generator", "id": "g", "bus": "b", "energy": "thermal", "active_power_mw": 3.0, "rated_mva": 3.0,
         "failure_rate": 0.0},
        line("a", "b", rating_a=1000.0, failure_rate=1.0, repair_h=30.0),
    )  # fmt: skip
    options = {"losses_pct": 0.0, "network": "enumerated", "from_kv": 1.0, "levels": 1, "typical": False, "checked": 5}
    table = run_study("adequacy", net, **options).tables["checked"]
    row = next(r for r in table.records() if r["name"] == net["a-b"].name)
    assert row["shed_mw"] == pytest.approx(1.0)
    assert row["solved"]
    assert row["fed_mw"] == pytest.approx(6.0)


def test_a_strong_network_leaves_adequacy_what_it_is() -> None:
    plain = run_study("adequacy", system(), losses_pct=0.0)
    counted = run_study("adequacy", system(), losses_pct=0.0, network="enumerated")
    rows = dict(zip(counted.tables["composite"]["name"], counted.tables["composite"]["value"], strict=True))
    assert rows["States covered"] == pytest.approx(100.0)
    assert rows["LOLE with the network"] == pytest.approx(plain.summary["lole_h"], rel=1e-9)
    assert rows["EENS with the network"] == pytest.approx(plain.summary["eens_mwh"], rel=1e-9)


def test_power_divides_by_reactance_so_that_a_weak_line_beside_a_strong_one_binds() -> None:
    """Two lines in parallel, the weak one of half the reactance takes two thirds: nine MW through it let 13.5 through both."""
    net = network(
        bus("a"), bus("c"), source("a", most_mw=30.0), load("c", 20.0),
        line("a", "c", r_ohm_per_km=0.0, x_ohm_per_km=0.3, rating_a=9.0 / (11 * 3**0.5) * 1000, failure_rate=0.0),
        line("a", "c", r_ohm_per_km=0.0, x_ohm_per_km=0.6, rating_a=2000.0, failure_rate=0.0) | {"id": "second"},
    )  # fmt: skip
    result = run_study("adequacy", net, losses_pct=0.0, network="enumerated", levels=1, typical=False)
    rows = dict(zip(result.tables["composite"]["name"], result.tables["composite"]["value"], strict=True))
    assert rows["EENS with the network"] == pytest.approx(8760 * 6.5, rel=1e-6)
    assert rows["of it with nothing away"] == pytest.approx(8760 * 6.5, rel=1e-6)
