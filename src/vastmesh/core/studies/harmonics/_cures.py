"""Why a voltage is beyond its level, and what helps: every proposal has been tried before it is made."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from ...network import Add, Bus, Change, Condition, Load, Namer, Remove, Shunt, Update
from ...results import Cause, Proposal, Result
from ..base import Inputs
from ._design import quiet, round_to, with_changes
from ._distortion import run_distortion
from ._grid import Grid, sequence_of
from ._limits import order_in
from ._options import DistortionOptions
from ._scan import grid_of

_TAKES_PART = 0.1  # of the reactive power in all capacitances, from which a bank is looked at
_HELPS = 0.97  # of what it was: what helps less is not proposed
_MOST = 4


def find_cures(inputs: Inputs, result: Result, options: Mapping[str, Any], ident: str, quantity: str) -> Cause:
    """Explain a finding of the distortion at a bus or a bank, and try detuning, switching and filters."""
    asked = DistortionOptions(**{**options, "over": "present"})
    item = inputs.network[ident]
    bus = item if isinstance(item, Bus) else inputs.network.items.get(getattr(item, "bus", ""))
    value = _value(result, ident, quantity)
    grid = grid_of(inputs, asked)
    if not isinstance(bus, Bus) or value is None or grid is None or grid.row(bus.id) < 0:
        return Cause("What is written beside the finding says it all.", [ident], [])
    h = _order(result, ident, quantity)
    text, named, banks = _told(inputs, grid, bus, h)
    grid.close()
    tried: list[tuple[float, Proposal]] = []
    for label, changes in _ideas(inputs, result, bus, h, banks):
        found = run_distortion(with_changes(inputs, changes), asked, quiet)
        after = _value(found, ident, quantity)
        if after is None and isinstance(item, Shunt):
            after = 0.0  # the bank itself has gone
        if after is not None and after < _HELPS * value:
            over = sum(f.severity == "breach" for f in found.findings)
            effect = f"{value:.2f} → {after:.2f} %; {over} level{'' if over == 1 else 's'} exceeded then"
            tried.append((after, Proposal(label, effect, changes)))
    tried.sort(key=lambda t: t[0])
    return Cause(text, named, [p for _, p in tried[:_MOST]])


def _value(result: Result, ident: str, quantity: str) -> float | None:
    for name in ("buses", "capacitors", "branches"):
        table = result.tables.get(name)
        if table is not None and ident in table["id"] and quantity in {c.name for c in table.columns}:
            return float(table[quantity][list(table["id"]).index(ident)])
    return None


def _order(result: Result, ident: str, quantity: str) -> float:
    """The order a finding is about: its own, or the largest there."""
    if quantity.startswith("order_"):
        return order_in(quantity)
    for name in ("buses", "capacitors"):
        table = result.tables.get(name)
        if table is not None and ident in table["id"]:
            return float(table["most_order"][list(table["id"]).index(ident)])
    return 5.0


def _told(inputs: Inputs, grid: Grid, bus: Bus, h: float) -> tuple[str, list[str], list[str]]:
    """What the bus sees at the order, the elements named, and the banks that take part."""
    row, sequence = grid.row(bus.id), sequence_of(h) or 1
    kv = float(grid.arrays.bus_kv[grid.arrays.bus_id.index(bus.id)])
    grid.factorise(h, sequence)
    v = grid.unit(row)
    ohm, swings = abs(v[row]) * kv**2 / grid.arrays.base_mva, grid.capacitances(h, v)
    bare = complex(grid.bare()[row]) * kv**2 / grid.arrays.base_mva
    alone = abs(complex(bare.real, h * bare.imag))
    total = sum(swings.values()) or 1.0
    most = sorted(swings, key=lambda i: -swings[i])[:3]
    banks = [i for i in most if swings[i] >= _TAKES_PART * total and isinstance(inputs.network[i], Shunt)]
    peak = _peak_near(grid, row, h, sequence)
    text = f"At order {h:g} {bus.name} sees {ohm:.3g} Ω; its sources alone would be {alone:.3g} Ω."
    if peak is not None:
        text += f" A parallel resonance lies at order {peak:.2f}"
        text += f", made by {inputs.network[most[0]].name} ({100 * swings[most[0]] / total:.0f} %)." if most else "."
    return text, [bus.id, *most[:1]], banks


def _peak_near(grid: Grid, row: int, h: float, sequence: int) -> float | None:
    """The highest peak within an order and a half."""
    orders = np.linspace(max(1.1, h - 1.5), h + 1.5, 61)
    sizes = []
    for n in orders:
        grid.factorise(float(n), sequence)
        sizes.append(abs(grid.unit(row)[row]))
    size = np.array(sizes)
    inner = np.flatnonzero((size[1:-1] > size[:-2]) & (size[1:-1] >= size[2:])) + 1
    return float(orders[inner[size[inner].argmax()]]) if len(inner) else None


def _ideas(inputs: Inputs, result: Result, bus: Bus, h: float, banks: list[str]) -> list[tuple[str, list[Change]]]:
    network, condition = inputs.network, inputs.under
    found: list[tuple[str, list[Change]]] = []
    namer = Namer(network)
    for ident in banks:
        e = network[ident]
        if not isinstance(e, Shunt) or not e.step_mvar:
            continue
        name = namer.plain(f"{e.name} detuned")
        detuned = {
            "kind": "filter", "id": name, "bus": e.bus, "design": "detuned", "step_mvar": e.step_mvar, "reactor_pct": 7.0,
            "steps": e.steps, "steps_on": e.steps_on, "conductors": e.conductors, "connection": e.connection,
            **({"rated_kv": e.rated_kv} if e.rated_kv else {}),
        }  # fmt: skip
        # A condition that says how many steps are on says so of what comes in its place.
        moved = [Update(id=c.id, values={"values": {name if i == ident else i: v for i, v in c.values.items()}})
                 for c in network.of(Condition) if ident in c.values]  # fmt: skip
        found.append((f"Detune {e.name} with 7 % reactors", [Add(item=detuned), *moved, Remove(id=ident)]))
        # A condition may say that no step is on, so 0 is an answer and only a missing value asks the element.
        said = condition.values.get(ident, {}).get("steps_on")
        on = e.steps_on if said is None else int(said)
        for k in (on - 1, on + 1):
            if 0 <= k <= e.steps and not e.automatic:
                found.append((f"Switch {e.name} to {k} of {e.steps} steps", [_switched(inputs, ident, k)]))
    whose = result.tables.get("contributions")
    if whose is not None and len(whose):
        source = network.items.get(whose["id"][0])
        if isinstance(source, Load):
            size = round_to(0.35 * abs(source.power_mva()), 2)
            item = {"kind": "filter", "id": namer.plain(f"Filter {network[source.bus].name}"), "bus": source.bus,
                    "design": "single", "step_mvar": size, "tuned_order": round_to(0.94 * h, 3)}  # fmt: skip
            found.append((f"A filter of {size:g} Mvar for order {h:g} at {network[source.bus].name}", [Add(item=item)]))
    return found


def _switched(inputs: Inputs, ident: str, steps: int) -> Change:
    """So many steps on under the condition in use: where that says so itself, there."""
    condition = inputs.under
    if "steps_on" in condition.values.get(ident, {}):
        values = {i: dict(v) for i, v in condition.values.items()}
        values[ident]["steps_on"] = steps
        return Update(id=condition.id, values={"values": values})
    return Update(id=ident, values={"steps_on": steps})


__all__ = ["find_cures"]
