"""The cheapest filter at a bus that keeps every level, and the power factor, under every condition and with any steps on.

A filter of admittance y at bus k alters the network by one rank: with Z(h) the impedances without it, the voltage at i of a
source becomes u_i - z_ik y / (1 + z_kk y) u_k. So one solution of each order and condition serves all candidates. What that
leaves out (the fundamental voltages that its power alters) is made good at the end: the cheapest are worked out in full, one
after another, until one keeps everything.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from itertools import combinations
from math import sqrt
from typing import Any

import numpy as np

from ...catalogue import TYPICAL_QUALITY as QUALITY
from ...catalogue import FilterKind, design_filter
from ...electrical.arrays import Bools, Complexes, Floats, Ints
from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...network import Add, Bus, Change, Namer, Network, Remove, SchemeChange, Update
from ...results import Account, Axis, Column, Figure, Finding, Result, Series, Table
from ...severity import Severity
from ..base import Inputs, Progress
from ._design import (
    KINDS,
    Case,
    cases,
    distortion_options,
    into_bus,
    orders_of,
    quiet,
    round_to,
    taken_out,
    with_changes,
)
from ._distortion import run_distortion
from ._grid import sequence_of
from ._limits import Level, levels_of
from ._models import BySequence, exponent, summed
from ._options import SearchOptions
from ._scan import assumptions, grid_of

_BELOW = 0.06
_MOST_PLACES = 300
_TELLS = 0.1  # of its own impedance, from which the bus is taken to tell on another
_MOST_CELLS = 4_000_000
_MOST_VERIFIED = 12
_DETUNED_PCT = (14.0, 7.0, 5.67)
_MOST_CURRENT = 1.3  # of rated: IEC 60871-1


@dataclass(frozen=True)
class Candidate:
    """One filter: kind, power of all steps, steps, tuned orders."""

    kind: FilterKind
    mvar: float
    steps: int
    order: float
    second: float | None = None

    def item(self, name: str, bus: str) -> dict[str, Any]:
        found: dict[str, Any] = {"kind": "filter", "id": name, "bus": bus, "design": self.kind, "steps": self.steps,
                                 "steps_on": self.steps, "step_mvar": round_to(self.mvar / self.steps),
                                 "tuned_order": round_to(self.order)}  # fmt: skip
        return found | ({"second_order": round_to(self.second)} if self.second else {})


@dataclass
class State:
    """One condition without the filter: what every source makes everywhere that is looked at, order by order.

    ``parts``: per order (n_source, n_place), per unit; ``at``: the same at the bus, (n_source,); ``z``: impedances between the
    bus and the places, (n_place,), and ``zkk`` its own; ``rest``: squares of what no filter alters, per cent²; ``tells``: places
    on which the bus tells at all.
    """

    name: str
    power: complex | None
    orders: list[float]
    parts: list[Complexes]
    at: list[Complexes]
    known: list[Bools]
    z: list[Complexes]
    zkk: list[complex]
    rest: Floats
    base: Floats
    first: float
    base_mva: float
    tells: Bools


@dataclass
class Judged:
    """What a candidate comes to: the largest share of any level and where, and the figures it is priced by."""

    share: float = 0.0
    binds: tuple[str, str, str] = ("", "", "")  # quantity, place, condition
    factor: float = 1.0
    current: float = 1.0  # of the capacitors, over the fundamental's
    cost: float = 0.0
    verified: str = ""
    beside: dict[str, float] = field(default_factory=dict)


def run_search(inputs: Inputs, options: SearchOptions, progress: Progress) -> Result:
    """Raises :class:`InvalidFields` for a bus or bank that is not there."""
    bus = inputs.network.items.get(options.bus)
    if not isinstance(bus, Bus) or not bus.nominal_kv:
        raise InvalidFields(
            [FieldProblem("options", "bus", options.bus, "name a bus of this network with a nominal voltage")]
        )
    gone = taken_out(inputs.network, options.instead_of, options.bus)
    bare = with_changes(inputs, gone)
    every = cases(bare, options.over)
    states, places = _states(every, options, progress)
    if not states:
        text = "Nothing injects, or the load flow has no solution: there is nothing to filter."
        return Result(Account(Ending.NOTHING_TO_SOLVE, "Filter search", 0, explanation=text), {}, {})
    levels = levels_of(inputs.network, [float(k) for k in places[1]], options.limits)
    tried = list(_candidates(states, options, levels))
    judged = [Judged() for _ in tried]
    hz = inputs.network.settings.frequency_hz
    for n, s in enumerate(states):
        progress(0.2 + 0.5 * n / len(states), f"{len(tried)} filters under {s.name}")
        _judge(s, tried, judged, options, places[0], levels, float(bus.nominal_kv), hz)
    for c, j in zip(tried, judged, strict=True):
        _price(c, j, options, float(bus.nominal_kv), hz)
    order = sorted(range(len(tried)), key=lambda k: (not _keeps(judged[k], options), judged[k].cost if
                                                     _keeps(judged[k], options) else judged[k].share))  # fmt: skip
    tells = {b for n, b in enumerate(places[0]) if any(s.tells[n] for s in states)}
    best = _verified(every, tried, judged, order, options, tells, progress)
    return _published(inputs, options, bus, tried, judged, order, best, gone, len(places[0]))


def _states(
    every: list[Case], options: SearchOptions, progress: Progress
) -> tuple[list[State], tuple[list[str], Floats]]:
    asked = distortion_options(options, options.bus)
    found: list[tuple[Case, BySequence]] = []
    for case in every:
        grid = grid_of(case.inputs, asked)
        if grid is not None and grid.row(options.bus) >= 0:
            model = BySequence(case.inputs.network.under(case.inputs.under), grid, asked)
            if model.sources:
                found.append((case, model))
    if not found:
        return [], ([], np.zeros(0))
    shared = [b for b in found[0][1].places.bus if all(b in m.places.bus for _, m in found)]
    chosen = _nearest(found[0][1], shared, options.bus)
    states = []
    for n, (case, model) in enumerate(found):
        progress(0.2 * n / len(found), f"without it, {case.name}")
        states.append(_state(case, model, chosen, options))
        model.close()
    at = {b: n for n, b in enumerate(found[0][1].places.bus)}
    return states, (chosen, found[0][1].places.kv[[at[b] for b in chosen]])


def _nearest(model: BySequence, shared: list[str], bus: str) -> list[str]:
    """The places that a filter at the bus says most about: those with the largest transfer impedance at order 5."""
    if len(shared) <= _MOST_PLACES:
        return shared
    model.grid.factorise(5.0, -1)
    z = np.abs(model.grid.unit(model.grid.row(bus)))
    ranked = sorted(shared, key=lambda b: -float(z[model.grid.row(b)]))
    return [bus, *[b for b in ranked if b != bus]][:_MOST_PLACES]


def _state(case: Case, model: BySequence, chosen: list[str], options: SearchOptions) -> State:
    grid = model.grid
    rows = np.array([grid.row(b) for b in chosen], np.int64)
    k = grid.row(options.bus)
    at = {b: n for n, b in enumerate(model.places.bus)}
    first = np.abs(model.places.first[[at[b] for b in chosen]])
    base = first if options.relative_to == "fundamental" else np.ones(len(chosen))
    asked = distortion_options(options, options.bus)
    state = State(case.name, into_bus(case.inputs, options.bus), [], [], [], [], [], [], np.zeros(len(chosen)), base,
                  float(np.abs(model.places.first[at[options.bus]])), grid.arrays.base_mva,
                  np.array([b == options.bus for b in chosen], np.bool_))  # fmt: skip
    for h in sorted({h for s in model.sources for h in s.orders}):
        if not sequence_of(h):
            volts = model.at(h, asked).volts[[at[b] for b in chosen]]
            state.rest += (100 * volts / base) ** 2
            continue
        grid.factorise(float(h), sequence_of(h))
        mine = [s for s in model.sources if h in s.orders]
        rhs = np.zeros((len(mine), grid.pattern.n), np.complex128)
        for n, s in enumerate(mine):
            rhs[n, s.row] = s.injected(h)
        u, z = grid.solve(rhs), grid.unit(k)
        state.orders.append(h)
        state.parts.append(u[:, rows])
        state.at.append(u[:, k])
        state.known.append(np.array([s.known(h) or options.unknown == "in_phase" for s in mine], np.bool_))
        state.z.append(z[rows])
        state.zkk.append(complex(z[k]))
        state.tells |= np.abs(z[rows]) >= _TELLS * abs(z[k])
    return state


def _candidates(states: list[State], options: SearchOptions, levels: list[Level]) -> Iterator[Candidate]:
    """Every kind, tuned for the orders that come nearest to their levels, in every size and number of steps."""
    flows = max((abs(s.power) for s in states if s.power is not None), default=1.0)
    least = options.least_mvar if options.least_mvar is not None else min(0.1 * flows, options.most_mvar or np.inf)
    most = options.most_mvar if options.most_mvar is not None else max(0.6 * flows, least)
    sizes = sorted({round_to(float(q), 3) for q in np.linspace(least, most, options.sizes)})
    worst: dict[float, float] = {}
    for s in states:
        for n, h in enumerate(s.orders):
            limit = np.array([level.limit_pct(h) for level in levels])
            volts = summed(s.parts[n], s.known[n], exponent(h, distortion_options(options, options.bus)))
            worst[h] = max(worst.get(h, 0.0), float((100 * volts / s.base / limit)[s.tells].max()))
    ranked = sorted((h for h in worst if h > 1), key=lambda h: -worst[h])[:3]
    tuned = sorted(round_to(h * (1 - _BELOW), 3) for h in ranked)
    kinds: list[tuple[FilterKind, float, float | None]] = []
    if options.single:
        kinds += [("single", n, None) for n in tuned]
    if options.double:
        kinds += [("double", a, b) for a, b in combinations(tuned, 2)]
    for kind, wanted in (("high_pass", options.high_pass), ("c_type", options.c_type)):
        if wanted:
            kinds += [(kind, n, None) for n in tuned]  # type: ignore[misc]
    if options.detuned:
        lowest = min(ranked, default=5)
        kinds += [("detuned", sqrt(100 / p), None) for p in _DETUNED_PCT if sqrt(100 / p) < lowest]
    for kind, order, second in kinds:
        for q in sizes:
            for steps in range(1, options.most_steps + 1):
                yield Candidate(kind, q, steps, order, second)


def _judge(
    s: State, tried: list[Candidate], judged: list[Judged], options: SearchOptions, places: list[str], levels: list[Level],
    kv: float, hz: float,
) -> None:  # fmt: skip
    """Hold every candidate against every level under one condition, with any of its steps on."""
    asked = distortion_options(options, options.bus)
    circuits = [design_filter(c.kind, c.mvar / c.steps, kv, c.order, QUALITY[c.kind], c.second) for c in tried]
    base_ohm = kv**2  # per unit of 1 MVA; the base power cancels below
    which: list[int] = []
    on: list[int] = []
    for n, c in enumerate(tried):
        which += [n] * c.steps
        on += range(1, c.steps + 1)
    who, count = np.array(which, np.int64), np.array(on, float)
    step_y = np.array([[base_ohm / circuits[n].impedance(float(h)) for h in (1, *s.orders)] for n in range(len(tried))])
    total = np.tile(s.rest, (len(who), 1))
    worst, quantity, place = np.zeros(len(who)), np.zeros(len(who), np.int64), np.zeros(len(who), np.int64)
    first_a = np.abs(step_y[who, 0] * count) * s.first
    currents = np.zeros(len(who))
    for k, h in enumerate(s.orders):
        y = step_y[who, k + 1] * count / s.base_mva
        a = exponent(h, asked)
        share = y / (1 + s.zkk[k] * y)
        volts = _with(s, k, share, a)
        pct = 100 * volts / s.base
        total += pct**2
        limit = np.array([level.limit_pct(h) for level in levels])
        counts = s.tells | (100 * _with(s, k, np.zeros(1, np.complex128), a)[0] / s.base <= limit)
        _worse(worst, quantity, place, np.where(counts, pct / limit, 0.0), k)
        at = summed(s.at[k][:, None] / (1 + s.zkk[k] * y)[None, :], s.known[k], a)
        currents += (np.abs(step_y[who, k + 1] * count) * at) ** 2
    limit = np.array([level.total_pct for level in levels])
    before = s.rest + sum((100 * _with(s, k, np.zeros(1, np.complex128), exponent(h, asked))[0] / s.base) ** 2
                          for k, h in enumerate(s.orders))  # fmt: skip
    counts = s.tells | (np.sqrt(before) <= limit)
    _worse(worst, quantity, place, np.where(counts, np.sqrt(total) / limit, 0.0), len(s.orders))
    ratio = np.sqrt(1 + currents / np.maximum(first_a, 1e-12) ** 2)
    names = [*(f"order {h:g}" for h in s.orders), "total distortion"]
    factor = _factors(s, tried, circuits, kv)
    for m in range(len(who)):
        j = judged[who[m]]
        if worst[m] > j.share:
            j.share, j.binds = float(worst[m]), (names[quantity[m]], places[place[m]], s.name)
        j.current = max(j.current, float(ratio[m]))
    for j, f in zip(judged, factor, strict=True):
        j.factor = min(j.factor, f)


def _worse(worst: Floats, quantity: Ints, place: Ints, share: Floats, which: int) -> None:
    at = share.argmax(axis=1)
    most = share[np.arange(len(share)), at]
    more = most > worst
    worst[more], quantity[more], place[more] = most[more], which, at[more]


def _with(s: State, k: int, share: Complexes, a: float) -> Floats:
    """Voltages of an order at all places with every candidate, (n_candidate, n_place), per unit."""
    parts, at, z, known = s.parts[k], s.at[k], s.z[k], s.known[k]
    together, at_known = parts[known].sum(axis=0), at[known].sum()
    size = np.abs(together[None] - np.outer(share * at_known, z)) ** a
    apart, loose = parts[~known], at[~known]
    if not len(apart):
        return np.asarray(size ** (1 / a))
    rows = max(1, _MOST_CELLS // max(1, apart.size))
    for n in range(0, len(share), rows):
        here = apart[None] - share[n : n + rows, None, None] * loose[None, :, None] * z[None, None, :]
        size[n : n + rows] += (np.abs(here) ** a).sum(axis=1)
    return np.asarray(size ** (1 / a))


def _factors(s: State, tried: list[Candidate], circuits: list[Any], kv: float) -> list[float]:
    """Power factor of what flows into the bus with as many steps on as serve it best."""
    if s.power is None or s.power.real <= 0:
        return [1.0] * len(tried)
    found = []
    for c, circuit in zip(tried, circuits, strict=True):
        one = (kv * s.first) ** 2 * (1 / complex(circuit.impedance(1.0))).imag
        found.append(max(s.power.real / abs(s.power - 1j * n * one) for n in range(c.steps + 1)))
    return found


def _keeps(j: Judged, options: SearchOptions) -> bool:
    return j.share <= 1 and j.factor >= options.power_factor and j.current <= _MOST_CURRENT


def _price(c: Candidate, j: Judged, options: SearchOptions, kv: float, hz: float) -> None:
    """Capacitors by what they must be rated for, reactors by what they carry, steps, and losses over the life."""
    circuit = design_filter(c.kind, c.mvar, kv, c.order, QUALITY[c.kind], c.second)
    y = 1 / complex(circuit.impedance(1.0))
    amps = abs(y) * kv * 1e3 / sqrt(3)
    capacitor = 3 * amps**2 * circuit.xc / 1e3 * max(1.0, j.current**2)
    reactor = 3 * amps**2 * (circuit.xl + circuit.xb) / 1e3 * j.current**2
    loss = 1e3 * kv**2 * max(y.real, 0.0) * j.current**2
    j.cost = (capacitor * options.capacitor_per_kvar + reactor * options.reactor_per_kvar + c.steps * options.step_each
              + loss * options.loss_per_kw)  # fmt: skip
    j.beside = {"loss_kw": loss}


def _verified(
    every: list[Case], tried: list[Candidate], judged: list[Judged], order: list[int], options: SearchOptions,
    tells: set[str], progress: Progress,
) -> int | None:  # fmt: skip
    """The cheapest that keeps everything when it is worked out in full; None where none of the first does."""
    asked = distortion_options(options, options.bus)
    before = [_exceeded(case.inputs.network, run_distortion(case.inputs, asked, quiet), options) for case in every]
    for n, k in enumerate(order[:_MOST_VERIFIED]):
        if not _keeps(judged[k], options):
            return None
        progress(0.7 + 0.3 * n / _MOST_VERIFIED, f"{KINDS[tried[k].kind]} of {tried[k].mvar:g} Mvar in full")
        if all(_in_full(case, was, tried[k], steps, asked, options, tells)
               for case, was in zip(every, before, strict=True) for steps in range(1, tried[k].steps + 1)):  # fmt: skip
            judged[k].verified = "yes"
            return k
        judged[k].verified = "no: its own power alters the voltages too much"
    return None


def _in_full(
    case: Case, before: set[tuple[str, str]], c: Candidate, steps: int, asked: Any, options: SearchOptions, tells: set[str]
) -> bool:  # fmt: skip
    """Whether it exceeds nothing where it tells, and nothing that was not exceeded elsewhere."""
    name = Namer(case.inputs.network).plain("Filter")
    inputs = with_changes(case.inputs, [Add(item={**c.item(name, asked.bus), "steps_on": steps})])
    found = run_distortion(inputs, asked, quiet)
    return found.account.converged and all(
        x in before and x[0] not in tells for x in _exceeded(inputs.network, found, options)
    )


def _exceeded(network: Network, result: Result, options: SearchOptions) -> set[tuple[str, str]]:
    """Buses and banks beyond what is allowed, and by which figure."""
    found = {
        (f.element, f.quantity) for f in result.findings if f.kind == "capacitor" and f.severity is Severity.BREACH
    }
    table = result.tables.get("buses")
    if table is None:
        return found
    levels = levels_of(network, [float(v) for v in table["nominal_kv"]], options.limits)
    for name, limits in (("thd_pct", [level.total_pct for level in levels]),
                         *((n, [level.limit_pct(h) for level in levels]) for h, n in orders_of(table))):  # fmt: skip
        for n in np.flatnonzero(np.asarray(table[name], float) > np.array(limits)).tolist():
            found.add((table["id"][n], name))
    return found


def _published(
    inputs: Inputs, options: SearchOptions, bus: Bus, tried: list[Candidate], judged: list[Judged], order: list[int],
    best: int | None, gone: list[Change], n_places: int,
) -> Result:  # fmt: skip
    network = inputs.network
    binds = [judged[k].binds for k in order]
    table = Table("candidates", "Candidates", [
        Column("id", "Id", [options.bus] * len(order), fixed=True),
        Column("kind", "Kind", [KINDS[tried[k].kind] for k in order], fixed=True),
        Column("mvar", "Power", np.array([tried[k].mvar for k in order]), "Mvar", 2, "Of all steps, at nominal voltage"),
        Column("steps", "Steps", np.array([tried[k].steps for k in order]), None, 0),
        Column("order", "Tuned", np.array([tried[k].order for k in order]), None, 2),
        Column("second", "And", np.array([tried[k].second or np.nan for k in order], float), None, 2),
        Column("cost", "Cost", np.array([judged[k].cost for k in order]), None, 0, "In the unit of the prices"),
        Column("level_pct", "Of its level", 100 * np.array([judged[k].share for k in order]), "%", 1,
               "The largest share of any level, anywhere, under any condition and with any of its steps on"),
        Column("binds", "What binds", [f"{b[0]} at {network[b[1]].name}" if b[1] else "" for b in binds]),
        Column("under", "Under", [b[2] for b in binds]),
        Column("factor", "cos φ", np.array([judged[k].factor for k in order]), None, 3, "Lowest of all conditions"),
        Column("current_pct", "Its current", 100 * np.array([judged[k].current for k in order]), "%", 0, "Of its fundamental"),
        Column("loss_kw", "Losses", np.array([judged[k].beside["loss_kw"] for k in order]), "kW", 2),
        Column("verified", "In full", [judged[k].verified for k in order],
               meaning="Whether it was worked out in full, with what its power does to the load flow"),
    ])  # fmt: skip
    keeping = sum(_keeps(j, options) for j in judged)
    findings: list[Finding] = []
    scheme: list[dict[str, Any]] = []
    if best is not None:
        c, j = tried[best], judged[best]
        said = f"{c.steps} × {round_to(c.mvar / c.steps):g}" if c.steps > 1 else f"{c.mvar:g}"
        orders = f"{c.order:.3g}" + (f" and {c.second:.3g}" if c.second else "")
        statement = (f"A {KINDS[c.kind]} filter of {said} Mvar tuned to {orders} is the cheapest of {keeping} that keep "
                     f"everything: {j.cost:,.0f}, {100 * j.share:.0f} % of a level at most.")  # fmt: skip
        name = Namer(with_changes(inputs, gone).network).plain(f"Filter {bus.name}")
        changes = [*gone, Add(item=c.item(name, options.bus))]
        for change in changes:
            if isinstance(change, Add):
                label = f"Add {name}"
            else:
                assert isinstance(change, Remove | Update)
                label = f"Take {network[change.id].name} out"
            scheme.append(SchemeChange(change=change, label=label).model_dump(mode="json"))
    elif order:
        k = order[0]
        c, j = tried[k], judged[k]
        why = (
            [f"{j.binds[0]} at {network[j.binds[1]].name} under {j.binds[2]} at {100 * j.share:.0f} % of its level"]
            if j.share > 1
            else []
        )
        why += [f"a power factor of {j.factor:.3f}"] if j.factor < options.power_factor else []
        why += [f"a current of {100 * j.current:.0f} % of its fundamental"] if j.current > _MOST_CURRENT else []
        statement = (f"None of {len(tried)} filters keeps everything. The nearest, {KINDS[c.kind]} of {c.mvar:g} Mvar tuned to "
                     f"{c.order:.3g}, has {', '.join(why) or 'a load flow that its own power alters too much'}.")  # fmt: skip
    else:
        statement = "Nothing was tried: no order comes near a level."
    notes = [f"Looked at the {n_places} buses on which a filter there tells most."] if n_places >= _MOST_PLACES else []
    account = Account(Ending.CONVERGED, "Filter search", len(tried), notes=notes, assumed=[
        *assumptions(options),
        "Candidates are compared with the load flow as it is without them; the cheapest is worked out in full.",
        "Levels must be kept wherever the bus tells with a tenth of its own impedance; what is exceeded elsewhere does "
        "not count.",
        "Tuned 6 % below the harmonic; quality 40 of tuned kinds, 2 of the others. Multiples of three pass a filter by.",
    ])  # fmt: skip
    good = np.array([_keeps(judged[k], options) for k in order], np.bool_) if order else np.zeros(0, np.bool_)
    size = np.array([tried[k].mvar for k in order])
    cost, share = (np.array([getattr(judged[k], f) for k in order]) for f in ("cost", "share"))
    figures = [Figure("cost", "Cost and the level it uses", Axis("Cost", None, 0), Axis("Of its level", "%", 0), [
        Series("keeping", "keeps everything", cost[good], 100 * share[good], "points"),
        Series("others", "does not", cost[~good], 100 * share[~good], "points"),
    ])] if len(size) else []  # fmt: skip
    summary: dict[str, float | None] = {"tried": float(len(tried)), "keeping": float(keeping),
                                        "cost": judged[best].cost if best is not None else None}  # fmt: skip
    return Result(account, {"candidates": table}, summary, findings, statement, scheme, figures)


__all__ = ["run_search"]
