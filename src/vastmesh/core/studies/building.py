"""Changes that build something new where something stands."""

from __future__ import annotations

from typing import Any

from ..network import Add, Change, Network, Update
from ..network.names import Namer


def regulator_in(line: Any, network: Network, namer: Namer, side: int, **fields: Any) -> list[Change]:
    """A regulator before an end (0 from, 1 to) of a line: a bus of its own between both, and the line joined to that."""
    field = "from_bus" if side == 0 else "to_bus"
    near, far = (getattr(line, f) for f in (("from_bus", "to_bus") if side == 0 else ("to_bus", "from_bus")))
    at: Any = network[near]
    there: Any = network[far]
    behind, ident = namer.plain(f"{line.id} behind regulator"), namer.plain(f"{line.id} regulator")
    bus = {"kind": "bus", "id": behind, "name": behind, "nominal_kv": at.nominal_kv, "area": at.area}
    if at.x is not None and there.x is not None:
        bus |= {"x": at.x + 0.2 * (there.x - at.x), "y": at.y + 0.2 * (there.y - at.y)}
    regulator = {"kind": "regulator", "id": ident, "name": ident, "from_bus": near, "to_bus": behind, **fields}
    return [Add(item=bus), Add(item=regulator), Update(id=line.id, values={field: behind})]
