"""Flows through joints without impedance (closed switches) by Kirchhoff's current law."""

from __future__ import annotations

import numpy as np

from .arrays import Bools, Complexes, Ints
from .sparse import SparseLU


class JointFlows:
    """Factors are kept per topology.

    Around a ring of joints the split has no unique answer: the one with the smallest sum of squares is given (equal
    joints in parallel share equally). ``frm``, ``to``: rows joined, (k,); ``node``: the node of every row.
    """

    def __init__(self, frm: Ints, to: Ints, node: Ints) -> None:
        self._lu: SparseLU | None = None
        if not len(frm):
            return
        rows_met, inverse = np.unique(np.r_[frm, to], return_inverse=True)
        half = len(frm)
        f, t, n = inverse[:half], inverse[half:], len(rows_met)
        _, anchor = np.unique(node[rows_met], return_index=True)  # one row of every node is the datum
        free: Bools = np.ones(n, np.bool_)
        free[anchor] = False
        number = np.cumsum(free) - 1
        rows, cols = np.r_[f, t, f, t], np.r_[f, t, t, f]
        values = np.r_[np.ones(2 * half), -np.ones(2 * half)]
        keep = free[rows] & free[cols]
        m = int(free.sum())
        keys, slot = np.unique(number[cols[keep]] * m + number[rows[keep]], return_inverse=True)
        indptr = np.searchsorted(keys, np.arange(m + 1) * m)
        self._lu = SparseLU(indptr, keys % m)
        self._lu.factorise(np.bincount(slot, values[keep]))
        self._rows, self._free, self._f, self._t = rows_met, free, f, t

    def solve(self, surplus: Complexes) -> Complexes:
        """Flow into each joint at its first row, from what every row has left over (n_rows,)."""
        if self._lu is None:
            return np.zeros(0, np.complex128)
        wanted = surplus[self._rows[self._free]]
        potential = np.zeros(len(self._rows), np.complex128)
        both = self._lu.solve(np.vstack([wanted.real, wanted.imag]))
        potential[self._free] = both[0] + 1j * both[1]
        return np.asarray(potential[self._f] - potential[self._t])
