"""What makes a price: energy, losses, and every limit that binds.

At the optimum the derivative of the Lagrangian by the state (angles and voltages) is zero: Jᵀ λ + Cᵀ μ + ν = 0, with J of the
balance of power at nodes, C of the bounded branch ends, μ their multipliers and ν those of voltages. With the price at the
reference given, λ follows by as many right-hand sides as there are causes, and adds up to what the solver found.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from scipy.sparse import bmat, coo_array, csc_array, diags_array
from scipy.sparse.linalg import splu

from ...electrical.arrays import Complexes, Floats
from ._grid import Grid, Limits, Optimum, settled

_BINDS = 1e-6


@dataclass(frozen=True)
class Split:
    """Prices of active power at nodes, then of reactive power, per unit, in parts, (2n,) each: ``energy`` of active power as at
    the reference, ``losses``, by branch end that binds (place, 0 from or 1 to), by node whose voltage binds, and by linear row
    or interface that binds."""

    energy: float
    losses: Floats
    branches: dict[tuple[int, int], Floats]
    voltages: dict[int, Floats]
    others: dict[tuple[str, int], Floats] = field(default_factory=dict)

    @property
    def limits(self) -> Floats:
        """What all limits make of the prices, (2n,)."""
        parts = [*self.branches.values(), *self.voltages.values(), *self.others.values()]
        return np.asarray(np.sum([*parts, np.zeros_like(self.losses)], axis=0), np.float64)


def split(grid: Grid, limits: Limits, found: Optimum) -> Split:
    """The parts of the prices of an optimum: energy + losses + all others are the prices that were found."""
    grid, n = settled(grid, found), grid.n
    v = found.v * np.exp(1j * found.theta)
    jacobian = balance_jacobian(grid, v)
    # A node to which nothing leads has a voltage that nothing hangs on: its reactive power has no price.
    size = abs(jacobian)
    idle = (size.sum(axis=0) == 0) & (size.sum(axis=1) == 0)
    jacobian = csc_array(jacobian + diags_array(idle.astype(np.float64)))
    reference = int(np.flatnonzero(np.isfinite(limits.angle))[0])
    columns = np.array([c for c in range(2 * n) if not (c < n and np.isfinite(limits.angle[c]))])
    # Further references of other islands, or fixed angles, have as many prices that are given.
    given = np.flatnonzero(np.isfinite(limits.angle))
    others = np.array([r for r in range(2 * n) if r not in set(given.tolist())])
    transposed = csc_array(jacobian.T)[columns]
    lu = splu(csc_array(transposed[:, others]))
    energy = float(found.price_p[reference])

    def solved(right: Floats) -> Floats:
        whole = np.zeros(2 * n)
        whole[others] = lu.solve(right)
        return whole

    first = solved(-(transposed[:, given] @ found.price_p[given]))
    first[given] = found.price_p[given]
    branches, voltages = {}, {}
    for side, at_end in ((0, found.at_from), (1, found.at_to)):
        for k in np.flatnonzero(np.abs(at_end) > _BINDS * max(1.0, abs(energy))).tolist():
            branches[k, side] = solved(-at_end[k] * end_gradient(grid, v, k, side, power=limits.power)[columns])
    for i in np.flatnonzero(np.abs(found.at_v) > _BINDS * max(1.0, abs(energy))).tolist():
        one = np.zeros(2 * n)
        one[n + i] = found.at_v[i]
        voltages[i] = solved(-one[columns])
    rows: dict[tuple[str, int], Floats] = {}
    for kind, multipliers in (("row", found.at_rows), ("interface", found.at_interfaces)):
        for r in np.flatnonzero(np.abs(multipliers) > _BINDS * max(1.0, abs(energy))).tolist():
            gradient = _row_gradient(limits, r, n) if kind == "row" else _through_gradient(grid, limits, v, r)
            if gradient.any():
                rows[kind, r] = solved(-multipliers[r] * gradient[columns])
    first[:n] -= energy
    return Split(energy, first, branches, voltages, rows)


def _row_gradient(limits: Limits, r: int, n: int) -> Floats:
    """Derivatives of a linear row by all angles, then all voltages, (2n,)."""
    mine = (limits.rows.row == r) & (limits.rows.col < 2 * n)
    return np.bincount(limits.rows.col[mine], limits.rows.value[mine], 2 * n).astype(np.float64)


def _through_gradient(grid: Grid, limits: Limits, v: Complexes, r: int) -> Floats:
    """Derivatives of the active power through an interface by all angles, then all voltages, (2n,)."""
    sets = limits.interfaces
    mine = sets.which == r
    k, sign = sets.branch[mine], sets.sign[mine]
    f, t = grid.frm[k], grid.to[k]
    vf, vt, y, z = v[f], v[t], grid.ports[0, k], grid.ports[1, k]
    into = np.conj(y * vf + z * vt)
    uf, ut = vf / np.abs(vf), vt / np.abs(vt)
    found = np.zeros(2 * grid.n)
    for place, by in ((f, 1j * vf * into + vf * np.conj(y * 1j * vf)), (t, vf * np.conj(z * 1j * vt)),
                      (grid.n + f, uf * into + vf * np.conj(y * uf)), (grid.n + t, vf * np.conj(z * ut))):  # fmt: skip
        np.add.at(found, place, sign * by.real)
    return found


def balance_jacobian(grid: Grid, v: Complexes) -> csc_array:
    """Derivatives of what nodes take, active then reactive, by all angles, then all voltages, (2n, 2n); v complex, per unit."""
    n, size = grid.n, np.abs(v)
    y = csc_array(coo_array((grid.y, (grid.row, grid.col)), shape=(n, n)))
    current = y @ v
    dv, di, unit = diags_array(v), diags_array(current), diags_array(v / size)
    by_angle = 1j * dv @ (di - y @ dv).conj()
    by_size = dv @ (y @ unit).conj() + di.conj() @ unit
    p1, q1, p2, q2 = grid.load[2], grid.load[3], grid.load[4], grid.load[5]
    drawn = diags_array((p1 + 2 * p2 * size) + 1j * (q1 + 2 * q2 * size))
    by_size = by_size + drawn
    return csc_array(bmat([[by_angle.real, by_size.real], [by_angle.imag, by_size.imag]]))


def end_gradient(grid: Grid, v: Complexes, k: int, side: int, *, power: bool) -> Floats:
    """Derivative of |I| or |S| into a branch at an end by all angles, then all voltages, (2n,)."""
    n = grid.n
    near, far = (grid.frm[k], grid.to[k]) if side == 0 else (grid.to[k], grid.frm[k])
    own, other = (grid.ports[0, k], grid.ports[1, k]) if side == 0 else (grid.ports[3, k], grid.ports[2, k])
    current = own * v[near] + other * v[far]
    found = np.zeros(2 * n)
    size = abs(current)
    for node, y in ((near, own), (far, other)):
        unit = v[node] / abs(v[node])
        found[node] += (np.conj(current) * (y * 1j * v[node])).real / size
        found[n + node] += (np.conj(current) * (y * unit)).real / size
    if power:
        found *= abs(v[near])
        found[n + near] += size
    return found
