"""Schemes beside each other in one study: each equals the network that has its changes and no other."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from tests.helpers import at, bus, line, network, run_study, source
from vastmesh.core.network import Add, Change, Network, Scheme, SchemeChange, Update, layered
from vastmesh.core.studies import Inputs
from vastmesh.core.studies.base import cases

FILTER = {"kind": "filter", "id": "f", "bus": "w", "design": "single", "step_mvar": 0.5, "tuned_order": 4.8}


def scheme(ident: str, *changes: Change, active: bool = False, rank: int = 1) -> dict[str, Any]:
    made = [SchemeChange(change=c, label="x").model_dump(mode="json") for c in changes]
    return {"kind": "scheme", "id": ident, "changes": made, "active": active, "rank": rank}


def works(*more: dict[str, Any]) -> Network:
    return network(
        bus("s"), bus("w"), source("s", fault_max_mva=120, fault_min_mva=100, x_over_r=10),
        line("s", "w", length_km=1.5, skin_exponent=0.0),
        {"kind": "load", "id": "d", "bus": "w", "active_power_mw": 1.6, "reactive_power_mvar": 0.7,
         "spectrum": "Six-pulse drive with choke"}, *more,
    )  # fmt: skip


SHORTER = Update(id="s-w", values={"length_km": 0.5})


def both(*on: str) -> Network:
    return works(scheme("A", Add(item=FILTER), active="A" in on), scheme("B", SHORTER, active="B" in on, rank=2))


def by_itself(*changes: Change) -> Network:
    found = works()
    found.apply(changes)
    return found


EACH = {"no scheme": by_itself(), "A": by_itself(Add(item=FILTER)), "B": by_itself(SHORTER)}


@pytest.mark.parametrize("on", [(), ("A",), ("B",), ("A", "B")])
def test_every_scheme_alone_beside_the_present_network_whatever_is_on(on: tuple[str, ...]) -> None:
    inputs = Inputs.of(both(*on))
    expected = dict(EACH)
    if len(on) == 2:
        expected["all that are on"] = by_itself(Add(item=FILTER), SHORTER)
    result = run_study("distortion", inputs, over="schemes", bus="w")
    states = result.tables["states"]
    assert states["state"] == list(expected)
    each = {label: run_study("distortion", net, bus="w") for label, net in expected.items()}
    for n, (label, alone) in enumerate(each.items()):
        assert states["thd_pct"][n] == pytest.approx(at(alone, "buses", "w", "thd_pct"), rel=1e-12)
        assert states["breaches"][n] == alone.summary["breaches"]
        assert at(result, "by_state", "s", f"state_{n + 1}_pct") == pytest.approx(
            at(alone, "buses", "s", "thd_pct"), rel=1e-12
        )
        drawn = next(s for s in result.figures[0].series if s.label == label)
        assert np.allclose(drawn.y, alone.figures[0].series[0].y, rtol=1e-12)
    # What else is shown is of the network as it is on the sheet.
    now = each["no scheme" if not on else on[0] if len(on) == 1 else "all that are on"]
    assert at(result, "buses", "w", "thd_pct") == pytest.approx(at(now, "buses", "w", "thd_pct"), rel=1e-12)


def test_a_scan_lays_schemes_over_each_other() -> None:
    result = run_study("scan", Inputs.of(both("B")), over="schemes", bus="w", to_hz=600.0, step_hz=10.0)
    curves = [s for s in next(f for f in result.figures if f.name == "scan").series if s.drawn == "line"]
    assert [c.label for c in curves] == list(EACH)
    for curve, net in zip(curves, EACH.values(), strict=True):
        alone = run_study("scan", net, bus="w", to_hz=600.0, step_hz=10.0).tables["scan"]["ohm"]
        assert np.allclose(curve.y, alone, rtol=1e-12)


def test_where_a_scheme_adds_the_bus_the_others_are_without() -> None:
    net = works(scheme("A", Add(item=bus("n")), Add(item=line("w", "n")), active=True), scheme("B", SHORTER, rank=2))
    result = run_study("scan", Inputs.of(net), over="schemes", bus="n", to_hz=300.0)
    assert len([s for s in result.figures[0].series if s.drawn == "line"]) == 1
    assert sum("without this bus" in n for n in result.account.notes) == 2
    told = run_study("distortion", Inputs.of(net), over="schemes", bus="n").tables["states"]
    assert np.isfinite(told["thd_pct"]).tolist() == [False, True, False]


def test_the_way_back_is_the_present_network() -> None:
    rng = np.random.default_rng(5)
    for _ in range(20):
        made: list[Change] = []
        for k in range(int(rng.integers(1, 5))):
            made.append([
                Update(id="s-w", values={"length_km": float(rng.uniform(0.1, 5))}), Add(item=bus(f"n{k}")),
                Update(id="d", values={"active_power_mw": float(rng.uniform(0, 3)), "spectrum": None}),
                Add(item={**FILTER, "id": f"f{k}"}),
            ][int(rng.integers(4))])  # fmt: skip
        cut = int(rng.integers(len(made) + 1))
        present = works(scheme("A", *made[:cut], active=True), scheme("B", *made[cut:], active=True, rank=2))
        inputs = Inputs.of(present)
        assert inputs.laid(()).network.to_items() == present.to_items()
        assert inputs.laid(("A", "B")).network.to_items() == layered(present).network.to_items()
        assert inputs.schemes == tuple(s.id for s in present.of(Scheme))


def test_a_spectrum_in_volts_and_by_frequency() -> None:
    plain = run_study("distortion", EACH["no scheme"], bus="w", branch="s-w")
    told = run_study("distortion", EACH["no scheme"], bus="w", branch="s-w", shown="absolute", along="hz")
    percent, volts = plain.figures[0], told.figures[0]
    assert [float(x) for x in volts.series[0].x] == [50 * float(x) for x in percent.series[0].x]
    kv = at(plain, "buses", "w", "fundamental_kv")
    assert np.allclose(volts.series[0].y, np.array(percent.series[0].y) * kv * 10, rtol=1e-12)
    # Its level goes along.
    assert np.allclose(volts.series[-1].y, np.array(percent.series[-1].y) * kv * 10, rtol=1e-12)
    amps = next(f for f in told.figures if f.name == "current_spectrum").series[0].y
    assert amps[0] == pytest.approx(at(plain, "branches", "s-w", "order_5_a"), rel=1e-12)
    assert (volts.y.unit, percent.y.unit, volts.x.per, percent.x.linked) == ("V", "%", 50.0, "order")


def test_cases_of_a_network_without_any() -> None:
    assert [c.label for c in cases(Inputs(EACH["no scheme"]), "schemes")] == ["no scheme"]
    assert [c.label for c in cases(Inputs(EACH["no scheme"]), "conditions")] == [""]
