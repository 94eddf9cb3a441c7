"""Optimal power flow: the cheapest, least lossy or least changed way to run within all limits, and what each limit costs."""

from __future__ import annotations

from ..base import Study, register
from ._options import OptimalFlowOptions
from ._study import run_optimal_flow
from ._workings import explain_optimal_flow

__all__ = ["OptimalFlowOptions", "run_optimal_flow"]

register(
    Study(
        name="optimal_flow",
        label="Optimal flow",
        purpose="The best dispatch and voltages within all limits, the price of power at every bus, and what each limit costs",
        options=OptimalFlowOptions,
        run=run_optimal_flow,
        desk="optimise",
        explain=explain_optimal_flow,
    )
)
