"""Transfer: how much more can be carried from here to there, and how far the edge is."""

from __future__ import annotations

from ..base import Study, register
from ._headroom import SPLIT as HEADROOM
from ._options import HeadroomOptions, LimitTableOptions, ReactiveOptions, TransferOptions
from ._reactive import run_reactive
from ._study import SPLIT
from ._tables import SPLIT as TABLES
from ._workings import explain

__all__ = ["HeadroomOptions", "LimitTableOptions", "ReactiveOptions", "TransferOptions", "run_reactive"]

register(
    Study(
        name="transfer",
        label="Transfer",
        purpose="How much more power goes from one group of buses to another, now and after outages, and what stops it",
        options=TransferOptions,
        run=SPLIT.run,
        split=SPLIT,
        explain=explain,
        desk="limits",
    )
)
register(
    Study(
        name="reactive",
        label="Reactive margin",
        purpose="How much reactive power each bus is short of, or has left, before its voltage collapses",
        options=ReactiveOptions,
        run=run_reactive,
        desk="limits",
    )
)
register(
    Study(
        name="headroom",
        label="Headroom",
        purpose="How much more demand and how much more generation each bus can have, within all limits, now and after outages",
        options=HeadroomOptions,
        run=HEADROOM.run,
        split=HEADROOM,
        desk="limits",
    )
)
register(
    Study(
        name="limit_table",
        label="Limit tables",
        purpose="The largest value of every interface and plant, with what binds, over conditions and outages",
        options=LimitTableOptions,
        run=TABLES.run,
        split=TABLES,
        desk="limits",
    )
)
