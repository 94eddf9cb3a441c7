"""The solved state per phase: every conductor, neutral and earth."""

from ._live import LiveUnbalanced, live_options, run_unbalanced

__all__ = ["LiveUnbalanced", "live_options", "run_unbalanced"]
