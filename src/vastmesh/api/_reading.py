"""Routes for reading results: sift, export, workings, summaries, causes, studies, runs, map and pictures."""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import asdict
from typing import Annotated, Any

import numpy as np
import orjson
from fastapi import APIRouter, Depends, Request, Response
from starlette.concurrency import run_in_threadpool

from ..core.errors import FieldProblem, InvalidFields, UnknownElement
from ..core.geography import lengths_from_routes, map_from_schematic, schematic_from_map
from ..core.network import Add, Attachment, Backdrop, Change, Condition, Network, Update, layered
from ..core.options import options_of
from ..core.results import Finding, Table, places, summarise_groups, words_of
from ..core.results._comparison import compare_tables
from ..core.results.state._as_set import live_for
from ..core.sift import FUNCTIONS, Frame, sift
from ..core.studies import study_named
from ..core.studies.load_flow import explain_flow, explain_phases, find_cause
from ..core.workings import Working
from ..exchange import FORMS, element_table, in_units, picked, write_tables, write_workings
from ..reports import PAPERS, picture_pdf
from ..runner import Job, JobState, Runner
from ..store import RunInfo
from . import _models as m
from . import _render
from ._routes import All, One, _download, _json
from ._sessions import LiveSession, Solved

reading = APIRouter(prefix="/api", responses={s: {"model": m.Problem} for s in (404, 409, 410, 413, 422)})
_MOST_BACKDROP = 16 * 2**20
_AT_ONCE_S = 1.5  # a run that has ended by then is answered at once


def runner(request: Request) -> Runner:
    found: Runner = request.app.state.runner
    return found


Jobs = Annotated[Runner, Depends(runner)]


def _table(one: LiveSession, name: str) -> tuple[Network, Table]:
    """A result table of what is on the screen, or ``data:`` and a kind; with the network as it stands."""
    condition, solved = one.last()
    network = one.network.under(condition)
    if name.startswith("data:"):
        return network, element_table(network, name.removeprefix("data:"))
    found = solved.result.tables.get(name)
    if found is None:
        known = ", ".join(solved.result.tables) or "none, as the load flow has no solution"
        raise InvalidFields([FieldProblem("table", "name", name, f"tables with a result: {known}")])
    return network, found


