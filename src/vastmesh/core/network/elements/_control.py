"""Automatic control of a voltage: the same fields wherever something steps to hold one."""

from __future__ import annotations

from typing import Any

from ..fields import When, choice, quantity, reference


def held_bus(otherwise: str, when: When) -> Any:
    return reference("Bus held", f"Bus whose voltage is held; {otherwise} when blank", to="bus", default=None,
                     group="control", when=when)  # fmt: skip


def compensation(part: str, when: When) -> Any:
    return quantity(
        f"Compensation {part}",
        f"{'Resistance' if part == 'R' else 'Reactance'} of the line behind: the voltage is held where the current out "
        "of the regulated side has passed it", unit="Ω", default=0.0, ge=-100, le=100, group="control", when=when,
    )  # fmt: skip


def continuous(when: When) -> Any:
    return choice("Continuous", "The tap takes any position between its ends and holds the target itself, without a "
                  "dead band", default=False, group="control", when=when)  # fmt: skip


def delay(when: When) -> Any:
    return quantity("Delay", "The shorter acts first; with equal delays the one nearer to the source", unit="s",
                    default=30.0, ge=0, le=3600, typical=True, group="control", when=when)  # fmt: skip


def participation(default: float) -> Any:
    return quantity(
        "Participation", "Share in what sources and machines take over together, by weight: where the slack is shared "
        "(settings), and for the exchange of its area. Beside machines with a droop: MW for each per cent of frequency",
        unit="1", default=default, ge=0, le=1e6, group="control",
    )  # fmt: skip


def droop() -> Any:
    return quantity(
        "Droop", "Fall of frequency, of nominal, from no load to rated power: its weight in what is shared is then rated power "
        "over droop, MW for each per cent, in place of its participation", unit="%", default=None, gt=0, le=100, group="control",
    )  # fmt: skip
