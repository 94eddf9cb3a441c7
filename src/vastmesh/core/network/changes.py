"""Changes: the only way in which a network alters. Each is data, and each has an inverse."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from .items import Origin


class _Change(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Add(_Change):
    """Add an item; ``before`` names the item in front of which it is put (the end when blank)."""

    op: Literal["add"] = "add"
    item: dict[str, Any]
    before: str | None = None


class Update(_Change):
    """Set fields of an item. What is set counts as entered unless ``origins`` says otherwise."""

    op: Literal["update"] = "update"
    id: str
    values: dict[str, Any]
    origins: dict[str, Origin] = Field(default_factory=dict)


class Remove(_Change):
    """Remove an item that nothing refers to (any more, once the whole group is applied)."""

    op: Literal["remove"] = "remove"
    id: str


Change = Annotated[Add | Update | Remove, Field(discriminator="op")]


def touched_fields(change: Add | Update | Remove) -> set[tuple[str, str]]:
    """(item, field) pairs a change writes; field ``*`` for the item as a whole."""
    match change:
        case Add(item=item):
            return {(str(item.get("id")), "*")}
        case Update(id=ident, values=values):
            return {(ident, field) for field in values}
        case Remove(id=ident):
            return {(ident, "*")}


def conflicts(mine: list[Change], theirs: list[Change]) -> set[tuple[str, str]]:
    """Fields that both lists write: two changes of one field are a conflict."""
    return clashing({f for c in mine for f in touched_fields(c)}, {f for c in theirs for f in touched_fields(c)})


def clashing(a: set[tuple[str, str]], b: set[tuple[str, str]]) -> set[tuple[str, str]]:
    """(item, field) pairs of two sets that can't both stand."""
    whole_a, whole_b = {i for i, f in a if f == "*"}, {i for i, f in b if f == "*"}
    return (a & b) | {p for p in a if p[0] in whole_b} | {p for p in b if p[0] in whole_a}
