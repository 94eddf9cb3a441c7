"""Which conductors something connects to, and positions of taps phase by phase: the same fields everywhere."""

from __future__ import annotations

from typing import Any, Literal, Protocol

from ..fields import When, choice, quantity

PHASES = "ABC"
Connection = Literal["wye", "delta"]
Taps = Literal["ganged", "per_phase"]


def connection(meaning: str) -> Any:
    return choice("Connection", meaning, default="wye", group="phases")


def phase_tap(phase: str, when: When, *, wound: bool = False) -> Any:
    """``wound``: of a transformer, whose windings lie between phases or turn them by its clock number."""
    place = f"of the winding that begins at {phase} on the side with the taps (in delta from {phase} to the next phase)"
    return quantity(f"Tap {phase}", f"Position {place if wound else f'in phase {phase}'}; the common position when blank",
                    unit="1", ge=-100, le=100, group="phases", when=when)  # fmt: skip


def taps() -> Any:
    return choice(
        "Taps", "One position for all phases, or one control for each phase", default="ganged", group="phases"
    )


def phase_power(phase: str, part: str, *, plant: bool = False, when: When | None = None) -> Any:
    """Power of one phase: of wye from it to the neutral, of delta from it to the next phase."""
    word, unit = ("Active power", "MW") if part == "p" else ("Reactive power", "Mvar")
    meaning = (
        f"Delivered into phase {phase}; the phases' sum is the plant's" if plant
        else f"Of phase {phase} (of delta: from it to the next); the phases' sum is the load"
    )  # fmt: skip
    return quantity(f"{word} {phase}", meaning, unit=unit, ge=-1e5, le=1e5, shown_as=("kW" if part == "p" else "kvar", 1000),
                    group="phases", when=when)  # fmt: skip


def phases_of(conductors: str) -> str:
    """The phases among conductors, without the neutral."""
    return conductors.replace("N", "")


class Tapped(Protocol):
    """What has a tap for all phases or one for each."""

    @property
    def taps(self) -> Taps: ...
    @property
    def tap_position(self) -> int: ...
    @property
    def tap_min(self) -> int: ...
    @property
    def tap_max(self) -> int: ...
    @property
    def tap_a(self) -> int | None: ...
    @property
    def tap_b(self) -> int | None: ...
    @property
    def tap_c(self) -> int | None: ...


def tap_positions(e: Tapped) -> tuple[float, float, float]:
    """Entered position of each phase."""
    if e.taps == "ganged":
        return (float(e.tap_position),) * 3
    a, b, c = (float(e.tap_position if t is None else t) for t in (e.tap_a, e.tap_b, e.tap_c))
    return a, b, c


def check_phase_taps(e: Tapped) -> None:
    """Raises ValueError for a phase whose position is not within the range."""
    for phase, tap in zip(PHASES, (e.tap_a, e.tap_b, e.tap_c), strict=True):
        if tap is not None and not e.tap_min <= tap <= e.tap_max:
            raise ValueError(f"tap_{phase.lower()}: enter a position from {e.tap_min} to {e.tap_max}, or none")


__all__ = [
    "PHASES", "Connection", "Taps", "check_phase_taps", "connection", "phase_power", "phase_tap", "phases_of", "tap_positions",
    "taps",
]  # fmt: skip
