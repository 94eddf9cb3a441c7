"""Following a solution from no demand upwards, where no start leads to one.

Unknowns are all voltages and the share of demand and generation; each point is sought on a plane across the tangent of the
last one, so that the path is kept round its turning point and past the corners where a machine meets a limit. There its
row changes by the sign of the natural residual of its conditions, anew in every step. Sources: H. B. Keller, "Numerical
solution of bifurcation and nonlinear eigenvalue problems", 1977; L. Qi and J. Sun, "A nonsmooth version of Newton's
method", Mathematical Programming 58, 1993.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from ...electrical.arrays import Floats, Ints
from ...errors import SingularMatrix
from .._ending import Ending
from ._equations import Equations
from ._kernel import PQ, PV, REF, natural_types
from ._methods import NewtonStep, newton, turned_over
from ._options import LoadFlowOptions
from ._run import Run
from ._state import Attempt, Nodal, State, Targets

_FIRST, _LEAST, _MOST = 0.1, 1e-5, 1.0  # steps along the path, in its own length
_CLOSE = 0.97  # share from which its end is found ten times as closely: it decides whether there is a solution
_SURE = 1e-3  # relative: how closely the share at which solutions end is found
_MET = 1e-9  # mismatch, in shares of the largest power, at which a point lies on the path
_JUMP = 0.3  # most that a voltage may move from one point of the path to the next, of itself
_HIGH = 1.5  # of the usual voltage, above which another solution without demand is looked for
_BACK = 0.85  # of the largest share reached, down to which the path is followed behind a turn
_TURNS, _POINTS = 9, 600


@dataclass
class Reach:
    """How far solutions reach: ``share`` of all demand and generation, the state there (None: not even without any), the
    node whose voltage falls fastest there; ``attempt`` when all of it has a solution."""

    share: float
    state: State | None
    weakest: int
    attempt: Attempt | None = None


def follow(problem: Equations, y: Nodal, targets: Targets, options: LoadFlowOptions, start: State) -> Reach:
    """Follow the solution while all demand and generation grow from nothing to what is asked for."""
    nothing = targets.scaled(0.0)
    now = _without_demand(problem, y, nothing, options, start)
    if now is None:
        return Reach(0.0, None, 0)
    path = Path(problem, y, nothing, targets, options)
    end = path.walk(now)
    if end.share == 1.0:
        usual = options.model_copy(update={"method": "automatic"})
        found = newton(problem, y, targets, end.state, usual, rung="demand raised step by step")
        found.iterations += path.iterations
        if found.ending is Ending.CONVERGED:
            return Reach(1.0, found.state, 0, found)
    return Reach(end.share, end.state, path.weakest(end))


def _without_demand(
    problem: Equations, y: Nodal, nothing: Targets, options: LoadFlowOptions, start: State
) -> State | None:
    """The solution without demand: directly, else limits are drawn in from where no machine meets them."""
    usual = options.model_copy(update={"max_iterations": None, "method": "automatic"})
    free = usual.model_copy(update={"reactive_limits": False})
    usual_v = problem.flat_start(y, nothing)
    starts, high = (usual_v, start), None
    for begin in starts:
        found = newton(problem, y, nothing, begin, usual, rung="without demand")
        if found.ending is Ending.CONVERGED and not turned_over(problem, y, found):
            if float(np.max(found.state.v / usual_v.v)) < _HIGH:
                return found.state
            high = high or found.state
    for begin, damped in ((starts[0], False), (starts[1], False), (starts[0], True), (starts[1], True)):
        found = newton(problem, y, nothing, begin, free, rung="without demand", damped=damped)
        if found.ending is Ending.CONVERGED:
            break
    else:
        return high
    held = nothing.node_type == PV
    v = found.state.v
    needed = found.q - (nothing.q0 + nothing.q1 * v + nothing.q2 * v * v)
    beyond = np.maximum(needed - nothing.q_high, nothing.q_low - needed)[held]
    wide = 1.01 * float(np.max(beyond, initial=0.0)) + 1e-6
    widened = replace(nothing, q_low=nothing.q_low - wide, q_high=nothing.q_high + wide)
    end = Path(problem, y, widened, nothing, options).walk(replace(found.state, at_limit=None))
    return end.state if end.share == 1.0 else high


@dataclass
class Point:
    """A solution on the path: its share, voltages, their change by the share (2n,), and the sign of the Jacobian's
    determinant."""

    share: float
    state: State
    tangent: Floats | None = None
    sign: float = 0.0


class Path:
    """Solutions while targets go in a straight line from some to others."""

    def __init__(self, problem: Equations, y: Nodal, first: Targets, last: Targets, options: LoadFlowOptions) -> None:
        self.problem, self.y, self.first, self.last = problem, y, first, last
        self.limits = options.reactive_limits
        self.low = options.low_voltage_pu
        self.options = options
        self._held: Ints = np.flatnonzero(first.node_type == PV)
        self._stiff = y.stiffness
        # No point is closer to the path than rounding lets it be.
        self._met = max(_MET * max(first.scale, last.scale), 4e-13 * float(np.max(self._stiff, initial=0.0)))
        self.iterations = 0

    def at(self, share: float) -> Targets:
        """Targets at a share of the way."""
        a, b = self.first, self.last
        fields = ("p0", "q0", "p1", "q1", "p2", "q2", "constant_p", "constant_q", "q_low", "q_high")
        mixed = {}
        for f in fields:
            x, z = getattr(a, f), getattr(b, f)
            mixed[f] = x + share * np.where(np.isfinite(x) & np.isfinite(z), np.where(np.isfinite(z), z, 0) - np.where(
                np.isfinite(x), x, 0), 0.0)  # fmt: skip
        return replace(b, **mixed)

    def walk(
        self, start: State, met: Callable[[Point], bool] | None = None, *, back: float = _BACK, longest: float = _MOST
    ) -> Point:  # fmt: skip
        """From share 0 to 1, else to the largest share with a solution.

        ``met`` is told of every point and ends the walk with it when it says so; ``back``: of the largest share, down to which
        the path is followed behind a turn; ``longest``: most of a step.

        The sign of the Jacobian's determinant tells the way along the path: where it changes, the share turns back. Behind
        such a turn the path is followed on for a while, as past a corner it often rises again.
        """
        begun = self._onto(start, 0.0)
        if begun is None or begun.tangent is None:
            return Point(0.0, start)
        now, peak, step = begun, begun, min(_FIRST, longest)
        if met is not None and met(begun):
            return begun
        for _ in range(_POINTS):
            assert now.tangent is not None
            rising = now.sign == begun.sign
            if step < _LEAST or now.share < back * peak.share:
                break
            length = float(np.sqrt(1.0 + now.tangent @ now.tangent))
            ahead = step / length * (1.0 if rising else -1.0)
            found = self._onto(now.state, 1.0, now) if now.share + ahead >= 1.0 else self._across(now, ahead)
            if found is None or found.tangent is None or self._left(now, found):
                step /= 2
                continue
            turned = found.sign != now.sign
            if found.share == 1.0 and not turned:
                if met is not None:
                    met(found)
                return found
            sure = (_SURE if now.share < _CLOSE else _SURE / 10) * max(now.share, 0.01)
            unsure = max(abs(now.share + ahead - found.share), abs(found.share - now.share)) > sure
            if (turned and unsure) or ((found.share > now.share) != rising and not turned):
                step /= 2  # a turn, or a corner cut: closer to it
                continue
            now = found
            if now.share > peak.share:
                peak = now
            if met is not None and met(now):
                return now
            step = min(step * (1.7 if self._turns <= 4 else 1.0), longest)
        return peak

    def _onto(self, state: State, share: float, behind: Point | None = None) -> Point | None:
        """The solution at a given share near a state."""
        run = self._run(state, share)
        if behind is not None and behind.tangent is not None:
            self._move(run, behind.tangent, share - behind.share)
        for self._turns in range(1, _TURNS + 6 * (behind is None)):
            if self._residual(run, share) <= self._met:
                return self._point(run, share)
            try:
                step = NewtonStep.of(self.problem).direction(run.jac, -run.f)
            except SingularMatrix:
                return None
            self._move(run, step, 1.0)
        return None

    def _across(self, now: Point, ahead: float) -> Point | None:
        """The solution on the plane across the tangent, ``ahead`` of the share along it."""
        assert now.tangent is not None
        share = now.share + ahead
        run = self._run(now.state, share)
        self._move(run, now.tangent, ahead)
        gone = now.tangent * ahead
        for self._turns in range(1, _TURNS):
            if self._residual(run, share) <= self._met:
                return self._point(run, share)
            try:
                lu = NewtonStep.of(self.problem)
                step, by_share = lu.direction(run.jac, -run.f), lu.again(self._by_share(run))
            except SingularMatrix:
                return None
            off = float(now.tangent @ (gone - now.tangent * ahead)) + (share - now.share - ahead)
            change = float(-(off + now.tangent @ step) / (1.0 + now.tangent @ by_share))
            moved = step + change * by_share
            if not np.isfinite(change) or np.max(np.abs(moved)) > 1.0:
                return None
            self._move(run, moved, 1.0)
            gone = gone + moved
            share += change
        return None

    def _run(self, state: State, share: float) -> Run:
        run = Run(self.problem, self.y, self.at(share), state, LoadFlowOptions(low_voltage_pu=self.low))
        run.node_type = self.first.node_type.copy()
        run.state.v[self._held] = state.v[self._held]
        return run

    def _residual(self, run: Run, share: float) -> float:
        """Mismatch and Jacobian at a share, with every machine's row as its natural residual says."""
        s = run.state
        self.iterations += 1
        run.aim(self.at(share))
        t = run.targets
        run.evaluate(s)
        if self.limits and len(self._held):
            natural_types(
                s.v, run.q, self._held, t.q0, t.q1, t.q2, t.q_low, t.q_high, t.voltage, self._stiff, run.node_type, run.q0,
                run.at_limit,
            )  # fmt: skip
            run.evaluate(s)
        held = self._held[run.node_type[self._held] == PV]
        run.f[2 * held + 1] = np.log(s.v[held] / t.voltage[held])
        return float(np.max(np.abs(run.f), initial=0.0))

    def _by_share(self, run: Run) -> Floats:
        """Right-hand side whose solution is the change of the unknowns by the share."""
        a, b, v = self.first, self.last, run.state.v
        rhs: Floats = np.zeros(2 * len(v))
        p: Floats = (b.p0 - a.p0) + (b.p1 - a.p1) * v + (b.p2 - a.p2) * v * v
        q: Floats = (b.q0 - a.q0) + (b.q1 - a.q1) * v + (b.q2 - a.q2) * v * v
        for side, one, other in ((1, a.q_high, b.q_high), (-1, a.q_low, b.q_low)):
            mine = (run.at_limit == side) & np.isfinite(one) & np.isfinite(other)
            q[mine] += other[mine] - one[mine]
        rhs[0::2] = np.where(run.node_type == REF, 0.0, p)
        rhs[1::2] = np.where(run.node_type == PQ, q, 0.0)
        return rhs

    def _point(self, run: Run, share: float) -> Point:
        state = State(run.state.theta, run.state.v, run.at_limit)
        newton = NewtonStep.of(self.problem)
        try:
            return Point(share, state, newton.direction(run.jac, self._by_share(run)), newton.turn())
        except SingularMatrix:
            return Point(share, state)

    @staticmethod
    def _move(run: Run, step: Floats, part: float) -> None:
        run.state.theta += part * step[0::2]
        run.state.v *= np.exp(np.clip(part * step[1::2], -1.0, 1.0))

    @staticmethod
    def _left(now: Point, found: Point) -> bool:
        """Whether the next point is too far from the last one to lie on the same path."""
        return bool(np.max(np.abs(np.log(found.state.v / now.state.v)), initial=0.0) > _JUMP)

    def run_at(self, point: Point) -> Run:
        """The equations at a point of the path, with its Jacobian."""
        run = self._run(point.state, point.share)
        self._residual(run, point.share)
        return run

    def between(self, low: Point, high: Point, share: float) -> Point | None:
        """The solution at a share between two points of the path that rises between them."""
        return self._onto(low.state, share, low)

    def highest(self, before: Point, after: Point) -> Point:
        """The point with the largest share between two of the path, of which the first lies before the turn."""
        assert before.tangent is not None
        gone = np.empty(2 * len(before.state.v))
        gone[0::2] = after.state.theta - before.state.theta
        gone[1::2] = np.log(after.state.v / before.state.v)
        whole = float(before.tangent @ gone) + after.share - before.share
        most = whole / float(1.0 + before.tangent @ before.tangent)
        found = max(before, after, key=lambda p: p.share)

        def lacking(ahead: float) -> float:
            nonlocal found
            point = self._across(before, ahead)
            if point is None:
                return -before.share
            if point.share > found.share:
                found = point
            return -point.share

        if most > 0:
            from scipy.optimize import minimize_scalar  # slow to load, and seldom needed

            minimize_scalar(
                lacking, bounds=(0.0, most), method="bounded", options={"xatol": 1e-7 * most, "maxiter": 60}
            )
        return found

    def weakest(self, end: Point) -> int:
        """The node whose voltage moves fastest with the share."""
        v = end.state.v
        return int(np.argmin(v) if end.tangent is None else np.argmax(np.abs(end.tangent[1::2] * v)))
