"""From a network as its load flow leaves it to the optimal power flow: what may move, what must hold, what it costs."""

from __future__ import annotations

import itertools
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from ...electrical import FIXED, SLACK, NetArrays, apply_condition, compile_network, nodal_pattern, trace
from ...electrical.admittance import NodalPattern, TwoPorts, nodal_values, two_ports
from ...electrical.arrays import Floats, Ints
from ...electrical.topology import components
from ...errors import FieldProblem, InvalidFields
from ...flow.balanced import Reading
from ...network import (
    Bus,
    Condition,
    Generator,
    Interface,
    Inverter,
    Line,
    Load,
    Network,
    Shunt,
    Source,
    ThreeWinding,
    Transformer,
    capability_of,
    cost_lines_of,
    price_of,
)
from ...results import loading_allowed, voltage_bands
from ...results.state import LiveLoadFlow
from ..rows import RowsOf
from ._changer import changer_of
from ._grid import Cost, Grid, Interfaces, Layout, Limits, Moving, State
from ._joints import with_rated_switches
from ._options import OptimalFlowOptions

ANY_P = 1e4  # per unit: no bound to speak of
COST, SPREAD = "cost", "spread"  # what rows stand for that are no limits
_SHED_OTHERWISE = 1e3  # of a MW shed, where something else than cost is best


@dataclass(frozen=True)
class Plants:
    """Machines of the live network: rows of the injections, elements, present power per unit, what scales entered values, and
    what wind and sun could give, NaN of all others."""

    row: Ints
    ident: list[str]
    p: Floats
    q: Floats
    factor: Floats
    there: Floats


@dataclass(frozen=True)
class Movers:
    """Elements behind what may move: of turns with turns now, and position and angle now; of banks; of loads shed."""

    turns: list[str] = field(default_factory=list)
    turns_now: Floats = field(default_factory=lambda: np.zeros(0))
    angle_now: Floats = field(default_factory=lambda: np.zeros(0))
    banks: list[str] = field(default_factory=list)
    banks_now: Floats = field(default_factory=lambda: np.zeros(0))
    sheds: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class Case:
    """All that the study needs. ``branch``: rows of live branches; ``before``: the load flow as it is, None where it has no
    solution; ``rows``: names of the further linear rows, ``interfaces``: ids, in order."""

    network: Network
    condition: Condition
    arrays: NetArrays
    pattern: NodalPattern
    ports: TwoPorts
    state: State
    plants: Plants
    movers: Movers
    branch: Ints
    before: Reading | None
    rows: list[tuple[str, str]]
    interfaces: list[str]
    notes: list[str]

    @property
    def base(self) -> float:
        return self.arrays.base_mva

    @property
    def grid(self) -> Grid:
        return self.state.grid

    @property
    def limits(self) -> Limits:
        return self.state.limits

    @property
    def v_now(self) -> Floats:
        """Voltages from which it begins, (n,)."""
        return self.state.start[self.state.layout.place("v")]


