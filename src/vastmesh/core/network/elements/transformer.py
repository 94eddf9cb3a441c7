from __future__ import annotations

import re
from math import radians, sqrt
from typing import Literal, Self

from pydantic import model_validator

from ..fields import choice, quantity, reference
from ..items import Element

_GROUP = re.compile(r"^(YN|Y|D|ZN|Z)(yn|y|d|zn|z|a)(\d|1[01])$")


class Transformer(Element):
    """A two-winding transformer, described by its name plate.

    The leakage impedance sits on the side without the tap changer (the HV side when there is
    none), on the rated voltage of that side; the tap changes the turns of the tapped side.
    """

    label, plural = "Transformer", "Transformers"

    kind: Literal["transformer"] = "transformer"
    hv_bus: str = reference("HV bus", "Bus at the high-voltage side", to="bus", terminal=True)
    lv_bus: str = reference("LV bus", "Bus at the low-voltage side", to="bus", terminal=True)
    rated_mva: float | None = quantity(
        "Rated power", "Rated apparent power, natural cooling", unit="MVA", gt=0, le=5000, required=True
    )
    emergency_mva: float | None = quantity(
        "Forced cooling", "Apparent power with forced cooling or for a limited time", unit="MVA", gt=0, le=10000
    )
    hv_kv: float | None = quantity(
        "Rated HV", "Rated line-to-line voltage of the HV winding", unit="kV", gt=0, le=1500, required=True
    )
    lv_kv: float | None = quantity(
        "Rated LV", "Rated line-to-line voltage of the LV winding", unit="kV", gt=0, le=1500, required=True
    )
    impedance_pct: float | None = quantity(
        "Impedance", "Short-circuit impedance on rated power and voltage", unit="%", gt=0, le=100, required=True
    )
    x_over_r: float | None = quantity(
        "X / R", "Ratio of leakage reactance to winding resistance; used when no load loss is given", unit="1", ge=0,
        le=1e6,
    )  # fmt: skip
    load_loss_kw: float | None = quantity("Load loss", "Copper loss at rated current", unit="kW", ge=0, le=1e5)
    iron_loss_kw: float = quantity(
        "Iron loss", "No-load loss at rated voltage", unit="kW", default=0.0, ge=0, le=1e5, typical=True
    )
    no_load_current_pct: float = quantity(
        "No-load current", "No-load current in per cent of rated current", unit="%", default=0.0, ge=0, le=100,
        typical=True,
    )  # fmt: skip
    vector_group: str = choice(
        "Vector group", "Winding connections and clock number (LV lags HV by 30° times the number)", default="Dyn11",
        typical=True,
    )  # fmt: skip
    phase_shift_deg: float = quantity(
        "Phase shift", "Further shift by which LV lags HV, beyond the vector group", unit="°", default=0.0, ge=-180,
        le=180,
    )  # fmt: skip
    tap_side: Literal["hv", "lv"] = choice("Tap side", "Winding with the tap changer", default="hv", typical=True)
    tap_step_pct: float = quantity(
        "Tap step", "Turns changed by one step, in per cent of rated turns", unit="%", default=0.0, ge=0, le=20,
        typical=True,
    )  # fmt: skip
    tap_min: int = quantity("Lowest tap", "Lowest position", unit="1", default=0, ge=-100, le=100, typical=True)
    tap_max: int = quantity("Highest tap", "Highest position", unit="1", default=0, ge=-100, le=100, typical=True)
    tap_neutral: int = quantity(
        "Neutral tap", "Position with rated turns", unit="1", default=0, ge=-100, le=100, typical=True
    )
    tap_position: int = quantity("Tap position", "Position now", unit="1", default=0, ge=-100, le=100)

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        if self.hv_bus == self.lv_bus:
            raise ValueError("lv_bus: a transformer joins two different buses")
        if not _GROUP.match(self.vector_group):
            raise ValueError("vector_group: write it as YNd1, Dyn11, YNyn0 ...")
        if self.tap_min > self.tap_max:
            raise ValueError("tap_min: the lowest tap is above the highest one")
        if not self.tap_min <= self.tap_position <= self.tap_max:
            raise ValueError(f"tap_position: enter a position from {self.tap_min} to {self.tap_max}")
        if self.tapped_turns() <= 0.2:
            raise ValueError("tap_step_pct: this step and position leave less than a fifth of the turns")
        loss = self.load_loss_kw
        if loss is not None and self.rated_mva and self.impedance_pct:
            most = self.impedance_pct * 10 * self.rated_mva
            if loss > most:
                raise ValueError(f"load_loss_kw: above {most:g} kW the loss would exceed the impedance")
        return self

    def _missing_beyond_fields(self) -> tuple[str, ...]:
        return ("x_over_r",) if self.x_over_r is None and self.load_loss_kw is None else ()

    def tapped_turns(self) -> float:
        """Turns of the tapped winding, per unit of rated turns."""
        return 1 + (self.tap_position - self.tap_neutral) * self.tap_step_pct / 100

    def clock_shift_rad(self) -> float:
        """Angle by which HV leads LV: 30° per hour of the vector group, plus the further shift."""
        match = _GROUP.match(self.vector_group)
        assert match, "validated above"
        return radians(30 * int(match[3]) + self.phase_shift_deg)

    def impedance_pu(self) -> complex:
        """Leakage impedance per unit on rated power; IEC 60076-1: R from load loss, X from the rest."""
        z = (self.impedance_pct or 0) / 100
        if self.load_loss_kw is not None:
            r = self.load_loss_kw / 1000 / (self.rated_mva or 1)
        else:
            r = z / sqrt(1 + (self.x_over_r or 0) ** 2)
        return complex(r, sqrt(max(z * z - r * r, 0)))

    def magnetising_pu(self) -> complex:
        """No-load admittance per unit on rated power: G from iron loss, B from the no-load current."""
        g = self.iron_loss_kw / 1000 / (self.rated_mva or 1)
        return complex(g, -sqrt(max((self.no_load_current_pct / 100) ** 2 - g * g, 0)))
