"""What to build and when: against exhaustive search, sums on paper, and load flows of its own."""

from __future__ import annotations

import random
from dataclasses import replace
from itertools import product
from typing import Any

import numpy as np
import pytest

from tests.helpers import at, bus, line, load, network, run_study, source, transformer
from vastmesh.core.checks import run_checks
from vastmesh.core.errors import InvalidFields
from vastmesh.core.network import Add, Condition, Growth, Network, Plan, Remove, Scheme, Update
from vastmesh.core.network.growth import grown, states_in
from vastmesh.core.results.state import LiveUnbalanced, run_load_flow
from vastmesh.core.studies import STUDIES, Inputs
from vastmesh.core.studies.planning._mixed_integer import mixed_integer
from vastmesh.core.studies.planning._money import discount, of_schemes, present, yearly
from vastmesh.core.studies.planning._options import BoardOptions, Money
from vastmesh.core.studies.planning._search import closed, exact, greedy
from vastmesh.core.studies.planning._standing import Standing, Under
from vastmesh.core.studies.planning._state_cost import Set


def scheme(ident: str, cost: float = 100.0, *, year: int | None = None, life: int = 40, **more: Any) -> Scheme:
    return Scheme(id=ident, cost_k=cost, year=year, life_years=life, **more)


def made_up(seed: int, names: list[str]) -> Any:
    """What any set is worth in any year: random, but more of what helps."""
    dice = random.Random(seed)
    helps = {n: (dice.uniform(0, 2), dice.uniform(0, 60), dice.randint(0, 3)) for n in names}
    together = dice.uniform(0.5, 1.5)

    def of(chosen: Set, year: int) -> Standing:
        grows = 1 + 0.15 * (year - 2026)
        a, b, c = (sum(helps[s][k] for s in chosen) for k in range(3))
        breaches = max(0, round(6 * grows) - c - (2 if len(chosen) > 2 else 0))
        under = Under("now", True, losses_mw=max(0.5, 5 * grows - a * together), breaches=breaches)
        return Standing((under,), saidi=1.0, cost_k=max(5.0, 150 * grows - b))

    return of


@pytest.mark.parametrize("seed", range(12))
def test_the_best_plan_is_that_of_exhaustive_search(seed: int) -> None:
    dice = random.Random(1000 + seed)
    names = ["a", "b", "c", "d"][: dice.randint(2, 4)]
    needs = {names[1]: names[0]} if dice.random() < 0.5 else {}
    schemes = {
        n: scheme(
            n, dice.uniform(20, 900), yearly_cost_k=dice.uniform(0, 10), life=dice.randint(5, 50), needs=needs.get(n)
        )
        for n in names
    }
    money = Money(years=9, every=3, breach_k=dice.uniform(0, 80))
    worth = made_up(seed, names)
    years: list[int | None] = [*money.solved_years(), None]
    best = np.inf
    for chosen in product(years, repeat=len(names)):
        plan = {n: y for n, y in zip(names, chosen, strict=True) if y is not None}
        if any(schemes[n].needs and plan.get(schemes[n].needs or "", 9999) > y for n, y in plan.items()):
            continue
        own = present(
            list(plan.items()), schemes, lambda y, p=plan: worth(frozenset(s for s, v in p.items() if v <= y), y), money
        )  # type: ignore[misc]
        best = min(best, own.weighed)
    found = exact(schemes, money, worth)
    assert found.cost_k == pytest.approx(best, rel=1e-12)
    again = present(found.steps, schemes, lambda y: worth(frozenset(s for s, v in found.steps if v <= y), y), money)
    assert again.weighed == pytest.approx(found.cost_k, rel=1e-12)
    proven = mixed_integer(schemes, money, worth)
    assert proven.found.cost_k == pytest.approx(best, rel=1e-9)
    assert proven.least_k == pytest.approx(best, rel=1e-5)
    assert proven.found.looked_at <= 2 ** len(names) * len(money.solved_years())
    quick = greedy(schemes, money, worth)
    assert quick.cost_k >= best - 1e-9
    assert quick.cost_k <= best * 1.05
    assert quick.looked_at <= found.looked_at


