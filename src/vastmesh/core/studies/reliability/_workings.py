"""The rate, duration and unavailability of one load, and SAIDI of one feeder, element by element."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ...network import Condition, Demand, Network
from ...network.trace import Trace
from ...options import options_of
from ...results import Result
from ...workings import Ledger, Working
from ..base import Inputs
from ..failures import HOURS, SAID, Ready, every
from ._options import ReliabilityOptions

_MOST = 24


def explain(
    network: Network, result: Result, condition: Condition, ident: str, options: Mapping[str, Any]
) -> list[Working]:
    """Workings of a load, or of the feeder that an element names; none of anything else."""
    given = options_of(ReliabilityOptions, options)
    found = []
    loads, feeders = result.tables.get("loads"), result.tables.get("feeders")
    if loads is not None and ident in list(loads["id"]):
        found.append(_load(network, condition, ident, given, float(loads["hours"][list(loads["id"]).index(ident)])))
    if feeders is not None and loads is not None and ident in list(feeders["id"]):
        saidi = float(feeders["saidi"][list(feeders["id"]).index(ident)])
        found.append(_feeder(network.under(condition), result, ident, saidi))
    return found


def _load(network: Network, condition: Condition, ident: str, options: ReliabilityOptions, hours: float) -> Working:
    ready = Ready(Inputs(network, condition), options)
    section = ready.people.place[ready.people.loads.index(ident)]
    rows: dict[tuple[str, str], list[float]] = {}
    limit = options.sustained_min / 60
    for e in every(ready):
        at = e.story.sections.searchsorted(section)
        if at >= len(e.story.sections) or e.story.sections[at] != section:
            continue
        lasts = float(e.story.lasting(e.repair_h)[at])
        if lasts > limit * (1 + 1e-9):
            name = " and ".join(ready.network[i].name for i in e.elements[:2])
            row = rows.setdefault((name, SAID[e.kind].lower()), [0.0, 0.0])
            row[0] += e.per_year
            row[1] += e.per_year * lasts
    told = Ledger(
        f"Interruptions of {network[ident].name}",
        "Each failure that interrupts it: how often, and how long it is without supply then. Rates add up, and hours; what fails "
        "rarely is taken together at the end.",
    )
    order = sorted(rows, key=lambda k: -rows[k][1])
    terms = []
    for k, key in enumerate(order[:_MOST], 1):
        rate, total = rows[key]
        told.given(f"l{k}", f"{key[0]}, {key[1]}", rate, "1/a", "failure data")
        told.given(f"r{k}", "without supply each time", total / rate, "h", "its story")
        terms.append(str(k))
    rest = order[_MOST:]
    if rest:
        rate, total = sum(rows[k][0] for k in rest), sum(rows[k][1] for k in rest)
        told.given("lz", f"{len(rest)} others together", rate, "1/a", "failure data")
        told.given("rz", "without supply each time, on average", total / rate, "h", "their stories")
        terms.append("z")
    if not terms:
        told.given("L", "interruptions", 0.0, "1/a", "nothing interrupts it")
        return told.working()
    told.line("L", "interruptions", " + ".join(f"l{k}" for k in terms), "1/a")
    told.line("U", "hours without supply", " + ".join(f"l{k} * r{k}" for k in terms), "h/a", solver=hours)
    told.line("r", "mean length", "U / L", "h")
    told.line("q", "unavailability", f"100 * U / {HOURS:g}", "%")
    return told.working()


def _feeder(network: Network, result: Result, ident: str, saidi: float) -> Working:
    trace = Trace(network)
    feeder = next(f for f in trace.feeders if f.id == ident)
    table = result.tables["loads"]
    rows = [
        (network[i].name, float(n), float(u))
        for i, n, u in zip(table["id"], table["customers"], table["hours"], strict=True)
        if isinstance(e := network.items.get(i), Demand) and e.bus in set(feeder.buses) and n > 0
    ]
    rows.sort(key=lambda r: -r[1] * r[2])
    told = Ledger(
        f"SAIDI of {feeder.name}",
        "Hours without supply of every load, weighed by its customers (IEEE 1366). Small ones are taken together at the end.",
    )
    terms = []
    for k, (name, n, u) in enumerate(rows[:_MOST], 1):
        told.given(f"N{k}", f"customers of {name}", n, "", "model")
        told.given(f"U{k}", "hours without supply", u, "h/a", "this study")
        terms.append(str(k))
    rest = rows[_MOST:]
    if rest:
        n = sum(r[1] for r in rest)
        told.given("Nz", f"customers of {len(rest)} others", n, "", "model")
        told.given("Uz", "hours without supply, on average", sum(r[1] * r[2] for r in rest) / n, "h/a", "this study")
        terms.append("z")
    told.line("H", "customer hours", " + ".join(f"N{k} * U{k}" for k in terms), "h/a")
    told.line("N", "customers", " + ".join(f"N{k}" for k in terms), "")
    told.line("S", "SAIDI", "H / N", "h/a", solver=saidi)
    return told.working()
