"""What the exact and the linear optimal flow publish alike: plants, what binds, set-points, plots."""

from __future__ import annotations

from typing import Any

import numpy as np

from ...electrical.arrays import Floats
from ...network import Bus, Generator, Inverter, SchemeChange, Source, Update, price_of
from ...results import Axis, Column, Figure, Quantity, Series, Table
from ._build import Case
from ._problem import Optimum

_TOLD = 1e-4  # of the price of energy, from which a limit counts as binding


def bus_of(case: Case, node: int) -> str:
    """A bus of a node; the first, where switches join several."""
    return next(b for b, r in zip(case.arrays.bus_id, case.pattern.row.tolist(), strict=True) if r == node)


def live_buses(case: Case) -> list[int]:
    """Rows of the buses that have a supply, star points inside elements aside."""
    ids, row = case.arrays.bus_id, case.pattern.row.tolist()
    return [n for n, r in enumerate(row) if r >= 0 and isinstance(case.network.items.get(ids[n]), Bus)]


def end_of(case: Case, at: int, side: str) -> tuple[str, float, str]:
    """Element of a live branch, and what one per unit of its limit is."""
    b, row = case.arrays.tables["branch"], case.branch[at]
    ident = case.arrays.element_id[b["element"][row]]
    if case.limits.power:
        return ident, case.base, "MVA"
    return ident, float(case.arrays.base_current_a()[b[side][row]]), "A"


def _hour(case: Case, p: Floats) -> Floats:
    """Cost of an hour of every plant."""
    items: list[Any] = [case.network[i] for i in case.plants.ident]
    mw = p * case.base
    return np.array(
        [price_of(e) * x + e.cost_rising * x * x + e.cost_running for e, x in zip(items, mw.tolist(), strict=True)]
    )


def plants_of(case: Case, found: Optimum) -> tuple[Table, float, float]:
    a, base, limits = case.plants, case.base, case.limits
    before, after = _hour(case, a.p), _hour(case, found.p)

    def bound(values: Floats) -> Floats:
        return np.where(np.abs(values) < 1e3, values * base, np.nan)

    at = [_word(float(m), "most", "least") for m in found.at_p]
    price = found.price_p[case.grid.at] / base
    table = Table("plants", "Plants", [
        Column("id", "Id", a.ident, fixed=True), Column("name", "Name", [case.network[i].name for i in a.ident], fixed=True),
        Column("before_mw", "Now", a.p * base, "MW", 3), Column("after_mw", "Best", found.p * base, "MW", 3),
        Column("change_mw", "Change", (found.p - a.p) * base, "MW", 3),
        Column("least_mw", "Least", bound(limits.p_low), "MW", 2), Column("most_mw", "Most", bound(limits.p_high), "MW", 2),
        Column("at", "Stands at its", at), Column("before_mvar", "Q now", a.q * base, "Mvar", 3),
        Column("after_mvar", "Q best", found.q * base, "Mvar", 3),
        Column("voltage_pu", "Voltage", found.v[case.grid.at], "p.u.", 4),
        Column("cost_mwh", "Cost", np.array([price_of(case.network[i]) for i in a.ident]), "1/MWh", 2),
        Column("price", "Price there", price, None, 3, "What one MW more of demand at its bus would cost"),
        Column("hour_before", "An hour now", before, "1/h", 2), Column("hour_after", "An hour at best", after, "1/h", 2),
    ])  # fmt: skip
    return table, float(before.sum()), float(after.sum())


def _word(multiplier: float, high: str, low: str) -> str:
    return "" if abs(multiplier) < 1e-5 else high if multiplier > 0 else low


def binding_of(case: Case, found: Optimum, unit: str) -> Table:
    """Limits that bind, the dearest first; what one more unit of each saves."""
    base, limits = case.base, case.limits
    scale = max(float(np.abs(found.price_p).max()) / base, 1e-9)
    rows: list[tuple[str, str, float, str, float]] = []
    for i, m in enumerate(found.at_v.tolist()):
        if limits.v_low[i] < limits.v_high[i]:  # by the per cent, which is as much of a step as a MW
            limit = 100 * float((limits.v_high if m > 0 else limits.v_low)[i])
            rows.append((bus_of(case, i), "Highest voltage" if m > 0 else "Lowest voltage", limit, "%", abs(m) / 100))
    for name, word, measure in (("p", "active", "MW"), ("q", "reactive", "Mvar")):
        low, high = getattr(limits, f"{name}_low"), getattr(limits, f"{name}_high")
        for i, m in enumerate(getattr(found, f"at_{name}").tolist()):
            if low[i] < high[i]:
                limit = float((high if m > 0 else low)[i]) * base
                rows.append(
                    (
                        case.plants.ident[i],
                        f"{'Most' if m > 0 else 'Least'} {word} power",
                        limit,
                        measure,
                        abs(m) / base,
                    )
                )
    for side, values, most in (("from", found.at_from, limits.most_from), ("to", found.at_to, limits.most_to)):
        for k in np.flatnonzero(values).tolist():
            ident, per, measure = end_of(case, k, side)
            rows.append((ident, f"Rating, {side} end", float(most[k]) * per, measure, float(values[k]) / per))
    rows = sorted((r for r in rows if r[4] > _TOLD * scale), key=lambda r: -r[4])
    return Table("binding", "What binds", [
        Column("id", "Id", [r[0] for r in rows], fixed=True),
        Column("name", "Name", [case.network[r[0]].name for r in rows], fixed=True),
        Column("what", "Limit", [r[1] for r in rows], fixed=True), Column("limit", "Is", np.array([r[2] for r in rows]), None, 3),
        Column("unit", "Unit", [r[3] for r in rows], fixed=True),
        Column("saves", "One more saves", np.array([r[4] for r in rows]), None, 4, f"{unit}, by one more of its unit"),
    ])  # fmt: skip


