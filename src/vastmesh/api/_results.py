"""Results as resources: the live one, those of jobs and kept runs, all asked in the same way under their addresses.

``live``: of the network as it stands, or what a tab is trying with a slider; ``job-ID``: of a study that has ended;
``run-ID``: of a kept run.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import asdict, dataclass
from functools import cached_property
from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, Depends, Path, Query, Response

from ..core.errors import FieldProblem, InvalidFields, UnknownElement
from ..core.network import Condition, Network, Trace, layered, make_item
from ..core.results import (
    Quantity,
    Result,
    Table,
    compare_tables,
    places,
    quantities_in,
    summarise_groups,
    words_of,
)
from ..core.results.state import live_for, live_options, phase_options
from ..core.sift import FUNCTIONS, Frame, sift
from ..core.studies import STUDIES, Inputs
from ..core.studies.load_flow import find_cause
from ..core.workings import Working, explain
from ..exchange import FORMS, element_table, in_units, picked, write_tables, write_workings
from ..reports import plot_svg
from ..runner import Runner
from ..store import RunInfo
from . import _models as m
from . import _render
from ._jobs import Jobs
from ._routes import All, One, _download, _json
from ._sessions import LiveSession, packed

results = APIRouter(
    prefix="/api/projects/{project_id}", responses={s: {"model": m.Problem} for s in (404, 409, 410, 413, 422)}
)
_AT = "/results/{address}"
LIVE = frozenset(s.name for s in STUDIES.values() if s.live)


@dataclass(frozen=True)
class Shown:
    """A result with what it is of: study, condition, revision and the network it was made from."""

    address: str
    study: str
    revision: int
    condition: Condition
    options: dict[str, Any]
    result: Result
    session: LiveSession
    base: Callable[[], Network]
    partial: bool = False

    @property
    def live(self) -> bool:
        """Whether it is of the network as it stands this moment: an edit may have come in since it was asked for."""
        return self.address == "live" and not self.out_of_date

    @property
    def out_of_date(self) -> bool:
        return self.revision != self.session.revision

    @cached_property
    def network(self) -> Network:
        """The network as it stood, under the condition."""
        return self.base().under(self.condition)

    def trace(self) -> Trace:
        return self.session.trace() if self.live else Trace(self.network)

    def table(self, name: str) -> Table:
        """A table of the result, or ``data:`` and a kind. Raises :class:`InvalidFields` that lists those there are."""
        if name.startswith("data:"):
            return element_table(self.network, name.removeprefix("data:"))
        found = self.result.tables.get(name)
        if found is None:
            known = ", ".join(self.result.tables) or "none, as there is no solution"
            raise InvalidFields([FieldProblem("table", "name", name, f"tables with a result: {known}")])
        return found

    def explained(self, ident: str) -> list[Working]:
        """How its figures at an element came about, by the study that gave them."""
        explain = STUDIES[self.study].explain if self.study in STUDIES else None
        return explain(self.network, self.result, self.condition, ident, self.options) if explain else []


def shown(
    one: One, jobs: Jobs,
    address: Annotated[str, Path(max_length=80, description="live, job-ID or run-ID")],
    tab: Annotated[str | None, Query(max_length=60, description="Whose screen: what that tab is trying counts as live")] = None,
) -> Shown:  # fmt: skip
    """The result under an address. Raises :class:`UnknownElement` and :class:`UnknownRun`."""
    return at_address(one, jobs, address, tab)


def at_address(one: LiveSession, jobs: Runner, address: str, tab: str | None = None) -> Shown:
    kind, _, ident = address.partition("-")
    if address == "live":
        with one.lock:
            condition, solved = one.last(tab)
            study, of = ("unbalanced", phase_options) if one.per_phase else ("load_flow", live_options)
            options = of(one.network.settings).model_dump()
        return Shown(
            address, study, solved.revision, condition, options, solved.result, one,
            lambda: _as_it_stood(one, solved.revision),
        )  # fmt: skip
    if kind == "job" and ident:
        record = jobs.record(ident)
        if record.project != one.project_id:
            raise UnknownElement(ident, wanted_by="asking for the result of a job")
        if not record.has_result:
            problem = FieldProblem("result", "address", address, "wait until the job has finished")
            raise InvalidFields([problem])
        facts, result = jobs.result(ident)
        of_job = make_item(facts["condition"])
        assert isinstance(of_job, Condition)
        return Shown(
            address, record.study, record.revision, of_job, record.options, result, one,
            lambda: _as_it_stood(one, record.revision), partial=record.partial,
        )  # fmt: skip
    if kind == "run" and ident:
        info, facts, result = one.kept(ident)
        of_run = make_item(facts["condition"])
        assert isinstance(of_run, Condition)
        return Shown(
            address, info.study, info.revision, of_run, facts["options"], result, one,
            lambda: _as_it_stood(one, info.revision),
        )  # fmt: skip
    raise InvalidFields([FieldProblem("result", "address", address, "write live, job-ID or run-ID")])


def _as_it_stood(one: LiveSession, revision: int) -> Network:
    """The network at a revision under its schemes; the one at hand where that is the present one."""
    with one.lock:
        if one.revision == revision:
            return one.network
    return layered(one.store.load_at(one.project_id, revision)).network


At = Annotated[Shown, Depends(shown)]


@results.get(_AT, summary="A result in full, with what it is of", responses=_json(m.ResultOut))
def result(at: At) -> Response:
    study = STUDIES.get(at.study)
    return _render.Json({
        "address": at.address, "study": at.study, "label": study.label if study else at.study, "revision": at.revision,
        "out_of_date": at.out_of_date, "partial": at.partial, "condition": at.condition.name, "options": at.options,
        **_render.study(at.result),
    })  # fmt: skip


def _must_be_load_flow(at: Shown) -> None:
    """Raises :class:`InvalidFields` for the result of another study."""
    if at.study not in LIVE:
        raise InvalidFields([FieldProblem("result", "address", at.address, "name the result of a load flow")])


def _frame(at: Shown, table: Table, pinned: str | None) -> Frame:
    before: dict[str, Any] | None = None
    if pinned is not None:
        old = at.session.kept(pinned)[2].tables.get(table.name)
        before = _aligned(old, table["id"]) if old else None
    # Element data changes with every edit and is small; live results have the same rows for long.
    own = table.name.startswith("data:")
    texts = at.session.texts(table) if at.live and not own else {}
    words = words_of(at.network) if own or not at.live else {}
    return Frame(
        columns={**{c.name: c.values for c in table.columns}, **texts},
        units={c.name: c.unit for c in table.columns} | {"nominal_kv": "kV"},
        size=len(table), words=words, pinned=before, late=places(at.network, table, at.trace),
    )  # fmt: skip


def _aligned(old: Table, ids: list[str]) -> dict[str, Any]:
    """Columns of numbers of an old table on the rows of a new one; NaN where it has none."""
    row = {i: n for n, i in enumerate(old["id"])}
    at = np.array([row.get(i, -1) for i in ids], np.int64)
    found = {}
    for c in old.columns:
        if isinstance(c.values, np.ndarray) and c.values.dtype.kind in "fi" and len(c.values):
            found[c.name] = np.where(at >= 0, c.values[at], np.nan)
    return found


@results.post(f"{_AT}/sift", summary="Rows of a table that fit a sift line", responses=_json(m.SiftOut))
def sift_rows(body: m.SiftIn, at: At) -> Response:
    with at.session.lock:
        started = time.perf_counter()
        found = sift(body.text, _frame(at, at.table(body.table), body.pinned))
        took = (time.perf_counter() - started) * 1e3
        return _render.Json(
            {"revision": at.revision, "rows": found.rows, "mentions": found.mentions, "took_ms": round(took, 2)}
        )


@results.get(f"{_AT}/sift", summary="What a sift line on a table can speak of")
def sift_help(table: str, at: At) -> m.SiftHelp:
    with at.session.lock:
        found = at.table(table)
        columns = [m.ColumnHint(name=c.name, label=c.label, unit=c.unit, meaning=c.meaning) for c in found.columns]
        further = places(at.network, found, at.trace)
        columns += [m.ColumnHint(name=n, label=n.replace("_", " ").capitalize()) for n in further]
        return m.SiftHelp(columns=columns, functions=FUNCTIONS)


@results.post(f"{_AT}/export", summary="Tables as CSV, XLSX or Parquet", response_class=Response)
def export_tables(body: m.ExportIn, at: At, all_: All) -> Response:
    with at.session.lock:
        tables = [at.table(n) for n in body.tables or [*at.result.tables]]
    if not tables:
        raise InvalidFields([FieldProblem("export", "tables", "none", "there is no result to export")])
    if body.rows is not None or body.columns is not None:
        if body.rows is not None and any(not 0 <= r < len(tables[0]) for r in body.rows):
            raise InvalidFields(
                [FieldProblem("export", "rows", "out of range", f"rows from 0 to {len(tables[0]) - 1}")]
            )
        tables[0] = picked(tables[0], body.rows, body.columns)
    if body.form != "parquet":
        tables = [in_units(t, body.units) for t in tables]
    data = write_tables(tables, body.form)
    title = tables[0].label if len(tables) == 1 else "Results"
    name = f"{all_.store.project(at.session.project_id).name} {title}.{body.form}"
    return Response(data, media_type=FORMS[body.form], headers=_download(name))


@results.get(f"{_AT}/workings/{{ident:path}}", summary="How the figures of a result at an element come about")
def workings(ident: str, at: At) -> m.AboutOut:
    with at.session.lock:
        found = at.explained(ident)
        made = [m.WorkingOut.model_validate({k: v for k, v in asdict(w).items() if k != "ledger"}) for w in found]
        return m.AboutOut(revision=at.revision, workings=made, used_by=[])


@results.get(f"{_AT}/workings-sheet/{{ident:path}}", summary="The same as a spreadsheet with live formulas",
             response_class=Response)  # fmt: skip
def workings_sheet(ident: str, at: At) -> Response:
    with at.session.lock:
        name = at.network[ident].name
        plates = [w for w in explain(at.network, ident) if w.ledger] if at.study in LIVE else []
        found = [*plates, *at.explained(ident)]
    return Response(write_workings(name, found), media_type=FORMS["xlsx"], headers=_download(f"{name} workings.xlsx"))


@results.get(f"{_AT}/figures/{{name}}.svg", summary="A plot of a result as a picture", response_class=Response)
def figure(name: str, at: At) -> Response:
    found = next((f for f in at.result.figures if f.name == name), None)
    if found is None:
        known = ", ".join(f.name for f in at.result.figures) or "none, as it has no plots"
        raise InvalidFields([FieldProblem("figure", "name", name, f"plots of this result: {known}")])
    return Response(plot_svg(found), media_type="image/svg+xml", headers=_download(f"{found.label}.svg"))


@results.get(f"{_AT}/summaries", summary="Totals by area, substation, feeder and voltage level",
             responses=_json(m.SummariesOut))  # fmt: skip
def summaries(at: At) -> Response:
    _must_be_load_flow(at)
    with at.session.lock:
        found = summarise_groups(at.network, at.result.tables, at.trace(), at.result.quantities)
        tables = {n: _render.table(t, with_fixed=True) for n, t in found.items()}
        return _render.Json({"revision": at.revision, "tables": tables})


@results.get(f"{_AT}/cause/{{ident:path}}", summary="Why something is outside its limit, and what helps")
def cause(ident: str, quantity: str, at: At) -> m.CauseOut:
    study = STUDIES.get(at.study)
    if study is not None and study.cause is not None:
        with at.session.lock:
            network = at.network.copy()
        network[ident]
        found = study.cause(Inputs(network, at.condition), at.result, at.options, ident, quantity)
    else:
        _must_be_load_flow(at)
        with at.session.lock:
            network, trace = at.network.copy(), at.trace()
        found = find_cause(network, at.result, trace, ident, quantity, live_for)
    proposals = [m.ProposalOut(label=p.label, effect=p.effect, changes=p.changes) for p in found.proposals]
    return m.CauseOut(
        revision=at.revision, text=found.text, elements=found.elements, proposals=proposals, uneven=found.uneven
    )


@results.post(f"{_AT}/keep", status_code=201, summary="Keep a result as a run")
def keep(body: m.KeepIn, at: At) -> m.RunInfoOut:
    run = packed(at.study, body.name, body.note, at.revision, at.condition, at.options, at.result)
    return _info(at.session.store.keep_run(at.session.project_id, run))


def _info(info: RunInfo) -> m.RunInfoOut:
    return m.RunInfoOut(**asdict(info))


@results.post("/compare", summary="Before, after and change of one quantity, the largest change first",
              responses=_json(m.CompareOut))  # fmt: skip
def compare(body: m.CompareIn, one: One, jobs: Jobs) -> Response:
    before, after = (at_address(one, jobs, a, body.tab).result for a in (body.before, body.after))
    both = in_both(before, after)
    if not body.quantity and not both:
        raise InvalidFields(
            [FieldProblem("compare", "quantity", "none", "choose two results that have figures in common")]
        )
    table, quantity = (body.table, body.quantity) if body.quantity else (both[0].table, both[0].name)
    found = compare_tables(before.tables.get(table), after.tables.get(table), quantity)
    had, has = ({(f.element, f.quantity): f for f in r.findings} for r in (before, after))
    return _render.Json({
        "table": _render.table(found.table, with_fixed=True), "only_before": found.only_before,
        "only_after": found.only_after, "findings_gained": _findings(f for k, f in has.items() if k not in had),
        "findings_lost": _findings(f for k, f in had.items() if k not in has), "before": before.summary,
        "after": after.summary, "quantities": [asdict(q) for q in both],
        "chosen": f"{table} {quantity}",
    })  # fmt: skip


def in_both(before: Result, after: Result) -> list[Quantity]:
    """What can be compared: quantities that both have."""
    has = {(q.table, q.name) for q in quantities_in(before.tables, before.quantities)}
    return [q for q in quantities_in(after.tables, after.quantities) if (q.table, q.name) in has]


def _findings(found: Any) -> list[dict[str, Any]]:
    return [asdict(f) for f in found]
