"""Which losses are looked at, from the model or by a rule."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import combinations
from typing import Literal, cast

from ..errors import FieldProblem, InvalidFields
from ..network import Bus, Condition, Element, Line, Network, Role
from ..network.elements.outages import Outage, OutageOf, OutageRule
from ..network.limit_sets import LimitSet

MOST = 50_000
_LINES, _TRANSFORMERS = ("line",), ("transformer", "three_winding", "regulator")


@dataclass(frozen=True)
class Loss:
    """Something that is lost. ``ident``: of the outage in the model, or of the element; ``members``: what goes, by id."""

    ident: str
    name: str
    kind: str
    members: tuple[str, ...]
    limit_set: LimitSet
    stage: Literal["just_after", "after_control"]
    lost_mw: float | None = None


@dataclass(frozen=True)
class Asked:
    """Which losses are wanted: those of the model, or by a rule; and how those without an item of their own are judged."""

    of: str = "model"
    from_kv: float = 0.0
    up_to_kv: float = 1500.0
    limit_set: LimitSet = "emergency"
    stage: Literal["just_after", "after_control"] = "just_after"


def losses(present: Network, condition: Condition, asked: Asked) -> list[Loss]:
    """All losses under a condition, in order, each once; what is out under it already is not lost again. Raises
    :class:`InvalidFields` that names what is wrong: nothing to lose, too many, what is not there, what is out in any case."""
    network = present.under(condition)
    found: dict[tuple[str, ...], Loss] = {}
    rules = [r for r in network.of(OutageRule) if r.counts]
    own = [o for o in network.of(Outage) if o.counts]
    if asked.of == "model" and (rules or own):
        every = [loss for o in own for loss in _own(present, network, o)]
        every += [loss for r in rules for loss in _by_rule(network, r)]
    else:
        of = cast(OutageOf, "branches" if asked.of == "model" else asked.of)
        rule = OutageRule(
            id="options", of=of, from_kv=min(asked.from_kv, asked.up_to_kv), up_to_kv=asked.up_to_kv,
            limit_set=asked.limit_set, stage=asked.stage,
        )  # fmt: skip
        every = list(_by_rule(network, rule))
    for loss in every:
        found.setdefault(tuple(sorted(loss.members)), loss)
    if not found:
        text = "nothing in service fits; take other kinds or voltages, or add outages to the model"
        raise InvalidFields([FieldProblem("options", "of", asked.of, text)])
    return list(found.values())


def _own(present: Network, network: Network, o: Outage) -> Iterator[Loss]:
    members = o.members or ()
    problems = []
    for m in members:
        item = present.items.get(m)
        if not isinstance(item, Element):
            problems.append(FieldProblem(o.id, "members", m, "there is no such element any more; take it off the list"))
        elif not item.in_service:
            told = f"{item.name} is out of service already; take it off the list, or put it in service"
            problems.append(FieldProblem(o.id, "members", m, told))
    if not members:
        problems.append(FieldProblem(o.id, "members", "", "name what is lost, by id; or let the outage not count"))
    if problems:
        raise InvalidFields(problems)
    there = [m for m in members if getattr(network[m], "in_service", True)]
    if not there:
        return
    every = tuple(dict.fromkeys(i for m in there for i in with_what_hangs_there(network, m)))
    yield Loss(o.id, o.name or o.id, "outage", every, o.limit_set, o.stage, o.lost_demand_mw)


def with_what_hangs_there(network: Network, ident: str) -> tuple[str, ...]:
    """A bus goes with all that is connected to it."""
    if isinstance(network.items.get(ident), Bus):
        return (ident, *(e.id for e in network.connected(ident) if e.in_service))
    return (ident,)


def _by_rule(network: Network, r: OutageRule) -> Iterator[Loss]:
    def loss(ident: str, name: str, kind: str, members: tuple[str, ...]) -> Loss:
        return Loss(ident, name, kind, members, r.limit_set, r.stage, r.lost_demand_mw)

    if r.of in ("lines", "transformers", "branches"):
        for e in _branches(network, r):
            yield loss(e.id, e.name, e.kind, (e.id,))
    elif r.of == "circuits":
        for group in _together([e for e in _branches(network, r) if isinstance(e, Line)]):
            yield loss(group[0].id, " + ".join(e.name for e in group), "line", tuple(e.id for e in group))
    elif r.of == "busbars":
        for bus in network.of(Bus):
            if bus.in_service and _fits(network, r, [bus.id]):
                yield loss(bus.id, bus.name, "bus", with_what_hangs_there(network, bus.id))
    elif r.of == "plants":
        for e in network.elements():
            if (
                e.role is Role.GENERATION
                and e.in_service
                and _fits(network, r, list(e.buses()))
                and _size(e) >= r.from_mw
            ):
                yield loss(e.id, e.name, e.kind, (e.id,))
    else:
        branches = list(_branches(network, r))
        if len(branches) * (len(branches) - 1) // 2 > MOST:
            text = f"{len(branches)} branches have more than {MOST} pairs; narrow the voltages or name an area"
            raise InvalidFields([FieldProblem(r.id, "of", r.of, text)])
        for a, b in combinations(branches, 2):
            yield loss(a.id, f"{a.name} + {b.name}", "pair", (a.id, b.id))


def _branches(network: Network, r: OutageRule) -> Iterator[Element]:
    kinds = (
        _LINES
        if r.of in ("lines", "circuits")
        else _TRANSFORMERS
        if r.of == "transformers"
        else (*_LINES, *_TRANSFORMERS)
    )
    for e in network.elements():
        if e.kind in kinds and e.in_service and _fits(network, r, list(e.buses())):
            yield e


def _fits(network: Network, r: OutageRule, buses: list[str]) -> bool:
    ends = [b for i in buses if isinstance(b := network.items.get(i), Bus)]
    kv = [b.nominal_kv for b in ends if b.nominal_kv]
    if not kv or min(kv) < r.from_kv or max(kv) > r.up_to_kv:
        return False
    return r.area is None or any(b.area == r.area for b in ends)


def _size(e: Element) -> float:
    values = [getattr(e, f, None) or 0.0 for f in ("most_mw", "rated_mva", "active_power_mw", "scheduled_mw")]
    return float(max(values))


def _together(lines: list[Line]) -> list[list[Line]]:
    """Circuits on the same towers, and those between the same two buses; each group of two and more once."""
    at = {e.id: e for e in lines}
    head = {e.id: e.id for e in lines}

    def top(i: str) -> str:
        while head[i] != i:
            i = head[i]
        return i

    ends: dict[frozenset[str], str] = {}
    for e in lines:
        if e.beside in at:
            head[top(e.id)] = top(e.beside)
        first = ends.setdefault(frozenset(e.buses()), e.id)
        head[top(e.id)] = top(first)
    groups: dict[str, list[Line]] = {}
    for e in lines:
        groups.setdefault(top(e.id), []).append(e)
    return [g for g in groups.values() if len(g) > 1]
