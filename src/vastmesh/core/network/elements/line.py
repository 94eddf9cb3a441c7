from __future__ import annotations

from typing import Annotated, Any, Literal, Self

from pydantic import Field, model_validator

from ..fields import catalogue_type, choice, quantity, reference
from ..items import Origin, Role
from ._failing import Failing, Gear, brief_failures, failures, gear
from ._harmonics import ResistanceTable, resistance_table

_BY_GEOMETRY = {
    "r_ohm_per_km",
    "x_ohm_per_km",
    "b_us_per_km",
    "r0_ohm_per_km",
    "x0_ohm_per_km",
    "b0_us_per_km",
    "rating_a",
}

_COUPLED = {"beside": ("~",)}

Bend = tuple[Annotated[float, Field(ge=-180, le=180)], Annotated[float, Field(ge=-85, le=85)]]
Route = Annotated[tuple[Bend, ...], Field(max_length=2000)]


class Line(Failing):
    """An overhead line or cable between two buses of one nominal voltage.

    Its constants are entered, taken from a catalogue type, or computed from a geometry.
    """

    label, plural = "Line", "Lines"
    role, side_by_side = Role.BRANCH, True

    kind: Literal["line"] = "line"
    from_bus: str = reference("From bus", "Bus at the sending end", to="bus", terminal=True)
    to_bus: str = reference("To bus", "Bus at the receiving end", to="bus", terminal=True)
    type: str | None = catalogue_type(
        "line", "Conductor or cable type that gives resistance, reactance, susceptance and rating"
    )
    geometry: str | None = reference(
        "Geometry", "Conductor geometry or cable construction from which the constants are computed", to="line_geometry",
        default=None,
    )  # fmt: skip
    construction: Literal["overhead", "cable"] = choice(
        "Construction", "Overhead line or cable", default="overhead", typical=True
    )
    length_km: float | None = quantity("Length", "Route length", unit="km", gt=0, le=2000, required=True)
    r_ohm_per_km: float | None = quantity(
        "Resistance", "Positive-sequence resistance of one circuit per km", unit="Ω/km", ge=0, le=1000
    )
    x_ohm_per_km: float | None = quantity(
        "Reactance", "Positive-sequence series reactance of one circuit per km", unit="Ω/km", ge=-1000, le=1000
    )
    b_us_per_km: float | None = quantity(
        "Susceptance", "Positive-sequence shunt susceptance of one circuit per km; none when blank", unit="µS/km", ge=0,
        le=1e9,
    )  # fmt: skip
    parallel: int = quantity("Circuits", "Number of equal circuits in parallel", unit="1", default=1, ge=1, le=20)
    rating_a: float | None = quantity("Rating", "Continuous current of one circuit", unit="A", gt=0, le=100000)
    emergency_rating_a: float | None = quantity(
        "Emergency rating", "Current of one circuit allowed for hours", unit="A", gt=0, le=100000
    )
    short_time_rating_a: float | None = quantity(
        "Short-time rating", "Current of one circuit allowed for minutes; the emergency rating when blank", unit="A", gt=0,
        le=100000,
    )  # fmt: skip
    route: Route | None = choice(
        "Route", "Bends between the ends on the map, from the from end: longitude and latitude in degrees", default=None,
        group="place",
    )  # fmt: skip
    loading_limit_pct: float | None = quantity(
        "Highest loading", "Highest loading allowed here; that of the network when blank", unit="%", gt=0, le=1000
    )
    angle_limit_deg: float | None = quantity(
        "Highest angle", "Between the voltages of its ends, in an optimal flow; any when blank", unit="°", gt=0, le=90,
        group="dispatch",
    )  # fmt: skip
    r0_ohm_per_km: float | None = quantity(
        "Resistance, zero",
        "Zero-sequence resistance of one circuit per km",
        unit="Ω/km",
        ge=0,
        le=1000,
        group="sequence",
    )
    x0_ohm_per_km: float | None = quantity(
        "Reactance, zero", "Zero-sequence reactance of one circuit per km", unit="Ω/km", ge=-1000, le=1000,
        group="sequence",
    )  # fmt: skip
    b0_us_per_km: float | None = quantity(
        "Susceptance, zero",
        "Zero-sequence susceptance of one circuit per km",
        unit="µS/km",
        ge=0,
        le=1e9,
        group="sequence",
    )
    beside: str | None = reference(
        "Coupled with", "Line on the same towers: per phase, the zero-sequence current of each induces a voltage in the other",
        to="line", default=None, group="sequence",
    )  # fmt: skip
    beside_km: float | None = quantity(
        "Coupled length", "Length on the same towers; that of the shorter line when blank", unit="km", gt=0, le=2000,
        group="sequence", when=_COUPLED,
    )  # fmt: skip
    beside_way: Literal["same", "opposite"] = choice(
        "Direction", "Whether both lines are entered in the same direction along the towers", default="same", group="sequence",
        when=_COUPLED,
    )  # fmt: skip
    beside_m: float | None = quantity(
        "Circuits apart", "Between the centres of both circuits, from which their coupling follows; 6 m when blank", unit="m",
        gt=0, le=1000, group="sequence", when=_COUPLED,
    )  # fmt: skip
    beside_r0_ohm_per_km: float | None = quantity(
        "Resistance, mutual", "Zero-sequence mutual resistance; from the distance apart when blank", unit="Ω/km", ge=0, le=1000,
        group="sequence", when=_COUPLED,
    )  # fmt: skip
    beside_x0_ohm_per_km: float | None = quantity(
        "Reactance, mutual", "Zero-sequence mutual reactance; from the distance apart when blank", unit="Ω/km", ge=0, le=1000,
        group="sequence", when=_COUPLED,
    )  # fmt: skip
    matrix: str | None = reference(
        "Matrix", "Full matrix over the conductors, in place of all other constants; balanced, its positive sequence counts",
        to="line_matrix", default=None, group="phases",
    )  # fmt: skip
    neutral: Literal["kept", "reduced"] = choice(
        "Neutral", "Kept: a conductor of its own; reduced: earthed so often along the route that its voltage is zero",
        default="kept", group="phases",
    )  # fmt: skip
    neutral_r_ohm_per_km: float | None = quantity(
        "Neutral resistance",
        "Of the neutral conductor; as a phase when blank",
        unit="Ω/km",
        gt=0,
        le=1000,
        group="phases",
    )
    neutral_rating_a: float | None = quantity(
        "Neutral rating", "Continuous current of the neutral conductor; as a phase when blank", unit="A", gt=0, le=100000,
        group="phases",
    )  # fmt: skip
    spacing_mm: float | None = quantity(
        "Spacing", "Mean distance between conductors, for their coupling with earth return; 25 mm of a cable, 400 mm of "
        "an overhead line when blank", unit="mm", gt=0, le=20000, group="phases",
    )  # fmt: skip
    earthing_every_km: float | None = quantity(
        "Earthed every", "Distance between electrodes of the neutral along the route, from the from end on; the ends have none, "
        "the last section is what is left", unit="km", gt=0, le=100, group="phases",
    )  # fmt: skip
    earthing_ohm: float | None = quantity(
        "Electrodes", "Resistance of each electrode along the route", unit="Ω", gt=0, le=1e5, group="phases"
    )
    skin_exponent: float = quantity(
        "Skin effect", "Resistance at harmonic order h is R times h to this power", unit="1", default=0.5, ge=0, le=2,
        typical=True, group="harmonics",
    )  # fmt: skip
    resistance_table: ResistanceTable | None = resistance_table()
    failure_rate: float | None = failures(
        "Permanent failures by length; typical of its construction when blank", unit="1/km/a"
    )
    temporary_rate: float | None = brief_failures(
        "Failures by length that are over once it has been without voltage for a moment; typical of its construction when blank",
        unit="1/km/a",
    )
    from_gear: Gear | None = gear("from end")
    to_gear: Gear | None = gear("to end")
    indicator: bool = choice(
        "Fault indicator", "Tells that fault current has passed: faults in its section are found sooner", default=False,
        group="reliability",
    )  # fmt: skip

    @model_validator(mode="after")
    def _has_impedance(self) -> Self:
        if (self.earthing_every_km is None) != (self.earthing_ohm is None):
            blank = "earthing_ohm" if self.earthing_ohm is None else "earthing_every_km"
            raise ValueError(f"{blank}: electrodes along the route need their distance and their resistance")
        if self.earthing_every_km and self.length_km and self.length_km / self.earthing_every_km > 500:
            raise ValueError(f"earthing_every_km: enter at least {self.length_km / 500:g} km, that is 500 electrodes")
        if self.beside == self.id:
            raise ValueError("beside: name another line; its own circuits in parallel are part of it")
        if self.from_bus == self.to_bus:
            raise ValueError("to_bus: a line joins two different buses")
        if self.r_ohm_per_km == 0 and self.x_ohm_per_km == 0:
            raise ValueError("x_ohm_per_km: resistance and reactance are both zero; enter one, or use a closed switch")
        return self

    def _missing_beyond_fields(self) -> tuple[str, ...]:
        if self.geometry or self.matrix:
            return ()
        return tuple(f for f in ("r_ohm_per_km", "x_ohm_per_km") if getattr(self, f) is None)

    def reconcile(self, values: dict[str, Any]) -> dict[str, Any]:
        """A geometry replaces the constants of a type and the other way round; what is entered stays entered."""
        if values.get("geometry") is not None:
            figures = [
                f for f, o in self.origins.items() if o in (Origin.CATALOGUE, Origin.TYPICAL) and f in _BY_GEOMETRY
            ]
            values = {**dict.fromkeys(["type", *figures]), **values}
        elif values.get("type") is not None:
            values = {"geometry": None, **values}
        return super().reconcile(values)

    def zero_sequence(self) -> tuple[float, float, float]:
        """R0, X0 in Ω/km and B0 in µS/km: as entered, else typical multiples of the positive sequence.

        Overhead without earth wire: R0 = R + 0.148 (earth return at 50 Hz), X0 = 3.5 X; cable: R0 = 4 R, X0 = 3.5 X
        (orders of magnitude of IEC 60909-2, clause 7).
        """
        r, x, b = self.r_ohm_per_km or 0.0, self.x_ohm_per_km or 0.0, self.b_us_per_km or 0.0
        overhead = self.construction == "overhead"
        typical = (r + 0.148 if overhead else 4 * r, 3.5 * x, 0.6 * b if overhead else b)
        given = (self.r0_ohm_per_km, self.x0_ohm_per_km, self.b0_us_per_km)
        r0, x0, b0 = (t if g is None else g for g, t in zip(given, typical, strict=True))
        return r0, x0, b0
