"""A day by the hour as one problem: what storage moves from hour to hour, ramps, starts and stops.

Every hour is a state of its own. Of storage what is taken in, c, and given, d, stand apart, p = d - c; both ways lose alike, so
that after hour t the energy is E0 + sum over the hours up to t of sqrt(r) c - d / sqrt(r), between nothing and all, and again
E0 in the end; r is the round trip. Between one hour and the next a plant moves by at most its ramp.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ...electrical.arrays import Floats, Ints
from ...flow import Ending
from ...network import Condition, Generator, Inverter
from ...results import Account, Axis, Bound, Column, Figure, Quantity, Result, Series, Table
from ..base import Inputs, Progress
from ..rows import Rows, RowsOf
from ._build import Case, build
from ._check import put_into_load_flow
from ._grid import Cost, Optimum, State
from ._linear import UNBOUNDED, UNSOLVED, Decided, Whole, solve_linear
from ._linear_study import NO_LINEAR_ANSWER, ac_beside, drawn_of, left_out, linear_branches, whole_of, without_running
from ._options import OptimalFlowOptions, day_of
from ._problem import solve
from ._published import bus_of, end_of, hour_of, live_buses, moved_of
from ._ready import nothing_live, soft_of, something_moves
from ._steps import whole_hours

_HOURS = 4.0  # of its rating, where a storage says nothing


@dataclass(frozen=True)
class Storage:
    """Storage of the day: places among machines, energy and what is there at first, per unit hours, and the loss of one way."""

    plants: Ints
    energy: Floats
    first: Floats
    one_way: Floats


def run_day(inputs: Inputs, options: OptimalFlowOptions, progress: Progress) -> Result:
    """Solve and publish. Raises :class:`InvalidFields` where nothing may move."""
    cases: list[Case] = []
    shares = day_of(options.day)
    for hour, share in enumerate(shares):
        progress(0.0, f"hour {hour + 1} of {len(shares)}")
        case = build(inputs.network, _at(inputs.under, *share), options)
        if case is None:
            return nothing_live("Optimal day")
        cases.append(case)
    something_moves(cases[0], options)
    stores = _storage(cases[0])
    whole = whole_of(cases[0], options) if options.equations == "linear" else None
    cases = [without_running(c, whole) for c in cases]
    states = [_with_storage(c, stores) for c in cases]
    coupling = _coupling(cases[0], states, stores)
    decided: Decided | None = None
    rounded = ""
    if options.equations == "linear":
        drawn = [drawn_of(c) for c in cases]
        found, decided = solve_linear(
            states, linear_branches(cases[0]), drawn, coupling, whole, losses=options.losses_counted
        )
        off = float("nan")
    else:
        soft = soft_of(cases[0], options)
        found = solve(states, progress, coupling, soft)
        if found[0].found:
            found, rounded = whole_hours(cases, states, coupling, found, options, progress, soft)
        off = (
            max((put_into_load_flow(c, f) for c, f in zip(cases, found, strict=True)), default=0.0)
            if found[0].found
            else np.nan
        )
    if not found[0].found:
        return _without(cases, options, found[0])
    return _published(cases, states, options, found, stores, whole, decided, off, rounded)


def _at(condition: Condition, demand: float, wind: float, sun: float) -> Condition:
    """The condition in an hour of the day."""
    energies = dict(condition.energy_factors)
    energies["wind"], energies["solar"] = energies.get("wind", 1.0) * wind, energies.get("solar", 1.0) * sun
    return condition.model_copy(update={"demand_factor": condition.demand_factor * demand, "energy_factors": energies})


def _stores(e: Generator | Inverter) -> bool:
    """Whether it moves energy from hour to hour: hydro does where it can pump."""
    return e.energy == "storage" or (e.energy == "hydro" and e.energy_mwh is not None and (e.least_mw or 0.0) < 0)


def _storage(case: Case) -> Storage:
    """Plants that store, and may be dispatched."""
    found: list[tuple[int, float, float, float]] = []
    for k, ident in enumerate(case.plants.ident):
        e = case.network[ident]
        if isinstance(e, Generator | Inverter) and _stores(e) and case.limits.p_low[k] < case.limits.p_high[k]:
            size = e.energy_mwh if e.energy_mwh is not None else _HOURS * (e.rated_mva or 0.0)
            found.append(
                (k, size / case.base, size / case.base * e.energy_now_pct / 100, (e.round_trip_pct / 100) ** 0.5)
            )
    columns = np.array(found, float).reshape(-1, 4).T
    return Storage(columns[0].astype(np.int64), columns[1], columns[2], columns[3])


def _with_storage(case: Case, stores: Storage) -> State:
    """The state of an hour in which storage gives and takes apart: two further unknowns each. Its energy has been paid for;
    what it costs of its own counts for what it gives."""
    state = case.state
    lay, lim, cost = state.layout, state.limits, state.cost
    s = len(stores.plants)
    if not s:
        return state
    p = lay.place("p").start + stores.plants
    at = lay.size
    own = np.array(
        [getattr(case.network[case.plants.ident[k]], "cost_per_mwh", None) or 0.0 for k in stores.plants.tolist()]
    )
    linear, square = np.r_[cost.linear, np.zeros(2 * s)], np.r_[cost.square, np.zeros(2 * s)]
    if (cost.linear[p] != 0).any():
        linear[at + s :] = own * case.base
    linear[p] = 0.0
    first = len(lim.rows)
    number = first + np.arange(s)
    rows = Rows(
        np.r_[lim.rows.row, number, number, number], np.r_[lim.rows.col, p, at + np.arange(s), at + s + np.arange(s)],
        np.r_[lim.rows.value, np.ones(s), np.ones(s), -np.ones(s)], np.r_[lim.rows.low, np.zeros(s)], np.r_[lim.rows.high,
            np.zeros(s)],
    )  # fmt: skip
    most_in, most_out = np.maximum(-lim.p_low[stores.plants], 0.0), np.maximum(lim.p_high[stores.plants], 0.0)
    further = np.array([np.r_[lim.further[0], np.zeros(2 * s)], np.r_[lim.further[1], most_in, most_out]])
    now = case.plants.p[stores.plants]
    start = np.r_[state.start, np.maximum(-now, 0.0), np.maximum(now, 0.0)]
    return State(
        state.grid, replace(lim, rows=rows, further=further), Cost(linear, square, cost.losses, cost.fixed), start
    )


def _coupling(case: Case, states: list[State], stores: Storage) -> Rows:
    """Energies after every hour, then ramps."""
    rows = RowsOf()
    starts = np.cumsum([0, *(s.layout.size for s in states)]).tolist()
    s = len(stores.plants)
    for k in range(s):
        terms: list[tuple[int, float]] = []
        for t, state in enumerate(states):
            at = starts[t] + state.layout.size - 2 * s
            terms += [(at + k, float(stores.one_way[k])), (at + s + k, -1 / float(stores.one_way[k]))]
            last = t == len(states) - 1
            low, high = (0.0, 0.0) if last else (-float(stores.first[k]), float(stores.energy[k] - stores.first[k]))
            rows.add(terms, low, high)
    for k, ident in enumerate(case.plants.ident):
        ramp = getattr(case.network[ident], "ramp_mw_per_min", None)
        if ramp is None:
            continue
        most = 60 * ramp / case.base
        for t in range(1, len(states)):
            p, before = (starts[h] + states[h].layout.place("p").start + k for h in (t, t - 1))
            rows.add([(p, 1.0), (before, -1.0)], -most, most)
    return rows.done()


def _without(cases: list[Case], options: OptimalFlowOptions, found: Optimum) -> Result:
    if found.ending in (UNBOUNDED, UNSOLVED):
        text = NO_LINEAR_ANSWER[found.ending]
        return Result(Account(Ending.ITERATION_LIMIT, "Optimal day", 0, explanation=text), {}, {}, [], text)
    words = found.ending.replace("_", " ").lower()
    single = []
    for hour, case in enumerate(cases):
        alone = solve([case.state], lambda share, doing: None)[0] if options.equations == "exact" else None
        if alone is not None and not alone.found:
            single.append(str(hour))
    more = ""
    if single:
        more = f" Hours that fail by themselves: {', '.join(single[:8])}; solve such a moment to see what would have to give."
    elif options.equations == "exact":
        more = " Every hour by itself has an answer: look at ramps and at the energy of storage."
    text = f"No day keeps every limit ({words}).{more}"
    return Result(Account(Ending.ITERATION_LIMIT, "Optimal day", found.iterations, explanation=text), {}, {}, [], text)


def _published(
    cases: list[Case], states: list[State], options: OptimalFlowOptions, found: list[Optimum], stores: Storage,
    whole: Whole | None, decided: Decided | None, off: float, rounded: str,
) -> Result:  # fmt: skip
    case, hours = cases[0], len(cases)
    base, network, ids = case.base, case.network, case.plants.ident
    p = np.array([f.p for f in found]) * base  # hours by plants
    q = np.array([f.q for f in found]) * base
    items: list[Any] = [network[i] for i in ids]
    cost = np.array([[hour_of(e, float(p[t, k]), float(q[t, k])) for k, e in enumerate(items)] for t in range(hours)])
    for n, k in enumerate(stores.plants.tolist()):
        size, own = states[0].layout.size - 2 * len(stores.plants), items[k].cost_per_mwh or 0.0
        given = (
            np.array(
                [f.further[size - states[0].layout.place("further").start + len(stores.plants) + n] for f in found]
            )
            * base
        )
        cost[:, k] = own * given + items[k].cost_running
    if whole is not None and decided is not None:
        for n, k in enumerate(whole.plants.tolist()):
            cost[:, k] -= items[k].cost_running * ~decided.on[:, n]
            starts = decided.on[:, n] & ~np.r_[whole.on_first[n], decided.on[:-1, n]]
            cost[:, k] += whole.start[n] * starts
    live = live_buses(case)
    rows = case.pattern.row[live]
    price = np.array([f.price_p[rows] for f in found]) / base  # hours by buses
    demand = np.array([_served(c, f) for c, f in zip(cases, found, strict=True)])
    plants = Table("plants", "Plants", [
        Column("id", "Id", ids, fixed=True), Column("name", "Name", [e.name for e in items], fixed=True),
        Column("energy_mwh", "Energy", p.sum(axis=0), "MWh", 2, "Given in the day"),
        Column("least_mw", "Least", p.min(axis=0), "MW", 2), Column("most_mw", "Most", p.max(axis=0), "MW", 2),
        Column("cost", "Cost", cost.sum(axis=0), None, 2, "Of the day"),
        *(Column(f"h{t:02d}", f"{t:02d}", p[t], "MW", 2, "Active power in this hour") for t in range(hours)),
    ])  # fmt: skip
    buses = [case.arrays.bus_id[n] for n in live]
    prices = Table("buses", "Prices", [
        Column("id", "Id", buses, fixed=True), Column("name", "Name", [network[i].name for i in buses], fixed=True),
        Column("price", "Price", price.mean(axis=0), None, 3, "Mean of the day"),
        Column("lowest", "Lowest", price.min(axis=0), None, 3), Column("highest", "Highest", price.max(axis=0), None, 3),
        Column("when", "Highest at", [f"{int(t):02d}" for t in price.argmax(axis=0)]),
        *(Column(f"h{t:02d}", f"{t:02d}", price[t], None, 3, "Price in this hour") for t in range(hours)),
    ])  # fmt: skip
    stored = _stored(found, stores)
    hours_table = _hours(cases, found, demand, cost.sum(axis=1), price, options)
    moved = _moved(cases, found)
    tables = [plants, prices, hours_table, *([moved] if len(moved) else []), *_binding(cases, found)]
    if len(stores.plants):
        names = [ids[k] for k in stores.plants.tolist()]
        tables.insert(1, Table("stored", "Stored energy", [
            Column("id", "Id", names, fixed=True), Column("name", "Name", [network[i].name for i in names], fixed=True),
            Column("energy_mwh", "Holds", stores.energy * base, "MWh", 1, fixed=True),
            *(Column(f"h{t:02d}", f"{t:02d}", stored[t] * base, "MWh", 2, "After this hour") for t in range(hours)),
        ]))  # fmt: skip
    total = float(cost.sum())
    both = _both_ways(found, stores)
    said = f"{found[0].value:.2f} in {hours} hours; prices between {price.min():.4g} and {price.max():.4g}"
    taken = float(np.maximum(-p[:, stores.plants], 0.0).sum()) if len(stores.plants) else 0.0
    if taken > 1e-6:
        said += f"; storage takes in {taken:.4g} MWh"
    if decided is not None:
        starts = int((decided.on & ~np.vstack([whole.on_first if whole else decided.on[:1], decided.on[:-1]])).sum())
        said += f"; {starts} starts, " + (
            "proven best" if decided.gap <= 1e-5 else f"within {100 * decided.gap:.2g} % of the best"
        )
    notes = list(dict.fromkeys(n for c in cases for n in c.notes))
    notes += [rounded] if rounded else []
    if options.equations == "linear":
        most, solved = hours_table["ac_loading_pct"], np.isfinite(hours_table["ac_losses_mw"])
        words = (
            f"{np.nanmax(most):.1f} % of the limit, hour {int(np.nanargmax(most))}"
            if np.isfinite(most).any()
            else "none known"
        )
        notes.append(f"Highest loading of the day in the AC load flow of these powers: {words}.")
        if not solved.all():
            notes.append(f"In {int((~solved).sum())} hours that has no solution: do not rely on them.")
    notes += [
        f"{network[ids[k]].name} takes in and gives in the same hour: prices below zero make that pay." for k in both
    ]
    if off == off:
        notes.append(f"Put into the load flow the voltages of every hour are the same within {off:.1e} p.u.")
    good = options.equations == "linear" or (off == off and off < 1e-6)
    account = Account(Ending.CONVERGED if good else Ending.ITERATION_LIMIT, "Optimal day", found[0].iterations, notes=notes,
                      assumed=[
        "Demand, wind and sun follow the shares of the day; all else is as in the condition.",
        "Costs of plants without one are typical for their energy; storage without one gives at no cost of its own.",
        *left_out(options)])  # fmt: skip
    summary: dict[str, float | None] = {"cost": total, "value": found[0].value, "hours": float(hours),
                                        "off_pu": off if off == off else None,
                                        "stored_mwh": taken, "gap": decided.gap if decided else None}  # fmt: skip
    quantities = [Quantity("price", "Price", "buses", "per MWh", 3, "Mean of the day", "growing"),
                  Quantity("highest", "Highest price", "buses", "per MWh", 3, "Of the day", "growing")]  # fmt: skip
    return Result(account, {t.name: t for t in tables}, summary, [], f"{said}.", [],
                  _figures(case, p, price, stored * base, stores), quantities)  # fmt: skip


def _moved(cases: list[Case], found: list[Optimum]) -> Table:
    """What moves beside plants, by the hour."""
    every = [moved_of(c, f) for c, f in zip(cases, found, strict=True)]
    first = every[0]
    after = np.array([t["after"] for t in every]).reshape(len(every), len(first))
    return Table("moved", "Taps, steps, demand", [
        *(c for c in first.columns if c.name in ("id", "name", "what", "unit")),
        *(Column(f"h{t:02d}", f"{t:02d}", after[t], None, 2, "In this hour") for t in range(len(every))),
    ])  # fmt: skip


def _served(case: Case, found: Optimum) -> float:
    """Demand that is served at nominal voltage, MW."""
    shed = case.grid.moving.shed_load[0::2].sum(axis=0)
    return float((case.grid.load[0::2].sum() + (shed * (1 - found.shed)).sum()) * case.base)


def _stored(found: list[Optimum], stores: Storage) -> Floats:
    """Energy after every hour, (hours, storage), per unit hours."""
    s = len(stores.plants)
    taken, given = (
        np.array([f.further[len(f.further) - k * s :][:s] for f in found]).reshape(len(found), s) for k in (2, 1)
    )
    return np.asarray(stores.first + np.cumsum(taken * stores.one_way - given / stores.one_way, axis=0))


def _both_ways(found: list[Optimum], stores: Storage) -> list[int]:
    """Storage that takes in and gives at once, by its place among the machines."""
    s = len(stores.plants)
    told = []
    for n, k in enumerate(stores.plants.tolist()):
        if any(min(f.further[len(f.further) - 2 * s + n], f.further[len(f.further) - s + n]) > 1e-4 for f in found):
            told.append(k)
    return told


def _hours(
    cases: list[Case], found: list[Optimum], demand: Floats, cost: Floats, price: Floats, options: OptimalFlowOptions
) -> Table:
    first = cases[0].plants.ident[0]
    base = cases[0].base
    columns = [
        Column("id", "Id", [first] * len(cases), fixed=True), Column("hour", "Hour", [f"{t:02d}" for t in range(len(cases))],
            fixed=True),
        Column("demand_mw", "Demand", demand, "MW", 2), Column("cost", "Cost", cost, "1/h", 2),
        Column("price_mean", "Mean price", price.mean(axis=1), None, 3, "Of all buses"),
        Column("price_high", "Highest price", price.max(axis=1), None, 3),
    ]  # fmt: skip
    if options.equations == "exact":
        lost = np.array([float(f.p.sum()) * base - d for f, d in zip(found, demand.tolist(), strict=True)])
        columns += [
            Column("more_mw", "Beyond demand", lost, "MW", 3, "Losses, and what demand draws off its nominal voltage"),
            Column("low_pu", "Lowest voltage", np.array([f.v.min() for f in found]), "p.u.", 4),
            Column("high_pu", "Highest voltage", np.array([f.v.max() for f in found]), "p.u.", 4),
        ]  # fmt: skip
    else:
        beside = [ac_beside(c, f, np.zeros(0, np.int64))[0] for c, f in zip(cases, found, strict=True)]
        columns += [
            Column(name, label, np.array([np.nan if b.get(name) is None else b[name] for b in beside], float), unit, digits,
                   "By the AC load flow with these powers")
            for name, label, unit, digits in (("ac_losses_mw", "AC: losses", "MW", 3), ("ac_loading_pct",
                "AC: highest loading", "%", 1),
                                              ("ac_lowest_pu", "AC: lowest voltage", "p.u.", 4),
                                              ("ac_highest_pu", "AC: highest voltage", "p.u.", 4))
        ]  # fmt: skip
    return Table("hours", "Hours", columns)


def _binding(cases: list[Case], found: list[Optimum]) -> list[Table]:
    """Limits of branches and voltages that bind, over the day: in how many hours, and what one more unit would save."""
    case = cases[0]
    tally: dict[tuple[str, str, str], list[tuple[int, float]]] = {}
    for t, f in enumerate(found):
        scale = max(float(np.abs(f.price_p).max()), 1e-9)
        for side, values in (("from", f.at_from), ("to", f.at_to)):
            for k in np.flatnonzero(values > 1e-4 * scale).tolist():
                ident, per, unit = end_of(case, k, side)
                tally.setdefault((ident, f"Rating, {side} end", unit), []).append((t, float(values[k]) / per))
        for i in np.flatnonzero(np.abs(f.at_v) > 1e-4 * scale).tolist():
            name = "Highest voltage" if f.at_v[i] > 0 else "Lowest voltage"
            tally.setdefault((bus_of(case, i), name, "%"), []).append((t, abs(float(f.at_v[i])) / 100))
    rows = sorted(tally.items(), key=lambda item: -sum(v for _, v in item[1]))
    if not rows:
        return []
    return [Table("binding", "What binds", [
        Column("id", "Id", [k[0] for k, _ in rows], fixed=True), Column("name", "Name", [case.network[k[0]].name for k,
            _ in rows], fixed=True),
        Column("what", "Limit", [k[1] for k, _ in rows], fixed=True), Column("unit", "Unit", [k[2] for k, _ in rows], fixed=True),
        Column("hours", "Hours", np.array([len(v) for _, v in rows]), None, 0),
        Column("saves", "One more saves", np.array([sum(x for _, x in v) for _, v in rows]), None, 4,
               "In the day, by one more of its unit"),
    ])]  # fmt: skip


def _figures(case: Case, p: Floats, price: Floats, stored: Floats, stores: Storage) -> list[Figure]:
    hours = list(range(len(p)))
    ids = case.plants.ident
    axis = Axis("Hour", None, 0, linked="hour")
    made = [
        Figure("day", "Dispatch", axis, Axis("Active power", "MW", 1), [
            Series(ids[k], case.network[ids[k]].name, hours, p[:, k], "line", [ids[k]] * len(hours)) for k in range(len(ids))]),
        Figure("prices", "Price", axis, Axis("Price", "per MWh", 2), [
            Series("mean", "mean of all buses", hours, price.mean(axis=1)), Series("high", "highest", hours, price.max(axis=1))]),
    ]  # fmt: skip
    if len(stores.plants):
        names = [ids[k] for k in stores.plants.tolist()]
        made.insert(1, Figure("stored", "Stored energy", axis, Axis("Energy", "MWh", 1), [
            Series(i, case.network[i].name, hours, stored[:, n], "line", [i] * len(hours)) for n, i in enumerate(names)],
            [Bound("all", float(stores.energy[0] * case.base))] if len(names) == 1 else []))  # fmt: skip
    return made
