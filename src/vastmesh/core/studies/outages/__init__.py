"""Outages: what happens when something is lost, and what helps."""

from __future__ import annotations

from ..base import Study, register
from ..losses import Loss, losses
from ._options import OutagesOptions
from ._study import SPLIT, first_part
from ._workings import explain

__all__ = ["Loss", "OutagesOptions", "first_part", "losses"]

register(
    Study(
        name="outages",
        label="Outages",
        purpose="What is overloaded, out of its voltage limits or without supply after the loss of any element, and what helps",
        options=OutagesOptions,
        run=SPLIT.run,
        split=SPLIT,
        explain=explain,
        desk="limits",
    )
)
