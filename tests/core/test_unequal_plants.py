"""Inverter plants whose phases deliver different powers: what may be entered, what they deliver, how they move."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from tests.core.test_phase_balancing import balance, by_hand, street, taken_up
from tests.helpers import Item, bus, load, network, source
from vastmesh.core.errors import InvalidFields
from vastmesh.core.flow.phases import Reading
from vastmesh.core.network import Inverter, Network, Update, units
from vastmesh.core.results.state import LiveUnbalanced, run_load_flow, run_unbalanced


def roofs(at: str = "a", **more: Any) -> Item:
    """Solar plants of three neighbours behind one meter."""
    return {"kind": "inverter", "id": "roofs", "bus": at, "rated_mva": 0.03, "active_power_mw": 0.012, "conductors": "ABCN",
            "phase_control": "each_phase", "p_a_mw": 0.007, "p_b_mw": 0.004, "p_c_mw": 0.001, **more}  # fmt: skip


def grid(*more: Item, conductors: str = "ABCN") -> Network:
    return network(bus("a", 0.4, conductors=conductors), source("a", fault_max_mva=8.0, fault_min_mva=6.0),
                   load("a", 0.003, conductors=conductors), *more)  # fmt: skip


def delivered(net: Network) -> np.ndarray:
    """Power that the plant drives into each phase against the neutral, MVA."""
    r: Reading | None = LiveUnbalanced(net).reading()
    assert r is not None
    i = -r.injection_phase_current[r.arrays.element_id.index("roofs"), :3]
    return np.asarray(r.to_neutral[0] * np.conj(i) / 1e6)


def plant(net: Network) -> Inverter:
    found = net["roofs"]
    assert isinstance(found, Inverter)
    return found


def test_every_phase_delivers_its_own_power() -> None:
    np.testing.assert_allclose(delivered(grid(roofs())), [0.007, 0.004, 0.001], atol=1e-10)
    # With a power factor each phase takes in reactive power of its own; a set one is taken in equal parts.
    tan = np.tan(np.arccos(0.9))
    leading = delivered(grid(roofs(power_factor=-0.9)))
    np.testing.assert_allclose(leading.imag, np.array([0.007, 0.004, 0.001]) * -tan, atol=1e-10)
    fixed = delivered(grid(roofs(control="reactive", reactive_power_mvar=0.006)))
    np.testing.assert_allclose(fixed.imag, [0.002] * 3, atol=1e-10)


def test_the_balanced_flow_and_the_sum_over_phases_are_the_same_plant() -> None:
    net = grid(roofs(power_factor=0.95))
    balanced = run_load_flow(net).tables["injections"]
    per_phase = run_unbalanced(net).tables["injections"]
    row = list(balanced["id"]).index("roofs")
    for name in ("active_power_mw", "reactive_power_mvar"):
        assert per_phase[name][row] == pytest.approx(balanced[name][row], abs=1e-9)


def test_conditions_scale_every_phase() -> None:
    net = grid(roofs(), {"kind": "condition", "id": "dusk", "energy_factors": {"solar": 0.5}})
    r = LiveUnbalanced(net).reading(net["dusk"])  # type: ignore[arg-type]
    assert r is not None
    i = -r.injection_phase_current[r.arrays.element_id.index("roofs"), :3]
    np.testing.assert_allclose((r.to_neutral[0] * np.conj(i)).real / 1e6, [0.0035, 0.002, 0.0005], atol=1e-10)


@pytest.mark.parametrize(
    ("more", "field"),
    [
        ({"phase_control": "positive_sequence"}, "phase_control"),
        ({"conductors": "ABN"}, "p_c_mw"),
        ({"active_power_mw": 0.02}, "active_power_mw"),
        ({"rated_mva": 0.005}, "active_power_mw"),
    ],
)
def test_what_contradicts_itself_is_refused(more: dict[str, Any], field: str) -> None:
    with pytest.raises(InvalidFields) as refused:
        grid(roofs(**more))
    assert refused.value.problems[0].field == field
    assert refused.value.problems[0].value is not None


def test_phases_and_their_sum_follow_each_other_when_edited() -> None:
    net = grid(roofs(phase_control="positive_sequence", p_a_mw=None, p_b_mw=None, p_c_mw=None))
    net.apply([Update(id="roofs", values={"p_b_mw": 0.005})])
    assert plant(net).phase_control == "each_phase"
    assert plant(net).active_power_mw == 0.005
    net.apply([Update(id="roofs", values={"p_a_mw": 0.002})])
    assert plant(net).active_power_mw == pytest.approx(0.007)
    net.apply([Update(id="roofs", values={"active_power_mw": 0.009})])
    assert (plant(net).p_a_mw, plant(net).p_b_mw, plant(net).phase_powers_mva()) == (None, None, None)
    np.testing.assert_allclose(delivered(net), [0.003] * 3, atol=1e-10)
    net.apply([Update(id="roofs", values={"p_c_mw": 0.004})])
    net.apply([Update(id="roofs", values={"phase_control": "positive_sequence"})])
    assert plant(net).p_c_mw is None
    assert plant(net).active_power_mw == pytest.approx(0.004), "the power itself stays"


def test_they_may_be_permuted_and_balancing_finds_the_best_way() -> None:
    base = street(3, nodes=2, lateral=False, kw=1.0)
    noon = {"kind": "condition", "id": "noon", "demand_factor": 0.5}
    unequal = roofs("n2", p_a_mw=0.009, p_b_mw=0.003, p_c_mw=0.0)
    net = Network.from_items([*base.to_items(), unequal, noon])
    moved = units(net)
    three = next(u for u in moved if u.ident == "roofs")
    assert (three.kind, len(three.choices)) == ("three", 6)
    best, every = by_hand(net, "losses", moved)
    assert best < every[(0,) * len(moved)] * 0.95, "there is something to gain"
    result = balance(net, objective="losses", method="exact")
    after = {r["id"].split(":")[1]: r["after"] for r in result.tables["objectives"].records()}
    assert after["losses"] == pytest.approx(best, rel=1e-6)
    turned = plant(taken_up(net, result))
    assert sorted((turned.p_a_mw, turned.p_b_mw, turned.p_c_mw)) == [0.0, 0.003, 0.009]  # type: ignore[type-var]
    kept = balance(net, objective="losses", method="exact", move_three=False)
    assert "roofs" not in kept.tables["moves"]["id"]
