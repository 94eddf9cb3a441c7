"""Routes: they translate, they do not compute."""

from __future__ import annotations

from collections.abc import AsyncIterator, Iterable, Sequence
from dataclasses import asdict
from functools import lru_cache
from typing import Annotated, Any, Literal
from urllib.parse import quote

import orjson
from fastapi import APIRouter, Depends, Query, Request, Response
from pydantic import Field, TypeAdapter
from sse_starlette import EventSourceResponse
from starlette.concurrency import run_in_threadpool

from .. import __version__
from ..core.catalogue import FAMILIES, search, types_of
from ..core.checks import Check
from ..core.errors import FieldProblem, InvalidFields, UnknownElement, UnreadableFile
from ..core.layout import place
from ..core.network import (
    REGISTRY,
    SHOOTS,
    Add,
    Bus,
    Change,
    Element,
    Network,
    Switch,
    Update,
    first_bus,
    profile,
    specs,
    stands_alone,
    with_rules,
)
from ..core.studies import STUDIES, Study
from ..core.studies.harmonics import picture_spectrum
from ..core.workings import explain
from ..errands import unpacked_size, workbook_rows
from ..exchange import (
    FORMATS,
    Imported,
    fetch_csv,
    is_workbook,
    plain_figure,
    read_network,
    read_profiles,
    read_types,
    write_network,
    write_rows,
    write_types_csv,
    write_types_xlsx,
)
from ..store import ProjectInfo
from . import _models as m
from . import _render
from ._errors import journal_line
from ._security import UPLOAD_LIMIT
from ._sessions import MOST_ATTACHED, LiveSession, Outcome, Sessions

api = APIRouter(prefix="/api", responses={s: {"model": m.Problem} for s in (404, 409, 410, 413, 422)})


def sessions(request: Request) -> Sessions:
    found: Sessions = request.app.state.sessions
    return found


def session(project_id: str, all_: Annotated[Sessions, Depends(sessions)]) -> LiveSession:
    return all_.get(project_id)


All = Annotated[Sessions, Depends(sessions)]
One = Annotated[LiveSession, Depends(session)]
Rows = Annotated[str | None, Query(description="Token of rows the client has: their fixed columns are left out")]

_LARGE_BOOK = 2_000_000  # bytes unpacked: half a second of reading

Revision = Annotated[int, Field(ge=0, le=2**62)]
Base = Annotated[int | None, Query(ge=0, le=2**62, description="The revision one looks at: another is a conflict")]


def _json(model: type[Any]) -> dict[int | str, dict[str, Any]]:
    return {200: {"model": model}}


@api.get("/health", summary="Whether the service is up")
def health() -> dict[str, str]:
    return {"status": "ok", "version": __version__}


@api.get("/vocabulary", summary="Kinds of elements with their fields, what can be grown, catalogue types")
def vocabulary() -> m.Vocabulary:
    return m.Vocabulary(
        version=__version__,
        kinds=[
            m.KindOut(
                kind=kind, label=cls.label, plural=cls.plural, element=issubclass(cls, Element),
                listed=cls.listed, removable=cls.removable, alone=stands_alone(cls), fields=list(specs(cls).values()),
            )
            for kind, cls in REGISTRY.items()
        ],
        shoots=[
            m.ShootOut(name=s.name, label=s.label, meaning=s.meaning, at=list(s.at), asks=list(s.asks), strip=s.strip)
            for s in SHOOTS.values()
        ],
        families=[
            m.FamilyOut(name=f.name, label=f.label, meaning=f.meaning, shown=list(f.shown), count=len(types_of(f.name)))
            for f in FAMILIES.values()
        ],
        formats={f.name: f.label for f in FORMATS.values()},
        upload_limit_bytes=UPLOAD_LIMIT,
        attachment_limit_bytes=MOST_ATTACHED,
    )  # fmt: skip