def _frame(one: LiveSession, name: str, network: Network, table: Table, pinned: str | None) -> Frame:
    before: dict[str, Any] | None = None
    if pinned is not None:
        old = one.kept(pinned)[2].get(table.name)
        before = _aligned(old, table["id"]) if old else None
    # Element data changes with every edit and is small; results have the same rows for long.
    texts = {} if name.startswith("data:") else one.texts(table)
    words = words_of(network) if name.startswith("data:") else {}
    return Frame(
        columns={**{c.name: c.values for c in table.columns}, **texts},
        units={c.name: c.unit for c in table.columns} | {"nominal_kv": "kV"},
        size=len(table), words=words, pinned=before, late=places(network, table, one.trace),
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


@reading.post("/projects/{project_id}/sift", summary="Rows of a table that fit a sift line", responses=_json(m.SiftOut))
def sift_rows(body: m.SiftIn, one: One) -> Response:
    with one.lock:
        started = time.perf_counter()
        network, table = _table(one, body.table)
        found = sift(body.text, _frame(one, body.table, network, table, body.pinned))
        took = (time.perf_counter() - started) * 1e3
        return _render.Json(
            {"revision": one.revision, "rows": found.rows, "mentions": found.mentions, "took_ms": round(took, 2)}
        )


@reading.get("/projects/{project_id}/sift", summary="What a sift line on a table can speak of")
def sift_help(table: str, one: One) -> m.SiftHelp:
    with one.lock:
        network, found = _table(one, table)
        columns = [m.ColumnHint(name=c.name, label=c.label, unit=c.unit, meaning=c.meaning) for c in found.columns]
        further = places(network, found, one.trace)
        columns += [m.ColumnHint(name=n, label=n.replace("_", " ").capitalize()) for n in further]
        return m.SiftHelp(columns=columns, functions=FUNCTIONS)


@reading.post("/projects/{project_id}/export", summary="Tables as CSV, XLSX or Parquet", response_class=Response)
def export_tables(body: m.ExportIn, one: One, all_: All) -> Response:
    with one.lock:
        names = body.tables or [*one.last()[1].result.tables]
        tables = [_table(one, n)[1] for n in names]
    if not tables:
        raise InvalidFields([FieldProblem("export", "tables", "none", "there is no result to export")])
    if (body.rows is not None or body.columns is not None) and tables:
        if body.rows is not None and any(not 0 <= r < len(tables[0]) for r in body.rows):
            raise InvalidFields(
                [FieldProblem("export", "rows", "out of range", f"rows from 0 to {len(tables[0]) - 1}")]
            )
        tables[0] = picked(tables[0], body.rows, body.columns)
    if body.form != "parquet":
        tables = [in_units(t, body.units) for t in tables]
    data = write_tables(tables, body.form)
    title = tables[0].label if len(tables) == 1 else "Results"
    name = f"{all_.store.project(one.project_id).name} {title}.{body.form}"
    return Response(data, media_type=FORMS[body.form], headers=_download(name))


def _explained(one: LiveSession, condition: Condition, solved: Solved, ident: str) -> list[Working]:
    """How the figures on the screen came about, by the load flow that gave them."""
    network = one.network.under(condition)
    if one.per_phase:
        return explain_phases(network, solved.result.tables, ident)
    return explain_flow(network, solved.result.tables, condition, ident)


@reading.get(
    "/projects/{project_id}/workings/{ident:path}", summary="How the figures of the result at an element come about"
)
def workings(ident: str, one: One) -> m.AboutOut:
    with one.lock:
        condition, solved = one.last()
        found = _explained(one, condition, solved, ident)
        made = [m.WorkingOut.model_validate({k: v for k, v in asdict(w).items() if k != "ledger"}) for w in found]
        return m.AboutOut(revision=one.revision, workings=made, used_by=[])


@reading.get("/projects/{project_id}/workings-sheet/{ident:path}", summary="The same as a spreadsheet with live formulas",
             response_class=Response)  # fmt: skip
def workings_sheet(ident: str, one: One) -> Response:
    with one.lock:
        condition, solved = one.last()
        found = _explained(one, condition, solved, ident)
        name = one.network[ident].name
    return Response(write_workings(name, found), media_type=FORMS["xlsx"], headers=_download(f"{name} workings.xlsx"))


@reading.get("/projects/{project_id}/summaries", summary="Totals by area, substation, feeder and voltage level",
             responses=_json(m.SummariesOut))  # fmt: skip
def summaries(one: One) -> Response:
    with one.lock:
        condition, solved = one.last()
        network = one.network.under(condition)
        found = summarise_groups(network, solved.result.tables, one.trace())
        tables = {n: _render.table(t, with_fixed=True) for n, t in found.items()}
        return _render.Json({"revision": one.revision, "tables": tables})


@reading.get("/projects/{project_id}/cause/{ident:path}", summary="Why something is outside its limit, and what helps")
def cause(ident: str, quantity: str, one: One) -> m.CauseOut:
    with one.lock:
        condition, solved = one.last()
        network = one.network.under(condition).copy()
        revision, trace, result = one.revision, one.trace(), solved.result
    found = find_cause(network, result, trace, ident, quantity, live_for)
    proposals = [m.ProposalOut(label=p.label, effect=p.effect, changes=p.changes) for p in found.proposals]
    return m.CauseOut(
        revision=revision, text=found.text, elements=found.elements, proposals=proposals, uneven=found.uneven
    )


# Studies and runs


def _job(job: Job) -> Response:
    finished = job.state is JobState.FINISHED and job.result is not None
    return _render.Json({
        "id": job.id, "study": job.study, "state": job.state.value, "fraction": job.fraction, "doing": job.doing,
        "left_s": job.left_s, "took_s": round(job.took_s, 4), "kept": job.kept,
        "problem": str(job.error) if job.error else None,
        "result": _render.study(job.result) if finished and job.result else None,
    })  # fmt: skip


@reading.post("/projects/{project_id}/runs", summary="Run a study; answered at once when it is quick",
              responses=_json(m.JobOut))  # fmt: skip
async def run_study(body: m.RunIn, one: One, jobs: Jobs) -> Response:
    study = study_named(body.study)
    options = options_of(study.options, body.options)

    def work() -> Job:
        job = one.start(jobs, body.study, options, body.keep, body.note)
        job.wait(_AT_ONCE_S)
        return job

    return _job(await run_in_threadpool(work))


def _known(jobs: Runner, ident: str) -> Job:
    job = jobs.job(ident)
    if job is None:
        raise UnknownElement(ident, wanted_by="asking for a run under way")
    return job


@reading.get("/jobs/{job_id}", summary="How a run is getting on", responses=_json(m.JobOut))
def job(job_id: str, jobs: Jobs) -> Response:
    return _job(_known(jobs, job_id))


@reading.delete("/jobs/{job_id}", summary="Cancel a run", responses=_json(m.JobOut))
def cancel(job_id: str, jobs: Jobs) -> Response:
    found = _known(jobs, job_id)
    found.cancel()
    found.wait(5.0)
    return _job(found)


def _info(info: RunInfo) -> dict[str, Any]:
    return asdict(info)


@reading.get("/projects/{project_id}/runs", summary="Kept runs, the newest first")
def runs(project_id: str, all_: All) -> list[m.RunInfoOut]:
    return [m.RunInfoOut(**_info(r)) for r in all_.store.runs(project_id)]


@reading.post("/projects/{project_id}/keep", status_code=201, summary="Keep the result on the screen as a run")
def keep(body: m.KeepIn, one: One) -> m.RunInfoOut:
    return m.RunInfoOut(**_info(one.keep(body.name, body.note)))


def _result(facts: Mapping[str, Any], tables: Mapping[str, Table]) -> dict[str, Any]:
    return {
        "account": facts["account"], "summary": facts["summary"], "findings": facts["findings"],
        "tables": {n: _render.table(t, with_fixed=True) for n, t in tables.items()}, "statement": "",
    }  # fmt: skip


@reading.get("/projects/{project_id}/runs/{run_id}", summary="A kept run in full", responses=_json(m.RunOut))
def kept_run(run_id: str, one: One) -> Response:
    info, facts, tables = one.kept(run_id)
    return _render.Json({"run": _info(info), "options": facts["options"], "condition": facts["condition"],
                         "result": _result(facts, tables)})  # fmt: skip


@reading.get("/projects/{project_id}/runs/{run_id}/picture", summary="The network as it stood when a run was made",
             responses=_json(m.RunPictureOut))  # fmt: skip
def run_picture(run_id: str, one: One) -> Response:
    info, facts, tables = one.kept(run_id)
    network = layered(one.store.load_at(one.project_id, info.revision)).network
    return _render.Json({"run": _info(info), "items": network.to_items(), "result": _result(facts, tables)})


@reading.patch("/projects/{project_id}/runs/{run_id}", summary="Name a run, or put a note to it")
def describe_run(run_id: str, body: m.DescribeIn, one: One) -> m.RunInfoOut:
    found = one.store.describe_run(one.project_id, run_id, name=body.name, note=body.note)
    one.forget_kept(run_id)
    return m.RunInfoOut(**_info(found))


@reading.delete("/projects/{project_id}/runs/{run_id}", status_code=204, summary="Remove a kept run")
def forget_run(run_id: str, one: One) -> None:
    one.store.forget_run(one.project_id, run_id)
    one.forget_kept(run_id)


@reading.post("/projects/{project_id}/compare", summary="Before, after and change of one quantity, the largest change first",
              responses=_json(m.CompareOut))  # fmt: skip
def compare(body: m.CompareIn, one: One) -> Response:
    sides = [_side(one, s) for s in (body.before, body.after)]
    found = compare_tables(sides[0][0].get(body.table), sides[1][0].get(body.table), body.quantity)
    had, has = ({(f["element"], f["quantity"]): f for f in s[1]} for s in sides)
    return _render.Json({
        "table": _render.table(found.table, with_fixed=True), "only_before": found.only_before,
        "only_after": found.only_after, "findings_gained": [f for k, f in has.items() if k not in had],
        "findings_lost": [f for k, f in had.items() if k not in has], "before": sides[0][2], "after": sides[1][2],
    })  # fmt: skip


def _side(one: LiveSession, which: str) -> tuple[Mapping[str, Table], list[dict[str, Any]], dict[str, Any]]:
    if which == "now":
        result = one.last()[1].result
        return result.tables, [_finding(f) for f in result.findings], result.summary
    _, facts, tables = one.kept(which)
    return tables, facts["findings"], facts["summary"]


def _finding(f: Finding) -> dict[str, Any]:
    return asdict(f)


# Map and pictures


@reading.post("/projects/{project_id}/place", summary="Make one arrangement from the other, or lengths from routes",
              responses=_json(m.ChangedOut))  # fmt: skip
def place(body: m.PlaceIn, one: One) -> Response:
    with one.lock:
        if body.what == "map":
            changes, label = map_from_schematic(one.network, anew=body.anew), "Lay the schematic on the map"
        elif body.what == "schematic":
            changes, label = schematic_from_map(one.network), "Make the schematic from the map"
        elif body.what == "lengths":
            changes, label = lengths_from_routes(one.network, body.ids), "Take lengths from routes"
        else:
            raise InvalidFields([FieldProblem("place", "what", body.what, "choose map, schematic or lengths")])
        if not changes:
            text = "nothing would change: the buses or lines concerned have no places, or have them already"
            raise InvalidFields([FieldProblem("place", "what", body.what, text)])
        return _render.Json(_render.outcome(one.change(body.base_revision, label, changes)))


@reading.put(
    "/projects/{project_id}/backdrop", summary="Put a map behind the network (the body is GeoJSON)",
    responses=_json(m.ChangedOut),
    openapi_extra={"requestBody": {"required": True, "content": {"application/octet-stream": {
        "schema": {"type": "string", "format": "binary"}}}}},
)  # fmt: skip
async def put_backdrop(request: Request, one: One, base_revision: int, file_name: str = "map.geojson") -> Response:
    data = await request.body()

    def work() -> Any:
        _check_geojson(data)
        file = Attachment(name=file_name[-120:] or "map.geojson", sha256=one.store.keep_blob(data), size=len(data),
                          media_type="application/geo+json")  # fmt: skip
        with one.lock:
            known = one.network.of(Backdrop)
            values = {"file": file.model_dump()}
            item = {"kind": "backdrop", "id": "backdrop", "name": "Map", **values}
            change: Change = Update(id=known[0].id, values=values) if known else Add(item=item)
            return one.change(base_revision, f"Put {file.name} behind the map", [change])

    return _render.Json(_render.outcome(await run_in_threadpool(work)))


def _check_geojson(data: bytes) -> None:
    problem = FieldProblem(
        "backdrop", "file", f"{len(data)} bytes", "send a GeoJSON FeatureCollection of at most 16 MB"
    )
    if len(data) > _MOST_BACKDROP:
        raise InvalidFields([problem])
    try:
        found = orjson.loads(data)
    except orjson.JSONDecodeError:
        raise InvalidFields([problem]) from None
    if (
        not isinstance(found, dict)
        or found.get("type") != "FeatureCollection"
        or not isinstance(found.get("features"), list)
    ):
        raise InvalidFields([problem])


@reading.get("/projects/{project_id}/backdrop", summary="The map behind the network as GeoJSON; empty when there is none",
             response_class=Response)  # fmt: skip
def backdrop(one: One) -> Response:
    with one.lock:
        file = next((b.file for b in one.network.of(Backdrop) if b.file), None)
    data = one.store.blob(file.sha256) if file else None
    return Response(data or b'{"type":"FeatureCollection","features":[]}', media_type="application/geo+json")


@reading.get("/papers", summary="Paper sizes for pictures")
def papers() -> dict[str, tuple[float, float]]:
    return PAPERS


@reading.post("/projects/{project_id}/picture.pdf", summary="A picture as PDF", response_class=Response)
def picture(body: m.PictureIn, one: One) -> Response:
    data = picture_pdf(body.svg, paper=body.paper, title=body.title, lines=body.lines, mm_per_unit=body.mm_per_unit)
    return Response(data, media_type="application/pdf", headers=_download(f"{body.title or 'Sheet'}.pdf"))
