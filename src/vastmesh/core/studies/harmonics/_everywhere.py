"""The impedance of every bus against frequency at once: where the network resonates, and how much more than its short-circuit
level would let one expect.

Amplification at order h is |Z(h)| over h |Z| with sources and machines alone: 1 without capacitance, demand and banks.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from ...electrical.arrays import Floats
from ...flow import Ending
from ...results import Account, Axis, Bound, Column, Figure, Finding, Quantity, Result, Series, Table
from ...severity import Severity
from ..base import Answer, Inputs, Missing, Progress, Split
from ._grid import Grid, sequence_of
from ._limits import named
from ._options import EverywhereOptions
from ._scan import assumptions, grid_of
from ._sources import orders_injected

_TOGETHER = 100  # frequencies of one part
_NEAR_ORDER = 0.25
_TOLD = 2.0  # amplification from which a resonance beside an injected order is a finding
_MOST_ORDERS = 25


def _frequencies(options: EverywhereOptions) -> Floats:
    return np.arange(options.from_hz, options.to_hz + options.step_hz / 2, options.step_hz)


def _orders(inputs: Inputs) -> list[float]:
    """Injected orders, each of which has a column."""
    return [h for h in orders_injected(inputs.network) if sequence_of(h)][:_MOST_ORDERS]


def _plan(inputs: Inputs, options: EverywhereOptions) -> list[dict[str, int]]:
    n = len(_frequencies(options))
    return [{"first": k, "last": min(k + _TOGETHER, n)} for k in range(0, n, _TOGETHER)] + [{"first": -1, "last": -1}]


def _prepare(inputs: Inputs, options: EverywhereOptions) -> tuple[Grid | None, Floats, list[float]]:
    grid = grid_of(inputs, options)
    return grid, np.abs(grid.bare()) if grid is not None else np.zeros(0), _orders(inputs)


def _answer(ready: tuple[Grid | None, Floats, list[float]], part: Mapping[str, int], progress: Progress) -> Answer:
    """Of a stretch of frequencies the largest amplification of every row, where it is, and the largest of all at each frequency;
    of the last part the impedances at the injected orders."""
    grid, bare, orders = ready
    if grid is None:
        return {}
    options = grid.options
    assert isinstance(options, EverywhereOptions)
    grid.begin()
    if part["first"] < 0:
        found = np.empty((len(orders), grid.pattern.n))
        for n, h in enumerate(orders):
            progress(n / len(orders), f"order {h:g}")
            grid.factorise(h, sequence_of(h))
            found[n] = np.abs(grid.everywhere())
        return {"z": found}
    hz = _frequencies(options)[part["first"] : part["last"]]
    most, where = np.zeros(grid.pattern.n), np.zeros(grid.pattern.n)
    along = np.zeros(len(hz))
    for n, f in enumerate(hz.tolist()):
        if n % 10 == 0:
            progress(n / len(hz), f"{f:.0f} Hz")
        h = f / grid.frequency_hz
        grid.factorise(h)
        times = np.abs(grid.everywhere()) / (h * bare)
        along[n] = times.max()
        where[times > most] = f
        most = np.maximum(most, times)
    return {"most": most, "where": where, "along": along}


def _join(
    inputs: Inputs, options: EverywhereOptions, parts: Sequence[Mapping[str, int]], answers: Sequence[Answer | Missing]
) -> Result:
    grid, bare, orders = _prepare(inputs, options)
    if grid is None:
        text = "The load flow has no solution here, so the network is not known at other frequencies. See its account first."
        return Result(Account(Ending.ITERATION_LIMIT, "Resonances everywhere", 0, explanation=text), {}, {})
    hz = _frequencies(options)
    most, where, along = np.zeros(grid.pattern.n), np.zeros(grid.pattern.n), np.full(len(hz), np.nan)
    z = np.full((len(orders), grid.pattern.n), np.nan)
    for part, a in zip(parts, answers, strict=True):
        if isinstance(a, Missing):
            continue
        if part["first"] < 0:
            z = np.asarray(a["z"])
            continue
        where = np.where(a["most"] > most, a["where"], where)
        most = np.maximum(most, a["most"])
        along[part["first"] : part["last"]] = a["along"]
    return _published(inputs, options, grid, bare, hz, (most, where, along, z), orders)


def _published(
    inputs: Inputs, options: EverywhereOptions, grid: Grid, bare: Floats, hz: Floats,
    found: tuple[Floats, Floats, Floats, Floats], orders: list[float],
) -> Result:  # fmt: skip
    network, base = inputs.network, grid.frequency_hz
    most, where, along, z = found
    kv = grid.arrays.bus_kv
    live = [n for n, row in enumerate(grid.pattern.row.tolist()) if row >= 0]
    rows = grid.pattern.row[live]
    ohm = kv[live] ** 2 / grid.arrays.base_mva
    ids = [grid.arrays.bus_id[n] for n in live]
    order, times = where[rows] / base, most[rows]
    buses = Table("buses", "Buses", [
        Column("id", "Id", ids, fixed=True), Column("name", "Name", [network[i].name for i in ids], fixed=True),
        Column("nominal_kv", "Nominal", kv[live], "kV", 2, fixed=True),
        Column("amplification", "Amplification", times, None, 2,
               "Largest impedance over that of the short-circuit level, each at its order"),
        Column("at_order", "At order", order, None, 2, "Where it is largest"),
        Column("at_hz", "Frequency", where[rows], "Hz", 0),
        Column("ohm", "Impedance there", times * order * bare[rows] * ohm, "Ω", 3),
        *(Column(f"order_{named(h)}_ohm", f"Order {h:g}", z[n][rows] * ohm, "Ω", 3, "Impedance at an order that is injected")
          for n, h in enumerate(orders)),
    ])  # fmt: skip
    worst = int(times.argmax())
    injected = [Bound(f"{h:g}", h * base, "x") for h in orders if options.from_hz <= h * base <= options.to_hz]
    figure = Figure("along", "Largest of all buses", Axis("Frequency", "Hz", 0, "order", base), Axis("Amplification", None, 1),
                    [Series("amplification", "largest of all buses", hz, along)], injected)  # fmt: skip
    name = network[ids[worst]].name
    statement = (
        f"{name} sees most: {times[worst]:.2f} times the impedance of its short-circuit level at {where[rows][worst]:.0f} Hz "
        f"(order {order[worst]:.2f})."
    )
    steps = f"In steps of {options.step_hz:g} Hz; the scan of a bus seeks the peaks between them."
    account = Account(Ending.CONVERGED, "Resonances everywhere", len(hz), assumed=[*assumptions(options), steps])
    summary: dict[str, float | None] = {"amplification": float(times[worst]), "order": float(order[worst])}
    quantities = [
        Quantity("amplification", "Amplification", "buses", None, 2, "Impedance over that of the short-circuit level", "growing"),
        Quantity("at_order", "Order of resonance", "buses", None, 1, "Where the amplification is largest", "growing"),
        *(Quantity(f"order_{named(h)}_ohm", f"Impedance at order {h:g}", "buses", "Ω", 2, "", "growing") for h in orders),
    ]  # fmt: skip
    findings = _beside_injected(ids, order, times, orders)
    return Result(account, {"buses": buses}, summary, findings, statement, figures=[figure], quantities=quantities)


def _beside_injected(ids: list[str], order: Floats, times: Floats, orders: list[float]) -> list[Finding]:
    """Of every injected order the bus with the largest amplification that resonates beside it."""
    made = []
    for h in orders:
        near = np.flatnonzero((np.abs(order - h) < _NEAR_ORDER) & (times > _TOLD))
        if len(near):
            n = int(near[times[near].argmax()])
            text = (f"resonates at order {order[n]:.2f}, next to order {h:g}, which is injected here: {times[n]:.1f} times the "
                    f"impedance of its short-circuit level; {len(near)} bus{'' if len(near) == 1 else 'es'} with it")  # fmt: skip
            made.append(Finding(ids[n], "amplification", "at_order", float(order[n]), None, h, "Injected order", Severity.WATCH,
                                "near", float(times[n]), text))  # fmt: skip
    return sorted(made, key=lambda f: -f.excess)


SPLIT = Split(_plan, _prepare, _answer, _join)

__all__ = ["SPLIT"]
