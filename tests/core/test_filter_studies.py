"""Filter design and search: sizes in closed form, before and after by the distortion itself, and the cheapest by trying all."""

from __future__ import annotations

from dataclasses import replace
from math import acos, tan
from typing import Any

import numpy as np
import pytest

from tests.helpers import run_study as run
from vastmesh.core.errors import InvalidFields
from vastmesh.core.network import Add, Condition, Filter, Network, SchemeChange, Update
from vastmesh.core.results import Result
from vastmesh.core.results.state import solve_as_set
from vastmesh.core.studies import STUDIES, Inputs
from vastmesh.core.studies.harmonics._limits import Level
from vastmesh.core.studies.harmonics._search import State, _with

MEDIUM = Level("", "medium")
DRIVE = "Six-pulse drive with choke"


def works(*more: dict[str, Any]) -> Network:
    """A works with drives behind a transformer, under two conditions."""
    return Network.from_items([
        {"kind": "settings", "id": "settings", "condition": "day"}, {"kind": "condition", "id": "day"},
        {"kind": "condition", "id": "night", "demand_factor": 0.4},
        {"kind": "bus", "id": "s", "nominal_kv": 33}, {"kind": "bus", "id": "w", "nominal_kv": 11},
        {"kind": "bus", "id": "v", "nominal_kv": 11},
        {"kind": "source", "id": "g", "bus": "s", "fault_max_mva": 400, "fault_min_mva": 300, "x_over_r": 10},
        {"kind": "transformer", "id": "t", "hv_bus": "s", "lv_bus": "w", "rated_mva": 10, "hv_kv": 33, "lv_kv": 11,
         "impedance_pct": 8, "x_over_r": 15, "vector_group": "Dyn11"},
        {"kind": "line", "id": "l", "from_bus": "w", "to_bus": "v", "length_km": 1, "r_ohm_per_km": 0.2, "x_ohm_per_km": 0.1,
         "b_us_per_km": 80.0},
        {"kind": "load", "id": "drives", "bus": "w", "active_power_mw": 2.4, "reactive_power_mvar": 1.5, "spectrum": DRIVE},
        {"kind": "load", "id": "rest", "bus": "v", "active_power_mw": 2.0, "reactive_power_mvar": 1.2},
        *more,
    ])  # fmt: skip


def with_scheme(network: Network, result: Result) -> Network:
    found = network.copy()
    found.apply([SchemeChange.model_validate(c).change for c in result.scheme])
    return found


def column(result: Result, table: str, name: str) -> list[Any]:
    return list(result.tables[table][name])


def test_its_size_leads_from_the_power_factor_now_to_the_one_wanted() -> None:
    network = works()
    result = run("filter_design", network, bus="w", power_factor=0.98)
    needed = []
    for condition in network.of(Condition):
        flow = solve_as_set(network, condition)
        at = list(flow.tables["branches"]["id"]).index("t")
        p = -float(flow.tables["branches"]["to_active_power_mw"][at])
        q = -float(flow.tables["branches"]["to_reactive_power_mvar"][at])
        needed.append(q - p * tan(acos(0.98)))
    assert result.summary["mvar"] == pytest.approx(max(needed), rel=1e-3)  # to four digits, as one would order it
    made = with_scheme(network, result)
    flow = solve_as_set(made, network.of(Condition)[0])
    at = list(flow.tables["branches"]["id"]).index("t")
    s = complex(
        flow.tables["branches"]["to_active_power_mw"][at], flow.tables["branches"]["to_reactive_power_mvar"][at]
    )
    # The filter's own power lifts the voltage, so that it gives a little more.
    assert abs(s.real) / abs(s) == pytest.approx(0.98, abs=2e-3)