def hindering(seed: int, names: list[str]) -> Any:
    """A world in which one scheme makes years dearer and another mends that."""
    plain = made_up(seed, names)

    def of(chosen: Set, year: int) -> Standing:
        found = plain(chosen, year)
        more = 2000.0 if names[0] in chosen and names[-1] not in chosen else 0.0
        return replace(found, cost_k=found.cost_k + more)

    return of


@pytest.mark.parametrize("seed", range(3))
@pytest.mark.parametrize("world", [made_up, hindering])
def test_the_mixed_integer_search_proves_what_exact_finds_and_solves_fewer_states(seed: int, world: Any) -> None:
    dice = random.Random(2000 + seed)
    names = ["a", "b", "c", "d", "e"]
    schemes = {n: scheme(n, dice.uniform(100, 900), needs="a" if n == "b" and seed % 2 else None) for n in names}
    money = Money(years=4, every=2, breach_k=dice.uniform(0, 80))
    worth = world(seed, names)
    best = exact(schemes, money, worth)
    proven = mixed_integer(schemes, money, worth)
    assert proven.found.cost_k == pytest.approx(best.cost_k, rel=1e-9)
    assert proven.monotone == (world is made_up)
    assert proven.least_k == pytest.approx(best.cost_k, rel=1e-5)
    assert proven.found.looked_at <= best.looked_at
    # Stopped early it says truly what could still be won.
    early = mixed_integer(schemes, money, worth, most=8)
    assert early.found.looked_at <= 8
    assert early.found.cost_k >= best.cost_k - 1e-9
    if early.monotone == proven.monotone:
        assert early.least_k <= best.cost_k * (1 + 1e-5)


def test_sets_without_what_they_need_are_no_sets() -> None:
    schemes = {"a": scheme("a"), "b": scheme("b", needs="a")}
    assert closed(frozenset(), schemes)
    assert closed(frozenset("ab"), schemes)
    assert not closed(frozenset("b"), schemes)


def test_money_as_on_paper() -> None:
    money = Money(
        from_year=2026, years=10, every=5, discount_pct=10.0, loss_price=50.0, loss_hours=2000.0, breach_k=7.0
    )
    schemes = {"a": scheme("a", 1000.0, yearly_cost_k=20.0, life=20)}
    investment, operation, residual = of_schemes([("a", 2028)], schemes, money)
    assert investment == pytest.approx(1000 / 1.1**2)
    assert operation == pytest.approx(sum(20 / 1.1**t for t in range(2, 10)))
    assert residual == pytest.approx(-1000 * 12 / 20 / 1.1**10)
    assert of_schemes([("a", 2036)], schemes, money) == (0.0, 0.0, 0.0)
    assert of_schemes([("a", 1990)], schemes, money)[0] == pytest.approx(1000.0)
    standing = Standing((Under("now", True, losses_mw=3.0, breaches=2),), cost_k=40.0, ens_mwh=5.0)
    assert yearly(standing, money) == (pytest.approx(300.0), 40.0, 14.0)
    assert yearly(standing, money.model_copy(update={"interruptions": "energy"}))[1] == pytest.approx(40.0)
    assert yearly(standing, money.model_copy(update={"interruptions": "none"}))[1] == 0.0
    whole = present([], {}, lambda _: standing, money)
    assert whole.losses == pytest.approx(300 * sum(1.1**-t for t in range(10)))
    assert discount(money, 2028) == pytest.approx(1.1**-2)


@pytest.mark.parametrize("shape", ["each_year", "s_curve"])
def test_growth_begins_at_what_is_entered_and_goes_where_it_says(shape: Any) -> None:
    g = Growth(id="g", shape=shape, from_year=2025, pct_per_year=3.0, end_pct=250.0, half_year=2035, takes_years=6.0)
    assert g.factor(2020) == g.factor(2025) == 1.0
    if shape == "each_year":
        assert g.factor(2035) == pytest.approx(1.03**10)
    else:
        assert g.factor(2150) == pytest.approx(2.5)
        assert g.factor(2038) - g.factor(2032) == pytest.approx(0.8 * 1.5, rel=0.01)
        values = [g.factor(y) for y in range(2025, 2060)]
        assert values == sorted(values)


