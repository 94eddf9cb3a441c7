"""The network at any frequency, on the pattern of its nodal admittance matrix.

Per unit on the base power and nominal voltages of the load flow; order h is frequency over the network's own.

- Series impedance of branches: r h^k + j h x, k the skin effect of the element (0 where it has none).
- Shunt susceptance that is capacitive grows with h, one that is inductive falls with 1/h; conductance stays.
- Long lines: z' = z sinh(t)/t, y' = y tanh(t/2)/(t/2), t = sqrt(z y) (Grainger, Stevenson, "Power System Analysis", ch. 6).
- Transformers turn positive sequence one way and negative sequence the other.
- Lines with a geometry: where asked for, resistance and reactance by Carson's equations at that frequency.
- Filters by their circuit.
- Sources r h^a + j h x by their fault level; machines j h x'' with r = x''/20 growing with sqrt(h); motors by locked rotor.
- Demand of P and Q at voltage V: R = V²/P and X = V²/Q side by side or in series at the network's frequency; or R in series with
  0.073 h R, beside h R / (6.7 Q/P - 0.74) (CIGRE Working Group 36-05, Electra 77, 1981).
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from ...catalogue import circuit_impedance
from ...electrical.admittance import NodalPattern, TwoPorts, two_ports
from ...electrical.arrays import Columns, Complexes, Floats, Ints, NetArrays
from ...electrical.conductor import MACHINE_X_OVER_R
from ...electrical.line_constants import line_constants
from ...electrical.sparse import SparseLU
from ...errors import SingularMatrix
from ...flow.balanced import Reading
from ...network import (
    Filter,
    Generator,
    InductionMotor,
    Line,
    LineGeometry,
    LumpedLoad,
    Network,
    Shunt,
    Source,
    SynchronousMotor,
    resistance_factor,
)  # fmt: skip
from ._kernel import MOTOR_SHARE, PARALLEL, SERIES, SHORT, Branches, Lines, Nodes, assemble
from ._options import GridOptions
from ._sources import beside_network, source_ohm

FORMS = {"parallel": PARALLEL, "series": SERIES, "motor_share": MOTOR_SHARE, "none": PARALLEL}


@dataclass(frozen=True)
class _Series:
    """Admittances to earth 1/(r h^k + j h x - j xc/h) at rows of the matrix."""

    element: list[str]
    row: Ints
    r: Floats
    x: Floats
    k: Floats
    xc: Floats


class Grid:
    """A solved network seen at other frequencies. ``alone``: elements whose demand is no impedance, as they inject instead."""

    def __init__(self, network: Network, reading: Reading, options: GridOptions, alone: frozenset[str] = frozenset()):
        self.network, self.reading, self.options = network, reading, options
        self.arrays: NetArrays = reading.arrays
        self.pattern: NodalPattern = reading.problem.pattern
        self._branch = self.arrays.tables["branch"]
        self._skin, self._is_line = self._of_branches(network)
        self._series = self._to_earth(network)
        self._load_row, self._demand = self._of_demand(network, alone)
        self.filters, self.filter_row, self._circuits = self._of_filters(network)
        self._shaped = self._of_geometries(network) if options.lines == "geometry" else {}
        self._prepare()
        self.begin()

    def begin(self) -> None:
        """Forget the pivots of what was solved before, on which the last bits of what follows would hang."""
        self._lu = SparseLU(self.pattern.indptr, self.pattern.indices, complex_=True, in_order=True)

    def close(self) -> None:
        self._lu.close()

    @property
    def frequency_hz(self) -> float:
        return self.arrays.frequency_hz

    def row(self, bus: str) -> int:
        """Row of the matrix of a bus, -1 without supply."""
        return int(self.pattern.row[self.arrays.bus_id.index(bus)])

    def _of_branches(self, network: Network) -> tuple[Floats, np.ndarray]:
        element = self._branch["element"].tolist()
        ids, kinds = self.arrays.element_id, self.arrays.element_kind
        items = [network.items.get(ids[e]) for e in element]
        skin = np.array([float(getattr(i, "skin_exponent", 0.0) or 0.0) for i in items])
        self._items = items
        # By a table or eddy losses: told to the kernel as another resistance at every order.
        self._factored = [(n, i) for n, i in enumerate(items) if getattr(i, "resistance_table", None)
                          or getattr(i, "eddy_pct", None) is not None]  # fmt: skip
        skin[[n for n, _ in self._factored]] = 0.0
        return skin, np.array([kinds[e] == "line" for e in element], np.bool_)

    def _to_earth(self, network: Network) -> _Series:
        base, rows = self.arrays.base_mva, dict(zip(self.arrays.bus_id, self.pattern.row.tolist(), strict=True))
        kv = dict(zip(self.arrays.bus_id, self.arrays.bus_kv.tolist(), strict=True))
        found: list[tuple[str, int, float, float, float, float]] = []
        for e in network.elements():
            if not e.in_service or e.missing() or not e.buses() or (row := rows.get(e.buses()[0], -1)) < 0:
                continue
            bus = e.buses()[0]
            z: complex | None = None
            k = 0.5
            if isinstance(e, Source):
                z, k = source_ohm(e, kv[bus], self.options) / kv[bus] ** 2 * base, self.options.source_exponent
            elif isinstance(e, Generator) and e.rated_mva:
                z = complex(1 / MACHINE_X_OVER_R, 1) * e.xd_pct / 100 * base / e.rated_mva
            elif self.options.demand == "none":
                continue
            elif isinstance(e, InductionMotor):
                cos = e.starting_power_factor
                z = (
                    complex(cos, (1 - cos * cos) ** 0.5)
                    / e.starting_current_x
                    * base
                    / e.rated_input_mva(e.power_factor)
                )
            elif isinstance(e, SynchronousMotor):
                size = e.rated_input_mva(e.power_factor or 1.0)
                z = complex(1 / MACHINE_X_OVER_R, 1) * e.xd_pct / 100 * base / size
            elif isinstance(e, LumpedLoad) and (ohm := e.motor_ohm(kv[bus])) is not None:
                z = ohm / kv[bus] ** 2 * base
            if isinstance(e, InductionMotor | SynchronousMotor) and z is not None and e.rated_kv:
                z *= (e.rated_kv / kv[bus]) ** 2
            if z is not None:
                found.append((e.id, row, z.real, z.imag, k, 0.0))
        found += [(ident, row, own.r, own.x, own.k, own.xc)
                  for ident, row, own in beside_network(network, self.reading, self.options)]  # fmt: skip
        element, row, *values = zip(*found, strict=True) if found else ((), (), (), (), (), ())
        return _Series(list(element), np.array(row, np.int64), *(np.array(v, float) for v in values))

    def _of_demand(self, network: Network, alone: frozenset[str]) -> tuple[Ints, Complexes]:
        """Rows and conj(S)/V², the admittance at the network's frequency, of demand that is an impedance."""
        load = self.arrays.tables["load"]
        row = self.pattern.row[load["bus"]]
        ids, kinds = self.arrays.element_id, self.arrays.element_kind
        element = load["element"].tolist()
        share = np.array([
            0.0 if ids[e] in alone or kinds[e] in ("induction_motor", "synchronous_motor")
            else 1 - _motor_share(network, ids[e]) for e in element
        ])  # fmt: skip
        power = self.reading.load_power / self.arrays.base_mva * share
        counts = (row >= 0) & (power.real > 0) & (self.options.demand != "none")
        volts = np.abs(self.reading.v0[load["bus"][counts]])
        return row[counts], np.asarray(np.conj(power[counts]) / volts**2)

    def _of_filters(self, network: Network) -> tuple[list[Filter], Ints, Floats]:
        """Filters in service at a live bus, their rows, and their circuits per unit, (n, 9)."""
        bus = {b: n for n, b in enumerate(self.arrays.bus_id)}
        known = set(self.arrays.element_id)
        found = [e for e in network.of(Filter) if e.id in known and e.steps_on and self.pattern.row[bus[e.bus]] >= 0]
        kv = self.arrays.bus_kv
        circuits = [
            e.circuit(float(kv[bus[e.bus]]), self.frequency_hz)
            .times(self.arrays.base_mva / kv[bus[e.bus]] ** 2 / e.steps_on).values()
            for e in found
        ]  # fmt: skip
        rows = np.array([self.pattern.row[bus[e.bus]] for e in found], np.int64)
        return found, rows, np.array(circuits, np.float64).reshape(-1, 9)

    def filter_admittance(self, order: float) -> Complexes:
        """Of every filter at an order, per unit, (n,)."""
        return np.asarray(1 / circuit_impedance(order, *self._circuits.T))

    def _of_geometries(self, network: Network) -> dict[str, tuple[LineGeometry, Ints, Floats]]:
        """Of each geometry that lines take their constants from: those branches, and per unit per Ω/km of each."""
        found: dict[str, tuple[LineGeometry, Ints, Floats]] = {}
        ids = self.arrays.element_id
        rows: dict[str, list[tuple[int, float]]] = {}
        for n in np.flatnonzero(self._is_line).tolist():
            e = network.items.get(ids[self._branch["element"][n]])
            if (
                not isinstance(e, Line)
                or e.matrix
                or not e.geometry
                or e.r_ohm_per_km is not None
                or e.x_ohm_per_km is not None
            ):
                continue
            kv = float(self.arrays.bus_kv[self._branch["from"][n]])
            scale = (e.length_km or 0.0) / e.parallel * self.arrays.base_mva / kv**2
            rows.setdefault(e.geometry, []).append((n, scale))
        for name, members in rows.items():
            geometry = network.items.get(name)
            if isinstance(geometry, LineGeometry) and not geometry.missing():
                place, scales = zip(*members, strict=True)
                found[name] = geometry, np.array(place, np.int64), np.array(scales, np.float64)
        return found

    def _series_at(self, order: float) -> tuple[Floats, Floats]:
        """Resistance and reactance of branches as if at order 1: what the kernel makes of them is right at this order."""
        r, x = self._branch["r"].copy(), self._branch["x"].copy()
        for n, item in self._factored:
            r[n] *= resistance_factor(item, order)
        for geometry, rows, scale in self._shaped.values():
            first, here = (line_constants(geometry, self.frequency_hz * h).z1 for h in (1.0, order))
            skin = order ** self._skin[rows]
            more = np.array([resistance_factor(self._items[n], order) for n in rows.tolist()])
            # The conductor's own resistance grows by its skin effect; what Carson adds for the earth cancels in balance.
            r[rows] = (here.real - first.real + first.real * more) * scale / skin
            x[rows] = here.imag * scale / order
        return r, x

    def ports(self, order: float, sequence: int) -> TwoPorts:
        """Two-ports of all branches at an order; ``sequence`` 1 or -1."""
        b = self._branch
        r, x = self._series_at(order)
        r, x = r * order**self._skin, x * order
        shunts = [_susceptance(b[s], order) for s in ("shunt_from", "shunt_to")]
        if self.options.lines != "nominal":
            r, x, shunts = self._long(r, x, shunts)
        columns: Columns = {
            **b,
            "r": r,
            "x": x,
            "shunt_from": shunts[0],
            "shunt_to": shunts[1],
            "shift": sequence * b["shift"],
        }
        return two_ports(columns)

    def _long(self, r: Floats, x: Floats, shunts: list[Complexes]) -> tuple[Floats, Floats, list[Complexes]]:
        z, y = r + 1j * x, shunts[0] + shunts[1]
        t = np.sqrt(z * y)
        long = self._is_line & (np.abs(t) > 1e-7)
        safe = np.where(long, t, 1.0)
        z = np.where(long, z * np.sinh(safe) / safe, z)
        half = np.where(long, np.tanh(safe / 2) / (safe / 2), 1.0)
        return z.real, z.imag, [s * half for s in shunts]

    def factorise(self, order: float, sequence: int = 1) -> None:
        """Make ready for solving at an order. Raises :class:`SingularMatrix` at an exact resonance without losses."""
        try:
            self._lu.factorise(self.values(order, sequence), checked=self._finite)
        except SingularMatrix:
            raise SingularMatrix(
                f"at {order * self.frequency_hz:g} Hz (order {order:g}) the network is in resonance without any loss"
                f"{self._loop(order, sequence)}; enter a resistance there"
            ) from None

    def _loop(self, order: float, sequence: int) -> str:
        """What swings against what at a resonance without losses, in words; empty where it can't be told.

        A hair of conductance at every node lets the matrix be solved; what comes out is the state that holds itself.
        """
        values = self.values(order, sequence).copy()
        if not np.all(np.isfinite(values)):
            return ""
        diagonal = self.pattern.diagonal
        values[diagonal] += 1e-9 * max(float(np.abs(values).max()), 1e-30)
        lu = SparseLU(self.pattern.indptr, self.pattern.indices, complex_=True, in_order=True)
        try:
            lu.factorise(values)
            v = lu.solve(np.exp(1j * np.arange(self.pattern.n)))
            v = lu.solve(v / np.abs(v).max())
        except (SingularMatrix, FloatingPointError):
            return ""
        finally:
            lu.close()
        v /= np.abs(v).max()
        swings = [self.capacitances(order, v), self._inductances(order, sequence, v)]
        told = [[self.network[i].name for i in sorted(s, key=lambda i: -s[i]) if s[i] > 0.1 * max(s.values())][:3]
                for s in swings]  # fmt: skip
        return f": {', '.join(told[0])} swings with {', '.join(told[1])}" if all(told) else ""

    def _inductances(self, order: float, sequence: int, v: Complexes) -> dict[str, float]:
        """Reactive power in every inductance (branches, sources, machines, reactors of filters) at voltages of an order."""
        found: dict[str, float] = {}
        ids, rows, ports = self.arrays.element_id, self.pattern.row, self.ports(order, sequence)
        at_f, at_t = rows[self._branch["from"]], rows[self._branch["to"]]
        ends = [np.where(at >= 0, v[np.maximum(at, 0)], 0) for at in (at_f, at_t)]
        current = np.abs(ports.ff * ends[0] + ports.ft * ends[1])
        for n in np.flatnonzero(current).tolist():
            ident = ids[self._branch["element"][n]]
            found[ident] = found.get(ident, 0.0) + float(current[n] ** 2 * max(self._branch["x"][n], 0.0) * order)
        s = self._series
        y = 1 / (s.r * order**s.k + 1j * (order * s.x - s.xc / order))
        for ident, q in zip(s.element, (np.abs(y * v[s.row]) ** 2 * s.x * order).tolist(), strict=True):
            found[ident] = found.get(ident, 0.0) + q
        currents = np.abs(self.filter_admittance(order) * v[self.filter_row])
        for e, amps, circuit in zip(self.filters, currents.tolist(), self._circuits, strict=True):
            found[e.id] = found.get(e.id, 0.0) + amps**2 * float(circuit[2]) * order
        return {i: q for i, q in found.items() if q > 0}

    def values(self, order: float, sequence: int = 1) -> Complexes:
        """The nodal admittance matrix at an order, on its pattern, (nnz,); the same array every time."""
        lines, branches = self._at(order)
        if sequence < 0:
            branches = branches._replace(turn=self._back)
        fill: Any = assemble
        short = int(np.searchsorted(self._wave, SHORT / order**2, "right"))
        self._finite = bool(
            fill(order, order**self._exponents, short, lines, self._work, branches, self._nodes, self._values)
        )
        return self._values

    def _at(self, order: float) -> tuple[Lines, Branches]:
        """Lines and other branches with resistance and reactance as the kernel takes them at an order."""
        if not (self._shaped or self._factored):
            return self._lines, self._others
        r, x = self._series_at(order)
        first, rest = self._line_rows, self._other_rows
        return self._lines._replace(r=r[first], x=x[first]), self._others._replace(r=r[rest], x=x[rest])

    def _prepare(self) -> None:
        """Lay out what the kernel takes."""
        self._nodes: Nodes = self._at_nodes()
        live, b = self.pattern.live_branch, self._branch
        long = self._is_line[live] & (self.options.lines != "nominal")
        self._exponents, by = np.unique(self._skin[live], return_inverse=True)
        f, t = b["ratio_from"][live], b["ratio_to"][live]
        y_from, y_to, turn = b["shunt_from"][live], b["shunt_to"][live], np.exp(1j * b["shift"][live])
        slots = self.pattern.slots[: 4 * len(live)].reshape(4, -1)
        plain = long & (f == 1) & (t == 1) & (b["shift"][live] == 0) & (y_from.imag >= 0) & (y_to.imag >= 0)
        # What a line is to the wave may grow with resistances, which change with the order: those are taken one by one.
        plain &= (self._skin[live] <= 1) & ~np.isin(live, [n for n, _ in self._factored])
        for _, rows, _ in self._shaped.values():
            plain &= ~np.isin(live, rows)
        wave = (np.abs(b["r"][live]) + np.abs(b["x"][live])) * np.abs(y_from + y_to)
        lines, rest = np.flatnonzero(plain), np.flatnonzero(~plain)
        lines = lines[np.argsort(slots[0, lines], kind="stable")]  # entries one after the other in memory
        longest = np.argsort(wave[lines], kind="stable")
        self._wave, self._line_rows, self._other_rows = wave[lines][longest], live[lines], live[rest]
        whose = by.astype(np.uint64)  # without a sign the compiled loops need not look for negative ones
        r, x, entries = b["r"][live], b["x"][live], np.ascontiguousarray(slots[:, lines].astype(np.uint64))
        self._lines = Lines(
            r=r[lines], x=x[lines], by=whose[lines], g_from=y_from.real[lines], b_from=y_from.imag[lines],
            g_to=y_to.real[lines], b_to=y_to.imag[lines], slots=entries, longest=longest,
        )  # fmt: skip
        self._others = Branches(
            r[rest], x[rest], whose[rest], y_from[rest], y_to[rest], long[rest], 1 / (f * f)[rest],
            1 / (f * t)[rest], 1 / (t * t)[rest], turn[rest], np.ascontiguousarray(slots[:, rest]),
        )  # fmt: skip
        self._back = np.conj(self._others.turn)
        self._work = tuple(np.empty(len(lines)) for _ in range(7))
        self._values = np.empty(len(self.pattern.indices), np.complex128)
        self._finite = False

    def _at_nodes(self) -> Nodes:
        diagonal, s, form = self.pattern.diagonal, self._series, FORMS[self.options.demand]
        standing = (self.arrays.tables["shunt"]["y"] * ~self.is_filter)[self.pattern.live_shunt]
        slot, y = self.pattern.slots[4 * len(self.pattern.live_branch) :], standing
        load_slot, load_y = diagonal[self._load_row], self._demand
        if form == PARALLEL:
            slot, y = np.r_[slot, load_slot], np.r_[y, load_y]
            load_slot, load_y = load_slot[:0], load_y[:0]
        places, of = np.unique(slot, return_inverse=True)
        stays, grows, falls = (
            np.bincount(of, p, len(places)) for p in (y.real, np.maximum(y.imag, 0), np.minimum(y.imag, 0))
        )
        return Nodes(
            places, stays, grows, falls, diagonal[s.row], s.r, s.x, s.k, s.xc, load_slot, load_y,
            form, diagonal[self.filter_row], self._circuits,
        )  # fmt: skip

    def solve(self, injected: Complexes) -> Complexes:
        """Voltages for currents into the network, both (n,) or (k, n), per unit."""
        return self._lu.solve(injected)

    def unit(self, row: int) -> Complexes:
        """Voltages of all rows for one per unit of current into one: a column of the impedance matrix."""
        rhs = np.zeros(self.pattern.n, np.complex128)
        rhs[row] = 1.0
        return self.solve(rhs)

    def bare(self) -> Complexes:
        """Impedance seen from every row at the network's frequency through sources and machines alone, per unit: no demand, no
        capacitance, no bank."""
        lines, branches = self._at(1.0)
        still = np.zeros_like(lines.r)
        lines = lines._replace(g_from=still, b_from=still, g_to=still, b_to=still)
        branches = branches._replace(y_from=0 * branches.y_from, y_to=0 * branches.y_to)
        empty, none = self.pattern.slots[:0], np.zeros(0)
        nodes = self._nodes._replace(
            slot=empty, stays=none, grows=none, falls=none, load_slot=empty, load_y=none.astype(np.complex128),
            filter_slot=empty, filters=np.zeros((0, 9)),
        )  # fmt: skip
        values = np.empty_like(self._values)
        fill: Any = assemble
        fill(1.0, np.ones_like(self._exponents), len(lines.r), lines, self._work, branches, nodes, values)
        lu = SparseLU(self.pattern.indptr, self.pattern.indices, complex_=True, in_order=True)
        lu.factorise(values)
        found = lu.inverse_diagonal()
        lu.close()
        return found

    def everywhere(self) -> Complexes:
        """Impedance seen from every row at the order made ready last, per unit."""
        return self._lu.inverse_diagonal()

    def seen_from(self, row: int) -> Complexes:
        """Voltage of one row for one per unit of current into each: a row of the impedance matrix."""
        rhs = np.zeros(self.pattern.n, np.complex128)
        rhs[row] = 1.0
        return self._lu.solve_transposed(rhs)

    def capacitances(self, order: float, v: Complexes) -> dict[str, float]:
        """Reactive power in every capacitance (lines, cables, banks) at voltages (n,) of an order: who swings, per unit."""
        found: dict[str, float] = {}
        rows, ids = self.pattern.row, self.arrays.element_id
        for name, bus, ratio in (("shunt_from", "from", "ratio_from"), ("shunt_to", "to", "ratio_to")):
            b = np.maximum(self._branch[name].imag, 0) * order
            at = rows[self._branch[bus]]
            inner = np.where(at >= 0, np.abs(v[at]), 0.0) / self._branch[ratio]
            for n in np.flatnonzero(b * inner).tolist():
                ident = ids[self._branch["element"][n]]
                found[ident] = found.get(ident, 0.0) + float(b[n] * inner[n] ** 2)
        shunt = self.arrays.tables["shunt"]
        for n in np.flatnonzero(~self.is_filter).tolist():
            at = rows[shunt["bus"][n]]
            if at >= 0 and shunt["y"][n].imag > 0:
                ident = ids[shunt["element"][n]]
                found[ident] = found.get(ident, 0.0) + float(shunt["y"][n].imag * order * abs(v[at]) ** 2)
        currents = np.abs(self.filter_admittance(order) * v[self.filter_row])
        for e, amps, circuit in zip(self.filters, currents.tolist(), self._circuits, strict=True):
            found[e.id] = found.get(e.id, 0.0) + amps**2 * float(circuit[0]) / order
        return found

    @cached_property
    def is_filter(self) -> np.ndarray:
        """Which rows of the shunts are filters, whose circuit stands in their place at other orders."""
        kinds = self.arrays.element_kind
        return np.array([kinds[e] == "filter" for e in self.arrays.tables["shunt"]["element"].tolist()], np.bool_)


def capacitor_ohm(e: Shunt | Filter, nominal_kv: float, frequency_hz: float) -> float:
    """Reactance in Ω of the capacitors that are on, one phase of the star, at the frequency of the network."""
    steps = max(e.steps_on, 1)
    if isinstance(e, Shunt):
        return (e.rated_kv or nominal_kv) ** 2 / ((e.step_mvar or 1.0) * steps)
    return e.circuit(nominal_kv, frequency_hz).xc / steps


def sequence_of(order: float) -> int:
    """Sequence of a balanced harmonic: 1 positive, -1 negative, 0 zero. Orders between whole ones count as positive."""
    whole = round(order)
    return 1 if abs(order - whole) > 1e-9 else (0, 1, -1)[whole % 3]


def _susceptance(y: Complexes, order: float) -> Complexes:
    return np.asarray(y.real + 1j * np.where(y.imag > 0, y.imag * order, y.imag / order))


def _motor_share(network: Network, ident: str) -> float:
    item = network.items.get(ident)
    return (item.motor_pct or 0.0) / 100 if isinstance(item, LumpedLoad) else 0.0
