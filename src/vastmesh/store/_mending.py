"""What earlier versions accepted and this one refuses, brought into a form that means the same: projects must open."""

from __future__ import annotations

from functools import cache
from typing import Any

from ..core.network import REGISTRY, Add, Change, Transformer, Update, specs


def mended(item: dict[str, Any]) -> dict[str, Any]:
    """A stored item as this version takes it.

    A vector group whose windings can't have its clock number takes the next one that they can have, and a further phase
    shift that keeps the angle it had. A reference to nothing, once written as an empty text, is blank.
    """
    if "" in item.values():
        empty = [f for f in _references(str(item.get("kind"))) if item.get(f) == ""]
        if empty:  # most empty texts are names and notes, which stay
            item = {f: v for f, v in item.items() if f not in empty}
    group = item.get("vector_group")
    if item.get("kind") != "transformer" or not isinstance(group, str):
        return item
    able = Transformer.possible_group(group)
    if able is None or able == group:
        return item
    shift = float(item.get("phase_shift_deg") or 0.0) - 30.0 * (_clock(able) - _clock(group))
    return {**item, "vector_group": able, "phase_shift_deg": (shift + 180.0) % 360.0 - 180.0}


def mended_changes(changes: list[Change]) -> list[Change]:
    """Changes of the journal likewise; of an update only the group, as the rest of the element is not in it."""
    found: list[Change] = []
    for change in changes:
        if isinstance(change, Add):
            found.append(change.model_copy(update={"item": mended(change.item)}))
        elif isinstance(change, Update) and (values := _mended_values(change.values)) != change.values:
            found.append(change.model_copy(update={"values": values}))
        else:
            found.append(change)
    return found


def _mended_values(values: dict[str, Any]) -> dict[str, Any]:
    found = {f: None if v == "" and f in _all_references() else v for f, v in values.items()}
    if isinstance(group := found.get("vector_group"), str):
        found["vector_group"] = Transformer.possible_group(group) or group
    return found


@cache
def _references(kind: str) -> tuple[str, ...]:
    """Names of fields of a kind that refer to other items."""
    cls = REGISTRY.get(kind)
    return tuple(f for f, s in specs(cls).items() if s.ref) if cls else ()


@cache
def _all_references() -> frozenset[str]:
    return frozenset(f for kind in REGISTRY for f in _references(kind))


def _clock(group: str) -> int:
    return int(group.lstrip("YNDZynadz"))


__all__ = ["mended", "mended_changes"]