@pytest.mark.parametrize("design", ["single", "double", "high_pass", "c_type", "detuned"])
def test_before_and_after_are_what_the_distortion_says_of_the_scheme(design: str) -> None:
    network = works()
    result = run(
        "filter_design",
        network,
        bus="w",
        design=design,
        size="entered",
        mvar=1.2,
        order=4.5 if design == "detuned" else 5,
    )
    made = with_scheme(network, result)
    for n, condition in enumerate(network.of(Condition)):
        for net, name in ((network, "thd_before_pct"), (made, "thd_after_pct")):
            kind = STUDIES["distortion"]
            told = kind.run(replace(Inputs(net), condition=condition), kind.options(), lambda a, b: None).tables[
                "buses"
            ]
            assert column(result, "conditions", name)[n] == pytest.approx(
                told["thd_pct"][list(told["id"]).index("w")], rel=1e-9
            )
    assert max(column(result, "conditions", "thd_after_pct")) < max(column(result, "conditions", "thd_before_pct"))
    band = dict(zip(column(result, "band", "end"), column(result, "band", "thd_pct"), strict=True))
    assert band["as designed"] == pytest.approx(max(column(result, "conditions", "thd_after_pct")), rel=1e-9)
    orders = dict(zip(column(result, "band", "end"), column(result, "band", "order"), strict=True))
    if design not in ("double", "c_type"):
        assert orders["as designed"] == pytest.approx(result.summary["tuned_order"], rel=1e-9)
        assert orders["all high"] == pytest.approx(orders["as designed"] / np.sqrt(1.05 * 1.03) / 1.01, rel=1e-9)
    assert orders["all high"] < orders["as designed"] < orders["all low"]


def test_the_parts_to_order_make_the_filter_of_the_scheme() -> None:
    network = works()
    result = run("filter_design", network, bus="w", size="entered", mvar=1.5, steps=3)
    plate = dict(zip(column(result, "plate", "what"), column(result, "plate", "value"), strict=True))
    made = next(e for e in with_scheme(network, result).elements() if isinstance(e, Filter))
    assert (made.steps, made.step_mvar) == (3, 0.5)
    circuit = made.circuit(11.0, 50.0)
    assert plate["Capacitance"] == pytest.approx(circuit.parts(50.0)["c_uf"])
    n = made.tuned_order or 0.0
    assert plate["Inductance"] * 1e-3 * plate["Capacitance"] * 1e-6 == pytest.approx(
        1 / (2 * np.pi * 50 * n) ** 2, rel=1e-9
    )
    assert plate["Rated voltage of the capacitors, with margin"] == pytest.approx(
        1.1 * plate["Voltage of the capacitors, all orders"]
    )
    assert made.capacitor_kv == pytest.approx(plate["Voltage of the capacitors, all orders"], rel=1e-2)


def test_the_new_parallel_resonance_lies_below_the_tuned_order() -> None:
    result = run("filter_design", works(), bus="w", size="entered", mvar=1.5)
    scan = next(f for f in result.figures if f.name == "scan")
    resonance = result.summary["resonance_hz"]
    assert resonance is not None
    assert 100 < resonance < 4.7 * 50
    tuned = [
        float(np.asarray(s.y)[np.abs(np.asarray(s.x) - 235).argmin()])
        for s in scan.series
        if s.name.startswith("with ")
    ]
    bare = [
        float(np.asarray(s.y)[np.abs(np.asarray(s.x) - 235).argmin()])
        for s in scan.series
        if s.name.startswith("without")
    ]
    assert max(tuned) < 0.2 * min(bare)


def test_a_bank_is_taken_out_for_it() -> None:
    network = works({"kind": "shunt", "id": "bank", "bus": "w", "step_mvar": 1.5})
    result = run(
        "filter_design", network, bus="w", design="detuned", order=4.2, size="entered", mvar=1.5, instead_of="bank"
    )
    made = with_scheme(network, result)
    assert "bank" not in made
    assert [c["label"].split()[0] for c in result.scheme] == ["Take", "Add"]


@pytest.mark.parametrize(
    ("options", "words"),
    [
        ({"bus": "nowhere"}, "bus"), ({"bus": "w", "instead_of": "rest"}, "instead_of"),
        ({"bus": "w", "power_factor": 0.5}, "power_factor"), ({"bus": "v", "instead_of": "bank"}, "instead_of"),
    ],
)  # fmt: skip
def test_what_can_t_be_designed_is_refused(options: dict[str, Any], words: str) -> None:
    network = works({"kind": "shunt", "id": "bank", "bus": "w", "step_mvar": 0.1})
    with pytest.raises(InvalidFields, match=words):
        run("filter_design", network, **options)
    assert "bank" in network


