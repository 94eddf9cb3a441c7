"""The capacity-outage table of independent units, with how often each state is entered."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ...electrical.arrays import Floats

HOURS = 8760.0


@dataclass(frozen=True)
class Unit:
    """A machine with one or two states below all it can give. ``outages``: MW missing, failures per year and mean hours of
    each."""

    ident: str
    name: str
    capacity: float
    outages: tuple[tuple[float, float, float], ...]

    def states(self) -> list[tuple[float, float, float]]:
        """MW missing, probability, and entries per hour from the whole state, the whole one first.

        Each outage is left for the whole state only: probabilities stand to that of the whole as failures times repair to
        the year.
        """
        weights = [rate * hours / HOURS for _, rate, hours in self.outages]
        whole = 1 / (1 + sum(weights))
        return [(0.0, whole, 0.0)] + [
            (mw, w * whole, whole * rate / HOURS) for (mw, rate, _), w in zip(self.outages, weights, strict=True)
        ]

    @property
    def forced(self) -> float:
        """Share of its capacity that is missing on average."""
        return sum(mw * p for mw, p, _ in self.states()) / self.capacity if self.capacity else 0.0


@dataclass(frozen=True)
class OutageTable:
    """``beyond``: probability that at least k steps are missing; ``entered``: how often a year that state is entered, per year,
    (n_step + 1,). ``step``: MW."""

    step: float
    beyond: Floats
    entered: Floats

    def at_least(self, mw: Floats) -> tuple[Floats, Floats]:
        """Probability and entries per year of an outage of at least so much, to the next step up; nothing missing is certain."""
        k = np.ceil(np.asarray(mw) / self.step - 1e-9).astype(np.int64)
        inside = np.clip(k, 0, len(self.beyond) - 1)
        none, all_ = k <= 0, k >= len(self.beyond)
        p = np.where(none, 1.0, np.where(all_, 0.0, self.beyond[inside]))
        f = np.where(none | all_, 0.0, self.entered[inside])
        return p, f

    def expected_beyond(self, mw: Floats) -> Floats:
        """Mean of what is missing beyond so much, MW."""
        exact = np.append(self.beyond, 0.0)
        exact = exact[:-1] - exact[1:]
        missing = self.step * np.arange(len(exact))
        first, power = np.cumsum(exact[::-1])[::-1], np.cumsum((exact * missing)[::-1])[::-1]
        first, power = np.append(first, 0.0), np.append(power, 0.0)
        k = np.clip(np.floor(np.asarray(mw) / self.step + 1e-9).astype(np.int64) + 1, 0, len(exact))
        return np.asarray(power[k] - np.asarray(mw) * first[k])


def table_of(units: Sequence[Unit], step: float) -> OutageTable:
    """Units one after another. A step between two multiples is shared between both so that its mean stays.

    With P(x) the probability that at least x is missing and F(x) how often that is entered, adding a unit with states s:
    F'(x) = sum p_s F(x - c_s) + sum f_s (P(x - c_s) - P(x)), as the unit takes the rest over the edge when it enters s.
    (R. Billinton, R. N. Allan, chapter 2 and 3, in cumulative form.)
    """
    most = sum(max((mw for mw, _, _ in u.outages), default=0.0) for u in units)
    n = int(np.ceil(most / step - 1e-9)) + len(units) + 2
    exact = np.zeros(n)
    exact[0] = 1.0
    entered = np.zeros(n)
    for unit in units:
        beyond = np.cumsum(exact[::-1])[::-1]
        p_new, f_new = np.zeros(n), np.zeros(n)
        for mw, p, f in unit.states():
            for shift, share in _shared(mw / step):
                p_new += share * p * _shifted(exact, shift, 0.0)
                f_new += share * p * _shifted(entered, shift, 0.0)
                if f:
                    f_new += share * f * (_shifted(beyond, shift, 1.0) - beyond)
        exact, entered = p_new, f_new
    beyond = np.cumsum(exact[::-1])[::-1]
    return OutageTable(step, np.minimum(beyond, 1.0), entered * HOURS)


def _shared(steps: float) -> list[tuple[int, float]]:
    low = int(np.floor(steps + 1e-9))
    rest = steps - low
    return [(low, 1.0)] if rest < 1e-9 else [(low, 1 - rest), (low + 1, rest)]


def _shifted(x: Floats, by: int, before: float) -> Floats:
    if by == 0:
        return x
    return np.concatenate([np.full(by, before), x[:-by]]) if by < len(x) else np.full(len(x), before)
