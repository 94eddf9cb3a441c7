"""Simulated years: they agree with what is worked out where the assumptions are the same, and with queues on paper where not."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from tests.core.test_reliability import PLAIN, feeder, ring
from tests.helpers import bus, line, load, network, run_study, source
from vastmesh.core.errors import InvalidFields
from vastmesh.core.network import Network, Update
from vastmesh.core.network.elements.profile import pack
from vastmesh.core.studies import STUDIES, Inputs, Missing
from vastmesh.core.studies.failures import Course, Ready
from vastmesh.core.studies.failures.weather import Weather
from vastmesh.core.studies.reliability import SimulationOptions
from vastmesh.core.studies.reliability._years import causes_of, simulate


def years(net: Network, n: int, seed: int = 1, **more: Any) -> np.ndarray:
    options = SimulationOptions(**{**PLAIN, "by_profile": False, "seed": seed, **more})
    return simulate(causes_of(Ready(Inputs(net), options), options), options, n, (seed, 0))


def fixed(net: Network) -> Network:
    net.apply([Update(id=e.id, values={"repair_spread": "fixed"}) for e in net.elements() if e.kind == "line"])
    return net


def within(x: np.ndarray, expected: float, sigmas: float = 4.5) -> bool:
    error = x.std(ddof=1) / np.sqrt(len(x))
    return abs(x.mean() - expected) <= sigmas * error + 1e-12


@pytest.mark.parametrize("seed", [1, 2, 3])
@pytest.mark.parametrize("more", [{}, {"fuse_fails_pct": 20.0}, {"fails_pct": 20.0}, {"transfers": "none"}])
def test_years_agree_with_every_failure_played_once(seed: int, more: dict[str, Any]) -> None:
    net = fixed(feeder(tie=True))
    net.apply([Update(id="m0-m1", values={"maintenance_rate": 0.5, "maintenance_h": 6.0, "temporary_rate": 0.4})])
    found = years(net, 4000, seed, **more)
    known = run_study("reliability", net, **{**PLAIN, **more})
    n = sum(e.customers for e in net.elements() if e.kind == "load")  # type: ignore[attr-defined]
    for k, name in enumerate(("saifi", "saidi", "maifi")):
        expected = known.summary[name]
        assert expected is not None
        assert within(found[:, k] / n, expected), name
    assert within(found[:, 3], known.summary["ens"] or 0)
    assert within(found[:, 4] / 1000, known.summary["cost"] or 0)


@pytest.mark.parametrize(
    ("spread", "shape"), [("exponential", None), ("lognormal", 0.8), ("weibull", 3.0), ("weibull", 0.7)]
)
def test_repairs_spread_about_the_mean_that_is_entered(spread: str, shape: float | None) -> None:
    net = network(
        bus("s"), bus("e"), source("s"), load("e", 1.0, customers=10),
        line("s", "e", failure_rate=3.0, repair_h=5.0, from_gear="breaker", repair_spread=spread, repair_shape=shape),
    )  # fmt: skip
    assert within(years(net, 4000)[:, 1] / 10, 15.0)


def test_two_at_once_come_as_often_as_on_paper() -> None:
    """Failures long enough to overlap: L1 L2 (r1 + r2) / 8760 holds where each is rarely away."""
    gear = {"from_gear": "breaker", "to_gear": "breaker", "repair_h": 20.0}
    net = network(
        bus("s"), bus("e"), source("s"), load("e", 1.0, customers=1), line("s", "e", failure_rate=4.0, **gear),
        line("s", "e", failure_rate=5.0, **gear) | {"id": "second"},
    )  # fmt: skip
    found = years(net, 20_000, overlap_from_kv=1.0)
    expected = 4 * 5 * 40 / 8760
    # Each is away some 1 % of the time, and the sum of first order is short of that by about as much.
    assert found[:, 0].mean() == pytest.approx(expected, rel=0.08)
    assert found[:, 1].mean() == pytest.approx(expected * 10, rel=0.12)
    assert years(net, 200)[:, 0].sum() == 0


def test_one_crew_makes_a_queue_as_long_as_queueing_theory_says() -> None:
    """M/M/1: with failures a and repairs b per hour the mean time until repair is 1 / (b - a)."""
    net = network(
        bus("s"), bus("e"), source("s"), load("e", 1.0, customers=1),
        line("s", "e", failure_rate=400.0, repair_h=8.76, from_gear="breaker"),
    )  # fmt: skip
    found = years(net, 400, crews=1)
    mean = found[:, 1].sum() / found[:, 0].sum()
    assert mean == pytest.approx(1 / (1 / 8.76 - 400 / 8760), rel=0.06)
    assert years(net, 400, crews=0)[:, 1].sum() / years(net, 400, crews=0)[:, 0].sum() == pytest.approx(8.76, rel=0.02)


def test_storms_leave_the_mean_and_make_bad_years_worse() -> None:
    net = ring(300.0)
    calm = years(net, 6000, transfers="none")[:, 1]
    storms = {"storms": 0.3, "storm_h": 24.0, "storm_factor": 2000.0}
    rough = years(net, 6000, transfers="none", **storms)[:, 1]
    assert abs(rough.mean() - calm.mean()) < 4.5 * np.hypot(rough.std(), calm.std()) / np.sqrt(6000)
    assert np.percentile(rough, 99) > 1.2 * np.percentile(calm, 99)
    # With few crews the same storms cost more hours.
    queued = years(net, 6000, transfers="none", crews=1, **storms)[:, 1]
    assert queued.mean() > 1.1 * rough.mean()


def parallel(**more: Any) -> Network:
    """Two overhead lines side by side, each away now and then; ``more`` of the second."""
    gear = {"from_gear": "breaker", "to_gear": "breaker", "repair_h": 10.0, "failure_rate": 3.0}
    return network(
        bus("s"), bus("e"), source("s"), load("e", 1.0, customers=1), line("s", "e", **gear),
        line("s", "e", **gear, **more) | {"id": "second"},
    )  # fmt: skip


STORMS = {"storms": 2.0, "storm_h": 12.0, "storm_factor": 40.0}


@pytest.mark.parametrize("repairs", [1.0, 3.0])
@pytest.mark.parametrize("construction", ["overhead", "cable"])
def test_storms_bring_two_failures_at_once_as_often_as_is_worked_out(construction: str, repairs: float) -> None:
    """What a closed form says of two lines in the same storms is what comes of playing them in time; a cable is out of reach."""
    options = {**STORMS, "storm_repairs": repairs, "overlap_from_kv": 1.0, "sustained_min": 0.0}
    net = parallel(construction=construction)
    found = years(net, 60_000, **options)
    known = run_study("reliability", net, **{**PLAIN, **options}).summary
    calm = run_study("reliability", net, **{**PLAIN, "overlap_from_kv": 1.0}).summary
    for k, name in enumerate(("saifi", "saidi")):
        expected, without = known[name], calm[name]
        assert expected is not None
        assert without is not None
        # Rarely away is what the sums suppose: both are so 1 % of the time and more in storms.
        assert found[:, k].mean() == pytest.approx(expected, rel=0.1)
        if construction == "overhead":
            assert expected > 1.8 * without


def test_what_storms_add_is_an_integral_over_two_moments() -> None:
    """The closed form against a sum over small steps of the chance of a storm at both moments, from how storms begin."""
    course = Course(storms=3.0, storm_h=8.0, storm_factor=25.0)
    weather = Weather(course)
    rate, d = 3.0 / 8760, 8.0
    share = 1 - np.exp(-rate * d)
    r1, r2 = 6.0, 15.0
    step = 1e-3
    u = np.arange(step / 2, 400, step)
    # No storm at either moment: none has begun in the hours before them, the union of two stretches of length d.
    both = 1 - 2 * np.exp(-rate * d) + np.exp(-rate * (d + np.minimum(u, d)))
    calm = 1 / (1 + 24 * share)
    product = calm**2 * (1 + 2 * 24 * share + 24**2 * both)
    expected = 2.0 * 5.0 / 8760 * sum(float((product * np.exp(-u / r)).sum() * step) for r in (r1, r2))
    assert sum(f for f, _ in weather.together((2.0, r1, True), (5.0, r2, True))) == pytest.approx(expected, rel=1e-5)
    # One in the cable trench: independent, whatever the weather.
    assert weather.together((2.0, r1, True), (5.0, r2, False)) == [
        (pytest.approx(10 * (r1 + r2) / 8760), r1 * r2 / (r1 + r2))
    ]


def test_repairs_in_storms_last_longer_by_what_falls_into_them() -> None:
    options = {**STORMS, "storm_repairs": 4.0}
    net = network(
        bus("s"), bus("e"), source("s"), load("e", 1.0, customers=1),
        line("s", "e", failure_rate=2.0, repair_h=5.0, from_gear="breaker", repair_spread="fixed"),
    )  # fmt: skip
    share = 1 - np.exp(-2 * 12 / 8760)
    in_storms = 40 * share / (1 + 39 * share)
    known = run_study("reliability", net, **{**PLAIN, **options}).summary["saidi"]
    assert known == pytest.approx(2.0 * 5.0 * (1 + 3 * in_storms), rel=1e-9)
    assert within(years(net, 8000, **options)[:, 1], float(known))


def test_age_counts_in_what_is_worked_out_too() -> None:
    net = parallel()
    net.apply(
        [Update(id="second", values={"in_service": False}), Update(id="s-e", values={"commissioned": "1990-01-01"})]
    )
    known = run_study("reliability", net, **PLAIN, year=2030, ageing_from=30.0, ageing_pct=5.0).summary["saifi"]
    assert known == pytest.approx(3.0 * 1.5)


def test_old_equipment_fails_more_often_in_a_later_year() -> None:
    net = network(
        bus("s"), bus("e"), source("s"), load("e", 1.0, customers=1),
        line("s", "e", failure_rate=2.0, repair_h=4.0, from_gear="breaker", commissioned="1980-05-01"),
    )  # fmt: skip
    old = years(net, 4000, year=2030, ageing_from=30.0, ageing_pct=5.0)[:, 0]
    assert within(old, 2.0 * (1 + 0.05 * 20))
    assert within(years(net, 4000, year=2000, ageing_from=30.0, ageing_pct=5.0)[:, 0], 2.0)


def test_energy_follows_the_demand_of_the_hours_in_which_it_is_missing() -> None:
    """All demand in twelve hours of each day: a repair of twelve hours misses half of it wherever it begins."""
    day = [2.0] * 12 + [0.0] * 12
    net = network(
        bus("s"), bus("e"), source("s"), load("e", 1.0, customers=1),
        line("s", "e", failure_rate=5.0, repair_h=24.0, from_gear="breaker", repair_spread="fixed"),
        {"kind": "profile", "id": "day", "scales": "class", "key": "domestic", "packed": pack(day)},
    )  # fmt: skip
    found = years(net, 500, by_profile=True)
    # A whole day away misses the demand of a day exactly.
    assert found[:, 3].sum() / found[:, 0].sum() == pytest.approx(24.0, rel=1e-9)
    net.apply([Update(id="s-e", values={"repair_h": 6.0})])
    each = years(net, 3000, by_profile=True)
    assert each[:, 3].sum() / each[:, 0].sum() == pytest.approx(6.0, rel=0.02)
    assert each[:, 3].std() > years(net, 3000, by_profile=False)[:, 3].std()


def test_the_same_seed_gives_the_same_years_whoever_simulates_them() -> None:
    net = ring(240.0)
    a, b, c = (run_study("failure_years", net, years=1200, seed=s, stops=False) for s in (7, 7, 8))
    assert a.tables["years"].records() == b.tables["years"].records()
    assert a.tables["years"].records() != c.tables["years"].records()
    assert a.summary["years"] == 1200
    assert list(a.figures[1].x.label)
    assert a.figures[1].series[0].x[-1] == 1200


def test_it_ends_where_the_precision_is_reached_and_those_years_are_the_first_ones() -> None:
    net = ring(240.0)
    rule = {"years": 20_000, "within_pct": 8.0}
    ended = run_study("failure_years", net, **rule)
    years = int(ended.summary["years"] or 0)
    assert 1000 <= years < 20_000
    assert years % 500 == 0
    assert "It ended there" in ended.statement
    as_many = run_study("failure_years", net, years=years, stops=False, within_pct=8.0)
    assert as_many.tables["years"].records() == ended.tables["years"].records()
    assert (as_many.summary["needed"] or 0) <= years
    fewer = run_study("failure_years", net, years=years - 500, stops=False, within_pct=8.0)
    assert years == 1000 or (fewer.summary["needed"] or 0) > years - 500
    # Parts that were ready beyond them change nothing.
    split = STUDIES["failure_years"].split
    assert split is not None
    options = STUDIES["failure_years"].options(**rule)
    inputs = Inputs(net)
    plan, ready = split.plan(inputs, options), split.prepare(inputs, options)
    answers: list[Any] = [split.answer(ready, part, lambda share, words: None) for part in plan[: years // 500 + 4]]
    answers += [Missing("It was not needed.")] * (len(plan) - len(answers))
    assert split.join(inputs, options, plan, answers).tables["years"].records() == ended.tables["years"].records()
    answers[2] = Missing()
    assert not split.enough or not split.enough(options, answers)


def test_one_load_is_told_by_itself_and_another_name_is_refused() -> None:
    net = fixed(feeder())
    result = run_study(
        "failure_years", net, **{**PLAIN, "years": 3000, "by_profile": False, "at": "load-B", "stops": False}
    )
    table = result.tables["years"]
    known = dict(zip(table["name"], table["analytical"], strict=True))
    assert known["SAIFI"] == pytest.approx(1.4)
    assert known["SAIDI"] == pytest.approx(2.65)
    assert dict(zip(table["name"], table["mean"], strict=True))["SAIDI"] == pytest.approx(2.65, rel=0.1)
    with pytest.raises(InvalidFields, match="name a load"):
        run_study("failure_years", net, years=100, at="m0-m1")
