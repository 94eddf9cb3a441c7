"""What injects harmonic currents: loads and inverters with a spectrum, and the distortion behind a source.

A source of current injects its spectrum as it is; one with its own impedance beside it lets that take part in the network; one of
voltage E(h) behind z(h) drives E/z, and z takes part. The spectrum is that of the operating point: between the shares of rating
for which there is one by straight lines, below the lowest and above the highest as there.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ...catalogue import find_type, source_impedance_ohm
from ...flow.balanced import Reading
from ...network import IDEAL, Inverter, Load, Network, OwnType, Source, own_ohm, spectrum_values
from ...network import Spectrum as Rows
from ._options import GridOptions

Spectrum = dict[float, tuple[float, float, bool]]
"""Order to magnitude as a share of the fundamental, angle in radians, and whether that is known (0 stands for unknown)."""

Distorting = Load | Inverter | Source


@dataclass(frozen=True)
class Own:
    """An impedance r h^k + j h x - j xc / h of its own."""

    r: float
    x: float
    k: float = 0.0
    xc: float = 0.0

    def at(self, order: float) -> complex:
        return complex(self.r * order**self.k, self.x * order - self.xc / order)

    def times(self, factor: float) -> Own:
        return Own(self.r * factor, self.x * factor, self.k, self.xc * factor)


@dataclass(frozen=True)
class HarmonicSource:
    """What injects into a row. ``current``: fundamental current into the network, per unit, with its angle; of a source of
    voltage ``current`` is that voltage and ``behind`` the impedance it stands behind; ``delta``: what distorts lies between the
    phases."""

    element: str
    row: int
    current: complex
    orders: Spectrum = field(default_factory=dict)
    behind: Own | None = None
    delta: bool = False

    def injected(self, order: float) -> complex:
        """Current of an order into the network, per unit; its angle follows the fundamental's h times."""
        share, angle, _ = self.orders.get(order, (0.0, 0.0, True))
        found = complex(abs(self.current) * share * np.exp(1j * (order * np.angle(self.current) + angle)))
        if self.delta:
            found *= of_delta(order)
        return found / self.behind.at(order) if self.behind is not None else found

    def known(self, order: float) -> bool:
        return order not in self.orders or self.orders[order][2]


def of_delta(order: float) -> complex:
    """Current in the wires of three equal legs between the phases, over that of three legs to the neutral with the same current
    in the wires at the fundamental.

    A leg's fundamental leads its wire's by 30°, its order h by h times as much; back in the wires an order that follows the
    phases lags by 30°, one against them leads, and what is alike in all three goes round inside.
    """
    whole = round(order)
    sense = {0: 0, 1: 1, 2: -1}[whole % 3] if order == whole else 1
    return complex(np.exp(1j * np.pi / 6 * (order - sense))) if sense else 0j


def spectrum(network: Network, name: str, loading: float = 1.0) -> dict[float, tuple[float, float | None]]:
    """Orders of a type of spectrum at a share of rating: share of the fundamental, angle in radians or None."""
    own = network.items.get(name)
    if isinstance(own, OwnType):
        points = own.spectra()
    else:
        known = find_type("spectrum", name)
        points = {1.0: spectrum_values(known.values)} if known is not None else {}
    rows = _between(points, loading)
    return {h: (share, None if degrees is None else float(np.radians(degrees))) for h, (share, degrees) in rows.items()}


def _between(points: dict[float, Rows], loading: float) -> Rows:
    """Magnitudes by straight lines between two operating points; angles as at the nearer one."""
    if not points:
        return {}
    shares = sorted(points)
    if loading <= shares[0] or loading >= shares[-1] or len(shares) == 1:
        return points[shares[0] if loading <= shares[0] else shares[-1]]
    high = next(s for s in shares if s >= loading)
    low = shares[shares.index(high) - 1]
    along = (loading - low) / (high - low)
    near = points[low if along < 0.5 else high]
    found: Rows = {}
    for h in sorted({*points[low], *points[high]}):
        size = (1 - along) * points[low].get(h, (0.0, None))[0] + along * points[high].get(h, (0.0, None))[0]
        found[h] = size, near.get(h, (0.0, None))[1]
    return found


def distorting(network: Network) -> list[Distorting]:
    """What has a spectrum, and sources with a background."""
    return [
        e for e in network.elements()
        if (isinstance(e, Load | Inverter) and e.spectrum) or (isinstance(e, Source) and e.background)
    ]  # fmt: skip


def no_impedance(network: Network) -> frozenset[str]:
    """Elements whose demand is no impedance, as they inject."""
    return frozenset(e.id for e in distorting(network) if not isinstance(e, Source))


def source_model(e: Distorting, options: GridOptions) -> str:
    """How an element injects: as it says, or as the study has it for all."""
    if isinstance(e, Source):
        return "voltage"
    return e.source_model if options.sources == "as_entered" else options.sources


