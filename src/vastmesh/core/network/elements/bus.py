from __future__ import annotations

from typing import Literal

from ..fields import choice, place, quantity, reference
from ..items import Role
from ._failing import Failing


class Bus(Failing):
    """A node of the network at which equipment is connected, with one nominal voltage."""

    label, plural = "Bus", "Buses"
    role = Role.NODE

    kind: Literal["bus"] = "bus"
    nominal_kv: float | None = quantity(
        "Nominal voltage", "Nominal line-to-line voltage; base of the per-unit voltage", unit="kV", gt=0, le=1500,
        required=True,
    )  # fmt: skip
    area: str | None = reference("Area", "Area the bus belongs to", to="area", default=None)
    substation: str | None = reference("Substation", "Substation the bus stands in", to="substation", default=None)
    limits: str | None = reference("Voltage limits", "Limits of this bus; those of its nominal voltage when blank",
                                   to="voltage_limits", default=None)  # fmt: skip
    x: float | None = place("Sheet x", "Position of the bus on the schematic, to the right")
    y: float | None = place("Sheet y", "Position of the bus on the schematic, downwards")
    bar: float | None = place("Bar length", "Length of the bus bar on the schematic")
    longitude: float | None = place("Longitude", "East of Greenwich, WGS 84", unit="°", ge=-180, le=180)
    latitude: float | None = place("Latitude", "North of the equator, WGS 84", unit="°", ge=-85, le=85)
    neutral: Literal["free", "earthed"] = choice(
        "Neutral", "Free: earthed only by electrodes and star points; earthed: joined to earth without impedance",
        default="free", group="phases",
    )  # fmt: skip
    split_phase: bool = choice(
        "Split phase", "A and B are the two ends of a centre-tapped winding, N its middle: each is half the nominal "
        "voltage from N", default=False, group="phases",
    )  # fmt: skip
    upright: bool = choice("Upright", "The bar stands upright on the schematic", default=False, group="place")
