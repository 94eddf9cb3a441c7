from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import dijkstra

from ....electrical import SLACK, NetArrays, Topology
from ....electrical.arrays import Ints
from ....network import Network
from .._options import LoadFlowOptions
from .._reading import Reading
from ._banks import Banks
from ._base import Control
from ._curves import Curves
from ._machines import Dispatch, Remote
from ._shifters import Shifters
from ._taps import Taps

MOST_ROUNDS = 200


class Controls:
    """All controllers of a network during one solution, in the order in which they act."""

    def __init__(
        self, arrays: NetArrays, topology: Topology, options: LoadFlowOptions, tap_order: Callable[[], Ints]
    ) -> None:
        self.arrays = arrays
        t, found = arrays.tables, list[Control]()
        self._curves: Curves | None = None
        if options.slack_shared or options.interchange:
            dispatch = Dispatch(arrays, topology.island, slack=options.slack_shared, interchange=options.interchange)
            found += [dispatch] if dispatch.acts else []
        if options.automatic:
            if len(t["curve"]["element"]):
                self._curves = Curves(arrays)
                found.append(self._curves)
            found += [Remote(arrays)] if len(t["remote"]["element"]) else []
            found += [Shifters(arrays)] if len(t["phase"]["element"]) else []
            found += [Taps(arrays, tap_order())] if len(t["tap"]["element"]) else []
            found += [Banks(arrays)] if len(t["bank"]["element"]) else []
        self.kinds = found
        self.settled = True

    @property
    def any(self) -> bool:
        return bool(self.kinds)

    def applied(self) -> NetArrays:
        """The arrays as the controllers stand now."""
        tables = dict(self.arrays.tables)
        for control in self.kinds:
            control.apply(tables)
        return replace(self.arrays, tables=tables)

    def move(self, seen: Reading) -> tuple[bool, bool]:
        """Let the first kind that needs to act on a solved state; whether any moved, and whether admittances changed."""
        for control in self.kinds:
            if control.move(seen):
                return True, control.impedances
        return False, False

    def final(self, arrays: NetArrays, seen: Reading) -> NetArrays:
        """Arrays for reading the solution: inverters on a curve have the reactive power that it gave them."""
        if self._curves is None:
            return arrays
        tables = dict(arrays.tables)
        self._curves.settle(tables, seen.volts)
        return replace(arrays, tables=tables)

    def notes(self, network: Network, seen: Reading) -> list[str]:
        """What every controller did and why, in words."""
        ids, buses = self.arrays.element_id, self.arrays.bus_id

        def name(element: int) -> str:
            return network[ids[element]].name

        def bus_name(row: int) -> str:
            return network[buses[row]].name

        found = [n for c in self.kinds for n in c.notes(seen, name, bus_name)]
        found += [
            f"{name(c.columns['element'][k])} was hunting between two positions and was left where it is."
            for c in self.kinds
            for k in c.hunting.tolist()
        ]
        if not self.settled:
            found.append(f"Automatic control had not settled after {MOST_ROUNDS} rounds; the last state is shown.")
        return found

    def positions(self) -> dict[int, float]:
        """Position or steps found, by position in ``element_id``."""
        return {k: v for c in self.kinds for k, v in c.positions().items()}


def tap_order(arrays: NetArrays, topology: Topology) -> Ints:
    """How many controlled taps the way from the nearest source leads through, for every row of the tap table."""
    tap, branch, node = arrays.tables["tap"], arrays.tables["branch"], topology.node
    controlled = np.isin(branch["element"], tap["element"])
    weight = np.where(controlled, 1.0, 1e-7)
    f, t, n = node[branch["from"]], node[branch["to"]], topology.n_node
    # Of parallel branches the cheapest counts: duplicates would be added up.
    order = np.lexsort((weight, np.maximum(f, t), np.minimum(f, t)))
    pair = np.minimum(f, t)[order] * n + np.maximum(f, t)[order]
    kept = order[np.r_[True, pair[1:] != pair[:-1]]] if len(order) else order
    graph = coo_array((weight[kept], (f[kept], t[kept])), shape=(n, n)).tocsr()
    injection = arrays.tables["injection"]
    roots = np.unique(node[injection["bus"][injection["control"] == SLACK]])
    if not len(roots) or not len(kept):
        return np.zeros(len(tap["element"]), np.int64)
    far = dijkstra(graph, directed=False, indices=roots, min_only=True)
    row = {e: i for i, e in enumerate(branch["element"].tolist())}
    at = np.array([row[e] for e in tap["element"].tolist()], np.int64)
    deep = np.maximum(far[f[at]], far[t[at]])
    return np.where(np.isfinite(deep), np.floor(deep + 0.5), 0).astype(np.int64)
