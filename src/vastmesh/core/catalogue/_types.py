"""What a catalogue type is, and the register of families."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cache

Value = float | int | str


@dataclass(frozen=True)
class EquipmentType:
    """One generic equipment type.

    ``values``: the element fields it gives, in the units of those fields. ``series`` and ``size``: its place
    among types that differ only in size; ``basis``: reference conditions and source of the figures.
    ``numbers``: (unit, figure) pairs a search may name; the first is the size.
    """

    family: str
    name: str
    description: str
    values: Mapping[str, Value]
    series: str = ""
    size: float = 0.0
    basis: str = ""
    numbers: tuple[tuple[str, float], ...] = field(default=(), repr=False)


@dataclass(frozen=True)
class Family:
    """A family of types: what it is called, and which figures tell its members apart in a list."""

    name: str
    label: str
    meaning: str
    shown: tuple[str, ...]
    build: Callable[[], list[EquipmentType]]


FAMILIES: dict[str, Family] = {}


def family(found: Family) -> Family:
    FAMILIES[found.name] = found
    return found


@cache
def types_of(family_name: str) -> dict[str, EquipmentType]:
    """All built-in types of a family by name, in order."""
    return {t.name: t for t in FAMILIES[family_name].build()}


def find_type(family_name: str, name: object) -> EquipmentType | None:
    """A built-in type by its name; None when there is none, or when it is no name."""
    return types_of(family_name).get(name) if family_name in FAMILIES and isinstance(name, str) else None
