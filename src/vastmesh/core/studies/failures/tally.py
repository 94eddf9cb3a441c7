"""What events come to: for every section, every element and every kind of failure."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from ...electrical.arrays import Bools, Floats
from .demand import Supplied
from .events import KINDS, Event
from .play import Story

# Of an element or a kind, per year: customers interrupted, customer hours, customers interrupted for a moment, MWh, cost.
MEASURES = ("interruptions", "hours", "brief", "energy", "cost")


class Tally:
    """Per year of every section: ``rate``, ``away``, ``brief``: sustained interruptions, hours in these, momentary ones;
    ``energy_h``: hours without supply of both, (n_section,); ``cost``: by class and MW, (n_section, n_class). ``kinds``:
    (n_kind, 5);
    ``elements``: five figures by kind, for each element."""

    def __init__(self, people: Supplied, sustained_min: float) -> None:
        self.people, self.sustained_h = people, sustained_min / 60
        n = len(people.n)
        self.rate, self.away, self.brief, self.energy_h = (np.zeros(n) for _ in range(4))
        self.cost = np.zeros((n, max(len(people.classes), 1)))
        self.kinds = np.zeros((len(KINDS), len(MEASURES)))
        self.elements: dict[str, Floats] = {}
        self._last: tuple[Story, float, tuple[Floats, Floats, Floats, Floats, Floats]] | None = None

    def of(self, event: Event) -> tuple[Floats, Floats, Floats, Floats, Floats]:
        """Of one occurrence, at every section of its story: sustained (0 or 1), hours in it, momentary, all hours, and cost by
        class and MW, (n, n_class)."""
        last = self._last
        if last is not None and last[0] is event.story and last[1] == event.repair_h:
            return last[2]
        people = self.people
        hours = event.story.lasting(event.repair_h)
        lasts = hours > self.sustained_h * (1 + 1e-9)
        brief = (hours > 0) & ~lasts
        found = (
            lasts.astype(float),
            np.where(lasts, hours, 0.0),
            brief.astype(float),
            hours,
            people.cost(hours),
        )
        self._last = event.story, event.repair_h, found
        return found

    def add(self, event: Event) -> None:
        if not len(event.story.sections) or not event.per_year:
            return
        s, rate = event.story.sections, event.per_year
        lasts, hours, brief, every, cost = self.of(event)
        self.rate[s] += rate * lasts
        self.away[s] += rate * hours
        self.brief[s] += rate * brief
        self.energy_h[s] += rate * every
        self.cost[s] += rate * cost
        n, mw = self.people.n[s], self.people.by_class[s]
        total = rate * np.array([n @ lasts, n @ hours, n @ brief, mw.sum(axis=1) @ every, float((mw * cost).sum())])
        self.kinds[KINDS.index(event.kind)] += total
        for ident in event.elements:
            own = self.elements.setdefault(ident, np.zeros((len(KINDS), len(MEASURES))))
            own[KINDS.index(event.kind)] += total / len(event.elements)

    def take(self, events: Iterable[Event]) -> Tally:
        for e in events:
            self.add(e)
        return self

    def cost_of(self, chosen: Bools) -> float:
        """Of interruptions of the loads chosen, (n_load,), per year."""
        p = self.people
        if not len(p.classes):
            return 0.0
        return float(p.average[chosen] @ self.cost[p.place[chosen], p.group[chosen]])

    def merge(self, other: Tally) -> None:
        """The same of further events."""
        for name in ("rate", "away", "brief", "energy_h", "cost", "kinds"):
            getattr(self, name).__iadd__(getattr(other, name))
        for ident, values in other.elements.items():
            own = self.elements.setdefault(ident, np.zeros_like(values))
            own += values
