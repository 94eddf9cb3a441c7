from __future__ import annotations

from typing import Literal

from ..fields import catalogue_type, choice, quantity, reference
from ..items import Conductors, Element, Role


class Electrode(Element):
    """An earthing electrode: joins the neutral of a bus to remote earth through its resistance."""

    label, plural = "Earthing electrode", "Earthing electrodes"
    role = Role.EARTH

    kind: Literal["electrode"] = "electrode"
    bus: str = reference("Bus", "Bus whose neutral it earths", to="bus", terminal=True)
    type: str | None = catalogue_type("electrode", "Rods or strip that give the resistance")
    resistance_ohm: float | None = quantity("Resistance", "To remote earth", unit="Ω", gt=0, le=1e6, required=True)
    reactance_ohm: float = quantity("Reactance", "Of the lead and the electrode", unit="Ω", default=0.0, ge=0, le=1e6)
    conductors: Conductors = choice("Conductors", "It earths the neutral", default="N")
