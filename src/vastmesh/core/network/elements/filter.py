from __future__ import annotations

from math import sqrt
from typing import Any, Literal, Self

from pydantic import model_validator

from ...catalogue import TYPICAL_QUALITY, FilterCircuit, FilterKind, design_filter, filter_of_parts
from ..fields import choice, quantity, reference
from ..items import Element, Role

_PLATE = ("step_mvar", "tuned_order", "second_order", "quality", "reactor_pct")
_PARTS = ("c_uf", "l_mh", "r_ohm", "c2_uf", "l2_mh")
_TWO = {"design": ("double", "c_type")}
_DOUBLE = {"design": ("double",)}


class Filter(Element):
    """A passive harmonic filter between bus and earth, or a capacitor bank with reactors, switched in equal steps.

    It is known by its name plate, or by its parts: what is entered blanks the other, which then follows.
    """

    label, plural = "Filter", "Filters"
    role = Role.SHUNT

    kind: Literal["filter"] = "filter"
    bus: str = reference("Bus", "Bus it is connected to", to="bus", terminal=True)
    design: FilterKind = choice(
        "Kind", "Single-tuned; double-tuned; second-order high-pass; C-type, a high-pass without losses at the network's "
        "frequency; or detuned: a capacitor bank with reactors that keep it from resonance", default="single",
    )  # fmt: skip
    step_mvar: float | None = quantity(
        "Power per step", "Reactive power that one step delivers at rated voltage", unit="Mvar", gt=0, le=1e5
    )
    rated_kv: float | None = quantity(
        "Rated voltage", "Voltage at which a step has its power; the bus's nominal voltage when blank", unit="kV", gt=0, le=1500
    )  # fmt: skip
    tuned_order: float | None = quantity(
        "Tuned order", "Order at which its impedance is least: usually a little below the harmonic", unit="1", ge=1.05, le=100
    )  # fmt: skip
    second_order: float | None = quantity(
        "Second order", "Further order, above the first", unit="1", ge=1.1, le=200, when=_DOUBLE
    )  # fmt: skip
    reactor_pct: float | None = quantity(
        "Reactor share", "Its reactance over that of the capacitor: another way to say the tuned order, 100 / n²", unit="%",
        gt=0, le=90, when={"design": ("detuned", "single")},
    )  # fmt: skip
    quality: float | None = quantity(
        "Quality", "Tuned ones: reactance of the reactor at the tuned order over its resistance. Others: the resistance "
        "beside the reactor over that reactance. 40 and 2 when blank", unit="1", ge=0.05, le=1000,
    )  # fmt: skip
    steps: int = quantity("Steps", "Number of steps installed", unit="1", default=1, ge=1, le=100)
    steps_on: int = quantity("Steps on", "Number of steps in service", unit="1", default=1, ge=0, le=100)
    c_uf: float | None = quantity(
        "Capacitance", "Of one step, each phase of the star", unit="µF", gt=0, le=1e7, group="parts"
    )
    l_mh: float | None = quantity(
        "Inductance", "Of one step, each phase of the star", unit="mH", gt=0, le=1e6, group="parts"
    )
    r_ohm: float | None = quantity(
        "Resistance", "In series in a tuned filter, beside the reactor in the others", unit="Ω", gt=0, le=1e7, group="parts"
    )  # fmt: skip
    c2_uf: float | None = quantity("Second capacitance", "Of one step, each phase of the star", unit="µF", gt=0, le=1e9,
                                   group="parts", when=_TWO)  # fmt: skip
    l2_mh: float | None = quantity("Second inductance", "Of one step, each phase of the star", unit="mH", gt=0, le=1e6,
                                   group="parts", when=_DOUBLE)  # fmt: skip
    capacitor_kv: float | None = quantity(
        "Capacitor voltage", "Rated voltage of the capacitors, between phases; when blank what they have at the rated voltage of "
        "the filter", unit="kV", gt=0, le=3000, group="parts",
    )  # fmt: skip
    connection: Literal["wye", "delta", "earthed"] = choice(
        "Connection", "Wye: to the neutral (to a free star point where there is none); delta; or star point earthed",
        default="wye", group="phases",
    )  # fmt: skip

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        if self.steps_on > self.steps:
            raise ValueError(f"steps_on: only {self.steps} are installed")
        if self.second_order is not None and self.tuned_order is not None and self.second_order <= self.tuned_order:
            raise ValueError(f"second_order: enter an order above the first one, {self.tuned_order:g}")
        return self

    def _missing_beyond_fields(self) -> tuple[str, ...]:
        if any(getattr(self, f) is not None for f in _PARTS):
            wanted = ["c_uf", "l_mh"]
            wanted += ["c2_uf"] if self.design in ("double", "c_type") else []
            wanted += ["l2_mh"] if self.design == "double" else []
            return tuple(f for f in wanted if getattr(self, f) is None)
        blank = [] if self.step_mvar is not None else ["step_mvar"]
        blank += ["tuned_order"] if self.tuned_order is None and self.reactor_pct is None else []
        blank += ["second_order"] if self.design == "double" and self.second_order is None else []
        return tuple(blank)

    def reconcile(self, values: dict[str, Any]) -> dict[str, Any]:
        """Name plate and parts exclude each other, as do the two ways to say the tuned order: what is entered last counts."""
        given = {f for f, v in values.items() if v is not None}
        blank: tuple[str, ...] = ()
        if given & set(_PARTS) and not given & set(_PLATE):
            blank = _PLATE
        elif given & set(_PLATE) and not given & set(_PARTS):
            blank = _PARTS
            blank += ("reactor_pct",) if "tuned_order" in given else ("tuned_order",) if "reactor_pct" in given else ()
        return {
            **super().reconcile(values),
            **{f: None for f in blank if getattr(self, f) is not None and f not in given},
        }

    def by_parts(self) -> bool:
        return self.c_uf is not None

    def order(self) -> float:
        """Tuned order of the name plate. Raises ValueError where it is blank."""
        if self.tuned_order is not None:
            return self.tuned_order
        if self.reactor_pct is None:
            raise ValueError("the filter has no tuned order")
        return sqrt(100 / self.reactor_pct)

    def quality_factor(self) -> float:
        return self.quality if self.quality is not None else TYPICAL_QUALITY[self.design]

    def circuit(self, nominal_kv: float, frequency_hz: float) -> FilterCircuit:
        """One step, one phase of the star, Ω. Raises ValueError where something is missing."""
        if self.missing():
            raise ValueError(f"{', '.join(self.missing())}: blank")
        if self.by_parts():
            return filter_of_parts(self.design, frequency_hz, self.c_uf or 0.0, self.l_mh or 0.0, self.r_ohm,
                                   self.c2_uf or 0.0, self.l2_mh or 0.0)  # fmt: skip
        return design_filter(self.design, self.step_mvar or 0.0, self.rated_kv or nominal_kv, self.order(),
                             self.quality_factor(), self.second_order)  # fmt: skip

    def capacitor_voltage_kv(self, nominal_kv: float, frequency_hz: float) -> float:
        """Rated voltage of the capacitors between phases: as entered, or what they have at the rated voltage of the filter."""
        if self.capacitor_kv is not None:
            return self.capacitor_kv
        circuit = self.circuit(nominal_kv, frequency_hz)
        return float((self.rated_kv or nominal_kv) * circuit.xc / abs(circuit.impedance(1.0)))
