"""Adequacy with the network: states of units and branches, each with the least demand that has to be shed, linear."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import combinations, pairwise

import numpy as np
from scipy.optimize import linprog
from scipy.sparse import csr_array, hstack, vstack

from ...electrical import apply_condition, compile_network
from ...electrical.admittance import linear_reactance
from ...electrical.arrays import Floats, Ints
from ...electrical.topology import trace
from ...network import Condition, Element, Network
from ...network.elements._failing import Failing
from ...network.failures import failures_of
from ..judge import Judge
from ._outages import HOURS, Unit


@dataclass(frozen=True)
class Part:
    """Something that can be away: ``p``: share of the time; ``mw``: what is missing of a unit then, 0 of a branch."""

    ident: str
    p: float
    mw: float = 0.0


@dataclass(frozen=True)
class Dispatched:
    """MW: shed in all, given by every unit row, shed at every node."""

    total: float
    given: Floats
    shed: Floats


@dataclass
class Grid:
    """Linear load flow with limits. ``cap``: MW of every unit row; ``load``: MW at every node; ``most``: MW of every branch
    row."""

    n: int
    unit_node: Ints
    unit_ident: list[str]
    cap: Floats
    load: Floats
    frm: Ints
    to: Ints
    b: Floats
    most: Floats
    ident: list[str]

    def shed(self, away: Sequence[Part], level: float) -> Dispatched:
        """What is given and the least demand that has to be shed, with parts away, at a share of demand."""
        gone = {p.ident for p in away}
        cap = self.cap.copy()
        for p in away:
            for k, ident in enumerate(self.unit_ident):
                if ident == p.ident:
                    cap[k] = max(cap[k] - p.mw, 0.0)
        kept = np.array([i not in gone for i in self.ident], np.bool_)
        f, t, b, most = self.frm[kept], self.to[kept], self.b[kept], self.most[kept]
        demand = self.load * level
        m, g, n = len(f), len(cap), self.n
        incidence = csr_array(
            (np.r_[np.ones(m), -np.ones(m)], (np.r_[np.arange(m), np.arange(m)], np.r_[f, t])), shape=(m, n)
        )
        flows = csr_array((b, (np.arange(m), np.arange(m))), shape=(m, m)) @ incidence
        units = csr_array((np.ones(g), (self.unit_node, np.arange(g))), shape=(n, g))
        one = csr_array((np.ones(n), (np.arange(n), np.arange(n))), shape=(n, n))
        # At every node: what units give and what is shed = demand and what flows away.
        equal = hstack([units, one, -(incidence.T @ flows)]).tocsr()
        bounded = hstack([csr_array((m, g + n)), flows]).tocsr()
        limits = np.isfinite(most)
        upper = bounded[np.flatnonzero(limits)]
        cost = np.r_[np.zeros(g), np.ones(n), np.zeros(n)]
        bounds = [*((0.0, c) for c in cap), *((0.0, d) for d in demand), *([(None, None)] * n)]
        found = linprog(
            cost,
            A_ub=vstack([upper, -upper]) if limits.any() else None,
            b_ub=np.r_[most[limits], most[limits]] if limits.any() else None,
            A_eq=equal,
            b_eq=demand,
            bounds=bounds,
            method="highs",
        )
        if found.status != 0:
            raise ArithmeticError(f"the least demand to shed was not found: {found.message}")
        return Dispatched(float(found.fun), np.asarray(found.x[:g]), np.asarray(found.x[g : g + n]))


def grid_of(network: Network, condition: Condition, units: Sequence[Unit], limit_set: str) -> Grid:
    """The grid as it is switched; units that stand nowhere are left out."""
    own = network.under(condition)
    arrays = apply_condition(compile_network(own), condition)
    topology = trace(arrays)
    node = topology.node
    branch = arrays.tables["branch"]
    judge = Judge(own, arrays)
    limits = judge.limits[limit_set]
    most = np.minimum(limits.most_from, limits.most_to) * arrays.base_mva
    at = {b: int(node[k]) for k, b in enumerate(arrays.bus_id)}
    places = {
        e.id: at[e.buses()[0]] for e in own.elements() if isinstance(e, Element) and e.buses() and e.buses()[0] in at
    }
    table = arrays.tables["load"]
    power = np.maximum(table["p"], 0.0) * arrays.base_mva
    load: Floats = np.asarray(np.bincount(node[table["bus"]], power, topology.n_node), float)
    there = [u for u in units if u.ident in places]
    b = arrays.base_mva / linear_reactance(branch)
    return Grid(
        topology.n_node, np.array([places[u.ident] for u in there], np.int64), [u.ident for u in there],
        np.array([u.capacity for u in there]), load, node[branch["from"]], node[branch["to"]], b, most, judge.branch_ids,
    )  # fmt: skip


def parts_of(network: Network, units: Sequence[Unit], grid: Grid, from_kv: float, *, typical: bool) -> list[Part]:
    """What can be away: units, in each of their states, and branches from a nominal voltage up."""
    found = [Part(u.ident, p, mw) for u in units for mw, p, _ in u.states()[1:] if mw > 0]
    for ident in dict.fromkeys(grid.ident):
        e = network.items.get(ident)
        if not isinstance(e, Failing):
            continue
        kv = [getattr(network.items.get(b), "nominal_kv", None) or 0.0 for b in e.buses()]
        data = failures_of(network, e, typical=typical)
        if min(kv, default=0.0) >= from_kv and data.rate:
            away = data.rate * data.hours
            found.append(Part(ident, away / (HOURS + away)))
    return found


def states(parts: Sequence[Part], most: int) -> Iterator[tuple[tuple[Part, ...], float]]:
    """States with at most so many parts away, and their probability; two states of one unit exclude each other."""
    every: dict[str, float] = {}
    for p in parts:
        every[p.ident] = every.get(p.ident, 0.0) + p.p
    whole = float(np.prod([1 - p for p in every.values()]))
    for count in range(most + 1):
        for chosen in combinations(parts, count):
            if len({p.ident for p in chosen}) == count:
                yield chosen, whole * float(np.prod([p.p / (1 - every[p.ident]) for p in chosen]))


def levels(left: Floats, count: int) -> list[tuple[float, float]]:
    """Demand in some levels, as a share of its peak, and the share of the time of each; their mean is that of all hours."""
    peak = float(left.max())
    if peak <= 0:
        return [(0.0, 1.0)]
    order = np.sort(left)[::-1] / peak
    # Finer towards the peak, where something is missing first.
    edges = np.unique(np.round(len(order) * np.linspace(0, 1, count + 1) ** 2).astype(int))
    return [(float(order[a:b].mean()), (b - a) / len(order)) for a, b in pairwise(edges.tolist()) if b > a]
