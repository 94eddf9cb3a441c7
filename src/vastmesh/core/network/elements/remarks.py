"""Items that say something about others: acknowledged findings, and what lies behind the map."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from ..fields import choice, reference
from ..fields import quantity as figure
from ..items import Attachment, Item


class Acknowledgement(Item):
    """A finding that somebody has looked at: it stays in the list, marked, until it gets worse."""

    label, plural = "Acknowledged finding", "Acknowledged findings"

    kind: Literal["acknowledgement"] = "acknowledgement"
    element: str = reference("Element", "The element the finding is about", to="element")
    quantity: Annotated[str, Field(min_length=1, max_length=60)] = choice("Quantity", "What is outside its limit")
    value: float | None = figure("Value", "The figure when it was acknowledged", unit="1", default=None)
    note: Annotated[str, Field(max_length=2000)] = choice("Note", "Why it may stay", default="")


class Backdrop(Item):
    """A map behind the network: coastline, roads and settlements as GeoJSON, kept in the project."""

    label, plural = "Map backdrop", "Map backdrops"
    listed = removable = False

    kind: Literal["backdrop"] = "backdrop"
    file: Attachment | None = choice("File", "GeoJSON with WGS 84 coordinates", default=None)
