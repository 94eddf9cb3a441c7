from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict

from ...network.fields import When, choice, quantity, reference

_TO_AREA: When = {"to": ("area",)}
_TO_BUS: When = {"to": ("bus",)}
_FROM_AREA: When = {"given_by": ("area",)}
_FROM_BUS: When = {"given_by": ("bus",)}


class TransferOptions(BaseModel):
    """Who gives more, who takes more, by which rule, over which outages, and what counts as a limit."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    to: Literal["all", "area", "bus", "pairs"] = choice(
        "Taken by", "All demand, that of an area, or that at a bus; or every area from every other", default="all"
    )
    to_area: str | None = reference("Area", "Whose demand grows", to="area", default=None, when=_TO_AREA)
    to_bus: str | None = reference(
        "Bus", "Where demand grows; with none there, at power factor one", to="bus", default=None, when=_TO_BUS
    )
    given_by: Literal["sources", "area", "bus"] = choice(
        "Given by",
        "The sources, or the plants of an area or at a bus; what they can't give the sources do",
        default="sources",
        when={"to": ("all", "area", "bus")},
    )
    from_area: str | None = reference("From area", "Whose plants give more", to="area", default=None, when=_FROM_AREA)
    from_bus: str | None = reference("From bus", "Whose plants give more", to="bus", default=None, when=_FROM_BUS)
    shared: Literal["size", "equal"] = choice(
        "Grows by", "Each by its size now, at its power factor and voltage dependence; or all the same", default="size"
    )
    most_mw: float = quantity("Up to", "Most that is tried", unit="MW", default=300.0, gt=0, le=1e5)
    outages: Literal["none", "model"] = choice(
        "Outages", "None; or those of the model, each branch where it has none", default="none"
    )
    thermal: bool = choice("Loading", "Ends where a branch carries more than is allowed", default=True, group="limits")
    voltage: bool = choice("Voltage", "Ends where a voltage leaves its limits", default=True, group="limits")
    angle_deg: float | None = quantity(
        "Angle",
        "Ends where the voltages at the ends of a line are further apart; not looked at when blank",
        unit="°",
        default=None,
        gt=0,
        le=180,
        group="limits",
    )
    step_pct: float | None = quantity(
        "Voltage step",
        "Ends where an outage moves a voltage by more, of itself; not looked at when blank",
        unit="%",
        default=None,
        gt=0,
        le=100,
        group="limits",
    )
    watched_kv: float = quantity(
        "Held from", "Lowest nominal voltage at which limits are looked at", unit="kV", default=0.0, ge=0, le=1500, group="limits"
    )  # fmt: skip
    already: Literal["left_out", "counts"] = choice(
        "Past limits now",
        "What is beyond its limits before anything more is carried is left out; or nothing more can be",
        default="left_out",
        group="limits",
    )
    reserve_mw: float = quantity(
        "Reserve", "Kept free of what can be carried", unit="MW", default=0.0, ge=0, le=1e5, group="limits"
    )
    beyond: bool = choice(
        "Past the turn", "Voltages are drawn behind the turning point as well", default=True, group="curves"
    )


class ReactiveOptions(BaseModel):
    """At which buses, and over which voltages."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    bus: str | None = reference("Bus", "All buses from the voltage below when blank", to="bus", default=None)
    from_kv: float = quantity("From", "Nominal voltage", unit="kV", default=30.0, ge=0, le=1500)
    low_pu: float = quantity("Lowest voltage", "Down to which the curve goes", unit="p.u.", default=0.4, ge=0.1, le=1.0)
    high_pu: float = quantity("Highest voltage", "From which it starts", unit="p.u.", default=1.1, ge=0.8, le=1.5)
    outages: Literal["none", "model"] = choice(
        "Outages", "None; or those of the model, each branch where it has none", default="none"
    )


class HeadroomOptions(BaseModel):
    """At which buses, over which outages, within which limits."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    bus: str | None = reference("Bus", "All buses from the voltage below when blank", to="bus", default=None)
    together: Literal["each", "pairs"] = choice(
        "Asked about", "Each bus by itself; or any two of them together, each taking or giving half; with a bus named: it with "
        "each of the others", default="each",
    )  # fmt: skip
    from_kv: float = quantity(
        "From", "Nominal voltage of the buses asked about", unit="kV", default=30.0, ge=0, le=1500
    )
    outages: Literal["none", "model"] = choice(
        "Outages", "None; or those of the model, each branch where it has none", default="none"
    )
    most_mw: float = quantity("Up to", "Most that is tried", unit="MW", default=100.0, gt=0, le=1e5)
    power_factor: float = quantity("Power factor", "Of the demand that is added", unit="1", default=0.95, ge=0.5, le=1)
    thermal: bool = choice("Loading", "Ends where a branch carries more than is allowed", default=True, group="limits")
    voltage: bool = choice("Voltage", "Ends where a voltage leaves its limits", default=True, group="limits")
    watched_kv: float = quantity(
        "Held from", "Lowest nominal voltage at which limits are looked at", unit="kV", default=0.0, ge=0, le=1500, group="limits"
    )  # fmt: skip
    already: Literal["left_out", "counts"] = choice(
        "Past limits now", "What is beyond its limits before anything is added is left out; or nothing can be added",
        default="left_out", group="limits",
    )  # fmt: skip


class LimitTableOptions(BaseModel):
    """Of what, over which conditions and outages, within which limits."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    of: Literal["both", "interfaces", "plants"] = choice("Of", "Interfaces, plants, or both", default="both")
    from_mw: float = quantity("Plants from", "Smallest plant that counts", unit="MW", default=5.0, ge=0, le=1e5)
    over: Literal["present", "conditions"] = choice(
        "Under", "The condition in use, or all conditions", default="conditions"
    )
    outages: Literal["none", "model"] = choice(
        "Outages", "None; or those of the model, each branch where it has none", default="model"
    )
    most_mw: float = quantity("Up to", "Most that is tried beyond what is now", unit="MW", default=200.0, gt=0, le=1e5)
    thermal: bool = choice("Loading", "Ends where a branch carries more than is allowed", default=True, group="limits")
    voltage: bool = choice("Voltage", "Ends where a voltage leaves its limits", default=True, group="limits")
    watched_kv: float = quantity(
        "Held from", "Lowest nominal voltage at which limits are looked at", unit="kV", default=0.0, ge=0, le=1500, group="limits"
    )  # fmt: skip
