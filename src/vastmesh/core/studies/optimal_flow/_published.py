"""What the exact and the linear optimal flow publish alike: plants, what binds, set-points, plots."""

from __future__ import annotations

import itertools
from typing import Any

import numpy as np

from ...electrical.arrays import Floats, Ints
from ...network import (
    Bus,
    Generator,
    Inverter,
    Load,
    SchemeChange,
    Shunt,
    Source,
    Transformer,
    Update,
    cost_blocks_of,
    cost_lines_of,
    price_at,
    price_of,
)
from ...results import Axis, Column, Figure, Quantity, Series, Table
from ._build import COST, SPREAD, Case
from ._changer import changer_of
from ._grid import Optimum

_SHOWN = 0.01  # of the largest plant: smaller ones are in the table and not in the plot
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


def hour_of(e: Any, mw: float, mvar: float = 0.0) -> float:
    """Cost of an hour of a plant at a power."""
    if e.cost_blocks:
        energy = max(cost * mw + constant for cost, constant in cost_lines_of(e.cost_blocks))
    else:
        energy = price_of(e) * mw + e.cost_rising * mw * mw
    return float(energy + e.cost_running + abs(mvar) * e.cost_per_mvarh)


def _hours(case: Case, p: Floats, q: Floats) -> Floats:
    """Cost of an hour of every plant."""
    found = [
        hour_of(case.network[i], x, y)
        for i, x, y in zip(case.plants.ident, (p * case.base).tolist(), (q * case.base).tolist(), strict=True)
    ]
    return np.array(found)


def plants_of(
    case: Case, found: Optimum, *, linear: bool = False, off: Ints | None = None, may_stop: Ints | None = None
) -> tuple[Table, float, float]:
    """Plants before and after, and the cost of an hour of all. ``linear``: without what those equations don't have; ``off``:
    those that are switched off, of those that ``may_stop``, which cost nothing then."""
    a, base, limits = case.plants, case.base, case.limits
    before, after = _hours(case, a.p, a.q), _hours(case, found.p, found.q)
    if off is not None and may_stop is not None:
        running = np.array([case.network[i].cost_running for i in a.ident])  # type: ignore[attr-defined]
        after[off] -= running[off]
        stood = may_stop[np.abs(a.p[may_stop]) <= 1e-6]
        before[stood] -= running[stood]

    def bound(values: Floats) -> Floats:
        return np.where(np.abs(values) < 1e3, values * base, np.nan)

    at = [_word(float(m), "most", "least") for m in found.at_p]
    price = found.price_p[case.grid.at] / base
    columns = [
        Column("id", "Id", a.ident, fixed=True), Column("name", "Name", [case.network[i].name for i in a.ident], fixed=True),
        Column("before_mw", "Now", a.p * base, "MW", 3), Column("after_mw", "Best", found.p * base, "MW", 3),
        Column("change_mw", "Change", (found.p - a.p) * base, "MW", 3),
        Column("least_mw", "Least", bound(limits.p_low), "MW", 2), Column("most_mw", "Most", bound(limits.p_high), "MW", 2),
        Column("at", "Stands at its", at), Column("before_mvar", "Q now", a.q * base, "Mvar", 3),
        Column("after_mvar", "Q best", found.q * base, "Mvar", 3),
        Column("voltage_pu", "Voltage", found.v[case.grid.at], "p.u.", 4),
        Column("cost_mwh", "Cost", np.array([price_at(case.network[i], x) for i, x in zip(
            a.ident, (found.p * base).tolist(), strict=True)]), "1/MWh", 2),
        Column("price", "Price there", price, None, 3, "What one MW more of demand at its bus would cost"),
        Column("hour_before", "An hour now", before, "1/h", 2), Column("hour_after", "An hour at best", after, "1/h", 2),
    ]  # fmt: skip
    if linear:
        columns = [c for c in columns if c.name not in ("before_mvar", "after_mvar", "voltage_pu")]
    return Table("plants", "Plants", columns), float(before.sum()), float(after.sum())


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
    for r, m in enumerate(found.at_rows.tolist()):
        ident, what = case.rows[r]
        if what not in (COST, SPREAD):
            angle = what.startswith("Angle")
            limit = float((limits.rows.high if m > 0 else limits.rows.low)[r])
            per, measure = (180 / np.pi, "°") if angle else (base, "Mvar")
            rows.append((ident, what, limit * per, measure, abs(m) / per))
    for r, m in enumerate(found.at_interfaces.tolist()):
        limit = float((limits.interfaces.high if m > 0 else limits.interfaces.low)[r]) * base
        rows.append(
            (
                case.interfaces[r],
                "Most power through it" if m > 0 else "Least power through it",
                limit,
                "MW",
                abs(m) / base,
            )
        )
    rows += _at_movers(case, found)
    rows = [r for r in rows if r[4] > _TOLD * scale and np.isfinite(r[2])]
    steps = {id(r): r[4] * (1.0 if r[3] == "%" else abs(r[2]) / 10) for r in rows}
    rows.sort(key=lambda r: -steps[id(r)])
    return Table("binding", "What binds", [
        Column("id", "Id", [r[0] for r in rows], fixed=True),
        Column("name", "Name", [case.network[r[0]].name for r in rows], fixed=True),
        Column("what", "Limit", [r[1] for r in rows], fixed=True),
        Column("step", "A step saves", np.array([steps[id(r)] for r in rows]), None, 2,
               f"{unit}, by 10 % more of a rating or power, by 1 % more of a voltage, as long as its price stays: in this order"),
        Column("limit", "Is", np.array([r[2] for r in rows]), None, 2),
        Column("unit", "Unit", [r[3] for r in rows], fixed=True),
        Column("saves", "One more saves", np.array([r[4] for r in rows]), None, 4, f"{unit}, by one more of its unit"),
    ])  # fmt: skip