def test_growth_by_class_and_area_multiplies_and_leaves_the_rest() -> None:
    net = network(
        {"kind": "area", "id": "n", "name": "North"}, bus("a", area="n"), bus("b"), source("a"), line("a", "b"),
        load("a", 2.0, 1.0, demand_class="homes"), load("b", 3.0, 1.0, demand_class="homes"),
        {"kind": "load", "id": "works", "bus": "b", "current_a": 40.0, "power_factor": 0.9, "demand_class": "works"},
        {"kind": "growth", "id": "g1", "demand_class": "homes", "from_year": 2025, "pct_per_year": 10.0},
        {"kind": "growth", "id": "g2", "area": "n", "from_year": 2025, "pct_per_year": 20.0},
    )  # fmt: skip
    later = grown(net, 2026)
    assert later["load-a"].active_power_mw == pytest.approx(2 * 1.1 * 1.2)  # type: ignore[attr-defined]
    assert later["load-b"].reactive_power_mvar == pytest.approx(1.1)  # type: ignore[attr-defined]
    assert later["works"].current_a == 40.0  # type: ignore[attr-defined]
    assert grown(net, 2027, 0.5)["load-b"].active_power_mw == pytest.approx(3 * 1.1)  # type: ignore[attr-defined]
    assert net["load-a"].active_power_mw == 2.0  # type: ignore[attr-defined]


def town() -> Network:
    """A line that becomes too weak, a second one as a scheme, and one that needs it."""

    def adds(ident: str, *items: dict[str, Any], **more: Any) -> dict[str, Any]:
        changes = [{"change": {"op": "add", "item": i}, "label": ident} for i in items]
        return {"kind": "scheme", "id": ident, "name": ident, "changes": changes, **more}

    strong = {"kind": "line", "id": "s-e 2", "from_bus": "s", "to_bus": "e", "length_km": 4.0, "r_ohm_per_km": 0.2,
              "x_ohm_per_km": 0.3, "rating_a": 200.0, "from_gear": "breaker", "to_gear": "breaker"}  # fmt: skip
    capacitor = {"kind": "shunt", "id": "cap", "bus": "e", "step_mvar": 0.5, "steps": 1, "steps_on": 1}
    return network(
        bus("s"),
        bus("e"),
        source("s"),
        line(
            "s",
            "e",
            length_km=4.0,
            rating_a=120.0,
            failure_rate=0.2,
            repair_h=5.0,
            from_gear="breaker",
            to_gear="breaker",
        ),
        load("e", 2.0, 0.6, customers=400),
        {"kind": "growth", "id": "g", "from_year": 2026, "pct_per_year": 4.0},
        adds("second", strong, cost_k=200.0, year=2028),
        adds("bank", capacitor, cost_k=15.0, year=2030, needs="second"),
        {
            "kind": "plan",
            "id": "p",
            "name": "Both",
            "steps": [{"scheme": "second", "year": 2027}, {"scheme": "bank", "year": 2029}],
        },
    )


def board(net: Network, **more: Any) -> Any:
    return run_study("board", Inputs.of(net), **{"years": 6, "every": 1, "outages": False, **more})


