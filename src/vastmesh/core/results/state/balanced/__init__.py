"""The solved state of the balanced network."""

from ._live import LiveLoadFlow, live_options, run_load_flow

__all__ = ["LiveLoadFlow", "live_options", "run_load_flow"]
