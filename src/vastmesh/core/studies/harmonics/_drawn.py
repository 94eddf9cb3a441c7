"""Spectra and waveforms as plots: of buses and branches, side by side for several of them, or for several states."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ...electrical.arrays import Floats
from ...results import Axis, Bound, Figure, Result, Series, Table
from ._limits import Level, level_of, order_in
from ._models import Model, Order
from ._options import DistortionOptions
from ._pictured import in_time
from ._told import Told

_MOST_ROWS = 8


@dataclass(frozen=True)
class Row:
    """One row of bars: what it is called, per cent by order, and what 100 % are, V or A."""

    label: str
    pct: dict[float, float]
    whole: float


def figures_of(
    model: Model, options: DistortionOptions, told: Told, found: list[Order], places: list[int], wire: int | None
) -> list[Figure]:
    """Spectrum and waveform of the buses drawn, and of the current of a branch where one is asked for."""
    names = [called(model, n) for n in places]
    rows = [Row(w, dict(zip(told.orders, told.volts[:, n].tolist(), strict=True)), volts_of(model, told, options, n))
            for n, w in zip(places, names, strict=True)]  # fmt: skip
    level = level_of(model.network, float(model.places.kv[places[0]]), options.limits)
    waves = []
    for k, (n, w) in enumerate(zip(places, names, strict=True)):
        parts = [(o.order, complex(o.phasor[n])) for o in found]
        wave = _wave(model, complex(model.places.first[n]), parts)
        waves.append(Series(f"wave {n}" if k else "wave", f"{w}, orders with known angles", *wave))
    waves.append(Series("fundamental", "fundamental", *_wave(model, complex(model.places.first[places[0]]), [])))
    made = [
        voltage_spectrum(rows, options, model.frequency_hz, level),
        Figure("waveform", "Waveform", Axis("Time", "ms", 1), Axis("Voltage", "p.u.", 2), waves, [Bound("", 0.0)]),
    ]
    if wire is not None:
        name = model.network[model.wires.element[wire]].name
        whole = float(model.wires.first[wire])
        row = Row(name, {o.order: _share(float(o.amps[wire]), whole) for o in found}, whole)
        own = complex(model.wires.phasor[wire])
        flows = [(o.order, complex(o.flow[wire])) for o in found]
        made += [
            current_spectrum([row], options, model.frequency_hz),
            Figure("current_waveform", "Current waveform", Axis("Time", "ms", 1), Axis("Current", "A", 1), [
                Series("wave", f"{name}, orders with known angles", *_wave(model, own, flows)),
                Series("fundamental", "fundamental", *_wave(model, own, [])),
            ], [Bound("", 0.0)]),
        ]  # fmt: skip
    return made


def volts_of(model: Model, told: Told, options: DistortionOptions, place: int) -> float:
    """What 100 % are at a place, V: between phases, per phase to neutral."""
    volts = 1e3 * float(told.base[place] * model.places.kv[place])
    return volts / np.sqrt(3) if options.detail == "per_phase" else volts


def voltage_spectrum(
    rows: Sequence[Row], options: DistortionOptions, hz: float, level: Level, where: str = ""
) -> Figure:  # fmt: skip
    at = f" at {where}" if where else ""
    absolute = f"Voltage{at} {'to neutral' if options.detail == 'per_phase' else 'between phases'}"
    return _spectrum("spectrum", "Spectrum", (f"Voltage{at}", absolute), "V", rows, options, hz, level)


def current_spectrum(rows: Sequence[Row], options: DistortionOptions, hz: float) -> Figure:
    return _spectrum("current_spectrum", "Current spectrum", ("Current", "Current"), "A", rows, options, hz, None)


def _spectrum(
    name: str, label: str, words: tuple[str, str], unit: str, rows: Sequence[Row], options: DistortionOptions, hz: float,
    level: Level | None,
) -> Figure:  # fmt: skip
    percent, by_hz = options.shown == "percent", options.along == "hz"
    orders = sorted({h for r in rows for h in r.pct})
    at: list[Any] = [f"{h * hz if by_hz else h:g}" for h in orders]

    def size(r: Row, pct: float) -> float:
        return pct if percent else pct / 100 * r.whole

    across = Axis("Frequency", "Hz", 0, "order", hz) if by_hz else Axis("Order", linked="order")
    first = name.removesuffix("spectrum").removesuffix("_") or "voltage"
    series = [Series(f"{first} {n}" if n else first, r.label, at, [size(r, r.pct.get(h, 0.0)) for h in orders], "bars")
              for n, r in enumerate(rows)]  # fmt: skip
    if level is not None:
        series.append(Series("limit", "level", at, [size(rows[0], level.limit_pct(h)) for h in orders], "levels"))
    return Figure(name, label, across, Axis(words[0 if percent else 1], "%" if percent else unit, 2), series)


def side_by_side(
    found: Sequence[tuple[str, Result]],
    drawn: Sequence[tuple[str, str]],
    level: Level,
    options: DistortionOptions,
    hz: float,
) -> list[Figure]:
    """Spectra of several states in one plot each: of ``drawn`` buses, by id and name, and of a branch where one is asked for.
    At most so many rows of bars as can be told apart."""
    one = len(drawn) == 1  # then its name stands on the axis
    told = ((label if one else f"{name}, {label}", ident, r) for ident, name in drawn for label, r in found)
    rows = [row for words, ident, r in told if (row := _bus_row(r.tables["buses"], ident, words, options)) is not None]
    made = [voltage_spectrum(rows[:_MOST_ROWS], options, hz, level, drawn[0][1] if one else "")] if rows else []
    if options.branch is not None:
        flows = [r for label, result in found if (r := _branch_row(result.tables["branches"], options.branch, label))]
        made += [current_spectrum(flows[:_MOST_ROWS], options, hz)] if flows else []
    return made


def _bus_row(table: Table, ident: str, label: str, options: DistortionOptions) -> Row | None:
    if ident not in table["id"]:
        return None
    n = list(table["id"]).index(ident)
    kv = float(table["fundamental_kv" if options.relative_to == "fundamental" else "nominal_kv"][n])
    volts = 1e3 * kv / (np.sqrt(3) if options.detail == "per_phase" else 1.0)
    return Row(label, _by_order(table, n, "_pct"), volts)


def _branch_row(table: Table, ident: str, label: str) -> Row | None:
    if ident not in table["id"]:
        return None
    n = list(table["id"]).index(ident)
    whole = float(table["fundamental_a"][n])
    return Row(label, {h: _share(a, whole) for h, a in _by_order(table, n, "_a").items()}, whole)


def _by_order(table: Table, row: int, ending: str) -> dict[float, float]:
    return {order_in(c.name): float(c.values[row]) for c in table.columns
            if c.name.startswith("order_") and c.name.endswith(ending)}  # fmt: skip


def _share(part: float, whole: float) -> float:
    return 100 * part / whole if whole > 1e-9 else float("nan")


def called(model: Model, place: int) -> str:
    conductor = model.places.conductor[place]
    return model.network[model.places.bus[place]].name + (f" {conductor}" if conductor else "")


def _wave(model: Model, first: complex, parts: list[tuple[float, complex]]) -> tuple[Floats, Floats]:
    """Two cycles, ms and instantaneous values, from the zero of the fundamental; what has no known angle has no place in it."""
    turn = np.linspace(0, 4 * np.pi, 401)
    wave = np.sqrt(2) * abs(first) * np.sin(turn)
    for h, phasor in parts:
        u = phasor * np.exp(-1j * h * np.angle(first))
        wave += np.sqrt(2) * np.abs(u) * in_time(h, turn, float(np.angle(u)))
    return turn / (2 * np.pi * model.frequency_hz) * 1e3, wave