def _at_movers(case: Case, found: Optimum) -> list[tuple[str, str, float, str, float]]:
    """Ends of taps, shifters, banks and shedding that bind; those set to whole steps are no limits."""
    if not len(found.at_moving):
        return []
    limits, mv = case.limits, case.movers
    t, b = len(mv.turns), len(mv.banks)
    cut = np.cumsum([0, t, t, b, len(mv.sheds)])
    turn, shift, bank, shed = (found.at_moving[x:y] for x, y in itertools.pairwise(cut))
    rows: list[tuple[str, str, float, str, float]] = []
    for name, ids, values, bounds, per, unit in (
        ("turns", mv.turns, turn, limits.turn, 100.0, "%"), ("shift", mv.turns, shift, limits.shift, 180 / np.pi, "°"),
        ("steps", mv.banks, bank, limits.bank, 1.0, "steps"), ("share shed", mv.sheds, shed, limits.shed, 100.0, "%"),
    ):  # fmt: skip
        for k, m in enumerate(values.tolist()):
            if bounds[0][k] < bounds[1][k]:
                rows.append(
                    (
                        ids[k],
                        f"{'Most' if m > 0 else 'Least'} {name}",
                        float(bounds[int(m > 0)][k]) * per,
                        unit,
                        abs(m) / per,
                    )
                )
    return rows


def positions(case: Case, found: Optimum) -> dict[str, tuple[float, float, float, float]]:
    """Of transformers that may move: tap position now and at best, shift beyond the vector group now and at best, degrees."""
    told = {}
    for k, ident in enumerate(case.movers.turns):
        changer = changer_of(case.network[ident])
        assert changer is not None
        now = case.movers.turns_now[k]
        item = case.network[ident]
        clock = 30.0 * item.clock() if isinstance(item, Transformer) else 0.0
        angle = float(np.degrees(case.movers.angle_now[k])) - clock
        turned = angle + float(np.degrees(found.shift[k]))
        told[ident] = changer.position(now), changer.position(now * found.turn[k]), angle, turned
    return told


