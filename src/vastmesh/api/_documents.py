"""Results as a document: each under its address, two held against each other, or two combinations of schemes and conditions."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

from fastapi import APIRouter, Request, Response
from starlette.concurrency import run_in_threadpool

from ..core.errors import FieldProblem, InvalidFields
from ..core.flow import Ending
from ..core.results import Account, Column, Finding, Result, Table, compare_tables
from ..core.results.state import CaseComparison
from ..core.studies import STUDIES
from ..errands import run_errand
from ..exchange import picked
from ..reports import Section, document_html, options_in_words
from . import _models as m
from ._jobs import Jobs
from ._results import Shown, at_address, in_both
from ._routes import All, One, _download
from ._schemes import solved_cases
from ._sessions import LiveSession

documents = APIRouter(prefix="/api", responses={s: {"model": m.Problem} for s in (404, 409, 410, 413, 422)})
_TYPES: dict[Literal["pdf", "html"], str] = {"pdf": "application/pdf", "html": "text/html; charset=utf-8"}
# Of two results, the figures held against each other where there are many in common.
_MOST_QUANTITIES = 8


@documents.post("/projects/{project_id}/document", summary="Results as one document, PDF or a page that stands by itself",
                response_class=Response)  # fmt: skip
async def document(request: Request, body: m.DocumentIn, one: One, all_: All, jobs: Jobs) -> Response:
    project = all_.store.project(one.project_id).name
    title = body.title or project

    sections = []
    for part in body.parts:
        if part.cases is not None:
            sections.append(_of_cases(await solved_cases(part.cases, one, jobs)))
        else:
            sections.append(await run_in_threadpool(_section, one, jobs, part, body.tab))
    with one.lock:
        facts = [("Network", project), ("Revision", str(one.revision))]
    html = (await run_in_threadpool(document_html, title, facts, sections, rows=body.rows)).encode()
    data = html if body.form == "html" else await run_errand("document", html, gone=request.is_disconnected)
    return Response(data, media_type=_TYPES[body.form], headers=_download(f"{title}.{body.form}"))


def _section(one: LiveSession, jobs: Jobs, part: m.DocumentPart, tab: str | None) -> Section:
    """Raises what finding its result raises, and :class:`InvalidFields` for a part that names none."""
    if part.address is not None and part.before is not None:
        return _of_two(at_address(one, jobs, part.before, tab), at_address(one, jobs, part.address, tab))
    if part.address is not None:
        return _of_one(at_address(one, jobs, part.address, tab), part.tables)
    raise InvalidFields([FieldProblem("document", "parts", "none", "give each part an address, or two cases")])


def _label(at: Shown) -> str:
    return STUDIES[at.study].label if at.study in STUDIES else at.study


def _of_one(at: Shown, wanted: list[str]) -> Section:
    facts = [("Condition", at.condition.name), ("Revision", str(at.revision))]
    if at.study in STUDIES:
        names = {i: item.name for i, item in at.network.items.items()}
        facts += options_in_words(STUDIES[at.study].options, at.options, names)
    notes = ["Out of date: the network has changed since."] if at.out_of_date else []
    notes += ["In part: not all of it was worked out."] if at.partial else []
    result = at.result
    if wanted:
        result = replace(result, tables={n: at.table(n) for n in wanted})
    return Section(_label(at), result, facts, notes)


def _of_two(before: Shown, after: Shown) -> Section:
    both = in_both(before.result, after.result)
    if not both:
        raise InvalidFields(
            [FieldProblem("document", "before", before.address, "choose two results with figures in common")]
        )
    tables = {}
    for q in both[:_MOST_QUANTITIES]:
        found = compare_tables(before.result.tables.get(q.table), after.result.tables.get(q.table), q.name).table
        tables[f"{q.table} {q.name}"] = Table(
            found.name, f"{q.label}, {found.label.lower()}: the largest change first", found.columns
        )
    facts = [
        (word, f"{_label(s)}, {s.condition.name}, revision {s.revision}")
        for word, s in (("Before", before), ("After", after))
    ]
    return _compared(
        f"{_label(before)} before and after", facts, tables, before.result.findings, after.result.findings, 12
    )


def _of_cases(found: CaseComparison) -> Section:
    tables = {"summary": _in_words(found.summary), "data": found.data, **found.results}
    facts = [("Before", found.before.title), ("After", found.after.title)]
    return _compared("Comparison", facts, tables, found.before.result.findings, found.after.result.findings, None)


def _in_words(totals: Table) -> Table:
    """Totals of two sides, each row in its own unit and digits."""
    names = [f"{label} {unit}".strip() for label, unit in zip(totals["label"], totals["unit"], strict=True)]
    columns = [Column("id", "Id", totals["id"]), Column("name", "Quantity", names)]
    for c in totals.columns:
        if c.name in ("before", "after", "change"):
            texts = ["" if v is None else f"{v:.{d}f}" for v, d in zip(c.values, totals["digits"], strict=True)]
            columns.append(Column(c.name, c.label, texts))
    return Table(totals.name, totals.label, columns)


def _compared(
    title: str, facts: list[tuple[str, str]], tables: dict[str, Table], had: list[Finding], has: list[Finding],
    rows: int | None,
) -> Section:  # fmt: skip
    """Two sides as one section: what is gained and lost in a sentence, what is gained as its findings."""
    before, after = ({(f.element, f.quantity) for f in side} for side in (had, has))
    gained, lost = len(after - before), len(before - after)
    said = f"{lost} of {len(before)} findings are cured, {gained} are new."
    if rows is not None:
        tables = {n: picked(t, list(range(min(rows, len(t))))) for n, t in tables.items()}
    new = [f for f in has if (f.element, f.quantity) not in before]
    return Section(title, Result(Account(Ending.CONVERGED, "", 0), tables, {}, new, said), facts)
