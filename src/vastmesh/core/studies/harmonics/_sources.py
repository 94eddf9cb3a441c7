"""What injects harmonic currents: loads and inverters with a spectrum."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np

from ...catalogue import find_type
from ...flow.balanced import Reading
from ...network import Inverter, Load, Network, OwnType

Spectrum = dict[int, tuple[float, float, bool]]
"""Order to magnitude as a share of the fundamental, angle in radians, and whether that is known (0 stands for unknown)."""


@dataclass(frozen=True)
class HarmonicSource:
    """A current source. ``current``: fundamental current into the network, per unit, with its angle."""

    element: str
    row: int
    current: complex
    orders: Spectrum = field(default_factory=dict)

    def injected(self, order: int) -> complex:
        """Current of an order into the network, per unit; its angle follows the fundamental's h times."""
        share, angle, _ = self.orders.get(order, (0.0, 0.0, True))
        return complex(abs(self.current) * share * np.exp(1j * (order * np.angle(self.current) + angle)))

    def known(self, order: int) -> bool:
        return order not in self.orders or self.orders[order][2]


def spectrum(network: Network, name: str) -> dict[int, tuple[float, float | None]]:
    """Orders of a type of spectrum: share of the fundamental, angle in radians or None."""
    own = network.items.get(name)
    known = find_type("spectrum", name)
    values = own.values if isinstance(own, OwnType) else known.values if known is not None else {}
    found: dict[int, tuple[float, float | None]] = {}
    for key, value in values.items():
        if key.startswith("order_") and key.endswith("_pct"):
            order = int(key.removeprefix("order_").removesuffix("_pct"))
            degrees = values.get(f"order_{order}_deg")
            if order > 1 and float(value) > 0:
                found[order] = float(value) / 100, None if degrees is None else float(np.radians(float(degrees)))
    return found


def distorting(network: Network) -> Iterable[Load | Inverter]:
    """What has a spectrum."""
    return [e for e in network.elements() if isinstance(e, Load | Inverter) and e.spectrum]


def sources(network: Network, reading: Reading, *, rated: bool) -> list[HarmonicSource]:
    """All that inject at a live bus; ``rated``: spectra of inverters are shares of their rated current."""
    arrays, rows = reading.arrays, reading.problem.pattern.row
    of_load = _by_element(arrays.tables["load"]["element"], -reading.load_power, arrays.element_id)
    of_machine = _by_element(arrays.tables["injection"]["element"], reading.machine_power, arrays.element_id)
    at = {b: n for n, b in enumerate(arrays.bus_id)}
    found = []
    for e in distorting(network):
        n = at.get(e.bus, -1)
        power = of_load.get(e.id, 0j) + of_machine.get(e.id, 0j)
        if n < 0 or rows[n] < 0:
            continue
        v = complex(reading.v0[n])
        # A load draws: at order h its current is the reverse of what it would be of a source, not h times turned round.
        draws = isinstance(e, Load)
        current = complex(np.conj((-power if draws else power) / arrays.base_mva / v)) if power else 0j
        if rated and isinstance(e, Inverter) and e.rated_mva and e.in_service:
            size = e.rated_mva / arrays.base_mva
            current = size * (current / abs(current) if current else v / abs(v))
        if not current:
            continue
        found.append(HarmonicSource(e.id, int(rows[n]), current, turned(network, e)))
    return found


def turned(network: Network, e: Load | Inverter) -> Spectrum:
    """The spectrum of an element as it injects: a load draws, so that its current is turned round at every order."""
    back = np.pi if isinstance(e, Load) else 0.0
    return {h: (s, (a or 0.0) + back, a is not None) for h, (s, a) in spectrum(network, e.spectrum or "").items()}


def _by_element(element: np.ndarray, power: np.ndarray, ids: list[str]) -> dict[str, complex]:
    found: dict[str, complex] = {}
    for n, s in zip(element.tolist(), power.tolist(), strict=True):
        found[ids[n]] = found.get(ids[n], 0j) + s
    return found