@api.get("/studies", summary="Studies with the schemas of their options", response_model=list[m.StudyOut])
def studies() -> Response:
    return Response(_described(tuple(STUDIES.values())), media_type="application/json")


@lru_cache(maxsize=4)
def _described(known: tuple[Study, ...]) -> bytes:
    """What is told of studies, made once: it takes a tenth of a second and every page asks for it."""
    found = [
        m.StudyOut(
            name=s.name,
            label=s.label,
            purpose=s.purpose,
            live=s.live,
            follows=s.follows,
            explains=s.explain is not None,
            desk=s.desk,
            causes=s.cause is not None,
            fields=list(specs(s.options).values()),
            options=s.options.model_json_schema(),
        )
        for s in known
    ]
    return TypeAdapter(list[m.StudyOut]).dump_json(found)


# Projects


def _project(info: ProjectInfo) -> m.ProjectOut:
    return m.ProjectOut(**asdict(info))


@api.get("/projects", summary="Projects, the last changed first")
def projects(all_: All, removed: bool = False) -> list[m.ProjectOut]:
    return [_project(p) for p in all_.store.projects(removed=removed)]


@api.post("/projects", status_code=201, summary="A new project: one supply point to grow from")
def create(body: m.NewProject, all_: All) -> m.ProjectOut:
    network = Network()
    network.apply(first_bus(network))
    return _project(_keep(all_, body.name, network))


def _keep(all_: Sessions, name: str, network: Network) -> ProjectInfo:
    network.apply(with_rules(network))
    network.apply(place(network))
    return all_.store.create(name, network)


@api.post(
    "/projects/import",
    status_code=201,
    summary="A new project from a file (the body is the file)",
    openapi_extra={"requestBody": {"required": True, "content": {"application/octet-stream": {
        "schema": {"type": "string", "format": "binary"}}}}},
)  # fmt: skip
async def import_file(request: Request, all_: All, file_name: str = "") -> m.ImportedOut:
    data = await request.body()

    def work() -> tuple[Imported, ProjectInfo]:
        found = read_network(data, file_name)
        if not found.network.of(Bus):
            raise UnreadableFile("it holds no bus, so that there is nothing to calculate; no project was made")
        return found, _keep(all_, found.title, found.network)

    imported, info = await run_in_threadpool(work)
    return m.ImportedOut(project=_project(info), report=m.ReportOut.model_validate(asdict(imported.report)))


@api.patch("/projects/{project_id}", summary="Rename a project")
def rename(project_id: str, body: m.NewProject, all_: All) -> m.ProjectOut:
    return _project(all_.store.rename(project_id, body.name))


@api.post("/projects/{project_id}/copy", status_code=201, summary="Copy a project as it stands")
def copy(project_id: str, body: m.NewProject, all_: All) -> m.ProjectOut:
    return _project(all_.store.copy(project_id, body.name))


@api.delete("/projects/{project_id}", status_code=204, summary="Remove a project; it can be restored")
def remove_project(project_id: str, all_: All) -> None:
    all_.store.remove(project_id)
    all_.close(project_id)


@api.post("/projects/{project_id}/restore", summary="Bring a removed project back")
def restore(project_id: str, all_: All) -> m.ProjectOut:
    return _project(all_.store.restore(project_id))


@api.post("/projects/{project_id}/repair", summary="Go on from the latest revision that can be read")
def repair(project_id: str, all_: All) -> m.ProjectOut:
    return _project(all_.repair(project_id))


@api.get(
    "/projects/{project_id}", summary="Open a project: its items and its live result", responses=_json(m.OpenedOut)
)
def open_project(project_id: str, one: One, all_: All) -> Response:
    with one.lock:
        undo, redo = one.words()
        body = {
            "project": {**asdict(all_.store.project(project_id)), "revision": one.revision},
            "damage": str(one.damage) if one.damage else None,
            "items": orjson.Fragment(one.items_json()),
            "history": {"undo": undo, "redo": redo},
            "live": _render.live(one.solve()),
        }
    return _render.Json(body)


