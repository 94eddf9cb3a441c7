"""Whether generation and supplies from outside cover demand hour by hour, given how often they fail."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from pydantic import BaseModel, ConfigDict

from ...electrical.arrays import Floats
from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...network import Demand, Generator, Growth, Inverter, Network, Source
from ...network.elements.profile import Profile
from ...network.failures import failures_of
from ...network.fields import choice, quantity
from ...network.growth import grown
from ...network.hours import hourly_means
from ...network.limit_sets import LimitSet
from ...results import Account, Axis, Bound, Column, Figure, Finding, Result, Series, Table
from ...severity import Severity
from ..base import Inputs, Progress
from ._checked import State, checked_by_ac
from ._composite import Dispatched, Part, grid_of, levels, parts_of, states
from ._outages import HOURS, OutageTable, Unit, table_of

_WEATHER = ("wind", "solar")
_POINTS = 400
_LEAST_MW = 1e-6


class AdequacyOptions(BaseModel):
    """Which supply counts, and of which year."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    supply_mw: float | None = quantity(
        "Supplies from outside", "What each gives at most where it does not say; blank: those without a most power do not count",
        unit="MW", default=None, ge=0, le=1e6,
    )  # fmt: skip
    step_mw: float = quantity("Step", "Of the capacity-outage table", unit="MW", default=0.5, ge=0.001, le=1000)
    year: int | None = quantity(
        "Year", "Demand grows to it; as entered when blank", unit="1", default=None, ge=1900, le=2200
    )
    losses_pct: float = quantity("Losses", "On top of demand", unit="%", default=3.0, ge=0, le=100)
    storage: bool = choice(
        "Storage shaves peaks",
        "Every day by its energy, refilled in the hours of least demand; off: left out",
        default=True,
    )
    typical: bool = choice("Typical data", "Machines with blank failures take those typical of them; off: they never fail",
                           default=True)  # fmt: skip
    network: Literal["no", "enumerated", "sampled"] = choice(
        "With the network",
        "No: it carries whatever is there. Enumerated: every state with up to two parts away. Sampled: states "
        "drawn at random. In both the least demand is shed, linear",
        default="no",
        group="network",
    )
    from_kv: float = quantity(
        "Branches from",
        "Lowest nominal voltage of branches that may be away",
        unit="kV",
        default=30.0,
        ge=0,
        le=1500,
        group="network",
    )
    levels: int = quantity(
        "Levels", "Of demand, finer towards the peak", unit="1", default=6, ge=1, le=60, group="network"
    )
    samples: int = quantity(
        "Samples", "States that are drawn", unit="1", default=2000, ge=10, le=100_000, group="network"
    )
    seed: int = quantity(
        "Seed", "The same seed draws the same states", unit="1", default=1, ge=0, le=2**31, group="network"
    )
    checked: int = quantity(
        "Checked by AC", "States that weigh most, each put into the AC load flow with what the linear equations dispatch and "
        "shed; 0: none", unit="1", default=0, ge=0, le=1000, group="network", when={"network": ("enumerated", "sampled")},
    )  # fmt: skip
    limit_set: LimitSet = choice("Limits", "Which limits branches keep meanwhile", default="emergency",
                                                       group="network")  # fmt: skip
    most_h: float | None = quantity("Hours, most", "Of loss of load a year; more is told as a finding; any when blank", unit="h",
                                    default=None, ge=0, le=8760)  # fmt: skip


@dataclass
class Hourly:
    """MW of every hour: ``demand``, with losses; ``weather``: of wind and sun; ``shaved``: what storage takes off."""

    demand: Floats
    weather: Floats
    shaved: Floats

    @property
    def left(self) -> Floats:
        """What units have to cover."""
        return np.maximum(self.demand - self.weather - self.shaved, 0.0)


