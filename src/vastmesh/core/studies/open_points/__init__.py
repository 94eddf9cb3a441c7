"""Open points: where a network that could be run in loops is best open."""

from __future__ import annotations

from ..base import Study, register
from ._options import OpenPointsOptions
from ._study import run_open_points

__all__ = ["OpenPointsOptions", "run_open_points"]

register(
    Study(
        name="open_points",
        label="Open points",
        purpose="Which switches and lines are best open, for the least losses or the lowest loading",
        options=OpenPointsOptions,
        run=run_open_points,
        desk="optimise",
    )
)
