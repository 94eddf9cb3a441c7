"""Distortion: voltages and currents of every order, from all that inject, and whether they keep their levels.

At order h the voltages are Z(h) times the currents into the network, each current turned h times the angle of its fundamental.
Sources with known angles add as phasors. Others add by the summation law of IEC TR 61000-3-6, U = (sum |U_i|^a)^(1/a), a by
order, or as plain numbers. Balanced, an order is positive or negative sequence, or zero where it is a multiple of three.
"""

from __future__ import annotations

import numpy as np

from ...electrical.arrays import Floats
from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...network import Network
from ...results import Account, Column, Quantity, Result, Table
from ...severity import Severity
from ..base import Inputs, Progress, cases
from ._banks import bank_table, stressed
from ._currents import at_coupling
from ._drawn import called, figures_of
from ._judged import level_findings
from ._limits import named
from ._models import Model, Order, by_conductor, by_sequence
from ._options import DistortionOptions
from ._scan import assumptions, grid_of
from ._told import Told
from ._weights import psophometric, tif
from ._worst import beside


def run_distortion(inputs: Inputs, options: DistortionOptions, progress: Progress) -> Result:
    """Under the condition in use, or the worst of all conditions. Raises :class:`InvalidFields` for a bus that is not there;
    :class:`SingularMatrix` at a resonance without losses."""
    for field in ("bus", "beside"):
        ident = getattr(options, field)
        if ident is not None and ident not in inputs.network:
            raise InvalidFields([FieldProblem("options", field, ident, "name a bus of this network")])
    if options.over == "present":
        return _under_one(inputs, options, progress)
    every = cases(inputs, options.over)
    found: list[tuple[str, Result]] = []
    for n, c in enumerate(every):

        def share(fraction: float, words: str, n: int = n, name: str = c.label) -> None:
            progress((n + fraction) / len(every), f"{name}, {words}")

        found.append((c.label, _under_one(c.inputs, _there(options, c.inputs.network), share)))
    return beside(inputs, options, found)


def _there(options: DistortionOptions, network: Network) -> DistortionOptions:
    """Without what a state does not have: a scheme may add it."""
    named = ("bus", "beside", "branch", "coupling")
    gone = {f: None for f in named if (i := getattr(options, f)) is not None and i not in network}
    return options.model_copy(update=gone)


def _under_one(inputs: Inputs, options: DistortionOptions, progress: Progress) -> Result:
    network = inputs.network.under(inputs.under)
    model = _model(inputs, network, options)
    if model is None:
        text = "The load flow has no solution here, so there are no currents to take shares of. See its account first."
        return Result(Account(Ending.ITERATION_LIMIT, "Distortion", 0, explanation=text), {}, {})
    orders = sorted({h for s in model.sources for h in s.orders})
    if not orders:
        text = "Nothing injects: give loads or inverters a spectrum (Harmonics on their card)."
        return Result(Account(Ending.NOTHING_TO_SOLVE, "Distortion", 0, explanation=text), {}, {})
    found = []
    for n, h in enumerate(orders):
        progress(n / len(orders), f"order {h:g}")
        found.append(model.at(h, options))
    result = _published(model, options, found)
    model.close()
    return result


def _model(inputs: Inputs, network: Network, options: DistortionOptions) -> Model | None:
    if options.detail == "per_phase":
        return by_conductor(inputs, options)
    grid = grid_of(inputs, options)
    return by_sequence(network, grid, options) if grid is not None else None


