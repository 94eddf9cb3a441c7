"""How a network stands in one year under some schemes: losses, limits, outages, interruptions."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

import numpy as np

from ...electrical import compile_network
from ...errors import FieldProblem, InvalidFields
from ...flow.balanced import Without
from ...network import Add, Condition, Network, Plan, Role, Scheme, Trace, Update
from ...network.growth import grown
from ...results.state import live_options, solve_as_set
from ...severity import Severity
from ..base import Inputs
from ..failures import Course, Ready, Tally, every, indices
from ..judge import Judge
from ..losses import Asked, losses
from ._options import LoadFlow

_MOST_TOLD = 500  # places at which limits are broken, of one state
_WORDS = {"loading_pct": "loading", "voltage_pu": "voltage"}


@dataclass(frozen=True)
class Under:
    """Under one condition. ``worst_pct``, ``worst_at``: the highest loading; ``breaches``: limits that are broken, and demand
    without a supply;
    ``broken``: what they are of, ``limits``: which they are; ``unbalance_pct``: the highest voltage unbalance, per phase."""

    condition: str
    solved: bool
    losses_mw: float = float("nan")
    worst_pct: float = float("nan")
    worst_at: str = ""
    low_pu: float = float("nan")
    low_at: str = ""
    breaches: int = 0
    broken: tuple[str, ...] = ()
    limits: tuple[str, ...] = ()
    unbalance_pct: float = float("nan")


@dataclass(frozen=True)
class Standing:
    """``lost``, ``outages``: not survived, of so many, -1: not looked at; ``saidi``, ``ens_mwh``, ``cost_k``: interruptions in a
    year."""

    under: tuple[Under, ...]
    lost: int = -1
    outages: int = -1
    saidi: float = float("nan")
    ens_mwh: float = float("nan")
    cost_k: float = float("nan")

    @property
    def breaches(self) -> int:
        """The most under any condition; a condition without a solution counts as ten."""
        return max((u.breaches if u.solved else 10 for u in self.under), default=0)

    def plain(self) -> dict[str, Any]:
        return asdict(self)

    @classmethod
    def of(cls, data: dict[str, Any]) -> Standing:
        under = tuple(Under(**{**u, "broken": tuple(u["broken"]), "limits": tuple(u["limits"])}) for u in data["under"])
        return cls(**{**data, "under": under})


def laid(inputs: Inputs, schemes: Sequence[str], year: int | None, growth: float = 1.0) -> Inputs:
    """Inputs of a year under schemes. Raises :class:`InvalidFields` for one that is not there."""
    found = inputs.laid(tuple(schemes))
    return replace(found, network=grown(found.network, year, growth)) if year is not None else found


def solved_as(inputs: Inputs, load_flow: LoadFlow) -> Inputs:
    """Inputs whose settings name the load flow that is asked for."""
    network = inputs.network
    if load_flow in ("as_set", network.settings.study):
        return inputs
    own = network.settings
    copied = network.copy()
    change = (
        Update(id=own.id, values={"study": load_flow})
        if own.id in network.items
        else Add(item={"kind": "settings", "id": own.id, "study": load_flow})
    )
    copied.apply([change])
    return replace(inputs, network=copied)


def standing(inputs: Inputs, conditions: Sequence[Condition], *, outages: bool, reliability: bool) -> Standing:
    """Of a network as it stands under several conditions, the first being the one in use."""
    network = inputs.network
    under = tuple(_under(network, c) for c in conditions)
    lost = total = -1
    if outages:
        lost, total = _outages(network, conditions[0])
    figures: dict[str, float] = {}
    if reliability:
        figures = interruptions(replace(inputs, condition=conditions[0]))
    saidi, ens, cost = (figures.get(k, float("nan")) for k in ("saidi", "ens", "cost"))
    return Standing(under, lost, total, saidi, ens, cost)


def interruptions(inputs: Inputs) -> dict[str, float]:
    """Indices by playing every failure."""
    course = Course()
    ready = Ready(inputs, course)
    tally = Tally(ready.people, course.sustained_min).take(every(ready))
    return indices(ready.people, tally, np.ones(len(ready.people.loads), np.bool_))


def _under(network: Network, condition: Condition) -> Under:
    result = solve_as_set(network, condition)
    if not result.account.converged:
        return Under(condition.name, solved=False)
    branches, buses = result.tables["branches"], result.tables["buses"]
    used = np.asarray(branches["loading_pct"], float)
    volts = np.asarray(buses["voltage_pu"], float)
    top = int(np.nanargmax(used)) if np.isfinite(used).any() else -1
    low = int(np.nanargmin(volts)) if np.isfinite(volts).any() else -1
    seen = network.under(condition)
    trace = Trace(seen)
    dark = [
        e.id for e in seen.elements() if e.role is Role.DEMAND and e.in_service and not any(map(trace.live, e.buses()))
    ]
    why: dict[str, str] = {}
    for f in result.findings:
        if f.severity is Severity.BREACH:
            why.setdefault(f.element, f"{_WORDS.get(f.quantity, f.quantity)} {f.direction}".strip())
    why |= dict.fromkeys(dark, "no supply")
    return Under(
        condition.name, True, float(result.summary["active_loss_mw"] or 0.0), float(used[top]) if top >= 0 else float("nan"),
        str(branches["id"][top]) if top >= 0 else "", float(volts[low]) if low >= 0 else float("nan"),
        str(buses["id"][low]) if low >= 0 else "", len(why), tuple(why)[:_MOST_TOLD], tuple(why.values())[:_MOST_TOLD],
        float(result.summary.get("highest_unbalance_pct") or np.nan),
    )  # fmt: skip


def _outages(network: Network, condition: Condition) -> tuple[int, int]:
    """Outages of the model that break a limit which was kept before, lose more demand than they may, or have no solution; -1
    twice where the model has none that fit the network of this case."""
    try:
        chosen = losses(network, condition, Asked())
    except InvalidFields:
        return -1, -1
    own = network.under(condition)
    without = {s: Without(compile_network(own), condition, live_options(network.settings), controls=s == "after_control")
               for s in dict.fromkeys(x.stage for x in chosen)}  # fmt: skip
    if not all(w.solved for w in without.values()):
        return len(chosen), len(chosen)
    judges = {s: Judge(own, w.arrays) for s, w in without.items()}
    for s, w in without.items():
        w.asked = judges[s].switches
    failed = 0
    for loss in chosen:
        w, judge = without[loss.stage], judges[loss.stage]
        after = w.lose(loss.members)
        assert w.base is not None
        if not after.solved:
            failed += 1
            continue
        standing = (w.base.v, w.solution.ports, w.base.through_switches(w.asked))
        before, now = (judge.used(*x, loss.limit_set) for x in (standing, (after.v, after.ports, after.switched)))
        limits = judge.limits[loss.limit_set]
        size, base = np.abs(after.v), np.abs(w.base.v)
        with np.errstate(invalid="ignore"):
            out = judge.in_view & np.isfinite(size) & ((size < limits.low) | (size > limits.high))
            had = (base < limits.low) | (base > limits.high)
        dead = judge.in_view & ~np.isfinite(size) & np.isfinite(base)
        lost_mw = 0.0
        if loss.lost_mw is not None and dead.any():
            load = w.arrays.tables["load"]
            lost_mw = float(load["p"][dead[load["bus"]]].sum()) * w.arrays.base_mva
        if bool(np.any((now > 1) & (before <= 1))) or bool(np.any(out & ~had)) or lost_mw > (loss.lost_mw or np.inf):
            failed += 1
    return failed, len(chosen)


def conditions_of(inputs: Inputs, which: str) -> list[Condition]:
    """The one in use first, then the others where all are asked for."""
    first = inputs.under
    if which == "present":
        return [first]
    return [first, *(c for c in inputs.network.of(Condition) if c.id != first.id)]


@dataclass(frozen=True)
class Way:
    """One way to go on: schemes with their years, in order."""

    ident: str
    name: str
    steps: tuple[tuple[str, int], ...]

    def by(self, year: int) -> tuple[str, ...]:
        return tuple(s for s, y in self.steps if y <= year)


def ways(inputs: Inputs, of: str, first_year: int) -> list[Way]:
    """Nothing at all, then plans and schemes. Raises :class:`InvalidFields` for a plan that cannot be carried out."""
    schemes = {s.id: s for s in inputs.network.of(Scheme)}
    found = [Way("", "as it is", ())]
    if of in ("plans", "both"):
        for plan in inputs.network.of(Plan):
            check(plan.id, [(s.scheme, s.year) for s in plan.steps], schemes)
            found.append(Way(plan.id, plan.name, tuple((s.scheme, s.year) for s in plan.steps)))
    if of in ("schemes", "both"):
        # What a scheme needs is there when it is, if not before.
        for s in sorted(schemes.values(), key=lambda s: s.rank):
            chain = _with_needs(s, schemes)
            found.append(
                Way(s.id, s.name, tuple((i, min(schemes[i].year or first_year, s.year or first_year)) for i in chain))
            )
    if len(found) == 1:
        text = "there is no plan and no scheme yet; record a scheme, or let proposals make one"
        raise InvalidFields([FieldProblem("options", "of", of, text)])
    return found


def _with_needs(scheme: Scheme, schemes: dict[str, Scheme]) -> list[str]:
    chain = [scheme.id]
    while (need := schemes[chain[-1]].needs) in schemes and need not in chain:
        chain.append(str(need))
    return chain[::-1]


def check(ident: str, steps: Sequence[tuple[str, int]], schemes: dict[str, Scheme]) -> None:
    """Whether what is planned is there, and comes no sooner than what it needs."""
    year, problems = dict(steps), []
    for s, y in steps:
        if s not in schemes:
            problems.append(
                FieldProblem(ident, "steps", s, "there is no such scheme any more; take it out of the plan")
            )
        elif (need := schemes[s].needs) and (need not in year or year[need] > y):
            name = schemes[need].name if need in schemes else need
            told = f"{schemes[s].name} needs {name}, by {y}; put it into the plan no later than that"
            problems.append(FieldProblem(ident, "steps", s, told))
    if problems:
        raise InvalidFields(problems)
