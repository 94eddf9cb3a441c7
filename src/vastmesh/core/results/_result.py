from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from ._account import Account
from ._figure import Figure
from ._finding import Finding
from ._quantity import Quantity, Total
from ._table import Table


@dataclass
class Result:
    """What a study publishes, whatever it is: how it went, tables, totals, findings, and what it has to offer.

    ``statement``: the answer in a sentence. ``scheme``: changes offered, as entries of a scheme. ``figures``: plots.
    ``quantities``: what can be shown on the sheet and how; columns of figures that are not named are shown all the same.
    ``totals``: what the figures of the summary are called.
    """

    account: Account
    tables: dict[str, Table]
    summary: dict[str, float | None]
    findings: list[Finding] = field(default_factory=list)
    statement: str = ""
    scheme: list[dict[str, Any]] = field(default_factory=list)
    figures: list[Figure] = field(default_factory=list)
    quantities: list[Quantity] = field(default_factory=list)
    totals: list[Total] = field(default_factory=list)