def test_every_cell_of_the_board_is_a_load_flow_of_that_year_and_those_schemes() -> None:
    net = town()
    result = board(net)
    rows = {(r["name"], r["year"]): r for r in result.tables["board"].records()}
    assert len(rows) == 4 * 6
    for (name, year), row in rows.items():
        years = {
            "as it is": {},
            "second": {"second": 2028},
            "bank": {"second": 2028, "bank": 2030},
            "Both": {"second": 2027, "bank": 2029},
        }
        chosen = tuple(s for s, y in years[name].items() if y <= int(year))
        trial = grown(Inputs.of(net).laid(chosen).network, int(year))
        flow = run_load_flow(trial)
        assert row["losses_mw"] == pytest.approx(flow.summary["active_loss_mw"], abs=1e-9), (name, year)
        assert row["worst_pct"] == pytest.approx(float(np.nanmax(flow.tables["branches"]["loading_pct"])), abs=1e-6)
        assert row["low_pu"] == pytest.approx(float(np.nanmin(flow.tables["buses"]["voltage_pu"])), abs=1e-9)
    ways = {r["name"]: r for r in result.tables["ways"].records()}
    first = next(y for y in range(2026, 2032) if rows["as it is", str(y)]["breaches"])
    assert ways["as it is"]["trouble"] == str(first)
    passed = {(r["way"], r["id"], r["limit"]): (r["year"], r["kept"]) for r in result.tables["passed"].records()}
    assert passed["as it is", "s-e", "loading above"] == (str(first), "")
    # A second line is there before the first one is too weak.
    assert first >= 2028
    assert ("second", "s-e", "loading above") not in passed
    for (way, ident, _), (year, _kept) in passed.items():
        flow = run_load_flow(grown(net, int(year))) if way == "as it is" else None
        assert flow is None or ident in {f.element for f in flow.findings}
    assert ways["Both"]["saidi_h"] < ways["as it is"]["saidi_h"]


def test_what_passes_a_limit_is_told_with_the_year_from_which_it_is_within_again() -> None:
    """Too weak from the first year on; the second line relieves it in the year in which it is there."""
    net = town()
    net.apply([Update(id="load-e", values={"active_power_mw": 2.6, "reactive_power_mvar": 1.2})])
    passed = {(r["way"], r["id"], r["limit"]): r for r in board(net, interruptions="none").tables["passed"].records()}
    alone, relieved = (passed[way, "s-e", "loading above"] for way in ("as it is", "second"))
    assert (alone["year"], alone["kept"]) == ("2026", "")
    assert (relieved["year"], relieved["kept"]) == ("2026", "2028")


def test_the_workings_of_a_plan_come_to_its_net_present_cost() -> None:
    net = town()
    options = {"years": 6, "every": 2, "outages": False}
    result = board(net, **options)
    explain = STUDIES["board"].explain
    assert explain is not None
    for ident in ("p", "second"):
        (working,) = explain(net, result, net.condition, ident, options)
        total = at(result, "ways", ident, "total_k")
        assert working.ledger[-1].value == pytest.approx(total, rel=1e-12)
    assert explain(net, result, net.condition, "s-e", options) == []


def test_scenarios_of_growth_tell_regret_and_what_the_cost_hangs_on() -> None:
    result = board(town(), growth="scenarios", every=3)
    regret = result.tables["regret"]
    for name in ("growth_50", "growth_100", "growth_150"):
        assert min(regret[name]) == pytest.approx(0.0, abs=1e-9)
    assert list(regret["most"]) == pytest.approx(
        np.max([regret["growth_50"], regret["growth_100"], regret["growth_150"]], axis=0)
    )
    spans = result.tables["sensitivity"]
    assert list(spans["span_k"]) == sorted(spans["span_k"], reverse=True)
    rows = {r["name"]: r for r in spans.records()}
    assert (
        rows["Price of losses ± 50 %"]["low_k"]
        < rows["Price of losses ± 50 %"]["base_k"]
        < rows["Price of losses ± 50 %"]["high_k"]
    )
    assert any("Growth" in n for n in spans["name"])


