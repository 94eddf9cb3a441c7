"""Errors of the core and the store as problem details (RFC 9457): one table, no exceptions to it."""

from __future__ import annotations

from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from pydantic_core import to_jsonable_python
from starlette.exceptions import HTTPException

from ..core.errors import (
    DataError,
    DuplicateElement,
    InvalidFields,
    StillReferenced,
    UnknownElement,
    UnreadableFile,
    VastMeshError,
)
from ..core.sift import SiftError
from ..store import ProjectGone, StaleRevision, UnknownProject, UnknownRun
from ._sessions import RevisionConflict

STATUS: dict[type[VastMeshError], int] = {
    UnknownElement: 404,
    UnknownProject: 404,
    UnknownRun: 404,
    ProjectGone: 410,
    RevisionConflict: 409,
    StaleRevision: 409,
    DuplicateElement: 409,
    StillReferenced: 409,
    DataError: 422,
    VastMeshError: 400,
}
MEDIA_TYPE = "application/problem+json"


def problem(status: int, code: str, title: str, detail: str, **more: Any) -> JSONResponse:
    body = {"type": f"/problems/{code}", "title": title, "status": status, "detail": detail, "code": code,
            "errors": [], **more}  # fmt: skip
    return JSONResponse(to_jsonable_python(body, fallback=str), status_code=status, media_type=MEDIA_TYPE)


def install(app: FastAPI) -> None:
    """Let every error leave the application as problem details."""

    @app.exception_handler(VastMeshError)
    def core_error(request: Request, error: VastMeshError) -> JSONResponse:
        status = next(STATUS[c] for c in type(error).__mro__ if c in STATUS)
        more: dict[str, Any] = {}
        if isinstance(error, InvalidFields):
            more["errors"] = [vars(p) for p in error.problems]
        elif isinstance(error, UnreadableFile):
            more["line"] = error.line
            more["errors"] = [{"element": "file", "field": error.field, "value": None, "allowed": error.reason}]
        elif isinstance(error, SiftError):
            more["errors"] = [{"element": "sift", "field": "text", "value": error.position, "allowed": str(error)}]
        elif isinstance(error, RevisionConflict):
            more["revision"] = error.revision
            more["errors"] = [{"element": i, "field": f, "value": None, "allowed": "changed meanwhile"}
                              for i, f in error.fields]  # fmt: skip
            more["changes_since"] = [journal_line(e) for e in error.entries]
        elif isinstance(error, UnknownElement | DuplicateElement | StillReferenced):
            more["errors"] = [{"element": error.element, "field": "id", "value": error.element, "allowed": str(error)}]
        return problem(status, error.code, error.code.replace("-", " ").capitalize(), str(error), **more)

    @app.exception_handler(RequestValidationError)
    def bad_request(request: Request, error: RequestValidationError) -> JSONResponse:
        errors = [
            {"element": "request", "field": ".".join(str(p) for p in e["loc"]), "value": _short(e.get("input")),
             "allowed": e["msg"]}
            for e in error.errors()
        ]  # fmt: skip
        detail = ". ".join(f"{e['field']}: {e['allowed']}" for e in errors[:5])
        return problem(422, "invalid-request", "Invalid request", detail, errors=errors)

    @app.exception_handler(HTTPException)
    def http_error(request: Request, error: HTTPException) -> JSONResponse:
        return problem(error.status_code, f"http-{error.status_code}", str(error.detail), str(error.detail))


def _short(value: Any) -> Any:
    text = str(value)
    return text if len(text) <= 200 else text[:200] + "..."


def journal_line(entry: Any) -> dict[str, Any]:
    """A journal entry in words: what the interface shows as the logbook."""
    items = dict.fromkeys(c.item["id"] if c.op == "add" else c.id for c in entry.changes)
    return {"revision": entry.revision, "at": entry.at, "label": entry.label, "kind": entry.kind.value,
            "items": list(items)[:50]}  # fmt: skip
