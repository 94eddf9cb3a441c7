"""Another phase for a load, a plant or a whole lateral: which choices there are, and the changes that make one."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from itertools import combinations, permutations

from ..errors import FieldProblem, InvalidFields
from .changes import Change, Update
from .elements._demand import Demand
from .elements._phases import PHASES, phases_of
from .elements.bus import Bus
from .elements.inverter import Inverter
from .elements.line import Line
from .elements.transformer import Transformer
from .items import Element
from .network import Network

Turn = Mapping[str, str]  # phase -> phase in its place; phases not named stay


@dataclass(frozen=True)
class Unit:
    """Something that changes its phases as a whole: a load or plant, or a lateral with all that hangs on it.

    ``elements``: all of it, the lateral's own line first. ``choices``: turns that can be taken; the first leaves it.
    ``kind``: single, pair, three (unequal powers in three phases) or lateral.
    """

    ident: str
    kind: str
    elements: tuple[str, ...]
    phases: str
    choices: tuple[tuple[tuple[str, str], ...], ...]

    def turn(self, choice: int) -> dict[str, str]:
        return dict(self.choices[choice])

    def after(self, choice: int) -> str:
        """Its phases when a choice is taken, in the order of its present ones."""
        turn = self.turn(choice)
        return "".join(turn.get(p, p) for p in self.phases)


def units(network: Network, buses: set[str] | None = None, *, kinds: set[str] | None = None) -> list[Unit]:
    """Everything that can take other phases, at some buses (all when None); of some kinds (all when None).

    What hangs on a lateral of fewer phases moves only with it. A phase that the bus does not have is no choice.
    """
    place = {ident: n for n, ident in enumerate(network.items)}
    elements = list(network.elements())
    if buses is not None:
        near = {e.id: e for b in _narrow_around(network, buses) for e in network.connected(b)}
        elements = sorted(near.values(), key=lambda e: place[e.id])
    laterals = _laterals(network, elements)
    inside: dict[str, str] = {b: ident for ident, (_, members) in laterals.items() for b in members}
    found: list[Unit] = []
    for ident, (line, members) in laterals.items():
        head = _head(network, line, members)
        if head in inside or (buses is not None and head not in buses):
            continue  # part of a larger lateral
        hung = [ident, *sorted(_on(network, members) - {ident}, key=place.__getitem__)]
        phases = phases_of(line.conductors)
        found.append(
            Unit(ident, "lateral", tuple(hung), phases, _turns(phases, phases_of(_bus(network, head).conductors)))
        )
    for item in elements:
        if len(item.terminals()) != 1 or item.kind in ("electrode", "source"):
            continue
        bus = _bus(network, item.buses()[0])
        if bus.id in inside or (buses is not None and bus.id not in buses):
            continue
        mine, there = phases_of(item.conductors), phases_of(bus.conductors)
        if not set(mine) <= set(there):
            continue
        if len(mine) < 3:
            kind = "single" if len(mine) == 1 else "pair"
        elif isinstance(item, Demand | Inverter) and len(set(item.phase_powers_mva() or (0,))) > 1:
            kind = "three"
        else:
            continue
        choices = _turns(mine, there)
        if len(choices) > 1:
            found.append(Unit(item.id, kind, (item.id,), mine, choices))
    return [u for u in found if len(u.choices) > 1 and (kinds is None or u.kind in kinds)]


def _turns(mine: str, there: str) -> tuple[tuple[tuple[str, str], ...], ...]:
    """Ways to stand in other phases: the present one first. Two phases are a pair, whose order does not matter."""
    if len(mine) == 3:
        ways = [dict(zip(mine, p, strict=True)) for p in permutations(there, 3)]
    else:
        ways = [_pairing(mine, "".join(c)) for c in combinations(there, len(mine))]
    ways.sort(key=lambda w: any(a != b for a, b in w.items()))
    return tuple(tuple(w.items()) for w in ways)


def _pairing(mine: str, other: str) -> dict[str, str]:
    """Phases in place of others, those that both have staying where they are."""
    kept = [p for p in mine if p in other]
    moved, free = [p for p in mine if p not in kept], [p for p in other if p not in kept]
    return {p: p for p in kept} | dict(zip(moved, free, strict=True))


def _bus(network: Network, ident: str) -> Bus:
    found = network[ident]
    assert isinstance(found, Bus)
    return found


def _laterals(network: Network, elements: Iterable[Element]) -> dict[str, tuple[Element, set[str]]]:
    """Lines and single-phase units behind which fewer phases go on: with the buses behind them."""
    found: dict[str, tuple[Element, set[str]]] = {}
    for e in elements:
        if not isinstance(e, Line | Transformer) or len(phases_of(e.conductors)) == 3 or not phases_of(e.conductors):
            continue
        ends = [_bus(network, b) for b in e.buses()]
        wide = [b for b in ends if len(phases_of(b.conductors)) > len(phases_of(e.conductors))]
        narrow = [b for b in ends if b not in wide]
        if len(wide) != 1 or len(narrow) != 1:
            continue
        members = _behind(network, narrow[0].id, e.id)
        if members is not None:
            found[e.id] = e, members
    return found


def _narrow_around(network: Network, buses: Iterable[str]) -> set[str]:
    """Buses reached from some without passing one of three phases: all that a lateral they are on can reach."""
    seen = set(buses)
    queue = list(seen)
    while queue:
        here = queue.pop()
        if len(phases_of(_bus(network, here).conductors)) == 3:
            continue
        new = {b for e in network.connected(here) for b in e.buses()} - seen
        seen |= new
        queue += new
    return seen


def _behind(network: Network, start: str, without: str) -> set[str] | None:
    """Buses reached from one without passing an element; None when that leads to a bus of three phases."""
    seen, queue = {start}, [start]
    while queue:
        here = queue.pop()
        if len(phases_of(_bus(network, here).conductors)) == 3:
            return None
        for e in network.connected(here):
            if e.id == without or len(e.buses()) < 2:
                continue
            for other in e.buses():
                if other not in seen:
                    seen.add(other)
                    queue.append(other)
    return seen


def _head(network: Network, line: Element, members: set[str]) -> str:
    return next(b for b in line.buses() if b not in members)


def _on(network: Network, members: set[str]) -> set[str]:
    """Some buses, and the elements with all their ends at them."""
    return members | {e.id for b in members for e in network.connected(b) if all(x in members for x in e.buses())}


def unit_of(network: Network, ident: str) -> Unit | None:
    """The unit that an element is, or hangs on; None where it can't take other phases."""
    item = network[ident]
    if not isinstance(item, Element) or isinstance(item, Bus):
        return None
    return next((u for u in units(network, _narrow_around(network, item.buses())) if ident in u.elements), None)


