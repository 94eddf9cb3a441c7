from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from importlib import import_module
from typing import Any

from ..network import Item, Network


@dataclass(frozen=True)
class Step:
    """One figure: what it is, by which formula, with the inputs put in, and where the formula comes from.

    ``field``: the blank field of the element that this figure stands for.
    """

    symbol: str
    label: str
    formula: str
    inputs: str
    value: float | str
    unit: str = ""
    source: str = ""
    field: str | None = None


@dataclass(frozen=True)
class Matrix:
    """A complex matrix by rows, with the names of its conductors; ``terms`` says how each entry came about."""

    label: str
    unit: str
    names: tuple[str, ...]
    rows: list[list[tuple[float, float]]]
    terms: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class Cell:
    """One line: a given figure (``expression`` None) or a computed one. ``solver``: the program's own figure for it."""

    symbol: str
    label: str
    value: float
    unit: str
    source: str
    expression: str | None = None
    solver: float | None = None


@dataclass(frozen=True)
class Working:
    """A worked calculation: its title, its steps in order, and matrices where there are any.

    ``ledger``: its lines with their expressions, where it can be written as a sheet that recomputes itself.
    """

    title: str
    steps: list[Step]
    matrices: list[Matrix] = field(default_factory=list)
    note: str = ""
    ledger: tuple[Cell, ...] = ()


Explainer = Callable[[Network, Any], Iterator[Working]]
_EXPLAINERS: dict[type[Item], Explainer] = {}


def explains(*kinds: type[Item]) -> Callable[[Explainer], Explainer]:
    """Register what explains the data of some kinds."""

    def register(function: Explainer) -> Explainer:
        for kind in kinds:
            _EXPLAINERS[kind] = function
        return function

    return register


def explain(network: Network, ident: str) -> list[Working]:
    """How the figures of an item follow from what was entered. Raises :class:`UnknownElement`."""
    import_module(f"{__package__}._plates")
    import_module(f"{__package__}._lines")
    item = network[ident]
    found = _EXPLAINERS.get(type(item))
    return list(found(network, item)) if found else []


def figures(value: float, digits: int = 4) -> str:
    """A number as it stands in worked lines: so many significant figures."""
    return f"{value:.{digits}g}"