def units_of(network: Network, options: AdequacyOptions) -> list[Unit]:
    """Machines and supplies that count as units: all but wind, sun and storage."""
    found = []
    for e in network.elements():
        if not e.in_service or not isinstance(e, Generator | Source):
            continue
        if isinstance(e, Generator):
            if e.energy in (*_WEATHER, "storage") or (e.energy_mwh is not None and options.storage):
                continue
            capacity = (
                e.most_mw if e.most_mw is not None else e.rated_mva if e.rated_mva is not None else e.active_power_mw
            )
        else:
            capacity = e.most_mw if e.most_mw is not None else options.supply_mw
        if not capacity or capacity <= 0:
            continue
        data = failures_of(network, e, typical=options.typical)
        outages = [(float(capacity), data.rate, data.hours)] if data.rate else []
        if isinstance(e, Generator) and e.partial_rate and e.partial_h and e.partial_mw is not None:
            outages.append((max(capacity - e.partial_mw, 0.0), e.partial_rate, e.partial_h))
        found.append(Unit(e.id, e.name, float(capacity), tuple(outages)))
    return found


def hourly(network: Network, options: AdequacyOptions) -> tuple[Hourly, list[str]]:
    """Demand and weather of every hour that the profiles have, a year at most; one hour of demand as entered without any."""
    known = {(p.scales, p.key): hourly_means(p) for p in network.of(Profile) if p.packed and p.means == "factor"}
    count = max((len(v) for v in known.values()), default=1)
    count = min(count, int(HOURS) + 24)
    notes = []

    def factor(*keys: tuple[str, str]) -> Floats:
        total = np.ones(count)
        for key in keys:
            if key in known:
                total = total * np.resize(known[key], count)
        return total

    demand = np.zeros(count)
    by_class: dict[str, float] = {}
    for e in network.elements():
        if isinstance(e, Demand) and e.in_service and not e.missing():
            by_class[e.demand_class] = by_class.get(e.demand_class, 0.0) + e.power_mva().real
    for name, mw in by_class.items():
        demand += mw * factor(("class", name), ("demand", ""))
        if ("class", name) not in known and ("demand", "") not in known and known:
            notes.append(f"Demand of class {name} has no profile: it counts as entered in every hour.")
    demand *= 1 + options.losses_pct / 100
    weather = np.zeros(count)
    for e in network.elements():
        if isinstance(e, Generator | Inverter) and e.in_service and e.energy in _WEATHER:
            weather += (e.active_power_mw or 0.0) * factor(("energy", e.energy), ("element", e.id))
    shaved = _shaved(network, demand - weather) if options.storage else np.zeros(count)
    return Hourly(demand, weather, shaved), notes


def _shaved(network: Network, left: Floats) -> Floats:
    """What storage takes off every hour: of each day the highest hours down to a level, as power and energy allow, and the
    energy over its round trip put back in the lowest."""
    total = np.zeros(len(left))
    for e in network.elements():
        if (
            not isinstance(e, Generator | Inverter)
            or not e.in_service
            or (e.energy != "storage" and e.energy_mwh is None)
        ):
            continue
        power = e.most_mw if e.most_mw is not None else e.rated_mva or 0.0
        energy = e.energy_mwh if e.energy_mwh is not None else 4 * power
        takes = -e.least_mw if e.least_mw is not None and e.least_mw < 0 else power
        if power <= 0 or energy <= 0:
            continue
        for begin in range(0, len(left), 24):
            day = (left - total)[begin : begin + 24]
            off = _level(day, power, energy, down=True)
            into = _level(day - off, takes, float(off.sum()) / max(e.round_trip_pct / 100, 0.01), down=False)
            total[begin : begin + 24] += off - into
    return total


def _level(day: Floats, power: float, energy: float, *, down: bool) -> Floats:
    """Cut peaks (or fill valleys) to the level at which the energy is used up."""
    low, high = float(day.min()), float(day.max())
    if not down:
        high = max(high, low + power)

    def used(level: float) -> Floats:
        return np.clip(day - level if down else level - day, 0.0, power)

    a, b = (low, high) if down else (high, low)  # much at a, nothing at b
    if float(used(a).sum()) <= energy:
        return used(a)
    for _ in range(60):
        middle = (a + b) / 2
        if float(used(middle).sum()) > energy:
            a = middle
        else:
            b = middle
    return used(b)


@dataclass(frozen=True)
class Adequacy:
    """Per year: ``lole_h``: hours with loss of load, ``lole_d``: days whose peak is not covered, ``eens_mwh``, ``times``:
    how often it
    begins; ``lolp``: share of the hours; ``hours_each``: mean length; of every hour the probability, (n_hour,)."""

    lole_h: float
    lole_d: float
    eens_mwh: float
    times: float
    lolp: float
    hours_each: float
    by_hour: Floats