def _published(model: Model, options: DistortionOptions, found: list[Order]) -> Result:
    network, told = model.network, Told(model, options, found)
    per_phase = options.detail == "per_phase"
    buses, of_bus = _buses(model, told, per_phase)
    branches = _branches(model, told)
    banks = bank_table(model, found)
    at = np.array([max(g, key=lambda n: told.thd[n]) for g in of_bus])
    whose = np.array([[o.whose[n] for n in at] for o in found])
    volts = np.array([told.volts[:, g].max(axis=1) for g in of_bus]).T
    most = [[model.sources[k].element if k >= 0 else None for k in row] for row in whose.tolist()]
    findings = level_findings(
        network, buses["id"], buses["nominal_kv"], options, told.orders, volts, buses["thd_pct"], most
    )
    findings += stressed(banks)
    coupled = at_coupling(network, model, options, found)
    findings += coupled[1] if coupled is not None else []
    findings.sort(key=lambda f: (f.severity != Severity.BREACH, -f.excess))
    total = buses["thd_pct"]
    worst = int(np.nanargmax(total))
    drawn = list(buses["id"]).index(options.bus) if options.bus in buses["id"] else worst
    name = network[buses["id"][drawn]].name
    place = int(at[drawn])
    account = Account(Ending.CONVERGED, "Distortion", len(found), notes=_notes(model, options), assumed=[
        *assumptions(options), *_taken(options)])  # fmt: skip
    over = sum(f.severity == Severity.BREACH for f in findings)
    statement = (
        f"{network[buses['id'][worst]].name} is the most distorted: {total[worst]:.2f} %, most of it order "
        f"{told.orders[int(volts[:, worst].argmax())]:g}; {over} level{'' if over == 1 else 's'} exceeded."
    )
    summary: dict[str, float | None] = {"worst_thd_pct": float(total[worst]), "sources": float(len(model.sources)),
                                        "orders": float(len(found)), "breaches": float(over)}  # fmt: skip
    more = [_phases(model, told), _conductors(model, told)] if per_phase else []
    who = _injections(model, told), _whose(model, told, found, place, name), _phasors(model, told, found, place)
    more += [coupled[0]] if coupled is not None else []
    tables = {t.name: t for t in (buses, branches, *more, banks, *who)}
    drawn_too = [int(at[list(buses["id"]).index(options.beside)])] if options.beside in buses["id"] else []
    places = [place, *(n for n in drawn_too if n != place)]
    figures = figures_of(model, options, told, found, places, _wire(model, options))
    quantities = [
        Quantity(
            "thd_pct", "Voltage distortion", "buses", "%", 2, "Root of the sum of squares of all orders", "growing"
        ),
        Quantity("thd_i_pct", "Current distortion", "branches", "%", 1, "Of the fundamental current there", "growing"),
        *(Quantity(f"order_{named(h)}_pct", f"Voltage of order {h:g}", "buses", "%", 2, "Of the fundamental", "growing")
          for h in told.orders),
        *(Quantity(f"order_{named(h)}_a", f"Current of order {h:g}", "branches", "A", 1, "At its from end", "growing")
          for h in told.orders),
    ]  # fmt: skip
    return Result(account, tables, summary, findings, statement, figures=figures, quantities=quantities)


def _wire(model: Model, options: DistortionOptions) -> int | None:
    """The wire that is drawn: of a branch its phase with the largest fundamental. Raises :class:`InvalidFields`."""
    if options.branch is None:
        return None
    rows = [n for n, e in enumerate(model.wires.element) if e == options.branch]
    if not rows:
        raise InvalidFields([FieldProblem("options", "branch", options.branch, "name a branch that carries current")])
    return max(rows, key=lambda n: float(model.wires.first[n]))


def _notes(model: Model, options: DistortionOptions) -> list[str]:
    unknown = [s for s in model.sources if any(not s.known(h) for h in s.orders)]
    how = {
        "law": "add by the summation law",
        "arithmetic": "add as plain numbers",
        "in_phase": "are taken as if their angles were 0",
    }[options.unknown]
    told = [f"{len(unknown)} of {len(model.sources)} sources have no known angles and {how}."] if unknown else []
    return model.left_out() + told


def _taken(options: DistortionOptions) -> list[str]:
    if options.detail == "per_phase":
        return ["Per phase with neutral and earth; voltages of phases are told against the neutral. Lines without geometry: what "
                "their conductors share grows with the order, their own resistance by its skin effect."]  # fmt: skip
    return [
        "Positive and negative sequence of a balanced network: what stands on one or two phases counts as balanced."
    ]


def _buses(model: Model, told: Told, per_phase: bool) -> tuple[Table, list[list[int]]]:
    """The table, and the places of each of its rows, without neutrals."""
    places = model.places
    groups: dict[str, list[int]] = {}
    for n, b in enumerate(places.bus):
        if told.phase[n] and told.first[n] > 0:
            groups.setdefault(b, []).append(n)
    ids, of_bus = list(groups), list(groups.values())
    first = [g[0] for g in of_bus]
    volts = np.array([told.volts[:, g].max(axis=1) for g in of_bus]).T
    worst = [max(g, key=lambda n: told.thd[n]) for g in of_bus]
    most = volts.argmax(axis=0)
    neutral = {b: n for n, b in enumerate(places.bus) if not told.phase[n]}
    columns = [
        Column("id", "Id", ids, fixed=True), Column("name", "Name", [model.network[b].name for b in ids], fixed=True),
        Column("nominal_kv", "Nominal", places.kv[first], "kV", 2, fixed=True),
        Column("fundamental_kv", "Fundamental", told.first[worst] * places.kv[first], "kV", 3,
               "Of the phase with the largest distortion, times √3" if per_phase else "Between phases"),
        Column("thd_pct", "Distortion", told.thd[worst], "%", 2, "Root of the sum of squares of all orders"),
        *([Column("phase", "Phase", [places.conductor[n] for n in worst], meaning="Where its distortion is largest")]
          if per_phase else []),
        Column("most_order", "Most", np.array([told.orders[k] for k in most]), None, 0, "Order of the largest voltage"),
        Column("rms_pu", "RMS", np.array([told.rms[g].max() for g in of_bus]), "p.u.", 4, "With all orders"),
        *([Column("neutral_pct", "Neutral", np.array([told.thd[neutral[b]] if b in neutral else np.nan for b in ids]), "%", 2,
                  "Harmonic voltage of the neutral to earth, of nominal phase voltage")] if per_phase else []),
        *(Column(f"order_{named(h)}_pct", f"Order {h:g}", v, "%", 3) for h, v in zip(told.orders, volts, strict=True)),
    ]  # fmt: skip
    return Table("buses", "Buses", columns), of_bus


