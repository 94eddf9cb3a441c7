"""Impedance scan: the impedance seen from a bus against frequency, its peaks and dips, and which capacitance swings."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from ...electrical.arrays import Complexes, Floats
from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...network import Network
from ...results import Account, Axis, Bound, Column, Figure, Finding, Result, Series, Table
from ...results.state import LiveLoadFlow
from ...severity import Severity
from ..base import Answer, Inputs, Missing, Progress, Split
from ._grid import Grid, sequence_of
from ._options import ScanOptions
from ._sources import distorting, spectrum

_TOGETHER = 200  # frequencies of one part
_TOLD_PCT = 5.0  # share from which a capacitance is named
_NEAR_ORDER = 0.25


def plan(inputs: Inputs, options: ScanOptions) -> list[dict[str, int]]:
    """Stretches of frequencies. Raises :class:`InvalidFields` for a bus that is not there."""
    for ident in (options.bus, options.other):
        if ident is not None and ident not in inputs.network:
            raise InvalidFields([FieldProblem("options", "bus", ident, "name a bus of this network")])
    n = len(_frequencies(options))
    return [{"first": first, "last": min(first + _TOGETHER, n)} for first in range(0, n, _TOGETHER)]


def prepare(inputs: Inputs, options: ScanOptions) -> Grid | None:
    """None where the load flow has no solution. Raises :class:`InvalidFields` for a bus without supply."""
    grid = grid_of(inputs, options)
    if grid is not None:
        for ident in (options.bus, options.other):
            if ident is not None and grid.row(ident) < 0:
                raise InvalidFields([FieldProblem("options", "bus", ident, "choose a bus that has a supply")])
    return grid


def grid_of(inputs: Inputs, options: Any) -> Grid | None:
    """The network as the load flow leaves it, at other frequencies; what has a spectrum injects and is no impedance."""
    found = LiveLoadFlow(inputs.network).linearise(inputs.under)
    if found is None:
        return None
    alone = frozenset(e.id for e in distorting(found_network(inputs)))
    return Grid(found_network(inputs), found.reading, options, alone)


def found_network(inputs: Inputs) -> Network:
    return inputs.network.under(inputs.under)


def answer(grid: Grid | None, part: Mapping[str, int], progress: Progress) -> Answer:
    if grid is None:
        return {"z": np.zeros(0, np.complex128)}
    grid.begin()
    given = grid.options
    assert isinstance(given, ScanOptions)
    hz = _frequencies(given)[part["first"] : part["last"]]
    found = np.empty(len(hz), np.complex128)
    for n, f in enumerate(hz):
        if n % 20 == 0:
            progress(n / len(hz), f"{f:.0f} Hz")
        found[n] = impedance(grid, float(f), given)
    return {"z": found}


def impedance(grid: Grid, hz: float, options: ScanOptions) -> complex:
    """Ohms seen from the bus, or from one bus to another: voltage here for the current at the bus."""
    grid.factorise(hz / grid.frequency_hz, 1 if options.sequence == "positive" else -1)
    v = grid.unit(grid.row(options.bus))
    return complex(v[grid.row(options.other or options.bus)]) * _ohm(grid, options)


def _ohm(grid: Grid, options: ScanOptions) -> float:
    kv = grid.arrays.bus_kv
    at = grid.arrays.bus_id
    here, there = (float(kv[at.index(b)]) for b in (options.bus, options.other or options.bus))
    return here * there / grid.arrays.base_mva


def join(
    inputs: Inputs, options: ScanOptions, parts: Sequence[Mapping[str, int]], answers: Sequence[Answer | Missing]
) -> Result:
    hz = _frequencies(options)
    z = np.full(len(hz), np.nan + 0j)
    for part, found in zip(parts, answers, strict=True):
        if not isinstance(found, Missing) and len(found["z"]):
            z[part["first"] : part["last"]] = found["z"]
    grid = prepare(inputs, options)
    if grid is None or np.all(np.isnan(z)):
        text = "The load flow has no solution here, so the network is not known at other frequencies. See its account first."
        return Result(Account(Ending.ITERATION_LIMIT, "Impedance scan", 0, explanation=text), {}, {})
    places = _extremes(grid, options, hz, z)
    result = _published(inputs.network, grid, options, hz, z, places)
    grid.close()
    return result


SPLIT = Split(plan, prepare, answer, join)


def _frequencies(options: ScanOptions) -> Floats:
    return np.arange(options.from_hz, options.to_hz + options.step_hz / 2, options.step_hz)


def _extremes(grid: Grid, options: ScanOptions, hz: Floats, z: Complexes) -> list[dict[str, Any]]:
    """Peaks and dips of the magnitude, each sought between its neighbours by golden section."""
    size = np.abs(z)
    inner = np.arange(1, len(hz) - 1)
    with np.errstate(invalid="ignore"):
        peaks = inner[(size[1:-1] > size[:-2]) & (size[1:-1] >= size[2:])]
        dips = inner[(size[1:-1] < size[:-2]) & (size[1:-1] <= size[2:])]
    found = []
    for kind, at in sorted([("peak", int(n)) for n in peaks] + [("dip", int(n)) for n in dips], key=lambda k: k[1]):
        sign = 1.0 if kind == "peak" else -1.0
        f = _golden(lambda x, s=sign: s * abs(impedance(grid, x, options)), float(hz[at - 1]), float(hz[at + 1]))
        here = impedance(grid, f, options)
        swings = grid.capacitances(f / grid.frequency_hz, grid.unit(grid.row(options.bus)))
        total = sum(swings.values()) or 1.0
        near = 1e-4 * f
        turn = np.angle(impedance(grid, f + near, options) / impedance(grid, f - near, options))
        found.append({
            "kind": kind, "hz": f, "ohm": abs(here), "quality": float(abs(turn) / (2 * near) * f / 2),
            "takes_part": sorted(((100 * q / total, i) for i, q in swings.items()), reverse=True),
        })  # fmt: skip
    return found


def _golden(size: Any, low: float, high: float) -> float:
    """Where a function with one peak in between is largest, to 1e-7 of it."""
    ratio = (5**0.5 - 1) / 2
    a, b = high - ratio * (high - low), low + ratio * (high - low)
    at_a, at_b = size(a), size(b)
    while high - low > 1e-7 * high:
        if at_a > at_b:
            high, b, at_b = b, a, at_a
            a = high - ratio * (high - low)
            at_a = size(a)
        else:
            low, a, at_a = a, b, at_b
            b = low + ratio * (high - low)
            at_b = size(b)
    return (low + high) / 2


def _published(
    network: Network, grid: Grid, options: ScanOptions, hz: Floats, z: Complexes, places: list[dict[str, Any]]
) -> Result:
    base, name = grid.frequency_hz, network[options.bus].name
    injected = sorted({h for e in distorting(network) for h in spectrum(network, e.spectrum or "") if sequence_of(h)})
    scan = Table("scan", "By frequency", [
        Column("id", "Id", [options.bus] * len(hz), fixed=True), Column("hz", "Frequency", hz, "Hz", 1, fixed=True),
        Column("order", "Order", hz / base, None, 2, fixed=True), Column("ohm", "Impedance", np.abs(z), "Ω", 3),
        Column("angle_deg", "Angle", np.degrees(np.angle(z)), "°", 1), Column("r_ohm", "R", z.real, "Ω", 3),
        Column("x_ohm", "X", z.imag, "Ω", 3),
    ])  # fmt: skip
    part = [", ".join(f"{network[i].name} {p:.0f} %" for p, i in q["takes_part"][:3] if p >= _TOLD_PCT) for q in places]
    first = [q["takes_part"][0] if q["takes_part"] else (0.0, options.bus) for q in places]
    resonances = Table("resonances", "Resonances", [
        Column("id", "Id", [i for _, i in first], fixed=True),
        Column("kind", "Kind", [q["kind"] for q in places]),
        Column("hz", "Frequency", np.array([q["hz"] for q in places]), "Hz", 1),
        Column("order", "Order", np.array([q["hz"] / base for q in places]), None, 2),
        Column("ohm", "Impedance", np.array([q["ohm"] for q in places]), "Ω", 3),
        Column("quality", "Quality", np.array([q["quality"] for q in places]), None, 1,
               "Half the frequency times the slope of the angle over it: how sharp it is"),
        Column("takes_part", "Capacitance that swings", part, meaning="Share of the reactive power in all capacitances there: a "
               "capacitance that grows by 1 % lowers the frequency by half its share of 1 %"),
    ])  # fmt: skip
    findings = []
    for q, words, (_, capacitor) in zip(places, part, first, strict=True):
        order = q["hz"] / base
        near = [h for h in injected if abs(h - order) < _NEAR_ORDER]
        if q["kind"] == "peak" and near:
            text = (f"parallel resonance at {q['hz']:.0f} Hz, {q['ohm']:.3g} Ω, next to order {near[0]}, which is injected here; "
                    f"{words or 'no capacitance of note'}")  # fmt: skip
            findings.append(Finding(capacitor, "resonance", "order", order, None, float(near[0]), "Injected order",
                                    Severity.WATCH, "near", 1 - abs(order - near[0]), text))  # fmt: skip
    bounds = [Bound(str(h), h * base, "x") for h in injected if options.from_hz <= h * base <= options.to_hz]
    to = f" to {network[options.other].name}" if options.other else ""
    frequency = Axis("Frequency", "Hz", 0)
    figures = [
        Figure("scan", "Impedance", frequency, Axis("Impedance", "Ω", 2),
               [Series("ohm", f"{name}{to}", hz, np.abs(z))], bounds),
        Figure("angle", "Angle", frequency, Axis("Angle", "°", 0),
               [Series("angle_deg", f"{name}{to}", hz, np.degrees(np.angle(z)))], bounds),
        Figure("plane", "R and X", Axis("R", "Ω", 2), Axis("X", "Ω", 2), [Series("plane", f"{name}{to}", z.real, z.imag)]),
    ]  # fmt: skip
    peaks = [q for q in places if q["kind"] == "peak"]
    most = max(peaks, key=lambda q: q["ohm"], default=None)
    statement = (
        f"{name}{to}: {len(peaks)} parallel resonance{'' if len(peaks) == 1 else 's'}; the highest at {most['hz']:.0f} Hz "
        f"(order {most['hz'] / base:.2f}), {most['ohm']:.3g} Ω." if most else f"{name}{to}: no parallel resonance in this range."
    )  # fmt: skip
    account = Account(Ending.CONVERGED, "Impedance scan", len(hz), assumed=assumptions(options))
    summary: dict[str, float | None] = {"peaks": float(len(peaks)), "highest_hz": most["hz"] if most else None,
                                        "highest_ohm": most["ohm"] if most else None}  # fmt: skip
    return Result(account, {"resonances": resonances, "scan": scan}, summary, findings, statement, figures=figures)


def assumptions(options: Any) -> list[str]:
    """What is taken for granted, as the options say."""
    demand = {
        "parallel": "Demand: R and X side by side, from its power in the load flow.",
        "series": "Demand: R and X in series, from its power in the load flow.",
        "motor_share": "Demand: the CIGRE form, R with 0.073 h R in series, beside the reactance of its motors.",
        "none": "Demand is left out.",
    }[options.demand]
    return [
        demand, f"Sources at their {options.fault_level} fault level; machines by their sub-transient reactance, motors by "
        "locked rotor. Inverters and what has a spectrum are no impedance.",
        "Lines by the equations of a long line." if options.lines == "long" else "Lines as one nominal pi.",
        "Positive and negative sequence of a balanced network; zero sequence is not looked at.",
    ]  # fmt: skip