def adequacy(capacity: float, table: OutageTable, left: Floats) -> Adequacy:
    """Of units of so much capacity against what they have to cover hour by hour; a span other than a year counts as one."""
    room = capacity - left
    # Load is lost when more is missing than there is room for.
    p, f = table.at_least(room + table.step * 1e-6 + 1e-12)
    p = np.where(room < 0, 1.0, p)
    f = np.where(room < 0, 0.0, f)
    mean = float(table.step * table.beyond[1:].sum())
    missing = np.where(room < 0, mean - room, table.expected_beyond(np.maximum(room, 0.0)))
    per_year = HOURS / len(left)
    rising = np.maximum(np.diff(p, append=p[0]), 0.0) if len(p) > 1 else np.zeros(1)
    times = float(f.sum() / HOURS + rising.sum()) * per_year
    days = [float(p[k : k + 24].max()) for k in range(0, len(p), 24)] if len(p) >= 24 else []
    lole = float(p.sum()) * per_year
    return Adequacy(
        lole, float(np.sum(days)) * (365 / len(days) if len(days) < 364 else 1.0) if days else float("nan"),
        float(missing.sum()) * per_year, times, lole / HOURS, lole / times if times > 0 else float("nan"), p,
    )  # fmt: skip


def run_adequacy(inputs: Inputs, options: AdequacyOptions, progress: Progress) -> Result:
    """Raises :class:`InvalidFields` where nothing counts as supply or nothing is demanded."""
    network = inputs.network.under(inputs.under)
    if options.year is not None:
        network = grown(network, options.year)
    units = units_of(network, options)
    hours, notes = hourly(network, options)
    if not units:
        text = "no machine and no supply from outside counts; enter what they give at most, or a figure here"
        raise InvalidFields([FieldProblem("options", "supply_mw", options.supply_mw, text)])
    if not hours.demand.any():
        raise InvalidFields([FieldProblem("network", "load", None, "there is no demand in service; add loads")])
    progress(0.2, "Capacity-outage table")
    table = table_of(units, options.step_mw)
    capacity = sum(u.capacity for u in units)
    progress(0.7, "Hour by hour")
    found = adequacy(capacity, table, hours.left)
    if options.supply_mw is None and any(s.most_mw is None and s.in_service for s in network.of(Source)):
        notes.append("Supplies from outside that do not say what they give at most are left out.")
    if options.year is not None and not network.of(Growth):
        notes.append("There is no growth in the model: demand is as entered.")
    peak = int(np.argmax(hours.left))
    statement = (
        f"Demand is not covered in {found.lole_h:.3g} hours a year, {found.times:.3g} times; {found.eens_mwh:.4g} MWh are "
        f"missing. "
        f"{capacity:.4g} MW face a peak of {float(hours.left[peak]):.4g} MW."
    )
    findings = []
    if options.most_h is not None and found.lole_h > options.most_h:
        text = f"{found.lole_h:.3g} hours a year with loss of load, {options.most_h:g} are allowed"
        findings.append(
            Finding(
                units[0].ident,
                network[units[0].ident].kind,
                "lole_h",
                found.lole_h,
                "h/a",
                options.most_h,
                "options",
                Severity.BREACH,
                "above",
                found.lole_h / max(options.most_h, 1e-9) - 1,
                text,
            )
        )
    summary: dict[str, float | None] = {
        "lole_h": found.lole_h,
        "lole_d": found.lole_d if np.isfinite(found.lole_d) else None,
        "lolp": found.lolp,
        "eens_mwh": found.eens_mwh,
        "times": found.times,
        "capacity_mw": capacity,
        "peak_mw": float(hours.left[peak]),
    }
    assumed = [
        "Units fail independently of each other, and of demand; each is away as long on average as it says.",
        "The network carries whatever is there, unless it is asked to count: then linear, without losses and voltages.",
        "Wind and sun give what their profile says of what is entered; storage takes peaks off every day.",
    ]
    extra: list[Table] = []
    if options.network != "no":
        extra, told = _with_network(inputs, network, units, hours, options, progress)
        statement += told
    tables = [
        _indices(network, found),
        _units(network, units, capacity, table, hours, options),
        _steps(network, table, capacity),
        *extra,
    ]
    account = Account(Ending.CONVERGED, "Capacity-outage table", len(units), notes=notes, assumed=assumed)
    return Result(
        account,
        {t.name: t for t in tables},
        summary,
        findings,
        statement,
        [],
        _figures(units, hours, found, capacity, table),
    )


