"""Items that group buses."""

from __future__ import annotations

from typing import Literal

from ..fields import quantity, reference
from ..items import Item


class Area(Item):
    """A part of the network for totals and exchange."""

    label, plural = "Area", "Areas"

    kind: Literal["area"] = "area"
    export_mw: float | None = quantity(
        "Agreed export", "Active power the area shall give to the others; its machines with a participation see to it",
        unit="MW", ge=-1e6, le=1e6,
    )  # fmt: skip


class Substation(Item):
    """A site with one or several bus bars."""

    label, plural = "Substation", "Substations"

    kind: Literal["substation"] = "substation"
    area: str | None = reference("Area", "Area the substation belongs to", to="area", default=None)
