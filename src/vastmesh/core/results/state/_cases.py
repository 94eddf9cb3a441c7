"""Two combinations of schemes and conditions, side by side: what differs in data, results, findings and cost."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field

from ...errors import FieldProblem, InvalidFields
from ...network import Condition, Layered, Network, Scheme, layered, specs
from .. import Column, Finding, Result, Table
from .._comparison import compare_tables
from ._as_set import live_for
from ._quantities import STATE_TOTALS
from ._result import LoadFlowResult


class Case(BaseModel):
    """One side: the schemes that are on, the condition, and which load flow; as the network stands where blank."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    schemes: Annotated[list[str], Field(max_length=1000, description="Schemes laid on the present network")] = []
    condition: Annotated[str | None, Field(description="Condition; the one in use when blank")] = None


@dataclass(frozen=True)
class SolvedCase:
    """A case with its network and result."""

    case: Case
    title: str
    layers: Layered
    condition: Condition
    result: Result
    cost_k: float | None
    years: list[int] = field(default_factory=list)

    @property
    def network(self) -> Network:
        return self.layers.network.under(self.condition)


def lay_case(base: Network, case: Case) -> tuple[Layered, Condition]:
    """The schemes of a case on the present network, and its condition. Raises :class:`InvalidFields` for a name that is not
    there."""
    chosen = base.items.get(case.condition) if case.condition is not None else base.condition
    if not isinstance(chosen, Condition):
        raise InvalidFields(
            [FieldProblem("comparison", "condition", case.condition, "name a condition of this network")]
        )
    return layered(base, case.schemes), chosen


def solve_case(base: Network, case: Case) -> LoadFlowResult:
    """Lay the schemes on the present network and solve it by the load flow that the settings name."""
    layers, chosen = lay_case(base, case)
    return live_for(layers.network).solve(chosen)


def solved_case(base: Network, case: Case, result: Result | None = None) -> SolvedCase:
    """A case with what goes along with its result, which is found here where it is not given."""
    layers, chosen = lay_case(base, case)
    schemes = [s for s in base.of(Scheme) if s.id in case.schemes]
    title = " + ".join(s.name for s in schemes) or "Present network"
    costs = [s.cost_k for s in schemes if s.cost_k is not None]
    found = result if result is not None else live_for(layers.network).solve(chosen)
    return SolvedCase(case, f"{title}, {chosen.name}", layers, chosen, found, sum(costs) if costs else None,
                      sorted({s.year for s in schemes if s.year is not None}))  # fmt: skip


@dataclass(frozen=True)
class CaseComparison:
    """``data``: fields that differ; ``summary``: totals of both sides; findings gained and lost from before to after."""

    before: SolvedCase
    after: SolvedCase
    data: Table
    summary: Table
    results: dict[str, Table]
    gained: list[Finding]
    lost: list[Finding]


def compare_cases(
    base: Network, before: Case, after: Case, solved: tuple[Result, Result] | None = None
) -> CaseComparison:  # fmt: skip
    """Lay both beside each other; ``solved``: their results, found here where they are not given. Raises :class:`InvalidFields`
    for a name that is not there."""
    a, b = (solved_case(base, c, solved[n] if solved else None) for n, c in enumerate((before, after)))
    had, has = ({(f.element, f.quantity, f.severity, f.direction): f for f in s.result.findings} for s in (a, b))
    known = {(q.table, q.name) for q in a.result.quantities}
    both = [q for q in b.result.quantities if q.along and (q.table, q.name) in known]
    results = {
        f"{q.table}:{q.name}": replace(
            compare_tables(a.result.tables[q.table], b.result.tables[q.table], q.name).table, label=q.label
        )
        for q in both
    }
    return CaseComparison(
        a, b, changed_data(a.network, b.network), _summary(a, b), results,
        [f for k, f in has.items() if k not in had], [f for k, f in had.items() if k not in has],
    )  # fmt: skip


def changed_data(before: Network, after: Network) -> Table:
    """Fields that differ between two networks, in words; added and removed elements as a whole."""
    rows: list[tuple[str, str, str, str, str]] = []
    for ident in dict.fromkeys([*before.items, *after.items]):
        old, new = before.items.get(ident), after.items.get(ident)
        if old is new or isinstance(old or new, Scheme):
            continue
        if old is None or new is None:
            item = new or old
            assert item is not None
            rows.append((ident, item.name, "—", "—" if old is None else "there", "added" if old is None else "removed"))
            continue
        known = specs(type(new))
        for name in known:
            x, y = getattr(old, name), getattr(new, name, None)
            if x != y and known[name].group != "place":
                unit = known[name].unit
                rows.append((ident, new.name, known[name].label, _text(x, unit), _text(y, unit)))
    columns = [list(c) for c in zip(*rows, strict=True)] if rows else [[], [], [], [], []]
    labels = (("id", "Id"), ("name", "Name"), ("field", "Field"), ("before", "Before"), ("after", "After"))
    return Table("data", "Changed data", [Column(n, w, v) for (n, w), v in zip(labels, columns, strict=True)])


def _text(value: Any, unit: str | None) -> str:
    if value is None:
        return "blank"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float | int):
        return f"{value:.6g}{'' if unit in (None, '1') else f' {unit}'}"
    return str(value)


def totals(case: SolvedCase) -> dict[str, float | None]:
    """What is laid side by side: totals, extremes, counts of findings, cost."""
    found = dict(case.result.summary)
    branches = case.result.tables.get("branches")
    for column, name in (("loading_pct", "worst_loading_pct"), ("neutral_loading_pct", "worst_neutral_pct")):
        if branches is not None and any(c.name == column for c in branches.columns):
            found[name] = max((v for v in branches[column].tolist() if v == v), default=None)
    limits = [f for f in case.result.findings if f.limit_name != "Model"]
    over = {
        f.element for f in limits if f.severity == "breach" and f.unit == "%" and f.quantity.endswith("loading_pct")
    }
    found["overloaded"] = float(len(over))
    found["breaches"] = float(sum(f.severity == "breach" for f in limits))
    found["watches"] = float(sum(f.severity == "watch" for f in limits))
    found["cost_k"] = case.cost_k
    return found


def _summary(a: SolvedCase, b: SolvedCase) -> Table:
    x, y = totals(a), totals(b)
    shown = [t for t in STATE_TOTALS if x.get(t.name) is not None or y.get(t.name) is not None]
    before, after = [x.get(t.name) for t in shown], [y.get(t.name) for t in shown]
    change = [q - p if p is not None and q is not None else None for p, q in zip(before, after, strict=True)]
    return Table("summary", "Totals", [
        Column("id", "Id", [t.name for t in shown]), Column("label", "Quantity", [t.label for t in shown]),
        Column("short", "In short", [t.short for t in shown]), Column("unit", "Unit", [t.unit or "" for t in shown]),
        Column("digits", "Digits", [t.digits for t in shown]),
        Column("before", a.title, before), Column("after", b.title, after), Column("change", "Change", change),
    ])  # fmt: skip
