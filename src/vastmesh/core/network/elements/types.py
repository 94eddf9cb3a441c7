"""The network's own equipment types: like those of the catalogue, but kept and changed with the project."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import AfterValidator, Field, model_validator

from ...catalogue import FAMILIES, find_type
from ..fields import choice, quantity
from ..items import Item

_Value = Annotated[float, Field(allow_inf_nan=False, ge=-1e9, le=1e9)] | Annotated[str, Field(max_length=80)]


def _known(name: str) -> str:
    if name not in FAMILIES:
        raise ValueError("no such family")
    return name


class OwnType(Item):
    """An equipment type of the network's own: the fields it gives, by name."""

    label, plural = "Own type", "Own types"

    kind: Literal["own_type"] = "own_type"
    family: Annotated[str, AfterValidator(_known)] = choice(
        "Family", "Kind of equipment: " + ", ".join(FAMILIES), default="line"
    )
    description: Annotated[str, Field(max_length=200)] = choice("Description", "What it is, for searching", default="")
    series: Annotated[str, Field(max_length=80)] = choice(
        "Series", "Types of one series differ only in size", default="own types"
    )
    size: float = quantity("Size", "Place in its series", unit="1", default=0.0, ge=0, le=1e9)
    values: dict[str, _Value] = choice("Values", "Field names with the values the type gives", default={})

    @model_validator(mode="after")
    def _own_name(self) -> Self:
        if find_type(self.family, self.id):
            raise ValueError("id: a type of the catalogue has this name already; choose another one")
        return self
