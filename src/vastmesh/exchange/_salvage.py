"""Taking in what can be taken in: one bad value never turns a whole file away."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from ..core.errors import DuplicateElement, InvalidFields, UnknownElement
from ..core.network import REGISTRY, Network, specs
from ._report import Remark


def take_in(items: Sequence[dict[str, Any]], lines: Mapping[str, int] | None = None) -> tuple[Network, list[Remark]]:
    """A network of the items that are allowed, and why each of the others was left out.

    What refers to something left out is left out too, as nothing may hang in the air. ``lines``: of the file, by id.
    Raises what was wrong when nothing is left.
    """
    kept, left = list(items), list[Remark]()
    first: InvalidFields | DuplicateElement | UnknownElement | None = None
    while True:
        try:
            network = Network.from_items(kept)
        except InvalidFields as error:
            first = first or error
            why = {p.element: str(p) for p in reversed(error.problems)}
            gone = [i for i in kept if str(i.get("id")) in why or not isinstance(i.get("id"), str)]
        except DuplicateElement as error:
            first = first or error
            twins = [i for i in kept if i.get("id") == error.element][1:]
            why = {error.element: f"{error.element}: the id stands twice; the first counts"}
            gone = [i for i in kept if any(i is t for t in twins)]
        except UnknownElement as error:
            first = first or error
            ident = error.wanted_by.split(",")[0]
            why = {ident: f"{error.wanted_by} names {error.element}, which is not there"}
            gone = [i for i in kept if i.get("id") == ident]
        else:
            if first is not None and not network.items:
                raise first
            return network, left
        if not gone:
            raise first
        for item in gone:
            ident = str(item.get("id"))
            left.append(Remark((lines or {}).get(ident), why.get(ident, "an item without an id")))
        dropped = {id(i) for i in gone}
        kept = [i for i in kept if id(i) not in dropped]
        # What refers to them has no footing either; in one go, as a bus may carry hundreds.
        names = {str(i.get("id")) for i in gone} - {str(i.get("id")) for i in kept}
        while hanging := [i for i in kept if _refers(i, names)]:
            for item in hanging:
                ident = str(item.get("id"))
                lost = _refers(item, names)
                left.append(Remark((lines or {}).get(ident), f"{ident}: it refers to {lost}, which was left out"))
            dropped = {id(i) for i in hanging}
            kept = [i for i in kept if id(i) not in dropped]
            names |= {str(i.get("id")) for i in hanging}


def _refers(item: dict[str, Any], names: set[str]) -> str:
    """The first of these ids that a required reference of an item names; "" for none."""
    kind = item.get("kind")
    cls = REGISTRY.get(kind) if isinstance(kind, str) else None
    if cls is None:
        return ""
    values = (item.get(f) for f, s in specs(cls).items() if s.ref and s.required)
    return next((v for v in values if isinstance(v, str) and v in names), "")
