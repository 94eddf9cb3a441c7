"""What the distortion is worked out with: a balanced network by sequence, or one of conductors, each seen at places and wires.

A place is where a voltage is told (a bus; per phase a conductor of a bus, against its neutral), a wire where a current is (a
branch at its from end; per phase one of its conductors), a bank a capacitor bank or filter that is on.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np

from ...electrical.arrays import Complexes, Floats, Ints
from ...electrical.conductor import NEUTRAL, ConductorArrays, compile_conductors
from ...flow import phases
from ...flow.balanced import Reading
from ...network import Filter, Network, Role, Shunt, role_of
from ...results.state import LiveUnbalanced
from ..base import Inputs
from ._grid import Grid, sequence_of
from ._options import DistortionOptions
from ._phase_grid import Legs, PhaseGrid, PhaseSource, as_controlled, phase_sources
from ._sources import no_impedance, sources

_MOST_CELLS = 30_000_000  # sources by places and wires told apart; more than that are summed as phasors


@dataclass(frozen=True)
class Places:
    """Where voltages are told: buses, the conductor of each ("" where there is no telling), nominal voltage in kV, and the
    fundamental, per unit of nominal phase voltage."""

    bus: list[str]
    conductor: list[str]
    kv: Floats
    first: Complexes


@dataclass(frozen=True)
class Wires:
    """Where currents are told: elements, the bus and conductor of each, fundamental and rated current in A (NaN: unknown), and
    the fundamental as a phasor."""

    element: list[str]
    bus: list[str]
    conductor: list[str]
    first: Floats
    rated: Floats
    phasor: Complexes


@dataclass(frozen=True)
class Banks:
    """Capacitor banks and filters that are on: fundamental current in A."""

    element: list[str]
    first: Floats


@dataclass(frozen=True)
class Order:
    """One order: magnitude of the voltage at every place per unit, the phasor of what has a known angle, the source that does
    most there (-1: nobody is told apart), the magnitudes of the currents in wires and banks, A, and the phasors of the currents
    in wires from sources of known angles."""

    order: float
    volts: Floats
    phasor: Complexes
    whose: Ints
    amps: Floats
    banks: Floats
    flow: Complexes


class Model(Protocol):
    """A solved network with everything that injects in it."""

    network: Network
    frequency_hz: float
    places: Places
    wires: Wires
    banks: Banks
    sources: list[Any]
    first_a: Floats  # fundamental current of each source, A

    def at(self, order: float, options: DistortionOptions) -> Order:
        """Solve one order. Raises :class:`SingularMatrix` at a resonance without losses."""
        ...

    def parts(self, order: float, place: int) -> Complexes:
        """Voltage at one place by each source, per unit, (n_source,)."""
        ...

    def left_out(self) -> list[str]:
        """What is left aside, in words."""
        ...

    def close(self) -> None: ...


class _Terminals:
    """Which terminals of compiled arrays are wires, and which belong to banks."""

    def __init__(self, a: ConductorArrays, alive: np.ndarray, network: Network) -> None:
        t = a.terminal
        # An earthed neutral is no node, but carries current all the same: what counts is that its bus has a supply.
        own = (t["key"] < 4 * a.n_bus) & alive[np.minimum(t["key"] // 4, a.n_bus)]
        branch = np.array([role_of(k) is Role.BRANCH for k in a.element_kind], np.bool_)
        wound = np.array([k == "three_winding" for k in a.element_kind], np.bool_)  # its windings are told apart
        ends = (t["side"] == 0) | wound[t["element"]]
        self.wires = np.flatnonzero(branch[t["element"]] & ends & own & (t["conductor"] < 4))
        bank = [isinstance(e := network.items.get(i), Filter) or (isinstance(e, Shunt) and e.device == "capacitor")
                for i in a.element_id]  # fmt: skip
        self.banks = np.flatnonzero(np.array(bank, np.bool_)[t["element"]] & own & (t["key"] % 4 < NEUTRAL))


class ByConductor:
    """Per phase: every conductor, with neutral and earth."""

    def __init__(
        self, network: Network, grid: PhaseGrid, injecting: list[Any], first_v: Complexes, first_i: Complexes
    ) -> None:
        """``first_v``: fundamental voltages of nodes and earth, V, (n_node + 1,); ``first_i``: of the terminals, A."""
        self.network, self.grid, self.sources = network, grid, injecting
        a = grid.arrays
        self.frequency_hz = grid.frequency_hz
        there = (a.node >= 0) & np.append(grid.live, False)[np.maximum(a.node, -1)]
        bus, conductor = np.nonzero(there)
        self._node = a.node[bus, conductor]
        neutral = np.where(a.node[:, NEUTRAL] >= 0, a.node[:, NEUTRAL], a.n_node)[bus]
        self._against = np.where(conductor < NEUTRAL, neutral, a.n_node)
        self._base = a.phase_v[bus]
        first = (first_v[self._node] - first_v[self._against]) / self._base
        self.places = Places([a.bus_id[n] for n in bus], ["ABCN"[c] for c in conductor.tolist()], a.bus_kv[bus], first)
        alive = np.append(there.any(axis=1), False)
        # Machines have further terminals at other frequencies: those of branches and banks are the same, in the same order.
        then, now = _Terminals(a, alive, network), _Terminals(grid.structure, alive, network)
        self._wire, self._bank_terminal = now.wires, now.banks
        t, of = a.terminal, then.wires
        element = t["element"][of]
        rated = np.where(t["conductor"][of] == NEUTRAL, a.neutral_rating[element], a.rating[element])
        kilovolts = a.phase_v[t["key"][of] // 4] / 1e3
        unit = np.array([k in ("transformer", "three_winding") for k in a.element_kind], np.bool_)[element]
        rated = np.where(unit, rated / np.sqrt(3) / kilovolts, rated)  # given at 1 kV between phases
        self.wires = Wires([a.element_id[e] for e in element], [a.bus_id[k // 4] for k in t["key"][of].tolist()],
                           ["ABCN"[c] for c in t["conductor"][of].tolist()],
                           np.abs(first_i[of]), np.where(np.isfinite(rated), rated, np.nan), first_i[of])  # fmt: skip
        # The current into each phase of each bank, of however many legs: a delta counts as the equal star.
        phase_of = t["element"][then.banks] * (4 * a.n_bus + 1) + t["key"][then.banks]
        wires, self._bank_wire = np.unique(phase_of, return_inverse=True)
        elements, self._bank_of = np.unique(wires // (4 * a.n_bus + 1), return_inverse=True)
        first = np.abs(self._into_banks(first_i[None, then.banks])[0])
        self.banks = Banks([a.element_id[e] for e in elements.tolist()], self._largest(first))
        self.first_a = np.array([np.nan if s.behind else float(np.abs(s.current).max()) for s in injecting])

    def _into_banks(self, current: Complexes) -> Complexes:
        """Currents into the phases of banks, (k, n), from those into their terminals, (k, n_terminal of banks)."""
        found = np.zeros((len(self._bank_of), len(current)), np.complex128)
        np.add.at(found, self._bank_wire, current.T)
        return found.T

    def _largest(self, amps: Floats) -> Floats:
        """Of each bank: the largest of its phases."""
        found = np.zeros(int(self._bank_of.max(initial=-1)) + 1)
        np.maximum.at(found, self._bank_of, amps)
        return found

    def close(self) -> None:
        self.grid.close()

    def left_out(self) -> list[str]:
        loose = [self.network[b].name for b in self.grid.floating_buses()]
        more = f" and {len(loose) - 3} more" if len(loose) > 3 else ""
        words = "to earth (no earthed star point, no capacitance): what all phases would carry alike has no way there"
        return [f"Nothing ties {', '.join(loose[:3])}{more} {words}; their mean stands at earth."] if loose else []

    def _volts(self, v: Complexes) -> Complexes:
        return np.asarray((v[:, self._node] - v[:, self._against]) / self._base)

    def at(self, order: float, options: DistortionOptions) -> Order:
        self.grid.factorise(float(order))
        mine = [s for s in self.sources if order in s.orders]
        v, known, told = self.grid.driven(mine, order), _known(mine, order, options), len(mine)
        if told * (len(self._node) + len(self.grid.arrays.terminal["key"])) > _MOST_CELLS:
            v, known, told = v.sum(axis=0)[None], np.ones(1, np.bool_), 0
        v = self.grid.solve(v)
        u, i = self._volts(v), self.grid.terminal_currents(v)
        a = exponent(order, options)
        place = {s.element: n for n, s in enumerate(self.sources)}
        numbers = np.array([place[s.element] for s in mine], np.int64) if told else np.full(1, -1, np.int64)
        banks = summed(self._into_banks(i[:, self._bank_terminal]), known, a)
        return Order(order, summed(u, known, a), u[known].sum(axis=0), numbers[np.abs(u).argmax(axis=0)],
                     summed(i[:, self._wire], known, a), self._largest(banks),
                     i[known].sum(axis=0)[self._wire])  # fmt: skip

    def parts(self, order: float, place: int) -> Complexes:
        self.grid.factorise(float(order))
        return np.asarray(self._volts(self.grid.solve(self.grid.driven(self.sources, order)))[:, place])


class BySequence:
    """A balanced network: one phase stands for three. Multiples of three are zero sequence: they are taken per conductor."""

    def __init__(self, network: Network, grid: Grid, options: DistortionOptions) -> None:
        self.network, self.grid, self._options = network, grid, options
        arrays, reading, row = grid.arrays, grid.reading, grid.pattern.row
        self.frequency_hz = grid.frequency_hz
        self.sources = sources(network, reading, options, rated=options.inverters == "rated")
        self._bus = np.array([n for n in range(arrays.n_bus - arrays.n_inner) if row[n] >= 0], np.int64)
        self._row = row[self._bus]
        self.places = Places([arrays.bus_id[n] for n in self._bus], [""] * len(self._bus), arrays.bus_kv[self._bus],
                             reading.v0[self._bus])  # fmt: skip
        b = arrays.tables["branch"]
        self._live = np.flatnonzero((row[b["from"]] >= 0) & (row[b["to"]] >= 0))
        self._ends = row[b["from"][self._live]], row[b["to"][self._live]]
        self._base_a = arrays.base_current_a()[b["from"][self._live]]
        ports = reading.solution.ports
        first = (ports.ff * reading.v0[b["from"]] + ports.ft * reading.v0[b["to"]])[self._live] * self._base_a
        rated = b["rating_from_a"][self._live]
        self.wires = Wires([arrays.element_id[e] for e in b["element"][self._live].tolist()],
                           [arrays.bus_id[n] for n in b["from"][self._live].tolist()], [""] * len(first),
                           np.abs(first), np.where(np.isfinite(rated) & (rated > 0), rated, np.nan), first)  # fmt: skip
        s = arrays.tables["shunt"]
        on = np.flatnonzero((row[s["bus"]] >= 0) & (s["y"].imag > 0) & ~grid.is_filter)
        self._capacitor = s["y"][on]
        self._bank_row = np.concatenate([row[s["bus"][on]], grid.filter_row])
        ids = [arrays.element_id[e] for e in s["element"][on].tolist()] + [e.id for e in grid.filters]
        volts = np.zeros(grid.pattern.n, np.complex128)
        volts[row[reading.live]] = reading.v0[reading.live]
        base = np.zeros(grid.pattern.n)
        base[row[reading.live]] = arrays.base_current_a()[reading.live]
        self._bank_base = base[self._bank_row]
        self.banks = Banks(ids, np.abs(self._bank_y(1.0) * volts[self._bank_row]) * self._bank_base)
        self.first_a = np.array([np.nan if x.behind else abs(x.current) * base[x.row] for x in self.sources])
        self._zero: ByConductor | None = None
        self._told_at: dict[float, Ints] = {}  # of orders taken per conductor: the place that is told of each bus

    def close(self) -> None:
        self.grid.close()
        if self._zero is not None:
            self._zero.close()

    def left_out(self) -> list[str]:
        zero = sorted({h for s in self.sources for h in s.orders if sequence_of(h) == 0})
        if not zero:
            return []
        orders = ", ".join(f"{h:g}" for h in zero)
        return [f"Orders {orders} are multiples of three, which are zero sequence in a balanced network: they are taken per "
                "conductor, and told as the largest of the three phases."]  # fmt: skip

    def _bank_y(self, order: float) -> Complexes:
        """Admittances of banks and filters at an order, per unit."""
        return np.concatenate(
            [self._capacitor.real + 1j * self._capacitor.imag * order, self.grid.filter_admittance(order)]
        )

    def at(self, order: float, options: DistortionOptions) -> Order:
        return self._by_sequence(order, options) if sequence_of(order) else self._by_conductor(order, options)

    def _by_sequence(self, h: float, options: DistortionOptions) -> Order:
        grid = self.grid
        grid.factorise(float(h), sequence_of(h))
        ports, n = grid.ports(float(h), sequence_of(h)), grid.pattern.n
        mine = [s for s in self.sources if h in s.orders]
        if len(mine) * (n + len(self._live)) > _MOST_CELLS:
            rhs = np.zeros(n, np.complex128)
            for s in mine:
                rhs[s.row] += s.injected(h)
            u, known, numbers = grid.solve(rhs)[None], np.ones(1, np.bool_), np.full(1, -1, np.int64)
        else:
            rows = np.array(sorted({s.row for s in mine}), np.int64)
            units = np.zeros((len(rows), n), np.complex128)
            units[np.arange(len(rows)), rows] = 1.0
            z = grid.solve(units)  # symmetric but for shifts: row k holds all voltages for a current into rows[k]
            where = np.searchsorted(rows, [s.row for s in mine])
            u = z[where] * np.array([s.injected(h) for s in mine])[:, None]
            place = {s.element: k for k, s in enumerate(self.sources)}
            known, numbers = _known(mine, h, options), np.array([place[s.element] for s in mine], np.int64)
        f, t = self._ends
        i = ports.ff[self._live] * u[:, f] + ports.ft[self._live] * u[:, t]
        banks = self._bank_y(float(h)) * u[:, self._bank_row]
        a = exponent(h, options)
        here = u[:, self._row]
        return Order(h, summed(here, known, a), here[known].sum(axis=0), numbers[np.abs(here).argmax(axis=0)],
                     summed(i, known, a) * self._base_a, summed(banks, known, a) * self._bank_base,
                     i[known].sum(axis=0) * self._base_a)  # fmt: skip

    def _conductors(self) -> ByConductor:
        """The same state per conductor, for what has no place in one phase."""
        if self._zero is None:
            network = as_controlled(self.network, self.grid.reading)
            arrays = compile_conductors(network)
            legs = Legs.balanced(arrays, network, self.grid.reading)
            injecting = phase_sources(network, arrays, legs, self._options, rated=self._options.inverters == "rated")
            grid = PhaseGrid(
                network, arrays, legs, self._options, no_impedance(network), sample=_first_order(injecting)
            )
            nothing = np.zeros(arrays.n_node + 1, np.complex128), np.zeros(len(arrays.terminal["key"]), np.complex128)
            self._zero = ByConductor(network, grid, injecting, *nothing)
            self._at_bus = _groups(self._zero.places.bus, self.places.bus, self._zero.places.conductor)
            w, mine = self._zero.wires, self.wires
            self._at_wire = _groups(list(zip(w.element, w.bus, strict=True)), list(zip(mine.element, mine.bus, strict=True)),
                                    w.conductor)  # fmt: skip
            star = {
                e.id for e in network.elements() if getattr(e, "connection", "") == "earthed" or "N" in e.conductors
            }
            self._at_bank = np.array([
                self._zero.banks.element.index(b) if b in star and b in self._zero.banks.element else -1
                for b in self.banks.element
            ], np.int64)  # fmt: skip
        return self._zero

    def _by_conductor(self, h: float, options: DistortionOptions) -> Order:
        zero = self._conductors()
        found = zero.at(h, options)
        place, wire = _largest_of(self._at_bus, found.volts), _largest_of(self._at_wire, found.amps)
        number = {s.element: k for k, s in enumerate(self.sources)}
        whose = np.array(
            [number.get(zero.sources[k].element, -1) if k >= 0 else -1 for k in found.whose.tolist()], np.int64
        )
        self._told_at[h] = place
        return Order(h, picked(found.volts, place), picked(found.phasor, place), picked(whose, place, -1),
                     picked(found.amps, wire), picked(found.banks, self._at_bank), picked(found.flow, wire))  # fmt: skip

    def parts(self, order: float, place: int) -> Complexes:
        if not sequence_of(order):
            zero = self._conductors()
            which = int(self._told_at[order][place])
            by = (
                dict(zip((s.element for s in zero.sources), zero.parts(order, which), strict=True))
                if which >= 0
                else {}
            )
            return np.array([by.get(s.element, 0j) for s in self.sources])
        self.grid.factorise(float(order), sequence_of(order))
        z = self.grid.seen_from(int(self._row[place]))
        return np.array([z[s.row] * s.injected(order) for s in self.sources])


def by_conductor(inputs: Inputs, options: DistortionOptions) -> ByConductor | None:
    """The network per phase as its load flow leaves it; None where that has no solution."""
    live = LiveUnbalanced(inputs.network)
    reading: phases.Reading | None = live.reading(inputs.under)
    if reading is None:
        return None
    network = live.seen
    legs = Legs.per_phase(reading)
    injecting = phase_sources(network, reading.arrays, legs, options, rated=options.inverters == "rated")
    controls = live.controls
    grid = PhaseGrid(network, reading.arrays, legs, options, no_impedance(network),
                     lambda a: controls.admittances(a).t_y, _first_order(injecting))  # fmt: skip
    first = np.nan_to_num(np.append(reading.node_v[: reading.arrays.n_node], 0.0))
    return ByConductor(network, grid, injecting, first, reading.terminal_current)


def _first_order(injecting: list[PhaseSource]) -> float:
    """One that will be asked for: of zero sequence where there is one."""
    orders = sorted({h for s in injecting for h in s.orders}, key=lambda h: (sequence_of(h) != 0, h))
    return orders[0] if orders else 2.0


def by_sequence(network: Network, grid: Grid, options: DistortionOptions) -> BySequence:
    return BySequence(network, grid, options)


def summed(parts: Complexes, known: np.ndarray, a: float) -> Floats:
    """Phasors of what is known as one, the rest by the summation law."""
    together = np.abs(parts[known].sum(axis=0))
    return np.asarray((together**a + (np.abs(parts[~known]) ** a).sum(axis=0)) ** (1 / a))


def exponent(h: float, options: DistortionOptions) -> float:
    if options.unknown == "arithmetic":
        return 1.0
    return options.exponent_low if h < 5 else options.exponent_middle if h <= 10 else options.exponent_high


def _known(mine: list[Any], h: float, options: DistortionOptions) -> np.ndarray:
    return np.array([s.known(h) or options.unknown == "in_phase" for s in mine], np.bool_)


def _groups(of: Sequence[Any], wanted: Sequence[Any], conductor: list[str]) -> list[list[int]]:
    """Where each of the wanted stands among many, but for neutrals."""
    places: dict[Any, list[int]] = {}
    for n, (i, c) in enumerate(zip(of, conductor, strict=True)):
        if c != "N":
            places.setdefault(i, []).append(n)
    return [places.get(w, []) for w in wanted]


def _largest_of(groups: list[list[int]], values: Floats) -> Ints:
    return np.array([max(g, key=lambda n: values[n]) if g else -1 for g in groups], np.int64)


def picked(values: Any, at: Ints, blank: Any = 0) -> Any:
    """Values at positions, and something else where there is none."""
    return np.where(at >= 0, np.append(values, blank)[at], blank)


__all__ = [
    "Banks",
    "ByConductor",
    "BySequence",
    "Model",
    "Order",
    "Places",
    "Reading",
    "Wires",
    "by_conductor",
    "by_sequence",
]
