"""Passive filters: circuits against closed forms, name plates against parts, and what they are to the load flow."""

from __future__ import annotations

from math import pi
from typing import Any

import numpy as np
import pytest

from vastmesh.core.catalogue import FilterKind, design_filter, filter_of_parts
from vastmesh.core.errors import InvalidFields
from vastmesh.core.network import Filter, Network, Update
from vastmesh.core.results.state import solve_as_set
from vastmesh.core.workings import explain

KINDS: tuple[FilterKind, ...] = ("single", "double", "high_pass", "c_type", "detuned")
W = 2 * pi * 50


def closed_form(kind: str, h: Any, c: float, ind: float, r: float, c2: float = 0.0, l2: float = 0.0) -> Any:
    """Ω of a filter of F, H and Ω, the way it is drawn."""
    s = 1j * W * h
    if kind in ("single", "detuned"):
        return r + s * ind + 1 / (s * c)
    if kind == "high_pass":
        return 1 / (s * c) + 1 / (1 / r + 1 / (s * ind))
    if kind == "c_type":
        return 1 / (s * c) + 1 / (1 / r + 1 / (s * ind + 1 / (s * c2)))
    return r + s * ind + 1 / (s * c) + 1 / (s * c2 + 1 / (r * l2 / ind + s * l2))


@pytest.mark.parametrize("kind", KINDS)
def test_impedance_is_that_of_its_parts(kind: FilterKind) -> None:
    h = np.array([1.0, 2.5, 4.7, 5.0, 7.0, 13.0, 49.0])
    circuit = filter_of_parts(kind, 50.0, 40.0, 12.0, 3.0, 25.0, 4.0)
    expected = closed_form(kind, h, 40e-6, 12e-3, 3.0, 25e-6, 4e-3)
    assert circuit.impedance(h) == pytest.approx(expected, rel=1e-12)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("quality", [0.8, 3.0, 60.0])
def test_name_plate_gives_its_power_and_parts_give_the_name_plate(kind: FilterKind, quality: float) -> None:
    circuit = design_filter(kind, 6.0, 11.0, 4.7, quality, 6.8)
    assert 11.0**2 * (1 / circuit.impedance(1.0)).imag == pytest.approx(6.0, rel=1e-12)
    p = circuit.parts(50.0)
    again = filter_of_parts(kind, 50.0, p["c_uf"], p["l_mh"], p["r_ohm"], p.get("c2_uf", 0.0), p.get("l2_mh", 0.0))
    h = np.array([1.0, 4.7, 6.8, 11.0])
    assert again.impedance(h) == pytest.approx(circuit.impedance(h), rel=1e-9)


@pytest.mark.parametrize("kind", ["single", "detuned", "double"])
def test_impedance_is_least_at_the_tuned_order(kind: FilterKind) -> None:
    circuit = design_filter(kind, 2.0, 33.0, 4.8, 200.0, 6.9)
    h = np.linspace(4.0, 6.0, 20_001)
    assert h[np.abs(circuit.impedance(h)).argmin()] == pytest.approx(4.8, abs=2e-3)


def test_a_double_tuned_filter_is_two_single_ones_beside_each_other() -> None:
    both = [design_filter("single", 3.0, 20.0, n, 1e9) for n in (4.9, 6.9)]
    one = design_filter("double", 6.0, 20.0, 4.9, 1e9, 6.9)
    h = np.array([1.0, 2.0, 4.0, 5.5, 6.0, 8.0, 11.0, 25.0])
    assert one.impedance(h) == pytest.approx(1 / sum(1 / f.impedance(h) for f in both), rel=1e-6)


def test_a_c_type_filter_loses_nothing_at_the_networks_frequency() -> None:
    circuit = design_filter("c_type", 5.0, 33.0, 3.0, 1.5)
    assert abs(circuit.impedance(1.0).real) < 1e-9 * abs(circuit.impedance(1.0))
    assert circuit.impedance(30.0).real > 0


def test_reactor_share_says_the_tuned_order() -> None:
    e = Filter(id="f", name="f", bus="b", design="detuned", step_mvar=1.0, reactor_pct=7.0)
    assert e.order() == pytest.approx((100 / 7) ** 0.5)
    circuit = e.circuit(11.0, 50.0)
    assert circuit.xl / circuit.xc == pytest.approx(0.07)


