"""Distortion: voltages and currents of every order, from all that inject, and whether they keep their levels.

At order h the voltages are Z(h) times the currents into the network, each current turned h times the angle of its fundamental.
Sources with known angles add as phasors. Others add by the summation law of IEC TR 61000-3-6, U = (sum |U_i|^a)^(1/a), a by
order, or as plain numbers. Orders that are multiples of three are zero sequence in a balanced network and left out.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ...electrical.arrays import Complexes, Floats, Ints
from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...network import Condition, Network
from ...results import Account, Axis, Bound, Column, Figure, Finding, Quantity, Result, Series, Table
from ...severity import Severity
from ..base import Inputs, Progress
from ._grid import Grid, sequence_of
from ._limits import level_of, limit_pct, total_pct
from ._options import DistortionOptions
from ._scan import assumptions, grid_of
from ._sources import HarmonicSource, sources
from ._worst import worst_of

_MOST_CELLS = 30_000_000  # sources by buses and branches told apart; more than that are summed as phasors
_WATCH = 0.8  # of a level
_MOST_CURRENT_PCT, _MOST_VOLTAGE_PCT = 130.0, 110.0  # of capacitors, in the manner of IEC 60871-1


@dataclass(frozen=True)
class Order:
    """One order: magnitudes of the node voltages (n,) and of the branch currents at both ends (2, n_branch), per unit; the
    phasors (n,) of what has a known angle; the largest share of a source at every node and which it is (n,)."""

    order: int
    volts: Floats
    phasor: Complexes
    amps: Floats
    most: Floats
    whose: Ints


def run_distortion(inputs: Inputs, options: DistortionOptions, progress: Progress) -> Result:
    """Under the condition in use, or the worst of all conditions. Raises :class:`InvalidFields` for a bus that is not there;
    :class:`SingularMatrix` at a resonance without losses."""
    if options.over == "present":
        return _under_one(inputs, options, progress)
    conditions = inputs.network.of(Condition) or [inputs.under]
    found: list[tuple[str, Result]] = []
    for n, c in enumerate(conditions):

        def share(fraction: float, words: str, n: int = n, name: str = c.name) -> None:
            progress((n + fraction) / len(conditions), f"{name}, {words}")

        found.append((c.name, _under_one(replace(inputs, condition=c), options, share)))
    return worst_of(found)


def _under_one(inputs: Inputs, options: DistortionOptions, progress: Progress) -> Result:
    network = inputs.network.under(inputs.under)
    if options.bus is not None and options.bus not in network:
        raise InvalidFields([FieldProblem("options", "bus", options.bus, "name a bus of this network")])
    grid = grid_of(inputs, options)
    if grid is None:
        text = "The load flow has no solution here, so there are no currents to take shares of. See its account first."
        return Result(Account(Ending.ITERATION_LIMIT, "Distortion", 0, explanation=text), {}, {})
    injecting = sources(network, grid.reading, rated=options.inverters == "rated")
    every = sorted({h for s in injecting for h in s.orders})
    orders = [h for h in every if sequence_of(h) != 0]
    if not orders:
        text = "Nothing injects: give loads or inverters a spectrum (Harmonics on their card)."
        if every:
            text = (
                "Everything that injects does so at multiples of three, which are zero sequence and not looked at yet."
            )
        return Result(Account(Ending.NOTHING_TO_SOLVE, "Distortion", 0, explanation=text), {}, {})
    found = []
    for n, h in enumerate(orders):
        progress(n / len(orders), f"order {h}")
        found.append(_order(grid, injecting, h, options))
    result = _published(network, grid, options, injecting, found, left_out=[h for h in every if h not in orders])
    grid.close()
    return result


def _order(grid: Grid, injecting: list[HarmonicSource], h: int, options: DistortionOptions) -> Order:
    grid.factorise(float(h), sequence_of(h))
    ports = grid.ports(float(h), sequence_of(h))
    branch = grid.arrays.tables["branch"]
    f, t = grid.pattern.row[branch["from"]], grid.pattern.row[branch["to"]]
    live = (f >= 0) & (t >= 0)

    def ends(u: Complexes) -> Complexes:
        """Branch currents (..., 2, n_branch) from voltages (..., n)."""
        uf, ut = np.where(live, u[..., f], 0), np.where(live, u[..., t], 0)
        return np.stack([ports.ff * uf + ports.ft * ut, ports.tf * uf + ports.tt * ut], axis=-2)

    mine = [s for s in injecting if h in s.orders]
    rows = np.array(sorted({s.row for s in mine}), np.int64)
    apart = len(mine) * (grid.pattern.n + 2 * len(f)) <= _MOST_CELLS
    if not apart:
        rhs = np.zeros(grid.pattern.n, np.complex128)
        for s in mine:
            rhs[s.row] += s.injected(h)
        u = grid.solve(rhs)
        nobody = np.full(grid.pattern.n, -1, np.int64)
        return Order(h, np.abs(u), u, np.abs(ends(u)), np.zeros(grid.pattern.n), nobody)
    units = np.zeros((len(rows), grid.pattern.n), np.complex128)
    units[np.arange(len(rows)), rows] = 1.0
    z = grid.solve(units)  # symmetric but for shifts: row k holds all voltages for a current into rows[k]
    where = np.searchsorted(rows, [s.row for s in mine])
    u = z[where] * np.array([s.injected(h) for s in mine])[:, None]
    i = ends(u)
    known = np.array([s.known(h) or options.unknown == "in_phase" for s in mine])
    a = 1.0 if options.unknown == "arithmetic" else _exponent(h, options)
    place = {s.element: n for n, s in enumerate(injecting)}
    most = np.abs(u).argmax(axis=0)
    return Order(
        h, _summed(u, known, a), u[known].sum(axis=0), _summed(i, known, a), np.abs(u).max(axis=0),
        np.array([place[s.element] for s in mine], np.int64)[most],
    )  # fmt: skip


def _summed(parts: Complexes, known: np.ndarray, a: float) -> Floats:
    """Phasors of what is known as one, the rest by the summation law."""
    together = np.abs(parts[known].sum(axis=0))
    return np.asarray((together**a + (np.abs(parts[~known]) ** a).sum(axis=0)) ** (1 / a))


def _exponent(h: int, options: DistortionOptions) -> float:
    return options.exponent_low if h < 5 else options.exponent_middle if h <= 10 else options.exponent_high


def _published(
    network: Network, grid: Grid, options: DistortionOptions, injecting: list[HarmonicSource], found: list[Order], *,
    left_out: list[int],
) -> Result:  # fmt: skip
    buses, volts, shown = _buses(network, grid, options, found)
    branches = _branches(network, grid, found)
    capacitors = _capacitors(network, grid, found)
    who = _injections(network, grid, injecting, [o.order for o in found])
    findings = _findings(network, grid, options, found, volts, shown, injecting) + _stressed(capacitors)
    findings.sort(key=lambda f: (f.severity != Severity.BREACH, -f.excess))
    total = buses["thd_pct"]
    worst = int(np.nanargmax(total))
    drawn = shown.index(grid.arrays.bus_id.index(options.bus)) if options.bus else worst
    name = network[buses["id"][drawn]].name
    notes = (
        [f"Orders {', '.join(map(str, left_out))} are multiples of three, which are zero sequence: left out."]
        if left_out
        else []
    )
    unknown = [s for s in injecting if any(not s.known(o.order) for o in found)]
    how = {
        "law": "add by the summation law",
        "arithmetic": "add as plain numbers",
        "in_phase": "are taken as if their angles were 0",
    }
    notes += (
        [f"{len(unknown)} of {len(injecting)} sources have no known angles and {how[options.unknown]}."]
        if unknown
        else []
    )
    account = Account(Ending.CONVERGED, "Distortion", len(found), notes=notes, assumed=assumptions(options))
    over = sum(f.severity == Severity.BREACH for f in findings)
    statement = (
        f"{network[buses['id'][worst]].name} is the most distorted: {total[worst]:.2f} %, most of it order "
        f"{found[int(volts[:, worst].argmax())].order}; {over} level{'' if over == 1 else 's'} exceeded."
    )
    summary: dict[str, float | None] = {"worst_thd_pct": float(total[worst]), "sources": float(len(injecting)),
                                        "orders": float(len(found)), "breaches": float(over)}  # fmt: skip
    whose = _whose(network, grid, injecting, found, shown[drawn], options)
    tables = {t.name: t for t in (buses, branches, capacitors, who, whose)}
    figures = _figures(grid, options, found, volts, drawn, shown, name)
    quantities = [
        Quantity(
            "thd_pct", "Voltage distortion", "buses", "%", 2, "Root of the sum of squares of all orders", "growing"
        ),
        Quantity("thd_i_pct", "Current distortion", "branches", "%", 1, "Of the fundamental current there", "growing"),
    ]
    return Result(account, tables, summary, findings, statement, figures=figures, quantities=quantities)


def _buses(
    network: Network, grid: Grid, options: DistortionOptions, found: list[Order]
) -> tuple[Table, Floats, list[int]]:
    """The table; voltages of all orders in per cent, (n_order, n_shown); and which buses are shown."""
    arrays, rows = grid.arrays, grid.pattern.row
    shown = [n for n in range(arrays.n_bus - arrays.n_inner) if rows[n] >= 0]
    at = rows[shown]
    fundamental = np.abs(grid.reading.v0[shown])
    base = fundamental if options.relative_to == "fundamental" else np.ones(len(shown))
    volts = np.array([100 * o.volts[at] / base for o in found])
    total = np.sqrt((volts**2).sum(axis=0))
    most = volts.argmax(axis=0)
    ids = [arrays.bus_id[n] for n in shown]
    columns = [
        Column("id", "Id", ids, fixed=True), Column("name", "Name", [network[b].name for b in ids], fixed=True),
        Column("nominal_kv", "Nominal", arrays.bus_kv[shown], "kV", 2, fixed=True),
        Column("thd_pct", "Distortion", total, "%", 2, "Root of the sum of squares of all orders"),
        Column("most_order", "Most", np.array([found[k].order for k in most]), None, 0, "Order of the largest voltage"),
        Column("rms_pu", "RMS", np.sqrt(fundamental**2 + ((volts * base / 100) ** 2).sum(axis=0)), "p.u.", 4, "With all orders"),
        *(Column(f"order_{o.order}_pct", f"Order {o.order}", v, "%", 3) for o, v in zip(found, volts, strict=True)),
    ]  # fmt: skip
    return Table("buses", "Buses", columns), volts, shown


def _branches(network: Network, grid: Grid, found: list[Order]) -> Table:
    arrays, reading = grid.arrays, grid.reading
    branch = arrays.tables["branch"]
    live = np.flatnonzero((grid.pattern.row[branch["from"]] >= 0) & (grid.pattern.row[branch["to"]] >= 0))
    ids = [arrays.element_id[e] for e in branch["element"][live].tolist()]
    base = arrays.base_current_a()[branch["from"][live]]
    ports = reading.solution.ports
    first = np.abs(ports.ff * reading.v0[branch["from"]] + ports.ft * reading.v0[branch["to"]])[live]
    amps = np.array([o.amps[0][live] for o in found])
    squares = (amps**2).sum(axis=0)
    h2 = np.array([float(o.order) ** 2 for o in found])[:, None]
    with np.errstate(invalid="ignore", divide="ignore"):
        thd = np.where(first > 1e-9, 100 * np.sqrt(squares) / first, np.nan)
        k = (first**2 + (h2 * amps**2).sum(axis=0)) / (first**2 + squares)
        rated = branch["rating_from_a"][live]
        tdd = np.where(np.isfinite(rated) & (rated > 0), 100 * np.sqrt(squares) * base / rated, np.nan)
    unit = [arrays.element_kind[e] in ("transformer", "three_winding") for e in branch["element"][live].tolist()]
    return Table("branches", "Branches", [
        Column("id", "Id", ids, fixed=True), Column("name", "Name", [network[i].name for i in ids], fixed=True),
        Column("fundamental_a", "Fundamental", first * base, "A", 1, "At its from end"),
        Column("rms_a", "RMS", np.sqrt(first**2 + squares) * base, "A", 1, "With all orders"),
        Column("thd_i_pct", "Distortion", thd, "%", 1, "Of the fundamental current"),
        Column("tdd_pct", "Demand distortion", tdd, "%", 1, "Of the rated current"),
        Column("k_factor", "K factor", np.where(unit, k, np.nan), None, 2,
               "Of transformers: eddy losses by the square of the order, over those of a clean current of the same size"),
        *(Column(f"order_{o.order}_a", f"Order {o.order}", a * base, "A", 2) for o, a in zip(found, amps, strict=True)),
    ])  # fmt: skip


def _capacitors(network: Network, grid: Grid, found: list[Order]) -> Table:
    """Stress of banks that are on: voltage and current with all orders, per cent of rated."""
    arrays, rows = grid.arrays, grid.pattern.row
    shunt = arrays.tables["shunt"]
    on = [n for n in range(len(shunt["bus"])) if rows[shunt["bus"][n]] >= 0 and shunt["y"][n].imag > 0]
    at = rows[shunt["bus"][on]]
    first = np.abs(grid.reading.v0[shunt["bus"][on]])
    volts = np.array([o.volts[at] for o in found])
    orders = np.array([float(o.order) for o in found])[:, None]
    ids = [arrays.element_id[e] for e in shunt["element"][on].tolist()]
    kv = arrays.bus_kv[shunt["bus"][on]]
    rated = (
        np.array([float(getattr(network[i], "rated_kv", None) or k) for i, k in zip(ids, kv.tolist(), strict=True)])
        / kv
    )
    currents = orders * volts
    return Table("capacitors", "Capacitors", [
        Column("id", "Id", ids, fixed=True), Column("name", "Name", [network[i].name for i in ids], fixed=True),
        Column("voltage_pct", "RMS voltage", 100 * np.sqrt(first**2 + (volts**2).sum(axis=0)) / rated, "%", 1, "Of rated"),
        Column("peak_pct", "Peak voltage", 100 * (first + volts.sum(axis=0)) / rated, "%", 1, "If all orders peak together"),
        Column("current_pct", "RMS current", 100 * np.sqrt(first**2 + (currents**2).sum(axis=0)) / rated, "%", 1, "Of rated"),
        Column("most_order", "Most", orders[currents.argmax(axis=0), 0] if on else np.zeros(0), None, 0,
               "Order of the largest harmonic current"),
    ])  # fmt: skip


def _injections(network: Network, grid: Grid, injecting: list[HarmonicSource], orders: list[int]) -> Table:
    amps = grid.arrays.base_current_a()
    at = {int(r): n for n, r in enumerate(grid.pattern.row.tolist()) if r >= 0}
    base = np.array([amps[at[s.row]] for s in injecting])
    angles = ["known" if all(s.known(h) for h in s.orders) else "not known" for s in injecting]
    return Table("injections", "What injects", [
        Column("id", "Id", [s.element for s in injecting], fixed=True),
        Column("name", "Name", [network[s.element].name for s in injecting], fixed=True),
        Column("fundamental_a", "Fundamental", np.array([abs(s.current) for s in injecting]) * base, "A", 1),
        Column("angles", "Angles", angles, fixed=True),
        *(Column(f"order_{h}_a", f"Order {h}", np.array([abs(s.injected(h)) for s in injecting]) * base, "A", 2)
          for h in orders),
    ])  # fmt: skip


def _whose(
    network: Network,
    grid: Grid,
    injecting: list[HarmonicSource],
    found: list[Order],
    bus: int,
    options: DistortionOptions,
) -> Table:
    """What each source alone makes at one bus, and how much of the total lies in its direction."""
    row = int(grid.pattern.row[bus])
    base = abs(grid.reading.v0[bus]) if options.relative_to == "fundamental" else 1.0
    parts = np.zeros((len(found), len(injecting)), np.complex128)
    for k, o in enumerate(found):
        grid.factorise(float(o.order), sequence_of(o.order))
        z = grid.seen_from(row)
        parts[k] = [z[s.row] * s.injected(o.order) for s in injecting]
    alone = 100 * np.abs(parts) / base
    total = np.sqrt((alone**2).sum(axis=0))
    order = np.argsort(-total, kind="stable")
    name = network[grid.arrays.bus_id[bus]].name
    # Of what has known angles: the share of the phasor sum that points its way.
    known = np.array([[s.known(o.order) for s in injecting] for o in found])
    sums = np.where(known, parts, 0).sum(axis=1)
    with np.errstate(invalid="ignore", divide="ignore"):
        along = np.where(known, 100 * (parts * np.conj(sums)[:, None]).real / (np.abs(sums) ** 2)[:, None], np.nan)
    most = alone.argmax(axis=0)
    picked = along[most, np.arange(len(injecting))]
    return Table("contributions", f"Whose at {name}", [
        Column("id", "Id", [injecting[k].element for k in order], fixed=True),
        Column("name", "Name", [network[injecting[k].element].name for k in order], fixed=True),
        Column("alone_pct", "Alone", total[order], "%", 3, f"Distortion it alone would make at {name}"),
        Column("most_order", "Most", np.array([found[k].order for k in most])[order], None, 0, "Order of its largest voltage"),
        Column("along_pct", "Of the sum", picked[order], "%", 1,
               "Of that order's phasor sum of known angles: its projection on it"),
        *(Column(f"order_{o.order}_pct", f"Order {o.order}", a[order], "%", 3) for o, a in zip(found, alone, strict=True)),
    ])  # fmt: skip


def _findings(
    network: Network, grid: Grid, options: DistortionOptions, found: list[Order], volts: Floats, shown: list[int],
    injecting: list[HarmonicSource],
) -> list[Finding]:  # fmt: skip
    """The worst bus of each order and voltage level; how many more there are stands beside it."""
    words = "planning level" if options.limits == "planning" else "compatibility level"
    total = np.sqrt((volts**2).sum(axis=0))
    levels = np.array([level_of(float(grid.arrays.bus_kv[b]), options.limits) for b in shown])
    made = []
    for level in dict.fromkeys(levels.tolist()):
        here = np.flatnonzero(levels == level)
        judged = [
            (f"order {o.order}", f"order_{o.order}_pct", volts[k], limit_pct(level, o.order))
            for k, o in enumerate(found)
        ]
        for what, quantity, values, limit in [*judged, ("total distortion", "thd_pct", total, total_pct(level))]:
            n = int(here[values[here].argmax()])
            value = float(values[n])
            if value <= _WATCH * limit:
                continue
            severity = Severity.BREACH if value > limit else Severity.WATCH
            more = int((values[here] > (limit if severity is Severity.BREACH else _WATCH * limit)).sum()) - 1
            beside = f", and {more} more bus{'es' if more > 1 else ''}" if more else ""
            k = next((k for k, j in enumerate(judged) if j[0] == what), int(volts[:, n].argmax()))
            whose = int(found[k].whose[grid.pattern.row[shown[n]]])
            by = f"; most of it from {network[injecting[whose].element].name}" if whose >= 0 else ""
            text = f"{what} {value:.2f} %; at most {limit:.3g} % ({words}, {level} voltage){by}{beside}"
            made.append(Finding(grid.arrays.bus_id[shown[n]], "distortion", quantity, value, "%", limit, words.capitalize(),
                                severity, "above", value / limit - 1, text))  # fmt: skip
    return made


def _stressed(capacitors: Table) -> list[Finding]:
    made = []
    for name, most, words in (
        ("current_pct", _MOST_CURRENT_PCT, "current"),
        ("voltage_pct", _MOST_VOLTAGE_PCT, "voltage"),
    ):
        for ident, value in zip(capacitors["id"], capacitors[name].tolist(), strict=True):
            if value > most:
                text = f"{words} with all orders {value:.0f} % of rated; at most {most:.0f} %"
                made.append(Finding(ident, "capacitor", name, value, "%", most, "Capacitor", Severity.BREACH, "above",
                                    value / most - 1, text))  # fmt: skip
    return made


def _figures(
    grid: Grid, options: DistortionOptions, found: list[Order], volts: Floats, drawn: int, shown: list[int], name: str
) -> list[Figure]:
    orders: list[Any] = [str(o.order) for o in found]
    level = level_of(float(grid.arrays.bus_kv[shown[drawn]]), options.limits)
    limits = [limit_pct(level, o.order) for o in found]
    spectrum = Figure("spectrum", "Spectrum", Axis("Order"), Axis("Voltage", "%", 2), [
        Series("voltage", name, orders, volts[:, drawn], "bars"), Series("limit", "level", orders, limits, "points"),
    ])  # fmt: skip
    row = grid.pattern.row[shown[drawn]]
    first = complex(grid.reading.v0[shown[drawn]])
    turn = np.linspace(0, 4 * np.pi, 401)
    clean = np.sqrt(2) * abs(first) * np.sin(turn)
    wave = clean.copy()
    for o in found:
        # Reckoned from the zero of the fundamental: what has no known angle has no place in it.
        u = o.phasor[row] * np.exp(-1j * o.order * np.angle(first))
        wave += np.sqrt(2) * np.abs(u) * np.sin(o.order * turn + np.angle(u))
    time = turn / (2 * np.pi * grid.frequency_hz) * 1e3
    waveform = Figure("waveform", "Waveform", Axis("Time", "ms", 1), Axis("Voltage", "p.u.", 2), [
        Series("wave", f"{name}, orders with known angles", time, wave), Series("fundamental", "fundamental", time, clean),
    ], [Bound("", 0.0)])  # fmt: skip
    return [spectrum, waveform]


__all__ = ["Order", "run_distortion"]
