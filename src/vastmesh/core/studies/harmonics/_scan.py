"""Impedance scan: the impedance seen from a bus against frequency, its peaks and dips, and which capacitance swings."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import product
from math import prod
from typing import Any

import numpy as np

from ...electrical.arrays import Complexes, Floats
from ...electrical.conductor import NEUTRAL, ConductorArrays, compile_conductors
from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...network import Filter, Network, Shunt, Update
from ...results import Account, Axis, Bound, Column, Figure, Finding, Result, Series, Table
from ...results.state import LiveLoadFlow
from ...severity import Severity
from ..base import Answer, Case, Inputs, Missing, Progress, Split, cases
from ._grid import Grid, sequence_of
from ._options import ScanOptions
from ._phase_grid import Legs, PhaseGrid, as_controlled
from ._sources import no_impedance, orders_injected

_TOGETHER = 200  # frequencies of one part
_MOST_MARKED = 8
_TOLD_PCT = 5.0  # share from which a capacitance is named
_NEAR_ORDER = 0.25
MOST_STATES = 64
_TOGETHER_BY_CONDUCTOR = 10


def states(inputs: Inputs, options: ScanOptions) -> list[Case]:
    """The condition in use, every condition, every scheme, or every number of steps of a bank or of all. Raises
    :class:`InvalidFields` for a bank that is not there, or more than :data:`MOST_STATES`."""
    if options.over == "steps":
        bank = inputs.network.items.get(options.bank or "")
        if not isinstance(bank, Shunt | Filter):
            raise InvalidFields(
                [FieldProblem("options", "bank", options.bank, "name a bank or filter of this network")]
            )
        found = [
            Case(f"{k} step{'' if k == 1 else 's'} on", with_steps(inputs, [(bank, k)])) for k in range(bank.steps + 1)
        ]
    elif options.over == "banks":
        banks = [
            e for e in inputs.network.elements() if isinstance(e, Shunt | Filter) and e.in_service and not e.missing()
        ]
        many = prod(e.steps + 1 for e in banks)
        if many <= MOST_STATES:
            every = product(*(range(e.steps + 1) for e in banks))
            found = [Case(", ".join(f"{e.name} {k}" for e, k in zip(banks, on, strict=True)) or "no bank",
                           with_steps(inputs, list(zip(banks, on, strict=True)))) for on in every]  # fmt: skip
        else:
            text = f"{many} states of {len(banks)} banks are too many; at most {MOST_STATES}. Go through the steps of one of them"
            raise InvalidFields([FieldProblem("options", "over", options.over, text)])
    else:
        found = cases(inputs, options.over)
    if len(found) > MOST_STATES:
        text = f"{len(found)} states are too many to lay over each other; at most {MOST_STATES}"
        raise InvalidFields([FieldProblem("options", "over", options.over, text)])
    return found


def with_steps(inputs: Inputs, on: Sequence[tuple[Shunt | Filter, int]]) -> Inputs:
    """With so many steps of banks on, by hand."""
    network = inputs.network.copy()
    network.apply([Update(id=e.id, values={"steps_on": k, **({"automatic": False} if isinstance(e, Shunt) else {})})
                   for e, k in on])  # fmt: skip
    # What a condition sets of them would come on top of it.
    condition, mine = inputs.under, {e.id for e, _ in on}
    values = {
        i: {f: v for f, v in own.items() if f != "steps_on" or i not in mine} for i, own in condition.values.items()
    }
    return replace(inputs, network=network, condition=condition.model_copy(update={"values": values}))


def plan(inputs: Inputs, options: ScanOptions) -> list[dict[str, int]]:
    """Stretches of frequencies of every state. Raises :class:`InvalidFields` for a bus or bank that is not there."""
    for ident in (options.bus, options.other):
        if ident is not None and ident not in inputs.network:
            raise InvalidFields([FieldProblem("options", "bus", ident, "name a bus of this network")])
    n, step = len(_frequencies(options)), _TOGETHER_BY_CONDUCTOR if by_conductor(options) else _TOGETHER
    return [
        {"state": k, "first": first, "last": min(first + step, n)}
        for k in range(len(states(inputs, options))) for first in range(0, n, step)
    ]  # fmt: skip


def by_conductor(options: ScanOptions) -> bool:
    return options.sequence not in ("positive", "negative")


def prepare(inputs: Inputs, options: ScanOptions) -> list[Look | None]:
    """The network in every state; None where the load flow has no solution. Raises :class:`InvalidFields` for a bus without
    supply."""
    return [_looked_into(s.inputs, options) for s in states(inputs, options)]


@dataclass
class Look:
    """A network that is looked into from a bus: by sequence, or per conductor with the places to drive and to measure at."""

    grid: Grid
    phases: PhaseGrid | None = None
    drive: Complexes | None = None
    measure: Complexes | None = None

    def impedance(self, hz: float, options: ScanOptions) -> complex:
        """Ohms seen from the bus, or from one bus to another: voltage here for the current at the bus."""
        if self.phases is None:
            return impedance(self.grid, hz, options)
        assert self.drive is not None
        assert self.measure is not None
        self.phases.factorise(hz / self.grid.frequency_hz, keep=False)
        return complex(self.phases.solve(self.drive[None])[0, :-1] @ self.measure)

    def swings(self, hz: float, options: ScanOptions) -> dict[str, float]:
        """Who takes part, by the reactive power in each capacitance; per conductor of banks and filters alone."""
        if self.phases is None:
            self.grid.factorise(hz / self.grid.frequency_hz, 1 if options.sequence == "positive" else -1)
            return self.grid.capacitances(hz / self.grid.frequency_hz, self.grid.unit(self.grid.row(options.bus)))
        assert self.drive is not None
        self.phases.factorise(hz / self.grid.frequency_hz, keep=False)
        return self.phases.capacitances(hz / self.grid.frequency_hz, self.phases.solve(self.drive[None])[0])

    def close(self) -> None:
        self.grid.close()
        if self.phases is not None:
            self.phases.close()


def _looked_into(inputs: Inputs, options: ScanOptions) -> Look | None:
    if any(b is not None and b not in inputs.network for b in (options.bus, options.other)):
        return None  # a scheme adds it, and this is without
    grid = _with_supply(inputs, options)
    if grid is None or not by_conductor(options):
        return None if grid is None else Look(grid)
    network = as_controlled(inputs.network.under(inputs.under), grid.reading)
    arrays = compile_conductors(network)
    phases = PhaseGrid(network, arrays, Legs.balanced(arrays, network, grid.reading), options, no_impedance(network))
    ends = [_by_phase(arrays, ident, options) for ident in (options.bus, options.other or options.bus)]
    if phases.adrift(ends[0]):
        phases.close()
        text = "nothing ties this bus to earth, so that its impedance to earth has no end; choose positive, or earth a star point"
        raise InvalidFields([FieldProblem("options", "sequence", options.sequence, text)])
    return Look(grid, phases, ends[0], ends[1] / (3.0 if options.sequence == "zero" else 1.0))


def _by_phase(arrays: ConductorArrays, ident: str, options: ScanOptions) -> Complexes:
    """Where a current goes in and a voltage is read, by node. Raises :class:`InvalidFields` for a phase that is not there."""
    found = np.zeros(arrays.n_node, np.complex128)
    node = arrays.node[arrays.bus_id.index(ident)]
    wanted = [0, 1, 2] if options.sequence == "zero" else ["abc".index(options.sequence[-1])]
    for c in wanted:
        if node[c] < 0:
            raise InvalidFields(
                [FieldProblem("options", "sequence", options.sequence, "choose a phase that the bus has")]
            )
        found[node[c]] += 1
    if node[NEUTRAL] >= 0:
        found[node[NEUTRAL]] -= len(wanted)
    return found


def _with_supply(inputs: Inputs, options: ScanOptions) -> Grid | None:
    grid = grid_of(inputs, options)
    for ident in (options.bus, options.other) if grid is not None else ():
        if ident is not None and grid is not None and grid.row(ident) < 0:
            raise InvalidFields([FieldProblem("options", "bus", ident, "choose a bus that has a supply")])
    return grid


def grid_of(inputs: Inputs, options: Any) -> Grid | None:
    """The network as the load flow leaves it, at other frequencies; what has a spectrum injects and is no impedance."""
    found = LiveLoadFlow(inputs.network).linearise(inputs.under)
    if found is None:
        return None
    network = inputs.network.under(inputs.under)
    return Grid(network, found.reading, options, no_impedance(network))


def answer(looks: list[Look | None], part: Mapping[str, int], progress: Progress) -> Answer:
    look = looks[part["state"]]
    if look is None:
        return {"z": np.zeros(0, np.complex128)}
    look.grid.begin()
    given = look.grid.options
    assert isinstance(given, ScanOptions)
    hz = _frequencies(given)[part["first"] : part["last"]]
    found = np.empty(len(hz), np.complex128)
    for n, f in enumerate(hz):
        if n % 20 == 0 or look.phases is not None:
            progress(n / len(hz), f"{f:.0f} Hz")
        found[n] = look.impedance(float(f), given)
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


@dataclass(frozen=True)
class _Curve:
    """The impedance in one state, and its peaks and dips."""

    label: str
    z: Complexes
    places: list[dict[str, Any]]


def join(
    inputs: Inputs, options: ScanOptions, parts: Sequence[Mapping[str, int]], answers: Sequence[Answer | Missing]
) -> Result:
    hz = _frequencies(options)
    found = states(inputs, options)
    z = np.full((len(found), len(hz)), np.nan + 0j)
    for part, a in zip(parts, answers, strict=True):
        if not isinstance(a, Missing) and len(a["z"]):
            z[part["state"], part["first"] : part["last"]] = a["z"]
    curves, notes, frequency_hz = [], [], inputs.network.settings.frequency_hz
    for state, values in zip(found, z, strict=True):
        if np.all(np.isnan(values)):
            notes += [
                f"{state.label or 'The network'}: not there yet, without this bus, or its load flow has no solution."
            ]
            continue
        look = _looked_into(state.inputs, options)
        assert look is not None
        curves.append(_Curve(state.label, values, _extremes(look, options, hz, values, state.inputs.network)))
        look.close()
    if not curves:
        text = "The load flow has no solution here, so the network is not known at other frequencies. See its account first."
        return Result(Account(Ending.ITERATION_LIMIT, "Impedance scan", 0, explanation=text), {}, {})
    return _published(inputs.network, frequency_hz, options, hz, curves, notes)


SPLIT = Split(plan, prepare, answer, join)


def _frequencies(options: ScanOptions) -> Floats:
    return np.arange(options.from_hz, options.to_hz + options.step_hz / 2, options.step_hz)


def _extremes(look: Look, options: ScanOptions, hz: Floats, z: Complexes, network: Network) -> list[dict[str, Any]]:
    """Peaks and dips of the magnitude, each sought between its neighbours by golden section."""
    size = np.abs(z)
    inner = np.arange(1, len(hz) - 1)
    with np.errstate(invalid="ignore"):
        peaks = inner[(size[1:-1] > size[:-2]) & (size[1:-1] >= size[2:])]
        dips = inner[(size[1:-1] < size[:-2]) & (size[1:-1] <= size[2:])]
    found = []
    for kind, at in sorted([("peak", int(n)) for n in peaks] + [("dip", int(n)) for n in dips], key=lambda k: k[1]):
        sign = 1.0 if kind == "peak" else -1.0
        tight = 1e-7 if look.phases is None else 1e-4
        f = _golden(lambda x, s=sign: s * abs(look.impedance(x, options)), float(hz[at - 1]), float(hz[at + 1]), tight)
        here = look.impedance(f, options)
        swings = look.swings(f, options)
        total = sum(swings.values()) or 1.0
        near = 1e-4 * f
        turn = np.angle(look.impedance(f + near, options) / look.impedance(f - near, options))
        found.append({
            "kind": kind, "hz": f, "ohm": abs(here), "quality": float(abs(turn) / (2 * near) * f / 2),
            "takes_part": sorted(((100 * q / total, i) for i, q in swings.items()), reverse=True),
            "names": {i: network[i].name for i in swings},
        })  # fmt: skip
    return found


def _golden(size: Any, low: float, high: float, tight: float) -> float:
    """Where a function with one peak in between is largest, to a share of it."""
    ratio = (5**0.5 - 1) / 2
    a, b = high - ratio * (high - low), low + ratio * (high - low)
    at_a, at_b = size(a), size(b)
    while high - low > tight * high:
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
    network: Network, base: float, options: ScanOptions, hz: Floats, curves: list[_Curve], notes: list[str]
) -> Result:
    name = network[options.bus].name
    injected = [h for h in orders_injected(network) if sequence_of(h)]
    to = f" to {network[options.other].name}" if options.other else ""
    said = [c.label or f"{name}{to}" for c in curves]
    columns = [
        Column("id", "Id", [options.bus] * len(hz), fixed=True), Column("hz", "Frequency", hz, "Hz", 1, fixed=True),
        Column("order", "Order", hz / base, None, 2, fixed=True),
    ]  # fmt: skip
    for n, c in enumerate(curves):
        more, words = ("", "") if len(curves) == 1 else (f"_{n + 1}", f", {c.label}")
        columns += [
            Column(f"ohm{more}", f"Impedance{words}", np.abs(c.z), "Ω", 3),
            Column(f"angle_deg{more}", f"Angle{words}", np.degrees(np.angle(c.z)), "°", 1),
            Column(f"r_ohm{more}", f"R{words}", c.z.real, "Ω", 3), Column(f"x_ohm{more}", f"X{words}", c.z.imag, "Ω", 3),
        ]  # fmt: skip
    all_places = [(c.label, q) for c in curves for q in c.places]
    findings = [f for label, q in all_places if (f := _near_injected(base, label, q, injected)) is not None]
    bounds = [Bound(f"{h:g}", h * base, "x") for h in injected if options.from_hz <= h * base <= options.to_hz]
    frequency = Axis("Frequency", "Hz", 0, "order", base)
    figures = [
        *([_envelope(hz, curves, frequency, bounds)] if options.over == "banks" else []),
        Figure("scan", "Impedance", frequency, Axis("Impedance", "Ω", 2),
               [*(Series(f"ohm {n}", w, hz, np.abs(c.z)) for n, (c, w) in enumerate(zip(curves, said, strict=True))),
                *_marked(base, all_places)], bounds),
        Figure("angle", "Angle", frequency, Axis("Angle", "°", 0),
               [Series(f"angle {n}", w, hz, np.degrees(np.angle(c.z)))
                for n, (c, w) in enumerate(zip(curves, said, strict=True))], bounds),
        Figure("plane", "R and X", Axis("R", "Ω", 2), Axis("X", "Ω", 2),
               [Series(f"plane {n}", w, c.z.real, c.z.imag) for n, (c, w) in enumerate(zip(curves, said, strict=True))]),
    ]  # fmt: skip
    peaks = [(label, q) for label, q in all_places if q["kind"] == "peak"]
    under, most = max(peaks, key=lambda p: p[1]["ohm"], default=("", None))
    where = f", {under}" if under else ""
    statement = (
        f"{name}{to}: {len(peaks)} parallel resonance{'' if len(peaks) == 1 else 's'}; the highest at {most['hz']:.0f} Hz "
        f"(order {most['hz'] / base:.2f}), {most['ohm']:.3g} Ω{where}." if most else
        f"{name}{to}: no parallel resonance in this range."
    )  # fmt: skip
    account = Account(
        Ending.CONVERGED, "Impedance scan", len(hz) * len(curves), notes=notes, assumed=assumptions(options)
    )  # fmt: skip
    summary: dict[str, float | None] = {"peaks": float(len(peaks)), "highest_hz": most["hz"] if most else None,
                                        "highest_ohm": most["ohm"] if most else None}  # fmt: skip
    tables = {
        "resonances": _resonances(base, options, all_places),
        "scan": Table("scan", "By frequency", columns),
    }
    return Result(account, tables, summary, findings, statement, figures=figures)


def _marked(base: float, places: list[tuple[str, dict[str, Any]]]) -> list[Series]:
    """The highest peaks with their orders; each leads to the capacitance that swings most."""
    peaks = sorted((q for _, q in places if q["kind"] == "peak"), key=lambda q: -q["ohm"])[:_MOST_MARKED]
    if not peaks:
        return []
    first = [q["takes_part"][0][1] if q["takes_part"] else None for q in peaks]
    return [Series("peaks", "resonances", [q["hz"] for q in peaks], [q["ohm"] for q in peaks], "points", first,
                   [f"{q['hz'] / base:.2f}" for q in peaks])]  # fmt: skip


def _envelope(hz: Floats, curves: list[_Curve], frequency: Axis, bounds: list[Bound]) -> Figure:
    """The highest and the lowest of all states."""
    sizes = np.array([np.abs(c.z) for c in curves])
    return Figure(
        "envelope",
        "Highest and lowest of all states",
        frequency,
        Axis("Impedance", "Ω", 2),
        [Series("highest", "highest", hz, sizes.max(axis=0)), Series("lowest", "lowest", hz, sizes.min(axis=0))],
        bounds,
    )


def _resonances(base: float, options: ScanOptions, places: list[tuple[str, dict[str, Any]]]) -> Table:
    first = [q["takes_part"][0][1] if q["takes_part"] else options.bus for _, q in places]
    return Table("resonances", "Resonances", [
        Column("id", "Id", first, fixed=True),
        *([Column("state", "Under", [label for label, _ in places])] if options.over != "present" else []),
        Column("kind", "Kind", [q["kind"] for _, q in places]),
        Column("hz", "Frequency", np.array([q["hz"] for _, q in places]), "Hz", 1),
        Column("order", "Order", np.array([q["hz"] / base for _, q in places]), None, 2),
        Column("ohm", "Impedance", np.array([q["ohm"] for _, q in places]), "Ω", 3),
        Column("quality", "Quality", np.array([q["quality"] for _, q in places]), None, 1,
               "Half the frequency times the slope of the angle over it: how sharp it is"),
        Column("takes_part", "Capacitance that swings", [_swinging(q) for _, q in places],
               meaning="Share of the reactive power in all capacitances there: a capacitance that grows by 1 % lowers the "
               "frequency by half its share of 1 %"),
    ])  # fmt: skip


def _swinging(place: dict[str, Any]) -> str:
    return ", ".join(f"{place['names'][i]} {p:.0f} %" for p, i in place["takes_part"][:3] if p >= _TOLD_PCT)


def _near_injected(base: float, label: str, place: dict[str, Any], injected: list[float]) -> Finding | None:
    """A parallel resonance next to an order that something injects."""
    order = place["hz"] / base
    near = [h for h in injected if abs(h - order) < _NEAR_ORDER]
    if place["kind"] != "peak" or not near or not place["takes_part"]:
        return None
    under = f" ({label})" if label else ""
    text = (f"parallel resonance at {place['hz']:.0f} Hz, {place['ohm']:.3g} Ω{under}, next to order {near[0]:g}, which is "
            f"injected here; {_swinging(place) or 'no capacitance of note'}")  # fmt: skip
    return Finding(place["takes_part"][0][1], "resonance", "order", order, None, float(near[0]), "Injected order",
                   Severity.WATCH, "near", 1 - abs(order - near[0]), text)  # fmt: skip


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
        {"nominal": "Lines as one nominal pi.", "long": "Lines by the equations of a long line.",
         "geometry": "Lines by the equations of a long line, geometries by Carson's at every frequency."}[options.lines],
    ]  # fmt: skip
