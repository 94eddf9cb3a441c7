"""What events come to: for every section, every element and every kind of failure."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from ...electrical.arrays import Bools, Floats
from .demand import Supplied
from .events import KINDS, Event
from .play import Story

# Of an element or a kind, per year: customers interrupted, customer hours, customers interrupted for a moment, MWh, cost.
MEASURES = ("interruptions", "hours", "brief", "energy", "cost")


@dataclass
class _Open:
    """A story with a repair, by section: sustained (0 or 1), hours in it, momentary, all hours, cost by class and MW;
    ``total``: the
    five measures; ``per_year``: how often it has been added."""

    story: Story
    repair_h: float
    lasts: Floats
    hours: Floats
    brief: Floats
    every: Floats
    cost: Floats
    total: Floats
    per_year: float = 0.0


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
        self._open: _Open | None = None

    def _of(self, story: Story, repair_h: float) -> _Open:
        """What one occurrence comes to at every section of a story, and altogether."""
        people, at = self.people, story.sections
        hours = story.lasting(repair_h)
        lasts = hours > self.sustained_h * (1 + 1e-9)
        brief = (hours > 0) & ~lasts
        cost = people.cost(hours)
        n, mw = people.n[at], people.by_class[at]
        total = np.array([
            n @ lasts, n @ np.where(lasts, hours, 0.0), n @ brief, mw.sum(axis=1) @ hours, float((mw * cost).sum()),
        ])  # fmt: skip
        return _Open(
            story, repair_h, lasts.astype(float), np.where(lasts, hours, 0.0), brief.astype(float), hours, cost, total
        )

    def add(self, event: Event) -> None:
        """Take an event in; what events with one story in a row do to sections is put there at once, by :meth:`close`."""
        if not len(event.story.sections) or not event.per_year:
            return
        now = self._open
        if now is None or now.story is not event.story or now.repair_h != event.repair_h:
            self.close()
            now = self._open = self._of(event.story, event.repair_h)
        now.per_year += event.per_year
        kind = KINDS.index(event.kind)
        total = event.per_year * now.total
        self.kinds[kind] += total
        for ident in event.elements:
            own = self.elements.get(ident)
            if own is None:
                own = self.elements[ident] = np.zeros((len(KINDS), len(MEASURES)))
            own[kind] += total / len(event.elements)

    def close(self) -> Tally:
        """Put what is still open to the sections; to be called after the last event."""
        now, self._open = self._open, None
        if now is not None:
            s, rate = now.story.sections, now.per_year
            self.rate[s] += rate * now.lasts
            self.away[s] += rate * now.hours
            self.brief[s] += rate * now.brief
            self.energy_h[s] += rate * now.every
            self.cost[s] += rate * now.cost
        return self

    def take(self, events: Iterable[Event]) -> Tally:
        for e in events:
            self.add(e)
        return self.close()

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
