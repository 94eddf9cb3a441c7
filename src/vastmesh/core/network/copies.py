"""Copies: a clip of items, pasted with new names, connected where it was or at another bus."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

from ..errors import FieldProblem, InvalidFields
from .changes import Add, Change
from .elements.bus import Bus
from .fields import specs
from .items import REGISTRY, Element
from .names import Namer
from .network import Network, dump_item

MOST_PASTED = 50_000


@dataclass(frozen=True)
class Pasted:
    """Changes that add the copies; their ids, copy by copy; ids of what was left out because it leads elsewhere."""

    changes: list[Change]
    ids: list[list[str]]
    left_out: list[str] = field(default_factory=list)


def clip(network: Network, idents: Iterable[str]) -> list[dict[str, Any]]:
    """Plain data of items, with what refers to them alone (a switch's relay, say), in the network's order."""
    chosen = {i for i in idents if i in network}
    for ident in list(chosen):
        if isinstance(network[ident], Element):
            chosen |= {r for r in network.referrers(ident) if network[r].kind in ("current_transformer", "relay")}
    return [dump_item(i) for i in network.items.values() if i.id in chosen]


def paste(
    network: Network, items: list[dict[str, Any]], *, onto: str | None = None, times: int = 1,
    shifts: Sequence[tuple[float, float]] = (),
) -> Pasted:  # fmt: skip
    """Plan pasting a clip several times.

    References inside the clip follow the copies. A terminal that leads out of it goes ``onto`` that bus when it led
    to the clip's root (the first outside bus); without ``onto`` it stays where it was. What leads out elsewhere is
    left out with ``onto``. ``shifts``: by how much each copy stands further right and down than the clip.
    Raises :class:`InvalidFields` for a clip that holds nothing or no bus to connect to.
    """
    if not items or times < 1 or len(items) * times > MOST_PASTED:
        raise InvalidFields([FieldProblem("clip", "items", len(items) * times, f"paste 1 to {MOST_PASTED} items")])
    inside = {str(i["id"]) for i in items}
    root = root_of(items)
    target = network[onto] if onto is not None else None
    if target is not None and not isinstance(target, Bus):
        raise InvalidFields([FieldProblem(target.id, "onto", target.kind, "choose a bus to paste onto")])
    if target is None and root is not None and root not in network:
        raise InvalidFields(
            [FieldProblem("clip", "onto", root, "choose a bus to paste onto; the one it hung from is gone")]
        )
    left_out: set[str] = set()
    if target is not None:
        _check_voltage(network, items, root, target)
        left_out = _dangling(items, inside, root)
    kept = [i for i in items if i["id"] not in left_out]
    idents, names = Namer(network, "ids"), Namer(network, "names")
    changes, ids = list[Change](), list[list[str]]()
    for n in range(1, times + 1):
        new = {str(i["id"]): idents.next(str(i["id"])) for i in kept}
        if root is not None and target is not None:
            new[root] = target.id
        moved = shifts[n - 1] if n <= len(shifts) else (0.0, 0.0)
        copies = [_copy(i, new, moved, names) for i in kept]
        changes += [Add(item=c) for c in copies]
        ids.append([c["id"] for c in copies])
    return Pasted(changes, ids, sorted(left_out))


def root_of(items: list[dict[str, Any]]) -> str | None:
    """The first bus outside a clip that something in it is connected to."""
    inside = {str(i["id"]) for i in items}
    return next((b for i in items for b in _ends(i).values() if b not in inside), None)


def _ends(item: dict[str, Any]) -> dict[str, str]:
    cls = REGISTRY.get(str(item.get("kind")))
    if cls is None or not issubclass(cls, Element):
        return {}
    return {t: str(item[t]) for t in cls.terminals() if t in item}


def _dangling(items: list[dict[str, Any]], inside: set[str], root: str | None) -> set[str]:
    """Ids of what leads out of the clip elsewhere than at its root, and of what refers to that."""
    out = {str(i["id"]) for i in items if any(b not in inside and b != root for b in _ends(i).values())}
    return out | {str(i["id"]) for i in items if i.get("at") in out or i.get("trips") in out}


def _check_voltage(network: Network, items: list[dict[str, Any]], root: str | None, target: Bus) -> None:
    at_root = network.items.get(root or "")
    if not isinstance(at_root, Bus) or not at_root.nominal_kv or not target.nominal_kv:
        return
    if abs(at_root.nominal_kv - target.nominal_kv) > 1e-3 * target.nominal_kv:
        allowed = f"what was copied hangs from {at_root.nominal_kv:g} kV; choose a bus of that voltage"
        raise InvalidFields([FieldProblem(target.id, "onto", target.nominal_kv, allowed)])


def _copy(item: dict[str, Any], new: dict[str, str], moved: tuple[float, float], names: Namer) -> dict[str, Any]:
    cls = REGISTRY[str(item["kind"])]
    ident = new[str(item["id"])]
    name = names.next(str(item.get("name") or item["id"]))
    copy = {**item, "id": ident, "name": name}
    for f, spec in specs(cls).items():
        if spec.ref and copy.get(f) in new:
            copy[f] = new[str(copy[f])]
    for axis, by in (("x", moved[0]), ("y", moved[1])):
        if isinstance(copy.get(axis), int | float) and item["kind"] == "bus":
            copy[axis] = copy[axis] + by
    return {f: v for f, v in copy.items() if f not in ("asset_number", "attachments")}
