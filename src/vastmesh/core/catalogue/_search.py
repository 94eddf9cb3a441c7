"""Searching the catalogue: any part of the description, with ranges ("Al 95..185 11 kV")."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

from ._types import EquipmentType, types_of

_NUMBER = re.compile(r"^(\d+(?:\.\d+)?)(?:\.\.(\d+(?:\.\d+)?))?$")
_UNITS = ("mm²", "kva", "mva", "kv", "ka", "a")
_SPLIT = re.compile(r"(?<=[\d.])(?=(?:mm²|kva|mva|kv|ka|a)$)")


@dataclass(frozen=True)
class _Figure:
    """A figure or range asked for; ``unit`` is blank when none was typed after it."""

    low: float
    high: float
    unit: str


def search(types: Iterable[EquipmentType], query: str) -> list[EquipmentType]:
    """Types that match every word of the query, in their order.

    A number must be one of the type's figures (11 finds 11 kV, not 110 mm²), ``95..185`` asks for a size in that
    range; a unit after either says which figure is meant. Any other word is a piece of the description.
    """
    wanted = _parse(query)
    return [t for t in types if all(_matches(t, w) for w in wanted)]


def _parse(query: str) -> list[str | _Figure]:
    text = query.lower().replace(",", " ").replace("mm2", "mm²")
    words = [part for w in text.split() for part in _SPLIT.split(w) if part]
    found: list[str | _Figure] = []
    for word in words:
        if limits := _NUMBER.match(word):
            found.append(_Figure(float(limits[1]), float(limits[2] or limits[1]), ""))
        elif word in _UNITS and found and isinstance(last := found[-1], _Figure) and not last.unit:
            found[-1] = _Figure(last.low, last.high, word)
        else:
            found.append(word)
    return found


def _matches(found: EquipmentType, wanted: str | _Figure) -> bool:
    if isinstance(wanted, str):
        return wanted in f"{found.name} {found.description}".lower()
    if wanted.unit:
        among = [n for unit, n in found.numbers if unit == wanted.unit]
    elif wanted.low == wanted.high:
        among = [n for k, (unit, n) in enumerate(found.numbers) if unit != "a" or k == 0]
    else:
        among = [n for _, n in found.numbers[:1]]
    return any(wanted.low <= n <= wanted.high for n in among)


def neighbour(found: EquipmentType, step: int, among: Iterable[EquipmentType] | None = None) -> EquipmentType | None:
    """The next larger (+1) or smaller (-1) type of the same series; None at its end."""
    pool = types_of(found.family).values() if among is None else among
    series = sorted((t for t in pool if t.series == found.series), key=lambda t: t.size)
    names = [t.name for t in series]
    if found.name not in names:
        return None
    place = names.index(found.name) + step
    return series[place] if 0 <= place < len(series) else None