def _phases(model: Model, told: Told) -> Table:
    """Voltages of every conductor of every bus."""
    places = model.places
    return Table("phases", "Phases", [
        Column("id", "Id", places.bus, fixed=True),
        Column("name", "Name", [model.network[b].name for b in places.bus], fixed=True),
        Column("conductor", "Conductor", places.conductor, fixed=True),
        Column("thd_pct", "Distortion", told.thd, "%", 2, "Root of the sum of squares of all orders"),
        Column("rms_pu", "RMS", told.rms, "p.u.", 4, "With all orders"),
        *(Column(f"order_{named(h)}_pct", f"Order {h:g}", v, "%", 3) for h, v in zip(told.orders, told.volts, strict=True)),
    ])  # fmt: skip


def _of_wires(model: Model, told: Told, rows: list[int], amps: Floats, first: Floats) -> list[Column]:
    """Figures of currents: magnitudes by order, (n_order, n), beside the fundamental, (n,)."""
    squares = (amps**2).sum(axis=0)
    h = np.array(told.orders, float)[:, None]
    hz = np.array(told.orders, float) * model.frequency_hz
    rated = model.wires.rated[rows]
    unit = [model.network[model.wires.element[n]].kind in ("transformer", "three_winding") for n in rows]
    base_hz = np.array([model.frequency_hz])
    with np.errstate(invalid="ignore", divide="ignore"):
        thd = np.where(first > 1e-6, 100 * np.sqrt(squares) / first, np.nan)
        k = (first**2 + (h**2 * amps**2).sum(axis=0)) / (first**2 + squares)
        tdd = np.where(rated > 0, 100 * np.sqrt(squares) / rated, np.nan)
    it = np.sqrt((first * tif(base_hz)[0]) ** 2 + ((amps * tif(hz)[:, None]) ** 2).sum(axis=0))
    heard = np.sqrt((first * psophometric(base_hz)[0]) ** 2 + ((amps * psophometric(hz)[:, None]) ** 2).sum(axis=0))
    return [
        Column("fundamental_a", "Fundamental", first, "A", 1, "At its from end"),
        Column("rms_a", "RMS", np.sqrt(first**2 + squares), "A", 1, "With all orders"),
        Column("thd_i_pct", "Distortion", thd, "%", 1, "Of the fundamental current"),
        Column("tdd_pct", "Demand distortion", tdd, "%", 1, "Of the rated current"),
        Column("k_factor", "K factor", np.where(unit, k, np.nan), None, 2,
               "Of transformers: eddy losses by the square of the order, over those of a clean current of the same size"),
        Column("carries_pct", "May carry", np.where(unit, _carries(k), np.nan), "%", 1,
               "Of transformers: share of rated current that keeps the losses of rated load, a tenth of which are eddy losses"),
        Column("it_ka", "I·T", it / 1e3, "kA", 1, "Telephone disturbance: currents times TIF weights (IEEE 519)"),
        Column("psophometric_a", "Psophometric", heard, "A", 3, "The current at 800 Hz that would disturb as much (ITU-T O.41)"),
        *(Column(f"order_{named(o)}_a", f"Order {o:g}", a, "A", 2) for o, a in zip(told.orders, amps, strict=True)),
    ]  # fmt: skip


_EDDY = 0.1  # of the copper loss of a transformer at rated load: IEEE C57.110, where nothing is measured


def _carries(k: Floats) -> Floats:
    """Per cent of rated current: IEEE C57.110, equation of the permissible load current."""
    return np.asarray(100 * np.sqrt((1 + _EDDY) / (1 + k * _EDDY)))