def moved_of(case: Case, found: Optimum) -> Table:
    """What moves beside plants, now and at best."""
    rows: list[tuple[str, str, float, float, str]] = []
    limits = case.limits
    for k, (ident, (now, best, angle, turned)) in enumerate(positions(case, found).items()):
        if limits.turn[0][k] < limits.turn[1][k] or abs(now - best) > 1e-9:
            rows.append((ident, "Tap position", now, best, "1"))
        if limits.shift[0][k] < limits.shift[1][k] or abs(angle - turned) > 1e-9:
            rows.append((ident, "Phase shift", angle, turned, "°"))
    rows += [
        (i, "Steps on", float(now), float(best), "1")
        for i, now, best in zip(case.movers.banks, case.movers.banks_now, found.bank, strict=True)
    ]
    drawn = case.grid.moving.shed_load[0::2].sum(axis=0) * case.base
    rows += [
        (i, "Served", float(mw), float(mw * (1 - s)), "MW")
        for i, mw, s in zip(case.movers.sheds, drawn, found.shed, strict=True)
    ]
    return Table("moved", "Taps, steps, demand", [
        Column("id", "Id", [r[0] for r in rows], fixed=True),
        Column("name", "Name", [case.network[r[0]].name for r in rows], fixed=True),
        Column("what", "What", [r[1] for r in rows], fixed=True), Column("before", "Now", np.array([r[2] for r in rows]), None,
            2),
        Column("after", "Best", np.array([r[3] for r in rows]), None, 2),
        Column("unit", "Unit", [r[4] for r in rows], fixed=True),
    ])  # fmt: skip


def binds_most(binding: Table) -> str:
    """The dearest limit, in words."""
    grid = [n for n, what in enumerate(binding["what"]) if not what.endswith("active power")]
    if not grid:
        return "no limit of the network binds"
    return f"what binds most is {binding['name'][grid[0]]}, {binding['what'][grid[0]].lower()}"


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
    return changes if linear else changes + _moves(case, found)


def shifts_of(case: Case, found: Optimum) -> list[dict[str, Any]]:
    """Changes of phase shifters alone."""
    made = []
    for k, (ident, (_, _, now, best)) in enumerate(positions(case, found).items()):
        if case.limits.shift[0][k] < case.limits.shift[1][k]:
            values = {"phase_shift_deg": round(best, 6), "holds_flow": False}
            entry = SchemeChange(change=Update(id=ident, values=values), label=f"Set {case.network[ident].name}"[:200],
                                 gain=f"{now:.4g} → {best:.4g}°")  # fmt: skip
            made.append(entry.model_dump(mode="json"))
    return made


def _moves(case: Case, found: Optimum) -> list[dict[str, Any]]:
    """Changes of taps, shifters, steps and demand; automatic ones are set so that they stay where they are put."""
    made: list[tuple[str, dict[str, Any], str]] = []
    volts = {b: float(found.v[r]) for b, r in zip(case.arrays.bus_id, case.pattern.row.tolist(), strict=True) if r >= 0}
    for k, (ident, (now, best, _, turned)) in enumerate(positions(case, found).items()):
        t: Any = case.network[ident]
        changer = changer_of(t)
        values: dict[str, Any] = {}
        if case.limits.turn[0][k] < case.limits.turn[1][k] or now != best:
            values["tap_position"] = round(best)
            if changer is not None and changer.automatic:
                at = t.held_bus or (t.lv_bus if isinstance(t, Transformer) else t.to_bus)
                held = volts.get(at)
                plain = held is not None and not t.ldc_r_ohm and not t.ldc_x_ohm and 0.8 <= held <= 1.2
                values |= {"target_pu": round(held or 1.0, 4)} if plain else {changer.automatic: False}
        if case.limits.shift[0][k] < case.limits.shift[1][k]:  # it holds no flow any more but stays where it is put
            values |= {"phase_shift_deg": round(turned, 6), "holds_flow": False}
        made.append((ident, values, f"{now:.0f} → {best:.0f}"))
    for ident, now, best in zip(case.movers.banks, case.movers.banks_now.tolist(), found.bank.tolist(), strict=True):
        s: Any = case.network[ident]
        assert isinstance(s, Shunt)
        values = {"steps_on": round(best)}
        if s.automatic and not s.on_below_pu <= volts.get(s.bus, 1.0) <= s.off_above_pu:
            values["automatic"] = False
        made.append((ident, values, f"{now:.0f} → {best:.0f} steps"))
    served: dict[str, float] = dict(zip(case.movers.sheds, (1 - found.shed).tolist(), strict=True))
    for ident, share in served.items():
        d: Any = case.network[ident]
        assert isinstance(d, Load)
        figures = [
            f
            for f in ("active_power_mw", "reactive_power_mvar", "apparent_power_mva", "current_a")
            if getattr(d, f) is not None
        ]
        if share < 1 - 1e-6:
            values = {f: round(getattr(d, f) * share, 9) for f in figures}
            made.append((ident, values, f"{100 * (1 - share):.1f} % shed"))
    changes = []
    for ident, values, gain in made:
        values = {f: v for f, v in values.items() if not _same(getattr(case.network[ident], f), v)}
        if values:
            entry = SchemeChange(
                change=Update(id=ident, values=values), label=f"Set {case.network[ident].name}"[:200], gain=gain
            )
            changes.append(entry.model_dump(mode="json"))
    return changes