def test_plans_that_cannot_be_carried_out_are_named_with_a_remedy() -> None:
    net = town()
    net.apply(
        [Update(id="p", values={"steps": [{"scheme": "bank", "year": 2027}, {"scheme": "second", "year": 2029}]})]
    )
    with pytest.raises(InvalidFields, match="bank needs second"):
        board(net)
    net.apply([Update(id="p", values={"steps": [{"scheme": "gone", "year": 2027}]})])
    with pytest.raises(InvalidFields, match="no such scheme"):
        board(net)
    with pytest.raises(InvalidFields, match="twice"):
        net.apply([Update(id="p", values={"steps": [{"scheme": "a", "year": 2027}, {"scheme": "a", "year": 2028}]})])
    empty = network(bus("s"), bus("e"), source("s"), line("s", "e"), load("e", 1.0))
    with pytest.raises(InvalidFields, match="no plan and no scheme"):
        board(empty)
    with pytest.raises(InvalidFields, match="no scheme to choose from"):
        run_study("best_plan", Inputs.of(empty))


def test_the_model_check_points_at_plans_out_of_order_and_at_what_is_gone() -> None:
    net = town()
    assert [c for c in run_checks(net) if c.rule in ("common_failure", "plan")] == []
    net.apply([
        Add(item={"kind": "common_failure", "id": "cf", "members": ["nothing"], "failure_rate": 0.1, "repair_h": 2.0}),
        Update(id="p", values={"steps": [{"scheme": "bank", "year": 2027}, {"scheme": "gone", "year": 2029}]}),
    ])  # fmt: skip
    found = [(c.element, c.field) for c in run_checks(net) if c.rule in ("common_failure", "plan")]
    assert found == [("cf", "members"), ("p", "steps"), ("p", "steps")]


def test_the_best_plan_of_a_network_is_the_cheapest_of_all_orders_on_the_board() -> None:
    net = town()
    options: dict[str, Any] = {"years": 6, "every": 2, "breach_k": 100.0}
    result = run_study("best_plan", Inputs.of(net), **options)
    plans = [()] + [(("second", a),) for a in (2026, 2028, 2030)]
    plans += [(("second", a), ("bank", b)) for a in (2026, 2028, 2030) for b in (2026, 2028, 2030) if a <= b]
    costs = []
    for steps in plans:
        trial = net.copy()
        trial.apply([Update(id="p", values={"steps": [{"scheme": s, "year": y} for s, y in steps]})])
        found = board(trial, of="plans", **options).tables["ways"].records()[1]
        costs.append(found["total_k"] + found["breaches_k"])
    assert result.summary["weighed_k"] == pytest.approx(min(costs), rel=1e-9)
    quick = run_study("best_plan", Inputs.of(net), method="greedy", **options)
    assert quick.summary["weighed_k"] == pytest.approx(min(costs), rel=1e-9)


def test_proposals_do_what_they_promise_when_they_are_built() -> None:
    net = town()
    net.apply([Update(id="load-e", values={"active_power_mw": 2.6, "reactive_power_mvar": 1.2})])
    result = run_study("proposals", Inputs.of(net))
    rows = result.tables["proposals"].records()
    kinds = {r["what"] for r in rows}
    assert {"second circuit", "indicator"} <= kinds
    assert [r["ratio"] for r in rows] == sorted((r["ratio"] for r in rows), reverse=True)
    second = run_study("proposals", Inputs.of(net), take="Second circuit: s-e")
    from vastmesh.core.network import SchemeChange

    built = net.copy()
    built.apply([SchemeChange.model_validate(c).change for c in second.scheme])
    flow = run_load_flow(built)
    row = next(r for r in rows if r["name"] == "Second circuit: s-e")
    assert row["worst_pct"] == pytest.approx(float(np.nanmax(flow.tables["branches"]["loading_pct"])), abs=1e-6)
    assert row["cured"] == 1
    assert row["losses_kw"] == pytest.approx(
        1000 * (run_load_flow(net).summary["active_loss_mw"] - flow.summary["active_loss_mw"]), abs=1e-6
    )  # type: ignore[operator]
    assert row["worth_k"] > 0
    stored = run_study("proposals", Inputs.of(net), take=next(r["name"] for r in rows if r["what"] == "storage"))
    with_storage = net.copy()
    with_storage.apply([SchemeChange.model_validate(c).change for c in stored.scheme])
    before, after = (at(run_load_flow(n), "branches", "s-e", "loading_pct") for n in (net, with_storage))
    assert before > 100 > after
    assert after == pytest.approx(88.0, abs=6.0), "what is given brings the line to about what it is to carry"
    assert with_storage[stored.scheme[0]["change"]["item"]["id"]].energy_mwh is not None  # type: ignore[attr-defined]


