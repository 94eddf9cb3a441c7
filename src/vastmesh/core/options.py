"""Options of calculations, from plain values."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from .errors import FieldProblem, InvalidFields

OptionsT = TypeVar("OptionsT", bound=BaseModel)


def options_of(model: type[OptionsT], values: Mapping[str, Any]) -> OptionsT:
    """Options from plain values. Raises :class:`InvalidFields` that names option, value and what is allowed."""
    try:
        return model.model_validate(dict(values))
    except ValidationError as error:
        known = ", ".join(model.model_fields)
        problems = []
        for e in error.errors():
            where = ".".join(map(str, e["loc"])) or "options"
            allowed = (
                f"the options are {known}" if e["type"] == "extra_forbidden" else e["msg"].removeprefix("Value error, ")
            )
            problems.append(FieldProblem("options", where, e.get("input"), allowed))
        raise InvalidFields(problems) from None
