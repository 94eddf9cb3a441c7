"""Element data as a table like any other: for the sift line and for export."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from ..core.errors import FieldProblem, InvalidFields
from ..core.network import REGISTRY, FieldSpec, FieldType, Network, specs
from ..core.results import Column, Table
from ._tabular import shown_fields


def element_table(network: Network, kind: str) -> Table:
    """All items of a kind with their fields in shown units. Raises :class:`InvalidFields` for an unknown kind."""
    if kind not in REGISTRY:
        raise InvalidFields([FieldProblem("table", "kind", kind, "choose one of " + ", ".join(sorted(REGISTRY)))])
    known = specs(REGISTRY[kind])
    items = [i for i in network.items.values() if i.kind == kind]
    columns = [Column("id", "Id", [i.id for i in items])]
    for name in shown_fields(kind):
        spec = known[name]
        unit = spec.shown_unit if spec.shown_unit not in (None, "1", "sheet units") else None
        columns.append(
            Column(name, spec.label, _values(spec, [getattr(i, name) for i in items]), unit, None, spec.meaning)
        )
    return Table(kind, REGISTRY[kind].plural, columns)


def _values(spec: FieldSpec, values: Sequence[Any]) -> Any:
    if spec.type is FieldType.NUMBER:
        return np.array([np.nan if v is None else v * spec.shown_factor for v in values], np.float64)
    if spec.type is FieldType.TEXTS:
        return ["" if v is None else ", ".join(v) for v in values]
    return [v.isoformat() if hasattr(v, "isoformat") else v for v in values]