def build(network: Network, condition: Condition, options: OptimalFlowOptions) -> Case | None:
    """None where nothing is live. Raises :class:`InvalidFields` for costs that fall."""
    found = LiveLoadFlow(network).linearise(condition)
    seen = network.under(condition)
    arrays = found.reading.arrays if found else apply_condition(compile_network(seen), condition)
    plain, arrays = arrays, with_rated_switches(arrays)
    pattern = found.reading.problem.pattern if found and arrays is plain else nodal_pattern(arrays, trace(arrays))
    if not pattern.n:
        return None
    before = found.reading if found else None
    n, row = pattern.n, pattern.row
    ports = two_ports(arrays.tables["branch"])
    branch = pattern.live_branch
    b = arrays.tables["branch"]
    plants, at = _plants(seen, condition, arrays, row, before)
    theta, v = np.zeros(n), np.ones(n)
    if before is not None:
        rows = row[before.live]
        theta[rows], v[rows] = np.angle(before.v0[before.live]), np.abs(before.v0[before.live])
    frm, to = row[b["from"][branch]], row[b["to"][branch]]
    two = np.array([ports.ff[branch], ports.ft[branch], ports.tf[branch], ports.tt[branch]])
    movers, moving, bounds = _movers(seen, arrays, row, branch, options)
    values = nodal_values(pattern, ports, arrays.tables["shunt"])
    indices, column = pattern.indices, np.repeat(np.arange(n), np.diff(pattern.indptr))
    if len(moving.turn_branch) or len(moving.bank_at):
        k, away = moving.turn_branch, moving.bank_at
        f, t = frm[k], to[k]
        indices = np.concatenate([indices, f, f, t, t, away])
        column = np.concatenate([column, f, t, f, t, away])
        values = np.concatenate([values, *(-two[:, k]), -moving.bank_y * movers.banks_now])
    load, moving = _load(arrays, seen, row, n, options, moving)
    grid = Grid(n, indices, column, values, frm, to, two, at, load, moving)
    notes: list[str] = []
    further = _Further(Layout(n, len(at), len(moving.turn_branch), len(moving.bank_at), len(moving.shed_at)))
    limits = _limits(seen, condition, arrays, row, branch, plants, options, grid, v, notes)
    cost = _cost(seen, arrays, row, plants, movers, grid, limits, options, further)
    _capabilities(seen, arrays, plants, limits, further)
    _angles(seen, arrays, b, branch, grid, further)
    first = {ident: j for j, ident in reversed(list(enumerate(movers.sheds)))}
    shed = further.layout.place("shed").start
    for j, ident in enumerate(movers.sheds):  # a load that is spread over buses is shed everywhere alike
        if first[ident] != j:
            further.rows.add([(shed + j, 1.0), (shed + first[ident], -1.0)], 0.0, 0.0, (ident, SPREAD))
    sets, names = _interfaces(seen, arrays, b, branch, notes)
    limits = replace(limits, turn=bounds[0], shift=bounds[1], bank=bounds[2], shed=bounds[3], rows=further.rows.done(),
                     interfaces=sets, further=np.array([further.low, further.high]).reshape(2, -1))  # fmt: skip
    most = np.minimum(limits.q_high, ANY_P)
    start = np.concatenate([
        theta, np.clip(v, limits.v_low, limits.v_high), np.clip(plants.p, limits.p_low, limits.p_high),
        np.clip(plants.q, np.maximum(limits.q_low, -ANY_P), most), np.ones(len(movers.turns)), np.zeros(len(movers.turns)),
        movers.banks_now, np.zeros(len(moving.shed_at)), further.start(plants.p, plants.q),
    ])  # fmt: skip
    lost = arrays.tables["load"]["p"][row[arrays.tables["load"]["bus"]] < 0].sum() * arrays.base_mva
    if lost > 1e-9:
        notes.append(f"{lost:.4g} MW of demand have no way to a source and are no part of this.")
    if len(arrays.tables["curve"]["bus"]):
        notes.append("Inverters by a curve Q(V) keep the reactive power they deliver now.")
    state = State(grid, limits, cost, start)
    return Case(
        seen, condition, arrays, pattern, ports, state, plants, movers, branch, before, further.rows.names, names, notes
    )


class _Further:
    """Unknowns beyond those of the network, and linear rows, as they are met."""

    def __init__(self, layout: Layout) -> None:
        self.layout = layout
        self.low: list[float] = []
        self.high: list[float] = []
        self.price: list[float] = []
        self.of: list[tuple[str, int, list[tuple[float, float]]]] = []
        self.rows = RowsOf()

    def above(self, name: str, place: int, slopes: list[tuple[float, float]], price: float, element: str) -> None:
        """An unknown that is at least slope times x plus a constant, for each pair, and costs its price."""
        number = self.layout.size + len(self.low)
        x = self.layout.place(name).start + place
        for slope, constant in slopes:
            self.rows.add([(number, 1.0), (x, -slope)], constant, np.inf, (element, COST))
        self.low.append(-np.inf)
        self.high.append(np.inf)
        self.price.append(price)
        self.of.append((name, place, slopes))

    def start(self, p: Floats, q: Floats) -> Floats:
        value = {"p": p, "q": q}
        return np.array([max(a * value[name][k] + c for a, c in slopes) + 1e-3 for name, k, slopes in self.of])


