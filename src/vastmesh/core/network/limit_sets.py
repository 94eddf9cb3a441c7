"""Sets of limits: what holds for good, for hours, and for the minutes until somebody has acted."""

from __future__ import annotations

from typing import Literal

LimitSet = Literal["normal", "emergency", "short_time"]
