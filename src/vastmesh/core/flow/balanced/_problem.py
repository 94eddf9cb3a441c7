"""The solution of a balanced load flow: which starts are tried, and which answer counts."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ...electrical import NetArrays, SparseLU, TwoPorts
from ...electrical.arrays import Columns
from .._ending import Ending
from ._equations import Equations
from ._follow import Reach, follow
from ._kernel import REF, lowest_share, widest_angle
from ._methods import DecoupledStep, GaussSeidelStep, NewtonStep, turned_over
from ._options import LoadFlowOptions
from ._run import Run, Step
from ._state import Attempt, Nodal, State, Targets

_LOW = 0.8  # share of the voltage without demand below which an answer may be the lower one of two
_HIGH_ENOUGH = 0.95  # share of it above which there is nothing to doubt
_LOW_BESIDE_LIMITS = 0.9  # the same where machines stand at reactive limits
NEAR = 0.05  # between a voltage now and before, up to which the answer is the same one moved
_QUARTER, _TURNED = 1.5, 2.0  # rad between the ends of a branch, from which its answer is looked at, and not believed
_COLLAPSED = 0.5  # below it a demand of constant power draws more from its supply than that can give


class Problem(Equations):
    """Solves the equations of one topology again and again. Not safe for several threads at once."""

    _decoupled: tuple[SparseLU, SparseLU] | None = None

    def _method(self, name: str, branch: Columns, y: Nodal, *, damped: bool) -> Step:
        if name == "fast_decoupled":
            if self._decoupled is None:
                first, second = (SparseLU(self.pattern.indptr, self.pattern.indices, in_order=True) for _ in range(2))
                self._decoupled = first, second
            return DecoupledStep(self._decoupled, self.pattern, branch, y)
        if name == "gauss_seidel":
            return GaussSeidelStep(self.pattern)
        return NewtonStep.of(self, damped=damped)

    def iterate(
        self, y: Nodal, targets: Targets, start: State, options: LoadFlowOptions, method: Step, *, rung: str
    ) -> Attempt:
        """Steps of a method until the mismatch is met, with voltage-controlled nodes let go at their reactive limits
        and taken back, and constant-power demand at low voltage treated as the options say.

        Returns how it ended; ``ITERATION_LIMIT`` also when it ran away or stalled.
        """
        return Run(self, y, targets, start, options).carry_out(method, rung)

    def solve(
        self, arrays: NetArrays, options: LoadFlowOptions, last: State | None = None, admittance: Nodal | None = None
    ) -> Solution:
        """Try Newton from the last solution, then from a linear start, a flat one, one without load, and with damped
        steps; at last follow the solution from no demand upwards, which finds it or the share at which it ends.

        ``admittance``: as :meth:`admittance` gave it, where impedances have not changed since.
        """
        targets = self.targets(arrays)
        y = admittance or self.admittance(arrays)
        if self.n == 0:
            nothing = State(np.zeros(0), np.zeros(0))
            empty = np.zeros(0)
            attempt = Attempt(
                "none", Ending.NOTHING_TO_SOLVE, 0, [], nothing, empty, np.zeros(0, np.int64), empty, empty, targets
            )
            return Solution(attempt, [attempt], targets, y.ports)
        attempts: list[Attempt] = []
        rungs = self._rungs(options, remembered=last is not None and len(last.v) == self.n)
        low = options.low_voltage_pu
        for rung in rungs:
            start = self._start(rung, arrays.tables["branch"], y, targets, last)
            method = self._method(options.method, arrays.tables["branch"], y, damped=rung == "damped steps")
            attempt = self.iterate(y, targets, start, options, method, rung=rung)
            attempts.append(attempt)
            if attempt.ending is Ending.CONVERGED:
                attempt.doubtful = self.doubtful(y, attempt, last if rung == "last solution" else None)
                if not attempt.doubtful:
                    return Solution(attempt, attempts, attempt.targets, y.ports, low)
                if rung != "last solution":
                    break
        if options.method != "automatic":
            return Solution(attempts[-1], attempts, attempts[-1].targets, y.ports, low)
        reach = follow(self, y, targets, options, self.unloaded_start(y, targets))
        if reach.attempt is not None:
            attempts.append(reach.attempt)
            return Solution(reach.attempt, attempts, reach.attempt.targets, y.ports, low)
        doubtful = [a for a in attempts if a.doubtful]
        if doubtful and reach.state is None:
            # Nothing leads there from no demand either, so that nothing says that it is the wrong one.
            best = max(doubtful, key=lambda a: float(np.min(a.state.v)))
        else:
            failed = [a for a in attempts if not a.doubtful] or attempts
            best = min(failed, key=lambda a: a.history[-1] if np.isfinite(a.history[-1]) else np.inf)
            if best.doubtful:
                best.ending = Ending.ITERATION_LIMIT
        return Solution(best, attempts, best.targets, y.ports, low, reach)

    def standing(self, targets: Targets, y: Nodal, state: State, options: LoadFlowOptions) -> Solution:
        """A state that is known to solve these targets, with the powers that its voltages imply at every node."""
        run = Run(self, y, targets, state, options)
        off = run.evaluate(run.state)
        attempt = Attempt(
            "known", Ending.CONVERGED, 0, [off], run.state, run.f, run.at_limit, run.p, run.q, run.targets
        )
        return Solution(attempt, [attempt], run.targets, y.ports, options.low_voltage_pu)

    @staticmethod
    def _rungs(options: LoadFlowOptions, *, remembered: bool) -> list[str]:
        usual = ["flat start"] if options.start == "flat" else ["linear start", "flat start"]
        first = ["last solution"] if options.start == "last" and remembered else []
        if options.method != "automatic":
            return (first + usual)[:1]
        return [*first, *usual, "start without load", "damped steps"]

    def _start(self, rung: str, branch: Columns, y: Nodal, targets: Targets, last: State | None) -> State:
        if rung == "last solution":
            assert last is not None
            start = last.copy()
            reference = targets.node_type == REF
            start.theta[reference] = targets.angle[reference]
            return start
        if rung == "linear start":
            return self.linear_start(branch, y, targets)
        if rung == "start without load":
            return self.unloaded_start(y, targets)
        return self.flat_start(y, targets)

    def doubtful(self, y: Nodal, attempt: Attempt, last: State | None = None) -> bool:
        """Whether an answer may be a lower one of two, which no network would stay at.

        On the way from no load the determinant of the Jacobian keeps its sign until voltages collapse; behind that
        point it has changed. Looked at where voltages are low, machines stand at their limits or a branch is turned by more
        than a quarter: elsewhere there is but one answer. Where both are so there may be several answers with that sign: near
        the ``last`` one it stays the same, otherwise the path from no load decides. So it does where something is turned far
        past a quarter: where machines hold their voltages, a part can stand the other way round and look well.
        Source: Venikov et al., "Estimation of electrical power system steady-state stability in load flow calculations",
        IEEE Trans. PAS-94, 1975.
        """
        if y.flat is None:
            self.flat_start(y, attempt.targets)
        assert y.flat is not None
        t = attempt.targets
        lowest = float(lowest_share(attempt.state.v, t.node_type, y.flat[3], t.voltage))
        near = last is not None and float(np.max(np.abs(attempt.state.v - last.v))) < NEAR
        told = lower_of_two(lowest, limited=bool(np.any(attempt.at_limit)), near=near)
        wide = float(widest_angle(attempt.state.theta, y.flat[2], self.branch_from, self.branch_to))
        if told is False and wide > _QUARTER:
            told = True if wide > _TURNED and not near else None
        return turned_over(self, y, attempt) if told is None else told


def lower_of_two(lowest: float, *, limited: bool, near: bool) -> bool | None:
    """Whether an answer may be the lower of two, from its lowest voltage as a share of the usual one, whether machines stand at
    limits, and whether it is near one that is right; None: the sign of the determinant of its Jacobian tells."""
    if lowest > _HIGH_ENOUGH:
        return False
    if not near and (lowest < _COLLAPSED or (limited and lowest < _LOW_BESIDE_LIMITS)):
        return True
    return None if lowest < _LOW or limited else False


@dataclass
class Solution:
    """The attempt that counts, those before it, and what they were solved for; ``reach``: where solutions end, if not
    at the demand asked for."""

    attempt: Attempt
    attempts: list[Attempt]
    targets: Targets
    ports: TwoPorts
    low_voltage_pu: float = 0.0
    reach: Reach | None = field(default=None)
