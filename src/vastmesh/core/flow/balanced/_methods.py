"""Methods that step the voltages of a load flow towards its answer; all of them on the same mismatch.

A method is one class with :meth:`advance`; what it shares with others (limits, low voltage, when to stop) is not here.
"""

from __future__ import annotations

import numpy as np

from ...electrical import BlockLU, NodalPattern, SparseLU
from ...electrical.arrays import Bools, Columns, Floats, Ints
from ...errors import SingularMatrix
from ._equations import Equations
from ._kernel import PQ, REF, gauss_seidel, rectangular, take_step
from ._loop import UNSOUND
from ._options import LoadFlowOptions
from ._run import Run, Step
from ._state import Attempt, Nodal, State, Targets

_SMALL_X = 1e-7  # p.u.; below it a branch counts with its whole impedance where its reactance is asked for


class NewtonStep(Step):
    """Newton's method, if need be with steps halved until the mismatch falls."""

    most, patience = 20, 6

    def __init__(self, lu: BlockLU, *, damped: bool) -> None:
        self._lu, self._damped = lu, damped
        self._before = 0.0  # the first step is held against the equations
        self._unsound = False  # what the compiled steps found of pivots on the diagonal
        self.stretch = 2 if damped else 1

    @classmethod
    def of(cls, equations: Equations, *, damped: bool = False) -> NewtonStep:
        """On the factors that the equations keep."""
        assert equations.lu is not None
        return cls(equations.lu, damped=damped)

    def direction(self, jacobian: Floats, rhs: Floats) -> Floats:
        """Solution of the Jacobian's equations; it is kept by rows. Raises ``SingularMatrix``."""
        self._lu.factorise(jacobian)
        return self._lu.solve(rhs)

    def direction_again(self, jacobian: Floats, rhs: Floats) -> Floats:
        """The same on the old pivots, without a look at how well they serve."""
        self._lu.refactorise(jacobian)
        return self._lu.solve(rhs)

    def again(self, rhs: Floats) -> Floats:
        """The same for another right-hand side."""
        return self._lu.solve(rhs)

    def turn(self) -> float:
        """Sign of the determinant of the Jacobian factorised last."""
        return self._lu.determinant_sign()

    def steps(self, run: Run) -> int:
        if self._damped:
            return run.judge()
        verdict = run.newton(self._lu)
        self._unsound = verdict == UNSOUND
        return verdict

    def advance(self, run: Run, worst: float) -> State:
        state = run.state
        # Pivots are trusted while the mismatch falls; where it does not, they are looked at.
        if self._unsound:
            self._lu.exchange(run.jac)
            self._unsound = False
        elif worst < 0.5 * self._before:
            self._lu.refactorise(run.jac)
        else:
            self._lu.factorise(run.jac)
        self._before = worst
        step = self._lu.solve(np.negative(run.f))
        if not self._damped:
            take_step(state.theta, state.v, step, 1.0)
            return state
        share, trial = 1.0, state
        while share > 1e-3:
            trial = state.copy()
            take_step(trial.theta, trial.v, step, share)
            if run.evaluate(trial) < worst:
                break
            share /= 2
        return trial


def newton(
    equations: Equations,
    y: Nodal,
    targets: Targets,
    start: State,
    options: LoadFlowOptions,
    *,
    rung: str,
    damped: bool = False,
) -> Attempt:
    """Newton's method from a start."""
    return Run(equations, y, targets, start, options).carry_out(NewtonStep.of(equations, damped=damped), rung)


def turned_over(equations: Equations, y: Nodal, attempt: Attempt) -> bool:
    """Whether the determinant of the Jacobian at an answer is negative."""
    assert equations.lu is not None
    run = Run(equations, y, attempt.targets, attempt.state, LoadFlowOptions())
    run.evaluate(run.state)
    try:
        equations.lu.factorise(run.jac)
    except SingularMatrix:
        return True
    return equations.lu.determinant_sign() < 0


