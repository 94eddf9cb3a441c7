"""Reactive power by voltage at a bus: what it would take to hold it, and how far the least of that is."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ...electrical import compile_network
from ...electrical.arrays import SLACK, Floats, with_rows
from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...flow.balanced import LoadFlowOptions, Problem, State, Without
from ...network import Bus
from ...results import Account, Axis, Bound, Column, Figure, Finding, Result, Series, Table
from ...results.state import live_options
from ...severity import Severity
from ..base import Inputs, Progress
from ..losses import Asked, Loss, losses
from ._options import ReactiveOptions

_DRAWN, _POINTS, _EXACT = 8, 36, 40
_GOLDEN = (np.sqrt(5) - 1) / 2


class Held:
    """A state in which one bus is held at any voltage by a machine without limits; others keep theirs."""

    def __init__(self, without: Without, loss: Loss | None, options: LoadFlowOptions, bus: str) -> None:
        arrays, _ = without.left(loss.members if loss else ())
        self.row = arrays.bus_id.index(bus) if bus in arrays.bus_id else -1
        self.options = options.model_copy(update={"low_voltage_pu": 0.0, "start": "last", "method": "automatic"})
        self.base_mva = arrays.base_mva
        start = Problem(arrays)
        self.live = self.row >= 0 and start.pattern.row[self.row] >= 0
        if not self.live:
            return
        solution = start.solve(arrays, self.options, without.carried(start))
        self.solved = solution.attempt.ending is Ending.CONVERGED
        self.normal_pu = float(solution.attempt.state.v[start.pattern.row[self.row]]) if self.solved else np.nan
        machine = arrays.tables["injection"]
        self.held = bool(np.any((machine["bus"] == self.row) & (machine["control"] != 0)))
        # One that holds the bus already gives its place to the one without limits: what both give together is told.
        own = (machine["bus"] == self.row) & (machine["control"] == 1)
        table = with_rows(machine, bus=[self.row], control=1, weight=1.0, q_min=-1e6, q_max=1e6)
        table["control"] = np.where(np.append(own, False), 0, table["control"])
        table["q"] = np.where(np.append(own, False), 0.0, table["q"])
        self._arrays = replace(arrays, tables={**arrays.tables, "injection": table})
        self._problem = Problem(self._arrays)
        self._last: State | None = solution.attempt.state if self.solved else without.carried(self._problem)

    def q(self, volts: float) -> float:
        """Reactive power, Mvar, that holds the bus at a voltage; NaN where nothing does."""
        table = dict(self._arrays.tables["injection"])
        table["voltage"] = table["voltage"].copy()
        table["voltage"][-1] = volts
        arrays = replace(self._arrays, tables={**self._arrays.tables, "injection": table})
        solution = self._problem.solve(arrays, self.options, self._last)
        attempt = solution.attempt
        if attempt.ending is not Ending.CONVERGED:
            return np.nan
        self._last = attempt.state.copy()
        k = int(self._problem.pattern.row[self.row])
        t, v = attempt.targets, attempt.state.v[k]
        return float((attempt.q[k] - (t.q0[k] + t.q1[k] * v + t.q2[k] * v * v)) * self.base_mva)

    def lowest(self, volts: Floats, q: Floats) -> tuple[float, float]:
        """Voltage and reactive power at the least of the curve."""
        known = np.flatnonzero(np.isfinite(q))
        if not len(known):
            return np.nan, np.nan
        k = int(known[np.argmin(q[known])])
        near = [i for i in (k - 1, k, k + 1) if 0 <= i < len(q) and np.isfinite(q[i])]
        a, b = float(min(volts[near])), float(max(volts[near]))
        best = float(volts[k]), float(q[k])
        x, y = b - _GOLDEN * (b - a), a + _GOLDEN * (b - a)
        fx, fy = self.q(x), self.q(y)
        for _ in range(_EXACT):
            if b - a < 1e-7 or not (np.isfinite(fx) and np.isfinite(fy)):
                break
            if fx < fy:
                b, y, fy = y, x, fx
                x = b - _GOLDEN * (b - a)
                fx = self.q(x)
            else:
                a, x, fx = x, y, fy
                y = a + _GOLDEN * (b - a)
                fy = self.q(y)
        for v, f in ((x, fx), (y, fy)):
            if np.isfinite(f) and f < best[1]:
                best = v, f
        return best


def run_reactive(inputs: Inputs, options: ReactiveOptions, progress: Progress) -> Result:
    """Raises :class:`InvalidFields` where voltages are the wrong way round or no bus fits."""
    if options.low_pu >= options.high_pu:
        text = "must be below the highest voltage"
        raise InvalidFields([FieldProblem("options", "low_pu", options.low_pu, text)])
    condition = inputs.under
    network = inputs.network.under(condition)
    live = live_options(inputs.network.settings)
    without = Without(compile_network(network), condition, live, controls=False)
    if not without.solved or without.base is None:
        text = "The load flow has no solution as things stand: see why behind the solution badge, and mend that first."
        return Result(
            Account(without.solution.attempt.ending, "Reactive margin", 0, explanation=text), {}, {}, [], text
        )
    row = {b: k for k, b in enumerate(without.arrays.bus_id)}
    chosen = [
        b
        for b in network.of(Bus)
        if (b.id == options.bus if options.bus else (b.nominal_kv or 0) >= options.from_kv)
        and b.id in row
        and np.isfinite(without.base.v[row[b.id]].real)
    ]
    if not chosen:
        raise InvalidFields(
            [FieldProblem("options", "bus", options.bus, "no live bus fits; take another, or a lower voltage")]
        )
    machine = without.arrays.tables["injection"]
    node = without.problem.pattern.row
    fixed = set(node[machine["bus"][machine["control"] == SLACK]].tolist())
    chosen = [b for b in chosen if int(node[row[b.id]]) not in fixed]
    if not chosen:
        text = "a source holds this bus, so that nothing is short there; take another"
        raise InvalidFields([FieldProblem("options", "bus", options.bus, text)])
    states: list[Loss | None] = [None]
    if options.outages == "model":
        states += losses(inputs.network, condition, Asked())
    grid = np.linspace(options.high_pu, options.low_pu, _POINTS)
    rows, curves = [], []
    total = len(chosen) * len(states)
    for n, (bus, loss) in enumerate((b, s) for b in chosen for s in states):
        progress(n / total, f"{bus.name}{f' after the loss of {loss.name}' if loss else ''}")
        held = Held(without, loss, live, bus.id)
        if not held.live:
            continue
        q = np.array([held.q(float(v)) for v in grid])
        at, least = held.lowest(grid, q)
        open_end = bool(np.isfinite(least)) and at <= options.low_pu + 1e-6
        rows.append((bus, loss, held.normal_pu, -least, at, open_end, held.held))
        curves.append((bus, loss, q))
    order = sorted(range(len(rows)), key=lambda k: np.nan_to_num(rows[k][3], nan=-1e9))
    table = Table(
        "margins",
        "Margins",
        [
            Column("id", "Id", [rows[k][0].id for k in order], fixed=True),
            Column("name", "Bus", [rows[k][0].name for k in order], fixed=True),
            Column("when", "When", [_when(rows[k][1]) for k in order], fixed=True),
            Column("voltage_pu", "Voltage now", np.array([rows[k][2] for k in order]), "p.u.", 4),
            Column(
                "margin_mvar",
                "Reactive margin",
                np.array([rows[k][3] for k in order]),
                "Mvar",
                2,
                "Reactive demand that could be added here before there is no solution any more; negative: that much is lacking",
            ),
            Column(
                "at_pu", "Its voltage", np.array([rows[k][4] for k in order]), "p.u.", 4, "Where the curve is lowest"
            ),
            Column(
                "further",
                "Lower still",
                ["yes" if rows[k][5] else "" for k in order],
                None,
                None,
                "The curve still falls at the lowest voltage looked at, so that the margin is larger than told",
            ),
        ],
    )
    drawn = order[:_DRAWN]
    series = [
        Series(
            f"q{n}",
            f"{curves[k][0].name}{f', {_when(curves[k][1])}' if curves[k][1] else ''}",
            grid.tolist(),
            curves[k][2],
            "line",
            [curves[k][0].id] * len(grid),
        )
        for n, k in enumerate(drawn)
    ]
    figure = Figure(
        "qv",
        "Reactive power by voltage",
        Axis("Voltage held", "p.u.", 3),
        Axis("Reactive power it takes", "Mvar", 1),
        series,
        [Bound("nothing added", 0.0)],
    )
    findings = [
        Finding(
            rows[k][0].id,
            "bus",
            "margin_mvar",
            rows[k][3],
            "Mvar",
            0.0,
            "reactive margin",
            Severity.BREACH,
            "below",
            1.0,
            f"{_when(rows[k][1])}: {-rows[k][3]:.3g} Mvar are lacking",
        )
        for k in order
        if rows[k][3] < 0
    ]
    if order:
        worst = rows[order[0]]
        statement = (
            f"The least reactive margin is {worst[3]:.4g} Mvar at {worst[0].name}, {_when(worst[1])}, at "
            f"{worst[4]:.3f} p.u."
        )
    else:
        statement = "No bus that fits is live."
    summary = {"margin_mvar": float(rows[order[0]][3]) if order else None, "buses": float(len(chosen))}
    assumed = [
        "The bus is held by a machine without limits; other machines keep theirs, and taps and capacitors stay where they are.",
        "A machine that holds this bus already gives its place to it: what both give together is told.",
    ]
    account = Account(Ending.CONVERGED, "Reactive power by voltage", len(rows) * _POINTS, assumed=assumed)
    return Result(account, {"margins": table}, summary, findings, statement, [], [figure])


def _when(loss: Loss | None) -> str:
    return "as it stands" if loss is None else f"after the loss of {loss.name}"