def _with_network(
    inputs: Inputs, network: Network, units: Sequence[Unit], hours: Hourly, options: AdequacyOptions, progress: Progress
) -> tuple[list[Table], str]:
    """The same with the network: what has to be shed in every state, at levels of demand."""
    condition = inputs.under.model_copy(
        update={"demand_factor": 1.0, "class_factors": {}, "area_factors": {}, "values": {}}
    )
    grid = grid_of(network, condition, units, options.limit_set)
    parts = parts_of(network, units, grid, options.from_kv, typical=options.typical)
    total = float(grid.load.sum())
    # Wind, sun and storage are taken off demand alike everywhere: their hours are those of the whole network.
    steps = [(at * float(hours.left.max()) / total, share) for at, share in levels(hours.left, options.levels)]
    cases: list[tuple[tuple[Part, ...], float, float]]
    if options.network == "enumerated":
        cases = [(chosen, level, p * share) for chosen, p in states(parts, 2) for level, share in steps]
    else:
        dice = np.random.default_rng(options.seed)
        cases = []
        for _ in range(options.samples):
            away = {p.ident: p for p in parts if dice.random() < p.p}
            level = steps[int(dice.choice(len(steps), p=[s for _, s in steps]))][0]
            cases.append((tuple(away.values()), level, 1 / options.samples))
    solved: dict[tuple[tuple[Part, ...], float], Dispatched] = {}
    weights: dict[tuple[tuple[Part, ...], float], float] = {}
    lole = eens = covered = 0.0
    cause: dict[str, float] = {}
    for k, (chosen, level, weight) in enumerate(cases):
        if k % 50 == 0:
            progress(0.7 + 0.3 * k / len(cases), f"{k} of {len(cases)} states")
        if (chosen, level) not in solved:
            solved[chosen, level] = grid.shed(chosen, level)
        shed = solved[chosen, level].total
        weights[chosen, level] = weights.get((chosen, level), 0.0) + weight
        covered += weight
        if shed > _LEAST_MW:
            lole += weight * HOURS
            eens += weight * shed * HOURS
            for p in chosen:
                cause[p.ident] = cause.get(p.ident, 0.0) + weight * shed * HOURS / len(chosen)
    order = sorted(cause, key=lambda i: -cause[i])[:100]
    first = next(iter(network.items))
    rows = [
        ("LOLE with the network", lole, "h/a"), ("EENS with the network", eens, "MWh/a"),
        ("of it with nothing away", eens - sum(cause.values()), "MWh/a"), ("States covered", 100 * covered, "%"),
    ]  # fmt: skip
    tables = [
        Table("composite", "With the network", [
            Column("id", "Id", [first] * len(rows), fixed=True), Column("name", "Index", [r[0] for r in rows], fixed=True),
            Column("value", "Value", np.array([r[1] for r in rows]), None, 5), Column("unit", "Unit", [r[2] for r in rows]),
        ]),
        Table("weak", "What is away then", [
            Column("id", "Id", order, fixed=True), Column("name", "Name", [network[i].name for i in order], fixed=True),
            Column("eens_mwh", "Not supplied", np.array([cause[i] for i in order]), "MWh/a", 4, "Shared among those away"),
        ]),
    ]  # fmt: skip
    told = f" With the network demand is shed in {lole:.3g} hours a year, {eens:.4g} MWh; {len(solved)} states were solved."
    if options.checked:
        # Those that weigh most: by what is missing in them, then by how often they are met.
        most = sorted(solved, key=lambda s: (-weights[s] * solved[s].total, -weights[s], len(s[0])))[: options.checked]
        states_ = [State(*s, weights[s], solved[s]) for s in most]
        table, words = checked_by_ac(network, condition, grid, states_, options.limit_set, progress)
        tables.append(table)
        told += words
    return tables, told


