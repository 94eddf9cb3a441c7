"""A condition at a moment: what the profiles of a network make of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any

import numpy as np

from ..errors import FieldProblem, InvalidFields
from .elements.generator import Generator
from .elements.inverter import Inverter
from .elements.load import Load
from .elements.profile import Profile, unpack
from .elements.rules import Condition
from .items import Element
from .network import Network


@lru_cache(maxsize=256)
def _figures(packed: tuple[str, ...]) -> np.ndarray:
    return np.array(unpack(packed), np.float64)


@dataclass(frozen=True)
class Clock:
    """Equal steps of time."""

    start: datetime
    step_min: int
    count: int

    def at(self, n: int) -> datetime:
        return self.start + timedelta(minutes=self.step_min * n)


def clock_of(profiles: Sequence[Profile], begins: str | None, days: float | None, step_min: int | None) -> Clock:
    """The steps that all profiles cover, from a moment on if one is named. Raises :class:`InvalidFields` where profiles do not
    fit together, or do not reach so far."""
    filled = [p for p in profiles if p.packed]
    if not filled:
        text = "there is no profile with figures yet; import some, or fetch them from a metering service"
        raise InvalidFields([FieldProblem("options", "begins", begins, text)])
    zones = {p.zone for p in filled}
    if len(zones) > 1:
        odd = next(p for p in filled if p.zone != filled[0].zone)
        text = f"{filled[0].name} is in {filled[0].zone}: all profiles used together need the same time zone"
        raise InvalidFields([FieldProblem(odd.id, "zone", odd.zone, text)])
    ends = [p.end(len(_figures(p.packed))) for p in filled]
    start, end = max(p.start for p in filled), min(ends)
    first = datetime.fromisoformat(begins) if begins else start
    step = step_min or min(p.step_min for p in filled)
    if first < start or first >= end:
        text = f"profiles have figures from {start:%Y-%m-%d %H:%M} to {end:%Y-%m-%d %H:%M}"
        raise InvalidFields([FieldProblem("options", "begins", begins, text)])
    most = int((end - first).total_seconds() // (60 * step))
    wanted = most if days is None else round(days * 1440 / step)
    if wanted > most:
        late = min(zip(ends, filled, strict=True), key=lambda x: x[0])[1]
        text = f"{late.name} ends at {late.end(len(_figures(late.packed))):%Y-%m-%d %H:%M}; take fewer days or an earlier start"
        raise InvalidFields([FieldProblem("options", "days", days, text)])
    if wanted < 1:
        raise InvalidFields([FieldProblem("options", "days", days, "take at least one step")])
    return Clock(first, step, wanted)


def at_moment(network: Network, condition: Condition, moment: datetime) -> Condition:
    """The condition with every profile as it is at a moment."""
    return under_figures(
        network, condition, {p.id: f for p in network.of(Profile) if (f := figure_at(p, moment)) is not None}
    )


def under_figures(network: Network, condition: Condition, figures: Mapping[str, float]) -> Condition:
    """The condition under figures of profiles, by id: what has a profile follows it in place of the condition's own factors.

    A profile of all demand multiplies those of classes and areas; that of an element stands for it alone.
    """
    known = [(p, figures[p.id]) for p in network.of(Profile) if p.id in figures]
    whole = [f for p, f in known if p.scales == "demand"]
    demand = float(np.prod(whole)) if whole else condition.demand_factor
    classes, areas = dict(condition.class_factors), dict(condition.area_factors)
    energies, values = dict(condition.energy_factors), {k: dict(v) for k, v in condition.values.items()}
    of_class = _products(known, "class")
    if of_class and not whole and demand <= 0:
        # Nothing is drawn but by what has a profile.
        every = sorted({e.demand_class for e in network.elements() if isinstance(e, Load)})
        demand, classes = 1.0, dict.fromkeys(every, 0.0)
    for name, figure in of_class.items():
        classes[name] = figure if whole else figure / demand
    for name, figure in _products(known, "area").items():
        areas[name] = figure
    overall = condition.generation_factor
    for name, figure in _products(known, "energy").items():
        if overall <= 0:
            continue
        energies[name] = figure / overall
    found = condition.model_copy(
        update={"demand_factor": demand, "class_factors": classes, "area_factors": areas, "energy_factors": energies}
    )
    for p, figure in known:
        item = network.items.get(p.key) if p.scales == "element" else None
        if isinstance(item, Load | Generator | Inverter) and (fields := of_element(network, found, item, p, figure)):
            values[p.key] = {**values.get(p.key, {}), **fields}
    return found.model_copy(update={"values": values})


def _products(known: Sequence[tuple[Profile, float]], scales: str) -> dict[str, float]:
    found: dict[str, float] = {}
    for p, figure in known:
        if p.scales == scales:
            found[p.key] = found.get(p.key, 1.0) * figure
    return found


def of_element(network: Network, condition: Condition, item: Element, p: Profile, figure: float) -> dict[str, Any]:
    """What is to be entered of an element so that under a condition it has what its profile says; nothing where that can't be."""
    power = getattr(item, "active_power_mw", None)
    if power is None or (power == 0 and p.means == "factor"):
        return {}
    factor = _factor(network, condition, item)
    if factor <= 0:
        return {}
    wanted = power * figure if p.means == "factor" else figure
    found: dict[str, Any] = {"active_power_mw": wanted / factor}
    reactive = getattr(item, "reactive_power_mvar", None)
    if reactive is not None and isinstance(item, Load) and power:
        found["reactive_power_mvar"] = reactive * wanted / power / factor
    return found


def _factor(network: Network, condition: Condition, item: Element) -> float:
    if isinstance(item, Load):
        bus = network.items.get(item.bus)
        area = getattr(bus, "area", None)
        by_area = condition.area_factors.get(area, 1.0) if area else 1.0
        return condition.demand_factor * condition.class_factors.get(item.demand_class, 1.0) * by_area
    return condition.generation_factor * condition.energy_factors.get(getattr(item, "energy", ""), 1.0)


def figure_at(p: Profile, moment: datetime) -> float | None:
    """The figure of the step in which a moment lies; None before and after all of them."""
    figures = _figures(p.packed)
    n = int((moment - p.start).total_seconds() // (60 * p.step_min))
    return float(figures[n]) if 0 <= n < len(figures) else None


def hourly_means(p: Profile) -> np.ndarray:
    """A profile hour by hour: the mean of shorter steps, longer ones as often as they are long, (hours,)."""
    figures = _figures(p.packed)
    per = 60 // p.step_min
    if per < 1:
        return np.repeat(figures, p.step_min // 60)
    whole = len(figures) // per * per
    return np.asarray(figures[:whole].reshape(-1, per).mean(axis=1)) if whole else figures[:1]


def figures_over(p: Profile, clock: Clock) -> np.ndarray:
    """Figures of a profile at the begin of every step, (count,)."""
    figures = _figures(p.packed)
    offset = (clock.start - p.start).total_seconds() / 60
    at = ((offset + clock.step_min * np.arange(clock.count)) // p.step_min).astype(np.int64)
    return np.asarray(figures[at])