@api.get("/projects/{project_id}/export/{format_name}", summary="The network as a file", response_class=Response)
def export(project_id: str, format_name: str, one: One, all_: All) -> Response:
    info = all_.store.project(project_id)
    with one.lock:
        data = write_network(one.base, info.name, format_name)
    form = FORMATS[format_name]
    name = quote(info.name + form.ending)
    return Response(data, media_type=form.media_type,
                    headers={"content-disposition": f"attachment; filename*=UTF-8''{name}"})  # fmt: skip


# The network


@api.get("/projects/{project_id}/live", summary="The live result as the network stands", responses=_json(m.LiveOut))
def live(one: One, rows: Rows = None) -> Response:
    return _render.Json(_render.live(one.solve(), rows))


@api.post("/projects/{project_id}/preview", summary="A live result for other factors, not kept",
          responses=_json(m.LiveOut))  # fmt: skip
def preview(body: m.PreviewIn, one: One, rows: Rows = None) -> Response:
    solved = one.solve(
        demand=body.demand_factor, generation=body.generation_factor, lost=body.lost, closed=body.closed, moment=body.moment,
        year=body.year, tab=body.tab,
    )  # fmt: skip
    return _render.Json(_render.live(solved, rows))


@api.post("/projects/{project_id}/changes", summary="Apply a group of changes as one", responses=_json(m.ChangedOut))
def change(body: m.ChangeIn, one: One, rows: Rows = None) -> Response:
    return _render.Json(
        _render.outcome(one.change(body.base_revision, body.label, list(body.changes), key=body.key), rows)
    )


@api.post("/projects/{project_id}/grow", summary="Grow something at a bus, in a line or between two buses",
          responses=_json(m.ChangedOut))  # fmt: skip
def grow(body: m.GrowIn, one: One) -> Response:
    return _render.Json(_render.outcome(one.grow(body.base_revision, body.at, body.what, body.to, body.options)))


@api.post("/projects/{project_id}/join", summary="Make two buses one", responses=_json(m.ChangedOut))
def join(body: m.JoinIn, one: One) -> Response:
    return _render.Json(_render.outcome(one.join(body.base_revision, body.gone, body.kept)))


@api.post("/projects/{project_id}/paste", summary="Copy items, connected where they were or at a bus",
          responses=_json(m.PastedOut))  # fmt: skip
def paste(body: m.PasteIn, one: One) -> Response:
    done, made, left_out = one.paste(body.base_revision, body.items, body.onto, body.times)
    return _render.Json({**_render.outcome(done), "pasted": made, "left_out": left_out})


@api.post(
    "/projects/{project_id}/swap", summary="Next size up or down of catalogue types", responses=_json(m.ChangedOut)
)
def swap(body: m.SwapIn, one: One, rows: Rows = None) -> Response:
    return _render.Json(_render.outcome(one.swap(body.base_revision, body.ids, body.step), rows))


@api.get("/projects/{project_id}/table", summary="Element data of one kind for a spreadsheet, tab-separated")
def table(kind: str, one: One, ids: Annotated[list[str] | None, Query()] = None) -> Response:
    with one.lock:
        if kind not in REGISTRY:
            raise InvalidFields([FieldProblem("table", "kind", kind, "choose one of " + ", ".join(sorted(REGISTRY)))])
        return Response(write_rows(one.network, kind, ids), media_type="text/tab-separated-values")


@api.post("/projects/{project_id}/table", summary="Paste rows from a spreadsheet: all of them or none",
          responses=_json(m.ChangedOut))  # fmt: skip
def paste_table(body: m.TableIn, one: One) -> Response:
    return _render.Json(_render.outcome(one.paste_table(body.base_revision, body.kind, body.text)))


# What can be asked about elements


