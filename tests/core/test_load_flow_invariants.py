"""What must not change the answer, on random networks."""

from __future__ import annotations

import random

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.helpers import assert_balanced, networks, volts
from vastmesh.core.flow.balanced import LoadFlowOptions
from vastmesh.core.network import Line, Network, Update
from vastmesh.core.results.state import LiveLoadFlow, run_load_flow

TIGHT = LoadFlowOptions(tolerance_pu=1e-12)
quiet = settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.too_slow])


@quiet
@given(networks())
def test_power_balances_at_every_bus(net: Network) -> None:
    result = run_load_flow(net)
    assert result.account.converged
    assert_balanced(net, result)


@quiet
@given(networks(), st.integers(0, 2**32 - 1))
def test_order_of_entry_does_not_matter(net: Network, seed: int) -> None:
    items = net.to_items()
    buses = [i for i in items if i["kind"] == "bus"]
    rest = [i for i in items if i["kind"] != "bus"]
    shuffle = random.Random(seed)
    shuffle.shuffle(buses)
    shuffle.shuffle(rest)
    shuffled = run_load_flow(Network.from_items([*buses, *rest]), TIGHT)
    assert volts(shuffled) == pytest.approx(volts(run_load_flow(net, TIGHT)), abs=1e-10)


@quiet
@given(networks(), st.floats(0.1, 0.9))
def test_splitting_a_line_in_two_changes_nothing(net: Network, share: float) -> None:
    """Exact for a line without charging; the nominal pi of two halves differs from that of the whole."""
    found = next((e for e in net.of(Line)), None)
    if found is None:
        return
    net.apply([Update(id=found.id, values={"b_us_per_km": 0.0})])
    before = volts(run_load_flow(net, TIGHT))
    data = [i for i in net.to_items() if i["id"] != found.id]
    one = next(i for i in net.to_items() if i["id"] == found.id)
    middle = {"kind": "bus", "id": "middle", "nominal_kv": net[found.from_bus].nominal_kv}  # type: ignore[attr-defined]
    first = {**one, "id": "first", "to_bus": "middle", "length_km": one["length_km"] * share}
    second = {**one, "id": "second", "from_bus": "middle", "length_km": one["length_km"] * (1 - share)}
    after = volts(run_load_flow(Network.from_items([*data, middle, first, second]), TIGHT))
    after.pop("middle")
    assert after == pytest.approx(before, abs=1e-9)


@quiet
@given(networks(), st.sampled_from([1.0, 10.0, 37.0, 1000.0]))
def test_the_per_unit_base_does_not_matter(net: Network, base: float) -> None:
    before = volts(run_load_flow(net, TIGHT))
    other = Network.from_items([*net.to_items(), {"kind": "settings", "id": "settings", "base_mva": base}])
    after = volts(run_load_flow(other, LoadFlowOptions(tolerance_pu=1e-10 / base * 10)))
    assert after == pytest.approx(before, abs=1e-8)


@quiet
@given(networks())
def test_two_lines_side_by_side_equal_one_with_two_circuits(net: Network) -> None:
    found = next((e for e in net.of(Line)), None)
    if found is None:
        return
    twin = next(i for i in net.to_items() if i["id"] == found.id) | {"id": "twin"}
    pair = run_load_flow(Network.from_items([*net.to_items(), twin]), TIGHT)
    net.apply([Update(id=found.id, values={"parallel": 2})])
    assert volts(pair) == pytest.approx(volts(run_load_flow(net, TIGHT)), abs=1e-10)


@quiet
@given(networks(), st.floats(0.2, 1.5))
def test_patched_arrays_give_the_answer_of_a_fresh_compile(net: Network, factor: float) -> None:
    live = LiveLoadFlow(net)
    live.solve()
    changed = {}
    for item in list(net.elements()):
        if item.kind == "load":
            value = item.active_power_mw * factor  # type: ignore[attr-defined]
        elif item.kind == "line":
            value = item.length_km * factor  # type: ignore[attr-defined]
        else:
            continue
        field = "active_power_mw" if item.kind == "load" else "length_km"
        changed[item.id] = item
        net.apply([Update(id=item.id, values={field: value})])
    live.changed(changed, changed)
    patched = live.solve(options=LoadFlowOptions(tolerance_pu=1e-12, start="last"))
    assert volts(patched) == pytest.approx(volts(run_load_flow(net, TIGHT)), abs=1e-10)
