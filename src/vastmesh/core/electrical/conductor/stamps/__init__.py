"""How each kind of element stands in conductor coordinates; a new module here is found by itself.

A stamp gets all elements of its kind and the builder, and adds terminals, admittances, demand or machines to it.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from importlib import import_module
from pkgutil import iter_modules
from typing import Any

from ....network import Element
from .._builder import Builder

StampFunction = Callable[[Sequence[Any], Builder], None]
STAMPS: dict[str, StampFunction] = {}


def stamp(kind: type[Element]) -> Callable[[StampFunction], StampFunction]:
    """Register the stamp of a kind."""

    def register(function: StampFunction) -> StampFunction:
        STAMPS[kind.model_fields["kind"].default] = function
        return function

    return register


for _module in iter_modules(__path__):
    import_module(f"{__name__}.{_module.name}")
