"""A result as plain data and back: what is kept of a run, and what leaves the service, is all of it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import asdict, fields
from math import isfinite
from typing import Any

import numpy as np

from ..core.flow import Ending
from ..core.results import Account, Axis, Bound, Figure, Finding, MismatchAt, Quantity, Result, Series, Table, Total
from ..core.severity import Severity


def plain_figure(figure: Figure) -> dict[str, Any]:
    """A plot as plain data; what is no number becomes None."""
    plain = asdict(figure)
    for series, source in zip(plain["series"], figure.series, strict=True):
        series["x"], series["y"] = _list(source.x), _list(source.y)
        series["elements"], series["labels"], series["z"] = list(source.elements), list(source.labels), _list(source.z)
    return plain


def _list(values: Iterable[Any]) -> list[Any]:
    found = values.tolist() if isinstance(values, np.ndarray) else list(values)
    return [None if isinstance(v, float) and not isfinite(v) else v for v in found]


def facts_of(result: Result) -> dict[str, Any]:
    """Everything of a result but its tables."""
    return {
        "account": asdict(result.account), "summary": result.summary, "findings": [asdict(f) for f in result.findings],
        "statement": result.statement, "scheme": result.scheme, "figures": [plain_figure(f) for f in result.figures],
        "quantities": [asdict(q) for q in result.quantities], "totals": [asdict(t) for t in result.totals],
    }  # fmt: skip


def result_from(facts: Mapping[str, Any], tables: dict[str, Table]) -> Result:
    """What :func:`facts_of` gave, with its tables; runs kept by earlier versions lack some of it."""
    account = _known(Account, facts["account"])
    account["ending"] = Ending(account["ending"])
    account["worst"] = [MismatchAt(**_known(MismatchAt, w)) for w in account.get("worst", [])]
    findings = [
        Finding(**{**_known(Finding, f), "severity": Severity(f["severity"])}) for f in facts.get("findings", [])
    ]
    return Result(
        Account(**account), tables, dict(facts.get("summary", {})), findings, facts.get("statement", ""),
        list(facts.get("scheme", [])), [_figure(f) for f in facts.get("figures", [])],
        [Quantity(**_known(Quantity, q)) for q in facts.get("quantities", [])],
        [Total(**_known(Total, t)) for t in facts.get("totals", [])],
    )  # fmt: skip


def _figure(plain: Mapping[str, Any]) -> Figure:
    return Figure(
        plain["name"], plain["label"], Axis(**_known(Axis, plain["x"])), Axis(**_known(Axis, plain["y"])),
        [Series(**_known(Series, s)) for s in plain["series"]], [Bound(**_known(Bound, b)) for b in plain["bounds"]],
        Axis(**_known(Axis, plain["z"])) if plain.get("z") else None,
    )  # fmt: skip


def _known(kind: type[Any], plain: Mapping[str, Any]) -> dict[str, Any]:
    """The fields of a kind: a newer or older version may have written others."""
    names = {f.name for f in fields(kind)}
    return {k: v for k, v in plain.items() if k in names}
