from __future__ import annotations

from typing import Any, Literal, Self

from pydantic import model_validator

from ..fields import catalogue_type, quantity
from ._demand import Demand, check_shares, share_filled
from ._harmonics import (
    OwnBy,
    SourceModel,
    filter_capacitor,
    filter_reactor,
    filter_resistance,
    own_by,
    own_exponent,
    own_reactance,
    own_resistance,
    own_starting_cos,
    own_starting_current,
    source_model,
)

_SHARES = ("constant_power_pct", "constant_current_pct", "constant_impedance_pct")


class Load(Demand):
    """Demand at a bus, by two of active, reactive and apparent power, current and power factor."""

    label, plural = "Load", "Loads"

    kind: Literal["load"] = "load"
    constant_power_pct: float = quantity(
        "Constant power", "Share whose power does not depend on voltage", unit="%", default=100.0, ge=0, le=100,
        typical=True,
    )  # fmt: skip
    constant_current_pct: float = quantity(
        "Constant current", "Share whose power follows the voltage", unit="%", default=0.0, ge=0, le=100, typical=True
    )
    constant_impedance_pct: float = quantity(
        "Constant impedance", "Share whose power follows the voltage squared", unit="%", default=0.0, ge=0, le=100,
        typical=True,
    )  # fmt: skip
    shed_most_pct: float = quantity("May be shed", "Share of it that an optimal flow may shed; 0: none", unit="%", default=0.0,
        ge=0,
                                    le=100, group="dispatch")  # fmt: skip
    shed_cost: float = quantity("Cost of shedding", "Of a MWh that is not served", unit="1/MWh", default=5000.0, ge=0, le=1e7,
                                typical=True, group="dispatch")  # fmt: skip
    spectrum: str | None = catalogue_type("spectrum", "Harmonic currents it draws", label="Spectrum", group="harmonics")
    source_model: SourceModel = source_model()
    own_by: OwnBy = own_by()
    own_x_pct: float | None = own_reactance()
    own_r_pct: float | None = own_resistance()
    own_exponent: float = own_exponent()
    own_starting_x: float | None = own_starting_current()
    own_starting_cos: float | None = own_starting_cos()
    own_filter_mh: float | None = filter_reactor()
    own_filter_ohm: float | None = filter_resistance()
    own_filter_uf: float | None = filter_capacitor()

    @model_validator(mode="after")
    def _whole(self) -> Self:
        check_shares(self, _SHARES, "constant power, current and impedance")
        return self

    def reconcile(self, values: dict[str, Any]) -> dict[str, Any]:
        """Two power figures stay two; shares are filled up to 100 %."""
        return share_filled(self, _SHARES, super().reconcile(values))
