"""The load flow equations linearised at a solution: what a small injection does to voltages, flows and losses."""

from __future__ import annotations

import numpy as np
from scipy.sparse import csc_array, csr_array
from scipy.sparse.linalg import SuperLU, splu

from ...electrical.arrays import Complexes, Floats
from ._kernel import PQ, PV, REF, mismatch_and_jacobian
from ._problem import Problem
from ._reading import Reading


class Linearisation:
    """Sensitivities at a solved state, all per unit of power on the base and of voltage.

    Machines hold what they hold at the solution: voltages of those within their limits stay, the sources take up what is
    left over. Demand follows the voltage as it is entered to. Automatic taps and steps stay where they are.
    Source: Peschon, Piercy, Tinney, Tveit, "Sensitivity in power systems", IEEE Trans. PAS-87, 1968.
    """

    def __init__(self, problem: Problem, reading: Reading) -> None:
        self.problem, self.reading = problem, reading
        attempt, targets = reading.solution.attempt, reading.solution.targets
        self._state = attempt.state
        node_type = targets.node_type.copy()
        node_type[(targets.node_type == PV) & (attempt.at_limit != 0)] = PQ
        self._lu = self._factor(self._jacobian(node_type, targets.p1, targets.q1, targets.p2, targets.q2))
        n = problem.n
        nothing = np.zeros(n)
        whole = self._jacobian(np.full(n, PQ), nothing, nothing, nothing, nothing)
        self._held = node_type == REF
        # What a node that holds its voltage is given in reactive power, its machine gives less.
        self._holds = node_type == PV
        # What all nodes together take in from outside, by every unknown: the sum of the active rows.
        self._intake = np.asarray(whole[0::2].sum(axis=0)).ravel()

    def _jacobian(self, node_type: np.ndarray, p1: Floats, q1: Floats, p2: Floats, q2: Floats) -> csc_array:
        p, n = self.problem, self.problem.n
        ptr, rows = p.jacobian_index
        values = np.zeros(len(rows))
        nothing, f = np.zeros(n), np.zeros(2 * n)
        y = p.admittance(self.reading.arrays)
        (indptr, indices, diagonal), (g, b) = p.index, y.by_rows
        mismatch_and_jacobian(
            indptr, indices, diagonal, g, b, self._state.theta, self._state.v,
            nothing, nothing, p1, q1, p2, q2, node_type, f, values,
            np.zeros(n), np.zeros(n),
        )  # fmt: skip
        return csr_array((values, rows, ptr), shape=(2 * n, 2 * n)).tocsc()

    @staticmethod
    def _factor(jacobian: csc_array) -> SuperLU:
        return splu(jacobian.tocsc(), permc_spec="COLAMD")

    def by_injection(self, bus_row: int) -> tuple[Complexes, Complexes]:
        """Change of every bus voltage, complex per unit, (n_bus,), for active and for reactive power at one bus."""
        node = int(self.problem.pattern.row[bus_row])
        found = []
        for part in (0, 1):
            rhs = np.zeros(2 * self.problem.n)
            if node >= 0 and not self._held[node] and not (part and self._holds[node]):
                rhs[2 * node + part] = 1.0
            found.append(self._voltage(self._lu.solve(rhs)))
        return found[0], found[1]

    def _voltage(self, step: Floats) -> Complexes:
        row, v = self.problem.pattern.row, self.reading.v0
        change = np.where(row >= 0, step[1::2][row] + 1j * step[0::2][row], 0)
        return np.asarray(v * change)

    def flows(self, change: Complexes) -> Complexes:
        """Change of the power into every branch at its from end for changes of the bus voltages, (n_branch,)."""
        r = self.reading
        branch, ports = r.arrays.tables["branch"], r.solution.ports
        frm, to = branch["from"], branch["to"]
        current = ports.ff * r.v0[frm] + ports.ft * r.v0[to]
        moved = ports.ff * change[frm] + ports.ft * change[to]
        return np.asarray(change[frm] * np.conj(current) + r.v0[frm] * np.conj(moved))

    def loss_factors(self) -> tuple[Floats, Floats]:
        """Further losses for a unit of active and of reactive power injected at each bus, (n_bus,).

        Losses: all that is lost between injections and demand, the sources' change included.
        """
        rhs = self._intake.copy()
        # The injection itself is part of the intake: what stays is what the sources give less or more.
        found = self._lu.solve(rhs, trans="T")
        return self._by_bus(found[0::2]), self._by_bus(np.where(self._holds, 0.0, found[1::2]))

    def flow_factors(self, branch_row: int) -> tuple[Floats, Floats]:
        """Change of the active power into a branch at its from end for a unit injected at each bus, (n_bus,)."""
        r = self.reading
        branch = r.arrays.tables["branch"]
        gradient = np.zeros(2 * self.problem.n)
        for end in ("from", "to"):
            at = int(branch[end][branch_row])
            node = int(self.problem.pattern.row[at])
            for part, unit in ((0, 1j), (1, 1.0)):
                change = np.zeros(r.arrays.n_bus, np.complex128)
                change[at] = unit * r.v0[at]
                gradient[2 * node + part] += self.flows(change)[branch_row].real
        found = self._lu.solve(gradient, trans="T")
        return self._by_bus(found[0::2]), self._by_bus(np.where(self._holds, 0.0, found[1::2]))

    def _by_bus(self, values: Floats) -> Floats:
        row = self.problem.pattern.row
        free = np.where(self._held, 0.0, values)
        return np.where(row >= 0, free[row], np.nan)