def network(**values: Any) -> Network:
    return Network.from_items([
        {"kind": "bus", "id": "s", "nominal_kv": 33}, {"kind": "bus", "id": "b", "nominal_kv": 33},
        {"kind": "source", "id": "g", "bus": "s", "voltage_pu": 1.0, "fault_max_mva": 1000, "fault_min_mva": 800, "x_over_r": 10},
        {"kind": "line", "id": "l", "from_bus": "s", "to_bus": "b", "length_km": 5, "r_ohm_per_km": 0.1, "x_ohm_per_km": 0.35,
         "b_us_per_km": 3.0},
        {"kind": "load", "id": "d", "bus": "b", "active_power_mw": 8, "reactive_power_mvar": 5},
        {"kind": "filter", "id": "f", "bus": "b", "design": "single", "step_mvar": 1.5, "tuned_order": 4.7, "steps": 3,
         "steps_on": 2, **values},
    ])  # fmt: skip


@pytest.mark.parametrize("study", ["balanced", "per_phase"])
def test_in_the_load_flow_it_is_the_capacitor_it_is(study: str) -> None:
    net = network()
    net.apply([Update(id="settings", values={"study": study})] if "settings" in net else [])
    if "settings" not in net:
        from vastmesh.core.network import Add

        net.apply([Add(item={"kind": "settings", "id": "settings", "study": study})])
    result = solve_as_set(net)
    injections = result.tables["injections"]
    at = list(injections["id"]).index("f")
    buses = result.tables["buses"]
    volts = float(buses["voltage_pu"][list(buses["id"]).index("b")])
    assert float(injections["reactive_power_mvar"][at]) == pytest.approx(2 * 1.5 * volts**2, rel=1e-6)
    # What it loses is what its resistance takes of its current.
    circuit = net["f"].circuit(33.0, 50.0)  # type: ignore[attr-defined]
    amps = abs(volts * 33e3 / 3**0.5 / circuit.impedance(1.0))
    assert abs(float(injections["active_power_mw"][at])) == pytest.approx(2 * 3 * circuit.r * amps**2 / 1e6, rel=1e-6)


def test_what_is_entered_last_counts() -> None:
    net = network()
    net.apply([Update(id="f", values={"c_uf": 10.0, "l_mh": 40.0})])
    e = net["f"]
    assert isinstance(e, Filter)
    assert (e.step_mvar, e.tuned_order, e.c_uf) == (None, None, 10.0)
    assert not e.missing()
    net.apply([Update(id="f", values={"step_mvar": 2.0})])
    e = net["f"]
    assert isinstance(e, Filter)
    assert (e.c_uf, e.l_mh, e.missing()) == (None, None, ("tuned_order",))
    net.apply([Update(id="f", values={"tuned_order": 6.7})])
    net.apply([Update(id="f", values={"reactor_pct": 7.0})])
    e = net["f"]
    assert isinstance(e, Filter)
    assert e.tuned_order is None


@pytest.mark.parametrize(
    ("field", "value"), [("tuned_order", 0.9), ("tuned_order", 1.0), ("steps_on", 4), ("quality", 0.0)]
)
def test_what_no_filter_can_be_is_refused(field: str, value: float) -> None:
    net = network()
    with pytest.raises(InvalidFields, match=field):
        net.apply([Update(id="f", values={field: value})])
    assert net["f"].tuned_order == 4.7  # type: ignore[attr-defined]


@pytest.mark.parametrize("quality", [1.3, 25.0])
@pytest.mark.parametrize(
    ("design", "compares"), [("single", 5), ("detuned", 5), ("c_type", 5), ("high_pass", 5), ("double", 7)]
)
def test_its_sizing_by_hand_is_its_circuit(design: str, compares: int, quality: float) -> None:
    more = {"second_order": 7.2} if design == "double" else {}
    sheet = [w for w in explain(network(design=design, quality=quality, **more), "f") if w.title == "Its sizing"]
    compared = [c for c in sheet[0].ledger if c.solver is not None]
    assert len(compared) == compares
    for cell in compared:
        assert cell.value == pytest.approx(cell.solver, rel=1e-12), cell.symbol
