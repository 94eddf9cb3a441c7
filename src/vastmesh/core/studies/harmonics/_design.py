"""A filter at a bus: from its purpose to its name plate, parts and ratings, and what it does under every condition.

Size: from the power factor of what flows into the bus to the one wanted, Q = P (tan φ - tan φ'). Everything it does is worked out
anew with the filter in the network: load flow, distortion, stress. A band says what tolerance, temperature, ageing and the
network's frequency do to its tuning: all capacitances and reactors at the same end of it together.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from math import acos, sqrt, tan
from typing import Any

import numpy as np

from ...catalogue import TYPICAL_QUALITY, FilterCircuit
from ...electrical.arrays import Complexes, Floats
from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...network import Add, Bus, Change, Condition, Filter, Namer, Network, Remove, SchemeChange, Shunt
from ...results import Account, Axis, Bound, Column, Figure, Finding, Result, Series, Table
from ...results.state import LiveLoadFlow
from ...severity import Severity
from ..base import Inputs, Progress
from ._distortion import run_distortion
from ._grid import sequence_of
from ._limits import Level, level_of, named, order_in
from ._options import DesignOptions, DistortionOptions, SearchOptions
from ._scan import assumptions, grid_of

KINDS = {
    "single": "single-tuned",
    "double": "double-tuned",
    "high_pass": "high-pass",
    "c_type": "C-type",
    "detuned": "detuned",
}
_LEAST_MVAR = 1e-3


@dataclass(frozen=True)
class Case:
    """One condition: what it is called, and the network under it with something in it or not."""

    name: str
    inputs: Inputs


def cases(inputs: Inputs, over: str) -> list[Case]:
    """The condition in use, or all of them."""
    if over == "present":
        return [Case(inputs.under.name, inputs)]
    every = inputs.network.of(Condition) or [inputs.under]
    return [Case(c.name, replace(inputs, condition=c)) for c in every]


def with_changes(inputs: Inputs, changes: list[Change]) -> Inputs:
    """The same with changes; where they alter the condition in use, with what it has become."""
    network = inputs.network.copy()
    network.apply(changes)
    condition = inputs.condition
    if condition is not None:
        was, now = inputs.network.items.get(condition.id), network.items.get(condition.id)
        if isinstance(now, Condition) and now != was:
            condition = now
    return replace(inputs, network=network, condition=condition)


def run_design(inputs: Inputs, options: DesignOptions, progress: Progress) -> Result:
    """Raises :class:`InvalidFields` for a bus or bank that is not there, a bus without supply, or a size of nothing."""
    bus = _bus(inputs.network, options.bus)
    gone = taken_out(inputs.network, options.instead_of, options.bus)
    bare = with_changes(inputs, gone)
    before = cases(inputs, options.over)
    progress(0.02, "load flow")
    mvar, how = _size(inputs, options, gone)
    name = Namer(bare.network).plain(f"Filter {bus.name}")
    item = _item(name, options, mvar)
    made: list[Change] = [*gone, Add(item=item)]
    after = cases(with_changes(inputs, made), options.over)
    e = after[0].inputs.network[name]
    assert isinstance(e, Filter)
    kv, hz = bus.nominal_kv or 1.0, inputs.network.settings.frequency_hz
    asked = distortion_options(options, options.bus)
    found: list[tuple[str, Result, Result]] = []
    for n, (b, a) in enumerate(zip(before, after, strict=True)):
        progress(0.05 + 0.6 * n / len(before), f"with and without it, {b.name}")
        found.append((b.name, run_distortion(b.inputs, asked, quiet), run_distortion(a.inputs, asked, quiet)))
    progress(0.7, "its band")
    band = _band(after, e, options, kv, hz)
    progress(0.8, "impedance with and without it")
    figures = [_scan_figure(before, after, options, hz), _spectrum_figure(inputs.network, found, options, bus)]
    return _published(inputs, options, e, bus, kv, hz, how, made, found, band, figures)


def quiet(share: float, words: str) -> None:
    """Progress of what is part of something else."""


def _bus(network: Network, ident: str) -> Bus:
    item = network.items.get(ident)
    if not isinstance(item, Bus):
        raise InvalidFields([FieldProblem("options", "bus", ident, "name a bus of this network")])
    if not item.nominal_kv:
        raise InvalidFields([FieldProblem("options", "bus", ident, "give the bus a nominal voltage first")])
    return item


def taken_out(network: Network, ident: str | None, bus: str) -> list[Change]:
    """What takes a bank out. Raises :class:`InvalidFields` for one that is not there, or stands elsewhere."""
    if ident is None:
        return []
    bank = network.items.get(ident)
    if not isinstance(bank, Shunt) or bank.bus != bus:
        raise InvalidFields(
            [FieldProblem("options", "instead_of", ident, "name a bank at this bus, or leave it blank")]
        )
    return [Remove(id=ident)]


def distortion_options(options: DesignOptions | SearchOptions, bus: str) -> DistortionOptions:
    shared = {f: getattr(options, f) for f in DistortionOptions.model_fields if f in type(options).model_fields}
    return DistortionOptions(**{**shared, "bus": bus, "over": "present"})


def into_bus(inputs: Inputs, bus: str) -> complex | None:
    """Power in MVA of the branch that brings a bus most of it; None without a solution or a supply."""
    network = inputs.network.under(inputs.under)
    result = LiveLoadFlow(network).solve(inputs.under)
    if not result.account.converged:
        return None
    largest = 0j
    branches = result.tables["branches"]
    for n, ends in enumerate(zip(branches["from_bus"], branches["to_bus"], strict=True)):
        for end, at in zip(("from", "to"), ends, strict=True):
            if at == bus:
                s = complex(branches[f"{end}_active_power_mw"][n], branches[f"{end}_reactive_power_mvar"][n])
                if np.isfinite(s.real) and s.real < largest.real:
                    largest = s
    return -largest if largest else None


def _size(inputs: Inputs, options: DesignOptions, gone: list[Change]) -> tuple[float, list[dict[str, Any]]]:
    """Mvar of the filter, and the power factor of every condition as it is without what is taken out."""
    rows: list[dict[str, Any]] = []
    for case in cases(with_changes(inputs, gone), options.over):
        s = into_bus(case.inputs, options.bus)
        if s is None:
            continue
        wanted = s.real * tan(acos(options.power_factor))
        rows.append({"name": case.name, "s": s, "pf": s.real / abs(s), "mvar": max(s.imag - wanted, 0.0)})
    if options.size == "entered":
        return float(options.mvar or 0.0), rows
    if not rows:
        text = "nothing flows into this bus under any condition; enter the power instead"
        raise InvalidFields([FieldProblem("options", "size", options.size, text)])
    mvar = max(r["mvar"] for r in rows)
    if mvar < _LEAST_MVAR:
        text = f"the power factor is {min(r['pf'] for r in rows):.3f} or better already; enter the power instead"
        raise InvalidFields([FieldProblem("options", "power_factor", options.power_factor, text)])
    return mvar, rows


def _item(name: str, options: DesignOptions, mvar: float) -> dict[str, Any]:
    below = 1 - options.below_pct / 100
    item: dict[str, Any] = {
        "kind": "filter", "id": name, "bus": options.bus, "design": options.design, "step_mvar": round_to(mvar / options.steps),
        "tuned_order": round_to(options.order * below), "steps": options.steps, "steps_on": options.steps,
    }  # fmt: skip
    if options.design == "double":
        item["second_order"] = round_to(options.second * below)
    if options.quality is not None:
        item["quality"] = options.quality
    return item


def round_to(value: float, digits: int = 4) -> float:
    """To so many significant digits, as a planner would write it."""
    return float(f"{value:.{digits}g}")


@dataclass(frozen=True)
class Corner:
    """One end of the band: what it is called, the tuned order, and the worst under every condition."""

    label: str
    order: float
    thd_pct: float
    order_pct: float
    most_of_level: float


def _band(after: list[Case], e: Filter, options: DesignOptions, kv: float, hz: float) -> list[Corner]:
    c, ind, f = options.capacitance_pct / 100, options.inductance_pct / 100, options.frequency_pct / 100
    circuit, level = e.circuit(kv, hz), level_of(after[0].inputs.network, kv, options.limits)
    # A frequency that is higher by so much makes reactances differ as much as parts that are larger by so much.
    ends = [("as designed", 1.0, 1.0), ("all high", (1 + c) * (1 + f), (1 + ind) * (1 + f)),
            ("all low", (1 - c) * (1 - f), (1 - ind) * (1 - f))]  # fmt: skip
    found = []
    for label, more_c, more_l in ends:
        varied = circuit.varied(more_c, more_l)
        worst = (0.0, 0.0, 0.0)
        for case in after:
            network = case.inputs.network.copy()
            network.apply([Remove(id=e.id), Add(item=by_parts(e, varied, hz))])
            result = run_distortion(
                replace(case.inputs, network=network), distortion_options(options, options.bus), quiet
            )
            worst = max(worst, _at_bus(result, options, level))
        tuned = circuit.xc / (circuit.xl or circuit.xb)
        n = sqrt(tuned + (1 if e.design == "c_type" else 0)) / sqrt(more_c * more_l)
        found.append(Corner(label, n, worst[1], worst[2], worst[0]))
    return found


def by_parts(e: Filter, circuit: FilterCircuit, hz: float) -> dict[str, Any]:
    """The same filter by its parts."""
    plate = ("step_mvar", "tuned_order", "second_order", "reactor_pct", "quality")
    kept = {k: v for k, v in e.model_dump(exclude_none=True).items() if k not in plate}
    return {**kept, **circuit.parts(hz)}


def _at_bus(result: Result, options: DesignOptions, level: Level) -> tuple[float, float, float]:
    """At the bus: the largest share of its level, total distortion, and that of the harmonic nearest to the one meant, %."""
    table = result.tables.get("buses")
    if table is None or options.bus not in table["id"]:
        return 0.0, 0.0, 0.0
    n = list(table["id"]).index(options.bus)
    shares = [float(table["thd_pct"][n]) / level.total_pct]
    mine = 0.0
    for h, name in orders_of(table):
        value = float(table[name][n])
        shares.append(value / level.limit_pct(h))
        if abs(h - options.order) < 0.5:
            mine = value
    return max(shares), float(table["thd_pct"][n]), mine


def orders_of(table: Table) -> list[tuple[float, str]]:
    """Orders that a table has columns of, with their names."""
    names = [c.name for c in table.columns if c.name.startswith("order_")]
    return [(order_in(n), n) for n in names]


def _scan_figure(before: list[Case], after: list[Case], options: DesignOptions, hz: float) -> Figure:
    """Impedance at the bus with and without it, under every condition."""
    most = max(options.order, options.second if options.design == "double" else 0) * 1.8
    orders = np.linspace(1.0, max(most, 9.0), 400)
    series = []
    for words, of in (("without", before), ("with", after)):
        for case in of:
            z = seen(case.inputs, options, orders)
            if z is not None:
                series.append(
                    Series(
                        f"{words} {case.name}",
                        f"{case.name}{', with' if words == 'with' else ''}",
                        orders * hz,
                        np.abs(z),
                    )
                )
    bounds = [Bound(f"{options.order:g}", options.order * hz, "x")]
    return Figure("scan", "Impedance", Axis("Frequency", "Hz", 0), Axis("Impedance", "Ω", 2), series, bounds)


def seen(inputs: Inputs, options: DesignOptions | SearchOptions, orders: Floats) -> Complexes | None:
    """Impedance at the bus at orders, Ω."""
    grid = grid_of(inputs, options)
    if grid is None or grid.row(options.bus) < 0:
        return None
    row, found = grid.row(options.bus), []
    ohm = float(grid.arrays.bus_kv[grid.arrays.bus_id.index(options.bus)]) ** 2 / grid.arrays.base_mva
    for h in orders:
        grid.factorise(float(h), sequence_of(float(h)) or 1)
        found.append(grid.unit(row)[row] * ohm)
    grid.close()
    return np.array(found)


def _spectrum_figure(
    network: Network, found: list[tuple[str, Result, Result]], options: DesignOptions, bus: Bus
) -> Figure:
    """Worst of all conditions, order by order, with and without it."""
    orders = sorted(
        {h for _, b, a in found for r in (b, a) if "buses" in r.tables for h, _ in orders_of(r.tables["buses"])}
    )
    level = level_of(network, bus.nominal_kv or 1.0, options.limits)

    def worst(which: int) -> list[float]:
        values = []
        for h in orders:
            here = [0.0]
            for triple in found:
                result = triple[which]
                assert isinstance(result, Result)
                table = result.tables.get("buses")
                if (
                    table is not None
                    and options.bus in table["id"]
                    and f"order_{named(h)}_pct" in {c.name for c in table.columns}
                ):
                    here.append(float(table[f"order_{named(h)}_pct"][list(table["id"]).index(options.bus)]))
            values.append(max(here))
        return values

    x: list[Any] = [f"{h:g}" for h in orders]
    return Figure("spectrum", "Spectrum, worst of all", Axis("Order"), Axis("Voltage", "%", 2), [
        Series("before", "without it", x, worst(1), "bars"), Series("after", "with it", x, worst(2), "bars"),
        Series("limit", "level", x, [level.limit_pct(h) for h in orders], "levels"),
    ])  # fmt: skip


def _published(
    inputs: Inputs, options: DesignOptions, e: Filter, bus: Bus, kv: float, hz: float, how: list[dict[str, Any]],
    made: list[Change], found: list[tuple[str, Result, Result]], band: list[Corner], figures: list[Figure],
) -> Result:  # fmt: skip
    names, level = [n for n, _, _ in found], level_of(inputs.network, kv, options.limits)
    values = {
        w: [_at_bus(r, options, level) for _, *both in found for r in [both[k]]] for k, w in enumerate(("b", "a"))
    }
    pf = {r["name"]: r for r in how}
    stress = [_stress(a, e.id) for _, _, a in found]
    need_kv = _needed_kv(stress, e, kv, hz)
    after_pf = [_factor_with(pf[n], e, kv, hz) if n in pf else float("nan") for n in names]
    sides = Table("conditions", "Under every condition", [
        Column("id", "Id", [options.bus] * len(names), fixed=True), Column("condition", "Condition", names, fixed=True),
        Column("thd_before_pct", "Distortion without", np.array([v[1] for v in values["b"]]), "%", 2),
        Column("thd_after_pct", "Distortion with", np.array([v[1] for v in values["a"]]), "%", 2),
        Column("order_before_pct", f"Order {options.order:g} without", np.array([v[2] for v in values["b"]]), "%", 2),
        Column("order_after_pct", f"Order {options.order:g} with", np.array([v[2] for v in values["a"]]), "%", 2),
        Column("level_before_pct", "Of its level without", 100 * np.array([v[0] for v in values["b"]]), "%", 0,
               "The order, or the total, that uses most of its level"),
        Column("level_after_pct", "Of its level with", 100 * np.array([v[0] for v in values["a"]]), "%", 0),
        Column("factor_before", "cos φ without", np.array([pf[n]["pf"] if n in pf else np.nan for n in names]), None, 3,
               "Of what flows into the bus"),
        Column("factor_after", "cos φ with", np.array(after_pf), None, 3, "All its steps on, at the same voltage"),
        Column("capacitor_pct", "Capacitor voltage", np.array([s[0] for s in stress]), "%", 0, "With all orders, of rated"),
        Column("current_pct", "Capacitor current", np.array([s[1] for s in stress]), "%", 0, "With all orders, of rated"),
        Column("rms_a", "Reactor current", np.array([s[2] for s in stress]), "A", 1, "With all orders"),
    ])  # fmt: skip
    ends = Table("band", "Its band", [
        Column("id", "Id", [options.bus] * len(band), fixed=True), Column("end", "Parts", [c.label for c in band], fixed=True),
        Column("order", "Tuned order", np.array([c.order for c in band]), None, 2),
        Column("thd_pct", "Distortion", np.array([c.thd_pct for c in band]), "%", 2, "Worst of all conditions"),
        Column("order_pct", f"Order {options.order:g}", np.array([c.order_pct for c in band]), "%", 2),
        Column("level_pct", "Of its level", 100 * np.array([c.most_of_level for c in band]), "%", 0),
    ])  # fmt: skip
    plate, resonance = _plate(e, options, kv, hz, need_kv), _new_resonance(figures[0], e.order() * hz)
    findings = _findings(options, e, found, band, values["a"])
    before, after = (max(v[1] for v in values[k]) for k in ("b", "a"))
    said = f"{e.steps} × {e.step_mvar:g}" if e.steps > 1 else f"{e.step_mvar:g}"
    statement = (
        f"A {KINDS[e.design]} filter of {said} Mvar tuned to order {e.tuned_order:g} at {bus.name}: distortion "
        f"{before:.2f} → {after:.2f} % at worst"
        + (f"; with it a parallel resonance at order {resonance / hz:.2f}." if resonance else ".")
    )
    account = Account(Ending.CONVERGED, "Filter design", len(found), assumed=[
        *assumptions(options), "Tuned kinds have a quality of 40, others of 2, unless it is entered.",
        "The band: all capacitances, all inductances and the frequency at the same end of it together."])  # fmt: skip
    summary: dict[str, float | None] = {
        "mvar": float((e.step_mvar or 0.0) * e.steps), "tuned_order": e.tuned_order, "thd_before_pct": before,
        "thd_after_pct": after, "resonance_hz": resonance, "capacitor_kv": need_kv,
    }  # fmt: skip
    rated = {"capacitor_kv": round_to(need_kv, 3)}
    offered = [
        SchemeChange(change=Add(item={**c.item, **rated}) if isinstance(c, Add) else c,
                     label=f"Add {e.name}" if isinstance(c, Add) else f"Take {inputs.network[c.id].name} out",
                     gain=f"distortion {before:.2f} → {after:.2f} %" if isinstance(c, Add) else "").model_dump(mode="json")
        for c in made if isinstance(c, Add | Remove)
    ]  # fmt: skip
    tables = {t.name: t for t in (plate, sides, ends)}
    return Result(account, tables, summary, findings, statement, offered, figures)


def _stress(result: Result, ident: str) -> tuple[float, float, float]:
    table = result.tables.get("capacitors")
    if table is None or ident not in table["id"]:
        return float("nan"), float("nan"), float("nan")
    n = list(table["id"]).index(ident)
    return float(table["voltage_pct"][n]), float(table["current_pct"][n]), float(table["rms_a"][n])


def _needed_kv(stress: list[tuple[float, float, float]], e: Filter, kv: float, hz: float) -> float:
    """Voltage with all orders at worst, kV between phases."""
    return max([s[0] for s in stress if s[0] == s[0]] or [100.0]) / 100 * e.capacitor_voltage_kv(kv, hz)


def _factor_with(row: dict[str, Any], e: Filter, kv: float, hz: float) -> float:
    s = row["s"] - 1j * kv**2 * (e.steps / complex(e.circuit(kv, hz).impedance(1.0))).imag
    return float(s.real / abs(s))


def _new_resonance(scan: Figure, tuned_hz: float) -> float | None:
    """The highest peak below the tuned frequency with the filter, Hz."""
    best: tuple[float, float] | None = None
    for s in scan.series:
        if not s.name.startswith("with "):
            continue
        x, y = np.asarray(s.x, float), np.asarray(s.y, float)
        inner = np.flatnonzero((y[1:-1] > y[:-2]) & (y[1:-1] >= y[2:]) & (x[1:-1] < tuned_hz)) + 1
        for n in inner.tolist():
            if best is None or y[n] > best[1]:
                best = float(x[n]), float(y[n])
    return best[0] if best else None


def _plate(e: Filter, options: DesignOptions, kv: float, hz: float, need_kv: float) -> Table:
    """What one would order: name plate, parts, ratings."""
    c = e.circuit(kv, hz)
    p = c.parts(hz)
    y = 1 / complex(c.impedance(1.0))
    rated = need_kv * (1 + options.margin_pct / 100)
    size = rated**2 / c.xc
    rows = [
        ("Power of one step", e.step_mvar, "Mvar"), ("Steps", float(e.steps), ""), ("Tuned order", e.order(), ""),
        *([("Second order", e.second_order or 0.0, "")] if e.design == "double" else []),
        ("Quality", options.quality if options.quality is not None else TYPICAL_QUALITY[e.design], ""),
        ("Capacitance", p["c_uf"], "µF"), ("Inductance", p["l_mh"], "mH"),
        ("Resistance", p["r_ohm"], "Ω"),
        *([("Second capacitance", p["c2_uf"], "µF")] if "c2_uf" in p else []),
        *([("Second inductance", p["l2_mh"], "mH")] if "l2_mh" in p else []),
        ("Voltage of the capacitors, all orders", need_kv, "kV"), ("Rated voltage of the capacitors, with margin", rated, "kV"),
        ("Rated power of the capacitors", size, "Mvar"), ("Losses at nominal voltage", 1e3 * kv**2 * y.real, "kW"),
    ]  # fmt: skip
    return Table("plate", "What to order, one step", [
        Column("id", "Id", [options.bus] * len(rows), fixed=True), Column("what", "What", [r[0] for r in rows], fixed=True),
        Column("value", "Value", np.array([float(r[1] or 0.0) for r in rows]), None, 4),
        Column("unit", "Unit", [r[2] for r in rows], fixed=True),
    ])  # fmt: skip


def _findings(
    options: DesignOptions, e: Filter, found: list[tuple[str, Result, Result]], band: list[Corner],
    after: list[tuple[float, float, float]],
) -> list[Finding]:  # fmt: skip
    made: list[Finding] = []
    seen_already: set[tuple[str, str]] = set()
    for name, _, result in found:
        for f in result.findings:
            if (f.element, f.quantity) not in seen_already and f.element != e.id:
                seen_already.add((f.element, f.quantity))
                made.append(replace(f, text=f"{f.text}; under {name}, with the filter"))
    worst = max(band, key=lambda c: c.most_of_level)
    if worst.most_of_level > 1 >= max(v[0] for v in after):
        text = (
            f"with {worst.label.replace('all', 'all parts')} its bus is at {100 * worst.most_of_level:.0f} % of a level"
        )
        made.append(Finding(options.bus, "filter", "level_pct", 100 * worst.most_of_level, "%", 100.0, "Level",
                            Severity.WATCH, "above", worst.most_of_level - 1, text))  # fmt: skip
    return made