def test_proposals_become_schemes_of_the_best_plan_where_they_are_worth_it() -> None:
    """Stood beside no scheme at all they are what the plan is made of; made schemes of the model it is found again."""
    net = town()
    net.apply([Update(id="load-e", values={"active_power_mw": 2.6, "reactive_power_mvar": 1.2})])
    net.apply([Remove(id=s.id) for s in (*net.of(Plan), *net.of(Scheme))])
    options: dict[str, Any] = {"years": 4, "every": 2, "conditions": "present", "method": "exact"}
    result = run_study("best_plan", Inputs.of(net), proposals=3, **options)
    assert result.account.converged, result.account
    rows = result.tables["plan"].records()
    assert rows
    assert all(r["id"].startswith("proposal-") for r in rows)
    assert result.summary["weighed_k"] < result.summary["nothing_k"]  # type: ignore[operator]
    assert any("stood beside" in n for n in result.account.notes)
    entries = {r["name"]: [e for e in result.scheme if e["group"] == r["name"]] for r in rows}
    assert all(entries.values())
    made = net.copy()
    made.apply([
        Add(item={"kind": "scheme", "id": name, "name": name, "changes": found, "cost_k": next(
            r["cost_k"] for r in rows if r["name"] == name)}) for name, found in entries.items()
    ])  # fmt: skip
    again = run_study("best_plan", Inputs.of(made), **options)
    assert {(r["name"], r["year"]) for r in again.tables["plan"].records()} == {(r["name"], r["year"]) for r in rows}
    assert again.summary["weighed_k"] == pytest.approx(result.summary["weighed_k"])
    with pytest.raises(InvalidFields, match="no scheme to choose from"):
        run_study("best_plan", Inputs.of(net), **options)


def test_a_tie_is_closed_and_its_ring_opened_elsewhere_where_that_relieves_a_feeder() -> None:
    """Two feeders, one with twice the load, joined at their ends by an open tie."""
    buses = ["a1", "a2", "a3", "b1", "b2"]
    net = network(
        bus("s"), *(bus(b) for b in buses), source("s"), line("s", "a1", rating_a=150), line("a1", "a2", rating_a=150),
        line("a2", "a3", rating_a=150), line("s", "b1", rating_a=150), line("b1", "b2", rating_a=150),
        *(load(b, 1.1, 0.2, customers=100) for b in ("a1", "a2", "a3")), load("b2", 0.4, 0.1, customers=50),
        {"kind": "switch", "id": "tie", "from_bus": "a3", "to_bus": "b2", "device": "disconnector", "closed": False},
    )  # fmt: skip
    result = run_study("proposals", Inputs.of(net), capacity=False, voltage=False, storage=False)
    moved = [r for r in result.tables["proposals"].records() if r["what"] == "open point"]
    assert {r["name"] for r in moved} == {"Open at a2-a3, close tie", "Open at a1-a2, close tie"}
    for row in moved:
        section = row["name"].split(",")[0].removeprefix("Open at ")
        built = net.copy()
        built.apply([Update(id="tie", values={"closed": True}), Update(id=section, values={"in_service": False})])
        flow = run_load_flow(built)
        assert row["worst_pct"] == pytest.approx(float(np.nanmax(flow.tables["branches"]["loading_pct"])), abs=1e-6)
        assert np.all(np.isfinite(flow.tables["buses"]["voltage_pu"])), "nothing is cut off"
    assert max(r["cured"] for r in moved) >= 1


def test_board_options_solve_the_years_they_say() -> None:
    assert BoardOptions(from_year=2026, years=10, every=4).solved_years() == [2026, 2030, 2034]


