"""Plots as data: a study declares what is drawn against what, and every view, picture and document draws it alike."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from numpy.typing import NDArray

Values = Sequence[float | str | None] | NDArray[Any]


@dataclass(frozen=True)
class Axis:
    """What an axis counts; ``digits``: decimals that mean something. Words instead of numbers stand at even distances.

    ``linked``: names what plots have in common, so that pointing in one marks the same place in the others; ``per``: what one
    of it is on this axis.
    """

    label: str
    unit: str | None = None
    digits: int | None = None
    linked: str | None = None
    per: float = 1.0


@dataclass(frozen=True)
class Series:
    """One curve, row of bars or cloud of points: x and y of equal length, NaN where there is nothing.

    ``elements``: the element behind each point, by id, for those that can be chosen on the plot. ``labels``: what is written
    beside points. ``drawn`` as levels: what the bars of the same words are held against. As cells: y is words as well, and ``z``
    the figure by which each cell is coloured; ``elements`` stand behind the cells.
    """

    name: str
    label: str
    x: Values
    y: Values
    drawn: Literal["line", "bars", "points", "levels", "cells"] = "line"
    elements: Sequence[str | None] = ()
    labels: Sequence[str] = ()
    z: Values = ()


@dataclass(frozen=True)
class Bound:
    """A limit drawn across the plot, along x or along y; along z cells beyond it are framed."""

    label: str
    value: float
    across: Literal["x", "y", "z"] = "y"


@dataclass(frozen=True)
class Figure:
    """A declared plot: its axes, what is drawn, and the limits drawn in. ``z``: what the colour of cells counts."""

    name: str
    label: str
    x: Axis
    y: Axis
    series: list[Series]
    bounds: list[Bound] = field(default_factory=list)
    z: Axis | None = None
