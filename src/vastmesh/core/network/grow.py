"""Growing: what can be added at a bus, arriving connected, at the right voltage, with typical data."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from ..catalogue import LINE_TYPES, standard_rating, typical_line_type, typical_transformer
from ..errors import FieldProblem, InvalidFields, UnknownElement
from .changes import Add, Change
from .elements.bus import Bus
from .elements.line import Line
from .network import Network

_LEVELS = [0.4, 11.0, 33.0, 132.0]


@dataclass(frozen=True)
class Shoot:
    """One thing that can be grown at a bus."""

    name: str
    label: str
    meaning: str
    build: Callable[[Network, Bus], list[dict[str, Any]]]


@dataclass(frozen=True)
class Grown:
    """Changes that add it, what to select afterwards, and the new bus, which still needs a place."""

    changes: list[Change]
    select: str
    bus: str | None


def grow(network: Network, bus_id: str, what: str) -> Grown:
    """Plan growing something at a bus. Raises :class:`UnknownElement` for a bus or shoot that isn't there."""
    bus = network[bus_id]
    if not isinstance(bus, Bus):
        raise UnknownElement(bus_id, wanted_by="growing at a bus")
    if what not in SHOOTS:
        raise InvalidFields([FieldProblem(bus_id, "grow", what, "choose one of " + ", ".join(SHOOTS))])
    items = SHOOTS[what].build(network, bus)
    new_bus = next((i["id"] for i in items if i["kind"] == "bus"), None)
    select = (
        next(i["id"] for i in items if i["kind"] == what) if any(i["kind"] == what for i in items) else items[-1]["id"]
    )
    return Grown([Add(item=i) for i in items], select, new_bus)


def free_id(network: Network, stem: str) -> str:
    """The stem itself, or the first of "stem (2)", "stem (3)" ... that is not taken."""
    number, found = 1, stem
    while found in network:
        number += 1
        found = f"{stem} ({number})"
    return found


def next_id(network: Network, stem: str) -> str:
    """The first of "stem 1", "stem 2" ... that is not taken, counting on from a number at its end."""
    head = stem.rstrip("0123456789")
    number = int(stem[len(head) :] or 0) if head != stem else 0
    head = head if head.endswith(("-", " ", "/")) or not head or number else head + " "
    while True:
        number += 1
        if f"{head}{number}" not in network:
            return f"{head}{number}"


def _typical(values: dict[str, Any]) -> dict[str, Any]:
    """Values marked as typical until somebody confirms them."""
    return {**values, "origins": dict.fromkeys(values, "typical")}


def _new_bus(network: Network, near: Bus, kv: float | None, stem: str) -> dict[str, Any]:
    ident = next_id(network, stem)
    same = {f: v for f in ("area",) if (v := getattr(near, f))}
    if kv == near.nominal_kv and near.substation is None:
        same |= {"conductors": near.conductors}
    return {"kind": "bus", "id": ident, "nominal_kv": kv, **same}


def _at_bus(network: Network, bus: Bus, kind: str, stem: str, values: dict[str, Any]) -> list[dict[str, Any]]:
    return [{"kind": kind, "id": free_id(network, stem), "bus": bus.id, **_typical(values)}]


def _load(network: Network, bus: Bus) -> list[dict[str, Any]]:
    size = {0.4: 0.02, 11.0: 0.5, 33.0: 5.0}.get(_level(bus), 20.0)
    return _at_bus(network, bus, "load", f"Load {bus.name}", {"active_power_mw": size, "power_factor": 0.95})


def _generator(network: Network, bus: Bus) -> list[dict[str, Any]]:
    size = {0.4: 0.01, 11.0: 1.0, 33.0: 10.0}.get(_level(bus), 50.0)
    values = {"active_power_mw": size, "rated_mva": round(size * 1.1, 4), "control": "power_factor",
              "power_factor": 1.0}  # fmt: skip
    return _at_bus(network, bus, "generator", f"Gen {bus.name}", values)


