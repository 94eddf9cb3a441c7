from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from ._account import Account
from ._finding import Finding
from ._table import Table


@dataclass
class Result:
    """What a study publishes, whatever it is: how it went, tables, totals, findings, and what it has to offer.

    ``statement``: the answer in a sentence. ``scheme``: changes offered, as entries of a scheme.
    """

    account: Account
    tables: dict[str, Table]
    summary: dict[str, float | None]
    findings: list[Finding] = field(default_factory=list)
    statement: str = ""
    scheme: list[dict[str, Any]] = field(default_factory=list)