def test_what_comes_and_goes_by_year_is_in_service_then_and_no_sooner() -> None:
    net = network(
        bus("s"), bus("e"), source("s"), line("s", "e", id="old", until_year=2030), line("s", "e", id="young", from_year=2029),
        load("e", 2.0, 0.5), load("e", 1.0, 0.2, id="estate", from_year=2028, in_service=False),
        load("e", 0.5, 0.1, id="mill", until_year=2027), load("e", 0.3, 0.1, id="fair", from_year=2027, until_year=2029),
    )  # fmt: skip
    assert states_in(net, 2026) == {"young": False, "fair": False}
    assert states_in(net, 2028) == {"young": False, "estate": True, "mill": False}
    assert states_in(net, 2030) == {"old": False, "estate": True, "mill": False, "fair": False}
    for year, mw in ((2026, 2.5), (2027, 2.3), (2028, 3.3), (2029, 3.0), (2031, 3.0)):
        flow = run_load_flow(grown(net, year))
        assert flow.summary["demand_mw"] == pytest.approx(mw), year
    assert net["estate"].in_service is False  # type: ignore[attr-defined]
    # A state of switching under the condition goes before it.
    out = Condition(id="c", name="c", states={"young": "out", "old": "out"})
    assert run_load_flow(grown(net, 2031), None, out).summary["dead_buses"] == 1
    with pytest.raises(InvalidFields, match="the end of its life must be after 2029"):
        net.apply([Update(id="young", values={"until_year": 2029})])


def test_the_board_sees_the_end_of_a_life_and_a_renewal_puts_it_off() -> None:
    net = town()
    net.apply([Update(id="s-e", values={"until_year": 2029, "rating_a": 400.0})])
    result = board(net, of="schemes", interruptions="none")
    rows = {r["year"]: r for r in result.tables["board"].records() if r["name"] == "as it is"}
    assert [y for y in sorted(rows) if rows[y]["breaches"]] == ["2029", "2030", "2031"]
    assert any(n == "End of life in 2029: s-e." for n in result.account.notes)
    found = run_study("proposals", Inputs.of(net), year=2030, storage=False, switching=False, take="Renewal: s-e")
    row = next(r for r in found.tables["proposals"].records() if r["name"] == "Renewal: s-e")
    assert row["cost_k"] == pytest.approx(60.0 * 4.0)  # kilometres at 11 kV
    assert row["cured"] >= 1
    changes = [c["change"]["values"] for c in found.scheme]
    assert changes == [{"until_year": None, "in_service": True}]
    # With the scheme the board has no trouble any more.
    net.apply([Add(item={"kind": "scheme", "id": "renewed", "name": "renewed", "cost_k": 240.0, "year": 2028,
                         "changes": found.scheme})])  # fmt: skip
    rows = {r["year"]: r for r in board(net, of="schemes", interruptions="none").tables["board"].records()
            if r["name"] == "renewed"}  # fmt: skip
    assert all(r["breaches"] == 0 for r in rows.values())


def street() -> Network:
    """Four houses, three of them on one phase."""
    houses = [
        load(f"n{k}", 0.006, 0.001, id=f"house {k}", conductors=c) for k, c in enumerate(("AN", "AN", "AN", "BN"), 1)
    ]
    return network(
        bus("m", 11.0), source("m"), bus("n0", 0.4, conductors="ABCN"),
        {**transformer("m", "n0", rated_mva=0.1, hv_kv=11.0, lv_kv=0.4), "vector_group": "Dyn11"},
        *(bus(f"n{k}", 0.4, conductors="ABCN") for k in range(1, 5)),
        *(line(f"n{k}", f"n{k + 1}", length_km=0.05, conductors="ABCN", rating_a=200.0) for k in range(4)),
        *houses, {"kind": "growth", "id": "g", "from_year": 2026, "pct_per_year": 2.0},
        {"kind": "scheme", "id": "x", "name": "x", "cost_k": 1.0, "year": 2027,
         "changes": [{"change": {"op": "update", "id": "house 2", "values": {"conductors": "CN"}}, "label": "x"}]},
    )  # fmt: skip