def _checks(found: Iterable[Check]) -> list[m.CheckOut]:
    return [
        m.CheckOut(
            rule=c.rule, element=c.element, severity=c.severity, text=c.text, field=c.field,
            repair=m.RepairOut(label=c.repair.label, changes=c.repair.changes) if c.repair else None,
        )
        for c in found
    ]  # fmt: skip


@api.get("/projects/{project_id}/checks", summary="The model check: what is missing, implausible or contradictory")
def checks(one: One) -> list[m.CheckOut]:
    return _checks(one.checks())


@api.get("/projects/{project_id}/about/{ident:path}", summary="Workings behind an item's data, and what uses it")
def about(ident: str, one: One) -> m.AboutOut:
    with one.lock:
        found = [asdict(w) for w in explain(one.network, ident)]
        return m.AboutOut(
            revision=one.revision, workings=[m.WorkingOut.model_validate(w) for w in found],
            used_by=one.network.referrers(ident),
        )  # fmt: skip


@api.get("/projects/{project_id}/supply/{ident:path}", summary="What feeds an element and what it feeds")
def supply(ident: str, one: One) -> m.SupplyOut:
    with one.lock:
        item, trace = one.network[ident], one.trace()
        buses = [ident] if isinstance(item, Bus) else list(item.buses()) if isinstance(item, Element) else []
        fed, of = trace.fed(ident), trace.feeder_of()
        thrown = trace.if_thrown(ident) if isinstance(item, Switch) else None
        return m.SupplyOut(
            live=any(trace.live(b) for b in buses), path=trace.path(ident), elements=len(fed.elements), buses=fed.buses,
            feeder=next((of[b] for b in reversed(buses) if b in of), None),
            loads=sum(len(one.network[e].buses()) == 1 for e in fed.elements),  # type: ignore[attr-defined]
            demand_mw=fed.demand_mw, customers=fed.customers,
            thrown=m.ThrowOut(**asdict(thrown)) if thrown else None,
        )  # fmt: skip


@api.get("/projects/{project_id}/feeders", summary="Feeders as the network is switched, and stations")
def feeders(one: One) -> m.FeedersOut:
    with one.lock:
        found = [m.FeederOut(id=f.id, name=f.name, supply=f.supply, buses=list(f.buses)) for f in one.trace().feeders]
        stations = [m.StationOut(id=s.id, name=s.name, buses=list(s.buses), feeders=list(s.feeders))
                    for s in one.trace().stations]  # fmt: skip
        return m.FeedersOut(revision=one.revision, feeders=found, stations=stations)


@api.get(
    "/projects/{project_id}/profile/{start:path}", summary="What is fed from a bus or a feeder's supply, with distances"
)
def along(start: str, one: One) -> m.ProfileOut:
    with one.lock:
        trace = one.trace()
        feeder = next((f for f in trace.feeders if f.id == start), None)
        if feeder:
            supply_bus = next(b for b in one.network[feeder.id].buses() if b not in feeder.buses)  # type: ignore[attr-defined]
            nodes, name = profile(trace, supply_bus, feeder.buses), feeder.name
        else:
            nodes, name = profile(trace, start), one.network[start].name
        return m.ProfileOut(
            revision=one.revision, start=start, name=name, bus=[n.bus for n in nodes], parent=[n.parent for n in nodes],
            element=[n.element for n in nodes], distance_km=[n.distance_km for n in nodes],
        )  # fmt: skip


# Documents


@api.post(
    "/projects/{project_id}/attachments",
    summary="Attach a file to an element (the body is the file)",
    responses=_json(m.ChangedOut),
    openapi_extra={"requestBody": {"required": True, "content": {"application/octet-stream": {
        "schema": {"type": "string", "format": "binary"}}}}},
)  # fmt: skip
async def attach(request: Request, one: One, element: str, file_name: str, base_revision: Revision) -> Response:
    data = await request.body()
    done = await run_in_threadpool(one.attach, base_revision, element, file_name, data)
    return _render.Json(_render.outcome(done))


