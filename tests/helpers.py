"""Small networks as plain data, and invariants that every load flow must keep."""

from __future__ import annotations

from typing import Any

import numpy as np
from hypothesis import strategies as st

from vastmesh.core.network import Add, Network, Update
from vastmesh.core.results import Result
from vastmesh.core.results.state import LoadFlowResult
from vastmesh.core.studies import STUDIES, Inputs

Item = dict[str, Any]


def bus(ident: str, kv: float = 11.0, **more: Any) -> Item:
    return {"kind": "bus", "id": ident, "nominal_kv": kv, **more}


def source(at: str, **more: Any) -> Item:
    return {"kind": "source", "id": f"source-{at}", "bus": at, **more}


def line(frm: str, to: str, **more: Any) -> Item:
    constants = {} if "type" in more else {"r_ohm_per_km": 0.3, "x_ohm_per_km": 0.35}
    return {"kind": "line", "id": f"{frm}-{to}", "from_bus": frm, "to_bus": to, "length_km": 1.0, **constants, **more}


def load(at: str, mw: float, mvar: float = 0.0, **more: Any) -> Item:
    item = {"kind": "load", "id": f"load-{at}", "bus": at, "active_power_mw": mw, "reactive_power_mvar": mvar}
    return {**item, **more}


def transformer(hv: str, lv: str, hv_kv: float = 33.0, lv_kv: float = 11.0, **more: Any) -> Item:
    return {
        "kind": "transformer", "id": f"{hv}/{lv}", "hv_bus": hv, "lv_bus": lv, "hv_kv": hv_kv, "lv_kv": lv_kv,
        "rated_mva": 10.0, "impedance_pct": 8.0, "x_over_r": 12.0, **more,
    }  # fmt: skip


def switch(frm: str, to: str, **more: Any) -> Item:
    return {"kind": "switch", "id": f"{frm}|{to}", "from_bus": frm, "to_bus": to, **more}


def network(*items: Item) -> Network:
    return Network.from_items(items)


def with_settings(net: Network, **values: Any) -> Network:
    """The same network with other settings."""
    known = "settings" in net
    net.apply(
        [Update(id="settings", values=values) if known else Add(item={"kind": "settings", "id": "settings", **values})]
    )
    return net


def run_study(study: str, given: Network | Inputs, **options: Any) -> Result:
    """A study by its name, here and now; of a network as it stands, without its schemes."""
    kind = STUDIES[study]
    inputs = given if isinstance(given, Inputs) else Inputs(given)
    return kind.run(inputs, kind.options(**options), lambda share, words: None)


def at(result: Any, table: str, ident: str, name: str) -> Any:
    """One figure of a table."""
    found = result.tables[table]
    return found[name][list(found["id"]).index(ident)]


def volts(result: LoadFlowResult) -> dict[str, complex]:
    """Complex bus voltages per unit by bus id."""
    table = result.tables["buses"]
    angle = np.radians(table["angle_deg"])
    return dict(zip(table["id"], (table["voltage_pu"] * np.exp(1j * angle)).tolist(), strict=True))


def column(result: LoadFlowResult, table: str, name: str) -> dict[str, Any]:
    found = result.tables[table]
    return dict(zip(found["id"], list(found[name]), strict=True))


def assert_balanced(net: Network, result: LoadFlowResult, *, within_mva: float = 1e-6) -> None:
    """Kirchhoff at every live bus from the published tables alone: what comes in goes out."""
    surplus: dict[str, complex] = {}

    def add(at: str, power: complex) -> None:
        surplus[at] = surplus.get(at, 0j) + power

    for row in result.tables["branches"].records():
        if row["from_active_power_mw"] is None:
            continue
        add(row["from_bus"], -complex(row["from_active_power_mw"], row["from_reactive_power_mvar"]))
        add(row["to_bus"], -complex(row["to_active_power_mw"], row["to_reactive_power_mvar"]))
    for row in result.tables["injections"].records():
        if row["active_power_mw"] is None:
            continue
        p, q = row["active_power_mw"], row["reactive_power_mvar"]
        drawn = row["kind"] in ("load", "lumped", "induction_motor", "synchronous_motor")
        sign = complex(-p, -q) if drawn else complex(-p, q) if row["kind"] in ("shunt", "filter") else complex(p, q)
        add(row["bus"], sign)
    for row in result.tables["windings"].records() if "windings" in result.tables else []:
        for side in ("hv", "mv", "lv"):
            if row[f"{side}_active_power_mw"] is not None:
                add(row[f"{side}_bus"], -complex(row[f"{side}_active_power_mw"], row[f"{side}_reactive_power_mvar"]))
    worst = max(surplus, key=lambda b: abs(surplus[b]), default=None)
    assert worst is None or abs(surplus[worst]) < within_mva, f"{worst}: {surplus[worst]} MVA are left over"
    total = result.summary
    left = total["generation_mw"] - total["demand_mw"] - total["active_loss_mw"] - total["shunt_mw"]
    assert abs(left) < within_mva * max(len(surplus), 1)


