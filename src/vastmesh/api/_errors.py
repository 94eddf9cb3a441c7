"""Errors of the core and the store as problem details (RFC 9457): one table, no exceptions to it."""

from __future__ import annotations

import logging
from math import isfinite
from typing import Any

import orjson
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from pydantic_core import to_jsonable_python
from sqlalchemy.exc import SQLAlchemyError
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
from ..runner import UnknownJob
from ..store import (
    BeyondRepair,
    DamagedRow,
    ProjectGone,
    ReadOnly,
    StaleRevision,
    StoreUnusable,
    UnknownProject,
    UnknownRun,
    in_words,
)
from ._sessions import RevisionConflict

STATUS: dict[type[VastMeshError], int] = {
    UnknownElement: 404,
    UnknownProject: 404,
    UnknownRun: 404,
    UnknownJob: 404,
    ProjectGone: 410,
    RevisionConflict: 409,
    StaleRevision: 409,
    DuplicateElement: 409,
    StillReferenced: 409,
    StoreUnusable: 503,
    BeyondRepair: 410,
    DamagedRow: 409,
    ReadOnly: 409,
    DataError: 422,
    VastMeshError: 400,
}
_log = logging.getLogger(__name__)
_MOST_TOLD = 50
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
            more["errors"] = [{**vars(p), "value": _short(p.value)} for p in error.problems[:_MOST_TOLD]]
            more["left_untold"] = max(len(error.problems) - _MOST_TOLD, 0)
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

    @app.exception_handler(SQLAlchemyError)
    def database_error(request: Request, error: SQLAlchemyError) -> JSONResponse:
        _log.error("the database refused", exc_info=error)
        found = in_words(error, "The database")
        return problem(503, f"store-{found.reason}", "The projects can't be read or written", str(found))

    @app.exception_handler(UnicodeEncodeError)
    @app.exception_handler(orjson.JSONEncodeError)
    def half_characters(request: Request, error: Exception) -> JSONResponse:
        if isinstance(error, orjson.JSONEncodeError) and "surrogate" not in str(error):
            raise error
        text = "A text holds half a character (a lone surrogate), which can be neither kept nor found. Write it anew."
        return problem(422, "invalid-text", "Invalid text", text)

    @app.exception_handler(RequestValidationError)
    def bad_request(request: Request, error: RequestValidationError) -> JSONResponse:
        found = error.errors()
        errors = [
            {"element": "request", "field": ".".join(str(p) for p in e["loc"])[:200], "value": _short(e.get("input")),
             "allowed": _allowed(e)}
            for e in found[:_MOST_TOLD]
        ]  # fmt: skip
        detail = ". ".join(f"{e['field']}: {e['allowed']}" for e in errors[:5])
        if len(found) > len(errors):
            detail += f". And {len(found) - len(errors)} more of the kind."
        return problem(422, "invalid-request", "Invalid request", detail, errors=errors)

    @app.exception_handler(HTTPException)
    def http_error(request: Request, error: HTTPException) -> JSONResponse:
        return problem(error.status_code, f"http-{error.status_code}", str(error.detail), str(error.detail))


def _short(value: Any) -> Any:
    """A value as it may be told: plain figures as they are, all else as a text of bounded length."""
    if value is None or isinstance(value, bool) or (isinstance(value, int) and abs(value) < 2**53):
        return value
    if isinstance(value, float) and isfinite(value):
        return value
    try:
        text = value if isinstance(value, str) else str(value)
    except (RecursionError, ValueError):
        text = "something nested too deeply"
    text = text.encode("utf-8", "replace").decode("utf-8")
    return text if len(text) <= 200 else text[:200] + "..."


# The validation library's kinds of refusal in words of ours; {…} are taken from what it tells of the case.
_SAID = {
    "missing": "it is missing", "extra_forbidden": "there is no such field",
    "greater_than": "enter a number above {gt}", "greater_than_equal": "enter a number from {ge}",
    "less_than": "enter a number below {lt}", "less_than_equal": "enter a number up to {le}",
    "int_parsing": "enter a whole number", "int_type": "enter a whole number", "int_from_float": "enter a whole number",
    "int_parsing_size": "enter a smaller whole number", "float_parsing": "enter a number", "float_type": "enter a number",
    "finite_number": "enter a finite number", "bool_parsing": "enter true or false", "bool_type": "enter true or false",
    "string_type": "enter a text", "string_too_short": "enter at least {min_length} characters",
    "string_too_long": "enter at most {max_length} characters", "string_pattern_mismatch": "it is not of the form expected",
    "string_unicode": "enter a text of valid characters", "too_short": "give at least {min_length}",
    "too_long": "give at most {max_length}", "list_type": "give a list", "tuple_type": "give a list",
    "dict_type": "give names with values", "literal_error": "choose one of {expected}", "enum": "choose one of {expected}",
    "json_invalid": "the body is not JSON: {error}", "union_tag_invalid": "choose one of {expected_tags}",
    "union_tag_not_found": "say which kind it is", "model_type": "give an object", "model_attributes_type": "give an object",
    "value_error": "{error}",
}  # fmt: skip


def _allowed(error: dict[str, Any]) -> str:
    words, more = _SAID.get(error["type"]), error.get("ctx") or {}
    if words is None:
        return "it is not of the form expected; the description of the interface tells which"
    try:
        return words.format(**{k: _short(v) for k, v in more.items()})
    except (KeyError, IndexError):
        return "it is not of the form expected"


def journal_line(entry: Any) -> dict[str, Any]:
    """A journal entry in words: what the interface shows as the logbook."""
    items = dict.fromkeys(c.item["id"] if c.op == "add" else c.id for c in entry.changes)
    return {"revision": entry.revision, "at": entry.at, "label": entry.label, "kind": entry.kind.value,
            "items": list(items)[:50]}  # fmt: skip
