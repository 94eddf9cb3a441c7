"""How the figures of a load flow per phase come about: sequences, unbalance, currents, drops, the matrix of a line.

Every working is a ledger: shown in words and written as a sheet that recomputes itself, with the load flow's figures beside.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from math import pi, sqrt
from typing import Any

from ...electrical.arrays import Complexes
from ...electrical.conductor import APART_M, LineKey, conductor_matrix, mutual_ohm_per_km, own_resistance
from ...electrical.line_constants import depth_of_return_m
from ...network import Bus, Line, LineGeometry, LineMatrix, Network, Transformer
from ...workings import Ledger, Matrix, Working

Row = Mapping[str, Any]
_FLOW = "load flow per phase"
_NAMES = {"A": "phase A", "B": "phase B", "C": "phase C", "N": "neutral"}


def explain_phases(network: Network, tables: Mapping[str, Any], ident: str) -> list[Working]:
    """Worked lines behind the results per phase of a bus, a branch or what hangs at one bus; empty where it is dead."""
    item = network[ident]
    for name, explain in (("buses", _bus), ("branches", _branch), ("injections", _injection)):
        row = _row(tables, name, ident)
        if row is not None and row["state"] == "live":
            found = list(explain(network, row, tables))
            return [*found, *_matrix(network, item), *_beside(network, item)] if isinstance(item, Line) else found
    return []


def _row(tables: Mapping[str, Any], name: str, ident: str) -> Row | None:
    table = tables.get(name)
    return next((r for r in table.records() if r["id"] == ident), None) if table is not None else None


def _stem(conductor: str) -> str:
    return "neutral" if conductor == "N" else f"phase_{conductor.lower()}"


def _present(row: Row, size: str, angle: str, conductors: str = "ABC") -> list[str]:
    """Conductors whose size and angle a row knows."""
    return [c for c in conductors if None not in (row.get(f"{_stem(c)}_{size}"), row.get(f"{_stem(c)}_{angle}"))]


def _phasor(s: Ledger, name: str, label: str, size: float, angle: float, unit: str, source: str) -> None:
    """A phasor by size ``I``name and angle ``t``name as given lines, and its parts ``a``name and ``b``name."""
    s.given(f"I{name}", label, size, unit, source)
    s.given(f"t{name}", f"Angle of {label[0].lower()}{label[1:]}", angle, "°", source)
    s.line(f"a{name}", f"{label}, real part", f"I{name} * cos(radians(t{name}))", unit)
    s.line(f"b{name}", f"{label}, imaginary part", f"I{name} * sin(radians(t{name}))", unit)


def _sequences(s: Ledger, symbol: str, unit: str, solver: tuple[float | None, float | None, float | None]) -> None:
    """Positive, negative and zero sequence of three phasors whose parts are lines of the ledger (Fortescue)."""
    s.line("h", "Sine of 120°", "sqrt(3) / 2")
    for k, (word, sign) in (("1", ("Positive", 1)), ("2", ("Negative", -1))):
        plus, minus = ("+", "-") if sign > 0 else ("-", "+")
        s.line(f"a{k}", f"{word} sequence, real part", f"(aA - (aB + aC) / 2 {minus} h * (bB - bC)) / 3", unit,
               "a = 1∠120° (Fortescue)")  # fmt: skip
        s.line(f"b{k}", f"{word} sequence, imaginary part", f"(bA - (bB + bC) / 2 {plus} h * (aB - aC)) / 3", unit)
    s.line("a0", "Zero sequence, real part", "(aA + aB + aC) / 3", unit)
    s.line("b0", "Zero sequence, imaginary part", "(bA + bB + bC) / 3", unit)
    for k, word, value in zip("120", ("Positive", "Negative", "Zero"), solver, strict=True):
        s.line(f"{symbol}{k}", f"{word} sequence", f"sqrt(a{k}**2 + b{k}**2)", unit, solver=value)


def _base_v(bus: Bus) -> float:
    return (bus.nominal_kv or 0.0) * 1e3 / (2 if bus.split_phase else sqrt(3))


def _bus(network: Network, row: Row, _: Mapping[str, Any]) -> Iterator[Working]:
    bus = network[row["id"]]
    assert isinstance(bus, Bus)
    present = _present(row, "voltage_pu", "angle_deg")
    if not present:
        return
    s = Ledger("Voltages", "Phases to the neutral, or to earth where there is none.")
    s.given("Ub", "Base voltage, phase to neutral", _base_v(bus), "V", "nominal voltage")
    for c in present:
        s.given(f"u{c}", f"Voltage of phase {c}", row[f"{_stem(c)}_voltage_pu"], "p.u.", _FLOW)
        s.given(f"t{c}", f"Angle of phase {c}", row[f"{_stem(c)}_angle_deg"], "°", _FLOW)
        s.line(f"U{c}", f"Phase {c} to neutral", f"u{c} * Ub", "V")
    for one, two in ("AB", "BC", "CA"):
        if one in present and two in present:
            solver = row.get(f"line_{(one + two).lower()}_voltage_pu")
            s.line(f"U{one}{two}", f"{one} to {two}", f"sqrt(U{one}**2 + U{two}**2 - 2 * U{one} * U{two} * "
                   f"cos(radians(t{one} - t{two})))", "V", "law of cosines",
                   None if solver is None else solver * (bus.nominal_kv or 0.0) * 1e3)  # fmt: skip
    if row.get("neutral_voltage_v") is not None:
        s.given("UN", "Neutral to earth", row["neutral_voltage_v"], "V", _FLOW)
    yield s.working()
    if len(present) == 3:
        yield _unbalance(row)


def _unbalance(row: Row) -> Working:
    s = Ledger("Sequences and unbalance", "Of the voltages to neutral.")
    for c in "ABC":
        _phasor(s, c, f"Voltage {c}", row[f"{_stem(c)}_voltage_pu"], row[f"{_stem(c)}_angle_deg"], "p.u.", _FLOW)
    _sequences(s, "U", "p.u.", (row["positive_voltage_pu"], None, None))
    s.line("u2", "Negative over positive sequence", "100 * U2 / U1", "%", "IEC 61000-4-30", row["negative_voltage_pct"])
    s.line("u0", "Zero over positive sequence", "100 * U0 / U1", "%", solver=row["zero_voltage_pct"])
    for one, two in ("AB", "BC", "CA"):
        s.line(f"L{one}{two}", f"{one} to {two}, per unit of line to line",
               f"sqrt((a{one} - a{two})**2 + (b{one} - b{two})**2) / sqrt(3)", "p.u.")  # fmt: skip
    s.line("Lm", "Mean of the three", "(LAB + LBC + LCA) / 3", "p.u.")
    s.line("dL", "Greatest deviation of line to line, over the mean",
           "100 * max(abs(LAB - Lm), abs(LBC - Lm), abs(LCA - Lm)) / Lm", "%", solver=row["unbalance_line_pct"])  # fmt: skip
    s.line("Pm", "Mean of the phase voltages", "(IA + IB + IC) / 3", "p.u.")
    s.line("dP", "Greatest deviation of the phases, over the mean",
           "100 * max(abs(IA - Pm), abs(IB - Pm), abs(IC - Pm)) / Pm", "%", solver=row["unbalance_phase_pct"])  # fmt: skip
    return s.working()


def _branch(network: Network, row: Row, tables: Mapping[str, Any]) -> Iterator[Working]:
    item = network[row["id"]]
    present = _present(row, "current_a", "current_deg", "ABCN")
    if present:
        s = Ledger("Currents", "At the end with the larger current, towards the to end.")
        for c in present:
            current = row[f"{_stem(c)}_current_a"], row[f"{_stem(c)}_current_deg"]
            _phasor(s, c, f"Current {c}", *current, "A", _FLOW)
        for part in "ab":
            s.line(f"{part}E", f"Sum of all conductors, {'real' if part == 'a' else 'imaginary'} part",
                   " + ".join(f"{part}{c}" for c in present), "A")  # fmt: skip
        s.line("IE", "Through earth", "sqrt(aE**2 + bE**2)", "A", "what does not come back in the conductors",
               row["earth_current_a"])  # fmt: skip
        if all(c in present for c in "ABC"):
            _sequences(s, "J", "A", tuple(row[f"{w}_current_a"] for w in ("positive", "negative", "zero")))
        yield s.working()
        yield from _loading(network, item, row, [c for c in present if c != "N"])
    yield from _losses(network, item, row)
    if isinstance(item, Line):
        yield from _drop(network, item, row, tables, present)


def _loading(network: Network, item: Any, row: Row, present: list[str]) -> Iterator[Working]:
    if row["loading_pct"] is None or not present:
        return
    by_positive = network.settings.loading_criterion == "positive" and len(present) == 3
    s = Ledger("Loading", "Positive-sequence current" if by_positive else "Current of the phase loaded most")
    size = row["positive_current_a"] if by_positive else max(row[f"{_stem(c)}_current_a"] for c in present)
    s.given("I", "Current", size, "A", "positive sequence" if by_positive else f"phase {row['worst_phase']}")
    if isinstance(item, Transformer) and item.rated_mva:
        low = (row["to_current_a"] or 0.0) > (row["from_current_a"] or 0.0)
        s.given("S", "Rated power", item.rated_mva, "MVA", "data")
        s.given(
            "U", f"Rated voltage at {'LV' if low else 'HV'}", (item.lv_kv if low else item.hv_kv) or 0.0, "kV", "data"
        )
        s.line("Ir", "Rated current there", "S / (sqrt(3) * U) * 1000", "A")
    elif getattr(item, "rating_a", None):
        s.given("Ir1", "Rating of one circuit", item.rating_a, "A", "data")
        s.given("n", "Circuits", getattr(item, "parallel", 1), "", "data")
        s.line("Ir", "Rating", "Ir1 * n", "A")
    else:
        return
    s.line("L", "Loading", "100 * I / Ir", "%", "the other end may be loaded a little more", row["loading_pct"])
    yield s.working()


def _losses(network: Network, item: Any, row: Row) -> Iterator[Working]:
    parts = [(c, row.get(f"{_stem(c)}_loss_kw")) for c in "ABCN"]
    known = {c: v for c, v in parts if v is not None and (c in item.conductors or v)}
    if not known:
        return
    s = Ledger("Losses", "Each conductor in its own resistance; what is shared with earth and the others is the rest.")
    own: dict[str, float] = {}
    if isinstance(item, Line) and item.length_km:
        z, kept = _impedance(network, item)
        own = dict(zip(kept, (own_resistance(z) * item.length_km / item.parallel).tolist(), strict=True))
    for c, value in known.items():
        if c in own and row.get(f"{_stem(c)}_current_a") is not None:
            s.given(f"R{c}", f"Own resistance, {_NAMES[c]}", own[c], "Ω", "conductor matrix below")
            s.given(f"I{c}", f"Current, {_NAMES[c]}", row[f"{_stem(c)}_current_a"], "A", _FLOW)
            s.line(f"P{c}", f"Loss, {_NAMES[c]}", f"R{c} * I{c}**2 / 1000", "kW", solver=value)
        else:
            s.given(f"P{c}", f"Loss, {_NAMES[c]}", value, "kW", _FLOW)
    names = [f"P{c}" for c in known]
    if row.get("earth_loss_kw") is not None:
        s.given("PE", "Earth and what is shared", row["earth_loss_kw"], "kW", "rest")
        names.append("PE")
    s.line("P", "Together", " + ".join(names), "kW", "what goes in at both ends", 1e3 * row["active_loss_mw"])
    yield s.working()


def _drop(network: Network, e: Line, row: Row, tables: Mapping[str, Any], present: list[str]) -> Iterator[Working]:
    """The drop of the worst phase by the currents of all conductors, beside the difference of the voltages found."""
    ends = [_row(tables, "buses", b) for b in (e.from_bus, e.to_bus)]
    z, kept = _impedance(network, e)
    worst = row["worst_phase"]
    plain = not e.b_us_per_km and e.earthing_every_km is None and e.neutral == "kept" and e.length_km
    if not plain or worst not in kept or not all(c in present for c in kept) or None in ends:
        return
    s = Ledger(
        f"Drop along phase {worst}", "Voltage to earth: every conductor's current through its term of the matrix."
    )
    s.given("l", "Length", e.length_km or 0.0, "km", "data")
    s.given("n", "Circuits", e.parallel, "", "data")
    mine = kept.index(worst)
    for k, c in enumerate(kept):
        _phasor(s, c, f"Current {c}", row[f"{_stem(c)}_current_a"], row[f"{_stem(c)}_current_deg"], "A", _FLOW)
        s.given(f"r{c}", f"Resistance {worst}{c}", z[mine, k].real, "Ω/km", "conductor matrix below")
        s.given(f"x{c}", f"Reactance {worst}{c}", z[mine, k].imag, "Ω/km", "conductor matrix below")
    s.line("Da", "Drop, real part", f"({' + '.join(f'r{c} * a{c} - x{c} * b{c}' for c in kept)}) * l / n", "V")
    s.line("Db", "Drop, imaginary part", f"({' + '.join(f'r{c} * b{c} + x{c} * a{c}' for c in kept)}) * l / n", "V")
    s.line("D", "Drop", "sqrt(Da**2 + Db**2)", "V", "Z I")
    parts: list[list[str]] = []
    for k, (end, bus) in enumerate(zip(ends, (e.from_bus, e.to_bus), strict=True), 1):
        assert end is not None
        item = network[bus]
        assert isinstance(item, Bus)
        s.given(
            f"U{k}",
            f"Voltage {worst} to neutral, end {k}",
            end[f"{_stem(worst)}_voltage_pu"] * _base_v(item),
            "V",
            _FLOW,
        )
        s.given(f"d{k}", f"Angle of it, end {k}", end[f"{_stem(worst)}_angle_deg"], "°", _FLOW)
        terms = [f"U{k} * {{0}}(radians(d{k}))"]
        if end.get("neutral_voltage_v") and end.get("neutral_angle_deg") is not None:
            s.given(f"V{k}", f"Neutral to earth, end {k}", end["neutral_voltage_v"], "V", _FLOW)
            s.given(f"g{k}", f"Angle of it, end {k}", end["neutral_angle_deg"], "°", _FLOW)
            terms.append(f"V{k} * {{0}}(radians(g{k}))")
        parts.append(terms)
    for name, turn in (("Fa", "cos"), ("Fb", "sin")):
        one, two = (" + ".join(t.format(turn) for t in p) for p in parts)
        word = "real" if turn == "cos" else "imaginary"
        s.line(name, f"Difference of the voltages found, {word} part", f"{one} - ({two})", "V")
    s.line("F", "Difference of the voltages found", "sqrt(Fa**2 + Fb**2)", "V", "to be equal to the drop")
    yield s.working()


def _injection(network: Network, row: Row, tables: Mapping[str, Any]) -> Iterator[Working]:
    """Power and current by phase of a load, plant or shunt, and what is left for the neutral."""
    at, bus = _row(tables, "buses", row["bus"]), network[row["bus"]]
    if at is None or not isinstance(bus, Bus):
        return
    present = _present(row, "current_a", "current_deg")
    told = [c for c in present if row.get(f"{_stem(c)}_power_mw") is not None]
    if told:
        s = Ledger("Power and current by phase", "Against the neutral of its bus.")
        s.given("Ub", "Base voltage, phase to neutral", _base_v(bus), "V", "nominal voltage")
        for c in told:
            s.given(f"P{c}", f"Active power {c}", row[f"{_stem(c)}_power_mw"] * 1e3, "kW", _FLOW)
            s.given(f"Q{c}", f"Reactive power {c}", row[f"{_stem(c)}_power_mvar"] * 1e3, "kvar", _FLOW)
            s.given(f"u{c}", f"Voltage {c} to neutral", at[f"{_stem(c)}_voltage_pu"], "p.u.", f"{_FLOW}, {bus.name}")
            s.line(f"I{c}", f"Current {c}", f"sqrt(P{c}**2 + Q{c}**2) * 1000 / (u{c} * Ub)", "A",
                   solver=row[f"{_stem(c)}_current_a"])  # fmt: skip
        yield s.working()
    if row.get("neutral_current_a"):
        s = Ledger("What the neutral carries", "The conductors of a load add up to zero.")
        for c in present:
            _phasor(s, c, f"Current {c}", row[f"{_stem(c)}_current_a"], row[f"{_stem(c)}_current_deg"], "A", _FLOW)
        s.line("aN", "Sum, real part", " + ".join(f"a{c}" for c in present), "A")
        s.line("bN", "Sum, imaginary part", " + ".join(f"b{c}" for c in present), "A")
        s.line("IN", "Neutral", "sqrt(aN**2 + bN**2)", "A", "Kirchhoff", row["neutral_current_a"])
        yield s.working()


def _key(network: Network, e: Line) -> LineKey:
    matrix, geometry = network.items.get(e.matrix or ""), network.items.get(e.geometry or "")
    return LineKey.of(
        e, e.conductors, network.settings.frequency_hz, matrix if isinstance(matrix, LineMatrix) else None,
        geometry if isinstance(geometry, LineGeometry) else None,
    )  # fmt: skip


def _impedance(network: Network, e: Line) -> tuple[Complexes, str]:
    """Series impedance of a line over the conductors it keeps, Ω/km, and those conductors."""
    z, _ = conductor_matrix(_key(network, e))
    return z, e.conductors.replace("N", "") if e.neutral == "reduced" else e.conductors


def _matrix(network: Network, e: Line) -> Iterator[Working]:
    key, (z, kept) = _key(network, e), _impedance(network, e)
    origin = (
        f"as given by {network[e.matrix or ''].name}" if key.matrix is not None
        else f"geometry {network[e.geometry or ''].name}, Carson with earth return" if key.geometry is not None
        else "phase and neutral data, coupled at their mean spacing with earth return" if "N" in kept
        else "sequence data: own (Z0 + 2 Z1) / 3, mutual (Z0 − Z1) / 3, all phases alike"
    )  # fmt: skip
    rows = [[(float(v.real), float(v.imag)) for v in r] for r in z]
    yield Working("Conductor matrix", [], [Matrix("Series impedance per km", "Ω/km", tuple(kept), rows)], note=origin)


def _beside(network: Network, e: Line) -> Iterator[Working]:
    """Coupling with the line on the same towers, as entered on this line."""
    other = network.items.get(e.beside or "")
    if not isinstance(other, Line):
        return
    f = network.settings.frequency_hz
    s = Ledger(
        f"Coupling with {other.name}", "Zero-sequence mutual impedance, and a third of it between any two conductors."
    )
    z = mutual_ohm_per_km(e, f)
    s.given("f", "Frequency", f, "Hz", "settings")
    s.given("π", "Circumference over diameter", pi)
    if e.beside_x0_ohm_per_km is None:
        s.given("De", "Depth of the return in soil of 100 Ω·m", depth_of_return_m(f, 100.0), "m", "Carson")
        s.given("D", "Between the circuits", e.beside_m or APART_M, "m", "typical" if e.beside_m is None else "data")
        s.line("X", "Mutual reactance", "12 * π * f * 0.0001 * ln(De / D)", "Ω/km", "Carson", 3 * z.imag)
    else:
        s.given("X", "Mutual reactance", e.beside_x0_ohm_per_km, "Ω/km", "data")
    if e.beside_r0_ohm_per_km is None:
        s.line("R", "Mutual resistance", "3 * π**2 * f * 0.0001", "Ω/km", "Carson", 3 * z.real)
    else:
        s.given("R", "Mutual resistance", e.beside_r0_ohm_per_km, "Ω/km", "data")
    shorter = min(e.length_km or 0.0, other.length_km or 0.0)
    s.given("l", "Coupled length", min(e.beside_km or shorter, shorter), "km",
            "the shorter line" if e.beside_km is None else "data")  # fmt: skip
    s.given("w", "Direction", -1.0 if e.beside_way == "opposite" else 1.0, "", f"{e.beside_way} direction")
    s.line("r", "Between two conductors, resistance", "w * R * l / 3", "Ω")
    s.line("x", "Between two conductors, reactance", "w * X * l / 3", "Ω")
    yield s.working()
