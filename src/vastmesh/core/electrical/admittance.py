"""Branch two-ports and the nodal admittance matrix on a fixed pattern."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .arrays import Bools, Columns, Complexes, Floats, Ints, NetArrays
from .sparse import elimination_order
from .topology import Topology


@dataclass(frozen=True)
class TwoPorts:
    """Admittances of every branch: [i_from; i_to] = [[ff, ft], [tf, tt]] [v_from; v_to], per unit, (n_branch,)."""

    ff: Complexes
    ft: Complexes
    tf: Complexes
    tt: Complexes

    def spread(self, kept: Bools) -> TwoPorts:
        """Those of some branches as rows of all, zero where not ``kept``, (n_all,)."""
        full = np.zeros((4, len(kept)), np.complex128)
        full[:, kept] = self.ff, self.ft, self.tf, self.tt
        return TwoPorts(*full)


def two_ports(branch: Columns) -> TwoPorts:
    """Series admittance between two ideal ratios with shunts inside them.

    With complex ratios a (from) and b (to), y = 1/(r + jx): i_from = [(y + y_f) v_from/a - y v_to/b] / a*,
    and alike at the other end (power is the same on both sides of an ideal ratio).
    """
    y = 1 / (branch["r"] + 1j * branch["x"])
    a = branch["ratio_from"] * np.exp(1j * branch["shift"])
    b = branch["ratio_to"]
    return TwoPorts(
        ff=(y + branch["shunt_from"]) / (branch["ratio_from"] ** 2),
        ft=-y / (np.conj(a) * b),
        tf=-y / (a * b),
        tt=(y + branch["shunt_to"]) / b**2,
    )


@dataclass(frozen=True)
class NodalPattern:
    """Where branches and shunts land in the nodal matrix of the live part.

    Live nodes stand in the order in which they are best eliminated (:func:`elimination_order`). ``row``: matrix row of each
    bus, -1 where dead, (n_bus,). ``indptr``, ``indices``: compressed columns, sorted, pattern symmetric. ``live_branch``:
    rows of the branch table that count. ``slots``: for the entries ff, ft, tf, tt of live branches, then
    shunts, the place in the values array. ``diagonal``: place of each diagonal entry, (n,).
    """

    n: int
    row: Ints
    indptr: Ints
    indices: Ints
    live_branch: Ints
    live_shunt: Ints
    slots: Ints
    diagonal: Ints


def nodal_pattern(arrays: NetArrays, topology: Topology) -> NodalPattern:
    """Pattern of the nodal admittance matrix; every live node has its diagonal entry."""
    node_live = np.zeros(topology.n_node, np.bool_)
    node_live[topology.node[topology.live]] = True
    nodes = np.flatnonzero(node_live)
    n = len(nodes)
    of_node = np.full(topology.n_node, -1, np.int64)
    of_node[nodes] = np.arange(n)
    row = of_node[topology.node] if arrays.n_bus else np.zeros(0, np.int64)
    branch, shunt = arrays.tables["branch"], arrays.tables["shunt"]
    live_branch = np.flatnonzero(row[branch["from"]] >= 0)
    live_shunt = np.flatnonzero(row[shunt["bus"]] >= 0)
    f, t = row[branch["from"][live_branch]], row[branch["to"][live_branch]]
    every = np.arange(n)
    graph = np.unique(np.r_[t, f, every] * n + np.r_[f, t, every])
    order = elimination_order(np.searchsorted(graph, np.arange(n + 1) * n), graph % max(n, 1))
    place = np.empty(n, np.int64)
    place[order] = every
    row = np.where(row >= 0, place[row], -1) if n else row
    f, t, s = place[f], place[t], row[shunt["bus"][live_shunt]]
    rows = np.r_[f, f, t, t, s, every]
    cols = np.r_[f, t, f, t, s, every]
    keys, inverse = np.unique(cols * n + rows, return_inverse=True)
    indptr = np.searchsorted(keys, np.arange(n + 1) * n)
    return NodalPattern(
        n=n,
        row=row,
        indptr=indptr.astype(np.int64),
        indices=(keys % n).astype(np.int64) if n else keys,
        live_branch=live_branch,
        live_shunt=live_shunt,
        slots=inverse[: len(rows) - n],
        diagonal=inverse[len(rows) - n :],
    )


def nodal_values(pattern: NodalPattern, ports: TwoPorts, shunt: Columns) -> Complexes:
    """Values of the nodal admittance matrix on its pattern, per unit, (nnz,)."""
    b = pattern.live_branch
    entries = np.concatenate([ports.ff[b], ports.ft[b], ports.tf[b], ports.tt[b], shunt["y"][pattern.live_shunt]])
    nnz = len(pattern.indices)
    real = np.bincount(pattern.slots, entries.real, nnz)
    imag = np.bincount(pattern.slots, entries.imag, nnz)
    return np.asarray(real + 1j * imag)


def linear_reactance(branch: Columns) -> Floats:
    """What divides active power among branches where all else is left out, p.u. at the buses, (n_branch,); a branch without
    reactance takes its resistance in place."""
    x = np.where(np.abs(branch["x"]) > 1e-9, branch["x"], np.maximum(branch["r"], 1e-9))
    return np.asarray(x * branch["ratio_from"] * branch["ratio_to"])
