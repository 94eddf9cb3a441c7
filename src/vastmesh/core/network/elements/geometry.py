from __future__ import annotations

from typing import Literal, Self

from pydantic import model_validator

from ..fields import When, catalogue_type, choice, quantity
from ..items import Item

_OVER: When = {"construction": ("overhead",)}
_CABLE: When = {"construction": ("cable",)}
_WIRES: When = {"construction": ("cable",), "screen": ("wires",)}
_TAPE: When = {"construction": ("cable",), "screen": ("tape",)}
_NEUTRAL: When = {"construction": ("overhead",), "neutral": ("reduced", "kept")}
_EARTHED: When = {"construction": ("overhead",), "earth_wires": (1, 2)}


def _at(label: str, axis: str, default: float, when: When) -> float:
    meaning = "From the middle of the tower, to the right" if axis == "x" else "Above earth, sag allowed for"
    low = -100.0 if axis == "x" else 0.0
    found: float = quantity(
        f"{label} {axis}", meaning, unit="m", default=default, ge=low, le=200, when=when, typical=True
    )
    return found


class LineGeometry(Item):
    """Where the conductors of a line are and what they are made of, or how a cable is built.

    Shared by any number of lines; their constants follow by Carson's equations with earth return.
    """

    label, plural = "Line geometry", "Line geometries"

    kind: Literal["line_geometry"] = "line_geometry"
    construction: Literal["overhead", "cable"] = choice("Construction", "Overhead line or single-core cables",
                                                        default="overhead")  # fmt: skip
    type: str | None = catalogue_type("conductor", "Bare conductor of the phases", label="Conductor")
    r20_ohm_per_km: float | None = quantity(
        "Resistance, 20 °C", "Of one phase conductor", unit="Ω/km", gt=0, le=100, required=True
    )
    gmr_mm: float | None = quantity("GMR", "Geometric mean radius of one phase conductor", unit="mm", gt=0, le=100,
                                    required=True)  # fmt: skip
    diameter_mm: float | None = quantity("Diameter", "Outer diameter of one phase conductor", unit="mm", gt=0, le=200,
                                         required=True)  # fmt: skip
    material: Literal["aluminium", "steel-reinforced", "alloy", "copper"] = choice(
        "Material", "Sets the change of resistance with temperature", default="aluminium", typical=True
    )
    temperature_c: float = quantity(
        "Temperature", "Of the conductors", unit="°C", default=50.0, ge=-40, le=200, typical=True
    )
    rating_a: float | None = quantity("Rating", "Continuous current of one circuit; lines without their own take it",
                                      unit="A", gt=0, le=1e5)  # fmt: skip
    earth_ohm_m: float = quantity("Earth resistivity", "Of the ground below", unit="Ω·m", default=100.0, gt=0, le=1e6,
                                  typical=True)  # fmt: skip
    transposed: bool = choice(
        "Transposed", "On: phases change places along the route, so that they are equal on the whole (the default). Off: each "
        "keeps its place, as short feeders are built, and their constants differ", default=True, typical=True,
    )  # fmt: skip
    phases: Literal["ABC", "AB", "BC", "AC", "A", "B", "C"] = choice(
        "Phases", "Phase conductors that are there; a line with fewer takes those it has", default="ABC"
    )
    bundle: int = quantity("Bundle", "Conductors per phase", unit="1", default=1, ge=1, le=8, when=_OVER)
    bundle_spacing_m: float = quantity("Bundle spacing", "Between neighbouring conductors of a bundle", unit="m",
                                       default=0.4, gt=0, le=2, when={**_OVER, "bundle": (2, 3, 4, 5, 6, 7, 8)})  # fmt: skip
    a_x_m: float = _at("A", "x", -1.0, _OVER)
    a_y_m: float = _at("A", "y", 9.0, _OVER)
    b_x_m: float = _at("B", "x", 0.0, _OVER)
    b_y_m: float = _at("B", "y", 9.0, _OVER)
    c_x_m: float = _at("C", "x", 1.0, _OVER)
    c_y_m: float = _at("C", "y", 9.0, _OVER)
    neutral: Literal["none", "reduced", "kept"] = choice(
        "Neutral", "Reduced: earthed often, so that its voltage is zero; kept: a conductor of its own, of cables their screens "
        "together (concentric neutral)", default="none",
    )  # fmt: skip
    n_x_m: float = _at("N", "x", 0.0, _NEUTRAL)
    n_y_m: float = _at("N", "y", 7.5, _NEUTRAL)
    n_r20_ohm_per_km: float | None = quantity("Neutral resistance", "At 20 °C; as the phases when blank", unit="Ω/km",
                                              gt=0, le=100, when=_NEUTRAL)  # fmt: skip
    n_gmr_mm: float | None = quantity("Neutral GMR", "As the phases when blank", unit="mm", gt=0, le=100, when=_NEUTRAL)
    n_diameter_mm: float | None = quantity("Neutral diameter", "As the phases when blank", unit="mm", gt=0, le=200,
                                           when=_NEUTRAL)  # fmt: skip
    earth_wires: int = quantity("Earth wires", "Number of earth wires, always taken as earthed", unit="1", default=0, ge=0,
                                le=2, when=_OVER)  # fmt: skip
    w_x_m: float = _at("Earth wires ±", "x", 0.0, _EARTHED)
    w_y_m: float = _at("Earth wires", "y", 12.0, _EARTHED)
    w_r20_ohm_per_km: float = quantity("Earth wire resistance", "At 20 °C", unit="Ω/km", default=3.5, gt=0, le=100,
                                       typical=True, when=_EARTHED)  # fmt: skip
    w_gmr_mm: float = quantity("Earth wire GMR", "Small for steel, which has inner reactance", unit="mm", default=0.5, gt=0,
                               le=100, typical=True, when=_EARTHED)  # fmt: skip
    w_diameter_mm: float = quantity("Earth wire diameter", "Outer diameter", unit="mm", default=9.0, gt=0, le=100,
                                    typical=True, when=_EARTHED)  # fmt: skip
    formation: Literal["trefoil", "flat"] = choice("Formation", "How the three cables lie", default="trefoil", typical=True,
                                                   when=_CABLE)  # fmt: skip
    spacing_m: float = quantity("Spacing", "Between the middles of neighbouring cables", unit="m", default=0.04, gt=0.005,
                                le=5, typical=True, when=_CABLE)  # fmt: skip
    insulation_mm: float = quantity("Insulation", "Thickness of the insulation", unit="mm", default=3.4, gt=0.3, le=60,
                                    typical=True, when=_CABLE)  # fmt: skip
    permittivity: float = quantity("Permittivity", "Of the insulation, relative", unit="1", default=2.4, ge=1, le=10,
                                   typical=True, when=_CABLE)  # fmt: skip
    screen: Literal["wires", "tape", "none"] = choice("Screen", "Earthed at both ends; none when bonded at one end",
                                                      default="wires", typical=True, when=_CABLE)  # fmt: skip
    screen_wires: int = quantity("Screen wires", "Number of wires of one screen", unit="1", default=20, ge=1, le=200,
                                 typical=True, when=_WIRES)  # fmt: skip
    screen_wire_mm: float = quantity("Wire diameter", "Of one screen wire", unit="mm", default=1.0, gt=0.1, le=10,
                                     typical=True, when=_WIRES)  # fmt: skip
    screen_r_ohm_per_km: float | None = quantity("Screen resistance", "Of one screen wire, or of the whole tape; copper "
                                                 "when blank", unit="Ω/km", gt=0, le=1e4, when=_CABLE)  # fmt: skip
    screen_over_mm: float = quantity("Diameter over screen", "Outer diameter of the screen", unit="mm", default=30.0, gt=2,
                                     le=300, typical=True, when=_CABLE)  # fmt: skip
    tape_mm: float = quantity("Tape thickness", "Of the screen tape", unit="mm", default=0.1, gt=0.01, le=5, typical=True,
                              when=_TAPE)  # fmt: skip

    @model_validator(mode="after")
    def _apart(self) -> Self:
        if self.construction == "cable":
            if self.neutral == "kept" and self.screen == "none":
                raise ValueError("neutral: cables without a screen have no concentric neutral; choose wires or tape")
            if self.screen != "none" and self.screen_over_mm / 1e3 > self.spacing_m * 1.001:
                raise ValueError(
                    f"spacing_m: enter at least the diameter over the screen, {self.screen_over_mm / 1e3:g} m"
                )
            return self
        places = self.positions()
        for i, (m, (x, y)) in enumerate(places):
            if y <= 0:
                raise ValueError(f"{m.lower()}_y_m: a conductor hangs above earth; enter a height above 0 m")
            for n, (u, v) in places[:i]:
                if abs(complex(x - u, y - v)) < (self.diameter_mm or 1.0) / 1e3:
                    raise ValueError(f"{m.lower()}_x_m: conductors {n} and {m} touch; part them")
        return self

    def positions(self) -> list[tuple[str, tuple[float, float]]]:
        """Name and place of every overhead conductor, m: phases, neutral, earth wires."""
        found = [(n, (getattr(self, f"{n.lower()}_x_m"), getattr(self, f"{n.lower()}_y_m"))) for n in self.phases]
        if self.neutral != "none":
            found.append(("N", (self.n_x_m, self.n_y_m)))
        if self.earth_wires == 1:
            found.append(("W", (self.w_x_m, self.w_y_m)))
        elif self.earth_wires == 2:
            found += [("W1", (-self.w_x_m, self.w_y_m)), ("W2", (self.w_x_m, self.w_y_m))]
        return found