@st.composite
def networks(draw: st.DrawFn, *, most_buses: int = 12) -> Network:
    """Random solvable networks: a tree of lines and transformers, a few loops, mixed demand, light loading."""
    n = draw(st.integers(2, most_buses))
    items: list[Item] = [bus("b0", 33.0), source("b0", voltage_pu=draw(st.floats(0.98, 1.05)))]
    kv = {"b0": 33.0}
    number = st.floats(0.05, 1.0)
    for i in range(1, n):
        parent, here = f"b{draw(st.integers(0, i - 1))}", f"b{i}"
        if kv[parent] == 33.0 and draw(st.booleans()):
            group = draw(st.sampled_from(["Dyn11", "YNd1", "YNyn0", "Dyn5"]))
            kv[here] = 11.0
            items += [bus(here, 11.0), transformer(parent, here, vector_group=group, iron_loss_kw=8.0, rated_mva=20.0)]
        else:
            kv[here] = kv[parent]
            items += [
                bus(here, kv[here]),
                line(parent, here, length_km=draw(number) * 2, b_us_per_km=draw(number) * 50),
            ]
        if draw(st.booleans()):
            share = draw(st.sampled_from([(100.0, 0.0, 0.0), (40.0, 30.0, 30.0), (0.0, 100.0, 0.0), (0.0, 0.0, 100.0)]))
            items.append(
                load(here, draw(number), draw(number) * 0.5, constant_power_pct=share[0], constant_current_pct=share[1],
                     constant_impedance_pct=share[2])
            )  # fmt: skip
        if draw(st.integers(0, 5)) == 0:
            items.append({"kind": "generator", "id": f"gen-{here}", "bus": here, "active_power_mw": draw(number)})
        if draw(st.integers(0, 5)) == 0:
            items.append({"kind": "shunt", "id": f"cap-{here}", "bus": here, "step_mvar": draw(number)})
    for _ in range(draw(st.integers(0, 2))):
        a, b = f"b{draw(st.integers(0, n - 1))}", f"b{draw(st.integers(0, n - 1))}"
        taken = {i["id"] for i in items}
        if a != b and kv[a] == kv[b] and f"{a}-{b}" not in taken and all(kv[x] == 33.0 for x in (a, b)):
            items.append(line(a, b, length_km=1.5))
    return network(*items)


def ring(*more: Item, **changes: dict[str, Any]) -> Network:
    """Three 110 kV buses with lines of 20 km between all, a source at A, a plant at C; ``changes``: of items, by id."""
    way = {"length_km": 20.0, "r_ohm_per_km": 0.06, "x_ohm_per_km": 0.4, "b_us_per_km": 2.8, "rating_a": 400.0}
    items: list[Item] = [
        *(bus(b, 110.0) for b in "ABC"), source("A", cost_per_mwh=40.0),
        *(line(a, b, **way) for a, b in ("AB", "BC", "AC")), load("B", 40.0, 10.0), load("C", 30.0, 8.0),
        {"kind": "generator", "id": "plant", "bus": "C", "active_power_mw": 20.0, "control": "voltage", "q_min_mvar": -30.0,
         "q_max_mvar": 30.0, "least_mw": 0.0, "most_mw": 60.0, "cost_per_mwh": 30.0},
    ]  # fmt: skip
    return network(*({**i, **changes.get(i["id"], {})} for i in items), *more)