def _branches(model: Model, told: Told) -> Table:
    """Branches by their most loaded phase."""
    wires = model.wires
    groups: dict[tuple[str, str], list[int]] = {}
    for n, key in enumerate(zip(wires.element, wires.bus, strict=True)):
        if wires.conductor[n] != "N":
            groups.setdefault(key, []).append(n)
    rows = [g[0] for g in groups.values()]
    ids = [k[0] for k in groups]
    amps = np.array([told.amps[:, g].max(axis=1) for g in groups.values()]).reshape(len(rows), len(told.orders)).T
    first = np.array([wires.first[g].max() for g in groups.values()])
    neutral: dict[tuple[str, str], float] = {}
    for n, key in enumerate(zip(wires.element, wires.bus, strict=True)):
        if wires.conductor[n] == "N":
            neutral[key] = float(np.sqrt(wires.first[n] ** 2 + (told.amps[:, n] ** 2).sum()))
    columns = _of_wires(model, told, rows, amps, first)
    if neutral:
        columns.insert(2, Column("neutral_a", "Neutral", np.array([neutral.get(k, np.nan) for k in groups]), "A", 1,
                                 "Current of its neutral with all orders"))  # fmt: skip
    return Table("branches", "Branches", [
        Column("id", "Id", ids, fixed=True), Column("name", "Name", [model.network[i].name for i in ids], fixed=True),
        *columns,
    ])  # fmt: skip


def _conductors(model: Model, told: Told) -> Table:
    wires = model.wires
    return Table("conductors", "Conductors", [
        Column("id", "Id", wires.element, fixed=True),
        Column("name", "Name", [model.network[i].name for i in wires.element], fixed=True),
        Column("conductor", "Conductor", wires.conductor, fixed=True),
        *_of_wires(model, told, list(range(len(wires.element))), told.amps, wires.first),
    ])  # fmt: skip


def _injections(model: Model, told: Told) -> Table:
    angles = ["known" if all(s.known(h) for h in s.orders) else "not known" for s in model.sources]
    shares = [[s.orders.get(h, (0.0, 0.0, True))[0] for s in model.sources] for h in told.orders]
    return Table("injections", "What injects", [
        Column("id", "Id", [s.element for s in model.sources], fixed=True),
        Column("name", "Name", [model.network[s.element].name for s in model.sources], fixed=True),
        Column("fundamental_a", "Fundamental", model.first_a, "A", 1, "Of its largest phase"),
        Column("angles", "Angles", angles, fixed=True),
        *(Column(f"order_{named(h)}_a", f"Order {h:g}", np.array(s) * model.first_a, "A", 2)
          for h, s in zip(told.orders, shares, strict=True)),
    ])  # fmt: skip


def _whose(model: Model, told: Told, found: list[Order], place: int, name: str) -> Table:
    """What each source alone makes at one place, and how much of the total lies in its direction."""
    injecting, base = model.sources, float(told.base[place])
    parts = np.array([model.parts(o.order, place) for o in found])
    alone = 100 * np.abs(parts) / base
    total = np.sqrt((alone**2).sum(axis=0))
    order = np.argsort(-total, kind="stable")
    # Of what has known angles: the share of the phasor sum that points its way.
    known = np.array([[s.known(o.order) for s in injecting] for o in found])
    sums = np.where(known, parts, 0).sum(axis=1)
    with np.errstate(invalid="ignore", divide="ignore"):
        along = np.where(known, 100 * (parts * np.conj(sums)[:, None]).real / (np.abs(sums) ** 2)[:, None], np.nan)
    most = alone.argmax(axis=0)
    picked = along[most, np.arange(len(injecting))]
    return Table("contributions", f"Whose at {name}", [
        Column("id", "Id", [injecting[k].element for k in order], fixed=True),
        Column("name", "Name", [model.network[injecting[k].element].name for k in order], fixed=True),
        Column("alone_pct", "Alone", total[order], "%", 3, f"Distortion it alone would make at {name}"),
        Column("most_order", "Most", np.array([found[k].order for k in most])[order], None, 0, "Order of its largest voltage"),
        Column("along_pct", "Of the sum", picked[order], "%", 1,
               "Of that order's phasor sum of known angles: its projection on it"),
        *(Column(f"order_{named(o.order)}_pct", f"Order {o.order:g}", a[order], "%", 3)
          for o, a in zip(found, alone, strict=True)),
    ])  # fmt: skip


def _phasors(model: Model, told: Told, found: list[Order], place: int) -> Table:
    """Orders at the bus drawn as phasors, against the zero of its fundamental."""
    first = complex(model.places.first[place])
    turned = np.array([o.phasor[place] * np.exp(-1j * o.order * np.angle(first)) for o in found])
    size = 100 * np.abs(turned) / told.base[place]
    return Table("phasors", f"Phasors at {called(model, place)}", [
        Column("id", "Id", [model.places.bus[place]] * len(found), fixed=True),
        Column("order", "Order", np.array(told.orders), None, 1, fixed=True),
        Column("voltage_pct", "Voltage", told.volts[:, place], "%", 3),
        Column("known_pct", "Of known angles", size, "%", 3, "The phasor sum of those sources"),
        Column("angle_deg", "Angle", np.where(size > 1e-9, np.degrees(np.angle(turned)), np.nan), "°", 1,
               "Against the zero of the fundamental"),
    ])  # fmt: skip


__all__ = ["run_distortion"]
