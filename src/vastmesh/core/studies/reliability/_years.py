"""One year after another, in time: failures come at random, storms bring many, crews repair them in turn."""

from __future__ import annotations

from copy import copy
from dataclasses import dataclass
from math import gamma, isfinite
from typing import Any

import numpy as np
from numba import njit

from ...electrical.arrays import Bools, Floats, Ints
from ...network.elements._failing import Failing
from ...network.elements.profile import Profile
from ...network.elements.reliability import COST_H
from ...network.hours import hourly_means
from ..failures.events import Event, Group, Ready, meshed, of_common, of_group, of_pair
from ..failures.play import Story
from ..failures.weather import HOURS, Weather
from ._options import SimulationOptions

H = int(HOURS)
_SPREADS = {"exponential": 0, "fixed": 1, "lognormal": 2, "weibull": 3}


@dataclass
class Stages:
    """Sections of a story that come back together. By story its first and the one behind its last: ``start``, (n_story + 1,);
    ``hours``: NaN until the repair; ``customers``; ``mw``: by class, (n_stage, n_class)."""

    start: Ints
    hours: Floats
    customers: Floats
    mw: Floats


@dataclass
class Causes:
    """What may happen, each with a story of its own: ``rate`` per year, ``story``, ``repair_h``; ``spread``, ``shape`` of
    the repair;
    ``crew``: whether one is needed; ``exposed``: to storms; ``group``: among those that may overlap, -1: none; ``planned``;
    all (n_cause,). ``pair``: story of two groups at once, -1: nobody more, (n_group, n_group)."""

    rate: Floats
    story: Ints
    repair_h: Floats
    spread: Ints
    shape: Floats
    crew: Bools
    exposed: Bools
    group: Ints
    planned: Bools
    pair: Ints
    stages: Stages
    cost: Floats
    growth: Floats


def causes_of(ready: Ready, options: SimulationOptions) -> Causes:
    """Everything that happens by itself, and what two at once do."""
    # Which repairs begin in a storm is seen when their time comes.
    weather = Weather(options.model_copy(update={"storm_repairs": 1.0}))
    ready = copy(ready)
    ready.weather = weather
    play, network = ready.play(), ready.network
    stories: list[Story] = []
    at: dict[int, int] = {}

    def number(story: Story) -> int:
        if id(story) not in at:
            at[id(story)] = len(stories)
            stories.append(story)
        return at[id(story)]

    found: list[Event] = [e for g in ready.groups for e in of_group(ready, play, g)]
    found += [e for c in ready.common for e in of_common(ready, play, c)]
    rows: list[tuple[float, int, float, int, float, bool, bool, int, bool]] = []
    groups: list[Group] = meshed(ready)
    of = {i: k for k, g in enumerate(groups) for i, _ in g.elements}
    for e in found:
        first = network.items.get(e.elements[0])
        spread, shape = 0, 0.0
        if isinstance(first, Failing) and e.kind != "common":
            spread = _SPREADS[first.repair_spread]
            shape = first.repair_shape or (0.6 if spread == 2 else 2.0)
        if e.kind == "planned":
            spread = 1
        rows.append((
            e.per_year, number(e.story), e.repair_h, spread, shape, e.repaired, weather.exposed(first, e.kind),
            of.get(e.elements[0], -1) if e.kind != "common" and isfinite(e.repair_h) else -1, e.kind == "planned",
        ))  # fmt: skip
    pair = np.full((len(groups), len(groups)), -1, np.int64)
    for i, a in enumerate(groups):
        for j in range(i + 1, len(groups)):
            both = next(iter(of_pair(ready, play, a, groups[j])), None)
            if both is not None:
                pair[i, j] = pair[j, i] = number(both.story)
    columns: list[list[Any]] = [list(c) for c in zip(*rows, strict=True)] or [[] for _ in range(9)]
    rate, story, repair, spreads, shapes, crew, exposed, group, planned = columns
    knots = np.array([[0.0, *row] for row in ready.people.costs]).reshape(-1, len(COST_H) + 1)
    return Causes(
        np.array(rate, float), np.array(story, np.int64), np.array(repair, float), np.array(spreads, np.int64),
        np.array(shapes, float), np.array(crew, np.bool_), np.array(exposed, np.bool_), np.array(group, np.int64),
        np.array(planned, np.bool_), pair, _stages(ready, stories, options.at), knots, _hourly(ready, options),
    )  # fmt: skip


