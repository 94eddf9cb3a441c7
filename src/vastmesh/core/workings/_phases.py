"""How the figures of a load flow per phase come about: sequences, unbalance, currents, the matrix of a line."""

from __future__ import annotations

from cmath import phase, rect
from collections.abc import Iterator, Mapping
from math import degrees, pi, radians, sqrt
from typing import Any

from ..electrical.conductor import LineKey, conductor_matrix
from ..network import Bus, Electrode, Line, LineGeometry, LineMatrix, Network
from ._base import Matrix, Step, Working, explains
from ._base import figures as fig

Row = Mapping[str, Any]
_TURN = rect(1.0, 2 * pi / 3)


def explain_phases(network: Network, tables: Mapping[str, Any], ident: str) -> list[Working]:
    """Worked lines behind the results of a bus or branch per phase; empty where it is dead or of another kind."""
    item = network[ident]
    for name, explain in (("buses", _bus), ("branches", _branch), ("injections", _injection)):
        row = _row(tables, name, ident)
        if row is not None and row["state"] == "live":
            found = list(explain(network, row, tables))
            return [*found, *_matrix(network, item)] if isinstance(item, Line) else found
    return []


def _row(tables: Mapping[str, Any], name: str, ident: str) -> Row | None:
    table = tables.get(name)
    return next((r for r in table.records() if r["id"] == ident), None) if table is not None else None


def _polar(row: Row, stem: str, suffix: str, angle: str) -> list[tuple[str, complex]]:
    found = []
    for p in "abc":
        size, turn = row.get(f"phase_{p}_{suffix}"), row.get(f"phase_{p}_{angle}")
        if size is not None and turn is not None:
            found.append((f"{stem}{p.upper()}", rect(size, radians(turn))))
    return found


def _said(v: complex) -> str:
    return f"{fig(abs(v))}∠{degrees(phase(v)):.1f}°"


def _bus(network: Network, row: Row, _: Mapping[str, Any]) -> Iterator[Working]:
    item = network[row["id"]]
    assert isinstance(item, Bus)
    volts = _polar(row, "U", "voltage_pu", "angle_deg")
    if not volts:
        return
    base = (item.nominal_kv or 0.0) * 1e3 / (2 if item.split_phase else sqrt(3))
    steps = [
        Step(name, f"Phase {name[1]} to neutral", f"|{name}| · U_base", f"{fig(abs(v))} · {fig(base)}", abs(v) * base, "V",
             "load flow per phase; to earth where there is no neutral")
        for name, v in volts
    ]  # fmt: skip
    if row.get("neutral_voltage_v") is not None:
        steps.append(
            Step("UN", "Neutral to earth", "of the solution", "", row["neutral_voltage_v"], "V", "load flow per phase")
        )
    yield Working("Voltages", steps)
    if len(volts) < 3:
        return
    a, b, c = (v for _, v in volts)
    v0, v1, v2 = (a + b + c) / 3, (a + _TURN * b + _TURN**2 * c) / 3, (a + _TURN**2 * b + _TURN * c) / 3
    inputs = ", ".join(f"{n} {_said(v)}" for n, v in volts)
    between = [abs(x - y) / sqrt(3) for x, y in ((a, b), (b, c), (c, a))]
    mean, sizes = sum(between) / 3, [abs(x) for x in (a, b, c)]
    middle = sum(sizes) / 3
    yield Working("Sequences and unbalance", [
        Step("U1", "Positive sequence", "|UA + a UB + a² UC| / 3", inputs, abs(v1), "p.u.", "a = 1∠120° (Fortescue)"),
        Step("U2", "Negative sequence", "|UA + a² UB + a UC| / 3", inputs, abs(v2), "p.u.", "Fortescue"),
        Step("U0", "Zero sequence", "|UA + UB + UC| / 3", inputs, abs(v0), "p.u.", "Fortescue"),
        Step("u2", "Unbalance", "100 U2 / U1", f"100 · {fig(abs(v2))} / {fig(abs(v1))}", 100 * abs(v2) / abs(v1), "%",
             "IEC 61000-4-30"),
        Step("u0", "Zero over positive", "100 U0 / U1", f"100 · {fig(abs(v0))} / {fig(abs(v1))}", 100 * abs(v0) / abs(v1), "%"),
        Step("dL", "Line deviation", "100 max|U − mean| / mean", ", ".join(fig(v) for v in between),
             100 * max(abs(v - mean) for v in between) / mean, "%", "of the line-to-line voltages"),
        Step("dP", "Phase deviation", "100 max|U − mean| / mean", ", ".join(fig(v) for v in sizes),
             100 * max(abs(v - middle) for v in sizes) / middle, "%", "of the phase voltages"),
    ])  # fmt: skip


