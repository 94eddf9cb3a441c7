"""The network at any frequency in conductor coordinates: every phase, the neutral and earth.

What is linear comes from the same stamps as the load flow per phase, at the frequency in question; machines are then
impedances in all three sequences. Demand is an impedance in each of its legs. In V, A and Ω; the matrix is scaled by the bases
of its nodes.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from ...electrical.arrays import Complexes, Floats, Ints
from ...electrical.conductor import EARTH, AtOrder, ConductorArrays, compile_conductors
from ...electrical.sparse import SparseLU
from ...errors import SingularMatrix
from ...flow import phases
from ...flow.balanced import Reading as BalancedReading
from ...network import Change, Inverter, Load, LumpedLoad, Network, Update
from ._grid import FORMS
from ._kernel import demands
from ._options import GridOptions
from ._sources import Spectrum, distorting, turned

_MOST_KEPT = 20_000  # nodes, of all orders whose factors are kept for a second look

Standing = Callable[[ConductorArrays], Complexes]


@dataclass(frozen=True)
class Legs:
    """Demand as it draws: power in VA and voltage in V of every row of the demand, the current that each element draws from
    A, B and C, (n_element, 3), A, and the voltage of A, B and C of every bus, (n_bus, 3), V."""

    power: Complexes
    volts: Floats
    current: Complexes
    bus_v: Complexes

    @classmethod
    def per_phase(cls, reading: phases.Reading) -> Legs:
        a = reading.arrays
        d = a.demand
        u = reading.voltage_at(a.node_of_key[d["key_p"]]) - reading.voltage_at(a.node_of_key[d["key_q"]])
        drawn = np.nan_to_num(reading.injection_phase_current[:, :3])
        return cls(reading.demand_power, np.abs(np.nan_to_num(u)), drawn, np.nan_to_num(reading.to_neutral))

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
        return cls(d["s"] * factor[d["element"]], d["u0"] * np.abs(v)[np.minimum(bus, len(v) - 1)], current, bus_v)


@dataclass(frozen=True)
class PhaseSource:
    """What injects, per conductor. ``node``: nodes of A, B, C, -1 where it has none; ``neutral``: node that its currents come
    back by, -1 where it has none, -2 for earth; ``current``: fundamental currents into the network, A."""

    element: str
    node: Ints
    neutral: int
    current: Complexes
    orders: Spectrum = field(default_factory=dict)

    def injected(self, order: int) -> Complexes:
        """Currents of an order into A, B, C and the neutral, A, (4,)."""
        share, angle, _ = self.orders.get(order, (0.0, 0.0, True))
        size = np.abs(self.current)
        found = size * share * np.exp(1j * (order * np.angle(self.current) + angle))
        there = (self.node >= 0) & (size > 0)
        found = np.where(there, found, 0)
        if self.neutral == -1:
            # Three wires or two: what all would carry alike has no way back.
            if there.sum() == 2:
                first, second = np.flatnonzero(there)
                found[second] = -found[first]
            elif there.any():
                found = np.where(there, found - found[there].mean(), 0)
            return np.append(found, 0)
        return np.append(found, -found.sum())

    def known(self, order: int) -> bool:
        return order not in self.orders or self.orders[order][2]


class PhaseGrid:
    """A solved network per conductor at other frequencies. ``alone``: elements whose demand is no impedance, as they inject;
    ``standing``: terminal admittances of the network at an order, with what automatic control has set."""

    def __init__(self, network: Network, arrays: ConductorArrays, legs: Legs, options: GridOptions,
                 alone: frozenset[str] = frozenset(), standing: Standing = lambda a: a.t_y) -> None:  # fmt: skip
        self.network, self.arrays, self.options, self._standing = network, arrays, options, standing
        self._leg_from, self._leg_to, self._demand = self._of_demand(legs, alone)
        problem = phases.Problem(arrays)
        self.live, self._pins = problem.live, problem.pins
        self.frequency_hz = arrays.frequency_hz
        self._lu: SparseLU | None = None
        self._kept: dict[float, tuple[ConductorArrays, Complexes, SparseLU]] = {}

    def close(self) -> None:
        for _, _, lu in self._kept.values():
            lu.close()
        self._kept.clear()
        self._lu = None

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
        return self._compiled(2.0)

    def _compiled(self, order: float) -> ConductorArrays:
        o = self.options
        return compile_conductors(
            self.network, AtOrder(order, o.fault_level, o.source_exponent, o.lines, o.demand != "none")
        )

    def factorise(self, order: float) -> None:
        """Make ready for an order. Raises :class:`SingularMatrix` at an exact resonance without losses."""
        if order in self._kept:
            self.here, self.t_y, self._lu = self._kept[order]
            return
        o = self.options
        here = self._compiled(order)
        self.here, self.t_y = here, self._standing(here)
        y = demands(self._demand, order, FORMS[o.demand])
        node = here.terminal_node()
        p, q = self._leg_from, self._leg_to
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
        self._kept[order] = here, self.t_y, self._lu

    def solve(self, amps: Complexes) -> Complexes:
        """Voltages in V of all nodes and earth, (k, n_node + 1), for currents into the nodes, (k, n_node), A."""
        assert self._lu is not None
        base = self.here.base_v
        v = self._lu.solve(amps * base / (self.here.base_mva * 1e6)) * base
        return np.concatenate([v, np.zeros((len(v), 1))], axis=1)

    def driven(self, sources: list[PhaseSource], order: int) -> Complexes:
        """Currents into the nodes by each source, (k, n_node), A."""
        found = np.zeros((len(sources), self.arrays.n_node + 2), np.complex128)
        for k, s in enumerate(sources):
            np.add.at(found[k], np.append(s.node, s.neutral), s.injected(order))
        return found[:, :-2]

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


def phase_sources(network: Network, arrays: ConductorArrays, legs: Legs, *, rated: bool) -> list[PhaseSource]:
    """All that inject at conductors with a supply; ``rated``: spectra of inverters are shares of their rated current."""
    place = {i: n for n, i in enumerate(arrays.element_id)}
    at = {b: n for n, b in enumerate(arrays.bus_id)}
    found = []
    for e in distorting(network):
        n = place.get(e.id, -1)
        if n < 0 or e.bus not in at:
            continue
        draws = isinstance(e, Load)
        current = legs.current[n] * (1 if draws else -1)
        if rated and isinstance(e, Inverter) and not np.any(current):
            there = np.array([c in e.conductors for c in "ABC"], np.bool_)
            current = np.where(
                there, legs.bus_v[at[e.bus]], 0
            )  # what delivers nothing now: as if it delivered active power
        size = float(np.abs(current).max(initial=0.0))
        if rated and isinstance(e, Inverter) and e.rated_mva and size:
            each = e.rated_mva * 1e6 / len(e.conductors.replace("N", "")) / float(arrays.phase_v[at[e.bus]])
            current = current / size * each
        if not size:
            continue
        node = arrays.node[at[e.bus]]
        phases_only = len(e.conductors.replace("N", ""))
        if getattr(e, "connection", "wye") == "delta" or ("N" not in e.conductors and phases_only > 1):
            neutral = -1
        elif node[3] >= 0:
            neutral = int(node[3])
        else:
            # One wire comes back by earth where there is no neutral; three of which nobody earths the star have no way back.
            neutral = -2 if node[3] == EARTH or phases_only == 1 else -1
        orders = turned(network, e)
        found.append(PhaseSource(e.id, np.where(node[:3] >= 0, node[:3], -1), neutral, current, orders))
    return found