def _indices(network: Network, found: Adequacy) -> Table:
    rows = [
        ("LOLE", found.lole_h, "h/a", "Hours in which demand is not covered"),
        ("LOLE by peaks", found.lole_d, "d/a", "Days whose peak is not covered"),
        ("LOLP", 100 * found.lolp, "%", "Share of the hours"),
        ("EENS", found.eens_mwh, "MWh/a", "Energy that is missing"),
        ("Frequency", found.times, "1/a", "How often it begins, by a failure or by rising demand"),
        ("Duration", found.hours_each, "h", "Mean length: LOLE over frequency"),
    ]
    first = next(iter(network.items))
    return Table("indices", "Indices", [
        Column("id", "Id", [first] * len(rows), fixed=True), Column("name", "Index", [r[0] for r in rows], fixed=True),
        Column("value", "Value", np.array([r[1] for r in rows]), None, 5), Column("unit", "Unit", [r[2] for r in rows]),
        Column("meaning", "Meaning", [r[3] for r in rows]),
    ])  # fmt: skip


def _units(
    network: Network,
    units: Sequence[Unit],
    capacity: float,
    table: OutageTable,
    hours: Hourly,
    options: AdequacyOptions,
) -> Table:
    """Each unit with what the others come to without it."""
    own = []
    for u in units:
        rest = [x for x in units if x is not u]
        without = adequacy(capacity - u.capacity, table_of(rest, options.step_mw), hours.left).lole_h if rest else HOURS
        own.append(without)
    return Table("units", "Units", [
        Column("id", "Id", [u.ident for u in units], fixed=True), Column("name", "Name", [u.name for u in units], fixed=True),
        Column("capacity_mw", "Gives at most", np.array([u.capacity for u in units]), "MW", 2),
        Column("forced_pct", "Forced outage rate", np.array([100 * u.forced for u in units]), "%", 3),
        Column("without_h", "LOLE without it", np.array(own), "h/a", 3, "Hours a year if it were not there"),
    ])  # fmt: skip


def _steps(network: Network, table: OutageTable, capacity: float) -> Table:
    exact = table.beyond - np.append(table.beyond[1:], 0.0)
    rows = np.flatnonzero(exact > 1e-12)
    if len(rows) > _POINTS:
        rows = rows[np.linspace(0, len(rows) - 1, _POINTS).astype(int)]
    first = next(iter(network.items))
    return Table("steps", "Capacity-outage table", [
        Column("id", "Id", [first] * len(rows), fixed=True),
        Column("missing_mw", "Missing", table.step * rows, "MW", 2, fixed=True),
        Column("left_mw", "Left", capacity - table.step * rows, "MW", 2),
        Column("exactly", "Probability", exact[rows], None, 8), Column("beyond", "At least", table.beyond[rows], None, 8),
        Column("entered", "Entered", table.entered[rows], "1/a", 5, "How often at least so much comes to be missing"),
    ])  # fmt: skip


def _figures(
    units: Sequence[Unit], hours: Hourly, found: Adequacy, capacity: float, table: OutageTable
) -> list[Figure]:
    n = len(hours.left)
    share = 100 * (np.arange(n) + 0.5) / n
    thin = np.unique(np.linspace(0, n - 1, min(n, _POINTS)).astype(int))
    down = np.sort(hours.left)[::-1]
    gross = np.sort(hours.demand)[::-1]
    figures = [
        Figure("cover", "Demand and what covers it", Axis("Share of time", "%", 1), Axis("Power", "MW", 1), [
            Series("left", "left for units", share[thin].tolist(), down[thin].tolist()),
            Series("demand", "demand with losses", share[thin].tolist(), gross[thin].tolist()),
        ], [Bound("all units", capacity)]),
        Figure("outage", "Capacity-outage table", Axis("Missing at least", "MW", 1), Axis("Probability", None, 6), [
            Series("beyond", "probability", (table.step * np.arange(len(table.beyond))).tolist(), table.beyond.tolist()),
        ]),
    ]  # fmt: skip
    if n >= 48:
        day = [f"{k // 24 + 1}" for k in range(n // 24 * 24)]
        hour = [f"{k % 24:02d}:00" for k in range(n // 24 * 24)]
        z = (100 * found.by_hour[: n // 24 * 24]).tolist()
        figures.append(
            Figure("hours", "When load is lost", Axis("Day"), Axis("Hour"), [Series("p", "probability", day, hour, "cells", z=z)],
                   z=Axis("Probability", "%", 3))
        )  # fmt: skip
    return figures
