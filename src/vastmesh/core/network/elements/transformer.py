from __future__ import annotations

import re
from math import radians, sqrt
from typing import Any, Literal, Self

from pydantic import model_validator

from ...catalogue import COOLING, r_and_x, typical_x_over_r, zero_sequence_share
from ..fields import catalogue_type, choice, quantity, reference
from ..items import Conductors, Role
from ._control import compensation, continuous, delay, held_bus
from ._failing import Failing, Gear, gear
from ._harmonics import ResistanceTable, eddy, resistance_table
from ._market import optimised
from ._neutral import Earthing, earthing, earthing_current, earthing_resistance, other_of_pair
from ._phases import Taps, check_phase_taps, phase_tap, taps

_GROUP = re.compile(r"^(YN|Y|D|ZN|Z)(yn|y|d|zn|z|a)(\d|1[01])$|^(I)(i)(0|6)$|^(I)(ii)(0)$|^(V)(v)(0)$")
# Clock numbers that windings can have: each delta or zigzag between the two sides turns by 30°, their ends by 60° or 180°.
_TURNS = {"Y": 0, "D": 1, "Z": 1}
_PER_PHASE = {"taps": ("per_phase",)}
_HV_STAR = {"vector_group": ("~YN", "~ZN")}
_LV_STAR = {"vector_group": ("~yn", "~zn", "~a")}
_AUTO = {"regulates": (True,)}
_HOLDS_FLOW = {"holds_flow": (True,)}


