"""Schemes laid on the present network: what results, where they clash, and how edits find their way into them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from pydantic import TypeAdapter

from ..errors import DataError, FieldProblem, InvalidFields
from .changes import Add, Change, Remove, Update, conflicts, touched_fields
from .elements.scheme import Scheme, SchemeChange
from .fields import specs
from .items import Element, Item
from .network import Network

_PLACE = ("place",)
_ENTRY = TypeAdapter(SchemeChange)


@dataclass(frozen=True)
class Clash:
    """A field that two schemes set; the later one counts."""

    element: str
    field: str
    earlier: str
    later: str


@dataclass(frozen=True)
class Unfit:
    """A change of a scheme that does not fit the network as it stands, and why; it is left out."""

    scheme: str
    number: int
    element: str
    text: str


@dataclass
class Layered:
    """The network under its schemes. ``network`` is the present one itself where no scheme is on.

    ``by``: element -> schemes that change it, in order; ``added``: element -> scheme that adds it; ``back``: leads from it to
    the present network.
    """

    network: Network
    by: dict[str, list[str]] = field(default_factory=dict)
    added: dict[str, str] = field(default_factory=dict)
    clashes: list[Clash] = field(default_factory=list)
    unfit: list[Unfit] = field(default_factory=list)
    back: tuple[Change, ...] = ()


def schemes_in_order(network: Network) -> list[Scheme]:
    """All schemes by their rank; of equal rank in order of entry."""
    return sorted(network.of(Scheme), key=lambda s: s.rank)


def layered(network: Network, chosen: Iterable[str] | None = None) -> Layered:
    """Lay schemes on the network: those that are on, or the ones named (in their order).

    A change that does not fit any more (its element is gone, say) is left out and named; nothing else is affected.
    """
    wanted = None if chosen is None else set(chosen)
    if wanted is not None and (unknown := wanted - {s.id for s in network.of(Scheme)}):
        name = sorted(unknown)[0]
        raise InvalidFields([FieldProblem("comparison", "schemes", name, "name schemes of this network")])
    active = [s for s in schemes_in_order(network) if (s.active if wanted is None else s.id in wanted)]
    if not any(s.counting() for s in active):
        return Layered(network)
    found = Layered(network.copy())
    back: list[Change] = []
    for scheme in active:
        for number, entry in enumerate(scheme.changes):
            if not entry.on:
                continue
            ident = _target(entry.change)
            try:
                done = found.network.apply([entry.change])
            except DataError as error:
                found.unfit.append(Unfit(scheme.id, number, ident, str(error)))
                continue
            back[:0] = done.inverse
            for touched in (*done.changed, *done.removed):
                names = found.by.setdefault(touched, [])
                if scheme.id not in names:
                    names.append(scheme.id)
            if isinstance(entry.change, Add):
                found.added[ident] = scheme.id
    found.back = tuple(back)
    for i, earlier in enumerate(active):
        for later in active[i + 1 :]:
            for ident, name in sorted(conflicts(earlier.counting(), later.counting())):
                found.clashes.append(Clash(ident, name, earlier.id, later.id))
    return found


def route(before: Layered, after: Network, changes: Sequence[Change], recording: str | None) -> list[Change]:
    """Where edits of the layered network go: into the scheme that is being recorded, or into the present network.

    ``before``: the layered network that was edited; ``after``: a copy of it with the edits done. What a scheme has added
    is changed within that scheme. Positions on sheet and map of what the present network has stay with it, as do conditions,
    limits and the like. Returns the changes of the present network, those of its schemes among them.
    """
    own: list[Change] = []
    into: dict[str, list[Change]] = {}
    added = dict(before.added)
    for change in changes:
        ident = _target(change)
        item = after.items.get(ident) or before.network.items.get(ident)
        scheme = added.get(ident)
        if recording is not None and isinstance(change, Add) and isinstance(item, Element):
            added[ident] = scheme = recording
        if scheme is None and recording is not None and isinstance(item, Element):
            scheme = recording
            if isinstance(change, Update):
                places = {f for f in change.values if _is_place(item, f)}
                if places:
                    own.append(change.model_copy(update={"values": {f: change.values[f] for f in places}}))
                rest = {f: v for f, v in change.values.items() if f not in places}
                if not rest:
                    continue
                change = change.model_copy(update={"values": rest})
        if scheme is None:
            own.append(change)
        else:
            into.setdefault(scheme, []).append(change)
    for ident, new in into.items():
        item = before.network[ident]
        assert isinstance(item, Scheme)
        own.append(Update(id=ident, values={"changes": _entries(recorded(item, new, before.network))}))
    return own


def recorded(scheme: Scheme, new: Iterable[Change], network: Network) -> list[SchemeChange]:
    """A scheme's changes with further ones: several of one element's fields become one, and what was added and is
    removed again leaves no trace. ``network`` gives the names for the words."""
    found = list(scheme.changes)
    for change in new:
        ident = _target(change)
        if isinstance(change, Update):
            at = next(
                (k for k in range(len(found) - 1, -1, -1) if _target(found[k].change) == ident and found[k].on), None
            )
            last = found[at].change if at is not None else None
            if at is not None and isinstance(last, Update):
                merged = last.model_copy(update={
                    "values": {**last.values, **change.values},
                    "origins": {**{f: o for f, o in last.origins.items() if f not in change.values}, **change.origins},
                })  # fmt: skip
                found[at] = SchemeChange(change=merged, label=words(merged, network))
                continue
            if at is not None and isinstance(last, Add):
                data = {**last.item, **change.values}
                origins = {f: o for f, o in data.get("origins", {}).items() if f not in change.values}
                data["origins"] = {**origins, **{f: str(o) for f, o in change.origins.items()}}
                kept = {f: v for f, v in data.items() if v is not None}
                found[at] = SchemeChange(change=Add(item=kept), label=found[at].label)
                continue
        if isinstance(change, Remove) and any(isinstance(c.change, Add) and _target(c.change) == ident for c in found):
            found = [c for c in found if _target(c.change) != ident]
            continue
        found.append(SchemeChange(change=change, label=words(change, network)))
    return found


def written(changes: Sequence[Change], inverse: Sequence[Change]) -> set[tuple[str, str]]:
    """(item, field) pairs that edits write, those written into schemes among them: what of a scheme's changes is not as it was.

    ``inverse``: takes the edits back; it holds the schemes as they were.
    """
    found = {pair for c in changes for pair in touched_fields(c)}
    before = {c.id: c.values.get("changes") for c in inverse if isinstance(c, Update)}
    for c in changes:
        if not isinstance(c, Update) or c.id not in before or not isinstance(c.values.get("changes"), list | tuple):
            continue
        old, new = (
            [_ENTRY.validate_python(x) for x in entries or ()] for entries in (before[c.id], c.values["changes"])
        )
        for entry in [x for x in new if x not in old] + [x for x in old if x not in new]:
            found |= touched_fields(entry.change)
    return found


def words(change: Change, network: Network) -> str:
    """A change in words: what was, and what is to be."""
    if isinstance(change, Add):
        kind = str(change.item.get("kind", "item")).replace("_", " ")
        return f"Add {kind} {change.item.get('name') or change.item.get('id')}"[:200]
    item = network.items.get(change.id)
    name = item.name if item is not None else change.id
    if isinstance(change, Remove):
        return f"Remove {name}"[:200]
    parts = []
    for field_name, value in change.values.items():
        label = (
            specs(type(item))[field_name].label.lower()
            if item is not None and field_name in specs(type(item))
            else field_name
        )
        parts.append(f"{label} {_plain(getattr(item, field_name, None))} → {_plain(value)}")
    return f"{name}: {', '.join(parts)}"[:200]


def merged(network: Network, scheme: str) -> list[Change]:
    """Changes that put a scheme's changes into the present network and leave the scheme empty and off.

    Raises a :class:`DataError` that names the first change that does not fit.
    """
    item = network[scheme]
    if not isinstance(item, Scheme):
        raise InvalidFields([FieldProblem(scheme, "id", item.kind, "name a scheme")])
    changes: list[Change] = list(item.counting())
    rest = [c for c in item.changes if not c.on]
    values = {"active": False, "changes": _entries(rest), "state": "approved"}
    return [*changes, Update(id=scheme, values=values)]


def _entries(changes: Iterable[SchemeChange]) -> list[dict[str, object]]:
    return [c.model_dump(mode="json") for c in changes]


def _is_place(item: Item, field_name: str) -> bool:
    spec = specs(type(item)).get(field_name)
    return spec is not None and spec.group in _PLACE


def _plain(value: object) -> str:
    if value is None:
        return "blank"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return f"{value:.6g}" if isinstance(value, float) else str(value)


def _target(change: Change) -> str:
    return str(change.item["id"]) if isinstance(change, Add) else change.id


__all__ = [
    "Clash", "Layered", "Scheme", "SchemeChange", "Unfit", "layered", "merged", "recorded", "route",
    "schemes_in_order", "words", "written",
]  # fmt: skip
