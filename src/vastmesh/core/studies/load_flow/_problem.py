"""The equations of a balanced load flow on fixed sparsity, and their solution by Newton's method."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from ...electrical import (
    FIXED,
    HOLDS_VOLTAGE,
    SLACK,
    NetArrays,
    NodalPattern,
    SparseLU,
    Topology,
    TwoPorts,
    nodal_pattern,
    trace,
)
from ...electrical.arrays import Bools, Columns, Floats, Ints
from ...electrical.sparse import interleaved_pattern
from ...errors import SingularMatrix
from ..base import Ending
from ._kernel import (
    PQ,
    PV,
    REF,
    assemble,
    ease_low_voltage,
    mismatch_and_jacobian,
    spread_angles,
    switch_types,
    take_off_demand,
)
from ._methods import DecoupledStep, GaussSeidelStep, NewtonStep, Step
from ._options import LoadFlowOptions

_HOPELESS = 1e8  # a mismatch, per unit, from which Newton does not come back
_MOST_RETURNS = 3  # times a machine may come back from a limit before it is left there
_DOUBTFUL = 0.6  # voltage, per unit, below which an answer from the last solution is tried again from scratch
_LIMIT_CHECK = 1e-2  # mismatch, per unit, below which reactive limits are looked at


Nodal = tuple[Floats, Floats]
"""Real and imaginary parts of the nodal admittance values on their pattern, (nnz,) each."""


@dataclass
class State:
    """Voltages of the live nodes, in the order of the nodal matrix: angle in rad, magnitude per unit, (n,).

    ``at_limit``: 1 or -1 where machines stand at their upper or lower reactive limit, where that is known.
    """

    theta: Floats
    v: Floats
    at_limit: Ints | None = None

    def copy(self) -> State:
        return State(self.theta.copy(), self.v.copy(), self.at_limit)


@dataclass
class Attempt:
    """One run of a method from one start; ``targets`` as they were met (demand at low voltage may have been eased)."""

    rung: str
    ending: Ending
    iterations: int
    history: list[float]
    state: State
    mismatch: Floats  # (2n,): active and reactive, interleaved
    at_limit: Ints  # (n,): 1 at the upper reactive limit, -1 at the lower, 0 free
    p: Floats
    q: Floats
    targets: Targets


@dataclass
class Targets:
    """What every live node shall inject, from loads and machines; arrays of shape (n,), per unit.

    Net injection at voltage V: p0 + p1 V + p2 V², likewise q; ``constant_p``, ``constant_q``: what of p0, q0 is
    demand of constant power. ``q_low``, ``q_high``: net injection at
    the reactive limits of the machines that hold the voltage there. ``clash``: nodes where
    machines or sources want different voltages or angles.
    """

    p0: Floats
    q0: Floats
    p1: Floats
    q1: Floats
    p2: Floats
    q2: Floats
    constant_p: Floats
    constant_q: Floats
    node_type: Ints
    voltage: Floats
    angle: Floats
    q_low: Floats
    q_high: Floats
    clash: Bools = field(default_factory=lambda: np.zeros(0, np.bool_))

    def with_own(self) -> Targets:
        """The same with polynomials of its own, to be altered."""
        return replace(self, **{f: getattr(self, f).copy() for f in ("p0", "q0", "p1", "q1", "p2", "q2")})


class Problem:
    """Everything about a network that stays while only demand, set-points or impedances change.

    Built once per topology; holds the symbolic factorisations. Not safe for several threads at once.
    """

    def __init__(self, arrays: NetArrays) -> None:
        self.topology: Topology = trace(arrays)
        self.pattern: NodalPattern = nodal_pattern(arrays, self.topology)
        self.n = self.pattern.n
        self.jacobian_index = interleaved_pattern(self.pattern.indptr, self.pattern.indices)
        pattern = self.pattern
        self.index = tuple(a.astype(np.uint32) for a in (pattern.indptr, pattern.indices, pattern.diagonal))
        self.jacobian = np.zeros(int(self.jacobian_index[0][-1]))
        self._lu: SparseLU | None = SparseLU(*self.jacobian_index) if self.n else None
        self._linear_lu: SparseLU | None = None
        self._decoupled: tuple[SparseLU, SparseLU] | None = None

    def _method(self, name: str, branch: Columns, y: Nodal, *, damped: bool) -> Step:
        if name == "fast_decoupled":
            if self._decoupled is None:
                first, second = (SparseLU(self.pattern.indptr, self.pattern.indices) for _ in range(2))
                self._decoupled = first, second
            return DecoupledStep(self._decoupled, self.pattern, branch, y)
        if name == "gauss_seidel":
            return GaussSeidelStep(self.pattern)
        assert self._lu is not None
        return NewtonStep(self._lu, damped=damped)

    def row_of(self, bus_rows: Ints) -> Ints:
        return self.pattern.row[bus_rows]

    def targets(self, arrays: NetArrays) -> Targets:
        """Gather loads and machines onto nodes."""
        n = self.n
        load, machine = arrays.tables["load"], arrays.tables["injection"]
        m_at = self.row_of(machine["bus"])
        live = m_at >= 0
        m_at, control, m_p, m_q = m_at[live], machine["control"][live], machine["p"][live], machine["q"][live]
        fixed, holds, slack = control == FIXED, control == HOLDS_VOLTAGE, control == SLACK
        net = [np.zeros(n) for _ in range(8)]  # p0, q0, p1, q1, p2, q2, and of p0, q0 what is constant-power demand
        np.add.at(net[0], m_at, m_p)
        np.add.at(net[1], m_at[fixed], m_q[fixed])
        take_off_demand(
            self.pattern.row, load["bus"], load["p"], load["q"], load["share_i"], load["share_z"], *net
        )  # fmt: skip
        curve = arrays.tables["curve"]
        c_at = self.row_of(curve["bus"])
        np.add.at(net[1], c_at[c_at >= 0], curve["a"][c_at >= 0])
        np.add.at(net[3], c_at[c_at >= 0], curve["b"][c_at >= 0])
        node_type = np.full(n, PQ, np.int64)
        voltage, angle = np.ones(n), np.zeros(n)
        wanted, wanted_angle = machine["voltage"][live], machine["angle"][live]
        # Later assignments win: write in reverse so that the first element in order rules, sources over machines.
        for kind, code in ((holds, PV), (slack, REF)):
            rows = m_at[kind][::-1]
            node_type[rows], voltage[rows], angle[rows] = code, wanted[kind][::-1], wanted_angle[kind][::-1]
        clash = np.zeros(n, np.bool_)
        ruled = holds | slack
        clash[m_at[ruled][np.abs(wanted[ruled] - voltage[m_at[ruled]]) > 1e-9]] = True
        clash[m_at[slack][np.abs(wanted_angle[slack] - angle[m_at[slack]]) > 1e-9]] = True
        low, high = np.zeros(n), np.zeros(n)
        np.add.at(low, m_at[holds], machine["q_min"][live][holds])
        np.add.at(high, m_at[holds], machine["q_max"][live][holds])
        return Targets(
            p0=net[0], q0=net[1], p1=net[2], q1=net[3], p2=net[4], q2=net[5],
            constant_p=net[6], constant_q=net[7], node_type=node_type, voltage=voltage, angle=angle,
            q_low=low, q_high=high, clash=clash,
        )  # fmt: skip

    def flat_start(self, branch: Columns, targets: Targets) -> State:
        """Set-point voltages or 1 p.u.; angles as at no load, vector groups included."""
        live = self.pattern.live_branch
        count = len(live)
        lead = np.zeros(len(self.pattern.indices))
        lead[self.pattern.slots[count : 2 * count]] = branch["shift"][live]
        lead[self.pattern.slots[2 * count : 3 * count]] = -branch["shift"][live]
        theta = np.where(targets.node_type == REF, targets.angle, 0.0)
        spread_angles(self.pattern.indptr, self.pattern.indices, lead, targets.node_type, theta)
        return State(theta, np.where(targets.node_type == PQ, 1.0, targets.voltage))

    def linear_start(self, branch: Columns, targets: Targets) -> State:
        """Flat start plus the angles of a linear (lossless, 1 p.u.) load flow."""
        state = self.flat_start(branch, targets)
        live = self.pattern.live_branch
        z2 = branch["r"][live] ** 2 + branch["x"][live] ** 2
        b = np.maximum(branch["x"][live] / z2, 1e-6)
        nnz, reference = len(self.pattern.indices), targets.node_type == REF
        values = np.bincount(self.pattern.slots[: 4 * len(live)], np.concatenate([b, -b, -b, b]), nnz)
        columns = np.repeat(np.arange(self.n), np.diff(self.pattern.indptr))
        values[reference[self.pattern.indices] | reference[columns]] = 0.0
        values[self.pattern.diagonal[reference]] = 1.0
        if self._linear_lu is None:
            self._linear_lu = SparseLU(self.pattern.indptr, self.pattern.indices)
        try:
            self._linear_lu.factorise(values)
        except SingularMatrix:
            return state  # only a start: the flat one serves as well
        wanted = np.where(reference, 0.0, targets.p0 + targets.p1 + targets.p2)
        state.theta += np.clip(self._linear_lu.solve(wanted), -2.0, 2.0)
        return state

    def newton(
        self, y: Nodal, targets: Targets, start: State, options: LoadFlowOptions, *, rung: str, damped: bool = False
    ) -> Attempt:
        """Newton's method from a start; see :meth:`iterate`."""
        assert self._lu is not None
        return self.iterate(y, targets, start, options, NewtonStep(self._lu, damped=damped), rung=rung)

    def iterate(
        self, y: Nodal, targets: Targets, start: State, options: LoadFlowOptions, method: Step, *, rung: str
    ) -> Attempt:
        """Steps of a method until the mismatch is met, with voltage-controlled nodes let go at their reactive limits
        and taken back, and constant-power demand at low voltage treated as the options say.

        Returns how it ended; ``ITERATION_LIMIT`` also when it ran away or stalled.
        """
        run = Run(self, y, targets, start, options)
        history: list[float] = []
        most = -(-(options.max_iterations or method.most) // method.counts)

        def finish(ending: Ending) -> Attempt:
            run.state.at_limit = run.at_limit
            steps = (len(history) - 1) * method.counts
            return Attempt(rung, ending, steps, history, run.state, run.f, run.at_limit, run.p, run.q, run.targets)

        best, since_best = np.inf, 0
        for _ in range(4 * most):
            worst = run.evaluate(run.state)
            if run.switch(worst):
                worst = run.evaluate(run.state)
                best, since_best = np.inf, 0
            history.append(worst)
            if worst < options.tolerance_pu:
                return finish(Ending.CONVERGED)
            if not np.isfinite(worst) or worst > _HOPELESS:
                break
            best, since_best = (worst, 0) if worst < best else (best, since_best + 1)
            if since_best > method.patience or len(history) > most * method.stretch:
                break
            try:
                run.state = method.advance(run, worst)
            except SingularMatrix:
                return finish(Ending.SINGULAR)
        return finish(Ending.ITERATION_LIMIT)

    def admittance(self, arrays: NetArrays) -> tuple[TwoPorts, Nodal]:
        """Two-ports of all branches and nodal values for the impedances as they are now."""
        branch, shunt, pattern = arrays.tables["branch"], arrays.tables["shunt"], self.pattern
        count = len(pattern.live_branch)
        at_shunt, y = pattern.slots[4 * count :], shunt["y"][pattern.live_shunt]
        nnz = len(pattern.indices)
        g = np.bincount(at_shunt, y.real, nnz).astype(np.float64)
        b = np.bincount(at_shunt, y.imag, nnz).astype(np.float64)
        ports = np.empty((4, len(branch["r"])), np.complex128)
        assemble(
            pattern.live_branch, pattern.slots, branch["r"], branch["x"], branch["shunt_from"], branch["shunt_to"],
            branch["ratio_from"], branch["ratio_to"], branch["shift"], ports, g, b,
        )  # fmt: skip
        return TwoPorts(*ports), (g, b)

    def solve(
        self,
        arrays: NetArrays,
        options: LoadFlowOptions,
        last: State | None = None,
        admittance: tuple[TwoPorts, Nodal] | None = None,
    ) -> Solution:
        """Try Newton from the last solution, then from a linear start, a flat one, and with damped steps.

        ``admittance``: as :meth:`admittance` gave it, where impedances have not changed since.
        """
        targets = self.targets(arrays)
        ports, y = admittance or self.admittance(arrays)
        if self.n == 0:
            nothing = State(np.zeros(0), np.zeros(0))
            empty = np.zeros(0)
            attempt = Attempt(
                "none", Ending.NOTHING_TO_SOLVE, 0, [], nothing, empty, np.zeros(0, np.int64), empty, empty, targets
            )
            return Solution(attempt, [attempt], targets, ports)
        attempts: list[Attempt] = []
        branch = arrays.tables["branch"]
        remembered = options.start == "last" and last is not None and len(last.v) == self.n
        rungs: tuple[str, ...] = ("last solution", "linear start", "flat start", "damped steps")
        if options.method != "automatic":
            rungs = (
                ("last solution",) if remembered else ("flat start",) if options.start == "flat" else ("linear start",)
            )
        for rung in rungs:
            if rung == "last solution":
                if not remembered or last is None:
                    continue
                start = last.copy()
                held = targets.node_type != PQ
                if start.at_limit is not None:
                    held &= start.at_limit == 0
                start.v[held] = targets.voltage[held]
                reference = targets.node_type == REF
                start.theta[reference] = targets.angle[reference]
            elif rung == "linear start":
                if options.start == "flat":
                    continue
                start = self.linear_start(branch, targets)
            else:
                start = self.flat_start(branch, targets)
            method = self._method(options.method, branch, y, damped=rung == "damped steps")
            attempts.append(self.iterate(y, targets, start, options, method, rung=rung))
            if attempts[-1].ending is Ending.CONVERGED:
                if rung == "last solution" and float(np.min(attempts[-1].state.v)) < _DOUBTFUL:
                    continue  # perhaps the low-voltage one of two solutions: see where a fresh start leads
                break
        converged = [a for a in attempts if a.ending is Ending.CONVERGED]
        if converged:
            highest = max(converged, key=lambda a: float(np.min(a.state.v)))
            return Solution(highest, attempts, highest.targets, ports, options.low_voltage_pu)
        best = min(attempts, key=lambda a: a.history[-1] if np.isfinite(a.history[-1]) else np.inf)
        return Solution(best, attempts, best.targets, ports, options.low_voltage_pu)


@dataclass
class Solution:
    """The attempt that counts, those before it, and what they were solved for."""

    attempt: Attempt
    attempts: list[Attempt]
    targets: Targets
    ports: TwoPorts
    low_voltage_pu: float = 0.0


class Run:
    """One iteration under way: voltages, mismatch, and which machines have let go of their voltage.

    Methods step ``state``; everything else is looked after here.
    """

    def __init__(self, problem: Problem, y: Nodal, targets: Targets, start: State, options: LoadFlowOptions) -> None:
        n = problem.n
        self.problem, self.y, self.targets = problem, y, targets
        self.low = options.low_voltage_pu
        if self.low:
            self.targets = targets.with_own()
            self._eased = np.zeros(n, np.bool_)
        self.state = start.copy()
        self.node_type, self.q0 = targets.node_type.copy(), targets.q0.copy()
        self.f, self.p, self.q = np.zeros(2 * n), np.zeros(n), np.zeros(n)
        self.jac = problem.jacobian
        self.at_limit, self._returns = np.zeros(n, np.int64), np.zeros(n, np.int64)
        self._held = np.flatnonzero(targets.node_type == PV)
        self._limits = options.reactive_limits and len(self._held) > 0
        if self._limits and start.at_limit is not None:
            self.at_limit[self._held] = start.at_limit[self._held]
            bound = self._held[self.at_limit[self._held] != 0]
            self.node_type[bound] = PQ
            self.q0[bound] += np.where(self.at_limit[bound] > 0, targets.q_high[bound], targets.q_low[bound])

    def evaluate(self, s: State) -> float:
        """Fill mismatch and Jacobian at some voltages; the largest mismatch."""
        t, (indptr, indices, diagonal), (g, b) = self.targets, self.problem.index, self.y
        if self.low:
            ease_low_voltage(s.v, self.low, t.constant_p, t.constant_q, self._eased, t.p0, t.q0, self.q0, t.p2, t.q2)
        return float(
            mismatch_and_jacobian(
                indptr, indices, diagonal, g, b, s.theta, s.v, t.p0, self.q0, t.p1, t.q1, t.p2, t.q2, self.node_type,
                self.f, self.jac, self.p, self.q,
            )
        )  # fmt: skip

    def switch(self, worst: float) -> bool:
        """Let machines go that are past a reactive limit, take back those that could hold again; True if any."""
        if not self._limits or worst >= _LIMIT_CHECK:
            return False
        t = self.targets
        return bool(
            switch_types(
                self.state.v, self.q, self._held, t.q0, t.q1, t.q2, t.q_low, t.q_high, t.voltage, self.node_type, self.q0,
                self.at_limit, self._returns, _MOST_RETURNS,
            )
        )  # fmt: skip
