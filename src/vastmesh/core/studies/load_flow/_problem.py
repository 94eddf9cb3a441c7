"""The equations of a balanced load flow on fixed sparsity, and their solution by Newton's method."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ...electrical import NetArrays, NodalPattern, SparseLU, Topology, TwoPorts, nodal_pattern, trace
from ...electrical.arrays import Bools, Columns, Floats, Ints
from ...electrical.sparse import interleaved_pattern
from ...errors import SingularMatrix
from ..base import Ending
from ._follow import Reach, follow
from ._kernel import PQ, REF, assemble, gather, lowest_share, same, spread
from ._methods import DecoupledStep, GaussSeidelStep, NewtonStep, Step
from ._options import LoadFlowOptions
from ._run import Attempt, Run, State, Targets

_IMPEDANCES = ("r", "x", "shunt_from", "shunt_to", "ratio_from", "ratio_to", "shift")
_LOW = 0.8  # share of the voltage without demand below which an answer may be the lower one of two
_HIGH_ENOUGH = 0.95  # share of it above which there is nothing to doubt
_LOW_BESIDE_LIMITS = 0.9  # the same where machines stand at reactive limits
_NEAR = 0.05  # between a voltage now and before, up to which the answer is the same one moved
_COLLAPSED = 0.5  # below it a demand of constant power draws more from its supply than that can give
# Ratios between nominal voltages within these are off-nominal turns; what lies beyond is carried into the start.
LEAST_RATIO, MOST_RATIO = 0.75, 1.33


@dataclass
class Nodal:
    """Everything that follows from impedances, ratios and shifts as they are now.

    ``two_ports``: ff, ft, tf, tt of all branches, (4, n_branch). ``g``, ``b``: parts of the nodal admittance on its
    pattern, (nnz,); ``by_rows``: the same in the order of rows. ``lead``, ``lift``: angle and ratio at no load of the node of
    the row before that of the column, (nnz,).
    """

    two_ports: np.ndarray
    g: Floats
    b: Floats
    by_rows: tuple[Floats, Floats]
    lead: Floats
    lift: Floats
    # Own susceptance of every node, (n,), and what is usual: how stiffly voltages are held, p.u.
    stiffness: Floats
    usual_stiffness: float
    # Kept while impedances stay: of the flat start, by reference nodes and their angles, angle and size of voltage; of the
    # linear start, by reference nodes, the factors.
    flat: tuple[Ints, Floats, Floats, Floats] | None = None
    linear: tuple[Ints, SparseLU | None] | None = None

    @property
    def ports(self) -> TwoPorts:
        return TwoPorts(*self.two_ports)


class Problem:
    """Everything about a network that stays while only demand, set-points or impedances change.

    Built once per topology; holds the symbolic factorisations. Not safe for several threads at once.
    """

    def __init__(self, arrays: NetArrays) -> None:
        self.base_mva = arrays.base_mva
        self.topology: Topology = trace(arrays)
        self.pattern: NodalPattern = nodal_pattern(arrays, self.topology)
        self.n = self.pattern.n
        self.jacobian_index = interleaved_pattern(self.pattern.indptr, self.pattern.indices)
        pattern = self.pattern
        column = np.repeat(np.arange(self.n), np.diff(pattern.indptr))
        # The pattern is symmetric: entries by rows have the places of those by columns, in another order.
        self.by_rows = np.searchsorted(column * self.n + pattern.indices, pattern.indices * self.n + column)
        self.index = tuple(a.astype(np.uint32) for a in (pattern.indptr, pattern.indices, pattern.diagonal))
        self.jacobian = np.zeros(int(self.jacobian_index[0][-1]))
        self._lu: SparseLU | None = SparseLU(*self.jacobian_index) if self.n else None
        self._linear_lu: SparseLU | None = None
        self._decoupled: tuple[SparseLU, SparseLU] | None = None
        self._nodal: tuple[list[np.ndarray], Nodal] | None = None
        branch = arrays.tables["branch"]
        live = pattern.live_branch
        self.branch_from, self.branch_to = pattern.row[branch["from"][live]], pattern.row[branch["to"][live]]

    def _method(self, name: str, branch: Columns, y: Nodal, *, damped: bool) -> Step:
        if name == "fast_decoupled":
            if self._decoupled is None:
                first, second = (SparseLU(self.pattern.indptr, self.pattern.indices) for _ in range(2))
                self._decoupled = first, second
            return DecoupledStep(self._decoupled, self.pattern, branch, y)
        if name == "gauss_seidel":
            return GaussSeidelStep(self.pattern)
        return self.newton_step(damped=damped)

    def newton_step(self, *, damped: bool = False) -> NewtonStep:
        assert self._lu is not None
        return NewtonStep(self._lu, damped=damped)

    def row_of(self, bus_rows: Ints) -> Ints:
        return self.pattern.row[bus_rows]

    def targets(self, arrays: NetArrays) -> Targets:
        """Gather loads and machines onto nodes."""
        n = self.n
        load, machine, curve = (arrays.tables[t] for t in ("load", "injection", "curve"))
        net, held = np.zeros((8, n)), np.zeros((4, n))
        node_type, clash = np.zeros(n, np.int64), np.zeros(n, np.bool_)
        held[0] = 1.0
        gather(
            self.pattern.row, load["bus"], load["p"], load["q"], load["share_i"], load["share_z"], machine["bus"],
            machine["p"], machine["q"], machine["control"], machine["voltage"], machine["angle"], machine["q_min"],
            machine["q_max"], curve["bus"], curve["a"], curve["b"], net, node_type, held, clash,
        )  # fmt: skip
        return Targets(
            p0=net[0], q0=net[1], p1=net[2], q1=net[3], p2=net[4], q2=net[5], constant_p=net[6], constant_q=net[7],
            node_type=node_type, voltage=held[0], angle=held[1], q_low=held[2], q_high=held[3], clash=clash,
        )  # fmt: skip

    # Starts

    def flat_start(self, y: Nodal, targets: Targets) -> State:
        """Set-point voltages or 1 p.u., and what gross ratios make of it; angles as at no load, vector groups included."""
        reference = np.flatnonzero(targets.node_type == REF)
        angles = targets.angle[reference]
        if y.flat is None or not (np.array_equal(y.flat[0], reference) and np.array_equal(y.flat[1], angles)):
            theta, size = np.zeros(self.n), np.ones(self.n)
            theta[reference] = angles
            spread(self.pattern.indptr, self.pattern.indices, y.lead, y.lift, targets.node_type, theta, size)
            y.flat = reference, angles, theta, size
        return State(y.flat[2].copy(), np.where(targets.node_type == PQ, y.flat[3], targets.voltage))

    def linear_start(self, branch: Columns, y: Nodal, targets: Targets) -> State:
        """Flat start plus the angles of a linear (lossless) load flow."""
        state = self.flat_start(y, targets)
        reference = targets.node_type == REF
        held = np.flatnonzero(reference)
        if y.linear is None or not np.array_equal(y.linear[0], held):
            y.linear = held, self._linear_factors(branch, state.v, reference)
        lu = y.linear[1]
        if lu is not None:
            wanted = np.where(reference, 0.0, targets.p0 + targets.p1 + targets.p2)
            state.theta += np.clip(lu.solve(wanted), -2.0, 2.0)
        return state

    def _linear_factors(self, branch: Columns, v: Floats, reference: Bools) -> SparseLU | None:
        """Factors of the susceptances; None where they are singular: the flat start serves as well."""
        live = self.pattern.live_branch
        r, x = branch["r"][live], branch["x"][live]
        z2 = r * r + x * x
        # Where hardly any reactance is left, or a negative one beside more resistance, angles don't move the power.
        b = np.where(np.abs(x) > 0.2 * np.abs(r), x / z2, 0.2 / np.sqrt(z2))
        b *= v[self.branch_from] * v[self.branch_to] / (branch["ratio_from"][live] * branch["ratio_to"][live])
        nnz = len(self.pattern.indices)
        values = np.bincount(self.pattern.slots[: 4 * len(live)], np.concatenate([b, -b, -b, b]), nnz)
        columns = np.repeat(np.arange(self.n), np.diff(self.pattern.indptr))
        values[reference[self.pattern.indices] | reference[columns]] = 0.0
        values[self.pattern.diagonal[reference]] = 1.0
        if self._linear_lu is None:
            self._linear_lu = SparseLU(self.pattern.indptr, self.pattern.indices)
        try:
            self._linear_lu.factorise(values)
        except SingularMatrix:
            return None
        return self._linear_lu

    def unloaded_start(self, y: Nodal, targets: Targets) -> State:
        """Voltages with the sources alone: no demand, no machine; a linear network, so that they are its true ones."""
        state = self.flat_start(y, targets)
        reference = targets.node_type == REF
        values = y.g + 1j * y.b
        columns = np.repeat(np.arange(self.n), np.diff(self.pattern.indptr))
        volts = np.where(reference, state.v * np.exp(1j * state.theta), 0)
        known = reference[columns]
        into, part = self.pattern.indices[known], values[known] * volts[columns[known]]
        rhs = -(np.bincount(into, part.real, self.n) + 1j * np.bincount(into, part.imag, self.n))
        rhs[reference] = volts[reference]
        values[known | reference[self.pattern.indices]] = 0.0
        values[self.pattern.diagonal[reference]] = 1.0
        try:
            with SparseLU(self.pattern.indptr, self.pattern.indices, complex_=True) as lu:
                lu.factorise(values)
                found = lu.solve(rhs)
        except SingularMatrix:
            return state
        size = np.maximum(np.abs(found), 1e-6)
        # Angles without their turns are as good a start as any.
        return State(np.angle(found), np.where(targets.node_type == PQ, size, targets.voltage))

    def admittance(self, arrays: NetArrays) -> Nodal:
        """Nodal values for the impedances as they are now; the last ones where nothing has changed since."""
        branch, shunt = arrays.tables["branch"], arrays.tables["shunt"]
        now = [*(branch[c] for c in _IMPEDANCES), shunt["y"]]
        if self._nodal is None or not all(map(same, self._nodal[0], now)):
            self._nodal = [a.copy() for a in now], self._assembled(branch, shunt)
        return self._nodal[1]

    def _assembled(self, branch: Columns, shunt: Columns) -> Nodal:
        pattern = self.pattern
        live = pattern.live_branch
        count, nnz = len(live), len(pattern.indices)
        at_shunt, shunts = pattern.slots[4 * count :], shunt["y"][pattern.live_shunt]
        g = np.bincount(at_shunt, shunts.real, nnz).astype(np.float64)
        b = np.bincount(at_shunt, shunts.imag, nnz).astype(np.float64)
        ports = np.empty((4, len(branch["r"])), np.complex128)
        assemble(
            live, pattern.slots, branch["r"], branch["x"], branch["shunt_from"], branch["shunt_to"],
            branch["ratio_from"], branch["ratio_to"], branch["shift"], ports, g, b,
        )  # fmt: skip
        lead, lift = np.zeros(nnz), np.ones(nnz)
        ratio = branch["ratio_from"][live] / branch["ratio_to"][live]
        ratio = np.where((ratio > LEAST_RATIO) & (ratio < MOST_RATIO), 1.0, ratio)
        up, down = pattern.slots[count : 2 * count], pattern.slots[2 * count : 3 * count]
        lead[up], lead[down] = branch["shift"][live], -branch["shift"][live]
        lift[up], lift[down] = ratio, 1 / ratio
        stiffness = np.abs(b[pattern.diagonal])
        rows = self.by_rows
        return Nodal(
            ports, g, b, (g[rows], b[rows]), lead, lift, stiffness, float(np.median(stiffness)) if self.n else 1.0
        )

    # Solution

    def iterate(
        self, y: Nodal, targets: Targets, start: State, options: LoadFlowOptions, method: Step, *, rung: str
    ) -> Attempt:
        """Steps of a method until the mismatch is met, with voltage-controlled nodes let go at their reactive limits
        and taken back, and constant-power demand at low voltage treated as the options say.

        Returns how it ended; ``ITERATION_LIMIT`` also when it ran away or stalled.
        """
        return Run(self, y, targets, start, options).carry_out(method, rung)

    def newton(
        self, y: Nodal, targets: Targets, start: State, options: LoadFlowOptions, *, rung: str, damped: bool = False
    ) -> Attempt:
        """Newton's method from a start; see :meth:`iterate`."""
        return self.iterate(y, targets, start, options, self.newton_step(damped=damped), rung=rung)

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
        point it has changed. Looked at where voltages are low or machines stand at their limits: elsewhere there is but
        one answer. Where both are so there may be several answers with that sign: near the ``last`` one it stays the same,
        otherwise the path from no load decides. Source: Venikov et al., "Estimation of electrical power system
        steady-state stability in load flow calculations", IEEE Trans. PAS-94, 1975.
        """
        if y.flat is None:
            self.flat_start(y, attempt.targets)
        assert y.flat is not None
        t = attempt.targets
        lowest = float(lowest_share(attempt.state.v, t.node_type, y.flat[3], t.voltage))
        if lowest > _HIGH_ENOUGH:
            return False
        near = last is not None and float(np.max(np.abs(attempt.state.v - last.v))) < _NEAR
        limited = bool(np.any(attempt.at_limit))
        if not near and (lowest < _COLLAPSED or (limited and lowest < _LOW_BESIDE_LIMITS)):
            return True
        return bool((lowest < _LOW or limited) and self.turned_over(y, attempt))

    def turned_over(self, y: Nodal, attempt: Attempt) -> bool:
        """Whether the determinant of the Jacobian at an answer is negative."""
        assert self._lu is not None
        run = Run(self, y, attempt.targets, attempt.state, LoadFlowOptions())
        run.evaluate(run.state)
        try:
            self._lu.factorise(run.jac)
        except SingularMatrix:
            return True
        return self._lu.determinant_sign() < 0


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


__all__ = ["LEAST_RATIO", "MOST_RATIO", "Attempt", "Nodal", "Problem", "Solution", "State", "Targets"]
