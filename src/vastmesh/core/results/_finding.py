from __future__ import annotations

from dataclasses import dataclass

from ..severity import Severity


@dataclass(frozen=True)
class Finding:
    """Something outside a limit: what, where, how far, which limit.

    ``excess`` orders findings of different kinds: the distance past the limit as a share of what is
    allowed (5 % below the lowest voltage weighs like 5 % overload).
    """

    element: str
    kind: str
    quantity: str
    value: float | None
    unit: str | None
    limit: float | None
    limit_name: str
    severity: Severity
    direction: str
    excess: float
    text: str
