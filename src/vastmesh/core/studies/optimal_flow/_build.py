"""From a network as its load flow leaves it to the optimal power flow: what may move, what must hold, what it costs."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ...electrical import FIXED, SLACK, NetArrays, apply_condition, compile_network, nodal_pattern, trace
from ...electrical.admittance import NodalPattern, TwoPorts, nodal_values, two_ports
from ...electrical.arrays import Floats, Ints
from ...flow.balanced import Reading
from ...network import Bus, Condition, Generator, Inverter, Network, Source, price_of
from ...results.state import LiveLoadFlow
from ._options import OptimalFlowOptions
from ._problem import Cost, Grid, Limits

_ANY_P = 1e4  # per unit: no bound to speak of
_BAND = (0.9, 1.1)


@dataclass(frozen=True)
class Plants:
    """Machines of the live network: rows of the injections, elements, present power per unit, and what scales entered values."""

    row: Ints
    ident: list[str]
    p: Floats
    q: Floats
    factor: Floats


@dataclass(frozen=True)
class Case:
    """All that the study needs. ``branch``: rows of live branches; ``start``: angles, voltages and powers to begin from;
    ``before``: the load flow as it is, None where it has no solution; ``held``: nodes whose voltage is held."""

    network: Network
    condition: Condition
    arrays: NetArrays
    pattern: NodalPattern
    ports: TwoPorts
    grid: Grid
    limits: Limits
    cost: Cost
    plants: Plants
    branch: Ints
    start: tuple[Floats, Floats, Floats, Floats]
    before: Reading | None
    notes: list[str]

    @property
    def base(self) -> float:
        return self.arrays.base_mva


def build(network: Network, condition: Condition, options: OptimalFlowOptions) -> Case | None:
    """None where nothing is live."""
    found = LiveLoadFlow(network).linearise(condition)
    seen = network.under(condition)
    arrays = found.reading.arrays if found else apply_condition(compile_network(seen), condition)
    pattern = found.reading.problem.pattern if found else nodal_pattern(arrays, trace(arrays))
    if not pattern.n:
        return None
    before = found.reading if found else None
    n, row = pattern.n, pattern.row
    ports = two_ports(arrays.tables["branch"])
    branch = pattern.live_branch
    b = arrays.tables["branch"]
    machine = arrays.tables["injection"]
    live = np.flatnonzero(row[machine["bus"]] >= 0)
    at = row[machine["bus"][live]]
    now = (
        before.machine_power[live] / arrays.base_mva
        if before is not None
        else machine["p"][live] + 1j * machine["q"][live]
    )
    ident = [arrays.element_id[e] for e in machine["element"][live].tolist()]
    factor = np.array([_factor(seen[i], condition) for i in ident])
    plants = Plants(live, ident, now.real, now.imag, factor)
    theta, v = np.zeros(n), np.ones(n)
    if before is not None:
        rows = row[before.live]
        theta[rows], v[rows] = np.angle(before.v0[before.live]), np.abs(before.v0[before.live])
    values = nodal_values(pattern, ports, arrays.tables["shunt"])
    column = np.repeat(np.arange(n), np.diff(pattern.indptr))
    two = np.array([ports.ff[branch], ports.ft[branch], ports.tf[branch], ports.tt[branch]])
    frm, to = row[b["from"][branch]], row[b["to"][branch]]
    grid = Grid(n, pattern.indices, column, values, frm, to, two, at, _load(arrays, row, n))
    notes: list[str] = []
    limits = _limits(seen, condition, arrays, row, n, branch, plants, options, theta, v, notes)
    most = np.minimum(limits.q_high, _ANY_P)
    start = (
        theta, np.clip(v, limits.v_low, limits.v_high), np.clip(now.real, limits.p_low, limits.p_high),
        np.clip(now.imag, np.maximum(limits.q_low, -_ANY_P), most),
    )  # fmt: skip
    cost = _cost(seen, arrays, plants, options)
    if len(arrays.tables["curve"]["bus"]):
        notes.append("Inverters by a curve Q(V) keep the reactive power they deliver now.")
    return Case(seen, condition, arrays, pattern, ports, grid, limits, cost, plants, branch, start, before, notes)


def _factor(item: Any, condition: Condition) -> float:
    """What the condition makes of an entered power."""
    if isinstance(item, Source):
        return 1.0
    return float(condition.generation_factor * condition.energy_factors.get(getattr(item, "energy", ""), 1.0))


def _load(arrays: NetArrays, row: Ints, n: int) -> Floats:
    """Demand of nodes, (6, n): constant, with V and with V², active and reactive."""
    load = arrays.tables["load"]
    found = np.zeros((6, n))
    at = row[load["bus"]]
    live = at >= 0
    shares = 1 - load["share_i"] - load["share_z"], load["share_i"], load["share_z"]
    for k, share in enumerate(shares):
        np.add.at(found[2 * k], at[live], (load["p"] * share)[live])
        np.add.at(found[2 * k + 1], at[live], (load["q"] * share)[live])
    return found


def _limits(
    network: Network, condition: Condition, arrays: NetArrays, row: Ints, n: int, branch: Ints, plants: Plants,
    options: OptimalFlowOptions, theta: Floats, v: Floats, notes: list[str],
) -> Limits:  # fmt: skip
    low, high = np.full(n, -np.inf), np.full(n, np.inf)
    levels = network.voltage_limits(condition.limit_set) if options.bands == "network" else []
    for bus, kv, node in zip(arrays.bus_id, arrays.bus_kv.tolist(), row.tolist(), strict=True):
        if node >= 0 and isinstance(network.items.get(bus), Bus):
            fitting = next((lv for lv in levels if lv.above_kv < kv <= lv.up_to_kv), None)
            band = (fitting.low_breach_pu, fitting.high_breach_pu) if fitting else _BAND if levels else (
                options.low_pu, options.high_pu)  # fmt: skip
            low[node], high[node] = max(low[node], band[0]), min(high[node], band[1])
    low, high = (
        np.where(np.isfinite(low), low, 0.5),
        np.where(np.isfinite(high), high, 1.5),
    )  # star points inside elements
    machine = arrays.tables["injection"]
    at, control = row[machine["bus"][plants.row]], machine["control"][plants.row]
    if not options.voltages:
        held = at[control != FIXED]
        low[held] = high[held] = v[held]
    bounds = np.array([_of_plant(network[i], float(p), float(q), int(c), options, arrays.base_mva)
                       for i, p, q, c in zip(plants.ident, plants.p, plants.q, control, strict=True)]).reshape(-1, 5)  # fmt: skip
    angle = np.full(n, np.nan)
    slack = np.flatnonzero(control == SLACK)
    zone = _zones(arrays, row, n, branch)
    for k in slack.tolist():  # one of each island
        if not np.isfinite(angle[zone == zone[at[k]]]).any():
            angle[at[k]] = machine["angle"][plants.row[k]]
    if len(slack) > len(np.unique(zone[at[slack]])):
        notes.append("Sources of one island may take other angles than they have: each delivers what is best.")
    b = arrays.tables["branch"]
    most_from, most_to = np.full(len(branch), np.inf), np.full(len(branch), np.inf)
    if options.branches != "none":
        share = options.loading_pct / 100
        amps = arrays.base_current_a()
        with np.errstate(invalid="ignore", divide="ignore"):
            by_current = [b[f"rating_{e}_a"][branch] / amps[b[e][branch]] for e in ("from", "to")]
        by_power = b["rating_mva"][branch] / arrays.base_mva
        for ends, current in ((most_from, by_current[0]), (most_to, by_current[1])):
            # A line's rated power is its rated current at nominal voltage, which per unit is the same figure.
            limit = (
                np.where(np.isfinite(by_power) & (by_power > 0), by_power, current)
                if options.branches == "power"
                else current
            )
            ends[:] = np.where(np.isfinite(limit) & (limit > 0), share * limit, np.inf)
    p_low, p_high, q_low, q_high, rated = bounds.T
    return Limits(
        low, high, p_low, p_high, q_low, q_high, angle, most_from, most_to, rated, options.branches == "power"
    )


def _of_plant(
    e: Any, p: float, q: float, control: int, options: OptimalFlowOptions, base: float
) -> tuple[float, float, float, float, float]:
    """Least and most active and reactive power of a machine, and its rating, per unit."""
    rating = (getattr(e, "rated_mva", None) or np.inf) / base
    if isinstance(e, Source):
        low, high = (
            (-_ANY_P if e.least_mw is None else e.least_mw / base),
            (_ANY_P if e.most_mw is None else e.most_mw / base),
        )
        moves = e.dispatched  # also where no plant may move: somebody takes up what losses change
        return (low if moves else p, high if moves else p, -_ANY_P, _ANY_P, np.inf)
    stores = getattr(e, "energy", "") == "storage"
    # Wind and sun give no more than they do now.
    given = isinstance(e, Inverter) or e.energy in ("wind", "solar")
    usual = rating if np.isfinite(rating) and (stores or not given) else max(p, 0.0)
    least = e.least_mw / base if e.least_mw is not None else (-usual if stores else min(p, 0.0))
    most = e.most_mw / base if e.most_mw is not None else usual
    if not (options.active and e.dispatched):
        least = most = p
    q_low, q_high = _reactive(e, q, control, options, base)
    return least, most, q_low, q_high, max(rating, np.hypot(p, q)) if isinstance(e, Inverter) else np.inf


def _reactive(e: Any, q: float, control: int, options: OptimalFlowOptions, base: float) -> tuple[float, float]:
    if isinstance(e, Generator):
        given = e.q_min_mvar is not None or e.q_max_mvar is not None
        if control == FIXED and not (options.reactive and given):
            return q, q
        return (-_ANY_P if e.q_min_mvar is None else e.q_min_mvar / base), (
            _ANY_P if e.q_max_mvar is None else e.q_max_mvar / base
        )
    if isinstance(e, Inverter) and options.reactive and e.control != "voltage_curve":
        return -(e.rated_mva or 0.0) / base, (e.rated_mva or 0.0) / base
    return q, q


def _zones(arrays: NetArrays, row: Ints, n: int, branch: Ints) -> Ints:
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    b = arrays.tables["branch"]
    f, t = row[b["from"][branch]], row[b["to"][branch]]
    return np.asarray(
        connected_components(coo_array((np.ones(len(f)), (f, t)), shape=(n, n)), directed=False)[1], np.int64
    )


def _cost(network: Network, arrays: NetArrays, plants: Plants, options: OptimalFlowOptions) -> Cost:
    base, m = arrays.base_mva, len(plants.ident)
    if options.best == "losses":
        return Cost(np.zeros(m), np.zeros(m), base)
    if options.best == "least_change":
        moved = np.array([not isinstance(network[i], Source) for i in plants.ident], float)
        return Cost(-2 * plants.p * moved * base, moved * base)
    items: list[Any] = [network[i] for i in plants.ident]
    return Cost(np.array([price_of(e) for e in items]) * base, np.array([e.cost_rising for e in items]) * base**2)
