"""Automatic control per phase: the controllers of the balanced load flow, looking at what each of them can see.

A ganged tap sees the positive sequence, one control per phase the voltage of its phase to the neutral. What each sees
is laid out as buses of its own, so that the rules of stepping, of order and of giving up are the same everywhere.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, cast

import numpy as np

from ...electrical import NetArrays, trace
from ...electrical.arrays import Columns, Complexes, Floats, Ints
from ...electrical.conductor import ConductorArrays
from ...network import Network
from ..load_flow import MOST_ROUNDS, Banks, Control, Curves, Taps, tap_order
from ._problem import Demands
from ._reading import Reading

POSITIVE = -1


@dataclass
class Seen:
    """What controllers look at: one voltage for each, and the current out of taps with compensation, per unit."""

    v: Complexes
    to_current: Complexes

    @property
    def volts(self) -> Floats:
        return np.abs(self.v)


class PhaseControls:
    """All controllers of one solution. ``balanced``: the arrays of the balanced network, which say what is controlled."""

    def __init__(self, network: Network, arrays: ConductorArrays, balanced: NetArrays) -> None:
        self.arrays, self.network = arrays, network
        self._row = {b: i for i, b in enumerate(arrays.bus_id)}
        self._position = {e: i for i, e in enumerate(arrays.element_id)}
        self._taps = self._tap_rows(balanced)
        self._banks = self._bank_rows(balanced)
        self._curves = self._curve_rows()
        self.kinds: list[Control] = []
        self.settled = True

    # What there is

    def _tap_rows(self, balanced: NetArrays) -> tuple[Columns, Ints, list[tuple[str, int]], Ints]:
        """Tap rows, their order, (element, phase or -1) of each, and the bus each one holds."""
        tap = balanced.tables["tap"]
        order = tap_order(balanced, trace(balanced))
        rows: list[int] = []
        who: list[tuple[str, int]] = []
        positions: list[float] = []
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
            for c in phases if per_phase or alone else [POSITIVE]:
                rows.append(k)
                who.append((ident, c))
                positions.append(spot.position[max(c, 0)])
        columns = {n: v[rows] for n, v in tap.items()}
        columns["position"] = np.array(positions, np.float64)
        columns["element"] = np.arange(len(rows))
        held = np.array([self._row.get(balanced.bus_id[b], -1) for b in columns["bus"].tolist()], np.int64)
        return columns, order[rows] if len(rows) else np.zeros(0, np.int64), who, held

    def _bank_rows(self, balanced: NetArrays) -> tuple[Columns, list[str], Ints]:
        bank = balanced.tables["bank"]
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

    # One solution

    def begin(self, *, automatic: bool) -> None:
        """Start from what is entered."""
        self.kinds = []
        self.settled = True
        if not automatic:
            return
        tap, order, who, _ = self._taps
        bank, curve = self._banks[0], self._curves
        n_curve, n_tap = len(curve["element"]), len(who)
        # Virtual buses: one for each curve, tap and bank, in this order.
        first_bank = n_curve + n_tap
        tables: dict[str, Any] = {
            "curve": {**curve, "bus": np.arange(n_curve)}, "injection": {"element": np.arange(n_curve)},
            "tap": {**tap, "bus": n_curve + np.arange(n_tap)}, "branch": {"element": np.arange(n_tap)},
            "bank": {**bank, "bus": first_bank + np.arange(len(bank["element"]))},
            "shunt": {"element": np.arange(len(bank["element"]))},
        }  # fmt: skip
        arrays = cast(NetArrays, _Tables(tables))
        if n_curve:
            self.kinds.append(Curves(arrays))
        if n_tap:
            self.kinds.append(Taps(arrays, order))
        if len(bank["element"]):
            self.kinds.append(Banks(arrays))

    def admittances(self, t_y: Complexes) -> Complexes:
        """Terminal admittances with taps and banks as they stand now."""
        found = t_y.copy()
        for ident, positions in self.tap_positions().items():
            spot = self.arrays.taps[ident]
            found[spot.entries] = spot.build(positions).ravel()
        for control in self.kinds:
            if isinstance(control, Banks):
                for ident, on in zip(self._banks[1], control.on.tolist(), strict=True):
                    where, one = self.arrays.banks[ident]
                    found[where] = one * on
        return found

    def tap_positions(self) -> dict[str, tuple[float, float, float]]:
        """Position of each phase of what is controlled."""
        control = next((c for c in self.kinds if isinstance(c, Taps)), None)
        if control is None:
            return {}
        found: dict[str, list[float]] = {}
        for (ident, phase), position in zip(self._taps[2], control.position.tolist(), strict=True):
            now = found.setdefault(ident, list(self.arrays.taps[ident].position))
            for c in range(3) if phase == POSITIVE else (phase,):
                now[c] = position
        return {i: (p[0], p[1], p[2]) for i, p in found.items()}

    def with_curves(self, demands: Demands, base_va: float, base_mva: float) -> Demands:
        """Demands with the reactive power of inverters on a curve: a constant part and one that follows the voltage."""
        control = next((c for c in self.kinds if isinstance(c, Curves)), None)
        if control is None:
            return demands
        tables: dict[str, Columns] = {"curve": control.columns}
        control.apply(tables)
        a, slope = tables["curve"]["a"], tables["curve"]["b"]
        d, m = self._curved
        power, current = demands.power.copy(), demands.current.copy()
        scale = base_mva * 1e6 / base_va
        power[d] = power[d].real - 1j * a[: len(d)] * scale
        current[d] = -1j * slope[: len(d)] * scale
        q, slopes = demands.machine_q.copy(), demands.slope.copy()
        q[m], slopes[m] = a[len(d) :], slope[len(d) :]
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
        volts = np.r_[u / a.demand["u0"][d], positive[machine_bus] if len(m) else [], v_tap, bank_v]
        return Seen(np.asarray(volts, np.complex128), np.asarray(i, np.complex128))

    def move(self, seen: Seen) -> bool:
        return any(c.move(cast(Any, seen)) for c in self.kinds)

    def _name(self, ident: str) -> str:
        return self.network[ident].name

    def notes(self, seen: Seen) -> list[str]:
        """What every controller did and why, in words."""
        who = self._taps[2]
        d, m = self._curved
        a = self.arrays
        curve_ids = [a.element_id[e] for e in (*a.demand["element"][d].tolist(), *a.machine["element"][m].tolist())]
        labels: dict[type[Control], list[str]] = {
            Taps: [self._name(i) + ("" if p == POSITIVE else f", phase {'ABC'[p]},") for i, p in who],
            Banks: [self._name(i) for i in self._banks[1]],
            Curves: [self._name(i) for i in curve_ids],
        }
        n_curve = len(curve_ids)
        held = [self._name(a.bus_id[b]) if b >= 0 else "its bus" for b in self._taps[3].tolist()]
        found: list[str] = []
        for c in self.kinds:
            words = labels[type(c)]
            found += c.notes(cast(Any, seen), lambda e, words=words: words[e], lambda b: held[b - n_curve])  # type: ignore[misc]
            found += [
                f"{words[k]} was hunting between two positions and was left where it is." for k in c.hunting.tolist()
            ]
        if not self.settled:
            found.append(f"Automatic control had not settled after {MOST_ROUNDS} rounds.")
        return found


@dataclass
class _Tables:
    """As much of compiled arrays as controllers ask for."""

    tables: dict[str, Columns]
