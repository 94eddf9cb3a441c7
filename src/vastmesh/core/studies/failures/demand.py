"""Who is supplied in every section: customers, average demand by class, and what an hour without supply costs them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...electrical.arrays import Floats, Ints
from ...network import Demand, InterruptionCost, Network, Role
from ...network.elements.profile import Profile
from ...network.elements.reliability import COST_H
from .graph import Graph


@dataclass
class Supplied:
    """``loads``: ids; ``place``: section of each, (n_load,); ``average``: MW, (n_load,); ``customers``: (n_load,); ``group``: its
    class, (n_load,); ``by_class``: MW by section and class, (n_section, n_class); ``costs``: rows of :data:`COST_H` by class;
    ``n``: customers and ``first``: the first priority of every section; ``machines``: sections with a machine that feeds in;
    ``generic``: classes without costs of their own; ``assumed``: how many loads take the average that the study says."""

    loads: list[str]
    place: Ints
    average: Floats
    customers: Floats
    group: Ints
    classes: list[str]
    by_class: Floats
    costs: Floats
    n: Floats
    first: Ints
    machines: set[int]
    assumed: int
    generic: tuple[str, ...]

    @property
    def mw(self) -> Floats:
        """Average demand of every section, (n_section,)."""
        return np.asarray(self.by_class.sum(axis=1))

    def cost(self, hours: Floats) -> Floats:
        """Of an interruption of so many hours, by class and average MW, (n, n_class)."""
        hours = np.asarray(hours, float)
        found = np.zeros((len(hours), max(len(self.classes), 1)))
        knots = np.array([0.0, *COST_H])
        for k, row in enumerate(self.costs):
            values = np.array([0.0, *row])
            found[:, k] = np.interp(hours, knots, values)
            beyond = hours > knots[-1]
            slope = (values[-1] - values[-2]) / (knots[-1] - knots[-2])
            found[beyond, k] = values[-1] + slope * (hours[beyond] - knots[-1])
        return 1000 * found


def averages(network: Network, otherwise_pct: float) -> dict[str, tuple[float, bool]]:
    """Average active power of every load in service, MW, and whether it takes the share that the study says."""
    means: dict[tuple[str, str], float] = {}
    for p in network.of(Profile):
        if p.packed and p.means == "factor":
            key = (p.scales, p.key)
            means[key] = means.get(key, 1.0) * float(np.mean(p.values()))
    found = {}
    for e in network.elements():
        if not isinstance(e, Demand) or not e.in_service or e.missing():
            continue
        share, assumed = otherwise_pct / 100, False
        if e.average_pct is not None:
            share = e.average_pct / 100
        elif ("class", e.demand_class) in means:
            share = means["class", e.demand_class] * means.get(("demand", ""), 1.0)
        elif ("demand", "") in means:
            share = means["demand", ""]
        else:
            assumed = True
        found[e.id] = (e.power_mva().real * share, assumed)
    return found


def supplied(network: Network, graph: Graph, otherwise_pct: float) -> Supplied:
    """What hangs on every section of a network."""
    average = averages(network, otherwise_pct)
    items = [e for i in average if isinstance(e := network[i], Demand) and e.bus in graph.section]
    loads = [e.id for e in items]
    place = np.array([graph.section[e.bus] for e in items], np.int64)
    classes = sorted({e.demand_class for e in items})
    of = {c: k for k, c in enumerate(classes)}
    group = np.array([of[e.demand_class] for e in items], np.int64)
    mw: Floats = np.array([max(average[i][0], 0.0) for i in loads], float)
    customers: Floats = np.array([e.customers for e in items], np.float64)
    by_class = np.zeros((graph.n, max(len(classes), 1)))
    np.add.at(by_class, (place, group), mw)
    first = np.full(graph.n, 9, np.int64)
    np.minimum.at(first, place, np.array([e.priority for e in items], np.int64))
    own = {c.demand_class: c.costs() for c in network.of(InterruptionCost)}
    generic = InterruptionCost(id="generic").costs()
    machines = {
        graph.section[e.buses()[0]]
        for e in network.elements()
        if e.in_service and e.role is Role.GENERATION and e.kind != "source" and e.buses()[0] in graph.section
    }
    return Supplied(
        loads, place, mw, customers, group, classes, by_class,
        np.array([own.get(c, generic) for c in classes]).reshape(len(classes), len(COST_H)),
        np.asarray(np.bincount(place, customers, graph.n), float), first, machines, sum(a for _, a in average.values()),
        tuple(c for c in classes if c not in own),
    )  # fmt: skip
