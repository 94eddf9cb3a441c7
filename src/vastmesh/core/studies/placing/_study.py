"""The search for places: the best device one after another, then each moved, or over all there are."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import combinations
from math import comb
from typing import Any

import numpy as np

from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...network import Add, Bus, Line, Namer, SchemeChange
from ...results import Account, Column, Result, Table
from ..base import Inputs, Progress, cases
from ..building import regulator_in
from ..variants import Measured, Variants
from ._options import PlacingOptions

_HOURS, _MOST, _SHORT = 8760.0, 5000, 8
_BOOST, _POSITIONS = 0.00625, 16
_EVEN = 1e-9


@dataclass(frozen=True)
class Device:
    """A capacitor of some steps at a bus row, or a regulator at an end (0 from, 1 to) of a branch row."""

    place: int
    steps: int = 0  # of a capacitor
    side: int = -1  # of a regulator


Setting = dict[Device, int]  # steps that are on, or position


@dataclass(frozen=True)
class _Answer:
    """Cost of a year with some devices, and what each is set to under every condition."""

    cost: float
    measured: tuple[Measured, ...]
    settings: tuple[Setting, ...]


class _Search:
    def __init__(self, inputs: Inputs, options: PlacingOptions, progress: Progress) -> None:
        self.options, self.progress = options, progress
        found = cases(inputs, options.over)
        self.labels = [c.label or c.inputs.under.name for c in found]
        self.states = [Variants(c.inputs.network, c.inputs.under) for c in found]
        self.base = self.states[0].arrays.base_mva
        self.known: dict[frozenset[Device], _Answer | None] = {}

    def candidates(self) -> list[Device]:
        """Every place with every size, in the order of the network."""
        o, v = self.options, self.states[0]
        arrays, branch = v.arrays, v.arrays.tables["branch"]
        inside = (
            (arrays.bus_kv > o.above_kv) & (arrays.bus_kv <= o.up_to_kv) & np.all([s.live for s in self.states], axis=0)
        )
        found: list[Device] = []
        if o.devices != "regulators":
            rows = [
                i for i in np.flatnonzero(inside).tolist() if isinstance(v.network.items.get(arrays.bus_id[i]), Bus)
            ]
            found += [Device(i, steps=n) for i in rows for n in range(1, o.steps + 1)]
        if o.devices != "capacitors":
            for row, (e, f, t) in enumerate(zip(*(branch[k].tolist() for k in ("element", "from", "to")), strict=True)):
                if inside[f] and inside[t] and isinstance(v.network.items.get(arrays.element_id[e]), Line):
                    found.append(Device(row, side=self._supply_end(f, t)))
        return found

    def _supply_end(self, f: int, t: int) -> int:
        """The end from which a line is fed: the one with the higher voltage."""
        volts = self.states[0].volts
        return 0 if volts[f] >= volts[t] else 1

    def answer(self, devices: frozenset[Device]) -> _Answer | None:
        """None where the load flow has no solution under some condition."""
        if devices not in self.known:
            self.progress(min(len(self.known) / 3000, 0.95), f"{len(self.known)} ways tried")
            self.known[devices] = self._solved(devices)
        return self.known[devices]

    def _solved(self, devices: frozenset[Device]) -> _Answer | None:
        order = sorted(devices, key=lambda d: (d.side, d.place, d.steps))
        spent, measured, settings = 0.0, [], []
        for state in self.states:
            setting = {d: (d.steps if d.side < 0 else 0) for d in order}
            best = self._measure(state, setting)
            for _ in range(2 if len(order) > 1 else 1):  # what is set for one changes what is best for the others
                for d in order:
                    for value in self._values(d):
                        if value == setting[d]:
                            continue
                        tried = {**setting, d: value}
                        found = self._measure(state, tried)
                        if found is not None and (best is None or self._hour(found) < self._hour(best) - _EVEN):
                            best, setting = found, tried
            if best is None:
                return None
            spent += self._hour(best) * _HOURS / len(self.states)
            measured.append(best)
            settings.append(setting)
        return _Answer(spent + sum(self.yearly(d) for d in order), tuple(measured), tuple(settings))

    def _values(self, d: Device) -> list[int]:
        if d.side < 0:
            return list(range(d.steps - 1, -1, -1)) if self.options.switched else []
        return list(range(-_POSITIONS, _POSITIONS + 1))

    def _measure(self, state: Variants, setting: Setting) -> Measured | None:
        one = 1j * self.options.step_mvar / self.base
        shunts = [(d.place, one * n) for d, n in setting.items() if d.side < 0 and n]
        boosts = [(d.place, d.side, 1 + _BOOST * n) for d, n in setting.items() if d.side >= 0 and n]
        return state.measure(shunts=shunts, boosts=boosts)

    def _hour(self, m: Measured) -> float:
        return m.losses_mw * self.options.loss_price + 100 * m.excess * self.options.limit_price

    def yearly(self, d: Device) -> float:
        if d.side >= 0:
            return self.options.cost_regulator
        return d.steps * self.options.step_mvar * self.options.cost_mvar

    def exchange(self, candidates: list[Device], none: _Answer) -> tuple[list[Device], _Answer]:
        """The best one after another; then each moved or left out as long as that is better."""
        chosen: list[Device] = []
        best = none
        while len(chosen) < self.options.most:
            found = self._best_of(chosen, candidates, best)
            if found is None:
                break
            chosen, best = [*chosen, found[0]], found[1]
        moved = True
        while moved and chosen:
            moved = False
            for d in list(chosen):
                rest = [x for x in chosen if x != d]
                without = self.answer(frozenset(rest))
                found = self._best_of(rest, candidates, best)
                if (
                    without is not None
                    and without.cost < best.cost - _EVEN
                    and (found is None or without.cost <= found[1].cost)
                ):
                    chosen, best, moved = rest, without, True
                elif found is not None:
                    chosen, best, moved = [*rest, found[0]], found[1], True
        return chosen, best

    def _shortlist(self, rest: list[Device], candidates: list[Device]) -> list[Device]:
        """Of many places those that are best with one size and setting, beside what stands already; then in all sizes."""
        places: dict[tuple[int, int], list[Device]] = {}
        taken = {(d.place, d.side) for d in rest}
        for d in candidates:
            if (d.place, d.side) not in taken:
                places.setdefault((d.place, d.side), []).append(d)
        if len(places) <= _SHORT:
            return [d for some in places.values() for d in some]
        beside = self.answer(frozenset(rest))
        settings = beside.settings if beside else tuple({} for _ in self.states)
        ranked: list[tuple[float, tuple[int, int]]] = []
        for key, some in places.items():
            middle = some[len(some) // 2]
            hours = [self._measure(s, {**own, middle: middle.steps if middle.side < 0 else 4}) for s, own in zip(
                self.states, settings, strict=True)]  # fmt: skip
            self.progress(0.5, f"{len(ranked)} of {len(places)} places looked at")
            ranked.append((sum(self._hour(m) if m else np.inf for m in hours), key))
        chosen = {key for _, key in sorted(ranked)[:_SHORT]}
        return [d for key, some in places.items() if key in chosen for d in some]

    def _best_of(self, rest: list[Device], candidates: list[Device], than: _Answer) -> tuple[Device, _Answer] | None:
        best: tuple[Device, _Answer] | None = None
        for d in self._shortlist(rest, candidates):
            found = self.answer(frozenset([*rest, d]))
            if found is not None and found.cost < (best[1].cost if best else than.cost) - _EVEN:
                best = d, found
        return best

    def every(self, candidates: list[Device]) -> Iterator[tuple[Device, ...]] | None:
        """All choices of no more than the most; None where there are too many."""
        if sum(comb(len(candidates), k) for k in range(1, self.options.most + 1)) > _MOST:
            return None
        return (c for k in range(1, self.options.most + 1) for c in combinations(candidates, k)
                if len({(d.place, d.side) for d in c}) == k)  # fmt: skip


def run_placing(inputs: Inputs, options: PlacingOptions, progress: Progress) -> Result:
    """Raises :class:`InvalidFields` where there is no place, or too many for the method."""
    search = _Search(inputs, options, progress)
    candidates = search.candidates()
    if not candidates:
        text = (
            f"nothing that is live stands between {options.above_kv:g} and {options.up_to_kv:g} kV; widen the voltages"
        )
        raise InvalidFields([FieldProblem("options", "up_to_kv", options.up_to_kv, text)])
    none = search.answer(frozenset())
    if none is None:
        text = "The load flow has no solution as things stand. See its findings first."
        return Result(Account(Ending.ITERATION_LIMIT, "Places", 0, explanation=text), {}, {})
    if options.method == "exact":
        ways = search.every(candidates)
        if ways is None:
            text = f"there are more than {_MOST} choices; choose exchange, fewer devices or steps, or narrower voltages"
            raise InvalidFields([FieldProblem("options", "method", "exact", text)])
        chosen, best = [], none
        for way in ways:
            found = search.answer(frozenset(way))
            if found is not None and found.cost < best.cost - _EVEN:
                chosen, best = list(way), found
        told = "The best of all choices."
    else:
        chosen, best = search.exchange(candidates, none)
        told = "No device more, less or elsewhere is better."
    return _published(search, inputs, _ordered(search, chosen, none), none, best, told)


def _ordered(search: _Search, chosen: list[Device], none: _Answer) -> list[tuple[Device, _Answer]]:
    """Devices in the order in which they save most, with the cost after each."""
    left, done = list(chosen), list[tuple[Device, _Answer]]()
    while left:
        ways = [
            (found.cost, k)
            for k, d in enumerate(left)
            if (found := search.answer(frozenset([*(x for x, _ in done), d])))
        ]
        d = left.pop(min(ways)[1] if ways else 0)
        done.append((d, search.answer(frozenset([*(x for x, _ in done), d])) or none))
    return done


def _published(
    search: _Search, inputs: Inputs, order: list[tuple[Device, _Answer]], none: _Answer, best: _Answer, told: str
) -> Result:
    state = search.states[0]
    arrays, network, options = state.arrays, state.network, search.options
    namer = Namer(inputs.network)
    here = next((k for k, s in enumerate(search.states) if s.condition.id == inputs.under.id), 0)
    rows: list[tuple[Any, ...]] = []
    scheme: list[dict[str, Any]] = []
    before = none
    for d, after in order:
        gain = before.cost - after.cost
        sets = [s[d] for s in best.settings]
        words = f"saves {gain:,.0f} a year"
        if d.side < 0:
            ident = arrays.bus_id[d.place]
            size, unit = d.steps * options.step_mvar, "Mvar"
            item = {"kind": "shunt", "id": namer.plain(f"{ident} capacitor"), "bus": ident, "device": "capacitor",
                    "step_mvar": options.step_mvar, "steps": d.steps, "steps_on": sets[here]}  # fmt: skip
            changes: list[Any] = [Add(item={**item, "name": item["id"]})]
            what = "capacitor"
        else:
            ident = arrays.element_id[int(arrays.tables["branch"]["element"][d.place])]
            size, unit, what = float(sets[here]), "position", "regulator"
            changes = regulator_in(network[ident], network, namer, d.side, automatic=False, tap_position=sets[here],
                                   step_pct=100 * _BOOST, x_ohm=1e-4)  # fmt: skip
        for change in changes:
            entry = SchemeChange(change=change, label=f"{what.capitalize()} at {network[ident].name}"[:200], gain=words)
            scheme.append(entry.model_dump(mode="json"))
        rows.append((ident, network[ident].name, what, size, unit, ", ".join(str(x) for x in sets), gain, search.yearly(d),
                     np.mean([m.losses_mw for m in after.measured]), min(m.low_pu for m in after.measured)))  # fmt: skip
        before = after
    places = Table("places", "Places", [
        Column("id", "Id", [r[0] for r in rows], fixed=True), Column("name", "At", [r[1] for r in rows], fixed=True),
        Column("device", "Device", [r[2] for r in rows]), Column("size", "Size", np.array([r[3] for r in rows], float), None, 2),
        Column("unit", "Unit", [r[4] for r in rows], fixed=True),
        Column("set", "Set to", [r[5] for r in rows], None, None, "Steps on or position, under each condition: "
               + ", ".join(search.labels)),
        Column("gain", "Saves", np.array([r[6] for r in rows], float), "1/a", 0, "A year, its own cost taken off"),
        Column("cost", "Costs", np.array([r[7] for r in rows], float), "1/a", 0),
        Column("losses_mw", "Losses then", np.array([r[8] for r in rows], float), "MW", 4, "Mean of the conditions"),
        Column("low_pu", "Lowest voltage then", np.array([r[9] for r in rows], float), "p.u.", 4),
    ])  # fmt: skip
    first = next(i for i, e in network.items.items() if isinstance(e, Bus))
    under = Table("conditions", "Conditions", [
        Column("id", "Id", [first] * len(search.labels), fixed=True), Column("condition", "Condition", search.labels, fixed=True),
        Column("losses_before", "Losses now", np.array([m.losses_mw for m in none.measured]), "MW", 4),
        Column("losses_mw", "Losses then", np.array([m.losses_mw for m in best.measured]), "MW", 4),
        Column("low_before", "Lowest voltage now", np.array([m.low_pu for m in none.measured]), "p.u.", 4),
        Column("low_pu", "Lowest voltage then", np.array([m.low_pu for m in best.measured]), "p.u.", 4),
        Column("high_pu", "Highest voltage then", np.array([m.high_pu for m in best.measured]), "p.u.", 4),
        Column("excess_before", "Beyond limits now", 100 * np.array([m.excess for m in none.measured]), "%", 2, "Added up"),
        Column("excess", "Beyond limits then", 100 * np.array([m.excess for m in best.measured]), "%", 2, "Added up"),
    ])  # fmt: skip
    saved = none.cost - best.cost
    if rows:
        named = ", ".join(f"{r[2]} at {r[1]}" for r in rows)
        costs = f"losses and limits {none.cost:,.0f} now, {best.cost:,.0f} then with what they cost"
        statement = f"{len(rows)} devices save {saved:,.0f} a year ({costs}): {named}. {told}"
    else:
        statement = f"No device pays: losses and limits cost {none.cost:,.0f} a year. {told}"
    count = sum(s.count for s in search.states)
    summary: dict[str, float | None] = {"cost_before": none.cost, "cost": best.cost, "saved": saved, "devices": float(len(rows)),
                                        "tried": float(count)}  # fmt: skip
    account = Account(Ending.CONVERGED, "Places", count, notes=[told], assumed=[
        "Automatic taps, capacitors and curves stay where the load flow as it stands leaves them.",
        f"Of more than {_SHORT} places, those that are best with one size are looked at in all sizes, anew for every device.",
        "Every condition counts for the same number of hours of the year.",
        f"A regulator has {_POSITIONS} positions of {100 * _BOOST:g} % either way and no impedance in the search.",
    ])  # fmt: skip
    return Result(account, {t.name: t for t in (places, under)}, summary, [], statement, scheme)
