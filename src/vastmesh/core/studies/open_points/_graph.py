"""What may be switched, as a graph: nodes joined by all that may not, and edges that may."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import combinations
from math import comb

import numpy as np

from ...electrical.arrays import Bools, Ints
from ...electrical.topology import components
from ...network import Line, Switch
from ..variants import Variants


@dataclass(frozen=True)
class Edge:
    """A switch or a line: element, nodes at its ends, and its row of the switches or of the branches."""

    ident: str
    u: int
    v: int
    switch: int = -1
    branch: int = -1


class Choice:
    """All that may be switched. ``edges``; ``closed``: as they are, (n_edge,). ``n``: nodes."""

    def __init__(self, variants: Variants, up_to_kv: float, *, lines: bool) -> None:
        self.variants = variants
        arrays, network = variants.arrays, variants.network
        live = variants.live
        switch, branch = arrays.tables["switch"], arrays.tables["branch"]
        may_switch = [self._may(network.items.get(arrays.element_id[e]), kv, up_to_kv, lines=lines) for e, kv in zip(
            switch["element"].tolist(), arrays.bus_kv[switch["from"]].tolist(), strict=True)]  # fmt: skip
        may_branch = [self._may(network.items.get(arrays.element_id[e]), kv, up_to_kv, lines=lines) for e, kv in zip(
            branch["element"].tolist(), arrays.bus_kv[branch["from"]].tolist(), strict=True)]  # fmt: skip
        near = live[switch["from"]] & live[switch["to"]]
        fixed_s = np.flatnonzero(switch["closed"] & ~np.array(may_switch, np.bool_))
        fixed_b = np.flatnonzero(~np.array(may_branch, np.bool_))
        frm = np.r_[switch["from"][fixed_s], branch["from"][fixed_b]]
        to = np.r_[switch["to"][fixed_s], branch["to"][fixed_b]]
        self._group = components(arrays.n_bus, frm, to)[1]
        self.edges: list[Edge] = []
        closed: list[bool] = []
        for row in np.flatnonzero(np.array(may_switch, np.bool_) & near).tolist():
            self._add(switch, row, "switch")
            closed.append(bool(switch["closed"][row]))
        for row in np.flatnonzero(np.array(may_branch, np.bool_) & live[branch["from"]]).tolist():
            self._add(branch, row, "branch")
            closed.append(True)
        self.closed: Bools = np.array(closed, np.bool_)
        nodes = sorted({x for e in self.edges for x in (e.u, e.v)})
        number = {x: k for k, x in enumerate(nodes)}
        self.edges = [Edge(e.ident, number[e.u], number[e.v], e.switch, e.branch) for e in self.edges]
        self.n = len(nodes)
        self._u, self._v = (np.array([getattr(e, end) for e in self.edges], np.int64) for end in ("u", "v"))

    @staticmethod
    def _may(item: object, kv: float, up_to_kv: float, *, lines: bool) -> bool:
        return kv <= up_to_kv and (isinstance(item, Switch) or (lines and isinstance(item, Line)))

    def _add(self, table: dict[str, np.ndarray], row: int, kind: str) -> None:
        arrays = self.variants.arrays
        u, v = int(self._group[table["from"][row]]), int(self._group[table["to"][row]])
        ident = arrays.element_id[int(table["element"][row])]
        self.edges.append(Edge(ident, u, v, row if kind == "switch" else -1, row if kind == "branch" else -1))

    def parts(self, closed: Bools) -> int:
        """Number of parts that these edges leave."""
        return components(self.n, self._u[closed], self._v[closed])[0]

    def loop(self, closed: Bools, edge: int) -> list[int]:
        """Closed edges on a shortest way between the ends of an edge, without it; empty where there is none."""
        near: dict[int, list[tuple[int, int]]] = {}
        for k in np.flatnonzero(closed).tolist():
            e = self.edges[k]
            if k != edge and e.u != e.v:
                near.setdefault(e.u, []).append((e.v, k))
                near.setdefault(e.v, []).append((e.u, k))
        start, goal = self.edges[edge].u, self.edges[edge].v
        came: dict[int, tuple[int, int]] = {start: (start, -1)}
        front = [start]
        while front and goal not in came:
            after = []
            for x in front:
                for y, k in near.get(x, []):
                    if y not in came:
                        came[y] = (x, k)
                        after.append(y)
            front = after
        if goal not in came or goal == start:
            return []
        found = []
        x = goal
        while x != start:
            x, k = came[x]
            found.append(k)
        return found

    def spread(self, count: int, most: int) -> Iterator[Bools] | None:
        """All ways with this many edges closed that leave as few parts as all of them would; None where more than ``most`` would
        have to be looked at."""
        if comb(len(self.edges), count) > most:
            return None
        least = self.parts(np.ones(len(self.edges), np.bool_))
        return self._ways(count, least)

    def _ways(self, count: int, least: int) -> Iterator[Bools]:
        for opened in combinations(range(len(self.edges)), len(self.edges) - count):
            closed = np.ones(len(self.edges), np.bool_)
            closed[list(opened)] = False
            if self.parts(closed) == least:
                yield closed

    def state(self, closed: Bools) -> tuple[Bools, Ints]:
        """Positions of all switches, and branch rows that are out."""
        switches = self.variants.arrays.tables["switch"]["closed"].copy()
        out = []
        for e, on in zip(self.edges, closed.tolist(), strict=True):
            if e.switch >= 0:
                switches[e.switch] = on
            elif not on:
                out.append(e.branch)
        return switches, np.array(out, np.int64)