def _plants(
    network: Network, condition: Condition, arrays: NetArrays, row: Ints, before: Reading | None
) -> tuple[Plants, Ints]:
    machine = arrays.tables["injection"]
    live = np.flatnonzero(row[machine["bus"]] >= 0)
    now = (
        before.machine_power[live] / arrays.base_mva
        if before is not None
        else machine["p"][live] + 1j * machine["q"][live]
    )
    ident = [arrays.element_id[e] for e in machine["element"][live].tolist()]
    factor = np.array([_factor(network[i], condition) for i in ident])
    there = np.array(
        [max(p, 0.0) if _given(network[i]) else np.nan for i, p in zip(ident, now.real.tolist(), strict=True)]
    )
    return Plants(live, ident, now.real, now.imag, factor, there), row[machine["bus"][live]]


def _given(e: Any) -> bool:
    """Whether it gives what the weather lets it."""
    return getattr(e, "energy", "") in ("wind", "solar")


def _factor(item: Any, condition: Condition) -> float:
    """What the condition makes of an entered power."""
    if isinstance(item, Source):
        return 1.0
    return float(condition.generation_factor * condition.energy_factors.get(getattr(item, "energy", ""), 1.0))


def _movers(
    network: Network, arrays: NetArrays, row: Ints, branch: Ints, options: OptimalFlowOptions
) -> tuple[Movers, Moving, list[Floats]]:
    """What may move beside machines; bounds of turns, shifts, steps and shares shed (2, ...)."""
    b = arrays.tables["branch"]
    elements = b["element"][branch]
    turns: list[tuple[int, int, str, float, float, tuple[float, float], tuple[float, float]]] = []
    if options.taps or options.shifters:
        for k, e in enumerate(elements.tolist()):
            t = network.items.get(arrays.element_id[e])
            changer = changer_of(t)
            if t is None or changer is None:
                continue
            side, r = changer.side, branch[k]
            if isinstance(t, ThreeWinding) and arrays.bus_id[b["from"][r]] != t.hv_bus:
                continue  # taps are on the HV winding
            end, other = (b["from"][r], b["to"][r]) if side == 0 else (b["to"][r], b["from"][r])
            rated = changer.rated_kv or float(arrays.bus_kv[other])
            now = float(b["ratio_from" if side == 0 else "ratio_to"][r]) * float(arrays.bus_kv[end]) / rated
            steps = options.taps and changer.step and changer.high > changer.low
            least, most = sorted((changer.turns(changer.low), changer.turns(changer.high))) if steps else (now, now)
            angle = float(b["shift"][branch[k]])
            shift = (0.0, 0.0)
            if options.shifters and isinstance(t, Transformer) and t.holds_flow:
                zero = angle - (t.clock_shift_rad() - np.radians(t.phase_shift_deg))
                shift = (-np.radians(t.shift_most_deg) - zero, np.radians(t.shift_most_deg) - zero)
            if least < most or shift[0] < shift[1]:
                turns.append((k, side, t.id, now, angle, (min(least, now) / now, max(most, now) / now), shift))
    shunt = arrays.tables["shunt"]
    banks: list[tuple[int, complex, str, float, int]] = []
    if options.banks:
        for e, bus, y in zip(shunt["element"].tolist(), shunt["bus"].tolist(), shunt["y"].tolist(), strict=True):
            s = network.items.get(arrays.element_id[e])
            if row[bus] >= 0 and isinstance(s, Shunt) and s.optimised and s.step_mvar:
                sign = 1.0 if s.device == "capacitor" else -1.0
                kv = float(arrays.bus_kv[bus])
                one = (
                    complex(s.step_loss_kw / 1e3, sign * s.step_mvar) / arrays.base_mva * (kv / (s.rated_kv or kv)) ** 2
                )
                banks.append((int(row[bus]), one, s.id, float((y / one).real), s.steps))
    moving = Moving(
        np.array([t[0] for t in turns], np.int64), np.array([t[1] for t in turns], np.int64),
        np.array([x[0] for x in banks], np.int64), np.array([x[1] for x in banks], complex),
    )  # fmt: skip
    movers = Movers([t[2] for t in turns], np.array([t[3] for t in turns], float), np.array([t[4] for t in turns], float),
                    [x[2] for x in banks], np.array([x[3] for x in banks], float))  # fmt: skip
    bounds: list[Floats] = [np.array([t[5] for t in turns], float).reshape(-1, 2).T, np.array([t[6] for t in turns],
        float).reshape(-1, 2).T,
                            np.array([(0.0, max(float(x[4]), x[3])) for x in banks], float).reshape(-1, 2).T]  # fmt: skip
    sheds = _sheds(network, arrays, row, options)
    movers = replace(movers, sheds=[ident for _, ident, _ in sheds])
    bounds.append(np.array([(0.0, most) for _, _, most in sheds], float).reshape(-1, 2).T)
    return movers, moving, bounds


