"""Outages: what happens when something is lost, and what helps."""

from __future__ import annotations

from ..base import Study, register
from ..losses import Loss, losses
from ._compare import SPLIT as COMPARED
from ._options import ComparedOptions, OutagesOptions
from ._study import SPLIT
from ._workings import explain

__all__ = ["ComparedOptions", "Loss", "OutagesOptions", "losses"]

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
register(
    Study(
        name="outages_compared",
        label="Outages side by side",
        purpose="The same outages under every scheme or every condition: which scheme cures which outage",
        options=ComparedOptions,
        run=COMPARED.run,
        split=COMPARED,
        desk="limits",
    )
)
