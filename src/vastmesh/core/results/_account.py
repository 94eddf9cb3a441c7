from __future__ import annotations

from dataclasses import dataclass, field

from ..flow import Ending


@dataclass(frozen=True)
class MismatchAt:
    """A bus where the equations are not met, and by how much."""

    bus: str
    active_mw: float
    reactive_mvar: float


@dataclass(frozen=True)
class Account:
    """How a calculation went, in the same form whatever the study; ``assumed``: what it took for granted here.

    ``share_pct``, ``breaks_at``: where there is no solution, the share of demand and generation up to which there is one,
    and the bus at which it breaks.
    """

    ending: Ending
    method: str
    iterations: int
    history: list[float] = field(default_factory=list)
    worst: list[MismatchAt] = field(default_factory=list)
    largest_mismatch_mva: float = 0.0
    tolerance_mva: float = 0.0
    explanation: str = ""
    notes: list[str] = field(default_factory=list)
    assumed: list[str] = field(default_factory=list)
    share_pct: float | None = None
    breaks_at: str | None = None

    @property
    def converged(self) -> bool:
        return self.ending is Ending.CONVERGED
