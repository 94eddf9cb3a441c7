"""How the distortion at an element follows, order by order, the way it is written by hand."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from ...network import Bus, Condition, Network
from ...results import Result, Table
from ...workings import Ledger, Working
from ..base import Inputs
from ._grid import Grid, sequence_of
from ._limits import named, order_in
from ._models import exponent, summed
from ._options import DistortionOptions
from ._scan import grid_of
from ._sources import HarmonicSource, sources

_TOLD = 0.02  # difference of two impedances from which its reason is sought


def explain_distortion(
    network: Network, result: Result, condition: Condition, ident: str, options: Mapping[str, Any]
) -> list[Working]:
    """Workings of a bus or a branch; none where the result has nothing of it."""
    item = network[ident]
    table = result.tables.get("buses" if isinstance(item, Bus) else "branches")
    if table is None or ident not in table["id"]:
        return []
    row = list(table["id"]).index(ident)
    if not isinstance(item, Bus):
        return [_of_branch(table, row)]
    asked = DistortionOptions(**options)
    by_hand = _by_hand(network, condition, asked, ident, table, row) if asked.over == "present" else None
    return [_of_bus(table, row), *([by_hand] if by_hand is not None else [])]


def _of_bus(table: Table, row: int) -> Working:
    told = Ledger("Voltage distortion", "Voltages of the orders are the impedances of the network, element by element, times the "
                  "injected currents.")  # fmt: skip
    shares = _orders(table, "_pct")
    for h, column in shares:
        told.given(f"u{named(h)}", f"voltage of order {h:g}", float(table[column][row]), "%", "Z(h) · I(h)")
    squares = " + ".join(f"u{named(h)} ** 2" for h, _ in shares)
    told.line("THD", "total distortion", f"sqrt({squares})", "%", "IEC 61000-4-7", solver=float(table["thd_pct"][row]))
    return told.working()


def _of_branch(table: Table, row: int) -> Working:
    told = Ledger(
        "Current distortion", "At its from end. Currents of the orders follow from the voltages of both ends."
    )
    orders = _orders(table, "_a")
    told.given("I1", "fundamental", float(table["fundamental_a"][row]), "A", "load flow")
    for h, column in orders:
        told.given(f"I{named(h)}", f"order {h:g}", float(table[column][row]), "A")
    squares = " + ".join(f"I{named(h)} ** 2" for h, _ in orders)
    told.line("Ih", "all orders", f"sqrt({squares})", "A")
    told.line("I", "root mean square", "sqrt(I1 ** 2 + Ih ** 2)", "A", solver=float(table["rms_a"][row]))
    told.line("THD", "total distortion", "100 * Ih / I1", "%", solver=float(table["thd_i_pct"][row]))
    k = float(table["k_factor"][row])
    if k == k:
        weighted = " + ".join(f"{h * h:g} * I{named(h)} ** 2" for h, _ in orders)
        told.line("K", "K factor", f"(I1 ** 2 + {weighted}) / I ** 2", "1", "IEEE C57.110, 5", solver=k)
        told.line("May", "may carry, of rated current", "100 * sqrt((1 + 0.1) / (1 + K * 0.1))", "%", "IEEE C57.110",
                  solver=float(table["carries_pct"][row]))  # fmt: skip
    return told.working()


def _orders(table: Table, ending: str) -> list[tuple[float, str]]:
    return [
        (order_in(c.name), c.name) for c in table.columns if c.name.startswith("order_") and c.name.endswith(ending)
    ]


def _by_hand(
    network: Network, condition: Condition, asked: DistortionOptions, ident: str, table: Table, row: int
) -> Working | None:
    """Short-circuit level and X/R to an impedance, times the order; the currents referred to the bus; and how far that is from
    the network as it is, with the reason."""
    inputs = Inputs(network, condition)
    grid = grid_of(inputs, asked)
    if grid is None or grid.row(ident) < 0:
        return None
    seen = network.under(condition)
    injecting = [s for s in sources(seen, grid.reading, asked, rated=asked.inverters == "rated") if s.behind is None]
    at = grid.arrays.bus_id.index(ident)
    kv, base = float(grid.arrays.bus_kv[at]), grid.arrays.base_mva
    z = complex(grid.bare()[grid.row(ident)]) * kv**2 / base
    told = Ledger(
        "By hand, from the short-circuit level",
        "The way it is done on paper: one impedance that grows with the order, and all currents through it. The program's own "
        "figures take every element at every order; below each other they say what the hand's leave out.",
    )
    told.given("U", "nominal voltage", kv, "kV")
    told.given("Sk", "short-circuit level without demand and capacitance", kv**2 / abs(z), "MVA", "network at order 1")
    told.given("XR", "X / R", z.imag / z.real if z.real > 1e-9 * z.imag else 1e9, "1", "network at order 1")
    told.line("Z", "impedance", "U ** 2 / Sk", "Ω")
    told.line("R", "resistance", "Z / sqrt(1 + XR ** 2)", "Ω")
    told.line("X", "reactance", "R * XR", "Ω", solver=z.imag)
    told.given("U1", "fundamental", abs(grid.reading.v0[at]) * kv if asked.relative_to == "fundamental" else kv, "kV",
               "load flow" if asked.relative_to == "fundamental" else "nominal")  # fmt: skip
    symbols, worst = [], (0.0, 0.0, 0.0 + 0j)
    for h, column in _orders(table, "_pct"):
        if not sequence_of(h):
            continue
        n = named(h)
        amps = _referred(grid, injecting, h, kv, asked)
        program = float(table[column][row])
        told.given(f"I{n}", f"currents of order {h:g}, referred to {kv:g} kV", amps, "A",
                   "all that inject, by the summation law" if asked.unknown == "law" else "all that inject")  # fmt: skip
        told.line(f"Z{n}", f"impedance at order {h:g}", f"sqrt(R ** 2 + ({h:g} * X) ** 2)", "Ω")
        told.line(f"u{n}", f"voltage of order {h:g}", f"100 * sqrt(3) * Z{n} * I{n} / 1000 / U1", "%")
        told.given(f"p{n}", f"the network as it is, order {h:g}", program, "%", "this study")
        symbols.append(n)
        by_hand = told.cells[f"u{n}"].value
        if abs(program - by_hand) > worst[0]:
            worst = abs(program - by_hand), h, _driving(grid, h, ident) * kv**2 / base
    if not symbols:
        grid.close()
        return None
    told.line("THD", "total distortion by hand", f"sqrt({' + '.join(f'u{n} ** 2' for n in symbols)})", "%")
    told.line(
        "P", "total distortion of the network as it is", f"sqrt({' + '.join(f'p{n} ** 2' for n in symbols)})", "%"
    )
    told.line("D", "the hand's figure is off by", "THD - P", "%")
    told.note += " " + _why(
        network, condition, asked, ident, worst[1], worst[2], abs(complex(z.real, worst[1] * z.imag))
    )
    grid.close()
    return told.working()


def _referred(grid: Grid, injecting: list[HarmonicSource], h: float, kv: float, asked: DistortionOptions) -> float:
    """All injected currents of an order, A at a voltage: phasors of known angles as one, the rest by the summation law."""
    mine = [s for s in injecting if h in s.orders]
    parts = np.array([[s.injected(h)] for s in mine], np.complex128).reshape(len(mine), 1)
    known = np.array([s.known(h) or asked.unknown == "in_phase" for s in mine], np.bool_)
    size = float(summed(parts, known, exponent(h, asked))[0])
    return float(size * grid.arrays.base_mva * 1e3 / (np.sqrt(3) * kv))


def _driving(grid: Grid, h: float, ident: str) -> complex:
    grid.factorise(h, sequence_of(h) or 1)
    row = grid.row(ident)
    return complex(grid.unit(row)[row])


def _why(
    network: Network, condition: Condition, asked: DistortionOptions, ident: str, h: float, z: complex, by_hand: float
) -> str:
    """Where the largest difference comes from, each found by taking it out."""
    if not h:
        return ""
    text = f"They differ most at order {h:g}: the bus sees {abs(z):.3g} Ω, by hand {by_hand:.3g} Ω."
    reasons = []
    for words, altered in (
        ("demand beside the network", replace_options(asked, demand="none")),
        ("currents that do not pass this bus, and the way in between", None),
    ):
        if altered is None:
            if abs(abs(z) / by_hand - 1) < _TOLD:
                reasons.append(words)
            continue
        grid = grid_of(Inputs(network, condition), altered)
        if grid is None:
            continue
        kv = float(grid.arrays.bus_kv[grid.arrays.bus_id.index(ident)])
        without = _driving(grid, h, ident) * kv**2 / grid.arrays.base_mva
        swings = grid.capacitances(h, grid.unit(grid.row(ident)))
        grid.close()
        if abs(abs(without) / abs(z) - 1) > _TOLD:
            reasons.append(f"{words} (without it {abs(without):.3g} Ω)")
        total = sum(swings.values())
        if total and abs(abs(without) / by_hand - 1) > _TOLD:
            most = max(swings, key=lambda i: swings[i])
            reasons.append(f"capacitance, most of it {network[most].name} ({100 * swings[most] / total:.0f} %)")
    return text + (f" The hand leaves out {', and '.join(reasons)}." if reasons else "")


def replace_options(asked: DistortionOptions, **values: Any) -> DistortionOptions:
    return asked.model_copy(update=values)


__all__ = ["explain_distortion"]
