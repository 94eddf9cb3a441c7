"""Placing: where capacitors and regulators are worth most."""

from __future__ import annotations

from ..base import Study, register
from ._options import PlacingOptions
from ._study import run_placing

__all__ = ["PlacingOptions", "run_placing"]

register(
    Study(
        name="placing",
        label="Places",
        purpose="Best places and sizes of capacitors and regulators over several conditions, by what they save in a year",
        options=PlacingOptions,
        run=run_placing,
        desk="optimise",
    )
)
