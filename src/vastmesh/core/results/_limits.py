"""Judging against limits: what is shared by every solved state."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..electrical.arrays import Floats
from ..network import Bus, Item, Line, Network, Settings, Source, Transformer, VoltageLimits
from ..severity import Severity
from ._finding import Finding
from ._rows import Rows
from ._table import Table

MOST = 2000  # findings handed on; beyond that the worst are kept


def overload_factor(item: Item, limit_set: str) -> float:
    """What may be carried under a set of limits over the continuous rating; 1 where nothing says so, and for minutes no less than
    for hours."""
    if limit_set == "normal":
        return 1.0
    more = 1.0
    if isinstance(item, Transformer) and item.rated_mva:
        most = item.overload_mva()
        more = max(most / item.rated_mva, 1.0) if most else 1.0
        if limit_set == "short_time" and item.short_time_mva:
            more = max(item.short_time_mva / item.rated_mva, more)
    elif isinstance(item, Line) and item.rating_a:
        more = max((item.emergency_rating_a or 0.0) / item.rating_a, 1.0)
        if limit_set == "short_time" and item.short_time_rating_a:
            more = max(item.short_time_rating_a / item.rating_a, more)
    return more


def voltage_bands(network: Network, limit_set: str, ids: Sequence[str], kv: Floats) -> Floats:
    """Lowest and highest voltage allowed at buses, p.u., (n, 2): by their own limits, or those of the network for their nominal
    voltage; NaN of what is no bus (star points inside elements)."""
    levels = network.voltage_limits(limit_set)
    found = np.full((len(ids), 2), np.nan)
    for level in reversed(levels):  # the first that fits counts
        found[(kv > level.above_kv) & (kv <= level.up_to_kv)] = level.low_breach_pu, level.high_breach_pu
    for n, ident in enumerate(ids):
        item = network.items.get(ident)
        if not isinstance(item, Bus):
            found[n] = np.nan
        elif isinstance(own := network.items.get(item.limits or ""), VoltageLimits):
            found[n] = own.low_breach_pu, own.high_breach_pu
    return found


def loading_allowed(settings: Settings, item: Item, limit_set: str) -> float:
    """Share of its rating that what carries current may carry under a set of limits: its own limit of loading, else that of the
    network; more for a limited time where a rating says so. The one rule of every study."""
    own = getattr(item, "loading_limit_pct", None) or settings.loading_breach_pct
    return float(own / 100 * overload_factor(item, limit_set))


def loading_watched(settings: Settings, item: Item, limit_set: str) -> float:
    """Share of its rating from which it is watched; for a limited time nothing is watched below what is allowed for good."""
    own = getattr(item, "loading_limit_pct", None) or settings.loading_breach_pct
    if overload_factor(item, limit_set) > 1:
        return float(own / 100)
    return float(own / 100 * settings.loading_watch_pct / settings.loading_breach_pct)


def loaded(settings: Settings, rows: Rows, loading: Floats) -> list[int]:
    """Rows of branches whose ``loading``, per cent, is high enough for anything to be watched for good."""
    least = np.where(np.isfinite(rows.loading_limit), rows.loading_limit, settings.loading_breach_pct)
    with np.errstate(invalid="ignore"):
        return [
            int(i) for i in np.flatnonzero(loading > least * settings.loading_watch_pct / settings.loading_breach_pct)
        ]


def overload_words(item: Item, loading_pct: float) -> str:
    """How a transformer's load compares with all its cooling stages, a line's with its emergency rating."""
    if isinstance(item, Transformer) and item.rated_mva and (most := item.overload_mva()) and most > item.rated_mva:
        return f"; {loading_pct * item.rated_mva / most:.0f} % of {most:.4g} MVA with forced cooling"
    if isinstance(item, Line) and item.rating_a and item.emergency_rating_a:
        return f"; {loading_pct * item.rating_a / item.emergency_rating_a:.0f} % of the emergency rating"
    return ""


def find_sources(network: Network, table: Table) -> list[Finding]:
    """Sources that have to give or take more reactive power than they can: what holds a voltage takes what that needs."""
    bounded = [e for e in network.of(Source) if e.q_min_mvar is not None or e.q_max_mvar is not None]
    row = {ident: n for n, ident in enumerate(table["id"])} if bounded else {}
    found = []
    for e in bounded:
        value = float(table["reactive_power_mvar"][row[e.id]]) if e.id in row else np.nan
        for bound, sign, word in ((e.q_min_mvar, -1.0, "least"), (e.q_max_mvar, 1.0, "most")):
            if bound is None or not sign * (value - bound) > 1e-6 * max(abs(bound), 1.0):
                continue
            found.append(
                Finding(
                    element=e.id, kind="source", quantity="reactive_power_mvar", value=value, unit="Mvar", limit=bound,
                    limit_name="Reactive power", severity=Severity.BREACH, direction="above" if sign > 0 else "below",
                    excess=abs(value - bound) / max(abs(bound), 1.0),
                    text=f"holding its voltage takes {value:.4g} Mvar; at {word} {bound:g} Mvar",
                )
            )  # fmt: skip
    return found


def find_windings(network: Network, limit_set: str, table: Table) -> list[Finding]:
    """Three-winding transformers loaded beyond the settings; the worst winding and phase are named where they are known."""
    where = next((c.values for c in table.columns if c.name == "worst_phase"), None)
    settings = network.settings
    found = []
    for row, (ident, value) in enumerate(zip(table["id"], table["loading_pct"].tolist(), strict=True)):
        most, watched = (100 * f(settings, network.items[ident], limit_set) for f in (loading_allowed, loading_watched))
        if not value > watched:
            continue
        breach = value > most
        limit = most if breach else watched
        words = "the winding loaded most" if where is None else f"winding {where[row]}"
        found.append(
            Finding(
                element=ident, kind="three_winding", quantity="loading_pct", value=value, unit="%", limit=limit,
                limit_name="Loading", severity=Severity.BREACH if breach else Severity.WATCH, direction="above",
                excess=(value - limit) / 100,
                text=f"{words}; {'at most' if breach else 'watched above'} {limit:g} %",
            )
        )  # fmt: skip
    return found