def _sheds(network: Network, arrays: NetArrays, row: Ints, options: OptimalFlowOptions) -> list[tuple[int, str, float]]:
    """Rows of the load table of which a part may be shed, their elements, and that part."""
    if not options.shed:
        return []
    load = arrays.tables["load"]
    found = []
    for k, (e, bus) in enumerate(zip(load["element"].tolist(), load["bus"].tolist(), strict=True)):
        item = network.items.get(arrays.element_id[e])
        if row[bus] >= 0 and isinstance(item, Load) and item.shed_most_pct > 0 and load["p"][k] > 0:
            found.append((k, item.id, item.shed_most_pct / 100))
    return found


def _load(
    arrays: NetArrays, network: Network, row: Ints, n: int, options: OptimalFlowOptions, moving: Moving
) -> tuple[Floats, Moving]:
    """Demand of nodes that stays, (6, n): constant, with V and with V², active and reactive; and what may be shed."""
    load = arrays.tables["load"]
    chosen = np.array([k for k, _, _ in _sheds(network, arrays, row, options)], np.int64)
    at = row[load["bus"]]
    shares = 1 - load["share_i"] - load["share_z"], load["share_i"], load["share_z"]
    every = np.array([load[part] * share for share in shares for part in ("p", "q")]).reshape(6, -1)
    stays = at >= 0
    stays[chosen] = False
    found = np.array([np.bincount(at[stays], every[k][stays], n) for k in range(6)])
    return found, replace(moving, shed_at=at[chosen], shed_load=every[:, chosen])


def bands_of_nodes(
    network: Network, limit_set: str, options: OptimalFlowOptions, arrays: NetArrays, row: Ints, n: int
) -> tuple[Floats, Floats]:
    """Lowest and highest voltage of nodes, (n,): the narrowest of the buses that switches join; star points inside elements
    have no band."""
    bands = voltage_bands(network, limit_set, arrays.bus_id, arrays.bus_kv)
    known = np.isfinite(bands[:, 0]) & (row >= 0)
    if options.bands == "entered":
        bands[known] = options.low_pu, options.high_pu
    low, high = np.full(n, -np.inf), np.full(n, np.inf)
    np.maximum.at(low, row[known], bands[known, 0])
    np.minimum.at(high, row[known], bands[known, 1])
    return np.where(np.isfinite(low), low, 0.5), np.where(np.isfinite(high), high, 1.5)


def branch_limits(
    network: Network, arrays: NetArrays, branch: Ints, options: OptimalFlowOptions, share: float, *, limit_set: str
) -> tuple[Floats, Floats]:
    """Most current or power at the from and to ends of live branches, per unit; inf where none."""
    b = arrays.tables["branch"]
    most = np.full((2, len(branch)), np.inf)
    if options.branches == "none":
        return most[0], most[1]
    amps = arrays.base_current_a()
    with np.errstate(invalid="ignore", divide="ignore"):
        by_current = [b[f"rating_{e}_a"][branch] / amps[b[e][branch]] for e in ("from", "to")]
        by_power = b["rating_mva"][branch] / arrays.base_mva
    known: dict[int, float] = {}
    for e in set(b["element"][branch].tolist()):
        item = network[arrays.element_id[e]]
        known[e] = share * loading_allowed(network.settings, item, limit_set)
    shares = np.array([known[e] for e in b["element"][branch].tolist()])
    for ends, current in zip(most, by_current, strict=True):
        # A line's rated power is its rated current at nominal voltage, which per unit is the same figure.
        limit = (
            current
            if options.branches == "current"
            else np.where(np.isfinite(by_power) & (by_power > 0), by_power, current)
        )
        ends[:] = np.where(np.isfinite(limit) & (limit > 0), shares * limit, np.inf)
    return most[0], most[1]


