"""A network: items by id, altered only through :meth:`Network.apply`."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any, TypeVar

from ..catalogue import find_type, types_of
from ..errors import DuplicateElement, FieldProblem, InvalidFields, StillReferenced, UnknownElement
from . import elements as _kinds  # noqa: F401  registers every kind
from .changes import Add, Change, Remove, Update
from .elements.rules import Condition, Settings, VoltageLimits
from .elements.types import OwnType
from .fields import specs
from .items import (
    REGISTRY,
    Element,
    Item,
    Origin,
    catalogue_family,
    filled,
    make_item,
    reference_fields,
    taken_as_it_is,
)

SETTINGS_ID = "settings"
_FIXED = ("identity", "place")
_STATES = {
    "out": ("in_service", False),
    "in": ("in_service", True),
    "open": ("closed", False),
    "closed": ("closed", True),
}
ItemT = TypeVar("ItemT", bound=Item)


@dataclass(frozen=True)
class Applied:
    """What a group of changes did: its inverse, and the items it added or altered, or removed."""

    inverse: list[Change]
    changed: list[str]
    removed: list[str]


@dataclass
class _Before:
    """Items as they were before they were touched, None where there was none, and the order of all."""

    items: dict[str, Item | None] = field(default_factory=dict)
    order: list[str] | None = None


@dataclass
class Network:
    """Items in order of entry. Two networks are equal when items, fields, origins and order are."""

    items: dict[str, Item] = field(default_factory=dict)
    _referrers: dict[str, set[str]] = field(default_factory=lambda: defaultdict(set), compare=False, repr=False)
    _before: _Before | None = field(default=None, compare=False, repr=False)
    # Items of each kind that were asked for since one of them changed.
    _of_kind: dict[type[Item], list[Any]] = field(default_factory=dict, compare=False, repr=False)

    @classmethod
    def from_items(cls, data: Iterable[dict[str, Any]]) -> Network:
        """Build from plain data. Raises a :class:`DataError` that lists every refused value."""
        network = cls()
        network.apply([Add(item=d) for d in data])
        return network

    @classmethod
    def restored(cls, data: Iterable[dict[str, Any]], *, validated: bool = False) -> Network:
        """Build again from what :meth:`to_items` gave: every item is validated once and references are checked once.

        Unlike :meth:`from_items` nothing is completed and no inverse kept, which halves the time. Raises as that does.
        ``validated``: it is known to be what this very code has validated and written, and is taken as it is.
        """
        network = cls()
        if validated:
            for d in data:
                item = taken_as_it_is(d)
                network.items[item.id] = item
                network._link(item)
            return network
        problems: list[FieldProblem] = []
        for d in data:
            try:
                item = make_item(d)
            except InvalidFields as error:
                problems += error.problems
                continue
            if item.id in network.items:
                raise DuplicateElement(item.id)
            network.items[item.id] = item
            network._link(item)
        if problems:
            raise InvalidFields(problems)
        network._check_references(network.items)
        return network

    def to_items(self) -> list[dict[str, Any]]:
        """Plain data of every item in order, blank fields left out; ``from_items`` gives the same network."""
        return [dump_item(item) for item in self.items.values()]

    def __getitem__(self, ident: str) -> Item:
        try:
            return self.items[ident]
        except KeyError:
            raise UnknownElement(ident) from None

    def __contains__(self, ident: object) -> bool:
        return ident in self.items

    def elements(self) -> Iterator[Element]:
        return (i for i in self.items.values() if isinstance(i, Element))

    def of(self, kind: type[ItemT]) -> list[ItemT]:
        """Items of one kind, in order."""
        if kind not in self._of_kind:
            self._of_kind[kind] = [i for i in self.items.values() if type(i) is kind]
        return list(self._of_kind[kind])

    def referrers(self, ident: str) -> list[str]:
        """Ids of the items that refer to this one, in order of entry."""
        found = self._referrers.get(ident, set())
        return sorted(found) if len(found) < 2 else [i for i in self.items if i in found]

    def connected(self, bus: str) -> list[Element]:
        """Equipment with a terminal at the bus, in order of entry."""
        at_bus = (self.items[r] for r in self.referrers(bus))
        return [e for e in at_bus if isinstance(e, Element) and bus in e.buses()]

    @property
    def settings(self) -> Settings:
        found = self.items.get(SETTINGS_ID)
        return found if isinstance(found, Settings) else Settings(id=SETTINGS_ID, name="Network")

    @property
    def condition(self) -> Condition:
        """The condition under which results are shown; 100 % of everything when none is chosen."""
        found = self.items.get(self.settings.condition or "")
        return found if isinstance(found, Condition) else Condition(id="as-entered", name="As entered")

    def under(self, condition: Condition) -> Network:
        """The network as it stands under a condition: itself, or a copy with other states of some elements.

        States and values of elements that are not there any more, or that do not fit them, count for nothing.
        """
        other: dict[str, Item] = {}
        for ident, values in condition.values.items():
            item = self.items.get(ident)
            if isinstance(item, Element) and (changed := _with_values(item, values)) is not None:
                other[ident] = changed
        for ident, state in condition.states.items():
            item = other.get(ident) or self.items.get(ident)
            field_name, value = _STATES[state]
            if item is not None and hasattr(item, field_name) and getattr(item, field_name) != value:
                other[ident] = item.model_copy(update={field_name: value})
        if not other:
            return self
        twin = self.copy()
        twin.items.update(other)
        return twin

    def voltage_limits(self, limit_set: str = "normal") -> list[VoltageLimits]:
        """Limits of a set in order, then those that hold longer, then the normal ones, at last built-in ones where none of the
        network's own holds; of all that fit the first counts."""
        found = [*self.of(VoltageLimits), VoltageLimits(id="voltage-limits", name="Voltage limits")]
        order = {"normal": ("normal",), "emergency": ("emergency", "normal")}.get(
            limit_set, ("short_time", "emergency", "normal")
        )
        return [v for name in order for v in found if v.limit_set == name]

    @classmethod
    def of_items(cls, items: Iterable[Item]) -> Network:
        """From items of another network, which are taken as they are."""
        network = cls({i.id: i for i in items})
        for item in network.items.values():
            network._link(item)
        return network

    def copy(self) -> Network:
        """An independent network; items are frozen, so they are shared. Until it is asked for anything, they may be replaced."""
        twin = Network(dict(self.items))
        for ident, referrers in self._referrers.items():
            twin._referrers[ident] = set(referrers)
        return twin

    def apply(self, changes: Iterable[Change]) -> Applied:
        """Apply a group of changes as one: all of them, or none.

        Returns what was done, with the inverse in the order in which it must be applied.
        Raises :class:`InvalidFields`, :class:`UnknownElement`, :class:`DuplicateElement` or
        :class:`StillReferenced`; the network is then as it was before.
        """
        inverse: list[Change] = []
        seen: dict[str, None] = {}
        problems: list[FieldProblem] = []
        with self.whole():
            for change in changes:
                try:
                    inverse.append(self._apply_one(change))
                except InvalidFields as error:
                    problems += error.problems
                    continue
                seen[_target(change)] = None
            if problems:
                raise InvalidFields(problems)
            self._check_references(seen)
        return Applied(inverse[::-1], [i for i in seen if i in self.items], [i for i in seen if i not in self.items])

    @contextmanager
    def whole(self) -> Iterator[None]:
        """All that is applied inside stays, or nothing of it: whatever is raised, the same items are there in the same order.

        What was there is put back as it was and not by inverses, which would have to pass every rule again.
        """
        outer, before = self._before, _Before()
        self._before = before
        try:
            yield
        except BaseException:
            for ident in before.items:
                if (item := self.items.get(ident)) is not None:
                    self._unlink(item)
                    del self.items[ident]
            for ident, old in before.items.items():
                if old is not None:
                    self.items[ident] = old
                    self._link(old)
            if before.order is not None:
                self.items = {i: self.items[i] for i in before.order}
                self._of_kind.clear()
            raise
        else:
            if outer is not None:
                outer.items = {**before.items, **outer.items}
                outer.order = outer.order or before.order
        finally:
            self._before = outer

    def _about_to_change(self, ident: str) -> None:
        """Note an item as it is, for :meth:`whole`."""
        if self._before is None:
            return
        if self._before.order is None:
            self._before.order = list(self.items)
        self._before.items.setdefault(ident, self.items.get(ident))

    def _apply_one(self, change: Change) -> Change:
        match change:
            case Add(item=data, before=before):
                item = make_item(self._completed(data))
                if item.id in self.items:
                    raise DuplicateElement(item.id)
                self._put(item, before)
                return Remove(id=item.id)
            case Remove(id=ident):
                item = self[ident]
                after = _next_key(self.items, ident)
                self._drop(item)
                return Add(item=dump_item(item), before=after)
            case Update(id=ident, values=values, origins=origins):
                return self._update(self[ident], values, origins)

    def _update(self, item: Item, values: dict[str, Any], origins: dict[str, Origin]) -> Update:
        known = type(item).model_fields
        frozen = [f for f in values if f in ("id", "kind", "origins")]
        if frozen:
            raise InvalidFields([FieldProblem(item.id, f, values[f], "it can't be changed") for f in frozen])
        cls = type(item)
        full = item.reconcile({**cls.situate(dump_item(item), values, self.items.get), **values})
        kept = {f: o for f, o in item.origins.items() if f not in full}
        data = {**dump_item(item), **full, "origins": {**kept, **origins}}
        # A field set to nothing goes back to its default where it can't be blank.
        data = {f: v for f, v in data.items() if v is not None or f not in known or _nullable(type(item), f)}
        new = make_item(self._filled_by_own_type(cls, data))
        if known and new == item:
            return Update(id=item.id, values={f: getattr(item, f) for f in values}, origins=_some(item.origins, values))
        altered = [f for f in known if f not in ("id", "kind", "origins") and getattr(new, f) != getattr(item, f)]
        touched = {*altered, *full, *(set(item.origins) ^ set(new.origins))}
        self._about_to_change(item.id)
        self._unlink(item)
        self.items[item.id] = new
        self._link(new)
        old = {f: getattr(item, f) for f in known if f in touched}
        return Update(id=item.id, values=old, origins=_some(item.origins, old))

    def _completed(self, data: dict[str, Any]) -> dict[str, Any]:
        """Data of a new item with what follows from its bus and from a type of the network's own."""
        kind = data.get("kind")
        cls = REGISTRY.get(kind) if isinstance(kind, str) else None
        if cls is None:
            return data
        further = cls.situate(data, data, self.items.get)
        return self._filled_by_own_type(cls, {**further, **{f: v for f, v in data.items() if v is not None}})

    def _filled_by_own_type(self, cls: type[Item], data: dict[str, Any]) -> dict[str, Any]:
        name = data.get("type") if catalogue_family(cls) else None
        found = self.items.get(name) if isinstance(name, str) else None
        return filled(cls, data, found.values) if isinstance(found, OwnType) else data

    def consequences(self, idents: Iterable[str]) -> list[Change]:
        """Changes that follow from others: what uses an altered type of the network's own takes its new figures."""
        found: list[Change] = []
        for own in (self.items.get(i) for i in idents):
            if not isinstance(own, OwnType):
                continue
            for user in (self.items[r] for r in self.referrers(own.id)):
                stale = {f: None for f, o in user.origins.items() if o is Origin.CATALOGUE and f not in own.values}
                new = {f: v for f, v in own.values.items() if f in type(user).model_fields}
                new = {f: v for f, v in new.items() if getattr(user, f) != v and _may_follow(user, f)}
                if getattr(user, "type", None) == own.id and (new or stale):
                    found.append(
                        Update(id=user.id, values={**stale, **new}, origins=dict.fromkeys(new, Origin.CATALOGUE))
                    )
        return found

    def _put(self, item: Item, before: str | None) -> None:
        self._about_to_change(item.id)
        self._link(item)
        if before is None or before not in self.items:
            self.items[item.id] = item
            return
        ordered: dict[str, Item] = {}
        for ident, other in self.items.items():
            if ident == before:
                ordered[item.id] = item
            ordered[ident] = other
        self.items = ordered

    def _drop(self, item: Item) -> None:
        self._about_to_change(item.id)
        self._unlink(item)
        del self.items[item.id]

    def _link(self, item: Item) -> None:
        self._of_kind.pop(type(item), None)
        for field_name in reference_fields(type(item)):
            if target := getattr(item, field_name):
                self._referrers[target].add(item.id)

    def _unlink(self, item: Item) -> None:
        self._of_kind.pop(type(item), None)
        for target in item.references().values():
            self._referrers[target].discard(item.id)

    def _check_references(self, idents: Iterable[str]) -> None:
        for ident in idents:
            item = self.items.get(ident)
            if item is None:
                if left := self.referrers(ident):
                    raise StillReferenced(ident, left)
                continue
            for field_name, target in item.references().items():
                found, spec = self.items.get(target), specs(type(item))[field_name]
                if spec.catalogue:
                    known = find_type(spec.catalogue, target) or isinstance(found, OwnType)
                    if not known or (isinstance(found, OwnType) and found.family != spec.catalogue):
                        example = next(iter(types_of(spec.catalogue)))
                        allowed = (
                            f"choose a type of the catalogue, for example {example!r}, or one of the network's own"
                        )
                        raise InvalidFields([FieldProblem(ident, field_name, target, allowed)])
                    continue
                if found is None:
                    raise UnknownElement(target, wanted_by=f"{ident}, {field_name},")
                wanted = spec.ref
                if found.kind != wanted and not (wanted == "element" and isinstance(found, Element)):
                    raise InvalidFields([FieldProblem(ident, field_name, target, f"name an existing {wanted}")])


