"""Routes of kept runs, map and pictures."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import orjson
from fastapi import APIRouter, Request, Response
from starlette.concurrency import run_in_threadpool

from ..core.errors import FieldProblem, InvalidFields
from ..core.geography import lengths_from_routes, map_from_schematic, schematic_from_map
from ..core.network import Add, Attachment, Backdrop, Change, Update, layered
from ..errands import run_errand
from ..reports import PAPERS
from ..store import RunInfo
from . import _models as m
from . import _render
from ._routes import All, One, Revision, _download, _json

reading = APIRouter(prefix="/api", responses={s: {"model": m.Problem} for s in (404, 409, 410, 413, 422)})
_MOST_BACKDROP = 16 * 2**20


def _info(info: RunInfo) -> dict[str, Any]:
    return asdict(info)


@reading.get("/projects/{project_id}/runs", summary="Kept runs, the newest first")
def runs(project_id: str, all_: All) -> list[m.RunInfoOut]:
    return [m.RunInfoOut(**_info(r)) for r in all_.store.runs(project_id)]


@reading.get("/projects/{project_id}/runs/{run_id}", summary="A kept run in full", responses=_json(m.RunOut))
def kept_run(run_id: str, one: One) -> Response:
    info, facts, result = one.kept(run_id)
    return _render.Json({"run": _info(info), "options": facts["options"], "condition": facts["condition"],
                         "result": _render.study(result)})  # fmt: skip


@reading.get("/projects/{project_id}/runs/{run_id}/picture", summary="The network as it stood when a run was made",
             responses=_json(m.RunPictureOut))  # fmt: skip
def run_picture(run_id: str, one: One) -> Response:
    info, _, result = one.kept(run_id)
    network = layered(one.store.load_at(one.project_id, info.revision)).network
    return _render.Json({"run": _info(info), "items": network.to_items(), "result": _render.study(result)})


@reading.patch("/projects/{project_id}/runs/{run_id}", summary="Name a run, or put a note to it")
def describe_run(run_id: str, body: m.DescribeIn, one: One) -> m.RunInfoOut:
    found = one.store.describe_run(one.project_id, run_id, name=body.name, note=body.note)
    one.forget_kept(run_id)
    return m.RunInfoOut(**_info(found))


@reading.delete("/projects/{project_id}/runs/{run_id}", status_code=204, summary="Remove a kept run")
def forget_run(run_id: str, one: One) -> None:
    one.store.forget_run(one.project_id, run_id)
    one.forget_kept(run_id)


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
async def put_backdrop(request: Request, one: One, base_revision: Revision, file_name: str = "map.geojson") -> Response:
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
async def picture(request: Request, body: m.PictureIn, one: One) -> Response:
    # Setting a picture keeps the interpreter busy for seconds: beside the service that is nobody's wait but the asker's.
    data = await run_errand("pdf", orjson.dumps(body.model_dump()), gone=request.is_disconnected)
    return Response(data, media_type="application/pdf", headers=_download(f"{body.title or 'Sheet'}.pdf"))