def _branch(network: Network, row: Row, _: Mapping[str, Any]) -> Iterator[Working]:
    currents = _polar(row, "I", "current_a", "current_deg")
    neutral = row.get("neutral_current_a")
    steps = [
        Step(n, f"Phase {n[1]}", "of the solution", _said(i), abs(i), "A", "load flow per phase") for n, i in currents
    ]
    if neutral:
        steps.append(Step("IN", "Neutral", "of the solution", "", neutral, "A", "load flow per phase"))
    if row.get("earth_current_a") is not None:
        steps.append(Step("IE", "Through earth", "|IA + IB + IC + IN|", "", row["earth_current_a"], "A",
                          "what does not come back in the conductors"))  # fmt: skip
    if steps:
        yield Working("Currents", steps)
    if row["loading_pct"] is not None and currents:
        worst = max(abs(i) for _, i in currents)
        given = getattr(network[row["id"]], "rating_a", None)
        inputs = f"100 · {fig(worst)} / {fig(given)}" if given else f"phase {row['worst_phase']}, against rated power"
        yield Working(
            "Loading", [Step("L", "Loading", "100 I / Ir", inputs, row["loading_pct"], "%", "at the end loaded more")]
        )
    losses = [(k, row.get(f"{k}_loss_kw")) for k in ("phase_a", "phase_b", "phase_c", "neutral", "earth")]
    known = [(k, v) for k, v in losses if v is not None]
    if known:
        parts = [Step(f"P{n}", k.replace("_", " ").capitalize(), "R |I|²" if k != "earth" else "rest", "", v, "kW")
                 for n, (k, v) in enumerate(known, 1)]  # fmt: skip
        total = sum(v for _, v in known)
        yield Working(
            "Losses", [*parts, Step("P", "Together", "sum", "", total, "kW", "equal to what goes in at both ends")]
        )


def _injection(network: Network, row: Row, tables: Mapping[str, Any]) -> Iterator[Working]:
    """Power and current of each phase of a load, plant or shunt, and what is left for the neutral."""
    at = _row(tables, "buses", row["bus"])
    bus = network[row["bus"]]
    if at is None or not isinstance(bus, Bus):
        return
    base = (bus.nominal_kv or 0.0) * 1e3 / (2 if bus.split_phase else sqrt(3))
    volts = dict(_polar(at, "U", "voltage_pu", "angle_deg"))
    steps, currents = [], _polar(row, "I", "current_a", "current_deg")
    for name, i in currents:
        p, q = (row.get(f"phase_{name[1].lower()}_power_{unit}") for unit in ("mw", "mvar"))
        u = volts.get(f"U{name[1]}")
        if p is None or q is None or u is None:
            continue
        size, volt = abs(complex(p, q)) * 1e3, abs(u) * base
        steps += [
            Step(f"S{name[1]}", f"Power of phase {name[1]}", "√(P² + Q²)", f"√({fig(p * 1e3)}² + {fig(q * 1e3)}²)", size, "kVA",
                 "against the neutral"),
            Step(f"U{name[1]}", f"Voltage of phase {name[1]}", f"|u{name[1]}| · U_base", f"{fig(abs(u))} · {fig(base)}",
                 volt, "V", "of the bus, to its neutral"),
            Step(name, f"Current of phase {name[1]}", f"S{name[1]} / U{name[1]}", f"{fig(size)} · 10³ / {fig(volt)}",
                 size * 1e3 / volt, "A", f"∠{degrees(phase(i)):.1f}°"),
        ]  # fmt: skip
    if steps:
        yield Working("Power and current of each phase", steps)
    if len(currents) > 1 or row.get("neutral_current_a"):
        rest = sum(i for _, i in currents)
        yield Working("What the neutral carries", [
            Step("IN", "Neutral", "|IA + IB + IC|", " + ".join(_said(i) for _, i in currents), abs(rest), "A",
                 "Kirchhoff: the conductors of a load add up to zero"),
        ])  # fmt: skip


def _matrix(network: Network, e: Line) -> Iterator[Working]:
    matrix, geometry = network.items.get(e.matrix or ""), network.items.get(e.geometry or "")
    matrix = matrix if isinstance(matrix, LineMatrix) else None
    geometry = geometry if isinstance(geometry, LineGeometry) else None
    key = LineKey.of(e, e.conductors, network.settings.frequency_hz, matrix, geometry)
    z, _ = conductor_matrix(key)
    kept = e.conductors.replace("N", "") if e.neutral == "reduced" else e.conductors
    origin = (
        f"as given by {matrix.name}" if matrix is not None
        else f"geometry {geometry.name}, Carson with earth return" if key.geometry is not None and geometry is not None
        else "phase and neutral data, coupled at their mean spacing with earth return" if "N" in kept
        else "sequence data: own (Z0 + 2 Z1) / 3, mutual (Z0 − Z1) / 3, all phases alike"
    )  # fmt: skip
    rows = [[(float(v.real), float(v.imag)) for v in r] for r in z]
    yield Working("Conductor matrix", [], [Matrix("Series impedance per km", "Ω/km", tuple(kept), rows)], note=origin)


@explains(Electrode)
def electrode(network: Network, e: Electrode) -> Iterator[Working]:
    """What a neutral at some volts drives into earth."""
    if e.resistance_ohm is None:
        return
    size = abs(complex(e.resistance_ohm, e.reactance_ohm))
    yield Working("Current into earth", [
        Step("Z", "Impedance", "√(R² + X²)", f"√({fig(e.resistance_ohm)}² + {fig(e.reactance_ohm)}²)", size, "Ω"),
        Step("I10", "At 10 V between neutral and earth", "10 / Z", f"10 / {fig(size)}", 10 / size, "A"),
    ])  # fmt: skip
