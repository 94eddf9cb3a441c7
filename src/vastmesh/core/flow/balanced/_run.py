"""One iteration of a load flow under way, whatever the method: mismatch, limits, when it is met and when it is hopeless."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from ...electrical import BlockLU
from ...errors import SingularMatrix
from .._ending import Ending
from ._equations import Equations
from ._kernel import PQ, PV, hold
from ._loop import (
    ALLOWED,
    GIVEN_UP,
    LOOKS,
    MET,
    NODE,
    ROUNDED,
    WORST,
    Branches,
    Easing,
    Grid,
    Look,
    Machines,
    Net,
    Terms,
    evaluate,
    judge,
    new_book,
    newton_steps,
)
from ._options import LoadFlowOptions
from ._state import Attempt, Nodal, State, Targets

MOST_LEFT_MVA = (
    100.0  # the tolerance times this is the most that is left at a bus, MVA, and as a share of what flows there
)


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

    def steps(self, run: Run) -> int:
        """Look at the voltages as they are, and, where a method can, go on by itself; the verdict."""
        return run.judge()


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
        self._eased = np.zeros(n if self.low else 0, np.bool_)
        self.state = start.copy()
        # Where hardly anything is drawn, charging flows.
        self.scale = max(targets.scale, 1e-6 * y.usual_stiffness)
        self.node_type, self.q0 = targets.node_type.copy(), targets.q0.copy()
        self.f, self.p, self.q = np.empty(2 * n), np.empty(n), np.empty(n)
        self.jac = problem.jacobian
        self.at_limit, self._returns = np.zeros(n, np.int64), np.zeros(n, np.int64)
        self._held = np.flatnonzero(targets.node_type == PV)
        self._limits = options.reactive_limits and len(self._held) > 0
        if self._limits and start.at_limit is not None:
            self.at_limit[self._held] = start.at_limit[self._held]
            bound = self._held[self.at_limit[self._held] != 0]
            self.node_type[bound] = PQ
            self.q0[bound] += np.where(self.at_limit[bound] > 0, targets.q_high[bound], targets.q_low[bound])
        hold(self.node_type, targets.voltage, self.state.v)
        self._gather()

    def _gather(self) -> None:
        """What compiled code works on."""
        t, y, problem = self.targets, self.y, self.problem
        self._grid = Grid(problem.index[0], problem.index[1], problem.index[2], *y.by_rows)
        self._net = Net(t.p0, self.q0, t.p1, t.q1, t.p2, t.q2, self.node_type)
        self._machines = Machines(
            self._held, t.q0, t.q_low, t.q_high, t.voltage, y.stiffness, self.at_limit, self._returns
        )
        self._easing = Easing(t.constant_p, t.constant_q, self._eased)
        self._look = Look(self.f, self.jac, self.p, self.q)

    def aim(self, targets: Targets) -> None:
        """Take other targets, demand at low voltage not eased yet."""
        self.targets, self.q0 = targets, targets.q0.copy()
        if self.low:
            self.targets = targets.with_own()
            self._eased[:] = False
        self._gather()

    def carry_out(self, method: Step, rung: str) -> Attempt:
        """Step until it is met or there is no hope."""
        most = -(-(self.most or method.most) // method.counts)
        problem, n = self.problem, self.problem.n
        branches = Branches(
            problem.branch_from, problem.branch_to, problem.pattern.live_branch, self.y.two_ports, self.y.g, self.y.b,
            problem.pattern.diagonal, np.empty(n), np.empty(n),
        )  # fmt: skip
        terms = Terms(
            self.scale, self.left, self.share, self.y.rounding, self.low, method.patience, most * method.stretch, self._limits
        )  # fmt: skip
        book, history = new_book(), np.empty(max(4 * most + 2 * len(self._held), 1))
        known = self._grid, self._net, self._machines, self._easing, branches, self._look
        self._all = *known, terms, book, history
        ending, verdict = Ending.ITERATION_LIMIT, method.steps(self)
        try:
            while verdict not in (MET, GIVEN_UP):
                self.state = method.advance(self, float(book[WORST]))
                verdict = self.judge()
        except SingularMatrix:
            ending = Ending.SINGULAR
        if verdict == MET:
            ending = Ending.CONVERGED
        state = self.state
        state.at_limit = self.at_limit
        mismatches = history[: int(book[LOOKS])].tolist()
        return Attempt(
            rung, ending, (len(mismatches) - 1) * method.counts, mismatches, state, self.f, self.at_limit, self.p, self.q,
            self.targets, int(book[NODE]), float(book[ALLOWED]), bool(book[ROUNDED]),
        )  # fmt: skip

    def judge(self) -> int:
        """Look at the voltages, switch machines at limits, and say how it stands."""
        return int(judge(*self._all, self.state.theta, self.state.v))

    def newton(self, lu: BlockLU) -> int:
        """Newton's method as far as it goes without another look at the factors; the verdict."""
        factors = lu.layout, lu.factors, lu.inverse, np.empty(2 * self.problem.n)
        return int(newton_steps(*factors, *self._all, self.state.theta, self.state.v))

    def evaluate(self, s: State) -> float:
        """Fill mismatch and Jacobian at some voltages; the largest mismatch."""
        return float(evaluate(self._grid, self._net, self._machines, self._easing, self._look, self.low, s.theta, s.v))
