"""Storms: when more fails, takes longer to repair, and two failures come together more often than by chance."""

from __future__ import annotations

from math import exp, expm1

from ...network import Line
from ...network.elements._failing import Failing
from .course import Course

HOURS = 8760.0
_IN_THE_WEATHER = ("failure", "stuck", "temporary")


class Weather:
    """Storms come at random, all equally long, and may run into each other. Over the year an element fails as often as its data
    say; what is out in the weather does so more in storms and less outside."""

    def __init__(self, course: Course) -> None:
        self.per_h, self.lasts = course.storms / HOURS, float(int(course.storm_h))
        self.factor, self.repairs = course.storm_factor, course.storm_repairs
        # Share of all hours: none of the storms that would reach into an hour has begun (Poisson).
        self.share = -expm1(-self.per_h * self.lasts)

    @staticmethod
    def exposed(item: object, kind: str) -> bool:
        """Whether something is out in the weather."""
        return isinstance(item, Line) and item.construction == "overhead" and kind in _IN_THE_WEATHER

    def times(self, exposed: bool) -> float:
        """How many times as much something fails in storms."""
        return self.factor if exposed else 1.0

    def calm(self, exposed: bool) -> float:
        """Failures outside storms over those of the year."""
        return 1 / (1 + (self.times(exposed) - 1) * self.share)

    def within(self, exposed: bool) -> float:
        """Share of failures that come in storms."""
        return self.share * self.times(exposed) * self.calm(exposed)

    def parts(self, exposed: bool, per_year: float, hours: float) -> list[tuple[float, float]]:
        """Failures per year with hours of repair: those outside storms, and those in them where that makes a difference."""
        within = self.within(exposed)
        if self.repairs == 1 or not within:
            return [(per_year, hours)]
        return [(per_year * (1 - within), hours), (per_year * within, hours * self.repairs)]

    def mean(self, exposed: bool, hours: float) -> float:
        """Mean hours of repair."""
        return hours * (1 + (self.repairs - 1) * self.within(exposed))

    def together(
        self, first: tuple[float, float, bool], second: tuple[float, float, bool]
    ) -> list[tuple[float, float]]:
        """How often per year one of two is away when the other fails, and how long both are: by chance, and beyond that as storms
        bring both.

        Each of them: failures per year, hours of repair, exposed. With W(t) whether there is a storm and S the chance that the
        first is still away, ∫ E[λ₁(t) λ₂(t+u)] S₁(u) du for both orders; storms of one length d that come at rate ν have
        P(W(t), W(t+u)) - P(W)² = exp(-2νd) (exp(ν(d-u)) - 1) up to u = d, and none beyond. Repairs are exponential.
        """
        (rate_1, hours_1, out_1), (rate_2, hours_2, out_2) = first, second
        r1, r2 = self.mean(out_1, hours_1), self.mean(out_2, hours_2)
        found = [(rate_1 * rate_2 * (r1 + r2) / HOURS, r1 * r2 / (r1 + r2))]
        if out_1 and out_2 and self.per_h and self.factor > 1:
            s1, s2 = hours_1 * self.repairs, hours_2 * self.repairs
            more = rate_1 * self.calm(True) * rate_2 * self.calm(True) * (self.factor - 1) ** 2
            found.append((more * (self._surplus(s1) + self._surplus(s2)) / HOURS, s1 * s2 / (s1 + s2)))
        return found

    def _surplus(self, hours: float) -> float:
        """∫ (P(W(t), W(t+u)) - P(W)²) exp(-u / hours) du from 0 to the length of a storm, h."""
        v, d, m = self.per_h, self.lasts, 1 / hours
        both = (exp(v * d) - exp(-m * d)) / (v + m)
        return exp(-2 * v * d) * (both + expm1(-m * d) / m)


def older(course: Course, item: object) -> float:
    """How much more often something fails at its age."""
    if course.year is None or not isinstance(item, Failing) or item.commissioned is None:
        return 1.0
    return 1 + course.ageing_pct / 100 * max(0.0, course.year - item.commissioned.year - course.ageing_from)