@api.get("/projects/{project_id}/attachments/{sha256}", summary="An attached file, always as a download",
         response_class=Response)  # fmt: skip
def attached(sha256: str, one: One) -> Response:
    name, data = one.attached(sha256)
    return Response(data, media_type="application/octet-stream", headers=_download(name))


def _download(name: str) -> dict[str, str]:
    return {"content-disposition": f"attachment; filename*=UTF-8''{quote(name, safe='')}"}


# The catalogue


@api.get("/projects/{project_id}/types", summary="Search the catalogue and the network's own types")
def types(one: One, family: str, query: str = "", limit: Annotated[int, Query(ge=1, le=1000)] = 200) -> m.TypesOut:
    if family not in FAMILIES:
        raise InvalidFields([FieldProblem("catalogue", "family", family, "choose one of " + ", ".join(FAMILIES))])
    with one.lock:
        found = search(one.types(family), query)
        out = [
            m.TypeOut(
                name=t.name, family=t.family, description=t.description, series=t.series, size=t.size, basis=t.basis,
                values=dict(t.values), own=t.name in one.network, used=len(one.network.referrers(t.name)),
            )
            for t in found[:limit]
        ]  # fmt: skip
        return m.TypesOut(total=len(found), types=out)


@api.get("/projects/{project_id}/spectrum", summary="A harmonic spectrum as bars, and the waveform it makes")
def pictured(one: One, name: Annotated[str, Query(max_length=80)]) -> list[m.FigureOut]:
    with one.lock:
        found = picture_spectrum(one.network, name)
    if not found:
        raise UnknownElement(name, wanted_by="the picture of a spectrum")
    return [m.FigureOut.model_validate(plain_figure(f)) for f in found]


@api.get("/projects/{project_id}/types/export", summary="Types as CSV or XLSX", response_class=Response)
def export_types(one: One, family: str, form: Literal["csv", "xlsx"] = "csv", query: str = "") -> Response:
    if family not in FAMILIES:
        raise InvalidFields([FieldProblem("catalogue", "family", family, "choose one of " + ", ".join(FAMILIES))])
    found = search(one.types(family), query)
    data = write_types_csv(found) if form == "csv" else write_types_xlsx(found)
    media = "text/csv" if form == "csv" else "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
    return Response(data, media_type=media, headers=_download(f"{family}-types.{form}"))


@api.post(
    "/projects/{project_id}/types/import",
    summary="Types of one's own from CSV or XLSX (the body is the file)",
    responses=_json(m.ChangedOut),
    openapi_extra={"requestBody": {"required": True, "content": {"application/octet-stream": {
        "schema": {"type": "string", "format": "binary"}}}}},
)  # fmt: skip
async def import_types(request: Request, one: One, base_revision: Revision, file_name: str = "") -> Response:
    data = await request.body()
    # A large workbook is read beside the service: in it a thread would slow everybody down and could not be stopped.
    rows = (
        await workbook_rows(data, request.is_disconnected)
        if is_workbook(data) and unpacked_size(data) > _LARGE_BOOK
        else None
    )

    def work() -> Outcome:
        items = read_types(data, file_name, rows)
        return one.change(base_revision, f"Import {len(items)} types", _added_or_replaced(one, items))

    return _render.Json(_render.outcome(await run_in_threadpool(work)))


def _added_or_replaced(one: LiveSession, items: Sequence[dict[str, Any]]) -> list[Change]:
    """Changes by which items come in, in place of those that have their ids."""
    known = [i for i in items if i["id"] in one.network]
    changes: list[Change] = [Add(item=i) for i in items if i["id"] not in one.network]
    return changes + [Update(id=i["id"], values={f: v for f, v in i.items() if f not in ("kind", "id")}) for i in known]


def _taken_up(one: LiveSession, base_revision: int, read: Any, more: Sequence[str] = ()) -> Response:
    """Profiles added, or put in place of those of the same things."""
    count = len(read.items)
    label = f"Import {count} {'profile' if count == 1 else 'profiles'}"
    done = one.change(base_revision, label, _added_or_replaced(one, read.items))
    return _render.Json(_render.outcome(done) | {"notes": [*more, *read.notes]})


