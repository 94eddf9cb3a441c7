"""Every outage by the AC load flow, in parts; and what they come to together."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import numpy as np

from ...electrical.arrays import Bools, Floats, Ints
from ...results import Account, Result
from ..base import Answer, Inputs, Missing, Progress, Split
from ..losses import Loss, losses
from ._help import Helped, help_after
from ._options import OutagesOptions
from ._ready import Ready, Seen
from ._screen import Screen
from ._told import published

A_PART = 25  # outages handed out together
_MOST_LISTED = 100  # elements of one outage in the matrix
WORSE = 0.01  # share of a limit by which something already beyond it has to get worse to count

# Of every outage, in the answer of a part.
_FIGURES = (
    "used",
    "used_at",
    "low",
    "low_at",
    "high",
    "high_at",
    "step",
    "step_at",
    "lost_mw",
    "dead",
    "broken",
    "before",
    "excess",
    "share",
    "breaks_at",
    "iterations",
    "skipped",
)


def plan(inputs: Inputs, options: OutagesOptions) -> list[dict[str, list[int]]]:
    """Outages by their numbers; where they are many those first that linear factors put worst, so that what matters is seen
    first while the rest is worked on."""
    count = len(losses(inputs.network, inputs.under, options.asked()))
    numbers = list(range(count))
    if count > A_PART and (ready := Ready(inputs, options)).solved:
        screen = Screen(ready)
        numbers.sort(key=lambda n: -screen.urgency(ready.losses[n]))
    return [{"numbers": numbers[k : k + A_PART]} for k in range(0, count, A_PART)]


def prepare(inputs: Inputs, options: OutagesOptions) -> Ready:
    global _last
    _last = inputs, options, Ready(inputs, options)
    return _last[2]


# What was made ready last: the same process often joins what it worked out.
_last: tuple[Inputs, OutagesOptions, Ready] | None = None


def _at_hand(inputs: Inputs, options: OutagesOptions) -> Ready:
    if _last is not None and _last[0] is inputs and _last[1] == options:
        return _last[2]
    return Ready(inputs, options)


class _Worst:
    """The largest of something over the outages of a part, and which, of every bus or branch."""

    def __init__(self, n: int) -> None:
        self.value, self.by = np.full(n, -np.inf), np.full(n, -1)

    def take(self, values: Floats, number: int) -> None:
        # Of equal ones the first in the list, in whatever order they are worked out.
        more = (values > self.value) | ((values == self.value) & (number < self.by) & np.isfinite(values))
        self.value[more] = values[more]
        self.by[more] = number


def answer(ready: Ready, part: Mapping[str, Sequence[int]], progress: Progress) -> Answer:
    """Figures of every outage of a part, what is listed in the matrix, and the worst of every branch and bus."""
    chosen = part["numbers"]
    if not ready.solved:
        return {"numbers": np.zeros(0, np.int64)}
    n_bus, n_branch = ready.arrays.n_bus, len(ready.ids)
    figures: dict[str, list[float]] = {name: [] for name in _FIGURES}
    worst = {"used": _Worst(n_branch), "low": _Worst(n_bus), "high": _Worst(n_bus), "step": _Worst(n_bus)}
    listed: list[tuple[int, int, int, float, float]] = []
    helped: list[dict[str, Any]] = []
    screen = Screen(ready) if ready.options.screen == "safe" else None
    before = np.abs(ready.base_v)
    for k, number in enumerate(chosen):
        loss = ready.losses[number]
        if k % 5 == 0:
            progress(k / max(len(chosen), 1), f"loss of {loss.name}")
        if screen is not None and screen.harmless(loss):
            _put(figures, skipped=1.0)
            continue
        after = ready.without(loss.stage).lose(loss.members)
        if not after.solved:
            reach = after.reach
            share = 100 * reach.share if reach is not None and reach.state is not None else np.nan
            _put(figures, excess=np.inf, share=share, breaks_at=after.reach_bus, iterations=after.iterations)
            bad = True
        else:
            seen = ready.seen(after, loss.limit_set, loss.members)
            excess = _judge(ready, loss, seen, figures, listed, number)
            figures["iterations"][-1] = after.iterations
            bad = excess > 0
            worst["used"].take(seen.used, number)
            volts = np.where(ready.bus_in_view & np.isfinite(seen.volts), seen.volts, np.nan)
            with np.errstate(invalid="ignore"):
                worst["low"].take(np.nan_to_num(-volts, nan=-np.inf), number)
                worst["high"].take(np.nan_to_num(volts, nan=-np.inf), number)
                worst["step"].take(np.nan_to_num(np.abs(volts - before), nan=-np.inf), number)
        if bad and ready.options.help == "worst":
            helped += [h.plain(number) for h in help_after(ready, loss, progress)]
    found: dict[str, Any] = {"numbers": np.array(list(chosen), np.int64)}
    found |= {name: np.array(values, np.float64) for name, values in figures.items()}
    for name, w in worst.items():
        found |= {f"worst_{name}": w.value, f"by_{name}": w.by}
    found["listed"] = np.array(listed, np.float64).reshape(-1, 5)
    found["helped"] = helped
    return found


def _put(figures: dict[str, list[float]], **known: float) -> None:
    for name in _FIGURES:
        figures[name].append(
            known.get(name, 0.0 if name in ("skipped", "iterations", "dead", "broken", "before") else np.nan)
        )


def _judge(
    ready: Ready,
    loss: Loss,
    seen: Seen,
    figures: dict[str, list[float]],
    listed: list[tuple[int, int, int, float, float]],
    number: int,
) -> float:
    """Put the figures of one outage; by how much the worst limit is broken that was not before, zero where none is."""
    limits = ready.limits[loss.limit_set]
    used, volts = seen.used, seen.volts
    base_used, base_v = ready.base_by_set[loss.limit_set], np.abs(ready.base_v)
    view = ready.bus_in_view & np.isfinite(volts)
    with np.errstate(invalid="ignore"):
        below = np.where(view, limits.low / volts - 1, -np.inf)
        above = np.where(view, volts / limits.high - 1, -np.inf)
        base_out = np.where(view, np.fmax(limits.low / base_v - 1, base_v / limits.high - 1), -np.inf)
        out = np.fmax(below, above)
        step = np.where(view & np.isfinite(base_v), np.abs(volts - base_v), -1.0)
    over = used - 1
    new_branch = _new(over, base_used - 1)
    new_bus = _new(out, base_out)
    broken = int(_elements(ready, np.flatnonzero(new_branch)) + new_bus.sum())
    before = int(_elements(ready, np.flatnonzero((over > 0) & ~new_branch)) + int(((out > 0) & ~new_bus).sum()))
    excess = max(float(over[new_branch].max(initial=0.0)), float(out[new_bus].max(initial=0.0)))
    if loss.lost_mw is not None and seen.lost_mw > loss.lost_mw + 1e-9:
        excess = max(excess, (seen.lost_mw - loss.lost_mw) / max(loss.lost_mw, 1.0))
        broken += 1
    if bool(seen.dead[ready.bus_in_view].any()) and not bool(view.any()):
        excess = max(excess, 1.0)  # that nothing is left to break a limit is no security
        broken += 1
    lowest, highest = _extreme(np.where(view, -volts, -np.inf)), _extreme(np.where(view, volts, -np.inf))
    top, most = _extreme(used), _extreme(step)
    _put(
        figures,
        used=100 * used[top] if top >= 0 and used[top] > 0 else np.nan,
        used_at=top if top >= 0 and used[top] > 0 else -1,
        low=volts[lowest] if lowest >= 0 else np.nan,
        low_at=lowest,
        high=volts[highest] if highest >= 0 else np.nan,
        high_at=highest,
        step=step[most] if most >= 0 else np.nan,
        step_at=most,
        lost_mw=seen.lost_mw,
        dead=float((seen.dead & ready.bus_in_view).sum()),
        broken=broken,
        before=before,
        excess=excess,
    )
    rows = np.flatnonzero(used >= ready.options.listed_pct / 100)
    for row in rows[np.argsort(-used[rows])][:_MOST_LISTED].tolist():
        listed.append((number, 0, row, 100 * base_used[row], 100 * used[row]))
    rows = np.flatnonzero(out > 0)
    for row in rows[np.argsort(-out[rows])][:_MOST_LISTED].tolist():
        listed.append((number, 1 if below[row] >= above[row] else 2, row, base_v[row], volts[row]))
    return excess


def _new(over: Floats, before: Floats) -> Bools:
    """What is beyond its limit and was not, or is further beyond it."""
    was = np.maximum(np.nan_to_num(before, nan=0.0), 0.0)
    return np.asarray((over > 1e-9) & (over > was + WORSE * (was > 0)))


def _elements(ready: Ready, rows: Ints) -> int:
    return len({ready.ids[r] for r in rows.tolist()})


def _extreme(values: Floats) -> int:
    if not len(values):
        return -1
    at = int(np.argmax(values))
    return at if np.isfinite(values[at]) and values[at] != -1.0 else -1


def join(inputs: Inputs, options: OutagesOptions, parts: Sequence[Any], answers: Sequence[Answer | Missing]) -> Result:
    ready = _at_hand(inputs, options)
    if not ready.solved:
        text = "The load flow has no solution as things stand: see why behind the solution badge, and mend that first."
        return Result(Account(ready.ending, "Outages", 0, explanation=text), {}, {}, [], text)
    there = [a for a in answers if not isinstance(a, Missing)]
    missing = [(p, a.why) for p, a in zip(parts, answers, strict=True) if isinstance(a, Missing)]
    figures = {n: _strung(there, n) for n in ("numbers", *_FIGURES)}
    worst = {name: _over(there, name) for name in ("used", "low", "high", "step")}
    listed = [np.asarray(a["listed"]) for a in there if len(a["numbers"])]
    every = np.concatenate(listed) if listed else np.zeros((0, 5))
    helped: list[Helped] = [Helped.of(h) for a in there for h in a.get("helped", [])]
    lacking = [(p["numbers"], why) for p, why in missing]
    return published(ready, figures, worst, every, helped, lacking)


def _strung(there: Iterable[Answer], name: str) -> Floats:
    found = [np.asarray(a[name], np.float64) for a in there if name in a]
    return np.concatenate(found) if found else np.zeros(0)


def _over(there: Sequence[Answer], name: str) -> tuple[Floats, Ints]:
    """Largest over all parts, and by which outage; -1 where none."""
    parts = [(np.asarray(a[f"worst_{name}"]), np.asarray(a[f"by_{name}"])) for a in there if f"worst_{name}" in a]
    if not parts:
        return np.zeros(0), np.zeros(0, np.int64)
    value, by = parts[0][0].copy(), parts[0][1].astype(np.int64)
    for v, b in parts[1:]:
        more = (v > value) | ((v == value) & (b < by) & np.isfinite(v))
        value[more], by[more] = v[more], b[more]
    return value, by


SPLIT = Split(plan, prepare, answer, join)
