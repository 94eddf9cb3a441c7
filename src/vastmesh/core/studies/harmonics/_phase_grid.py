"""The network at any frequency in conductor coordinates: every phase, the neutral and earth.

What is linear comes from the same stamps as the load flow per phase, at the frequency in question; machines are then
impedances in all three sequences. Demand is an impedance in each of its legs. In V, A and Ω; the matrix is scaled by the bases
of its nodes.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from itertools import combinations
from typing import Any

import numpy as np

from ...electrical.arrays import Complexes, Floats, Ints
from ...electrical.conductor import ABSENT, EARTH, NEUTRAL, AtOrder, ConductorArrays, compile_conductors
from ...electrical.sparse import SparseLU
from ...errors import SingularMatrix
from ...flow import phases
from ...flow.balanced import Reading as BalancedReading
from ...network import Change, Filter, Inverter, Load, LumpedLoad, Network, Shunt, Source, Update
from ._grid import FORMS, capacitor_ohm
from ._kernel import demands
from ._options import GridOptions
from ._sources import Own, Spectrum, between_phases, distorting, own_impedance, rating, source_model, turned

_MOST_KEPT = 20_000  # nodes, of all orders whose factors are kept for a second look

Standing = Callable[[ConductorArrays], Complexes]


@dataclass(frozen=True)
class Legs:
    """Demand as it draws: power in VA and voltage in V of every row of the demand, the current that each element draws from
    A, B and C, (n_element, 3), A, and of what lies between phases from A to B, B to C and C to A, ``between`` (n_element, 3), A;
    the voltage of A, B and C of every bus, (n_bus, 3), V."""

    power: Complexes
    volts: Floats
    current: Complexes
    between: Complexes
    bus_v: Complexes

    @classmethod
    def per_phase(cls, reading: phases.Reading) -> Legs:
        a = reading.arrays
        d = a.demand
        u = reading.voltage_at(a.node_of_key[d["key_p"]]) - reading.voltage_at(a.node_of_key[d["key_q"]])
        drawn = np.nan_to_num(reading.injection_phase_current[:, :3])
        to_neutral = np.nan_to_num(reading.to_neutral)
        between = _between(a, reading.demand_power, to_neutral)
        return cls(reading.demand_power, np.abs(np.nan_to_num(u)), drawn, between, to_neutral)

    @classmethod
    def balanced(cls, arrays: ConductorArrays, network: Network, reading: BalancedReading) -> Legs:
        """From a balanced state: every leg at the voltage of its bus, the power of an element shared as it is entered."""
        net, d = reading.arrays, arrays.demand
        at = {b: n for n, b in enumerate(net.bus_id)}
        v = np.array([reading.v0[at[b]] if b in at else 0j for b in arrays.bus_id])
        drawn: dict[str, complex] = {}
        for table, power in (("load", reading.load_power), ("injection", -reading.machine_power)):
            for e, s in zip(net.tables[table]["element"].tolist(), power.tolist(), strict=True):
                drawn[net.element_id[e]] = drawn.get(net.element_id[e], 0j) + s * 1e6
        whole = np.array([drawn.get(i, 0j) for i in arrays.element_id])
        entered = np.zeros(len(arrays.element_id), np.complex128)
        np.add.at(entered, d["element"], d["s"])
        with np.errstate(divide="ignore", invalid="ignore"):
            factor = np.where(entered != 0, whole / entered, 0)
        bus = d["key_p"] // 4
        current = np.zeros((len(arrays.element_id), 3), np.complex128)
        bus_v = (v * arrays.phase_v)[:, None] * np.exp(-2j * np.pi / 3 * np.arange(3))
        row_of = {b: n for n, b in enumerate(arrays.bus_id)}
        for e in np.flatnonzero(whole).tolist():
            item: Any = network.items.get(arrays.element_id[e])
            row = row_of.get(item.buses()[0], -1) if item is not None else -1
            if row < 0 or not v[row]:
                continue
            volts = bus_v[row]
            phases_of = ["ABC".index(c) for c in item.conductors if c != "N"]
            if len(phases_of) == 2 and "N" not in item.conductors:
                p, q = phases_of
                current[e, p] = np.conj(whole[e] / (volts[p] - volts[q]))
                current[e, q] = -current[e, p]
            else:
                current[e, phases_of] = np.conj(whole[e] / len(phases_of) / volts[phases_of])
        power = d["s"] * factor[d["element"]]
        volts = d["u0"] * np.abs(v)[np.minimum(bus, len(v) - 1)]
        return cls(power, volts, current, _between(arrays, power, bus_v), bus_v)


def _between(arrays: ConductorArrays, power: Complexes, bus_v: Complexes) -> Complexes:
    """Currents of demand between phases, from A to B, B to C and C to A, (n_element, 3), A, from its powers row by row."""
    d = arrays.demand
    found = np.zeros((len(arrays.element_id), 3), np.complex128)
    row, p, q = d["key_p"] // 4, d["key_p"] % 4, d["key_q"] % 4
    mine = (p < NEUTRAL) & (q < NEUTRAL) & (row < len(bus_v)) & (d["key_q"] // 4 == row)
    row, p, q, s, e = row[mine], p[mine], q[mine], power[mine], d["element"][mine]
    u = bus_v[row, p] - bus_v[row, q]
    amps = np.conj(np.divide(s, u, out=np.zeros(len(s), np.complex128), where=u != 0))
    forward = (q - p) % 3 == 1
    np.add.at(found, (e, np.where(forward, p, q)), np.where(forward, amps, -amps))
    return found


@dataclass(frozen=True)
class PhaseSource:
    """What injects, per conductor. ``node``: nodes of A, B, C, -1 where it has none; ``neutral``: node that its currents come
    back by, -1 where it has none, -2 for earth; ``current``: fundamental currents into the network, A; of a source of voltage the
    voltages of A, B and C, V, ``behind`` an impedance in Ω whose zero sequence is ``zero`` times as large. ``delta``: the
    currents are those of legs from A to B, B to C and C to A, each of which distorts by itself."""

    element: str
    node: Ints
    neutral: int
    current: Complexes
    orders: Spectrum = field(default_factory=dict)
    behind: Own | None = None
    zero: float = 1.0
    delta: bool = False

    def injected(self, order: float) -> Complexes:
        """Currents of an order into A, B, C and the neutral, A, (4,)."""
        share, angle, _ = self.orders.get(order, (0.0, 0.0, True))
        size = np.abs(self.current)
        turned = np.angle(self.current)
        if order == round(order):
            turned = order * turned
        else:  # between whole orders phases follow each other as the fundamental's do
            first = turned[size.argmax()]
            turned = order * first + (turned - first)
        found = size * share * np.exp(1j * (turned + angle))
        if self.delta:
            return np.append(found - np.roll(found, 1), 0)
        there = (self.node >= 0) & (size > 0)
        found = np.where(there, found, 0)
        if self.behind is not None:
            found = found / self.behind.at(order)
            if self.zero != 1.0 and there.all():
                found = found + found.mean() * (1 / self.zero - 1)
        if self.neutral == -1:
            # Three wires or two: what all would carry alike has no way back.
            if there.sum() == 2:
                first, second = np.flatnonzero(there)
                found[second] = -found[first]
            elif there.any():
                found = np.where(there, found - found[there].mean(), 0)
            return np.append(found, 0)
        return np.append(found, -found.sum())

    def known(self, order: float) -> bool:
        return order not in self.orders or self.orders[order][2]


class PhaseGrid:
    """A solved network per conductor at other frequencies. ``alone``: elements whose demand is no impedance, as they inject;
    ``standing``: terminal admittances of the network at an order, with what automatic control has set; ``sample``: an order that
    will be asked for, at which its structure is looked at."""

    def __init__(self, network: Network, arrays: ConductorArrays, legs: Legs, options: GridOptions,
                 alone: frozenset[str] = frozenset(), standing: Standing = lambda a: a.t_y,
                 sample: float = 2.0) -> None:  # fmt: skip
        self.network, self.arrays, self.options, self._standing = network, arrays, options, standing
        self._leg_from, self._leg_to, self._demand = self._of_demand(legs, alone)
        self._own = own_legs(network, arrays, options)
        problem = phases.Problem(arrays)
        self.live, self._pins, self._floating = problem.live, problem.pins, problem.floating
        self.frequency_hz = arrays.frequency_hz
        self._sample = sample
        self._lu: SparseLU | None = None
        self._kept: dict[float, tuple[ConductorArrays, Complexes, SparseLU]] = {}

    def close(self) -> None:
        self.close_kept()
        self._lu = None

    def adrift(self, amps: Complexes) -> bool:
        """Whether currents into the nodes, (n_node,), leave a part that nothing ties to earth with a sum that has no way."""
        most = float(np.abs(amps).max())
        return any(abs(complex(amps[nodes].sum())) > 1e-9 * most for nodes in self._floating)

    def floating_buses(self) -> list[str]:
        """Buses of parts that nothing ties to earth, by id."""
        loose = np.zeros(self.arrays.n_node + 2, np.bool_)
        for nodes in self._floating:
            loose[nodes] = True
        return [
            b for b, nodes in zip(self.arrays.bus_id, self.arrays.node, strict=True) if loose[nodes[nodes >= 0]].any()
        ]

    def _of_demand(self, legs: Legs, alone: frozenset[str]) -> tuple[Ints, Ints, Complexes]:
        a = self.arrays
        d, items = a.demand, self.network.items
        motor = np.array([
            (item.motor_pct / 100 if isinstance(item := items.get(i), LumpedLoad) and "ABC" in item.conductors else 0.0)
            for i in a.element_id
        ])  # fmt: skip
        silent = np.array([i in alone or k in ("induction_motor", "synchronous_motor")
                           for i, k in zip(a.element_id, a.element_kind, strict=True)], np.bool_)  # fmt: skip
        share = np.where(silent, 0.0, 1 - motor)[d["element"]] if len(d["element"]) else np.zeros(0)
        power = legs.power * share
        counts = (power.real > 0) & (legs.volts > 0) & (self.options.demand != "none")
        p, q = (a.node_of_key[d[k]][counts] for k in ("key_p", "key_q"))
        return p, q, np.asarray(np.conj(power[counts]) / legs.volts[counts] ** 2)

    @cached_property
    def structure(self) -> ConductorArrays:
        """The network as it is compiled at any other frequency: its terminals."""
        return self._compiled(self._sample)

    def _compiled(self, order: float) -> ConductorArrays:
        o = self.options
        return compile_conductors(
            self.network, AtOrder(order, o.fault_level, o.source_exponent, o.lines, o.demand != "none")
        )

    def factorise(self, order: float, *, keep: bool = True) -> None:
        """Make ready for an order; ``keep``: its factors, for a second look. Raises :class:`SingularMatrix` at a resonance
        without losses."""
        if order in self._kept:
            self.here, self.t_y, self._lu = self._kept[order]
            return
        o = self.options
        here = self.structure if order == self._sample else self._compiled(order)
        self.here, self.t_y = here, self._standing(here)
        own_p, own_q, own = self._own
        y = np.concatenate([demands(self._demand, order, FORMS[o.demand]), [1 / z.at(order) for z in own]])
        node = here.terminal_node()
        p, q = np.concatenate([self._leg_from, own_p]), np.concatenate([self._leg_to, own_q])
        pin_row, pin_col, pin_y = self._pins
        rows = np.concatenate([node[here.t_row], p, p, q, q, pin_row])
        cols = np.concatenate([node[here.t_col], p, q, p, q, pin_col])
        values = np.concatenate([self.t_y, y, -y, -y, y, pin_y])
        used = (rows >= 0) & (cols >= 0)
        rows, cols = rows[used], cols[used]
        n, base = here.n_node, here.base_v
        scaled = values[used] * base[rows] * base[cols] / (here.base_mva * 1e6)
        dead = np.where(
            self.live, 0.0, 1.0 + np.bincount(rows, np.abs(scaled), n)
        )  # to earth: without supply, no voltage
        place = np.concatenate([cols * n + rows, np.arange(n) * (n + 1)])
        where, slot = np.unique(place, return_inverse=True)
        both = np.concatenate([scaled, dead.astype(np.complex128)])
        filled = np.bincount(slot, both.real, len(where)) + 1j * np.bincount(slot, both.imag, len(where))
        if (len(self._kept) + 1) * n > _MOST_KEPT:
            self.close()
        indptr = np.searchsorted(where, np.arange(n + 1) * n)
        self._lu = SparseLU(indptr, where % n, complex_=True)
        try:
            self._lu.factorise(filled)
        except SingularMatrix:
            text = f"at {order * self.frequency_hz:g} Hz (order {order:g}) the network is in resonance without any loss"
            raise SingularMatrix(text) from None
        if not keep:
            self.close_kept()
        self._kept[order] = here, self.t_y, self._lu

    def close_kept(self) -> None:
        for _, _, lu in self._kept.values():
            lu.close()
        self._kept.clear()

    def solve(self, amps: Complexes) -> Complexes:
        """Voltages in V of all nodes and earth, (k, n_node + 1), for currents into the nodes, (k, n_node), A."""
        assert self._lu is not None
        base = self.here.base_v
        v = self._lu.solve(amps * base / (self.here.base_mva * 1e6)) * base
        return np.concatenate([v, np.zeros((len(v), 1))], axis=1)

    def driven(self, sources: list[PhaseSource], order: float) -> Complexes:
        """Currents into the nodes by each source, (k, n_node), A."""
        found = np.zeros((len(sources), self.arrays.n_node + 2), np.complex128)
        for k, s in enumerate(sources):
            np.add.at(found[k], np.append(s.node, s.neutral), s.injected(order))
        return found[:, :-2]

    def capacitances(self, order: float, v: Complexes) -> dict[str, float]:
        """Reactive power in the capacitors of banks and filters at voltages (n_node + 1,) of an order, by element."""
        a, t = self.here, self.here.terminal
        amps = self.terminal_currents(v[None])[0]
        found: dict[str, float] = {}
        for n in np.flatnonzero((t["key"] < 4 * a.n_bus) & (t["key"] % 4 < NEUTRAL)).tolist():
            e = self.network.items.get(a.element_id[t["element"][n]])
            kv = float(a.bus_kv[t["key"][n] // 4])
            if isinstance(e, Filter) or (isinstance(e, Shunt) and e.device == "capacitor"):
                xc = capacitor_ohm(e, kv, self.frequency_hz)
                found[e.id] = found.get(e.id, 0.0) + float(abs(amps[n]) ** 2 * xc / order)
        return found

    def terminal_currents(self, v: Complexes) -> Complexes:
        """Currents into the terminals of what is linear, (k, n_terminal), A, for voltages (k, n_node + 1)."""
        here = self.here
        node = here.terminal_node()
        at = v[:, np.where(node < 0, here.n_node, node)]
        found = np.zeros((len(v), len(node)), np.complex128)
        for k in range(len(v)):
            flow = self.t_y * at[k, here.t_col]
            found[k] = np.bincount(here.t_row, flow.real, len(node)) + 1j * np.bincount(
                here.t_row, flow.imag, len(node)
            )
        return found


def as_controlled(network: Network, reading: BalancedReading) -> Network:
    """The network with taps and steps where automatic control left them in a balanced state."""
    changes: list[Change] = []
    for e, position in reading.positions.items():
        item = network[reading.arrays.element_id[e]]
        name = next((f for f in ("tap_position", "steps_on") if f in type(item).model_fields), None)
        if name is not None and getattr(item, name) != round(position):
            changes.append(Update(id=item.id, values={name: round(position)}))
    if not changes:
        return network
    found = network.copy()
    found.apply(changes)
    return found


def phase_sources(
    network: Network, arrays: ConductorArrays, legs: Legs, options: GridOptions, *, rated: bool
) -> list[PhaseSource]:  # fmt: skip
    """All that inject at conductors with a supply; ``rated``: spectra of inverters are shares of their rated current."""
    place = {i: n for n, i in enumerate(arrays.element_id)}
    at = {b: n for n, b in enumerate(arrays.bus_id)}
    found = []
    for e in distorting(network):
        n = place.get(e.id, -1)
        if n < 0 or e.bus not in at:
            continue
        row = at[e.bus]
        nodes = np.where(arrays.node[row, :3] >= 0, arrays.node[row, :3], -1)
        volts, own = legs.bus_v[row], own_impedance(e, float(arrays.bus_kv[row]), arrays.frequency_hz, options)
        if isinstance(e, Source):
            star = -1 if e.neutral == "isolated" and arrays.node[row, 3] == ABSENT else -2
            found.append(PhaseSource(e.id, nodes, star, volts, turned(network, e), own, e.z0_over_z1))
            continue
        there = np.array([c in e.conductors for c in "ABC"], np.bool_)
        delta = between_phases(e)
        current = legs.between[n] if delta else legs.current[n] * (1 if isinstance(e, Load) else -1)
        size = rating(e) * 1e6
        across = volts - np.roll(volts, -1) if delta else volts
        loading = float(abs((across * np.conj(current)).sum()) / size) if size else 1.0
        as_rated = rated and isinstance(e, Inverter)
        orders = turned(network, e, 1.0 if as_rated else loading)
        if source_model(e, options) == "voltage" and own is not None:
            straight = turned(network, e, 1.0 if as_rated else loading, voltage=True)
            found.append(PhaseSource(e.id, nodes, _way_back(e, arrays, row), np.where(there, volts, 0), straight, own))
            continue
        if as_rated and not np.any(current):
            current = np.where(there, volts, 0)  # what delivers nothing now: as if it delivered active power
        largest = float(np.abs(current).max(initial=0.0))
        if as_rated and size and largest:
            current = current / largest * size / int(there.sum()) / float(arrays.phase_v[row])
        if largest:
            found.append(PhaseSource(e.id, nodes, _way_back(e, arrays, row), current, orders, delta=delta))
    return found


def _way_back(e: Load | Inverter, arrays: ConductorArrays, row: int) -> int:
    """Node by which its currents come back, -1 where they have none, -2 for earth."""
    neutral, wires = arrays.node[row, NEUTRAL], len(e.conductors.replace("N", ""))
    if getattr(e, "connection", "wye") == "delta" or ("N" not in e.conductors and wires > 1):
        return -1
    if neutral >= 0:
        return int(neutral)
    # One wire comes back by earth where there is no neutral; three of which nobody earths the star have no way back.
    return -2 if neutral == EARTH or wires == 1 else -1


def own_legs(network: Network, arrays: ConductorArrays, options: GridOptions) -> tuple[Ints, Ints, list[Own]]:
    """Impedances that injecting elements bring along, leg by leg: from each phase to the way back, of three wires the equal
    delta. Nodes of both ends, and the impedances in Ω."""
    at = {b: n for n, b in enumerate(arrays.bus_id)}
    known = set(arrays.element_id)
    p: list[int] = []
    q: list[int] = []
    z: list[Own] = []
    for e in distorting(network):
        if isinstance(e, Source) or e.bus not in at or e.id not in known:
            continue
        row = at[e.bus]
        own = own_impedance(e, float(arrays.bus_kv[row]), arrays.frequency_hz, options)
        if own is None:
            continue
        nodes = [int(arrays.node[row, "ABC".index(c)]) for c in e.conductors if c != "N"]
        back = _way_back(e, arrays, row)
        if back == -1:
            pairs = list(combinations(nodes, 2))
            times = 3.0 if len(nodes) == 3 else 2.0
        else:
            pairs, times = [(n, back) for n in nodes], 1.0
            if len(nodes) < 3:  # its rating is that of the phases it has
                own = own.times(len(nodes) / 3)
        for a, b in pairs:
            p.append(a)
            q.append(b)
            z.append(own.times(times))
    return np.array(p, np.int64), np.array(q, np.int64), z