@pytest.mark.parametrize("seed", range(5))
def test_a_filter_alters_a_network_by_one_rank(seed: int) -> None:
    """Voltages with a candidate, of known and unknown sources, against the network inverted with it."""
    rng = np.random.default_rng(seed)
    n, sources, k = 7, 4, int(rng.integers(7))
    y = rng.normal(size=(n, n)) + 1j * rng.normal(size=(n, n))
    y = y + y.T + 8 * np.eye(n)
    amps = rng.normal(size=(sources, n)) + 1j * rng.normal(size=(sources, n))
    z = np.linalg.inv(y)
    known = np.array([True, True, False, False])
    parts = amps @ z.T
    state = State("", None, [5], [parts], [parts[:, k]], [known], [z[:, k]], [complex(z[k, k])], np.zeros(n), np.ones(n), 1.0,
                  1.0, np.ones(n, np.bool_))  # fmt: skip
    for step in (0.3 + 2j, 1j, 50 - 3j):
        found = _with(state, 0, np.array([step / (1 + z[k, k] * step)]), 1.4)[0]
        with_it = y.copy()
        with_it[k, k] += step
        u = amps @ np.linalg.inv(with_it).T
        expected = (np.abs(u[known].sum(axis=0)) ** 1.4 + (np.abs(u[~known]) ** 1.4).sum(axis=0)) ** (1 / 1.4)
        assert found == pytest.approx(expected, rel=1e-9)


def test_the_search_finds_the_cheapest_and_it_keeps_everything_with_any_steps() -> None:
    network = works()
    asked: dict[str, Any] = {
        "bus": "w",
        "least_mvar": 0.3,
        "most_mvar": 2.4,
        "sizes": 6,
        "most_steps": 2,
        "power_factor": 0.93,
    }
    result = run("filter_search", network, **asked)
    table = result.tables["candidates"]
    verified = list(table["verified"])
    chosen = verified.index("yes")
    assert chosen == 0
    assert result.summary["cost"] == pytest.approx(table["cost"][chosen])
    keeping = [n for n in range(len(table)) if table["level_pct"][n] <= 100 and table["factor"][n] >= 0.93
               and table["current_pct"][n] <= 130]  # fmt: skip
    assert min(table["cost"][n] for n in keeping) == table["cost"][chosen]
    made = with_scheme(network, result)
    e = next(x for x in made.elements() if isinstance(x, Filter))
    for condition in network.of(Condition):
        for steps in range(1, e.steps + 1):
            made.apply([Update(id=e.id, values={"steps_on": steps})])
            kind = STUDIES["distortion"]
            told = kind.run(replace(Inputs(made), condition=condition), kind.options(), lambda a, b: None)
            assert not [f for f in told.findings if f.severity == "breach"]


def test_what_it_says_of_a_candidate_is_nearly_what_it_does_in_full() -> None:
    """What differs is the fundamental that its power lifts, and the currents with it."""
    network = works()
    result = run("filter_search", network, bus="w", least_mvar=1.0, most_mvar=1.0, sizes=1, most_steps=1, over="present",
                 double=False, high_pass=False, c_type=False, detuned=False)  # fmt: skip
    table = result.tables["candidates"]
    for n in range(len(table)):
        made = network.copy()
        made.apply([Add(item={"kind": "filter", "id": "f", "bus": "w", "design": "single", "step_mvar": 1.0,
                              "tuned_order": float(table["order"][n])})])  # fmt: skip
        told = run("distortion", made)

        buses = told.tables["buses"]
        shares = [max(float(v) for v in buses["thd_pct"]) / MEDIUM.total_pct]
        for c in buses.columns:
            if c.name.startswith("order_"):
                shares.append(max(float(v) for v in buses[c.name]) / MEDIUM.limit_pct(int(c.name.split("_")[1])))
        assert table["level_pct"][n] == pytest.approx(100 * max(shares), rel=0.03)


def test_where_nothing_keeps_everything_the_nearest_and_what_binds_are_said() -> None:
    result = run("filter_search", works(), bus="w", least_mvar=0.05, most_mvar=0.06, sizes=2, power_factor=0.99)
    assert result.scheme == []
    assert "None of" in result.statement
    assert "power factor" in result.statement
    assert result.summary["cost"] is None
    assert all(table_binds for table_binds in result.tables["candidates"]["binds"])


def test_nothing_to_filter_is_said() -> None:
    network = works()
    network.apply([Update(id="drives", values={"spectrum": None})])
    assert "nothing to filter" in run("filter_search", network, bus="w").account.explanation