def _may_follow(user: Item, field_name: str) -> bool:
    """A figure entered over the type's stays; everything else follows the type."""
    return user.origins.get(field_name) is not None or getattr(user, field_name) is None


def dump_item(item: Item) -> dict[str, Any]:
    """Plain data of an item, blank fields and empty origins left out."""
    data = item.model_dump(mode="json", exclude_none=True)
    if not data["origins"]:
        del data["origins"]
    return data


def removal(network: Network, idents: Iterable[str]) -> list[Change]:
    """Changes that remove items together with all equipment connected to removed buses.

    Items that merely name a removed one (a bus its area, say) lose that reference instead. What refers to another goes
    before it, so that each change also fits by itself.
    """
    doomed: dict[str, None] = {}
    cleared: dict[str, dict[str, Any]] = {}
    queue = list(idents)
    while queue:
        ident = queue.pop()
        if ident in doomed:
            continue
        doomed[network[ident].id] = None
        for referrer in network.referrers(ident):
            other = network[referrer]
            fields = [f for f, target in other.references().items() if target == ident]
            if any(specs(type(other))[f].required for f in fields):
                queue.append(referrer)
            else:
                cleared.setdefault(referrer, {}).update(dict.fromkeys(fields))
    order: dict[str, None] = {}

    def after_its_referrers(ident: str) -> None:
        if ident in order:
            return
        for referrer in network.referrers(ident):
            if referrer in doomed:
                after_its_referrers(referrer)
        order[ident] = None

    for ident in doomed:
        after_its_referrers(ident)
    updates: list[Change] = [Update(id=i, values=v) for i, v in cleared.items() if i not in doomed]
    return updates + [Remove(id=i) for i in order]


