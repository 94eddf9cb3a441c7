"""Nodes and islands: what is connected to what, and what has a supply."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit

from .arrays import SLACK, Bools, Ints, NetArrays


@dataclass(frozen=True)
class Topology:
    """``node``: node of each bus (buses joined by closed switches are one node); ``island``: island of each
    bus; ``live``: whether the island of each bus has a source; all of shape (n_bus,)."""

    node: Ints
    n_node: int
    island: Ints
    n_island: int
    live: Bools


def trace(arrays: NetArrays) -> Topology:
    """Contract closed switches and find the islands."""
    n, switch, branch = arrays.n_bus, arrays.tables["switch"], arrays.tables["branch"]
    # A switch between unequal nominal voltages can't be one node; the load flow reports it as taken as open.
    closed = switch["closed"] & np.isclose(arrays.bus_kv[switch["from"]], arrays.bus_kv[switch["to"]], rtol=1e-3)
    n_node, node = components(n, switch["from"][closed], switch["to"][closed])
    _, island_of_node = components(n_node, node[branch["from"]], node[branch["to"]])
    island = island_of_node[node]
    n_island = int(island.max()) + 1 if n else 0
    injection = arrays.tables["injection"]
    fed = np.zeros(n_island, np.bool_)
    fed[island[injection["bus"][injection["control"] == SLACK]]] = True
    return Topology(node=node, n_node=n_node, island=island, n_island=n_island, live=fed[island] if n else island > 0)


def components(n: int, frm: Ints, to: Ints) -> tuple[int, Ints]:
    """Number of parts of a graph of ``n`` nodes with edges between ``frm`` and ``to``, and the part of each node, (n,), in the
    order of their first nodes."""
    part = np.empty(n, np.int64)
    return int(_join(frm, to, part)), part


@njit(cache=True, nogil=True)
def _join(frm: Any, to: Any, part: Any) -> int:
    """Number the parts by their first nodes: every node points towards the first of its part (union-find, paths halved)."""
    n = len(part)
    for i in range(n):
        part[i] = i
    for k in range(len(frm)):
        a, b = frm[k], to[k]
        while part[a] != a:
            part[a] = part[part[a]]
            a = part[a]
        while part[b] != b:
            part[b] = part[part[b]]
            b = part[b]
        if a < b:
            part[b] = a
        else:
            part[a] = b
    count = 0
    # A node points to one before it, whose number is known by then.
    for i in range(n):
        if part[i] == i:
            part[i] = count
            count += 1
        else:
            part[i] = part[part[i]]
    return count
