from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, Literal, Self

from pydantic import model_validator

from ...catalogue import source_from_ohm
from ..fields import catalogue_type, choice, quantity, reference
from ..items import Item, Role
from ._control import participation
from ._failing import Failing
from ._market import (
    CostBlocks,
    check_powers,
    cost,
    cost_blocks,
    cost_of_reactive,
    least_power,
    most_power,
    movable,
    rising_cost,
    running_cost,
)
from ._neutral import Earthing, earthing

IDEAL = 1e5  # times the admittance of its fault level has what nothing unbalances or distorts


class Source(Failing):
    """The strong network behind a boundary. In load flow it holds voltage and angle at its bus."""

    label, plural = "Source", "Sources"
    role = Role.GENERATION

    kind: Literal["source"] = "source"
    bus: str = reference("Bus", "Bus at the boundary", to="bus", terminal=True)
    voltage_pu: float = quantity(
        "Voltage", "Voltage held at the bus, per unit of its nominal voltage", unit="p.u.", default=1.0, ge=0.5, le=1.5,
        typical=True,
    )  # fmt: skip
    angle_deg: float = quantity("Angle", "Voltage angle at the bus", unit="°", default=0.0, ge=-360, le=360)
    fault_max_mva: float = quantity(
        "Fault level, highest", "Three-phase fault level with most plant running", unit="MVA", default=1000.0, gt=0,
        le=1e6, typical=True,
    )  # fmt: skip
    fault_min_mva: float = quantity(
        "Fault level, lowest", "Three-phase fault level with least plant running", unit="MVA", default=800.0, gt=0,
        le=1e6, typical=True,
    )  # fmt: skip
    x_over_r: float = quantity(
        "X / R", "Ratio of reactance to resistance of the source impedance", unit="1", default=10.0, ge=0, le=1000,
        typical=True,
    )  # fmt: skip
    r_ohm: float | None = quantity(
        "Resistance", "Of the source at its highest fault level; with the reactance it gives fault level and X/R", unit="Ω",
        ge=0, le=1e6,
    )  # fmt: skip
    x_ohm: float | None = quantity(
        "Reactance", "Of the source at its highest fault level; with the resistance it gives fault level and X/R", unit="Ω",
        ge=0, le=1e6,
    )  # fmt: skip
    impedance_kv: float | None = quantity("Ohms at", "Voltage the ohms belong to", unit="kV", gt=0, le=1500,
                                          when={"r_ohm": ("~",)})  # fmt: skip
    scheduled_mw: float = quantity(
        "Scheduled power", "What it would deliver as agreed; the rest is shared where the slack is shared", unit="MW",
        default=0.0, ge=-1e6, le=1e6, group="control",
    )  # fmt: skip
    q_min_mvar: float | None = quantity("Lowest Q", "Least it can deliver; negative takes in; no bound when blank", unit="Mvar",
                                        ge=-1e6, le=1e6)  # fmt: skip
    q_max_mvar: float | None = quantity(
        "Highest Q", "Most it can deliver; no bound when blank", unit="Mvar", ge=-1e6, le=1e6
    )
    participation: float = participation(1.0)
    dispatched: bool = movable()
    least_mw: float | None = least_power("as much as the network gives back")
    most_mw: float | None = most_power("as much as is asked for")
    cost_per_mwh: float | None = cost()
    cost_rising: float = rising_cost()
    cost_running: float = running_cost()
    cost_blocks: CostBlocks | None = cost_blocks()
    cost_per_mvarh: float = cost_of_reactive()
    z0_over_z1: float = quantity("Z0 / Z1", "Zero-sequence over positive-sequence impedance", unit="1", default=1.0, gt=0,
                                 le=100, typical=True, group="sequence")  # fmt: skip
    ideal: bool = choice(
        "Ideal", "On: holds all three phase voltages whatever each of them draws, and lets no harmonic stand. Off: negative and "
        "zero sequence and harmonics see its impedance", default=False, group="phases",
    )  # fmt: skip
    negative_pct: float = quantity("Negative sequence", "Of the voltage behind its impedance, without load", unit="%",
                                   default=0.0, ge=0, le=50, group="phases")  # fmt: skip
    negative_deg: float = quantity("Its angle", "Of the negative sequence", unit="°", default=0.0, ge=-360, le=360,
                                   group="phases")  # fmt: skip
    zero_pct: float = quantity("Zero sequence", "Of the voltage behind its impedance, without load", unit="%",
                               default=0.0, ge=0, le=50, group="phases")  # fmt: skip
    zero_deg: float = quantity("Angle of zero", "Of the zero sequence", unit="°", default=0.0, ge=-360, le=360,
                               group="phases")  # fmt: skip
    background: str | None = catalogue_type(
        "spectrum", "Harmonic voltages behind its impedance, per cent of its fundamental: the distortion that comes from outside",
        label="Background", group="harmonics",
    )  # fmt: skip
    neutral: Earthing = earthing()

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        if self.fault_min_mva > self.fault_max_mva:
            raise ValueError(f"fault_min_mva: the lowest fault level is above the highest, {self.fault_max_mva:g} MVA")
        if self.q_min_mvar is not None and self.q_max_mvar is not None and self.q_min_mvar > self.q_max_mvar:
            raise ValueError(f"q_min_mvar: the lowest reactive power is above the highest, {self.q_max_mvar:g} Mvar")
        check_powers(self)
        if self.r_ohm == 0 and self.x_ohm == 0:
            raise ValueError("x_ohm: resistance and reactance are both zero; enter one")
        return self

    @classmethod
    def situate(
        cls, data: dict[str, Any], values: Mapping[str, Any], find: Callable[[str], Item | None]
    ) -> dict[str, Any]:
        """Ohms belong to the nominal voltage of the bus unless it is said otherwise."""
        if not (values.keys() & {"r_ohm", "x_ohm"}) or data.get("impedance_kv") is not None:
            return {}
        kv = getattr(find(str(data.get("bus"))), "nominal_kv", None)
        return {"impedance_kv": kv} if kv else {}

    def reconcile(self, values: dict[str, Any]) -> dict[str, Any]:
        """Ohms give fault level and X/R; those blank the ohms. A lower fault level takes the lowest one along."""
        given = {f: getattr(self, f) for f in ("r_ohm", "x_ohm", "impedance_kv")} | values
        r, x, kv = given["r_ohm"], given["x_ohm"], given["impedance_kv"]
        numbers = all(isinstance(v, int | float) for v in (r, x, kv))
        if values.keys() & {"r_ohm", "x_ohm", "impedance_kv"} and numbers and (r or x) and min(r, x) >= 0 and kv > 0:
            found, ratio = source_from_ohm(r, x, kv)
            values = {**values, "fault_max_mva": found, "x_over_r": ratio}
        elif values.keys() & {"fault_max_mva", "x_over_r"} and self.r_ohm is not None:
            values = {"r_ohm": None, "x_ohm": None, "impedance_kv": None, **values}
        level = values.get("fault_max_mva")
        if isinstance(level, int | float) and 0 < level < self.fault_min_mva and "fault_min_mva" not in values:
            values = {**values, "fault_min_mva": level * self.fault_min_mva / self.fault_max_mva}
        return values