class DecoupledStep(Step):
    """Angles from active power and magnitudes from reactive power, one after the other, on constant matrices.

    The first matrix takes the whole series impedance, the second one reactances alone, which carries over to feeders
    with much resistance. Source: van Amerongen, "A general-purpose version of the fast decoupled load flow",
    IEEE Trans. PWRS-4, 1989.
    """

    most, patience = 200, 25

    def __init__(self, lus: tuple[SparseLU, SparseLU], pattern: NodalPattern, branch: Columns, y: Nodal) -> None:
        self._first, self._second = lus
        self._pattern = pattern
        live, nnz = pattern.live_branch, len(pattern.indices)
        r, x = branch["r"][live], branch["x"][live]
        a, c = branch["ratio_from"][live], branch["ratio_to"][live]
        size = r * r + x * x
        whole = np.where(np.abs(x) > _SMALL_X, x / size, 1 / np.sqrt(size))
        alone = np.where(np.abs(x) > _SMALL_X, 1 / np.where(np.abs(x) > _SMALL_X, x, 1.0), 1 / np.sqrt(size))
        at = pattern.slots[: 4 * len(live)]
        across = -alone / (a * c)
        self._b1 = _gathered(at, (whole, -whole, -whole, whole), nnz)
        self._b2 = _gathered(at, (alone / a**2, across, across, alone / c**2), nnz)
        # Whatever susceptance a node has to earth counts twice: its power goes with the square of the voltage.
        series = x / size
        own = _gathered(at, (-series / a**2, 0 * x, 0 * x, -series / c**2), nnz)
        d = pattern.diagonal
        self._b2[d] -= 2 * (y.b[d] - own[d])
        self._column = np.repeat(np.arange(pattern.n), np.diff(pattern.indptr))
        self._types: Ints | None = None

    def _factorise(self, run: Run) -> None:
        """Factors for the present types: rows and columns of what is held are unit ones."""
        t = run.targets
        second = self._b2.copy()
        second[self._pattern.diagonal] -= t.q1 + 2 * t.q2
        for lu, values, held in (
            (self._first, self._b1.copy(), run.node_type == REF), (self._second, second, run.node_type != PQ)
        ):  # fmt: skip
            lu.factorise(self._kept(values, held))
        self._types = run.node_type.copy()

    def _kept(self, values: Floats, held: Bools) -> Floats:
        values[held[self._pattern.indices] | held[self._column]] = 0.0
        values[self._pattern.diagonal[held]] = 1.0
        return values

    def advance(self, run: Run, worst: float) -> State:
        if self._types is None or not np.array_equal(self._types, run.node_type):
            self._factorise(run)
        state = run.state
        state.theta = state.theta - self._first.solve(run.f[0::2] / state.v)
        run.evaluate(state)
        change = self._second.solve(run.f[1::2] / state.v)
        state.v = state.v * np.clip(1 - change / state.v, 0.5, 2.0)
        return state


def _gathered(at: Ints, parts: tuple[Floats, ...], size: int) -> Floats:
    return np.asarray(np.bincount(at, np.concatenate(parts), size), np.float64)


class GaussSeidelStep(Step):
    """Node after node, each from its neighbours: slow, without any matrix to factorise."""

    most, counts, patience = 50_000, 25, 80
    _FASTER = 1.5

    def __init__(self, pattern: NodalPattern) -> None:
        self._pattern = pattern
        n = pattern.n
        column = np.repeat(np.arange(n), np.diff(pattern.indptr))
        self._transposed = np.searchsorted(column * n + pattern.indices, pattern.indices * n + column)

    def advance(self, run: Run, worst: float) -> State:
        state, t, p = run.state, run.targets, self._pattern
        e, h = np.empty(p.n), np.empty(p.n)
        rectangular(state.v, state.theta, e, h)
        gauss_seidel(
            p.indptr, p.indices, self._transposed, p.diagonal, run.y.g, run.y.b, e, h, t.p0, run.q0, t.p1, t.q1, t.p2, t.q2,
            run.node_type, t.voltage, self._FASTER, self.counts,
        )  # fmt: skip
        turns = np.round((state.theta - np.arctan2(h, e)) / (2 * np.pi))
        state.theta, state.v = np.arctan2(h, e) + 2 * np.pi * turns, np.hypot(e, h)
        return state