def _stages(ready: Ready, stories: list[Story], at: str | None) -> Stages:
    people = ready.people
    n, mw = people.n, people.by_class
    if at is not None:
        chosen = np.array([i == at for i in people.loads])
        n = np.bincount(people.place[chosen], people.customers[chosen], len(n)).astype(float)
        mw = np.zeros_like(mw)
        np.add.at(mw, (people.place[chosen], people.group[chosen]), people.average[chosen])
    start, hours, customers, power = [0], [], [], []
    for s in stories:
        keys = np.where(np.isnan(s.hours), -1.0, s.hours)
        for h in np.unique(keys):
            rows = s.sections[keys == h]
            if n[rows].any() or mw[rows].any():
                hours.append(np.nan if h < 0 else float(h))
                customers.append(float(n[rows].sum()))
                power.append(mw[rows].sum(axis=0))
        start.append(len(hours))
    classes = mw.shape[1]
    return Stages(
        np.array(start), np.array(hours, float), np.array(customers, float), np.array(power).reshape(-1, classes)
    )


def _hourly(ready: Ready, options: SimulationOptions) -> Floats:
    """Running sum of demand over its mean by hour of the year and class, (n_class, 8761): what is missing
    between two moments is the difference."""
    people, n = ready.people, max(len(ready.people.classes), 1)
    found = np.ones((n, H))
    if options.by_profile:
        by = {(p.scales, p.key): p for p in ready.network.of(Profile) if p.packed and p.means == "factor"}
        for k, name in enumerate(people.classes):
            for key in (("class", name), ("demand", "")):
                if key in by:
                    found[k] *= np.resize(hourly_means(by[key]), H)
        found[found.mean(axis=1) <= 0] = 1.0
    found /= found.mean(axis=1, keepdims=True)
    return np.concatenate([np.zeros((n, 1)), np.cumsum(found, axis=1)], axis=1)


def simulate(causes: Causes, options: SimulationOptions, years: int, seed: tuple[int, int]) -> Floats:
    """Figures of every year: customers interrupted, customer hours, customers for a moment, MWh, cost, (years, 5)."""
    dice = np.random.default_rng(seed)
    hours = years * H
    weather = Weather(options)
    calm = causes.rate * np.where(causes.exposed, weather.calm(True), 1.0)
    stormy = np.zeros(hours, np.bool_)
    if options.storms:
        for t in dice.integers(0, hours, dice.poisson(options.storms * years)):
            stormy[t : t + int(options.storm_h)] = True
    cause, when = [], []
    for mask, rate in ((~stormy, calm), (stormy, calm * np.where(causes.exposed, options.storm_factor, 1.0))):
        places = np.flatnonzero(mask)
        total = float(rate.sum())
        if not len(places) or not total:
            continue
        count = dice.poisson(total * len(places) / HOURS)
        cause.append(dice.choice(len(rate), count, p=rate / total))
        when.append(places[dice.integers(0, len(places), count)] + dice.random(count))
    which = np.concatenate(cause) if cause else np.zeros(0, np.int64)
    moment = np.concatenate(when) if when else np.zeros(0)
    order = np.argsort(moment, kind="stable")
    which, moment = which[order], moment[order]
    repair = _repairs(causes, which, dice)
    if options.storm_repairs != 1:
        repair[stormy[moment.astype(np.int64)] & ~causes.planned[which]] *= options.storm_repairs
    s = causes.stages
    return np.asarray(_play(
        years, which, moment, repair, causes.story, causes.crew, causes.group, causes.planned, causes.pair, s.start, s.hours,
        s.customers, s.mw, causes.cost, np.array([0.0, *COST_H]), causes.growth, options.sustained_min / 60, options.crews,
    ))  # fmt: skip