@api.post(
    "/projects/{project_id}/profiles/import",
    summary="Profiles from CSV, Parquet or pasted rows (the body is the file)",
    responses=_json(m.ProfilesOut),
    openapi_extra={"requestBody": {"required": True, "content": {"application/octet-stream": {
        "schema": {"type": "string", "format": "binary"}}}}},
)  # fmt: skip
async def import_profiles(
    request: Request, one: One, base_revision: Revision, zone: Annotated[str, Query(max_length=40, min_length=1)] = "UTC",
    gaps: Literal["refuse", "fill"] = "refuse",
) -> Response:  # fmt: skip
    data = await request.body()
    return await run_in_threadpool(
        lambda: _taken_up(one, base_revision, read_profiles(data, one.network, zone=zone, gaps=gaps))
    )


@api.post("/projects/{project_id}/profiles/fetch", summary="Profiles from a metering service on this machine",
          responses=_json(m.ProfilesOut))  # fmt: skip
def fetch_profiles(body: m.FetchIn, one: One) -> Response:
    data, notes = fetch_csv(body.address, body.begins, body.days)
    return _taken_up(one, body.base_revision, read_profiles(data, one.network, gaps="fill"), notes)


@api.post("/projects/{project_id}/remove", summary="Remove items with what is connected to removed buses",
          responses=_json(m.ChangedOut))  # fmt: skip
def remove(body: m.RemoveIn, one: One) -> Response:
    return _render.Json(_render.outcome(one.remove(body.base_revision, body.ids)))


@api.post(
    "/projects/{project_id}/tidy", summary="Lay the sheet, or some buses, out anew", responses=_json(m.ChangedOut)
)
def tidy(body: m.TidyIn, one: One) -> Response:
    return _render.Json(_render.outcome(one.tidy(body.base_revision, body.ids)))


@api.post("/projects/{project_id}/undo", summary="Undo the last change", responses=_json(m.ChangedOut))
def undo(one: One, rows: Rows = None, base_revision: Base = None) -> Response:
    return _render.Json(_render.outcome(one.undo(base_revision), rows))


@api.post("/projects/{project_id}/redo", summary="Redo what was undone last", responses=_json(m.ChangedOut))
def redo(one: One, rows: Rows = None, base_revision: Base = None) -> Response:
    return _render.Json(_render.outcome(one.redo(base_revision), rows))


@api.get("/projects/{project_id}/since/{revision}", summary="What changed after a revision",
         responses=_json(m.ChangedOut))  # fmt: skip
def since(revision: Revision, one: One, rows: Rows = None) -> Response:
    return _render.Json(_render.outcome(one.since(revision), rows))


@api.get("/projects/{project_id}/journal", summary="The logbook: all that was done, in order")
def journal(project_id: str, all_: All, after: Revision = 0) -> list[m.JournalLine]:
    all_.store.project(project_id)
    return [m.JournalLine(**journal_line(e)) for e in all_.store.logbook(project_id, after)]


@api.get("/projects/{project_id}/events", summary="Server-sent events: the number of every new revision, and how jobs stand",
         response_class=EventSourceResponse)  # fmt: skip
async def events(project_id: str, request: Request, all_: All) -> EventSourceResponse:
    one = await run_in_threadpool(all_.get, project_id)
    queue = one.listen()

    async def stream() -> AsyncIterator[dict[str, str]]:
        try:
            yield {"event": "revision", "data": str(one.revision)}
            while True:
                told = await queue.get()
                if isinstance(told, int):
                    yield {"event": "revision", "data": str(told)}
                else:
                    yield {"event": "job", "data": orjson.dumps(told).decode()}
        finally:
            one.forget(queue)

    return EventSourceResponse(stream(), ping=15)
