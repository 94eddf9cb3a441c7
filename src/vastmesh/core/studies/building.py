"""Changes that build something new where something stands."""

from __future__ import annotations

from typing import Any

from ..network import Add, Change, Line, Network, Update
from ..network.names import Namer


def bus_between(
    line: Line, network: Network, namer: Namer, side: int, called: str
) -> tuple[str, dict[str, Any], str, str]:
    """A new bus just before an end (0 from, 1 to) of a line: its id, the bus as an item, the line's field that is to name it, and
    the bus that stands there now."""
    field = "from_bus" if side == 0 else "to_bus"
    near, far = (getattr(line, f) for f in (("from_bus", "to_bus") if side == 0 else ("to_bus", "from_bus")))
    at, there = network[near], network[far]
    ident = namer.plain(called)
    bus: dict[str, Any] = {"kind": "bus", "id": ident, "name": ident, "nominal_kv": at.nominal_kv, "area": at.area}  # type: ignore[attr-defined]
    if at.x is not None and there.x is not None:  # type: ignore[attr-defined]
        bus |= {"x": at.x + 0.2 * (there.x - at.x), "y": at.y + 0.2 * (there.y - at.y)}  # type: ignore[attr-defined]
    return ident, bus, field, near


def regulator_in(line: Any, network: Network, namer: Namer, side: int, **fields: Any) -> list[Change]:
    """A regulator before a line: a bus of its own between both, and the line joined to that."""
    behind, bus, field, near = bus_between(line, network, namer, side, f"{line.id} behind regulator")
    ident = namer.plain(f"{line.id} regulator")
    regulator = {"kind": "regulator", "id": ident, "name": ident, "from_bus": near, "to_bus": behind, **fields}
    return [Add(item=bus), Add(item=regulator), Update(id=line.id, values={field: behind})]
