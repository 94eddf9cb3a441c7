"""Demand by any two of active, reactive and apparent power, power factor and current."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from math import sqrt
from typing import Annotated, Any, Self

from pydantic import Field, model_validator

from ...catalogue import SQRT3
from ..fields import choice, quantity, reference
from ..items import Element, Item
from ._phases import PHASES, Connection, connection, phase_power, phases_of

POWER = ("active_power_mw", "reactive_power_mvar", "apparent_power_mva", "current_a", "power_factor")
_SIZES = ("apparent_power_mva", "current_a")
# Two that fix a load, in the order in which one gives way to a newly entered one.
PAIRS = [
    {"active_power_mw", "reactive_power_mvar"}, {"active_power_mw", "power_factor"},
    {"apparent_power_mva", "power_factor"}, {"current_a", "power_factor"}, {"active_power_mw", "apparent_power_mva"},
    {"active_power_mw", "current_a"}, {"reactive_power_mvar", "power_factor"},
    {"apparent_power_mva", "reactive_power_mvar"}, {"current_a", "reactive_power_mvar"},
]  # fmt: skip
_WORDS = "active power, reactive power, apparent power, current and power factor"


class Demand(Element):
    """What draws power at one bus, given by two figures; the others follow."""

    bus: str = reference("Bus", "Bus it is connected to", to="bus", terminal=True)
    active_power_mw: float | None = quantity(
        "Active power", "At nominal voltage and 100 % demand", unit="MW", ge=-1e5, le=1e5
    )
    reactive_power_mvar: float | None = quantity(
        "Reactive power", "At nominal voltage and 100 % demand; positive is inductive", unit="Mvar", ge=-1e5, le=1e5
    )
    apparent_power_mva: float | None = quantity(
        "Apparent power", "At nominal voltage and 100 % demand", unit="MVA", ge=0, le=1e5
    )
    current_a: float | None = quantity("Current", "At nominal voltage and 100 % demand", unit="A", ge=0, le=1e6)
    rated_kv: float | None = quantity(
        "Rated voltage", "Voltage the current belongs to; the nominal voltage of the bus when the load is put there",
        unit="kV", gt=0, le=1500, when={"current_a": ("~",)},
    )  # fmt: skip
    power_factor: float | None = quantity(
        "Power factor", "Active over apparent power; negative when capacitive", unit="1", ge=-1, le=1
    )
    demand_class: Annotated[str, Field(min_length=1, max_length=40)] = choice(
        "Class", "Kind of customer; conditions scale demand by it", default="domestic", typical=True
    )
    customers: int = quantity("Customers", "Number of customers supplied", unit="1", default=1, ge=0, le=10_000_000)
    average_pct: float | None = quantity(
        "Average demand", "Over a year, of its active power; by the profile of its class when blank", unit="%", ge=0, le=100,
        group="reliability",
    )  # fmt: skip
    priority: int = quantity("Priority", "1 is supplied again first, 5 last", unit="1", default=3, ge=1, le=5,
                             group="reliability")  # fmt: skip

    along: str | None = reference(
        "Spread along", "Line from or to its bus along which it is spread evenly; all of it at the bus when blank", to="line",
        default=None,
    )  # fmt: skip
    connection: Connection = connection(
        "Wye: from each phase to the neutral (to a free star point where there is none); delta: from phase to phase"
    )
    p_a_mw: float | None = phase_power("A", "p")
    p_b_mw: float | None = phase_power("B", "p")
    p_c_mw: float | None = phase_power("C", "p")
    q_a_mvar: float | None = phase_power("A", "q")
    q_b_mvar: float | None = phase_power("B", "q")
    q_c_mvar: float | None = phase_power("C", "q")

    @model_validator(mode="before")
    @classmethod
    def _sum_of_phases(cls, data: Any) -> Any:
        """Powers of phases that come without any other figure give the load."""
        if not isinstance(data, dict) or any(data.get(f) is not None for f in POWER):
            return data
        p, q = ([data.get(f"p_{k}_mw" if part == "p" else f"q_{k}_mvar") for k in "abc"] for part in "pq")
        if all(v is None for v in (*p, *q)) or not all(isinstance(v, int | float | None) for v in (*p, *q)):
            return data
        return {**data, "active_power_mw": sum(v or 0.0 for v in p), "reactive_power_mvar": sum(v or 0.0 for v in q)}

    @model_validator(mode="after")
    def _phase_powers(self) -> Self:
        given = self.phase_powers_mva()
        if given is None:
            return self
        absent = [PHASES[i] for i, s in enumerate(given) if s and PHASES[i] not in self.conductors]
        if absent:
            raise ValueError(
                f"p_{absent[0].lower()}_mw: it is not connected to phase {absent[0]}; blank it or connect it"
            )
        total, own = sum(given), self.power_mva()
        if self._given() in PAIRS and abs(total - own) > 1e-9 + 1e-6 * abs(own):
            raise ValueError(f"active_power_mw: the phases add up to {total:.6g} MVA; blank them or enter their sum")
        return self

    @model_validator(mode="after")
    def _two_figures(self) -> Self:
        given = self._given()
        if len(given) > 2 or (len(given) == 2 and given not in PAIRS):
            raise ValueError(f"{', '.join(POWER)}: give two of {_WORDS} that do not say the same")
        if self.power_factor is not None and abs(self.power_factor) < 0.05:
            raise ValueError("power_factor: enter a value from 0.05 to 1, or from -1 to -0.05")
        size, part = (
            self._size_mva(),
            self.active_power_mw if self.active_power_mw is not None else self.reactive_power_mvar,
        )
        if size is not None and part is not None and self.power_factor is None and abs(part) > size * (1 + 1e-9):
            name = "active_power_mw" if self.active_power_mw is not None else "reactive_power_mvar"
            raise ValueError(f"{name}: enter at most the apparent power, {size:.6g} MVA")
        return self

    @classmethod
    def situate(
        cls, data: dict[str, Any], values: Mapping[str, Any], find: Callable[[str], Item | None]
    ) -> dict[str, Any]:
        """A current belongs to the nominal voltage of the bus unless it is said otherwise."""
        if values.get("current_a") is None or data.get("rated_kv") is not None:
            return {}
        kv = getattr(find(str(data.get("bus"))), "nominal_kv", None)
        return {"rated_kv": kv, "current_a": values["current_a"]} if kv else {}

    def drawn_at(self, find: Callable[[str], Item | None]) -> tuple[str, ...]:
        """Buses that draw it, in equal parts: its own; of one spread along a line, both ends of that line.

        An even spread drops the voltage as half of it at each end does, whichever way the line is supplied: the mean
        distance is half the length. All is drawn at its bus where the line is not in service or does not touch it.
        """
        line = find(self.along) if self.along else None
        if not isinstance(line, Element) or not line.in_service or self.bus not in line.buses():
            return (self.bus,)
        ends = tuple(b for b in line.buses() if getattr(find(b), "in_service", False))
        return ends if len(ends) == 2 and not line.missing() else (self.bus,)

    def _given(self) -> set[str]:
        return {f for f in POWER if getattr(self, f) is not None}

    def _size_mva(self) -> float | None:
        if self.apparent_power_mva is not None:
            return self.apparent_power_mva
        if self.current_a is not None and self.rated_kv is not None:
            return self.mva_per_ampere(self.rated_kv) * self.current_a
        return None

    def mva_per_ampere(self, kv: float) -> float:
        """Apparent power for each ampere in its phases at a line-to-line voltage: √3 U of three phases, U / √3 of one against
        the neutral, U between two."""
        phases = len(phases_of(self.conductors))
        if phases == 2 and ("N" not in self.conductors or self.connection == "delta"):
            return kv / 1e3
        return phases * kv / SQRT3 / 1e3

    def _missing_beyond_fields(self) -> tuple[str, ...]:
        given = self._given()
        if given in PAIRS:
            return ("rated_kv",) if self.current_a is not None and self.rated_kv is None else ()
        return next((tuple(sorted(p - given)) for p in PAIRS if given < p), ("active_power_mw", "reactive_power_mvar"))

    def reconcile(self, values: dict[str, Any]) -> dict[str, Any]:
        """Entering a third power figure replaces the one it contradicts; phases and their sum follow each other."""
        values = self._with_phases(super().reconcile(values))
        entered = {f for f in POWER if values.get(f) is not None}
        kept = {f for f in POWER if f not in values and getattr(self, f) is not None}
        if entered and entered | kept not in PAIRS and len(entered) <= 2:
            for pair in PAIRS:
                if entered <= pair and (pair - entered <= kept or pair == entered):
                    values = {**dict.fromkeys(sorted(kept - pair)), **values}
                    break
            else:
                values = {**dict.fromkeys(sorted(kept)), **values}
        return values

    def phase_powers_mva(self) -> tuple[complex, complex, complex] | None:
        """Powers of the three phases (of delta: AB, BC, CA) in MVA, where they are given one by one."""
        active, reactive = (self.p_a_mw, self.p_b_mw, self.p_c_mw), (self.q_a_mvar, self.q_b_mvar, self.q_c_mvar)
        if active == reactive == (None, None, None):
            return None
        a, b, c = (complex(p or 0.0, q or 0.0) for p, q in zip(active, reactive, strict=True))
        return a, b, c

    def _with_phases(self, values: dict[str, Any]) -> dict[str, Any]:
        """Entered powers of phases set the sum; a sum entered anew takes their place."""
        names = [f"p_{k}_mw" for k in "abc"] + [f"q_{k}_mvar" for k in "abc"]
        if any(f in values for f in names):
            now = {f: values.get(f, getattr(self, f)) for f in names}
            if all(v is None for v in now.values()) or not all(isinstance(v, int | float | None) for v in now.values()):
                return values
            total = dict.fromkeys(POWER)
            return {**total, "active_power_mw": sum(now[f] or 0.0 for f in names[:3]),
                    "reactive_power_mvar": sum(now[f] or 0.0 for f in names[3:]), **values}  # fmt: skip
        given = self.phase_powers_mva()
        if given is None or not any(f in values for f in POWER):
            return values
        return {**dict.fromkeys(names), **values}

    def power_mva(self) -> complex:
        """P + jQ in MW and Mvar at nominal voltage and 100 % demand."""
        p, q, pf, s = self.active_power_mw, self.reactive_power_mvar, self.power_factor, self._size_mva()
        if p is not None and q is not None:
            return complex(p, q)
        if pf is not None:
            tan = sqrt(1 - pf * pf) / pf
            if q is not None:
                return complex(abs(q) * abs(1 / tan) if tan else 0.0, q)
            if p is None and s is None:
                return 0j
            p = (s or 0.0) * abs(pf) if p is None else p
            return complex(p, p * tan)
        if s is None:
            return 0j
        if p is not None:
            return complex(p, sqrt(max(s * s - p * p, 0.0)))
        return complex(sqrt(max(s * s - (q or 0) ** 2, 0.0)), q or 0.0)


def share_filled(item: Element, shares: tuple[str, ...], values: dict[str, Any]) -> dict[str, Any]:
    """When one of several shares is entered alone, the first other one takes up what is left of 100 %."""
    changed = [s for s in shares if s in values]
    if len(changed) == 1 and isinstance(values[changed[0]], int | float):
        filler = next(s for s in shares if s != changed[0])
        rest = 100 - values[changed[0]] - sum(getattr(item, s) for s in shares if s not in (filler, changed[0]))
        if 0 <= rest <= 100:
            return {**values, filler: rest}
    return values


def check_shares(item: Element, shares: tuple[str, ...], words: str) -> None:
    total = sum(getattr(item, s) for s in shares)
    if abs(total - 100) > 1e-6:
        raise ValueError(f"{shares[0]}: the shares of {words} add up to {total:g} %, they must add up to 100 %")


__all__ = ["PAIRS", "POWER", "Demand", "check_shares", "share_filled"]
