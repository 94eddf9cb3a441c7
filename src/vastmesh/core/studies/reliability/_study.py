"""How often and for how long who is without supply, where that comes from, and the story of one failure."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from ...electrical.arrays import Bools
from ...flow import Ending
from ...network import Area, Bus, Demand
from ...network.trace import Feeder, Trace
from ...results import Account, Axis, Bound, Column, Figure, Finding, Quantity, Result, Series, Table, quantity_of
from ...severity import Severity
from ..base import Answer, Inputs, Missing, Progress, Split
from ..failures.events import KINDS, SAID, Ready, events, parts
from ..failures.indices import INDICES, indices
from ..failures.tally import MEASURES, Tally
from ._options import ReliabilityOptions
from ._told import story_of, told

_FOUND, _BARS = 60, 12


def _plan(inputs: Inputs, options: ReliabilityOptions) -> Sequence[Any]:
    return parts(Ready(inputs, options))


def _answer(ready: Ready, part: dict[str, int], progress: Progress) -> Answer:
    options = ready.course
    assert isinstance(options, ReliabilityOptions)
    tally = Tally(ready.people, options.sustained_min)
    alone: set[str] = set()
    before = ready.capacity.count if ready.capacity else 0
    for e in events(ready, part, progress):
        tally.add(e)
        if e.kind == "failure" and e.story.only_supply:
            alone |= set(e.elements)
    tally.close()
    return {
        "rate": tally.rate, "away": tally.away, "brief": tally.brief, "energy_h": tally.energy_h, "cost": tally.cost,
        "kinds": tally.kinds, "ids": list(tally.elements),
        "elements": np.array(list(tally.elements.values())).reshape(-1, len(KINDS), len(MEASURES)), "only_supply": sorted(alone),
        "solved": ready.capacity.count - before if ready.capacity else 0,
    }  # fmt: skip


def _join(
    inputs: Inputs, options: ReliabilityOptions, plan: Sequence[Any], answers: Sequence[Answer | Missing]
) -> Result:
    ready = Ready(inputs, options)
    tally = Tally(ready.people, options.sustained_min)
    missing, alone, solved = [a for a in answers if isinstance(a, Missing)], set(), 0
    for a in answers:
        if isinstance(a, Missing):
            continue
        other = Tally(ready.people, options.sustained_min)
        for name in ("rate", "away", "brief", "energy_h", "cost", "kinds"):
            setattr(other, name, np.asarray(a[name]))
        other.elements = {i: np.asarray(v) for i, v in zip(a["ids"], a["elements"], strict=True)}
        tally.merge(other)
        alone |= set(a["only_supply"])
        solved += int(a["solved"])
    return _published(ready, options, tally, alone, missing, solved)


SPLIT = Split(plan=_plan, prepare=Ready, answer=_answer, join=_join)


def _published(
    ready: Ready, options: ReliabilityOptions, tally: Tally, alone: set[str], missing: Sequence[Missing], solved: int
) -> Result:
    people, feeders = ready.people, Trace(ready.network).feeders
    whole = indices(people, tally, np.ones(len(people.loads), np.bool_))
    ident = options.story or _worth_telling(ready, tally)
    groups = _by(ready, tally, feeders)
    tables = [
        _indices(ready, tally, whole),
        _loads(ready, tally, feeders),
        *groups,
        _elements(ready, tally),
        _kinds(tally),
    ]
    if ident is not None:
        tables.append(told(ready, ident))
    statement = (
        f"The average customer is without supply {whole['saidi']:.3g} hours a year in {whole['saifi']:.3g} interruptions; "
        f"{whole['ens']:.4g} MWh a year are not supplied."
    )
    poor = _poorest(ready, tally)
    if poor:
        statement += f" Worst is {poor}."
    account = Account(Ending.CONVERGED, "Every failure played through", len(tally.elements), notes=_notes(ready, missing, solved),
                      assumed=_assumed(options))  # fmt: skip
    summary: dict[str, float | None] = {
        i.name: (whole[i.name] if np.isfinite(whole[i.name]) else None) for i in INDICES
    }
    return Result(
        account, {t.name: t for t in tables}, summary, _findings(ready, options, tally, alone), statement, [],
        _figures(ready, tally, groups[0], whole), _quantities(tables),
    )  # fmt: skip


def _worth_telling(ready: Ready, tally: Tally) -> str | None:
    """The element that interrupts most of those whose failure is more than a repair to wait for; else that which interrupts
    most."""
    order = sorted(
        (i for i in tally.elements if i in ready.network.items), key=lambda i: -float(tally.elements[i][:, 1].sum())
    )
    play = ready.play()
    for ident in order[:40]:
        story = story_of(ready, play, ident)
        if story is not None and len(story.steps) > 2:
            return ident
    return order[0] if order else None


def _poorest(ready: Ready, tally: Tally) -> str:
    people = ready.people
    worth = np.where(people.customers > 0, tally.away[people.place], -1.0)
    if not len(worth) or worth.max() <= 0:
        return ""
    k = int(np.argmax(worth))
    item = ready.network[people.loads[k]]
    return f"{item.name} with {worth[k]:.3g} hours in {tally.rate[people.place[k]]:.3g} interruptions"


def _notes(ready: Ready, missing: Sequence[Missing], solved: int) -> list[str]:
    people, found = ready.people, []
    if missing:
        why = next((m.why for m in missing if m.why), "")
        found.append(
            f"{len(missing)} parts of the work are missing: {why}" if why else f"{len(missing)} parts to come."
        )
    typical = sum(1 for g in ready.groups for _, d in g.elements if "failure_rate" in d.typical)
    if typical and ready.course.typical:
        found.append(f"{typical} elements take failures typical of their kind: enter them where you know better.")
    if people.assumed:
        found.append(f"{people.assumed} loads take {ready.course.average_pct:g} % as average demand.")
    if people.generic:
        found.append(f"Interruption costs of {', '.join(people.generic[:6])} are general ones: add them to the model.")
    nobody = [i for i, n in zip(people.loads, people.customers, strict=True) if n == 0]
    if nobody:
        found.append(
            f"{len(nobody)} loads have no customers, {ready.network[nobody[0]].name} first: they count in energy only."
        )
    dead = ~ready.graph.cuts("zone").supplied[people.place]
    if dead.any():
        found.append(f"{int(dead.sum())} loads have no supply to begin with and do not count as interrupted.")
    if ready.capacity is not None and not ready.capacity.known:
        found.append("The network has no load flow as it stands: nothing was transferred.")
    elif solved:
        found.append(f"{solved} load flows were solved to check transfers.")
    return found


def _assumed(options: ReliabilityOptions) -> list[str]:
    found = [
        "Failures are independent and rare beside repairs: rates and durations add up.",
        "Protection is selective: what clears a fault is the nearest on every side that can.",
        "A line of several circuits fails as one; common failures and two at once are played where model and options say.",
        "Nobody is shed for overload in what stays supplied; see outages for that.",
        "Interrupted energy is average demand times duration, whatever the hour.",
    ]
    if options.storms:
        found[0] = "Failures are rare beside repairs, and independent but for storms: rates and durations add up."
        found.append("Storms do not change how often something fails over the year; overhead lines fail more in them.")
    if options.year is not None:
        found.append(f"Equipment with a commissioning date fails as often as its age in {options.year} says.")
    if options.transfers == "checked":
        found.append("Transfers are checked at the demand of the condition in use; taps stay where they are.")
        found.append("What a tie carries for more sections it carries for fewer.")
    return found


def _indices(ready: Ready, tally: Tally, whole: dict[str, float]) -> Table:
    n = float(ready.people.customers.sum())
    split = {
        "saifi": tally.kinds[:, 0] / n if n else np.full(len(KINDS), np.nan),
        "saidi": tally.kinds[:, 1] / n if n else np.full(len(KINDS), np.nan),
        "maifi": tally.kinds[:, 2] / n if n else np.full(len(KINDS), np.nan),
        "ens": tally.kinds[:, 3],
        "cost": tally.kinds[:, 4] / 1000,
    }
    first = next(iter(ready.network.items))
    columns = [
        Column("id", "Id", [first] * len(INDICES), fixed=True),
        Column("name", "Index", [i.label for i in INDICES], fixed=True),
        Column("value", "Value", np.array([whole[i.name] for i in INDICES]), None, 5),
        Column("unit", "Unit", [i.unit or "" for i in INDICES]),
        Column("meaning", "Meaning", [i.meaning for i in INDICES]),
    ]
    for k, kind in enumerate(KINDS):
        if tally.kinds[k].any():
            values = [float(split[i.name][k]) if i.name in split else float("nan") for i in INDICES]
            columns.append(Column(kind, SAID[kind], np.array(values), None, 5))
    return Table("indices", "Indices", columns)


def _loads(ready: Ready, tally: Tally, feeders: Sequence[Feeder]) -> Table:
    people, network, place = ready.people, ready.network, ready.people.place
    name_of = {b: f.name for f in feeders for b in f.buses}
    feeder = [name_of.get(network[i].bus, "") for i in people.loads]  # type: ignore[attr-defined]
    order = np.argsort(-tally.away[place], kind="stable")
    ids = [people.loads[k] for k in order]
    at = place[order]
    rate, away = tally.rate[at], tally.away[at]
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = np.where(rate > 0, away / rate, np.nan)
    cost = people.average[order] * tally.cost[at, people.group[order]] / 1000
    return Table(
        "loads",
        "Loads",
        [
            Column("id", "Id", ids, fixed=True),
            Column("name", "Name", [network[i].name for i in ids], fixed=True),
            Column("feeder", "Feeder", [feeder[k] for k in order], fixed=True),
            Column("demand_class", "Class", [network[i].demand_class for i in ids], fixed=True),  # type: ignore[attr-defined]
            Column("customers", "Customers", people.customers[order], None, 0, fixed=True),
            Column("interruptions", "Interruptions", rate, "1/a", 3, "Sustained ones"),
            Column("hours", "Hours without supply", away, "h/a", 3),
            Column("mean_h", "Mean length", mean, "h", 2),
            Column("unavailability", "Unavailability", 100 * away / 8760, "%", 5),
            Column("brief", "Momentary", tally.brief[at], "1/a", 3, "Interruptions that do not last"),
            Column("ens_mwh", "Not supplied", people.average[order] * tally.energy_h[at], "MWh/a", 4),
            Column("cost_k", "Cost", cost, "k/a", 3, "What its interruptions cost, in thousands"),
        ],
    )  # fmt: skip


def _by(ready: Ready, tally: Tally, every: Sequence[Feeder]) -> list[Table]:
    """Feeders, areas and classes: each a set of loads."""
    people, network = ready.people, ready.network
    bus_of = [network[i].bus for i in people.loads]  # type: ignore[attr-defined]
    feeder = {b: f.id for f in every for b in f.buses}
    area = {b.id: b.area for b in network.of(Bus) if b.area}
    first = next(iter(network.items))

    def table(name: str, label: str, keys: list[str | None], called: Callable[[str], tuple[str, str]]) -> Table:
        known = sorted({k for k in keys if k})
        rows = []
        for key in known:
            chosen: Bools = np.array([k == key for k in keys])
            rows.append((key, float(people.customers[chosen].sum()), indices(people, tally, chosen)))
        rows.sort(key=lambda r: -r[2]["saidi"] if np.isfinite(r[2]["saidi"]) else 0.0)
        columns = [
            Column("id", "Id", [called(k)[0] for k, _, _ in rows], fixed=True),
            Column("name", "Name", [called(k)[1] for k, _, _ in rows], fixed=True),
            Column("customers", "Customers", np.array([n for _, n, _ in rows]), None, 0, fixed=True),
        ]
        columns += [
            Column(i.name, i.label, np.array([r[i.name] for _, _, r in rows]), i.unit, i.digits, i.meaning)
            for i in INDICES
        ]
        return Table(name, label, columns)

    names = {f.id: f.name for f in every}
    tables = [table("feeders", "Feeders", [feeder.get(b) for b in bus_of], lambda k: (k, names[k]))]
    if network.of(Area):
        tables.append(table("areas", "Areas", [area.get(b) for b in bus_of], lambda k: (k, network[k].name)))
    classes = [e.demand_class for i in people.loads if isinstance(e := network[i], Demand)]
    tables.append(table("classes", "Classes", list(classes), lambda k: (first, k)))
    return tables


def _elements(ready: Ready, tally: Tally) -> Table:
    network, n = ready.network, float(ready.people.customers.sum())
    data = {i: d for g in ready.groups for i, d in g.elements}
    ids = sorted(
        (i for i in data if i in network.items),
        key=lambda i: -float(tally.elements[i][:, 1].sum()) if i in tally.elements else 0.0,
    )
    none = np.zeros((len(KINDS), len(MEASURES)))
    every = np.array([tally.elements.get(i, none).sum(axis=0) for i in ids]).reshape(-1, len(MEASURES))
    by = n if n else float("nan")
    share = np.divide(
        100 * every[:, 1], tally.kinds[:, 1].sum(), out=np.zeros(len(ids)), where=tally.kinds[:, 1].sum() > 0
    )
    return Table(
        "elements",
        "Where it comes from",
        [
            Column("id", "Id", ids, fixed=True),
            Column("name", "Name", [network[i].name for i in ids], fixed=True),
            Column("kind", "Kind", [type(network[i]).label for i in ids], fixed=True),
            Column("rate", "Failures", np.array([data[i].rate for i in ids]), "1/a", 4, "Permanent ones, of the whole element"),
            Column("temporary", "Temporary", np.array([data[i].temporary for i in ids]), "1/a", 4),
            Column("repair_h", "Repair", np.array([data[i].hours for i in ids]), "h", 1),
            Column("from_", "Data", ["typical" if "failure_rate" in data[i].typical else "entered" for i in ids]),
            Column("share_pct", "Share of SAIDI", share, "%", 2, "Of all hours without supply of customers"),
            Column("saidi", "Of SAIDI", every[:, 1] / by, "h/a", 5, "Hours of the average customer that it causes"),
            Column("saifi", "Of SAIFI", every[:, 0] / by, "1/a", 5, "Interruptions of the average customer that it causes"),
            Column("maifi", "Of MAIFI", every[:, 2] / by, "1/a", 5, "Momentary interruptions that it causes"),
            Column("ens_mwh", "Not supplied", every[:, 3], "MWh/a", 4, "Energy not supplied because of it"),
            Column("cost_k", "Cost", every[:, 4] / 1000, "k/a", 3, "Of the interruptions it causes, in thousands"),
        ],
    )  # fmt: skip


def _kinds(tally: Tally) -> Table:
    rows = [k for k in range(len(KINDS)) if tally.kinds[k].any()]
    total = tally.kinds.sum(axis=0)
    n = float(tally.people.customers.sum()) or float("nan")
    first = tally.people.loads[0]
    return Table(
        "kinds",
        "Kinds of failure",
        [
            Column("id", "Id", [first] * len(rows), fixed=True),
            Column("name", "Kind", [SAID[KINDS[k]] for k in rows], fixed=True),
            Column("saifi", "SAIFI", tally.kinds[rows, 0] / n, "1/a", 4),
            Column("saidi", "SAIDI", tally.kinds[rows, 1] / n, "h/a", 4),
            Column("maifi", "MAIFI", tally.kinds[rows, 2] / n, "1/a", 4),
            Column("ens_mwh", "Not supplied", tally.kinds[rows, 3], "MWh/a", 4),
            Column("cost_k", "Cost", tally.kinds[rows, 4] / 1000, "k/a", 3),
            Column("share_pct", "Share of SAIDI", 100 * tally.kinds[rows, 1] / (total[1] or float("nan")), "%", 1),
        ],
    )


def _figures(ready: Ready, tally: Tally, feeders: Table, whole: dict[str, float]) -> list[Figure]:
    network, n = ready.network, float(ready.people.customers.sum()) or float("nan")
    ids = sorted(
        (i for i in tally.elements if i in network.items), key=lambda i: -float(tally.elements[i][:, 1].sum())
    )[:_BARS]
    names = [network[i].name for i in ids]
    shown = (
        ("failure", ("failure",)),
        ("planned", ("planned",)),
        ("other", ("temporary", "stuck", "overlap", "common")),
    )
    words = {"failure": "permanent failures", "planned": "planned outages", "other": "all else"}
    causes = []
    for key, kinds in shown:
        rows = [KINDS.index(k) for k in kinds]
        minutes = [60 * float(tally.elements[i][rows, 1].sum()) / n for i in ids]
        if any(m > 0 for m in minutes):
            causes.append(Series(key, words[key], names, minutes, "bars", ids))
    kept = list(range(min(_BARS, len(feeders))))
    by_feeder = [60 * float(feeders["saidi"][k]) for k in kept]
    return [
        Figure(
            "causes",
            "What interrupts most",
            Axis("Element"),
            Axis("Of the average customer, a year", "min", 2),
            causes,
        ),
        Figure(
            "feeders",
            "Feeders",
            Axis("Feeder"),
            Axis("Of its average customer, a year", "min", 1),
            [
                Series(
                    "saidi",
                    "SAIDI",
                    [feeders["name"][k] for k in kept],
                    by_feeder,
                    "bars",
                    [feeders["id"][k] for k in kept],
                )
            ],
            [Bound("whole network", 60 * whole["saidi"])] if np.isfinite(whole["saidi"]) else [],
        ),
    ]


def _quantities(tables: list[Table]) -> list[Quantity]:
    wanted = {
        "loads": ("hours", "interruptions", "ens_mwh", "brief"),
        "elements": ("share_pct", "rate", "saidi", "ens_mwh", "cost_k"),
    }
    sums = {"ens_mwh", "cost_k", "saidi"}
    return [
        quantity_of(t, c, "growing", sums=c.name in sums)
        for t in tables
        for c in t.columns
        if c.name in wanted.get(t.name, ())
    ]


def _findings(ready: Ready, options: ReliabilityOptions, tally: Tally, alone: set[str]) -> list[Finding]:
    network, people, found = ready.network, ready.people, []
    if options.most_h is not None:
        for k in np.argsort(-tally.away[people.place], kind="stable")[:_FOUND].tolist():
            hours = float(tally.away[people.place[k]])
            if hours > options.most_h:
                text = f"{hours:.3g} hours a year without supply, {options.most_h:g} are allowed"
                excess = hours / options.most_h - 1 if options.most_h else hours
                found.append(
                    Finding(people.loads[k], network[people.loads[k]].kind, "hours", hours, "h/a", options.most_h, "options",
                            Severity.BREACH, "above", excess, text)
                )  # fmt: skip
    for ident in sorted(alone)[:_FOUND]:
        item = network.items.get(ident)
        if item is not None and not isinstance(item, Bus):
            text = f"A fault of {item.name} is cleared by the breaker of the supply alone; put a breaker or a fuse before it"
            found.append(
                Finding(ident, item.kind, "clears", None, None, None, "protection", Severity.WATCH, "", 0.0, text)
            )
    return found
