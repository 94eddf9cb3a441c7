"""Tap changers, of whatever kind, as turns by position."""

from __future__ import annotations

from dataclasses import dataclass
from math import radians
from typing import Any

from ...network import Item, Regulator, ThreeWinding, Transformer


@dataclass(frozen=True)
class Changer:
    """``side``: 0 at the from end of the branch, 1 at its to end. ``rated_kv``: of the tapped winding; None: that of the bus at
    the other end. ``automatic``: name of the field that lets it step by itself, where that is on."""

    side: int
    rated_kv: float | None
    neutral: int
    step: float
    low: int
    high: int
    now: int
    automatic: str

    def turns(self, position: float) -> float:
        """Per unit of rated turns."""
        return 1 + (position - self.neutral) * self.step

    def position(self, turns: float) -> float:
        return self.neutral + (turns - 1) / self.step if self.step else float(self.now)


def changer_of(item: Item | None) -> Changer | None:
    """None where an optimal flow may not move it. Those with taps by phase stay as they are."""
    e: Any = item
    if isinstance(item, Transformer):
        side = 0 if item.tap_side == "hv" else 1
        kv = item.hv_kv if side == 0 else item.lv_kv
        figures = side, kv, item.tap_neutral, item.tap_step_pct / 100, "regulates"
    elif isinstance(item, Regulator):
        figures = 1, None, 0, item.step_pct / 100, "automatic"
    elif isinstance(item, ThreeWinding):
        figures = 0, item.hv_kv, 0, item.tap_step_pct / 100, ""
    else:
        return None
    if not e.optimised:
        return None
    ganged = getattr(e, "taps", "ganged") != "per_phase"
    side, kv, neutral, step, automatic = figures
    return Changer(side, kv, neutral, step if ganged else 0.0, e.tap_min, e.tap_max, e.tap_position,
                   automatic if automatic and getattr(e, automatic) else "")  # fmt: skip


def shift_steps(t: Transformer, angle_now: float) -> tuple[float, float, int]:
    """Of a phase shifter: further shift at its position 0, shift of a step, both rad, and most steps either way; ``angle_now``:
    its whole shift as it stands, rad."""
    zero = t.clock_shift_rad() - radians(t.phase_shift_deg) - angle_now
    return zero, radians(t.shift_step_deg), int(t.shift_most_deg / t.shift_step_deg)