def _limits(
    network: Network, condition: Condition, arrays: NetArrays, row: Ints, branch: Ints, plants: Plants,
    options: OptimalFlowOptions, grid: Grid, v: Floats, notes: list[str],
) -> Limits:  # fmt: skip
    n = grid.n
    low, high = bands_of_nodes(network, condition.limit_set, options, arrays, row, n)
    machine = arrays.tables["injection"]
    at, control = grid.at, machine["control"][plants.row]
    if not options.voltages:
        held = at[control != FIXED]
        low[held] = high[held] = v[held]
    bounds = np.array([_of_plant(network[i], float(p), float(q), int(c), options, arrays.base_mva)
                       for i, p, q, c in zip(plants.ident, plants.p, plants.q, control, strict=True)]).reshape(-1, 5)  # fmt: skip
    angle = np.full(n, np.nan)
    slack = np.flatnonzero(control == SLACK)
    zone = zones(n, grid.frm, grid.to)
    for k in slack.tolist():  # one of each island
        if not np.isfinite(angle[zone == zone[at[k]]]).any():
            angle[at[k]] = machine["angle"][plants.row[k]]
    if len(slack) > len(np.unique(zone[at[slack]])):
        notes.append("Sources of one island may take other angles than they have: each delivers what is best.")
    most = branch_limits(network, arrays, branch, options, options.loading_pct / 100, limit_set=condition.limit_set)
    p_low, p_high, q_low, q_high, rated = bounds.T
    return Limits(low, high, p_low, p_high, q_low, q_high, angle, *most, rated, options.branches != "current")


def _of_plant(
    e: Any, p: float, q: float, control: int, options: OptimalFlowOptions, base: float
) -> tuple[float, float, float, float, float]:
    """Least and most active and reactive power of a machine, and its rating, per unit."""
    rating = (getattr(e, "rated_mva", None) or np.inf) / base
    if isinstance(e, Source):
        low, high = (
            (-ANY_P if e.least_mw is None else e.least_mw / base),
            (ANY_P if e.most_mw is None else e.most_mw / base),
        )
        moves = e.dispatched  # also where no plant may move: somebody takes up what losses change
        q_low = -ANY_P if e.q_min_mvar is None else e.q_min_mvar / base
        q_high = ANY_P if e.q_max_mvar is None else e.q_max_mvar / base
        return (low if moves else p, high if moves else p, q_low, q_high, np.inf)
    stores, given = getattr(e, "energy", "") == "storage", _given(e)
    # Wind and sun give no more than they do now.
    usual = rating if np.isfinite(rating) and not given else max(p, 0.0)
    least = e.least_mw / base if e.least_mw is not None else (-usual if stores else min(p, 0.0))
    most = e.most_mw / base if e.most_mw is not None else usual
    if given:
        most = min(most, max(p, 0.0)) if e.most_mw is not None else max(p, 0.0)
        least = min(least, most)
    if not (options.active and e.dispatched) or (given and not options.curtail):
        least = most = p
    q_low, q_high = _reactive(e, q, control, options, base)
    return least, most, q_low, q_high, max(rating, np.hypot(p, q)) if isinstance(e, Inverter) else np.inf


def _reactive(e: Any, q: float, control: int, options: OptimalFlowOptions, base: float) -> tuple[float, float]:
    if isinstance(e, Generator):
        given = e.q_min_mvar is not None or e.q_max_mvar is not None or e.capability is not None
        if control == FIXED and not (options.reactive and given):
            return q, q
        return (-ANY_P if e.q_min_mvar is None else e.q_min_mvar / base), (
            ANY_P if e.q_max_mvar is None else e.q_max_mvar / base
        )
    if isinstance(e, Inverter) and options.reactive and e.control != "voltage_curve":
        return -(e.rated_mva or 0.0) / base, (e.rated_mva or 0.0) / base
    return q, q