def _repairs(causes: Causes, which: Ints, dice: np.random.Generator) -> Floats:
    """How long each repair takes, h: as its element says they spread about their mean."""
    mean, spread, shape = causes.repair_h[which], causes.spread[which], causes.shape[which]
    found = mean * dice.exponential(size=len(which))
    fixed, log, weibull = spread == 1, spread == 2, spread == 3
    found[fixed] = mean[fixed]
    if log.any():
        found[log] = mean[log] * np.exp(shape[log] * dice.standard_normal(int(log.sum())) - shape[log] ** 2 / 2)
    if weibull.any():
        scale = mean[weibull] / np.array([gamma(1 + 1 / k) for k in shape[weibull]])
        found[weibull] = scale * dice.weibull(shape[weibull])
    return found


@njit(cache=True)
def _cost(knots: Floats, costs: Floats, hours: float) -> float:
    last = len(knots) - 1
    if hours >= knots[last]:
        slope = (costs[last] - costs[last - 1]) / (knots[last] - knots[last - 1])
        return float(costs[last] + slope * (hours - knots[last]))
    k = 0
    while knots[k + 1] < hours:
        k += 1
    return float(costs[k] + (costs[k + 1] - costs[k]) * (hours - knots[k]) / (knots[k + 1] - knots[k]))


@njit(cache=True)
def _between(total: Floats, begin: float, hours: float) -> float:
    """Hours weighed by demand between two moments of years that are all alike."""
    n = len(total) - 1
    whole = total[n]

    def upto(t: float) -> float:
        years = int(t // n)
        rest = t - years * n
        k = int(rest)
        if k >= n:
            k = n - 1
        return float(years * whole + total[k] + (total[k + 1] - total[k]) * (rest - k))

    return float(upto(begin + hours) - upto(begin))


@njit(cache=True)
def _play(
    years: int, which: Ints, moment: Floats, repair: Floats, story: Ints, crew: Bools, group: Ints, planned: Bools, pair: Ints,
    start: Ints, stage_h: Floats, stage_n: Floats, stage_mw: Floats, cost: Floats, knots: Floats, growth: Floats,
    sustained_h: float, crews: int,
) -> Floats:  # fmt: skip
    found = np.zeros((years, 5))
    classes = stage_mw.shape[1]
    free = np.zeros(max(crews, 1))
    away_until = np.zeros(max(pair.shape[0], 1))
    for e in range(len(which)):
        c = which[e]
        t = moment[e]
        lasts = repair[e]
        g = group[c]
        if planned[c] and pair.shape[0]:
            # Nobody takes something out while something that it stands in for is away.
            busy = False
            for other in range(pair.shape[0]):
                if away_until[other] > t and (other == g or pair[g, other] >= 0):
                    busy = True
            if g >= 0 and busy:
                continue
        if crew[c] and crews > 0:
            k = 0
            for i in range(crews):
                if free[i] < free[k]:
                    k = i
            begin = max(free[k], t)
            free[k] = begin + lasts
            lasts += begin - t
        year = min(int(t // 8760), years - 1)
        _count(
            found[year],
            story[c],
            t,
            lasts,
            start,
            stage_h,
            stage_n,
            stage_mw,
            classes,
            cost,
            knots,
            growth,
            sustained_h,
        )
        if g >= 0:
            for other in range(pair.shape[0]):
                if other != g and away_until[other] > t and pair[g, other] >= 0:
                    both = min(lasts, away_until[other] - t)
                    _count(found[year], pair[g, other], t, both, start, stage_h, stage_n, stage_mw, classes, cost, knots, growth,
                           sustained_h)  # fmt: skip
            away_until[g] = max(away_until[g], t + lasts)
    return found


@njit(cache=True)
def _count(
    row: Floats,
    story: int,
    t: float,
    lasts: float,
    start: Ints,
    stage_h: Floats,
    stage_n: Floats,
    stage_mw: Floats,
    classes: int,
    cost: Floats,
    knots: Floats,
    growth: Floats,
    sustained_h: float,
) -> None:
    for k in range(start[story], start[story + 1]):
        h = lasts if np.isnan(stage_h[k]) else min(stage_h[k], lasts)
        if h <= 0:
            continue
        if h > sustained_h * (1 + 1e-9):
            row[0] += stage_n[k]
            row[1] += stage_n[k] * h
        else:
            row[2] += stage_n[k]
        for c in range(classes):
            mw = stage_mw[k, c]
            if mw > 0:
                row[3] += mw * _between(growth[c], t, h)
                row[4] += 1000 * mw * _cost(knots, cost[c], h)