def binds_most(binding: Table) -> str:
    """The dearest limit, in words."""
    if not len(binding):
        return "no limit binds"
    return f"what binds most is {binding['name'][0]}, {binding['what'][0].lower()}"


def scheme_of(case: Case, found: Optimum, *, linear: bool = False) -> list[dict[str, Any]]:
    """Set-points that are others than now; ``linear``: active powers alone."""
    changes = []
    for n, (ident, factor) in enumerate(zip(case.plants.ident, case.plants.factor.tolist(), strict=True)):
        e = case.network[ident]
        node, base = int(case.grid.at[n]), case.base
        volts = round(float(found.v[node]), 6)
        values: dict[str, Any] = {}
        if isinstance(e, Source):
            values = {"voltage_pu": volts, "angle_deg": round(float(np.degrees(found.theta[node])), 6)}
        elif isinstance(e, Generator | Inverter) and factor:
            values = {"active_power_mw": round(float(found.p[n]) * base / factor, 6)}
            if isinstance(e, Generator) and e.control == "voltage":
                there = e.held_bus if e.held_bus in case.arrays.bus_id else e.bus
                held = int(case.pattern.row[case.arrays.bus_id.index(str(there))])
                values["voltage_pu"] = round(float(found.v[held]), 6) if held >= 0 else volts
            elif getattr(e, "control", "") != "voltage_curve":
                values |= {"control": "reactive", "reactive_power_mvar": round(float(found.q[n]) * base / factor, 6)}
        if linear:
            values = {f: v for f, v in values.items() if f == "active_power_mw"}
        values = {f: v for f, v in values.items() if not _same(getattr(e, f), v)}
        if values:
            gain = f"{float(case.plants.p[n]) * base:.2f} → {float(found.p[n]) * base:.2f} MW"
            entry = SchemeChange(change=Update(id=ident, values=values), label=f"Set {e.name}"[:200], gain=gain)
            changes.append(entry.model_dump(mode="json"))
    return changes


def _same(old: Any, new: Any) -> bool:
    return bool(old == new or (isinstance(old, float) and isinstance(new, float) and abs(old - new) < 2e-6))


def figures_of(case: Case, found: Optimum) -> list[Figure]:
    ids, base = case.plants.ident, case.base
    price = {i: price_of(case.network[i]) for i in ids}
    order = sorted(range(len(ids)), key=lambda n: price[ids[n]])
    names: list[Any] = [case.network[ids[n]].name for n in order]
    most = (case.limits.p_high * base)[order]
    here = [ids[n] for n in order]
    made = [Figure("dispatch", "Dispatch", Axis("Plant, the cheapest first"), Axis("Active power", "MW", 1), [
        *([Series("before", "now", names, (case.plants.p * base)[order], "bars", here)] if case.before else []),
        Series("after", "best", names, (found.p * base)[order], "bars", here),
        Series("most", "most", names, [float(x) if x < 1e6 else None for x in most], "levels", here),
    ])]  # fmt: skip
    steps = [(price[ids[n]], float(found.p[n]) * base) for n in order if found.p[n] > 0]
    x, y = [0.0], [steps[0][0] if steps else 0.0]
    for cost, mw in steps:
        x += [x[-1], x[-1] + mw]
        y += [cost, cost]
    made.append(Figure("merit", "Merit order", Axis("Active power, added up", "MW", 0), Axis("Cost", "1/MWh", 1),
                       [Series("merit", "what is dispatched, the cheapest first", x, y)]))  # fmt: skip
    return made


def quantities_of(unit: str) -> list[Quantity]:
    return [
        Quantity(
            "price", "Price", "buses", f"{unit} per MW", 3, "What one MW more of demand there would cost", "growing"
        ),
        Quantity("beside", "Price beside energy", "buses", f"{unit} per MW", 3, "By losses and limits", "around_zero"),
        Quantity(
            "saves", "Saved by one more", "branches", None, 4, "What one more unit of its limit would save", "growing"
        ),
    ]
