"""How often equipment fails and how long it is away: as entered, else typical of its kind."""

from __future__ import annotations

from dataclasses import dataclass

from .elements._failing import Failing
from .elements.bus import Bus
from .elements.generator import Generator
from .elements.line import Line
from .elements.source import Source
from .elements.switch import Switch
from .network import Network


@dataclass(frozen=True)
class Failures:
    """Of one element as a whole: permanent and temporary failures and planned outages per year, mean hours away after a failure
    and in a planned outage. ``typical``: fields that nobody entered."""

    rate: float
    temporary: float
    hours: float
    planned: float
    planned_h: float
    typical: tuple[str, ...]


Rows = tuple[tuple[float, float, float, float], ...]

# Orders of magnitude from what utilities publish; by lowest nominal voltage, kV: failures, temporary ones (of lines per km),
# hours.
_OVERHEAD: Rows = ((100.0, 0.012, 0.03, 12.0), (20.0, 0.03, 0.08, 8.0), (1.0, 0.06, 0.18, 5.0), (0.0, 0.08, 0.0, 4.0))
_CABLE: Rows = ((100.0, 0.008, 0.0, 240.0), (20.0, 0.02, 0.0, 48.0), (1.0, 0.03, 0.0, 20.0), (0.0, 0.05, 0.0, 10.0))
_TRANSFORMER: Rows = ((20.0, 0.02, 0.0, 240.0), (0.0, 0.004, 0.0, 12.0))
_BUS: Rows = ((1.0, 0.002, 0.0, 6.0), (0.0, 0.0, 0.0, 6.0))
_SWITCH: Rows = ((1.0, 0.002, 0.0, 6.0), (0.0, 0.0005, 0.0, 3.0))
_MACHINE: Rows = ((0.0, 3.0, 0.0, 60.0),)
_NEVER: Rows = ((0.0, 0.0, 0.0, 6.0),)


def _typical(item: Failing, kv: float) -> tuple[float, float, float]:
    rows: Rows
    if isinstance(item, Line):
        rows = _OVERHEAD if item.construction == "overhead" else _CABLE
    elif isinstance(item, Bus):
        rows = _BUS
    elif isinstance(item, Switch):
        rows = _SWITCH
    elif isinstance(item, Generator):
        rows = _MACHINE
    elif isinstance(item, Source):
        rows = _NEVER  # a supply from outside never fails unless somebody says so
    else:
        rows = _TRANSFORMER
    return next(r[1:] for r in rows if kv >= r[0])


def failures_of(network: Network, item: Failing, *, typical: bool = True) -> Failures:
    """Of an element; with ``typical`` off what is blank never fails, and a blank repair is typical still."""
    ends = [b.nominal_kv for i in item.buses() if isinstance(b := network.items.get(i), Bus) and b.nominal_kv]
    kv = max(ends, default=0.0) if not isinstance(item, Bus) else item.nominal_kv or 0.0
    rate, temporary, hours = _typical(item, kv)
    blank = []
    if item.failure_rate is not None:
        rate = item.failure_rate
    else:
        blank.append("failure_rate")
        rate *= typical
    if item.temporary_rate is not None:
        temporary = item.temporary_rate
    else:
        blank.append("temporary_rate")
        temporary *= typical
    given = [h for h in (item.repair_h, item.replace_h) if h is not None]
    if given:
        hours = min(given)
    else:
        blank.append("repair_h")
    length = (item.length_km or 0.0) if isinstance(item, Line) else 1.0
    return Failures(
        rate * length, temporary * length, hours, item.maintenance_rate or 0.0, item.maintenance_h or 0.0, tuple(blank)
    )