def with_rules(network: Network) -> list[Change]:
    """Changes that add the settings, condition and voltage limits a network is still without."""
    changes: list[Change] = []
    conditions = network.of(Condition)
    if not conditions:
        changes.append(Add(item={"kind": "condition", "id": "normal", "name": "Normal"}))
    if not network.of(VoltageLimits):
        changes.append(Add(item={"kind": "voltage_limits", "id": "voltage-limits", "name": "Voltage limits"}))
    chosen = conditions[0].id if conditions else "normal"
    if SETTINGS_ID not in network:
        item = {"kind": "settings", "id": SETTINGS_ID, "name": "Network", "condition": chosen}
        changes.append(Add(item=item))
    elif network.settings.condition is None:
        changes.append(Update(id=SETTINGS_ID, values={"condition": chosen}))
    return changes


def _with_values(item: Element, values: dict[str, Any]) -> Element | None:
    """An element with other values of some fields; None when nothing differs or they do not fit.

    What connects it and what names it stays: a condition operates the network, it does not rebuild it.
    """
    known = specs(type(item))
    fit = {f: v for f, v in values.items() if f in known and not known[f].terminal and known[f].group not in _FIXED}
    fit = {f: v for f, v in fit.items() if getattr(item, f) != v}
    if not fit:
        return None
    try:
        made = make_item({**dump_item(item), **fit})
    except InvalidFields:
        return None
    assert isinstance(made, Element)
    return made


def _target(change: Change) -> str:
    return str(change.item["id"]) if isinstance(change, Add) else change.id


def _some(origins: dict[str, Origin], names: Iterable[str]) -> dict[str, Origin]:
    return {f: origins[f] for f in names if f in origins}


def _nullable(cls: type[Item], name: str) -> bool:
    spec = specs(cls).get(name)
    return spec is None or spec.nullable or (spec.required and spec.default is None)


def _next_key(items: dict[str, Item], ident: str) -> str | None:
    keys = iter(items)
    for key in keys:
        if key == ident:
            return next(keys, None)
    return None
