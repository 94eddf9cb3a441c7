"""Why something is outside its limit, and what would plainly help: every proposal has been tried before it is made."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from math import ceil
from typing import Any, Protocol

import numpy as np

from ...network import (
    Add,
    Bus,
    Change,
    Condition,
    Element,
    Line,
    Namer,
    Network,
    Regulator,
    Switch,
    Trace,
    Transformer,
    Update,
)
from ...results import Cause, Proposal, Result
from ...results.state import LiveLoadFlow

_MOST_PROPOSALS = 4
_BANK_SIZES = (0.05, 0.1, 0.15, 0.2, 0.3, 0.45, 0.6, 0.9, 1.2, 1.8, 2.4, 3.6, 4.8, 6.0, 9.0, 12.0, 18.0, 24.0)  # Mvar


Records = Mapping[str, Mapping[str, Any]]


class Live(Protocol):
    """A load flow that is at hand for one network."""

    def solve(self, condition: Condition | None = None) -> Result: ...


Solver = Callable[[Network], Live]


def find_cause(
    network: Network, result: Result, trace: Trace, ident: str, quantity: str, solver: Solver = LiveLoadFlow
) -> Cause:
    """Explain one finding of a solved network and try what may help.

    ``network``, ``trace``: as they stand under the condition in use. ``solver``: the load flow
    that gave the result, which tries what may help. Raises :class:`UnknownElement`.
    """
    network[ident]
    if not result.tables:
        return Cause("There is no solution to explain.", [], [])
    one = _Search(network, result, trace, solver)
    if quantity == "voltage_pu":
        return one.voltage(ident)
    if quantity == "loading_pct":
        return one.loading(ident)
    if quantity in _UNEQUAL:
        return one.unequal(ident)
    return Cause("What is written beside the finding says it all.", [ident], [])


_UNEVEN = 0.3  # spread of the phases' power over its mean from which it is named as a cause of low voltage or loading
_UNEQUAL = ("neutral_voltage_v", "unbalance_pct", "negative_voltage_pct", "zero_voltage_pct", "neutral_loading_pct")


class _Search:
    def __init__(self, network: Network, result: Result, trace: Trace, solver: Solver) -> None:
        self.network, self.result, self.trace, self._solver = network, result, trace, solver
        self.buses: Records = {r["id"]: r for r in result.tables["buses"].records()}
        self.branches: Records = {r["id"]: r for r in result.tables["branches"].records()}
        self._before = self._level(result)

    def name(self, ident: str) -> str:
        return self.network[ident].name

    # Causes

    def voltage(self, ident: str) -> Cause:
        v = self.buses[ident]["voltage_pu"]
        if v is None:
            return Cause("The bus has no supply.", [ident], [])
        low = v < 1
        path = self._from_supply_point(ident)
        steps = [(e, self._change(e, ident)) for e in path if e in self.branches]
        total = sum(d for _, d in steps if d > 0) if low else -sum(d for _, d in steps if d < 0)
        km = sum(getattr(self.network[e], "length_km", None) or 0.0 for e, _ in steps)
        start = next((self.network[e] for e in reversed(path) if isinstance(self.network[e], Bus)), None)
        first = self.buses.get(start.id, {}).get("voltage_pu") if start else None
        words = [f"End of {km:.3g} km from {start.name}" if km and start else "Close to its source"]
        named = [ident]
        if steps and total > 1e-6:
            worst, most = max(steps, key=lambda s: s[1] if low else -s[1])
            named.append(worst)
            kind = "drop" if low else "rise"
            share = 100 * abs(most) / total
            part = f"{100 * abs(most):.2g} of {100 * total:.2g} %"
            words.append(f"{share:.0f} % of the {kind} ({part}) arises in {self.name(worst)}")
        if first is not None and start and (first < 0.98 if low else first > 1.02):
            words.append(f"{start.name} itself stands at {first:.3f} p.u.")
        if not low:
            behind = self._generation_behind(ident)
            if behind > 1e-3:
                words.append(f"{behind:.3g} MW are generated at and behind it")
        uneven = self._uneven(ident, _UNEVEN)
        words += [uneven[1]] if uneven else []
        ideas = self._voltage_ideas(ident, self.trace.path(ident), low=low)
        return Cause(
            "; ".join(words) + ".", named, self._tried(ideas, ident, "voltage_pu"), uneven[0] if uneven else None
        )

    def unequal(self, ident: str) -> Cause:
        found = self._uneven(ident)
        if found is None:
            return Cause("The phases upstream of it are not known.", [ident], [])
        worst, words = found
        return Cause(f"{words}. Balancing the phases of this feeder helps.", [worst], [], worst)

    def _uneven(self, ident: str, least: float = 0.0) -> tuple[str, str] | None:
        """Which branch on the way, or the branch itself, carries its phases least alike, and in words; None where the spread
        is below a share of the mean, or not known."""
        path = [b for b in self.trace.path(ident) if b in self.branches] or [ident]
        spread: dict[str, list[float]] = {}
        for branch in (b for b in dict.fromkeys((*path, ident)) if b in self.branches):
            powers = [self.branches[branch].get(f"phase_{p}_power_mw") for p in "abc"]
            if all(p is not None for p in powers):
                spread[branch] = [1e3 * p for p in powers if p is not None]
        if not spread:
            return None
        worst = max(spread, key=lambda b: max(spread[b]) - min(spread[b]))
        far, mean = max(spread[worst]) - min(spread[worst]), abs(sum(spread[worst])) / 3
        if far < least * mean:
            return None
        said = ", ".join(f"{n} {p:.0f} kW" for n, p in zip("ABC", spread[worst], strict=True))
        return worst, f"{self.name(worst)} carries {said}: its phases are loaded unequally"

    def _from_supply_point(self, ident: str) -> list[str]:
        """The way from a bus back to what supplies its feeder: the lower side of the last transformer above 1 kV.

        What holds the voltage there makes up for what is lost before it. The whole way where there is none.
        """
        path = self.trace.path(ident)
        for n, e in enumerate(path):
            unit = self.network[e]
            if isinstance(unit, Transformer) and n > 1 and e in self.branches:
                low = self.network[unit.lv_bus]
                if isinstance(low, Bus) and (low.nominal_kv or 0) > 1 and unit.lv_bus in path[:n]:
                    return path[:n]
        return path

    def _change(self, branch: str, towards: str) -> float:
        """By how much the voltage falls along a branch of the path, seen from the source, p.u."""
        row = self.branches[branch]
        a, b = row["from_bus"], row["to_bus"]
        va, vb = self.buses[a]["voltage_pu"], self.buses[b]["voltage_pu"]
        if va is None or vb is None:
            return 0.0
        depth = {x: i for i, x in enumerate(self.trace.path(towards))}
        far_first = depth.get(a, 1 << 30) < depth.get(b, 1 << 30)
        return float(vb - va if far_first else va - vb)

    def _generation_behind(self, ident: str) -> float:
        reach = self.trace.fed(ident)
        inside = dict.fromkeys((*reach.buses, ident))
        return float(sum(self.buses[b]["generation_mw"] or 0.0 for b in inside if b in self.buses))

    def loading(self, ident: str) -> Cause:
        row = self.branches.get(ident)
        reach = self.trace.fed(ident)
        item = self.network[ident]
        words, named = [], [ident]
        if reach.demand_mw:
            customers = f", {reach.customers} customers" if reach.customers else ""
            words.append(f"It alone feeds {len(reach.buses)} buses with {reach.demand_mw:.3g} MW entered{customers}")
        elif row:
            words.append(f"It carries {abs(row['from_active_power_mw'] or 0):.3g} MW of a meshed part")
        beside = self._beside(item)
        if beside and row:
            mine = abs(row["from_active_power_mw"] or 0.0)
            others = [(b, abs(self.branches[b]["from_active_power_mw"] or 0.0)) for b in beside]
            total = mine + sum(p for _, p in others)
            if total > 1e-6:
                names = ", ".join(self.name(b) for b, _ in others)
                words.append(f"beside {names} it takes {100 * mine / total:.0f} % by its impedance")
                named += beside
        if row and row["from_power_factor"] is not None and row["from_power_factor"] < 0.9:
            words.append(f"its power factor is {row['from_power_factor']:.2f}")
        uneven = self._uneven(ident, _UNEVEN)
        words += [uneven[1]] if uneven else []
        ideas = self._loading_ideas(ident, set(reach.buses))
        tried = self._tried(ideas, ident, "loading_pct")
        return Cause("; ".join(words) + "." if words else "", named, tried, uneven[0] if uneven else None)

    def _beside(self, item: Any) -> list[str]:
        if not isinstance(item, Element) or len(item.buses()) != 2:
            return []
        a, b = (self._joined(x) for x in item.buses())
        around = {e.id: e for x in a for e in self.network.connected(x)}
        return [
            i for i, e in around.items()
            if i != item.id and i in self.branches and not isinstance(e, Switch) and len(e.buses()) == 2
            and any(x in b for x in e.buses()) and self.branches[i]["from_active_power_mw"] is not None
        ]  # fmt: skip

    def _joined(self, bus: str) -> set[str]:
        """The buses that closed switches make one with this one."""
        found, queue = {bus}, [bus]
        while queue:
            for e in self.network.connected(queue.pop()):
                if isinstance(e, Switch) and e.closed and e.in_service:
                    new = set(e.buses()) - found
                    found |= new
                    queue += new
        return found

    # What may help

    def _voltage_ideas(self, ident: str, path: list[str], *, low: bool) -> Iterator[tuple[str, list[Change]]]:
        v = self.buses[ident]["voltage_pu"]
        off = abs(1.0 - v)
        for e in path:
            unit = self.network[e]
            if isinstance(unit, Transformer | Regulator) and (idea := self._tap_idea(unit, off, low=low)):
                yield idea
        if low and (idea := self._bank_idea(ident, v)):
            yield idea
        yield from self._open_point_ideas(set(self.trace.fed(ident).buses) | {ident}, path)

    def _tap_idea(self, unit: Transformer | Regulator, off: float, *, low: bool) -> tuple[str, list[Change]] | None:
        automatic = unit.regulates if isinstance(unit, Transformer) else unit.automatic
        step = unit.tap_step_pct if isinstance(unit, Transformer) else unit.step_pct
        if not step or unit.tap_min >= unit.tap_max:
            return None
        if automatic and self.network.settings.automatic:
            target = round(unit.target_pu + (0.02 if low else -0.02), 3)
            return f"Let {unit.name} hold {target:g} p.u.", [Update(id=unit.id, values={"target_pu": target})]
        raises = -1 if isinstance(unit, Transformer) and unit.tap_side == "hv" else 1
        steps = max(1, ceil(off * 100 / step * 0.8)) * (raises if low else -raises)
        to = min(max(unit.tap_position + steps, unit.tap_min), unit.tap_max)
        if to == unit.tap_position:
            return None
        return f"Move {unit.name} from tap {unit.tap_position} to {to}", [
            Update(id=unit.id, values={"tap_position": to})
        ]

    def _bank_idea(self, ident: str, v: float) -> tuple[str, list[Change]] | None:
        live = LiveLoadFlow(self.network)  # the linear model of what a bank does is the balanced one
        found = live.linearise()
        if found is None or ident not in found.reading.arrays.bus_id:
            return None
        row = found.reading.arrays.bus_id.index(ident)
        by_q = found.by_injection(row)[1][row]
        voltage = found.reading.v0[row]
        slope = float((np.conj(voltage) * by_q).real / abs(voltage)) / found.reading.arrays.base_mva
        if slope <= 1e-6:
            return None
        needed = (0.97 - v) / slope
        size = next((s for s in _BANK_SIZES if s >= needed), None)
        if size is None or needed <= 0:
            return None
        name = Namer(self.network).next("C")
        item = {"kind": "shunt", "id": name, "name": f"Capacitor {self.name(ident)}", "bus": ident, "step_mvar": size}
        return f"Add a capacitor of {size:g} Mvar at {self.name(ident)}", [Add(item=item)]

    def _loading_ideas(self, ident: str, behind: set[str]) -> Iterator[tuple[str, list[Change]]]:
        item = self.network[ident]
        yield from self._open_point_ideas(behind, [ident])
        if isinstance(item, Line | Transformer) and item.type:
            from ...catalogue import find_type, neighbour, types_of

            family = "line" if isinstance(item, Line) else "transformer"
            found = find_type(family, item.type)
            after = neighbour(found, 1, list(types_of(family).values())) if found else None
            if after is not None:
                yield f"Take the next size, {after.name}", [Update(id=ident, values={"type": after.name})]

    def _open_point_ideas(self, behind: set[str], path: list[str]) -> Iterator[tuple[str, list[Change]]]:
        """Close a tie into what is fed through here and open a switch on the way, so that another supply feeds it."""
        ties = [
            s for s in self.network.of(Switch)
            if not s.closed and s.in_service and sum(b in behind for b in s.buses()) == 1 and all(map(self.trace.live, s.buses()))
        ]  # fmt: skip
        for tie in ties[:4]:
            inner = next(b for b in tie.buses() if b in behind)
            way = self.trace.path(inner)
            until = next((i for i, e in enumerate(way) if e in path and e in self.branches), len(way))
            opened = [e for e in way[: until + 1] if isinstance(s := self.network[e], Switch) and s.closed]
            for switch in opened[-2:]:
                yield (
                    f"Move the open point: close {tie.name}, open {self.name(switch)}",
                    [Update(id=tie.id, values={"closed": True}), Update(id=switch, values={"closed": False})],
                )

    # Trying it

    @staticmethod
    def _level(result: Result) -> tuple[int, float]:
        return len([f for f in result.findings if f.severity == "breach"]), sum(f.excess for f in result.findings)

    def _tried(self, ideas: Iterator[tuple[str, list[Change]]], ident: str, quantity: str) -> list[Proposal]:
        found: list[tuple[float, Proposal]] = []
        table = "buses" if quantity == "voltage_pu" else "branches"
        before = (self.buses if table == "buses" else self.branches).get(ident, {}).get(quantity)
        for label, changes in ideas:
            twin = self.network.copy()
            try:
                twin.apply(changes)
            except Exception:
                continue
            condition: Condition = self.network.condition
            after = self._solver(twin).solve(condition.model_copy(update={"states": {}, "values": {}}))
            if not after.tables:
                continue
            row = next((r for r in after.tables[table].records() if r["id"] == ident), None)
            now = row[quantity] if row else None
            breaches, excess = self._level(after)
            if now is None or before is None or (breaches, excess) >= self._before:
                continue
            digits, unit = (4, "p.u.") if quantity == "voltage_pu" else (1, "%")
            effect = f"{before:.{digits}f} → {now:.{digits}f} {unit}; breaches {self._before[0]} → {breaches}"
            found.append((excess, Proposal(label, effect, changes)))
        found.sort(key=lambda x: x[0])
        return [p for _, p in found[:_MOST_PROPOSALS]]