class Transformer(Failing):
    """A two-winding transformer or auto-transformer, described by its name plate.

    The leakage impedance sits on the side without the tap changer (the HV side when there is
    none), on the rated voltage of that side; the tap changes the turns of the tapped side.
    """

    label, plural = "Transformer", "Transformers"
    role, wound = Role.BRANCH, True

    kind: Literal["transformer"] = "transformer"
    hv_bus: str = reference("HV bus", "Bus at the high-voltage side", to="bus", terminal=True)
    lv_bus: str = reference("LV bus", "Bus at the low-voltage side", to="bus", terminal=True)
    type: str | None = catalogue_type("transformer", "Transformer type that gives the name plate")
    windings: Literal["separate", "auto"] = choice(
        "Windings", "Two separate windings, or an auto-transformer whose windings share turns", default="separate"
    )
    rated_mva: float | None = quantity(
        "Rated power", "Rated apparent power, natural cooling", unit="MVA", gt=0, le=5000, required=True
    )
    cooling: Literal["ONAN", "ONAN/ONAF", "ONAN/ONAF/OFAF", "AN", "AN/AF"] = choice(
        "Cooling", "Cooling stages, self-cooled first", default="ONAN", typical=True
    )
    emergency_mva: float | None = quantity(
        "Forced cooling", "Apparent power with all cooling stages, or for hours", unit="MVA", gt=0, le=10000
    )
    short_time_mva: float | None = quantity(
        "Short-time rating", "Apparent power allowed for minutes; that with forced cooling when blank", unit="MVA", gt=0,
        le=10000,
    )  # fmt: skip
    hv_kv: float | None = quantity(
        "Rated HV", "Rated line-to-line voltage of the HV winding", unit="kV", gt=0, le=1500, required=True
    )
    lv_kv: float | None = quantity(
        "Rated LV", "Rated line-to-line voltage of the LV winding", unit="kV", gt=0, le=1500, required=True
    )
    impedance_pct: float | None = quantity(
        "Impedance", "Short-circuit impedance on rated power and voltage; negative where the reactance is, as in the star "
        "equivalent of three windings", unit="%", ge=-1e5, le=1e5, required=True,
    )  # fmt: skip
    x_over_r: float | None = quantity(
        "X / R", "Leakage reactance over winding resistance; typical of the rating when no load loss is given either",
        unit="1", ge=0, le=1e6,
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
        "Vector group", "Winding connections and clock number (LV lags HV by 30° times the number); YNa0 for auto",
        default="Dyn11", typical=True,
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
    regulates: bool = choice("Automatic taps", "The tap changer steps by itself to hold the LV voltage", default=False)
    target_pu: float = quantity("Target", "Voltage held at the LV bus", unit="p.u.", default=1.0, ge=0.8, le=1.2,
                                typical=True, when=_AUTO)  # fmt: skip
    band_pct: float = quantity("Dead band", "Width of the band around the target", unit="%", default=2.5, gt=0, le=20,
                               typical=True, when=_AUTO)  # fmt: skip
    held_bus: str | None = held_bus("the LV bus", when=_AUTO)
    ldc_r_ohm: float = compensation("R", when=_AUTO)
    ldc_x_ohm: float = compensation("X", when=_AUTO)
    continuous: bool = continuous(when=_AUTO)
    delay_s: float = delay(when=_AUTO)
    holds_flow: bool = choice(
        "Holds a flow", "A phase shifter that steps by itself to hold the active power into its HV side", default=False,
        group="control",
    )  # fmt: skip
    flow_mw: float = quantity("Flow held", "Active power into the HV side", unit="MW", default=0.0, ge=-1e5, le=1e5,
                              group="control", when=_HOLDS_FLOW)  # fmt: skip
    flow_band_mw: float = quantity("Band of flow", "Width of the band around it", unit="MW", default=2.0, gt=0, le=1e4,
                                   typical=True, group="control", when=_HOLDS_FLOW)  # fmt: skip
    shift_step_deg: float = quantity("Shift step", "Phase shift of one step", unit="°", default=1.0, gt=0, le=30,
                                     typical=True, group="control", when=_HOLDS_FLOW)  # fmt: skip
    shift_most_deg: float = quantity("Most shift", "Largest further phase shift either way", unit="°", default=30.0, gt=0,
                                     le=180, typical=True, group="control", when=_HOLDS_FLOW)  # fmt: skip
    loading_limit_pct: float | None = quantity(
        "Highest loading", "Highest loading allowed here; that of the network when blank", unit="%", gt=0, le=1000
    )
    optimised: bool = optimised("taps or phase shifters")
    hv_neutral: Earthing = earthing("HV", when=_HV_STAR)
    hv_neutral_ohm: float | None = earthing_resistance("hv_neutral", "HV")
    hv_neutral_a: float | None = earthing_current("hv_neutral", "HV")
    lv_neutral: Earthing = earthing("LV", when=_LV_STAR)
    lv_neutral_ohm: float | None = earthing_resistance("lv_neutral", "LV")
    lv_neutral_a: float | None = earthing_current("lv_neutral", "LV")
    lv_conductors: Conductors | None = choice(
        "LV conductors",
        "Which conductors its LV side connects to; as the LV bus when blank",
        default=None,
        group="phases",
    )
    primary_share_pct: float = quantity(
        "Leakage in HV", "Of a centre-tapped unit: share of the leakage that lies in the HV winding and is common to both "
        "halves", unit="%", default=0.0, ge=0, le=95, group="phases", when={"vector_group": ("~Iii",)},
    )  # fmt: skip
    taps: Taps = taps()
    tap_a: int | None = phase_tap("A", _PER_PHASE, wound=True)
    tap_b: int | None = phase_tap("B", _PER_PHASE, wound=True)
    tap_c: int | None = phase_tap("C", _PER_PHASE, wound=True)
    core: Literal["three_limb", "five_limb", "shell", "bank"] = choice(
        "Core", "Three limbs, five limbs, shell, or a bank of single-phase units", default="three_limb", typical=True,
        group="sequence",
    )  # fmt: skip
    z0_pct: float | None = quantity(
        "Impedance, zero", "Zero-sequence impedance seen from the earthed star side; typical of core and vector group "
        "when blank", unit="%", gt=0, le=10000, group="sequence",
    )  # fmt: skip
    x0_over_r0: float | None = quantity("X0 / R0", "As X / R when blank", unit="1", ge=0, le=1e6, group="sequence")
    skin_exponent: float = quantity(
        "Skin effect", "Resistance at harmonic order h is R times h to this power", unit="1", default=1.0, ge=0, le=2,
        typical=True, group="harmonics",
    )  # fmt: skip
    resistance_table: ResistanceTable | None = resistance_table()
    eddy_pct: float | None = eddy()
    hv_gear: Gear | None = gear("HV side")
    lv_gear: Gear | None = gear("LV side")

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        if self.hv_bus == self.lv_bus:
            raise ValueError("lv_bus: a transformer joins two different buses")
        match = _GROUP.match(self.vector_group)
        if not match:
            raise ValueError(
                "vector_group: write it as YNd1, Dyn11, YNyn0, YNa0 ..., Ii0 for a single-phase unit, Iii0 for one with a "
                "centre tap, Vv0 for an open delta"
            )
        if (fault := self._impossible_group()) is not None:
            raise ValueError(fault)
        if (fault := self._unfit_conductors()) is not None:
            raise ValueError(fault)
        check_phase_taps(self)
        hv, lv, clock = self.winding_groups()
        if (self.windings == "auto") != (lv == "a") or (lv == "a" and (hv != "YN" or clock != "0")):
            raise ValueError("vector_group: an auto-transformer, and only that, has the group YNa0")
        if self.tap_min > self.tap_max:
            raise ValueError("tap_min: the lowest tap is above the highest one")
        if not self.tap_min <= self.tap_position <= self.tap_max:
            raise ValueError(f"tap_position: enter a position from {self.tap_min} to {self.tap_max}")
        if self.tapped_turns() <= 0.2:
            raise ValueError("tap_step_pct: this step and position leave less than a fifth of the turns")
        if self.impedance_pct is not None and abs(self.impedance_pct) < 1e-6:
            raise ValueError("impedance_pct: enter an impedance other than zero, or draw a closed switch")
        loss = self.load_loss_kw
        if loss is not None and self.rated_mva and self.impedance_pct:
            most = abs(self.impedance_pct) * 10 * self.rated_mva
            if loss > most:
                raise ValueError(f"load_loss_kw: above {most:g} kW the loss would exceed the impedance")
        return self

    def reconcile(self, values: dict[str, Any]) -> dict[str, Any]:
        """Load loss and X/R give way to each other, as do ohms and rated current of a neutral."""
        values = super().reconcile(values)
        if values.get("windings") == "auto" and "vector_group" not in values:
            values = {**values, "vector_group": "YNa0"}
        elif values.get("windings") == "separate" and "vector_group" not in values and "a" in self.vector_group:
            values = {**values, "vector_group": "YNyn0"}
        values = other_of_pair(values, "load_loss_kw", "x_over_r")
        values = other_of_pair(values, "hv_neutral_ohm", "hv_neutral_a")
        return other_of_pair(values, "lv_neutral_ohm", "lv_neutral_a")

    def tapped_turns(self, position: int | None = None) -> float:
        """Turns of the tapped winding, per unit of rated turns, at a position (the present one)."""
        position = self.tap_position if position is None else position
        return 1 + (position - self.tap_neutral) * self.tap_step_pct / 100

    def clock_shift_rad(self) -> float:
        """Angle by which HV leads LV: 30° per hour of the vector group, plus the further shift."""
        return radians(30 * self.clock() + self.phase_shift_deg)

    def clock(self) -> int:
        """Clock number of the vector group."""
        return int(self.winding_groups()[2])

    def winding_groups(self) -> tuple[str, str, str]:
        """HV winding, LV winding and clock number of the vector group, such as ("D", "yn", "11")."""
        match = _GROUP.match(self.vector_group)
        assert match, "validated"
        hv, lv, clock = (g for g in match.groups() if g is not None)
        return hv, lv, clock

    def single_phase(self) -> bool:
        """Whether it is a single-phase unit, with or without a centre tap."""
        return self.vector_group.startswith("I")

    @staticmethod
    def possible_group(group: str) -> str | None:
        """The group itself where its windings can have its clock number, else with the next number that they can have; None
        where it is no group of three-phase windings."""
        match = _GROUP.match(group)
        if match is None:
            return None
        hv, lv, clock = (g for g in match.groups() if g is not None)
        if hv[0] not in _TURNS or lv == "a":
            return group
        odd = (_TURNS[hv[0]] + _TURNS[lv[0].upper()]) % 2
        return group if int(clock) % 2 == odd else f"{hv}{lv}{(int(clock) + 1) % 12}"

    def _impossible_group(self) -> str | None:
        """What is wrong with the clock number for the windings; None when they go together."""
        hv, lv, clock = self.winding_groups()
        if self.possible_group(self.vector_group) == self.vector_group:
            return None
        odd = (int(clock) + 1) % 2
        able = ", ".join(f"{hv}{lv}{n}" for n in range(odd, 12, 2))
        return f"vector_group: these windings can't have the clock number {clock}; there are {able}"

    def _unfit_conductors(self) -> str | None:
        """What is wrong with the conductors for the vector group; None when they fit."""
        hv, low = self.conductors, self.lv_conductors
        if self.single_phase():
            if len(hv) != 2:
                return "conductors: a single-phase unit connects to two conductors, for example AN or AB"
            if low is not None and len(low) != (3 if self.vector_group.startswith("Iii") else 2):
                return "lv_conductors: name both ends, for example AN; with a centre tap ABN"
            if self.vector_group.startswith("Iii") and low is not None and "N" not in low:
                return "lv_conductors: the middle of a centre-tapped winding is N; write ABN"
        elif not set("ABC") <= set(hv) or (low is not None and not set("ABC") <= set(low)):
            return "conductors: a three-phase unit connects to A, B and C; write the vector group Ii0 for a single-phase one"
        return None

    def impedance_pu(self) -> complex:
        """Leakage impedance per unit on rated power; IEC 60076-1: R from load loss, X from the rest."""
        z = (self.impedance_pct or 0) / 100
        if self.load_loss_kw is not None:
            r = self.load_loss_kw / 1000 / (self.rated_mva or 1)
            found = complex(r, sqrt(max(z * z - r * r, 0)))
        else:
            found = r_and_x(abs(z), self.ratio_x_r())
        return found if z >= 0 else found.conjugate()

    def ratio_x_r(self) -> float:
        """X/R as entered, else typical of the rating class."""
        return typical_x_over_r(self.rated_mva or 1.0) if self.x_over_r is None else self.x_over_r

    def magnetising_pu(self) -> complex:
        """No-load admittance per unit on rated power: G from iron loss, B from the no-load current."""
        g = self.iron_loss_kw / 1000 / (self.rated_mva or 1)
        return complex(g, -sqrt(max((self.no_load_current_pct / 100) ** 2 - g * g, 0)))

    def zero_sequence_pct(self) -> float | None:
        """Zero-sequence impedance seen from the earthed star side, %: entered, or typical; None where none flows."""
        if self.z0_pct is not None:
            return self.z0_pct
        share = zero_sequence_share(self.vector_group, self.core)
        return None if share is None or self.impedance_pct is None else share * abs(self.impedance_pct)

    def overload_mva(self) -> float | None:
        """Rating with all cooling stages: entered, or the customary step above self-cooled."""
        if self.emergency_mva is not None or self.rated_mva is None:
            return self.emergency_mva
        return self.rated_mva * COOLING[self.cooling][-1]
