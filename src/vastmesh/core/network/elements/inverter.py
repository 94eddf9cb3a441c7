from __future__ import annotations

from typing import Any, Literal, Self

from pydantic import model_validator

from ...catalogue import reactive
from ..fields import catalogue_type, choice, quantity, reference
from ..items import Element, Role
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
from ._market import (
    Capability,
    CostBlocks,
    capability,
    check_powers,
    cost,
    cost_blocks,
    cost_of_curtailing,
    cost_of_reactive,
    energy_now,
    energy_stored,
    least_power,
    may_stop,
    most_power,
    movable,
    ramp,
    rising_cost,
    round_trip,
    running_cost,
    start_cost,
)
from ._phases import PHASES, phase_power, phases_of

_EACH = {"phase_control": ("each_phase",)}
_PHASE_POWERS = ("p_a_mw", "p_b_mw", "p_c_mw")
_CURVE = {"control": ("voltage_curve",)}


class Inverter(Element):
    """A solar, wind or storage plant behind an inverter.

    Active power is what is set, whatever the frequency; reactive power follows a fixed power factor, a fixed
    value, or the voltage by a curve Q(V) of four points within the rating.
    """

    label, plural = "Inverter plant", "Inverter plants"
    role = Role.GENERATION

    kind: Literal["inverter"] = "inverter"
    bus: str = reference("Bus", "Bus at the terminals", to="bus", terminal=True)
    energy: Literal["solar", "wind", "storage"] = choice(
        "Energy", "What drives it; conditions scale generation by it", default="solar", typical=True
    )
    rated_mva: float | None = quantity(
        "Rated power", "Rated apparent power of the inverter", unit="MVA", gt=0, le=1e4, required=True
    )
    active_power_mw: float | None = quantity(
        "Active power", "Delivered at 100 % generation; negative when storage charges", unit="MW", ge=-1e4, le=1e4,
        required=True,
    )  # fmt: skip
    control: Literal["power_factor", "reactive", "voltage_curve"] = choice(
        "Control", "What sets the reactive power", default="power_factor", typical=True
    )
    power_factor: float = quantity(
        "Power factor", "Negative when it takes in reactive power", unit="1", default=1.0, ge=-1, le=1,
        when={"control": ("power_factor",)},
    )  # fmt: skip
    reactive_power_mvar: float = quantity(
        "Reactive power", "Delivered; positive supports the voltage", unit="Mvar", default=0.0, ge=-1e4, le=1e4,
        when={"control": ("reactive",)},
    )  # fmt: skip
    v1_pu: float = quantity("V1", "At and below it the inverter delivers its most", unit="p.u.", default=0.94, ge=0.5, le=1.5,
                            typical=True, when=_CURVE)  # fmt: skip
    v2_pu: float = quantity("V2", "From here to V3 it delivers nothing", unit="p.u.", default=0.98, ge=0.5, le=1.5,
                            typical=True, when=_CURVE)  # fmt: skip
    v3_pu: float = quantity("V3", "From V2 to here it delivers nothing", unit="p.u.", default=1.02, ge=0.5, le=1.5,
                            typical=True, when=_CURVE)  # fmt: skip
    v4_pu: float = quantity("V4", "At and above it the inverter takes in its most", unit="p.u.", default=1.06, ge=0.5,
                            le=1.5, typical=True, when=_CURVE)  # fmt: skip
    curve_q_pct: float = quantity(
        "Most Q", "Reactive power at the ends of the curve, of rated power", unit="%", default=44.0, ge=0, le=100,
        typical=True, when=_CURVE,
    )  # fmt: skip
    phase_control: Literal["each_phase", "positive_sequence"] = choice(
        "Phases", "Each phase delivers a power by itself (equal ones unless given), or the three currents are kept equal "
        "(positive sequence only)", default="positive_sequence", group="phases",
    )  # fmt: skip
    p_a_mw: float | None = phase_power("A", "p", plant=True, when=_EACH)
    p_b_mw: float | None = phase_power("B", "p", plant=True, when=_EACH)
    p_c_mw: float | None = phase_power("C", "p", plant=True, when=_EACH)
    dispatched: bool = movable()
    least_mw: float | None = least_power("0, of storage minus its rating")
    most_mw: float | None = most_power("what it delivers now")
    cost_per_mwh: float | None = cost()
    cost_rising: float = rising_cost()
    cost_running: float = running_cost()
    cost_blocks: CostBlocks | None = cost_blocks()
    cost_per_mvarh: float = cost_of_reactive()
    capability: Capability | None = capability()
    ramp_mw_per_min: float | None = ramp()
    curtailment_cost: float = cost_of_curtailing()
    may_stop: bool = may_stop()
    start_cost: float = start_cost()
    energy_mwh: float | None = energy_stored()
    energy_now_pct: float = energy_now()
    round_trip_pct: float = round_trip()
    fault_current_x: float = quantity(
        "Fault current", "Contribution to a fault, in rated currents", unit="1", default=1.2, ge=0, le=5, typical=True
    )
    spectrum: str | None = catalogue_type(
        "spectrum", "Harmonic currents it injects", label="Spectrum", group="harmonics"
    )
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
    def _consistent(self) -> Self:
        check_powers(self)
        if abs(self.power_factor) < 0.1:
            raise ValueError("power_factor: enter a value from 0.1 to 1, or from -1 to -0.1")
        if not self.v1_pu < self.v2_pu <= self.v3_pu < self.v4_pu:
            raise ValueError("v2_pu: the voltages of the curve must rise from V1 to V4")
        if (
            self.rated_mva is not None
            and self.active_power_mw is not None
            and abs(self.active_power_mw) > self.rated_mva
        ):
            raise ValueError(f"active_power_mw: enter at most the rated power, {self.rated_mva:g} MVA")
        self._check_phase_powers()
        return self

    def _check_phase_powers(self) -> None:
        given = {p: getattr(self, f) for p, f in zip(PHASES, _PHASE_POWERS, strict=True)}
        if all(v is None for v in given.values()):
            return
        if absent := [p for p, v in given.items() if v and p not in self.conductors]:
            raise ValueError(
                f"p_{absent[0].lower()}_mw: it is not connected to phase {absent[0]}; blank it or connect it"
            )
        if self.phase_control == "positive_sequence" and len(phases_of(self.conductors)) == 3:
            raise ValueError(
                "phase_control: three equal currents leave no powers of their own; choose each phase, or blank them"
            )
        total = sum(v or 0.0 for v in given.values())
        if self.active_power_mw is not None and abs(total - self.active_power_mw) > 1e-9 + 1e-6 * abs(total):
            raise ValueError(f"active_power_mw: the phases add up to {total:.6g} MW; blank them or enter their sum")

    def reconcile(self, values: dict[str, Any]) -> dict[str, Any]:
        """Powers of phases and their sum follow each other; giving three equal currents takes them back."""
        values = super().reconcile(values)
        blank = dict.fromkeys(f for f in _PHASE_POWERS if getattr(self, f) is not None)
        if any(f in values for f in _PHASE_POWERS):
            now = [values.get(f, getattr(self, f)) for f in _PHASE_POWERS]
            if all(v is None for v in now) or not all(isinstance(v, int | float | None) for v in now):
                return values
            return {"phase_control": "each_phase", "active_power_mw": sum(v or 0.0 for v in now), **values}
        if "active_power_mw" in values or values.get("phase_control") == "positive_sequence":
            return {**blank, **values}
        return values

    def phase_powers_mva(self) -> tuple[complex, complex, complex] | None:
        """Power delivered into each phase at 100 % generation, in MVA, where they are given one by one. Reactive power by the
        power factor of each; a fixed one in equal parts."""
        given = [getattr(self, f) for f in _PHASE_POWERS]
        if all(p is None for p in given):
            return None
        used = phases_of(self.conductors)

        def q(phase: str, p: float) -> float:
            if self.control == "power_factor":
                return reactive(abs(p), self.power_factor)
            return self.set_reactive_mvar() / len(used) if phase in used else 0.0

        a, b, c = (complex(p or 0.0, q(phase, p or 0.0)) for phase, p in zip(PHASES, given, strict=True))
        return a, b, c

    def set_reactive_mvar(self) -> float:
        """Reactive power delivered when it does not follow the voltage, at 100 % generation."""
        if self.control == "reactive":
            return self.reactive_power_mvar
        if self.control == "power_factor":
            return reactive(abs(self.active_power_mw or 0.0), self.power_factor)
        return 0.0
