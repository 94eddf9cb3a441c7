"""The equations of a balanced load flow on fixed sparsity, and where their solution may start."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from ...electrical import BlockLU, NetArrays, NodalPattern, SparseLU, Topology, nodal_pattern, trace
from ...electrical.arrays import Bools, Columns, Floats, Ints
from ...electrical.sparse import interleaved_pattern
from ...errors import SingularMatrix
from ._kernel import PQ, REF, ROUNDING, assemble, gather, gather_several, hold, same, same_references, spread
from ._state import Nodal, State, Targets

_IMPEDANCES = ("r", "x", "shunt_from", "shunt_to", "ratio_from", "ratio_to", "shift")
# Ratios between nominal voltages within these are off-nominal turns; what lies beyond is carried into the start.
LEAST_RATIO, MOST_RATIO = 0.75, 1.33


class Equations:
    """Everything about a network that stays while only demand, set-points or impedances change.

    Built once per topology; holds the symbolic factorisations. Not safe for several threads at once.
    """

    def __init__(self, arrays: NetArrays) -> None:
        self.base_mva = arrays.base_mva
        self.topology: Topology = trace(arrays)
        self.pattern: NodalPattern = nodal_pattern(arrays, self.topology)
        self.n = self.pattern.n
        pattern = self.pattern
        column = np.repeat(np.arange(self.n), np.diff(pattern.indptr))
        # The pattern is symmetric: entries by rows have the places of those by columns, in another order.
        self.by_rows = np.searchsorted(column * self.n + pattern.indices, pattern.indices * self.n + column)
        self.index = tuple(a.astype(np.uint32) for a in (pattern.indptr, pattern.indices, pattern.diagonal))
        self.jacobian = np.zeros(4 * len(pattern.indices))
        self.lu: BlockLU | None = BlockLU(pattern.indptr, pattern.indices) if self.n else None
        self._linear_lu: SparseLU | None = None
        self._nodal: tuple[list[np.ndarray], Nodal] | None = None
        branch = arrays.tables["branch"]
        live = pattern.live_branch
        self.branch_from, self.branch_to = pattern.row[branch["from"][live]], pattern.row[branch["to"][live]]

    @cached_property
    def jacobian_index(self) -> tuple[Ints, Ints]:
        """Pattern of the Jacobian by rows: where each begins, and columns."""
        return interleaved_pattern(self.pattern.indptr, self.pattern.indices)

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

    def net_of_several(
        self, arrays: NetArrays, load_p: Floats, load_q: Floats, machine_p: Floats, machine_q: Floats
    ) -> Floats:
        """What nodes inject in many states, (k, 8, n) in the order of :class:`Targets`, for powers of loads and machines by
        state, (k, elements) p.u.; all else as in ``arrays``."""
        n = self.n
        load, machine, curve = (arrays.tables[t] for t in ("load", "injection", "curve"))
        net = np.zeros((len(load_p), 8, n))
        gather_several(
            self.pattern.row, load["bus"], load_p, load_q, load["share_i"], load["share_z"], machine["bus"], machine_p, machine_q,
            machine["control"], machine["voltage"], machine["angle"], machine["q_min"], machine["q_max"], curve["bus"],
            curve["a"], curve["b"], net, np.zeros(n, np.int64), np.zeros((4, n)), np.zeros(n, np.bool_),
        )  # fmt: skip
        return net

    # Starts

    def flat_start(self, y: Nodal, targets: Targets) -> State:
        """Set-point voltages or 1 p.u., and what gross ratios make of it; angles as at no load, vector groups included."""
        if y.flat is None or not same_references(targets.node_type, targets.angle, *y.flat[:2]):
            reference = np.flatnonzero(targets.node_type == REF)
            angles = targets.angle[reference]
            theta, size = np.zeros(self.n), np.ones(self.n)
            theta[reference] = angles
            spread(self.pattern.indptr, self.pattern.indices, y.lead, y.lift, targets.node_type, theta, size)
            y.flat = reference, angles, theta, size
        state = State(y.flat[2].copy(), y.flat[3].copy())
        hold(targets.node_type, targets.voltage, state.v)
        return state

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
            self._linear_lu = SparseLU(self.pattern.indptr, self.pattern.indices, in_order=True)
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
            with SparseLU(self.pattern.indptr, self.pattern.indices, complex_=True, in_order=True) as lu:
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
        rounding = 4 * ROUNDING * float(np.max(np.abs(g[pattern.diagonal]) + stiffness, initial=0.0))
        usual = float(np.median(stiffness)) if self.n else 1.0
        return Nodal(ports, g, b, (g[rows], b[rows]), lead, lift, stiffness, usual, rounding)