def turned_values(item: Element, turn: Turn) -> dict[str, object]:
    """Fields of an element that change when it stands in other phases: conductors, powers and taps of phases."""

    def renamed(conductors: str) -> str:
        return "".join(c for c in "ABCN" if c in {turn.get(x, x) for x in conductors})

    values: dict[str, object] = {}
    if (after := renamed(item.conductors)) != item.conductors:
        values["conductors"] = after
    low = getattr(item, "lv_conductors", None)
    if low is not None and not getattr(item, "vector_group", "").startswith("Iii") and renamed(low) != low:
        values["lv_conductors"] = renamed(low)
    delta = getattr(item, "connection", "wye") == "delta"
    for stem in ("p_{}_mw", "q_{}_mvar", "tap_{}"):
        names = [stem.format(p.lower()) for p in PHASES]
        if not all(hasattr(item, n) for n in names):
            continue
        old = [getattr(item, n) for n in names]
        if all(v is None for v in old):
            continue
        new: list[object] = [None] * 3
        for k, phase in enumerate(PHASES):
            to = turn.get(phase, phase)
            at = PHASES.index(to)
            if delta and stem != "tap_{}":  # of delta the pair of this phase and the next
                other = turn.get(PHASES[(k + 1) % 3], PHASES[(k + 1) % 3])
                at = next(i for i in range(3) if {PHASES[i], PHASES[(i + 1) % 3]} == {to, other})
            new[at] = old[k]
        values |= {n: v for n, v, o in zip(names, new, old, strict=True) if v != o}
    return values


def turning(network: Network, unit: Unit, choice: int) -> list[Change]:
    """Changes that put a unit into other phases; one for each element of it."""
    turn = unit.turn(choice)
    found: list[Change] = []
    for ident in unit.elements:
        item = network[ident]
        assert isinstance(item, Element)
        values = turned_values(item, turn)
        if values:
            found.append(Update(id=ident, values=values))
    return found


def to_phases(network: Network, ident: str, phases: str) -> list[Change]:
    """Changes that connect a load, a plant or a lateral to given phases.

    Raises :class:`InvalidFields` when it can't be, naming the choices.
    """
    item = network[ident]
    unit = unit_of(network, ident)
    if unit is None or unit.ident != ident:
        words = (
            f"it hangs on {network[unit.ident].name}: move that" if unit
            else "choose a load, plant or lateral at a bus with more phases than it has itself"
        )  # fmt: skip
        raise InvalidFields([FieldProblem(ident, "conductors", getattr(item, "conductors", None), words)])
    wanted = phases_of(phases)
    for k in range(len(unit.choices)):
        if unit.after(k) == wanted or (unit.kind != "three" and set(unit.after(k)) == set(wanted)):
            return turning(network, unit, k)
    choices = ", ".join(dict.fromkeys("".join(sorted(unit.after(k))) for k in range(len(unit.choices))))
    raise InvalidFields([FieldProblem(ident, "conductors", phases, f"choose one of {choices}")])
