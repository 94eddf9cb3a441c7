"""Many states of one network that differ in demand and generation alone, side by side: what one factorisation serves.

The chord method: Newton's steps with the Jacobian of the middle of all states in place of each one's own. A step is a
mismatch and two triangular solutions, all states in one call, and there is nothing to be done state by state outside
compiled code. Who is not met, or whose answer calls for a decision (a machine at a limit, a low voltage), says so and is solved
by itself. Source: Ortega and Rheinboldt, Iterative Solution of Nonlinear Equations in Several Variables, 1970, 7.1.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...electrical.arrays import Bools, Floats, Ints
from ...errors import SingularMatrix
from ._equations import Equations
from ._kernel import (
    PQ,
    PV,
    REF,
    chord_steps,
    holds_as_it_is,
    mismatch_and_jacobian,
    mismatch_of_several,
)
from ._loop import HOPELESS
from ._options import LoadFlowOptions
from ._run import MOST_LEFT_MVA
from ._state import Nodal, State, Targets

_MOST_ROUNDS = 24
_CENTRED = 2  # rounds in which the Jacobian is taken anew, in the middle of what is still under way
_ALIKE = 16  # states that share a Jacobian
_LOWEST = 0.8  # share of the voltage without demand below which somebody has to look whether it is the lower answer
_LOWEST_BESIDE_LIMITS = 0.95  # the same where machines stand at their limits


@dataclass
class Several:
    """Voltages of all states, angle in rad and magnitude in p.u., (k, n); ``met``: which of them are answers, every condition
    of every machine included, (k,)."""

    theta: Floats
    v: Floats
    met: Bools

    def state(self, k: int, at_limit: Ints | None) -> State:
        """One of them, to start from."""
        return State(self.theta[k].copy(), self.v[k].copy(), at_limit)


def solve_several(
    equations: Equations, y: Nodal, net: Floats, targets: Targets, start: State, options: LoadFlowOptions
) -> Several:
    """Solve for the injections ``net``, (k, 8, n) as :meth:`Equations.net_of_several` gives them, from one start.

    ``targets``: those of any of the states: set-points and limits of machines are the same in all. Machines that stand at a
    limit in ``start`` are taken to stand there.
    """
    count, n = len(net), equations.n
    indptr, indices, diagonal = equations.index
    node_type = targets.node_type.copy()
    at_limit: Ints = np.zeros(n, np.int64)
    held = np.flatnonzero(targets.node_type == PV)
    if options.reactive_limits and start.at_limit is not None:
        at_limit[held] = start.at_limit[held]
    bound = np.flatnonzero(at_limit)
    node_type[bound] = PQ
    q0 = net[:, 1].copy()
    q0[:, bound] += np.where(at_limit[bound] > 0, targets.q_high[bound], targets.q_low[bound])
    theta, v = np.repeat(start.theta[None], count, 0), np.repeat(start.v[None], count, 0)
    reference = targets.node_type == REF
    theta[:, reference] = targets.angle[reference]
    v[:, node_type != PQ] = targets.voltage[node_type != PQ]
    f, worst, p, q = np.empty((count, 2 * n)), np.empty(count), np.empty((count, n)), np.empty((count, n))
    g, b = y.by_rows
    share = options.tolerance_pu * MOST_LEFT_MVA
    left = share / equations.base_mva
    scale = max(float(np.abs(net[:, :6]).sum(axis=1).max(initial=0.0)), 1e-6 * y.usual_stiffness)
    met, flow, rounding = np.zeros(count, np.bool_), np.empty(n), np.empty(n)
    assert equations.lu is not None

    def look(rows: Ints) -> Ints:
        """Mismatch of some states; which of them are still under way."""
        mismatch_of_several(
            indptr, indices, g, b, theta, v, net, q0, node_type, rows, f, p, q, worst, met, y.stiffness, left, share,
            equations.branch_from, equations.branch_to, equations.pattern.live_branch, y.two_ports, y.g, y.b,
            equations.pattern.diagonal, flow, rounding,
        )  # fmt: skip
        return rows[~met[rows] & (worst[rows] < HOPELESS * max(scale, 1.0))]

    def centre(rows: Ints) -> None:
        """Factorise the Jacobian in the middle of some states."""
        some = rows[len(rows) // 2]  # not the mean: one that runs away would take the others along
        t = net[some]
        mismatch_and_jacobian(
            indptr, indices, diagonal, g, b, theta[some], v[some], t[0], q0[some], t[2], t[3], t[4], t[5], node_type,
            np.empty(2 * n), equations.jacobian, np.empty(n), np.empty(n),
        )  # fmt: skip
        assert equations.lu is not None
        equations.lu.refactorise(equations.jacobian)

    def step(rows: Ints) -> None:
        assert equations.lu is not None
        chord_steps(theta, v, equations.lu.solve(-f[rows]), rows)

    try:
        active = look(np.arange(count))
        if len(active):
            centre(active)
            step(active)
        # Alike in demand is alike in voltages: the nearer to the middle, the fewer steps.
        active = active[np.argsort(net[active, 0].sum(axis=1), kind="stable")]
        for rows in np.array_split(active, -(-len(active) // _ALIKE)) if len(active) else []:
            for turn in range(_MOST_ROUNDS):
                rows = look(rows)
                if not len(rows):
                    break
                if turn < _CENTRED:
                    centre(rows)
                step(rows)
    except SingularMatrix:
        pass  # who is not met by now is solved by itself
    if met.any():
        if y.flat is None:
            equations.flat_start(y, targets)
        assert y.flat is not None
        lowest = _LOWEST_BESIDE_LIMITS if len(bound) else _LOWEST
        slack = 1e-9 * max(scale, 1.0)
        limits = held if options.reactive_limits else held[:0]
        holds_as_it_is(
            v, q, net, limits, targets.q_low, targets.q_high, targets.voltage, node_type, at_limit, slack, y.flat[3], lowest,
            options.low_voltage_pu, met,
        )  # fmt: skip
    return Several(theta, v, met)
