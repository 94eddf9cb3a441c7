from __future__ import annotations

from math import radians
from typing import Literal, Self

from pydantic import model_validator

from ...catalogue import r_and_x, typical_x_over_r
from ..fields import choice, quantity, reference
from ..items import Role
from ._failing import Failing
from ._harmonics import ResistanceTable, eddy, resistance_table
from ._market import optimised
from ._neutral import Earthing, earthing, earthing_current, earthing_resistance


class ThreeWinding(Failing):
    """A three-winding transformer, described by its name plate; taps on the HV winding."""

    label, plural = "Three-winding transformer", "Three-winding transformers"
    role, wound = Role.BRANCH, True

    kind: Literal["three_winding"] = "three_winding"
    hv_bus: str = reference("HV bus", "Bus at the high-voltage side", to="bus", terminal=True)
    mv_bus: str = reference("MV bus", "Bus at the middle-voltage side", to="bus", terminal=True)
    lv_bus: str = reference("LV bus", "Bus at the low-voltage side", to="bus", terminal=True)
    hv_mva: float | None = quantity("Rated power, HV", "Of the HV winding; base of all impedances", unit="MVA", gt=0,
                                    le=5000, required=True)  # fmt: skip
    mv_mva: float | None = quantity("Rated power, MV", "Of the MV winding", unit="MVA", gt=0, le=5000, required=True)
    lv_mva: float | None = quantity("Rated power, LV", "Of the LV winding", unit="MVA", gt=0, le=5000, required=True)
    hv_kv: float | None = quantity("Rated HV", "Line-to-line", unit="kV", gt=0, le=1500, required=True)
    mv_kv: float | None = quantity("Rated MV", "Line-to-line", unit="kV", gt=0, le=1500, required=True)
    lv_kv: float | None = quantity("Rated LV", "Line-to-line", unit="kV", gt=0, le=1500, required=True)
    z_hm_pct: float | None = quantity("Z, HV–MV", "On the HV winding's rated power, LV open", unit="%", gt=0, le=1e4,
                                      required=True)  # fmt: skip
    z_ml_pct: float | None = quantity("Z, MV–LV", "On the HV winding's rated power, HV open", unit="%", gt=0, le=1e4,
                                      required=True)  # fmt: skip
    z_hl_pct: float | None = quantity("Z, HV–LV", "On the HV winding's rated power, MV open", unit="%", gt=0, le=1e4,
                                      required=True)  # fmt: skip
    x_over_r: float | None = quantity("X / R", "Of each pair of windings; typical of the rating when blank", unit="1", gt=0,
                                      le=1e4)  # fmt: skip
    iron_loss_kw: float = quantity("Iron loss", "No-load loss at rated voltage", unit="kW", default=0.0, ge=0, le=1e5,
                                   typical=True)  # fmt: skip
    no_load_current_pct: float = quantity("No-load current", "In per cent of the HV winding's rated current", unit="%",
                                          default=0.0, ge=0, le=100, typical=True)  # fmt: skip
    mv_clock: int = quantity("Clock MV", "Hours by which MV lags HV", unit="1", default=0, ge=0, le=11, typical=True)
    lv_clock: int = quantity("Clock LV", "Hours by which LV lags HV", unit="1", default=1, ge=0, le=11, typical=True)
    tap_step_pct: float = quantity("Tap step", "Of rated HV turns", unit="%", default=0.0, ge=0, le=20, typical=True)
    tap_min: int = quantity("Lowest tap", "Lowest position", unit="1", default=0, ge=-100, le=0, typical=True)
    tap_max: int = quantity("Highest tap", "Highest position", unit="1", default=0, ge=0, le=100, typical=True)
    tap_position: int = quantity(
        "Tap position", "Position now; positive adds HV turns", unit="1", default=0, ge=-100, le=100
    )
    optimised: bool = optimised("taps")
    hv_neutral: Earthing = earthing("HV")
    hv_neutral_ohm: float | None = earthing_resistance("hv_neutral", "HV")
    hv_neutral_a: float | None = earthing_current("hv_neutral", "HV")
    mv_neutral: Earthing = earthing("MV")
    mv_neutral_ohm: float | None = earthing_resistance("mv_neutral", "MV")
    mv_neutral_a: float | None = earthing_current("mv_neutral", "MV")
    core: Literal["three_limb", "five_limb", "shell", "bank"] = choice(
        "Core", "Three limbs, five limbs, shell, or a bank of single-phase units", default="three_limb", typical=True,
        group="sequence",
    )  # fmt: skip
    skin_exponent: float = quantity(
        "Skin effect", "Resistance at harmonic order h is R times h to this power", unit="1", default=1.0, ge=0, le=2,
        typical=True, group="harmonics",
    )  # fmt: skip
    resistance_table: ResistanceTable | None = resistance_table()
    eddy_pct: float | None = eddy()

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        if len({self.hv_bus, self.mv_bus, self.lv_bus}) < 3:
            raise ValueError("lv_bus: a three-winding transformer joins three different buses")
        if not self.tap_min <= self.tap_position <= self.tap_max:
            raise ValueError(f"tap_position: enter a position from {self.tap_min} to {self.tap_max}")
        if self.turns() <= 0.2:
            raise ValueError("tap_step_pct: this step and position leave less than a fifth of the turns")
        if not self.missing() and any(abs(z) < 1e-9 for z in self.star_pu()):
            raise ValueError("z_hl_pct: these impedances leave a winding without any; check the three figures")
        return self

    def turns(self) -> float:
        """HV turns, per unit of rated turns."""
        return 1 + self.tap_position * self.tap_step_pct / 100

    def star_pu(self) -> tuple[complex, complex, complex]:
        """Impedances of the equivalent star (HV, MV, LV), per unit on the HV winding's rated power.

        Half the sum of the two pairs a winding belongs to, less the third (IEC 60909-0, clause 6.3.2); one of them
        may come out negative.
        """
        ratio = typical_x_over_r(self.hv_mva or 1.0) if self.x_over_r is None else self.x_over_r
        hm, ml, hl = (r_and_x((z or 0.0) / 100, ratio) for z in (self.z_hm_pct, self.z_ml_pct, self.z_hl_pct))
        return (hm + hl - ml) / 2, (hm + ml - hl) / 2, (hl + ml - hm) / 2

    def magnetising_pu(self) -> complex:
        """No-load admittance per unit on the HV winding's rated power."""
        g = self.iron_loss_kw / 1000 / (self.hv_mva or 1)
        return complex(g, -(max((self.no_load_current_pct / 100) ** 2 - g * g, 0) ** 0.5))

    def shifts_rad(self) -> tuple[float, float]:
        """Angles by which HV leads MV and LV."""
        return radians(30 * self.mv_clock), radians(30 * self.lv_clock)