def own_impedance(e: Distorting, kv: float, frequency_hz: float, options: GridOptions) -> Own | None:
    """Impedance beside or behind it, Ω; None of an ideal current."""
    if source_model(e, options) == "current":
        return None
    if isinstance(e, Source):
        z = source_ohm(e, kv, options)
        return Own(z.real, z.imag, options.source_exponent)
    size = rating(e)
    if not size:
        return None
    ohm = own_ohm(e, kv, size, frequency_hz)
    return Own(ohm.r, ohm.x, e.own_exponent, ohm.xc)


def between_phases(e: Distorting) -> bool:
    """Whether what distorts lies between phases, leg by leg."""
    return isinstance(e, Load) and e.connection == "delta"


def _per_unit(e: Distorting, n: int, reading: Reading, options: GridOptions) -> Own | None:
    arrays, kv = reading.arrays, float(reading.arrays.bus_kv[n])
    own = own_impedance(e, kv, arrays.frequency_hz, options)
    return own.times(arrays.base_mva / kv**2) if own is not None else None


def source_ohm(e: Source, kv: float, options: GridOptions) -> complex:
    """Impedance of a source at the network's frequency, Ω."""
    level = e.fault_max_mva if options.fault_level == "highest" else e.fault_min_mva
    return source_impedance_ohm(level, e.x_over_r, kv) / (IDEAL if e.ideal else 1.0)


def rating(e: Load | Inverter) -> float:
    """MVA of what its figures are per cent of: rating of an inverter, entered power of a load."""
    return (e.rated_mva or 0.0) if isinstance(e, Inverter) else abs(e.power_mva())


def turned(network: Network, e: Distorting, loading: float = 1.0, *, voltage: bool = False) -> Spectrum:
    """The spectrum of an element as it injects: a load draws, so that its current is turned round at every order; a ``voltage``
    drives a current out of it whichever way the fundamental flows."""
    back = np.pi if isinstance(e, Load) and not voltage else 0.0
    name = (e.background if isinstance(e, Source) else e.spectrum) or ""
    return {h: (s, (a or 0.0) + back, a is not None) for h, (s, a) in spectrum(network, name, loading).items()}


def sources(network: Network, reading: Reading, options: GridOptions, *, rated: bool) -> list[HarmonicSource]:
    """All that inject at a live bus; ``rated``: spectra of inverters are shares of their rated current."""
    arrays, rows = reading.arrays, reading.problem.pattern.row
    of_load = _by_element(arrays.tables["load"]["element"], -reading.load_power, arrays.element_id)
    of_machine = _by_element(arrays.tables["injection"]["element"], reading.machine_power, arrays.element_id)
    at = {b: n for n, b in enumerate(arrays.bus_id)}
    found = []
    for e in distorting(network):
        power = of_load.get(e.id, 0j) + of_machine.get(e.id, 0j)
        n = at.get(e.bus, -1)
        if n < 0 or rows[n] < 0 or not e.in_service or e.missing():
            continue
        v, row, base = complex(reading.v0[n]), int(rows[n]), arrays.base_mva
        own = _per_unit(e, n, reading, options)
        if isinstance(e, Source):
            found.append(HarmonicSource(e.id, row, v, turned(network, e), own))
            continue
        size = rating(e)
        loading = abs(power) / size if size else 1.0
        at_loading = 1.0 if rated and isinstance(e, Inverter) else loading
        if source_model(e, options) == "voltage" and own is not None:
            found.append(HarmonicSource(e.id, row, v, turned(network, e, at_loading, voltage=True), own))
            continue
        orders = turned(network, e, at_loading)
        # A load draws: at order h its current is the reverse of what it would be of a source, not h times turned round.
        draws = isinstance(e, Load)
        current = complex(np.conj((-power if draws else power) / base / v)) if power else 0j
        if rated and isinstance(e, Inverter) and e.rated_mva:
            current = e.rated_mva / base * (current / abs(current) if current else v / abs(v))
        if current:
            found.append(HarmonicSource(e.id, row, current, orders, delta=between_phases(e) and len(e.conductors) >= 3))
    return found


def beside_network(network: Network, reading: Reading, options: GridOptions) -> list[tuple[str, int, Own]]:
    """Impedances that injecting elements bring into the network, with ids and rows; those of sources are there anyway."""
    arrays, rows = reading.arrays, reading.problem.pattern.row
    at = {b: n for n, b in enumerate(arrays.bus_id)}
    found = []
    for e in distorting(network):
        n = at.get(e.bus, -1)
        if isinstance(e, Source) or n < 0 or rows[n] < 0 or not e.in_service or e.missing():
            continue
        own = _per_unit(e, n, reading, options)
        if own is not None:
            found.append((e.id, int(rows[n]), own))
    return found


def orders_injected(network: Network) -> list[float]:
    """Every order that something injects."""
    return sorted({h for e in distorting(network) for h in turned(network, e)})


def _by_element(element: np.ndarray, power: np.ndarray, ids: list[str]) -> dict[str, complex]:
    found: dict[str, complex] = {}
    for n, s in zip(element.tolist(), power.tolist(), strict=True):
        found[ids[n]] = found.get(ids[n], 0j) + s
    return found
