"""One iteration of a load flow under way, whatever the method: mismatch, limits, when it is met and when it is hopeless."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from ...electrical.arrays import Floats
from ...errors import SingularMatrix
from .._ending import Ending
from ._equations import Equations
from ._kernel import (
    PQ,
    PV,
    ease_low_voltage,
    flow_at_nodes,
    largest_excess,
    mismatch,
    mismatch_and_jacobian,
    surely_met,
    switch_types,
)
from ._options import LoadFlowOptions
from ._state import Attempt, Nodal, State, Targets

_HOPELESS = 1e8  # mismatch, in shares of what is injected at most, from which Newton does not come back
_LIMIT_CHECK = 0.2  # mismatch, likewise, below which reactive limits are looked at
_NEAR = 1e-4  # mismatch, likewise, below which it is worth asking whether it is met
_LIKELY = 5e-3  # mismatch, likewise, after which the next one is likely to be met
_MOST_RETURNS = 3  # times a machine may come back from a limit before they are switched one by one
MOST_LEFT_MVA = (
    100.0  # the tolerance times this is the most that is left at a bus, MVA, and as a share of what flows there
)
_STUCK = 1e3  # times what rounding leaves, up to which a mismatch that no longer falls is taken as met


class Step:
    """``most``: steps when no limit is given; ``counts``: steps made by one :meth:`advance`; ``patience``: calls
    without a new smallest mismatch after which it is given up; ``stretch``: by how much the limit may be passed."""

    most: ClassVar[int]
    counts: ClassVar[int] = 1
    patience: ClassVar[int]
    stretch: int = 1

    def advance(self, run: Run, worst: float) -> State:
        """The next voltages; ``run`` holds mismatch and Jacobian at the present ones. Raises ``SingularMatrix``."""
        raise NotImplementedError


class Run:
    """One iteration under way: voltages, mismatch, and which machines have let go of their voltage.

    Methods step ``state``; everything else is looked after here.
    """

    def __init__(self, problem: Equations, y: Nodal, targets: Targets, start: State, options: LoadFlowOptions) -> None:
        n = problem.n
        self.problem, self.y, self.targets = problem, y, targets
        # What may be left at a node: of what flows there, and at most.
        self.share = options.tolerance_pu * MOST_LEFT_MVA
        self.left = self.share / problem.base_mva
        self.most = options.max_iterations
        self.low = options.low_voltage_pu
        if self.low:
            self.targets = targets.with_own()
            self._eased = np.zeros(n, np.bool_)
        self.state = start.copy()
        # Where hardly anything is drawn, charging flows.
        self.scale = max(targets.scale, 1e-6 * y.usual_stiffness)
        self.node_type, self.q0 = targets.node_type.copy(), targets.q0.copy()
        self.f, self.p, self.q = np.empty(2 * n), np.empty(n), np.empty(n)
        self.jac = problem.jacobian
        self.at_limit, self._returns = np.zeros(n, np.int64), np.zeros(n, np.int64)
        self._held = np.flatnonzero(targets.node_type == PV)
        self._stiffness = y.stiffness
        self._one_by_one, self._switches = False, 0
        self._flow: Floats | None = None
        self._rounding: Floats = np.zeros(0)
        self._limits = options.reactive_limits and len(self._held) > 0
        if self._limits and start.at_limit is not None:
            self.at_limit[self._held] = start.at_limit[self._held]
            bound = self._held[self.at_limit[self._held] != 0]
            self.node_type[bound] = PQ
            self.q0[bound] += np.where(self.at_limit[bound] > 0, targets.q_high[bound], targets.q_low[bound])
        held = self.node_type != PQ
        self.state.v[held] = targets.voltage[held]

    def aim(self, targets: Targets) -> None:
        """Take other targets, demand at low voltage not eased yet."""
        self.targets, self.q0 = targets, targets.q0.copy()
        if self.low:
            self.targets = targets.with_own()
            self._eased[:] = False

    def carry_out(self, method: Step, rung: str) -> Attempt:
        """Step until it is met or there is no hope."""
        history: list[float] = []
        most = -(-(self.most or method.most) // method.counts)
        best, since_best, worst_node, allowed, rounded = np.inf, 0, 0, 0.0, False

        def finish(ending: Ending) -> Attempt:
            self.state.at_limit = self.at_limit
            steps = (len(history) - 1) * method.counts
            return Attempt(rung, ending, steps, history, self.state, self.f, self.at_limit, self.p, self.q, self.targets,
                           worst_node, allowed, rounded)  # fmt: skip

        worst = np.inf
        for _ in range(4 * most + 2 * len(self._held)):
            # Newton's steps square the error: what was near is likely to be met now, and needs no Jacobian.
            likely = worst < _LIKELY * self.scale and not self.low
            worst = self.look(self.state) if likely else self.evaluate(self.state)
            if switched := self.switch(worst):
                worst = self.evaluate(self.state)
                best, since_best = np.inf, 0
            history.append(worst)
            if not np.isfinite(worst) or worst > _HOPELESS * max(self.scale, 1.0):
                break
            best, since_best = (worst, 0) if worst < best else (best, since_best + 1)
            if worst <= _NEAR * self.scale:
                if self.surely_met(worst):
                    allowed = self.left
                    return finish(Ending.CONVERGED)
                ratio, worst_node, allowed, roundings = self.excess()
                rounded = ratio > 1.0 and since_best > 3 and roundings < _STUCK
                if ratio <= 1.0 or rounded:
                    return finish(Ending.CONVERGED)
            if likely and not switched:
                self.evaluate(self.state)
            if since_best > method.patience or len(history) > most * method.stretch + self._switches:
                break
            try:
                self.state = method.advance(self, worst)
            except SingularMatrix:
                return finish(Ending.SINGULAR)
        return finish(Ending.ITERATION_LIMIT)

    def evaluate(self, s: State) -> float:
        """Fill mismatch and Jacobian at some voltages; the largest mismatch."""
        t, (indptr, indices, diagonal), (g, b) = self.targets, self.problem.index, self.y.by_rows
        if self.low:
            ease_low_voltage(s.v, self.low, t.constant_p, t.constant_q, self._eased, t.p0, t.q0, self.q0, t.p2, t.q2)
        return float(
            mismatch_and_jacobian(
                indptr, indices, diagonal, g, b, s.theta, s.v, t.p0, self.q0, t.p1, t.q1, t.p2, t.q2, self.node_type,
                self.f, self.jac, self.p, self.q,
            )
        )  # fmt: skip

    def look(self, s: State) -> float:
        """Fill the mismatch alone; the largest one."""
        t, (indptr, indices, *_), y = self.targets, self.problem.index, self.y
        return float(
            mismatch(
                indptr, indices, *y.by_rows, s.theta, s.v, t.p0, self.q0, t.p1, t.q1, t.p2, t.q2, self.node_type, self.f, self.p,
                self.q,
            )
        )  # fmt: skip

    def surely_met(self, worst: float) -> bool:
        """Whether it is met, seen from injections alone; False says nothing."""
        return worst <= self.left and bool(
            surely_met(
                self.f,
                self.node_type,
                self.p,
                self.q,
                self.state.v,
                self._stiffness,
                self.problem.index[0],
                self.left,
                self.share,
            )
        )

    def excess(self) -> tuple[float, int, float, float]:
        """The mismatch over what is allowed where that is most, that node, what is allowed there, and the mismatch over
        what rounding leaves there."""
        problem, n = self.problem, self.problem.n
        if self._flow is None:
            self._flow, self._rounding = np.empty(n), np.empty(n)
            flow_at_nodes(
                problem.branch_from, problem.branch_to, problem.pattern.live_branch, self.y.two_ports, self.state.v,
                self.state.theta, self.y.g, self.y.b, problem.pattern.diagonal, self._flow, self._rounding,
            )  # fmt: skip
        ratio, at = largest_excess(self.f, self.node_type, self._flow, self._rounding, self.left, self.share)
        rounding = float(self._rounding[at]) if n else 0.0
        allowed = max(min(self.share * float(self._flow[at]), self.left), rounding)
        return ratio, at, allowed, ratio * allowed / max(rounding, 1e-300)

    def switch(self, worst: float) -> bool:
        """Let machines go that are past a reactive limit, take back those that should hold again; True if any."""
        if not self._limits or worst >= (_NEAR if self._one_by_one else _LIMIT_CHECK) * self.scale:
            return False
        if self._switches > 20 + 6 * len(self._held):
            return False
        t = self.targets
        count = switch_types(
            self.state.v, self.q, self._held, t.q0, t.q1, t.q2, t.q_low, t.q_high, t.voltage, self._stiffness, self.node_type,
            self.q0, self.at_limit, self._returns, 1e-9 * max(self.scale, 1.0), self._one_by_one,
        )  # fmt: skip
        self._switches += bool(count)
        if count and not self._one_by_one:
            self._one_by_one = bool(np.max(self._returns[self._held]) >= _MOST_RETURNS)
        return bool(count)
