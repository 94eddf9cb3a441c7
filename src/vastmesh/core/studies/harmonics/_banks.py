"""Stress of capacitor banks and filters with all orders: IEC 60871-1, IEC 60831-1.

By the current: every order of it makes a voltage of X_c / h on the capacitors. Connections count as the equal star.
"""

from __future__ import annotations

import numpy as np

from ...network import Bus, Filter, Network, Shunt
from ...results import Column, Finding, Table
from ...severity import Severity
from ._grid import capacitor_ohm
from ._models import Model, Order

_MOST = {"current_pct": 130.0, "voltage_pct": 110.0}


def bank_table(model: Model, found: list[Order]) -> Table:
    """Voltage, current and power of capacitors with all orders, per cent of rated."""
    banks, network = model.banks, model.network
    rated = [_rated(network, i, model.frequency_hz) for i in banks.element]
    xc, kv = np.array([r[0] for r in rated]), np.array([r[1] for r in rated])
    amps = np.array([o.banks for o in found]).reshape(len(found), len(banks.element))
    h = np.array([float(o.order) for o in found])[:, None]
    first_v, volts = banks.first * xc, amps * xc / h  # V, phase
    own_v = kv * 1e3 / np.sqrt(3)
    own_a = own_v / xc if len(xc) else np.zeros(0)
    rms_a = np.sqrt(banks.first**2 + (amps**2).sum(axis=0))
    power = banks.first * first_v + (amps * volts).sum(axis=0)
    most = h[amps.argmax(axis=0), 0] if len(banks.element) else np.zeros(0)
    return Table("capacitors", "Capacitors", [
        Column("id", "Id", banks.element, fixed=True),
        Column("name", "Name", [network[i].name for i in banks.element], fixed=True),
        Column("voltage_pct", "RMS voltage", 100 * np.sqrt(first_v**2 + (volts**2).sum(axis=0)) / own_v, "%", 1,
               "Of rated, over the capacitors"),
        Column("peak_pct", "Peak voltage", 100 * (first_v + volts.sum(axis=0)) / own_v, "%", 1, "If all orders peak together"),
        Column("current_pct", "RMS current", 100 * rms_a / own_a, "%", 1, "Of rated"),
        Column("power_pct", "Power", 100 * power / (own_v * own_a), "%", 1, "Reactive power with all orders, of rated"),
        Column("rms_a", "Current", rms_a, "A", 1, "With all orders: what its reactor carries as well"),
        Column("most_order", "Most", most, None, 0, "Order of the largest harmonic current"),
    ])  # fmt: skip


def _rated(network: Network, ident: str, frequency_hz: float) -> tuple[float, float]:
    """Reactance in Ω of the capacitors that are on, one phase of the star, and their rated voltage in kV between phases."""
    e = network[ident]
    assert isinstance(e, Shunt | Filter)
    bus = network[e.bus]
    assert isinstance(bus, Bus)
    nominal = bus.nominal_kv or 1.0
    kv = e.rated_kv or nominal if isinstance(e, Shunt) else e.capacitor_voltage_kv(nominal, frequency_hz)
    return capacitor_ohm(e, nominal, frequency_hz), kv


def stressed(capacitors: Table) -> list[Finding]:
    made = []
    for name, most in _MOST.items():
        words = name.removesuffix("_pct")
        for ident, value in zip(capacitors["id"], capacitors[name].tolist(), strict=True):
            if value > most:
                text = f"{words} with all orders {value:.0f} % of rated; at most {most:.0f} %"
                made.append(Finding(ident, "capacitor", name, value, "%", most, "Capacitor", Severity.BREACH, "above",
                                    value / most - 1, text))  # fmt: skip
    return made