def zones(n: int, frm: Ints, to: Ints, out: Ints | None = None) -> Ints:
    """Number of the part that each node belongs to, (n,), without the branches that are out."""
    if out is not None:
        frm, to = np.delete(frm, out), np.delete(to, out)
    return components(n, frm, to)[1]


def _cost(
    network: Network, arrays: NetArrays, row: Ints, plants: Plants, movers: Movers, grid: Grid, limits: Limits,
    options: OptimalFlowOptions, further: _Further,
) -> Cost:  # fmt: skip
    """What is best, as a sum by weights."""
    base, w = arrays.base_mva, options.weights()
    lay = further.layout
    linear, square = np.zeros(lay.size), np.zeros(lay.size)
    p, q, v, shed = (lay.place(name) for name in ("p", "q", "v", "shed"))
    items: list[Any] = [network[i] for i in plants.ident]
    fixed = 0.0
    if w["cost"]:
        for k, e in enumerate(items):
            if e.cost_blocks:
                segments = _segments(e, base)
                further.above("p", k, segments, w["cost"], e.id)
            else:
                linear[p][k] += w["cost"] * price_of(e) * base
                square[p][k] += w["cost"] * e.cost_rising * base**2
            if e.cost_per_mvarh:
                further.above(
                    "q", k, [(e.cost_per_mvarh * base, 0.0), (-e.cost_per_mvarh * base, 0.0)], w["cost"], e.id
                )
            if plants.there[k] == plants.there[k] and getattr(e, "curtailment_cost", 0.0):
                linear[p][k] -= w["cost"] * e.curtailment_cost * base
                fixed += w["cost"] * e.curtailment_cost * plants.there[k] * base
            fixed += w["cost"] * e.cost_running
    if w["change"]:
        own = np.array([not isinstance(e, Source) for e in items], float)
        linear[p] -= 2 * w["change"] * plants.p * own * base**2
        square[p] += w["change"] * own * base**2
        fixed += w["change"] * float((plants.p**2 * own).sum()) * base**2
    if w["curtailment"]:
        given = np.isfinite(plants.there)
        linear[p] -= w["curtailment"] * given * base
        fixed += w["curtailment"] * float(plants.there[given].sum()) * base
    drawn = grid.moving.shed_load[0::2].sum(axis=0)
    prices = np.array([float(getattr(network[i], "shed_cost", 0.0)) for i in movers.sheds])
    if len(drawn):
        by = w["cost"] * prices + w["shedding"] if w["cost"] or w["shedding"] else np.full(len(drawn), _SHED_OTHERWISE)
        linear[shed] += by * drawn * base
    if w["flatness"]:
        buses = np.array([isinstance(network.items.get(i), Bus) for i in arrays.bus_id], np.bool_)
        nodes = np.unique(row[buses & (row >= 0)])
        square[v][nodes] += w["flatness"] * 1e4
        linear[v][nodes] -= 2 * w["flatness"] * 1e4
        fixed += w["flatness"] * 1e4 * len(nodes)
    if w["reserve"]:
        half, middle = (limits.q_high - limits.q_low) / 2, (limits.q_high + limits.q_low) / 2
        known = (half > 1e-9) & (half < ANY_P / 4)
        square[q][known] += w["reserve"] / half[known] ** 2
        linear[q][known] -= 2 * w["reserve"] * middle[known] / half[known] ** 2
        fixed += w["reserve"] * float((middle[known] ** 2 / half[known] ** 2).sum())
    return Cost(np.r_[linear, further.price], np.r_[square, np.zeros(len(further.price))], w["losses"] * base, fixed)


def _segments(e: Any, base: float) -> list[tuple[float, float]]:
    """Lines of which the cost of an hour is the highest, of power per unit. Raises :class:`InvalidFields` where costs fall."""
    lines = cost_lines_of(e.cost_blocks)
    for (last, _), (cost, _) in itertools.pairwise(lines):
        if cost < last:
            text = (
                f"costs of {e.name} fall from {last:g} to {cost:g} per MWh; write rising ones, or a mean for both steps"
            )
            raise InvalidFields([FieldProblem(e.id, "cost_blocks", e.cost_blocks, text)])
    return [(cost * base, constant) for cost, constant in lines]


