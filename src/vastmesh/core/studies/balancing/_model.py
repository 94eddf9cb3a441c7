"""A feeder whose units can stand in any of their phases: exact solutions, and the linear model around one.

Every choice of every unit has its own copy in the network that is compiled, and only the copies chosen draw power: one
pattern of equations serves all assignments. Around a solution the model is linear: moving a unit changes the currents at
both places, and voltages and branch currents by one step of Newton's method.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from scipy.sparse import csr_array

from ...electrical.arrays import Bools, Complexes, Floats, Ints
from ...electrical.conductor import SLACK_MACHINE
from ...flow.phases import SEQUENCES, Admittances, Demands, Problem, Reading, UnbalancedOptions
from ...network import Bus, Condition, Electrode, Element, Network, Unit, dump_item, make_item, turned_values
from ...results.state import LiveUnbalanced

Assignment = Ints  # choice of each unit, (n_unit,)
_MARK = "\u241f"
_MOST_ROUNDS, _AT_REST = 60, 1e-12  # repetitions of currents and voltages; largest change of a voltage at the end, p.u.
_NEAR_COLLAPSE = 0.6  # voltage over a demand of constant power, p.u., below which each assignment is solved by itself


@dataclass(frozen=True)
class Measures:
    """What objectives look at, linear in the voltages: complex columns, one for each candidate.

    ``v``, ``i``: voltage (V) and current (A) at the terminals of the branches, (t, k); ``v1``, ``v2``: sequences of the
    buses with three phases, V, (b, k).
    """

    v: Complexes
    i: Complexes
    v1: Complexes
    v2: Complexes


@dataclass(frozen=True)
class Layout:
    """What the rows of measures are: branch and conductor of each terminal, whether it is a from end; length and
    resistance weights of branches; the rows of the head. ``to_branches``: sums from-end rows to (branch, phase)."""

    branch: Ints
    conductor: Ints
    first: Bools
    neutral_of: Ints
    lengths: Floats
    own_ohm: Floats
    head: Ints
    n_branch: int
    bus_rows: Ints
    to_branches: csr_array


@dataclass(frozen=True)
class Grid:
    """The network without demand, per unit: ``unloaded`` voltages over the m demands and ``nodes`` (n,), and what a unit of
    current drawn by each adds to them, ``transfer`` (m, m) and ``response`` (n, m)."""

    unloaded: Complexes
    transfer: Complexes
    nodes: Complexes
    response: Complexes


class Feeder:
    """A network with its units under one condition. ``solve`` is exact; ``linear`` gives the model around a solution."""

    def __init__(
        self, network: Network, condition: Condition, units: Sequence[Unit], buses: set[str], head: str, *,
        options: UnbalancedOptions | None = None,
    ) -> None:  # fmt: skip
        self.units = list(units)
        self._options = options or UnbalancedOptions(tolerance_pu=1e-10, automatic=False)
        seen = network.under(condition)
        spread, self._copies = _spread(_with_taps(seen, network, condition), self.units)
        self._live = LiveUnbalanced(spread)
        self._live.make_ready(condition)
        self.arrays = self._live.arrays
        self.problem: Problem = self._live.problem
        self.problem.admittance(self.arrays.t_y)
        self._full = self._live.demands(condition)
        self._rows()
        self.layout = self._arranged(spread, buses, head)
        self._last: tuple[Complexes, Complexes] | None = None

    def _rows(self) -> None:
        """Which demand rows belong to which unit and choice; -1 for what is always there."""
        a = self.arrays
        owner = {c: (u, k) for u, choices in enumerate(self._copies) for k, ids in enumerate(choices) for c in ids}
        pairs = [owner.get(a.element_id[e], (-1, -1)) for e in a.demand["element"].tolist()]
        self._unit, self._choice = (np.array([p[i] for p in pairs], np.int64) for i in (0, 1))
        machine = [owner.get(a.element_id[e], (-1, -1)) for e in a.machine["element"].tolist()]
        self._machine_unit, self._machine_choice = (np.array([p[i] for p in machine], np.int64) for i in (0, 1))

    def demands(self, chosen: Assignment) -> Demands:
        """Demand with every unit in its chosen phases."""
        full = self._full
        on = (self._unit < 0) | (chosen[np.maximum(self._unit, 0)] == self._choice) if len(chosen) else self._unit < 0
        m = (self._machine_unit < 0) | (
            chosen[np.maximum(self._machine_unit, 0)] == self._machine_choice if len(chosen) else self._machine_unit < 0
        )
        return replace(full, power=full.power * on, current=full.current * on, impedance=full.impedance * on,
                       machine_p=full.machine_p * m, machine_q=full.machine_q * m)  # fmt: skip

    def solve(self, chosen: Assignment) -> Reading | None:
        """The exact load flow of an assignment; None when there is no answer."""
        demands = self.demands(chosen)
        start = "last" if self._last is not None else "linear"
        attempt, _ = self.problem.solve(demands, self._options.model_copy(update={"start": start}), self._last)
        if not attempt.converged:
            return None
        self._last = attempt.v, attempt.i1
        return Reading(self.arrays, self.problem, attempt, demands, Admittances.entered(self.arrays))

    def measures(self, reading: Reading) -> Measures:
        """What objectives look at in an exact solution, one column."""
        return self._measured(reading.attempt.v[:, None])

    def many(self, candidates: Ints) -> Measures | None:
        """Measures of many assignments (k, n_unit) side by side, each by its own load flow; None where this way won't do.

        With sources alone the network is linear in the currents of demand: voltages over the demands are the sources' plus a
        constant matrix times those currents, and repeating that converges fast on any feeder that is not near collapse.
        Every column is carried on until nothing moves by more than a few units of rounding; None if one does not come to rest
        or a voltage is so low that another answer could exist, or a machine sets powers. Source: T.-H. Chen et al.,
        "Distribution system power flow analysis - a rigid approach", IEEE Trans. Power Delivery 6, 1991.
        """
        grid = self._grid
        if grid is None:
            return None
        p, used = self.problem, self.problem.demand_used
        unit, choice = self._unit[used], self._choice[used]
        on = (unit[:, None] < 0) | (candidates.T[np.maximum(unit, 0)] == choice[:, None])
        full = self._full
        power, current, impedance = (np.conj(x[used])[:, None] * on for x in (full.power, full.current, full.impedance))
        low = self._options.low_voltage_pu
        u = np.repeat(grid.unloaded[:, None], on.shape[1], axis=1)
        for _ in range(_MOST_ROUNDS):
            size = np.maximum(np.abs(u), 1e-9)
            z, s = impedance, power
            if low:
                below = size < low
                z, s = z + np.where(below, s / low**2, 0), np.where(below, 0, s)
            drawn = z * u + current * u / size + s * u / size**2
            new = grid.unloaded[:, None] + grid.transfer @ drawn
            moved = float(np.max(np.abs(new - u), initial=0.0))
            u = new
            if not np.isfinite(moved) or moved > 1e3:
                return None
            if moved < _AT_REST:
                break
        else:
            return None
        loaded = on & (np.abs(power) > 0)
        if np.any(np.abs(u[loaded]) < _NEAR_COLLAPSE):
            return None
        v = grid.nodes[:, None] + grid.response @ drawn
        assert len(v) == p.n
        return self._measured(v)

    @cached_property
    def _grid(self) -> Grid | None:
        """The linear network behind :meth:`many`; None where machines set powers or demand holds up a broken conductor."""
        p, a = self.problem, self.arrays
        used = p.demand_used
        if np.any(a.machine["role"][p.leader] != SLACK_MACHINE) or np.any(p.forced[used]):
            return None
        nothing = np.zeros(len(a.demand["s"]), np.complex128)
        empty = replace(self._full, power=nothing, current=nothing, impedance=nothing)
        attempt, _ = p.solve(empty, self._options.model_copy(update={"start": "linear"}), None)
        if not attempt.converged:
            return None
        padded, n = np.append(p.base_v, 0.0), p.n
        rhs = np.zeros((len(used), n + p.m), np.complex128)
        for rows, sign in ((p.p, 1), (p.q, -1)):
            inside = np.flatnonzero(rows >= 0)
            rhs[inside, rows[inside]] += sign * padded[rows[inside]] / p.u_scale[inside]
        real = np.empty((len(rhs), 2 * (n + p.m)))
        real[:, 0::2], real[:, 1::2] = rhs.real, rhs.imag
        x = -p.linear_response(empty, attempt, real)
        response = (x[:, 0 : 2 * n : 2] + 1j * x[:, 1 : 2 * n : 2]).T
        padded_v = np.vstack([response * p.base_v[:, None], np.zeros((1, len(used)))])
        transfer = (padded_v[p.p] - padded_v[p.q]) / p.u_scale[:, None]
        volts = np.append(attempt.v * p.base_v, 0.0)
        over = np.asarray((volts[p.p] - volts[p.q]) / p.u_scale, np.complex128)
        return Grid(over, np.asarray(transfer, np.complex128), attempt.v, np.ascontiguousarray(response, np.complex128))

    def linear(self, reading: Reading, chosen: Assignment) -> tuple[Measures, Measures]:
        """Measures now, and what every choice of every unit adds, all side by side: the present choices add nothing."""
        p, n = self.problem, self.problem.n
        used = p.demand_used
        current, _, _ = p.demand_current(self._full, reading.attempt.v, reading.attempt.low_voltage_pu)
        padded = np.append(p.base_v, 0.0)
        unit, choice = self._unit[used], self._choice[used]
        mine = unit >= 0
        sizes = np.array([len(u.choices) for u in self.units], np.int64)
        offsets = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
        column = offsets[np.maximum(unit, 0)] + np.maximum(choice, 0)
        rhs = np.zeros((int(offsets[-1]), n + p.m), np.complex128)
        for rows, sign in ((p.p, 1), (p.q, -1)):
            inside = mine & (rows >= 0)
            amount = sign * current[inside] * padded[rows[inside]] / p.u_scale[inside]
            np.add.at(rhs, (column[inside], rows[inside]), amount)
        real = np.empty((len(rhs), 2 * (n + p.m)))
        real[:, 0::2], real[:, 1::2] = rhs.real, rhs.imag
        x = -p.linear_response(reading.demands, reading.attempt, real)
        dv = x[:, 0 : 2 * n : 2] + 1j * x[:, 1 : 2 * n : 2]
        whole = self._measured(dv.T)
        now = np.repeat(offsets[:-1] + chosen, sizes)
        added = Measures(*(f - f[:, now] for f in (whole.v, whole.i, whole.v1, whole.v2)))
        return self.measures(reading), added

    def _measured(self, v: Complexes) -> Measures:
        """Measures of columns of node voltages (n, k), per unit."""
        a, p, lay = self.arrays, self.problem, self.layout
        volts = np.zeros((a.n_node + 1, v.shape[1]), np.complex128)
        live = np.flatnonzero(p.live)
        volts[live] = v * p.base_v[:, None]
        node = a.terminal_node()
        at = np.where(node < 0, a.n_node, node)
        everything = volts[at]
        found = self._branch_matrix @ everything
        phases = volts[np.where(a.node[lay.bus_rows, :3] < 0, a.n_node, a.node[lay.bus_rows, :3])]
        sequences = np.einsum("sc,bck->sbk", SEQUENCES, phases)
        return Measures(everything[self._branch_rows], found, sequences[1], sequences[2])

    def _arranged(self, network: Network, buses: set[str], head: str) -> Layout:
        a = self.arrays
        branches = [
            i for i, k in enumerate(a.element_id) if a.element_kind[i] == "line" and self._inside(network, k, buses)
        ]
        if head not in a.element_id:
            raise ValueError(head)
        at_head = a.element_id.index(head)
        number = {e: n for n, e in enumerate(dict.fromkeys([at_head, *branches]))}
        t = a.terminal
        rows = np.flatnonzero(np.isin(t["element"], list(number)) & (t["conductor"] < 4))
        count = len(t["key"])
        whole = csr_array((a.t_y, (a.t_row, a.t_col)), shape=(count, count))
        self._branch_rows, self._branch_matrix = rows, whole[rows]
        branch = np.array([number[e] for e in t["element"][rows].tolist()], np.int64)
        first, conductor = t["side"][rows] == 0, t["conductor"][rows]
        neutral: dict[tuple[int, bool], int] = {}
        for k, (b, f, c) in enumerate(zip(branch.tolist(), first.tolist(), conductor.tolist(), strict=True)):
            if c == 3:
                neutral[b, f] = k
        of = np.array([neutral.get((b, f), -1) for b, f in zip(branch.tolist(), first.tolist(), strict=True)], np.int64)
        items = [network[a.element_id[e]] for e in number]
        lengths = np.array([getattr(e, "length_km", None) or 0.0 for e in items])
        of_terminal = np.zeros(count)
        of_terminal[a.loss["first"]] = a.loss["own_ohm"]
        own = of_terminal[rows]
        lowest = branch == 0
        # Of a transformer at the head the low-voltage side is what the feeder draws.
        side = ~first if a.element_kind[at_head] == "transformer" else first
        heads = np.flatnonzero(lowest & side & (conductor < 3))
        inside = [b.split(_MARK)[0] in buses for b in a.bus_id]
        three = np.flatnonzero(np.array(inside, np.bool_) & np.all(a.node[:, :3] >= 0, axis=1))
        phase = np.flatnonzero(first & (conductor < 3))
        where = branch[phase] * 3 + conductor[phase]
        sums = csr_array((np.ones(len(phase)), (where, phase)), shape=(3 * len(number), len(rows)))
        return Layout(branch, conductor, first, of, lengths, own, heads, len(number), three, sums)

    @staticmethod
    def _inside(network: Network, ident: str, buses: set[str]) -> bool:
        item = network.items.get(ident)
        return isinstance(item, Element) and all(b.split(_MARK)[0] in buses for b in item.buses())


def _with_taps(seen: Network, network: Network, condition: Condition) -> Network:
    """The network with automatic taps where they are now: they stay there while phases are tried."""
    live = LiveUnbalanced(network)
    live.solve(condition)
    positions = live.controls.tap_positions()
    if not positions:
        return seen
    twin = seen.copy()
    for ident, (a, b, c) in positions.items():
        item = twin[ident]
        taps = {"tap_position": round(a)} if a == b == c else {"taps": "per_phase", "tap_a": round(a), "tap_b": round(b),
                                                               "tap_c": round(c)}  # fmt: skip
        twin.items[ident] = item.model_copy(update=taps)
    return twin


def _spread(network: Network, units: list[Unit]) -> tuple[Network, list[list[list[str]]]]:
    """A copy of the network with every unit once for each choice; ids of the copies by unit and choice."""
    twin = network.copy()
    names: list[list[list[str]]] = []
    for unit in units:
        mine: list[list[str]] = []
        whole = [network[i] for i in unit.elements]
        renamed = {i.id for i in whole if isinstance(i, Bus)}
        originals = [dump_item(i) for i in whole]
        for item in whole:
            del twin.items[item.id]
        for k in range(len(unit.choices)):
            suffix = f"{_MARK}{k}"
            made = []
            for item, data in zip(whole, originals, strict=True):
                assert isinstance(item, Element)
                if isinstance(item, Electrode) and k:
                    continue  # a copy that draws nothing must not lead current into earth
                new = {**data, **turned_values(item, unit.turn(k)), "id": data["id"] + suffix}
                for terminal in type(item).terminals():
                    if new[terminal] in renamed:
                        new[terminal] += suffix
                made.append({f: v for f, v in new.items() if v is not None})
            twin.items.update({d["id"]: make_item(d) for d in made})
            mine.append([d["id"] for d in made])
        names.append(mine)
    return twin, names


__all__ = ["Assignment", "Feeder", "Layout", "Measures"]
