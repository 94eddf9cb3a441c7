"""Routes: they translate, they do not compute."""

from __future__ import annotations

from collections.abc import AsyncIterator
from dataclasses import asdict
from typing import Annotated, Any
from urllib.parse import quote

from fastapi import APIRouter, Depends, Query, Request, Response
from sse_starlette import EventSourceResponse
from starlette.concurrency import run_in_threadpool

from .. import __version__
from ..core.layout import place
from ..core.network import REGISTRY, SHOOTS, Element, Network, first_bus, specs, with_rules
from ..core.studies import STUDIES
from ..exchange import FORMATS, Imported, read_network, write_network
from ..store import ProjectInfo
from . import _models as m
from . import _render
from ._errors import journal_line
from ._security import UPLOAD_LIMIT
from ._sessions import LiveSession, Sessions

api = APIRouter(prefix="/api", responses={s: {"model": m.Problem} for s in (404, 409, 410, 413, 422)})


def sessions(request: Request) -> Sessions:
    found: Sessions = request.app.state.sessions
    return found


def session(project_id: str, all_: Annotated[Sessions, Depends(sessions)]) -> LiveSession:
    return all_.get(project_id)


All = Annotated[Sessions, Depends(sessions)]
One = Annotated[LiveSession, Depends(session)]
Rows = Annotated[str | None, Query(description="Token of rows the client has: their fixed columns are left out")]


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
                fields=list(specs(cls).values()),
            )
            for kind, cls in REGISTRY.items()
        ],
        shoots=[m.ShootOut(name=s.name, label=s.label, meaning=s.meaning) for s in SHOOTS.values()],
        formats={f.name: f.label for f in FORMATS.values()},
        upload_limit_bytes=UPLOAD_LIMIT,
    )  # fmt: skip


@api.get("/studies", summary="Studies with the schemas of their options")
def studies() -> list[m.StudyOut]:
    return [
        m.StudyOut(name=s.name, label=s.label, purpose=s.purpose, options=s.options.model_json_schema())
        for s in STUDIES.values()
    ]


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


@api.get(
    "/projects/{project_id}", summary="Open a project: its items and its live result", responses=_json(m.OpenedOut)
)
def open_project(project_id: str, one: One, all_: All) -> Response:
    with one.lock:
        undo, redo = one.words()
        body = {
            "project": asdict(all_.store.project(project_id)),
            "items": one.items(),
            "history": {"undo": undo, "redo": redo},
            "live": _render.live(one.solve()),
        }
    return _render.Json(body)


@api.get("/projects/{project_id}/export/{format_name}", summary="The network as a file", response_class=Response)
def export(project_id: str, format_name: str, one: One, all_: All) -> Response:
    info = all_.store.project(project_id)
    with one.lock:
        data = write_network(one.network, info.name, format_name)
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
    solved = one.solve(demand=body.demand_factor, generation=body.generation_factor)
    return _render.Json(_render.live(solved, rows))


@api.post("/projects/{project_id}/changes", summary="Apply a group of changes as one", responses=_json(m.ChangedOut))
def change(body: m.ChangeIn, one: One) -> Response:
    return _render.Json(_render.outcome(one.change(body.base_revision, body.label, list(body.changes))))


@api.post("/projects/{project_id}/grow", summary="Grow something at a bus", responses=_json(m.ChangedOut))
def grow(body: m.GrowIn, one: One) -> Response:
    return _render.Json(_render.outcome(one.grow(body.base_revision, body.bus, body.what)))


@api.post("/projects/{project_id}/remove", summary="Remove items with what is connected to removed buses",
          responses=_json(m.ChangedOut))  # fmt: skip
def remove(body: m.RemoveIn, one: One) -> Response:
    return _render.Json(_render.outcome(one.remove(body.base_revision, body.ids)))


@api.post("/projects/{project_id}/tidy", summary="Lay the sheet out anew", responses=_json(m.ChangedOut))
def tidy(body: m.TidyIn, one: One) -> Response:
    return _render.Json(_render.outcome(one.tidy(body.base_revision)))


@api.post("/projects/{project_id}/undo", summary="Undo the last change", responses=_json(m.ChangedOut))
def undo(one: One) -> Response:
    return _render.Json(_render.outcome(one.undo()))


@api.post("/projects/{project_id}/redo", summary="Redo what was undone last", responses=_json(m.ChangedOut))
def redo(one: One) -> Response:
    return _render.Json(_render.outcome(one.redo()))


@api.get("/projects/{project_id}/since/{revision}", summary="What changed after a revision",
         responses=_json(m.ChangedOut))  # fmt: skip
def since(revision: int, one: One) -> Response:
    return _render.Json(_render.outcome(one.since(revision)))


@api.get("/projects/{project_id}/journal", summary="The logbook: all that was done, in order")
def journal(project_id: str, all_: All, after: int = 0) -> list[m.JournalLine]:
    all_.store.project(project_id)
    return [m.JournalLine(**journal_line(e)) for e in all_.store.since(project_id, after)]


@api.get("/projects/{project_id}/events", summary="Server-sent events: the number of every new revision",
         response_class=EventSourceResponse)  # fmt: skip
async def events(project_id: str, request: Request, all_: All) -> EventSourceResponse:
    one = await run_in_threadpool(all_.get, project_id)
    queue = one.listen()

    async def stream() -> AsyncIterator[dict[str, str]]:
        try:
            yield {"event": "revision", "data": str(one.revision)}
            while True:
                yield {"event": "revision", "data": str(await queue.get())}
        finally:
            one.forget(queue)

    return EventSourceResponse(stream(), ping=15)