def _same(old: Any, new: Any) -> bool:
    return bool(old == new or (isinstance(old, float) and isinstance(new, float) and abs(old - new) < 2e-6))


def figures_of(case: Case, found: Optimum) -> list[Figure]:
    ids, base = case.plants.ident, case.base
    price = {i: price_of(case.network[i]) for i in ids}
    size = np.maximum(np.abs(case.plants.p), np.abs(found.p))
    shown = [n for n in range(len(ids)) if size[n] > _SHOWN * float(size.max(initial=0.0))]
    order = sorted(shown, key=lambda n: price[ids[n]])
    names: list[Any] = [case.network[ids[n]].name for n in order]
    most = (case.limits.p_high * base)[order]
    here = [ids[n] for n in order]
    made = [Figure("dispatch", "Dispatch", Axis("Plant, the cheapest first"), Axis("Active power", "MW", 1), [
        *([Series("before", "now", names, (case.plants.p * base)[order], "bars", here)] if case.before else []),
        Series("after", "best", names, (found.p * base)[order], "bars", here),
        Series("most", "most", names, [float(x) if x < 1e6 else None for x in most], "levels", here),
    ])]  # fmt: skip
    given = [(case.network[ids[n]], float(found.p[n]) * base) for n in order if found.p[n] > 0]
    steps = sorted(step for e, mw in given for step in _steps_of(e, mw))
    x, y = [0.0], [steps[0][0] if steps else 0.0]
    for cost, mw in steps:
        x += [x[-1], x[-1] + mw]
        y += [cost, cost]
    made.append(Figure("merit", "Merit order", Axis("Active power, added up", "MW", 0), Axis("Cost", "1/MWh", 1),
                       [Series("merit", "what is dispatched, the cheapest first", x, y)]))  # fmt: skip
    if len(found.trace) > 1:
        steps_ = list(range(len(found.trace)))
        off = [float(np.log10(max(t[1], 1e-16))) for t in found.trace]
        made.append(Figure("progress", "Progress", Axis("Iteration", None, 0), Axis("Largest violation, power of ten", None, 0),
                           [Series("off", "what is still violated, p.u.", steps_, off)]))  # fmt: skip
    return made


def _steps_of(e: Any, mw: float) -> list[tuple[float, float]]:
    """Costs of a MWh and how much of a power is given at each."""
    if not e.cost_blocks:
        return [(price_at(e, mw), mw)]
    found, at = [], 0.0
    for to, cost in cost_blocks_of(e.cost_blocks):
        found.append((cost, max(min(mw, to) - at, 0.0)))
        at = to
    return [step for step in found if step[1] > 0]


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