def _source(network: Network, bus: Bus) -> list[dict[str, Any]]:
    level = {0.4: 20.0, 11.0: 250.0, 33.0: 1000.0}.get(_level(bus), 5000.0)
    values = {"voltage_pu": 1.0, "fault_max_mva": level, "fault_min_mva": 0.8 * level, "x_over_r": 10.0}
    return _at_bus(network, bus, "source", f"Supply {bus.name}", values)


def _shunt(network: Network, bus: Bus) -> list[dict[str, Any]]:
    size = {0.4: 0.025, 11.0: 1.2, 33.0: 6.0}.get(_level(bus), 20.0)
    values = {"step_mvar": size, "steps": 1, "steps_on": 1}
    return _at_bus(network, bus, "shunt", f"Capacitor {bus.name}", values)


def _line(network: Network, bus: Bus) -> list[dict[str, Any]]:
    """A line like the one that feeds the bus, else the typical one of its voltage."""
    new = _new_bus(network, bus, bus.nominal_kv, bus.name)
    feeding = next((e for e in network.connected(bus.id) if isinstance(e, Line)), None)
    length = {0.4: 0.05, 11.0: 0.8, 33.0: 6.0}.get(_level(bus), 20.0)
    item = {"kind": "line", "id": free_id(network, f"Line {bus.name}"), "from_bus": bus.id, "to_bus": new["id"]}
    kind = feeding.type if feeding else typical_line_type(bus.nominal_kv or 11.0)
    if kind and kind in LINE_TYPES:
        return [new, {**item, **_typical({"length_km": length, "type": kind})}]
    per_km = {"r_ohm_per_km": 0.03, "x_ohm_per_km": 0.3, "b_us_per_km": 4.0, "rating_a": 1500.0}
    if feeding:
        fields = ("r_ohm_per_km", "x_ohm_per_km", "b_us_per_km", "rating_a")
        per_km = {f: v for f in fields if (v := getattr(feeding, f)) is not None}
    return [new, {**item, **_typical({"length_km": length, **per_km})}]


def _transformer(network: Network, bus: Bus) -> list[dict[str, Any]]:
    kv = bus.nominal_kv or 11.0
    low = max((level for level in _LEVELS if level < kv * 0.6), default=kv / 2)
    new = _new_bus(network, bus, low, f"{bus.name} {low:g} kV")
    rated = standard_rating({0.4: 0.4, 11.0: 10.0, 33.0: 40.0}.get(low, 100.0))
    item = {"kind": "transformer", "id": free_id(network, f"T {bus.name}"), "hv_bus": bus.id, "lv_bus": new["id"]}
    return [new, {**item, **_typical({"rated_mva": rated, **typical_transformer(rated, kv, low)})}]


def _switch(network: Network, bus: Bus) -> list[dict[str, Any]]:
    new = _new_bus(network, bus, bus.nominal_kv, bus.name)
    item = {"kind": "switch", "id": free_id(network, f"Switch {bus.name}"), "from_bus": bus.id, "to_bus": new["id"]}
    return [new, {**item, "device": "breaker"}]


def _level(bus: Bus) -> float:
    return min(_LEVELS, key=lambda level: abs(level - (bus.nominal_kv or 11.0)) / level)


SHOOTS = {
    s.name: s
    for s in (
        Shoot("load", "Load", "Demand at this bus", _load),
        Shoot("line", "Line + bus", "A line to a new bus of the same voltage", _line),
        Shoot("transformer", "Transformer + bus", "A transformer down to a new bus", _transformer),
        Shoot("generator", "Generator", "A generator at this bus", _generator),
        Shoot("shunt", "Capacitor", "A capacitor bank at this bus", _shunt),
        Shoot("switch", "Switch + bus", "A closed switch to a new bus", _switch),
        Shoot("source", "Source", "A strong network that feeds this bus", _source),
    )
}


def first_bus(network: Network, kv: float = 33.0) -> list[Change]:
    """What an empty network starts from: a bus with a source."""
    bus = Bus(id=next_id(network, "Bus"), name="Supply point", nominal_kv=kv)
    items = [bus.model_dump(mode="json", exclude_none=True), *_source(network, bus)]
    return [Add(item=i) for i in items]