def test_a_board_per_phase_is_made_of_load_flows_per_phase() -> None:
    net = street()
    result = board(net, of="schemes", load_flow="per_phase", interruptions="none", years=3)
    rows = {(r["name"], r["year"]): r for r in result.tables["board"].records()}
    for (name, year), row in rows.items():
        chosen = ("x",) if name == "x" and int(year) >= 2027 else ()
        trial = grown(Inputs.of(net).laid(chosen).network, int(year))
        flow = LiveUnbalanced(trial).solve(trial.condition)
        assert row["losses_mw"] == pytest.approx(flow.summary["active_loss_mw"], rel=1e-6)
        assert row["unbalance_pct"] == pytest.approx(flow.summary["highest_unbalance_pct"], rel=1e-5)
    assert rows["x", "2027"]["unbalance_pct"] < rows["as it is", "2027"]["unbalance_pct"]
    assert "unbalance_pct" not in [c.name for c in board(net, of="schemes", years=1).tables["board"].columns]
    # As set: the same where the settings say per phase.
    net.apply([Add(item={"kind": "settings", "id": "settings", "study": "per_phase"})])
    as_set = board(net, of="schemes", interruptions="none", years=3)
    assert list(as_set.tables["board"]["losses_mw"]) == pytest.approx(list(result.tables["board"]["losses_mw"]))


def test_other_phases_are_proposed_tried_per_phase_and_become_a_scheme() -> None:
    net = street()
    found = run_study("proposals", Inputs.of(net), load_flow="per_phase", switching=False, capacity=False, voltage=False,
                      storage=False)  # fmt: skip
    (row,) = found.tables["proposals"].records()
    assert row["what"] == "balancing"
    moved = {c["change"]["id"] for c in found.scheme}
    assert row["cost_k"] == pytest.approx(0.3 * len(moved))
    before = LiveUnbalanced(net).solve(net.condition)
    after_net = net.copy()
    after_net.apply([Update(id=c["change"]["id"], values=c["change"]["values"]) for c in found.scheme])
    after = LiveUnbalanced(after_net).solve(after_net.condition)
    gain = 1000 * (before.summary["active_loss_mw"] - after.summary["active_loss_mw"])  # type: ignore[operator]
    assert row["losses_kw"] == pytest.approx(gain, rel=1e-4)
    assert gain > 0
    # The best of all ways to put four houses on three phases.
    best = min(_losses_with(net, phases) for phases in product("ABC", repeat=4))
    assert after.summary["active_loss_mw"] == pytest.approx(best, rel=0.05)
    assert found.tables["proposals"].records()[0]["unbalance_pct"] < before.summary["highest_unbalance_pct"]
    balanced = run_study("proposals", Inputs.of(net), switching=False, capacity=False, voltage=False, storage=False)
    assert len(balanced.tables["proposals"]["id"]) == 0


def _losses_with(net: Network, phases: tuple[str, ...]) -> float:
    other = net.copy()
    other.apply([Update(id=f"house {k}", values={"conductors": f"{p}N"}) for k, p in enumerate(phases, 1)])
    return float(LiveUnbalanced(other).solve(other.condition).summary["active_loss_mw"] or 0.0)


def test_ten_years_pass_limits_of_the_demonstration_one_after_the_other(demo: Network) -> None:
    """T-Q1 and the end of the rural feeder today, more of the feeder and the 33 kV circuit to Kesterby in years of their own."""
    net = Network.from_items([i for i in demo.to_items() if i["kind"] != "plan" or i["id"] == "plan-least"])
    options = {"every": 1, "outages": False, "interruptions": "none", "of": "plans", "conditions": "present"}
    passed = run_study("board", net, **options).tables["passed"]
    rows = zip(*(passed[c] for c in ("id", "way", "year")), strict=True)
    first = {ident: int(year) for ident, way, year in rows if way == "as it is"}
    assert first["T-Q1"] == first["Heron End"] == 2026
    assert first["Wick Farm"] == 2027
    assert first["33 kV to Kesterby"] == 2030
    assert first["T-Kesterby"] == 2032
