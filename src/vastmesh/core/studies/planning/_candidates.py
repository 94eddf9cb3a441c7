"""What could be built where the network is weak: each with its changes and what it costs."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from math import hypot

import numpy as np

from ...catalogue import find_type, neighbour, standard_rating
from ...errors import VastMeshError
from ...geography import distance_km, placed_at
from ...network import Add, Bus, Change, Line, Network, SchemeChange, Switch, Transformer, Update
from ...network.names import Namer
from ...network.trace import Trace
from ...results import Table, loading_allowed
from ...results.state import solve_as_set
from ..base import STUDIES, Inputs
from ..building import regulator_in
from ..failures import Ready, Tally
from ._options import ProposalOptions

_WATCH_PCT = 90.0
_STORED_TO_PCT = 88.0  # loading to which storage brings what is loaded too much
_UNEQUAL_PCT = 15.0  # of power among phases at a head, from which other phases are tried behind it
_MOST_HEADS, _MOST_MOVED = 3, 12
_TIE_KM, _SHEET_PER_KM = 4.0, 40.0


@dataclass(frozen=True)
class Candidate:
    """``at``: the element it stands at; ``cost_k``: thousands."""

    name: str
    what: str
    at: str
    cost_k: float
    changes: tuple[Change, ...]


def candidates(inputs: Inputs, ready: Ready, tally: Tally, options: ProposalOptions) -> list[Candidate]:
    """In the order in which they are tried: what has reached its end, what is overloaded, then voltages, phases, then where most
    customer hours come from."""
    found: list[Candidate] = []
    network, condition = inputs.network, inputs.under
    namer = Namer(network)
    if options.renewal and options.year is not None:
        found += _renewals(network, options.year, options)
    if options.capacity or options.voltage or options.storage or options.switching or options.balancing:
        result = solve_as_set(network, condition)
        if result.account.converged:
            branches, buses = result.tables["branches"], result.tables["buses"]
            if options.capacity or options.storage or options.switching:
                trace = Trace(network)
                allowed = np.array(
                    [loading_allowed(network.settings, network[i], condition.limit_set) for i in branches["id"]]
                )
                every = np.nan_to_num(np.asarray(branches["loading_pct"], float)) / allowed
                for k in np.argsort(-every).tolist():
                    used = float(every[k])
                    if not used >= _WATCH_PCT:
                        break
                    ident, flow = str(branches["id"][k]), abs(float(branches["from_active_power_mw"][k]))
                    if options.capacity:
                        found += _larger(network, ident, used, namer, options)
                    if options.storage:
                        found += _storage(network, trace, ident, used, flow, namer, options)
                    if options.switching:
                        found += _open_points(network, trace, ident, options)
            if options.voltage:
                low = [f.element for f in result.findings if f.quantity == "voltage_pu" and f.direction == "below"]
                found += _voltage(
                    network, low, dict(zip(buses["id"], buses["voltage_pu"], strict=True)), namer, options
                )
            if options.balancing and network.settings.study == "per_phase":
                found += _balanced(inputs, branches, options)
    if options.switching:
        found += _switching(network, ready, tally, namer, options)
    near = _near(network, options.near)
    if near is not None:
        found = [c for c in found if c.at in near]
    named: dict[str, Candidate] = {}
    for c in found:
        named.setdefault(c.name, c)
    return list(named.values())[: options.most]


def _near(network: Network, ident: str | None) -> set[str] | None:
    """Elements and buses within three steps."""
    if ident is None:
        return None
    item = network.items.get(ident)
    reached = {ident, *(item.buses() if item is not None and hasattr(item, "buses") else ())}
    for _ in range(3):
        for e in network.elements():
            if set(e.buses()) & reached:
                reached |= {e.id, *e.buses()}
    return reached


def _kv(network: Network, bus: str) -> float:
    b = network.items.get(bus)
    return (b.nominal_kv or 11.0) if isinstance(b, Bus) else 11.0


def line_cost(options: ProposalOptions, kv: float, km: float) -> float:
    """Rises with the root of the voltage: wider corridors, higher towers."""
    return float(options.line_k_per_km * km * (max(kv, 0.4) / 11) ** 0.5)


def _larger(
    network: Network, ident: str, used_pct: float, namer: Namer, options: ProposalOptions
) -> Iterator[Candidate]:
    item = network.items.get(ident)
    if isinstance(item, Line):
        kv, km = _kv(network, item.from_bus), item.length_km or 0.0
        kind = find_type("line", item.type)
        larger = neighbour(kind, 1) if kind is not None else None
        while larger is not None and float(larger.values.get("rating_a", 0) or 0) < used_pct / 95 * (
            item.rating_a or 0
        ):
            larger = neighbour(larger, 1)
        if larger is not None:
            yield Candidate(f"Larger conductor: {item.name}", "next size", ident, 0.7 * line_cost(options, kv, km),
                            (Update(id=ident, values={"type": larger.name}),))  # fmt: skip
        yield Candidate(f"Second circuit: {item.name}", "second circuit", ident, line_cost(options, kv, km),
                        (Update(id=ident, values={"parallel": item.parallel + 1}),))  # fmt: skip
    elif isinstance(item, Transformer) and item.rated_mva:
        size = standard_rating(max(item.rated_mva * used_pct / 90, item.rated_mva * 1.01))
        if size > item.rated_mva:
            yield Candidate(f"Larger unit: {item.name}", "next size", ident, options.transformer_k_per_mva * size,
                            (Update(id=ident, values={"rated_mva": size}),))  # fmt: skip
        further = namer.plain(f"{ident} second")
        data = item.model_dump(mode="json", exclude_none=True)
        yield Candidate(f"Further unit: {item.name}", "transformer", ident, options.transformer_k_per_mva * item.rated_mva * 1.3,
                        (Add(item={**data, "id": further, "name": further}),))  # fmt: skip


def _renewals(network: Network, year: int, options: ProposalOptions) -> Iterator[Candidate]:
    """What is at the end of its life, put in place anew as it was."""
    for e in network.elements():
        if e.until_year is None or e.until_year > year:
            continue
        if isinstance(e, Line):
            cost = line_cost(options, _kv(network, e.from_bus), e.length_km or 0.0)
        elif isinstance(e, Transformer):
            cost = options.transformer_k_per_mva * (e.rated_mva or 0.0)
        else:
            cost = options.else_k
        changes = (Update(id=e.id, values={"until_year": None, "in_service": True}),)
        yield Candidate(f"Renewal: {e.name}", "renewal", e.id, cost, changes)


def _balanced(inputs: Inputs, branches: Table, options: ProposalOptions) -> Iterator[Candidate]:
    """Behind the transformers whose phases differ most in power: loads and laterals on other phases, as phase balancing finds."""
    study = STUDIES["balancing"]
    unequal = np.nan_to_num(np.asarray(branches["power_unbalance_pct"], float))
    power = np.abs(np.nan_to_num(np.asarray(branches["from_active_power_mw"], float)))
    heads = [
        k
        for k in np.argsort(-unequal * power).tolist()
        if unequal[k] >= _UNEQUAL_PCT and isinstance(inputs.network.items.get(str(branches["id"][k])), Transformer)
    ]
    for k in heads[:_MOST_HEADS]:
        head = str(branches["id"][k])
        given = study.options(feeder=head, method="exchange", most_changes=_MOST_MOVED)
        try:
            found = study.run(inputs, given, lambda share, words: None)
        except VastMeshError:
            continue
        changes = tuple(e.change for e in map(SchemeChange.model_validate, found.scheme))
        moved = len({e["group"] for e in found.scheme})
        if changes:
            name = inputs.network[head].name
            yield Candidate(f"Other phases behind {name}", "balancing", head, options.move_k * moved, changes)


def _storage(
    network: Network, trace: Trace, ident: str, used_pct: float, flow_mw: float, namer: Namer, options: ProposalOptions
) -> Iterator[Candidate]:
    """Behind what is loaded too much, a storage that gives what is too much for some hours."""
    item = network.items.get(ident)
    if not isinstance(item, Line | Transformer):
        return
    far = item.lv_bus if isinstance(item, Transformer) else _far(trace, item)
    need = flow_mw * (1 - _STORED_TO_PCT / used_pct)
    if need <= 0 or not trace.live(far):
        return
    size = float(f"{need * 1.05:.2g}")
    hours = options.storage_hours
    plant = namer.plain(f"{far} storage")
    cost = options.storage_k_per_mwh * size * hours
    yield Candidate(f"Storage of {size:g} MW: {network[far].name}", "storage", far, cost,
                    (Add(item={"kind": "inverter", "id": plant, "name": plant, "bus": far, "energy": "storage",
                               "active_power_mw": size, "rated_mva": size, "energy_mwh": size * hours}),))  # fmt: skip


def _far(trace: Trace, line: Line) -> str:
    """The end of a line that is fed through it."""
    near, _ = _upstream(trace, line)
    return line.to_bus if near == line.from_bus else line.from_bus


def _open_points(network: Network, trace: Trace, ident: str, options: ProposalOptions) -> Iterator[Candidate]:
    """Of a feeder with something loaded too much: a tie closed, and what is then a ring opened one or two sections further in."""
    of = trace.feeder_of()
    for tie in network.of(Switch):
        if tie.closed or not (trace.live(tie.from_bus) and trace.live(tie.to_bus)):
            continue
        for bus, other in ((tie.from_bus, tie.to_bus), (tie.to_bus, tie.from_bus)):
            path = [i for i in trace.path(bus) if i != bus]
            if ident not in path or of.get(bus) == of.get(other):
                continue
            for section in [i for i in path if isinstance(network.items.get(i), Line)][:2]:
                name = f"Open at {network[section].name}, close {tie.name}"
                changes = (Update(id=tie.id, values={"closed": True}), Update(id=section, values={"in_service": False}))
                yield Candidate(name, "open point", tie.id, options.switch_k, changes)


def _voltage(
    network: Network, low: list[str], volts: dict[str, float], namer: Namer, options: ProposalOptions
) -> Iterator[Candidate]:
    """At the lowest bus of every feeder with one: a capacitor of some sizes, and a regulator half way to it."""
    trace = Trace(network)
    of = trace.feeder_of()
    worst: dict[str, str] = {}
    for b in sorted(low, key=lambda i: volts.get(i, 1.0)):
        worst.setdefault(of.get(b, b), b)
    for bus in worst.values():
        item = network.items.get(bus)
        if not isinstance(item, Bus):
            continue
        base = 0.3 if _kv(network, bus) > 1 else 0.02
        for mvar in (base, 2 * base, 4 * base):
            ident = namer.plain(f"{bus} capacitor")
            yield Candidate(f"Capacitor of {mvar:g} Mvar: {item.name}", "capacitor", bus, options.capacitor_k_per_mvar * mvar + 5,
                            (Add(item={"kind": "shunt", "id": ident, "name": ident, "bus": bus, "device": "capacitor",
                                       "step_mvar": mvar, "steps": 1, "steps_on": 1}),))  # fmt: skip
        path = [i for i in trace.path(bus) if isinstance(network.items.get(i), Line)]
        if len(path) >= 3:
            line = network[path[len(path) // 2]]
            assert isinstance(line, Line)
            side = 0 if line.from_bus in trace.path(bus) or trace.live(line.from_bus) else 1
            changes = regulator_in(line, network, namer, side, automatic=True, target_pu=1.0, rating_a=line.rating_a)
            yield Candidate(f"Regulator: {line.name}", "regulator", line.id, 75.0, tuple(changes))


def _switching(
    network: Network, ready: Ready, tally: Tally, namer: Namer, options: ProposalOptions
) -> Iterator[Candidate]:
    """Where most customer hours come from: a switch there, a quicker one, one that clears, and ties to neighbours."""
    hours = {i: float(v[:, 1].sum()) for i, v in tally.elements.items()}
    order = sorted(hours, key=lambda i: -hours[i])
    for e in network.elements():
        if isinstance(e, Switch) and e.device == "disconnector" and (e.operated or "manual") == "manual":
            yield Candidate(f"Remote control: {e.name}", "remote control", e.id, options.remote_k,
                            (Update(id=e.id, values={"operated": "remote"}),))  # fmt: skip
    trace = Trace(network)
    for ident in order[:40]:
        line = network.items.get(ident)
        if not isinstance(line, Line) or _kv(network, line.from_bus) > 50:
            continue
        near, field = _upstream(trace, line)
        given, low = getattr(line, field), _kv(network, near) < 1
        section = ready.graph.section.get(ident)
        bare = given == "none" or (given is None and section is not None and ready.graph.section.get(near) == section)
        kinds = {
            "disconnector": ("Disconnector", "disconnector", options.switch_k, bare and not low),
            "remote": ("Remote control", "remote control", options.remote_k, given == "disconnector"),
            "recloser": ("Recloser", "recloser", options.recloser_k, (bare or given == "disconnector") and not low),
            "fuse": ("Fuse", "fuse", options.switch_k / 2, bare),
        }
        for gear, (called, what, cost, fits) in kinds.items():
            if fits:
                change = Update(id=ident, values={field: gear})
                yield Candidate(f"{called}: {line.name}", what, ident, cost, (change,))
        if not line.indicator:
            yield Candidate(f"Indicator: {line.name}", "indicator", ident, options.indicator_k,
                            (Update(id=ident, values={"indicator": True}),))  # fmt: skip
    yield from _ties(network, ready, hours, trace, namer, options)


def _upstream(trace: Trace, e: Line) -> tuple[str, str]:
    """The end of a line from which it is fed, and the field of the gear there."""
    above = trace.parent(e.to_bus)
    return (
        (e.from_bus, "from_gear")
        if (above is not None and above[1] == e.id) or above is None
        else (e.to_bus, "to_gear")
    )


def _ties(
    network: Network, ready: Ready, hours: dict[str, float], trace: Trace, namer: Namer, options: ProposalOptions
) -> Iterator[Candidate]:
    """From the ends of the feeders with most customer hours to the nearest bus of another feeder of the same voltage."""
    of = trace.feeder_of()
    load: dict[str, float] = {}
    for i, h in hours.items():
        item = network.items.get(i)
        bus = item.buses()[-1] if item is not None and hasattr(item, "buses") and item.buses() else None
        if bus in of:
            load[of[bus]] = load.get(of[bus], 0.0) + h
    degree: dict[str, int] = {}
    for e in network.elements():
        if isinstance(e, Line):
            for b in e.buses():
                degree[b] = degree.get(b, 0) + 1
    for feeder in sorted(load, key=lambda f: -load[f])[:6]:
        ends = [b for b, f in of.items() if f == feeder and degree.get(b) == 1 and _kv(network, b) > 1]
        best: tuple[float, str, str] | None = None
        for a in ends:
            for b, f in of.items():
                if f == feeder or _kv(network, a) != _kv(network, b):
                    continue
                km = _apart(network, a, b)
                if km is not None and km <= _TIE_KM and (best is None or km < best[0]):
                    best = km, a, b
        if best is None or _joined(network, best[1], best[2]):
            continue
        km, a, b = best
        km = max(km, 0.1)
        kind = next((e.type for e in network.of(Line) if a in e.buses() and e.type), None)
        middle = namer.plain(f"{a} - {b} end")
        bus = {"kind": "bus", "id": middle, "name": middle, "nominal_kv": _kv(network, a)}
        here, there = network[a], network[b]
        if isinstance(here, Bus) and isinstance(there, Bus) and None not in (here.x, here.y, there.x, there.y):
            bus |= {"x": 0.15 * here.x + 0.85 * there.x, "y": 0.15 * here.y + 0.85 * there.y}  # type: ignore[operator]
        line = namer.plain(f"{a} - {b}")
        switch = namer.plain(f"Tie {a} - {b}")
        data = {"kind": "line", "id": line, "name": line, "from_bus": a, "to_bus": middle, "length_km": round(km, 3)}
        data |= {"type": kind} if kind else {"r_ohm_per_km": 0.25, "x_ohm_per_km": 0.35, "rating_a": 300.0}
        yield Candidate(
            f"Tie: {here.name} - {there.name}",
            "tie",
            a,
            line_cost(options, _kv(network, a), km) + options.switch_k,
            (
                Add(item=bus),
                Add(item=data),
                Add(
                    item={
                        "kind": "switch",
                        "id": switch,
                        "name": switch,
                        "from_bus": middle,
                        "to_bus": b,
                        "device": "disconnector",
                        "closed": False,
                    }
                ),
            ),
        )


def _joined(network: Network, a: str, b: str) -> bool:
    return any(isinstance(e, Switch) and {a, b} == set(e.buses()) for e in network.elements())


def _apart(network: Network, a: str, b: str) -> float | None:
    """Kilometres between two buses, a quarter more than as the crow flies; from the map, else from the sheet."""
    p, q = placed_at(network, a), placed_at(network, b)
    if p is not None and q is not None:
        return 1.25 * distance_km(p, q)
    m, n = network.items.get(a), network.items.get(b)
    if isinstance(m, Bus) and isinstance(n, Bus) and m.x is not None and n.x is not None:
        return 1.25 * hypot(m.x - n.x, (m.y or 0) - (n.y or 0)) / _SHEET_PER_KM
    return None
