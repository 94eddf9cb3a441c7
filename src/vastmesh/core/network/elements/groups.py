"""Items that group buses."""

from __future__ import annotations

from typing import Literal

from ..fields import reference
from ..items import Item


class Area(Item):
    """A part of the network for totals and exchange."""

    label, plural = "Area", "Areas"

    kind: Literal["area"] = "area"


class Substation(Item):
    """A site with one or several bus bars."""

    label, plural = "Substation", "Substations"

    kind: Literal["substation"] = "substation"
    area: str | None = reference("Area", "Area the substation belongs to", to="area", default=None)
