"""The network's own equipment types: like those of the catalogue, but kept and changed with the project."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import AfterValidator, Field, model_validator

from ...catalogue import FAMILIES, find_type
from ..fields import When, choice, quantity
from ..items import Item
from ._harmonics import Spectrum, spectrum_field, spectrum_rows, spectrum_values
from ._rows import Rows

_Value = Annotated[float, Field(allow_inf_nan=False, ge=-1e9, le=1e9)] | Annotated[str, Field(max_length=80)]


def _known(name: str) -> str:
    if name not in FAMILIES:
        raise ValueError("no such family")
    return name


_SPECTRUM: When = {"family": ("spectrum",)}


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
    orders: Rows | None = spectrum_field(
        "Orders", "Of a spectrum, in place of its values: order, per cent of the fundamental, and angle in degrees where one is "
        "known: 5 38 180; 7 14; 11.5 2", _SPECTRUM,
    )  # fmt: skip
    orders_75: Rows | None = spectrum_field("At 75 %", "The same at three quarters of rating", _SPECTRUM)
    orders_50: Rows | None = spectrum_field("At 50 %", "The same at half of rating", _SPECTRUM)
    orders_25: Rows | None = spectrum_field("At 25 %", "The same at a quarter of rating", _SPECTRUM)

    @model_validator(mode="after")
    def _own_name(self) -> Self:
        for field in ("orders", "orders_75", "orders_50", "orders_25"):
            if text := getattr(self, field):
                spectrum_rows(field, text)
        if find_type(self.family, self.id):
            raise ValueError("id: a type of the catalogue has this name already; choose another one")
        return self

    def spectra(self) -> dict[float, Spectrum]:
        """Spectra by share of rating, those that are given; of its values at 1 where no orders are."""
        found = {}
        for share, field in ((1.0, "orders"), (0.75, "orders_75"), (0.5, "orders_50"), (0.25, "orders_25")):
            if text := getattr(self, field):
                found[share] = spectrum_rows(field, text)
        return found or {1.0: spectrum_values(self.values)}
