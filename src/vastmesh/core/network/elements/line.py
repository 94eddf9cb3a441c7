from __future__ import annotations

from typing import Any, Literal, Self

from pydantic import model_validator

from ...catalogue import LINE_TYPES
from ..fields import choice, quantity, reference
from ..items import Element, Origin


class Line(Element):
    """An overhead line or cable between two buses of one nominal voltage."""

    label, plural = "Line", "Lines"

    kind: Literal["line"] = "line"
    from_bus: str = reference("From bus", "Bus at the sending end", to="bus", terminal=True)
    to_bus: str = reference("To bus", "Bus at the receiving end", to="bus", terminal=True)
    type: str | None = choice(
        "Catalogue type", "Conductor or cable type that gives resistance, reactance, susceptance and rating",
        default=None,
    )  # fmt: skip
    length_km: float | None = quantity("Length", "Route length", unit="km", gt=0, le=2000, required=True)
    r_ohm_per_km: float | None = quantity(
        "Resistance", "Positive-sequence resistance of one circuit per km", unit="Ω/km", ge=0, le=1000, required=True
    )
    x_ohm_per_km: float | None = quantity(
        "Reactance", "Positive-sequence series reactance of one circuit per km", unit="Ω/km", ge=-1000, le=1000,
        required=True,
    )  # fmt: skip
    b_us_per_km: float = quantity(
        "Susceptance", "Positive-sequence shunt susceptance of one circuit per km", unit="µS/km", default=0.0, ge=0,
        le=1e9, typical=True,
    )  # fmt: skip
    parallel: int = quantity("Circuits", "Number of equal circuits in parallel", unit="1", default=1, ge=1, le=20)
    rating_a: float | None = quantity("Rating", "Continuous current of one circuit", unit="A", gt=0, le=100000)
    emergency_rating_a: float | None = quantity(
        "Emergency rating", "Current of one circuit allowed for a limited time", unit="A", gt=0, le=100000
    )

    @model_validator(mode="before")
    @classmethod
    def _fill_from_catalogue(cls, data: Any) -> Any:
        """Blank constants are taken from the catalogue type and marked so."""
        if not isinstance(data, dict) or not isinstance(name := data.get("type"), str):
            return data
        if name not in LINE_TYPES:
            raise ValueError(f"type: there is no such type in the catalogue; for example {next(iter(LINE_TYPES))!r}")
        blank = {f: v for f, v in LINE_TYPES[name].constants().items() if data.get(f) is None}
        return {**data, **blank, "origins": {**data.get("origins", {}), **dict.fromkeys(blank, Origin.CATALOGUE)}}

    @model_validator(mode="after")
    def _has_impedance(self) -> Self:
        if self.from_bus == self.to_bus:
            raise ValueError("to_bus: a line joins two different buses")
        if self.r_ohm_per_km == 0 and self.x_ohm_per_km == 0:
            raise ValueError("x_ohm_per_km: resistance and reactance are both zero; enter one, or use a closed switch")
        return self

    def reconcile(self, values: dict[str, Any]) -> dict[str, Any]:
        """A new type replaces every constant the catalogue gives, unless it is given as well."""
        if values.get("type") is None:
            return values
        return {**dict.fromkeys(("r_ohm_per_km", "x_ohm_per_km", "b_us_per_km", "rating_a")), **values}
