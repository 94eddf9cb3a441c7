"""Automatic control per phase: the controllers of the balanced load flow, looking at what each of them can see.

A ganged tap sees the positive sequence, one control per phase the voltage of its phase to the neutral. What each sees
is laid out as buses of its own, so that the rules of stepping, of order and of giving up are the same everywhere.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, cast

import numpy as np

from ...electrical import SLACK, NetArrays, trace
from ...electrical.arrays import Bools, Columns, Complexes, Floats, Ints
from ...electrical.conductor import ConductorArrays
from ...network import Element, Network
from ..balanced import MOST_ROUNDS, Banks, Control, Curves, Dispatch, Remote, Shifters, Taps, tap_order
from ._options import UnbalancedOptions
from ._problem import Demands
from ._reading import Admittances, Reading

POSITIVE = -1


@dataclass
class Seen:
    """What controllers look at: one voltage for each, and the current out of taps with compensation, per unit; what
    sources and machines deliver and what goes into phase shifters, MVA; what each area gives to the others, per unit."""

    v: Complexes
    to_current: Complexes
    machine_power: Complexes
    branch_power: tuple[Complexes]
    area_exchange: Floats

    @property
    def volts(self) -> Floats:
        return np.abs(self.v)


@dataclass
class _View:
    """As much of compiled arrays as controllers ask for."""

    tables: dict[str, Columns]
    base_mva: float
    bus_area: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    area_id: list[str] = field(default_factory=list)
    area_export: Floats = field(default_factory=lambda: np.zeros(0))


Words = Callable[[int], str]


class PhaseControls:
    """All controllers of one solution. ``balanced``: the arrays of the balanced network, which say what is controlled."""

    def __init__(self, network: Network, arrays: ConductorArrays, balanced: NetArrays) -> None:
        self.arrays, self.network, self.balanced = arrays, network, balanced
        self._row = {b: i for i, b in enumerate(arrays.bus_id)}
        self._position = {e: i for i, e in enumerate(arrays.element_id)}
        self._taps = self._tap_rows()
        self._banks = self._bank_rows()
        self._curves = self._curve_rows()
        self._machine = {e: k for k, e in enumerate(arrays.machine["element"].tolist())}
        self._remote = self._remote_rows()
        self._shifters = self._shifter_rows()
        self._dispatch = self._dispatch_rows()
        self.kinds: list[Control] = []
        self._words: dict[type[Control], tuple[Words, Words]] = {}
        self.settled = True

    # What there is

    def _tap_rows(self) -> tuple[Columns, Ints, list[tuple[str, int]], Ints]:
        """Tap rows, their order, (element, phase or -1) of each, and the bus each one holds."""
        balanced, tap = self.balanced, self.balanced.tables["tap"]
        order = tap_order(balanced, trace(balanced))
        rows: list[int] = []
        who: list[tuple[str, int]] = []
        positions: list[float] = []
        limbs: list[int] = []
        for k, e in enumerate(tap["element"].tolist()):
            ident = balanced.element_id[e]
            spot = self.arrays.taps.get(ident)
            if spot is None:
                continue
            item = self.network[ident]
            per_phase = getattr(item, "taps", "ganged") == "per_phase"
            conductors = str(getattr(item, "conductors", "ABC"))
            phases = [c for c in range(3) if "ABC"[c] in conductors]
            alone = len(phases) < 3
            holds_hv = balanced.bus_id[int(tap["bus"][k])] == getattr(item, "hv_bus", None)
            for c in phases if per_phase or alone else [POSITIVE]:
                limb = spot.moves(holds_hv)[c] if c != POSITIVE else 0
                if limb < 0:
                    continue
                limbs.append(limb)
                who.append((ident, c))
                rows.append(k)
                positions.append(spot.position[limb])
        columns = {n: v[rows] for n, v in tap.items()}
        columns["position"] = np.array(positions, np.float64)
        columns["element"] = np.arange(len(rows))
        held = np.array([self._row.get(balanced.bus_id[b], -1) for b in columns["bus"].tolist()], np.int64)
        self._limbs = limbs
        return columns, order[rows] if len(rows) else np.zeros(0, np.int64), who, held

    def _bank_rows(self) -> tuple[Columns, list[str], Ints]:
        balanced, bank = self.balanced, self.balanced.tables["bank"]
        ids = [balanced.element_id[e] for e in bank["element"].tolist()]
        keep = [k for k, i in enumerate(ids) if i in self.arrays.banks]
        columns = {n: v[keep].copy() for n, v in bank.items()}
        columns["element"] = np.arange(len(keep))
        at = np.array([self._row.get(balanced.bus_id[b], -1) for b in columns["bus"].tolist()], np.int64)
        return columns, [ids[k] for k in keep], at

    def _curve_rows(self) -> Columns:
        """One row for each inverter, or phase of one, that is on a curve: first demand rows, then machines."""
        a = self.arrays
        d, m = np.flatnonzero(a.demand["curve"] >= 0), np.flatnonzero(a.machine["curve"] >= 0)
        which = np.r_[a.demand["curve"][d], a.machine["curve"][m]].astype(np.int64)
        self._curved = d, m
        per = np.bincount(a.demand["curve"][d], minlength=len(a.curve["q"])) if len(d) else np.zeros(len(a.curve["q"]))
        columns = {n: v[which] for n, v in a.curve.items()}
        columns["q"] = np.r_[columns["q"][: len(d)] / np.maximum(per[which[: len(d)]], 1), columns["q"][len(d) :]]
        columns["element"] = np.arange(len(which))
        return columns

    def _remote_rows(self) -> tuple[Columns, Ints, Ints]:
        """Machines that hold another bus, their rows among the machines, and the bus each one holds."""
        b, remote = self.balanced, self.balanced.tables["remote"]
        element = [self._position.get(b.element_id[e], -1) for e in remote["element"].tolist()]
        held = [self._row.get(b.bus_id[x], -1) for x in remote["bus"].tolist()]
        keep = [k for k, (e, h) in enumerate(zip(element, held, strict=True)) if e in self._machine and h >= 0]
        columns = {n: v[keep] for n, v in remote.items()}
        columns["element"] = np.array([element[k] for k in keep], np.int64)
        machine = np.array([self._machine[e] for e in columns["element"].tolist()], np.int64)
        return columns, machine, np.array([held[k] for k in keep], np.int64)

    def _shifter_rows(self) -> tuple[Columns, Columns, list[str]]:
        """Phase shifters, as much of their branches as they ask for, and their ids."""
        b, phase, branch = self.balanced, self.balanced.tables["phase"], self.balanced.tables["branch"]
        ids = [b.element_id[e] for e in phase["element"].tolist()]
        keep = [k for k, i in enumerate(ids) if i in self.arrays.taps]
        columns = {n: v[keep].copy() for n, v in phase.items()}
        at = {e: k for k, e in enumerate(branch["element"].tolist())}
        x = branch["x"][[at[e] for e in columns["element"].tolist()]] if keep else np.zeros(0)
        columns["element"] = np.arange(len(keep))
        return columns, {"element": np.arange(len(keep)), "x": x}, [ids[k] for k in keep]

    def _dispatch_rows(self) -> tuple[Columns, Ints, Ints]:
        """Sources and machines of three phases, their rows among the machines, and the island of each balanced bus."""
        b, machine = self.balanced, self.balanced.tables["injection"]
        element = [self._position.get(b.element_id[e], -1) for e in machine["element"].tolist()]
        keep = [k for k, e in enumerate(element) if e in self._machine]
        columns = {n: v[keep] for n, v in machine.items()}
        columns["element"] = np.array([element[k] for k in keep], np.int64)
        rows = np.array([self._machine[e] for e in columns["element"].tolist()], np.int64)
        return columns, rows, trace(b).island if keep else np.zeros(0, np.int64)

    # One solution

    def begin(self, options: UnbalancedOptions, entered: Demands) -> None:
        """Start from what is entered."""
        self.kinds, self._words, self.settled = [], {}, True
        if options.slack_shared or options.interchange:
            self._begin_dispatch(options, entered)
        if not options.automatic:
            return
        tap, order, who, held = self._taps
        bank, curve = self._banks[0], self._curves
        remote, _, far = self._remote
        n_curve, n_tap, n_bank = len(curve["element"]), len(who), len(bank["element"])
        # Virtual buses: one for each curve, tap and bank, and one for each bus held from afar, in this order.
        first_bank = n_curve + n_tap
        _, group = np.unique(far, return_inverse=True)
        elements, a = self.arrays.element_id, self.arrays
        d, m = self._curved
        curve_ids = [elements[e] for e in (*a.demand["element"][d].tolist(), *a.machine["element"][m].tolist())]
        shifters, branches, shifter_ids = self._shifters
        names = [self._name(i) + ("" if p == POSITIVE else f", phase {'ABC'[p]},") for i, p in who]
        holds = [self._name(a.bus_id[b]) if b >= 0 else "its bus" for b in held.tolist()]
        distant = [self._name(a.bus_id[b]) for b in np.unique(far).tolist()]

        def nowhere(_: int) -> str:
            return ""

        if n_curve:
            self._add(Curves, {"curve": {**curve, "bus": np.arange(n_curve)}, "injection": {"element": np.arange(n_curve)}},
                      lambda e: self._name(curve_ids[e]), nowhere)  # fmt: skip
        if len(remote["element"]):
            first = first_bank + n_bank
            self._add(Remote, {"remote": {**remote, "bus": first + group}, "injection": {"element": remote["element"]}},
                      lambda e: self._name(elements[e]), lambda b: distant[b - first])  # fmt: skip
        if shifter_ids:
            self._add(Shifters, {"phase": shifters, "branch": branches}, lambda e: self._name(shifter_ids[e]), nowhere)
        if n_tap:
            tables = {"tap": {**tap, "bus": n_curve + np.arange(n_tap)}, "branch": {"element": np.arange(n_tap)}}
            self._add(lambda view: Taps(view, order), tables, lambda e: names[e], lambda b: holds[b - n_curve])
        if n_bank:
            at_bank = {"bank": {**bank, "bus": first_bank + np.arange(n_bank)}, "shunt": {"element": np.arange(n_bank)}}
            self._add(Banks, at_bank, lambda e: self._name(self._banks[1][e]), nowhere)

    def _add(
        self, make: Callable[[NetArrays], Control], tables: dict[str, Columns], name: Words, bus_name: Words
    ) -> None:
        control = make(cast(NetArrays, _View(tables, self.arrays.base_mva)))
        self.kinds.append(control)
        self._words[type(control)] = name, bus_name

    def _begin_dispatch(self, options: UnbalancedOptions, entered: Demands) -> None:
        columns, rows, island = self._dispatch
        if not len(rows):
            return
        b = self.balanced
        set_p = np.where(columns["control"] == SLACK, columns["p"], entered.machine_p[rows])
        view = _View({"injection": {**columns, "p": set_p}}, b.base_mva, b.bus_area, b.area_id, b.area_export)
        control = Dispatch(cast(NetArrays, view), island, slack=options.slack_shared, interchange=options.interchange)
        if control.acts:
            self.kinds.append(control)
            self._words[Dispatch] = lambda e: self._name(self.arrays.element_id[e]), lambda _: ""

    def _of(self, kind: type[Any]) -> Any:
        """The controllers of a kind, None where there are none in this solution."""
        return next((c for c in self.kinds if isinstance(c, kind)), None)

    def admittances(self, of: ConductorArrays | None = None) -> Admittances:
        """Terminal admittances and terms of limbs with taps, phase shifters and banks as they stand now; ``of``: the same network
        compiled at another frequency."""
        a = of if of is not None else self.arrays
        now = Admittances.entered(a)
        if not self.kinds:
            return now
        now = Admittances(now.t_y.copy(), now.limb_i.copy(), now.limb_u.copy())
        taps, shifts = self.tap_positions(), self._shifts()
        for ident in {**taps, **shifts}:
            spot = a.taps[ident]
            state = taps.get(ident, spot.position), shifts.get(ident, spot.shift_rad)
            now.t_y[spot.entries] = spot.build(*state).ravel()
            if spot.terms is not None and spot.build_terms is not None:
                current, volts = spot.build_terms(*state)
                now.limb_i[spot.terms], now.limb_u[spot.terms] = current.ravel(), volts.ravel()
        if banks := self._of(Banks):
            for ident, on in zip(self._banks[1], banks.on.tolist(), strict=True):
                where, one = a.banks[ident]
                now.t_y[where] = one * on
        return now

    def _shifts(self) -> dict[str, float]:
        """Further phase shift of each phase shifter, rad."""
        if (control := self._of(Shifters)) is None:
            return {}
        return dict(zip(self._shifters[2], (control.position * control.columns["step"]).tolist(), strict=True))

    def tap_positions(self) -> dict[str, tuple[float, float, float]]:
        """Position of each phase of what is controlled."""
        if (control := self._of(Taps)) is None:
            return {}
        found: dict[str, list[float]] = {}
        for (ident, phase), limb, position in zip(self._taps[2], self._limbs, control.position.tolist(), strict=True):
            now = found.setdefault(ident, list(self.arrays.taps[ident].position))
            for c in range(3) if phase == POSITIVE else (limb,):
                now[c] = position
        return {i: (p[0], p[1], p[2]) for i, p in found.items()}

    def applied(self, entered: Demands) -> Demands:
        """Demands with what machines have moved to, and with the reactive power of inverters on a curve: a constant part and
        one that follows the voltage."""
        demands = entered
        if dispatch := self._of(Dispatch):
            p = demands.machine_p.copy()
            p[self._dispatch[1]] += dispatch.more
            demands = replace(demands, machine_p=p)
        if remote := self._of(Remote):
            q = demands.machine_q.copy()
            q[self._remote[1]] = remote.q
            demands = replace(demands, machine_q=q)
        if (curves := self._of(Curves)) is None:
            return demands
        tables: dict[str, Columns] = {"curve": curves.columns}
        curves.apply(tables)
        const, slope = tables["curve"]["a"], tables["curve"]["b"]
        d, m = self._curved
        power, current = demands.power.copy(), demands.current.copy()
        power[d] = power[d].real - 3j * const[: len(d)]  # base power is a third of it per phase
        current[d] = -3j * slope[: len(d)]
        q, slopes = demands.machine_q.copy(), demands.slope.copy()
        q[m], slopes[m] = const[len(d) :], slope[len(d) :]
        return replace(demands, power=power, current=current, machine_q=q, slope=slopes)

    def see(self, reading: Reading) -> Seen:
        """What every controller looks at in a solved state."""
        a = self.arrays
        d, m = self._curved
        u = reading.voltage_at(a.node_of_key[a.demand["key_p"][d]]) - reading.voltage_at(
            a.node_of_key[a.demand["key_q"][d]]
        )
        machine_bus = a.machine["key_a"][m] // 4
        positive = reading.bus_sequences[:, 1] / a.phase_v
        phase = reading.to_neutral / a.phase_v[:, None]
        _tap, _, who, held = self._taps
        phases = np.array([p for _, p in who], np.int64)
        at = np.maximum(held, 0)
        of_phase = phase[at, np.maximum(phases, 0)] if len(who) else np.zeros(0, np.complex128)
        v_tap = np.where(phases == POSITIVE, positive[at], of_phase) if len(who) else of_phase
        element = np.array([self._position[i] for i, _ in who], np.int64)
        current = reading.element_current[element, 1, :] if len(who) else np.zeros((0, 4), np.complex128)
        base = a.base_mva * 1e6 / 3 / a.phase_v[at] if len(who) else np.zeros(0)
        turn = np.array([1, np.exp(2j * np.pi / 3), np.exp(4j * np.pi / 3)])
        single = current[np.arange(len(who)), np.maximum(phases, 0)]
        i = np.where(phases == POSITIVE, current[:, :3] @ turn / 3, single) / base if len(who) else single
        bank_v = positive[self._banks[2]] if len(self._banks[1]) else np.zeros(0, np.complex128)
        missing = ~np.isfinite(bank_v)
        if np.any(missing):
            means = np.nan_to_num(np.abs(phase[self._banks[2]]))
            bank_v = np.where(missing, means.sum(axis=1) / np.maximum((means > 0).sum(axis=1), 1), bank_v)
        far = np.unique(self._remote[2])
        volts = np.r_[u / a.demand["u0"][d], positive[machine_bus] if len(m) else [], v_tap, bank_v, positive[far]]
        return Seen(np.asarray(volts, np.complex128), np.asarray(i, np.complex128), *self._powers(reading))

    def _powers(self, reading: Reading) -> tuple[Complexes, tuple[Complexes], Floats]:
        shifters = np.array([self._position[i] for i in self._shifters[2]], np.int64)
        into = reading.element_power[shifters, 0] / 1e6 if self._of(Shifters) else np.zeros(0, np.complex128)
        dispatch = self._of(Dispatch)
        if dispatch is None:
            return np.zeros(0, np.complex128), (into,), np.zeros(0)
        delivered = -reading.injection_power[self._dispatch[0]["element"]] / 1e6
        return delivered, (into,), self._exchange(reading) / self.arrays.base_mva

    @cached_property
    def _areas(self) -> tuple[Ints, Bools]:
        """Area in which each element lies with all its buses (-1: none, or between areas), and whether it is a branch."""
        b = self.balanced
        of_bus = dict(zip(b.bus_id, b.bus_area.tolist(), strict=True))
        found, branch = [], []
        for ident in self.arrays.element_id:
            ends = cast(Element, self.network[ident]).buses()
            areas = {of_bus[e] for e in ends}
            found.append(areas.pop() if len(areas) == 1 else -1)
            branch.append(len(ends) > 1)
        return np.array(found, np.int64), np.array(branch, np.bool_)

    def _exchange(self, reading: Reading) -> Floats:
        """Active power each area gives to the others, MW, (n_area,)."""
        area, branch = self._areas
        drawn = np.where(branch, reading.element_power.sum(axis=1), reading.injection_power).real / 1e6
        known = area >= 0
        return -np.bincount(area[known], drawn[known], len(self.balanced.area_id)).astype(np.float64)

    def move(self, seen: Seen) -> bool:
        return any(c.move(cast(Any, seen)) for c in self.kinds)

    def _name(self, ident: str) -> str:
        return self.network[ident].name

    def notes(self, seen: Seen) -> list[str]:
        """What every controller did and why, in words."""
        found: list[str] = []
        for c in self.kinds:
            name, bus_name = self._words[type(c)]
            found += c.notes(cast(Any, seen), name, bus_name)
            rows = c.columns["element"]
            found += [
                f"{name(rows[k])} was hunting between two positions and was left where it is."
                for k in c.hunting.tolist()
            ]
        if not self.settled:
            found.append(f"Automatic control had not settled after {MOST_ROUNDS} rounds.")
        return found