def _capabilities(network: Network, arrays: NetArrays, plants: Plants, limits: Limits, further: _Further) -> None:
    """Reactive power within what the active power leaves of it."""
    base, lay = arrays.base_mva, further.layout
    for k, ident in enumerate(plants.ident):
        text = getattr(network[ident], "capability", None)
        if not text or limits.q_low[k] == limits.q_high[k]:
            continue
        points = capability_of(text)
        first, last = points[0][0], points[-1][0]
        least, most = limits.p_low[k] * base, limits.p_high[k] * base
        if least == most:  # it stays where it is; beyond the curve its nearest end counts
            at, low, high = np.array(points).T
            limits.q_low[k] = max(limits.q_low[k], float(np.interp(least, at, low)) / base)
            limits.q_high[k] = min(limits.q_high[k], float(np.interp(least, at, high)) / base)
            continue
        if max(least, first) > min(most, last) + 1e-9 * max(abs(first), abs(last), 1.0):
            told = (f"the curve goes from {first:g} to {last:g} MW, and {network[ident].name} can be set from {least:.6g} to "
                    f"{most:.6g} MW only; add rows for these powers, or change its least or most power")  # fmt: skip
            raise InvalidFields([FieldProblem(ident, "capability", text, told)])
        p, q = lay.place("p").start + k, lay.place("q").start + k
        for (p0, l0, h0), (p1, l1, h1) in itertools.pairwise(points):
            for a, b, way in ((l0, l1, "least"), (h0, h1, "most")):
                slope = (b - a) / (p1 - p0)
                edge = (a - slope * p0) / base
                name = (ident, f"Capability, {way} reactive power from {p0:g} to {p1:g} MW")
                further.rows.add(
                    [(q, 1.0), (p, -slope)],
                    edge if way == "least" else -np.inf,
                    np.inf if way == "least" else edge,
                    name,
                )
        limits.p_low[k] = max(limits.p_low[k], first / base)
        limits.p_high[k] = min(limits.p_high[k], last / base)


def _angles(
    network: Network, arrays: NetArrays, b: Mapping[str, Any], branch: Ints, grid: Grid, further: _Further
) -> None:
    for k, e in enumerate(b["element"][branch].tolist()):
        item = network[arrays.element_id[e]]
        if isinstance(item, Line) and item.angle_limit_deg is not None:
            most = float(np.radians(item.angle_limit_deg))
            name = (item.id, "Angle between its ends")
            further.rows.add([(int(grid.frm[k]), 1.0), (int(grid.to[k]), -1.0)], -most, most, name)


def _interfaces(
    network: Network, arrays: NetArrays, b: Mapping[str, Any], branch: Ints, notes: list[str]
) -> tuple[Interfaces, list[str]]:
    """Sets of branches with bounds. What they name and is not live is told."""
    at: dict[str, list[int]] = {}
    for k, e in enumerate(b["element"][branch].tolist()):
        at.setdefault(arrays.element_id[e], []).append(k)
    which: list[int] = []
    members: list[int] = []
    sign: list[float] = []
    names: list[str] = []
    low: list[float] = []
    high: list[float] = []
    for item in network.of(Interface):
        if item.most_mw is None and item.least_mw is None:
            continue
        found = [(k, s) for ident, s in item.signed(network.items) for k in at.get(ident, [])[:1]]
        gone = [ident for ident, _ in item.signed(network.items) if ident not in at]
        if gone:
            notes.append(f"Interface {item.name}: {', '.join(gone[:4])} carries nothing here and is left out of it.")
        if not found:
            continue
        which += [len(names)] * len(found)
        members += [k for k, _ in found]
        sign += [s for _, s in found]
        names.append(item.id)
        low.append(-np.inf if item.least_mw is None else item.least_mw / arrays.base_mva)
        high.append(np.inf if item.most_mw is None else item.most_mw / arrays.base_mva)
    made = Interfaces(np.array(which, np.int64), np.array(members, np.int64), np.array(sign, float), np.array(low, float),
                      np.array(high, float))  # fmt: skip
    return made, names
